/* action_run.c - starts and ends actions as input comes.
 *
 * Presses start bindings; whether a binding is still satisfied is asked of the
 * state after each input, so that nothing that was lost stays held. A handler
 * may change anything: loops over what is held begin anew after each delivery.
 */
#include "action_internal.h"

#include "ikvar/keys.h"

/* ----------------------------------------------------------- delivering -- */

/* A1: events bear the input that started the action, from its start to its end;
 * when that input's target has gone meanwhile they go to the root. The start
 * has the input's time, what follows the time that was settled. */
static void tell(ikv_actions *a, ikv_kind kind, uint32_t place, uint32_t seat,
                 bool synthetic)
{
    const action_run *run = action_run_at(a, place, seat);
    ikv_event cause = run->cause;
    ikv_event event = ikv_event_make(
        kind, kind == IKV_KIND_ACTION_START ? cause.time_ns : a->s.time_ns);
    event.device = cause.device;
    event.modifiers = cause.modifiers;
    event.view = cause.view;
    event.seat = (uint8_t)seat;
    event.flags = synthetic ? IKV_SYNTHETIC : 0;
    event.target = ikv_bus_target_alive(a->bus, cause.target) ? cause.target
                                                              : ikvi_bus_root();
    event.action.action = ikvi_slots_bits(&a->s.action_slots, a, place);
    event.action.value = run->value;
    event.action.x = run->x;
    event.action.y = run->y;
    event.action.binding = (uint16_t)(run->binding + 1);
    event.action.state = (uint8_t)(kind - IKV_KIND_ACTION_START);
    event.action.steps = run->steps;
    ikv_route route = IKV_ROUTE_INIT;
    /* A copy: the run may be another's before the delivery is over. */
    route.cause = &cause;
    if (run->router < a->router_count)
        route.router = a->routers[run->router];
    ikv_bus_deliver_along(a->bus, &event, &route);
}

/* The action's values are those of the binding that is furthest. */
static void refresh_action(ikv_actions *a, uint32_t place, uint32_t seat)
{
    action_run *run = action_run_at(a, place, seat);
    float most = -1;
    for (uint32_t at = action_row_at(a, place)->first; at != NO_PLACE;
         at = binding_at(a, at)->next) {
        const binding_run *b = binding_run_at(a, at * a->seats + seat);
        /* Of equals the one that was bound first. */
        if (!b->on || size_of(b->value) <= most)
            continue;
        most = size_of(b->value);
        run->value = b->value;
        run->x = b->x;
        run->y = b->y;
        run->binding = at;
    }
}

/* A1: an action is on while any of its bindings is; only the first one starts
 * it, those that join give their value. */
static void start_binding(ikv_actions *a, uint32_t place, uint32_t seat,
                          const action_input *input)
{
    uint32_t index = place * a->seats + seat;
    uint32_t at = binding_at(a, place)->action;
    action_run *run = action_run_at(a, at, seat);
    IKVI_CHECK(!binding_run_at(a, index)->on);
    binding_run_at(a, index)->on = true;
    /* There is room: one place for each binding and seat. */
    *held_at(a, a->s.held_count++) = index;
    a->changes++;
    /* On already: no second start. */
    if (run->on++ > 0) {
        refresh_action(a, at, seat);
        return;
    }
    run->cause = input->event;
    run->router = input->router;
    run->steps = 0;
    refresh_action(a, at, seat);
    a->s.counters.started++;
    tell(a, IKV_KIND_ACTION_START, at, seat, a->synthetic);
}

/* The order of what is held stays, since holds are told in it. An end that no
 * input caused (a binding or action was removed, a set switched off) is
 * synthetic. */
void ikvi_binding_release(ikv_actions *a, uint32_t place, uint32_t seat)
{
    uint32_t index = place * a->seats + seat, nth = 0;
    uint32_t at = binding_at(a, place)->action;
    IKVI_CHECK(binding_run_at(a, index)->on && a->s.held_count > 0);
    while (*held_at(a, nth) != index)
        nth++;
    a->s.held_count--;
    for (uint32_t i = nth; i < a->s.held_count; i++)
        *held_at(a, i) = *held_at(a, i + 1);
    binding_run_at(a, index)->on = false;
    IKVI_CHECK(action_run_at(a, at, seat)->on > 0);
    /* Before anybody is told: walks over what is held begin anew. */
    a->changes++;
    if (--action_run_at(a, at, seat)->on > 0) {
        refresh_action(a, at, seat);
        return;
    }
    tell(a, IKV_KIND_ACTION_END, at, seat, a->synthetic || !a->resolving);
}

