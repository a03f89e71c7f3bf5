/* rows_worst.c - layouts and uses that are not the usual ones: what is slow
 * there is seen here. */
#include "bench.h"

enum {
    EVENTS = 256,
    DEEP = 8,
    PICKS = 64,
    STACK = 10000,
    TIMERS = 10000,
    DELIVERIES = 4000,
    EXCLUDED = 1000
};

static uint64_t counter;
static bench_port hands;
static const ikv_target everywhere;

static ikv_kit *open_kit(uint32_t targets, bool plain)
{
    ikv_port port = port_of(&hands);
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    config.memory = counting_memory();
    config.ports = &port;
    config.port_count = 1;
    config.bus.targets = targets;
    config.scene.plain = plain;
    config.loop.frame_hz = IKV_UNPACED;
    config.loop.step_num = 1000;
    config.loop.samples = 1; /* whole events, not merged ones */
    if (ikv_kit_open(&config, &kit) < 0)
        exit(2);
    return kit;
}

static ikv_target add_square(ikv_kit *kit, ikv_target parent, float at,
                             float side, int32_t z)
{
    ikv_target target;
    ikv_target_config config = IKV_TARGET_INIT;
    config.parent = parent;
    config.x = config.y = at;
    config.z = z;
    config.shape = ikv_scene_rect(0, 0, side, side);
    if (ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL) < 0)
        exit(2);
    return target;
}

/* ----------------------------------------------------------- boundaries -- */

static ikv_kit *kit;
static float across[2]; /* where the pointer is in turn */

static void move_pointer(void)
{
    ikv_loop *loop = ikv_kit_loop(kit);
    hands.now_ns += 1000000;
    for (int i = 0; i < EVENTS; i++) {
        ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
        move.device = hands.device;
        move.time_ns = hands.now_ns - 500000;
        move.pointer.type = IKV_MOUSE;
        move.pointer.x = move.pointer.y = across[i % 2] + (float)(i % 7);
        ikv_sink_push(hands.sink, &move);
    }
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

static void move_across(void)
{
    across[0] = 100;
    across[1] = 1100;
    move_pointer();
}

/* A whole event, as elsewhere: 8 deep. */
static void move_within(void)
{
    across[0] = across[1] = 2100;
    move_pointer();
}

static void add_tower(float at, int deep)
{
    ikv_target top = everywhere;
    for (int d = 0; d < deep; d++)
        top = add_square(kit, top, d == 0 ? at : 0.5f, 500, 0);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_MOVE, top, count_call,
                 &counter, NULL);
}

static void boundary_row(const char *name, int deep, double budget)
{
    kit = open_kit(256, false);
    add_tower(0, deep);
    add_tower(1000, deep);
    add_tower(2000, DEEP);
    move_across();
    measure(name, "a whole event within a target 8 deep", budget, 1.2, EVENTS,
            move_across, move_within);
    ikv_kit_close(kit);
}

/* --------------------------------------------------------------- stacks -- */

static ikv_scene *indexed, *plain;
static volatile uint32_t found;

static void pick_in(ikv_scene *scene)
{
    ikv_query query = IKV_QUERY_INIT;
    for (int i = 0; i < PICKS; i++) {
        query.x = 1000 + (float)(i % 7);
        query.y = 1000 + (float)(i % 5);
        found += ikv_scene_pick(scene, &query, 0).bits;
    }
}

static void pick_indexed(void)
{
    pick_in(indexed);
}

static void pick_plain(void)
{
    pick_in(plain);
}

static void stack_row(const char *name, float growth)
{
    ikv_kit *kits[2] = {open_kit(STACK, false), open_kit(STACK, true)};
    for (int k = 0; k < 2; k++)
        for (int i = 0; i < STACK; i++) {
            float reach = 10 + (float)i * growth;
            add_square(kits[k], everywhere, 1000 - reach, 2 * reach, 0);
        }
    indexed = ikv_kit_scene(kits[0]);
    plain = ikv_kit_scene(kits[1]);
    pick_indexed();
    measure(name, "the same scene, opened plain", 1.5, 1.2, PICKS, pick_indexed,
            pick_plain);
    ikv_kit_close(kits[0]);
    ikv_kit_close(kits[1]);
}

/* ------------------------------------------------- others that hear too -- */

static ikv_bus *bus;
static ikv_event event;
static ikv_delivery delivery;
static callee list[8];
static uint32_t listeners;

static void deliver(void)
{
    for (int i = 0; i < DELIVERIES; i++)
        ikv_bus_deliver(bus, &event);
}

static void by_hand(void)
{
    for (int i = 0; i < DELIVERIES; i++)
        call_all(list, listeners, &event, &delivery);
}

