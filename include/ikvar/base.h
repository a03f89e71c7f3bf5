/* ikvar/base.h - statuses, handles, memory and reports: what all modules share.
 *
 * Overview
 *   Every call that can fail returns an ikv_status: 0 is fine, a positive value
 *   is fine with a remark (nothing to do, nothing more to come), a negative one
 *   is an error, after which nothing has changed unless the function says so.
 *
 *   Things inside a module are named by 32-bit handles: a slot and a
 *   generation. A handle whose thing is gone is stale: using it is an error,
 *   never a crash. A handle of zero bits names nothing.
 *
 * Structs that grow
 *   Configs, counters and what else begins with a size: start from the INIT,
 *   which fills the size in. A later version has more members at the end; a
 *   program that was compiled before it goes on as it was.
 *
 * Memory
 *   Each module lives in one block, whose size ikv_<module>_footprint() says.
 *   ikv_memory gives it: a buffer of yours, or an allocator that is called
 *   once, at opening. Nothing is allocated afterwards.
 *
 * Threads
 *   All of this header is plain data; it may be used from any thread.
 */
#ifndef IKVAR_BASE_H
#define IKVAR_BASE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define IKV_VERSION_MAJOR 0
#define IKV_VERSION_MINOR 1
#define IKV_VERSION_PATCH 0

#if defined(__GNUC__) && !defined(IKV_STATIC)
#define IKV_API __attribute__((visibility("default")))
#else
#define IKV_API
#endif

/* A member that starts at a multiple of N bytes, in C and in C++. */
#ifdef __cplusplus
#define IKV_ALIGNED(n) alignas(n)
#else
#define IKV_ALIGNED(n) _Alignas(n)
#endif

/* What a struct with a size begins as: the size filled in, all else zero, which
 * is every member's default. The INIT macros are made of it. */
#ifdef __cplusplus
extern "C++" {
template <typename T> inline T ikv_sized()
{
    T made = T();
    made.size = sizeof(T);
    return made;
}
}
#define IKV_SIZED(type) ikv_sized<type>()
#else
#define IKV_SIZED(type)                                                        \
    {                                                                          \
        .size = sizeof(type)                                                   \
    }
#endif

