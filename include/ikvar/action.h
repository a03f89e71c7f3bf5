/* ikvar/action.h - named actions of the game, and the bindings that cause them.
 *
 * Overview
 *   An action is what the game understands: "foghorn". A binding is one
 *   physical way to cause it: a key, a chord, a button, a tap, a stick. Game
 *   code hears action.start, action.hold and action.end, or asks; players may
 *   rebind as they like.
 *
 *       ikv_actions_add(actions, IKV_MAIN_SET, "foghorn", &foghorn);
 *       ikv_actions_bind(actions, foghorn, "KeyF", NULL, NULL);
 *       ikv_actions_bind(actions, foghorn, "pointer.secondary", NULL, NULL);
 *       ikv_actions_bind(actions, foghorn, "gesture.two_tap", NULL, NULL);
 *
 *       ikv_bus_hear(bus, IKV_KIND_ACTION_START, none, sound, horn, NULL);
 *
 *   An action starts when the first of its bindings is satisfied and ends when
 *   none is any more. Its events are delivered to the target that the input
 *   went to, and bubble; the delivery's `cause` is the input that started it,
 *   from the start to the end.
 *
 * The text of a binding
 *   Names joined by "+" are a chord: all of them are held, the last one is
 *   pressed last. Of the chords that one press satisfies the longest win.
 *   Names joined by "|" are an axis: two of them for -1 and 1, four for left,
 *   right, up and down.
 *
 *       KeyW              a key by its W3C code; key.any is any key
 *       Shift, Control, Alt, Meta   the modifier on either side
 *       pointer.primary, .middle, .secondary, .back, .forward, .eraser  buttons
 *       pointer.6 ... pointer.15  further buttons
 *       pointer.click, pointer.double, pointer.hold, gesture.two_tap
 *       pointer.move      motion: x and y
 *       wheel.up, wheel.down, wheel.left, wheel.right
 *       pad.0 ... pad.31  buttons, 0 to 16 of W3C Gamepad's standard mapping
 *       pad.axis0 ... pad.axis15  an axis; with + or - one half of it
 *       pad.left, pad.right       a stick: x and y
 *
 *       Control+Shift+KeyS    KeyA|KeyD    KeyA|KeyD|KeyW|KeyS    pad.axis1-
 *
 * What is passed over
 *   Input that a handler stopped, and what is typed into a target that takes
 *   text. Releases always count.
 *
 * Memory
 *   One block: about 100 bytes for each binding and 200 for each action, times
 *   seats.
 *
 * Threads and re-entrancy
 *   The owner's thread. Everything may be called inside handlers, those of the
 *   action itself too.
 */
#ifndef IKVAR_ACTION_H
#define IKVAR_ACTION_H

#include "router.h"
#include "state.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_actions ikv_actions;

/* An action; its bits are what events carry as `action`. */
typedef struct ikv_action_id {
    uint32_t bits;
} ikv_action_id;

typedef struct ikv_binding {
    uint32_t bits;
} ikv_binding;

/* Actions that are switched on and off together; the first is always there. */
typedef uint16_t ikv_action_set;
enum {
    IKV_MAIN_SET = 0
};

/* Zero is the default in brackets.
 *   actions     at once (64)
 *   bindings    of all actions (256; at most 65,535)
 *   sets        beside the main one (15)
 *   seats       players who are told apart (1; up to 8); others count as the
 *               last one, in events and in calls
 *   name_bytes  for names of actions and sets (4,096)
 *   bus, state  needed; they must outlive it */
