/* bus_internal.h - the bus's inside: gates, what has ended, mailboxes, where
 * subscriptions are kept, visits, delivering, what is deferred.
 *
 * Each (kind, target) has a run: its entries lie side by side, sorted by rank,
 * then by birth. What is subscribed to families or to all kinds lies in the
 * target's wide run, of kind 0. Nothing moves while the bus is held: entries
 * that end get `visits` 0, and what is subscribed waits in `pending`; when
 * nothing holds it any more, compacting tidies up. What is subscribed out of
 * order in a long run waits at its end, late, until it is held again.
 *
 * bus-1  run->count entries from run->first are in the pool; run->dead of them
 *        have no subscription
 * bus-2  a run's entries are sorted by rank, then birth, but for the last
 *        run->late of them, of which there are none while it is held
 * bus-3  links, entries and subscriptions refer to each other
 * bus-4  a target's chain holds all its runs, once each; the root's are also in
 *        root_runs by kind
 * bus-5  the first pending_sorted of the pending links are sorted as bus-2;
 *        there are none while it is not held
 * bus-6  subscriptions in owners' lists are in use and name that owner
 * bus-7  deferred events are on one lane or free, and each lane's count is
 *        right
 * bus-8  timers that are in use, and no others, are in a heap by due time and
 *        turn, each at its position
 *
 * Files, lowest first: bus_condition.c, bus_compile.c, bus_gate.c, bus_run.c,
 * bus_past.c, bus_mail.c, bus_watch.c, bus_store.c, bus_visit.c, bus_probe.c,
 * bus_deliver.c, bus_lane.c, bus_timer.c, bus.c.
 */
#ifndef IKVI_BUS_INTERNAL_H
#define IKVI_BUS_INTERNAL_H

#include "../event/catalogue_shared.h"
#include "../event/hash.h"
#include "../event/names.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/slots.h"
#include "../event/text.h"
#include "../event/values.h"
#include "bus_shared.h"

#include "ikvar/bus.h"
#include "ikvar/queue.h"

#define IKVI_NONE UINT32_MAX

/* Which visits an entry takes part in. FIRST and OWN are the two halves of a
 * target's own visit; ONCE is the root's capturing visit of kinds that do not
 * bubble. */
enum {
    VISIT_CAPTURE = 1,
    VISIT_FIRST = 2,
    VISIT_OWN = 4,
    VISIT_BUBBLE = 8,
    VISIT_ONCE = 16,
    VISIT_GATED = 256 /* not a visit: its gate must be asked first */
};

/* Places of targets that are always there: the root, and the one that what is
 * subscribed at tags or a body hangs on. */
enum {
    ROOT_PLACE = 0,
    TAGGED_PLACE = 1,
    FIXED_PLACES = 2
};

/* How often events of a kind were delivered, and heard by nobody. */
typedef struct bus_kind_counts {
    uint64_t delivered, unheard;
} bus_kind_counts;

/* What became of candidates: called, or why not, in the order of IKV_WHY_... */
enum {
    BY_CALL,
    BY_MUTE,
    BY_PLACE,
    BY_CONDITION,
    BY_AFTER,
    BY_AT_MOST,
    BY_GAP,
    BY_COUNT
};
_Static_assert((int)BY_GAP - BY_MUTE == (int)IKV_WHY_GAP - IKV_WHY_MUTED,
               "one for each");

/* What a subscription has seen, as ikv_subscription_counts has it. */
typedef struct bus_seen {
    uint64_t by[BY_COUNT];
    uint64_t spent_ns;
} bus_seen;

/* A test of 32 bits of the event: from `low` on, at most `span` more, counting
 * on from 0 past the greatest. What passes all is {0, 0, UINT32_MAX}. */
typedef struct bus_test {
    uint32_t where; /* TEST_...: which bits; the rest is 0 */
    uint32_t low, span;
} bus_test;

enum {
    TEST_OFFSET = 16, /* from that bit on, 8 bits: where in the event. A field
                         of less than 32 bits is at the top of these 32; what
                         lies below it falls within `span` */
    TEST_FLOAT = 1 << 24,
    TEST_MASK = 1 << 25, /* rather: any of `low`; `span` is 1, or 0: none */
    /* `low` is the gate's place, and all pass by `span`: whether the gate rests
     * is asked before anything else. */
    TEST_GATE = 1 << 26,
    TEST_WHOLE = 1 << 27 /* it is all of the conditions */
};

/* The hot part of a subscription. Dead: visits and subscription are 0. */
typedef struct bus_entry {
    ikv_handler handler;
    void *user;
    uint32_t visits; /* VISIT_..., and of its gate's test `where` */
    uint32_t subscription;
    uint32_t low, span; /* of that test: most of those that are left out are
                           so without a look at the gate. In a wide run, whose
                           entries are not tested: low are its families; all of
                           them where there is no gate */
} bus_entry;

