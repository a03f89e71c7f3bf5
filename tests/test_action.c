/* test_action.c - A1 to A9: bindings, what they start, and their files. */
#define _GNU_SOURCE
#include "support.h"

#include <ikvar/keys.h>

#include <math.h>

static bench_kit k;
static ikv_actions *actions;
static record seen;
static uint64_t ms;
static float mouse[2];
static ikv_target lamp, mast, field;
static uint8_t seat_now; /* whose the next inputs are */
static const char *hook; /* what to do inside the next action's handler */
static uint64_t last_ns; /* of the last action's event */

static void push(ikv_event *e)
{
    e->time_ns = 7000000000 + ++ms * 1000000;
    e->seat = e->seat != 0 ? e->seat : seat_now;
    e->device = (uint16_t)(k.fake.device + e->seat);
    ok(ikv_sink_push(k.fake.sink, e));
}

static void do_word(const char *word);

/* What a press is said to start, by the actions' order; and whether anybody
 * asks. */
static uint32_t due;
static bool foretold;

static uint32_t order_of(ikv_action_id action)
{
    uint32_t nth = 0;
    while (ikv_actions_list(actions, nth).bits != action.bits)
        nth++;
    return nth;
}

static bool is_free(ikv_action_id action, const ikv_event *press)
{
    ikv_binding binding;
    for (uint32_t nth = 0;
         (binding = ikv_actions_binding(actions, action, nth)).bits != 0; nth++)
        if (ikv_actions_probe(actions, binding, press, NULL, 0) == 0)
            return true;
    return false;
}

static void foretell(const ikv_watch *watch, void *user)
{
    ikv_action_id action;
    (void)user;
    if (!foretold)
        return;
    ck_assert_uint_eq(due, 0); /* all that was said has started */
    for (uint32_t nth = 0; (action = ikv_actions_list(actions, nth)).bits != 0;
         nth++)
        if (!ikv_actions_ask(actions, action, 0).on &&
            is_free(action, watch->event))
            due |= 1u << nth;
}

/* "jump^" started, "jump=" held, "jumpv" ended; then what is not 1 or 0. */
static ikv_verdict note_action(const ikv_event *e, const ikv_delivery *d,
                               void *user)
{
    static const char marks[] = "^=v";
    const ikv_action_data *a = &e->action;
    const char *name = ikv_actions_name(actions, (ikv_action_id){a->action});
    (void)user;
    ck_assert_uint_lt(a->state, 3);
    ck_assert_int_eq(a->state, e->kind - IKV_KIND_ACTION_START);
    ck_assert_ptr_nonnull(d->cause);
    /* What is fed, or held already, starts without a press. */
    if (foretold && a->state == IKV_ACTION_STARTED && a->binding != 0 &&
        (e->flags & IKV_SYNTHETIC) == 0) {
        uint32_t bit = 1u << order_of((ikv_action_id){a->action});
        ck_assert_msg((due & bit) != 0, "%s was not foretold", name);
        due &= ~bit;
    }
    last_ns = e->time_ns;
    note(&seen, "%s%c", name, marks[a->state]);
    if (fabsf(a->value - 1) > 1e-3f)
        note(&seen, "%.2g", (double)a->value);
    if (a->y < 0 || a->y > 0)
        note(&seen, "(%.2g,%.2g)", (double)a->x, (double)a->y);
    if (a->steps > 0 && a->state == IKV_ACTION_ENDED)
        note(&seen, "/%u", a->steps);
    if (e->target.bits == lamp.bits)
        note(&seen, "@lamp");
    if (e->flags & IKV_SYNTHETIC)
        note(&seen, "!");
    note(&seen, " ");
    valid(ikv_actions_validate(actions));
    if (hook != NULL) {
        char what[64], *rest = NULL;
        snprintf(what, sizeof what, "%s", hook);
        hook = NULL;
        for (char *one = strtok_r(what, "&", &rest); one != NULL;
             one = strtok_r(NULL, "&", &rest))
            do_word(one);
        valid(ikv_actions_validate(actions));
    }
    return IKV_CONTINUE;
}

static ikv_verdict stop(const ikv_event *e, const ikv_delivery *d, void *user)
{
    (void)e, (void)d, (void)user;
    return IKV_STOP;
}

static ikv_target add_rect(float x, ikv_target parent, uint32_t traits,
                           uint32_t hit)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target;
    config.x = x;
    config.parent = parent;
    config.shape = ikv_scene_rect(0, 0, 10, 10);
    config.traits = traits;
    config.hit = hit;
    ok(ikv_scene_add(k.scene, &config, &target, NULL));
    return target;
}

static ikv_verdict note_learned(const ikv_event *e, const ikv_delivery *d,
                                void *user)
{
    (void)user;
    ck_assert_uint_eq(d->data_size, strlen(d->data) + 1);
    note(&seen, "learned%d(%s) ", e->seat, (const char *)d->data);
    return IKV_CONTINUE;
}

static void open_actions(uint32_t seats)
{
    ikv_target none = {0};
    kit_prepare(&k);
    k.config.loop.step_num = 50; /* a step each 20 ms */
    k.config.state.seats = k.config.actions.seats = seats;
    k.config.actions.bindings = 40;
    kit_open(&k);
    actions = ikv_kit_actions(k.kit);
    seen.text[0] = '\0';
    ms = 0;
    mouse[0] = mouse[1] = 200;
    hook = NULL;
    seat_now = 0;
    lamp = add_rect(100, none, 0, IKV_HIT_SOLID);
    mast = add_rect(20, lamp, 0, IKV_HIT_SOLID); /* at 120 */
    ok(ikv_scene_set_tags(k.scene, mast, 4));
    field = add_rect(300, none, IKV_FOCUSABLE | IKV_TAKES_TEXT, IKV_HIT_SOLID);
    for (ikv_kind kind = IKV_KIND_ACTION_START; kind <= IKV_KIND_ACTION_END;
         kind++)
        hears(k.bus, kind, none, note_action, NULL);
    hears(k.bus, IKV_KIND_ACTION_LEARNED, none, note_learned, NULL);
    kit_frame(&k, 0);
}

static void close_actions(void)
{
    valid(ikv_actions_validate(actions));
    kit_close(&k);
    ck_assert_int_eq(k.memory.takes, k.memory.gives);
}

static void push_mouse(ikv_kind kind, int button, float dx, float dy)
{
    ikv_event e = ikv_event_make(kind, 0);
    mouse[0] += dx;
    mouse[1] += dy;
    e.pointer.x = mouse[0];
    e.pointer.y = mouse[1];
    e.pointer.dx = dx;
    e.pointer.dy = dy;
    e.pointer.button = (int8_t)button;
    push(&e);
}

static void push_touch(ikv_kind kind, int id)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.pointer.x = mouse[0] + (float)id;
    e.pointer.y = mouse[1];
    e.pointer.type = IKV_TOUCH;
    e.pointer.pointer = (uint16_t)id;
    e.pointer.button = 0;
    push(&e);
}

static void push_pad(ikv_kind kind, int index, float value)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.pad.index = (uint8_t)index;
    e.pad.value = value;
    push(&e);
}

static void push_key(ikv_kind kind, const char *code, uint8_t seat)
{
    ikv_event e = ikv_event_make(kind, 0);
    e.key.code = code[0] == '#' ? (uint32_t)strtoul(code + 1, NULL, 16)
                                : ikv_code_find(code);
    ck_assert_uint_ne(e.key.code, 0);
    e.seat = seat;
    push(&e);
}

static void step(void)
{
    ms = (ms / 20 + 1) * 20;
    kit_frame(&k, ms);
    note(&seen, "| ");
}

