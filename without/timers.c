/* timers.c - instead of src/bus/bus_timer.c: nothing is deferred for a time;
 * the calls that would do so return LEFT_OUT.
 */
#include "../src/bus/bus_internal.h"

ikv_status ikv_bus_defer_after(ikv_bus *bus, ikv_lane lane, uint64_t delay_ns,
                               const ikv_event *event, ikv_timer *timer)
{
    (void)lane, (void)delay_ns, (void)timer;
    return bus == NULL || event == NULL ? IKV_BAD_ARGUMENT : IKV_LEFT_OUT;
}

ikv_status ikv_bus_defer_every(ikv_bus *bus, ikv_lane lane, uint64_t period_ns,
                               bool merge, const ikv_event *event,
                               ikv_timer *timer)
{
    (void)merge;
    return period_ns == 0
               ? IKV_BAD_ARGUMENT
               : ikv_bus_defer_after(bus, lane, period_ns, event, timer);
}

ikv_status ikv_bus_set_timer_data(ikv_bus *bus, ikv_timer timer,
                                  const void *data, uint32_t data_size)
{
    (void)timer;
    return bus == NULL || data == NULL || data_size == 0 ? IKV_BAD_ARGUMENT
                                                         : IKV_ABSENT;
}

ikv_status ikv_bus_cancel_timer(ikv_bus *bus, ikv_timer timer)
{
    (void)timer;
    return bus == NULL ? IKV_BAD_ARGUMENT : IKV_ABSENT;
}

ikv_status ikv_bus_advance(ikv_bus *bus, uint64_t time_ns)
{
    if (bus == NULL || time_ns < bus->s.time_ns)
        return IKV_BAD_ARGUMENT;
    bus->s.time_ns = time_ns;
    return IKV_OK;
}

const char *ikvi_bus_timers_validate(const ikv_bus *b)
{
    return b->s.timer_slots.used == 0 ? NULL : "bus-8";
}