_Static_assert(sizeof(void *) != 8 || sizeof(bus_entry) == 32,
               "two entries a cache line");

enum {
    LATE_LIMIT = UINT16_MAX
};

typedef struct bus_run {
    uint32_t first, count, room, dead;
    uint32_t target; /* place; IKVI_NONE once the target is gone */
    uint32_t next;   /* in the target's chain, or of the free runs */
    uint32_t next_dirty;
    uint32_t visits;   /* of all its entries, joined; perhaps too much */
    uint32_t families; /* likewise: that those of a wide run hear */
    ikv_kind kind;
    uint16_t late; /* at the end, not sorted yet */
    bool used, dirty;
    uint8_t beside; /* BESIDE_...: where the root's wide run stands to it */
} bus_run;

/* Where the root's run of a kind lies, in bytes from the first run: found so by
 * a delivery without a multiplication. STRAIGHT is joined if it has no position,
 * no capturing and no gates. */
enum {
    STRAIGHT = 1
};
#define NO_ROOT_RUN UINT32_C(0xfffffffe)
_Static_assert(sizeof(bus_run) % 2 == 0 && sizeof(bus_run) < 128,
               "there is a bit for STRAIGHT, and room for 2^25 runs");

/* D4: whether all of the root's wide run is called after a kind's run there, or
 * before it, and nobody of either has a gate: looked up at a delivery, forgotten
 * when something is put into either. */
enum {
    BESIDE_UNKNOWN,
    BESIDE_AFTER,
    BESIDE_BEFORE,
    BESIDE_MIXED /* or with gates, positions, tags */
};

/* Of a bus's detours: what makes a delivery at the root longer, and yet lets it
 * be a fast one. */
#define DETOUR_WIDE     (UINT32_C(1) << 31) /* the root has a wide run */
#define DETOUR_COUNTING (UINT32_C(1) << 30) /* statistics */
#define DETOURS_BESIDE  (DETOUR_WIDE | DETOUR_COUNTING)

/* Ties an entry to its subscription. */
typedef struct bus_link {
    uint32_t subscription; /* place */
    uint32_t run;          /* IKVI_NONE while pending */
    uint32_t position;     /* in the run */
    uint32_t next;         /* of the subscription's, or of the free links */
    uint32_t target;       /* place */
    ikv_kind kind;
} bus_link;

/* The cold part of a subscription. */
typedef struct bus_subscription {
    ikv_handler handler;
    void *user;
    void (*on_drop)(void *user);
    uint32_t name;
    uint32_t first_link;
    void *drop_user; /* for on_drop: what it was subscribed with */
    uint64_t birth;
    uint32_t visits;
    uint32_t families;
    int32_t rank;
    uint32_t gate;                   /* IKVI_NONE: it has none */
    uint32_t owner;                  /* place, or IKVI_NONE */
    uint32_t owner_next, owner_prev; /* `next` also of those that have ended */
    bool muted;
    bool ending; /* its limit is reached: it ends when its handler returns */
    bool ended;  /* but a call of it runs: on_drop is still to be told */
} bus_subscription;

/* What must hold before a subscription is called, of those for which something
 * must: read if its entries are marked as gated. */
typedef struct bus_gate {
    bus_test test;            /* must be passed */
    uint32_t first_condition; /* IKVI_NONE if none is left to look at */
    uint64_t gap_ns, last_ns; /* last_ns, last_turn: of the last call, plus 1 */
    uint64_t last_turn; /* its step or frame; 0 where that does not matter */
    uint8_t at_most;
    uint8_t group_any, group_negated; /* bit g: of group g; 0 is the top */
    uint8_t group_used;
    uint32_t limit, after;
    uint32_t tags;
    ikv_target body;
    uint32_t next_of_body; /* subscription; in the body's list. Of a free gate:
                              the next one */
} bus_gate;
_Static_assert(sizeof(bus_gate) == 64, "a cache line");

/* A condition in compact form. */
typedef struct bus_condition {
    uint32_t next;
    uint32_t name; /* of the field, where its place differs by kind; else 0 */
    uint32_t scale;
    uint16_t offset;
    uint8_t type, special, comparison, group;
    uint8_t value_type; /* IKV_VALUE_... of `value` */
    bool negate, seen;
    ikv_bits value;
    uint64_t last; /* what a `changed` saw */
} bus_condition;

typedef struct bus_timer {
    ikv_event event;
    uint64_t due, period;
    uint64_t turn;     /* of those due together the least is first */
    uint32_t position; /* in the heap */
    uint32_t payload, payload_size; /* IKVI_NONE, 0: none */
    ikv_lane lane;
    bool merge;
} bus_timer;