/* Switches, removal, learning: what a row asks for in words. */
static void do_command(const char *word)
{
    ikv_target none = {0};
    char name[40] = "", text[IKV_BINDING_BYTES];
    ikv_action_set set;
    int seat = 0;
    float x = 0, y = 0;
    if (sscanf(word, "off:%39s", name) == 1) {
        ok(ikv_actions_find_set(actions, name, &set));
        ok(ikv_actions_switch(actions, set, IKV_ALL_SEATS, false));
    } else if (sscanf(word, "on:%39s", name) == 1) {
        ok(ikv_actions_find_set(actions, name, &set));
        ok(ikv_actions_switch(actions, set, IKV_ALL_SEATS, true));
    } else if (sscanf(word, "remove:%39s", name) == 1) {
        ok(ikv_actions_remove(actions, ikv_actions_find(actions, name)));
    } else if (sscanf(word, "bind:%39[^=]=%39s", name, text) == 2) {
        ok(ikv_actions_bind(actions, ikv_actions_find(actions, name), text,
                            NULL, NULL));
    } else if (sscanf(word, "unbind:%39s", name) == 1) {
        ok(ikv_actions_unbind(
            actions,
            ikv_actions_binding(actions, ikv_actions_find(actions, name), 0)));
    } else if (sscanf(word, "learn%d", &seat) == 1 ||
               strcmp(word, "learn") == 0) {
        ok(ikv_actions_learn(actions, (uint8_t)seat, ikv_code_find("Escape")));
    } else if (strcmp(word, "learned") == 0) {
        ikv_status status = ikv_actions_learned(actions, 0, text, sizeof text);
        note(&seen, "%s ", status == IKV_OK ? text : ikv_status_name(status));
    } else if (sscanf(word, "push:%39s", name) == 1) {
        ok(ikv_actions_find_set(actions, name, &set));
        ok(ikv_actions_push(actions, set, 0, false));
    } else if (sscanf(word, "join:%39s", name) == 1) {
        ok(ikv_actions_find_set(actions, name, &set));
        ok(ikv_actions_push(actions, set, 0, true));
    } else if (sscanf(word, "give:%d", &seat) == 1) {
        ok(ikv_loop_set_seat(k.loop, k.fake.device, (uint8_t)seat));
    } else if (strcmp(word, "pop") == 0) {
        ok(ikv_actions_pop(actions, 0));
    } else if (sscanf(word, "held:%39s", name) == 1) {
        ok(ikv_actions_find_set(actions, name, &set));
        ok(ikv_actions_start_held(actions, set, IKV_ALL_SEATS));
    } else if (sscanf(word, "feed:%39[^=]=%f,%f", name, &x, &y) >= 2) {
        ikv_status status =
            ikv_actions_feed(actions, ikv_actions_find(actions, name), 0, x, y);
        if (status != IKV_OK)
            note(&seen, "%s ", ikv_status_name(status));
    } else if (sscanf(word, "fed:%39[^=]=%f,%f", name, &x, &y) >= 2) {
        ikv_event e = ikv_event_make(IKV_KIND_ACTION_FEED, 0);
        e.action.action = ikv_actions_find(actions, name).bits;
        e.action.x = x;
        e.action.y = y;
        push(&e);
    } else if (strcmp(word, "blur") == 0 || strcmp(word, "unplug") == 0) {
        ikv_event e = ikv_event_make(
            word[0] == 'b' ? IKV_KIND_WINDOW_BLUR : IKV_KIND_DEVICE_REMOVE, 0);
        push(&e);
    } else if (strcmp(word, "type") == 0) {
        ok(ikv_router_focus(k.router, 0, field));
    } else if (strcmp(word, "untype") == 0) {
        ok(ikv_router_blur(k.router, 0));
    } else if (strcmp(word, "menu") == 0 || strcmp(word, "at_mast") == 0) {
        ok(ikv_router_set_modal(k.router, 0, word[0] == 'm' ? field : mast));
    } else if (strcmp(word, "stop_keys") == 0) {
        hears(k.bus, IKV_KIND_KEY_DOWN, none, stop, NULL);
    } else if (strcmp(word, "stop_lamp") == 0) {
        hears(k.bus, IKV_KIND_POINTER_DOWN, lamp, stop, NULL);
    } else if (strcmp(word, "pass_over") == 0) {
        add_rect(100, none, 0, IKV_HIT_PASS);
    } else if (strcmp(word, "pause") == 0) {
        ok(ikv_loop_pause(k.loop));
    } else {
        ck_abort_msg("unknown word %s", word);
    }
}

static void do_word(const char *word)
{
    int n = 0, code = 0;
    float a = 0, b = 0;
    char name[40] = "";
    if (strcmp(word, "|") == 0)
        step();
    else if (sscanf(word, "b+%d", &n) == 1)
        push_mouse(IKV_KIND_POINTER_DOWN, n, 0, 0);
    else if (sscanf(word, "b-%d", &n) == 1)
        push_mouse(IKV_KIND_POINTER_UP, n, 0, 0);
    else if (sscanf(word, "to%f", &a) == 1)
        push_mouse(IKV_KIND_POINTER_MOVE, -1, a - mouse[0], 5 - mouse[1]);
    else if (sscanf(word, "m%f,%f", &a, &b) == 2)
        push_mouse(IKV_KIND_POINTER_MOVE, -1, a, b);
    else if (sscanf(word, "w%f,%f", &a, &b) == 2) {
        ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 0);
        e.wheel.dx = a;
        e.wheel.dy = b;
        push(&e);
    } else if (sscanf(word, "t+%d", &n) == 1)
        push_touch(IKV_KIND_POINTER_DOWN, n);
    else if (sscanf(word, "t-%d", &n) == 1)
        push_touch(IKV_KIND_POINTER_UP, n);
    else if (sscanf(word, "P+%d", &n) == 1)
        push_pad(IKV_KIND_PAD_DOWN, n, 1);
    else if (sscanf(word, "P-%d", &n) == 1)
        push_pad(IKV_KIND_PAD_UP, n, 0);
    else if (sscanf(word, "a%d=%f", &n, &a) == 2)
        push_pad(IKV_KIND_PAD_AXIS, n, a);
    else if (sscanf(word, "%d+%39s", &code, name) == 2)
        push_key(IKV_KIND_KEY_DOWN, name, (uint8_t)code);
    else if (word[0] == '+')
        push_key(IKV_KIND_KEY_DOWN, word + 1, 0);
    else if (word[0] == '-')
        push_key(IKV_KIND_KEY_UP, word + 1, 0);
    else if (sscanf(word, "seat%d", &n) == 1)
        seat_now = (uint8_t)n;
    else if (word[0] == '{')
        hook = word + 1;
    else if (sscanf(word, "wait%d", &n) == 1)
        for (; n > 0; n--)
            kit_frame(&k, ms = (ms / 20 + 1) * 20);
    else
        do_command(word);
}

static void do_words(const char *words)
{
    for_words(words, do_word);
}

static ikv_scope scope_named(const char *where)
{
    const struct {
        const char *name;
        ikv_scope scope;
    } scopes[] = {{"lamp", {.where = IKV_WITHIN, .target = lamp}},
                  {"layer0", {.where = IKV_IN_LAYER, .layer = 0}},
                  {"layer1", {.where = IKV_IN_LAYER, .layer = 1}},
                  {"focus", {.where = IKV_FOCUSED, .target = field}},
                  {"anyfocus", {.where = IKV_FOCUSED}},
                  {"body", {.where = IKV_ON_BODY, .target = mast}},
                  {"tag", {.where = IKV_TAGGED, .layer = 4}}};
    int i = 0;
    while (strcmp(scopes[i].name, where) != 0)
        ck_assert_int_lt(++i, ROWS(scopes));
    return scopes[i].scope;
}

/* "jump:KeyA,KeyB run/deck:Shift": names, sets and bindings; "@lamp" after a
 * binding scopes it. */
