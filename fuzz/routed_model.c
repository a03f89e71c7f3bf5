/* routed_model.c - the routing rules (docs/rules.md), one after the other, as
 * plainly as they can be said: no paths that are kept, no hints, no revisions of
 * what was looked at.
 */
#include "routed_model.h"

static uint32_t bit_of(int button)
{
    static const uint32_t bits[] = {1, 4, 2};
    return button < 0 ? 0 : bits[button];
}

/* ----------------------------------------------------------------- telling -- */

static ikv_verdict tell(model *m, int who, uint32_t kind, int target,
                        int related, int number, bool passed)
{
    const hand *h = &m->hands[who];
    if (!is_there(m, target))
        return IKV_CONTINUE;
    const told what = {.kind = kind,
                       .hand = who,
                       .target = target,
                       .related = related,
                       .button = m->button,
                       .buttons = h->buttons,
                       .flags = m->flags | (h->primary ? IKV_PRIMARY : 0),
                       .number = number,
                       .view = h->view,
                       .seat = h->seat,
                       .x = h->x,
                       .y = h->y,
                       .passed = passed};
    m->s.tell(&m->s, &what);
    return act(&m->s, who);
}

static ikv_verdict tell_of(model *m, int who, uint32_t kind, int target)
{
    return tell(m, who, kind, target, NOBODY, 0, false);
}

/* Of a press: it bears the button that went down first. */
static ikv_verdict tell_press(model *m, int who, uint32_t kind)
{
    int button = m->button;
    m->button = m->hands[who].press_button;
    ikv_verdict verdict = tell_of(m, who, kind, m->hands[who].pressed);
    m->button = button;
    return verdict;
}

/* --------------------------------------------------------------- boundaries -- */

static bool holds(const int *list, int count, int target)
{
    for (int i = 0; i < count; i++)
        if (list[i] == target)
            return true;
    return false;
}

/* OVER1 to OVER3, GONE1, GONE4, GONE5. */
static void move_over(model *m, int who, int to)
{
    hand *h = &m->hands[who];
    const hand was = *h;
    int path[BOXES + 1], count = to != NOBODY ? path_to(&m->s, to, path) : 0;
    bool stays = h->over != NOBODY && h->over == to && !h->owed;
    if (h->over == NOBODY && to == NOBODY)
        return;
    h->over = to;
    h->owed = false;
    memcpy(h->entered, path, sizeof path[0] * (size_t)count);
    h->entered_count = count;
    if (was.over != NOBODY && !was.owed && !stays)
        tell(m, who, IKV_KIND_POINTER_OUT, was.over, to, 0, false);
    for (int i = was.entered_count; i-- > 0;)
        if (!holds(path, count, was.entered[i]))
            tell(m, who, IKV_KIND_POINTER_LEAVE, was.entered[i], to, 0, false);
    if (to != NOBODY && !stays)
        tell(m, who, IKV_KIND_POINTER_OVER, to, was.over, 0, false);
    for (int i = 0; i < count; i++)
        if (!holds(was.entered, was.entered_count, path[i]))
            tell(m, who, IKV_KIND_POINTER_ENTER, path[i], was.over, 0, false);
}

static bool is_out_of_view(const hand *h)
{
    return h->x < 0 || h->y < 0 || h->x >= VIEW || h->y >= VIEW;
}

/* MODAL1: the nth that the seat reaches. */
static int hit(const model *m, const hand *h, uint32_t nth)
{
    int found;
    for (uint32_t at = 0;
         (found = box_at(&m->s, h->view, h->x, h->y, at)) != NOBODY; at++)
        if (reaches(m, h->seat, found) && nth-- == 0)
            break;
    return found;
}

static int target_of(const model *m, const hand *h)
{
    int found = hit(m, h, 0);
    if (is_there(m, h->captured))
        return h->captured;
    if (found != NOBODY)
        return found;
    return modal_of(m, h->seat) != NOBODY ? modal_of(m, h->seat) : ROOT;
}

/* ------------------------------------------------------- dragging onto others -- */

static ikv_verdict tell_drag(model *m, int who, uint32_t kind, int target,
                             int related, bool accepted)
{
    const hand *h = &m->hands[who];
    if (!is_there(m, target))
        return IKV_CONTINUE;
    const told what = {.kind = kind,
                       .hand = who,
                       .target = target,
                       .related = related,
                       .flags = (m->flags & IKV_SYNTHETIC) |
                                (h->primary ? IKV_PRIMARY : 0),
                       .view = h->view,
                       .seat = h->seat,
                       .number = accepted,
                       .x = h->x,
                       .y = h->y};
    m->s.tell(&m->s, &what);
    return act(&m->s, who);
}

