/* bus_deliver.c - delivery along a path. */
#include "bus_internal.h"

typedef bus_dispatch dispatch;

static const ikv_target the_root = {1};

void ikvi_bus_deliver_open(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->depth_limit; i++) {
        bus_dispatch *x = ikvi_bus_dispatch(b, i);
        /* What never changes is set once: the fast way writes the subscription
         * alone. */
        x->delivery = (ikv_delivery){.size = sizeof(ikv_delivery), .bus = b};
        x->at_root = x->delivery;
        x->at_root.phase = IKV_AT_TARGET;
        x->at_root.path = &the_root;
        x->at_root.path_length = 1;
        x->at_root.current = the_root;
        x->using = &x->at_root;
    }
}

void ikv_bus_set_step(ikv_bus *bus, uint64_t step)
{
    if (bus == NULL)
        return;
    /* A gate notes its turn plus 1. */
    step -= step == UINT64_MAX;
    bus->s.step = step;
    /* Once a step here, and not once a delivery. */
    for (uint32_t i = 0; i < bus->depth_limit; i++)
        ikvi_bus_dispatch(bus, i)->at_root.step = step;
}

void ikv_bus_set_frame(ikv_bus *bus, uint64_t frame)
{
    if (bus != NULL)
        bus->frame = frame - (frame == UINT64_MAX);
}

