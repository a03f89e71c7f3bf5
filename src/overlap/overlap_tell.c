/* overlap_tell.c - what is told of contacts: who has come into contact, still is,
 * or has left. In the order of their places, whatever the order in which touches
 * were found.
 */
#include "overlap_internal.h"

/* False if who it is for is gone. */
static bool tell_side(ikv_overlaps *o, ikv_kind kind, uint32_t index,
                      uint32_t side, bool mirror, uint64_t time_ns)
{
    const overlap_contact *c = contact_at(o, index);
    ikv_event event = {.kind = kind, .time_ns = time_ns};
    uint32_t pieces = c->pieces[side];
    event.target.bits = c->party[side];
    if (!ikvi_party_alive(o, c, side))
        return false;
    /* Counted as delivered, and no event is made. */
    if (ikvi_bus_nobody_hears_at(o->bus, kind, event.target))
        return true;
    event.source.bits = c->party[!side];
    event.overlap.x = c->at[0];
    event.overlap.y = c->at[1];
    event.overlap.z = c->at[2];
    /* Steps are 32 bits here: their difference is right past the wrap, too. */
    event.overlap.steps = o->s.step - c->since[side];
    event.overlap.body.bits = c->body[side];
    event.overlap.other_body.bits = c->body[!side];
    event.overlap.count = (uint16_t)(pieces < UINT16_MAX ? pieces : UINT16_MAX);
    event.overlap.scope = c->scope;
    event.overlap.other_id = c->id[!side];
    /* A handler of the other side may have removed it just now. */
    if (kind == IKV_KIND_OVERLAP_LEAVE)
        event.overlap.reason = ikvi_party_alive(o, c, !side)
                                   ? c->reason[side]
                                   : IKV_OVERLAP_REMOVED;
    ikv_route route = IKV_ROUTE_INIT;
    route.flags = mirror ? IKV_MIRROR : 0;
    ikv_bus_deliver_along(o->bus, &event, &route);
    return true;
}

enum {
    FEW_NOTICES = 24, /* which are quicker put in one by one */
    DIGIT = 256
};

static void insert_notices(overlap_notice *list, uint32_t count)
{
    for (uint32_t i = 1; i < count; i++) {
        overlap_notice one = list[i];
        uint32_t at = i;
        for (; at > 0 && list[at - 1].key > one.key; at--)
            list[at] = list[at - 1];
        list[at] = one;
    }
}

/* By one digit, into the other array. */
static void sort_by_digit(const overlap_notice *from, overlap_notice *to,
                          uint32_t count, uint32_t shift)
{
    uint32_t places[DIGIT] = {0}, place = 0;
    for (uint32_t i = 0; i < count; i++)
        places[from[i].key >> shift & (DIGIT - 1)]++;
    for (uint32_t i = 0; i < DIGIT; i++) {
        uint32_t here = places[i];
        places[i] = place;
        place += here;
    }
    for (uint32_t i = 0; i < count; i++)
        to[places[from[i].key >> shift & (DIGIT - 1)]++] = from[i];
}

/* By key, with those of one key as they came: who is gone and who is there may
 * have one. From the lowest digit on, of those in which they differ at all. */
static void sort_notices(overlap_notice *list, overlap_notice *scratch,
                         uint32_t count)
{
    overlap_notice *from = list, *to = scratch;
    uint64_t differ = 0;
    if (count <= FEW_NOTICES) {
        insert_notices(list, count);
        return;
    }
    for (uint32_t i = 1; i < count; i++)
        differ |= list[i].key ^ list[0].key;
    for (uint32_t shift = 0; shift < 64; shift += 8)
        if ((differ >> shift & (DIGIT - 1)) != 0) {
            sort_by_digit(from, to, count, shift);
            overlap_notice *swap = from;
            from = to;
            to = swap;
        }
    if (from != list)
        memcpy(list, from, count * sizeof *list);
    IKVI_CHECK(list[0].key <= list[count - 1].key);
}

/* Whether what lingers is disabled or hidden meanwhile. */
static bool is_switched_off(const ikv_overlaps *o, const overlap_contact *c,
                            uint32_t side)
{
    const near_part *part = part_at(o, c->place[side]);
    const scene_item *item =
        o->scene != NULL ? ikvi_scene_item(o->scene, c->place[side]) : NULL;
    return (part->owner == c->party[side] && part->disabled) ||
           (item != NULL && item->target == c->party[side] &&
            (item->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN)) != 0);
}

/* Whether a side's contact has ended: it was apart long enough, or who it was
 * with can't come back. */
