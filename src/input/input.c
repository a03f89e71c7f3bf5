/* input.c - one event of a device through all modules, in the order that is
 * told in ikvar/input.h.
 *
 * One router delivers an event, the others let go of its pointer. S2: what a
 * handler stopped, or was typed into a text, does not go down in the state of
 * what nobody claimed.
 *
 * Files, lowest first: input.c.
 */
#include "../action/action_shared.h"
#include "../bus/bus_shared.h"
#include "../event/memory.h"
#include "../event/platform.h"
#include "../event/report.h"
#include "../event/text.h"
#include "../overlap/overlap_shared.h"
#include "../router/router_shared.h"
#include "../state/state_shared.h"
#include "input_shared.h"

typedef struct input_block {
    ikv_input head;
    ikv_memory memory;
    size_t size;
    ikv_reporter reporter;
    ikv_bus *bus;
    ikv_router *routers[IKV_ROUTER_LIMIT];
    uint32_t router_count;
    ikv_state *state;
    ikv_actions *actions;
    ikv_overlaps *overlaps;
} input_block;

/* --------------------------------------------------------------- routing -- */

/* NULL if there is none. */
static ikv_router *router_of(const input_block *in, const ikv_event *event)
{
    for (uint32_t i = 0; in->router_count > 1 && i < in->router_count; i++)
        if (ikv_router_holds(in->routers[i], event))
            return in->routers[i];
    for (uint32_t i = 0; i < in->router_count; i++)
        if (ikv_router_serves(in->routers[i], event->view))
            return in->routers[i];
    return in->routers[0];
}

/* Whether it says where a pointer is. That it has left another view may be told
 * after it has come into this one. */
static bool is_of_place(const input_block *in, const ikv_event *event)
{
    if (event->kind == IKV_KIND_POINTER_LEAVE ||
        event->kind == IKV_KIND_POINTER_CANCEL)
        return false;
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(in->bus), event->kind);
    return info != NULL &&
           (info->family == IKV_FAMILY_POINTER ||
            info->family == IKV_FAMILY_WHEEL || info->family == IKV_FAMILY_PEN);
}

static void leave_others(input_block *in, const ikv_event *event,
                         const ikv_router *router)
{
    for (uint32_t i = 0; i < in->router_count; i++)
        if (in->routers[i] != router) {
            if (event->kind == IKV_KIND_DEVICE_SEAT)
                ikvi_router_reseat(in->routers[i], event);
            ikv_router_release_all(in->routers[i], event);
            if (is_of_place(in, event))
                ikvi_router_elsewhere(in->routers[i], event);
            if (event->kind == IKV_KIND_DRAG_OVER ||
                event->kind == IKV_KIND_DRAG_DROP)
                ikvi_router_drag_elsewhere(in->routers[i], event);
        }
}

static ikv_outcome route_by(input_block *in, ikv_router *router,
                            const ikv_event *event, const ikvi_along *with)
{
    IKVI_CHECK((router == NULL) == (in->router_count == 0));
    if (router == NULL)
        return ikvi_bus_deliver_unrouted(in->bus, event, with);
    if (in->router_count > 1)
        leave_others(in, event, router);
    return with != NULL ? ikvi_router_route_with(router, event, with)
                        : ikv_router_route(router, event);
}

/* ----------------------------------------------------------------- holds -- */

static uint64_t next_hold(const input_block *in)
{
    uint64_t next = UINT64_MAX;
    for (uint32_t i = 0; i < in->router_count; i++) {
        uint64_t own = ikv_router_next_hold(in->routers[i]);
        next = own < next ? own : next;
    }
    return next;
}

static void settle(ikv_input *own, uint64_t time_ns)
{
    ikv_actions *actions = ((input_block *)own)->actions;
    if (actions != NULL)
        ikvi_actions_calls_of(actions)->settle(actions, time_ns, false, false);
}

/* What handlers do to the actions from here on is of that time. */
static void tell_actions_time(const input_block *in, uint64_t time_ns)
{
    if (in->actions != NULL)
        ikvi_actions_calls_of(in->actions)->set_time(in->actions, time_ns);
}

/* Of all routers; each with the actions that follow from it, so that it does
 * not matter how many come due at once. */
static void advance(ikv_input *own, uint64_t time_ns)
{
    input_block *in = (input_block *)own;
    for (;;) {
        /* One moment after the other: an action's end may lie between two
         * holds. */
        uint64_t next = next_hold(in);
        if (IKVI_LIKELY(next > time_ns || next == UINT64_MAX))
            return;
        bool sent = false;
        tell_actions_time(in, next);
        for (uint32_t i = 0; i < in->router_count; i++)
            sent = ikvi_router_advance(in->routers[i], next) || sent;
        if (!sent)
            return; /* inside a handler: they are sent after its event */
        settle(own, next);
    }
}

