/* bus_watch.c - watchers: who they are and what they want, and telling them.
 *
 * What nobody wants is not made up: whoever has something to tell asks
 * ikvi_bus_watches() first.
 */
#include "bus_internal.h"

/* What all of them want together; and whether any of it lies on a delivery's
 * way, which closes the fast one. */
void ikvi_bus_watch_anew(ikv_bus *b)
{
    b->watching = 0;
    for (uint32_t i = 0; i < b->watcher_count; i++)
        b->watching |= b->watchers[i].wants;
    b->s.detours -= b->s.watched;
    b->s.watched = ikvi_bus_watches(b, WATCH_DELIVERIES);
    b->s.detours += b->s.watched;
}

ikv_status ikv_bus_add_watcher(ikv_bus *bus, uint32_t wants,
                               ikv_watcher watcher, void *user)
{
    if (bus == NULL || watcher == NULL)
        return IKV_BAD_ARGUMENT;
    if (ikvi_bus_is_held(bus))
        return IKV_BUSY;
    if (bus->watcher_count == IKV_WATCHER_LIMIT)
        return IKV_FULL_WATCHERS;
    bus->watchers[bus->watcher_count].watcher = watcher;
    bus->watchers[bus->watcher_count].wants = wants;
    bus->watchers[bus->watcher_count++].user = user;
    ikvi_bus_watch_anew(bus);
    return IKV_OK;
}

/* The others keep the order in which they are told. */
ikv_status ikv_bus_remove_watcher(ikv_bus *bus, ikv_watcher watcher, void *user)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (ikvi_bus_is_held(bus))
        return IKV_BUSY;
    uint32_t i = 0;
    while (i < bus->watcher_count && (bus->watchers[i].watcher != watcher ||
                                      bus->watchers[i].user != user))
        i++;
    if (i == bus->watcher_count)
        return IKV_ABSENT;
    bus->watcher_count--;
    for (; i < bus->watcher_count; i++)
        bus->watchers[i] = bus->watchers[i + 1];
    ikvi_bus_watch_anew(bus);
    return IKV_OK;
}

void ikvi_bus_tell(const ikv_bus *b, const ikv_watch *watch)
{
    for (uint32_t i = 0; i < b->watcher_count; i++)
        if (b->watchers[i].wants & watch->what)
            b->watchers[i].watcher(watch, b->watchers[i].user);
}

/* As an event begins or is done: with the verdict and the count so far. */
void ikvi_bus_tell_delivery(const ikv_bus *b, uint32_t what,
                            const bus_dispatch *x)
{
    ikv_watch watch = {.what = what,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = x->using,
                       .verdict = x->verdict,
                       .heard = x->heard,
                       .frame_scoped = b->frame_scoped};
    ikvi_bus_tell(b, &watch);
}

void ikvi_bus_tell_entry(const ikv_bus *b, ikv_watch *watch,
                         const bus_dispatch *x, uint32_t subscription)
{
    watch->event = x->event;
    watch->delivery = x->using;
    ikvi_bus_tell_of(b, watch, subscription);
}

void ikvi_bus_tell_of(const ikv_bus *b, ikv_watch *watch, uint32_t subscription)
{
    watch->depth = b->depth;
    watch->frame_scoped = b->frame_scoped;
    watch->subscription.bits =
        ikvi_slots_bits(&b->s.subscription_slots, b, subscription);
    watch->name = ikvi_names_text(&b->s.names, b,
                                  ikvi_bus_subscription(b, subscription)->name);
    ikvi_bus_tell(b, watch);
}

void ikvi_bus_tell_deferred(const ikv_bus *b, uint32_t what,
                            const ikv_event *event, ikv_lane lane)
{
    ikv_watch watch = {.what = what,
                       .depth = b->depth,
                       .event = event,
                       .lane = lane,
                       .frame_scoped = b->frame_scoped};
    ikvi_bus_tell(b, &watch);
}

void ikvi_bus_tell_flush(const ikv_bus *b, ikv_lane lane, uint32_t waiting)
{
    ikv_watch watch = {.what = IKV_WATCH_FLUSH,
                       .depth = b->depth,
                       .heard = waiting,
                       .lane = lane,
                       .frame_scoped = b->frame_scoped};
    if (waiting > 0 && ikvi_bus_watches(b, IKV_WATCH_FLUSH))
        ikvi_bus_tell(b, &watch);
}

void ikvi_bus_tell_refused(const ikv_bus *b, const ikv_event *event,
                           ikv_status status)
{
    if (!ikvi_bus_watches(b, IKV_WATCH_REFUSE))
        return;
    ikv_watch watch = {.what = IKV_WATCH_REFUSE,
                       .depth = b->depth,
                       .event = event,
                       .status = status,
                       .frame_scoped = b->frame_scoped};
    ikvi_bus_tell(b, &watch);
}

void ikvi_bus_tell_moment(const ikv_bus *bus, uint32_t what,
                          const ikv_event *event)
{
    if (!ikvi_bus_watches(bus, what))
        return;
    ikv_watch watch = {.what = what,
                       .depth = bus->depth,
                       .event = event,
                       .frame_scoped = bus->frame_scoped};
    ikvi_bus_tell(bus, &watch);
}
