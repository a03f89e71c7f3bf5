/* why_past.c - keeps the last decisions of a run, and answers from them what the
 * parts would have answered then.
 *
 * What was told is kept with what it points at. Besides there is kept what can't
 * be asked later: of a handler that was passed over what stood in its way, of an
 * event what lay at its place, of a press what it did not start.
 */
#include "why.h"

#include <stdlib.h>
#include <string.h>

enum {
    DECISIONS_LIMIT = 1000000
};

struct ikv_why_past {
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_actions *actions;
    past_record *ring; /* of one more than `room`: the next may be taken back */
    uint32_t room;
    uint64_t count; /* ever kept; those of the ring are the last */
    /* What a subscription that was asked is in the way of. */
    ikv_subscription asked;
    ikv_obstacle found[PAST_FOUND];
    uint32_t found_count;
};

/* ---------------------------------------------------------------- keeping -- */

static past_record *record_at(const ikv_why_past *past, uint64_t nth)
{
    return &past->ring[nth % (past->room + 1u)];
}

static past_record *begin_record(ikv_why_past *past, const ikv_watch *watch)
{
    past_record *r = record_at(past, past->count++);
    r->watch = *watch;

    r->above_count = r->found_count = 0;
    r->captured = false;
    r->modal = (ikv_target){0};
    if (watch->event != NULL)
        r->event = *watch->event;
    if (watch->delivery != NULL) {
        r->delivery = *watch->delivery;
        memcpy(r->path, watch->delivery->path,
               watch->delivery->path_length * sizeof r->path[0]);
        /* they live as long as the call */
        r->delivery.cause = NULL;
        r->delivery.samples = NULL;
        r->delivery.data = NULL;
        r->delivery.sample_count = r->delivery.data_size = 0;
    }
    return r;
}

static uint32_t kept(uint32_t count)
{
    return count < PAST_FOUND ? count : PAST_FOUND;
}

static const ikv_kind_info *info_of(const ikv_bus *bus, const ikv_event *event)
{
    return ikv_catalogue_info(ikv_bus_catalogue(bus), event->kind);
}

/* A finger meets a target's margin, too. */
static bool is_by_finger(const ikv_event *event, uint8_t family)
{
    if (family == IKV_FAMILY_DRAG)
        return event->drag.type == IKV_TOUCH;
    if (family == IKV_FAMILY_WHEEL)
        return event->wheel.type == IKV_TOUCH;
    return (family == IKV_FAMILY_POINTER || family == IKV_FAMILY_CLICK) &&
           event->pointer.type == IKV_TOUCH;
}

static void keep_event(ikv_why_past *past, const ikv_watch *watch)
{
    past_record *r = begin_record(past, watch);
    const ikv_scene *scene = ikv_kit_scene(past->kit);
    const ikv_router *router = watch->delivery->router;
    if (router != NULL) {
        r->captured =
            ikv_router_has_capture(router, watch->event, watch->event->target);
        r->modal = ikv_router_modal(router, watch->event->seat);
    }
    const ikv_kind_info *info = info_of(past->bus, watch->event);
    if (scene == NULL || watch->delivery->router == NULL || !info->positioned)
        return;
    ikv_query query = IKV_QUERY_INIT;
    query.view = watch->event->view;
    query.touch = is_by_finger(watch->event, info->family);
    query.x = watch->event->pointer.x;
    query.y = watch->event->pointer.y;
    uint32_t count = ikv_scene_pick_all(scene, &query, r->above, PAST_ABOVE);
    r->above_count = count < PAST_ABOVE ? count : PAST_ABOVE;
}

static uint32_t probe(const ikv_why_past *past, const ikv_watch *watch,
                      ikv_obstacle *to)
{
    return kept(ikv_bus_probe(past->bus, watch->subscription, watch->event,
                              watch->delivery, to, PAST_FOUND));
}

static void keep_skip(ikv_why_past *past, const ikv_watch *watch)
{
    past_record *r = begin_record(past, watch);
    /* one that is muted is passed over without being asked */
    if (past->asked.bits != watch->subscription.bits)
        past->found_count = probe(past, watch, past->found);
    past->asked = (ikv_subscription){0};
    r->found_count = past->found_count;
    memcpy(r->found, past->found, sizeof r->found);
}

/* Of each action that the press might have started. */
static void keep_press(ikv_why_past *past, const ikv_watch *watch)
{
    ikv_action_id action;
    for (uint32_t nth = 0;
         (action = ikv_actions_list(past->actions, nth)).bits != 0; nth++) {
        miss m = ikvi_why_press(past->actions, action, watch->event);
        if (m.count == 0)
            continue;
        past_record *r = begin_record(past, watch);
        r->action = action;
        r->binding = m.binding;
        r->found_count = kept(m.count);
        memcpy(r->found, m.list, sizeof r->found);
    }
}

