/* slots.h - tables of slots, and handles that name them. */
#ifndef IKVI_SLOTS_H
#define IKVI_SLOTS_H

#include "memory.h"

/* A table of slots that are freed first in, first out, each with a generation.
 * A handle is slot + 1 in the low bits, generation in the rest; so zero bits
 * name nothing, and the generations get all the bits that are left.
 *
 * slots-1  free slots form one list from `head` to `tail` by `next`
 * slots-2  slots that are in use have next == IKVI_IN_USE
 * slots-3  used + free slots == capacity
 */
typedef struct ikvi_slot {
    uint32_t next;
    uint32_t generation;
} ikvi_slot;

typedef struct ikvi_slots {
    uint32_t capacity, bits, head, tail, used, high, wraps;
    uint32_t reserved;
    size_t slots;
    size_t floors; /* 0, or a generation for each slot: what it gets next. They
                      lie outside of images, so that none comes twice */
} ikvi_slots;

#define IKVI_NO_SLOT UINT32_MAX
#define IKVI_IN_USE  (UINT32_MAX - 1)

void ikvi_slots_open(ikvi_slots *slots, uint32_t capacity, size_t offset,
                     void *base);
/* A free slot's index, IKVI_NO_SLOT if there is none. */
uint32_t ikvi_slots_take(ikvi_slots *slots, void *base);
void ikvi_slots_give(ikvi_slots *slots, void *base, uint32_t index);
const char *ikvi_slots_validate(const ikvi_slots *slots, void *base);

static inline ikvi_slot *ikvi_slots_at(const ikvi_slots *slots,
                                       const void *base, uint32_t index)
{
    IKVI_CHECK(index < slots->capacity);
    return (ikvi_slot *)ikvi_at(base, slots->slots) + index;
}

static inline uint32_t ikvi_slots_bits(const ikvi_slots *slots,
                                       const void *base, uint32_t index)
{
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    return slot->generation << slots->bits | (index + 1);
}

/* The slot that a handle names, IKVI_NO_SLOT if it is stale. */
static inline uint32_t ikvi_slots_find(const ikvi_slots *slots,
                                       const void *base, uint32_t bits)
{
    uint32_t index = (bits & ((1u << slots->bits) - 1)) - 1;
    if (index >= slots->capacity)
        return IKVI_NO_SLOT;
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    if (slot->next != IKVI_IN_USE || slot->generation != bits >> slots->bits)
        return IKVI_NO_SLOT;
    return index;
}

#endif
