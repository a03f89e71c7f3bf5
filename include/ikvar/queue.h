/* ikvar/queue.h - the bounded queue from ports (any thread) to the loop.
 *
 * Overview
 *   Producers push, one consumer (the thread that owns the loop) drains. It
 *   never blocks and never allocates. A full queue refuses: the status says
 *   so, and a counter goes up. Order is kept for each producer; across
 *   producers it is the order of arrival.
 *
 *   A share of the slots is kept for transitions (downs, ups, keys: the
 *   catalogue gives each kind its class), so that moves give way first. If even
 *   a transition is refused, its device is marked, and the loop makes up what
 *   is missing.
 *
 *        any thread --push-->  [ shared ring ] --+
 *                                                +--drain--> the loop
 *        owner  --push_own-->  [ own ring    ] --+
 *
 *   What owner thread itself pushes (a polled port) goes through a ring
 *   of its own, which needs no locked operation.
 *
 *       ikv_queue_config config = IKV_QUEUE_INIT;
 *       config.memory = my_memory;
 *       ikv_queue_open(&config, &queue);
 *       ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, now_ns);
 *       ikv_queue_push(queue, &event);               // any thread
 *       count = ikv_queue_drain(queue, events, 64);  // owner thread
 *       ikv_queue_close(queue);
 *
 * Memory
 *   64 bytes for each slot of the two rings, and the blocks. What must not be lost needs, of
 *   one producer, rate x longest stall x 4/3 slots (a quarter is the reserve):
 *   a mouse of 8,000 moves a second beside a frame that may take 0.1 s needs
 *   8,000 x 0.1 x 4/3 = 1,067, that is a capacity of 2,048.
 *
 * Threads
 *   ikv_queue_push, _push_all, _room, _mark_lost: any. All else: the owner's.
 */
#ifndef IKVAR_QUEUE_H
#define IKVAR_QUEUE_H

#include "catalogue.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_queue ikv_queue;

/* For queues that carry no input. */
#define IKV_NO_RESERVE UINT32_MAX
/* For those that carry no larger payloads. */
#define IKV_NO_BLOCKS UINT32_MAX

/* Capacities are rounded up to powers of two; zero is the default in brackets.
 *   capacity      slots of the shared ring (1,024)
 *   own_capacity  slots of the owner's ring (1,024)
 *   reserve       of 256 slots, how many mergeable kinds leave free, and all
 *                 kinds but transitions half as many; 1 to 255 (64), or
 *                 IKV_NO_RESERVE
 *   devices       whose losses are told apart: numbers below that (1,024: all);
 *                 losses of others are only counted
 *   blocks        larger payloads that ports have pushed and the loop has not
 *                 taken in (8), at most 1,024; or IKV_NO_BLOCKS
 *   block_bytes   of each of them (1,024), at most 16,384
 *   catalogue     for the classes of kinds of your own; NULL: the built-in ones
 *   reporter      told which member can't be used
 */
