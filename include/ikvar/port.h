/* ikvar/port.h - what stands between the library and the hardware or OS.
 *
 * Overview
 *   A port is a struct of few functions and a state of its own. It only pushes
 *   events, of the kinds that the catalogue lets ports push, and answers
 *   questions; it knows nothing of targets. Write one by copying the null port
 *   (ports/null/null.c), the smallest legal one.
 *
 *       hardware --> port --ikv_sink_push--> queue --> loop
 *
 *   A port pushes down and up for every button of a pointer (the router makes
 *   chords of them), with times of its own clock: of the same base as its
 *   now(), and not later. What is later is taken as of now, counted and
 *   reported once; it holds nothing back.
 *
 * Clocks
 *   What comes through a port's sink bears that port's clock, whatever its
 *   device. The first port's clock is the loop's. At loop.start all clocks are
 *   read; once a second they are read again, and the offset of each other one
 *   follows by at most 1 ms a second, so that clocks that drift apart by less
 *   than one part in 1,000 stay together. Of a port's events the later one is
 *   never taken as the earlier. Tapes hold the converted times.
 *
 * The end
 *   A port whose poll() gives IKV_ENDED, or any of whose calls fails, is not
 *   polled any more, and its devices are let go as by device.remove, which the
 *   loop makes: keys by up, pointers by cancel, flagged synthetic.
 *
 * Threads
 *   The loop calls open, poll, wait and close on its thread. A port with a
 *   thread of its own pushes with ikv_sink_push_any() and may be woken by
 *   wake() from any thread.
 */
#ifndef IKVAR_PORT_H
#define IKVAR_PORT_H

#include "queue.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How many ports a loop can have. */
#define IKV_PORT_LIMIT 8

/* Where a port pushes to. The loop gives it; it lives as long as the port is
 * open. */
typedef struct ikv_sink ikv_sink;

/* A number for one of the port's devices, the same on every run if the port
 * asks in the same order. When all are used up, that of the device which has been
 * gone for longest, whose device.remove has been told; 0 if there is none.
 * Owner's thread.
 * Context: inside open, poll and wait; O(1). */
IKV_API uint16_t ikv_sink_device(ikv_sink *sink);

/* Pushes one event; event->device is a number from ikv_sink_device(), or 0 for
 * what belongs to none (windows).
 * Returns IKV_OK; BAD_ARGUMENT; FULL_QUEUE: it is lost, which is counted, and
 * after the loss of a transition the loop asks held() for what is down, after
 * that of moves the next one is flagged IKV_GAP; BAD_VALUE for what can't be
 * recorded and read back: a number that is not finite or, of a built-in kind,
 * beyond IKV_COORDINATE_LIMIT, text that is longer than its field or not UTF-8
 * (counted, and reported once a kind, once for all that are none).
 * Context: inside open, poll and wait; O(1). */
IKV_API ikv_status ikv_sink_push(ikv_sink *sink, const ikv_event *event);

/* Pushes an event with what is larger than its payload: a dropped file's path, a
 * long composition. It is copied into one of queue.blocks; the handlers get it
 * as delivery->data, until the event has been dispatched. What is text is given
 * whole in it: text.input and text.compose have no bytes of their own then
 * (`length` is 0; ikv_delivery_text() finds either).
 *   data  size bytes: any, but UTF-8 of the kinds text.input and text.compose;
 *         NULL and 0: as ikv_sink_push()
 * Returns as ikv_sink_push(), and FULL_BLOCKS: too much is under way, which is
 * counted, and nothing was pushed; BAD_SIZE: more than queue.block_bytes or
 * loop.block_bytes; NOT_PUSHABLE: a kind whose events merge; BAD_VALUE for text
 * that is none.
 * Context: inside open, poll and wait; O(size). */
IKV_API ikv_status ikv_sink_push_data(ikv_sink *sink, const ikv_event *event,
                                      const void *data, size_t size);

/* The same from any thread at any time until the port is closed. Returns as
 * ikv_sink_push_data().
 * Context: any thread; three locked operations, O(size). */
IKV_API ikv_status ikv_sink_push_data_any(ikv_sink *sink,
                                          const ikv_event *event,
                                          const void *data, size_t size);

/* Whether such an event would be taken now. A port that can hold its input back
 * (a file, a system's buffer) asks first, and loses nothing.
 * Context: as ikv_sink_push(). */
IKV_API bool ikv_sink_has_room(const ikv_sink *sink, ikv_kind kind);

/* The same for ikv_sink_push_any(), from any thread; another thread may take
 * the room before.
 * Context: any thread; O(1). */
