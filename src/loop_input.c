/* loop_input.c - takes events in from ports, queue and tapes, merges moves, and
 * routes each in the step that its time belongs to.
 *
 * What is taken in waits in a ring of events, `entries` beside them. An event's
 * place in the steps' time is settled when its turn comes, for by then all that
 * turns the clock before it has taken effect.
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

static uint32_t ring_index(const ikv_loop *loop, uint32_t nth)
{
    return (loop->s.head + nth) & (loop->capacity - 1);
}

static const ikv_kind_info *info_of(const ikv_loop *loop, ikv_kind kind)
{
    return ikv_catalogue_info(ikv_bus_catalogue(loop->bus), kind);
}

/* There is room. */
static uint32_t append(ikv_loop *loop, const ikv_event *event,
                       const loop_entry *entry)
{
    uint32_t at = ring_index(loop, loop->s.count++);
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
    const ikv_kind_info *info = info_of(loop, event->kind);
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
    loop_entry entry = {.due = intake->has_due ? intake->due_ns : NO_DUE,
                        .lost = intake->lost_ns,
                        .group = intake->group,
                        .lane = (uint16_t)intake->lane,
                        .how = intake->how,
                        .within = intake->within,
                        .played = true};
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
    const ikv_kind_info *info = info_of(loop, event->kind);
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

/* A number for what is routed together between two steps. */
static uint32_t next_group(ikv_loop *loop)
{
    loop->groups += loop->groups < UINT32_MAX;
    return loop->groups;
}

void ikvi_loop_inbox_taken(const ikv_event *event, ikv_lane lane, void *user)
{
    ikv_loop *loop = user;
    ikv_intake intake = IKV_INTAKE_INIT;
    bool in_step = loop->in_scope && loop->where == IN_STEP;
    intake.how = IKV_INTAKE_INBOX;
    intake.has_due = true;
    intake.lane = lane;
    intake.within = loop->in_event;
    intake.group = in_step ? 0 : next_group(loop);
    intake.due_ns =
        in_step && !loop->in_event ? loop->s.next_end - 1 : loop->s.next_begin;
    if (intake.due_ns < loop->s.last_due)
        intake.due_ns = loop->s.last_due;
    ikvi_loop_record(loop, event, &intake);
}

static void record_entry(ikv_loop *loop, const ikv_event *event,
                         const loop_entry *entry, uint64_t due, uint32_t group)
{
    ikv_intake intake = IKV_INTAKE_INIT;
    if (IKVI_LIKELY(loop->recorder == NULL))
        return;
    intake.how = entry->how;
    intake.has_due = true;
    intake.within = entry->within;
    intake.lane = entry->lane;
    intake.group = group;
    intake.due_ns = due;
    intake.lost_ns = entry->lost;
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
    ikvi_bus_on_inbox(loop->bus,
                      recorder != NULL ? ikvi_loop_inbox_taken : NULL, loop);
    return IKV_OK;
}

/* -------------------------------------------------------------- merging -- */

static bool turns_clock(const ikv_event *event)
{
    return event->kind >= IKV_KIND_LOOP_DROPPED &&
           event->kind <= IKV_KIND_LOOP_IDLE;
}

/* When the head's or a later entry's turn is, in steps' time, given that of the
 * one before it. */
static uint64_t due_of(const ikv_loop *loop, const ikv_event *event,
                       const loop_entry *entry, uint64_t before)
{
    uint64_t due = entry->due != NO_DUE
                       ? entry->due
                       : ikvi_loop_to_steps(loop, event->time_ns);
    return due < before ? before : due;
}

static uint64_t earliest_due(const ikv_loop *loop)
{
    return loop->s.last_due > loop->s.next_begin ? loop->s.last_due
                                                 : loop->s.next_begin;
}

/* Whose moves are merged: as far as a number tells. */
static uint64_t merge_key(const ikv_event *event, uint8_t family)
{
    uint32_t who = family == IKV_FAMILY_POINTER ? event->pointer.pointer
                   : family == IKV_FAMILY_WHEEL ? event->wheel.pointer
                   : family == IKV_FAMILY_PAD
                       ? event->pad.pad * 256u + event->pad.index
                       : event->target.bits;
    return (uint64_t)who << 32 | (uint64_t)event->kind << 16 | event->device;
}

static bool mergeable(const ikv_event *a, const ikv_event *b, uint8_t family)
{
    if (a->view != b->view || a->seat != b->seat ||
        a->modifiers != b->modifiers || a->flags != b->flags ||
        a->target.bits != b->target.bits || a->source.bits != b->source.bits)
        return false;
    if (family == IKV_FAMILY_POINTER)
        return a->pointer.type == b->pointer.type &&
               a->pointer.button == b->pointer.button &&
               a->pointer.buttons == b->pointer.buttons;
    if (family == IKV_FAMILY_WHEEL)
        return a->wheel.mode == b->wheel.mode &&
               a->wheel.type == b->wheel.type &&
               a->wheel.buttons == b->wheel.buttons;
    return true;
}

/* The known of a key in this run; NULL if all are taken. */
static merge_slot *find_slot(ikv_loop *loop, uint64_t key)
{
    uint32_t at = (uint32_t)((key * UINT64_C(0x9e3779b97f4a7c15)) >> 58);
    for (uint32_t i = 0; i < MERGE_SLOTS; i++) {
        merge_slot *known = &loop->s.slots[(at + i) % MERGE_SLOTS];
        if (known->run != loop->s.run) {
            *known = (merge_slot){key, loop->s.run, UINT32_MAX};
            return known;
        }
        if (known->key == key)
            return known;
    }
    return NULL;
}

/* Ties a move to the one before it of the same pointer. */
static void chain_move(ikv_loop *loop, uint32_t index, uint8_t family)
{
    const ikv_event *event = loop_event(loop, index);
    loop_entry *entry = loop_entry_at(loop, index);
    merge_slot *known = find_slot(loop, merge_key(event, family));
    entry->length = 1;
    entry->merged = false;
    if (known == NULL)
        return;
    if (known->last != UINT32_MAX) {
        loop_entry *before = loop_entry_at(loop, known->last);
        if (before->length < loop->sample_limit &&
            mergeable(loop_event(loop, known->last), event, family)) {
            before->merged = true;
            entry->length = (uint16_t)(before->length + 1);
            entry->before = (index - known->last) & (loop->capacity - 1);
        }
    }
    known->last = index;
}

/* Q2: from the head on, moves until something else comes, or another group's or
 * step's event. `end` is in steps' time. */
static void mark_run(ikv_loop *loop, uint64_t end)
{
    uint64_t due = earliest_due(loop);
    uint32_t group = loop_entry_at(loop, loop->s.head)->group, nth = 0;
    loop->s.run++;
    for (; nth < loop->s.count; nth++) {
        uint32_t at = ring_index(loop, nth);
        const ikv_event *event = loop_event(loop, at);
        const loop_entry *entry = loop_entry_at(loop, at);
        const ikv_kind_info *info = info_of(loop, event->kind);
        if (entry->how == IKV_INTAKE_INBOX && entry->within) {
            loop_entry_at(loop, at)->length = 1;
            loop_entry_at(loop, at)->merged = false;
            continue;
        }
        due = due_of(loop, event, entry, due);
        if (info->queue_class != IKV_QUEUE_MERGEABLE ||
            entry->how != IKV_INTAKE_INPUT || entry->group != group ||
            due >= end)
            break;
        chain_move(loop, at, info->family);
    }
    loop->s.marked = nth;
}

static void add_motion(ikv_event *to, const ikv_event *from, uint8_t family)
{
    if (family == IKV_FAMILY_POINTER) {
        to->pointer.dx += from->pointer.dx;
        to->pointer.dy += from->pointer.dy;
    } else if (family == IKV_FAMILY_WHEEL) {
        to->wheel.dx += from->wheel.dx;
        to->wheel.dy += from->wheel.dy;
        to->wheel.dz += from->wheel.dz;
    }
}

/* The moves that the entry at `index` carries, oldest first; it becomes their
 * sum. Returns how many. */
static uint32_t gather(ikv_loop *loop, uint32_t index, ikv_event *event)
{
    const loop_entry *entry = loop_entry_at(loop, index);
    uint32_t count = entry->length;
    uint8_t family = info_of(loop, event->kind)->family;
    ikv_event *samples = ikvi_at(loop, loop->samples);
    for (uint32_t i = count; i-- > 0;) {
        samples[i] = *loop_event(loop, index);
        index = (index - entry->before) & (loop->capacity - 1);
        entry = loop_entry_at(loop, index);
    }
    for (uint32_t i = 0; i + 1 < count; i++)
        add_motion(event, &samples[i], family);
    event->samples = (uint16_t)count;
    return count;
}

/* -------------------------------------------------------------- routing -- */

static ikv_router *router_of(const ikv_loop *loop, const ikv_event *event)
{
    for (uint32_t i = 0; loop->router_count > 1 && i < loop->router_count; i++)
        if (ikv_router_holds(loop->routers[i], event))
            return loop->routers[i];
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (ikv_router_serves(loop->routers[i], event->view))
            return loop->routers[i];
    return loop->routers[0];
}

/* One router delivers it; the others let go of what goes with it. */
static ikv_outcome route_event(ikv_loop *loop, const ikv_event *event,
                               uint32_t samples)
{
    if (loop->router_count == 0) {
        ikv_route route = IKV_ROUTE_INIT;
        ikv_target root = ikv_bus_root(loop->bus);
        if (samples <= 1)
            return ikv_bus_deliver(loop->bus, event);
        route.samples = ikvi_at(loop, loop->samples);
        route.sample_count = samples;
        route.path = &root;
        route.path_length = 1;
        ikv_event at_root = *event;
        at_root.target = root;
        return ikv_bus_deliver_along(loop->bus, &at_root, &route);
    }
    ikv_router *router = router_of(loop, event);
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (loop->routers[i] != router)
            ikv_router_let_go(loop->routers[i], event);
    if (samples > 1)
        return ikv_router_route_merged(router, event,
                                       ikvi_at(loop, loop->samples), samples);
    return ikv_router_route(router, event);
}

/* After a loss: what is not held is ended, then handlers are told, then what is
 * held and not down is made up. */
static void route_resync(ikv_loop *loop, const ikv_event *event)
{
    uint32_t count = loop->s.held_count;
    loop->s.held_count = 0;
    ikv_state_resync(loop->state, IKV_RAW, event, loop->s.held, count);
    ikv_state_resync(loop->state, IKV_UNCLAIMED, event, loop->s.held, count);
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_resync(loop->routers[i], event, loop->s.held, count);
    route_event(loop, event, 1);
    for (uint32_t k = 0; k < count; k++) {
        bool down = false;
        for (uint32_t i = 0; i < loop->router_count; i++)
            down =
                down || ikv_router_is_down(loop->routers[i], &loop->s.held[k]);
        if (!down)
            route_event(loop, &loop->s.held[k], 1);
    }
}

/* What another thread had deferred while this run was recorded. */
static void give_to_inbox(ikv_loop *loop, const ikv_event *event, ikv_lane lane)
{
    ikv_status status = ikv_bus_defer_any(loop->bus, lane, event);
    if (status < 0)
        ikvi_say(&loop->reporter, IKV_REPORT_ERROR, status, "loop",
                 "a played event found no room in its lane's inbox");
}

static void pop(ikv_loop *loop)
{
    loop->s.head = (loop->s.head + 1) & (loop->capacity - 1);
    loop->counters.waiting = --loop->s.count;
    loop->s.marked -= loop->s.marked > 0;
}

/* Inbox events that were taken in while the event before them was handled. */
static void give_what_is_within(ikv_loop *loop, uint32_t group)
{
    while (loop->s.count > 0) {
        ikv_event event = *loop_event(loop, loop->s.head);
        loop_entry entry = *loop_entry_at(loop, loop->s.head);
        if (entry.how != IKV_INTAKE_INBOX || !entry.within)
            return;
        record_entry(loop, &event, &entry, loop->s.last_due, group);
        pop(loop);
        give_to_inbox(loop, &event, entry.lane);
    }
}

static void turn_clock(ikv_loop *loop, const ikv_event *event, uint64_t due,
                       uint64_t lost)
{
    switch (event->kind) {
    case IKV_KIND_LOOP_PAUSE:
        loop->s.paused = true;
        break;
    case IKV_KIND_LOOP_RESUME:
        loop->s.paused = false;
        break;
    case IKV_KIND_LOOP_SCALE:
        loop->s.new_scale = event->loop.count;
        break;
    case IKV_KIND_LOOP_SINGLE:
        loop->s.single = loop->where == IN_STEP;
        break;
    default:
        loop->s.losing += loop->where == IN_STEP ? lost : 0;
        break;
    }
    if (loop->where != IN_STEP)
        ikvi_loop_turn(loop, event, due, lost);
    ikvi_loop_tell(loop, event->kind, event->time_ns, loop->s.next_step,
                   event->loop.seconds, event->loop.count);
}

/* A handler may have done already what the tape says next. */
static bool already_so(const ikv_loop *loop, const ikv_event *event)
{
    switch (event->kind) {
    case IKV_KIND_LOOP_PAUSE:
        return loop->s.paused;
    case IKV_KIND_LOOP_RESUME:
        return !loop->s.paused;
    case IKV_KIND_LOOP_SCALE:
        return loop->s.new_scale == event->loop.count ||
               event->loop.count == 0 || event->loop.count > IKV_SCALE_LIMIT;
    default:
        return false;
    }
}

static bool takes_text(const ikv_loop *loop, const ikv_event *event)
{
    const ikv_kind_info *info = info_of(loop, event->kind);
    return loop->router_count > 0 &&
           (info->family == IKV_FAMILY_KEY ||
            info->family == IKV_FAMILY_TEXT) &&
           ikv_router_takes_text(router_of(loop, event), event->seat);
}

/* With `close` asking for the end, unless that is refused. S2: what a handler
 * stopped, or was typed into a text, is claimed. */
static void route_input(ikv_loop *loop, const ikv_event *event,
                        uint32_t samples)
{
    loop->counters.routed++;
    loop->in_event = true;
    if (event->kind == IKV_KIND_DEVICE_RESYNC) {
        route_resync(loop, event);
    } else {
        bool claimed = loop->state != NULL && takes_text(loop, event);
        ikv_outcome outcome = route_event(loop, event, samples);
        if (outcome.verdict & (IKV_STOP | IKV_STOP_ALL))
            claimed = true;
        if (claimed)
            ikv_state_take_claimed(loop->state, event);
        else
            ikv_state_take(loop->state, IKV_UNCLAIMED, event);
        if (event->kind == IKV_KIND_WINDOW_CLOSE &&
            (outcome.verdict & IKV_REFUSE) == 0)
            ikv_loop_quit(loop);
    }
    loop->in_event = false;
}

/* Takes off the moves that a later one carries, up to one that is not such. */
static void skip_merged(ikv_loop *loop, uint64_t due, uint32_t group)
{
    while (loop->s.marked > 0) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        if (!entry->merged)
            return;
        const ikv_event *event = loop_event(loop, loop->s.head);
        due = due_of(loop, event, entry, due);
        due = due < loop->s.next_end ? due : loop->s.next_end - 1;
        record_entry(loop, event, entry, due, group);
        loop->s.last_due = due;
        loop->counters.merged++;
        pop(loop);
    }
}

