/* overlap_contact.c - what touches, and what is told of it.
 *
 * Each pair of targets that touch, or are in contact, has one record, found by
 * its places; so has each pair of bodies in contact. A side of two targets that
 * touch holds the contact that it wants: the record itself, or their bodies'.
 *
 * overlap-2  a record of targets is found by its pair, and lies in the lists of
 *            both
 *
 * overlap-3  a side of a touch that senses the other holds one contact, whose
 *            `pieces` counts such touches
 *
 * overlap-4  a record of bodies lies in the list of each of them that was told
 *            that it entered
 *
 * overlap-5  a record touches, has pieces, or was entered, or it is free
 */
#include "overlap_internal.h"

/* ---------------------------------------------------------------- lists -- */

static uint32_t pair_hash(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    /* Multiplicative hashing: the upper half of the product is spread well. */
    uint64_t key = ((uint64_t)a << 32 | b) * UINT64_C(0x9e3779b97f4a7c15);
    return (uint32_t)(key >> 32) & (o->heads - 1);
}

static uint32_t *head_of(const ikv_overlaps *o, const uint32_t place[SIDES])
{
    return contact_head(o, pair_hash(o, place[0], place[1]));
}

/* Where the list begins that a side of a record lies in. */
static uint32_t *list_of(const ikv_overlaps *o, uint32_t index, uint32_t side)
{
    return &part_at(o, contact_at(o, index)->place[side])->contacts;
}

/* The newest comes first. */
static void link_in(ikv_overlaps *o, uint32_t index, uint32_t side)
{
    overlap_links *own = &contact_at(o, index)->links;
    IKVI_CHECK(side < SIDES);
    uint32_t *head = list_of(o, index, side);
    own->before[side] = NO_TOUCH;
    own->after[side] = *head;
    if (*head != NO_TOUCH)
        contact_at(o, *head / 2)->links.before[*head % 2] = index * 2 + side;
    *head = index * 2 + side;
}

static void link_out(ikv_overlaps *o, uint32_t index, uint32_t side)
{
    const overlap_links *own = &contact_at(o, index)->links;
    IKVI_CHECK(side < SIDES);
    uint32_t before = own->before[side], after = own->after[side];
    IKVI_CHECK(before != NO_TOUCH ||
               *list_of(o, index, side) == index * 2 + side);
    if (before == NO_TOUCH)
        *list_of(o, index, side) = after;
    else
        contact_at(o, before / 2)->links.after[before % 2] = after;
    if (after != NO_TOUCH)
        contact_at(o, after / 2)->links.before[after % 2] = before;
}

/* -------------------------------------------------------------- records -- */

static bool is_of_bodies(const overlap_contact *c)
{
    return c->scope == IKV_OVERLAP_OF_BODIES;
}

/* Whether something is told of it, or may be in this step; else two targets
 * only touch. */
static bool is_contact(const overlap_contact *c)
{
    return c->pending || c->pieces[0] + c->pieces[1] > 0 || c->entered[0] ||
           c->entered[1];
}

static overlap_notice notice_of(const ikv_overlaps *o, uint32_t index)
{
    const overlap_contact *c = contact_at(o, index);
    uint64_t first = c->place[0], second = c->place[1];
    return (overlap_notice){first << 32 | second << 1 | c->scope, index};
}

/* To be looked at when all touches of this step are known. */
static void contact_changed(ikv_overlaps *o, uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    /* Once a step, however many touches begin and end. */
    if (c->pending)
        return;
    IKVI_CHECK(o->s.changed_count < o->contact_room);
    c->pending = true;
    *changed_at(o, o->s.changed_count++) = notice_of(o, index);
}

/* Two targets or bodies; the lower place first, which is the order of
 * telling. */
typedef struct contact_pair {
    uint32_t party[SIDES]; /* bits */
    uint32_t place[SIDES];
} contact_pair;

static contact_pair targets_at(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    return (contact_pair){{part_at(o, a)->target, part_at(o, b)->target},
                          {a, b}};
}

/* The same two may have one of pieces and one of bodies; who is gone may have
 * left one at their places. */
