/* loop.c - frames, fixed steps, due times, pacing.
 *
 * Times are ns since loop.start. Drained events wait in `pending`, a ring in
 * the order of their due times, until the step whose time holds them.
 *
 * L1  due times in `pending` never go backwards
 * L2  steps run in order; `shift` is the time that was dropped before them
 */
#include "internal.h"

#include "ikvar/loop.h"

struct ikv_sink {
    ikv_loop *loop;
    uint32_t port;
};

/* Where a loop is in a frame. */
enum {
    BETWEEN_FRAMES = 0,
    IN_FRAME = 1,   /* begun, no step running */
    IN_STEP = 2,    /* the user's code of a step runs */
    AFTER_STEPS = 3 /* loop.frame has been delivered */
};

struct ikv_loop {
    ikv_memory memory;
    size_t size;
    ikv_bus *bus;
    ikv_queue *queue;
    ikv_router *routers[IKV_ROUTER_LIMIT];
    uint32_t router_count;
    ikv_reporter reporter;
    ikv_port ports[IKV_PORT_LIMIT];
    ikv_sink sinks[IKV_PORT_LIMIT];
    uint64_t offsets[IKV_PORT_LIMIT]; /* the port's clock at loop.start */
    bool ended[IKV_PORT_LIMIT];
    uint32_t port_count, ended_count, polled_count;
    uint32_t num, den, frame_hz, max_steps, capacity;
    size_t events, dues;

    uint16_t devices;
    uint8_t device_port[UINT16_MAX / 64]; /* which port a device is of */
    uint32_t where;
    bool started, quit, over;
    uint32_t head, count; /* of pending */
    uint64_t whole, rest; /* a step's length in ns, and num-ths of a ns */
    uint64_t next_end;    /* when the next step ends */
    uint64_t last_due;
    uint64_t now, frame, next_step, shift;
    uint32_t steps_left;
    uint64_t frame_origin, frame_index; /* of the pacing */
    uint64_t last_warning;
    ikv_loop_counters counters;
};

enum {
    DEVICE_LIMIT = UINT16_MAX / 64,
    SECOND = 1000000000
};

static ikv_event *pending_events(const ikv_loop *loop)
{
    return ikvi_at((void *)(uintptr_t)loop, loop->events);
}

static uint64_t *pending_dues(const ikv_loop *loop)
{
    return ikvi_at((void *)(uintptr_t)loop, loop->dues);
}

/* ---------------------------------------------------------------- times -- */

/* n = q * num + r gives q whole spans of den seconds, and r steps more. */
uint64_t ikv_loop_step_start(uint64_t n, uint32_t num, uint32_t den)
{
    if (num == 0)
        return 0;
    uint64_t span = (uint64_t)den * SECOND;
    uint64_t whole = span / num, rest = span % num;
    return n * whole + n / num * rest + n % num * rest / num;
}

static uint64_t step_start(const ikv_loop *loop, uint64_t n)
{
    return n * loop->whole + n / loop->num * loop->rest +
           n % loop->num * loop->rest / loop->num + loop->shift;
}

static uint64_t frame_period(const ikv_loop *loop)
{
    uint32_t hz = loop->frame_hz == IKV_UNPACED ? 60 : loop->frame_hz;
    return SECOND / hz;
}

/* -------------------------------------------------------------- opening -- */

static ikv_status check_links(const ikv_loop_config *config)
{
    if (config->port_count > IKV_PORT_LIMIT)
        return IKV_FULL_PORTS;
    if (config->router_count > IKV_ROUTER_LIMIT)
        return IKV_FULL_ROUTERS;
    for (uint32_t i = 0; i < config->router_count; i++)
        if (config->routers == NULL || config->routers[i] == NULL)
            return IKV_BAD_CONFIG;
    if (config->port_count == 0 || config->ports == NULL ||
        config->bus == NULL || config->queue == NULL)
        return IKV_BAD_CONFIG;
    for (uint32_t i = 0; i < config->port_count; i++) {
        const ikv_port *port = &config->ports[i];
        if (port->size != sizeof *port)
            return IKV_BAD_SIZE;
        if (port->open == NULL || port->now == NULL || port->close == NULL)
            return IKV_BAD_CONFIG;
    }
    return IKV_OK;
}