static void open_bus(uint32_t subscriptions, bool statistics)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = counting_memory();
    config.subscriptions = subscriptions;
    config.conditions = 2 * subscriptions;
    config.timers = TIMERS;
    config.deferred = TIMERS;
    config.statistics = statistics;
    if (ikv_bus_open(&config, &bus) < 0)
        exit(2);
    event = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    event.target = ikv_bus_root(bus);
}

static void count_watched(const ikv_watch *watch, void *user)
{
    (void)watch;
    ++*(uint64_t *)user;
}

static const struct {
    const char *name;
    uint32_t families;
    bool all_kinds, statistics;
    double budget;
    uint32_t watched; /* what a watcher wants */
} others[] = {
    {"deliver to 5 and to one of all kinds", 0, true, false, 1.5, 0},
    {"deliver to 5, one hears another family", 1u << IKV_FAMILY_POINTER, false,
     false, 1.5, 0},
    {"deliver to 5, a watcher counts all", 0, false, false, 2, IKV_WATCH_ALL},
    {"deliver to 5, a watcher counts deliveries", 0, false, false, 2,
     IKV_WATCH_DONE},
    {"deliver to 5, with statistics", 0, false, true, 1.5, 0},
};

static void other_rows(void)
{
    for (size_t i = 0; i < sizeof others / sizeof others[0]; i++) {
        ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
        open_bus(64, others[i].statistics);
        for (listeners = 0; listeners < 5; listeners++)
            ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call,
                         &counter, NULL);
        config.families = others[i].families;
        config.all_kinds = others[i].all_kinds;
        config.handler = count_call;
        config.user = &counter;
        if (config.all_kinds || config.families != 0)
            ikv_bus_subscribe(bus, &config, NULL, NULL);
        if (others[i].watched != 0)
            ikv_bus_add_watcher(bus, others[i].watched, count_watched,
                                &counter);
        listeners += others[i].all_kinds;
        for (uint32_t k = 0; k < listeners; k++)
            list[k] = (callee){count_call, &counter};
        measure(others[i].name, "loop over packed {function, user}",
                others[i].budget, 1.2, (double)listeners * DELIVERIES, deliver,
                by_hand);
        ikv_bus_close(bus);
    }
}

/* ------------------------------------------------------- who is left out -- */

static ikv_bus *called;

static void deliver_some(void)
{
    for (int i = 0; i < 10; i++)
        ikv_bus_deliver(bus, &event);
}

static void deliver_called(void)
{
    for (int i = 0; i < 10; i++)
        ikv_bus_deliver(called, &event);
}

static void excluded_row(const char *name, ikv_subscription_config config)
{
    open_bus(EXCLUDED, false);
    config.kind = IKV_KIND_KEY_DOWN;
    config.handler = count_call;
    config.user = &counter;
    for (int i = 0; i < EXCLUDED; i++)
        if (ikv_bus_subscribe(bus, &config, NULL, NULL) < 0)
            exit(2);
    deliver_some();
    measure(name, "a called one", 1.2, 1.2, 10.0 * EXCLUDED, deliver_some,
            deliver_called);
    ikv_bus_close(bus);
}

static void excluded_rows(void)
{
    const ikv_condition both[] = {
        {"location", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = 0}}, false},
        {"code", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = 99}}, false}};
    const ikv_condition above = {
        "location", IKV_ABOVE, {IKV_VALUE_INTEGER, {.integer = 3}}, false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    open_bus(EXCLUDED, false);
    called = bus;
    for (int i = 0; i < EXCLUDED; i++)
        ikv_bus_hear(called, IKV_KIND_KEY_DOWN, everywhere, count_call,
                     &counter, NULL);
    config.conditions = &above;
    config.condition_count = 1;
    excluded_row("left out by one order", config);
    config.conditions = both;
    config.condition_count = 2;
    excluded_row("left out by two equalities", config);
    config = (ikv_subscription_config)IKV_SUBSCRIPTION_INIT;
    config.gap_ns = UINT64_C(1) << 50;
    excluded_row("left out by a gap", config);
    config.gap_ns = 0;
    config.at_most = IKV_PER_STEP;
    excluded_row("left out, as once a step", config);
    ikv_bus_close(called);
}

/* --------------------------------------------------------------- growth -- */

static uint64_t due_ns;

static void fire_all(void)
{
    ikv_bus_advance(bus, due_ns += 1000000);
}

static void flush(void)
{
    ikv_bus_flush(bus, IKV_STEP_LANE, NULL);
}

static void timer_row(void)
{
    open_bus(16, false);
    for (int i = 0; i < TIMERS; i++)
        if (ikv_bus_defer_every(bus, IKV_STEP_LANE, 1000000, false, &event,
                                NULL) < 0)
            exit(2);
    compare("10,000 timers of one period, all are due", "asked: 5 ms in all", 1,
            1.2, least_of(fire_all, flush), 5e6);
    ikv_bus_close(bus);
}

/* What ten times as many cost each, beside a tenth: n log n in all is 4/3. */
enum {
    MANY = 10000
};