static int find_beneath(const model *m, const hand *h)
{
    int found;
    for (uint32_t nth = 0; (found = hit(m, h, nth)) != NOBODY; nth++)
        if (!is_within(&m->s, found, h->dragging))
            return found;
    return modal_of(m, h->seat) == NOBODY ? ROOT : NOBODY;
}

/* DRAG1: in HTML's order. */
static void drag_onto(model *m, int who, int to)
{
    hand *h = &m->hands[who];
    int old = h->beneath, dragged = h->dragging;
    h->beneath = to;
    h->accepts = h->accepted_entry = false;
    if (to != NOBODY) {
        ikv_verdict verdict =
            tell_drag(m, who, IKV_KIND_DRAG_ENTER, to, dragged, false);
        h->accepts = h->accepted_entry =
            h->beneath == to && (verdict & IKV_ACCEPT) != 0;
    }
    tell_drag(m, who, IKV_KIND_DRAG_LEAVE, old, dragged, false);
}

/* DRAG1, DRAG2. */
static void drag_moved(model *m, int who)
{
    hand *h = &m->hands[who];
    if (h->dragging == NOBODY)
        drag_onto(m, who, NOBODY);
    if (h->dragging == NOBODY || !h->dragged || h->captured != h->dragging)
        return;
    h->drag_told = true;
    int to = find_beneath(m, h);
    if (to != h->beneath)
        drag_onto(m, who, to);
    int over = h->beneath;
    if (over == NOBODY || h->dragging == NOBODY)
        return;
    ikv_verdict verdict =
        tell_drag(m, who, IKV_KIND_DRAG_OVER, over, h->dragging, h->accepts);
    if (h->beneath == over)
        h->accepts = h->accepted_entry || (verdict & IKV_ACCEPT) != 0;
}

/* DRAG3. */
static void drag_ended(model *m, int who, bool released)
{
    hand *h = &m->hands[who];
    int dragged = h->dragging, over = h->beneath;
    bool was_told = h->drag_told;
    bool dropped = released && h->accepts && dragged != NOBODY;
    h->dragging = h->beneath = NOBODY;
    h->accepts = h->accepted_entry = h->drag_told = false;
    tell_drag(m, who, dropped ? IKV_KIND_DRAG_DROP : IKV_KIND_DRAG_LEAVE, over,
              dragged, dropped);
    if (was_told)
        tell_drag(m, who, IKV_KIND_DRAG_END, dragged, dropped ? over : NOBODY,
                  dropped);
}

/* CAP2, GONE2. */
static void apply_capture(model *m, int who)
{
    hand *h = &m->hands[who];
    int old = h->captured, now = h->pending;
    if (h->loss_owed) {
        h->loss_owed = false;
        tell_of(m, who, IKV_KIND_POINTER_CAPTURE_LOST, ROOT);
    }
    now = is_there(m, now) ? now : NOBODY;
    if (now == old)
        return;
    bool was_told = h->told, drags = now != NOBODY && now == h->to_drag;
    h->captured = now;
    h->told = false;
    h->to_drag = NOBODY;
    drag_ended(m, who, false);
    if (old != NOBODY && was_told)
        tell_of(m, who, IKV_KIND_POINTER_CAPTURE_LOST,
                is_there(m, old) ? old : ROOT);
    if (old != NOBODY)
        gesture_lost(m, who);
    if (!is_there(m, now))
        return;
    if (drags)
        h->dragging = now;
    move_over(m, who, now);
    if (!is_there(m, now))
        return;
    h->told = true;
    tell_of(m, who, IKV_KIND_POINTER_CAPTURE_GOT, now);
}

/* OVER6. */
static void arrive(model *m, int who)
{
    hand *h = &m->hands[who];
    apply_capture(m, who);
    h->outside = modal_of(m, h->seat) != NOBODY && !is_there(m, h->captured) &&
                 hit(m, h, 0) == NOBODY;
    m->flags &= ~(uint32_t)IKV_OUTSIDE;
    m->flags |= h->outside ? IKV_OUTSIDE : 0;
    move_over(m, who, target_of(m, h));
}

/* ------------------------------------------------------------ pass-through -- */

