/* loop.c - opens a loop; frames and steps. See loop_internal.h. */
#include "loop_internal.h"

/* -------------------------------------------------------------- opening -- */

static const char *port_fault(const ikv_port *port)
{
    if (port->open == NULL || port->now == NULL || port->close == NULL)
        return "a port lacks open, now or close";
    return NULL;
}

/* Before any memory is taken, so that a loop that can't be opened leaves no
 * trace; the ports' own open() comes later. */
static ikv_status check_links(const ikv_loop_config *config)
{
    const ikv_reporter *to = &config->reporter;
    if (config->port_count > IKV_PORT_LIMIT)
        return ikvi_bad_config(to, IKV_FULL_PORTS, "loop",
                               ikv_status_text(IKV_FULL_PORTS));
    if (config->port_count == 0 || config->ports == NULL)
        return ikvi_bad_config(to, IKV_BAD_CONFIG, "loop",
                               "the config's ports is empty: the first is the "
                               "clock, ikv_null_port() for instance");
    if (config->bus == NULL || config->queue == NULL)
        return ikvi_bad_config(to, IKV_BAD_CONFIG, "loop",
                               config->bus == NULL
                                   ? "the config's bus is NULL"
                                   : "the config's queue is NULL");
    if (config->input != NULL && config->input->in_loop)
        return ikvi_bad_config(to, IKV_BUSY, "loop",
                               "the config's input is in a loop already");
    for (uint32_t i = 0; i < config->port_count; i++) {
        const ikv_port *port = &config->ports[i];
        if (port->size != sizeof *port)
            return ikvi_bad_config(to, IKV_BAD_SIZE, "loop",
                                   "a port's size is not that of ikv_port");
        if (port_fault(port) != NULL)
            return ikvi_bad_config(to, IKV_BAD_CONFIG, "loop",
                                   port_fault(port));
    }
    return IKV_OK;
}

static ikv_status check_loop_numbers(const ikv_loop_config *config,
                                     const ikv_reporter *reporter,
                                     const ikv_loop *loop)
{
    /* After the defaults: 0 has become one, and what is left is what was
     * meant. */
    bool paced = loop->frame_hz != IKV_UNPACED;
    const ikvi_range ranges[] = {
        {"loop.step_num", loop->num, 1, IKV_STEP_NUM_LIMIT - 1},
        {"loop.step_den", loop->den, 1, IKV_STEP_DEN_LIMIT - 1},
        {"loop.step_den / step_num, a step's length in ns,",
         (uint64_t)loop->den * SECOND / loop->num, 1000, 1000ull * SECOND},
        {"loop.frame_hz", paced ? loop->frame_hz : 1, 1, 1000000},
        {"loop.pending", config->pending, 0, 1u << 24},
        {"loop.samples", loop->sample_limit, 0, UINT16_MAX},
        {"loop.held", loop->held_room, 1, HELD_LIMIT},
        {"loop.devices", loop->device_room, 2, IKV_DEVICE_LIMIT},
        {"loop.timing", config->timing, 0, IKV_AT_FRAME},
        {"loop.blocks", loop->block_count, 0, IKVI_MOST_BLOCKS},
        {"loop.block_bytes", loop->block_bytes, 0, IKVI_BLOCK_LIMIT},
        {"loop.spin_ns", config->spin_ns, 0, SECOND}};
    return ikvi_check_ranges(reporter, "loop", ranges,
                             sizeof ranges / sizeof ranges[0]);
}

