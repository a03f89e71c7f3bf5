/* scene_pick.c - answers to queries, from the index's candidates. */
#include "scene_internal.h"

/* -------------------------------------------------------------- queries -- */

IKVI_INLINE bool query_usable(const ikv_scene *scene, const ikv_query *query)
{
    return scene != NULL && query != NULL && query->size == sizeof *query &&
           coordinate_fits(query->x) && coordinate_fits(query->y) &&
           query->radius >= 0 && coordinate_fits(query->radius) &&
           query->view < scene->views;
}

/* Field by field: what a layer's aim sets needs no zeros first. */
IKVI_INLINE void begin_probe(probe *p, const ikv_scene *scene,
                             const ikv_query *query)
{
    p->scene = scene;
    p->query = query;
    p->rect = NULL;
    p->skip_body = NO_ITEM;
    p->best_only = false;
    p->limit = UINT64_MAX;
    p->best = NO_ITEM;
    p->heap = NULL;
    p->room = p->filled = p->total = p->tested = 0;
    if (query->skip_body.bits == 0)
        return;
    /* One that is stale skips nobody. */
    uint32_t skip = ikvi_scene_find(scene, query->skip_body);
    if (skip != NO_ITEM)
        p->skip_body = ikvi_scene_body(scene, skip);
}

/* Takes the query's point into a layer; false if the view does not show it. */
IKVI_INLINE bool aim(probe *p, uint32_t layer)
{
    const ikv_query *query = p->query;
    float at[2], reach = 0;
    if (!ikvi_camera_to_layer(p->scene, layer, query->view, query->x, query->y,
                              at) ||
        !coordinate_fits(at[0]) || !coordinate_fits(at[1]))
        return false;
    p->layer = layer;
    p->x = at[0];
    p->y = at[1];
    p->radius = 0;
    if (query->radius > 0) {
        p->radius =
            query->radius / camera_at(p->scene, layer, query->view)->zoom;
        if (!coordinate_fits(p->radius))
            return false;
        /* A little more, as rounding may have put the point elsewhere. */
        reach = p->radius +
                2e-6f * (p->radius + number_size(at[0]) + number_size(at[1]));
    }
    p->box[0] = at[0] - reach;
    p->box[1] = at[1] - reach;
    p->box[2] = at[0] + reach;
    p->box[3] = at[1] + reach;
    return true;
}

/* The topmost below p->limit, in all layers from the top down. */
static uint32_t best_below(probe *p)
{
    ikv_scene *scene = (ikv_scene *)(uintptr_t)p->scene; /* its cells alone */
    p->best_only = true;
    p->best = NO_ITEM;
    /* A higher layer covers all lower ones. */
    for (uint32_t layer = scene->layers; layer-- > 0 && p->best == NO_ITEM;)
        if (aim(p, layer))
            ikvi_index_search(scene, p);
    return p->best;
}

static ikv_target target_in(const ikv_scene *scene, uint32_t place)
{
    return (ikv_target){place != NO_ITEM ? item_at(scene, place)->target : 0};
}

ikv_target ikv_scene_pick(const ikv_scene *scene, const ikv_query *query,
                          uint32_t nth)
{
    if (!query_usable(scene, query))
        return (ikv_target){0};
    probe p;
    begin_probe(&p, scene, query);
    uint32_t found = best_below(&p);
    while (nth-- > 0 && found != NO_ITEM) {
        /* The next one beneath: the search is done anew, since few ask for more
         * than one. */
        p.limit = item_at(scene, found)->key;
        found = best_below(&p);
    }
    return target_in(scene, found);
}

ikv_target ikv_scene_beneath(const ikv_scene *scene, const ikv_query *query,
                             ikv_target target)
{
    uint32_t place = ikvi_scene_find(scene, target);
    if (!query_usable(scene, query) || place == NO_ITEM || place == ROOT_ITEM)
        return (ikv_target){0};
    probe p;
    begin_probe(&p, scene, query);
    p.limit = item_at(scene, place)->key;
    return target_in(scene, best_below(&p));
}

uint32_t ikv_scene_pick_all(const ikv_scene *scene, const ikv_query *query,
                            ikv_target *to, uint32_t room)
{
    if (!query_usable(scene, query))
        return 0;
    probe p;
    begin_probe(&p, scene, query);
    p.heap = to;
    p.room = to != NULL ? room : 0;
    for (uint32_t layer = scene->layers; layer-- > 0;)
        if (aim(&p, layer))
            ikvi_index_search((ikv_scene *)(uintptr_t)scene, &p);
    ikvi_probe_sort(&p);
    return p.total;
}

