/* router.c - pointers, capture, hover, focus.
 *
 * A pointer's state is brought up to date before handlers are told of it, and
 * what is still to be told lies in local arrays; so handlers may do anything.
 *
 * R1  a pointer in use has a chain of the targets that it has entered, root
 *     first; `over` is the last of them, unless it is owed (GONE1)
 * R2  captures and pressed targets belong to pointers with a button down
 * R3  no two pointers in use are of the same device and id
 */
#include "internal.h"

#include "ikvar/router.h"

enum {
    PASSED_LIMIT = 8,
    NO_POINTER = -1
};

typedef struct pointer {
    bool used;
    bool in_view;   /* it is over something, the root at least */
    bool over_owed; /* what it was over is gone: the next over is due anyway */
    bool primary;
    bool moved; /* further than the slop since the press */
    uint8_t type, view, seat;
    uint8_t buttons;
    uint16_t device, id;
    float x, y, press_x, press_y;
    ikv_target over, captured, pending, pressed;
    bool lost_owed; /* who had captured it is gone (GONE2) */
    uint32_t chain_length, passed_count;
    ikv_target chain[IKV_PATH_LIMIT];
    ikv_target passed[PASSED_LIMIT]; /* who was passed the down (HIT4) */
} pointer;

struct ikv_router {
    ikv_memory memory;
    size_t size;
    ikv_bus *bus;
    ikv_picking picking;
    ikv_reporter reporter;
    float slop;
    bool keep_focus;
    bool routing;
    uint32_t capacity;
    size_t pointers;
    uint64_t revision;
    uint64_t time_ns; /* of the last event, for focus events */
    ikv_target focused;
    ikv_router_counters counters;
};

static pointer *pointer_at(const ikv_router *r, uint32_t index)
{
    return (pointer *)ikvi_at((void *)(uintptr_t)r, r->pointers) + index;
}

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_router(const ikv_router_config *config, ikv_router *r)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    if (config->pointers > 65535 || !(config->slop >= 0))
        return IKV_BAD_CONFIG;
    r->capacity = ikvi_or(config->pointers, 32);
    ikvi_layout l = {0, false};
    ikvi_layout_add(&l, 1, sizeof *r);
    r->pointers = ikvi_layout_add(&l, r->capacity, sizeof(pointer));
    r->size = ikvi_layout_size(&l);
    return r->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_router_footprint(const ikv_router_config *config)
{
    ikv_router plan;
    return config != NULL && lay_out_router(config, &plan) == IKV_OK ? plan.size
                                                                     : 0;
}

static ikv_status check_picking(const ikv_picking *p)
{
    if (p->size != sizeof *p)
        return IKV_BAD_SIZE;
    return p->pick == NULL || p->parent == NULL || p->alive == NULL ||
                   p->traits == NULL || p->to_local == NULL ||
                   p->revision == NULL
               ? IKV_BAD_CONFIG
               : IKV_OK;
}

