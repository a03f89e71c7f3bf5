/* loop_input.c - takes events in from ports, queue and tapes into the ring of
 * what is pending.
 */
#include "loop_internal.h"

/* ---------------------------------------------------------------- sinks -- */

static void set_present(ikv_loop *loop, uint16_t device, bool present)
{
    if (device >= loop->device_room)
        return; /* no port has it: a tape's */
    uint32_t bit = 1u << device % 32, *word = loop_present(loop, device);
    *word = present ? *word | bit : *word & ~bit;
}

void ikvi_loop_note_gone(ikv_loop *loop, uint16_t device)
{
    if (device == 0 || device > loop->devices ||
        *loop_gone(loop, device) != 0 ||
        (*loop_present(loop, device) >> device % 32 & 1) != 0)
        return; /* it is back already */
    *loop_gone(loop, device) = device;
    if (loop->gone_first == 0)
        loop->gone_first = device;
    else
        *loop_gone(loop, loop->gone_last) = device;
    loop->gone_last = device;
}

/* The one that has been gone for longest; 0 if none is. */
static uint16_t take_gone(ikv_loop *loop)
{
    uint16_t device = loop->gone_first;
    if (device == 0)
        return 0;
    uint16_t next = *loop_gone(loop, device);
    loop->gone_first = next != device ? next : 0;
    *loop_gone(loop, device) = 0;
    return device;
}

uint16_t ikv_sink_device(ikv_sink *sink)
{
    if (sink == NULL)
        return 0;
    /* As late as can be, so that a stale number names nobody for long. */
    ikv_loop *loop = sink->loop;
    uint16_t device = loop->devices + 1u < loop->device_room ? ++loop->devices
                                                             : take_gone(loop);
    if (device == 0)
        return 0;
    *loop_device_port(loop, device) = (uint8_t)sink->port;
    set_present(loop, device, true);
    return device;
}

bool ikv_sink_has_room(const ikv_sink *sink, ikv_kind kind)
{
    return sink != NULL && ikv_queue_room_own(sink->loop->queue, kind) > 0;
}

bool ikv_sink_has_room_any(const ikv_sink *sink, ikv_kind kind)
{
    return sink != NULL && ikv_queue_room(sink->loop->queue, kind) > 0;
}

void ikv_sink_lost(ikv_sink *sink, uint16_t device)
{
    if (sink != NULL)
        ikv_queue_mark_lost(sink->loop->queue, device);
}

/* -------------------------------------------------------------- pending -- */

/* There is room. */
static uint32_t append(ikv_loop *loop, const ikv_event *event,
                       const loop_entry *entry)
{
    IKVI_CHECK(loop_room(loop) > 0);
    uint32_t at = loop_ring_index(loop, loop->s.count++);
    *loop_event(loop, at) = *event;
    *loop_entry_at(loop, at) = *entry;
    loop->counters.waiting = loop->s.count;
    if (loop->s.count > loop->counters.waiting_high)
        loop->counters.waiting_high = loop->s.count;
    ikvi_bus_tell_moment(loop->bus, IKV_WATCH_TAKE, event);
    return at;
}

bool ikvi_loop_append(ikv_loop *loop, const ikv_event *event)
{
    static const loop_entry made = {.due = NO_DUE};
    if (loop_room(loop) == 0)
        return false;
    append(loop, event, &made);
    return true;
}

/* A tape may be made by hand: what comes from it is checked as what a port
 * pushes, and its lane and kind besides. */
ikv_status ikvi_loop_check_played(const ikv_loop *loop, const ikv_event *event,
                                  const ikv_intake *intake)
{
    const ikv_kind_info *info = loop_kind_info(loop, event->kind);
    if (info == NULL)
        return IKV_UNKNOWN_KIND;
    if (intake->size != sizeof *intake)
        return IKV_BAD_SIZE;
    if (event->device >= IKV_DEVICE_LIMIT)
        return IKV_BAD_ARGUMENT;
    if (!ikvi_event_is_good(ikv_bus_catalogue(loop->bus), event))
        return IKV_BAD_VALUE;
    if (intake->how > IKV_INTAKE_HELD ||
        (intake->data_size > 0 &&
         (intake->data == NULL || intake->how != IKV_INTAKE_INPUT)))
        return IKV_BAD_ARGUMENT;
    if (intake->data_size > 0) {
        ikv_status status =
            ikvi_loop_check_data(loop, event, intake->data, intake->data_size);
        if (status < 0)
            return status;
    }
    if (intake->how == IKV_INTAKE_INBOX)
        return ikv_bus_lane_name(loop->bus, (ikv_lane)intake->lane) != NULL &&
                       intake->lane <= UINT16_MAX
                   ? IKV_OK
                   : IKV_UNKNOWN_NAME;
    /* The loop's own turns of the clock are on tapes, and on no port. */
    return info->from & (IKV_FROM_P | IKV_FROM_U | IKV_FROM_T)
               ? IKV_OK
               : IKV_NOT_PUSHABLE;
}

