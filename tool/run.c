/* run.c - ikvar run: rehearses a setup with a tape, or live. */
#include "tool.h"

#include <stdlib.h>
#include <string.h>
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
    ikv_recording *recording;
    ikv_comparison *comparison;
} rehearsal;

static int say(int code, const char *text)
{
    fprintf(stderr, "ikvar run: %s\n", text);
    return code;
}

static const char *port_name(const run_plan *plan)
{
    if (plan->port != NULL)
        return plan->port;
    return plan->tape != NULL ? "sim" : "terminal";
}

static int open_sim(rehearsal *r)
{
    ikv_message message;
    ikv_sim_config config = IKV_SIM_INIT;
    if (r->plan->tape == NULL)
        return say(WRONG_USE, "the sim port plays a tape: give SETUP TAPE");
    if (ikv_tape_open(r->plan->tape, r->setup, &r->tape, &message) < 0)
        return say(BAD_INPUT, message.text);
    config.tape = r->tape;
    config.speed = (float)r->plan->speed;
    config.until_ns = (uint64_t)(r->plan->until_ms * 1e6);
    return ikv_sim_open(&config, &r->port) < 0
               ? say(WRONG_USE, "--speed: expected a number from 0 to 1e6")
               : FINE;
}

/* A tape that was recorded means the steps of its loop. */
static int check_rate(const rehearsal *r)
{
    ikv_tape_info info = ikv_tape_about(r->tape);
    uint32_t num, den;
    ikv_loop_rate(ikv_kit_loop(r->kit), &num, &den);
    if (info.step_num == 0 ||
        (uint64_t)info.step_num * den == (uint64_t)num * info.step_den)
        return FINE;
    fprintf(stderr,
            "ikvar run: %s: recorded at %u steps in %u s, but the setup has %u "
            "in %u s\n",
            r->plan->tape, info.step_num, info.step_den, num, den);
    return BAD_INPUT;
}

static int open_terminal(rehearsal *r)
{
    ikv_message message;
    ikv_terminal_config config = IKV_TERMINAL_INIT;
    ikv_setup_view(r->setup, &config.view_width, &config.view_height);
    ikv_status status = ikv_terminal_open(&config, &r->port, &message);
    return status < 0 ? say(BAD_INPUT, message.text) : FINE;
}

static int open_port(rehearsal *r)
{
    const char *name = port_name(r->plan);
    if (strcmp(name, "sim") == 0)
        return open_sim(r);
    if (r->plan->tape != NULL)
        return say(WRONG_USE, "a tape is played by the sim port alone");
    if (strcmp(name, "terminal") == 0)
        return open_terminal(r);
    if (strcmp(name, "null") != 0)
        return say(WRONG_USE, "--port: expected sim, terminal or null");
    if (r->plan->until_ms <= 0)
        return say(WRONG_USE, "the null port never ends: give --until");
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

static int open_kit(rehearsal *r)
{
    ikv_message message = {"the kit can't be opened"};
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.reporter.report = print_report;
    config.ports = &r->port;
    config.port_count = 1;
    config.loop.frame_hz = (uint32_t)r->plan->frame_hz;
    if (r->tape != NULL && ikv_tape_about(r->tape).at_frame)
        config.loop.timing = IKV_AT_FRAME;
    ikv_setup_size(r->setup, &config);
    ikv_status status = ikv_kit_open(&config, &r->kit);
    if (status < 0) {
        fprintf(stderr, "ikvar run: the kit: %s: %s\n", ikv_status_name(status),
                ikv_status_text(status));
        return BAD_INPUT;
    }
    if (ikv_setup_apply(r->setup, r->kit, IKV_APPLY_UNBOUND, &message) < 0)
        return say(BAD_INPUT, message.text);
    return check_rate(r);
}

static int open_recording(rehearsal *r)
{
    ikv_message message = {"the recording can't be opened"};
    ikv_recording_config config = IKV_RECORDING_INIT;
    config.path = r->plan->record;
    config.kit = r->kit;
    config.setup = r->setup;
    config.setup_path = path_seen_from(r->plan->record, r->plan->setup);
    return ikv_recording_open(&config, &r->recording, &message) < 0
               ? say(BAD_INPUT, message.text)
               : FINE;
}

static int open_output(rehearsal *r)
{
    if (r->plan->record != NULL) {
        int code = open_recording(r);
        if (code != FINE)
            return code;
    }
    if (r->tape != NULL)
        ikv_comparison_open(r->kit, r->tape, &r->comparison);
    if (r->plan->digest)
        return FINE;
    if (r->plan->json)
        return ikv_trace_open(stdout, r->kit, r->setup,
                              r->plan->steps_only ? IKV_TRACE_STEPS : 0,
                              &r->trace) < 0
                   ? say(BAD_INPUT, "no memory")
                   : FINE;
    r->log = log_open(stdout, r->kit, r->setup, isatty(STDOUT_FILENO));
    return r->log != NULL ? FINE : say(BAD_INPUT, "no memory");
}

static void run_loop(const rehearsal *r)
{
    ikv_loop *loop = ikv_kit_loop(r->kit);
    double until_ns = r->plan->until_ms * 1e6;
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        if (until_ns > 0 && (double)ikv_loop_time_ns(loop) >= until_ns)
            ikv_loop_quit(loop);
        ikv_loop_end(loop);
    }
}

