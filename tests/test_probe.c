/* test_probe.c - what stands between an event and who waits for it: each
 * obstacle alone, several in their order, and that asking changes nothing. */
#include "support.h"

#include <math.h>

static counted memory;
static ikv_bus *bus;
static record found;
static ikv_target quay, lamp, crane;
static ikv_subscription asked;
static bool lamp_is_gone;

static uint32_t tags_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits ? 2 : 1;
}

static ikv_target body_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits ? quay : target;
}

static ikv_target parent_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits ? quay : (ikv_target){0};
}

static bool is_alive(void *user, ikv_target target)
{
    (void)user;
    return target.bits != lamp.bits || !lamp_is_gone;
}

static int spaces_asked;

static bool to_local(void *user, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2])
{
    (void)user, (void)view;
    spaces_asked++;
    layer[0] = x;
    layer[1] = y;
    local[0] = x - (target.bits == lamp.bits ? 100.0f : 0.0f);
    local[1] = y;
    return true;
}

static const char *name_of(ikv_target target)
{
    return target.bits == quay.bits    ? "quay"
           : target.bits == lamp.bits  ? "lamp"
           : target.bits == crane.bits ? "crane"
                                       : "root";
}

static void note_value(const char *before, ikv_value value)
{
    if (value.type == IKV_VALUE_INTEGER)
        note(&found, "%s%lld", before, (long long)value.bits.integer);
    else if (value.type == IKV_VALUE_NUMBER)
        note(&found, "%s%g", before, value.bits.number);
    else if (value.type == IKV_VALUE_BOOL)
        note(&found, "%s%s", before, value.bits.boolean ? "yes" : "no");
    else if (value.type == IKV_VALUE_TARGET)
        note(&found, "%s%s", before, name_of(value.bits.target));
}

/* "condition2(button 1 =0)": who, which field, found and wanted. */
static void note_obstacle(const ikv_obstacle *o)
{
    static const char *const signs[] = {"=",  "<",   "<=",     ">",
                                        ">=", "has", "changed"};
    note(&found, "%s", ikv_obstacle_name(o->code));
    if (o->nth > 0)
        note(&found, "%u", o->nth);
    if (o->by.bits != 0)
        note(&found, "@%s", name_of(o->by));
    if (o->name != NULL)
        note(&found, "(%s", o->name);
    note_value(o->name != NULL ? " " : "(", o->found);
    if (o->code == IKV_WHY_CONDITION)
        note(&found, " %s%s", o->negated ? "not" : "", signs[o->comparison]);
    note_value(o->code == IKV_WHY_CONDITION ? "" : "/", o->wanted);
    if (o->name != NULL || o->found.type != IKV_VALUE_NONE)
        note(&found, ")");
    note(&found, " ");
}

static void ask(const ikv_watch *watch, void *user)
{
    ikv_obstacle why[8], one = {0};
    (void)user;
    uint32_t count = ikv_bus_probe(bus, asked, watch->event, watch->delivery,
                                   why, ROWS(why));
    ck_assert_uint_le(count, ROWS(why));
    /* In whatever room, and as often as one likes: the same. */
    ck_assert_uint_eq(
        ikv_bus_probe(bus, asked, watch->event, watch->delivery, &one, 1),
        count);
    ck_assert_uint_eq(
        ikv_bus_probe(bus, asked, watch->event, watch->delivery, NULL, 0),
        count);
    ck_assert_uint_eq(one.code, count > 0 ? why[0].code : 0);
    found.text[0] = '\0';
    for (uint32_t i = 0; i < count; i++)
        note_obstacle(&why[i]);
}

static ikv_verdict hear(const ikv_event *e, const ikv_delivery *d, void *user)
{
    (void)e, (void)d;
    ++*(int *)user;
    return IKV_CONTINUE;
}

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

/* A click at the lamp, which is the quay's; before it so many others. */
typedef struct probe_row {
    const char *title, *says;
    ikv_kind kind;
    int at; /* 0 the root, 1 the quay, 2 the lamp, 3 the crane */
    uint32_t phases;
    ikv_condition conditions[3], group[2];
    uint32_t join, group_join;
    bool group_negated, muted, gone, tags;
    int body;
    uint32_t after, limit;
    uint8_t at_most;
    uint64_t gap_ns;
    int before;
} probe_row;

