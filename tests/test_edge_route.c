/* test_edge_route.c - what the golden cases of routing can't say: limits,
 * several routers, actions, overlaps. Each case is named by its entry in
 * docs/reliability.md. */
#include "support.h"

#include <math.h>

static bench_kit k;
static record seen;

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    (void)d;
    note(&seen, "%s%s@%u ", user != NULL ? (const char *)user : "",
         ikv_catalogue_info(NULL, event->kind)->name,
         ikv_bus_target_id(k.bus, event->target));
    return IKV_CONTINUE;
}

static ikv_event pointer(ikv_kind kind, uint8_t type, uint16_t id, float x,
                         float y)
{
    ikv_event e = ikv_event_make(kind, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.type = type;
    e.pointer.pointer = id;
    e.pointer.x = x;
    e.pointer.y = y;
    return e;
}

static void push(const ikv_event *e)
{
    ok(ikv_sink_push(k.fake.sink, e));
}

/* ---------------------------------------------------------- 30, 31 limits --
 */

/* HIT5: up to 2^30 answers are exact, with and without an index; beyond it
 * what is asked or placed is refused. */
static const struct {
    float x, y, size, ask_x, ask_y, radius;
    bool hit;
} far_table[] = {
    {1073741824, 0, 100, 1073741824, 50, 0, true},
    {-1073741824, 0, 256, -1073741824, 0, 0, true},
    {0, 0, 1073741824, 1.0737e9f, 5, 0, true},
    {0, 0, 1073741824, -128, 5, 0, false},
    {-1e9f, -1e9f, 100, 1e9f, 1e9f, 1e9f, false},
    {-1e9f, 0, 100, 1e9f, 0, 1e9f, false},
    {0, 0, 100, 3e38f, 0, 0, false},
    {0, 0, 100, 50, 50, 3e38f, false},
    {0, 0, 100, 1e9f, 0, 1.07e9f, true},
};

START_TEST(far_away)
{
    for (int plain = 0; plain < 2; plain++)
        for (int shape = 0; shape < 3; shape++) {
            kit_prepare(&k);
            k.config.scene.plain = plain;
            kit_open(&k);
            ikv_target_config t = IKV_TARGET_INIT;
            ikv_target one;
            float s = far_table[_i].size;
            float square[] = {0, 0, s, 0, s, s, 0, s};
            t.x = far_table[_i].x;
            t.y = far_table[_i].y;
            t.shape = shape == 0   ? ikv_scene_rect(0, 0, s, s)
                      : shape == 1 ? ikv_scene_polygon(square, 4)
                                   : ikv_scene_capsule(0, 0, s, s, s / 2);
            ok(ikv_scene_add(k.scene, &t, &one, NULL));
            for (int i = 0; i < 300; i++) /* for an index */
                rect_target(k.scene, (ikv_target){0}, (float)i * 20, -5000, 9,
                            9, -1);
            ikv_target hit =
                pick_at(k.scene, far_table[_i].ask_x, far_table[_i].ask_y,
                        far_table[_i].radius, 0);
            bool corner = shape == 2 && fabsf(far_table[_i].ask_y - 5) < 1;
            if (!corner)
                ck_assert_msg((hit.bits == one.bits) == far_table[_i].hit,
                              "shape %d plain %d", shape, plain);
            kit_close(&k);
        }
}
END_TEST

/* What a camera throws beyond 2^30 is hit nowhere, on neither side, by no
 * question; a radius neither. */
static const struct {
    float x, y, zoom, radius, width;
} thrown_table[] = {{2, 0, 1e-9f, 0, 0},  {-2, 0, 1e-9f, 0, 0},
                    {0, 2, 1e-9f, 0, 0},  {0, -2, 1e-9f, 0, 0},
                    {0, 0, 1e-9f, 2, 0},  {0, 0, 1e-9f, 0, 2},
                    {0, -2, 1e-9f, 0, 2}, {-2, 0, 1e-9f, 0, 1}};

START_TEST(thrown_far)
{
    kit_open(&k);
    ikv_target found[2], big = {0};
    ikv_target_config t = IKV_TARGET_INIT;
    t.shape = ikv_scene_circle(0, 0, 1e9f);
    ok(ikv_scene_add(k.scene, &t, &big, NULL));
    ikv_camera camera = {.zoom = thrown_table[_i].zoom};
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    ikv_query query = IKV_QUERY_INIT;
    ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits, big.bits);
    query.x = thrown_table[_i].x;
    query.y = thrown_table[_i].y;
    query.radius = thrown_table[_i].radius;
    float width = thrown_table[_i].width;
    if (width == 0) {
        ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits, 0);
        ck_assert_uint_eq(ikv_scene_pick_all(k.scene, &query, found, 2), 0);
        ikv_obstacle why = {0};
        ck_assert_uint_eq(ikv_scene_probe(k.scene, &query, big, &why, 1), 1);
        ck_assert_uint_eq(why.code, IKV_WHY_NO_VIEW);
    }
    if (thrown_table[_i].radius == 0) {
        ck_assert_uint_eq(
            ikv_scene_pick_rect(k.scene, &query, width, width, found, 2), 0);
        query.skip_body = (ikv_target){77}; /* nobody's */
        ck_assert_uint_eq(
            ikv_scene_pick_rect(k.scene, &query, width, width, found, 2), 0);
    }
    kit_close(&k);
}
END_TEST

/* Shapes shrunk or grown by their ancestors out of all numbers are hit nowhere;
 * within them where they are. */
START_TEST(nested_scales)
{
    static const float scales[] = {1e-9f, 1e9f, 1e-5f, 1e5f};
    kit_open(&k);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target at = {0};
    for (int i = 0; i < 6; i++) {
        t.parent = at;
        t.scale = scales[_i];
        ok(ikv_scene_add(k.scene, &t, &at, NULL));
        t.parent = at;
        t.scale = 0;
        t.shape = ikv_scene_circle(0, 0, 1);
        ikv_target leaf;
        ok(ikv_scene_add(k.scene, &t, &leaf, NULL));
        t.shape = (ikv_shape){0};
    }
    for (float x = 1e9f; x > 1e8f; x /= 2)
        ck_assert(pick_at(k.scene, x, x, 0, 0).bits == 0 || scales[_i] > 1);
    ck_assert_uint_eq(pick_at(k.scene, -7e8f, 0, 1, 0).bits,
                      scales[_i] > 1e8f ? pick_at(k.scene, 0, 0, 0, 0).bits
                                        : 0);
    kit_close(&k);
}
END_TEST

