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
 * Two times
 *   The clock's time is what a port's clock shows, 0 at loop.start; events bear
 *   it. The steps' time is what steps have run through; timers count it. They
 *   differ after a pause, after time was dropped, and by the scale. Moves of
 *   one pointer within one step come as one event that carries all of them.
 *
 * Recording
 *   A recorder is told of all that came in and when it took effect; given back
 *   by a port with ikv_sink_play(), it has the same effects in the same steps.
 *
 * Memory
 *   One block: 96 bytes for each event that may wait for its step.
 *
 * Threads and re-entrancy
 *   One thread owns the loop; any may call ikv_loop_wake(). Inside handlers:
 *   quit, pause, resume, single_step, set_scale and the queries.
 */
#ifndef IKVAR_LOOP_H
#define IKVAR_LOOP_H

#include "bus.h"
#include "input.h"
#include "port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_loop ikv_loop;

/* frame_hz for a host that paces itself: vsync, or a program that calls us. */
#define IKV_UNPACED UINT32_MAX

/* When input is routed.
 *   IN_STEP   in the step that its time belongs to: the same at any frame rate
 *   AT_FRAME  at the frame's begin, whether or not a step is due: up to a step
 *             earlier, and grouped by frames */
enum {
    IKV_IN_STEP = 0,
    IKV_AT_FRAME = 1
};

/* The greatest scale of the steps' time, in thousandths. */
#define IKV_SCALE_LIMIT 100000

/* Below these are a loop's step_num and step_den; a step is 1 us to 1,000 s. */
#define IKV_STEP_NUM_LIMIT (1u << 30)
#define IKV_STEP_DEN_LIMIT (1u << 20)

/* Told of each event before it takes effect: it is copied by then or lost. */
typedef void (*ikv_recorder)(const ikv_event *event, const ikv_intake *intake,
                             void *user);

/* Zero is the default in brackets; NULL modules are absent.
 *   bus        needed
 *   queue      needed if there are ports
 *   input      what takes events in: routers, state, actions, overlaps (NULL:
 *              events go to the root); in one loop, and closed after it
 *   ports      port_count of them; the first is the clock, and needed. The
 *              array is copied, the states are not
 *   step_num, step_den  steps a second as a fraction (60/1): a film's are
 *              60,000/1,001
 *   frame_hz   frames a second (60), or IKV_UNPACED
 *   max_steps  in one frame; time over that is dropped (8)
 *   pending    drained events that may wait for their step (2,048)
 *   samples    moves that one event may carry (256)
 *   held       downs that a port may name after a loss (64, which is the most)
 *   devices    numbers of devices, 0 included (1,024, which is the most); a kit's
 *              queue tells the losses of as many
 *   timing     IKV_IN_STEP or IKV_AT_FRAME
 *   no_text_area  the ports are not asked for a text area by themselves when
 *              the focus enters or leaves what takes text (false: they are, as
 *              a frame ends, and when that has moved)
 *   idles      as ikv_loop_set_idle()
 *   blocks     larger payloads that may wait for their step (8; a kit's: as many
 *              as its queue has), or IKV_NO_BLOCKS: none comes in
 *   block_bytes  of each of them (1,024; a kit's: as its queue), at most 16,384
 *   number     tells loops of the same configs apart: an image (image.h) of
 *              one is refused by another that has another number (0)
 *   spin_ns    how long before a frame's moment to watch the clock instead of
 *              sleeping: less late, and busy for so long (0; up to 1 s)
 */
