/* stats.c - all that a kit's parts have counted, as a table or as JSON: what is
 * told of which counter, and in which unit, stands in one table.
 */
#include "../text/write.h"

#include "ikvar/ports.h"
#include "ikvar/stats.h"

#include <stdlib.h>
#include <string.h>

enum {
    BUCKETS = 128 /* of waits: four for each doubling */
};

/* How long each of many waited. */
typedef struct waits {
    uint64_t buckets[BUCKETS];
    uint64_t count;
} waits;

struct ikv_stats {
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_setup *setup;
    uint32_t depth; /* the deepest delivery */
    waits to_frame, to_handler;
    ikv_port clock; /* the machine's: a tape's stands still in a frame */
    ikv_durations durations;
};

/* -------------------------------------------------------------- the table -- */

/* Whose counters. */
enum part {
    OF_LOOP,
    OF_QUEUE,
    OF_ROUTER,
    OF_BUS,
    OF_SCENE,
    OF_ACTIONS,
    OF_OVERLAPS,
    PARTS
};

static const char *const part_names[PARTS] = {
    "loop", "queue", "router", "bus", "scene", "actions", "overlaps"};

/* All of them, as they are now. */
typedef struct all_counts {
    ikv_loop_counts loop;
    ikv_queue_counts queue;
    ikv_router_counts router;
    ikv_bus_counts bus;
    ikv_scene_counts scene;
    ikv_actions_counts actions;
    ikv_overlaps_counts overlaps;
} all_counts;

/* One counter; `most` is where the most that was ever used stands, `capacity`
 * where how much there can be, or 0. What is rare is told if it is not 0. */
typedef struct counter_row {
    enum part part;
    const char *name, *unit;
    size_t at, size, most, capacity;
    bool rare;
} counter_row;

#define AT(path) offsetof(all_counts, path), sizeof(((all_counts *)0)->path)
#define ROW(part, member, name, unit)                                          \
    {                                                                          \
        part, name, unit, AT(member), 0, 0, false                              \
    }
#define RARE(part, member, name, unit)                                         \
    {                                                                          \
        part, name, unit, AT(member), 0, 0, true                               \
    }
