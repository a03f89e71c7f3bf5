/* test_dispatch.c - what D7 lists beyond kinds and targets, D2's inbox, D3, D8,
 * D9, E3, statistics, mailboxes, rebinding. */
#include "support.h"

#include <pthread.h>

static counted memory;
static ikv_bus *bus;
static record heard;
static const ikv_target everywhere = {0};

static uint32_t tags_of(void *user, ikv_target target)
{
    (void)user;
    return ikv_bus_target_id(bus, target) & 0xff; /* the id's low byte */
}

static ikv_target bodies[2];

static ikv_target body_of(void *user, ikv_target target)
{
    (void)user;
    return ikv_bus_target_id(bus, target) & 0x100 ? bodies[0] : target;
}

static void open_with(ikv_bus_config *config, bool callbacks)
{
    memory = (counted){0};
    heard.text[0] = '\0';
    config->memory = counted_memory(&memory);
    ok(ikv_bus_open(config, &bus));
    ikv_bus_callbacks call = IKV_BUS_CALLBACKS_INIT;
    call.tags = tags_of;
    call.body = body_of;
    if (callbacks)
        ok(ikv_bus_set_callbacks(bus, &call));
}

static void open_bus(void)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.statistics = true;
    open_with(&config, true);
}

static void close_bus(void)
{
    valid(ikv_bus_validate(bus));
    ikv_bus_close(bus);
    ck_assert_int_eq(memory.takes, 1);
}

static ikv_verdict say(const ikv_event *event, const ikv_delivery *delivery,
                       void *name)
{
    (void)event, (void)delivery;
    note(&heard, "%s", (const char *)name);
    return IKV_CONTINUE;
}

static ikv_subscription_config wants(ikv_kind kind, const char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.handler = say;
    config.user = (void *)(uintptr_t)name;
    config.name = name;
    return config;
}

/* ----------------------------------------------------------- conditions -- */

#define I(n)                                                                   \
    {                                                                          \
        IKV_VALUE_INTEGER,                                                     \
        {                                                                      \
            .integer = (n)                                                     \
        }                                                                      \
    }
#define N(n)                                                                   \
    {                                                                          \
        IKV_VALUE_NUMBER,                                                      \
        {                                                                      \
            .number = (n)                                                      \
        }                                                                      \
    }

/* Presses with x 0, 10, 20, 30 and button 0, 1, 0, 1: which are heard. */
static const struct {
    const char *what;
    ikv_condition conditions[3];
    uint32_t count, join;
    const char *heard;
} condition_table[] = {
    {"equal", {{"button", IKV_EQUAL, I(1), false}}, 1, 0, ".h.h"},
    {"negated", {{"button", IKV_EQUAL, I(1), true}}, 1, 0, "h.h."},
    {"whole number", {{"x", IKV_EQUAL, I(20), false}}, 1, 0, "..h."},
    {"below", {{"x", IKV_BELOW, N(20), false}}, 1, 0, "hh.."},
    {"at most", {{"x", IKV_AT_MOST, N(20), false}}, 1, 0, "hhh."},
    {"above", {{"x", IKV_ABOVE, N(10), false}}, 1, 0, "..hh"},
    {"at least", {{"x", IKV_AT_LEAST, N(10), false}}, 1, 0, ".hhh"},
    {"has", {{"flags", IKV_HAS, I(IKV_SYNTHETIC), false}}, 1, 0, "h..h"},
    {"integer against a number",
     {{"button", IKV_EQUAL, N(1), false}},
     1,
     0,
     ".h.h"},
    {"integer against a fraction",
     {{"button", IKV_BELOW, N(0.5), false}},
     1,
     0,
     "h.h."},
    {"all",
     {{"button", IKV_EQUAL, I(1), false}, {"x", IKV_ABOVE, N(10), false}},
     2,
     IKV_ALL,
     "...h"},
    {"any",
     {{"button", IKV_EQUAL, I(1), false}, {"x", IKV_BELOW, N(5), false}},
     2,
     IKV_ANY,
     "hh.h"},
    {"scale", {{"pressure", IKV_ABOVE, N(0.4), false}}, 1, 0, "..hh"},
    {"local", {{"local.x", IKV_AT_LEAST, N(20), false}}, 1, 0, "..hh"},
    {"changed", {{"buttons", IKV_CHANGED, {0}, false}}, 1, 0, "h.h."},
    {"not changed", {{"buttons", IKV_CHANGED, {0}, true}}, 1, 0, ".h.h"},
    {"a number changed", {{"x", IKV_CHANGED, {0}, false}}, 1, 0, "hhhh"},
    {"a target changed", {{"source", IKV_CHANGED, {0}, false}}, 1, 0, "h..."},
    {"changed is always looked at",
     {{"buttons", IKV_CHANGED, {0}, false}, {"x", IKV_ABOVE, N(5), false}},
     2,
     IKV_ALL,
     "..h."},
    {"changed sees what another leaves out",
     {{"buttons", IKV_CHANGED, {0}, false},
      {"flags", IKV_EQUAL, I(IKV_SYNTHETIC), false}},
     2,
     IKV_ALL,
     "h..."},
    {"any, the last an equality",
     {{"x", IKV_BELOW, N(15), false},
      {"flags", IKV_EQUAL, I(IKV_SYNTHETIC), false}},
     2,
     IKV_ANY,
     "hh.h"},
};

static ikv_event press(int i)
{
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, (uint64_t)i);
    e.pointer.x = (float)i * 10;
    e.pointer.button = (int8_t)(i & 1);
    e.pointer.buttons = (uint8_t)(i / 2 + 1);
    e.pointer.pressure = (uint16_t)(i * 15000);
    e.flags = i == 0 || i == 3 ? IKV_SYNTHETIC : IKV_PRIMARY;
    return e;
}

