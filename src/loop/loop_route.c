/* loop_route.c - routes what is pending: each in the step
 * that its time belongs to, or between two steps.
 *
 * An event's place in the steps' time is settled when its turn comes, for by
 * then all that turns the clock before it has taken effect.
 */
#include "loop_internal.h"

/* -------------------------------------------------------------- routing -- */

IKVI_APART static void tell_recorder(ikv_loop *loop, const ikv_event *event,
                                     const loop_entry *entry, uint64_t due,
                                     uint32_t group)
{
    ikv_intake intake = IKV_INTAKE_INIT;
    /* A run's end is recorded when it has come. */
    if (event->kind == IKV_KIND_LOOP_END && entry->how != IKV_INTAKE_INBOX)
        return;
    intake.how = entry->how;
    intake.has_due = true;
    intake.within = entry->within;
    intake.flush = entry->flush;
    if (entry->how == IKV_INTAKE_INBOX) {
        intake.lane = entry->lane;
    } else if (entry->block != 0) {
        intake.data = loop_block(loop, entry->block - 1u);
        intake.data_size = *loop_block_size(loop, entry->block - 1u);
    }
    intake.group = group;
    intake.due_ns = due;
    intake.lost_ns = entry->lost;
    ikvi_loop_record(loop, event, &intake);
}

static void record_entry(ikv_loop *loop, const ikv_event *event,
                         const loop_entry *entry, uint64_t due, uint32_t group)
{
    if (IKVI_UNLIKELY(loop->recorder != NULL))
        tell_recorder(loop, event, entry, due, group);
}

/* What another thread had deferred while this run was recorded. */
static void give_to_inbox(ikv_loop *loop, const ikv_event *event, ikv_lane lane)
{
    ikv_status status = ikvi_bus_give(loop->bus, lane, event);
    if (status < 0)
        loop_report_once(loop, SAID_INBOX, IKV_REPORT_ERROR, status,
                         "a played event found no room in its lane's inbox");
}

/* What ports said is down comes before the mark of a loss: of that at `at`, some
 * may have been taken off already. */
static uint32_t gather_held(const ikv_loop *loop, uint32_t at,
                            ikv_event held[HELD_LIMIT])
{
    uint32_t count = loop->s.held_count, ring = loop->s.head;
    memcpy(held, loop_held(loop), count * sizeof *held);
    for (; ring != at; ring = (ring + 1) & (loop->capacity - 1)) {
        const ikv_event *event = loop_event(loop, ring);
        uint8_t how = loop_entry_at(loop, ring)->how;
        if (how == IKV_INTAKE_INPUT && event->kind == IKV_KIND_DEVICE_RESYNC)
            count = 0; /* those were of an earlier one */
        else if (how == IKV_INTAKE_HELD && count < loop->held_room)
            held[count++] = *event;
    }
    return count;
}

IKVI_APART static void feed_loss(ikv_loop *loop, uint32_t at)
{
    ikv_event held[HELD_LIMIT];
    uint32_t count = gather_held(loop, at, held);
    ikvi_input_feed_resync(loop->input, loop_event(loop, at), held, count);
}

/* The raw state has each input once: the first `fed_count` from the head on. */
static void feed_one(ikv_loop *loop, uint32_t at)
{
    ikv_event *event = loop_event(loop, at);
    IKVI_CHECK(loop->fed_count < loop->s.count);
    loop->fed_count++;
    /* What other threads deferred is no input, whosever it is. */
    uint8_t how = loop_entry_at(loop, at)->how;
    if (how != IKV_INTAKE_INBOX)
        ikvi_loop_note_seat(loop, event);
    if (how != IKV_INTAKE_INPUT)
        return;
    if (IKVI_UNLIKELY(event->kind == IKV_KIND_DEVICE_RESYNC))
        feed_loss(loop, at);
    else
        ikvi_input_feed(loop->input, event);
}

/* Takes so many off, all of them marked or none. */
static void pop(ikv_loop *loop, uint32_t count)
{
    IKVI_CHECK(count <= loop->s.count);
    /* A tape went on beyond the ring. */
    while (loop->input != NULL && loop->fed_count < count)
        feed_one(loop, loop_ring_index(loop, loop->fed_count));
    loop->fed_count = loop->fed_count > count ? loop->fed_count - count : 0;
    loop->s.head = (loop->s.head + count) & (loop->capacity - 1);
    loop->counters.waiting = loop->s.count -= count;
    if (loop->marked > 0) {
        IKVI_CHECK(count <= loop->marked);
        loop->marked -= count;
        loop->kept = loop->marked > 0 ? loop->kept + count : 0;
    }
    loop->given = loop->given > count ? loop->given - count : 0;
    loop->s.flushes = 0;
}

