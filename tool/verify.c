/* verify.c - ikvar tape verify: plays tapes, each in a process of its own, and
 * compares digests and traces. */
#define _XOPEN_SOURCE 700
#include "tool.h"

#include <dirent.h>
#include <errno.h>
#include <jansson.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

enum {
    TAPES = 4096,
    CONTEXT_LINES = 3,
    LINE_BYTES = 4096
};

/* One tape's turn: its output goes to a file, to be printed in order. */
typedef struct verification {
    char *path;
    FILE *output;
    pid_t process; /* 0: not begun, or ended */
    int code;
} verification;

typedef struct verifier {
    verification *tapes[TAPES];
    size_t count;
    const char *setup;
    bool json;
} verifier;

/* ------------------------------------------------------------- one tape -- */

typedef struct playback {
    const char *path;
    FILE *output;
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_port port;
    ikv_kit *kit;
} playback;

/* What readers say of the tape itself begins with its path. */
static int fail(const playback *p, const char *text)
{
    bool named = strncmp(text, p->path, strlen(p->path)) == 0;
    fprintf(p->output, "%s%s%s\n", named ? "" : p->path, named ? "" : ": ",
            text);
    return BAD_INPUT;
}

static int open_setup_of(playback *p, const char *setup_path)
{
    char path[PATH_MAX];
    ikv_message message;
    if (setup_path == NULL)
        setup_path = setup_of_tape(p->path, path, sizeof path, &message);
    return setup_path == NULL ||
                   ikv_setup_read(setup_path, &p->setup, &message) < 0
               ? fail(p, message.text)
               : FINE;
}

static int open_playback(playback *p, const char *setup_path)
{
    ikv_message message;
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    int code = open_setup_of(p, setup_path);
    if (code != FINE)
        return code;
    if (ikv_tape_open(p->path, p->setup, &p->tape, &message) < 0)
        return fail(p, message.text);
    sim.tape = p->tape;
    ikv_sim_open(&sim, &p->port);
    /* recorded so: played otherwise its events would come a step later */
    if (ikv_tape_about(p->tape).at_frame)
        config.loop.timing = IKV_AT_FRAME;
    if (!open_kit(&config, p->setup, &p->port, &p->kit, &message))
        return fail(p, message.text);
    return FINE;
}

static void close_playback(playback *p)
{
    ikv_kit_close(p->kit);
    if (p->port.state != NULL)
        ikv_sim_close(&p->port);
    ikv_tape_close(p->tape);
    ikv_setup_close(p->setup);
}

/* ----------------------------------------------------------- the traces -- */

/* The file that lies beside a tape: x.trace.jsonl for x.tape.jsonl or .cbor. */
static FILE *open_trace_beside(const char *path)
{
    char beside[PATH_MAX];
    const char *ending = tape_ending(path);
    /* what is not named like a tape has none, nor has what is not whole */
    if (ending == NULL || strstr(ending, ".part") != NULL)
        return NULL;
    snprintf(beside, sizeof beside, "%.*s.trace.jsonl", (int)(ending - path),
             path);
    return fopen(beside, "r");
}

/* Shows the first line that differs, after the last ones that did not. */
static bool compare_traces(const playback *p, FILE *expected, FILE *found)
{
    static char context[CONTEXT_LINES][LINE_BYTES];
    char a[LINE_BYTES], b[LINE_BYTES];
    unsigned long line = 0;
    for (;;) {
        const char *one = fgets(a, sizeof a, expected);
        const char *other = fgets(b, sizeof b, found);
        if (one == NULL && other == NULL)
            return true;
        if (one != NULL && other != NULL && strcmp(a, b) == 0) {
            /* the last ones that agree, in a ring */
            memcpy(context[line++ % CONTEXT_LINES], a, sizeof a);
            continue;
        }
        fprintf(p->output, "%s: the traces differ in line %lu:\n", p->path,
                line + 1);
        unsigned long from = line > CONTEXT_LINES ? line - CONTEXT_LINES : 0;
        for (unsigned long i = from; i < line; i++)
            fprintf(p->output, "           %s", context[i % CONTEXT_LINES]);
        fprintf(p->output, "  expected %s", one != NULL ? a : "the end\n");
        fprintf(p->output, "  found    %s", other != NULL ? b : "the end\n");
        return false;
    }
}

