/* router_pointer.c - the state of pointers, and what their events become. */
#include "router_internal.h"

/* TOUCH5, BTN2. */
static bool primary_taken(const ikv_router *r, uint8_t type)
{
    for (uint32_t i = 0; i < r->capacity; i++) {
        const pointer *p = pointer_at(r, i);
        /* A second finger never becomes the primary one. A finger that lies
         * there after its cancel is active no more. */
        if (p->used && p->type == type && (p->spent == 0 || p->buttons != 0))
            return true;
    }
    return false;
}

/* The first active one of its type is the primary, as Pointer Events 3 has it;
 * a mouse always is. */
static pointer *add_pointer(ikv_router *r, const ikv_event *event)
{
    bool primary = event->pointer.type == IKV_MOUSE ||
                   !primary_taken(r, event->pointer.type);
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (p->used)
            continue;
        *p = (pointer){.used = true,
                       .primary = primary,
                       .type = event->pointer.type,
                       .view = event->view,
                       .seat = event->seat,
                       .device = event->device,
                       .id = event->pointer.pointer,
                       .x = event->pointer.x,
                       .y = event->pointer.y};
        if (++r->s.counters.pointers > r->s.counters.pointers_high)
            r->s.counters.pointers_high = r->s.counters.pointers;
        return p;
    }
    return NULL;
}

void ikvi_router_forget(ikv_router *r, pointer *p)
{
    /* A handler of its last events may have ended it already. What is still
     * down of it is known until it is let go. */
    if (p->used)
        ikvi_router_let_up(r, p);
    if (p->used && p->spent == 0) {
        IKVI_CHECK(r->s.counters.pointers > 0);
        p->used = false;
        r->s.counters.pointers--;
    }
}

/* The nth target from the top where the pointer is; the root past the last. */
static ikv_target pick_at(const ikv_router *r, const pointer *p, uint32_t nth)
{
    ikv_target hit = ikvi_router_pick(r, p, (ikv_target){0}, nth);
    return hit.bits != 0 ? hit : root_of(r);
}

static bool is_captured(const ikv_router *r, const pointer *p)
{
    return p->captured.bits != 0 && ikvi_router_alive(r, p->captured);
}

/* The pointer's target now: who captured it, or what is there (CAP3); where
 * nothing is that it reaches, what is modal. */
static ikv_target target_of(const ikv_router *r, const pointer *p)
{
    if (is_captured(r, p))
        return p->captured;
    ikv_target hit = pick_at(r, p, 0);
    if (IKVI_LIKELY(r->s.modal_count == 0) || !same(hit, root_of(r)))
        return hit;
    ikv_target top = ikv_router_modal(r, p->seat);
    return top.bits != 0 ? top : hit;
}

/* MODAL1: whether it went to what is modal, and is not on it. */
static bool is_outside_modal(const ikv_router *r, const pointer *p)
{
    return r->s.modal_count > 0 && !is_captured(r, p) &&
           ikv_router_modal(r, p->seat).bits != 0 &&
           same(pick_at(r, p, 0), root_of(r));
}

static void flag_outside(ikv_event *event, bool outside)
{
    event->flags &= (uint16_t)~IKV_OUTSIDE;
    if (outside)
        event->flags |= IKV_OUTSIDE;
}

/* Takes over the position, and finds the motion if the port gave none. A
 * pointer that is down stays in its view. */
static void take_position(pointer *p, ikv_event *event)
{
    if (p->buttons == 0) {
        p->view = event->view;
        p->outside = false;
    }
    /* Of a locked one motion is all there is: it rests where it was. */
    if ((event->flags & IKV_RELATIVE) != 0) {
        event->pointer.x = p->x;
        event->pointer.y = p->y;
        p->strayed[0] += event->pointer.dx;
        p->strayed[1] += event->pointer.dy;
    } else if (event->pointer.dx == 0 && event->pointer.dy == 0) {
        event->pointer.dx = event->pointer.x - p->x;
        event->pointer.dy = event->pointer.y - p->y;
    }
    p->x = event->pointer.x;
    p->y = event->pointer.y;
    p->modifiers = event->modifiers;
    p->pressure = event->pointer.pressure;
    p->width = event->pointer.width;
    p->height = event->pointer.height;
    p->tilt_x = event->pointer.tilt_x;
    p->tilt_y = event->pointer.tilt_y;
    p->twist = event->pointer.twist;
}

