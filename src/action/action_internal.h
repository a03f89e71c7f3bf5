/* action_internal.h - the actions' inside: action.c keeps sets, actions and
 * bindings, action_text.c reads and writes a binding's text, action_run.c
 * starts and ends actions as input comes.
 *
 * Files, lowest first: action_text.c, action_measure.c, action_parts.c,
 * action_run.c, action_sets.c, action_probe.c, action.c.
 */
#ifndef IKVI_ACTION_INTERNAL_H
#define IKVI_ACTION_INTERNAL_H

#include "../bus/bus_shared.h"
#include "../event/names.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/slots.h"
#include "../event/stick.h"
#include "../event/text.h"
#include "../event/values.h"
#include "../router/router_shared.h"
#include "action_shared.h"

#include "ikvar/action.h"

enum {
    ACTION_PARTS = 4,
    ACTION_SEATS = 8,
    ACTION_QUEUE = 16, /* what may come of one input */
    TRIGGER_BUCKETS = 256
};

/* What a part of a binding is; `number` says which one. */
enum {
    PART_KEY = 1, /* USB HID usage */
    PART_ANY_KEY,
    PART_MODIFIER, /* IKV_SHIFT ... */
    PART_BUTTON,
    PART_CLICK,
    PART_DOUBLE,
    PART_HOLD,
    PART_TWO_TAP,
    PART_MOVE,
    PART_WHEEL, /* WHEEL_UP ... */
    PART_PAD,
    PART_AXIS,
    PART_AXIS_PLUS,
    PART_AXIS_MINUS,
    PART_VALUE,  /* of a pad's button */
    PART_STICK,  /* 0 left, 1 right */
    PART_FINGER, /* that is a stick, where it went down */
    PART_TYPES
};

enum {
    WHEEL_UP = 0,
    WHEEL_DOWN = 1,
    WHEEL_LEFT = 2,
    WHEEL_RIGHT = 3
};

/* From where on half an axis counts as pressed, and below where as let go. */
#define PRESS_AT   0.5f
#define RELEASE_AT 0.4f
/* How far past its dead zone a whole axis or stick must be to start: at the edge
 * itself, where it ends, a trembling one would start again and again. */
#define START_AT 0.05f

typedef struct action_part {
    uint8_t type, number;
} action_part;

/* A binding as it is read: a chord, whose last part triggers it, or an axis of
 * two or four parts. */
typedef struct action_shape {
    uint8_t count;
    bool axis;
    action_part parts[ACTION_PARTS];
} action_shape;

typedef struct action_binding {
    uint32_t action;             /* place */
    uint32_t next;               /* of the action's */
    uint32_t born;               /* counts bindings */
    uint32_t same[ACTION_PARTS]; /* next of the bindings with that trigger */
    ikv_scope scope;
    action_shape shape;
} action_binding;

/* A binding as a seat uses it. */
typedef struct binding_run {
    float value, x, y;
    float moved_x, moved_y;             /* in this step */
    float middle[2], radius, dead_zone; /* of a finger that is a stick */
    uint32_t tried;                     /* for which of `tries` */
    uint16_t device, pointer;
    bool on;
    bool moved;
} binding_run;

typedef struct action_row {
    uint32_t name;
    uint32_t first, last; /* of its bindings */
    ikv_action_set set;
    uint8_t toggles; /* a bit for each seat: a press starts, the next ends it */
} action_row;

/* What is being taken away while its end is told, and what was before it: bits,
 * 0 for none. */
typedef struct action_leaving {
    const struct action_leaving *outer;
    uint32_t binding, action;
} action_leaving;

/* An action as a seat uses it. */
typedef struct action_run {
    ikv_event cause;
    float value, x, y;
    float fed_x, fed_y;
    uint32_t steps, told; /* when a hold was told last */
    uint32_t on;          /* how many of its bindings are satisfied, and whether
                             it is fed */
    uint32_t binding;     /* that its values are of; NO_PLACE: what it is fed */
    uint32_t repeats;     /* that were told */
    uint16_t fed_device;
    uint8_t router;
    bool fed;
    bool latched; /* fed by a press, until the next one */
} action_run;

typedef struct action_set {
    uint32_t name;
    uint8_t off;   /* a bit for each seat */
    uint8_t was;   /* where it was on, while that changes */
    uint8_t fresh; /* where it came on by the press that is taken now */
} action_set;

/* Something that may start actions. */
typedef struct action_input {
    ikv_event event;
    uint8_t router;
    bool claimed;
    bool release; /* only axes may start by it: their other side is held */
} action_input;

/* A set that was pushed for a seat: what lies beneath is off, unless it joins
 * that. */
typedef struct action_push {
    ikv_action_set set;
    uint8_t seat;
    bool joins;
} action_push;

