/* bus_deliver.c - delivery along a path: visits, merging, watching. */
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
    }
}

void ikv_bus_set_step(ikv_bus *bus, uint64_t step)
{
    if (bus == NULL)
        return;
    bus->s.step = step;
    /* Once a step here, and not once a delivery. */
    for (uint32_t i = 0; i < bus->depth_limit; i++)
        ikvi_bus_dispatch(bus, i)->at_root.step = step;
}

void ikv_bus_set_frame(ikv_bus *bus, uint64_t frame)
{
    if (bus != NULL)
        bus->frame = frame;
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

/* ------------------------------------------------------------- watching -- */

static void tell_watchers(const ikv_bus *b, const ikv_watch *watch)
{
    for (uint32_t i = 0; i < b->watcher_count; i++)
        b->watchers[i].watcher(watch, b->watchers[i].user);
}

void ikvi_bus_watch(ikv_bus *b, uint32_t what, const ikv_event *event,
                    ikv_lane lane)
{
    if (b->watcher_count != 0) {
        ikv_watch watch = {.what = what,
                           .depth = b->depth,
                           .event = event,
                           .lane = lane,
                           .frame_scoped = b->frame_scoped};
        tell_watchers(b, &watch);
    }
}

/* As an event begins or is done: with the verdict and the count so far. */
static void watch_delivery(ikv_bus *b, uint32_t what, const dispatch *x)
{
    ikv_watch watch = {.what = what,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = &x->delivery,
                       .verdict = x->verdict,
                       .heard = x->heard,
                       .frame_scoped = b->frame_scoped};
    tell_watchers(b, &watch);
}

/* Calls a handler. In debug builds it is given copies of the event and of the
 * delivery, which are poisoned when it returns: what is kept past its moment is
 * seen (E3). */
static inline ikv_verdict invoke(const ikv_delivery *delivery,
                                 ikv_handler handler, void *user,
                                 const ikv_event *event)
{
#ifdef IKV_DEBUG
    const ikv_bus *b = delivery->bus;
    bus_dispatch *x = ikvi_bus_dispatch(b, b->depth - 1);
    x->scratch = *event;
    x->lent = *delivery;
    ikv_verdict verdict = handler(&x->scratch, &x->lent, user);
    ikvi_poison(&x->scratch, sizeof x->scratch);
    ikvi_poison(&x->lent, sizeof x->lent);
    return verdict;
#else
    return handler(event, delivery, user);
#endif
}

static ikv_verdict call_watched(ikv_bus *b, dispatch *x, const bus_entry *entry,
                                const ikv_delivery *delivery)
{
    uint32_t place = ikvi_bus_place_of(b, entry->subscription);
    ikv_watch watch = {.what = IKV_WATCH_CALL,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = delivery,
                       .frame_scoped = b->frame_scoped};
    watch.name =
        ikvi_names_text(&b->s.names, b, ikvi_bus_subscription(b, place)->name);
    tell_watchers(b, &watch);
    /* The names stay where they are, whatever the handler does. */
    watch.verdict = invoke(delivery, entry->handler, entry->user, x->event);
    watch.what = IKV_WATCH_RETURN;
    tell_watchers(b, &watch);
    return watch.verdict;
}

/* Calls an entry's handler, watched and timed if that is asked for. */
static ikv_verdict call_entry(ikv_bus *b, dispatch *x, const bus_entry *entry,
                              ikv_delivery *delivery)
{
    delivery->subscription.bits = entry->subscription;
    x->heard++;
    uint64_t begin =
        b->counting && b->clock != NULL ? b->clock(b->clock_user) : 0;
    ikv_verdict verdict =
        b->watcher_count != 0
            ? call_watched(b, x, entry, delivery)
            : invoke(delivery, entry->handler, entry->user, x->event);
    /* It may have ended itself: then nobody asks for its time any more. */
    if (b->counting && b->clock != NULL &&
        ikvi_slots_find(&b->s.subscription_slots, b, entry->subscription) !=
            IKVI_NO_SLOT)
        ikvi_bus_seen(b, ikvi_bus_place_of(b, entry->subscription))->spent_ns +=
            b->clock(b->clock_user) - begin;
    return verdict;
}

static void watch_skip(ikv_bus *b, const dispatch *x,
                       const ikv_delivery *delivery, uint32_t place,
                       uint16_t reason)
{
    if (b->watcher_count == 0)
        return;
    ikv_watch watch = {.what = IKV_WATCH_SKIP,
                       .depth = b->depth,
                       .event = x->event,
                       .delivery = delivery,
                       .reason = reason,
                       .frame_scoped = b->frame_scoped};
    watch.name =
        ikvi_names_text(&b->s.names, b, ikvi_bus_subscription(b, place)->name);
    tell_watchers(b, &watch);
}

/* D7: why one was not called. */
static void count_candidate(ikv_bus *b, uint32_t place, uint16_t reason)
{
    if (!b->counting)
        return;
    bus_seen *c = ikvi_bus_seen(b, place);
    uint64_t *by[IKV_REASON_COUNT] = {[IKV_CALLED] = &c->calls,
                                      [IKV_SKIP_MUTED] = &c->by_mute,
                                      [IKV_SKIP_PLACE] = &c->by_place,
                                      [IKV_SKIP_CONDITION] = &c->by_condition,
                                      [IKV_SKIP_AFTER] = &c->by_after,
                                      [IKV_SKIP_AT_MOST] = &c->by_at_most,
                                      [IKV_SKIP_GAP] = &c->by_gap};
    c->candidates++;
    ++*by[reason];
    IKVI_CHECK(c->candidates == c->calls + c->by_mute + c->by_place +
                                    c->by_condition + c->by_after +
                                    c->by_at_most + c->by_gap);
}

/* Asks the entry's gate, and calls it if that lets the event through. Which
 * call is its last is settled before it, so that nested deliveries don't make
 * another; the subscription ends after it. */
static ikv_verdict call_gated(ikv_bus *b, dispatch *x, const bus_entry *entry,
                              ikv_delivery *delivery)
{
    uint32_t place = ikvi_bus_place_of(b, entry->subscription);
    /* A copy: the handler may end this one, and its place be taken. */
    bus_entry now = *entry;
    uint16_t reason = ikvi_bus_gate_ask(b, place, x->event, delivery);
    count_candidate(b, place, reason);
    if (reason != IKV_CALLED) {
        delivery->subscription.bits = now.subscription;
        watch_skip(b, x, delivery, place, reason);
        return IKV_CONTINUE;
    }
    bus_gate *gate = ikvi_bus_gate_of(b, place);
    IKVI_CHECK(!ikvi_bus_subscription(b, place)->ending);
    /* Muted for the call: a nested delivery finds nobody there. */
    bool last = gate->limit != 0 && --gate->limit == 0;
    if (last) {
        ikvi_bus_subscription(b, place)->ending = true;
        ikvi_bus_silence(b, place, true);
    }
    ikv_verdict verdict = call_entry(b, x, &now, delivery);
    if (last && ikvi_bus_find_subscription(b, now.subscription) == place) {
        delivery->subscription.bits = 0; /* it runs no more */
        ikvi_bus_drop(b, place);
    }
    return verdict;
}

/* ------------------------------------------------------------ one visit -- */

enum {
    RUNS = 4
};

static bus_order order_of_entry(const ikv_bus *b, const bus_entry *entry)
{
    return ikvi_bus_order(
        ikvi_bus_subscription(b, ikvi_bus_place_of(b, entry->subscription)));
}

/* Sorted sources that a visit walks as one: the kind's own run and the wide
 * run, of the target and of what hangs on tags and bodies; and what was
 * subscribed since the outermost delivery began. */
typedef struct sources {
    const bus_entry *at[RUNS], *end[RUNS]; /* odd ones are wide */
    const uint32_t *pending, *pending_end;
    bus_entry waiting; /* the pending one at `pending`, made into an entry */
    bus_order waiting_order;
} sources;

static void skip_foreign(const ikv_bus *b, const dispatch *x, sources *m)
{
    for (int i = 0; i < RUNS; i++)
        for (; m->at[i] < m->end[i]; m->at[i]++) {
            if (m->at[i]->subscription == 0)
                continue; /* ended */
            if (i % 2 == 0)
                break;
            uint32_t place = ikvi_bus_place_of(b, m->at[i]->subscription);
            if (ikvi_bus_subscription(b, place)->families >>
                    (x->traits & KIND_FAMILY) &
                1)
                break;
        }
}

static bool pending_matches(const ikv_bus *b, const dispatch *x,
                            uint32_t target, bool own, const bus_link *link)
{
    const bus_subscription *s = ikvi_bus_subscription(b, link->subscription);
    bool kind = link->kind == x->event->kind ||
                (link->kind == 0 &&
                 (s->families >> (x->traits & KIND_FAMILY) & 1) != 0);
    return kind && s->birth < x->born &&
           (link->target == target || (own && link->target == TAGGED_PLACE));
}

/* What waits was subscribed in a dispatch that still runs: dispatches that began
 * before it don't hear it (PATH6), those that have begun since do. */
static void skip_pending(const ikv_bus *b, const dispatch *x, uint32_t target,
                         bool own, sources *m)
{
    for (; m->pending < m->pending_end; m->pending++) {
        const bus_link *link = ikvi_bus_link(b, *m->pending);
        const bus_subscription *s =
            ikvi_bus_subscription(b, link->subscription);
        if (!pending_matches(b, x, target, own, link))
            continue;
        m->waiting =
            (bus_entry){.handler = s->handler,
                        .user = s->user,
                        .visits = s->muted ? 0 : s->visits,
                        .subscription = ikvi_slots_bits(
                            &b->s.subscription_slots, b, link->subscription)};
        m->waiting_order = ikvi_bus_order(s);
        break;
    }
}

/* The next entry of all sources in order; NULL at the end. */
static const bus_entry *next_entry(const ikv_bus *b, const dispatch *x,
                                   uint32_t target, bool own, sources *m)
{
    skip_foreign(b, x, m);
    skip_pending(b, x, target, own, m);
    const bus_entry *best = m->pending < m->pending_end ? &m->waiting : NULL;
    bus_order least = m->waiting_order;
    int from = RUNS;
    /* Four sources at most: no heap is worth it. */
    for (int i = 0; i < RUNS; i++) {
        if (m->at[i] == m->end[i])
            continue;
        bus_order one = order_of_entry(b, m->at[i]);
        if (best == NULL || ikvi_bus_earlier(one, least)) {
            best = m->at[i];
            least = one;
            from = i;
        }
    }
    if (from < RUNS)
        m->at[from]++;
    else if (best != NULL)
        m->pending++;
    return best;
}

static void add_source(const ikv_bus *b, sources *m, int i, uint32_t run)
{
    if (run != IKVI_NONE) {
        m->at[i] = ikvi_bus_entry(b, ikvi_bus_run(b, run)->first);
        m->end[i] = m->at[i] + ikvi_bus_run(b, run)->count;
    }
}

/* The pending array may change inside a handler: goes on behind the last one
 * that was called. What is subscribed there is too young for this delivery. */
static void resume_pending(const ikv_bus *b, bus_order last, sources *m)
{
    const uint32_t *pending = ikvi_bus_words(b, b->pending);
    uint32_t first = 0, count = b->pending_count;
    m->pending_end = pending + count;
    /* By order and not by place: those behind may have moved up or down. */
    while (count > 0) {
        uint32_t half = count / 2;
        const bus_link *link = ikvi_bus_link(b, pending[first + half]);
        bus_order order =
            ikvi_bus_order(ikvi_bus_subscription(b, link->subscription));
        if (ikvi_bus_earlier(last, order)) {
            count = half;
        } else {
            first += half + 1;
            count -= half + 1;
        }
    }
    m->pending = pending + first;
}

/* An entry that takes no part: worth a word only if it is muted. */
static void pass_muted(ikv_bus *b, const dispatch *x, ikv_delivery *delivery,
                       const bus_entry *entry, uint32_t visits)
{
    if (entry->subscription == 0)
        return;
    uint32_t place = ikvi_bus_place_of(b, entry->subscription);
    const bus_subscription *s = ikvi_bus_subscription(b, place);
    if (!s->muted || s->ending || (s->visits & visits) == 0)
        return;
    count_candidate(b, place, IKV_SKIP_MUTED);
    delivery->subscription.bits = entry->subscription;
    watch_skip(b, x, delivery, place, IKV_SKIP_MUTED);
}

static void visit_merged(ikv_bus *b, dispatch *x, uint32_t target, sources *m,
                         uint32_t visits)
{
    bool own = (visits & (VISIT_FIRST | VISIT_OWN)) != 0;
    const bus_entry *entry;
    m->pending = ikvi_bus_words(b, b->pending);
    m->pending_end = m->pending + b->pending_count;
    while ((entry = next_entry(b, x, target, own, m)) != NULL) {
        if ((entry->visits & visits) == 0) {
            pass_muted(b, x, &x->delivery, entry, visits);
            continue;
        }
        /* A copy, as m->waiting is made anew for the next one. */
        bus_entry last = *entry;
        bus_order last_order = order_of_entry(b, entry);
        if (last.visits & VISIT_GATED) {
            x->verdict |= call_gated(b, x, &last, &x->delivery);
        } else {
            count_candidate(b, ikvi_bus_place_of(b, last.subscription),
                            IKV_CALLED);
            x->verdict |= call_entry(b, x, &last, &x->delivery);
        }
        if (x->verdict & IKV_STOP_ALL)
            return;
        resume_pending(b, last_order, m);
    }
}

/* A run in which some have gates. */
IKVI_APART static ikv_verdict call_gated_run(ikv_bus *b, dispatch *x,
                                             const bus_entry *entry,
                                             uint32_t count, uint32_t visits,
                                             ikv_delivery *delivery)
{
    const ikv_event *event = x->event;
    const bus_entry *last = entry + count;
    ikv_verdict verdict = 0;
    for (; entry < last; entry++) {
        /* Without a test mask, value and offset are 0: 0 is 0, and all pass. */
        uint32_t takes = entry->visits, field;
        memcpy(&field, (const char *)event + (takes >> 16), sizeof field);
        if ((field & entry->test_mask) != entry->test_value ||
            (takes & visits) == 0)
            continue;
        if (takes & VISIT_GATED) {
            verdict |= call_gated(b, x, entry, delivery);
        } else {
            delivery->subscription.bits = entry->subscription;
            x->heard++;
            verdict |= invoke(delivery, entry->handler, entry->user, event);
        }
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL))
            break;
    }
    return verdict;
}

