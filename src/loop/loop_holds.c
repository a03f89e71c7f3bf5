/* loop_holds.c - which router an event is for; what comes due in them by
 * itself. */
#include "loop_internal.h"

ikv_router *ikvi_loop_router_of(const ikv_loop *loop, const ikv_event *event)
{
    for (uint32_t i = 0; loop->router_count > 1 && i < loop->router_count; i++)
        if (ikv_router_holds(loop->routers[i], event))
            return loop->routers[i];
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (ikv_router_serves(loop->routers[i], event->view))
            return loop->routers[i];
    return loop->routers[0];
}

/* Of all routers; each with the actions that follow from it, so that it does
 * not matter how many come due at once. */
void ikvi_loop_send_due_holds(ikv_loop *loop, uint64_t clock)
{
    for (;;) {
        uint64_t next = UINT64_MAX;
        for (uint32_t i = 0; i < loop->router_count; i++) {
            uint64_t own = ikv_router_next_hold(loop->routers[i]);
            next = own < next ? own : next;
        }
        if (IKVI_LIKELY(next > clock || next == UINT64_MAX))
            return;
        bool sent = false;
        for (uint32_t i = 0; i < loop->router_count; i++)
            sent = ikvi_router_advance(loop->routers[i], next) || sent;
        if (!sent)
            return; /* inside a handler: they are sent after its event */
        ikv_actions_settle(loop->actions, next, false, false);
    }
}

void ikvi_loop_advance_holds(ikv_loop *loop, uint64_t clock)
{
    ikvi_loop_send_due_holds(loop, clock);
    ikv_actions_settle(loop->actions, loop->s.routed_at, false, false);
}

/* Whether a handler has changed what mice rest on, so that they are to be
 * tested again while the steps stand still. */
void ikvi_loop_note_owed(ikv_loop *loop)
{
    loop->s.owed = false;
    for (uint32_t i = 0; loop->s.stopped && i < loop->router_count; i++)
        loop->s.owed = loop->s.owed || ikvi_router_is_stale(loop->routers[i]);
}

void ikvi_loop_retest(ikv_loop *loop)
{
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_retest(loop->routers[i], loop->s.routed_at);
}

/* While the steps stand still: holds that are due, and what resting mice owe
 * because a handler has changed something. */
void ikvi_loop_pass_time(ikv_loop *loop, uint64_t clock, bool ends)
{
    if (ends) {
        ikv_state_begin_step(loop->state, clock);
        loop->s.edges = EDGES_NONE;
    }
    ikvi_state_set_time(loop->state, clock);
    ikvi_loop_advance_holds(loop, clock);
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_retest(loop->routers[i], clock);
    ikvi_loop_note_owed(loop);
}