typedef struct ikv_loop_config {
    uint32_t size;
    uint32_t step_num;
    uint32_t step_den;
    uint32_t frame_hz;
    uint32_t max_steps;
    uint32_t pending;
    uint32_t port_count;
    uint32_t samples;
    uint32_t held;
    uint32_t devices;
    uint8_t timing;
    bool idles;
    bool no_text_area;
    uint8_t reserved;
    uint32_t number;
    uint32_t blocks;
    uint32_t block_bytes;
    IKV_ALIGNED(8) uint64_t spin_ns;
    ikv_bus *bus;
    ikv_queue *queue;
    ikv_input *input;
    const ikv_port *ports;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_loop_config;

#define IKV_LOOP_INIT IKV_SIZED(ikv_loop_config)

/* Bytes that ikv_loop_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_loop_footprint(const ikv_loop_config *config);

/* Opens the loop and its ports, in order; if one fails, those before it are
 * closed again.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, no port, a port
 * that lacks a function, a step of less than 1 us or more than 1,000 s),
 * FULL_PORTS, BUSY (another loop has the input), NO_MEMORY, or what a port's
 * open returned.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_loop_open(const ikv_loop_config *config,
                                 ikv_loop **loop);

/* Closes the ports, last first. NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler or what else the loop
 * calls: nothing is closed then.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_loop_close(ikv_loop *loop);

/* --------------------------------------------------------------- frames -- */

/* Begin, step and end are refused, with a report of status BUSY, inside a
 * handler and what else the loop calls (recorders, reports). But from inside
 * the poll or the wait of a port a whole frame may run as one of its own, for
 * systems that go on in a loop of theirs while a window is dragged: that port
 * is not polled in it, and it does not wait; if it was not ended in there, it
 * ends when the port returns. */

/* Begins a frame: polls the ports and drains the whole queue. The first time
 * it sets the time to 0 and delivers loop.start.
 * Returns false after the end was asked for, and after a frame in which all
 * ports had ended and nothing waited, nor had handlers made more steps due than
 * it could run: it has then flushed both lanes a last time and delivered
 * loop.end, once. False for NULL.
 * Context: owner thread, not inside a handler; what comes in, and its
 * deliveries. */
IKV_API bool ikv_loop_begin(ikv_loop *loop);

/* Begins the next step that is due in this frame: routes its input, delivers
 * loop.step. Before that, or if no step is left, it finishes the one before:
 * step lane. After the last it delivers loop.frame, and returns false.
 * Context: owner thread, not inside a handler; what comes in, and its
 * deliveries. */
IKV_API bool ikv_loop_step(ikv_loop *loop);

/* Ends the frame: frame lane, statistics, and waiting for the next frame.
 * Returns IKV_OK, BAD_ARGUMENT for NULL, BUSY as above.
 * Context: owner thread, not inside a handler; what comes in, and its
 * deliveries. */
IKV_API ikv_status ikv_loop_end(ikv_loop *loop);

/* Asks for the end: the next ikv_loop_begin() returns false, and in this frame
 * no step begins any more. Any number of times; inside handlers too.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void ikv_loop_quit(ikv_loop *loop);

/* In idle mode a frame that has nothing left to do ends only when there is input,
 * or after ikv_loop_wake(); the steps stand still meanwhile. For programs that
 * draw only when something happens. The clock's port must wait; with several
 * polled ports each frame looks at them.
 * What is left to do: timers, deferred events, a press that may become a hold; and
 * what the next step tells by itself: of a scene that has changed since this one's
 * input (mice that rest), of an action that is on and whose holds are heard, of a
 * contact that lingers or is told inside in each step.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void ikv_loop_set_idle(ikv_loop *loop, bool idles);

/* Ends the wait of an idle loop. Any thread, after it has pushed.
 * Context: any thread; what the port's wake costs. */
IKV_API void ikv_loop_wake(ikv_loop *loop);

/* ------------------------------------------------------ pause and speed -- */

/* The steps stand still; frames go on, input is routed at each frame's begin.
 * Inside a step it takes effect when that step has ended. loop.pause is
 * delivered at once, loop.resume likewise. Before the first frame, which begins
 * with loop.start, both come after that; after a quit, neither. So for single
 * steps and the scale.
 * Returns IKV_OK, ABSENT if it is so already, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_pause(ikv_loop *loop);
IKV_API ikv_status ikv_loop_resume(ikv_loop *loop);
IKV_API bool ikv_loop_paused(const ikv_loop *loop);

/* Runs one step in the next frame, or this one's next ikv_loop_step(), while
 * paused. Returns IKV_OK, ABSENT if it is not paused or one is asked for
 * already, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_single_step(ikv_loop *loop);

/* How fast the steps' time runs, in thousandths of the clock's: 500 is half as
 * fast, 1,000 real time. Delivers loop.scale.
 * Returns IKV_OK, ABSENT if it is so already, BAD_VALUE for 0 or more than
 * IKV_SCALE_LIMIT, BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_set_scale(ikv_loop *loop, uint32_t thousandths);
IKV_API uint32_t ikv_loop_scale(const ikv_loop *loop);

/* ------------------------------------------------------------ recording -- */

/* Who is told of what comes in; NULL takes it away. In the order in which it
 * takes effect: input as it is routed (moves before they are merged), what is
 * taken from other threads' inboxes, pauses, scale and dropped time; and, as it
 * is taken away, loop.end if steps are due that have not been run.
 * Returns IKV_OK, BUSY if there is one already, or BAD_ARGUMENT for NULL.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_set_recorder(ikv_loop *loop, ikv_recorder recorder,
                                         void *user);

/* ---------------------------------------------------------------- times -- */

/* Length of a step in seconds.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API double ikv_loop_step_seconds(const ikv_loop *loop);

/* Steps a second as a fraction, and IKV_IN_STEP or IKV_AT_FRAME.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void ikv_loop_rate(const ikv_loop *loop, uint32_t *num, uint32_t *den);
IKV_API uint32_t ikv_loop_timing(const ikv_loop *loop);

/* How far the time is between the last two steps: 0 at the last one's end, up
 * to 1 when the next is due. For drawing.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API float ikv_loop_blend(const ikv_loop *loop);

/* Number of the step that runs or ran last, 0 the first; of the frame; ns since
 * loop.start at this frame's begin.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint64_t ikv_loop_step_number(const ikv_loop *loop);
IKV_API uint64_t ikv_loop_frame_number(const ikv_loop *loop);
IKV_API uint64_t ikv_loop_time_ns(const ikv_loop *loop);

/* When step n begins at num/den steps a second: floor(n * 1e9 * den / num) ns,
 * without overflow for n below 2^40. num below 2^30, den below 2^20.
 * Context: any thread; O(1). */
IKV_API uint64_t ikv_loop_step_start(uint64_t n, uint32_t num, uint32_t den);

/* The newest position of a pointer, in its view, though its step has not run:
 * to draw what is dragged where the hand is. For drawing only: steps must not
 * ask. False if the pointer has no move that waits; then its state is the
 * newest.
 * Context: owner thread, inside handlers too; O(waiting). */
IKV_API bool ikv_loop_newest(const ikv_loop *loop, uint16_t device, uint16_t id,
                             float *x, float *y);

/* ------------------------------------------------------ back to the ports -- */

/* Asks a port for what it can do for the game: motion without a position, a
 * cursor, a text area, rumble (port.h). Of a device its port is asked; for device 0
 * the ports in their order, until one can do it.
 *
 *     ikv_request quake = IKV_REQUEST_INIT;
 *     quake.kind = IKV_REQUEST_RUMBLE;
 *     quake.device = event->device;
 *     quake.low = 0.8f, quake.seconds = 0.2f;
 *     ikv_loop_request(loop, &quake);
 *
 * Nothing of it is recorded: what is played asks again, of the port that plays.
 * Returns IKV_OK; ABSENT if there is no such device, or no port that can do it;
 * BAD_ARGUMENT for NULL and unknown kinds, BAD_VALUE for strengths outside 0..1,
 * sizes or times below 0, colours beyond 0xffffff, text that is not UTF-8 and
 * what is no number, BAD_SIZE; or what the port says.
 * Context: owner thread, inside handlers too; what the port takes. */
IKV_API ikv_status ikv_loop_request(ikv_loop *loop, const ikv_request *request);

/* A device's name, as its port tells it: as snprintf, the length without the end
 * mark, 0 for NULL and if nobody knows.
 * Context: owner thread, inside handlers too; what the port takes. */
IKV_API size_t ikv_loop_describe(const ikv_loop *loop, uint16_t device,
                                 char *buffer, size_t size);

/* What is the same when a device is plugged in again, as its port tells it, to
 * remember whose it was: as ikv_loop_describe().
 * Context: owner thread, inside handlers too; what the port takes. */
IKV_API size_t ikv_loop_identify(const ikv_loop *loop, uint16_t device,
                                 char *buffer, size_t size);

/* -------------------------------------------------------------- players -- */

/* Modifiers of a seat that stay down, for players who can't hold one key and press
 * another: one that is pressed and let go by itself is down until the next key or
 * button has been let go; pressed twice it stays until it is pressed once more.
 * It goes along with its device to another seat, and stays down after a loss.
 * What a port pushes is changed before it is recorded, so that a tape plays back
 * the same without this. Switched off, what has stayed is let go, flagged
 * synthetic. Returns IKV_OK, BAD_ARGUMENT (no such seat), FULL_PENDING (on: with
 * loop.pending below 9; off: there is no room for what is let go).
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_set_sticky(ikv_loop *loop, uint8_t seat, bool on);

/* Gives a device to a player, whatever seat its port pushes: "press a button to
 * join". Its events bear that seat from then on, until it is removed.
 *   Within a handler, and what else follows from the input, it takes effect when
 * the step's input and all that follows from it has been told (between steps:
 * what is routed with it); else with the next input, and it is recorded as
 * device.seat. That event tells of it, at the root.
 *   What is down moves along: a key or button that is held is the new player's,
 * who can release it; what it held for the old one's actions ends, flagged
 * synthetic, and starts nothing until it is pressed anew.
 * Returns IKV_OK; ABSENT if it is so already; BAD_ARGUMENT for NULL, no such
 * device or a seat past IKV_SEAT_LIMIT; FULL_PENDING.
 * Context: owner thread, inside handlers too; O(devices) once. */
IKV_API ikv_status ikv_loop_set_seat(ikv_loop *loop, uint16_t device,
                                     uint8_t seat);

/* The seat that a device was given, 0 to 7. Returns IKV_OK; ABSENT if it was
 * given none: then its port says; BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_seat(const ikv_loop *loop, uint16_t device,
                                 uint8_t *seat);

/* ------------------------------------------------------------- counting -- */

/*   frames, steps  begun
 *   routed         events routed
 *   rejected       events that ports may not push, or of unknown kinds
 *   bad_values     events refused for a value that can't be recorded
 *   ahead          events whose time was ahead of their port's clock
 *   late           events that came after the step of their time had run
 *   aged           events that had waited longer than a frame when drained
 *   max_age_ns     the longest such wait
 *   dropped_steps, dropped_ns  left out: more than max_steps were due
 *   held_back      drains that were cut short because `pending` was full
 *   waiting, waiting_high, waiting_capacity  events waiting for their step, now,
 *                  at most, and how many can
 *   merged         moves that were carried by a later one
 *   resyncs        devices whose state was made up after a loss
 *   made_up        pending events that the loop made itself: of those resyncs
 *   held_named     of these, those that named what a port says is down
 *   idle_ns        waited for input
 *   last_late_ns, max_late_ns  how long after its due moment a frame began */
typedef struct ikv_loop_counts {
    uint32_t size;
    uint32_t waiting, waiting_high, waiting_capacity;
    IKV_ALIGNED(8) uint64_t frames;
    IKV_ALIGNED(8) uint64_t steps;
    IKV_ALIGNED(8) uint64_t routed;
    IKV_ALIGNED(8) uint64_t rejected;
    IKV_ALIGNED(8) uint64_t bad_values;
    IKV_ALIGNED(8) uint64_t ahead;
    IKV_ALIGNED(8) uint64_t late;
    IKV_ALIGNED(8) uint64_t aged;
    IKV_ALIGNED(8) uint64_t max_age_ns;
    IKV_ALIGNED(8) uint64_t dropped_steps;
    IKV_ALIGNED(8) uint64_t dropped_ns;
    IKV_ALIGNED(8) uint64_t held_back;
    IKV_ALIGNED(8) uint64_t merged;
    IKV_ALIGNED(8) uint64_t resyncs;
    IKV_ALIGNED(8) uint64_t made_up;
    IKV_ALIGNED(8) uint64_t held_named;
    IKV_ALIGNED(8) uint64_t idle_ns;
    IKV_ALIGNED(8) uint64_t last_late_ns;
    IKV_ALIGNED(8) uint64_t max_late_ns;
} ikv_loop_counts;

#define IKV_LOOP_COUNTS_INIT IKV_SIZED(ikv_loop_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_counters(const ikv_loop *loop,
                                     ikv_loop_counts *counts);

