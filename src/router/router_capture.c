/* router_capture.c - who captured a pointer, and is told of it. */
#include "router_internal.h"

void ikvi_router_lose(ikv_router *r, pointer *p, ikv_target captured,
                      const ikv_event *cause)
{
    bool told = p->capture_told, owed = p->loss_untold;
    /* Before it is told: a handler may ask for another capture. */
    p->capture_told = p->loss_untold = false;
    if (!owed && (!told || captured.bits == 0))
        return;
    /* GONE2: also of one that a handler has removed just now. */
    bool gone = owed || !ikvi_router_alive(r, captured);
    ikvi_router_send_kind(r, cause, IKV_KIND_POINTER_CAPTURE_LOST,
                          gone ? root_of(r) : captured, (ikv_target){0});
}

/* CAP4, CAP6, TOUCH2: before each event of the pointer. CAP2. Handlers of the
 * boundary events may remove the new one: then it is told neither got nor
 * lost. */
void ikvi_router_apply_capture(ikv_router *r, pointer *p,
                               const ikv_event *cause)
{
    ikv_target none = {0};
    IKVI_CHECK(p->used && r->routing);
    if (p->pending.bits != 0 && !ikvi_router_alive(r, p->pending))
        p->pending = none;
    /* What handlers of the loss ask for waits for the pointer's next event. */
    ikv_target old = p->captured, now = p->pending;
    if (p->loss_untold) {
        ikvi_router_lose(r, p, none, cause);
        now = ikvi_router_alive(r, now) ? now : none;
    }
    if (same(now, old))
        return;
    bool drags = same(p->to_drag, now), told = p->capture_told;
    /* All is so before the first is told of it. What was told was so of the old
     * one: a handler may remove either. */
    p->captured = now;
    p->capture_told = false;
    p->attached = same(p->to_attach, now) ? now : none;
    memcpy(p->grip, p->to_grip, sizeof p->grip);
    p->to_drag = p->to_attach = none;
    /* Somebody else has captured it: what is dragged stays where it is; or it is
     * gone, which is still to be told. */
    if (IKVI_UNLIKELY((p->dragging.bits | p->drag.over.bits) != 0))
        ikvi_drag_ended(r, p, cause, false);
    if (old.bits != 0) {
        p->capture_told = told;
        ikvi_router_lose(r, p, old, cause);
        ikvi_gesture_lost(r, p, cause);
    }
    if (now.bits == 0 || !ikvi_router_alive(r, now))
        return;
    if (drags)
        p->dragging = now;
    /* CAP3: captured, it is over who captured it. */
    ikvi_router_move_over(r, p, now, cause);
    if (!ikvi_router_alive(r, now))
        return;
    p->capture_told = true;
    ikvi_router_send_kind(r, cause, IKV_KIND_POINTER_CAPTURE_GOT, now, none);
}

static pointer *pointer_of(const ikv_router *r, const ikv_event *event)
{
    if (r == NULL || event == NULL)
        return NULL;
    /* Of a wheel or a gesture no pointer can be captured. */
    const ikv_kind_info *info = ikv_catalogue_info(r->catalogue, event->kind);
    if (info != NULL && info->family == IKV_FAMILY_DRAG)
        return ikvi_router_find(r, event->device, event->drag.pointer);
    if (info == NULL || (info->family != IKV_FAMILY_POINTER &&
                         info->family != IKV_FAMILY_CLICK))
        return NULL;
    return ikvi_router_find(r, event->device, event->pointer.pointer);
}

/* CAP1, CAP7: makes it the pending one; with no button down, nothing. */
ikv_status ikv_router_capture(ikv_router *router, const ikv_event *event,
                              ikv_target target)
{
    pointer *p = pointer_of(router, event);
    if (p == NULL)
        return IKV_BAD_ARGUMENT;
    if (!ikvi_router_alive(router, target))
        return IKV_STALE;
    if (p->buttons == 0 || !ikvi_router_reaches(router, p->seat, target))
        return IKV_ABSENT;
    p->pending = target;
    /* The last one to ask for it has it. */
    if (!same(p->to_drag, target))
        p->to_drag = (ikv_target){0};
    if (!same(p->to_attach, target))
        p->to_attach = (ikv_target){0};
    return IKV_OK;
}

/* DRAG1: a capture that others hear of as they are come upon. What is dragged
 * until then is so until its capture ends. */
ikv_status ikv_router_drag(ikv_router *router, const ikv_event *event,
                           ikv_target target)
{
    ikv_status status = ikv_router_capture(router, event, target);
    if (status != IKV_OK)
        return status;
    pointer *p = pointer_of(router, event);
    if (same(p->captured, target))
        p->dragging = target;
    else
        p->to_drag = target;
    return IKV_OK;
}

/* A capture that remembers the grip: `attached` ends with the capture, whatever
 * ends it, and begins with it. */
ikv_status ikv_router_attach(ikv_router *router, const ikv_event *event,
                             ikv_target target)
{
    pointer *p = pointer_of(router, event);
    float grip[2];
    if (p == NULL)
        return IKV_BAD_ARGUMENT;
    if (!ikvi_router_alive(router, target))
        return IKV_STALE;
    const ikv_picking *picking = &router->picking;
    if (picking->grip == NULL || picking->carry == NULL ||
        !picking->grip(picking->scene, target, p->view, p->x, p->y, grip))
        return IKV_ABSENT;
    ikv_status status = ikv_router_capture(router, event, target);
    if (status != IKV_OK)
        return status;
    /* Carried from the next move on, when the capture has taken effect. */
    bool now = same(p->captured, target);
    *(now ? &p->attached : &p->to_attach) = target;
    memcpy(now ? p->grip : p->to_grip, grip, sizeof grip);
    return status;
}

/* What is attached to it is where it is. */
void ikvi_router_carry(ikv_router *r, const pointer *p)
{
    if (p->attached.bits != 0 && same(p->attached, p->captured))
        r->picking.carry(r->picking.scene, p->attached, p->view, p->x, p->y,
                         p->grip);
}

ikv_status ikv_router_release(ikv_router *router, const ikv_event *event,
                              ikv_target target)
{
    pointer *p = pointer_of(router, event);
    if (p == NULL)
        return IKV_BAD_ARGUMENT;
    if (target.bits == 0 || !same(p->pending, target))
        return IKV_ABSENT;
    p->pending = p->to_drag = p->to_attach = (ikv_target){0};
    return IKV_OK;
}

bool ikv_router_has_capture(const ikv_router *router, const ikv_event *event,
                            ikv_target target)
{
    const pointer *p = pointer_of(router, event);
    /* What was asked for counts: it takes effect before the next event. */
    return p != NULL && target.bits != 0 && same(p->pending, target);
}

/* A pad is whole where it is known: its sticks have two axes. */
bool ikv_router_holds(const ikv_router *router, const ikv_event *event)
{
    if (router == NULL || event == NULL)
        return false;
    const ikv_kind_info *info =
        ikv_catalogue_info(router->catalogue, event->kind);
    uint8_t family = info != NULL ? info->family : IKV_FAMILY_COUNT;
    if (family == IKV_FAMILY_KEY)
        return ikvi_router_key_is_down(router, event);
    if (family == IKV_FAMILY_PAD)
        return ikvi_router_find_pad(router, event->device) != NULL;
    const pointer *p = pointer_of(router, event);
    return p != NULL && (p->buttons | p->spent) != 0;
}