static void bind_all(const char *words)
{
    char name[40], set_name[40], list[200];
    int used = 0;
    for (; sscanf(words, " %39[^:/]%n", name, &used) == 1;) {
        ikv_action_set set = IKV_MAIN_SET;
        ikv_action_id id;
        words += used;
        if (sscanf(words, "/%39[^:]%n", set_name, &used) == 1) {
            words += used;
            if (ikv_actions_find_set(actions, set_name, &set) != IKV_OK)
                ok(ikv_actions_add_set(actions, set_name, &set));
        }
        ck_assert_int_eq(sscanf(words, ":%199s%n", list, &used), 1);
        words += used;
        ok(ikv_actions_add(actions, set, name, &id));
        for (char *at = strtok(list, ","); at != NULL; at = strtok(NULL, ",")) {
            char *where = strchr(at, '@');
            ikv_scope scope = {.where = IKV_ANYWHERE};
            if (where != NULL) {
                *where++ = '\0';
                scope = scope_named(where);
            }
            ok(ikv_actions_bind(actions, id, at, &scope, NULL));
        }
    }
}

/* ------------------------------------------------------------- bindings -- */

#define CASES "actions.txt"

START_TEST(bound)
{
    const char *words = case_text(CASES, _i, "do");
    open_actions(1);
    bind_all(case_text(CASES, _i, "bind"));
    /* Nothing is in the way of what starts, and of nothing else; but where a
     * handler changes that meanwhile. */
    foretold = strchr(words, '{') == NULL;
    due = 0;
    ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_PRESS, foretell, NULL));
    do_words(words);
    ck_assert_uint_eq(due, 0);
    foretold = false;
    expect_case(CASES, _i, "hear", seen.text);
    close_actions();
}
END_TEST

/* A3: per seat. */
START_TEST(seats)
{
    ikv_action_set deck;
    open_actions(2);
    bind_all("jump/deck:KeyA");
    ok(ikv_actions_find_set(actions, "deck", &deck));
    do_words("+KeyA 1+KeyA |");
    ck_assert_str_eq(seen.text, "jump^ jump^ jump= jump= | ");
    ok(ikv_actions_switch(actions, deck, 1, false));
    ck_assert(ikv_actions_is_on(actions, deck, 0));
    ck_assert(!ikv_actions_is_on(actions, deck, 1));
    ikv_action_id jump = ikv_actions_find(actions, "jump");
    ck_assert(ikv_actions_ask(actions, jump, 0).on);
    ck_assert_uint_eq(ikv_actions_ask(actions, jump, 0).steps, 1);
    ck_assert(!ikv_actions_ask(actions, jump, 1).on);
    seen.text[0] = '\0';
    do_words("-KeyA seat1 -KeyA | ");
    bind_all("walk:pad.left,pointer.primary fire:pad.1 "
             "look:pointer.move pan:pointer.secondary|pad.0");
    do_words("a0=1 P+1 b+0 m1,2 | seat0 m0,3 | learn seat1 +KeyQ | "
             "P-1 a0=0 b-0 seat0 | learned +KeyX | learned");
    ck_assert_str_eq(
        seen.text,
        "jumpv/1 | walk^ fire^ look^(1,2) walk= fire= look=(1,2) | look^(0,3) "
        "lookv(1,2)/1 walk= fire= look=(0,3) | lookv(0,3)/1 walk= fire= | "
        "firev/3 walkv/3 | BUSY learned0(KeyX) | KeyX ");
    status_is(ikv_actions_switch(actions, deck, 8, true), IKV_BAD_ARGUMENT);
    status_is(ikv_actions_switch(actions, 9, 0, true), IKV_UNKNOWN_NAME);
    close_actions();
}
END_TEST

/* Whom the device's events are for, by who is told; and what is down. */
static ikv_verdict note_seat(const ikv_event *e, const ikv_delivery *d,
                             void *user)
{
    (void)user, (void)d;
    note(&seen, "%s%u%s ",
         e->kind == IKV_KIND_DEVICE_SEAT ? "seat"
         : e->kind == IKV_KIND_KEY_DOWN  ? "down"
                                         : "up",
         (unsigned)e->seat, (e->flags & IKV_REPEAT) != 0 ? "!" : "");
    return IKV_CONTINUE;
}

static uint32_t seats_down(uint32_t filter)
{
    const ikv_state *state = ikv_kit_state(k.kit);
    uint32_t code = ikv_code_find("KeyA"), down = 0;
    for (uint8_t seat = 0; seat < 3; seat++)
        down |= (uint32_t)ikv_state_key(state, filter, seat, code).down << seat;
    return down;
}

/* L10: a device is given to another player while it holds a key, a button and a
 * stick; by the program, by a handler, before and after that. */
START_TEST(given_away)
{
    ikv_target none = {0};
    ikv_pointer_state mouse_state;
    ikv_pad_state pad;
    uint8_t given = 9;
    open_actions(3);
    hears(k.bus, IKV_KIND_DEVICE_SEAT, none, note_seat, NULL);
    hears(k.bus, IKV_KIND_KEY_DOWN, none, note_seat, NULL);
    hears(k.bus, IKV_KIND_KEY_UP, none, note_seat, NULL);
    bind_all("jump:KeyA walk:pad.left fire:pointer.primary "
             "aim:pointer.stick press:pointer.hold");
    status_is(ikv_loop_seat(k.loop, k.fake.device, &given), IKV_ABSENT);
    do_words("+KeyA b+0 t+1 a0=1 |");
    ck_assert_uint_eq(seats_down(IKV_STATE_RAW), 1);
    ck_assert_str_eq(seen.text, "down0 jump^ fire^ aim^0 walk^ jump= fire= "
                                "aim=0 walk= | ");
    do_words("wait600 |");
    seen.text[0] = '\0';
    do_words("give:2 |");
    ok(ikv_loop_seat(k.loop, k.fake.device, &given));
    ck_assert_uint_eq(given, 2);
    for (uint32_t filter = 0; filter < 2; filter++) {
        const ikv_state *state = ikv_kit_state(k.kit);
        ck_assert_uint_eq(seats_down(filter), 4);
        ck_assert(ikv_state_pointer(state, filter, 0, &mouse_state));
        ck_assert_uint_eq(mouse_state.seat, 2);
        ck_assert(ikv_state_pad(state, filter, 0, &pad));
        ck_assert_uint_eq(pad.seat, 2);
        ck_assert_int_eq(
            ikv_state_key(state, filter, 2, ikv_code_find("KeyA")).went_down,
            0);
    }
    ck_assert_str_eq(seen.text, "seat2 jumpv/602! firev/602! aimv0/602! "
                                "walkv/602! pressv/577! | ");
    seen.text[0] = '\0';
    do_words("-KeyA +KeyA | ");
    ck_assert_str_eq(seen.text, "up2 down2 jump^ jump= | ");
    ck_assert(
        ikv_actions_ask(actions, ikv_actions_find(actions, "jump"), 2).on);
    /* in a handler: at its step's end, once, however often */
    seen.text[0] = '\0';
    do_words("{give:1 -KeyA +KeyA | | -KeyA |");
    ck_assert_str_eq(seen.text, "up2 jumpv/1 down2 jump^ jump= seat1 jumpv/1! "
                                "| | up1 | ");
    status_is(ikv_loop_set_seat(k.loop, k.fake.device, 1), IKV_ABSENT);
    status_is(ikv_loop_set_seat(k.loop, k.fake.device, 8), IKV_BAD_ARGUMENT);
    status_is(ikv_loop_set_seat(k.loop, 0, 1), IKV_BAD_ARGUMENT);
    status_is(ikv_loop_set_seat(NULL, 1, 1), IKV_BAD_ARGUMENT);
    status_is(ikv_loop_seat(NULL, 1, &given), IKV_BAD_ARGUMENT);
    /* A9: what it feeds, too, and what it has toggled on */
    ikv_event e = ikv_event_make(IKV_KIND_ACTION_FEED, k.fake.now_ns);
    e.device = k.fake.device;
    e.action.action = ikv_actions_find(actions, "aim").bits;
    e.action.x = 1;
    ok(ikv_actions_set_toggle(actions, ikv_actions_find(actions, "jump"), 1,
                              true));
    ok(ikv_sink_push(k.fake.sink, &e));
    do_words("+KeyA -KeyA |");
    for (uint8_t seat = 1; seat < 3; seat++) {
        /* it is the first one's already */
        status_is(ikv_loop_set_seat(k.loop, k.fake.device, seat),
                  seat == 1 ? IKV_ABSENT : IKV_OK);
        seen.text[0] = '\0';
        do_words("| |");
        ck_assert_int_eq(strstr(seen.text, "aimv/") != NULL, seat == 2);
        ck_assert_int_eq(strstr(seen.text, "jumpv/") != NULL, seat == 2);
    }
    /* one that is gone is nobody's */
    do_words("unplug |");
    status_is(ikv_loop_seat(k.loop, k.fake.device, &given), IKV_ABSENT);
    close_actions();
}
END_TEST

