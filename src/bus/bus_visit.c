/* bus_visit.c - one visit of a target: who listens there, in which order, what
 * keeps each from being called, and who is told of it. */
#include "bus_internal.h"

typedef bus_dispatch dispatch;

/* ---------------------------------------------------------- one handler -- */

/* Calls an entry's handler, watched and timed if that is asked for. */
static ikv_verdict call_entry(ikv_bus *b, dispatch *x, const bus_entry *entry,
                              ikv_delivery *delivery)
{
    /* Filled in before the call: it may end itself. The names stay where they
     * are, whatever the handler does. */
    ikv_watch watch = {.what = IKV_WATCH_CALL};
    delivery->subscription.bits = entry->subscription;
    x->heard++;
    if (ikvi_bus_watches(b, IKV_WATCH_CALL | IKV_WATCH_RETURN))
        ikvi_bus_tell_entry(b, &watch, x,
                            ikvi_bus_place_of(b, entry->subscription));
    uint64_t begin =
        b->counting && b->clock != NULL ? b->clock(b->clock_user) : 0;
    ikv_verdict verdict =
        ikvi_bus_invoke(delivery, entry->handler, entry->user, x->event);
    /* It may have ended itself: then nobody asks for its time any more. */
    if (b->counting && b->clock != NULL &&
        ikvi_slots_find(&b->s.subscription_slots, b, entry->subscription) !=
            IKVI_NO_SLOT)
        ikvi_bus_seen(b, ikvi_bus_place_of(b, entry->subscription))->spent_ns +=
            b->clock(b->clock_user) - begin;
    if (ikvi_bus_watches(b, IKV_WATCH_RETURN)) {
        watch.what = IKV_WATCH_RETURN;
        watch.verdict = verdict;
        ikvi_bus_tell(b, &watch);
    }
    return verdict;
}

/* An entry is about to be asked, or was not called. */
static void tell_candidate(const ikv_bus *b, uint32_t what, const dispatch *x,
                           uint32_t place, uint16_t reason)
{
    ikv_watch watch = {.what = what, .reason = reason};
    if (ikvi_bus_watches(b, what))
        ikvi_bus_tell_entry(b, &watch, x, place);
}

/* Reasons are counted from the first of them on; 0: it was called. */
static uint32_t reason_index(uint16_t reason)
{
    return reason == IKV_WHY_NONE ? 0 : 1u + reason - IKV_WHY_MUTED;
}