/* While it is known what it was. */
static void keep_end(ikv_why_past *past, const ikv_watch *watch)
{
    past_record *r = begin_record(past, watch);
    uint32_t targets = ikv_bus_subscription_targets(
        past->bus, watch->subscription, r->above, PAST_ABOVE);
    r->above_count = targets < PAST_ABOVE ? targets : PAST_ABOVE;
    const ikv_catalogue *catalogue = ikv_bus_catalogue(past->bus);
    memset(r->kinds, 0, sizeof r->kinds);
    for (ikv_kind kind = IKV_KIND_NONE;
         (kind = ikv_catalogue_next(catalogue, kind)) != IKV_KIND_NONE;)
        if (kind < PAST_KINDS &&
            ikvi_kit_hears(past->bus, watch->subscription, kind))
            r->kinds[kind / 8] |= (uint8_t)(1u << kind % 8);
}

/* A step or a frame that nobody heard is no decision. */
static bool forget_idle(ikv_why_past *past, const ikv_watch *watch)
{
    const past_record *last =
        past->count > 0 ? record_at(past, past->count - 1) : NULL;
    if (watch->heard > 0 || last == NULL ||
        last->watch.what != IKV_WATCH_EVENT ||
        (last->event.kind != IKV_KIND_LOOP_STEP &&
         last->event.kind != IKV_KIND_LOOP_FRAME))
        return false;
    past->count--;
    return true;
}

static void keep(const ikv_watch *watch, void *user)
{
    ikv_why_past *past = user;
    switch (watch->what) {
    case IKV_WATCH_EVENT:
        keep_event(past, watch);
        break;
    case IKV_WATCH_ASK:
        past->asked = watch->subscription;
        past->found_count = probe(past, watch, past->found);
        break;
    case IKV_WATCH_SKIP:
        keep_skip(past, watch);
        break;
    case IKV_WATCH_PRESS:
        keep_press(past, watch);
        break;
    case IKV_WATCH_END:
        keep_end(past, watch);
        break;
    case IKV_WATCH_DONE:
        if (!forget_idle(past, watch))
            begin_record(past, watch);
        break;
    default:
        begin_record(past, watch);
        break;
    }
}

ikv_status ikv_why_watch(ikv_kit *kit, uint32_t decisions, ikv_why_past **past)
{
    if (kit == NULL || past == NULL || decisions == 0 ||
        decisions > DECISIONS_LIMIT)
        return IKV_BAD_ARGUMENT;
    ikv_why_past *made = calloc(1, sizeof *made);
    if (made == NULL)
        return IKV_NO_MEMORY;
    made->kit = kit;
    made->bus = ikv_kit_bus(kit);
    made->actions = ikv_kit_actions(kit);
    made->room = decisions;
    made->ring = calloc(decisions + 1u, sizeof *made->ring);
    const uint32_t all = IKV_WATCH_ALL & ~(uint32_t)NOT_OF_EVENTS;
    ikv_status status = made->ring != NULL
                            ? ikv_bus_add_watcher(made->bus, all, keep, made)
                            : IKV_NO_MEMORY;
    if (status < 0) {
        free(made->ring);
        free(made);
        return status;
    }
    *past = made;
    return IKV_OK;
}

ikv_status ikv_why_unwatch(ikv_why_past *past)
{
    if (past == NULL)
        return IKV_OK;
    ikv_status status = ikv_bus_remove_watcher(past->bus, keep, past);
    if (status == IKV_OK) {
        free(past->ring);
        free(past);
    }
    return status;
}

/* -------------------------------------------------------------- recalling -- */

void ikvi_why_recall(const ikv_why_past *past,
                     void (*told)(const past_record *record, ikv_why *why),
                     ikv_why *why)
{
    uint64_t first = past->count > past->room ? past->count - past->room : 0;
    for (uint64_t i = first; i < past->count; i++)
        told(record_at(past, i), why);
}

const past_record *ikvi_why_ended(const ikv_why_past *past,
                                  ikv_subscription subscription)
{
    uint64_t kept_now = past->count < past->room ? past->count : past->room;
    for (uint64_t back = 1; back <= kept_now; back++) {
        const past_record *r = record_at(past, past->count - back);
        if (r->watch.what == IKV_WATCH_END &&
            r->watch.subscription.bits == subscription.bits)
            return r;
    }
    return NULL;
}

