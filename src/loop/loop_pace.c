/* loop_pace.c - waiting for the next frame, or for input. */
#include "loop_internal.h"

enum {
    STILL_LIMIT = 100000 /* readings of a clock that does not move */
};

/* Four buckets for each doubling, from 16 ns on. */
uint32_t ikvi_loop_bucket_of(uint64_t ns)
{
    uint32_t power = 0;
    uint64_t value = ns / 16;
    while (value >= 8) {
        value /= 2;
        power++;
    }
    uint32_t bucket = power * 4 + (uint32_t)value;
    return bucket < LATE_BUCKETS ? bucket : LATE_BUCKETS - 1;
}

static uint64_t bucket_end(uint32_t bucket)
{
    /* The first eight are 16 ns wide each; four from there on are a
     * doubling. */
    uint32_t power = bucket < 8 ? 0 : bucket / 4 - 1;
    uint64_t value = bucket < 8 ? bucket : bucket % 4 + 4;
    return (value + 1) << power << 4;
}

uint64_t ikvi_loop_percentile(const uint32_t *buckets, uint32_t percent,
                              uint64_t most)
{
    uint64_t all = 0, below = 0;
    for (uint32_t i = 0; i < LATE_BUCKETS; i++)
        all += buckets[i];
    if (all == 0 || percent > 100)
        return 0;
    for (uint32_t i = 0; i + 1 < LATE_BUCKETS; i++) { /* the last has no end */
        below += buckets[i];
        /* A bucket's end, but never more than was seen. */
        if (below * 100 >= all * percent)
            return bucket_end(i) < most ? bucket_end(i) : most;
    }
    return most;
}

uint64_t ikv_loop_lateness(const ikv_loop *loop, uint32_t percent)
{
    return loop != NULL ? ikvi_loop_percentile(loop->lateness, percent,
                                               loop->counters.max_late_ns)
                        : 0;
}

static void note_lateness(ikv_loop *loop, uint64_t late)
{
    loop->counters.last_late_ns = late;
    if (late > loop->counters.max_late_ns)
        loop->counters.max_late_ns = late;
    uint32_t *bucket = &loop->lateness[ikvi_loop_bucket_of(late)];
    *bucket += *bucket < UINT32_MAX;
}

/* Waits by the clock's port; false if that can't be done any more. */
static bool wait_by_port(ikv_loop *loop, uint64_t until, bool for_input)
{
    const ikv_port *clock = &loop_port_at(loop, 0)->port;
    if (clock->wait == NULL || loop_port_at(loop, 0)->failed)
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
    const ikv_port *clock = &loop_port_at(loop, 0)->port;
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
    const ikv_port *clock = &loop_port_at(loop, 0)->port;
    uint64_t until = due + loop_port_at(loop, 0)->clock.offset;
    uint64_t now = clock->now(clock->state);
    uint64_t sleep = until > loop->spin_ns ? until - loop->spin_ns : 0;
    while (now < sleep && !loop->quit) {
        uint64_t before = now;
        if (!wait_by_port(loop, sleep, false))
            break;
        now = clock->now(clock->state);
        /* The port came back and the clock stands: it is not the port's to
         * wait. */
        if (now == before)
            return;
    }
    if (loop->spin_ns > 0 || loop_port_at(loop, 0)->failed)
        spin_until(loop, until);
}

/* Whether nothing will happen by itself before there is input. */
static bool may_idle(const ikv_loop *loop)
{
    if (!loop->idles || loop->s.stopped || loop->quit || loop->playing ||
        loop_port_at(loop, 0)->port.wait == NULL ||
        loop_port_at(loop, 0)->failed || loop->s.count > 0 ||
        loop->leaving_count > 0 || ikv_queue_waiting(loop->queue) > 0 ||
        ikvi_bus_awaits(loop->bus))
        return false;
    return !ikvi_input_awaits(loop->input);
}

/* L6: waits for input, or for a wake; the steps stand still meanwhile. With
 * several polled ports it looks at them once a frame. */
static void idle(ikv_loop *loop)
{
    uint64_t before = loop_clock(loop);
    /* An hour at a time: a port that counts in ms has room for it. */
    uint64_t most =
        loop->polled_count > 1 ? ikvi_loop_frame_period(loop) : 3600 * SECOND;
    uint64_t steps = ikvi_loop_to_steps(loop, before);
    if (steps >= loop->s.next_end)
        return; /* a step is due */
    wait_by_port(loop, before + most + loop_port_at(loop, 0)->clock.offset,
                 true);
    uint64_t now = loop_clock(loop), lost = now > before ? now - before : 0;
    loop->counters.idle_ns += lost;
    if (lost > 0)
        ikvi_loop_skip_time(loop, IKV_KIND_LOOP_IDLE, steps, lost, 0);
    /* The waiting is no lateness. */
    loop->frame_origin = now;
    loop->frame_index = 0;
}

/* L7. Frames are counted from the first one, so that errors don't add up; a
 * frame that is over a period late begins a new count. */
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
    /* Frames that were missed are not made up for. */
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
    if (loop != NULL && loop_port_at(loop, 0)->port.wake != NULL)
        loop_port_at(loop, 0)->port.wake(loop_port_at(loop, 0)->port.state);
}