/* The usual case: one run without gates, its ends in registers. */
static inline ikv_verdict call_run(dispatch *x, const bus_entry *entry,
                                   uint32_t count, uint32_t visits,
                                   ikv_delivery *delivery)
{
    const ikv_event *event = x->event;
    const bus_entry *last = entry + count;
    ikv_verdict verdict = 0;
    uint32_t heard = 0;
    /* What ends meanwhile has no visits left; nothing moves while it is
     * held. */
    for (; entry < last; entry++) {
        if (IKVI_UNLIKELY((entry->visits & visits) == 0))
            continue;
        delivery->subscription.bits = entry->subscription;
        heard++;
        verdict |= invoke(delivery, entry->handler, entry->user, event);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL))
            break;
    }
    x->heard += heard;
    return verdict;
}

/* Whether a wide entry hears the event's family. */
static bool hears_family(const ikv_bus *b, const dispatch *x,
                         const bus_entry *entry)
{
    uint32_t place = ikvi_bus_place_of(b, entry->subscription);
    return (ikvi_bus_subscription(b, place)->families >>
                (x->traits & KIND_FAMILY) &
            1) != 0;
}

/* What is left of a sorted run, and where its first entry comes. */
typedef struct rest {
    const bus_entry *at, *end;
    bus_order order;
    bool wide;
} rest;

