/* bus_run.c - runs in a pool of two halves, the links between their entries and
 * subscriptions, and what waits to be put in.
 *
 * Entries are taken from one half in order; when it is used up, all runs are
 * copied, packed, into the other one. Room for every entry is in each half, so
 * that subscribing never fails but for the stated capacities. In between, the
 * other half is where what came late is sorted.
 *
 * What is subscribed far from its place in a long run is put at the run's end,
 * and sorted in before the next delivery, or whatever else holds the runs: n in any
 * order cost n log n together.
 */
#include "bus_internal.h"

void ikvi_bus_runs_open(ikv_bus *b)
{
    /* As many runs as entries: a run is made for an entry, and freed with its
     * last. */
    for (uint32_t i = 0; i < b->entry_capacity; i++) {
        uint32_t next = i + 1 < b->entry_capacity ? i + 1 : IKVI_NONE;
        ikvi_bus_link(b, i)->next = next;
        ikvi_bus_run(b, i)->next = next;
    }
    b->s.free_link = b->s.free_run = 0;
    b->dirty_run = IKVI_NONE;
    for (uint32_t i = 0; i < b->kind_limit; i++)
        *ikvi_bus_root_run(b, (ikv_kind)i) = NO_ROOT_RUN;
}

/* ----------------------------------------------------------------- runs -- */

/* The root's runs are also found by kind, and a wide one there is a detour:
 * each delivery would have to look at it. */
static uint32_t make_run(ikv_bus *b, uint32_t target, ikv_kind kind)
{
    IKVI_CHECK(ikvi_bus_find_run(b, target, kind) == IKVI_NONE); /* bus-4 */
    uint32_t at = b->s.free_run;
    bus_run *run = ikvi_bus_run(b, at);
    bus_target *owner = ikvi_bus_target(b, target);
    b->s.free_run = run->next;
    /* Without room: the first entry makes it grow. */
    *run = (bus_run){.target = target,
                     .next = owner->first_run,
                     .next_dirty = IKVI_NONE,
                     .kind = kind,
                     .used = true};
    owner->first_run = at;
    owner->kinds_seen |= (uint64_t)1 << kind % 64;
    b->kinds_ever |= (uint64_t)1 << kind % 64;
    if (target == 0) {
        const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, kind);
        uint32_t *where = ikvi_bus_root_run(b, kind);
        *where = at * (uint32_t)sizeof *run;
        /* So until something with a gate or a capturing visit is put in. */
        if (info != NULL && !info->positioned)
            *where |= STRAIGHT;
        b->s.detours |= kind == 0 ? DETOUR_WIDE : 0;
    }
    return at;
}

static void free_run(ikv_bus *b, uint32_t at)
{
    bus_run *run = ikvi_bus_run(b, at);
    IKVI_CHECK(run->used && run->dead == run->count);
    /* A target that is gone has taken its chain apart already. */
    if (run->target != IKVI_NONE) {
        uint32_t *link = &ikvi_bus_target(b, run->target)->first_run;
        while (*link != at)
            link = &ikvi_bus_run(b, *link)->next;
        *link = run->next;
        if (run->target == 0) {
            *ikvi_bus_root_run(b, run->kind) = NO_ROOT_RUN;
            b->s.detours &= run->kind == 0 ? ~DETOUR_WIDE : UINT32_MAX;
        }
    }
    *run = (bus_run){.next = b->s.free_run};
    b->s.free_run = at;
}

/* Some late ones are a detour: no delivery begins before they are sorted in. */
static void set_late(ikv_bus *b, bus_run *run, uint32_t late)
{
    b->s.detours -= run->late > 0;
    b->s.detours += late > 0;
    run->late = (uint16_t)late;
}

