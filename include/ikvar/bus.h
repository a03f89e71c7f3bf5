/* ikvar/bus.h - subscriptions, and delivery to them: at once, or later.
 *
 * Overview
 *   A subscription names what a handler wants to hear: kinds, where, in which
 *   phase. Deliver an event and the handlers that match have run when the call
 *   returns; defer it and it waits on a lane until that lane is flushed.
 *
 *       static ikv_verdict light(const ikv_event *event,
 *                                const ikv_delivery *delivery, void *user)
 *       {
 *           lamp_toggle(user);
 *           return IKV_CONTINUE;
 *       }
 *
 *       ikv_bus_hear(bus, IKV_KIND_POINTER_CLICK, lamp, light, my_lamp, NULL);
 *       ikv_event event = ikv_event_make(IKV_KIND_POINTER_CLICK, now_ns);
 *       ikv_bus_deliver(bus, &event);              // now
 *       ikv_bus_defer(bus, IKV_FRAME_LANE, &event); // at the frame's end
 *
 *   The bus hands out targets, but knows no scene: where an event visits a
 *   target's ancestors, the caller gives the path, or a `parent` callback
 *   finds it.
 *
 *        root   capturing |         ^ bubbling     global subscriptions are
 *        ferry            v         |              the root's
 *        mast           the target's own visit
 *
 * Order
 *   Capturing visits from the root down to the target's parent; the target's
 *   own visit, its capturing handlers first; bubbling visits back up, if the
 *   kind bubbles. Within one visit by rank, low first, then in the order of
 *   subscription.
 *
 * Memory
 *   One block, sized by the config. Names are copied; user pointers are not
 *   touched.
 *
 * Threads and re-entrancy
 *   One thread owns a bus. Inside handlers everything here may be called but
 *   closing; what is subscribed there is first called for an event whose
 *   delivery begins later, what is unsubscribed is not called again.
 */
#ifndef IKVAR_BUS_H
#define IKVAR_BUS_H

#include "catalogue.h"
#include "obstacle.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_bus ikv_bus;

/* What a handler returns; the bits may be joined.
 *   CONTINUE  go on
 *   STOP      finish this visit (same target, same phase), then no further one
 *   STOP_ALL  no further handler at all
 *   REFUSE    cancel the default that would follow: the focus on a down, the
 *             click on an up, Tab's move, the loop's end on window.close
 *   ACCEPT    of drag.enter and drag.over: what is dragged may be dropped here
 */
typedef uint32_t ikv_verdict;
enum {
    IKV_CONTINUE = 0,
    IKV_STOP = 1,
    IKV_STOP_ALL = 2,
    IKV_REFUSE = 4,
    IKV_ACCEPT = 8
};

/* Phases, as in DOM's event flow. A subscription may name several; none means
 * the target's own visit and bubbling. One that names CAPTURING is called
 * before the others in its target's own visit, and once. */
enum {
    IKV_CAPTURING = 1,
    IKV_AT_TARGET = 2,
    IKV_BUBBLING = 4
};

/* Flags of a delivery: PASSED to what lies beneath a target that lets events
 * through; MIRROR, the second delivery of an overlap that both sides sense. */
enum {
    IKV_PASSED = 1,
    IKV_MIRROR = 2
};

/* What routing knows of an event, and what differs from visit to visit. Valid
 * during the call of the handler.
 *   size          of this struct, as the library knows it
 *   phase         IKV_CAPTURING, IKV_AT_TARGET or IKV_BUBBLING
 *   flags         IKV_PASSED, IKV_MIRROR
 *   bus, router   who delivers; router is NULL outside routing
 *   cause         the originating event, or NULL
 *   path          the targets from the root to event->target
 *   samples       the raw events that were merged into this one
 *   data          larger payload, data_size bytes; or NULL. Of a port, a lane or
 *                 a timer
 *   step          number of the step
 *   current       the target that is visited now
 *   subscription  the handler's own
 *   layer_x/y, local_x/y  the position in the target's layer and in the space
 *                 of `current`, for kinds with a position; 0 for others
 */
typedef struct ikv_delivery {
    uint32_t size;
    uint16_t phase;
    uint16_t flags;
    ikv_bus *bus;
    struct ikv_router *router;
    const ikv_event *cause;
    const ikv_target *path;
    const ikv_event *samples;
    const void *data;
    uint32_t path_length;
    uint32_t sample_count;
    uint32_t data_size;
    ikv_target current;
    IKV_ALIGNED(8) uint64_t step;
    ikv_subscription subscription;
    float layer_x, layer_y;
    float local_x, local_y;
} ikv_delivery;

typedef ikv_verdict (*ikv_handler)(const ikv_event *event,
                                   const ikv_delivery *delivery, void *user);

/* The text of a text.input or a text.compose, be it in the event or its larger
 * payload: UTF-8 without an end mark, *length bytes; valid as the two are. NULL
 * and 0 for another kind.
 *   delivery  NULL: what the event has
 * Context: any thread, inside handlers too; O(1). */
