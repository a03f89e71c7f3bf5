/* action_shared.h - what images and inputs need of the actions. */
#ifndef IKVI_ACTION_SHARED_H
#define IKVI_ACTION_SHARED_H

#include "../event/saved.h"

#include "ikvar/action.h"

uint64_t ikvi_actions_saved(ikv_actions *actions, ikvi_saved *to);

/* How an input reaches actions: as ikvi_state_calls. */
typedef struct ikvi_actions_calls {
    /* Of what is routed or comes due now: what its handlers end is of then. */
    void (*set_time)(ikv_actions *actions, uint64_t time_ns);
    ikv_status (*follow)(ikv_actions *actions, ikv_router *router);
    void (*take)(ikv_actions *actions, const ikv_event *event, bool claimed);
    void (*settle)(ikv_actions *actions, uint64_t time_ns, bool typed,
                   bool lost);
    void (*step)(ikv_actions *actions, uint64_t time_ns);
    /* Whether somebody is told in each step of what is on. */
    bool (*awaits)(const ikv_actions *actions);
} ikvi_actions_calls;

static inline const ikvi_actions_calls *
ikvi_actions_calls_of(const ikv_actions *actions)
{
    return *(const ikvi_actions_calls *const *)(const void *)actions;
}

#endif
