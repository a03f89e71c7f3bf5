/* test_loop.c - L1 to L4, L7, ports, the kit: opening, failing, closing. */
#include "support.h"

#include <math.h>

/* L2: floor(n * 1e9 * den / num), checked against 128-bit arithmetic. */
static const struct {
    uint32_t num, den;
} rates[] = {{60, 1},    {1, 1},    {144, 1},     {30000, 1001},
             {7, 3},     {1000, 1}, {1000000, 1}, {(1u << 30) - 1, 1},
             {999, 997}, {1, 1000}};

START_TEST(step_starts)
{
    uint32_t num = rates[_i].num, den = rates[_i].den;
    static const uint64_t ns[] = {0, 1, 2, 59, 60, 61, 1000000, 123456789012};
    for (int i = 0; i < ROWS(ns); i++) {
        __extension__ unsigned __int128 exact =
            (unsigned __int128)ns[i] * 1000000000u * den / num;
        if (exact >> 63 == 0)
            ck_assert_uint_eq(ikv_loop_step_start(ns[i], num, den),
                              (uint64_t)exact);
    }
    ck_assert_uint_eq(ikv_loop_step_start(5, 0, 1), 0);
}
END_TEST

/* ---------------------------------------------------------------- order -- */

static record seen;

static ikv_verdict see(const ikv_event *event, const ikv_delivery *delivery,
                       void *user)
{
    (void)user;
    note(&seen, "%s%llu ",
         ikv_catalogue_info(NULL, event->kind)->name + 5 * (event->kind >= 53),
         (unsigned long long)delivery->step);
    return IKV_CONTINUE;
}

static void listen_to(bench_kit *k)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.all_kinds = true;
    config.handler = see;
    ok(ikv_bus_subscribe(k->bus, &config, NULL, NULL));
    seen.text[0] = '\0';
}

static void push_key(bench_kit *k, double ms)
{
    ikv_event event =
        ikv_event_make(IKV_KIND_KEY_DOWN, 7000000000 + (uint64_t)(ms * 1e6));
    event.device = k->fake.device;
    ok(ikv_sink_push(k->fake.sink, &event));
}

static void push_now(bench_kit *k, ikv_kind kind)
{
    ikv_event event = ikv_event_make(kind, k->fake.now_ns);
    event.device = k->fake.device;
    ok(ikv_sink_push(k->fake.sink, &event));
}

/* L3, L4: the order within frames; start once, end once. */
START_TEST(order_in_frames)
{
    bench_kit k = {0};
    kit_open(&k);
    listen_to(&k);
    ikv_event later = ikv_event_make(IKV_KIND_WHEEL, 0);
    ck_assert_int_eq(kit_frame(&k, 0), 0);
    push_key(&k, 5);
    ok(ikv_bus_defer(k.bus, IKV_STEP_LANE, &later));
    later.kind = IKV_KIND_PAD_AXIS;
    ok(ikv_bus_defer(k.bus, IKV_FRAME_LANE, &later));
    ck_assert_int_eq(kit_frame(&k, 40), 2);
    ikv_loop_quit(k.loop);
    ikv_loop_quit(k.loop);
    ck_assert_int_eq(kit_frame(&k, 60), -1);
    ck_assert_int_eq(kit_frame(&k, 80), -1);
    ck_assert_str_eq(seen.text, "start0 frame0 key.down0 step0 wheel0 step1 "
                                "frame1 pad.axis1 end1 ");
    kit_close(&k);
}
END_TEST

/* L1: an event is routed in the step that holds its time; a late one in the
 * next that has not run; due times don't go backwards. */
static const struct {
    const char *rule;
    double events[4];   /* ms, ended by -1 */
    uint64_t frames[4]; /* ms, ended by 0 */
    const char *seen;
    int late;
} due_table[] = {
    {"own step",
     {1, 20, 40, -1},
     {60},
     "key.down0 step0 key.down1 step1 key.down2 step2 frame2 ",
     0},
    {"whole queue each frame",
     {1, 2, 3, -1},
     {17},
     "key.down0 key.down0 key.down0 step0 frame0 ",
     0},
    {"not before its step",
     {30, -1},
     {20, 40},
     "step0 frame0 key.down1 step1 frame1 ",
     0},
    {"border belongs to the next",
     {16.666666, -1},
     {17, 34},
     "step0 frame0 key.down1 step1 frame1 ",
     0},
    {"never backwards",
     {20, 1, -1},
     {40},
     "step0 key.down1 key.down1 step1 frame1 ",
     0},
};

START_TEST(due_times)
{
    bench_kit k = {0};
    kit_open(&k);
    kit_frame(&k, 0);
    listen_to(&k);
    for (int i = 0; due_table[_i].events[i] >= 0; i++)
        push_key(&k, due_table[_i].events[i]);
    for (int i = 0; i < 4 && due_table[_i].frames[i] > 0; i++)
        kit_frame(&k, due_table[_i].frames[i]);
    ck_assert_str_eq(seen.text, due_table[_i].seen);
    kit_close(&k);
}
END_TEST

static ikv_verdict is_late(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    (void)delivery;
    *(int *)user += (event->flags & IKV_LATE) != 0;
    return IKV_CONTINUE;
}

START_TEST(late_events)
{
    bench_kit k = {0};
    int late = 0;
    kit_open(&k);
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, is_late, &late);
    push_key(&k, 0); /* of now */
    kit_frame(&k, 0);
    ck_assert_uint_eq(loop_counts(k.loop).max_age_ns, 0);
    kit_frame(&k, 40);
    push_key(&k, 3); /* its step has run */
    kit_frame(&k, 60);
    ck_assert_int_eq(late, 1);
    ck_assert_uint_eq(loop_counts(k.loop).late, 1);
    ck_assert_uint_eq(loop_counts(k.loop).aged, 1);
    ck_assert_uint_eq(loop_counts(k.loop).max_age_ns, 57000000);
    ck_assert_str_eq(k.report, "loop: events waited longer than a frame before "
                               "they were drained: is the frame slow, or "
                               "ikv_loop_begin() called too rarely?");
    kit_close(&k);
}
END_TEST

/* L1: the same input gives the same steps at any frame rate. */
START_TEST(same_steps_at_any_rate)
{
    static const uint64_t every_ms[] = {1, 7, 16, 41, 100};
    static record first;
    for (int rate = 0; rate < ROWS(every_ms); rate++) {
        bench_kit k = {0};
        kit_open(&k);
        kit_frame(&k, 0);
        ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
        static const ikv_kind kinds[] = {IKV_KIND_KEY_DOWN, IKV_KIND_LOOP_STEP};
        config.kinds = kinds;
        config.kind_count = 2;
        config.handler = see;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
        seen.text[0] = '\0';
        uint64_t pushed = 0;
        for (uint64_t ms = every_ms[rate]; ms < 1000 + every_ms[rate];
             ms += every_ms[rate]) {
            uint64_t until = ms < 1000 ? ms : 1000;
            for (; pushed * 13 <= until; pushed++)
                push_key(&k, (double)pushed * 13);
            kit_frame(&k, until);
        }
        if (rate == 0)
            first = seen;
        ck_assert_str_eq(seen.text, first.text);
        ck_assert_uint_eq(loop_counts(k.loop).steps, 60);
        kit_close(&k);
    }
}
END_TEST

/* L2: at most max_steps a frame; what is over is dropped, counted, announced,
 * and the steps that follow are shifted. */
static ikv_verdict see_dropped(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    *(uint32_t *)user += event->loop.count;
    return IKV_CONTINUE;
}

