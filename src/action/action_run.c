/* action_run.c - starts and ends actions as input comes.
 *
 * Presses start bindings; whether a binding is still satisfied is asked of the
 * state after each input, so that nothing that was lost stays held. A handler
 * may change anything: loops over what is held begin anew after each delivery.
 */
#include "action_internal.h"

static bool is_zero(float x, float y)
{
    return !(x < 0 || x > 0 || y < 0 || y > 0);
}

/* ----------------------------------------------------------- delivering -- */

/* A1: events bear the input that started the action, from its start to its end;
 * when that input's target has gone meanwhile they go to the root. The start
 * has the input's time, what follows the time that was settled. */
static void tell(ikv_actions *a, ikv_kind kind, uint32_t place, uint32_t seat,
                 uint16_t flags)
{
    const action_run *run = action_run_at(a, place, seat);
    IKVI_CHECK(kind >= IKV_KIND_ACTION_START && kind <= IKV_KIND_ACTION_END);
    ikv_event cause = run->cause;
    ikv_event event = ikv_event_make(
        kind, kind == IKV_KIND_ACTION_START ? cause.time_ns : a->s.time_ns);
    event.device = cause.device;
    event.modifiers = cause.modifiers;
    event.view = cause.view;
    event.seat = (uint8_t)seat;
    event.flags = flags;
    IKVI_CHECK((kind == IKV_KIND_ACTION_END) == (run->on == 0)); /* action-4 */
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

/* How often what is held since then repeats until now. */
static uint32_t repeats_until(const ikv_actions *a, uint32_t seat,
                              uint64_t since_ns)
{
    const action_times *times = &a->s.times[seat];
    uint64_t held = a->s.time_ns > since_ns ? a->s.time_ns - since_ns : 0;
    if (times->after_ns == 0 || held < times->after_ns)
        return 0;
    uint64_t more =
        times->every_ns > 0 ? (held - times->after_ns) / times->every_ns : 0;
    return more < UINT32_MAX - 1 ? (uint32_t)more + 1 : UINT32_MAX;
}

/* A2: once a step, flagged as a repeat in the steps in which one is due. */
static void tell_hold(ikv_actions *a, uint32_t place, uint32_t seat)
{
    action_run *run = action_run_at(a, place, seat);
    uint32_t repeats = repeats_until(a, seat, run->cause.time_ns);
    bool due = repeats > run->repeats;
    run->repeats = repeats;
    tell(a, IKV_KIND_ACTION_HOLD, place, seat, due ? IKV_REPEAT : 0);
}

/* The action's values are those of the binding that is furthest, or what it is
 * fed. */
static void refresh_action(ikv_actions *a, uint32_t place, uint32_t seat)
{
    action_run *run = action_run_at(a, place, seat);
    float most = -1;
    if (run->fed) {
        binding_run fed = {0};
        ikvi_set_vector(&fed, run->fed_x, run->fed_y);
        bool line = !(run->fed_y < 0 || run->fed_y > 0);
        run->value = line ? ikvi_clamp(run->fed_x, -1, 1) : fed.value;
        run->x = run->fed_x;
        run->y = run->fed_y;
        run->binding = NO_PLACE;
        most = size_of(run->value);
    }
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
    /* action-4: what holds it gives it a value. */
    IKVI_CHECK((run->on > 0) == (most >= 0));
}

uint32_t ikvi_held_action(const ikv_actions *a, uint32_t index)
{
    return index >= first_fed(a) ? held_place(a, index - first_fed(a))
                                 : binding_at(a, held_place(a, index))->action;
}

/* A1: an action is on while any of its bindings is, or it is fed; only the first
 * of them starts it, those that join give their value. */
static void hold(ikv_actions *a, uint32_t index, const ikv_event *cause,
                 uint8_t router)
{
    uint32_t at = ikvi_held_action(a, index), seat = held_seat(a, index);
    action_run *run = action_run_at(a, at, seat);
    /* There is room: one place for each binding and action, and seat. */
    *held_at(a, a->s.held_count++) = index;
    a->changes++;
    /* On already: no second start. */
    if (run->on++ > 0) {
        refresh_action(a, at, seat);
        return;
    }
    run->cause = *cause;
    run->router = router;
    run->steps = run->repeats = 0;
    refresh_action(a, at, seat);
    a->s.counters.started++;
    tell(a, IKV_KIND_ACTION_START, at, seat, a->synthetic ? IKV_SYNTHETIC : 0);
}

/* The order of what is held stays, since holds are told in it. */
static void let_go(ikv_actions *a, uint32_t index, bool synthetic)
{
    uint32_t at = ikvi_held_action(a, index), seat = held_seat(a, index),
             nth = 0;
    IKVI_CHECK(a->s.held_count > 0);
    while (*held_at(a, nth) != index)
        nth++;
    IKVI_CHECK(nth < a->s.held_count);
    a->s.held_count--;
    for (uint32_t i = nth; i < a->s.held_count; i++)
        *held_at(a, i) = *held_at(a, i + 1);
    if (index >= first_fed(a))
        action_run_at(a, at, seat)->fed = action_run_at(a, at, seat)->latched =
            false;
    else
        binding_run_at(a, index)->on = false;
    IKVI_CHECK(action_run_at(a, at, seat)->on > 0);
    /* Before anybody is told: walks over what is held begin anew. */
    a->changes++;
    if (--action_run_at(a, at, seat)->on > 0) {
        refresh_action(a, at, seat);
        return;
    }
    tell(a, IKV_KIND_ACTION_END, at, seat, synthetic ? IKV_SYNTHETIC : 0);
}

/* A1: a press ends what the last one has left on; else it is left on by being
 * fed what the press says, once that has started it. */
static bool toggle_off(ikv_actions *a, uint32_t at, uint32_t seat)
{
    if (!action_run_at(a, at, seat)->latched)
        return false;
    ikvi_action_unlatch(a, at, seat);
    return true;
}

static void latch(ikv_actions *a, uint32_t place, uint32_t seat,
                  const ikv_event *cause)
{
    uint32_t at = binding_at(a, place)->action;
    const binding_run *b = binding_run_at(a, place * a->seats + seat);
    action_run *run = action_run_at(a, at, seat);
    /* A handler of its start may have ended it, or fed it itself. */
    if (!b->on || run->fed)
        return;
    IKVI_CHECK(run->on > 0);
    run->fed = run->latched = true;
    run->fed_x = is_zero(b->x, b->y) ? 1 : b->x;
    run->fed_y = b->y;
    run->fed_device = cause->device;
    *held_at(a, a->s.held_count++) = first_fed(a) + at * a->seats + seat;
    a->changes++;
    run->on++;
    /* Nothing else holds it: its key may be let go, or held on. */
    let_go(a, place * a->seats + seat, false);
}

static void start_binding(ikv_actions *a, uint32_t place, uint32_t seat,
                          const action_input *input)
{
    uint32_t index = place * a->seats + seat;
    uint32_t at = binding_at(a, place)->action;
    bool toggles = (action_row_at(a, at)->toggles >> seat & 1) != 0;
    IKVI_CHECK(!binding_run_at(a, index)->on);
    if (toggles && toggle_off(a, at, seat))
        return;
    binding_run_at(a, index)->on = true;
    hold(a, index, &input->event, input->router);
    if (toggles)
        latch(a, place, seat, &input->event);
}

/* An end that is no release (a binding or action was removed, a set switched
 * off) is synthetic, whoever's handler did that. */
void ikvi_held_release(ikv_actions *a, uint32_t index)
{
    let_go(a, index, true);
}

void ikvi_binding_release(ikv_actions *a, uint32_t place, uint32_t seat)
{
    ikvi_held_release(a, place * a->seats + seat);
}

/* --------------------------------------------------------------- feeding -- */

void ikvi_action_unlatch(ikv_actions *a, uint32_t at, uint32_t seat)
{
    if (action_run_at(a, at, seat)->latched)
        let_go(a, first_fed(a) + at * a->seats + seat, a->synthetic);
}

void ikvi_action_feed(ikv_actions *a, uint32_t at, uint32_t seat, float x,
                      float y, const ikv_event *cause)
{
    action_run *run = action_run_at(a, at, seat);
    uint32_t index = first_fed(a) + at * a->seats + seat;
    bool was = run->fed;
    if (is_zero(x, y)) {
        if (was)
            let_go(a, index, a->synthetic);
        return;
    }
    run->fed = true;
    run->latched = false; /* now it is fed, until that ends */
    run->fed_x = x;
    run->fed_y = y;
    run->fed_device = cause->device;
    if (was)
        refresh_action(a, at, seat);
    else
        hold(a, index, cause, UINT8_MAX);
}

/* What comes in as an event is fed as by the call; a handler may have stopped
 * it. */
static void take_feed(ikv_actions *a, const action_input *input)
{
    const ikv_event *event = &input->event;
    uint32_t seat = action_seat(a, event->seat);
    uint32_t at = ikvi_slots_find(&a->s.action_slots, a, event->action.action);
    if (input->claimed || at == IKVI_NO_SLOT ||
        !ikv_actions_is_on(a, action_row_at(a, at)->set, (uint8_t)seat)) {
        a->s.counters.passed_over++;
        return;
    }
    ikvi_action_feed(a, at, seat, event->action.x, event->action.y, event);
}

/* A9, K1: what a device that is gone has fed is over. L10: if it is given to
 * another seat, for all others. */
static void lose_feeds(ikv_actions *a, const ikv_event *lost)
{
    uint32_t kept = UINT32_MAX;
    if (lost->kind == IKV_KIND_DEVICE_SEAT)
        kept = action_seat(a, lost->seat);
    for (uint32_t nth = 0; nth < a->s.held_count; nth++) {
        uint32_t index = *held_at(a, nth);
        if (index < first_fed(a))
            continue;
        action_run *run =
            action_run_at(a, ikvi_held_action(a, index), held_seat(a, index));
        /* Ended when what is over is looked for. */
        if (run->fed_device == lost->device && held_seat(a, index) != kept)
            run->fed_x = run->fed_y = 0;
    }
}

/* -------------------------------------------------------------- presses -- */

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

/* Whether that event satisfies the binding now, which it did not before. A3: not
 * in a set that came on by it. */
static bool would_start(const ikv_actions *a, uint32_t place, uint32_t seat,
                        const action_input *input, action_part part)
{
    const action_binding *b = binding_at(a, place);
    const binding_run *run = binding_run_at(a, place * a->seats + seat);
    ikv_action_set set = action_row_at(a, b->action)->set;
    if (run->on || (input->release && !b->shape.axis) ||
        !ikv_actions_is_on(a, set, (uint8_t)seat) ||
        (action_set_at(a, set)->fresh & (1u << seat)) != 0 ||
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
        if (part.type == PART_FINGER)
            ikvi_measure_grab(a, &b->scope, input, run);
        if (b->shape.axis ||
            (part.type >= PART_AXIS && part.type <= PART_FINGER))
            ikvi_measure_binding(a, b, seat, run);
        start_binding(a, place, seat, input);
        /* Starts and ends at once, unless a handler has ended it. */
        /* One that has ended a toggle is on no more. */
        if (is_momentary(part) && run->on)
            let_go(a, place * a->seats + seat, a->synthetic);
    }
}

/* What an input would have said of itself, had it come now. */
static bool held_input(const ikv_actions *a, uint32_t seat, action_part part,
                       ikv_event *event, binding_run *run)
{
    ikv_pointer_state p;
    *event = ikv_event_make(IKV_KIND_KEY_DOWN, a->s.time_ns);
    event->seat = (uint8_t)seat;
    event->flags = IKV_SYNTHETIC;
    event->target = ikvi_bus_root();
    switch (part.type) {
    case PART_KEY:
        event->key.code = 0x00070000u | part.number;
        return true;
    case PART_MODIFIER:
    case PART_ANY_KEY:
        return true;
    case PART_PAD:
        event->kind = IKV_KIND_PAD_DOWN;
        event->pad.index = part.number;
        return true;
    case PART_AXIS:
    case PART_AXIS_PLUS:
    case PART_AXIS_MINUS:
    case PART_STICK:
    case PART_VALUE:
        event->kind =
            part.type == PART_VALUE ? IKV_KIND_PAD_VALUE : IKV_KIND_PAD_AXIS;
        event->pad.index = part.number;
        return true;
    case PART_BUTTON:
        for (uint32_t i = 0;
             ikv_state_pointer(a->state, IKV_STATE_UNCLAIMED, i, &p); i++)
            if (action_seat(a, p.seat) == seat &&
                (p.buttons & ikvi_button_bit((int8_t)part.number)) != 0) {
                *event = ikv_event_make(IKV_KIND_POINTER_DOWN, a->s.time_ns);
                event->seat = (uint8_t)seat;
                event->flags = IKV_SYNTHETIC;
                event->target = ikvi_bus_root();
                event->device = run->device = p.device;
                event->pointer.pointer = run->pointer = p.pointer;
                event->pointer.x = p.x;
                event->pointer.y = p.y;
                event->pointer.type = p.type;
                event->pointer.button = (int8_t)part.number;
                event->pointer.buttons = p.buttons;
                return true;
            }
        return false;
    default:
        return false; /* it is over in a moment, or began as a press */
    }
}

/* Whether the press that is taken now is that part's: it is not held yet, or
 * what its handler switches on would start by it. */
static bool is_pressed_now(const ikv_actions *a, uint32_t seat,
                           action_part part)
{
    action_part parts[TRIGGERS];
    const action_input *input = a->looking;
    if (input == NULL || input->release ||
        action_seat(a, input->event.seat) != seat)
        return false;
    uint32_t count = ikvi_parts_of(input, parts);
    for (uint32_t i = 0; i < count; i++)
        if (parts[i].type == part.type && parts[i].number == part.number)
            return true;
    return false;
}

/* Whether it is held already, by which input, and how far. Where an input went is
 * not known any more: what holds there alone waits. */
static bool is_held_already(const ikv_actions *a, uint32_t place, uint32_t seat,
                            action_input *input, binding_run *run)
{
    const action_binding *b = binding_at(a, place);
    action_part part = b->shape.parts[b->shape.count - 1];
    *input = (action_input){.router = UINT8_MAX};
    *run = *binding_run_at(a, place * a->seats + seat);
    /* What toggles waits for a press. */
    if (run->on || (action_row_at(a, b->action)->toggles >> seat & 1) != 0 ||
        action_is_leaving(a, place, b->action) ||
        (b->scope.where != IKV_ANYWHERE &&
         (b->scope.where != IKV_FOCUSED ||
          !ikvi_focus_is_within(a, seat, b->scope.target))))
        return false;
    /* An axis is held by any of its parts. */
    for (uint32_t i = 0; b->shape.axis && i < b->shape.count; i++)
        if (ikvi_part_is_held(a, seat, b->shape.parts[i]))
            part = b->shape.parts[i];
    return !is_pressed_now(a, seat, part) &&
           held_input(a, seat, part, &input->event, run) &&
           ikvi_measure_binding(a, b, seat, run);
}

bool ikvi_binding_is_held(const ikv_actions *a, uint32_t place, uint32_t seat)
{
    action_input input;
    binding_run run;
    return is_held_already(a, place, seat, &input, &run);
}

void ikvi_binding_start_held(ikv_actions *a, uint32_t place, uint32_t seat)
{
    action_input input;
    binding_run run;
    if (!is_held_already(a, place, seat, &input, &run))
        return;
    *binding_run_at(a, place * a->seats + seat) = run;
    start_binding(a, place, seat, &input);
}

/* Motion that adds to what has started already. */
static void add_motion_to_held(ikv_actions *a, uint32_t seat,
                               const action_input *input)
{
    for (uint32_t nth = 0; nth < a->s.held_count; nth++) {
        uint32_t index = *held_at(a, nth);
        if (index >= first_fed(a))
            continue;
        const action_binding *b = binding_at(a, held_place(a, index));
        action_part part = b->shape.parts[b->shape.count - 1];
        if (held_seat(a, index) == seat && part.type == PART_MOVE &&
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

/* -------------------------------------------------------------- feeding -- */

static void add_input(ikv_actions *a, const action_input *input)
{
    /* One event of a device makes few; only who feeds and never settles comes
     * here. */
    if (a->s.input_count == ACTION_QUEUE)
        a->s.counters.overflowed++;
    else
        a->s.input[a->s.input_count++] = *input;
    IKVI_CHECK(a->s.input_count <= ACTION_QUEUE);
}

/* A chord's move may both move and let go. */
static void note_input(ikv_actions *a, const ikv_event *event, uint8_t router,
                       bool claimed)
{
    action_part parts[TRIGGERS];
    bool learns = false;
    action_input input = {*event, router, claimed, false};
    if (event->kind == IKV_KIND_ACTION_FEED)
        add_input(a, &input);
    else if (event->kind == IKV_KIND_DEVICE_REMOVE ||
             event->kind == IKV_KIND_DEVICE_RESYNC ||
             event->kind == IKV_KIND_DEVICE_SEAT)
        lose_feeds(a, event);
    for (uint32_t seat = 0; seat < a->seats; seat++)
        learns = learns || a->s.learning[seat].on;
    /* Nobody would start. */
    if (a->s.binding_slots.used == 0 && !learns)
        return;
    if (ikvi_triggers_of(event, parts) > 0)
        add_input(a, &input);
    input.release = true;
    if (ikvi_releases_of(event, parts) > 0 && (a->s.axes > 0 || learns))
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
    if (index >= first_fed(a)) {
        const action_run *fed =
            action_run_at(a, ikvi_held_action(a, index), held_seat(a, index));
        return !is_zero(fed->fed_x, fed->fed_y);
    }
    const action_binding *b = binding_at(a, held_place(a, index));
    uint32_t seat = held_seat(a, index);
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
            refresh_action(a, ikvi_held_action(a, index), held_seat(a, index));
            nth++;
            continue;
        }
        let_go(a, index, a->synthetic);
        /* From the first again, after a handler. */
        nth = 0;
    }
}

static void end_press(ikv_actions *a)
{
    for (uint32_t i = 0; a->fresh && i < a->s.set_count; i++)
        action_set_at(a, i)->fresh = 0;
    a->fresh = false;
}

/* Input waits in `input` until all of its event's handlers have had their say,
 * since a claimed press starts nothing (A6). A copy is taken of each, as
 * handlers may feed more. */
void ikv_actions_settle(ikv_actions *actions, uint64_t time_ns, bool typed,
                        bool lost)
{
    ikv_actions *a = actions;
    /* What comes while something is taken away waits until it is gone. */
    if (a == NULL || a->resolving || a->leaving != NULL ||
        (a->s.input_count == 0 && a->s.held_count == 0))
        return;
    a->resolving = true;
    a->s.time_ns = time_ns;
    /* What ends by a loss says so. */
    a->synthetic = lost;
    for (uint32_t i = 0; i < a->s.input_count; i++) {
        action_input input = a->s.input[i];
        bool key = input.event.kind == IKV_KIND_KEY_DOWN;
        /* An event's release comes behind its press. */
        if (!input.release)
            end_press(a);
        input.claimed = input.claimed || (key && typed);
        if (input.event.kind == IKV_KIND_ACTION_FEED)
            take_feed(a, &input);
        else if (!ikvi_learn_from(a, action_seat(a, input.event.seat),
                                  &input.event))
            take_press(a, &input);
        a->looking = NULL;
    }
    a->s.input_count = 0;
    end_what_is_over(a);
    end_press(a);
    a->synthetic = false;
    a->resolving = false;
}

static bool is_motion(const ikv_actions *a, uint32_t index)
{
    if (index >= first_fed(a))
        return false;
    const action_shape *shape = &binding_at(a, held_place(a, index))->shape;
    return !shape->axis && shape->parts[shape->count - 1].type == PART_MOVE;
}

/* Motion ends with a step in which nothing moved. */
static void end_motion(ikv_actions *a)
{
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth);
        nth++;
        if (!is_motion(a, index) || binding_run_at(a, index)->moved)
            continue;
        let_go(a, index, false);
        nth = 0;
    }
    /* For the next step, once all that are over have ended. */
    for (uint32_t nth = 0; nth < a->s.held_count; nth++) {
        uint32_t index = *held_at(a, nth);
        binding_run *run =
            is_motion(a, index) ? binding_run_at(a, index) : NULL;
        if (run == NULL)
            continue;
        run->moved = false;
        run->moved_x = run->moved_y = 0;
    }
}

