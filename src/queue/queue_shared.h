/* queue_shared.h - what the queue offers to the loop beyond its header. */
#ifndef IKVI_QUEUE_SHARED_H
#define IKVI_QUEUE_SHARED_H

#include "ikvar/queue.h"

/* As the public ones, with a tag in the device's upper bits: whose sink it
 * came through. Draining so leaves it there. */
enum {
    IKVI_TAG_SHIFT = 10
};
_Static_assert(IKV_DEVICE_LIMIT == 1 << IKVI_TAG_SHIFT, "tags fit above it");

ikv_status ikvi_queue_push_from(ikv_queue *queue, const ikv_event *event,
                                uint16_t tag);
ikv_status ikvi_queue_push_own_from(ikv_queue *queue, const ikv_event *event,
                                    uint16_t tag);
ikv_status ikvi_queue_push_own_all_from(ikv_queue *queue,
                                        const ikv_event *events, uint32_t count,
                                        uint16_t tag);
uint32_t ikvi_queue_drain_tagged(ikv_queue *q, ikv_event *events,
                                 uint32_t room);

/* Whether it ever refused an event. */
bool ikvi_queue_refused(const ikv_queue *queue);

#endif
