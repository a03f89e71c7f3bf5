/* tiny.c - the smallest kit that is of use: how many bytes it takes, by module.
 */
#include "board.h"

#include <ikvar/ikvar.h>

#include <stdio.h>

enum {
    ASKED = 24 * 1024 /* bytes, where pointers have 64 bits */
};

static ikv_kit_config tiny(const ikv_port *port)
{
    ikv_kit_config c = IKV_KIT_INIT;
    c.ports = port;
    c.port_count = 1;
    c.no_actions = c.no_overlaps = true;
    c.queue.capacity = c.queue.own_capacity = 16;
    c.queue.blocks = IKV_NO_BLOCKS;
    c.bus.targets = 4;
    c.bus.subscriptions = c.bus.entries = 8;
    c.bus.owners = 1;
    c.bus.deferred = 4;
    c.bus.conditions = c.bus.gates = 1;
    c.bus.timers = 1;
    c.bus.inbox = 2;
    c.bus.payloads = 1;
    c.bus.payload_bytes = 32;
    c.bus.mailboxes = c.bus.mailbox_events = 1;
    c.bus.user_lanes = 1;
    c.bus.name_bytes = 64;
    c.bus.depth = 3;
    c.bus.images = c.bus.kept = c.bus.rebindings = 1;
    c.scene.targets = 4;
    c.scene.polygons = 1;
    c.scene.plain = true;
    c.scene.layers = 1;
    c.scene.views = 1;
    c.router.pointers = 1;
    c.router.keys = 32;
    c.router.passed = c.router.pads = 1;
    c.state.pointers = c.state.pads = 1;
    c.state.keys = 32;
    c.loop.pending = 16;
    c.loop.blocks = IKV_NO_BLOCKS;
    c.loop.samples = c.loop.held = 1;
    c.loop.devices = 4;
    return c;
}

/* It does its work in so many bytes: a tap at one of four targets. */
static bool works(const ikv_kit_config *config)
{
    ikv_kit_config c = *config;
    ikv_kit *kit;
    int taps = 0;
    c.memory = memory_of(0, ikv_kit_footprint(&c));
    if (ikv_kit_open(&c, &kit) < 0)
        return false;
    ikv_target target[4];
    for (int i = 0; i < 4; i++) {
        ikv_target_config lamp = IKV_TARGET_INIT;
        lamp.shape = ikv_scene_rect(0, 0, 10, 10);
        lamp.x = (float)(i * 10);
        if (ikv_scene_add(ikv_kit_scene(kit), &lamp, &target[i], NULL) < 0)
            return false;
    }
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, target[2], count,
                 &taps, NULL);
    for (int i = 0; i < 2; i++) {
        ikv_event touch = ikv_event_make(
            i == 0 ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_UP, 0);
        touch.pointer.type = IKV_TOUCH;
        touch.pointer.button = 0;
        touch.pointer.x = 25;
        touch.pointer.y = 5;
        ikv_input_route(ikv_kit_input(kit), &touch, NULL, 0);
    }
    return ikv_kit_close(kit) == IKV_OK && taps == 1;
}

int main(void)
{
    ikv_port port = board_port();
    ikv_kit_config c = tiny(&port);
    const struct {
        const char *module;
        size_t bytes;
    } parts[] = {{"queue", ikv_queue_footprint(&c.queue)},
                 {"bus", ikv_bus_footprint(&c.bus)},
                 {"scene", ikv_scene_footprint(&c.scene)},
                 {"router", ikv_router_footprint(&c.router)},
                 {"state", ikv_state_footprint(&c.state)},
                 {"loop", ikv_loop_footprint(&c.loop)}};
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++)
        printf("%-7s %6u\n", parts[i].module, (unsigned)parts[i].bytes);
    size_t kit = ikv_kit_footprint(&c);
    printf("kit     %6u\n", (unsigned)kit);
    if (kit > ASKED)
        fprintf(stderr, "tiny: OVER: at most %d bytes are asked for\n", ASKED);
    if (!works(&c))
        return 2;
    return kit > ASKED;
}