static void place_entry(ikv_bus *b, uint32_t run, uint32_t position,
                        bus_entry entry, uint32_t link)
{
    IKVI_CHECK(position < ikvi_bus_run(b, run)->room); /* bus-1 */
    uint32_t at = ikvi_bus_run(b, run)->first + position;
    *ikvi_bus_entry(b, at) = entry;
    ikvi_bus_words(b, b->pool_links)[at] = link;
    if (link != IKVI_NONE) {
        ikvi_bus_link(b, link)->run = run;
        ikvi_bus_link(b, link)->position = position;
    }
}

/* Moves a run's live entries to `first`, which is at or before where they are,
 * or in the other half. */
static void pack_run(ikv_bus *b, uint32_t at, uint32_t first, uint32_t room)
{
    bus_run *run = ikvi_bus_run(b, at);
    uint32_t from = run->first, count = run->count, kept = 0;
    uint32_t late = run->late, first_late = count - late;
    run->first = first;
    run->room = room;
    /* What those that have ended took part in is forgotten, too. */
    run->visits = run->families = 0;
    for (uint32_t i = 0; i < count; i++) {
        uint32_t link = ikvi_bus_words(b, b->pool_links)[from + i];
        if (link == IKVI_NONE) {
            late -= i >= first_late;
            continue;
        }
        const bus_subscription *s =
            ikvi_bus_subscription(b, ikvi_bus_link(b, link)->subscription);
        run->visits |= s->visits;
        run->families |= s->families;
        /* In one half `kept` never passes `i`: what is read next is not
         * overwritten. */
        place_entry(b, at, kept++, *ikvi_bus_entry(b, from + i), link);
    }
    IKVI_CHECK(kept + run->dead == count);
    run->count = kept;
    run->dead = 0;
    set_late(b, run, late);
}

/* Copies all runs into the other half, the growing one last, with all the
 * room that it wants if there is so much. */
static void change_halves(ikv_bus *b, uint32_t growing, uint32_t wanted)
{
    uint32_t to = b->s.pool_start == 0 ? b->pool_half : 0;
    uint32_t end = to + b->pool_half;
    b->s.pool_start = b->s.pool_used = to;
    /* The other half is empty: all that is in use is in this one. */
    for (uint32_t i = 0; i < b->entry_capacity; i++) {
        bus_run *run = ikvi_bus_run(b, i);
        if (!run->used || i == growing)
            continue;
        uint32_t live = run->count - run->dead;
        pack_run(b, i, b->s.pool_used, live);
        b->s.pool_used += live;
    }
    IKVI_CHECK(b->s.pool_used <= end);
    uint32_t room = end - b->s.pool_used;
    room = wanted < room ? wanted : room;
    pack_run(b, growing, b->s.pool_used, room);
    b->s.pool_used += room;
    IKVI_CHECK(ikvi_bus_run(b, growing)->count < room);
}

static void grow_run(ikv_bus *b, uint32_t at)
{
    bus_run *run = ikvi_bus_run(b, at);
    uint32_t wanted = run->count > 0 ? 2 * run->count : 1;
    /* Places of what has ended are room enough, for one. */
    if (run->dead > 0) {
        pack_run(b, at, run->first, run->room);
    } else if (wanted <= b->s.pool_start + b->pool_half - b->s.pool_used) {
        /* The old place stays a hole until the halves change. */
        uint32_t first = b->s.pool_used;
        b->s.pool_used += wanted;
        pack_run(b, at, first, wanted);
    } else {
        change_halves(b, at, wanted);
    }
}

void ikvi_bus_mark_dirty(ikv_bus *b, uint32_t at)
{
    bus_run *run = ikvi_bus_run(b, at);
    if (!run->dirty) {
        run->dirty = true;
        run->next_dirty = b->dirty_run;
        b->dirty_run = at;
        b->untidy = true;
    }
}

/* ---------------------------------------------------------------- links -- */

static bool link_comes_before(const ikv_bus *b, const bus_subscription *s,
                              uint32_t other_link)
{
    const bus_subscription *other =
        ikvi_bus_subscription(b, ikvi_bus_link(b, other_link)->subscription);
    return ikvi_bus_earlier(ikvi_bus_order(s), ikvi_bus_order(other));
}

