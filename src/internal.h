/* internal.h - the little that the core's modules share. */
#ifndef IKVI_INTERNAL_H
#define IKVI_INTERNAL_H

#include "ikvar/base.h"
#include "ikvar/catalogue.h"

#include <float.h>
#include <string.h>

/* The same numbers on every machine need arithmetic as the language has it:
 * docs/build.md has the options. What can't be seen here is found when a scene
 * is opened (ikvi_is_fused). */
#if defined(__FAST_MATH__) ||                                                  \
    (defined(__FINITE_MATH_ONLY__) && __FINITE_MATH_ONLY__ > 0)
#error "ikvar needs exact floating point: compile without -ffast-math"
#endif
#if FLT_EVAL_METHOD != 0
#error "ikvar needs float arithmetic in float: -fexcess-precision=fast, or SSE"
#endif

/* Two kinds of assertion. IKVI_CHECK is for our own bugs and exists in debug
 * builds only. What the caller did wrong is a status, in every build. */
#ifdef IKV_DEBUG
#define IKVI_CHECK(condition)                                                  \
    ((condition) ? (void)0 : ikvi_broken(#condition, __FILE__, __LINE__))
#else
#define IKVI_CHECK(condition) ((void)0)
#endif
void ikvi_broken(const char *condition, const char *file, int line);

#if defined(__GNUC__)
#define IKVI_LIKELY(condition)   __builtin_expect(!!(condition), 1)
#define IKVI_UNLIKELY(condition) __builtin_expect(!!(condition), 0)
#define IKVI_APART               __attribute__((noinline))
#define IKVI_FETCH(address)      __builtin_prefetch(address)
#define IKVI_INLINE              static inline __attribute__((always_inline))
#else
#define IKVI_FETCH(address) ((void)(address))
#define IKVI_APART
#define IKVI_INLINE              static inline
#define IKVI_LIKELY(condition)   (condition)
#define IKVI_UNLIKELY(condition) (condition)
#endif

/* -------------------------------------------------------------- layouts -- */

/* Lays parts out in one block. The same function that adds the parts serves
 * the footprint and the opening, so they can't disagree. */
typedef struct ikvi_layout {
    size_t size;
    bool overflow;
} ikvi_layout;

/* Adds count parts of that size, aligned to IKV_BLOCK_ALIGNMENT; gives the
 * offset from the block's start. */
size_t ikvi_layout_add(ikvi_layout *layout, size_t count, size_t size);

/* The whole size, a multiple of the alignment; 0 after an overflow. */
size_t ikvi_layout_size(const ikvi_layout *layout);

/* Takes a block of that size, zeroed. */
ikv_status ikvi_memory_take(const ikv_memory *memory, size_t size,
                            void **block);
void ikvi_memory_give(const ikv_memory *memory, void *block, size_t size);

static inline void *ikvi_at(void *block, size_t offset)
{
    return (char *)block + offset;
}

static inline uint32_t ikvi_or(uint32_t value, uint32_t fallback)
{
    return value != 0 ? value : fallback;
}

uint32_t ikvi_power_of_two(uint32_t at_least);

static inline size_t ikvi_round_up(size_t size, size_t to)
{
    return (size + to - 1) / to * to;
}

/* Use it or lose it: debug builds overwrite what is over. */
static inline void ikvi_poison(void *what, size_t size)
{
#ifdef IKV_DEBUG
    memset(what, 0xdd, size);
#else
    (void)what, (void)size;
#endif
}

/* -------------------------------------------------------------- changes -- */

/* Which of a number of places have changed since the list was emptied, each
 * once, and whether anything but the position. The arrays lie at offsets from
 * the list itself. */
typedef struct ikvi_changes {
    size_t marks, places;
    uint32_t count;
    uint32_t reserved;
} ikvi_changes;

enum {
    IKVI_HAS_MOVED = 1,
    IKVI_HAS_CHANGED = 2
};

static inline void ikvi_changes_note(ikvi_changes *changes, uint32_t place,
                                     uint8_t how)
{
    uint8_t *mark = (uint8_t *)ikvi_at(changes, changes->marks) + place;
    if (*mark == 0)
        ((uint32_t *)ikvi_at(changes, changes->places))[changes->count++] =
            place;
    *mark |= how;
}

/* -------------------------------------------------------------- handles -- */

/* A table of slots that are freed first in, first out, each with a generation.
 * A handle is slot + 1 in the low bits, generation in the rest; so zero bits
 * name nothing, and the generations get all the bits that are left.
 *
 * H1  free slots form one list from `head` to `tail` by `next`
 * H2  slots that are in use have next == IKVI_IN_USE
 * H3  used + free slots == capacity
 */
typedef struct ikvi_slot {
    uint32_t next;
    uint32_t generation;
} ikvi_slot;

typedef struct ikvi_slots {
    uint32_t capacity, bits, head, tail, used, high, wraps;
    uint32_t reserved;
    size_t slots;
    size_t floors; /* 0, or a generation for each slot: what it gets next. They
                      lie outside of images, so that none comes twice */
} ikvi_slots;

#define IKVI_NO_SLOT UINT32_MAX
#define IKVI_IN_USE  (UINT32_MAX - 1)

void ikvi_slots_open(ikvi_slots *slots, uint32_t capacity, size_t offset,
                     void *base);
/* A free slot's index, IKVI_NO_SLOT if there is none. */
uint32_t ikvi_slots_take(ikvi_slots *slots, void *base);
void ikvi_slots_give(ikvi_slots *slots, void *base, uint32_t index);
const char *ikvi_slots_validate(const ikvi_slots *slots, void *base);

static inline ikvi_slot *ikvi_slots_at(const ikvi_slots *slots, void *base,
                                       uint32_t index)
{
    return (ikvi_slot *)ikvi_at(base, slots->slots) + index;
}

static inline uint32_t ikvi_slots_bits(const ikvi_slots *slots, void *base,
                                       uint32_t index)
{
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    return slot->generation << slots->bits | (index + 1);
}

/* The slot that a handle names, IKVI_NO_SLOT if it is stale. */
static inline uint32_t ikvi_slots_find(const ikvi_slots *slots, void *base,
                                       uint32_t bits)
{
    uint32_t index = (bits & ((1u << slots->bits) - 1)) - 1;
    if (index >= slots->capacity)
        return IKVI_NO_SLOT;
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    if (slot->next != IKVI_IN_USE || slot->generation != bits >> slots->bits)
        return IKVI_NO_SLOT;
    return index;
}

/* ---------------------------------------------------------------- names -- */

/* Strings kept once each. An offset names a string; 0 is the empty one. */
typedef struct ikvi_names {
    uint32_t capacity, used, buckets;
    uint32_t reserved;
    size_t bytes, heads;
} ikvi_names;

void ikvi_names_layout(ikvi_names *names, ikvi_layout *layout,
                       uint32_t capacity);
/* Gives the string's offset, 0 if the room is used up (or it is empty). */
uint32_t ikvi_names_keep(ikvi_names *names, void *base, const char *text);
/* The offset of one that is kept already, or 0. */
uint32_t ikvi_names_find(const ikvi_names *names, void *base, const char *text);

static inline const char *ikvi_names_text(const ikvi_names *names,
                                          const void *base, uint32_t offset)
{
    return (const char *)base + names->bytes + offset;
}

/* ----------------------------------------------------------------- text -- */

/* Builds text in a buffer that may be too small: `length` goes on counting. */
typedef struct ikvi_text {
    char *buffer;
    size_t size, length;
} ikvi_text;

void ikvi_text_bytes(ikvi_text *text, const char *bytes, size_t count);
void ikvi_text_add(ikvi_text *text, const char *string);
void ikvi_text_unsigned(ikvi_text *text, uint64_t value);
void ikvi_text_signed(ikvi_text *text, int64_t value);
void ikvi_text_hex(ikvi_text *text, uint32_t value);
/* Ends the text with a zero byte; gives the length that it needs. */
size_t ikvi_text_end(ikvi_text *text);

/* Fills in a message from up to eight parts, the last of them NULL. */
void ikvi_message(ikv_message *message, const char *const *parts);

/* What a call that went well leaves: nothing. */
static inline ikv_status ikvi_fine(ikv_message *message)
{
    if (message != NULL)
        message->text[0] = '\0';
    return IKV_OK;
}

bool ikvi_same(const char *a, const char *b);

/* catalogue.c: one more than the highest number that a kind can get. */
uint32_t ikvi_catalogue_kind_limit(const ikv_catalogue *catalogue);

/* bus.c: how many places for targets there are, the root's included. */
struct ikv_bus;
uint32_t ikvi_bus_target_room(const struct ikv_bus *bus);

/* bus.c: a bus has one scene: false if it had one already. */
bool ikvi_bus_take_scene(struct ikv_bus *bus, bool takes);

/* bus.c: whether a handler runs, or what must not be disturbed. */
bool ikvi_bus_is_busy(const struct ikv_bus *bus);

/* bus.c: how many targets were removed so far. */
uint32_t ikvi_bus_removals(const struct ikv_bus *bus);

/* bus_deliver.c: whether an event of that kind at a target would be heard by
 * nobody, counting it if so: spares making one. */
bool ikvi_bus_nobody_hears_at(struct ikv_bus *bus, ikv_kind kind,
                              ikv_target target);

/* bus.c: the bits of the target at a place, 0 if there is none. */
uint32_t ikvi_bus_target_at(const struct ikv_bus *bus, uint32_t place);

/* bus_gate.c: the target's tags and body by the callbacks; all tags and itself
 * without. */
uint32_t ikvi_bus_tags(const struct ikv_bus *bus, ikv_target target);
ikv_target ikvi_bus_body(const struct ikv_bus *bus, ikv_target target);

/* bus_deliver.c: whether a subscription may hear events of that kind at the
 * target in its own visit; or at any target, or a watcher is told of it. */
bool ikvi_bus_hears(const struct ikv_bus *bus, ikv_kind kind,
                    ikv_target target);
bool ikvi_bus_hears_any(const struct ikv_bus *bus, ikv_kind kind);

/* bus_deliver.c: whether a built-in kind is heard by nobody at the root; if so
 * it is counted as delivered, and need not be. */
bool ikvi_bus_nobody_hears(struct ikv_bus *bus, ikv_kind kind);

/* Whether what is delivered from now on follows from the steps; watchers are
 * told. Returns what it was. */
bool ikvi_bus_set_scope(struct ikv_bus *bus, bool of_step);

/* bus_time.c: the steps' time that timers have come to. */
uint64_t ikvi_bus_time(const struct ikv_bus *bus);

/* bus_time.c: whether a timer, a lane or an inbox has something to deliver; and
 * whom to tell of what is taken from inboxes. */
bool ikvi_bus_awaits(const struct ikv_bus *bus);
void ikvi_bus_on_inbox(struct ikv_bus *bus,
                       void (*taken)(const ikv_event *event, uint16_t lane,
                                     void *user),
                       void *user);

float ikvi_sqrt(double value);

/* router_pad.c: dead zones of sticks. */
typedef struct ikvi_zones {
    float inner, outer;
    bool axial; /* each axis for itself, not the stick's length */
} ikvi_zones;
/* Zeros are the defaults; false if the numbers can't be used. */
extern const char ikvi_zones_fault[];
bool ikvi_zones_set(ikvi_zones *zones, float inner, float outer, bool axial);
void ikvi_stick(const ikvi_zones *zones, const float raw[2], float out[2]);

/* router_path.c: for bindings that hold somewhere. The root's parent is none,
 * its layer none: UINT32_MAX. */
struct ikv_router;
ikv_target ikvi_router_parent(const struct ikv_router *router,
                              ikv_target target);
uint32_t ikvi_router_layer(const struct ikv_router *router, ikv_target target);

/* router.c: as ikv_router_advance(); false if it could do nothing. */
bool ikvi_router_advance(struct ikv_router *router, uint64_t time_ns);

/* router.c: the routers of a loop, which share what keys are down; NULL when
 * the loop closes. */
void ikvi_router_join(struct ikv_router *router,
                      struct ikv_router *const *peers, uint32_t count);

/* router_pointer.c: the event's mouse or pen is somewhere else now: where it
 * hovered it leaves. */
void ikvi_router_elsewhere(struct ikv_router *router, const ikv_event *event);

/* router_pointer.c: whether a retest would look at anything. */
bool ikvi_router_is_stale(const struct ikv_router *router);

/* router_keys.c: the modifiers of the keys that the seat holds down. */
uint16_t ikvi_router_modifiers(const struct ikv_router *router, uint8_t seat);

/* event.c: the bit of a pointer's button in `buttons`, and of a modifier's key
 * in `modifiers`; 0 for none. */
uint8_t ikvi_button_bit(int8_t button);
uint16_t ikvi_modifier_bit(uint32_t code);

/* state.c: the part of its block that an image holds; and its identity. */
struct ikv_state;
uint64_t ikvi_state_range(const struct ikv_state *state, size_t *from,
                          size_t *to);

/* overlap.c and action.c: likewise. */
struct ikv_overlaps;
uint64_t ikvi_overlaps_range(const struct ikv_overlaps *overlaps, size_t *from,
                             size_t *to);
struct ikv_actions;
uint64_t ikvi_actions_range(const struct ikv_actions *actions, size_t *from,
                            size_t *to);

/* -------------------------------------------------------------- reports -- */

static inline void ikvi_say(const ikv_reporter *reporter, uint32_t level,
                            ikv_status status, const char *module,
                            const char *text)
{
    if (reporter->report != NULL) {
        ikv_report report = {level, status, module, text};
        reporter->report(&report, reporter->user);
    }
}

/* A report that is made once: the flag remembers. */
static inline void ikvi_say_once(bool *said, const ikv_reporter *reporter,
                                 uint32_t level, ikv_status status,
                                 const char *module, const char *text)
{
    if (!*said) {
        *said = true;
        ikvi_say(reporter, level, status, module, text);
    }
}

/* -------------------------------------------------------- what comes in -- */

/* check.c: how many bytes the code point at `text` has, one of Unicode's but
 * the zero; 0 if it is none. */
size_t ikvi_point_length(const char *text, size_t left);

/* The event's first field whose value can't be recorded and read back (a float
 * that is not finite or, of a built-in kind, beyond IKV_COORDINATE_LIMIT; text
 * that is longer than its field or not UTF-8); NULL if all can. */
const ikv_field *ikvi_event_fault(const ikv_catalogue *catalogue,
                                  const ikv_event *event);
/* The same for the kinds whose floats are a position and a motion. */
bool ikvi_pointer_is_good(const ikv_event *event);
bool ikvi_coordinate_is_good(float value);

/* Whether it has no such field; fast for what comes often. A kind that there is
 * not has no fields: what it is, is said elsewhere. */
static inline bool ikvi_event_is_good(const ikv_catalogue *catalogue,
                                      const ikv_event *event)
{
    if (event->kind <= IKV_KIND_POINTER_CANCEL && event->kind != IKV_KIND_NONE)
        return ikvi_pointer_is_good(event);
    return event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP ||
           ikvi_event_fault(catalogue, event) == NULL;
}

/* A number of a config, and what it may be, for people too. */
typedef struct ikvi_range {
    const char *member;
    uint64_t value, least, most;
} ikvi_range;

/* IKV_BAD_CONFIG, and a report of the first that is out of its range. */
ikv_status ikvi_check_ranges(const ikv_reporter *reporter, const char *module,
                             const ikvi_range *ranges, size_t count);

/* A hash of what follows a config's `size` up to `end`, all plain numbers: two
 * modules of different configs differ in it. */
uint64_t ikvi_identity(const void *config, size_t end);
uint64_t ikvi_hash(uint64_t hash, const void *bytes, size_t count);

/* catalogue.c: how many user kinds there are; a hash of the first of them. */
uint32_t ikvi_catalogue_user_kinds(const ikv_catalogue *catalogue);
uint64_t ikvi_catalogue_identity(const ikv_catalogue *catalogue,
                                 uint32_t kinds);

/* Drops what it is told: for footprints. */
extern const ikv_reporter ikvi_silent;

/* Reports what is wrong with a config, and gives the status. */
/* Whether a product and a sum are made one: then other machines' numbers are
 * other ones. */
bool ikvi_is_fused(void);

ikv_status ikvi_bad_config(const ikv_reporter *reporter, ikv_status status,
                           const char *module, const char *text);

#endif
