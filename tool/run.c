/* run.c - ikvar run: rehearses a setup with a tape, or live. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* Everything that a run opens. */
typedef struct rehearsal {
    const run_plan *plan;
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_port port;
    ikv_kit *kit;
    run_log *log;
    ikv_trace *trace;
    ikv_stats *stats;
    ikv_recording *recording;
    ikv_comparison *comparison;
    struct stat taken, seen; /* the setup, when it was read, and a frame ago */
    bool reloaded;
} rehearsal;

/* "run", or who has a run made. */
static const char *speaker(const run_plan *plan)
{
    return plan->command != NULL ? plan->command : "run";
}

static int say(const run_plan *plan, int code, const char *text)
{
    fprintf(stderr, "ikvar %s: %s\n", speaker(plan), text);
    return code;
}

static const char *port_name(const run_plan *plan)
{
    if (plan->port != NULL)
        return plan->port;
    /* a tape is played; else somebody is there */
    return plan->tape != NULL ? "sim" : "terminal";
}

static int open_sim(rehearsal *r)
{
    ikv_message message;
    ikv_sim_config config = IKV_SIM_INIT;
    if (r->plan->tape == NULL)
        return say(r->plan, WRONG_USE,
                   "the sim port plays a tape: give SETUP TAPE");
    if (ikv_tape_open(r->plan->tape, r->setup, &r->tape, &message) < 0)
        return say(r->plan, BAD_INPUT, message.text);
    config.tape = r->tape;
    config.speed = (float)r->plan->speed;
    config.until_ns = (uint64_t)(r->plan->until_ms * 1e6);
    return ikv_sim_open(&config, &r->port) < 0
               ? say(r->plan, BAD_INPUT, "no memory")
               : FINE;
}

/* A tape that was recorded means the steps of its loop. */
static int check_rate(const rehearsal *r)
{
    ikv_tape_info info = ikv_tape_about(r->tape);
    uint32_t num, den;
    ikv_loop_rate(ikv_kit_loop(r->kit), &num, &den);
    /* written by hand, it means any steps */
    if (info.step_num == 0 ||
        (uint64_t)info.step_num * den == (uint64_t)num * info.step_den)
        return FINE;
    fprintf(stderr,
            "ikvar %s: %s: recorded at %u steps in %u s, but the setup has %u "
            "in %u s\n",
            speaker(r->plan), r->plan->tape, info.step_num, info.step_den, num,
            den);
    return BAD_INPUT;
}

static int open_terminal(rehearsal *r)
{
    ikv_message message;
    ikv_terminal_config config = IKV_TERMINAL_INIT;
    ikv_setup_view(r->setup, &config.view_width, &config.view_height);
    ikv_status status = ikv_terminal_open(&config, &r->port, &message);
    return status < 0 ? say(r->plan, BAD_INPUT, message.text) : FINE;
}

static int open_port(rehearsal *r)
{
    const char *name = port_name(r->plan);
    if (strcmp(name, "sim") == 0)
        return open_sim(r);
    /* others make their own times */
    if (r->plan->tape != NULL)
        return say(r->plan, WRONG_USE,
                   "a tape is played by the sim port alone");
    if (strcmp(name, "terminal") == 0)
        return open_terminal(r);
    if (strcmp(name, "null") != 0)
        return say(r->plan, WRONG_USE,
                   "--port: expected sim, terminal or null");
    if (r->plan->until_ms <= 0)
        return say(r->plan, WRONG_USE,
                   "the null port never ends: give --until");
    r->port = ikv_null_port();
    return FINE;
}

void print_report(const ikv_report *report, void *user)
{
    static const char *const levels[] = {"note", "warning", "error"};
    (void)user;
    fprintf(stderr, "%s: %s: %s%s%s\n", report->module, levels[report->level],
            report->text, report->status != IKV_OK ? ": " : "",
            report->status != IKV_OK ? ikv_status_name(report->status) : "");
}

