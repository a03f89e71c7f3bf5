/* why.c - watches a run for one question. What stood in an event's way is what
 * the core's probes say at the moments at which the core decides; of a run there
 * is besides who stopped an event, who captured a pointer and since when, and
 * where it was pressed.
 *
 * Of all events that might have done it the answer keeps the nearest one, as the
 * run goes on.
 */
#include "why.h"

#include <stdlib.h>
#include <string.h>

/* ------------------------------------------------------------ how near -- */

/* How far an event with that obstacle has come. */
static int stage_of(uint16_t code)
{
    switch (code) {
    case IKV_WHY_NO_EVENT:
        return 0;
    case IKV_WHY_REFUSED:
    case IKV_WHY_DROPPED:
    case IKV_WHY_WAITING:
        return 1;
    case IKV_WHY_PHASE:
    case IKV_WHY_GONE:
        return 3;
    case IKV_WHY_ENDED:
    case IKV_WHY_LIMIT:
    case IKV_WHY_MUTED:
    case IKV_WHY_PLACE:
    case IKV_WHY_CONDITION:
    case IKV_WHY_AFTER:
    case IKV_WHY_AT_MOST:
    case IKV_WHY_GAP:
        return 4;
    case IKV_WHY_STOPPED:
        return 5;
    default: /* where it went */
        return 2;
    }
}

static bool has_code(const miss *m, uint16_t code)
{
    for (uint32_t i = 0; i < m->count; i++)
        if (m->list[i].code == code)
            return true;
    return false;
}

/* How far outside or apart it was; 0 if it was not, or that can't be said. */
static double distance_of(const miss *m)
{
    for (uint32_t i = 0; i < m->count; i++)
        if ((m->list[i].code == IKV_WHY_OUTSIDE ||
             m->list[i].code == IKV_WHY_APART) &&
            m->list[i].found.type == IKV_VALUE_NUMBER)
            return m->list[i].found.bits.number;
    return 0;
}

/* What the hit test has given up for comes after what it has not. */
static bool is_outside(const miss *m)
{
    return has_code(m, IKV_WHY_OUTSIDE);
}

/* Below 0 if the first came less far, above 0 if further: how far it got, what
 * is in its way beside that, and how far outside it was. */
static int compare_misses(const miss *a, const miss *b)
{
    int stage = stage_of(a->list[0].code) - stage_of(b->list[0].code);
    if (stage != 0)
        return stage;
    if (a->count != b->count)
        return a->count < b->count ? 1 : -1;
    if (is_outside(a) != is_outside(b))
        return is_outside(b) ? 1 : -1;
    double far = distance_of(b) - distance_of(a);
    return (far > 0) - (far < 0);
}

static uint32_t kept(uint32_t count)
{
    return count < IKV_WHY_ROOM ? count : IKV_WHY_ROOM;
}

/* Before the others of it: it stood there first. */
static void put_first(miss *m, ikv_obstacle obstacle)
{
    m->count = kept(m->count + 1);
    memmove(&m->list[1], &m->list[0], (m->count - 1) * sizeof m->list[0]);
    m->list[0] = obstacle;
}

/* -------------------------------------------------------------- the past -- */

static pointer_past *past_of(ikv_why *why, const ikv_event *event)
{
    for (uint32_t i = 0; i < WHY_POINTERS; i++) {
        pointer_past *p = &why->pointers[i];
        if (p->used && p->device == event->device &&
            p->pointer == event->pointer.pointer)
            return p;
    }
    pointer_past *p = &why->pointers[why->next_pointer++ % WHY_POINTERS];
    *p = (pointer_past){event->device, event->pointer.pointer, true, {0}, 0};
    return p;
}

static void note_past(ikv_why *why, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    const ikv_delivery *d = watch->delivery;
    if (event->kind == IKV_KIND_POINTER_DOWN && d->router != NULL &&
        (d->flags & IKV_PASSED) == 0)
        past_of(why, event)->pressed = event->target;
    else if (event->kind == IKV_KIND_POINTER_CAPTURE_GOT)
        past_of(why, event)->captured_ns = event->time_ns;
}