/* How many entries what is subscribed may pass on its way to its place at once;
 * from further off it is sorted in later. */
enum {
    NEAR_ENTRIES = 8
};

/* What a link is sorted by, side by side with it: in the pool's other half. */
typedef struct link_key {
    uint64_t birth;
    int32_t rank;
    uint32_t link;
} link_key;
_Static_assert(sizeof(link_key) <= sizeof(bus_entry),
               "a half has room for a key of each entry");

static bool is_key_before(const link_key *a, const link_key *b)
{
    return ikvi_bus_earlier((bus_order){a->rank, a->birth},
                            (bus_order){b->rank, b->birth});
}

/* Lets the key at the top of a heap sink to its place; the greatest is the top. */
static void sink_key(link_key *keys, uint32_t top, uint32_t count)
{
    link_key key = keys[top];
    uint32_t child;
    while ((child = 2 * top + 1) < count) {
        if (child + 1 < count && is_key_before(&keys[child], &keys[child + 1]))
            child++;
        if (!is_key_before(&key, &keys[child]))
            break;
        keys[top] = keys[child];
        top = child;
    }
    keys[top] = key;
}

static void sort_keys(link_key *keys, uint32_t count)
{
    for (uint32_t i = count / 2; i-- > 0;)
        sink_key(keys, i, count);
    for (uint32_t end = count; end > 1;) {
        link_key least = keys[--end];
        keys[end] = keys[0];
        keys[0] = least;
        sink_key(keys, 0, end);
    }
}

/* The links' keys, sorted, without those that have ended: in the half of the
 * pool that is not in use, until the halves change. */
static link_key *sorted_keys(const ikv_bus *b, const uint32_t *links,
                             uint32_t count, uint32_t *live)
{
    uint32_t other = b->s.pool_start == 0 ? b->pool_half : 0;
    link_key *keys = (link_key *)(void *)ikvi_bus_entry(b, other);
    IKVI_CHECK(count <= b->pool_half);
    *live = 0;
    for (uint32_t i = 0; i < count; i++) {
        if (links[i] == IKVI_NONE)
            continue;
        const bus_subscription *s =
            ikvi_bus_subscription(b, ikvi_bus_link(b, links[i])->subscription);
        keys[(*live)++] = (link_key){s->birth, s->rank, links[i]};
    }
    sort_keys(keys, *live);
    return keys;
}

static bool key_comes_before(const ikv_bus *b, const link_key *key,
                             uint32_t link)
{
    const bus_subscription *s =
        ikvi_bus_subscription(b, ikvi_bus_link(b, link)->subscription);
    return ikvi_bus_earlier((bus_order){key->rank, key->birth},
                            ikvi_bus_order(s));
}

static bus_entry make_entry(const ikv_bus *b, const bus_link *link)
{
    const bus_subscription *s = ikvi_bus_subscription(b, link->subscription);
    const bus_gate *gate = ikvi_bus_gate_of(b, link->subscription);
    bus_entry entry = {.handler = s->handler,
                       .user = s->user,
                       .visits = s->muted ? 0 : s->visits,
                       .subscription = ikvi_slots_bits(&b->s.subscription_slots,
                                                       b, link->subscription),
                       .low = gate != NULL ? gate->test.low : UINT32_MAX,
                       .span = gate != NULL ? gate->test.span : UINT32_MAX};
    if (link->kind == 0)
        entry.low = s->families;
    return entry;
}

/* Something is put into a run that others may be called beside: how they stand to
 * each other is to be looked up anew. */
static void forget_order(ikv_bus *b, bus_run *run)
{
    run->beside = BESIDE_UNKNOWN;
    if (run->target != TAGGED_PLACE &&
        (run->target != ROOT_PLACE || run->kind != 0))
        return;
    for (uint32_t kind = 0; kind < b->kind_limit; kind++) {
        uint32_t at = ikvi_bus_find_run(b, ROOT_PLACE, (ikv_kind)kind);
        if (at != IKVI_NONE)
            ikvi_bus_run(b, at)->beside = BESIDE_UNKNOWN;
    }
}

