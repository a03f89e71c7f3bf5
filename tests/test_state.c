/* test_state.c - S1, S2: what is down and where, step by step. */
#include "support.h"

#include <ikvar/keys.h>

#include <math.h>

static bench_kit k;
static ikv_state *state;
static record seen;
static uint64_t ms;
static float mouse_x;

static ikv_verdict stop(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)event, (void)d, (void)u;
    return IKV_STOP;
}

static void open_state(void)
{
    kit_prepare(&k);
    k.config.loop.step_num = 50; /* a step each 20 ms */
    k.config.state.seats = 2;
    k.config.state.pointers = 3;
    k.config.queue.own_capacity = 2048;
    k.config.loop.pending = 2048;
    kit_open(&k);
    state = ikv_kit_state(k.kit);
    seen.text[0] = '\0';
    ms = 0;
    mouse_x = 0;
    kit_frame(&k, 0);
}

static void push(ikv_event *e)
{
    e->time_ns = 7000000000 + ms * 1000000 + 1000000;
    if (e->device == 0)
        e->device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, e));
}

static ikv_verdict count_samples(const ikv_event *event, const ikv_delivery *d,
                                 void *user)
{
    (void)event;
    *(uint32_t *)user += d->sample_count;
    return IKV_CONTINUE;
}

/* S1: a loop that has no router feeds its state all the same; nothing is typed
 * into anything. */
START_TEST(without_routers)
{
    static const ikv_kind kinds[] = {IKV_KIND_KEY_DOWN, IKV_KIND_TEXT_INPUT};
    ikv_loop *loop;
    fake_port fake = {.now_ns = 5000000000};
    ikv_port port = fake_port_of(&fake);
    open_state();
    ikv_input *input = NULL;
    ikv_input_config tied = IKV_INPUT_INIT;
    tied.bus = k.bus;
    tied.state = state;
    tied.actions = ikv_kit_actions(k.kit);
    ikv_action_id horn;
    ok(ikv_actions_add(tied.actions, IKV_MAIN_SET, "horn", &horn));
    ok(ikv_actions_bind(tied.actions, horn, "KeyA", NULL, NULL));
    tied.memory = ikv_host_memory();
    ok(ikv_input_open(&tied, &input));
    ikv_loop_config config = IKV_LOOP_INIT;
    config.bus = k.bus;
    config.queue = ikv_kit_queue(k.kit);
    config.input = input;
    config.ports = &port;
    config.port_count = 1;
    config.frame_hz = IKV_UNPACED;
    config.memory = ikv_host_memory();
    uint32_t samples = 0;
    hears(k.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, count_samples,
          &samples);
    ok(ikv_loop_open(&config, &loop));
    ck_assert(ikv_loop_begin(loop));
    ikv_loop_end(loop);
    for (int i = 0; i < 2; i++) { /* which are merged */
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, fake.now_ns);
        ok(ikv_sink_push(fake.sink, &e));
    }
    for (int i = 0; i < ROWS(kinds); i++) {
        ikv_event e = ikv_event_make(kinds[i], fake.now_ns);
        if (i == 0)
            e.key.code = ikv_code_find("KeyA");
        ok(ikv_sink_push(fake.sink, &e));
    }
    fake.now_ns += 20000000;
    ck_assert(ikv_loop_begin(loop));
    ck_assert(ikv_loop_step(loop));
    for (uint32_t filter = 0; filter < 2; filter++)
        ck_assert(ikv_state_key(state, filter, 0, ikv_code_find("KeyA")).down);
    ck_assert(ikv_actions_ask(tied.actions, horn, 0).on);
    ck_assert_uint_eq(samples, 2);
    ikv_loop_end(loop);
    ikv_loop_close(loop);
    ok(ikv_input_close(input));
    kit_close(&k);
}
END_TEST

static void push_key(ikv_kind kind, const char *code, uint16_t device)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.key.code = ikv_code_find(code);
    e.device = device;
    push(&e);
}

static void push_pointer(ikv_kind kind, int button, float dx, uint8_t type)
{
    ikv_event e = ikv_event_make(kind, 0);
    mouse_x += dx;
    if (kind == IKV_KIND_WHEEL) {
        e.wheel.x = mouse_x;
        e.wheel.y = 5;
        e.wheel.dy = 1;
        push(&e);
        return;
    }
    e.pointer.x = mouse_x;
    e.pointer.y = 5;
    e.pointer.button = (int8_t)button;
    e.pointer.type = type;
    e.pointer.pointer = type == IKV_TOUCH ? 7 : 0;
    push(&e);
}

static void focus_a_text(void)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target;
    config.shape = ikv_scene_rect(0, 0, 10, 10);
    config.traits = IKV_FOCUSABLE | IKV_TAKES_TEXT;
    ok(ikv_scene_add(k.scene, &config, &target, NULL));
    ok(ikv_router_focus(k.router, 0, target));
}

static void push_kind(ikv_kind kind)
{
    ikv_event e = ikv_event_make(kind, 0);
    push(&e);
}