/* -------------------------------------------------------------- presses -- */

static bool moves(const ikv_event *event)
{
    return event->pointer.dx < 0 || event->pointer.dx > 0 ||
           event->pointer.dy < 0 || event->pointer.dy > 0;
}

/* A key that a part can be: of the keyboard's page, one of its first 256. */
static bool is_of_keyboard(const ikv_event *event)
{
    return event->key.code >> 8 == IKV_CODE(0) >> 8;
}

/* What is let go, which an axis may have been kept in its middle by. */
static uint32_t releases_of(const ikv_event *event, action_part *to)
{
    uint16_t button = ikvi_button_bit(event->pointer.button);
    uint16_t modifier = ikvi_modifier_bit(event->key.code);
    uint32_t count = 0;
    if (event->kind == IKV_KIND_KEY_UP && is_of_keyboard(event)) {
        to[count++] = (action_part){PART_KEY, (uint8_t)event->key.code};
        if (modifier != 0)
            to[count++] = (action_part){PART_MODIFIER, (uint8_t)modifier};
    } else if (event->kind == IKV_KIND_PAD_UP) {
        to[count++] = (action_part){PART_PAD, event->pad.index};
    } else if (event->kind == IKV_KIND_POINTER_UP ||
               (event->kind == IKV_KIND_POINTER_MOVE && button != 0 &&
                (event->pointer.buttons & button) == 0)) {
        to[count++] =
            (action_part){PART_BUTTON, (uint8_t)event->pointer.button};
    }
    return count;
}

/* What an event is, among the parts of bindings. */
static uint32_t triggers_of(const ikv_event *event, action_part *to)
{
    uint32_t count = 0;
    uint16_t button = ikvi_button_bit(event->pointer.button);
    uint8_t index = event->pad.index;
    switch (event->kind) {
    case IKV_KIND_KEY_DOWN:
        if (event->flags & IKV_REPEAT || !is_of_keyboard(event))
            break;
        to[count++] = (action_part){PART_KEY, (uint8_t)event->key.code};
        if (ikvi_modifier_bit(event->key.code) != 0)
            to[count++] = (action_part){
                PART_MODIFIER, (uint8_t)ikvi_modifier_bit(event->key.code)};
        to[count++] = (action_part){PART_ANY_KEY, 0};
        break;
    case IKV_KIND_POINTER_DOWN:
    case IKV_KIND_POINTER_MOVE:
        if (button != 0 && (event->pointer.buttons & button) != 0)
            to[count++] =
                (action_part){PART_BUTTON, (uint8_t)event->pointer.button};
        if (event->kind == IKV_KIND_POINTER_MOVE && moves(event))
            to[count++] = (action_part){PART_MOVE, 0};
        break;
    case IKV_KIND_POINTER_CLICK:
        to[count++] = (action_part){PART_CLICK, 0};
        break;
    case IKV_KIND_POINTER_DOUBLE:
        to[count++] = (action_part){PART_DOUBLE, 0};
        break;
    case IKV_KIND_POINTER_HOLD:
        to[count++] = (action_part){PART_HOLD, 0};
        break;
    case IKV_KIND_GESTURE_TWO_TAP:
        to[count++] = (action_part){PART_TWO_TAP, 0};
        break;
    case IKV_KIND_WHEEL:
        if (event->wheel.dy < 0 || event->wheel.dy > 0)
            to[count++] = (action_part){
                PART_WHEEL, event->wheel.dy < 0 ? WHEEL_UP : WHEEL_DOWN};
        if (event->wheel.dx < 0 || event->wheel.dx > 0)
            to[count++] = (action_part){
                PART_WHEEL, event->wheel.dx < 0 ? WHEEL_LEFT : WHEEL_RIGHT};
        break;
    case IKV_KIND_PAD_DOWN:
        to[count++] = (action_part){PART_PAD, index};
        break;
    case IKV_KIND_PAD_AXIS:
        to[count++] = (action_part){PART_AXIS, index};
        to[count++] = (action_part){PART_AXIS_PLUS, index};
        to[count++] = (action_part){PART_AXIS_MINUS, index};
        to[count++] = (action_part){PART_STICK, (uint8_t)(index / 2)};
        break;
    default:
        break;
    }
    return count;
}

