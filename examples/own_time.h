/* own_time.h - a port's time that is what the loop waits for, and no more: what is
 * printed is the same on every machine, however busy it is. */
#ifndef OWN_TIME_H
#define OWN_TIME_H

#include <ikvar/port.h>

static uint64_t its_time;

static uint64_t time_now(void *state)
{
    (void)state;
    return its_time;
}

static ikv_status wait_until(void *state, uint64_t until_ns, bool for_input)
{
    (void)state, (void)for_input;
    its_time = until_ns > its_time ? until_ns : its_time;
    return IKV_OK;
}

#endif
