/* loop_turn.c - what turns the clock: pauses, single steps, scale, lost time.
 */
#include "loop_internal.h"

/* L5. Turns the clock, at that place in steps' time. */
static void apply(ikv_loop *loop, const ikv_event *event, uint64_t due,
                  uint64_t lost)
{
    uint64_t at = event->time_ns, from = loop->s.anchor_clock;
    from = at > from ? at : from;
    if (loop->s.stopped && !loop->in_event)
        ikvi_input_set_time(loop->input, at);
    switch (event->kind) {
    case IKV_KIND_LOOP_DROPPED:
    /* The steps go on where they were, that much later. */
    case IKV_KIND_LOOP_IDLE:
        ikvi_loop_set_anchor(loop, at + lost, due);
        loop->s.step_begin = at + lost;
        break;
    case IKV_KIND_LOOP_PAUSE:
        ikvi_loop_set_anchor(loop, from, loop_within_next_step(loop, due));
        loop->s.stopped = true;
        break;
    /* What came due while they stood still comes first. */
    case IKV_KIND_LOOP_RESUME:
        ikvi_loop_advance_holds(loop, at);
        ikvi_loop_set_anchor(loop, from, loop->s.anchor_steps);
        loop->s.stopped = false;
        break;
    case IKV_KIND_LOOP_SINGLE:
        /* Running, a single step is what comes anyway. */
        if (loop->s.stopped)
            ikvi_loop_set_anchor(loop, from, loop->s.next_end);
        break;
    default: /* loop.scale */
        ikvi_loop_set_anchor(loop, from, ikvi_loop_to_steps(loop, from));
        loop->s.scale = event->loop.count;
        break;
    }
    loop->s.routed_at = at > loop->s.routed_at ? at : loop->s.routed_at;
    ikvi_loop_time_step(loop);
    if (event->kind == IKV_KIND_LOOP_PAUSE)
        ikvi_loop_retest(loop); /* as at a step's begin, which won't come */
}

static void apply_after_step(ikv_loop *loop, ikv_kind kind, uint64_t lost)
{
    ikv_event event = ikv_event_make(kind, loop->s.step_begin);
    event.loop.count = loop->s.new_scale;
    apply(loop, &event, loop->s.next_begin, lost);
}

/* L5: what was asked for within a step takes effect at its end, in this order
 * whatever the order of asking, so that a tape needs no more than the requests.
 * */
void ikvi_loop_apply_requests(ikv_loop *loop)
{
    uint64_t losing = loop->s.lost_ns;
    bool single = loop->s.single;
    loop->s.lost_ns = 0;
    loop->s.single = false;
    if (losing > 0)
        apply_after_step(loop, IKV_KIND_LOOP_DROPPED, losing);
    if (loop->s.scale != loop->s.new_scale)
        apply_after_step(loop, IKV_KIND_LOOP_SCALE, 0);
    if (loop->s.stopped != loop->s.paused)
        apply_after_step(
            loop, loop->s.paused ? IKV_KIND_LOOP_PAUSE : IKV_KIND_LOOP_RESUME,
            0);
    if (single)
        apply_after_step(loop, IKV_KIND_LOOP_SINGLE, 0);
}

/* A single step that was asked for has not begun. */
static bool single_is_asked(const ikv_loop *loop, bool waits)
{
    return waits ? loop->s.single : ikvi_loop_single_waits(loop);
}

/* Takes a request down: what it comes to is done now, when the step that runs
 * has ended, or after loop.start. ABSENT if it is so already. */
