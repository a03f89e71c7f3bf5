/* routed.c - a program that uses queue, bus, loop, scene and router, and no state,
 * actions, overlaps or kit. */
#include "board.h"

#include <ikvar/kit.h>

static ikv_status open_all(ikv_loop_config *config, ikv_scene **scene,
                           ikv_loop **loop)
{
    ikv_queue_config queue = IKV_QUEUE_INIT;
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_scene_config picture = IKV_SCENE_INIT;
    ikv_router_config routing = IKV_ROUTER_INIT;
    ikv_input_config input = IKV_INPUT_INIT;
    ikv_router *router = NULL;
    queue.memory = memory_of(0, sizeof blocks[0]);
    bus.memory = memory_of(1, sizeof blocks[1]);
    picture.memory = memory_of(2, sizeof blocks[2]);
    routing.memory = memory_of(3, sizeof blocks[3]);
    input.memory = memory_of(4, sizeof blocks[4]);
    config->memory = memory_of(5, sizeof blocks[5]);
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
    routing.picking = ikv_kit_picking(*scene);
    status = ikv_router_open(&routing, &router);
    input.routers = &router;
    input.router_count = 1;
    if (status == IKV_OK)
        status = ikv_input_open(&input, &config->input);
    return status == IKV_OK ? ikv_loop_open(config, loop) : status;
}

int main(void)
{
    ikv_port port = board_port();
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_target_config lamp = IKV_TARGET_INIT;
    ikv_scene *scene = NULL;
    ikv_loop *loop = NULL;
    ikv_target target;
    int calls = 0;
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