ikv_status ikv_router_open(const ikv_router_config *config, ikv_router **router)
{
    if (config == NULL || router == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_router plan = {.memory = config->memory,
                       .bus = config->bus,
                       .picking = config->picking,
                       .reporter = config->reporter,
                       .slop = config->slop > 0 ? config->slop : 12.0f,
                       .keep_focus = config->keep_focus};
    void *block = NULL;
    ikv_status status = lay_out_router(config, &plan);
    if (status == IKV_OK)
        status = config->bus != NULL ? check_picking(&config->picking)
                                     : IKV_BAD_CONFIG;
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    *router = block;
    **router = plan;
    return IKV_OK;
}

void ikv_router_close(ikv_router *router)
{
    if (router != NULL) {
        ikv_memory memory = router->memory;
        ikvi_memory_give(&memory, router, router->size);
    }
}

/* ---------------------------------------------------------------- paths -- */

typedef struct path {
    ikv_target nodes[IKV_PATH_LIMIT];
    uint32_t length;
} path;

static bool same(ikv_target a, ikv_target b)
{
    return a.bits == b.bits;
}

static ikv_target root_of(const ikv_router *r)
{
    return ikv_bus_root(r->bus);
}

static bool is_there(const ikv_router *r, ikv_target target)
{
    return same(target, root_of(r)) ||
           (target.bits != 0 && r->picking.alive(r->picking.scene, target));
}

static uint32_t traits_of_target(const ikv_router *r, ikv_target target)
{
    return same(target, root_of(r))
               ? 0
               : r->picking.traits(r->picking.scene, target);
}

static ikv_target parent_of(const ikv_router *r, ikv_target target)
{
    if (same(target, root_of(r)))
        return (ikv_target){0};
    ikv_target parent = r->picking.parent(r->picking.scene, target);
    return parent.bits != 0 ? parent : root_of(r);
}

/* The path from the root to a target. A scene's tree that is deeper than the
 * limit loses its upper middle. */
static void find_path_to(const ikv_router *r, ikv_target target, path *to)
{
    ikv_target up[IKV_PATH_LIMIT];
    uint32_t count = 0;
    for (; target.bits != 0 && !same(target, root_of(r)) &&
           count < IKV_PATH_LIMIT - 1;
         target = parent_of(r, target))
        up[count++] = target;
    to->nodes[0] = root_of(r);
    to->length = 1;
    while (count > 0)
        to->nodes[to->length++] = up[--count];
}

static bool holds(const ikv_target *nodes, uint32_t length, ikv_target target)
{
    for (uint32_t i = 0; i < length; i++)
        if (same(nodes[i], target))
            return true;
    return false;
}

/* -------------------------------------------------------------- sending -- */

static ikv_outcome send_along(ikv_router *r, ikv_event event, const path *along,
                              bool own_visit)
{
    ikv_route route = IKV_ROUTE_INIT;
    route.path = along->nodes;
    route.path_length = along->length;
    route.router = r;
    route.own_visit = own_visit;
    route.flags = own_visit ? IKV_PASSED : 0;
    event.target = along->nodes[along->length - 1];
    return ikv_bus_deliver_along(r->bus, &event, &route);
}

/* Sends an event like `cause`, but of that kind, to a target with a related
 * one; nothing if the target is gone. */
static ikv_outcome send_kind(ikv_router *r, const ikv_event *cause,
                             ikv_kind kind, ikv_target target,
                             ikv_target related)
{
    if (!is_there(r, target))
        return (ikv_outcome){IKV_STALE, 0, 0, 0};
    path along;
    find_path_to(r, target, &along);
    ikv_event event = *cause;
    event.kind = kind;
    event.source = related;
    return send_along(r, event, &along, false);
}

/* ------------------------------------------------------ boundary events -- */

/* Makes `to` (zero bits: nothing, out of the view) what the pointer is over,
 * and tells whom it concerns: OVER1 to OVER3, GONE1, GONE4. */
static void move_over(ikv_router *r, pointer *p, ikv_target to,
                      const ikv_event *cause)
{
    if (p->in_view && same(p->over, to) && !p->over_owed)
        return;
    path old = {.length = p->chain_length}, now = {.length = 0};
    memcpy(old.nodes, p->chain, p->chain_length * sizeof p->chain[0]);
    ikv_target from = p->in_view ? p->over : (ikv_target){0};
    bool owed = p->over_owed;
    if (to.bits != 0)
        find_path_to(r, to, &now);
    memcpy(p->chain, now.nodes, now.length * sizeof p->chain[0]);
    p->chain_length = now.length;
    p->over = to;
    p->in_view = to.bits != 0;
    p->over_owed = false;

    if (from.bits != 0 && !owed)
        send_kind(r, cause, IKV_KIND_POINTER_OUT, from, to);
    for (uint32_t i = old.length; i-- > 0;)
        if (!holds(now.nodes, now.length, old.nodes[i]))
            send_kind(r, cause, IKV_KIND_POINTER_LEAVE, old.nodes[i], to);
    if (to.bits != 0)
        send_kind(r, cause, IKV_KIND_POINTER_OVER, to, from);
    for (uint32_t i = 0; i < now.length; i++)
        if (!holds(old.nodes, old.length, now.nodes[i]))
            send_kind(r, cause, IKV_KIND_POINTER_ENTER, now.nodes[i], from);
}

/* -------------------------------------------------------------- capture -- */

/* CAP2, GONE2: carries out what was asked for since the pointer's last event.
 */
static void settle_capture(ikv_router *r, pointer *p, const ikv_event *cause)
{
    ikv_target none = {0};
    if (p->pending.bits != 0 && !is_there(r, p->pending))
        p->pending = none;
    if (p->lost_owed) {
        p->lost_owed = false;
        send_kind(r, cause, IKV_KIND_POINTER_CAPTURE_LOST, root_of(r), none);
    }
    if (same(p->pending, p->captured))
        return;
    ikv_target old = p->captured, now = p->pending;
    p->captured = now;
    if (old.bits != 0)
        send_kind(r, cause, IKV_KIND_POINTER_CAPTURE_LOST, old, none);
    if (now.bits != 0 && is_there(r, now)) {
        move_over(r, p, now, cause);
        send_kind(r, cause, IKV_KIND_POINTER_CAPTURE_GOT, now, none);
    }
}

static pointer *find_pointer(const ikv_router *r, uint16_t device, uint16_t id)
{
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (p->used && p->device == device && p->id == id)
            return p;
    }
    return NULL;
}

