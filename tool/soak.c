/* soak.c - ikvar run --soak: input that nobody meant, with faults, and all
 * validators on. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <stdio.h>
#include <time.h>
#include <unistd.h>

typedef struct soak_run {
    const run_plan *plan;
    ikv_setup *setup;
    ikv_port port;
    ikv_kit *kit;
    ikv_recording *recording;
    char tape[4096]; /* what is recorded: a run that fails can be played */
    uint64_t downs, ends;
    const char *broken;
} soak_run;

static double seconds_now(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (double)now.tv_sec + (double)now.tv_nsec / 1e9;
}

static int failed(const char *text)
{
    fprintf(stderr, "ikvar run --soak: %s\n", text);
    return BAD_INPUT;
}

static int open_soak_recording(soak_run *s)
{
    ikv_message message = {"the recording can't be opened"};
    ikv_recording_config config = IKV_RECORDING_INIT;
    if (s->plan->record != NULL)
        snprintf(s->tape, sizeof s->tape, "%s", s->plan->record);
    else
        snprintf(s->tape, sizeof s->tape, "soak-%d.tape.jsonl", s->plan->seed);
    if (is_same_file(s->tape, s->plan->setup))
        return failed("--record: it is the setup");
    config.path = s->tape;
    config.kit = s->kit;
    config.setup = s->setup;
    config.setup_path = s->plan->setup;
    return ikv_recording_open(&config, &s->recording, &message) < 0
               ? failed(message.text)
               : FINE;
}

/* A run that went well is not kept, unless that was asked for. */
static int end_soak_recording(soak_run *s, int code)
{
    ikv_message message = {""};
    bool opened = s->recording != NULL;
    if (ikv_recording_close(s->recording, &message) < 0)
        return failed(message.text);
    if (opened && s->plan->record == NULL && code == FINE)
        remove(s->tape);
    else if (opened)
        printf("  recorded: %s\n", s->tape);
    return code;
}

static int open_soak(soak_run *s)
{
    static const ikv_sim_faults odds = {.lost_release = 300,
                                        .flood = 3,
                                        .unplug = 5,
                                        .blur = 5,
                                        .duplicate = 50,
                                        .late = 50,
                                        .reorder = 50,
                                        .clock_jump = 2};
    ikv_message message;
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    if (ikv_setup_read(s->plan->setup, &s->setup, &message) < 0)
        return failed(message.text);
    sim.seed = (uint32_t)s->plan->seed;
    sim.faults = &odds;
    ikv_setup_view(s->setup, &sim.view_width, &sim.view_height);
    if (ikv_sim_open(&sim, &s->port) < 0)
        return failed("no memory");
    config.loop.frame_hz = (uint32_t)s->plan->frame_hz;
    if (!open_kit(&config, s->setup, &s->port, &s->kit, &message))
        return failed(message.text);
    return open_soak_recording(s);
}

static const char *first_broken(const soak_run *s)
{
    const ikv_kit *kit = s->kit;
    const char *const broken[] = {
        ikv_bus_validate(ikv_kit_bus(kit)),
        ikv_scene_validate(ikv_kit_scene(kit)),
        ikv_router_validate(ikv_kit_router(kit)),
        ikv_queue_validate(ikv_kit_queue(kit)),
        ikv_state_validate(ikv_kit_state(kit)),
        ikv_actions_validate(ikv_kit_actions(kit)),
        ikv_overlaps_validate(ikv_kit_overlaps(kit)),
        ikv_loop_validate(ikv_kit_loop(kit)),
    };
    for (size_t i = 0; i < sizeof broken / sizeof broken[0]; i++)
        if (broken[i] != NULL)
            return broken[i];
    return NULL;
}

/* Downs and ends of pointers, as handlers at the root would hear them. */
static void watch_pairs(const ikv_watch *watch, void *user)
{
    soak_run *s = user;
    if (watch->what != IKV_WATCH_EVENT ||
        (watch->delivery->flags & IKV_PASSED) != 0)
        return;
    ikv_kind kind = watch->event->kind;
    s->downs += kind == IKV_KIND_POINTER_DOWN;
    s->ends += kind == IKV_KIND_POINTER_UP || kind == IKV_KIND_POINTER_CANCEL;
}

static void show_progress(double left, uint64_t frames)
{
    if (isatty(STDERR_FILENO))
        fprintf(stderr, "\r%8.0f s left, %llu frames ", left,
                (unsigned long long)frames);
}