static const probe_row probe_table[] = {
    {"nothing is in the way", "", .at = 2},
    {"nor above it", "", .at = 1},
    {"nor at the root", "", .at = 0},
    {"another kind", "kind@lamp ", .kind = IKV_KIND_KEY_DOWN, .at = 2},
    {"another target", "path@lamp ", .at = 3},
    {"the way down, at the target's own", "phase@lamp ", .at = 2,
     .phases = IKV_BUBBLING},
    {"the own visit, of what is above", "phase@quay ", .at = 1,
     .phases = IKV_AT_TARGET},
    {"gone on the way", "gone@lamp ", .at = 2, .gone = true},
    {"muted", "muted ", .at = 2, .muted = true},
    {"other tags", "place@lamp(2/1) ", .at = 0, .tags = true},
    {"another body", "place@lamp(2/0) ", .at = 0, .body = 3},
    {"its body", "", .at = 0, .body = 1},
    {"one condition", "condition1(button 0 =2) ", .at = 2,
     .conditions = {{"button", IKV_EQUAL, I(2), false}}},
    {"two of three", "condition1(x 130 <100) condition3(clicks 2 not>=2) ",
     .at = 2,
     .conditions = {{"x", IKV_BELOW, I(100), false},
                    {"y", IKV_EQUAL, I(7), false},
                    {"clicks", IKV_AT_LEAST, I(2), true}}},
    {"none of those of which one is asked for",
     "condition1(local.x 30 >50) condition2(modifiers 1 has2) ", .at = 2,
     .join = IKV_ANY,
     .conditions = {{"local.x", IKV_ABOVE, N(50), false},
                    {"modifiers", IKV_HAS, I(2), false}}},
    {"local to whom it is at", "condition1(local.x 130 <50) ", .at = 1,
     .conditions = {{"local.x", IKV_BELOW, N(50), false}}},
    {"it has not changed", "condition1(button 0 changed) ", .at = 2,
     .before = 1, .conditions = {{"button", IKV_CHANGED, I(0), false}}},
    {"it has changed, never having been seen", "", .at = 2,
     .conditions = {{"button", IKV_CHANGED, I(0), false}}},
    {"its body is another", "condition1(target.body quay =crane) ", .at = 2,
     .conditions = {{"target.body",
                     IKV_EQUAL,
                     {IKV_VALUE_TARGET, {.target = {0}}},
                     false}}},
    {"a group of which nothing holds",
     "condition2(x 130 <1) condition3(y 7 =8) ", .at = 2,
     .conditions = {{"button", IKV_EQUAL, I(0), false}}, .group_join = IKV_ANY,
     .group = {{"x", IKV_BELOW, I(1), false}, {"y", IKV_EQUAL, I(8), false}}},
    {"a group that must not hold", "condition1(y 7 not=7) ", .at = 2,
     .group_negated = true, .group_join = IKV_ANY,
     .group = {{"y", IKV_EQUAL, I(7), false}, {"x", IKV_BELOW, I(1), false}}},
    {"the first ones are left out", "after(2) ", .at = 2, .after = 3,
     .before = 1},
    {"once a step", "at-most(step 4) ", .at = 2, .at_most = IKV_PER_STEP,
     .before = 1},
    {"once a frame", "at-most(frame 6) ", .at = 2, .at_most = IKV_PER_FRAME,
     .before = 2},
    {"too soon", "gap(5/6) ", .at = 2, .gap_ns = 6, .before = 1},
    {"soon enough", "", .at = 2, .gap_ns = 5, .before = 1},
    {"it has ended", "ended ", .at = 2, .limit = 1, .before = 1},
    {"not yet", "", .at = 2, .limit = 2, .before = 1},
    {"all in their order", "path@lamp muted condition1(button 0 =1) after(1) ",
     .at = 3, .muted = true, .after = 1,
     .conditions = {{"button", IKV_EQUAL, I(1), false}}},
    {"and what was heard before", "gone@lamp muted at-most(step 4) gap(5/9) ",
     .at = 2, .muted = true, .gone = true, .before = 1, .gap_ns = 9,
     .at_most = IKV_PER_STEP},
};

static void subscribe(const probe_row *row, int *heard)
{
    ikv_target places[] = {{0}, quay, lamp, crane};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_condition conditions[3];
    memcpy(conditions, row->conditions, sizeof conditions);
    config.kind = row->kind != 0 ? row->kind : IKV_KIND_POINTER_CLICK;
    config.at = places[row->at];
    config.phases = row->phases;
    config.handler = hear;
    config.user = heard;
    config.at_tags = row->tags ? 1 : 0;
    config.at_body = places[row->body];
    config.join = row->join;
    config.conditions = conditions;
    while (config.condition_count < 3 &&
           conditions[config.condition_count].field != NULL) {
        ikv_condition *c = &conditions[config.condition_count++];
        if (c->value.type == IKV_VALUE_TARGET)
            c->value.bits.target = crane;
    }
    if (config.condition_count == 0)
        config.conditions = NULL;
    ikv_condition_group group = {row->group_join, 2, row->group,
                                 row->group_negated};
    if (row->group[0].field != NULL) {
        config.groups = &group;
        config.group_count = 1;
    }
    config.after = row->after;
    config.limit = row->limit;
    config.at_most = row->at_most;
    config.gap_ns = row->gap_ns;
    ikv_message message = {""};
    ck_assert_msg(ikv_bus_subscribe(bus, &config, &asked, &message) == IKV_OK,
                  "%s: %s", row->title, message.text);
}