static bool is_pointer_event(const ikv_router *r, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(r->bus), event->kind);
    return info != NULL && (info->family == IKV_FAMILY_POINTER ||
                            info->family == IKV_FAMILY_CLICK);
}

static pointer *pointer_of(const ikv_router *r, const ikv_event *event)
{
    if (r == NULL || event == NULL || !is_pointer_event(r, event))
        return NULL;
    return find_pointer(r, event->device, event->pointer.pointer);
}

ikv_status ikv_router_capture(ikv_router *router, const ikv_event *event,
                              ikv_target target)
{
    pointer *p = pointer_of(router, event);
    if (p == NULL)
        return IKV_BAD_ARGUMENT;
    if (!is_there(router, target))
        return IKV_STALE;
    if (p->buttons == 0)
        return IKV_ABSENT;
    p->pending = target;
    return IKV_OK;
}

ikv_status ikv_router_release(ikv_router *router, const ikv_event *event,
                              ikv_target target)
{
    pointer *p = pointer_of(router, event);
    if (p == NULL)
        return IKV_BAD_ARGUMENT;
    if (target.bits == 0 || !same(p->pending, target))
        return IKV_ABSENT;
    p->pending = (ikv_target){0};
    return IKV_OK;
}

bool ikv_router_has_capture(const ikv_router *router, const ikv_event *event,
                            ikv_target target)
{
    const pointer *p = pointer_of(router, event);
    return p != NULL && target.bits != 0 && same(p->pending, target);
}

/* ---------------------------------------------------------------- focus -- */

static void send_focus(ikv_router *r, ikv_kind kind, uint64_t time_ns,
                       ikv_target target, ikv_target related, uint8_t reason)
{
    ikv_event event = ikv_event_make(kind, time_ns);
    event.focus.reason = reason;
    send_kind(r, &event, kind, target, related);
}

/* FOCUS1: the state is set before anybody is told, so nested calls nest. */
static ikv_status set_focus(ikv_router *r, ikv_target target, uint64_t time_ns,
                            uint8_t reason)
{
    if (same(r->focused, target))
        return IKV_ABSENT;
    ikv_target old = r->focused;
    r->focused = target;
    if (old.bits != 0)
        send_focus(r, IKV_KIND_FOCUS_OUT, time_ns, old, target, reason);
    if (target.bits != 0 && same(r->focused, target))
        send_focus(r, IKV_KIND_FOCUS_IN, time_ns, target, old, reason);
    return IKV_OK;
}