/* A7, A4: names of what was removed leave room; hearing one action alone. */
static ikv_verdict count_action(const ikv_event *e, const ikv_delivery *d,
                                void *user)
{
    (void)e, (void)d;
    ++*(int *)user;
    return IKV_CONTINUE;
}

START_TEST(names_come_back)
{
    uint64_t seed = 5;
    int heard = 0;
    ikv_action_id ids[20] = {{0}}, horn;
    ikv_subscription sub;
    open_actions(1);
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "horn", &horn));
    const char *kept = ikv_actions_name(actions, horn);
    for (int i = 0; i < 20000; i++) {
        uint32_t at = random_below(&seed, 20);
        char name[64];
        int length = 1 + (int)random_below(&seed, 50);
        snprintf(name, sizeof name, "%d%.*s", i, length,
                 "abcdefghijklmnopqrstuvwxyzabcdefghijklmnopqrstuvwxyz");
        ikv_actions_remove(actions, ids[at]);
        ck_assert_uint_eq(ikv_actions_find(actions, name).bits, 0);
        ok(ikv_actions_add(actions, IKV_MAIN_SET, name, &ids[at]));
        ck_assert_str_eq(ikv_actions_name(actions, ids[at]), name);
        ck_assert_uint_eq(ikv_actions_find(actions, name).bits, ids[at].bits);
    }
    ck_assert_ptr_eq(ikv_actions_name(actions, horn), kept);
    ck_assert_str_eq(kept, "horn");
    ok(ikv_actions_hear(actions, horn, IKV_ACTION_STARTED, count_action, &heard,
                        &sub));
    ok(ikv_actions_feed(actions, ids[0], 0, 1, 0));
    ck_assert_int_eq(heard, 0);
    ok(ikv_actions_feed(actions, horn, 7, 1, 0)); /* as the last seat */
    ok(ikv_actions_feed(actions, horn, 0, 1, 0));
    ck_assert_int_eq(heard, 1);
    status_is(ikv_actions_hear(actions, horn, 3, count_action, NULL, NULL),
              IKV_BAD_ARGUMENT);
    status_is(ikv_actions_hear(actions, horn, 0, NULL, NULL, NULL),
              IKV_BAD_ARGUMENT);
    ok(ikv_actions_remove(actions, horn));
    status_is(ikv_actions_hear(actions, horn, 0, count_action, NULL, NULL),
              IKV_STALE);
    status_is(ikv_actions_feed(actions, horn, 0, 1, 0), IKV_STALE);
    status_is(ikv_actions_feed(actions, ids[0], 0, NAN, 0), IKV_BAD_VALUE);
    status_is(ikv_actions_feed(actions, ids[0], 8, 1, 0), IKV_BAD_ARGUMENT);
    /* the stack: as many as there may be, and what is no set or seat */
    for (int i = 0; i < IKV_PUSH_LIMIT; i++)
        ok(ikv_actions_push(actions, IKV_MAIN_SET, 0, false));
    status_is(ikv_actions_push(actions, IKV_MAIN_SET, 0, false),
              IKV_FULL_PUSHED);
    status_is(ikv_actions_push(actions, 9, 0, false), IKV_UNKNOWN_NAME);
    status_is(ikv_actions_push(actions, 0, 9, false), IKV_BAD_ARGUMENT);
    status_is(ikv_actions_start_held(actions, 9, 0), IKV_UNKNOWN_NAME);
    status_is(ikv_actions_start_held(actions, 0, 9), IKV_BAD_ARGUMENT);
    ikv_action_set top;
    ok(ikv_actions_pushed(actions, 0, IKV_PUSH_LIMIT - 1, &top));
    status_is(ikv_actions_pushed(actions, 0, IKV_PUSH_LIMIT, &top), IKV_ABSENT);
    for (int i = 0; i < IKV_PUSH_LIMIT; i++)
        ok(ikv_actions_pop(actions, IKV_ALL_SEATS));
    status_is(ikv_actions_pop(actions, 0), IKV_ABSENT);
    /* who is not told apart is the last one in all calls */
    char text[IKV_BINDING_BYTES];
    ok(ikv_actions_switch(actions, IKV_MAIN_SET, 7, false));
    ck_assert(!ikv_actions_is_on(actions, IKV_MAIN_SET, 0));
    ok(ikv_actions_switch(actions, IKV_MAIN_SET, 7, true));
    ck_assert(ikv_actions_is_on(actions, IKV_MAIN_SET, 0));
    ok(ikv_actions_set_toggle(actions, ids[0], 7, true));
    ck_assert(ikv_actions_toggles(actions, ids[0], 0));
    ck_assert(ikv_actions_toggles(actions, ids[0], 7));
    ck_assert(!ikv_actions_toggles(actions, ids[0], 8));
    ok(ikv_actions_set_repeat(actions, 7, 0, 0));
    ok(ikv_actions_learn(actions, 7, 0));
    status_is(ikv_actions_learn(actions, 0, 0), IKV_BUSY);
    status_is(ikv_actions_learned(actions, 7, text, sizeof text), IKV_BUSY);
    ikv_actions_stop_learning(actions, 7);
    status_is(ikv_actions_learned(actions, 0, text, sizeof text), IKV_ABSENT);
    status_is(ikv_actions_set_toggle(actions, ids[0], 8, true),
              IKV_BAD_ARGUMENT);
    status_is(ikv_actions_set_repeat(actions, 8, 0, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_actions_learn(actions, 8, 0), IKV_BAD_ARGUMENT);
    close_actions();
}
END_TEST

/* FOCUS5: arrow keys, crosses and sticks, with one call. */
START_TEST(focus_by_pads)
{
    ikv_target right;
    open_actions(1);
    right = add_rect(350, (ikv_target){0}, IKV_FOCUSABLE, IKV_HIT_SOLID);
    ok(ikv_kit_bind_focus(k.kit, IKV_MAIN_SET));
    status_is(ikv_kit_bind_focus(k.kit, IKV_MAIN_SET), IKV_DUPLICATE);
    status_is(ikv_kit_bind_focus(NULL, IKV_MAIN_SET), IKV_BAD_ARGUMENT);
    do_words("+ArrowDown -ArrowDown |");
    ck_assert_uint_eq(ikv_router_focused(k.router, 0).bits, field.bits);
    do_words("P+15 P-15 |");
    ck_assert_uint_eq(ikv_router_focused(k.router, 0).bits, right.bits);
    do_words("a0=-1 | a0=0 a1=1 |");
    ck_assert_uint_eq(ikv_router_focused(k.router, 0).bits, field.bits);
    close_actions();
}
END_TEST