START_TEST(dropped_time)
{
    bench_kit k;
    uint32_t dropped = 0;
    kit_prepare(&k);
    k.config.loop.max_steps = 3;
    k.config.loop.step_num = 100;
    kit_open(&k);
    hears(k.bus, IKV_KIND_LOOP_DROPPED, (ikv_target){0}, see_dropped, &dropped);
    kit_frame(&k, 0);
    ck_assert_int_eq(kit_frame(&k, 30), 3);
    ck_assert_int_eq(kit_frame(&k, 1005), 3);
    ck_assert_uint_eq(dropped, 94);
    ikv_loop_counts n = loop_counts(k.loop);
    ck_assert_uint_eq(n.dropped_steps, 94);
    ck_assert_uint_eq(n.dropped_ns, 940000000);
    ck_assert_uint_eq(n.steps, 6);
    ck_assert_uint_eq(ikv_loop_step_number(k.loop), 5);
    ck_assert(ikv_loop_blend(k.loop) > 0.49f && ikv_loop_blend(k.loop) < 0.51f);
    ck_assert_int_eq(kit_frame(&k, 1009), 0);
    ck_assert_int_eq(kit_frame(&k, 1011), 1);
    ck_assert_int_ge(k.reports, 1);
    kit_close(&k);
}
END_TEST

/* D6: window.close ends the loop unless it is refused. */
static ikv_verdict refuse(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    (void)event, (void)delivery;
    return *(bool *)user ? IKV_REFUSE : IKV_CONTINUE;
}

START_TEST(closing_the_window)
{
    bench_kit k = {0};
    bool refused = true;
    kit_open(&k);
    hears(k.bus, IKV_KIND_WINDOW_CLOSE, (ikv_target){0}, refuse, &refused);
    kit_frame(&k, 0);
    push_now(&k, IKV_KIND_WINDOW_CLOSE);
    ck_assert_int_eq(kit_frame(&k, 20), 1);
    ck_assert_int_eq(kit_frame(&k, 40), 1);
    refused = false;
    push_now(&k, IKV_KIND_WINDOW_CLOSE);
    ck_assert_int_eq(kit_frame(&k, 60), 1);
    ck_assert_int_eq(kit_frame(&k, 80), -1);
    kit_close(&k);
}
END_TEST

/* P2: what ports may not push is refused, counted, reported. */
START_TEST(only_what_ports_may_push)
{
    bench_kit k = {0};
    kit_open(&k);
    kit_frame(&k, 0);
    push_now(&k, IKV_KIND_POINTER_CLICK);
    push_now(&k, 999);
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).rejected, 2);
    ck_assert_uint_eq(loop_counts(k.loop).routed, 0);
    ck_assert_int_eq(k.reports, 2);
    kit_close(&k);
}
END_TEST

/* A pending list that is full leaves events in the queue; nothing is lost. */
START_TEST(full_pending)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.loop.pending = 4;
    kit_open(&k);
    listen_to(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < 10; i++)
        push_key(&k, 1);
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).held_back, 1);
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    ck_assert_uint_eq(loop_counts(k.loop).routed, 10);
    ck_assert_uint_eq(loop_counts(k.loop).waiting, 0);
    ck_assert_uint_eq(loop_counts(k.loop).waiting_high, 4);
    kit_close(&k);
}
END_TEST

/* L7: zero config is paced to 60, on absolute deadlines. */
START_TEST(paced_to_sixty)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.loop.frame_hz = 0;
    kit_open(&k);
    for (int i = 1; i <= 60; i++) {
        ck_assert(ikv_loop_begin(k.loop));
        while (ikv_loop_step(k.loop))
            ;
        k.fake.now_ns += 3000000; /* work */
        ikv_loop_end(k.loop);
        ck_assert_uint_eq(k.fake.now_ns - 7000000000,
                          ikv_loop_step_start((uint64_t)i, 60, 1));
    }
    ck_assert_int_eq(k.fake.waits, 60);
    ck_assert_uint_eq(loop_counts(k.loop).steps, 59);
    kit_close(&k);
}
END_TEST

/* A user who leaves the steps' loop, or skips ikv_loop_end(). */
START_TEST(careless_use)
{
    bench_kit k = {0};
    kit_open(&k);
    listen_to(&k);
    ck_assert(!ikv_loop_step(k.loop));
    ikv_loop_end(k.loop);
    ck_assert(ikv_loop_begin(k.loop));
    k.fake.now_ns += 40000000;
    ck_assert(ikv_loop_begin(k.loop)); /* ends the first frame */
    ck_assert(ikv_loop_step(k.loop));
    ikv_loop_end(k.loop); /* in the middle of a step, one more due */
    k.fake.now_ns += 1000000;
    ck_assert(ikv_loop_begin(k.loop));
    ck_assert(ikv_loop_step(k.loop));
    ck_assert(!ikv_loop_step(k.loop));
    ck_assert(!ikv_loop_step(k.loop));
    ikv_loop_end(k.loop);
    ck_assert_str_eq(seen.text, "start0 frame0 step0 frame0 step1 frame1 ");
    ck_assert(!ikv_loop_begin(NULL));
    ck_assert(!ikv_loop_step(NULL));
    ikv_loop_end(NULL);
    ikv_loop_quit(NULL);
    ikv_loop_close(NULL);
    ck_assert_uint_eq(loop_counts(NULL).frames, 0);
    ck_assert(ikv_loop_blend(NULL) == 0 && ikv_loop_step_seconds(NULL) == 0);
    ck_assert_uint_eq(ikv_loop_frame_number(k.loop), 3);
    kit_close(&k);
}
END_TEST

/* A port that ends, and one that fails. */
START_TEST(ports_that_end)
{
    bench_kit k = {0};
    kit_open(&k);
    kit_frame(&k, 0);
    push_key(&k, 3);
    k.fake.poll_status = _i == 0 ? IKV_ENDED : IKV_PORT_FAILED;
    ck_assert_int_eq(kit_frame(&k, 5), 1);  /* what waits gets its step */
    ck_assert_int_eq(kit_frame(&k, 40), 1); /* the last frame is whole */
    ck_assert_int_eq(kit_frame(&k, 60), -1);
    ck_assert_uint_eq(loop_counts(k.loop).routed, 2); /* and its end */
    ck_assert_int_eq(k.reports, _i);
    kit_close(&k);
}
END_TEST

/* The kit opens whole or not at all: the allocator fails, a port fails, a part
 * is too large. */
static void no_block(bench_kit *k)
{
    k->memory.fail_at = 1;
}
static void bad_port(bench_kit *k)
{
    k->fake.open_status = IKV_PORT_FAILED;
}
static void no_port(bench_kit *k)
{
    k->config.port_count = 0;
}
static void many_ports(bench_kit *k)
{
    k->config.port_count = IKV_PORT_LIMIT + 1;
}
static void half_port(bench_kit *k)
{
    k->port.now = NULL;
}
static void old_port(bench_kit *k)
{
    k->port.size = 8;
}
static void huge_bus(bench_kit *k)
{
    k->config.bus.subscriptions = 1u << 30;
}
static void short_step(bench_kit *k)
{
    k->config.loop.step_num = 1u << 29;
}
static void bad_slop(bench_kit *k)
{
    k->config.router.slop = -1;
}
static void bad_size(bench_kit *k)
{
    k->config.size = 1;
}

static void dead_whole(bench_kit *k)
{
    k->config.router.dead_zone = 0.96f;
}
static void dead_below(bench_kit *k)
{
    k->config.state.dead_zone = -0.1f;
}
static void full_below(bench_kit *k)
{
    k->config.router.full_zone = -0.1f;
}
static void full_above(bench_kit *k)
{
    k->config.state.full_zone = 1.01f;
}

static const struct {
    void (*spoil)(bench_kit *);
    ikv_status status;
    int takes;
} spoil_table[] = {
    {no_block, IKV_NO_MEMORY, 1},    {bad_port, IKV_PORT_FAILED, 1},
    {no_port, IKV_BAD_CONFIG, 1},    {many_ports, IKV_FULL_PORTS, 1},
    {half_port, IKV_BAD_CONFIG, 1},  {old_port, IKV_BAD_SIZE, 1},
    {huge_bus, IKV_BAD_CONFIG, 0},   {short_step, IKV_BAD_CONFIG, 0},
    {bad_slop, IKV_BAD_CONFIG, 0},   {bad_size, IKV_BAD_SIZE, 0},
    {dead_whole, IKV_BAD_CONFIG, 0}, {dead_below, IKV_BAD_CONFIG, 0},
    {full_below, IKV_BAD_CONFIG, 0}, {full_above, IKV_BAD_CONFIG, 0},
};

