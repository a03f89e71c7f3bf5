/* plot.c - ikvar plot: what a run or a trace has in each frame, as numbers and as
 * curves, which gnuplot draws. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <ikvar/draw.h>

#include <ikvar/ports.h>

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

enum {
    FIRST_FAMILY = 12, /* of the columns, from 1 on */
    COLOURS = 9        /* of the palette; beyond them there are patterns */
};

/* One frame. What a trace does not tell is below 0. */
typedef struct frame_row {
    double t_ms;
    uint32_t steps, calls;
    uint32_t families[IKV_FAMILY_COUNT];
    int64_t deferred, merged, queue, waiting, lanes, contacts;
    double frame_ms, step_ms;
} frame_row;

typedef struct plotter {
    const char *output, *title;
    bool light;
    ikv_kit *kit;
    ikv_bus *bus;
    frame_row *rows;
    size_t count, room;
    bool used[IKV_FAMILY_COUNT]; /* families that came at all */
    frame_row now;
    bool lost;        /* no memory */
    bool decided;     /* the trace tells of decisions */
    json_int_t event; /* of the trace's last call */
    ikv_port clock;
    ikv_durations durations;
    double budget_ms;
} plotter;

static const char *const families[IKV_FAMILY_COUNT] = {
#define IKV_X(name, text, meaning, order) [IKV_FAMILY_##name] = (text),
    IKV_FAMILIES(IKV_X)
#undef IKV_X
};

/* ------------------------------------------------------------- collecting -- */

static frame_row empty_row(void)
{
    return (frame_row){.deferred = -1,
                       .merged = -1,
                       .queue = -1,
                       .waiting = -1,
                       .lanes = -1,
                       .contacts = -1,
                       .frame_ms = -1,
                       .step_ms = -1};
}

static void end_row(plotter *p)
{
    if (p->count == p->room) {
        size_t room = p->room * 2 + 256;
        frame_row *rows = realloc(p->rows, room * sizeof *rows);
        p->lost = p->lost || rows == NULL;
        if (rows == NULL)
            return;
        p->rows = rows;
        p->room = room;
    }
    for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
        p->used[f] = p->used[f] || p->now.families[f] > 0;
    p->rows[p->count++] = p->now;
    p->now = empty_row();
}

/* What there is at a frame's end; how long it took is known behind it. */
static void take_counters(plotter *p)
{
    ikv_loop_counts loop = IKV_LOOP_COUNTS_INIT;
    ikv_bus_counts bus = IKV_BUS_COUNTS_INIT;
    ikv_overlaps_counts overlaps = IKV_OVERLAPS_COUNTS_INIT;
    ikv_loop_counters(ikv_kit_loop(p->kit), &loop);
    ikv_bus_counters(p->bus, &bus);
    p->now.queue = ikv_queue_waiting(ikv_kit_queue(p->kit));
    p->now.waiting = loop.waiting;
    p->now.lanes = bus.waiting;
    if (ikv_overlaps_counters(ikv_kit_overlaps(p->kit), &overlaps) == IKV_OK)
        p->now.contacts = overlaps.contacts;
    if (p->count > 0) {
        p->rows[p->count - 1].frame_ms =
            (double)p->durations.max_frame_ns / 1e6;
        p->now.step_ms = (double)p->durations.max_step_ns / 1e6;
    }
    p->durations.max_frame_ns = p->durations.max_step_ns = 0;
}

static uint8_t family_of(const plotter *p, ikv_kind kind)
{
    return ikv_catalogue_info(ikv_bus_catalogue(p->bus), kind)->family;
}

