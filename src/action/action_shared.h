/* action_shared.h - what images need of the actions. */
#ifndef IKVI_ACTION_SHARED_H
#define IKVI_ACTION_SHARED_H

#include "../event/saved.h"

#include "ikvar/action.h"

uint64_t ikvi_actions_saved(ikv_actions *actions, ikvi_saved *to);

#endif