/* ----------------------------------------------------------- where it went -- */

static bool comes_by(const ikv_why *why, const ikv_delivery *d)
{
    for (uint32_t i = 0; i < d->path_length; i++)
        for (uint32_t k = 0; k < why->target_count; k++)
            if (d->path[i].bits == why->targets[k].bits)
                return true;
    return false;
}

static void take_nearer(miss *nearest, const miss *other)
{
    if (nearest->count == 0 || compare_misses(other, nearest) > 0)
        *nearest = *other;
}

static uint32_t probe_route(const ikv_why *why, const ikv_watch *watch,
                            ikv_target target, ikv_obstacle *to)
{
    return why->recalled != NULL
               ? ikvi_why_recall_route(why, watch, target, to)
               : kept(ikv_router_probe(watch->delivery->router, watch->event,
                                       target, to, IKV_WHY_ROOM));
}

/* Of a target, and of what is in it if it has no shape of its own. */
static void probe_target(const ikv_why *why, const ikv_watch *watch,
                         ikv_target target, miss *nearest)
{
    enum {
        DESCENDANTS = 256 /* one hit test for each: not of a whole world */
    };
    miss one = {.of = target};
    one.count = probe_route(why, watch, target, one.list);
    if (one.count > 0)
        take_nearer(nearest, &one);
    if (!has_code(&one, IKV_WHY_NO_SHAPE) || why->scene == NULL)
        return;
    one.of = target;
    for (uint32_t i = 0; i < DESCENDANTS; i++) {
        one.of = ikv_scene_next(why->scene, target, one.of);
        if (one.of.bits == 0)
            return;
        one.count = probe_route(why, watch, one.of, one.list);
        if (one.count > 0)
            take_nearer(nearest, &one);
    }
}

/* Why an event that was routed did not come by any of the targets. */
static void find_detour(ikv_why *why, const ikv_watch *watch, miss *m)
{
    miss nearest = {.count = 0};
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), watch->event->kind);
    if (watch->delivery->router == NULL)
        return;
    for (uint32_t i = 0; i < why->target_count; i++)
        probe_target(why, watch, why->targets[i], &nearest);
    /* A click goes to what both its press and its release were on. */
    if (nearest.count == 0 && info->family == IKV_FAMILY_CLICK) {
        nearest.list[0] = (ikv_obstacle){
            .code = IKV_WHY_PRESSED, .by = past_of(why, watch->event)->pressed};
        nearest.count = 1;
    }
    if (nearest.count == 0)
        return;
    /* The rest of what was found stands behind it on the way. */
    uint32_t rest = m->count > 0 ? m->count - 1 : 0;
    rest = rest < IKV_WHY_ROOM - nearest.count ? rest
                                               : IKV_WHY_ROOM - nearest.count;
    memcpy(&nearest.list[nearest.count], &m->list[1], rest * sizeof m->list[0]);
    nearest.count += rest;
    *m = nearest;
}

/* ------------------------------------------------------------ the nearest -- */

static bool in_time(const ikv_why *why, const ikv_event *event)
{
    return event->time_ns >= why->config.from_ns &&
           (why->config.to_ns == 0 || event->time_ns <= why->config.to_ns);
}

/* Who did it and since when, as far as that was seen. */
static void add_past(ikv_why *why, const ikv_event *event, ikv_obstacle *o)
{
    if (o->code == IKV_WHY_CAPTURED)
        o->since_ns = past_of(why, event)->captured_ns;
    if ((o->code == IKV_WHY_MUTED && why->muted) ||
        (o->code == IKV_WHY_ENDED && why->ended)) {
        o->code = o->code == IKV_WHY_ENDED ? why->reason : o->code;
        o->name = why->changer;
        o->since_ns = why->changed_ns;
    }
}