static const struct {
    float x, scale, width, zoom;
} refused_table[] = {{1.1e9f, 0, 1, 0}, {-1.1e9f, 0, 1, 0}, {0, 1e-10f, 1, 0},
                     {0, 1.1e9f, 1, 0}, {0, -0.5f, 1, 0},   {0, 0, 1.1e9f, 0},
                     {0, 0, 1, 1e-10f}, {0, 0, 1, 2e9f},    {NAN, 0, 1, 0},
                     {0, NAN, 1, 0},    {0, 0, NAN, 0},     {0, 0, 1, NAN}};

START_TEST(too_far)
{
    kit_open(&k);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target target;
    ikv_message message;
    t.x = refused_table[_i].x;
    t.scale = refused_table[_i].scale;
    t.shape = ikv_scene_rect(0, 0, refused_table[_i].width, 1);
    ikv_camera camera = {.zoom = refused_table[_i].zoom};
    bool zooms = refused_table[_i].zoom != 0;
    ikv_status status = zooms ? ikv_scene_set_camera(k.scene, 0, 0, &camera)
                              : ikv_scene_add(k.scene, &t, &target, &message);
    status_is(status, IKV_BAD_ARGUMENT);
    ck_assert_msg(zooms || strstr(message.text, "2^30") != NULL, "%s",
                  message.text);
    ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 0, 1.1e9f, 0);
    status_is(ikv_sink_push(k.fake.sink, &e), IKV_BAD_VALUE);
    kit_close(&k);
}
END_TEST

/* How many are passed what lies beneath is a capacity; what is beyond counts.
 */
START_TEST(passed_on)
{
    kit_prepare(&k);
    k.config.router.passed = _i == 0 ? 0 : 3;
    kit_open(&k);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target target;
    for (uint32_t i = 0; i < 20; i++) {
        t.id = i;
        t.hit = IKV_HIT_PASS;
        t.shape = ikv_scene_rect(0, 0, 10, 10);
        ok(ikv_scene_add(k.scene, &t, &target, NULL));
        hears(k.bus, IKV_KIND_POINTER_DOWN, target, hear, NULL);
        hears(k.bus, IKV_KIND_POINTER_UP, target, hear, NULL);
    }
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, 5, 5);
    push(&e);
    e = pointer(IKV_KIND_POINTER_UP, IKV_MOUSE, 0, 5, 5);
    push(&e);
    kit_frame(&k, 20);
    uint32_t passed = _i == 0 ? 16 : 3;
    ck_assert_uint_eq(kind_counts(k.bus, IKV_KIND_POINTER_DOWN).delivered,
                      1 + passed);
    ck_assert_uint_eq(kind_counts(k.bus, IKV_KIND_POINTER_UP).delivered,
                      1 + passed);
    ck_assert_uint_eq(router_counts(k.router).not_passed, 1);
    kit_close(&k);
}
END_TEST

/* --------------------------------------------- 40 what is kept of a pointer --
 */

static ikv_event last_of[IKV_KIND_USER];

static ikv_verdict keep_last(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)d, (void)user;
    last_of[event->kind] = *event;
    return IKV_CONTINUE;
}

static void listen_all(ikv_handler handler)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.all_kinds = true;
    config.handler = handler;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
}

START_TEST(kept_of_a_pointer)
{
    kit_open(&k);
    listen_all(keep_last);
    ikv_target pad = rect_target(k.scene, (ikv_target){0}, 0, 0, 100, 100, 0);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_PEN, 3, 5, 5);
    e.pointer.pressure = 30000;
    e.pointer.tilt_x = -20;
    e.pointer.twist = 90;
    e.pointer.width = 40;
    push(&e);
    kit_frame(&k, 20);
    ok(ikv_scene_move(k.scene, pad, 1, 0)); /* a retest carries the capture */
    kit_frame(&k, 1000);
    kit_frame(&k, 1040);
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_HOLD,
                                     IKV_KIND_POINTER_CAPTURE_GOT};
    for (int i = 0; i < 2; i++) {
        const ikv_pointer_data *p = &last_of[kinds[i]].pointer;
        /* where a pointer has its twist, a click has the number of clicks */
        ck_assert_msg(p->pressure == 30000 && p->tilt_x == -20 &&
                          p->twist == (i == 0 ? 0 : 90) && p->width == 40,
                      "%s", ikv_catalogue_info(NULL, kinds[i])->name);
    }
    kit_close(&k);
}
END_TEST

START_TEST(many_clicks)
{
    kit_open(&k);
    listen_all(keep_last);
    kit_frame(&k, 0);
    for (uint64_t i = 1; i <= 600; i++) {
        ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, 5, 5);
        push(&e);
        e.kind = IKV_KIND_POINTER_UP;
        push(&e);
        kit_frame(&k, i * 20);
        kit_frame(&k, i * 20 + 17);
        ck_assert_uint_eq(last_of[IKV_KIND_POINTER_CLICK].click.clicks, i);
    }
    ck_assert_uint_eq(kind_counts(k.bus, IKV_KIND_POINTER_DOUBLE).delivered,
                      300);
    kit_close(&k);
}
END_TEST

/* What a handler does while lost input is made up bears that moment's time. */
static ikv_verdict focus_then(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)event;
    ok(ikv_router_focus(delivery->router, 0, *(ikv_target *)user));
    return IKV_CONTINUE;
}

START_TEST(focused_in_a_resync)
{
    kit_open(&k);
    listen_all(keep_last);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target field;
    config.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(k.scene, &config, &field, NULL));
    hears(k.bus, IKV_KIND_KEY_UP, (ikv_target){0}, focus_then, &field);
    kit_frame(&k, 0);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.key.code = ikv_code_find("KeyA");
    push(&e);
    kit_frame(&k, 20);
    kit_frame(&k, 40);
    ikv_sink_lost(k.fake.sink, k.fake.device);
    kit_frame(&k, 60);
    kit_frame(&k, 80);
    ck_assert_uint_eq(last_of[IKV_KIND_KEY_UP].time_ns, 60000000);
    ck_assert_uint_eq(last_of[IKV_KIND_FOCUS_IN].target.bits, field.bits);
    ck_assert_uint_eq(last_of[IKV_KIND_FOCUS_IN].time_ns, 60000000);
    kit_close(&k);
}
END_TEST

