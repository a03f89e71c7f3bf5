/* loop_input.c - takes events in from ports, queue and tapes into the ring of
 * what is pending, and tells a recorder.
 */
#include "loop_internal.h"

/* ---------------------------------------------------------------- sinks -- */

uint16_t ikv_sink_device(ikv_sink *sink)
{
    if (sink == NULL || sink->loop->devices + 1 >= IKV_DEVICE_LIMIT)
        return 0;
    uint16_t device = ++sink->loop->devices;
    sink->loop->device_port[device] = (uint8_t)sink->port;
    return device;
}

ikv_status ikv_sink_push(ikv_sink *sink, const ikv_event *event)
{
    return sink != NULL ? ikv_queue_push_own(sink->loop->queue, event)
                        : IKV_BAD_ARGUMENT;
}

bool ikv_sink_has_room(const ikv_sink *sink, ikv_kind kind)
{
    return sink != NULL && ikv_queue_room_own(sink->loop->queue, kind) > 0;
}

void ikv_sink_lost(ikv_sink *sink, uint16_t device)
{
    if (sink != NULL)
        ikv_queue_mark_lost(sink->loop->queue, device);
}

/* How many bytes the code point at `text` has; 0 if it is none. */
static size_t point_length(const char *text, size_t left)
{
    uint8_t lead = (uint8_t)text[0];
    size_t length = lead < 0x80                    ? 1
                    : lead >= 0xc2 && lead < 0xe0  ? 2
                    : lead >= 0xe0 && lead < 0xf0  ? 3
                    : lead >= 0xf0 && lead <= 0xf4 ? 4
                                                   : 0;
    if (length > left)
        return 0;
    for (size_t i = 1; i < length; i++)
        if (((uint8_t)text[i] & 0xc0) != 0x80)
            return 0;
    return length;
}

/* Fills a piece with as many whole code points as it holds; how many bytes,
 * 0 for what is not UTF-8. */
static size_t fill_piece(ikv_event *piece, const char *text, size_t left)
{
    size_t used = 0;
    while (used < left) {
        size_t length = point_length(text + used, left - used);
        if (length == 0)
            return 0;
        if (used + length > IKV_TEXT_BYTES)
            break;
        used += length;
    }
    piece->text.length = (uint8_t)used;
    memcpy(piece->text.bytes, text, used);
    return used;
}

ikv_status ikv_sink_push_text(ikv_sink *sink, const ikv_event *event,
                              const char *text, size_t length)
{
    ikv_event pieces[IKV_TEXT_LIMIT / (IKV_TEXT_BYTES - 3) + 1];
    uint32_t count = 0;
    if (sink == NULL || event == NULL || (text == NULL && length > 0))
        return IKV_BAD_ARGUMENT;
    if (length == 0)
        return IKV_ABSENT;
    if (length > IKV_TEXT_LIMIT)
        return IKV_BAD_VALUE;
    for (size_t at = 0; at < length; count++) {
        ikv_event *piece = &pieces[count];
        *piece = *event;
        piece->kind = IKV_KIND_TEXT_INPUT;
        memset(&piece->text, 0, sizeof piece->text);
        size_t used = fill_piece(piece, text + at, length - at);
        if (used == 0)
            return IKV_BAD_VALUE;
        at += used;
        piece->flags &= (uint16_t) ~(IKV_FIRST | IKV_MORE);
        piece->flags |= (uint16_t)((count == 0 ? IKV_FIRST : 0) |
                                   (at < length ? IKV_MORE : 0));
    }
    return ikv_queue_push_own_all(sink->loop->queue, pieces, count);
}

ikv_status ikv_sink_push_any(ikv_sink *sink, const ikv_event *event)
{
    return sink != NULL ? ikv_queue_push(sink->loop->queue, event)
                        : IKV_BAD_ARGUMENT;
}

/* -------------------------------------------------------------- pending -- */

/* There is room. */
static uint32_t append(ikv_loop *loop, const ikv_event *event,
                       const loop_entry *entry)
{
    uint32_t at = loop_ring_index(loop, loop->s.count++);
    *loop_event(loop, at) = *event;
    *loop_entry_at(loop, at) = *entry;
    loop->counters.waiting = loop->s.count;
    if (loop->s.count > loop->counters.waiting_high)
        loop->counters.waiting_high = loop->s.count;
    return at;
}

