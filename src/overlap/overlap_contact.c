/* overlap_contact.c - touches and contacts, and what is told of them.
 *
 * overlap-2  a touch is found by its pair, and lies in the lists of both parts
 *
 * overlap-3  a side of a touch that senses the other holds one contact, whose
 *            `pieces` counts such touches
 *
 * overlap-4  a contact lies in the list of each party that was told that it
 *            entered
 *
 * overlap-5  a contact has pieces, or was entered, or it is free
 */
#include "overlap_internal.h"

/* ---------------------------------------------------------------- lists -- */

static uint32_t pair_hash(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    /* Multiplicative hashing: the upper half of the product is spread well. */
    uint64_t key = ((uint64_t)a << 32 | b) * UINT64_C(0x9e3779b97f4a7c15);
    return (uint32_t)(key >> 32) & (o->heads - 1);
}

/* The lists of parts: of touches, and of contacts. */
typedef enum list_kind {
    LIST_OF_TOUCHES,
    LIST_OF_CONTACTS
} list_kind;

static overlap_links *links_of(const ikv_overlaps *o, list_kind kind,
                               uint32_t index)
{
    return kind == LIST_OF_TOUCHES ? &touch_at(o, index)->links
                                   : &contact_at(o, index)->links;
}

/* Where the list begins: at the part, for touches; at the party, for
 * contacts. */
static uint32_t *list_of(const ikv_overlaps *o, list_kind kind, uint32_t index,
                         uint32_t side)
{
    return kind == LIST_OF_TOUCHES
               ? &part_at(o, touch_at(o, index)->part[side])->touches
               : &part_at(o, contact_at(o, index)->place[side])->contacts;
}

/* The newest comes first. */
static void link_in(ikv_overlaps *o, list_kind kind, uint32_t index,
                    uint32_t side)
{
    overlap_links *own = links_of(o, kind, index);
    IKVI_CHECK(side < SIDES);
    uint32_t *head = list_of(o, kind, index, side);
    own->before[side] = NO_TOUCH;
    own->after[side] = *head;
    if (*head != NO_TOUCH)
        links_of(o, kind, *head / 2)->before[*head % 2] = index * 2 + side;
    *head = index * 2 + side;
}

static void link_out(ikv_overlaps *o, list_kind kind, uint32_t index,
                     uint32_t side)
{
    const overlap_links *own = links_of(o, kind, index);
    IKVI_CHECK(side < SIDES);
    uint32_t before = own->before[side], after = own->after[side];
    IKVI_CHECK(before != NO_TOUCH ||
               *list_of(o, kind, index, side) == index * 2 + side);
    if (before == NO_TOUCH)
        *list_of(o, kind, index, side) = after;
    else
        links_of(o, kind, before / 2)->after[before % 2] = after;
    if (after != NO_TOUCH)
        links_of(o, kind, after / 2)->before[after % 2] = before;
}

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
    *changed_at(o, o->s.changed_count++) = (overlap_notice){
        (uint64_t)c->place[0] << 32 | (uint64_t)c->place[1] << 1 | c->scope,
        index};
}

static uint32_t find_contact(const ikv_overlaps *o, uint32_t a, uint32_t b,
                             uint8_t scope)
{
    /* The same two may have one of pieces and one of bodies. */
    uint32_t at = *contact_head(o, pair_hash(o, a, b));
    while (at != NO_TOUCH) {
        const overlap_contact *c = contact_at(o, at);
        if (c->party[0] == a && c->party[1] == b && c->scope == scope)
            return at;
        at = c->next_hash;
    }
    return NO_TOUCH;
}

static uint32_t body_bits(const ikv_overlaps *o, uint32_t place)
{
    return summary_at(o, place)->body;
}

/* The place and number of one party: a part's own, or its body's. */
static void set_party(ikv_overlaps *o, overlap_contact *c, uint32_t side,
                      uint32_t bits, uint32_t part)
{
    ikv_target target = {bits};
    bool own = part_at(o, part)->target == bits;
    c->party[side] = bits;
    c->place[side] = own ? part : ikv_bus_target_place(o->bus, target);
    c->id[side] =
        own ? part_at(o, part)->id : ikv_bus_target_id(o->bus, target);
    c->links.before[side] = c->links.after[side] = NO_TOUCH;
}