IKV_API bool ikv_sink_has_room_any(const ikv_sink *sink, ikv_kind kind);

/* Tells the loop that the port itself has lost events of a device: a system's
 * buffer overran. At the next drain the loop asks held(). Any thread.
 * Context: any thread; one locked operation, O(1). */
IKV_API void ikv_sink_lost(ikv_sink *sink, uint16_t device);

/* ------------------------------------------------------------- playback -- */

/* How an event came in.
 *   INPUT   a port pushed it
 *   INBOX   another thread deferred it to a lane
 *   HELD    a port named it as down, after a loss: see device.resync, which
 *           follows the last of them */
enum {
    IKV_INTAKE_INPUT = 0,
    IKV_INTAKE_INBOX = 1,
    IKV_INTAKE_HELD = 2
};

/* In place of a number of flushes: see ikv_intake. */
enum {
    IKV_FLUSH_OUTSIDE = 255
};

/* What a tape keeps of an event beside its 64 bytes: when it took effect.
 *   how      IKV_INTAKE_...
 *   has_due  due_ns is known; else it follows from the event's time
 *   within   INBOX: it was taken in while the event before it was handled
 *   flush    INBOX: how many flushes later it was taken than could be, by the
 *            one that took what is before it on the tape, if that is of an inbox,
 *            else by the first one since; at most 254.
 *            IKV_FLUSH_OUTSIDE: frames' code flushed, or the run's end
 *   lane     INBOX: which
 *   group    what was routed together between two steps has one number, from 1
 *            on; 0: it was routed in its step
 *   due_ns   in steps' time: loop.h
 *   lost_ns  loop.dropped, loop.idle: how long the steps stood still
 *   data     INPUT: its larger payload, data_size bytes, or NULL; valid while a
 *            recorder is told, or until the tape's next event is read: who keeps
 *            an intake for later copies it */
typedef struct ikv_intake {
    uint32_t size;
    uint8_t how;
    bool has_due;
    bool within;
    uint8_t flush;
    uint32_t lane;
    uint32_t group;
    IKV_ALIGNED(8) uint64_t due_ns;
    IKV_ALIGNED(8) uint64_t lost_ns;
    const void *data;
    uint32_t data_size;
} ikv_intake;

#define IKV_INTAKE_INIT IKV_SIZED(ikv_intake)

/* An input as a recorder is told of it. */
typedef struct ikv_taken {
    ikv_event event;
    ikv_intake intake;
} ikv_taken;

/* Gives the loop an event that was recorded or made up, past the queue: kinds
 * that ports push, kinds of your own, and those marked T in the catalogue.
 *   intake  how and when it took effect; NULL: as if pushed at its time
 * Returns IKV_OK; FULL_PENDING: give it again when polled next, nothing is
 * lost; NOT_PUSHABLE, UNKNOWN_KIND, UNKNOWN_NAME (no such lane), BAD_SIZE (also
 * for data that is larger than loop.block_bytes), BAD_ARGUMENT. Context: inside
 * poll; times may not run backwards by what is due. */
IKV_API ikv_status ikv_sink_play(ikv_sink *sink, const ikv_event *event,
                                 const ikv_intake *intake);

/* The longest text that ikv_sink_push_text() takes without blocks, in bytes. */
#define IKV_TEXT_LIMIT 1024

/* Pushes text of any length as text.input: what fits into the event in it, more
 * as its data; what is larger than a block in pieces that belong together, split
 * at code points: the first is flagged `first`, all but the last `more`. Where
 * there are no blocks (IKV_NO_BLOCKS), in pieces of the event's own 31 bytes, up
 * to IKV_TEXT_LIMIT. All of them or none.
 *   event  device, modifiers and time; its kind is ignored
 *   text   length bytes of UTF-8
 * Returns as ikv_sink_push_data(); BAD_VALUE for what is not UTF-8 (surrogates,
 * forms that are too long and what is above U+10FFFF are none, nor is a zero
 * byte); FULL_BLOCKS also for a text longer than all blocks together; ABSENT for
 * no text. Context: inside open, poll and wait; O(length). */
IKV_API ikv_status ikv_sink_push_text(ikv_sink *sink, const ikv_event *event,
                                      const char *text, size_t length);

/* As ikv_sink_push(), from any thread at any time until the port is closed.
 * Context: any thread; one locked operation, O(1). */
IKV_API ikv_status ikv_sink_push_any(ikv_sink *sink, const ikv_event *event);

/* What the system drags over the window, a file for instance, is told by three
 * kinds: drag.over with its place, as often as it moves, drag.leave, and drag.drop
 * with its place and, as data, what it is: a path, or several, an end of line
 * behind each. The router makes drag.enter and all else of it (DRAG5). */