/* One letter of a row: what happens. */
static void act(char what)
{
    static const struct {
        char letter;
        ikv_kind kind;
        int button;
        float dx;
        uint8_t type;
    } pointers[] = {
        {'m', IKV_KIND_POINTER_MOVE, -1, 3, IKV_MOUSE},
        {'d', IKV_KIND_POINTER_DOWN, 0, 0, IKV_MOUSE},
        {'u', IKV_KIND_POINTER_UP, 0, 0, IKV_MOUSE},
        {'e', IKV_KIND_POINTER_DOWN, 2, 0, IKV_MOUSE},
        {'l', IKV_KIND_POINTER_LEAVE, -1, 0, IKV_MOUSE},
        {'w', IKV_KIND_WHEEL, -1, 4, IKV_MOUSE},
        {'t', IKV_KIND_POINTER_DOWN, 0, 0, IKV_TOUCH},
        {'T', IKV_KIND_POINTER_UP, 0, 0, IKV_TOUCH},
        {'n', IKV_KIND_POINTER_DOWN, 0, 6, IKV_TOUCH},
        {'c', IKV_KIND_POINTER_CANCEL, -1, 0, IKV_TOUCH},
    };
    ikv_target everywhere = {0};
    for (int i = 0; i < ROWS(pointers); i++)
        if (pointers[i].letter == what) {
            push_pointer(pointers[i].kind, pointers[i].button, pointers[i].dx,
                         pointers[i].type);
            return;
        }
    ikv_kind kind = what == 'A' || what == 'B' || what == 'S'
                        ? IKV_KIND_KEY_UP
                        : IKV_KIND_KEY_DOWN;
    switch (what) {
    case 'a':
    case 'A':
        push_key(kind, "KeyA", 0);
        break;
    case 'b': /* the same key on another keyboard */
    case 'B':
        push_key(kind, "KeyA", (uint16_t)(k.fake.device + 1));
        break;
    case 's':
    case 'S':
        push_key(kind, "ShiftLeft", 0);
        break;
    case 'x':
    case 'X':
        hears(k.bus, what == 'x' ? kind : IKV_KIND_POINTER_DOWN, everywhere,
              stop, NULL);
        break;
    case 'F':
        focus_a_text();
        break;
    case '-':
    case '~':
        push_kind(what == '-' ? IKV_KIND_WINDOW_BLUR : IKV_KIND_DEVICE_REMOVE);
        break;
    case 'p':
        ok(ikv_loop_pause(k.loop));
        break;
    case 'P':
        ok(ikv_loop_resume(k.loop));
        break;
    default:
        ck_abort_msg("%c", what);
    }
}

/* ----------------------------------------------------------------- keys -- */

/* Each step: down, went down, went up; raw, then unclaimed where it differs. */
static const struct {
    const char *rule, *does, *sees;
} key_table[] = {
    {"S1 down and up", "a....A.", "110 100 100 100 001 "},
    {"S1 within one step", "aA.aAa.", "011 121 "},
    {"S1 repeats are no edges", "a.a.a.", "110 100 100 "},
    {"S1 two keyboards", "a.b.A.B.", "110 100 100 001 "},
    {"S1 up without down", "A.a.", "000 110 "},
    {"S1 after focus loss", "a.-.A.", "110 001 000 "},
    {"S1 after a device's loss", "ab.~.B.", "110 100 001 "},
    {"S2 a handler stopped it", "xa.A.", "110/000 001/000 "},
    {"S2 typed into a text", "Fa.A.", "110/000 001/000 "},
    {"S2 the release still counts", "a.x.aA.", "110 100 001 "},
    {"S1 while paused", "p.a..A.P.", "000 110 100 001 000 "},
};

static void note_key(ikv_key_state s)
{
    note(&seen, "%d%u%u", s.down, s.went_down, s.went_up);
}

START_TEST(keys)
{
    uint32_t code = ikv_code_find("KeyA");
    open_state();
    for (const char *c = key_table[_i].does; *c != '\0'; c++) {
        if (*c != '.') {
            act(*c);
            continue;
        }
        ms += 20;
        kit_frame(&k, ms);
        ikv_key_state raw = ikv_state_key(state, IKV_STATE_RAW, 0, code);
        ikv_key_state unclaimed =
            ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, code);
        note_key(raw);
        if (raw.down != unclaimed.down ||
            raw.went_down != unclaimed.went_down ||
            raw.went_up != unclaimed.went_up) {
            note(&seen, "/");
            note_key(unclaimed);
        }
        note(&seen, " ");
        ikv_key_state any = ikv_state_any_key(state, IKV_STATE_RAW, 0);
        ck_assert(any.down == raw.down && any.went_down == raw.went_down);
        valid(ikv_state_validate(state));
    }
    ck_assert_msg(strcmp(seen.text, key_table[_i].sees) == 0,
                  "%s\n     got %s\nexpected %s", key_table[_i].rule, seen.text,
                  key_table[_i].sees);
    kit_close(&k);
}
END_TEST

/* Edges of a step are counted up to 255, of one key and of all. */
START_TEST(many_edges)
{
    uint32_t code = ikv_code_find("KeyA");
    open_state();
    for (int key = 0; key < 2; key++)
        for (int i = 0; i < 600; i++) {
            ikv_event e =
                ikv_event_make(i % 2 == 0 ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP,
                               k.fake.now_ns + 1);
            e.device = k.fake.device;
            e.key.code = code + (uint32_t)key;
            ok(ikv_sink_push(k.fake.sink, &e));
        }
    kit_frame(&k, 20);
    ikv_key_state one = ikv_state_key(state, IKV_STATE_RAW, 0, code);
    ikv_key_state any = ikv_state_any_key(state, IKV_STATE_RAW, 0);
    ck_assert(one.frame_down == 255 && one.frame_up == 255);
    ck_assert(one.went_down == 255 && one.went_up == 255);
    ck_assert(any.frame_down == 255 && any.went_up == 255);
    kit_frame(&k, 80);
    ck_assert_uint_eq(ikv_state_key(state, IKV_STATE_RAW, 0, code).frame_down,
                      0);
    kit_close(&k);
}
END_TEST

