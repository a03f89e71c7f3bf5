/* test_router.c - the golden cases of routing.txt, and wrong use. */
#include "support.h"

#include <math.h>

enum {
    CASES = 80,
    LINES = 32,
    NAMES = 10,
    RULES = 6
};

typedef struct golden {
    char rule[96];
    char lines[LINES][160];
    int count;
} golden;

static golden cases[CASES];
static int case_count;

static void load_cases(void)
{
    FILE *file = fopen(SOURCE "/tests/golden/routing.txt", "r");
    char line[200];
    golden *g = NULL;
    while (file != NULL && fgets(line, sizeof line, file) != NULL) {
        line[strcspn(line, "\n")] = '\0';
        if (line[0] == '#' || line[0] == '\0')
            continue;
        if (strncmp(line, "case ", 5) == 0) {
            g = &cases[case_count++];
            snprintf(g->rule, sizeof g->rule, "%.90s", line + 5);
        } else if (g != NULL && g->count < LINES) {
            snprintf(g->lines[g->count++], 160, "%.159s", line);
        }
    }
    if (file != NULL)
        fclose(file);
}

/* ------------------------------------------------------------- one case -- */

typedef struct rule {
    char at[40], action[16], argument[16];
    float x, y;
} rule;

typedef struct play {
    bench_kit k;
    record seen;
    struct {
        char name[16];
        ikv_target target;
        bool used;
    } names[NAMES];
    rule rules[RULES];
    int rule_count;
    uint64_t ms;
    float x, y;
    struct {
        char at[40];
        int button, buttons;
    } last[64];
    int last_count;
} play;

static play *now;

static ikv_target target_named(const char *name)
{
    for (int i = 0; i < NAMES; i++)
        if (now->names[i].used && strcmp(now->names[i].name, name) == 0)
            return now->names[i].target;
    return ikv_bus_root(now->k.bus);
}

static const char *short_kind(ikv_kind kind)
{
    const char *name = ikv_catalogue_info(NULL, kind)->name;
    if (strncmp(name, "pointer.capture_", 16) == 0)
        return name + 16;
    return strncmp(name, "pointer.", 8) == 0 ? name + 8 : name;
}

static ikv_verdict do_rule(const rule *r, const ikv_event *event,
                           const ikv_delivery *delivery)
{
    ikv_target target = target_named(r->argument);
    if (strcmp(r->action, "stop") == 0)
        return IKV_STOP;
    if (strcmp(r->action, "stop_all") == 0)
        return IKV_STOP_ALL;
    if (strcmp(r->action, "refuse") == 0)
        return IKV_REFUSE;
    if (strcmp(r->action, "capture") == 0)
        ikv_router_capture(delivery->router, event, target);
    else if (strcmp(r->action, "release") == 0)
        ikv_router_release(delivery->router, event, target);
    else if (strcmp(r->action, "remove") == 0)
        ok(ikv_scene_remove(now->k.scene, target));
    else if (strcmp(r->action, "move") == 0)
        ok(ikv_scene_move(now->k.scene, target, r->x, r->y));
    else if (strcmp(r->action, "focus") == 0)
        ok(ikv_router_focus(now->k.router, target));
    return IKV_CONTINUE;
}

static ikv_verdict see(const ikv_event *event, const ikv_delivery *delivery,
                       void *name)
{
    char at[40];
    ikv_verdict verdict = 0;
    snprintf(at, sizeof at, "%s@%s", short_kind(event->kind),
             (const char *)name);
    note(&now->seen, "%s ", at);
    ck_assert_uint_eq(delivery->current.bits, event->target.bits);
    ck_assert_ptr_eq(delivery->router, now->k.router);
    if (now->last_count < 64) {
        snprintf(now->last[now->last_count].at, 40, "%s", at);
        now->last[now->last_count].button = event->pointer.button;
        now->last[now->last_count++].buttons = event->pointer.buttons;
    }
    for (int i = 0; i < now->rule_count; i++)
        if (strcmp(now->rules[i].at, at) == 0)
            verdict |= do_rule(&now->rules[i], event, delivery);
    return verdict;
}

