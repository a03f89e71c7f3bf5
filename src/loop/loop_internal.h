/* loop_internal.h - the loop's inside: frames, steps, and what happens in them.
 *
 * Two times. The clock's time counts ns since loop.start; events bear it.
 * Steps' time is what steps have run through: step n begins at floor(n * 1e9 *
 * den / num) of it. Pauses, dropped time and the scale lie between the two; the
 * anchor is a moment of which both are known.
 *
 * loop-1  what is routed never goes backwards in steps' time
 * loop-2  what is in `entries` lies in the order in which it is routed
 * loop-3  steps run in order, and never beyond the present steps' time
 * loop-4  each block that is in use is of one pending event
 *
 * Files, lowest first: loop_time.c, loop_tell.c, loop_ports.c,
 * loop_data.c, loop_sticky.c, loop_input.c, loop_merge.c, loop_seats.c,
 * loop_holds.c, loop_turn.c, loop_route.c, loop_record.c, loop_pace.c,
 * loop_durations.c, loop.c.
 */
#ifndef IKVI_LOOP_INTERNAL_H
#define IKVI_LOOP_INTERNAL_H

#include "../bus/bus_shared.h"
#include "../event/atomic.h"
#include "../event/memory.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/text.h"
#include "../event/values.h"
#include "../input/input_shared.h"
#include "../queue/queue_shared.h"
#include "loop_shared.h"

#include "ikvar/loop.h"

/* What came through it and was refused for a value is counted here, by any
 * thread, and reported at the next drain. */
struct ikv_sink {
    ikv_loop *loop;
    uint32_t port;
    uint16_t tag; /* of what comes through it: port + 1, shifted */
    ikvi_atomic refused;
    ikvi_atomic bad; /* one of them: kind, shifted, and its field's offset */
};

/* How a port's clock is mapped to the loop's: own time less `offset`, which
 * drifts by up to DRIFT_LIMIT in the second from `since` on. */
typedef struct port_clock {
    uint64_t offset, since; /* of the port's own time */
    int64_t drift;
    uint64_t last_own, last; /* converted last */
    bool ahead_said;
} port_clock;

/* A port, and what is known of it. */
typedef struct loop_port {
    ikv_port port;
    ikv_sink sink;
    port_clock clock;
    bool ended;
    bool failed;  /* ended so */
    bool polling; /* it is being polled, or waits */
    bool leaving; /* its devices are still to be let go */
    bool unnamed; /* it holds things without a device */
} loop_port;

/* Where a loop is in a frame. */
enum {
    BETWEEN_FRAMES = 0,
    IN_FRAME = 1,   /* begun, no step running */
    IN_STEP = 2,    /* the input or the user's code of a step runs */
    AFTER_STEPS = 3 /* loop.frame has been delivered */
};

#define SECOND UINT64_C(1000000000)
#define NO_DUE UINT64_MAX

enum {
    REAL_TIME = 1000, /* the scale's unit */
    HELD_LIMIT = 64,
    MERGE_SLOTS = 64,
    LATE_BUCKETS = 128,
    DRIFT_LIMIT = 1000000 /* ns a second */
};

/* What ends the edges and motion that the state has, while the steps stand
 * still: a frame without input; on playing what was recorded, the tape. */
enum {
    EDGES_NONE,
    EDGES_RECORDED,
    EDGES_MADE_UP /* by a tape that was not recorded */
};

/* What has been reported, and is not again. */
enum {
    SAID_AGED,
    SAID_FULL_PENDING,
    SAID_REFUSED,
    SAID_DROPPED,
    SAID_INBOX,
    SAID_HELD,
    SAID_COUNT
};

/* What is beside a pending event. */
typedef struct loop_entry {
    uint64_t due; /* in steps' time; NO_DUE: by its own time, at its turn */
    uint64_t lost;
    uint32_t group;
    uint32_t before; /* of the chain that merges: how far back in the ring */
    uint16_t length; /* of that chain */
    union {
        uint16_t lane;  /* of what is from an inbox */
        uint16_t block; /* of an input: of its larger payload, plus 1; or 0 */
    };
    uint8_t how;
    bool played;
    uint8_t flush; /* of what is from an inbox: see ikv_intake */
    bool within : 1;
    bool merged : 1; /* a later one carries it */
} loop_entry;