/* A3: each player has a pad; the second one's stick is the second pad's. */
START_TEST(two_pads)
{
    open_actions(2);
    bind_all("walk:pad.left");
    for (uint8_t pad = 0; pad < 2; pad++) {
        ikv_event e = ikv_event_make(IKV_KIND_PAD_AXIS, 0);
        e.pad.pad = e.seat = pad;
        e.pad.value = pad;
        push(&e);
    }
    do_words("|");
    ck_assert(
        !ikv_actions_ask(actions, ikv_actions_find(actions, "walk"), 0).on);
    ck_assert(
        ikv_actions_ask(actions, ikv_actions_find(actions, "walk"), 1).on);
    close_actions();
}
END_TEST

/* The cause lasts as long as the action. */
static ikv_verdict check_cause(const ikv_event *e, const ikv_delivery *d,
                               void *user)
{
    int *calls = user;
    ++*calls;
    ck_assert_int_eq(d->cause->kind, IKV_KIND_POINTER_DOWN);
    ck_assert_float_eq(d->cause->pointer.x, 105);
    ck_assert_ptr_eq(d->router, k.router);
    ck_assert_uint_eq(e->target.bits, lamp.bits);
    ck_assert_uint_eq(
        ikv_actions_binding_of(actions, e).bits,
        ikv_actions_binding(actions, ikv_actions_find(actions, "grab"), 0)
            .bits);
    return IKV_CONTINUE;
}

START_TEST(cause)
{
    int calls = 0;
    open_actions(1);
    bind_all("grab:pointer.primary");
    for (ikv_kind kind = IKV_KIND_ACTION_START; kind <= IKV_KIND_ACTION_END;
         kind++)
        hears(k.bus, kind, lamp, check_cause, &calls);
    do_words("to105 b+0 | to50 | b-0 |");
    ck_assert_int_eq(calls, 4);
    /* Its target goes: the end is the root's. */
    do_words("to105 b+0 |");
    ck_assert_int_eq(calls, 6);
    ok(ikv_scene_remove(k.scene, lamp));
    seen.text[0] = '\0';
    do_words("b-0 |");
    ck_assert_int_eq(calls, 6);
    ck_assert_str_eq(seen.text, "grabv/1 | ");
    close_actions();
}
END_TEST

/* ----------------------------------------------------------------- text -- */

static const struct {
    const char *text, *shown; /* or a part of the message */
} texts[] = {
    {"KeyA", "KeyA"},
    {" Control + Shift +KeyS ", "Control+Shift+KeyS"},
    {"pad.axis7-", "pad.axis7-"},
    {"pad.axis0+", "pad.axis0+"},
    {"Shift+pad.axis0+", "Shift+pad.axis0+"},
    {"pad.axis0-|pad.axis0+", "pad.axis0-|pad.axis0+"},
    {"ArrowLeft | ArrowRight|ArrowUp |ArrowDown",
     "ArrowLeft|ArrowRight|ArrowUp|ArrowDown"},
    {"pad.31", "pad.31"},
    {"pad.axis15+", "pad.axis15+"},
    {"pointer.eraser", "pointer.eraser"},
    {"Shift+gesture.two_tap", "Shift+gesture.two_tap"},
    {"Alt+pointer.click", "Alt+pointer.click"},
    {"Alt+pointer.double", "Alt+pointer.double"},
    {"Alt+pointer.hold", "Alt+pointer.hold"},
    {"Alt+pointer.move", "Alt+pointer.move"},
    {"Alt+wheel.left", "Alt+wheel.left"},
    {"Alt+key.any", "Alt+key.any"},
    {"Alt+pad.3", "Alt+pad.3"},
    {"pointer.5", "pointer.eraser"},
    {"pointer.15", "pointer.15"},
    {"pointer.16", "!at character 1: there is no input"},
    {"pointer.3+", "!at character 11: nothing"},
    {"pad.3-", "!at character 1: there is no input"},
    {"pad.right", "pad.right"},
    {"key.any", "key.any"},
    {"", "!at character 1: nothing"},
    {"+", "!at character 1: there is no input \"+\""},
    {"KeyA+", "!at character 6: nothing"},
    {"KeyA++KeyB", "!at character 6: nothing"},
    {"KeyA|", "!at character 6: nothing"},
    {"keya", "!at character 1: there is no input \"keya\"; expected are codes"},
    {"Control+Kex", "!at character 9: there is no input \"Kex\""},
    {"pad.32", "!at character 1: there is no input"},
    {"pad.axis16", "!at character 1: there is no input"},
    {"pad.07", "!at character 1: there is no input"},
    {"pad.axis", "!at character 1: there is no input"},
    {"pad.1:", "!at character 1: there is no input"},
    {"pad.1/", "!at character 1: there is no input"},
    {"pad.0+", "!at character 7: nothing"},
    {"KeyA KeyB", "!at character 6: something follows; + or | is expected"},
    {"KeyA+KeyB|KeyC", "!at character 10: both + and |"},
    {"KeyA|KeyB|KeyC", "!at character 11: a third direction"},
    {"KeyA+KeyA", "!at character 6: a second \"KeyA\""},
    {"wheel.up+KeyA", "!at character 1: it can't be held: \"wheel.up\""},
    {"KeyA|wheel.up", "!at character 6: no direction of an axis"},
    {"Shift+pad.left", "!at character 7: no part of a chord"},
    {"Shift+Alt+Meta+Control+KeyA", "!at character 24: too much"},
    {"KeyAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA",
     "!at character 1: there is no input"}};

/* A1: our notation, there and back; errors point at the character. */
START_TEST(text)
{
    ikv_message message = {""};
    ikv_action_id id;
    ikv_binding binding;
    char shown[IKV_BINDING_BYTES];
    open_actions(1);
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "a", &id));
    ikv_status status = ikv_binding_check(texts[_i].text, &message);
    if (texts[_i].shown[0] == '!') {
        status_is(status, IKV_BAD_VALUE);
        ck_assert_msg(strstr(message.text, texts[_i].shown + 1) != NULL,
                      "\"%s\": %s", texts[_i].text, message.text);
        status_is(ikv_actions_bind(actions, id, texts[_i].text, NULL, NULL),
                  IKV_BAD_VALUE);
        ck_assert_uint_eq(actions_counts(actions).bindings, 0);
    } else {
        ok(ikv_actions_bind(actions, id, texts[_i].text, NULL, &binding));
        ck_assert_uint_eq(
            ikv_binding_text(actions, binding, shown, sizeof shown),
            strlen(texts[_i].shown));
        ck_assert_str_eq(shown, texts[_i].shown);
        /* in any room: what does not fit is left out, nothing is written
         * behind it */
        for (size_t room = 0; room <= strlen(texts[_i].shown); room++) {
            memset(shown, '!', sizeof shown);
            ck_assert_uint_eq(ikv_binding_text(actions, binding, shown, room),
                              strlen(texts[_i].shown));
            ck_assert_int_eq(shown[room], '!');
            ck_assert(room == 0 || shown[room - 1] == '\0');
            ck_assert_int_eq(
                strncmp(shown, texts[_i].shown, room > 0 ? room - 1 : 0), 0);
        }
        shown[0] = '!';
        ikv_binding none = {0};
        ck_assert_uint_eq(ikv_binding_text(actions, none, shown, 0), 0);
        ck_assert_int_eq(shown[0], '!');
    }
    close_actions();
}
END_TEST