/* Up to how many ns late that many percent of the paced frames began, to about
 * a quarter: 50 for the usual one, 99 for the worst but a hundredth.
 * Context: owner thread, inside handlers too; O(128). */
IKV_API uint64_t ikv_loop_lateness(const ikv_loop *loop, uint32_t percent);

/* How long frames and steps take; yours, begun as its INIT, and read at will.
 * What a frame takes counts from ikv_loop_begin() on, with all that the program
 * does in it, until ikv_loop_end() begins to wait; a step from its input on,
 * until the next call.
 *   clock, user      what measures, in ns; NULL: the loop's clock
 *   frames, steps    measured
 *   frames_over, steps_over  of those, which took longer than the budget
 *   frame_budget_ns  as long as a frame may take at frame_hz; 0: unpaced
 *   step_budget_ns   a step's length
 *   max_frame_ns, max_step_ns  the longest */
typedef struct ikv_durations {
    uint32_t size;
    uint32_t reserved;
    uint64_t (*clock)(void *user);
    void *user;
    IKV_ALIGNED(8) uint64_t frames;
    IKV_ALIGNED(8) uint64_t steps;
    IKV_ALIGNED(8) uint64_t frames_over;
    IKV_ALIGNED(8) uint64_t steps_over;
    IKV_ALIGNED(8) uint64_t frame_budget_ns;
    IKV_ALIGNED(8) uint64_t step_budget_ns;
    IKV_ALIGNED(8) uint64_t max_frame_ns;
    IKV_ALIGNED(8) uint64_t max_step_ns;
    IKV_ALIGNED(8) uint64_t began_ns[2];
    uint32_t buckets[2][128];
} ikv_durations;

#define IKV_DURATIONS_INIT IKV_SIZED(ikv_durations)

/* Measures into `to` from the next frame on, until another is given, or NULL. It
 * must outlive that. Two readings of its clock a frame, two a step.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_loop_measure(ikv_loop *loop, ikv_durations *to);

/* What is asked of durations. */
enum {
    IKV_OF_FRAMES = 0,
    IKV_OF_STEPS = 1
};

/* How many ns that many percent of the frames or steps took at most, to about a
 * quarter; 0 if none were measured.
 * Context: owner thread, inside handlers too; O(128). */
IKV_API uint64_t ikv_duration_of(const ikv_durations *durations, uint32_t of,
                                 uint32_t percent);

/* What the clock says now, since loop.start; 0 before that.
 * Context: owner thread, inside handlers too; the port's. */
IKV_API uint64_t ikv_loop_clock_ns(const ikv_loop *loop);

/* The name of the first invariant that does not hold, NULL if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_loop_validate(const ikv_loop *loop);

#ifdef __cplusplus
}
#endif

#endif