static inline uint8_t *kind_traits(const ikv_bus *b, ikv_kind kind)
{
    return (uint8_t *)ikvi_at(b, b->kind_traits) + kind;
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
    /* A kind's traits never change once it is registered. */
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

/* ------------------------------------------------------------- the path -- */

/* PATH1, PATH2: down the path, the target's own visit, and up again if the
 * kind bubbles. */
static void walk(ikv_bus *b, dispatch *x, const ikv_target *path, uint32_t last,
                 bool bubbles)
{
    /* Kinds that don't bubble are heard at the root once, on the way down. */
    uint32_t once = bubbles || last == 0 || path[0].bits != ikvi_bus_root().bits
                        ? 0
                        : VISIT_ONCE;
    for (uint32_t i = 0; i < last; i++)
        if (!ikvi_bus_visit(b, x, path[i], VISIT_CAPTURE | (i == 0 ? once : 0),
                            IKV_CAPTURING))
            return;
    /* Where nobody has come to listen neither half is begun. */
    if (ikvi_bus_may_hear(b, path[last], x->event->kind) &&
        (!ikvi_bus_visit(b, x, path[last], VISIT_FIRST, IKV_AT_TARGET) ||
         !ikvi_bus_visit(b, x, path[last], VISIT_OWN, IKV_AT_TARGET)))
        return;
    for (uint32_t i = bubbles ? last : 0; i-- > 0;)
        if (!ikvi_bus_visit(b, x, path[i], VISIT_BUBBLE, IKV_BUBBLING))
            return;
}

static ikv_outcome not_delivered(ikv_status status)
{
    return (ikv_outcome){status, 0, 0, 0};
}

static ikv_outcome refuse_event(const ikv_bus *b, const ikv_event *event,
                                ikv_status status)
{
    ikvi_bus_tell_refused(b, event, status);
    return not_delivered(status);
}

ikv_status ikvi_bus_too_deep(ikv_bus *b)
{
    b->s.too_deep++;
    ikvi_report_once(
        &b->said_deep, &b->reporter, IKV_REPORT_ERROR, IKV_TOO_DEEP, "bus",
        "a handler delivers inside handlers past the depth limit: "
        "the event was not delivered; defer it, or raise bus.depth");
    return IKV_TOO_DEEP;
}

/* Goes to the next level of depth. The caller has checked that there is one. */
static inline dispatch *descend(ikv_bus *b, const ikv_event *event,
                                uint32_t traits)
{
    IKVI_CHECK(b->depth < b->depth_limit);
    ikvi_bus_settle_late(b);
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    if (IKVI_UNLIKELY(b->pending_sorted < b->pending_count))
        ikvi_bus_settle_pending(b);
    x->event = event;
    x->verdict = 0;
    x->heard = 0;
    x->own_visit = false;
    /* What is subscribed from here on is younger, and not called. */
    x->born = b->births;
    x->traits = traits;
    return x;
}

/* And back, by the outermost with what had to wait. */
static inline void ascend(ikv_bus *b)
{
    if (--b->depth == 0 && IKVI_UNLIKELY(b->untidy) && b->holds == 0)
        ikvi_bus_compact(b);
}

/* Begins a delivery along a path. */
static inline dispatch *begin(ikv_bus *b, const ikv_event *event,
                              uint32_t traits, const ikv_target *path,
                              uint32_t length)
{
    IKVI_CHECK(length > 0);
    dispatch *x = descend(b, event, traits);
    x->using = &x->delivery;
    x->delivery.subscription.bits = 0;
    x->delivery.path = path;
    x->delivery.path_length = length;
    x->delivery.step = b->s.step;
    /* Where a kind has no position there is none of an earlier event. */
    x->delivery.layer_x = x->delivery.layer_y = 0;
    x->delivery.local_x = x->delivery.local_y = 0;
    /* Handlers read the target from the event: it is the path's end. */
    if (IKVI_UNLIKELY(event->target.bits != path[length - 1].bits)) {
        x->copy = *event;
        x->copy.target = path[length - 1];
        x->event = &x->copy;
    }
    return x;
}

/* D10: what nobody heard is counted by kind. */
static inline ikv_outcome end(ikv_bus *b, dispatch *x)
{
    ikv_outcome outcome = {IKV_OK, x->verdict, x->heard, 0};
    bus_kind_counts *kind = ikvi_bus_kind(b, x->event->kind);
    kind->delivered++;
    kind->unheard += outcome.heard == 0;
    IKVI_CHECK(x == ikvi_bus_dispatch(b, b->depth - 1));
    x->using = &x->at_root;
    ascend(b);
    return outcome;
}

/* PATH1: the path is fixed before the first is called. */
static ikv_outcome deliver_path(ikv_bus *b, const ikv_event *event,
                                uint32_t traits, const ikv_target *path,
                                uint32_t length, const ikv_route *route)
{
    if (IKVI_UNLIKELY(b->depth >= b->depth_limit))
        return refuse_event(b, event, ikvi_bus_too_deep(b));
    dispatch *x = begin(b, event, traits, path, length);
    if (route != NULL) {
        x->own_visit = route->own_visit;
        x->delivery.flags = route->flags;
        x->delivery.router = route->router;
        x->delivery.cause = route->cause;
        x->delivery.samples = route->samples;
        x->delivery.sample_count = route->sample_count;
        x->delivery.data = route->data;
        x->delivery.data_size = route->data_size;
    }
    if (ikvi_bus_watches(b, IKV_WATCH_EVENT))
        ikvi_bus_tell_delivery(b, IKV_WATCH_EVENT, x);
    /* Over, enter and their like are each target's own: no way down, none
     * up. */
    if (x->own_visit)
        walk(b, x, &path[length - 1], 0, false);
    else
        walk(b, x, path, length - 1, (traits & KIND_BUBBLES) != 0);
    if (ikvi_bus_watches(b, IKV_WATCH_DONE))
        ikvi_bus_tell_delivery(b, IKV_WATCH_DONE, x);
    if (route != NULL)
        x->delivery = (ikv_delivery){.size = sizeof(ikv_delivery), .bus = b};
    return end(b, x);
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
        /* One place is left for the root. */
        if (at == 1)
            return 0;
        path[--at] = target;
    }
    path[--at] = root;
    IKVI_CHECK(at + 2 <= IKV_PATH_LIMIT);
    return IKV_PATH_LIMIT - at;
}

IKVI_APART static ikv_outcome deliver_below(ikv_bus *b, const ikv_event *event,
                                            const ikv_route *with)
{
    uint32_t traits = traits_of(b, event->kind);
    if (traits == 0)
        return refuse_event(b, event, IKV_UNKNOWN_KIND);
    if (ikvi_bus_place(b, event->target) == IKVI_NONE) {
        b->s.stale++;
        return refuse_event(b, event, IKV_STALE);
    }
    /* On the stack, so that a nested delivery has one of its own. */
    ikv_target path[IKV_PATH_LIMIT];
    uint32_t length =
        find_path(b, event->target, (traits & KIND_BUBBLES) != 0, path);
    if (length == 0)
        return refuse_event(b, event, IKV_FULL_DEPTH);
    return deliver_path(b, event, traits, path + IKV_PATH_LIMIT - length,
                        length, with);
}

IKVI_APART static ikv_outcome
deliver_at_root(ikv_bus *b, const ikv_event *event, const ikv_route *with)
{
    uint32_t traits = traits_of(b, event->kind);
    if (IKVI_UNLIKELY(traits == 0))
        return refuse_event(b, event, IKV_UNKNOWN_KIND);
    return deliver_path(b, event, traits, &the_root, 1, with);
}

