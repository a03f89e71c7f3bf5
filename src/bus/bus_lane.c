/* bus_lane.c - what is delivered later: lanes, larger payloads, other threads'
 * inboxes.
 */
#include "bus_internal.h"

void ikvi_bus_lanes_open(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->deferred_capacity; i++)
        ikvi_bus_extra(b, i)->next =
            i + 1 < b->deferred_capacity ? i + 1 : IKVI_NONE;
    for (uint32_t i = 0; i < b->payload_capacity; i++)
        ikvi_bus_words(b, b->payload_next)[i] =
            i + 1 < b->payload_capacity ? i + 1 : IKVI_NONE;
    ikv_lane lane;
    /* The first two are IKV_STEP_LANE and IKV_FRAME_LANE. */
    ikv_bus_add_lane(b, "step", &lane);
    ikv_bus_add_lane(b, "frame", &lane);
}

/* ---------------------------------------------------------------- lanes -- */

/* A lane's inbox is a queue in its part of the bus's block. */
ikv_queue_config ikvi_bus_inbox(uint32_t capacity)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.capacity = capacity;
    /* The owner defers straight, and nobody asks whose were lost. */
    config.own_capacity = config.devices = 1;
    config.reserve = IKV_NO_RESERVE;
    config.blocks = IKV_NO_BLOCKS;
    return config;
}

ikv_status ikv_bus_add_lane(ikv_bus *bus, const char *name, ikv_lane *lane)
{
    if (bus == NULL || lane == NULL || name == NULL || name[0] == '\0')
        return IKV_BAD_ARGUMENT;
    if (bus->s.lane_count == bus->lane_capacity)
        return IKV_FULL_LANES;
    uint32_t kept = ikvi_names_keep(&bus->s.names, bus, name);
    if (kept == 0)
        return IKV_FULL_NAMES;
    size_t place = bus->inboxes + bus->s.lane_count * bus->inbox_size;
    ikv_queue *inbox;
    ikv_queue_config config = ikvi_bus_inbox(bus->inbox_capacity);
    config.memory.block = ikvi_at(bus, place);
    config.memory.block_size = bus->inbox_size;
    ikv_status status = ikv_queue_open(&config, &inbox);
    if (status < 0)
        return status;
    *lane = (ikv_lane)bus->s.lane_count;
    *ikvi_bus_lane(bus, bus->s.lane_count++) = (bus_lane){
        .head = IKVI_NONE, .tail = IKVI_NONE, .name = kept, .inbox = place};
    return IKV_OK;
}

static ikv_queue *inbox_of(const ikv_bus *b, const bus_lane *lane)
{
    return ikvi_at(b, lane->inbox);
}

const char *ikv_bus_lane_name(const ikv_bus *bus, ikv_lane lane)
{
    return bus != NULL && lane < bus->s.lane_count
               ? ikvi_names_text(&bus->s.names, bus,
                                 ikvi_bus_lane(bus, lane)->name)
               : NULL;
}

uint32_t ikv_bus_lane_waiting(const ikv_bus *bus, ikv_lane lane)
{
    return bus != NULL && lane < bus->s.lane_count
               ? ikvi_bus_lane(bus, lane)->count
               : 0;
}

ikv_status ikv_bus_lane_counters(const ikv_bus *bus, ikv_lane lane,
                                 ikv_lane_counts *counts)
{
    ikv_queue_counts inbox = IKV_QUEUE_COUNTS_INIT;
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (lane >= bus->s.lane_count)
        return IKV_UNKNOWN_NAME;
    const bus_lane *l = ikvi_bus_lane(bus, lane);
    ikv_queue_counters(inbox_of(bus, l), &inbox);
    ikv_lane_counts found = {.deferred = l->deferred,
                             .delivered = l->delivered,
                             .dropped = l->dropped,
                             .inbox_refused = inbox.refused,
                             .waiting = l->count,
                             .high_water = l->high};
    return ikvi_give_sized(counts, &found, sizeof found);
}

/* ------------------------------------------------------------ deferring -- */

char *ikvi_bus_payload_at(const ikv_bus *b, uint32_t at)
{
    size_t size = ikvi_round_up(b->payload_bytes, 16);
    return (char *)ikvi_at(b, b->payloads) + at * size;
}