static void take_miss(ikv_why *why, const under_way *u)
{
    miss before = {.count = why->nearest.count};
    memcpy(before.list, why->nearest.obstacles, sizeof before.list);
    why->missed++;
    if (before.count > 0 && compare_misses(&u->miss, &before) < 0)
        return;
    ikv_why_answer *a = &why->nearest;
    a->count = u->miss.count;
    memcpy(a->obstacles, u->miss.list, sizeof a->obstacles);
    a->event = u->event;
    a->at = u->at;
    a->of = u->miss.of;
    a->binding = u->miss.binding;
    a->step = u->step;
    for (uint32_t i = 0; i < a->count; i++)
        add_past(why, &u->event, &a->obstacles[i]);
}

/* What was passed on was taken for a miss where it came first. */
static void forget_miss(ikv_why *why, const under_way *u)
{
    why->missed -= u->passed && why->missed > 0 &&
                   why->nearest.event.time_ns == u->event.time_ns &&
                   why->nearest.event.kind == u->event.kind;
}

/* An event that was not delivered at all. */
static void take_lost(ikv_why *why, const ikv_watch *watch, uint16_t code)
{
    under_way u = {.event = *watch->event, .at = watch->event->target};
    u.miss.count = 1;
    u.miss.list[0] = (ikv_obstacle){
        .code = code,
        .name = code == IKV_WHY_DROPPED
                    ? ikv_bus_lane_name(why->bus, watch->lane)
                    : NULL,
        .found = {IKV_VALUE_INTEGER,
                  {.integer =
                       code == IKV_WHY_REFUSED ? watch->status : watch->lane}}};
    take_miss(why, &u);
}

/* ------------------------------------------------------------- a handler -- */

/* Whether it listens to a kind, or did. */
static bool hears_kind(const ikv_why *why, ikv_kind kind)
{
    return kind < why->kind_room && why->hears[kind];
}

static void probe_handler(ikv_why *why, const ikv_watch *watch, under_way *u)
{
    miss *m = &u->miss;
    m->count = why->recalled != NULL
                   ? ikvi_why_recall_handler(why, watch, m->list)
                   : kept(ikv_bus_probe(why->bus, why->config.subscription,
                                        watch->event, watch->delivery, m->list,
                                        IKV_WHY_ROOM));
    m->of = why->target_count > 0 ? why->targets[0] : (ikv_target){0};
    if (m->count == 0)
        return;
    uint16_t first = m->list[0].code;
    /* One that has ended does not know its targets any more. */
    if (first == IKV_WHY_ENDED && why->target_count > 0 &&
        !comes_by(why, watch->delivery)) {
        put_first(m, (ikv_obstacle){.code = IKV_WHY_PATH, .by = u->at});
        first = IKV_WHY_PATH;
    }
    if (first == IKV_WHY_PATH)
        find_detour(why, watch, m);
}

/* Of those at one target the rank says who comes first: it is kept as what was
 * found to be wanted. */
static ikv_obstacle stop_of(const ikv_why *why, const under_way *u)
{
    ikv_obstacle o = {.code = IKV_WHY_STOPPED,
                      .by = u->stopped_at,
                      .name = u->stopper,
                      .found = {IKV_VALUE_INTEGER, {.integer = u->verdict}}};
    for (uint32_t i = 0;
         why->config.about == IKV_ASK_HANDLER && i < why->target_count; i++)
        if (why->targets[i].bits == u->stopped_at.bits)
            o.wanted =
                (ikv_value){IKV_VALUE_INTEGER, {.integer = u->stopper_rank}};
    return o;
}

/* What covers would have let it through, had nobody stopped it there (HIT4). */
static void find_stop_above(const ikv_why *why, under_way *u)
{
    ikv_obstacle *o = &u->miss.list[0];
    const ikv_kind kind = u->event.kind;
    if (u->stopper != NULL && u->miss.count > 0 && o->code == IKV_WHY_COVERED &&
        why->scene != NULL &&
        ikv_scene_hit(why->scene, o->by) == IKV_HIT_PASS &&
        (kind == IKV_KIND_POINTER_DOWN || kind == IKV_KIND_POINTER_MOVE ||
         kind == IKV_KIND_WHEEL))
        *o = stop_of(why, u);
}

