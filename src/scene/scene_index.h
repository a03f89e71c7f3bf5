/* scene_index.h - what the index's files share: its arrays and its boxes.
 */
#ifndef IKVI_SCENE_INDEX_H
#define IKVI_SCENE_INDEX_H

#include "scene_internal.h"

enum {
    SIDE = 32767,       /* the greatest coordinate */
    SCAN_LIMIT = 160,   /* targets up to which a scan is never worse */
    QUIET_QUERIES = 24, /* queries after which a grid is worth building */
    MOST_REGRET = 100,  /* queries after which a scan is worth going back to */
    /* Moves of all are so much dearer in a grid, in queries by scan. */
    NEAR_MOVES = 160,
    FAR_MOVES = 640,
    REORDERING =
        60, /* and so much dearer is a new order for a scan, at least */
    CACHED_TARGETS = 32768, /* more lie in farther memory */
    SAMPLE = 256,
    CELLS_THAT_PAY = 32, /* walking a list costs 20 times a scan's share */
    MOST_CELLS = 3,      /* that a target covers in a direction */
    LANES = 8,           /* boxes that a scan compares at once */
    FRAME_AGE = 16       /* refreshes that a frame serves */
};

/* How much larger a scan's boxes are, in mean sides of a target. */
#define SLACK 0.25f

/* A scan's boxes, eight at a time: each side's numbers lie together, so that
 * one vector comparison tests eight of them. As large as eight packed boxes. */
typedef struct box_block {
    int16_t sides[4][LANES]; /* left, top, right, bottom */
} box_block;

#define GUARDS    UINT64_C(0x8000800080008000)
#define NEVER_BOX UINT64_C(0x7fff7fff7fff7fff) /* right of and above all */

/* Arrays, by the places of targets where nothing else is said. */
static inline uint64_t *packed_at(const ikv_scene *s, uint32_t place)
{
    IKVI_CHECK(place < s->capacity);
    return (uint64_t *)ikvi_at(s, s->s.index.boxes) + place;
}

static inline box_block *block_of(const ikv_scene *s, uint32_t rank)
{
    IKVI_CHECK(rank / LANES <= s->capacity / LANES); /* whole blocks */
    return (box_block *)ikvi_at(s, s->s.index.boxes) + rank / LANES;
}

static inline index_home *home_at(const ikv_scene *s, uint32_t place)
{
    IKVI_CHECK(place < s->capacity);
    return (index_home *)ikvi_at(s, s->s.index.homes) + place;
}

/* Of a cell's list. */
static inline index_entry *entry_at(const ikv_scene *s, uint32_t at)
{
    IKVI_CHECK(at < s->s.index.entry_room);
    return (index_entry *)ikvi_at(s, s->s.index.entries) + at;
}

/* Of a cell, by head_index(). */
static inline uint32_t *head_at(const ikv_scene *s, uint32_t cell)
{
    IKVI_CHECK(cell < s->s.index.head_room);
    return (uint32_t *)ikvi_at(s, s->s.index.heads) + cell;
}

static inline uint32_t *dirty_at(const ikv_scene *s, uint32_t nth)
{
    IKVI_CHECK(nth < s->s.index.dirty_room);
    return (uint32_t *)ikvi_at(s, s->s.index.dirty) + nth;
}

/* In a scan a home is not needed: it holds the target's place in `order`. */
static inline void set_rank(ikv_scene *s, uint32_t place, uint32_t rank)
{
    memcpy(home_at(s, place), &rank, sizeof rank);
}

static inline uint32_t rank_of(const ikv_scene *s, uint32_t place)
{
    uint32_t rank;
    memcpy(&rank, home_at(s, place), sizeof rank);
    return rank;
}

static inline uint32_t power_below(uint32_t value)
{
    uint32_t power = 1;
    while (power <= value / 2)
        power *= 2;
    return power;
}

/* ---------------------------------------------------------------- boxes -- */

/* Four 15-bit numbers, each below a free bit: left, top, and the distances of
 * right and bottom from the far sides. A box meets another exactly if
 * wanted_box(other) - packed_box(it) keeps all four free bits. */
static inline uint64_t packed_box(const uint16_t q[4])
{
    return (uint64_t)q[0] | (uint64_t)q[1] << 16 |
           (uint64_t)(SIDE - q[2]) << 32 | (uint64_t)(SIDE - q[3]) << 48;
}

static inline uint64_t wanted_box(const uint16_t q[4])
{
    return ((uint64_t)q[2] | (uint64_t)q[3] << 16 |
            (uint64_t)(SIDE - q[0]) << 32 | (uint64_t)(SIDE - q[1]) << 48) |
           GUARDS;
}

static inline bool meets(uint64_t wanted, uint64_t box)
{
    return ((wanted - box) & GUARDS) == GUARDS;
}

/* Rounds towards minus infinity and never falls as `at` rises; what is outside
 * the frame comes to lie on its edge. */
#if defined(__GNUC__)
typedef float four __attribute__((vector_size(16)));
typedef int32_t four_whole __attribute__((vector_size(16)));

IKVI_INLINE void quantised_box(const index_frame *f, const float box[4],
                               uint16_t q[4])
{
    four at, from, per, zero = {0, 0, 0, 0}, side = {SIDE, SIDE, SIDE, SIDE};
    memcpy(&at, box, sizeof at);
    memcpy(&from, f->from, sizeof from);
    memcpy(&per, f->per, sizeof per);
    at = (at - from) * per;
    four_whole above = at > zero, below = at < side;
    four_whole bits = (four_whole)at & above & below;
    at = (four)(bits | ((four_whole)side & ~below & above));
    four_whole whole = __builtin_convertvector(at, four_whole);
    for (int k = 0; k < 4; k++)
        q[k] = (uint16_t)whole[k];
}
#else
IKVI_INLINE void quantised_box(const index_frame *f, const float box[4],
                               uint16_t q[4])
{
    for (int k = 0; k < 4; k++) {
        float t = (box[k] - f->from[k]) * f->per[k];
        t = t > 0 ? t : 0;
        t = t < (float)SIDE ? t : (float)SIDE;
        q[k] = (uint16_t)(int32_t)t;
    }
}
#endif

IKVI_INLINE void widen_box(float box[4], float by)
{
    box[0] -= by;
    box[1] -= by;
    box[2] += by;
    box[3] += by;
}

/* The same of any item, whatever its shape. */
bool ikvi_box_any(const ikv_scene *s, const scene_item *item, float slack,
                  uint16_t q[4]);

/* The item's box, widened by the slack; false if it can't be hit. */
IKVI_INLINE bool box_item(const ikv_scene *s, const scene_item *item,
                          float slack, uint16_t q[4])
{
    float box[4];
    if (!item_hittable(item) || !item_unturned_rect(item))
        return ikvi_box_any(s, item, slack, q);
    item_rect_box(item, box);
    widen_box(box, slack);
    quantised_box(&layer_at(s, item->layer)->frame, box, q);
    return true;
}

/* scene_boxes.c */
/* Each layer's frame, from a sample of its targets. */
void ikvi_index_make_frames(ikv_scene *s);

/* scene_grid.c */
/* Takes a target out of its cells. */
void ikvi_grid_leave(ikv_scene *s, uint32_t place);
/* Its box has changed; false if there is no room in the cells. */
bool ikvi_grid_update(ikv_scene *s, uint32_t place);
/* False if a scan is better: then boxes are to be made anew. */
bool ikvi_grid_build(ikv_scene *s);
void ikvi_grid_search(const ikv_scene *s, probe *p, const uint16_t q[4]);
const char *ikvi_grid_validate(const ikv_scene *s);

#endif
