/* trace.h - a trace's inside.
 *
 * A line is complete when its handler has returned, and handlers deliver inside
 * handlers; so lines wait in `lines` until the outermost delivery has ended.
 *
 * Files, lowest first: trace_lines.c, trace_scene.c, trace_decisions.c, trace.c.
 */
#ifndef IKVI_IO_TRACE_H
#define IKVI_IO_TRACE_H

#include "../setup/setup_shared.h"
#include "../text/write.h"

#include <stdlib.h>
#include <string.h>

/* A line that waits: its text is in the writer, but for what follows when its
 * handler has returned. */
typedef struct waiting_line {
    size_t end; /* of its text */
    ikv_verdict verdict;
    bool called, dropped, unheard;
} waiting_line;

enum {
    DEPTHS = 64
};

typedef struct trace_scene trace_scene;
typedef struct trace_decisions trace_decisions;

struct ikv_trace {
    FILE *file;
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_catalogue *catalogue;
    const ikv_setup *setup; /* or NULL */
    kit_names names;
    json_writer writer;
    waiting_line *lines;
    size_t count, room;
    size_t open[DEPTHS];     /* which lines' handlers run, by depth */
    uint64_t events[DEPTHS]; /* the numbers of events under way, by depth; 0:
                                one that is not told */
    uint64_t causes[DEPTHS]; /* and of those that they come of; 0: of none */
    uint64_t number, event;
    uint64_t now_ns, now_step; /* of the last event */
    bool steps_only, heard_only;
    bool failed;
    trace_scene *scene;         /* or NULL */
    trace_decisions *decisions; /* or NULL */
};

/* ---------------------------------------------------------------- lines -- */

/* The line in the writer has ended, but for what `line` says. */
void ikvi_trace_end_line(ikv_trace *trace, waiting_line line);
/* Into the file, when no handler runs any more. */
void ikvi_trace_flush(ikv_trace *trace);
/* A target's name, and whether it has gone. */
void ikvi_trace_target(ikv_trace *trace, const char *member, const char *gone,
                       ikv_target target);
/* The number of the event under way at that depth; 0: none is. */
uint64_t ikvi_trace_event(const ikv_trace *trace, uint32_t depth);

/* ---------------------------------------------------------------- scene -- */

/* What is seen, as lines of what has changed since the one before. NULL: no
 * memory. */
trace_scene *ikvi_trace_scene_open(void);
void ikvi_trace_scene_close(trace_scene *scene);
/* A line, if anything has changed. */
void ikvi_trace_scene_line(ikv_trace *trace);

/* ------------------------------------------------------------ decisions -- */

/* False for lack of memory. */
bool ikvi_trace_decisions_open(ikv_trace *trace);
void ikvi_trace_decisions_close(trace_decisions *decisions);
/* The event of that number begins, 0: one that is not told: what it comes of.
 */
uint64_t ikvi_trace_cause(ikv_trace *trace, const ikv_watch *watch,
                          uint64_t number);
/* Noted, and if it is told and no call, a line for what was decided. */
void ikvi_trace_decision(ikv_trace *trace, const ikv_watch *watch, bool told);
/* Lines of what `ikvar why` would answer. */
void ikvi_trace_answers(ikv_trace *trace);

#endif
