/* null.c - the smallest legal port: a clock, and no events. Copy it to write
 * your own: push what happens in poll(), with ikv_sink_push(). */
#define _POSIX_C_SOURCE 200809L
#include "ikvar/ports.h"

#include <errno.h>
#include <time.h>

static ikv_status null_open(void *state, ikv_sink *sink)
{
    (void)state, (void)sink; /* keep the sink to push to */
    return IKV_OK;
}

static uint64_t null_now(void *state)
{
    struct timespec now;
    (void)state;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000 + (uint64_t)now.tv_nsec;
}

/* Optional: gives the processor away until then. */
static ikv_status null_wait(void *state, uint64_t until_ns, bool for_input)
{
    struct timespec until = {(time_t)(until_ns / 1000000000),
                             (long)(until_ns % 1000000000)};
    (void)state, (void)for_input;
    while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, NULL) ==
           EINTR)
        ;
    return IKV_OK;
}

static void null_close(void *state)
{
    (void)state;
}

ikv_port ikv_null_port(void)
{
    return (ikv_port){.size = sizeof(ikv_port),
                      .capabilities = IKV_PORT_CLOCK | IKV_PORT_WAITS,
                      .name = "null",
                      .open = null_open,
                      .wait = null_wait,
                      .now = null_now,
                      .close = null_close};
}