/* A moment of the steps' time, and the first of the clock's that is not before
 * it: 0 if none is before it, UINT64_MAX if all are. */
typedef struct loop_deadline {
    uint64_t steps, clock;
} loop_deadline;

/* The move that further ones of the same pointer merge into. */
typedef struct merge_slot {
    uint64_t key;
    uint32_t run, last; /* ring index */
} merge_slot;

enum {
    STICKY_LIMIT = 8 /* modifiers that are pressed at once */
};

/* A modifier of a seat whose modifiers stay. */
typedef struct sticky_key {
    uint32_t code, key;
    uint16_t device;
    uint8_t location, view, own_seat; /* as its event said */
    uint8_t how;
} sticky_key;

typedef struct loop_sticky {
    uint8_t seats; /* a bit for each: theirs stay */
    uint32_t count;
    sticky_key keys[STICKY_LIMIT];
} loop_sticky;

struct ikv_loop {
    /* Links to what is outside, and constants. */
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikv_bus *bus;
    ikv_queue *queue;
    ikv_input *input; /* NULL: events go to the root */
    ikv_reporter reporter;
    void (*end_frame)(ikv_loop *loop); /* one that a port has begun and left */
    ikv_recorder recorder;
    void *recorder_user;
    /* Who measures, so that it is linked where it is asked for alone. */
    void (*mark)(const ikv_loop *loop, uint32_t moment);
    ikv_durations *durations;
    uint32_t leaving_count;
    uint32_t port_count, ended_count, polled_count;
    uint32_t num, den, frame_hz, max_steps, capacity, sample_limit;
    uint32_t device_room, held_room, slot_room;
    uint32_t run; /* number of the last run of moves; never goes back */
    uint64_t spin_ns, age_limit;
    bool at_frame, playing, idles;
    size_t held, seats, wanted; /* where the arrays begin */
    size_t events, entries;
    /* Larger payloads of what is pending: their sizes, 0 for those that are
     * free, behind the number of those that are not. */
    size_t block_sizes, blocks;
    uint32_t block_count, block_bytes;
    size_t samples;
    size_t slots, ports, device_port, gone;
    uint64_t step_ns,
        step_rest; /* a step's length in ns, and num-ths of a ns */
    uint16_t devices;
    size_t present; /* a bit of each device that was not removed so far */
    bool said[SAID_COUNT];
    ikvi_atomic bad_values; /* something was refused since the last drain */
    /* Of frames. */
    uint32_t where;
    bool started, quit, over;
    bool last;         /* all ports have ended: this frame is the last one */
    bool more_to_poll; /* a port that plays has more than there was room for */
    bool was_recorded; /* what it plays: it says when things were due */
    bool opening;      /* a step: mice are tested before its input is routed */
    bool in_event;     /* an event is being routed */
    bool hears;        /* its bus tells of flushes */
    bool in_seat;      /* of the loop's own, that a device has another seat */
    bool in_block;     /* and has a block */
    bool inside;       /* in one of the frame's functions, or what it calls */
    bool may_nest;     /* but in a port, which may run a whole frame */
    bool closing;
    bool dropping; /* time may have to be dropped when the past has rerun */
    bool past;     /* it runs again: what other threads send waits */
    bool in_scope; /* of a step: what happens follows from what is taped */
    uint64_t now, frame;
    uint32_t groups;     /* of what was routed between steps, so far */
    uint32_t live_group; /* of this frame's input; 0: none */
    uint32_t steps_left;
    uint64_t frame_origin, frame_index; /* of the pacing */
    uint64_t next_match; /* when the ports' clocks are compared again */
    bool asks_text;      /* ports for a text area */
    bool text_on;        /* they were told so, and where */
    float text_box[4];
    uint8_t drop_told; /* the port was told that a drop would: 1 not be taken, 2
                          be taken */
    uint64_t text_turn; /* of focus and scene, when that was looked at */
    loop_sticky sticky;
    uint16_t gone_first, gone_last; /* devices whose numbers may come back */
    uint64_t furthest;              /* the step after the last that ever ran */
    uint32_t given; /* of what waits, from the head on: a restore's */
    /* Of what is being routed, from the head on: the raw state has them; they
     * were looked through for merging. Both 0 when an image is made. */
    uint32_t fed_count, marked;
    uint32_t kept; /* behind the head: those that were taken off since, whose
                      moves a later one may still carry */
    uint32_t lateness[LATE_BUCKETS];
    ikv_loop_counts counters;
    /* The state that is saved and restored. */
    struct {
        uint32_t head, count;          /* of pending */
        uint64_t next_step;            /* the step that runs or comes next */
        uint64_t next_begin, next_end; /* of it, in steps' time */
        uint64_t step_begin, step_end; /* of it, on the clock */
        uint64_t last_due, routed_at;  /* of what was routed last */
        uint64_t anchor_clock, anchor_steps;
        uint32_t scale;
        bool fresh; /* loop.start was not told */
        bool stopped;
        /* Asked for within a step: takes effect at its end. */
        bool paused, single;
        bool owed;       /* while stopped: mice are to be tested again */
        bool reseats;    /* some device is to get another seat */
        uint8_t edges;   /* in the state's step, of what input */
        uint8_t flushes; /* of lanes, since what was taped last */
        uint32_t new_scale;
        uint64_t lost_ns;
        uint32_t held_count; /* the arrays follow, up to `events` */
    } s;
};