START_TEST(kits_that_fail)
{
    bench_kit k;
    kit_prepare(&k);
    spoil_table[_i].spoil(&k);
    status_is(ikv_kit_open(&k.config, &k.kit), spoil_table[_i].status);
    ck_assert_int_eq(k.memory.takes, spoil_table[_i].takes);
    ck_assert_int_eq(k.memory.gives,
                     k.memory.fail_at == 0 ? spoil_table[_i].takes : 0);
    ck_assert_int_eq(k.fake.closed, 0);
    ck_assert_ptr_null(ikv_kit_loop(NULL));
    ck_assert_ptr_null(ikv_kit_bus(NULL));
    ck_assert_ptr_null(ikv_kit_queue(NULL));
    ck_assert_ptr_null(ikv_kit_scene(NULL));
    ck_assert_ptr_null(ikv_kit_router(NULL));
    ikv_kit_close(NULL);
}
END_TEST

/* The second of two ports fails: the first is closed again. */
START_TEST(second_port_fails)
{
    bench_kit k;
    kit_prepare(&k);
    fake_port other = {.open_status = IKV_PORT_FAILED};
    ikv_port ports[2] = {k.port, fake_port_of(&other)};
    k.config.ports = ports;
    k.config.port_count = 2;
    status_is(ikv_kit_open(&k.config, &k.kit), IKV_PORT_FAILED);
    ck_assert_int_eq(k.fake.opened, 1);
    ck_assert_int_eq(k.fake.closed, 1);
    ck_assert_int_eq(other.closed, 0);
    ck_assert_str_eq(k.report, "fake: the port could not be opened");
}
END_TEST

static void *take_block(void *user, size_t size, size_t alignment)
{
    (void)user;
    return aligned_alloc(alignment,
                         (size + alignment - 1) / alignment * alignment);
}

/* What is used after it was given back is seen. */
static void give_spoilt(void *user, void *block, size_t size)
{
    (void)user;
    memset(block, 0xa5, size);
    free(block);
}

/* No more is dropped than what is over max_steps, to the step. */
START_TEST(dropped_exactly)
{
    static const struct {
        uint32_t rate;
        uint64_t ns, dropped;
    } table[] = {{100, 30000000, 0},
                 {100, 39000000, 0},
                 {100, 40000000, 1},
                 {100, 49000000, 1},
                 {100, 50000000, 2},
                 {100, 139000000, 10},
                 /* just before the 53rd step's end, and at it */
                 {60, 883333332, 49},
                 {60, 883333333, 50}};
    bench_kit k;
    kit_prepare(&k);
    k.config.loop.max_steps = 3;
    k.config.loop.step_num = table[_i].rate;
    kit_open(&k);
    kit_frame(&k, 0);
    ck_assert_int_eq(kit_frame_ns(&k, table[_i].ns), 3);
    ck_assert_uint_eq(loop_counts(k.loop).dropped_steps, table[_i].dropped);
    kit_close(&k);
}
END_TEST

/* A loop that could not be opened leaves its input as if it had not been; and a
 * router that an input has left goes on alone. */
START_TEST(loop_fails_to_open)
{
    bench_kit k;
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    fake_port other = {.open_status = IKV_PORT_FAILED};
    ikv_port port = fake_port_of(&other);
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_loop *loop = NULL;
    config.memory = (ikv_memory){.take = take_block, .give = give_spoilt};
    config.bus = k.bus;
    config.queue = ikv_kit_queue(k.kit);
    config.input = input_of(k.bus, &k.router, 1, config.memory);
    config.ports = &port;
    config.port_count = 1;
    status_is(ikv_loop_open(&config, &loop), IKV_PORT_FAILED);
    ck_assert_ptr_null(loop);
    ok(ikv_input_close(config.input));
    for (int i = 1; i < 20; i++) {
        ikv_event e = ikv_event_make(
            i % 2 ? IKV_KIND_POINTER_MOVE : IKV_KIND_POINTER_LEAVE, 0);
        e.device = k.fake.device;
        e.pointer.x = (float)i;
        e.view = (uint8_t)(i % 3);
        ikv_router_route(k.router, &e);
        valid(ikv_router_validate(k.router));
    }
    kit_close(&k);
}
END_TEST

/* What is subscribed for once a frame is called once in each. */
static ikv_verdict note_frame(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)event, (void)user;
    note(&seen, "%llu ", (unsigned long long)d->step);
    return IKV_CONTINUE;
}

START_TEST(once_a_frame)
{
    bench_kit k = {0};
    kit_open(&k);
    seen.text[0] = '\0';
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_KEY_DOWN;
    config.at_most = IKV_PER_FRAME;
    config.handler = note_frame;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    kit_frame(&k, 0);
    for (uint64_t frame = 1; frame < 4; frame++) {
        push_key(&k, (double)frame * 40 - 35);
        push_key(&k, (double)frame * 40 - 15); /* in another step */
        kit_frame(&k, frame * 40);
    }
    ck_assert_str_eq(seen.text, "0 2 5 ");
    kit_close(&k);
}
END_TEST

/* L6: what a handler asks for in a step happens at its end: it stands, and one
 * more step runs. */
static int steps_seen;

static ikv_verdict stop_and_step(const ikv_event *event, const ikv_delivery *d,
                                 void *user)
{
    ikv_loop *loop = user;
    (void)event;
    if (++steps_seen == 2) {
        ok(ikv_loop_pause(loop));
        ok(ikv_loop_single_step(loop));
    }
    ck_assert_uint_eq(d->step + 1, (uint64_t)steps_seen);
    return IKV_CONTINUE;
}

START_TEST(single_in_step)
{
    bench_kit k = {0};
    ikv_target everywhere = {0};
    kit_open(&k);
    steps_seen = 0;
    hears(k.bus, IKV_KIND_LOOP_STEP, everywhere, stop_and_step, k.loop);
    for (uint64_t frame = 0; frame < 12; frame++)
        kit_frame(&k, frame * 20);
    ck_assert_int_eq(steps_seen, 3);
    ck_assert(ikv_loop_paused(k.loop));
    ok(ikv_loop_single_step(k.loop));
    kit_frame(&k, 260);
    kit_frame(&k, 280);
    ck_assert_int_eq(steps_seen, 4);
    kit_close(&k);
}
END_TEST

/* A kit without what a program doesn't need runs as well. */
START_TEST(smaller_kits)
{
    bench_kit k;
    kit_prepare(&k);
    /* a loop with fewer devices has a queue for as many */
    k.config.loop.devices = 4;
    size_t fewer = ikv_kit_footprint(&k.config);
    k.config.queue.devices = 4;
    ck_assert_uint_eq(ikv_kit_footprint(&k.config), fewer);
    k.config.queue.devices = 1024;
    ck_assert_uint_gt(ikv_kit_footprint(&k.config), fewer);
    k.config.queue.devices = k.config.loop.devices = 0;
    k.config.no_actions = _i & 1;
    k.config.no_overlaps = (_i & 2) != 0;
    size_t size = ikv_kit_footprint(&k.config);
    ikv_kit_config whole = k.config;
    whole.no_actions = whole.no_overlaps = false;
    ck_assert(_i == 0 ? size == ikv_kit_footprint(&whole)
                      : size < ikv_kit_footprint(&whole));
    kit_open(&k);
    listen_to(&k);
    ck_assert(_i & 1 ? ikv_kit_actions(k.kit) == NULL
                     : ikv_kit_actions(k.kit) != NULL);
    ck_assert(_i & 2 ? ikv_kit_overlaps(k.kit) == NULL
                     : ikv_kit_overlaps(k.kit) != NULL);
    kit_frame(&k, 0);
    push_key(&k, 5);
    kit_frame(&k, 40);
    ck_assert_str_eq(seen.text, "start0 frame0 key.down0 step0 step1 frame1 ");
    kit_close(&k);
}
END_TEST

/* The clock counts each nanosecond, and what runs backwards stands still. */
static uint64_t frame_ns;

