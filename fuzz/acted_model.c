/* acted_model.c - the rules of actions (docs/actions.md, A1 to A9) without lists
 * by trigger, places or marks: all bindings are looked at each time.
 */
#include "acted.h"

enum {
    HELD = (BINDINGS + ACTIONS) * SEATS,
    QUEUE = 16,
    PUSHED = IKV_PUSH_LIMIT,
    TRIGGERS = 8
};

/* What holds an action: one of its bindings, or that it is fed. */
typedef struct holder {
    bool fed;
    int number; /* of the binding, or of the action */
    uint32_t seat;
} holder;

typedef struct bound {
    bool there;
    int leaves; /* how many calls unbind it */
    int action;
    const shape *shape;
    uint32_t born;
    struct {
        bool on, tried;
        float value, x, y;
        uint32_t device; /* whose button it is */
    } run[SEATS];
} bound;

typedef struct game_action {
    bool there;
    int leaves; /* how many calls remove it */
    bool toggles[SEATS];
    struct {
        int on; /* how many hold it */
        bool fed, left_on, told;
        float fed_x, fed_y, value, x, y;
        uint32_t fed_device, steps, repeats;
        int binding;
        ikv_event cause;
    } run[SEATS];
} game_action;

typedef struct model {
    side s; /* first */
    bool key[SEATS][CODES], pad[SEATS][PAD_BUTTONS];
    int button[SEATS];
    bound bindings[BINDINGS];
    uint32_t births;
    game_action actions[ACTIONS];
    holder held[HELD];
    int held_count;
    bool off[SETS][SEATS], fresh[SETS][SEATS];
    struct {
        uint32_t set, seat;
        bool joins;
    } pushed[PUSHED];
    int pushed_count;
    uint64_t after_ns[SEATS], every_ns[SEATS];
    struct {
        ikv_event event;
        bool claimed, release;
        int life; /* of the action that is fed */
    } queue[QUEUE];
    int queue_count;
    /* Of what goes on now. */
    bool resolving, synthetic;
    const ikv_event *pressed; /* is being taken */
    bool releases;
    uint64_t time_ns, started, passed_over;
} model;

static int set_of(int action)
{
    return action % SETS;
}

static float size_of(float value)
{
    return value < 0 ? -value : value;
}

/* ------------------------------------------------------------------ sets -- */

/* A3: from the top down to what hides the rest. */
static bool is_on(const model *m, uint32_t set, uint32_t seat)
{
    for (int i = m->pushed_count - 1; i >= 0; i--) {
        if (m->pushed[i].seat != seat)
            continue;
        if (m->pushed[i].set == set || !m->pushed[i].joins)
            return m->pushed[i].set == set;
    }
    return !m->off[set][seat];
}

static bool action_is_on(const model *m, int number, uint32_t seat)
{
    return is_on(m, (uint32_t)set_of(number), seat);
}

/* ----------------------------------------------------------- what is held -- */

static bool is_down(const model *m, part p, uint32_t seat)
{
    bool shift = m->key[seat][5] || m->key[seat][6];
    bool any = false;
    switch (p.type) {
    case OF_KEY:
        return m->key[seat][p.number];
    case OF_MODIFIER:
        return p.number == IKV_SHIFT ? shift : m->key[seat][7];
    case OF_ANY_KEY:
        for (int i = 0; i < CODES; i++)
            any = any || m->key[seat][i];
        return any;
    case OF_BUTTON:
        return m->button[seat] == (int)p.number;
    case OF_PAD:
        return m->pad[seat][p.number];
    default:
        return false; /* it is over at once */
    }
}

static bool others_are_down(const model *m, const shape *form, uint32_t seat)
{
    for (int i = 0; i + 1 < form->count; i++)
        if (!is_down(m, form->parts[i], seat))
            return false;
    return true;
}