static inline ikv_event *loop_event(const ikv_loop *loop, uint32_t index)
{
    IKVI_CHECK(index < loop->capacity);
    return (ikv_event *)ikvi_at(loop, loop->events) + index;
}

static inline loop_entry *loop_entry_at(const ikv_loop *loop, uint32_t index)
{
    IKVI_CHECK(index < loop->capacity);
    return (loop_entry *)ikvi_at(loop, loop->entries) + index;
}

static inline loop_port *loop_port_at(const ikv_loop *loop, uint32_t index)
{
    IKVI_CHECK(index < loop->port_count);
    return (loop_port *)ikvi_at(loop, loop->ports) + index;
}

/* How many blocks are in use; then the nth one's size. */
static inline uint32_t *loop_blocks_used(const ikv_loop *loop)
{
    return ikvi_at(loop, loop->block_sizes);
}

static inline uint32_t *loop_block_size(const ikv_loop *loop, uint32_t block)
{
    IKVI_CHECK(block < loop->block_count);
    return loop_blocks_used(loop) + 1 + block;
}

static inline void *loop_block(const ikv_loop *loop, uint32_t block)
{
    IKVI_CHECK(block < loop->block_count);
    return (char *)ikvi_at(loop, loop->blocks) +
           (size_t)block * loop->block_bytes;
}

static inline uint32_t loop_free_blocks(const ikv_loop *loop)
{
    return loop->block_count - *loop_blocks_used(loop);
}

/* What ports said is down, which comes before the mark of a loss. */
static inline ikv_event *loop_held(const ikv_loop *loop)
{
    return ikvi_at(loop, loop->held);
}

/* Which port a device is of. */
static inline uint8_t *loop_device_port(const ikv_loop *loop, uint16_t device)
{
    IKVI_CHECK(device < loop->device_room);
    return (uint8_t *)ikvi_at(loop, loop->device_port) + device;
}

/* The device that went next after one, itself for the last; 0: it is not among
 * those that are gone. */
static inline uint16_t *loop_gone(const ikv_loop *loop, uint16_t device)
{
    IKVI_CHECK(device < loop->device_room);
    return (uint16_t *)ikvi_at(loop, loop->gone) + device;
}

/* The player whose a device is, plus 1, or 0: as its port says; and whose it is
 * to be. */
static inline uint8_t *loop_seat(const ikv_loop *loop, uint16_t device)
{
    IKVI_CHECK(device < loop->device_room);
    return (uint8_t *)ikvi_at(loop, loop->seats) + device;
}

static inline uint8_t *loop_wanted_seat(const ikv_loop *loop, uint16_t device)
{
    IKVI_CHECK(device < loop->device_room);
    return (uint8_t *)ikvi_at(loop, loop->wanted) + device;
}

/* The word that has a device's bit. */
static inline uint32_t *loop_present(const ikv_loop *loop, uint16_t device)
{
    IKVI_CHECK(device < loop->device_room);
    return (uint32_t *)ikvi_at(loop, loop->present) + device / 32;
}