/* What a game may ask of a port. A port does what it can. */
enum {
    IKV_REQUEST_RELATIVE = 1,
    IKV_REQUEST_CURSOR = 2,
    IKV_REQUEST_TEXT_AREA = 3,
    IKV_REQUEST_RUMBLE = 4,
    IKV_REQUEST_LIGHTS = 5,
    IKV_REQUEST_CLIPBOARD_SET = 6,
    IKV_REQUEST_CLIPBOARD_GET = 7,
    IKV_REQUEST_DROP = 8,
    IKV_REQUEST_COUNT
};

/*   kind    IKV_REQUEST_...
 *   device  which; 0 for the port's main one
 *   on      DROP: it would be taken; RELATIVE: motion without a position; TEXT_AREA: text is wanted
 *   cursor  CURSOR: 0 the usual one, 1 none, others the port's own
 *   x, y, width, height  TEXT_AREA: where, in view units
 *   low, high, seconds   RUMBLE: strengths 0..1 of the two motors, how long
 *   color   LIGHTS: 0xRRGGBB
 *   text, text_size  CLIPBOARD_SET: UTF-8, valid for the call
 * DROP is asked by itself: `on` says whether what the system drags over the window
 * would be taken where it is, whenever that changes.
 * CLIPBOARD_GET is answered as pasting is: the port pushes the text as
 * text.input, by ikv_sink_push_text(), now or later. */
typedef struct ikv_request {
    uint32_t size;
    uint32_t kind;
    uint16_t device;
    bool on;
    uint8_t cursor;
    float x, y, width, height;
    float low, high, seconds;
    uint32_t color;
    uint32_t text_size;
    const char *text;
} ikv_request;

#define IKV_REQUEST_INIT IKV_SIZED(ikv_request)

/* Capabilities of a port. */
enum {
    IKV_PORT_CLOCK = 1,    /* now() runs evenly: it can be the loop's clock */
    IKV_PORT_WAITS = 2,    /* wait() gives the processor away */
    IKV_PORT_RELEASES = 4, /* key.up comes from hardware, not from a timer */
    IKV_PORT_PLAYBACK = 8  /* what it pushes was recorded or made up: as the
                              loop's clock, it makes the loop drop no time by
                              itself */
};

/* The contract. Needed: open, now, close, and poll or push. NULL for what the
 * port can't do.
 *
 *   name      for reports and traces
 *
 *   open      begins; keeps the sink. Returns IKV_OK or an error
 *
 *   poll      pushes what has happened; never blocks, but may run whole
 *             frames (loop.h) while a system holds it. Returns IKV_OK;
 *             IKV_ENDED once nothing more will come; IKV_PORT_FAILED
 *
 *   wait      returns at until_ns of the port's own clock, or soon after
 *             wake(); with for_input also when there is something to poll.
 *             IKV_ENDED if the clock will not get there
 *
 *   wake      makes wait() return; any thread
 *
 *   now       ns on the port's own clock, never going backwards
 *
 *   held      what is down at present on a device: fills in down events of
 *             keys, pointers and pads, at most `room` (64), and says how many;
 *             IKV_ABSENT for a device that it does not have. An answer with
 *             more, or with anything else in it, is taken as none
 *
 *   describe  a device's name, as snprintf: the length without the end mark
 *
 *   identify  likewise, what is the same when the device is plugged in again, and
 *             another for another one as far as the system tells: by which a
 *             game remembers whose it was. May be NULL
 *
 *   request   see ikv_request; IKV_ABSENT for what it can't do
 *
 *   close     ends; pushes nothing more
 */
typedef struct ikv_port {
    uint32_t size;
    uint32_t capabilities;
    const char *name;
    void *state;
    ikv_status (*open)(void *state, ikv_sink *sink);
    ikv_status (*poll)(void *state);
    ikv_status (*wait)(void *state, uint64_t until_ns, bool for_input);
    void (*wake)(void *state);
    uint64_t (*now)(void *state);
    ikv_status (*held)(void *state, uint16_t device, ikv_event *events,
                       uint32_t room, uint32_t *count);
    size_t (*describe)(void *state, uint16_t device, char *buffer, size_t size);
    ikv_status (*request)(void *state, const ikv_request *request);
    void (*close)(void *state);
    size_t (*identify)(void *state, uint16_t device, char *buffer, size_t size);
} ikv_port;

#define IKV_PORT_INIT IKV_SIZED(ikv_port)

#ifdef __cplusplus
}
#endif

#endif
