/* ikvar/loop.h - the frame loop: poll, fixed steps, lanes, pacing.
 *
 * Overview
 *   The loop stays yours. A frame is one pass; in it the loop drains all that
 *   has happened and runs the fixed steps that are due:
 *
 *       while (ikv_loop_begin(loop)) {        // poll, drain the whole queue
 *           while (ikv_loop_step(loop)) {     // route this step's input
 *               simulate(ikv_loop_step_seconds(loop));
 *           }                                 // then: step lane, loop.frame
 *           draw(ikv_loop_blend(loop));
 *           ikv_loop_end(loop);               // frame lane, pacing
 *       }
 *
 *   Step n covers the time from floor(n * 1e9 * den / num) ns on, and runs once
 *   its end has come. An event is routed in the step whose time it falls into,
 *   so the same input gives the same steps at any frame rate.
 *
 *       |--- step 0 ---|--- step 1 ---|--- step 2 ---|     time
 *           e1    e2        e3                ^ now: steps 0 and 1 have run
 *
 * Memory
 *   One block: 64 bytes for each event that may wait for its step.
 *
 * Threads and re-entrancy
 *   One thread owns the loop. Inside handlers only ikv_loop_quit() and the
 *   queries.
 */
#ifndef IKVAR_LOOP_H
#define IKVAR_LOOP_H

#include "bus.h"
#include "port.h"
#include "router.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_loop ikv_loop;

/* frame_hz for a host that paces itself: vsync, or a program that calls us. */
#define IKV_UNPACED UINT32_MAX

/* How many routers a loop can have. */
#define IKV_ROUTER_LIMIT 8

/* Zero is the default in brackets; NULL modules are absent.
 *   bus        needed
 *   queue      needed if there are ports
 *   routers    router_count of them (none: events go to the root); an event
 *              goes to the one that has its pointer down, else to the first
 *              that serves its view, else to the first. Copied
 *   ports      port_count of them; the first is the clock, and needed. The
 *              array is copied, the states are not
 *   step_num, step_den  steps a second as a fraction (60/1)
 *   frame_hz   frames a second (60), or IKV_UNPACED
 *   max_steps  in one frame; time over that is dropped (8)
 *   pending    drained events that may wait for their step (2,048)
 */
typedef struct ikv_loop_config {
    uint32_t size;
    uint32_t step_num;
    uint32_t step_den;
    uint32_t frame_hz;
    uint32_t max_steps;
    uint32_t pending;
    uint32_t port_count;
    uint32_t router_count;
    ikv_bus *bus;
    ikv_queue *queue;
    ikv_router *const *routers;
    const ikv_port *ports;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_loop_config;

#define IKV_LOOP_INIT                                                          \
    {                                                                          \
        sizeof(ikv_loop_config), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, {0, 0},      \
        {                                                                      \
            0, 0, 0, 0, 0                                                      \
        }                                                                      \
    }

/* Bytes that ikv_loop_open() needs; 0 if the config can't be used. */
IKV_API size_t ikv_loop_footprint(const ikv_loop_config *config);

/* Opens the loop and its ports, in order; if one fails, those before it are
 * closed again.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, no port, a port
 * that lacks a function, a step of less than 1 us or more than 1,000 s),
 * FULL_PORTS, FULL_ROUTERS, NO_MEMORY, or what a port's open returned. */
IKV_API ikv_status ikv_loop_open(const ikv_loop_config *config,
                                 ikv_loop **loop);

/* Closes the ports, last first. NULL is fine. */
IKV_API void ikv_loop_close(ikv_loop *loop);

/* --------------------------------------------------------------- frames -- */

/* Begins a frame: polls the ports and drains the whole queue. The first time
 * it sets the time to 0 and delivers loop.start.
 * Returns false after the end was asked for, and after a frame in which all
 * ports had ended and nothing waited: it has then flushed both lanes a last
 * time and delivered loop.end, once. False for NULL. */
IKV_API bool ikv_loop_begin(ikv_loop *loop);

/* Begins the next step that is due in this frame: routes its input, delivers
 * loop.step. Before that, or if no step is left, it finishes the one before:
 * step lane. After the last it delivers loop.frame, and returns false. */
IKV_API bool ikv_loop_step(ikv_loop *loop);

/* Ends the frame: frame lane, statistics, and waiting for the next frame. */
IKV_API void ikv_loop_end(ikv_loop *loop);

/* Asks for the end: the next ikv_loop_begin() returns false. Any number of
 * times; inside handlers too. */
IKV_API void ikv_loop_quit(ikv_loop *loop);

/* ---------------------------------------------------------------- times -- */

/* Length of a step in seconds. */
IKV_API double ikv_loop_step_seconds(const ikv_loop *loop);

/* How far the time is between the last two steps: 0 at the last one's end, up
 * to 1 when the next is due. For drawing. */
IKV_API float ikv_loop_blend(const ikv_loop *loop);

/* Number of the step that runs or ran last, 0 the first; of the frame; ns since
 * loop.start at this frame's begin. */
IKV_API uint64_t ikv_loop_step_number(const ikv_loop *loop);
IKV_API uint64_t ikv_loop_frame_number(const ikv_loop *loop);
IKV_API uint64_t ikv_loop_time_ns(const ikv_loop *loop);

/* When step n begins at num/den steps a second: floor(n * 1e9 * den / num) ns,
 * without overflow for n below 2^40. num below 2^30, den below 2^20. */
IKV_API uint64_t ikv_loop_step_start(uint64_t n, uint32_t num, uint32_t den);

/* ------------------------------------------------------------- counting -- */

/*   frames, steps  begun
 *   routed         events routed
 *   rejected       events that ports may not push, or of unknown kinds
 *   late           events that came after the step of their time had run
 *   aged           events that had waited longer than a frame when drained
 *   max_age_ns     the longest such wait
 *   dropped_steps, dropped_ns  left out: more than max_steps were due
 *   held_back      drains that were cut short because `pending` was full
 *   waiting, waiting_high  events waiting for their step, now and at most
 *   last_late_ns, max_late_ns  how long after its due moment a frame began */
typedef struct ikv_loop_counters {
    IKV_ALIGNED(8) uint64_t frames;
    IKV_ALIGNED(8) uint64_t steps;
    IKV_ALIGNED(8) uint64_t routed;
    IKV_ALIGNED(8) uint64_t rejected;
    IKV_ALIGNED(8) uint64_t late;
    IKV_ALIGNED(8) uint64_t aged;
    IKV_ALIGNED(8) uint64_t max_age_ns;
    IKV_ALIGNED(8) uint64_t dropped_steps;
    IKV_ALIGNED(8) uint64_t dropped_ns;
    IKV_ALIGNED(8) uint64_t held_back;
    IKV_ALIGNED(8) uint64_t last_late_ns;
    IKV_ALIGNED(8) uint64_t max_late_ns;
    uint32_t waiting, waiting_high;
} ikv_loop_counters;

IKV_API ikv_loop_counters ikv_loop_count(const ikv_loop *loop);

#ifdef __cplusplus
}
#endif

#endif