/* --------------------------------------------------------- pass-through -- */

/* HIT4: after a target that passes, the next ones beneath get the event in
 * their own visit, down to the first solid one. */
static void pass_beneath(ikv_router *r, pointer *p, const ikv_event *event,
                         ikv_target above, ikv_verdict verdict, bool remember)
{
    /* A handler has removed it: what is beneath is on top now, and was not
     * hit. */
    if (!ikvi_router_alive(r, above))
        return;
    for (uint32_t nth = 1; (ikvi_router_traits(r, above) & IKV_PASSES) != 0 &&
                           (verdict & (IKV_STOP | IKV_STOP_ALL)) == 0;
         nth++) {
        /* Picked anew each time: a handler may have changed the scene. */
        ikv_target next = pick_at(r, p, nth);
        if (same(next, root_of(r)))
            return;
        /* As many as the up can be passed to; those left out are counted. */
        if (nth > r->passed_limit) {
            r->s.counters.not_passed++;
            return;
        }
        IKVI_CHECK(!remember || p->passed_count < r->passed_limit);
        if (remember)
            passed_of(r, p)[p->passed_count++] = next;
        verdict = ikvi_router_send(r, event, &next, 1, true).verdict;
        above = next;
        if (!ikvi_router_alive(r, above))
            return;
    }
}

/* Who was passed the down is passed the up or cancel, wherever it happens. */
static void pass_end(ikv_router *r, pointer *p, const ikv_event *event,
                     ikv_target target)
{
    IKVI_CHECK(p->passed_count <= r->passed_limit);
    for (uint32_t i = 0; i < p->passed_count; i++) {
        ikv_target passed = passed_of(r, p)[i];
        /* The up's own target has had it. */
        if (ikvi_router_alive(r, passed) && !same(passed, target))
            ikvi_router_send(r, event, &passed, 1, true);
    }
    p->passed_count = 0;
}

/* ---------------------------------------------------------------- views -- */

void ikvi_router_resized(ikv_router *r, const ikv_event *event)
{
    /* What can't be a size leaves the one that was. */
    if (event->view >= VIEWS || !ikvi_event_is_good(NULL, event))
        return;
    r->s.sizes[event->view][0] = event->window.width;
    r->s.sizes[event->view][1] = event->window.height;
}

/* OVER5: as far as the view's size is known. */
static bool is_out_of_view(const ikv_router *r, const pointer *p)
{
    const float *size = r->s.sizes[p->view % VIEWS];
    return size[0] > 0 && size[1] > 0 &&
           !(p->x >= 0 && p->y >= 0 && p->x < size[0] && p->y < size[1]);
}

/* ------------------------------------------------------- pointer events -- */

/* The pointer's chain, which is the path to what it is over unless somebody has
 * changed the tree since it came here: then false. */
static bool copy_chain(const ikv_router *r, const pointer *p, path *along)
{
    along->length = p->chain_length;
    memcpy(along->nodes, p->chain, p->chain_length * sizeof p->chain[0]);
    return p->chain_length > 0 && !p->over_untold &&
           p->chain_revision == scene_revision_of(r);
}

/* PATH4: what is stopped changes nothing of what the router keeps. */
static ikv_outcome send_to_pointer(ikv_router *r, pointer *p,
                                   const ikv_event *event)
{
    path along;
    return copy_chain(r, p, &along)
               ? ikvi_router_send(r, event, along.nodes, along.length, false)
               : ikvi_router_send_to(r, event, p->over);
}

/* OVER6: what must be told before any event of a pointer. */
static void arrive(ikv_router *r, pointer *p, ikv_event *event)
{
    ikvi_router_apply_capture(r, p, event);
    p->outside_modal = is_outside_modal(r, p);
    flag_outside(event, p->outside_modal);
    ikvi_router_move_over(r, p, target_of(r, p), event);
}

/* TOUCH6: a pen as a touch. CAP9, TOUCH1: what captures by itself, before the
 * down's handlers. */