static void close_all(rehearsal *r)
{
    ikv_kit_close(r->kit);
    if (strcmp(port_name(r->plan), "sim") == 0)
        ikv_sim_free(&r->port);
    else if (strcmp(port_name(r->plan), "terminal") == 0)
        ikv_terminal_free(&r->port);
    ikv_tape_close(r->tape);
    ikv_setup_close(r->setup);
}

/* What the digests on the tape say of the run, and its own. */
static int end_comparison(rehearsal *r)
{
    bool played = r->comparison != NULL;
    ikv_comparison_result result = ikv_comparison_close(r->comparison);
    if (r->plan->digest && played)
        printf("%016llx %llu\n", (unsigned long long)result.digest,
               (unsigned long long)result.deliveries);
    if (!result.differs || r->plan->until_ms > 0)
        return FINE;
    fprintf(stderr,
            "ikvar run: this run differs from the recorded one, first after "
            "step %llu\n",
            (unsigned long long)result.from_step);
    return ANSWER_IS_NO;
}

int run_plan_through(const run_plan *plan)
{
    rehearsal r = {.plan = plan};
    ikv_message message;
    if (ikv_setup_read(plan->setup, &r.setup, &message) < 0)
        return say(BAD_INPUT, message.text);
    int code = open_port(&r);
    if (code == FINE)
        code = open_kit(&r);
    if (code == FINE)
        code = open_output(&r);
    if (code == FINE) {
        run_loop(&r);
        log_close(r.log);
        if (ikv_trace_close(r.trace) < 0)
            code = say(BAD_INPUT, "can't write the trace");
        if (ikv_recording_close(r.recording) < 0)
            code = say(BAD_INPUT, "can't write the tape");
        int same = end_comparison(&r);
        code = code == FINE ? same : code;
        if (r.tape != NULL && ikv_sim_fault(&r.port) != NULL)
            code = say(BAD_INPUT, ikv_sim_fault(&r.port));
    }
    close_all(&r);
    return code;
}

static int check_plan(const run_plan *plan, bool more)
{
    if (plan->setup == NULL || more)
        return say(WRONG_USE, "expected SETUP [TAPE]; see ikvar run --help");
    if (!(plan->until_ms >= 0 && plan->until_ms < 1e10) || plan->frame_hz < 0 ||
        plan->frame_hz > 1000000)
        return say(WRONG_USE, "--until and --frame-hz: expected a number from "
                              "0, to 1e10 and 1000000");
    if (!(plan->soak_seconds >= 0 && plan->soak_seconds <= 1e6) ||
        plan->seed < 1)
        return say(WRONG_USE, "--soak and --seed: expected seconds up to 1e6, "
                              "and a number from 1");
    if (plan->soak_seconds > 0 && (plan->tape != NULL || plan->port != NULL))
        return say(WRONG_USE, "--soak makes its input up: give SETUP alone");
    return FINE;
}

int run_command(int argc, const char **argv)
{
    int json = 0, steps = 0, digest = 0, real_time = 0, code;
    char *port = NULL, *record = NULL;
    run_plan plan = {.seed = 1};
    struct poptOption options[] = {
        {"port", 'p', POPT_ARG_STRING, &port, 0,
         "where input comes from: sim (a tape), terminal (live), null", "NAME"},
        {"record", 'R', POPT_ARG_STRING, &record, 0,
         "write a tape of what comes in, live input too", "TAPE"},
        {"json", 'j', POPT_ARG_NONE, &json, 0,
         "write a trace instead of the log", NULL},
        {"steps-only", 'S', POPT_ARG_NONE, &steps, 0,
         "leave out of a trace what belongs to frames", NULL},
        {"digest", 'd', POPT_ARG_NONE, &digest, 0,
         "print the run's digest and number of deliveries alone", NULL},
        {"real-time", 'r', POPT_ARG_NONE, &real_time, 0,
         "play the tape at its own speed, not as fast as possible", NULL},
        {"speed", 's', POPT_ARG_DOUBLE, &plan.speed, 0,
         "play the tape so many times as fast as it was recorded", "FACTOR"},
        {"until", 'u', POPT_ARG_DOUBLE, &plan.until_ms, 0,
         "end after so many milliseconds", "MS"},
        {"frame-hz", 'f', POPT_ARG_INT, &plan.frame_hz, 0, "frames a second",
         "N"},
        {"soak", '\0', POPT_ARG_DOUBLE, &plan.soak_seconds, 0,
         "made-up input and faults, validators on, for so long", "SECONDS"},
        {"seed", '\0', POPT_ARG_INT, &plan.seed, 0, "of a soak (1)", "N"},
        POPT_TABLEEND};
    poptContext context = parse_options(
        argc, argv, options,
        "run [options] SETUP [TAPE]\n\nWithout a tape the terminal's own mouse "
        "and keys are the input; Ctrl-C ends.",
        &code);
    if (context == NULL)
        return code;
    plan.setup = poptGetArg(context);
    plan.tape = poptGetArg(context);
    plan.port = port;
    plan.record = record;
    plan.json = json != 0;
    plan.steps_only = steps != 0;
    plan.digest = digest != 0;
    if (real_time && plan.speed == 0)
        plan.speed = 1;
    code = check_plan(&plan, poptPeekArg(context) != NULL);
    if (code == FINE)
        code = plan.soak_seconds > 0 ? soak(&plan) : run_plan_through(&plan);
    free(port);
    free(record);
    poptFreeContext(context);
    return code;
}