static ikv_status lay_out_loop(const ikv_loop_config *config, ikv_loop *loop)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    loop->num = ikvi_or(config->step_num, 60);
    loop->den = ikvi_or(config->step_den, 1);
    loop->frame_hz = ikvi_or(config->frame_hz, 60);
    loop->max_steps = ikvi_or(config->max_steps, 8);
    loop->capacity = ikvi_power_of_two(ikvi_or(config->pending, 2048));
    uint64_t length = (uint64_t)loop->den * SECOND / loop->num;
    if (loop->num >= 1u << 30 || loop->den >= 1u << 20 || length < 1000 ||
        length > 1000ull * SECOND || loop->capacity > 1u << 24 ||
        (loop->frame_hz > 1000000 && loop->frame_hz != IKV_UNPACED))
        return IKV_BAD_CONFIG;
    ikvi_layout l = {0, false};
    ikvi_layout_add(&l, 1, sizeof *loop);
    loop->events = ikvi_layout_add(&l, loop->capacity, sizeof(ikv_event));
    loop->dues = ikvi_layout_add(&l, loop->capacity, sizeof(uint64_t));
    loop->size = ikvi_layout_size(&l);
    return loop->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_loop_footprint(const ikv_loop_config *config)
{
    ikv_loop plan;
    return config != NULL && lay_out_loop(config, &plan) == IKV_OK ? plan.size
                                                                   : 0;
}

static void close_ports(ikv_loop *loop, uint32_t count)
{
    while (count > 0) {
        count--;
        loop->ports[count].close(loop->ports[count].state);
    }
}