static void end_handler(ikv_why *why, const ikv_watch *watch, under_way *u)
{
    if (!u->on || u->called)
        return;
    find_stop_above(why, u);
    bool reached = u->miss.count == 0 || stage_of(u->miss.list[0].code) > 3;
    /* Nobody asked it: somebody stopped the event before. */
    if (reached && !u->asked && u->stopper != NULL &&
        (u->miss.count == 0 || u->miss.list[0].code != IKV_WHY_STOPPED))
        put_first(&u->miss, stop_of(why, u));
    /* It was muted, ended or its target removed by who was called before. */
    if (u->miss.count == 0)
        probe_handler(why, watch, u);
    if (u->miss.count > 0)
        take_miss(why, u);
}

/* What concerns the handler itself, in a delivery under way. */
static void note_handler(ikv_why *why, const ikv_watch *watch, under_way *u)
{
    bool own = watch->subscription.bits == why->config.subscription.bits;
    u->running = watch->what == IKV_WATCH_CALL     ? watch->name
                 : watch->what == IKV_WATCH_RETURN ? NULL
                                                   : u->running;
    if (!u->on)
        return;
    if (watch->what == IKV_WATCH_RETURN) {
        if (u->stopper == NULL &&
            (watch->verdict & (IKV_STOP | IKV_STOP_ALL)) != 0) {
            u->stopper = watch->name;
            u->stopped_at = watch->delivery->current;
            u->stopper_rank =
                ikv_bus_subscription_rank(why->bus, watch->subscription);
            u->verdict = watch->verdict;
        }
    } else if (own && watch->what == IKV_WATCH_CALL) {
        u->called = true;
        why->called++;
        forget_miss(why, u);
    } else if (own && !u->asked) {
        /* It is about to be asked, or, muted, passed over without. */
        u->asked = true;
        probe_handler(why, watch, u);
    }
}

/* -------------------------------------------------------------- a target -- */

/* What a pointer, wheel or pen does itself, not what follows from it. */
static bool is_of_pointer(const ikv_why *why, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), event->kind);
    if (why->config.kind != IKV_KIND_NONE)
        return event->kind == why->config.kind;
    return info != NULL && info->positioned &&
           (event->kind == IKV_KIND_POINTER_DOWN ||
            event->kind == IKV_KIND_POINTER_UP ||
            event->kind == IKV_KIND_POINTER_MOVE ||
            info->family == IKV_FAMILY_WHEEL || info->family == IKV_FAMILY_PEN);
}

static void begin_for_target(ikv_why *why, const ikv_watch *watch, under_way *u)
{
    u->called = comes_by(why, watch->delivery);
    /* What is passed on to others has been looked at when it came. */
    u->on = u->called || !u->passed;
    if (!u->on || u->called)
        return;
    u->miss = (miss){.count = 1, .list = {{.code = IKV_WHY_PATH}}};
    u->miss.list[0].by = u->at;
    find_detour(why, watch, &u->miss);
}

static void end_for_target(ikv_why *why, under_way *u)
{
    if (!u->on)
        return;
    if (u->called) {
        why->called++;
        forget_miss(why, u);
        return;
    }
    find_stop_above(why, u);
    take_miss(why, u);
}

/* ------------------------------------------------------------- an action -- */

miss ikvi_why_press(const ikv_actions *actions, ikv_action_id action,
                    const ikv_event *event)
{
    miss nearest = {.count = 0};
    ikv_binding binding;
    if (ikv_actions_ask(actions, action, event->seat).on)
        return nearest;
    for (uint32_t nth = 0;
         (binding = ikv_actions_binding(actions, action, nth)).bits != 0;
         nth++) {
        miss one = {.binding = binding};
        one.count = kept(
            ikv_actions_probe(actions, binding, event, one.list, IKV_WHY_ROOM));
        if (one.count == 0)
            return one; /* it starts */
        if (one.list[0].code != IKV_WHY_OTHER_INPUT)
            take_nearer(&nearest, &one);
    }
    return nearest;
}

