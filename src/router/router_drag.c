/* router_drag.c - what is dragged onto others: DRAG1 to DRAG5.
 *
 * A drag is told of from the move on that goes beyond the slop; until then it is
 * a press, which may still be a click. What is beneath is asked of the scene
 * without the body that is dragged.
 */
#include "router_internal.h"

/* What is told of a drag, where its pointer is. */
static ikv_event place_of(const pointer *p, const ikv_event *cause)
{
    ikv_event place = ikv_event_make(IKV_KIND_DRAG_OVER, cause->time_ns);
    place.device = p->device;
    place.view = p->view;
    place.seat = p->seat;
    place.modifiers = p->modifiers;
    place.flags = cause->flags & (uint16_t)(IKV_SYNTHETIC | IKV_PRIMARY);
    place.drag = (ikv_drag_data){.x = p->x,
                                 .y = p->y,
                                 .dx = p->x - p->press_x,
                                 .dy = p->y - p->press_y,
                                 .pointer = p->id,
                                 .type = p->type};
    return place;
}

/* The topmost there that is not dragged itself, and that the seat reaches; the
 * root, where nothing else is. */
static ikv_target find_beneath(const ikv_router *r, const ikv_event *place,
                               ikv_target dragged)
{
    pointer there = {.type = place->drag.type,
                     .view = place->view,
                     .seat = place->seat,
                     .x = place->drag.x,
                     .y = place->drag.y};
    ikv_target hit = ikvi_router_pick(r, &there, dragged, 0);
    return hit.bits == 0 && ikv_router_modal(r, place->seat).bits == 0
               ? root_of(r)
               : hit;
}

static ikv_verdict send_drag(ikv_router *r, const ikv_event *place,
                             ikv_kind kind, ikv_target target,
                             ikv_target related, bool accepted)
{
    ikv_event event = *place;
    event.kind = kind;
    event.drag.accepted = accepted;
    return ikvi_router_send_kind(r, &event, kind, target, related).verdict;
}

/* In HTML's order: the new one is told before the old one is left. */
static void drag_onto(ikv_router *r, drag_state *drag, const ikv_event *place,
                      ikv_target to, ikv_target dragged)
{
    ikv_target old = drag->over;
    /* Before it is told: what handlers do counts from there. */
    *drag = (drag_state){.over = to};
    if (to.bits != 0) {
        ikv_verdict verdict =
            send_drag(r, place, IKV_KIND_DRAG_ENTER, to, dragged, false);
        drag->entry = drag->accepts =
            same(drag->over, to) && (verdict & IKV_ACCEPT) != 0;
    }
    if (old.bits != 0)
        send_drag(r, place, IKV_KIND_DRAG_LEAVE, old, dragged, false);
}

/* DRAG2: whoever accepted it as it came has done so for good. */
static void drag_on(ikv_router *r, drag_state *drag, const ikv_event *place,
                    ikv_target dragged)
{
    ikv_target over = drag->over;
    ikv_verdict verdict =
        send_drag(r, place, IKV_KIND_DRAG_OVER, over, dragged, drag->accepts);
    if (same(drag->over, over))
        drag->accepts = drag->entry || (verdict & IKV_ACCEPT) != 0;
}

/* DRAG1, DRAG2. */
void ikvi_drag_moved(ikv_router *r, pointer *p, const ikv_event *cause)
{
    ikv_target none = {0};
    ikv_event place = place_of(p, cause);
    /* What was dragged is gone: who was told of it is told so. */
    if (p->dragging.bits == 0 && p->drag.over.bits != 0)
        drag_onto(r, &p->drag, &place, none, none);
    if (p->dragging.bits == 0 || !p->dragged || !same(p->captured, p->dragging))
        return;
    p->drag_told = true;
    ikv_target to = find_beneath(r, &place, p->dragging);
    if (!same(to, p->drag.over))
        drag_onto(r, &p->drag, &place, to, p->dragging);
    if (p->drag.over.bits == 0 || p->dragging.bits == 0)
        return;
    drag_on(r, &p->drag, &place, p->dragging);
}