/* S1: motion of the step, and of the frame. */
START_TEST(frame_motion)
{
    ikv_pointer_state p;
    open_state();
    for (int frame = 1; frame <= 3; frame++) {
        push_pointer(IKV_KIND_POINTER_MOVE, -1, (float)frame, IKV_MOUSE);
        ms += 20;
        kit_frame(&k, ms);
        ck_assert(ikv_state_pointer(state, IKV_STATE_RAW, 0, &p));
        float expected = frame == 1 ? 0 : (float)frame; /* it came first */
        ck_assert_float_eq(p.dx, expected);
        ck_assert_float_eq(p.frame_dx, expected);
    }
    ms += 20;
    kit_frame(&k, ms);
    ck_assert(ikv_state_pointer(state, IKV_STATE_RAW, 0, &p));
    ck_assert(p.dx == 0 && p.frame_dx == 0);
    kit_close(&k);
}
END_TEST

/* S1: as many places as keys are used say what one for each key says; fewer
 * refuse presses, and nothing stays down for it. T1: which, whatever the frames. */
START_TEST(few_key_places)
{
    static const uint32_t places[] = {256, 6, 3, 3}, frames[] = {5, 5, 5, 11};
    ikv_state *states[4];
    uint64_t seed = (uint64_t)_i + 1;
    for (int n = 0; n < 4; n++) {
        ikv_state_config config = IKV_STATE_INIT;
        config.keys = places[n];
        config.seats = 2;
        config.memory = ikv_host_memory();
        ok(ikv_state_open(&config, &states[n]));
    }
    for (uint32_t step = 0; step < 2000; step++) {
        static const ikv_kind kinds[] = {
            IKV_KIND_KEY_DOWN, IKV_KIND_KEY_DOWN,    IKV_KIND_KEY_UP,
            IKV_KIND_KEY_UP,   IKV_KIND_WINDOW_BLUR, IKV_KIND_DEVICE_RESYNC};
        uint32_t n = random_below(&seed, 25);
        ikv_event e =
            ikv_event_make(kinds[n < 24 ? n % 4 : 4 + step % 2], step);
        e.device = (uint16_t)(1 + random_below(&seed, 2));
        e.seat = (uint8_t)random_below(&seed, 2);
        if (n < 24)
            e.key.code = 0x000700de + random_below(&seed, 6);
        ikv_event held = ikv_event_make(IKV_KIND_KEY_DOWN, step);
        held.device = e.device;
        held.key.code = 0x000700de + random_below(&seed, 6);
        for (int k3 = 0; k3 < 4; k3++) {
            if (step % 3 == 0)
                ikv_state_begin_step(states[k3], step);
            if (step % frames[k3] == 0)
                ikv_state_begin_frame(states[k3]);
            if (e.kind == IKV_KIND_DEVICE_RESYNC)
                ikv_state_resync(states[k3], IKV_STATE_RAW, &e, &held, 1);
            else
                ikv_state_take(states[k3], IKV_STATE_RAW, &e);
            valid(ikv_state_validate(states[k3]));
        }
        bool down[3][8] = {{false}}; /* for either player */
        for (uint32_t key = 0; key < 16; key++) {
            ikv_key_state of[4];
            for (int k3 = 0; k3 < 4; k3++)
                of[k3] =
                    ikv_state_key(states[k3], IKV_STATE_RAW, (uint8_t)(key / 8),
                                  0x000700de + key % 8);
            ck_assert_mem_eq(&of[0], &of[1], sizeof of[0]);
            of[3].frame_down = of[2].frame_down;
            of[3].frame_up = of[2].frame_up;
            ck_assert_mem_eq(&of[2], &of[3], sizeof of[2]);
            for (int k3 = 0; k3 < 3; k3++)
                down[k3][key % 8] |= of[k3].down;
        }
        for (uint32_t key = 0; key < 8; key++)
            ck_assert(down[0][key] || !down[2][key]);
        for (uint8_t seat = 0; seat < 2; seat++) {
            ikv_key_state any[2];
            for (int k2 = 0; k2 < 2; k2++)
                any[k2] = ikv_state_any_key(states[k2], IKV_STATE_RAW, seat);
            ck_assert_mem_eq(&any[0], &any[1], sizeof any[0]);
            ck_assert_uint_eq(
                ikv_state_modifiers(states[0], IKV_STATE_RAW, seat),
                ikv_state_modifiers(states[1], IKV_STATE_RAW, seat));
        }
    }
    ck_assert_uint_eq(ikv_state_refused(states[1]), 0);
    ck_assert_uint_gt(ikv_state_refused(states[2]), 0);
    ck_assert_uint_eq(ikv_state_refused(states[2]),
                      ikv_state_refused(states[3]));
    for (int n = 0; n < 4; n++)
        ikv_state_close(states[n]);
}
END_TEST

/* S1: pointers by their number, each once. */
START_TEST(nth_pointer)
{
    ikv_pointer_state p;
    open_state();
    for (uint16_t id = 0; id < 3; id++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
        e.pointer.type = IKV_TOUCH;
        e.pointer.pointer = id;
        e.pointer.button = 0;
        push(&e);
    }
    kit_frame(&k, 20);
    for (uint16_t nth = 0; nth < 3; nth++) {
        ck_assert(ikv_state_pointer(state, IKV_STATE_RAW, nth, &p));
        ck_assert_uint_eq(p.pointer, nth);
        ck_assert_uint_eq(p.held_ns, 19000000);
    }
    ck_assert(!ikv_state_pointer(state, IKV_STATE_RAW, 3, &p));
    kit_close(&k);
}
END_TEST