uint32_t ikvi_parts_of(const action_input *input, action_part parts[TRIGGERS])
{
    return input->release ? releases_of(&input->event, parts)
                          : triggers_of(&input->event, parts);
}

static bool is_momentary(action_part part)
{
    return part.type == PART_CLICK || part.type == PART_DOUBLE ||
           part.type == PART_TWO_TAP || part.type == PART_WHEEL;
}

/* What a press says of itself: the state may not have it. */
static void measure_press(const ikv_event *event, action_part part,
                          binding_run *run)
{
    run->value = run->x = 1;
    run->y = 0;
    /* By whom it goes on, for buttons and holds. */
    run->device = event->device;
    run->pointer = event->pointer.pointer;
    if (part.type == PART_WHEEL)
        run->value = run->x = size_of(
            part.number <= WHEEL_DOWN ? event->wheel.dy : event->wheel.dx);
    if (part.type == PART_MOVE) {
        run->moved = true;
        run->moved_x += event->pointer.dx;
        run->moved_y += event->pointer.dy;
        ikvi_set_vector(run, run->moved_x, run->moved_y);
    }
}

/* Whether that event satisfies the binding now, which it did not before. */
static bool would_start(const ikv_actions *a, uint32_t place, uint32_t seat,
                        const action_input *input, action_part part)
{
    const action_binding *b = binding_at(a, place);
    const binding_run *run = binding_run_at(a, place * a->seats + seat);
    ikv_action_set set = action_row_at(a, b->action)->set;
    if (run->on || (input->release && !b->shape.axis) ||
        !ikv_actions_is_on(a, set, (uint8_t)seat) ||
        !ikvi_scope_holds(a, &b->scope, seat, input))
        return false;
    /* Measured on a copy: it may not start. */
    binding_run trial = *run;
    if (b->shape.axis || (part.type >= PART_AXIS && part.type <= PART_STICK))
        return ikvi_measure_binding(a, b, seat, &trial);
    return ikvi_others_are_held(a, seat, &b->shape);
}

/* Goes on from *at to the next binding in the bucket with that trigger. */
static bool next_with(const ikv_actions *a, uint32_t *at, action_part part,
                      uint32_t *place)
{
    while (*at != NO_PLACE) {
        const action_binding *b = binding_at(a, *at / ACTION_PARTS);
        action_part own = b->shape.parts[*at % ACTION_PARTS];
        *place = *at / ACTION_PARTS;
        *at = b->same[*at % ACTION_PARTS];
        if (own.type == part.type && own.number == part.number)
            return true;
    }
    return false;
}

uint32_t ikvi_chord_length(const action_binding *b)
{
    return b->shape.axis ? 1 : b->shape.count;
}

/* A5: of the chords that the event completes, how long the longest is. */
uint32_t ikvi_longest_chord(const ikv_actions *a, uint32_t seat,
                            const action_input *input, const action_part *parts,
                            uint32_t count, uint32_t *at_place)
{
    uint32_t longest = 0, place;
    for (uint32_t i = 0; i < count; i++) {
        uint32_t at = a->s.heads[trigger_bucket(parts[i])];
        while (next_with(a, &at, parts[i], &place)) {
            uint32_t length = ikvi_chord_length(binding_at(a, place));
            /* The dear question only for what would win. */
            if (length > longest &&
                would_start(a, place, seat, input, parts[i])) {
                longest = length;
                *at_place = place;
            }
        }
    }
    return longest;
}