/* kinds_seen has bit (kind % 64) of every kind that ever had a run here. */
typedef struct bus_target {
    uint64_t kinds_seen;
    uint32_t id;
    uint32_t first_run;
    uint32_t of_body; /* the subscriptions whose at_body it is: a list */
    bool closing;
    bool in_scene; /* which removes it */
    bool listed;   /* by what is being subscribed, so far */
} bus_target;

typedef struct bus_owner {
    uint32_t first;
    bool closing;
} bus_owner;

typedef struct bus_lane {
    uint32_t head, tail, count, high;
    uint32_t name;
    bool flushing;
    uint64_t deferred, delivered, dropped;
    size_t inbox;                /* the queue of other threads, as an offset */
    uint32_t given, given_count; /* played as if from there: a ring */
} bus_lane;

typedef struct bus_mailbox {
    uint32_t head, count;
    uint64_t refused;
} bus_mailbox;

/* What a deferred event has beside its 64 bytes. */
typedef struct bus_extra {
    uint32_t next;
    uint32_t payload; /* IKVI_NONE: none */
    uint32_t size;
} bus_extra;

/* What a delivery needs to know of a kind, in one byte: built from the
 * catalogue when a kind is first seen. */
enum {
    KIND_KNOWN = 0x80,
    KIND_BUBBLES = 0x40,
    KIND_POSITIONED = 0x20,
    KIND_FAMILY = 0x1f
};
_Static_assert((int)IKV_FAMILY_COUNT <= (int)KIND_FAMILY, "families fit");

/* One delivery under way; one for each level of depth. `at_root` is for the fast
 * way: all of it is set but subscription. It comes first, so that one address
 * finds both. Of `delivery`, what only some deliveries set is zero in between. */
typedef struct bus_dispatch {
    ikv_delivery at_root;
    ikv_delivery delivery;
    const ikv_event *event;
    ikv_verdict verdict;
    uint32_t heard;
    bool own_visit;      /* to its target alone */
    uint64_t born;       /* what is younger is not called */
    uint32_t traits;     /* of the kind: KIND_... */
    ikv_delivery *using; /* of the two: it says who is called; at_root but in a
                            delivery along a path */
    ikv_event copy;
#ifdef IKV_DEBUG
    ikv_event scratch; /* what handlers are given */
    ikv_delivery lent;
#endif
} bus_dispatch;

/* What a name was rebound to last. */
typedef struct bus_rebinding {
    uint64_t name; /* its hash; 0: free */
    ikv_handler handler;
    void *user;
} bus_rebinding;

/* What has ended but may come back by an image. */
typedef struct bus_kept {
    void (*on_drop)(void *user);
    void *user;
    uint64_t birth;
    uint64_t number; /* no image beyond that one holds it; 0: none does */
    uint32_t place;
} bus_kept;

struct ikv_bus {
    /* Links to what is outside, and constants. */
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    const ikv_catalogue *catalogue;
    ikv_bus_callbacks callbacks;
    ikv_reporter reporter;
    struct {
        ikv_watcher watcher;
        void *user;
        uint32_t wants;
    } watchers[IKV_WATCHER_LIMIT];
    uint32_t watcher_count;
    uint32_t watching; /* what all of them want, joined */
    uint32_t depth_limit, entry_capacity, pool_half, kind_limit;
    uint32_t deferred_capacity, lane_capacity;
    uint32_t condition_capacity, gate_capacity;
    uint32_t payload_capacity, payload_bytes;
    uint32_t mailbox_capacity, mailbox_events, inbox_capacity;
    size_t inbox_size;
    /* Of what runs: none of it when an image is made. */
    uint32_t holds, depth; /* it is held by the one, and by dispatches */
    uint32_t dirty_run, pending_count;
    uint32_t pending_sorted; /* of the pending links; younger ones follow */
    uint64_t pending_kinds;  /* of pending links, perhaps too many: 64 bits of
                               kinds as in kinds_seen, wide ones all */
    uint32_t ended, ended_count; /* those that have ended while they run */
    uint32_t removals;           /* of targets; never goes back */
    uint64_t kinds_ever;         /* as kinds_seen, of all targets; likewise */
    uint64_t frame; /* the present's, also in a past that is run again */
    bool untidy;    /* runs, what waits or what has ended is to be looked at */
    bool counting;
    bool frame_scoped; /* what happens is not the steps' */
    bool closing;
    bool said_inbox, said_timer, said_deep; /* reported already */
    void (*on_inbox)(const ikv_event *event, ikv_lane lane, void *user);
    void *on_inbox_user;
    ikv_clock_fn clock;
    void *clock_user;
    uint64_t births;        /* of subscriptions; never goes back */
    uint64_t saved_births;  /* when the last image was saved */
    uint64_t image_number;  /* of the one that was saved or restored last */
    uint64_t image_highest; /* so far */
    uint64_t forgotten;     /* images up to that one can't be restored */
    /* Of the image that is being restored: the copies of what comes before and
     * after the parts outside; else NULL. */
    const char *image_before, *image_after;
    uint32_t image_limit, kept_room, kept_count, rebinding_room;
    bool has_scene;
    bool inbox_held; /* what other threads send waits */
    /* Where the arrays begin. */
    size_t pool, pool_links, links, runs, subscriptions, targets, owners;
    size_t pending, root_runs, kind_counts, kind_traits, deferred, extras,
        lanes, gates, conditions, counters, timers, timer_heap, payloads,
        payload_next, mailboxes, mail;
    size_t given;
    size_t inboxes, rebindings, kept, said_kinds, dispatches,
        outside_end; /* in no image */
    /* What an image holds of it, with the arrays behind. */
    struct {
        ikvi_names names;
        ikvi_slots subscription_slots, target_slots, owner_slots, timer_slots;
        bool watched;     /* that there is a watcher is one of the detours */
        uint32_t detours; /* reasons against the fast way: how many pending
                             links, runs with late ones, a watcher; DETOUR_... */
        uint32_t pool_start, pool_used; /* of the half in use */
        uint32_t free_link, free_run;
        uint32_t links_used, links_high;
        uint32_t free_deferred, deferred_used, deferred_high;
        uint32_t lane_count;
        uint32_t free_condition, conditions_used, conditions_high;
        uint32_t free_gate, gates_used, gates_high;
        uint32_t free_payload, payloads_used, payloads_high;
        uint32_t mailbox_count;
        uint64_t step, time_ns, timer_turn;
        uint64_t too_deep, stale;
        uint64_t deferred_count, defer_refused, dropped;
    } s;
};