/* Whether it was taken by a later flush than the first that could have. */
static bool is_later(const loop_entry *entry)
{
    return entry->flush > 0 && entry->flush != IKV_FLUSH_OUTSIDE;
}

/* Inbox events that were taken in while the event before them was handled: of
 * its first flush; or, when it has been, those that no flush has come for. */
static void give_what_is_within(ikv_loop *loop, uint32_t group, bool all)
{
    while (loop->s.count > 0) {
        ikv_event event = *loop_event(loop, loop->s.head);
        loop_entry entry = *loop_entry_at(loop, loop->s.head);
        if (entry.how != IKV_INTAKE_INBOX || !entry.within ||
            (!all && is_later(&entry)))
            return;
        record_entry(loop, &event, &entry, loop->s.last_due, group);
        pop(loop, 1);
        give_to_inbox(loop, &event, entry.lane);
    }
}

/* D6. With `close` asking for the end, unless that is refused. */
static void route_input(ikv_loop *loop, const ikv_event *event,
                        uint32_t samples, uint16_t block)
{
    ikvi_along with = {.samples = ikvi_at(loop, loop->samples),
                       .count = samples};
    if (IKVI_UNLIKELY(block != 0)) {
        with = (ikvi_along){.data = loop_block(loop, block - 1u),
                            .data_size = *loop_block_size(loop, block - 1u)};
        loop->in_block = true;
    }
    const ikvi_along *given = samples > 1 || block != 0 ? &with : NULL;
    ikv_outcome outcome =
        loop->input != NULL
            ? loop->input->calls->route(loop->input, event, given)
            : ikvi_bus_deliver_unrouted(loop->bus, event, given);
    if (samples > 1) /* E3 */
        ikvi_poison(ikvi_at(loop, loop->samples), samples * sizeof *event);
    if (IKVI_UNLIKELY(block != 0)) {
        ikvi_loop_free_data(loop, block);
        loop->in_block = false;
    }
    if (IKVI_UNLIKELY(event->kind == IKV_KIND_DRAG_OVER))
        ikvi_loop_tell_drop(loop, event, outcome.verdict);
    else if (event->kind == IKV_KIND_DRAG_DROP ||
             event->kind == IKV_KIND_DRAG_LEAVE)
        loop->drop_told = 0;
    /* D6: nobody has refused. */
    if (event->kind == IKV_KIND_WINDOW_CLOSE &&
        (outcome.verdict & IKV_REFUSE) == 0)
        loop->quit = true;
}

/* After a loss: with what ports said is down, which came before it. */
static void route_resync(ikv_loop *loop, const ikv_event *event)
{
    uint32_t count = loop->s.held_count;
    loop->s.held_count = 0;
    loop->drop_told = 0; /* DRAG5: what was dragged is left */
    if (loop->input != NULL) {
        loop->input->calls->resync(loop->input, event, loop_held(loop), count);
        return;
    }
    ikv_bus_deliver(loop->bus, event);
    for (uint32_t k = 0; k < count; k++)
        ikv_bus_deliver(loop->bus, &loop_held(loop)[k]);
}

/* Takes off the moves that a later one carries, up to one that is not such. */
static void skip_merged(ikv_loop *loop, uint64_t due, uint32_t group)
{
    uint32_t nth = 0;
    for (; nth < loop->marked; nth++) {
        uint32_t at = loop_ring_index(loop, nth);
        const loop_entry *entry = loop_entry_at(loop, at);
        const ikv_event *event = loop_event(loop, at);
        if (!entry->merged)
            break;
        /* The clock may have been turned since the run was marked. */
        due = loop_within_next_step(loop,
                                    ikvi_loop_due_of(loop, event, entry, due));
        IKVI_CHECK(due >= loop->s.last_due);
        record_entry(loop, event, entry, due, group);
        ikvi_bus_tell_moment(loop->bus, IKV_WATCH_MERGE, event);
    }
    loop->s.last_due = due;
    loop->counters.merged += nth;
    pop(loop, nth);
}

/* Whether it is played and does not say with which others it was routed. */
static bool is_alone(const loop_entry *entry)
{
    return entry->played && entry->group == 0;
}