/* Whether a binding is satisfied, by what is down; and its values then. */
static bool measure(const model *m, const shape *form, uint32_t seat, float *to)
{
    float amount[PARTS] = {0};
    for (int i = 0; i < form->count; i++)
        amount[i] = is_down(m, form->parts[i], seat);
    to[0] = to[1] = 1;
    to[2] = 0;
    if (!form->axis)
        return others_are_down(m, form, seat) && amount[form->count - 1] > 0;
    to[0] = to[1] = amount[1] - amount[0];
    if (form->count == 4) {
        to[2] = amount[3] - amount[2];
        /* Both ways at once are no farther than one. */
        to[0] = size_of(to[1]) + size_of(to[2]) > 0;
    }
    return size_of(to[0]) > 0;
}

/* ----------------------------------------------------------------- telling -- */

static void tell(model *m, ikv_kind kind, int number, uint32_t seat,
                 uint32_t flags)
{
    const game_action *a = &m->actions[number];
    const ikv_event *cause = &a->run[seat].cause;
    const told what = {.kind = kind,
                       .action = number,
                       .seat = seat,
                       .flags = flags,
                       .steps = a->run[seat].steps,
                       .binding = a->run[seat].binding,
                       .device = cause->device,
                       .modifiers = cause->modifiers,
                       .time_ns = kind == IKV_KIND_ACTION_START ? cause->time_ns
                                                                : m->time_ns,
                       .cause = cause->kind,
                       .cause_ns = cause->time_ns,
                       .value = a->run[seat].value,
                       .x = a->run[seat].x,
                       .y = a->run[seat].y};
    m->s.tell(&m->s, &what);
    act(&m->s);
}

/* Of what holds it, what is furthest; of equals the first, and what it is fed
 * before all. */
static void refresh(model *m, int number, uint32_t seat)
{
    game_action *a = &m->actions[number];
    float most = -1;
    uint32_t from = 0;
    if (a->run[seat].fed) {
        float x = a->run[seat].fed_x, y = a->run[seat].fed_y;
        float way[2] = {size_of(x), size_of(y)};
        a->run[seat].x = x;
        a->run[seat].y = y;
        /* Both ways at once are no farther than one; nor is a wheel's. */
        a->run[seat].value = way[0] > 1    ? (x < 0 ? -1.0f : 1.0f)
                             : way[1] <= 0 ? x
                             : way[0] > 0  ? 1
                                           : way[1];
        a->run[seat].binding = NOBODY;
        most = size_of(a->run[seat].value);
    }
    for (int n = 0; n < BINDINGS; n++) { /* in the order of binding */
        int next = NOBODY;
        for (int i = 0; i < BINDINGS; i++)
            if (m->bindings[i].there && m->bindings[i].action == number &&
                m->bindings[i].born >= from &&
                (next == NOBODY ||
                 m->bindings[i].born < m->bindings[next].born))
                next = i;
        if (next == NOBODY)
            return;
        const bound *b = &m->bindings[next];
        from = b->born + 1;
        if (b->run[seat].on && size_of(b->run[seat].value) > most) {
            most = size_of(b->run[seat].value);
            a->run[seat].value = b->run[seat].value;
            a->run[seat].x = b->run[seat].x;
            a->run[seat].y = b->run[seat].y;
            a->run[seat].binding = next;
        }
    }
}

static int action_of(const model *m, const holder *h)
{
    return h->fed ? h->number : m->bindings[h->number].action;
}

/* ---------------------------------------------------------- start and end -- */

/* A1: the first that holds it starts it, the last ends it. */
static void hold(model *m, holder h, const ikv_event *cause)
{
    int number = action_of(m, &h);
    game_action *a = &m->actions[number];
    m->held[m->held_count++] = h;
    if (a->run[h.seat].on++ > 0) {
        refresh(m, number, h.seat);
        return;
    }
    a->run[h.seat].cause = *cause;
    a->run[h.seat].steps = a->run[h.seat].repeats = 0;
    refresh(m, number, h.seat);
    m->started++;
    tell(m, IKV_KIND_ACTION_START, number, h.seat,
         m->synthetic ? IKV_SYNTHETIC : 0);
}