static inline bus_entry *ikvi_bus_entry(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < 2 * b->pool_half);
    return (bus_entry *)ikvi_at(b, b->pool) + at;
}

static inline bus_run *ikvi_bus_run(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->entry_capacity);
    return (bus_run *)ikvi_at(b, b->runs) + at;
}

static inline bus_link *ikvi_bus_link(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->entry_capacity);
    return (bus_link *)ikvi_at(b, b->links) + at;
}

static inline bus_subscription *ikvi_bus_subscription(const ikv_bus *b,
                                                      uint32_t at)
{
    IKVI_CHECK(at < b->s.subscription_slots.capacity);
    return (bus_subscription *)ikvi_at(b, b->subscriptions) + at;
}

static inline bus_target *ikvi_bus_target(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->s.target_slots.capacity);
    return (bus_target *)ikvi_at(b, b->targets) + at;
}

static inline bus_owner *ikvi_bus_owner(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->s.owner_slots.capacity);
    return (bus_owner *)ikvi_at(b, b->owners) + at;
}

static inline uint32_t *ikvi_bus_words(const ikv_bus *b, size_t array)
{
    return ikvi_at(b, array);
}

static inline bus_lane *ikvi_bus_lane(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->lane_capacity);
    return (bus_lane *)ikvi_at(b, b->lanes) + at;
}

static inline ikv_event *ikvi_bus_deferred(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->deferred_capacity);
    return (ikv_event *)ikvi_at(b, b->deferred) + at;
}

static inline bus_kind_counts *ikvi_bus_kind(const ikv_bus *b, uint32_t kind)
{
    IKVI_CHECK(kind < b->kind_limit);
    return (bus_kind_counts *)ikvi_at(b, b->kind_counts) + kind;
}

/* Whether runs must stay as they are. */
static inline bool ikvi_bus_is_held(const ikv_bus *b)
{
    return (b->holds | b->depth) != 0;
}

static inline bus_dispatch *ikvi_bus_dispatch(const ikv_bus *b, uint32_t depth)
{
    IKVI_CHECK(depth < b->depth_limit);
    return (bus_dispatch *)ikvi_at(b, b->dispatches) + depth;
}

/* The place of a live target, 0 for the root, IKVI_NONE if stale. */
static inline uint32_t ikvi_bus_place(const ikv_bus *b, ikv_target target)
{
    uint32_t place = ikvi_slots_find(&b->s.target_slots, b, target.bits);
    return place != IKVI_NO_SLOT && !ikvi_bus_target(b, place)->closing
               ? place
               : IKVI_NONE;
}

static inline uint32_t *ikvi_bus_root_run(const ikv_bus *b, ikv_kind kind)
{
    return &ikvi_bus_words(b, b->root_runs)[kind];
}

