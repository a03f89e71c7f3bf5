/* 09: a drag with capture.
 *
 * A press on the crate attaches it to the pointer, which captures the pointer:
 * every move and the release are the crate's then, over the other crate, off the
 * view and back, and it has been put where the pointer is before its handlers
 * hear of them. This works under any camera.
 *
 * The release makes no click, since the crate has been dragged. The standards send
 * one after each press and release of a mouse: config.router.click_after_drag asks
 * for it.
 */
#include <ikvar/host.h>

#include <stdio.h>

typedef struct crate {
    const char *name;
    ikv_kit *kit;
    ikv_target target;
} crate;

static ikv_verdict pressed(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    const crate *c = user;
    ikv_router_attach(delivery->router, event, c->target);
    printf("%4d ms  %s is taken at %g, %g of its own\n",
           (int)(event->time_ns / 1000000), c->name, (double)delivery->local_x,
           (double)delivery->local_y);
    return IKV_STOP;
}

static ikv_verdict moved(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    const crate *c = user;
    if (ikv_router_has_capture(delivery->router, event, c->target))
        printf("%4d ms  %s moves\n", (int)(event->time_ns / 1000000), c->name);
    return IKV_CONTINUE; /* or it hovers */
}

/* The release ends the capture; so does a cancel, or the crate's removal. */
static ikv_verdict dropped(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    const crate *c = user;
    (void)delivery;
    float at[2], view[2];
    ikv_scene_position(ikv_kit_scene(c->kit), c->target, at, view);
    printf("%4d ms  %s is let go at %g, %g\n", (int)(event->time_ns / 1000000),
           c->name, (double)at[0], (double)at[1]);
    return IKV_CONTINUE;
}

static void add(crate *c, float x, float y)
{
    ikv_bus *bus = ikv_kit_bus(c->kit);
    ikv_target_config config = IKV_TARGET_INIT;
    config.x = x;
    config.y = y;
    config.shape = ikv_scene_rect(0, 0, 60, 40);
    ikv_scene_add(ikv_kit_scene(c->kit), &config, &c->target, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, c->target, pressed, c, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_MOVE, c->target, moved, c, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_CAPTURE_LOST, c->target, dropped, c,
                 NULL);
}

int main(void)
{
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_message message;
    ikv_port port;
    ikv_tape_open(EXAMPLES "/drag.tape.jsonl", NULL, &sim.tape, &message);
    if (ikv_sim_open(&sim, &port) < 0)
        return 1;
    crate tea = {.name = "the tea"}, rope = {.name = "the rope"};
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &tea.kit) < 0)
        return 1;
    rope.kit = tea.kit;
    add(&tea, 100, 50);
    add(&rope, 300, 90);
    ikv_loop *loop = ikv_kit_loop(tea.kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    ikv_kit_close(tea.kit);
    ikv_sim_close(&port);
    ikv_tape_close(sim.tape);
    return 0;
}
