/* action_sets.c - actions that are switched on and off together. */
#include "action_internal.h"

ikv_status ikv_actions_find_set(const ikv_actions *actions, const char *name,
                                ikv_action_set *set)
{
    if (actions == NULL || name == NULL || set == NULL)
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; i < actions->s.set_count; i++)
        if (ikvi_same(ikv_actions_set_name(actions, (ikv_action_set)i), name)) {
            *set = (ikv_action_set)i;
            return IKV_OK;
        }
    return IKV_UNKNOWN_NAME;
}

ikv_status ikv_actions_add_set(ikv_actions *actions, const char *name,
                               ikv_action_set *set)
{
    ikv_action_set known;
    if (actions == NULL || name == NULL || set == NULL)
        return IKV_BAD_ARGUMENT;
    if (ikv_actions_find_set(actions, name, &known) == IKV_OK)
        return IKV_DUPLICATE;
    if (actions->s.set_count == actions->set_room)
        return IKV_FULL_SETS;
    uint32_t kept = ikvi_names_keep(&actions->s.names, actions, name);
    if (kept == 0)
        return IKV_FULL_NAMES;
    *action_set_at(actions, actions->s.set_count) = (action_set){.name = kept};
    *set = (ikv_action_set)actions->s.set_count++;
    return IKV_OK;
}

const char *ikv_actions_set_name(const ikv_actions *actions, ikv_action_set set)
{
    return actions != NULL && set < actions->s.set_count
               ? ikvi_names_text(&actions->s.names, actions,
                                 action_set_at(actions, set)->name)
               : NULL;
}

static uint8_t seats_on(const ikv_actions *a, uint32_t set)
{
    uint8_t on = 0;
    for (uint32_t seat = 0; seat < a->seats; seat++)
        if (ikv_actions_is_on(a, (ikv_action_set)set, (uint8_t)seat))
            on |= (uint8_t)(1u << seat);
    return on;
}

/* Before sets are switched. */
static void note_sets(ikv_actions *a)
{
    for (uint32_t i = 0; a->resolving && i < a->s.set_count; i++)
        action_set_at(a, i)->was = seats_on(a, i);
}

/* A3: the press whose handler switched a set on starts nothing of it. */
static void hold_back_fresh(ikv_actions *a)
{
    for (uint32_t i = 0; a->resolving && i < a->s.set_count; i++) {
        action_set *set = action_set_at(a, i);
        set->fresh |= seats_on(a, i) & (uint8_t)~set->was;
        a->fresh = a->fresh || set->fresh != 0;
    }
}

static void end_what_is_off(ikv_actions *a)
{
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth);
        ikv_action_set set = action_row_at(a, ikvi_held_action(a, index))->set;
        if (ikv_actions_is_on(a, set, (uint8_t)held_seat(a, index))) {
            nth++;
            continue;
        }
        ikvi_held_release(a, index);
        /* A handler of the end may have changed what is held. */
        nth = 0;
    }
}

/* A3: what is held ends with its set. */
ikv_status ikv_actions_switch(ikv_actions *actions, ikv_action_set set,
                              uint8_t seat, bool on)
{
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    if (set >= actions->s.set_count)
        return IKV_UNKNOWN_NAME;
    uint32_t bits = seats_named(actions, seat);
    action_set *s = action_set_at(actions, set);
    note_sets(actions);
    /* Sets are on unless switched off: 0 is how they begin. */
    s->off = (uint8_t)(on ? s->off & ~bits : s->off | bits);
    hold_back_fresh(actions);
    if (!on)
        end_what_is_off(actions);
    return IKV_OK;
}

/* ------------------------------------------------------- what is held -- */

/* A5: a longer chord has the press, which began before. */
static bool is_shadowed(const ikv_actions *a, uint32_t place, uint32_t seat)
{
    const action_shape *shape = &binding_at(a, place)->shape;
    for (uint32_t nth = 0; nth < a->s.held_count; nth++) {
        uint32_t index = *held_at(a, nth);
        if (index >= first_fed(a) || held_seat(a, index) != seat)
            continue;
        const action_shape *held = &binding_at(a, held_place(a, index))->shape;
        action_part last = held->parts[held->count - 1];
        if (!held->axis && held->count > shape->count &&
            last.type == shape->parts[shape->count - 1].type &&
            last.number == shape->parts[shape->count - 1].number)
            return true;
    }
    return false;
}

/* The next of those with that length that are held already, in the order of
 * binding: bound since `from`, and before `to`. */
