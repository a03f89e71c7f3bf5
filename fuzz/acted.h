/* acted.h - what actions, and the model of their rules beside them, share: the
 * input, what is called while it is taken, and what both tell. */
#ifndef IKV_FUZZ_ACTED_H
#define IKV_FUZZ_ACTED_H

#include "fuzz.h"

#include <ikvar/keys.h>

enum {
    NOBODY = -1,
    SEATS = 2,
    ACTIONS = 5,
    SETS = 3, /* actions are in the one after the other */
    BINDINGS = 16,
    PARTS = 4,
    CODES = 8,
    PAD_BUTTONS = 2,
    PAD_AXES = 5,   /* of which two are the left stick, and the last is none */
    PAD_VALUES = 8, /* of which the last two are told */
    FEEDER = 9      /* a device */
};

/* What a part of a binding is. */
typedef enum part_type {
    OF_KEY,
    OF_MODIFIER,
    OF_ANY_KEY,
    OF_BUTTON,
    OF_PAD,
    OF_AXIS,
    OF_AXIS_PLUS,
    OF_AXIS_MINUS,
    OF_STICK, /* 0: the left one */
    OF_VALUE,
    OF_WHEEL, /* 0: up, 1: down */
    OF_CLICK,
    OF_MOVE
} part_type;

typedef struct part {
    part_type type;
    uint32_t number;
} part;

typedef struct shape {
    const char *text;
    bool axis;
    int count;
    part parts[PARTS];
} shape;

extern const shape shapes[];
extern const uint32_t shape_count;
extern const uint32_t codes[CODES];

typedef struct told {
    uint32_t kind, flags, seat, steps, device, modifiers, cause;
    int action, binding;
    uint64_t time_ns, cause_ns;
    float value, x, y;
} told;

/* One of the two: actions, or the model. */
typedef struct side side;
struct side {
    const uint8_t *at, *end;
    int calls; /* within handlers, so that they end */
    uint64_t now_ns;
    /* Numbers of bindings that are taken, by which actions; and how many calls
     * are about to end each. */
    bool bound[BINDINGS];
    int of[BINDINGS], in_life[BINDINGS], leaves[BINDINGS];
    int lives[ACTIONS]; /* how often each was added */
    /* What hands hold down, whoever has been told. */
    bool key[SEATS][CODES], pad[SEATS][PAD_BUTTONS];
    int button[SEATS]; /* NOBODY: none */
    void (*state)(side *s, const ikv_event *event, bool claimed);
    void (*take)(side *s, const ikv_event *event, bool claimed);
    void (*settle)(side *s, uint64_t time_ns, bool typed, bool lost);
    void (*step)(side *s, uint64_t time_ns);
    ikv_status (*switch_set)(side *s, uint32_t set, uint32_t seat, bool on);
    ikv_status (*push)(side *s, uint32_t set, uint32_t seat, bool joins);
    ikv_status (*pop)(side *s, uint32_t seat);
    ikv_status (*start_held)(side *s, uint32_t set, uint32_t seat);
    ikv_status (*bind)(side *s, int action, uint32_t form, int number);
    ikv_status (*unbind)(side *s, int number);
    ikv_status (*add)(side *s, int action);
    ikv_status (*remove)(side *s, int action);
    ikv_status (*toggle)(side *s, int action, uint32_t seat, bool on);
    ikv_status (*feed)(side *s, int action, uint32_t seat, float x, float y);
    ikv_status (*repeat)(side *s, uint32_t seat, uint64_t after_ns,
                         uint64_t every_ns);
    void (*check)(side *s); /* notes what can be asked */
    void (*tell)(side *s, const told *what);
};

/* What a handler does; and what is noted of a status or a number. */
void act(side *s);
void note_number(side *s, uint32_t what, uint64_t number);

side *model_open(void);

#endif
