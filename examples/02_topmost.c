/* 02: a tap goes to the topmost of two objects.
 *
 * A lamp stands partly behind a crate. Taps on what overlaps go to the crate,
 * taps on what sticks out to the lamp, and taps beside both to nobody; that is
 * counted.
 */
#include <ikvar/host.h>

#include <stdio.h>

typedef struct object {
    const char *name;
    int taps;
} object;

static ikv_verdict tapped(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    object *o = user;
    o->taps++;
    printf("tap at %g, %g: the %s (%g, %g from its corner)\n",
           (double)event->pointer.x, (double)event->pointer.y, o->name,
           (double)delivery->local_x, (double)delivery->local_y);
    return IKV_CONTINUE;
}

static ikv_status add(ikv_kit *kit, object *o, float x, float y, int z)
{
    ikv_target target;
    ikv_target_config config = IKV_TARGET_INIT;
    config.x = x;
    config.y = y;
    config.z = z;
    config.shape = ikv_scene_rect(0, 0, 60, 40);
    ikv_status status =
        ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    if (status < 0)
        return status;
    return ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, target,
                        tapped, o, NULL);
}

/* A tap is a contact that begins and ends; any thread may push it. */
static void tap(ikv_kit *kit, float x, float y)
{
    ikv_event event = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    event.pointer.type = IKV_TOUCH;
    event.pointer.button = IKV_PRIMARY_BUTTON;
    event.pointer.x = x;
    event.pointer.y = y;
    ikv_queue_push(ikv_kit_queue(kit), &event);
    event.kind = IKV_KIND_POINTER_UP;
    ikv_queue_push(ikv_kit_queue(kit), &event);
}

int main(void)
{
    object lamp = {"lamp", 0}, crate = {"crate", 0};
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ikv_kit *kit;
    if (ikv_kit_open(&config, &kit) < 0 || add(kit, &lamp, 100, 50, 0) < 0 ||
        add(kit, &crate, 130, 60, 1) < 0)
        return 1;

    tap(kit, 110, 60); /* the lamp alone */
    tap(kit, 150, 80); /* both: the crate is above */
    tap(kit, 300, 80); /* neither */

    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop))
            ikv_loop_quit(loop); /* one step is enough here */
        ikv_loop_end(loop);
    }
    ikv_kind_counts clicks = IKV_KIND_COUNTS_INIT;
    ikv_bus_kind_counters(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, &clicks);
    printf("lamp %d, crate %d; %d of %d taps were heard by nobody\n", lamp.taps,
           crate.taps, (int)clicks.unheard, (int)clicks.delivered);
    ikv_kit_close(kit);
    return 0;
}