static uint32_t next_held(const ikv_actions *a, ikv_action_set set,
                          uint32_t seat, uint32_t length, uint32_t from,
                          uint32_t to)
{
    uint32_t found = NO_PLACE;
    for (uint32_t at = 0; at < a->s.binding_slots.capacity; at++) {
        const action_binding *b = binding_at(a, at);
        if (ikvi_slots_at(&a->s.binding_slots, a, at)->next == IKVI_IN_USE &&
            action_row_at(a, b->action)->set == set &&
            ikvi_chord_length(b) == length && b->born - from < to - from &&
            !is_shadowed(a, at, seat) && ikvi_binding_is_held(a, at, seat)) {
            to = b->born;
            found = at;
        }
    }
    return found;
}

/* Its bindings that are held already, the longest chords first. A handler may do
 * anything to what is looked through; what it binds waits for its next press. */
static void start_held(ikv_actions *a, ikv_action_set set, uint32_t seat)
{
    /* All that is bound was so within half of what the count can tell. */
    const uint32_t births = a->s.births, first = births - (UINT32_C(1) << 31);
    bool was = a->synthetic;
    a->synthetic = true;
    a->s.time_ns = action_now(a);
    for (uint32_t length = ACTION_PARTS; length > 0; length--) {
        uint32_t from = first, place;
        while (ikv_actions_is_on(a, set, (uint8_t)seat) &&
               (place = next_held(a, set, seat, length, from, births)) !=
                   NO_PLACE) {
            from = binding_at(a, place)->born + 1;
            ikvi_binding_start_held(a, place, seat);
        }
    }
    a->synthetic = was;
}

ikv_status ikv_actions_start_held(ikv_actions *actions, ikv_action_set set,
                                  uint8_t seat)
{
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    if (set >= actions->s.set_count)
        return IKV_UNKNOWN_NAME;
    for (uint32_t i = 0; i < actions->seats; i++)
        if (seats_named(actions, seat) >> i & 1)
            start_held(actions, set, i);
    return IKV_OK;
}

/* ------------------------------------------------------------- the stack -- */

/* A3: what is not on any more ends, at once. */
ikv_status ikv_actions_push(ikv_actions *actions, ikv_action_set set,
                            uint8_t seat, bool joins)
{
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    if (set >= actions->s.set_count)
        return IKV_UNKNOWN_NAME;
    uint32_t count = seat == IKV_ALL_SEATS ? actions->seats : 1;
    if (actions->s.pushed_count + count > IKV_PUSH_LIMIT)
        return IKV_FULL_PUSHED;
    note_sets(actions);
    for (uint32_t i = 0; i < actions->seats; i++)
        if (seats_named(actions, seat) >> i & 1)
            actions->s.pushed[actions->s.pushed_count++] =
                (action_push){set, (uint8_t)i, joins};
    hold_back_fresh(actions);
    end_what_is_off(actions);
    return IKV_OK;
}

static bool pop_set(ikv_actions *a, uint32_t seat)
{
    uint32_t at = a->s.pushed_count;
    IKVI_CHECK(at <= IKV_PUSH_LIMIT);
    while (at > 0 && a->s.pushed[at - 1].seat != seat)
        at--;
    if (at == 0)
        return false;
    a->s.pushed_count--;
    for (uint32_t i = at - 1; i < a->s.pushed_count; i++)
        a->s.pushed[i] = a->s.pushed[i + 1];
    return true;
}

ikv_status ikv_actions_pop(ikv_actions *actions, uint8_t seat)
{
    bool some = false;
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    note_sets(actions);
    for (uint32_t i = 0; i < actions->seats; i++)
        if (seats_named(actions, seat) >> i & 1)
            some = pop_set(actions, i) || some;
    hold_back_fresh(actions);
    end_what_is_off(actions);
    return some ? IKV_OK : IKV_ABSENT;
}

ikv_status ikv_actions_pushed(const ikv_actions *actions, uint8_t seat,
                              uint32_t nth, ikv_action_set *set)
{
    if (actions == NULL || seat >= ACTION_SEATS || set == NULL)
        return IKV_BAD_ARGUMENT;
    seat = action_seat(actions, seat);
    for (uint32_t i = actions->s.pushed_count; i-- > 0;)
        if (actions->s.pushed[i].seat == seat && nth-- == 0) {
            *set = actions->s.pushed[i].set;
            return IKV_OK;
        }
    return IKV_ABSENT;
}
