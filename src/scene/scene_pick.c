/* scene_pick.c - answers to queries, from the index's candidates. */
#include "scene_internal.h"

#include "../event/findings.h"

/* -------------------------------------------------------------- queries -- */

IKVI_INLINE bool query_usable(const ikv_scene *scene, const ikv_query *query)
{
    return scene != NULL && query != NULL && query->size == sizeof *query &&
           coordinate_fits(query->x) && coordinate_fits(query->y) &&
           query->radius >= 0 && coordinate_fits(query->radius) &&
           query->view < scene->views;
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
    ikvi_probe_begin(&p, scene, query);
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
    ikvi_probe_begin(&p, scene, query);
    p.limit = item_at(scene, place)->key;
    return target_in(scene, best_below(&p));
}

uint32_t ikv_scene_pick_all(const ikv_scene *scene, const ikv_query *query,
                            ikv_target *to, uint32_t room)
{
    if (!query_usable(scene, query))
        return 0;
    probe p;
    ikvi_probe_begin(&p, scene, query);
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
    }
    ikvi_probe_aim_area(p, layer, rect);
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
    ikvi_probe_begin(&p, scene, query);
    p.heap = to;
    p.room = to != NULL ? room : 0;
    for (uint32_t layer = scene->layers; layer-- > 0;)
        if (aim_rect(&p, layer, width, height, &rect))
            ikvi_index_search((ikv_scene *)(uintptr_t)scene, &p);
    ikvi_probe_sort(&p);
    return p.total;
}

/* ------------------------------------------------------------- obstacles -- */

static void find_hidden(const ikv_scene *scene, uint32_t place,
                        ikvi_findings *f)
{
    if (item_at(scene, place)->flags & ITEM_HIDDEN)
        ikvi_find_by(f, IKV_WHY_HIDDEN, (ikv_target){0});
    for (uint32_t at = item_at(scene, place)->parent; at != ROOT_ITEM;
         at = item_at(scene, at)->parent)
        if (item_at(scene, at)->flags & ITEM_HIDDEN)
            ikvi_find_by(f, IKV_WHY_PARENT_HIDDEN, target_in(scene, at));
}

/* How far away its shape is, less what the query allows. What the program tests
 * itself may be anywhere within its rectangle. */
static void find_outside(const probe *p, const scene_item *item,
                         ikvi_findings *f)
{
    float away = ikvi_shape_distance(p->scene, item, p->x, p->y);
    bool known = away >= 0 && (item_shape(item) != IKV_SHAPE_OWN || away > 0);
    float reach = p->radius + (p->query->touch ? ikvi_shape_grace(item) : 0);
    ikv_value by = {IKV_VALUE_NUMBER,
                    {.number = (double)(away > reach ? away - reach : 0)}};
    ikvi_find_by(f, IKV_WHY_OUTSIDE, (ikv_target){0});
    if (known && f->count <= f->room)
        f->to[f->count - 1].found = by;
}

static void find_clips(const probe *p, const scene_item *item, ikvi_findings *f)
{
    uint32_t by;
    while ((by = ikvi_probe_clipped_by(p->scene, item, p->x, p->y)) !=
           NO_ITEM) {
        ikvi_find_by(f, IKV_WHY_CLIPPED, target_in(p->scene, by));
        item = item_at(p->scene, by);
    }
}

/* In its own layer alone, where it could be. Who lies above it is a question
 * only where its shape is. */
static void probe_point(probe *p, uint32_t place, ikvi_findings *f)
{
    const scene_item *item = item_at(p->scene, place);
    if (!ikvi_probe_wants_tags(p, item))
        ikvi_find_by(f, IKV_WHY_TAGS, (ikv_target){0});
    if (ikvi_probe_skips(p, place))
        ikvi_find_by(f, IKV_WHY_BODY, target_in(p->scene, p->skip_body));
    if (item_shape(item) == IKV_SHAPE_NONE)
        return;
    bool held = ikvi_probe_holds(p, item);
    uint32_t before = f->count;
    if (!held)
        find_outside(p, item, f);
    find_clips(p, item, f);
    if (f->count != before)
        return;
    ikv_scene *scene = (ikv_scene *)(uintptr_t)p->scene; /* its counter alone */
    uint64_t tested = scene->s.counters.tested;
    uint32_t top = best_below(p);
    scene->s.counters.tested = tested;
    if (top != NO_ITEM && item_at(p->scene, top)->key > item->key)
        ikvi_find_by(f, IKV_WHY_COVERED, target_in(p->scene, top));
}

uint32_t ikv_scene_probe(const ikv_scene *scene, const ikv_query *query,
                         ikv_target target, ikv_obstacle *to, uint32_t room)
{
    ikvi_findings f = ikvi_findings_begin(to, room);
    uint32_t place = ikvi_scene_find(scene, target);
    ikv_target nobody = {0};
    probe p;
    if (place == NO_ITEM || place == ROOT_ITEM) {
        ikvi_find_by(&f, IKV_WHY_STALE, nobody);
        return f.count;
    }
    const scene_item *item = item_at(scene, place);
    bool usable = query_usable(scene, query);
    if (usable)
        ikvi_probe_begin(&p, scene, query);
    if (!usable || !aim(&p, item->layer)) {
        ikvi_find_by(&f, IKV_WHY_NO_VIEW, nobody);
        return f.count;
    }
    if (item_is_hidden(item))
        find_hidden(scene, place, &f);
    if (item_is_off(item))
        ikvi_find_by(&f, IKV_WHY_HIT_OFF, nobody);
    if (item_shape(item) == IKV_SHAPE_NONE)
        ikvi_find_by(&f, IKV_WHY_NO_SHAPE, nobody);
    IKVI_CHECK((f.count == 0) == item_hittable(item));
    probe_point(&p, place, &f);
    return f.count;
}