/* The next one of that length which was not tried for this event yet. */
static uint32_t next_to_start(const ikv_actions *a, uint32_t seat,
                              const action_input *input, action_part part,
                              uint32_t length)
{
    uint32_t at = a->s.heads[trigger_bucket(part)], place;
    while (next_with(a, &at, part, &place)) {
        const binding_run *run = binding_run_at(a, place * a->seats + seat);
        if (run->tried != a->s.tries &&
            ikvi_chord_length(binding_at(a, place)) == length &&
            would_start(a, place, seat, input, part))
            return place;
    }
    return NO_PLACE;
}

/* A handler of one start may bind, unbind or switch: the next one is looked for
 * anew, and `tried` keeps each to one start for one press. */
static void start_all(ikv_actions *a, uint32_t seat, const action_input *input,
                      action_part part, uint32_t length)
{
    uint32_t place;
    while ((place = next_to_start(a, seat, input, part, length)) != NO_PLACE) {
        binding_run *run = binding_run_at(a, place * a->seats + seat);
        const action_binding *b = binding_at(a, place);
        /* Before it starts: its handler may end it, and it is not tried
         * again. */
        run->tried = a->s.tries;
        run->moved_x = run->moved_y = 0;
        measure_press(&input->event, part, run);
        if (b->shape.axis ||
            (part.type >= PART_AXIS && part.type <= PART_STICK))
            ikvi_measure_binding(a, b, seat, run);
        start_binding(a, place, seat, input);
        /* Starts and ends at once, unless a handler has ended it. */
        if (is_momentary(part) && run->on)
            ikvi_binding_release(a, place, seat);
    }
}

/* Motion that adds to what has started already. */
static void add_motion_to_held(ikv_actions *a, uint32_t seat,
                               const action_input *input)
{
    for (uint32_t nth = 0; nth < a->s.held_count; nth++) {
        uint32_t index = *held_at(a, nth);
        const action_binding *b = binding_at(a, index / a->seats);
        action_part part = b->shape.parts[b->shape.count - 1];
        if (index % a->seats == seat && part.type == PART_MOVE &&
            ikvi_scope_holds(a, &b->scope, seat, input)) {
            measure_press(&input->event, part, binding_run_at(a, index));
            refresh_action(a, b->action, seat);
        }
    }
}

/* A6: not of what was stopped or typed. */
static void take_press(ikv_actions *a, const action_input *input)
{
    action_part parts[TRIGGERS];
    uint32_t count = ikvi_parts_of(input, parts), place;
    uint32_t seat = action_seat(a, input->event.seat);
    IKVI_CHECK(count <= TRIGGERS);
    if (count == 0)
        return;
    a->looking = input;
    ikvi_bus_tell_moment(a->bus, IKV_WATCH_PRESS, &input->event);
    if (input->claimed && !input->release) {
        a->s.counters.passed_over++;
        return;
    }
    /* Motion is the last of an event's parts. */
    if (parts[count - 1].type == PART_MOVE)
        add_motion_to_held(a, seat, input);
    uint32_t length = ikvi_longest_chord(a, seat, input, parts, count, &place);
    if (length == 0)
        return;
    /* A number for this press, so that no mark need be cleared. */
    a->s.tries++;
    for (uint32_t i = 0; i < count; i++)
        start_all(a, seat, input, parts[i], length);
}

/* ------------------------------------------------------------- learning -- */

static void add_held_modifiers(action_shape *shape, uint16_t modifiers)
{
    static const uint8_t order[] = {IKV_CONTROL, IKV_SHIFT, IKV_ALT, IKV_META};
    /* One place is left for what was pressed. */
    for (uint32_t i = 0; i < 4 && shape->count + 1 < ACTION_PARTS; i++)
        if (modifiers & order[i])
            shape->parts[shape->count++] =
                (action_part){PART_MODIFIER, order[i]};
}

