/* trace_decisions.c - what is decided beside calls, in lines of their own; of what
 * an event comes; and at the end what `ikvar why` would answer.
 *
 * An event that is delivered inside a handler comes of the one that was handled,
 * one from a lane of the one that was handled when it was put there, and what the
 * router and the actions make of their cause; what is passed on, of what it was
 * before.
 */
#define _POSIX_C_SOURCE 200809L
#include "trace.h"

#include "../why/why_shared.h"

enum {
    RECENT = 64,   /* events among which a cause is looked for */
    ABOVE = 8,     /* targets at one place */
    ANSWERS = 1000 /* questions; each is some 60 KiB */
};

/* Of what comes each event that waits on a lane, first in, first out: as many as
 * the bus has there, but for one that it has just taken off. */
typedef struct lane {
    uint64_t *causes;
    size_t first, count, room; /* of a ring */
} lane;

/* A subscription that is muted: by whom and since when. */
typedef struct muted {
    ikv_subscription subscription;
    const char *by;
    uint64_t since_ns;
} muted;

struct trace_decisions {
    ikv_why *teller;
    ikv_why *questions[ANSWERS];
    struct {
        const char *about, *name;
    } subjects[ANSWERS];
    uint32_t question_count;
    lane *lanes;
    uint32_t lane_count;
    struct {
        ikv_event event;
        uint64_t number;
    } recent[RECENT];
    uint64_t recent_count;
    muted *muted;
    size_t muted_count, muted_room;
    const char *running[DEPTHS];
    /* What the subscription that was asked is in the way of. */
    ikv_subscription asked;
    ikv_obstacle found[IKV_WHY_ROOM];
    uint32_t found_count;
};

/* ------------------------------------------------------------ questions -- */

static void add_question(ikv_trace *trace, const ikv_why_config *config,
                         const char *about, const char *name)
{
    trace_decisions *d = trace->decisions;
    uint32_t at = d->question_count;
    ikv_status status =
        at < ANSWERS ? ikvi_why_make(config, &d->questions[at]) : IKV_ABSENT;
    trace->failed = trace->failed || status == IKV_NO_MEMORY;
    if (status != IKV_OK)
        return; /* it is not there: a handler that nobody has bound */
    d->subjects[at].about = about;
    d->subjects[at].name = name;
    d->question_count++;
}

static void add_questions(ikv_trace *trace)
{
    const ikv_setup *setup = trace->setup;
    const ikv_actions *actions = ikv_kit_actions(trace->kit);
    ikv_why_config config = IKV_WHY_INIT;
    const char *name;
    config.kit = trace->kit;
    config.setup = setup;
    config.about = IKV_ASK_HANDLER;
    for (uint32_t i = 0;
         (name = ikv_setup_name(setup, IKV_SETUP_HANDLERS, i)) != NULL; i++) {
        config.subscription = ikv_setup_subscription(setup, name);
        add_question(trace, &config, "handler", name);
    }
    config.about = IKV_ASK_ACTION;
    for (uint32_t i = 0;
         actions != NULL &&
         (config.action = ikv_actions_list(actions, i)).bits != 0;
         i++)
        add_question(trace, &config, "action",
                     ikv_actions_name(actions, config.action));
    config.about = IKV_ASK_TARGET;
    for (uint32_t i = 0;
         (name = ikv_setup_name(setup, IKV_SETUP_TARGETS, i)) != NULL; i++) {
        config.target = ikv_setup_target(setup, name);
        add_question(trace, &config, "target", name);
    }
}

void ikvi_trace_decisions_close(trace_decisions *d)
{
    if (d == NULL)
        return;
    for (uint32_t i = 0; i < d->question_count; i++)
        ikvi_why_free(d->questions[i]);
    for (uint32_t i = 0; i < d->lane_count; i++)
        free(d->lanes[i].causes);
    ikvi_why_free(d->teller);
    free(d->lanes);
    free(d->muted);
    free(d);
}

/* ---------------------------------------------------------------- causes -- */

