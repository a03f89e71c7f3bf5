/* acted_calls.c - what is called of the model of actions: sets, bindings, feeds,
 * toggles.
 */
#include "acted_model.h"

static bool is_named(uint32_t seat, uint32_t which)
{
    return seat == IKV_ALL_SEATS || seat == which;
}

static void note_sets(const model *m, bool on[SETS][SEATS])
{
    for (uint32_t set = 0; set < SETS; set++)
        for (uint32_t seat = 0; seat < SEATS; seat++)
            on[set][seat] = set_is_on(m, set, seat);
}

/* A3: what has come on starts nothing by the press that is taken; what is off
 * ends. */
static void sets_changed(model *m, bool was[SETS][SEATS], bool ends)
{
    for (uint32_t set = 0; m->resolving && set < SETS; set++)
        for (uint32_t seat = 0; seat < SEATS; seat++)
            m->fresh[set][seat] |= set_is_on(m, set, seat) && !was[set][seat];
    for (int at = 0; ends && at < m->held_count;) {
        holder h = m->held[at++];
        if (!action_is_on(m, action_of(m, &h), h.seat)) {
            let_go(m, h, true);
            at = 0;
        }
    }
}

static ikv_status model_switch(side *s, uint32_t set, uint32_t seat, bool on)
{
    model *m = (model *)s;
    bool was[SETS][SEATS];
    note_sets(m, was);
    for (uint32_t i = 0; i < SEATS; i++)
        if (is_named(seat, i))
            m->off[set][i] = !on;
    sets_changed(m, was, !on);
    return IKV_OK;
}

static ikv_status model_push(side *s, uint32_t set, uint32_t seat, bool joins)
{
    model *m = (model *)s;
    bool was[SETS][SEATS];
    if (m->pushed_count + (seat == IKV_ALL_SEATS ? SEATS : 1) > PUSHED)
        return IKV_FULL_PUSHED;
    note_sets(m, was);
    for (uint32_t i = 0; i < SEATS; i++)
        if (is_named(seat, i)) {
            m->pushed[m->pushed_count].set = set;
            m->pushed[m->pushed_count].seat = i;
            m->pushed[m->pushed_count++].joins = joins;
        }
    sets_changed(m, was, true);
    return IKV_OK;
}

static ikv_status model_pop(side *s, uint32_t seat)
{
    model *m = (model *)s;
    bool was[SETS][SEATS], some = false;
    note_sets(m, was);
    for (uint32_t i = 0; i < SEATS; i++) {
        int at = m->pushed_count - 1;
        while (at >= 0 && m->pushed[at].seat != i)
            at--;
        if (!is_named(seat, i) || at < 0)
            continue;
        some = true;
        m->pushed_count--;
        for (; at < m->pushed_count; at++)
            m->pushed[at] = m->pushed[at + 1];
    }
    sets_changed(m, was, true);
    return some ? IKV_OK : IKV_ABSENT;
}

/* A longer chord that is held has its last part. */
static bool is_shadowed(const model *m, int n, uint32_t seat)
{
    const shape *form = m->bindings[n].shape;
    part last = form->parts[form->count - 1];
    for (int i = 0; i < m->held_count; i++) {
        if (m->held[i].fed || m->held[i].seat != seat)
            continue;
        const shape *other = m->bindings[m->held[i].number].shape;
        part own = other->parts[other->count - 1];
        if (!other->axis && other->count > form->count &&
            own.type == last.type && own.number == last.number)
            return true;
    }
    return false;
}

/* What is held starts as if pressed now, but for the press whose handlers run
 * now; not what is over at once, nor what toggles. */
static bool is_held_already(const model *m, int n, uint32_t seat, part *by)
{
    const bound *b = &m->bindings[n];
    const shape *form = b->shape;
    part parts[TRIGGERS];
    float values[3];
    int count = 0;
    *by = form->parts[form->count - 1];
    if (b->run[seat].on || b->leaves > 0 || m->actions[b->action].leaves > 0 ||
        m->actions[b->action].toggles[seat])
        return false;
    for (int i = 0; form->axis && i < form->count; i++)
        if (is_down(m, form->parts[i], seat))
            *by = form->parts[i];
    if (m->pressed != NULL && !m->releases && m->pressed->seat == seat)
        count = parts_of(m->pressed, false, parts);
    for (int i = 0; i < count; i++)
        if (parts[i].type == by->type && parts[i].number == by->number)
            return false;
    return by->type != OF_MOVE && measure(m, form, seat, false, values);
}

static void start_as_held(model *m, int n, uint32_t seat, part by)
{
    static const ikv_kind kinds[] = {
        [OF_KEY] = IKV_KIND_KEY_DOWN,       [OF_MODIFIER] = IKV_KIND_KEY_DOWN,
        [OF_ANY_KEY] = IKV_KIND_KEY_DOWN,   [OF_BUTTON] = IKV_KIND_POINTER_DOWN,
        [OF_PAD] = IKV_KIND_PAD_DOWN,       [OF_AXIS] = IKV_KIND_PAD_AXIS,
        [OF_AXIS_PLUS] = IKV_KIND_PAD_AXIS, [OF_AXIS_MINUS] = IKV_KIND_PAD_AXIS,
        [OF_STICK] = IKV_KIND_PAD_AXIS,     [OF_VALUE] = IKV_KIND_PAD_VALUE};
    ikv_event e = ikv_event_make(kinds[by.type], m->time_ns);
    bound *b = &m->bindings[n];
    float values[3];
    (void)measure(m, b->shape, seat, false, values);
    b->run[seat].value = values[0];
    b->run[seat].x = values[1];
    b->run[seat].y = values[2];
    e.seat = (uint8_t)seat;
    if (by.type == OF_BUTTON)
        e.device = (uint16_t)(3 + seat);
    start(m, n, seat, &e);
}

