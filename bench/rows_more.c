/* rows_more.c - growth, filters, churn, cold caches, a general signal library,
 * threads. */
#include "bench.h"

#include <ck_ring.h>
#include <glib-object.h>
#include <pthread.h>
#include <string.h>

static ikv_bus *bus;
static ikv_event event;
static ikv_delivery delivery;
static uint64_t counter;
static uint32_t listeners, rounds;
static callee *list;

static void open_bus(uint32_t subscriptions)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = counting_memory();
    config.subscriptions = subscriptions;
    config.conditions = subscriptions;
    if (ikv_bus_open(&config, &bus) < 0)
        exit(2);
    event = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    event.target = ikv_bus_root(bus);
    /* the same handlers in the same order, for the loop by hand */
    list = calloc(subscriptions, sizeof *list);
    for (uint32_t i = 0; i < subscriptions; i++)
        list[i] = (callee){count_call, &counter};
}

static void close_bus(void)
{
    ikv_bus_close(bus);
    free(list);
}

static void deliver(void)
{
    for (uint32_t i = 0; i < rounds; i++)
        ikv_bus_deliver(bus, &event);
}

static void by_hand(void)
{
    for (uint32_t i = 0; i < rounds; i++)
        call_all(list, listeners, &event, &delivery);
}

static void growth_row(void)
{
    ikv_target everywhere = {0};
    listeners = 10000;
    rounds = 10;
    open_bus(listeners);
    for (uint32_t i = 0; i < listeners; i++)
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call, &counter,
                     NULL);
    measure("bus: deliver to 10,000, per handler",
            "loop over packed {function, user}", 1.5, 1.2,
            (double)listeners * rounds, deliver, by_hand);
    close_bus();
}

/* -------------------------------------------------------------- filters -- */

static ikv_bus *filtered;

/* Filters that exclude all: what is left is what they cost. */
static void deliver_filtered(void)
{
    for (uint32_t i = 0; i < rounds; i++)
        ikv_bus_deliver(filtered, &event);
}

static void filter_row(void)
{
    ikv_target everywhere = {0};
    /* a field of the payload, read and compared for each of them */
    ikv_condition never = {
        "location", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = 3}}, false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_KEY_DOWN;
    config.handler = count_call;
    config.user = &counter;
    config.conditions = &never;
    config.condition_count = 1;
    listeners = 1000;
    rounds = 40;
    open_bus(listeners);
    for (uint32_t i = 0; i < listeners; i++)
        ikv_bus_subscribe(bus, &config, NULL, NULL);
    filtered = bus;
    /* the next one makes its own */
    free(list);
    open_bus(listeners);
    for (uint32_t i = 0; i < listeners; i++)
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call, &counter,
                     NULL);
    measure("bus: a subscriber that its filter excludes", "a called one", 0.7,
            1.2, (double)listeners * rounds, deliver_filtered, deliver);
    close_bus();
    ikv_bus_close(filtered);
}

/* ---------------------------------------------------------------- churn -- */

static ikv_subscription subs[1000];
static uint32_t hand_count;

/* One of a thousand goes, another comes; then an event. */
static void churn(void)
{
    ikv_target everywhere = {0};
    for (uint32_t i = 0; i < rounds; i++) {
        /* 37 and 1,000 share no factor: each has its turn */
        ikv_bus_unsubscribe(bus, subs[i * 37 % 1000]);
        ikv_bus_hear(bus, IKV_KIND_KEY_UP, everywhere, count_call, &counter,
                     &subs[i * 37 % 1000]);
    }
}

static void churn_by_hand(void)
{
    for (uint32_t i = 0; i < rounds; i++) {
        uint32_t at = i * 37 % 1000;
        /* order is kept, as the bus keeps it */
        memmove(list + at, list + at + 1, (hand_count - at - 1) * sizeof *list);
        list[hand_count - 1] = (callee){count_call, &counter};
    }
}

static void churn_row(void)
{
    ikv_target everywhere = {0};
    hand_count = 1000;
    rounds = 2000;
    open_bus(2000);
    for (uint32_t i = 0; i < 1000; i++)
        ikv_bus_hear(bus, IKV_KIND_KEY_UP, everywhere, count_call, &counter,
                     &subs[i]);
    measure("bus: unsubscribe and subscribe, among 1,000",
            "an array: move the rest, append", 0, 1.2, rounds, churn,
            churn_by_hand);
    close_bus();
}

/* ----------------------------------------------------------------- cold -- */

static char *sweep;
enum {
    SWEEP = 8 << 20
};

static void make_cold(void)
{
    /* a byte of each cache line, more than the caches hold */
    for (uint32_t i = 0; i < SWEEP; i += 64)
        sweep[i]++;
}

static void deliver_cold(void)
{
    for (uint32_t i = 0; i < rounds; i++) {
        make_cold();
        ikv_bus_deliver(bus, &event);
    }
}