/* S2, A6: a key that is typed or stopped is none of the unclaimed state's, nor of
 * the actions', after a loss as well: whether it was held all along or is made
 * up. One that is neither is. */
static ikv_verdict stop_key(const ikv_event *event, const ikv_delivery *d,
                            void *user)
{
    if (event->key.code == ikv_code_find("KeyM"))
        ok(ikv_router_focus(d->router, 0, *(ikv_target *)user));
    return event->key.code == ikv_code_find("KeyX") ? IKV_STOP : IKV_CONTINUE;
}

static int starts;

static ikv_verdict count_starts(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)d, (void)user;
    starts += event->kind == IKV_KIND_ACTION_START;
    return IKV_CONTINUE;
}

static const struct {
    const char *rule;
    bool field;                 /* has the focus */
    bool both;                  /* are made up */
    const char *first, *second; /* the second is made up */
    bool first_on, second_on;   /* in the unclaimed state, and its action */
} claim_table[] = {
    {"A6 typed", true, false, "KeyW", "KeyS", false, false},
    {"A6 both typed", true, true, "KeyW", "KeyS", false, false},
    {"A6 not typed", false, false, "KeyW", "KeyS", true, true},
    {"A6 typed from the second on", false, true, "KeyM", "KeyS", true, false},
    {"S2 stopped before", false, false, "KeyX", "KeyS", false, true},
    {"S2 stopped as it is made up", false, false, "KeyW", "KeyX", true, false},
};

START_TEST(claimed_in_a_resync)
{
    kit_open(&k);
    ikv_target none = {0}, field;
    ikv_target_config config = IKV_TARGET_INIT;
    config.traits = IKV_FOCUSABLE | IKV_TAKES_TEXT;
    ok(ikv_scene_add(k.scene, &config, &field, NULL));
    hears(k.bus, IKV_KIND_KEY_DOWN, none, stop_key, &field);
    listen_all(count_starts);
    starts = 0;
    if (claim_table[_i].field)
        ok(ikv_router_focus(k.router, 0, field));
    ikv_state *state = ikv_kit_state(k.kit);
    ikv_input *input = ikv_kit_input(k.kit);
    ikv_actions *actions = ikv_kit_actions(k.kit);
    ikv_event downs[2];
    ikv_action_id ids[2];
    for (int i = 0; i < 2; i++) {
        const char *key =
            i == 0 ? claim_table[_i].first : claim_table[_i].second;
        ok(ikv_actions_add(actions, IKV_MAIN_SET, i == 0 ? "a" : "b", &ids[i]));
        ok(ikv_actions_bind(actions, ids[i], key, NULL, NULL));
        downs[i] = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
        downs[i].device = 3;
        downs[i].key.code = ikv_code_find(key);
    }
    ikv_state_take(state, IKV_STATE_RAW, &downs[0]);
    if (!claim_table[_i].both)
        ikv_input_route(input, &downs[0], NULL, 0);
    ikv_event lost = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 2);
    lost.device = 3;
    ikv_input_resync(input, &lost, downs, 2);
    for (int i = 0; i < 2; i++) {
        bool is = i == 0 ? claim_table[_i].first_on : claim_table[_i].second_on;
        uint32_t code = downs[i].key.code;
        ck_assert(ikv_state_key(state, IKV_STATE_RAW, 0, code).down);
        ck_assert_msg(ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, code).down ==
                              is &&
                          ikv_actions_ask(actions, ids[i], 0).on == is,
                      "%s: key %d", claim_table[_i].rule, i);
    }
    ck_assert_int_eq(starts,
                     claim_table[_i].first_on + claim_table[_i].second_on);
    kit_close(&k);
}
END_TEST

/* CAP1: a target that is attached to a pointer follows it, as it was taken, in
 * its parent's space under any camera: until the release, where it stays;
 * another captures the pointer; or it is removed. */
static ikv_target carried, rival;
static bool rival_is_next; /* captures, and was to be attached once */
static float heard_at[2];

static ikv_verdict hear_carried(const ikv_event *event,
                                const ikv_delivery *delivery, void *user)
{
    float view[2];
    (void)user;
    if (event->kind == IKV_KIND_POINTER_DOWN)
        ok(ikv_router_attach(delivery->router, event, carried));
    if (event->kind == IKV_KIND_POINTER_MOVE)
        ikv_scene_position(k.scene, carried, heard_at, view);
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure == 1)
        ok(ikv_router_capture(delivery->router, event, rival));
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure >= 4)
        ok(ikv_router_attach(delivery->router, event, rival));
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure >= 6)
        ok(ikv_router_release(delivery->router, event, rival));
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure == 5)
        ok(ikv_router_capture(delivery->router, event, carried));
    if (event->kind == IKV_KIND_POINTER_MOVE &&
        (event->pointer.pressure == 6 || rival_is_next))
        ok(ikv_router_capture(delivery->router, event, rival));
    rival_is_next = event->pointer.pressure == 5;
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure == 2)
        ok(ikv_scene_remove(k.scene, carried));
    if (event->kind == IKV_KIND_POINTER_MOVE && event->pointer.pressure == 3)
        ok(ikv_scene_move(k.scene, carried, 7, 7));
    return IKV_CONTINUE;
}

static const struct {
    const char *what;
    uint16_t pressure; /* of the first move: what its handler does */
    float at[3];       /* after each of three events; -1: it is gone */
    float rival_at;    /* in the end */
} carry_table[] = {
    {"followed", 0, {25, 30, 35}, 300},
    {"captured by another", 1, {25, 25, 25}, 300},
    {"removed", 2, {-1, -1, -1}, 300},
    {"put elsewhere by a handler", 3, {7, 30, 35}, 300},
    {"another one is attached", 4, {25, 25, 25}, 310},
    {"another one was to be, and captures later", 5, {25, 30, 30}, 300},
    {"another one was to be, and captures after all", 6, {25, 25, 25}, 300},
};

