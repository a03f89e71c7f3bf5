/* rows_route.c - a whole pointer event from queue to handler, and a frame in
 * which nothing happens. */
#include "bench.h"

enum {
    DEEP = 8,
    TOWERS = 1250, /* 10,000 targets */
    ACROSS = 36,
    EVENTS = 256,
    FRAMES = 20000
};

static uint64_t counter;
static bench_port hands;
static ikv_kit *kit;
static plain_box boxes[DEEP * TOWERS];
static uint32_t box_count;
static ikv_event moves[EVENTS];
static ikv_delivery delivery;
static bare_ring *ring;

static void open_kit(uint64_t (*clock)(void *))
{
    ikv_port port = port_of(&hands);
    if (clock != NULL)
        port.now = clock;
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = counting_memory();
    config.ports = &port;
    config.port_count = 1;
    config.bus.targets = DEEP * TOWERS;
    config.bus.subscriptions = config.bus.entries = TOWERS + 64;
    config.loop.frame_hz = IKV_UNPACED;
    /* so that the empty frame's steps are none of its time */
    config.loop.step_num = clock == read_clock ? 1 : 1000;
    config.loop.samples = 1; /* whole events, not merged ones */
    if (ikv_kit_open(&config, &kit) < 0)
        exit(2);
}

static void run_frame(ikv_loop *loop)
{
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

/* Towers of 8 nested targets, each with a handler at its top one. */
static void build_towers(void)
{
    for (int t = 0; t < TOWERS; t++) {
        ikv_target parent = {0};
        for (int d = 0; d < DEEP; d++) {
            ikv_target_config config = IKV_TARGET_INIT;
            plain_box *b = &boxes[box_count];
            config.parent = parent;
            config.x = d == 0 ? (float)(t % ACROSS) * 50 : 1;
            config.y = d == 0 ? (float)(t / ACROSS) * 50 : 1;
            config.shape =
                ikv_scene_rect(0, 0, (float)(40 - d), (float)(40 - d));
            ikv_scene_add(ikv_kit_scene(kit), &config, &parent, NULL);
            *b = (plain_box){.parent = d == 0 ? UINT32_MAX : box_count - 1};
            b->x0 = (float)(t % ACROSS) * 50 + (float)d;
            b->y0 = (float)(t / ACROSS) * 50 + (float)d;
            b->x1 = b->x0 + (float)(40 - d);
            b->y1 = b->y0 + (float)(40 - d);
            box_count++;
        }
        boxes[box_count - 1].handler = (callee){count_call, &counter};
        ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_MOVE, parent,
                     count_call, &counter, NULL);
    }
}

static void route(void)
{
    hands.now_ns += 1000000;
    for (int i = 0; i < EVENTS; i++) {
        moves[i].device = hands.device;
        /* within the step that runs */
        moves[i].time_ns = hands.now_ns - 500000;
        ikv_sink_push(hands.sink, &moves[i]);
    }
    run_frame(ikv_kit_loop(kit));
}

/* The parts that each event needs, called one after the other. */
static void parts(void)
{
    ikv_event out[EVENTS];
    ikv_scene *scene = ikv_kit_scene(kit);
    for (int i = 0; i < EVENTS; i++)
        bare_ring_push(ring, &moves[i]);
    uint32_t count = 0;
    while (count < EVENTS && bare_ring_pop(ring, &out[count]))
        count++;
    for (uint32_t i = 0; i < count; i++) {
        /* filled from behind: its root comes first */
        ikv_target path[IKV_PATH_LIMIT];
        ikv_route route = IKV_ROUTE_INIT;
        uint32_t at = IKV_PATH_LIMIT;
        ikv_query query = IKV_QUERY_INIT;
        query.x = out[i].pointer.x;
        query.y = out[i].pointer.y;
        ikv_target t = ikv_scene_pick(scene, &query, 0);
        for (; t.bits != 0; t = ikv_scene_parent(scene, t))
            path[--at] = t;
        route.path = path + at;
        route.path_length = IKV_PATH_LIMIT - at;
        ikv_bus_deliver_along(ikv_kit_bus(kit), &out[i], &route);
    }
}

/* What a program without any of this would do. */
static void route_by_hand(void)
{
    ikv_event out[EVENTS];
    /* through a ring too: a program must get them from somewhere */
    for (int i = 0; i < EVENTS; i++)
        bare_ring_push(ring, &moves[i]);
    uint32_t count = 0;
    while (count < EVENTS && bare_ring_pop(ring, &out[count]))
        count++;
    for (uint32_t i = 0; i < count; i++)
        plain_route(boxes, box_count, &out[i], &delivery);
}

static void empty_frames(void)
{
    ikv_loop *loop = ikv_kit_loop(kit);
    for (int i = 0; i < FRAMES; i++)
        run_frame(loop);
}

static void clock_reads(void)
{
    /* or nothing of it would be left */
    static volatile uint64_t sum;
    for (int i = 0; i < FRAMES; i++)
        sum += read_clock(NULL);
}

void route_rows(void)
{
    ring = bare_ring_open(1024);
    open_kit(NULL);
    build_towers();
    for (int i = 0; i < EVENTS; i++) {
        moves[i] = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
        /* within one tower: all eight are below the pointer */
        moves[i].pointer.x = 350 + 15 + (float)(i % 9);
        moves[i].pointer.y = 350 + 15 + (float)(i % 7);
    }
    run_frame(ikv_kit_loop(kit));
    measure("a pointer event, 8 deep, 10,000 targets",
            "its parts: ring, pick, path, deliver", 1.5, 1.2, EVENTS, route,
            parts);
    measure("a pointer event, 8 deep, 10,000 targets",
            "code that knows its boxes: scan, call", 0, 1.2, EVENTS, route,
            route_by_hand);
    ikv_kit_close(kit);
    open_kit(read_clock);
    run_frame(ikv_kit_loop(kit));
    measure("an empty frame", "one reading of the clock", 1.5, 1.2, FRAMES,
            empty_frames, clock_reads);
    ikv_kit_close(kit);
}
