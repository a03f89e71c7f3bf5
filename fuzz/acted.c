/* acted.c - actions and a model of their rules are given the same input, with
 * handlers that do the same: bind and unbind, switch and push sets, feed, toggle.
 * What both tell, in which order and with which fields, and what can be asked of
 * them must be the same.
 *
 * Input comes as from a loop without a router: everything is at the root, and
 * claimed at random.
 */
#include "acted.h"

enum {
    LOG = 1 << 16,
    INPUTS = 300,
    CALLS = 4 /* of handlers of one input */
};

#define MS UINT64_C(1000000)

/* A, D, W, S, F, both Shifts and the left Control. */
const uint32_t codes[CODES] = {IKV_CODE(0x04), IKV_CODE(0x07), IKV_CODE(0x1a),
                               IKV_CODE(0x16), IKV_CODE(0x09), IKV_CODE(0xe1),
                               IKV_CODE(0xe5), IKV_CODE(0xe0)};

#define A                                                                      \
    {                                                                          \
        OF_KEY, 0                                                              \
    }
#define D                                                                      \
    {                                                                          \
        OF_KEY, 1                                                              \
    }
#define W                                                                      \
    {                                                                          \
        OF_KEY, 2                                                              \
    }
#define S                                                                      \
    {                                                                          \
        OF_KEY, 3                                                              \
    }
#define F                                                                      \
    {                                                                          \
        OF_KEY, 4                                                              \
    }
#define LEFT                                                                   \
    {                                                                          \
        OF_KEY, 5                                                              \
    }
#define SHIFT                                                                  \
    {                                                                          \
        OF_MODIFIER, IKV_SHIFT                                                 \
    }
#define CONTROL                                                                \
    {                                                                          \
        OF_MODIFIER, IKV_CONTROL                                               \
    }

const shape shapes[] = {
    {"KeyA", false, 1, {A}},
    {"KeyF", false, 1, {F}},
    {"Shift", false, 1, {SHIFT}},
    {"ShiftLeft", false, 1, {LEFT}},
    {"key.any", false, 1, {{OF_ANY_KEY, 0}}},
    {"Shift+KeyA", false, 2, {SHIFT, A}},
    {"Control+Shift+KeyA", false, 3, {CONTROL, SHIFT, A}},
    {"KeyF+KeyA", false, 2, {F, A}},
    {"KeyA+KeyF", false, 2, {A, F}},
    {"Control+Shift", false, 2, {CONTROL, SHIFT}},
    {"KeyA|KeyD", true, 2, {A, D}},
    {"KeyA|KeyD|KeyW|KeyS", true, 4, {A, D, W, S}},
    {"Shift|Control", true, 2, {SHIFT, CONTROL}},
    {"pointer.primary", false, 1, {{OF_BUTTON, 0}}},
    {"pointer.secondary", false, 1, {{OF_BUTTON, 2}}},
    {"Shift+pointer.primary", false, 2, {SHIFT, {OF_BUTTON, 0}}},
    {"pointer.primary+KeyA", false, 2, {{OF_BUTTON, 0}, A}},
    {"pad.0", false, 1, {{OF_PAD, 0}}},
    {"pad.0+pad.1", false, 2, {{OF_PAD, 0}, {OF_PAD, 1}}},
    {"pad.0|pad.1", true, 2, {{OF_PAD, 0}, {OF_PAD, 1}}},
    {"KeyA|pad.0", true, 2, {A, {OF_PAD, 0}}},
    {"pad.axis4", false, 1, {{OF_AXIS, 4}}},
    {"pad.axis4+", false, 1, {{OF_AXIS_PLUS, 4}}},
    {"Shift+pad.axis4-", false, 2, {SHIFT, {OF_AXIS_MINUS, 4}}},
    {"pad.axis4-|pad.axis4+", true, 2, {{OF_AXIS_MINUS, 4}, {OF_AXIS_PLUS, 4}}},
    {"KeyA|pad.axis4+", true, 2, {A, {OF_AXIS_PLUS, 4}}},
    {"pad.axis4-+KeyA", false, 2, {{OF_AXIS_MINUS, 4}, A}},
    {"pad.axis1", false, 1, {{OF_AXIS, 1}}},
    {"pad.left", false, 1, {{OF_STICK, 0}}},
    {"pad.value0", false, 1, {{OF_VALUE, 0}}},
    {"pad.value6", false, 1, {{OF_VALUE, 6}}},
    {"pad.value6|pad.value7", true, 2, {{OF_VALUE, 6}, {OF_VALUE, 7}}},
    {"wheel.up", false, 1, {{OF_WHEEL, 0}}},
    {"Shift+wheel.down", false, 2, {SHIFT, {OF_WHEEL, 1}}},
    {"pointer.move", false, 1, {{OF_MOVE, 0}}},
    {"Shift+pointer.move", false, 2, {SHIFT, {OF_MOVE, 0}}},
    {"pointer.click", false, 1, {{OF_CLICK, 0}}}};
