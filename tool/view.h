/* view.h - a run's page on its way: lines of a trace become rows, which page/page.js
 * reads. Texts are names by number; what a target looks like is written again only
 * when it is not what it was, moved. All sentences are made here.
 *
 * Files, lowest first: view_rows.c, view_scene.c, view_lines.c, view.c.
 */
#ifndef IKV_VIEW_H
#define IKV_VIEW_H

#include "tool.h"

#include <jansson.h>
#include <stdbool.h>
#include <stdio.h>

/* Lists of rows, in the page's data under these names. */
enum section {
    NAMES,
    SHAPES,
    RESTS,
    PATHS,
    EVENTS,
    CALLS,
    DECISIONS,
    MOMENTS,
    ORDERS,
    MARKS,
    POINTERS,
    ANSWERS,
    SECTIONS
};

typedef struct section_text {
    char *text;
    size_t size;
    FILE *file;
    size_t rows;
} section_text;

/* Targets that have moved together in this scene, since they were written in
 * full. */
typedef struct movement {
    double by[2];
    json_int_t *names;
    size_t count, room;
} movement;

typedef struct viewer {
    const char *output, *title, *path;
    double until_ms;
    section_text sections[SECTIONS];
    json_t *names, *shapes, *rests, *paths; /* to their numbers */
    json_t **looks; /* of targets, by their names, or NULL */
    size_t look_count;
    movement moved;
    unsigned char *written; /* which events have a row: bits, by number */
    size_t number_room;     /* bytes */
    /* since the last moment */
    size_t calls, merged, deferred;
    double t;
    json_int_t step, moment_step;
    bool began;
    size_t scenes;
    json_t *view;
    double box[4]; /* around all that is drawn: left, top, right, bottom */
    bool lost;     /* no memory */
    FILE *trace;
    ikv_trace *writer;
} viewer;

/* False for lack of memory. */
bool view_begin(viewer *v);
void view_end(viewer *v);
/* What a section is called in the page's data. */
const char *view_section_name(enum section section);

/* Where the next row of a section goes; NULL for lack of memory. */
FILE *view_row(viewer *v, enum section section);
void view_put_json(viewer *v, FILE *file, const json_t *value);
/* `value` is given away. */
void view_add(viewer *v, json_t *list, json_t *value);
void view_put_number(FILE *file, double value);
/* The number of a name; a member's text, "" if there is none. */
json_int_t view_name(viewer *v, const char *name);
const char *view_text(const json_t *line, const char *member);
/* The number of a row among those of its section, where it is added if it is not
 * there. The row is given away. */
json_int_t view_list(viewer *v, json_t *list, json_t *row,
                     enum section section);
/* What has come since the last moment makes one. */
void view_end_moment(viewer *v);

/* A line of the trace: NULL, or what is wrong with it. */
const char *view_take_scene(viewer *v, json_t *line);
const char *view_take_line(void *viewer, json_t *line);

#endif