/* The part by which an event is remembered; false if it says nothing yet. */
static bool learned_part(const ikv_event *event, action_part *to)
{
    float axis = event->pad.index % 2 == 0 ? event->pad.x : event->pad.y;
    bool touch = event->pointer.type == IKV_TOUCH;
    action_part parts[TRIGGERS];
    if (event->kind == IKV_KIND_PAD_AXIS) {
        /* Those of no stick have a value of their own alone. */
        if (event->pad.index >= 4)
            axis = event->pad.value;
        *to = (action_part){axis > 0 ? PART_AXIS_PLUS : PART_AXIS_MINUS,
                            event->pad.index};
        return size_of(axis) > PRESS_AT;
    }
    if (event->kind == IKV_KIND_KEY_UP) {
        *to = (action_part){PART_KEY, (uint8_t)event->key.code};
        return ikvi_modifier_bit(event->key.code) != 0;
    }
    if (event->kind == IKV_KIND_KEY_DOWN &&
        ikvi_modifier_bit(event->key.code) != 0)
        return false; /* more may follow */
    if (triggers_of(event, parts) == 0 || parts[0].type == PART_MOVE)
        return false;
    *to = parts[0];
    return touch ? to->type != PART_BUTTON
                 : to->type != PART_CLICK && to->type != PART_DOUBLE &&
                       to->type != PART_HOLD;
}

/* A modifier is learned when it comes up again: before that another key may
 * make a chord of it. */
static void learn_from(ikv_actions *a, const ikv_event *event)
{
    action_learning *learning = &a->s.learning;
    action_part part;
    if (event->kind == IKV_KIND_KEY_DOWN && learning->cancel_code != 0 &&
        event->key.code == learning->cancel_code) {
        learning->on = false;
        return;
    }
    if (event->kind == IKV_KIND_KEY_DOWN)
        learning->modifier = event->key.code;
    if (!learned_part(event, &part) || !ikvi_part_is_named(part) ||
        (event->kind == IKV_KIND_KEY_UP &&
         event->key.code != learning->modifier))
        return;
    learning->shape = (action_shape){0};
    if (event->kind != IKV_KIND_KEY_UP)
        add_held_modifiers(&learning->shape, event->modifiers);
    IKVI_CHECK(learning->shape.count < ACTION_PARTS);
    learning->shape.parts[learning->shape.count++] = part;
    learning->done = true;
    learning->on = false;
}

ikv_status ikv_actions_learn(ikv_actions *actions, uint8_t seat,
                             uint32_t cancel_code)
{
    if (actions == NULL || seat >= actions->seats)
        return IKV_BAD_ARGUMENT;
    if (actions->s.learning.on)
        return IKV_BUSY;
    actions->s.learning =
        (action_learning){.on = true, .seat = seat, .cancel_code = cancel_code};
    return IKV_OK;
}

ikv_status ikv_actions_learned(ikv_actions *actions, char *buffer, size_t size)
{
    if (actions == NULL || buffer == NULL || size == 0)
        return IKV_BAD_ARGUMENT;
    if (actions->s.learning.on)
        return IKV_BUSY;
    if (!actions->s.learning.done)
        return IKV_ABSENT;
    actions->s.learning.done = false;
    ikvi_shape_write(&actions->s.learning.shape, buffer, size);
    return IKV_OK;
}

void ikv_actions_stop_learning(ikv_actions *actions)
{
    if (actions != NULL)
        actions->s.learning = (action_learning){0};
}

/* -------------------------------------------------------------- feeding -- */

static void add_input(ikv_actions *a, const action_input *input)
{
    /* One event of a device makes few; only who feeds and never settles comes
     * here. */
    if (a->s.input_count == ACTION_QUEUE)
        a->s.counters.overflowed++;
    else
        a->s.input[a->s.input_count++] = *input;
}

/* A chord's move may both move and let go. */
static void note_input(ikv_actions *a, const ikv_event *event, uint8_t router,
                       bool claimed)
{
    action_part parts[TRIGGERS];
    /* Nobody would start. */
    if (a->s.binding_slots.used == 0 && !a->s.learning.on)
        return;
    action_input input = {*event, router, claimed, false};
    if (triggers_of(event, parts) > 0)
        add_input(a, &input);
    input.release = true;
    if (releases_of(event, parts) > 0 && (a->s.axes > 0 || a->s.learning.on))
        add_input(a, &input);
}

/* What a target that lets events through passes on may be stopped beneath. */
void ikvi_action_on_routed(void *actions, ikv_router *router,
                           const ikv_event *event, ikv_outcome outcome,
                           bool passed)
{
    ikv_actions *a = actions;
    bool claimed = (outcome.verdict & (IKV_STOP | IKV_STOP_ALL)) != 0;
    uint8_t at = 0;
    if (passed) {
        /* The newest of that kind is the event that was passed on. */
        for (uint32_t i = a->s.input_count; claimed && i-- > 0;)
            if (a->s.input[i].event.kind == event->kind) {
                a->s.input[i].claimed = true;
                return;
            }
        return;
    }
    while (at < a->router_count && a->routers[at] != router)
        at++;
    note_input(a, event, at, claimed);
}

