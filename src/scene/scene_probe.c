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

static bool rect_clips_let(const ikv_scene *scene, const scene_item *item,
                           const hull *rect)
{
    hull h;
    while (item->flags & ITEM_CLIPPED) {
        item = item_at(scene, item->parent);
        if ((item->flags & ITEM_CLIPS) &&
            !(ikvi_shape_hull(scene, item, &h) && ikvi_hulls_meet(rect, &h)))
            return false;
    }
    return true;
}

static bool meets_rect(const probe *p, const scene_item *item)
{
    hull h;
    return ikvi_shape_hull(p->scene, item, &h) &&
           ikvi_hulls_meet(p->rect, &h) &&
           rect_clips_let(p->scene, item, p->rect);
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
    if (p->rect != NULL)
        return meets_rect(p, item);
    return ikvi_probe_holds(p, item) &&
           ikvi_probe_clipped_by(p->scene, item, p->x, p->y) == NO_ITEM;
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
    if (wanted(p, item, place) && met(p, item))
        collect(p, item);
    return false;
}
