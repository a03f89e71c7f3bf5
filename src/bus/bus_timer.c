/* bus_timer.c - timers: events that are put on their lane when they are due. */
#include "bus_internal.h"

/* --------------------------------------------------------------- timers -- */

/* All timers that are in use form a heap: the one that is due first is at 0. Of
 * those that are due together the one whose turn was given first. */
static bool comes_first(const bus_timer *a, const bus_timer *b)
{
    return a->due != b->due ? a->due < b->due : a->turn < b->turn;
}

static bus_timer *timer_in_heap(const ikv_bus *b, uint32_t position)
{
    return ikvi_bus_timer(b, ikvi_bus_words(b, b->timer_heap)[position]);
}

static void put_in_heap(ikv_bus *b, uint32_t position, uint32_t at)
{
    ikvi_bus_words(b, b->timer_heap)[position] = at;
    ikvi_bus_timer(b, at)->position = position;
}

/* Moves a timer up or down from a position of the heap, whose own timer is
 * elsewhere, to where it belongs among `count`. */
static void settle_timer(ikv_bus *b, uint32_t position, uint32_t at,
                         uint32_t count)
{
    const uint32_t *heap = ikvi_bus_words(b, b->timer_heap);
    const bus_timer *timer = ikvi_bus_timer(b, at);
    while (position > 0) {
        uint32_t above = (position - 1) / 2;
        if (!comes_first(timer, timer_in_heap(b, above)))
            break;
        put_in_heap(b, position, heap[above]);
        position = above;
    }
    for (uint32_t below; (below = 2 * position + 1) < count;) {
        if (below + 1 < count &&
            comes_first(timer_in_heap(b, below + 1), timer_in_heap(b, below)))
            below++;
        if (comes_first(timer, timer_in_heap(b, below)))
            break;
        put_in_heap(b, position, heap[below]);
        position = below;
    }
    put_in_heap(b, position, at);
}

static ikv_status start_timer(ikv_bus *bus, ikv_lane lane, uint64_t delay_ns,
                              uint64_t period_ns, bool merge,
                              const ikv_event *event, ikv_timer *timer)
{
    if (bus == NULL || event == NULL || delay_ns > UINT64_MAX / 2 ||
        delay_ns > UINT64_MAX - bus->s.time_ns)
        return IKV_BAD_ARGUMENT;
    ikv_status status = ikvi_bus_check_deferral(bus, lane, event, 0);
    if (status < 0)
        return status;
    uint32_t at = ikvi_slots_take(&bus->s.timer_slots, bus);
    if (at == IKVI_NO_SLOT)
        return IKV_FULL_TIMERS;
    *ikvi_bus_timer(bus, at) = (bus_timer){.event = *event,
                                           .due = bus->s.time_ns + delay_ns,
                                           .period = period_ns,
                                           .turn = bus->s.timer_turn++,
                                           .payload = IKVI_NONE,
                                           .lane = lane,
                                           .merge = merge};
    uint32_t count = bus->s.timer_slots.used;
    settle_timer(bus, count - 1, at, count);
    if (timer != NULL)
        timer->bits = ikvi_slots_bits(&bus->s.timer_slots, bus, at);
    return IKV_OK;
}

ikv_status ikv_bus_defer_after(ikv_bus *bus, ikv_lane lane, uint64_t delay_ns,
                               const ikv_event *event, ikv_timer *timer)
{
    return start_timer(bus, lane, delay_ns, 0, false, event, timer);
}

ikv_status ikv_bus_defer_every(ikv_bus *bus, ikv_lane lane, uint64_t period_ns,
                               bool merge, const ikv_event *event,
                               ikv_timer *timer)
{
    if (period_ns == 0)
        return IKV_BAD_ARGUMENT;
    return start_timer(bus, lane, period_ns, period_ns, merge, event, timer);
}

ikv_status ikv_bus_set_timer_data(ikv_bus *bus, ikv_timer timer,
                                  const void *data, uint32_t data_size)
{
    if (bus == NULL || data == NULL || data_size == 0)
        return IKV_BAD_ARGUMENT;
    uint32_t at = ikvi_slots_find(&bus->s.timer_slots, bus, timer.bits);
    if (at == IKVI_NO_SLOT)
        return IKV_ABSENT;
    bus_timer *t = ikvi_bus_timer(bus, at);
    /* It has one; what fires meanwhile may be waiting with it. */
    if (t->payload != IKVI_NONE)
        return IKV_BAD_ARGUMENT;
    if (data_size > bus->payload_bytes)
        return IKV_BAD_SIZE;
    if (bus->s.free_payload == IKVI_NONE)
        return IKV_FULL_PAYLOADS;
    t->payload = ikvi_bus_keep_payload(bus, data, data_size);
    t->payload_size = data_size;
    return IKV_OK;
}