ikv_status ikv_router_focus(ikv_router *router, ikv_target target)
{
    if (router == NULL)
        return IKV_BAD_ARGUMENT;
    if (!is_there(router, target))
        return IKV_STALE;
    if ((traits_of_target(router, target) & IKV_FOCUSABLE) == 0)
        return IKV_ABSENT;
    return set_focus(router, target, router->time_ns, IKV_FOCUS_CALL);
}

ikv_status ikv_router_blur(ikv_router *router)
{
    if (router == NULL)
        return IKV_BAD_ARGUMENT;
    return set_focus(router, (ikv_target){0}, router->time_ns, IKV_FOCUS_CALL);
}

ikv_target ikv_router_focused(const ikv_router *router)
{
    return router != NULL ? router->focused : (ikv_target){0};
}

/* FOCUS2: the nearest focusable self-or-ancestor, or nobody. */
static void focus_by_press(ikv_router *r, ikv_target pressed, uint64_t time_ns)
{
    if (r->keep_focus)
        return;
    while (pressed.bits != 0 && !same(pressed, root_of(r)) &&
           is_there(r, pressed) &&
           (traits_of_target(r, pressed) & IKV_FOCUSABLE) == 0)
        pressed = parent_of(r, pressed);
    bool found =
        pressed.bits != 0 && is_there(r, pressed) && !same(pressed, root_of(r));
    set_focus(r, found ? pressed : (ikv_target){0}, time_ns, IKV_FOCUS_PRESS);
}

/* -------------------------------------------------------- pointer state -- */

/* Bits of buttons by their numbers (Pointer Events 3, section 4.2). */
static uint8_t button_bit(int8_t button)
{
    static const uint8_t bits[] = {1, 4, 2, 8, 16, 32, 64, 128};
    return button >= 0 && button < 8 ? bits[button] : 0;
}

static bool primary_taken(const ikv_router *r, uint8_t type)
{
    for (uint32_t i = 0; i < r->capacity; i++) {
        const pointer *p = pointer_at(r, i);
        if (p->used && p->type == type)
            return true;
    }
    return false;
}

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
        if (++r->counters.pointers > r->counters.pointers_high)
            r->counters.pointers_high = r->counters.pointers;
        return p;
    }
    return NULL;
}

static void forget_pointer(ikv_router *r, pointer *p)
{
    if (p->used) {
        p->used = false;
        r->counters.pointers--;
    }
}

static ikv_target pick(const ikv_router *r, const pointer *p, uint32_t nth)
{
    ikv_query query = IKV_QUERY_INIT;
    query.view = p->view;
    query.x = p->x;
    query.y = p->y;
    query.touch = p->type == IKV_TOUCH;
    ikv_target hit = r->picking.pick(r->picking.scene, &query, nth);
    return hit.bits != 0 ? hit : root_of(r);
}

/* The pointer's target now: who captured it, or what is there (CAP3). */
static ikv_target target_of(const ikv_router *r, const pointer *p)
{
    return p->captured.bits != 0 && is_there(r, p->captured) ? p->captured
                                                             : pick(r, p, 0);
}

static ikv_event pointer_event(const pointer *p, const ikv_event *from,
                               int8_t button)
{
    ikv_event event = *from;
    event.pointer.x = p->x;
    event.pointer.y = p->y;
    event.pointer.button = button;
    event.pointer.buttons = p->buttons;
    event.flags &= (uint16_t)~IKV_PRIMARY;
    if (p->primary)
        event.flags |= IKV_PRIMARY;
    return event;
}

/* Takes over the position, and finds the motion if the port gave none. */
static void take_position(const ikv_router *r, pointer *p, ikv_event *event)
{
    if (event->pointer.dx == 0 && event->pointer.dy == 0) {
        event->pointer.dx = event->pointer.x - p->x;
        event->pointer.dy = event->pointer.y - p->y;
    }
    p->x = event->pointer.x;
    p->y = event->pointer.y;
    p->view = event->view;
    float dx = p->x - p->press_x, dy = p->y - p->press_y;
    if (dx * dx + dy * dy > r->slop * r->slop)
        p->moved = true;
}

/* --------------------------------------------------------- pass-through -- */