static rest rest_of(const ikv_bus *b, uint32_t run, bool wide)
{
    const bus_entry *first = ikvi_bus_entry(b, ikvi_bus_run(b, run)->first);
    return (rest){
        .at = first, .end = first + ikvi_bus_run(b, run)->count, .wide = wide};
}

/* To the next entry that may be called. A handler that comes before it may end
 * it, mute it or let it speak again: that is asked when its turn comes. */
static void next_in_rest(const ikv_bus *b, const dispatch *x, rest *r)
{
    while (r->at < r->end && (r->at->subscription == 0 ||
                              (r->wide && !hears_family(b, x, r->at))))
        r->at++;
    if (r->at < r->end)
        r->order = order_of_entry(b, r->at);
}

/* Whose turn it is of two; NULL when both are done. */
static rest *first_of(rest *own, rest *wide)
{
    if (own->at == own->end)
        return wide->at < wide->end ? wide : NULL;
    return wide->at == wide->end || ikvi_bus_earlier(own->order, wide->order)
               ? own
               : wide;
}

/* Calls an entry, and counts it if that is asked for. */
static inline ikv_verdict call_counted(ikv_bus *b, dispatch *x,
                                       const bus_entry *entry)
{
    if (entry->visits & VISIT_GATED)
        return call_gated(b, x, entry, &x->delivery);
    if (b->counting) {
        count_candidate(b, ikvi_bus_place_of(b, entry->subscription),
                        IKV_CALLED);
        return call_entry(b, x, entry, &x->delivery);
    }
    x->delivery.subscription.bits = entry->subscription;
    x->heard++;
    return invoke(&x->delivery, entry->handler, entry->user, x->event);
}