/* The statuses: value, name, what it means. A value is never used again. */
#define IKV_STATUSES(X)                                                        \
    X(2, ENDED, "nothing more will come")                                      \
    X(1, ABSENT, "there was nothing to do: what was named is not there")       \
    X(0, OK, "fine")                                                           \
    X(-1, BAD_ARGUMENT, "an argument is missing or out of range")              \
    X(-2, BAD_CONFIG, "a config struct holds a value that can't be used")      \
    X(-3, BAD_SIZE, "a struct's size field is zero or unknown: use its INIT")  \
    X(-4, NO_MEMORY, "the allocator gave no block, or the buffer is small")    \
    X(-5, STALE, "the handle's thing is gone")                                 \
    X(-6, UNKNOWN_KIND, "no such kind in the catalogue")                       \
    X(-7, UNKNOWN_FIELD, "the kind has no such field")                         \
    X(-8, UNKNOWN_NAME, "no such name")                                        \
    X(-9, DUPLICATE, "the name or id is taken")                                \
    X(-10, TOO_DEEP, "handlers deliver inside handlers past the limit")        \
    X(-11, BUSY, "not possible at this moment: inside a handler or flush")     \
    X(-12, NEEDS_CALLBACK, "the module was opened without what this needs")    \
    X(-13, NOT_PUSHABLE, "ports may not push this kind")                       \
    X(-14, PORT_FAILED, "the port could not do it")                            \
    X(-15, BAD_VALUE, "a value has the wrong type or is out of range")         \
    X(-16, BAD_FILE, "the file can't be read or is not in its format")         \
    X(-17, CYCLE, "a parent would be its own descendant")                      \
    X(-18, LEFT_OUT, "this build leaves it out: docs/build.md")                \
    X(-32, FULL_QUEUE, "the queue is full: raise queue.capacity")              \
    X(-33, FULL_PENDING, "too many events wait: raise loop.pending")           \
    X(-34, FULL_SUBSCRIPTIONS, "raise bus.subscriptions")                      \
    X(-35, FULL_ENTRIES, "raise bus.entries")                                  \
    X(-36, FULL_TARGETS, "raise targets (of the bus and of the scene)")        \
    X(-37, FULL_OWNERS, "raise bus.owners")                                    \
    X(-38, FULL_DEFERRED, "raise bus.deferred")                                \
    X(-39, FULL_LANES, "raise bus.user_lanes")                                 \
    X(-40, FULL_NAMES, "raise bus.name_bytes or catalogue.text_bytes")         \
    X(-41, FULL_KINDS, "raise catalogue.user_kinds")                           \
    X(-42, FULL_FIELDS, "raise catalogue.user_fields")                         \
    X(-43, FULL_POINTERS, "raise router.pointers")                             \
    X(-44, FULL_DEPTH, "a path is deeper than IKV_PATH_LIMIT")                 \
    X(-45, FULL_WATCHERS, "no room for one more watcher")                      \
    X(-46, FULL_PORTS, "more ports than IKV_PORT_LIMIT")                       \
    X(-47, FULL_CONDITIONS, "raise bus.conditions")                            \
    X(-48, FULL_TIMERS, "raise bus.timers")                                    \
    X(-49, FULL_PAYLOADS, "raise bus.payloads")                                \
    X(-50, FULL_MAILBOXES, "raise bus.mailboxes")                              \
    X(-51, FULL_INBOX, "raise bus.inbox")                                      \
    X(-52, FULL_POLYGONS, "raise scene.polygons")                              \
    X(-53, FULL_ROUTERS, "more routers than IKV_ROUTER_LIMIT")                 \
    X(-54, FULL_KEYS, "raise router.keys")                                     \
    X(-55, FULL_PADS, "more pads than IKV_PAD_LIMIT")                          \
    X(-56, FULL_SETS, "raise actions.sets")                                    \
    X(-57, FULL_ACTIONS, "raise actions.actions")                              \
    X(-58, FULL_BINDINGS, "raise actions.bindings")                            \
    X(-59, FULL_PAIRS, "raise overlaps.pairs")                                 \
    X(-60, FULL_CONTACTS, "raise overlaps.contacts")                           \
    X(-61, FULL_GATES, "raise bus.gates")                                      \
    X(-62, FULL_MODALS, "more modal targets than IKV_MODAL_LIMIT")             \
    X(-63, FULL_PUSHED, "more sets pushed than IKV_PUSH_LIMIT")                \
    X(-64, FULL_BLOCKS, "too much larger data is under way: raise queue.blocks")

typedef int32_t ikv_status;
enum {
#define IKV_X(value, name, text) IKV_##name = (value),
    IKV_STATUSES(IKV_X)
#undef IKV_X
};

/* The status's name, "FULL_QUEUE" for instance, or "UNKNOWN_STATUS".
 * Returns a constant string.
 * Context: any thread; O(statuses). */
IKV_API const char *ikv_status_name(ikv_status status);

/* One sentence on what the status means and what to do. As above.
 * Context: any thread; O(statuses). */
IKV_API const char *ikv_status_text(ikv_status status);

/* The version of the library that is linked, "0.1.0" for instance.
 * Context: any thread; O(1). */
IKV_API const char *ikv_version(void);

/* -------------------------------------------------------------- handles -- */

/* What an event is about, or the root. Handed out by the bus. */
typedef struct ikv_target {
    uint32_t bits;
} ikv_target;

/* One handler and what it wants to hear. Handed out by the bus. */
typedef struct ikv_subscription {
    uint32_t bits;
} ikv_subscription;