uint32_t ikvi_bus_keep_payload(ikv_bus *b, const void *data, uint32_t size)
{
    if (size == 0 || data == NULL)
        return IKVI_NONE;
    uint32_t at = b->s.free_payload;
    IKVI_CHECK(size <= b->payload_bytes && at < b->payload_capacity);
    b->s.free_payload = ikvi_bus_words(b, b->payload_next)[at];
    if (++b->s.payloads_used > b->s.payloads_high)
        b->s.payloads_high = b->s.payloads_used;
    /* A copy: the caller's bytes are his again at once. */
    memcpy(ikvi_bus_payload_at(b, at), data, size);
    return at;
}

void ikvi_bus_free_payload(ikv_bus *b, uint32_t at)
{
    if (at == IKVI_NONE)
        return;
    IKVI_CHECK(at < b->payload_capacity && b->s.payloads_used > 0);
    ikvi_poison(ikvi_bus_payload_at(b, at), b->payload_bytes);
    ikvi_bus_words(b, b->payload_next)[at] = b->s.free_payload;
    b->s.free_payload = at;
    b->s.payloads_used--;
}

ikv_status ikvi_bus_check_deferral(ikv_bus *b, ikv_lane lane,
                                   const ikv_event *event, uint32_t size)
{
    if (lane >= b->s.lane_count)
        return IKV_UNKNOWN_NAME;
    if (ikv_catalogue_info(b->catalogue, event->kind) == NULL)
        return IKV_UNKNOWN_KIND;
    /* Whoever is gone now will not come back. */
    if (event->target.bits != 0 &&
        ikvi_bus_place(b, event->target) == IKVI_NONE) {
        b->s.stale++;
        return IKV_STALE;
    }
    return size > b->payload_bytes ? IKV_BAD_SIZE : IKV_OK;
}

/* Puts a checked event onto a lane. */
ikv_status ikvi_bus_put(ikv_bus *b, ikv_lane lane, const ikv_event *event,
                        const void *data, uint32_t size)
{
    /* Both are asked for before either is taken. */
    bool no_payload = size > 0 && b->s.free_payload == IKVI_NONE;
    if (b->s.free_deferred == IKVI_NONE || no_payload) {
        b->s.defer_refused++;
        return no_payload ? IKV_FULL_PAYLOADS : IKV_FULL_DEFERRED;
    }
    bus_lane *l = ikvi_bus_lane(b, lane);
    uint32_t at = b->s.free_deferred;
    bus_extra *extra = ikvi_bus_extra(b, at);
    b->s.free_deferred = extra->next;
    *extra = (bus_extra){IKVI_NONE, ikvi_bus_keep_payload(b, data, size), size};
    *ikvi_bus_deferred(b, at) = *event;
    if (l->tail != IKVI_NONE)
        ikvi_bus_extra(b, l->tail)->next = at;
    else
        l->head = at;
    IKVI_CHECK((l->tail == IKVI_NONE) == (l->count == 0)); /* bus-7 */
    l->tail = at;
    l->deferred++;
    if (++l->count > l->high)
        l->high = l->count;
    b->s.deferred_count++;
    if (++b->s.deferred_used > b->s.deferred_high)
        b->s.deferred_high = b->s.deferred_used;
    if (ikvi_bus_watches(b, IKV_WATCH_DEFER))
        ikvi_bus_tell_deferred(b, IKV_WATCH_DEFER, event, lane);
    return IKV_OK;
}

ikv_status ikv_bus_defer_data(ikv_bus *bus, ikv_lane lane,
                              const ikv_event *event, const void *data,
                              uint32_t data_size)
{
    if (bus == NULL || event == NULL || (data == NULL && data_size > 0))
        return IKV_BAD_ARGUMENT;
    ikv_status status = ikvi_bus_check_deferral(bus, lane, event, data_size);
    return status < 0 ? status
                      : ikvi_bus_put(bus, lane, event, data, data_size);
}

ikv_status ikv_bus_defer(ikv_bus *bus, ikv_lane lane, const ikv_event *event)
{
    return ikv_bus_defer_data(bus, lane, event, NULL, 0);
}