static ikv_status lay_out_loop(const ikv_loop_config *config,
                               const ikv_reporter *reporter, ikv_loop *loop)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    loop->num = ikvi_or(config->step_num, 60);
    loop->den = ikvi_or(config->step_den, 1);
    loop->frame_hz = ikvi_or(config->frame_hz, 60);
    loop->max_steps = ikvi_or(config->max_steps, 8);
    loop->capacity = ikvi_power_of_two(ikvi_or(config->pending, 2048));
    loop->sample_limit = ikvi_or(config->samples, 256);
    loop->held_room = ikvi_or(config->held, HELD_LIMIT);
    loop->device_room = ikvi_or(config->devices, IKV_DEVICE_LIMIT);
    loop->block_count = ikvi_block_count(config->blocks);
    loop->block_bytes = ikvi_block_bytes(config->block_bytes);
    /* No more pointers move in a run than there are events in it. */
    loop->slot_room =
        loop->capacity < MERGE_SLOTS ? loop->capacity : MERGE_SLOTS;
    ikv_status status = check_loop_numbers(config, reporter, loop);
    if (status < 0)
        return status;
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *loop);
    /* `held` follows the struct's saved part, as images hold both in one
     * piece. */
    loop->held = ikvi_layout_add(&l, loop->held_room, sizeof(ikv_event));
    loop->seats = ikvi_layout_add(&l, loop->device_room, sizeof(uint8_t));
    loop->wanted = ikvi_layout_add(&l, loop->device_room, sizeof(uint8_t));
    loop->events = ikvi_layout_add(&l, loop->capacity, sizeof(ikv_event));
    loop->entries = ikvi_layout_add(&l, loop->capacity, sizeof(loop_entry));
    loop->block_sizes =
        ikvi_layout_add(&l, loop->block_count + 1u, sizeof(uint32_t));
    loop->blocks = ikvi_layout_add(&l, loop->block_count, loop->block_bytes);
    loop->samples = ikvi_layout_add(&l, loop->sample_limit, sizeof(ikv_event));
    loop->slots = ikvi_layout_add(&l, loop->slot_room, sizeof(merge_slot));
    uint32_t ports = config->port_count;
    loop->ports = ikvi_layout_add(
        &l, ports < IKV_PORT_LIMIT ? ports : IKV_PORT_LIMIT, sizeof(loop_port));
    loop->device_port = ikvi_layout_add(&l, loop->device_room, sizeof(uint8_t));
    loop->gone = ikvi_layout_add(&l, loop->device_room, sizeof(uint16_t));
    loop->present =
        ikvi_layout_add(&l, loop->device_room / 32 + 1u, sizeof(uint32_t));
    loop->size = ikvi_layout_size(&l);
    return loop->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_loop_footprint(const ikv_loop_config *config)
{
    ikv_loop plan;
    return config != NULL && lay_out_loop(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

static void close_ports(ikv_loop *loop, uint32_t count)
{
    /* The last one first: a later port may use an earlier one's clock. */
    while (count > 0) {
        count--;
        loop_port_at(loop, count)
            ->port.close(loop_port_at(loop, count)->port.state);
    }
}

static void end_nested(ikv_loop *loop)
{
    ikv_loop_end(loop);
}

ikv_status ikv_loop_open(const ikv_loop_config *config, ikv_loop **loop)
{
    if (config == NULL || loop == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_loop plan = {.memory = config->memory,
                     .identity =
                         ikvi_identity(config, offsetof(ikv_loop_config, bus)),
                     .bus = config->bus,
                     .queue = config->queue,
                     .input = config->input,
                     .end_frame = end_nested,
                     .reporter = config->reporter,
                     .port_count = config->port_count};
    void *block = NULL;
    ikv_status status = lay_out_loop(config, &config->reporter, &plan);
    if (status == IKV_OK)
        status = check_links(config);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    ikv_loop *l = block;
    *l = plan;
    l->step_ns = (uint64_t)l->den * SECOND / l->num;
    l->step_rest = (uint64_t)l->den * SECOND % l->num;
    l->at_frame = config->timing == IKV_AT_FRAME;
    l->idles = config->idles;
    l->spin_ns = config->spin_ns;
    /* A quarter above a frame: what waited longer was not drained in its
     * frame. */
    l->age_limit = ikvi_loop_frame_period(l) / 4 * 5;
    l->playing = (config->ports[0].capabilities & IKV_PORT_PLAYBACK) != 0;
    l->s.scale = l->s.new_scale = REAL_TIME;
    l->s.fresh = true;
    l->s.next_end = loop_step_start(l, 1);
    l->s.step_end = l->s.next_end;
    for (uint32_t i = 0; i < l->port_count; i++) {
        loop_port *p = loop_port_at(l, i);
        p->port = config->ports[i];
        p->sink.loop = l;
        p->sink.port = i;
        /* Told from an event of the program's own, which has none. */
        p->sink.tag = (uint16_t)((i + 1) << IKVI_TAG_SHIFT);
        l->polled_count += p->port.poll != NULL;
        l->asks_text =
            l->asks_text || (p->port.request != NULL && config->input != NULL &&
                             !config->no_text_area);
        status = p->port.open(p->port.state, &p->sink);
        /* All or none: those that are open are closed again. */
        if (status < 0) {
            ikvi_report(&l->reporter, IKV_REPORT_ERROR, status, p->port.name,
                        "the port could not be opened");
            close_ports(l, i);
            ikvi_memory_give(&config->memory, l, l->size);
            return status;
        }
    }
    ikvi_loop_hear_flushes(l);
    /* What happens outside of steps follows from no tape. */
    ikvi_bus_set_scope(l->bus, false);
    if (l->input != NULL)
        l->input->in_loop = true;
    *loop = l;
    return IKV_OK;
}

/* L9: what can't be done at this moment, in any build. */
static bool is_refused(ikv_loop *loop, bool refused, const char *text)
{
    if (refused)
        ikvi_report(&loop->reporter, IKV_REPORT_ERROR, IKV_BUSY, "loop", text);
    return refused;
}

ikv_status ikv_loop_close(ikv_loop *loop)
{
    if (loop == NULL)
        return IKV_OK;
    if (is_refused(loop,
                   loop->inside || loop->closing || ikvi_bus_is_busy(loop->bus),
                   "not closed: inside a handler, or a port"))
        return IKV_BUSY;
    /* A port's close() that comes back into the loop is refused. */
    loop->closing = loop->inside = true;
    if (loop->input != NULL)
        loop->input->in_loop = false;
    close_ports(loop, loop->port_count);
    ikvi_bus_set_scope(loop->bus, true);
    if (loop->hears)
        ikvi_bus_on_inbox(loop->bus, NULL, NULL);
    ikv_memory memory = loop->memory;
    ikvi_memory_give(&memory, loop, loop->size);
    return IKV_OK;
}

/* ---------------------------------------------------- the loop's events -- */

IKVI_APART static void start(ikv_loop *loop)
{
    if (!loop->started) {
        loop->started = true;
        /* From here on the clock's time is 0 at loop.start. */
        ikvi_loop_match_clocks(loop, true);
        loop->frame_origin = 0;
    }
    ikvi_loop_tell_start(loop);
}

/* All ports have ended: what waits past the end of the last step gets the steps
 * that it still needs, one a frame, so that they are the same ones at any frame
 * rate, and whether or not the clock goes on. */
static void run_out(ikv_loop *loop)
{
    bool waits = loop->s.count > 0 || ikvi_loop_is_rerunning(loop);
    /* As if the clock had just come to the next step's end. */
    if (waits && loop->now < loop->s.step_end)
        loop->now = loop->s.step_end;
}

/* --------------------------------------------------------------- frames -- */

/* L4: once. */
IKVI_APART static bool finish(ikv_loop *loop)
{
    if (!loop->over && loop->started) {
        ikvi_loop_give_last(loop);
        ikvi_loop_forget_requests(loop); /* of other code, since the quit */
        loop->over = true;
        /* What waits is delivered, and what that defers is not: it would never
         * end. */
        ikv_bus_flush(loop->bus, IKV_STEP_LANE, NULL);
        ikv_bus_flush(loop->bus, IKV_FRAME_LANE, NULL);
        loop_tell(loop, IKV_KIND_LOOP_END, loop->now, loop->s.next_step, 0, 0);
    }
    return false;
}

/* A clock that runs backwards stands still. */
static void read_clock(ikv_loop *loop)
{
    uint64_t now = loop_clock(loop);
    if ((int64_t)(now - loop->now) > 0)
        loop->now = now;
}

enum {
    ENTER_NOT,
    ENTER_PLAINLY,
    ENTER_NESTED /* in a port that polls or waits */
};

IKVI_APART static int enter_if_allowed(ikv_loop *loop, const char *refusal)
{
    if (is_refused(loop,
                   (loop->inside && !loop->may_nest) || loop->closing ||
                       ikvi_bus_is_busy(loop->bus),
                   refusal))
        return ENTER_NOT;
    /* Within the nested frame there is none, unless it polls in turn. */
    loop->may_nest = false;
    return ENTER_NESTED;
}

/* A frame's function begins, if it may now. */
IKVI_INLINE int enter(ikv_loop *loop, const char *refusal)
{
    if (IKVI_UNLIKELY(loop->inside || ikvi_bus_is_busy(loop->bus)))
        return enter_if_allowed(loop, refusal);
    loop->inside = true;
    return ENTER_PLAINLY;
}

IKVI_INLINE void leave(ikv_loop *loop, int entered)
{
    if (IKVI_LIKELY(entered == ENTER_PLAINLY))
        loop->inside = false;
    else
        loop->may_nest = true;
}

/* Whether something may belong between two steps. */
static bool has_between(const ikv_loop *loop)
{
    return loop->s.count > 0 || loop->more_to_poll;
}

/* Ports that have ended, and values that were refused. */
static bool needs_looking_after(const ikv_loop *loop)
{
    return loop->leaving_count != 0 || ikvi_load(&loop->bad_values) != 0;
}

/* Where what is run again has come to the present: as at a frame's begin. What
 * was pushed waits for it: what is late is known then. */
static void end_past(ikv_loop *loop)
{
    if (has_between(loop))
        ikvi_loop_route_between(loop);
    /* How far time has come is known only now. */
    ikvi_loop_drop_time(loop);
    if (loop->dropping)
        return;
    if (ikv_queue_has_news(loop->queue))
        ikvi_loop_drain(loop);
    if (needs_looking_after(loop))
        ikvi_loop_look_after(loop);
    if (has_between(loop))
        ikvi_loop_route_between(loop);
    if (loop->s.stopped)
        ikvi_loop_pass_paused_frame(loop);
}

/* What follows the user's code of a step. */
static void finish_step(ikv_loop *loop)
{
    IKVI_CHECK(loop->where == IN_STEP && loop->fed_count == 0); /* loop-3 */
    ikvi_input_end_step(loop->input, loop->s.next_step, loop->s.step_end);
    /* Timers on their lanes, then the lane is flushed: they are heard in this
     * step. */
    ikv_bus_advance(loop->bus, loop->s.next_end);
    if (loop->s.count == 0 && loop->more_to_poll) /* what the flush took */
        ikvi_loop_poll_on(loop);
    ikv_bus_flush(loop->bus, IKV_STEP_LANE, NULL);
    if (loop->s.count > 0)
        ikvi_loop_give_inboxes(loop);
    loop->s.next_step++;
    loop->s.next_begin = loop->s.next_end;
    loop->s.next_end = loop_step_start(loop, loop->s.next_step + 1);
    loop->s.step_begin = loop->s.step_end;
    loop->where = IN_FRAME;
    /* A step that is run again is none of the frame's. */
    if (loop->s.next_step > loop->furthest) {
        loop->furthest = loop->s.next_step;
        if (loop->steps_left > 0)
            loop->steps_left--;
    }
    ikvi_loop_apply_requests(loop);
    ikvi_loop_apply_seats(loop);
    if (loop->s.stopped) {
        ikvi_loop_give_between(loop);
        ikvi_loop_retest(loop);
        ikvi_loop_end_between(loop);
    }
    /* now that all that may turn the clock here has */
    if (IKVI_UNLIKELY(loop->past))
        ikvi_loop_note_past(loop);
    ikvi_loop_time_step(loop);
    ikvi_loop_scope(loop, false);
    loop_mark(loop, MARK_STEP_ENDS);
}

static bool step_is_due(const ikv_loop *loop)
{
    return ikvi_loop_to_steps(loop, loop->now) >= loop->s.next_end;
}

/* After a quit the rest of the frame's steps do not run. */
static bool step_may_run(const ikv_loop *loop)
{
    return loop->steps_left > 0 && !loop->quit && step_is_due(loop);
}

/* L3: state, what mice rest on, input, holds, loop.step. */
IKVI_APART static void run_step(ikv_loop *loop)
{
    IKVI_CHECK(loop->s.next_begin < loop->s.next_end);
    loop_mark(loop, MARK_STEP_BEGINS);
    loop->counters.steps++;
    loop->where = IN_STEP;
    loop->s.edges = EDGES_NONE;
    ikvi_loop_scope(loop, true);
    ikv_bus_set_step(loop->bus, loop->s.next_step);
    /* What the step itself tells is not before it begins. */
    if (loop->s.step_begin > loop->s.routed_at)
        loop->s.routed_at = loop->s.step_begin;
    if (loop->input != NULL) {
        /* S1: handlers of the step's first event may ask for the whole step's
         * input. */
        ikvi_loop_feed_state(loop, loop->s.step_end);
        loop->opening = true;
        ikvi_loop_retest(loop);
        loop->opening = false;
    }
    if (has_between(loop))
        ikvi_loop_route_step(loop);
    ikvi_input_finish(loop->input, loop->s.routed_at, loop->s.step_end);
    loop_tell(loop, IKV_KIND_LOOP_STEP, loop->s.step_end, loop->s.next_step,
              ikvi_quotient(loop->den, loop->num), 0);
}

/* What comes before most steps but the first of a frame. */
IKVI_APART static void end_what_was_before(ikv_loop *loop)
{
    if (loop->where == IN_STEP)
        finish_step(loop);
    if (loop->s.fresh) /* an image within this frame went back to it */
        start(loop);
    if (loop->more_to_poll) /* so that no step's input is in two */
        ikvi_loop_poll_on(loop);
    if (loop->dropping)
        end_past(loop);
}

IKVI_INLINE bool begin_step(ikv_loop *loop)
{
    if (IKVI_UNLIKELY((loop->where == IN_STEP) | loop->more_to_poll |
                      loop->dropping | loop->s.fresh))
        end_what_was_before(loop);
    if (has_between(loop))
        ikvi_loop_route_between(loop);
    if (step_may_run(loop)) {
        run_step(loop);
        return true;
    }
    /* A handler has made more due than a frame may run: another frame does. */
    if (IKVI_UNLIKELY(loop->last) && step_is_due(loop))
        loop->last = false;
    loop->where = AFTER_STEPS;
    loop_tell(loop, IKV_KIND_LOOP_FRAME, loop->now, ikv_loop_step_number(loop),
              0, 0);
    return false;
}

bool ikv_loop_step(ikv_loop *loop)
{
    if (loop == NULL)
        return false;
    int entered = enter(loop, "ikv_loop_step(): refused inside a handler, or "
                              "what else the loop calls");
    if (entered == ENTER_NOT)
        return false;
    bool more =
        (loop->where == IN_FRAME || loop->where == IN_STEP) && begin_step(loop);
    leave(loop, entered);
    return more;
}

/* A frame may end before its steps have all run. */
IKVI_APART static void end_steps(ikv_loop *loop)
{
    if (loop->where == IN_STEP)
        finish_step(loop);
    /* Without a step left beginning one only tells loop.frame. What the program
     * has not run is not waited for. */
    bool last = loop->last;
    loop->steps_left = 0;
    begin_step(loop);
    loop->last = last;
}

IKVI_INLINE void end_frame(ikv_loop *loop, bool paces)
{
    if (IKVI_UNLIKELY(loop->where == IN_STEP || loop->where == IN_FRAME))
        end_steps(loop);
    if (ikvi_bus_lane_waits(loop->bus, IKV_FRAME_LANE))
        ikv_bus_flush(loop->bus, IKV_FRAME_LANE, NULL);
    if (loop->asks_text)
        ikvi_loop_ask_text_area(loop);
    loop->where = BETWEEN_FRAMES;
    loop->frame++;
    loop_mark(loop, MARK_FRAME_ENDS);
    if (paces && (loop->frame_hz != IKV_UNPACED || loop->idles))
        ikvi_loop_pace(loop);
}

ikv_status ikv_loop_end(ikv_loop *loop)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    int entered = enter(loop, "ikv_loop_end(): refused inside a handler, or "
                              "what else the loop calls");
    if (entered == ENTER_NOT)
        return IKV_BUSY;
    if (loop->where != BETWEEN_FRAMES) /* a port that runs it has the time */
        end_frame(loop, entered == ENTER_PLAINLY);
    leave(loop, entered);
    return IKV_OK;
}

/* What most frames have nothing of, before the input is routed. */
IKVI_APART static void look_around(ikv_loop *loop)
{
    if (needs_looking_after(loop))
        ikvi_loop_look_after(loop);
    /* Asked before this frame's input is routed, so that its steps still run. */
    loop->last = loop->ended_count == loop->port_count && loop->s.count == 0 &&
                 loop->leaving_count == 0 &&
                 ikv_queue_waiting(loop->queue) == 0 &&
                 !ikvi_loop_is_rerunning(loop);
    if (loop->past)
        ikvi_loop_note_past(loop);
}

/* And after it. */
IKVI_APART static void look_back(ikv_loop *loop)
{
    bool past = loop->dropping;
    /* First: what was pushed meanwhile may need no step. */
    if (past)
        end_past(loop);
    if (loop->ended_count == loop->port_count)
        run_out(loop);
    if (!past && loop->s.stopped)
        ikvi_loop_pass_paused_frame(loop);
}

IKVI_APART static void end_late(ikv_loop *loop)
{
    end_frame(loop, false);
}

IKVI_INLINE bool begin_frame(ikv_loop *loop)
{
    /* The one before was not ended: it is now, and does not wait. */
    if (IKVI_UNLIKELY(loop->where != BETWEEN_FRAMES))
        end_late(loop);
    if (IKVI_UNLIKELY(loop->s.fresh))
        start(loop);
    if (loop->quit || loop->last)
        return finish(loop);
    loop_mark(loop, MARK_FRAME_BEGINS);
    if (loop->polled_count > 0) {
        ikvi_loop_poll(loop);
        if (loop->over)
            return false; /* it ended in a frame inside the poll */
    }
    read_clock(loop);
    if (IKVI_UNLIKELY(loop->now >= loop->next_match))
        ikvi_loop_match_clocks(loop, false);
    if (IKVI_UNLIKELY(ikvi_loop_may_drop(loop) || loop->past))
        ikvi_loop_drop_time(loop);
    /* Time is dropped first: what is drained then knows its place. */
    if (IKVI_UNLIKELY(ikv_queue_has_news(loop->queue) && !loop->dropping))
        ikvi_loop_drain(loop);
    loop->counters.frames++;
    ikvi_input_begin_frame(loop->input);
    bool ended = loop->ended_count == loop->port_count;
    if (IKVI_UNLIKELY(needs_looking_after(loop) ||
                      ended | loop->s.stopped | loop->past))
        look_around(loop);
    loop->where = IN_FRAME;
    loop->live_group = 0;
    /* A tape's steps are all run, however long the frame takes. */
    loop->steps_left = loop->playing ? UINT32_MAX : loop->max_steps;
    ikv_bus_set_frame(loop->bus, loop->frame);
    if (has_between(loop))
        ikvi_loop_route_between(loop);
    if (IKVI_UNLIKELY(ended | loop->dropping | loop->s.stopped))
        look_back(loop);
    return true;
}

bool ikv_loop_begin(ikv_loop *loop)
{
    if (loop == NULL || loop->over)
        return false;
    int entered =
        enter(loop, "ikv_loop_begin(): refused inside a handler, or what else "
                    "the loop calls but a port's poll and wait");
    if (entered == ENTER_NOT)
        return false;
    bool more = begin_frame(loop);
    leave(loop, entered);
    return more;
}

void ikv_loop_quit(ikv_loop *loop)
{
    if (loop != NULL)
        loop->quit = true;
}

/* -------------------------------------------------------------- queries -- */

double ikv_loop_step_seconds(const ikv_loop *loop)
{
    return loop != NULL ? (double)loop->den / loop->num : 0;
}

void ikv_loop_rate(const ikv_loop *loop, uint32_t *num, uint32_t *den)
{
    if (num != NULL)
        *num = loop != NULL ? loop->num : 0;
    if (den != NULL)
        *den = loop != NULL ? loop->den : 0;
}

uint32_t ikv_loop_timing(const ikv_loop *loop)
{
    return loop != NULL && loop->at_frame ? IKV_AT_FRAME : IKV_IN_STEP;
}

float ikv_loop_blend(const ikv_loop *loop)
{
    if (loop == NULL)
        return 0;
    uint64_t begin = loop->s.next_begin;
    uint64_t now = ikvi_loop_to_steps(loop, loop->now);
    if (now <= begin)
        return 0;
    /* A step may be due and not run: the picture does not run ahead of it. */
    return now < loop->s.next_end
               ? ikvi_quotient(now - begin, loop->s.next_end - begin)
               : 1;
}

uint64_t ikv_loop_clock_ns(const ikv_loop *loop)
{
    return loop != NULL && loop->started ? loop_clock(loop) : 0;
}

uint64_t ikv_loop_step_number(const ikv_loop *loop)
{
    if (loop == NULL || loop->where == IN_STEP)
        return loop != NULL ? loop->s.next_step : 0;
    /* Between steps it is the last one that ran. */
    return loop->s.next_step > 0 ? loop->s.next_step - 1 : 0;
}

uint64_t ikv_loop_frame_number(const ikv_loop *loop)
{
    return loop != NULL ? loop->frame : 0;
}

uint64_t ikv_loop_time_ns(const ikv_loop *loop)
{
    return loop != NULL ? loop->now : 0;
}

ikv_status ikv_loop_counters(const ikv_loop *loop, ikv_loop_counts *counts)
{
    if (loop == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_loop_counts found = loop->counters;
    found.waiting_capacity = loop->capacity;
    for (uint32_t i = 0; i < loop->port_count; i++)
        found.bad_values += ikvi_load(&loop_port_at(loop, i)->sink.refused);
    return ikvi_give_sized(counts, &found, sizeof found);
}

/* ------------------------------------------------------------ validator -- */

/* Each block in use is of one pending event, and none is in use beside. */
static bool blocks_are_whole(const ikv_loop *loop)
{
    uint32_t used = 0, named = 0;
    for (uint32_t i = 0; i < loop->block_count; i++)
        used += *loop_block_size(loop, i) > 0;
    for (uint32_t nth = 0; nth < loop->s.count; nth++) {
        const loop_entry *entry =
            loop_entry_at(loop, loop_ring_index(loop, nth));
        if (entry->how != IKV_INTAKE_INPUT || entry->block == 0)
            continue;
        if (entry->block > loop->block_count ||
            *loop_block_size(loop, entry->block - 1u) == 0)
            return false;
        named++;
    }
    /* The one whose event is being routed. */
    named += loop->in_block;
    return used == named && used == *loop_blocks_used(loop);
}

const char *ikv_loop_validate(const ikv_loop *loop)
{
    if (loop == NULL || !loop->started)
        return NULL;
    uint32_t waiting = loop->s.count;
    if (loop->s.last_due >= loop->s.next_end)
        return "loop-1";
    if (waiting > loop->capacity || loop->fed_count > waiting ||
        loop->marked > waiting || loop->given > waiting)
        return "loop-2";
    for (uint32_t nth = 0; nth < waiting; nth++) {
        const ikv_event *event = loop_event(loop, loop_ring_index(loop, nth));
        if (loop_kind_info(loop, event->kind) == NULL)
            return "loop-2";
    }
    if (!blocks_are_whole(loop))
        return "loop-4";
    if (loop->s.next_begin != loop_step_start(loop, loop->s.next_step) ||
        loop->s.next_end != loop_step_start(loop, loop->s.next_step + 1) ||
        loop->s.next_step > loop->furthest)
        return "loop-3";
    return NULL;
}

/* --------------------------------------------------------------- images -- */

uint64_t ikvi_loop_saved(ikv_loop *loop, ikvi_saved to[2])
{
    /* With `held`, which lies between the struct and the events. */
    to[0] = (ikvi_saved){&loop->s, loop->events - offsetof(ikv_loop, s)};
    to[1] =
        (ikvi_saved){ikvi_at(loop, loop->events), loop->samples - loop->events};
    return loop->identity;
}

ikvi_waiting ikvi_loop_waiting(const ikv_loop *loop)
{
    return (ikvi_waiting){loop->s.head, loop->s.count};
}

bool ikvi_loop_is_routing(const ikv_loop *loop)
{
    return loop->in_event;
}

bool ikvi_loop_is_in_step(const ikv_loop *loop)
{
    return loop->where == IN_STEP;
}

ikv_status ikvi_loop_check_taken(const ikv_loop *loop, const ikv_taken *since,
                                 uint32_t count)
{
    /* All or nothing: a restore that does not fit leaves the present as it
     * is. */
    uint32_t blocks = 0;
    if (since == NULL)
        return IKV_OK;
    if (count > loop->capacity - loop->s.count)
        return IKV_FULL_PENDING;
    for (uint32_t i = 0; i < count; i++) {
        blocks += since[i].intake.data_size > 0;
        ikv_status status =
            ikvi_loop_check_played(loop, &since[i].event, &since[i].intake);
        if (status < 0)
            return status;
    }
    return blocks <= loop_free_blocks(loop) ? IKV_OK : IKV_FULL_BLOCKS;
}

/* Moves what waits now to the end of the ring's room and puts the other before
 * it: there is room for both. */
static void put_before(ikv_loop *loop, const ikv_taken *since, uint32_t count,
                       ikvi_waiting now)
{
    loop->s.head = (now.head - count) & (loop->capacity - 1);
    loop->s.count = now.count + count;
    IKVI_CHECK(loop->marked == 0 && loop->fed_count == 0);
    for (uint32_t i = 0; i < count; i++) {
        uint32_t at = (loop->s.head + i) & (loop->capacity - 1);
        *loop_event(loop, at) = since[i].event;
        *loop_entry_at(loop, at) =
            ikvi_loop_played_entry(loop, &since[i].intake);
    }
}

void ikvi_loop_restored(ikv_loop *loop, const ikv_taken *since, uint32_t count,
                        ikvi_waiting now)
{
    if (since != NULL)
        put_before(loop, since, count, now);
    /* What was asked for before loop.start is among it. */
    if (since != NULL && loop->s.fresh)
        ikvi_loop_forget_requests(loop);
    loop->given = since == NULL ? 0 : loop->given + count;
    /* There is more to run, wherever the ports are. */
    loop->last = false;
    /* It may be another loop's of the same config, which had come further. */
    if (loop->s.next_step > loop->furthest)
        loop->furthest = loop->s.next_step;
    loop->past = since != NULL;
    ikvi_loop_hear_flushes(loop);
    ikvi_loop_note_past(loop);
    loop->counters.waiting = loop->s.count;
    ikv_bus_set_frame(loop->bus, loop->frame);
}