const uint32_t shape_count = sizeof shapes / sizeof shapes[0];

static told heard[LOG];
static uint32_t heard_count, seen;

static uint32_t take_byte(side *s)
{
    return s->at < s->end ? *s->at++ : 0;
}

/* ----------------------------------------------------------------- notes -- */

static void note(side *s, const told *what)
{
    (void)s;
    MUST(heard_count < LOG);
    heard[heard_count++] = *what;
}

static void print_told(const char *who, const told *t)
{
    fprintf(
        stderr,
        "%s: %s %u action %d seat %u flags %x steps %u binding %d device %u "
        "modifiers %x at %llu cause %s at %llu: %g %g %g\n",
        who,
        t->kind < UINT16_MAX ? ikv_catalogue_info(NULL, (ikv_kind)t->kind)->name
                             : "asked",
        t->kind, t->action, t->seat, t->flags, t->steps, t->binding, t->device,
        t->modifiers, (unsigned long long)t->time_ns,
        t->cause != 0 ? ikv_catalogue_info(NULL, (ikv_kind)t->cause)->name
                      : "none",
        (unsigned long long)t->cause_ns, (double)t->value, (double)t->x,
        (double)t->y);
}

static bool is_same(const told *a, const told *b)
{
    float numbers[] = {a->value - b->value, a->x - b->x, a->y - b->y};
    bool same = a->kind == b->kind && a->flags == b->flags &&
                a->seat == b->seat && a->steps == b->steps &&
                a->device == b->device && a->modifiers == b->modifiers &&
                a->cause == b->cause && a->action == b->action &&
                a->binding == b->binding && a->time_ns == b->time_ns &&
                a->cause_ns == b->cause_ns;
    for (int i = 0; i < 3; i++)
        same = same && numbers[i] > -1e-5f && numbers[i] < 1e-5f;
    return same;
}

/* The model's: what the actions have told at that place. */
static void compare(side *s, const told *what)
{
    (void)s;
    if (seen < heard_count && is_same(&heard[seen], what)) {
        seen++;
        return;
    }
    fprintf(stderr, "the %uth told:\n", seen);
    for (uint32_t i = seen > 12 ? seen - 12 : 0; i < seen; i++)
        print_told("both", &heard[i]);
    if (seen < heard_count)
        print_told("actions", &heard[seen]);
    print_told("model", what);
    MUST(seen < heard_count && is_same(&heard[seen], what));
}

void note_number(side *s, uint32_t what, uint64_t number)
{
    const told t = {.kind = UINT16_MAX + what, .time_ns = number};
    s->tell(s, &t);
}

/* ----------------------------------------------------------------- calls -- */

static uint32_t any_seat(side *s)
{
    uint32_t seat = take_byte(s) % 5;
    return seat == 4 ? IKV_ALL_SEATS : seat / 2;
}

static int free_number(const side *s)
{
    int number = 0;
    while (number < BINDINGS && s->bound[number])
        number++;
    return number;
}

static ikv_status bind_one(side *s)
{
    int action = (int)(take_byte(s) % ACTIONS), number = free_number(s);
    uint32_t form = take_byte(s) % shape_count;
    if (number == BINDINGS)
        return IKV_FULL_BINDINGS;
    ikv_status status = s->bind(s, action, form, number);
    s->bound[number] = status == IKV_OK;
    s->of[number] = action;
    s->in_life[number] = s->lives[action];
    return status;
}

/* A number stays taken until all calls that end it have come back. */
static ikv_status unbind_one(side *s)
{
    int number = (int)(take_byte(s) % BINDINGS);
    if (!s->bound[number])
        return IKV_ABSENT;
    s->leaves[number]++;
    ikv_status status = s->unbind(s, number);
    s->bound[number] = --s->leaves[number] > 0;
    return status;
}

