/* check.c - ikvar check: validates files. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <jansson.h>
#include <string.h>

/* A file of lines is a tape, or what is binary; the names say so, else how it
 * begins. */
static bool is_tape(const char *path)
{
    if (ends_with(path, ".jsonl") || ends_with(path, ".cbor") ||
        tape_ending(path) != NULL)
        return true;
    if (ends_with(path, ".setup.json"))
        return false;
    return begins_with(path, "ikvar.tape");
}

/* ------------------------------------------------------------- findings -- */

/* What was found in one file. */
typedef struct findings {
    const char *path, *kind;
    char error[1024]; /* empty: none */
    char facts[160];
    json_t *warnings; /* as they are printed: code and text */
    bool lost;        /* no memory for one */
} findings;

static void warn(const ikv_mistake *mistake, void *user)
{
    findings *f = user;
    json_t *warning =
        json_pack("{s:s,s:s}", "code", ikv_mistake_about(mistake->code)->name,
                  "text", mistake->text);
    f->lost = json_array_append_new(f->warnings, warning) != 0 || f->lost;
}

static bool bad(findings *f, const char *text)
{
    snprintf(f->error, sizeof f->error, "%s", text);
    return false;
}

static int print_findings_json(const findings *f)
{
    json_t *line = json_object();
    put_text(line, "file", f->path);
    put_json(line, "kind", json_string(f->kind));
    put_json(
        line, "fine",
        json_boolean(f->error[0] == '\0' && json_array_size(f->warnings) == 0));
    put_json(line, "error",
             f->error[0] != '\0' ? json_string(f->error) : json_null());
    put_json(line, "warnings", json_incref(f->warnings));
    return print_json(stdout, line, false, "check");
}

static void print_findings(const findings *f)
{
    size_t count = json_array_size(f->warnings);
    char path[4096];
    ikv_shown_text(f->path, path, sizeof path);
    if (f->error[0] != '\0') {
        fflush(stdout);
        fprintf(stderr, "ikvar check: %s\n", f->error);
    } else if (count == 0) {
        printf("%s: fine: %s\n", path, f->facts);
    } else {
        printf("%s: %zu warning%s: %s\n", path, count, count > 1 ? "s" : "",
               f->facts);
    }
    for (size_t i = 0; i < count; i++) {
        const json_t *warning = json_array_get(f->warnings, i);
        printf("%s: warning: %s [%s]\n", path,
               json_string_value(json_object_get(warning, "text")),
               json_string_value(json_object_get(warning, "code")));
    }
}

/* Prints and drops them; the exit code. */
static int end_findings(findings *f, bool json)
{
    int code = f->error[0] != '\0' ? BAD_INPUT : FINE;
    /* not told as fine when a warning is missing */
    if (f->lost && f->error[0] == '\0') {
        bad(f, "no memory");
        code = BAD_INPUT;
    }
    if (json) {
        int printed = print_findings_json(f);
        code = printed > code ? printed : code;
    } else {
        print_findings(f);
    }
    json_decref(f->warnings);
    return code;
}

/* ---------------------------------------------------------------- files -- */

/* What files that come later are read with. */
typedef struct checker {
    const char *path; /* the setup's */
    ikv_setup *setup;
    ikv_kit *kit;
    ikv_port port;
    bool json, play;
    /* What was run with it: tapes that were played, and traces. */
    int runs;
    json_t *uncalled;     /* in how many of them a handler was not called */
    findings *of_run;     /* of the file that is looked at */
    ikv_review *reviewed; /* while a tape is played */
} checker;

/* ----------------------------------------------------------------- runs -- */

/* Who was called in none of the runs is told at their end. */
static void take_mistake(const ikv_mistake *mistake, void *user)
{
    checker *c = user;
    if (mistake->code != IKV_MISTAKE_NEVER_CALLED) {
        warn(mistake, c->of_run);
        return;
    }
    json_int_t before =
        json_integer_value(json_object_get(c->uncalled, mistake->text));
    c->of_run->lost = json_object_set_new(c->uncalled, mistake->text,
                                          json_integer(before + 1)) != 0 ||
                      c->of_run->lost;
}

static int begin_review(void *user, ikv_kit *kit, ikv_setup *setup)
{
    checker *c = user;
    if (ikv_review_open(kit, setup, &c->reviewed) == IKV_OK)
        return FINE;
    bad(c->of_run, "no memory");
    return BAD_INPUT;
}