static ikv_verdict note_time(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)d, (void)user;
    frame_ns = event->time_ns;
    return IKV_CONTINUE;
}

START_TEST(least_time)
{
    static const int64_t moves[] = {1, 1, 0, -5, 5, 1};
    static const uint64_t times[] = {1, 2, 2, 2, 2, 3};
    bench_kit k = {0};
    kit_open(&k);
    ikv_target everywhere = {0};
    hears(k.bus, IKV_KIND_LOOP_FRAME, everywhere, note_time, NULL);
    kit_frame(&k, 0);
    uint64_t first = frame_ns;
    for (int i = 0; i < ROWS(moves); i++) {
        k.fake.now_ns += (uint64_t)moves[i];
        ck_assert(ikv_loop_begin(k.loop));
        ok(ikv_loop_end(k.loop));
        ck_assert_uint_eq(frame_ns - first, times[i]);
    }
    kit_close(&k);
}
END_TEST

/* What turns the clock is recorded, with its place in steps' time; what was
 * dropped with the step that it began at. */
static void keep_turn(const ikv_event *event, const ikv_intake *intake,
                      void *user)
{
    (void)user;
    note(&seen, "%s step %llu count %u due %llu; ",
         ikv_catalogue_info(NULL, event->kind)->name,
         (unsigned long long)event->loop.step, event->loop.count,
         (unsigned long long)(intake->due_ns / 1000000));
}

START_TEST(recorded_turns)
{
    bench_kit k = {0};
    kit_open(&k);
    seen.text[0] = '\0';
    ok(ikv_loop_set_recorder(k.loop, keep_turn, NULL));
    kit_frame(&k, 0);
    kit_frame(&k, 70);
    ok(ikv_loop_set_scale(k.loop, 2000));
    kit_frame(&k, 90);
    ok(ikv_loop_pause(k.loop));
    kit_frame(&k, 110);
    ok(ikv_loop_single_step(k.loop));
    kit_frame(&k, 130);
    ok(ikv_loop_resume(k.loop));
    ok(ikv_loop_set_scale(k.loop, 1000));
    kit_frame(&k, 3000);
    ck_assert_str_eq(
        seen.text,
        "loop.scale step 0 count 2000 due 70; loop.pause step 0 count 0 due "
        "110; loop.single step 0 count 0 due 110; loop.resume step 0 count 0 "
        "due 116; loop.scale step 0 count 1000 due 116; loop.dropped step 7 "
        "count 164 due 116; ");
    kit_close(&k);
}
END_TEST

/* P1: of several ports those that can be polled are, until they end. */
static ikv_status count_poll(void *state)
{
    fake_port *f = state;
    f->waits++; /* counts polls here */
    return f->poll_status;
}

START_TEST(polled_ports)
{
    bench_kit k;
    kit_prepare(&k);
    fake_port still = {.now_ns = 1}, ending = {.now_ns = 1};
    ikv_port ports[3] = {k.port, fake_port_of(&still), fake_port_of(&ending)};
    ports[1].poll = NULL;
    ports[2].poll = count_poll;
    k.config.ports = ports;
    k.config.port_count = 3;
    kit_open(&k);
    kit_frame(&k, 0);
    kit_frame(&k, 20);
    ck_assert_int_eq(ending.waits, 2);
    ending.poll_status = IKV_ENDED;
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    ck_assert_int_eq(ending.waits, 3);
    kit_close(&k);
    ck_assert(still.closed == 1 && ending.closed == 1);
}
END_TEST

/* Without an input, too, a device that has lost events is asked what is down: at
 * once if there is just room enough, and all of it is told. */
static ikv_status holds_two(void *state, uint16_t device, ikv_event *events,
                            uint32_t room, uint32_t *count)
{
    (void)state;
    ck_assert_uint_eq(room, 2);
    for (*count = 0; *count < 2; ++*count) {
        events[*count] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        events[*count].device = device;
        events[*count].key.code = 70 + *count;
    }
    return IKV_OK;
}

static ikv_verdict note_code(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    if (event->kind == IKV_KIND_KEY_DOWN)
        note(user, "%u ", event->key.code);
    else if (event->kind == IKV_KIND_DEVICE_RESYNC)
        note(user, "resync ");
    return IKV_CONTINUE;
}

START_TEST(asked_without_input)
{
    bench_kit k = {0};
    fake_port fake = {0};
    record told = {""};
    ikv_loop *loop = NULL;
    kit_open(&k);
    ikv_port port = fake_port_of(&fake);
    ikv_loop_config config = IKV_LOOP_INIT;
    port.held = holds_two;
    config.memory = ikv_host_memory();
    config.bus = k.bus;
    config.queue = ikv_kit_queue(k.kit);
    config.ports = &port;
    config.port_count = 1;
    config.pending = 4;
    config.held = 2;
    config.frame_hz = IKV_UNPACED;
    ok(ikv_loop_open(&config, &loop));
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, note_code, &told);
    hears(k.bus, IKV_KIND_DEVICE_RESYNC, (ikv_target){0}, note_code, &told);
    whole_frame(loop);
    /* one waits for its step, which is not due: there are three places more */
    fake.now_ns = 5000000;
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, fake.now_ns);
    key.device = fake.device;
    key.key.code = 69;
    ok(ikv_sink_push(fake.sink, &key));
    whole_frame(loop);
    ikv_sink_lost(fake.sink, fake.device);
    whole_frame(loop);
    ck_assert_uint_eq(loop_counts(loop).resyncs, 1);
    fake.now_ns = 40000000;
    whole_frame(loop);
    ck_assert_str_eq(told.text, "69 resync 70 71 ");
    ok(ikv_loop_close(loop));
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------- back to the ports -- */

/* Rumbles alone, and notes how much. */
static ikv_status only_rumbles(void *state, const ikv_request *request)
{
    fake_port *fake = state;
    if (request->kind != IKV_REQUEST_RUMBLE)
        return IKV_ABSENT;
    fake->waits += (int)(request->low * 100);
    return IKV_OK;
}

static ikv_status only_cursor(void *state, const ikv_request *request)
{
    fake_port *fake = state;
    if (request->kind != IKV_REQUEST_CURSOR)
        return IKV_ABSENT;
    fake->waits += 1000;
    return request->cursor < 3 ? IKV_OK : IKV_PORT_FAILED;
}

static size_t names_pad(void *state, uint16_t device, char *buffer, size_t size)
{
    (void)state;
    return (size_t)snprintf(buffer, size, "harbour pad %u", device);
}

/* Which port is asked: that of a device, or the first that can; it answers also
 * inside a handler, and not when it has ended. Nothing else is touched. */
static ikv_loop *asked_loop;

static ikv_verdict ask_inside(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    ikv_request request = IKV_REQUEST_INIT;
    (void)event, (void)delivery;
    request.kind = IKV_REQUEST_RUMBLE;
    request.low = 0.25f;
    *(ikv_status *)user = ikv_loop_request(asked_loop, &request);
    return IKV_CONTINUE;
}