/* The place in the ring of the nth from the head on. */
static inline uint32_t loop_ring_index(const ikv_loop *loop, uint32_t nth)
{
    IKVI_CHECK(nth < loop->capacity);
    return (loop->s.head + nth) & (loop->capacity - 1);
}

static inline const ikv_kind_info *loop_kind_info(const ikv_loop *loop,
                                                  ikv_kind kind)
{
    return ikv_catalogue_info(ikv_bus_catalogue(loop->bus), kind);
}

/* How many more events there is room for. */
static inline uint32_t loop_room(const ikv_loop *loop)
{
    IKVI_CHECK(loop->s.count + loop->kept <= loop->capacity);
    return loop->capacity - loop->s.count - loop->kept;
}

/* Whether it is one of the kinds that turn the clock, or the end of a tape's
 * run. */
static inline bool loop_is_of_clock(const ikv_event *event)
{
    return (event->kind >= IKV_KIND_LOOP_DROPPED &&
            event->kind <= IKV_KIND_LOOP_IDLE) ||
           event->kind == IKV_KIND_LOOP_END;
}

/* What another thread deferred is of any kind, and turns no clock by it. */
static inline bool loop_turns_clock(const ikv_loop *loop, uint32_t index)
{
    return loop_entry_at(loop, index)->how != IKV_INTAKE_INBOX &&
           loop_is_of_clock(loop_event(loop, index));
}

static inline uint64_t loop_step_start(const ikv_loop *loop, uint64_t n)
{
    return n * loop->step_ns + n / loop->num * loop->step_rest +
           n % loop->num * loop->step_rest / loop->num;
}

/* A moment of the steps' time within the step that comes next: before its begin
 * nothing comes any more, and what comes behind its end is not between the two. */
static inline uint64_t loop_within_next_step(const ikv_loop *loop,
                                             uint64_t steps)
{
    steps = steps < loop->s.next_begin ? loop->s.next_begin : steps;
    return steps >= loop->s.next_end ? loop->s.next_end - 1 : steps;
}

static inline bool loop_is_before(loop_deadline end, const ikv_event *event,
                                  const loop_entry *entry)
{
    return entry->due != NO_DUE ? entry->due < end.steps
                                : event->time_ns < end.clock;
}

static inline uint64_t loop_clock(const ikv_loop *loop)
{
    const loop_port *clock = loop_port_at(loop, 0);
    return clock->port.now(clock->port.state) - clock->clock.offset;
}

static inline void loop_report_once(ikv_loop *loop, uint32_t what,
                                    uint32_t level, ikv_status status,
                                    const char *text)
{
    ikvi_report_once(&loop->said[what], &loop->reporter, level, status, "loop",
                     text);
}

/* loop_time.c */
uint64_t ikvi_loop_to_steps(const ikv_loop *loop, uint64_t clock);
uint64_t ikvi_loop_to_clock(const ikv_loop *loop, uint64_t steps);
/* What has come before a moment of the steps' time, without asking for each. */
loop_deadline ikvi_loop_deadline(const ikv_loop *loop, uint64_t steps);
uint64_t ikvi_loop_frame_period(const ikv_loop *loop);
void ikvi_loop_set_anchor(ikv_loop *loop, uint64_t clock, uint64_t steps);
/* When the next step ends, on the clock. */
void ikvi_loop_time_step(ikv_loop *loop);
/* The steps stand still but for one that is due, or runs: it comes before all
 * else. */
bool ikvi_loop_single_waits(const ikv_loop *loop);

/* An entry's place in steps' time, not before that of what was before it. */
uint64_t ikvi_loop_due_of(const ikv_loop *loop, const ikv_event *event,
                          const loop_entry *entry, uint64_t before);
/* What is routed next is not before that. */
uint64_t ikvi_loop_earliest_due(const ikv_loop *loop);

/* loop_tell.c */
void ikvi_loop_tell(ikv_loop *loop, ikv_kind kind, uint64_t time_ns,
                    uint64_t step, float seconds, uint32_t count);