/* HIT4. */
static void pass_on(model *m, int who, uint32_t kind, int above,
                    ikv_verdict verdict, bool remember)
{
    hand *h = &m->hands[who];
    for (uint32_t nth = 1;
         above != ROOT && is_there(m, above) && m->s.boxes[above].passes &&
         (verdict & IKV_STOP) == 0;
         nth++) {
        above = hit(m, h, nth);
        if (above == NOBODY)
            return;
        if (remember)
            h->passed[h->passed_count++] = above;
        verdict = tell(m, who, kind, above, NOBODY, 0, true);
    }
}

static void pass_end(model *m, int who, uint32_t kind, int target)
{
    hand *h = &m->hands[who];
    for (uint32_t i = 0; i < h->passed_count; i++)
        if (h->passed[i] != target)
            tell(m, who, kind, h->passed[i], NOBODY, 0, true);
    h->passed_count = 0;
}

/* ----------------------------------------------------------------- presses -- */

static void let_go(hand *h)
{
    h->pressed = h->slot = h->dragging = h->to_drag = NOBODY;
    h->holds = false;
}

static void forget(model *m, int who)
{
    hand *h = &m->hands[who];
    let_go(h);
    if (h->spent == 0)
        *h = (hand){.over = NOBODY,
                    .dragging = NOBODY,
                    .to_drag = NOBODY,
                    .beneath = NOBODY};
}

static void press(model *m, int who)
{
    hand *h = &m->hands[who];
    h->slot = h->over;
    h->pressed_outside = h->outside;
    if ((h->buttons & (h->buttons - 1)) != 0)
        return;
    h->pressed = h->over;
    h->press_x = h->x;
    h->press_y = h->y;
    h->press_button = m->button;
    h->turn = ++m->turns;
    h->dragged = h->menu_sent = false;
    h->holds = true;
    h->hold_ms = m->now_ms + HOLD_MS;
}

static bool is_beyond(float dx, float dy, float slop)
{
    return dx * dx + dy * dy > slop * slop;
}

/* CLICK2: beyond the slop it is a drag, once. */
static void find_drag(model *m, int who)
{
    hand *h = &m->hands[who];
    float slop = who == 0 ? 4 : 12;
    if (h->pressed == NOBODY || h->dragged ||
        !is_beyond(h->x - h->press_x, h->y - h->press_y, slop))
        return;
    h->dragged = true;
    h->holds = false;
    tell_press(m, who, IKV_KIND_POINTER_DRAG);
}

static void send_holds(model *m, uint64_t until_ms)
{
    for (;;) {
        int next = NOBODY;
        for (int i = 0; i < HANDS; i++) {
            const hand *h = &m->hands[i];
            if (h->holds && h->hold_ms <= until_ms &&
                (next == NOBODY || h->hold_ms < m->hands[next].hold_ms ||
                 (h->hold_ms == m->hands[next].hold_ms &&
                  h->turn < m->hands[next].turn)))
                next = i;
        }
        if (next == NOBODY)
            return;
        hand *h = &m->hands[next];
        h->holds = false;
        ikv_verdict verdict = tell_press(m, next, IKV_KIND_POINTER_HOLD);
        if (!is_touch(next) || (verdict & IKV_REFUSE) != 0 ||
            !is_there(m, h->pressed))
            continue;
        h->menu_sent = true;
        tell_press(m, next, IKV_KIND_POINTER_MENU);
    }
}

int common_of(const model *m, int a, int b)
{
    int pa[BOXES + 1], pb[BOXES + 1], common = NOBODY;
    if (!is_there(m, a) || !is_there(m, b))
        return NOBODY;
    int of_a = path_to(&m->s, a, pa), of_b = path_to(&m->s, b, pb);
    for (int i = 0; i < of_a && i < of_b && pa[i] == pb[i]; i++)
        common = pa[i];
    return common;
}

/* CLICK1, GONE3; none of a finger that may tap with another, if only that is
 * to be told. */
static int clicked(model *m, int who, uint32_t kind)
{
    const hand *h = &m->hands[who];
    if ((m->s.two_tap_alone && gesture_may_tap(m, who, kind)) ||
        !is_there(m, h->slot) ||
        (is_touch(who) && (h->dragged || h->menu_sent)) ||
        (h->dragged && h->dragging != NOBODY)) /* DRAG4 */
        return NOBODY;
    if (h->captured != NOBODY)
        return h->captured;
    return common_of(m, h->slot, h->over);
}