static int end_review(void *user)
{
    checker *c = user;
    bool whole = ikv_review_tell(c->reviewed, take_mistake, c) == IKV_OK;
    c->of_run->lost = c->of_run->lost || !whole;
    ikv_review_close(c->reviewed);
    c->reviewed = NULL;
    return FINE;
}

/* The run says on stderr itself what keeps it from its end. */
static bool play_tape(checker *c, findings *f)
{
    run_plan plan = {.command = "check",
                     .setup = c->path,
                     .tape = f->path,
                     .begin = begin_review,
                     .end = end_review,
                     .user = c};
    c->of_run = f;
    c->runs++;
    int code = run_plan_through(&plan);
    c->of_run = NULL;
    return code == FINE || bad(f, "it can't be played");
}

static bool check_trace(checker *c, findings *f)
{
    ikv_message message = {"no memory"};
    ikv_review *review = NULL;
    if (c->kit == NULL)
        return bad(f, "a trace is read with the setup before it: give SETUP "
                      "TRACE");
    c->of_run = f;
    ikv_status status = ikv_review_open(c->kit, c->setup, &review);
    if (status == IKV_OK)
        status = ikv_review_trace(review, f->path, &message);
    if (status == IKV_OK) {
        c->runs++;
        status = ikv_review_tell(review, take_mistake, c);
    }
    ikv_review_close(review);
    c->of_run = NULL;
    snprintf(f->facts, sizeof f->facts, "trace of a run");
    return status == IKV_OK || bad(f, message.text);
}

/* What all runs of a setup have left out. */
static int end_runs(checker *c)
{
    findings f = {.path = c->path, .kind = "runs", .warnings = json_array()};
    const char *text;
    json_t *times;
    int code = FINE;
    if (c->runs > 0) {
        ikv_setup_counts counts = IKV_SETUP_COUNTS_INIT;
        ikv_setup_counters(c->setup, &counts);
        json_object_foreach(c->uncalled, text, times)
        {
            if (json_integer_value(times) == c->runs)
                warn(&(ikv_mistake){IKV_MISTAKE_NEVER_CALLED, text}, &f);
        }
        snprintf(f.facts, sizeof f.facts, "%u handlers, %d run%s",
                 counts.handlers, c->runs, c->runs == 1 ? "" : "s");
        code = end_findings(&f, c->json);
    } else {
        json_decref(f.warnings);
    }
    json_object_clear(c->uncalled);
    c->runs = 0;
    return code;
}

static void close_setup(checker *c)
{
    ikv_kit_close(c->kit);
    ikv_setup_close(c->setup);
    c->kit = NULL;
    c->setup = NULL;
}

/* It is fine when it can be applied: then its targets have handles, too. */
static bool check_setup(checker *c, findings *f)
{
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_message message = {"no memory"};
    /* files behind this one are read with it */
    close_setup(c);
    if (ikv_setup_read(f->path, &c->setup, &message) < 0)
        return bad(f, message.text);
    c->path = f->path;
    c->port = ikv_null_port();
    if (!open_kit(&config, c->setup, &c->port, &c->kit, &message)) {
        /* applying it names the file; opening the kit knows of none */
        if (c->kit != NULL)
            return bad(f, message.text);
        snprintf(f->error, sizeof f->error, "%s: %s", f->path, message.text);
        return false;
    }
    ikv_setup_counts counts = IKV_SETUP_COUNTS_INIT;
    ikv_setup_counters(c->setup, &counts);
    snprintf(f->facts, sizeof f->facts,
             "%u targets, %u handlers, %u kinds of its own", counts.targets,
             counts.handlers, counts.kinds);
    const ikv_mistake *mistake;
    for (uint32_t i = 0; (mistake = ikv_setup_mistake(c->setup, i)) != NULL;
         i++)
        warn(mistake, f);
    ikv_setup_survey(c->setup, warn, f);
    return true;
}

static bool check_tape(const checker *c, findings *f)
{
    ikv_tape *tape;
    ikv_message message = {"no memory"};
    ikv_event event;
    unsigned long long count = 0;
    uint64_t last_ns = 0;
    if (ikv_tape_open(f->path, c->setup, &tape, &message) < 0)
        return bad(f, message.text);
    ikv_status status;
    /* to its end: what is wrong in the last line counts */
    while ((status = ikv_tape_next(tape, &event, NULL, &message)) == IKV_OK) {
        count++;
        last_ns = event.time_ns;
    }
    if (last_ns < ikv_tape_about(tape).until_ns)
        last_ns = ikv_tape_about(tape).until_ns;
    snprintf(f->facts, sizeof f->facts, "%llu events in %.3f ms", count,
             (double)last_ns / 1e6);
    if (ikv_tape_warning(tape) != NULL)
        warn(&(ikv_mistake){IKV_MISTAKE_TORN, ikv_tape_warning(tape)}, f);
    ikv_tape_close(tape);
    return status == IKV_ENDED || bad(f, message.text);
}