IKV_API const char *ikv_delivery_text(const ikv_event *event,
                                      const ikv_delivery *delivery,
                                      uint32_t *length);

/* -------------------------------------------------------------- opening -- */

/* What the bus asks of whoever knows the targets; any may be NULL.
 *
 *   parent    the target's parent; zero bits for none
 *
 *   alive     whether the target is there: if not, its handlers are passed
 *             over. For engines that drop objects before they tell the bus,
 *             which knows its own stale handles without being told
 *
 *   tags      the target's tags
 *
 *   body      the target's body
 *
 *   to_local  the position in the target's layer and in its own space
 */
typedef struct ikv_bus_callbacks {
    uint32_t size;
    uint32_t reserved;
    void *user;
    ikv_target (*parent)(void *user, ikv_target target);
    bool (*alive)(void *user, ikv_target target);
    uint32_t (*tags)(void *user, ikv_target target);
    ikv_target (*body)(void *user, ikv_target target);
    bool (*to_local)(void *user, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2]);
} ikv_bus_callbacks;

#define IKV_BUS_CALLBACKS_INIT IKV_SIZED(ikv_bus_callbacks)

/* Capacities; zero is the default in brackets.
 *   subscriptions  (1,024)
 *   entries        kinds x targets that all subscriptions name (as those)
 *   targets        (1,024)
 *   owners         (64)
 *   deferred       events on all lanes together (1,024)
 *   conditions     of all subscriptions together (256)
 *   gates          subscriptions that have conditions, limits, a gap, tags or a
 *                  body (as many as subscriptions)
 *   timers         (64)
 *   inbox          events of other threads on each lane (64)
 *   payloads       larger payloads that are held at once (32)
 *   payload_bytes  of each of them (256)
 *   mailboxes      (4)
 *   mailbox_events  in each of them (64)
 *   user_lanes     lanes beside step and frame (4)
 *   name_bytes     for different names of handlers and lanes (16,384)
 *   depth          how deep handlers may deliver inside handlers (16)
 *   images         how many images (image.h) back a restore may go: so long an
 *                  on_drop waits for what an image may bring back (64)
 *   kept           how many such may wait; beyond that the oldest is told, and
 *                  the images that hold it are refused (128)
 *   rebindings     names that ikv_bus_rebind() was given (64)
 *   statistics     count calls and skips of each subscription; slower (no)
 *   catalogue      NULL: the built-in kinds alone. It must outlive the bus.
 */