/* CLICK2: how many in a row this one is. */
static int count_click(model *m, int who)
{
    const hand *h = &m->hands[who];
    last_click now = {1, device_of(who), m->now_ms, h->x, h->y};
    for (int i = 0; i < CLICKS; i++) {
        last_click *c = &m->clicks[i];
        if (c->count > 0 && c->device == now.device &&
            m->now_ms - c->time_ms <= HOLD_MS &&
            !is_beyond(h->x - c->x, h->y - c->y, 4)) {
            now.count = c->count + 1;
            *c = now;
            return now.count;
        }
    }
    m->clicks[m->click_count++ % CLICKS] = now;
    return 1;
}

static void tell_click(model *m, int who, int target)
{
    hand *h = &m->hands[who];
    bool primary = m->button == IKV_PRIMARY_BUTTON;
    uint32_t flags = m->flags;
    int count = 1;
    h->slot = NOBODY;
    if (target == NOBODY)
        return;
    if (primary)
        count = count_click(m, who);
    /* MODAL1. */
    if (!h->pressed_outside)
        m->flags &= ~(uint32_t)IKV_OUTSIDE;
    bool inside = (m->flags & IKV_OUTSIDE) == 0;
    tell(m, who, primary ? IKV_KIND_POINTER_CLICK : IKV_KIND_POINTER_AUXILIARY,
         target, NOBODY, count, false);
    if (count % 2 == 0)
        tell(m, who, IKV_KIND_POINTER_DOUBLE, target, NOBODY, count, false);
    if (is_touch(who) && inside)
        focus_by_press(m, h->seat, target);
    m->flags = flags;
}

/* ------------------------------------------------------------------ events -- */

/* CAP9, TOUCH1, TOUCH6. */
static void capture_by_press(model *m, int who)
{
    hand *h = &m->hands[who];
    if (who != 0)
        h->pending = h->over;
    for (int at = h->over; at != ROOT; at = m->s.boxes[at].parent)
        if (m->s.boxes[at].captures && reaches(m, h->seat, at)) {
            h->pending = at;
            return;
        }
}

static void menu_of(model *m, int who, bool goes_down)
{
    if (goes_down && m->button == IKV_SECONDARY_BUTTON)
        tell_of(m, who, IKV_KIND_POINTER_MENU, m->hands[who].slot);
}

static void down(model *m, int who)
{
    hand *h = &m->hands[who];
    h->passed_count = 0;
    arrive(m, who);
    press(m, who);
    capture_by_press(m, who);
    int target = h->over;
    ikv_verdict verdict = tell_of(m, who, IKV_KIND_POINTER_DOWN, target);
    pass_on(m, who, IKV_KIND_POINTER_DOWN, target, verdict, true);
    if (!is_touch(who) && (verdict & IKV_REFUSE) == 0 &&
        (m->flags & IKV_OUTSIDE) == 0)
        focus_by_press(m, h->seat, target);
    menu_of(m, who, true);
    gesture_pressed(m, who);
}

/* BTN1: also a button that goes down or up while another is down. */
static void moved(model *m, int who, bool goes_down, bool goes_up)
{
    hand *h = &m->hands[who];
    arrive(m, who);
    find_drag(m, who);
    if (goes_down)
        press(m, who);
    int click = goes_up ? clicked(m, who, IKV_KIND_POINTER_MOVE) : NOBODY,
        target = h->over;
    ikv_verdict verdict = tell_of(m, who, IKV_KIND_POINTER_MOVE, target);
    if (h->captured == NOBODY)
        pass_on(m, who, IKV_KIND_POINTER_MOVE, target, verdict, false);
    menu_of(m, who, goes_down);
    if (goes_up)
        tell_click(m, who, (verdict & IKV_REFUSE) != 0 ? NOBODY : click);
    gesture_moved(m, who);
    if (h->dragging != NOBODY || h->beneath != NOBODY)
        drag_moved(m, who);
}

/* CAP5, TOUCH3, TOUCH4. */
static void ended(model *m, int who, uint32_t kind, int target, int click)
{
    hand *h = &m->hands[who];
    finger_pair tapped;
    pass_end(m, who, kind, target);
    bool both = gesture_ended(m, who, kind, &tapped);
    int captured = h->captured;
    bool owed = h->loss_owed, was_told = captured != NOBODY && h->told;
    h->captured = h->pending = NOBODY;
    h->told = h->loss_owed = false;
    if (owed || was_told)
        tell_of(m, who, IKV_KIND_POINTER_CAPTURE_LOST,
                !owed && is_there(m, captured) ? captured : ROOT);
    tell_click(m, who, click);
    if (both)
        gesture_tapped(m, who, &tapped);
    let_go(h);
    if (!is_touch(who) && h->next_view != h->view) {
        move_over(m, who, NOBODY);
        h->view = h->next_view;
        if (is_out_of_view(h))
            forget(m, who);
        else
            move_over(m, who, target_of(m, h));
    } else if (is_touch(who) || is_out_of_view(h) ||
               (h->left && target_of(m, h) == ROOT)) {
        move_over(m, who, NOBODY);
        forget(m, who);
    } else if (captured != NOBODY || h->owed) {
        move_over(m, who, target_of(m, h));
    }
}

