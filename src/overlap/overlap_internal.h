/* overlap_internal.h - the overlaps' inside: overlap.c opens them, keeps what
 * targets sense and runs a step; overlap_near.c finds who is near each other, and
 * overlap_meet.c whether their shapes meet; overlap_contact.c makes contacts of
 * pairs that touch, in records that overlap_record.c keeps, and overlap_tell.c
 * tells of them; overlap_ask.c answers what is in contact, overlap_probe.c why
 * two are not.
 *
 * Three things that are easily mixed up: a candidate is a pair that is near
 * each other; a touch is a pair whose shapes meet; a contact is what is told
 * of, between two targets or two bodies, and lasts while touches hold it. A
 * touch and the contact of the same two targets are one record.
 *
 * Files, lowest first: overlap_record.c, overlap_contact.c, overlap_tell.c,
 * overlap_ask.c, overlap_meet.c, overlap_near.c, overlap_probe.c, overlap.c.
 */
#ifndef IKVI_OVERLAP_INTERNAL_H
#define IKVI_OVERLAP_INTERNAL_H

#include "../bus/bus_shared.h"
#include "../event/memory.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/values.h"
#include "../scene/scene_shared.h"
#include "overlap_shared.h"

#include "ikvar/overlap.h"

#define NO_TOUCH UINT32_MAX

enum {
    CELL_LIMIT = 64,     /* in more cells it is compared with all */
    HUGE_LIMIT = 256,    /* so many of such */
    CACHED_PARTS = 2000, /* what so many need lies in the nearer caches */
    STEPS_AHEAD = 10,    /* steps that a target's margin lasts */
    DROP_STEPS = 32,     /* that are looked for where a list has a pair */
    MOVERS_AT_ONCE = 16, /* whose candidates are looked at in turns */
    MOVERS_AHEAD = 16,   /* how far ahead their lists are fetched */
    PAIRS_AHEAD = 12,    /* how far ahead who is in them is fetched */
    PAIRS_AT_ONCE = 32,  /* whose touches are fetched at once */
    SIDES = 2
};

/* near_part.flags */
enum {
    PART_IN = 1,    /* it can overlap */
    PART_PLAIN = 2, /* an unturned rectangle: its box is its shape */
    PART_SWEPT = 4,
    PART_HUGE = 8,
    PART_NEW = 16,   /* it has no place in the list yet */
    PART_MOVED = 32, /* in this step */
    PART_STRAY = 64  /* it has left its fat box */
};

/* How far it reaches; the upper ends are negative, so that one comparison of
 * four tells whether two meet. */
typedef struct near_box {
    float low[2], high[2]; /* high: negated */
} near_box;

/* What a pair needs to know of each: where it is, and whether it counts at all;
 * half a cache line. */
typedef struct near_summary {
    near_box box;
    uint32_t tags, senses, body;
    uint8_t layer, flags;
    uint16_t reserved;
} near_summary;

/* A target, by its place. */
typedef struct near_part {
    uint32_t target;      /* bits of who was there last */
    uint32_t id;          /* the target's */
    uint32_t owner;       /* bits of whom `sensing` is of */
    uint32_t contacts;    /* head of the list of what it takes part in */
    uint32_t pairs;       /* head: candidate * 2 + side */
    uint32_t seen;        /* in which search */
    float x, y;           /* in the last step, if swept */
    float step_x, step_y; /* how far it went in the last step */
    uint32_t moved;       /* in which turn */
    uint32_t told_senses; /* what its contacts were made by */
    uint16_t linger;
    uint8_t scope, inside, told_scope, told_inside;
    bool swept, disabled, placed;
    bool refused; /* a contact of it, for lack of room, in this step */
    uint16_t reserved[3];
} near_part;
_Static_assert(sizeof(near_part) == 64, "a cache line");

/* A candidate: the lower place first, and there whether the two touch; a
 * quarter of a cache line. */
typedef struct near_pair {
    uint32_t part[SIDES];
    uint32_t next[SIDES];
} near_pair;

