/* overlap_internal.h - the overlaps' inside: overlap.c opens them, keeps what
 * targets sense and runs a step; overlap_near.c finds which shapes meet;
 * overlap_contact.c makes contacts of pairs that touch, and tells of them;
 * overlap_ask.c answers what is in contact, overlap_probe.c why two are not.
 *
 * Three things that are easily mixed up: a candidate is a pair that is near
 * each other; a touch is a pair whose shapes meet; a contact is what is told
 * of, between two targets or two bodies, and lasts while touches hold it.
 *
 * Files, lowest first: overlap_contact.c, overlap_ask.c, overlap_near.c,
 * overlap_probe.c, overlap.c.
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
    uint32_t target;            /* bits of who was there last */
    uint32_t id;                /* the target's */
    uint32_t owner;             /* bits of whom `sensing` is of */
    uint32_t touches, contacts; /* heads of lists */
    uint32_t pairs;             /* head: candidate * 2 + side */
    uint32_t seen;              /* in which search */
    float x, y;                 /* in the last step, if swept */
    float step_x, step_y;       /* how far it went in the last step */
    uint32_t moved;             /* in which turn */
    uint32_t told_senses;       /* what its contacts were made by */
    uint16_t linger, told_linger;
    uint8_t scope, inside, told_scope, told_inside;
    bool swept, disabled, placed;
    bool refused; /* a contact of it, for lack of room, in this step */
} near_part;

typedef struct near_pair {
    uint32_t part[SIDES];
    uint32_t next[SIDES];
} near_pair;

/* A target in a cell, beside the sorted ones. */
typedef struct near_node {
    uint32_t part, next;
} near_node;

typedef struct overlap_grid {
    float from[2], per[2];
    float extent; /* how large parts are, about */
    uint32_t columns, rows;
    uint32_t huge_count;
    uint32_t nodes;  /* used */
    uint32_t search; /* number of the last one */
    uint32_t built_pairs;
    bool built;
    bool linked; /* candidates are in their parts' lists */
} overlap_grid;

enum {
    TOUCH_BY_SHAPE = 1,
    TOUCH_REPORTED = 2
};

/* Where each side of a touch or contact lies in a list of its own; what is next
 * is named as index * 2 + side. */
typedef struct overlap_links {
    uint32_t before[SIDES], after[SIDES];
} overlap_links;

/* A pair whose shapes meet. part[0] < part[1]. */
typedef struct overlap_touch {
    uint32_t target[SIDES]; /* bits */
    uint32_t part[SIDES];
    uint32_t contact[SIDES]; /* of the side that senses, or NO_TOUCH */
    uint32_t next_hash;
    overlap_links links;  /* in its parts' lists */
    uint32_t reported;    /* index in `reported`, if it is */
    uint32_t told;        /* the turn when it was last reported */
    uint32_t checked;     /* the turn when the shapes were last seen to meet */
    uint32_t body[SIDES]; /* by which its contacts were found */
    float at[3];
    uint8_t by;
    bool always[SIDES]; /* that side's piece wants `inside` in each step */
} overlap_touch;