/* The run of a kind at a target, IKVI_NONE if there is none. */
static inline uint32_t ikvi_bus_find_run(const ikv_bus *b, uint32_t target,
                                         ikv_kind kind)
{
    if (target == ROOT_PLACE) {
        uint32_t where = *ikvi_bus_root_run(b, kind);
        return where != NO_ROOT_RUN ? where / (uint32_t)sizeof(bus_run)
                                    : IKVI_NONE;
    }
    uint32_t at = ikvi_bus_target(b, target)->first_run;
    while (at != IKVI_NONE && ikvi_bus_run(b, at)->kind != kind)
        at = ikvi_bus_run(b, at)->next;
    return at;
}

static inline bus_gate *ikvi_bus_gate(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->gate_capacity);
    return (bus_gate *)ikvi_at(b, b->gates) + at;
}

/* A subscription's; NULL if it has none. */
static inline bus_gate *ikvi_bus_gate_of(const ikv_bus *b,
                                         uint32_t subscription)
{
    uint32_t at = ikvi_bus_subscription(b, subscription)->gate;
    return at != IKVI_NONE ? ikvi_bus_gate(b, at) : NULL;
}

static inline bus_condition *ikvi_bus_condition(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->condition_capacity);
    return (bus_condition *)ikvi_at(b, b->conditions) + at;
}

static inline bus_seen *ikvi_bus_seen(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->s.subscription_slots.capacity);
    return (bus_seen *)ikvi_at(b, b->counters) + at;
}

static inline bus_extra *ikvi_bus_extra(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->deferred_capacity);
    return (bus_extra *)ikvi_at(b, b->extras) + at;
}

static inline bus_timer *ikvi_bus_timer(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->s.timer_slots.capacity);
    return (bus_timer *)ikvi_at(b, b->timers) + at;
}

static inline bus_rebinding *ikvi_bus_rebinding(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->rebinding_room);
    return (bus_rebinding *)ikvi_at(b, b->rebindings) + at;
}

static inline bus_mailbox *ikvi_bus_mailbox(const ikv_bus *b, uint32_t at)
{
    IKVI_CHECK(at < b->mailbox_capacity);
    return (bus_mailbox *)ikvi_at(b, b->mailboxes) + at;
}

/* The place of a subscription that has not ended; IKVI_NO_SLOT. */
static inline uint32_t ikvi_bus_find_subscription(const ikv_bus *b,
                                                  uint32_t bits)
{
    uint32_t at = ikvi_slots_find(&b->s.subscription_slots, b, bits);
    return at != IKVI_NO_SLOT && !ikvi_bus_subscription(b, at)->ended
               ? at
               : IKVI_NO_SLOT;
}

/* D4: where a subscription stands among others in a visit: rank, then age. */
typedef struct bus_order {
    int32_t rank;
    uint64_t birth;
} bus_order;

static inline bus_order ikvi_bus_order(const bus_subscription *s)
{
    return (bus_order){s->rank, s->birth};
}

static inline bool ikvi_bus_earlier(bus_order a, bus_order b)
{
    return a.rank != b.rank ? a.rank < b.rank : a.birth < b.birth;
}

/* Whether there is one at a place. */
static inline bool ikvi_bus_subscribed_at(const ikv_bus *b, uint32_t at)
{
    return ikvi_slots_at(&b->s.subscription_slots, b, at)->next ==
               IKVI_IN_USE &&
           !ikvi_bus_subscription(b, at)->ended;
}

/* The place of the subscription that live bits name. */
static inline uint32_t ikvi_bus_place_of(const ikv_bus *b, uint32_t bits)
{
    return (bits & ((1u << b->s.subscription_slots.bits) - 1)) - 1;
}

/* bus_condition.c */
/* Fields that are none of the event's own. */
enum {
    NOT_SPECIAL = 0,
    TARGET_TAGS,
    SOURCE_TAGS,
    TARGET_BODY,
    SOURCE_BODY,
    LOCAL_X,
    LOCAL_Y
};

enum {
    CONDITION_GROUPS = 7
};
/* Says what is wrong with it, and what is needed. */
static inline ikv_status
ikvi_refuse_condition(ikv_message *message, ikv_status status,
                      const char *field, const char *why, const char *needed)
{
    const char *parts[] = {
        "a condition on \"", field, "\" ", why, ": ", needed, NULL};
    ikvi_message(message, parts);
    return status;
}

/* Checks all of a config's conditions, so that making them can't fail; how many
 * there are is handed back. */
ikv_status ikvi_conditions_check(const ikv_bus *b,
                                 const ikv_subscription_config *config,
                                 ikv_message *message, uint32_t *conditions);
/* Which of them the name is. */
uint32_t ikvi_condition_special(const char *name);
const char *ikvi_condition_special_name(uint32_t special);
/* Its type of value, or the field's: IKV_VALUE_..., NONE for text. */
uint32_t ikvi_condition_type(uint32_t special, const ikv_field *field);
/* Finds the field that all kinds of a subscription have under that name. *field
 * is the first kind's; *uniform whether it lies at the same place in all. */
