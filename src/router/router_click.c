/* router_click.c - what presses become: clicks, holds, menus, drags. */
#include "router_internal.h"

static float slop_of(const ikv_router *r, const pointer *p)
{
    return p->type == IKV_MOUSE ? r->mouse_slop : r->slop;
}

/* Without a square root: both sides squared. */
static bool further(float dx, float dy, float than)
{
    return dx * dx + dy * dy > than * than;
}

void ikvi_router_no_hold(ikv_router *r, pointer *p)
{
    IKVI_CHECK(!p->hold_due || r->s.holds_due > 0); /* router-2 */
    if (p->hold_due) {
        p->hold_due = false;
        r->s.holds_due--;
    }
}

/* A pointer's event as one that is no click: where the number of clicks lies
 * there may be a pen's twist. */
static ikv_event no_click_of(const ikv_event *event)
{
    ikv_event made = *event;
    made.click.clicks = 0;
    return made;
}

/* A button goes down: before its handlers. */
void ikvi_router_press(ikv_router *r, pointer *p, const ikv_event *event)
{
    /* CLICK1's slot: of the button that went down last. */
    p->clicking = p->over;
    p->pressed_outside = p->outside_modal;
    if ((p->buttons & (p->buttons - 1)) != 0)
        return; /* a chord */
    p->pressed = p->over;
    p->strayed[0] = p->strayed[1] = 0;
    p->press_x = p->x;
    p->press_y = p->y;
    p->press_button = event->pointer.button;
    p->press_number = ++r->s.presses;
    p->dragged = p->menu_sent = false;
    ikvi_router_no_hold(r, p);
    p->hold_due = true;
    uint64_t own = r->s.hold_us[p->seat] * UINT64_C(1000);
    p->hold_ns = event->time_ns + (own != 0 ? own : r->hold_ns);
    r->s.holds_due++;
    IKVI_CHECK(r->s.holds_due <= r->capacity); /* router-2 */
}

/* After its handlers: CLICK2's menu. */
void ikvi_router_pressed(ikv_router *r, pointer *p, const ikv_event *event)
{
    if (event->pointer.button != IKV_SECONDARY_BUTTON)
        return;
    ikv_event menu = no_click_of(event);
    ikvi_router_send_kind(r, &menu, IKV_KIND_POINTER_MENU, p->clicking,
                          (ikv_target){0});
}

/* Where it is now, or was in this step. */
static bool went_beyond(const ikv_router *r, const pointer *p, float slop)
{
    if (further(p->x - p->press_x, p->y - p->press_y, slop) ||
        further(p->strayed[0], p->strayed[1], slop))
        return true;
    /* A merged move may have gone there and come back. */
    for (uint32_t i = 0; i < r->along.count; i++)
        if ((r->along.samples[i].flags & IKV_RELATIVE) == 0 &&
            further(r->along.samples[i].pointer.x - p->press_x,
                    r->along.samples[i].pointer.y - p->press_y, slop))
            return true;
    return false;
}

/* CLICK2: beyond the slop it is a drag, once, before the move itself. */
void ikvi_router_moved(ikv_router *r, pointer *p, const ikv_event *event)
{
    if (p->pressed.bits == 0 || p->dragged || !went_beyond(r, p, slop_of(r, p)))
        return;
    p->dragged = true;
    ikvi_router_no_hold(r, p);
    ikv_event drag = no_click_of(event);
    drag.pointer.button = p->press_button;
    ikvi_router_send_kind(r, &drag, IKV_KIND_POINTER_DRAG, p->pressed,
                          (ikv_target){0});
}

/* CLICK3: of this pointer alone. */
void ikvi_router_no_click(ikv_router *r, pointer *p)
{
    ikvi_router_no_hold(r, p);
    /* As if a menu had opened: the release is no click. */
    p->menu_sent = true;
}

/* A pointer has no button down any more. */
void ikvi_router_let_up(ikv_router *r, pointer *p)
{
    ikvi_router_no_hold(r, p);
    p->pressed = p->clicking = p->attached = (ikv_target){0};
    p->dragging = p->to_drag = p->to_attach = (ikv_target){0};
}

static pointer *next_due(const ikv_router *r, uint64_t time_ns)
{
    pointer *next = NULL;
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (!p->used || !p->hold_due || p->hold_ns > time_ns)
            continue;
        /* By time, then by the order of presses. */
        if (next == NULL || p->hold_ns < next->hold_ns ||
            (p->hold_ns == next->hold_ns &&
             p->press_number < next->press_number))
            next = p;
    }
    return next;
}