static void open_bus(void)
{
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_bus_callbacks call = IKV_BUS_CALLBACKS_INIT;
    memory = (counted){0};
    found.text[0] = '\0';
    lamp_is_gone = false;
    config.memory = counted_memory(&memory);
    ok(ikv_bus_open(&config, &bus));
    call.tags = tags_of;
    call.body = body_of;
    call.parent = parent_of;
    call.alive = is_alive;
    call.to_local = to_local;
    ok(ikv_bus_set_callbacks(bus, &call));
    ok(ikv_bus_add_target(bus, 1, &quay));
    ok(ikv_bus_add_target(bus, 2, &lamp));
    ok(ikv_bus_add_target(bus, 3, &crane));
    ikv_bus_set_step(bus, 4);
    ikv_bus_set_frame(bus, 6);
}

/* D7: what is said to be in the way is, and nothing else: it is called if there
 * is nothing, and is not otherwise. */
START_TEST(subscriptions)
{
    const probe_row *row = &probe_table[_i];
    int heard = 0;
    open_bus();
    subscribe(row, &heard);
    ikv_event click = ikv_event_make(IKV_KIND_POINTER_CLICK, 100);
    click.target = lamp;
    click.modifiers = IKV_SHIFT;
    click.click.x = 130;
    click.click.y = 7;
    click.click.clicks = 2;
    for (int i = 0; i < row->before; i++) {
        ikv_bus_deliver(bus, &click);
        click.time_ns += 5;
    }
    ok(ikv_bus_add_watcher(bus, IKV_WATCH_EVENT, ask, NULL));
    if (row->muted)
        ok(ikv_bus_mute(bus, asked, true));
    lamp_is_gone = row->gone;
    int before = heard;
    ikv_bus_deliver(bus, &click);
    ck_assert_msg(strcmp(found.text, row->says) == 0, "%s: %s, not %s",
                  row->title, found.text, row->says);
    ck_assert_int_eq(heard - before, row->says[0] == '\0');
    valid(ikv_bus_validate(bus));
    ikv_bus_close(bus);
}
END_TEST

/* PATH3: where nobody listens in that phase nothing is asked of the scene. */
static const struct {
    bool family, two;
    uint32_t at, phases;
    int asked;
} asked_table[] = {
    {false, false, 1, IKV_BUBBLING, 1},
    {false, false, 1, IKV_CAPTURING, 1},
    {false, false, 1, IKV_CAPTURING | IKV_BUBBLING, 2},
    {false, false, 1, IKV_AT_TARGET, 0},
    {false, false, 2, IKV_AT_TARGET, 1},
    {true, false, 1, IKV_BUBBLING, 1},
    {true, false, 1, IKV_CAPTURING, 1},
    {true, false, 1, IKV_AT_TARGET, 0},
    {true, true, 1, IKV_BUBBLING, 1},
    {true, true, 1, IKV_AT_TARGET, 0},
};

START_TEST(spaces_are_asked)
{
    ikv_target places[] = {{0}, {0}, {0}};
    int heard = 0;
    open_bus();
    places[1] = quay;
    places[2] = lamp;
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.at = places[asked_table[_i].at];
    config.phases = asked_table[_i].phases;
    config.handler = hear;
    config.user = &heard;
    for (int i = 0; i < 1 + asked_table[_i].two; i++) {
        bool family = asked_table[_i].family && i == 0;
        config.kind = family ? IKV_KIND_NONE : IKV_KIND_POINTER_CLICK;
        config.families = family ? 1u << IKV_FAMILY_CLICK : 0;
        ok(ikv_bus_subscribe(bus, &config, NULL, NULL));
    }
    ikv_event click = ikv_event_make(IKV_KIND_POINTER_CLICK, 100);
    click.target = lamp;
    spaces_asked = 0;
    ikv_bus_deliver(bus, &click);
    ck_assert_int_eq(spaces_asked, asked_table[_i].asked);
    ck_assert_int_eq(heard, asked_table[_i].asked * (1 + asked_table[_i].two));
    ikv_bus_close(bus);
}
END_TEST

/* D7: what nobody bears is asked of nobody: of no source, and of none once the
 * callbacks are gone. */
static uint32_t any_tags(void *user, ikv_target target)
{
    (void)user, (void)target;
    return 1;
}

static ikv_target any_body(void *user, ikv_target target)
{
    (void)user, (void)target;
    return quay;
}