START_TEST(attached)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN,
                                     IKV_KIND_POINTER_MOVE};
    float at[2], view[2];
    kit_open(&k);
    const ikv_camera camera = {.zoom = 2};
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    ikv_target frame =
        rect_target(k.scene, (ikv_target){0}, 10, 10, 200, 200, 0);
    rival = rect_target(k.scene, (ikv_target){0}, 300, 0, 20, 20, 0);
    carried = rect_target(k.scene, frame, 5, 5, 20, 20, 0);
    for (int i = 0; i < 2; i++)
        hears(k.bus, kinds[i], carried, hear_carried, NULL);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 3, 40, 40);
    status_is(ikv_router_attach(k.router, &e, carried), IKV_BAD_ARGUMENT);
    push(&e);
    kit_frame(&k, 20);
    ck_assert(ikv_scene_position(k.scene, carried, at, view));
    ck_assert_float_eq(at[0], 5);
    for (int i = 0; i < 3; i++) {
        e = pointer(i == 2 ? IKV_KIND_POINTER_UP : IKV_KIND_POINTER_MOVE,
                    IKV_TOUCH, 3, (float)(80 + i * 10), 40);
        e.pointer.pressure = i == 0 ? carry_table[_i].pressure : 0;
        push(&e);
        kit_frame(&k, (uint64_t)(40 + i * 20));
        bool there = ikv_scene_position(k.scene, carried, at, view);
        ck_assert_int_eq(there, carry_table[_i].at[i] >= 0);
        if (there)
            ck_assert_msg(at[0] == carry_table[_i].at[i], "%s: %g after %d",
                          carry_table[_i].what, (double)at[0], i);
        if (i == 0) /* it was there before its handlers heard of it */
            ck_assert_float_eq(heard_at[0], 25);
    }
    ck_assert(ikv_scene_position(k.scene, rival, at, view));
    ck_assert_msg(at[0] == carry_table[_i].rival_at, "%s: %g",
                  carry_table[_i].what, (double)at[0]);
    valid(ikv_router_validate(k.router));
    kit_close(&k);
}
END_TEST

/* A kit with a picking of one's own: its bus asks that who is alive and where. */
static ikv_target buoy;
static bool buoy_lives, buoy_is_hit;
static uint64_t buoy_changes;

static ikv_target dinghy; /* made fast to the buoy */
static bool buoys_are_endless;

static ikv_target buoy_pick(void *scene, const ikv_query *query, uint32_t nth)
{
    (void)scene, (void)query;
    if (buoys_are_endless && nth % 2 != 0)
        return dinghy;
    return (nth == 0 || buoys_are_endless) && buoy_is_hit ? buoy
                                                          : (ikv_target){0};
}

static ikv_target raft;
static bool buoy_is_in_dinghy;

static ikv_target buoy_parent(void *scene, ikv_target target)
{
    (void)scene;
    if (buoy_is_in_dinghy && target.bits == buoy.bits)
        return dinghy;
    return dinghy.bits != 0 && target.bits == dinghy.bits ? buoy
                                                          : (ikv_target){0};
}

static bool buoy_alive(void *scene, ikv_target target)
{
    (void)scene;
    return buoy_lives &&
           (target.bits == buoy.bits || target.bits == dinghy.bits ||
            (raft.bits != 0 && target.bits == raft.bits));
}

static uint32_t buoy_traits(void *scene, ikv_target target)
{
    (void)scene, (void)target;
    return 0;
}

static bool buoy_local(void *scene, ikv_target target, uint8_t view, float x,
                       float y, float layer[2], float local[2])
{
    (void)scene, (void)target, (void)view;
    layer[0] = local[0] = x - 100;
    layer[1] = local[1] = y;
    return true;
}

static uint64_t buoy_revision(void *scene)
{
    (void)scene;
    return buoy_changes;
}

static void open_buoy(bool lives, bool is_hit)
{
    kit_prepare(&k);
    k.config.router.picking = (ikv_picking){.size = sizeof(ikv_picking),
                                            .pick = buoy_pick,
                                            .parent = buoy_parent,
                                            .alive = buoy_alive,
                                            .traits = buoy_traits,
                                            .to_local = buoy_local,
                                            .revision = buoy_revision};
    buoy_lives = lives;
    buoy_is_hit = is_hit;
    kit_open(&k);
    ck_assert_ptr_null(k.scene);
    ok(ikv_bus_add_target(k.bus, 3, &buoy));
    dinghy = raft = (ikv_target){0};
    buoy_is_in_dinghy = buoys_are_endless = false;
}

/* Two that are in each other, or lie over each other without end: a picking's
 * loop ends, whatever asks what they are in, or over. */
START_TEST(looped_tree)
{
    open_buoy(true, true);
    ikv_target none = {0};
    ikv_obstacle why[4];
    ok(ikv_bus_add_target(k.bus, 4, &dinghy));
    ok(ikv_bus_add_target(k.bus, 5, &raft));
    buoy_is_in_dinghy = _i == 0;
    buoys_are_endless = _i == 1;
    hears(k.bus, IKV_KIND_POINTER_DOWN, none, keep_last, NULL);
    hears(k.bus, IKV_KIND_ACTION_START, none, keep_last, NULL);
    ikv_action_id hail;
    ikv_scope scope = {.where = IKV_WITHIN, .target = raft};
    ok(ikv_actions_add(ikv_kit_actions(k.kit), IKV_MAIN_SET, "hail", &hail));
    ok(ikv_actions_bind(ikv_kit_actions(k.kit), hail, "pointer.primary", &scope,
                        NULL));
    kit_frame(&k, 0);
    /* modal, and not; what is dragged is looked through */
    for (uint64_t i = 0; i < 2; i++) {
        if (i == 0)
            ok(ikv_router_set_modal(k.router, 0, raft));
        else
            ok(ikv_router_set_modal(k.router, 0, none));
        last_of[IKV_KIND_ACTION_START].kind = 0;
        ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_MOUSE, 3, 40, 40);
        push(&e);
        kit_frame(&k, 20 + 40 * i);
        const ikv_event *down = &last_of[IKV_KIND_POINTER_DOWN];
        ck_assert_uint_eq(down->target.bits, i == 0 ? raft.bits : buoy.bits);
        ck_assert_uint_eq(last_of[IKV_KIND_ACTION_START].kind,
                          i == 0 ? IKV_KIND_ACTION_START : 0);
        ck_assert_uint_eq(ikv_router_focused(k.router, 0).bits, 0);
        ck_assert_uint_eq(ikv_router_probe(k.router, down, raft, why, 4), i);
        if (i != 0)
            ok(ikv_router_drag(k.router, down, raft));
        e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 3, 90, 90);
        push(&e);
        e = pointer(IKV_KIND_POINTER_UP, IKV_MOUSE, 3, 90, 90);
        push(&e);
        kit_frame(&k, 40 + 40 * i);
    }
    valid(ikv_router_validate(k.router));
    kit_close(&k);
}
END_TEST