static void capture_by_press(ikv_router *r, pointer *p)
{
    path along;
    /* The nearest one that captures by itself comes before it, below. */
    if (p->type != IKV_MOUSE)
        p->pending = p->over;
    if (p->over.bits == 0)
        return;
    if (!copy_chain(r, p, &along))
        ikvi_router_path(r, p->over, &along);
    for (uint32_t i = along.length; i-- > 0;)
        if ((ikvi_router_traits(r, along.nodes[i]) & IKV_CAPTURES) != 0 &&
            ikvi_router_reaches(r, p->seat, along.nodes[i])) {
            p->pending = along.nodes[i];
            return;
        }
}

/* CLICK1: none of a finger that may tap with another one, if that is to be
 * told alone. */
static ikv_target click_of(const ikv_router *r, const pointer *p,
                           const ikv_event *event)
{
    const ikv_target none = {0};
    return r->two_tap_alone && ikvi_gesture_may_tap(r, p, event)
               ? none
               : ikvi_router_click_target(r, p, event);
}

/* A move, which may be a chord's press or release of one more button. */
static ikv_outcome pointer_moved(ikv_router *r, pointer *p, ikv_event *event)
{
    uint16_t bit = ikvi_button_bit(event->pointer.button);
    bool presses = (p->buttons & bit) != 0, releases = bit != 0 && !presses;
    ikv_target click = {0};
    IKVI_CHECK(p->used && r->routing);
    /* Boundary events first, then a drag, then the move itself. */
    arrive(r, p, event);
    ikvi_router_moved(r, p, event);
    ikvi_router_carry(r, p);
    if (presses)
        ikvi_router_press(r, p, event);
    /* CLICK1: who is clicked is settled before the release's handlers. */
    if (releases)
        click = click_of(r, p, event);
    ikv_target target = p->over;
    ikv_outcome outcome = send_to_pointer(r, p, event);
    /* What is captured is passed to nobody. */
    if (p->captured.bits == 0)
        pass_beneath(r, p, event, target, outcome.verdict, false);
    if (presses)
        ikvi_router_pressed(r, p, event);
    /* Refusing the release refuses the click that would follow. */
    if (outcome.verdict & IKV_REFUSE)
        click = (ikv_target){0};
    if (releases)
        ikvi_router_click(r, p, event, click);
    ikvi_gesture_moved(r, p, event);
    if (IKVI_UNLIKELY((p->dragging.bits | p->drag.over.bits) != 0))
        ikvi_drag_moved(r, p, event);
    return outcome;
}

static ikv_outcome pointer_pressed(ikv_router *r, pointer *p, ikv_event *event)
{
    IKVI_CHECK(p->buttons != 0 && (p->buttons & (p->buttons - 1)) == 0);
    p->passed_count = 0;
    arrive(r, p, event);
    ikvi_router_press(r, p, event);
    capture_by_press(r, p);
    /* Kept: a handler may change what the pointer is over. */
    ikv_target pressed = p->over;
    ikv_outcome outcome = send_to_pointer(r, p, event);
    pass_beneath(r, p, event, pressed, outcome.verdict, true);
    if (p->type != IKV_TOUCH && (outcome.verdict & IKV_REFUSE) == 0 &&
        (event->flags & IKV_OUTSIDE) == 0)
        ikvi_router_focus_by_press(r, p->seat, pressed);
    ikvi_router_pressed(r, p, event);
    ikvi_gesture_pressed(r, p, event);
    return outcome;
}

/* It was let go in another view: there it is now, if it is one of ours. */
static void change_view(ikv_router *r, pointer *p, const ikv_event *event)
{
    ikv_event there = *event;
    /* It leaves the one view before it comes into the other. */
    ikvi_router_move_over(r, p, (ikv_target){0}, event);
    there.view = p->view = p->next_view;
    if (!ikv_router_serves(r, p->view) || is_out_of_view(r, p))
        ikvi_router_forget(r, p);
    else
        ikvi_router_move_over(r, p, target_of(r, p), &there);
}