/* What happens from here on follows from the tape, or does not. */
bool ikvi_loop_scope(ikv_loop *loop, bool of_step);
void ikvi_loop_record(ikv_loop *loop, const ikv_event *event,
                      const ikv_intake *intake);
/* A number for what is routed together between two steps. */
uint32_t ikvi_loop_next_group(ikv_loop *loop);
/* Whether the step that runs, or that will come next without being asked for,
 * has run before. */
bool ikvi_loop_is_rerunning(const ikv_loop *loop);
/* Inboxes wait until what has run before is over. */
void ikvi_loop_note_past(ikv_loop *loop);

/* Delivers one of the loop's own events to the root; most of them nobody hears.
 */
static inline void loop_tell(ikv_loop *loop, ikv_kind kind, uint64_t time_ns,
                             uint64_t step, float seconds, uint32_t count)
{
    if (!ikvi_bus_nobody_hears(loop->bus, kind))
        ikvi_loop_tell(loop, kind, time_ns, step, seconds, count);
}

/* loop_ports.c */
void ikvi_loop_poll(ikv_loop *loop);
/* Within a frame, where a port that plays has more than there was room for. */
void ikvi_loop_poll_on(ikv_loop *loop);
void ikvi_loop_ask_text_area(ikv_loop *loop);
/* DRAG5: what came of a port's drag.over, if it is new. */
void ikvi_loop_tell_drop(ikv_loop *loop, const ikv_event *event,
                         ikv_verdict verdict);
/* Lets a port do what may run a frame of its own; and what that left undone. */
bool ikvi_loop_lend(ikv_loop *loop, uint32_t port);
void ikvi_loop_take_back(ikv_loop *loop, uint32_t port, bool lent);
/* A call of a port has failed: it is announced, what it holds is let go. */
void ikvi_loop_port_failed(ikv_loop *loop, uint32_t port, ikv_status status,
                           const char *what);

/* loop_data.c */
/* E5: what can't be recorded does not come in. By any thread. */
ikv_status ikvi_loop_check_value(ikv_sink *sink, const ikv_event *event);
ikv_status ikvi_loop_check_data(const ikv_loop *loop, const ikv_event *event,
                                const void *data, size_t size);
/* Copies data into a free block: its number, plus 1; and gives it back. */
uint16_t ikvi_loop_keep_data(ikv_loop *loop, const void *data, uint32_t size);
void ikvi_loop_free_data(ikv_loop *loop, uint16_t block);

/* loop_sticky.c */
/* Whether an event goes on, and what comes behind it: up to STICKY_LIMIT. */
bool ikvi_loop_sticky(ikv_loop *loop, const ikv_event *event, ikv_event *after,
                      uint32_t *count);
/* The router lets go of them by itself: of a device that goes, or of a view that
 * loses the focus. */
void ikvi_loop_forget_sticky(ikv_loop *loop, const ikv_event *event);
/* After a loss, of a device of which the first `named` are down by its port: what
 * stays is, too, and is appended. Returns how many there are then. */
uint32_t ikvi_loop_resync_sticky(ikv_loop *loop, uint16_t device,
                                 ikv_event *held, uint32_t named,
                                 uint32_t room);
/* Some seat's modifiers stay no more: the releases of those that have. */
uint32_t ikvi_loop_end_sticky(ikv_loop *loop, ikv_event *ups);

/* loop_input.c */
void ikvi_loop_drain(ikv_loop *loop);
/* Appends what the loop itself makes; false if there is no room. */
bool ikvi_loop_append(ikv_loop *loop, const ikv_event *event);
/* Its device.remove has been told: its number may come back. */
void ikvi_loop_note_gone(ikv_loop *loop, uint16_t device);
/* L8: reports what sinks refused, lets go of what ended ports hold. */
void ikvi_loop_look_after(ikv_loop *loop);
/* Reads all clocks: at the start, and then once a second. */
void ikvi_loop_match_clocks(ikv_loop *loop, bool first);
/* With a block of its data, for which there is room. */
loop_entry ikvi_loop_played_entry(ikv_loop *loop, const ikv_intake *intake);
ikv_status ikvi_loop_check_played(const ikv_loop *loop, const ikv_event *event,
                                  const ikv_intake *intake);

/* loop_seats.c */
/* An event that is fed or routed bears its device's seat; device.seat says
 * which that is from now on. */