/* Parties lie in the order of their places, which is the order of telling; for
 * bodies that may be the other way round than for the pieces that touch. */
static uint32_t make_contact(ikv_overlaps *o, const overlap_touch *t,
                             const uint32_t party[SIDES],
                             const uint32_t body[SIDES], uint8_t scope)
{
    uint32_t index = o->s.free_contact;
    if (index == NO_TOUCH)
        return NO_TOUCH;
    IKVI_CHECK(find_contact(o, party[0], party[1], scope) == NO_TOUCH);
    overlap_contact *c = contact_at(o, index);
    uint32_t *head = contact_head(o, pair_hash(o, party[0], party[1]));
    o->s.free_contact = c->next_hash;
    *c = (overlap_contact){.next_hash = *head, .scope = scope};
    *head = index;
    /* Which piece's part belongs to which party. */
    bool turned = scope == IKV_OVERLAP_OF_BODIES &&
                  summary_at(o, t->part[0])->body != party[0];
    for (uint32_t i = 0; i < SIDES; i++) {
        set_party(o, c, i, party[i], t->part[turned ? !i : i]);
        c->body[i] = body[i];
    }
    o->s.counters.contacts++;
    return index;
}

static void free_contact(ikv_overlaps *o, uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    IKVI_CHECK(c->pieces[0] + c->pieces[1] == 0 && !c->entered[0] &&
               !c->entered[1] && !c->pending);
    uint32_t *link = contact_head(o, pair_hash(o, c->party[0], c->party[1]));
    /* Chains are short: no way back is kept. */
    while (*link != index)
        link = &contact_at(o, *link)->next_hash;
    *link = c->next_hash;
    c->next_hash = o->s.free_contact;
    o->s.free_contact = index;
    o->s.counters.contacts--;
}

/* Between whom the contact is that a side of a touch holds; false if it senses
 * nothing of the other. */
static bool wanted_contact(const ikv_overlaps *o, const overlap_touch *t,
                           uint32_t side, uint32_t party[SIDES], uint8_t *scope)
{
    const near_summary *own = summary_at(o, t->part[side]);
    const near_summary *other = summary_at(o, t->part[!side]);
    /* As it was told last: what is asked since then is of the next step. */
    *scope = part_at(o, t->part[side])->told_scope;
    if (senses_tags(own->senses, other->tags) == 0 || own->body == other->body)
        return false;
    for (uint32_t i = 0; i < SIDES; i++)
        party[i] = *scope == IKV_OVERLAP_OF_BODIES ? body_bits(o, t->part[i])
                                                   : t->target[i];
    if (*scope == IKV_OVERLAP_OF_BODIES &&
        ikv_bus_target_place(o->bus, (ikv_target){party[0]}) >
            ikv_bus_target_place(o->bus, (ikv_target){party[1]})) {
        uint32_t first = party[0];
        party[0] = party[1];
        party[1] = first;
    }
    return *scope == IKV_OVERLAP_OF_PIECES ||
           (ikv_bus_target_alive(o->bus, (ikv_target){party[0]}) &&
            ikv_bus_target_alive(o->bus, (ikv_target){party[1]}));
}

/* Which side of the contact a touch's side is. */
static uint32_t side_in(const overlap_contact *c, const overlap_touch *t,
                        uint32_t side)
{
    uint32_t bits =
        c->scope == IKV_OVERLAP_OF_BODIES ? t->body[side] : t->target[side];
    return c->party[0] == bits ? 0 : 1;
}

/* What the sensing piece asks for holds for the contact that there is. */
static void follow_sensing(ikv_overlaps *o, overlap_touch *t, uint32_t side)
{
    overlap_contact *c = contact_at(o, t->contact[side]);
    const near_part *part = part_at(o, t->part[side]);
    uint32_t own = side_in(c, t, side);
    bool always = part->inside == IKV_INSIDE_ALWAYS;
    c->linger[own] = part->linger;
    if (t->always[side] != always)
        c->always[own] += always ? 1u : UINT32_MAX;
    t->always[side] = always;
}

