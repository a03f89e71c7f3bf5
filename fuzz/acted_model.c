/* acted_model.c - the rules of actions (docs/actions.md, A1 to A9) without lists
 * by trigger, places or marks: all bindings are looked at each time.
 */
#include "acted_model.h"

#include <math.h>

int set_of(int action)
{
    return action % SETS;
}

static float size_of(float value)
{
    return value < 0 ? -value : value;
}

/* ------------------------------------------------------------------ sets -- */

/* A3: from the top down to what hides the rest. */
bool set_is_on(const model *m, uint32_t set, uint32_t seat)
{
    for (int i = m->pushed_count - 1; i >= 0; i--) {
        if (m->pushed[i].seat != seat)
            continue;
        if (m->pushed[i].set == set || !m->pushed[i].joins)
            return m->pushed[i].set == set;
    }
    return !m->off[set][seat];
}

bool action_is_on(const model *m, int number, uint32_t seat)
{
    return set_is_on(m, (uint32_t)set_of(number), seat);
}

/* ----------------------------------------------------------- what is held -- */

static float length_of_way(float x, float y)
{
    return (float)sqrt((double)x * (double)x + (double)y * (double)y);
}

/* A stick's axes past its dead zone, along its direction. */
static void steer(const float raw[2], float to[2])
{
    float length = length_of_way(raw[0], raw[1]);
    float way = (length - 0.2f) / (0.95f - 0.2f);
    way = way < 0 ? 0 : way > 1 ? 1 : way;
    way = length > 0 ? way / length : 0;
    to[0] = raw[0] * way;
    to[1] = raw[1] * way;
}

static float axis_of(const model *m, uint32_t number, uint32_t seat)
{
    float stick[2];
    if (number >= 2)
        return m->axes[seat][number];
    steer(m->axes[seat], stick);
    return stick[number];
}

/* How far what can be held is held. */
static float amount_of(const model *m, part p, uint32_t seat)
{
    bool shift = m->key[seat][5] || m->key[seat][6];
    bool any = false;
    float axis;
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
    case OF_VALUE:
        return m->values[seat][p.number];
    case OF_AXIS_PLUS:
    case OF_AXIS_MINUS:
        axis = axis_of(m, p.number, seat);
        axis = p.type == OF_AXIS_PLUS ? axis : -axis;
        return axis > 0 ? axis : 0;
    default:
        return 0; /* it is over at once, or has two ways */
    }
}

bool is_down(const model *m, part p, uint32_t seat)
{
    return amount_of(m, p, seat) > 0.4f;
}

static bool others_are_down(const model *m, const shape *form, uint32_t seat)
{
    for (int i = 0; i + 1 < form->count; i++)
        if (!is_down(m, form->parts[i], seat))
            return false;
    return true;
}

bool measure(const model *m, const shape *form, uint32_t seat, bool on,
             float *to)
{
    float amount[PARTS] = {0}, edge = on ? 0 : 0.05f;
    part last = form->parts[form->count - 1];
    for (int i = 0; i < form->count; i++)
        amount[i] = amount_of(m, form->parts[i], seat);
    to[0] = to[1] = 1;
    to[2] = 0;
    if (form->axis) {
        to[0] = to[1] = amount[1] - amount[0];
        if (form->count == 4) {
            to[2] = amount[3] - amount[2];
            to[0] = size_of(to[1]) + size_of(to[2]) > 0;
        }
        return size_of(to[0]) > edge;
    }
    if (!others_are_down(m, form, seat))
        return false;
    if (last.type == OF_STICK) {
        steer(m->axes[seat], to + 1);
        to[0] = length_of_way(to[1], to[2]);
        to[0] = to[0] < 1 ? to[0] : 1;
        return to[0] > edge;
    }
    if (last.type == OF_MOVE)
        return true; /* until a step without motion */
    if (last.type < OF_AXIS || last.type > OF_VALUE)
        return amount[form->count - 1] > 0;
    to[0] = to[1] = last.type == OF_AXIS ? axis_of(m, last.number, seat)
                                         : amount[form->count - 1];
    if (last.type == OF_AXIS_PLUS || last.type == OF_AXIS_MINUS)
        edge = on ? 0.4f : 0.5f;
    return size_of(to[0]) > edge;
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
        a->run[seat].x = x;
        a->run[seat].y = y;
        float way = length_of_way(x, y);
        a->run[seat].value = way > 1 ? 1 : way;
        if (size_of(y) <= 0)
            a->run[seat].value = x < -1 ? -1 : x > 1 ? 1 : x;
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

int action_of(const model *m, const holder *h)
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

void let_go(model *m, holder h, bool synthetic)
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

void start(model *m, int n, uint32_t seat, const ikv_event *cause)
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

int parts_of(const ikv_event *e, bool release, part to[TRIGGERS])
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
    if (!release &&
        (e->kind == IKV_KIND_PAD_DOWN || e->kind == IKV_KIND_PAD_VALUE))
        to[count++] = (part){OF_VALUE, e->pad.index};
    for (part_type type = OF_AXIS;
         !release && e->kind == IKV_KIND_PAD_AXIS && type <= OF_STICK; type++)
        to[count++] =
            (part){type, type == OF_STICK ? e->pad.index / 2u : e->pad.index};
    if (!release && e->kind == IKV_KIND_WHEEL)
        to[count++] = (part){OF_WHEEL, e->wheel.dy > 0};
    if (!release && e->kind == IKV_KIND_POINTER_CLICK)
        to[count++] = (part){OF_CLICK, 0};
    if (!release && e->kind == IKV_KIND_POINTER_MOVE &&
        size_of(e->pointer.dx) + size_of(e->pointer.dy) > 0)
        to[count++] = (part){OF_MOVE, 0};
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
    part last = b->shape->parts[b->shape->count - 1];
    bool far =
        b->shape->axis || (last.type >= OF_AXIS && last.type <= OF_VALUE);
    return far ? measure(m, b->shape, seat, false, values)
               : others_are_down(m, b->shape, seat);
}