static uint32_t find_contact(const ikv_overlaps *o, const contact_pair *pair,
                             uint8_t scope)
{
    uint32_t at = *head_of(o, pair->place);
    while (at != NO_TOUCH) {
        const overlap_contact *c = contact_at(o, at);
        if (c->party[0] == pair->party[0] && c->party[1] == pair->party[1] &&
            c->scope == scope)
            return at;
        at = c->next_hash;
    }
    return NO_TOUCH;
}

uint32_t ikvi_contact_find(const ikv_overlaps *o, ikv_target one,
                           ikv_target other, uint8_t scope)
{
    uint32_t a = ikv_bus_target_place(o->bus, one);
    uint32_t b = ikv_bus_target_place(o->bus, other);
    contact_pair pair = {{one.bits, other.bits}, {a, b}};
    if (b < a)
        pair = (contact_pair){{other.bits, one.bits}, {b, a}};
    return find_contact(o, &pair, scope);
}

uint32_t ikvi_touch_find(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t at = *head_of(o, (const uint32_t[SIDES]){a, b});
    /* What touches is of who is at the places now: who was there before has
     * ended its touches as it went. */
    while (at != NO_TOUCH) {
        const overlap_contact *c = contact_at(o, at);
        if (c->by != 0 && c->place[0] == a && c->place[1] == b)
            return at;
        at = c->next_hash;
    }
    return NO_TOUCH;
}

void ikvi_touch_fetch_heads(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    IKVI_FETCH(head_of(o, (const uint32_t[SIDES]){a, b}));
    IKVI_FETCH(part_at(o, a));
    IKVI_FETCH(part_at(o, b));
}

static void fetch_record(const ikv_overlaps *o, uint32_t index)
{
    if (index == NO_TOUCH)
        return;
    IKVI_FETCH(contact_at(o, index));
    IKVI_FETCH(&contact_at(o, index)->pieces);
}

static void fetch_linked(const ikv_overlaps *o, uint32_t at)
{
    if (at != NO_TOUCH)
        IKVI_FETCH(contact_at(o, at / 2));
}

void ikvi_touch_fetch(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    fetch_record(o, *head_of(o, (const uint32_t[SIDES]){a, b}));
    fetch_linked(o, part_at(o, a)->contacts);
    fetch_linked(o, part_at(o, b)->contacts);
}

static uint32_t id_at(const ikv_overlaps *o, uint32_t place, uint32_t bits)
{
    const near_part *part = part_at(o, place);
    return part->target == bits ? part->id
                                : ikv_bus_target_id(o->bus, (ikv_target){bits});
}

static uint32_t make_record(ikv_overlaps *o, const contact_pair *pair,
                            uint8_t scope)
{
    uint32_t index = o->s.free_contact, *head = head_of(o, pair->place);
    if (index == NO_TOUCH)
        return NO_TOUCH;
    IKVI_CHECK(find_contact(o, pair, scope) == NO_TOUCH);
    overlap_contact *c = contact_at(o, index);
    o->s.free_contact = c->next_hash;
    *c = (overlap_contact){.next_hash = *head, .scope = scope};
    *head = index;
    for (uint32_t i = 0; i < SIDES; i++) {
        c->party[i] = pair->party[i];
        c->place[i] = pair->place[i];
        c->id[i] = id_at(o, pair->place[i], pair->party[i]);
    }
    if (!is_of_bodies(c)) {
        IKVI_CHECK(c->place[0] < c->place[1]); /* overlap-2 */
        c->held[0] = c->held[1] = NO_TOUCH;
        link_in(o, index, 0);
        link_in(o, index, 1);
    }
    /* What ends unchecked is sought no further than this. */
    if (index >= o->s.contacts_high)
        o->s.contacts_high = index + 1;
    return index;
}

/* If nothing holds it any more. */
static void release_record(ikv_overlaps *o, uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    if (c->by != 0 || is_contact(c))
        return;
    uint32_t *link = head_of(o, c->place);
    /* Chains are short: no way back is kept. */
    while (*link != index)
        link = &contact_at(o, *link)->next_hash;
    *link = c->next_hash;
    if (!is_of_bodies(c)) {
        link_out(o, index, 0);
        link_out(o, index, 1);
    }
    c->next_hash = o->s.free_contact;
    o->s.free_contact = index;
}

/* ------------------------------------------------------------- contacts -- */

static uint32_t body_bits(const ikv_overlaps *o, uint32_t place)
{
    return summary_at(o, place)->body;
}

