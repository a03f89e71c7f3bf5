/* loop_tell.c - what the loop tells: its own events, and recorders. */
#include "loop_internal.h"

bool ikvi_loop_scope(ikv_loop *loop, bool of_step)
{
    bool was = loop->in_scope;
    if (was != of_step) {
        loop->in_scope = of_step;
        ikvi_bus_set_scope(loop->bus, of_step);
    }
    return was;
}

void ikvi_loop_tell(ikv_loop *loop, ikv_kind kind, uint64_t time_ns,
                    uint64_t step, float seconds, uint32_t count)
{
    ikv_event event = ikv_event_make(kind, time_ns);
    event.target = ikvi_bus_root();
    event.loop.step = step;
    /* Which frame a step fell into is this machine's, and on no tape. */
    event.loop.frame = loop->in_scope ? 0 : loop->frame;
    event.loop.seconds = seconds;
    event.loop.count = count;
    ikv_bus_deliver(loop->bus, &event);
}

void ikvi_loop_record(ikv_loop *loop, const ikv_event *event,
                      const ikv_intake *intake)
{
    loop->s.flushes = 0;
    if (loop->recorder != NULL)
        loop->recorder(event, intake, loop->recorder_user);
}

uint32_t ikvi_loop_next_group(ikv_loop *loop)
{
    /* Never 0 again, which is no group. */
    loop->groups += loop->groups < UINT32_MAX;
    return loop->groups;
}

bool ikvi_loop_is_rerunning(const ikv_loop *loop)
{
    return loop->s.next_step < loop->furthest &&
           (!loop->s.stopped || ikvi_loop_single_waits(loop));
}

void ikvi_loop_note_past(ikv_loop *loop)
{
    loop->past =
        loop->given > 0 || (loop->past && ikvi_loop_is_rerunning(loop));
    ikvi_bus_hold_inboxes(loop->bus, loop->past);
}
