/* 24: a loop of your own.
 *
 * An engine that has its loop, its clock and its queue of events needs none of
 * ours: it opens the modules that it wants, ties them with an input, and tells
 * that of each event. Here a step is 20 ms long, and what comes in is a list;
 * in an engine it is what its windows gave since the last step.
 */
#include <ikvar/host.h>

#include <stdio.h>

enum {
    STEP_NS = 20000000
};

typedef struct engine {
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_state *state;
    ikv_actions *actions;
    ikv_input *input;
} engine;

static ikv_verdict lamp(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    printf("%3d ms  the lamp is tapped at %g, %g\n",
           (int)(event->time_ns / 1000000), (double)event->pointer.x,
           (double)event->pointer.y);
    return IKV_CONTINUE;
}

static ikv_verdict crane(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)delivery, (void)user;
    printf("%3d ms  the crane %s\n", (int)(event->time_ns / 1000000),
           event->kind == IKV_KIND_ACTION_START ? "lowers its hook"
                                                : "stands still");
    return IKV_CONTINUE;
}

/* A router asks a scene, or a picking of yours, and does not watch it: it is
 * told what is gone, or a pointer would stay over that. */
static void removed(void *router, ikv_target target, ikv_target former_parent)
{
    ikv_router_removed(router, target, former_parent);
}

/* Each module in a block of its own; a picking of yours may stand for a scene.
 */
static ikv_status open_engine(engine *e)
{
    ikv_memory memory = ikv_host_memory();
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_scene_config scene = IKV_SCENE_INIT;
    ikv_router_config router = IKV_ROUTER_INIT;
    ikv_state_config state = IKV_STATE_INIT;
    ikv_actions_config actions = IKV_ACTIONS_INIT;
    ikv_input_config input = IKV_INPUT_INIT;
    bus.memory = scene.memory = router.memory = state.memory = memory;
    actions.memory = input.memory = memory;
    ikv_status status = ikv_bus_open(&bus, &e->bus);
    scene.bus = router.bus = actions.bus = input.bus = e->bus;
    if (status == IKV_OK)
        status = ikv_scene_open(&scene, &e->scene);
    ikv_bus_callbacks callbacks = ikv_scene_callbacks(e->scene);
    ikv_bus_set_callbacks(e->bus, &callbacks);
    router.picking = ikv_kit_picking(e->scene);
    if (status == IKV_OK)
        status = ikv_router_open(&router, &e->router);
    if (status == IKV_OK)
        status = ikv_scene_watch_removals(e->scene, removed, e->router);
    if (status == IKV_OK)
        status = ikv_state_open(&state, &e->state);
    actions.state = e->state;
    if (status == IKV_OK)
        status = ikv_actions_open(&actions, &e->actions);
    input.routers = &e->router;
    input.router_count = 1;
    input.state = e->state;
    input.actions = e->actions;
    return status == IKV_OK ? ikv_input_open(&input, &e->input) : status;
}

static void close_engine(engine *e)
{
    ikv_input_close(e->input);
    ikv_actions_close(e->actions);
    ikv_state_close(e->state);
    ikv_router_close(e->router);
    ikv_scene_close(e->scene);
    ikv_bus_close(e->bus);
}

/* One step, with the events that belong to it. */
static void run_step(engine *e, uint64_t step, const ikv_event *events,
                     uint32_t count)
{
    uint64_t begin = step * STEP_NS, end = begin + STEP_NS;
    uint64_t last = count > 0 ? events[count - 1].time_ns : begin;
    ikv_bus_set_step(e->bus, step);
    ikv_input_begin_step(e->input, end);
    for (uint32_t i = 0; i < count; i++)
        ikv_input_feed(e->input, &events[i]);
    ikv_input_retest(e->input, begin);
    for (uint32_t i = 0; i < count; i++)
        ikv_input_route(e->input, &events[i], NULL, 0);
    ikv_input_finish(e->input, last, end);

    /* the game's step */
    ikv_key_state down = ikv_state_key(e->state, IKV_STATE_UNCLAIMED, 0,
                                       ikv_code_find("ArrowDown"));
    if (down.went_down)
        printf("%3d ms  in step %d the key is down\n", (int)(end / 1000000),
               (int)step);

    ikv_input_end_step(e->input, step, end); /* overlaps, if there were any */
    ikv_bus_advance(e->bus, end);            /* timers */
    ikv_bus_flush(e->bus, IKV_STEP_LANE, NULL);
    ikv_bus_flush(e->bus, IKV_FRAME_LANE, NULL);
}

static ikv_event touch(ikv_kind kind, uint64_t ms, float x, float y)
{
    ikv_event event = ikv_event_make(kind, ms * 1000000);
    event.device = 1;
    event.pointer.type = IKV_TOUCH;
    event.pointer.button = 0;
    event.pointer.x = x;
    event.pointer.y = y;
    return event;
}

static ikv_event key(ikv_kind kind, uint64_t ms, const char *code)
{
    ikv_event event = ikv_event_make(kind, ms * 1000000);
    event.device = 2;
    event.key.code = ikv_code_find(code);
    return event;
}

int main(void)
{
    engine e = {0};
    ikv_target_config shape = IKV_TARGET_INIT;
    ikv_target target, everywhere = {0};
    ikv_action_id lower;
    if (open_engine(&e) < 0)
        return 1;
    shape.shape = ikv_scene_circle(50, 50, 20);
    ikv_scene_add(e.scene, &shape, &target, NULL);
    ikv_bus_hear(e.bus, IKV_KIND_POINTER_CLICK, target, lamp, NULL, NULL);
    ikv_actions_add(e.actions, IKV_MAIN_SET, "lower", &lower);
    ikv_actions_bind(e.actions, lower, "ArrowDown", NULL, NULL);
    ikv_bus_hear(e.bus, IKV_KIND_ACTION_START, everywhere, crane, NULL, NULL);
    ikv_bus_hear(e.bus, IKV_KIND_ACTION_END, everywhere, crane, NULL, NULL);

    const ikv_event came[] = {
        touch(IKV_KIND_POINTER_DOWN, 25, 45, 50),
        touch(IKV_KIND_POINTER_UP, 90, 46, 51),
        key(IKV_KIND_KEY_DOWN, 110, "ArrowDown"),
        key(IKV_KIND_KEY_UP, 170, "ArrowDown"),
    };
    uint32_t next = 0, all = sizeof came / sizeof came[0];
    for (uint64_t step = 0; step < 10; step++) {
        uint32_t first = next;
        while (next < all && came[next].time_ns < (step + 1) * STEP_NS)
            next++;
        run_step(&e, step, &came[first], next - first);
    }
    close_engine(&e);
    return 0;
}
