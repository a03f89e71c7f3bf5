/* sim.c - a port that plays a tape or makes input up, on the machine's clock or
 * on one of its own, which jumps ahead to whatever the loop waits for. */
#define _POSIX_C_SOURCE 200809L
#include "sim.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <stdio.h>
#include <time.h>

typedef struct sim {
    ikv_sim_config config;
    ikv_sink *sink;
    uint64_t origin_ns, now_ns, last_ns;
    uint64_t ready_ns;             /* when the next one may be given */
    uint16_t devices[SIM_DEVICES]; /* the tape's number to the loop's */
    uint64_t latest_ns;
    ikv_event next;
    ikv_intake intake;
    bool has_next, source_ended, failed, breaks, begun;
    char *clipboard;
    size_t clipboard_size;
    bool polled; /* and the clock was not read since */
    sim_dice jitter;
    sim_random random;
    sim_faults faults;
    ikv_message fault;
} sim;

static uint64_t machine_ns(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000 + (uint64_t)now.tv_nsec;
}

/* A time at that factor; what no number can hold is as good as never. */
static uint64_t scaled(uint64_t ns, double by)
{
    const double never = 9e18; /* 285 years */
    double result = (double)ns * by;
    return (uint64_t)(result < never ? result : never);
}

static ikv_status sim_open(void *state, ikv_sink *sink)
{
    sim *s = state;
    s->sink = sink;
    /* Asked for in order, so that the tape's numbers stay what they are. */
    for (uint32_t i = 1; i < SIM_DEVICES; i++)
        s->devices[i] = ikv_sink_device(sink);
    return IKV_OK;
}

/* The clock stops where the run ends, so that the same steps run at any frame
 * rate. Of a tape that is known when all of it has been read. */
static uint64_t end_of(const sim *s)
{
    if (s->config.until_ns != 0)
        return s->config.until_ns;
    if (!s->source_ended || s->has_next)
        return UINT64_MAX;
    /* a tape can say that it goes on behind its last event */
    uint64_t until = ikv_tape_about(s->config.tape).until_ns;
    return until > s->latest_ns ? until : s->latest_ns;
}

/* How far the clock may go before the tape is read on. One that doesn't say
 * until when it goes may go on for ever. */
static uint64_t sure_of(const sim *s)
{
    uint64_t end = end_of(s);
    if (end != UINT64_MAX || s->config.tape == NULL)
        return end;
    uint64_t until = ikv_tape_about(s->config.tape).until_ns;
    if (until == 0)
        return end;
    return until > s->latest_ns ? until : s->latest_ns;
}

/* What the clock would read if the run had no end: without a speed it stands,
 * and jumps in sim_wait(). A jump is a fault that is made up. */
static uint64_t running_now(const sim *s)
{
    uint64_t now = s->now_ns;
    if (s->config.speed > 0)
        now = scaled(machine_ns() - s->origin_ns, (double)s->config.speed);
    return now + s->faults.jumped_ns;
}

/* T5: the first reading after a poll is that poll's, so that no event that is
 * due by it comes a frame late, however slow the machine. Between polls the
 * clock doesn't pass what may be the end: it never goes back to it. */
static uint64_t sim_now(void *state)
{
    sim *s = state;
    if (s->polled) {
        s->polled = false;
        return s->last_ns;
    }
    if (!s->begun) { /* the tape's times are the loop's */
        s->begun = true;
        s->origin_ns = machine_ns();
        return 0;
    }
    uint64_t now = running_now(s), end = sure_of(s);
    now = now < end ? now : end;
    s->last_ns = now > s->last_ns ? now : s->last_ns;
    return s->last_ns;
}

static bool look_ahead(sim *s);

/* On the machine's clock, at the tape's speed; not beyond the end. */
static void sleep_until(const sim *s, uint64_t until_ns)
{
    uint64_t now = running_now(s), end = end_of(s);
    until_ns = until_ns < end ? until_ns : end;
    uint64_t left = until_ns > now ? until_ns - now : 0;
    uint64_t at = machine_ns() + scaled(left, 1 / (double)s->config.speed);
    struct timespec until = {(time_t)(at / 1000000000),
                             (long)(at % 1000000000)};
    while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, NULL) ==
           EINTR)
        ;
}

static ikv_status sim_wait(void *state, uint64_t until_ns, bool for_input)
{
    sim *s = state;
    if (for_input && look_ahead(s) && s->ready_ns < until_ns)
        until_ns = s->ready_ns;
    /* nothing comes any more */
    if (sim_now(s) >= end_of(s))
        return IKV_ENDED;
    /* a clock of its own: it is then what was waited for */
    if (s->config.speed <= 0) {
        uint64_t until = until_ns - s->faults.jumped_ns;
        if (until_ns > s->faults.jumped_ns && until > s->now_ns)
            s->now_ns = until;
    } else {
        sleep_until(s, until_ns);
    }
    return sim_now(s) >= until_ns ? IKV_OK : IKV_ENDED;
}