loop_entry ikvi_loop_played_entry(ikv_loop *loop, const ikv_intake *intake)
{
    loop_entry entry = {.due = intake->has_due ? intake->due_ns : NO_DUE,
                        .lost = intake->lost_ns,
                        .group = intake->group,
                        .how = intake->how,
                        .within = intake->within,
                        .flush =
                            intake->how == IKV_INTAKE_INBOX ? intake->flush : 0,
                        .played = true};
    if (intake->how == IKV_INTAKE_INBOX)
        entry.lane = (uint16_t)intake->lane;
    else if (intake->data_size > 0)
        entry.block =
            ikvi_loop_keep_data(loop, intake->data, intake->data_size);
    return entry;
}

static bool is_own(const ikv_loop *loop, uint32_t at, const ikv_event *event)
{
    const ikv_event *own = loop_event(loop, at);
    return !loop_entry_at(loop, at)->played && own->kind == event->kind &&
           own->device == event->device && own->seat == event->seat &&
           own->flags == event->flags && own->time_ns == event->time_ns;
}

/* A seat that a program gives before its first frame it gives again when it is
 * played, and its tape has it too: what counts is the tape's, in its place. */
static void remove_own(ikv_loop *loop, const ikv_event *event)
{
    uint32_t nth = loop->fed_count, count = loop->s.count;
    /* What is being routed, or run again, stays. */
    if (event->kind != IKV_KIND_DEVICE_SEAT || loop->given > 0 ||
        loop->marked > 0)
        return;
    while (nth < count && !is_own(loop, loop_ring_index(loop, nth), event))
        nth++;
    if (nth == count)
        return;
    for (; nth + 1 < count; nth++) {
        uint32_t at = loop_ring_index(loop, nth);
        uint32_t next = loop_ring_index(loop, nth + 1);
        *loop_event(loop, at) = *loop_event(loop, next);
        *loop_entry_at(loop, at) = *loop_entry_at(loop, next);
    }
    loop->s.count--;
}

/* A full ring is no loss here: the port keeps the event, and is polled again
 * within the frame. */