#define PAIR_TOUCHES (UINT32_C(1) << 31) /* of part[0] */

static inline uint32_t pair_part(const near_pair *pair, uint32_t side)
{
    return pair->part[side] & ~PAIR_TOUCHES;
}

static inline bool pair_touches(const near_pair *pair)
{
    return (pair->part[0] & PAIR_TOUCHES) != 0;
}

static inline void mark_pair(near_pair *pair, bool touches)
{
    pair->part[0] = pair_part(pair, 0) | (touches ? PAIR_TOUCHES : 0);
}

/* A target in a cell, beside the sorted ones. */
typedef struct near_node {
    uint32_t part, next;
} near_node;

typedef struct overlap_grid {
    float from[2], per[2];
    float extent; /* how large parts are, about */
    uint32_t columns, rows;
    uint32_t huge_count;
    uint32_t nodes; /* behind the last one that was ever in use */
    uint32_t free_node;
    uint32_t search; /* number of the last one */
    uint32_t built_pairs;
    uint32_t free_pair, free_pairs; /* left out of the list: the first of them,
                                       by next[0], and how many */
    uint32_t moves; /* since it was last seen that no list holds */
    bool built;
    bool scanned; /* none does, and all touches are as of the last step */
    bool linked;  /* candidates are in their parts' lists */
} overlap_grid;

enum {
    TOUCH_BY_SHAPE = 1,
    TOUCH_REPORTED = 2
};

/* overlap_contact.marks */
enum {
    TOUCH_CHECKED = 1, /* seen to meet, since all are looked at */
    TOUCH_AGAIN = 2    /* reported since the last step */
};

/* Where each side lies in a list of its own; what is next is named as index * 2 +
 * side. */
typedef struct overlap_links {
    uint32_t before[SIDES], after[SIDES];
} overlap_links;

/* Two targets that touch, with what is told of them; or two bodies, with what is
 * told of those. The lower place is first. */
typedef struct overlap_contact {
    uint32_t party[SIDES]; /* bits */
    uint32_t place[SIDES];
    uint32_t next_hash;  /* of the free ones: the next free one */
    overlap_links links; /* in its parties' lists */
    uint32_t reported;   /* index in `reported`, if it is */
    union {
        uint32_t held[SIDES]; /* of targets: the contact of each side that
                                 senses, or NO_TOUCH */
        uint64_t lowest;      /* of bodies: the pair that `at` is of */
    };
    uint8_t by;         /* TOUCH_...: of targets; 0: they don't touch */
    uint8_t scope;      /* IKV_OVERLAP_OF_... */
    uint8_t marks;      /* TOUCH_CHECKED, TOUCH_AGAIN */
    bool pending;       /* in `changed` */
    bool asks[SIDES];   /* that side's piece wants `inside` in each step */
    bool turned[SIDES]; /* it is the other side of the contact that it holds */
    /* Of what is told. */
    uint32_t id[SIDES];
    uint32_t body[SIDES];   /* bits */
    uint32_t pieces[SIDES]; /* touches in which that side senses */
    uint32_t since[SIDES];  /* steps, of which the low bits count */
    uint32_t due[SIDES];    /* when it will have lingered long enough */
    uint32_t always[SIDES]; /* pieces that want `inside` in each step */
    float at[3];
    uint16_t linger[SIDES]; /* of the pieces that came apart last */
    uint8_t reason[SIDES];  /* why the last of its pieces ended in this step */
    bool entered[SIDES];    /* told so, and not of its leaving */
    bool lingers[SIDES];
    bool passed[SIDES]; /* a swept one went through in this step */
} overlap_contact;
_Static_assert(sizeof(overlap_contact) == 128, "two cache lines");

/* Something to tell, in order. */
typedef struct overlap_notice {
    uint64_t key;
    uint32_t contact;
} overlap_notice;