static miss recalled_press(const ikv_why *why)
{
    const past_record *r = why->recalled;
    miss m = {.count = 0};
    if (r->action.bits != why->config.action.bits)
        return m;
    m.count = r->found_count;
    m.binding = r->binding;
    memcpy(m.list, r->found, sizeof r->found);
    return m;
}

static void take_press(ikv_why *why, const ikv_watch *watch)
{
    under_way u = {.event = *watch->event,
                   .at = watch->event->target,
                   .step = why->now_step};
    if (!in_time(why, watch->event))
        return;
    u.miss =
        why->recalled != NULL
            ? recalled_press(why)
            : ikvi_why_press(why->actions, why->config.action, watch->event);
    if (u.miss.count > 0)
        take_miss(why, &u);
}

/* ------------------------------------------------------------- an overlap -- */

enum {
    PIECES = 32 /* of each of the two: not of a whole world */
};

/* A target and what is in it. */
static uint32_t pieces_of(const ikv_why *why, ikv_target top,
                          ikv_target to[PIECES])
{
    uint32_t count = 0;
    ikv_target at = {0};
    to[count++] = top;
    if (why->scene == NULL || !ikv_scene_alive(why->scene, top))
        return count;
    at = top;
    while (count < PIECES &&
           (at = ikv_scene_next(why->scene, top, at)).bits != 0)
        to[count++] = at;
    return count;
}

/* After each step: who of the one's pieces comes nearest to who of the other's. */
static void take_overlaps(ikv_why *why)
{
    ikv_target of_one[PIECES], of_other[PIECES];
    under_way u = {.step = why->now_step};
    miss nearest = {.count = 0};
    u.event.time_ns = why->now_ns;
    if (!in_time(why, &u.event))
        return;
    uint32_t ones = pieces_of(why, why->config.target, of_one);
    uint32_t others = pieces_of(why, why->config.other, of_other);
    bool touches = false;
    for (uint32_t i = 0; i < ones && !touches; i++)
        for (uint32_t k = 0; k < others && !touches; k++) {
            miss one = {.of = of_one[i]};
            one.count = kept(ikv_overlaps_probe(
                why->overlaps, of_one[i], of_other[k], one.list, IKV_WHY_ROOM));
            touches = one.count == 0;
            if (!touches)
                take_nearer(&nearest, &one);
        }
    why->called += touches && !why->touching;
    why->touching = touches;
    u.miss = nearest;
    if (!touches)
        take_miss(why, &u);
}

/* ------------------------------------------------------------- watching -- */

/* Which of all that is watched concerns the action. */
static void watch_action(ikv_why *why, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    if (watch->what == IKV_WATCH_PRESS)
        take_press(why, watch);
    else if (event->kind == IKV_KIND_ACTION_START && in_time(why, event))
        why->called += event->action.action == why->config.action.bits;
}

/* Whether a delivery is of what was asked; most are not. */
static bool is_asked(const ikv_why *why, const ikv_event *event)
{
    switch (why->config.about) {
    case IKV_ASK_HANDLER:
        return hears_kind(why, event->kind) && in_time(why, event);
    case IKV_ASK_TARGET:
        return is_of_pointer(why, event) && in_time(why, event);
    default:
        return false;
    }
}

static void begin_delivery(ikv_why *why, const ikv_watch *watch, under_way *u)
{
    why->now_ns = watch->event->time_ns;
    why->now_step = watch->delivery->step;
    note_past(why, watch);
    if (why->config.about == IKV_ASK_ACTION)
        watch_action(why, watch);
    u->running = NULL;
    u->on = is_asked(why, watch->event);
    if (!u->on)
        return;
    *u = (under_way){.on = true,
                     .event = *watch->event,
                     .at = watch->event->target,
                     .step = watch->delivery->step,
                     .passed = (watch->delivery->flags & IKV_PASSED) != 0};
    if (why->config.about == IKV_ASK_HANDLER)
        probe_handler(why, watch, u);
    else
        begin_for_target(why, watch, u);
}