ikv_status ikv_sink_play(ikv_sink *sink, const ikv_event *event,
                         const ikv_intake *intake)
{
    static const ikv_intake plain = IKV_INTAKE_INIT;
    if (sink == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_loop *loop = sink->loop;
    intake = intake != NULL ? intake : &plain;
    ikv_status status = ikvi_loop_check_played(loop, event, intake);
    /* Once more, to be counted and reported as a port's. */
    if (status == IKV_BAD_VALUE)
        ikvi_loop_check_value(sink, event);
    if (status < 0)
        return status;
    if (loop_room(loop) == 0 ||
        (intake->data_size > 0 && loop_free_blocks(loop) == 0)) {
        loop->more_to_poll = true;
        return IKV_FULL_PENDING;
    }
    loop_entry entry = ikvi_loop_played_entry(loop, intake);
    loop->was_recorded = loop->was_recorded || intake->has_due;
    if (intake->how == IKV_INTAKE_INPUT)
        remove_own(loop, event);
    append(loop, event, &entry);
    return IKV_OK;
}

/* --------------------------------------------------------------- clocks -- */

/* A: what a port has pushed bears its own clock's time. The offset between the
 * two clocks is followed: it drifts evenly, within a second, to what was
 * measured last, by no more than DRIFT_LIMIT. */
static uint64_t offset_at(const port_clock *clock, uint64_t own)
{
    if (clock->drift == 0 || own <= clock->since)
        return clock->offset;
    uint64_t past = own - clock->since;
    past = past < SECOND ? past : SECOND;
    return clock->offset +
           (uint64_t)(clock->drift * (int64_t)past / (int64_t)SECOND);
}

/* The first port's clock is the loop's own and needs no matching; the others'
 * drift is what was measured in the last second, so that an event's time never
 * jumps. */
void ikvi_loop_match_clocks(ikv_loop *loop, bool first)
{
    loop->next_match = loop->now + SECOND;
    for (uint32_t i = first ? 0 : 1; i < loop->port_count; i++) {
        port_clock *clock = &loop_port_at(loop, i)->clock;
        uint64_t own =
            loop_port_at(loop, i)->port.now(loop_port_at(loop, i)->port.state);
        if (first) {
            clock->offset = clock->since = own;
            continue;
        }
        uint64_t offset = offset_at(clock, own);
        int64_t off = (int64_t)(own - loop->now - offset);
        /* A port whose clock jumps is followed slowly, so that no order turns
         * round. */
        off = off > DRIFT_LIMIT ? DRIFT_LIMIT : off;
        clock->drift = off < -DRIFT_LIMIT ? -DRIFT_LIMIT : off;
        clock->offset = offset;
        clock->since = own;
    }
}

/* A port's time as ns since loop.start; times before that are 0. Of two times
 * in order the later one never becomes the earlier. */
static uint64_t to_loop_time(ikv_loop *loop, uint32_t port, uint64_t own)
{
    port_clock *clock = &loop_port_at(loop, port)->clock;
    uint64_t offset = offset_at(clock, own);
    /* An offset may be below 0, as bits: a port's clock that began later. */
    bool before = (int64_t)offset >= 0 && own < offset;
    uint64_t time = before ? 0 : own - offset;
    if (own >= clock->last_own) {
        time = time < clock->last ? clock->last : time;
        clock->last_own = own;
        clock->last = time;
    }
    return time;
}

static void say_ahead(const ikv_loop *loop, uint32_t port, uint64_t by_ns)
{
    char bytes[200], ms[32];
    ikvi_text text = {bytes, sizeof bytes, 0};
    ikvi_text_add(&text, "the port pushes events whose time is ahead of its "
                         "clock, by ");
    ikvi_text_bytes(&text, ms, ikv_time_format(by_ns, ms));
    ikvi_text_add(&text, " ms: they are taken as of now; event times must be "
                         "on the clock of the port's now()");
    ikvi_text_end(&text);
    const char *name = loop_port_at(loop, port)->port.name;
    ikvi_report(&loop->reporter, IKV_REPORT_WARNING, IKV_BAD_VALUE,
                name != NULL ? name : "loop", bytes);
}

/* L8: nothing is of later than now. What another thread has pushed since the
 * frame's time was read may be, by as much. */
static uint64_t not_ahead(ikv_loop *loop, uint32_t port, uint64_t own,
                          uint64_t time)
{
    uint64_t clock = loop_port_at(loop, port)
                         ->port.now(loop_port_at(loop, port)->port.state);
    if (own <= clock)
        return time;
    loop->counters.ahead++;
    if (!loop_port_at(loop, port)->clock.ahead_said) {
        loop_port_at(loop, port)->clock.ahead_said = true;
        say_ahead(loop, port, own - clock);
    }
    /* Else all that comes later would be held at the time that was wrong. */
    loop_port_at(loop, port)->clock.last_own = clock;
    loop_port_at(loop, port)->clock.last = loop->now;
    return loop->now;
}

/* ------------------------------------------------------------- draining -- */

static uint32_t port_of(const ikv_loop *loop, uint16_t device)
{
    return device < loop->device_room ? *loop_device_port(loop, device) : 0;
}

/* Of each kind once. */
static void say_bad(ikv_loop *loop, ikv_status status, ikv_kind kind,
                    const char *before, const char *field, const char *after)
{
    if (!ikvi_bus_is_first_of(loop->bus, kind))
        return;
    const ikv_kind_info *info = loop_kind_info(loop, kind);
    char bytes[256];
    ikvi_text text = {bytes, sizeof bytes, 0};
    ikvi_text_add(&text, before);
    ikvi_text_add(&text, info != NULL ? info->name : "an unknown kind");
    ikvi_text_add(&text, field);
    ikvi_text_add(&text, after);
    ikvi_text_end(&text);
    ikvi_report(&loop->reporter, IKV_REPORT_ERROR, status, "loop", bytes);
}

static void say_bad_value(ikv_loop *loop, ikv_kind kind, uint32_t offset)
{
    const ikv_kind_info *info = loop_kind_info(loop, kind);
    char field[IKV_PATH_LIMIT * 2];
    ikvi_text text = {field, sizeof field, 0};
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++)
        if (info->fields[i].offset == offset) {
            ikvi_text_add(&text, ".");
            ikvi_text_add(&text, info->fields[i].name);
        }
    ikvi_text_end(&text);
    say_bad(loop, IKV_BAD_VALUE, kind, "refused: a value of ", field,
            " can't be recorded: a number that is not finite or beyond 2^30, "
            "or text that does not fit its field or is not UTF-8");
}