/* The bodies of two that touch, which may lie the other way round than the two;
 * false if one of them is gone. */
static bool bodies_of(const ikv_overlaps *o, const overlap_contact *t,
                      contact_pair *to)
{
    contact_pair found;
    for (uint32_t i = 0; i < SIDES; i++) {
        ikv_target body = {body_bits(o, t->place[i])};
        found.party[i] = body.bits;
        found.place[i] = ikv_bus_target_place(o->bus, body);
        if (found.place[i] == UINT32_MAX)
            return false;
    }
    uint32_t first = found.place[0] > found.place[1];
    *to = (contact_pair){{found.party[first], found.party[!first]},
                         {found.place[first], found.place[!first]}};
    return true;
}

static bool senses_other(const ikv_overlaps *o, const overlap_contact *t,
                         uint32_t side)
{
    const near_summary *own = summary_at(o, t->place[side]);
    const near_summary *other = summary_at(o, t->place[!side]);
    return senses_tags(own->senses, other->tags) != 0 &&
           own->body != other->body;
}

/* Counted; and until it is held it may be freed with what has changed. */
static void begin_contact(ikv_overlaps *o, uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    if (!is_contact(c)) {
        o->s.counters.contacts++;
        for (uint32_t i = 0; i < SIDES; i++)
            c->body[i] =
                is_of_bodies(c) ? c->party[i] : body_bits(o, c->place[i]);
    }
    contact_changed(o, index);
}

/* Which side of the contact that it holds a touch's side is. */
static uint32_t side_in(const overlap_contact *t, uint32_t side)
{
    return t->turned[side] ? !side : side;
}

/* What the sensing piece asks for holds for the contact that there is. */
static void follow_sensing(ikv_overlaps *o, overlap_contact *t, uint32_t side)
{
    overlap_contact *c = contact_at(o, t->held[side]);
    const near_part *part = part_at(o, t->place[side]);
    uint32_t own = side_in(t, side);
    bool always = part->inside == IKV_INSIDE_ALWAYS;
    if (t->asks[side] != always)
        c->always[own] += always ? 1u : UINT32_MAX;
    t->asks[side] = always;
}

static void hold_contact(ikv_overlaps *o, overlap_contact *t, uint32_t side,
                         uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    uint64_t pair = (uint64_t)t->place[0] << 32 | t->place[1];
    IKVI_CHECK(t->held[side] == NO_TOUCH);
    t->held[side] = index;
    t->turned[side] =
        is_of_bodies(c) && c->party[side] != body_bits(o, t->place[side]);
    c->pieces[side_in(t, side)]++;
    follow_sensing(o, t, side);
    /* The lowest pair's place, while nobody has been told: whatever the order
     * in which touches were found. */
    if (is_of_bodies(c) &&
        (c->lowest == 0 ||
         (!c->entered[0] && !c->entered[1] && pair < c->lowest))) {
        memcpy(c->at, t->at, sizeof c->at);
        c->lowest = pair;
    }
    contact_changed(o, index);
}

static void detach_contact(ikv_overlaps *o, overlap_contact *t, uint32_t side,
                           uint8_t reason)
{
    uint32_t index = t->held[side];
    if (index == NO_TOUCH)
        return;
    overlap_contact *c = contact_at(o, index);
    uint32_t own = side_in(t, side);
    uint16_t linger = part_at(o, t->place[side])->linger;
    IKVI_CHECK(c->pieces[own] > 0 && c->always[own] >= t->asks[side]);
    c->pieces[own]--;
    c->always[own] -= t->asks[side];
    /* The longest of those that come apart in one step, whatever their order. */
    if (linger > c->linger[own])
        c->linger[own] = linger;
    /* Of several that end the gravest is told: reasons are sorted so. */
    if (reason > c->reason[own])
        c->reason[own] = reason;
    t->held[side] = NO_TOUCH;
    t->asks[side] = false;
    contact_changed(o, index);
}

/* -------------------------------------------------------------- touches -- */

/* The contact that a side of a touch wants now, in `to`: NO_TOUCH if none; false
 * if there is no room for it. */
