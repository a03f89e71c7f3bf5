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
    config.speed = r->plan->real_time ? 1 : 0;
    config.until_ns = (uint64_t)(r->plan->until_ms * 1e6);
    return ikv_sim_open(&config, &r->port) < 0 ? say(BAD_INPUT, "no memory")
                                               : FINE;
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

static void print_report(const ikv_report *report, void *user)
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
    ikv_setup_size(r->setup, &config);
    ikv_status status = ikv_kit_open(&config, &r->kit);
    if (status < 0) {
        fprintf(stderr, "ikvar run: the kit: %s: %s\n", ikv_status_name(status),
                ikv_status_text(status));
        return BAD_INPUT;
    }
    if (ikv_setup_apply(r->setup, r->kit, IKV_APPLY_UNBOUND, &message) < 0)
        return say(BAD_INPUT, message.text);
    return FINE;
}

static int open_output(rehearsal *r)
{
    if (r->plan->json)
        return ikv_trace_open(stdout, r->kit, r->setup, &r->trace) < 0
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
        if (r.tape != NULL && ikv_sim_fault(&r.port) != NULL)
            code = say(BAD_INPUT, ikv_sim_fault(&r.port));
    }
    close_all(&r);
    return code;
}

int run_command(int argc, const char **argv)
{
    int json = 0, real_time = 0, code;
    char *port = NULL;
    run_plan plan = {0};
    struct poptOption options[] = {
        {"port", 'p', POPT_ARG_STRING, &port, 0,
         "where input comes from: sim (a tape), terminal (live), null", "NAME"},
        {"json", 'j', POPT_ARG_NONE, &json, 0,
         "write a trace instead of the log", NULL},
        {"real-time", 'r', POPT_ARG_NONE, &real_time, 0,
         "play the tape at its own speed, not as fast as possible", NULL},
        {"until", 'u', POPT_ARG_DOUBLE, &plan.until_ms, 0,
         "end after so many milliseconds", "MS"},
        {"frame-hz", 'f', POPT_ARG_INT, &plan.frame_hz, 0, "frames a second",
         "N"},
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
    plan.json = json != 0;
    plan.real_time = real_time != 0;
    if (plan.setup == NULL || poptPeekArg(context) != NULL)
        code = say(WRONG_USE, "expected SETUP [TAPE]; see ikvar run --help");
    else if (plan.until_ms < 0 || plan.frame_hz < 0 ||
             plan.frame_hz > 1000000 || !(plan.until_ms < 1e10))
        code = say(WRONG_USE, "--until and --frame-hz: expected a number from "
                              "0, to 1e10 and 1000000");
    else
        code = run_plan_through(&plan);
    free(port);
    poptFreeContext(context);
    return code;
}
