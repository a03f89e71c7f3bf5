/* watch.c - ikvar watch: a run in a terminal, live or of a tape.
 *
 * There are two loops. The outer one has the terminal and goes by its clock; all
 * that it takes in is a key of watch's, or is fed to the inner one, whose frames
 * it runs when they are due. So a run that is paused or slow is the same run.
 */
#define _POSIX_C_SOURCE 200809L
#include "watch.h"

#include <ikvar/keys.h>

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum {
    FRAMES_HZ = 30,
    FRAMES_AT_ONCE = 30, /* of the run, in one of the screen's */
    DECISIONS = 2000,
    KEYS = 10 /* F1 to F10, which are watch's */
};

typedef struct terminal_view {
    watcher *w;
    ikv_kit *kit;
    ikv_port port;
    cells grid;
    int columns, rows;
    int pointer_column, pointer_row;
    uint64_t last_ns;
    bool anew, changed, quits;
} terminal_view;

static int say(int code, const char *text)
{
    fprintf(stderr, "ikvar watch: %s\n", text);
    return code;
}

/* ------------------------------------------------------------------ the run -- */

static void note_report(const ikv_report *report, void *user)
{
    watcher *w = user;
    snprintf(w->note, sizeof w->note, "%.20s: %.180s", report->module,
             report->text);
}

static int open_input(watcher *w)
{
    ikv_message message;
    ikv_sim_config config = IKV_SIM_INIT;
    if (w->tape_path == NULL) {
        w->port = watch_feed(w);
        return FINE;
    }
    if (ikv_tape_open(w->tape_path, w->setup, &w->tape, &message) < 0)
        return say(BAD_INPUT, message.text);
    config.tape = w->tape;
    return ikv_sim_open(&config, &w->port) < 0 ? say(BAD_INPUT, "no memory")
                                               : FINE;
}

static int open_run(watcher *w)
{
    ikv_message message = {"no memory"};
    ikv_kit_config config = IKV_KIT_INIT;
    if (ikv_setup_read(w->setup_path, &w->setup, &message) < 0)
        return say(BAD_INPUT, message.text);
    int code = open_input(w);
    if (code != FINE)
        return code;
    config.reporter = (ikv_reporter){note_report, w};
    if (w->tape != NULL && ikv_tape_about(w->tape).at_frame)
        config.loop.timing = IKV_AT_FRAME;
    if (!open_kit(&config, w->setup, &w->port, &w->kit, &message))
        return say(BAD_INPUT, message.text);
    w->frame_ns = 1000000000 / (config.loop.frame_hz > 0 &&
                                        config.loop.frame_hz != IKV_UNPACED
                                    ? config.loop.frame_hz
                                    : 60);
    w->trail = (ikv_trail){w->points, TRAIL, 0, 0};
    if (ikv_why_watch(w->kit, DECISIONS, &w->past) < 0 ||
        ikv_bus_add_watcher(ikv_kit_bus(w->kit),
                            IKV_WATCH_EVENT | IKV_WATCH_CALL | IKV_WATCH_SKIP,
                            watch_listen, w) < 0)
        return say(BAD_INPUT, "no memory");
    return FINE;
}

static void close_run(watcher *w)
{
    ikv_why_unwatch(w->past);
    ikv_kit_close(w->kit);
    if (w->tape_path != NULL)
        ikv_sim_close(&w->port);
    ikv_tape_close(w->tape);
    ikv_setup_close(w->setup);
}