ikv_status ikv_loop_open(const ikv_loop_config *config, ikv_loop **loop)
{
    if (config == NULL || loop == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_loop plan = {.memory = config->memory,
                     .bus = config->bus,
                     .queue = config->queue,
                     .router_count = config->router_count,
                     .reporter = config->reporter,
                     .port_count = config->port_count};
    void *block = NULL;
    ikv_status status = lay_out_loop(config, &plan);
    if (status == IKV_OK)
        status = check_links(config);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    ikv_loop *l = block;
    *l = plan;
    l->whole = (uint64_t)l->den * SECOND / l->num;
    l->rest = (uint64_t)l->den * SECOND % l->num;
    l->next_end = step_start(l, 1);
    for (uint32_t i = 0; i < l->router_count; i++)
        l->routers[i] = config->routers[i];
    for (uint32_t i = 0; i < l->port_count; i++) {
        l->ports[i] = config->ports[i];
        l->sinks[i] = (ikv_sink){l, i};
        l->polled_count += l->ports[i].poll != NULL;
        status = l->ports[i].open(l->ports[i].state, &l->sinks[i]);
        if (status < 0) {
            ikvi_say(&l->reporter, IKV_REPORT_ERROR, status, l->ports[i].name,
                     "the port could not be opened");
            close_ports(l, i);
            ikvi_memory_give(&config->memory, l, l->size);
            return status;
        }
    }
    *loop = l;
    return IKV_OK;
}

void ikv_loop_close(ikv_loop *loop)
{
    if (loop != NULL) {
        close_ports(loop, loop->port_count);
        ikv_memory memory = loop->memory;
        ikvi_memory_give(&memory, loop, loop->size);
    }
}

/* ---------------------------------------------------------------- sinks -- */

uint16_t ikv_sink_device(ikv_sink *sink)
{
    if (sink == NULL || sink->loop->devices + 1 >= DEVICE_LIMIT)
        return 0;
    uint16_t device = ++sink->loop->devices;
    sink->loop->device_port[device] = (uint8_t)sink->port;
    return device;
}

ikv_status ikv_sink_push(ikv_sink *sink, const ikv_event *event)
{
    return sink != NULL ? ikv_queue_push_own(sink->loop->queue, event)
                        : IKV_BAD_ARGUMENT;
}

/* How many bytes the code point at `text` has; 0 if it is none. */
static size_t point_length(const char *text, size_t left)
{
    uint8_t lead = (uint8_t)text[0];
    size_t length = lead < 0x80                    ? 1
                    : lead >= 0xc2 && lead < 0xe0  ? 2
                    : lead >= 0xe0 && lead < 0xf0  ? 3
                    : lead >= 0xf0 && lead <= 0xf4 ? 4
                                                   : 0;
    if (length > left)
        return 0;
    for (size_t i = 1; i < length; i++)
        if (((uint8_t)text[i] & 0xc0) != 0x80)
            return 0;
    return length;
}

/* Fills a piece with as many whole code points as it holds; how many bytes,
 * 0 for what is not UTF-8. */
static size_t fill_piece(ikv_event *piece, const char *text, size_t left)
{
    size_t used = 0;
    while (used < left) {
        size_t length = point_length(text + used, left - used);
        if (length == 0)
            return 0;
        if (used + length > IKV_TEXT_BYTES)
            break;
        used += length;
    }
    piece->text.length = (uint8_t)used;
    memcpy(piece->text.bytes, text, used);
    return used;
}

ikv_status ikv_sink_push_text(ikv_sink *sink, const ikv_event *event,
                              const char *text, size_t length)
{
    ikv_event pieces[IKV_TEXT_LIMIT / (IKV_TEXT_BYTES - 3) + 1];
    uint32_t count = 0;
    if (sink == NULL || event == NULL || (text == NULL && length > 0))
        return IKV_BAD_ARGUMENT;
    if (length == 0)
        return IKV_ABSENT;
    if (length > IKV_TEXT_LIMIT)
        return IKV_BAD_VALUE;
    for (size_t at = 0; at < length; count++) {
        ikv_event *piece = &pieces[count];
        *piece = *event;
        piece->kind = IKV_KIND_TEXT_INPUT;
        memset(&piece->text, 0, sizeof piece->text);
        size_t used = fill_piece(piece, text + at, length - at);
        if (used == 0)
            return IKV_BAD_VALUE;
        at += used;
        piece->flags &= (uint16_t) ~(IKV_FIRST | IKV_MORE);
        piece->flags |= (uint16_t)((count == 0 ? IKV_FIRST : 0) |
                                   (at < length ? IKV_MORE : 0));
    }
    return ikv_queue_push_own_all(sink->loop->queue, pieces, count);
}

ikv_status ikv_sink_push_any(ikv_sink *sink, const ikv_event *event)
{
    return sink != NULL ? ikv_queue_push(sink->loop->queue, event)
                        : IKV_BAD_ARGUMENT;
}

/* ---------------------------------------------------- the loop's events -- */

static void deliver_own(ikv_loop *loop, ikv_kind kind, uint64_t time_ns,
                        uint64_t step, float seconds, uint32_t count)
{
    if (ikvi_bus_nobody_hears(loop->bus, kind))
        return;
    ikv_event event = ikv_event_make(kind, time_ns);
    event.target = ikv_bus_root(loop->bus);
    event.loop.step = step;
    event.loop.frame = loop->frame;
    event.loop.seconds = seconds;
    event.loop.count = count;
    ikv_bus_deliver(loop->bus, &event);
}

static uint64_t clock_now(const ikv_loop *loop)
{
    return loop->ports[0].now(loop->ports[0].state);
}

IKVI_APART static void start(ikv_loop *loop)
{
    loop->started = true;
    for (uint32_t i = 0; i < loop->port_count; i++)
        loop->offsets[i] = loop->ports[i].now(loop->ports[i].state);
    loop->frame_origin = 0;
    deliver_own(loop, IKV_KIND_LOOP_START, 0, 0,
                (float)ikv_loop_step_seconds(loop), 0);
}

/* ------------------------------------------------------------- draining -- */

/* A port's time as ns since loop.start; times before that are 0. */
static uint64_t own_time(const ikv_loop *loop, const ikv_event *event)
{
    uint32_t port =
        event->device < DEVICE_LIMIT ? loop->device_port[event->device] : 0;
    uint64_t offset = loop->offsets[port];
    return event->time_ns > offset ? event->time_ns - offset : 0;
}

static bool may_be_pushed(ikv_loop *loop, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(loop->bus), event->kind);
    if (info != NULL && (info->from & IKV_FROM_P))
        return true;
    loop->counters.rejected++;
    ikvi_say(&loop->reporter, IKV_REPORT_ERROR,
             info != NULL ? IKV_NOT_PUSHABLE : IKV_UNKNOWN_KIND, "loop",
             info != NULL ? info->name : "an event of an unknown kind");
    return false;
}