static void listen_at(ikv_target target, const char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.families = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK |
                      1u << IKV_FAMILY_FOCUS | 1u << IKV_FAMILY_KEY |
                      1u << IKV_FAMILY_WHEEL;
    config.phases = IKV_AT_TARGET;
    config.at = target;
    config.handler = see;
    config.user = (void *)(uintptr_t)name;
    ok(ikv_bus_subscribe(now->k.bus, &config, NULL, NULL));
}

static void add_target_line(const char *line)
{
    ikv_target_config config = IKV_TARGET_INIT;
    char name[16], words[4][16] = {"", "", "", ""};
    float x, y, w, h;
    int got = sscanf(line, "target %15s %f %f %f %f %15s %15s %15s %15s", name,
                     &x, &y, &w, &h, words[0], words[1], words[2], words[3]);
    ck_assert_msg(got >= 5, "%s", line);
    config.x = x;
    config.y = y;
    config.shape = ikv_scene_rect(0, 0, w, h);
    for (int i = 0; i < 4; i++) {
        if (strcmp(words[i], "in") == 0)
            config.parent = target_named(words[i + 1]);
        if (strcmp(words[i], "pass") == 0)
            config.hit = IKV_HIT_PASS;
        if (strcmp(words[i], "off") == 0)
            config.hit = IKV_HIT_OFF;
        if (strcmp(words[i], "captures") == 0)
            config.traits |= IKV_CAPTURES;
        if (strcmp(words[i], "focusable") == 0)
            config.traits |= IKV_FOCUSABLE;
    }
    int i = 0;
    while (now->names[i].used)
        i++;
    now->names[i].used = true;
    snprintf(now->names[i].name, 16, "%s", name);
    ok(ikv_scene_add(now->k.scene, &config, &now->names[i].target, NULL));
    listen_at(now->names[i].target, now->names[i].name);
}

static void push(ikv_event *event)
{
    event->time_ns = 7000000000 + now->ms * 1000000;
    event->device = now->k.fake.device;
    ok(ikv_sink_push(now->k.fake.sink, event));
    now->ms += 20;
    ck_assert_int_ge(kit_frame(&now->k, now->ms), 0);
}

static void push_pointer(ikv_kind kind, uint8_t type, int id, float x, float y,
                         int button)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.pointer.type = type;
    event.pointer.pointer = (uint16_t)id;
    event.pointer.x = x;
    event.pointer.y = y;
    event.pointer.button = (int8_t)button;
    push(&event);
}

static void do_input(const char *line)
{
    char verb[16], name[32] = "";
    float a = 0, b = 0, c = 0;
    sscanf(line, "do %15s %f %f %f", verb, &a, &b, &c);
    sscanf(line, "do %*s %31s", name);
    ikv_event event;
    if (strcmp(verb, "mouse") == 0) {
        now->x = a;
        now->y = b;
        push_pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 0, a, b, -1);
    } else if (strcmp(verb, "down") == 0) {
        push_pointer(IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, now->x, now->y,
                     (int)a);
    } else if (strcmp(verb, "downat") == 0) {
        push_pointer(IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, a, b, 0);
    } else if (strcmp(verb, "up") == 0) {
        push_pointer(IKV_KIND_POINTER_UP, IKV_MOUSE, 0, now->x, now->y, (int)a);
    } else if (strcmp(verb, "leave") == 0) {
        push_pointer(IKV_KIND_POINTER_LEAVE, IKV_MOUSE, 0, now->x, now->y, -1);
    } else if (strcmp(verb, "touch") == 0 || strcmp(verb, "drag") == 0) {
        bool down = verb[0] == 't';
        now->x = b;
        now->y = c;
        push_pointer(down ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_MOVE,
                     IKV_TOUCH, (int)a, b, c, down ? 0 : -1);
    } else if (strcmp(verb, "lift") == 0) {
        push_pointer(IKV_KIND_POINTER_UP, IKV_TOUCH, (int)a, now->x, now->y, 0);
    } else if (strcmp(verb, "lose") == 0) {
        push_pointer(IKV_KIND_POINTER_CANCEL, IKV_TOUCH, (int)a, 0, 0, -1);
    } else if (strcmp(verb, "wheel") == 0) {
        event = ikv_event_make(IKV_KIND_WHEEL, 0);
        event.wheel.x = a;
        event.wheel.y = b;
        push(&event);
    } else if (strcmp(verb, "wait") == 0) {
        now->ms += 20;
        kit_frame(&now->k, now->ms);
    } else {
        ck_assert_msg(strstr(verb, "key") != NULL, "%s", line);
        event = ikv_event_make(
            verb[0] == 'k' ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP, 0);
        event.key.code = ikv_code_find(name);
        push(&event);
    }
    valid(ikv_router_validate(now->k.router));
}

