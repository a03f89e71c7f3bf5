/* bus_deliver.c - delivery along a path: visits, merging, watching. */
#include "bus_internal.h"

typedef bus_dispatch dispatch;

static const ikv_target the_root = {1};

void ikvi_bus_deliver_open(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->depth_limit; i++) {
        bus_dispatch *x = ikvi_bus_dispatch(b, i);
        x->delivery = (ikv_delivery){.size = sizeof(ikv_delivery), .bus = b};
        x->at_root = x->delivery;
        x->at_root.phase = IKV_AT_TARGET;
        x->at_root.path = &the_root;
        x->at_root.path_length = 1;
        x->at_root.current = the_root;
    }
}

void ikv_bus_set_step(ikv_bus *bus, uint64_t step)
{
    if (bus == NULL)
        return;
    bus->step = step;
    for (uint32_t i = 0; i < bus->depth_limit; i++)
        ikvi_bus_dispatch(bus, i)->at_root.step = step;
}

static inline uint8_t *kind_traits(const ikv_bus *b, ikv_kind kind)
{
    return (uint8_t *)ikvi_at((void *)(uintptr_t)b, b->kind_traits) + kind;
}

/* The kind's traits, 0 if the catalogue does not know it. */
static uint32_t learn_kind(const ikv_bus *b, ikv_kind kind)
{
    const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, kind);
    if (info == NULL)
        return 0;
    uint32_t traits = KIND_KNOWN | info->family;
    traits |= info->bubbles ? KIND_BUBBLES : 0;
    traits |= info->positioned ? KIND_POSITIONED : 0;
    *kind_traits(b, kind) = (uint8_t)traits;
    return traits;
}

static inline uint32_t traits_of(const ikv_bus *b, ikv_kind kind)
{
    if (IKVI_UNLIKELY(kind >= b->kind_limit))
        return 0;
    uint32_t traits = *kind_traits(b, kind);
    return IKVI_LIKELY(traits != 0) ? traits : learn_kind(b, kind);
}

/* ---------------------------------------------------------------- watching --
 */

void ikvi_bus_watch(ikv_bus *b, uint32_t what, const ikv_event *event,
                    ikv_lane lane)
{
    if (b->watcher != NULL) {
        ikv_watch watch = {
            .what = what, .depth = b->depth, .event = event, .lane = lane};
        b->watcher(&watch, b->watcher_user);
    }
}

static void watch_delivery(ikv_bus *b, uint32_t what, const dispatch *x)
{
    ikv_watch watch = {.what = what,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = &x->delivery,
                       .verdict = x->verdict,
                       .heard = x->heard};
    b->watcher(&watch, b->watcher_user);
}

static ikv_verdict call_watched(ikv_bus *b, dispatch *x, const bus_entry *entry)
{
    uint32_t place =
        ikvi_slots_find(&b->subscription_slots, b, entry->subscription);
    ikv_watch watch = {.what = IKV_WATCH_CALL,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = &x->delivery};
    watch.name =
        ikvi_names_text(&b->names, b, ikvi_bus_subscription(b, place)->name);
    b->watcher(&watch, b->watcher_user);
    watch.verdict = entry->handler(x->event, &x->delivery, entry->user);
    watch.what = IKV_WATCH_RETURN;
    if (b->watcher != NULL)
        b->watcher(&watch, b->watcher_user);
    return watch.verdict;
}

/* ---------------------------------------------------------------- one visit --
 */

/* Three sorted sources that a visit walks as one: the kind's own run, the wide
 * run, and what was subscribed since the outermost delivery began. */
typedef struct merge {
    const bus_entry *exact, *exact_end, *wide, *wide_end;
    const uint32_t *pending, *pending_end;
    bus_entry waiting; /* the pending one at `pending`, made into an entry */
} merge;