struct ikv_overlaps {
    const ikvi_overlaps_calls *calls; /* first: see overlap_shared.h */
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_reporter reporter;
    bool plain;
    /* Of a step, while it runs. */
    bool stepping;
    bool ended_early; /* touches, before shapes were compared */
    bool retries;     /* some part was refused a contact */
    uint32_t mover_count, stray_count;
    uint32_t removals; /* the bus's, when it began */
    uint32_t capacity, pair_room, contact_room, node_room, cell_room;
    uint32_t heads; /* of the hash table: a power of two */
    /* Where the arrays begin. */
    size_t parts, summaries, fats, pairs, cells, huge, sorted;
    size_t contacts, contact_heads, changed, scratch, reports, movers;
    /* What an image holds of it, with the arrays behind. */
    struct {
        ikvi_changes changes;
        uint32_t pair_count, in_count;
        uint32_t free_contact;
        uint32_t changed_count, report_count, lingering;
        uint32_t swept_count; /* parts that are in and swept */
        bool has_reports; /* ever: of such targets the scene does not tell */
        uint32_t contacts_high; /* records that were ever in use */
        uint32_t step;
        uint32_t turn; /* counts steps; reports come before their step */
        overlap_grid grid;
        ikv_overlaps_counts counters;
    } s;
};

#define OVERLAP_ARRAY(name, type, member, room)                                \
    static inline type *name(const ikv_overlaps *o, uint32_t index)            \
    {                                                                          \
        IKVI_CHECK(index < (room));                                            \
        return (type *)ikvi_at(o, o->member) + index;                          \
    }
OVERLAP_ARRAY(part_at, near_part, parts, o->capacity)
OVERLAP_ARRAY(summary_at, near_summary, summaries, o->capacity)
OVERLAP_ARRAY(fat_at, near_box, fats, o->capacity)
OVERLAP_ARRAY(pair_at, near_pair, pairs, o->pair_room)
OVERLAP_ARRAY(cell_at, uint32_t, cells, 2 * o->cell_room)
/* They lie behind what is sorted. */
OVERLAP_ARRAY(node_at, near_node, sorted, o->node_room)
OVERLAP_ARRAY(huge_at, uint32_t, huge, HUGE_LIMIT)
OVERLAP_ARRAY(sorted_at, uint32_t, sorted, 4 * o->capacity)
OVERLAP_ARRAY(contact_at, overlap_contact, contacts, o->contact_room)
OVERLAP_ARRAY(contact_head, uint32_t, contact_heads, o->heads)
OVERLAP_ARRAY(changed_at, overlap_notice, changed, 2 * o->contact_room)
OVERLAP_ARRAY(scratch_at, overlap_notice, scratch, o->contact_room)
OVERLAP_ARRAY(reported_at, uint32_t, reports, o->contact_room)
OVERLAP_ARRAY(mover_at, uint32_t, movers, o->capacity)
#undef OVERLAP_ARRAY

static inline near_box *box_at(const ikv_overlaps *o, uint32_t index)
{
    return &summary_at(o, index)->box;
}

static inline void note_change(ikv_overlaps *o, uint32_t place)
{
    ikvi_changes_note(&o->s.changes, place, IKVI_HAS_CHANGED);
}

/* Since the last step, or in it by a handler. */
static inline bool has_changed(const ikv_overlaps *o, uint32_t place)
{
    const uint8_t *marks = ikvi_at(&o->s.changes, o->s.changes.marks);
    return marks[place] != 0;
}

static inline bool box_lies_in(const near_box *inner, const near_box *outer)
{
    return ((inner->low[0] >= outer->low[0]) &
            (inner->low[1] >= outer->low[1]) &
            (inner->high[0] >= outer->high[0]) &
            (inner->high[1] >= outer->high[1])) != 0;
}

/* Beyond all positions. */
#define FLT_LARGEST 3.4e38f

static inline float larger_of(float a, float b)
{
    return a > b ? a : b;
}

/* Whether the shapes' boxes meet: touching counts. No lower end of one is beyond
 * the upper one of the other: all four at once, for which way it goes can't be
 * foreseen. */
#if defined(__SSE2__) && defined(__GNUC__)
typedef float box_ends __attribute__((vector_size(16)));