static void hold_contact(ikv_overlaps *o, overlap_touch *t, uint32_t side,
                         uint32_t index)
{
    overlap_contact *c = contact_at(o, index);
    uint64_t pair = (uint64_t)t->part[0] << 32 | t->part[1];
    IKVI_CHECK(t->contact[side] == NO_TOUCH);
    t->contact[side] = index;
    c->pieces[side_in(c, t, side)]++;
    follow_sensing(o, t, side);
    /* The lowest pair's place, while nobody has been told: whatever the order
     * in which touches were found. */
    if (c->pair_key == 0 ||
        (!c->entered[0] && !c->entered[1] && pair < c->pair_key)) {
        memcpy(c->at, t->at, sizeof c->at);
        c->pair_key = pair;
    }
    contact_changed(o, index);
}

static void detach_contact(ikv_overlaps *o, overlap_touch *t, uint32_t side,
                           uint8_t reason)
{
    uint32_t index = t->contact[side];
    if (index == NO_TOUCH)
        return;
    overlap_contact *c = contact_at(o, index);
    uint32_t own = side_in(c, t, side);
    IKVI_CHECK(c->pieces[own] > 0 && c->always[own] >= t->always[side]);
    c->pieces[own]--;
    c->always[own] -= t->always[side];
    /* Of several that end the gravest is told: reasons are sorted so. */
    if (reason > c->reason[own])
        c->reason[own] = reason;
    t->contact[side] = NO_TOUCH;
    t->always[side] = false;
    contact_changed(o, index);
}

/* -------------------------------------------------------------- touches -- */

uint32_t ikvi_touch_find(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t first = part_at(o, a)->target, second = part_at(o, b)->target;
    uint32_t at = *touch_head(o, pair_hash(o, first, second));
    while (at != NO_TOUCH && (touch_at(o, at)->target[0] != first ||
                              touch_at(o, at)->target[1] != second))
        at = touch_at(o, at)->next_hash;
    return at;
}

/* Makes each side hold the contact that it wants now; false if there is no
 * room. `fresh`: it can hold none that is there already, unless one lingers, is
 * of bodies, or has lost its touch in this step. */
static bool attach_contacts(ikv_overlaps *o, uint32_t index, bool fresh,
                            uint8_t reason)
{
    overlap_touch *t = touch_at(o, index);
    /* First all that may fail for lack of room; then what is held changes. */
    uint32_t wanted[SIDES] = {NO_TOUCH, NO_TOUCH};
    for (uint32_t side = 0; side < SIDES; side++) {
        uint32_t party[SIDES], body[SIDES];
        uint8_t scope;
        if (!wanted_contact(o, t, side, party, &scope))
            continue;
        if (side == 1 && wanted[0] != NO_TOUCH &&
            contact_at(o, wanted[0])->scope == scope)
            wanted[side] = wanted[0]; /* of the same two */
        else if (!fresh || scope == IKV_OVERLAP_OF_BODIES ||
                 o->s.lingering > 0 || o->ended_early)
            wanted[side] = find_contact(o, party[0], party[1], scope);
        for (uint32_t i = 0; i < SIDES; i++)
            body[i] = scope == IKV_OVERLAP_OF_BODIES ? party[i]
                                                     : body_bits(o, t->part[i]);
        if (wanted[side] == NO_TOUCH)
            wanted[side] = make_contact(o, t, party, body, scope);
        if (wanted[side] == NO_TOUCH)
            return false;
        /* Until it is held it may be freed with what is changed. */
        contact_changed(o, wanted[side]);
    }
    /* What is let go first may be held again: a contact with no piece left
     * lives to the step's end. */
    for (uint32_t side = 0; side < SIDES; side++)
        if (t->contact[side] != wanted[side])
            detach_contact(o, t, side, reason);
    for (uint32_t side = 0; side < SIDES; side++) {
        t->body[side] = body_bits(o, t->part[side]);
        if (t->contact[side] == NO_TOUCH && wanted[side] != NO_TOUCH)
            hold_contact(o, t, side, wanted[side]);
        else if (t->contact[side] != NO_TOUCH)
            follow_sensing(o, t, side);
    }
    return true;
}

