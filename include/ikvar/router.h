/* ikvar/router.h - which target a pointer or key event belongs to.
 *
 * Overview
 *   The router keeps, for each pointer, what it is over and who has captured
 *   it; and who gets the keys. From what ports push it makes the events of the
 *   open standards (W3C Pointer Events 3, UI Events): over and out, enter and
 *   leave, down, move, up, capture, click, focus. It delivers them along the
 *   path of targets. docs/routing.md has the rules.
 *
 *       // in a handler: the drag stays with this target until the release
 *       ikv_router_capture(delivery->router, event, delivery->current);
 *       return IKV_STOP;
 *
 *   It sees a scene only through ikv_picking. ikv_kit_picking() makes one of an
 *   ikv_scene; an engine with picking of its own fills in the struct.
 *
 *     queue -> loop -> router --pick--> who is there? --path--> bus -> handlers
 *
 * Memory
 *   One block; about 500 bytes for each pointer that can be down at once.
 *
 * Threads and re-entrancy
 *   The owner's thread. Capture, release, focus and the queries are made for
 *   handlers; ikv_router_route() inside a handler is refused with IKV_BUSY.
 */
#ifndef IKVAR_ROUTER_H
#define IKVAR_ROUTER_H

#include "bus.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_router ikv_router;

/* How many routers a loop can have. */
#define IKV_ROUTER_LIMIT 8

/* What the router asks of a scene. All but tab_next, layer, grip, carry, probe,
 * tab_within, toward and box are needed.
 *   pick      the nth target from the top at the query's point (base.h), 0 the
 *             topmost; zero bits past the last
 *   parent    of a target; the bus's root or zero bits for the uppermost
 *   alive     whether the target is there
 *   traits    IKV_FOCUSABLE, IKV_PASSES ... joined (base.h)
 *   to_local  the position in the target's layer and own space
 *   tab_next  the next target in Tab order, or the one before; zero bits: none
 *   revision  a number that changes when a hit test's answer, or what may have
 *             the keys, may change
 *   layer     the target's layer, for bindings that hold in one alone; NULL is
 *             fine
 *   grip      how far the point of the view is from the target's position, in
 *             its parent's space; false if that can't be said
 *   carry     moves the target so that this is its grip at that point; for
 *             ikv_router_attach()
 *   probe     why the target is not the topmost there, as ikv_scene_probe(); for
 *             ikv_router_probe()
 *   tab_within  as tab_next, among what is in a target; for modal ones, which
 *             without it have no Tab order
 *   box       left, top, right and bottom of a target in the view; false if that
 *             can't be said. For the text area that ports are asked for
 *   toward    the nearest focusable one in a direction, as ikv_scene_toward(); for
 *             ikv_router_focus_toward()
 * Whoever fills it in tells the router of removals: ikv_router_removed(). */
typedef struct ikv_picking {
    uint32_t size;
    uint32_t reserved;
    void *scene;
    ikv_target (*pick)(void *scene, const ikv_query *query, uint32_t nth);
    ikv_target (*parent)(void *scene, ikv_target target);
    bool (*alive)(void *scene, ikv_target target);
    uint32_t (*traits)(void *scene, ikv_target target);
    bool (*to_local)(void *scene, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2]);
    ikv_target (*tab_next)(void *scene, ikv_target from, bool backwards);
    uint64_t (*revision)(void *scene);
    uint32_t (*layer)(void *scene, ikv_target target);
    bool (*grip)(void *scene, ikv_target target, uint8_t view, float x, float y,
                 float grip[2]);
    bool (*carry)(void *scene, ikv_target target, uint8_t view, float x,
                  float y, const float grip[2]);
    uint32_t (*probe)(void *scene, const ikv_query *query, ikv_target target,
                      ikv_obstacle *to, uint32_t room);
    ikv_target (*tab_within)(void *scene, ikv_target within, ikv_target from,
                             bool backwards);
    ikv_target (*toward)(void *scene, ikv_target within, ikv_target from,
                         uint8_t view, uint32_t direction);
    bool (*box)(void *scene, ikv_target target, uint8_t view, float box[4]);
} ikv_picking;

#define IKV_PICKING_INIT IKV_SIZED(ikv_picking)

/* -------------------------------------------------------------- opening -- */

/* Players that share a router: each seat has a focus of its own. */
#define IKV_SEAT_LIMIT 8
/* For all seats. */
#define IKV_ALL_SEATS 255