static void watch_lost(ikv_why *why, const ikv_watch *watch)
{
    if (why->config.about != IKV_ASK_HANDLER ||
        !hears_kind(why, watch->event->kind) || !in_time(why, watch->event))
        return;
    if (watch->what == IKV_WATCH_DEFER) {
        why->deferred = *watch->event;
        why->lane = watch->lane;
    } else {
        take_lost(why, watch,
                  watch->what == IKV_WATCH_DROP ? IKV_WHY_DROPPED
                                                : IKV_WHY_REFUSED);
    }
}

/* The handler that runs now, the innermost; NULL: none, the program did it. */
static const char *who_runs(const ikv_why *why)
{
    for (uint32_t i = WHY_DEPTHS; i-- > 0;)
        if (why->under_way[i].running != NULL)
            return why->under_way[i].running;
    return NULL;
}

/* It was muted, wakes or ends. */
static void watch_change(ikv_why *why, const ikv_watch *watch)
{
    if (watch->subscription.bits != why->config.subscription.bits)
        return;
    why->ended = watch->what == IKV_WATCH_END;
    why->muted = watch->reason == IKV_WHY_MUTED;
    why->reason = watch->reason;
    why->changer = who_runs(why);
    why->changed_ns = why->now_ns;
}

static void watch_run(const ikv_watch *watch, void *user)
{
    ikv_why *why = user;
    const uint32_t apart = IKV_WATCH_REFUSE | IKV_WATCH_DEFER | IKV_WATCH_DROP;
    if (watch->what & (IKV_WATCH_MUTE | IKV_WATCH_END)) {
        watch_change(why, watch);
        return;
    }
    if (watch->what & apart) {
        watch_lost(why, watch);
        return;
    }
    if (watch->what == IKV_WATCH_MERGE) {
        why->merged +=
            hears_kind(why, watch->event->kind) && in_time(why, watch->event);
        return;
    }
    if (watch->what == IKV_WATCH_PRESS) {
        watch_action(why, watch);
        return;
    }
    if (watch->what == IKV_WATCH_OVERLAPS) {
        take_overlaps(why);
        return;
    }
    if (watch->depth == 0 || watch->depth > WHY_DEPTHS)
        return;
    under_way *u = &why->under_way[watch->depth - 1];
    if (watch->what == IKV_WATCH_EVENT)
        begin_delivery(why, watch, u);
    else if (watch->what == IKV_WATCH_DONE &&
             why->config.about == IKV_ASK_TARGET)
        end_for_target(why, u);
    else if (watch->what == IKV_WATCH_DONE)
        end_handler(why, watch, u);
    else
        note_handler(why, watch, u);
}

/* -------------------------------------------------------------- opening -- */

/* Which kinds it listens to, asked of the bus: it may have ended when that is
 * needed. */
static bool list_kinds(ikv_why *why)
{
    const ikv_catalogue *catalogue = ikv_bus_catalogue(why->bus);
    ikv_kind kind = IKV_KIND_NONE, last = IKV_KIND_NONE;
    while ((kind = ikv_catalogue_next(catalogue, kind)) != IKV_KIND_NONE)
        last = kind;
    why->kind_room = last + 1u;
    why->hears = calloc(why->kind_room, sizeof *why->hears);
    if (why->hears == NULL)
        return false;
    while ((kind = ikv_catalogue_next(catalogue, kind)) != IKV_KIND_NONE)
        why->hears[kind] =
            ikvi_kit_hears(why->bus, why->config.subscription, kind);
    return true;
}

/* What a question needs to be told of, by what it is about. */
static uint32_t wants_of(uint32_t about)
{
    static const uint32_t wants[] = {
        [IKV_ASK_HANDLER] =
            IKV_WATCH_ALL & ~(uint32_t)(IKV_WATCH_PRESS | NOT_OF_EVENTS),
        [IKV_ASK_TARGET] = IKV_WATCH_EVENT | IKV_WATCH_RETURN | IKV_WATCH_DONE,
        [IKV_ASK_ACTION] = IKV_WATCH_EVENT | IKV_WATCH_PRESS,
        [IKV_ASK_OVERLAP] = IKV_WATCH_EVENT | IKV_WATCH_OVERLAPS,
    };
    return wants[about];
}