bool open_kit(ikv_kit_config *config, ikv_setup *setup, const ikv_port *port,
              ikv_kit **kit, ikv_message *message)
{
    config->memory = ikv_host_memory();
    config->ports = port;
    config->port_count = 1;
    /* what was recorded elsewhere may bring along as much as there can be */
    config->queue.block_bytes = 16384;
    /* as large as the setup needs it */
    ikv_setup_size(setup, config);
    ikv_status status = ikv_kit_open(config, kit);
    if (status == IKV_OK)
        return ikv_setup_apply(setup, *kit, IKV_APPLY_UNBOUND, message) >= 0;
    snprintf(message->text, sizeof message->text, "the kit: %s: %s",
             ikv_status_name(status), ikv_status_text(status));
    return false;
}

/* For what is written into the setup while it runs. */
static void leave_room(ikv_kit_config *config)
{
    config->bus.targets = config->bus.subscriptions = 8192;
    config->bus.entries = config->bus.conditions = 32768;
    config->bus.name_bytes = config->actions.name_bytes = 1 << 20;
    config->scene.layers = 16;
    config->scene.polygons = 1024;
    config->actions.sets = 64;
    config->actions.actions = 1024;
    config->actions.bindings = 4096;
}

static int open_rehearsal(rehearsal *r)
{
    ikv_message message;
    ikv_kit_config config = IKV_KIT_INIT;
    config.reporter.report = print_report;
    config.loop.frame_hz = (uint32_t)r->plan->frame_hz;
    config.bus.statistics = r->plan->stats;
    if (r->plan->reload)
        leave_room(&config);
    if (r->tape != NULL && ikv_tape_about(r->tape).at_frame)
        config.loop.timing = IKV_AT_FRAME;
    if (!open_kit(&config, r->setup, &r->port, &r->kit, &message))
        return say(r->plan, BAD_INPUT, message.text);
    return check_rate(r);
}

/* What is read must not be written over. */
static int check_output(const rehearsal *r)
{
    const char *part = r->plan->record,
               *read[] = {r->plan->setup, r->plan->tape};
    char growing[4096];
    /* a recording grows under this name */
    snprintf(growing, sizeof growing, "%s.part", part);
    for (int i = 0; i < 2; i++)
        if (is_same_file(read[i], part) || is_same_file(read[i], growing)) {
            fprintf(stderr,
                    "ikvar run: %s: it is read in this run: the recording "
                    "would destroy it\n",
                    part);
            return BAD_INPUT;
        }
    return FINE;
}

static int open_recording(rehearsal *r)
{
    ikv_message message = {"the recording can't be opened"};
    ikv_recording_config config = IKV_RECORDING_INIT;
    config.path = r->plan->record;
    config.kit = r->kit;
    config.setup = r->setup;
    config.setup_path = r->plan->setup;
    return ikv_recording_open(&config, &r->recording, &message) < 0
               ? say(r->plan, BAD_INPUT, message.text)
               : FINE;
}

/* Live, each line is seen as it comes, and a reader that goes ends the run as
 * anything else does. */
static void open_pipe(const rehearsal *r)
{
    if (r->tape == NULL)
        setvbuf(stdout, NULL, _IOLBF, BUFSIZ);
    signal(SIGPIPE, SIG_IGN);
}

static uint32_t trace_flags(const run_plan *plan)
{
    return (plan->steps_only ? IKV_TRACE_STEPS : 0u) |
           (plan->heard_only ? IKV_TRACE_HEARD : 0u) |
           (plan->scene ? IKV_TRACE_SCENE : 0u) |
           (plan->decisions ? IKV_TRACE_DECISIONS : 0u);
}