/* A handler of its end may have added it again. */
static ikv_status remove_one(side *s, int action)
{
    int life = s->lives[action];
    ikv_status status = s->remove(s, action);
    for (int i = 0; i < BINDINGS && status == IKV_OK; i++)
        if (s->of[i] == action && s->in_life[i] == life && s->leaves[i] == 0)
            s->bound[i] = false;
    return status;
}

static ikv_status add_one(side *s, int action)
{
    ikv_status status = s->add(s, action);
    s->lives[action] += status == IKV_OK;
    return status;
}

static void call(side *s)
{
    uint32_t which = take_byte(s) % 16, set = take_byte(s) % SETS, seat;
    int action = (int)(take_byte(s) % ACTIONS);
    ikv_status status = IKV_OK;
    switch (which) {
    case 0:
    case 1:
    case 2:
        seat = any_seat(s);
        status = s->switch_set(s, set, seat, take_byte(s) % 2);
        break;
    case 3:
        seat = any_seat(s);
        status = s->push(s, set, seat, take_byte(s) % 2);
        break;
    case 4:
    case 5:
        status = s->pop(s, any_seat(s));
        break;
    case 6:
        status = s->start_held(s, set, any_seat(s));
        break;
    case 7:
        status = bind_one(s);
        break;
    case 8:
        status = unbind_one(s);
        break;
    case 9:
        seat = any_seat(s);
        status = s->toggle(s, action, seat, take_byte(s) % 2);
        break;
    case 10:
        seat = take_byte(s) % SEATS;
        status = s->feed(s, action, seat, (float)(take_byte(s) % 3) - 1,
                         (float)(take_byte(s) % 3) / 2 - 0.5f);
        break;
    case 11:
        status = remove_one(s, action);
        break;
    case 12: /* another one, in its place */
        (void)remove_one(s, action);
        (void)add_one(s, action);
        status = s->feed(s, action, take_byte(s) % SEATS, 1, 0);
        break;
    case 13:
    case 14:
        status = add_one(s, action);
        break;
    default:
        seat = any_seat(s);
        status = s->repeat(s, seat, take_byte(s) % 4 * 20 * MS,
                           take_byte(s) % 3 * 10 * MS);
        break;
    }
    note_number(s, which, (uint64_t)(int64_t)status);
}

void act(side *s)
{
    while (s->calls > 0 && take_byte(s) % 3 == 0) {
        s->calls--;
        call(s);
    }
}

/* ----------------------------------------------------------------- input -- */

static uint16_t modifiers_of(const side *s, uint32_t seat)
{
    bool shift = s->key[seat][5] || s->key[seat][6];
    return (uint16_t)((shift ? IKV_SHIFT : 0) |
                      (s->key[seat][7] ? IKV_CONTROL : 0));
}

/* Devices 1 and 2 are keyboards, 3 and 4 mice, 5 and 6 pads. */
static ikv_event of_device(const side *s, ikv_kind kind, uint32_t first,
                           uint32_t seat)
{
    ikv_event event = ikv_event_make(kind, s->now_ns);
    event.device = (uint16_t)(first + seat);
    event.seat = (uint8_t)seat;
    event.modifiers = modifiers_of(s, seat);
    return event;
}

static ikv_event key_event(side *s, uint32_t seat)
{
    uint32_t which = take_byte(s) % CODES;
    bool down = s->key[seat][which] = !s->key[seat][which];
    ikv_event event =
        of_device(s, down ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP, 1, seat);
    event.key.code = codes[which];
    return event;
}

/* Bit 0 of the primary one, bit 1 of the secondary one. */
static uint16_t buttons_of(int button)
{
    return (uint16_t)(button == NOBODY ? 0 : button == 0 ? 1 : 2);
}

static ikv_event button_event(side *s, uint32_t seat)
{
    bool down = s->button[seat] == NOBODY;
    int button = down ? (int)(take_byte(s) % 2 * 2) : s->button[seat];
    ikv_event event = of_device(
        s, down ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_UP, 3, seat);
    s->button[seat] = down ? button : NOBODY;
    event.pointer.type = IKV_MOUSE;
    event.pointer.pointer = 1;
    event.pointer.button = (int8_t)button;
    event.pointer.buttons = buttons_of(s->button[seat]);
    return event;
}

static ikv_event pad_event(side *s, uint32_t seat)
{
    uint32_t which = take_byte(s) % PAD_BUTTONS;
    bool down = s->pad[seat][which] = !s->pad[seat][which];
    ikv_event event =
        of_device(s, down ? IKV_KIND_PAD_DOWN : IKV_KIND_PAD_UP, 5, seat);
    event.pad.pad = (uint8_t)seat;
    event.pad.index = (uint8_t)which;
    return event;
}