typedef struct ikv_bus_config {
    uint32_t size;
    uint32_t subscriptions;
    uint32_t entries;
    uint32_t targets;
    uint32_t owners;
    uint32_t deferred;
    uint32_t conditions;
    uint32_t gates;
    uint32_t timers;
    uint32_t inbox;
    uint32_t payloads;
    uint32_t payload_bytes;
    uint32_t mailboxes;
    uint32_t mailbox_events;
    uint32_t user_lanes;
    uint32_t name_bytes;
    uint32_t depth;
    uint32_t images;
    uint32_t kept;
    uint32_t rebindings;
    bool statistics;
    const ikv_catalogue *catalogue;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_bus_config;

#define IKV_BUS_INIT IKV_SIZED(ikv_bus_config)

/* Bytes that ikv_bus_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_bus_footprint(const ikv_bus_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_bus_open(const ikv_bus_config *config, ikv_bus **bus);

/* on_drop is called for what is still subscribed; what is still on a lane is
 * dropped. NULL is fine. Returns IKV_OK, or BUSY (and a report) inside a
 * handler: then nothing is closed.
 * Context: owner thread, not inside a handler; O(subscriptions). */
IKV_API ikv_status ikv_bus_close(ikv_bus *bus);

/* Sets the callbacks, which are copied. NULL takes them away.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, or BUSY inside a handler.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_bus_set_callbacks(ikv_bus *bus,
                                         const ikv_bus_callbacks *callbacks);

/* Context: owner thread, inside handlers too; O(1). */
IKV_API const ikv_catalogue *ikv_bus_catalogue(const ikv_bus *bus);

/* -------------------------------------------------------------- targets -- */

/* The root: always there, every path begins at it, global subscriptions are
 * its own.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_target ikv_bus_root(const ikv_bus *bus);

/* Hands out a target. `id` is the caller's own number, which traces print by
 * name. Returns IKV_OK, BAD_ARGUMENT or FULL_TARGETS.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_add_target(ikv_bus *bus, uint32_t id,
                                      ikv_target *target);

/* Removes a target and drops the subscriptions that name it alone. Its
 * handlers are not called any more, even later in a dispatch that is under
 * way. Of a scene's target it is ikv_scene_remove() that does this.
 * Returns IKV_OK, STALE, or BAD_ARGUMENT for the root and a scene's target.
 * Context: owner thread, inside handlers too; O(its own subscriptions). */
IKV_API ikv_status ikv_bus_remove_target(ikv_bus *bus, ikv_target target);

/* Whether the handle is of a target that exists.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_bus_target_alive(const ikv_bus *bus, ikv_target target);

/* The caller's number; 0 for the root and for a stale handle.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_bus_target_id(const ikv_bus *bus, ikv_target target);

/* The target's place, below config.targets + 1, for attaching data in an
 * array; UINT32_MAX for a stale handle.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_bus_target_place(const ikv_bus *bus, ikv_target target);

/* -------------------------------------------------------- subscriptions -- */

/* ----------------------------------------------------------- conditions -- */

/* How a condition compares. HAS is for masks: any of the bits. CHANGED calls
 * only when the field differs from the last time that it was looked at. */
enum {
    IKV_EQUAL = 0,
    IKV_BELOW = 1,
    IKV_AT_MOST = 2,
    IKV_ABOVE = 3,
    IKV_AT_LEAST = 4,
    IKV_HAS = 5,
    IKV_CHANGED = 6,
    IKV_COMPARISON_COUNT
};

/* One condition: `field` compared with `value`; `negate` turns it round.
 *   field  one of the kind's or the header's (all of the kinds that are
 *          subscribed must have it), or of: target.tags, source.tags,
 *          target.body, source.body, local.x, local.y
 *   value  an integer, number, bool or target, as the field has it. Fields with
 *          a scale compare as people see them: pressure with 0..1
 *
 *     {"button", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = 0}}, false}
 */
typedef struct ikv_condition {
    const char *field;
    uint32_t comparison;
    ikv_value value;
    bool negate;
} ikv_condition;

/* How conditions are joined. */
enum {
    IKV_ALL = 0,
    IKV_ANY = 1
};

/* Conditions that count as one among those of a subscription. */
typedef struct ikv_condition_group {
    uint32_t join;
    uint32_t count;
    const ikv_condition *conditions;
    bool negate;
} ikv_condition_group;

/* How often at most. */
enum {
    IKV_OFTEN = 0,
    IKV_PER_STEP = 1,
    IKV_PER_FRAME = 2
};

/* A ring of events that is read in a loop instead of a handler's being called.
 * Number from ikv_bus_add_mailbox(), which counts from 1. */
typedef uint16_t ikv_mailbox;

/* What a subscription wants. Give kinds by one of: `kind`; a list `kinds`;
 * `families`, a mask of 1u << IKV_FAMILY_...; `all_kinds`. Families and all
 * also cover kinds that are registered later.
 *   handler    who is called; user is handed through
 *   at         the target; zero bits: everywhere (the root)
 *   at_list    several targets instead
 *   phases     IKV_CAPTURING | ...; 0: the target's own visit and bubbling. At
 *              the root 0 also hears the capturing visit of kinds that do not
 *              bubble.
 *   rank       order within one visit, low first
 *   owner      zero bits: nobody
 *   name       for traces; copied; NULL: none
 *   on_drop    called once, with the user that was subscribed, when the
 *              subscription has ended, however it does, and no call of it runs
 *              any more: inside its own handler after the outermost delivery,
 *              or when its place is needed
 *   at_tags    instead of `at`: any target that bears one of these tags; at
 *              its own visit, once an event
 *   at_body    likewise: any target whose body this is; it ends with the body
 *   conditions, groups   joined by `join`, IKV_ALL or IKV_ANY; none: always
 *   limit      ends after so many calls, 1: once; 0: never
 *   after      leaves out the first so many events that it would hear
 *   at_most    IKV_PER_STEP or IKV_PER_FRAME: once in each
 *   gap_ns     at least so long since the last call, in events' time
 *   mailbox    instead of `handler`: the event goes there
 * What refuses is tried in the order: conditions, after, at_most, gap_ns.
 */
typedef struct ikv_subscription_config {
    uint32_t size;
    ikv_kind kind;
    uint16_t kind_count;
    uint32_t families;
    bool all_kinds;
    uint8_t reserved[3];
    const ikv_kind *kinds;
    const ikv_target *at_list;
    uint32_t at_count;
    ikv_target at;
    uint32_t phases;
    int32_t rank;
    ikv_handler handler;
    void *user;
    void (*on_drop)(void *user);
    const char *name;
    ikv_owner owner;
    uint32_t at_tags;
    ikv_target at_body;
    uint32_t join;
    uint32_t condition_count;
    uint32_t group_count;
    const ikv_condition *conditions;
    const ikv_condition_group *groups;
    uint32_t limit;
    uint32_t after;
    IKV_ALIGNED(8) uint64_t gap_ns;
    uint8_t at_most;
    uint8_t reserved2;
    ikv_mailbox mailbox;
} ikv_subscription_config;

#define IKV_SUBSCRIPTION_INIT IKV_SIZED(ikv_subscription_config)

/* Subscribes. The same handler subscribed twice is called twice.
 *   subscription  gets the handle; may be NULL
 *   message       gets what is wrong and what is needed; may be NULL
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, UNKNOWN_KIND, UNKNOWN_FIELD (of a
 * condition), UNKNOWN_NAME (the mailbox), BAD_VALUE (a condition's value can't
 * match), NEEDS_CALLBACK (tags or body), STALE (target, body or owner),
 * FULL_SUBSCRIPTIONS, FULL_ENTRIES, FULL_CONDITIONS, FULL_GATES, FULL_NAMES.
 * Context: owner thread, inside handlers too; O(1) amortised for the rank of
 * the others, O(those of higher rank) else. */
IKV_API ikv_status ikv_bus_subscribe(ikv_bus *bus,
                                     const ikv_subscription_config *config,
                                     ikv_subscription *subscription,
                                     ikv_message *message);

/* Subscribes a whole table: all of it or, on an error, none; the message then
 * begins with the row. Returns as ikv_bus_subscribe(). `subscriptions` may be
 * NULL, or gets `count` handles.
 * Context: owner thread, inside handlers too; as ikv_bus_subscribe(), for
 * each row. */
IKV_API ikv_status ikv_bus_subscribe_table(ikv_bus *bus,
                                           const ikv_subscription_config *table,
                                           uint32_t count,
                                           ikv_subscription *subscriptions,
                                           ikv_message *message);

/* The short way: one kind at one target (zero bits: everywhere). Returns as
 * ikv_bus_subscribe().
 * Context: owner thread, inside handlers too; as ikv_bus_subscribe(). */
IKV_API ikv_status ikv_bus_hear(ikv_bus *bus, ikv_kind kind, ikv_target at,
                                ikv_handler handler, void *user,
                                ikv_subscription *subscription);

/* Ends a subscription. Returns IKV_OK, IKV_ABSENT if it has ended already, or
 * BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(its entries). */
IKV_API ikv_status ikv_bus_unsubscribe(ikv_bus *bus,
                                       ikv_subscription subscription);

/* Whether the subscription has not ended.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_bus_subscribed(const ikv_bus *bus,
                                ikv_subscription subscription);

/* Mutes: the subscription stays but is skipped; or wakes it again.
 * Returns IKV_OK, STALE, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(its entries). */
IKV_API ikv_status ikv_bus_mute(ikv_bus *bus, ikv_subscription subscription,
                                bool muted);

/* The rank that the subscription was given, 0 if stale.
 * Context: owner thread, inside handlers and watchers too; O(1). */
IKV_API int32_t ikv_bus_subscription_rank(const ikv_bus *bus,
                                          ikv_subscription subscription);

/* The name that the subscription was given, "" if none or stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API const char *ikv_bus_subscription_name(const ikv_bus *bus,
                                              ikv_subscription subscription);

/* The targets at which it listens, the root for everywhere; none if it listens
 * by tags or a body. And the kinds that it names; none if it listens to families
 * or to all. Up to `room` of them go to `to`. Return how many there are; 0 if it
 * is stale.
 * Context: owner thread, inside handlers and watchers too; O(its kinds x
 * targets, squared). */
IKV_API uint32_t ikv_bus_subscription_targets(const ikv_bus *bus,
                                              ikv_subscription subscription,
                                              ikv_target *to, uint32_t room);
IKV_API uint32_t ikv_bus_subscription_kinds(const ikv_bus *bus,
                                            ikv_subscription subscription,
                                            ikv_kind *to, uint32_t room);

/* Ends all subscriptions that name this kind alone, and takes the kind out of
 * the others' lists; families and all kinds stay, and what is subscribed by
 * those who are told of it.
 * Returns IKV_OK, UNKNOWN_KIND, ABSENT if there was none, or BAD_ARGUMENT for
 * NULL.
 * Context: owner thread, inside handlers too; O(entries). */
IKV_API ikv_status ikv_bus_unsubscribe_kind(ikv_bus *bus, ikv_kind kind);

/* Points every subscription of that name at another handler: for code that was
 * loaded anew. Mailboxes are left alone; on_drop gets the user of old. Inside
 * handlers too; what runs goes on in the old one. Holds for subscriptions that
 * an image brings back later. Returns IKV_OK, IKV_ABSENT if no subscription has
 * the name, FULL_NAMES beyond bus.rebindings, or BAD_ARGUMENT without a name or
 * handler.
 * Context: owner thread, inside handlers too; O(subscriptions). */
IKV_API ikv_status ikv_bus_rebind(ikv_bus *bus, const char *name,
                                  ikv_handler handler, void *user);

/* What a subscription has seen, if the bus counts (config.statistics);
 * candidates are always the calls and the skips together.
 *   candidates     visits of an event that it might have heard
 *   calls          how often it was called
 *   by_mute ... by_gap  how often it was skipped, and why
 *   spent_ns       in its handler, with a clock (ikv_bus_set_clock) */
typedef struct ikv_subscription_counts {
    uint32_t size;
    IKV_ALIGNED(8) uint64_t candidates;
    IKV_ALIGNED(8) uint64_t calls;
    IKV_ALIGNED(8) uint64_t by_mute;
    IKV_ALIGNED(8) uint64_t by_place;
    IKV_ALIGNED(8) uint64_t by_condition;
    IKV_ALIGNED(8) uint64_t by_after;
    IKV_ALIGNED(8) uint64_t by_at_most;
    IKV_ALIGNED(8) uint64_t by_gap;
    IKV_ALIGNED(8) uint64_t spent_ns;
} ikv_subscription_counts;

#define IKV_SUBSCRIPTION_COUNTS_INIT IKV_SIZED(ikv_subscription_counts)

/* Fills `counts` in, which began as its INIT; all zero if the bus does not
 * count. Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, STALE.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status
ikv_bus_subscription_counters(const ikv_bus *bus, ikv_subscription subscription,
                              ikv_subscription_counts *counts);

/* A clock in ns for spent_ns; NULL takes it away. Returns IKV_OK or
 * BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(1). */
typedef uint64_t (*ikv_clock_fn)(void *user);
IKV_API ikv_status ikv_bus_set_clock(ikv_bus *bus, ikv_clock_fn now,
                                     void *user);

/* Makes a mailbox. Returns IKV_OK, BAD_ARGUMENT or FULL_MAILBOXES.
 * Context: owner thread, inside handlers too; O(mailboxes). */
IKV_API ikv_status ikv_bus_add_mailbox(ikv_bus *bus, ikv_mailbox *mailbox);

/* The oldest event in a mailbox, which is taken out.
 * Returns IKV_OK, ABSENT if it is empty, UNKNOWN_NAME, or BAD_ARGUMENT for
 * NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_read(ikv_bus *bus, ikv_mailbox mailbox,
                                ikv_event *event);

/* How many events a full mailbox did not take.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint64_t ikv_bus_mailbox_refused(const ikv_bus *bus,
                                         ikv_mailbox mailbox);

/* An owner: what subscriptions are dropped together by.
 * Returns IKV_OK, BAD_ARGUMENT or FULL_OWNERS.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_add_owner(ikv_bus *bus, ikv_owner *owner);

/* Ends all of an owner's subscriptions, and the owner.
 * Returns IKV_OK, IKV_ABSENT if it is gone already, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(its own subscriptions). */
IKV_API ikv_status ikv_bus_drop_owner(ikv_bus *bus, ikv_owner owner);

/* ------------------------------------------------------------- delivery -- */

/* What came of a delivery.
 *   status   IKV_OK, UNKNOWN_KIND, STALE (the target), TOO_DEEP, FULL_DEPTH or
 *            BAD_ARGUMENT
 *   verdict  what the handlers returned, joined
 *   heard    how many were called
 */
typedef struct ikv_outcome {
    ikv_status status;
    ikv_verdict verdict;
    uint32_t heard;
    uint32_t reserved;
} ikv_outcome;

/* What the caller of ikv_bus_deliver_along() knows beside the event.
 *   path         targets from the root to event->target, path_length of them;
 *                the event's target is taken from its last one. NULL: as
 *                ikv_bus_deliver() finds it
 *   own_visit    visit that target alone, whatever the kind
 *   flags ... data_size  as in ikv_delivery
 */
typedef struct ikv_route {
    uint32_t size;
    uint16_t flags;
    bool own_visit;
    uint8_t reserved;
    uint32_t path_length;
    uint32_t sample_count;
    uint32_t data_size;
    uint32_t reserved2;
    const ikv_target *path;
    struct ikv_router *router;
    const ikv_event *cause;
    const ikv_event *samples;
    const void *data;
} ikv_route;

#define IKV_ROUTE_INIT IKV_SIZED(ikv_route)

/* Delivers now: to event->target (zero bits: the root). If the kind bubbles
 * and there is a `parent` callback, its ancestors are visited; else the root
 * and the target. The event is not changed. The outcome's status is IKV_OK,
 * BAD_ARGUMENT, UNKNOWN_KIND, STALE, TOO_DEEP or FULL_DEPTH.
 * Context: owner thread, inside handlers up to config.depth;
 * O(handlers at the visited targets). */
IKV_API ikv_outcome ikv_bus_deliver(ikv_bus *bus, const ikv_event *event);

/* Delivers now along a path of the caller's, which is not checked: what is
 * not alive is passed over. The outcome's status is as of ikv_bus_deliver(), or
 * BAD_SIZE. See DOM, section 2.9 (dispatching).
 * Context: as ikv_bus_deliver(); O(handlers along the path). */
IKV_API ikv_outcome ikv_bus_deliver_along(ikv_bus *bus, const ikv_event *event,
                                          const ikv_route *route);

/* ------------------------------------------------------------ deferring -- */

/* A lane's number: the loop flushes the first two; others are the user's. */
typedef uint16_t ikv_lane;
enum {
    IKV_STEP_LANE = 0,
    IKV_FRAME_LANE = 1
};

/* Makes a lane of one's own. Returns IKV_OK, BAD_ARGUMENT, FULL_LANES or
 * FULL_NAMES.
 * Context: owner thread, inside handlers too; O(lanes). */
IKV_API ikv_status ikv_bus_add_lane(ikv_bus *bus, const char *name,
                                    ikv_lane *lane);

/* The lane's name, NULL if there is none.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API const char *ikv_bus_lane_name(const ikv_bus *bus, ikv_lane lane);

/* Copies the event onto a lane: first in, first out. What is deferred to a
 * lane while it is flushed waits for its next flush.
 * Returns IKV_OK, BAD_ARGUMENT, UNKNOWN_KIND, UNKNOWN_NAME (no such lane),
 * STALE or FULL_DEFERRED (counted; nothing was deferred).
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_defer(ikv_bus *bus, ikv_lane lane,
                                 const ikv_event *event);

/* Delivers what is on the lane. An event whose target has gone since is
 * dropped and counted.
 *   delivered  gets how many; may be NULL
 * Returns IKV_OK, BAD_ARGUMENT, UNKNOWN_NAME, BUSY while this lane is being
 * flushed, TOO_DEEP at the depth limit, or FULL_DEPTH at an event whose path is
 * too deep: that one and what is behind it stay on the lane.
 * Context: as ikv_bus_deliver(). */
IKV_API ikv_status ikv_bus_flush(ikv_bus *bus, ikv_lane lane,
                                 uint32_t *delivered);

/* How many events wait on the lane.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_bus_lane_waiting(const ikv_bus *bus, ikv_lane lane);

/* As ikv_bus_defer(), with a larger payload, which is copied and lives until
 * the event has been delivered (delivery->data).
 * Returns also BAD_SIZE if it is over config.payload_bytes, or FULL_PAYLOADS.
 * Context: owner thread, inside handlers too; O(data_size). */
IKV_API ikv_status ikv_bus_defer_data(ikv_bus *bus, ikv_lane lane,
                                      const ikv_event *event, const void *data,
                                      uint32_t data_size);

/* As ikv_bus_defer(), from any thread; the next flush of the lane takes it in.
 * Whether its target is there is seen then. The payload is the event's 32
 * bytes. Returns IKV_OK, BAD_ARGUMENT, UNKNOWN_NAME, BAD_VALUE (a value that
 * can't be recorded, as for ikv_sink_push(), or a time beyond IKV_TIME_LIMIT) or
 * FULL_INBOX (counted).
 * One locked operation.
 * Context: any thread; one locked operation, O(1). */
IKV_API ikv_status ikv_bus_defer_any(ikv_bus *bus, ikv_lane lane,
                                     const ikv_event *event);

/* What a lane has seen.
 *   waiting, high_water  events on it now, and at most
 *   deferred, delivered, dropped  so far; dropped: the target had gone
 *   inbox_refused        from other threads, not taken: full */
typedef struct ikv_lane_counts {
    uint32_t size;
    uint32_t waiting, high_water;
    IKV_ALIGNED(8) uint64_t deferred;
    IKV_ALIGNED(8) uint64_t delivered;
    IKV_ALIGNED(8) uint64_t dropped;
    IKV_ALIGNED(8) uint64_t inbox_refused;
} ikv_lane_counts;

#define IKV_LANE_COUNTS_INIT IKV_SIZED(ikv_lane_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE, UNKNOWN_NAME for a lane that there is not.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_lane_counters(const ikv_bus *bus, ikv_lane lane,
                                         ikv_lane_counts *counts);

