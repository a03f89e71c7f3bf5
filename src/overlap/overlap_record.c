/* overlap_record.c - the records of what touches, and where they are found.
 *
 * Each pair of targets that touch, or are in contact, has one record, found by
 * its places; so has each pair of bodies in contact.
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

/* The newest comes first. */
void ikvi_record_link(ikv_overlaps *o, uint32_t index, uint32_t side)
{
    overlap_links *own = &contact_at(o, index)->links;
    IKVI_CHECK(side < SIDES);
    uint32_t *head = list_of(o, index, side);
    own->before[side] = NO_TOUCH;
    own->after[side] = *head;
    IKVI_CHECK(*head == NO_TOUCH || *head / 2 != index);
    if (*head != NO_TOUCH)
        contact_at(o, *head / 2)->links.before[*head % 2] = index * 2 + side;
    *head = index * 2 + side;
}

void ikvi_record_unlink(ikv_overlaps *o, uint32_t index, uint32_t side)
{
    const overlap_links *own = &contact_at(o, index)->links;
    IKVI_CHECK(side < SIDES);
    uint32_t before = own->before[side], after = own->after[side];
    IKVI_CHECK(before != NO_TOUCH ||
               *list_of(o, index, side) == index * 2 + side);
    IKVI_CHECK(after == NO_TOUCH ||
               contact_at(o, after / 2)->links.before[after % 2] ==
                   index * 2 + side);
    if (before == NO_TOUCH)
        *list_of(o, index, side) = after;
    else
        contact_at(o, before / 2)->links.after[before % 2] = after;
    if (after != NO_TOUCH)
        contact_at(o, after / 2)->links.before[after % 2] = before;
}

/* -------------------------------------------------------------- records -- */

/* The same two may have one of pieces and one of bodies; who is gone may have
 * left one at their places. */
uint32_t ikvi_record_find(const ikv_overlaps *o, const contact_pair *pair,
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
    return ikvi_record_find(o, &pair, scope);
}

uint32_t ikvi_touch_find(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t at = *head_of(o, (const uint32_t[SIDES]){a, b});
    IKVI_CHECK(a < b);
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

uint32_t ikvi_record_make(ikv_overlaps *o, const contact_pair *pair,
                          uint8_t scope)
{
    uint32_t index = o->s.free_contact, *head = head_of(o, pair->place);
    if (index == NO_TOUCH)
        return NO_TOUCH;
    IKVI_CHECK(ikvi_record_find(o, pair, scope) == NO_TOUCH);
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
        ikvi_record_link(o, index, 0);
        ikvi_record_link(o, index, 1);
    }
    /* What ends unchecked is sought no further than this. */
    if (index >= o->s.contacts_high)
        o->s.contacts_high = index + 1;
    return index;
}

/* If nothing holds it any more. */
void ikvi_record_release(ikv_overlaps *o, uint32_t index)
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
        ikvi_record_unlink(o, index, 0);
        ikvi_record_unlink(o, index, 1);
    }
    c->next_hash = o->s.free_contact;
    o->s.free_contact = index;
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