/* --------------------------------------------------------------- source -- */

static float noise(sim *s, float most)
{
    return most * ((float)ikvi_dice_below(&s->jitter, 2001) - 1000) / 1000;
}

/* Hands tremble, and hardware's times are not even. */
static void tremble(sim *s)
{
    const ikv_kind kind = s->next.kind;
    if (s->config.jitter > 0 &&
        (kind == IKV_KIND_POINTER_MOVE || kind == IKV_KIND_POINTER_DOWN ||
         kind == IKV_KIND_POINTER_UP)) {
        s->next.pointer.x += noise(s, s->config.jitter);
        s->next.pointer.y += noise(s, s->config.jitter);
    }
    if (s->config.jitter_ns > 0) {
        s->next.time_ns += (uint64_t)ikvi_dice_below(&s->jitter, 1000001) *
                           s->config.jitter_ns / 1000000;
        /* never before the one before it: a port gives them in order */
        if (s->next.time_ns < s->ready_ns)
            s->next.time_ns = s->ready_ns;
    }
}

/* On the clock. What another thread had deferred bears any time, its program's
 * own: it is of the moment of what was before it. */
static uint64_t time_of_next(const sim *s)
{
    bool own = s->intake.how == IKV_INTAKE_INBOX && s->intake.has_due;
    return own ? s->latest_ns : s->next.time_ns;
}

/* Has the next event at hand; false at the end or when the tape failed. */
static bool look_ahead(sim *s)
{
    if (s->has_next || s->source_ended)
        return s->has_next;
    s->intake = (ikv_intake)IKV_INTAKE_INIT;
    if (s->config.tape == NULL) {
        /* it never ends: until_ns does */
        ikvi_random_next(&s->random, &s->next);
        s->has_next = true;
    } else {
        ikv_status status =
            ikv_tape_next(s->config.tape, &s->next, &s->intake, &s->fault);
        s->failed = status < 0;
        s->source_ended = status != IKV_OK;
        s->has_next = status == IKV_OK;
    }
    if (!s->has_next)
        return false;
    if (s->next.device < SIM_DEVICES)
        s->next.device = s->devices[s->next.device];
    tremble(s);
    /* Of what says when it is due the loop knows by itself what to do when. */
    bool known = s->intake.has_due && !s->breaks;
    uint64_t at = time_of_next(s);
    if (!known && at > s->ready_ns)
        s->ready_ns = at;
    if (at > s->latest_ns)
        s->latest_ns = at;
    return true;
}

/* Without faults the loop gets what is taped, with the step it belongs to; with
 * them the port behaves as hardware does. False: it did not take it. */
static bool give(sim *s, uint64_t now)
{
    /* hardware does not break in the middle of a path */
    if (s->breaks && s->intake.data_size > 0)
        return ikv_sink_push_data(s->sink, &s->next, s->intake.data,
                                  s->intake.data_size) != IKV_FULL_BLOCKS;
    if (s->breaks) {
        ikvi_faults_push(&s->faults, s->sink, &s->next, now);
        return true;
    }
    ikv_status status = ikv_sink_play(s->sink, &s->next, &s->intake);
    if (status < 0 && status != IKV_FULL_PENDING) {
        s->failed = true;
        snprintf(s->fault.text, sizeof s->fault.text,
                 "the loop did not take a played event: %s",
                 status == IKV_BAD_SIZE
                     ? "its data is larger than loop.block_bytes"
                     : ikv_status_text(status));
    }
    return status == IKV_OK;
}

/* What does not fit waits for the next poll. */
static ikv_status sim_poll(void *state)
{
    sim *s = state;
    /* what the loop was told last */
    uint64_t first = s->last_ns, until = s->config.until_ns;
    uint64_t now = running_now(s);
    now = now > first ? now : first;
    now = now < end_of(s) ? now : end_of(s);
    if (s->breaks)
        ikvi_faults_advance(&s->faults, s->sink, now);
    while (look_ahead(s) && s->ready_ns <= now &&
           (until == 0 || time_of_next(s) < until)) {
        /* pending is full: it stays at hand, and comes first next time */
        if (!give(s, now))
            break;
        s->has_next = false;
    }
    if (s->failed)
        return IKV_PORT_FAILED;
    if (!s->breaks) {
        /* it may be behind what the loop was told, where there was no room for
         * all that is taped before */
        uint64_t end = end_of(s);
        s->last_ns = now < end ? now : end;
        s->polled = true;
    }
    return now >= end_of(s) ? IKV_ENDED : IKV_OK;
}

static ikv_status sim_report_held(void *state, uint16_t device,
                                  ikv_event *events, uint32_t room,
                                  uint32_t *count)
{
    const sim *s = state;
    *count = 0;
    for (uint32_t i = 0; i < s->faults.held.count && *count < room; i++)
        if (s->faults.held.downs[i].device == device)
            events[(*count)++] = s->faults.held.downs[i];
    return IKV_OK;
}