static void up(model *m, int who)
{
    hand *h = &m->hands[who];
    arrive(m, who);
    find_drag(m, who);
    int target = h->over, click = clicked(m, who, IKV_KIND_POINTER_UP);
    ikv_verdict verdict = tell_of(m, who, IKV_KIND_POINTER_UP, target);
    if (h->dragging != NOBODY || h->beneath != NOBODY) {
        drag_moved(m, who);
        drag_ended(m, who, true);
    }
    ended(m, who, IKV_KIND_POINTER_UP, target,
          (verdict & IKV_REFUSE) != 0 ? NOBODY : click);
}

/* OVER5. */
static void leave(model *m, int who)
{
    hand *h = &m->hands[who];
    h->left =
        (h->captured != NOBODY || h->pending != NOBODY) && h->buttons != 0;
    if (!h->left)
        move_over(m, who, NOBODY);
    if (h->buttons == 0)
        forget(m, who);
}

static bool is_nothing(const hand *h, bool ends)
{
    return h->captured == NOBODY && h->pending == NOBODY &&
           (is_out_of_view(h) || (h->over == NOBODY && ends));
}

/* OVER5: out of the view its buttons are kept, and nothing is told. */
static void away(model *m, int who, uint32_t kind, bool was_down)
{
    hand *h = &m->hands[who];
    if (!was_down && h->buttons != 0)
        h->turn = ++m->turns;
    apply_capture(m, who);
    h->holds = false;
    if (kind != IKV_KIND_POINTER_DOWN && kind != IKV_KIND_POINTER_MOVE)
        h->slot = NOBODY;
    if (was_down && h->buttons == 0) {
        pass_end(m, who, kind, NOBODY);
        gesture_lost(m, who);
        drag_ended(m, who, false);
    }
    if (h->buttons == 0)
        let_go(h);
    leave(m, who);
}

static void cancelled(model *m, int who)
{
    hand *h = &m->hands[who];
    h->buttons = 0;
    if (is_nothing(h, true)) {
        away(m, who, IKV_KIND_POINTER_CANCEL, true);
        return;
    }
    if (h->spent != 0)
        apply_capture(m, who);
    else
        arrive(m, who);
    int target = h->over;
    tell_of(m, who, IKV_KIND_POINTER_CANCEL, target);
    drag_ended(m, who, false);
    ended(m, who, IKV_KIND_POINTER_CANCEL, target, NOBODY);
}

/* -------------------------------------------------------------- the system -- */

static void end_hand(model *m, int who, bool leaves)
{
    uint32_t flags = m->flags;
    int button = m->button;
    m->flags = IKV_SYNTHETIC;
    m->button = IKV_NO_BUTTON;
    m->hands[who].next_view = m->hands[who].view;
    if (m->hands[who].buttons != 0)
        cancelled(m, who);
    if (leaves && m->hands[who].known)
        leave(m, who);
    m->flags = flags;
    m->button = button;
}

/* Of those that are down, and `wanted`, the one that went down first. */
static int next_down(const model *m, bool (*wanted)(const model *m, int who))
{
    int next = NOBODY;
    for (int i = 0; i < HANDS; i++)
        if (m->hands[i].buttons != 0 && wanted(m, i) &&
            (next == NOBODY || m->hands[i].turn < m->hands[next].turn))
            next = i;
    return next;
}

static bool is_blurred(const model *m, int who)
{
    return m->hands[who].known && m->hands[who].view == m->blurred;
}

static bool is_unplugged(const model *m, int who)
{
    return m->hands[who].known && device_of(who) == m->unplugged;
}

/* MODAL2. */
static bool is_to_cancel(const model *m, int who)
{
    const hand *h = &m->hands[who];
    int holder = h->over;
    if (h->pressed != NOBODY)
        holder = h->pressed;
    if (h->pending != NOBODY)
        holder = h->pending;
    return m->cancels[h->seat] ||
           (m->cancels_outside[h->seat] &&
            (holder == NOBODY ? modal_of(m, h->seat) != NOBODY
                              : !reaches(m, h->seat, holder)));
}

