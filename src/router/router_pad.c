/* router_pad.c - pads: which buttons are down, where the sticks are, and dead
 * zones. Buttons and axes have the numbers of W3C Gamepad's standard mapping.
 */
#include "router_internal.h"

/* NULL if there is no room for one more. */
static pad_state *add_pad(ikv_router *r, const ikv_event *event)
{
    for (uint32_t i = 0; i < r->pad_room; i++) {
        pad_state *pad = pad_state_at(r, i);
        if (pad->used)
            continue;
        *pad = (pad_state){
            .used = true, .device = event->device, .number = event->pad.pad};
        return pad;
    }
    return NULL;
}

static ikv_outcome too_many_pads(ikv_router *r)
{
    r->s.counters.too_many++;
    return no_outcome(IKV_FULL_PADS);
}

static void fill_stick(const ikv_router *r, const pad_state *pad,
                       ikv_event *event)
{
    float out[2] = {0, 0};
    uint32_t first = event->pad.index & ~1u;
    if (event->pad.index < 4)
        ikvi_stick(&r->zones, &pad->axes[first], out);
    event->pad.x = out[0];
    event->pad.y = out[1];
}

/* The axis is kept raw and told with its stick beside it. A button that is so
 * already is a repeat, or a press that was lost: nothing is told twice. */
ikv_outcome ikvi_router_pad(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    if (!ikvi_event_is_good(NULL, &event)) {
        r->s.counters.not_finite++;
        return no_outcome(IKV_BAD_VALUE);
    }
    event.pad.value = ikvi_clamp(event.pad.value, -1, 1);
    bool axis = event.kind == IKV_KIND_PAD_AXIS;
    bool value = event.kind == IKV_KIND_PAD_VALUE;
    if (event.pad.index >= (axis ? IKV_PAD_AXES : IKV_PAD_BUTTONS))
        return ikvi_router_meaningless(
            r, &event, "the standard mapping has no such index");
    pad_state *pad = ikvi_router_find_pad(r, event.device);
    if (pad == NULL && event.kind == IKV_KIND_PAD_UP)
        return ikvi_router_meaningless(r, &event, "the pad is not known");
    if (pad == NULL && (pad = add_pad(r, &event)) == NULL)
        return too_many_pads(r);
    uint32_t bit = 1u << event.pad.index;
    if (axis) {
        pad->axes[event.pad.index] = event.pad.value;
        fill_stick(r, pad, &event);
    } else if (value) {
        /* It is told, and changes nothing here: the press is a port's. */
    } else if (((pad->buttons & bit) != 0) ==
               (event.kind == IKV_KIND_PAD_DOWN)) {
        return ikvi_router_meaningless(r, &event, "the button is so already");
    } else {
        pad->buttons ^= bit;
    }
    return ikvi_router_send_to(r, &event, event.target);
}

bool ikvi_router_pad_is_down(const ikv_router *r, const ikv_event *event)
{
    const pad_state *pad = ikvi_router_find_pad(r, event->device);
    return pad != NULL && event->pad.index < IKV_PAD_BUTTONS &&
           (pad->buttons >> event->pad.index & 1) != 0;
}

/* K1: what a pad that is gone held is released, its sticks are let go; after a
 * loss what it still holds stays down. */
void ikvi_router_release_pads(ikv_router *r, const ikv_event *cause,
                              const ikv_event *held, uint32_t count)
{
    pad_state *pad = ikvi_router_find_pad(r, cause->device);
    if (cause->kind == IKV_KIND_WINDOW_BLUR || pad == NULL)
        return;
    pad_state gone = *pad;
    pad->buttons &= ikvi_pad_buttons_held(held, count);
    gone.buttons &= ~pad->buttons;
    memset(pad->axes, 0, sizeof pad->axes);
    pad->used = cause->kind != IKV_KIND_DEVICE_REMOVE;
    ikv_event event = ikv_event_make(IKV_KIND_PAD_UP, cause->time_ns);
    event.device = gone.device;
    event.seat = cause->seat;
    event.flags = IKV_SYNTHETIC;
    event.pad.pad = gone.number;
    for (uint32_t i = 0; i < IKV_PAD_BUTTONS; i++)
        if (gone.buttons >> i & 1) {
            event.pad.index = (uint8_t)i;
            ikvi_router_send_to(r, &event, event.target);
        }
    event.kind = IKV_KIND_PAD_AXIS;
    for (uint32_t i = 0; i < IKV_PAD_AXES; i++)
        if (gone.axes[i] != 0) {
            event.pad.index = (uint8_t)i;
            ikvi_router_send_to(r, &event, event.target);
        }
}