/* HIT4: after a target that passes, the next ones beneath get the event in
 * their own visit, down to the first solid one. */
static void pass_beneath(ikv_router *r, pointer *p, const ikv_event *event,
                         ikv_verdict verdict, bool remember)
{
    ikv_target above = event->target;
    if (!is_there(r, above))
        return;
    for (uint32_t nth = 1; (traits_of_target(r, above) & IKV_PASSES) != 0 &&
                           (verdict & (IKV_STOP | IKV_STOP_ALL)) == 0;
         nth++) {
        ikv_target next = pick(r, p, nth);
        if (same(next, root_of(r)))
            return;
        path alone = {.nodes = {next}, .length = 1};
        if (remember && p->passed_count < PASSED_LIMIT)
            p->passed[p->passed_count++] = next;
        verdict = send_along(r, *event, &alone, true).verdict;
        above = next;
    }
}

/* Who was passed the down is passed the up or cancel, wherever it happens. */
static void pass_end(ikv_router *r, pointer *p, const ikv_event *event)
{
    for (uint32_t i = 0; i < p->passed_count; i++) {
        path alone = {.nodes = {p->passed[i]}, .length = 1};
        if (is_there(r, p->passed[i]) && !same(p->passed[i], event->target))
            send_along(r, *event, &alone, true);
    }
    p->passed_count = 0;
}

/* ------------------------------------------------------- pointer events -- */

static ikv_outcome send_to_pointer(ikv_router *r, pointer *p, ikv_event *event)
{
    path along;
    find_path_to(r, p->over, &along);
    event->target = p->over;
    return send_along(r, *event, &along, false);
}

/* CAP9, TOUCH1: what captures by itself, before the down's handlers. */
static void capture_by_press(ikv_router *r, pointer *p)
{
    if (p->type != IKV_MOUSE)
        p->pending = p->over;
    for (ikv_target at = p->over; at.bits != 0; at = parent_of(r, at)) {
        if (traits_of_target(r, at) & IKV_CAPTURES) {
            p->pending = at;
            return;
        }
    }
}

static ikv_outcome pointer_moved(ikv_router *r, pointer *p, ikv_event *event)
{
    settle_capture(r, p, event);
    move_over(r, p, target_of(r, p), event);
    ikv_outcome outcome = send_to_pointer(r, p, event);
    if (p->captured.bits == 0)
        pass_beneath(r, p, event, outcome.verdict, false);
    return outcome;
}

static ikv_outcome pointer_pressed(ikv_router *r, pointer *p, ikv_event *event)
{
    p->press_x = p->x;
    p->press_y = p->y;
    p->moved = false;
    p->passed_count = 0;
    settle_capture(r, p, event);
    move_over(r, p, target_of(r, p), event);
    p->pressed = p->over;
    capture_by_press(r, p);
    ikv_target pressed = p->over;
    ikv_outcome outcome = send_to_pointer(r, p, event);
    pass_beneath(r, p, event, outcome.verdict, true);
    if (p->type != IKV_TOUCH && (outcome.verdict & IKV_REFUSE) == 0)
        focus_by_press(r, pressed, event->time_ns);
    return outcome;
}

static ikv_target common_ancestor(const ikv_router *r, ikv_target a,
                                  ikv_target b)
{
    path pa, pb;
    ikv_target common = {0};
    if (!is_there(r, a) || !is_there(r, b))
        return common;
    find_path_to(r, a, &pa);
    find_path_to(r, b, &pb);
    for (uint32_t i = 0;
         i < pa.length && i < pb.length && same(pa.nodes[i], pb.nodes[i]); i++)
        common = pa.nodes[i];
    return common;
}

/* CLICK1: settled before the release's handlers. */
static ikv_target click_target(const ikv_router *r, const pointer *p,
                               const ikv_event *event)
{
    if (p->pressed.bits == 0 || !is_there(r, p->pressed) ||
        (event->flags & IKV_SYNTHETIC) || (p->type == IKV_TOUCH && p->moved))
        return (ikv_target){0};
    if (p->captured.bits != 0)
        return p->captured;
    return common_ancestor(r, p->pressed, p->over);
}