/* S1: what is down goes on being so while the steps stand still. */
START_TEST(held_while_paused)
{
    open_state();
    ms = 0;
    act('a');
    kit_frame(&k, 20);
    ok(ikv_loop_pause(k.loop));
    for (uint64_t at = 40; at <= 100; at += 20) {
        kit_frame(&k, at);
        ikv_key_state s =
            ikv_state_key(state, IKV_STATE_RAW, 0, ikv_code_find("KeyA"));
        ck_assert_uint_eq(s.held_ns, at * 1000000 - 1000000);
    }
    kit_close(&k);
}
END_TEST

/* K1: after a loss what the device says is down stays so, whichever it names
 * first. */
START_TEST(held_keys)
{
    static const char *const codes[] = {"KeyA", "KeyS", "KeyD"};
    open_state();
    ikv_event held[3], resync = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 0);
    resync.device = k.fake.device;
    for (int i = 0; i < 3; i++) {
        push_key(IKV_KIND_KEY_DOWN, codes[i], 0);
        held[i] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        held[i].device = k.fake.device;
        held[i].key.code = ikv_code_find(codes[(i + _i) % 3]);
    }
    kit_frame(&k, 20);
    ikv_state_resync(state, IKV_STATE_RAW, &resync, held, 2);
    for (int i = 0; i < 3; i++)
        ck_assert(
            ikv_state_key(state, IKV_STATE_RAW, 0, held[i].key.code).down ==
            (i < 2));
    kit_close(&k);
}
END_TEST

/* And a pointer's buttons: those that presses of it name, whatever else is
 * named, of others or of its moves. */
START_TEST(held_buttons)
{
    static const struct {
        ikv_kind kind;
        uint16_t pointer;
        int8_t button;
    } named[] = {{IKV_KIND_POINTER_DOWN, 1, 0},
                 {IKV_KIND_POINTER_DOWN, 2, 2},
                 {IKV_KIND_POINTER_MOVE, 1, 2},
                 {IKV_KIND_KEY_DOWN, 1, 2}};
    open_state();
    ikv_event held[4], resync = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 0);
    for (int i = 0; i < 4; i++) {
        held[i] = ikv_event_make(named[i].kind, 0);
        held[i].pointer.pointer = named[i].pointer;
        held[i].pointer.button = named[i].button;
    }
    for (uint16_t pointer = 1; pointer <= 2; pointer++) {
        ikv_event down = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
        down.pointer.pointer = pointer;
        down.pointer.type = IKV_MOUSE;
        down.pointer.button = pointer == 1 ? 0 : 2;
        down.pointer.buttons = pointer == 1 ? 1 : 2;
        ikv_state_take(state, IKV_STATE_RAW, &down);
        if (pointer == 2)
            continue;
        down.pointer.button = 2;
        down.pointer.buttons = 3;
        ikv_state_take(state, IKV_STATE_RAW, &down);
    }
    ikv_pointer_state p;
    ck_assert(ikv_state_find_pointer(state, IKV_STATE_RAW, 0, 1, &p));
    ck_assert_uint_eq(p.buttons, 3);
    ikv_state_resync(state, IKV_STATE_RAW, &resync, held, 4);
    ck_assert(ikv_state_find_pointer(state, IKV_STATE_RAW, 0, 1, &p));
    ck_assert_uint_eq(p.buttons, 1);
    ck_assert(ikv_state_find_pointer(state, IKV_STATE_RAW, 0, 2, &p));
    ck_assert_uint_eq(p.buttons, 2);
    kit_close(&k);
}
END_TEST

/* K1: a key is its device's: one that goes down as one player's and comes up as
 * another's is up, and down twice it repeats. */
START_TEST(key_between_seats)
{
    static const struct {
        ikv_kind kind;
        uint16_t device;
        uint8_t seat;
        const char *down; /* for players 0 and 1 */
    } events[] = {
        {IKV_KIND_KEY_DOWN, 1, 0, "1-"},     {IKV_KIND_KEY_DOWN, 1, 1, "1-"},
        {IKV_KIND_KEY_UP, 1, 1, "--"},       {IKV_KIND_KEY_DOWN, 1, 1, "-1"},
        {IKV_KIND_KEY_DOWN, 2, 0, "11"},     {IKV_KIND_KEY_UP, 1, 0, "1-"},
        {IKV_KIND_KEY_UP, 2, 1, "--"},       {IKV_KIND_KEY_DOWN, 1, 0, "1-"},
        {IKV_KIND_KEY_DOWN, 2, 0, "1-"},     {IKV_KIND_KEY_UP, 1, 0, "1-"},
        {IKV_KIND_KEY_UP, 1, 0, "1-"},       {IKV_KIND_KEY_UP, 2, 0, "--"},
        {IKV_KIND_KEY_DOWN, 65535, 0, "--"}, {IKV_KIND_KEY_UP, 65535, 0, "--"},
    };
    ikv_state_config config = IKV_STATE_INIT;
    config.seats = 2;
    config.keys = _i == 0 ? 0 : 4;
    config.memory = ikv_host_memory();
    ok(ikv_state_open(&config, &state));
    for (size_t i = 0; i < ROWS(events); i++) {
        uint32_t code = ikv_code_find("ShiftLeft");
        ikv_event e = ikv_event_make(events[i].kind, i);
        e.device = events[i].device;
        e.seat = events[i].seat;
        e.key.code = code;
        ikv_state_take(state, IKV_STATE_RAW, &e);
        for (uint8_t seat = 0; seat < 2; seat++) {
            bool down = events[i].down[seat] == '1';
            ck_assert_msg(
                ikv_state_key(state, IKV_STATE_RAW, seat, code).down == down &&
                    (ikv_state_modifiers(state, IKV_STATE_RAW, seat) != 0) ==
                        down,
                "row %zu, player %d", i, seat);
        }
        valid(ikv_state_validate(state));
    }
    ck_assert_uint_eq(
        ikv_state_key(state, IKV_STATE_RAW, 0, ikv_code_find("ShiftLeft"))
            .frame_down,
        3);
    ikv_state_close(state);
}
END_TEST

