/* scene_internal.h - the scene's inside: the tree, shapes, what queries take,
 * the index of candidates, spaces.
 *
 * Files, lowest first: scene_tree.c, scene_shape.c, scene_probe.c,
 * scene_order.c, scene_boxes.c, scene_grid.c, scene_index.c, scene_siblings.c,
 * scene_place.c, scene_focus.c, scene_pick.c, scene_find.c, scene.c.
 */
#ifndef IKVI_SCENE_INTERNAL_H
#define IKVI_SCENE_INTERNAL_H

#include "../bus/bus_shared.h"
#include "../event/memory.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/text.h"
#include "../event/values.h"
#include "scene_shared.h"

#include "ikvar/scene.h"

enum {
    WATCHERS = 8,
    LAYER_LIMIT = 32,
    VIEW_LIMIT = 16,
    GRID_LEVELS = 4
};

typedef struct scene_polygon {
    uint32_t count; /* 0: free */
    uint32_t next_free;
    float points[2 * IKV_POLYGON_LIMIT];
} scene_polygon;

typedef struct scene_camera {
    ikv_camera set;
    transform place; /* of the layer's turned and zoomed space in the view */
    float back_c, back_s; /* place.c and .s over the square of the zoom */
    float zoom;
} scene_camera;

/* Maps a box of a layer's space to the index's 15-bit coordinates. */
typedef struct index_frame {
    float from[4], per[4]; /* left, top, right, bottom */
    float slack;           /* how much larger a scan's boxes are */
} index_frame;

typedef struct index_layer {
    uint32_t start, end; /* in `order` */
    index_frame frame;
} index_layer;

/* Which cells a target is registered in. */
typedef struct index_home {
    uint16_t x, y;
    uint8_t more_x, more_y; /* cells beyond the first */
    uint8_t level;
    uint8_t in;
} index_home;

typedef struct index_entry {
    uint32_t place, next;
} index_entry;

typedef struct scene_index {
    size_t layers, boxes, homes, entries, heads, order, dirty;
    uint32_t entry_room, head_room, dirty_room;
    uint32_t free_entry;
    uint32_t dirty_count, unlisted; /* that did not fit into the list */
    bool absent;                    /* config.plain */
    bool gridded;
    bool crowded;   /* a grid was tried, and does not pay */
    bool reordered; /* `order` is out of date */
    bool shuffled;  /* it has come to be so since the last refresh */
    bool all_dirty;
    bool settled;     /* nothing is to be done before the next query */
    uint32_t asked;   /* queries since the last refresh */
    uint32_t drifts;  /* moves that are in no list, likewise */
    float regret;     /* queries that the other of scan and grid would spare */
    uint32_t aged;    /* refreshes since the frames were made */
    uint32_t updates; /* of cells or of a scan's boxes, since all were made */
    uint32_t built_for;
    uint32_t heads_at[GRID_LEVELS + 1], level_count[GRID_LEVELS];
    uint8_t shift_x[GRID_LEVELS], shift_y[GRID_LEVELS];
} scene_index;

/* Half of a parent's children, from the lowest up, as they lay when that was last
 * looked at: they lie in `order` while it is out of date. */
typedef struct scene_hints {
    uint32_t parent, count; /* 0: there are none */
    uint32_t sought;        /* steps to places among siblings since then */
} scene_hints;

typedef struct sibling_hint {
    int32_t z;
    uint32_t layer : 8, place : 24;
} sibling_hint;

struct ikv_scene {
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikv_bus *bus;
    ikv_reporter reporter;
    ikvi_changes *changes; /* for the overlaps, or NULL */
    bool announces;
    ikv_own_test own_test;
    void *own_user;
    struct {
        ikv_removal_watcher watcher;
        void *user;
    } watchers[WATCHERS];
    uint32_t watcher_count;
    uint32_t capacity;
    uint32_t layers, views, polygon_room;
    size_t items, polygons, cameras; /* where the arrays begin */
    /* What an image holds of it, with the arrays behind. */
    struct {
        uint32_t free_polygon;
        uint64_t revision;
        uint32_t count;
        ikv_scene_counts counters;
        scene_hints hints;
        scene_index index;
    } s;
};

static inline scene_item *item_at(const ikv_scene *scene, uint32_t place)
{
    IKVI_CHECK(place < scene->capacity);
    return (scene_item *)ikvi_at(scene, scene->items) + place;
}

static inline scene_polygon *polygon_at(const ikv_scene *scene, uint32_t index)
{
    IKVI_CHECK(index < scene->polygon_room);
    return (scene_polygon *)ikvi_at(scene, scene->polygons) + index;
}

static inline index_layer *layer_at(const ikv_scene *scene, uint32_t layer)
{
    IKVI_CHECK(layer < scene->layers);
    return (index_layer *)ikvi_at(scene, scene->s.index.layers) + layer;
}

static inline scene_camera *camera_at(const ikv_scene *scene, uint32_t layer,
                                      uint32_t view)
{
    IKVI_CHECK(layer * scene->views + view < scene->layers * scene->views);
    return (scene_camera *)ikvi_at(scene, scene->cameras) +
           layer * scene->views + view;
}

