/* router_drag.c - what is dragged onto others: DRAG1 to DRAG5.
 *
 * A drag is told of from the move on that goes beyond the slop; until then it is
 * a press, which may still be a click. What is beneath is asked of the scene
 * without the body that is dragged.
 */
#include "router_internal.h"

/* The topmost there that is not dragged itself, and that the seat reaches; the
 * root, where nothing else is. */
static ikv_target find_beneath(const ikv_router *r, const pointer *p)
{
    ikv_target hit = ikvi_router_pick(r, p, p->dragging, 0);
    return hit.bits == 0 && ikv_router_modal(r, p->seat).bits == 0 ? root_of(r)
                                                                   : hit;
}

static ikv_verdict send_drag(ikv_router *r, const pointer *p,
                             const ikv_event *cause, ikv_kind kind,
                             ikv_target target, ikv_target related,
                             bool accepted)
{
    ikv_event event = ikv_event_make(kind, cause->time_ns);
    event.device = p->device;
    event.view = p->view;
    event.seat = p->seat;
    event.modifiers = p->modifiers;
    event.flags = cause->flags & (uint16_t)(IKV_SYNTHETIC | IKV_PRIMARY);
    event.drag = (ikv_drag_data){.x = p->x,
                                 .y = p->y,
                                 .dx = p->x - p->press_x,
                                 .dy = p->y - p->press_y,
                                 .pointer = p->id,
                                 .type = p->type,
                                 .accepted = accepted};
    return ikvi_router_send_kind(r, &event, kind, target, related).verdict;
}

/* In HTML's order: the new one is told before the old one is left. */
static void drag_onto(ikv_router *r, pointer *p, const ikv_event *cause,
                      ikv_target to)
{
    ikv_target old = p->drag_over, dragged = p->dragging;
    /* Before it is told: what handlers do counts from there. */
    p->drag_over = to;
    p->drag_entry = p->drag_accepts = false;
    if (to.bits != 0) {
        ikv_verdict verdict =
            send_drag(r, p, cause, IKV_KIND_DRAG_ENTER, to, dragged, false);
        p->drag_entry = p->drag_accepts =
            same(p->drag_over, to) && (verdict & IKV_ACCEPT) != 0;
    }
    if (old.bits != 0)
        send_drag(r, p, cause, IKV_KIND_DRAG_LEAVE, old, dragged, false);
}

/* DRAG2: whoever accepted it as it came has done so for good. */
static void drag_on(ikv_router *r, pointer *p, const ikv_event *cause)
{
    ikv_target over = p->drag_over;
    ikv_verdict verdict = send_drag(r, p, cause, IKV_KIND_DRAG_OVER, over,
                                    p->dragging, p->drag_accepts);
    if (same(p->drag_over, over))
        p->drag_accepts = p->drag_entry || (verdict & IKV_ACCEPT) != 0;
}

/* DRAG1, DRAG2. */
void ikvi_drag_moved(ikv_router *r, pointer *p, const ikv_event *cause)
{
    ikv_target none = {0};
    /* What was dragged is gone: who was told of it is told so. */
    if (p->dragging.bits == 0 && p->drag_over.bits != 0)
        drag_onto(r, p, cause, none);
    if (p->dragging.bits == 0 || !p->dragged || !same(p->captured, p->dragging))
        return;
    p->drag_told = true;
    ikv_target to = find_beneath(r, p);
    if (!same(to, p->drag_over))
        drag_onto(r, p, cause, to);
    if (p->drag_over.bits == 0 || p->dragging.bits == 0)
        return;
    drag_on(r, p, cause);
}

/* DRAG3. */
void ikvi_drag_ended(ikv_router *r, pointer *p, const ikv_event *cause,
                     bool released)
{
    ikv_target dragged = p->dragging, over = p->drag_over, none = {0};
    bool dropped = released && p->drag_accepts && dragged.bits != 0 &&
                   ikvi_router_alive(r, over);
    bool told = p->drag_told;
    /* It is over before anybody is told. */
    p->dragging = p->drag_over = none;
    p->drag_entry = p->drag_accepts = p->drag_told = false;
    if (over.bits != 0)
        send_drag(r, p, cause,
                  dropped ? IKV_KIND_DRAG_DROP : IKV_KIND_DRAG_LEAVE, over,
                  dragged, dropped);
    if (told && dragged.bits != 0)
        send_drag(r, p, cause, IKV_KIND_DRAG_END, dragged,
                  dropped ? over : none, dropped);
}

/* Where it is now; `dx` and `dy` count from where it came in. */
static void place_foreign(pointer *p, const ikv_event *event)
{
    if (!p->used)
        *p = (pointer){
            .used = true, .press_x = event->drag.x, .press_y = event->drag.y};
    p->device = event->device;
    p->view = event->view;
    p->seat = event->seat;
    p->modifiers = event->modifiers;
    p->id = event->drag.pointer;
    p->type = event->drag.type;
    p->x = event->drag.x;
    p->y = event->drag.y;
}

static void leave_foreign(ikv_router *r, pointer *p, const ikv_event *event)
{
    ikv_target none = {0};
    drag_onto(r, p, event, none);
    *p = (pointer){0};
}

/* DRAG5: nothing of the scene is dragged, so there is no source, and nobody who
 * is told of the end. */
ikv_outcome ikvi_drag_foreign(ikv_router *r, const ikv_event *event)
{
    pointer *p = &r->s.foreign;
    ikv_outcome outcome = {.status = IKV_OK};
    if (event->kind != IKV_KIND_DRAG_OVER &&
        event->kind != IKV_KIND_DRAG_DROP && event->kind != IKV_KIND_DRAG_LEAVE)
        return ikvi_router_meaningless(
            r, event, "ports tell of drag.over, drag.drop and drag.leave");
    if (event->kind == IKV_KIND_DRAG_LEAVE) {
        leave_foreign(r, p, event);
        return outcome;
    }
    place_foreign(p, event);
    ikv_target to = find_beneath(r, p), over = to;
    if (!same(to, p->drag_over))
        drag_onto(r, p, event, to);
    over = p->drag_over;
    if (event->kind == IKV_KIND_DRAG_OVER) {
        if (over.bits != 0)
            drag_on(r, p, event);
        outcome.verdict = p->drag_accepts ? IKV_ACCEPT : 0;
        return outcome;
    }
    if (!p->drag_accepts || over.bits == 0) {
        leave_foreign(r, p, event);
        return outcome;
    }
    pointer dropped = *p;
    /* It is over before anybody is told. */
    *p = (pointer){0};
    send_drag(r, &dropped, event, IKV_KIND_DRAG_DROP, over, dropped.dragging,
              true);
    outcome.verdict = IKV_ACCEPT;
    return outcome;
}

void ikvi_router_drag_elsewhere(ikv_router *router, const ikv_event *event)
{
    if (router->s.foreign.used)
        leave_foreign(router, &router->s.foreign, event);
}