static void let_go(model *m, holder h, bool synthetic)
{
    int number = action_of(m, &h), at = 0;
    game_action *a = &m->actions[number];
    while (m->held[at].fed != h.fed || m->held[at].number != h.number ||
           m->held[at].seat != h.seat)
        at++;
    m->held_count--;
    for (; at < m->held_count; at++)
        m->held[at] = m->held[at + 1];
    if (h.fed)
        a->run[h.seat].fed = a->run[h.seat].left_on = false;
    else
        m->bindings[h.number].run[h.seat].on = false;
    if (--a->run[h.seat].on > 0)
        refresh(m, number, h.seat);
    else
        tell(m, IKV_KIND_ACTION_END, number, h.seat,
             synthetic ? IKV_SYNTHETIC : 0);
}

/* A press starts a binding; of what toggles it ends what the last one has left
 * on, or is let go at once and left on. */
static void start(model *m, int n, uint32_t seat, const ikv_event *cause)
{
    bound *b = &m->bindings[n];
    int number = b->action;
    game_action *a = &m->actions[number];
    const holder by_it = {false, n, seat}, by_feed = {true, number, seat};
    bool toggles = a->toggles[seat];
    if (toggles && a->run[seat].left_on) {
        let_go(m, by_feed, m->synthetic);
        return;
    }
    b->run[seat].on = true;
    hold(m, by_it, cause);
    if (!toggles || !b->run[seat].on || a->run[seat].fed)
        return;
    a->run[seat].fed = a->run[seat].left_on = true;
    a->run[seat].fed_x = b->run[seat].x;
    a->run[seat].fed_y = b->run[seat].y;
    if (size_of(b->run[seat].x) + size_of(b->run[seat].y) <= 0)
        a->run[seat].fed_x = 1;
    a->run[seat].fed_device = cause->device;
    m->held[m->held_count++] = by_feed;
    a->run[seat].on++;
    let_go(m, by_it, false);
}

/* ----------------------------------------------------------------- presses -- */

static int parts_of(const ikv_event *e, bool release, part to[TRIGGERS])
{
    int count = 0;
    bool key = e->kind == (release ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN);
    for (uint32_t i = 0; key && i < CODES; i++)
        if (codes[i] == e->key.code) {
            to[count++] = (part){OF_KEY, i};
            if (i >= 5)
                to[count++] =
                    (part){OF_MODIFIER, i == 7 ? IKV_CONTROL : IKV_SHIFT};
            if (!release)
                to[count++] = (part){OF_ANY_KEY, 0};
        }
    if (e->kind == (release ? IKV_KIND_POINTER_UP : IKV_KIND_POINTER_DOWN))
        to[count++] = (part){OF_BUTTON, (uint32_t)e->pointer.button};
    if (e->kind == (release ? IKV_KIND_PAD_UP : IKV_KIND_PAD_DOWN))
        to[count++] = (part){OF_PAD, e->pad.index};
    if (!release && e->kind == IKV_KIND_WHEEL)
        to[count++] = (part){OF_WHEEL, e->wheel.dy > 0};
    if (!release && e->kind == IKV_KIND_POINTER_CLICK)
        to[count++] = (part){OF_CLICK, 0};
    return count;
}

static bool waits_for(const shape *form, part p)
{
    for (int i = form->axis ? 0 : form->count - 1; i < form->count; i++)
        if (form->parts[i].type == p.type && form->parts[i].number == p.number)
            return true;
    return false;
}

static bool would_start(const model *m, int n, uint32_t seat, bool release)
{
    const bound *b = &m->bindings[n];
    float values[3];
    if (b->run[seat].on || (release && !b->shape->axis) ||
        !action_is_on(m, b->action, seat) || m->fresh[set_of(b->action)][seat])
        return false;
    return b->shape->axis ? measure(m, b->shape, seat, values)
                          : others_are_down(m, b->shape, seat);
}

static int length_of(const shape *form)
{
    return form->axis ? 1 : form->count;
}

/* The first bound of those that were not tried for this press. */
static int next_to_start(const model *m, uint32_t seat, part p, int length,
                         bool release)
{
    int next = NOBODY;
    for (int i = 0; i < BINDINGS; i++)
        if (m->bindings[i].there && !m->bindings[i].run[seat].tried &&
            waits_for(m->bindings[i].shape, p) &&
            length_of(m->bindings[i].shape) == length &&
            would_start(m, i, seat, release) &&
            (next == NOBODY || m->bindings[i].born < m->bindings[next].born))
            next = i;
    return next;
}

