/* sim.c - a port that plays a tape, on the machine's clock or on one of its
 * own, which jumps ahead to whatever the loop waits for. */
#define _POSIX_C_SOURCE 200809L
#include "ikvar/ports.h"

#include <errno.h>
#include <stdlib.h>
#include <time.h>

enum {
    SIM_DEVICES = 256
};

typedef struct sim {
    ikv_sim_config config;
    ikv_sink *sink;
    uint64_t origin_ns, now_ns;
    uint16_t devices[SIM_DEVICES]; /* the tape's number to the loop's */
    ikv_event next;
    bool has_next, tape_ended, failed;
    ikv_message fault;
} sim;

static uint64_t machine_ns(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000 + (uint64_t)now.tv_nsec;
}

static ikv_status sim_open(void *state, ikv_sink *sink)
{
    sim *s = state;
    s->sink = sink;
    s->origin_ns = machine_ns();
    /* Asked for in order, so that the tape's numbers stay what they are. */
    for (uint32_t i = 1; i < SIM_DEVICES; i++)
        s->devices[i] = ikv_sink_device(sink);
    return IKV_OK;
}

static uint64_t sim_now(void *state)
{
    sim *s = state;
    return s->config.real_time ? machine_ns() - s->origin_ns : s->now_ns;
}

static ikv_status sim_wait(void *state, uint64_t until_ns, bool for_input)
{
    sim *s = state;
    (void)for_input;
    if (!s->config.real_time) {
        s->now_ns = until_ns > s->now_ns ? until_ns : s->now_ns;
        return IKV_OK;
    }
    uint64_t at = until_ns + s->origin_ns;
    struct timespec until = {(time_t)(at / 1000000000),
                             (long)(at % 1000000000)};
    while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, NULL) ==
           EINTR)
        ;
    return IKV_OK;
}

/* Has the tape's next event at hand; false at its end or when it failed. */
static bool look_ahead(sim *s)
{
    if (s->has_next || s->tape_ended)
        return s->has_next;
    ikv_status status = ikv_tape_next(s->config.tape, &s->next, &s->fault);
    s->failed = status < 0;
    s->tape_ended = status != IKV_OK;
    s->has_next = status == IKV_OK;
    if (s->has_next && s->next.device < SIM_DEVICES)
        s->next.device = s->devices[s->next.device];
    return s->has_next;
}

/* What does not fit into the queue waits for the next poll. */
static ikv_status sim_poll(void *state)
{
    sim *s = state;
    uint64_t now = sim_now(s), until = s->config.until_ns;
    uint64_t last = ikv_tape_until(s->config.tape);
    while (look_ahead(s) && s->next.time_ns <= now &&
           (until == 0 || s->next.time_ns < until)) {
        if (ikv_sink_push(s->sink, &s->next) != IKV_OK)
            return IKV_OK;
        s->has_next = false;
    }
    if (s->failed)
        return IKV_PORT_FAILED;
    if (until != 0 && now >= until)
        return IKV_ENDED;
    return !s->has_next && s->tape_ended && now >= last && until == 0
               ? IKV_ENDED
               : IKV_OK;
}

static void sim_close(void *state)
{
    (void)state;
}

ikv_status ikv_sim_open(const ikv_sim_config *config, ikv_port *port)
{
    if (config == NULL || port == NULL || config->tape == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    sim *s = calloc(1, sizeof *s);
    if (s == NULL)
        return IKV_NO_MEMORY;
    s->config = *config;
    *port = (ikv_port){.size = sizeof *port,
                       .capabilities = IKV_PORT_CLOCK | IKV_PORT_WAITS |
                                       IKV_PORT_RELEASES | IKV_PORT_PLAYBACK,
                       .name = "sim",
                       .state = s,
                       .open = sim_open,
                       .poll = sim_poll,
                       .wait = sim_wait,
                       .now = sim_now,
                       .close = sim_close};
    return IKV_OK;
}

const char *ikv_sim_fault(const ikv_port *port)
{
    const sim *s = port != NULL ? port->state : NULL;
    return s != NULL && s->failed ? s->fault.text : NULL;
}

void ikv_sim_free(ikv_port *port)
{
    if (port != NULL) {
        free(port->state);
        port->state = NULL;
    }
}
