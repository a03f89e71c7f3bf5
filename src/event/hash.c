/* hash.c - see hash.h. */
#include "hash.h"

#include "text.h"

uint64_t ikvi_hash(uint64_t hash, const void *bytes, size_t count)
{
    const uint8_t *at = bytes;
    for (size_t i = 0; i < count; i++)
        hash = (hash ^ at[i]) * UINT64_C(0x100000001b3);
    return hash;
}

uint64_t ikvi_hash_text(uint64_t hash, const char *text)
{
    return ikvi_hash(hash, text, ikvi_text_length(text) + 1);
}
