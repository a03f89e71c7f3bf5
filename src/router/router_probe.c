/* router_probe.c - why an event does not go to a target or by it: what the
 * router's own choice of a target hangs on, asked without routing anything.
 */
#include "router_internal.h"

#include "../event/findings.h"

/* CAP3: who captured the pointer has it, wherever it is; zero bits: nobody. */
static ikv_target captor_of(const ikv_router *r, const pointer *p)
{
    return p != NULL && ikvi_router_alive(r, p->captured) ? p->captured
                                                          : (ikv_target){0};
}

/* MODAL1: what is not in it is shut out. */
static void probe_modal(const ikv_router *r, uint8_t seat, ikv_target target,
                        ikvi_findings *f)
{
    if (!same(target, root_of(r)) && ikvi_router_shuts_out(r, seat, target))
        ikvi_find_by(f, IKV_WHY_MODAL, ikv_router_modal(r, seat));
}

/* HIT1, MODAL1: what is topmost there has it, of what the seat reaches; where
 * nothing of that is, what is modal. A picking that can't say why has only whom
 * it picks instead. */
static void probe_hit(const ikv_router *r, const ikv_event *event, uint8_t type,
                      ikv_target target, ikvi_findings *f)
{
    ikv_query query = IKV_QUERY_INIT;
    query.view = event->view;
    query.touch = type == IKV_TOUCH;
    query.x = event->pointer.x;
    query.y = event->pointer.y;
    pointer there = {.type = type,
                     .view = event->view,
                     .seat = event->seat,
                     .x = query.x,
                     .y = query.y};
    ikv_target hit = ikvi_router_pick(r, &there, (ikv_target){0}, 0);
    if (hit.bits == 0)
        hit = ikv_router_modal(r, event->seat);
    if (hit.bits == 0)
        hit = root_of(r);
    if (ikvi_router_is_within(r, hit, target))
        return;
    if (r->picking.probe == NULL) {
        ikvi_find_by(f, IKV_WHY_PATH, hit);
        return;
    }
    uint32_t used = f->count < f->room ? f->count : f->room;
    f->count +=
        r->picking.probe(r->picking.scene, &query, target,
                         f->to != NULL ? f->to + used : NULL, f->room - used);
}

/* What it is that says where it is. */
static uint8_t type_of(const ikv_event *event, uint8_t family)
{
    switch (family) {
    case IKV_FAMILY_POINTER:
    case IKV_FAMILY_CLICK:
        return event->pointer.type; /* a click's lies there, too */
    case IKV_FAMILY_WHEEL:
        return event->wheel.type;
    case IKV_FAMILY_PEN:
        return IKV_PEN;
    case IKV_FAMILY_GESTURE:
        return IKV_TOUCH;
    case IKV_FAMILY_DRAG:
        return event->drag.type;
    default:
        return IKV_MOUSE;
    }
}

uint32_t ikv_router_probe(const ikv_router *router, const ikv_event *event,
                          ikv_target target, ikv_obstacle *to, uint32_t room)
{
    ikvi_findings f = ikvi_findings_begin(to, room);
    if (router == NULL || event == NULL)
        return 0;
    const ikv_kind_info *info =
        ikv_catalogue_info(router->catalogue, event->kind);
    if (!ikvi_router_alive(router, target)) {
        ikvi_find_by(&f, IKV_WHY_STALE, (ikv_target){0});
    } else if (info != NULL && (info->family == IKV_FAMILY_KEY ||
                                info->family == IKV_FAMILY_TEXT)) {
        ikv_target focus = ikv_router_focused(router, event->seat);
        ikv_target top = ikv_router_modal(router, event->seat);
        ikv_target to_keys = focus.bits != 0 ? focus : top;
        to_keys = to_keys.bits != 0 ? to_keys : root_of(router);
        if (ikvi_router_is_within(router, to_keys, target))
            return 0;
        probe_modal(router, event->seat, target, &f);
        ikvi_find_by(&f, IKV_WHY_FOCUS, to_keys);
    } else if (info != NULL && info->positioned) {
        ikv_target captor = {0};
        if (info->family == IKV_FAMILY_POINTER)
            captor =
                captor_of(router, ikvi_router_find(router, event->device,
                                                   event->pointer.pointer));
        if (ikvi_router_is_within(router, captor, target))
            return 0;
        if (captor.bits != 0)
            ikvi_find_by(&f, IKV_WHY_CAPTURED, captor);
        else
            probe_modal(router, event->seat, target, &f);
        probe_hit(router, event, type_of(event, info->family), target, &f);
    } else if (!ikvi_router_is_within(router, event->target, target)) {
        ikvi_find_by(&f, IKV_WHY_PATH, event->target);
    }
    return f.count;
}
