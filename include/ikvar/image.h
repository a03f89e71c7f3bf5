/* ikvar/image.h - the state of a loop and its modules, copied out and back.
 *
 * Overview
 *   An image holds what steps change: pending input, pointers, captures, focus,
 *   targets and where they are, subscriptions, deferred events, timers, the
 *   steps' time. It does not hold what is outside: ports, the queue and inboxes
 *   of other threads, watchers, counters of the loop, and what handlers point
 *   to, which is yours to save along with it.
 *
 *       ikv_parts parts = ikv_kit_parts(kit);
 *       size_t size = ikv_image_size(&parts);
 *       ikv_image_save(&parts, buffer, size);              // after each step
 *       ...
 *       ikv_image_restore(&parts, buffer, size, since, n); // and run again
 *
 *   Going back to correct the past: a recorder (loop.h) keeps what came in
 *   since the image was made; restoring with it puts that before what waits
 *   now, and the steps in between are due again. They are run by
 *   ikv_loop_step(), beyond max_steps, and no time is dropped for them; what is
 *   new, of ports and of other threads, waits until they have been run.
 *
 *   Images are of this process: they hold pointers to handlers. A handler with
 *   a name that ikv_bus_rebind() has repointed since is the new one.
 *
 *   An image bears a sum over all of its bytes, and what kit it is of: all
 *   numbers of its configs, loop.number and its kinds; kinds may have been
 *   added since. One that is damaged, or another kit's, is refused in every
 *   build. That guards against accidents, not against attacks: who can write
 *   into it can write any address.
 *
 * Handles
 *   Those of targets that were given out after the image was saved are to be
 *   forgotten when it is restored: what is added then gets the same ones again,
 *   so that the same steps are the same run. Those of subscriptions, owners and
 *   timers are never given out again.
 *
 * on_drop
 *   What ends after an image was saved may come back by it, and is told only
 *   when it can't: bus.images images later, or when more than bus.kept of them
 *   wait, or when the bus closes. An image that would bring back what has been
 *   told is refused. What was subscribed since, and is in no image, is told
 *   when one is restored.
 *   A kit of the same config, loop.number and kinds is the same to an image, be
 *   it the first one opened again or a second one beside it. What the image
 *   brings to it ends there too, and is told there too: on_drop must bear that,
 *   or loop.number tell the kits apart. Handles that it had given out before are
 *   to be forgotten.
 *
 * Memory
 *   The image is yours; as large as all blocks together.
 *
 * Threads and re-entrancy
 *   The owner's thread, not inside a handler; both at the same point of a
 *   frame: in the code of a step, or outside the steps.
 */
#ifndef IKVAR_IMAGE_H
#define IKVAR_IMAGE_H

#include "loop.h"
#include "scene.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What is saved together; a NULL scene, state, actions or overlaps, or no
 * router, is fine. */
typedef struct ikv_parts {
    uint32_t size;
    uint32_t router_count;
    ikv_loop *loop;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_state *state;
    ikv_actions *actions;
    ikv_overlaps *overlaps;
    ikv_router *routers[IKV_ROUTER_LIMIT];
} ikv_parts;

#define IKV_PARTS_INIT IKV_SIZED(ikv_parts)

/* Bytes that an image of these parts needs; 0 if something is missing.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API size_t ikv_image_size(const ikv_parts *parts);

/* Copies the state out. Subscriptions and targets may be added and removed
 * until it is copied back. Returns IKV_OK; BAD_SIZE if the buffer is too small;
 * BUSY inside a handler or a flush; BAD_ARGUMENT. Cost: a copy and a sum, less
 * than two copies; and what on_drop does.
 * Context: owner thread, not inside a handler; a copy and a sum of all that
 * the parts hold. */
IKV_API ikv_status ikv_image_save(const ikv_parts *parts, void *image,
                                  size_t size);

/* Copies the state back.
 *   since, count  what came in since, as a recorder was told of it: it is given
 *                 again, before what waits now. NULL: what waited then waits
 *                 again, what waits now is gone
 * Returns IKV_OK; BAD_FILE if it is no image of these parts (as they were
 * opened), or a byte of it has changed; STALE if on_drop was told of what it
 * would bring back; BUSY as for saving, or at another point of the frame;
 * FULL_PENDING; what ikv_sink_play() says of `since`; BAD_ARGUMENT. On an error
 * nothing has changed. Cost: a sum and a copy.
 * Context: owner thread, not inside a handler; a copy and a sum of all that
 * the parts hold. */
IKV_API ikv_status ikv_image_restore(const ikv_parts *parts, const void *image,
                                     size_t size, const ikv_taken *since,
                                     uint32_t count);

#ifdef __cplusplus
}
#endif

#endif