START_TEST(asking_ports)
{
    static const struct {
        uint32_t kind;
        int of; /* 0: of none; 1, 2: of the port's device; 3: of none that is */
        uint8_t cursor;
        float low, width, seconds;
        ikv_status status;
        int first, second; /* what they have noted */
    } table[] = {
        {IKV_REQUEST_RUMBLE, 1, 0, 0.5f, 0, 1, IKV_OK, 50, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, 1, 0, 0, IKV_OK, 100, 0},
        {IKV_REQUEST_RUMBLE, 2, 0, 1, 0, 0, IKV_ABSENT, 0, 0},
        {IKV_REQUEST_CURSOR, 0, 1, 0, 0, 0, IKV_OK, 0, 1000},
        {IKV_REQUEST_CURSOR, 2, 2, 0, 0, 0, IKV_OK, 0, 1000},
        {IKV_REQUEST_CURSOR, 2, 3, 0, 0, 0, IKV_PORT_FAILED, 0, 1000},
        {IKV_REQUEST_CURSOR, 1, 0, 0, 0, 0, IKV_ABSENT, 0, 0},
        {IKV_REQUEST_CURSOR, 3, 0, 0, 0, 0, IKV_ABSENT, 0, 0},
        {IKV_REQUEST_TEXT_AREA, 0, 0, 0, 9, 0, IKV_ABSENT, 0, 0},
        {IKV_REQUEST_RELATIVE, 0, 0, 0, 0, 0, IKV_ABSENT, 0, 0},
        {0, 0, 0, 0, 0, 0, IKV_BAD_ARGUMENT, 0, 0},
        {IKV_REQUEST_COUNT, 0, 0, 0, 0, 0, IKV_BAD_ARGUMENT, 0, 0},
        {IKV_REQUEST_CLIPBOARD_SET, 0, 0, 0, 0, 0, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, 1.5f, 0, 0, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, -0.5f, 0, 0, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, NAN, 0, 0, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, 1, 0, -1, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_RUMBLE, 0, 0, 1, 0, INFINITY, IKV_BAD_VALUE, 0, 0},
        {IKV_REQUEST_TEXT_AREA, 0, 0, 0, -1, 0, IKV_BAD_VALUE, 0, 0},
    };
    bench_kit k = {0};
    fake_port fakes[2] = {{0}, {0}};
    char name[32];
    kit_open(&k);
    ikv_port ports[] = {fake_port_of(&fakes[0]), fake_port_of(&fakes[1])};
    ikv_loop_config config = IKV_LOOP_INIT;
    ports[0].request = only_rumbles;
    ports[1].request = only_cursor;
    ports[1].describe = names_pad;
    config.memory = ikv_host_memory();
    config.bus = k.bus;
    config.queue = ikv_kit_queue(k.kit);
    config.ports = ports;
    config.port_count = 2;
    config.frame_hz = IKV_UNPACED;
    ok(ikv_loop_open(&config, &asked_loop));
    for (int i = 0; i < ROWS(table); i++) {
        const uint16_t devices[] = {0, fakes[0].device, fakes[1].device, 700};
        ikv_request request = IKV_REQUEST_INIT;
        fakes[0].waits = fakes[1].waits = 0;
        request.kind = table[i].kind;
        request.device = devices[table[i].of];
        request.cursor = table[i].cursor;
        request.low = table[i].low;
        request.width = table[i].width;
        request.seconds = table[i].seconds;
        ikv_status status = ikv_loop_request(asked_loop, &request);
        ck_assert_msg(status == table[i].status &&
                          fakes[0].waits == table[i].first &&
                          fakes[1].waits == table[i].second,
                      "%d: %s, %d, %d", i, ikv_status_name(status),
                      fakes[0].waits, fakes[1].waits);
        request.size = 4;
        status_is(ikv_loop_request(asked_loop, &request), IKV_BAD_SIZE);
    }
    /* the name of a device */
    ck_assert_uint_eq(
        ikv_loop_describe(asked_loop, fakes[1].device, name, sizeof name), 13);
    ck_assert_str_eq(name, "harbour pad 2");
    ck_assert_uint_eq(ikv_loop_describe(asked_loop, 2, NULL, 0), 13);
    ck_assert_uint_eq(ikv_loop_describe(asked_loop, 2, name, 8), 13);
    ck_assert_str_eq(name, "harbour");
    for (uint16_t none = 0; none < 4; none++)
        if (none != 2) {
            ck_assert_uint_eq(
                ikv_loop_describe(asked_loop, none, name, sizeof name), 0);
            ck_assert_str_eq(name, "");
        }
    /* inside a handler; and not of a port that has ended */
    ikv_status inside = IKV_BUSY;
    hears(k.bus, IKV_KIND_LOOP_FRAME, (ikv_target){0}, ask_inside, &inside);
    whole_frame(asked_loop);
    status_is(inside, IKV_OK);
    fakes[0].poll_status = IKV_ENDED;
    whole_frame(asked_loop);
    status_is(inside, IKV_ABSENT);
    ok(ikv_loop_close(asked_loop));
    kit_close(&k);
}
END_TEST

static ikv_verdict note_typed(const ikv_event *event, const ikv_delivery *d,
                              void *to)
{
    (void)d;
    note(to, "%.*s ", (int)event->text.length, event->text.bytes);
    return IKV_CONTINUE;
}

/* P1: the focus on what takes text asks for a text area there, by itself; as it
 * moves, and when it is no more. Not where the config says no. */
static ikv_status note_area(void *to, const ikv_request *request)
{
    if (request->kind != IKV_REQUEST_TEXT_AREA)
        return IKV_ABSENT;
    note(((fake_port *)to)->user, "%d:%g,%g,%g,%g ", request->on,
         (double)request->x, (double)request->y, (double)request->width,
         (double)request->height);
    return IKV_OK;
}

START_TEST(text_areas)
{
    bench_kit k;
    record areas = {""};
    ikv_target field, button, none = {0};
    ikv_target_config config = IKV_TARGET_INIT;
    kit_prepare(&k);
    k.fake.user = &areas;
    k.port.request = note_area;
    k.config.loop.no_text_area = _i == 1;
    kit_open(&k);
    config.shape = ikv_scene_rect(0, 0, 40, 10);
    config.x = 5;
    config.traits = IKV_FOCUSABLE | IKV_TAKES_TEXT;
    ok(ikv_scene_add(k.scene, &config, &field, NULL));
    config.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(k.scene, &config, &button, NULL));
    kit_frame(&k, 20);
    ok(ikv_router_focus(k.router, 2, button));
    kit_frame(&k, 40);
    ok(ikv_router_focus(k.router, 3, field));
    kit_frame(&k, 60);
    kit_frame(&k, 80);
    ok(ikv_scene_move(k.scene, field, 7, 1));
    kit_frame(&k, 100);
    ok(ikv_scene_move(k.scene, button, 7, 1));
    kit_frame(&k, 120);
    ok(ikv_scene_set_traits(k.scene, field, IKV_FOCUSABLE));
    kit_frame(&k, 140);
    ok(ikv_scene_set_traits(k.scene, field, IKV_FOCUSABLE | IKV_TAKES_TEXT));
    kit_frame(&k, 160);
    ok(ikv_scene_remove(k.scene, field));
    kit_frame(&k, 180);
    ck_assert_str_eq(areas.text, _i == 1 ? ""
                                         : "1:5,0,40,10 1:7,1,40,10 0:0,0,0,0 "
                                           "1:7,1,40,10 0:0,0,0,0 ");
    ck_assert(!ikv_scene_box(k.scene, none, 0, (float[4]){0}));
    ck_assert(!ikv_scene_box(k.scene, button, 9, (float[4]){0}));
    kit_close(&k);
}
END_TEST

/* L8: numbers of devices come back when all are used up, that of the one which
 * has been gone for longest first; not before its removal was told. */
START_TEST(numbers_come_back)
{
    bench_kit k;
    uint16_t all[4];
    kit_prepare(&k);
    k.config.loop.devices = 6; /* 0, the fake's, four more */
    k.config.queue.devices = 6;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < 4; i++)
        all[i] = ikv_sink_device(k.fake.sink);
    ck_assert_uint_eq(all[3], 5);
    ck_assert_uint_eq(ikv_sink_device(k.fake.sink), 0);
    static const int gone[] = {2, 0, 3, 2};
    for (int i = 0; i < ROWS(gone); i++) {
        ikv_event e = ikv_event_make(IKV_KIND_DEVICE_REMOVE, k.fake.now_ns);
        e.device = all[gone[i]]; /* the last one twice */
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    ck_assert_uint_eq(ikv_sink_device(k.fake.sink), 0);
    kit_frame(&k, 40);
    for (int i = 0; i < 3; i++)
        ck_assert_uint_eq(ikv_sink_device(k.fake.sink), all[gone[i]]);
    ck_assert_uint_eq(ikv_sink_device(k.fake.sink), 0);
    kit_close(&k);
}
END_TEST