static void by_hand_cold(void)
{
    for (uint32_t i = 0; i < rounds; i++) {
        make_cold();
        call_all(list, listeners, &event, &delivery);
    }
}

static void cold_row(void)
{
    ikv_target everywhere = {0};
    listeners = 5;
    /* few: most of the time goes into sweeping, on both sides */
    rounds = 20;
    sweep = calloc(1, SWEEP);
    open_bus(64);
    for (uint32_t i = 0; i < listeners; i++)
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call, &counter,
                     NULL);
    measure("bus: 5, after 8 MB of other memory, with it",
            "a loop, after the same", 0, 1.2, rounds, deliver_cold,
            by_hand_cold);
    close_bus();
    free(sweep);
}

/* ----------------------------------------------------------------- GLib -- */

static GObject *object;
static guint signal_id;

static void heard_signal(GObject *from, gpointer payload, gpointer user)
{
    (void)from, (void)payload;
    ++*(uint64_t *)user;
}

static void emit(void)
{
    for (uint32_t i = 0; i < rounds; i++)
        g_signal_emit(object, signal_id, 0, &event);
}

static void signal_row(void)
{
    ikv_target everywhere = {0};
    listeners = 5;
    rounds = 2000;
    open_bus(64);
    object = g_object_new(G_TYPE_OBJECT, NULL);
    /* a pointer is the least that a signal can carry */
    signal_id = g_signal_new("berthed", G_TYPE_OBJECT, G_SIGNAL_RUN_LAST, 0,
                             NULL, NULL, NULL, G_TYPE_NONE, 1, G_TYPE_POINTER);
    for (uint32_t i = 0; i < listeners; i++) {
        g_signal_connect(object, "berthed", G_CALLBACK(heard_signal), &counter);
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count_call, &counter,
                     NULL);
    }
    measure("bus: deliver to 5, an event", "g_signal_emit to 5", 0.03, 1.2,
            rounds, deliver, emit);
    g_object_unref(object);
    close_bus();
}

/* -------------------------------------------------------------- threads -- */

enum {
    SENT = 200000,
    SLOTS = 1024
};

static ikv_queue *queue;
static int producers;

static void *produce_ours(void *unused)
{
    ikv_event batch[16];
    (void)unused;
    for (int i = 0; i < 16; i++)
        batch[i] = event;
    for (int i = 0; i < SENT / producers;)
        if (ikv_queue_push_all(queue, batch, 16) == IKV_OK)
            i += 16;
        else
            sched_yield();
    return NULL;
}

static void run_producers(void *(*produce)(void *), void (*consume)(void))
{
    pthread_t threads[3];
    for (int i = 0; i < producers; i++)
        pthread_create(&threads[i], NULL, produce, NULL);
    /* on this thread, while they produce */
    consume();
    for (int i = 0; i < producers; i++)
        pthread_join(threads[i], NULL);
}

static uint32_t to_come(void)
{
    /* each rounds its share up to whole batches */
    uint32_t each = (uint32_t)(SENT / producers + 15) / 16 * 16;
    return each * (uint32_t)producers;
}

static void consume_ours(void)
{
    static ikv_event out[256];
    for (uint32_t left = to_come(); left > 0;) {
        uint32_t count = ikv_queue_drain(queue, out, 256);
        left -= count;
        if (count == 0)
            sched_yield();
    }
}

static void ours(void)
{
    run_producers(produce_ours, consume_ours);
}

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t filled = PTHREAD_COND_INITIALIZER,
                      emptied = PTHREAD_COND_INITIALIZER;
static bare_ring *locked;

static void *produce_locked(void *unused)
{
    (void)unused;
    for (uint32_t i = 0; i < to_come() / (uint32_t)producers; i++) {
        pthread_mutex_lock(&lock);
        /* waits as such rings do, without turning */
        while (!bare_ring_push(locked, &event))
            pthread_cond_wait(&emptied, &lock);
        pthread_cond_signal(&filled);
        pthread_mutex_unlock(&lock);
    }
    return NULL;
}

static void consume_locked(void)
{
    ikv_event out;
    for (uint32_t left = to_come(); left > 0; left--) {
        pthread_mutex_lock(&lock);
        while (!bare_ring_pop(locked, &out))
            pthread_cond_wait(&filled, &lock);
        pthread_cond_signal(&emptied);
        pthread_mutex_unlock(&lock);
    }
}

static void with_lock(void)
{
    run_producers(produce_locked, consume_locked);
}

/* Concurrency Kit's ring holds pointers: the events lie in an array beside it,
 * and are copied in and out as ours are. */
static ck_ring_t ring;
static ck_ring_buffer_t *ring_slots;
static ikv_event *ring_events;