static void start_all(model *m, const ikv_event *e, part p, int length,
                      bool release)
{
    uint32_t seat = e->seat;
    int n;
    bool moment = p.type == OF_WHEEL || p.type == OF_CLICK;
    while ((n = next_to_start(m, seat, p, length, release)) != NOBODY) {
        bound *b = &m->bindings[n];
        float values[3] = {1, 1, 0};
        b->run[seat].tried = true;
        if (p.type == OF_WHEEL)
            values[0] = values[1] = size_of(e->wheel.dy);
        if (b->shape->axis)
            (void)measure(m, b->shape, seat, values);
        b->run[seat].value = values[0];
        b->run[seat].x = values[1];
        b->run[seat].y = values[2];
        b->run[seat].device = e->device;
        start(m, n, seat, e);
        if (moment && b->run[seat].on)
            let_go(m, (holder){false, n, seat}, m->synthetic);
    }
}

/* A5: the longest chords of those that a press completes. */
static void take_press(model *m, const ikv_event *e, bool claimed, bool release)
{
    part parts[TRIGGERS];
    int count = parts_of(e, release, parts), longest = 0;
    uint32_t seat = e->seat;
    m->pressed = e;
    m->releases = release;
    if (count > 0 && claimed && !release) {
        m->passed_over++;
        return;
    }
    for (int i = 0; i < BINDINGS; i++)
        for (int k = 0; m->bindings[i].there && k < count; k++)
            if (waits_for(m->bindings[i].shape, parts[k]) &&
                length_of(m->bindings[i].shape) > longest &&
                would_start(m, i, seat, release))
                longest = length_of(m->bindings[i].shape);
    if (longest == 0)
        return;
    for (int i = 0; i < BINDINGS; i++)
        for (uint32_t other = 0; other < SEATS; other++)
            m->bindings[i].run[other].tried = false;
    for (int k = 0; k < count; k++)
        start_all(m, e, parts[k], longest, release);
}

static void feed_action(model *m, int number, uint32_t seat, float x, float y,
                        const ikv_event *cause)
{
    game_action *a = &m->actions[number];
    const holder h = {true, number, seat};
    bool was = a->run[seat].fed;
    if (size_of(x) + size_of(y) <= 0) {
        if (was)
            let_go(m, h, m->synthetic);
        return;
    }
    a->run[seat].fed = true;
    a->run[seat].left_on = false;
    a->run[seat].fed_x = x;
    a->run[seat].fed_y = y;
    a->run[seat].fed_device = cause->device;
    if (was)
        refresh(m, number, seat);
    else
        hold(m, h, cause);
}

/* ------------------------------------------------------------------- input -- */

static void model_state(side *s, const ikv_event *e, bool claimed)
{
    model *m = (model *)s;
    uint32_t seat = e->seat;
    bool blur = e->kind == IKV_KIND_WINDOW_BLUR;
    bool down = e->kind == IKV_KIND_KEY_DOWN;
    for (uint32_t i = 0; i < CODES; i++)
        if ((down || e->kind == IKV_KIND_KEY_UP) && codes[i] == e->key.code)
            m->key[seat][i] = down && (m->key[seat][i] || !claimed);
    if (e->kind == IKV_KIND_POINTER_DOWN && !claimed)
        m->button[seat] = e->pointer.button;
    if (e->kind == IKV_KIND_POINTER_UP)
        m->button[seat] = NOBODY;
    down = e->kind == IKV_KIND_PAD_DOWN;
    if (down || e->kind == IKV_KIND_PAD_UP)
        m->pad[seat][e->pad.index] =
            down && (m->pad[seat][e->pad.index] || !claimed);
    for (uint32_t i = 0; i < SEATS; i++) {
        bool gone = e->kind == IKV_KIND_DEVICE_REMOVE;
        if (blur || (gone && e->device == 1 + i))
            memset(m->key[i], 0, sizeof m->key[i]);
        if (blur || (gone && e->device == 3 + i))
            m->button[i] = NOBODY;
        if (gone && e->device == 5 + i)
            memset(m->pad[i], 0, sizeof m->pad[i]);
    }
}