static bool has_left(ikv_overlaps *o, overlap_contact *c, uint32_t side)
{
    if (is_switched_off(o, c, 0) || is_switched_off(o, c, 1))
        c->reason[side] = IKV_OVERLAP_DISABLED;
    if (c->reason[side] != IKV_OVERLAP_APART || !ikvi_party_alive(o, c, 0) ||
        !ikvi_party_alive(o, c, 1) || c->linger[side] == 0)
        return true;
    /* Lingering begins now, or again. */
    if (!c->lingers[side] || c->passed[side]) {
        c->lingers[side] = true;
        c->due[side] = o->s.step + c->linger[side];
    }
    /* As a signed difference: right past the wrap of 32 bits. */
    return (int32_t)(o->s.step - c->due[side]) >= 0;
}

/* Fetches a contact that is looked at a while later; gives one that has come
 * meanwhile, whose turn is sooner, or NULL. */
static inline const overlap_contact *fetch_changed(const ikv_overlaps *o,
                                                   uint32_t nth)
{
    if (nth + 16 < o->s.changed_count)
        fetch_record(o, changed_at(o, nth + 16)->contact);
    return nth + 8 < o->s.changed_count
               ? contact_at(o, changed_at(o, nth + 8)->contact)
               : NULL;
}

/* What telling of contacts will need: who is in them. */
static inline void fetch_told(const ikv_overlaps *o, uint32_t nth)
{
    const overlap_contact *c = fetch_changed(o, nth);
    for (uint32_t i = 0; c != NULL && i < SIDES; i++) {
        IKVI_FETCH(part_at(o, c->place[i]));
        IKVI_FETCH(summary_at(o, c->place[i]));
        ikvi_bus_fetch_target(o->bus, c->place[i]);
    }
}

/* O2: leaves first, then enters, each side its own. */
static void tell_leaves(ikv_overlaps *o, uint64_t time_ns, bool passed)
{
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        uint32_t index = changed_at(o, i)->contact;
        overlap_contact *c = contact_at(o, index);
        fetch_told(o, i);
        /* Settled for both before either is told. */
        bool leaves[SIDES];
        for (uint32_t side = 0; side < SIDES; side++)
            leaves[side] = c->entered[side] && c->pieces[side] == 0 &&
                           c->passed[side] == passed && has_left(o, c, side);
        bool mirror = false;
        for (uint32_t side = 0; side < SIDES; side++) {
            if (!leaves[side])
                continue;
            /* Before it is told: a query in the handler finds it ended. */
            c->entered[side] = c->lingers[side] = false;
            if (is_of_bodies(c))
                ikvi_record_unlink(o, index, side);
            mirror = tell_side(o, IKV_KIND_OVERLAP_LEAVE, index, side, mirror,
                               time_ns);
        }
    }
}

/* Lists are in the order of telling. */
static void list_told(ikv_overlaps *o, uint32_t index, uint32_t side)
{
    if (!is_of_bodies(contact_at(o, index))) {
        if (*list_of(o, index, side) == index * 2 + side)
            return;
        ikvi_record_unlink(o, index, side);
    }
    ikvi_record_link(o, index, side);
}

/* Both sides hear of one moment: who enters is settled for both before either
 * is told, as a handler may remove a party. */
static void tell_enters(ikv_overlaps *o, uint64_t time_ns)
{
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        uint32_t index = changed_at(o, i)->contact;
        overlap_contact *c = contact_at(o, index);
        fetch_told(o, i);
        bool enters[SIDES];
        for (uint32_t side = 0; side < SIDES; side++) {
            enters[side] =
                !c->entered[side] && (c->pieces[side] > 0 || c->passed[side]);
            if (c->pieces[side] > 0)
                c->lingers[side] = false;
        }
        bool mirror = false;
        for (uint32_t side = 0; side < SIDES; side++) {
            /* Who is told second may have been removed by who was told
             * first. */
            if (!enters[side] || !ikvi_party_alive(o, c, 0) ||
                !ikvi_party_alive(o, c, 1))
                continue;
            c->entered[side] = true;
            c->since[side] = o->s.step;
            list_told(o, index, side);
            mirror = tell_side(o, IKV_KIND_OVERLAP_ENTER, index, side, mirror,
                               time_ns);
        }
    }
}

static bool has_moved(const ikv_overlaps *o, const overlap_contact *c)
{
    uint32_t before = o->s.turn - 1;
    return part_at(o, c->place[0])->moved == before ||
           part_at(o, c->place[1])->moved == before;
}

/* Whether a side has entered, and hears that it is inside. */
static bool hears_inside(const ikv_overlaps *o, const overlap_contact *c,
                         uint32_t side)
{
    return c->entered[side] && c->pieces[side] > 0 &&
           ikvi_bus_hears(o->bus, IKV_KIND_OVERLAP_INSIDE,
                          (ikv_target){c->party[side]});
}

