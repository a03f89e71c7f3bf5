/* test_touch.c - for every hand: a finger as a stick, buttons on the screen, ten
 * fingers at once, a tap of two that makes no clicks; actions that toggle, what
 * is held and repeats, and times of each player's own. */
#include "support.h"

#define PAD "touch.bindings.json"

static bench_kit k;
static ikv_actions *actions;
static ikv_target place; /* of the stick: 100 wide, 60 high, at 20, 10 */
static uint64_t now_ms;
static record heard;

/* What the port says is down after a loss: none, or a key. */
static uint32_t holds;

static ikv_status holds_key(void *state, uint16_t device, ikv_event *held,
                            uint32_t room, uint32_t *count)
{
    (void)state, (void)device;
    ck_assert_uint_gt(room, 0);
    held[0] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    held[0].key.code = holds;
    *count = holds != 0;
    return IKV_OK;
}

static void open_touch(void)
{
    k = (bench_kit){0};
    kit_prepare(&k);
    k.config.router.pointers = 16;
    k.config.state.pointers = 16;
    k.port.held = holds_key;
    kit_open(&k);
    actions = ikv_kit_actions(k.kit);
    place = rect_target(k.scene, (ikv_target){0}, 20, 10, 100, 60, 0);
    heard.text[0] = '\0';
    now_ms = 0;
    kit_frame(&k, 0);
}

static ikv_action_id bind(const char *name, const char *text,
                          const ikv_scope *scope)
{
    ikv_action_id action;
    ok(ikv_actions_add(actions, IKV_MAIN_SET, name, &action));
    ok(ikv_actions_bind(actions, action, text, scope, NULL));
    return action;
}