static void end_routing(model *m)
{
    int who;
    while ((who = next_down(m, is_to_cancel)) != NOBODY) {
        m->hands[who].spent |= m->hands[who].buttons;
        end_hand(m, who, false);
    }
    memset(m->cancels, 0, sizeof m->cancels);
    memset(m->cancels_outside, 0, sizeof m->cancels_outside);
    m->routing = false;
}

static void release_all(model *m, const input *what)
{
    bool blurs = what->kind == BLURS;
    int who;
    m->blurred = what->view;
    m->unplugged = device_of(what->hand);
    for (int i = 0; i < HANDS; i++)
        if (m->hands[i].spent != 0 &&
            (blurs ? is_blurred(m, i) : is_unplugged(m, i))) {
            m->hands[i].spent = 0;
            if (is_touch(i) && m->hands[i].buttons == 0)
                forget(m, i);
        }
    while ((who = next_down(m, blurs ? is_blurred : is_unplugged)) != NOBODY)
        end_hand(m, who, !blurs);
    for (int i = 0; i < HANDS; i++)
        if (!blurs && is_unplugged(m, i))
            end_hand(m, i, true);
    tell_system(m, m->s.seats[device_of(what->hand)],
                blurs ? IKV_KIND_WINDOW_BLUR : IKV_KIND_DEVICE_REMOVE, ROOT,
                NOBODY, 0);
}

/* L10: what is down is the new seat's; what is modal for it may shut it out. */
static void reseat(model *m, const input *what)
{
    for (int i = 0; i < HANDS; i++)
        if (device_of(i) == device_of(what->hand))
            m->hands[i].seat = what->seat;
    if (modal_of(m, what->seat) != NOBODY)
        m->cancels_outside[what->seat] = true;
    m->tested = 0;
    tell_system(m, what->seat, IKV_KIND_DEVICE_SEAT, ROOT, NOBODY, 0);
}

/* -------------------------------------------------------------------- input -- */

static bool makes_sense(const hand *h, const input *what)
{
    uint32_t known = h->buttons | h->spent, bit = bit_of(what->button);
    switch (what->kind) {
    case IKV_KIND_POINTER_DOWN:
        return (h->buttons & bit) == 0;
    case IKV_KIND_POINTER_UP:
        return (known & bit) != 0;
    case IKV_KIND_POINTER_CANCEL:
        return known != 0;
    case IKV_KIND_POINTER_LEAVE:
        return h->known && (h->buttons != 0 || h->view == what->view);
    default:
        return !is_touch(what->hand) || known != 0;
    }
}

/* MODAL2: what goes on of a press that was cancelled; true if that is nothing. */
static bool is_of_spent(model *m, input *what)
{
    hand *h = &m->hands[what->hand];
    uint32_t bit = bit_of(what->button);
    bool releases = what->kind == IKV_KIND_POINTER_UP && (h->spent & bit) != 0;
    bool cancels = what->kind == IKV_KIND_POINTER_CANCEL && h->buttons == 0;
    if (what->kind == IKV_KIND_POINTER_DOWN || releases)
        h->spent &= ~bit;
    if (cancels)
        h->spent = 0;
    if (is_touch(what->hand) && h->buttons == 0) {
        if (h->spent == 0)
            forget(m, what->hand);
        return what->kind != IKV_KIND_POINTER_DOWN;
    }
    if (releases) {
        what->kind = IKV_KIND_POINTER_MOVE;
        what->button = IKV_NO_BUTTON;
    }
    return cancels;
}

/* TOUCH5, BTN2. */
static void meet(model *m, int who)
{
    bool primary = true, taken = true;
    uint32_t place = 0;
    for (int i = 2; is_touch(who) && i < HANDS; i++)
        if (i != who && m->hands[i].known &&
            (m->hands[i].spent == 0 || m->hands[i].buttons != 0))
            primary = false;
    for (; taken; place += taken) {
        taken = false;
        for (int i = 0; i < HANDS; i++)
            taken = taken || (m->hands[i].known && m->hands[i].place == place);
    }
    m->hands[who] = (hand){.known = true,
                           .seat = m->s.seats[device_of(who)],
                           .primary = primary,
                           .place = place,
                           .over = NOBODY,
                           .pending = NOBODY,
                           .captured = NOBODY,
                           .dragging = NOBODY,
                           .to_drag = NOBODY,
                           .beneath = NOBODY,
                           .slot = NOBODY,
                           .pressed = NOBODY};
}