int length_of(const shape *form)
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

static bool is_motion(const model *m, const holder *h)
{
    const shape *form = h->fed ? NULL : m->bindings[h->number].shape;
    return form != NULL && !form->axis &&
           form->parts[form->count - 1].type == OF_MOVE;
}

/* The step's motion, all of it. */
static void add_motion(bound *b, uint32_t seat, const ikv_event *e)
{
    float x = b->run[seat].moved_x += e->pointer.dx;
    float y = b->run[seat].moved_y += e->pointer.dy;
    float way = length_of_way(x, y);
    b->run[seat].moved = true;
    b->run[seat].value = way < 1 ? way : 1;
    b->run[seat].x = x;
    b->run[seat].y = y;
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
        if (b->shape->axis || (p.type >= OF_AXIS && p.type <= OF_VALUE))
            (void)measure(m, b->shape, seat, false, values);
        b->run[seat].value = values[0];
        b->run[seat].x = values[1];
        b->run[seat].y = values[2];
        b->run[seat].moved_x = b->run[seat].moved_y = 0;
        if (p.type == OF_MOVE)
            add_motion(b, seat, e);
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
    for (int i = 0; i < m->held_count; i++)
        if (count > 0 && parts[count - 1].type == OF_MOVE &&
            m->held[i].seat == seat && is_motion(m, &m->held[i])) {
            add_motion(&m->bindings[m->held[i].number], seat, e);
            refresh(m, action_of(m, &m->held[i]), seat);
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

void feed_action(model *m, int number, uint32_t seat, float x, float y,
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
    if (down)
        m->values[seat][e->pad.index] =
            claimed ? m->values[seat][e->pad.index] : 1;
    if (e->kind == IKV_KIND_PAD_UP)
        m->values[seat][e->pad.index] = 0;
    if (e->kind == IKV_KIND_PAD_AXIS && !claimed)
        m->axes[seat][e->pad.index] = e->pad.value;
    if (e->kind == IKV_KIND_PAD_VALUE && !claimed)
        m->values[seat][e->pad.index] = e->pad.value;
    for (uint32_t i = 0; i < SEATS; i++) {
        bool gone = e->kind == IKV_KIND_DEVICE_REMOVE;
        if (blur || (gone && e->device == 1 + i))
            memset(m->key[i], 0, sizeof m->key[i]);
        if (blur || (gone && e->device == 3 + i))
            m->button[i] = NOBODY;
        if (gone && e->device == 5 + i) {
            memset(m->pad[i], 0, sizeof m->pad[i]);
            memset(m->axes[i], 0, sizeof m->axes[i]);
            memset(m->values[i], 0, sizeof m->values[i]);
        }
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
            on = measure(m, b->shape, h.seat, true, values);
            if (on && !is_motion(m, &h)) {
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

/* It ends with a step in which nothing moved. */
static void end_motion(model *m)
{
    for (int at = 0; at < m->held_count;) {
        holder h = m->held[at++];
        if (!is_motion(m, &h) || m->bindings[h.number].run[h.seat].moved)
            continue;
        let_go(m, h, false);
        at = 0;
    }
    for (int i = 0; i < m->held_count; i++)
        if (is_motion(m, &m->held[i])) {
            bound *b = &m->bindings[m->held[i].number];
            uint32_t seat = m->held[i].seat;
            b->run[seat].moved = false;
            b->run[seat].moved_x = b->run[seat].moved_y = 0;
        }
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
    end_motion(m);
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

static void model_check(side *s)
{
    model *m = (model *)s;
    note_number(s, 20, (uint64_t)m->held_count);
    note_number(s, 21, m->started);
    note_number(s, 22, m->passed_over);
    for (uint32_t seat = 0; seat < SEATS; seat++) {
        for (uint32_t set = 0; set < SETS; set++)
            note_number(s, 30 + set, set_is_on(m, set, seat));
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
    m = (model){.s = model_calls};
    m.s.state = model_state;
    m.s.take = model_take;
    m.s.settle = model_settle;
    m.s.step = model_step;
    m.s.check = model_check;
    for (int i = 0; i < SEATS; i++)
        m.button[i] = NOBODY;
    for (int i = 0; i < ACTIONS; i++)
        m.actions[i].there = true;
    return &m.s;
}