/* Takes the head off and does what it says. */
static void take_head(ikv_loop *loop, uint64_t due, uint32_t group)
{
    if (loop->s.marked > 0 && loop_entry_at(loop, loop->s.head)->merged) {
        skip_merged(loop, due, group);
        return;
    }
    uint32_t at = loop->s.head, samples = 1;
    ikv_event event = *loop_event(loop, at);
    loop_entry entry = *loop_entry_at(loop, at);
    if (loop->s.marked > 0 && entry.length > 1)
        samples = gather(loop, at, &event);
    record_entry(loop, loop_event(loop, at), &entry, due, group);
    loop->s.last_due = due;
    pop(loop);
    if (entry.how == IKV_INTAKE_INBOX) {
        give_to_inbox(loop, &event, entry.lane);
    } else if (entry.how == IKV_INTAKE_HELD) {
        loop->counters.held_named++;
        if (loop->s.held_count < HELD_LIMIT)
            loop->s.held[loop->s.held_count++] = event;
    } else if (turns_clock(&event)) {
        if (!already_so(loop, &event))
            turn_clock(loop, &event, due, entry.lost);
        else if (loop->s.stopped)
            ikvi_loop_advance_holds(loop, event.time_ns);
    } else {
        if (event.time_ns > loop->s.moment)
            loop->s.moment = event.time_ns;
        if (entry.played)
            give_what_is_within(loop, group);
        route_input(loop, &event, samples);
    }
}