/* K1: a window that loses the focus lets go of what was pressed in its view, not
 * of what has come into it since; nor is what has come into another gone as it is
 * said to have left the first. */
START_TEST(pressed_in_a_view)
{
    static const struct {
        ikv_kind kind;
        uint8_t view;
        int buttons; /* -1: it is not there */
    } events[] = {
        {IKV_KIND_POINTER_DOWN, 1, 1},  {IKV_KIND_POINTER_MOVE, 0, 1},
        {IKV_KIND_WINDOW_BLUR, 0, 1},   {IKV_KIND_WINDOW_BLUR, 1, 0},
        {IKV_KIND_POINTER_DOWN, 0, 1},  {IKV_KIND_WINDOW_BLUR, 1, 1},
        {IKV_KIND_WINDOW_BLUR, 0, 0},   {IKV_KIND_POINTER_MOVE, 1, 0},
        {IKV_KIND_POINTER_LEAVE, 0, 0}, {IKV_KIND_POINTER_LEAVE, 1, -1},
    };
    ikv_pointer_state p;
    open_state();
    for (size_t i = 0; i < ROWS(events); i++) {
        ikv_event e = ikv_event_make(events[i].kind, i);
        e.view = events[i].view;
        if (e.kind != IKV_KIND_WINDOW_BLUR)
            e.pointer.type = IKV_MOUSE;
        ikv_state_take(state, IKV_STATE_RAW, &e);
        bool known = ikv_state_find_pointer(state, IKV_STATE_RAW, 0, 0, &p);
        ck_assert_msg((known ? p.buttons : -1) == events[i].buttons, "row %zu",
                      i);
    }
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------- pointers -- */

/* Each step: buttons, went down, went up, x, motion; "-" for no pointer. */
static const struct {
    const char *rule, *does, *sees;
} pointer_table[] = {
    {"S1 moves and motion", "m.mm..", "000@3+0 000@9+6 000@9+0 "},
    {"S1 press and release", "m.d.u..", "000@3+0 110@3+0 001@3+0 000@3+0 "},
    {"S1 within one step", "mdu.", "011@3+0 "},
    {"S1 chords", "md.e.u.", "110@3+0 320@3+0 201@3+0 "},
    {"OVER6 where it turned its wheel", "m.w.m.", "000@3+0 000@7+0 000@10+3 "},
    {"OVER6 unless it is down", "md.w.", "110@3+0 100@3+0 "},
    {"S1 leaves the view", "m.l.", "000@3+0 - "},
    {"S1 a touch is known in its last step", "t.T..", "110@0+0 001@0+0 - "},
    {"S1 a finger comes from nowhere", "t.T.n.", "110@0+0 001@0+0 110@6+0 "},
    {"S1 also within a step", "tTn.", "111@6+0 "},
    {"S1 cancelled", "t.c..", "110@0+0 001@0+0 - "},
    {"S1 after focus loss", "md.-.", "110@3+0 001@3+0 "},
    {"S1 after the device's loss", "md.~.", "110@3+0 - "},
    {"S2 stopped", "mXd.u.", "110@3+0/000@3+0 001@3+0/000@3+0 "},
};

static void note_pointer(uint32_t view)
{
    ikv_pointer_state p;
    if (!ikv_state_pointer(state, view, 0, &p))
        note(&seen, "-");
    else
        note(&seen, "%u%u%u@%g+%g", p.buttons, p.went_down, p.went_up,
             (double)p.x, (double)p.dx);
}

START_TEST(pointers)
{
    open_state();
    for (const char *c = pointer_table[_i].does; *c != '\0'; c++) {
        if (*c != '.') {
            act(*c);
            continue;
        }
        ms += 20;
        kit_frame(&k, ms);
        note_pointer(IKV_STATE_RAW);
        if (strstr(pointer_table[_i].sees, "/") != NULL) {
            note(&seen, "/");
            note_pointer(IKV_STATE_UNCLAIMED);
        }
        note(&seen, " ");
        valid(ikv_state_validate(state));
    }
    ck_assert_msg(strcmp(seen.text, pointer_table[_i].sees) == 0,
                  "%s\n     got %s\nexpected %s", pointer_table[_i].rule,
                  seen.text, pointer_table[_i].sees);
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------------------------- times -- */

static bool raw_seen, unclaimed_seen;

static ikv_verdict look(const ikv_event *event, const ikv_delivery *d, void *u)
{
    uint32_t code = ikv_code_find("KeyA");
    (void)d, (void)u;
    if (event->kind == IKV_KIND_POINTER_MOVE) {
        /* Routed before the key: raw has it already, unclaimed not yet. */
        raw_seen = ikv_state_key(state, IKV_STATE_RAW, 0, code).down;
        unclaimed_seen =
            ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, code).down;
    } else if (event->loop.step == 1)
        ck_assert(ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, code).down);
    return IKV_CONTINUE;
}