/* Takes the head off and does what it says. */
static void take_head(ikv_loop *loop, uint64_t due, uint32_t group)
{
    if (loop->marked > 0 && loop_entry_at(loop, loop->s.head)->merged) {
        skip_merged(loop, due, group);
        return;
    }
    uint32_t at = loop->s.head, samples = 1;
    /* loop-1 */
    IKVI_CHECK(due >= loop->s.last_due && due < loop->s.next_end);
    loop_entry entry = *loop_entry_at(loop, at);
    if (loop->input == NULL && entry.how != IKV_INTAKE_INBOX)
        ikvi_loop_note_seat(loop, loop_event(loop, at));
    ikv_event event = *loop_event(loop, at);
    if (loop->marked > 0 && entry.length > 1)
        samples = ikvi_loop_gather(loop, at, &event);
    /* As it came in, and not the sum: a tape has each. */
    record_entry(loop, loop_event(loop, at), &entry, due, group);
    loop->s.last_due = due;
    /* Before it is routed: a handler that saves an image finds it gone. */
    pop(loop, 1);
    if (entry.how == IKV_INTAKE_INBOX) {
        give_to_inbox(loop, &event, entry.lane);
    } else if (entry.how == IKV_INTAKE_HELD) {
        loop->counters.held_named++;
        if (loop->s.held_count < loop->held_room)
            loop_held(loop)[loop->s.held_count++] = event;
        else
            loop_report_once(loop, SAID_HELD, IKV_REPORT_ERROR, IKV_BAD_VALUE,
                             "what is played names more that is held than "
                             "loop.held: the rest is released");
    } else if (loop_is_of_clock(&event)) {
        ikvi_loop_give_between(loop);
        ikvi_loop_apply_played(loop, &event, due, &entry);
    } else {
        if (loop->where != IN_STEP)
            ikvi_loop_send_holds(loop, event.time_ns);
        if (event.time_ns > loop->s.routed_at)
            loop->s.routed_at = event.time_ns;
        if (entry.played)
            give_what_is_within(loop, group, false);
        loop->s.edges = is_alone(&entry) && loop->where != IN_STEP
                            ? EDGES_MADE_UP
                            : EDGES_RECORDED;
        loop->counters.routed++;
        loop->in_event = true;
        if (event.kind == IKV_KIND_DEVICE_RESYNC)
            route_resync(loop, &event);
        else
            route_input(loop, &event, samples, entry.block);
        if (IKVI_UNLIKELY(event.kind == IKV_KIND_DEVICE_REMOVE)) {
            ikvi_loop_note_gone(loop, event.device);
            loop->drop_told = 0;
        }
        loop->in_event = false;
        if (entry.played)
            give_what_is_within(loop, group, true);
    }
}

static void refill(ikv_loop *loop)
{
    if (loop->s.count == 0 && loop->more_to_poll)
        ikvi_loop_poll_on(loop);
}

/* What came in since the past was run waits until it has been run again. */
static bool has_more(ikv_loop *loop)
{
    if (IKVI_UNLIKELY(loop->past))
        ikvi_loop_note_past(loop);
    if (IKVI_UNLIKELY(loop->given == 0 && (loop->past || loop->dropping)))
        return false;
    refill(loop);
    return loop->s.count > 0;
}

/* -------------------------------------------------------- between steps -- */

/* What is played may be here before its time; it is due at the latest when the
 * next step is. What a program had deferred bears a time of its own. */
static bool is_early(const ikv_loop *loop, const ikv_event *event,
                     const loop_entry *entry)
{
    bool own = entry->how == IKV_INTAKE_INBOX && entry->due != NO_DUE;
    return loop->playing && !own && event->time_ns > loop->now &&
           ikvi_loop_to_steps(loop, loop->now) < loop->s.next_end;
}

/* Whether the head is of the group that has begun between two steps, which is
 * taken to its end whatever a handler makes of the clock meanwhile. Of what is
 * live that is settled as its first is routed; of a tape by the number, `taped`,
 * 0 for what is live or alone. */
static bool is_of_group(ikv_loop *loop, uint32_t taped)
{
    refill(loop);
    if (loop->s.count == 0)
        return false;
    const loop_entry *entry = loop_entry_at(loop, loop->s.head);
    if (entry->played)
        return taped != 0 && entry->group == taped &&
               !loop_turns_clock(loop, loop->s.head);
    return loop->fed_count > 0;
}

/* L1, T5: whether the head is routed now, between two steps; else it waits for
 * its step, which takes all that is due before its end. For all alike: live and
 * played, running and paused, in steps and at frames. `due` is its place in
 * steps' time. */