ikv_outcome ikv_bus_deliver_along(ikv_bus *bus, const ikv_event *event,
                                  const ikv_route *route)
{
    if (bus == NULL || event == NULL || route == NULL ||
        (route->path != NULL && route->path_length == 0))
        return not_delivered(IKV_BAD_ARGUMENT);
    if (route->size != sizeof *route)
        return not_delivered(IKV_BAD_SIZE);
    if (route->path == NULL)
        return event->target.bits > the_root.bits
                   ? deliver_below(bus, event, route)
                   : deliver_at_root(bus, event, route);
    if (route->path_length > IKV_PATH_LIMIT)
        return refuse_event(bus, event, IKV_FULL_DEPTH);
    uint32_t traits = traits_of(bus, event->kind);
    if (traits == 0)
        return refuse_event(bus, event, IKV_UNKNOWN_KIND);
    return deliver_path(bus, event, traits, route->path, route->path_length,
                        route);
}

bool ikvi_bus_hears_any(const ikv_bus *b, ikv_kind kind)
{
    return ((b->kinds_ever >> kind % 64 | b->kinds_ever) & 1) != 0 ||
           ikvi_bus_watches(b, WATCH_DELIVERIES);
}

/* Whether somebody at the target alone may hear it. */
static bool hears_there(const ikv_bus *b, ikv_kind kind, uint32_t place)
{
    return ikvi_bus_has_seen(b, place, kind) &&
           (ikvi_bus_find_run(b, place, kind) != IKVI_NONE ||
            ikvi_bus_find_run(b, place, 0) != IKVI_NONE);
}

static bool hears_target(const ikv_bus *b, ikv_kind kind, ikv_target target)
{
    uint32_t place = ikvi_bus_place(b, target);
    return place != IKVI_NONE && hears_there(b, kind, place);
}

bool ikvi_bus_hears(const ikv_bus *b, ikv_kind kind, ikv_target target)
{
    uint32_t place = ikvi_bus_place(b, target);
    if (place == IKVI_NONE)
        return false;
    /* Perhaps: what waits is not looked at, and tags are not asked. */
    return b->pending_count > 0 || ikvi_bus_has_seen(b, TAGGED_PLACE, kind) ||
           hears_there(b, kind, place) || hears_there(b, kind, ROOT_PLACE);
}

/* What nobody would hear counts as delivered, and need not be. */
static bool count_unheard(ikv_bus *b, ikv_kind kind, uint32_t events)
{
    bus_kind_counts *counters = ikvi_bus_kind(b, kind);
    counters->delivered += events;
    counters->unheard += events;
    return true;
}

bool ikvi_bus_nobody_hears_along(ikv_bus *b, ikv_kind kind,
                                 const ikv_target *path, uint32_t place,
                                 uint32_t events, ikvi_quiet *quiet)
{
    if (ikvi_bus_watches(b, WATCH_DELIVERIES) || b->counting ||
        b->pending_count > 0 || b->depth >= b->depth_limit ||
        ikvi_bus_has_seen(b, TAGGED_PLACE, kind))
        return false;
    if (!ikvi_bus_hears_any(b, kind)) /* anywhere */
        return count_unheard(b, kind, events);
    /* Without new subscriptions nobody comes to hear what nobody heard. */
    if (quiet->births != b->births)
        *quiet = (ikvi_quiet){b->births, 0};
    while (quiet->reach <= place && !hears_target(b, kind, path[quiet->reach]))
        quiet->reach++;
    if (quiet->reach <= place)
        return false;
    return count_unheard(b, kind, events);
}

bool ikvi_bus_nobody_hears_at(ikv_bus *b, ikv_kind kind, ikv_target target)
{
    /* The root is asked first: who listens everywhere is there. */
    if (ikvi_bus_watches(b, WATCH_DELIVERIES) || b->counting ||
        hears_there(b, kind, ROOT_PLACE) || ikvi_bus_hears(b, kind, target))
        return false;
    return count_unheard(b, kind, 1);
}

/* Calls those of a run at the root that needs no merging, no position and no
 * gates; of a wide one those who hear the event's family, a bit that is 0 for
 * others. Little is kept in registers across the calls: who was called is counted
 * in memory, down from all, which the caller has put there. */