static void press_four(void)
{
    for (int i = 0; i < 4; i++) {
        ikv_event e = press(i);
        size_t before = strlen(heard.text);
        ck_assert_int_eq(ikv_bus_deliver(bus, &e).status, IKV_OK);
        if (strlen(heard.text) == before)
            note(&heard, ".");
    }
}

/* Once alone (where one test may do), once beside a condition that always
 * holds, once in a group, once negated in a group: always the same answer. */
START_TEST(conditions)
{
    ikv_condition both[4] = {{"kind_is_always", 0, {0}, false}};
    for (int form = 0; form < 3; form++) {
        open_bus();
        ikv_subscription_config config = wants(IKV_KIND_POINTER_DOWN, "h");
        ikv_condition_group group = {condition_table[_i].join,
                                     condition_table[_i].count,
                                     condition_table[_i].conditions, false};
        config.conditions = condition_table[_i].conditions;
        config.condition_count = condition_table[_i].count;
        config.join = condition_table[_i].join;
        if (form > 0) {
            both[0] = (ikv_condition){"twist", IKV_EQUAL, I(0), false};
            config.join = IKV_ALL;
            config.conditions = both;
            config.condition_count = 1;
            config.groups = &group;
            config.group_count = 1;
        }
        if (form == 2) { /* not (not all) is not (any not): only for one */
            both[0].negate = true;
            group.negate = true;
            config.join = IKV_ANY;
        }
        ok(ikv_bus_subscribe(bus, &config, NULL, NULL));
        press_four();
        if (form < 2) {
            ck_assert_msg(strcmp(heard.text, condition_table[_i].heard) == 0,
                          "%s, form %d: got %s, expected %s",
                          condition_table[_i].what, form, heard.text,
                          condition_table[_i].heard);
        } else {
            for (int c = 0; c < 4; c++)
                ck_assert_int_ne(heard.text[c], condition_table[_i].heard[c]);
        }
        ck_assert_uint_eq(bus_counts(bus).conditions,
                          config.condition_count +
                              (form > 0 ? group.count : 0));
        close_bus();
    }
}
END_TEST

static const ikv_kind mixed[] = {IKV_KIND_POINTER_DOWN, IKV_KIND_KEY_DOWN};
static const ikv_kind typed[] = {IKV_KIND_TEXT_INPUT, IKV_KIND_TEXT_INPUT};
static const ikv_kind scrolls[] = {IKV_KIND_POINTER_MOVE, IKV_KIND_WHEEL};

static const struct {
    ikv_condition condition;
    const ikv_kind *kinds;
    ikv_status status;
    const char *message;
} refused_table[] = {
    {{"buton", IKV_EQUAL, I(0), false},
     NULL,
     IKV_UNKNOWN_FIELD,
     "the kind pointer.down has no field \"buton\"; it has x, y, dx"},
    {{"button", IKV_EQUAL, I(0), false},
     mixed,
     IKV_UNKNOWN_FIELD,
     "the kind key.down has no field \"button\"; it has code, key, location"},
    {{"x", IKV_EQUAL, {IKV_VALUE_BOOL, {.boolean = true}}, false},
     NULL,
     IKV_BAD_VALUE,
     "a condition on \"x\" does not fit: a number: {IKV_VALUE_INTEGER"},
    {{"x", IKV_HAS, I(1), false},
     NULL,
     IKV_BAD_VALUE,
     "a field and a value that are whole numbers"},
    {{"target", IKV_BELOW, I(1), false},
     NULL,
     IKV_BAD_VALUE,
     "IKV_EQUAL or IKV_CHANGED, since it has no order"},
    {{"target", IKV_EQUAL, I(1), false},
     NULL,
     IKV_BAD_VALUE,
     "a target: {IKV_VALUE_TARGET"},
    {{"x", 77, I(1), false}, NULL, IKV_BAD_VALUE, "a comparison of the list"},
    {{NULL, 0, I(1), false}, NULL, IKV_BAD_ARGUMENT, "names no field"},
    {{"text", IKV_EQUAL, I(1), false},
     typed,
     IKV_BAD_VALUE,
     "a field that is no text"},
    {{"local.x", IKV_BELOW, N(1), false},
     mixed,
     IKV_UNKNOWN_FIELD,
     "a condition on \"local.x\" needs a position: subscribe to kinds of"},
};

START_TEST(refused_conditions)
{
    ikv_message message = {""};
    open_bus();
    ikv_subscription_config config = wants(IKV_KIND_POINTER_DOWN, "h");
    config.conditions = &refused_table[_i].condition;
    config.condition_count = 1;
    if (refused_table[_i].kinds != NULL) {
        config.kind = 0;
        config.kinds = refused_table[_i].kinds;
        config.kind_count = 2;
    }
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              refused_table[_i].status);
    ck_assert_msg(strstr(message.text, refused_table[_i].message) != NULL,
                  "got %s", message.text);
    ck_assert_uint_eq(bus_counts(bus).conditions, 0);
    close_bus();
}
END_TEST

/* A bare condition where a list belongs, an empty list or group, callbacks
 * that are absent, full. */