/* Somewhere between what starts and what ends. */
static float any_amount(side *s)
{
    static const float amounts[] = {0, 0.03f, 0.3f, 0.45f, 0.6f, 1};
    uint32_t byte = take_byte(s);
    float amount = amounts[byte % 6];
    return byte / 6 % 2 == 0 ? amount : -amount;
}

static ikv_event axis_event(side *s, uint32_t seat)
{
    static const uint8_t axes[] = {0, 1, 4, 4};
    uint32_t which = take_byte(s) % 6;
    ikv_event event = of_device(
        s, which < 4 ? IKV_KIND_PAD_AXIS : IKV_KIND_PAD_VALUE, 5, seat);
    event.pad.pad = (uint8_t)seat;
    event.pad.index = (uint8_t)(which < 4 ? axes[which] : which + 2);
    event.pad.value = any_amount(s);
    if (which >= 4 && event.pad.value < 0)
        event.pad.value = -event.pad.value;
    return event;
}

static ikv_event short_event(side *s, uint32_t seat)
{
    uint32_t which = take_byte(s) % 3;
    ikv_event event = of_device(
        s, which == 2 ? IKV_KIND_POINTER_CLICK : IKV_KIND_WHEEL, 3, seat);
    if (which == 2) {
        event.pointer.type = IKV_MOUSE;
        event.pointer.pointer = 1;
    } else {
        event.wheel.type = IKV_MOUSE;
        event.wheel.pointer = 1;
        event.wheel.dy = which == 0 ? -2 : 2;
    }
    return event;
}

static ikv_event move_event(side *s, uint32_t seat)
{
    ikv_event event = of_device(s, IKV_KIND_POINTER_MOVE, 3, seat);
    event.pointer.type = IKV_MOUSE;
    event.pointer.pointer = 1;
    event.pointer.button = -1;
    event.pointer.buttons = buttons_of(s->button[seat]);
    event.pointer.dx = (float)(take_byte(s) % 3) / 4;
    event.pointer.dy = (float)(take_byte(s) % 3) / 4 - 0.25f;
    return event;
}

/* A keyboard, mouse or pad is gone, or the window's focus. */
static ikv_event loss_event(side *s, uint32_t seat)
{
    uint32_t which = take_byte(s) % 5;
    ikv_event event =
        of_device(s, which == 4 ? IKV_KIND_WINDOW_BLUR : IKV_KIND_DEVICE_REMOVE,
                  1 + 2 * (which % 3), seat);
    if (which == 3)
        event.device = FEEDER;
    if (which == 4)
        event.device = 0;
    for (uint32_t i = 0; i < SEATS; i++) {
        if (which == 4 || (which == 0 && i == seat))
            memset(s->key[i], 0, sizeof s->key[i]);
        if (which == 4 || (which == 1 && i == seat))
            s->button[i] = NOBODY;
        if (which == 2 && i == seat)
            memset(s->pad[i], 0, sizeof s->pad[i]);
    }
    return event;
}

static ikv_event feed_event(side *s, uint32_t seat)
{
    ikv_event event = of_device(s, IKV_KIND_ACTION_FEED, FEEDER - seat, seat);
    event.action.action = take_byte(s) % ACTIONS; /* as numbers: see take() */
    event.action.x = (float)(take_byte(s) % 2);
    return event;
}

/* One event, of which several may come before the actions have their say. */
static bool take_input(side *s)
{
    uint32_t which = take_byte(s) % 24, seat = take_byte(s) % SEATS;
    bool claimed = take_byte(s) % 8 == 0;
    ikv_event event;
    if (which < 8)
        event = key_event(s, seat);
    else if (which < 11)
        event = button_event(s, seat);
    else if (which < 13)
        event = pad_event(s, seat);
    else if (which == 13)
        event = short_event(s, seat);
    else if (which == 14)
        event = loss_event(s, seat);
    else if (which > 19)
        event = move_event(s, seat);
    else if (which > 15)
        event = axis_event(s, seat);
    else
        event = feed_event(s, seat);
    bool lost = which == 14;
    if (event.kind != IKV_KIND_ACTION_FEED)
        s->state(s, &event, claimed && !lost);
    s->take(s, &event, claimed && !lost);
    return lost;
}