static void model_take(side *s, const ikv_event *e, bool claimed)
{
    model *m = (model *)s;
    part parts[TRIGGERS];
    bool any = false, axes = false;
    for (int i = 0; i < BINDINGS; i++) {
        any = any || m->bindings[i].there;
        axes = axes || (m->bindings[i].there && m->bindings[i].shape->axis);
    }
    for (int i = 0; e->kind == IKV_KIND_DEVICE_REMOVE && i < m->held_count; i++)
        if (m->held[i].fed) {
            game_action *a = &m->actions[m->held[i].number];
            uint32_t seat = m->held[i].seat;
            /* A9: over, once that is looked for */
            if (a->run[seat].fed_device == e->device)
                a->run[seat].fed_x = a->run[seat].fed_y = 0;
        }
    for (int release = 0; release < 2; release++) {
        bool feed = release == 0 && e->kind == IKV_KIND_ACTION_FEED;
        bool waits = release == 0 ? any : axes;
        if (!feed && (!waits || parts_of(e, release == 1, parts) == 0))
            continue;
        m->queue[m->queue_count].event = *e;
        m->queue[m->queue_count].claimed = claimed;
        m->queue[m->queue_count].life = feed ? m->s.lives[e->action.action] : 0;
        m->queue[m->queue_count++].release = release == 1;
    }
}

static void end_what_is_over(model *m)
{
    for (int at = 0; at < m->held_count;) {
        holder h = m->held[at];
        int number = action_of(m, &h);
        const game_action *a = &m->actions[number];
        float values[3] = {1, 1, 0};
        bool on;
        if (h.fed) {
            on = size_of(a->run[h.seat].fed_x) + size_of(a->run[h.seat].fed_y) >
                 0;
        } else {
            bound *b = &m->bindings[h.number];
            on = measure(m, b->shape, h.seat, values);
            if (on) {
                b->run[h.seat].value = values[0];
                b->run[h.seat].x = values[1];
                b->run[h.seat].y = values[2];
            }
        }
        if (on) {
            refresh(m, number, h.seat);
            at++;
            continue;
        }
        let_go(m, h, m->synthetic);
        at = 0;
    }
}

static void model_settle(side *s, uint64_t time_ns, bool typed, bool lost)
{
    model *m = (model *)s;
    if (m->queue_count == 0 && m->held_count == 0)
        return;
    m->resolving = true;
    m->time_ns = time_ns;
    m->synthetic = lost;
    for (int i = 0; i < m->queue_count; i++) {
        const ikv_event *e = &m->queue[i].event;
        bool claimed =
            m->queue[i].claimed || (typed && e->kind == IKV_KIND_KEY_DOWN);
        if (!m->queue[i].release)
            memset(m->fresh, 0, sizeof m->fresh);
        if (e->kind != IKV_KIND_ACTION_FEED) {
            take_press(m, e, claimed, m->queue[i].release);
        } else {
            int number = (int)e->action.action;
            const game_action *a = &m->actions[number];
            if (claimed || !a->there ||
                m->s.lives[number] != m->queue[i].life ||
                !action_is_on(m, number, e->seat))
                m->passed_over++;
            else
                feed_action(m, number, e->seat, e->action.x, e->action.y, e);
        }
        m->pressed = NULL;
    }
    m->queue_count = 0;
    end_what_is_over(m);
    memset(m->fresh, 0, sizeof m->fresh);
    m->resolving = m->synthetic = false;
}

/* ------------------------------------------------------------------- steps -- */

static void tell_hold(model *m, int number, uint32_t seat)
{
    game_action *a = &m->actions[number];
    uint64_t since = a->run[seat].cause.time_ns;
    uint64_t held = m->time_ns > since ? m->time_ns - since : 0;
    uint32_t repeats = 0;
    if (m->after_ns[seat] > 0 && held >= m->after_ns[seat]) {
        repeats = 1;
        if (m->every_ns[seat] > 0)
            repeats +=
                (uint32_t)((held - m->after_ns[seat]) / m->every_ns[seat]);
    }
    bool due = repeats > a->run[seat].repeats;
    a->run[seat].repeats = repeats;
    a->run[seat].told = true;
    int life = m->s.lives[number];
    tell(m, IKV_KIND_ACTION_HOLD, number, seat, due ? IKV_REPEAT : 0);
    a->run[seat].steps += m->s.lives[number] == life;
}

