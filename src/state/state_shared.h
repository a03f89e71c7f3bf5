/* state_shared.h - what images and the loop need of the state. */
#ifndef IKVI_STATE_SHARED_H
#define IKVI_STATE_SHARED_H

#include "../event/saved.h"

#include "ikvar/state.h"

uint64_t ikvi_state_saved(ikv_state *state, ikvi_saved *to);
/* What is held has been so up to then; edges and motion stay. NULL is fine. */
void ikvi_state_set_time(ikv_state *state, uint64_t time_ns);

#endif