/* The kind's own run and a wide one as one, or either. Nobody watches and
 * nothing is pending: what is subscribed meanwhile is too young. */
IKVI_APART static void call_two_runs(ikv_bus *b, dispatch *x, rest *own,
                                     rest *wide, uint32_t visits)
{
    rest *from;
    next_in_rest(b, x, own);
    next_in_rest(b, x, wide);
    while ((from = first_of(own, wide)) != NULL) {
        /* A copy: it is emptied if its handler ends it. */
        bus_entry entry = *from->at++;
        next_in_rest(b, x, from);
        if ((entry.visits & visits) == 0) {
            pass_muted(b, x, &x->delivery, &entry, visits);
            continue;
        }
        x->verdict |= call_counted(b, x, &entry);
        if (IKVI_UNLIKELY(x->verdict & IKV_STOP_ALL))
            return;
    }
}

static void find_local(ikv_bus *b, dispatch *x)
{
    const ikv_event *event = x->event;
    /* Without a scene all three spaces are one. */
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

static bool has_seen(const ikv_bus *b, uint32_t place, ikv_kind kind)
{
    /* A set of 64 bits that says "perhaps"; bit 0 is that of wide runs. */
    uint64_t seen = ikvi_bus_target(b, place)->kinds_seen;
    return ((seen >> kind % 64 | seen) & 1) != 0;
}

/* Whether somebody of a run may be called in these visits. */
static bool takes_part(const ikv_bus *b, const dispatch *x, uint32_t run,
                       uint32_t visits)
{
    if (run == IKVI_NONE || (ikvi_bus_run(b, run)->visits & visits) == 0)
        return false;
    const bus_run *r = ikvi_bus_run(b, run);
    return r->kind != 0 || (r->families >> (x->traits & KIND_FAMILY) & 1) != 0;
}

/* PATH3, D4: those of one target and phase, by rank and age; a stop lets them
 * finish. Calls what listens at the target in these visits; false after a
 * stop. */
static bool visit(ikv_bus *b, dispatch *x, ikv_target target, uint32_t visits,
                  uint16_t phase)
{
    ikv_kind kind = x->event->kind;
    uint32_t place = ikvi_bus_place(b, target);
    if (place == IKVI_NONE)
        return true;
    /* What hangs on tags and bodies is heard at the target itself, not
     * above. */
    bool tagged = (visits & (VISIT_FIRST | VISIT_OWN)) != 0 &&
                  has_seen(b, TAGGED_PLACE, kind);
    if (!tagged && b->pending_count == 0 && !has_seen(b, place, kind))
        return true;
    uint32_t exact = ikvi_bus_find_run(b, place, kind);
    uint32_t wide = ikvi_bus_find_run(b, place, 0);
    bool few = !tagged && b->pending_count == 0 && b->watcher_count == 0;
    if (few && !takes_part(b, x, exact, visits))
        exact = IKVI_NONE;
    if (few && !takes_part(b, x, wide, visits))
        wide = IKVI_NONE;
    if (few && exact == IKVI_NONE && wide == IKVI_NONE)
        return true;
    if (b->callbacks.alive != NULL && place != ROOT_PLACE &&
        !b->callbacks.alive(b->callbacks.user, target))
        return true; /* PATH5: the engine has dropped what it points to */
    x->delivery.current = target;
    x->delivery.phase = phase;
    if (x->traits & KIND_POSITIONED)
        find_local(b, x);
    /* Nothing to be merged, nobody to be told: the run is walked as it is. */
    if (few && wide == IKVI_NONE && !b->counting) {
        const bus_run *run = ikvi_bus_run(b, exact);
        const bus_entry *first = ikvi_bus_entry(b, run->first);
        x->verdict |=
            run->visits & VISIT_GATED
                ? call_gated_run(b, x, first, run->count, visits, &x->delivery)
                : call_run(x, first, run->count, visits, &x->delivery);
    } else if (few) {
        rest none = {.at = NULL, .end = NULL};
        rest own = exact != IKVI_NONE ? rest_of(b, exact, false) : none;
        rest all = wide != IKVI_NONE ? rest_of(b, wide, true) : none;
        call_two_runs(b, x, &own, &all, visits);
    } else {
        sources m = {.pending = NULL};
        add_source(b, &m, 0, exact);
        add_source(b, &m, 1, wide);
        if (tagged) {
            add_source(b, &m, 2, ikvi_bus_find_run(b, TAGGED_PLACE, kind));
            add_source(b, &m, 3, ikvi_bus_find_run(b, TAGGED_PLACE, 0));
        }
        visit_merged(b, x, place, &m, visits);
    }
    return (x->verdict & (IKV_STOP | IKV_STOP_ALL)) == 0;
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

static ikv_outcome not_delivered(ikv_status status)
{
    return (ikv_outcome){status, 0, 0, 0};
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

/* Begins a delivery at the next level of depth. The caller has checked that
 * there is one. */
static inline dispatch *begin(ikv_bus *b, const ikv_event *event,
                              uint32_t traits, const ikv_target *path,
                              uint32_t length)
{
    IKVI_CHECK(b->depth < b->depth_limit && length > 0);
    dispatch *x = ikvi_bus_dispatch(b, b->depth++);
    ikvi_bus_hold(b);
    x->event = event;
    x->verdict = 0;
    x->heard = 0;
    /* What is subscribed from here on is younger, and not called. */
    x->born = b->births;
    x->traits = traits;
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
    b->depth--;
    ikvi_bus_release(b);
    return outcome;
}

/* PATH1: the path is fixed before the first is called. */
static ikv_outcome deliver_path(ikv_bus *b, const ikv_event *event,
                                uint32_t traits, const ikv_target *path,
                                uint32_t length, const ikv_route *route)
{
    if (IKVI_UNLIKELY(b->depth >= b->depth_limit))
        return not_delivered(ikvi_bus_too_deep(b));
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
    if (IKVI_UNLIKELY(b->watcher_count != 0))
        watch_delivery(b, IKV_WATCH_EVENT, x);
    /* Over, enter and their like are each target's own: no way down, none
     * up. */
    if (route != NULL && route->own_visit)
        walk(b, x, &path[length - 1], 0, false);
    else
        walk(b, x, path, length - 1, (traits & KIND_BUBBLES) != 0);
    if (IKVI_UNLIKELY(b->watcher_count != 0))
        watch_delivery(b, IKV_WATCH_DONE, x);
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
        return not_delivered(IKV_UNKNOWN_KIND);
    if (ikvi_bus_place(b, event->target) == IKVI_NONE) {
        b->s.stale++;
        return not_delivered(IKV_STALE);
    }
    /* On the stack, so that a nested delivery has one of its own. */
    ikv_target path[IKV_PATH_LIMIT];
    uint32_t length =
        find_path(b, event->target, (traits & KIND_BUBBLES) != 0, path);
    if (length == 0)
        return not_delivered(IKV_FULL_DEPTH);
    return deliver_path(b, event, traits, path + IKV_PATH_LIMIT - length,
                        length, with);
}

IKVI_APART static ikv_outcome
deliver_at_root(ikv_bus *b, const ikv_event *event, const ikv_route *with)
{
    uint32_t traits = traits_of(b, event->kind);
    if (IKVI_UNLIKELY(traits == 0))
        return not_delivered(IKV_UNKNOWN_KIND);
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
        return not_delivered(IKV_FULL_DEPTH);
    uint32_t traits = traits_of(bus, event->kind);
    if (traits == 0)
        return not_delivered(IKV_UNKNOWN_KIND);
    return deliver_path(bus, event, traits, route->path, route->path_length,
                        route);
}

bool ikvi_bus_hears_any(const ikv_bus *b, ikv_kind kind)
{
    return ((b->kinds_ever >> kind % 64 | b->kinds_ever) & 1) != 0 ||
           b->watcher_count != 0;
}

bool ikvi_bus_hears(const ikv_bus *b, ikv_kind kind, ikv_target target)
{
    uint32_t place = ikvi_bus_place(b, target);
    if (place == IKVI_NONE)
        return false;
    /* Perhaps: what waits is not looked at, and tags are not asked. */
    if (b->pending_count > 0 || has_seen(b, TAGGED_PLACE, kind))
        return true;
    if (!has_seen(b, place, kind) && !has_seen(b, ROOT_PLACE, kind))
        return false;
    const uint32_t places[] = {place, ROOT_PLACE};
    for (uint32_t i = 0; i < 2; i++)
        if (ikvi_bus_find_run(b, places[i], kind) != IKVI_NONE ||
            ikvi_bus_find_run(b, places[i], 0) != IKVI_NONE)
            return true;
    return false;
}

/* Whether somebody at the target alone may hear it. */
static bool hears_there(const ikv_bus *b, ikv_kind kind, ikv_target target)
{
    uint32_t place = ikvi_bus_place(b, target);
    return place != IKVI_NONE && has_seen(b, place, kind) &&
           (ikvi_bus_find_run(b, place, kind) != IKVI_NONE ||
            ikvi_bus_find_run(b, place, 0) != IKVI_NONE);
}

bool ikvi_bus_nobody_hears_along(ikv_bus *b, ikv_kind kind,
                                 const ikv_target *path, uint32_t place,
                                 ikvi_quiet *quiet)
{
    if (b->watcher_count != 0 || b->counting || b->pending_count > 0 ||
        b->depth >= b->depth_limit || has_seen(b, TAGGED_PLACE, kind))
        return false;
    /* Without new subscriptions nobody comes to hear what nobody heard. */
    if (quiet->births != b->births)
        *quiet = (ikvi_quiet){b->births, 0};
    while (quiet->reach <= place && !hears_there(b, kind, path[quiet->reach]))
        quiet->reach++;
    if (quiet->reach <= place)
        return false;
    bus_kind_counts *counters = ikvi_bus_kind(b, kind);
    counters->delivered++;
    counters->unheard++;
    return true;
}

bool ikvi_bus_nobody_hears_at(ikv_bus *b, ikv_kind kind, ikv_target target)
{
    if (b->watcher_count != 0 || b->counting || ikvi_bus_hears(b, kind, target))
        return false;
    bus_kind_counts *counters = ikvi_bus_kind(b, kind);
    counters->delivered++;
    counters->unheard++;
    return true;
}

/* The fast way for an event at the root that needs no merging, no position and
 * no gates: global subscriptions to one kind. Little is kept in registers
 * across the calls: who was skipped rather than who was called, and the bus is
 * found again through the delivery. */
static ikv_outcome deliver_straight(ikv_bus *b, const ikv_event *event,
                                    const bus_run *run)
{
    bus_dispatch *x = ikvi_bus_dispatch(b, b->depth);
    ikv_delivery *delivery = &x->at_root;
    x->using = delivery;
    const bus_entry *entry = ikvi_bus_entry(b, run->first);
    const bus_entry *last = entry + run->count;
    uint32_t heard = run->count;
    ikv_verdict verdict = 0;
    b->depth++;
    b->busy++;
    for (; entry < last; entry++) {
        if (IKVI_UNLIKELY((entry->visits & VISIT_OWN) == 0)) {
            heard--;
            continue;
        }
        delivery->subscription.bits = entry->subscription;
        verdict |= invoke(delivery, entry->handler, entry->user, event);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL)) {
            /* Those behind the one that stopped it were not called. */
            heard -= (uint32_t)(last - entry) - 1;
            break;
        }
    }
    b = delivery->bus;
    bus_kind_counts *kind = ikvi_bus_kind(b, event->kind);
    kind->delivered++;
    if (IKVI_UNLIKELY(heard == 0))
        kind->unheard++;
    IKVI_CHECK(ikvi_bus_dispatch(b, b->depth - 1)->using == delivery);
    b->depth--;
    ikvi_bus_release(b);
    return (ikv_outcome){IKV_OK, verdict, heard, 0};
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
    if (b->s.detours != 0 || ikvi_bus_words(b, b->root_runs)[kind] != IKVI_NONE)
        return false;
    bus_kind_counts *counters = ikvi_bus_kind(b, kind);
    counters->delivered++;
    counters->unheard++;
    return true;
}

/* Whether all that is against the fast way is a wide run at the root in which
 * nobody hears the kind's family. */
static bool detour_is_foreign(const ikv_bus *b, ikv_kind kind)
{
    uint32_t wide = ikvi_bus_words(b, b->root_runs)[0];
    uint32_t traits = traits_of(b, kind);
    return b->s.detours == 1 && wide != IKVI_NONE && traits != 0 &&
           (ikvi_bus_run(b, wide)->families >> (traits & KIND_FAMILY) & 1) == 0;
}

/* D1, PATH7: runs to its end before it returns, also inside a handler. */
ikv_outcome ikv_bus_deliver(ikv_bus *bus, const ikv_event *event)
{
    if (IKVI_UNLIKELY(bus == NULL || event == NULL))
        return not_delivered(IKV_BAD_ARGUMENT);
    ikv_bus *b = bus;
    /* 0 and the root are the global subscribers'; all else is some target. */
    if (event->target.bits > the_root.bits)
        return deliver_below(b, event, NULL);
    if (IKVI_UNLIKELY(
            event->kind >= b->kind_limit || b->depth >= b->depth_limit ||
            (b->s.detours != 0 && !detour_is_foreign(b, event->kind))))
        return deliver_at_root(b, event, NULL);
    uint32_t at = ikvi_bus_words(b, b->root_runs)[event->kind];
    if (at == IKVI_NONE || event->target.bits == 0 ||
        !ikvi_bus_run(b, at)->straight)
        return deliver_at_root(b, event, NULL);
    return deliver_straight(b, event, ikvi_bus_run(b, at));
}

ikv_outcome ikvi_bus_deliver_unrouted(ikv_bus *bus, const ikv_event *event,
                                      const ikv_event *samples, uint32_t count)
{
    ikv_route with = IKV_ROUTE_INIT;
    with.samples = samples;
    with.sample_count = count;
    return count > 1 ? ikv_bus_deliver_along(bus, event, &with)
                     : ikv_bus_deliver(bus, event);
}