static const struct {
    const char *field;
    bool negate;
    int without, with, later; /* calls */
} source_table[] = {
    {"source.tags", false, 0, 1, 0},
    {"source.tags", true, 1, 0, 1},
    {"source.body", false, 0, 1, 0},
    {"source.body", true, 1, 0, 1},
};

START_TEST(no_source)
{
    int heard = 0;
    open_bus();
    ikv_bus_callbacks call = IKV_BUS_CALLBACKS_INIT;
    call.tags = any_tags;
    call.body = any_body;
    ok(ikv_bus_set_callbacks(bus, &call));
    bool tags = strcmp(source_table[_i].field, "source.tags") == 0;
    ikv_condition condition = {source_table[_i].field,
                               tags ? IKV_HAS : IKV_EQUAL,
                               {IKV_VALUE_INTEGER, {.integer = 1}},
                               source_table[_i].negate};
    if (!tags)
        condition.value =
            (ikv_value){IKV_VALUE_TARGET, {.target = {quay.bits}}};
    ikv_subscription_config listens = IKV_SUBSCRIPTION_INIT;
    listens.kind = IKV_KIND_POINTER_CLICK;
    listens.at = quay;
    listens.handler = hear;
    listens.user = &heard;
    listens.conditions = &condition;
    listens.condition_count = 1;
    ok(ikv_bus_subscribe(bus, &listens, &asked, NULL));
    ikv_event click = ikv_event_make(IKV_KIND_POINTER_CLICK, 100);
    click.target = quay;
    ikv_bus_deliver(bus, &click);
    ck_assert_int_eq(heard, source_table[_i].without);
    click.source = lamp;
    heard = 0;
    ikv_bus_deliver(bus, &click);
    ck_assert_int_eq(heard, source_table[_i].with);
    call = (ikv_bus_callbacks)IKV_BUS_CALLBACKS_INIT;
    ok(ikv_bus_set_callbacks(bus, &call));
    heard = 0;
    ikv_bus_deliver(bus, &click);
    ck_assert_int_eq(heard, source_table[_i].later);
    ikv_bus_close(bus);
}
END_TEST

/* Where it listens and to what, each once. */
START_TEST(listening)
{
    static const ikv_kind three[] = {IKV_KIND_KEY_DOWN, IKV_KIND_KEY_UP,
                                     IKV_KIND_KEY_UP};
    int heard = 0;
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_target at[4];
    ikv_kind kinds[3];
    open_bus();
    ikv_target where[] = {lamp, quay, lamp};
    config.handler = hear;
    config.user = &heard;
    config.kinds = three;
    config.kind_count = 3;
    config.at_list = where;
    config.at_count = 3;
    ok(ikv_bus_subscribe(bus, &config, &asked, NULL));
    ck_assert_uint_eq(ikv_bus_subscription_targets(bus, asked, at, 4), 2);
    ck_assert_uint_eq(at[0].bits + at[1].bits, lamp.bits + quay.bits);
    ck_assert_uint_eq(ikv_bus_subscription_kinds(bus, asked, kinds, 3), 2);
    ck_assert_uint_eq(kinds[0] + kinds[1], IKV_KIND_KEY_UP + IKV_KIND_KEY_DOWN);
    ck_assert_uint_eq(ikv_bus_subscription_kinds(bus, asked, kinds, 1), 2);
    ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, 0);
    up.target = lamp;
    ikv_bus_deliver(bus, &up);
    ck_assert_int_eq(heard, 2); /* at the lamp, and above it */
    ok(ikv_bus_unsubscribe(bus, asked));
    ck_assert_uint_eq(ikv_bus_subscription_targets(bus, asked, at, 4), 0);
    config = (ikv_subscription_config)IKV_SUBSCRIPTION_INIT;
    config.handler = hear;
    config.user = &heard;
    config.all_kinds = true;
    ok(ikv_bus_subscribe(bus, &config, &asked, NULL));
    ck_assert_uint_eq(ikv_bus_subscription_kinds(bus, asked, kinds, 3), 0);
    ck_assert_uint_eq(ikv_bus_subscription_targets(bus, asked, at, 4), 1);
    ck_assert_uint_eq(at[0].bits, ikv_bus_root(bus).bits);
    ok(ikv_bus_unsubscribe(bus, asked));
    config.at_tags = 1;
    ok(ikv_bus_subscribe(bus, &config, &asked, NULL));
    ck_assert_uint_eq(ikv_bus_subscription_targets(bus, asked, at, 4), 0);
    ikv_bus_close(bus);
}
END_TEST

/* ------------------------------------------------------------- the router -- */

enum {
    BOXES = 12
};

static bench_kit k;
static ikv_target boxes[BOXES];
static uint32_t compared;