static void watch_run(const ikv_watch *watch, void *user)
{
    plotter *p = user;
    p->now.calls += watch->what == IKV_WATCH_CALL;
    p->now.deferred += watch->what == IKV_WATCH_DEFER;
    p->now.merged += watch->what == IKV_WATCH_MERGE;
    if (watch->what == IKV_WATCH_EVENT)
        p->now.families[family_of(p, watch->event->kind)]++;
    if (watch->what != IKV_WATCH_DONE)
        return;
    p->now.steps += watch->event->kind == IKV_KIND_LOOP_STEP;
    if (watch->event->kind == IKV_KIND_LOOP_FRAME) {
        p->now.t_ms = (double)watch->event->time_ns / 1e6;
        take_counters(p);
        end_row(p);
        p->now.deferred = p->now.merged = 0;
    }
}

static uint64_t machine_clock(void *user)
{
    const ikv_port *clock = user;
    return clock->now(clock->state);
}

static int begin_plot(void *user, ikv_kit *kit, ikv_setup *setup)
{
    plotter *p = user;
    (void)setup;
    p->kit = kit;
    p->bus = ikv_kit_bus(kit);
    p->now = empty_row();
    p->now.deferred = p->now.merged = 0;
    p->clock = ikv_null_port();
    p->durations = (ikv_durations)IKV_DURATIONS_INIT;
    p->durations.clock = machine_clock;
    p->durations.user = &p->clock;
    ikv_loop_measure(ikv_kit_loop(kit), &p->durations);
    p->budget_ms = (double)p->durations.frame_budget_ns / 1e6;
    return ikv_bus_add_watcher(p->bus,
                               IKV_WATCH_EVENT | IKV_WATCH_CALL |
                                   IKV_WATCH_DEFER | IKV_WATCH_MERGE |
                                   IKV_WATCH_DONE,
                               watch_run, p) == IKV_OK
               ? FINE
               : BAD_INPUT;
}

static int say_why(const char *path, const char *why)
{
    char shown[512];
    fprintf(stderr, "ikvar plot: %s: %s\n",
            ikv_shown_text(path, shown, sizeof shown), why);
    return BAD_INPUT;
}

/* ----------------------------------------------------------------- traces -- */

static uint8_t family_named(const char *kind)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(NULL, ikv_catalogue_find(NULL, kind));
    return info != NULL ? info->family : IKV_FAMILY_USER;
}

/* What lies between the calls of a trace that tells more. */
static bool take_more(plotter *p, const json_t *line)
{
    const char *what = json_string_value(json_object_get(line, "decision"));
    if (json_object_get(line, "n") != NULL)
        return false; /* a call, whatever its fields are called */
    if (what != NULL && !p->decided) {
        /* what is not told from here on did not happen */
        p->decided = true;
        p->now.deferred = p->now.merged = 0;
        for (size_t i = 0; i < p->count; i++)
            p->rows[i].deferred = p->rows[i].merged = 0;
    }
    p->now.deferred += what != NULL && strcmp(what, "defer") == 0;
    p->now.merged += what != NULL && strcmp(what, "merge") == 0;
    return what != NULL || json_object_get(line, "scene") != NULL ||
           json_object_get(line, "answer") != NULL;
}

/* A line for each call; an event that several heard has several. */
static const char *take_line(void *user, json_t *line)
{
    plotter *p = user;
    const char *kind = json_string_value(json_object_get(line, "kind"));
    json_int_t number = json_integer_value(json_object_get(line, "event"));
    if (take_more(p, line))
        return NULL;
    if (kind == NULL)
        return "expected a call of a trace";
    p->now.calls += json_is_string(json_object_get(line, "handler"));
    if (number != p->event) {
        p->now.families[family_named(kind)]++;
        p->now.steps += strcmp(kind, "loop.step") == 0;
    }
    p->event = number;
    if (strcmp(kind, "loop.frame") == 0) {
        p->now.t_ms = json_number_value(json_object_get(line, "t"));
        end_row(p);
        if (p->decided)
            p->now.deferred = p->now.merged = 0;
    }
    return NULL;
}

static int read_frames(plotter *p, const char *path)
{
    FILE *file = fopen(path, "r");
    if (file == NULL)
        return say_why(path, strerror(errno));
    p->now = empty_row();
    int code = read_trace("plot", path, file, take_line, p);
    fclose(file);
    return code;
}