/* Whether what is asked about is there. */
static bool is_there(const ikv_why *why)
{
    const ikv_why_config *config = &why->config;
    switch (config->about) {
    case IKV_ASK_HANDLER:
        return ikv_bus_subscribed(why->bus, config->subscription);
    case IKV_ASK_ACTION:
        return ikv_actions_name(why->actions, config->action) != NULL;
    case IKV_ASK_OVERLAP:
        return ikv_bus_target_alive(why->bus, config->target) &&
               ikv_bus_target_alive(why->bus, config->other);
    default:
        return ikv_bus_target_alive(why->bus, config->target);
    }
}

/* A handler that has ended since: as it was. */
static ikv_status take_ended(ikv_why *why)
{
    const ikv_why_config *config = &why->config;
    const past_record *r =
        config->past != NULL && config->about == IKV_ASK_HANDLER
            ? ikvi_why_ended(config->past, config->subscription)
            : NULL;
    if (r == NULL)
        return IKV_STALE;
    why->targets = calloc(PAST_ABOVE, sizeof *why->targets);
    if (why->targets == NULL || !list_kinds(why))
        return IKV_NO_MEMORY;
    why->target_count = r->above_count;
    memcpy(why->targets, r->above, sizeof r->above);
    for (uint32_t kind = 0; kind < PAST_KINDS && kind < why->kind_room; kind++)
        why->hears[kind] = (r->kinds[kind / 8] >> kind % 8 & 1) != 0;
    why->subject = r->watch.name;
    return IKV_OK;
}

static ikv_status take_subject(ikv_why *why)
{
    const ikv_why_config *config = &why->config;
    uint32_t count = 1;
    bool handler = config->about == IKV_ASK_HANDLER;
    /* a target that has gone may have been hit before */
    bool past = config->about == IKV_ASK_TARGET && config->past != NULL;
    if (!is_there(why) && !past)
        return take_ended(why);
    if (config->about == IKV_ASK_ACTION)
        why->subject = ikv_actions_name(why->actions, config->action);
    if (handler)
        count = ikv_bus_subscription_targets(why->bus, config->subscription,
                                             NULL, 0);
    why->targets = calloc(count + 1u, sizeof *why->targets);
    if (why->targets == NULL || (handler && !list_kinds(why)))
        return IKV_NO_MEMORY;
    why->target_count = count;
    why->targets[0] = config->target;
    if (handler) {
        ikv_bus_subscription_targets(why->bus, config->subscription,
                                     why->targets, count);
        why->subject =
            ikv_bus_subscription_name(why->bus, config->subscription);
    }
    return IKV_OK;
}

void ikvi_why_free(ikv_why *why)
{
    if (why == NULL)
        return;
    free(why->hears);
    free(why->targets);
    free(why);
}

static void recall(const past_record *record, ikv_why *why)
{
    ikv_watch watch = record->watch;
    ikv_delivery delivery = record->delivery;
    delivery.path = record->path;
    /* what has none of them is not looked at for them */
    watch.event = &record->event;
    watch.delivery = &delivery;
    why->recalled = record;
    ikvi_why_told(why, &watch);
    why->recalled = NULL;
}

static void look_back(ikv_why *why)
{
    if (why->config.past != NULL)
        ikvi_why_recall(why->config.past, recall, why);
    /* of overlaps nothing was kept: they are as they are */
    if (why->config.past != NULL && why->config.about == IKV_ASK_OVERLAP)
        take_overlaps(why);
    why->config.past = NULL;
    memset(why->under_way, 0, sizeof why->under_way);
}

static void take_parts(ikv_why *why, ikv_kit *kit)
{
    why->bus = ikv_kit_bus(kit);
    why->scene = ikv_kit_scene(kit);
    why->actions = ikv_kit_actions(kit);
    why->overlaps = ikv_kit_overlaps(kit);
    why->names = (kit_names){.bus = why->bus,
                             .actions = why->actions,
                             .setup = why->config.setup,
                             .target_name = why->config.target_name,
                             .user = why->config.user};
    why->nearest = (ikv_why_answer)IKV_WHY_ANSWER_INIT;
}

