/* rows_bus.c - delivery against hand-written loops. */
#include "bench.h"

enum {
    TARGETS = 10000,
    PER_TARGET = 3,
    EVENTS = 40000
};

static ikv_bus *bus;
static ikv_event event;
static ikv_delivery delivery;
static uint64_t counter;
static callee list[1000];
static uint32_t listeners;

static void deliver(void)
{
    /* as many calls of handlers for each number of listeners */
    for (uint32_t i = 0; i < EVENTS / listeners + 1; i++)
        ikv_bus_deliver(bus, &event);
}

static void by_hand(void)
{
    for (uint32_t i = 0; i < EVENTS / listeners + 1; i++)
        call_all(list, listeners, &event, &delivery);
}

static void one_for_five(void)
{
    callee one = {call_five, &counter};
    for (uint32_t i = 0; i < EVENTS / listeners + 1; i++)
        call_all(&one, 1, &event, &delivery);
}

static void open_bus(uint32_t targets, uint32_t subscriptions)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = counting_memory();
    config.targets = targets;
    config.subscriptions = subscriptions;
    if (ikv_bus_open(&config, &bus) < 0)
        exit(2);
    event = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    event.target = ikv_bus_root(bus);
}

static void global_row(const char *name, uint32_t count, double budget)
{
    ikv_target everywhere = {0};
    open_bus(4, 1024);
    for (listeners = 0; listeners < count; listeners++) {
        list[listeners] = (callee){count_call, &counter};
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call, &counter,
                     NULL);
    }
    double n = (double)(EVENTS / count + 1) * count;
    measure(name, "loop over packed {function, user}", budget, 1.2, n, deliver,
            by_hand);
    /* a compiler may put these into one: the least that there is */
    if (count == 5)
        measure("bus: deliver to 5, per handler",
                "one function that calls five", 0, 1.2, n, deliver,
                one_for_five);
    ikv_bus_close(bus);
}

/* ------------------------------------------- many targets, few handlers -- */

static ikv_target targets[TARGETS];
static callee *lists[TARGETS];
static uint32_t counts[TARGETS];
static uint32_t picks[EVENTS];

static void deliver_at(void)
{
    for (uint32_t i = 0; i < EVENTS; i++) {
        event.target = targets[picks[i]];
        ikv_bus_deliver(bus, &event);
    }
}

static void by_hand_at(void)
{
    for (uint32_t i = 0; i < EVENTS; i++)
        call_at(lists, counts, picks[i], &event, &delivery);
}

static void targets_row(void)
{
    open_bus(TARGETS, TARGETS * PER_TARGET);
    uint32_t random = 1;
    for (uint32_t i = 0; i < TARGETS; i++) {
        if (ikv_bus_add_target(bus, i, &targets[i]) < 0)
            exit(2);
        /* a block of its own each, as lists that grow have */
        lists[i] = calloc(PER_TARGET, sizeof(callee));
        counts[i] = PER_TARGET;
        for (int j = 0; j < PER_TARGET; j++) {
            lists[i][j] = (callee){count_call, &counter};
            ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, targets[i], count_call,
                         &counter, NULL);
        }
    }
    for (uint32_t i = 0; i < EVENTS; i++) {
        /* no order that a cache could guess */
        random = random * 1664525 + 1013904223;
        picks[i] = (random >> 8) % TARGETS;
    }
    measure("bus: at 1 of 10,000 targets with 3 handlers",
            "a list of its own for each target", 0, 1.2, EVENTS, deliver_at,
            by_hand_at);
    ikv_bus_close(bus);
}

void bus_rows(void)
{
    global_row("bus: deliver to 1, per handler", 1, 1.5);
    global_row("bus: deliver to 5, per handler", 5, 1.25);
    global_row("bus: deliver to 50, per handler", 50, 1.25);
    global_row("bus: deliver to 1,000, per handler", 1000, 1.3);
    targets_row();
}