/* Whether a side gets `inside` in this step. */
static bool wants_inside(const ikv_overlaps *o, const overlap_contact *c,
                         uint32_t side)
{
    return c->since[side] != o->s.step &&
           (c->always[side] > 0 || has_moved(o, c)) && hears_inside(o, c, side);
}

/* O3: to those who asked for it, in the usual order. */
static void tell_insides(ikv_overlaps *o, uint64_t time_ns)
{
    /* Behind those that linger, which stay for the next step. */
    overlap_notice *list = changed_at(o, o->s.changed_count);
    uint32_t count = 0;
    if (!ikvi_bus_hears_any(o->bus, IKV_KIND_OVERLAP_INSIDE))
        return;
    for (uint32_t i = 0; i < o->heads; i++)
        for (uint32_t at = *contact_head(o, i); at != NO_TOUCH;
             at = contact_at(o, at)->next_hash) {
            const overlap_contact *c = contact_at(o, at);
            if (wants_inside(o, c, 0) || wants_inside(o, c, 1))
                list[count++] = notice_of(o, at);
        }
    IKVI_CHECK(count <= o->s.counters.contacts);
    sort_notices(list, scratch_at(o, 0), count);
    for (uint32_t i = 0; i < count; i++) {
        uint32_t index = list[i].contact;
        const overlap_contact *c = contact_at(o, index);
        bool mirror = false;
        for (uint32_t side = 0; side < SIDES; side++)
            if (wants_inside(o, c, side) && ikvi_party_alive(o, c, !side))
                mirror = tell_side(o, IKV_KIND_OVERLAP_INSIDE, index, side,
                                   mirror, time_ns);
    }
}

bool ikvi_contact_awaits(const ikv_overlaps *o)
{
    bool awaits = o->s.lingering > 0;
    if (awaits || !ikvi_bus_hears_any(o->bus, IKV_KIND_OVERLAP_INSIDE))
        return awaits;
    for (uint32_t i = 0; i < o->heads && !awaits; i++)
        for (uint32_t at = *contact_head(o, i); at != NO_TOUCH;
             at = contact_at(o, at)->next_hash) {
            const overlap_contact *c = contact_at(o, at);
            for (uint32_t side = 0; side < SIDES; side++)
                awaits =
                    awaits || (c->always[side] > 0 && hears_inside(o, c, side));
        }
    return awaits;
}

/* What cleaning up will need: who lies beside them in lists. */
static inline void fetch_cleaned(const ikv_overlaps *o, uint32_t nth)
{
    const overlap_contact *c = fetch_changed(o, nth);
    if (c == NULL || c->by != 0)
        return;
    IKVI_FETCH(head_of(o, c->place));
    for (uint32_t i = 0; i < SIDES; i++) {
        fetch_linked(o, c->links.before[i]);
        fetch_linked(o, c->links.after[i]);
    }
}

/* Contacts that linger are looked at in each step; the rest of those that have
 * changed is settled, and freed if nothing holds it. */
static void clean_up(ikv_overlaps *o)
{
    uint32_t kept = 0;
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        overlap_notice notice = *changed_at(o, i);
        overlap_contact *c = contact_at(o, notice.contact);
        fetch_cleaned(o, i);
        IKVI_CHECK(c->pending);
        c->passed[0] = c->passed[1] = false;
        c->reason[0] = c->reason[1] = IKV_OVERLAP_APART;
        for (uint32_t side = 0; side < SIDES; side++)
            if (!c->lingers[side])
                c->linger[side] = 0; /* of who came apart in this step */
        /* Looked at in the next step as well: it may have been apart long
         * enough. */
        if (c->lingers[0] || c->lingers[1]) {
            *changed_at(o, kept++) = notice;
            continue;
        }
        c->pending = false;
        o->s.counters.contacts -= !is_contact(c);
        ikvi_record_release(o, notice.contact);
    }
    o->s.changed_count = o->s.lingering = kept;
    o->ended_early = false;
}

void ikvi_contact_tell(ikv_overlaps *o, uint64_t time_ns)
{
    if (o->s.changed_count > 0) {
        sort_notices(changed_at(o, 0), scratch_at(o, 0), o->s.changed_count);
        tell_leaves(o, time_ns, false);
        tell_enters(o, time_ns);
        /* What went through enters and leaves in one step. */
        if (o->s.swept_count > 0)
            tell_leaves(o, time_ns, true);
    }
    clean_up(o);
    tell_insides(o, time_ns);
}