ikv_status ikvi_condition_field(const ikv_bus *b,
                                const ikv_subscription_config *config,
                                const char *name, const ikv_field **field,
                                bool *uniform, ikv_message *message);
/* A field's value of that field type against a condition's number, exactly: -1,
 * 0, 1; 2 if there is no order. */
int ikvi_condition_order(uint8_t field_type, ikv_value value,
                         uint32_t with_type, ikv_bits with);
/* Whether a comparison holds where that is the order. */
bool ikvi_condition_holds(uint32_t comparison, int order);

/* bus_compile.c: what a build may leave out, together with bus_condition.c. */
void ikvi_conditions_open(ikv_bus *b);
/* Keeps the names that they will need; false if there is no room. */
bool ikvi_conditions_keep_names(ikv_bus *b,
                                const ikv_subscription_config *config);
/* Makes a gate's, and its test. */
void ikvi_conditions_make(ikv_bus *b, bus_gate *gate,
                          const ikv_subscription_config *config);
void ikvi_conditions_drop(ikv_bus *b, bus_gate *gate);
bool ikvi_conditions_hold(const ikv_bus *b, const bus_gate *gate,
                          const ikv_event *event, const ikv_delivery *delivery);
/* If they do not hold: those that are to blame, behind `count` obstacles that
 * are known already. Returns how many there are then. */
uint32_t ikvi_conditions_probe(const ikv_bus *b, const bus_gate *gate,
                               const ikv_event *event,
                               const ikv_delivery *delivery, ikv_obstacle *to,
                               uint32_t room, uint32_t count);
const char *ikvi_conditions_validate(const ikv_bus *b);

/* bus_gate.c */
static inline bool ikvi_bus_passes(bus_test test, const ikv_event *event)
{
    uint32_t field, where = test.where;
    memcpy(&field, (const char *)event + (uint8_t)(where >> TEST_OFFSET),
           sizeof field);
    if (IKVI_UNLIKELY(where & (TEST_MASK | TEST_FLOAT))) {
        if (where & TEST_MASK)
            return ((field & test.low) != 0) == (test.span != 0);
        /* Negative floats fall as their bits grow. */
        field ^= field >> 31 != 0 ? 0x7fffffffu : 0;
    }
    return field - test.low <= test.span;
}

/* Whether it was called in this step or frame already, and may not be again. */
static inline bool ikvi_bus_had_its_turn(const ikv_bus *b, const bus_gate *gate)
{
    /* 0: that it was never called, or may be as often as it likes. */
    if (gate->last_turn == 0)
        return false;
    return gate->last_turn ==
           (gate->at_most == IKV_PER_STEP ? b->s.step : b->frame) + 1;
}

/* Whether its last call is more recent than its gap allows. */
static inline bool ikvi_bus_is_too_soon(const bus_gate *gate,
                                        const ikv_event *event)
{
    /* Plus 1, as 0 stands for "never", and for what has no gap. Mostly all is
     * said by the first comparison. */
    uint64_t moment = event->time_ns + 1, last = gate->last_ns;
    if (moment - last < gate->gap_ns)
        return last != 0;
    return moment < last;
}

/* IKV_WHY_NONE, unless it is too soon after its last call. */
static inline uint16_t ikvi_bus_rests(const ikv_bus *b, const bus_gate *gate,
                                      const ikv_event *event)
{
    if (ikvi_bus_had_its_turn(b, gate))
        return IKV_WHY_AT_MOST;
    return ikvi_bus_is_too_soon(gate, event) ? IKV_WHY_GAP : IKV_WHY_NONE;
}

void ikvi_bus_gate_open(ikv_bus *b);
/* Whether there is a gate for it, if it needs one. */
bool ikvi_bus_gate_has_room(const ikv_bus *b,
                            const ikv_subscription_config *config);
/* Checks everything that a gate is made of, so that making one can't fail. */
ikv_status ikvi_bus_gate_check(const ikv_bus *b,
                               const ikv_subscription_config *config,
                               ikv_message *message);
/* Whether the config needs a gate; makes the subscription's. */
bool ikvi_bus_gate_make(ikv_bus *b, uint32_t subscription,
                        const ikv_subscription_config *config);
void ikvi_bus_gate_drop(ikv_bus *b, uint32_t subscription);
const char *ikvi_bus_gate_validate(const ikv_bus *b);
/* Whether the event's target has the gate's tags or body, if it asks for them. */
bool ikvi_bus_in_place(const ikv_bus *b, const bus_gate *gate,
                       const ikv_event *event);