static ikv_status note_request(ikv_loop *loop, const ikv_event *event,
                               uint64_t lost)
{
    bool in_step = loop->where == IN_STEP || loop->s.fresh;
    uint32_t scale = event->loop.count;
    switch (event->kind) {
    case IKV_KIND_LOOP_PAUSE:
    case IKV_KIND_LOOP_RESUME:
        if (loop->s.paused == (event->kind == IKV_KIND_LOOP_PAUSE))
            return IKV_ABSENT;
        loop->s.paused = !loop->s.paused;
        return IKV_OK;
    case IKV_KIND_LOOP_SINGLE:
        /* By what was asked for, and not by what is: a pause may wait for its
         * step's end. */
        if (!loop->s.paused || single_is_asked(loop, in_step))
            return IKV_ABSENT;
        loop->s.single = in_step;
        return IKV_OK;
    case IKV_KIND_LOOP_SCALE:
        if (scale == 0 || scale > IKV_SCALE_LIMIT)
            return IKV_BAD_VALUE;
        if (scale == loop->s.new_scale)
            return IKV_ABSENT;
        loop->s.new_scale = scale;
        return IKV_OK;
    default:
        loop->s.lost_ns += in_step ? lost : 0;
        return IKV_OK;
    }
}

static void announce_change(ikv_loop *loop, const ikv_event *event)
{
    loop_tell(loop, event->kind, event->time_ns, loop->s.next_step,
              event->loop.seconds, event->loop.count);
}

void ikvi_loop_apply_played(ikv_loop *loop, const ikv_event *event,
                            uint64_t due, const loop_entry *entry)
{
    if (event->kind == IKV_KIND_LOOP_END) {
        loop->quit = true;
        return;
    }
    if (note_request(loop, event, entry->lost) != IKV_OK) {
        if (loop->s.stopped) /* time goes on all the same */
            ikvi_loop_pass_time(loop, event->time_ns, entry->group == 0);
        return;
    }
    if (loop->where != IN_STEP)
        apply(loop, event, due, entry->lost);
    announce_change(loop, event);
    if (loop->where != IN_STEP)
        ikvi_loop_end_between(loop);
}

static void record_request(ikv_loop *loop, const ikv_event *event, uint64_t due,
                           uint64_t lost)
{
    ikv_intake intake = IKV_INTAKE_INIT;
    intake.has_due = true;
    intake.due_ns = due;
    intake.lost_ns = lost;
    loop->s.last_due = due;
    ikvi_loop_record(loop, event, &intake);
}

/* Whether it is asked for before the run begins, or by other code than handlers
 * as it ends. On a tape neither has a place: the one waits for loop.start, the
 * other does nothing any more. Handlers of what waited for the end are heard. */
static bool is_outside_of_run(const ikv_loop *loop)
{
    if (loop->over)
        return !ikvi_bus_is_busy(loop->bus);
    return loop->s.fresh || (loop->quit && !loop->in_scope);
}

/* Asks for a turn of the clock. Within a step it takes effect at the step's
 * end; what a handler asks for between steps, at its event's time, so that it
 * is the same at any frame rate; else now, and then it is recorded. */
static ikv_status request(ikv_loop *loop, ikv_kind kind, uint32_t count)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    bool recorded = !loop->in_scope && !loop->over;
    uint64_t at = loop->in_scope || loop->over ? loop->s.routed_at : loop->now;
    ikv_event event = ikv_event_make(kind, at);
    event.loop.count = count;
    ikv_status status = note_request(loop, &event, 0);
    if (status != IKV_OK || is_outside_of_run(loop))
        return status;
    /* Its announcement follows from the tape, which has the request. */
    bool scope = ikvi_loop_scope(loop, true);
    if (loop->where != IN_STEP) {
        uint64_t due =
            loop_within_next_step(loop, ikvi_loop_to_steps(loop, at));
        due = due > loop->s.last_due ? due : loop->s.last_due;
        uint64_t then = ikvi_loop_to_clock(loop, due);
        if (kind == IKV_KIND_LOOP_PAUSE && recorded && then < at)
            event.time_ns = then;
        if (recorded)
            record_request(loop, &event, due, 0);
        apply(loop, &event, due, 0);
    }
    announce_change(loop, &event);
    if (recorded && loop->where != IN_STEP)
        ikvi_loop_end_between(loop);
    ikvi_loop_scope(loop, scope);
    return IKV_OK;
}

void ikvi_loop_forget_requests(ikv_loop *loop)
{
    loop->s.paused = loop->s.stopped;
    loop->s.single = false;
    loop->s.new_scale = loop->s.scale;
}

