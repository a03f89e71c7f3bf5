/* names.c - strings kept once each, in buckets. */
#include "names.h"

#include "hash.h"
#include "text.h"

/* Each string is preceded by the offset of the next one in its bucket. The
 * first byte of all is the empty string's. */
void ikvi_names_layout(ikvi_names *names, ikvi_layout *layout,
                       uint32_t capacity)
{
    *names = (ikvi_names){.capacity = capacity, .used = 1};
    /* About one bucket for each name of 32 bytes. */
    names->buckets = ikvi_power_of_two(capacity / 32 + 1);
    names->bytes = ikvi_layout_add(layout, capacity, 1);
    names->heads = ikvi_layout_add(layout, names->buckets, sizeof(uint32_t));
}

/* Where the chain of names with that hash begins: 0 if there is none. */
static uint32_t *name_head(const ikvi_names *names, void *base,
                           const char *text)
{
    uint32_t *heads = ikvi_at(base, names->heads);
    return &heads[ikvi_hash_text(IKVI_HASH_BEGIN, text) & (names->buckets - 1)];
}

uint32_t ikvi_names_find(const ikvi_names *names, void *base, const char *text)
{
    const char *bytes = ikvi_at(base, names->bytes);
    for (uint32_t at = *name_head(names, base, text); at != 0;) {
        if (ikvi_same(bytes + at, text))
            return at;
        /* Offsets lie at any byte, between the texts. */
        memcpy(&at, bytes + at - sizeof at, sizeof at);
    }
    return 0;
}

uint32_t ikvi_names_keep(ikvi_names *names, void *base, const char *text)
{
    if (text == NULL || text[0] == '\0')
        return 0;
    uint32_t known = ikvi_names_find(names, base, text);
    if (known != 0)
        return known;
    uint32_t *head = name_head(names, base, text);
    char *bytes = ikvi_at(base, names->bytes);
    /* Nothing is ever taken out: what a handle or a trace names stays
     * readable. */
    size_t length = ikvi_text_length(text) + 1;
    if (length + sizeof *head > names->capacity - names->used)
        return 0;
    uint32_t at = names->used + (uint32_t)sizeof *head;
    memcpy(bytes + at - sizeof *head, head, sizeof *head);
    memcpy(bytes + at, text, length);
    names->used = at + (uint32_t)length;
    IKVI_CHECK(names->used <= names->capacity);
    *head = at;
    return at;
}