static ikv_status check_played(const ikv_loop *loop, const ikv_event *event,
                               const ikv_intake *intake)
{
    const ikv_kind_info *info = loop_kind_info(loop, event->kind);
    if (info == NULL)
        return IKV_UNKNOWN_KIND;
    if (intake->size != sizeof *intake)
        return IKV_BAD_SIZE;
    if (intake->how > IKV_INTAKE_HELD)
        return IKV_BAD_ARGUMENT;
    if (intake->how == IKV_INTAKE_INBOX)
        return ikv_bus_lane_name(loop->bus, (ikv_lane)intake->lane) != NULL &&
                       intake->lane <= UINT16_MAX
                   ? IKV_OK
                   : IKV_UNKNOWN_NAME;
    return info->from & (IKV_FROM_P | IKV_FROM_U | IKV_FROM_T)
               ? IKV_OK
               : IKV_NOT_PUSHABLE;
}

loop_entry ikvi_loop_played_entry(const ikv_intake *intake)
{
    return (loop_entry){.due = intake->has_due ? intake->due_ns : NO_DUE,
                        .lost = intake->lost_ns,
                        .group = intake->group,
                        .lane = (uint16_t)intake->lane,
                        .how = intake->how,
                        .within = intake->within,
                        .played = true};
}

ikv_status ikv_sink_play(ikv_sink *sink, const ikv_event *event,
                         const ikv_intake *intake)
{
    static const ikv_intake plain = IKV_INTAKE_INIT;
    if (sink == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_loop *loop = sink->loop;
    intake = intake != NULL ? intake : &plain;
    ikv_status status = check_played(loop, event, intake);
    if (status < 0)
        return status;
    if (loop->s.count == loop->capacity) {
        loop->behind = true;
        return IKV_FULL_PENDING;
    }
    loop_entry entry = ikvi_loop_played_entry(intake);
    append(loop, event, &entry);
    return IKV_OK;
}

/* ------------------------------------------------------------- draining -- */

static uint8_t port_of(const ikv_loop *loop, uint16_t device)
{
    return device < IKV_DEVICE_LIMIT ? loop->device_port[device] : 0;
}

/* A port's time as ns since loop.start; times before that are 0. */
static uint64_t own_time(const ikv_loop *loop, const ikv_event *event)
{
    uint64_t offset = loop->offsets[port_of(loop, event->device)];
    return event->time_ns > offset ? event->time_ns - offset : 0;
}

static bool may_be_pushed(ikv_loop *loop, const ikv_event *event)
{
    const ikv_kind_info *info = loop_kind_info(loop, event->kind);
    if (info != NULL && (info->from & IKV_FROM_P))
        return true;
    loop->counters.rejected++;
    ikvi_say(&loop->reporter, IKV_REPORT_ERROR,
             info != NULL ? IKV_NOT_PUSHABLE : IKV_UNKNOWN_KIND, "loop",
             info != NULL ? info->name : "an event of an unknown kind");
    return false;
}

/* Warns at most once a second that the backlog ages. */
static void note_age(ikv_loop *loop, uint64_t age)
{
    if (IKVI_LIKELY(age <= loop->age_limit))
        return;
    loop->counters.aged++;
    if (age > loop->counters.max_age_ns)
        loop->counters.max_age_ns = age;
    if (loop->counters.aged == 1 || loop->now - loop->last_warning > SECOND) {
        loop->last_warning = loop->now;
        ikvi_say(&loop->reporter, IKV_REPORT_WARNING, IKV_OK, "loop",
                 "events waited longer than a frame before they were drained: "
                 "is the frame slow, or ikv_loop_begin() called too rarely?");
    }
}

static void take_pushed(ikv_loop *loop, const ikv_event *event)
{
    static const loop_entry pushed = {.due = NO_DUE};
    if (!may_be_pushed(loop, event))
        return;
    uint32_t at = append(loop, event, &pushed);
    ikv_event *taken = loop_event(loop, at);
    uint64_t time = own_time(loop, event);
    taken->time_ns = time;
    note_age(loop, loop->now > time ? loop->now - time : 0);
    if (loop->s.next_step > 0 && !loop->s.stopped && !loop->at_frame &&
        ikvi_loop_to_steps(loop, time) < loop->s.next_begin) {
        loop->counters.late++;
        taken->flags |= IKV_LATE;
    }
}

/* Q3: asks the device's port what is down, or takes it that nothing is. False
 * if there is no room: the device stays marked. */
static bool resync(ikv_loop *loop, uint16_t device)
{
    const ikv_port *port = &loop->ports[port_of(loop, device)];
    ikv_event held[HELD_LIMIT];
    uint32_t count = 0;
    loop_entry entry = {.due = NO_DUE, .how = IKV_INTAKE_HELD};
    if (port->held == NULL ||
        port->held(port->state, device, held, HELD_LIMIT, &count) != IKV_OK)
        count = 0;
    count = count < HELD_LIMIT ? count : HELD_LIMIT;
    if (loop->capacity - loop->s.count < count + 1)
        return false;
    loop->counters.resyncs++;
    loop->counters.made_up += count + 1;
    for (uint32_t i = 0; i < count; i++) {
        held[i].device = device;
        held[i].time_ns = loop->now;
        held[i].flags |= IKV_SYNTHETIC;
        append(loop, &held[i], &entry);
    }
    ikv_event mark = ikv_event_make(IKV_KIND_DEVICE_RESYNC, loop->now);
    mark.device = device;
    mark.flags = IKV_SYNTHETIC;
    entry.how = IKV_INTAKE_INPUT;
    append(loop, &mark, &entry);
    return true;
}

static void resync_lost(ikv_loop *loop)
{
    uint16_t device;
    while (ikv_queue_take_lost(loop->queue, &device))
        if (!resync(loop, device)) {
            ikv_queue_mark_lost(loop->queue, device);
            return;
        }
}

IKVI_APART void ikvi_loop_drain(ikv_loop *loop)
{
    ikv_event batch[64];
    while (ikv_queue_waiting(loop->queue) > 0) {
        uint32_t room = loop->capacity - loop->s.count;
        room = room < 64 ? room : 64;
        if (room == 0) {
            loop->counters.held_back++;
            ikvi_say(&loop->reporter, IKV_REPORT_WARNING, IKV_FULL_PENDING,
                     "loop", ikv_status_text(IKV_FULL_PENDING));
            return;
        }
        uint32_t count = ikv_queue_drain(loop->queue, batch, room);
        for (uint32_t i = 0; i < count; i++)
            take_pushed(loop, &batch[i]);
        if (count < room)
            break;
    }
    resync_lost(loop);
}

/* ------------------------------------------------------------ recording -- */

void ikvi_loop_record(ikv_loop *loop, const ikv_event *event,
                      const ikv_intake *intake)
{
    if (loop->recorder != NULL)
        loop->recorder(event, intake, loop->recorder_user);
}

uint32_t ikvi_loop_next_group(ikv_loop *loop)
{
    loop->groups += loop->groups < UINT32_MAX;
    return loop->groups;
}

static void inbox_taken(const ikv_event *event, ikv_lane lane, void *user)
{
    ikv_loop *loop = user;
    ikv_intake intake = IKV_INTAKE_INIT;
    bool in_step = loop->in_scope && loop->where == IN_STEP;
    intake.how = IKV_INTAKE_INBOX;
    intake.has_due = true;
    intake.lane = lane;
    intake.within = loop->in_event;
    intake.group = in_step ? 0 : ikvi_loop_next_group(loop);
    intake.due_ns =
        in_step && !loop->in_event ? loop->s.next_end - 1 : loop->s.next_begin;
    if (intake.due_ns < loop->s.last_due)
        intake.due_ns = loop->s.last_due;
    ikvi_loop_record(loop, event, &intake);
}

ikv_status ikv_loop_set_recorder(ikv_loop *loop, ikv_recorder recorder,
                                 void *user)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    if (recorder != NULL && loop->recorder != NULL)
        return IKV_BUSY;
    loop->recorder = recorder;
    loop->recorder_user = user;
    ikvi_bus_on_inbox(loop->bus, recorder != NULL ? inbox_taken : NULL, loop);
    return IKV_OK;
}