static void check_fields(const char *line, const char *rule_name)
{
    char at[40];
    int button, buttons;
    ck_assert_int_eq(sscanf(line, "fields %39s %d/%d", at, &button, &buttons),
                     3);
    for (int i = now->last_count - 1; i >= 0; i--) {
        if (strcmp(now->last[i].at, at) != 0)
            continue;
        ck_assert_msg(
            now->last[i].button == button && now->last[i].buttons == buttons,
            "%s: %s is %d/%d, expected %d/%d", rule_name, at,
            now->last[i].button, now->last[i].buttons, button, buttons);
        return;
    }
    ck_abort_msg("%s: no %s", rule_name, at);
}

static void add_rule(const char *line)
{
    rule *r = &now->rules[now->rule_count++];
    int got = sscanf(line, "on %39s %15s %15s %f %f", r->at, r->action,
                     r->argument, &r->x, &r->y);
    ck_assert_int_ge(got, 2);
}

START_TEST(golden_routing)
{
    const golden *g = &cases[_i];
    now = calloc(1, sizeof *now);
    kit_prepare(&now->k);
    now->k.config.loop.step_num = 50; /* one step a frame */
    kit_open(&now->k);
    kit_frame(&now->k, 0);
    listen_at((ikv_target){0}, "root");
    bool expected = false;
    for (int i = 0; i < g->count; i++) {
        const char *line = g->lines[i];
        if (strncmp(line, "target ", 7) == 0)
            add_target_line(line);
        else if (strncmp(line, "on ", 3) == 0)
            add_rule(line);
        else if (strncmp(line, "do ", 3) == 0)
            do_input(line);
        else if (strcmp(line, "clear") == 0)
            now->seen.text[0] = '\0';
        else if (strncmp(line, "fields ", 7) == 0)
            check_fields(line, g->rule);
        else if (strncmp(line, "expect ", 7) == 0) {
            size_t length = strlen(now->seen.text);
            if (length > 0)
                now->seen.text[length - 1] = '\0';
            ck_assert_msg(strcmp(now->seen.text, line + 7) == 0,
                          "%s:\n     got %s\nexpected %s", g->rule,
                          now->seen.text, line + 7);
            expected = true;
        } else
            ck_abort_msg("%s: %s", g->rule, line);
    }
    ck_assert(expected);
    kit_close(&now->k);
    free(now);
}
END_TEST

/* ------------------------------------------------------------ wrong use -- */

static ikv_event pointer_event(ikv_kind kind, uint8_t type, float x, int button)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.pointer.type = type;
    event.pointer.x = x;
    event.pointer.button = (int8_t)button;
    return event;
}

static const struct {
    ikv_kind kind;
    uint8_t type;
    float x;
    int button;
    ikv_status status;
} refusal_table[] = {
    {IKV_KIND_POINTER_UP, IKV_MOUSE, 0, 0, IKV_ABSENT},
    {IKV_KIND_POINTER_UP, IKV_TOUCH, 0, 0, IKV_ABSENT},
    {IKV_KIND_POINTER_MOVE, IKV_TOUCH, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_CANCEL, IKV_TOUCH, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_LEAVE, IKV_MOUSE, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, 99, IKV_ABSENT},
    {IKV_KIND_POINTER_MOVE, IKV_MOUSE, NAN, -1, IKV_BAD_VALUE},
    {IKV_KIND_POINTER_MOVE, IKV_MOUSE, INFINITY, -1, IKV_BAD_VALUE},
    {IKV_KIND_WHEEL, IKV_MOUSE, -INFINITY, 0, IKV_BAD_VALUE},
    {999, 0, 0, 0, IKV_UNKNOWN_KIND},
};

START_TEST(refused_events)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_event event =
        pointer_event(refusal_table[_i].kind, refusal_table[_i].type,
                      refusal_table[_i].x, refusal_table[_i].button);
    status_is(ikv_router_route(k.router, &event).status,
              refusal_table[_i].status);
    ikv_router_counters n = ikv_router_count(k.router);
    ck_assert_uint_eq(n.routed, 0);
    ck_assert_uint_eq(n.pointers, 0);
    ck_assert_uint_eq(n.meaningless, refusal_table[_i].status == IKV_ABSENT);
    ck_assert_uint_eq(n.not_finite, refusal_table[_i].status == IKV_BAD_VALUE);
    kit_close(&k);
}
END_TEST