/* D7: why one was not called. */
static void count_candidate(ikv_bus *b, uint32_t place, uint16_t reason)
{
    if (!b->counting)
        return;
    ikvi_bus_seen(b, place)->by[reason_index(reason)]++;
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
    delivery->subscription.bits = now.subscription;
    tell_candidate(b, IKV_WATCH_ASK, x, place, IKV_WHY_NONE);
    uint16_t reason = ikvi_bus_gate_ask(b, place, x->event, delivery);
    count_candidate(b, place, reason);
    if (reason != IKV_WHY_NONE) {
        tell_candidate(b, IKV_WATCH_SKIP, x, place, reason);
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

/* Calls an entry that takes part, by its gate if it has one. */
static inline ikv_verdict call_any(ikv_bus *b, dispatch *x,
                                   const bus_entry *entry,
                                   ikv_delivery *delivery)
{
    if (entry->visits & VISIT_GATED)
        return call_gated(b, x, entry, delivery);
    count_candidate(b, ikvi_bus_place_of(b, entry->subscription), IKV_WHY_NONE);
    if (b->clock != NULL || ikvi_bus_watches(b, WATCH_HANDLERS))
        return call_entry(b, x, entry, delivery);
    delivery->subscription.bits = entry->subscription;
    x->heard++;
    return ikvi_bus_invoke(delivery, entry->handler, entry->user, x->event);
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

/* Whether families that are heard have the event's. */
static bool has_family(const dispatch *x, uint32_t families)
{
    return (families >> (x->traits & KIND_FAMILY) & 1) != 0;
}

static void skip_foreign(const dispatch *x, sources *m)
{
    for (int i = 0; i < RUNS; i++)
        while (m->at[i] < m->end[i] &&
               (m->at[i]->subscription == 0 || /* ended */
                (i % 2 != 0 && !has_family(x, m->at[i]->low))))
            m->at[i]++;
}

static bool pending_matches(const ikv_bus *b, const dispatch *x,
                            uint32_t target, bool own, const bus_link *link)
{
    const bus_subscription *s = ikvi_bus_subscription(b, link->subscription);
    bool kind = link->kind == x->event->kind ||
                (link->kind == 0 && has_family(x, s->families));
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
    skip_foreign(x, m);
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
 * that was called. What is subscribed there is too young for this delivery,
 * whether it is sorted in already or not. */
static void resume_pending(const ikv_bus *b, bus_order last, sources *m)
{
    const uint32_t *pending = ikvi_bus_words(b, b->pending);
    uint32_t first = 0, count = b->pending_sorted;
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
void ikvi_bus_pass_muted(ikv_bus *b, const dispatch *x, ikv_delivery *delivery,
                         const bus_entry *entry, uint32_t visits)
{
    if (entry->subscription == 0)
        return;
    uint32_t place = ikvi_bus_place_of(b, entry->subscription);
    const bus_subscription *s = ikvi_bus_subscription(b, place);
    if (!s->muted || s->ending || (s->visits & visits) == 0)
        return;
    count_candidate(b, place, IKV_WHY_MUTED);
    delivery->subscription.bits = entry->subscription;
    tell_candidate(b, IKV_WATCH_SKIP, x, place, IKV_WHY_MUTED);
}

static void visit_merged(ikv_bus *b, dispatch *x, uint32_t target, sources *m,
                         uint32_t visits)
{
    bool own = (visits & (VISIT_FIRST | VISIT_OWN)) != 0;
    const bus_entry *entry;
    m->pending = ikvi_bus_words(b, b->pending);
    m->pending_end = m->pending + b->pending_sorted;
    while ((entry = next_entry(b, x, target, own, m)) != NULL) {
        if ((entry->visits & visits) == 0) {
            ikvi_bus_pass_muted(b, x, &x->delivery, entry, visits);
            continue;
        }
        /* A copy, as m->waiting is made anew for the next one. */
        bus_entry last = *entry;
        bus_order last_order = order_of_entry(b, entry);
        x->verdict |= call_any(b, x, &last, &x->delivery);
        if (x->verdict & IKV_STOP_ALL)
            return;
        resume_pending(b, last_order, m);
    }
}

/* What an entry says by itself, without its subscription. */
static inline bool lets_through(const ikv_bus *b, const bus_entry *entry,
                                const ikv_event *event)
{
    bus_test test = {entry->visits, entry->low, entry->span};
    if (IKVI_UNLIKELY(test.where & TEST_GATE))
        return ikvi_bus_rests(b, ikvi_bus_gate(b, test.low), event) ==
               IKV_WHY_NONE;
    return ikvi_bus_passes(test, event);
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
        uint32_t takes = entry->visits;
        if (!lets_through(b, entry, event) || (takes & visits) == 0)
            continue;
        if (takes & VISIT_GATED) {
            verdict |= call_gated(b, x, entry, delivery);
        } else {
            delivery->subscription.bits = entry->subscription;
            x->heard++;
            verdict |=
                ikvi_bus_invoke(delivery, entry->handler, entry->user, event);
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
        verdict |=
            ikvi_bus_invoke(delivery, entry->handler, entry->user, event);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL))
            break;
    }
    x->heard += heard;
    return verdict;
}

bus_rest ikvi_bus_rest_of(const ikv_bus *b, uint32_t run)
{
    bus_rest rest = {.at = NULL};
    if (run != IKVI_NONE) {
        rest.at = ikvi_bus_entry(b, ikvi_bus_run(b, run)->first);
        rest.end = rest.at + ikvi_bus_run(b, run)->count;
        rest.wide = ikvi_bus_run(b, run)->kind == 0;
        rest.gated = (ikvi_bus_run(b, run)->visits & VISIT_GATED) != 0;
    }
    return rest;
}

/* To the next entry that may be called. A handler that comes before it may end
 * it, mute it or let it speak again: that is asked when its turn comes. */
static inline void next_in_rest(const dispatch *x, bus_rest *r)
{
    while (r->at < r->end && (r->at->subscription == 0 ||
                              (r->wide && !has_family(x, r->at->low))))
        r->at++;
}

/* Calls the next one; false after a stop of all. */
static inline bool call_next(ikv_bus *b, dispatch *x, bus_rest *r,
                             uint32_t visits, ikv_delivery *delivery)
{
    /* A copy: it is emptied if its handler ends it. */
    bus_entry entry = *r->at++;
    if (IKVI_UNLIKELY((entry.visits & visits) == 0)) {
        ikvi_bus_pass_muted(b, x, delivery, &entry, visits);
        return true;
    }
    x->verdict |= call_any(b, x, &entry, delivery);
    return (x->verdict & IKV_STOP_ALL) == 0;
}

/* To its end, where nobody has a gate and no call is timed or watched; false
 * after a stop of all. */
static bool call_plain_rest(ikv_bus *b, dispatch *x, const bus_rest *r,
                            uint32_t visits, ikv_delivery *delivery)
{
    const bus_entry *end = r->end;
    const ikv_event *event = x->event;
    bool wide = r->wide, counting = b->counting;
    ikv_verdict verdict = 0;
    uint32_t heard = 0;
    for (const bus_entry *entry = r->at; entry < end; entry++) {
        if (IKVI_UNLIKELY(entry->subscription == 0) ||
            (wide && !has_family(x, entry->low)))
            continue;
        if (IKVI_UNLIKELY((entry->visits & visits) == 0)) {
            ikvi_bus_pass_muted(b, x, delivery, entry, visits);
            continue;
        }
        if (counting)
            count_candidate(b, ikvi_bus_place_of(b, entry->subscription),
                            IKV_WHY_NONE);
        delivery->subscription.bits = entry->subscription;
        heard++;
        verdict |=
            ikvi_bus_invoke(delivery, entry->handler, entry->user, event);
        if (IKVI_UNLIKELY(verdict & IKV_STOP_ALL))
            break;
    }
    x->heard += heard;
    x->verdict |= verdict;
    return (verdict & IKV_STOP_ALL) == 0;
}

/* To its end; false after a stop of all. */
static bool call_rest(ikv_bus *b, dispatch *x, bus_rest *r, uint32_t visits,
                      ikv_delivery *delivery)
{
    if (!r->gated && b->clock == NULL && !ikvi_bus_watches(b, WATCH_HANDLERS))
        return call_plain_rest(b, x, r, visits, delivery);
    for (next_in_rest(x, r); r->at < r->end; next_in_rest(x, r))
        if (!call_next(b, x, r, visits, delivery))
            return false;
    return true;
}

/* Whether all that is left of the first comes before all of the other. */
static bool is_before(const ikv_bus *b, const bus_rest *first,
                      const bus_rest *other)
{
    const bus_entry *last = first->end;
    while (last > first->at && last[-1].subscription == 0)
        last--;
    return first->at == last || other->at == other->end ||
           ikvi_bus_earlier(order_of_entry(b, last - 1),
                            order_of_entry(b, other->at));
}

uint8_t ikvi_bus_compare_runs(const ikv_bus *b, uint32_t own, uint32_t wide)
{
    bus_rest some = ikvi_bus_rest_of(b, own), all = ikvi_bus_rest_of(b, wide);
    while (some.at < some.end && some.at->subscription == 0)
        some.at++;
    while (all.at < all.end && all.at->subscription == 0)
        all.at++;
    if (is_before(b, &some, &all))
        return BESIDE_AFTER;
    return is_before(b, &all, &some) ? BESIDE_BEFORE : BESIDE_MIXED;
}

IKVI_APART void ikvi_bus_call_two(ikv_bus *b, dispatch *x, bus_rest *own,
                                  bus_rest *wide, uint32_t visits)
{
    ikv_delivery *delivery = x->using;
    next_in_rest(x, own);
    next_in_rest(x, wide);
    /* Mostly one of them is wholly before the other. */
    bus_rest *first = is_before(b, wide, own) ? wide : own;
    bus_rest *other = first == own ? wide : own;
    bool goes_on = true;
    while (goes_on && own->at < own->end && wide->at < wide->end &&
           !is_before(b, first, other)) {
        bus_rest *from = ikvi_bus_earlier(order_of_entry(b, own->at),
                                          order_of_entry(b, wide->at))
                             ? own
                             : wide;
        goes_on = call_next(b, x, from, visits, delivery);
        next_in_rest(x, own);
        next_in_rest(x, wide);
    }
    if (goes_on && call_rest(b, x, first, visits, delivery))
        call_rest(b, x, other, visits, delivery);
}

void ikvi_bus_find_local(const ikv_bus *b, const ikv_event *event,
                         ikv_delivery *delivery)
{
    /* Without a scene all three spaces are one. */
    float layer[2] = {event->pointer.x, event->pointer.y};
    float local[2] = {event->pointer.x, event->pointer.y};
    if (b->callbacks.to_local != NULL)
        b->callbacks.to_local(b->callbacks.user, delivery->current, event->view,
                              event->pointer.x, event->pointer.y, layer, local);
    delivery->layer_x = layer[0];
    delivery->layer_y = layer[1];
    delivery->local_x = local[0];
    delivery->local_y = local[1];
}

/* Whether somebody of a run may be called in these visits. */
static bool takes_part(const ikv_bus *b, const dispatch *x, uint32_t run,
                       uint32_t visits)
{
    if (run == IKVI_NONE || (ikvi_bus_run(b, run)->visits & visits) == 0)
        return false;
    const bus_run *r = ikvi_bus_run(b, run);
    return r->kind != 0 || has_family(x, r->families);
}

/* PATH3, D4: those of one target and phase, by rank and age; a stop lets them
 * finish. Calls what listens at the target in these visits; false after a
 * stop. */
bool ikvi_bus_visit(ikv_bus *b, dispatch *x, ikv_target target, uint32_t visits,
                    uint16_t phase)
{
    ikv_kind kind = x->event->kind;
    uint32_t place = ikvi_bus_visited(b, target);
    if (place == IKVI_NONE)
        return true;
    /* What hangs on tags and bodies is heard at the target itself, not
     * above. */
    bool tagged = (visits & (VISIT_FIRST | VISIT_OWN)) != 0 &&
                  ikvi_bus_has_seen(b, TAGGED_PLACE, kind);
    bool pending = ikvi_bus_pending_of(b, kind);
    if (!tagged && !pending && !ikvi_bus_has_seen(b, place, kind))
        return true;
    uint32_t exact = ikvi_bus_find_run(b, place, kind);
    uint32_t wide = ikvi_bus_find_run(b, place, 0);
    bool few = !tagged && !pending;
    bool watched = ikvi_bus_watches(b, WATCH_HANDLERS);
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
        ikvi_bus_find_local(b, x->event, &x->delivery);
    /* Nothing to be merged, nobody to be told: the run is walked as it is. */
    if (few && wide == IKVI_NONE && !b->counting && !watched) {
        const bus_run *run = ikvi_bus_run(b, exact);
        const bus_entry *first = ikvi_bus_entry(b, run->first);
        x->verdict |=
            run->visits & VISIT_GATED
                ? call_gated_run(b, x, first, run->count, visits, &x->delivery)
                : call_run(x, first, run->count, visits, &x->delivery);
    } else if (few) {
        bus_rest own = ikvi_bus_rest_of(b, exact);
        bus_rest all = ikvi_bus_rest_of(b, wide);
        ikvi_bus_call_two(b, x, &own, &all, visits);
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
