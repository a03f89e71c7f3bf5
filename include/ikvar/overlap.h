/* ikvar/overlap.h - which shapes overlap: enter, inside, leave; and who touches
 * whom now.
 *
 * Overview
 *   A target that senses tags is told when targets that bear one of them enter
 *   its shape and leave it. Once a step, after the game's code, the scene's
 *   shapes are compared and the events delivered: first all leaves, then all
 *   enters, then, for those who subscribed to it, inside.
 *
 *       ikv_sensing berth = IKV_SENSING_INIT;
 *       berth.senses = FERRY;
 *       berth.scope = IKV_OVERLAP_OF_BODIES;  // hull and mast are one contact
 *       ikv_overlaps_sense(overlaps, target, &berth);
 *
 *       ikv_bus_hear(bus, IKV_KIND_OVERLAP_ENTER, target, moor, NULL, NULL);
 *       ...
 *       standing = ikv_overlaps_contacts(overlaps, feet, GROUND) > 0;
 *
 *   An engine with collision of its own, in 2D or 3D, reports the pairs of each
 *   step and gets the same events; it needs no scene:
 *
 *       while (my_engine_next_pair(&pair))
 *           ikv_overlaps_report(overlaps, pair.a, pair.b, pair.point);
 *
 * The rules
 *   A pair counts when one of the two senses a tag of the other, both are
 *   enabled and shown, in the same layer, and are not pieces of one body.
 *   Touching is overlapping. `hit` does not matter, nor clipping or grace. A
 *   shape of one's own (IKV_SHAPE_OWN) counts as its rectangle.
 *
 *   Who senses gets the event: it is the target, the other one the source. If
 *   both do, there are two deliveries, the second flagged IKV_MIRROR.
 *
 *   The order is that of the targets' places, as the bus hands them out; it is
 *   the same on every machine.
 *
 * Memory
 *   One block: about 110 bytes for each target, 17 for each of `pairs`, 150 for
 *   each of `contacts`.
 *
 * Threads and re-entrancy
 *   The owner's thread. Inside its handlers all but stepping, reporting and
 *   closing; what is changed there counts from the next step on. Of what is
 *   removed nothing more is told to it.
 */
#ifndef IKVAR_OVERLAP_H
#define IKVAR_OVERLAP_H

#include "scene.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_overlaps ikv_overlaps;

/* Zero is the default in brackets.
 *   targets    as in the bus's config (1,024)
 *   pairs      near each other at once (4 for each target)
 *   contacts   pairs that touch at once, and contacts of bodies (1 for each
 *              target)
 *   plain      without a list of what is near: each step compares all with all
 *              (false)
 *   bus        needed; it must outlive it
 *   scene      whose shapes are compared (none) */