static void *produce_ck(void *unused)
{
    (void)unused;
    for (uint32_t i = 0; i < to_come(); i++) {
        ikv_event *slot = &ring_events[i % SLOTS];
        /* a slot is written before it is passed on: it must be free */
        while (ck_ring_size(&ring) >= SLOTS - 2)
            sched_yield();
        *slot = event;
        while (!ck_ring_enqueue_spsc(&ring, ring_slots, slot))
            sched_yield();
    }
    return NULL;
}

static void consume_ck(void)
{
    ikv_event out;
    void *slot;
    for (uint32_t left = to_come(); left > 0;) {
        if (!ck_ring_dequeue_spsc(&ring, ring_slots, &slot)) {
            sched_yield();
            continue;
        }
        memcpy(&out, slot, sizeof out);
        left--;
    }
}

static void with_ck(void)
{
    run_producers(produce_ck, consume_ck);
}

static void thread_rows(void)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.memory = counting_memory();
    config.capacity = SLOTS;
    if (ikv_queue_open(&config, &queue) < 0)
        exit(2);
    locked = bare_ring_open(SLOTS);
    ring_slots = calloc(SLOTS, sizeof *ring_slots);
    ring_events = calloc(SLOTS, sizeof *ring_events);
    ck_ring_init(&ring, SLOTS);
    producers = 1;
    measure("queue: 1 thread to 1, batches of 16", "a ring with a lock", 0.2, 2,
            SENT, ours, with_lock);
    measure("queue: 1 thread to 1, batches of 16",
            "Concurrency Kit's spsc ring", 1, 2, SENT, ours, with_ck);
    /* that ring has one producer: it is not in this row */
    producers = 3;
    measure("queue: 3 threads to 1, batches of 16", "a ring with a lock", 0.2,
            2, SENT, ours, with_lock);
    ikv_queue_close(queue);
}

/* --------------------------------------------------------------- memory -- */

/* What one more of something takes, in bytes: of a thousand and of two. */
static double bytes_each(size_t (*of)(uint32_t count))
{
    return (double)(of(2000) - of(1000)) / 1000;
}

static ikv_bus_config few(void)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.subscriptions = config.entries = config.gates = 16;
    config.targets = 16;
    return config;
}

/* A bus whose config alone matters. */
static ikv_bus *any_bus;

static size_t targets_of(uint32_t count)
{
    ikv_bus_config config = few();
    ikv_scene_config picture = IKV_SCENE_INIT;
    config.targets = count;
    config.memory = ikv_host_memory();
    if (ikv_bus_open(&config, &any_bus) < 0)
        exit(2);
    picture.bus = any_bus;
    picture.targets = count;
    size_t bytes = ikv_bus_footprint(&config) + ikv_scene_footprint(&picture);
    ikv_bus_close(any_bus);
    return bytes;
}

static size_t overlaps_of(uint32_t targets, uint32_t pairs, uint32_t contacts)
{
    ikv_bus_config config = few();
    ikv_overlaps_config overlaps = IKV_OVERLAPS_INIT;
    config.targets = targets;
    config.memory = ikv_host_memory();
    if (ikv_bus_open(&config, &any_bus) < 0)
        exit(2);
    overlaps.bus = any_bus;
    overlaps.targets = targets;
    overlaps.pairs = pairs;
    overlaps.contacts = contacts;
    size_t bytes = ikv_overlaps_footprint(&overlaps);
    ikv_bus_close(any_bus);
    return bytes;
}

static size_t overlap_targets_of(uint32_t count)
{
    return overlaps_of(count, 4096, 4096);
}

static size_t pairs_of(uint32_t count)
{
    return overlaps_of(16, count, 4096);
}

static size_t contacts_of(uint32_t count)
{
    return overlaps_of(16, 4096, count);
}

static size_t subscriptions_of(uint32_t count)
{
    ikv_bus_config config = few();
    config.subscriptions = config.entries = config.gates = count;
    return ikv_bus_footprint(&config);
}

static void memory_rows(void)
{
    const struct {
        const char *name, *asked;
        double bytes;
        size_t (*of)(uint32_t count);
    } rows[] = {
        {"bytes of a target", "asked: 160", 160, targets_of},
        {"bytes of a target that overlaps, more", "asked: 96", 96,
         overlap_targets_of},
        {"bytes of a near pair", "asked: 16", 16, pairs_of},
        {"bytes of a contact", "asked: 128", 128, contacts_of},
        {"bytes of a subscription, gate and all", "asked: 200", 200,
         subscriptions_of},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        compare(rows[i].name, rows[i].asked, 1, 1, bytes_each(rows[i].of),
                rows[i].bytes);
}

void more_rows(void)
{
    if (!counting_only)
        memory_rows();
    growth_row();
    filter_row();
    churn_row();
    cold_row();
    signal_row();
    if (!counting_only)
        thread_rows();
}