typedef struct ikv_actions_config {
    uint32_t size;
    uint32_t actions;
    uint32_t bindings;
    uint32_t sets;
    uint32_t seats;
    uint32_t name_bytes;
    ikv_bus *bus;
    ikv_state *state;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_actions_config;

#define IKV_ACTIONS_INIT IKV_SIZED(ikv_actions_config)

/* Bytes that ikv_actions_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_actions_footprint(const ikv_actions_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus or no state, a
 * capacity that is too large) or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_actions_open(const ikv_actions_config *config,
                                    ikv_actions **actions);

/* NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler: then nothing is
 * closed.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_actions_close(ikv_actions *actions);

/* -------------------------------------------------- sets and actions -- */

/* Makes a set, which is on for all seats. Returns IKV_OK, BAD_ARGUMENT,
 * DUPLICATE, FULL_SETS or FULL_NAMES.
 * Context: owner thread, inside handlers too; O(sets). */
IKV_API ikv_status ikv_actions_add_set(ikv_actions *actions, const char *name,
                                       ikv_action_set *set);

/* The set of that name ("" is the main one). Returns IKV_OK, UNKNOWN_NAME, or
 * BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(sets). */
IKV_API ikv_status ikv_actions_find_set(const ikv_actions *actions,
                                        const char *name, ikv_action_set *set);

/* The set's name, "" for the main one, NULL past the last.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API const char *ikv_actions_set_name(const ikv_actions *actions,
                                         ikv_action_set set);

/* Switches a set on or off for a seat, or IKV_ALL_SEATS. Switching off ends
 * what is held, at once, flagged synthetic; what is pressed when it is switched
 * on starts with its next press: the press whose start's handler switches it on,
 * too. (Handlers of the press itself come before: for them it counts.)
 * Returns IKV_OK, UNKNOWN_NAME (no such set), BAD_ARGUMENT (the seat).
 * Context: owner thread, inside handlers too; O(bindings of the set). */
IKV_API ikv_status ikv_actions_switch(ikv_actions *actions, ikv_action_set set,
                                      uint8_t seat, bool on);
IKV_API bool ikv_actions_is_on(const ikv_actions *actions, ikv_action_set set,
                               uint8_t seat);

/* Starts what is held already of a set that is on, flagged synthetic, as if it
 * were pressed now: boarding with W held. Not what was over in a moment (clicks,
 * wheels), nor what holds where the input went alone; in a handler of a start
 * not the press that started it. The longest chords come first, then what was
 * bound first.
 * Returns as ikv_actions_switch().
 * Context: owner thread, inside handlers too; O(bindings) for each that starts,
 * and the deliveries. */
IKV_API ikv_status ikv_actions_start_held(ikv_actions *actions,
                                          ikv_action_set set, uint8_t seat);

/* How many sets can be pushed at once, those of all seats together. */
#define IKV_PUSH_LIMIT 32

/* Puts a set on top for a seat, or IKV_ALL_SEATS: a menu's. It is on, and all
 * others are off until it is popped, unless it joins: then what lies beneath is on
 * as well. What is held of the others ends, at once, flagged synthetic.
 *   Whatever was switched on and off, meanwhile too, is so again beneath it. One
 * key may open a menu and close it: see ikv_actions_switch().
 *
 *     ikv_actions_push(actions, menu_set, event->seat, false);
 *     ...
 *     ikv_actions_pop(actions, event->seat);
 *     ikv_actions_start_held(actions, walk_set, event->seat); // or press anew
 *
 * Returns IKV_OK, UNKNOWN_NAME (no such set), BAD_ARGUMENT (the seat),
 * FULL_PUSHED.
 * Context: owner thread, inside handlers too; O(bindings that are held), and
 * the deliveries. */
IKV_API ikv_status ikv_actions_push(ikv_actions *actions, ikv_action_set set,
                                    uint8_t seat, bool joins);

/* Takes what was pushed last for a seat, or for each, off again; what is held of
 * it ends. Returns IKV_OK, ABSENT if nothing was pushed, or BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(bindings that are held), and
 * the deliveries. */
IKV_API ikv_status ikv_actions_pop(ikv_actions *actions, uint8_t seat);

/* The nth set that is pushed for a seat, from the top down. IKV_OK, ABSENT past
 * the last, or BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_pushed(const ikv_actions *actions, uint8_t seat,
                                      uint32_t nth, ikv_action_set *set);

/* Adds an action. Returns IKV_OK, BAD_ARGUMENT (no name), UNKNOWN_NAME (no such
 * set), DUPLICATE, FULL_ACTIONS, FULL_NAMES.
 * Context: owner thread, inside handlers too; O(actions). */
IKV_API ikv_status ikv_actions_add(ikv_actions *actions, ikv_action_set set,
                                   const char *name, ikv_action_id *action);

/* Removes an action with its bindings; if it is held it ends first. The room of
 * its name is used again. IKV_OK, or ABSENT if it is gone already.
 * Context: owner thread, inside handlers too; O(its bindings). */
IKV_API ikv_status ikv_actions_remove(ikv_actions *actions,
                                      ikv_action_id action);

/* The action of that name, zero bits if none; its name, NULL if it is gone; its
 * set.
 * Context: owner thread, inside handlers too; O(actions). */
IKV_API ikv_action_id ikv_actions_find(const ikv_actions *actions,
                                       const char *name);
IKV_API const char *ikv_actions_name(const ikv_actions *actions,
                                     ikv_action_id action);
IKV_API ikv_action_set ikv_actions_set_of(const ikv_actions *actions,
                                          ikv_action_id action);

/* Whether presses toggle an action, for a seat or IKV_ALL_SEATS: one starts it,
 * also when it is let go, and the next one ends it; else it is on while it is
 * held. For players who can't hold, or would not. What is left on so ends with its
 * set, its device, or when it toggles no more. Returns IKV_OK, STALE,
 * BAD_ARGUMENT (no such seat). And whether they do.
 * Context: owner thread, inside handlers too; O(held), and the deliveries. */
IKV_API ikv_status ikv_actions_set_toggle(ikv_actions *actions,
                                          ikv_action_id action, uint8_t seat,
                                          bool toggles);
IKV_API bool ikv_actions_toggles(const ikv_actions *actions,
                                 ikv_action_id action, uint8_t seat);

/* When what a seat, or each (IKV_ALL_SEATS), holds repeats: its action.hold is
 * flagged IKV_REPEAT in the step that is so long after its start, and then every
 * so often; once a step at most. For moving on in a menu while a stick is held.
 *   after_ns  0: never
 *   every_ns  0: once
 * Returns IKV_OK, BAD_ARGUMENT (no such seat).
 * Context: owner thread, inside handlers too; O(seats). */
IKV_API ikv_status ikv_actions_set_repeat(ikv_actions *actions, uint8_t seat,
                                          uint64_t after_ns, uint64_t every_ns);

/* The nth action, from 0 on; zero bits past the last.
 * Context: owner thread, inside handlers too; O(actions). */
IKV_API ikv_action_id ikv_actions_list(const ikv_actions *actions,
                                       uint32_t nth);

/* ------------------------------------------------------------- bindings -- */

/* Where a binding holds.
 *   ANYWHERE
 *   WITHIN     the input went to `target` or to what is beneath it in the tree
 *   IN_LAYER   the input went to a target of `layer`; needs picking.layer
 *              What is over nothing is in layer 0, the lowest
 *   FOCUSED    the seat's focus is on `target` or beneath it; without a target:
 *              on anything
 *   ON_BODY    the input went to a piece of the body `target`, or to itself
 *   TAGGED     the input went to a target with one of the tags whose bits are
 *              `layer` here */
enum {
    IKV_ANYWHERE = 0,
    IKV_WITHIN = 1,
    IKV_IN_LAYER = 2,
    IKV_FOCUSED = 3,
    IKV_ON_BODY = 4,
    IKV_TAGGED = 5
};

/* And, of pointer.stick alone, how the finger steers.
 *   radius     view units to where the stick is at its end; 0: half the smaller
 *              side of the scope's target, or 64 where there is none
 *   dead_zone  part of the radius that counts as the middle; 0: a tenth
 *   floating   the stick's middle is where the finger goes down; else that of
 *              the scope's target (WITHIN, ON_BODY), where there is one */
typedef struct ikv_scope {
    uint32_t where;
    uint32_t layer;
    ikv_target target;
    float radius;
    float dead_zone;
    bool floating;
    uint8_t reserved[3];
} ikv_scope;

/* Binds an action.
 *   text     as above
 *   scope    copied; NULL: anywhere
 *   binding  gets the handle; may be NULL
 * Returns IKV_OK, STALE (the action), FULL_BINDINGS, BAD_ARGUMENT (the scope),
 * or as ikv_binding_check() for the text, which says what is wrong.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_bind(ikv_actions *actions, ikv_action_id action,
                                    const char *text, const ikv_scope *scope,
                                    ikv_binding *binding);

/* Whether a text is a binding: IKV_OK, or BAD_VALUE; `message` then says at
 * which character, what was found and what is expected. May be NULL.
 * BAD_ARGUMENT without a text.
 * Context: any thread; O(parts). */
IKV_API ikv_status ikv_binding_check(const char *text, ikv_message *message);

/* Removes a binding; if it holds its action, and no other does, that ends.
 * IKV_OK, or ABSENT if it is gone already.
 * Context: owner thread, inside handlers too; O(its bindings). */
IKV_API ikv_status ikv_actions_unbind(ikv_actions *actions,
                                      ikv_binding binding);

/* All of an action's bindings. IKV_OK, STALE, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(its bindings). */
IKV_API ikv_status ikv_actions_unbind_all(ikv_actions *actions,
                                          ikv_action_id action);

/* The nth binding of an action, in the order of binding; zero bits past the
 * last.
 * Context: owner thread, inside handlers too; O(bindings). */
IKV_API ikv_binding ikv_actions_binding(const ikv_actions *actions,
                                        ikv_action_id action, uint32_t nth);

/* Why a press does not start a binding: all that stands in the way, in its
 * order; up to `room` of it go to `to`. Nothing changes.
 *   event  that was pressed: of a watcher's PRESS, or like one that may come,
 *          which nobody has stopped, in the first router's scene
 * Returns how many there are; 0: it starts.
 *   UNBOUND   the binding is gone
 *   OTHER_INPUT  the press is nothing that the binding waits for: then nothing
 *             else is asked
 *   CLAIMED   a handler stopped it, or it was typed into `by`, where it went
 *   ON        it is satisfied already
 *   SET_OFF   the set `name` is switched off for the seat
 *   SCOPE     it is not where it must be: `nth` is IKV_WITHIN or IKV_FOCUSED with
 *             `by`, or IKV_IN_LAYER with `wanted`
 *   NOT_HELD  the chord's part `nth`, counted from 1, is not held
 *   WEAK      a stick, trigger or axis is at `found` only
 *   LONGER    a chord of `found` parts has it, of the action `name`
 * Context: owner thread, inside handlers and watchers too; O(bindings with that
 * trigger, depth). */
IKV_API uint32_t ikv_actions_probe(const ikv_actions *actions,
                                   ikv_binding binding, const ikv_event *event,
                                   ikv_obstacle *to, uint32_t room);

/* The binding that an action's event names; zero bits if it is gone.
 * Context: owner thread, inside handlers too; O(bindings). */
IKV_API ikv_binding ikv_actions_binding_of(const ikv_actions *actions,
                                           const ikv_event *event);

/* What a binding binds, and where it holds; zeros if it is gone.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_action_id ikv_binding_action(const ikv_actions *actions,
                                         ikv_binding binding);
IKV_API ikv_scope ikv_binding_scope(const ikv_actions *actions,
                                    ikv_binding binding);

/* The binding's text in its usual form, cut to size - 1 bytes and ended by a
 * zero byte. Returns its length, 0 if it is gone.
 * Context: owner thread, inside handlers too; O(1). */
#define IKV_BINDING_BYTES 128
IKV_API size_t ikv_binding_text(const ikv_actions *actions, ikv_binding binding,
                                char *buffer, size_t size);

/* Bindings of other actions that the same press would satisfy, as long, in the
 * same scope or in one without bounds: the first `room` of them go to `list`.
 * They are of any set: compare ikv_actions_set_of().
 *   text   a binding that may become one of `action`
 * Returns how many there are; 0 for a text that is no binding.
 * Context: owner thread, inside handlers too; O(bindings). */
IKV_API uint32_t ikv_actions_conflicts(const ikv_actions *actions,
                                       ikv_action_id action, const char *text,
                                       const ikv_scope *scope,
                                       ikv_binding *list, uint32_t room);

/* ------------------------------------------------------------- learning -- */

/* "Press what you want to use": the seat's next press starts no action, but is
 * kept as a binding's text. Chords with modifiers too: a modifier alone counts
 * when it is released. What no text can say is passed over: a key without a
 * W3C code, a pad's button 32. Each seat learns for itself. When it has,
 * action.learned is told to the root: its `device` is what was pressed, the
 * delivery's `data` the text; an empty one if it was called off.
 *   cancel_code  a key that ends it without a result; 0: none
 * Returns IKV_OK, BUSY if it is asked for already, or BAD_ARGUMENT for NULL or
 * a seat that there is not.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_learn(ikv_actions *actions, uint8_t seat,
                                     uint32_t cancel_code);

/* What came of it, for who does not listen: IKV_OK and the text, once; BUSY
 * while it waits; ABSENT if nothing was asked for, or it was cancelled;
 * BAD_ARGUMENT without a buffer or for a seat that there is not.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_learned(ikv_actions *actions, uint8_t seat,
                                       char *buffer, size_t size);

/* Ends it without a result, and untold.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void ikv_actions_stop_learning(ikv_actions *actions, uint8_t seat);

/* ------------------------------------------------- hearing and driving -- */

/* Subscribes to one action's start, hold or end, whatever its target: as
 * ikv_bus_subscribe() to action.start ... with a condition.
 *   state         IKV_ACTION_STARTED, IKV_ACTION_HELD or IKV_ACTION_ENDED
 *   subscription  gets the handle; may be NULL
 * Returns IKV_OK, STALE (the action), BAD_ARGUMENT, or as ikv_bus_subscribe().
 * Context: owner thread, inside handlers too; as ikv_bus_subscribe(). */
IKV_API ikv_status ikv_actions_hear(ikv_actions *actions, ikv_action_id action,
                                    uint32_t state, ikv_handler handler,
                                    void *user, ikv_subscription *subscription);

/* Drives an action as a further binding would: it starts with the first x or y
 * that is not 0, is held, and ends with 0, 0. For computer players, widgets of
 * your own and tests. Events are told at the root, their cause is an event
 * action.feed.
 *   x, y   as of a stick; 1, 0 for a press. `value` is their length, at most 1,
 *          or x alone if y is 0
 * What comes from outside, over a network, is better pushed as action.feed, by a
 * port or ikv_sink_push_any(): then it is recorded, and plays back. What its
 * device feeds ends when that is gone, or is given to another seat.
 * Returns IKV_OK, STALE (the action, also while it is being removed), ABSENT if
 * its set is off for the seat, BAD_VALUE (not finite, beyond 2^30), BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(1), and the deliveries. */
IKV_API ikv_status ikv_actions_feed(ikv_actions *actions, ikv_action_id action,
                                    uint8_t seat, float x, float y);

/* --------------------------------------------------------------- state -- */

/*   on         some binding is satisfied
 *   value      how far: 1 for what is pressed, -1 to 1 on an axis, a stick's
 *              way from its middle
 *   x, y       of a stick, four keys or motion; else the value and 0
 *   steps      since it started */
typedef struct ikv_action_state {
    bool on;
    uint8_t reserved[3];
    float value, x, y;
    uint32_t steps;
} ikv_action_state;

/* Zeros if the action is gone.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_action_state ikv_actions_ask(const ikv_actions *actions,
                                         ikv_action_id action, uint8_t seat);

/* -------------------------------------------------------------- feeding -- */
/* A loop that is given the actions does this; for hosts that have none. */

/* Lets a router tell of what it routes. Returns IKV_OK, FULL_ROUTERS, or
 * BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_follow(ikv_actions *actions, ikv_router *router);

/* Takes an event that no router routes.
 *   claimed  a handler stopped it
 * Context: owner thread, inside handlers too: it waits for the event's end
 * then; O(bindings of what came). */
IKV_API void ikv_actions_take(ikv_actions *actions, const ikv_event *event,
                              bool claimed);

/* After an input was routed and the state fed with it: starts and ends what
 * follows from it.
 *   typed  it was typed into a target that takes text
 *   lost   a device or the window's focus is gone: what ends is synthetic
 * Context: owner thread, not inside a handler; O(bindings that changed), and
 * the deliveries. */
IKV_API void ikv_actions_settle(ikv_actions *actions, uint64_t time_ns,
                                bool typed, bool lost);

/* After a step's input: tells of what is held.
 * Context: owner thread, not inside a handler; O(what is held), and the
 * deliveries. */
IKV_API void ikv_actions_step(ikv_actions *actions, uint64_t time_ns);

/* ------------------------------------------------------------- counting -- */

/*   actions, bindings  now, at most (_high), and how many there can be
 *                      (_capacity)
 *   held               bindings that are satisfied now
 *   started            actions so far
 *   passed_over        presses that were stopped or typed
 *   overflowed         presses that were lost: too many came of one input */
typedef struct ikv_actions_counts {
    uint32_t size;
    uint32_t actions, actions_high, actions_capacity;
    uint32_t bindings, bindings_high, bindings_capacity;
    uint32_t held;
    IKV_ALIGNED(8) uint64_t started;
    IKV_ALIGNED(8) uint64_t passed_over;
    IKV_ALIGNED(8) uint64_t overflowed;
} ikv_actions_counts;

#define IKV_ACTIONS_COUNTS_INIT IKV_SIZED(ikv_actions_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_actions_counters(const ikv_actions *actions,
                                        ikv_actions_counts *counts);

/* How many bindings there can be.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_actions_room(const ikv_actions *actions);

/* The name of the first invariant (action.c lists them) that does not hold,
 * NULL if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_actions_validate(const ikv_actions *actions);

#ifdef __cplusplus
}
#endif

#endif