static void start_held(model *m, uint32_t set, uint32_t seat)
{
    uint32_t births = m->births;
    bool was = m->synthetic;
    m->synthetic = true;
    for (int length = PARTS; length > 0; length--) {
        uint32_t from = 0;
        while (set_is_on(m, set, seat)) {
            int next = NOBODY;
            part by;
            for (int i = 0; i < BINDINGS; i++) {
                const bound *b = &m->bindings[i];
                if (m->bindings[i].there &&
                    (uint32_t)set_of(b->action) == set &&
                    length_of(b->shape) == length && b->born >= from &&
                    b->born < births && !is_shadowed(m, i, seat) &&
                    is_held_already(m, i, seat, &by) &&
                    (next == NOBODY || b->born < m->bindings[next].born))
                    next = i;
            }
            if (next == NOBODY)
                break;
            from = m->bindings[next].born + 1;
            if (is_held_already(m, next, seat, &by))
                start_as_held(m, next, seat, by);
        }
    }
    m->synthetic = was;
}

static ikv_status model_start_held(side *s, uint32_t set, uint32_t seat)
{
    model *m = (model *)s;
    for (uint32_t i = 0; i < SEATS; i++)
        if (is_named(seat, i))
            start_held(m, set, i);
    return IKV_OK;
}

static ikv_status model_bind(side *s, int action, uint32_t form, int number)
{
    model *m = (model *)s;
    if (!m->actions[action].there)
        return IKV_STALE;
    m->bindings[number] = (bound){.there = true,
                                  .action = action,
                                  .shape = &shapes[form],
                                  .born = m->births++};
    /* Not with the press whose handler binds it. */
    for (uint32_t seat = 0; seat < SEATS; seat++)
        m->bindings[number].run[seat].tried = m->pressed != NULL;
    return IKV_OK;
}

/* Its end is told while it is there. A handler of that may unbind it too, and
 * bind another one by its number. */
static ikv_status model_unbind(side *s, int number)
{
    model *m = (model *)s;
    bound *b = &m->bindings[number];
    uint32_t born = b->born;
    if (!b->there)
        return IKV_ABSENT;
    b->leaves++;
    for (uint32_t seat = 0; seat < SEATS; seat++)
        if (b->there && b->born == born && b->run[seat].on)
            let_go(m, (holder){false, number, seat}, true);
    if (b->born != born)
        return IKV_OK;
    b->leaves--;
    b->there = false;
    return IKV_OK;
}

static int first_of(const model *m, int action)
{
    int first = NOBODY;
    for (int i = 0; i < BINDINGS; i++)
        if (m->bindings[i].there && m->bindings[i].action == action &&
            (first == NOBODY || m->bindings[i].born < m->bindings[first].born))
            first = i;
    return first;
}

/* A handler of an end may remove it too, and add it again: then it is another
 * one. */
static ikv_status model_remove(side *s, int number)
{
    model *m = (model *)s;
    game_action *a = &m->actions[number];
    int life = s->lives[number];
    if (!a->there)
        return IKV_ABSENT;
    a->leaves++;
    while (s->lives[number] == life && first_of(m, number) != NOBODY)
        model_unbind(s, first_of(m, number));
    for (uint32_t seat = 0; seat < SEATS; seat++)
        if (s->lives[number] == life && a->there && a->run[seat].fed)
            let_go(m, (holder){true, number, seat}, true);
    if (s->lives[number] != life)
        return IKV_OK;
    a->leaves--;
    /* Or bind it anew. */
    if (a->there && first_of(m, number) != NOBODY)
        return model_remove(s, number);
    a->there = false;
    return IKV_OK;
}

static ikv_status model_add(side *s, int number)
{
    model *m = (model *)s;
    if (m->actions[number].there)
        return IKV_DUPLICATE;
    m->actions[number] = (game_action){.there = true};
    return IKV_OK;
}

static ikv_status model_toggle(side *s, int number, uint32_t seat, bool on)
{
    model *m = (model *)s;
    game_action *a = &m->actions[number];
    if (!a->there)
        return IKV_STALE;
    for (uint32_t i = 0; i < SEATS; i++)
        if (is_named(seat, i))
            a->toggles[i] = on;
    for (uint32_t i = 0; !on && i < SEATS; i++)
        if (a->there && is_named(seat, i) && a->run[i].left_on)
            let_go(m, (holder){true, number, i}, m->synthetic);
    return IKV_OK;
}

static ikv_status model_feed(side *s, int number, uint32_t seat, float x,
                             float y)
{
    model *m = (model *)s;
    ikv_event cause = ikv_event_make(IKV_KIND_ACTION_FEED, m->time_ns);
    if (!m->actions[number].there || m->actions[number].leaves > 0)
        return IKV_STALE;
    if (!action_is_on(m, number, seat))
        return IKV_ABSENT;
    feed_action(m, number, seat, x, y, &cause);
    return IKV_OK;
}

static ikv_status model_repeat(side *s, uint32_t seat, uint64_t after_ns,
                               uint64_t every_ns)
{
    model *m = (model *)s;
    for (uint32_t i = 0; i < SEATS; i++)
        if (is_named(seat, i)) {
            m->after_ns[i] = after_ns;
            m->every_ns[i] = every_ns;
        }
    return IKV_OK;
}

const side model_calls = {.switch_set = model_switch,
                          .push = model_push,
                          .pop = model_pop,
                          .start_held = model_start_held,
                          .bind = model_bind,
                          .unbind = model_unbind,
                          .add = model_add,
                          .remove = model_remove,
                          .toggle = model_toggle,
                          .feed = model_feed,
                          .repeat = model_repeat};