static void skip_foreign(const ikv_bus *b, const dispatch *x, merge *m)
{
    for (; m->wide < m->wide_end; m->wide++) {
        if (m->wide->subscription == 0)
            continue;
        uint32_t place =
            ikvi_slots_find(&b->subscription_slots, (void *)(uintptr_t)b,
                            m->wide->subscription);
        if (ikvi_bus_subscription(b, place)->families >>
                (x->traits & KIND_FAMILY) &
            1)
            break;
    }
}

static void skip_pending(const ikv_bus *b, const dispatch *x, uint32_t target,
                         merge *m)
{
    for (; m->pending < m->pending_end; m->pending++) {
        const bus_link *link = ikvi_bus_link(b, *m->pending);
        const bus_subscription *s =
            ikvi_bus_subscription(b, link->subscription);
        bool kind = link->kind == x->event->kind ||
                    (link->kind == 0 &&
                     (s->families >> (x->traits & KIND_FAMILY) & 1) != 0);
        if (link->target != target || !kind ||
            (int32_t)(s->birth - x->born) >= 0)
            continue;
        m->waiting = (bus_entry){s->handler,
                                 s->user,
                                 s->muted ? 0 : s->visits,
                                 ikvi_slots_bits(&b->subscription_slots,
                                                 (void *)(uintptr_t)b,
                                                 link->subscription),
                                 s->rank,
                                 s->birth};
        break;
    }
}

static bool earlier(const bus_entry *a, const bus_entry *b)
{
    if (a == NULL || b == NULL)
        return a != NULL;
    return a->rank != b->rank ? a->rank < b->rank
                              : (int32_t)(a->birth - b->birth) < 0;
}

/* The next entry of the three sources in order; NULL at the end. */
static const bus_entry *next_entry(const ikv_bus *b, const dispatch *x,
                                   uint32_t target, merge *m)
{
    skip_foreign(b, x, m);
    skip_pending(b, x, target, m);
    const bus_entry *exact = m->exact < m->exact_end ? m->exact : NULL;
    const bus_entry *wide = m->wide < m->wide_end ? m->wide : NULL;
    const bus_entry *waiting = m->pending < m->pending_end ? &m->waiting : NULL;
    if (exact != NULL && !earlier(wide, exact) && !earlier(waiting, exact))
        return m->exact++;
    if (wide != NULL && !earlier(waiting, wide))
        return m->wide++;
    if (waiting != NULL)
        m->pending++;
    return waiting;
}

/* What is subscribed by a handler that is called here is too young for this
 * delivery, so the end of `pending` stays right for its own index; but what
 * it ends may move the array: the place is found again by count. */
static void visit_merged(ikv_bus *b, dispatch *x, uint32_t target,
                         const bus_run *exact, const bus_run *wide,
                         uint32_t visits)
{
    merge m = {0};
    if (exact != NULL) {
        m.exact = ikvi_bus_entry(b, exact->first);
        m.exact_end = m.exact + exact->count;
    }
    if (wide != NULL) {
        m.wide = ikvi_bus_entry(b, wide->first);
        m.wide_end = m.wide + wide->count;
    }
    const uint32_t *pending = ikvi_bus_words(b, b->pending);
    bus_entry last = {0};
    bool called = false;
    m.pending = pending;
    for (;;) {
        m.pending_end = pending + b->pending_count;
        if (called) {
            called = false;
            /* The array may have changed: go on behind the last one called. */
            m.pending = pending;
            for (skip_pending(b, x, target, &m);
                 m.pending < m.pending_end && !earlier(&last, &m.waiting);
                 skip_pending(b, x, target, &m))
                m.pending++;
        }
        const bus_entry *entry = next_entry(b, x, target, &m);
        if (entry == NULL)
            return;
        if ((entry->visits & visits) == 0)
            continue;
        last = *entry;
        called = true;
        x->delivery.subscription.bits = last.subscription;
        x->heard++;
        ikv_verdict verdict =
            b->watcher != NULL
                ? call_watched(b, x, &last)
                : last.handler(x->event, &x->delivery, last.user);
        x->verdict |= verdict;
        if (verdict & IKV_STOP_ALL)
            return;
    }
}