/* S1: raw from the step's start, unclaimed before loop.step; held; modifiers;
 * frames; the newest position of what has not been stepped. */
START_TEST(times)
{
    ikv_target everywhere = {0};
    uint32_t code = ikv_code_find("KeyA");
    float x, y;
    open_state();
    hears(k.bus, IKV_KIND_POINTER_MOVE, everywhere, look, NULL);
    hears(k.bus, IKV_KIND_LOOP_STEP, everywhere, look, NULL);
    ms = 20;
    act('m');
    act('a');
    act('s');
    kit_frame(&k, 21);
    ck_assert(ikv_loop_newest(k.loop, k.fake.device, 0, &x, &y));
    ck_assert_float_eq(x, 3);
    ck_assert(!ikv_loop_newest(k.loop, k.fake.device, 1, &x, &y));
    kit_frame(&k, 40);
    ck_assert(raw_seen && !unclaimed_seen);
    ck_assert_uint_eq(ikv_state_modifiers(state, IKV_STATE_RAW, 0), IKV_SHIFT);
    ck_assert(!ikv_loop_newest(k.loop, k.fake.device, 0, &x, &y));
    /* Of presses and releases, too, but of no other events. */
    static const struct {
        ikv_kind kind;
        float x;
    } waiting[] = {{IKV_KIND_POINTER_DOWN, 21},
                   {IKV_KIND_POINTER_UP, 22},
                   {IKV_KIND_WHEEL, 22}};
    for (int i = 0; i < ROWS(waiting); i++) {
        ikv_event e = ikv_event_make(waiting[i].kind, 7041000000);
        e.device = k.fake.device;
        e.pointer.x = (float)(21 + i);
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 42);
        ck_assert(ikv_loop_newest(k.loop, k.fake.device, 0, &x, &y));
        ck_assert_float_eq(x, waiting[i].x);
    }
    kit_frame(&k, 140);
    ikv_key_state s = ikv_state_key(state, IKV_STATE_RAW, 0, code);
    ck_assert_uint_eq(s.held_ns, 119000000); /* since 21 ms */
    ck_assert_uint_eq(s.frame_down, 0);
    ms = 140;
    act('A');
    act('S');
    kit_frame(&k, 200); /* three steps: the edge was in the first */
    s = ikv_state_key(state, IKV_STATE_RAW, 0, code);
    ck_assert(!s.down && s.went_up == 0 && s.frame_up == 1 && s.held_ns == 0);
    ck_assert_uint_eq(ikv_state_modifiers(state, IKV_STATE_RAW, 0), 0);
    kit_close(&k);
}
END_TEST

/* ----------------------------------------------------------------- pads -- */

static const struct {
    bool axial;
    float x, y, out_x, out_y;
} zone_table[] = {
    {false, 0.1f, 0.1f, 0, 0},         {false, 1, 0, 1, 0},
    {false, 0, -0.55f, 0, -0.5f},      {false, -0.96f, 0, -1, 0},
    {false, 0.33f, 0.44f, 0.3f, 0.4f}, {true, 0.1f, 0.55f, 0, 0.5f},
    {true, -0.55f, 1, -0.5f, 1},       {false, 5, 0, 1, 0},
};

static ikv_pad_data last_pad;
static record pad_events;

static ikv_verdict keep_pad(const ikv_event *event, const ikv_delivery *d,
                            void *user)
{
    (void)d, (void)user;
    last_pad = event->pad;
    note(&pad_events, "%s%u%s ",
         event->kind == IKV_KIND_PAD_DOWN ? "down"
         : event->kind == IKV_KIND_PAD_UP ? "up"
                                          : "axis",
         event->pad.index, event->flags & IKV_SYNTHETIC ? "*" : "");
    return IKV_CONTINUE;
}

static void open_pads(bool axial)
{
    ikv_subscription_config wants = IKV_SUBSCRIPTION_INIT;
    kit_prepare(&k);
    k.config.loop.step_num = 50;
    k.config.router.dead_zone = k.config.state.dead_zone = 0.15f;
    k.config.router.full_zone = k.config.state.full_zone = 0.95f;
    k.config.router.axial_zones = k.config.state.axial_zones = axial;
    kit_open(&k);
    state = ikv_kit_state(k.kit);
    pad_events.text[0] = '\0';
    ms = 0;
    wants.families = 1u << IKV_FAMILY_PAD;
    wants.handler = keep_pad;
    ok(ikv_bus_subscribe(k.bus, &wants, NULL, NULL));
    kit_frame(&k, 0);
}

static void push_pad(ikv_kind kind, uint8_t index, float value)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.pad.index = index;
    e.pad.value = value;
    push(&e);
}

static void next_frame(void)
{
    ms += 20;
    kit_frame(&k, ms);
}

