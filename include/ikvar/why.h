/* ikvar/why.h - why was my handler not called? Needs the host library.
 *
 * Overview
 *   Watches a run for one question, and answers it from what really happened:
 *   how often a handler was called or a target was hit; and if it was not, which
 *   event came nearest, and what stood in its way, in the order in which it
 *   stood there.
 *
 *       ikv_why_config config = IKV_WHY_INIT;
 *       config.kit = kit;
 *       config.about = IKV_ASK_HANDLER;
 *       config.subscription = light_up;
 *       ikv_why_open(&config, &why);
 *       ...                                     // frames go by
 *       ikv_why_print(why, stdout, IKV_PRINT_TEXT);
 *       ikv_why_close(why);                     // before the kit
 *
 *   A question is asked before what it is about happens. Who does not know yet
 *   what he will ask, as an engine's console, has the last decisions kept, and
 *   asks of them:
 *
 *       ikv_why_watch(kit, 1000, &past);
 *       ...                                     // frames go by
 *       config.past = past;
 *       ikv_why_open(&config, &why);            // and then as above
 *
 * Memory
 *   The C library's allocator, when it is opened; nothing while it watches.
 *
 * Threads
 *   The owner's thread of the kit.
 */
#ifndef IKVAR_WHY_H
#define IKVAR_WHY_H

#include "io.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_why ikv_why;

/* The last decisions of a run. */
typedef struct ikv_why_past ikv_why_past;

/* What is asked about.
 *   HANDLER  a subscription: was it called?
 *   TARGET   was it hit: did an event with a position come by it?
 *   ACTION   did it start?
 *   OVERLAP  did two targets come into contact, or pieces of them? */
enum {
    IKV_ASK_HANDLER = 1,
    IKV_ASK_TARGET = 2,
    IKV_ASK_ACTION = 3,
    IKV_ASK_OVERLAP = 4
};

/*   kit           whose bus is watched; it must outlive the question
 *   about         IKV_ASK_...
 *   subscription  of a handler
 *   target        of a target; of an overlap the first one
 *   other         of an overlap the second one
 *   action        of an action
 *   kind          of a target: events of that kind alone; IKV_KIND_NONE: any
 *                 that a pointer, wheel or pen makes
 *   from_ns, to_ns  only events of these times, since loop.start; to_ns 0: to
 *                 the end
 *   setup         for targets' names; or NULL
 *   target_name   the same without a setup; NULL: their numbers. The names live
 *                 until the answer is read
 *   past          what has been kept is looked at first; NULL: nothing. Used by
 *                 ikv_why_open() alone */
typedef struct ikv_why_config {
    uint32_t size;
    uint32_t about;
    ikv_kit *kit;
    ikv_subscription subscription;
    ikv_target target;
    ikv_target other;
    ikv_action_id action;
    ikv_kind kind;
    uint8_t reserved[6];
    IKV_ALIGNED(8) uint64_t from_ns;
    IKV_ALIGNED(8) uint64_t to_ns;
    const ikv_setup *setup;
    const char *(*target_name)(void *user, ikv_target target);
    void *user;
    const ikv_why_past *past;
} ikv_why_config;

#define IKV_WHY_INIT IKV_SIZED(ikv_why_config)

/* How many obstacles an answer has room for. */
#define IKV_WHY_ROOM 12

/* What is known so far.
 *   called     how often it was called, hit, started, or came into contact
 *   missed     events that might have done it, and did not; of an overlap steps
 *   merged     moves that came in and were borne by a later one, of its kinds
 *   event      the nearest miss: the one that came furthest, the latest of
 *              equals. Kind IKV_KIND_NONE: no such event came; of an overlap
 *              its time alone is meant
 *   step       in which that was
 *   at         where it went
 *   of         whose obstacles of the scene these are: the handler's target, or
 *              the nearest one of several
 *   binding    of an action: the one that came nearest
 *   count      obstacles in its way: all that is needed to tell why */
typedef struct ikv_why_answer {
    uint32_t size;
    uint32_t count;
    IKV_ALIGNED(8) uint64_t called;
    IKV_ALIGNED(8) uint64_t missed;
    IKV_ALIGNED(8) uint64_t merged;
    IKV_ALIGNED(8) uint64_t step;
    ikv_event event;
    ikv_target at;
    ikv_target of;
    ikv_binding binding;
    uint32_t reserved;
    ikv_obstacle obstacles[IKV_WHY_ROOM];
} ikv_why_answer;

#define IKV_WHY_ANSWER_INIT IKV_SIZED(ikv_why_answer)

/* Begins to watch, as one of the bus's watchers.
 * Returns IKV_OK, BAD_ARGUMENT (NULL, another `about`, or the kit has no actions
 * or overlaps), BAD_SIZE, STALE (what
 * is asked about is not there), BUSY inside a handler, FULL_WATCHERS, NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_why_open(const ikv_why_config *config, ikv_why **why);

/* Fills `answer` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: the kit's thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_why_ask(const ikv_why *why, ikv_why_answer *answer);

/* How an answer is printed: in sentences, or as one JSON object (docs/files.md).
 */
enum {
    IKV_PRINT_TEXT = 0,
    IKV_PRINT_JSON = 1
};

/* Prints the answer to a FILE. Returns IKV_OK, BAD_ARGUMENT, or BAD_FILE if a
 * write failed. Context: the kit's thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_why_print(const ikv_why *why, void *file, uint32_t form);

/* Ends it, before the kit is closed. NULL is fine. Returns IKV_OK, or BUSY
 * inside a handler: then it goes on.
 * Context: the kit's thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_why_close(ikv_why *why);

/* ----------------------------------------------------------------- the past -- */

/* Begins to keep the last so many decisions: events, who was called or passed
 * over and why, verdicts, what was refused, deferred, dropped or merged, what
 * lay on top, presses that started nothing. About 1 KiB each, allocated here.
 *
 * What is kept is as it was. What was not looked at then is asked as the parts
 * are when the question is opened: by how much something was outside, whether it
 * was hidden. Of two that do not overlap only the present is known.
 * Returns IKV_OK, BAD_ARGUMENT (NULL, 0 or more than 1,000,000 decisions), BUSY
 * inside a handler, FULL_WATCHERS, NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_why_watch(ikv_kit *kit, uint32_t decisions,
                                 ikv_why_past **past);

/* Ends it, before the kit is closed; questions that were opened with it go on.
 * NULL is fine. Returns IKV_OK, or BUSY inside a handler: then it goes on.
 * Context: the kit's thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_why_unwatch(ikv_why_past *past);

#ifdef __cplusplus
}
#endif

#endif
