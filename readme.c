#include <ikvar/host.h>
#include <stdio.h>

static ikv_verdict tapped(const ikv_event *event, const ikv_delivery *delivery, void *lamp)
{
    printf("%s is tapped, %g from its middle\n", (char *)lamp, delivery->local_x);
    return event->pointer.type == IKV_TOUCH ? IKV_STOP : IKV_CONTINUE;
}

int main(void)
{
    ikv_port port = ikv_null_port(); /* or the terminal's, or your own */
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port, config.port_count = 1;
    ikv_kit *kit;
    if (ikv_kit_open(&config, &kit) != IKV_OK)
        return 1;
    ikv_loop *loop = ikv_kit_loop(kit);

    ikv_target lamp;
    ikv_target_config shape = IKV_TARGET_INIT;
    shape.x = 100, shape.shape = ikv_scene_circle(0, 0, 12);
    ikv_scene_add(ikv_kit_scene(kit), &shape, &lamp, NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, lamp, tapped, "the lamp", NULL);

    ikv_event touch = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    touch.pointer = (ikv_pointer){.x = 105, .type = IKV_TOUCH};
    ikv_queue_push(ikv_kit_queue(kit), &touch); /* any thread may */
    touch.kind = IKV_KIND_POINTER_UP;
    ikv_queue_push(ikv_kit_queue(kit), &touch);

    while (ikv_loop_begin(loop)) {  /* drains the whole queue */
        while (ikv_loop_step(loop)) /* fixed steps; input is routed first */
            ikv_loop_quit(loop);    /* your simulation goes here */
        ikv_loop_end(loop);         /* deferred events, pacing to 60 Hz */
    }
    ikv_kit_close(kit);
    return 0;
}