/* Whatever is known to be asked for is done: nothing moves, and nobody sees a
 * cursor. What is on the clipboard is pasted when it is asked for, but for a
 * tape: that has what was pasted. */
static ikv_status sim_request(void *state, const ikv_request *request)
{
    sim *s = state;
    ikv_event event = ikv_event_make(IKV_KIND_TEXT_INPUT, sim_now(state));
    char *text;
    switch (request->kind) {
    case IKV_REQUEST_CLIPBOARD_SET:
        text = malloc(request->text_size + 1u);
        if (text == NULL)
            return IKV_NO_MEMORY;
        memcpy(text, request->text, request->text_size);
        free(s->clipboard);
        s->clipboard = text;
        s->clipboard_size = request->text_size;
        return IKV_OK;
    case IKV_REQUEST_CLIPBOARD_GET:
        event.device = request->device;
        return s->config.tape != NULL || s->clipboard_size == 0
                   ? IKV_OK
                   : ikv_sink_push_text(s->sink, &event, s->clipboard,
                                        s->clipboard_size);
    default:
        return request->kind < IKV_REQUEST_COUNT ? IKV_OK : IKV_ABSENT;
    }
}

/* The tape's number of a device, by which it is known again; 0: it is none. */
static uint32_t number_of(const sim *s, uint16_t device)
{
    for (uint32_t i = 1; i < SIM_DEVICES; i++)
        if (s->devices[i] == device)
            return i;
    return 0;
}

static size_t say_about(const sim *s, uint16_t device, const char *what,
                        uint32_t number, char *buffer, size_t size)
{
    int length = number_of(s, device) != 0
                     ? snprintf(buffer, size, "%s%u", what, (unsigned)number)
                     : 0;
    if (length <= 0 && size > 0)
        buffer[0] = '\0';
    return length > 0 ? (size_t)length : 0;
}

static size_t sim_describe(void *state, uint16_t device, char *buffer,
                           size_t size)
{
    return say_about(state, device, "simulated device ", device, buffer, size);
}

static size_t sim_identify(void *state, uint16_t device, char *buffer,
                           size_t size)
{
    return say_about(state, device, "sim:", number_of(state, device), buffer,
                     size);
}

static void sim_close(void *state)
{
    (void)state;
}

ikv_status ikv_sim_open(const ikv_sim_config *config, ikv_port *port)
{
    if (config == NULL || port == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    if (!(config->speed >= 0 && config->speed <= 1e6f) ||
        !(config->jitter >= 0 && config->jitter <= 1e6f) ||
        config->jitter_ns > UINT64_C(1000000000000) ||
        (config->tape == NULL && config->seed == 0))
        return IKV_BAD_CONFIG;
    sim *s = calloc(1, sizeof *s);
    if (s == NULL)
        return IKV_NO_MEMORY;
    static const ikv_sim_faults none;
    const ikv_sim_faults *odds =
        config->faults != NULL ? config->faults : &none;
    s->config = *config;
    s->faults.odds = *odds;
    s->breaks = config->faults != NULL;
    /* a seed of 0 would roll nothing but zeroes */
    s->jitter.state = s->faults.dice.state =
        (config->seed + UINT64_C(1)) * UINT64_C(0x9e3779b97f4a7c15);
    if (config->tape == NULL)
        ikvi_random_open(&s->random, config->seed, config->view_width,
                         config->view_height);
    *port = (ikv_port){.size = sizeof *port,
                       .capabilities = IKV_PORT_CLOCK | IKV_PORT_WAITS |
                                       IKV_PORT_RELEASES |
                                       (s->breaks ? 0u : IKV_PORT_PLAYBACK),
                       .name = "sim",
                       .state = s,
                       .open = sim_open,
                       .poll = sim_poll,
                       .wait = sim_wait,
                       .now = sim_now,
                       .held = sim_report_held,
                       .describe = sim_describe,
                       .identify = sim_identify,
                       .request = sim_request,
                       .close = sim_close};
    return IKV_OK;
}

const char *ikv_sim_fault(const ikv_port *port)
{
    const sim *s = port != NULL ? port->state : NULL;
    return s != NULL && s->failed ? s->fault.text : NULL;
}

ikv_status ikv_sim_counters(const ikv_port *port, ikv_sim_counts *counts)
{
    const sim *s = port != NULL ? port->state : NULL;
    if (s == NULL || counts == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t size = counts->size;
    if (size < sizeof *counts)
        return IKV_BAD_SIZE;
    *counts = s->faults.count;
    counts->size = size;
    return IKV_OK;
}

void ikv_sim_close(ikv_port *port)
{
    if (port != NULL && port->state != NULL) {
        sim *s = port->state;
        free(s->clipboard);
        free(s);
        port->state = NULL;
    }
}