START_TEST(picking_of_a_kit)
{
    open_buoy(true, true);
    hears(k.bus, IKV_KIND_FIELD_SET, buoy, keep_last, NULL);
    hears(k.bus, IKV_KIND_POINTER_DOWN, buoy, keep_last, NULL);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 3, 40, 40);
    push(&e);
    kit_frame(&k, 20);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_DOWN].target.bits, buoy.bits);
    e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    e.target = buoy;
    ck_assert_uint_eq(ikv_bus_deliver(k.bus, &e).heard, 1);
    ok(ikv_bus_add_target(k.bus, 4, &dinghy));
    ikv_event down = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    down.target = dinghy;
    ck_assert_uint_eq(ikv_bus_deliver(k.bus, &down).heard, 1); /* above it */
    buoy_lives = false;
    ck_assert_uint_eq(ikv_bus_deliver(k.bus, &e).heard, 0);
    kit_close(&k);
}
END_TEST

/* A picking that names what is gone: nobody is told that the pointer is over
 * it, also if a handler has changed the scene meanwhile. */
static ikv_verdict change_buoys(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)event, (void)d, (void)user;
    buoy_changes++;
    return IKV_CONTINUE;
}

START_TEST(picked_though_gone)
{
    open_buoy(false, false);
    ikv_target none = {0};
    hears(k.bus, IKV_KIND_POINTER_OVER, none, keep_last, NULL);
    hears(k.bus, IKV_KIND_POINTER_OUT, none, change_buoys, NULL);
    kit_frame(&k, 0);
    for (uint64_t i = 0; i < 2; i++) {
        memset(last_of, 0, sizeof last_of);
        ikv_event e =
            pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 3, 40 + (float)i, 40);
        push(&e);
        kit_frame(&k, 20 + 20 * i);
        ck_assert_uint_eq(last_of[IKV_KIND_POINTER_OVER].target.bits,
                          i == 0 ? ikv_bus_root(k.bus).bits : 0);
        ck_assert_uint_eq(buoy_changes, i);
        buoy_is_hit = true;
    }
    valid(ikv_router_validate(k.router));
    kit_close(&k);
}
END_TEST

/* What can't be attached. */
START_TEST(not_attached)
{
    ikv_router *router;
    kit_open(&k);
    ikv_target pad = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 100, 0);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 3, 5, 5);
    push(&e);
    kit_frame(&k, 20);
    status_is(ikv_router_attach(k.router, &e, pad), IKV_ABSENT);
    status_is(ikv_router_attach(NULL, &e, pad), IKV_BAD_ARGUMENT);
    status_is(ikv_router_attach(k.router, NULL, pad), IKV_BAD_ARGUMENT);
    e.kind = IKV_KIND_POINTER_DOWN;
    e.pointer.button = 0;
    push(&e);
    kit_frame(&k, 40);
    status_is(ikv_router_attach(k.router, &e, (ikv_target){0}), IKV_STALE);
    status_is(ikv_router_attach(k.router, &e, ikv_bus_root(k.bus)), IKV_ABSENT);
    ok(ikv_router_attach(k.router, &e, pad));
    ikv_router_config config = IKV_ROUTER_INIT;
    config.bus = k.bus;
    config.picking = ikv_kit_picking(k.scene);
    config.picking.carry = NULL;
    config.memory = ikv_host_memory();
    ok(ikv_router_open(&config, &router));
    status_is(ikv_router_route(router, &e).status, IKV_OK);
    status_is(ikv_router_attach(router, &e, pad), IKV_ABSENT);
    ikv_router_close(router);
    kit_close(&k);
}
END_TEST

/* BTN2: of two mice each is the primary pointer. */
START_TEST(two_mice)
{
    kit_open(&k);
    listen_all(keep_last);
    for (uint16_t id = 3; id < 5; id++) {
        ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, id, 5, 5);
        ok(ikv_router_route(k.router, &e).status);
        ck_assert_uint_eq(last_of[IKV_KIND_POINTER_MOVE].flags & IKV_PRIMARY,
                          IKV_PRIMARY);
    }
    kit_close(&k);
}
END_TEST

/* OVER5: a view holds its left and top edge, not its right and bottom one. */
START_TEST(edges_of_the_view)
{
    static const struct {
        float x, y;
        bool inside;
    } table[] = {{0, 0, true},      {99.5f, 0, true},     {0, 99.5f, true},
                 {100, 0, false},   {0, 100, false},      {-0.5f, 5, false},
                 {5, -0.5f, false}, {99.5f, 99.5f, true}, /* smaller views: */
                 {150, 5, false},   {5, 150, false}};
    float scale = _i < 8 ? 1 : 0.01f;
    kit_prepare(&k);
    k.config.router.view_width = k.config.router.view_height = 100 * scale;
    kit_open(&k);
    ikv_target all = rect_target(k.scene, (ikv_target){0}, -9, -9, 200, 200, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 3,
                          table[_i].x * scale, table[_i].y * scale);
    memset(last_of, 0, sizeof last_of);
    listen_all(keep_last);
    ikv_router_route(k.router, &e);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_OVER].target.bits,
                      table[_i].inside ? all.bits : 0);
    kit_close(&k);
}
END_TEST

/* How far a pen is: merged, at what it is over, also while another has captured
 * it; where it says so it hovers. A further button is one like the others. */