/* ---------------------------------------------------------------- numbers -- */

static void put_known(FILE *file, double value)
{
    if (value < 0)
        fputc(',', file); /* not known */
    else
        fprintf(file, ",%.6g", value);
}

static void write_numbers(const plotter *p, FILE *file)
{
    fprintf(file,
            "t_ms,steps,calls,deferred,merged,queue,waiting,lanes,contacts,"
            "frame_ms,step_ms");
    for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
        if (p->used[f])
            fprintf(file, ",%s", families[f]);
    fputc('\n', file);
    for (size_t i = 0; i < p->count; i++) {
        const frame_row *row = &p->rows[i];
        fprintf(file, "%.6f,%u,%u", row->t_ms, row->steps, row->calls);
        put_known(file, (double)row->deferred);
        put_known(file, (double)row->merged);
        put_known(file, (double)row->queue);
        put_known(file, (double)row->waiting);
        put_known(file, (double)row->lanes);
        put_known(file, (double)row->contacts);
        put_known(file, row->frame_ms);
        put_known(file, row->step_ms);
        for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
            if (p->used[f])
                fprintf(file, ",%u", row->families[f]);
        fputc('\n', file);
    }
}

/* ----------------------------------------------------------------- curves -- */

/* In gnuplot's single quotes. */
static void put_quoted(FILE *file, const char *text)
{
    fputc('\'', file);
    for (; *text != '\0'; text++) {
        if (*text == '\'')
            fputc('\'', file);
        fputc(*text, file);
    }
    fputc('\'', file);
}

/* Of the pictures' palette; dashes say the same without colours. */
static void write_theme(const plotter *p, FILE *gnuplot)
{
    static const uint8_t inks[COLOURS] = {
        IKV_DRAW_PASS,   IKV_DRAW_CAPTURE, IKV_DRAW_ZONE,
        IKV_DRAW_MARGIN, IKV_DRAW_CLIP,    IKV_DRAW_OFF,
        IKV_DRAW_SOLID,  IKV_DRAW_POINTER, IKV_DRAW_CONTACT};
    static const char *const words[] = {"border", "tics",   "key",
                                        "xlabel", "ylabel", "title"};
    const ikv_draw_style *style = p->light ? ikv_draw_light() : ikv_draw_dark();
    unsigned text = style->inks[IKV_DRAW_NAME].line >> 8;
    for (unsigned i = 0; i < sizeof inks; i++)
        fprintf(gnuplot, "set linetype %u lc rgb '#%06x'\n", i + 1,
                (unsigned)(style->inks[inks[i]].line >> 8));
    fprintf(gnuplot, "set linetype cycle %zu\n", sizeof inks);
    for (unsigned i = 0; i < sizeof words / sizeof words[0]; i++)
        fprintf(gnuplot, "set %s %s rgb '#%06x'\n", words[i],
                i == 0 ? "lc" : "textcolor", text);
    fprintf(gnuplot, "set grid lc rgb '#%s'\n", p->light ? "d8dde2" : "37424d");
}

/* One curve: of a column, with dashes of that sort. */
static void write_curve(FILE *gnuplot, const char *before, const char *column,
                        const char *title, int dash)
{
    fprintf(gnuplot,
            "%s$data using ($1/1000):(column('%s')) with steps lw 2 dt %d "
            "title '%s'",
            before, column, dash, title);
}