static lane *lane_of(ikv_trace *trace, ikv_lane number)
{
    trace_decisions *d = trace->decisions;
    if (number >= d->lane_count) {
        lane *lanes = realloc(d->lanes, (number + 1u) * sizeof *lanes);
        if (lanes == NULL) {
            trace->failed = true;
            return NULL;
        }
        memset(lanes + d->lane_count, 0,
               (number + 1u - d->lane_count) * sizeof *lanes);
        d->lanes = lanes;
        d->lane_count = number + 1u;
    }
    return &d->lanes[number];
}

static bool make_room(lane *l)
{
    if (l->count < l->room)
        return true;
    size_t room = l->room * 2 + 16;
    uint64_t *causes = malloc(room * sizeof *causes);
    if (causes == NULL)
        return false;
    for (size_t i = 0; i < l->count; i++)
        causes[i] = l->causes[(l->first + i) % l->room];
    free(l->causes);
    *l = (lane){causes, 0, l->count, room};
    return true;
}

static void put_on_lane(ikv_trace *trace, ikv_lane number, uint64_t cause)
{
    lane *l = lane_of(trace, number);
    if (l == NULL || !make_room(l))
        trace->failed = true;
    else
        l->causes[(l->first + l->count++) % l->room] = cause;
}

/* Of what waits on lanes now nothing is known. */
static void take_lanes(ikv_trace *trace)
{
    for (ikv_lane at = 0; ikv_bus_lane_name(trace->bus, at) != NULL; at++) {
        if (at < trace->decisions->lane_count)
            trace->decisions->lanes[at].count = 0;
        for (uint32_t left = ikv_bus_lane_waiting(trace->bus, at); left > 0;
             left--)
            put_on_lane(trace, at, 0);
    }
}

/* If the event that begins, or is dropped, was just taken off a lane: of what it
 * comes. */
static bool take_from_lane(ikv_trace *trace, uint64_t *cause)
{
    trace_decisions *d = trace->decisions;
    for (uint32_t i = 0; i < d->lane_count; i++) {
        lane *l = &d->lanes[i];
        if (l->count <= ikv_bus_lane_waiting(trace->bus, (ikv_lane)i))
            continue;
        *cause = l->causes[l->first];
        l->first = (l->first + 1) % l->room;
        l->count--;
        return true;
    }
    return false;
}

static bool is_same_event(const ikv_event *a, const ikv_event *b)
{
    const size_t payload = offsetof(ikv_event, pointer);
    return a->kind == b->kind && a->time_ns == b->time_ns &&
           a->device == b->device &&
           memcmp((const char *)a + payload, (const char *)b + payload,
                  sizeof *a - payload) == 0;
}

static uint64_t number_of_recent(const trace_decisions *d,
                                 const ikv_event *event)
{
    for (uint64_t back = 1; back <= RECENT && back <= d->recent_count; back++) {
        uint64_t at = (d->recent_count - back) % RECENT;
        if (is_same_event(&d->recent[at].event, event))
            return d->recent[at].number;
    }
    return 0;
}

uint64_t ikvi_trace_cause(ikv_trace *trace, const ikv_watch *watch,
                          uint64_t number)
{
    trace_decisions *d = trace->decisions;
    uint64_t cause = 0;
    bool waited = take_from_lane(trace, &cause);
    if (watch->what == IKV_WATCH_DROP)
        return cause;
    const ikv_delivery *delivery = watch->delivery;
    if (!waited && (delivery->flags & IKV_PASSED) != 0)
        cause = number_of_recent(d, watch->event);
    else if (!waited && delivery->cause != NULL)
        cause = number_of_recent(d, delivery->cause);
    if (!waited && cause == 0)
        cause = ikvi_trace_event(trace, watch->depth - 1);
    uint64_t at = d->recent_count++ % RECENT;
    d->recent[at].event = *watch->event;
    d->recent[at].number = number;
    return cause;
}

bool ikvi_trace_decisions_open(ikv_trace *trace)
{
    trace_decisions *d = calloc(1, sizeof *d);
    trace->decisions = d;
    if (d == NULL)
        return false;
    d->teller = ikvi_why_teller(trace->kit, trace->setup);
    take_lanes(trace);
    if (trace->setup != NULL)
        add_questions(trace);
    return d->teller != NULL && !trace->failed;
}

/* ----------------------------------------------------------------- lines -- */