/* Whatever came of an event: what it does to the actions. */
static void settle_event(input_block *in, const ikv_event *event, bool typed)
{
    /* Made up or lost: what was held ends as not done, and not as done. */
    bool lost = (event->flags & IKV_SYNTHETIC) != 0 ||
                event->kind == IKV_KIND_WINDOW_BLUR ||
                event->kind == IKV_KIND_DEVICE_REMOVE ||
                event->kind == IKV_KIND_DEVICE_RESYNC ||
                event->kind == IKV_KIND_DEVICE_SEAT;
    IKVI_CHECK(in->actions != NULL);
    const ikvi_actions_calls *calls = ikvi_actions_calls_of(in->actions);
    /* Nobody routes, so nobody follows: the root has had it. */
    if (in->router_count == 0) {
        ikv_event at_root = *event;
        at_root.target = ikvi_bus_root();
        calls->take(in->actions, &at_root, false);
    }
    calls->settle(in->actions, event->time_ns, typed, lost);
}

/* ------------------------------------------------------------- the calls -- */

static void feed_unclaimed(const input_block *in, const ikv_event *event,
                           bool typed, ikv_verdict verdict)
{
    IKVI_CHECK(in->state != NULL);
    const ikvi_state_calls *calls = ikvi_state_calls_of(in->state);
    if (typed || (verdict & (IKV_STOP | IKV_STOP_ALL)) != 0)
        calls->take_claimed(in->state, event);
    else
        calls->take(in->state, IKV_STATE_UNCLAIMED, event);
}

void ikv_input_begin_frame(ikv_input *own)
{
    ikv_state *state = own != NULL ? ((input_block *)own)->state : NULL;
    if (state != NULL)
        ikvi_state_calls_of(state)->begin_frame(state);
}

void ikv_input_begin_step(ikv_input *own, uint64_t time_ns)
{
    ikv_state *state = own != NULL ? ((input_block *)own)->state : NULL;
    if (state != NULL)
        ikvi_state_calls_of(state)->begin_step(state, time_ns);
}

static void set_time(ikv_input *own, uint64_t time_ns)
{
    ikv_state *state = ((input_block *)own)->state;
    if (state != NULL)
        ikvi_state_calls_of(state)->set_time(state, time_ns);
}

/* By a loop, which feeds a resync with what is held. */
static void feed_input(ikv_input *own, const ikv_event *event)
{
    ikv_state *state = ((input_block *)own)->state;
    if (IKVI_LIKELY(state != NULL))
        ikvi_state_calls_of(state)->take_input(state, event);
}

void ikv_input_feed(ikv_input *own, const ikv_event *event)
{
    ikv_state *state = own != NULL ? ((input_block *)own)->state : NULL;
    /* A resync is fed with what is held, which one event does not say. */
    if (state != NULL && event != NULL && event->kind != IKV_KIND_DEVICE_RESYNC)
        ikvi_state_calls_of(state)->take(state, IKV_STATE_RAW, event);
}

/* Holds that came due before come first; whether a key is typed is asked before
 * routing, since a handler may move the focus; the unclaimed state and the
 * actions come last, when all have had their say (S2). */
static ikv_outcome route_with(ikv_input *own, const ikv_event *event,
                              const ikvi_along *with)
{
    input_block *in = (input_block *)own;
    ikv_outcome outcome = {.status = IKV_BAD_ARGUMENT};
    if (ikvi_bus_is_busy(in->bus)) {
        outcome.status = IKV_BUSY;
        return outcome;
    }
    /* With actions holds are sent one by one here; else the router does it. */
    if (in->actions != NULL)
        advance(own, event->time_ns);
    tell_actions_time(in, event->time_ns);
    ikv_router *router = router_of(in, event);
    bool typed = ikvi_router_types(router, event);
    outcome = route_by(in, router, event, with);
    if (in->state != NULL)
        feed_unclaimed(in, event, typed, outcome.verdict);
    if (in->actions != NULL)
        settle_event(in, event, typed);
    return outcome;
}

ikv_outcome ikv_input_route(ikv_input *own, const ikv_event *event,
                            const ikv_event *samples, uint32_t count)
{
    ikvi_along with = {.samples = samples, .count = count};
    if (own == NULL || event == NULL || (samples == NULL && count > 1))
        return (ikv_outcome){.status = IKV_BAD_ARGUMENT};
    return route_with(own, event, count > 1 ? &with : NULL);
}