static bool want_contact(ikv_overlaps *o, uint32_t touch, uint32_t side,
                         uint32_t *to)
{
    const overlap_contact *t = contact_at(o, touch);
    contact_pair bodies;
    *to = NO_TOUCH;
    if (!senses_other(o, t, side))
        return true;
    /* As it was told last: what is asked since then is of the next step. */
    if (part_at(o, t->place[side])->told_scope == IKV_OVERLAP_OF_PIECES) {
        *to = touch;
    } else if (bodies_of(o, t, &bodies)) {
        *to = find_contact(o, &bodies, IKV_OVERLAP_OF_BODIES);
        if (*to == NO_TOUCH)
            *to = make_record(o, &bodies, IKV_OVERLAP_OF_BODIES);
        if (*to == NO_TOUCH)
            return false;
    }
    if (*to != NO_TOUCH)
        begin_contact(o, *to);
    return true;
}

/* Makes each side hold the contact that it wants now; false if there is no
 * room. */
static bool attach_contacts(ikv_overlaps *o, uint32_t touch, uint8_t reason)
{
    overlap_contact *t = contact_at(o, touch);
    uint32_t wanted[SIDES];
    /* First all that may fail for lack of room; then what is held changes. */
    for (uint32_t side = 0; side < SIDES; side++)
        if (!want_contact(o, touch, side, &wanted[side]))
            return false;
    /* What is let go first may be held again: a contact with no piece left
     * lives to the step's end. */
    for (uint32_t side = 0; side < SIDES; side++)
        if (t->held[side] != wanted[side])
            detach_contact(o, t, side, reason);
    for (uint32_t side = 0; side < SIDES; side++) {
        if (t->held[side] == NO_TOUCH && wanted[side] != NO_TOUCH)
            hold_contact(o, t, side, wanted[side]);
        else if (t->held[side] != NO_TOUCH)
            follow_sensing(o, t, side);
    }
    return true;
}

static void drop_report(ikv_overlaps *o, uint32_t index)
{
    uint32_t at = contact_at(o, index)->reported;
    IKVI_CHECK(at < o->s.report_count && *reported_at(o, at) == index);
    /* The last one takes its place: their order says nothing. */
    uint32_t last = *reported_at(o, --o->s.report_count);
    *reported_at(o, at) = last;
    contact_at(o, last)->reported = at;
}

void ikvi_touch_end(ikv_overlaps *o, uint32_t touch, uint8_t by, uint8_t reason)
{
    overlap_contact *t = contact_at(o, touch);
    if ((t->by & by) == 0)
        return;
    if (t->by & by & TOUCH_REPORTED)
        drop_report(o, touch);
    t->by &= (uint8_t)~by;
    if (t->by != 0)
        return;
    o->s.counters.touching--;
    detach_contact(o, t, 0, reason);
    detach_contact(o, t, 1, reason);
    /* The pair's candidate is still marked: who ends a touch sets that. */
    release_record(o, touch);
}

/* Where the two meet: the middle of what their boxes share. */
static void middle_of(const ikv_overlaps *o, uint32_t a, uint32_t b,
                      float at[3])
{
    const near_box *x = box_at(o, a), *y = box_at(o, b);
    for (uint32_t i = 0; i < 2; i++) {
        /* Upper ends are negated: the greater of them is the lower end. */
        float low = x->low[i] > y->low[i] ? x->low[i] : y->low[i];
        float high = x->high[i] > y->high[i] ? -x->high[i] : -y->high[i];
        at[i] = low + (high - low) / 2;
    }
    at[2] = 0;
}

/* It is tried again in the next step. */
static uint32_t no_room(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    part_at(o, a)->refused = part_at(o, b)->refused = true;
    o->retries = o->scene != NULL;
    if (o->s.counters.refused++ == 0)
        ikvi_report(&o->reporter, IKV_REPORT_ERROR, IKV_FULL_CONTACTS,
                    "overlap",
                    "more pairs touch than there is room for: raise "
                    "overlaps.contacts");
    return NO_TOUCH;
}

/* Where a reported pair touches now; its contacts are there too. */
static void move_point(ikv_overlaps *o, overlap_contact *t, const float *point)
{
    uint64_t pair = (uint64_t)t->place[0] << 32 | t->place[1];
    if (point == NULL)
        return;
    memcpy(t->at, point, sizeof t->at);
    for (uint32_t side = 0; side < SIDES; side++) {
        if (t->held[side] == NO_TOUCH)
            continue;
        overlap_contact *c = contact_at(o, t->held[side]);
        if (is_of_bodies(c) && c->lowest == pair)
            memcpy(c->at, point, sizeof c->at);
    }
}