/* --------------------------------------------------------------- timers -- */

/* Puts the event on the lane `delay_ns` of the steps' time from now on.
 *   timer  gets a handle to cancel it with; may be NULL
 * Returns as ikv_bus_defer(), and FULL_TIMERS; BAD_ARGUMENT for a delay of more
 * than UINT64_MAX / 2 or to beyond the last time that there is.
 * Context: owner thread, inside handlers too; O(log timers). */
IKV_API ikv_status ikv_bus_defer_after(ikv_bus *bus, ikv_lane lane,
                                       uint64_t delay_ns,
                                       const ikv_event *event,
                                       ikv_timer *timer);

/* Likewise every `period_ns`, first one period from now. Where a step is longer
 * than the period, each due time gives an event, in order; with `merge` one
 * event, whose `samples` says how many were due.
 * Returns as ikv_bus_defer_after(); BAD_ARGUMENT also for a period of 0.
 * Context: owner thread, inside handlers too; O(log timers). */
IKV_API ikv_status ikv_bus_defer_every(ikv_bus *bus, ikv_lane lane,
                                       uint64_t period_ns, bool merge,
                                       const ikv_event *event,
                                       ikv_timer *timer);

/* Gives a timer a larger payload, which is copied: each of its events bears a
 * copy of its own. The timer holds one of config.payloads until it ends.
 * Returns IKV_OK, ABSENT (the timer has ended), BAD_ARGUMENT (no data, or it
 * has a payload already), BAD_SIZE, FULL_PAYLOADS.
 * Context: owner thread, inside handlers too; O(data_size). */