static bool comes_between(const ikv_loop *loop, uint64_t due)
{
    const ikv_event *event = loop_event(loop, loop->s.head);
    const loop_entry *entry = loop_entry_at(loop, loop->s.head);
    bool turns = loop_turns_clock(loop, loop->s.head);
    /* A later flush takes it: one as the next step begins, if that comes. */
    if (is_later(entry) && !entry->within &&
        (!loop->s.stopped || ikvi_loop_single_waits(loop)))
        return false;
    /* A single step that is due comes before all else but what turned the clock
     * before it: so did what was asked for before the first frame, though the
     * program that asks again has one waiting by now; and what other threads
     * deferred, by its place. */
    if (ikvi_loop_single_waits(loop)) {
        bool inbox = entry->how == IKV_INTAKE_INBOX && entry->group != 0;
        bool asked_first = turns && event->time_ns == 0 &&
                           (entry->due == NO_DUE || entry->due == 0);
        return asked_first || ((turns || inbox) && due < loop->s.next_end);
    }
    /* Paused, and no port is left: nothing will make the steps go on. */
    if (loop->s.stopped && loop->ended_count == loop->port_count)
        return true;
    /* It is played and here before its time. */
    if (is_early(loop, event, entry))
        return false;
    /* It was routed between two steps when it was recorded; or turns the
     * clock, which has its place there. */
    if (entry->group != 0 || turns)
        return due < loop->s.next_end;
    /* Its tape names its step, which does not come if the steps stand still
     * where they did not when it was recorded. */
    if (entry->due != NO_DUE)
        return loop->s.stopped;
    /* Live: at once while the steps stand still, and at frames what comes from
     * ports. */
    return loop->s.stopped ||
           (loop->at_frame && entry->how != IKV_INTAKE_INBOX);
}

static uint64_t due_of_head(const ikv_loop *loop)
{
    return ikvi_loop_due_of(loop, loop_event(loop, loop->s.head),
                            loop_entry_at(loop, loop->s.head),
                            ikvi_loop_earliest_due(loop));
}

/* How many, from the head on, may be routed now: what came in since the past
 * was run waits until it has been run again. */
static uint32_t count_ready(const ikv_loop *loop)
{
    bool past = loop->past && ikvi_loop_is_rerunning(loop);
    return past || loop->dropping ? loop->given : loop->s.count;
}

/* What was taken from inboxes next when it was recorded, between the same two
 * steps: by who is told what comes of turning the clock, or of testing mice. */
void ikvi_loop_give_between(ikv_loop *loop)
{
    while (count_ready(loop) > 0) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        uint64_t due = due_of_head(loop);
        if (entry->how != IKV_INTAKE_INBOX || !entry->played ||
            entry->group == 0 || entry->within || is_later(entry) ||
            due >= loop->s.next_end || !comes_between(loop, due))
            return;
        take_head(loop, due, ikvi_loop_next_group(loop));
    }
}

/* Whether it was taken behind the step's input, and not by the first flush:
 * that there will be a later one is to be waited for. */
static bool waits_for_flush(const loop_entry *entry)
{
    return is_later(entry) && entry->group == 0 && !entry->within;
}

/* Gives what that flush took when it was recorded. What the first one took may
 * be there already. */
void ikvi_loop_note_flush(ikv_loop *loop, ikv_lane lane)
{
    if (!loop->in_scope)
        return; /* of frames' code, which no tape tells of */
    if (loop->s.flushes < UINT8_MAX)
        loop->s.flushes++;
    while (count_ready(loop) > 0) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        uint64_t due = due_of_head(loop);
        if (entry->how != IKV_INTAKE_INBOX || !entry->played ||
            entry->lane != lane || entry->flush >= loop->s.flushes ||
            due >= loop->s.next_end)
            break;
        take_head(loop, due,
                  entry->group != 0 ? ikvi_loop_next_group(loop) : 0);
        loop->s.flushes = 1; /* it took that */
    }
}

/* S1: the raw state takes what belongs to this step before any of it is
 * routed. */
void ikvi_loop_feed_state(ikv_loop *loop, uint64_t time_ns)
{
    uint32_t count = count_ready(loop);
    ikvi_input_begin_step(loop->input, time_ns);
    if (count == 0)
        return;
    loop_deadline end = ikvi_loop_deadline(loop, loop->s.next_end);
    for (uint32_t nth = 0; nth < count; nth++) {
        uint32_t at = loop_ring_index(loop, nth);
        const loop_entry *entry = loop_entry_at(loop, at);
        bool within = entry->how == IKV_INTAKE_INBOX && entry->within;
        if ((!within && !loop_is_before(end, loop_event(loop, at), entry)) ||
            (entry->flush > 0 && waits_for_flush(entry)))
            return;
        if (nth >= loop->fed_count)
            feed_one(loop, at);
    }
}