/* Who is told of the run. */
static int open_listener(rehearsal *r)
{
    if (r->plan->digest)
        return FINE;
    if (r->plan->begin != NULL)
        return r->plan->begin(r->plan->user, r->kit, r->setup);
    if (r->plan->stats)
        return ikv_stats_open(r->kit, r->setup, &r->stats) < 0
                   ? say(r->plan, BAD_INPUT, "no memory")
                   : FINE;
    if (r->plan->json)
        return ikv_trace_open(stdout, r->kit, r->setup, trace_flags(r->plan),
                              &r->trace) < 0
                   ? say(r->plan, BAD_INPUT, "no memory")
                   : FINE;
    r->log = log_open(stdout, r->kit, r->setup, is_coloured(stdout));
    return r->log != NULL ? FINE : say(r->plan, BAD_INPUT, "no memory");
}

/* The recording last: once it is open it is closed as what was recorded. */
static int open_output(rehearsal *r)
{
    open_pipe(r);
    int code = r->plan->record != NULL ? check_output(r) : FINE;
    if (code != FINE)
        return code;
    /* the tape's digests are compared whatever is printed */
    if (r->tape != NULL &&
        ikv_comparison_open(r->kit, r->tape, &r->comparison) < 0)
        return say(r->plan, BAD_INPUT, "no memory");
    code = open_listener(r);
    return code == FINE && r->plan->record != NULL ? open_recording(r) : code;
}

static void tell_moment(const rehearsal *r, enum run_moment moment)
{
    if (r->plan->moment != NULL)
        r->plan->moment(r->plan->user, moment);
}

/* On a terminal, where all that is seen comes at the end: how far it is. */
static void show_progress(const rehearsal *r, uint64_t frame, bool ends)
{
    enum {
        OFTEN = 2000
    };
    if (r->plan->begin == NULL || frame < OFTEN || !isatty(STDERR_FILENO))
        return;
    if (ends)
        fprintf(stderr, "\r%28s\r", "");
    else if (frame % OFTEN == 0)
        fprintf(stderr, "\r%10.1f s of the tape",
                (double)ikv_loop_time_ns(ikv_kit_loop(r->kit)) / 1e9);
}

static bool is_same_stamp(const struct stat *a, const struct stat *b)
{
    return a->st_ino == b->st_ino && a->st_size == b->st_size &&
           a->st_mtim.tv_sec == b->st_mtim.tv_sec &&
           a->st_mtim.tv_nsec == b->st_mtim.tv_nsec;
}

/* Takes the setup in anew once it has changed and rests, so that one that is
 * still being written is left alone for a frame. */
static void look_at_setup(rehearsal *r)
{
    struct stat now;
    /* an editor may have taken it away, to put another in its place */
    if (stat(r->plan->setup, &now) != 0)
        return;
    bool rests = is_same_stamp(&now, &r->seen);
    r->seen = now;
    if (!rests || is_same_stamp(&now, &r->taken))
        return;
    r->taken = now;
    ikv_message message;
    if (ikv_setup_reload(r->setup, r->kit, NULL, IKV_APPLY_UNBOUND, &message) <
        0) {
        say(r->plan, BAD_INPUT, message.text);
        return;
    }
    r->reloaded = true;
    fprintf(stderr, "ikvar %s: %s: reloaded: %s\n", speaker(r->plan),
            r->plan->setup, message.text);
}

static void run_loop(rehearsal *r)
{
    ikv_loop *loop = ikv_kit_loop(r->kit);
    uint64_t frames = 0;
    double until_ns = r->plan->until_ms * 1e6;
    for (;;) {
        tell_moment(r, RUN_FRAME);
        if (r->plan->reload)
            look_at_setup(r);
        if (!ikv_loop_begin(loop))
            break;
        show_progress(r, ++frames, false);
        while (ikv_loop_step(loop)) {
        }
        /* a live run has no other end than this, or the window's */
        bool whole = until_ns > 0 && (double)ikv_loop_time_ns(loop) >= until_ns;
        if (whole || ferror(stdout)) /* nobody reads the log any more */
            ikv_loop_quit(loop);
        tell_moment(r, RUN_FRAME_END);
        ikv_loop_end(loop);
    }
    show_progress(r, frames, true);
}