static bool is_on(const ikv_delivery *delivery, ikv_target target)
{
    for (uint32_t i = 0; i < delivery->path_length; i++)
        if (delivery->path[i].bits == target.bits)
            return true;
    return false;
}

/* What is said to be in nobody's way has come by, and nothing else has. */
static void ask_router(const ikv_watch *watch, void *user)
{
    const ikv_event *e = watch->event;
    ikv_obstacle why[4];
    (void)user;
    if (e->kind != IKV_KIND_POINTER_MOVE && e->kind != IKV_KIND_POINTER_DOWN &&
        e->kind != IKV_KIND_WHEEL && e->kind != IKV_KIND_KEY_DOWN)
        return;
    for (int i = 0; i < BOXES; i++) {
        uint32_t count = ikv_router_probe(k.router, e, boxes[i], why, 4);
        ck_assert_msg((count == 0) == is_on(watch->delivery, boxes[i]),
                      "%s: box %d: %u, %s",
                      ikv_catalogue_info(NULL, e->kind)->name, i, count,
                      count > 0 ? ikv_obstacle_name(why[0].code) : "");
        compared++;
    }
}

static void push_made_up(uint64_t *seed)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN,
        IKV_KIND_POINTER_UP,   IKV_KIND_WHEEL,        IKV_KIND_KEY_DOWN};
    ikv_event e = ikv_event_make(kinds[random_below(seed, 6)], 0);
    e.device = k.fake.device;
    e.time_ns = k.fake.now_ns;
    if (e.kind == IKV_KIND_KEY_DOWN) {
        e.key.code = ikv_code_find("KeyA") + random_below(seed, 9);
        ok(ikv_sink_push(k.fake.sink, &e));
        return;
    }
    e.pointer.x = (float)random_below(seed, 120);
    e.pointer.y = (float)random_below(seed, 40);
    if (e.kind != IKV_KIND_WHEEL) {
        e.pointer.pointer = (uint16_t)random_below(seed, 3);
        e.pointer.type = e.pointer.pointer == 2 ? IKV_TOUCH : IKV_MOUSE;
        e.pointer.button = e.kind == IKV_KIND_POINTER_MOVE ? -1 : 0;
    }
    ok(ikv_sink_push(k.fake.sink, &e));
}

START_TEST(routed)
{
    uint64_t seed = 77 + (uint64_t)_i;
    ikv_target none = {0};
    compared = 0;
    kit_prepare(&k);
    k.config.loop.step_num = 50;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < BOXES; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.parent =
            i % 3 == 0 ? none : boxes[random_below(&seed, (uint32_t)i)];
        config.x = (float)random_below(&seed, 40);
        config.shape = i % 5 == 4 ? (ikv_shape){.type = IKV_SHAPE_NONE}
                                  : ikv_scene_rect(0, 0, 30, 40);
        config.z = (int32_t)random_below(&seed, 3);
        config.hidden = i % 7 == 6;
        config.traits = IKV_FOCUSABLE | (i % 4 == 1 ? IKV_CAPTURES : 0u);
        ok(ikv_scene_add(k.scene, &config, &boxes[i], NULL));
    }
    ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_EVENT, ask_router, NULL));
    for (uint64_t ms = 20; ms < 4000; ms += 20) {
        push_made_up(&seed);
        kit_frame(&k, ms);
    }
    ck_assert_uint_gt(compared, 1000);
    kit_close(&k);
}
END_TEST

/* Who is in the way, in words: a mouse at (105, 5), a key. */
START_TEST(routed_elsewhere)
{
    static const struct {
        bool capture, key, no_probe;
        const char *says;
    } table[] = {
        {false, false, false, "outside "},
        {true, false, false, "captured@crane outside "},
        {false, true, false, "focus@crane "},
        {false, false, true, "path@crane "},
    };
    ikv_obstacle why[4];
    ikv_target none = {0};
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    lamp = rect_target(k.scene, none, 0, 0, 10, 10, 0);
    crane = rect_target(k.scene, none, 100, 0, 10, 10, 0);
    quay = none;
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.x = 105;
    e.pointer.y = 5;
    e.pointer.button = 0;
    ikv_router *router = k.router;
    if (table[_i].no_probe) {
        ikv_router_config config = IKV_ROUTER_INIT;
        config.bus = k.bus;
        config.memory = ikv_host_memory();
        config.picking = ikv_kit_picking(k.scene);
        config.picking.probe = NULL;
        ok(ikv_router_open(&config, &router));
    }
    ok(ikv_router_route(router, &e).status);
    if (table[_i].capture) {
        ok(ikv_router_capture(router, &e, crane));
        e.kind = IKV_KIND_POINTER_MOVE;
        e.pointer.button = -1;
        ok(ikv_router_route(router, &e).status);
    }
    ok(ikv_scene_set_traits(k.scene, crane, IKV_FOCUSABLE));
    ok(ikv_router_focus(router, 0, crane));
    if (table[_i].key)
        e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    uint32_t count = ikv_router_probe(router, &e, lamp, why, 4);
    found.text[0] = '\0';
    for (uint32_t i = 0; i < count; i++)
        note(&found, "%s%s ", ikv_obstacle_name(why[i].code),
             why[i].by.bits == crane.bits ? "@crane" : "");
    ck_assert_str_eq(found.text, table[_i].says);
    ck_assert_uint_eq(ikv_router_probe(router, &e, crane, why, 4), 0);
    e = ikv_event_make(IKV_KIND_DEVICE_ADD, 0);
    e.target = crane;
    ck_assert_uint_eq(ikv_router_probe(router, &e, lamp, why, 4), 1);
    ck_assert_uint_eq(why[0].code, IKV_WHY_PATH);
    ck_assert_uint_eq(ikv_router_probe(router, &e, crane, why, 4), 0);
    ck_assert_uint_eq(ikv_router_probe(router, &e, none, why, 4), 1);
    ck_assert_uint_eq(why[0].code, IKV_WHY_STALE);
    if (table[_i].no_probe)
        ok(ikv_router_close(router));
    kit_close(&k);
}
END_TEST