/* A finger: '+' goes down, '~' moves, '-' is lifted. */
static void finger(char what, int id, float x, float y)
{
    ikv_event e = ikv_event_make(what == '+'   ? IKV_KIND_POINTER_DOWN
                                 : what == '~' ? IKV_KIND_POINTER_MOVE
                                 : what == '!' ? IKV_KIND_POINTER_CANCEL
                                               : IKV_KIND_POINTER_UP,
                                 k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.type = IKV_TOUCH;
    e.pointer.pointer = (uint16_t)id;
    e.pointer.x = x;
    e.pointer.y = y;
    e.pointer.button = what == '~' ? -1 : 0;
    e.pointer.buttons = what == '+' || what == '~';
    ok(ikv_sink_push(k.fake.sink, &e));
}

static void frame(void)
{
    kit_frame(&k, now_ms += 20);
}

/* ---------------------------------------------------------------- stick -- */

static const struct {
    ikv_scope scope; /* within the place */
    float down[2], to[2], x, y;
} stick_table[] = {
    /* From the place's middle, 70, 40, to half its height: 30. */
    {{.where = IKV_WITHIN}, {70, 40}, {70, 40}, 0, 0},
    {{.where = IKV_WITHIN}, {70, 40}, {100, 40}, 1, 0},
    {{.where = IKV_WITHIN}, {70, 40}, {70, 300}, 0, 1},
    {{.where = IKV_WITHIN}, {70, 40}, {70, 23.5f}, 0, -0.5f},
    {{.where = IKV_WITHIN}, {100, 40}, {100, 40}, 1, 0},  /* at once */
    {{.where = IKV_WITHIN}, {70, 40}, {72.9f, 40}, 0, 0}, /* a tenth is none */
    {{.where = IKV_WITHIN}, {70, 40}, {94, 58}, 0.8f, 0.6f},
    {{.where = IKV_WITHIN, .radius = 60}, {70, 40}, {103, 40}, 0.5f, 0},
    {{.where = IKV_WITHIN, .radius = 100, .dead_zone = 0.5f},
     {70, 40},
     {-5, 40},
     -0.5f,
     0},
    /* From where the finger goes down. */
    {{.where = IKV_WITHIN, .floating = true}, {100, 40}, {100, 40}, 0, 0},
    {{.where = IKV_WITHIN, .floating = true}, {100, 40}, {70, 40}, -1, 0},
    {{.where = IKV_WITHIN, .floating = true, .radius = 10},
     {100, 40},
     {105.5f, 40},
     0.5f,
     0},
    /* Without a target. */
    {{.where = IKV_ANYWHERE}, {300, 300}, {300, 364}, 0, 1},
    {{.where = IKV_ANYWHERE, .radius = 20}, {300, 300}, {289, 300}, -0.5f, 0},
    {{.where = IKV_IN_LAYER}, {300, 300}, {364, 300}, 1, 0},
};

START_TEST(a_finger_steers)
{
    ikv_scope scope = stick_table[_i].scope;
    const float *down = stick_table[_i].down, *to = stick_table[_i].to;
    open_touch();
    scope.target = scope.where == IKV_WITHIN ? place : (ikv_target){0};
    ikv_action_id steer = bind("steer", "pointer.stick", &scope);
    finger('+', 3, down[0], down[1]);
    frame();
    ck_assert(ikv_actions_ask(actions, steer, 0).on);
    finger('~', 3, to[0], to[1]);
    frame();
    ikv_action_state state = ikv_actions_ask(actions, steer, 0);
    ck_assert_float_eq_tol(state.x, stick_table[_i].x, 1e-5f);
    ck_assert_float_eq_tol(state.y, stick_table[_i].y, 1e-5f);
    /* Another finger is another's. */
    finger('+', 4, down[0], down[1]);
    finger('-', 4, down[0], down[1]);
    frame();
    ck_assert(ikv_actions_ask(actions, steer, 0).on);
    finger('-', 3, to[0], to[1]);
    frame();
    ck_assert(!ikv_actions_ask(actions, steer, 0).on);
    kit_close(&k);
}
END_TEST

/* Beside its place it is none; a mouse steers as a finger does, by its primary
 * button. */
START_TEST(who_steers)
{
    open_touch();
    ikv_scope scope = {.where = IKV_WITHIN, .target = place};
    ikv_action_id steer = bind("steer", "pointer.stick", &scope);
    finger('+', 1, 300, 300);
    finger('~', 1, 70, 40);
    frame();
    ck_assert(!ikv_actions_ask(actions, steer, 0).on);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer = (ikv_pointer_data){.x = 70,
                                   .y = 40,
                                   .pointer = 9,
                                   .type = IKV_MOUSE,
                                   .button = 2,
                                   .buttons = 2};
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
    ck_assert(!ikv_actions_ask(actions, steer, 0).on);
    e.pointer.button = 0;
    e.pointer.buttons = 3;
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
    ck_assert(ikv_actions_ask(actions, steer, 0).on);
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------------------- ten fingers -- */

static ikv_verdict note_action(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    note(&heard, "%s%c ", (const char *)user,
         event->kind == IKV_KIND_ACTION_START ? '+' : '-');
    return IKV_CONTINUE;
}

/* One on each of nine buttons and one on the stick, down in one step and lifted
 * in another order. */
START_TEST(ten_fingers)
{
    static char names[9][4];
    open_touch();
    ikv_scope scope = {.where = IKV_WITHIN, .target = place};
    ikv_action_id steer = bind("steer", "pointer.stick", &scope);
    for (int i = 0; i < 9; i++) {
        snprintf(names[i], sizeof names[i], "b%d", i);
        scope.target = rect_target(k.scene, (ikv_target){0}, (float)i * 40, 200,
                                   30, 30, 0);
        ikv_action_id action = bind(names[i], "pointer.primary", &scope);
        ok(ikv_actions_hear(actions, action, IKV_ACTION_STARTED, note_action,
                            names[i], NULL));
        ok(ikv_actions_hear(actions, action, IKV_ACTION_ENDED, note_action,
                            names[i], NULL));
    }
    for (int i = 0; i < 9; i++)
        finger('+', i, (float)i * 40 + 5, 205);
    finger('+', 9, 70, 40);
    frame();
    finger('~', 9, 100, 40);
    frame();
    for (int i = 8; i >= 0; i--)
        finger('-', i, (float)i * 40 + 5, 205);
    frame();
    ck_assert_str_eq(heard.text, "b0+ b1+ b2+ b3+ b4+ b5+ b6+ b7+ b8+ "
                                 "b8- b7- b6- b5- b4- b3- b2- b1- b0- ");
    ck_assert_float_eq_tol(ikv_actions_ask(actions, steer, 0).x, 1, 1e-5f);
    valid(ikv_actions_validate(actions));
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------------------------- files -- */

static const struct {
    const char *binding, *says;
} file_table[] = {
    {"{\"press\":\"pointer.stick\",\"radius\":60,\"dead_zone\":0.25,"
     "\"floating\":true}",
     NULL},
    {"{\"press\":\"pointer.stick\",\"layer\":0,\"radius\":60}", NULL},
    {"\"pointer.stick\"", NULL},
    {"{\"press\":\"pointer.stick\",\"radius\":-1}",
     "/radius: expected a number from 0.001"},
    {"{\"press\":\"pointer.stick\",\"dead_zone\":1}",
     "/dead_zone: expected a number from 0.001"},
    {"{\"press\":\"KeyA\",\"floating\":true}",
     "\"radius\", \"dead_zone\" and \"floating\" are of \"pointer.stick\" "
     "alone"},
    {"\"Shift+pointer.stick\"", "no part of a chord: \"pointer.stick\""},
    {"\"pointer.stick|KeyA\"", "no direction of an axis: \"pointer.stick\""},
};

START_TEST(in_files)
{
    char text[512];
    ikv_message message;
    open_touch();
    ikv_action_id steer = bind("steer", "KeyA", NULL);
    snprintf(text, sizeof text,
             "{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"steer\":[%s]}}",
             file_table[_i].binding);
    write_file(PAD, text);
    ikv_status status = ikv_bindings_load(PAD, actions, NULL, &message);
    if (file_table[_i].says != NULL) {
        status_is(status, IKV_BAD_FILE);
        ck_assert_msg(strstr(message.text, file_table[_i].says) != NULL, "%s",
                      message.text);
        kit_close(&k);
        return;
    }
    ck_assert_msg(status == IKV_OK, "%s", message.text);
    ikv_scope was =
        ikv_binding_scope(actions, ikv_actions_binding(actions, steer, 0));
    ok(ikv_bindings_save(PAD, actions, NULL, &message));
    ok(ikv_bindings_load(PAD, actions, NULL, &message));
    ikv_scope now =
        ikv_binding_scope(actions, ikv_actions_binding(actions, steer, 0));
    ck_assert(was.where == now.where && was.floating == now.floating);
    ck_assert_float_eq(was.radius, now.radius);
    ck_assert_float_eq(was.dead_zone, now.dead_zone);
    kit_close(&k);
}
END_TEST

START_TEST(scopes_that_are_wrong)
{
    open_touch();
    ikv_action_id a;
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "a", &a));
    const ikv_scope wrong[] = {{.radius = -1},
                               {.radius = 0.0f / 0.0f},
                               {.radius = 2e9f},
                               {.dead_zone = 1},
                               {.dead_zone = -0.1f}};
    for (int i = 0; i < ROWS(wrong); i++)
        status_is(
            ikv_actions_bind(actions, a, "pointer.stick", &wrong[i], NULL),
            IKV_BAD_ARGUMENT);
    const ikv_scope others[] = {
        {.radius = 1}, {.dead_zone = 0.1f}, {.floating = true}};
    for (int i = 0; i < ROWS(others); i++)
        status_is(ikv_actions_bind(actions, a, "KeyA", &others[i], NULL),
                  IKV_BAD_ARGUMENT);
    /* The same press: both would start. */
    ok(ikv_actions_bind(actions, a, "pointer.stick", NULL, NULL));
    ikv_action_id b = bind("b", "KeyB", NULL);
    ck_assert_uint_eq(
        ikv_actions_conflicts(actions, b, "pointer.primary", NULL, NULL, 0), 1);
    ck_assert_uint_eq(
        ikv_actions_conflicts(actions, b, "pointer.secondary", NULL, NULL, 0),
        0);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------- two taps -- */

static ikv_verdict note_click(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)delivery, (void)user;
    note(&heard, event->kind == IKV_KIND_POINTER_CLICK ? "click%u " : "two%u ",
         event->kind == IKV_KIND_POINTER_CLICK ? event->pointer.pointer : 0u);
    return IKV_CONTINUE;
}

/* With the option the tap of two has no clicks; what is none keeps those that
 * are left. */
static const struct {
    bool alone;
    int wait; /* frames before the second finger is lifted */
    const char *heard;
} tap_table[] = {{false, 0, "click1 click2 two0 "},
                 {true, 0, "two0 "},
                 {false, 30, "click1 click2 "},
                 {true, 30, "click2 "}};

START_TEST(a_tap_of_two)
{
    k = (bench_kit){0};
    kit_prepare(&k);
    k.config.router.two_tap_alone = tap_table[_i].alone;
    /* A long press makes no click anyhow. */
    k.config.router.hold_ns = 400000000;
    kit_open(&k);
    heard.text[0] = '\0';
    now_ms = 0;
    hears(k.bus, IKV_KIND_POINTER_CLICK, (ikv_target){0}, note_click, NULL);
    hears(k.bus, IKV_KIND_GESTURE_TWO_TAP, (ikv_target){0}, note_click, NULL);
    kit_frame(&k, 0);
    finger('+', 1, 50, 50);
    frame();
    for (int i = 0; i < 15 && tap_table[_i].wait > 0; i++)
        frame(); /* 300 ms: the first may still tap */
    finger('+', 2, 90, 50);
    frame();
    finger('-', 1, 50, 50);
    for (int i = 0; i < 8 && tap_table[_i].wait > 0; i++)
        frame(); /* beyond the first one's time, within the second's */
    finger('-', 2, 90, 50);
    frame();
    ck_assert_str_eq(heard.text, tap_table[_i].heard);
    /* A finger alone clicks. */
    heard.text[0] = '\0';
    finger('+', 5, 50, 50);
    frame();
    finger('-', 5, 50, 50);
    frame();
    ck_assert_str_eq(heard.text, "click5 ");
    kit_close(&k);
}
END_TEST

/* -------------------------------------------------------------- toggles -- */

static ikv_verdict note_run(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    static const char marks[] = "^=v";
    (void)delivery, (void)user;
    note(&heard, "%c%s%s", marks[event->action.state],
         event->flags & IKV_SYNTHETIC ? "!" : "",
         event->flags & IKV_REPEAT ? "r" : "");
    return IKV_CONTINUE;
}

static void key(char what, const char *code)
{
    ikv_event e = ikv_event_make(
        what == '-' ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.flags = what == '=' ? IKV_REPEAT : 0;
    e.key.code = ikv_code_find(code);
    ok(ikv_sink_push(k.fake.sink, &e));
}

static ikv_action_id crouch;

static void do_hand(const char *word)
{
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_BLUR, k.fake.now_ns);
    e.device = k.fake.device;
    if (*word == '+' || *word == '-')
        key(*word, word + 1);
    else if (strcmp(word, "|") == 0)
        frame();
    else if (strcmp(word, "feed") == 0)
        ok(ikv_actions_feed(actions, crouch, 0, 0.5f, 0));
    else if (strcmp(word, "unfeed") == 0)
        ok(ikv_actions_feed(actions, crouch, 0, 0, 0));
    else if (strcmp(word, "off") == 0)
        ok(ikv_actions_switch(actions, IKV_MAIN_SET, 0, false));
    else if (strcmp(word, "on") == 0)
        ok(ikv_actions_switch(actions, IKV_MAIN_SET, 0, true));
    else if (strcmp(word, "held") == 0)
        ok(ikv_actions_start_held(actions, IKV_MAIN_SET, 0));
    else if (strcmp(word, "plain") == 0)
        ok(ikv_actions_set_toggle(actions, crouch, 0, false));
    else if (strcmp(word, "gone") == 0)
        e.kind = IKV_KIND_DEVICE_REMOVE;
    if (strcmp(word, "gone") == 0 || strcmp(word, "blur") == 0)
        ok(ikv_sink_push(k.fake.sink, &e));
    valid(ikv_actions_validate(actions));
}

static const struct {
    const char *does, *heard;
} toggle_table[] = {
    {"+KeyC | | -KeyC | |", "^===="},
    {"+KeyC | -KeyC | +KeyC | -KeyC |", "^==v"},
    {"+KeyC | +KeyX | -KeyX -KeyC |", "^=v"}, /* by its other key */
    {"+KeyC -KeyC | +KeyC -KeyC |", "^=v"},
    {"+KeyC -KeyC +KeyC -KeyC | |", "^v"},
    {"+KeyC -KeyC | blur | |", "^==="}, /* it is no key that is held */
    {"+KeyC -KeyC | gone | |", "^=v!"},
    {"+KeyC -KeyC | off |", "^=v!"},
    {"+KeyC -KeyC | plain |", "^=v"},
    {"+KeyC | plain | -KeyC |", "^=v"},
    {"+KeyC -KeyC | feed | unfeed |", "^==v"},
    {"feed | +KeyC | unfeed | -KeyC |",
     "^===v"}, /* driven, it does not toggle */
    {"off +KeyC | on held | -KeyC | +KeyC -KeyC |", "^="},
    {"+Digit1 | +Digit1 |", ""},
};

START_TEST(an_action_toggles)
{
    open_touch();
    crouch = bind("crouch", "KeyC", NULL);
    ok(ikv_actions_bind(actions, crouch, "KeyX", NULL, NULL));
    ok(ikv_actions_set_toggle(actions, crouch, IKV_ALL_SEATS, true));
    ck_assert(ikv_actions_toggles(actions, crouch, 0));
    ck_assert(ikv_actions_toggles(actions, crouch, 1)); /* as the last seat */
    ck_assert(!ikv_actions_toggles(actions, crouch, 8));
    for (uint32_t state = 0; state < 3; state++)
        ok(ikv_actions_hear(actions, crouch, state, note_run, NULL, NULL));
    for_words(toggle_table[_i].does, do_hand);
    ck_assert_str_eq(heard.text, toggle_table[_i].heard);
    status_is(ikv_actions_set_toggle(actions, crouch, 8, true),
              IKV_BAD_ARGUMENT);
    ok(ikv_actions_remove(actions, crouch));
    status_is(ikv_actions_set_toggle(actions, crouch, 0, true), IKV_STALE);
    valid(ikv_actions_validate(actions));
    kit_close(&k);
}
END_TEST

/* A setup says it of its action; taken in anew it may say otherwise. */
START_TEST(a_setup_toggles)
{
    static const char *const versions[] = {"true", "false"};
    ikv_setup *setup;
    char text[256];
    for (int i = 0; i < 2; i++) {
        snprintf(text, sizeof text,
                 "{\"format\":\"ikvar.setup/1\",\"actions\":[{\"name\":"
                 "\"crouch\",\"toggle\":%s,\"bindings\":[\"KeyC\"]}]}",
                 versions[i]);
        write_file("toggle.setup.json", text);
        if (i == 0) {
            ok(ikv_setup_read("toggle.setup.json", &setup, NULL));
            open_touch();
            ok(ikv_setup_apply(setup, k.kit, 0, NULL));
        } else {
            ok(ikv_setup_reload(setup, k.kit, NULL, 0, NULL));
        }
        ck_assert(ikv_actions_toggles(actions,
                                      ikv_actions_find(actions, "crouch"),
                                      0) == (i == 0));
    }
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* --------------------------------------------------------------- sticky -- */

static ikv_verdict note_key(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    (void)delivery, (void)user;
    const char *name = event->kind == IKV_KIND_POINTER_DOWN
                           ? "click"
                           : ikv_code_name(event->key.code);
    note(&heard, "%s%s%s%s ", event->kind == IKV_KIND_KEY_UP ? "-" : "",
         event->flags & IKV_SYNTHETIC ? "!" : "", name,
         event->modifiers & IKV_SHIFT     ? "^"
         : event->modifiers & IKV_CONTROL ? "*"
                                          : "");
    return IKV_CONTINUE;
}

static void do_sticky(const char *word)
{
    if (*word == '+' || *word == '-' || *word == '=')
        key(*word, word + 1);
    else if (strncmp(word, "lost", 4) == 0) {
        holds = word[4] == ':' ? ikv_code_find(word + 5) : 0;
        ikv_sink_lost(k.fake.sink, k.fake.device);
    } else if (strncmp(word, "seat", 4) == 0)
        ok(ikv_loop_set_seat(k.loop, k.fake.device, (uint8_t)(word[4] - '0')));
    else if (strcmp(word, "blur1") == 0) { /* of another window */
        ikv_event e = ikv_event_make(IKV_KIND_WINDOW_BLUR, k.fake.now_ns);
        e.view = 1;
        ok(ikv_sink_push(k.fake.sink, &e));
    } else if (strcmp(word, "tap") == 0)
        finger('+', 1, 300, 300);
    else if (strcmp(word, "lift") == 0)
        finger('-', 1, 300, 300);
    else if (strcmp(word, "cancel") == 0)
        finger('!', 1, 300, 300);
    else if (strcmp(word, "off") == 0)
        ok(ikv_loop_set_sticky(k.loop, 0, false));
    else if (strcmp(word, "|") == 0)
        frame();
    else
        do_hand(word);
}

#define SHIFT "+ShiftLeft -ShiftLeft "

static const struct {
    const char *does, *heard;
} sticky_table[] = {
    {SHIFT "| +KeyA -KeyA | +KeyB -KeyB |",
     "ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft KeyB -KeyB "},
    {SHIFT "+ControlLeft -ControlLeft +KeyA -KeyA |", /* both */
     "ShiftLeft^ ControlLeft^ KeyA^ -KeyA^ -!ShiftLeft* -!ControlLeft "},
    {"+ShiftLeft +KeyA -KeyA -ShiftLeft +KeyB -KeyB |", /* as ever */
     "ShiftLeft^ KeyA^ -KeyA^ -ShiftLeft KeyB -KeyB "},
    {SHIFT SHIFT "+KeyA -KeyA +KeyB -KeyB " SHIFT "+KeyC -KeyC |", /* locked */
     "ShiftLeft^ KeyA^ -KeyA^ KeyB^ -KeyB^ -ShiftLeft KeyC -KeyC "},
    {"+KeyA " SHIFT "-KeyA +KeyB -KeyB |", /* not of a press before it */
     "KeyA ShiftLeft^ -KeyA^ KeyB^ -KeyB^ -!ShiftLeft "},
    {SHIFT "tap lift | +KeyA -KeyA |",
     "ShiftLeft^ click^ -!ShiftLeft KeyA -KeyA "},
    {SHIFT
     "tap cancel | +KeyA -KeyA |", /* taken away, it was used all the same */
     "ShiftLeft^ click^ -!ShiftLeft KeyA -KeyA "},
    {SHIFT "| off | +KeyA -KeyA |", "ShiftLeft^ -!ShiftLeft KeyA -KeyA "},
    {"+ShiftLeft | off | -ShiftLeft |", "ShiftLeft^ -ShiftLeft "},
    {SHIFT "| blur | +KeyA -KeyA |", "ShiftLeft^ -!ShiftLeft KeyA -KeyA "},
    {SHIFT "| gone | +KeyA -KeyA |", "ShiftLeft^ -!ShiftLeft KeyA -KeyA "},
    {SHIFT "| blur1 | +KeyA -KeyA +KeyB -KeyB |",
     "ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft KeyB -KeyB "},
    {"+KeyA " SHIFT "=KeyA -KeyA +KeyB -KeyB |", /* a repeat is no press */
     "KeyA ShiftLeft^ KeyA^ -KeyA^ KeyB^ -KeyB^ -!ShiftLeft "},
    /* K1 Q3: after a loss what stays is down, and what was held is let go */
    {SHIFT "| lost | +KeyA -KeyA +KeyB -KeyB |",
     "ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft KeyB -KeyB "},
    {SHIFT SHIFT "| lost | +KeyA -KeyA | " SHIFT "|",
     "ShiftLeft^ KeyA^ -KeyA^ -ShiftLeft "},
    {SHIFT "+ShiftLeft | lost | +KeyA -KeyA | " SHIFT "|", /* its up was lost */
     "ShiftLeft^ KeyA^ -KeyA^ -ShiftLeft "},
    {"+ShiftLeft | lost | +KeyA -KeyA | " SHIFT "+KeyB -KeyB |",
     "ShiftLeft^ -!ShiftLeft KeyA -KeyA ShiftLeft^ KeyB^ -KeyB^ -!ShiftLeft "},
    {SHIFT SHIFT "+ShiftLeft | lost | " SHIFT "+KeyB -KeyB |",
     "ShiftLeft^ -!ShiftLeft ShiftLeft^ KeyB^ -KeyB^ -!ShiftLeft "},
    {SHIFT "| lost:ShiftLeft | -ShiftLeft | +KeyA -KeyA +KeyB -KeyB | " SHIFT
           "|", /* its second press was lost */
     "ShiftLeft^ KeyA^ -KeyA^ KeyB^ -KeyB^ -ShiftLeft "},
    {"lost:ShiftLeft | -ShiftLeft +KeyA -KeyA |", /* its first one */
     "!ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft "},
    /* L10: it goes along with its device, whatever that seat's do */
    {SHIFT "| seat1 | +KeyA -KeyA +KeyB -KeyB |",
     "ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft KeyB -KeyB "},
    {SHIFT "| seat1 | off |", "ShiftLeft^ -!ShiftLeft "},
    {SHIFT "| seat1 | +KeyA -KeyA | " SHIFT "+KeyB -KeyB |",
     "ShiftLeft^ KeyA^ -KeyA^ -!ShiftLeft ShiftLeft^ -ShiftLeft KeyB -KeyB "},
};

/* The state, chords and what is recorded have the same: played without the
 * setting it is the same again. */
static ikv_event taken[64];
static ikv_intake takings[64];
static uint32_t taken_count;

static void keep_taken(const ikv_event *event, const ikv_intake *intake,
                       void *user)
{
    (void)user;
    ck_assert_uint_lt(taken_count, 64);
    takings[taken_count] = *intake;
    taken[taken_count++] = *event;
}

START_TEST(modifiers_stay)
{
    static record first;
    for (int again = 0; again < 2; again++) {
        open_touch();
        hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, note_key, NULL);
        hears(k.bus, IKV_KIND_KEY_UP, (ikv_target){0}, note_key, NULL);
        hears(k.bus, IKV_KIND_POINTER_DOWN, (ikv_target){0}, note_key, NULL);
        if (again == 0) {
            taken_count = 0;
            ok(ikv_loop_set_recorder(k.loop, keep_taken, NULL));
            ok(ikv_loop_set_sticky(k.loop, 0, true));
            status_is(ikv_loop_set_sticky(k.loop, 8, true), IKV_BAD_ARGUMENT);
            holds = 0;
            for_words(sticky_table[_i].does, do_sticky);
            ck_assert_str_eq(heard.text, sticky_table[_i].heard);
            first = heard;
        }
        for (uint32_t i = 0; again == 1 && i < taken_count; i++)
            ok(ikv_sink_play(k.fake.sink, &taken[i], &takings[i]));
        for (int i = 0; i < 10; i++)
            frame();
        ck_assert_str_eq(heard.text, first.text);
        ck_assert_uint_eq(
            ikv_state_modifiers(ikv_kit_state(k.kit), IKV_STATE_RAW, 0), 0);
        kit_close(&k);
    }
}
END_TEST

/* A loop with room for few events says so, and does not wait for ever. */
START_TEST(modifiers_in_little_room)
{
    for (uint32_t pending = 8; pending <= 9; pending++) {
        k = (bench_kit){0};
        kit_prepare(&k);
        k.config.loop.pending = pending;
        kit_open(&k);
        heard.text[0] = '\0';
        now_ms = 0;
        kit_frame(&k, 0);
        hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, note_key, NULL);
        status_is(ikv_loop_set_sticky(k.loop, 0, true),
                  pending < 9 ? IKV_FULL_PENDING : IKV_OK);
        for_words("| +ShiftLeft -ShiftLeft | | +KeyA | | -KeyA +KeyB |",
                  do_sticky);
        for (int i = 0; i < 10; i++)
            frame();
        ck_assert_str_eq(heard.text, pending < 9 ? "ShiftLeft^ KeyA KeyB "
                                                 : "ShiftLeft^ KeyA^ KeyB ");
        kit_close(&k);
    }
}
END_TEST

