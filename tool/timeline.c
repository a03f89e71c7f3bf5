/* timeline.c - ikvar tape timeline: a run in the JSON form of Trace Events, which
 * general viewers of timings read.
 *
 * Times are this machine's, which plays as fast as it can: what is long took long.
 * When that was on the tape stands beside it.
 */
#include "tool.h"

#include <ikvar/ports.h>

#include <jansson.h>
#include <string.h>

enum {
    DEPTHS = 32,           /* of deliveries */
    SPANS = 2 * DEPTHS + 4 /* with the handlers, a step and a frame around */
};

/* One that has begun. */
typedef struct span {
    double began_us;
    char name[80];
    const char *category;
    json_t *details;
} span;

typedef struct timeline {
    whole_file to;
    FILE *file;
    bool any, lost;
    ikv_kit *kit;
    ikv_setup *setup;
    ikv_port clock;    /* the machine's */
    uint64_t began_ns; /* when the run began */
    uint64_t frames;
    uint64_t step; /* whose span is open */
    bool in_frame, in_step, stepped;
    uint32_t merged, deferred;
    span spans[SPANS];
    int depth;
} timeline;

/* ---------------------------------------------------------------- spans -- */

static double now_us(const timeline *t)
{
    return (double)(t->clock.now(t->clock.state) - t->began_ns) / 1000;
}

/* What is told of all of them; `details` is given away, or NULL. */
static void put(timeline *t, const char *phase, const char *name,
                const char *category, double at_us, double length_us,
                json_t *details)
{
    if (t->lost) {
        json_decref(details);
        return;
    }
    json_t *event = json_object();
    put_json(event, "ph", json_string(phase));
    put_text(event, "name", name);
    put_json(event, "cat", json_string(category));
    put_json(event, "ts", json_real(at_us));
    put_json(event, "pid", json_integer(1));
    put_json(event, "tid", json_integer(1));
    if (length_us >= 0)
        put_json(event, "dur", json_real(length_us));
    if (details != NULL)
        put_json(event, "args", details);
    if (t->any)
        fputc(',', t->file);
    t->any = true;
    t->lost = print_json(t->file, event, false, "tape") != FINE;
}

static void begin(timeline *t, const char *name, const char *category,
                  json_t *details)
{
    if (t->depth < SPANS) {
        span *s = &t->spans[t->depth];
        *s = (span){
            .began_us = now_us(t), .category = category, .details = details};
        snprintf(s->name, sizeof s->name, "%s", name);
    } else {
        json_decref(details);
    }
    t->depth++;
}

/* Written when it ends, with how long it took. */
static void end(timeline *t)
{
    if (t->depth == 0 || --t->depth >= SPANS)
        return;
    span *s = &t->spans[t->depth];
    put(t, "X", s->name, s->category, s->began_us, now_us(t) - s->began_us,
        s->details);
}

/* On the tape, in ms. */
static json_t *time_detail(uint64_t time_ns)
{
    json_t *details = json_object();
    put_json(details, "t", json_real((double)time_ns / 1e6));
    return details;
}

/* -------------------------------------------------------- frames and steps -- */

static void begin_step(timeline *t, uint64_t step)
{
    char name[40];
    /* what comes while it is paused belongs to none */
    bool between = t->stepped && t->step == step;
    snprintf(name, sizeof name, "step %llu", (unsigned long long)step);
    begin(t, between ? "between steps" : name, between ? "between" : "step",
          NULL);
    t->stepped = true;
    t->in_step = true;
    t->step = step;
}

static void end_step(timeline *t)
{
    if (t->in_step)
        end(t);
    t->in_step = false;
}

static void put_counters(timeline *t)
{
    ikv_loop_counts loop = IKV_LOOP_COUNTS_INIT;
    ikv_bus_counts bus = IKV_BUS_COUNTS_INIT;
    ikv_overlaps_counts overlaps = IKV_OVERLAPS_COUNTS_INIT;
    ikv_loop_counters(ikv_kit_loop(t->kit), &loop);
    ikv_bus_counters(ikv_kit_bus(t->kit), &bus);
    json_t *details = json_object();
    put_json(details, "waiting", json_integer(loop.waiting));
    put_json(details, "on lanes", json_integer(bus.waiting));
    put_json(details, "merged", json_integer(t->merged));
    put_json(details, "deferred", json_integer(t->deferred));
    if (ikv_overlaps_counters(ikv_kit_overlaps(t->kit), &overlaps) == IKV_OK)
        put_json(details, "contacts", json_integer(overlaps.contacts));
    put(t, "C", "events", "counters", now_us(t), -1, details);
    t->merged = t->deferred = 0;
}