IKVI_INLINE ikv_verdict call_straight(ikv_bus *b, dispatch *x,
                                      const bus_run *run,
                                      const ikv_event *event, uint32_t family,
                                      bool counted)
{
    const bus_entry *entry = ikvi_bus_entry(b, run->first);
    uint32_t left = run->count;
    ikv_verdict verdict = 0;
    uint32_t places = (UINT32_C(1) << b->s.subscription_slots.bits) - 1;
    bus_seen *seen = counted ? ikvi_bus_seen(b, 0) : NULL;
    IKVI_CHECK(left > 0 && x->using == &x->at_root);
    do {
        bool hears = family == 0 || (entry->low & family) != 0;
        if (IKVI_UNLIKELY(!hears || (entry->visits & VISIT_OWN) == 0)) {
            x->heard--;
            if (counted && hears)
                ikvi_bus_pass_muted(b, x, &x->at_root, entry, VISIT_OWN);
            continue;
        }
        if (counted)
            seen[(entry->subscription & places) - 1].by[BY_CALL]++;
        x->at_root.subscription.bits = entry->subscription;
        verdict |=
            ikvi_bus_invoke(&x->at_root, entry->handler, entry->user, event);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL)) {
            /* Those behind the one that stopped it were not called. */
            x->heard -= left - 1;
            break;
        }
    } while (entry++, --left > 0);
    return verdict;
}

/* And back. The bus is found again through the delivery. */
static inline ikv_outcome
end_straight(const dispatch *x, const ikv_event *event, ikv_verdict verdict)
{
    ikv_bus *b = x->at_root.bus;
    ikv_outcome outcome = {IKV_OK, verdict, x->heard, 0};
    bus_kind_counts *kind = ikvi_bus_kind(b, event->kind);
    kind->delivered++;
    if (IKVI_UNLIKELY(outcome.heard == 0))
        kind->unheard++;
    IKVI_CHECK(ikvi_bus_dispatch(b, b->depth - 1) == x);
    ascend(b);
    return outcome;
}

/* The fast way: global subscriptions to one kind. */
static ikv_outcome deliver_straight(ikv_bus *b, const ikv_event *event,
                                    const bus_run *run)
{
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    x->heard = run->count;
    return end_straight(x, event, call_straight(b, x, run, event, 0, false));
}

/* The fast way, if all that is against it is a watcher that is told of
 * deliveries and not of handlers. */
IKVI_APART static ikv_outcome deliver_told(ikv_bus *b, const ikv_event *event,
                                           const bus_run *run)
{
    const bus_dispatch *x = ikvi_bus_dispatch(b, b->depth);
    ikv_watch watch = {.what = IKV_WATCH_EVENT,
                       .depth = b->depth + 1,
                       .event = event,
                       .delivery = &x->at_root,
                       .frame_scoped = b->frame_scoped};
    ikvi_bus_hold(b);
    if (ikvi_bus_watches(b, IKV_WATCH_EVENT))
        ikvi_bus_tell(b, &watch);
    ikv_outcome outcome = deliver_straight(b, event, run);
    watch.what = IKV_WATCH_DONE;
    watch.verdict = outcome.verdict;
    watch.heard = outcome.heard;
    if (ikvi_bus_watches(b, IKV_WATCH_DONE))
        ikvi_bus_tell(b, &watch);
    ikvi_bus_release(b);
    return outcome;
}

/* Whether somebody of a run would make the fast way a wrong one. */
static bool is_simple(const ikv_bus *b, uint32_t run)
{
    return run == IKVI_NONE ||
           (ikvi_bus_run(b, run)->visits & (VISIT_FIRST | VISIT_GATED)) == 0;
}

/* The fast way as well if all that is against it is a wide run at the root, all
 * of it before or after the kind's own, or that calls are counted. There may be
 * no wide one. */
IKVI_INLINE ikv_outcome call_both(ikv_bus *b, const ikv_event *event,
                                  uint32_t family, const bus_run *own,
                                  const bus_run *wide, bool counted)
{
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    bool swapped = wide != NULL && own->beside == BESIDE_BEFORE;
    const bus_run *run = swapped ? wide : own, *second = swapped ? own : wide;
    ikv_verdict verdict = 0;
    x->heard = 0;
    x->event = event;
    do {
        x->heard += run->count;
        verdict |= call_straight(b, x, run, event, family, counted);
        run = second;
        second = NULL;
    } while (run != NULL && (verdict & IKV_STOP_ALL) == 0);
    return end_straight(x, event, verdict);
}