static void end_timer(ikv_bus *b, uint32_t at)
{
    const bus_timer *timer = ikvi_bus_timer(b, at);
    uint32_t last = b->s.timer_slots.used - 1;
    /* The last one takes its place. */
    uint32_t moved = ikvi_bus_words(b, b->timer_heap)[last];
    if (moved != at)
        settle_timer(b, timer->position, moved, last);
    ikvi_bus_free_payload(b, timer->payload);
    ikvi_slots_give(&b->s.timer_slots, b, at);
}

ikv_status ikv_bus_cancel_timer(ikv_bus *bus, ikv_timer timer)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t at = ikvi_slots_find(&bus->s.timer_slots, bus, timer.bits);
    if (at == IKVI_NO_SLOT)
        return IKV_ABSENT;
    end_timer(bus, at);
    return IKV_OK;
}

/* Its target has gone, and the kind does not outlive that. */
static bool is_orphan(const ikv_bus *b, const ikv_event *event)
{
    return event->target.bits != 0 &&
           ikvi_bus_place(b, event->target) == IKVI_NONE &&
           !ikv_catalogue_info(b->catalogue, event->kind)->outlives_target;
}

/* D3: each due time once, in order. The first timer is due: puts its event on
 * its lane, and ends it or sets it on. A lane without room loses the event,
 * which is counted. With its target it ends too. */
static void fire_first(ikv_bus *b)
{
    uint32_t at = ikvi_bus_words(b, b->timer_heap)[0];
    bus_timer *timer = ikvi_bus_timer(b, at);
    ikv_event event = timer->event;
    IKVI_CHECK(timer->due <= b->s.time_ns && timer->position == 0);
    uint64_t times = 1, due = 1;
    event.time_ns = timer->due;
    if (is_orphan(b, &event)) {
        b->s.dropped++;
        end_timer(b, at);
        return;
    }
    /* How many of its due times have come. */
    if (timer->period != 0)
        due = (b->s.time_ns - timer->due) / timer->period + 1;
    if (timer->merge) {
        times = due;
        event.samples = (uint16_t)(times < UINT16_MAX ? times : UINT16_MAX);
    }
    const void *data = timer->payload != IKVI_NONE
                           ? ikvi_bus_payload_at(b, timer->payload)
                           : NULL;
    ikv_status status =
        ikvi_bus_put(b, timer->lane, &event, data, timer->payload_size);
    if (status < 0)
        ikvi_report_once(
            &b->said_timer, &b->reporter, IKV_REPORT_ERROR, status, "bus",
            "a timer's event found no room on its lane, or for its "
            "payload, and was lost: raise bus.deferred, or "
            "bus.payloads");
    if (status < 0) { /* there is no room for those that are due too */
        b->s.defer_refused += due - times;
        times = due;
    }
    if (timer->period == 0 ||
        timer->period > (UINT64_MAX - timer->due) / times) {
        end_timer(b, at);
        return;
    }
    timer->due += times * timer->period;
    /* Behind those that are due at the same time: they are older. */
    timer->turn = b->s.timer_turn++;
    settle_timer(b, 0, at, b->s.timer_slots.used);
}

ikv_status ikv_bus_advance(ikv_bus *bus, uint64_t time_ns)
{
    if (bus == NULL || time_ns < bus->s.time_ns)
        return IKV_BAD_ARGUMENT;
    bus->s.time_ns = time_ns;
    while (bus->s.timer_slots.used > 0 && timer_in_heap(bus, 0)->due <= time_ns)
        fire_first(bus);
    return IKV_OK;
}

const char *ikvi_bus_timers_validate(const ikv_bus *b)
{
    for (uint32_t i = 0; i < b->s.timer_slots.used; i++) {
        const bus_timer *timer = timer_in_heap(b, i);
        if (timer->position != i ||
            (i > 0 && !comes_first(timer_in_heap(b, (i - 1) / 2), timer)))
            return "bus-8";
    }
    return NULL;
}
