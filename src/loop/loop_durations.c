/* loop_durations.c - how long frames and steps take, for those who ask for it. */
#include "loop_internal.h"

_Static_assert(sizeof(((ikv_durations *)0)->buckets[0]) ==
                   LATE_BUCKETS * sizeof(uint32_t),
               "one way to sort durations into buckets");

/* The moments are those of frames and of steps in turn, begins first. */
static void take_mark(const ikv_loop *loop, uint32_t moment)
{
    ikv_durations *d = loop->durations;
    uint64_t now = d->clock != NULL ? d->clock(d->user) : loop_clock(loop);
    uint32_t of = moment % 2;
    uint64_t *longest = of == IKV_OF_STEPS ? &d->max_step_ns : &d->max_frame_ns;
    if (moment < MARK_FRAME_ENDS) {
        d->began_ns[of] = now;
        return;
    }
    /* It was begun before it was measured, or the clock went back. */
    uint64_t began = d->began_ns[of];
    if (began == UINT64_MAX || now < began)
        return;
    d->began_ns[of] = UINT64_MAX;
    uint32_t *bucket = &d->buckets[of][ikvi_loop_bucket_of(now - began)];
    *bucket += *bucket < UINT32_MAX;
    if (now - began > *longest)
        *longest = now - began;
    if (of == IKV_OF_STEPS) {
        d->steps++;
        d->steps_over += now - began > d->step_budget_ns;
    } else {
        d->frames++;
        d->frames_over +=
            d->frame_budget_ns > 0 && now - began > d->frame_budget_ns;
    }
}

ikv_status ikv_loop_measure(ikv_loop *loop, ikv_durations *to)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    if (to != NULL && to->size != sizeof *to)
        return IKV_BAD_SIZE;
    loop->durations = to;
    loop->mark = to != NULL ? take_mark : NULL;
    if (to == NULL)
        return IKV_OK;
    to->began_ns[IKV_OF_FRAMES] = to->began_ns[IKV_OF_STEPS] = UINT64_MAX;
    to->step_budget_ns = loop->step_ns;
    to->frame_budget_ns =
        loop->frame_hz != IKV_UNPACED ? ikvi_loop_frame_period(loop) : 0;
    return IKV_OK;
}

uint64_t ikv_duration_of(const ikv_durations *durations, uint32_t of,
                         uint32_t percent)
{
    if (durations == NULL || of > IKV_OF_STEPS)
        return 0;
    return ikvi_loop_percentile(durations->buckets[of], percent,
                                of == IKV_OF_STEPS ? durations->max_step_ns
                                                   : durations->max_frame_ns);
}