void ikvi_loop_note_seat(ikv_loop *loop, ikv_event *event);
/* What was asked for within a step or a group: routed at its end, as if it had
 * come in. */
void ikvi_loop_apply_seats(ikv_loop *loop);
/* loop_merge.c */
/* Of the first `count` from the head on, those due before `end`. */
void ikvi_loop_mark_run(ikv_loop *loop, uint32_t count, uint64_t end);
/* Puts a chain's samples side by side, and its whole motion into the event; how
 * many they are. */
uint32_t ikvi_loop_gather(ikv_loop *loop, uint32_t index, ikv_event *event);

/* loop_holds.c */
/* Those that are due by then, before what is routed; or with what follows. */
void ikvi_loop_send_holds(ikv_loop *loop, uint64_t clock);
void ikvi_loop_advance_holds(ikv_loop *loop, uint64_t clock);
void ikvi_loop_end_between(ikv_loop *loop);
/* `ends`: the state's edges, too. */
void ikvi_loop_pass_time(ikv_loop *loop, uint64_t clock, bool ends);
/* OVER7, at the moment of what was routed last. */
void ikvi_loop_retest(ikv_loop *loop);

/* loop_turn.c */
/* Whether more than max_steps can be due: up to a step's length behind not, but
 * where they run faster than the clock. */
static inline bool ikvi_loop_may_drop(const ikv_loop *loop)
{
    uint64_t within = loop->s.scale > REAL_TIME ? 0 : loop->step_ns;
    return loop->now >= loop->s.step_end + within;
}
/* Drops the time of the steps beyond max_steps. */
void ikvi_loop_drop_time(ikv_loop *loop);
/* Steps stand still for so long: told, recorded, done. */
void ikvi_loop_skip_time(ikv_loop *loop, ikv_kind kind, uint64_t due,
                         uint64_t lost, uint32_t steps);
/* Tells loop.start, and does what was asked for before; or that is forgotten. */
void ikvi_loop_tell_start(ikv_loop *loop);
void ikvi_loop_forget_requests(ikv_loop *loop);
/* Does what a tape says: loop.pause, loop.resume and so on; `due` in steps'
 * time. Within a step it takes effect at its end. */
void ikvi_loop_apply_played(ikv_loop *loop, const ikv_event *event,
                            uint64_t due, const loop_entry *entry);
/* What was asked for within the step that has ended. */
void ikvi_loop_apply_requests(ikv_loop *loop);

/* loop_route.c */
/* Takes in what belongs between two steps; and what belongs into this one. */
void ikvi_loop_route_between(ikv_loop *loop);
/* S1: the raw state has the step's input before any of it is routed. */
void ikvi_loop_feed_state(ikv_loop *loop, uint64_t time_ns);
void ikvi_loop_route_step(ikv_loop *loop);
void ikvi_loop_give_inboxes(ikv_loop *loop);
void ikvi_loop_give_between(ikv_loop *loop);
void ikvi_loop_give_last(ikv_loop *loop);
/* A lane's flush begins, of steps or what is between them. */
void ikvi_loop_note_flush(ikv_loop *loop, ikv_lane lane);
/* A frame while the steps stand still: holds come due in it. */
void ikvi_loop_pass_paused_frame(ikv_loop *loop);

/* loop_record.c */
/* Has its bus tell of flushes, if it is recorded, or plays what was. */
void ikvi_loop_hear_flushes(ikv_loop *loop);

/* Moments that are measured. */
enum {
    MARK_FRAME_BEGINS = 0,
    MARK_STEP_BEGINS = 1,
    MARK_FRAME_ENDS = 2,
    MARK_STEP_ENDS = 3
};

static inline void loop_mark(const ikv_loop *loop, uint32_t moment)
{
    if (IKVI_UNLIKELY(loop->mark != NULL))
        loop->mark(loop, moment);
}

/* loop_pace.c */
uint32_t ikvi_loop_bucket_of(uint64_t ns);
/* Up to how many ns that many percent took, never more than `most`. */
uint64_t ikvi_loop_percentile(const uint32_t *buckets, uint32_t percent,
                              uint64_t most);
void ikvi_loop_pace(ikv_loop *loop);

#endif