IKV_API ikv_status ikv_bus_set_timer_data(ikv_bus *bus, ikv_timer timer,
                                          const void *data, uint32_t data_size);

/* Ends a timer. IKV_OK, ABSENT if it has ended already, or BAD_ARGUMENT for
 * NULL.
 * Context: owner thread, inside handlers too; O(log timers). */
IKV_API ikv_status ikv_bus_cancel_timer(ikv_bus *bus, ikv_timer timer);

/* Moves the steps' time on and puts what is due on its lane, in order of due
 * time, then of age. A timer ends with its target, unless its kind outlives
 * that. Of a timer for whose event there is no room, what else is due by then
 * is refused with it. The event's time is its due time. The loop calls it after
 * each step. Returns IKV_OK, or BAD_ARGUMENT if the time runs backwards.
 * Context: owner thread, inside handlers too; O(1) if no timer is due, else
 * O(log timers) for each that is. */
IKV_API ikv_status ikv_bus_advance(ikv_bus *bus, uint64_t time_ns);

/* The numbers of the step and of the frame; the loop sets them. UINT64_MAX is
 * taken as the one before it.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void ikv_bus_set_step(ikv_bus *bus, uint64_t step);
IKV_API void ikv_bus_set_frame(ikv_bus *bus, uint64_t frame);

/* -------------------------------------------------- watching and counts -- */