/* Warns at most once a second that the backlog ages. */
static void note_age(ikv_loop *loop, uint64_t age)
{
    uint64_t period = frame_period(loop);
    if (age <= period + period / 4)
        return;
    loop->counters.aged++;
    if (age > loop->counters.max_age_ns)
        loop->counters.max_age_ns = age;
    if (loop->counters.aged == 1 || loop->now - loop->last_warning > SECOND) {
        loop->last_warning = loop->now;
        ikvi_say(&loop->reporter, IKV_REPORT_WARNING, IKV_OK, "loop",
                 "events waited longer than a frame before they were drained: "
                 "is the frame slow, or ikv_loop_begin() called too rarely?");
    }
}

/* The event's due time: its own, but not before the next step begins that has
 * not run, and never going backwards. */
static void make_pending(ikv_loop *loop, ikv_event event)
{
    if (!may_be_pushed(loop, &event))
        return;
    event.time_ns = own_time(loop, &event);
    note_age(loop, loop->now > event.time_ns ? loop->now - event.time_ns : 0);
    uint64_t due = event.time_ns, earliest = step_start(loop, loop->next_step);
    if (due < earliest) {
        if (loop->next_step > 0) {
            loop->counters.late++;
            event.flags |= IKV_LATE;
        }
        due = earliest;
    }
    due = due < loop->last_due ? loop->last_due : due;
    loop->last_due = due;
    uint32_t at = (loop->head + loop->count++) & (loop->capacity - 1);
    pending_events(loop)[at] = event;
    pending_dues(loop)[at] = due;
    loop->counters.waiting = loop->count;
    if (loop->count > loop->counters.waiting_high)
        loop->counters.waiting_high = loop->count;
}

IKVI_APART static void drain(ikv_loop *loop)
{
    ikv_event batch[64];
    while (ikv_queue_waiting(loop->queue) > 0) {
        uint32_t room = loop->capacity - loop->count;
        room = room < 64 ? room : 64;
        if (room == 0) {
            loop->counters.held_back++;
            ikvi_say(&loop->reporter, IKV_REPORT_WARNING, IKV_FULL_PENDING,
                     "loop", ikv_status_text(IKV_FULL_PENDING));
            return;
        }
        uint32_t count = ikv_queue_drain(loop->queue, batch, room);
        for (uint32_t i = 0; i < count; i++)
            make_pending(loop, batch[i]);
        if (count < room)
            return;
    }
}

IKVI_APART static void poll_ports(ikv_loop *loop)
{
    for (uint32_t i = 0; i < loop->port_count; i++) {
        const ikv_port *port = &loop->ports[i];
        if (port->poll == NULL || loop->ended[i])
            continue;
        ikv_status status = port->poll(port->state);
        if (status == IKV_ENDED || status < 0) {
            loop->ended[i] = true;
            loop->ended_count++;
        }
        if (status < 0)
            ikvi_say(&loop->reporter, IKV_REPORT_ERROR, status, port->name,
                     "the port failed; it is not polled any more");
    }
}

static bool all_ended(const ikv_loop *loop)
{
    return loop->ended_count == loop->port_count && loop->count == 0 &&
           ikv_queue_waiting(loop->queue) == 0;
}

/* How many steps are due; more than max_steps are dropped: the steps that
 * follow are shifted. */