void ikv_actions_take(ikv_actions *actions, const ikv_event *event,
                      bool claimed)
{
    if (actions != NULL && event != NULL && ikvi_event_is_good(NULL, event))
        note_input(actions, event, UINT8_MAX, claimed);
}

/* A binding that holds only while something has the focus ends with that. */
static bool goes_on(ikv_actions *a, uint32_t index)
{
    const action_binding *b = binding_at(a, index / a->seats);
    uint32_t seat = index % a->seats;
    uint8_t router = action_run_at(a, b->action, seat)->router;
    /* Other scopes hold for the press alone. */
    return ikvi_scope_goes_on(a, &b->scope, seat, router) &&
           ikvi_measure_binding(a, b, seat, binding_run_at(a, index));
}

static void end_what_is_over(ikv_actions *a)
{
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth);
        if (goes_on(a, index)) {
            refresh_action(a, binding_at(a, index / a->seats)->action,
                           index % a->seats);
            nth++;
            continue;
        }
        ikvi_binding_release(a, index / a->seats, index % a->seats);
        /* From the first again, after a handler. */
        nth = 0;
    }
}

/* Input waits in `input` until all of its event's handlers have had their say,
 * since a claimed press starts nothing (A6). A copy is taken of each, as
 * handlers may feed more. */
void ikv_actions_settle(ikv_actions *actions, uint64_t time_ns, bool typed,
                        bool lost)
{
    ikv_actions *a = actions;
    if (a == NULL || a->resolving ||
        (a->s.input_count == 0 && a->s.held_count == 0))
        return;
    a->resolving = true;
    a->s.time_ns = time_ns;
    /* What ends by a loss says so. */
    a->synthetic = lost;
    for (uint32_t i = 0; i < a->s.input_count; i++) {
        action_input input = a->s.input[i];
        bool key = input.event.kind == IKV_KIND_KEY_DOWN;
        input.claimed = input.claimed || (key && typed);
        if (a->s.learning.on &&
            action_seat(a, input.event.seat) == a->s.learning.seat)
            learn_from(a, &input.event);
        else
            take_press(a, &input);
    }
    a->looking = NULL;
    a->s.input_count = 0;
    end_what_is_over(a);
    a->synthetic = false;
    a->resolving = false;
}

/* Motion ends with a step in which nothing moved. */
static void end_motion(ikv_actions *a)
{
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth);
        const action_shape *shape = &binding_at(a, index / a->seats)->shape;
        binding_run *run = binding_run_at(a, index);
        bool moved = run->moved;
        nth++;
        if (shape->axis || shape->parts[shape->count - 1].type != PART_MOVE)
            continue;
        /* For the next step: one without motion ends it. */
        run->moved = false;
        run->moved_x = run->moved_y = 0;
        if (moved)
            continue;
        ikvi_binding_release(a, index / a->seats, index % a->seats);
        nth = 0;
    }
}

/* Each action is told once a step, by `told`; when a handler has changed what
 * is held, the walk begins anew and passes over those that were told. */
void ikv_actions_step(ikv_actions *actions, uint64_t time_ns)
{
    ikv_actions *a = actions;
    if (a == NULL || a->resolving || a->s.held_count == 0)
        return;
    a->resolving = true;
    a->s.time_ns = time_ns;
    a->s.step++;
    end_motion(a);
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth), seat = index % a->seats;
        uint32_t at = binding_at(a, index / a->seats)->action;
        action_run *run = action_run_at(a, at, seat);
        uint64_t changes = a->changes;
        nth++;
        if (run->told == a->s.step)
            continue;
        /* Before it is told: an action held twice over is told once. */
        run->told = a->s.step;
        tell(a, IKV_KIND_ACTION_HOLD, at, seat, false);
        run->steps++;
        if (a->changes != changes)
            nth = 0;
    }
    a->resolving = false;
}