static void send_click(ikv_router *r, pointer *p, const ikv_event *event,
                       ikv_target target)
{
    bool primary = event->pointer.button == IKV_PRIMARY_BUTTON;
    ikv_event click = *event;
    click.pointer.clicks = 1;
    send_kind(r, &click,
              primary ? IKV_KIND_POINTER_CLICK : IKV_KIND_POINTER_AUXILIARY,
              target, (ikv_target){0});
    if (p->type == IKV_TOUCH)
        focus_by_press(r, target, event->time_ns);
}

/* After an up or cancel: CAP5, TOUCH3, TOUCH4. */
static void pointer_ended(ikv_router *r, pointer *p, ikv_event *event,
                          ikv_target click)
{
    ikv_target none = {0}, captured = p->captured;
    p->captured = p->pending = p->pressed = none;
    pass_end(r, p, event);
    if (captured.bits != 0)
        send_kind(r, event, IKV_KIND_POINTER_CAPTURE_LOST, captured, none);
    if (click.bits != 0)
        send_click(r, p, event, click);
    p->captured = p->pending = none;
    if (p->type == IKV_TOUCH) {
        move_over(r, p, none, event);
        forget_pointer(r, p);
    } else if (captured.bits != 0) {
        move_over(r, p, pick(r, p, 0), event);
    }
}

static ikv_outcome pointer_released(ikv_router *r, pointer *p, ikv_event *event)
{
    settle_capture(r, p, event);
    move_over(r, p, target_of(r, p), event);
    ikv_target click = click_target(r, p, event);
    ikv_outcome outcome = send_to_pointer(r, p, event);
    if (outcome.verdict & IKV_REFUSE)
        click = (ikv_target){0};
    pointer_ended(r, p, event, click);
    return outcome;
}

static ikv_outcome pointer_cancelled(ikv_router *r, pointer *p,
                                     ikv_event *event)
{
    settle_capture(r, p, event);
    move_over(r, p, target_of(r, p), event);
    ikv_outcome outcome = send_to_pointer(r, p, event);
    pointer_ended(r, p, event, (ikv_target){0});
    return outcome;
}

/* OVER5: out of the view, unless it is captured. */
static ikv_outcome pointer_left(ikv_router *r, pointer *p, ikv_event *event)
{
    if (p->captured.bits == 0 && p->pending.bits == 0)
        move_over(r, p, (ikv_target){0}, event);
    if (p->buttons == 0)
        forget_pointer(r, p);
    return (ikv_outcome){IKV_OK, 0, 0, 0};
}

static ikv_outcome meaningless(ikv_router *r)
{
    r->counters.meaningless++;
    return (ikv_outcome){IKV_ABSENT, 0, 0, 0};
}

static bool is_finite(float value)
{
    return value - value == 0;
}

/* Whether the event makes sense with what is known of its pointer. */
static bool makes_sense(const pointer *p, const ikv_event *event)
{
    uint8_t bit = button_bit(event->pointer.button);
    bool touch = event->pointer.type == IKV_TOUCH;
    uint8_t buttons = p != NULL ? p->buttons : 0;
    switch (event->kind) {
    case IKV_KIND_POINTER_DOWN:
        return bit != 0 && (buttons & bit) == 0;
    case IKV_KIND_POINTER_UP:
        return bit != 0 && (buttons & bit) != 0;
    case IKV_KIND_POINTER_CANCEL:
        return buttons != 0;
    case IKV_KIND_POINTER_LEAVE:
        return p != NULL;
    default:
        return !touch || buttons != 0;
    }
}

static ikv_outcome route_down(ikv_router *r, pointer *p, ikv_event *event)
{
    bool first = p->buttons == 0;
    int8_t button = event->pointer.button;
    p->buttons |= button_bit(button);
    *event = pointer_event(p, event, button);
    if (first)
        return pointer_pressed(r, p, event);
    event->kind = IKV_KIND_POINTER_MOVE; /* BTN1: a chord */
    return pointer_moved(r, p, event);
}