START_TEST(refused_lists)
{
    ikv_bus_config small = IKV_BUS_INIT;
    ikv_condition one[2] = {{"button", IKV_EQUAL, I(0), false},
                            {"target.tags", IKV_HAS, I(1), false}};
    ikv_condition_group empty = {IKV_ALL, 0, NULL, false};
    ikv_message message;
    small.conditions = small.gates = 1;
    open_with(&small, false);
    ikv_subscription_config config = wants(IKV_KIND_POINTER_DOWN, "h");
    ikv_subscription_config limited = wants(IKV_KIND_KEY_UP, "once");
    ikv_subscription once;
    config.conditions = one; /* the count is missing */
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.condition_count = 2;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_NEEDS_CALLBACK);
    ck_assert_str_eq(message.text, "a condition on \"target.tags\" needs tags: "
                                   "set the bus's callback `tags`");
    static const char *const others[] = {"source.tags", "target.body",
                                         "source.body"};
    for (int i = 0; i < ROWS(others); i++) {
        one[1].field = others[i];
        status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
                  IKV_NEEDS_CALLBACK);
        ck_assert_ptr_nonnull(strstr(message.text, others[i]));
    }
    one[1] = one[0];
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_FULL_CONDITIONS);
    ck_assert_str_eq(message.text, "FULL_CONDITIONS: raise bus.conditions");
    config.condition_count = 1;
    limited.limit = 1;
    ok(ikv_bus_subscribe(bus, &limited, &once, NULL));
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message), IKV_FULL_GATES);
    ck_assert_str_eq(message.text, "FULL_GATES: raise bus.gates");
    hears(bus, IKV_KIND_KEY_UP, everywhere, say, "plain");
    ck_assert_uint_eq(bus_counts(bus).gates, 1);
    ok(ikv_bus_unsubscribe(bus, once));
    ck_assert_uint_eq(bus_counts(bus).gates, 0);
    ck_assert_uint_eq(bus_counts(bus).gates_high, 1);
    config.join = 7;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.join = IKV_ALL;
    config.groups = &empty;
    config.group_count = 1;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.group_count = 0;
    config.groups = NULL;
    config.at_tags = 1;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_NEEDS_CALLBACK);
    config.at = ikv_bus_root(bus);
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.at.bits = config.at_tags = 0;
    config.at_most = 3;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.at_most = 0;
    config.mailbox = 1;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    config.handler = NULL;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_UNKNOWN_NAME);
    close_bus();
}
END_TEST

/* A field that lies elsewhere in another kind of the list is still found. */
START_TEST(fields_by_kind)
{
    open_bus();
    ikv_subscription_config config = wants(0, "h");
    ikv_condition c = {"pointer", IKV_EQUAL, I(7), false};
    config.kinds = scrolls;
    config.kind_count = 2;
    config.conditions = &c;
    config.condition_count = 1;
    ok(ikv_bus_subscribe(bus, &config, NULL, NULL));
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    ikv_event wheel = ikv_event_make(IKV_KIND_WHEEL, 0);
    ikv_bus_deliver(bus, &move);
    ikv_bus_deliver(bus, &wheel);
    move.pointer.pointer = 7;
    wheel.wheel.pointer = 7;
    ikv_bus_deliver(bus, &move);
    ikv_bus_deliver(bus, &wheel);
    ck_assert_str_eq(heard.text, "hh");
    close_bus();
}
END_TEST

/* `at` tags and bodies: at the target's own visit, in their place by rank. */
START_TEST(tags_and_bodies)
{
    ikv_target t[3];
    open_bus();
    ok(ikv_bus_add_target(bus, 0x101, &t[0])); /* tag 1, of body t[1] */
    ok(ikv_bus_add_target(bus, 0x002, &t[1])); /* tag 2 */
    ok(ikv_bus_add_target(bus, 0x003, &t[2])); /* tags 1 and 2 */
    bodies[0] = t[1];
    ikv_subscription_config a = wants(IKV_KIND_KEY_DOWN, "1"),
                            b = wants(IKV_KIND_KEY_DOWN, "B"),
                            own = wants(IKV_KIND_KEY_DOWN, "o"),
                            global = wants(IKV_KIND_KEY_DOWN, "g"),
                            any = wants(0, "f");
    a.at_tags = 1;
    a.rank = 1;
    b.at_body = t[1];
    own.at = t[0];
    any.families = 1u << IKV_FAMILY_KEY;
    any.at_tags = 2;
    any.rank = -1;
    ok(ikv_bus_subscribe(bus, &global, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &a, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &b, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &own, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &any, NULL, NULL));
    for (int i = 0; i < 3; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        e.target = t[i];
        ikv_bus_deliver(bus, &e);
        note(&heard, " ");
    }
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_bus_deliver(bus, &e);
    ck_assert_str_eq(heard.text, "Bo1g fBg f1g g");
    close_bus();
}
END_TEST

/* --------------------------------------------------------------- limits -- */

/* A row's subscription against events at 0, 10, 20 ... ns; every second one
 * begins a new step, every fourth a new frame. */
static const struct {
    uint32_t limit, after;
    uint8_t at_most;
    uint64_t gap_ns;
    const char *heard;
    uint64_t from; /* the first step and frame */
} limit_table[] = {
    {1, 0, 0, 0, "h.......", 0},
    {3, 0, 0, 0, "hhh.....", 0},
    {0, 2, 0, 0, "..hhhhhh", 0},
    {1, 2, 0, 0, "..h.....", 0},
    {0, 0, IKV_PER_STEP, 0, "h.h.h.h.", 0},
    {0, 0, IKV_PER_FRAME, 0, "h...h...", 0},
    {0, 0, 0, 30, "h..h..h.", 0},
    {2, 1, IKV_PER_STEP, 0, ".hh.....", 0},
    /* The last number of all is taken as the one before it. */
    {0, 0, IKV_PER_STEP, 0, "h.h.h...", UINT64_MAX - 3},
    {0, 0, IKV_PER_FRAME, 0, "h.......", UINT64_MAX - 1},
};