static const char *who_runs(const trace_decisions *d, uint32_t depth)
{
    for (uint32_t i = depth < DEPTHS ? depth + 1 : DEPTHS; i-- > 0;)
        if (d->running[i] != NULL)
            return d->running[i];
    return NULL;
}

static void begin_line(ikv_trace *trace, const char *decision, uint64_t event)
{
    json_writer *w = &trace->writer;
    ikvi_write_object(w);
    ikvi_write_name(w, "decision");
    ikvi_write_text(w, decision);
    if (event != 0) {
        ikvi_write_name(w, "event");
        ikvi_write_integer(w, (int64_t)event);
    }
    ikvi_write_name(w, "step");
    ikvi_write_integer(w, (int64_t)trace->now_step);
    ikvi_write_name(w, "t");
    ikvi_write_ms(w, trace->now_ns);
}

static void end_line(ikv_trace *trace)
{
    ikvi_trace_end_line(trace, (waiting_line){0});
}

static void write_member(ikv_trace *trace, const char *name, const char *text)
{
    ikvi_write_name(&trace->writer, name);
    ikvi_write_text(&trace->writer, text);
}

static void write_kind(ikv_trace *trace, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(trace->catalogue, event->kind);
    write_member(trace, "kind", info != NULL ? info->name : "unknown");
}

static void write_obstacles(ikv_trace *trace, const ikv_event *event,
                            ikv_binding binding, const ikv_obstacle *list,
                            uint32_t count)
{
    json_writer *w = &trace->writer;
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    answer.event = *event;
    answer.binding = binding;
    ikvi_write_name(w, "obstacles");
    ikvi_write_list(w);
    for (uint32_t i = 0; i < count; i++)
        ikvi_why_write_obstacle(w, trace->decisions->teller, &answer, &list[i]);
    ikvi_write_close_list(w);
}

/* ------------------------------------------------------------- decisions -- */

static uint32_t probe(const ikv_trace *trace, const ikv_watch *watch,
                      ikv_obstacle *to)
{
    uint32_t count =
        ikv_bus_probe(trace->bus, watch->subscription, watch->event,
                      watch->delivery, to, IKV_WHY_ROOM);
    return count < IKV_WHY_ROOM ? count : IKV_WHY_ROOM;
}

static muted *muted_of(const trace_decisions *d, ikv_subscription subscription)
{
    for (size_t i = 0; i < d->muted_count; i++)
        if (d->muted[i].subscription.bits == subscription.bits)
            return &d->muted[i];
    return NULL;
}

/* Passed over, though it was visited. */
static void tell_skip(ikv_trace *trace, const ikv_watch *watch)
{
    trace_decisions *d = trace->decisions;
    const ikv_binding none = {0};
    const muted *m = muted_of(d, watch->subscription);
    if (d->asked.bits != watch->subscription.bits)
        d->found_count = probe(trace, watch, d->found);
    d->asked = (ikv_subscription){0};
    for (uint32_t i = 0; i < d->found_count; i++)
        if (d->found[i].code == IKV_WHY_MUTED && m != NULL) {
            d->found[i].name = m->by;
            d->found[i].since_ns = m->since_ns;
        }
    begin_line(trace, "skip", ikvi_trace_event(trace, watch->depth));
    write_member(trace, "handler", watch->name);
    write_member(trace, "at",
                 ikvi_kit_target(&trace->names, watch->delivery->current));
    write_obstacles(trace, watch->event, none, d->found, d->found_count);
    end_line(trace);
}

/* What a press did not start, of all that it might have started. */
static void tell_press(ikv_trace *trace, const ikv_watch *watch)
{
    const ikv_actions *actions = ikv_kit_actions(trace->kit);
    ikv_action_id action;
    char text[IKV_BINDING_BYTES];
    for (uint32_t nth = 0; (action = ikv_actions_list(actions, nth)).bits != 0;
         nth++) {
        miss m = ikvi_why_press(actions, action, watch->event);
        if (m.count == 0)
            continue;
        begin_line(trace, "press",
                   number_of_recent(trace->decisions, watch->event));
        write_kind(trace, watch->event);
        write_member(trace, "action", ikv_actions_name(actions, action));
        if (ikv_binding_text(actions, m.binding, text, sizeof text) > 0)
            write_member(trace, "binding", text);
        write_obstacles(trace, watch->event, m.binding, m.list, m.count);
        end_line(trace);
    }
}