typedef struct ikv_overlaps_config {
    uint32_t size;
    uint32_t targets;
    uint32_t pairs;
    uint32_t contacts;
    bool plain;
    uint8_t reserved[3];
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_overlaps_config;

#define IKV_OVERLAPS_INIT IKV_SIZED(ikv_overlaps_config)

/* Bytes that ikv_overlaps_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_overlaps_footprint(const ikv_overlaps_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, `targets` below
 * the bus's), BUSY (the scene has one already) or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_overlaps_open(const ikv_overlaps_config *config,
                                     ikv_overlaps **overlaps);

/* Before the scene is closed. NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler: then nothing is
 * closed.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_overlaps_close(ikv_overlaps *overlaps);

/* -------------------------------------------------------------- sensing -- */

/* When a target that has subscribed to overlap.inside gets it. */
enum {
    IKV_INSIDE_ALWAYS = 0, /* each step */
    IKV_INSIDE_MOVING = 1  /* each step in which one of the two has moved */
};

/* What a target senses, and how.
 *   senses   tags of others; 0: it may be sensed, but senses nobody
 *   scope    IKV_OVERLAP_OF_PIECES: a contact is of this target and each that
 *            touches it. IKV_OVERLAP_OF_BODIES: of its body and the other's,
 *            and is told to its body; any number of pieces are one contact
 *   linger   steps that they must be apart before it counts as left; of a body
 *            the longest of its pieces that came apart last
 *   inside   IKV_INSIDE_...
 *   swept    what it passes in a straight line between two steps counts as
 *            entered and left; others are where they are now
 *   disabled  it overlaps nothing */
typedef struct ikv_sensing {
    uint32_t size;
    uint32_t senses;
    uint16_t linger;
    uint8_t scope;
    uint8_t inside;
    bool swept;
    bool disabled;
    uint8_t reserved[2];
} ikv_sensing;

#define IKV_SENSING_INIT IKV_SIZED(ikv_sensing)

/* Sets what a target senses; it holds until the target is removed.
 * Returns IKV_OK, STALE, BAD_SIZE, BAD_ARGUMENT (a member out of range).
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_overlaps_sense(ikv_overlaps *overlaps, ikv_target target,
                                      const ikv_sensing *sensing);

/* What was set; all zero if nothing was, or it is stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_sensing ikv_overlaps_sensing(const ikv_overlaps *overlaps,
                                         ikv_target target);

/* Enables or disables a target: `disabled` alone is changed. Returns as
 * ikv_overlaps_sense().
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_overlaps_enable(ikv_overlaps *overlaps,
                                       ikv_target target, bool enabled);

/* A swept target was set where it is, with all that is in it, the pieces of a
 * body for instance: they have passed nothing in this step.
 * Returns IKV_OK, STALE, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(targets in it). */
IKV_API ikv_status ikv_overlaps_place(ikv_overlaps *overlaps,
                                      ikv_target target);

/* -------------------------------------------------------- own collision -- */

/* That two targets touch in this step, in any order, before the step ends:
 * what is not reported again in the next one has come apart.
 *   point  x, y and z of the contact; NULL: zeros
 * Tags and bodies are asked of the bus's callbacks; without them each target
 * bears all tags, and is its own body.
 * What is disabled or hidden touches nothing.
 * Returns IKV_OK, STALE, BAD_ARGUMENT (the same target twice), BAD_VALUE for a
 * point that is not finite or beyond 2^30, BUSY inside one of its handlers,
 * FULL_CONTACTS (it is tried again when it is reported again; of a scene, in
 * the next step).
 * About
 * Context: owner thread, inside handlers too but those of overlaps; O(1). */
IKV_API ikv_status ikv_overlaps_report(ikv_overlaps *overlaps, ikv_target a,
                                       ikv_target b, const float *point);

/* ------------------------------------------------------------- stepping -- */

/* Compares and delivers. A loop that is given the overlaps does it.
 *   step  its number, for `steps` of the events
 * Returns IKV_OK, BUSY inside one of its handlers, or BAD_ARGUMENT for NULL.
 * Context: owner thread, not inside a handler; O(what moved and what it is
 * near), and the deliveries. */
IKV_API ikv_status ikv_overlaps_step(ikv_overlaps *overlaps, uint64_t step,
                                     uint64_t time_ns);

/* -------------------------------------------------------------- queries -- */

/* A contact as one side sees it.
 *   other, other_body, other_id  who it is with; it may be gone since
 *   count   pieces that touch now; 0 while it lingers
 *   steps   since enter
 *   x, y, z  where it began; of what is reported where it was last
 *   scope   IKV_OVERLAP_OF_... */
typedef struct ikv_contact {
    ikv_target other, other_body;
    uint32_t other_id;
    uint32_t steps;
    float x, y, z;
    uint16_t count;
    uint8_t scope;
    uint8_t reserved;
} ikv_contact;

/* How many contacts a target senses now: entered, not left.
 *   tags  of others; 0: any
 * Context: owner thread, inside handlers too; O(what touches it). */
IKV_API uint32_t ikv_overlaps_contacts(const ikv_overlaps *overlaps,
                                       ikv_target target, uint32_t tags);

/* All of them, in the order in which they began.
 *   contacts  as many as there is room for are filled in; NULL: none
 * Returns how many there are, which may be more.
 * Context: owner thread, inside handlers too; O(what touches it). */
IKV_API uint32_t ikv_overlaps_list(const ikv_overlaps *overlaps,
                                   ikv_target target, uint32_t tags,
                                   ikv_contact *contacts, uint32_t room);

/* The nth of them, in the order in which they began; false past the last.
 * Context: owner thread, inside handlers too; O(what touches it). */
IKV_API bool ikv_overlaps_contact(const ikv_overlaps *overlaps,
                                  ikv_target target, uint32_t tags,
                                  uint32_t nth, ikv_contact *contact);

/* Whether a target senses another now.
 * Context: owner thread, inside handlers too; O(1), and O(what touches it) for
 * one that is gone and whose leave is not told yet. */
IKV_API bool ikv_overlaps_touches(const ikv_overlaps *overlaps,
                                  ikv_target target, ikv_target other);

/* Why two targets are not in contact: all that stands in the way, as they are
 * now and a step would find them; up to `room` of it go to `to`. In any order of
 * the two; nothing changes. Returns how many there are; 0: they touch, and a
 * step makes a contact of it.
 *   STALE     `by` is gone
 *   DISABLED, HIDDEN, PARENT_HIDDEN, NO_SHAPE   `by`, of either
 *   SENSES    neither senses a tag of the other
 *   SAME_BODY  they are pieces of `by`
 *   NOT_REPORTED  not both are in a scene, and nobody has reported them
 *   LAYER     `found` is the second one's, `wanted` the first one's
 *   APART     their shapes are, by `found` units
 * Context: owner thread, inside handlers and watchers too; O(depth). */
IKV_API uint32_t ikv_overlaps_probe(const ikv_overlaps *overlaps, ikv_target a,
                                    ikv_target b, ikv_obstacle *to,
                                    uint32_t room);

/* ------------------------------------------------------------- counting -- */

/*   targets    that can overlap now
 *   pairs, pairs_high, pairs_capacity  that are near each other now, at most,
 *              and how many there can be
 *   touching   pairs that touch; one that nobody senses any more may be
 *              counted until the pairs near each other are looked for anew
 *   contacts   of pieces or bodies
 *   contacts_capacity  how many there can be, with pairs that only touch
 *   rebuilds   of the list of pairs
 *   strays     targets that went far and were looked up again
 *   refused    contacts and reports that found no room, tried again each step
 *   scans      steps that compared all with all */
typedef struct ikv_overlaps_counts {
    uint32_t size;
    uint32_t targets;
    uint32_t pairs, pairs_high, pairs_capacity;
    uint32_t touching, contacts, contacts_capacity;
    IKV_ALIGNED(8) uint64_t rebuilds;
    IKV_ALIGNED(8) uint64_t strays;
    IKV_ALIGNED(8) uint64_t refused;
    IKV_ALIGNED(8) uint64_t scans;
} ikv_overlaps_counts;

#define IKV_OVERLAPS_COUNTS_INIT IKV_SIZED(ikv_overlaps_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_overlaps_counters(const ikv_overlaps *overlaps,
                                         ikv_overlaps_counts *counts);

/* The name of the first invariant (overlap.c and overlap_near.c list them) that
 * does not hold, NULL if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_overlaps_validate(const ikv_overlaps *overlaps);

#ifdef __cplusplus
}
#endif

#endif
