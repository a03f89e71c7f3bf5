/* routed.h - boxes that hands point at, a router over them, and a model that
 * keeps docs/routing.md's rules in the plainest way. Both are played the same
 * bytes (routed.c); what they tell must be the same.
 */
#ifndef IKV_FUZZ_ROUTED_H
#define IKV_FUZZ_ROUTED_H

#include "fuzz.h"

enum {
    BOXES = 9,
    ROOT = BOXES, /* above all of them */
    NOBODY = -1,
    HANDS = 5, /* a mouse, a pen, three fingers of a third device */
    DEVICES = 3,
    SEATS = 2,
    VIEW = 100,   /* as wide and high */
    HOLD_MS = 500 /* also the longest between two clicks */
};

/* Of the system in place of a hand: see play(). */
enum {
    BLURS = 200,
    UNPLUGS,
    CANCELS_ALL,
    SETS_MODAL,
    FOCUSES,
    RESEATS,
    ONLY_CHANGES
};

typedef struct box {
    bool alive, hit, passes, captures, focusable, hidden, live;
    int parent;
    uint32_t views; /* bit n: it is seen in view n */
    uint32_t z;     /* each has its own */
    float left, top, right, bottom;
} box;

/* What was told, to whom, or answered. */
typedef struct told {
    uint32_t kind; /* of the event; 0: of an answer */
    int hand, target, related, button;
    uint32_t buttons, flags, view, seat;
    int number; /* clicks, accepted, why the focus went, the answer */
    float x, y, dx, dy, scale, rotation; /* from dx on: of two fingers */
    bool passed;
} told;

/* One thing that is done: a kind that a port pushes, or of the list above. */
typedef struct input {
    uint32_t kind;
    int hand, button;
    uint32_t view, seat;
    float x, y;
    uint64_t time_ms;
    bool changes; /* a box, before it */
} input;

/* What both have: the boxes, and the bytes from which handlers do something. */
typedef struct side side;
struct side {
    const uint8_t *at, *end;
    box boxes[BOXES];
    uint64_t revision; /* of the boxes */
    uint32_t depth;    /* of handlers that act */
    uint32_t seats[DEVICES];
    bool two_tap_alone;
    void (*tell)(side *s, const told *what);
    ikv_status (*capture)(side *s, int hand, int target);
    ikv_status (*release)(side *s, int hand, int target);
    ikv_status (*drag)(side *s, int hand, int target);
    ikv_status (*focus)(side *s, uint32_t seat, int target);
    ikv_status (*set_modal)(side *s, uint32_t seat, int target);
    void (*cancel_all)(side *s, uint32_t seat);
    void (*remove)(side *s, int box, int former_parent);
};

/* routed.c */
uint32_t take_byte(side *s);
/* The nth box from the top at a place of a view, NOBODY past the last. */
int box_at(const side *s, uint32_t view, float x, float y, uint32_t nth);
bool is_hidden(const side *s, int target);
bool is_within(const side *s, int target, int top);
/* From the root to it; how many. */
int path_to(const side *s, int target, int path[BOXES + 1]);
/* A handler of an event of that hand, NOBODY: of none. What it returns. */
ikv_verdict act(side *s, int hand);
/* Something happens to a box. */
void change_box(side *s);
bool is_touch(int hand);
/* From 0 on. */
int device_of(int hand);

/* routed_model.c */
typedef struct model model;
side *model_open(void);
/* As the loop does it: what rests is tested again, then what comes. */
void model_take(side *s, const input *what);

#endif
