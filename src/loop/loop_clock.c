/* loop_clock.c - the clock and the steps' time; pauses, scale, dropped time;
 * waiting for the next frame. */
#include "loop_internal.h"

/* n = q * num + r gives q whole spans of den seconds, and r steps more. */
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

/* ------------------------------------------------------------ two times -- */

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
    if (scale != REAL_TIME)
        past = past / scale * REAL_TIME +
               (past % scale * REAL_TIME + scale - 1) / scale;
    return loop->s.anchor_clock + past;
}

static void set_anchor(ikv_loop *loop, uint64_t clock, uint64_t steps)
{
    loop->s.anchor_clock = clock;
    loop->s.anchor_steps = steps;
}

/* A moment of the steps' time within the step that comes next. */
static uint64_t within_next_step(const ikv_loop *loop, uint64_t steps)
{
    steps = steps < loop->s.next_begin ? loop->s.next_begin : steps;
    return steps >= loop->s.next_end ? loop->s.next_end - 1 : steps;
}

/* ------------------------------------------------ pauses, scale, losses -- */

void ikvi_loop_time_step(ikv_loop *loop)
{
    uint64_t end = ikvi_loop_to_clock(loop, loop->s.next_end);
    loop->s.step_end = end > loop->s.step_begin ? end : loop->s.step_begin;
}

/* Turns the clock, at that place in steps' time. */
static void turn(ikv_loop *loop, const ikv_event *event, uint64_t due,
                 uint64_t lost)
{
    uint64_t at = event->time_ns, from = loop->s.anchor_clock;
    from = at > from ? at : from;
    switch (event->kind) {
    case IKV_KIND_LOOP_DROPPED:
    case IKV_KIND_LOOP_IDLE:
        set_anchor(loop, at + lost, due);
        loop->s.step_begin = at + lost;
        break;
    case IKV_KIND_LOOP_PAUSE:
        set_anchor(loop, from, within_next_step(loop, due));
        loop->s.stopped = true;
        break;
    case IKV_KIND_LOOP_RESUME:
        ikvi_loop_advance_holds(loop, at);
        set_anchor(loop, from, loop->s.anchor_steps);
        loop->s.stopped = false;
        break;
    case IKV_KIND_LOOP_SINGLE:
        if (loop->s.stopped)
            set_anchor(loop, from, loop->s.next_end);
        break;
    default: /* loop.scale */
        set_anchor(loop, from, ikvi_loop_to_steps(loop, from));
        loop->s.scale = event->loop.count;
        break;
    }
    loop->s.moment = at > loop->s.moment ? at : loop->s.moment;
    ikvi_loop_time_step(loop);
    if (event->kind == IKV_KIND_LOOP_PAUSE)
        ikvi_loop_retest(loop); /* as at a step's begin, which won't come */
}

static void turn_at_step(ikv_loop *loop, ikv_kind kind, uint64_t lost)
{
    ikv_event event = ikv_event_make(kind, loop->s.step_begin);
    event.loop.count = loop->s.new_scale;
    turn(loop, &event, loop->s.next_begin, lost);
}

void ikvi_loop_settle(ikv_loop *loop)
{
    uint64_t losing = loop->s.losing;
    bool single = loop->s.single;
    loop->s.losing = 0;
    loop->s.single = false;
    if (losing > 0)
        turn_at_step(loop, IKV_KIND_LOOP_DROPPED, losing);
    if (loop->s.scale != loop->s.new_scale)
        turn_at_step(loop, IKV_KIND_LOOP_SCALE, 0);
    if (loop->s.stopped != loop->s.paused)
        turn_at_step(
            loop, loop->s.paused ? IKV_KIND_LOOP_PAUSE : IKV_KIND_LOOP_RESUME,
            0);
    if (single)
        turn_at_step(loop, IKV_KIND_LOOP_SINGLE, 0);
}

/* Takes a wish down: what it comes to is done now, or when the step that runs
 * has ended. ABSENT if it is so already. */
static ikv_status wish(ikv_loop *loop, const ikv_event *event, uint64_t lost)
{
    bool in_step = loop->where == IN_STEP;
    uint32_t scale = event->loop.count;
    switch (event->kind) {
    case IKV_KIND_LOOP_PAUSE:
    case IKV_KIND_LOOP_RESUME:
        if (loop->s.paused == (event->kind == IKV_KIND_LOOP_PAUSE))
            return IKV_ABSENT;
        loop->s.paused = !loop->s.paused;
        return IKV_OK;
    case IKV_KIND_LOOP_SINGLE:
        if (!loop->s.paused)
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
        loop->s.losing += in_step ? lost : 0;
        return IKV_OK;
    }
}

static void tell_of_turn(ikv_loop *loop, const ikv_event *event)
{
    ikvi_loop_tell(loop, event->kind, event->time_ns, loop->s.next_step,
                   event->loop.seconds, event->loop.count);
}