/* IKV_WHY_NONE, after which it counts as called, or why not. */
uint16_t ikvi_bus_gate_ask(ikv_bus *b, uint32_t subscription,
                           const ikv_event *event,
                           const ikv_delivery *delivery);

/* bus_mail.c: the handler of what is subscribed to a mailbox. */
ikv_verdict ikvi_bus_mail(const ikv_event *event, const ikv_delivery *delivery,
                          void *user);

/* bus_lane.c */
void ikvi_bus_lanes_open(ikv_bus *b);
/* Of a lane's queue, as it is laid out and opened. */
ikv_queue_config ikvi_bus_inbox(uint32_t capacity);
/* Whether an event with a payload of that size may wait on that lane. */
ikv_status ikvi_bus_check_deferral(ikv_bus *b, ikv_lane lane,
                                   const ikv_event *event, uint32_t size);
ikv_status ikvi_bus_put(ikv_bus *b, ikv_lane lane, const ikv_event *event,
                        const void *data, uint32_t size);
char *ikvi_bus_payload_at(const ikv_bus *b, uint32_t at);
/* A copy's place, if there is one free; IKVI_NONE of what is empty. */
uint32_t ikvi_bus_keep_payload(ikv_bus *b, const void *data, uint32_t size);
void ikvi_bus_free_payload(ikv_bus *b, uint32_t at);
const char *ikvi_bus_lanes_validate(const ikv_bus *b);

/* bus_timer.c: what a build may leave out. */
const char *ikvi_bus_timers_validate(const ikv_bus *b);

/* bus_past.c */
/* A subscription has ended: its on_drop is told, now or when no image can bring
 * it back. */
void ikvi_bus_drop_told(ikv_bus *b, const bus_subscription *s, uint32_t place);
/* Tells all that is kept. */
void ikvi_bus_forget_past(ikv_bus *b);
/* bus_watch.c: of watches only what is wanted is made up. */
enum {
    WATCH_HANDLERS =
        IKV_WATCH_ASK | IKV_WATCH_CALL | IKV_WATCH_RETURN | IKV_WATCH_SKIP,
    WATCH_DELIVERIES = WATCH_HANDLERS | IKV_WATCH_EVENT | IKV_WATCH_DONE
};
static inline bool ikvi_bus_watches(const ikv_bus *b, uint32_t what)
{
#ifdef IKV_NO_WATCH /* for measuring alone: what it costs that nobody watches */
    (void)b, (void)what;
    return false;
#else
    return IKVI_UNLIKELY((b->watching & what) != 0);
#endif
}
/* What the watchers want has changed, or what an image knows of them. */
void ikvi_bus_watch_anew(ikv_bus *b);
void ikvi_bus_tell(const ikv_bus *b, const ikv_watch *watch);
/* As an event begins or is done. */
void ikvi_bus_tell_delivery(const ikv_bus *b, uint32_t what,
                            const bus_dispatch *x);
/* Of a subscription that is called or not; fills the rest of `watch` in. */
void ikvi_bus_tell_entry(const ikv_bus *b, ikv_watch *watch,
                         const bus_dispatch *x, uint32_t subscription);
/* Of a subscription without an event. */
void ikvi_bus_tell_of(const ikv_bus *b, ikv_watch *watch,
                      uint32_t subscription);
/* Onto a lane, or dropped from there. */
void ikvi_bus_tell_flush(const ikv_bus *b, ikv_lane lane, uint32_t waiting);
void ikvi_bus_tell_deferred(const ikv_bus *b, uint32_t what,
                            const ikv_event *event, ikv_lane lane);
/* bus_run.c */
void ikvi_bus_runs_open(ikv_bus *b);
/* Ties a subscription to a target and kind. While it is held runs don't
 * move, so that its entry waits. There is a link: the caller has asked. */
void ikvi_bus_add_link(ikv_bus *b, uint32_t subscription, uint32_t target,
                       ikv_kind kind);
/* Takes the link out of its run or of the pending ones, and frees it. The
 * caller has taken it out of its subscription's list. */
void ikvi_bus_free_link(ikv_bus *b, uint32_t at);
void ikvi_bus_mark_dirty(ikv_bus *b, uint32_t run);
void ikvi_bus_tidy(ikv_bus *b);
/* Sorts pending links in that have come since the last delivery began. */
void ikvi_bus_settle_pending(ikv_bus *b);
const char *ikvi_bus_runs_validate(const ikv_bus *b);

/* bus_store.c */
/* Ends what is subscribed at a target that is closing. */
void ikvi_bus_drop_at(ikv_bus *b, uint32_t target);
void ikvi_bus_drop(ikv_bus *b, uint32_t subscription);
/* D8: tells those that have ended and don't run any more. */
void ikvi_bus_tell_ended(ikv_bus *b);
void ikvi_bus_silence(ikv_bus *b, uint32_t subscription, bool muted);
void ikvi_bus_compact(ikv_bus *b);