/* A port that plays may have more than there was room for. */
static bool has_more(ikv_loop *loop)
{
    if (loop->s.count == 0 && loop->behind) {
        loop->behind = false;
        ikvi_loop_poll(loop);
    }
    return loop->s.count > 0;
}

/* -------------------------------------------------------- between steps -- */

/* The steps stand still but for one that is due: it comes before all else. */
static bool single_step_waits(const ikv_loop *loop)
{
    return loop->s.stopped && loop->s.anchor_steps >= loop->s.next_end;
}

/* Whether the head belongs before the next step, not into it. */
static bool is_between(const ikv_loop *loop, uint64_t due)
{
    const ikv_event *event = loop_event(loop, loop->s.head);
    const loop_entry *entry = loop_entry_at(loop, loop->s.head);
    bool soon = due < loop->s.next_end;
    if (single_step_waits(loop))
        return false;
    if (entry->group != 0 || turns_clock(event))
        return soon;
    if (entry->due != NO_DUE) /* it waits for its step, if one will come */
        return loop->s.stopped && loop->ended_count == loop->port_count;
    return loop->s.stopped ||
           (loop->at_frame && entry->how != IKV_INTAKE_INBOX);
}

void ikvi_loop_retest(ikv_loop *loop)
{
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_retest(loop->routers[i], loop->s.moment);
}