/* Families one upon the other, what waits, what was done, how long it took. */
static void write_curves(const plotter *p, FILE *gnuplot, const char *path,
                         bool png)
{
    const ikv_draw_style *style = p->light ? ikv_draw_light() : ikv_draw_dark();
    uint32_t used = 0;
    bool timed = p->count > 0 && p->rows[0].waiting >= 0;
    bool decided = p->count > 0 && p->rows[0].deferred >= 0;
    fprintf(gnuplot, "$data << END\n");
    write_numbers(p, gnuplot);
    fprintf(gnuplot,
            "END\nset terminal %s size 1280,800 background '#%06x'\n"
            "set output ",
            png ? "pngcairo" : "svg", (unsigned)(style->background >> 8));
    put_quoted(gnuplot, path);
    fprintf(gnuplot,
            "\nset datafile separator ','\nset key outside right top maxcols 1 "
            "samplen 2 font ',11' noenhanced\nset style fill solid 1 "
            "noborder\nset lmargin 10\nset rmargin 24\nset tmargin 1\nset "
            "bmargin 2\nset yrange [0:5<*]\n");
    write_theme(p, gnuplot);
    fprintf(gnuplot, "set multiplot layout %d,1 title ", timed ? 4 : 2);
    put_quoted(gnuplot, p->title);
    fprintf(gnuplot,
            " noenhanced textcolor rgb '#%06x'\nset ylabel 'events a "
            "frame'\nplot ",
            (unsigned)(style->inks[IKV_DRAW_NAME].line >> 8));
    for (uint32_t f = IKV_FAMILY_COUNT; f-- > 0;)
        used += p->used[f];
    for (uint32_t nth = used; nth > 0; nth--)
        fprintf(gnuplot,
                "%s$data using ($1/1000):(sum [c=%d:%u] column(c)) with "
                "fillsteps fs %s lc %u title columnheader(%u)",
                nth < used ? ", " : "", FIRST_FAMILY, FIRST_FAMILY - 1 + nth,
                nth <= COLOURS ? "solid 0.85" : "transparent pattern 4", nth,
                FIRST_FAMILY - 1 + nth);
    fprintf(gnuplot, "\nset ylabel 'a frame'\n%s",
            timed ? "" : "set bmargin 3\nset xlabel 'seconds'\n");
    write_curve(gnuplot, "plot ", "calls", "calls", 1);
    if (decided) {
        write_curve(gnuplot, ", ", "deferred", "deferred", 2);
        write_curve(gnuplot, ", ", "merged", "merged moves", 3);
    }
    if (timed) {
        write_curve(gnuplot, ", ", "contacts", "contacts", 4);
        fprintf(gnuplot, "\nset ylabel 'events'\n");
        write_curve(gnuplot, "plot ", "waiting", "wait for their step", 1);
        write_curve(gnuplot, ", ", "lanes", "on lanes", 2);
        write_curve(gnuplot, ", ", "queue", "in the queue", 3);
        fprintf(gnuplot,
                "\nset ylabel 'ms'\nset bmargin 3\nset xlabel 'seconds'\nset "
                "logscale y\nset yrange [*:*]\n");
        write_curve(gnuplot, "plot ", "frame_ms", "frame", 1);
        write_curve(gnuplot, ", ", "step_ms", "longest step", 3);
        fprintf(gnuplot, ", %.6g with lines lw 2 dt 2 title 'budget'",
                p->budget_ms > 0 ? p->budget_ms : 1000.0 / 60);
    }
    fprintf(gnuplot, "\nunset multiplot\nunset output\n");
}

/* gnuplot, which reads what is written; what it says itself is not of interest.
 * NULL if it can't be begun. */
static FILE *begin_gnuplot(pid_t *child)
{
    int ends[2];
    if (pipe(ends) != 0)
        return NULL;
    *child = fork();
    if (*child == 0) {
        int nowhere = open("/dev/null", O_WRONLY);
        dup2(ends[0], 0);
        dup2(nowhere, 1);
        dup2(nowhere, 2);
        close(ends[0]);
        close(ends[1]);
        execlp("gnuplot", "gnuplot", (char *)NULL);
        _exit(127);
    }
    close(ends[0]);
    FILE *file = *child > 0 ? fdopen(ends[1], "w") : NULL;
    if (file == NULL)
        close(ends[1]);
    return file;
}