static ikv_outcome route_up(ikv_router *r, pointer *p, ikv_event *event)
{
    int8_t button = event->pointer.button;
    p->buttons &= (uint8_t)~button_bit(button);
    *event = pointer_event(p, event, button);
    if (p->buttons == 0)
        return pointer_released(r, p, event);
    event->kind = IKV_KIND_POINTER_MOVE;
    return pointer_moved(r, p, event);
}

static ikv_outcome route_pointer(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    if (event.kind != IKV_KIND_POINTER_CANCEL &&
        event.kind != IKV_KIND_POINTER_LEAVE &&
        !(is_finite(event.pointer.x) && is_finite(event.pointer.y))) {
        r->counters.not_finite++;
        return (ikv_outcome){IKV_BAD_VALUE, 0, 0, 0};
    }
    pointer *p = find_pointer(r, event.device, event.pointer.pointer);
    if (!makes_sense(p, &event))
        return meaningless(r);
    if (p == NULL && (p = add_pointer(r, &event)) == NULL) {
        r->counters.too_many++;
        return (ikv_outcome){IKV_FULL_POINTERS, 0, 0, 0};
    }
    if (event.kind == IKV_KIND_POINTER_CANCEL ||
        event.kind == IKV_KIND_POINTER_LEAVE) {
        if (event.kind == IKV_KIND_POINTER_CANCEL)
            p->buttons = 0;
        event = pointer_event(p, &event, IKV_NO_BUTTON);
        return event.kind == IKV_KIND_POINTER_CANCEL
                   ? pointer_cancelled(r, p, &event)
                   : pointer_left(r, p, &event);
    }
    take_position(r, p, &event);
    if (event.kind == IKV_KIND_POINTER_DOWN)
        return route_down(r, p, &event);
    if (event.kind == IKV_KIND_POINTER_UP)
        return route_up(r, p, &event);
    event = pointer_event(p, &event, IKV_NO_BUTTON);
    return pointer_moved(r, p, &event);
}

/* CAP8: the wheel ignores capture. */
static ikv_outcome route_wheel(ikv_router *r, const ikv_event *given)
{
    if (!is_finite(given->wheel.x) || !is_finite(given->wheel.y)) {
        r->counters.not_finite++;
        return (ikv_outcome){IKV_BAD_VALUE, 0, 0, 0};
    }
    pointer at = {
        .view = given->view, .x = given->wheel.x, .y = given->wheel.y};
    path along;
    ikv_event event = *given;
    find_path_to(r, pick(r, &at, 0), &along);
    event.target = along.nodes[along.length - 1];
    ikv_outcome outcome = send_along(r, event, &along, false);
    pass_beneath(r, &at, &event, outcome.verdict, false);
    return outcome;
}

static ikv_outcome route_to(ikv_router *r, const ikv_event *event,
                            ikv_target target)
{
    path along;
    find_path_to(r, is_there(r, target) ? target : root_of(r), &along);
    return send_along(r, *event, &along, false);
}

static ikv_outcome route_by_family(ikv_router *r, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(r->bus), event->kind);
    if (info == NULL)
        return (ikv_outcome){IKV_UNKNOWN_KIND, 0, 0, 0};
    switch (info->family) {
    case IKV_FAMILY_POINTER:
        return route_pointer(r, event);
    case IKV_FAMILY_WHEEL:
        return route_wheel(r, event);
    case IKV_FAMILY_KEY:
    case IKV_FAMILY_TEXT:
        return route_to(r, event, r->focused);
    default:
        return route_to(r, event, event->target);
    }
}

ikv_outcome ikv_router_route(ikv_router *router, const ikv_event *event)
{
    if (router == NULL || event == NULL)
        return (ikv_outcome){IKV_BAD_ARGUMENT, 0, 0, 0};
    if (router->routing) {
        router->counters.busy++;
        return (ikv_outcome){IKV_BUSY, 0, 0, 0};
    }
    router->routing = true;
    router->time_ns = event->time_ns;
    ikv_outcome outcome = route_by_family(router, event);
    router->routing = false;
    if (outcome.status == IKV_OK)
        router->counters.routed++;
    return outcome;
}