/* What lies at the place of what a pointer does, if it is more than the one. */
static void tell_hit(ikv_trace *trace, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    const ikv_scene *scene = ikv_kit_scene(trace->kit);
    json_writer *w = &trace->writer;
    ikv_target above[ABOVE];
    ikv_query query = IKV_QUERY_INIT;
    const ikv_kind_info *info =
        ikv_catalogue_info(trace->catalogue, event->kind);
    bool asks = event->kind == IKV_KIND_POINTER_DOWN ||
                event->kind == IKV_KIND_POINTER_MOVE ||
                event->kind == IKV_KIND_POINTER_UP ||
                info->family == IKV_FAMILY_WHEEL;
    if (!asks || scene == NULL || watch->delivery->router == NULL ||
        (watch->delivery->flags & IKV_PASSED) != 0)
        return;
    query.view = event->view;
    query.touch =
        (info->family == IKV_FAMILY_WHEEL ? event->wheel.type
                                          : event->pointer.type) == IKV_TOUCH;
    query.x = event->pointer.x;
    query.y = event->pointer.y;
    uint32_t count = ikv_scene_pick_all(scene, &query, above, ABOVE);
    bool captured =
        ikv_router_has_capture(watch->delivery->router, event, event->target);
    count = count < ABOVE ? count : ABOVE;
    /* of one alone, who has captured the pointer, there is nothing to tell */
    captured = captured && (count == 0 || above[0].bits != event->target.bits);
    if (count < 2 && !captured)
        return;
    begin_line(trace, "hit", ikvi_trace_event(trace, watch->depth));
    ikvi_write_name(w, "there");
    ikvi_write_list(w);
    for (uint32_t i = 0; i < count; i++)
        ikvi_write_text(w, ikvi_kit_target(&trace->names, above[i]));
    ikvi_write_close_list(w);
    if (captured)
        write_member(trace, "captured",
                     ikvi_kit_target(&trace->names, event->target));
    end_line(trace);
}

static void tell_defer(ikv_trace *trace, const ikv_watch *watch)
{
    const char *who = who_runs(trace->decisions, watch->depth);
    begin_line(trace, "defer", ikvi_trace_event(trace, watch->depth));
    write_kind(trace, watch->event);
    write_member(trace, "target",
                 ikvi_kit_target(&trace->names, watch->event->target));
    write_member(trace, "lane", ikv_bus_lane_name(trace->bus, watch->lane));
    if (who != NULL)
        write_member(trace, "by", who);
    end_line(trace);
}

static void tell_merge(ikv_trace *trace, const ikv_watch *watch)
{
    json_writer *w = &trace->writer;
    begin_line(trace, "merge", 0);
    write_kind(trace, watch->event);
    ikvi_write_name(w, "came");
    ikvi_write_ms(w, watch->event->time_ns);
    end_line(trace);
}

static void tell_refuse(ikv_trace *trace, const ikv_watch *watch)
{
    begin_line(trace, "refuse", ikvi_trace_event(trace, watch->depth));
    write_kind(trace, watch->event);
    write_member(trace, "status", ikv_status_name(watch->status));
    write_member(trace, "text", ikv_status_text(watch->status));
    end_line(trace);
}

static void note_muted(ikv_trace *trace, const ikv_watch *watch)
{
    trace_decisions *d = trace->decisions;
    const char *who = who_runs(d, watch->depth);
    muted *m = muted_of(d, watch->subscription);
    if (watch->reason != IKV_WHY_MUTED) {
        if (m != NULL)
            *m = d->muted[--d->muted_count];
        return;
    }
    if (m == NULL && d->muted_count == d->muted_room) {
        size_t room = d->muted_room * 2 + 16;
        muted *grown = realloc(d->muted, room * sizeof *grown);
        trace->failed = trace->failed || grown == NULL;
        if (grown == NULL)
            return;
        d->muted = grown;
        d->muted_room = room;
    }
    m = m != NULL ? m : &d->muted[d->muted_count++];
    *m = (muted){watch->subscription, who, trace->now_ns};
}