/* The usual case: one run, its ends in registers. */
static inline void visit_run(dispatch *x, const bus_entry *entry,
                             uint32_t count, uint32_t visits)
{
    const ikv_event *event = x->event;
    const bus_entry *end = entry + count;
    ikv_verdict all = 0;
    uint32_t heard = 0;
    for (; entry < end; entry++) {
        if ((entry->visits & visits) == 0)
            continue;
        x->delivery.subscription.bits = entry->subscription;
        heard++;
        all |= entry->handler(event, &x->delivery, entry->user);
        if (IKVI_UNLIKELY(all & IKV_STOP_ALL))
            break;
    }
    x->verdict |= all;
    x->heard += heard;
}

static void find_local(ikv_bus *b, dispatch *x)
{
    const ikv_event *event = x->event;
    float layer[2] = {event->pointer.x, event->pointer.y};
    float local[2] = {event->pointer.x, event->pointer.y};
    if (b->callbacks.to_local != NULL)
        b->callbacks.to_local(b->callbacks.user, x->delivery.current,
                              event->view, event->pointer.x, event->pointer.y,
                              layer, local);
    x->delivery.layer_x = layer[0];
    x->delivery.layer_y = layer[1];
    x->delivery.local_x = local[0];
    x->delivery.local_y = local[1];
}

/* Calls what listens at the target in these visits; false after a stop. */
static bool visit(ikv_bus *b, dispatch *x, ikv_target target, uint32_t visits,
                  uint16_t phase)
{
    ikv_kind kind = x->event->kind;
    uint32_t place = ikvi_bus_place(b, target);
    if (place == IKVI_NONE)
        return true;
    uint64_t seen = ikvi_bus_target(b, place)->kinds_seen;
    const bus_run *exact = NULL, *wide = NULL;
    if (seen >> kind % 64 & 1) {
        uint32_t at = ikvi_bus_find_run(b, place, kind);
        exact = at != IKVI_NONE ? ikvi_bus_run(b, at) : NULL;
    }
    if (seen & 1) {
        uint32_t at = ikvi_bus_find_run(b, place, 0);
        wide = at != IKVI_NONE ? ikvi_bus_run(b, at) : NULL;
    }
    bool plain = wide == NULL && b->pending_count == 0 && b->watcher == NULL;
    if (plain && (exact == NULL || (exact->visits & visits) == 0))
        return true;
    x->delivery.current = target;
    x->delivery.phase = phase;
    if (x->traits & KIND_POSITIONED)
        find_local(b, x);
    if (plain)
        visit_run(x, ikvi_bus_entry(b, exact->first), exact->count, visits);
    else
        visit_merged(b, x, place, exact, wide, visits);
    return (x->verdict & (IKV_STOP | IKV_STOP_ALL)) == 0;
}

/* ---------------------------------------------------------------- the path --
 */

static void walk(ikv_bus *b, dispatch *x, const ikv_target *path, uint32_t last,
                 bool bubbles)
{
    uint32_t once = bubbles || last == 0 || path[0].bits != ikvi_bus_root().bits
                        ? 0
                        : VISIT_ONCE;
    for (uint32_t i = 0; i < last; i++)
        if (!visit(b, x, path[i], VISIT_CAPTURE | (i == 0 ? once : 0),
                   IKV_CAPTURING))
            return;
    if (!visit(b, x, path[last], VISIT_FIRST, IKV_AT_TARGET) ||
        !visit(b, x, path[last], VISIT_OWN, IKV_AT_TARGET) || !bubbles)
        return;
    for (uint32_t i = last; i-- > 0;)
        if (!visit(b, x, path[i], VISIT_BUBBLE, IKV_BUBBLING))
            return;
}