/* S1: dead zones of sticks, the same in events and in the state. */
START_TEST(dead_zones)
{
    ikv_pad_state pad;
    open_pads(zone_table[_i].axial);
    push_pad(IKV_KIND_PAD_AXIS, 2, zone_table[_i].x);
    push_pad(IKV_KIND_PAD_AXIS, 3, zone_table[_i].y);
    next_frame();
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 0, &pad));
    ck_assert_float_eq_tol(pad.right[0], zone_table[_i].out_x, 1e-5f);
    ck_assert_float_eq_tol(pad.right[1], zone_table[_i].out_y, 1e-5f);
    ck_assert_float_eq(pad.left[0], 0);
    ck_assert_float_eq(last_pad.x, pad.right[0]);
    ck_assert_float_eq(last_pad.y, pad.right[1]);
    kit_close(&k);
}
END_TEST

static void plug(ikv_kind kind, uint16_t product)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.info.vendor = 7;
    e.info.product = product;
    e.info.types = IKV_DEVICE_PAD;
    push(&e);
}

/* S1, K1: edges; what is gone is released; the same pad gets its place back. */
START_TEST(pads)
{
    ikv_pad_state pad;
    open_pads(false);
    plug(IKV_KIND_DEVICE_ADD, 1);
    push_pad(IKV_KIND_PAD_DOWN, 0, 1);
    push_pad(IKV_KIND_PAD_DOWN, 0, 1); /* twice: refused */
    push_pad(IKV_KIND_PAD_DOWN, 16, 1);
    push_pad(IKV_KIND_PAD_DOWN, 32, 1); /* there is none */
    push_pad(IKV_KIND_PAD_AXIS, 16, 1);
    push_pad(IKV_KIND_PAD_AXIS, 0, 0.9f);
    next_frame();
    ck_assert_str_eq(pad_events.text, "down0 down16 axis0 ");
    ck_assert(ikv_state_pad(state, IKV_STATE_UNCLAIMED, 0, &pad));
    ck_assert_uint_eq(pad.buttons, 0x10001);
    ck_assert_uint_eq(pad.went_down, 0x10001);
    ck_assert_uint_eq(pad.product, 1);
    ck_assert_uint_eq(router_counts(k.router).meaningless, 3);
    push_pad(IKV_KIND_PAD_UP, 0, 0);
    next_frame();
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 0, &pad));
    ck_assert(pad.buttons == 0x10000 && pad.went_up == 1 && !pad.went_down);
    pad_events.text[0] = '\0';
    plug(IKV_KIND_DEVICE_REMOVE, 1);
    next_frame();
    ck_assert_str_eq(pad_events.text, "up16* axis0* ");
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 0, &pad));
    ck_assert(!pad.connected && pad.buttons == 0 && pad.axes[0] == 0 &&
              pad.left[0] == 0 && pad.right[1] == 0);
    pad_events.text[0] = '\0';
    plug(IKV_KIND_DEVICE_ADD, 1); /* it is back, and nothing of it is down */
    push_pad(IKV_KIND_PAD_DOWN, 16, 1);
    next_frame();
    ck_assert_str_eq(pad_events.text, "down16 ");
    pad_events.text[0] = '\0';
    ikv_sink_lost(k.fake.sink, k.fake.device); /* so is what was lost */
    next_frame();
    push_pad(IKV_KIND_PAD_DOWN, 16, 1);
    next_frame();
    ck_assert_str_eq(pad_events.text, "up16* down16 ");
    plug(IKV_KIND_DEVICE_REMOVE, 1);
    next_frame();
    plug(IKV_KIND_DEVICE_ADD, 2); /* another one takes the next place */
    next_frame();
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 1, &pad) && pad.product == 2);
    plug(IKV_KIND_DEVICE_REMOVE, 2);
    plug(IKV_KIND_DEVICE_ADD, 1); /* and the first one its own */
    next_frame();
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 0, &pad));
    ck_assert(pad.connected && pad.product == 1);
    ck_assert(!ikv_state_pad(state, IKV_STATE_RAW, 2, &pad));
    /* All places were used: a new one gets the first of those that are gone. */
    plug(IKV_KIND_DEVICE_REMOVE, 1);
    uint32_t room = 2;
    for (uint16_t product = 3; room < IKV_PAD_LIMIT; product++, room++) {
        plug(IKV_KIND_DEVICE_ADD, product);
        plug(IKV_KIND_DEVICE_REMOVE, product);
    }
    plug(IKV_KIND_DEVICE_ADD, 99);
    next_frame();
    ck_assert(ikv_state_pad(state, IKV_STATE_RAW, 0, &pad) &&
              pad.product == 99);
    ck_assert(!ikv_state_pad(state, IKV_STATE_RAW, IKV_PAD_LIMIT, &pad));
    kit_close(&k);
}
END_TEST