/* What a watcher is told, in order; it names what it wants by joining them.
 *   EVENT   a delivery begins
 *   ASK     a subscription's conditions, limits and gap are about to be asked:
 *           the moment for ikv_bus_probe(). Who has none of them is not asked
 *   CALL    a handler is about to be called
 *   RETURN  it has returned
 *   SKIP    a subscription that might have heard it was not called; `reason`
 *   DONE    the delivery has ended; `heard` is 0 if nobody heard it
 *   REFUSE  an event was not let in by the loop, or not delivered at all;
 *           `status` says why
 *   DEFER   an event was put on a lane
 *   DROP    a deferred event was dropped: its target has gone
 *   MUTE    a subscription was muted (`reason` is MUTED), or wakes again (NONE)
 *   END     a subscription is about to end: `reason` is LIMIT, or ENDED
 *   PRESS   the actions are about to look at what was pressed: the moment for
 *           ikv_actions_probe()
 *   OVERLAPS  a step's overlaps have been found, and are about to be told: the
 *           moment for ikv_overlaps_probe()
 *   TAKE    the loop has taken an event in, at its time in the loop
 *   MERGE   a move is not routed by itself: a later one bears it
 *   FLUSH   a lane on which something waits is about to be flushed
 *   SAVE    the state was copied out (image.h)
 *   RESTORE  it was set back: what was told since that image was made is undone,
 *           and may come again
 */
