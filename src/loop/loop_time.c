/* loop_time.c - two times, and the anchor that ties them. */
#include "loop_internal.h"

/* L2: quotient and remainder apart, so that nothing overflows. n = q * num + r
 * gives q whole spans of den seconds, and r steps more. */
uint64_t ikv_loop_step_start(uint64_t n, uint32_t num, uint32_t den)
{
    if (num == 0)
        return 0;
    uint64_t span = (uint64_t)den * SECOND;
    uint64_t whole = span / num, rest = span % num;
    return n * whole + n / num * rest + n % num * rest / num;
}

uint64_t ikvi_loop_frame_period(const ikv_loop *loop)
{
    uint32_t hz = loop->frame_hz == IKV_UNPACED ? 60 : loop->frame_hz;
    return SECOND / hz;
}

uint64_t ikvi_loop_to_steps(const ikv_loop *loop, uint64_t clock)
{
    if (loop->s.stopped || clock <= loop->s.anchor_clock)
        return loop->s.anchor_steps;
    uint64_t past = clock - loop->s.anchor_clock;
    if (loop->s.scale != REAL_TIME)
        past = past / REAL_TIME * loop->s.scale +
               past % REAL_TIME * loop->s.scale / REAL_TIME;
    return loop->s.anchor_steps + past;
}

/* The first moment of the clock at which the steps' time is that. */
uint64_t ikvi_loop_to_clock(const ikv_loop *loop, uint64_t steps)
{
    if (loop->s.stopped || steps <= loop->s.anchor_steps)
        return loop->s.anchor_clock;
    uint64_t past = steps - loop->s.anchor_steps, scale = loop->s.scale;
    IKVI_CHECK(scale > 0);
    if (scale != REAL_TIME)
        past = past / scale * REAL_TIME +
               (past % scale * REAL_TIME + scale - 1) / scale;
    return loop->s.anchor_clock + past;
}

/* Before the anchor all is at its moment, and so are all times while the steps
 * stand still. */
loop_deadline ikvi_loop_deadline(const ikv_loop *loop, uint64_t steps)
{
    loop_deadline end = {steps, 0};
    if (loop->s.anchor_steps < steps)
        end.clock = loop->s.stopped || steps == UINT64_MAX
                        ? UINT64_MAX
                        : ikvi_loop_to_clock(loop, steps);
    IKVI_CHECK(end.clock == 0 || end.clock == UINT64_MAX ||
               (ikvi_loop_to_steps(loop, end.clock) >= steps &&
                ikvi_loop_to_steps(loop, end.clock - 1) < steps));
    return end;
}

void ikvi_loop_set_anchor(ikv_loop *loop, uint64_t clock, uint64_t steps)
{
    loop->s.anchor_clock = clock;
    loop->s.anchor_steps = steps;
}

void ikvi_loop_time_step(ikv_loop *loop)
{
    uint64_t end = ikvi_loop_to_clock(loop, loop->s.next_end);
    /* A turn of the clock may lie within the step: it does not end before its
     * begin. */
    loop->s.step_end = end > loop->s.step_begin ? end : loop->s.step_begin;
}

bool ikvi_loop_single_waits(const ikv_loop *loop)
{
    return loop->s.stopped && loop->s.anchor_steps >= loop->s.next_end;
}

/* When the head's or a later entry's turn is, in steps' time, given that of the
 * one before it. What was taken in while that was handled is due with it,
 * whatever a tape says. */
uint64_t ikvi_loop_due_of(const ikv_loop *loop, const ikv_event *event,
                          const loop_entry *entry, uint64_t before)
{
    if (entry->how == IKV_INTAKE_INBOX && entry->within)
        return before;
    uint64_t due = entry->due != NO_DUE
                       ? entry->due
                       : ikvi_loop_to_steps(loop, event->time_ns);
    return due < before ? before : due;
}

uint64_t ikvi_loop_earliest_due(const ikv_loop *loop)
{
    return loop->s.last_due > loop->s.next_begin ? loop->s.last_due
                                                 : loop->s.next_begin;
}
