/* world.h - what a program of calls has, and the calls that it is made of: see
 * program.c and played.c. */
#ifndef IKV_FUZZ_WORLD_H
#define IKV_FUZZ_WORLD_H

#include "fuzz.h"

enum {
    TARGETS = 24,
    SUBSCRIPTIONS = 24,
    TIMERS = 8,
    OWNERS = 4,
    ACTIONS = 8,
    DEPTH = 3,
    IMAGE_ROOM = 1 << 22,
    STEPS = 4096
};

typedef struct world {
    float points[16]; /* of the last polygon: a shape only points to them */
    const uint8_t *at, *end;
    ikv_kit *kit;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_overlaps *overlaps;
    ikv_actions *actions;
    ikv_loop *loop;
    ikv_sink *sink;
    uint64_t now;
    uint32_t depth, running, calls;
    uint16_t device;
    ikv_target targets[TARGETS];
    bool alive[TARGETS]; /* the model: by what calls said */
    uint32_t parent[TARGETS];
    ikv_subscription subscriptions[SUBSCRIPTIONS];
    ikv_timer timers[TIMERS];
    ikv_owner owners[OWNERS];
    ikv_mailbox mailbox;
    ikv_lane lane;
    ikv_action_id actions_of[ACTIONS];
    ikv_action_set set;
    const ikv_event *event; /* that is being handled, or NULL */
    size_t saved;           /* bytes of the image, 0: none */
    bool model;             /* whether the model of targets is to be trusted */
    bool tame;              /* numbers as a game has them, rather than wild */
    bool crowded;           /* many targets: slow to validate */
    bool announces;
    bool plain; /* each with each, instead of by an index */
    bool twice; /* with and without: all that is told must be the same */
    bool plays; /* hands' events come as from a tape */
    uint64_t last_due;
    /* Of a game that is recorded and played (played.c): it makes calls in steps
     * alone, from the bytes that belong to the step. */
    bool taped;
    const ikv_port *port; /* in place of its own */
    const uint8_t *data;
    size_t size;
    uint64_t step;
    uint64_t *sums; /* of all that was told before each step */
} world;

/* world.c */
void open_world(world *w);
/* The bytes that belong to a number, of so many sorts of numbers. */
void seek(world *w, uint64_t number, uint32_t salt);
/* Of a taped game: a step may have begun. */
void note_step(world *w);

/* values.c: arguments, from the next bytes; what is past the end is 0. */
uint8_t a_byte(world *w);
uint32_t a_word(world *w);
float a_number(world *w);
uint32_t a_count(world *w);
uint64_t a_time(world *w);
uint32_t a_place(world *w);
ikv_target a_target(world *w);
ikv_kind a_kind(world *w);
ikv_event an_event(world *w);
float a_size(world *w);
ikv_shape a_shape(world *w);
const char *a_name(world *w);

/* calls.c: one call, chosen by a byte; and those that a world begins with. */
void call(world *w);
void add_target(world *w);
void subscribe(world *w);
void use_overlaps(world *w);
void use_actions(world *w);
void run_frame(world *w);

/* hands.c: input, as of hardware or a tape. */
void push(world *w);
void push_hand(world *w);
void strike(world *w);
void pinch(world *w);
void add_crowd(world *w);
void type_text(world *w);

#endif