ikv_outcome ikv_input_route_data(ikv_input *own, const ikv_event *event,
                                 const void *data, uint32_t size)
{
    ikvi_along with = {.data = data, .data_size = size};
    if (own == NULL || event == NULL || (data == NULL && size > 0))
        return (ikv_outcome){.status = IKV_BAD_ARGUMENT};
    return route_with(own, event, size > 0 ? &with : NULL);
}

static void resync_state(const input_block *in, uint32_t filter,
                         const ikv_event *event, const ikv_event *held,
                         uint32_t count)
{
    if (in->state != NULL)
        ikvi_state_calls_of(in->state)->resync(in->state, filter, event, held,
                                               count);
}

static void feed_resync(ikv_input *own, const ikv_event *event,
                        const ikv_event *held, uint32_t count)
{
    resync_state((input_block *)own, IKV_STATE_RAW, event, held, count);
}

/* To the actions all of a loss is one moment, so that what goes over from one key
 * to another goes on; but for what is typed, which is none of theirs (A6). */
static void make_up(input_block *in, const ikv_event *lost,
                    const ikv_event *down)
{
    ikv_router *router = router_of(in, down);
    bool typed = ikvi_router_types(router, down);
    bool apart = typed && in->actions != NULL;
    if (apart)
        settle_event(in, lost, false);
    ikv_outcome outcome = route_by(in, router, down, NULL);
    if (in->state != NULL)
        feed_unclaimed(in, down, typed, outcome.verdict);
    if (apart)
        settle_event(in, down, true);
}

/* What is not held is ended, then handlers are told, then what is held and not
 * down is made up. */
static void resync_fed(ikv_input *own, const ikv_event *event,
                       const ikv_event *held, uint32_t count)
{
    input_block *in = (input_block *)own;
    if (in->actions != NULL)
        advance(own, event->time_ns);
    tell_actions_time(in, event->time_ns);
    resync_state(in, IKV_STATE_UNCLAIMED, event, held, count);
    for (uint32_t i = 0; i < in->router_count; i++)
        ikv_router_resync(in->routers[i], event, held, count);
    route_by(in, router_of(in, event), event, NULL);
    /* Only what nobody knows to be down is made up. */
    for (uint32_t k = 0; k < count; k++) {
        bool down = false;
        for (uint32_t i = 0; i < in->router_count; i++)
            down = down || ikv_router_is_down(in->routers[i], &held[k]);
        if (!down)
            make_up(in, event, &held[k]);
    }
    if (in->actions != NULL)
        settle_event(in, event, false);
}

void ikv_input_resync(ikv_input *own, const ikv_event *event,
                      const ikv_event *held, uint32_t count)
{
    if (own == NULL || event == NULL || (held == NULL && count > 0) ||
        ikvi_bus_is_busy(((input_block *)own)->bus))
        return;
    feed_resync(own, event, held, count);
    resync_fed(own, event, held, count);
}

void ikv_input_retest(ikv_input *own, uint64_t time_ns)
{
    input_block *in = (input_block *)own;
    if (in != NULL)
        tell_actions_time(in, time_ns);
    for (uint32_t i = 0; in != NULL && i < in->router_count; i++)
        ikv_router_retest(in->routers[i], time_ns);
}

void ikv_input_finish(ikv_input *own, uint64_t last_ns, uint64_t end_ns)
{
    if (own == NULL)
        return;
    /* What is due at the step's end is the next step's. */
    advance(own, end_ns > 0 ? end_ns - 1 : 0);
    settle(own, last_ns);
    ikv_actions *actions = ((input_block *)own)->actions;
    if (actions != NULL)
        ikvi_actions_calls_of(actions)->step(actions, end_ns);
}

void ikv_input_end_step(ikv_input *own, uint64_t step, uint64_t time_ns)
{
    ikv_overlaps *overlaps =
        own != NULL ? ((input_block *)own)->overlaps : NULL;
    if (overlaps != NULL)
        ikvi_overlaps_calls_of(overlaps)->step(overlaps, step, time_ns);
}

uint64_t ikv_input_next_hold(const ikv_input *own)
{
    return own != NULL ? next_hold((const input_block *)own) : UINT64_MAX;
}

static bool is_stale(const ikv_input *own)
{
    const input_block *in = (const input_block *)own;
    bool stale = false;
    for (uint32_t i = 0; i < in->router_count; i++)
        stale = stale || ikvi_router_is_stale(in->routers[i]);
    return stale;
}

static uint64_t focus_turn(const ikv_input *own)
{
    const input_block *in = (const input_block *)own;
    uint64_t turn = 1;
    for (uint32_t i = 0; i < in->router_count; i++)
        turn += ikvi_router_focus_turn(in->routers[i]);
    return turn;
}

