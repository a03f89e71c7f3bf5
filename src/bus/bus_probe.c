/* bus_probe.c - why a subscription does not hear an event: all that keeps it
 * from it, by the tests that a delivery makes, and without changing anything.
 */
#include "bus_internal.h"

#include "../event/findings.h"

static ikv_value whole(uint64_t number)
{
    int64_t most = number < (uint64_t)INT64_MAX ? (int64_t)number : INT64_MAX;
    return (ikv_value){IKV_VALUE_INTEGER, {.integer = most}};
}

/* ------------------------------------------------------------- the way -- */

/* Whether it goes to its target alone: known of those that are under way. */
static bool is_own_visit(const ikv_bus *b, const ikv_delivery *delivery)
{
    for (uint32_t i = 0; i < b->depth; i++)
        if (ikvi_bus_dispatch(b, i)->using == delivery)
            return ikvi_bus_dispatch(b, i)->own_visit;
    return (delivery->flags & IKV_PASSED) != 0;
}

/* Which visits a delivery makes at a place of its path: PATH1, PATH2. */
static uint32_t visits_at(const ikv_bus *b, const ikv_delivery *delivery,
                          uint32_t at, bool bubbles)
{
    uint32_t last = delivery->path_length - 1;
    if (at == last)
        return VISIT_FIRST | VISIT_OWN;
    if (is_own_visit(b, delivery))
        return 0;
    uint32_t visits = VISIT_CAPTURE | (bubbles ? VISIT_BUBBLE : 0);
    bool once =
        at == 0 && !bubbles && delivery->path[0].bits == ikvi_bus_root().bits;
    return visits | (once ? VISIT_ONCE : 0);
}

/* How near one of its targets comes to hearing an event. */
typedef enum bus_reach {
    REACH_KIND,  /* no link of that kind */
    REACH_PATH,  /* but none on the path */
    REACH_PHASE, /* on the path, in another phase */
    REACH_GONE,  /* in its phase, and gone */
    REACH_ALL
} bus_reach;

static bool is_alive(const ikv_bus *b, ikv_target target)
{
    return ikvi_bus_place(b, target) != IKVI_NONE &&
           (b->callbacks.alive == NULL || target.bits == ikvi_bus_root().bits ||
            b->callbacks.alive(b->callbacks.user, target));
}

/* The best of all places of the path at which that link's target stands; at
 * which of them goes to *at. */
static bus_reach reach_of_link(const ikv_bus *b, const bus_subscription *s,
                               const bus_link *link,
                               const ikv_delivery *delivery, bool bubbles,
                               uint32_t *at)
{
    uint32_t last = delivery->path_length - 1;
    bus_reach best = REACH_PATH;
    for (uint32_t i = 0; i <= last; i++) {
        uint32_t place = ikvi_bus_place(b, delivery->path[i]);
        uint32_t visits = visits_at(b, delivery, i, bubbles);
        bus_reach here = REACH_PHASE;
        /* What hangs on tags and bodies is heard at the target itself; when that
         * has gone on the way, its gate says that it bears none. */
        bool tagged = link->target == TAGGED_PLACE;
        if (tagged ? i != last : place == IKVI_NONE || link->target != place)
            continue;
        if (s->visits & visits)
            here = tagged || is_alive(b, delivery->path[i]) ? REACH_ALL
                                                            : REACH_GONE;
        if (here > best) {
            best = here;
            *at = i;
        }
    }
    return best;
}

static bus_reach reach_of(const ikv_bus *b, const bus_subscription *s,
                          const ikv_event *event, const ikv_delivery *delivery,
                          uint32_t *at)
{
    const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, event->kind);
    bus_reach best = REACH_KIND;
    for (uint32_t i = s->first_link; info != NULL && i != IKVI_NONE;
         i = ikvi_bus_link(b, i)->next) {
        const bus_link *link = ikvi_bus_link(b, i);
        bool heard = link->kind == event->kind ||
                     (link->kind == 0 && (s->families >> info->family & 1));
        uint32_t place = 0;
        bus_reach here =
            heard ? reach_of_link(b, s, link, delivery, info->bubbles, &place)
                  : REACH_KIND;
        if (here > best) {
            best = here;
            *at = place;
        }
    }
    return best;
}

static void probe_way(const ikv_bus *b, const bus_subscription *s,
                      const ikv_event *event, const ikv_delivery *delivery,
                      uint32_t *at, ikvi_findings *f)
{
    static const uint16_t codes[] = {
        [REACH_KIND] = IKV_WHY_KIND,
        [REACH_PATH] = IKV_WHY_PATH,
        [REACH_PHASE] = IKV_WHY_PHASE,
        [REACH_GONE] = IKV_WHY_GONE,
    };
    bus_reach how = reach_of(b, s, event, delivery, at);
    if (how != REACH_ALL)
        ikvi_find(f,
                  (ikv_obstacle){
                      .code = codes[how],
                      .by = delivery->path[how >= REACH_PHASE
                                               ? *at
                                               : delivery->path_length - 1]});
}

/* ------------------------------------------------------------- its gate -- */

