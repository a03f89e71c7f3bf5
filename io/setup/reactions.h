/* reactions.h - what reactions are, for reactions.c, which runs them, and
 * reaction_read.c, which reads them. */
#ifndef IKVI_REACTIONS_H
#define IKVI_REACTIONS_H

#include "setup.h"

/* What a reaction takes. */
enum takes {
    TAKES_NOTHING,   /* "stop" */
    TAKES_TARGET,    /* "capture", or {"capture": "ferry"} */
    TAKES_HANDLER,   /* "unsubscribe", or {"mute": "greet"} */
    TAKES_FIELD,     /* {"toggle": "lit"}, or with a target */
    TAKES_VALUE,     /* {"set": {"field": "lit", "value": true}} */
    TAKES_POSITION,  /* {"move": {"x": 1, "y": 2}} */
    TAKES_EVENT,     /* {"deliver": {"kind": "horn.sounded", ...}} */
    TAKES_LANE,      /* {"defer": {"kind": ..., "lane": "frame"}} */
    TAKES_TEXT,      /* {"log": "text"} */
    TAKES_DIRECTION, /* {"focus_toward": "left"} */
    TAKES_SET,       /* {"push_set": "menu"} */
    TAKES_SEAT,      /* {"set_seat": 1} */
    TAKES_FEED       /* {"feed": {"action": "horn", "x": 1}} */
};

struct reaction_row {
    const char *name;
    enum takes takes;
    reaction_fn run;
    const char *form;
};

enum {
    MOST_REACTIONS = 64 /* rows of the table, at most */
};

/* In the order of IKV_TOWARD_...; NULL ends them. */
extern const char *const ikvi_directions[];
/* NULL if there is none of that name. */
const struct reaction_row *ikvi_find_reaction(const char *name);
/* The name of one by its place in the table; NULL past the last. */
const char *ikvi_reaction_name(size_t index);

#endif