static ikv_outcome too_deep(ikv_bus *b)
{
    b->too_deep++;
    ikvi_say(&b->reporter, IKV_REPORT_ERROR, IKV_TOO_DEEP, "bus",
             "a handler delivers inside handlers past the depth limit: the "
             "event was not delivered; defer it, or raise bus.depth");
    return (ikv_outcome){IKV_TOO_DEEP, 0, 0, 0};
}

/* Begins a delivery at the next level of depth. The caller has checked that
 * there is one. */
static inline dispatch *begin(ikv_bus *b, const ikv_event *event,
                              uint32_t traits, const ikv_target *path,
                              uint32_t length)
{
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    ikvi_bus_hold(b);
    x->event = event;
    x->verdict = 0;
    x->heard = 0;
    x->born = b->births;
    x->traits = traits;
    x->delivery.path = path;
    x->delivery.path_length = length;
    x->delivery.step = b->step;
    if (IKVI_UNLIKELY(event->target.bits != path[length - 1].bits)) {
        x->copy = *event;
        x->copy.target = path[length - 1];
        x->event = &x->copy;
    }
    return x;
}

static inline ikv_outcome end(ikv_bus *b, dispatch *x)
{
    ikv_outcome outcome = {IKV_OK, x->verdict, x->heard, 0};
    ikv_kind_counters *kind = ikvi_bus_kind(b, x->event->kind);
    kind->delivered++;
    kind->unheard += outcome.heard == 0;
    b->depth--;
    ikvi_bus_release(b);
    return outcome;
}

static ikv_outcome deliver_path(ikv_bus *b, const ikv_event *event,
                                uint32_t traits, const ikv_target *path,
                                uint32_t length, const ikv_route *route)
{
    if (IKVI_UNLIKELY(b->depth >= b->depth_limit))
        return too_deep(b);
    dispatch *x = begin(b, event, traits, path, length);
    if (route != NULL) {
        x->delivery.flags = route->flags;
        x->delivery.router = route->router;
        x->delivery.cause = route->cause;
        x->delivery.samples = route->samples;
        x->delivery.sample_count = route->sample_count;
        x->delivery.data = route->data;
        x->delivery.data_size = route->data_size;
    }
    if (IKVI_UNLIKELY(b->watcher != NULL))
        watch_delivery(b, IKV_WATCH_EVENT, x);
    if (route != NULL && route->own_visit)
        walk(b, x, &path[length - 1], 0, false);
    else
        walk(b, x, path, length - 1, (traits & KIND_BUBBLES) != 0);
    if (IKVI_UNLIKELY(b->watcher != NULL))
        watch_delivery(b, IKV_WATCH_DONE, x);
    if (route != NULL)
        x->delivery = (ikv_delivery){.size = sizeof(ikv_delivery), .bus = b};
    return end(b, x);
}

static ikv_outcome not_delivered(ikv_status status)
{
    return (ikv_outcome){status, 0, 0, 0};
}

ikv_outcome ikv_bus_deliver_along(ikv_bus *bus, const ikv_event *event,
                                  const ikv_route *route)
{
    if (bus == NULL || event == NULL || route == NULL || route->path == NULL ||
        route->path_length == 0)
        return not_delivered(IKV_BAD_ARGUMENT);
    if (route->size != sizeof *route)
        return not_delivered(IKV_BAD_SIZE);
    if (route->path_length > IKV_PATH_LIMIT)
        return not_delivered(IKV_FULL_DEPTH);
    uint32_t traits = traits_of(bus, event->kind);
    if (traits == 0)
        return not_delivered(IKV_UNKNOWN_KIND);
    return deliver_path(bus, event, traits, route->path, route->path_length,
                        route);
}

/* The path to a target by the parent callback, at the end of `path`. Gives
 * its length, 0 if it is too deep. The root is put first in any case. */