/* Zero is the default in brackets.
 *   pointers     that can be known at once (32)
 *   keys         that can be down at once (64)
 *   slop         how far a touch or pen may move and still click; beyond it is
 *                a drag; view units (12)
 *   mouse_slop   how far a mouse moves before it is a drag (4)
 *   double_slop  how far apart two clicks of a double may be (4)
 *   hold_ns      how long a press is a hold, and a touch's long press (500 ms)
 *   double_ns    the longest time between two clicks of a double (500 ms)
 *   views        bit n: view n is its (all)
 *   view_width, view_height  of each view until a window.resize says otherwise,
 *                view units: what is pushed outside means nothing while nothing
 *                captures (0: not known, without bounds)
 *   passed       how many targets beneath one that lets events through get one,
 *                for each pointer; what is beyond is counted (16)
 *   pads         that can be known at once (8, which is the most)
 *   keep_focus   a press does not change the focus (false)
 *   no_tab       nor does Tab (false)
 *   click_after_drag  a mouse or pen that has dragged something, by
 *                ikv_router_attach() or _drag(), beyond the slop still clicks when
 *                it is released, as the standards have it (false)
 *   two_tap_alone  two fingers that are lifted as for a tap of two make no clicks:
 *                that tap alone (false)
 *   dead_zone    how far a pad's stick may be off its middle and still count as
 *                in it (0.2)
 *   full_zone    from where on it counts as all the way (0.95); in between
 *                evenly
 *   axial_zones  each axis for itself; else by the stick's length (false)
 *   bus          it must outlive the router
 *   picking      copied
 */