static int print_result(const playback *p, const ikv_comparison_result *result,
                        const char *verdict, bool json)
{
    if (json) {
        char hex[24];
        json_t *line = json_object();
        snprintf(hex, sizeof hex, "%016llx",
                 (unsigned long long)result->digest);
        put_text(line, "tape", p->path);
        put_json(line, "verdict", json_string(verdict));
        put_json(line, "digest", json_string(hex));
        put_json(line, "deliveries",
                 json_integer((json_int_t)result->deliveries));
        put_json(line, "checks", json_integer((json_int_t)result->checks));
        return print_json(p->output, line, false, "tape");
    }
    fprintf(p->output, "%-9s %016llx %10llu deliveries  %s\n", verdict,
            (unsigned long long)result->digest,
            (unsigned long long)result->deliveries, p->path);
    return FINE;
}

/* A trace of an older version says nothing of this library. */
static bool is_of_now(const playback *p, FILE *beside)
{
    char line[LINE_BYTES] = "";
    bool read = fgets(line, sizeof line, beside) != NULL;
    rewind(beside);
    /* what has no header is compared, and differs */
    if (!read || strstr(line, "\"ikvar.trace/1\"") == NULL)
        return true;
    fprintf(p->output,
            "%s: the trace beside it is of an older version (ikvar.trace/1): "
            "it is not compared\n",
            p->path);
    return false;
}

/* What there is to say beside the verdict. */
static void say_more(const playback *p, const ikv_comparison_result *result)
{
    unsigned long long from = result->from_step, to = result->to_step;
    if (ikv_tape_warning(p->tape) != NULL)
        fprintf(p->output, "%s\n", ikv_tape_warning(p->tape));
    if (result->old)
        fprintf(p->output,
                "%s: its digests are of an older version (ikvar.tape/1): they "
                "are not compared\n",
                p->path);
    /* digests lie some steps apart: it is between two of them */
    else if (result->differs)
        fprintf(p->output,
                "%s: the run differs from the recorded one between step %llu "
                "and step %llu\n",
                p->path, from, to);
    else if (!result->whole && result->checks > 0)
        fprintf(p->output,
                "%s: no digest of the whole run; the %u on the way agree, up "
                "to step %llu\n",
                p->path, result->checks, from);
}

static int compare_run(const playback *p, const ikv_comparison_result *result,
                       FILE *beside, FILE *written, bool json)
{
    /* broken on the way: what agreed so far says nothing */
    if (ikv_sim_fault(&p->port) != NULL)
        return fail(p, ikv_sim_fault(&p->port));
    if (written != NULL)
        rewind(written);
    /* a trace shows where, a digest only that */
    bool same = written == NULL || compare_traces(p, beside, written);
    bool known = result->whole || written != NULL;
    say_more(p, result);
    int printed = print_result(p, result,
                               result->differs || !same ? "differs"
                               : known                  ? "same"
                               : result->old            ? "old digest"
                                                        : "no digest",
                               json);
    int code = result->differs || !same || !known ? ANSWER_IS_NO : FINE;
    return printed > code ? printed : code;
}

static int verify_one(const char *path, const char *setup_path, bool json,
                      FILE *output)
{
    playback p = {.path = path, .output = output};
    ikv_comparison *comparison = NULL;
    /* closed: not again below */
    ikv_trace *trace = NULL;
    FILE *beside = open_trace_beside(path), *written = NULL;
    int code = open_playback(&p, setup_path);
    if (code == FINE && ikv_comparison_open(p.kit, p.tape, &comparison) < 0)
        code = fail(&p, "no memory");
    if (code == FINE && beside != NULL && is_of_now(&p, beside)) {
        written = tmpfile();
        if (written == NULL || ikv_trace_open(written, p.kit, p.setup,
                                              IKV_TRACE_STEPS, &trace) < 0)
            code = fail(&p, "no memory, or no room for a trace");
    }
    if (code == FINE) {
        ikv_loop *loop = ikv_kit_loop(p.kit);
        while (ikv_loop_begin(loop)) {
            while (ikv_loop_step(loop)) {
            }
            ikv_loop_end(loop);
        }
        bool traced = ikv_trace_close(trace) == IKV_OK;
        trace = NULL;
        ikv_comparison_result result = ikv_comparison_close(comparison);
        comparison = NULL;
        code = traced ? compare_run(&p, &result, beside, written, json)
                      : fail(&p, "the trace can't be written");
    }
    ikv_trace_close(trace);
    ikv_comparison_close(comparison);
    if (beside != NULL)
        fclose(beside);
    if (written != NULL)
        fclose(written);
    close_playback(&p);
    return code;
}

/* ------------------------------------------------------------ all tapes -- */

static int add_tape(verifier *v, const char *path)
{
    verification *one = calloc(1, sizeof *one);
    if (one != NULL)
        one->path = strdup(path);
    if (one == NULL || one->path == NULL || v->count == TAPES) {
        fprintf(stderr, "ikvar tape: %s: %s\n", path,
                v->count == TAPES ? "more than 4096 tapes" : "no memory");
        free(one != NULL ? one->path : NULL);
        free(one);
        return BAD_INPUT;
    }
    v->tapes[v->count++] = one;
    return FINE;
}