static inline bool boxes_meet(const near_box *a, const near_box *b)
{
    box_ends x, y;
    memcpy(&x, a, sizeof x);
    memcpy(&y, b, sizeof y);
    box_ends beyond =
        x + __builtin_ia32_shufps(y, y, 0x4e); /* halves swapped */
    return __builtin_ia32_movmskps((box_ends)(beyond <= 0)) == 15;
}
#else
static inline bool boxes_meet(const near_box *a, const near_box *b)
{
    float x = larger_of(a->low[0] + b->high[0], b->low[0] + a->high[0]);
    float y = larger_of(a->low[1] + b->high[1], b->low[1] + a->high[1]);
    return larger_of(x, y) <= 0;
}
#endif

/* O1: which of a target's tags another one senses. */
static inline uint32_t senses_tags(uint32_t senses, uint32_t tags)
{
    return senses & tags;
}

/* O1: whether one of the two senses the other. */
static inline bool either_senses(const near_summary *a, const near_summary *b)
{
    return (senses_tags(a->senses, b->tags) |
            senses_tags(b->senses, a->tags)) != 0 &&
           a->body != b->body;
}

static inline bool pair_counts(const near_summary *a, const near_summary *b)
{
    return either_senses(a, b) && a->layer == b->layer;
}

/* -------------------------------------------------------------- records -- */

/* Two targets or bodies; the lower place first, which is the order of
 * telling. */
typedef struct contact_pair {
    uint32_t party[SIDES]; /* bits */
    uint32_t place[SIDES];
} contact_pair;

static inline uint32_t pair_hash(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    /* Multiplicative hashing: the upper half of the product is spread well. */
    uint64_t key = ((uint64_t)a << 32 | b) * UINT64_C(0x9e3779b97f4a7c15);
    return (uint32_t)(key >> 32) & (o->heads - 1);
}

static inline uint32_t *head_of(const ikv_overlaps *o,
                                const uint32_t place[SIDES])
{
    return contact_head(o, pair_hash(o, place[0], place[1]));
}

/* Where the list begins that a side of a record lies in. */
static inline uint32_t *list_of(const ikv_overlaps *o, uint32_t index,
                                uint32_t side)
{
    return &part_at(o, contact_at(o, index)->place[side])->contacts;
}

static inline bool is_of_bodies(const overlap_contact *c)
{
    return c->scope == IKV_OVERLAP_OF_BODIES;
}

/* Whether something is told of it, or may be in this step; else two targets
 * only touch. */
static inline bool is_contact(const overlap_contact *c)
{
    return c->pending || c->pieces[0] + c->pieces[1] > 0 || c->entered[0] ||
           c->entered[1];
}

static inline overlap_notice notice_of(const ikv_overlaps *o, uint32_t index)
{
    const overlap_contact *c = contact_at(o, index);
    uint64_t first = c->place[0], second = c->place[1];
    return (overlap_notice){first << 32 | second << 1 | c->scope, index};
}

static inline void fetch_record(const ikv_overlaps *o, uint32_t index)
{
    if (index == NO_TOUCH)
        return;
    IKVI_FETCH(contact_at(o, index));
    IKVI_FETCH(&contact_at(o, index)->pieces);
}

static inline void fetch_linked(const ikv_overlaps *o, uint32_t at)
{
    if (at != NO_TOUCH)
        IKVI_FETCH(contact_at(o, at / 2));
}

/* Which side of the contact that it holds a touch's side is. */
static inline uint32_t side_in(const overlap_contact *t, uint32_t side)
{
    return t->turned[side] ? !side : side;
}

/* Parts know who was there when the step began. */
static inline bool ikvi_party_alive(const ikv_overlaps *o,
                                    const overlap_contact *c, uint32_t side)
{
    if (IKVI_LIKELY(!o->s.has_reports &&
                    ikvi_bus_removals(o->bus) == o->removals))
        return part_at(o, c->place[side])->target == c->party[side];
    return ikv_bus_target_alive(o->bus, (ikv_target){c->party[side]});
}