START_TEST(wrong_state)
{
    ikv_state_config config = IKV_STATE_INIT;
    ikv_state *other;
    ikv_pointer_state p;
    counted memory = {0};
    config.memory = counted_memory(&memory);
    config.dead_zone = 0.9f;
    config.full_zone = 0.5f;
    status_is(ikv_state_open(&config, &other), IKV_BAD_CONFIG);
    config.seats = 9;
    ck_assert_uint_eq(ikv_state_footprint(&config), 0);
    status_is(ikv_state_open(&config, &other), IKV_BAD_CONFIG);
    config.size = 1;
    status_is(ikv_state_open(&config, &other), IKV_BAD_SIZE);
    status_is(ikv_state_open(NULL, &other), IKV_BAD_ARGUMENT);
    open_state();
    ck_assert(!ikv_state_key(state, IKV_STATE_RAW, 0, 0).down);
    ck_assert(!ikv_state_key(state, 7, 0, IKV_CODE(4)).down);
    ck_assert(!ikv_state_pointer(state, 7, 0, &p));
    ck_assert(!ikv_state_find_pointer(state, IKV_STATE_RAW, 1, 1, &p));
    /* More pointers than there is room for are counted. */
    for (uint16_t i = 0; i < 5; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
        e.device = 9;
        e.pointer.pointer = i;
        e.pointer.button = 0;
        e.pointer.type = IKV_TOUCH;
        ikv_state_take(state, IKV_STATE_RAW, &e);
    }
    ck_assert_uint_eq(ikv_state_refused(state), 2);
    ck_assert(ikv_state_find_pointer(state, IKV_STATE_RAW, 9, 2, &p));
    ck_assert_uint_eq(p.buttons, 1);
    /* A seat past the last counts for the last one. */
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    e.seat = 5;
    e.key.code = IKV_CODE(4);
    ikv_state_take(state, IKV_STATE_RAW, &e);
    ck_assert(ikv_state_key(state, IKV_STATE_RAW, 1, IKV_CODE(4)).down);
    /* What is held after a loss stays, without edges. */
    ikv_state_begin_step(state, 5);
    ikv_event cause = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 0), held = e;
    ikv_state_resync(state, IKV_STATE_RAW, &cause, &held, 1);
    ck_assert(ikv_state_key(state, IKV_STATE_RAW, 1, IKV_CODE(4)).down);
    ck_assert_uint_eq(
        ikv_state_key(state, IKV_STATE_RAW, 1, IKV_CODE(4)).went_up, 0);
    ikv_state_resync(state, IKV_STATE_RAW, &cause, NULL, 0);
    ck_assert(!ikv_state_key(state, IKV_STATE_RAW, 1, IKV_CODE(4)).down);
    ikv_state_close(NULL);
    kit_close(&k);
}
END_TEST

static void take_by(int way, uint32_t filter, const ikv_event *event)
{
    ikv_event cause = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 0);
    cause.device = event->device;
    if (way == 0)
        ikv_state_take(state, filter, event);
    else if (way == 1)
        ikv_input_feed(ikv_kit_input(k.kit), event);
    else if (way == 2)
        ikv_state_resync(state, filter, &cause, event, 1);
    else
        ikv_state_take_claimed(state, event);
}

static const uint32_t by_hand_filters[] = {IKV_STATE_RAW, IKV_STATE_RAW,
                                           IKV_STATE_RAW, IKV_STATE_UNCLAIMED};

/* S1: what could not be recorded is passed over, whoever feeds it by hand. */
START_TEST(fed_by_hand)
{
    const float xs[] = {7, NAN, INFINITY, 2e9f, 9};
    const float found[] = {7, 7, 7, 7, 9};
    uint32_t filter = by_hand_filters[_i];
    ikv_pointer_state p;
    open_state();
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    e.device = 9;
    e.pointer.type = IKV_MOUSE;
    for (size_t i = 0; i < sizeof xs / sizeof xs[0]; i++) {
        e.pointer.x = xs[i];
        take_by(_i, filter, &e);
        ck_assert(ikv_state_find_pointer(state, filter, 9, 0, &p));
        ck_assert_float_eq(p.x, found[i]);
    }
    ck_assert_uint_eq(p.buttons, _i != 3);
    kit_close(&k);
}
END_TEST

/* One pad too many is refused by its own status, and the others go on. */
START_TEST(too_many_pads)
{
    static const uint8_t rooms[] = {0, 1, 3};
    uint16_t room = _i == 0 ? IKV_PAD_LIMIT : rooms[_i];
    kit_prepare(&k);
    k.config.router.pads = rooms[_i];
    kit_open(&k);
    for (uint16_t device = 1; device <= room + 1; device++) {
        ikv_event e = ikv_event_make(IKV_KIND_PAD_DOWN, 0);
        e.device = 100; /* what means nothing takes no place */
        e.pad.index = IKV_PAD_BUTTONS;
        e.pad.value = 1;
        ikv_router_route(k.router, &e);
        e.device = device;
        e.pad.index = 0;
        status_is(ikv_router_route(k.router, &e).status,
                  device <= room ? IKV_OK : IKV_FULL_PADS);
    }
    ikv_event up = ikv_event_make(IKV_KIND_PAD_UP, 0);
    up.device = 1;
    ok(ikv_router_route(k.router, &up).status);
    kit_close(&k);
}
END_TEST

Suite *state_suite(void)
{
    Suite *s = suite_create("state");
    add_table(s, "full pads", too_many_pads, 3);
    add_table(s, "S1 S2 keys", keys, ROWS(key_table));
    add(s, "S1 many edges", many_edges);
    add(s, "S1 motion of frames", frame_motion);
    add_table(s, "K1 held keys", held_keys, 3);
    add(s, "K1 held buttons", held_buttons);
    add(s, "K1 pressed in a view", pressed_in_a_view);
    add_table(s, "K1 a key between seats", key_between_seats, 2);
    add_table(s, "S1 S2 pointers", pointers, ROWS(pointer_table));
    add(s, "S1 times", times);
    add_table(s, "S1 dead zones", dead_zones, ROWS(zone_table));
    add(s, "S1 K1 pads", pads);
    add(s, "S1 without routers", without_routers);
    add(s, "S1 by number", nth_pointer);
    add_table(s, "S1 few places", few_key_places, 4);
    add(s, "S1 held while paused", held_while_paused);
    add_table(s, "S1 fed by hand", fed_by_hand, ROWS(by_hand_filters));
    add(s, "wrong", wrong_state);
    return s;
}