/* The simulated port answers all of them, and the wrappers pass them on. */
START_TEST(asking_sim)
{
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_fault_config fault = IKV_FAULT_INIT;
    ikv_port inner, faulty, logged;
    char line[256] = "", name[32];
    FILE *file = tmpfile();
    sim.seed = 3;
    ok(ikv_sim_open(&sim, &inner));
    ok(ikv_fault_port_open(&inner, &fault, &faulty));
    ok(ikv_log_port_open(&faulty, file, &logged));
    bench_kit k;
    kit_prepare(&k);
    k.config.ports = &logged;
    k.config.loop.frame_hz = 60; /* its clock goes as far as it is waited for */
    kit_open(&k);
    record pasted = {""};
    hears(k.bus, IKV_KIND_TEXT_INPUT, (ikv_target){0}, note_typed, &pasted);
    for (uint32_t kind = IKV_REQUEST_RELATIVE; kind < IKV_REQUEST_COUNT;
         kind++) {
        ikv_request request = IKV_REQUEST_INIT;
        request.kind = kind;
        request.device = 1;
        request.text = "gull";
        request.text_size = 4;
        status_is(ikv_loop_request(k.loop, &request), IKV_OK);
        request.color = 0x1000000;
        status_is(ikv_loop_request(k.loop, &request), IKV_BAD_VALUE);
        request.color = 0;
        request.text = "\xff";
        if (kind == IKV_REQUEST_CLIPBOARD_SET)
            status_is(ikv_loop_request(k.loop, &request), IKV_BAD_VALUE);
    }
    for (int i = 0; i < 100 && strstr(pasted.text, "gull ") == NULL; i++)
        whole_frame(k.loop);
    ck_assert_ptr_nonnull(
        strstr(pasted.text, "gull ")); /* as if it were typed */
    ck_assert_uint_eq(ikv_loop_identify(k.loop, 1, name, sizeof name), 5);
    ck_assert_str_eq(name, "sim:1");
    ck_assert_uint_eq(ikv_loop_identify(k.loop, 999, name, sizeof name), 0);
    ck_assert_uint_gt(ikv_loop_describe(k.loop, 1, name, sizeof name), 10);
    ck_assert_str_eq(name, "simulated device 1");
    ck_assert_uint_eq(ikv_fault_port_calls(&faulty, IKV_CALL_REQUEST), 8);
    rewind(file);
    int requests = 0;
    while (fgets(line, sizeof line, file) != NULL)
        requests += strstr(line, " request ") != NULL;
    ck_assert_int_eq(requests, 8);
    kit_close(&k);
    fclose(file);
    ikv_log_port_close(&logged);
    ikv_fault_port_close(&faulty);
    ikv_sim_close(&inner);
}
END_TEST

/* What the config of a loop lacks is said, and nothing is taken. */
static ikv_loop_config whole_config, spoilt_config;
static ikv_port spoilt_port;

static const struct {
    size_t offset, size; /* zeros there */
    bool in_port;
    ikv_status status;
    const char *says;
} lack_table[] = {
#define LACKS(part)      offsetof(ikv_loop_config, part), sizeof whole_config.part, 0
#define PORT_LACKS(part) offsetof(ikv_port, part), sizeof spoilt_port.part, 1
    {LACKS(bus), IKV_BAD_CONFIG, "loop: the config's bus is NULL"},
    {LACKS(queue), IKV_BAD_CONFIG, "loop: the config's queue is NULL"},
    {LACKS(ports), IKV_BAD_CONFIG, "loop: the config's ports is empty"},
    {LACKS(port_count), IKV_BAD_CONFIG, "loop: the config's ports is empty"},
    {LACKS(size), IKV_BAD_SIZE, ""},
    {LACKS(memory), IKV_NO_MEMORY, ""},
    {PORT_LACKS(open), IKV_BAD_CONFIG, "open"},
    {PORT_LACKS(now), IKV_BAD_CONFIG, "now"},
    {PORT_LACKS(close), IKV_BAD_CONFIG, "close"},
    {PORT_LACKS(size), IKV_BAD_SIZE, "a port's size"},
};

START_TEST(loops_that_lack)
{
    bench_kit k = {0};
    kit_open(&k);
    fake_port fake = {0};
    ikv_loop *loop = NULL;
    spoilt_port = fake_port_of(&fake);
    whole_config = (ikv_loop_config)IKV_LOOP_INIT;
    whole_config.memory = ikv_host_memory();
    whole_config.bus = k.bus;
    whole_config.queue = ikv_kit_queue(k.kit);
    whole_config.ports = &spoilt_port;
    whole_config.port_count = 1;
    whole_config.reporter = k.config.reporter;
    spoilt_config = whole_config;
    memset(lack_table[_i].in_port
               ? (char *)&spoilt_port + lack_table[_i].offset
               : (char *)&spoilt_config + lack_table[_i].offset,
           0, lack_table[_i].size);
    status_is(ikv_loop_open(&spoilt_config, &loop), lack_table[_i].status);
    ck_assert_ptr_null(loop);
    ck_assert_msg(strstr(k.report, lack_table[_i].says) != NULL, "%s",
                  k.report);
    ck_assert_int_eq(fake.opened, 0);
    kit_close(&k);
}
END_TEST

/* What the config of an input lacks is said, and nothing is taken. */
START_TEST(inputs_that_lack)
{
    static const struct {
        bool bus, memory, routers;
        uint32_t count, more; /* beyond the size */
        ikv_status status;
        const char *says;
    } table[] = {
        {1, 1, 1, 1, 0, IKV_OK, NULL},
        {1, 1, 0, 0, 0, IKV_OK, NULL},
        {0, 1, 1, 1, 0, IKV_BAD_CONFIG, "input: the config's bus is NULL"},
        {1, 0, 1, 1, 0, IKV_NO_MEMORY, NULL},
        {1, 1, 0, 1, 0, IKV_BAD_CONFIG, "routers has a NULL"},
        {1, 1, 1, 2, 0, IKV_BAD_CONFIG, "routers has a NULL"},
        {1, 1, 1, IKV_ROUTER_LIMIT + 1, 0, IKV_FULL_ROUTERS, "routers"},
        {1, 1, 1, 1, 8, IKV_BAD_SIZE, NULL}};
    bench_kit k = {0};
    kit_open(&k);
    ikv_router *const routers[IKV_ROUTER_LIMIT + 1] = {k.router, NULL};
    for (int i = 0; i < ROWS(table); i++) {
        counted memory = {0};
        ikv_input *input = NULL;
        ikv_input_config config = IKV_INPUT_INIT;
        config.size += table[i].more;
        config.bus = table[i].bus ? k.bus : NULL;
        config.routers = table[i].routers ? routers : NULL;
        config.router_count = table[i].count;
        config.reporter = k.config.reporter;
        if (table[i].memory)
            config.memory = counted_memory(&memory);
        k.report[0] = 0;
        status_is(ikv_input_open(&config, &input), table[i].status);
        if (table[i].says != NULL)
            ck_assert_ptr_nonnull(strstr(k.report, table[i].says));
        ck_assert((input != NULL) == (table[i].status == IKV_OK));
        ok(ikv_input_close(input));
        ck_assert_int_eq(memory.takes, memory.gives);
    }
    kit_close(&k);
}
END_TEST

static ikv_target no_next(void *scene, ikv_target from, bool backwards)
{
    (void)scene, (void)from, (void)backwards;
    return (ikv_target){0};
}

/* Each part, opened by itself, takes one block and gives it back. (And where a
 * picking knows of nothing that is next, Tab leaves the focus where it is.) */