START_TEST(limits)
{
    open_bus();
    ikv_subscription handle;
    ikv_subscription_config config = wants(IKV_KIND_KEY_DOWN, "h");
    config.limit = limit_table[_i].limit;
    config.after = limit_table[_i].after;
    config.at_most = limit_table[_i].at_most;
    config.gap_ns = limit_table[_i].gap_ns;
    ok(ikv_bus_subscribe(bus, &config, &handle, NULL));
    uint64_t calls = 0;
    for (int i = 0; i < 8; i++) {
        ikv_bus_set_step(bus, limit_table[_i].from + (uint64_t)i / 2);
        ikv_bus_set_frame(bus, limit_table[_i].from + (uint64_t)i / 4);
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, (uint64_t)i * 10);
        uint32_t n = ikv_bus_deliver(bus, &e).heard;
        calls += n;
        if (n == 0)
            note(&heard, ".");
    }
    ck_assert_str_eq(heard.text, limit_table[_i].heard);
    ck_assert_int_eq(ikv_bus_subscribed(bus, handle),
                     config.limit == 0 || calls < config.limit);
    if (config.limit == 0) {
        ikv_subscription_counts n = subscription_counts(bus, handle);
        ck_assert_uint_eq(n.candidates, 8);
        ck_assert_uint_eq(n.calls, calls);
        ck_assert_uint_eq(n.by_after, config.after);
        ck_assert_uint_eq(n.by_at_most + n.by_gap, 8 - calls - config.after);
    }
    close_bus();
}
END_TEST

static int dropped_while_running;

static ikv_verdict deliver_again(const ikv_event *event,
                                 const ikv_delivery *delivery, void *user)
{
    ikv_event again = *event;
    (void)user;
    note(&heard, "h");
    ck_assert_uint_eq(ikv_bus_deliver(delivery->bus, &again).heard, 0);
    ck_assert_int_eq(dropped_while_running, 0); /* its user is still ours */
    return IKV_CONTINUE;
}

static void count_drop(void *user)
{
    (void)user;
    dropped_while_running++;
}

/* Once means once, also when its handler delivers the event again; and what it
 * was given is let go of only after it has returned. */