static void note_moment(void *user, enum run_moment moment)
{
    timeline *t = user;
    char name[40];
    const ikv_loop *loop = ikv_kit_loop(t->kit);
    switch (moment) {
    case RUN_FRAME:
        end_step(t);
        if (t->in_frame)
            end(t);
        t->in_frame = true;
        snprintf(name, sizeof name, "frame %llu",
                 (unsigned long long)t->frames++);
        begin(t, name, "frame", time_detail(ikv_loop_time_ns(loop)));
        break;
    case RUN_FRAME_END:
        end_step(t);
        put_counters(t);
        break;
    }
}

/* --------------------------------------------------------------- dispatches -- */

static const char *name_of(const timeline *t, ikv_target target)
{
    return target.bits == 0 ? "root" : ikv_setup_target_name(t->setup, target);
}

/* The first event of a step is where it begins: its input. */
static void follow_step(timeline *t, const ikv_watch *watch)
{
    uint64_t step = watch->event->kind == IKV_KIND_LOOP_STEP
                        ? watch->event->loop.step
                        : watch->delivery->step;
    if (!t->in_frame || watch->depth > 1 ||
        (!watch->frame_scoped && t->in_step && t->step == step))
        return;
    end_step(t);
    if (!watch->frame_scoped)
        begin_step(t, step);
}

static void begin_event(timeline *t, const ikv_watch *watch)
{
    const ikv_kind_info *info = ikv_catalogue_info(
        ikv_bus_catalogue(ikv_kit_bus(t->kit)), watch->event->kind);
    follow_step(t, watch);
    json_t *details = time_detail(watch->event->time_ns);
    put_text(details, "target", name_of(t, watch->event->target));
    begin(t, info->name, "event", details);
}

static void begin_call(timeline *t, const ikv_watch *watch)
{
    json_t *details = json_object();
    put_text(details, "at", name_of(t, watch->delivery->current));
    begin(t, watch->name[0] != '\0' ? watch->name : "a handler", "handler",
          details);
}

static void watch_run(const ikv_watch *watch, void *user)
{
    timeline *t = user;
    if (watch->depth >= DEPTHS)
        return;
    switch (watch->what) {
    case IKV_WATCH_EVENT:
        begin_event(t, watch);
        break;
    case IKV_WATCH_CALL:
        begin_call(t, watch);
        break;
    case IKV_WATCH_RETURN:
    case IKV_WATCH_DONE:
        end(t);
        break;
    case IKV_WATCH_MERGE:
        t->merged++;
        break;
    case IKV_WATCH_DEFER:
        t->deferred++;
        break;
    default:
        break;
    }
}

/* ------------------------------------------------------------------ the run -- */

static int begin_timeline(void *user, ikv_kit *kit, ikv_setup *setup)
{
    timeline *t = user;
    t->kit = kit;
    t->setup = setup;
    t->clock = ikv_null_port();
    t->began_ns = t->clock.now(t->clock.state);
    fputs("{\"displayTimeUnit\":\"ms\",\"traceEvents\":[\n", t->file);
    return ikv_bus_add_watcher(ikv_kit_bus(kit),
                               IKV_WATCH_EVENT | IKV_WATCH_CALL |
                                   IKV_WATCH_RETURN | IKV_WATCH_DONE |
                                   IKV_WATCH_MERGE | IKV_WATCH_DEFER,
                               watch_run, t) == IKV_OK
               ? FINE
               : BAD_INPUT;
}

static int end_timeline(void *user)
{
    timeline *t = user;
    end_step(t);
    if (t->in_frame)
        end(t);
    fputs("]}\n", t->file);
    ikv_bus_remove_watcher(ikv_kit_bus(t->kit), watch_run, t);
    return FINE;
}

static int fail(const char *path, const char *why)
{
    char shown[512];
    fprintf(stderr, "ikvar tape: %s: %s\n",
            ikv_shown_text(path, shown, sizeof shown), why);
    return BAD_INPUT;
}

int write_timeline(arguments *left, const char *setup, const char *output)
{
    char path[4096];
    ikv_message message;
    timeline t = {.file = NULL};
    const char *tape = next_argument(left);
    if (tape == NULL || left->count > 0) {
        fprintf(stderr, "ikvar tape: timeline: expected one TAPE\n");
        return WRONG_USE;
    }
    if (setup == NULL &&
        (setup = setup_of_tape(tape, path, sizeof path, &message)) == NULL)
        return bad_tape(message.text);
    if (is_same_file(output, tape) || is_same_file(output, setup))
        return fail(output,
                    "it is read in this run: the timeline would destroy it");
    t.file = open_whole(&t.to, output);
    if (t.file == NULL)
        return fail(output, close_whole(&t.to, false));
    run_plan plan = {.command = "tape",
                     .setup = setup,
                     .tape = tape,
                     .begin = begin_timeline,
                     .end = end_timeline,
                     .moment = note_moment,
                     .user = &t};
    int code = run_plan_through(&plan);
    const char *fault =
        close_whole(&t.to, code == FINE && !t.lost && !ferror(t.file));
    if (t.lost)
        return BAD_INPUT;
    if (code == FINE && fault != NULL)
        return fail(output != NULL ? output : "standard output", fault);
    return code;
}
