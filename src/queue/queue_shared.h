/* queue_shared.h - what the queue offers to the loop beyond its header. */
#ifndef IKVI_QUEUE_SHARED_H
#define IKVI_QUEUE_SHARED_H

#include "ikvar/queue.h"

/* As the public ones, with a tag in the device's upper bits: whose sink it
 * came through. Draining so leaves it there. */
enum {
    IKVI_TAG_SHIFT = 10,
    IKVI_TAG_DATA = 1 << 15 /* a block of the queue's has its larger payload */
};
_Static_assert(IKV_DEVICE_LIMIT == 1 << IKVI_TAG_SHIFT, "tags fit above it");

enum {
    IKVI_BLOCK_LIMIT = 16384, /* as text it fits into a line of a tape */
    IKVI_MOST_BLOCKS = 1024
};

/* What a config's `blocks` and `block_bytes` stand for. */
static inline uint32_t ikvi_block_count(uint32_t blocks)
{
    if (blocks == IKV_NO_BLOCKS)
        return 0;
    return blocks != 0 ? blocks : 8;
}

static inline uint32_t ikvi_block_bytes(uint32_t bytes)
{
    return bytes != 0 ? (bytes + 15) / 16 * 16 : 1024;
}

ikv_status ikvi_queue_push_from(ikv_queue *queue, const ikv_event *event,
                                uint16_t tag);
ikv_status ikvi_queue_push_own_from(ikv_queue *queue, const ikv_event *event,
                                    uint16_t tag);
ikv_status ikvi_queue_push_own_all_from(ikv_queue *queue,
                                        const ikv_event *events, uint32_t count,
                                        uint16_t tag);
/* Copies a larger payload into a block, of which an event tells that is pushed
 * with IKVI_TAG_DATA and the block as `samples`. By any thread. FULL_BLOCKS, or
 * BAD_SIZE if it is larger than a block. */
ikv_status ikvi_queue_fill_block(ikv_queue *queue, const void *data,
                                 uint32_t size, uint16_t *block);
/* How many blocks are free, and how large each is. Owner's thread. */
uint32_t ikvi_queue_blocks(const ikv_queue *queue, uint32_t *bytes);

/* At most so many of those that are tagged with a block, whose number an event
 * has as `samples`. */
uint32_t ikvi_queue_drain_tagged(ikv_queue *q, ikv_event *events, uint32_t room,
                                 uint32_t data_room);
/* What is in a block, and gives it back. */
const void *ikvi_queue_block(const ikv_queue *queue, uint32_t block,
                             uint32_t *size);
void ikvi_queue_free_block(ikv_queue *queue, uint32_t block);

/* What a full queue says of events that are not even pushed: counted, their
 * device marked. */
ikv_status ikvi_queue_refuse_own(ikv_queue *queue, const ikv_event *events,
                                 uint32_t count);

/* Whether it ever refused an event. */
bool ikvi_queue_refused(const ikv_queue *queue);

#endif