ikv_status ikv_bus_defer_any(ikv_bus *bus, ikv_lane lane,
                             const ikv_event *event)
{
    if (bus == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    if (lane >= bus->s.lane_count)
        return IKV_UNKNOWN_NAME;
    /* Other threads may read the catalogue: kinds are never taken back. */
    if (!ikvi_event_is_good(bus->catalogue, event) ||
        event->time_ns > IKV_TIME_LIMIT)
        return IKV_BAD_VALUE; /* E5: it could not be recorded */
    ikv_status status =
        ikv_queue_push(inbox_of(bus, ikvi_bus_lane(bus, lane)), event);
    return status == IKV_FULL_QUEUE ? IKV_FULL_INBOX : status;
}

/* ------------------------------------------------------------- flushing -- */

static ikv_event *given_at(const ikv_bus *b, ikv_lane lane, uint32_t at)
{
    IKVI_CHECK(lane < b->s.lane_count);
    return (ikv_event *)ikvi_at(b, b->given) +
           (size_t)lane * b->inbox_capacity + (at & (b->inbox_capacity - 1));
}

ikv_status ikvi_bus_give(ikv_bus *b, ikv_lane lane, const ikv_event *event)
{
    if (lane >= b->s.lane_count)
        return IKV_UNKNOWN_NAME;
    bus_lane *l = ikvi_bus_lane(b, lane);
    if (l->given_count == b->inbox_capacity)
        return IKV_FULL_INBOX;
    *given_at(b, lane, l->given + l->given_count++) = *event;
    return IKV_OK;
}

/* Takes in what other threads have sent, as far as there is room, and no more
 * than an inbox holds; the rest stays there. What is given again comes first,
 * and is recorded already. */
static void take_inbox(ikv_bus *b, ikv_lane lane, bus_lane *l)
{
    for (; l->given_count > 0 && b->s.free_deferred != IKVI_NONE;
         l->given_count--)
        ikvi_bus_put(b, lane, given_at(b, lane, l->given++), NULL, 0);
    /* In a past that is run again what came since waits for the present. */
    if (b->inbox_held || l->given_count > 0)
        return;
    ikv_queue *inbox = inbox_of(b, l);
    /* As many as there are now: a thread that never stops must not hold the
     * flush up. */
    for (uint32_t left = ikv_queue_waiting(inbox);
         left > 0 && b->s.free_deferred != IKVI_NONE; left--) {
        ikv_event event;
        if (ikv_queue_drain(inbox, &event, 1) == 0)
            return;
        if (ikv_catalogue_info(b->catalogue, event.kind) == NULL) {
            l->dropped++;
            b->s.dropped++;
            ikvi_report_once(
                &b->said_inbox, &b->reporter, IKV_REPORT_ERROR,
                IKV_UNKNOWN_KIND, "bus",
                "another thread deferred an event of an unknown kind");
            continue;
        }
        if (b->on_inbox != NULL)
            b->on_inbox(&event, lane, b->on_inbox_user);
        ikvi_bus_put(b, lane, &event, NULL, 0);
    }
}

void ikvi_bus_on_inbox(ikv_bus *bus,
                       void (*taken)(const ikv_event *event, ikv_lane lane,
                                     void *user),
                       void *user)
{
    bus->on_inbox = taken;
    bus->on_inbox_user = user;
}

uint64_t ikvi_bus_time(const ikv_bus *bus)
{
    return bus->s.time_ns;
}

bool ikvi_bus_awaits(const ikv_bus *bus)
{
    bool waits = bus->s.timer_slots.used > 0;
    for (uint32_t i = 0; !waits && i < bus->s.lane_count; i++)
        waits = ikvi_bus_lane_waits(bus, (ikv_lane)i);
    return waits;
}

bool ikvi_bus_lane_waits(const ikv_bus *b, ikv_lane lane)
{
    const bus_lane *l = ikvi_bus_lane(b, lane);
    return l->count > 0 || l->given_count > 0 ||
           ikv_queue_waiting(inbox_of(b, l)) > 0;
}

/* Takes the lane's first event off; its payload stays to be freed. */
static ikv_event take_first(ikv_bus *b, bus_lane *l, bus_extra *extra)
{
    uint32_t at = l->head;
    IKVI_CHECK(l->count > 0);
    ikv_event event = *ikvi_bus_deferred(b, at);
    *extra = *ikvi_bus_extra(b, at);
    l->head = extra->next;
    if (l->head == IKVI_NONE)
        l->tail = IKVI_NONE;
    l->count--;
    /* Its place is free before it is delivered: what its handlers defer may
     * take it. */
    ikvi_bus_extra(b, at)->next = b->s.free_deferred;
    b->s.free_deferred = at;
    b->s.deferred_used--;
    return event;
}

/* What could not be delivered at all is the lane's first again. Nothing has
 * happened since it was taken off: its place is the first free one. */
static void put_back(ikv_bus *b, bus_lane *l, const bus_extra *extra)
{
    uint32_t at = b->s.free_deferred;
    b->s.free_deferred = ikvi_bus_extra(b, at)->next;
    b->s.deferred_used++;
    IKVI_CHECK(b->s.deferred_used <= b->deferred_capacity); /* bus-7 */
    *ikvi_bus_extra(b, at) = *extra;
    ikvi_bus_extra(b, at)->next = l->head;
    if (l->head == IKVI_NONE)
        l->tail = at;
    l->head = at;
    l->count++;
}

/* D9: a kind that outlives its target goes to the global subscribers. */
static ikv_outcome deliver_deferred(ikv_bus *b, const ikv_event *event,
                                    const bus_extra *extra)
{
    const void *data = extra->payload != IKVI_NONE
                           ? ikvi_bus_payload_at(b, extra->payload)
                           : NULL;
    ikv_outcome outcome = ikvi_bus_deliver_with(b, event, data, extra->size);
    if (outcome.status != IKV_STALE)
        return outcome;
    const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, event->kind);
    if (!info->outlives_target)
        return outcome;
    ikv_event orphan = *event;
    orphan.target = ikvi_bus_root();
    return ikvi_bus_deliver_with(b, &orphan, data, extra->size);
}