ikv_status ikvi_why_make(const ikv_why_config *config, ikv_why **why)
{
    if (config == NULL || why == NULL || config->kit == NULL ||
        config->about < IKV_ASK_HANDLER || config->about > IKV_ASK_OVERLAP ||
        (config->about == IKV_ASK_ACTION &&
         ikv_kit_actions(config->kit) == NULL) ||
        (config->about == IKV_ASK_OVERLAP &&
         ikv_kit_overlaps(config->kit) == NULL))
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    ikv_why *made = calloc(1, sizeof *made);
    if (made == NULL)
        return IKV_NO_MEMORY;
    made->config = *config;
    take_parts(made, config->kit);
    ikv_status status = take_subject(made);
    if (status < 0)
        ikvi_why_free(made);
    else
        *why = made;
    return status;
}

ikv_why *ikvi_why_teller(ikv_kit *kit, const ikv_setup *setup)
{
    ikv_why *made = calloc(1, sizeof *made);
    if (made == NULL)
        return NULL;
    made->config = (ikv_why_config)IKV_WHY_INIT;
    made->config.setup = setup;
    take_parts(made, kit);
    return made;
}

void ikvi_why_told(ikv_why *why, const ikv_watch *watch)
{
    if ((watch->what & wants_of(why->config.about)) != 0)
        watch_run(watch, why);
}

ikv_status ikv_why_open(const ikv_why_config *config, ikv_why **why)
{
    ikv_why *made = NULL;
    ikv_status status =
        why == NULL ? IKV_BAD_ARGUMENT : ikvi_why_make(config, &made);
    if (status == IKV_OK)
        status = ikv_bus_add_watcher(made->bus, wants_of(config->about),
                                     watch_run, made);
    if (status < 0) {
        ikvi_why_free(made);
        return status;
    }
    look_back(made);
    *why = made;
    return IKV_OK;
}

ikv_status ikv_why_close(ikv_why *why)
{
    if (why == NULL)
        return IKV_OK;
    ikv_status status = ikv_bus_remove_watcher(why->bus, watch_run, why);
    if (status == IKV_OK)
        ikvi_why_free(why);
    return status;
}

/* --------------------------------------------------------------- asking -- */

/* If nothing else came as far: what waits on a lane, or that nothing came. */
static void say_what_waits(const ikv_why *why, ikv_why_answer *answer)
{
    ikv_obstacle *o = answer->obstacles;
    bool waits = why->deferred.kind != IKV_KIND_NONE &&
                 ikv_bus_lane_waiting(why->bus, why->lane) > 0;
    if (answer->count > 0 || answer->called > 0)
        return;
    if (why->config.about == IKV_ASK_ACTION &&
        ikv_actions_binding(why->actions, why->config.action, 0).bits == 0)
        o[answer->count++] = (ikv_obstacle){.code = IKV_WHY_UNBOUND};
    else
        o[answer->count++] = (ikv_obstacle){
            .code = waits ? IKV_WHY_WAITING : IKV_WHY_NO_EVENT,
            .name = waits ? ikv_bus_lane_name(why->bus, why->lane) : NULL};
    if (waits) {
        answer->event = why->deferred;
        answer->at = why->deferred.target;
    }
    /* Had one come, it would not have been called either. */
    if (why->ended || why->muted)
        o[answer->count++] = (ikv_obstacle){.code = why->reason,
                                            .name = why->changer,
                                            .since_ns = why->changed_ns};
}

ikv_status ikv_why_ask(const ikv_why *why, ikv_why_answer *answer)
{
    if (why == NULL || answer == NULL)
        return IKV_BAD_ARGUMENT;
    if (answer->size != sizeof *answer)
        return IKV_BAD_SIZE;
    *answer = why->nearest;
    answer->called = why->called;
    answer->missed = why->missed;
    answer->merged = why->merged;
    if (why->called > 0)
        answer->count = 0;
    say_what_waits(why, answer);
    return IKV_OK;
}