static const struct {
    ikv_kind kind;
    uint8_t type;
    uint32_t obstacles;
} finger_table[] = {{IKV_KIND_POINTER_DOWN, IKV_TOUCH, 0},
                    {IKV_KIND_POINTER_DOWN, IKV_PEN, 1},
                    {IKV_KIND_POINTER_CLICK, IKV_TOUCH, 0},
                    {IKV_KIND_POINTER_CLICK, IKV_PEN, 1},
                    {IKV_KIND_DRAG_ENTER, IKV_TOUCH, 0},
                    {IKV_KIND_DRAG_ENTER, IKV_MOUSE, 1},
                    {IKV_KIND_WHEEL, IKV_TOUCH, 0},
                    {IKV_KIND_WHEEL, IKV_MOUSE, 1}};

/* HIT1: whose margin counts is said by each kind itself. */
START_TEST(asked_of_fingers)
{
    ikv_target_config margin = IKV_TARGET_INIT;
    ikv_obstacle why[4];
    kit_prepare(&k);
    kit_open(&k);
    margin.shape = ikv_scene_rect(0, 0, 10, 10);
    margin.grace = 10;
    ok(ikv_scene_add(k.scene, &margin, &lamp, NULL));
    ikv_event e = ikv_event_make(finger_table[_i].kind, 0);
    e.pointer.x = 15;
    e.pointer.y = 5;
    if (e.kind == IKV_KIND_DRAG_ENTER)
        e.drag.type = finger_table[_i].type;
    else if (e.kind == IKV_KIND_WHEEL)
        e.wheel.type = finger_table[_i].type;
    else
        e.pointer.type = finger_table[_i].type;
    ck_assert_uint_eq(ikv_router_probe(k.router, &e, lamp, why, 4),
                      finger_table[_i].obstacles);
    kit_close(&k);
}
END_TEST

/* ----------------------------------------------------------------- overlaps -- */

static void change_one(uint64_t *seed)
{
    ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    ikv_target t = boxes[random_below(seed, BOXES)];
    ikv_sensing sensing = IKV_SENSING_INIT;
    switch (random_below(seed, 6)) {
    case 0:
        ok(ikv_scene_show(k.scene, t, random_below(seed, 3) != 0));
        break;
    case 1:
        ok(ikv_overlaps_enable(overlaps, t, random_below(seed, 3) != 0));
        break;
    case 2:
        sensing.senses = random_below(seed, 4);
        ok(ikv_overlaps_sense(overlaps, t, &sensing));
        break;
    case 3:
        ok(ikv_scene_set_tags(k.scene, t, random_below(seed, 4)));
        break;
    default:
        ok(ikv_scene_move(k.scene, t, (float)random_below(seed, 60),
                          (float)random_below(seed, 60)));
    }
}

static uint32_t touching;

/* O1, O4: who has nothing in the way is in contact after the step, and nobody
 * else is, whichever of the two one asks first. */
static void compare_overlaps(void)
{
    const ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    for (int a = 0; a < BOXES; a++)
        for (int b = 0; b < a; b++) {
            ikv_obstacle why[6];
            bool touches = ikv_overlaps_touches(overlaps, boxes[a], boxes[b]) ||
                           ikv_overlaps_touches(overlaps, boxes[b], boxes[a]);
            uint32_t count =
                ikv_overlaps_probe(overlaps, boxes[a], boxes[b], why, 6);
            ck_assert_msg((count == 0) == touches, "%d %d: %u, %s", a, b, count,
                          count > 0 ? ikv_obstacle_name(why[0].code) : "");
            ck_assert_uint_eq(
                ikv_overlaps_probe(overlaps, boxes[b], boxes[a], NULL, 0),
                count);
            touching += touches;
        }
}