#define USED(part, member, name, unit)                                         \
    {                                                                          \
        part, name, unit, AT(member), offsetof(all_counts, member##_high),     \
            offsetof(all_counts, member##_capacity), false                     \
    }

static const counter_row counters[] = {
    ROW(OF_LOOP, loop.frames, "frames", "frames"),
    ROW(OF_LOOP, loop.steps, "steps", "steps"),
    ROW(OF_LOOP, loop.routed, "routed", "events"),
    ROW(OF_LOOP, loop.merged, "merged", "moves"),
    USED(OF_LOOP, loop.waiting, "waiting", "events"),
    RARE(OF_LOOP, loop.rejected, "rejected", "events"),
    RARE(OF_LOOP, loop.bad_values, "bad_values", "events"),
    RARE(OF_LOOP, loop.ahead, "ahead", "events"),
    RARE(OF_LOOP, loop.late, "late", "events"),
    RARE(OF_LOOP, loop.aged, "aged", "events"),
    RARE(OF_LOOP, loop.max_age_ns, "max_age", "ms"),
    RARE(OF_LOOP, loop.dropped_steps, "dropped_steps", "steps"),
    RARE(OF_LOOP, loop.dropped_ns, "dropped", "ms"),
    RARE(OF_LOOP, loop.held_back, "held_back", "drains"),
    RARE(OF_LOOP, loop.resyncs, "resyncs", "devices"),
    RARE(OF_LOOP, loop.idle_ns, "idle", "ms"),
    ROW(OF_QUEUE, queue.pushed, "pushed", "events"),
    ROW(OF_QUEUE, queue.high_water, "high_water", "events"),
    {OF_QUEUE, "shared", "events", AT(queue.shared_high), 0,
     offsetof(all_counts, queue.capacity), false},
    {OF_QUEUE, "own", "events", AT(queue.own_high), 0,
     offsetof(all_counts, queue.own_capacity), false},
    RARE(OF_QUEUE, queue.refused, "refused", "events"),
    RARE(OF_QUEUE, queue.lost, "lost", "transitions"),
    USED(OF_ROUTER, router.pointers, "pointers", "pointers"),
    RARE(OF_ROUTER, router.not_finite, "not_finite", "events"),
    RARE(OF_ROUTER, router.too_many, "too_many", "events"),
    RARE(OF_ROUTER, router.meaningless, "meaningless", "events"),
    RARE(OF_ROUTER, router.outside, "outside", "events"),
    RARE(OF_ROUTER, router.not_passed, "not_passed", "events"),
    ROW(OF_BUS, bus.delivered, "delivered", "events"),
    ROW(OF_BUS, bus.unheard, "unheard", "events"),
    RARE(OF_BUS, bus.too_deep, "too_deep", "events"),
    RARE(OF_BUS, bus.stale, "stale", "events"),
    ROW(OF_BUS, bus.deferred, "deferred", "events"),
    RARE(OF_BUS, bus.defer_refused, "defer_refused", "events"),
    RARE(OF_BUS, bus.dropped, "dropped", "events"),
    RARE(OF_BUS, bus.mailbox_refused, "mailbox_refused", "events"),
    USED(OF_BUS, bus.waiting, "waiting", "events"),
    USED(OF_BUS, bus.subscriptions, "subscriptions", "subscriptions"),
    USED(OF_BUS, bus.entries, "entries", "entries"),
    USED(OF_BUS, bus.targets, "targets", "targets"),
    USED(OF_BUS, bus.conditions, "conditions", "conditions"),
    USED(OF_BUS, bus.gates, "gates", "gates"),
    USED(OF_BUS, bus.timers, "timers", "timers"),
    USED(OF_BUS, bus.payloads, "payloads", "payloads"),
    ROW(OF_SCENE, scene.targets, "targets", "targets"),
    ROW(OF_SCENE, scene.tested, "tested", "candidates"),
    ROW(OF_SCENE, scene.rebuilds, "rebuilds", "rebuilds"),
    USED(OF_ACTIONS, actions.actions, "actions", "actions"),
    USED(OF_ACTIONS, actions.bindings, "bindings", "bindings"),
    ROW(OF_ACTIONS, actions.started, "started", "actions"),
    RARE(OF_ACTIONS, actions.passed_over, "passed_over", "presses"),
    RARE(OF_ACTIONS, actions.overflowed, "overflowed", "presses"),
    ROW(OF_OVERLAPS, overlaps.targets, "targets", "targets"),
    USED(OF_OVERLAPS, overlaps.pairs, "pairs", "pairs"),
    ROW(OF_OVERLAPS, overlaps.touching, "touching", "pairs"),
    {OF_OVERLAPS, "contacts", "contacts", AT(overlaps.contacts), 0,
     offsetof(all_counts, overlaps.contacts_capacity), false},
    RARE(OF_OVERLAPS, overlaps.refused, "refused", "contacts"),
    RARE(OF_OVERLAPS, overlaps.scans, "scans", "steps"),
};

enum {
    COUNTERS = sizeof counters / sizeof counters[0]
};

static all_counts count_all(const ikv_stats *stats)
{
    all_counts c = {IKV_LOOP_COUNTS_INIT,    IKV_QUEUE_COUNTS_INIT,
                    IKV_ROUTER_COUNTS_INIT,  IKV_BUS_COUNTS_INIT,
                    IKV_SCENE_COUNTS_INIT,   IKV_ACTIONS_COUNTS_INIT,
                    IKV_OVERLAPS_COUNTS_INIT};
    ikv_loop_counters(ikv_kit_loop(stats->kit), &c.loop);
    ikv_queue_counters(ikv_kit_queue(stats->kit), &c.queue);
    ikv_router_counters(ikv_kit_router(stats->kit), &c.router);
    ikv_bus_counters(stats->bus, &c.bus);
    /* What the kit lacks counts nothing. */
    ikv_scene_counters(ikv_kit_scene(stats->kit), &c.scene);
    ikv_actions_counters(ikv_kit_actions(stats->kit), &c.actions);
    ikv_overlaps_counters(ikv_kit_overlaps(stats->kit), &c.overlaps);
    return c;
}

static uint64_t value_at(const all_counts *c, size_t at, size_t size)
{
    uint32_t small;
    uint64_t value = 0;
    if (size == 8) {
        memcpy(&value, (const char *)c + at, 8);
        return value;
    }
    memcpy(&small, (const char *)c + at, 4);
    return small;
}

static bool is_told(const counter_row *row, uint64_t value)
{
    return value > 0 || !row->rare;
}

/* Counted in ns, told in ms. */
static bool is_time(const counter_row *row)
{
    return strcmp(row->unit, "ms") == 0;
}

/* ---------------------------------------------------------------- waiting -- */

/* Four buckets for each doubling of us: of 4 to 7 one for each, of 8 to 15 one
 * for each two, and so on. */
static uint32_t bucket_of(uint64_t ns)
{
    uint64_t us = ns / 1000;
    uint32_t bucket = 0;
    for (; us >= 8; us /= 2)
        bucket += 4;
    bucket += (uint32_t)us;
    return bucket < BUCKETS ? bucket : BUCKETS - 1;
}

/* Where a bucket ends, in ns. */
static uint64_t end_of(uint32_t bucket)
{
    uint32_t doubled = bucket < 8 ? 0 : bucket / 4 - 1;
    return ((uint64_t)(bucket - 4 * doubled + 1) << doubled) * 1000;
}

/* Up to how long that many percent waited. */
static uint64_t wait_of(const waits *w, uint32_t percent)
{
    uint64_t wanted = (w->count * percent + 99) / 100, seen = 0;
    for (uint32_t i = 0; i < BUCKETS && w->count > 0; i++) {
        seen += w->buckets[i];
        if (seen >= wanted)
            return end_of(i);
    }
    return 0;
}

static void note_wait(waits *w, uint64_t now, uint64_t stamp)
{
    w->buckets[bucket_of(now > stamp ? now - stamp : 0)]++;
    w->count++;
}

/* From an event's stamp to the frame in which it is delivered, and to each
 * handler that is called. */
static void watch_run(const ikv_watch *watch, void *user)
{
    ikv_stats *stats = user;
    const ikv_loop *loop = ikv_kit_loop(stats->kit);
    if (watch->depth > stats->depth)
        stats->depth = watch->depth;
    if (watch->depth != 1 || watch->delivery->router == NULL)
        return;
    if (watch->what == IKV_WATCH_EVENT)
        note_wait(&stats->to_frame, ikv_loop_time_ns(loop),
                  watch->event->time_ns);
    else
        note_wait(&stats->to_handler, ikv_loop_clock_ns(loop),
                  watch->event->time_ns);
}

static uint64_t machine_clock(void *user)
{
    const ikv_port *clock = user;
    return clock->now(clock->state);
}

ikv_status ikv_stats_open(ikv_kit *kit, const ikv_setup *setup,
                          ikv_stats **stats)
{
    if (kit == NULL || stats == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_stats *made = calloc(1, sizeof *made);
    if (made == NULL)
        return IKV_NO_MEMORY;
    made->kit = kit;
    made->bus = ikv_kit_bus(kit);
    made->setup = setup;
    ikv_status status = ikv_bus_add_watcher(
        made->bus, IKV_WATCH_EVENT | IKV_WATCH_CALL, watch_run, made);
    if (status < 0) {
        free(made);
        return status;
    }
    made->clock = ikv_null_port();
    made->durations = (ikv_durations)IKV_DURATIONS_INIT;
    made->durations.clock = machine_clock;
    made->durations.user = &made->clock;
    ikv_loop_measure(ikv_kit_loop(kit), &made->durations);
    *stats = made;
    return IKV_OK;
}

ikv_status ikv_stats_close(ikv_stats *stats)
{
    if (stats == NULL)
        return IKV_OK;
    ikv_status status = ikv_bus_remove_watcher(stats->bus, watch_run, stats);
    if (status < 0)
        return status;
    ikv_loop_measure(ikv_kit_loop(stats->kit), NULL);
    free(stats);
    return IKV_OK;
}

/* ------------------------------------------------------- kinds and handlers -- */

/* The next kind that was delivered at all. */
static ikv_kind next_kind(const ikv_stats *stats, ikv_kind kind,
                          ikv_kind_counts *counts)
{
    const ikv_catalogue *catalogue = ikv_bus_catalogue(stats->bus);
    while ((kind = ikv_catalogue_next(catalogue, kind)) != IKV_KIND_NONE) {
        *counts = (ikv_kind_counts)IKV_KIND_COUNTS_INIT;
        ikv_bus_kind_counters(stats->bus, kind, counts);
        if (counts->delivered > 0)
            return kind;
    }
    return IKV_KIND_NONE;
}

static const char *name_of(const ikv_stats *stats, ikv_kind kind)
{
    return ikv_catalogue_info(ikv_bus_catalogue(stats->bus), kind)->name;
}

/* Why a handler was skipped, with the obstacle's name. */
static const struct skip_row {
    uint16_t code;
    size_t at;
} skips[] = {
    {IKV_WHY_MUTED, offsetof(ikv_subscription_counts, by_mute)},
    {IKV_WHY_PLACE, offsetof(ikv_subscription_counts, by_place)},
    {IKV_WHY_CONDITION, offsetof(ikv_subscription_counts, by_condition)},
    {IKV_WHY_AFTER, offsetof(ikv_subscription_counts, by_after)},
    {IKV_WHY_AT_MOST, offsetof(ikv_subscription_counts, by_at_most)},
    {IKV_WHY_GAP, offsetof(ikv_subscription_counts, by_gap)},
};

enum {
    SKIPS = sizeof skips / sizeof skips[0]
};

static uint64_t skipped(const ikv_subscription_counts *counts, uint32_t nth)
{
    uint64_t value;
    memcpy(&value, (const char *)counts + skips[nth].at, sizeof value);
    return value;
}

/* The nth handler's name and counters; NULL past the last. What has ended has
 * lost its counters. */
static const char *handler_at(const ikv_stats *stats, uint32_t nth,
                              ikv_subscription_counts *counts, bool *there)
{
    const char *name = ikv_setup_name(stats->setup, IKV_SETUP_HANDLERS, nth);
    *counts = (ikv_subscription_counts)IKV_SUBSCRIPTION_COUNTS_INIT;
    *there = name != NULL &&
             ikv_bus_subscription_counters(
                 stats->bus, ikv_setup_subscription(stats->setup, name),
                 counts) == IKV_OK;
    return name;
}

/* --------------------------------------------------------------- for people -- */

static const char *unit_of(const char *unit, uint64_t value, char *text)
{
    size_t length = strlen(unit), less = 1;
    if (value != 1)
        return unit;
    if (length > 4 && strcmp(unit + length - 4, "sses") == 0)
        less = 2;
    memcpy(text, unit, length - less);
    text[length - less] = '\0';
    return text;
}

static void print_counters(const ikv_stats *stats, FILE *file)
{
    all_counts c = count_all(stats);
    const char *part = "";
    char unit[32];
    for (uint32_t i = 0; i < COUNTERS; i++) {
        const counter_row *row = &counters[i];
        const char *name = part_names[row->part];
        uint64_t value = value_at(&c, row->at, row->size);
        if (!is_told(row, value))
            continue;
        fprintf(file, "%-9s %-20s ", strcmp(name, part) != 0 ? name : "",
                row->name);
        if (is_time(row))
            fprintf(file, "%8s ms", ikvi_number((double)value / 1e6).text);
        else
            fprintf(file, "%8llu %s", (unsigned long long)value,
                    unit_of(row->unit, value, unit));
        if (row->most != 0)
            fprintf(file, ", at most %llu",
                    (unsigned long long)value_at(&c, row->most, row->size));
        if (row->capacity != 0)
            fprintf(file, " of %llu",
                    (unsigned long long)value_at(&c, row->capacity, row->size));
        fprintf(file, "\n");
        /* Handlers that deliver inside handlers. */
        if (row->at == offsetof(all_counts, bus.unheard))
            fprintf(file, "%-9s %-20s %8u deep\n", "", "depth", stats->depth);
        part = name;
    }
}

static void print_lanes(const ikv_stats *stats, FILE *file)
{
    char shown[256];
    const char *name;
    for (ikv_lane lane = 0;
         (name = ikv_bus_lane_name(stats->bus, lane)) != NULL; lane++) {
        ikv_lane_counts counts = IKV_LANE_COUNTS_INIT;
        ikv_bus_lane_counters(stats->bus, lane, &counts);
        fprintf(file,
                "%-9s %-20s %8llu deferred, %llu delivered, %llu dropped, at "
                "most %u waiting\n",
                lane == 0 ? "lanes" : "",
                ikv_shown_text(name, shown, sizeof shown),
                (unsigned long long)counts.deferred,
                (unsigned long long)counts.delivered,
                (unsigned long long)counts.dropped, counts.high_water);
    }
}

static void print_kinds(const ikv_stats *stats, FILE *file)
{
    char shown[256];
    ikv_kind_counts counts;
    const char *first = "kinds";
    for (ikv_kind kind = IKV_KIND_NONE;
         (kind = next_kind(stats, kind, &counts)) != IKV_KIND_NONE; first = "")
        fprintf(file, "%-9s %-20s %8llu delivered, %llu heard by nobody\n",
                first,
                ikv_shown_text(name_of(stats, kind), shown, sizeof shown),
                (unsigned long long)counts.delivered,
                (unsigned long long)counts.unheard);
}

static void print_handlers(const ikv_stats *stats, FILE *file)
{
    char shown[256];
    ikv_subscription_counts counts;
    const char *name;
    bool there;
    for (uint32_t nth = 0;
         (name = handler_at(stats, nth, &counts, &there)) != NULL; nth++) {
        const char *before = "; skipped: ";
        fprintf(file, "%-9s %-20s ", nth == 0 ? "handlers" : "",
                ikv_shown_text(name, shown, sizeof shown));
        if (!there) {
            fprintf(file, "%8s has ended\n", "-");
            continue;
        }
        fprintf(file, "%8llu call%s", (unsigned long long)counts.calls,
                counts.calls == 1 ? "" : "s");
        for (uint32_t i = 0; i < SKIPS; i++) {
            if (skipped(&counts, i) == 0)
                continue;
            fprintf(file, "%s%llu by %s", before,
                    (unsigned long long)skipped(&counts, i),
                    ikv_obstacle_name(skips[i].code));
            before = ", ";
        }
        fprintf(file, "\n");
    }
}

/* What is told in ms of 50 and 99 of a hundred. */
static const struct time_row {
    const char *name, *meaning;
} times[] = {
    {"latency", "from an event's stamp to its frame"},
    {"heard", "from its stamp to a handler, by the clock"},
    {"lateness", "how late a paced frame began"},
    {"frame", "work in a frame, on this machine"},
    {"step", "work in a step, on this machine"},
};

enum {
    TIMES = sizeof times / sizeof times[0]
};

static uint64_t time_of(const ikv_stats *stats, uint32_t row, uint32_t percent)
{
    switch (row) {
    case 0:
        return wait_of(&stats->to_frame, percent);
    case 1:
        return wait_of(&stats->to_handler, percent);
    case 2:
        return ikv_loop_lateness(ikv_kit_loop(stats->kit), percent);
    default:
        return ikv_duration_of(&stats->durations,
                               row == 3 ? IKV_OF_FRAMES : IKV_OF_STEPS,
                               percent);
    }
}

static void print_times(const ikv_stats *stats, FILE *file)
{
    const ikv_durations *d = &stats->durations;
    for (uint32_t i = 0; i < TIMES; i++) {
        fprintf(file, "%-9s %-20s %8s ms, %s\n", times[i].name, "p50",
                ikvi_number((double)time_of(stats, i, 50) / 1e6).text,
                times[i].meaning);
        fprintf(file, "%-9s %-20s %8s ms\n", "", "p99",
                ikvi_number((double)time_of(stats, i, 99) / 1e6).text);
        if (i >= 3)
            fprintf(
                file, "%-9s %-20s %8llu of %llu took longer than %s ms\n", "",
                "over",
                (unsigned long long)(i == 3 ? d->frames_over : d->steps_over),
                (unsigned long long)(i == 3 ? d->frames : d->steps),
                ikvi_number(
                    (double)(i == 3 ? d->frame_budget_ns : d->step_budget_ns) /
                    1e6)
                    .text);
    }
}

/* --------------------------------------------------------------------- JSON -- */

static void write_count(json_writer *w, const char *name, uint64_t value)
{
    ikvi_write_name(w, name);
    ikvi_write_integer(w, (int64_t)value);
}

static void write_counters(json_writer *w, const ikv_stats *stats)
{
    all_counts c = count_all(stats);
    char name[48];
    for (uint32_t part = 0; part < PARTS; part++) {
        ikvi_write_name(w, part_names[part]);
        ikvi_write_object(w);
        for (uint32_t i = 0; i < COUNTERS; i++) {
            const counter_row *row = &counters[i];
            uint64_t value = value_at(&c, row->at, row->size);
            if (row->part != part)
                continue;
            if (is_time(row)) {
                snprintf(name, sizeof name, "%s_ms", row->name);
                ikvi_write_name(w, name);
                ikvi_write_ms(w, value);
                continue;
            }
            write_count(w, row->name, value);
            snprintf(name, sizeof name, "%s_high", row->name);
            if (row->most != 0)
                write_count(w, name, value_at(&c, row->most, row->size));
            snprintf(name, sizeof name, "%s_capacity", row->name);
            if (row->capacity != 0)
                write_count(w, name, value_at(&c, row->capacity, row->size));
        }
        if (part == OF_BUS)
            write_count(w, "depth", stats->depth);
        ikvi_write_close_object(w);
    }
}

static void write_lanes(json_writer *w, const ikv_stats *stats)
{
    const char *name;
    ikvi_write_name(w, "lanes");
    ikvi_write_object(w);
    for (ikv_lane lane = 0;
         (name = ikv_bus_lane_name(stats->bus, lane)) != NULL; lane++) {
        ikv_lane_counts counts = IKV_LANE_COUNTS_INIT;
        ikv_bus_lane_counters(stats->bus, lane, &counts);
        ikvi_write_name(w, name);
        ikvi_write_object(w);
        write_count(w, "deferred", counts.deferred);
        write_count(w, "delivered", counts.delivered);
        write_count(w, "dropped", counts.dropped);
        write_count(w, "waiting_high", counts.high_water);
        ikvi_write_close_object(w);
    }
    ikvi_write_close_object(w);
}

static void write_kinds(json_writer *w, const ikv_stats *stats)
{
    ikv_kind_counts counts;
    ikvi_write_name(w, "kinds");
    ikvi_write_object(w);
    for (ikv_kind kind = IKV_KIND_NONE;
         (kind = next_kind(stats, kind, &counts)) != IKV_KIND_NONE;) {
        ikvi_write_name(w, name_of(stats, kind));
        ikvi_write_object(w);
        write_count(w, "delivered", counts.delivered);
        write_count(w, "unheard", counts.unheard);
        ikvi_write_close_object(w);
    }
    ikvi_write_close_object(w);
}

static void write_handlers(json_writer *w, const ikv_stats *stats)
{
    ikv_subscription_counts counts;
    const char *name;
    bool there;
    ikvi_write_name(w, "handlers");
    ikvi_write_object(w);
    for (uint32_t nth = 0;
         (name = handler_at(stats, nth, &counts, &there)) != NULL; nth++) {
        ikvi_write_name(w, name);
        if (!there) {
            ikvi_write_null(w);
            continue;
        }
        ikvi_write_object(w);
        write_count(w, "calls", counts.calls);
        for (uint32_t i = 0; i < SKIPS; i++)
            write_count(w, ikv_obstacle_name(skips[i].code),
                        skipped(&counts, i));
        ikvi_write_close_object(w);
    }
    ikvi_write_close_object(w);
}

static void write_times(json_writer *w, const ikv_stats *stats)
{
    const ikv_durations *d = &stats->durations;
    char name[32];
    for (uint32_t i = 0; i < TIMES; i++) {
        snprintf(name, sizeof name, "%s_ms", times[i].name);
        ikvi_write_name(w, name);
        ikvi_write_object(w);
        ikvi_write_name(w, "p50");
        ikvi_write_ms(w, time_of(stats, i, 50));
        ikvi_write_name(w, "p99");
        ikvi_write_ms(w, time_of(stats, i, 99));
        if (i >= 3) {
            write_count(w, "measured", i == 3 ? d->frames : d->steps);
            write_count(w, "over", i == 3 ? d->frames_over : d->steps_over);
            ikvi_write_name(w, "budget");
            ikvi_write_ms(w, i == 3 ? d->frame_budget_ns : d->step_budget_ns);
            ikvi_write_name(w, "max");
            ikvi_write_ms(w, i == 3 ? d->max_frame_ns : d->max_step_ns);
        }
        ikvi_write_close_object(w);
    }
}

static bool print_json(const ikv_stats *stats, FILE *file)
{
    json_writer w;
    ikvi_write_begin(&w, file, true);
    ikvi_write_object(&w);
    write_counters(&w, stats);
    write_lanes(&w, stats);
    write_kinds(&w, stats);
    write_handlers(&w, stats);
    write_times(&w, stats);
    ikvi_write_close_object(&w);
    ikvi_write_end(&w);
    return !w.failed;
}

ikv_status ikv_stats_print(const ikv_stats *stats, void *file, uint32_t form)
{
    if (stats == NULL || file == NULL || form > IKV_PRINT_JSON)
        return IKV_BAD_ARGUMENT;
    bool whole = true;
    if (form == IKV_PRINT_JSON) {
        whole = print_json(stats, file);
    } else {
        print_counters(stats, file);
        print_lanes(stats, file);
        print_kinds(stats, file);
        print_handlers(stats, file);
        print_times(stats, file);
    }
    return whole && ferror((FILE *)file) == 0 ? IKV_OK : IKV_BAD_FILE;
}