enum {
    IKV_WATCH_EVENT = 1 << 0,
    IKV_WATCH_ASK = 1 << 1,
    IKV_WATCH_CALL = 1 << 2,
    IKV_WATCH_RETURN = 1 << 3,
    IKV_WATCH_SKIP = 1 << 4,
    IKV_WATCH_DONE = 1 << 5,
    IKV_WATCH_REFUSE = 1 << 6,
    IKV_WATCH_DEFER = 1 << 7,
    IKV_WATCH_DROP = 1 << 8,
    IKV_WATCH_MUTE = 1 << 9,
    IKV_WATCH_END = 1 << 10,
    IKV_WATCH_PRESS = 1 << 11,
    IKV_WATCH_OVERLAPS = 1 << 12,
    IKV_WATCH_TAKE = 1 << 13,
    IKV_WATCH_MERGE = 1 << 14,
    IKV_WATCH_FLUSH = 1 << 15,
    IKV_WATCH_SAVE = 1 << 16,
    IKV_WATCH_RESTORE = 1 << 17,
    IKV_WATCH_ALL = 0x7fffffff
};

/* Valid for the call.
 *   what          one of IKV_WATCH_...
 *   depth         1 for the outermost delivery
 *   event         that it is about; NULL on MUTE, END, OVERLAPS, FLUSH, SAVE and
 *                 RESTORE
 *   delivery      NULL on all but EVENT, ASK, CALL, RETURN, SKIP and DONE
 *   name          the handler's on ASK, CALL, RETURN, SKIP, MUTE and END
 *   subscription  likewise
 *   verdict       on RETURN the handler's, on DONE all of them joined
 *   heard         on DONE: how many handlers have heard it; on FLUSH: how many
 *                 events wait
 *   status        on REFUSE
 *   lane          on DEFER, DROP and FLUSH
 *   reason        on SKIP, MUTE and END: IKV_WHY_...
 *   frame_scoped  it belongs to a frame, not to the steps: it may be another one
 *                 at another frame rate
 */
typedef struct ikv_watch {
    uint32_t what;
    uint32_t depth;
    const ikv_event *event;
    const ikv_delivery *delivery;
    const char *name;
    ikv_verdict verdict;
    uint32_t heard;
    ikv_status status;
    ikv_subscription subscription;
    ikv_lane lane;
    uint16_t reason;
    bool frame_scoped;
} ikv_watch;