/* D2: first in, first out; what is deferred meanwhile waits for the next
 * flush. */
ikv_status ikv_bus_flush(ikv_bus *bus, ikv_lane lane, uint32_t *delivered)
{
    if (delivered != NULL)
        *delivered = 0;
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (lane >= bus->s.lane_count)
        return IKV_UNKNOWN_NAME;
    bus_lane *l = ikvi_bus_lane(bus, lane);
    if (l->flushing)
        return IKV_BUSY;
    if (bus->depth >= bus->depth_limit)
        return ikvi_bus_too_deep(bus);
    l->flushing = true;
    ikv_status status = IKV_OK;
    if (bus->on_inbox != NULL)
        bus->on_inbox(NULL, lane, bus->on_inbox_user);
    take_inbox(bus, lane, l);
    ikvi_bus_tell_flush(bus, lane, l->count);
    /* As many as there are now: what is deferred meanwhile comes behind
     * them. */
    for (uint32_t left = l->count; left > 0; left--) {
        bus_extra extra;
        ikv_event event = take_first(bus, l, &extra);
        ikv_outcome outcome = deliver_deferred(bus, &event, &extra);
        /* Nobody has heard it: it is the next flush's first. */
        if (outcome.status == IKV_FULL_DEPTH) {
            put_back(bus, l, &extra);
            status = outcome.status;
            break;
        }
        ikvi_bus_free_payload(bus, extra.payload);
        if (outcome.status < 0) {
            bus->s.dropped++;
            l->dropped++;
            if (ikvi_bus_watches(bus, IKV_WATCH_DROP))
                ikvi_bus_tell_deferred(bus, IKV_WATCH_DROP, &event, lane);
            continue;
        }
        l->delivered++;
        if (delivered != NULL)
            (*delivered)++;
    }
    l->flushing = false;
    return status;
}

/* ------------------------------------------------------------ validator -- */

static const char *validate_lane(const ikv_bus *b, const bus_lane *l)
{
    uint32_t count = 0, last = IKVI_NONE;
    for (uint32_t at = l->head;
         at != IKVI_NONE && count <= b->deferred_capacity;
         at = ikvi_bus_extra(b, at)->next) {
        count++;
        last = at;
    }
    return count == l->count && last == l->tail ? NULL : "bus-7";
}

const char *ikvi_bus_lanes_validate(const ikv_bus *b)
{
    uint32_t free_count = 0, on_lanes = 0;
    for (uint32_t at = b->s.free_deferred;
         at != IKVI_NONE && free_count <= b->deferred_capacity;
         at = ikvi_bus_extra(b, at)->next)
        free_count++;
    for (uint32_t i = 0; i < b->s.lane_count; i++) {
        const bus_lane *l = ikvi_bus_lane(b, i);
        if (validate_lane(b, l) != NULL)
            return "bus-7";
        on_lanes += l->count;
    }
    if (on_lanes != b->s.deferred_used ||
        free_count + on_lanes != b->deferred_capacity)
        return "bus-7";
    return NULL;
}