static void model_step(side *s, uint64_t time_ns)
{
    model *m = (model *)s;
    m->time_ns = time_ns;
    if (m->held_count == 0)
        return;
    m->resolving = true;
    for (int i = 0; i < ACTIONS; i++)
        for (uint32_t seat = 0; seat < SEATS; seat++)
            m->actions[i].run[seat].told = false;
    for (int at = 0; at < m->held_count;) {
        int number = action_of(m, &m->held[at]);
        uint32_t seat = m->held[at].seat;
        if (m->actions[number].run[seat].told) {
            at++;
            continue;
        }
        tell_hold(m, number, seat);
        at = 0; /* from the first again, whatever handlers have done */
    }
    memset(m->fresh, 0, sizeof m->fresh);
    m->resolving = false;
}

/* ------------------------------------------------------------------- calls -- */

static bool is_named(uint32_t seat, uint32_t which)
{
    return seat == IKV_ALL_SEATS || seat == which;
}

static void note_sets(const model *m, bool on[SETS][SEATS])
{
    for (uint32_t set = 0; set < SETS; set++)
        for (uint32_t seat = 0; seat < SEATS; seat++)
            on[set][seat] = is_on(m, set, seat);
}

/* A3: what has come on starts nothing by the press that is taken; what is off
 * ends. */
static void sets_changed(model *m, bool was[SETS][SEATS], bool ends)
{
    for (uint32_t set = 0; m->resolving && set < SETS; set++)
        for (uint32_t seat = 0; seat < SEATS; seat++)
            m->fresh[set][seat] |= is_on(m, set, seat) && !was[set][seat];
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
    return measure(m, form, seat, values);
}

static void start_as_held(model *m, int n, uint32_t seat, part by)
{
    ikv_event e = ikv_event_make(by.type == OF_BUTTON ? IKV_KIND_POINTER_DOWN
                                 : by.type == OF_PAD  ? IKV_KIND_PAD_DOWN
                                                      : IKV_KIND_KEY_DOWN,
                                 m->time_ns);
    bound *b = &m->bindings[n];
    float values[3];
    (void)measure(m, b->shape, seat, values);
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
        while (is_on(m, set, seat)) {
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

static void model_check(side *s)
{
    model *m = (model *)s;
    note_number(s, 20, (uint64_t)m->held_count);
    note_number(s, 21, m->started);
    note_number(s, 22, m->passed_over);
    for (uint32_t seat = 0; seat < SEATS; seat++) {
        for (uint32_t set = 0; set < SETS; set++)
            note_number(s, 30 + set, is_on(m, set, seat));
        for (int i = 0; i < ACTIONS; i++) {
            const game_action *a = &m->actions[i];
            bool on = a->run[seat].on > 0;
            told t = {.kind = UINT16_MAX + 40u,
                      .action = i,
                      .seat = seat,
                      .flags = on};
            if (on) {
                t.steps = a->run[seat].steps;
                t.value = a->run[seat].value;
                t.x = a->run[seat].x;
                t.y = a->run[seat].y;
            }
            s->tell(s, &t);
        }
    }
}

side *model_open(void)
{
    static model m;
    m = (model){.s = {.state = model_state,
                      .take = model_take,
                      .settle = model_settle,
                      .step = model_step,
                      .switch_set = model_switch,
                      .push = model_push,
                      .pop = model_pop,
                      .start_held = model_start_held,
                      .bind = model_bind,
                      .unbind = model_unbind,
                      .add = model_add,
                      .remove = model_remove,
                      .toggle = model_toggle,
                      .feed = model_feed,
                      .repeat = model_repeat,
                      .check = model_check}};
    for (int i = 0; i < SEATS; i++)
        m.button[i] = NOBODY;
    for (int i = 0; i < ACTIONS; i++)
        m.actions[i].there = true;
    return &m.s;
}