static void count_steps(ikv_loop *loop)
{
    uint32_t due = 0;
    loop->steps_left = 0;
    if (loop->now < loop->next_end)
        return;
    while (due <= loop->max_steps &&
           step_start(loop, loop->next_step + due + 1) <= loop->now)
        due++;
    loop->steps_left = due;
    if (due <= loop->max_steps)
        return;
    loop->steps_left = loop->max_steps;
    uint64_t kept = step_start(loop, loop->next_step + loop->max_steps);
    uint64_t length = step_start(loop, 1) - step_start(loop, 0);
    if (length == 0)
        return; /* never: opening has checked it */
    uint64_t steps = (loop->now - kept) / length;
    uint64_t lost = steps * length;
    loop->shift += lost;
    loop->next_end += lost;
    loop->counters.dropped_ns += lost;
    loop->counters.dropped_steps += steps;
    ikvi_say(&loop->reporter, IKV_REPORT_WARNING, IKV_OK, "loop",
             "more steps were due than loop.max_steps: time was dropped");
    deliver_own(loop, IKV_KIND_LOOP_DROPPED, loop->now, loop->next_step,
                (float)((double)lost / SECOND),
                steps < UINT32_MAX ? (uint32_t)steps : UINT32_MAX);
}

/* --------------------------------------------------------------- frames -- */

IKVI_APART static bool finish(ikv_loop *loop)
{
    if (!loop->over && loop->started) {
        loop->over = true;
        ikv_bus_flush(loop->bus, IKV_STEP_LANE, NULL);
        ikv_bus_flush(loop->bus, IKV_FRAME_LANE, NULL);
        deliver_own(loop, IKV_KIND_LOOP_END, loop->now, loop->next_step, 0, 0);
    }
    return false;
}

bool ikv_loop_begin(ikv_loop *loop)
{
    if (loop == NULL || loop->over)
        return false;
    if (loop->where != BETWEEN_FRAMES)
        ikv_loop_end(loop);
    if (!loop->started)
        start(loop);
    if (loop->quit)
        return finish(loop);
    if (loop->polled_count > 0)
        poll_ports(loop);
    loop->now = clock_now(loop) - loop->offsets[0];
    if (IKVI_UNLIKELY(ikv_queue_waiting(loop->queue) > 0))
        drain(loop);
    if (all_ended(loop))
        loop->quit = true; /* this frame is the last one */
    loop->counters.frames++;
    loop->where = IN_FRAME;
    ikv_bus_set_frame(loop->bus, loop->frame);
    count_steps(loop);
    return true;
}

/* What follows the user's code of a step. */
static void finish_step(ikv_loop *loop)
{
    ikv_bus_advance(loop->bus, loop->next_end);
    ikv_bus_flush(loop->bus, IKV_STEP_LANE, NULL);
    loop->next_step++;
    loop->next_end = step_start(loop, loop->next_step + 1);
    loop->where = IN_FRAME;
}

static ikv_router *router_of(const ikv_loop *loop, const ikv_event *event)
{
    for (uint32_t i = 0; loop->router_count > 1 && i < loop->router_count; i++)
        if (ikv_router_holds(loop->routers[i], event))
            return loop->routers[i];
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (ikv_router_serves(loop->routers[i], event->view))
            return loop->routers[i];
    return loop->routers[0];
}

/* One router delivers it; the others let go of what goes with it. */
static ikv_outcome route_event(ikv_loop *loop, const ikv_event *event)
{
    ikv_router *router = router_of(loop, event);
    for (uint32_t i = 0; i < loop->router_count; i++)
        if (loop->routers[i] != router)
            ikv_router_let_go(loop->routers[i], event);
    return ikv_router_route(router, event);
}

/* L1: what is due before the step's end, with `close` asking for the end. */
static void route_input(ikv_loop *loop)
{
    while (loop->count > 0 && pending_dues(loop)[loop->head] < loop->next_end) {
        ikv_event event = pending_events(loop)[loop->head];
        loop->head = (loop->head + 1) & (loop->capacity - 1);
        loop->counters.waiting = --loop->count;
        loop->counters.routed++;
        ikv_outcome outcome = loop->router_count > 0
                                  ? route_event(loop, &event)
                                  : ikv_bus_deliver(loop->bus, &event);
        if (event.kind == IKV_KIND_WINDOW_CLOSE &&
            (outcome.verdict & IKV_REFUSE) == 0)
            ikv_loop_quit(loop);
    }
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_advance(loop->routers[i], loop->next_end - 1);
}