/* P2: only kinds that ports may push. What came through a sink was checked there,
 * if its kind was known by then, as the built-in ones are. */
static bool may_be_taken(ikv_loop *loop, const ikv_event *event, bool by_sink)
{
    const ikv_kind_info *info = loop_kind_info(loop, event->kind);
    if (info == NULL || (info->from & IKV_FROM_P) == 0) {
        loop->counters.rejected++;
        ikvi_bus_tell_refused(loop->bus, event,
                              info != NULL ? IKV_NOT_PUSHABLE
                                           : IKV_UNKNOWN_KIND);
        say_bad(loop, info != NULL ? IKV_NOT_PUSHABLE : IKV_UNKNOWN_KIND,
                event->kind, "refused: a port pushed ", "",
                ": ports may push the kinds that the catalogue marks P");
        return false;
    }
    if (IKVI_LIKELY(by_sink && event->kind < IKV_KIND_USER) ||
        ikvi_event_is_good(ikv_bus_catalogue(loop->bus), event))
        return true;
    loop->counters.bad_values++; /* not through a sink */
    ikvi_bus_tell_refused(loop->bus, event, IKV_BAD_VALUE);
    say_bad_value(
        loop, event->kind,
        ikvi_event_fault(ikv_bus_catalogue(loop->bus), event)->offset);
    return false;
}

static void note_age(ikv_loop *loop, uint64_t age)
{
    if (IKVI_LIKELY(age <= loop->age_limit))
        return;
    loop->counters.aged++;
    if (age > loop->counters.max_age_ns)
        loop->counters.max_age_ns = age;
    loop_report_once(
        loop, SAID_AGED, IKV_REPORT_WARNING, IKV_OK,
        "events waited longer than a frame before they were drained: is the "
        "frame slow, or ikv_loop_begin() called too rarely?");
}

/* What comes and goes, and what is held without a device. */
static void note_device(ikv_loop *loop, uint32_t port, const ikv_event *event)
{
    if (event->kind == IKV_KIND_DEVICE_ADD ||
        event->kind == IKV_KIND_DEVICE_REMOVE)
        set_present(loop, event->device, event->kind == IKV_KIND_DEVICE_ADD);
    else if (event->device == 0 && (event->kind == IKV_KIND_POINTER_DOWN ||
                                    event->kind == IKV_KIND_POINTER_MOVE ||
                                    event->kind == IKV_KIND_KEY_DOWN ||
                                    event->kind == IKV_KIND_PAD_DOWN ||
                                    event->kind == IKV_KIND_PAD_AXIS))
        loop_port_at(loop, port)->unnamed = true;
}

/* From the queue's block into one of the ring's own; for both the drain has
 * found room. */
static uint16_t take_data(ikv_loop *loop, uint16_t block)
{
    uint32_t size;
    const void *data = ikvi_queue_block(loop->queue, block, &size);
    uint16_t kept = ikvi_loop_keep_data(loop, data, size);
    ikvi_queue_free_block(loop->queue, block);
    return kept;
}

/* There is room for all. */
static void append_sticky(ikv_loop *loop, const ikv_event *event,
                          const loop_entry *entry)
{
    ikv_event after[STICKY_LIMIT];
    uint32_t count;
    if (ikvi_loop_sticky(loop, event, after, &count))
        append(loop, event, entry);
    else if (entry->block != 0)
        ikvi_loop_free_data(loop, entry->block);
    for (uint32_t i = 0; i < count; i++)
        ikvi_loop_append(loop, &after[i]);
}

/* The event bears its sink's tag, and its block's number. What is before `late`
 * on the clock has missed its step. */