void ikvi_loop_turn(ikv_loop *loop, const ikv_event *event, uint64_t due,
                    uint64_t lost)
{
    if (wish(loop, event, lost) != IKV_OK) {
        if (loop->s.stopped) /* time goes on all the same */
            ikvi_loop_pass_time(loop, event->time_ns);
        return;
    }
    if (loop->where != IN_STEP)
        turn(loop, event, due, lost);
    tell_of_turn(loop, event);
}

static void record_turn(ikv_loop *loop, const ikv_event *event, uint64_t due,
                        uint64_t lost)
{
    ikv_intake intake = IKV_INTAKE_INIT;
    intake.has_due = true;
    intake.due_ns = due;
    intake.lost_ns = lost;
    loop->s.last_due = due;
    ikvi_loop_record(loop, event, &intake);
}

/* Asks for a turn of the clock. Within a step it takes effect at the step's
 * end; what a handler asks for between steps, at its event's time, so that it
 * is the same at any frame rate; else now, and then it is recorded. */
static ikv_status ask(ikv_loop *loop, ikv_kind kind, uint32_t count)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    bool recorded = !loop->in_scope;
    uint64_t at = loop->in_scope ? loop->s.moment : loop->now;
    ikv_event event = ikv_event_make(kind, at);
    event.loop.count = count;
    ikv_status status = wish(loop, &event, 0);
    if (status != IKV_OK)
        return status;
    bool scope = ikvi_loop_scope(loop, true);
    if (loop->where != IN_STEP) {
        uint64_t due = within_next_step(loop, ikvi_loop_to_steps(loop, at));
        due = due > loop->s.last_due ? due : loop->s.last_due;
        uint64_t then = ikvi_loop_to_clock(loop, due);
        if (kind == IKV_KIND_LOOP_PAUSE && recorded && then < at)
            event.time_ns = then;
        if (recorded)
            record_turn(loop, &event, due, 0);
        turn(loop, &event, due, 0);
    }
    tell_of_turn(loop, &event);
    ikvi_loop_scope(loop, scope);
    return IKV_OK;
}

ikv_status ikv_loop_pause(ikv_loop *loop)
{
    return ask(loop, IKV_KIND_LOOP_PAUSE, 0);
}

ikv_status ikv_loop_resume(ikv_loop *loop)
{
    return ask(loop, IKV_KIND_LOOP_RESUME, 0);
}

ikv_status ikv_loop_single_step(ikv_loop *loop)
{
    return ask(loop, IKV_KIND_LOOP_SINGLE, 0);
}