static void run_frame(watcher *w)
{
    ikv_loop *loop = ikv_kit_loop(w->kit);
    if (!ikv_loop_begin(loop)) {
        w->ended = true;
        return;
    }
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

/* As many frames as are due by now; what a slow terminal has missed is left out. */
static int run_due(watcher *w, uint64_t passed_ns)
{
    int frames = 0;
    if (w->paused || w->ended)
        return 0;
    w->credit_ns += (double)passed_ns * (double)w->speed / 1000;
    for (; w->credit_ns >= (double)w->frame_ns && frames < FRAMES_AT_ONCE &&
           !w->ended;
         frames++) {
        run_frame(w);
        w->credit_ns -= (double)w->frame_ns;
    }
    if (frames == FRAMES_AT_ONCE)
        w->credit_ns = 0;
    return frames;
}

/* ----------------------------------------------------------------- the tape -- */

/* What comes in grows in a file from the beginning on, which is copied when that
 * is asked for: a copy is a tape that ends there. */
static void begin_tape(watcher *w)
{
    ikv_message message;
    ikv_recording_config config = IKV_RECORDING_INIT;
    snprintf(w->growing, sizeof w->growing, "watch-%ld.tape.jsonl",
             (long)getpid());
    config.path = w->growing;
    config.kit = w->kit;
    config.setup = w->setup;
    config.setup_path = w->setup_path;
    if (ikv_recording_open(&config, &w->recording, &message) < 0) {
        w->growing[0] = '\0';
        snprintf(w->note, sizeof w->note, "nothing can be saved here: %.200s",
                 message.text);
    }
}

static void end_tape(watcher *w)
{
    ikv_message message;
    if (w->recording == NULL)
        return;
    ikv_recording_close(w->recording, &message);
    remove(w->growing);
}

static bool copy_file(const char *from_path, const char *to_path)
{
    char buffer[16384];
    size_t count;
    FILE *from = fopen(from_path, "rb");
    FILE *to = from != NULL ? fopen(to_path, "wbx") : NULL;
    bool good = to != NULL;
    while (good && (count = fread(buffer, 1, sizeof buffer, from)) > 0)
        good = fwrite(buffer, 1, count, to) == count;
    good = good && !ferror(from);
    if (to != NULL && fclose(to) != 0)
        good = false;
    if (from != NULL)
        fclose(from);
    return good;
}

static void save_tape(watcher *w)
{
    char part[128], name[128];
    if (w->recording == NULL) {
        if (w->tape_path != NULL)
            snprintf(w->note, sizeof w->note, "it is a tape already: %.200s",
                     w->tape_path);
        return;
    }
    do
        snprintf(name, sizeof name, "watch-%d.tape.jsonl", ++w->saved);
    while (access(name, F_OK) == 0);
    snprintf(part, sizeof part, "%s.part", w->growing);
    if (copy_file(part, name))
        snprintf(w->note, sizeof w->note, "saved: %s", name);
    else
        snprintf(w->note, sizeof w->note, "%s: %s", name, strerror(errno));
}

/* --------------------------------------------------------------------- keys -- */

static void pause_run(terminal_view *t)
{
    t->w->paused = !t->w->paused;
    t->w->credit_ns = 0;
}

static void step_run(terminal_view *t)
{
    if (t->w->paused && !t->w->ended)
        run_frame(t->w);
}

static void slower(terminal_view *t)
{
    if (t->w->speed > 32)
        t->w->speed /= 2;
}

static void faster(terminal_view *t)
{
    if (t->w->speed < 16000)
        t->w->speed *= 2;
}

static void next_filter(terminal_view *t)
{
    t->w->filter = (t->w->filter + 1) % (2 + IKV_FAMILY_COUNT);
}

static void choose(watcher *w, int subject)
{
    w->subject = subject;
    w->answer[0] = '\0';
}

/* One after the other, and none behind the last. */
static void next_target(terminal_view *t)
{
    watcher *w = t->w;
    bool more = ikv_setup_name(w->setup, IKV_SETUP_TARGETS,
                               (uint32_t)(w->subject + 1)) != NULL;
    choose(w, more ? w->subject + 1 : -1);
}

static int find_target(const watcher *w, const char *id)
{
    const char *name;
    for (int i = 0; (name = ikv_setup_name(w->setup, IKV_SETUP_TARGETS,
                                           (uint32_t)i)) != NULL;
         i++)
        if (strcmp(name, id) == 0)
            return i;
    return -1;
}

/* What a press there would hit. */
static void target_under_pointer(terminal_view *t)
{
    watcher *w = t->w;
    ikv_query query = IKV_QUERY_INIT;
    ikv_target found[1];
    if (!watch_place(w, t->pointer_column, t->pointer_row, &query.x, &query.y))
        return;
    if (ikv_scene_pick_all(ikv_kit_scene(w->kit), &query, found, 1) > 0)
        choose(w, find_target(w, ikv_setup_target_name(w->setup, found[0])));
}

static void show_help(terminal_view *t)
{
    t->w->help = !t->w->help;
}

static void save(terminal_view *t)
{
    save_tape(t->w);
}

static void end(terminal_view *t)
{
    t->quits = true;
}

static void (*const key_rows[KEYS])(terminal_view *t) = {
    show_help,   pause_run, step_run,
    slower,      faster,    next_filter,
    next_target, save,      target_under_pointer,
    end};

/* ----------------------------------------------------------------- terminal -- */

/* Which of watch's keys it is, from 0 on; -1: none. */
static int own_key(const ikv_event *event)
{
    const uint32_t first = IKV_CODE(0x3a); /* F1 (USB HID, keyboard page) */
    bool key =
        event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP;
    return key && event->key.code - first < KEYS
               ? (int)(event->key.code - first)
               : -1;
}

/* All that the terminal's port has pushed, before it goes anywhere. */
static void take_input(const ikv_watch *watch, void *user)
{
    terminal_view *t = user;
    const ikv_event *event = watch->event;
    t->changed = true;
    if (event->kind == IKV_KIND_WINDOW_RESIZE) {
        t->columns = (int)event->window.width;
        t->rows = (int)event->window.height;
        t->anew = true;
    } else if (event->kind == IKV_KIND_WINDOW_CLOSE) {
        t->quits = true;
    } else if (own_key(event) >= 0) {
        if (event->kind == IKV_KIND_KEY_DOWN) {
            t->w->note[0] = '\0';
            key_rows[own_key(event)](t);
        }
    } else {
        if (event->kind == IKV_KIND_POINTER_MOVE ||
            event->kind == IKV_KIND_POINTER_DOWN) {
            t->pointer_column = (int)event->pointer.x;
            t->pointer_row = (int)event->pointer.y;
        }
        watch_take(t->w, event);
    }
}

static int open_terminal(terminal_view *t)
{
    ikv_message message = {"no memory"};
    ikv_terminal_config config = IKV_TERMINAL_INIT;
    ikv_kit_config kit = IKV_KIT_INIT;
    config.whole_screen = true;
    if (ikv_terminal_open(&config, &t->port, &message) < 0)
        return say(BAD_INPUT, message.text);
    kit.memory = ikv_host_memory();
    kit.ports = &t->port;
    kit.port_count = 1;
    kit.loop.frame_hz = FRAMES_HZ;
    if (ikv_kit_open(&kit, &t->kit) < 0 ||
        ikv_bus_add_watcher(ikv_kit_bus(t->kit), IKV_WATCH_TAKE, take_input,
                            t) < 0)
        return say(BAD_INPUT, "no memory");
    return FINE;
}

static void run_loop(terminal_view *t)
{
    ikv_loop *loop = ikv_kit_loop(t->kit);
    while (!t->quits && ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        uint64_t now = ikv_loop_time_ns(loop);
        if (run_due(t->w, now - t->last_ns) > 0 || t->changed || t->anew) {
            watch_draw(t->w, &t->grid, t->columns, t->rows);
            screen_show(&t->grid, t->anew);
        }
        t->last_ns = now;
        t->changed = t->anew = false;
        ikv_loop_end(loop);
    }
}

/* The terminal's size before it is told. */
static void measure(terminal_view *t)
{
    t->columns = 80;
    t->rows = 24;
    screen_size(&t->columns, &t->rows);
}

static int watch_live(watcher *w)
{
    static terminal_view view;
    view = (terminal_view){.w = w, .anew = true};
    int code = open_terminal(&view);
    if (code == FINE && w->tape_path == NULL)
        begin_tape(w);
    if (code == FINE)
        code = screen_open() ? FINE : BAD_INPUT;
    if (code == FINE) {
        measure(&view);
        run_loop(&view);
        screen_close();
    }
    end_tape(w);
    ikv_kit_close(view.kit);
    ikv_terminal_close(&view.port);
    return code;
}

/* Without a terminal: what would be seen at a moment. */
static int print_screen(watcher *w, double at_ms, int columns, int rows)
{
    static cells grid;
    const ikv_loop *loop = ikv_kit_loop(w->kit);
    while (!w->ended && (double)ikv_loop_time_ns(loop) < at_ms * 1e6)
        run_frame(w);
    watch_draw(w, &grid, columns, rows);
    cells_print(&grid, stdout);
    return FINE;
}

/* ------------------------------------------------------------------ command -- */

/* "80x24" */
static bool read_size(const char *text, int *columns, int *rows)
{
    char *end = NULL;
    if (text == NULL)
        return true;
    long wide = strtol(text, &end, 10);
    long high = *end == 'x' ? strtol(end + 1, &end, 10) : 0;
    if (*end == '\0' && wide > 0 && wide <= MOST_COLUMNS && high > 0 &&
        high <= MOST_ROWS) {
        *columns = (int)wide;
        *rows = (int)high;
        return true;
    }
    char shown[256];
    fprintf(stderr,
            "ikvar watch: --print: found \"%s\", expected a size such as "
            "80x24, at most %dx%d\n",
            ikv_shown_text(text, shown, sizeof shown), MOST_COLUMNS, MOST_ROWS);
    return false;
}

static int unknown_target(const watcher *w, const char *id)
{
    char shown[256];
    fprintf(stderr, "ikvar watch: %s has no target \"%s\"\n", w->setup_path,
            ikv_shown_text(id, shown, sizeof shown));
    return BAD_INPUT;
}

int watch_command(int argc, char **argv)
{
    static watcher w;
    const char *target = NULL, *print = NULL;
    double at_ms = 0;
    int code, columns = 0, rows = 0;
    arguments left;
    w = (watcher){.speed = 1000, .subject = -1};
    const option_row options[] = {
        {"target", 't', OPTION_TEXT, &target, "ID",
         "tell why of this target, from the beginning", 0, 0},
        {"print", 'p', OPTION_TEXT, &print, "COLUMNSxROWS",
         "no terminal: print what would be seen, and end", 0, 0},
        {"at", 'a', OPTION_NUMBER, &at_ms, "MS",
         "with --print: the moment, on the tape", 0, 1e10},
        {0}};
    if (!parse_options(
            argc, argv, options,
            "watch SETUP [TAPE] [options]\n\nThe scene in this terminal, with "
            "its own mouse and keys as input, or as a tape\nplays it: events, "
            "what is down, how full all is, and why. F1 shows the keys.",
            &left, &code))
        return code;
    w.setup_path = next_argument(&left);
    w.tape_path = next_argument(&left);
    if (w.setup_path == NULL || left.count > 0)
        return say(WRONG_USE, "expected SETUP [TAPE]; see ikvar watch --help");
    if (at_ms > 0 && (print == NULL || w.tape_path == NULL))
        return say(WRONG_USE, "--at is of --print, with a tape");
    if (!read_size(print, &columns, &rows))
        return WRONG_USE;
    const char *slash = strrchr(w.setup_path, '/');
    w.title = slash != NULL ? slash + 1 : w.setup_path;
    code = open_run(&w);
    if (code == FINE && target != NULL &&
        (w.subject = find_target(&w, target)) < 0)
        code = unknown_target(&w, target);
    if (code == FINE)
        code = print != NULL ? print_screen(&w, at_ms, columns, rows)
                             : watch_live(&w);
    if (w.tape != NULL && w.kit != NULL && ikv_sim_fault(&w.port) != NULL)
        code = say(BAD_INPUT, ikv_sim_fault(&w.port));
    close_run(&w);
    return code;
}