/* Before it is held: what is late is sorted in. */
static inline void ikvi_bus_settle_late(ikv_bus *b)
{
    if (IKVI_UNLIKELY(b->dirty_run != IKVI_NONE) && !ikvi_bus_is_held(b))
        ikvi_bus_tidy(b);
}

/* Nothing moves until it is released. */
static inline void ikvi_bus_hold(ikv_bus *b)
{
    ikvi_bus_settle_late(b);
    b->holds++;
}

static inline void ikvi_bus_release(ikv_bus *b)
{
    if (--b->holds == 0 && IKVI_UNLIKELY(b->untidy) && b->depth == 0)
        ikvi_bus_compact(b);
}

static inline bool ikvi_bus_pending_of(const ikv_bus *b, ikv_kind kind)
{
    return (b->pending_kinds >> kind % 64 & 1) != 0;
}

/* bus_visit.c */
/* What is left of a sorted run. */
typedef struct bus_rest {
    const bus_entry *at, *end;
    bool wide, gated; /* gated: some of it */
} bus_rest;
/* Of the run at that place; IKVI_NONE: nothing. */
bus_rest ikvi_bus_rest_of(const ikv_bus *b, uint32_t run);
/* Calls two of one target, as one, in these visits. Nothing that might hear is
 * pending. */
void ikvi_bus_call_two(ikv_bus *b, bus_dispatch *x, bus_rest *own,
                       bus_rest *wide, uint32_t visits);
/* An entry that takes no part: worth a word only if it is muted. */
void ikvi_bus_pass_muted(ikv_bus *b, const bus_dispatch *x,
                         ikv_delivery *delivery, const bus_entry *entry,
                         uint32_t visits);
/* How the root's wide run stands to one of its others: BESIDE_... */
uint8_t ikvi_bus_compare_runs(const ikv_bus *b, uint32_t own, uint32_t wide);
/* Calls what listens at the target in these visits; false after a stop. */
bool ikvi_bus_visit(ikv_bus *b, bus_dispatch *x, ikv_target target,
                    uint32_t visits, uint16_t phase);
/* Where the event's position is for `delivery->current`. */
void ikvi_bus_find_local(const ikv_bus *b, const ikv_event *event,
                         ikv_delivery *delivery);

static inline bool ikvi_bus_has_seen(const ikv_bus *b, uint32_t place,
                                     ikv_kind kind)
{
    /* A set of 64 bits that says "perhaps"; bit 0 is that of wide runs. */
    uint64_t seen = ikvi_bus_target(b, place)->kinds_seen;
    return ((seen >> kind % 64 | seen) & 1) != 0;
}

/* A path's place. The root is always there: most paths begin with it. */
static inline uint32_t ikvi_bus_visited(const ikv_bus *b, ikv_target target)
{
    return target.bits == ROOT_PLACE + 1 ? ROOT_PLACE
                                         : ikvi_bus_place(b, target);
}

/* Whether somebody may have come to listen at a target, or to what hangs on
 * tags and bodies. */
static inline bool ikvi_bus_may_hear(const ikv_bus *b, ikv_target target,
                                     ikv_kind kind)
{
    uint32_t place = ikvi_bus_place(b, target);
    return place != IKVI_NONE && (ikvi_bus_pending_of(b, kind) ||
                                  ikvi_bus_has_seen(b, TAGGED_PLACE, kind) ||
                                  ikvi_bus_has_seen(b, place, kind));
}

/* Calls a handler. In debug builds it is given copies of the event and of the
 * delivery, which are poisoned when it returns: what is kept past its moment is
 * seen (E3). */
static inline ikv_verdict ikvi_bus_invoke(const ikv_delivery *delivery,
                                          ikv_handler handler, void *user,
                                          const ikv_event *event)
{
#ifdef IKV_DEBUG
    const ikv_bus *b = delivery->bus;
    bus_dispatch *x = ikvi_bus_dispatch(b, b->depth - 1);
    x->scratch = *event;
    x->lent = *delivery;
    ikv_verdict verdict = handler(&x->scratch, &x->lent, user);
    ikvi_poison(&x->scratch, sizeof x->scratch);
    ikvi_poison(&x->lent, sizeof x->lent);
    return verdict;
#else
    return handler(event, delivery, user);
#endif
}

/* bus_deliver.c */
ikv_outcome ikvi_bus_deliver_with(ikv_bus *b, const ikv_event *event,
                                  const void *data, uint32_t size);
void ikvi_bus_deliver_open(ikv_bus *b);
/* Counts and reports a delivery past the depth limit: IKV_TOO_DEEP. */
ikv_status ikvi_bus_too_deep(ikv_bus *b);

#endif
