/* names.c - strings kept once each, in buckets. */
#include "names.h"

#include "hash.h"
#include "text.h"

/* Each string lies in a block behind the offset of the next one in its bucket.
 * Where strings are taken out a block is a multiple of 8 bytes long, and holes
 * hold their length and the next hole's place, in the order of places. The first
 * byte of all is the empty string's. */
typedef struct names_hole {
    uint32_t next, size;
} names_hole;

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
    IKVI_CHECK((names->buckets & (names->buckets - 1)) == 0);
    return &heads[ikvi_hash_text(IKVI_HASH_BEGIN, text) & (names->buckets - 1)];
}

uint32_t ikvi_names_find(const ikvi_names *names, void *base, const char *text)
{
    const char *bytes = ikvi_at(base, names->bytes);
    for (uint32_t at = *name_head(names, base, text); at != 0;) {
        IKVI_CHECK(at < names->used);
        if (ikvi_same(bytes + at, text))
            return at;
        /* Offsets lie at any byte, between the texts. */
        memcpy(&at, bytes + at - sizeof at, sizeof at);
    }
    return 0;
}

static uint32_t block_size(const ikvi_names *names, const char *text)
{
    uint32_t size =
        (uint32_t)ikvi_text_length(text) + 1 + (uint32_t)sizeof(uint32_t);
    return names->drops ? (size + 7) / 8 * 8 : size;
}

static names_hole hole_at(const ikvi_names *names, void *base, uint32_t at)
{
    names_hole hole;
    memcpy(&hole, (char *)ikvi_at(base, names->bytes) + at, sizeof hole);
    return hole;
}

static void set_hole(const ikvi_names *names, void *base, uint32_t at,
                     names_hole hole)
{
    memcpy((char *)ikvi_at(base, names->bytes) + at, &hole, sizeof hole);
}

/* Makes a hole the next one after `before`, or the first one. */
static void link_hole(ikvi_names *names, void *base, uint32_t before,
                      uint32_t at)
{
    if (before == 0) {
        names->free = at;
        return;
    }
    names_hole hole = hole_at(names, base, before);
    hole.next = at;
    set_hole(names, base, before, hole);
}

/* The place of a block: the first hole that is large enough, or new room; 0 if
 * there is neither. */
static uint32_t take_block(ikvi_names *names, void *base, uint32_t size)
{
    uint32_t before = 0;
    for (uint32_t at = names->free; at != 0;) {
        names_hole hole = hole_at(names, base, at);
        IKVI_CHECK(hole.size > 0 && (hole.next == 0 || hole.next > at));
        if (hole.size >= size) {
            uint32_t rest = hole.next;
            if (hole.size > size) {
                rest = at + size;
                hole.size -= size;
                set_hole(names, base, rest, hole);
            }
            link_hole(names, base, before, rest);
            return at;
        }
        before = at;
        at = hole.next;
    }
    if (size > names->capacity - names->used)
        return 0;
    names->used += size;
    return names->used - size;
}

uint32_t ikvi_names_keep(ikvi_names *names, void *base, const char *text)
{
    if (text == NULL || text[0] == '\0')
        return 0;
    uint32_t known = ikvi_names_find(names, base, text);
    if (known != 0)
        return known;
    size_t length = ikvi_text_length(text) + 1;
    if (length > names->capacity)
        return 0;
    uint32_t block = take_block(names, base, block_size(names, text));
    if (block == 0)
        return 0;
    uint32_t *head = name_head(names, base, text);
    char *bytes = ikvi_at(base, names->bytes);
    uint32_t at = block + (uint32_t)sizeof *head;
    memcpy(bytes + block, head, sizeof *head);
    memcpy(bytes + at, text, length);
    IKVI_CHECK(names->used <= names->capacity);
    *head = at;
    return at;
}

static void unlink_name(ikvi_names *names, void *base, uint32_t at)
{
    char *bytes = ikvi_at(base, names->bytes);
    uint32_t *head = name_head(names, base, bytes + at), next;
    memcpy(&next, bytes + at - sizeof next, sizeof next);
    if (*head == at) {
        *head = next;
        return;
    }
    uint32_t before = *head, link = 0;
    for (; before != 0; before = link) {
        memcpy(&link, bytes + before - sizeof link, sizeof link);
        if (link == at)
            break;
    }
    IKVI_CHECK(before != 0);
    memcpy(bytes + before - sizeof next, &next, sizeof next);
}

/* Holes that touch become one, and what lies free at the end is new room. */
void ikvi_names_drop(ikvi_names *names, void *base, uint32_t at)
{
    IKVI_CHECK(names->drops);
    if (at == 0)
        return;
    uint32_t before = 0, block = at - (uint32_t)sizeof(uint32_t);
    names_hole hole = {
        names->free,
        block_size(names, (char *)ikvi_at(base, names->bytes) + at)};
    unlink_name(names, base, at);
    while (hole.next != 0 && hole.next < block) {
        before = hole.next;
        hole.next = hole_at(names, base, before).next;
    }
    if (hole.next == block + hole.size) {
        names_hole after = hole_at(names, base, hole.next);
        hole.size += after.size;
        hole.next = after.next;
    }
    if (before != 0 && before + hole_at(names, base, before).size == block) {
        hole.size += hole_at(names, base, before).size;
        block = before;
    } else {
        link_hole(names, base, before, block);
    }
    set_hole(names, base, block, hole);
    if (block + hole.size < names->used)
        return;
    /* The last one: it is none any more, and whoever named it ends the list. */
    names->used = block;
    for (before = 0, at = names->free; at != block;
         at = hole_at(names, base, at).next)
        before = at;
    link_hole(names, base, before, 0);
}