/* When what is held repeats, for a seat; 0: never. */
typedef struct action_times {
    uint64_t after_ns, every_ns;
} action_times;

typedef struct action_learning {
    bool on, done;
    uint32_t cancel_code;
    uint32_t modifier; /* the code of the one that was pressed last */
    action_shape shape;
} action_learning;

struct ikv_actions {
    const ikvi_actions_calls *calls; /* first: see action_shared.h */
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikv_bus *bus;
    ikv_state *state;
    ikv_reporter reporter;
    ikv_router *routers[IKV_ROUTER_LIMIT];
    uint32_t router_count;
    uint32_t seats, set_room;
    uint64_t changes;          /* of what is held: loops begin anew after one */
    bool resolving, synthetic; /* within a call: no image is made meanwhile */
    bool fresh;                /* of some set */
    const action_input *looking; /* what is looked at now; or NULL */
    const action_leaving *leaving;
    size_t sets, rows, action_runs, bindings, binding_runs, held;
    /* What an image holds of it, with the arrays behind. */
    struct {
        uint32_t step;  /* counts ikv_actions_step() */
        uint32_t tries; /* counts presses */
        uint32_t births;
        uint32_t set_count;
        ikvi_slots action_slots, binding_slots;
        ikvi_names names;
        uint32_t heads[TRIGGER_BUCKETS];
        uint32_t held_count;
        uint32_t axes;    /* bindings that are one of several parts */
        uint64_t time_ns; /* of what is being settled */
        uint32_t input_count;
        action_input input[ACTION_QUEUE];
        action_learning learning[ACTION_SEATS];
        action_times times[ACTION_SEATS];
        uint32_t pushed_count;
        action_push pushed[IKV_PUSH_LIMIT];
        ikv_actions_counts counters;
    } s;
};

#define NO_PLACE UINT32_MAX

/* `held` names bindings by place * seats + seat, and behind them the actions
 * that are fed likewise. */
static inline uint32_t first_fed(const ikv_actions *a)
{
    return a->s.binding_slots.capacity * a->seats;
}

static inline action_row *action_row_at(const ikv_actions *a, uint32_t place)
{
    IKVI_CHECK(place < a->s.action_slots.capacity);
    return (action_row *)ikvi_at(a, a->rows) + place;
}

static inline action_run *action_run_at(const ikv_actions *a, uint32_t place,
                                        uint32_t seat)
{
    IKVI_CHECK(place < a->s.action_slots.capacity && seat < a->seats);
    return (action_run *)ikvi_at(a, a->action_runs) + place * a->seats + seat;
}

static inline action_binding *binding_at(const ikv_actions *a, uint32_t place)
{
    IKVI_CHECK(place < a->s.binding_slots.capacity);
    return (action_binding *)ikvi_at(a, a->bindings) + place;
}

/* Of a binding and a seat: place * seats + seat. */
static inline binding_run *binding_run_at(const ikv_actions *a, uint32_t index)
{
    IKVI_CHECK(index < a->s.binding_slots.capacity * a->seats);
    return (binding_run *)ikvi_at(a, a->binding_runs) + index;
}

static inline action_set *action_set_at(const ikv_actions *a, uint32_t set)
{
    IKVI_CHECK(set < a->set_room);
    return (action_set *)ikvi_at(a, a->sets) + set;
}

/* Which bindings are satisfied, and which actions are fed, in the order in which
 * they were. */
static inline uint32_t *held_at(const ikv_actions *a, uint32_t nth)
{
    IKVI_CHECK(nth < first_fed(a) + a->s.action_slots.capacity * a->seats);
    return (uint32_t *)ikvi_at(a, a->held) + nth;
}

/* Whether it is being taken away: what a handler of its end does starts it no
 * more, or its place would be given up with it. */
static inline bool action_is_leaving(const ikv_actions *a, uint32_t binding,
                                     uint32_t action)
{
    uint32_t it = binding != NO_PLACE
                      ? ikvi_slots_bits(&a->s.binding_slots, a, binding)
                      : 0;
    uint32_t its = ikvi_slots_bits(&a->s.action_slots, a, action);
    for (const action_leaving *l = a->leaving; l != NULL; l = l->outer)
        if (l->action == its || (it != 0 && l->binding == it))
            return true;
    return false;
}

static inline uint32_t trigger_bucket(action_part part)
{
    return (part.type * 37u + part.number) & (TRIGGER_BUCKETS - 1);
}

/* For what no input brings. The bus's time stands still while the steps do. */
static inline uint64_t action_now(const ikv_actions *a)
{
    uint64_t now = ikvi_bus_time(a->bus);
    return a->s.time_ns > now ? a->s.time_ns : now;
}

/* Whose it is: each has one place for each binding and action. */
static inline uint32_t held_seat(const ikv_actions *a, uint32_t index)
{
    return a->seats > 1 ? index % a->seats : 0;
}