static void probe_gate(const ikv_bus *b, const bus_gate *gate,
                       const ikv_event *event, const ikv_delivery *delivery,
                       ikvi_findings *f)
{
    if ((gate->tags != 0 || gate->body.bits != 0) &&
        !ikvi_bus_in_place(b, gate, event))
        ikvi_find(
            f, (ikv_obstacle){.code = IKV_WHY_PLACE,
                              .by = event->target,
                              .found = whole(ikvi_bus_tags(b, event->target)),
                              .wanted = whole(gate->tags)});
    f->count = ikvi_conditions_probe(b, gate, event, delivery, f->to, f->room,
                                     f->count);
    if (gate->after > 0)
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_AFTER,
                                    .found = whole(gate->after)});
    if (ikvi_bus_had_its_turn(b, gate))
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_AT_MOST,
                                    .name = gate->at_most == IKV_PER_STEP
                                                ? "step"
                                                : "frame",
                                    .found = whole(gate->last_turn - 1)});
    if (ikvi_bus_is_too_soon(gate, event)) {
        uint64_t moment = event->time_ns + 1;
        uint64_t since = moment > gate->last_ns ? moment - gate->last_ns : 0;
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_GAP,
                                    .found = whole(since),
                                    .wanted = whole(gate->gap_ns)});
    }
}

uint32_t ikv_bus_probe(const ikv_bus *bus, ikv_subscription subscription,
                       const ikv_event *event, const ikv_delivery *delivery,
                       ikv_obstacle *to, uint32_t room)
{
    ikvi_findings f = ikvi_findings_begin(to, room);
    if (bus == NULL || event == NULL || delivery == NULL ||
        delivery->path == NULL || delivery->path_length == 0)
        return 0;
    uint32_t place = ikvi_bus_find_subscription(bus, subscription.bits);
    if (place == IKVI_NO_SLOT) {
        ikvi_find(&f, (ikv_obstacle){.code = IKV_WHY_ENDED});
        return f.count;
    }
    const bus_subscription *s = ikvi_bus_subscription(bus, place);
    const bus_gate *gate = ikvi_bus_gate_of(bus, place);
    uint32_t at = delivery->path_length - 1;
    probe_way(bus, s, event, delivery, &at, &f);
    if (s->muted)
        ikvi_find(&f, (ikv_obstacle){.code = IKV_WHY_MUTED});
    if (gate == NULL)
        return f.count;
    /* As its own visit would find it. */
    ikv_delivery there = *delivery;
    const ikv_kind_info *info = ikv_catalogue_info(bus->catalogue, event->kind);
    there.current = delivery->path[at];
    if (info != NULL && info->positioned)
        ikvi_bus_find_local(bus, event, &there);
    probe_gate(bus, gate, event, &there, &f);
    return f.count;
}

/* ------------------------------------------------------- what it listens to -- */

/* Whether a link before this one has the same target, or the same kind. */
static bool is_repeated(const ikv_bus *b, const bus_subscription *s,
                        uint32_t link, bool by_kind)
{
    const bus_link *l = ikvi_bus_link(b, link);
    for (uint32_t i = s->first_link; i != link; i = ikvi_bus_link(b, i)->next)
        if (by_kind ? ikvi_bus_link(b, i)->kind == l->kind
                    : ikvi_bus_link(b, i)->target == l->target)
            return true;
    return false;
}

/* The subscription, if it has not ended. */
static const bus_subscription *subscription_of(const ikv_bus *b,
                                               ikv_subscription handle)
{
    uint32_t place =
        b != NULL ? ikvi_bus_find_subscription(b, handle.bits) : IKVI_NO_SLOT;
    return place != IKVI_NO_SLOT ? ikvi_bus_subscription(b, place) : NULL;
}

uint32_t ikv_bus_subscription_targets(const ikv_bus *bus,
                                      ikv_subscription subscription,
                                      ikv_target *to, uint32_t room)
{
    const bus_subscription *s = subscription_of(bus, subscription);
    uint32_t count = 0;
    for (uint32_t i = s != NULL ? s->first_link : IKVI_NONE; i != IKVI_NONE;
         i = ikvi_bus_link(bus, i)->next) {
        uint32_t place = ikvi_bus_link(bus, i)->target;
        if (place == TAGGED_PLACE || is_repeated(bus, s, i, false))
            continue;
        if (to != NULL && count < room)
            to[count] = (ikv_target){ikvi_bus_target_at(bus, place)};
        count++;
    }
    return count;
}

uint32_t ikv_bus_subscription_kinds(const ikv_bus *bus,
                                    ikv_subscription subscription, ikv_kind *to,
                                    uint32_t room)
{
    const bus_subscription *s = subscription_of(bus, subscription);
    uint32_t count = 0;
    for (uint32_t i = s != NULL ? s->first_link : IKVI_NONE; i != IKVI_NONE;
         i = ikvi_bus_link(bus, i)->next) {
        ikv_kind kind = ikvi_bus_link(bus, i)->kind;
        if (kind == IKV_KIND_NONE || is_repeated(bus, s, i, true))
            continue;
        if (to != NULL && count < room)
            to[count] = kind;
        count++;
    }
    return count;
}
