/* overlap_contact.c - what touches, and which contacts that makes.
 *
 * A side of two targets that touch holds the contact that it wants: the record
 * of the two itself, or their bodies' (overlap-3).
 */
#include "overlap_internal.h"

/* ------------------------------------------------------------- contacts -- */

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

static contact_pair targets_at(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    return (contact_pair){{part_at(o, a)->target, part_at(o, b)->target},
                          {a, b}};
}

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
        *to = ikvi_record_find(o, &bodies, IKV_OVERLAP_OF_BODIES);
        if (*to == NO_TOUCH)
            *to = ikvi_record_make(o, &bodies, IKV_OVERLAP_OF_BODIES);
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
    ikvi_record_release(o, touch);
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
                         ? ikvi_record_find(o, &pair, IKV_OVERLAP_OF_PIECES)
                         : NO_TOUCH;
    bool made = index == NO_TOUCH;
    bool begins = made || contact_at(o, index)->by == 0;
    if (begins && !either_senses(summary_at(o, a), summary_at(o, b)))
        return NO_TOUCH;
    if (made)
        index = ikvi_record_make(o, &pair, IKV_OVERLAP_OF_PIECES);
    if (index == NO_TOUCH)
        return no_room(o, a, b);
    overlap_contact *t = contact_at(o, index);
    /* What lingers is still where it was told. */
    if (made && by == TOUCH_BY_SHAPE)
        middle_of(o, a, b, t->at);
    if (begins && !attach_contacts(o, index, IKV_OVERLAP_APART)) {
        ikvi_record_release(o, index);
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