START_TEST(parts_by_themselves)
{
    enum {
        PARTS = 9
    };
    static counted memory[PARTS];
    memset(memory, 0, sizeof memory);
    fake_port fake = {.now_ns = 1};
    ikv_port port = fake_port_of(&fake);
    ikv_kit_config c = IKV_KIT_INIT;
    ikv_catalogue_config cc = {.size = sizeof cc};
    ikv_catalogue *catalogue;
    ikv_target target;
    ikv_target_config lamp = IKV_TARGET_INIT;
    ikv_memory *const each[PARTS] = {
        &cc.memory,        &c.queue.memory,    &c.bus.memory,
        &c.scene.memory,   &c.router.memory,   &c.state.memory,
        &c.actions.memory, &c.overlaps.memory, &c.loop.memory};
    for (int i = 0; i < PARTS; i++)
        *each[i] = counted_memory(&memory[i]);
    ok(ikv_catalogue_open(&cc, &catalogue));
    ok(ikv_queue_open(&c.queue, &c.loop.queue));
    ok(ikv_bus_open(&c.bus, &c.loop.bus));
    c.scene.bus = c.router.bus = c.actions.bus = c.overlaps.bus = c.loop.bus;
    ok(ikv_scene_open(&c.scene, &c.overlaps.scene));
    c.router.picking = ikv_kit_picking(c.overlaps.scene);
    c.router.picking.tab_next = no_next;
    ikv_router *router;
    ok(ikv_router_open(&c.router, &router));
    ok(ikv_state_open(&c.state, &c.actions.state));
    ikv_actions *actions;
    ikv_overlaps *overlaps;
    ikv_loop *loop;
    ok(ikv_actions_open(&c.actions, &actions));
    ok(ikv_overlaps_open(&c.overlaps, &overlaps));
    c.loop.input = input_of(c.loop.bus, &router, 1, ikv_host_memory());
    c.loop.ports = &port;
    c.loop.port_count = 1;
    ok(ikv_loop_open(&c.loop, &loop));

    lamp.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(c.overlaps.scene, &lamp, &target, NULL));
    ok(ikv_router_focus(router, 0, target));
    ikv_event tab = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    tab.key.code = ikv_code_find("Tab");
    ok(ikv_router_route(router, &tab).status);
    ck_assert_uint_eq(ikv_router_focused(router, 0).bits, target.bits);

    ok(ikv_loop_close(loop));
    ok(ikv_input_close(c.loop.input));
    ok(ikv_actions_close(actions));
    ok(ikv_overlaps_close(overlaps));
    ok(ikv_router_close(router));
    ok(ikv_scene_close(c.overlaps.scene));
    ikv_state_close(c.actions.state);
    ok(ikv_bus_close(c.loop.bus));
    ikv_queue_close(c.loop.queue);
    ikv_catalogue_close(catalogue);
    for (int i = 0; i < PARTS; i++) {
        ck_assert_int_eq(memory[i].takes, 1);
        ck_assert_int_eq(memory[i].gives, 1);
    }
}
END_TEST

static ikv_verdict note_kind(const ikv_event *event, const ikv_delivery *d,
                             void *to)
{
    ck_assert_uint_eq(event->target.bits, ikv_bus_root(d->bus).bits);
    note(to, "%s ", ikv_catalogue_info(NULL, event->kind)->name);
    return IKV_CONTINUE;
}

/* L4. What is still on a lane when the loop ends is heard before its end. */
START_TEST(last_of_the_lanes)
{
    bench_kit k = {0};
    ikv_target none = {0};
    seen.text[0] = '\0';
    kit_open(&k);
    hears(k.bus, IKV_KIND_WINDOW_SHOW, none, note_kind, &seen);
    hears(k.bus, IKV_KIND_WINDOW_HIDE, none, note_kind, &seen);
    hears(k.bus, IKV_KIND_LOOP_END, none, note_kind, &seen);
    kit_frame(&k, 0);
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, 1);
    ok(ikv_bus_defer(k.bus, IKV_FRAME_LANE, &e));
    e.kind = IKV_KIND_WINDOW_HIDE;
    ok(ikv_bus_defer(k.bus, IKV_STEP_LANE, &e));
    ikv_loop_quit(k.loop);
    ck_assert(!ikv_loop_begin(k.loop));
    ck_assert(!ikv_loop_begin(k.loop));
    ok(ikv_bus_deliver(k.bus, &e)
           .status); /* of no target: the root's (PATH8) */
    ck_assert_str_eq(seen.text,
                     "window.hide window.show loop.end window.hide ");
    kit_close(&k);
}
END_TEST

static ikv_verdict compare_step(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    uint64_t *last = user;
    if (event->kind == IKV_KIND_LOOP_STEP) {
        *last = event->loop.step;
        ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, event->time_ns);
        ck_assert_uint_eq(ikv_bus_deliver(d->bus, &e).heard, 1);
    } else if (event->kind == IKV_KIND_WINDOW_SHOW) {
        ikv_event e = ikv_event_make(IKV_KIND_WINDOW_HIDE, event->time_ns);
        ck_assert_uint_eq(ikv_bus_deliver(d->bus, &e).heard, 1);
        e.target = ikv_bus_root(d->bus);
        ck_assert_uint_eq(ikv_bus_deliver(d->bus, &e).heard, 1);
    }
    ck_assert_uint_eq(d->step, *last);
    return IKV_CONTINUE;
}

/* A delivery bears the step's number, at any depth. */
START_TEST(step_at_any_depth)
{
    static const ikv_kind kinds[] = {IKV_KIND_LOOP_STEP, IKV_KIND_WINDOW_SHOW,
                                     IKV_KIND_WINDOW_HIDE};
    bench_kit k = {0};
    uint64_t last = 0;
    kit_open(&k);
    for (int i = 0; i < ROWS(kinds); i++)
        hears(k.bus, kinds[i], (ikv_target){0}, compare_step, &last);
    for (uint64_t ms = 0; ms < 200; ms += 17)
        kit_frame(&k, ms);
    ck_assert_uint_gt(last, 5);
    kit_close(&k);
}
END_TEST

static void count_taken(const ikv_event *event, const ikv_intake *intake,
                        void *user)
{
    (void)event, (void)intake;
    ++*(int *)user;
}

/* An input is in one loop, which is closed before it. A loop that is closed
 * records no more of what its bus takes from other threads. */
START_TEST(input_of_a_loop)
{
    bench_kit k;
    kit_prepare(&k);
    kit_open(&k);
    fake_port other = {.now_ns = 1};
    ikv_port port = fake_port_of(&other);
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_loop *loop = NULL;
    config.memory = ikv_host_memory();
    config.reporter = k.config.reporter;
    config.bus = k.bus;
    config.queue = ikv_kit_queue(k.kit);
    config.ports = &port;
    config.port_count = 1;
    config.input = ikv_kit_input(k.kit);
    status_is(ikv_loop_open(&config, &loop), IKV_BUSY);
    ck_assert_ptr_nonnull(strstr(k.report, "in a loop already"));
    ck_assert_int_eq(other.opened, 0);
    config.input = input_of(k.bus, NULL, 0, config.memory);
    ok(ikv_loop_open(&config, &loop));
    status_is(ikv_input_close(config.input), IKV_BUSY);
    ok(ikv_loop_close(loop));
    counted memory = {0};
    int taken = 0;
    config.memory = counted_memory(&memory);
    ok(ikv_loop_open(&config, &loop));
    ok(ikv_loop_set_recorder(loop, count_taken, &taken));
    ok(ikv_loop_close(loop));
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, 1);
    ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e));
    ok(ikv_bus_flush(k.bus, IKV_STEP_LANE, NULL));
    ck_assert_int_eq(taken, 0);
    ok(ikv_input_close(config.input));
    kit_close(&k);
}
END_TEST

/* Times of two ports with clocks of their own become one. */
START_TEST(two_clocks)
{
    bench_kit k;
    kit_prepare(&k);
    fake_port other = {.now_ns = 50};
    ikv_port ports[2] = {k.port, fake_port_of(&other)};
    k.config.ports = ports;
    k.config.port_count = 2;
    k.config.loop.devices = 4;
    kit_open(&k);
    listen_to(&k);
    kit_frame(&k, 0);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 50 + 20000000);
    e.device = other.device;
    ck_assert_uint_eq(other.device, 2);
    ok(ikv_sink_push_any(other.sink, &e));
    kit_frame(&k, 40);
    ck_assert_str_eq(seen.text, "start0 frame0 step0 key.down1 step1 frame1 ");
    /* A device that no port has goes by the first one's. */
    e.device = 9;
    e.time_ns = 7000000000 + 50000000;
    ok(ikv_queue_push(ikv_kit_queue(k.kit), &e));
    kit_frame(&k, 80);
    ck_assert_uint_eq(loop_counts(k.loop).ahead, 0);
    ck_assert_str_eq(seen.text, "start0 frame0 step0 key.down1 step1 frame1 "
                                "step2 key.down3 step3 frame3 ");
    kit_close(&k);
    ck_assert_int_eq(other.closed, 1);
}
END_TEST