static bool awaits(const ikv_input *own)
{
    const input_block *in = (const input_block *)own;
    return next_hold(in) != UINT64_MAX || is_stale(own) ||
           (in->actions != NULL &&
            ikvi_actions_calls_of(in->actions)->awaits(in->actions)) ||
           (in->overlaps != NULL &&
            ikvi_overlaps_calls_of(in->overlaps)->awaits(in->overlaps));
}

static bool text_area(const ikv_input *own, float box[4])
{
    const input_block *in = (const input_block *)own;
    for (uint32_t i = 0; i < in->router_count; i++)
        for (uint8_t seat = 0; seat < IKV_SEAT_LIMIT; seat++)
            if (ikv_router_takes_text(in->routers[i], seat)) {
                ikvi_router_box(in->routers[i],
                                ikv_router_focused(in->routers[i], seat), box);
                return true;
            }
    return false;
}

static const ikvi_input_calls input_calls = {.begin_frame =
                                                 ikv_input_begin_frame,
                                             .begin_step = ikv_input_begin_step,
                                             .feed = feed_input,
                                             .route = route_with,
                                             .feed_resync = feed_resync,
                                             .resync = resync_fed,
                                             .retest = ikv_input_retest,
                                             .finish = ikv_input_finish,
                                             .end_step = ikv_input_end_step,
                                             .next_hold = ikv_input_next_hold,
                                             .awaits = awaits,
                                             .advance = advance,
                                             .settle = settle,
                                             .set_time = set_time,
                                             .is_stale = is_stale,
                                             .focus_turn = focus_turn,
                                             .text_area = text_area};

/* --------------------------------------------------------------- opening -- */

static ikv_status check_input_links(const ikv_input_config *config)
{
    const ikv_reporter *to = &config->reporter;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    if (config->router_count > IKV_ROUTER_LIMIT)
        return ikvi_bad_config(to, IKV_FULL_ROUTERS, "input",
                               ikv_status_text(IKV_FULL_ROUTERS));
    for (uint32_t i = 0; i < config->router_count; i++)
        if (config->routers == NULL || config->routers[i] == NULL)
            return ikvi_bad_config(to, IKV_BAD_CONFIG, "input",
                                   "the config's routers has a NULL");
    if (config->bus == NULL)
        return ikvi_bad_config(to, IKV_BAD_CONFIG, "input",
                               "the config's bus is NULL");
    return IKV_OK;
}

/* One block without arrays: what is asked for hangs on nothing in the
 * config. */
size_t ikv_input_footprint(const ikv_input_config *config)
{
    bool fits = config != NULL && config->size == sizeof *config &&
                config->router_count <= IKV_ROUTER_LIMIT;
    return fits ? sizeof(input_block) : 0;
}

ikv_status ikv_input_open(const ikv_input_config *config, ikv_input **own)
{
    if (config == NULL || own == NULL)
        return IKV_BAD_ARGUMENT;
    void *block = NULL;
    ikv_status status = check_input_links(config);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, sizeof(input_block), &block);
    if (block == NULL)
        return status;
    input_block *in = block;
    *in = (input_block){.head = {.calls = &input_calls},
                        .memory = config->memory,
                        .size = sizeof(input_block),
                        .reporter = config->reporter,
                        .bus = config->bus,
                        .router_count = config->router_count,
                        .state = config->state,
                        .actions = config->actions,
                        .overlaps = config->overlaps};
    /* All are known before the first is told of its peers. */
    for (uint32_t i = 0; i < in->router_count; i++)
        in->routers[i] = config->routers[i];
    for (uint32_t i = 0; i < in->router_count; i++) {
        ikvi_router_join(in->routers[i], in->routers, in->router_count);
        if (in->actions != NULL)
            ikvi_actions_calls_of(in->actions)
                ->follow(in->actions, in->routers[i]);
    }
    *own = &in->head;
    return IKV_OK;
}

ikv_status ikv_input_close(ikv_input *own)
{
    input_block *in = (input_block *)own;
    if (in == NULL)
        return IKV_OK;
    if (own->in_loop || ikvi_bus_is_busy(in->bus)) {
        ikvi_report(&in->reporter, IKV_REPORT_ERROR, IKV_BUSY, "input",
                    own->in_loop ? "not closed: a loop has it"
                                 : "not closed: inside a handler");
        return IKV_BUSY;
    }
    for (uint32_t i = 0; i < in->router_count; i++)
        ikvi_router_leave(in->routers[i], in->routers);
    ikv_memory memory = in->memory;
    ikvi_memory_give(&memory, in, in->size);
    return IKV_OK;
}