static const struct {
    const char *first, *second;
    bool clash;
} clashes[] = {{"KeyA", "KeyA", true},
               {"KeyA", "KeyB", false},
               {"Control", "KeyA", false},
               {"ControlLeft", "KeyA", false},
               {"ControlLeft", "ControlRight", false},
               {"KeyA", "Control+KeyA", false},
               {"Control+Shift+KeyA", "Shift+Control+KeyA", true},
               {"Control+KeyA", "ControlLeft+KeyA", true},
               {"Control+KeyA", "Shift+KeyA", false},
               {"Shift", "ShiftRight", true},
               {"KeyA+KeyB", "KeyB+KeyA", false},
               {"KeyA|KeyD", "KeyD", true},
               {"KeyA|KeyD", "KeyD|KeyF", true},
               {"KeyA|KeyD", "Shift+KeyD", false},
               {"pad.left", "pad.axis1-", true},
               {"pad.left", "pad.axis0", true},
               {"pad.left", "pad.axis1", true},
               {"pad.left", "pad.axis0+", true},
               {"pad.left", "pad.axis2", false},
               {"key.any", "KeyB", true},
               {"key.any", "Shift", true},
               {"key.any", "pointer.primary", false},
               {"pad.axis2", "pad.axis2+", true},
               {"pad.axis2-", "pad.axis2+", false}};

/* A1: conflicts are reported, whichever comes first. */
START_TEST(conflicts)
{
    ikv_binding other = {0};
    for (int turn = 0; turn < 2; turn++) {
        const char *first = turn ? clashes[_i].second : clashes[_i].first;
        const char *second = turn ? clashes[_i].first : clashes[_i].second;
        ikv_scope within = {.where = IKV_WITHIN};
        open_actions(1);
        ikv_action_id a;
        ok(ikv_actions_add(actions, IKV_MAIN_SET, "a", &a));
        bind_all("b:pointer.back");
        ikv_action_id b = ikv_actions_find(actions, "b");
        ok(ikv_actions_bind(actions, a, first, NULL, NULL));
        ck_assert_uint_eq(
            ikv_actions_conflicts(actions, b, second, NULL, &other, 1),
            clashes[_i].clash);
        if (clashes[_i].clash)
            ck_assert_uint_eq(ikv_binding_action(actions, other).bits, a.bits);
        ck_assert_uint_eq(
            ikv_actions_conflicts(actions, a, second, NULL, NULL, 0), 0);
        within.target = lamp;
        ck_assert_uint_eq(
            ikv_actions_conflicts(actions, b, second, &within, NULL, 0),
            clashes[_i].clash);
        close_actions();
    }
}
END_TEST

/* A1: scopes that can hold at one time conflict. */
static const struct {
    uint32_t where, layer;
    int target; /* 0: the root, 1: the lamp, 2: nobody */
} scope_table[] = {{IKV_ANYWHERE, 0, 2},
                   {IKV_IN_LAYER, 0, 2},
                   {IKV_IN_LAYER, 1, 2},
                   {.where = IKV_WITHIN, .target = 0},
                   {.where = IKV_WITHIN, .target = 1},
                   {.where = IKV_FOCUSED, .target = 1},
                   {.where = IKV_FOCUSED, .target = 2},
                   {.where = IKV_FOCUSED, .target = 0}};

START_TEST(scopes_that_meet)
{
    ikv_scope scopes[ROWS(scope_table)];
    ikv_action_id a;
    open_actions(1);
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "a", &a));
    bind_all("b:pointer.back");
    ikv_action_id b = ikv_actions_find(actions, "b");
    for (int i = 0; i < ROWS(scope_table); i++) {
        int of = scope_table[i].target;
        scopes[i] = (ikv_scope){.where = scope_table[i].where,
                                .layer = scope_table[i].layer,
                                .target = of == 2   ? (ikv_target){0}
                                          : of == 1 ? lamp
                                                    : ikv_bus_root(k.bus)};
    }
    ok(ikv_actions_bind(actions, a, "KeyA", &scopes[_i], NULL));
    for (int i = 0; i < ROWS(scope_table); i++) {
        uint32_t found =
            ikv_actions_conflicts(actions, b, "KeyA", &scopes[i], NULL, 0);
        bool anywhere = scope_table[i].where == IKV_ANYWHERE ||
                        scope_table[_i].where == IKV_ANYWHERE;
        if (i == _i || anywhere)
            ck_assert_uint_eq(found, 1);
        else if (scope_table[i].where == IKV_IN_LAYER &&
                 scope_table[_i].where == IKV_IN_LAYER)
            ck_assert_uint_eq(found, 0);
    }
    close_actions();
}
END_TEST