/* Each action is told once a step, by `told`; when a handler has changed what
 * is held, the walk begins anew and passes over those that were told. */
void ikv_actions_step(ikv_actions *actions, uint64_t time_ns)
{
    ikv_actions *a = actions;
    if (a == NULL || a->resolving)
        return;
    a->s.time_ns = time_ns;
    if (a->s.held_count == 0)
        return;
    a->resolving = true;
    a->s.step++;
    end_motion(a);
    for (uint32_t nth = 0; nth < a->s.held_count;) {
        uint32_t index = *held_at(a, nth), seat = held_seat(a, index);
        uint32_t at = ikvi_held_action(a, index);
        action_run *run = action_run_at(a, at, seat);
        uint64_t changes = a->changes;
        nth++;
        IKVI_CHECK(run->on > 0);
        if (run->told == a->s.step)
            continue;
        /* Before it is told: an action held twice over is told once. */
        run->told = a->s.step;
        uint32_t bits = ikvi_slots_bits(&a->s.action_slots, a, at);
        tell_hold(a, at, seat);
        /* Unless another one is in its place by now. */
        run->steps += ikvi_slots_bits(&a->s.action_slots, a, at) == bits;
        if (a->changes != changes)
            nth = 0;
    }
    end_press(a);
    a->resolving = false;
}