typedef struct ikv_router_config {
    uint32_t size;
    uint32_t pointers;
    uint32_t keys;
    float slop, mouse_slop, double_slop;
    IKV_ALIGNED(8) uint64_t hold_ns;
    IKV_ALIGNED(8) uint64_t double_ns;
    uint32_t views;
    bool keep_focus;
    bool no_tab;
    bool axial_zones;
    uint8_t pads;
    float dead_zone, full_zone;
    float view_width, view_height;
    uint32_t passed;
    bool click_after_drag;
    bool two_tap_alone;
    uint8_t reserved[2];
    ikv_bus *bus;
    ikv_picking picking;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_router_config;

#ifdef __cplusplus
extern "C++" inline ikv_router_config ikv_router_init()
{
    ikv_router_config config = IKV_SIZED(ikv_router_config);
    config.picking = IKV_PICKING_INIT;
    return config;
}
#define IKV_ROUTER_INIT ikv_router_init()
#else
#define IKV_ROUTER_INIT                                                        \
    {                                                                          \
        .size = sizeof(ikv_router_config), .picking = IKV_PICKING_INIT         \
    }
#endif

/* Bytes that ikv_router_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_router_footprint(const ikv_router_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, or the picking
 * lacks a function) or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_router_open(const ikv_router_config *config,
                                   ikv_router **router);

/* NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler: then nothing is
 * closed.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_router_close(ikv_router *router);

/* -------------------------------------------------------------- routing -- */

/* Routes one event that a port pushed: pointer events to what is there, keys
 * and text to the focused target of their seat, all else to its target or the
 * root. What is due before it (holds) is sent first. When a window loses the
 * focus or a device goes, what they hold down is released first, flagged
 * synthetic.
 * Returns what came of the event itself; status IKV_OK; BAD_ARGUMENT for NULL;
 * UNKNOWN_KIND; BAD_VALUE for what ikv_sink_push() refuses; FULL_POINTERS,
 * FULL_KEYS, FULL_PADS; ABSENT for an event that means nothing (a contact or
 * key that is not down ends or moves, a button is released that is not down),
 * BUSY inside a handler. All of these are counted. Cost: one hit test, and the
 * handlers.
 * Context: owner thread, not inside a handler; one hit test, and the
 * deliveries. */
IKV_API ikv_outcome ikv_router_route(ikv_router *router,
                                     const ikv_event *event);

/* Sends what is due up to a time: holds and long presses. The loop calls it at
 * each step's end. O(1) if no press waits for its hold.
 * Context: owner thread, not inside a handler; O(pointers) for each hold
 * that is due. */
IKV_API void ikv_router_advance(ikv_router *router, uint64_t time_ns);

/* When the next press that waits for its hold gets it; UINT64_MAX if none does.
 * Context: owner thread, inside handlers too; O(pointers) if a press waits
 * for its hold, else O(1). */
IKV_API uint64_t ikv_router_next_hold(const ikv_router *router);

/* Ends, flagged synthetic, what a window that has lost the focus or a device
 * that is gone still holds down: keys by up, pointers by cancel. `cause` is
 * the window.blur or device.remove; routing it does this too. For routers that
 * share a loop and do not route it.
 * Context: owner thread, not inside a handler; O(pointers + keys), and the
 * deliveries. */
IKV_API void ikv_router_release_all(ikv_router *router, const ikv_event *cause);

/* After events of a device were lost: ends, flagged synthetic, what of it is
 * down and not among the held ones (keys and pads' buttons by up, pointers by
 * cancel); a pad's axes are 0 until they are told anew.
 *   cause  a device.resync
 *   held   downs, as a port's held() gives them
 * Context: owner thread, not inside a handler; O(pointers + keys), and the
 * deliveries. */
IKV_API void ikv_router_resync(ikv_router *router, const ikv_event *cause,
                               const ikv_event *held, uint32_t count);

/* Whether that key is down, or that button of that pointer or pad.
 *   down  a key's, pointer's or pad's event; any other: false
 * Context: owner thread, inside handlers too; O(pointers + keys). */
IKV_API bool ikv_router_is_down(const ikv_router *router,
                                const ikv_event *down);

/* Routes an event that was merged from several, which handlers then see as the
 * delivery's samples. Returns as ikv_router_route().
 * Context: owner thread, not inside a handler; one hit test, and the
 * deliveries. */
IKV_API ikv_outcome ikv_router_route_merged(ikv_router *router,
                                            const ikv_event *event,
                                            const ikv_event *samples,
                                            uint32_t count);

/* How long a press of a seat, or of each (IKV_ALL_SEATS), is a hold, and how long
 * two clicks may be apart as a double one: for players who need longer. From the
 * next press on, in whole microseconds, no longer than an hour. 0: as the config says.
 * Returns IKV_OK or BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(seats). */
IKV_API ikv_status ikv_router_set_times(ikv_router *router, uint8_t seat,
                                        uint64_t hold_ns, uint64_t double_ns);

/* Routes an event with a larger payload, which its handlers get as
 * delivery->data: `size` bytes, valid for the call; NULL and 0: none.
 * Returns as ikv_router_route().
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API ikv_outcome ikv_router_route_data(ikv_router *router,
                                          const ikv_event *event,
                                          const void *data, uint32_t size);

/* Whether a view is the router's; and whether it has that event's pointer or key
 * down, or knows its pad: then the event is its, whatever the view.
 * Context: owner thread, inside handlers too; O(pointers + keys). */
IKV_API bool ikv_router_serves(const ikv_router *router, uint8_t view);
IKV_API bool ikv_router_holds(const ikv_router *router, const ikv_event *event);

/* Tests again what resting mice and pens are over, if the scene has changed
 * since; boundary events alone follow. The loop calls it as each step begins.
 * Cost: one hit test a mouse, after a change.
 * Context: owner thread, not inside a handler; O(1) if the scene is as it
 * was, else a hit test for each resting pointer. */
IKV_API void ikv_router_retest(ikv_router *router, uint64_t time_ns);

/* A target is gone; former_parent is the nearest ancestor that is left.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API void ikv_router_removed(ikv_router *router, ikv_target target,
                                ikv_target former_parent);

/* Told of each event that the router has delivered, and what came of it (of
 * boundary events those that somebody may have heard); inside routing, so it
 * must not route. One; NULL takes it away.
 *   passed  to what lies beneath a target that lets events through
 * Context: owner thread, inside handlers too; O(1). */
typedef void (*ikv_router_follower)(void *user, ikv_router *router,
                                    const ikv_event *event, ikv_outcome outcome,
                                    bool passed);
IKV_API void ikv_router_set_follower(ikv_router *router,
                                     ikv_router_follower follower, void *user);

/* -------------------------------------------------------------- capture -- */

/* From the pointer's next event on all its events belong to the target, until
 * its last button or contact is released. See Pointer Events 3, section 10.
 *   event  one of that pointer's, as given to the handler
 * Returns IKV_OK; ABSENT if no button is pressed (nothing happens); STALE for
 * the target; BAD_ARGUMENT if the event's pointer is not known.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_status ikv_router_capture(ikv_router *router,
                                      const ikv_event *event,
                                      ikv_target target);

/* Captures the pointer, and the target follows it: each move and the release
 * put it where it was taken, before their handlers run, under any camera, until
 * the capture ends. A handler may move it elsewhere (onto a grid, say); the
 * next move counts from where it was taken all the same.
 * Returns as ikv_router_capture(); ABSENT also if the target has no place
 * there, or the picking has no grip() and carry().
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_status ikv_router_attach(ikv_router *router, const ikv_event *event,
                                     ikv_target target);

/* Captures the pointer to drag the target onto others. From the move on that goes
 * beyond the slop, after each move: what lies beneath, without the body that is
 * dragged, is told drag.enter when it is come upon, drag.over, and drag.leave;
 * what is dragged is their `source`. The verdict IKV_ACCEPT of a handler of enter
 * or over lets it be dropped there. When the pointer is released, drag.drop is
 * told to who has accepted it, or drag.leave, and drag.end to what was dragged,
 * which says so (`accepted`, and on what in `source`). A cancel, or another's
 * capture, ends it likewise, without a drop. The target does not follow by
 * itself: ikv_router_attach() does that, too. After HTML's drag and drop.
 * Returns as ikv_router_capture().
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_status ikv_router_drag(ikv_router *router, const ikv_event *event,
                                   ikv_target target);

/* Ends a capture by that target at the pointer's next event.
 * Returns IKV_OK, ABSENT if the target has not captured it, BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_status ikv_router_release(ikv_router *router,
                                      const ikv_event *event,
                                      ikv_target target);

/* Whether the target has captured the pointer, or will have at its next
 * event.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API bool ikv_router_has_capture(const ikv_router *router,
                                    const ikv_event *event, ikv_target target);

/* What the pointer is over now, the root too; zero bits: it is not known, or in
 * no view.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_target ikv_router_over(const ikv_router *router, uint16_t device,
                                   uint16_t pointer);

/* Cancels, flagged synthetic and in the order of their downs, all presses of a
 * seat's pointers: for a change of level, or a cut. No clicks follow; a button or
 * finger that is still down is nothing until it is down again. Keys stay down.
 * Inside a handler it is done when what is routed has been told.
 * Returns IKV_OK, or BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(pointers), and the deliveries. */
IKV_API ikv_status ikv_router_cancel_all(ikv_router *router, uint8_t seat);

/* What the router knows of a pointer.
 *   over      what it is over, the root too; zero bits: it is in no view
 *   captured  who has captured it, zero bits: nobody
 *   pressed   what its press was on, zero bits: it is not down
 *   dragging  what it drags onto others, and drag_over what that is over, which
 *             drag_accepts it or not; zero bits: nothing */
typedef struct ikv_routed_pointer {
    uint32_t size;
    uint16_t device, pointer;
    uint8_t type, view, seat;
    bool primary;
    uint16_t buttons;
    uint16_t reserved;
    float x, y;
    ikv_target over, captured, pressed;
    ikv_target dragging, drag_over;
    bool drag_accepts;
    uint8_t reserved2[3];
} ikv_routed_pointer;

#define IKV_ROUTED_POINTER_INIT IKV_SIZED(ikv_routed_pointer)

/* The nth pointer that is known, from 0 on, in no order; `to` began as its INIT.
 * False past the last, and if its size is another.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API bool ikv_router_pointer(const ikv_router *router, uint32_t nth,
                                ikv_routed_pointer *to);

/* ---------------------------------------------------------------- focus -- */

/* Gives a seat's keys to a target: focus.out at the old one, focus.in at it, at
 * once. Returns IKV_OK; ABSENT if it has them already, is not focusable or is
 * hidden;
 * STALE; BAD_ARGUMENT for a seat past IKV_SEAT_LIMIT.
 * Context: owner thread, inside handlers too; O(1), and the deliveries. */
IKV_API ikv_status ikv_router_focus(ikv_router *router, uint8_t seat,
                                    ikv_target target);

/* Takes a seat's keys away: they go to the root. IKV_OK, ABSENT if nobody had
 * them, or BAD_ARGUMENT for NULL or a seat past IKV_SEAT_LIMIT.
 * Context: owner thread, inside handlers too; O(1), and the deliveries. */
IKV_API ikv_status ikv_router_blur(ikv_router *router, uint8_t seat);

/* Gives a seat's keys to the nearest focusable target in a direction from the one
 * that has them, in the view of what was routed last; within what is modal. For
 * pads and arrow keys; ikv_scene_toward() has what is nearest.
 *
 *     ikv_router_focus_toward(router, event->seat, IKV_TOWARD_DOWN);
 *
 * Returns IKV_OK; ABSENT if there is none that way; BAD_ARGUMENT for a seat past
 * IKV_SEAT_LIMIT or an unknown direction; NEEDS_CALLBACK if the picking has no
 * toward().
 * Context: owner thread, inside handlers too; O(targets), and the deliveries. */
IKV_API ikv_status ikv_router_focus_toward(ikv_router *router, uint8_t seat,
                                           uint32_t direction);

/* ---------------------------------------------------------------- modal -- */

/* How many targets can be modal at once, those of all seats together. */
#define IKV_MODAL_LIMIT 8

/* Makes a target modal for a seat: a menu, a question. From now on the seat's
 * pointers, wheel, keys and Tab stay in what it holds; all else is looked
 * through, but for targets that are marked as IKV_STAYS_LIVE, with what is in
 * them. What happens beside it goes to the modal target itself, flagged
 * IKV_OUTSIDE, so that it can close; keys that nobody has the focus for go to it
 * too. The root's handlers hear all by its path, as ever.
 *   What is going on outside is cancelled, as by ikv_router_cancel_all(); actions
 *   that are bound within targets outside end.
 *   The focus goes to the first target in it by Tab, and back when it ends.
 *   One that is set while another is modal lies above it; when it has ended, is
 *   removed or hidden, the one beneath is in effect again.
 *   target  zero bits: ends the one that is in effect
 *
 *     ikv_router_set_modal(router, event->seat, menu);
 *     ...
 *     ikv_router_set_modal(router, event->seat, (ikv_target){0});
 *
 * Returns IKV_OK; ABSENT if it is in effect already, is hidden or the root, or
 * if there is none to end; STALE; FULL_MODALS; BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(pointers), and the deliveries. */
IKV_API ikv_status ikv_router_set_modal(ikv_router *router, uint8_t seat,
                                        ikv_target target);

/* What is modal for the seat now; zero bits: nothing.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_target ikv_router_modal(const ikv_router *router, uint8_t seat);

/* ------------------------------------------------------------------ why -- */

/* What keeps an event that this router delivers from going to the target or by
 * it, in the order in which it stands in the way; up to `room` of it go to `to`.
 * Nothing changes.
 *   event  as it is delivered: asked in a watcher or handler of it, or at its
 *          moment
 * Returns how many there are; 0: the event comes by.
 *   STALE     the target is gone
 *   CAPTURED  another target has captured the pointer: `by`
 *   MODAL     another target is modal: `by`
 *   of the scene, as ikv_scene_probe(): where the pointer is, something else is
 *             the topmost; PATH, with whom is picked, if the picking has no
 *             `probe`
 *   FOCUS     keys and text go to another target, the root if nobody has the
 *             focus: `by`
 *   PATH      it has no position, and goes elsewhere: `by`
 * Context: owner thread, inside handlers and watchers too; O(depth), and a hit
 * test. */
IKV_API uint32_t ikv_router_probe(const ikv_router *router,
                                  const ikv_event *event, ikv_target target,
                                  ikv_obstacle *to, uint32_t room);

/* Who gets the seat's keys; zero bits: nobody, that is what is modal or the
 * root.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_target ikv_router_focused(const ikv_router *router, uint8_t seat);

/* Whether what the seat types goes into a target that takes text.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_router_takes_text(const ikv_router *router, uint8_t seat);

/* ------------------------------------------------------------- counting -- */

/*   routed    events routed
 *   refused   events that were not, by reason in the order of
 *             ikv_router_route(): not finite, too many pointers, meaningless
 *   busy      calls inside handlers
 *   too_many_keys  keys that went down while `keys` others were
 *   not_passed  events that were passed to as many as `passed` allows, with
 *               more beneath
 *   outside   events outside the view that meant nothing
 *   downs_outside, ups_outside  among them, of a pointer's first press and last
 *             release, or its loss
 *   pointers, pointers_high, pointers_capacity  known now, at most, and how
 *             many there can be
 *   pointers_down  of them with a button down */
typedef struct ikv_router_counts {
    uint32_t size;
    uint32_t pointers, pointers_high, pointers_capacity;
    uint32_t pointers_down;
    uint32_t reserved;
    IKV_ALIGNED(8) uint64_t routed;
    IKV_ALIGNED(8) uint64_t not_finite;
    IKV_ALIGNED(8) uint64_t too_many;
    IKV_ALIGNED(8) uint64_t meaningless;
    IKV_ALIGNED(8) uint64_t busy;
    IKV_ALIGNED(8) uint64_t too_many_keys;
    IKV_ALIGNED(8) uint64_t not_passed;
    IKV_ALIGNED(8) uint64_t outside;
    IKV_ALIGNED(8) uint64_t downs_outside;
    IKV_ALIGNED(8) uint64_t ups_outside;
} ikv_router_counts;

#define IKV_ROUTER_COUNTS_INIT IKV_SIZED(ikv_router_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(pointers). */
IKV_API ikv_status ikv_router_counters(const ikv_router *router,
                                       ikv_router_counts *counts);

/* The name of the first invariant (router.c lists them) that does not hold,
 * NULL if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_router_validate(const ikv_router *router);

#ifdef __cplusplus
}
#endif

#endif