/* After an up or cancel: CAP5, TOUCH3, TOUCH4. */
static void pointer_ended(ikv_router *r, pointer *p, const ikv_event *event,
                          ikv_target target, ikv_target click)
{
    ikv_target none = {0};
    finger_pair tapped;
    pass_end(r, p, event, target);
    /* Asked before the click, told after it. */
    bool both = ikvi_gesture_ended(r, p, event, &tapped);
    ikv_target captured = p->captured;
    p->captured = p->pending = none;
    ikvi_router_lose(r, p, captured, event);
    ikvi_router_click(r, p, event, click);
    if (both)
        ikvi_gesture_tapped(r, &tapped, event);
    ikvi_router_let_up(r, p);
    /* A finger is nowhere once it is lifted; others hover. */
    if (p->type != IKV_TOUCH && p->next_view != p->view)
        change_view(r, p, event);
    else if (p->type == IKV_TOUCH || is_out_of_view(r, p) ||
             (p->outside && same(target_of(r, p), root_of(r)))) {
        ikvi_router_move_over(r, p, none, event);
        ikvi_router_forget(r, p);
    } else if (captured.bits != 0 || p->over_untold) {
        ikvi_router_move_over(r, p, target_of(r, p), event);
    }
}

static ikv_outcome pointer_released(ikv_router *r, pointer *p, ikv_event *event)
{
    IKVI_CHECK(p->used && p->buttons == 0);
    arrive(r, p, event);
    ikvi_router_moved(r, p, event); /* where it is let go counts */
    ikvi_router_carry(r, p);
    ikv_target target = p->over;
    ikv_target click = click_of(r, p, event);
    ikv_outcome outcome = send_to_pointer(r, p, event);
    if (outcome.verdict & IKV_REFUSE)
        click = (ikv_target){0};
    if (IKVI_UNLIKELY((p->dragging.bits | p->drag.over.bits) != 0)) {
        ikvi_drag_moved(r, p, event);
        ikvi_drag_ended(r, p, event, true);
    }
    pointer_ended(r, p, event, target, click);
    return outcome;
}

/* OVER5: out of the view, unless it is captured: then after the release, if it
 * is not back over something. */
static ikv_outcome pointer_left(ikv_router *r, pointer *p, ikv_event *event)
{
    bool captured = p->captured.bits != 0 || p->pending.bits != 0;
    p->outside = captured && p->buttons != 0;
    if (!p->outside)
        ikvi_router_move_over(r, p, (ikv_target){0}, event);
    if (p->buttons == 0)
        ikvi_router_forget(r, p);
    return no_outcome(IKV_OK);
}

/* OVER5: what happens out of the view while nothing captures is nothing but
 * its leaving; a button that is released there makes no click. Where the view's
 * size is not known, a move is a return. */
static bool is_nothing(const ikv_router *r, const pointer *p,
                       const ikv_event *event)
{
    if (p->captured.bits != 0 || p->pending.bits != 0)
        return false;
    /* Away, and its press ends: it began out of view, or was left with it. On
     * its way back it is as one that comes into view. */
    return is_out_of_view(r, p) ||
           (!p->in_view && (event->kind == IKV_KIND_POINTER_UP ||
                            event->kind == IKV_KIND_POINTER_CANCEL));
}

/* OVER5: outside the view nothing hears of it, but its buttons are kept, so
 * that its way back begins right. What is owed is told: the loss to what it
 * captured, the end to what is left of a drag or a pinch. */
static ikv_outcome pointer_away(ikv_router *r, pointer *p, ikv_event *event)
{
    /* Whether a move is a chord does not matter here: buttons are what downs
     * and ups say. */
    uint16_t bit = ikvi_button_bit(event->pointer.button);
    bool up = event->kind == IKV_KIND_POINTER_UP;
    bool cancel = event->kind == IKV_KIND_POINTER_CANCEL; /* of a press */
    bool was_down = cancel || p->buttons != 0;
    if (event->kind == IKV_KIND_POINTER_DOWN)
        p->buttons |= bit;
    else if (up)
        p->buttons &= (uint16_t)~bit;
    ikvi_router_fill_in(p, event, event->pointer.button);
    r->s.counters.outside++;
    if (!was_down && p->buttons != 0) {
        p->press_number = ++r->s.presses; /* whose turn it is to be ended */
        r->s.counters.downs_outside++;
    }
    r->s.counters.ups_outside += was_down && p->buttons == 0;
    if (p->loss_untold)
        ikvi_router_apply_capture(r, p, event);
    ikvi_router_no_hold(r, p);
    if (up || cancel)
        p->clicking = (ikv_target){0};
    if (was_down && p->buttons == 0) {
        pass_end(r, p, event, (ikv_target){0});
        ikvi_gesture_lost(r, p, event);
        ikvi_drag_ended(r, p, event, false);
    }
    if (p->buttons == 0)
        ikvi_router_let_up(r, p);
    /* Nothing above forgets it, but a handler may have. */
    if (p->used)
        pointer_left(r, p, event);
    return no_outcome(IKV_OK);
}

