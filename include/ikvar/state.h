/* ikvar/state.h - what is down, and where the pointers are: asked, not told.
 *
 * Overview
 *   Where a question is simpler than an event: is this key down, did it go down
 *   in this step, for how long; where is the pointer, how far has it moved. A
 *   loop feeds it.
 *
 *       while (ikv_loop_step(loop)) {
 *           ikv_key_state left =
 *               ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, code);
 *           if (left.down)
 *               turn(-1, left.held_ns);
 *       }
 *
 *   There are two filters. RAW has all input of a step from the step's start
 *   on, before any of it is routed. UNCLAIMED lacks what a handler stopped or a
 *   target that takes text received; it is complete when loop.step is
 *   delivered. A press and its release within one step are both seen: went_down
 *   and went_up are 1.
 *
 *   After the window's loss of the focus or the loss of a device nothing of it
 *   is down. While the loop is paused, what is routed at a frame's begin counts
 *   as a step.
 *
 * Memory
 *   One block: 24 bytes for each of 256 keys, filters and seats, and about 200
 *   for each pointer and filter.
 *
 * Threads
 *   The owner's thread; queries inside handlers too.
 */
#ifndef IKVAR_STATE_H
#define IKVAR_STATE_H

#include "event.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_state ikv_state;

/* Views of the state. */
enum {
    IKV_STATE_RAW = 0,
    IKV_STATE_UNCLAIMED = 1
};

/* Zero is the default in brackets.
 *   seats     players whose keys are told apart (1; up to 8); keys of others
 *             count for the last one
 *   pointers  known at once (32)
 *   keys      of each seat that are known at once: those that are down, or were
 *             in this step, and what of this frame there is room for (256: all)
 *   pads      known at once (8, which is the most)
 *   dead_zone, full_zone, axial_zones  of sticks, as in a router's config */