/* Apart, so that each is compiled for what it does, and what chooses between them
 * keeps nothing. */
IKVI_APART static ikv_outcome deliver_beside(ikv_bus *b, const ikv_event *event,
                                             uint32_t family,
                                             const bus_run *own,
                                             const bus_run *wide)
{
    return call_both(b, event, family, own, wide, false);
}

IKVI_APART static ikv_outcome
deliver_counted(ikv_bus *b, const ikv_event *event, uint32_t family,
                const bus_run *own, const bus_run *wide)
{
    return call_both(b, event, family, own, wide, true);
}

/* Whether all of the root's run of that kind, which is there, is. */
static bool is_straight(const ikv_bus *b, ikv_kind kind)
{
    return (*ikvi_bus_root_run(b, kind) & STRAIGHT) != 0;
}

/* The root's run that lies there; NULL if there is none. */
static inline bus_run *run_that_lies(const ikv_bus *b, uint32_t where)
{
    return where != NO_ROOT_RUN
               ? ikvi_at(b, b->runs + (where & ~(uint32_t)STRAIGHT))
               : NULL;
}

/* What is against the fast way is at most a watcher: both runs are walked as
 * one. */
IKVI_APART static ikv_outcome deliver_merged(ikv_bus *b, const ikv_event *event,
                                             uint32_t traits)
{
    uint32_t own = ikvi_bus_find_run(b, ROOT_PLACE, event->kind);
    uint32_t wide = ikvi_bus_find_run(b, ROOT_PLACE, 0);
    if ((traits & KIND_POSITIONED) || !is_simple(b, own) ||
        !is_simple(b, wide) || ikvi_bus_has_seen(b, TAGGED_PLACE, event->kind))
        return deliver_at_root(b, event, NULL);
    dispatch *x = descend(b, event, traits);
    bus_rest exact = ikvi_bus_rest_of(b, own);
    bus_rest all = ikvi_bus_rest_of(b, wide);
    if (ikvi_bus_watches(b, IKV_WATCH_EVENT))
        ikvi_bus_tell_delivery(b, IKV_WATCH_EVENT, x);
    ikvi_bus_call_two(b, x, &exact, &all, VISIT_OWN);
    if (ikvi_bus_watches(b, IKV_WATCH_DONE))
        ikvi_bus_tell_delivery(b, IKV_WATCH_DONE, x);
    return end(b, x);
}

/* Looks up how the kind's run at the root stands to the wide one there. */
static void order_runs(const ikv_bus *b, ikv_kind kind, bus_run *run)
{
    uint32_t own = ikvi_bus_find_run(b, ROOT_PLACE, kind);
    uint32_t wide = ikvi_bus_find_run(b, ROOT_PLACE, 0);
    bool simple = is_straight(b, kind) && is_simple(b, wide) &&
                  !ikvi_bus_has_seen(b, TAGGED_PLACE, kind);
    run->beside = simple ? ikvi_bus_compare_runs(b, own, wide) : BESIDE_MIXED;
    IKVI_CHECK(run->beside != BESIDE_UNKNOWN);
}

/* Against the fast way is what can't lie beside it: a watcher, what has to be
 * sorted in first, a run that is not known yet. */
IKVI_APART static ikv_outcome deliver_aside(ikv_bus *b, const ikv_event *event)
{
    uint32_t traits = traits_of(b, event->kind);
    uint32_t against = b->s.detours & ~DETOURS_BESIDE;
    uint32_t where = *ikvi_bus_root_run(b, event->kind);
    bus_run *run = run_that_lies(b, where);
    if (traits == 0 || against > 1)
        return deliver_at_root(b, event, NULL);
    if (run != NULL && (where & STRAIGHT) != 0 && b->s.detours == 1 &&
        b->s.watched && !ikvi_bus_watches(b, WATCH_HANDLERS))
        return deliver_told(b, event, run);
    /* Known to the next one: all is sorted in. */
    if (run != NULL && against == 0 && run->beside == BESIDE_UNKNOWN)
        order_runs(b, event->kind, run);
    return against == b->s.watched ? deliver_merged(b, event, traits)
                                   : deliver_at_root(b, event, NULL);
}

/* Where something is against the fast way: a wide run at the root, that calls are
 * counted, a watcher, or what has to be sorted in first. It keeps nothing across
 * a call: what it calls it calls last. */