/* The view's rectangle in a layer, which may be turned there. */
static bool aim_rect(probe *p, uint32_t layer, float width, float height,
                     hull *rect)
{
    rect->count = 4;
    rect->radius = 0;
    for (uint32_t i = 0; i < 4; i++) {
        float x = p->query->x + (i == 1 || i == 2 ? width : 0);
        float y = p->query->y + (i >= 2 ? height : 0);
        float *at = &rect->points[(size_t)2 * i];
        if (!ikvi_camera_to_layer(p->scene, layer, p->query->view, x, y, at) ||
            !coordinate_fits(at[0]) || !coordinate_fits(at[1]))
            return false;
        for (uint32_t k = 0; k < 2; k++) {
            /* Corners are rounded on the way through the camera. */
            float margin = 2e-6f * number_size(at[k]);
            float low = at[k] - margin, high = at[k] + margin;
            p->box[k] = i == 0 || low < p->box[k] ? low : p->box[k];
            p->box[k + 2] =
                i == 0 || high > p->box[k + 2] ? high : p->box[k + 2];
        }
    }
    p->layer = layer;
    p->rect = rect;
    return true;
}

uint32_t ikv_scene_pick_rect(const ikv_scene *scene, const ikv_query *query,
                             float width, float height, ikv_target *to,
                             uint32_t room)
{
    hull rect;
    if (!query_usable(scene, query) || !(width >= 0) || !(height >= 0) ||
        !coordinate_fits(width) || !coordinate_fits(height))
        return 0;
    probe p;
    begin_probe(&p, scene, query);
    p.heap = to;
    p.room = to != NULL ? room : 0;
    for (uint32_t layer = scene->layers; layer-- > 0;)
        if (aim_rect(&p, layer, width, height, &rect))
            ikvi_index_search((ikv_scene *)(uintptr_t)scene, &p);
    ikvi_probe_sort(&p);
    return p.total;
}

/* -------------------------------------------------------------- reasons -- */

static uint32_t explain_hidden(const ikv_scene *scene, uint32_t place,
                               ikv_target *by)
{
    if (item_at(scene, place)->flags & ITEM_HIDDEN)
        return IKV_PICK_HIDDEN;
    for (uint32_t at = item_at(scene, place)->parent; at != ROOT_ITEM;
         at = item_at(scene, at)->parent)
        if (item_at(scene, at)->flags & ITEM_HIDDEN) {
            *by = target_in(scene, at);
            break;
        }
    return IKV_PICK_PARENT_HIDDEN;
}

static uint32_t explain_clip(const probe *p, uint32_t place, ikv_target *by)
{
    for (uint32_t at = item_at(p->scene, place)->parent; at != ROOT_ITEM;
         at = item_at(p->scene, at)->parent) {
        const scene_item *item = item_at(p->scene, at);
        if ((item->flags & ITEM_CLIPS) &&
            !ikvi_shape_holds(p->scene, item, p->x, p->y, 0, false)) {
            *by = target_in(p->scene, at);
            return IKV_PICK_CLIPPED;
        }
    }
    return IKV_PICK_TOPMOST;
}

/* In the order in which a hit test would give up. */
static uint32_t explain_point(probe *p, uint32_t place, ikv_target *by)
{
    const scene_item *item = item_at(p->scene, place);
    const ikv_query *query = p->query;
    if (item_shape(item) == IKV_SHAPE_NONE)
        return IKV_PICK_NO_SHAPE;
    if (query->tags != 0 && (item->tags & query->tags) == 0)
        return IKV_PICK_TAGS;
    if (p->skip_body != NO_ITEM &&
        ikvi_scene_body(p->scene, place) == p->skip_body)
        return IKV_PICK_BODY;
    if (!ikvi_shape_holds(p->scene, item, p->x, p->y, p->radius, query->touch))
        return IKV_PICK_OUTSIDE;
    uint32_t reason = explain_clip(p, place, by);
    if (reason != IKV_PICK_TOPMOST)
        return reason;
    /* It is hit: then only what lies above can be in the way. */
    uint32_t top = best_below(p);
    if (top == place)
        return IKV_PICK_TOPMOST;
    *by = target_in(p->scene, top);
    return IKV_PICK_COVERED;
}

uint32_t ikv_scene_explain(const ikv_scene *scene, const ikv_query *query,
                           ikv_target target, ikv_target *by)
{
    ikv_target nobody = {0};
    by = by != NULL ? by : &nobody;
    *by = (ikv_target){0};
    uint32_t place = ikvi_scene_find(scene, target);
    if (place == NO_ITEM || place == ROOT_ITEM)
        return IKV_PICK_STALE;
    const scene_item *item = item_at(scene, place);
    if (!query_usable(scene, query))
        return IKV_PICK_NO_VIEW;
    probe p;
    begin_probe(&p, scene, query);
    /* In its own layer alone, where it could be. */
    if (!aim(&p, item->layer))
        return IKV_PICK_NO_VIEW;
    if (item->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN))
        return explain_hidden(scene, place, by);
    if ((item->flags & ITEM_HIT) == IKV_HIT_OFF)
        return IKV_PICK_HIT_OFF;
    return explain_point(&p, place, by);
}

const char *ikv_scene_reason_text(uint32_t reason)
{
    static const char *const texts[] = {
#define IKV_X(name, text) text,
        IKV_PICK_REASONS(IKV_X)
#undef IKV_X
    };
    return reason < IKV_PICK_REASON_COUNT ? texts[reason] : "unknown";
}