/* Places by rank, from the topmost down. */
static inline uint32_t *order_at(const ikv_scene *s, uint32_t rank)
{
    IKVI_CHECK(rank < s->capacity);
    return (uint32_t *)ikvi_at(s, s->s.index.order) + rank;
}

/* A point of the view in a layer; false if the view does not show it, or if
 * either is not there. */
static inline bool ikvi_camera_to_layer(const ikv_scene *scene, uint32_t layer,
                                        uint32_t view, float x, float y,
                                        float out[2])
{
    if (layer >= scene->layers || view >= scene->views)
        return false;
    const scene_camera *camera = camera_at(scene, layer, view);
    float dx = x - camera->place.x, dy = y - camera->place.y;
    float up = dy * camera->back_c - dx * camera->back_s;
    out[0] = camera->set.x + (dx * camera->back_c + dy * camera->back_s);
    out[1] = camera->set.y + (camera->set.flip_y ? -up : up);
    return !camera->set.hidden;
}

/* What a target's own traits are where they lie, in the upper half of a byte:
 * the greatest has the place of IKV_PASSES, which is no trait of its own. */
static inline uint8_t packed_traits(uint32_t traits)
{
    return (uint8_t)((traits & 7u) << 4 |
                     ((traits & IKV_STAYS_LIVE) != 0 ? 0x80u : 0u));
}

static inline uint32_t item_traits(const scene_item *item)
{
    return (item->type_traits >> 4 & 7u) |
           ((item->type_traits & 0x80u) != 0 ? IKV_STAYS_LIVE : 0u);
}

/* HIT5: exact up to here; what is not a number is not. */
static inline bool coordinate_fits(float value)
{
    return value >= -IKV_COORDINATE_LIMIT && value <= IKV_COORDINATE_LIMIT;
}

/* Scales from one to the other keep all that is squared within a float. */
#define SCALE_LEAST 0x1p-30f
#define SCALE_MOST  0x1p30f

static inline bool item_is_off(const scene_item *item)
{
    return (item->flags & ITEM_HIT) == IKV_HIT_OFF;
}

/* Whether queries can find it at all. */
static inline bool item_hittable(const scene_item *item)
{
    return !item_is_off(item) && !item_is_hidden(item) &&
           item_shape(item) != IKV_SHAPE_NONE;
}

/* Its box, with what rounding may add. What overflows to infinity is hit
 * nowhere, and its box may be anything. */
IKVI_INLINE void item_rect_box(const scene_item *item, float box[4])
{
    const float *n = item->shape.numbers;
    const transform *t = &item->world;
    float x = t->x + n[0], y = t->y + n[1];
    float margin =
        1e-6f * (number_size(t->x) + number_size(t->y) + number_size(n[0]) +
                 number_size(n[1]) + n[2] + n[3]) +
        (float)item->grace * 0.0626f;
    box[0] = x - margin;
    box[1] = y - margin;
    box[2] = x + n[2] + margin;
    box[3] = y + n[3] + margin;
}

/* The item after this one in a walk over `top`'s subtree that meets parents
 * before children, the lowest sibling first; NO_ITEM at its end. */
uint32_t ikvi_scene_walk(const ikv_scene *scene, uint32_t top, uint32_t place);
/* The same past all that is beneath this one. */
uint32_t ikvi_scene_walk_past(const ikv_scene *scene, uint32_t top,
                              uint32_t place);
/* The place of one of this scene's targets or the root; NO_ITEM if stale. */
static inline uint32_t ikvi_scene_find(const ikv_scene *scene,
                                       ikv_target target)
{
    if (scene == NULL || target.bits == 0)
        return NO_ITEM;
    uint32_t place = ikv_bus_target_place(scene->bus, target);
    return place != UINT32_MAX && item_at(scene, place)->target == target.bits
               ? place
               : NO_ITEM;
}

/* scene_place.c */
void ikvi_camera_reset(scene_camera *camera);
void ikvi_scene_place(ikv_scene *scene, uint32_t top);
/* The same where nothing but the top's x and y have changed. */
void ikvi_scene_shift(ikv_scene *scene, uint32_t top);
const char *ikvi_placement_fault(float x, float y, ikv_rotation rotation,
                                 float scale);
void ikvi_item_rotate(scene_item *item, ikv_rotation rotation);
/* A point of a layer's space in a view; both are there. */
void ikvi_layer_to_view(const ikv_scene *scene, uint32_t layer, uint32_t view,
                        const float point[2], float out[2]);

/* scene_shape.c */

/* Stores a faultless shape; false if there is no room for a polygon. */
bool ikvi_shape_store(ikv_scene *scene, scene_item *item,
                      const ikv_shape *shape);
void ikvi_shape_drop(ikv_scene *scene, scene_item *item);
/* Whether the item's shape holds a disc of the layer's space. */
bool ikvi_shape_holds(const ikv_scene *scene, const scene_item *item, float x,
                      float y, float radius, bool touch);