/* How many, from the head on, are routed together with it between two steps. */
static uint32_t count_group(const ikv_loop *loop)
{
    const loop_entry *head = loop_entry_at(loop, loop->s.head);
    uint32_t ready = count_ready(loop), count = 1;
    IKVI_CHECK(ready > 0 && ready <= loop->s.count);
    for (; count < ready; count++) {
        uint32_t at = loop_ring_index(loop, count);
        const loop_entry *entry = loop_entry_at(loop, at);
        /* It belongs to the event before it, and parts no group. */
        if (entry->how == IKV_INTAKE_INBOX && entry->within)
            continue;
        if (loop_turns_clock(loop, at) || is_alone(entry) ||
            entry->group != head->group || entry->played != head->played)
            break;
    }
    return count;
}

/* S1: the raw state takes what is routed together between two steps. That is
 * settled here, before a handler of it may turn the clock. `begins`: nothing of
 * it has been routed; the state's step is of its latest time, and not of the
 * frame's, which is on no tape. */
static void settle_group(ikv_loop *loop, bool begins)
{
    uint32_t count = count_group(loop);
    uint64_t latest = 0;
    IKVI_CHECK(loop->fed_count == 0);
    for (uint32_t nth = 0; begins && nth < count; nth++) {
        uint32_t at = loop_ring_index(loop, nth);
        uint64_t time = loop_event(loop, at)->time_ns;
        bool input = loop_entry_at(loop, at)->how != IKV_INTAKE_INBOX;
        latest = input && time > latest ? time : latest;
    }
    /* Else it is what a tape's ring had no room for: of the same step of the
     * state. */
    if (begins)
        ikvi_input_begin_step(loop->input, latest);
    for (uint32_t nth = 0; nth < count; nth++)
        feed_one(loop, loop_ring_index(loop, nth));
}

/* What was taken from inboxes in a step and is there as it ends: no flush has
 * come for it, as other handlers ran than when it was recorded. */
void ikvi_loop_give_inboxes(ikv_loop *loop)
{
    while (count_ready(loop) > 0) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        uint64_t due = due_of_head(loop);
        if (entry->how != IKV_INTAKE_INBOX || !entry->played ||
            entry->group != 0 || due >= loop->s.next_end)
            return;
        take_head(loop, due, 0);
    }
}

/* L4: what was taken from inboxes behind the last step, where that is the last
 * because the program ends the run there. */
void ikvi_loop_give_last(ikv_loop *loop)
{
    while (has_more(loop)) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        uint64_t due = due_of_head(loop);
        if (entry->how != IKV_INTAKE_INBOX || !entry->played ||
            due >= loop->s.next_end)
            return;
        take_head(loop, due, entry->group);
    }
}

/* Whether what comes due by itself while the steps stand still waits for the
 * tape: for the mark of it, or for what it came before when that was recorded. A
 * tape that is made by hand has neither. */
static bool tape_says_when(const ikv_loop *loop)
{
    if (!loop->playing)
        return false;
    const loop_entry *next =
        loop->s.count > 0 ? loop_entry_at(loop, loop->s.head) : NULL;
    return loop->s.owed ||
           (next != NULL ? next->due != NO_DUE || next->group != 0
                         : loop->was_recorded);
}

/* That a hold has come due, that mice were tested for what came of routed
 * input, or that a frame without input ends the state's edges, is recorded as a
 * further loop.pause: on the tape it stands before what was routed after it. It
 * is of the group of its frame's input, if there was any. What changes by other
 * code is on no tape. */
void ikvi_loop_pass_paused_frame(ikv_loop *loop)
{
    if (loop->quit || ikvi_loop_single_waits(loop) || tape_says_when(loop))
        return;
    bool scope = ikvi_loop_scope(loop, true);
    bool ends = loop->live_group == 0 &&
                loop->s.edges > (loop->playing ? EDGES_RECORDED : EDGES_NONE);
    if (ikvi_input_next_hold(loop->input) <= loop->now || loop->s.owed ||
        ends) {
        ikv_event mark = ikv_event_make(IKV_KIND_LOOP_PAUSE, loop->now);
        ikv_intake intake = IKV_INTAKE_INIT;
        intake.due_ns = ikvi_loop_earliest_due(loop);
        intake.group = loop->live_group;
        ikvi_loop_record(loop, &mark, &intake);
    }
    ikvi_loop_pass_time(loop, loop->now, ends);
    ikvi_loop_scope(loop, scope);
}