/* Sorts a run's late entries in, from the end: who is late and who was there
 * moves once. */
static void settle_run(ikv_bus *b, uint32_t at)
{
    bus_run *run = ikvi_bus_run(b, at);
    uint32_t sorted = run->count - run->late, live;
    const uint32_t *links = ikvi_bus_words(b, b->pool_links) + run->first;
    const link_key *keys = sorted_keys(b, links + sorted, run->late, &live);
    /* Late ones that have ended leave no hole. */
    run->dead -= run->late - live;
    run->count -= run->late - live;
    set_late(b, run, 0);
    for (uint32_t to = run->count; live > 0;) {
        uint32_t other = sorted > 0 ? links[sorted - 1] : IKVI_NONE;
        /* Dead ones are passed, since they have no rank. */
        bool passes =
            sorted > 0 &&
            (other == IKVI_NONE || key_comes_before(b, &keys[live - 1], other));
        IKVI_CHECK(to > sorted);
        to--;
        if (passes) {
            sorted--;
            place_entry(b, at, to, *ikvi_bus_entry(b, run->first + sorted),
                        other);
        } else {
            uint32_t link = keys[--live].link;
            place_entry(b, at, to, make_entry(b, ikvi_bus_link(b, link)), link);
        }
    }
}

/* Where in a run a subscription belongs; its end if that is too far from there.
 * Births grow, so that with equal ranks it is the end. */
static uint32_t find_place(const ikv_bus *b, const bus_run *run,
                           const bus_subscription *s, bool *late)
{
    const uint32_t *links = ikvi_bus_words(b, b->pool_links) + run->first;
    uint32_t place = run->count;
    *late = run->late > 0;
    while (!*late && place > 0) {
        /* Dead ones are passed, since they have no rank. */
        uint32_t before = links[place - 1];
        if (before != IKVI_NONE && !link_comes_before(b, s, before))
            break;
        place--;
        *late = run->count - place > NEAR_ENTRIES;
    }
    return *late ? run->count : place;
}

/* Puts a link's entry into its run. Only while it is not held. */
static void insert_entry(ikv_bus *b, uint32_t link_at)
{
    bus_link *link = ikvi_bus_link(b, link_at);
    bus_subscription *s = ikvi_bus_subscription(b, link->subscription);
    uint32_t at = ikvi_bus_find_run(b, link->target, link->kind);
    if (at == IKVI_NONE)
        at = make_run(b, link->target, link->kind);
    bus_run *run = ikvi_bus_run(b, at);
    bool late;
    if (run->late == LATE_LIMIT)
        settle_run(b, at);
    if (run->count == run->room)
        grow_run(b, at);
    IKVI_CHECK(!ikvi_bus_is_held(b) && run->count < run->room);
    uint32_t place = find_place(b, run, s, &late);
    for (uint32_t i = run->count++; i > place; i--)
        place_entry(b, at, i, *ikvi_bus_entry(b, run->first + i - 1),
                    ikvi_bus_words(b, b->pool_links)[run->first + i - 1]);
    if (late) {
        set_late(b, run, run->late + 1u);
        ikvi_bus_mark_dirty(b, at);
    }
    /* Also of a muted one: unmuting must not have to look for its runs. */
    run->visits |= s->visits;
    run->families |= s->families;
    if (run->target == ROOT_PLACE && (s->visits & (VISIT_FIRST | VISIT_GATED)))
        *ikvi_bus_root_run(b, run->kind) &= ~(uint32_t)STRAIGHT;
    place_entry(b, at, place, make_entry(b, link), link_at);
    forget_order(b, run);
}