static ikv_outcome pointer_cancelled(ikv_router *r, pointer *p,
                                     ikv_event *event)
{
    if (is_nothing(r, p, event))
        return pointer_away(r, p, event);
    /* MODAL2: who had it is told, though it is out of reach by now. */
    if (p->spent != 0)
        ikvi_router_apply_capture(r, p, event);
    else
        arrive(r, p, event);
    ikv_target target = p->over;
    ikv_outcome outcome = send_to_pointer(r, p, event);
    ikvi_drag_ended(r, p, event, false);
    /* No click follows. */
    pointer_ended(r, p, event, target, (ikv_target){0});
    return outcome;
}

/* Why the event makes no sense with what is known of its pointer; NULL if it
 * does. */
static const char *nonsense(const pointer *p, const ikv_event *event)
{
    /* From the outside anything may come: each kind says what it needs. */
    uint16_t bit = ikvi_button_bit(event->pointer.button);
    bool touch = event->pointer.type == IKV_TOUCH;
    uint16_t buttons = p != NULL ? p->buttons : 0;
    uint16_t known = p != NULL ? p->buttons | p->spent : 0;
    if (event->pointer.type > IKV_TOUCH)
        return "its type is none of mouse, pen, touch";
    if (p != NULL && p->type != event->pointer.type &&
        event->kind != IKV_KIND_POINTER_CANCEL)
        return "the pointer was of another type before";
    switch (event->kind) {
    case IKV_KIND_POINTER_DOWN:
        if (bit == 0)
            return "its button is none of 0 to 15";
        return (buttons & bit) != 0 ? "the button is down already" : NULL;
    case IKV_KIND_POINTER_UP:
        if (bit == 0)
            return "its button is none of 0 to 15";
        return (known & bit) == 0 ? "the button is not down" : NULL;
    case IKV_KIND_POINTER_CANCEL:
        return known != 0 ? NULL : "the pointer is not down";
    case IKV_KIND_POINTER_LEAVE:
        if (p == NULL)
            return "the pointer is not known";
        /* It has come into another one before it is told. */
        return buttons == 0 && p->view != event->view
                   ? "the pointer is in another view"
                   : NULL;
    case IKV_KIND_POINTER_MOVE:
        return !touch || known != 0 ? NULL : "the touch is not down";
    default:
        return "ports push down, up, move, cancel and leave";
    }
}

/* BTN1: the first button is a down, others are moves. */
static ikv_outcome route_down(ikv_router *r, pointer *p, ikv_event *event)
{
    bool first = p->buttons == 0;
    int8_t button = event->pointer.button;
    p->buttons |= ikvi_button_bit(button);
    ikvi_router_fill_in(p, event, button);
    if (first)
        return pointer_pressed(r, p, event);
    event->kind = IKV_KIND_POINTER_MOVE;
    return pointer_moved(r, p, event);
}

static ikv_outcome route_up(ikv_router *r, pointer *p, ikv_event *event)
{
    int8_t button = event->pointer.button;
    p->buttons &= (uint16_t)~ikvi_button_bit(button);
    /* A pointer that is down stays in its view; where it is let go counts after
     * that. */
    p->next_view = event->view;
    ikvi_router_fill_in(p, event, button);
    if (p->buttons == 0)
        return pointer_released(r, p, event);
    event->kind = IKV_KIND_POINTER_MOVE;
    return pointer_moved(r, p, event);
}