START_TEST(pen_above)
{
    ikv_pointer_state pen;
    kit_prepare(&k);
    k.config.router.view_width = k.config.router.view_height = 100;
    kit_open(&k);
    memset(last_of, 0, sizeof last_of);
    listen_all(keep_last);
    ikv_target pad = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 100, 0);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_PEN, 3, 60, 5);
    push(&e);
    kit_frame(&k, 20);
    ikv_event far = ikv_event_make(IKV_KIND_PEN_DISTANCE, k.fake.now_ns);
    far.device = e.device;
    far.pen.pointer = 3;
    far.pen.x = far.pen.y = 5;
    far.pen.distance = 0.75f;
    push(&far);
    far.pen.distance = 0.5f;
    push(&far);
    kit_frame(&k, 40);
    const ikv_event *last = &last_of[IKV_KIND_PEN_DISTANCE];
    ck_assert_uint_eq(last->target.bits, pad.bits);
    ck_assert_uint_eq(last->samples, 2);
    ck_assert_float_eq(last->pen.distance, 0.5f);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_OVER].target.bits, pad.bits);
    ck_assert(ikv_state_find_pointer(ikv_kit_state(k.kit), IKV_STATE_RAW,
                                     e.device, 3, &pen));
    ck_assert_float_eq(pen.distance, 0.5f);
    e.kind = IKV_KIND_POINTER_DOWN;
    e.pointer.x = 5;
    e.pointer.button = 15;
    push(&e);
    kit_frame(&k, 60);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_DOWN].pointer.buttons, 0x8000);
    ck_assert(ikv_state_find_pointer(ikv_kit_state(k.kit), IKV_STATE_RAW,
                                     e.device, 3, &pen));
    ck_assert(pen.distance == 0 && pen.buttons == 0x8000 &&
              pen.went_down == 0x8000);
    ok(ikv_router_capture(k.router, &e, pad));
    far.pen.x = 60;
    push(&far);
    kit_frame(&k, 80);
    ck_assert_uint_ne(last->target.bits, pad.bits);
    memset(last_of, 0, sizeof last_of);
    far.pen.x = 101; /* out of the view */
    push(&far);
    far.pen.x = 5;
    far.pen.distance = (float)INFINITY;
    status_is(ikv_sink_push(k.fake.sink, &far), IKV_BAD_VALUE);
    kit_frame(&k, 100);
    ck_assert_uint_eq(last->kind, 0);
    ck_assert_uint_eq(router_counts(k.router).outside, 1);
    kit_close(&k);
}
END_TEST

/* In a view of 1 x 1, with a slop to match, a pinch has a scale. */
START_TEST(small_pinch)
{
    kit_prepare(&k);
    k.config.router.slop = 0.02f;
    kit_open(&k);
    listen_all(keep_last);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 1, 0.4f, 0.5f);
    push(&e);
    e = pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 2, 0.5f, 0.5f);
    push(&e);
    kit_frame(&k, 20);
    for (int i = 1; i <= 4; i++) {
        e = pointer(IKV_KIND_POINTER_MOVE, IKV_TOUCH, 2, 0.5f + 0.1f * (float)i,
                    0.5f);
        push(&e);
        kit_frame(&k, 20 + 20 * (uint64_t)i);
    }
    kit_frame(&k, 140);
    ck_assert_float_eq_tol(last_of[IKV_KIND_GESTURE_PINCH].gesture.scale, 2.5f,
                           0.01f);
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------- 33 actions, 34 overlaps --
 */

static ikv_action_id add_action(const char *name, const char *binding,
                                ikv_target within)
{
    ikv_actions *actions = ikv_kit_actions(k.kit);
    ikv_action_id action;
    ikv_scope scope = {.where = IKV_WITHIN, .target = within};
    ok(ikv_actions_add(actions, IKV_MAIN_SET, name, &action));
    ok(ikv_actions_bind(actions, action, binding, &scope, NULL));
    return action;
}

/* An on-screen button goes with the pointer that pressed it. */
START_TEST(button_on_screen)
{
    kit_prepare(&k);
    kit_open(&k);
    ikv_target horn = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 50, 0);
    add_action("horn", "pointer.primary", horn);
    hears(k.bus, IKV_KIND_ACTION_START, (ikv_target){0}, hear, NULL);
    hears(k.bus, IKV_KIND_ACTION_END, (ikv_target){0}, hear, NULL);
    kit_frame(&k, 0);
    seen.text[0] = '\0';
    static const struct {
        ikv_kind kind;
        uint16_t id;
        float x;
        const char *seen;
    } rows[] = {{IKV_KIND_POINTER_DOWN, 1, 10, "action.start@0 "},
                {IKV_KIND_POINTER_DOWN, 2, 200, "action.start@0 "},
                {IKV_KIND_POINTER_UP, 1, 10, "action.start@0 action.end@0 "},
                {IKV_KIND_POINTER_UP, 2, 200, "action.start@0 action.end@0 "}};
    for (uint64_t i = 0; i < 4; i++) {
        ikv_event e =
            pointer(rows[i].kind, IKV_TOUCH, rows[i].id, rows[i].x, 10);
        push(&e);
        kit_frame(&k, 20 * (i + 1));
        ck_assert_str_eq(seen.text, rows[i].seen);
    }
    kit_close(&k);
}
END_TEST

/* A scoped motion binding adds up the motion in its scope; what is no number
 * comes neither into the state nor into actions. */
START_TEST(motion_in_scope)
{
    kit_prepare(&k);
    kit_open(&k);
    ikv_actions *actions = ikv_kit_actions(k.kit);
    ikv_target deck = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 50, 0);
    ikv_action_id look = add_action("look", "pointer.move", deck);
    kit_frame(&k, 0);
    static const float xs[] = {10, 100, 20};
    for (int i = 0; i < 3; i++) {
        ikv_event e = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE,
                              (uint16_t)(i == 1), xs[i], 10);
        e.pointer.dx = (float)(i + 1) * 0.125f;
        push(&e);
    }
    ikv_event bad = pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 0, 20, 10);
    bad.pointer.dx = NAN;
    status_is(ikv_sink_push(k.fake.sink, &bad), IKV_BAD_VALUE);
    ikv_actions_take(actions, &bad, false);
    ikv_state_take(ikv_kit_state(k.kit), IKV_STATE_RAW, &bad);
    k.fake.now_ns += 20000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    ck_assert_float_eq(ikv_actions_ask(actions, look, 0).x, 0.5f);
    ikv_loop_end(k.loop);
    kit_close(&k);
}
END_TEST