typedef struct ikv_queue_config {
    uint32_t size;
    uint32_t capacity;
    uint32_t own_capacity;
    uint32_t reserve;
    uint32_t devices;
    uint32_t blocks;
    uint32_t block_bytes;
    uint32_t reserved;
    const ikv_catalogue *catalogue;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_queue_config;

#define IKV_QUEUE_INIT IKV_SIZED(ikv_queue_config)

/* Bytes that ikv_queue_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_queue_footprint(const ikv_queue_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_queue_open(const ikv_queue_config *config,
                                  ikv_queue **queue);

/* What was not drained is dropped. NULL is fine.
 * Context: owner thread, when nothing uses it. */
IKV_API void ikv_queue_close(ikv_queue *queue);

/* Pushes one event, which is copied.
 * Returns IKV_OK, IKV_FULL_QUEUE (counted; nothing was pushed; a transition's
 * device is marked, a move's next one is flagged IKV_GAP) or IKV_BAD_ARGUMENT
 * (NULL, or a device from IKV_DEVICE_LIMIT on).
 * Context: any thread, handlers included; one locked operation, O(1). */
IKV_API ikv_status ikv_queue_push(ikv_queue *queue, const ikv_event *event);

/* Pushes several that stay together and in order: all of them or none. One
 * transition among them gives all the right to the reserve. None at all is
 * fine, of a full queue too.
 * Returns as ikv_queue_push(); each refused event is counted.
 * Context: any thread; one locked operation for all, O(count). */
IKV_API ikv_status ikv_queue_push_all(ikv_queue *queue, const ikv_event *events,
                                      uint32_t count);

/* As ikv_queue_push() and _push_all(), cheaper, for owner thread alone.
 * Context: owner thread; no locked operation, O(1). */
IKV_API ikv_status ikv_queue_push_own(ikv_queue *queue, const ikv_event *event);
IKV_API ikv_status ikv_queue_push_own_all(ikv_queue *queue,
                                          const ikv_event *events,
                                          uint32_t count);

/* How many more events of that kind ikv_queue_push_own() would take now. A
 * producer that can hold its events back asks first, and loses none.
 * Context: owner thread; O(1). */
IKV_API uint32_t ikv_queue_room_own(const ikv_queue *queue, ikv_kind kind);

/* How many more events of that kind ikv_queue_push() would take now; another
 * producer may have taken the room by then. Context: any thread; O(1). */
IKV_API uint32_t ikv_queue_room(const ikv_queue *queue, ikv_kind kind);

/* Marks a device: transitions of it have been lost. Pushing marks what it
 * refuses; for producers that lose events themselves. Any thread.
 * Context: any thread; one locked operation, O(1). */
IKV_API void ikv_queue_mark_lost(ikv_queue *queue, uint16_t device);

/* Gives one marked device and takes its mark away.
 * Returns false if none is marked. Context: owner thread; O(1). */
IKV_API bool ikv_queue_take_lost(ikv_queue *queue, uint16_t *device);

/* Takes up to `room` events out, in order. An event that another thread is
 * just writing is left for the next drain.
 * Returns how many. Context: owner thread; O(events). */
IKV_API uint32_t ikv_queue_drain(ikv_queue *queue, ikv_event *events,
                                 uint32_t room);

/* Whether something waits, or a device is marked. As ikv_queue_waiting().
 * Context: owner thread; O(1). */
IKV_API bool ikv_queue_has_news(const ikv_queue *queue);

/* How many wait now, about. Context: owner thread. */
IKV_API uint32_t ikv_queue_waiting(const ikv_queue *queue);

/* pushed and drained count events since opening, refused those that a full
 * queue did not take, lost the transitions among them; high_water is the most
 * that ever waited at a drain, in both rings; shared_high and own_high tell
 * which capacity to raise. blocks are under way, blocks_high the most at a drain,
 * blocks_refused the payloads for which none was free. */
typedef struct ikv_queue_counts {
    uint32_t size;
    uint32_t high_water, shared_high, own_high;
    uint32_t capacity, own_capacity;
    IKV_ALIGNED(8) uint64_t pushed;
    IKV_ALIGNED(8) uint64_t drained;
    IKV_ALIGNED(8) uint64_t refused;
    IKV_ALIGNED(8) uint64_t lost;
    IKV_ALIGNED(8) uint64_t blocks_refused;
    uint32_t blocks, blocks_high, block_capacity;
    uint32_t reserved;
} ikv_queue_counts;

#define IKV_QUEUE_COUNTS_INIT IKV_SIZED(ikv_queue_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_queue_counters(const ikv_queue *queue,
                                      ikv_queue_counts *counts);

/* The name of the first invariant (queue.c lists them) that does not hold,
 * NULL if all do. Context: owner thread while nobody pushes; O(slots). */
IKV_API const char *ikv_queue_validate(const ikv_queue *queue);

#ifdef __cplusplus
}
#endif

#endif
