/* loop_shared.h - what images need of the loop. */
#ifndef IKVI_LOOP_SHARED_H
#define IKVI_LOOP_SHARED_H

#include "../event/saved.h"

#include "ikvar/loop.h"

/* What waits to be routed: its place in the ring, and how much. */
typedef struct ikvi_waiting {
    uint32_t head, count;
} ikvi_waiting;

/* Two parts; the second is what waits. */
uint64_t ikvi_loop_saved(ikv_loop *loop, ikvi_saved to[2]);
ikvi_waiting ikvi_loop_waiting(const ikv_loop *loop);

/* Whether an event is being routed; whether a step runs. */
bool ikvi_loop_is_routing(const ikv_loop *loop);
bool ikvi_loop_is_in_step(const ikv_loop *loop);

/* What may be given to a restore: FULL_PENDING, or what is wrong with one. */
ikv_status ikvi_loop_check_taken(const ikv_loop *loop, const ikv_taken *since,
                                 uint32_t count);

/* Its state was copied back. With `since`, what waits is that, and behind it
 * what waited `now`, before the copying. */
void ikvi_loop_restored(ikv_loop *loop, const ikv_taken *since, uint32_t count,
                        ikvi_waiting now);

#endif