/* A chord of one key at a time. */
START_TEST(a_chord_key_by_key)
{
    open_touch();
    crouch = bind("save", "Control+Shift+KeyS", NULL);
    ok(ikv_loop_set_sticky(k.loop, 0, true));
    for (uint32_t state = 0; state < 3; state += 2)
        ok(ikv_actions_hear(actions, crouch, state, note_run, NULL, NULL));
    for_words("+ControlLeft -ControlLeft | " SHIFT "| +KeyS | -KeyS | +KeyS | "
              "-KeyS |",
              do_sticky);
    ck_assert_str_eq(heard.text, "^v");
    kit_close(&k);
}
END_TEST

/* -------------------------------------------------------------- repeats -- */

static const struct {
    uint64_t after_ms, every_ms;
    const char *heard; /* of ten steps of 20 ms, held from the first on */
} repeat_table[] = {
    {0, 0, "^=========="},     {0, 20, "^=========="},  {60, 0, "^==r======="},
    {60, 40, "^==r=r=r=r="},   {60, 20, "^==rrrrrrrr"}, {60, 5, "^==rrrrrrrr"},
    {1000, 20, "^=========="},
};

START_TEST(what_is_held_repeats)
{
    k = (bench_kit){0};
    kit_prepare(&k);
    k.config.loop.step_num = 50;
    kit_open(&k);
    actions = ikv_kit_actions(k.kit);
    heard.text[0] = '\0';
    now_ms = 0;
    kit_frame(&k, 0);
    crouch = bind("crouch", "KeyC", NULL);
    for (uint32_t state = 0; state < 3; state++)
        ok(ikv_actions_hear(actions, crouch, state, note_run, NULL, NULL));
    ok(ikv_actions_set_repeat(actions, IKV_ALL_SEATS,
                              repeat_table[_i].after_ms * 1000000,
                              repeat_table[_i].every_ms * 1000000));
    status_is(ikv_actions_set_repeat(actions, 9, 1, 1), IKV_BAD_ARGUMENT);
    key('+', "KeyC");
    for (int i = 0; i < 10; i++)
        frame();
    /* "=r" is a repeat: written as r alone where it is the rule. */
    record found = {.text = ""};
    for (const char *at = heard.text; *at != '\0'; at++)
        if (at[0] != '=' || at[1] != 'r')
            note(&found, "%c", *at);
    ck_assert_str_eq(found.text, repeat_table[_i].heard);
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------------------- one's own times */

static ikv_verdict note_time(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    note(&heard, "%s%llu ", (const char *)user,
         (unsigned long long)(event->time_ns / 1000000));
    return IKV_CONTINUE;
}

START_TEST(times_of_ones_own)
{
    open_touch();
    hears(k.bus, IKV_KIND_POINTER_HOLD, (ikv_target){0}, note_time, "hold");
    hears(k.bus, IKV_KIND_POINTER_DOUBLE, (ikv_target){0}, note_time, "two");
    ok(ikv_router_set_times(k.router, 0, 100000000, 60000000));
    ok(ikv_router_set_times(k.router, 1, 1000000000, 0));
    status_is(ikv_router_set_times(k.router, 8, 0, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_router_set_times(k.router, 0, UINT64_MAX, 0),
              IKV_BAD_ARGUMENT);
    status_is(ikv_router_set_times(NULL, 0, 0, 0), IKV_BAD_ARGUMENT);
    finger('+', 1, 300, 300);
    for (int i = 0; i < 10; i++)
        frame();
    ck_assert_str_eq(heard.text, "hold100 ");
    finger('-', 1, 300, 300);
    frame();
    heard.text[0] = '\0';
    /* Two clicks 80 ms apart are no double one for this player; 40 are. */
    for (int i = 0; i < 8; i++) {
        finger(i % 2 ? '-' : '+', 1, 300, 300);
        frame();
        if (i == 3)
            for (int n = 0; n < 3; n++)
                frame();
    }
    ck_assert_uint_eq(strlen(heard.text) > 0, 1);
    int doubles = 0;
    for (const char *at = heard.text; (at = strstr(at, "two")) != NULL; at++)
        doubles++;
    ck_assert_int_eq(doubles, 2);
    ok(ikv_router_set_times(k.router, IKV_ALL_SEATS, 0, 0));
    heard.text[0] = '\0';
    finger('+', 2, 10, 300);
    for (int i = 0; i < 20; i++)
        frame();
    ck_assert_str_eq(heard.text, ""); /* 500 ms again */
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------- locked pointers -- */

static void mouse(ikv_kind kind, float x, float dx, uint16_t flags, bool down)
{
    ikv_event e = ikv_event_make(kind, k.fake.now_ns);
    e.device = k.fake.device;
    e.flags = flags;
    e.pointer = (ikv_pointer_data){
        .x = x,
        .y = 300,
        .dx = dx,
        .type = IKV_MOUSE,
        .button = kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : 0,
        .buttons = down};
    ok(ikv_sink_push(k.fake.sink, &e));
}

static ikv_verdict note_pointer(const ikv_event *event,
                                const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    const char *name = ikv_catalogue_info(NULL, event->kind)->name;
    note(&heard, "%s%s %g%+g ", (const char *)user, name + strlen("pointer."),
         (double)event->pointer.x, (double)event->pointer.dx);
    return IKV_CONTINUE;
}

/* It rests where it was, whatever place its events bear; motion adds up and
 * makes drags; then it goes on from there. */
START_TEST(a_locked_pointer)
{
    ikv_pointer_state p;
    open_touch();
    ikv_target left =
        rect_target(k.scene, (ikv_target){0}, 0, 250, 200, 100, 0);
    ikv_target right =
        rect_target(k.scene, (ikv_target){0}, 200, 250, 200, 100, 0);
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_ENTER, IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DRAG,
        IKV_KIND_POINTER_CLICK};
    for (int i = 0; i < ROWS(kinds); i++) {
        hears(k.bus, kinds[i], left, note_pointer, "");
        hears(k.bus, kinds[i], right, note_pointer, "right ");
    }
    mouse(IKV_KIND_POINTER_MOVE, 100, 0, 0, false);
    frame();
    mouse(IKV_KIND_POINTER_MOVE, 300, 40, IKV_RELATIVE, false);
    mouse(IKV_KIND_POINTER_MOVE, 0, 2, IKV_RELATIVE, false);
    frame();
    ck_assert_str_eq(heard.text, "enter 100+0 move 100+0 move 100+42 ");
    ck_assert(ikv_state_pointer(ikv_kit_state(k.kit), IKV_STATE_RAW, 0, &p));
    ck_assert_float_eq(p.x, 100);
    ck_assert_float_eq(p.dx, 42);
    heard.text[0] = '\0';
    mouse(IKV_KIND_POINTER_DOWN, 100, 0, IKV_RELATIVE, true);
    frame();
    mouse(IKV_KIND_POINTER_MOVE, 300, 3, IKV_RELATIVE, true);
    frame();
    mouse(IKV_KIND_POINTER_MOVE, 300, 3, IKV_RELATIVE, true);
    frame();
    mouse(IKV_KIND_POINTER_UP, 300, 0, IKV_RELATIVE, false);
    frame();
    ck_assert_str_eq(heard.text, "move 100+3 drag 100+3 move 100+3 "
                                 "click 100+0 ");
    heard.text[0] = '\0';
    mouse(IKV_KIND_POINTER_MOVE, 300, 0, 0, false);
    frame();
    ck_assert_str_eq(heard.text, "right enter 300+200 right move 300+200 ");
    kit_close(&k);
}
END_TEST

/* -------------------------------------------------------------- triggers -- */

static void pad(ikv_kind kind, uint8_t index, float value)
{
    ikv_event e = ikv_event_make(kind, k.fake.now_ns);
    e.device = k.fake.device;
    e.pad.index = index;
    e.pad.value = value;
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
}

/* A trigger half down is half of an action; as a button it is pressed when its
 * port says so. */
START_TEST(a_trigger)
{
    ikv_pad_state state;
    open_touch();
    ikv_action_id gas = bind("gas", "pad.value7", NULL);
    ikv_action_id drive = bind("drive", "pad.value6|pad.value7", NULL);
    ikv_action_id shoot = bind("shoot", "pad.7", NULL);
    pad(IKV_KIND_PAD_VALUE, 7, 0.03f); /* it trembles */
    ck_assert(!ikv_actions_ask(actions, gas, 0).on);
    pad(IKV_KIND_PAD_VALUE, 7, 0.25f);
    ck_assert_float_eq(ikv_actions_ask(actions, gas, 0).x, 0.25f);
    ck_assert(!ikv_actions_ask(actions, shoot, 0).on);
    pad(IKV_KIND_PAD_DOWN, 7, 0.75f);
    ck_assert_float_eq(ikv_actions_ask(actions, gas, 0).x, 0.75f);
    ck_assert(ikv_actions_ask(actions, shoot, 0).on);
    pad(IKV_KIND_PAD_VALUE, 6, 1);
    ck_assert_float_eq(ikv_actions_ask(actions, drive, 0).x, -0.25f);
    ck_assert(ikv_state_pad(ikv_kit_state(k.kit), IKV_STATE_RAW, 0, &state));
    ck_assert_float_eq(state.values[7], 0.75f);
    pad(IKV_KIND_PAD_UP, 7, 0.5f);
    ck_assert_float_eq(ikv_actions_ask(actions, gas, 0).x, 0.5f);
    ck_assert(!ikv_actions_ask(actions, shoot, 0).on);
    pad(IKV_KIND_PAD_VALUE, 7, 0);
    ck_assert(!ikv_actions_ask(actions, gas, 0).on);
    /* One that knows no value is wholly down, and up. */
    pad(IKV_KIND_PAD_DOWN, 7, 0);
    ck_assert_float_eq(ikv_actions_ask(actions, gas, 0).x, 1);
    ikv_event e = ikv_event_make(IKV_KIND_DEVICE_REMOVE, k.fake.now_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
    ck_assert(!ikv_actions_ask(actions, gas, 0).on);
    pad(IKV_KIND_PAD_VALUE, 32, 1); /* means nothing */
    status_is(ikv_binding_check("pad.value32", NULL), IKV_BAD_VALUE);
    /* Not learned by a touch of it, but by its press. */
    char text[IKV_BINDING_BYTES];
    ok(ikv_actions_learn(actions, 0, 0));
    pad(IKV_KIND_PAD_VALUE, 5, 0.2f);
    status_is(ikv_actions_learned(actions, 0, text, sizeof text), IKV_BUSY);
    pad(IKV_KIND_PAD_DOWN, 5, 0.9f);
    ok(ikv_actions_learned(actions, 0, text, sizeof text));
    ck_assert_str_eq(text, "pad.5");
    kit_close(&k);
}
END_TEST

/* --------------------------------------------------------------- sensors -- */

static ikv_verdict note_sensor(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    char text[512];
    (void)user;
    ikv_event_format(NULL, event, text, sizeof text);
    note(&heard, "%u: %s\n", delivery->sample_count, text);
    return IKV_CONTINUE;
}

START_TEST(sensors)
{
    open_touch();
    hears(k.bus, IKV_KIND_DEVICE_MOTION, (ikv_target){0}, note_sensor, NULL);
    hears(k.bus, IKV_KIND_DEVICE_BATTERY, (ikv_target){0}, note_sensor, NULL);
    hears(k.bus, IKV_KIND_WINDOW_UNLOCK, (ikv_target){0}, note_sensor, NULL);
    ikv_event e = ikv_event_make(IKV_KIND_DEVICE_MOTION, k.fake.now_ns);
    e.device = k.fake.device;
    for (int i = 0; i < 3; i++) { /* of a frame they merge; the last counts */
        e.motion = (ikv_motion_data){.ay = 9.5f, .rz = (float)i};
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    frame();
    ck_assert_ptr_nonnull(strstr(heard.text, "3: "));
    ck_assert_ptr_nonnull(strstr(heard.text, "ay=9.5"));
    ck_assert_ptr_nonnull(strstr(heard.text, "rz=2"));
    e.kind = IKV_KIND_DEVICE_BATTERY;
    e.battery = (ikv_battery_data){.level = 0.25f, .charging = 1};
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
    ck_assert_ptr_nonnull(strstr(heard.text, "level=0.25"));
    e = ikv_event_make(IKV_KIND_WINDOW_UNLOCK, k.fake.now_ns);
    ok(ikv_sink_push(k.fake.sink, &e));
    frame();
    ck_assert_ptr_nonnull(strstr(heard.text, "window.unlock"));
    e = ikv_event_make(IKV_KIND_DEVICE_MOTION, k.fake.now_ns);
    e.motion.az = 0.0f / 0.0f;
    status_is(ikv_sink_push(k.fake.sink, &e), IKV_BAD_VALUE);
    kit_close(&k);
}
END_TEST

Suite *touch_suite(void)
{
    Suite *s = suite_create("touch");
    add_table(s, "A1 a finger steers", a_finger_steers, ROWS(stick_table));
    add(s, "A1 A4 who steers", who_steers);
    add(s, "A1 ten fingers", ten_fingers);
    add_table(s, "A7 sticks in files", in_files, ROWS(file_table));
    add(s, "A1 scopes that are wrong", scopes_that_are_wrong);
    add_table(s, "A1 an action toggles", an_action_toggles, ROWS(toggle_table));
    add(s, "A1 a setup toggles", a_setup_toggles);
    add_table(s, "K1 modifiers that stay", modifiers_stay, ROWS(sticky_table));
    add(s, "K1 modifiers in little room", modifiers_in_little_room);
    add(s, "A1 a chord key by key", a_chord_key_by_key);
    add_table(s, "A2 what is held repeats", what_is_held_repeats,
              ROWS(repeat_table));
    add(s, "OVER1 CLICK2 a locked pointer", a_locked_pointer);
    add(s, "A1 a trigger", a_trigger);
    add(s, "P2 Q2 sensors", sensors);
    add(s, "CLICK2 times of one's own", times_of_ones_own);
    add_table(s, "CLICK1 a tap of two", a_tap_of_two, ROWS(tap_table));
    return s;
}