/* PATH6, D5: what is subscribed during a dispatch waits here. */
static void insert_pending(ikv_bus *b, uint32_t link_at)
{
    uint32_t *pending = ikvi_bus_words(b, b->pending);
    ikv_kind kind = ikvi_bus_link(b, link_at)->kind;
    IKVI_CHECK(ikvi_bus_is_held(b) && b->pending_count < b->entry_capacity);
    b->pending_kinds |= kind == 0 ? UINT64_MAX : (uint64_t)1 << kind % 64;
    /* One for each, so that delivering asks only whether there is any
     * reason. */
    b->s.detours++;
    /* Behind the sorted ones, until a delivery begins that may hear it. */
    pending[b->pending_count++] = link_at;
    b->untidy = true;
}

/* Sorts what waits and came since the last delivery began. */
void ikvi_bus_settle_pending(ikv_bus *b)
{
    uint32_t *pending = ikvi_bus_words(b, b->pending);
    uint32_t sorted = b->pending_sorted, to = b->pending_count, live;
    const link_key *keys = sorted_keys(b, pending + sorted, to - sorted, &live);
    b->pending_sorted = to;
    while (live > 0)
        if (sorted > 0 &&
            key_comes_before(b, &keys[live - 1], pending[sorted - 1]))
            pending[--to] = pending[--sorted];
        else
            pending[--to] = keys[--live].link;
}

static void remove_pending(ikv_bus *b, uint32_t link_at)
{
    uint32_t *pending = ikvi_bus_words(b, b->pending), kept = 0;
    for (uint32_t i = 0; i < b->pending_count; i++)
        if (pending[i] != link_at)
            pending[kept++] = pending[i];
        else if (i < b->pending_sorted)
            b->pending_sorted--;
    IKVI_CHECK(kept + 1 == b->pending_count);
    b->s.detours -= b->pending_count - kept;
    b->pending_count = kept;
}

static void remove_entry(ikv_bus *b, const bus_link *link)
{
    bus_run *run = ikvi_bus_run(b, link->run);
    bus_entry *entry = ikvi_bus_entry(b, run->first + link->position);
    IKVI_CHECK(run->dead < run->count && link->position < run->count);
    /* Deliveries that walk this run pass it by, wherever they are. */
    entry->visits = 0;
    entry->subscription = 0;
    ikvi_bus_words(b, b->pool_links)[run->first + link->position] = IKVI_NONE;
    run->dead++;
    /* Packing once half of it is dead costs each entry that ends a constant. */
    if (run->dead * 2 > run->count)
        ikvi_bus_mark_dirty(b, link->run);
}

/* While it is held runs don't move, so a new entry waits in `pending`. */
void ikvi_bus_add_link(ikv_bus *b, uint32_t subscription, uint32_t target,
                       ikv_kind kind)
{
    bus_subscription *s = ikvi_bus_subscription(b, subscription);
    /* There is one: subscribing has asked for so many. */
    uint32_t at = b->s.free_link;
    bus_link *link = ikvi_bus_link(b, at);
    b->s.free_link = link->next;
    if (++b->s.links_used > b->s.links_high)
        b->s.links_high = b->s.links_used;
    *link = (bus_link){.subscription = subscription,
                       .run = IKVI_NONE,
                       .next = s->first_link,
                       .target = target,
                       .kind = kind};
    s->first_link = at;
    if (!ikvi_bus_is_held(b))
        insert_entry(b, at);
    else
        insert_pending(b, at);
}

/* Takes the link out of its run or of the pending ones, and frees it. The
 * caller has taken it out of its subscription's list. */
void ikvi_bus_free_link(ikv_bus *b, uint32_t at)
{
    bus_link *link = ikvi_bus_link(b, at);
    if (link->run == IKVI_NONE)
        remove_pending(b, at);
    else
        remove_entry(b, link);
    IKVI_CHECK(b->s.links_used > 0);
    *link = (bus_link){.next = b->s.free_link};
    b->s.free_link = at;
    b->s.links_used--;
}