/* A pair that is new this step can't be known by its shape, only by a report;
 * nor be in contact, unless it lingers, or has lost its touch in this step. */
static bool may_be_known(const ikv_overlaps *o, bool fresh)
{
    return !fresh || o->s.has_reports || o->s.lingering > 0 || o->ended_early;
}

/* On a lack of room nothing is half made, and the pair is tried again. */
uint32_t ikvi_touch_begin(ikv_overlaps *o, uint32_t a, uint32_t b, uint8_t by,
                          bool fresh, const float *point)
{
    contact_pair pair = targets_at(o, a, b);
    uint32_t index = may_be_known(o, fresh)
                         ? find_contact(o, &pair, IKV_OVERLAP_OF_PIECES)
                         : NO_TOUCH;
    bool made = index == NO_TOUCH;
    bool begins = made || contact_at(o, index)->by == 0;
    if (begins && !either_senses(summary_at(o, a), summary_at(o, b)))
        return NO_TOUCH;
    if (made)
        index = make_record(o, &pair, IKV_OVERLAP_OF_PIECES);
    if (index == NO_TOUCH)
        return no_room(o, a, b);
    overlap_contact *t = contact_at(o, index);
    /* What lingers is still where it was told. */
    if (made && by == TOUCH_BY_SHAPE)
        middle_of(o, a, b, t->at);
    if (begins && !attach_contacts(o, index, IKV_OVERLAP_APART)) {
        release_record(o, index);
        return no_room(o, a, b);
    }
    o->s.counters.touching += begins;
    if (by == TOUCH_REPORTED) {
        move_point(o, t, point);
        t->marks |= TOUCH_AGAIN;
        if ((t->by & TOUCH_REPORTED) == 0) {
            t->reported = o->s.report_count;
            *reported_at(o, o->s.report_count++) = index;
        }
    }
    t->by |= by;
    return index;
}

bool ikvi_touch_check(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t index = ikvi_touch_begin(o, a, b, TOUCH_BY_SHAPE, false, NULL);
    if (index == NO_TOUCH)
        return false;
    contact_at(o, index)->marks |= TOUCH_CHECKED;
    return true;
}

/* After all that meet were looked at. */
void ikvi_touch_end_unchecked(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->s.contacts_high; i++) {
        overlap_contact *t = contact_at(o, i);
        if ((t->marks & TOUCH_CHECKED) == 0)
            ikvi_touch_end(o, i, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
        t->marks &= (uint8_t)~TOUCH_CHECKED;
    }
}

void ikvi_touch_pass(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t index = ikvi_touch_begin(o, a, b, TOUCH_BY_SHAPE, false, NULL);
    if (index == NO_TOUCH)
        return;
    const overlap_contact *t = contact_at(o, index);
    for (uint32_t side = 0; side < SIDES; side++)
        if (t->held[side] != NO_TOUCH)
            contact_at(o, t->held[side])->passed[side_in(t, side)] = true;
    ikvi_touch_end(o, index, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
}

bool ikvi_touch_refresh(ikv_overlaps *o, uint32_t part)
{
    uint32_t at = part_at(o, part)->contacts;
    bool ended = false;
    while (at != NO_TOUCH) {
        const overlap_contact *t = contact_at(o, at / 2);
        uint32_t after = t->links.after[at % 2];
        bool senses = either_senses(summary_at(o, t->place[0]),
                                    summary_at(o, t->place[1]));
        /* What is reported is so for its step, whoever senses it meanwhile. */
        if ((t->by & TOUCH_BY_SHAPE) != 0 && !senses) {
            ikvi_touch_end(o, at / 2, TOUCH_BY_SHAPE, IKV_OVERLAP_DISABLED);
            ended = o->ended_early = true;
        }
        if (t->by != 0 && !attach_contacts(o, at / 2, IKV_OVERLAP_DISABLED))
            no_room(o, t->place[0], t->place[1]);
        at = after;
    }
    return ended;
}

void ikvi_touch_end_all(ikv_overlaps *o, uint32_t part, uint8_t by,
                        uint8_t reason)
{
    uint32_t at = part_at(o, part)->contacts;
    while (at != NO_TOUCH) {
        uint32_t after = contact_at(o, at / 2)->links.after[at % 2];
        ikvi_touch_end(o, at / 2, by, reason);
        o->ended_early = true;
        at = after;
    }
}

void ikvi_touch_end_reports(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->s.report_count;) {
        uint32_t index = *reported_at(o, i);
        overlap_contact *t = contact_at(o, index);
        if (t->marks & TOUCH_AGAIN)
            i++;
        else
            ikvi_touch_end(o, index, TOUCH_REPORTED, IKV_OVERLAP_APART);
        t->marks &= (uint8_t)~TOUCH_AGAIN;
    }
}