static ikv_status take_pointer(model *m, input what)
{
    int who = what.hand;
    hand *h = &m->hands[who];
    if (!makes_sense(h, &what))
        return IKV_ABSENT;
    if (h->spent != 0 && is_of_spent(m, &what))
        return IKV_OK;
    if (!h->known)
        meet(m, who);
    bool was_down = h->buttons != 0,
         goes_down = what.kind == IKV_KIND_POINTER_DOWN,
         goes_up = what.kind == IKV_KIND_POINTER_UP;
    m->button = what.button;
    h->next_view = goes_up ? what.view : h->view;
    if (what.kind == IKV_KIND_POINTER_CANCEL) {
        cancelled(m, who);
        return IKV_OK;
    }
    h->x = what.x;
    h->y = what.y;
    h->view = was_down ? h->view : what.view;
    if (what.kind == IKV_KIND_POINTER_LEAVE) {
        leave(m, who);
        return IKV_OK;
    }
    h->left = h->left && was_down;
    bool nothing = is_nothing(h, goes_up);
    h->buttons |= goes_down ? bit_of(what.button) : 0;
    h->buttons &= ~(goes_up ? bit_of(what.button) : 0);
    if (nothing)
        away(m, who, what.kind, was_down);
    else if (goes_down && !was_down)
        down(m, who);
    else if (goes_up && h->buttons == 0)
        up(m, who);
    else
        moved(m, who, goes_down, goes_up);
    return IKV_OK;
}

/* CAP8. Of a wheel nothing can be captured: it is of no hand. */
static ikv_verdict tell_wheel(model *m, const hand *at, const input *what,
                              int target, bool passed)
{
    if (!is_there(m, target))
        return IKV_CONTINUE;
    const told wheel = {.kind = IKV_KIND_WHEEL,
                        .hand = NOBODY,
                        .target = target,
                        .related = NOBODY,
                        .buttons = at->buttons,
                        .flags = at->outside ? IKV_OUTSIDE : 0,
                        .number = what->hand,
                        .view = at->view,
                        .seat = at->seat,
                        .x = at->x,
                        .y = at->y,
                        .passed = passed};
    m->s.tell(&m->s, &wheel);
    return act(&m->s, NOBODY);
}

/* OVER5, OVER6, HIT4. */
static void take_wheel(model *m, const input *what)
{
    hand *h = &m->hands[what->hand];
    hand at = {.captured = NOBODY,
               .view = what->view,
               .seat = m->s.seats[device_of(what->hand)],
               .x = what->x,
               .y = what->y};
    if (is_out_of_view(&at))
        return;
    if (h->known && !is_touch(what->hand) && h->buttons == 0) {
        h->x = what->x;
        h->y = what->y;
        h->view = what->view;
        h->left = false;
        arrive(m, what->hand);
    }
    at.buttons = h->known ? h->buttons : 0;
    at.outside = modal_of(m, at.seat) != NOBODY && hit(m, &at, 0) == NOBODY;
    int target = target_of(m, &at);
    ikv_verdict verdict = tell_wheel(m, &at, what, target, false);
    for (uint32_t nth = 1;
         target != ROOT && is_there(m, target) && m->s.boxes[target].passes &&
         (verdict & IKV_STOP) == 0;
         nth++) {
        target = hit(m, &at, nth);
        if (target == NOBODY)
            return;
        verdict = tell_wheel(m, &at, what, target, true);
    }
}

/* OVER7. */
static void retest(model *m)
{
    if (m->tested == m->s.revision)
        return;
    uint64_t revision = m->s.revision;
    m->routing = true;
    check_focus(m);
    m->tested = revision;
    for (uint32_t place = 0; place < HANDS; place++)
        for (int i = 0; i < 2; i++) {
            const hand *h = &m->hands[i];
            if (!h->known || h->place != place || h->over == NOBODY || h->left)
                continue;
            m->button = IKV_NO_BUTTON;
            m->flags = IKV_SYNTHETIC;
            arrive(m, i);
        }
    end_routing(m);
}

/* ------------------------------------------------------- what handlers call -- */