static void play(side *s)
{
    for (int i = 0; i < SEATS; i++)
        s->button[i] = NOBODY;
    for (int i = 0; i < 6; i++)
        bind_one(s);
    for (int i = 0; i < INPUTS && s->at < s->end; i++) {
        uint32_t what = take_byte(s);
        s->now_ns += what / 16 * MS;
        s->calls = CALLS;
        if (what % 16 == 0) {
            call(s);
        } else if (what % 16 < 4) {
            s->step(s, s->now_ns);
        } else {
            bool lost = take_input(s);
            for (; what % 16 > 12 && !lost; what--)
                lost = take_input(s);
            s->settle(s, s->now_ns, take_byte(s) % 16 == 0, lost);
        }
        s->check(s);
    }
}

/* --------------------------------------------------------------- actions -- */

typedef struct acted {
    side s; /* first */
    ikv_bus *bus;
    ikv_state *keys;
    ikv_actions *actions;
    ikv_action_id ids[ACTIONS];
    ikv_binding bindings[BINDINGS];
} acted;

static const char *const names[ACTIONS] = {"anchor", "bell", "chart", "foghorn",
                                           "winch"};

static void real_state(side *s, const ikv_event *event, bool claimed)
{
    acted *a = (acted *)s;
    if (claimed)
        ikv_state_take_claimed(a->keys, event);
    else
        ikv_state_take(a->keys, IKV_STATE_UNCLAIMED, event);
}

static void real_take(side *s, const ikv_event *event, bool claimed)
{
    acted *a = (acted *)s;
    ikv_event given = *event;
    given.target = ikv_bus_root(a->bus);
    if (event->kind == IKV_KIND_ACTION_FEED)
        given.action.action = a->ids[event->action.action].bits;
    ikv_actions_take(a->actions, &given, claimed);
}

static void real_settle(side *s, uint64_t time_ns, bool typed, bool lost)
{
    ikv_actions_settle(((acted *)s)->actions, time_ns, typed, lost);
}

static void real_step(side *s, uint64_t time_ns)
{
    ikv_actions_step(((acted *)s)->actions, time_ns);
}

static ikv_status real_switch(side *s, uint32_t set, uint32_t seat, bool on)
{
    return ikv_actions_switch(((acted *)s)->actions, (ikv_action_set)set,
                              (uint8_t)seat, on);
}

static ikv_status real_push(side *s, uint32_t set, uint32_t seat, bool joins)
{
    return ikv_actions_push(((acted *)s)->actions, (ikv_action_set)set,
                            (uint8_t)seat, joins);
}

static ikv_status real_pop(side *s, uint32_t seat)
{
    return ikv_actions_pop(((acted *)s)->actions, (uint8_t)seat);
}

static ikv_status real_start_held(side *s, uint32_t set, uint32_t seat)
{
    return ikv_actions_start_held(((acted *)s)->actions, (ikv_action_set)set,
                                  (uint8_t)seat);
}

static ikv_status real_bind(side *s, int action, uint32_t form, int number)
{
    acted *a = (acted *)s;
    return ikv_actions_bind(a->actions, a->ids[action], shapes[form].text, NULL,
                            &a->bindings[number]);
}

static ikv_status real_unbind(side *s, int number)
{
    acted *a = (acted *)s;
    return ikv_actions_unbind(a->actions, a->bindings[number]);
}

static ikv_status real_add(side *s, int action)
{
    acted *a = (acted *)s;
    return ikv_actions_add(a->actions, (ikv_action_set)(action % SETS),
                           names[action], &a->ids[action]);
}

static ikv_status real_remove(side *s, int action)
{
    acted *a = (acted *)s;
    return ikv_actions_remove(a->actions, a->ids[action]);
}

static ikv_status real_toggle(side *s, int action, uint32_t seat, bool on)
{
    acted *a = (acted *)s;
    return ikv_actions_set_toggle(a->actions, a->ids[action], (uint8_t)seat,
                                  on);
}

static ikv_status real_feed(side *s, int action, uint32_t seat, float x,
                            float y)
{
    acted *a = (acted *)s;
    return ikv_actions_feed(a->actions, a->ids[action], (uint8_t)seat, x, y);
}

static ikv_status real_repeat(side *s, uint32_t seat, uint64_t after_ns,
                              uint64_t every_ns)
{
    return ikv_actions_set_repeat(((acted *)s)->actions, (uint8_t)seat,
                                  after_ns, every_ns);
}

static int action_number(const acted *a, uint32_t bits)
{
    int number = 0;
    while (a->ids[number].bits != bits)
        number++;
    return number;
}

