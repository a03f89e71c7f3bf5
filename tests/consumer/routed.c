/* routed.c - a program that uses queue, bus, loop, scene and router, and no state,
 * actions, overlaps or kit. */
#include <ikvar/loop.h>
#include <ikvar/scene.h>

static IKV_ALIGNED(64) char blocks[6][1 << 20];
static ikv_sink *sink;
static uint64_t now_ns;

static ikv_status board_open(void *state, ikv_sink *to)
{
    (void)state;
    sink = to;
    return IKV_OK;
}

static uint64_t board_now(void *state)
{
    (void)state;
    return now_ns;
}

static void board_close(void *state)
{
    (void)state;
    sink = NULL;
}

static ikv_verdict count(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

static ikv_memory memory_of(int block)
{
    ikv_memory memory = {0};
    memory.block = blocks[block];
    memory.block_size = sizeof blocks[block];
    return memory;
}

static ikv_target pick(void *scene, const ikv_query *query, uint32_t nth)
{
    return ikv_scene_pick(scene, query, nth);
}

static ikv_target parent(void *scene, ikv_target target)
{
    return ikv_scene_parent(scene, target);
}

static bool alive(void *scene, ikv_target target)
{
    return ikv_scene_alive(scene, target);
}

static uint32_t traits(void *scene, ikv_target target)
{
    return ikv_scene_traits(scene, target);
}

static uint64_t revision(void *scene)
{
    return ikv_scene_revision(scene);
}

static bool to_local(void *scene, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2])
{
    return ikv_scene_to_local(scene, target, view, x, y, layer, local);
}

static ikv_status open_all(ikv_loop_config *config, ikv_scene **scene,
                           ikv_loop **loop)
{
    ikv_queue_config queue = IKV_QUEUE_INIT;
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_scene_config picture = IKV_SCENE_INIT;
    ikv_router_config routing = IKV_ROUTER_INIT;
    ikv_input_config input = IKV_INPUT_INIT;
    ikv_router *router = NULL;
    queue.memory = memory_of(0);
    bus.memory = memory_of(1);
    picture.memory = memory_of(2);
    routing.memory = memory_of(3);
    input.memory = memory_of(4);
    config->memory = memory_of(5);
    ikv_status status = ikv_queue_open(&queue, &config->queue);
    if (status == IKV_OK)
        status = ikv_bus_open(&bus, &config->bus);
    picture.bus = routing.bus = input.bus = config->bus;
    if (status == IKV_OK)
        status = ikv_scene_open(&picture, scene);
    if (status != IKV_OK)
        return status;
    ikv_bus_callbacks callbacks = ikv_scene_callbacks(*scene);
    ikv_bus_set_callbacks(config->bus, &callbacks);
    routing.picking.scene = *scene;
    routing.picking.pick = pick;
    routing.picking.parent = parent;
    routing.picking.alive = alive;
    routing.picking.to_local = to_local;
    routing.picking.traits = traits;
    routing.picking.revision = revision;
    status = ikv_router_open(&routing, &router);
    input.routers = &router;
    input.router_count = 1;
    if (status == IKV_OK)
        status = ikv_input_open(&input, &config->input);
    return status == IKV_OK ? ikv_loop_open(config, loop) : status;
}

int main(void)
{
    ikv_port port = IKV_PORT_INIT;
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_target_config lamp = IKV_TARGET_INIT;
    ikv_scene *scene = NULL;
    ikv_loop *loop = NULL;
    ikv_target target;
    int calls = 0;
    port.capabilities = IKV_PORT_CLOCK;
    port.name = "board";
    port.open = board_open;
    port.now = board_now;
    port.close = board_close;
    config.ports = &port;
    config.port_count = 1;
    config.frame_hz = IKV_UNPACED;
    lamp.shape = ikv_scene_circle(5, 5, 5);
    if (open_all(&config, &scene, &loop) < 0 ||
        ikv_scene_add(scene, &lamp, &target, NULL) < 0 ||
        ikv_bus_hear(config.bus, IKV_KIND_POINTER_CLICK, target, count, &calls,
                     NULL) < 0)
        return 2;
    for (int frame = 0; frame < 4; frame++) {
        if (frame == 1 || frame == 2) {
            ikv_event touch = ikv_event_make(frame == 1 ? IKV_KIND_POINTER_DOWN
                                                        : IKV_KIND_POINTER_UP,
                                             now_ns);
            touch.pointer.type = IKV_TOUCH;
            touch.pointer.button = 0;
            touch.pointer.x = touch.pointer.y = 5;
            ikv_sink_push(sink, &touch);
        }
        ikv_loop_begin(loop);
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
        now_ns += 20000000;
    }
    ikv_loop_close(loop);
    ikv_input_close(config.input);
    return calls == 1 && sink == NULL ? 0 : 1;
}
