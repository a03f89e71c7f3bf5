/* slots.c - slots that are freed first in, first out. See slots.h. */
#include "slots.h"

void ikvi_slots_open(ikvi_slots *slots, uint32_t capacity, size_t offset,
                     void *base)
{
    *slots = (ikvi_slots){
        .capacity = capacity, .slots = offset, .floors = slots->floors};
    /* Room for capacity + 1 values, as the low bits of a handle are the slot +
     * 1. */
    while (slots->bits < 31 && (1u << slots->bits) <= capacity)
        slots->bits++;
    for (uint32_t i = 0; i < capacity; i++) {
        ikvi_slot *slot = ikvi_slots_at(slots, base, i);
        slot->next = i + 1 < capacity ? i + 1 : IKVI_NO_SLOT;
        slot->generation = 0;
    }
    slots->head = capacity > 0 ? 0 : IKVI_NO_SLOT;
    slots->tail = capacity > 0 ? capacity - 1 : IKVI_NO_SLOT;
}

static uint32_t next_generation(ikvi_slots *slots, uint32_t generation)
{
    bool last = generation == UINT32_MAX >> slots->bits;
    /* From then on a handle that is very old may name a new thing: it is
     * counted. */
    slots->wraps += last;
    return last ? 0 : generation + 1;
}

/* The place that has been free longest is taken, so that a stale handle meets
 * its own generation again as late as can be. A floor, which no image brings
 * back, keeps handles of an abandoned future apart. */
uint32_t ikvi_slots_take(ikvi_slots *slots, void *base)
{
    uint32_t index = slots->head;
    if (index == IKVI_NO_SLOT)
        return IKVI_NO_SLOT;
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    IKVI_CHECK(slot->next != IKVI_IN_USE); /* slots-1 */
    slots->head = slot->next;
    if (slots->head == IKVI_NO_SLOT)
        slots->tail = IKVI_NO_SLOT;
    slot->next = IKVI_IN_USE;
    /* Where there are floors, giving leaves the generation: it is set here. */
    if (slots->floors != 0) {
        uint32_t *floor = (uint32_t *)ikvi_at(base, slots->floors) + index;
        slot->generation = *floor;
        *floor = next_generation(slots, *floor);
    }
    if (++slots->used > slots->high)
        slots->high = slots->used;
    IKVI_CHECK(slots->used <= slots->capacity);
    return index;
}

void ikvi_slots_give(ikvi_slots *slots, void *base, uint32_t index)
{
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    IKVI_CHECK(index < slots->capacity && slots->used > 0);
    IKVI_CHECK(slot->next == IKVI_IN_USE);
    if (slots->floors == 0)
        slot->generation = next_generation(slots, slot->generation);
    slot->next = IKVI_NO_SLOT;
    /* To the end: the longer a place rests, the later its generations are used
     * up. */
    if (slots->tail != IKVI_NO_SLOT)
        ikvi_slots_at(slots, base, slots->tail)->next = index;
    else
        slots->head = index;
    slots->tail = index;
    slots->used--;
    IKVI_CHECK(slots->head != IKVI_NO_SLOT);
}

const char *ikvi_slots_validate(const ikvi_slots *slots, void *base)
{
    uint32_t free_count = 0, last = IKVI_NO_SLOT;
    for (uint32_t i = slots->head; i != IKVI_NO_SLOT;) {
        if (i >= slots->capacity || ++free_count > slots->capacity)
            return "slots-1";
        last = i;
        i = ikvi_slots_at(slots, base, i)->next;
    }
    if (last != slots->tail)
        return "slots-1";
    return free_count + slots->used == slots->capacity ? NULL : "slots-3";
}