static void close_all(rehearsal *r)
{
    ikv_kit_close(r->kit);
    if (strcmp(port_name(r->plan), "sim") == 0)
        ikv_sim_close(&r->port);
    else if (strcmp(port_name(r->plan), "terminal") == 0)
        ikv_terminal_close(&r->port);
    ikv_tape_close(r->tape);
    ikv_setup_close(r->setup);
}

/* What was opened before something else failed: nothing of it is said. */
static void give_output_up(const rehearsal *r)
{
    (void)ikv_trace_close(r->trace);
    ikv_stats_close(r->stats);
    log_close(r->log);
    (void)ikv_comparison_close(r->comparison);
}

/* What the digests on the tape say of the run, and its own. */
static int end_comparison(rehearsal *r)
{
    bool played = r->comparison != NULL;
    ikv_comparison_result result = ikv_comparison_close(r->comparison);
    if (r->plan->digest && played)
        printf("%016llx %llu\n", (unsigned long long)result.digest,
               (unsigned long long)result.deliveries);
    if (result.old)
        fprintf(stderr,
                "ikvar %s: %s: its digests are of an older version of tapes "
                "(ikvar.tape/1): they are not compared\n",
                speaker(r->plan), r->plan->tape);
    /* cut off with --until, or with another setup, it can't be the same */
    if (!result.differs || r->plan->until_ms > 0 || r->reloaded)
        return FINE;
    fprintf(stderr,
            "ikvar %s: this run differs from the recorded one, first after "
            "step %llu\n",
            speaker(r->plan), (unsigned long long)result.from_step);
    return ANSWER_IS_NO;
}

int run_plan_through(const run_plan *plan)
{
    rehearsal r = {.plan = plan};
    ikv_message message;
    /* before it is read, so that no change goes unseen */
    (void)stat(plan->setup, &r.taken);
    if (ikv_setup_read(plan->setup, &r.setup, &message) < 0)
        return say(plan, BAD_INPUT, message.text);
    int code = open_port(&r);
    if (code == FINE)
        code = open_rehearsal(&r);
    if (code == FINE)
        code = open_output(&r);
    if (code == FINE) {
        run_loop(&r);
        if (plan->end != NULL)
            code = plan->end(plan->user);
        if (r.stats != NULL &&
            ikv_stats_print(r.stats, stdout,
                            plan->json ? IKV_PRINT_JSON : IKV_PRINT_TEXT) < 0)
            code = say(plan, BAD_INPUT, "can't write the statistics");
        ikv_stats_close(r.stats);
        log_close(r.log);
        if (ikv_trace_close(r.trace) < 0)
            code = say(plan, BAD_INPUT, "can't write the trace");
        /* before the kit that it listens to */
        if (ikv_recording_close(r.recording, &message) < 0)
            code = say(plan, BAD_INPUT, message.text);
        /* what could not be written is worse than what differs */
        int same = end_comparison(&r);
        code = code == FINE ? same : code;
        if (r.tape != NULL && ikv_sim_fault(&r.port) != NULL)
            code = say(plan, BAD_INPUT, ikv_sim_fault(&r.port));
        warn_of_tape(speaker(plan), r.tape);
    } else {
        give_output_up(&r);
    }
    close_all(&r);
    return code;
}

static int check_plan(const run_plan *plan, bool more)
{
    if (plan->stats && (plan->digest || plan->steps_only || plan->heard_only))
        return say(plan, WRONG_USE,
                   "--stats prints counters: not with --digest, --steps-only, "
                   "--heard");
    if (plan->setup == NULL || more)
        return say(plan, WRONG_USE,
                   "expected SETUP [TAPE]; see ikvar run --help");
    if ((plan->scene || plan->decisions) && !plan->json)
        return say(plan, WRONG_USE,
                   "--scene and --decisions add lines to a trace: give --json "
                   "too");
    if (plan->reload && (plan->digest || plan->decisions || plan->stats ||
                         plan->record != NULL || plan->soak_seconds > 0))
        return say(plan, WRONG_USE,
                   "--reload changes the run while it runs: not with --record, "
                   "--digest, --stats, --decisions, --soak");
    if (plan->soak_seconds <= 0)
        return FINE;
    if (plan->tape != NULL || plan->port != NULL)
        return say(plan, WRONG_USE,
                   "--soak makes its input up: give SETUP alone");
    if (plan->json || plan->steps_only || plan->digest || plan->stats ||
        plan->speed > 0)
        return say(plan, WRONG_USE,
                   "--soak prints sums and runs as fast as it can: "
                   "not with --json, --steps-only, --digest, --stats, "
                   "--real-time, --speed");
    return FINE;
}