typedef struct ikv_state_config {
    uint32_t size;
    uint32_t seats;
    uint32_t pointers;
    uint32_t keys;
    uint32_t pads;
    float dead_zone, full_zone;
    bool axial_zones;
    uint8_t reserved[3];
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_state_config;

#define IKV_STATE_INIT IKV_SIZED(ikv_state_config)

/* Bytes that ikv_state_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_state_footprint(const ikv_state_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_state_open(const ikv_state_config *config,
                                  ikv_state **state);

/* NULL is fine.
 * Context: owner thread, when nothing uses it. */
IKV_API void ikv_state_close(ikv_state *state);

/* -------------------------------------------------------------- feeding -- */
/* A loop that is given the state does this; for hosts that have none. */

/* Begins a step: its edges and motion are counted from here on. `time_ns` is
 * the step's, for held_ns.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API void ikv_state_begin_step(ikv_state *state, uint64_t time_ns);

/* Begins a frame, likewise.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API void ikv_state_begin_frame(ikv_state *state);

/* Takes an event that a port pushed, into what a filter shows; kinds that say
 * nothing of what is down or where are passed over. Releases that were never
 * seen go down do nothing. O(1), O(pointers) for a pointer's.
 * Context: owner thread, not inside a handler; O(1), O(pointers) for a
 * pointer's. */
IKV_API void ikv_state_take(ikv_state *state, uint32_t filter,
                            const ikv_event *event);

/* Takes an event that was claimed: what is down is released by it, nothing goes
 * down, pointers move.
 * Context: owner thread, not inside a handler; O(1), O(pointers) for a
 * pointer's. */
IKV_API void ikv_state_take_claimed(ikv_state *state, const ikv_event *event);

/* After events of a device were lost: releases what is not held and, in RAW,
 * presses what is held and not down, of that device. UNCLAIMED takes that as all
 * else, once it has been routed.
 *   cause  a device.resync
 *   held   downs, as a port's held() gives them
 * Context: owner thread, not inside a handler; O(keys + pointers). */
IKV_API void ikv_state_resync(ikv_state *state, uint32_t filter,
                              const ikv_event *cause, const ikv_event *held,
                              uint32_t count);

/* -------------------------------------------------------------- queries -- */

/*   down       now
 *   went_down, went_up  how often in this step
 *   frame_down, frame_up  how often in the steps of this frame
 *   held_ns    how long it has been down, up to this step's time; 0 if not down
 */
typedef struct ikv_key_state {
    bool down;
    uint8_t went_down, went_up;
    uint8_t frame_down, frame_up;
    uint8_t reserved[3];
    IKV_ALIGNED(8) uint64_t held_ns;
} ikv_key_state;

/* A key by its code; zeros for one that is not known.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_key_state ikv_state_key(const ikv_state *state, uint32_t filter,
                                    uint8_t seat, uint32_t code);

/* Any key of the seat: down if one is, edges of all together, held_ns of the
 * one that has been down longest.
 * Context: owner thread, inside handlers too; O(keys). */
IKV_API ikv_key_state ikv_state_any_key(const ikv_state *state, uint32_t filter,
                                        uint8_t seat);

/* IKV_SHIFT ... of the keys that the seat holds down.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint16_t ikv_state_modifiers(const ikv_state *state, uint32_t filter,
                                     uint8_t seat);

/*   x, y       in its view, as of the last event of this step; a scene takes it
 *              into a layer's or a target's space under the present camera
 *              (ikv_scene_to_layer, ikv_scene_to_local)
 *   dx, dy     motion in this step; frame_dx, frame_dy: in the frame
 *   wheel_dx, wheel_dy  scrolled in this step
 *   distance   of a pen above the surface, as pen.distance said last, 0 to 1; 0
 *              while it is down
 *   buttons    that are down (Pointer Events 3); went_down, went_up: masks of
 *              those that did in this step; frame_down, frame_up: in the frame
 *   held_ns    since the first of its buttons went down */
typedef struct ikv_pointer_state {
    uint16_t device, pointer;
    uint8_t type, view, seat;
    uint8_t reserved;
    uint16_t buttons;
    uint16_t went_down, went_up, frame_down, frame_up;
    float x, y;
    float dx, dy, frame_dx, frame_dy;
    float wheel_dx, wheel_dy;
    float distance;
    IKV_ALIGNED(8) uint64_t held_ns;
} ikv_pointer_state;

/* The nth pointer that is known, from 0 on: mice and pens that are in a view,
 * touches while they are down and in the step in which they end. False past the
 * last.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API bool ikv_state_pointer(const ikv_state *state, uint32_t filter,
                               uint32_t nth, ikv_pointer_state *to);

/* The pointer of that device and id; false if it is not known.
 * Context: owner thread, inside handlers too; O(pointers). */
IKV_API bool ikv_state_find_pointer(const ikv_state *state, uint32_t filter,
                                    uint16_t device, uint16_t id,
                                    ikv_pointer_state *to);

/*   device, pad   its number, and the port's number of the pad
 *   vendor, product, version, bus  by which it is known again, as its
 *                 device.add said; 0 if none was seen
 *   connected     false after device.remove: it keeps its place, and gets it
 *                 back when the same one is plugged in again
 *   buttons       that are down, bit n for button n; went_down, went_up in this
 *                 step; frame_down, frame_up in the frame
 *   axes          as the port said, -1 to 1
 *   left, right   the two sticks (axes 0, 1 and 2, 3) after their dead zones */
typedef struct ikv_pad_state {
    uint16_t device;
    uint8_t pad, seat;
    bool connected;
    uint8_t reserved[3];
    uint16_t vendor, product, version, bus;
    uint32_t buttons, went_down, went_up, frame_down, frame_up;
    float axes[IKV_PAD_AXES];
    float left[2], right[2];
    float values[IKV_PAD_BUTTONS];
} ikv_pad_state;

/* The nth pad, in the order in which they were first seen. False past the last.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_state_pad(const ikv_state *state, uint32_t filter,
                           uint32_t nth, ikv_pad_state *to);

/* How many presses were not taken in since there was no room for the pointer,
 * the key or the pad.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint64_t ikv_state_refused(const ikv_state *state);

/* The name of the first invariant (state.c lists them) that does not hold, NULL
 * if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_state_validate(const ikv_state *state);

#ifdef __cplusplus
}
#endif

#endif
