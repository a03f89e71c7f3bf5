/* loop_holds.c - what comes due by itself: holds, what resting mice are over. */
#include "loop_internal.h"

/* Each at its own moment: what its handlers ask for is asked for then. */
void ikvi_loop_send_holds(ikv_loop *loop, uint64_t clock)
{
    uint64_t due = ikvi_input_next_hold(loop->input), before = UINT64_MAX;
    /* One that can't be sent now stays. */
    while (IKVI_UNLIKELY(due <= clock) && due != before) {
        loop->s.routed_at = due > loop->s.routed_at ? due : loop->s.routed_at;
        ikvi_input_advance(loop->input, due);
        before = due;
        due = ikvi_input_next_hold(loop->input);
    }
}

void ikvi_loop_advance_holds(ikv_loop *loop, uint64_t clock)
{
    ikvi_loop_send_holds(loop, clock);
    /* What a hold's handlers have changed is looked at, at their moment. */
    ikvi_input_settle(loop->input, loop->s.routed_at);
}

/* After what handlers were told between two steps: a tape has what made them
 * be told, and not when the next frame was. */
void ikvi_loop_end_between(ikv_loop *loop)
{
    /* Of what the step's own code, or handlers, sent to the router besides. */
    if (loop->s.stopped)
        ikvi_input_settle(loop->input, loop->s.routed_at);
    ikvi_loop_apply_seats(loop);
    /* Whether they have changed what mice rest on, which are then tested again
     * though the steps stand still. */
    loop->s.owed = loop->s.stopped && ikvi_input_is_stale(loop->input);
}

void ikvi_loop_retest(ikv_loop *loop)
{
    ikvi_input_retest(loop->input, loop->s.routed_at);
}

/* While the steps stand still: holds that are due, and what resting mice owe
 * because a handler has changed something. */
void ikvi_loop_pass_time(ikv_loop *loop, uint64_t clock, bool ends)
{
    if (ends) {
        ikvi_input_begin_step(loop->input, clock);
        loop->s.edges = EDGES_NONE;
    }
    ikvi_input_set_time(loop->input, clock);
    ikvi_loop_advance_holds(loop, clock);
    /* What those who are told ask for is asked for now. */
    if (ikvi_input_is_stale(loop->input) && clock > loop->s.routed_at)
        loop->s.routed_at = clock;
    ikvi_input_retest(loop->input, clock);
    ikvi_loop_end_between(loop);
}
