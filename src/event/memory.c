/* memory.c - laying blocks out and taking them. */
#include "memory.h"

static size_t rounded_to(size_t size, size_t alignment)
{
    return (size + alignment - 1) & ~(alignment - 1);
}

/* A cache line for what is large, or as large as one; what is small lies close
 * to what is before it: a tiny kit is mostly such. */
size_t ikvi_layout_add(ikvi_layout *layout, size_t count, size_t size)
{
    /* Half of the address space at most, so that rounding up can't overflow. */
    if (size != 0 &&
        count > (SIZE_MAX / 2 - layout->size - IKV_BLOCK_ALIGNMENT) / size) {
        layout->overflow = true;
        return 0;
    }
    bool small = count * size < 4 * IKV_BLOCK_ALIGNMENT &&
                 size % IKV_BLOCK_ALIGNMENT != 0;
    size_t offset = rounded_to(layout->size, small ? IKV_BLOCK_ALIGNMENT / 4
                                                   : IKV_BLOCK_ALIGNMENT);
    layout->size = offset + count * size;
    return offset;
}

size_t ikvi_layout_size(const ikvi_layout *layout)
{
    return layout->overflow ? 0 : rounded_to(layout->size, IKV_BLOCK_ALIGNMENT);
}

/* Cleared, so that zero is the state in which everything begins. A block that
 * is not aligned is given back, and is the caller's fault. */
ikv_status ikvi_memory_take(const ikv_memory *memory, size_t size, void **block)
{
    if (size == 0)
        return IKV_BAD_CONFIG;
    void *found = memory->block;
    /* A block that is given comes first; take() is then never asked. */
    if (found != NULL && memory->block_size < size)
        return IKV_NO_MEMORY;
    if (found == NULL && memory->take != NULL)
        found = memory->take(memory->user, size, IKV_BLOCK_ALIGNMENT);
    if (found == NULL)
        return IKV_NO_MEMORY;
    if ((uintptr_t)found % IKV_BLOCK_ALIGNMENT != 0) {
        if (memory->block == NULL && memory->give != NULL)
            memory->give(memory->user, found, size);
        return IKV_BAD_ARGUMENT;
    }
    memset(found, 0, size);
    *block = found;
    return IKV_OK;
}

void ikvi_memory_give(const ikv_memory *memory, void *block, size_t size)
{
    if (memory->block == NULL && memory->give != NULL)
        memory->give(memory->user, block, size);
}

uint32_t ikvi_power_of_two(uint32_t at_least)
{
    uint32_t power = 1;
    /* Stops at the largest one, rather than becoming 0. */
    while (power < at_least && power < 0x80000000u)
        power *= 2;
    return power;
}

ikv_status ikvi_give_sized(void *to, const void *from, uint32_t bytes)
{
    uint32_t size;
    if (to == NULL)
        return IKV_BAD_ARGUMENT;
    /* By its bytes: `to` may be of a version whose type is not this one. */
    memcpy(&size, to, sizeof size);
    if (size < bytes) /* the first version's */
        return IKV_BAD_SIZE;
    memcpy(to, from, bytes);
    memcpy(to, &size, sizeof size);
    return IKV_OK;
}