START_TEST(overlapping)
{
    uint64_t seed = 5000 + (uint64_t)_i;
    touching = 0;
    kit_prepare(&k);
    k.config.scene.layers = 2;
    k.config.loop.step_num = 50;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < BOXES; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        ikv_sensing sensing = IKV_SENSING_INIT;
        config.layer = i == 3;
        if (i % 3 != 0 && i != 4)
            config.parent = boxes[random_below(&seed, (uint32_t)i)];
        config.shape = i == 7  ? (ikv_shape){.type = IKV_SHAPE_NONE}
                       : i % 2 ? ikv_scene_circle(0, 0, 12)
                               : ikv_scene_rect(0, 0, 20, 20);
        config.body = i == 2;
        config.tags = 1 + random_below(&seed, 3);
        ok(ikv_scene_add(k.scene, &config, &boxes[i], NULL));
        sensing.senses = 3;
        ok(ikv_overlaps_sense(ikv_kit_overlaps(k.kit), boxes[i], &sensing));
    }
    for (uint64_t ms = 20; ms < 3000; ms += 20) {
        change_one(&seed);
        kit_frame(&k, ms);
        compare_overlaps();
    }
    ck_assert_uint_gt(touching, 100);
    kit_close(&k);
}
END_TEST

/* O1: with room for the one pair that there is, and no more. */
START_TEST(one_pair)
{
    ikv_target none = {0};
    ikv_sensing sensing = IKV_SENSING_INIT;
    kit_prepare(&k);
    k.config.overlaps.pairs = 1;
    kit_open(&k);
    ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    quay = rect_target(k.scene, none, 0, 0, 10, 10, 0);
    crane = rect_target(k.scene, none, 5, 5, 10, 10, 0);
    ok(ikv_scene_set_tags(k.scene, crane, 1));
    sensing.senses = 1;
    ok(ikv_overlaps_sense(overlaps, quay, &sensing));
    kit_frame(&k, 0);
    kit_frame(&k, 20);
    ck_assert(ikv_overlaps_touches(overlaps, quay, crane));
    ck_assert_uint_eq(overlaps_counts(overlaps).scans, 0);
    kit_close(&k);
}
END_TEST

/* Each alone, and of what is in no scene. */
START_TEST(apart)
{
    ikv_target none = {0};
    ikv_obstacle why[6] = {{0}};
    ikv_sensing sensing = IKV_SENSING_INIT;
    kit_prepare(&k);
    kit_open(&k);
    ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    quay = rect_target(k.scene, none, 0, 0, 10, 10, 0);
    crane = rect_target(k.scene, none, 33, 14, 10, 10, 0);
    ok(ikv_scene_set_tags(k.scene, crane, 2));
    sensing.senses = 1;
    ok(ikv_overlaps_sense(overlaps, quay, &sensing));
    ck_assert_uint_eq(ikv_overlaps_probe(overlaps, quay, crane, why, 6), 2);
    ck_assert_uint_eq(why[0].code, IKV_WHY_SENSES);
    ck_assert_uint_eq(why[1].code, IKV_WHY_APART);
    ck_assert_double_eq_tol(why[1].found.bits.number, sqrt(23 * 23 + 4 * 4),
                            1e-5);
    /* Two circles, one above the other; and one that is shrunk to nothing. */
    ikv_shape circle = ikv_scene_circle(0, 0, 2);
    ok(ikv_scene_set_shape(k.scene, quay, &circle));
    ok(ikv_scene_set_shape(k.scene, crane, &circle));
    ok(ikv_scene_move(k.scene, quay, 0, 5));
    ok(ikv_scene_move(k.scene, crane, 0, -5));
    ck_assert_uint_eq(ikv_overlaps_probe(overlaps, quay, crane, why, 6), 2);
    ck_assert_float_eq((float)why[1].found.bits.number, 6);
    ikv_query query = IKV_QUERY_INIT;
    query.y = 5;
    ck_assert_uint_eq(ikv_scene_probe(k.scene, &query, quay, why, 6), 0);
    ikv_target tiny[3] = {quay, none, none};
    for (int i = 1; i < 3; i++) {
        tiny[i] = rect_target(k.scene, tiny[i - 1], 0, 0, 10, 10, 0);
        ok(ikv_scene_resize(k.scene, tiny[i], 1e-6f));
    }
    ck_assert_uint_eq(ikv_scene_probe(k.scene, &query, tiny[2], why, 6), 1);
    ck_assert_uint_eq(why[0].code, IKV_WHY_OUTSIDE);
    ck_assert_uint_eq(why[0].found.type, IKV_VALUE_NONE);
    ok(ikv_bus_add_target(k.bus, 9, &lamp));
    ok(ikv_overlaps_sense(overlaps, lamp, &sensing));
    ok(ikv_scene_set_tags(k.scene, quay, 1));
    ck_assert_uint_eq(ikv_overlaps_probe(overlaps, lamp, quay, why, 6), 1);
    ck_assert_uint_eq(why[0].code, IKV_WHY_NOT_REPORTED);
    kit_frame(&k, 0);
    ok(ikv_overlaps_report(overlaps, lamp, quay, NULL));
    kit_frame(&k, 20);
    ck_assert_uint_eq(ikv_overlaps_probe(overlaps, lamp, quay, why, 6), 0);
    ok(ikv_scene_remove(k.scene, crane));
    ck_assert_uint_eq(ikv_overlaps_probe(overlaps, quay, crane, why, 6), 1);
    ck_assert_uint_eq(why[0].code, IKV_WHY_STALE);
    ck_assert_uint_eq(why[0].by.bits, crane.bits);
    kit_close(&k);
}
END_TEST