/* Whether it came to a good end. */
static bool end_gnuplot(FILE *file, pid_t child)
{
    int status = -1;
    bool whole = fclose(file) == 0;
    return waitpid(child, &status, 0) == child && whole && status == 0;
}

/* A whole file or none, as pictures are. */
static int draw_curves(const plotter *p)
{
    char part[4096];
    struct stat made;
    pid_t child;
    snprintf(part, sizeof part, "%s.part", p->output);
    remove(part);
    signal(SIGPIPE, SIG_IGN); /* it may not be there */
    FILE *gnuplot = begin_gnuplot(&child);
    bool fine = gnuplot != NULL;
    if (fine) {
        write_curves(p, gnuplot, part, ends_with(p->output, ".png"));
        fine = end_gnuplot(gnuplot, child);
    }
    if (fine && stat(part, &made) == 0 && made.st_size > 0 &&
        rename(part, p->output) == 0)
        return FINE;
    remove(part);
    return say_why(p->output,
                   fine ? "can't be written"
                        : "gnuplot is not there, or has failed: the numbers "
                          "(without -o) can be drawn by others");
}

static int end_plot(void *user)
{
    plotter *p = user;
    if (p->kit != NULL) {
        if (p->count > 0)
            p->rows[p->count - 1].frame_ms =
                (double)p->durations.max_frame_ns / 1e6;
        ikv_loop_measure(ikv_kit_loop(p->kit), NULL);
        ikv_bus_remove_watcher(p->bus, watch_run, p);
    }
    int code = FINE;
    if (p->lost)
        code = say_why("frames", "no memory");
    else if (p->count == 0)
        code = say_why(p->title, "no frame ended in it (ikvar run --json makes "
                                 "whole traces)");
    else if (p->output != NULL)
        code = draw_curves(p);
    else
        write_numbers(p, stdout);
    if (p->output == NULL && (fflush(stdout) != 0 || ferror(stdout) != 0))
        code = say_why("standard output", "can't be written");
    free(p->rows);
    p->rows = NULL;
    return code;
}

int plot_command(int argc, char **argv)
{
    plotter p = {.count = 0};
    int code;
    arguments left;
    const option_row options[] = {
        {"output", 'o', OPTION_TEXT, &p.output, "FILE",
         "curves, in a file that ends in .png or .svg (by gnuplot);\nelse the "
         "numbers, as CSV on standard output",
         0, 0},
        {"light", 'l', OPTION_FLAG, &p.light, NULL, "on white, for print", 0,
         0},
        {0}};
    if (!parse_options(
            argc, argv, options,
            "plot SETUP TAPE | plot TRACE\n\nWhat comes and is done "
            "in each frame: events by family, calls, what was\n"
            "deferred and merged, what waits, contacts, and how long "
            "frames and steps take on\nthis machine, which a trace "
            "does not tell.",
            &left, &code))
        return code;
    const char *first = next_argument(&left), *tape = next_argument(&left);
    bool alone = tape == NULL && first != NULL && is_trace(first);
    if (first == NULL || left.count > 0 || (tape == NULL && !alone)) {
        fprintf(stderr,
                "ikvar plot: expected SETUP TAPE, or TRACE; see ikvar plot "
                "--help\n");
        return WRONG_USE;
    }
    code = check_picture("plot", p.output, first, tape);
    if (code != FINE)
        return code;
    const char *slash = strrchr(tape != NULL ? tape : first, '/');
    p.title = slash != NULL ? slash + 1 : tape != NULL ? tape : first;
    if (tape == NULL) {
        code = read_frames(&p, first);
        if (code == FINE)
            return end_plot(&p);
        free(p.rows);
        return code;
    }
    run_plan plan = {.command = "plot",
                     .setup = first,
                     .tape = tape,
                     .begin = begin_plot,
                     .end = end_plot,
                     .user = &p};
    code = run_plan_through(&plan);
    free(p.rows);
    return code;
}
