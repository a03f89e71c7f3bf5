/* watch.h - ikvar watch: a run in a terminal, live or of a tape.
 *
 * What is shown is a grid of cells, which knows nothing of terminals; so it can be
 * printed and tested without one. The run's clock is watch's own: a frame of the
 * run lasts as long as watch lets it.
 *
 * Files, lowest first: watch_cells.c, watch_scene.c, watch_panels.c, watch_feed.c,
 * watch_curses.c, watch.c.
 */
#ifndef IKV_WATCH_H
#define IKV_WATCH_H

#include "picture.h"
#include "tool.h"

#include <ikvar/ports.h>

enum {
    LEAST_COLUMNS = 60,
    LEAST_ROWS = 20,
    MOST_COLUMNS = 400,
    MOST_ROWS = 150
};

/* How a cell is drawn: the inks of IKV_DRAW_..., and these. */
enum {
    INK_TEXT = IKV_DRAW_COUNT,
    INK_QUIET, /* what matters less */
    INK_TITLE, /* in reverse */
    INK_WARN,  /* what is unusual: paused, full */
    INK_COUNT
};

/* ----------------------------------------------------------------- cells -- */

typedef struct cell {
    uint32_t character; /* code point */
    uint8_t ink;
} cell;

typedef struct cells {
    int columns, rows;
    cell at[MOST_ROWS][MOST_COLUMNS];
} cells;

/* A part of the grid: nothing is drawn outside. */
typedef struct panel {
    cells *grid;
    int column, row, columns, rows;
} panel;

void cells_clear(cells *grid, int columns, int rows);
void panel_put(const panel *p, int column, int row, uint32_t character,
               uint8_t ink);
/* Text from there to the panel's edge; what is cut ends with "~". Returns the
 * column behind it. */
int panel_text(const panel *p, int column, int row, uint8_t ink,
               const char *format, ...) __attribute__((format(printf, 5, 6)));
/* Lines of a text, broken at spaces; returns the row behind it. */
int panel_lines(const panel *p, int row, uint8_t ink, const char *text);
void panel_line(const panel *p, float x, float y, float x2, float y2,
                uint32_t character, uint8_t ink);
/* As UTF-8, without spaces at the lines' ends. */
void cells_print(const cells *grid, FILE *file);

/* ---------------------------------------------------------------- the run -- */

enum {
    KEPT_LINES = 400, /* events that are kept */
    LINE_BYTES = 160,
    KEPT_DEPTHS = 32,
    TRAIL = 256,
    FED = 256
};

typedef struct event_line {
    char text[LINE_BYTES];
    uint8_t family;
    bool heard;
} event_line;

typedef struct watcher {
    const char *setup_path, *tape_path, *title;
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_kit *kit;
    ikv_port port; /* of the run: the tape's, or what is fed */
    ikv_why_past *past;
    uint64_t frame_ns; /* how long one frame of it is */
    /* how it goes on */
    bool paused, ended;
    uint32_t speed; /* in thousandths */
    double credit_ns;
    /* what is shown */
    event_line lines[KEPT_LINES];
    uint64_t line_count;
    uint64_t under_way[KEPT_DEPTHS]; /* whose lines these are, from 1 on */
    int filter;                      /* 0: heard, 1: all, then families */
    bool help;
    int subject; /* which of the setup's targets; -1: none */
    char answer[2048];
    uint64_t answered; /* how many decisions there were then */
    uint64_t decisions;
    char note[256]; /* what watch itself has to say */
    ikv_trail trail;
    ikv_trail_point points[TRAIL];
    /* where the scene is */
    extent view;
    panel scene;
    float scale_x, scale_y; /* cells a unit */
    /* what is fed */
    ikv_sink *sink;
    uint16_t keyboard, mouse;
    uint64_t now_ns;
    ikv_event fed[FED];
    uint32_t fed_count;
    bool lost_keys, lost_buttons; /* there was no room for one in `fed` */
    uint16_t buttons;             /* that went down within the scene */
    /* the tape that all live input goes to */
    ikv_recording *recording;
    char growing[64];
    int saved;
} watcher;

/* Draws all of it. */
void watch_draw(watcher *w, cells *grid, int columns, int rows);
/* The scene in its panel. */
void watch_draw_scene(watcher *w);
/* A place on the screen in view units; false if the scene is not there. */
bool watch_place(const watcher *w, int column, int row, float *x, float *y);

/* Notes what the run's bus tells. */
void watch_listen(const ikv_watch *watch, void *watcher);
/* Asks why of the chosen target, if anything has happened since. */
void watch_ask(watcher *w);

/* A port of what is fed, on the watcher's clock. */
ikv_port watch_feed(watcher *w);
/* Gives it what a terminal's port has pushed: places are cells. */
void watch_take(watcher *w, const ikv_event *event);

/* The terminal that is drawn on, by ncurses; false after a message. */
bool screen_open(void);
/* As it is; unchanged if that is not known. */
void screen_size(int *columns, int *rows);
void screen_show(const cells *grid, bool anew);
void screen_close(void);

#endif