/* What is told of. party[0] < party[1] by place. */
typedef struct overlap_contact {
    uint32_t party[SIDES]; /* bits */
    uint32_t place[SIDES];
    uint32_t id[SIDES];
    uint32_t body[SIDES]; /* bits */
    uint32_t next_hash;
    overlap_links links;    /* in its parties' lists */
    uint32_t pieces[SIDES]; /* touches in which that side senses */
    uint32_t since[SIDES];  /* steps, of which the low bits count */
    uint32_t due[SIDES];    /* when it will have lingered long enough */
    uint32_t always[SIDES]; /* those of them that want `inside` in each step */
    uint16_t linger[SIDES];
    uint8_t scope;
    uint8_t reason[SIDES]; /* why the last of its pieces ended in this step */
    bool entered[SIDES];   /* told so, and not of its leaving */
    bool lingers[SIDES];
    bool passed[SIDES]; /* a swept one went through in this step */
    bool pending;       /* in `changed` */
    float at[3];
    uint64_t pair_key; /* the pair that `at` is of */
} overlap_contact;

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
    uint32_t heads; /* of each hash table: a power of two */
    /* Where the arrays begin. */
    size_t parts, summaries, fats, pairs, states, cells, nodes, huge, sorted;
    size_t touches, touch_heads, contacts, contact_heads, changed, scratch;
    size_t reports, movers;
    /* What an image holds of it, with the arrays behind. */
    struct {
        ikvi_changes changes;
        uint32_t pair_count, in_count;
        uint32_t free_touch, free_contact;
        uint32_t changed_count, report_count, lingering;
        uint32_t swept_count; /* parts that are in and swept */
        bool has_reports; /* ever: of such targets the scene does not tell */
        uint32_t touches_high; /* places that were ever in use */
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
OVERLAP_ARRAY(pair_state, uint32_t, states, o->pair_room)
OVERLAP_ARRAY(cell_at, uint32_t, cells, 2 * o->cell_room)
OVERLAP_ARRAY(node_at, near_node, nodes, o->node_room)
OVERLAP_ARRAY(huge_at, uint32_t, huge, HUGE_LIMIT)
OVERLAP_ARRAY(sorted_at, uint32_t, sorted, 4 * o->capacity)
OVERLAP_ARRAY(touch_at, overlap_touch, touches, o->contact_room)
OVERLAP_ARRAY(touch_head, uint32_t, touch_heads, o->heads)
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

/* Whether the shapes' boxes meet: touching counts. How far the lower end of one
 * is beyond the upper of the other, at most: without branches, for which way it
 * goes can't be foreseen. */
static inline bool boxes_meet(const near_box *a, const near_box *b)
{
    float x = larger_of(a->low[0] + b->high[0], b->low[0] + a->high[0]);
    float y = larger_of(a->low[1] + b->high[1], b->low[1] + a->high[1]);
    return larger_of(x, y) <= 0;
}

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

/* overlap_near.c */
void ikvi_near_open(ikv_overlaps *o);
/* A part's touches have ended: its candidates must not remember them. */
void ikvi_near_forget(ikv_overlaps *o, uint32_t place);
/* Finds which touches began and ended; parts are up to date. */
void ikvi_near_find(ikv_overlaps *o);
const char *ikvi_near_validate(const ikv_overlaps *o);

/* overlap_contact.c */
/* Parts know who was there when the step began. */
static inline bool ikvi_party_alive(const ikv_overlaps *o,
                                    const overlap_contact *c, uint32_t side)
{
    if (IKVI_LIKELY(!o->s.has_reports &&
                    ikvi_bus_removals(o->bus) == o->removals))
        return part_at(o, c->place[side])->target == c->party[side];
    return ikv_bus_target_alive(o->bus, (ikv_target){c->party[side]});
}

uint32_t ikvi_touch_find(const ikv_overlaps *o, uint32_t a, uint32_t b);
/* A pair of places touches: which touch it is, NO_TOUCH if there is no room or
 * it is of no interest. `fresh`: it does not touch by shape yet. */
uint32_t ikvi_touch_begin(ikv_overlaps *o, uint32_t a, uint32_t b, uint8_t by,
                          bool fresh, const float *point);
void ikvi_touch_end(ikv_overlaps *o, uint32_t touch, uint8_t by,
                    uint8_t reason);
/* Those of shapes that were not found to meet in this turn end. */
void ikvi_touch_end_unchecked(ikv_overlaps *o);
/* A swept one went through the other. */
void ikvi_touch_pass(ikv_overlaps *o, uint32_t a, uint32_t b);
/* What a part senses, or is, has changed: its touches' contacts follow. */
void ikvi_touch_refresh(ikv_overlaps *o, uint32_t part);
/* A part's touches that are made `by` shape, report or both end. */
void ikvi_touch_end_all(ikv_overlaps *o, uint32_t part, uint8_t by,
                        uint8_t reason);
/* Reports that were not made again. */
void ikvi_touch_end_reports(ikv_overlaps *o);
void ikvi_contact_tell(ikv_overlaps *o, uint64_t time_ns);
const char *ikvi_contact_validate(const ikv_overlaps *o);

#endif