/* How far around itself touches hit it, in the layer's space. */
float ikvi_shape_grace(const scene_item *item);
/* How far the shape is from a point outside it, in the layer's space; below 0 if
 * that can't be said. */
float ikvi_shape_distance(const ikv_scene *scene, const scene_item *item,
                          float x, float y);
/* The box around all that it can hold, left, top, right, bottom; false if that
 * is nothing. */
bool ikvi_shape_box(const ikv_scene *scene, const scene_item *item,
                    float box[4]);
/* A shape that is no target's, at a place of a layer; false if it is faulty. */
bool ikvi_area_hull(const ikv_shape *shape, const transform *place, hull *to);
/* How far along a line of two points, which meets the other, it comes upon it: 0
 * to 1. */
float ikvi_hull_entry(const hull *line, const hull *of);

/* scene_index.c */
void ikvi_index_layout(ikv_scene *scene, ikvi_layout *layout, bool plain);
void ikvi_index_open(ikv_scene *scene);
void ikvi_index_changed(ikv_scene *scene, uint32_t place);
/* The same where nothing but its position has changed. */
void ikvi_index_moved(ikv_scene *scene, uint32_t place);
void ikvi_index_removed(ikv_scene *scene, uint32_t place);
void ikvi_index_reordered(ikv_scene *scene);
/* Before a subtree gets other keys. */
void ikvi_index_rekeys(ikv_scene *scene, uint32_t top);
const char *ikvi_index_validate(const ikv_scene *scene);

/* A query in one layer's space, and what it has found. With `best_only` that is
 * the item with the greatest key below `limit`; else a heap of the `room`
 * greatest, the least of them first. */
typedef struct probe {
    const ikv_scene *scene;
    const ikv_query *query;
    const hull *area; /* or NULL: a point or disc */
    uint32_t layer, skip_body;
    float x, y, radius;
    float box[4];
    bool best_only;
    uint64_t limit;
    uint32_t best; /* place, or NO_ITEM */
    ikv_target *heap;
    ikv_crossing *crossings; /* of a line, which `area` is then; the furthest
                                first */
    uint32_t room, filled, total;
    uint32_t tested; /* since that was counted */
} probe;

/* Field by field: what a layer's aim sets needs no zeros first. */
IKVI_INLINE void ikvi_probe_begin(probe *p, const ikv_scene *scene,
                                  const ikv_query *query)
{
    p->scene = scene;
    p->query = query;
    p->area = NULL;
    p->skip_body = NO_ITEM;
    p->best_only = false;
    p->limit = UINT64_MAX;
    p->best = NO_ITEM;
    p->heap = NULL;
    p->crossings = NULL;
    p->room = p->filled = p->total = p->tested = 0;
    if (query->skip_body.bits == 0)
        return;
    /* One that is stale skips nobody. */
    uint32_t skip = ikvi_scene_find(scene, query->skip_body);
    if (skip != NO_ITEM)
        p->skip_body = ikvi_scene_body(scene, skip);
}

void ikvi_index_search(ikv_scene *scene, probe *p);

/* scene_order.c */
void ikvi_order_layout(ikv_scene *scene, ikvi_layout *layout);
void ikvi_order_make(ikv_scene *s);
/* Looks at every target of the layer. */
void ikvi_order_search(ikv_scene *s, probe *p);
const char *ikvi_order_validate(const ikv_scene *scene);

/* scene_probe.c: what a hit test asks of a candidate; nothing changes. */
void ikvi_probe_aim_area(probe *p, uint32_t layer, const hull *area);
bool ikvi_probe_wants_tags(const probe *p, const scene_item *item);
bool ikvi_probe_skips(const probe *p, uint32_t place);
bool ikvi_probe_holds(const probe *p, const scene_item *item);
/* The nearest ancestor from there up that clips it away; NO_ITEM. */
uint32_t ikvi_probe_clipped_by(const ikv_scene *scene, const scene_item *item,
                               float x, float y);
/* Takes a candidate; true if the search may end when going from the top. */
bool ikvi_probe_offer(probe *p, uint32_t place);
/* Turns the heap into a list, the topmost first. */
void ikvi_probe_sort(const probe *p);
/* Turns that of crossings into a list, the nearest first. */
void ikvi_probe_sort_crossings(const probe *p);

/* scene_siblings.c */
/* Links an item in among the parent's children, above those of its layer and z or
 * beneath them; `near` is a sibling that is near, or NO_ITEM. */
void ikvi_scene_link(ikv_scene *scene, uint32_t place, uint32_t parent,
                     bool lowest, uint32_t near);
void ikvi_scene_unlink(ikv_scene *scene, uint32_t place);
/* After a subtree was linked: it gets keys, and the index is told. */
void ikvi_scene_reordered(ikv_scene *scene, uint32_t place);
/* How many levels the subtree has, its top included. */
uint32_t ikvi_scene_height(const ikv_scene *scene, uint32_t top);
const char *ikvi_scene_validate_order(const ikv_scene *scene, uint32_t place);

#endif