/* Whether a played event says with which others it was routed. */
static bool is_alone(const loop_entry *entry)
{
    return entry->played && entry->group == 0;
}

/* From the head on, what belongs to this step; between steps, to this group. */
static void feed_raw(ikv_loop *loop, uint64_t end, bool between)
{
    uint64_t due = earliest_due(loop);
    for (uint32_t nth = 0; nth < loop->s.count; nth++) {
        const ikv_event *event = loop_event(loop, ring_index(loop, nth));
        const loop_entry *entry = loop_entry_at(loop, ring_index(loop, nth));
        const loop_entry *head = loop_entry_at(loop, loop->s.head);
        due = due_of(loop, event, entry, due);
        if (due >= end ||
            (between &&
             (turns_clock(event) || entry->group != head->group ||
              entry->played != head->played || (nth > 0 && is_alone(entry)))))
            return;
        if (entry->how == IKV_INTAKE_INPUT &&
            event->kind != IKV_KIND_DEVICE_RESYNC)
            ikv_state_take(loop->state, IKV_RAW, event);
    }
}

void ikvi_loop_feed_state(ikv_loop *loop, uint64_t time_ns)
{
    ikv_state_begin_step(loop->state, time_ns);
    feed_raw(loop, loop->s.next_end, false);
}

void ikvi_loop_advance_holds(ikv_loop *loop, uint64_t clock)
{
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_advance(loop->routers[i], clock);
}