START_TEST(once_is_once)
{
    open_bus();
    ikv_subscription handle;
    ikv_subscription_config config = wants(IKV_KIND_KEY_DOWN, "h");
    config.handler = deliver_again;
    config.on_drop = count_drop;
    config.limit = 1;
    dropped_while_running = 0;
    ok(ikv_bus_subscribe(bus, &config, &handle, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_bus_deliver(bus, &e);
    ikv_bus_deliver(bus, &e);
    ck_assert_str_eq(heard.text, "h");
    ck_assert_int_eq(dropped_while_running, 1);
    ck_assert(!ikv_bus_subscribed(bus, handle));
    close_bus();
}
END_TEST

/* ----------------------------------------------------------- statistics -- */

static uint64_t ticking(void *user)
{
    return *(uint64_t *)user += 5;
}

START_TEST(statistics)
{
    uint64_t clock = 0;
    open_bus();
    ikv_subscription handle;
    ikv_subscription_config config = wants(IKV_KIND_POINTER_DOWN, "h");
    ikv_condition c = {"button", IKV_EQUAL, I(1), false};
    config.conditions = &c;
    config.condition_count = 1;
    ok(ikv_bus_subscribe(bus, &config, &handle, NULL));
    ok(ikv_bus_set_clock(bus, ticking, &clock));
    press_four();
    ok(ikv_bus_mute(bus, handle, true));
    press_four();
    ok(ikv_bus_mute(bus, handle, false));
    ikv_subscription_counts n = subscription_counts(bus, handle);
    ck_assert_uint_eq(n.candidates, 8);
    ck_assert_uint_eq(n.calls, 2);
    ck_assert_uint_eq(n.by_condition, 2);
    ck_assert_uint_eq(n.by_mute, 4);
    ck_assert_uint_eq(n.spent_ns, 10);
    ok(ikv_bus_unsubscribe(bus, handle));
    ck_assert_uint_eq(subscription_counts(bus, handle).calls, 0);
    close_bus();
}
END_TEST

static ikv_verdict say_and_stop(const ikv_event *event,
                                const ikv_delivery *delivery, void *name)
{
    say(event, delivery, name);
    return IKV_STOP_ALL;
}

/* PATH3, D4, D7: who hears one kind beside who hears many, all of these before or
 * after those, with and without statistics; `stops` stops all others. */
static const struct {
    bool wide_first;
    const char *stops, *heard;
    int passed; /* muted ones that were come to: x of one kind, y of all */
} beside_table[] = {{false, "", "abkc", 2},  {true, "", "kcab", 2},
                    {false, "a", "a", 0},    {true, "a", "kca", 1},
                    {false, "b", "ab", 0},   {true, "k", "k", 0},
                    {false, "k", "abk", 1},  {true, "b", "kcab", 1},
                    {false, "c", "abkc", 1}, {true, "c", "kc", 0}};

static ikv_subscription subscribe_beside(const char *name, uint32_t families,
                                         const char *stops)
{
    ikv_subscription handle;
    ikv_subscription_config config =
        wants(families != 0 ? 0 : IKV_KIND_KEY_DOWN, name);
    config.all_kinds = families == UINT32_MAX;
    config.families = config.all_kinds ? 0 : families;
    if (strcmp(name, stops) == 0)
        config.handler = say_and_stop;
    ok(ikv_bus_subscribe(bus, &config, &handle, NULL));
    return handle;
}

START_TEST(beside)
{
    enum {
        KEYS = 1u << IKV_FAMILY_KEY,
        POINTERS = 1u << IKV_FAMILY_POINTER
    };
    static const struct {
        const char *name;
        uint32_t families;
    } listeners[] = {{"a", 0},         {"b", 0},        {"x", 0},
                     {"k", KEYS},      {"p", POINTERS}, {"c", UINT32_MAX},
                     {"y", UINT32_MAX}};
    bool counts = _i % 2 != 0;
    int row = _i / 2, first = beside_table[row].wide_first ? 3 : 0, passed = 0;
    const char *stops = beside_table[row].stops;
    ikv_bus_config options = IKV_BUS_INIT;
    ikv_subscription handles[7];
    options.statistics = counts;
    open_with(&options, false);
    for (int i = 0; i < 7; i++) {
        int at = (first + i) % 7;
        handles[at] =
            subscribe_beside(listeners[at].name, listeners[at].families, stops);
    }
    ok(ikv_bus_mute(bus, handles[2], true));
    ok(ikv_bus_mute(bus, handles[6], true));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    e.target = ikv_bus_root(bus);
    /* more than once: how they stand to each other is looked up once */
    for (uint32_t n = 1; n <= 3; n++) {
        heard.text[0] = '\0';
        ikv_outcome outcome = ikv_bus_deliver(bus, &e);
        ck_assert_str_eq(heard.text, beside_table[row].heard);
        ck_assert_uint_eq(outcome.heard, strlen(heard.text));
        ck_assert_int_eq((outcome.verdict & IKV_STOP_ALL) != 0,
                         stops[0] != '\0');
        passed = 0;
        for (int i = 0; i < 7; i++) {
            ikv_subscription_counts c = subscription_counts(bus, handles[i]);
            bool said = strstr(heard.text, listeners[i].name) != NULL;
            ck_assert_uint_eq(c.calls, counts && said ? n : 0);
            passed += c.by_mute == n;
        }
        ck_assert_int_eq(passed, counts ? beside_table[row].passed : 0);
    }
    ck_assert_uint_eq(kind_counts(bus, IKV_KIND_KEY_DOWN).delivered, 3);
    close_bus();
}
END_TEST

static void watch_reasons(const ikv_watch *w, void *user)
{
    (void)user;
    if (w->what == IKV_WATCH_SKIP)
        note(&heard, "%s:%s ", w->name, ikv_obstacle_name(w->reason));
}

START_TEST(reasons_are_watched)
{
    open_bus();
    ikv_subscription handle;
    ikv_subscription_config a = wants(IKV_KIND_KEY_DOWN, "a"),
                            b = wants(IKV_KIND_KEY_DOWN, "b");
    ikv_condition c = {"code", IKV_EQUAL, I(9), false};
    a.conditions = &c;
    a.condition_count = 1;
    b.after = 1;
    ok(ikv_bus_subscribe(bus, &a, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &b, &handle, NULL));
    ok(ikv_bus_add_watcher(bus, IKV_WATCH_SKIP, watch_reasons, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_bus_deliver(bus, &e);
    ok(ikv_bus_mute(bus, handle, true));
    ikv_bus_deliver(bus, &e);
    ck_assert_str_eq(heard.text, "a:condition b:after a:condition b:muted ");
    close_bus();
}
END_TEST

/* ----------------------------------------------- whole kinds, rebinding -- */

static ikv_verdict shout(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    note(&heard, "!%s", (const char *)user);
    return IKV_CONTINUE;
}

START_TEST(whole_kinds_and_names)
{
    static const ikv_kind two[] = {IKV_KIND_KEY_DOWN, IKV_KIND_KEY_UP};
    open_bus();
    ikv_subscription_config list = wants(0, "l"),
                            one = wants(IKV_KIND_KEY_DOWN, "o"),
                            all = wants(0, "a");
    list.kinds = two;
    list.kind_count = 2;
    all.all_kinds = true;
    ok(ikv_bus_subscribe(bus, &list, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &one, NULL, NULL));
    ok(ikv_bus_subscribe(bus, &all, NULL, NULL));
    ok(ikv_bus_unsubscribe_kind(bus, IKV_KIND_KEY_DOWN));
    status_is(ikv_bus_unsubscribe_kind(bus, IKV_KIND_KEY_DOWN), IKV_ABSENT);
    status_is(ikv_bus_unsubscribe_kind(bus, 999), IKV_UNKNOWN_KIND);
    ikv_event down = ikv_event_make(IKV_KIND_KEY_DOWN, 0),
              up = ikv_event_make(IKV_KIND_KEY_UP, 0);
    ikv_bus_deliver(bus, &down);
    note(&heard, " ");
    ikv_bus_deliver(bus, &up);
    note(&heard, " ");
    ok(ikv_bus_rebind(bus, "l", shout, (void *)(uintptr_t) "new"));
    status_is(ikv_bus_rebind(bus, "nobody", shout, NULL), IKV_ABSENT);
    status_is(ikv_bus_rebind(bus, "", shout, NULL), IKV_BAD_ARGUMENT);
    ikv_bus_deliver(bus, &up);
    ck_assert_str_eq(heard.text, "a la !newa");
    ck_assert_uint_eq(bus_counts(bus).subscriptions, 2);
    close_bus();
}
END_TEST

static ikv_verdict note_position(const ikv_event *event,
                                 const ikv_delivery *delivery, void *user)
{
    (void)user;
    ck_assert_uint_eq(event->target.bits, delivery->current.bits);
    note(&heard, "%g,%g %g,%g|", (double)delivery->layer_x,
         (double)delivery->layer_y, (double)delivery->local_x,
         (double)delivery->local_y);
    return IKV_CONTINUE;
}

/* E2: what has no position bears none of an earlier event: at a target, at the
 * root that is named or not, heard as all kinds and counted or not. */
START_TEST(no_position)
{
    ikv_bus_config options = IKV_BUS_INIT;
    options.statistics = (_i & 1) != 0;
    open_with(&options, false);
    ikv_event down = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_target lamp, at[] = {{0}, ikv_bus_root(bus), {0}};
    ok(ikv_bus_add_target(bus, 7, &lamp));
    at[2] = lamp;
    down.pointer.x = 3;
    down.pointer.y = 4;
    down.target = key.target = at[_i / 4];
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    const ikv_kind kinds[] = {down.kind, key.kind};
    config.all_kinds = (_i & 2) != 0;
    config.kinds = config.all_kinds ? NULL : kinds;
    config.kind_count = config.all_kinds ? 0 : 2;
    config.at = at[_i / 4];
    config.handler = note_position;
    ok(ikv_bus_subscribe(bus, &config, NULL, NULL));
    ikv_bus_deliver(bus, &down);
    ikv_bus_deliver(bus, &key);
    ck_assert_str_eq(heard.text, "3,4 3,4|0,0 0,0|");
    close_bus();
}
END_TEST

/* ------------------------------------------------ payloads, use or lose -- */

static const ikv_event *kept_event;

static ikv_verdict read_data(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)user;
    kept_event = event;
    note(&heard, "%s:%u ", (const char *)delivery->data, delivery->data_size);
    return IKV_CONTINUE;
}

/* E3: a larger payload belongs to the lane until its event is delivered. */
START_TEST(larger_payloads)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.payloads = 2;
    config.payload_bytes = 40;
    open_with(&config, true);
    hears(bus, IKV_KIND_KEY_DOWN, everywhere, read_data, NULL);
    char text[41] = "the tide tables of the harbour, page 12";
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ok(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, text, 40));
    memset(text, 'x', 40); /* it was copied */
    status_is(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, text, 41),
              IKV_BAD_SIZE);
    ok(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, "b", 2));
    status_is(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, "c", 2),
              IKV_FULL_PAYLOADS);
    status_is(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, NULL, 2),
              IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(bus_counts(bus).payloads, 2);
    ok(ikv_bus_flush(bus, IKV_STEP_LANE, NULL));
    ck_assert_str_eq(heard.text,
                     "the tide tables of the harbour, page 12:40 b:2 ");
    ck_assert_uint_eq(bus_counts(bus).payloads, 0);
    ok(ikv_bus_defer_data(bus, IKV_STEP_LANE, &e, "c", 2));
    close_bus();
}
END_TEST

