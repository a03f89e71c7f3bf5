/* names.h - strings kept once each. */
#ifndef IKVI_NAMES_H
#define IKVI_NAMES_H

#include "memory.h"

/* Strings kept once each. An offset names a string; 0 is the empty one. */
typedef struct ikvi_names {
    uint32_t capacity, used, buckets;
    uint32_t free; /* the first hole, by address; 0: none */
    bool drops;    /* some may be taken out: they lie in larger steps */
    size_t bytes, heads;
} ikvi_names;

void ikvi_names_layout(ikvi_names *names, ikvi_layout *layout,
                       uint32_t capacity);
/* Gives the string's offset, 0 if the room is used up (or it is empty). */
uint32_t ikvi_names_keep(ikvi_names *names, void *base, const char *text);
/* Takes a string out that nobody names any more: its room is used again. */
void ikvi_names_drop(ikvi_names *names, void *base, uint32_t at);
/* The offset of one that is kept already, or 0. */
uint32_t ikvi_names_find(const ikvi_names *names, void *base, const char *text);

static inline const char *ikvi_names_text(const ikvi_names *names,
                                          const void *base, uint32_t offset)
{
    return (const char *)base + names->bytes + offset;
}

#endif