static void note_intake(const ikv_watch *watch, void *user)
{
    const char *what = watch->what == IKV_WATCH_TAKE    ? "take"
                       : watch->what == IKV_WATCH_MERGE ? "merge"
                                                        : "refuse";
    const ikv_kind_info *info = ikv_catalogue_info(NULL, watch->event->kind);
    (void)user;
    note(&seen, "%s:%s@%llu%s%s ", what, info != NULL ? info->name : "?",
         (unsigned long long)watch->event->time_ns / 1000000,
         watch->status != IKV_OK ? "=" : "",
         watch->status != IKV_OK ? ikv_status_name(watch->status) : "");
}

/* P2, Q2: watchers are told of what comes in, what bears what, and what may not
 * come in. */
START_TEST(watched_intake)
{
    bench_kit k;
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    seen.text[0] = '\0';
    ok(ikv_bus_add_watcher(k.bus,
                           IKV_WATCH_TAKE | IKV_WATCH_MERGE | IKV_WATCH_REFUSE,
                           note_intake, NULL));
    ikv_event e =
        ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns + 5000000);
    e.device = k.fake.device;
    e.pointer.button = -1;
    ok(ikv_sink_push(k.fake.sink, &e));
    e.time_ns += 1000000;
    ok(ikv_sink_push(k.fake.sink, &e));
    e.kind = IKV_KIND_LOOP_STEP;
    ok(ikv_queue_push(ikv_kit_queue(k.kit), &e));
    e.kind = 4000;
    ok(ikv_queue_push(ikv_kit_queue(k.kit), &e));
    e.kind = IKV_KIND_POINTER_MOVE;
    e.pointer.x = NAN;
    ok(ikv_queue_push(ikv_kit_queue(k.kit), &e));
    kit_frame(&k, 40);
    ck_assert_str_eq(
        seen.text,
        "take:pointer.move@5 take:pointer.move@6 "
        "refuse:loop.step@7006=NOT_PUSHABLE refuse:?@7006=UNKNOWN_KIND "
        "refuse:pointer.move@7006=BAD_VALUE merge:pointer.move@5 ");
    kit_close(&k);
}
END_TEST

/* A clock that moves on by so much at each reading: a frame with one step is
 * read four times, without one twice, and the loop's own clock may be given. */
static uint64_t next_tick(void *tick)
{
    static uint64_t now;
    return now += *(uint64_t *)tick;
}

static const struct {
    uint64_t tick_ns, frame_p50, step_p50, frames_over, steps_over;
} duration_table[] = {
    {0, 0, 0, 0, 0},
    {1000, 3000, 1000, 0, 0},
    {5555555, 16666665, 5555555, 0, 0},
    {5555556, 16666668, 5555556, 10, 0},
    {16666666, 49999998, 16666666, 10, 0},
    {16666667, 50000001, 16666667, 10, 10},
};

START_TEST(durations)
{
    bench_kit k;
    ikv_durations d = IKV_DURATIONS_INIT, clock = IKV_DURATIONS_INIT;
    uint64_t tick = duration_table[_i].tick_ns;
    d.clock = next_tick;
    d.user = &tick;
    kit_prepare(&k);
    k.config.loop.frame_hz = 60;
    kit_open(&k);
    ck_assert_uint_eq(ikv_loop_clock_ns(k.loop), 0);
    kit_frame(&k, 0);
    ok(ikv_loop_measure(k.loop, &d));
    for (uint64_t frame = 1; frame <= 10; frame++)
        kit_frame_ns(&k, frame * 16666667);
    ck_assert_uint_eq(ikv_loop_clock_ns(k.loop), k.fake.now_ns - 7000000000);
    ck_assert_uint_eq(d.frames, 10);
    ck_assert_uint_eq(d.steps, 10);
    ck_assert_uint_eq(d.max_frame_ns, duration_table[_i].frame_p50);
    ck_assert_uint_eq(d.max_step_ns, duration_table[_i].step_p50);
    ck_assert_uint_eq(d.frames_over, duration_table[_i].frames_over);
    ck_assert_uint_eq(d.steps_over, duration_table[_i].steps_over);
    ck_assert_uint_eq(ikv_duration_of(&d, IKV_OF_FRAMES, 50), d.max_frame_ns);
    ck_assert_uint_eq(ikv_duration_of(&d, IKV_OF_STEPS, 99), d.max_step_ns);
    ck_assert_uint_eq(ikv_duration_of(&d, 2, 50), 0);
    /* from within a frame the frame's end is none of a whole one */
    ok(ikv_loop_measure(k.loop, NULL));
    k.fake.now_ns += 16666667;
    ck_assert(ikv_loop_begin(k.loop));
    ok(ikv_loop_measure(k.loop, &clock));
    uint64_t steps = 0;
    for (; ikv_loop_step(k.loop); steps++)
        k.fake.now_ns += 3000000;
    ok(ikv_loop_end(k.loop));
    ck_assert_uint_eq(d.frames, 10);
    ck_assert_uint_eq(clock.frames, 0);
    ck_assert_uint_gt(steps, 0);
    ck_assert_uint_eq(clock.steps, steps);
    ck_assert_uint_eq(clock.max_step_ns, 3000000);
    ck_assert_uint_eq(clock.step_budget_ns, 16666666);
    clock.size = 3;
    status_is(ikv_loop_measure(k.loop, &clock), IKV_BAD_SIZE);
    kit_close(&k);
}
END_TEST

Suite *loop_suite(void)
{
    Suite *s = suite_create("loop");
    add_table(s, "L2 starts", step_starts, ROWS(rates));
    add(s, "L3 L4", order_in_frames);
    add_table(s, "L1", due_times, ROWS(due_table));
    add(s, "L1 late", late_events);
    add(s, "L1 rates", same_steps_at_any_rate);
    add(s, "L2 dropped", dropped_time);
    add_table(s, "L2 dropped to the step", dropped_exactly, 8);
    add(s, "D6 close", closing_the_window);
    add(s, "P2", only_what_ports_may_push);
    add(s, "Q2 full", full_pending);
    add(s, "L7", paced_to_sixty);
    add(s, "careless", careless_use);
    add_table(s, "P1 end", ports_that_end, 2);
    add_table(s, "kit", kits_that_fail, ROWS(spoil_table));
    add(s, "P1 second", second_port_fails);
    add(s, "a loop that fails to open", loop_fails_to_open);
    add(s, "D7 once a frame", once_a_frame);
    add(s, "P1 polled", polled_ports);
    add(s, "L5 recorded", recorded_turns);
    add(s, "L6 a single step asked for in one", single_in_step);
    add_table(s, "smaller kits", smaller_kits, 4);
    add(s, "L7 the least time", least_time);
    add_table(s, "what a loop lacks", loops_that_lack, ROWS(lack_table));
    add(s, "Q3 asked without an input", asked_without_input);
    add(s, "P1 asking ports", asking_ports);
    add(s, "P1 asking the simulated port", asking_sim);
    add_table(s, "P1 text areas", text_areas, 2);
    add(s, "L8 numbers come back", numbers_come_back);
    add(s, "what an input lacks", inputs_that_lack);
    add(s, "parts by themselves", parts_by_themselves);
    add(s, "L4 what is last on the lanes", last_of_the_lanes);
    add(s, "L3 the step at any depth", step_at_any_depth);
    add(s, "an input is in one loop", input_of_a_loop);
    add(s, "P2 Q2 watched intake", watched_intake);
    add(s, "P1 clocks", two_clocks);
    add_table(s, "D10 durations", durations, ROWS(duration_table));
    return s;
}