static uint32_t many, dice;
static ikv_target siblings[MANY];

static uint32_t random_below(uint32_t limit)
{
    dice = dice * 1664525 + 1013904223;
    return (dice >> 8) % limit;
}

static void open_many(void)
{
    kit = open_kit(MANY, false);
}

static void close_many(void)
{
    ikv_kit_close(kit);
}

static void add_at_random(void)
{
    for (uint32_t i = 0; i < many; i++)
        siblings[i] = add_square(kit, everywhere, (float)i, 1,
                                 (int32_t)random_below(1000000));
}

static void open_and_add(void)
{
    open_many();
    for (uint32_t i = 0; i < many; i++)
        siblings[i] = add_square(kit, everywhere, (float)i, 1, (int32_t)i * 10);
}

static void shift_a_little(void)
{
    for (uint32_t i = 0; i < many; i++)
        ikv_scene_set_z(ikv_kit_scene(kit), siblings[i],
                        (int32_t)(i * 10 + random_below(40)));
}

static void shift_at_random(void)
{
    for (uint32_t i = 0; i < many; i++)
        ikv_scene_set_z(ikv_kit_scene(kit), siblings[i],
                        (int32_t)random_below(1000000));
}

/* Of five z's, on top of their own or beneath them. */
static void raise_and_lower(void)
{
    for (uint32_t i = 0; i < many; i++) {
        ikv_target target = siblings[random_below(many)];
        if (i % 2 == 0)
            ikv_scene_set_z(ikv_kit_scene(kit), target,
                            (int32_t)random_below(5));
        else
            ikv_scene_lower(ikv_kit_scene(kit), target);
    }
}

static void open_bands(void)
{
    open_many();
    for (uint32_t i = 0; i < many; i++)
        siblings[i] =
            add_square(kit, everywhere, (float)i, 1, (int32_t)random_below(5));
}

static void open_ranks(void)
{
    open_bus(MANY + 1, false);
}

static void close_ranks(void)
{
    ikv_bus_close(bus);
}

static void subscribe_falling(void)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_KEY_UP;
    config.handler = count_call;
    config.user = &counter;
    for (uint32_t i = 0; i < many; i++) {
        config.rank = -(int32_t)i;
        ikv_bus_subscribe(bus, &config, NULL, NULL);
    }
    /* The first delivery is when they have to be in order. */
    ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, 1);
    up.target = everywhere;
    ikv_bus_deliver(bus, &up);
}

static ikv_verdict subscribe_within(const ikv_event *from,
                                    const ikv_delivery *within, void *user)
{
    ikv_event other = ikv_event_make(IKV_KIND_FIELD_SET, 1);
    (void)within, (void)user;
    other.target = from->target;
    for (uint32_t i = 0; i < many; i++) {
        ikv_bus_hear(bus, IKV_KIND_KEY_UP, everywhere, count_call, &counter,
                     NULL);
        ikv_bus_deliver(bus, &other);
    }
    return IKV_CONTINUE;
}

static void open_within(void)
{
    open_ranks();
    ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, subscribe_within, NULL,
                 NULL);
}

static void deliver_once(void)
{
    ikv_bus_deliver(bus, &event);
}

static const struct {
    const char *name;
    void (*open)(void), (*work)(void), (*close)(void);
} growths[] = {
    {"10,000 siblings added, z at random", open_many, add_at_random,
     close_many},
    {"10,000 siblings, each z a little other", open_and_add, shift_a_little,
     close_many},
    {"10,000 siblings, each z at random", open_and_add, shift_at_random,
     close_many},
    {"10,000 siblings of five z's, raised, lowered", open_bands,
     raise_and_lower, close_many},
    {"10,000 subscriptions, falling ranks", open_ranks, subscribe_falling,
     close_ranks},
    {"10,000 subscribed in a handler that delivers", open_within, deliver_once,
     close_ranks},
};

static size_t growing;

static void open_again(void)
{
    growths[growing].close();
    growths[growing].open();
}

static void growth_rows(void)
{
    for (growing = 0; growing < sizeof growths / sizeof growths[0]; growing++) {
        double each[2];
        for (int i = 0; i < 2; i++) {
            many = i == 0 ? MANY / 10 : MANY;
            growths[growing].open();
            each[i] = least_of(growths[growing].work, open_again) / many;
            growths[growing].close();
        }
        compare(growths[growing].name, "1,000, each", 1.33, 1.2, each[1],
                each[0]);
    }
}

void worst_rows(void)
{
    boundary_row("a pointer enters, 10 deep, nobody hears it", 10, 1.5);
    boundary_row("a pointer enters, 60 deep, nobody hears it", 60, 5);
    stack_row("hit test, 10,000 at one point", 0);
    stack_row("hit test, 10,000 concentric", 0.01f);
    other_rows();
    excluded_rows();
    timer_row();
    growth_rows();
}