static void real_check(side *s)
{
    acted *a = (acted *)s;
    ikv_actions_counts counts = IKV_ACTIONS_COUNTS_INIT;
    MUST(ikv_actions_validate(a->actions) == NULL);
    MUST(ikv_actions_counters(a->actions, &counts) == IKV_OK);
    note_number(s, 20, counts.held);
    note_number(s, 21, counts.started);
    note_number(s, 22, counts.passed_over);
    for (uint32_t seat = 0; seat < SEATS; seat++) {
        for (uint32_t set = 0; set < SETS; set++)
            note_number(s, 30 + set,
                        ikv_actions_is_on(a->actions, (ikv_action_set)set,
                                          (uint8_t)seat));
        for (int i = 0; i < ACTIONS; i++) {
            ikv_action_state now =
                ikv_actions_ask(a->actions, a->ids[i], (uint8_t)seat);
            const told t = {.kind = UINT16_MAX + 40u,
                            .action = i,
                            .seat = seat,
                            .flags = now.on,
                            .steps = now.steps,
                            .value = now.value,
                            .x = now.x,
                            .y = now.y};
            note(s, &t);
        }
    }
}

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    acted *a = user;
    uint32_t bits = ikv_actions_binding_of(a->actions, event).bits;
    told what = {.kind = event->kind,
                 .action = action_number(a, event->action.action),
                 .seat = event->seat,
                 .flags = event->flags,
                 .steps = event->action.steps,
                 .binding = NOBODY,
                 .device = event->device,
                 .modifiers = event->modifiers,
                 .time_ns = event->time_ns,
                 .cause = delivery->cause->kind,
                 .cause_ns = delivery->cause->time_ns,
                 .value = event->action.value,
                 .x = event->action.x,
                 .y = event->action.y};
    for (int i = 0; i < BINDINGS && bits != 0; i++)
        if (a->s.bound[i] && a->bindings[i].bits == bits)
            what.binding = i;
    note(&a->s, &what);
    act(&a->s);
    return IKV_CONTINUE;
}

static void open_acted(acted *a)
{
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_state_config keys = IKV_STATE_INIT;
    ikv_actions_config config = IKV_ACTIONS_INIT;
    ikv_action_set set;
    bus.memory = keys.memory = config.memory = ikv_host_memory();
    MUST(ikv_bus_open(&bus, &a->bus) == IKV_OK);
    keys.seats = config.seats = SEATS;
    MUST(ikv_state_open(&keys, &a->keys) == IKV_OK);
    config.bus = a->bus;
    config.state = a->keys;
    config.bindings = BINDINGS; /* no more, so that places come again soon */
    config.actions = ACTIONS;
    MUST(ikv_actions_open(&config, &a->actions) == IKV_OK);
    MUST(ikv_actions_add_set(a->actions, "menu", &set) == IKV_OK && set == 1);
    MUST(ikv_actions_add_set(a->actions, "boat", &set) == IKV_OK && set == 2);
    for (int i = 0; i < ACTIONS; i++)
        MUST(real_add(&a->s, i) == IKV_OK);
    for (ikv_kind kind = IKV_KIND_ACTION_START; kind <= IKV_KIND_ACTION_END;
         kind++)
        MUST(ikv_bus_hear(a->bus, kind, (ikv_target){0}, hear, a, NULL) ==
             IKV_OK);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static acted a;
    a = (acted){.s = {.state = real_state,
                      .take = real_take,
                      .settle = real_settle,
                      .step = real_step,
                      .switch_set = real_switch,
                      .push = real_push,
                      .pop = real_pop,
                      .start_held = real_start_held,
                      .bind = real_bind,
                      .unbind = real_unbind,
                      .add = real_add,
                      .remove = real_remove,
                      .toggle = real_toggle,
                      .feed = real_feed,
                      .repeat = real_repeat,
                      .check = real_check,
                      .tell = note}};
    side *m = model_open();
    fuzz_begin();
    heard_count = seen = 0;
    m->tell = compare;
    a.s.at = m->at = data;
    a.s.end = m->end = data + size;
    open_acted(&a);
    play(&a.s);
    ikv_actions_close(a.actions);
    ikv_state_close(a.keys);
    ikv_bus_close(a.bus);
    play(m);
    MUST(seen == heard_count);
    for (uint32_t i = 0; i < heard_count; i++)
        fuzz_number(heard[i].kind + heard[i].time_ns);
    return 0;
}