/* E3: in debug builds what is read after the handler has returned is poison. */
START_TEST(read_too_late)
{
    open_bus();
    hears(bus, IKV_KIND_KEY_DOWN, everywhere, read_data, NULL);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_bus_deliver(bus, &e);
#ifdef IKV_DEBUG
    ck_assert_uint_eq(kept_event->kind, 0xdddd);
#endif
    ck_assert_uint_eq(e.kind, IKV_KIND_KEY_DOWN);
    close_bus();
}
END_TEST

static ikv_verdict see_orphan(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)delivery, (void)user;
    note(&heard, "orphan at %u of %u ", event->user[0], event->source.bits);
    return IKV_CONTINUE;
}

/* D9: a kind that outlives its target goes to the global subscribers, with
 * source and payload. */
START_TEST(outliving_kinds)
{
    counted c = {0};
    ikv_catalogue *catalogue;
    ikv_catalogue_config cc = IKV_CATALOGUE_INIT;
    cc.memory = counted_memory(&c);
    ok(ikv_catalogue_open(&cc, &catalogue));
    ikv_kind_config sunk = IKV_KIND_CONFIG_INIT;
    ikv_kind kind;
    sunk.name = "buoy.sunk";
    sunk.outlives_target = true;
    ok(ikv_catalogue_register(catalogue, &sunk, &kind, NULL));
    ikv_bus_config config = IKV_BUS_INIT;
    config.catalogue = catalogue;
    open_with(&config, true);
    ikv_target t;
    ok(ikv_bus_add_target(bus, 1, &t));
    hears(bus, kind, everywhere, see_orphan, NULL);
    hears(bus, kind, t, see_orphan, NULL);
    ikv_event e = ikv_event_make(kind, 0);
    e.target = t;
    e.source.bits = 77;
    e.user[0] = 5;
    ok(ikv_bus_defer(bus, IKV_FRAME_LANE, &e));
    ok(ikv_bus_remove_target(bus, t));
    ok(ikv_bus_flush(bus, IKV_FRAME_LANE, NULL));
    ck_assert_str_eq(heard.text, "orphan at 5 of 77 ");
    ck_assert_uint_eq(bus_counts(bus).dropped, 0);
    close_bus();
    ikv_catalogue_close(catalogue);
}
END_TEST

/* --------------------------------------------------------------- timers -- */

static ikv_verdict see_time(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    (void)delivery, (void)user;
    note(&heard, "%u@%llu", event->key.code,
         (unsigned long long)event->time_ns);
    if (event->samples > 0)
        note(&heard, "x%u", event->samples);
    note(&heard, " ");
    return IKV_CONTINUE;
}

static ikv_event coded(uint32_t code)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 999);
    e.key.code = code;
    return e;
}

static void advance(uint64_t to)
{
    ok(ikv_bus_advance(bus, to));
    ok(ikv_bus_flush(bus, IKV_STEP_LANE, NULL));
    note(&heard, "| ");
}