/* An event that will be deferred later. Handed out by the bus. */
typedef struct ikv_timer {
    uint32_t bits;
} ikv_timer;

/* What subscriptions are dropped together by. Handed out by the bus. */
typedef struct ikv_owner {
    uint32_t bits;
} ikv_owner;

/* What a target is like, as far as routing cares; joined.
 *   FOCUSABLE   it may get the keys
 *   TAKES_TEXT  typing goes into it
 *   CAPTURES    a press captures its pointer until the release
 *   PASSES      it lets events through to what lies beneath
 *   HIDDEN      it or an ancestor can't be seen: it can't have the keys
 *   STAYS_LIVE  pointers reach it and what is in it also while something else is
 *               modal (router.h)
 */
enum {
    IKV_FOCUSABLE = 1,
    IKV_TAKES_TEXT = 2,
    IKV_CAPTURES = 4,
    IKV_PASSES = 8,
    IKV_HIDDEN = 16,
    IKV_STAYS_LIVE = 32
};

/* Directions in a view, whose y grows downwards. */
enum {
    IKV_TOWARD_LEFT = 0,
    IKV_TOWARD_RIGHT = 1,
    IKV_TOWARD_UP = 2,
    IKV_TOWARD_DOWN = 3
};

/* Where a hit test looks, and what it leaves out; begin with IKV_QUERY_INIT.
 *   view       of the position: a window or a part of the screen
 *   touch      a finger asks: the targets' grace margins count
 *   x, y       in view units
 *   radius     widens the point to a disc, view units
 *   tags       only targets with one of these; 0: all
 *   skip_body  not the pieces of this body; zero bits: all
 */
typedef struct ikv_query {
    uint32_t size;
    uint8_t view;
    bool touch;
    uint16_t reserved;
    float x, y, radius;
    uint32_t tags;
    ikv_target skip_body;
} ikv_query;

#define IKV_QUERY_INIT IKV_SIZED(ikv_query)

/* The largest coordinate, size or motion, in units: up to it answers are exact.
 * What is beyond is refused, in calls, in files and where it is pushed. */
#define IKV_COORDINATE_LIMIT 1073741824.0f

/* The latest time that a tape has, in ns: a hundred days. */
#define IKV_TIME_LIMIT UINT64_C(8640000000000000)

/* The deepest path from the root to a target, both included. */
#define IKV_PATH_LIMIT 64

/* --------------------------------------------------------------- memory -- */

/* Where a module's one block comes from. Give either a block of your own,
 * 64-byte aligned and at least as large as the footprint, or two functions.
 *   block, block_size  your buffer; it stays yours
 *   take(user, size, alignment)  gives a block, or NULL
 *   give(user, block, size)      takes it back, at closing
 */
typedef struct ikv_memory {
    void *block;
    size_t block_size;
    void *(*take)(void *user, size_t size, size_t alignment);
    void (*give)(void *user, void *block, size_t size);
    void *user;
} ikv_memory;

#define IKV_BLOCK_ALIGNMENT 64

/* -------------------------------------------------------------- reports -- */

enum {
    IKV_REPORT_NOTE = 0,
    IKV_REPORT_WARNING = 1,
    IKV_REPORT_ERROR = 2
};

/* What a module says that no return value can: a warning, or an error that
 * happened inside a handler or a frame. The strings are valid for the call. */
typedef struct ikv_report {
    uint32_t level;
    ikv_status status;
    const char *module;
    const char *text;
} ikv_report;

typedef void (*ikv_report_fn)(const ikv_report *report, void *user);

/* Where reports go; a NULL function drops them. */
typedef struct ikv_reporter {
    ikv_report_fn report;
    void *user;
} ikv_reporter;

/* A message for people: where, what was found, what was expected. A call that
 * goes well leaves it empty. */
typedef struct ikv_message {
    char text[512];
} ikv_message;

#ifdef __cplusplus
}
#endif

#endif