ikv_status ikv_loop_set_scale(ikv_loop *loop, uint32_t thousandths)
{
    return ask(loop, IKV_KIND_LOOP_SCALE, thousandths);
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
static void lose_time(ikv_loop *loop, ikv_kind kind, uint64_t due,
                      uint64_t lost, uint32_t count)
{
    uint64_t at = ikvi_loop_to_clock(loop, due);
    ikv_event event = ikv_event_make(kind, at);
    event.loop.step = loop->s.next_step;
    event.loop.seconds = (float)((double)lost / (double)SECOND);
    event.loop.count = count;
    bool scope = ikvi_loop_scope(loop, true);
    record_turn(loop, &event, due, lost);
    turn(loop, &event, due, lost);
    tell_of_turn(loop, &event);
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
    uint64_t length = loop->whole + (loop->rest != 0);
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
    loop_say_once(loop, SAID_DROPPED, IKV_REPORT_WARNING, IKV_OK,
                  "more steps were due than loop.max_steps: time was dropped");
    lose_time(loop, IKV_KIND_LOOP_DROPPED, due, lost,
              steps < UINT32_MAX ? (uint32_t)steps : UINT32_MAX);
}

void ikvi_loop_drop_time(ikv_loop *loop)
{
    loop->dropping = ikvi_bus_holds_inboxes(loop->bus);
    if (!loop->dropping && loop->now > loop->s.step_end + loop->whole)
        drop_beyond(loop);
}

/* -------------------------------------------------------------- waiting -- */

enum {
    STILL_LIMIT = 100000 /* readings of a clock that does not move */
};

/* Four buckets for each doubling, from 16 ns on. */
static uint32_t bucket_of(uint64_t late_ns)
{
    uint32_t power = 0;
    uint64_t value = late_ns / 16;
    while (value >= 8) {
        value /= 2;
        power++;
    }
    uint32_t bucket = power * 4 + (uint32_t)value;
    return bucket < LATE_BUCKETS ? bucket : LATE_BUCKETS - 1;
}

static uint64_t bucket_end(uint32_t bucket)
{
    uint32_t power = bucket < 8 ? 0 : bucket / 4 - 1;
    uint64_t value = bucket < 8 ? bucket : bucket % 4 + 4;
    return (value + 1) << power << 4;
}

uint64_t ikv_loop_lateness(const ikv_loop *loop, uint32_t percent)
{
    uint64_t all = 0, below = 0;
    for (uint32_t i = 0; loop != NULL && i < LATE_BUCKETS; i++)
        all += loop->lateness[i];
    if (all == 0 || percent > 100)
        return 0;
    for (uint32_t i = 0; i < LATE_BUCKETS; i++) {
        below += loop->lateness[i];
        if (below * 100 >= all * percent)
            return bucket_end(i) < loop->counters.max_late_ns
                       ? bucket_end(i)
                       : loop->counters.max_late_ns;
    }
    return loop->counters.max_late_ns;
}

static void note_lateness(ikv_loop *loop, uint64_t late)
{
    loop->counters.last_late_ns = late;
    if (late > loop->counters.max_late_ns)
        loop->counters.max_late_ns = late;
    uint32_t *bucket = &loop->lateness[bucket_of(late)];
    *bucket += *bucket < UINT32_MAX;
}

/* Waits by the clock's port; false if that can't be done any more. */
static bool wait_by_port(ikv_loop *loop, uint64_t until, bool for_input)
{
    const ikv_port *clock = &loop->ports[0];
    if (clock->wait == NULL || loop->failed[0])
        return false;
    bool lent = ikvi_loop_lend(loop, 0);
    ikv_status status = clock->wait(clock->state, until, for_input);
    ikvi_loop_take_back(loop, 0, lent);
    if (status < 0)
        ikvi_loop_port_failed(loop, 0, status, "wait()");
    return status == IKV_OK;
}

/* Watches the clock; one that stands still is not waited for. */
static void spin_until(const ikv_loop *loop, uint64_t until)
{
    const ikv_port *clock = &loop->ports[0];
    uint64_t now = clock->now(clock->state), seen = now;
    for (uint32_t still = 0; now < until && !loop->quit && still < STILL_LIMIT;
         now = clock->now(clock->state)) {
        still = now == seen ? still + 1 : 0;
        seen = now;
    }
}

/* Sleeps up to the last moment, then watches the clock. A port whose wait has
 * failed is not asked again: then the clock is watched all the time, so that
 * frames are paced all the same. */
static void wait_until(ikv_loop *loop, uint64_t due)
{
    const ikv_port *clock = &loop->ports[0];
    uint64_t until = due + loop->clocks[0].offset;
    uint64_t now = clock->now(clock->state);
    uint64_t sleep = until > loop->spin_ns ? until - loop->spin_ns : 0;
    while (now < sleep && !loop->quit) {
        uint64_t before = now;
        if (!wait_by_port(loop, sleep, false))
            break;
        now = clock->now(clock->state);
        if (now == before)
            return;
    }
    if (loop->spin_ns > 0 || loop->failed[0])
        spin_until(loop, until);
}

/* Whether nothing will happen by itself before there is input. */
static bool may_idle(const ikv_loop *loop)
{
    if (!loop->idles || loop->s.stopped || loop->quit || loop->playing ||
        loop->ports[0].wait == NULL || loop->failed[0] || loop->s.count > 0 ||
        loop->leaving_count > 0 || ikv_queue_waiting(loop->queue) > 0 ||
        ikvi_bus_awaits(loop->bus))
        return false;
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (ikv_router_next_hold(loop->routers[i]) != UINT64_MAX)
            return false;
    return true;
}

/* L6: waits for input, or for a wake; the steps stand still meanwhile. With
 * several polled ports it looks at them once a frame. */
static void idle(ikv_loop *loop)
{
    uint64_t before = loop_clock(loop);
    uint64_t most =
        loop->polled_count > 1 ? ikvi_loop_frame_period(loop) : 3600 * SECOND;
    uint64_t steps = ikvi_loop_to_steps(loop, before);
    if (steps >= loop->s.next_end)
        return; /* a step is due */
    wait_by_port(loop, before + most + loop->clocks[0].offset, true);
    uint64_t now = loop_clock(loop), lost = now > before ? now - before : 0;
    loop->counters.idle_ns += lost;
    if (lost > 0)
        lose_time(loop, IKV_KIND_LOOP_IDLE, steps, lost, 0);
    loop->frame_origin = now;
    loop->frame_index = 0;
}

/* Frames are counted from the first one, so that errors don't add up; a frame
 * that is over a period late begins a new count. */
void ikvi_loop_pace(ikv_loop *loop)
{
    if (may_idle(loop)) {
        idle(loop);
        return;
    }
    if (loop->frame_hz == IKV_UNPACED)
        return;
    uint64_t now = loop_clock(loop);
    uint64_t due = loop->frame_origin +
                   ikv_loop_step_start(++loop->frame_index, loop->frame_hz, 1);
    if (now > due + ikvi_loop_frame_period(loop)) {
        loop->frame_origin = now;
        loop->frame_index = 0;
        due = now;
    }
    wait_until(loop, due);
    now = loop_clock(loop);
    note_lateness(loop, now > due ? now - due : 0);
}

void ikv_loop_set_idle(ikv_loop *loop, bool idles)
{
    if (loop != NULL)
        loop->idles = idles;
}

void ikv_loop_wake(ikv_loop *loop)
{
    if (loop != NULL && loop->ports[0].wake != NULL)
        loop->ports[0].wake(loop->ports[0].state);
}