int run_command(int argc, char **argv)
{
    bool real_time = false;
    int code;
    arguments left;
    run_plan plan = {.seed = 1};
    const option_row options[] = {
        {"port", 'p', OPTION_TEXT, &plan.port, "NAME",
         "where input comes from: sim (a tape), terminal (live), null", 0, 0},
        {"record", 'R', OPTION_TEXT, &plan.record, "TAPE",
         "write a tape of what comes in, live input too", 0, 0},
        {"json", 'j', OPTION_FLAG, &plan.json, NULL,
         "write a trace instead of the log", 0, 0},
        {"heard", 'H', OPTION_FLAG, &plan.heard_only, NULL,
         "leave out of a trace what no handler heard", 0, 0},
        {"scene", '\0', OPTION_FLAG, &plan.scene, NULL,
         "add to a trace what is drawn, frame by frame", 0, 0},
        {"decisions", '\0', OPTION_FLAG, &plan.decisions, NULL,
         "add to a trace what was decided beside calls, what an event\ncomes "
         "of, and why's answers",
         0, 0},
        {"steps-only", 'S', OPTION_FLAG, &plan.steps_only, NULL,
         "leave out of a trace what belongs to frames", 0, 0},
        {"stats", 't', OPTION_FLAG, &plan.stats, NULL,
         "print what has been counted instead of the log; with --json as\n"
         "JSON",
         0, 0},
        {"digest", 'd', OPTION_FLAG, &plan.digest, NULL,
         "print the run's digest and number of deliveries alone", 0, 0},
        {"real-time", 'r', OPTION_FLAG, &real_time, NULL,
         "play the tape at its own speed, not as fast as possible", 0, 0},
        {"speed", 's', OPTION_NUMBER, &plan.speed, "FACTOR",
         "play the tape so many times as fast as it was recorded", 0.001, 1e6},
        {"until", 'u', OPTION_NUMBER, &plan.until_ms, "MS",
         "end after so many milliseconds", 0, 1e10},
        {"frame-hz", 'f', OPTION_WHOLE, &plan.frame_hz, "N",
         "frames a second; 0: as the setup says", 0, 1e6},
        {"reload", '\0', OPTION_FLAG, &plan.reload, NULL,
         "take the setup in anew whenever its file changes; what it says as\n"
         "before stays as it is by then",
         0, 0},
        {"soak", '\0', OPTION_NUMBER, &plan.soak_seconds, "SECONDS",
         "made-up input and faults, validators on, for so long; a\n"
         "run that fails is kept as a tape",
         0, 1e6},
        {"seed", '\0', OPTION_WHOLE, &plan.seed, "N", "of a soak (1)", 1,
         2147483647},
        {0}};
    if (!parse_options(argc, argv, options,
                       "run [options] SETUP [TAPE]\n\nWithout a tape the "
                       "terminal's own mouse and keys are the input; Ctrl-C "
                       "ends.",
                       &left, &code))
        return code;
    plan.setup = next_argument(&left);
    plan.tape = next_argument(&left);
    /* the two can be given together: the number says more */
    if (real_time && plan.speed == 0)
        plan.speed = 1;
    code = check_plan(&plan, left.count > 0);
    if (code != FINE)
        return code;
    return plan.soak_seconds > 0 ? soak(&plan) : run_plan_through(&plan);
}
