/* scene_shared.h - what the scene offers to the overlaps and to images beyond
 * its header: its items as they lie there, and what has changed. */
#ifndef IKVI_SCENE_SHARED_H
#define IKVI_SCENE_SHARED_H

#include "../event/memory.h"
#include "../event/saved.h"

#include "ikvar/scene.h"

#define NO_ITEM UINT32_MAX

enum {
    ROOT_ITEM = 0,
    SHAPE_NUMBERS = 5
};

/* scene_item.flags; the lowest two bits are IKV_HIT_... */
enum {
    ITEM_HIT = 3,
    ITEM_HIDDEN = 4,
    ITEM_IN_HIDDEN = 8, /* an ancestor is hidden */
    ITEM_BODY = 16,
    ITEM_CLIPS = 32,
    ITEM_CLIPPED = 64, /* an ancestor clips */
    ITEM_DIRTY = 128   /* the index has not seen its last change */
};

/* (px, py) of the inner space is (x + c px - s py, y + s px + c py) outside;
 * c and s hold the scale too. */
typedef struct transform {
    float x, y, c, s;
} transform;

typedef struct scene_item {
    uint64_t key; /* greater is above: counts up in tree order */
    void *user;
    uint32_t target; /* bits; 0 when free */
    uint32_t parent, first_child, last_child, above, below;
    int32_t z;
    uint32_t tags;
    transform world; /* into the layer's space */
    float x, y, cos, sin, scale;
    union {
        float numbers[SHAPE_NUMBERS]; /* as in ikv_shape: x, y, then
                                         width, height | radius | x2, y2, r */
        uint32_t polygon;
    } shape;
    uint16_t grace; /* in sixteenths */
    int16_t tab;
    uint8_t type_traits; /* the shape's type, traits in the upper half */
    uint8_t flags;
    uint8_t layer;
    uint8_t level; /* the root's is 0 */
} scene_item;

static inline uint32_t item_shape(const scene_item *item)
{
    return item->type_traits & 15u;
}

/* Itself, or by an ancestor. */
static inline bool item_is_hidden(const scene_item *item)
{
    return (item->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN)) != 0;
}

static inline bool number_finite(float value)
{
    return value - value == 0;
}

static inline float number_size(float value)
{
#if defined(__GNUC__)
    return __builtin_fabsf(value);
#else
    return value < 0 ? -value : value;
#endif
}

/* The usual case: a rectangle, neither turned nor scaled. */
IKVI_INLINE bool item_unturned_rect(const scene_item *item)
{
    return item_shape(item) == IKV_SHAPE_RECT && item->world.c == 1 &&
           item->world.s == 0;
}

/* An item by its place. */
scene_item *ikvi_scene_item(const ikv_scene *scene, uint32_t place);
/* The place of the body that the target at a place is a piece of. */
uint32_t ikvi_scene_body(const ikv_scene *scene, uint32_t place);

/* All within radius of the convex hull of some points. */
typedef struct hull {
    float points[4 * IKV_POLYGON_LIMIT]; /* a polygon's, at two places */
    uint32_t count;
    float radius;
} hull;

/* The item's shape in the layer's space; false if it has none. */
bool ikvi_shape_hull(const ikv_scene *scene, const scene_item *item, hull *to);
bool ikvi_hulls_meet(const hull *a, const hull *b);
/* How far two that don't meet are apart. */
float ikvi_hulls_apart(const hull *a, const hull *b);

/* -------------------------------------------------------------- changes -- */

/* Which of a number of places have changed since the list was emptied, each
 * once, and whether anything but the position. The arrays lie at offsets from
 * the list itself. */
typedef struct ikvi_changes {
    size_t marks, places;
    uint32_t count;
    uint32_t reserved;
} ikvi_changes;

enum {
    IKVI_HAS_MOVED = 1,
    IKVI_HAS_CHANGED = 2
};

static inline void ikvi_changes_note(ikvi_changes *changes, uint32_t place,
                                     uint8_t how)
{
    uint8_t *mark = (uint8_t *)ikvi_at(changes, changes->marks) + place;
    if (*mark == 0)
        ((uint32_t *)ikvi_at(changes, changes->places))[changes->count++] =
            place;
    *mark |= how;
}

/* From now on the scene notes its changes in the list; NULL: no more. */
void ikvi_scene_note_changes(ikv_scene *scene, ikvi_changes *changes);
bool ikvi_scene_notes_changes(const ikv_scene *scene);

uint64_t ikvi_scene_saved(ikv_scene *scene, ikvi_saved *to);

/* What a router asks of a target, at one look. */
typedef struct ikvi_manner {
    uint32_t traits;
    bool passes, shown;
} ikvi_manner;
ikvi_manner ikvi_scene_manner(const ikv_scene *scene, ikv_target target);

#endif