static ikv_outcome route_end(ikv_router *r, pointer *p, ikv_event *event)
{
    bool cancel = event->kind == IKV_KIND_POINTER_CANCEL;
    event->pointer.type = p->type;
    p->next_view = p->view;
    if (cancel)
        p->buttons = 0;
    else
        take_position(p, event); /* OVER4: where it left */
    ikvi_router_fill_in(p, event, IKV_NO_BUTTON);
    return cancel ? pointer_cancelled(r, p, event) : pointer_left(r, p, event);
}

/* MODAL2: what goes on of a press that was cancelled. A finger is nowhere until
 * it is down again; a mouse or pen moves on, and its release is a move. True if
 * there is nothing to tell. */
static bool is_of_spent(ikv_router *r, pointer *p, ikv_event *event)
{
    uint16_t bit = ikvi_button_bit(event->pointer.button);
    bool up = event->kind == IKV_KIND_POINTER_UP && (p->spent & bit) != 0;
    bool cancel = event->kind == IKV_KIND_POINTER_CANCEL && p->buttons == 0;
    if (event->kind == IKV_KIND_POINTER_DOWN || up)
        p->spent &= (uint16_t)~bit;
    if (cancel)
        p->spent = 0;
    if (p->type == IKV_TOUCH && p->buttons == 0) {
        if (p->spent == 0)
            ikvi_router_forget(r, p);
        return event->kind != IKV_KIND_POINTER_DOWN;
    }
    if (up) {
        event->kind = IKV_KIND_POINTER_MOVE;
        event->pointer.button = IKV_NO_BUTTON;
    }
    return cancel;
}

void ikvi_router_drop_spent(ikv_router *r, const ikv_event *cause)
{
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (!p->used || p->spent == 0 ||
            !ikvi_router_belongs(cause, p->device, p->view))
            continue;
        p->spent = 0;
        if (p->type == IKV_TOUCH && p->buttons == 0)
            ikvi_router_forget(r, p);
    }
}

/* In the order of the rules: is it a position, does it make sense (TOUCH, BTN),
 * is there room, then what it does. Modifiers are those that the router has
 * seen go down, joined with the port's. */
ikv_outcome ikvi_router_pointer(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    bool ends = event.kind == IKV_KIND_POINTER_CANCEL ||
                event.kind == IKV_KIND_POINTER_LEAVE;
    if (!ikvi_pointer_is_good(&event)) {
        r->s.counters.not_finite++;
        return no_outcome(IKV_BAD_VALUE);
    }
    pointer *p = ikvi_router_find(r, event.device, event.pointer.pointer);
    const char *why = nonsense(p, &event);
    if (why != NULL)
        return ikvi_router_meaningless(r, &event, why);
    if (p != NULL && IKVI_UNLIKELY(p->spent != 0)) {
        if (is_of_spent(r, p, &event))
            return no_outcome(IKV_OK);
        p = p->used ? p : NULL;
    }
    if (p == NULL && (p = add_pointer(r, &event)) == NULL) {
        r->s.counters.too_many++;
        return no_outcome(IKV_FULL_POINTERS);
    }
    event.modifiers |= ikvi_router_modifiers(r, event.seat);
    if (ends)
        return route_end(r, p, &event);
    take_position(p, &event);
    if (is_nothing(r, p, &event))
        return pointer_away(r, p, &event);
    if (event.kind == IKV_KIND_POINTER_DOWN)
        return route_down(r, p, &event);
    if (event.kind == IKV_KIND_POINTER_UP)
        return route_up(r, p, &event);
    ikvi_router_fill_in(p, &event, IKV_NO_BUTTON);
    return pointer_moved(r, p, &event);
}

void ikvi_router_end(ikv_router *r, pointer *p, uint64_t time_ns, bool leaves)
{
    bool down = p->buttons != 0;
    p->buttons = 0;
    p->next_view = p->view;
    /* Made of what is known of it: no port has pushed this. */
    ikv_event event = ikvi_router_event_of(
        p, down ? IKV_KIND_POINTER_CANCEL : IKV_KIND_POINTER_LEAVE, time_ns);
    event.flags |= IKV_SYNTHETIC;
    if (down)
        pointer_cancelled(r, p, &event);
    if (leaves && p->used)
        pointer_left(r, p, &event);
}

