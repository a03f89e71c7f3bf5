/* ikvar/review.h - what a run shows that its files don't: handlers that were
 * never called, and what else went by unheard. Needs the host library.
 *
 * Overview
 *   Watches a run of a setup, and tells of mistakes (mistake.h) at its end:
 *
 *       ikv_setup_apply(setup, kit, 0, &message);
 *       ikv_review_open(kit, setup, &review);
 *       ...                                     // frames go by
 *       ikv_review_tell(review, show, NULL);
 *       ikv_review_close(review);               // before the kit
 *
 *   never-called   a handler of the setup
 *   near-name      an event that nobody heard, though a kind of almost the same
 *                  name is listened to
 *   never-flushed  a lane on which events wait
 *   backlog        events waited long: on a lane, or before they came in
 *
 * Memory
 *   The C library's allocator, when it is opened; nothing while it watches.
 *
 * Threads
 *   The owner's thread of the kit.
 */
#ifndef IKVAR_REVIEW_H
#define IKVAR_REVIEW_H

#include "io.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_review ikv_review;

/* Begins to watch, as one of the bus's watchers, the handlers of a setup that is
 * applied to the kit. Both must outlive it.
 * Returns IKV_OK, BAD_ARGUMENT, BUSY inside a handler, FULL_WATCHERS, NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_review_open(ikv_kit *kit, const ikv_setup *setup,
                                   ikv_review **review);

/* Takes in what a trace tells (docs/files.md) as if it had been watched: who was
 * called, and what nobody heard. Of lanes a trace tells nothing.
 * Returns IKV_OK, BAD_ARGUMENT, NO_MEMORY, or BAD_FILE with a message that says
 * where, what was found and what was expected.
 * Context: the kit's thread; O(file), allocates. */
IKV_API ikv_status ikv_review_trace(ikv_review *review, const char *path,
                                    ikv_message *message);

/* Gives each mistake of what was seen so far to `told`.
 * Returns IKV_OK, BAD_ARGUMENT, NO_MEMORY (then not all were told).
 * Context: the kit's thread, not inside a handler; O(handlers * kinds),
 * allocates. */
IKV_API ikv_status ikv_review_tell(const ikv_review *review,
                                   ikv_mistake_fn told, void *user);

/* Ends it, before the kit is closed. NULL is fine. Returns IKV_OK, or BUSY inside
 * a handler: then it goes on.
 * Context: the kit's thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_review_close(ikv_review *review);

#ifdef __cplusplus
}
#endif

#endif