/* ------------------------------------------ changes beneath the pointer -- */

static void retest_pointer(ikv_router *r, pointer *p, uint64_t time_ns)
{
    ikv_event cause = ikv_event_make(IKV_KIND_POINTER_MOVE, time_ns);
    cause.device = p->device;
    cause.view = p->view;
    cause.seat = p->seat;
    cause.pointer.pointer = p->id;
    cause.pointer.type = p->type;
    cause = pointer_event(p, &cause, IKV_NO_BUTTON);
    cause.flags |= IKV_SYNTHETIC;
    ikv_target to = p->pending.bits != 0 && is_there(r, p->pending)
                        ? p->pending
                        : pick(r, p, 0);
    path now;
    find_path_to(r, to, &now);
    bool chain_holds = now.length == p->chain_length;
    for (uint32_t i = 0; chain_holds && i < now.length; i++)
        chain_holds = same(now.nodes[i], p->chain[i]);
    if (!chain_holds || !same(p->pending, p->captured) || p->lost_owed) {
        settle_capture(r, p, &cause);
        p->over_owed = p->over_owed || (same(p->over, to) && !chain_holds);
        move_over(r, p, target_of(r, p), &cause);
    }
}

void ikv_router_retest(ikv_router *router, uint64_t time_ns)
{
    if (router == NULL || router->routing)
        return;
    uint64_t revision = router->picking.revision(router->picking.scene);
    if (revision == router->revision)
        return;
    router->revision = revision;
    router->time_ns = time_ns;
    router->routing = true;
    for (uint32_t i = 0; i < router->capacity; i++) {
        pointer *p = pointer_at(router, i);
        if (p->used && p->in_view && p->type != IKV_TOUCH)
            retest_pointer(router, p, time_ns);
    }
    router->routing = false;
}

/* GONE1, GONE2, FOCUS3. */
static void forget_target(pointer *p, ikv_target target, ikv_target former)
{
    ikv_target none = {0};
    for (uint32_t i = 0; i < p->chain_length; i++)
        if (same(p->chain[i], target))
            p->chain_length = i;
    if (p->in_view && same(p->over, target)) {
        p->over = former;
        p->over_owed = true;
    }
    if (same(p->captured, target)) {
        p->captured = none;
        p->lost_owed = true;
    }
    if (same(p->pending, target))
        p->pending = none;
    if (same(p->pressed, target))
        p->pressed = none;
}

void ikv_router_removed(ikv_router *router, ikv_target target,
                        ikv_target former_parent)
{
    if (router == NULL)
        return;
    for (uint32_t i = 0; i < router->capacity; i++)
        if (pointer_at(router, i)->used)
            forget_target(pointer_at(router, i), target, former_parent);
    if (same(router->focused, target)) {
        router->focused = (ikv_target){0};
        send_focus(router, IKV_KIND_FOCUS_OUT, router->time_ns, root_of(router),
                   (ikv_target){0}, IKV_FOCUS_REMOVED);
    }
}

/* ------------------------------------------------------------- counting -- */

ikv_router_counters ikv_router_count(const ikv_router *router)
{
    return router != NULL ? router->counters : (ikv_router_counters){0};
}

const char *ikv_router_validate(const ikv_router *router)
{
    uint32_t used = 0;
    for (uint32_t i = 0; i < router->capacity; i++) {
        const pointer *p = pointer_at(router, i);
        if (!p->used)
            continue;
        used++;
        if (p->chain_length > IKV_PATH_LIMIT ||
            (p->in_view && !p->over_owed &&
             (p->chain_length == 0 ||
              !same(p->chain[p->chain_length - 1], p->over))))
            return "R1";
        if (p->buttons == 0 && (p->captured.bits != 0 || p->pressed.bits != 0))
            return "R2";
        if (find_pointer(router, p->device, p->id) != p)
            return "R3";
    }
    return used == router->counters.pointers ? NULL : "R3";
}
