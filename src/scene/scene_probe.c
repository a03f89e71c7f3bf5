/* scene_probe.c - what a query takes of the candidates that it is offered:
 * those that are wanted and met, the topmost or a heap of the topmost. */
#include "scene_internal.h"

uint32_t ikvi_probe_clipped_by(const ikv_scene *scene, const scene_item *item,
                               float x, float y)
{
    /* Only where some ancestor clips; the flag ends at the topmost of them. */
    while (item->flags & ITEM_CLIPPED) {
        uint32_t parent = item->parent;
        item = item_at(scene, parent);
        if ((item->flags & ITEM_CLIPS) &&
            !ikvi_shape_holds(scene, item, x, y, 0, false))
            return parent;
    }
    return NO_ITEM;
}

static bool area_clips_let(const ikv_scene *scene, const scene_item *item,
                           const hull *area)
{
    hull h;
    while (item->flags & ITEM_CLIPPED) {
        item = item_at(scene, item->parent);
        if ((item->flags & ITEM_CLIPS) &&
            !(ikvi_shape_hull(scene, item, &h) && ikvi_hulls_meet(area, &h)))
            return false;
    }
    return true;
}

static bool meets_area(const probe *p, const scene_item *item)
{
    hull h;
    return ikvi_shape_hull(p->scene, item, &h) &&
           ikvi_hulls_meet(p->area, &h) &&
           area_clips_let(p->scene, item, p->area);
}

bool ikvi_probe_wants_tags(const probe *p, const scene_item *item)
{
    return p->query->tags == 0 || (item->tags & p->query->tags) != 0;
}

bool ikvi_probe_skips(const probe *p, uint32_t place)
{
    return p->skip_body != NO_ITEM &&
           ikvi_scene_body(p->scene, place) == p->skip_body;
}

bool ikvi_probe_holds(const probe *p, const scene_item *item)
{
    return ikvi_shape_holds(p->scene, item, p->x, p->y, p->radius,
                            p->query->touch);
}

/* HIT3: a target that is off is passed through, alone. */
static bool wanted(const probe *p, const scene_item *item, uint32_t place)
{
    return item->layer == p->layer && item_hittable(item) &&
           ikvi_probe_wants_tags(p, item) && !ikvi_probe_skips(p, place);
}

static bool met(probe *p, const scene_item *item)
{
    /* The dear part, which the index is there to spare. */
    p->tested++;
    if (p->area != NULL)
        return meets_area(p, item);
    return ikvi_probe_holds(p, item) &&
           ikvi_probe_clipped_by(p->scene, item, p->x, p->y) == NO_ITEM;
}

/* HIT6. Aims at a hull: the box around it, and a little more, since whether two
 * meet is rounded by as much as their largest number says. */
void ikvi_probe_aim_area(probe *p, uint32_t layer, const hull *area)
{
    float largest = area->radius;
    for (uint32_t i = 0; i < 2 * area->count; i++)
        if (number_size(area->points[i]) > largest)
            largest = number_size(area->points[i]);
    float reach = area->radius + 4e-6f * largest;
    for (uint32_t i = 0; i < 2 * area->count; i++) {
        float at = area->points[i];
        uint32_t axis = i % 2;
        if (i < 2 || at - reach < p->box[axis])
            p->box[axis] = at - reach;
        if (i < 2 || at + reach > p->box[axis + 2])
            p->box[axis + 2] = at + reach;
    }
    p->layer = layer;
    p->area = area;
}

/* ----------------------------------------------------------- collecting -- */

static uint64_t key_of(const ikv_scene *scene, ikv_target target)
{
    return item_at(scene, ikv_bus_target_place(scene->bus, target))->key;
}

/* Moves the heap's entry at i down to where it belongs: the least is first. */
static void sink_down(const probe *p, uint32_t i, uint32_t count)
{
    ikv_target moved = p->heap[i];
    uint64_t key = key_of(p->scene, moved);
    for (;;) {
        uint32_t child = 2 * i + 1;
        if (child >= count)
            break;
        if (child + 1 < count && key_of(p->scene, p->heap[child + 1]) <
                                     key_of(p->scene, p->heap[child]))
            child++;
        if (key <= key_of(p->scene, p->heap[child]))
            break;
        p->heap[i] = p->heap[child];
        i = child;
    }
    p->heap[i] = moved;
}