static int by_path(const void *a, const void *b)
{
    return strcmp((*(verification *const *)a)->path,
                  (*(verification *const *)b)->path);
}

static int add_folder(verifier *v, const char *folder)
{
    DIR *directory = opendir(folder);
    size_t before = v->count;
    int code = FINE;
    if (directory == NULL) {
        fprintf(stderr, "ikvar tape: %s: %s\n", folder, strerror(errno));
        return BAD_INPUT;
    }
    for (struct dirent *entry; (entry = readdir(directory)) != NULL;) {
        char path[PATH_MAX];
        if (tape_ending(entry->d_name) == NULL)
            continue;
        snprintf(path, sizeof path, "%s/%s", folder, entry->d_name);
        if (add_tape(v, path) != FINE)
            code = BAD_INPUT;
    }
    closedir(directory);
    qsort(v->tapes + before, v->count - before, sizeof v->tapes[0], by_path);
    if (v->count == before && code == FINE) {
        fprintf(stderr,
                "ikvar tape: %s: expected tapes (*.tape.jsonl, *.tape.cbor) in "
                "it\n",
                folder);
        code = BAD_INPUT;
    }
    return code;
}

static void begin_one(const verifier *v, verification *one)
{
    one->output = tmpfile();
    /* or the child would print what is in the buffer too */
    fflush(stdout);
    one->process = one->output != NULL ? fork() : -1;
    if (one->process == 0) {
        int code = verify_one(one->path, v->setup, v->json, one->output);
        /* not exit(): what the parent has opened is the parent's */
        _exit(fflush(one->output) == 0 ? code : BAD_INPUT);
    }
    if (one->process < 0) {
        fprintf(stderr, "ikvar tape: %s: no process for it: %s\n", one->path,
                strerror(errno));
        one->code = BAD_INPUT;
    }
}

/* Waits for one of them to end. */
static void wait_for_one(verifier *v)
{
    int status;
    pid_t ended = wait(&status);
    for (size_t i = 0; i < v->count; i++)
        if (v->tapes[i]->process == ended && ended > 0) {
            v->tapes[i]->process = 0;
            v->tapes[i]->code =
                WIFEXITED(status) ? WEXITSTATUS(status) : BAD_INPUT;
            if (!WIFEXITED(status))
                fprintf(v->tapes[i]->output, "%s: the run crashed\n",
                        v->tapes[i]->path);
        }
}

static void run_all(verifier *v)
{
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    size_t running = 0, most = processors > 0 ? (size_t)processors : 1;
    for (size_t i = 0; i < v->count || running > 0;) {
        if (isatty(STDERR_FILENO))
            fprintf(stderr, "\r%zu of %zu tapes ", i - running, v->count);
        if (i < v->count && running < most) {
            begin_one(v, v->tapes[i]);
            /* what could not be begun does not run */
            running += v->tapes[i++]->process > 0;
        } else {
            wait_for_one(v);
            running--;
        }
    }
    if (isatty(STDERR_FILENO))
        fprintf(stderr, "\r%40s\r", "");
}

static int print_all(verifier *v)
{
    int code = FINE;
    for (size_t i = 0; i < v->count; i++) {
        verification *one = v->tapes[i];
        if (one->output != NULL) {
            char buffer[4096];
            size_t got;
            rewind(one->output);
            while ((got = fread(buffer, 1, sizeof buffer, one->output)) > 0)
                fwrite(buffer, 1, got,
                       one->code == BAD_INPUT ? stderr : stdout);
            fclose(one->output);
        }
        code = one->code > code ? one->code : code;
        free(one->path);
        free(one);
    }
    return code;
}

int verify_tapes(arguments *left, const char *setup, bool json)
{
    verifier *v = calloc(1, sizeof *v);
    int code = FINE;
    if (v == NULL) {
        fprintf(stderr, "ikvar tape: no memory\n");
        return BAD_INPUT;
    }
    v->setup = setup;
    v->json = json;
    for (const char *path; (path = next_argument(left)) != NULL;) {
        struct stat about;
        int one = BAD_INPUT;
        if (stat(path, &about) != 0)
            fprintf(stderr, "ikvar tape: %s: %s\n", path, strerror(errno));
        else
            one = S_ISDIR(about.st_mode) ? add_folder(v, path)
                                         : add_tape(v, path);
        code = one > code ? one : code;
    }
    if (v->count == 0 && code == FINE) {
        fprintf(stderr, "ikvar tape: expected FOLDER or TAPE...\n");
        code = WRONG_USE;
    }
    run_all(v);
    int found = print_all(v);
    free(v);
    return found > code ? found : code;
}