/* Duplicated downs, too many touches: refused and counted, the rest goes on. */
START_TEST(too_many_pointers)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.router.pointers = 3;
    kit_open(&k);
    for (int i = 0; i < 5; i++) {
        ikv_event e = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 0, 0);
        e.pointer.pointer = (uint16_t)i;
        status_is(ikv_router_route(k.router, &e).status,
                  i < 3 ? IKV_OK : IKV_FULL_POINTERS);
        status_is(ikv_router_route(k.router, &e).status,
                  i < 3 ? IKV_ABSENT : IKV_FULL_POINTERS);
    }
    for (int i = 0; i < 3; i++) {
        ikv_event e = pointer_event(IKV_KIND_POINTER_UP, IKV_TOUCH, 0, 0);
        e.pointer.pointer = (uint16_t)i;
        ok(ikv_router_route(k.router, &e).status);
    }
    ikv_router_counters n = ikv_router_count(k.router);
    ck_assert_uint_eq(n.pointers, 0);
    ck_assert_uint_eq(n.pointers_high, 3);
    ck_assert_uint_eq(n.too_many, 4);
    ck_assert_uint_eq(n.meaningless, 3);
    kit_close(&k);
}
END_TEST

static ikv_verdict route_inside(const ikv_event *event,
                                const ikv_delivery *delivery, void *user)
{
    (void)user;
    status_is(ikv_router_route(delivery->router, event).status, IKV_BUSY);
    status_is(ikv_router_capture(delivery->router, event, (ikv_target){0x4000}),
              IKV_STALE);
    return IKV_CONTINUE;
}

START_TEST(wrong_calls)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_event e = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 0, 0);
    ikv_target root = ikv_bus_root(k.bus), none = {0};
    ikv_router *router;
    ikv_router_config config = IKV_ROUTER_INIT;
    status_is(ikv_router_open(NULL, &router), IKV_BAD_ARGUMENT);
    status_is(ikv_router_open(&config, &router), IKV_BAD_CONFIG);
    config.bus = k.bus;
    status_is(ikv_router_open(&config, &router), IKV_BAD_CONFIG);
    config.picking = ikv_kit_picking(k.scene);
    status_is(ikv_router_open(&config, &router), IKV_NO_MEMORY);
    config.picking.size = 1;
    status_is(ikv_router_open(&config, &router), IKV_BAD_SIZE);
    status_is(ikv_router_capture(k.router, &e, root), IKV_BAD_ARGUMENT);
    status_is(ikv_router_release(k.router, &e, root), IKV_BAD_ARGUMENT);
    status_is(ikv_router_capture(NULL, &e, root), IKV_BAD_ARGUMENT);
    ck_assert(!ikv_router_has_capture(k.router, &e, root));
    ok(ikv_bus_hear(k.bus, e.kind, none, route_inside, NULL, NULL));
    ok(ikv_router_route(k.router, &e).status);
    ck_assert_uint_eq(ikv_router_count(k.router).busy, 1);
    ck_assert(ikv_router_has_capture(k.router, &e, root));
    status_is(ikv_router_release(k.router, &e, none), IKV_ABSENT);
    status_is(ikv_router_focus(k.router, (ikv_target){99}), IKV_STALE);
    status_is(ikv_router_focus(k.router, root), IKV_ABSENT);
    status_is(ikv_router_blur(k.router), IKV_ABSENT);
    status_is(ikv_router_route(NULL, &e).status, IKV_BAD_ARGUMENT);
    ikv_router_retest(NULL, 0);
    ikv_router_removed(NULL, root, root);
    kit_close(&k);
}
END_TEST

Suite *router_suite(void)
{
    Suite *s = suite_create("router");
    load_cases();
    add_table(s, "golden cases", golden_routing,
              case_count > 0 ? case_count : 1);
    add_table(s, "refused", refused_events, ROWS(refusal_table));
    add(s, "TOUCH many", too_many_pointers);
    add(s, "wrong use", wrong_calls);
    return s;
}
