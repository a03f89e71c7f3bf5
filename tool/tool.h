/* tool.h - what the command's files share. */
#ifndef IKV_TOOL_H
#define IKV_TOOL_H

#include <ikvar/host.h>

#include <popt.h>
#include <stdio.h>

/* Exit codes. */
enum {
    FINE = 0,
    ANSWER_IS_NO = 1,
    WRONG_USE = 2,
    BAD_INPUT = 3
};

int demo_command(int argc, const char **argv);
int run_command(int argc, const char **argv);
int kinds_command(int argc, const char **argv);
int check_command(int argc, const char **argv);
int tape_command(int argc, const char **argv);
int bench_command(int argc, const char **argv);

/* ikvar tape verify (verify.c); the options are read. */
int verify_tapes(poptContext context, const char *setup, bool json);

/* Parses options; then the arguments that are left are to be taken with
 * poptGetArg(). NULL after a message if an option is wrong, or after --help
 * (*code says which). */
poptContext parse_options(int argc, const char **argv,
                          struct poptOption *options, const char *usage,
                          int *code);

/* What a run is made of. Zero is the default. */
typedef struct run_plan {
    const char *setup, *tape, *port, *record;
    bool json, steps_only, digest;
    double until_ms, speed;
    int frame_hz;
    /* soak */
    double soak_seconds;
    int seed;
} run_plan;

/* Made-up input with all validators on, until the time is up (soak.c). */
int soak(const run_plan *plan);

/* Prints reports of the library to stderr. */
void print_report(const ikv_report *report, void *user);

/* A path as seen from the folder of another file; in static memory. */
const char *path_seen_from(const char *file, const char *path);

/* Runs it and prints what happened; the exit code. */
int run_plan_through(const run_plan *plan);

/* The readable log (log.c). */
typedef struct run_log run_log;
run_log *log_open(FILE *file, ikv_kit *kit, ikv_setup *setup, bool colour);
void log_close(run_log *log);

#endif
