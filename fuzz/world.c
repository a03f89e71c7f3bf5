/* world.c - opens what a program of calls has; and where in its bytes it is. */
#include "world.h"

static ikv_status open_port(void *state, ikv_sink *sink)
{
    world *w = state;
    w->sink = sink;
    w->device = ikv_sink_device(sink);
    return IKV_OK;
}

static uint64_t port_now(void *state)
{
    const world *w = state;
    return w->now;
}

static ikv_status wait_port(void *state, uint64_t until, bool for_input)
{
    world *w = state;
    if (until > w->now)
        w->now = until < w->now + 50000000 ? until : w->now + 50000000;
    return for_input && w->now % 2 ? IKV_ENDED : IKV_OK;
}

static ikv_status poll_port(void *state)
{
    (void)state;
    return IKV_OK;
}

static ikv_status held_on(void *state, uint16_t device, ikv_event *events,
                          uint32_t room, uint32_t *count)
{
    const world *w = state;
    MUST(room >= 2);
    *count = 2;
    events[0] = ikv_event_make(IKV_KIND_KEY_DOWN, w->now);
    events[0].key.code = IKV_CODE(4 + w->calls % 30);
    events[1] = ikv_event_make(IKV_KIND_POINTER_DOWN, w->now);
    events[1].pointer.x = events[1].pointer.y = 20;
    events[0].device = events[1].device = device;
    return IKV_OK;
}

static void recorded(const ikv_event *event, const ikv_intake *intake,
                     void *user)
{
    (void)user;
    fuzz_event(event);
    fuzz_number(intake->how | (uint64_t)intake->has_due << 8 |
                (uint64_t)intake->within << 9 | (uint64_t)intake->flush << 10 |
                (uint64_t)intake->lane << 18 | (uint64_t)intake->group << 32);
    fuzz_number(intake->due_ns ^ intake->lost_ns << 1);
    fuzz_tell(intake->data, intake->data_size);
}

static uint64_t clock_of(void *user)
{
    world *w = user;
    return w->now += 100;
}

static void close_port(void *state)
{
    (void)state;
}

static bool has_point(void *user, ikv_target target, void *target_user, float x,
                      float y, float radius)
{
    (void)user, (void)target, (void)target_user;
    return x * x + y * y <= (20 + radius) * (20 + radius);
}

/* What a recorded game and a played one may differ in is not told: reports, and
 * what finds no room. */
static void shape_game(world *w, ikv_kit_config *config)
{
    static const uint32_t rates[][2] = {{60, 1}, {60000, 1001}, {240, 1},
                                        {7, 3},  {30, 1},       {60, 1}};
    const uint32_t *rate = rates[a_byte(w) % 6];
    config->loop.step_num = rate[0];
    config->loop.step_den = rate[1];
    config->loop.max_steps = 1 + a_byte(w) % 9;
    config->loop.pending = 2048;
    config->loop.blocks = config->queue.blocks = 64;
    config->reporter.report = NULL;
    uint32_t frames = 20 + a_byte(w);
    config->loop.frame_hz = w->port != NULL ? frames : IKV_UNPACED;
    w->device = 1;
}

/* Somewhat less, by a number that hangs on all that were asked for: capacities of
 * every size, with whatever is over in a last block or word. */
static uint32_t about(uint32_t most, uint32_t *mixed)
{
    *mixed = *mixed * UINT32_C(1664525) + UINT32_C(1013904223);
    return most - (*mixed >> 16) % (most / 4 + 1);
}

static void shape_world(world *w, ikv_kit_config *config, uint32_t mixed)
{
    config->bus.targets = config->scene.targets = config->overlaps.targets =
        about(config->bus.targets, &mixed);
    config->bus.subscriptions = about(config->bus.subscriptions, &mixed);
    config->bus.entries = about(config->bus.entries, &mixed);
    config->bus.deferred = about(config->bus.deferred, &mixed);
    config->bus.timers = about(config->bus.timers, &mixed);
    config->actions.actions = about(config->actions.actions, &mixed);
    config->actions.bindings = about(config->actions.bindings, &mixed);
    config->router.keys = about(12, &mixed);
    config->state.keys = about(config->state.keys, &mixed);
    config->loop.pending = about(config->loop.pending, &mixed);
    if (!w->twice)
        config->overlaps.contacts = about(config->overlaps.contacts, &mixed);
    config->overlaps.pairs =
        w->twice ? config->overlaps.pairs : about(200, &mixed);
}