typedef void (*ikv_watcher)(const ikv_watch *watch, void *user);

/* How many watchers a bus can have. */
#define IKV_WATCHER_LIMIT 8

/* Watchers, for traces, digests and questions, told in the order in which they
 * were added. They must not call the bus, but for queries and probes.
 *   wants  IKV_WATCH_... joined: what nobody wants is not made up, and costs
 *          nothing
 * Return IKV_OK, BAD_ARGUMENT, BUSY inside a handler, FULL_WATCHERS; ABSENT if
 * it was not added.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_bus_add_watcher(ikv_bus *bus, uint32_t wants,
                                       ikv_watcher watcher, void *user);
IKV_API ikv_status ikv_bus_remove_watcher(ikv_bus *bus, ikv_watcher watcher,
                                          void *user);

/* What keeps a subscription from hearing an event that is being delivered: all
 * of it, in the order in which it stands in the way; up to `room` of it go to
 * `to`. Nothing changes: no limit counts down, no `changed` remembers.
 *   delivery  as a watcher is given it: at EVENT for all that does not hang on
 *             who is called before; at ASK for the moment itself
 * Returns how many there are; 0: it is called, unless a handler before it stops
 * the event.
 *   ENDED      it has ended, or never was
 *   KIND       it does not listen to the event's kind
 *   PATH       none of its targets is on the way; `by` is where the event goes
 *   PHASE      its target is on the way, in a phase that it does not name
 *   GONE       its target has gone on the way (the callback `alive`)
 *   MUTED
 *   PLACE      the event's target has none of its tags, or another body: `by`
 *   CONDITION  the `nth` of its conditions, groups' after the others: the field
 *              `name` was `found`, and should compare with `wanted`
 *   AFTER      so many events are still to be left out: `found`
 *   AT_MOST    it was called in this step or frame
 *   GAP        so many ns since its last call: `found`; `wanted` are due
 * Context: owner thread, inside handlers and watchers too; O(its conditions and
 * targets, length of the path). */
IKV_API uint32_t ikv_bus_probe(const ikv_bus *bus,
                               ikv_subscription subscription,
                               const ikv_event *event,
                               const ikv_delivery *delivery, ikv_obstacle *to,
                               uint32_t room);

/* Counters since opening.
 *   delivered      deliveries begun
 *   unheard        of those, heard by no handler
 *   too_deep       refused at the depth limit
 *   stale          refused: the target was gone
 *   deferred       events put on lanes
 *   defer_refused  not put on a lane: full
 *   dropped        deferred events whose target had gone
 *   mailbox_refused  not put into a mailbox: full
 *   generation_wraps  how often a handle's generation began anew
 * and how much is in use now and at most of each capacity, as it was opened. */
typedef struct ikv_bus_counts {
    uint32_t size;
    uint32_t generation_wraps;
    uint32_t timers, timers_high, timers_capacity;
    uint32_t payloads, payloads_high, payloads_capacity;
    uint32_t conditions, conditions_high, conditions_capacity;
    uint32_t gates, gates_high, gates_capacity;
    uint32_t subscriptions, subscriptions_high, subscriptions_capacity;
    uint32_t entries, entries_high, entries_capacity;
    uint32_t targets, targets_high, targets_capacity;
    uint32_t owners, owners_high, owners_capacity;
    uint32_t waiting, waiting_high, waiting_capacity;
    uint32_t reserved;
    IKV_ALIGNED(8) uint64_t delivered;
    IKV_ALIGNED(8) uint64_t unheard;
    IKV_ALIGNED(8) uint64_t too_deep;
    IKV_ALIGNED(8) uint64_t stale;
    IKV_ALIGNED(8) uint64_t deferred;
    IKV_ALIGNED(8) uint64_t defer_refused;
    IKV_ALIGNED(8) uint64_t dropped;
    IKV_ALIGNED(8) uint64_t mailbox_refused;
} ikv_bus_counts;

#define IKV_BUS_COUNTS_INIT IKV_SIZED(ikv_bus_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(kinds). */
IKV_API ikv_status ikv_bus_counters(const ikv_bus *bus, ikv_bus_counts *counts);

/* The same for one kind. */
typedef struct ikv_kind_counts {
    uint32_t size;
    IKV_ALIGNED(8) uint64_t delivered;
    IKV_ALIGNED(8) uint64_t unheard;
} ikv_kind_counts;

#define IKV_KIND_COUNTS_INIT IKV_SIZED(ikv_kind_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE, UNKNOWN_KIND. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_bus_kind_counters(const ikv_bus *bus, ikv_kind kind,
                                         ikv_kind_counts *counts);

/* The name of the first invariant (bus.c lists them) that does not hold, NULL
 * if all do. Context: not inside a handler; O(everything). */
IKV_API const char *ikv_bus_validate(const ikv_bus *bus);

#ifdef __cplusplus
}
#endif

#endif