static ikv_status capture(side *s, int who, int target)
{
    model *m = (model *)s;
    if (who == NOBODY || !m->hands[who].known)
        return IKV_BAD_ARGUMENT;
    if (!is_there(m, target))
        return IKV_STALE;
    if (m->hands[who].buttons == 0 || !reaches(m, m->hands[who].seat, target))
        return IKV_ABSENT;
    m->hands[who].pending = target;
    if (m->hands[who].to_drag != target)
        m->hands[who].to_drag = NOBODY;
    return IKV_OK;
}

static ikv_status drag(side *s, int who, int target)
{
    model *m = (model *)s;
    ikv_status status = capture(s, who, target);
    if (status == IKV_OK && m->hands[who].captured == target)
        m->hands[who].dragging = target;
    else if (status == IKV_OK)
        m->hands[who].to_drag = target;
    return status;
}

static ikv_status release(side *s, int who, int target)
{
    model *m = (model *)s;
    if (who == NOBODY || !m->hands[who].known)
        return IKV_BAD_ARGUMENT;
    if (m->hands[who].pending != target)
        return IKV_ABSENT;
    m->hands[who].pending = m->hands[who].to_drag = NOBODY;
    return IKV_OK;
}

void cancel_now(model *m)
{
    if (!m->routing) {
        m->routing = true;
        end_routing(m);
    }
}

static void cancel_all(side *s, uint32_t seat)
{
    model *m = (model *)s;
    m->cancels[seat] = true;
    cancel_now(m);
}

/* GONE1, GONE2, FOCUS3. */
static void removed(side *s, int number, int former)
{
    model *m = (model *)s;
    for (int i = 0; i < HANDS; i++) {
        hand *h = &m->hands[i];
        int kept = 0;
        for (int k = 0; k < h->entered_count; k++)
            if (h->entered[k] != number)
                h->entered[kept++] = h->entered[k];
        h->entered_count = kept;
        if (h->over == number) {
            h->over = former;
            h->owed = true;
        }
        if (h->captured == number) {
            h->captured = NOBODY;
            h->loss_owed = h->told;
            h->told = false;
        }
        h->pending = h->pending == number ? NOBODY : h->pending;
        if (h->dragging == number) {
            h->dragging = NOBODY;
            h->drag_told = false;
        }
        if (h->beneath == number) {
            h->beneath = NOBODY;
            h->accepts = h->accepted_entry = false;
        }
        h->slot = h->slot == number ? NOBODY : h->slot;
        h->pressed = h->pressed == number ? NOBODY : h->pressed;
    }
    gesture_removed(m, number);
    for (uint32_t seat = 0; seat < SEATS; seat++)
        if (m->focused[seat] == number) {
            m->focused[seat] = NOBODY;
            tell_system(m, seat, IKV_KIND_FOCUS_OUT, ROOT, NOBODY,
                        IKV_FOCUS_REMOVED);
        }
}

/* ---------------------------------------------------------------- from outside -- */

side *model_open(void)
{
    static model m;
    m = (model){.s = {.capture = capture,
                      .release = release,
                      .drag = drag,
                      .focus = model_focus,
                      .set_modal = model_set_modal,
                      .cancel_all = cancel_all,
                      .remove = removed},
                .focused = {NOBODY, NOBODY}};
    for (int i = 0; i < HANDS; i++)
        m.hands[i] = (hand){.over = NOBODY,
                            .dragging = NOBODY,
                            .to_drag = NOBODY,
                            .beneath = NOBODY};
    return &m.s;
}

static void answer(model *m, ikv_status status)
{
    m->s.tell(&m->s, &(told){.hand = NOBODY, .number = status});
}

void model_take(side *s, const input *what)
{
    model *m = (model *)s;
    ikv_status status = IKV_OK;
    m->now_ms = what->time_ms;
    retest(m);
    m->flags = 0;
    if (what->kind == CANCELS_ALL) {
        cancel_all(s, what->seat);
    } else if (what->kind == SETS_MODAL) {
        answer(m, model_set_modal(s, what->seat, what->button));
    } else if (what->kind == FOCUSES) {
        answer(m, model_focus(s, what->seat, what->button));
    } else if (what->kind != ONLY_CHANGES) {
        m->routing = true;
        m->button = IKV_NO_BUTTON;
        send_holds(m, what->time_ms);
        check_focus(m);
        if (what->kind == BLURS || what->kind == UNPLUGS)
            release_all(m, what);
        else if (what->kind == RESEATS)
            reseat(m, what);
        else if (what->kind == IKV_KIND_WHEEL)
            take_wheel(m, what);
        else
            status = take_pointer(m, *what);
        m->flags = 0;
        end_routing(m);
        answer(m, status);
    }
}