/* As a tape has it: loop.start, and then what turns the clock. */
void ikvi_loop_tell_start(ikv_loop *loop)
{
    bool paused = loop->s.paused, single = loop->s.single;
    uint32_t before = loop->s.scale, scale = loop->s.new_scale;
    ikvi_loop_forget_requests(loop);
    loop->s.fresh = false;
    bool scope = ikvi_loop_scope(loop, true);
    loop_tell(loop, IKV_KIND_LOOP_START, 0, 0,
              ikvi_quotient(loop->den, loop->num), 0);
    ikvi_loop_scope(loop, scope);
    if (scale != before)
        (void)request(loop, IKV_KIND_LOOP_SCALE, scale);
    if (paused)
        (void)request(loop, IKV_KIND_LOOP_PAUSE, 0);
    if (single)
        (void)request(loop, IKV_KIND_LOOP_SINGLE, 0);
}

ikv_status ikv_loop_pause(ikv_loop *loop)
{
    return request(loop, IKV_KIND_LOOP_PAUSE, 0);
}

ikv_status ikv_loop_resume(ikv_loop *loop)
{
    return request(loop, IKV_KIND_LOOP_RESUME, 0);
}

ikv_status ikv_loop_single_step(ikv_loop *loop)
{
    return request(loop, IKV_KIND_LOOP_SINGLE, 0);
}

ikv_status ikv_loop_set_scale(ikv_loop *loop, uint32_t thousandths)
{
    return request(loop, IKV_KIND_LOOP_SCALE, thousandths);
}

bool ikv_loop_paused(const ikv_loop *loop)
{
    return loop != NULL && loop->s.paused;
}

uint32_t ikv_loop_scale(const ikv_loop *loop)
{
    return loop != NULL ? loop->s.new_scale : 0;
}

/* The steps stand still at the next one's begin for that long. */
void ikvi_loop_skip_time(ikv_loop *loop, ikv_kind kind, uint64_t due,
                         uint64_t lost, uint32_t count)
{
    uint64_t at = ikvi_loop_to_clock(loop, due);
    ikv_event event = ikv_event_make(kind, at);
    event.loop.step = loop->s.next_step;
    event.loop.seconds = ikvi_quotient(lost, SECOND);
    event.loop.count = count;
    bool scope = ikvi_loop_scope(loop, true);
    record_request(loop, &event, due, lost);
    apply(loop, &event, due, lost);
    announce_change(loop, &event);
    ikvi_loop_end_between(loop);
    ikvi_loop_scope(loop, scope);
}

/* Steps that have run before, and are run again, come first: how far the steps'
 * time has come is known then. */
static IKVI_APART void drop_beyond(ikv_loop *loop)
{
    uint64_t from =
        loop->s.next_step > loop->furthest ? loop->s.next_step : loop->furthest;
    uint64_t reached = ikvi_loop_to_steps(loop, loop->now);
    uint64_t kept = from + loop->max_steps;
    if (loop->playing || reached < loop_step_start(loop, kept + 1))
        return;
    /* The longest a step can be: the guess is never too high. */
    uint64_t length = loop->step_ns + (loop->step_rest != 0);
    uint64_t steps = (reached - loop_step_start(loop, kept)) / length;
    while (loop_step_start(loop, kept + steps + 1) <= reached)
        steps++;
    uint64_t due = loop->s.next_begin;
    uint64_t lost =
        ikvi_loop_to_clock(loop,
                           loop_step_start(loop, loop->s.next_step + steps)) -
        ikvi_loop_to_clock(loop, due);
    loop->counters.dropped_ns += lost;
    loop->counters.dropped_steps += steps;
    due = due > loop->s.last_due ? due : loop->s.last_due;
    loop_report_once(
        loop, SAID_DROPPED, IKV_REPORT_WARNING, IKV_OK,
        "more steps were due than loop.max_steps: time was dropped");
    ikvi_loop_skip_time(loop, IKV_KIND_LOOP_DROPPED, due, lost,
                        steps < UINT32_MAX ? (uint32_t)steps : UINT32_MAX);
}

void ikvi_loop_drop_time(ikv_loop *loop)
{
    loop->dropping = loop->past;
    if (!loop->dropping && ikvi_loop_may_drop(loop))
        drop_beyond(loop);
}