/* -------------------------------------------------------- cancelling -- */

/* MODAL2: whether what is going on of a pointer is out of reach: by who has it,
 * or will have it, or was pressed. */
static bool is_out_of_reach(const ikv_router *r, const pointer *p)
{
    ikv_target holder = p->over;
    if (p->pressed.bits != 0)
        holder = p->pressed;
    if (p->pending.bits != 0)
        holder = p->pending;
    return !ikvi_router_reaches(r, p->seat, holder);
}

/* The one that went down first; NULL when none is left. */
static pointer *next_to_cancel(const ikv_router *r)
{
    pointer *next = NULL;
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (!p->used || p->buttons == 0 ||
            (next != NULL && p->press_number > next->press_number))
            continue;
        if ((r->s.cancels >> p->seat & 1) != 0 ||
            ((r->s.cancels_outside >> p->seat & 1) != 0 &&
             is_out_of_reach(r, p)))
            next = p;
    }
    return next;
}

static void apply_cancels(ikv_router *r)
{
    pointer *p;
    if (IKVI_LIKELY((r->s.cancels | r->s.cancels_outside) == 0))
        return;
    /* Asked anew after each: handlers may have ended others. */
    while ((p = next_to_cancel(r)) != NULL) {
        p->spent |= p->buttons;
        ikvi_router_end(r, p, r->s.time_ns, false);
    }
    r->s.cancels = r->s.cancels_outside = 0;
}

void ikvi_router_end_routing(ikv_router *r)
{
    apply_cancels(r);
    r->routing = false;
}

void ikvi_router_reseat(ikv_router *router, const ikv_event *event)
{
    for (uint32_t i = 0; i < router->capacity; i++) {
        pointer *p = pointer_at(router, i);
        if (p->used && p->device == event->device)
            p->seat = event->seat;
    }
    for (uint32_t i = 0; i < router->s.key_count; i++)
        if (key_at(router, i)->device == event->device)
            key_at(router, i)->seat = event->seat;
    /* What is modal for that player may shut out what is pressed, or hovered. */
    if (ikv_router_modal(router, event->seat).bits != 0)
        router->s.cancels_outside |= (uint8_t)(1u << event->seat);
    router->s.revision = ~scene_revision_of(router);
    if (router->routing)
        return; /* done when what is routed has been told */
    router->routing = true;
    ikvi_router_end_routing(router);
}

void ikvi_router_elsewhere(ikv_router *router, const ikv_event *event)
{
    uint16_t id = event->pointer.pointer;
    if (event->kind == IKV_KIND_WHEEL)
        id = event->wheel.pointer;
    else if (event->kind == IKV_KIND_PEN_DISTANCE)
        id = event->pen.pointer;
    pointer *p = ikvi_router_find(router, event->device, id);
    if (router->routing || p == NULL || p->type == IKV_TOUCH || p->buttons != 0)
        return;
    router->routing = true;
    router->s.time_ns = event->time_ns;
    ikvi_router_end(router, p, event->time_ns, true);
    ikvi_router_end_routing(router);
}

/* -------------------------------------------------------- wheel and pen -- */

/* OVER6: a hovering mouse is where it turned its wheel, a pen where it said how
 * far it is. */
static void hover_to(ikv_router *r, pointer *p, const ikv_event *event,
                     const pointer *at)
{
    if (p == NULL || p->type == IKV_TOUCH || p->buttons != 0)
        return;
    p->outside = false;
    p->x = at->x;
    p->y = at->y;
    p->view = event->view;
    p->modifiers = event->modifiers;
    ikv_event cause =
        ikvi_router_event_of(p, IKV_KIND_POINTER_MOVE, event->time_ns);
    arrive(r, p, &cause);
}