IKVI_APART static ikv_outcome deliver_detoured(ikv_bus *b,
                                               const ikv_event *event)
{
    uint32_t where = *ikvi_bus_root_run(b, event->kind);
    uint32_t traits = *kind_traits(b, event->kind);
    const bus_run *run = run_that_lies(b, where);
    if (run == NULL || traits == 0 || (b->s.detours & ~DETOURS_BESIDE) != 0 ||
        (b->counting && b->clock != NULL))
        return deliver_aside(b, event);
    uint32_t family = UINT32_C(1) << (traits & KIND_FAMILY);
    const bus_run *all = run_that_lies(b, *ikvi_bus_root_run(b, 0));
    /* Nobody of it hears the kind's family. */
    if (all != NULL && (all->families & family) == 0)
        all = NULL;
    if (all == NULL && (where & STRAIGHT) != 0 && !b->counting)
        return deliver_straight(b, event, run);
    if (run->beside == BESIDE_UNKNOWN || run->beside == BESIDE_MIXED)
        return deliver_aside(b, event);
    if (b->counting)
        return deliver_counted(b, event, family, run, all);
    return deliver_beside(b, event, family, run, all);
}

ikv_outcome ikvi_bus_deliver_with(ikv_bus *b, const ikv_event *event,
                                  const void *data, uint32_t size)
{
    ikv_route with = IKV_ROUTE_INIT;
    with.data = data;
    with.data_size = size;
    if (data == NULL)
        return ikv_bus_deliver(b, event);
    return ikv_bus_deliver_along(b, event, &with);
}

const char *ikv_delivery_text(const ikv_event *event,
                              const ikv_delivery *delivery, uint32_t *length)
{
    const char *text = NULL;
    uint32_t size = 0;
    if (event != NULL && event->kind == IKV_KIND_TEXT_INPUT) {
        text = event->text.bytes;
        size = event->text.length;
    } else if (event != NULL && event->kind == IKV_KIND_TEXT_COMPOSE) {
        text = event->compose.bytes;
        size = event->compose.length;
    }
    if (text != NULL && delivery != NULL && delivery->data_size > 0) {
        text = delivery->data;
        size = delivery->data_size;
    }
    if (length != NULL)
        *length = size;
    return text;
}

bool ikvi_bus_set_scope(ikv_bus *b, bool of_step)
{
    bool was = !b->frame_scoped;
    b->frame_scoped = !of_step;
    return was;
}

/* Whether an event of that kind at the root would be heard by nobody, counting
 * it if so: spares making one. */
bool ikvi_bus_nobody_hears(ikv_bus *b, ikv_kind kind)
{
    if (b->s.detours != 0 || *ikvi_bus_root_run(b, kind) != NO_ROOT_RUN)
        return false;
    return count_unheard(b, kind, 1);
}

/* D1, PATH7: runs to its end before it returns, also inside a handler. */
ikv_outcome ikv_bus_deliver(ikv_bus *bus, const ikv_event *event)
{
    if (IKVI_UNLIKELY(bus == NULL || event == NULL))
        return not_delivered(IKV_BAD_ARGUMENT);
    ikv_bus *b = bus;
    /* 0 and the root are the global subscribers'; all else is some target. */
    if (event->target.bits != the_root.bits)
        return event->target.bits != 0 ? deliver_below(b, event, NULL)
                                       : deliver_at_root(b, event, NULL);
    if (IKVI_UNLIKELY(event->kind >= b->kind_limit ||
                      b->depth >= b->depth_limit))
        return deliver_at_root(b, event, NULL);
    if (IKVI_UNLIKELY(b->s.detours != 0))
        return deliver_detoured(b, event);
    uint32_t where = *ikvi_bus_root_run(b, event->kind);
    if ((where & STRAIGHT) == 0)
        return deliver_at_root(b, event, NULL);
    return deliver_straight(b, event, ikvi_at(b, b->runs + where - STRAIGHT));
}

ikv_outcome ikvi_bus_deliver_unrouted(ikv_bus *bus, const ikv_event *event,
                                      const ikvi_along *with)
{
    ikv_route route = IKV_ROUTE_INIT;
    if (with == NULL)
        return ikv_bus_deliver(bus, event);
    route.samples = with->samples;
    route.sample_count = with->count;
    route.data = with->data;
    route.data_size = with->data_size;
    return ikv_bus_deliver_along(bus, event, &route);
}