static void take_pushed(ikv_loop *loop, ikv_event *event, uint64_t late)
{
    loop_entry pushed = {.due = NO_DUE};
    if (IKVI_UNLIKELY((event->device & IKVI_TAG_DATA) != 0)) {
        pushed.block = take_data(loop, event->samples);
        event->samples = 0;
        event->device &= (uint16_t)~IKVI_TAG_DATA;
    }
    uint32_t tag = event->device >> IKVI_TAG_SHIFT;
    event->device &= IKV_DEVICE_LIMIT - 1;
    /* What was not pushed through a sink is of the port whose device it
     * names. */
    uint32_t port = tag != 0 ? tag - 1 : port_of(loop, event->device);
    if (!may_be_taken(loop, event, tag != 0)) {
        if (pushed.block != 0)
            ikvi_loop_free_data(loop, pushed.block);
        return;
    }
    IKVI_CHECK(port < loop->port_count);
    note_device(loop, port, event);
    uint64_t own = event->time_ns, time = to_loop_time(loop, port, own);
    if (IKVI_UNLIKELY(time > loop->now))
        time = not_ahead(loop, port, own, time);
    event->time_ns = time;
    note_age(loop, loop->now > time ? loop->now - time : 0);
    /* Its step has run: it is routed in the next one, and says so. */
    if (IKVI_UNLIKELY(time < late)) {
        loop->counters.late++;
        event->flags |= IKV_LATE;
    }
    if (IKVI_UNLIKELY(loop->sticky.seats != 0))
        append_sticky(loop, event, &pushed);
    else
        append(loop, event, &pushed);
}

/* Whether it may stand in a port's answer: as pushes are checked. */
static bool is_down_event(const ikv_loop *loop, const ikv_event *event)
{
    return (event->kind == IKV_KIND_KEY_DOWN ||
            event->kind == IKV_KIND_POINTER_DOWN ||
            event->kind == IKV_KIND_PAD_DOWN) &&
           ikvi_event_is_good(ikv_bus_catalogue(loop->bus), event);
}

/* What a port says that the device holds, appended to `held`. An answer that
 * can't be used is none: all is let go then. */
static uint32_t ask_held(ikv_loop *loop, uint32_t port, uint16_t device,
                         ikv_event *held, uint32_t room)
{
    const ikv_port *p = &loop_port_at(loop, port)->port;
    uint32_t count = 0;
    /* Nobody to ask: it is taken that nothing is held. */
    if (p->held == NULL || loop_port_at(loop, port)->ended)
        return 0;
    ikv_status status = p->held(p->state, device, held, room, &count);
    if (status < 0)
        ikvi_loop_port_failed(loop, port, status, "held()");
    if (status != IKV_OK)
        return 0;
    bool good = count <= room;
    for (uint32_t i = 0; good && i < count; i++)
        good = is_down_event(loop, &held[i]);
    if (good)
        return count;
    loop_report_once(
        loop, SAID_HELD, IKV_REPORT_ERROR, IKV_BAD_VALUE,
        "a port's held() named over loop.held events, or one that is no "
        "key.down, pointer.down or pad.down: it is taken that the "
        "device holds nothing");
    return 0;
}

/* Q3: asks the device's port what is down, or takes it that nothing is; of
 * what has no device, all ports. False if there is no room: the device stays
 * marked. */
static bool resync(ikv_loop *loop, uint16_t device)
{
    ikv_event held[HELD_LIMIT];
    uint32_t count = 0;
    loop_entry entry = {.due = NO_DUE, .how = IKV_INTAKE_HELD};
    /* An empty ring takes it in any case, or a small one would never do. */
    if (loop_room(loop) < loop->held_room + 1 && loop->s.count > 0)
        return false;
    for (uint32_t i = 0; i < loop->port_count; i++)
        if (device == 0 || i == port_of(loop, device))
            count += ask_held(loop, i, device, held + count,
                              loop->held_room - count);
    uint32_t room = loop_room(loop) - 1;
    room = room < loop->held_room ? room : loop->held_room;
    if (count > room)
        count = 0;
    for (uint32_t i = 0; i < count; i++) {
        held[i].device = device;
        held[i].time_ns = loop->now;
        held[i].flags |= IKV_SYNTHETIC;
    }
    if (IKVI_UNLIKELY(loop->sticky.seats != 0))
        count = ikvi_loop_resync_sticky(loop, device, held, count, room);
    loop->counters.resyncs++;
    loop->counters.made_up += count + 1;
    for (uint32_t i = 0; i < count; i++)
        append(loop, &held[i], &entry);
    ikv_event mark = ikv_event_make(IKV_KIND_DEVICE_RESYNC, loop->now);
    mark.device = device;
    mark.flags = IKV_SYNTHETIC;
    entry.how = IKV_INTAKE_INPUT;
    /* Behind what is held: the mark tells that all is named. */
    append(loop, &mark, &entry);
    return true;
}

