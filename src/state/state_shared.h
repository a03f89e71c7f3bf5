/* state_shared.h - what images and inputs need of the state. */
#ifndef IKVI_STATE_SHARED_H
#define IKVI_STATE_SHARED_H

#include "../event/saved.h"

#include "ikvar/state.h"

uint64_t ikvi_state_saved(ikv_state *state, ikvi_saved *to);

/* How an input reaches a state: through this table, at whose address its struct
 * begins, so that a program without a state links none of it. */
typedef struct ikvi_state_calls {
    void (*begin_step)(ikv_state *state, uint64_t time_ns);
    void (*begin_frame)(ikv_state *state);
    /* What is held has been so up to then; edges and motion stay. */
    void (*set_time)(ikv_state *state, uint64_t time_ns);
    /* The raw state: of values that were checked as they came in. */
    void (*take_input)(ikv_state *state, const ikv_event *event);
    void (*take)(ikv_state *state, uint32_t filter, const ikv_event *event);
    void (*take_claimed)(ikv_state *state, const ikv_event *event);
    void (*resync)(ikv_state *state, uint32_t filter, const ikv_event *cause,
                   const ikv_event *held, uint32_t count);
} ikvi_state_calls;

static inline const ikvi_state_calls *
ikvi_state_calls_of(const ikv_state *state)
{
    return *(const ikvi_state_calls *const *)(const void *)state;
}

#endif