static void run_soak(soak_run *s)
{
    ikv_loop *loop = ikv_kit_loop(s->kit);
    double end = seconds_now() + s->plan->soak_seconds, shown = 0;
    uint64_t frames = 0;
    ikv_bus_add_watcher(ikv_kit_bus(s->kit), IKV_WATCH_EVENT, watch_pairs, s);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        /* after each frame: the fewer steps between it and its cause */
        s->broken = first_broken(s);
        double now = seconds_now();
        double until_ns = s->plan->until_ms * 1e6;
        if (now >= end || s->broken != NULL ||
            (until_ns > 0 && (double)ikv_loop_time_ns(loop) >= until_ns))
            break;
        /* often enough to be seen, and rare enough to cost nothing */
        if (now - shown > 0.2) {
            shown = now;
            show_progress(end - now, frames);
        }
        frames++;
        ikv_loop_end(loop);
    }
    if (isatty(STDERR_FILENO))
        fprintf(stderr, "\r%40s\r", "");
    ikv_bus_remove_watcher(ikv_kit_bus(s->kit), watch_pairs, s);
}

typedef struct soak_row {
    const char *name;
    uint64_t value;
} soak_row;

static bool print_sum(const char *what, uint64_t left, uint64_t right)
{
    printf("  %-44s %12llu = %-12llu %s\n", what, (unsigned long long)left,
           (unsigned long long)right, left == right ? "fine" : "WRONG");
    return left == right;
}

/* What was pushed is somewhere; what went down has ended or is down. */
static bool print_counters(const soak_run *s)
{
    ikv_sim_counts made = IKV_SIM_COUNTS_INIT;
    ikv_queue_counts queue = IKV_QUEUE_COUNTS_INIT;
    ikv_loop_counts loop = IKV_LOOP_COUNTS_INIT;
    ikv_router_counts router = IKV_ROUTER_COUNTS_INIT;
    ikv_bus_counts bus = IKV_BUS_COUNTS_INIT;
    ikv_sim_counters(&s->port, &made);
    ikv_queue_counters(ikv_kit_queue(s->kit), &queue);
    ikv_loop_counters(ikv_kit_loop(s->kit), &loop);
    ikv_router_counters(ikv_kit_router(s->kit), &router);
    ikv_bus_counters(ikv_kit_bus(s->kit), &bus);
    const soak_row rows[] = {{"frames", loop.frames},
                             {"steps", loop.steps},
                             {"deliveries", bus.delivered},
                             {"moves merged", loop.merged},
                             {"late", loop.late},
                             {"devices made up after a loss", loop.resyncs},
                             {"transitions refused by the queue", queue.lost},
                             {"releases lost", made.lost_releases},
                             {"floods of 2,000 moves", made.floods},
                             {"devices unplugged", made.unplugs},
                             {"windows blurred", made.blurs},
                             {"sent twice", made.duplicates},
                             {"sent late", made.late + made.reordered},
                             {"clock jumps", made.clock_jumps},
                             {"meaningless to the router", router.meaningless},
                             {"steps dropped", loop.dropped_steps}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        printf("  %-44s %12llu\n", rows[i].name,
               (unsigned long long)rows[i].value);
    printf("\n");
    bool good = print_sum("made = taken + refused", made.pushed,
                          queue.pushed + made.refused);
    good =
        print_sum("taken = drained + waiting", queue.pushed,
                  queue.drained + ikv_queue_waiting(ikv_kit_queue(s->kit))) &&
        good;
    good = print_sum("drained and made up = routed + merged + left",
                     queue.drained + loop.made_up,
                     loop.routed + loop.merged + loop.waiting + loop.rejected +
                         loop.held_named) &&
           good;
    return print_sum("pointers: downs = ends + down",
                     s->downs + router.downs_outside,
                     s->ends + router.ups_outside + router.pointers_down) &&
           good;
}

int soak(const run_plan *plan)
{
    soak_run s = {.plan = plan};
    int code = open_soak(&s);
    if (code == FINE) {
        run_soak(&s);
        printf("seed %d, %g s:\n", plan->seed, plan->soak_seconds);
        if (!print_counters(&s))
            code = ANSWER_IS_NO;
        if (s.broken != NULL) {
            printf("  broken: %s\n", s.broken);
            code = ANSWER_IS_NO;
        }
    }
    code = end_soak_recording(&s, code);
    ikv_kit_close(s.kit);
    ikv_sim_close(&s.port);
    ikv_setup_close(s.setup);
    return code;
}