static void resync_lost(ikv_loop *loop)
{
    uint16_t device;
    while (ikv_queue_take_lost(loop->queue, &device)) {
        /* The mark came after what its thread had pushed: only if nothing waits
         * now has all of that come in. */
        if (ikv_queue_waiting(loop->queue) > 0 || !resync(loop, device)) {
            ikv_queue_mark_lost(loop->queue, device);
            return;
        }
    }
}

/* In batches, so that the queue's head moves once for many; what does not fit
 * into the ring stays in the queue, in order. Losses are looked at when all
 * that was before them is in: not while it waits behind a slot that another
 * thread has claimed and not yet written. */
IKVI_APART void ikvi_loop_drain(ikv_loop *loop)
{
    ikv_event batch[64];
    /* Once a step has run there is one to miss, unless none is waited for. */
    bool runs = loop->s.next_step > 0 && !loop->s.stopped && !loop->at_frame;
    uint64_t late =
        runs ? ikvi_loop_deadline(loop, loop->s.next_begin).clock : 0;
    while (ikv_queue_waiting(loop->queue) > 0) {
        uint32_t room = loop_room(loop);
        /* One may bring modifiers' ends along. */
        if (IKVI_UNLIKELY(loop->sticky.seats != 0))
            room /= 1 + STICKY_LIMIT;
        room = room < 64 ? room : 64;
        if (room == 0) {
            loop->counters.held_back++;
            loop_report_once(loop, SAID_FULL_PENDING, IKV_REPORT_WARNING,
                             IKV_FULL_PENDING,
                             ikv_status_text(IKV_FULL_PENDING));
            return;
        }
        uint32_t count = ikvi_queue_drain_tagged(loop->queue, batch, room,
                                                 loop_free_blocks(loop));
        for (uint32_t i = 0; i < count; i++)
            take_pushed(loop, &batch[i], late);
        if (count == 0)
            return;
    }
    if (!loop->said[SAID_REFUSED] && ikvi_queue_refused(loop->queue))
        loop_report_once(loop, SAID_REFUSED, IKV_REPORT_WARNING, IKV_FULL_QUEUE,
                         "the queue was full and refused events: raise "
                         "queue.capacity, or own_capacity for polled ports");
    resync_lost(loop);
}

/* ---------------------------------------------- ports that are no more -- */

static bool append_removal(ikv_loop *loop, uint16_t device)
{
    ikv_event event = ikv_event_make(IKV_KIND_DEVICE_REMOVE, loop->now);
    event.device = device;
    event.flags = IKV_SYNTHETIC;
    if (!ikvi_loop_append(loop, &event))
        return false;
    ikvi_loop_forget_sticky(loop, &event);
    loop->counters.made_up++;
    set_present(loop, device, false);
    return true;
}

/* What has no device is of all ports that have named none. */
static bool release_unnamed(ikv_loop *loop, uint32_t port)
{
    bool shared = false;
    for (uint32_t i = 0; i < loop->port_count; i++)
        shared = shared || (i != port && loop_port_at(loop, i)->unnamed &&
                            !loop_port_at(loop, i)->ended);
    if (loop_port_at(loop, port)->unnamed &&
        !(shared ? resync(loop, 0) : append_removal(loop, 0)))
        return false;
    loop_port_at(loop, port)->unnamed = false;
    return true;
}

/* L8: as by a removed device. False while there is no room. */
static bool remove_devices(ikv_loop *loop, uint32_t port)
{
    for (uint16_t device = 1; device <= loop->devices; device++)
        if (*loop_device_port(loop, device) == port &&
            (*loop_present(loop, device) >> device % 32 & 1) != 0 &&
            !append_removal(loop, device))
            return false;
    return release_unnamed(loop, port);
}

static void report_refused(ikv_loop *loop)
{
    ikvi_clear_bits(&loop->bad_values, 1);
    for (uint32_t i = 0; i < loop->port_count; i++) {
        uint32_t bad = ikvi_load(&loop_port_at(loop, i)->sink.bad);
        if (bad != 0)
            say_bad_value(loop, (ikv_kind)(bad >> 16), bad & UINT16_MAX);
    }
}

void ikvi_loop_look_after(ikv_loop *loop)
{
    if (ikvi_load(&loop->bad_values) != 0)
        report_refused(loop);
    if (loop->leaving_count == 0 || ikv_queue_waiting(loop->queue) > 0)
        return; /* what they pushed comes first */
    for (uint32_t i = 0; i < loop->port_count; i++)
        if (loop_port_at(loop, i)->leaving && remove_devices(loop, i)) {
            loop_port_at(loop, i)->leaving = false;
            loop->leaving_count--;
        }
}
