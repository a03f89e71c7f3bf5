/* bus_shared.h - what the bus offers to the modules above beyond its header. */
#ifndef IKVI_BUS_SHARED_H
#define IKVI_BUS_SHARED_H

#include "../event/saved.h"

#include "ikvar/bus.h"

/* The root: place 0, generation 0; it is never given back. */
static inline ikv_target ikvi_bus_root(void)
{
    return (ikv_target){1};
}

/* How many places for targets there are, the root's included. */
uint32_t ikvi_bus_target_room(const ikv_bus *bus);

/* A bus has one scene: false if it had one already. */
bool ikvi_bus_take_scene(ikv_bus *bus, bool takes);

/* A target of the scene's: the scene alone removes it. Nothing if it is gone, as
 * an image of the bus without the scene leaves it. */
void ikvi_bus_set_in_scene(ikv_bus *bus, ikv_target target, bool in_scene);

/* Whether a handler runs, or what must not be disturbed. */
bool ikvi_bus_is_busy(const ikv_bus *bus);

/* How many targets were removed so far. */
uint32_t ikvi_bus_removals(const ikv_bus *bus);

/* Whether an event of that kind at a target would be heard by
 * nobody, counting it if so: spares making one. */
bool ikvi_bus_nobody_hears_at(ikv_bus *bus, ikv_kind kind, ikv_target target);

/* How far along a path nobody hears events of a kind, as of so many births of
 * subscriptions. Begins as zeros. */
typedef struct ikvi_quiet {
    uint64_t births;
    uint32_t reach;
} ikvi_quiet;

/* Likewise along a path from the root to the target at `place`, of a kind that
 * is delivered to several of its targets one after the other: `quiet` keeps
 * what is known of that kind and path. `events` of them are counted. */
bool ikvi_bus_nobody_hears_along(ikv_bus *bus, ikv_kind kind,
                                 const ikv_target *path, uint32_t place,
                                 uint32_t events, ikvi_quiet *quiet);

/* The bits of the target at a place, 0 if there is none. */
uint32_t ikvi_bus_target_at(const ikv_bus *bus, uint32_t place);

/* The target's tags and body by the callbacks; all tags and itself
 * without. */
uint32_t ikvi_bus_tags(const ikv_bus *bus, ikv_target target);
ikv_target ikvi_bus_body(const ikv_bus *bus, ikv_target target);

/* Whether a subscription may hear events of that kind at the
 * target in its own visit; or at any target, or a watcher is told of it. */
bool ikvi_bus_hears(const ikv_bus *bus, ikv_kind kind, ikv_target target);
bool ikvi_bus_hears_any(const ikv_bus *bus, ikv_kind kind);

/* Whether a built-in kind is heard by nobody at the root; if so
 * it is counted as delivered, and need not be. */
bool ikvi_bus_nobody_hears(ikv_bus *bus, ikv_kind kind);

/* What an event brings along: the moves that it stands for, or a larger payload.
 * NULL for one: nothing. */
typedef struct ikvi_along {
    const ikv_event *samples;
    uint32_t count;
    const void *data;
    uint32_t data_size;
} ikvi_along;

/* Delivers what no router routes; with the `count` events that it stands for. */
ikv_outcome ikvi_bus_deliver_unrouted(ikv_bus *bus, const ikv_event *event,
                                      const ikvi_along *with);

/* Whether what is delivered from now on follows from the steps; watchers are
 * told. Returns what it was. */
bool ikvi_bus_set_scope(ikv_bus *bus, bool of_step);

/* The steps' time that timers have come to. */
uint64_t ikvi_bus_time(const ikv_bus *bus);

/* Whether a timer, a lane or an inbox has something to deliver; and
 * whom to tell of what is taken from inboxes, and before that, with no event,
 * of a flush that begins. */
bool ikvi_bus_awaits(const ikv_bus *bus);
void ikvi_bus_on_inbox(ikv_bus *bus,
                       void (*taken)(const ikv_event *event, uint16_t lane,
                                     void *user),
                       void *user);

/* Whether a delivery or a flush is under way: an image would be torn. */
bool ikvi_bus_is_delivering(const ikv_bus *bus);

/* While the past runs again, what other threads send waits. */
void ikvi_bus_hold_inboxes(ikv_bus *bus, bool holds);

/* What a tape says that another thread sent: taken at the lane's next flush,
 * before what waits in its inbox. FULL_INBOX; UNKNOWN_NAME. */
ikv_status ikvi_bus_give(ikv_bus *b, ikv_lane lane, const ikv_event *event);
/* Whether a flush has something to do. */
bool ikvi_bus_lane_waits(const ikv_bus *b, ikv_lane lane);

/* True once for each kind, and once for all that are none: for what is said of
 * a kind once. No image has it. */
bool ikvi_bus_is_first_of(ikv_bus *bus, ikv_kind kind);

/* What asking about the target at a place will need a little later. */
void ikvi_bus_fetch_target(const ikv_bus *bus, uint32_t place);

/* How many of a target's bits say which slot it has. */
uint32_t ikvi_bus_slot_bits(const ikv_bus *bus);

/* Tells watchers of a moment of the modules above, if one of them wants to know;
 * with an event, or NULL. */
void ikvi_bus_tell_moment(const ikv_bus *bus, uint32_t what,
                          const ikv_event *event);
/* The same of an event that is not let in or not delivered. */
void ikvi_bus_tell_refused(const ikv_bus *bus, const ikv_event *event,
                           ikv_status status);

/* --------------------------------------------------------------- images -- */

/* Two parts: what lies before what is in no image, and what after it. */
uint64_t ikvi_bus_saved(ikv_bus *bus, ikvi_saved to[2]);
/* The number that the next image gets. */
uint64_t ikvi_bus_next_image(const ikv_bus *bus);
void ikvi_bus_image_saved(ikv_bus *b);
bool ikvi_bus_may_restore(const ikv_bus *b, uint64_t number);
/* Before an image is copied back: what is not in it is kept. After it: what is
 * there again is not. */
void ikvi_bus_before_restore(ikv_bus *b, const char *before, const char *after);
void ikvi_bus_after_restore(ikv_bus *b, uint64_t number);
/* After an image was copied back: what has changed outside it since; `in_frame`:
 * the present one has begun. */
void ikvi_bus_restored(ikv_bus *b, bool in_frame);

#endif