/* Whether an event at the one comes by the other. */
static bool comes_by(const ikv_why *why, ikv_target at, ikv_target target)
{
    for (uint32_t i = 0; at.bits != 0 && i < IKV_PATH_LIMIT; i++) {
        if (at.bits == target.bits)
            return true;
        at = ikv_scene_parent(why->scene, at);
    }
    return false;
}

/* What was modal, if it kept the target out: it had nothing in common with it. */
static uint32_t recall_modal(const ikv_why *why, const past_record *r,
                             ikv_target target, ikv_obstacle *to)
{
    if (r->modal.bits == 0 || comes_by(why, target, r->modal) ||
        comes_by(why, r->modal, target))
        return 0;
    to[0] = (ikv_obstacle){.code = IKV_WHY_MODAL, .by = r->modal};
    return 1;
}

/* By what lay there: who had captured it, or was above. */
static uint32_t recall_place(const ikv_why *why, const past_record *r,
                             ikv_target target, ikv_obstacle *to)
{
    uint32_t count = 0;
    ikv_target went_to = r->event.target;
    if (r->captured)
        to[count++] = (ikv_obstacle){.code = IKV_WHY_CAPTURED, .by = went_to};
    else
        count = recall_modal(why, r, target, to);
    for (uint32_t i = 1; i < r->above_count; i++)
        if (comes_by(why, r->above[i], target) &&
            !comes_by(why, r->above[0], target)) {
            to[count++] =
                (ikv_obstacle){.code = IKV_WHY_COVERED, .by = r->above[0]};
            break;
        }
    return count;
}

/* Of what the router says now: what it did not decide by then is left out. */
static uint32_t recall_rest(const ikv_watch *watch, ikv_target target,
                            ikv_obstacle *to)
{
    ikv_obstacle now[IKV_WHY_ROOM];
    uint32_t used = 0;
    uint32_t count = ikv_router_probe(watch->delivery->router, watch->event,
                                      target, now, IKV_WHY_ROOM);
    for (uint32_t i = 0; i < count && i < IKV_WHY_ROOM; i++)
        if (now[i].code != IKV_WHY_CAPTURED && now[i].code != IKV_WHY_COVERED &&
            now[i].code != IKV_WHY_FOCUS && now[i].code != IKV_WHY_PATH &&
            now[i].code != IKV_WHY_MODAL)
            to[used++] = now[i];
    return used;
}

uint32_t ikvi_why_recall_route(const ikv_why *why, const ikv_watch *watch,
                               ikv_target target, ikv_obstacle *to)
{
    const past_record *r = why->recalled;
    const ikv_kind_info *info = info_of(why->bus, watch->event);
    uint32_t count = r->above_count > 0 ? recall_place(why, r, target, to) : 0;
    if (count > 0)
        return count;
    if (info->family == IKV_FAMILY_KEY || info->family == IKV_FAMILY_TEXT) {
        count = recall_modal(why, r, target, to);
        to[count++] =
            (ikv_obstacle){.code = IKV_WHY_FOCUS, .by = r->event.target};
        return count;
    }
    count = recall_rest(watch, target, to);
    /* of a click the press decides */
    if (count > 0 || info->family == IKV_FAMILY_CLICK)
        return count;
    to[0] = (ikv_obstacle){.code = IKV_WHY_PATH, .by = r->event.target};
    return 1;
}

/* What hangs on the moment, which is over. */
static bool is_of_moment(const ikv_obstacle *o)
{
    return o->code == IKV_WHY_MUTED || o->code == IKV_WHY_ENDED ||
           o->code == IKV_WHY_AFTER || o->code == IKV_WHY_AT_MOST ||
           o->code == IKV_WHY_GAP || o->code == IKV_WHY_GONE ||
           (o->code == IKV_WHY_CONDITION && o->comparison == IKV_CHANGED);
}

uint32_t ikvi_why_recall_handler(const ikv_why *why, const ikv_watch *watch,
                                 ikv_obstacle *to)
{
    const past_record *r = why->recalled;
    ikv_obstacle now[IKV_WHY_ROOM];
    uint32_t used = 0;
    if (r->found_count > 0) {
        memcpy(to, r->found, r->found_count * sizeof *to);
        return r->found_count;
    }
    uint32_t count =
        ikv_bus_probe(why->bus, why->config.subscription, watch->event,
                      watch->delivery, now, IKV_WHY_ROOM);
    for (uint32_t i = 0; i < count && i < IKV_WHY_ROOM; i++)
        if (!is_of_moment(&now[i]) ||
            (why->ended && now[i].code == IKV_WHY_ENDED))
            to[used++] = now[i];
    return used;
}
