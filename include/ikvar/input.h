/* ikvar/input.h - what an event of a device does to all modules, in its order.
 *
 * Overview
 *   Several modules take an event of a device in, and their order matters: the
 *   raw state has it before anybody is told of it; what was due before it is
 *   sent (holds); the router that it is for delivers it; what nobody claimed
 *   goes into the other state; at last the actions look at what came of it. An
 *   input ties these modules and keeps that order. A loop is given one. A
 *   program that has a loop of its own needs no other one of ours:
 *
 *       ikv_input_begin_step(input, begin_ns);
 *       for (uint32_t i = 0; i < count; i++)
 *           ikv_input_feed(input, &events[i]);
 *       for (uint32_t i = 0; i < count; i++)
 *           ikv_input_route(input, &events[i], NULL, 0);
 *       ikv_input_finish(input, last_ns, end_ns);
 *       simulate(0.02);
 *       ikv_input_end_step(input, step, end_ns);
 *
 *   A router is told of the scene's removals by the program
 *   (ikv_scene_watch_removals(), ikv_router_removed()), as a kit does.
 *
 * Memory
 *   One block of a few hundred bytes.
 *
 * Threads and re-entrancy
 *   One thread owns it, with the modules that it ties. Not inside handlers.
 */
#ifndef IKVAR_INPUT_H
#define IKVAR_INPUT_H

#include "action.h"
#include "bus.h"
#include "overlap.h"
#include "router.h"
#include "state.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_input ikv_input;

/* NULL modules are absent.
 *   bus       needed
 *   routers   router_count of them (none: events go to the root); an event goes
 *             to the one that has its pointer or its key down, or has had
 *             events of its pad, else to the first that serves its view, else to
 *             the first. A mouse that goes to another one leaves where it
 *             hovered; modifiers are those of the keys that any of them has
 *             down. Copied; each in one input
 *   state     fed with what comes in
 *   actions   follow the routers; told of each event, each step
 *   overlaps  looked at after the code of each step
 */
typedef struct ikv_input_config {
    uint32_t size;
    uint32_t router_count;
    ikv_bus *bus;
    ikv_router *const *routers;
    ikv_state *state;
    ikv_actions *actions;
    ikv_overlaps *overlaps;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_input_config;

#define IKV_INPUT_INIT IKV_SIZED(ikv_input_config)

/* Bytes that ikv_input_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_input_footprint(const ikv_input_config *config);

/* Ties the modules, which stay yours: close them after it. Returns IKV_OK,
 * BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, a router that is NULL),
 * FULL_ROUTERS, NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_input_open(const ikv_input_config *config,
                                  ikv_input **input);

/* Unties them. NULL is fine. Returns IKV_OK, or BUSY (and a report) while a loop
 * has it, or inside a handler: nothing is closed then.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_input_close(ikv_input *input);

/* ------------------------------------------------ for loops of your own -- */

/* All times are in ns of one clock and never go back. NULL for `input` does
 * nothing. */

/* A frame begins: what the state says of a frame is of this one. If there are
 * no frames apart from steps, it need not be called.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API void ikv_input_begin_frame(ikv_input *input);

/* A step begins: edges and motion in the state are of this one from here on.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API void ikv_input_begin_step(ikv_input *input, uint64_t time_ns);

/* The raw state takes an event. All of a step's, before any is routed.
 * Context: owner thread, not inside a handler; O(1). */
IKV_API void ikv_input_feed(ikv_input *input, const ikv_event *event);

/* Routes an event; what it comes to is delivered.
 *   samples  the events that it stands for, oldest first, `count` of them; 1 or
 *            none: itself
 * Returns what came of it: its status is what ikv_router_route() returns, BUSY
 * inside a handler (then it did nothing), or BAD_ARGUMENT for NULL, or a count
 * without samples; IKV_OK, UNKNOWN_KIND without routers.
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API ikv_outcome ikv_input_route(ikv_input *input, const ikv_event *event,
                                    const ikv_event *samples, uint32_t count);

/* The same of an event with a larger payload, which handlers get as
 * delivery->data: `size` bytes, valid for the call; NULL and 0: none.
 * Returns as ikv_input_route(); BAD_ARGUMENT for a size without data.
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API ikv_outcome ikv_input_route_data(ikv_input *input,
                                         const ikv_event *event,
                                         const void *data, uint32_t size);

/* After events were lost: all that is down and not among `held` ends, `event`
 * (device.resync) is routed, and what is held and not down goes down.
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API void ikv_input_resync(ikv_input *input, const ikv_event *event,
                              const ikv_event *held, uint32_t count);

/* The step's input is over: holds that are due before `end_ns`, which is the
 * step's end, then what the actions tell of a step. `last_ns` is the time of
 * what was routed last.
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API void ikv_input_finish(ikv_input *input, uint64_t last_ns,
                              uint64_t end_ns);

/* Mice that rest are over what is beneath them now. At each step's begin, with
 * the time of what was routed last.
 * Context: owner thread, not inside a handler; its deliveries. */
IKV_API void ikv_input_retest(ikv_input *input, uint64_t time_ns);

/* After the code of a step: overlaps.
 * Context: owner thread, not inside a handler; what ikv_overlaps_step() costs.
 */
IKV_API void ikv_input_end_step(ikv_input *input, uint64_t step,
                                uint64_t time_ns);

/* When the next press becomes a hold by itself; UINT64_MAX: none will.
 * Context: owner thread, inside handlers too; O(routers). */
IKV_API uint64_t ikv_input_next_hold(const ikv_input *input);

#ifdef __cplusplus
}
#endif

#endif