/* Against the actions of the setup before it, if there is one. */
static bool check_bindings(const checker *c, findings *f)
{
    ikv_message message = {"no memory"};
    ikv_bindings_config names = IKV_BINDINGS_INIT;
    names.setup = c->setup;
    ikv_actions *actions = ikv_kit_actions(c->kit);
    if (ikv_bindings_load(f->path, actions, &names, &message) < 0)
        return bad(f, message.text);
    snprintf(f->facts, sizeof f->facts, "%s",
             actions != NULL ? "bindings of the setup's actions"
                             : "bindings, without a setup to compare with");
    ikv_bindings_find_clashes(actions, warn, f);
    return true;
}

static int check_file(checker *c, const char *path)
{
    findings f = {.path = path, .warnings = json_array()};
    int runs = FINE;
    if (is_trace(path)) {
        f.kind = "trace";
        check_trace(c, &f);
    } else if (is_tape(path)) {
        f.kind = "tape";
        if (check_tape(c, &f) && c->play && c->kit != NULL)
            play_tape(c, &f);
    } else if (ends_with(path, ".bindings.json")) {
        f.kind = "bindings";
        check_bindings(c, &f);
    } else {
        f.kind = "setup";
        runs = end_runs(c);
        check_setup(c, &f);
    }
    int code = end_findings(&f, c->json);
    return runs > code ? runs : code;
}

/* -------------------------------------------------------------- explain -- */

static int unknown_code(const char *name)
{
    static const char *const known[] = {
#define IKV_X(value, upper, code, text, why, instead) code,
        IKV_MISTAKES(IKV_X)
#undef IKV_X
            NULL};
    char shown[80];
    char hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(name, known);
    fprintf(stderr,
            "ikvar check: unknown code \"%s\"%s; --explain all prints "
            "each\n",
            ikv_shown_text(name, shown, sizeof shown),
            ikv_did_you_mean(near, hint, sizeof hint));
    return WRONG_USE;
}

/* Of one code, or of all. */
static int explain(const char *name)
{
    const ikv_mistake_info *info;
    bool any = false;
    for (uint32_t i = 0; (info = ikv_mistake_list(i)) != NULL; i++) {
        if (strcmp(name, "all") != 0 && strcmp(name, info->name) != 0)
            continue;
        printf("%s%s: %s\n  why      %s\n  instead  %s\n", any ? "\n" : "",
               info->name, info->text, info->why, info->instead);
        any = true;
    }
    return any ? FINE : unknown_code(name);
}

int check_command(int argc, char **argv)
{
    int code;
    arguments left;
    const char *code_asked = NULL;
    checker c = {0};
    const option_row options[] = {
        {"json", 'j', OPTION_FLAG, &c.json, NULL, "a JSON line for each file",
         0, 0},
        {"play", 'p', OPTION_FLAG, &c.play, NULL,
         "play each tape with the setup before it: who was\n"
         "never called, what nobody heard, what waited; of a\n"
         "trace this is always told",
         0, 0},
        {"explain", 'e', OPTION_TEXT, &code_asked, "CODE",
         "why a warning's code matters and what to write instead; or all", 0,
         0},
        {0}};
    if (!parse_options(
            argc, argv, options,
            "check FILE...\n\nSetups (*.setup.json), tapes (*.tape.jsonl, "
            "*.tape.cbor), traces\n(*.trace.jsonl) and bindings "
            "(*.bindings.json); these are read with the kinds,\ntargets and "
            "actions of the setup before them.",
            &left, &code))
        return code;
    if (code_asked != NULL) {
        if (left.count == 0 && !c.json && !c.play)
            return explain(code_asked);
        fprintf(stderr, "ikvar check: --explain CODE stands alone\n");
        return WRONG_USE;
    }
    if (left.count == 0) {
        fprintf(stderr, "ikvar check: expected FILE...\n");
        code = WRONG_USE;
    }
    c.uncalled = json_object();
    for (const char *path; (path = next_argument(&left)) != NULL;) {
        int one = check_file(&c, path);
        code = one > code ? one : code;
    }
    int runs = end_runs(&c);
    code = runs > code ? runs : code;
    json_decref(c.uncalled);
    close_setup(&c);
    return code;
}