/* That a hold has come due is recorded as a further loop.pause: on the tape it
 * stands before what was routed after it. */
void ikvi_loop_stand_still(ikv_loop *loop)
{
    uint64_t next = UINT64_MAX;
    if (single_step_waits(loop))
        return;
    bool scope = ikvi_loop_scope(loop, true);
    for (uint32_t i = 0; i < loop->router_count; i++) {
        uint64_t hold = ikv_router_next_hold(loop->routers[i]);
        next = hold < next ? hold : next;
    }
    if (next <= loop->now) {
        ikv_event mark = ikv_event_make(IKV_KIND_LOOP_PAUSE, loop->now);
        ikv_intake intake = IKV_INTAKE_INIT;
        intake.due_ns = earliest_due(loop);
        ikvi_loop_record(loop, &mark, &intake);
        ikvi_loop_advance_holds(loop, loop->now);
    }
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_retest(loop->routers[i], loop->now);
    ikvi_loop_scope(loop, scope);
}

/* L1: paused, or with timing at_frame, what has been taken in is routed at the
 * frame's begin. The moves of one frame merge; of a tape's those of one group,
 * which is a frame of the recorded run; else each is alone. After each group
 * resting mice are tested again. */
void ikvi_loop_route_between(ikv_loop *loop)
{
    bool scope = ikvi_loop_scope(loop, true), routed = false;
    uint32_t live = 0, last = 0;
    while (has_more(loop)) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        const ikv_event *event = loop_event(loop, loop->s.head);
        uint64_t due = due_of(loop, event, entry, earliest_due(loop));
        if (loop->s.marked == 0 && !is_between(loop, due))
            break;
        if (!entry->played && live == 0)
            live = next_group(loop);
        uint32_t group = is_alone(entry)     ? next_group(loop)
                         : entry->group != 0 ? entry->group
                                             : live;
        if (due >= loop->s.next_end)
            due = loop->s.next_end - 1;
        bool input = entry->how == IKV_INTAKE_INPUT && !turns_clock(event);
        if (routed && group != last)
            ikvi_loop_retest(loop);
        if (loop->state != NULL && (!routed || group != last) && input) {
            ikv_state_begin_step(loop->state, loop->now);
            feed_raw(loop, UINT64_MAX, true);
        }
        if (loop->s.marked == 0 && !is_alone(entry))
            mark_run(loop, UINT64_MAX);
        take_head(loop, due, group);
        routed = input || (routed && group == last);
        last = group;
    }
    loop->s.marked = 0;
    if (routed)
        ikvi_loop_retest(loop);
    ikvi_loop_scope(loop, scope);
}

/* The input of the step that begins; `due` before its end. */
void ikvi_loop_route_step(ikv_loop *loop)
{
    while (has_more(loop)) {
        const loop_entry *entry = loop_entry_at(loop, loop->s.head);
        const ikv_event *event = loop_event(loop, loop->s.head);
        uint64_t due = due_of(loop, event, entry, earliest_due(loop));
        if (due >= loop->s.next_end)
            break;
        if (loop->s.marked == 0)
            mark_run(loop, loop->s.next_end);
        take_head(loop, due, 0);
    }
    loop->s.marked = 0;
}

bool ikv_loop_newest(const ikv_loop *loop, uint16_t device, uint16_t id,
                     float *x, float *y)
{
    for (uint32_t nth = loop != NULL ? loop->s.count : 0; nth-- > 0;) {
        const ikv_event *event = loop_event(loop, ring_index(loop, nth));
        if (event->device == device && event->kind >= IKV_KIND_POINTER_DOWN &&
            event->kind <= IKV_KIND_POINTER_MOVE &&
            event->pointer.pointer == id) {
            *x = event->pointer.x;
            *y = event->pointer.y;
            return true;
        }
    }
    return false;
}