/* A scene of one's own that knows no layers: nothing is in one. */
START_TEST(scopes_without_layers)
{
    ikv_actions_config config = IKV_ACTIONS_INIT;
    ikv_router_config route = IKV_ROUTER_INIT;
    ikv_actions *own = NULL;
    ikv_router *router = NULL, *second = NULL;
    ikv_action_id in_layer, within;
    ikv_scope layer = {.where = IKV_IN_LAYER, .layer = 0};
    open_actions(1);
    ikv_scope target = {.where = IKV_WITHIN, .target = lamp};
    config.bus = route.bus = k.bus;
    config.state = ikv_kit_state(k.kit);
    counted memory = {0};
    config.memory = counted_memory(&memory);
    route.memory = ikv_host_memory();
    route.picking = ikv_kit_picking(k.scene);
    if (_i == 0)
        route.picking.layer = NULL;
    ok(ikv_router_open(&route, &router));
    ok(ikv_actions_open(&config, &own));
    ok(ikv_actions_follow(own, router));
    ok(ikv_actions_add(own, IKV_MAIN_SET, "in layer", &in_layer));
    ok(ikv_actions_add(own, IKV_MAIN_SET, "within", &within));
    ok(ikv_actions_bind(own, in_layer, "pointer.primary", &layer, NULL));
    ok(ikv_actions_bind(own, within, "pointer.primary", &target, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    e.pointer.x = 105;
    e.pointer.y = 5;
    ok(ikv_router_route(router, &e).status);
    ikv_state_take(config.state, IKV_STATE_RAW, &e);
    ikv_state_take(config.state, IKV_STATE_UNCLAIMED, &e);
    ikv_actions_settle(own, 0, false, false);
    ck_assert(ikv_actions_ask(own, within, 0).on);
    ck_assert_int_eq(ikv_actions_ask(own, in_layer, 0).on, _i != 0);
    ok(ikv_router_open(&route, &second));
    ok(ikv_actions_follow(own, second));
    ok(ikv_actions_close(own));
    /* Neither tells them of anything any more. */
    e.kind = IKV_KIND_POINTER_UP;
    ok(ikv_router_route(router, &e).status);
    e.kind = IKV_KIND_POINTER_DOWN;
    ok(ikv_router_route(second, &e).status);
    ikv_router_close(second);
    ikv_router_close(router);
    close_actions();
}
END_TEST

/* K1: who settles for himself: what ends by a loss says so, later ends don't. */
START_TEST(settled_by_hand)
{
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    open_actions(1);
    bind_all("look:pointer.move");
    move.target = ikv_bus_root(k.bus);
    move.pointer.button = -1;
    move.pointer.dx = 1;
    ikv_actions_take(actions, &move, false);
    ikv_actions_settle(actions, 0, false, true);
    ikv_actions_step(actions, 0);
    ikv_actions_step(actions, 1);
    ck_assert_str_eq(seen.text, "look^! look= lookv/1 ");
    close_actions();
}
END_TEST

static void move_of(uint8_t seat)
{
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    move.target = ikv_bus_root(k.bus);
    move.seat = seat;
    move.pointer.button = -1;
    move.pointer.dx = 1;
    ikv_actions_take(actions, &move, false);
    ikv_actions_settle(actions, 0, false, false);
}

/* A1: one's motion ends when the other's goes on, and not with it. */
START_TEST(motion_of_two)
{
    open_actions(2);
    bind_all("look:pointer.move");
    ikv_action_id look = ikv_actions_find(actions, "look");
    move_of(0);
    move_of(1);
    ikv_actions_step(actions, 0);
    move_of((uint8_t)_i);
    ikv_actions_step(actions, 1);
    for (int seat = 0; seat < 2; seat++)
        ck_assert(ikv_actions_ask(actions, look, (uint8_t)seat).on ==
                  (seat == _i));
    ck_assert_float_eq(ikv_actions_ask(actions, look, (uint8_t)_i).x, 1);
    ikv_actions_step(actions, 2);
    ck_assert(!ikv_actions_ask(actions, look, (uint8_t)_i).on);
    ck_assert_str_eq(seen.text,
                     "look^ look^ look= look= lookv/1 look= lookv/2 ");
    close_actions();
}
END_TEST

/* What can't be is a status; handles of what is gone are stale. */
START_TEST(statuses)
{
    ikv_actions_config config = IKV_ACTIONS_INIT;
    ikv_actions *none = NULL;
    ikv_action_id id, other;
    ikv_action_set set;
    ikv_binding binding;
    ikv_scope bad = {.where = 9},
              stale = {.where = IKV_WITHIN, .target = {12345}};
    open_actions(1);
    config.bus = k.bus;
    config.memory = ikv_host_memory();
    status_is(ikv_actions_open(&config, &none), IKV_BAD_CONFIG);
    config.state = ikv_kit_state(k.kit);
    config.seats = 9;
    status_is(ikv_actions_open(&config, &none), IKV_BAD_CONFIG);
    config.size = 3;
    status_is(ikv_actions_open(&config, &none), IKV_BAD_SIZE);
    status_is(ikv_actions_open(NULL, &none), IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(ikv_actions_footprint(&config), 0);
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "a", &id));
    status_is(ikv_actions_add(actions, IKV_MAIN_SET, "a", &other),
              IKV_DUPLICATE);
    status_is(ikv_actions_add(actions, IKV_MAIN_SET, "", &other),
              IKV_BAD_ARGUMENT);
    status_is(ikv_actions_add(actions, 7, "b", &other), IKV_UNKNOWN_NAME);
    status_is(ikv_actions_add_set(actions, "", &set), IKV_DUPLICATE);
    status_is(ikv_actions_bind(actions, id, "KeyA", &bad, NULL),
              IKV_BAD_ARGUMENT);
    status_is(ikv_actions_bind(actions, id, "KeyA", &stale, NULL),
              IKV_BAD_ARGUMENT);
    status_is(ikv_actions_bind(NULL, id, "KeyA", NULL, NULL), IKV_BAD_ARGUMENT);
    for (int i = 0; i < 40; i++)
        ok(ikv_actions_bind(actions, id, i % 2 ? "KeyA" : "KeyB", NULL,
                            &binding));
    status_is(ikv_actions_bind(actions, id, "KeyA", NULL, NULL),
              IKV_FULL_BINDINGS);
    do_words("+KeyA +KeyB |");
    ck_assert_uint_eq(actions_counts(actions).held, 40); /* all there can be */
    do_words("-KeyA -KeyB |");
    ck_assert_uint_eq(actions_counts(actions).held, 0);
    ok(ikv_actions_unbind(actions, binding));
    status_is(ikv_actions_unbind(actions, binding), IKV_ABSENT);
    ck_assert_uint_eq(ikv_binding_action(actions, binding).bits, 0);
    ck_assert_uint_eq(ikv_binding_text(actions, binding, NULL, 0), 0);
    ok(ikv_actions_remove(actions, id));
    status_is(ikv_actions_remove(actions, id), IKV_ABSENT);
    status_is(ikv_actions_bind(actions, id, "KeyA", NULL, NULL), IKV_STALE);
    status_is(ikv_actions_unbind_all(actions, id), IKV_STALE);
    ck_assert_ptr_null(ikv_actions_name(actions, id));
    ck_assert(!ikv_actions_ask(actions, id, 0).on);
    ck_assert_uint_eq(actions_counts(actions).bindings, 0);
    ck_assert_uint_eq(actions_counts(actions).bindings_high, 40);
    ok(ikv_actions_learn(actions, 0, 0));
    status_is(ikv_actions_learn(actions, 0, 0), IKV_BUSY);
    ikv_actions_stop_learning(actions, 0);
    ok(ikv_actions_learn(actions, 0, 0));
    for (int i = 0; i < 64; i++) {
        char name[16];
        snprintf(name, sizeof name, "n%d", i);
        ok(ikv_actions_add(actions, IKV_MAIN_SET, name, NULL));
    }
    status_is(ikv_actions_add(actions, IKV_MAIN_SET, "more", NULL),
              IKV_FULL_ACTIONS);
    for (int i = 0; i < 15; i++) {
        char name[16];
        snprintf(name, sizeof name, "s%d", i);
        ok(ikv_actions_add_set(actions, name, &set));
        ck_assert_str_eq(ikv_actions_set_name(actions, set), name);
    }
    status_is(ikv_actions_add_set(actions, "more", &set), IKV_FULL_SETS);
    ck_assert_ptr_null(ikv_actions_set_name(actions, 16));
    close_actions();
}
END_TEST

/* Random bindings, presses and changes: the lists stay whole, and once all is
 * released nothing is held. */
START_TEST(random_use)
{
    static const char *const words[] = {
        "+KeyA",        "-KeyA",        "+KeyB",   "-KeyB",
        "+ControlLeft", "-ControlLeft", "b+0",     "b-0",
        "b+2",          "b-2",          "a0=0.9",  "a0=0",
        "P+1",          "P-1",          "m1,1",    "|",
        "blur",         "off:deck",     "on:deck", "{off:deck",
        "{on:deck",     "w0,1"};
    static const char *const inputs[] = {
        "KeyA",       "Control+KeyA",    "KeyB",          "KeyA+KeyB",
        "KeyA|KeyB",  "pointer.primary", "pointer.click", "pad.axis0",
        "pad.axis0+", "pad.left",        "pad.1",         "pointer.move",
        "wheel.down", "key.any"};
    uint64_t dice = (uint64_t)_i + 1;
    open_actions(1);
    bind_all("a:KeyA b/deck:KeyB c/deck:pointer.move d:pad.left");
    for (int i = 0; i < 400; i++) {
        uint32_t throw = random_below(&dice, 10);
        ikv_action_id id = ikv_actions_list(actions, random_below(&dice, 4));
        if (throw == 0)
            ikv_actions_bind(actions, id,
                             inputs[random_below(&dice, ROWS(inputs))], NULL,
                             NULL);
        else if (throw == 1)
            ikv_actions_unbind(
                actions,
                ikv_actions_binding(actions, id, random_below(&dice, 3)));
        else
            do_word(words[random_below(&dice, ROWS(words))]);
        valid(ikv_actions_validate(actions));
        seen.text[0] = '\0';
    }
    do_words("-KeyA -KeyB -ControlLeft b-0 b-2 a0=0 a1=0 P-1 | | |");
    ck_assert_uint_eq(actions_counts(actions).held, 0);
    close_actions();
}
END_TEST

/* What is held goes into an image and back. */
START_TEST(rolled_back)
{
    open_actions(1);
    bind_all("jump:KeyA,pointer.primary turn:KeyQ|KeyE");
    do_words("+KeyA | +KeyE |");
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    seen.text[0] = '\0';
    kit_frame(&k, ms += 40);
    do_words("-KeyA -KeyE |");
    ck_assert_ptr_nonnull(strstr(seen.text, "jumpv"));
    ck_assert_ptr_nonnull(strstr(seen.text, "turnv"));
    ck_assert_uint_eq(actions_counts(actions).held, 0);
    restore(&parts, image, size);
    valid(ikv_actions_validate(actions));
    ck_assert_uint_eq(actions_counts(actions).held, 2);
    ck_assert(
        ikv_actions_ask(actions, ikv_actions_find(actions, "turn"), 0).on);
    free(image);
    close_actions();
}
END_TEST

/* T6: also what is asked of seldom: room for names, who has several parts, the
 * time of what is settled, and input that waits to be. */
START_TEST(rolled_back_wholly)
{
    static char name[3000];
    ikv_action_set set;
    ikv_event click = ikv_event_make(IKV_KIND_POINTER_CLICK, 0);
    open_actions(1);
    bind_all("jump:KeyA turn:KeyQ|KeyE tap:pointer.click");
    ikv_action_id jump = ikv_actions_find(actions, "jump");
    ikv_action_id turn = ikv_actions_find(actions, "turn");
    do_words("+KeyA | +KeyE |");
    click.target = ikv_bus_root(k.bus);
    ikv_actions_take(actions, &click, false);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    uint64_t ended = 0;
    for (int time = 0; time < 3; time++) {
        seen.text[0] = '\0';
        ikv_actions_settle(actions, 0, false, false);
        ck_assert_str_eq(seen.text, "tap^ tapv ");
        restore(&parts, image, size);
        ok(ikv_actions_unbind_all(actions, jump));
        ended = time == 0 ? last_ns : ended;
        ck_assert_uint_eq(last_ns, ended);
        memset(name, 'n', sizeof name - 1);
        ok(ikv_actions_add_set(actions, name, &set));
        ok(ikv_actions_unbind_all(actions, turn));
        kit_frame(&k, ms += 40);
        restore(&parts, image, size);
    }
    do_words("|");
    seen.text[0] = '\0';
    do_words("+KeyQ | -KeyQ |");
    ck_assert_ptr_nonnull(strstr(seen.text, "turn^"));
    free(image);
    close_actions();
}
END_TEST

/* ---------------------------------------------------------------- files -- */

static const struct {
    const char *text, *message;
} files[] = {
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[\"KeyQ\","
     "{\"press\":\"KeyE\",\"within\":\"ferry\"}]}}",
     NULL},
    {"{\"format\":\"ikvar.bindings/2\",\"bindings\":{}}",
     "/format: expected \"ikvar.bindings/1\""},
    {"{\"format\":\"ikvar.bindings/1\"}", "/bindings: expected {\"action\""},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jamp\":[]}}",
     "/bindings/jamp: unknown action \"jamp\"; did you mean \"jump\"?"},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[\"KeyQ\","
     "\"Kez\"]}}",
     "/bindings/jump/1: at character 1: there is no input \"Kez\""},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[3]}}",
     "/bindings/jump/0: expected a binding"},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[{\"press\":"
     "\"KeyE\",\"within\":\"feery\"}]}}",
     "unknown target \"feery\"; did you mean \"ferry\"?"},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[{\"press\":"
     "\"KeyE\",\"layer\":\"deep\"}]}}",
     "there is no layer \"deep\""},
    {"{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"jump\":[{\"press\":"
     "\"KeyE\",\"within\":\"ferry\",\"layer\":\"water\"}]}}",
     "expected one of \"within\", \"layer\", \"focused\", "
     "\"on_body\" and \"tagged\""},
    {"{\"format\":", "column"}};

static const char setup_text[] =
    "{\"format\":\"ikvar.setup/1\",\"layers\":[{\"name\":\"water\"}],"
    "\"targets\":[{\"id\":\"ferry\",\"shape\":{\"rect\":[0,0,9,9]}}],"
    "\"sets\":[{\"name\":\"deck\",\"on\":false}],"
    "\"actions\":[{\"name\":\"jump\",\"set\":\"deck\",\"bindings\":[\"KeyA\","
    "{\"press\":\"KeyB\",\"layer\":\"water\"}]},{\"name\":\"run\","
    "\"bindings\":[\"Shift\"]}],"
    "\"handlers\":[{\"name\":\"h\",\"kinds\":[\"action.start\"],"
    "\"conditions\":[{\"field\":\"action\",\"value\":\"jump\"}],"
    "\"reactions\":[{\"log\":\"jumps\"}]}]}";

/* A7: bindings come from and go to JSON; an error changes nothing. */
START_TEST(bindings_file)
{
    ikv_setup *setup;
    ikv_message message = {""};
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    ikv_port port = ikv_null_port();
    ikv_action_set deck;
    write_file("actions.setup.json", setup_text);
    ck_assert_msg(ikv_setup_read("actions.setup.json", &setup, &message) ==
                      IKV_OK,
                  "%s", message.text);
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ok(ikv_setup_size(setup, &config));
    ok(ikv_kit_open(&config, &kit));
    ok(ikv_setup_apply(setup, kit, 0, &message));
    ikv_actions *of_kit = ikv_kit_actions(kit);
    ikv_bindings_config names = IKV_BINDINGS_INIT;
    names.setup = setup;
    ok(ikv_actions_find_set(of_kit, "deck", &deck));
    ck_assert(!ikv_actions_is_on(of_kit, deck, 0));
    write_file("b.bindings.json", files[_i].text);
    ikv_status status =
        ikv_bindings_load("b.bindings.json", of_kit, &names, &message);
    ok(ikv_bindings_save("saved.bindings.json", of_kit, &names, NULL));
    char *saved = read_file("saved.bindings.json");
    if (files[_i].message != NULL) {
        status_is(status, IKV_BAD_FILE);
        ck_assert_msg(strstr(message.text, files[_i].message) != NULL, "%s",
                      message.text);
        ck_assert_ptr_nonnull(strstr(message.text, "b.bindings.json"));
        ck_assert_ptr_nonnull(strstr(saved, "\"layer\": \"water\""));
    } else {
        ok(status);
        ck_assert_ptr_null(strstr(saved, "KeyA"));
        ck_assert_ptr_nonnull(strstr(saved, "\"KeyQ\""));
        ck_assert_ptr_nonnull(strstr(saved, "\"within\": \"ferry\""));
        ck_assert_ptr_nonnull(strstr(saved, "\"Shift\""));
        ok(ikv_bindings_load("saved.bindings.json", of_kit, &names, &message));
        ok(ikv_bindings_save("again.bindings.json", of_kit, &names, NULL));
        char *again = read_file("again.bindings.json");
        ck_assert_str_eq(saved, again);
        free(again);
    }
    free(saved);
    ikv_kit_close(kit);
    ikv_setup_close(setup);
}
END_TEST

Suite *action_suite(void)
{
    Suite *s = suite_create("action");
    add_table(s, "A1 to A6", bound, case_count(CASES));
    add(s, "A3 seats", seats);
    add(s, "L10 given away", given_away);
    add(s, "FOCUS5 by pads", focus_by_pads);
    add(s, "A3 A7 names come back", names_come_back);
    add(s, "A3 two pads", two_pads);
    add(s, "A1 cause", cause);
    add_table(s, "A1 text", text, ROWS(texts));
    add_table(s, "A1 conflicts", conflicts, ROWS(clashes));
    add_table(s, "A1 scopes that meet", scopes_that_meet, ROWS(scope_table));
    add_table(s, "A4 scopes without layers", scopes_without_layers, 2);
    add(s, "K1 settled by hand", settled_by_hand);
    add_table(s, "A1 motion of two seats", motion_of_two, 2);
    add(s, "A1 A2 statuses", statuses);
    add_table(s, "A1 A2 A3 at random", random_use, 20);
    add(s, "A1 rollback", rolled_back);
    add(s, "T6 A1 rollback", rolled_back_wholly);
    add_table(s, "A7 files", bindings_file, ROWS(files));
    return s;
}
