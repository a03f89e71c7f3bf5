/* trace.c - reads a trace line by line. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <errno.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum {
    PROGRESS_LINES = 20000
};

typedef struct trace_reader {
    const char *command, *path;
    FILE *file;
    char *text;
    size_t room, line;
    ssize_t length;
} trace_reader;

static int say(const trace_reader *r, const char *what)
{
    char shown[512];
    ikv_shown_text(r->path, shown, sizeof shown);
    if (r->line > 0)
        fprintf(stderr, "ikvar %s: %s:%zu: %s\n", r->command, shown, r->line,
                what);
    else
        fprintf(stderr, "ikvar %s: %s: %s\n", r->command, shown, what);
    return BAD_INPUT;
}

/* On a terminal: how far it is. */
static void show_progress(const trace_reader *r, bool ends)
{
    if (r->line < PROGRESS_LINES || !isatty(STDERR_FILENO))
        return;
    if (ends)
        fprintf(stderr, "\r%24s\r", "");
    else if (r->line % PROGRESS_LINES == 0)
        fprintf(stderr, "\r%12zu lines", r->line);
}

/* Who wrote the trace was stopped within its last line: it is left out. */
static bool is_torn(const trace_reader *r)
{
    return r->line > 1 && r->text[r->length - 1] != '\n' &&
           fgetc(r->file) == EOF;
}

static int take_text(const trace_reader *r, trace_taker take, void *user)
{
    json_error_t error;
    json_t *line = json_loadb(r->text, (size_t)r->length, 0, &error);
    const char *wrong = NULL, *format;
    if (line == NULL && json_error_code(&error) == json_error_out_of_memory)
        return say(r, "no memory");
    if (line == NULL && is_torn(r)) {
        char shown[512];
        fprintf(stderr,
                "ikvar %s: warning: %s:%zu: the line is torn: it is left out\n",
                r->command, ikv_shown_text(r->path, shown, sizeof shown),
                r->line);
        return FINE;
    }
    format = json_string_value(json_object_get(line, "format"));
    if (!json_is_object(line))
        wrong = "expected an object";
    else if (r->line > 1)
        wrong = take(user, line);
    else if (format == NULL || strcmp(format, "ikvar.trace/2") != 0)
        wrong = "expected a trace of format \"ikvar.trace/2\" (ikvar run "
                "--json)";
    json_decref(line);
    return wrong == NULL ? FINE : say(r, wrong);
}

int read_trace(const char *command, const char *path, FILE *file,
               trace_taker take, void *user)
{
    trace_reader r = {.command = command, .path = path, .file = file};
    int code = FINE;
    while (code == FINE && (r.length = getline(&r.text, &r.room, file)) > 0) {
        r.line++;
        code = take_text(&r, take, user);
        show_progress(&r, false);
    }
    int error = errno;
    show_progress(&r, true);
    free(r.text);
    if (code != FINE)
        return code;
    if (ferror(file) || !feof(file)) {
        r.line = 0;
        return say(&r, strerror(error));
    }
    return r.line > 0 ? FINE : say(&r, "expected a trace, found an empty file");
}