/* CAP8: by its place; capture does not matter. */
static ikv_outcome route_at(ikv_router *r, ikv_event *event, pointer *at)
{
    if (!ikvi_event_is_good(NULL, event)) {
        r->s.counters.not_finite++;
        return no_outcome(IKV_BAD_VALUE);
    }
    /* OVER5: nobody hears what happens out of the view. */
    if (is_out_of_view(r, at)) {
        r->s.counters.outside++;
        return no_outcome(IKV_OK);
    }
    event->modifiers |= ikvi_router_modifiers(r, event->seat);
    pointer *p = ikvi_router_find(r, event->device, at->id);
    hover_to(r, p, event, at);
    if (p != NULL && event->kind == IKV_KIND_WHEEL)
        event->wheel.buttons = p->buttons;
    ikv_target target = target_of(r, at);
    flag_outside(event, is_outside_modal(r, at));
    ikv_outcome outcome = ikvi_router_send_to(r, event, target);
    pass_beneath(r, at, event, target, outcome.verdict, false);
    return outcome;
}

ikv_outcome ikvi_router_wheel(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    pointer at = {.view = event.view,
                  .seat = event.seat,
                  .id = event.wheel.pointer,
                  .type = event.wheel.type,
                  .x = event.wheel.x,
                  .y = event.wheel.y};
    return route_at(r, &event, &at);
}

ikv_outcome ikvi_router_pen(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    pointer at = {.view = event.view,
                  .seat = event.seat,
                  .id = event.pen.pointer,
                  .type = IKV_PEN,
                  .x = event.pen.x,
                  .y = event.pen.y};
    return route_at(r, &event, &at);
}

/* ------------------------------------------ changes beneath the pointer -- */

bool ikvi_router_is_stale(const ikv_router *router)
{
    return scene_revision_of(router) != router->s.revision;
}

/* OVER7: it counts as the pointer's next event. */
void ikv_router_retest(ikv_router *router, uint64_t time_ns)
{
    if (router == NULL || router->routing)
        return;
    uint64_t revision = scene_revision_of(router);
    if (revision == router->s.revision)
        return;
    router->routing = true;
    router->s.time_ns = time_ns;
    ikvi_router_check_focus(router, time_ns);
    /* Before handlers: what they change is tested the next time. */
    router->s.revision = revision;
    for (uint32_t i = 0; i < router->capacity; i++) {
        pointer *p = pointer_at(router, i);
        if (!p->used || !p->in_view || p->type == IKV_TOUCH || p->outside)
            continue;
        ikv_event cause =
            ikvi_router_event_of(p, IKV_KIND_POINTER_MOVE, time_ns);
        cause.flags |= IKV_SYNTHETIC;
        arrive(router, p, &cause);
    }
    ikvi_router_end_routing(router);
}

static void forget_drag(drag_state *drag, ikv_target target)
{
    if (same(drag->over, target))
        *drag = (drag_state){{0}, false, false};
}

/* GONE1, GONE2. What was beneath it in the chain may have gone elsewhere in the
 * tree since, and is still entered. */
static void forget_target(pointer *p, ikv_target target, ikv_target former)
{
    ikv_target none = {0};
    uint32_t kept = 0;
    for (uint32_t i = 0; i < p->chain_length; i++)
        if (!same(p->chain[i], target))
            p->chain[kept++] = p->chain[i];
    p->chain_length = kept;
    if (p->in_view && same(p->over, target)) {
        p->over = former;
        /* Its leave and out can't be told; the next over is due in any case. */
        p->over_untold = true;
    }
    if (same(p->captured, target)) {
        p->captured = none;
        p->loss_untold = p->capture_told;
        p->capture_told = false;
    }
    if (same(p->pending, target))
        p->pending = none;
    if (same(p->attached, target))
        p->attached = none;
    if (same(p->dragging, target)) {
        p->dragging = none;
        p->drag_told = false; /* what is dragged next was not told of */
    }
    forget_drag(&p->drag, target);
    if (same(p->pressed, target))
        p->pressed = none;
    if (same(p->clicking, target))
        p->clicking = none;
}

void ikv_router_removed(ikv_router *router, ikv_target target,
                        ikv_target former_parent)
{
    if (router == NULL || same(target, root_of(router)))
        return;
    for (uint32_t i = 0; i < router->capacity; i++)
        if (pointer_at(router, i)->used)
            forget_target(pointer_at(router, i), target, former_parent);
    forget_drag(&router->s.foreign.drag, target);
    ikvi_gesture_removed(router, target);
    ikvi_router_unfocus(router, target);
}
