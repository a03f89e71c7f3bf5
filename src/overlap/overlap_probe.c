/* overlap_probe.c - why two targets are not in contact: what a step asks of a
 * pair, asked of how they are now, without changing anything.
 */
#include "overlap_internal.h"

#include "../event/findings.h"

/* One of the two, as the next step will find it. */
typedef struct side_now {
    ikv_target target, body;
    uint32_t tags, senses;
    const scene_item *item; /* or NULL: it is not in the scene */
    bool disabled;
} side_now;

static bool look_at_side(const ikv_overlaps *o, ikv_target target, side_now *s)
{
    uint32_t place = ikv_bus_target_place(o->bus, target);
    if (place == UINT32_MAX || place == ROOT_ITEM)
        return false;
    const near_part *part = part_at(o, place);
    bool mine = part->owner == target.bits;
    const scene_item *item =
        o->scene != NULL ? ikvi_scene_item(o->scene, place) : NULL;
    *s = (side_now){.target = target,
                    .senses = mine ? summary_at(o, place)->senses : 0,
                    .disabled = mine && part->disabled};
    if (item != NULL && item->target == target.bits) {
        uint32_t body = ikvi_scene_body(o->scene, place);
        s->item = item;
        s->tags = item->tags;
        s->body.bits = ikvi_scene_item(o->scene, body)->target;
    } else {
        s->tags = ikvi_bus_tags(o->bus, target);
        s->body = ikvi_bus_body(o->bus, target);
    }
    return true;
}

/* By itself, or by each ancestor that is. */
static void find_hidden_side(const ikv_overlaps *o, const side_now *s,
                             ikvi_findings *f)
{
    if (s->item == NULL || !item_is_hidden(s->item))
        return;
    if (s->item->flags & ITEM_HIDDEN)
        ikvi_find_by(f, IKV_WHY_HIDDEN, s->target);
    for (uint32_t at = s->item->parent; at != ROOT_ITEM;) {
        const scene_item *item = ikvi_scene_item(o->scene, at);
        if (item->flags & ITEM_HIDDEN)
            ikvi_find_by(f, IKV_WHY_PARENT_HIDDEN, (ikv_target){item->target});
        at = item->parent;
    }
}

static void find_apart(const ikv_overlaps *o, const side_now *a,
                       const side_now *b, ikvi_findings *f)
{
    hull x, y;
    if (!ikvi_shape_hull(o->scene, a->item, &x) ||
        !ikvi_shape_hull(o->scene, b->item, &y) || ikvi_hulls_meet(&x, &y))
        return;
    ikvi_find(f, (ikv_obstacle){
                     .code = IKV_WHY_APART,
                     .by = b->target,
                     .found = {IKV_VALUE_NUMBER,
                               {.number = (double)ikvi_hulls_apart(&x, &y)}}});
}

static ikv_value whole_number(uint32_t number)
{
    return (ikv_value){IKV_VALUE_INTEGER, {.integer = number}};
}

/* What concerns the two together. */
static void find_between(const ikv_overlaps *o, const side_now *a,
                         const side_now *b, ikvi_findings *f)
{
    if ((senses_tags(a->senses, b->tags) | senses_tags(b->senses, a->tags)) ==
        0)
        ikvi_find_by(f, IKV_WHY_SENSES, b->target);
    if (a->body.bits == b->body.bits)
        ikvi_find_by(f, IKV_WHY_SAME_BODY, a->body);
    if (a->item == NULL || b->item == NULL) {
        if (!ikv_overlaps_touches(o, a->target, b->target) &&
            !ikv_overlaps_touches(o, b->target, a->target))
            ikvi_find_by(f, IKV_WHY_NOT_REPORTED, b->target);
        return;
    }
    if (a->item->layer != b->item->layer)
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_LAYER,
                                    .by = b->target,
                                    .found = whole_number(b->item->layer),
                                    .wanted = whole_number(a->item->layer)});
    else if (item_shape(a->item) != IKV_SHAPE_NONE &&
             item_shape(b->item) != IKV_SHAPE_NONE)
        find_apart(o, a, b, f);
}

uint32_t ikv_overlaps_probe(const ikv_overlaps *overlaps, ikv_target a,
                            ikv_target b, ikv_obstacle *to, uint32_t room)
{
    ikvi_findings f = ikvi_findings_begin(to, room);
    side_now sides[SIDES];
    if (overlaps == NULL)
        return 0;
    for (uint32_t i = 0; i < SIDES; i++)
        if (!look_at_side(overlaps, i == 0 ? a : b, &sides[i])) {
            ikvi_find_by(&f, IKV_WHY_STALE, i == 0 ? a : b);
            return f.count;
        }
    for (uint32_t i = 0; i < SIDES; i++)
        if (sides[i].disabled)
            ikvi_find_by(&f, IKV_WHY_DISABLED, sides[i].target);
    for (uint32_t i = 0; i < SIDES; i++)
        find_hidden_side(overlaps, &sides[i], &f);
    for (uint32_t i = 0; i < SIDES; i++)
        if (sides[i].item != NULL &&
            item_shape(sides[i].item) == IKV_SHAPE_NONE)
            ikvi_find_by(&f, IKV_WHY_NO_SHAPE, sides[i].target);
    find_between(overlaps, &sides[0], &sides[1], &f);
    return f.count;
}