/* CLICK2: holds that are due, and the menus of long presses. */
void ikvi_router_send_holds(ikv_router *r, uint64_t time_ns)
{
    ikv_target none = {0};
    while (r->s.holds_due > 0) {
        pointer *p = next_due(r, time_ns);
        if (p == NULL)
            return;
        ikvi_router_no_hold(r, p);
        /* At the moment it came due, not when that was looked at; and so is what
         * its handlers do. */
        r->s.time_ns = p->hold_ns;
        ikv_event now =
            ikvi_router_event_of(p, IKV_KIND_POINTER_HOLD, p->hold_ns);
        ikv_event hold = no_click_of(&now);
        hold.pointer.button = p->press_button;
        ikv_outcome outcome = ikvi_router_send_kind(
            r, &hold, IKV_KIND_POINTER_HOLD, p->pressed, none);
        if (p->type != IKV_TOUCH || (outcome.verdict & IKV_REFUSE) ||
            !ikvi_router_alive(r, p->pressed))
            continue;
        p->menu_sent = true;
        ikvi_router_send_kind(r, &hold, IKV_KIND_POINTER_MENU, p->pressed,
                              none);
    }
}

/* --------------------------------------------------------------- clicks -- */

ikv_target ikvi_router_common(const ikv_router *r, ikv_target a, ikv_target b)
{
    path pa, pb;
    ikv_target common = {0};
    if (!ikvi_router_alive(r, a) || !ikvi_router_alive(r, b))
        return common;
    ikvi_router_path(r, a, &pa);
    ikvi_router_path(r, b, &pb);
    /* The last node that both paths share. */
    for (uint32_t i = 0;
         i < pa.length && i < pb.length && same(pa.nodes[i], pb.nodes[i]); i++)
        common = pa.nodes[i];
    return common;
}

/* DRAG4: whether it has taken something along, beyond the slop. */
static bool has_dragged(const pointer *p)
{
    return p->dragged && (p->attached.bits | p->dragging.bits) != 0;
}

/* CLICK1: settled before the release's handlers. GONE3. */
ikv_target ikvi_router_click_target(const ikv_router *r, const pointer *p,
                                    const ikv_event *event)
{
    if (p->clicking.bits == 0 || !ikvi_router_alive(r, p->clicking) ||
        (event->flags & IKV_SYNTHETIC) ||
        (p->type == IKV_TOUCH && (p->dragged || p->menu_sent)) ||
        (has_dragged(p) && !r->click_after_drag))
        return (ikv_target){0};
    /* CAP3: up and click go to who captured. */
    if (p->captured.bits != 0)
        return p->captured;
    return ikvi_router_common(r, p->clicking, p->over);
}

/* CLICK2: how many clicks in a row this one is. */
static uint32_t count_click(ikv_router *r, const pointer *p,
                            const ikv_event *event)
{
    recent_click now = {.time_ns = event->time_ns,
                        .x = p->x,
                        .y = p->y,
                        .device = p->device,
                        .type = p->type,
                        .clicks = 1};
    uint64_t own = r->s.double_us[p->seat] * UINT64_C(1000);
    for (uint32_t i = 0; i < RECENT_CLICKS; i++) {
        recent_click *c = &r->s.clicks[i];
        if (c->clicks == 0 || c->device != p->device || c->type != p->type ||
            now.time_ns - c->time_ns > (own != 0 ? own : r->double_ns) ||
            further(p->x - c->x, p->y - c->y, r->double_slop))
            continue;
        /* Nobody clicks so often; but the count never wraps to none. */
        now.clicks = c->clicks + (c->clicks < UINT32_MAX - 1);
        *c = now;
        return now.clicks;
    }
    /* The oldest row gives way. */
    r->s.clicks[r->s.next_click++ % RECENT_CLICKS] = now;
    return 1;
}

/* The slot is emptied; every second click of a row is followed by a double. */
void ikvi_router_click(ikv_router *r, pointer *p, const ikv_event *event,
                       ikv_target target)
{
    bool primary = event->pointer.button == IKV_PRIMARY_BUTTON;
    ikv_target none = {0};
    ikv_event click = *event;
    p->clicking = none;
    if (target.bits == 0)
        return;
    uint32_t clicks = primary ? count_click(r, p, event) : 1;
    /* MODAL1: what was pressed within and let go beside it is no click beside
     * it, by which a dialog closes. */
    if (!p->pressed_outside)
        click.flags &= (uint16_t)~IKV_OUTSIDE;
    click.click.clicks = (uint16_t)(clicks < UINT16_MAX ? clicks : UINT16_MAX);
    ikvi_router_send_kind(r, &click,
                          primary ? IKV_KIND_POINTER_CLICK
                                  : IKV_KIND_POINTER_AUXILIARY,
                          target, none);
    /* Four quick ones are two doubles. */
    if (clicks % 2 == 0)
        ikvi_router_send_kind(r, &click, IKV_KIND_POINTER_DOUBLE, target, none);
    if (p->type == IKV_TOUCH && (click.flags & IKV_OUTSIDE) == 0)
        ikvi_router_focus_by_press(r, p->seat, target);
}
