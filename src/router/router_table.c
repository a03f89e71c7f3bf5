/* router_table.c - what is known of pointers, and events that mean nothing. */
#include "router_internal.h"

bool ikv_router_serves(const ikv_router *router, uint8_t view)
{
    return router != NULL && view < 32 && (router->views >> view & 1) != 0;
}

pointer *ikvi_router_find(const ikv_router *r, uint16_t device, uint16_t id)
{
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (p->used && p->device == device && p->id == id)
            return p;
    }
    return NULL;
}

pad_state *ikvi_router_find_pad(const ikv_router *r, uint16_t device)
{
    for (uint32_t i = 0; i < r->pad_room; i++) {
        pad_state *pad = pad_state_at(r, i);
        if (pad->used && pad->device == device)
            return pad;
    }
    return NULL;
}

void ikvi_router_fill_in(const pointer *p, ikv_event *event, int8_t button)
{
    event->view = p->view;
    event->pointer.x = p->x;
    event->pointer.y = p->y;
    event->pointer.button = button;
    event->pointer.buttons = p->buttons;
    event->flags &= (uint16_t)~IKV_PRIMARY;
    if (p->primary)
        event->flags |= IKV_PRIMARY;
}

/* What is made up bears what the pointer was told last: a cancel or a leave
 * knows its pressure and tilt. */
ikv_event ikvi_router_event_of(const pointer *p, ikv_kind kind,
                               uint64_t time_ns)
{
    ikv_event event = ikv_event_make(kind, time_ns);
    event.device = p->device;
    event.seat = p->seat;
    event.modifiers = p->modifiers;
    event.pointer.pointer = p->id;
    event.pointer.type = p->type;
    event.pointer.pressure = p->pressure;
    event.pointer.width = p->width;
    event.pointer.height = p->height;
    event.pointer.tilt_x = p->tilt_x;
    event.pointer.tilt_y = p->tilt_y;
    event.pointer.twist = p->twist;
    ikvi_router_fill_in(p, &event, IKV_NO_BUTTON);
    return event;
}

/* Counted each time, said once a device: hardware that is odd is odd all the
 * time. */
ikv_outcome ikvi_router_meaningless(ikv_router *r, const ikv_event *event,
                                    const char *why)
{
    /* A bit a device, in no image: what was said is said. */
    uint32_t device = event->device % IKV_DEVICE_LIMIT;
    uint32_t bit = 1u << device % 32, *word = &r->said[device / 32];
    r->s.counters.meaningless++;
    if ((*word & bit) != 0)
        return no_outcome(IKV_ABSENT);
    *word |= bit;
    char bytes[256];
    ikvi_text text = {bytes, sizeof bytes, 0};
    ikvi_text_add(&text, "the first event of device ");
    ikvi_text_unsigned(&text, device);
    ikvi_text_add(&text, " that means nothing, ");
    ikvi_text_add(&text, ikv_catalogue_info(r->catalogue, event->kind)->name);
    ikvi_text_add(&text, ": ");
    ikvi_text_add(&text, why);
    ikvi_text_end(&text);
    ikvi_report(&r->reporter, IKV_REPORT_NOTE, IKV_ABSENT, "router", bytes);
    return no_outcome(IKV_ABSENT);
}