static ikv_target piece(float x, uint32_t tags, uint32_t senses,
                        uint16_t linger)
{
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target target;
    static uint32_t id;
    t.id = ++id;
    t.x = x;
    t.tags = tags;
    t.shape = ikv_scene_rect(0, 0, 10, 10);
    ok(ikv_scene_add(k.scene, &t, &target, NULL));
    ikv_sensing s = IKV_SENSING_INIT;
    s.senses = senses;
    s.linger = linger;
    ok(ikv_overlaps_sense(ikv_kit_overlaps(k.kit), target, &s));
    return target;
}

static uint32_t touching(ikv_target target)
{
    return ikv_overlaps_contacts(ikv_kit_overlaps(k.kit), target, 0);
}

static uint64_t frame_ms;

static void a_step(void)
{
    kit_frame(&k, frame_ms += 20);
    kit_frame(&k, frame_ms);
    valid(ikv_overlaps_validate(ikv_kit_overlaps(k.kit)));
}

static void open_overlaps(uint32_t contacts)
{
    kit_prepare(&k);
    k.config.loop.step_num = 50;
    k.config.overlaps.contacts = contacts;
    kit_open(&k);
    frame_ms = 0;
    kit_frame(&k, 0);
}

/* What was refused for lack of room is tried again, though nothing moves. */
START_TEST(room_again)
{
    open_overlaps(1);
    ikv_target a = piece(0, 1, 0, 0), b = piece(5, 2, 1, 0);
    a_step();
    ck_assert_uint_eq(touching(b), 1);
    piece(100, 1, 0, 0);
    ikv_target d = piece(105, 2, 1, 0);
    a_step();
    a_step();
    ck_assert_uint_eq(touching(d), 0);
    ck_assert_uint_ge(overlaps_counts(ikv_kit_overlaps(k.kit)).refused, 2);
    ok(ikv_scene_move(k.scene, a, 0, 50));
    a_step();
    a_step();
    ck_assert_uint_eq(touching(b), 0);
    ck_assert_uint_eq(touching(d), 1);
    kit_close(&k);
}
END_TEST

/* A linger that is set while they touch holds for this contact. */
START_TEST(linger_changed)
{
    open_overlaps(0);
    ikv_target a = piece(0, 1, 0, 0), b = piece(5, 2, 1, 0);
    a_step();
    ikv_sensing s = ikv_overlaps_sensing(ikv_kit_overlaps(k.kit), b);
    s.linger = 3;
    ok(ikv_overlaps_sense(ikv_kit_overlaps(k.kit), b, &s));
    a_step();
    ok(ikv_scene_move(k.scene, a, 0, 50));
    for (uint32_t i = 0; i < 3; i++) {
        a_step();
        ck_assert_uint_eq(touching(b), 1);
    }
    a_step();
    ck_assert_uint_eq(touching(b), 0);
    kit_close(&k);
}
END_TEST

/* Disabled or hidden while it lingers: it ends at once, and says so. */
START_TEST(off_while_lingering)
{
    open_overlaps(0);
    listen_all(keep_last);
    ikv_target a = piece(0, 1, 0, 0), b = piece(5, 2, 1, 9);
    a_step();
    ok(ikv_scene_move(k.scene, a, 0, 50));
    a_step();
    ck_assert_uint_eq(touching(b), 1);
    if (_i == 0)
        ok(ikv_overlaps_enable(ikv_kit_overlaps(k.kit), a, false));
    else if (_i == 1)
        ok(ikv_overlaps_enable(ikv_kit_overlaps(k.kit), b, false));
    else
        ok(ikv_scene_show(k.scene, a, false));
    a_step();
    ck_assert_uint_eq(touching(b), 0);
    ck_assert_uint_eq(last_of[IKV_KIND_OVERLAP_LEAVE].overlap.reason,
                      IKV_OVERLAP_DISABLED);
    kit_close(&k);
}
END_TEST

/* Why it ended is each side's own: one does not sense the other any more, and
 * the other comes apart in the same step. */
START_TEST(own_reasons)
{
    open_overlaps(0);
    ikv_target a = piece(0, 1, 2, 0), b = piece(5, 2, 1, 0);
    a_step();
    last_of[IKV_KIND_OVERLAP_LEAVE].overlap.reason = 99;
    hears(k.bus, IKV_KIND_OVERLAP_LEAVE, b, keep_last, NULL);
    ikv_sensing s = ikv_overlaps_sensing(ikv_kit_overlaps(k.kit), a);
    s.senses = 0;
    ok(ikv_overlaps_sense(ikv_kit_overlaps(k.kit), a, &s));
    ok(ikv_scene_move(k.scene, b, 5, 50));
    a_step();
    ck_assert_uint_eq(last_of[IKV_KIND_OVERLAP_LEAVE].overlap.reason,
                      IKV_OVERLAP_APART);
    kit_close(&k);
}
END_TEST

/* `inside` is asked for by each piece of a body, not by the body. */
START_TEST(inside_of_pieces)
{
    open_overlaps(0);
    ikv_overlaps *o = ikv_kit_overlaps(k.kit);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target body, hull;
    t.body = true;
    ok(ikv_scene_add(k.scene, &t, &body, NULL));
    t = (ikv_target_config)IKV_TARGET_INIT;
    t.parent = body;
    t.tags = 2;
    t.shape = ikv_scene_rect(0, 0, 10, 10);
    ok(ikv_scene_add(k.scene, &t, &hull, NULL));
    ikv_sensing s = IKV_SENSING_INIT;
    s.senses = 1;
    s.scope = IKV_OVERLAP_OF_BODIES;
    s.inside = _i == 0 ? IKV_INSIDE_MOVING : IKV_INSIDE_ALWAYS;
    ok(ikv_overlaps_sense(o, hull, &s));
    piece(5, 1, 0, 0);
    hears(k.bus, IKV_KIND_OVERLAP_INSIDE, body, hear, NULL);
    a_step();
    seen.text[0] = '\0';
    a_step();
    a_step();
    ck_assert_int_eq(seen.text[0] != '\0', _i == 1);
    kit_close(&k);
}
END_TEST