void open_world(world *w)
{
    ikv_port port = {.size = sizeof port,
                     .capabilities = IKV_PORT_CLOCK,
                     .name = "fuzz",
                     .state = w,
                     .open = open_port,
                     .poll = poll_port,
                     .wait = wait_port,
                     .now = port_now,
                     .close = close_port};
    ikv_kit_config config = IKV_KIT_INIT;
    uint32_t small = a_byte(w), other = a_byte(w);
    uint32_t third = a_byte(w);
    w->tame = other % 4 != 0;
    w->twice = other / 16 % 4 == 0;
    w->plays = third % 4 == 1 && !w->taped;
    if (w->plays)
        port.capabilities |= IKV_PORT_PLAYBACK;
    if (third / 4 % 2)
        port.held = held_on;
    if (third / 8 % 2)
        port.capabilities |= IKV_PORT_WAITS;
    config.memory = ikv_host_memory();
    config.ports = w->port != NULL ? w->port : &port;
    config.port_count = 1;
    config.queue.capacity = 64;
    config.queue.blocks = 3;
    config.queue.block_bytes = 32;
    config.loop.blocks = 2;
    config.bus.targets = config.scene.targets = config.overlaps.targets =
        third / 128 ? 400 : 64;
    config.bus.subscriptions = small % 2 ? 12 : 40;
    config.bus.entries = small % 4 ? 24 : 200;
    config.bus.deferred = 24;
    config.bus.timers = 8;
    config.bus.owners = 4;
    config.scene.layers = 4;
    config.scene.polygons = 8;
    config.actions.actions = 8;
    config.actions.bindings = 12;
    config.overlaps.contacts = small % 8 ? 8 : 64;
    config.reporter.report = fuzz_report;
    config.bus.statistics = other / 4 % 2;
    config.scene.announces = w->announces = other / 8 % 2;
    config.scene.plain = config.overlaps.plain = w->plain;
    if (w->twice) /* what is refused depends on the order of finding */
        config.overlaps.contacts = config.overlaps.pairs = 8000;
    config.scene.own_test = has_point;
    config.scene.views = config.router.views = 2;
    config.router.keep_focus = other / 64 % 2;
    config.router.pointers = 3;
    config.state.pointers = 4;
    config.state.keys = 6;
    config.state.seats = config.actions.seats = 2;
    config.loop.samples = other / 128 * 16;
    config.loop.frame_hz = third / 16 % 4 == 0 ? 90 : IKV_UNPACED;
    config.loop.idles = third / 64 % 2;
    config.loop.pending = 64;
    config.loop.timing = small % 3 == 0 ? IKV_AT_FRAME : IKV_IN_STEP;
    if (w->taped)
        shape_game(w, &config);
    else
        shape_world(w, &config, small << 16 | other << 8 | third);
    MUST(ikv_kit_open(&config, &w->kit) == IKV_OK);
    w->bus = ikv_kit_bus(w->kit);
    w->scene = ikv_kit_scene(w->kit);
    w->router = ikv_kit_router(w->kit);
    w->overlaps = ikv_kit_overlaps(w->kit);
    w->actions = ikv_kit_actions(w->kit);
    w->loop = ikv_kit_loop(w->kit);
    w->model = true;
    ikv_bus_add_lane(w->bus, "cargo", &w->lane);
    ikv_bus_add_mailbox(w->bus, &w->mailbox);
    for (int i = 0; i < OWNERS; i++)
        ikv_bus_add_owner(w->bus, &w->owners[i]);
    for (int i = 0; w->tame && i < 8; i++)
        add_target(w);
    for (int i = 0; w->tame && i < 8; i++)
        subscribe(w);
    for (uint32_t i = 0; w->tame && i < ACTIONS / 2; i++)
        ikv_actions_add(w->actions, IKV_MAIN_SET, a_name(w), &w->actions_of[i]);
    for (int i = 0; w->tame && i < 16; i++)
        use_actions(w);
    for (int i = 0; w->tame && i < 8; i++)
        use_overlaps(w);
    if (w->taped)
        return;
    if (small / 8 % 3 == 0)
        ikv_bus_add_watcher(w->bus, IKV_WATCH_ALL, fuzz_watch, NULL);
    if (small / 8 % 3 == 1)
        ikv_bus_set_clock(w->bus, clock_of, w);
    ikv_loop_set_recorder(w->loop, recorded, NULL);
}

void seek(world *w, uint64_t number, uint32_t salt)
{
    uint64_t at = (number * 2654435761u + salt * 40503u) * 0x9E3779B97F4A7C15u;
    w->at = w->data + (at >> 30) % w->size;
    size_t left = (size_t)(w->data + w->size - w->at);
    w->end = w->at + (left < 600 ? left : 600);
}

void note_step(world *w)
{
    uint64_t step = ikv_loop_step_number(w->loop);
    if (step == w->step)
        return;
    MUST(step < STEPS);
    w->step = step;
    w->sums[step] = fuzz_sum();
    seek(w, step, 1000);
}