static void free_touch(ikv_overlaps *o, uint32_t index)
{
    overlap_touch *t = touch_at(o, index);
    IKVI_CHECK(t->contact[0] == NO_TOUCH && t->contact[1] == NO_TOUCH);
    uint32_t *link = touch_head(o, pair_hash(o, t->target[0], t->target[1]));
    while (*link != index)
        link = &touch_at(o, *link)->next_hash;
    *link = t->next_hash;
    /* The pair's candidate still names it: who ends a touch sets that. */
    link_out(o, LIST_OF_TOUCHES, index, 0);
    link_out(o, LIST_OF_TOUCHES, index, 1);
    t->by = 0;
    t->next_hash = o->s.free_touch;
    o->s.free_touch = index;
    o->s.counters.touching--;
}

static void drop_report(ikv_overlaps *o, uint32_t index)
{
    uint32_t at = touch_at(o, index)->reported;
    IKVI_CHECK(at < o->s.report_count && *reported_at(o, at) == index);
    /* The last one takes its place: their order says nothing. */
    uint32_t last = *reported_at(o, --o->s.report_count);
    *reported_at(o, at) = last;
    touch_at(o, last)->reported = at;
}

void ikvi_touch_end(ikv_overlaps *o, uint32_t touch, uint8_t by, uint8_t reason)
{
    overlap_touch *t = touch_at(o, touch);
    if (t->by & by & TOUCH_REPORTED)
        drop_report(o, touch);
    t->by &= (uint8_t)~by;
    if (t->by != 0)
        return;
    detach_contact(o, t, 0, reason);
    detach_contact(o, t, 1, reason);
    free_touch(o, touch);
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

static uint32_t make_touch(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t index = o->s.free_touch;
    if (index == NO_TOUCH)
        return NO_TOUCH;
    IKVI_CHECK(a < b && ikvi_touch_find(o, a, b) == NO_TOUCH); /* overlap-2 */
    overlap_touch *t = touch_at(o, index);
    o->s.free_touch = t->next_hash;
    *t = (overlap_touch){
        .target = {part_at(o, a)->target, part_at(o, b)->target},
        .part = {a, b},
        .contact = {NO_TOUCH, NO_TOUCH}};
    uint32_t *head = touch_head(o, pair_hash(o, t->target[0], t->target[1]));
    t->next_hash = *head;
    *head = index;
    link_in(o, LIST_OF_TOUCHES, index, 0);
    link_in(o, LIST_OF_TOUCHES, index, 1);
    o->s.counters.touching++;
    /* How far the array has ever been in use: ending what was not checked looks
     * no further. */
    if (index >= o->s.touches_high)
        o->s.touches_high = index + 1;
    return index;
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
static void move_point(ikv_overlaps *o, overlap_touch *t, const float *point)
{
    uint64_t pair = (uint64_t)t->part[0] << 32 | t->part[1];
    if (point == NULL)
        return;
    memcpy(t->at, point, sizeof t->at);
    for (uint32_t side = 0; side < SIDES; side++)
        if (t->contact[side] != NO_TOUCH &&
            contact_at(o, t->contact[side])->pair_key == pair)
            memcpy(contact_at(o, t->contact[side])->at, point, sizeof t->at);
}

/* `fresh`: a pair that is new this step can't be known by its shape, only by a
 * report. On a lack of room nothing is half made, and the pair is tried again.
 * */
uint32_t ikvi_touch_begin(ikv_overlaps *o, uint32_t a, uint32_t b, uint8_t by,
                          bool fresh, const float *point)
{
    bool known = !fresh || o->s.report_count > 0;
    uint32_t index = known ? ikvi_touch_find(o, a, b) : NO_TOUCH;
    bool made = index == NO_TOUCH;
    if (made && !either_senses(summary_at(o, a), summary_at(o, b)))
        return NO_TOUCH;
    if (made)
        index = make_touch(o, a, b);
    if (index == NO_TOUCH)
        return no_room(o, a, b);
    overlap_touch *t = touch_at(o, index);
    if (made && by == TOUCH_BY_SHAPE)
        middle_of(o, a, b, t->at);
    if (made &&
        !attach_contacts(o, index, !o->s.has_reports, IKV_OVERLAP_APART)) {
        free_touch(o, index);
        return no_room(o, a, b);
    }
    if (by == TOUCH_REPORTED) {
        move_point(o, t, point);
        t->told = o->s.turn;
        if ((t->by & TOUCH_REPORTED) == 0) {
            t->reported = o->s.report_count;
            *reported_at(o, o->s.report_count++) = index;
        }
    }
    t->by |= by;
    if (by == TOUCH_BY_SHAPE)
        t->checked = o->s.turn;
    return index;
}

/* After all that meet were looked at. */
void ikvi_touch_end_unchecked(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->s.touches_high; i++) {
        const overlap_touch *t = touch_at(o, i);
        if ((t->by & TOUCH_BY_SHAPE) != 0 && t->checked != o->s.turn)
            ikvi_touch_end(o, i, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
    }
}

void ikvi_touch_pass(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t index = ikvi_touch_begin(o, a, b, TOUCH_BY_SHAPE, false, NULL);
    if (index == NO_TOUCH)
        return;
    const overlap_touch *t = touch_at(o, index);
    for (uint32_t side = 0; side < SIDES; side++)
        if (t->contact[side] != NO_TOUCH) {
            overlap_contact *c = contact_at(o, t->contact[side]);
            c->passed[side_in(c, t, side)] = true;
        }
    ikvi_touch_end(o, index, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
}

void ikvi_touch_refresh(ikv_overlaps *o, uint32_t part)
{
    uint32_t at = part_at(o, part)->touches;
    while (at != NO_TOUCH) {
        uint32_t after = touch_at(o, at / 2)->links.after[at % 2];
        if (!attach_contacts(o, at / 2, false, IKV_OVERLAP_DISABLED))
            no_room(o, touch_at(o, at / 2)->part[0],
                    touch_at(o, at / 2)->part[1]);
        at = after;
    }
}

void ikvi_touch_end_all(ikv_overlaps *o, uint32_t part, uint8_t by,
                        uint8_t reason)
{
    uint32_t at = part_at(o, part)->touches;
    while (at != NO_TOUCH) {
        uint32_t after = touch_at(o, at / 2)->links.after[at % 2];
        ikvi_touch_end(o, at / 2, by, reason);
        o->ended_early = true;
        at = after;
    }
}

void ikvi_touch_end_reports(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->s.report_count;) {
        uint32_t index = *reported_at(o, i);
        if (touch_at(o, index)->told == o->s.turn)
            i++;
        else
            ikvi_touch_end(o, index, TOUCH_REPORTED, IKV_OVERLAP_APART);
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
    /* Stable and without recursion: keys differ, but that need not be relied
     * on. */
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

/* What will be needed a little later. */
static inline void fetch_contact(const ikv_overlaps *o, uint32_t nth)
{
    if (nth < o->s.changed_count) {
        const overlap_contact *c = contact_at(o, changed_at(o, nth)->contact);
        IKVI_FETCH(c);
        IKVI_FETCH(&c->pieces);
        IKVI_FETCH(part_at(o, (uint32_t)(changed_at(o, nth)->key >> 32)));
    }
}

/* O2: leaves first, then enters, each side its own. */
static void tell_leaves(ikv_overlaps *o, uint64_t time_ns, bool passed)
{
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        uint32_t index = changed_at(o, i)->contact;
        overlap_contact *c = contact_at(o, index);
        fetch_contact(o, i + 6);
        /* Settled for both before either is told. */
        bool leaves[SIDES];
        for (uint32_t side = 0; side < SIDES; side++)
            leaves[side] = c->entered[side] && c->pieces[side] == 0 &&
                           c->passed[side] == passed && has_left(o, c, side);
        bool mirror = false;
        for (uint32_t side = 0; side < SIDES; side++) {
            if (!leaves[side])
                continue;
            c->entered[side] = c->lingers[side] = false;
            /* Before it is told: a query in the handler finds it ended. */
            link_out(o, LIST_OF_CONTACTS, index, side);
            mirror = tell_side(o, IKV_KIND_OVERLAP_LEAVE, index, side, mirror,
                               time_ns);
        }
    }
}

/* Both sides hear of one moment: who enters is settled for both before either
 * is told, as a handler may remove a party. */
static void tell_enters(ikv_overlaps *o, uint64_t time_ns)
{
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        uint32_t index = changed_at(o, i)->contact;
        overlap_contact *c = contact_at(o, index);
        fetch_contact(o, i + 6);
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
            link_in(o, LIST_OF_CONTACTS, index, side);
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
                list[count++] =
                    (overlap_notice){(uint64_t)c->place[0] << 32 |
                                         (uint64_t)c->place[1] << 1 | c->scope,
                                     at};
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

/* Contacts that linger are looked at in each step; the rest of those that have
 * changed is settled, and freed if nothing holds it. */
static void clean_up(ikv_overlaps *o)
{
    uint32_t kept = 0;
    for (uint32_t i = 0; i < o->s.changed_count; i++) {
        overlap_notice notice = *changed_at(o, i);
        overlap_contact *c = contact_at(o, notice.contact);
        fetch_contact(o, i + 6);
        IKVI_CHECK(c->pending);
        c->passed[0] = c->passed[1] = false;
        c->reason[0] = c->reason[1] = IKV_OVERLAP_APART;
        /* Looked at in the next step as well: it may have been apart long
         * enough. */
        if (c->lingers[0] || c->lingers[1]) {
            *changed_at(o, kept++) = notice;
            continue;
        }
        c->pending = false;
        if (c->pieces[0] + c->pieces[1] == 0 && !c->entered[0] &&
            !c->entered[1])
            free_contact(o, notice.contact);
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
        tell_leaves(o, time_ns, true);
    }
    clean_up(o);
    tell_insides(o, time_ns);
}

/* ----------------------------------------------------------- validating -- */

static const char *validate_touch(const ikv_overlaps *o, uint32_t index)
{
    const overlap_touch *t = touch_at(o, index);
    if (ikvi_touch_find(o, t->part[0], t->part[1]) != index || t->by == 0)
        return "overlap-2";
    for (uint32_t side = 0; side < SIDES; side++) {
        uint32_t at = part_at(o, t->part[side])->touches;
        while (at != NO_TOUCH && at != index * 2 + side)
            at = touch_at(o, at / 2)->links.after[at % 2];
        if (at == NO_TOUCH)
            return "overlap-2";
        if (t->contact[side] != NO_TOUCH &&
            contact_at(o, t->contact[side])
                    ->pieces[side_in(contact_at(o, t->contact[side]), t,
                                     side)] == 0)
            return "overlap-3";
    }
    return NULL;
}

const char *ikvi_contact_validate(const ikv_overlaps *o)
{
    uint32_t touches = 0, contacts = 0, held = 0, pieces = 0;
    for (uint32_t i = 0; i < o->heads; i++) {
        for (uint32_t at = *touch_head(o, i); at != NO_TOUCH;
             at = touch_at(o, at)->next_hash, touches++) {
            const char *broken = validate_touch(o, at);
            if (broken != NULL)
                return broken;
            for (uint32_t side = 0; side < SIDES; side++)
                held += touch_at(o, at)->contact[side] != NO_TOUCH;
        }
        for (uint32_t at = *contact_head(o, i); at != NO_TOUCH;
             at = contact_at(o, at)->next_hash, contacts++) {
            const overlap_contact *c = contact_at(o, at);
            pieces += c->pieces[0] + c->pieces[1];
            if (!c->pending && c->pieces[0] + c->pieces[1] == 0)
                return "overlap-5";
            for (uint32_t side = 0; side < SIDES; side++) {
                uint32_t in = part_at(o, c->place[side])->contacts;
                while (in != NO_TOUCH && in != at * 2 + side)
                    in = contact_at(o, in / 2)->links.after[in % 2];
                if ((in != NO_TOUCH) != c->entered[side])
                    return "overlap-4";
            }
        }
    }
    if (held != pieces)
        return "overlap-3";
    return touches == o->s.counters.touching &&
                   contacts == o->s.counters.contacts
               ? NULL
               : "overlap-2";
}