/* A hidden target is not there for reports either; nor is a point that is no
 * number. */
START_TEST(reported_hidden)
{
    open_overlaps(0);
    ikv_overlaps *o = ikv_kit_overlaps(k.kit);
    ikv_target a = piece(0, 1, 0, 0), b = piece(500, 2, 1, 0);
    const float points[][3] = {{NAN, 0, 0}, {0, INFINITY, 0}, {0, 0, 1e10f}};
    for (int i = 0; i < 3; i++)
        status_is(ikv_overlaps_report(o, a, b, points[i]), IKV_BAD_VALUE);
    for (int hidden = 0; hidden < 2; hidden++) {
        ok(ikv_scene_show(k.scene, a, hidden == 0));
        a_step();
        k.fake.now_ns = 7000000000 + (frame_ms += 20) * 1000000;
        ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
        ok(ikv_overlaps_report(o, a, b, NULL));
        ikv_loop_end(k.loop);
        ck_assert_uint_eq(touching(b), hidden == 0);
    }
    kit_close(&k);
}
END_TEST

/* --------------------------------------------------- 35 slop, characters --
 */

/* A finger that goes far and comes back within one step has dragged. */
START_TEST(slop_in_a_step)
{
    kit_prepare(&k);
    kit_open(&k);
    listen_all(keep_last);
    memset(last_of, 0, sizeof last_of);
    rect_target(k.scene, (ikv_target){0}, 0, 0, 200, 200, 0);
    kit_frame(&k, 0);
    ikv_event e = pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 1, 50, 50);
    push(&e);
    kit_frame(&k, 20);
    static const float xs[] = {52, 50, 90, 51, 50};
    for (int i = _i; i < 5; i++) {
        e = pointer(IKV_KIND_POINTER_MOVE, IKV_TOUCH, 1,
                    _i == 1 && i == 2 ? 55 : xs[i], 50);
        push(&e);
    }
    kit_frame(&k, 40);
    e = pointer(IKV_KIND_POINTER_UP, IKV_TOUCH, 1, 50, 50);
    push(&e);
    kit_frame(&k, 60);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_DRAG].kind,
                      _i == 0 ? IKV_KIND_POINTER_DRAG : 0);
    ck_assert_uint_eq(last_of[IKV_KIND_POINTER_CLICK].kind,
                      _i == 1 ? IKV_KIND_POINTER_CLICK : 0);
    kit_close(&k);
}
END_TEST

/* A binding's text is refused at the character where it goes wrong. */
static const struct {
    const char *text, *message;
} character_table[] = {
    {"KeyQQ", "at character 1: there is no input \"KeyQQ\""},
    {"Control + Bogus", "at character 11: there is no input \"Bogus\""},
    {"Control++KeyA", "at character 9: nothing;"},
    {"KeyA+KeyB+", "at character 11: nothing;"},
    {"KeyA|", "at character 6: nothing;"},
    {"KeyA KeyB", "at character 6: something follows;"},
    {"KeyA+KeyB|KeyC", "at character 10: both + and |;"},
    {"KeyA|KeyB|KeyC", "at character 11: a third direction,"},
    {"KeyA+KeyB+KeyA", "at character 11: a second \"KeyA\""},
    {"KeyA+KeyB+KeyB", "at character 11: a second \"KeyB\""},
    {"KeyA+KeyB+KeyC+KeyC", "at character 16: a second \"KeyC\""},
    {"pointer.click+KeyA", "at character 1: it can't be held: "},
    {"pad.axis0+|pad.axis99", "at character 12: there is no input"},
};

START_TEST(characters)
{
    ikv_message message = {""};
    ikv_status status = ikv_binding_check(character_table[_i].text, &message);
    ck_assert_msg(status == IKV_BAD_VALUE &&
                      strncmp(message.text, character_table[_i].message,
                              strlen(character_table[_i].message)) == 0,
                  "%s: %s", character_table[_i].text, message.text);
}
END_TEST

Suite *edge_route_suite(void)
{
    Suite *s = suite_create("edge_route");
    add_table(s, "30 far away", far_away, ROWS(far_table));
    add_table(s, "30 thrown far", thrown_far, ROWS(thrown_table));
    add_table(s, "30 nested scales", nested_scales, 4);
    add_table(s, "30 too far", too_far, ROWS(refused_table));
    add_table(s, "31 passed on", passed_on, 2);
    add(s, "33 a button on the screen", button_on_screen);
    add(s, "33 motion in its scope", motion_in_scope);
    add(s, "34 room again", room_again);
    add(s, "34 linger changed", linger_changed);
    add_table(s, "34 off while lingering", off_while_lingering, 3);
    add(s, "34 reasons of its own", own_reasons);
    add_table(s, "34 inside of pieces", inside_of_pieces, 2);
    add(s, "34 reported while hidden", reported_hidden);
    add_table(s, "35 slop in a step", slop_in_a_step, 2);
    add_table(s, "35 characters", characters, ROWS(character_table));
    add(s, "40 kept of a pointer", kept_of_a_pointer);
    add(s, "40 many clicks", many_clicks);
    add(s, "Q3 focused in a resync", focused_in_a_resync);
    add_table(s, "S2 claimed in a resync", claimed_in_a_resync,
              ROWS(claim_table));
    add_table(s, "CAP1 attached", attached, ROWS(carry_table));
    add(s, "HIT1 a kit's own picking", picking_of_a_kit);
    add_table(s, "HIT1 a loop in its tree", looped_tree, 2);
    add(s, "OVER3 picked though it is gone", picked_though_gone);
    add(s, "BTN2 two mice", two_mice);
    add(s, "CAP1 not attached", not_attached);
    add_table(s, "OVER5 edges of the view", edges_of_the_view, 10);
    add(s, "P2 S1 a pen above the surface", pen_above);
    add(s, "40 a small pinch", small_pinch);
    return s;
}
