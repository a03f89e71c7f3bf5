/* 17: a host that calls us.
 *
 * Some hosts own the main loop and call back: for each event, and once a frame.
 * The port then has no poll; the host's callbacks push, and the host's frame
 * runs ours, unpaced. Here the host is a pretended one; in a browser or a
 * phone's toolkit it is theirs.
 */
#include <ikvar/host.h>

#include <stdio.h>

/* ------------------------------------------------------ the host's port -- */

typedef struct host {
    ikv_sink *sink;
    uint16_t device;
    uint64_t now_ns; /* the host's clock, as of its last call */
} host;

static ikv_status host_open(void *state, ikv_sink *sink)
{
    host *h = state;
    h->sink = sink;
    h->device = ikv_sink_device(sink);
    return h->device != 0 ? IKV_OK : IKV_PORT_FAILED;
}

static uint64_t host_now(void *state)
{
    return ((host *)state)->now_ns;
}

static void host_close(void *state)
{
    ((host *)state)->sink = NULL;
}

/* The host calls this for each event, on whatever thread it likes. */
static void on_host_touch(host *h, uint64_t now_ns, ikv_kind kind, float x,
                          float y)
{
    ikv_event event = ikv_event_make(kind, now_ns);
    event.device = h->device;
    event.pointer.type = IKV_TOUCH;
    event.pointer.button = kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : 0;
    event.pointer.x = x;
    event.pointer.y = y;
    ikv_sink_push_any(h->sink, &event);
}

/* And this once a frame. */
static void on_host_frame(host *h, uint64_t now_ns, ikv_loop *loop)
{
    h->now_ns = now_ns;
    if (!ikv_loop_begin(loop))
        return;
    while (ikv_loop_step(loop)) {
        /* the game's step */
    }
    /* the game draws here: ikv_loop_blend(loop) */
    ikv_loop_end(loop);
}

/* ------------------------------------------------------------- the game -- */

static ikv_verdict lamp(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)user;
    printf("step %d: the lamp is tapped at %g, %g\n", (int)delivery->step,
           (double)event->pointer.x, (double)event->pointer.y);
    return IKV_STOP;
}

int main(void)
{
    host h = {.now_ns = 5000000000};
    ikv_port port = {.size = sizeof port,
                     .capabilities = IKV_PORT_CLOCK,
                     .name = "host",
                     .state = &h,
                     .open = host_open,
                     .now = host_now,
                     .close = host_close};
    ikv_kit *kit;
    ikv_target target;
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_target_config shape = IKV_TARGET_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = IKV_UNPACED; /* the host calls when it is time */
    if (ikv_kit_open(&config, &kit) < 0)
        return 1;
    shape.shape = ikv_scene_circle(50, 50, 20);
    ikv_scene_add(ikv_kit_scene(kit), &shape, &target, NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, target, lamp, NULL,
                 NULL);

    /* The host's main loop: 75 Hz, and a tap in between. */
    ikv_loop *loop = ikv_kit_loop(kit);
    for (uint64_t frame = 0; frame < 20; frame++) {
        uint64_t now = 5000000000 + frame * 13333333;
        on_host_frame(&h, now, loop);
        if (frame == 6)
            on_host_touch(&h, now + 2000000, IKV_KIND_POINTER_DOWN, 45, 50);
        if (frame == 9)
            on_host_touch(&h, now + 1000000, IKV_KIND_POINTER_UP, 46, 51);
    }
    ikv_loop_counts count = IKV_LOOP_COUNTS_INIT;
    ikv_loop_counters(loop, &count);
    printf("%d frames by the host, %d steps of ours\n", (int)count.frames,
           (int)count.steps);
    ikv_kit_close(kit);
    return 0;
}
