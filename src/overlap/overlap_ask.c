/* overlap_ask.c - what a target is in contact with now. */
#include "overlap_internal.h"

static uint32_t contacts_of(const ikv_overlaps *o, ikv_target target)
{
    uint32_t place =
        o != NULL ? ikv_bus_target_place(o->bus, target) : UINT32_MAX;
    return place != UINT32_MAX ? part_at(o, place)->contacts : NO_TOUCH;
}

/* Whether a contact in a target's list is with one that bears such tags. */
static bool is_with(const ikv_overlaps *o, uint32_t at, ikv_target target,
                    uint32_t tags)
{
    const overlap_contact *c = contact_at(o, at / 2);
    uint32_t side = at % 2;
    /* What only touches is in the list too. The place may have been another's,
     * whose contact is not told of yet. */
    return c->entered[side] && c->party[side] == target.bits &&
           (tags == 0 ||
            (ikvi_party_alive(o, c, !side) &&
             (ikvi_bus_tags(o->bus, (ikv_target){c->party[!side]}) & tags) !=
                 0));
}

/* S3. */
uint32_t ikv_overlaps_contacts(const ikv_overlaps *overlaps, ikv_target target,
                               uint32_t tags)
{
    uint32_t count = 0;
    for (uint32_t at = contacts_of(overlaps, target); at != NO_TOUCH;
         at = contact_at(overlaps, at / 2)->links.after[at % 2])
        count += is_with(overlaps, at, target, tags);
    return count;
}

static ikv_contact contact_as_told(const ikv_overlaps *overlaps, uint32_t at)
{
    const overlap_contact *c = contact_at(overlaps, at / 2);
    uint32_t side = at % 2;
    uint32_t pieces = c->pieces[side];
    return (ikv_contact){
        .other = {c->party[!side]},
        .other_body = {c->body[!side]},
        .other_id = c->id[!side],
        .steps = overlaps->s.step - c->since[side],
        .x = c->at[0],
        .y = c->at[1],
        .z = c->at[2],
        .count = (uint16_t)(pieces < UINT16_MAX ? pieces : UINT16_MAX),
        .scope = c->scope};
}

/* Those from a place on, as many as there is room for; how many there are in
 * all. */
static uint32_t tell_contacts(const ikv_overlaps *overlaps, ikv_target target,
                              uint32_t tags, uint32_t from, ikv_contact *to,
                              uint32_t room)
{
    uint32_t count = ikv_overlaps_contacts(overlaps, target, tags);
    uint32_t nth = to != NULL ? count : 0;
    /* From its end: the list has the newest first. */
    for (uint32_t at = contacts_of(overlaps, target); nth > from;
         at = contact_at(overlaps, at / 2)->links.after[at % 2])
        if (is_with(overlaps, at, target, tags) && --nth - from < room)
            to[nth - from] = contact_as_told(overlaps, at);
    return count;
}

uint32_t ikv_overlaps_list(const ikv_overlaps *overlaps, ikv_target target,
                           uint32_t tags, ikv_contact *contacts, uint32_t room)
{
    return tell_contacts(overlaps, target, tags, 0, contacts, room);
}

bool ikv_overlaps_contact(const ikv_overlaps *overlaps, ikv_target target,
                          uint32_t tags, uint32_t nth, ikv_contact *contact)
{
    return contact != NULL &&
           nth < tell_contacts(overlaps, target, tags, nth, contact, 1);
}

/* Of one that is gone, its place with it. */
static bool is_with_gone(const ikv_overlaps *o, ikv_target target,
                         ikv_target other)
{
    uint32_t at = contacts_of(o, target);
    while (at != NO_TOUCH &&
           (!is_with(o, at, target, 0) ||
            contact_at(o, at / 2)->party[!(at % 2)] != other.bits))
        at = contact_at(o, at / 2)->links.after[at % 2];
    return at != NO_TOUCH;
}

bool ikv_overlaps_touches(const ikv_overlaps *overlaps, ikv_target target,
                          ikv_target other)
{
    const ikv_overlaps *o = overlaps;
    if (o == NULL || ikv_bus_target_place(o->bus, target) == UINT32_MAX)
        return false;
    if (ikv_bus_target_place(o->bus, other) == UINT32_MAX)
        return is_with_gone(o, target, other);
    /* Of pieces or of bodies; the record knows which of its sides was told. */
    const uint8_t scopes[] = {IKV_OVERLAP_OF_PIECES, IKV_OVERLAP_OF_BODIES};
    for (uint32_t i = 0; i < sizeof scopes; i++) {
        uint32_t index = ikvi_contact_find(o, target, other, scopes[i]);
        const overlap_contact *c =
            index != NO_TOUCH ? contact_at(o, index) : NULL;
        if (c != NULL && c->entered[c->party[0] != target.bits])
            return true;
    }
    return false;
}