/* While it is not held: runs are packed, what waited is put in, and what came
 * late is sorted in. */
void ikvi_bus_tidy(ikv_bus *b)
{
    uint32_t *pending = ikvi_bus_words(b, b->pending);
    IKVI_CHECK(!ikvi_bus_is_held(b));
    for (uint32_t i = 0; i < b->pending_count; i++)
        insert_entry(b, pending[i]);
    b->s.detours -= b->pending_count;
    b->pending_count = b->pending_sorted = 0;
    b->pending_kinds = 0;
    while (b->dirty_run != IKVI_NONE) {
        uint32_t at = b->dirty_run;
        bus_run *run = ikvi_bus_run(b, at);
        b->dirty_run = run->next_dirty;
        run->dirty = false;
        if (run->late > 0)
            settle_run(b, at);
        if (run->dead == run->count)
            free_run(b, at);
        else if (run->dead > 0)
            pack_run(b, at, run->first, run->room);
    }
}

/* ------------------------------------------------------------ validator -- */

static const char *validate_run(const ikv_bus *b, uint32_t at)
{
    const bus_run *run = ikvi_bus_run(b, at);
    uint32_t dead = 0;
    const bus_subscription *last = NULL;
    if (ikvi_bus_is_held(b) && run->late > 0)
        return "bus-2";
    if (run->count > run->room ||
        run->first + run->room > b->s.pool_start + b->pool_half ||
        (run->room > 0 && run->first < b->s.pool_start))
        return "bus-1";
    for (uint32_t i = 0; i < run->count; i++) {
        const bus_entry *e = ikvi_bus_entry(b, run->first + i);
        uint32_t link = ikvi_bus_words(b, b->pool_links)[run->first + i];
        if (link == IKVI_NONE) {
            dead += e->subscription == 0 && e->visits == 0;
            continue;
        }
        bool late = i >= run->count - run->late;
        if (last != NULL && !late && !link_comes_before(b, last, link))
            return "bus-2";
        last = ikvi_bus_subscription(b, ikvi_bus_link(b, link)->subscription);
        const bus_link *l = ikvi_bus_link(b, link);
        if (l->run != at || l->position != i || l->kind != run->kind ||
            ikvi_slots_bits(&b->s.subscription_slots, b, l->subscription) !=
                e->subscription)
            return "bus-3";
    }
    return dead == run->dead ? NULL : "bus-1";
}

static const char *validate_chains(const ikv_bus *b)
{
    uint32_t chained = 0, used = 0;
    for (uint32_t i = 0; i < b->s.target_slots.capacity; i++)
        for (uint32_t at = ikvi_bus_target(b, i)->first_run; at != IKVI_NONE;
             at = ikvi_bus_run(b, at)->next) {
            const bus_run *run = ikvi_bus_run(b, at);
            if (++chained > b->entry_capacity || run->target != i ||
                ikvi_bus_find_run(b, i, run->kind) != at)
                return "bus-4";
        }
    for (uint32_t i = 0; i < b->entry_capacity; i++)
        used += ikvi_bus_run(b, i)->used;
    return chained == used ? NULL : "bus-4";
}

const char *ikvi_bus_runs_validate(const ikv_bus *b)
{
    for (uint32_t i = 0; i < b->entry_capacity; i++) {
        const char *broken =
            ikvi_bus_run(b, i)->used ? validate_run(b, i) : NULL;
        if (broken != NULL)
            return broken;
    }
    if ((!ikvi_bus_is_held(b) && b->pending_count != 0) ||
        b->pending_sorted > b->pending_count)
        return "bus-5";
    for (uint32_t o = 0; o < b->s.owner_slots.capacity; o++) {
        for (uint32_t at = ikvi_bus_owner(b, o)->first; at != IKVI_NONE;
             at = ikvi_bus_subscription(b, at)->owner_next)
            if (ikvi_bus_subscription(b, at)->owner != o)
                return "bus-6";
    }
    return validate_chains(b);
}
