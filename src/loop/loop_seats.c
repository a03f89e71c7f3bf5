/* loop_seats.c - whose a device is: the program may say so, whatever its port
 * pushes.
 *
 * A device's events get their seat as the raw state is fed with them, so that
 * state and routers agree of each. What the program asks for outside what
 * follows from the input comes into the ring, and onto tapes, as an input of its
 * own; what handlers ask for is done at the end of their step, or of what is
 * routed with theirs between two steps, and follows from the input.
 */
#include "loop_internal.h"

void ikvi_loop_note_seat(ikv_loop *loop, ikv_event *event)
{
    /* A tape's devices may be more than this loop's. */
    if (event->device >= loop->device_room)
        return;
    uint8_t *seat = loop_seat(loop, event->device);
    if (event->kind == IKV_KIND_DEVICE_SEAT && event->seat < IKV_SEAT_LIMIT) {
        *seat = (uint8_t)(event->seat + 1);
        *loop_wanted_seat(loop, event->device) = *seat;
    }
    if (IKVI_UNLIKELY(*seat != 0))
        event->seat = (uint8_t)(*seat - 1);
    if (event->kind == IKV_KIND_DEVICE_REMOVE)
        *seat = *loop_wanted_seat(loop, event->device) = 0;
}

static ikv_event seat_event(uint16_t device, uint8_t seat, uint64_t time_ns)
{
    ikv_event event = ikv_event_make(IKV_KIND_DEVICE_SEAT, time_ns);
    event.device = device;
    event.seat = seat;
    event.flags = IKV_SYNTHETIC;
    return event;
}

IKVI_APART static void reseat(ikv_loop *loop, uint16_t device)
{
    uint8_t wanted = *loop_wanted_seat(loop, device);
    if (wanted == 0 || wanted == *loop_seat(loop, device))
        return;
    ikv_event event =
        seat_event(device, (uint8_t)(wanted - 1), loop->s.routed_at);
    ikvi_loop_note_seat(loop, &event);
    loop->in_event = loop->in_seat = true;
    ikvi_input_feed(loop->input, &event);
    if (loop->input != NULL)
        loop->input->calls->route(loop->input, &event, NULL);
    else
        ikvi_bus_deliver_unrouted(loop->bus, &event, NULL);
    loop->in_event = loop->in_seat = false;
}

void ikvi_loop_apply_seats(ikv_loop *loop)
{
    if (IKVI_LIKELY(!loop->s.reseats))
        return;
    /* Handlers may ask again: that is for the next time. */
    loop->s.reseats = false;
    for (uint32_t device = 1; device < loop->device_room; device++)
        reseat(loop, (uint16_t)device);
}

/* L10. */
ikv_status ikv_loop_set_seat(ikv_loop *loop, uint16_t device, uint8_t seat)
{
    if (loop == NULL || device == 0 || device >= loop->device_room ||
        seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    uint8_t *wanted = loop_wanted_seat(loop, device);
    if (*wanted == seat + 1)
        return IKV_ABSENT;
    if (!loop->in_scope) {
        ikv_event event = seat_event(device, seat, loop->now);
        if (!ikvi_loop_append(loop, &event))
            return IKV_FULL_PENDING;
    }
    *wanted = (uint8_t)(seat + 1);
    loop->s.reseats = loop->s.reseats || loop->in_scope;
    return IKV_OK;
}

ikv_status ikv_loop_seat(const ikv_loop *loop, uint16_t device, uint8_t *seat)
{
    if (loop == NULL || seat == NULL || device >= loop->device_room)
        return IKV_BAD_ARGUMENT;
    uint8_t own = *loop_seat(loop, device);
    /* 0 is what the block begins with. */
    if (own == 0)
        return IKV_ABSENT;
    *seat = (uint8_t)(own - 1);
    return IKV_OK;
}

ikv_status ikv_loop_set_sticky(ikv_loop *loop, uint8_t seat, bool on)
{
    ikv_event ups[STICKY_LIMIT];
    uint32_t count = 0;
    if (loop == NULL || seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    /* A release and the ends that come with it must fit in at once. */
    if (on ? loop->capacity <= STICKY_LIMIT : loop_room(loop) < STICKY_LIMIT)
        return IKV_FULL_PENDING;
    uint8_t *seats = &loop->sticky.seats;
    *seats = (uint8_t)(on ? *seats | 1u << seat : *seats & ~(1u << seat));
    if (!on)
        count = ikvi_loop_end_sticky(loop, ups);
    for (uint32_t i = 0; i < count; i++)
        ikvi_loop_append(loop, &ups[i]);
    return IKV_OK;
}
