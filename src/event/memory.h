/* memory.h - one block a module: laying it out, taking it. */
#ifndef IKVI_MEMORY_H
#define IKVI_MEMORY_H

#include "platform.h"

/* Lays parts out in one block. The same function that adds the parts serves
 * the footprint and the opening, so they can't disagree. */
typedef struct ikvi_layout {
    size_t size;
    bool overflow;
} ikvi_layout;

static inline ikvi_layout ikvi_layout_begin(void)
{
    return (ikvi_layout){0, false};
}

/* Adds count parts of that size, aligned to IKV_BLOCK_ALIGNMENT; gives the
 * offset from the block's start. */
size_t ikvi_layout_add(ikvi_layout *layout, size_t count, size_t size);

/* The whole size, a multiple of the alignment; 0 after an overflow. */
size_t ikvi_layout_size(const ikvi_layout *layout);

/* Takes a block of that size, zeroed. */
ikv_status ikvi_memory_take(const ikv_memory *memory, size_t size,
                            void **block);
void ikvi_memory_give(const ikv_memory *memory, void *block, size_t size);

/* What lies there in a block. A module's functions that only look get their
 * block as const, and the way to its arrays is the same. */
static inline void *ikvi_at(const void *block, size_t offset)
{
    return (char *)(uintptr_t)block + offset;
}

static inline uint32_t ikvi_or(uint32_t value, uint32_t fallback)
{
    return value != 0 ? value : fallback;
}

uint32_t ikvi_power_of_two(uint32_t at_least);

static inline size_t ikvi_round_up(size_t size, size_t to)
{
    return (size + to - 1) / to * to;
}

/* Fills in what a caller has given with its size: `from`, which begins with a
 * size too. What a later version has behind it stays zero, as its INIT made it.
 * BAD_ARGUMENT for NULL, BAD_SIZE for a smaller one. */
ikv_status ikvi_give_sized(void *to, const void *from, uint32_t bytes);

/* Use it or lose it: debug builds overwrite what is over. */
static inline void ikvi_poison(void *what, size_t size)
{
#ifdef IKV_DEBUG
    memset(what, 0xdd, size);
#else
    (void)what, (void)size;
#endif
}

#endif