/* -------------------------------------------------------------- telling -- */

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

/* By key: merges runs of 1, 2, 4 ... between the two arrays. */
static void sort_notices(overlap_notice *list, overlap_notice *scratch,
                         uint32_t count)
{
    overlap_notice *from = list, *to = scratch;
    /* Stable: who is gone and who came may have one key. */
    for (uint32_t run = 1; run < count; run *= 2) {
        for (uint32_t begin = 0; begin < count; begin += 2 * run) {
            uint32_t a = begin, b = begin + run < count ? begin + run : count;
            uint32_t a_end = b, b_end = b + run < count ? b + run : count;
            for (uint32_t i = begin; i < b_end; i++) {
                bool first =
                    b >= b_end || (a < a_end && from[a].key <= from[b].key);
                to[i] = first ? from[a++] : from[b++];
            }
        }
        overlap_notice *swap = from;
        from = to;
        to = swap;
    }
    if (from != list)
        memcpy(list, from, count * sizeof *list);
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
                link_out(o, index, side);
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
        link_out(o, index, side);
    }
    link_in(o, index, side);
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

/* Whether a side gets `inside` in this step. */
static bool wants_inside(const ikv_overlaps *o, const overlap_contact *c,
                         uint32_t side)
{
    return c->entered[side] && c->pieces[side] > 0 &&
           c->since[side] != o->s.step &&
           (c->always[side] > 0 || has_moved(o, c)) &&
           ikvi_bus_hears(o->bus, IKV_KIND_OVERLAP_INSIDE,
                          (ikv_target){c->party[side]});
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
        release_record(o, notice.contact);
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

/* ----------------------------------------------------------- validating -- */

static bool lies_in_list(const ikv_overlaps *o, uint32_t index, uint32_t side)
{
    uint32_t at = *list_of(o, index, side);
    while (at != NO_TOUCH && at != index * 2 + side)
        at = contact_at(o, at / 2)->links.after[at % 2];
    return at != NO_TOUCH;
}

static const char *validate_record(const ikv_overlaps *o, uint32_t index)
{
    const overlap_contact *c = contact_at(o, index);
    bool bodies = is_of_bodies(c);
    if (c->by != 0 && ikvi_touch_find(o, c->place[0], c->place[1]) != index)
        return "overlap-2";
    for (uint32_t side = 0; side < SIDES; side++) {
        if (lies_in_list(o, index, side) != (!bodies || c->entered[side]))
            return bodies ? "overlap-4" : "overlap-2";
        if (!bodies && c->held[side] != NO_TOUCH &&
            (c->by == 0 ||
             contact_at(o, c->held[side])->pieces[side_in(c, side)] == 0))
            return "overlap-3";
    }
    return c->by == 0 && !is_contact(c) ? "overlap-5" : NULL;
}

const char *ikvi_contact_validate(const ikv_overlaps *o)
{
    uint32_t touches = 0, contacts = 0, held = 0, pieces = 0;
    for (uint32_t i = 0; i < o->heads; i++)
        for (uint32_t at = *contact_head(o, i); at != NO_TOUCH;
             at = contact_at(o, at)->next_hash) {
            const overlap_contact *c = contact_at(o, at);
            const char *broken = validate_record(o, at);
            if (broken != NULL)
                return broken;
            touches += c->by != 0;
            contacts += is_contact(c);
            for (uint32_t side = 0; side < SIDES; side++) {
                held += !is_of_bodies(c) && c->held[side] != NO_TOUCH;
                pieces += c->pieces[side];
            }
        }
    if (held != pieces)
        return "overlap-3";
    return touches == o->s.counters.touching &&
                   contacts == o->s.counters.contacts
               ? NULL
               : "overlap-2";
}