static uint32_t find_path(ikv_bus *b, ikv_target target, bool bubbles,
                          ikv_target path[IKV_PATH_LIMIT])
{
    ikv_target root = ikvi_bus_root();
    uint32_t at = IKV_PATH_LIMIT;
    path[--at] = target;
    while (bubbles && b->callbacks.parent != NULL) {
        target = b->callbacks.parent(b->callbacks.user, target);
        if (target.bits == 0 || target.bits == root.bits)
            break;
        if (at == 1)
            return 0;
        path[--at] = target;
    }
    path[--at] = root;
    return IKV_PATH_LIMIT - at;
}

IKVI_APART static ikv_outcome deliver_below(ikv_bus *b, const ikv_event *event)
{
    uint32_t traits = traits_of(b, event->kind);
    if (traits == 0)
        return not_delivered(IKV_UNKNOWN_KIND);
    if (ikvi_bus_place(b, event->target) == IKVI_NONE) {
        b->stale++;
        return not_delivered(IKV_STALE);
    }
    ikv_target path[IKV_PATH_LIMIT];
    uint32_t length =
        find_path(b, event->target, (traits & KIND_BUBBLES) != 0, path);
    if (length == 0)
        return not_delivered(IKV_FULL_DEPTH);
    return deliver_path(b, event, traits, path + IKV_PATH_LIMIT - length,
                        length, NULL);
}

IKVI_APART static ikv_outcome deliver_at_root(ikv_bus *b,
                                              const ikv_event *event)
{
    uint32_t traits = traits_of(b, event->kind);
    if (IKVI_UNLIKELY(traits == 0))
        return not_delivered(IKV_UNKNOWN_KIND);
    return deliver_path(b, event, traits, &the_root, 1, NULL);
}

/* The fast way for an event at the root that needs no merging and no
 * position: global subscriptions to one kind. */
static ikv_outcome deliver_straight(ikv_bus *b, const ikv_event *event,
                                    const bus_run *run)
{
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    b->busy++;
    const bus_entry *entry = ikvi_bus_entry(b, run->first);
    const bus_entry *last = entry + run->count;
    ikv_verdict verdict = 0;
    uint32_t heard = 0;
    for (; entry < last; entry++) {
        if (IKVI_UNLIKELY((entry->visits & VISIT_OWN) == 0))
            continue;
        x->at_root.subscription.bits = entry->subscription;
        heard++;
        verdict |= entry->handler(event, &x->at_root, entry->user);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL))
            break;
    }
    ikv_kind_counters *kind = ikvi_bus_kind(b, event->kind);
    kind->delivered++;
    if (IKVI_UNLIKELY(heard == 0))
        kind->unheard++;
    b->depth--;
    ikvi_bus_release(b);
    return (ikv_outcome){IKV_OK, verdict, heard, 0};
}

/* Whether an event of that kind at the root would be heard by nobody, counting
 * it if so: spares making one. */
bool ikvi_bus_nobody_hears(ikv_bus *b, ikv_kind kind)
{
    if (b->detours != 0 || ikvi_bus_words(b, b->root_runs)[kind] != IKVI_NONE)
        return false;
    ikv_kind_counters *counters = ikvi_bus_kind(b, kind);
    counters->delivered++;
    counters->unheard++;
    return true;
}

ikv_outcome ikv_bus_deliver(ikv_bus *bus, const ikv_event *event)
{
    if (IKVI_UNLIKELY(bus == NULL || event == NULL))
        return not_delivered(IKV_BAD_ARGUMENT);
    ikv_bus *b = bus;
    if (event->target.bits > the_root.bits)
        return deliver_below(b, event);
    if (IKVI_UNLIKELY(event->kind >= b->kind_limit || b->detours != 0 ||
                      b->depth >= b->depth_limit))
        return deliver_at_root(b, event);
    uint32_t at = ikvi_bus_words(b, b->root_runs)[event->kind];
    if (at == IKVI_NONE || event->target.bits == 0 ||
        !ikvi_bus_run(b, at)->straight)
        return deliver_at_root(b, event);
    return deliver_straight(b, event, ikvi_bus_run(b, at));
}
