/* router.c - opens a router, and sends each event on its way.
 *
 * A pointer's state is brought up to date before handlers are told of it, and
 * what is still to be told lies in local arrays; so handlers may do anything.
 *
 * router-1  a pointer in use has a chain of the targets that it has entered,
 *           root first; `over` is the last of them, unless it is owed (GONE1)
 * router-2  captures, presses and holds belong to pointers with a button down
 * router-3  no two pointers in use are of the same device and id
 * router-4  no key is down twice
 * router-5  a target is modal once for a seat, and nothing is left to cancel
 */
#include "router_internal.h"

#define MILLISECOND UINT64_C(1000000)

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_router(const ikv_router_config *config,
                                 const ikv_reporter *reporter, ikv_router *r)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"router.pointers", config->pointers, 0, UINT16_MAX},
        {"router.keys", config->keys, 0, UINT16_MAX},
        {"router.passed", config->passed, 0, 1024},
        {"router.pads", config->pads, 0, IKV_PAD_LIMIT}};
    ikv_status status = ikvi_check_ranges(reporter, "router", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    const float slops[] = {config->slop, config->mouse_slop,
                           config->double_slop, config->view_width,
                           config->view_height};
    static const char *const faults[] = {
        "router.slop must be 0 to 2^30", "router.mouse_slop must be 0 to 2^30",
        "router.double_slop must be 0 to 2^30",
        "router.view_width must be 0 to 2^30",
        "router.view_height must be 0 to 2^30"};
    for (size_t i = 0; i < 5; i++)
        if (!(slops[i] >= 0) || !ikvi_coordinate_is_good(slops[i]))
            return ikvi_bad_config(reporter, IKV_BAD_CONFIG, "router",
                                   faults[i]);
    if (!ikvi_zones_set(&r->zones, config->dead_zone, config->full_zone,
                        config->axial_zones))
        return ikvi_bad_config(reporter, IKV_BAD_CONFIG, "router",
                               ikvi_zones_fault);
    r->capacity = ikvi_or(config->pointers, 32);
    r->key_capacity = ikvi_or(config->keys, 64);
    r->passed_limit = ikvi_or(config->passed, 16);
    r->pad_room = ikvi_or(config->pads, IKV_PAD_LIMIT);
    /* A pair that has lost a finger holds one pointer, a new one takes two. */
    r->pair_room = r->capacity > FINGER_PAIRS ? FINGER_PAIRS : r->capacity - 1;
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *r);
    r->pointers = ikvi_layout_add(&l, r->capacity, sizeof(pointer));
    r->keys = ikvi_layout_add(&l, r->key_capacity, sizeof(held_key));
    r->passed = ikvi_layout_add(&l, (size_t)r->capacity * r->passed_limit,
                                sizeof(ikv_target));
    r->pairs = ikvi_layout_add(&l, r->pair_room, sizeof(finger_pair));
    r->pads = ikvi_layout_add(&l, r->pad_room, sizeof(pad_state));
    r->size = ikvi_layout_size(&l);
    return r->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_router_footprint(const ikv_router_config *config)
{
    ikv_router plan;
    return config != NULL &&
                   lay_out_router(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
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

static float or_else(float value, float fallback)
{
    return value > 0 ? value : fallback;
}

ikv_status ikv_router_open(const ikv_router_config *config, ikv_router **router)
{
    if (config == NULL || router == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_router plan = {
        .memory = config->memory,
        .identity = ikvi_identity(
            config, offsetof(ikv_router_config, two_tap_alone) + 1),
        .bus = config->bus,
        .catalogue = ikv_bus_catalogue(config->bus),
        .picking = config->picking,
        .reporter = config->reporter,
        .slop = or_else(config->slop, 12),
        .mouse_slop = or_else(config->mouse_slop, 4),
        .double_slop = or_else(config->double_slop, 4),
        .hold_ns = config->hold_ns,
        .double_ns = config->double_ns,
        .views = ikvi_or(config->views, UINT32_MAX),
        .keep_focus = config->keep_focus,
        .no_tab = config->no_tab,
        .click_after_drag = config->click_after_drag,
        .two_tap_alone = config->two_tap_alone};
    if (plan.hold_ns == 0)
        plan.hold_ns = 500 * MILLISECOND;
    if (plan.double_ns == 0)
        plan.double_ns = 500 * MILLISECOND;
    void *block = NULL;
    ikv_status status = lay_out_router(config, &config->reporter, &plan);
    if (status == IKV_OK && config->bus == NULL)
        status = ikvi_bad_config(&config->reporter, IKV_BAD_CONFIG, "router",
                                 "the config's bus is NULL");
    if (status == IKV_OK && check_picking(&config->picking) < 0)
        status = ikvi_bad_config(
            &config->reporter, check_picking(&config->picking), "router",
            "router.picking lacks a function, or its size is not that of "
            "ikv_picking: begin with IKV_PICKING_INIT, or ikv_kit_picking()");
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    ikv_router *r = block;
    *r = plan;
    /* Until something is routed, focus is told in a view that it serves. */
    while (r->s.view < 31 && !ikv_router_serves(r, r->s.view))
        r->s.view++;
    for (uint32_t i = 0; i < VIEWS; i++) {
        r->s.sizes[i][0] = config->view_width;
        r->s.sizes[i][1] = config->view_height;
    }
    *router = r;
    return IKV_OK;
}

void ikv_router_set_follower(ikv_router *router, ikv_router_follower follower,
                             void *user)
{
    if (router != NULL) {
        router->follower = follower;
        router->follower_user = user;
    }
}

ikv_status ikv_router_close(ikv_router *router)
{
    if (router == NULL)
        return IKV_OK;
    if (router->routing || ikvi_bus_is_busy(router->bus)) {
        ikvi_report(&router->reporter, IKV_REPORT_ERROR, IKV_BUSY, "router",
                    "not closed: inside a handler");
        return IKV_BUSY;
    }
    ikv_memory memory = router->memory;
    ikvi_memory_give(&memory, router, router->size);
    return IKV_OK;
}

/* -------------------------------------------------------------- routing -- */

/* The buttons of a pointer that a port says are down. */
static uint16_t buttons_held(const pointer *p, const ikv_event *held,
                             uint32_t count)
{
    uint16_t buttons = 0;
    for (uint32_t i = 0; i < count; i++)
        if (held[i].kind == IKV_KIND_POINTER_DOWN &&
            held[i].pointer.pointer == p->id)
            buttons |= ikvi_button_bit(held[i].pointer.button);
    return buttons;
}

/* Of those that end, the one that went down first; NULL when none is left. */
static pointer *next_to_end(const ikv_router *r, const ikv_event *cause,
                            bool down, const ikv_event *held, uint32_t count)
{
    pointer *next = NULL;
    for (uint32_t i = 0; i < r->capacity; i++) {
        pointer *p = pointer_at(r, i);
        if (p->used && (p->buttons != 0) == down &&
            ikvi_router_belongs(cause, p->device, p->view) &&
            (count == 0 || p->buttons != buttons_held(p, held, count)) &&
            (next == NULL || p->press_number < next->press_number))
            next = p;
    }
    return next;
}

/* K1, TOUCH4: those that are down, in the order of their downs; pointers of a
 * device that is gone leave too. */
static void release_all(ikv_router *r, const ikv_event *cause,
                        const ikv_event *held, uint32_t count)
{
    bool leaves = cause->kind == IKV_KIND_DEVICE_REMOVE;
    pointer *p;
    ikvi_router_drop_spent(r, cause);
    ikvi_router_release_keys(r, cause, held, count);
    if (cause->kind == IKV_KIND_WINDOW_BLUR)
        ikvi_router_end_texts(r);
    ikvi_router_release_pads(r, cause, held, count);
    /* After a loss its end may be lost; if it is not, its next one begins it
     * anew. */
    if (cause->kind != IKV_KIND_WINDOW_BLUR &&
        r->s.foreign.device == cause->device)
        ikvi_router_drag_elsewhere(r, cause);
    /* Asked anew after each: handlers may have ended others. */
    while ((p = next_to_end(r, cause, true, held, count)) != NULL)
        ikvi_router_end(r, p, cause->time_ns, leaves);
    /* Those that hover leave last, as nothing of theirs is owed to anybody. */
    while (leaves && (p = next_to_end(r, cause, false, NULL, 0)) != NULL)
        ikvi_router_end(r, p, cause->time_ns, true);
}

void ikv_router_resync(ikv_router *router, const ikv_event *cause,
                       const ikv_event *held, uint32_t count)
{
    if (router == NULL || cause == NULL || (held == NULL && count > 0) ||
        cause->kind != IKV_KIND_DEVICE_RESYNC || router->routing)
        return;
    router->routing = true;
    /* What is released bears the moment at which the loss was seen. */
    router->s.time_ns = cause->time_ns;
    release_all(router, cause, held, count);
    ikvi_router_end_routing(router);
}

bool ikv_router_is_down(const ikv_router *router, const ikv_event *down)
{
    if (router == NULL || down == NULL)
        return false;
    if (down->kind == IKV_KIND_KEY_DOWN || down->kind == IKV_KIND_KEY_UP)
        return ikvi_router_key_is_down(router, down);
    if (down->kind == IKV_KIND_PAD_DOWN || down->kind == IKV_KIND_PAD_UP)
        return ikvi_router_pad_is_down(router, down);
    const ikv_kind_info *info =
        ikv_catalogue_info(router->catalogue, down->kind);
    if (info == NULL || info->family != IKV_FAMILY_POINTER)
        return false;
    const pointer *p =
        ikvi_router_find(router, down->device, down->pointer.pointer);
    return p != NULL && ((p->buttons | p->spent) &
                         ikvi_button_bit(down->pointer.button)) != 0;
}

void ikv_router_release_all(ikv_router *router, const ikv_event *cause)
{
    if (router == NULL || cause == NULL || router->routing ||
        (cause->kind != IKV_KIND_DEVICE_REMOVE &&
         cause->kind != IKV_KIND_WINDOW_BLUR))
        return;
    router->routing = true;
    router->s.time_ns = cause->time_ns;
    release_all(router, cause, NULL, 0);
    ikvi_router_end_routing(router);
}

/* What releases comes before who hears of it: when a handler is told that a
 * device has gone, nothing of it is down any more (K1). */
static ikv_outcome route_by_family(ikv_router *r, const ikv_event *event)
{
    const ikv_kind_info *info = ikv_catalogue_info(r->catalogue, event->kind);
    if (info == NULL)
        return no_outcome(IKV_UNKNOWN_KIND);
    if (event->seat >= IKV_SEAT_LIMIT)
        return ikvi_router_meaningless(r, event, "its seat is none of 0 to 7");
    switch (info->family) {
    case IKV_FAMILY_POINTER:
        return ikvi_router_pointer(r, event);
    case IKV_FAMILY_WHEEL:
        return ikvi_router_wheel(r, event);
    case IKV_FAMILY_PEN:
        return ikvi_router_pen(r, event);
    case IKV_FAMILY_PAD:
        return ikvi_router_pad(r, event);
    case IKV_FAMILY_KEY:
    case IKV_FAMILY_TEXT:
        return ikvi_router_key(r, event);
    case IKV_FAMILY_DRAG:
        return ikvi_drag_foreign(r, event);
    default:
        if (event->kind == IKV_KIND_DEVICE_REMOVE ||
            event->kind == IKV_KIND_WINDOW_BLUR)
            release_all(r, event, NULL, 0);
        /* Before handlers hear of it: they may ask what is in view. */
        if (event->kind == IKV_KIND_WINDOW_RESIZE)
            ikvi_router_resized(r, event);
        if (event->kind == IKV_KIND_DEVICE_SEAT)
            ikvi_router_reseat(r, event);
        return ikvi_router_send_to(r, event, event->target);
    }
}

/* Holds that came due before the event are sent first; the focus is looked at
 * anew, since the scene may have changed. `routing` is set throughout: a
 * handler that routes is refused. */
ikv_outcome ikv_router_route(ikv_router *router, const ikv_event *event)
{
    if (router == NULL || event == NULL)
        return no_outcome(IKV_BAD_ARGUMENT);
    if (router->routing) {
        router->s.counters.busy++;
        return no_outcome(IKV_BUSY);
    }
    router->routing = true;
    if (IKVI_UNLIKELY(router->s.holds_due > 0))
        ikvi_router_send_holds(router, event->time_ns);
    router->s.time_ns = event->time_ns;
    /* The view that focus events are told in. */
    if (ikv_router_serves(router, event->view))
        router->s.view = event->view;
    ikvi_router_check_focus(router, event->time_ns);
    ikv_outcome outcome = route_by_family(router, event);
    ikvi_router_end_routing(router);
    if (outcome.status == IKV_OK)
        router->s.counters.routed++;
    return outcome;
}

/* Inside a handler it is refused, and what goes along is of the event under
 * way. */
ikv_outcome ikvi_router_route_with(ikv_router *router, const ikv_event *event,
                                   const ikvi_along *with)
{
    bool busy = router->routing;
    if (!busy) {
        router->along = *with;
        router->along_kind = event->kind;
    }
    ikv_outcome outcome = ikv_router_route(router, event);
    if (!busy)
        router->along = (ikvi_along){0};
    return outcome;
}

ikv_outcome ikv_router_route_merged(ikv_router *router, const ikv_event *event,
                                    const ikv_event *samples, uint32_t count)
{
    ikvi_along with = {.samples = samples, .count = count};
    if (router == NULL || event == NULL || (samples == NULL && count > 0))
        return no_outcome(IKV_BAD_ARGUMENT);
    return ikvi_router_route_with(router, event, &with);
}

ikv_outcome ikv_router_route_data(ikv_router *router, const ikv_event *event,
                                  const void *data, uint32_t size)
{
    ikvi_along with = {.data = data, .data_size = size};
    if (router == NULL || event == NULL || (data == NULL && size > 0))
        return no_outcome(IKV_BAD_ARGUMENT);
    return ikvi_router_route_with(router, event, &with);
}

/* Not 0 for what is above it. */
static uint32_t in_microseconds(uint64_t ns)
{
    return (uint32_t)((ns + 999) / 1000);
}

ikv_status ikv_router_set_times(ikv_router *router, uint8_t seat,
                                uint64_t hold_ns, uint64_t double_ns)
{
    const uint64_t most = 3600000 * MILLISECOND;
    if (router == NULL || (seat >= IKV_SEAT_LIMIT && seat != IKV_ALL_SEATS) ||
        hold_ns > most || double_ns > most)
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; i < IKV_SEAT_LIMIT; i++)
        if (i == seat || seat == IKV_ALL_SEATS) {
            router->s.hold_us[i] = in_microseconds(hold_ns);
            router->s.double_us[i] = in_microseconds(double_ns);
        }
    return IKV_OK;
}

uint64_t ikv_router_next_hold(const ikv_router *router)
{
    uint64_t next = UINT64_MAX;
    if (router == NULL || router->s.holds_due == 0)
        return next;
    for (uint32_t i = 0; i < router->capacity; i++) {
        const pointer *p = pointer_at(router, i);
        if (p->used && p->hold_due && p->hold_ns < next)
            next = p->hold_ns;
    }
    return next;
}

bool ikvi_router_advance(ikv_router *router, uint64_t time_ns)
{
    if (router->routing || router->s.holds_due == 0)
        return false;
    router->routing = true;
    ikvi_router_send_holds(router, time_ns);
    ikvi_router_end_routing(router);
    return true;
}

void ikv_router_advance(ikv_router *router, uint64_t time_ns)
{
    if (router != NULL)
        ikvi_router_advance(router, time_ns);
}

/* ----------------------------------------------- modal targets, cancelling -- */

/* At once; inside a handler, when what is routed has been told. */
static void cancel_now(ikv_router *r)
{
    if (r->routing)
        return;
    r->routing = true;
    ikvi_router_end_routing(r);
}

ikv_status ikv_router_set_modal(ikv_router *router, uint8_t seat,
                                ikv_target target)
{
    if (router == NULL || seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    if (target.bits == 0)
        return ikvi_router_end_modal(router, seat);
    ikv_status status = ikvi_router_begin_modal(router, seat, target);
    if (status == IKV_OK)
        cancel_now(router);
    return status;
}

ikv_status ikv_router_cancel_all(ikv_router *router, uint8_t seat)
{
    if (router == NULL || seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    router->s.cancels |= (uint8_t)(1u << seat);
    cancel_now(router);
    return IKV_OK;
}

ikv_target ikv_router_over(const ikv_router *router, uint16_t device,
                           uint16_t id)
{
    const pointer *p =
        router != NULL ? ikvi_router_find(router, device, id) : NULL;
    return p != NULL && p->in_view ? p->over : (ikv_target){0};
}

/* ------------------------------------------------------------- counting -- */

bool ikv_router_pointer(const ikv_router *router, uint32_t nth,
                        ikv_routed_pointer *to)
{
    if (router == NULL || to == NULL || to->size != sizeof *to)
        return false;
    for (uint32_t i = 0; i < router->capacity; i++) {
        const pointer *p = pointer_at(router, i);
        if (!p->used || nth-- > 0)
            continue;
        *to = (ikv_routed_pointer){
            .size = sizeof *to,
            .device = p->device,
            .pointer = p->id,
            .type = p->type,
            .view = p->view,
            .seat = p->seat,
            .primary = p->primary,
            .buttons = p->buttons,
            .x = p->x,
            .y = p->y,
            .over = p->in_view ? p->over : (ikv_target){0},
            .captured = p->captured,
            .pressed = p->buttons != 0 ? p->pressed : (ikv_target){0},
            .dragging = p->drag_told ? p->dragging : (ikv_target){0},
            .drag_over = p->drag.over,
            .drag_accepts = p->drag.accepts};
        return true;
    }
    return false;
}

ikv_status ikv_router_counters(const ikv_router *router,
                               ikv_router_counts *counts)
{
    if (router == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_router_counts found = router->s.counters;
    found.pointers_capacity = router->capacity;
    for (uint32_t i = 0; i < router->capacity; i++) {
        const pointer *p = pointer_at(router, i);
        found.pointers_down += p->used && p->buttons != 0;
    }
    return ikvi_give_sized(counts, &found, sizeof found);
}

static const char *validate_pointer(const ikv_router *router, const pointer *p)
{
    if (p->chain_length > IKV_PATH_LIMIT ||
        (p->in_view && !p->over_untold &&
         (p->chain_length == 0 ||
          !same(p->chain[p->chain_length - 1], p->over))))
        return "router-1";
    if (p->buttons == 0 &&
        (p->captured.bits != 0 || p->pressed.bits != 0 ||
         p->clicking.bits != 0 || p->attached.bits != 0 || p->hold_due ||
         p->dragging.bits != 0 || p->to_drag.bits != 0 ||
         p->to_attach.bits != 0 || p->drag.over.bits != 0))
        return "router-2";
    return ikvi_router_find(router, p->device, p->id) == p ? NULL : "router-3";
}

const char *ikv_router_validate(const ikv_router *router)
{
    if (router == NULL)
        return NULL;
    uint32_t used = 0, due = 0;
    for (uint32_t i = 0; i < router->capacity; i++) {
        const pointer *p = pointer_at(router, i);
        if (!p->used)
            continue;
        used++;
        due += p->hold_due;
        const char *broken = validate_pointer(router, p);
        if (broken != NULL)
            return broken;
    }
    for (uint32_t i = 0; i < router->s.key_count; i++)
        for (uint32_t k = 0; k < i; k++)
            if (key_at(router, i)->code == key_at(router, k)->code &&
                key_at(router, i)->device == key_at(router, k)->device)
                return "router-4";
    for (uint32_t i = 0; i < router->s.modal_count; i++)
        for (uint32_t k = 0; k < i; k++)
            if (router->s.modals[i].seat == router->s.modals[k].seat &&
                same(router->s.modals[i].target, router->s.modals[k].target))
                return "router-5";
    if (!router->routing &&
        (router->s.cancels | router->s.cancels_outside) != 0)
        return "router-5";
    if (due != router->s.holds_due)
        return "router-2";
    return used == router->s.counters.pointers ? NULL : "router-3";
}

/* ------------------------------------------------------ for those above -- */

bool ikvi_router_is_routing(const ikv_router *router)
{
    return router->routing;
}

uint64_t ikvi_router_saved(ikv_router *router, ikvi_saved *to)
{
    const size_t from = offsetof(ikv_router, s);
    *to = (ikvi_saved){(char *)router + from, router->size - from};
    return router->identity;
}
