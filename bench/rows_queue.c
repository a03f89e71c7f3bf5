/* rows_queue.c - the queue against a bare ring. */
#include "bench.h"

enum {
    BURSTS = 2000,
    BURST = 64
};

static ikv_queue *queue;
static bare_ring *ring;
static ikv_event event, out[BURST];

static void own(void)
{
    for (int i = 0; i < BURSTS; i++) {
        for (int j = 0; j < BURST; j++)
            ikv_queue_push_own(queue, &event);
        ikv_queue_drain(queue, out, BURST);
    }
}

static void any(void)
{
    for (int i = 0; i < BURSTS; i++) {
        for (int j = 0; j < BURST; j++)
            ikv_queue_push(queue, &event);
        ikv_queue_drain(queue, out, BURST);
    }
}

static void batches(void)
{
    static ikv_event batch[16];
    for (int i = 0; i < BURSTS; i++) {
        for (int j = 0; j < BURST; j += 16)
            ikv_queue_push_all(queue, batch, 16);
        ikv_queue_drain(queue, out, BURST);
    }
}

static void bare(void)
{
    for (int i = 0; i < BURSTS; i++) {
        for (int j = 0; j < BURST; j++)
            bare_ring_push(ring, &event);
        for (int j = 0; j < BURST; j++)
            bare_ring_pop(ring, &out[j]);
    }
}

void queue_rows(void)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.memory = counting_memory();
    /* two bursts: never full, and small enough for the caches */
    config.capacity = config.own_capacity = 128;
    if (ikv_queue_open(&config, &queue) < 0)
        exit(2);
    ring = bare_ring_open(128);
    event = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    double n = BURSTS * BURST;
    measure("queue: owner's push + drain, bursts of 64", "bare ring", 1.25, 1.2,
            n, own, bare);
    measure("queue: any thread's push + drain", "bare ring", 3.3, 1.2, n, any,
            bare);
    measure("queue: batches of 16 a claim", "bare ring", 1.6, 1.2, n, batches,
            bare);
}
