/* draw_trail.c - keeps where pointers went. */
#include "draw_internal.h"

static bool is_noted(ikv_kind kind)
{
    return kind == IKV_KIND_POINTER_MOVE || kind == IKV_KIND_POINTER_DOWN ||
           kind == IKV_KIND_POINTER_UP || kind == IKV_KIND_POINTER_CANCEL;
}

void ikv_trail_note(ikv_trail *trail, const ikv_event *event)
{
    if (trail == NULL || trail->points == NULL || trail->room == 0 ||
        event == NULL || !is_noted(event->kind))
        return;
    uint64_t kept = trail->count < trail->room ? trail->count : trail->room;
    ikv_trail_point to = {.x = event->pointer.x,
                          .y = event->pointer.y,
                          .kind = event->kind,
                          .device = event->device,
                          .pointer = event->pointer.pointer,
                          .view = event->view,
                          .time_ns = event->time_ns};
    /* A finger comes from nowhere. */
    if (event->kind == IKV_KIND_POINTER_DOWN &&
        event->pointer.type == IKV_TOUCH)
        kept = 0;
    for (uint64_t back = 1; back <= kept && to.before == 0; back++) {
        const ikv_trail_point *p =
            &trail->points[(trail->count - back) % trail->room];
        if (p->device == to.device && p->pointer == to.pointer)
            to.before = (uint32_t)back;
    }
    trail->points[trail->count++ % trail->room] = to;
}