static void tell_change(ikv_trace *trace, const ikv_watch *watch)
{
    const char *who = who_runs(trace->decisions, watch->depth);
    const char *what = watch->what == IKV_WATCH_END     ? "end"
                       : watch->reason == IKV_WHY_MUTED ? "mute"
                                                        : "unmute";
    begin_line(trace, what, ikvi_trace_event(trace, watch->depth));
    write_member(trace, "handler", watch->name);
    if (watch->reason == IKV_WHY_LIMIT)
        write_member(trace, "reason", ikv_obstacle_name(watch->reason));
    if (who != NULL)
        write_member(trace, "by", who);
    end_line(trace);
}

static void note_running(trace_decisions *d, const ikv_watch *watch)
{
    if (watch->depth < DEPTHS)
        d->running[watch->depth] =
            watch->what == IKV_WATCH_CALL ? watch->name : NULL;
}

static void note_asked(ikv_trace *trace, const ikv_watch *watch)
{
    trace_decisions *d = trace->decisions;
    d->asked = watch->subscription;
    d->found_count = probe(trace, watch, d->found);
}

static void tell(ikv_trace *trace, const ikv_watch *watch)
{
    switch (watch->what) {
    case IKV_WATCH_EVENT:
        tell_hit(trace, watch);
        break;
    case IKV_WATCH_ASK:
        note_asked(trace, watch);
        break;
    case IKV_WATCH_SKIP:
        tell_skip(trace, watch);
        break;
    case IKV_WATCH_PRESS:
        tell_press(trace, watch);
        break;
    case IKV_WATCH_DEFER:
        tell_defer(trace, watch);
        break;
    case IKV_WATCH_MERGE:
        tell_merge(trace, watch);
        break;
    case IKV_WATCH_REFUSE:
        tell_refuse(trace, watch);
        break;
    case IKV_WATCH_MUTE:
    case IKV_WATCH_END:
        tell_change(trace, watch);
        break;
    default:
        break;
    }
}

/* What later lines rest on: of every event, told or not. */
static void note(ikv_trace *trace, const ikv_watch *watch)
{
    switch (watch->what) {
    case IKV_WATCH_CALL:
    case IKV_WATCH_RETURN:
        note_running(trace->decisions, watch);
        break;
    case IKV_WATCH_DEFER:
        put_on_lane(trace, watch->lane, ikvi_trace_event(trace, watch->depth));
        break;
    case IKV_WATCH_MUTE:
        note_muted(trace, watch);
        break;
    case IKV_WATCH_RESTORE:
        take_lanes(trace);
        break;
    default:
        break;
    }
}

void ikvi_trace_decision(ikv_trace *trace, const ikv_watch *watch, bool told)
{
    trace_decisions *d = trace->decisions;
    for (uint32_t i = 0; i < d->question_count; i++)
        ikvi_why_told(d->questions[i], watch);
    note(trace, watch);
    if (told)
        tell(trace, watch);
}

/* --------------------------------------------------------------- answers -- */

static void tell_answer(ikv_trace *trace, uint32_t nth)
{
    const trace_decisions *d = trace->decisions;
    json_writer *w = &trace->writer;
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    char *text = NULL;
    size_t size = 0;
    FILE *file = open_memstream(&text, &size);
    trace->failed = trace->failed || file == NULL;
    if (file == NULL)
        return;
    ikv_why_ask(d->questions[nth], &answer);
    ikv_status status = ikv_why_print(d->questions[nth], file, IKV_PRINT_TEXT);
    trace->failed =
        fclose(file) != 0 || text == NULL || status < 0 || trace->failed;
    if (!trace->failed) {
        ikvi_write_object(w);
        write_member(trace, "answer", d->subjects[nth].about);
        write_member(trace, "name", d->subjects[nth].name);
        ikvi_write_name(w, "called");
        ikvi_write_integer(w, (int64_t)answer.called);
        ikvi_write_name(w, "missed");
        ikvi_write_integer(w, (int64_t)answer.missed);
        write_member(trace, "text", text);
        end_line(trace);
    }
    free(text);
}

void ikvi_trace_answers(ikv_trace *trace)
{
    for (uint32_t i = 0; i < trace->decisions->question_count; i++)
        tell_answer(trace, i);
}