/* What is being routed between two steps. */
typedef struct between {
    uint32_t live;  /* the group of what comes from ports; 0: none yet */
    uint32_t taped; /* the tape's group of what was taken last; 0: of none */
    bool routed;    /* input was, of that group */
} between;

/* The group that the head is of: its tape's, one of its own, or that of this
 * frame's input. */
static uint32_t group_of_head(ikv_loop *loop, between *b)
{
    const loop_entry *entry = loop_entry_at(loop, loop->s.head);
    if (!entry->played && b->live == 0)
        b->live = ikvi_loop_next_group(loop);
    if (is_alone(entry))
        return ikvi_loop_next_group(loop);
    return entry->group != 0 ? entry->group : b->live;
}

/* Takes the head. A tape's group may go on beyond the ring. */
static void take_between(ikv_loop *loop, between *b, uint64_t due)
{
    const loop_entry *entry = loop_entry_at(loop, loop->s.head);
    /* So that a group that found room when it was recorded is whole here. */
    if (!b->routed && loop->more_to_poll)
        ikvi_loop_poll_on(loop);
    uint32_t group = group_of_head(loop, b), taped = entry->group;
    bool input =
        entry->how == IKV_INTAKE_INPUT && !loop_turns_clock(loop, loop->s.head);
    if (input && loop->fed_count == 0)
        settle_group(loop, !b->routed);
    if (input && !entry->played)
        loop->live_group = group;
    if (loop->marked == 0 && loop->fed_count > 1 && !is_alone(entry))
        ikvi_loop_mark_run(loop, loop->fed_count, UINT64_MAX);
    take_head(loop, due, group);
    b->routed = b->routed || input;
    b->taped = taped;
}

/* L1: paused, or with timing at_frame, what has been taken in is routed at the
 * frame's begin. The moves of one frame merge; of a tape's those of one group,
 * which is a frame of the recorded run; else each is alone. After each group
 * resting mice are tested again, which may turn the clock, too. After a quit
 * none begins, as no step does: what else a frame has depends on its length. */
void ikvi_loop_route_between(ikv_loop *loop)
{
    bool scope = ikvi_loop_scope(loop, true);
    between b = {0, 0, false};
    while (b.routed || has_more(loop)) {
        if (b.routed && !is_of_group(loop, b.taped)) {
            b.routed = false;
            ikvi_loop_apply_seats(loop);
            ikvi_loop_give_between(loop);
            ikvi_loop_retest(loop);
            ikvi_loop_end_between(loop);
            continue;
        }
        uint64_t due = due_of_head(loop);
        if (!b.routed && (loop->quit || !comes_between(loop, due)))
            break;
        take_between(loop, &b, loop_within_next_step(loop, due));
    }
    IKVI_CHECK(loop->marked == 0 && loop->fed_count == 0);
    ikvi_loop_scope(loop, scope);
}

/* The input of the step that begins. What should have come before it and could
 * not is late, and comes in it. */
void ikvi_loop_route_step(ikv_loop *loop)
{
    while (has_more(loop)) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        uint64_t due = due_of_head(loop);
        if (due >= loop->s.next_end ||
            (entry->flush > 0 && waits_for_flush(entry)))
            break;
        uint32_t ready = count_ready(loop);
        if (loop->marked == 0 && ready > 1) /* one alone merges with none */
            ikvi_loop_mark_run(loop, ready, loop->s.next_end);
        take_head(loop, due, 0);
    }
    IKVI_CHECK(loop->marked == 0);
}

bool ikv_loop_newest(const ikv_loop *loop, uint16_t device, uint16_t id,
                     float *x, float *y)
{
    for (uint32_t nth = loop != NULL ? loop->s.count : 0; nth-- > 0;) {
        const ikv_event *event = loop_event(loop, loop_ring_index(loop, nth));
        if (event->time_ns <= loop->now && event->device == device &&
            event->kind >= IKV_KIND_POINTER_DOWN &&
            event->kind <= IKV_KIND_POINTER_MOVE &&
            event->pointer.pointer == id) {
            *x = event->pointer.x;
            *y = event->pointer.y;
            return true;
        }
    }
    return false;
}
