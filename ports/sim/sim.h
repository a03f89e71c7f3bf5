/* sim.h - the inside of the simulated port: sim.c plays, sim_random.c makes
 * input up, sim_faults.c stands between and breaks things. */
#ifndef IKVI_SIM_H
#define IKVI_SIM_H

#include "ikvar/ports.h"

enum {
    SIM_DEVICES = 256,
    SIM_HELD = 64,
    SIM_DELAYED = 32,
    RANDOM_DEVICES = 4 /* mouse, screen, keyboard, pen */
};

/* A small generator with a seed, the same on every machine. */
typedef struct sim_dice {
    uint64_t state;
} sim_dice;
uint32_t ikvi_dice_below(sim_dice *dice, uint32_t limit);

/* What is down by what was given to it, as the hardware would know. */
typedef struct sim_held {
    ikv_event downs[SIM_HELD];
    uint32_t count;
} sim_held;
void ikvi_held_note(sim_held *held, const ikv_event *event);

/* An event that faults keep back. */
typedef struct sim_delayed {
    ikv_event event;
    uint64_t at_ns;
} sim_delayed;

typedef struct sim_faults {
    ikv_sim_faults odds;
    sim_dice dice;
    sim_held held;
    sim_delayed delayed[SIM_DELAYED];
    uint32_t delayed_count;
    uint64_t gone_until[SIM_DEVICES]; /* unplugged; 0: plugged in */
    uint64_t blurred_until;
    uint64_t jumped_ns; /* by which the clock is ahead */
    ikv_event last_move;
    bool has_move;
    ikv_sim_counts count;
} sim_faults;

/* Made-up input: what each of a few hands does next. */
typedef struct sim_hand {
    uint64_t next_ns;
    float x, y, dx, dy;
    uint32_t moves_left;
    uint32_t code;
    uint16_t id;
    uint8_t type; /* of a pointer, or 255: a keyboard */
    bool down;
} sim_hand;

enum {
    SIM_HANDS = 14
};

typedef struct sim_random {
    sim_dice dice;
    sim_hand hands[SIM_HANDS];
    float width, height;
} sim_random;

void ikvi_random_open(sim_random *random, uint32_t seed, float width,
                      float height);
/* The next event that somebody makes; always one. */
void ikvi_random_next(sim_random *random, ikv_event *event);

/* Pushes an event, or does something else with it. */
void ikvi_faults_push(sim_faults *faults, ikv_sink *sink,
                      const ikv_event *event, uint64_t now_ns);
/* What was kept back and is due. */
void ikvi_faults_advance(sim_faults *faults, ikv_sink *sink, uint64_t now_ns);

#endif