/* D3: each due time once, in order, or once with a count of the missed. */
START_TEST(timers)
{
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_timer every, gone;
    config.timers = 4;
    open_with(&config, true);
    hears(bus, IKV_KIND_KEY_DOWN, everywhere, see_time, NULL);
    ikv_event e[5] = {coded(0), coded(1), coded(2), coded(3), coded(4)};
    ok(ikv_bus_defer_after(bus, IKV_STEP_LANE, 25, &e[1], NULL));
    ok(ikv_bus_defer_every(bus, IKV_STEP_LANE, 10, false, &e[2], &every));
    ok(ikv_bus_defer_every(bus, IKV_STEP_LANE, 5, true, &e[3], NULL));
    ok(ikv_bus_defer_after(bus, IKV_STEP_LANE, 20, &e[4], &gone));
    status_is(ikv_bus_defer_after(bus, IKV_STEP_LANE, 1, &e[0], NULL),
              IKV_FULL_TIMERS);
    ok(ikv_bus_cancel_timer(bus, gone));
    status_is(ikv_bus_cancel_timer(bus, gone), IKV_ABSENT);
    advance(9);
    advance(9);
    advance(31);
    ok(ikv_bus_cancel_timer(bus, every));
    advance(45);
    ck_assert_str_eq(heard.text, "3@5x1 | | 2@10 3@10x5 2@20 1@25 2@30 | "
                                 "3@35x3 | ");
    status_is(ikv_bus_advance(bus, 44), IKV_BAD_ARGUMENT);
    status_is(ikv_bus_defer_every(bus, IKV_STEP_LANE, 0, false, &e[0], NULL),
              IKV_BAD_ARGUMENT);
    status_is(ikv_bus_defer_after(bus, 99, 1, &e[0], NULL), IKV_UNKNOWN_NAME);
    status_is(ikv_bus_defer_after(bus, 0, UINT64_MAX, &e[0], NULL),
              IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(bus_counts(bus).timers, 1);
    ok(ikv_bus_advance(bus, UINT64_MAX - 5)); /* where time ends */
    status_is(ikv_bus_defer_after(bus, 0, 6, &e[0], NULL), IKV_BAD_ARGUMENT);
    ok(ikv_bus_defer_after(bus, 0, 5, &e[0], NULL));
    ck_assert_uint_eq(bus_counts(bus).timers, 2);
    close_bus();
}
END_TEST

/* E3: a timer's larger payload is its own, and each event's a copy. */
START_TEST(timer_payloads)
{
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_timer once, every, plain;
    config.payloads = 3;
    config.payload_bytes = 8;
    open_with(&config, true);
    hears(bus, IKV_KIND_KEY_DOWN, everywhere, read_data, NULL);
    ikv_event e = coded(0);
    ok(ikv_bus_defer_after(bus, IKV_STEP_LANE, 25, &e, &once));
    ok(ikv_bus_defer_every(bus, IKV_STEP_LANE, 10, false, &e, &every));
    ok(ikv_bus_defer_after(bus, IKV_STEP_LANE, 99, &e, &plain));
    ok(ikv_bus_set_timer_data(bus, once, "once", 5));
    ok(ikv_bus_set_timer_data(bus, every, "tide", 5));
    status_is(ikv_bus_set_timer_data(bus, every, "more", 5), IKV_BAD_ARGUMENT);
    status_is(ikv_bus_set_timer_data(bus, plain, "too long", 9), IKV_BAD_SIZE);
    status_is(ikv_bus_set_timer_data(bus, plain, NULL, 1), IKV_BAD_ARGUMENT);
    advance(10);
    advance(20);
    ck_assert_uint_eq(bus_counts(bus).payloads, 2);
    advance(26);
    ck_assert_uint_eq(bus_counts(bus).payloads, 1);
    status_is(ikv_bus_set_timer_data(bus, once, "late", 5), IKV_ABSENT);
    ok(ikv_bus_cancel_timer(bus, every));
    ck_assert_uint_eq(bus_counts(bus).payloads, 0);
    ck_assert_str_eq(heard.text, "tide:5 | tide:5 | once:5 | ");
    close_bus();
}
END_TEST

/* In the loop timers run in the steps' time, before the step lane. */
START_TEST(timers_in_the_loop)
{
    bench_kit k = {0};
    kit_open(&k);
    heard.text[0] = '\0';
    hears(k.bus, IKV_KIND_KEY_DOWN, everywhere, see_time, NULL);
    ikv_event e = coded(1);
    ok(ikv_bus_defer_every(k.bus, IKV_STEP_LANE, 20000000, false, &e, NULL));
    kit_frame(&k, 0);
    kit_frame(&k, 16);
    ck_assert_str_eq(heard.text, "");
    kit_frame(&k, 70);
    ck_assert_str_eq(heard.text, "1@20000000 1@40000000 1@60000000 ");
    kit_close(&k);
}
END_TEST

static ikv_target told_at[4];
static uint32_t told_count;

static void note_target(const ikv_watch *watch, void *user)
{
    (void)user;
    told_at[told_count++ % ROWS(told_at)] = watch->event->target;
}

/* Who watches events alone is told of the root by its name, too, whether it was
 * named or not, and however few listen. */
START_TEST(told_of_the_root)
{
    for (int listeners = 0; listeners < 3; listeners++)
        for (int named = 0; named < 2; named++) {
            ikv_bus_config config = IKV_BUS_INIT;
            ikv_event e = coded(1);
            open_with(&config, true);
            for (int i = 0; i < listeners; i++) {
                ikv_subscription_config want = wants(IKV_KIND_KEY_DOWN, "h");
                ok(ikv_bus_subscribe(bus, &want, NULL, NULL));
            }
            told_count = 0;
            ok(ikv_bus_add_watcher(bus, IKV_WATCH_EVENT | IKV_WATCH_DONE,
                                   note_target, NULL));
            e.target = named ? ikv_bus_root(NULL) : (ikv_target){0};
            ck_assert_uint_eq(ikv_bus_deliver(bus, &e).heard,
                              (uint32_t)listeners);
            ck_assert_uint_eq(told_count, 2);
            for (uint32_t i = 0; i < told_count; i++)
                ck_assert_uint_eq(told_at[i].bits, ikv_bus_root(NULL).bits);
            close_bus();
        }
}
END_TEST

/* ------------------------------------------------ mailboxes and inboxes -- */

START_TEST(mailboxes)
{
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_mailbox box, second, other;
    ikv_event e;
    config.mailboxes = 2;
    config.mailbox_events = 3;
    open_with(&config, true);
    ok(ikv_bus_add_mailbox(bus, &box));
    ok(ikv_bus_add_mailbox(bus, &second));
    status_is(ikv_bus_add_mailbox(bus, &other), IKV_FULL_MAILBOXES);
    ikv_subscription_config want = wants(IKV_KIND_KEY_DOWN, "box");
    want.handler = NULL;
    want.mailbox = box;
    ok(ikv_bus_subscribe(bus, &want, NULL, NULL));
    /* the second one is full, and keeps what it has */
    want.mailbox = second;
    ok(ikv_bus_subscribe(bus, &want, NULL, NULL));
    for (uint32_t round = 0; round < 3; round++) {
        for (uint32_t i = 0; i < 4; i++) {
            e = coded(round * 10 + i);
            ikv_bus_deliver(bus, &e);
        }
        for (uint32_t i = 0; i < 3; i++) {
            ok(ikv_bus_read(bus, box, &e));
            ck_assert_uint_eq(e.key.code, round * 10 + i);
        }
        status_is(ikv_bus_read(bus, box, &e), IKV_ABSENT);
    }
    for (uint32_t i = 0; i < 3; i++) {
        ok(ikv_bus_read(bus, second, &e));
        ck_assert_uint_eq(e.key.code, i);
    }
    ck_assert_uint_eq(ikv_bus_mailbox_refused(bus, box), 3);
    ck_assert_uint_eq(ikv_bus_mailbox_refused(bus, second), 9);
    ck_assert_uint_eq(bus_counts(bus).mailbox_refused, 12);
    status_is(ikv_bus_read(bus, 0, &e), IKV_UNKNOWN_NAME);
    status_is(ikv_bus_read(bus, 9, &e), IKV_UNKNOWN_NAME);
    close_bus();
}
END_TEST

enum {
    SENDERS = 3,
    SENT = 20000
};

static void *send_many(void *number)
{
    for (uint32_t i = 0; i < SENT;) {
        ikv_event e = coded(i);
        e.device = (uint16_t)(uintptr_t)number;
        if (ikv_bus_defer_any(bus, IKV_STEP_LANE, &e) == IKV_OK)
            i++;
    }
    return NULL;
}

static uint32_t next_from[SENDERS];

static ikv_verdict check_order(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    (void)delivery, (void)user;
    ck_assert_uint_eq(event->key.code, next_from[event->device]++);
    return IKV_CONTINUE;
}

/* D2: other threads defer into the inbox; order and counts under load. */
START_TEST(inboxes)
{
    ikv_bus_config config = IKV_BUS_INIT;
    pthread_t threads[SENDERS];
    uint64_t total = 0;
    config.inbox = 32;
    config.deferred = 40;
    open_with(&config, true);
    memset(next_from, 0, sizeof next_from);
    hears(bus, IKV_KIND_KEY_DOWN, everywhere, check_order, NULL);
    for (uintptr_t i = 0; i < SENDERS; i++)
        pthread_create(&threads[i], NULL, send_many, (void *)i);
    while (total < SENDERS * SENT) {
        uint32_t count;
        ok(ikv_bus_flush(bus, IKV_STEP_LANE, &count));
        total += count;
    }
    for (int i = 0; i < SENDERS; i++)
        pthread_join(threads[i], NULL);
    ikv_lane_counts n = lane_counts(bus, IKV_STEP_LANE);
    ck_assert_uint_eq(n.delivered, SENDERS * SENT);
    ck_assert_uint_eq(n.deferred, n.delivered);
    ck_assert_uint_eq(n.waiting, 0);
    ck_assert_uint_ge(n.high_water, 1);
    ikv_event e = coded(0);
    e.kind = 999;
    ok(ikv_bus_defer_any(bus, IKV_FRAME_LANE, &e));
    ok(ikv_bus_flush(bus, IKV_FRAME_LANE, NULL));
    ck_assert_uint_eq(lane_counts(bus, IKV_FRAME_LANE).dropped, 1);
    status_is(ikv_bus_defer_any(bus, 99, &e), IKV_UNKNOWN_NAME);
    for (int i = 0; i < 33; i++)
        status_is(ikv_bus_defer_any(bus, IKV_FRAME_LANE, &e),
                  i < 32 ? IKV_OK : IKV_FULL_INBOX);
    ck_assert_uint_eq(lane_counts(bus, IKV_FRAME_LANE).inbox_refused, 1);
    close_bus();
}
END_TEST

Suite *dispatch_suite(void)
{
    Suite *s = suite_create("dispatch");
    add_table(s, "D7 conditions", conditions, ROWS(condition_table));
    add_table(s, "D7 refused", refused_conditions, ROWS(refused_table));
    add(s, "D7 lists", refused_lists);
    add(s, "D7 fields", fields_by_kind);
    add(s, "D7 tags", tags_and_bodies);
    add_table(s, "D7 limits", limits, ROWS(limit_table));
    add(s, "D7 once", once_is_once);
    add(s, "D7 statistics", statistics);
    add_table(s, "PATH3 D4 D7 beside", beside, 2 * ROWS(beside_table));
    add(s, "D7 reasons", reasons_are_watched);
    add(s, "D5 kinds, rebind", whole_kinds_and_names);
    add_table(s, "E2 no position", no_position, 12);
    add(s, "E3 payloads", larger_payloads);
    add(s, "E3 late", read_too_late);
    add(s, "D9 outlives", outliving_kinds);
    add(s, "D3", timers);
    add(s, "D3 E3", timer_payloads);
    add(s, "D3 L3", timers_in_the_loop);
    add(s, "told of the root", told_of_the_root);
    add(s, "mailboxes", mailboxes);
    add(s, "D2 inbox", inboxes);
    return s;
}
