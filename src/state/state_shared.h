/* state_shared.h - what images need of the state. */
#ifndef IKVI_STATE_SHARED_H
#define IKVI_STATE_SHARED_H

#include "../event/saved.h"

#include "ikvar/state.h"

uint64_t ikvi_state_saved(ikv_state *state, ikvi_saved *to);

#endif
