/* way.c - follows one touch's down through the core: the addresses of the
 * functions that are entered from ikv_loop_step() to the first handler, for
 * scripts/way. The core is built with -finstrument-functions, this file is not.
 */
#include <ikvar/kit.h>

#include <stdio.h>
#include <stdlib.h>

enum {
    CALLS = 4096,
    WARM_TOUCHES = 40
};

static struct {
    void *function;
    int depth;
} calls[CALLS];
static int count, depth;
static bool following;

void __cyg_profile_func_enter(void *function, void *site);
void __cyg_profile_func_exit(void *function, void *site);

void __cyg_profile_func_enter(void *function, void *site)
{
    (void)site;
    if (!following || count == CALLS)
        return;
    calls[count].function = function;
    calls[count++].depth = ++depth;
}

void __cyg_profile_func_exit(void *function, void *site)
{
    (void)function, (void)site;
    depth -= following;
}

static ikv_verdict arrive(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    (void)event, (void)delivery, (void)user;
    following = false;
    return IKV_CONTINUE;
}

/* A clock that the program moves. */
static uint64_t now_ns = 1000000000;
static ikv_sink *own_sink;

static ikv_status open_port(void *state, ikv_sink *sink)
{
    (void)state;
    own_sink = sink;
    return IKV_OK;
}

static uint64_t read_now(void *state)
{
    (void)state;
    return now_ns;
}

static void close_port(void *state)
{
    (void)state;
}

static IKV_ALIGNED(64) char block[1 << 21];

static ikv_target add(ikv_kit *kit, ikv_target parent, float x, float size)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target;
    config.parent = parent;
    config.x = config.y = x;
    config.shape = ikv_scene_rect(0, 0, size, size);
    if (ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL) < 0)
        exit(2);
    return target;
}

static void push(ikv_kind kind, uint16_t device)
{
    ikv_event e = ikv_event_make(kind, now_ns);
    e.device = device;
    e.pointer.type = IKV_TOUCH;
    e.pointer.x = e.pointer.y = 25;
    e.pointer.button = 0;
    if (ikv_sink_push(own_sink, &e) < 0)
        exit(2);
}

/* A frame of one step; the last one is followed. */
static void frame(ikv_loop *loop, bool follow)
{
    now_ns += 16666667;
    ikv_loop_begin(loop);
    depth = 0;
    following = follow;
    while (ikv_loop_step(loop)) {
    }
    following = false;
    ikv_loop_end(loop);
}

int main(void)
{
    ikv_port port = {.size = sizeof port,
                     .capabilities = IKV_PORT_CLOCK,
                     .name = "way",
                     .open = open_port,
                     .now = read_now,
                     .close = close_port};
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    ikv_target none = {0};
    config.memory.block = block;
    config.memory.block_size = sizeof block;
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = IKV_UNPACED;
    if (ikv_kit_open(&config, &kit) < 0)
        return 2;
    ikv_target quay = add(kit, none, 10, 400);
    ikv_target lamp = add(kit, quay, 10, 20);
    for (int i = 0; i < 40; i++)
        add(kit, quay, 40 + 8 * (float)i, 6);
    if (ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_DOWN, lamp, arrive,
                     NULL, NULL) < 0)
        return 2;
    uint16_t device = ikv_sink_device(own_sink);
    frame(ikv_kit_loop(kit), false);
    for (int i = 0; i <= WARM_TOUCHES; i++) {
        push(IKV_KIND_POINTER_DOWN, device);
        frame(ikv_kit_loop(kit), i == WARM_TOUCHES);
        push(IKV_KIND_POINTER_UP, device);
        frame(ikv_kit_loop(kit), false);
    }
    ikv_kit_close(kit);
    for (int i = 0; i < count; i++)
        printf("%p %d\n", calls[i].function, calls[i].depth);
    return 0;
}