/* The place of the binding; of what is fed, counted from first_fed() on, of the
 * action. */
static inline uint32_t held_place(const ikv_actions *a, uint32_t index)
{
    return a->seats > 1 ? index / a->seats : index;
}

/* Those that are not told apart are the last one. */
static inline uint8_t action_seat(const ikv_actions *a, uint8_t seat)
{
    return seat < a->seats ? seat : (uint8_t)(a->seats - 1);
}

static inline bool is_a_seat(uint8_t seat)
{
    return seat == IKV_ALL_SEATS || seat < ACTION_SEATS;
}

/* The seats that a call names, as bits. */
static inline uint32_t seats_named(const ikv_actions *a, uint8_t seat)
{
    return seat == IKV_ALL_SEATS ? (1u << a->seats) - 1
                                 : 1u << action_seat(a, seat);
}

static inline float size_of(float value)
{
    return value < 0 ? -value : value;
}

/* action_text.c */
ikv_status ikvi_shape_read(const char *text, action_shape *to,
                           ikv_message *message);
bool ikvi_part_is_named(action_part part);
size_t ikvi_shape_write(const action_shape *shape, char *buffer, size_t size);
/* Whether one press can satisfy both. */
bool ikvi_shapes_clash(const action_shape *a, const action_shape *b);

/* action_measure.c */
/* A finger goes down as a stick: where its middle is, and how far it goes. */
void ikvi_measure_grab(const ikv_actions *a, const ikv_scope *scope,
                       const action_input *input, binding_run *run);
/* How far a part that can be held is held, 0 to 1; and whether all but the last
 * of a chord are. */
float ikvi_part_amount(const ikv_actions *a, uint32_t seat, action_part part);
bool ikvi_part_is_held(const ikv_actions *a, uint32_t seat, action_part part);
bool ikvi_others_are_held(const ikv_actions *a, uint32_t seat,
                          const action_shape *shape);
bool ikvi_set_vector(binding_run *run, float x, float y);
/* Whether the binding is satisfied, by the state; its values follow. */
bool ikvi_measure_binding(const ikv_actions *a, const action_binding *b,
                          uint32_t seat, binding_run *run);
bool ikvi_focus_is_within(const ikv_actions *a, uint32_t seat, ikv_target top);
bool ikvi_scope_goes_on(const ikv_actions *a, const ikv_scope *scope,
                        uint32_t seat, uint8_t router);
bool ikvi_scope_holds(const ikv_actions *a, const ikv_scope *scope,
                      uint32_t seat, const action_input *input);

/* action_parts.c */
enum {
    TRIGGERS = 4 /* parts that one event can be */
};
/* The parts that an event is, among those that trigger; and those that it lets
 * go. */
uint32_t ikvi_triggers_of(const ikv_event *event, action_part *to);
uint32_t ikvi_releases_of(const ikv_event *event, action_part *to);
/* The parts that an input is, as many as there are. */
uint32_t ikvi_parts_of(const action_input *input, action_part parts[TRIGGERS]);
/* Whether the seat learns: then the event starts nothing. */
bool ikvi_learn_from(ikv_actions *a, uint32_t seat, const ikv_event *event);

/* action_run.c */
/* A5: of the chords that it completes, how long the longest is; one of them goes
 * to *place. */
uint32_t ikvi_longest_chord(const ikv_actions *a, uint32_t seat,
                            const action_input *input, const action_part *parts,
                            uint32_t count, uint32_t *place);
uint32_t ikvi_chord_length(const action_binding *b);
/* The next press would start it, and not end it. */
void ikvi_action_unlatch(ikv_actions *a, uint32_t at, uint32_t seat);
/* Takes a binding's satisfaction away, without a look at its input. */
void ikvi_binding_release(ikv_actions *a, uint32_t place, uint32_t seat);
/* The same of one of `held`: of an action that is fed, too. */
void ikvi_held_release(ikv_actions *a, uint32_t index);
/* Which action one of `held` holds. */
uint32_t ikvi_held_action(const ikv_actions *a, uint32_t index);
/* A9: the action is driven by x and y until both are 0. */
void ikvi_action_feed(ikv_actions *a, uint32_t at, uint32_t seat, float x,
                      float y, const ikv_event *cause);
/* A binding that is held already starts, as if it were pressed now; and whether
 * it is, and has not started. */
bool ikvi_binding_is_held(const ikv_actions *a, uint32_t place, uint32_t seat);
void ikvi_binding_start_held(ikv_actions *a, uint32_t place, uint32_t seat);
void ikvi_action_on_routed(void *actions, ikv_router *router,
                           const ikv_event *event, ikv_outcome outcome,
                           bool passed);

#endif