/* Parents before children, the lowest sibling first. */
START_TEST(walked)
{
    ikv_target none = {0};
    kit_prepare(&k);
    kit_open(&k);
    ck_assert_uint_eq(ikv_scene_next(k.scene, none, none).bits, 0);
    ikv_target a = rect_target(k.scene, none, 0, 0, 9, 9, 2);
    ikv_target b = rect_target(k.scene, none, 0, 0, 9, 9, 1);
    ikv_target c = rect_target(k.scene, a, 0, 0, 9, 9, 0);
    ikv_target d = rect_target(k.scene, a, 0, 0, 9, 9, -1);
    const ikv_target all[] = {b, a, d, c}, under[] = {a, d, c};
    ikv_target at = none;
    for (int i = 0; i < 4; i++) {
        at = ikv_scene_next(k.scene, none, at);
        ck_assert_uint_eq(at.bits, all[i].bits);
    }
    ck_assert_uint_eq(ikv_scene_next(k.scene, none, at).bits, 0);
    for (int i = 0; i < 3; i++) {
        at = ikv_scene_next(k.scene, a, i == 0 ? none : at);
        ck_assert_uint_eq(at.bits, under[i].bits);
    }
    ck_assert_uint_eq(ikv_scene_next(k.scene, a, at).bits, 0);
    ok(ikv_scene_remove(k.scene, c));
    ck_assert_uint_eq(ikv_scene_next(k.scene, a, c).bits, 0);
    ck_assert_uint_eq(ikv_scene_next(k.scene, c, none).bits, 0);
    ck_assert_uint_eq(ikv_scene_next(NULL, none, none).bits, 0);
    kit_close(&k);
}
END_TEST

/* The last two: what can't be asked has no answer. */
START_TEST(odd_questions)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_delivery nowhere = {.path_length = 1}, at = {.path = &lamp};
    open_bus();
    ck_assert_uint_eq(ikv_bus_probe(bus, asked, &e, &nowhere, NULL, 0), 0);
    ck_assert_uint_eq(ikv_bus_probe(bus, asked, &e, &at, NULL, 0), 0);
    at.path_length = 1;
    asked.bits = 77;
    ck_assert_uint_eq(ikv_bus_probe(bus, asked, &e, &at, NULL, 9), 1);
    ck_assert_str_eq(ikv_obstacle_name(IKV_WHY_COVERED), "covered");
    ck_assert_str_eq(ikv_obstacle_name(999), "unknown");
    ck_assert_str_eq(ikv_obstacle_text(0), "unknown");
    ck_assert_ptr_nonnull(strstr(ikv_obstacle_text(IKV_WHY_GAP), "recent"));
    ikv_bus_close(bus);
}
END_TEST

Suite *probe_suite(void)
{
    Suite *s = suite_create("probe");
    add_table(s, "D7 subscriptions", subscriptions, ROWS(probe_table));
    add_table(s, "PATH3 spaces are asked", spaces_are_asked, ROWS(asked_table));
    add_table(s, "D7 no source", no_source, ROWS(source_table));
    add(s, "D7 listening", listening);
    add_table(s, "HIT1 CAP3 F2 routed", routed, 40);
    add_table(s, "HIT1 CAP3 F2 routed elsewhere", routed_elsewhere, 4);
    add_table(s, "HIT1 asked of fingers", asked_of_fingers, ROWS(finger_table));
    add_table(s, "O1 O4 overlapping", overlapping, 30);
    add(s, "O1 one pair", one_pair);
    add(s, "O1 O4 O6 apart", apart);
    add(s, "HIT1 walked", walked);
    add(s, "D7 odd questions", odd_questions);
    return s;
}