bool ikv_loop_step(ikv_loop *loop)
{
    if (loop == NULL || loop->where == BETWEEN_FRAMES ||
        loop->where == AFTER_STEPS)
        return false;
    if (loop->where == IN_STEP)
        finish_step(loop);
    if (loop->steps_left == 0) {
        loop->where = AFTER_STEPS;
        deliver_own(loop, IKV_KIND_LOOP_FRAME, loop->now,
                    ikv_loop_step_number(loop), 0, 0);
        return false;
    }
    loop->steps_left--;
    loop->counters.steps++;
    loop->where = IN_STEP;
    ikv_bus_set_step(loop->bus, loop->next_step);
    uint64_t begin = step_start(loop, loop->next_step);
    for (uint32_t i = 0; i < loop->router_count; i++)
        ikv_router_retest(loop->routers[i], begin);
    route_input(loop);
    deliver_own(loop, IKV_KIND_LOOP_STEP, begin, loop->next_step,
                (float)ikv_loop_step_seconds(loop), 0);
    return true;
}

/* Waits for the next frame's moment, counted from the first one so that errors
 * don't add up; a frame that is over a period late begins a new count. */
static void pace(ikv_loop *loop)
{
    if (loop->frame_hz == IKV_UNPACED)
        return;
    uint64_t now = clock_now(loop) - loop->offsets[0];
    uint64_t due = loop->frame_origin +
                   ikv_loop_step_start(++loop->frame_index, loop->frame_hz, 1);
    if (now > due + frame_period(loop)) {
        loop->frame_origin = now;
        loop->frame_index = 0;
        due = now;
    }
    const ikv_port *clock = &loop->ports[0];
    uint64_t until = due + loop->offsets[0];
    while (clock->wait != NULL && clock->now(clock->state) < until &&
           !loop->quit)
        if (clock->wait(clock->state, until, false) != IKV_OK)
            break;
    now = clock_now(loop) - loop->offsets[0];
    loop->counters.last_late_ns = now > due ? now - due : 0;
    if (loop->counters.last_late_ns > loop->counters.max_late_ns)
        loop->counters.max_late_ns = loop->counters.last_late_ns;
}

void ikv_loop_end(ikv_loop *loop)
{
    if (loop == NULL || loop->where == BETWEEN_FRAMES)
        return;
    if (loop->where == IN_STEP)
        finish_step(loop);
    if (loop->where == IN_FRAME) {
        loop->steps_left = 0;
        ikv_loop_step(loop);
    }
    ikv_bus_flush(loop->bus, IKV_FRAME_LANE, NULL);
    loop->where = BETWEEN_FRAMES;
    loop->frame++;
    pace(loop);
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

float ikv_loop_blend(const ikv_loop *loop)
{
    if (loop == NULL)
        return 0;
    uint64_t begin = step_start(loop, loop->next_step);
    uint64_t length = step_start(loop, loop->next_step + 1) - begin;
    if (loop->now <= begin)
        return 0;
    double part = (double)(loop->now - begin) / (double)length;
    return part < 1 ? (float)part : 1;
}

uint64_t ikv_loop_step_number(const ikv_loop *loop)
{
    if (loop == NULL || loop->where == IN_STEP)
        return loop != NULL ? loop->next_step : 0;
    return loop->next_step > 0 ? loop->next_step - 1 : 0;
}

uint64_t ikv_loop_frame_number(const ikv_loop *loop)
{
    return loop != NULL ? loop->frame : 0;
}

uint64_t ikv_loop_time_ns(const ikv_loop *loop)
{
    return loop != NULL ? loop->now : 0;
}

ikv_loop_counters ikv_loop_count(const ikv_loop *loop)
{
    return loop != NULL ? loop->counters : (ikv_loop_counters){0};
}