static void collect(probe *p, const scene_item *item)
{
    ikv_target target = {item->target};
    IKVI_CHECK(p->heap != NULL || p->room == 0);
    p->total++;
    /* Up from the end, to its place in the heap. */
    if (p->filled < p->room) {
        uint32_t i = p->filled++;
        while (i > 0 && key_of(p->scene, p->heap[(i - 1) / 2]) > item->key) {
            p->heap[i] = p->heap[(i - 1) / 2];
            i = (i - 1) / 2;
        }
        p->heap[i] = target;
    } else if (p->room > 0 && item->key > key_of(p->scene, p->heap[0])) {
        /* Full: the least one of those kept gives way. */
        p->heap[0] = target;
        sink_down(p, 0, p->filled);
    }
}

/* The least one goes to the end, again and again. */
void ikvi_probe_sort(const probe *p)
{
    IKVI_CHECK(p->filled <= p->room && p->filled <= p->total);
    for (uint32_t count = p->filled; count > 1;) {
        ikv_target least = p->heap[0];
        p->heap[0] = p->heap[--count];
        p->heap[count] = least;
        sink_down(p, 0, count);
    }
}

/* ------------------------------------------------------------- crossings -- */

/* Whether a is further along the line than b; of those as far, beneath it. */
static bool is_further(const probe *p, const ikv_crossing *a,
                       const ikv_crossing *b)
{
    if (a->share < b->share || a->share > b->share)
        return a->share > b->share;
    return key_of(p->scene, a->target) < key_of(p->scene, b->target);
}

/* Moves the first of a heap, whose furthest is first, to where it belongs. */
static void sink_crossing(const probe *p, uint32_t count)
{
    ikv_crossing *all = p->crossings, moved = all[0];
    uint32_t i = 0;
    for (;;) {
        uint32_t child = 2 * i + 1;
        if (child >= count)
            break;
        if (child + 1 < count && is_further(p, &all[child + 1], &all[child]))
            child++;
        if (!is_further(p, &all[child], &moved))
            break;
        all[i] = all[child];
        i = child;
    }
    all[i] = moved;
}

/* How far along the line the target is met: it, and all that clips it. */
static float entry_of(const probe *p, const scene_item *item)
{
    float share = 0;
    for (bool clips = true;; item = item_at(p->scene, item->parent)) {
        hull h;
        if (clips && ikvi_shape_hull(p->scene, item, &h)) {
            float entry = ikvi_hull_entry(p->area, &h);
            share = entry > share ? entry : share;
        }
        if ((item->flags & ITEM_CLIPPED) == 0)
            return share;
        clips = (item_at(p->scene, item->parent)->flags & ITEM_CLIPS) != 0;
    }
}

static void collect_crossing(probe *p, const scene_item *item)
{
    const float *from = p->area->points, *to = from + 2;
    p->total++;
    if (p->room == 0)
        return;
    float share = entry_of(p, item);
    const ikv_crossing found = {.target = {item->target},
                                .share = share,
                                .x = from[0] + share * (to[0] - from[0]),
                                .y = from[1] + share * (to[1] - from[1])};
    ikv_crossing *all = p->crossings;
    if (p->filled < p->room) {
        uint32_t i = p->filled++;
        while (i > 0 && is_further(p, &found, &all[(i - 1) / 2])) {
            all[i] = all[(i - 1) / 2];
            i = (i - 1) / 2;
        }
        all[i] = found;
    } else if (is_further(p, &all[0], &found)) {
        all[0] = found;
        sink_crossing(p, p->filled);
    }
}

void ikvi_probe_sort_crossings(const probe *p)
{
    for (uint32_t count = p->filled; count > 1;) {
        ikv_crossing furthest = p->crossings[0];
        p->crossings[0] = p->crossings[--count];
        p->crossings[count] = furthest;
        sink_crossing(p, count);
    }
}

bool ikvi_probe_offer(probe *p, uint32_t place)
{
    const scene_item *item = item_at(p->scene, place);
    if (p->best_only) {
        /* Keys first: they cost nothing, and most candidates lie beneath the
         * best so far. */
        if (p->best != NO_ITEM && item->key < item_at(p->scene, p->best)->key)
            return true;
        if (item->key >= p->limit || !wanted(p, item, place) || !met(p, item))
            return false;
        p->best = place;
        return true;
    }
    if (!wanted(p, item, place) || !met(p, item))
        return false;
    if (p->crossings != NULL && p->area != NULL)
        collect_crossing(p, item);
    else
        collect(p, item);
    return false;
}
