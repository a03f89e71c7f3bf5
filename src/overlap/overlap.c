/* overlap.c - opens the overlaps, keeps what targets sense, runs a step. See
 * overlap_internal.h.
 *
 * overlap-1  a part is in if its target is there, enabled and shown, has a
 *            shape and bears or senses a tag
 */
#include "overlap_internal.h"

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_overlaps(const ikv_overlaps_config *config,
                                   const ikv_reporter *reporter,
                                   ikv_overlaps *o)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"overlaps.targets", config->targets, 0, (1u << 24) - 1},
        {"overlaps.pairs", config->pairs, 0, 1u << 28},
        {"overlaps.contacts", config->contacts, 0, 1u << 28}};
    ikv_status status = ikvi_check_ranges(reporter, "overlap", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    o->capacity = ikvi_or(config->targets, 1024) + 2; /* as the bus */
    o->pair_room = ikvi_or(config->pairs, 4 * o->capacity);
    o->contact_room = ikvi_or(config->contacts, o->capacity);
    o->plain = config->plain;
    /* As large as what it finds: chains of one or two. */
    o->heads = ikvi_power_of_two(o->contact_room);
    o->node_room = 3 * o->capacity;
    o->cell_room = ikvi_power_of_two(o->capacity) + 1;
    size_t n = o->capacity;
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *o);
    o->parts = ikvi_layout_add(&l, n, sizeof(near_part));
    o->summaries = ikvi_layout_add(&l, n, sizeof(near_summary));
    o->fats = ikvi_layout_add(&l, n, sizeof(near_box));
    o->pairs = ikvi_layout_add(&l, o->pair_room, sizeof(near_pair));
    o->cells = ikvi_layout_add(&l, 2u * (size_t)o->cell_room, sizeof(uint32_t));
    o->huge = ikvi_layout_add(&l, HUGE_LIMIT, sizeof(uint32_t));
    o->sorted = ikvi_layout_add(&l, o->node_room, sizeof(near_node));
    o->contacts = ikvi_layout_add(&l, o->contact_room, sizeof(overlap_contact));
    o->contact_heads = ikvi_layout_add(&l, o->heads, sizeof(uint32_t));
    o->changed = ikvi_layout_add(&l, 2 * (size_t)o->contact_room,
                                 sizeof(overlap_notice));
    o->scratch = ikvi_layout_add(&l, o->contact_room, sizeof(overlap_notice));
    o->reports = ikvi_layout_add(&l, o->contact_room, sizeof(uint32_t));
    o->movers = ikvi_layout_add(&l, n, sizeof(uint32_t));
    /* Measured from the list itself, which the scene is handed. */
    o->s.changes.marks =
        ikvi_layout_add(&l, n, 1) - offsetof(ikv_overlaps, s.changes);
    o->s.changes.places = ikvi_layout_add(&l, n, sizeof(uint32_t)) -
                          offsetof(ikv_overlaps, s.changes);
    o->size = ikvi_layout_size(&l);
    return o->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_overlaps_footprint(const ikv_overlaps_config *config)
{
    ikv_overlaps plan = {0};
    return config != NULL &&
                   lay_out_overlaps(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

/* A box that nothing meets. */
static near_box nowhere(void)
{
    return (near_box){{FLT_LARGEST, FLT_LARGEST}, {FLT_LARGEST, FLT_LARGEST}};
}

/* All places are noted as changed: what the scene has already is taken in by
 * the first step. */
static void open_tables(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->capacity; i++) {
        near_part *part = part_at(o, i);
        *box_at(o, i) = nowhere();
        part->contacts = part->pairs = NO_TOUCH;
        if (o->scene != NULL)
            note_change(o, i);
    }
    for (uint32_t i = 0; i < o->heads; i++)
        *contact_head(o, i) = NO_TOUCH;
    for (uint32_t i = 0; i < o->contact_room; i++)
        contact_at(o, i)->next_hash =
            i + 1 < o->contact_room ? i + 1 : NO_TOUCH;
    o->s.free_contact = 0;
    ikvi_near_open(o);
}

static const ikvi_overlaps_calls overlap_calls = {
    .step = ikv_overlaps_step, .awaits = ikvi_contact_awaits};

ikv_status ikv_overlaps_open(const ikv_overlaps_config *config,
                             ikv_overlaps **overlaps)
{
    if (config == NULL || overlaps == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_overlaps plan = {
        .calls = &overlap_calls,
        .memory = config->memory,
        .identity = ikvi_identity(config, offsetof(ikv_overlaps_config, plain) +
                                              sizeof(bool)),
        .bus = config->bus,
        .scene = config->scene,
        .reporter = config->reporter};
    void *block = NULL;
    ikv_status status = lay_out_overlaps(config, &config->reporter, &plan);
    if (status == IKV_OK && (config->bus == NULL ||
                             ikvi_bus_target_room(config->bus) > plan.capacity))
        status = ikvi_bad_config(
            &config->reporter, IKV_BAD_CONFIG, "overlap",
            config->bus == NULL ? "the config's bus is NULL"
                                : "overlaps.targets is less than bus.targets");
    if (status == IKV_OK && config->scene != NULL &&
        ikvi_scene_notes_changes(config->scene))
        status = ikvi_bad_config(&config->reporter, IKV_BUSY, "overlap",
                                 "the scene has overlaps already");
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    ikv_overlaps *o = block;
    *o = plan;
    open_tables(o);
    if (o->scene != NULL)
        ikvi_scene_note_changes(o->scene, &o->s.changes);
    *overlaps = o;
    return IKV_OK;
}

ikv_status ikv_overlaps_close(ikv_overlaps *overlaps)
{
    if (overlaps == NULL)
        return IKV_OK;
    if (overlaps->stepping || ikvi_bus_is_busy(overlaps->bus)) {
        ikvi_report(&overlaps->reporter, IKV_REPORT_ERROR, IKV_BUSY, "overlap",
                    "not closed: inside a handler");
        return IKV_BUSY;
    }
    if (overlaps->scene != NULL)
        ikvi_scene_note_changes(overlaps->scene, NULL);
    ikv_memory memory = overlaps->memory;
    ikvi_memory_give(&memory, overlaps, overlaps->size);
    return IKV_OK;
}

uint64_t ikvi_overlaps_saved(ikv_overlaps *overlaps, ikvi_saved *to)
{
    const size_t from = offsetof(ikv_overlaps, s);
    *to = (ikvi_saved){(char *)overlaps + from, overlaps->size - from};
    return overlaps->identity;
}

/* -------------------------------------------------------------- sensing -- */

/* The target's part; what was there before it is forgotten. */
static near_part *part_of(const ikv_overlaps *o, ikv_target target,
                          uint32_t *place)
{
    *place = o != NULL ? ikv_bus_target_place(o->bus, target) : UINT32_MAX;
    return *place != UINT32_MAX && *place != ROOT_ITEM ? part_at(o, *place)
                                                       : NULL;
}

static void own_part(ikv_overlaps *o, uint32_t place, ikv_target target)
{
    near_part *part = part_at(o, place);
    if (part->owner == target.bits)
        return;
    /* All that the one before had asked for is over. */
    part->owner = target.bits;
    part->linger = 0;
    part->scope = part->inside = 0;
    part->swept = part->disabled = part->placed = false;
    summary_at(o, place)->senses = 0;
}

/* What is sensed is the target's, not the place's: `owner` tells a later target
 * in the same place from the one that was asked for. */
ikv_status ikv_overlaps_sense(ikv_overlaps *overlaps, ikv_target target,
                              const ikv_sensing *sensing)
{
    uint32_t place;
    if (overlaps == NULL || sensing == NULL)
        return IKV_BAD_ARGUMENT;
    if (sensing->size != sizeof *sensing)
        return IKV_BAD_SIZE;
    if (sensing->scope > IKV_OVERLAP_OF_BODIES ||
        sensing->inside > IKV_INSIDE_MOVING)
        return IKV_BAD_ARGUMENT;
    near_part *part = part_of(overlaps, target, &place);
    if (part == NULL)
        return IKV_STALE;
    own_part(overlaps, place, target);
    part->linger = sensing->linger;
    part->scope = sensing->scope;
    part->inside = sensing->inside;
    part->swept = sensing->swept;
    part->disabled = sensing->disabled;
    summary_at(overlaps, place)->senses = sensing->senses;
    /* Taken in by the next step, with all else that has changed. */
    note_change(overlaps, place);
    return IKV_OK;
}

ikv_sensing ikv_overlaps_sensing(const ikv_overlaps *overlaps,
                                 ikv_target target)
{
    uint32_t place;
    ikv_sensing sensing = {0};
    const near_part *part = part_of(overlaps, target, &place);
    if (part == NULL)
        return sensing;
    sensing.size = sizeof sensing;
    /* It senses nothing: what is there is of one before it. */
    if (part->owner != target.bits)
        return sensing;
    sensing.senses = summary_at(overlaps, place)->senses;
    sensing.linger = part->linger;
    sensing.scope = part->scope;
    sensing.inside = part->inside;
    sensing.swept = part->swept;
    sensing.disabled = part->disabled;
    return sensing;
}

/* O4: who loses it hears so. */
ikv_status ikv_overlaps_enable(ikv_overlaps *overlaps, ikv_target target,
                               bool enabled)
{
    ikv_sensing sensing = ikv_overlaps_sensing(overlaps, target);
    if (sensing.size == 0)
        return overlaps != NULL ? IKV_STALE : IKV_BAD_ARGUMENT;
    sensing.disabled = !enabled;
    return ikv_overlaps_sense(overlaps, target, &sensing);
}

ikv_status ikv_overlaps_place(ikv_overlaps *overlaps, ikv_target target)
{
    uint32_t place;
    near_part *part = part_of(overlaps, target, &place);
    if (part == NULL)
        return overlaps != NULL ? IKV_STALE : IKV_BAD_ARGUMENT;
    part->placed = true;
    note_change(overlaps, place);
    /* What is in it was set with it. */
    for (ikv_target in = ikv_scene_next(overlaps->scene, target, target);
         in.bits != 0; in = ikv_scene_next(overlaps->scene, target, in)) {
        part = part_of(overlaps, in, &place);
        if (part == NULL)
            continue;
        part->placed = true;
        note_change(overlaps, place);
    }
    return IKV_OK;
}

/* ---------------------------------------------------------------- parts -- */

/* Whether the place has something that can overlap. */
static bool counts_at_all(const ikv_overlaps *o, uint32_t place)
{
    const scene_item *item = ikvi_scene_item(o->scene, place);
    const near_part *part = part_at(o, place);
    /* What is sensed by one that is gone is nobody's. */
    bool mine = part->owner == item->target;
    return place != ROOT_ITEM && item->target != 0 && !item_is_hidden(item) &&
           item_shape(item) != IKV_SHAPE_NONE && !(mine && part->disabled) &&
           (item->tags | (mine ? summary_at(o, place)->senses : 0)) != 0;
}

static void widen(near_box *box, float x, float y, float radius)
{
    box->low[0] = x - radius < box->low[0] ? x - radius : box->low[0];
    box->low[1] = y - radius < box->low[1] ? y - radius : box->low[1];
    box->high[0] = -(x + radius) < box->high[0] ? -(x + radius) : box->high[0];
    box->high[1] = -(y + radius) < box->high[1] ? -(y + radius) : box->high[1];
}

/* The box of an unturned rectangle is its shape; else it may be a little too
 * large. False if the shape is out of all numbers. */
static bool shape_box(const ikv_scene *scene, const scene_item *item,
                      near_box *box)
{
    const float *n = item->shape.numbers;
    const transform *t = &item->world;
    hull h;
    if (item_unturned_rect(item)) {
        *box = (near_box){{t->x + n[0], t->y + n[1]},
                          {-(t->x + (n[0] + n[2])), -(t->y + (n[1] + n[3]))}};
    } else {
        if (!ikvi_shape_hull(scene, item, &h))
            return false;
        *box = (near_box){{h.points[0], h.points[1]},
                          {-h.points[0], -h.points[1]}};
        for (uint32_t i = 0; i < h.count; i++) {
            float x = h.points[2 * i], y = h.points[2 * i + 1];
            widen(box, x, y,
                  h.radius +
                      1e-6f * (number_size(x) + number_size(y) + h.radius));
        }
    }
    return number_finite(box->low[0] + box->low[1]) &&
           number_finite(box->high[0] + box->high[1]);
}

/* `by`: which touches end. */
static void take_out(ikv_overlaps *o, uint32_t place, uint8_t by,
                     uint8_t reason)
{
    near_summary *who = summary_at(o, place);
    ikvi_touch_end_all(o, place, by, reason);
    /* Reported touches may be of what has no shape. */
    if ((who->flags & PART_IN) == 0)
        return;
    ikvi_near_forget(o, place);
    IKVI_CHECK(o->s.in_count > 0);
    o->s.in_count--;
    o->s.swept_count -= (who->flags & PART_SWEPT) != 0;
    who->flags = 0;
    *box_at(o, place) = nowhere();
}

static void add_mover(ikv_overlaps *o, uint32_t place, near_summary *who)
{
    /* Within its fat box all its candidates are known. */
    bool strays = (who->flags & PART_NEW) != 0 ||
                  !box_lies_in(&who->box, fat_at(o, place));
    o->stray_count += strays;
    who->flags |= (uint8_t)(PART_MOVED | (strays ? PART_STRAY : 0));
    IKVI_CHECK((who->flags & PART_IN) != 0);
    *mover_at(o, o->mover_count++) = place;
}

/* The usual case: an unturned rectangle has moved, and nothing else. */
static bool shift_part(ikv_overlaps *o, uint32_t place)
{
    const scene_item *item = ikvi_scene_item(o->scene, place);
    near_summary *who = summary_at(o, place);
    near_part *part = part_at(o, place);
    near_box *box = &who->box, now;
    /* Who it is has not changed either: it is its own body still. */
    if ((who->flags & (PART_IN | PART_PLAIN)) != (PART_IN | PART_PLAIN) ||
        who->body != part->target || !item_unturned_rect(item))
        return false;
    const float *n = item->shape.numbers;
    const transform *t = &item->world;
    now = (near_box){{t->x + n[0], t->y + n[1]},
                     {-(t->x + (n[0] + n[2])), -(t->y + (n[1] + n[3]))}};
    if (!number_finite(now.low[0] + now.low[1]) ||
        !number_finite(now.high[0] + now.high[1]))
        return false;
    IKVI_CHECK(part->target == item->target);
    part->step_x = now.low[0] - box->low[0];
    part->step_y = now.low[1] - box->low[1];
    part->moved = o->s.turn;
    *box = now;
    add_mover(o, place, who);
    return true;
}

/* The box is what the part has passed since the last step: for what is swept
 * from where it was to where it is. Placed by ikv_overlaps_place() it has
 * passed nothing. */
static void put_in(ikv_overlaps *o, uint32_t place, const near_box *box)
{
    near_summary *who = summary_at(o, place);
    near_part *part = part_at(o, place);
    const scene_item *item = ikvi_scene_item(o->scene, place);
    IKVI_CHECK(part->target == item->target && place != ROOT_ITEM);
    if ((who->flags & PART_IN) == 0) {
        o->s.in_count++;
        who->flags = PART_IN | PART_NEW;
        part->x = item->world.x;
        part->y = item->world.y;
        part->step_x = part->step_y = 0;
    } else {
        part->step_x = box->low[0] - box_at(o, place)->low[0];
        part->step_y = box->low[1] - box_at(o, place)->low[1];
    }
    bool was_swept = (who->flags & PART_SWEPT) != 0;
    who->flags &= (uint8_t) ~(PART_PLAIN | PART_SWEPT);
    *box_at(o, place) = *box;
    o->s.swept_count += (uint32_t)part->swept - (uint32_t)was_swept;
    if (part->swept && !was_swept) {
        part->x = item->world.x;
        part->y = item->world.y;
    }
    if (part->swept) {
        float dx = part->x - item->world.x, dy = part->y - item->world.y;
        who->flags |= PART_SWEPT;
        if (part->placed) {
            part->x = item->world.x;
            part->y = item->world.y;
            dx = dy = 0;
        }
        /* By the corners of where it was: a box of both. */
        widen(box_at(o, place), box->low[0] + dx, box->low[1] + dy, 0);
        widen(box_at(o, place), -box->high[0] + dx, -box->high[1] + dy, 0);
    } else if (item_unturned_rect(item)) {
        who->flags |= PART_PLAIN;
    }
    part->placed = false;
    add_mover(o, place, who);
}

/* What the bus or the scene says of a target: who it is. A change makes its
 * touches' contacts follow, and its place in the list of pairs void. */
static void identify(ikv_overlaps *o, uint32_t place, uint32_t tags,
                     uint32_t body, uint8_t layer)
{
    near_summary *who = summary_at(o, place);
    near_part *part = part_at(o, place);
    uint32_t senses = part->owner == part->target ? who->senses : 0;
    bool same = who->tags == tags && who->body == body && who->layer == layer &&
                part->told_senses == senses &&
                part->told_scope == part->scope &&
                part->told_inside == part->inside;
    /* In another layer nothing near it before can touch it. */
    if (who->layer != layer && (who->flags & PART_IN) != 0) {
        ikvi_touch_end_all(o, place, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
        ikvi_near_forget(o, place);
    }
    who->senses = senses;
    who->tags = tags;
    who->body = body;
    who->layer = layer;
    part->told_senses = senses;
    part->told_scope = part->scope;
    part->told_inside = part->inside;
    if (same)
        return;
    /* Pairs of the list were chosen by who senses whom: it is looked up
     * anew. */
    if (who->flags & PART_IN)
        who->flags |= PART_NEW;
    if (ikvi_touch_refresh(o, place))
        ikvi_near_forget(o, place);
}

/* Of a target that is not in the scene. */
static void identify_by_bus(ikv_overlaps *o, uint32_t place)
{
    ikv_target target = {part_at(o, place)->target};
    identify(o, place, ikvi_bus_tags(o->bus, target),
             ikvi_bus_body(o->bus, target).bits, summary_at(o, place)->layer);
}

/* Another target is at the place now, or none. */
static void follow_target(ikv_overlaps *o, uint32_t place, uint32_t target)
{
    if (part_at(o, place)->target == target)
        return;
    /* The one before has gone: who touched it hears so in this step. */
    take_out(o, place, TOUCH_BY_SHAPE | TOUCH_REPORTED, IKV_OVERLAP_REMOVED);
    part_at(o, place)->target = target;
    part_at(o, place)->id = ikv_bus_target_id(o->bus, (ikv_target){target});
}

/* In the order of what may be missing: the target itself, then its scene, then
 * its shape. A reported touch goes on without a shape, but not without its
 * target. */
static void take_change(ikv_overlaps *o, uint32_t place)
{
    near_part *part = part_at(o, place);
    near_box box;
    follow_target(o, place, ikvi_bus_target_at(o->bus, place));
    part->moved = o->s.turn;
    /* Also what is only reported is off then. */
    bool disabled = part->owner == part->target && part->disabled;
    if (part->target == 0 || disabled) {
        take_out(o, place, TOUCH_BY_SHAPE | TOUCH_REPORTED,
                 IKV_OVERLAP_DISABLED);
        return;
    }
    const scene_item *item =
        o->scene != NULL ? ikvi_scene_item(o->scene, place) : NULL;
    if (item == NULL || item->target != part->target) {
        identify_by_bus(o, place);
        return;
    }
    /* A piece that moves moves its body, for those who hear `inside` of
     * that. */
    uint32_t body = ikvi_scene_body(o->scene, place);
    part_at(o, body)->moved = o->s.turn;
    identify(o, place, item->tags, ikvi_scene_item(o->scene, body)->target,
             item->layer);
    if (counts_at_all(o, place) && shape_box(o->scene, item, &box))
        put_in(o, place, &box);
    else
        take_out(o, place, TOUCH_BY_SHAPE, IKV_OVERLAP_DISABLED);
}

/* What change `nth` will need, if it may not be near by: nothing hangs on it. */
static inline void fetch_change(const ikv_overlaps *o, uint32_t nth)
{
    if (o->scene == NULL || nth >= o->s.changes.count ||
        o->s.in_count <= CACHED_PARTS)
        return;
    uint32_t place =
        ((const uint32_t *)ikvi_at(&o->s.changes, o->s.changes.places))[nth];
    const scene_item *item = ikvi_scene_item(o->scene, place);
    IKVI_FETCH(&item->world);
    IKVI_FETCH(&item->shape);
    IKVI_FETCH(summary_at(o, place));
    IKVI_FETCH(part_at(o, place));
    IKVI_FETCH(fat_at(o, place));
}

/* What has only moved keeps who it is: the short way, which is most of them. */
static void take_changes(ikv_overlaps *o)
{
    uint8_t *marks = ikvi_at(&o->s.changes, o->s.changes.marks);
    const uint32_t *places = ikvi_at(&o->s.changes, o->s.changes.places);
    o->mover_count = o->stray_count = 0;
    for (uint32_t i = 0; i < o->s.changes.count; i++) {
        uint32_t place = places[i];
        fetch_change(o, i + 8);
        bool moved = marks[place] == IKVI_HAS_MOVED;
        /* Cleared first: what a handler changes is the next step's. */
        marks[place] = 0;
        if (!moved || o->scene == NULL || !shift_part(o, place))
            take_change(o, place);
    }
    o->s.changes.count = 0;
}

/* What they have swept is behind them. */
static void settle_movers(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->mover_count; i++) {
        uint32_t place = *mover_at(o, i);
        near_summary *who = summary_at(o, place);
        IKVI_CHECK((who->flags & PART_IN) != 0);
        IKVI_CHECK(part_at(o, place)->swept ==
                   ((who->flags & PART_SWEPT) != 0));
        who->flags &= (uint8_t) ~(PART_MOVED | PART_STRAY);
        if ((who->flags & PART_SWEPT) == 0)
            continue;
        const scene_item *item = ikvi_scene_item(o->scene, place);
        part_at(o, place)->x = item->world.x;
        part_at(o, place)->y = item->world.y;
    }
}

/* ------------------------------------------------------------- stepping -- */

/* What found no room is looked at anew in the next step. */
IKVI_APART static void try_again(ikv_overlaps *o)
{
    o->retries = false;
    for (uint32_t i = 0; i < o->capacity; i++)
        if (part_at(o, i)->refused) {
            part_at(o, i)->refused = false;
            note_change(o, i);
        }
}

/* O2: all of the step's changes are known before the first handler is told of
 * one; what handlers change is of the next step. */
ikv_status ikv_overlaps_step(ikv_overlaps *overlaps, uint64_t step,
                             uint64_t time_ns)
{
    ikv_overlaps *o = overlaps;
    if (o == NULL)
        return IKV_BAD_ARGUMENT;
    /* A handler of this step asks for another one. */
    if (o->stepping)
        return IKV_BUSY;
    o->stepping = true;
    o->s.step = (uint32_t)step;
    /* While none is removed, who was there is there: no handle need be looked
     * up. */
    o->removals = ikvi_bus_removals(o->bus);
    take_changes(o);
    if (o->scene != NULL) {
        ikvi_near_find(o);
        settle_movers(o);
    }
    /* What was not reported again since the last step has ended. */
    ikvi_touch_end_reports(o);
    o->s.turn++;
    ikvi_bus_tell_moment(o->bus, IKV_WATCH_OVERLAPS, NULL);
    ikvi_contact_tell(o, time_ns);
    if (IKVI_UNLIKELY(o->retries))
        try_again(o);
    o->stepping = false;
    return IKV_OK;
}

static bool is_hidden(const ikv_overlaps *o, uint32_t place, ikv_target target)
{
    return o->scene != NULL &&
           ikvi_scene_item(o->scene, place)->target == target.bits &&
           item_is_hidden(ikvi_scene_item(o->scene, place));
}

/* O6: from an engine's own collision. */
ikv_status ikv_overlaps_report(ikv_overlaps *overlaps, ikv_target a,
                               ikv_target b, const float *point)
{
    ikv_overlaps *o = overlaps;
    uint32_t place[SIDES];
    if (o == NULL || a.bits == b.bits)
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; point != NULL && i < 3; i++)
        if (!ikvi_coordinate_is_good(point[i]))
            return IKV_BAD_VALUE;
    if (o->stepping)
        return IKV_BUSY;
    if (part_of(o, a, &place[0]) == NULL || part_of(o, b, &place[1]) == NULL)
        return IKV_STALE;
    for (uint32_t i = 0; i < SIDES; i++) {
        ikv_target target = i == 0 ? a : b;
        near_part *part = part_at(o, place[i]);
        follow_target(o, place[i], target.bits);
        own_part(o, place[i], target);
        identify_by_bus(o, place[i]);
        /* A report is a movement, to who hears `inside` of what moves. */
        part->moved = o->s.turn;
        if (part->disabled || is_hidden(o, place[i], target))
            return IKV_OK;
    }
    /* A touch has the lower place first. */
    bool turned = place[0] > place[1];
    uint64_t refused = o->s.counters.refused;
    o->s.has_reports = true;
    ikvi_touch_begin(o, place[turned], place[!turned], TOUCH_REPORTED, false,
                     point);
    return o->s.counters.refused == refused ? IKV_OK : IKV_FULL_CONTACTS;
}

ikv_status ikv_overlaps_counters(const ikv_overlaps *overlaps,
                                 ikv_overlaps_counts *counts)
{
    if (overlaps == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_overlaps_counts found = overlaps->s.counters;
    found.targets = overlaps->s.in_count;
    found.pairs = overlaps->s.pair_count - overlaps->s.grid.free_pairs;
    found.pairs_capacity = overlaps->pair_room;
    found.contacts_capacity = overlaps->contact_room;
    return ikvi_give_sized(counts, &found, sizeof found);
}

/* ----------------------------------------------------------- validating -- */

const char *ikv_overlaps_validate(const ikv_overlaps *overlaps)
{
    if (overlaps == NULL)
        return NULL;
    const ikv_overlaps *o = overlaps;
    uint32_t in = 0;
    for (uint32_t i = 0; i < o->capacity; i++) {
        bool is_in = (summary_at(o, i)->flags & PART_IN) != 0;
        in += is_in;
        if (o->scene != NULL && !has_changed(o, i) && is_in &&
            !counts_at_all(o, i))
            return "overlap-1";
    }
    if (in != o->s.in_count)
        return "overlap-1";
    const char *broken = ikvi_near_validate(o);
    return broken != NULL ? broken : ikvi_contact_validate(o);
}