/* ---------------------------------------------------------------- files -- */

/* overlap_record.c */
/* The newest comes first. */
void ikvi_record_link(ikv_overlaps *o, uint32_t index, uint32_t side);
void ikvi_record_unlink(ikv_overlaps *o, uint32_t index, uint32_t side);
/* NO_TOUCH if there is none. */
uint32_t ikvi_record_find(const ikv_overlaps *o, const contact_pair *pair,
                          uint8_t scope);
/* NO_TOUCH if there is no room. */
uint32_t ikvi_record_make(ikv_overlaps *o, const contact_pair *pair,
                          uint8_t scope);
/* If nothing holds it any more. */
void ikvi_record_release(ikv_overlaps *o, uint32_t index);
/* Of two that are there, of pieces or of bodies: the record, or NO_TOUCH. */
uint32_t ikvi_contact_find(const ikv_overlaps *o, ikv_target one,
                           ikv_target other, uint8_t scope);
uint32_t ikvi_touch_find(const ikv_overlaps *o, uint32_t a, uint32_t b);
/* What beginning or ending a pair's touch will need: where to look for it, and
 * a little later what is found there. */
void ikvi_touch_fetch_heads(const ikv_overlaps *o, uint32_t a, uint32_t b);
void ikvi_touch_fetch(const ikv_overlaps *o, uint32_t a, uint32_t b);
const char *ikvi_contact_validate(const ikv_overlaps *o);

/* overlap_contact.c */
/* A pair of places touches: which touch it is, NO_TOUCH if there is no room or
 * it is of no interest. `fresh`: it does not touch by shape yet. */
uint32_t ikvi_touch_begin(ikv_overlaps *o, uint32_t a, uint32_t b, uint8_t by,
                          bool fresh, const float *point);
void ikvi_touch_end(ikv_overlaps *o, uint32_t touch, uint8_t by,
                    uint8_t reason);
/* The same of a pair that meets, when all are looked at: whether it touches
 * now. Then those of shapes end that were not found to meet. */
bool ikvi_touch_check(ikv_overlaps *o, uint32_t a, uint32_t b);
void ikvi_touch_end_unchecked(ikv_overlaps *o);
/* A swept one went through the other. */
void ikvi_touch_pass(ikv_overlaps *o, uint32_t a, uint32_t b);
/* What a part senses, or is, has changed: its touches' contacts follow, and
 * those by shape of which neither senses the other any more end. Whether some
 * did. */
bool ikvi_touch_refresh(ikv_overlaps *o, uint32_t part);
/* A part's touches that are made `by` shape, report or both end. */
void ikvi_touch_end_all(ikv_overlaps *o, uint32_t part, uint8_t by,
                        uint8_t reason);
/* Reports that were not made again. */
void ikvi_touch_end_reports(ikv_overlaps *o);

/* overlap_tell.c */
/* What has changed in this step, and who gets overlap.inside. */
void ikvi_contact_tell(ikv_overlaps *o, uint64_t time_ns);
/* Whether the next step tells something though nothing changes: what lingers, or
 * is inside and told so in each step. */
bool ikvi_contact_awaits(const ikv_overlaps *o);

/* overlap_meet.c */
/* Of two whose boxes meet. */
bool ikvi_shapes_meet(const ikv_overlaps *o, uint32_t a, uint32_t b);
/* O5: whether a swept one of the two went through the other in this step;
 * asked of two that don't meet. */
bool ikvi_pair_passed(const ikv_overlaps *o, uint32_t a, uint32_t b);

/* overlap_near.c */
void ikvi_near_open(ikv_overlaps *o);
/* Touches of a part have ended: its candidates must not remember them. */
void ikvi_near_forget(ikv_overlaps *o, uint32_t place);
/* Finds which touches began and ended; parts are up to date. */
void ikvi_near_find(ikv_overlaps *o);
const char *ikvi_near_validate(const ikv_overlaps *o);

#endif
