/* loop_record.c - tells a recorder what other threads have deferred, by which
 * flush it was taken; and how the run ends.
 */
#include "loop_internal.h"

/* A flush begins, for which there is no event yet; or takes one. */
static void inbox_taken(const ikv_event *event, ikv_lane lane, void *user)
{
    ikv_loop *loop = user;
    if (event == NULL) {
        ikvi_loop_note_flush(loop, lane);
        return;
    }
    ikv_intake intake = IKV_INTAKE_INIT;
    bool in_step = loop->in_scope && loop->where == IN_STEP && !loop->opening;
    intake.how = IKV_INTAKE_INBOX;
    intake.has_due = true;
    intake.lane = lane;
    intake.within = loop->in_event && !loop->in_seat;
    intake.flush = IKV_FLUSH_OUTSIDE;
    if (loop->in_scope && loop->s.flushes > 0) /* this one is counted */
        intake.flush = (uint8_t)(loop->s.flushes - 1);
    intake.group = in_step ? 0 : ikvi_loop_next_group(loop);
    /* In a step it was taken behind its input, by a handler's flush or the one
     * at its end; between steps, and before the input of one, at the next one's
     * begin. */
    intake.due_ns =
        in_step && !loop->in_event ? loop->s.next_end - 1 : loop->s.next_begin;
    if (intake.due_ns < loop->s.last_due)
        intake.due_ns = loop->s.last_due;
    ikvi_loop_record(loop, event, &intake);
    loop->s.flushes = loop->in_scope; /* it took that */
}

/* T1: played, all steps are run that are due; a program that ends may have left
 * some out. */
static void record_end(ikv_loop *loop)
{
    uint64_t steps = loop->s.next_step + (loop->where == IN_STEP);
    ikv_event event = ikv_event_make(IKV_KIND_LOOP_END, loop->now);
    ikv_intake intake = IKV_INTAKE_INIT;
    intake.has_due = true;
    /* Behind what was routed before the step that did not come. */
    intake.due_ns = loop_step_start(loop, steps);
    if (intake.due_ns < loop->s.last_due)
        intake.due_ns = loop->s.last_due;
    if (loop->started && !ikvi_loop_is_rerunning(loop) &&
        ikvi_loop_to_steps(loop, loop->now) >= loop_step_start(loop, steps + 1))
        ikvi_loop_record(loop, &event, &intake);
}

void ikvi_loop_hear_flushes(ikv_loop *loop)
{
    bool hears = loop->recorder != NULL || loop->playing || loop->given > 0 ||
                 loop->past;
    /* Another loop may have the bus. */
    if (hears || loop->hears)
        ikvi_bus_on_inbox(loop->bus, hears ? inbox_taken : NULL, loop);
    loop->hears = hears;
}

ikv_status ikv_loop_set_recorder(ikv_loop *loop, ikv_recorder recorder,
                                 void *user)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    if (recorder != NULL && loop->recorder != NULL)
        return IKV_BUSY;
    if (recorder == NULL)
        record_end(loop);
    loop->recorder = recorder;
    loop->recorder_user = user;
    ikvi_loop_hear_flushes(loop);
    return IKV_OK;
}