/* DRAG3. */
void ikvi_drag_ended(ikv_router *r, pointer *p, const ikv_event *cause,
                     bool released)
{
    ikv_event place = place_of(p, cause);
    ikv_target dragged = p->dragging, over = p->drag.over, none = {0};
    bool dropped = released && p->drag.accepts && dragged.bits != 0 &&
                   ikvi_router_alive(r, over);
    bool told = p->drag_told;
    /* It is over before anybody is told. */
    p->dragging = none;
    p->drag = (drag_state){.over = none};
    p->drag_told = false;
    if (over.bits != 0)
        send_drag(r, &place, dropped ? IKV_KIND_DRAG_DROP : IKV_KIND_DRAG_LEAVE,
                  over, dragged, dropped);
    if (told && dragged.bits != 0)
        send_drag(r, &place, IKV_KIND_DRAG_END, dragged, dropped ? over : none,
                  dropped);
}

/* Where it is now; `dx` and `dy` count from where it came in. */
static void place_foreign(foreign_drag *f, const ikv_event *event)
{
    if (!f->used)
        *f = (foreign_drag){
            .used = true, .press_x = event->drag.x, .press_y = event->drag.y};
    f->device = event->device;
    f->view = event->view;
    f->seat = event->seat;
    f->modifiers = event->modifiers;
    f->id = event->drag.pointer;
    f->type = event->drag.type;
    f->x = event->drag.x;
    f->y = event->drag.y;
}

static ikv_event foreign_place(const foreign_drag *f, const ikv_event *cause)
{
    pointer there = {.device = f->device,
                     .view = f->view,
                     .seat = f->seat,
                     .modifiers = f->modifiers,
                     .id = f->id,
                     .type = f->type,
                     .x = f->x,
                     .y = f->y,
                     .press_x = f->press_x,
                     .press_y = f->press_y};
    return place_of(&there, cause);
}

static void leave_foreign(ikv_router *r, const ikv_event *cause)
{
    foreign_drag *f = &r->s.foreign;
    ikv_target none = {0};
    ikv_event place = foreign_place(f, cause);
    drag_onto(r, &f->drag, &place, none, none);
    *f = (foreign_drag){0};
}

/* DRAG5: nothing of the scene is dragged, so there is no source, and nobody who
 * is told of the end. */
ikv_outcome ikvi_drag_foreign(ikv_router *r, const ikv_event *event)
{
    foreign_drag *f = &r->s.foreign;
    ikv_target none = {0};
    ikv_outcome outcome = {.status = IKV_OK};
    if (event->kind != IKV_KIND_DRAG_OVER &&
        event->kind != IKV_KIND_DRAG_DROP && event->kind != IKV_KIND_DRAG_LEAVE)
        return ikvi_router_meaningless(
            r, event, "ports tell of drag.over, drag.drop and drag.leave");
    if (event->kind == IKV_KIND_DRAG_LEAVE) {
        leave_foreign(r, event);
        return outcome;
    }
    place_foreign(f, event);
    ikv_event place = foreign_place(f, event);
    ikv_target to = find_beneath(r, &place, none);
    if (!same(to, f->drag.over))
        drag_onto(r, &f->drag, &place, to, none);
    ikv_target over = f->drag.over;
    if (event->kind == IKV_KIND_DRAG_OVER) {
        if (over.bits != 0)
            drag_on(r, &f->drag, &place, none);
        outcome.verdict = f->drag.accepts ? IKV_ACCEPT : 0;
        return outcome;
    }
    if (!f->drag.accepts || over.bits == 0) {
        leave_foreign(r, event);
        return outcome;
    }
    /* It is over before anybody is told. */
    *f = (foreign_drag){0};
    send_drag(r, &place, IKV_KIND_DRAG_DROP, over, none, true);
    outcome.verdict = IKV_ACCEPT;
    return outcome;
}

void ikvi_router_drag_elsewhere(ikv_router *router, const ikv_event *event)
{
    if (router->s.foreign.used)
        leave_foreign(router, event);
}
