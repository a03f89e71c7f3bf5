/* test_scene.c - HIT1 to HIT3, the tree, wrong use, and random trees against a
 * recursive reference. */
#include "support.h"

#include <math.h>

/* HIT1: z, later above, children above their parent, a subtree as one. Targets
 * a.. are 100 x 100 at the origin; each is "z parent": the topmost is hit. */
static const struct {
    const char *rule;
    struct {
        int z, parent;
    } targets[4];
    int count;
    const char *order; /* from the top */
} order_table[] = {
    {"later above", {{0, -1}, {0, -1}}, 2, "ba"},
    {"z", {{5, -1}, {0, -1}, {5, -1}}, 3, "cab"},
    {"children above", {{0, -1}, {0, 0}}, 2, "ba"},
    {"negative child", {{0, -1}, {-9, 0}}, 2, "ba"},
    {"subtree as one", {{1, -1}, {1, -1}, {9, 0}}, 3, "bca"},
    {"deep", {{0, -1}, {0, 0}, {0, 1}, {0, -1}}, 4, "dcba"},
};

START_TEST(stacking)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target t[4], none = {0};
    record order = {""};
    for (int i = 0; i < order_table[_i].count; i++) {
        int parent = order_table[_i].targets[i].parent;
        t[i] = rect_target(k.scene, parent < 0 ? none : t[parent], 0, 0, 100,
                           100, order_table[_i].targets[i].z);
    }
    for (uint32_t n = 0;; n++) {
        ikv_target hit = pick_at(k.scene, 5, 5, 0, n);
        if (hit.bits == 0)
            break;
        for (int i = 0; i < order_table[_i].count; i++)
            if (t[i].bits == hit.bits)
                note(&order, "%c", 'a' + i);
    }
    ck_assert_str_eq(order.text, order_table[_i].order);
    kit_close(&k);
}
END_TEST

/* HIT2: which points a shape holds. */
static const struct {
    int shape; /* rectangle, circle, a capsule of no length */
    float x, y, radius;
    bool hit;
} point_table[] = {
    {0, 10, 20, 0, true},         {0, 39.9f, 20, 0, true},
    {0, 40, 20, 0, false},        {0, 10, 40, 0, false},
    {0, 9.9f, 20, 0, false},      {0, 40, 20, 1, true},
    {0, 7, 30, 3, true},          {0, 6.9f, 30, 3, false},
    {0, 42, 42, 2.9f, true},      {0, 42.1f, 42.1f, 2.9f, false},
    {1, 110, 20, 0, true},        {1, 120, 20, 0, true},
    {1, 120.1f, 20, 0, false},    {1, 122, 20, 2, true},
    {1, 117.2f, 27.2f, 0, false}, {0, NAN, 20, 0, false},
    {0, 20, INFINITY, 0, false},  {0, 20, 30, -1, false},
    {0, 20, 30, NAN, false},      {2, 303, 303, 0, true},
    {2, 306, 300, 0, false},      {2, 306, 300, 2, true},
};

START_TEST(points)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target none = {0}, circle, capsule;
    ikv_target rect = rect_target(k.scene, none, 10, 20, 30, 20, 0);
    ikv_target_config config = IKV_TARGET_INIT;
    config.x = 100;
    config.y = 10;
    config.shape = ikv_scene_circle(10, 10, 10);
    ok(ikv_scene_add(k.scene, &config, &circle, NULL));
    config.shape = ikv_scene_capsule(200, 290, 200, 290, 5); /* at 300, 300 */
    ok(ikv_scene_add(k.scene, &config, &capsule, NULL));
    ikv_target hit = pick_at(k.scene, point_table[_i].x, point_table[_i].y,
                             point_table[_i].radius, 0);
    ikv_target expected[] = {rect, circle, capsule};
    ck_assert_uint_eq(hit.bits, point_table[_i].hit
                                    ? expected[point_table[_i].shape].bits
                                    : 0);
    kit_close(&k);
}
END_TEST

/* HIT3, hiding, moving, reparenting, z: each change is seen at once. */
START_TEST(changes)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target none = {0}, root = ikv_bus_root(k.bus);
    ikv_target a = rect_target(k.scene, none, 0, 0, 50, 50, 0);
    ikv_target b = rect_target(k.scene, a, 100, 0, 50, 50, 0);
    ikv_target c = rect_target(k.scene, none, 0, 0, 50, 50, 1);
    float own[2], view[2];
#define TOP(x, y) pick_at(k.scene, x, y, 0, 0).bits
    ck_assert_uint_eq(TOP(120, 10), b.bits); /* outside its parent */
    uint64_t revision = ikv_scene_revision(k.scene);
    ok(ikv_scene_move(k.scene, a, 200, 5));
    ck_assert_uint_ne(revision, ikv_scene_revision(k.scene));
    ck_assert_uint_eq(TOP(120, 10), 0);
    ck_assert_uint_eq(TOP(320, 10), b.bits);
    ck_assert(ikv_scene_position(k.scene, b, own, view));
    ck_assert(own[0] == 100 && view[0] == 300 && view[1] == 5);
    ok(ikv_scene_set_hit(k.scene, a, IKV_HIT_OFF));
    ck_assert_uint_eq(TOP(220, 10), 0);
    ck_assert_uint_eq(TOP(320, 10), b.bits);
    ok(ikv_scene_show(k.scene, a, false));
    ck_assert_uint_eq(TOP(320, 10), 0);
    ok(ikv_scene_set_parent(k.scene, b, c));
    ck_assert_uint_eq(TOP(120, 10), b.bits);
    ck_assert_uint_eq(ikv_scene_parent(k.scene, b).bits, c.bits);
    ck_assert_uint_eq(ikv_scene_parent(k.scene, c).bits, root.bits);
    status_is(ikv_scene_set_parent(k.scene, c, b), IKV_CYCLE);
    status_is(ikv_scene_set_parent(k.scene, c, c), IKV_CYCLE);
    ok(ikv_scene_set_parent(k.scene, b, none));
    ok(ikv_scene_show(k.scene, a, true));
    ok(ikv_scene_set_hit(k.scene, a, IKV_HIT_SOLID));
    ok(ikv_scene_move(k.scene, a, 100, 0));
    ck_assert_uint_eq(TOP(120, 10), b.bits);
    ok(ikv_scene_set_z(k.scene, a, 7));
    ck_assert_uint_eq(TOP(120, 10), a.bits);
    ikv_shape circle = ikv_scene_circle(0, 0, 3);
    ok(ikv_scene_set_shape(k.scene, a, &circle));
    ck_assert_uint_eq(TOP(120, 10), b.bits);
#undef TOP
    kit_close(&k);
}
END_TEST

static int gone_count;
static ikv_target gone_former;

static void removed(void *user, ikv_target target, ikv_target former)
{
    bench_kit *k = user;
    ck_assert(!ikv_scene_alive(k->scene, target));
    ck_assert(!ikv_bus_target_alive(k->bus, target));
    gone_count++;
    gone_former = former;
}

/* Removal takes the subtree and its subscriptions; watchers are told. */
START_TEST(removal)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target none = {0};
    ikv_target a = rect_target(k.scene, none, 0, 0, 9, 9, 0);
    ikv_target b = rect_target(k.scene, a, 0, 0, 9, 9, 0);
    ikv_target c = rect_target(k.scene, b, 0, 0, 9, 9, 0);
    ok(ikv_scene_watch_removals(k.scene, removed, &k));
    gone_count = 0;
    ok(ikv_scene_remove(k.scene, b));
    ck_assert_int_eq(gone_count, 2);
    ck_assert_uint_eq(gone_former.bits, a.bits);
    status_is(ikv_scene_remove(k.scene, c), IKV_STALE);
    status_is(ikv_scene_move(k.scene, c, 1, 1), IKV_STALE);
    status_is(ikv_scene_remove(k.scene, ikv_bus_root(k.bus)), IKV_STALE);
    ck_assert_uint_eq(pick_at(k.scene, 1, 1, 0, 0).bits, a.bits);
    ck_assert_uint_eq(ikv_scene_parent(k.scene, c).bits, 0);
    ck_assert_ptr_null(ikv_scene_user(k.scene, c));
    for (int i = 0; i < 8; i++)
        status_is(ikv_scene_watch_removals(k.scene, removed, &k),
                  i < 6 ? IKV_OK : IKV_FULL_WATCHERS);
    kit_close(&k);
}
END_TEST

static const float wrong_points[] = {0, 0, 9, 0, 9, 9, 0, NAN};

static const struct {
    ikv_target_config config;
    ikv_status status;
    const char *message;
} wrong_table[] = {
    {{.x = NAN}, IKV_BAD_ARGUMENT, "x and y must be -2^30"},
    {{.y = NAN}, IKV_BAD_ARGUMENT, "x and y must be -2^30"},
    {{.y = 2e9f}, IKV_BAD_ARGUMENT, "x and y must be -2^30"},
    {{.tab = 32768}, IKV_BAD_ARGUMENT, "tab must be IKV_NO_TAB or 0 to"},
    {{.grace = -1}, IKV_BAD_ARGUMENT, "grace must be 0 to 4,095"},
    {{.rotation = {0, INFINITY}},
     IKV_BAD_ARGUMENT,
     "the rotation's parts must"},
    {{.shape = {.type = IKV_SHAPE_RECT, .height = NAN}},
     IKV_BAD_ARGUMENT,
     "a rectangle's width"},
    {{.shape = {.type = IKV_SHAPE_POINT, .y = -2e9f}},
     IKV_BAD_ARGUMENT,
     "the shape's position"},
    {{.shape = {.type = IKV_SHAPE_CAPSULE, .y2 = 2e9f}},
     IKV_BAD_ARGUMENT,
     "a capsule's ends"},
    {{.shape = {.type = IKV_SHAPE_POLYGON,
                .points = wrong_points,
                .point_count = 2}},
     IKV_BAD_ARGUMENT,
     "a polygon has 3 to 16 points"},
    {{.shape = {.type = IKV_SHAPE_POLYGON,
                .points = wrong_points,
                .point_count = 17}},
     IKV_BAD_ARGUMENT,
     "a polygon has 3 to 16 points"},
    {{.shape = {.type = IKV_SHAPE_POLYGON,
                .points = wrong_points,
                .point_count = 4}},
     IKV_BAD_ARGUMENT,
     "polygon"},
    {{.hit = 3}, IKV_BAD_ARGUMENT, "hit is none of"},
    {{.traits = 64}, IKV_BAD_ARGUMENT, "traits has an unknown bit"},
    {{.shape = {.type = 9}}, IKV_BAD_ARGUMENT, "shape.type"},
    {{.shape = {.reserved = {1, 0, 0}}}, IKV_BAD_ARGUMENT, "has reserved"},
    {{.shape = {.reserved = {0, 1, 0}}}, IKV_BAD_ARGUMENT, "has reserved"},
    {{.shape = {.reserved = {0, 0, 1}}}, IKV_BAD_ARGUMENT, "has reserved"},
    {{.shape = {.type = IKV_SHAPE_RECT, .width = -1}},
     IKV_BAD_ARGUMENT,
     "a rectangle's width"},
    {{.shape = {.type = IKV_SHAPE_CIRCLE, .radius = INFINITY}},
     IKV_BAD_ARGUMENT,
     "a radius must be"},
    {{.shape = {.type = IKV_SHAPE_CIRCLE, .x = NAN}},
     IKV_BAD_ARGUMENT,
     "the shape's position"},
    {{.rotation = {NAN, 0}}, IKV_BAD_ARGUMENT, "the rotation's parts must"},
    {{.scale = -1}, IKV_BAD_ARGUMENT, "scale must be 0 (for 1)"},
    {{.layer = 1}, IKV_BAD_ARGUMENT, "there is no such layer"},
    {{.grace = 5000}, IKV_BAD_ARGUMENT, "grace must be 0 to 4,095"},
    {{.tab = -2}, IKV_BAD_ARGUMENT, "tab must be IKV_NO_TAB or 0 to"},
    {{.shape = {.type = IKV_SHAPE_OWN}}, IKV_BAD_ARGUMENT, "own_test"},
    {{.shape = {.type = IKV_SHAPE_CAPSULE, .x2 = NAN}},
     IKV_BAD_ARGUMENT,
     "a capsule's ends"},
    {{.shape = {.type = IKV_SHAPE_POLYGON, .point_count = 3}},
     IKV_BAD_ARGUMENT,
     "a polygon has 3 to 16 points"},
    {{.parent = {0x7700}}, IKV_STALE, "the parent is not in this scene"},
    {{.size = 1}, IKV_BAD_SIZE, "begin with IKV_TARGET_INIT"},
};

START_TEST(wrong_targets)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target_config config = wrong_table[_i].config;
    ikv_target target;
    ikv_message message = {""};
    if (config.size == 0)
        config.size = sizeof config;
    status_is(ikv_scene_add(k.scene, &config, &target, &message),
              wrong_table[_i].status);
    ck_assert_msg(strstr(message.text, wrong_table[_i].message) != NULL,
                  "found \"%s\"", message.text);
    ck_assert_uint_eq(bus_counts(k.bus).targets, 0);
    kit_close(&k);
}
END_TEST

/* Cameras of layers and views that there are not, and questions to nobody. */
START_TEST(nobody_there)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.scene.layers = 2;
    k.config.scene.views = 2;
    kit_open(&k);
    ikv_camera camera = ikv_scene_camera(k.scene, 1, 1);
    for (uint32_t i = 0; i < sizeof camera.reserved; i++) {
        camera.reserved[i] = 1;
        status_is(ikv_scene_set_camera(k.scene, 1, 1, &camera),
                  IKV_BAD_ARGUMENT);
        camera.reserved[i] = 0;
    }
    camera.zoom = 2;
    for (uint32_t view = 0; view < 2; view++)
        for (uint32_t layer = 0; layer < 2; layer++)
            ok(ikv_scene_set_camera(k.scene, layer, view, &camera));
    ck_assert_float_eq(ikv_scene_camera(k.scene, 1, 1).zoom, 2);
    ck_assert_float_eq(ikv_scene_camera(k.scene, 2, 1).zoom, 0);
    ck_assert_float_eq(ikv_scene_camera(k.scene, 1, 2).zoom, 0);
    ck_assert_int_lt(ikv_scene_set_camera(k.scene, 2, 0, &camera), 0);
    ck_assert_int_lt(ikv_scene_set_camera(k.scene, 0, 2, &camera), 0);
    ck_assert_uint_eq(ikv_scene_revision(NULL), 0);
    ck_assert_uint_eq(scene_counts(NULL).relabels, 0);
    ck_assert_uint_eq(ikv_scene_layer(NULL, (ikv_target){1}), 0);
    ck_assert_uint_eq(ikv_scene_tags(NULL, (ikv_target){1}), 0);
    ck_assert(!ikv_scene_shown(NULL, (ikv_target){1}));
    kit_close(&k);
}
END_TEST

/* What depends on what is there: the parent's layer, polygons, depth, own
 * tests, and many at once. */
START_TEST(wrong_here)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.scene.layers = 2;
    k.config.scene.polygons = 1;
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target deck, boat, other;
    ikv_message message;
    config.layer = 1;
    ok(ikv_scene_add(k.scene, &config, &deck, NULL));
    config.parent = deck;
    ok(ikv_scene_add(k.scene, &config, &boat, NULL));
    config.layer = 0; /* the parent's */
    config.shape = ikv_scene_polygon(wrong_points, 3);
    ok(ikv_scene_add(k.scene, &config, &boat, NULL));
    status_is(ikv_scene_add(k.scene, &config, &other, &message),
              IKV_FULL_POLYGONS);
    config.shape = ikv_scene_point(0, 0);
    config.parent = (ikv_target){0};
    ok(ikv_scene_add(k.scene, &config, &other, NULL));
    config.layer = 1;
    config.parent = other;
    status_is(ikv_scene_add(k.scene, &config, &boat, &message),
              IKV_BAD_ARGUMENT);
    ck_assert_ptr_nonnull(strstr(message.text, "not that of the parent"));
    ikv_shape own = ikv_scene_own(0, 0, 1, 1);
    status_is(ikv_scene_set_shape(k.scene, other, &own), IKV_BAD_ARGUMENT);
    ikv_shape polygon = ikv_scene_polygon(wrong_points, 3);
    status_is(ikv_scene_set_shape(k.scene, other, &polygon), IKV_FULL_POLYGONS);
    const ikv_motion motions[] = {
        {other, 1, 2}, {{77}, 3, 4}, {other, NAN, 0}, {deck, 5, 6}};
    float own_at[2], view[2];
    status_is(ikv_scene_move_many(k.scene, motions, ROWS(motions)), IKV_STALE);
    ck_assert(ikv_scene_position(k.scene, deck, own_at, view));
    ck_assert(own_at[0] == 5 && own_at[1] == 6);
    ok(ikv_scene_move_many(k.scene, NULL, 0));
    status_is(ikv_scene_move_many(k.scene, NULL, 1), IKV_BAD_ARGUMENT);
    ikv_target last = deck;
    config.layer = 0;
    for (int i = 2; i < IKV_PATH_LIMIT; i++) {
        config.parent = last;
        ok(ikv_scene_add(k.scene, &config, &last, NULL));
    }
    status_is(ikv_scene_set_parent(k.scene, deck, other), IKV_FULL_DEPTH);
    kit_close(&k);
    ikv_scene *scene = NULL;
    ikv_scene_config none = IKV_SCENE_INIT;
    none.memory = ikv_host_memory();
    status_is(ikv_scene_open(&none, &scene), IKV_BAD_CONFIG);
    ck_assert_ptr_null(scene);
}
END_TEST

/* Views that there are not, asked by each that takes one. */
START_TEST(no_such_view)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.scene.views = 2;
    kit_open(&k);
    ikv_target none = {0}, t = rect_target(k.scene, none, 0, 0, 20, 20, 0);
    float a[2], b[2];
    for (uint32_t view = 0; view < 4; view++) {
        bool there = view < 2;
        ck_assert(ikv_scene_to_layer(k.scene, 0, view, 1, 1, a) == there);
        ck_assert(ikv_scene_to_local(k.scene, t, view, 1, 1, a, b) == there);
        ck_assert(ikv_scene_to_parent(k.scene, t, view, 1, 1, a) == there);
        ck_assert(ikv_scene_to_view(k.scene, t, view, 1, 1, a) == there);
        status_is(ikv_scene_turn_to(k.scene, t, view, 5, 5),
                  there ? IKV_OK : IKV_BAD_ARGUMENT);
    }
    ck_assert(!ikv_scene_to_layer(k.scene, 1, 0, 1, 1, a));
    ok(ikv_scene_move(k.scene, t, 10, 20)); /* from where it is */
    ok(ikv_scene_turn_to(k.scene, t, 0, 10, 25));
    ck_assert(ikv_scene_to_view(k.scene, t, 0, 5, 0, b));
    ck_assert(b[0] == 10 && b[1] == 25);
    ok(ikv_scene_move(k.scene, t, 0, 0)); /* to the left of where it is */
    ok(ikv_scene_turn_to(k.scene, t, 0, -5, 0));
    ck_assert(ikv_scene_to_view(k.scene, t, 0, 5, 0, b));
    ck_assert(b[0] == -5 && b[1] == 0);
    kit_close(&k);
}
END_TEST

/* Without a number in the config there is room for 64 polygons. */
START_TEST(usual_polygons)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target;
    ikv_message message;
    config.shape = ikv_scene_polygon(wrong_points, 3);
    for (int i = 0; i < 65; i++)
        status_is(ikv_scene_add(k.scene, &config, &target, &message),
                  i < 64 ? IKV_OK : IKV_FULL_POLYGONS);
    kit_close(&k);
}
END_TEST

/* A finger's margin, of targets that are turned and scaled too. */
START_TEST(margins)
{
    static const float turns[] = {0, 45, 90, 0}, scales[] = {1, 1, 2, 3};
    bench_kit k = {0};
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target;
    config.x = config.y = 500;
    config.rotation = ikv_scene_rotation(turns[_i]);
    config.scale = scales[_i];
    config.shape = ikv_scene_circle(0, 0, 10);
    config.grace = 8;
    ok(ikv_scene_add(k.scene, &config, &target, NULL));
    ikv_query query = IKV_QUERY_INIT;
    query.y = 500;
    for (int touch = 0; touch < 2; touch++) {
        float reach = (touch == 1 ? 18.0f : 10.0f) * scales[_i];
        query.touch = touch == 1;
        query.x = 500 + reach - 0.5f;
        ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits, target.bits);
        query.x = 500 + reach + 0.5f;
        ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits, 0);
    }
    kit_close(&k);
}
END_TEST

/* A rectangle of the view finds what lies in each of its corners. */
START_TEST(rect_corners)
{
    static const float at[4][2] = {{2, 2}, {94, 2}, {94, 94}, {2, 94}};
    bench_kit k = {0};
    kit_open(&k);
    ikv_query query = IKV_QUERY_INIT;
    ikv_target found[4], corner[4], none = {0};
    for (int i = 0; i < 4; i++)
        corner[i] = rect_target(k.scene, none, at[i][0], at[i][1], 4, 4, 0);
    rect_target(k.scene, none, 101, 2, 4, 4, 0);
    rect_target(k.scene, none, 2, 101, 4, 4, 0);
    ck_assert_uint_eq(ikv_scene_pick_rect(k.scene, &query, 100, 100, found, 4),
                      4);
    for (int i = 0; i < 4; i++) /* the topmost first */
        ck_assert_uint_eq(found[i].bits, corner[3 - i].bits);
    ikv_scene_counts n = scene_counts(k.scene);
    ck_assert_uint_eq(n.refreshes, 1);
    kit_close(&k);
}
END_TEST

/* Questions that can't be asked are answered with nothing, by each that asks.
 */
static const struct {
    float x, y, radius, width, height;
    uint32_t view, size;
    bool usable;
} query_table[] = {
    {5, 5, 0, 1, 1, 0, 0, true},      {NAN, 5, 0, 1, 1, 0, 0, false},
    {5, NAN, 0, 1, 1, 0, 0, false},   {INFINITY, 5, 0, 1, 1, 0, 0, false},
    {5, 2e9f, 0, 1, 1, 0, 0, false},  {5, 5, -1, 1, 1, 0, 0, false},
    {5, 5, NAN, 1, 1, 0, 0, false},   {5, 5, 2e9f, 1, 1, 0, 0, false},
    {5, 5, 0, 1, 1, 9, 0, false},     {5, 5, 0, 1, 1, 0, 4, false},
    {5, -2e9f, 0, 1, 1, 0, 0, false}, {-2e9f, 5, 0, 1, 1, 0, 0, false},
    {2e9f, 5, 0, 1, 1, 0, 0, false},
};

START_TEST(odd_questions)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target root = {0}, found[2];
    ikv_target t = rect_target(k.scene, root, 0, 0, 20, 20, 0);
    ikv_query query = IKV_QUERY_INIT;
    query.x = query_table[_i].x;
    query.y = query_table[_i].y;
    query.radius = query_table[_i].radius;
    query.view = (uint8_t)query_table[_i].view;
    if (query_table[_i].size != 0)
        query.size = query_table[_i].size;
    uint32_t expected = query_table[_i].usable;
    ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits != 0, expected);
    ck_assert_uint_eq(ikv_scene_pick_all(k.scene, &query, found, 2), expected);
    ck_assert_uint_eq(ikv_scene_pick_all(k.scene, &query, NULL, 0), expected);
    ck_assert_uint_eq(ikv_scene_pick_rect(k.scene, &query, 1, 1, found, 2),
                      expected);
    ck_assert_uint_eq(ikv_scene_beneath(k.scene, &query, t).bits, 0);
    ck_assert_uint_eq(ikv_scene_probe(k.scene, &query, t, NULL, 0) == 0,
                      expected);
    query = (ikv_query)IKV_QUERY_INIT;
    query.x = query.y = 5;
    static const float sizes[][2] = {{-1, 1},  {1, -1},   {NAN, 1},
                                     {1, NAN}, {2e9f, 1}, {1, 2e9f}};
    for (int i = 0; i < ROWS(sizes); i++)
        ck_assert_uint_eq(ikv_scene_pick_rect(k.scene, &query, sizes[i][0],
                                              sizes[i][1], found, 2),
                          0);
    kit_close(&k);
}
END_TEST

/* Deep trees end in a status; so does a full scene. */
/* HIT6: what an area meets and a line comes upon, by hand. a: 0..10, b: a circle
 * around (50, 5) of radius 5, c: a capsule from (80, 0) to (80, 20) of radius 2,
 * d: a triangle, e: hidden, f: hit off, g: in another layer, h: above a, tagged,
 * clipped to 5 units. */
static const struct {
    const char *what;
    ikv_shape shape;
    float x, y, degrees, scale;
    const char *met;
} area_table[] = {
    {"a disc",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, 5, 0, 0, 0, 0, {0}},
     60,
     5,
     0,
     0,
     "b"},
    {"not so near",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, 4.9f, 0, 0, 0, 0, {0}},
     60,
     5,
     0,
     0,
     ""},
    {"scaled",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, 2, 0, 0, 0, 0, {0}},
     60,
     5,
     0,
     2.5f,
     "b"},
    {"a box, from the top down",
     {IKV_SHAPE_RECT, 0, 0, 200, 20, 0, 0, 0, 0, 0, {0}},
     -1,
     0,
     0,
     0,
     "dcbha"},
    {"turned",
     {IKV_SHAPE_RECT, 0, 0, 100, 1, 0, 0, 0, 0, 0, {0}},
     50,
     -10,
     90,
     0,
     "b"},
    {"a capsule",
     {IKV_SHAPE_CAPSULE, 0, 0, 0, 0, 1, 20, 0, 0, 0, {0}},
     58,
     10,
     0,
     0,
     "c"},
    {"a point in it",
     {IKV_SHAPE_POINT, 0, 0, 0, 0, 0, 0, 0, 0, 0, {0}},
     50,
     5,
     0,
     0,
     "b"},
    {"clipped away",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, 1, 0, 0, 0, 0, {0}},
     5,
     40,
     0,
     0,
     ""},
    {"no shape",
     {IKV_SHAPE_NONE, 0, 0, 0, 0, 0, 0, 0, 0, 0, {0}},
     5,
     5,
     0,
     0,
     ""},
    {"a faulty one",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, -1, 0, 0, 0, 0, {0}},
     5,
     5,
     0,
     0,
     ""},
    {"too far",
     {IKV_SHAPE_CIRCLE, 0, 0, 0, 0, 1, 0, 0, 0, 0, {0}},
     2e9f,
     5,
     0,
     0,
     ""},
};

static const struct {
    const char *what;
    float x, y, x2, y2, radius;
    const char *met; /* with where the line is then, in whole units */
} line_table[] = {
    {"across all", -20, 5, 180, 5, 0, "h0 a0 b45 c78 d105 "},
    {"the other way", 180, 5, -20, 5, 0, "d115 c82 b55 h10 a10 "},
    {"begins within", 50, 5, 79, 5, 0, "b50 c78 "},
    {"as wide", -20, 5, 180, 5, 3, "h-3 a-3 b42 c75 d101 "},
    {"past it", 40, 11, 60, 11, 0, ""},
    {"past it, wide", 40, 11, 60, 11, 2, "b46 "},
    {"a corner", 100, 20, 109, 29, 0, ""},
    {"nowhere to go", 50, 5, 50, 5, 0, "b50 "},
    {"too far", 50, 5, 3e9f, 5, 0, ""},
    {"no number", 50, 5, NAN, 5, 0, ""},
};

static ikv_target found_all[9];

static void open_found(bench_kit *k)
{
    static const float triangle[] = {100, 0, 120, 0, 110, 10};
    const struct {
        ikv_shape shape;
        float x;
        uint32_t hit, layer;
        bool hidden, clip;
    } rows[] = {{ikv_scene_rect(0, 0, 10, 10), 0, 0, 0, false, true},
                {ikv_scene_circle(0, 0, 5), 50, 0, 0, false, false},
                {ikv_scene_capsule(0, -5, 0, 15, 2), 80, 0, 0, false, false},
                {ikv_scene_polygon(triangle, 3), 0, 0, 0, false, false},
                {ikv_scene_rect(0, 0, 9, 9), 20, 0, 0, true, false},
                {ikv_scene_rect(0, 0, 9, 9), 20, IKV_HIT_OFF, 0, false, false},
                {ikv_scene_rect(0, 0, 9, 9), 20, 0, 1, false, false},
                {ikv_scene_rect(0, -50, 99, 99), 0, 0, 0, false, false}};
    kit_prepare(k);
    k->config.scene.layers = 2;
    kit_open(k);
    for (uint32_t i = 0; i < ROWS(rows); i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.shape = rows[i].shape;
        config.x = rows[i].x;
        config.y = i == 1 || i == 2 ? 5 : 0;
        config.hit = rows[i].hit;
        config.layer = rows[i].layer;
        config.hidden = rows[i].hidden;
        config.clip = rows[i].clip;
        config.tags = i == 7 ? 2 : 1;
        config.z = i == 7 ? 9 : 0;
        if (i == 7)
            config.parent = found_all[0];
        ok(ikv_scene_add(k->scene, &config, &found_all[i], NULL));
    }
    /* The first with what is in it lies lowest but for z: on top of all. */
    ok(ikv_scene_set_z(k->scene, found_all[0], -1));
}

static char letter_found(ikv_target target)
{
    char letter = 'a';
    while (found_all[letter - 'a'].bits != target.bits)
        letter++;
    return letter;
}

START_TEST(found_in_areas)
{
    bench_kit k = {0};
    ikv_target to[9], more[1];
    ikv_area area = IKV_AREA_INIT;
    record met = {""};
    open_found(&k);
    area.shape = area_table[_i].shape;
    area.x = area_table[_i].x;
    area.y = area_table[_i].y;
    area.scale = area_table[_i].scale;
    area.rotation = ikv_scene_rotation(area_table[_i].degrees);
    uint32_t count = ikv_scene_find(k.scene, &area, to, 9);
    for (uint32_t i = 0; i < count; i++)
        note(&met, "%c", letter_found(to[i]));
    ck_assert_msg(strcmp(met.text, area_table[_i].met) == 0, "%s: %s",
                  area_table[_i].what, met.text);
    ck_assert_uint_eq(ikv_scene_find(k.scene, &area, NULL, 9), count);
    ck_assert_uint_eq(ikv_scene_find(k.scene, &area, more, 1), count);
    ck_assert(count == 0 || more[0].bits == to[0].bits);
    area.tags = 2;
    ck_assert_uint_eq(ikv_scene_find(k.scene, &area, NULL, 0),
                      strchr(met.text, 'h') != NULL);
    area.tags = 0;
    area.skip_body = found_all[1];
    ck_assert_uint_eq(ikv_scene_find(k.scene, &area, NULL, 0),
                      count - (strchr(met.text, 'b') != NULL));
    area.layer = 2;
    ck_assert_uint_eq(ikv_scene_find(k.scene, &area, to, 9), 0);
    kit_close(&k);
}
END_TEST

START_TEST(found_along)
{
    bench_kit k = {0};
    ikv_crossing to[9];
    ikv_line line = IKV_LINE_INIT;
    record met = {""};
    open_found(&k);
    line.x = line_table[_i].x;
    line.y = line_table[_i].y;
    line.x2 = line_table[_i].x2;
    line.y2 = line_table[_i].y2;
    line.radius = line_table[_i].radius;
    uint32_t count = ikv_scene_along(k.scene, &line, to, 9);
    for (uint32_t i = 0; i < count; i++)
        note(&met, "%c%.0f ", letter_found(to[i].target), (double)to[i].x);
    ck_assert_msg(strcmp(met.text, line_table[_i].met) == 0, "%s: %s",
                  line_table[_i].what, met.text);
    ck_assert_uint_eq(ikv_scene_along(k.scene, &line, NULL, 9), count);
    line.radius = -1;
    ck_assert_uint_eq(ikv_scene_along(k.scene, &line, to, 9), 0);
    kit_close(&k);
}
END_TEST

START_TEST(limits)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.bus.targets = 70;
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0}, last = {0}, middle = {0}, above = {0};
    ikv_message message;
    for (int i = 1; i < IKV_PATH_LIMIT; i++) {
        config.parent = target;
        above = target;
        ok(ikv_scene_add(k.scene, &config, &target, NULL));
        middle = i == IKV_PATH_LIMIT / 2 ? target : middle;
    }
    /* A leaf at half the depth fits at the greatest, and no deeper. */
    config.parent = middle;
    ok(ikv_scene_add(k.scene, &config, &last, NULL));
    status_is(ikv_scene_set_parent(k.scene, last, target), IKV_FULL_DEPTH);
    ok(ikv_scene_set_parent(k.scene, last, above));
    valid(ikv_scene_validate(k.scene));
    ok(ikv_scene_remove(k.scene, last));
    config.parent = target;
    status_is(ikv_scene_add(k.scene, &config, &last, &message), IKV_FULL_DEPTH);
    config.parent.bits = 0;
    for (int i = IKV_PATH_LIMIT; i < 71; i++)
        ok(ikv_scene_add(k.scene, &config, &last, NULL));
    status_is(ikv_scene_add(k.scene, &config, &target, &message),
              IKV_FULL_TARGETS);
    ck_assert_str_eq(message.text,
                     "raise targets (of the bus and of the scene)");
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------- rotation and cameras -- */

static const struct {
    float degrees, cos, sin;
} rotation_table[] = {
    {0, 1, 0},    {90, 0, 1},  {-90, 0, -1},  {180, -1, 0},  {270, 0, -1},
    {-360, 1, 0}, {NAN, 1, 0}, {1e20f, 1, 0}, {-450, 0, -1},
};

/* T3: exact at quarter turns, near the library's elsewhere. */
START_TEST(rotations)
{
    for (int i = 0; i < ROWS(rotation_table); i++) {
        ikv_rotation r = ikv_scene_rotation(rotation_table[i].degrees);
        ck_assert_msg(r.cos == rotation_table[i].cos &&
                          r.sin == rotation_table[i].sin,
                      "%g: %g %g", (double)rotation_table[i].degrees,
                      (double)r.cos, (double)r.sin);
    }
    for (float d = -800; d < 800; d += 0.37f) {
        ikv_rotation r = ikv_scene_rotation(d);
        double a = (double)d * 3.14159265358979323846 / 180;
        ck_assert(fabs((double)r.cos - cos(a)) < 1e-7);
        ck_assert(fabs((double)r.sin - sin(a)) < 1e-7);
        ikv_rotation again = ikv_scene_direction(r.cos * 1e-3f, r.sin * 1e-3f);
        ck_assert(fabsf(again.cos - r.cos) < 3e-7f);
        ck_assert(fabsf(again.sin - r.sin) < 3e-7f);
    }
    ikv_rotation none = ikv_scene_direction(0, 0);
    ck_assert(none.cos == 1 && none.sin == 0);
}
END_TEST

/* Layers: a camera that zooms, and one that does not; out of what is there. */
START_TEST(cameras)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.scene.layers = 2;
    k.config.scene.views = 2;
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target world, panel;
    config.shape = ikv_scene_rect(0, 0, 100, 100);
    ok(ikv_scene_add(k.scene, &config, &world, NULL));
    config.layer = 1;
    config.shape = ikv_scene_rect(0, 0, 10, 10);
    ok(ikv_scene_add(k.scene, &config, &panel, NULL));
    ikv_camera zoomed = {
        .x = 50, .y = 50, .view_x = 100, .view_y = 100, .zoom = 4};
    uint64_t revision = ikv_scene_revision(k.scene);
    ok(ikv_scene_set_camera(k.scene, 0, 0, &zoomed));
    ck_assert_uint_ne(ikv_scene_revision(k.scene), revision);
    ck_assert(ikv_scene_camera(k.scene, 0, 0).zoom == 4);
    ck_assert(ikv_scene_camera(k.scene, 9, 0).zoom == 0);
    ck_assert_uint_eq(pick_at(k.scene, 5, 5, 0, 0).bits, panel.bits);
    ck_assert_uint_eq(pick_at(k.scene, 5, 5, 0, 1).bits, world.bits);
    ck_assert_uint_eq(pick_at(k.scene, -99, 20, 0, 0).bits, world.bits);
    ck_assert_uint_eq(pick_at(k.scene, 299, 299, 0, 0).bits, world.bits);
    ck_assert_uint_eq(pick_at(k.scene, 301, 20, 0, 0).bits, 0);
    float at[2], layer[2];
    ck_assert(ikv_scene_to_local(k.scene, world, 0, 104, 96, layer, at));
    ck_assert(at[0] == 51 && at[1] == 49 && layer[0] == 51);
    ck_assert(ikv_scene_to_view(k.scene, world, 0, 51, 49, at));
    ck_assert(at[0] == 104 && at[1] == 96);
    ck_assert(ikv_scene_to_layer(k.scene, 1, 0, 7, 8, at));
    ck_assert(at[0] == 7 && at[1] == 8);
    ck_assert(!ikv_scene_to_layer(k.scene, 2, 0, 7, 8, at));
    ck_assert(!ikv_scene_to_view(k.scene, world, 2, 0, 0, at));
    ck_assert(!ikv_scene_to_parent(k.scene, ikv_bus_root(k.bus), 0, 0, 0, at));
    ck_assert_uint_eq(ikv_scene_layer(k.scene, panel), 1);
    zoomed.hidden = true;
    ok(ikv_scene_set_camera(k.scene, 0, 0, &zoomed));
    ck_assert_uint_eq(pick_at(k.scene, 50, 50, 0, 0).bits, 0);
    ikv_query other = IKV_QUERY_INIT;
    other.view = 1;
    other.x = 50;
    ck_assert_uint_eq(ikv_scene_pick(k.scene, &other, 0).bits, world.bits);
    other.view = 2;
    ck_assert_uint_eq(ikv_scene_pick(k.scene, &other, 0).bits, 0);
    ok(ikv_scene_set_parent(k.scene, panel, world)); /* into its layer */
    ck_assert_uint_eq(ikv_scene_layer(k.scene, panel), 0);
    zoomed.zoom = -1;
    status_is(ikv_scene_set_camera(k.scene, 0, 0, &zoomed), IKV_BAD_ARGUMENT);
    zoomed.zoom = 1;
    status_is(ikv_scene_set_camera(k.scene, 2, 0, &zoomed), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_set_camera(k.scene, 0, 0, NULL), IKV_BAD_ARGUMENT);
    ikv_camera small = ikv_scene_fit(0.5f, 0.25f, 0.5f, 0.5f);
    ck_assert_float_eq(small.zoom, 1);
    ikv_camera fit = ikv_scene_fit(320, 240, 1000, 480); /* a letterbox */
    ck_assert(fit.zoom == 2 && fit.x == 160 && fit.view_x == 500);
    ck_assert(ikv_scene_fit(0, 1, 1, 1).zoom == 0);
    kit_close(&k);
}
END_TEST

/* HIT1 to HIT5: why a target is not what is found: all of it, in the order in
 * which a hit test gives up, with who is in the way and by how much. */
START_TEST(obstacles)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target none = {0};
    ikv_target outer = rect_target(k.scene, none, 0, 0, 50, 50, 0);
    ikv_target t = rect_target(k.scene, outer, 40, 0, 50, 50, 0);
    ikv_target cover = {0};
    ikv_query q = IKV_QUERY_INIT;
    char text[400];
    q.x = 80;
    q.y = 10;
#define WHY(expected)                                                          \
    do {                                                                       \
        ikv_obstacle why[8];                                                   \
        uint32_t count = ikv_scene_probe(k.scene, &q, t, why, 8);              \
        ck_assert_uint_le(count, 8);                                           \
        text[0] = '\0';                                                        \
        for (uint32_t i = 0; i < count; i++) {                                 \
            size_t used = strlen(text);                                        \
            bool number = why[i].found.type == IKV_VALUE_NUMBER;               \
            used += (size_t)snprintf(text + used, sizeof text - used, "%s%s",  \
                                     ikv_obstacle_name(why[i].code),           \
                                     why[i].by.bits == 0            ? ""       \
                                     : why[i].by.bits == outer.bits ? "@outer" \
                                     : why[i].by.bits == cover.bits ? "@cover" \
                                     : why[i].by.bits == t.bits     ? "@t"     \
                                                                    : "@?");       \
            if (number)                                                        \
                used += (size_t)snprintf(text + used, sizeof text - used,      \
                                         ":%g", why[i].found.bits.number);     \
            snprintf(text + used, sizeof text - used, " ");                    \
        }                                                                      \
        ck_assert_str_eq(text, expected);                                      \
        ikv_obstacle first = {0};                                              \
        ck_assert_uint_eq(ikv_scene_probe(k.scene, &q, t, &first, 1), count);  \
        ck_assert_uint_eq(first.code, count > 0 ? why[0].code : 0);            \
    } while (0)
    WHY("");
    cover = rect_target(k.scene, none, 0, 0, 500, 500, 5);
    WHY("covered@cover ");
    ok(ikv_scene_set_clip(k.scene, outer, true));
    WHY("clipped@outer ");
    q.x = 300;
    WHY("outside:210 clipped@outer ");
    q.radius = 5;
    WHY("outside:205 clipped@outer ");
    q.radius = 0;
    q.touch = true;
    ok(ikv_scene_set_grace(k.scene, t, 10));
    WHY("outside:200 clipped@outer ");
    q.touch = false;
    q.skip_body = t;
    WHY("body@t outside:210 clipped@outer ");
    q.tags = 4;
    WHY("tags body@t outside:210 clipped@outer ");
    ok(ikv_scene_set_hit(k.scene, t, IKV_HIT_OFF));
    WHY("hit-off tags body@t outside:210 clipped@outer ");
    ok(ikv_scene_show(k.scene, outer, false));
    WHY("parent-hidden@outer hit-off tags body@t outside:210 clipped@outer ");
    ok(ikv_scene_show(k.scene, t, false));
    WHY("hidden parent-hidden@outer hit-off tags body@t outside:210 "
        "clipped@outer ");
    ck_assert(!ikv_scene_shown(k.scene, t));
    q.x = 45; /* inside: who lies above it is a question now */
    q.tags = 0;
    WHY("hidden parent-hidden@outer hit-off body@t covered@cover ");
    ikv_shape no_shape = {.type = IKV_SHAPE_NONE};
    ok(ikv_scene_set_shape(k.scene, t, &no_shape));
    WHY("hidden parent-hidden@outer hit-off no-shape body@t ");
    q.view = 1;
    WHY("no-view ");
    ok(ikv_scene_remove(k.scene, t));
    WHY("stale ");
#undef WHY
    kit_close(&k);
}
END_TEST

/* What was set is what is told. */
START_TEST(told_as_set)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target t = rect_target(k.scene, (ikv_target){0}, 0, 0, 20, 20, 3);
    ikv_rotation none = ikv_scene_turned(k.scene, t);
    ck_assert(none.cos == 1 && none.sin == 0);
    ck_assert(ikv_scene_z(k.scene, t) == 3 && !ikv_scene_clip(k.scene, t) &&
              ikv_scene_grace(k.scene, t) == 0 &&
              ikv_scene_scale(k.scene, t) == 1);
    ok(ikv_scene_set_z(k.scene, t, -7));
    ok(ikv_scene_set_clip(k.scene, t, true));
    ok(ikv_scene_set_grace(k.scene, t, 2.5f));
    ok(ikv_scene_resize(k.scene, t, 4));
    ok(ikv_scene_turn(k.scene, t, ikv_scene_rotation(90)));
    ikv_rotation turned = ikv_scene_turned(k.scene, t);
    ck_assert(turned.cos == 0 && turned.sin == 1);
    ck_assert(ikv_scene_z(k.scene, t) == -7 && ikv_scene_clip(k.scene, t) &&
              ikv_scene_grace(k.scene, t) == 2.5f &&
              ikv_scene_scale(k.scene, t) == 4);
    ok(ikv_scene_remove(k.scene, t));
    turned = ikv_scene_turned(k.scene, t);
    ck_assert(turned.cos == 0 && turned.sin == 0 &&
              ikv_scene_z(k.scene, t) == 0 && !ikv_scene_clip(k.scene, t) &&
              ikv_scene_grace(k.scene, t) == 0 &&
              ikv_scene_scale(k.scene, t) == 0);
    kit_close(&k);
}
END_TEST

/* What a target costs is what the footprint grows by. */
START_TEST(target_bytes)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_scene_counts counts = scene_counts(k.scene);
    ikv_scene_config config = IKV_SCENE_INIT;
    config.bus = k.bus;
    config.targets = 1000;
    size_t few = ikv_scene_footprint(&config);
    config.targets = 101000;
    double each = (double)(ikv_scene_footprint(&config) - few) / 100000;
    ck_assert_msg(
        counts.target_bytes > 0.9 * each && counts.target_bytes < 1.3 * each,
        "counted are %g, it grows by %g", (double)counts.target_bytes, each);
    ck_assert(counts.index_bytes > 0 &&
              counts.index_bytes < counts.target_bytes);
    kit_close(&k);
}
END_TEST

/* Raising again and again uses up the room between keys: they are dealt anew,
 * and the order stays. */
START_TEST(raising)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target none = {0};
    ikv_target parent = rect_target(k.scene, none, 0, 0, 50, 50, 0);
    ikv_target a = rect_target(k.scene, parent, 0, 0, 50, 50, 0);
    ikv_target b = rect_target(k.scene, parent, 0, 0, 50, 50, 0);
    ikv_target above = rect_target(k.scene, none, 0, 0, 5, 5, 0);
    for (int i = 0; i < 70000; i++) {
        ok(ikv_scene_raise(k.scene, i % 2 ? b : a));
        if (i % 1000 == 0)
            ck_assert_uint_eq(pick_at(k.scene, 20, 20, 0, 0).bits,
                              i % 2 ? b.bits : a.bits);
    }
    for (int i = 0; i < 70000; i++)
        ok(ikv_scene_lower(k.scene, i % 2 ? b : a));
    ck_assert_uint_eq(pick_at(k.scene, 20, 20, 0, 0).bits, a.bits);
    ck_assert_uint_eq(pick_at(k.scene, 2, 2, 0, 0).bits, above.bits);
    ck_assert_uint_gt(scene_counts(k.scene).relabels, 0);
    ck_assert_uint_le(scene_counts(k.scene).relabels, 100);
    kit_close(&k);
}
END_TEST

typedef struct sibling {
    ikv_target target;
    uint32_t layer;
    int z, turn; /* of equal z the one with the greatest turn lies on top */
} sibling;

static int from_the_top(const void *a, const void *b)
{
    const sibling *one = a, *other = b;
    if (one->layer != other->layer)
        return one->layer < other->layer ? 1 : -1;
    return one->z != other->z ? (one->z < other->z) - (one->z > other->z)
                              : other->turn - one->turn;
}

/* The range of z's, and whether in several layers. */
static const struct {
    uint32_t first, later;
    bool layers;
} sibling_table[] = {
    {100, 100, false}, {1000000, 100, false}, {5, 5, false},
    {1, 100000, true}, {1000000, 3, true},
};

/* HIT1: among a thousand siblings, with others elsewhere in the tree, each
 * comes where its layer, its z and its turn put it. */
START_TEST(many_siblings)
{
    enum {
        SIBLINGS = 2000
    };
    static sibling all[SIBLINGS];
    static ikv_target found[SIBLINGS];
    int count = SIBLINGS;
    bench_kit k;
    uint64_t seed = 11;
    kit_prepare(&k);
    k.config.bus.targets = 4096;
    k.config.scene.layers = 3;
    kit_open(&k);
    ikv_target none = {0};
    ikv_target other = rect_target(k.scene, none, 50, 50, 9, 9, 200);
    for (int i = 0; i < SIBLINGS; i++) {
        all[i].z = (int)random_below(&seed, sibling_table[_i].first);
        all[i].turn = i;
        all[i].target = rect_target(k.scene, none, 0, 0, 10, 10, all[i].z);
        rect_target(k.scene, other, 0, 0, 9, 9, (int)random_below(&seed, 1000));
    }
    for (int i = 0; i < 500; i++) { /* what is gone is no neighbour */
        ok(ikv_scene_remove(k.scene, all[i * 2].target));
        all[i * 2] = all[--count];
    }
    for (int i = 1; i <= 3000; i++) {
        sibling *one = &all[random_below(&seed, (uint32_t)count)];
        if (i % 7 < 2) { /* nor what is another's child */
            ok(i % 7 == 0 ? ikv_scene_remove(k.scene, one->target)
                          : ikv_scene_set_parent(k.scene, one->target, other));
            *one = all[--count];
            continue;
        }
        uint32_t what = random_below(&seed, sibling_table[_i].layers ? 5 : 4);
        uint32_t layer = what < 4 ? one->layer : random_below(&seed, 3);
        if (what < 4 || layer != one->layer)
            one->turn = what == 0 ? -i : SIBLINGS + i;
        one->layer = layer;
        if (what == 2 || what == 3)
            one->z = (int)random_below(&seed, sibling_table[_i].later);
        ok(what == 0   ? ikv_scene_lower(k.scene, one->target)
           : what == 1 ? ikv_scene_raise(k.scene, one->target)
           : what == 4 ? ikv_scene_set_layer(k.scene, one->target, layer)
                       : ikv_scene_set_z(k.scene, one->target, one->z));
        if (i % 500 < 2) /* now and then all is brought up to date */
            pick_at(k.scene, 5, 5, 0, 0);
        if (i == 1501)
            valid(ikv_scene_validate(k.scene));
    }
    qsort(all, (size_t)count, sizeof *all, from_the_top);
    ikv_query query = IKV_QUERY_INIT;
    query.x = query.y = 5;
    ck_assert_uint_eq(ikv_scene_pick_all(k.scene, &query, found, SIBLINGS),
                      (uint32_t)count);
    for (int i = 0; i < count; i++)
        ck_assert_uint_eq(found[i].bits, all[i].target.bits);
    valid(ikv_scene_validate(k.scene));
    kit_close(&k);
}
END_TEST

/* A scene's target is the scene's to remove, and the bus's again once the scene
 * is closed. */
START_TEST(removed_by_the_bus)
{
    ikv_bus_config own = IKV_BUS_INIT;
    ikv_scene_config config = IKV_SCENE_INIT;
    ikv_target none = {0};
    ikv_bus *bus;
    ikv_scene *s;
    own.memory = config.memory = ikv_host_memory();
    own.targets = config.targets = 2;
    ok(ikv_bus_open(&own, &bus));
    config.bus = bus;
    ok(ikv_scene_open(&config, &s));
    ikv_target a = rect_target(s, none, 0, 0, 9, 9, 0);
    ikv_target b = rect_target(s, a, 0, 0, 9, 9, 0);
    status_is(ikv_bus_remove_target(bus, b), IKV_BAD_ARGUMENT);
    ck_assert(ikv_bus_target_alive(bus, b));
    ok(ikv_scene_remove(s, b));
    status_is(ikv_bus_remove_target(bus, b), IKV_STALE);
    rect_target(s, a, 0, 0, 9, 9, 0);
    valid(ikv_scene_validate(s));
    ok(ikv_scene_close(s));
    ok(ikv_bus_remove_target(bus, a));
    ok(ikv_bus_close(bus));
}
END_TEST

/* Each call that changes a target, on one that is gone. */
START_TEST(stale_targets)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.scene.polygons = 1;
    kit_open(&k);
    ikv_scene *s = k.scene;
    ikv_target t = {0x9900}, none = {0};
    ikv_shape shape = ikv_scene_point(0, 0);
    float corners[] = {0, 0, 9, 0, 0, 9};
    ikv_status found[] = {ikv_scene_move(s, t, 0, 0),
                          ikv_scene_turn(s, t, (ikv_rotation){1, 0}),
                          ikv_scene_turn_to(s, t, 0, 0, 0),
                          ikv_scene_resize(s, t, 1),
                          ikv_scene_set_shape(s, t, &shape),
                          ikv_scene_set_hit(s, t, 0),
                          ikv_scene_set_clip(s, t, true),
                          ikv_scene_set_grace(s, t, 1),
                          ikv_scene_set_traits(s, t, 0),
                          ikv_scene_show(s, t, true),
                          ikv_scene_set_z(s, t, 1),
                          ikv_scene_raise(s, t),
                          ikv_scene_lower(s, t),
                          ikv_scene_set_tags(s, t, 1),
                          ikv_scene_move_many(s, &(ikv_motion){t, 0, 0}, 1)};
    for (int i = 0; i < ROWS(found); i++)
        status_is(found[i], IKV_STALE);
    t = rect_target(s, none, 0, 0, 9, 9, 0);
    status_is(ikv_scene_turn(s, t, (ikv_rotation){NAN, 0}), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_resize(s, t, -1), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_set_grace(s, t, -1), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_set_grace(s, t, 4095.5f), IKV_BAD_ARGUMENT);
    ok(ikv_scene_set_grace(s, t, 4095));
    status_is(ikv_scene_set_traits(s, t, IKV_PASSES), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_set_hit(s, t, 3), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_set_shape(s, t, NULL), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_move(s, t, INFINITY, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_turn_to(s, t, 5, 0, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_scene_move_many(s, NULL, 1), IKV_BAD_ARGUMENT);
    shape = ikv_scene_polygon(corners, 3);
    ok(ikv_scene_set_shape(s, t, &shape));
    ok(ikv_scene_set_shape(s, t, &shape)); /* in the place of itself */
    ikv_target other = rect_target(s, none, 0, 0, 9, 9, 0);
    status_is(ikv_scene_set_shape(s, other, &shape), IKV_FULL_POLYGONS);
    ok(ikv_scene_remove(s, t));
    ok(ikv_scene_set_shape(s, other, &shape));
    ck_assert_uint_eq(scene_counts(s).polygons, 1);
    ck_assert_uint_eq(scene_counts(NULL).targets, 0);
    ikv_scene_config config = k.config.scene;
    config.layers = 33;
    ck_assert_uint_eq(ikv_scene_footprint(&config), 0);
    kit_close(&k);
}
END_TEST

/* --------------------------------------------------------------- random -- */

enum {
    MANY = 60
};

typedef struct reference {
    ikv_target target;
    bool alive;
    int parent, z, hit;
    uint32_t age;
    float x, y, width, height;
} reference;

static reference model[MANY];

static bool model_above(int a, int b)
{
    return model[a].z != model[b].z ? model[a].z > model[b].z
                                    : model[a].age > model[b].age;
}

/* The nth hit from the top in this item's children, then the item. */
static ikv_target model_pick(int parent, float x, float y, uint32_t *nth)
{
    bool seen[MANY] = {false};
    ikv_target none = {0};
    for (;;) {
        int top = -1;
        for (int i = 0; i < MANY; i++)
            if (model[i].alive && model[i].parent == parent && !seen[i] &&
                (top < 0 || model_above(i, top)))
                top = i;
        if (top < 0)
            return none;
        seen[top] = true;
        const reference *r = &model[top];
        float lx = x - r->x, ly = y - r->y;
        ikv_target hit = model_pick(top, lx, ly, nth);
        if (hit.bits != 0)
            return hit;
        if (r->hit != IKV_HIT_OFF && lx >= 0 && ly >= 0 && lx < r->width &&
            ly < r->height && (*nth)-- == 0)
            return r->target;
    }
}

static void model_forget(int i)
{
    model[i].alive = false;
    for (int j = 0; j < MANY; j++)
        if (model[j].alive && model[j].parent == i)
            model_forget(j);
}

/* Whole numbers, so that sums of positions are exact in both. */
static void random_change(bench_kit *k, uint64_t *seed, uint32_t *age)
{
    int i = (int)random_below(seed, MANY),
        other = (int)random_below(seed, MANY);
    reference *r = &model[i];
    ikv_target none = {0};
    if (!r->alive) {
        int parent = model[other].alive && random_below(seed, 2) ? other : -1;
        *r = (reference){.alive = true, .parent = parent, .age = ++*age};
        r->x = (float)random_below(seed, 60) - 10;
        r->y = (float)random_below(seed, 60) - 10;
        r->width = (float)random_below(seed, 50);
        r->height = (float)random_below(seed, 50);
        r->z = (int)random_below(seed, 3);
        r->target =
            rect_target(k->scene, parent < 0 ? none : model[parent].target,
                        r->x, r->y, r->width, r->height, r->z);
        return;
    }
    switch (random_below(seed, 5)) {
    case 0:
        r->x = (float)random_below(seed, 60) - 10;
        ok(ikv_scene_move(k->scene, r->target, r->x, r->y));
        break;
    case 1:
        r->z = (int)random_below(seed, 3);
        r->age = ++*age;
        ok(ikv_scene_set_z(k->scene, r->target, r->z));
        break;
    case 2:
        r->hit = (int)random_below(seed, 3);
        ok(ikv_scene_set_hit(k->scene, r->target, (uint32_t)r->hit));
        break;
    case 3:
        if (model[other].alive &&
            ikv_scene_set_parent(k->scene, r->target, model[other].target) ==
                IKV_OK) {
            r->parent = other;
            r->age = ++*age;
        }
        break;
    default:
        if (random_below(seed, 4) == 0) {
            ok(ikv_scene_remove(k->scene, r->target));
            model_forget(i);
        }
        break;
    }
}

START_TEST(random_scenes)
{
    bench_kit k = {0};
    kit_open(&k);
    uint64_t seed = 77;
    uint32_t age = 0;
    memset(model, 0, sizeof model);
    for (int i = 0; i < 6000; i++) {
        random_change(&k, &seed, &age);
        float x = (float)random_below(&seed, 100),
              y = (float)random_below(&seed, 100);
        uint32_t nth = random_below(&seed, 3), left = nth;
        ikv_target expected = model_pick(-1, x, y, &left);
        ck_assert_uint_eq(pick_at(k.scene, x, y, 0, nth).bits, expected.bits);
        if (i % 50 == 0)
            valid(ikv_scene_validate(k.scene));
    }
    kit_close(&k);
}
END_TEST

static record told;
static ikv_bus *now_bus;
static ikv_scene *telling;

static const char *id_of(ikv_target target, char *text)
{
    snprintf(text, 12, "%u", (unsigned)ikv_bus_target_id(now_bus, target));
    return target.bits == 0 ? "-" : text;
}

static ikv_verdict tell(const ikv_event *event, const ikv_delivery *d, void *u)
{
    char a[12], b[12], c[12];
    (void)d, (void)u;
    note(&told, "%s@%s,%s,%s,%u:%u ",
         ikv_catalogue_info(NULL, event->kind)->name + 5,
         id_of(event->target, a), id_of(event->source, b),
         id_of(event->tree.parent, c), event->tree.reason,
         (unsigned)event->tree.id);
    if (event->kind == IKV_KIND_TREE_HIDE) /* handlers may change it again */
        ikv_scene_remove(telling, event->target);
    return IKV_CONTINUE;
}

/* tree.attach to tree.hide: opt-in, at once, in order; none where it is off. */
START_TEST(announced)
{
    bench_kit k;
    ikv_target everywhere = {0}, a, b;
    ikv_target_config config = IKV_TARGET_INIT;
    told.text[0] = '\0';
    kit_prepare(&k);
    k.config.scene.announces = _i == 0;
    kit_open(&k);
    now_bus = k.bus;
    telling = k.scene;
    ikv_subscription_config wants = IKV_SUBSCRIPTION_INIT;
    wants.families = 1u << IKV_FAMILY_TREE;
    wants.handler = tell;
    wants.at = everywhere;
    ok(ikv_bus_subscribe(k.bus, &wants, NULL, NULL));
    config.id = 1;
    ok(ikv_scene_add(k.scene, &config, &a, NULL));
    config.id = 2;
    config.parent = a;
    ok(ikv_scene_add(k.scene, &config, &b, NULL));
    ok(ikv_scene_move(k.scene, b, 3, 4));
    ok(ikv_scene_show(k.scene, b, true));
    const ikv_query query =
        IKV_QUERY_INIT; /* what it settles changes nothing */
    ikv_scene_pick(k.scene, &query, 0);
    ok(ikv_scene_show(k.scene, b, true));
    ok(ikv_scene_show(k.scene, b, true));
    ok(ikv_scene_set_parent(k.scene, b, everywhere));
    ok(ikv_scene_show(k.scene, b, false));
    ck_assert_int_eq(ikv_scene_alive(k.scene, b), _i != 0);
    ok(ikv_scene_remove(k.scene, a));
    ck_assert_str_eq(
        told.text, _i == 0 ? "attach@1,-,0,0:1 attach@2,-,1,0:2 move@2,-,1,0:2 "
                             "detach@2,-,1,1:2 attach@2,-,0,1:2 "
                             "hide@2,-,0,0:2 detach@0,0,0,2:2 "
                             "detach@0,0,0,2:1 "
                           : "");
    kit_close(&k);
}
END_TEST

/* HIT1: what clips does so by its shape alone: its own grace, by which a finger
 * finds it, lets no more of its children be hit. */
START_TEST(clips_without_grace)
{
    bench_kit k = {0};
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target box, boat;
    ikv_query query = IKV_QUERY_INIT;
    kit_open(&k);
    config.shape = ikv_scene_rect(0, 0, 10, 10);
    config.clip = true;
    config.grace = 6;
    config.hit = IKV_HIT_OFF;
    ok(ikv_scene_add(k.scene, &config, &box, NULL));
    config.clip = false;
    config.grace = 0;
    config.hit = IKV_HIT_SOLID;
    config.parent = box;
    config.shape = ikv_scene_rect(5, 0, 20, 10);
    ok(ikv_scene_add(k.scene, &config, &boat, NULL));
    query.y = 5;
    for (int touch = 0; touch < 2; touch++)
        for (int x = 6; x < 18; x += 3) {
            query.touch = touch;
            query.x = (float)x;
            ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits,
                              x <= 10 ? boat.bits : 0);
        }
    kit_close(&k);
}
END_TEST

/* OVER7: whatever is changed, the revision rises. */
START_TEST(revision_rises)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_scene *s = k.scene;
    ikv_target a = rect_target(s, (ikv_target){0}, 0, 0, 10, 10, 0);
    ikv_target b = rect_target(s, a, 1, 1, 5, 5, 0);
    ikv_target c = rect_target(s, a, 2, 2, 5, 5, 0);
    const ikv_shape circle = ikv_scene_circle(0, 0, 4);
    const ikv_rotation quarter = {0, 1};
    const ikv_camera camera = {.zoom = 2};
    const ikv_motion motion = {.target = b, .x = 8, .y = 8};
    uint64_t before = ikv_scene_revision(s);
    for (int change = 0; change < 16; change++) {
        switch (change) {
        case 0:
            ok(ikv_scene_move(s, b, 3, 3));
            break;
        case 1:
            ok(ikv_scene_turn(s, b, quarter));
            break;
        case 2:
            ok(ikv_scene_resize(s, b, 2));
            break;
        case 3:
            ok(ikv_scene_set_shape(s, b, &circle));
            break;
        case 4:
            ok(ikv_scene_set_hit(s, b, IKV_HIT_PASS));
            break;
        case 5:
            ok(ikv_scene_set_clip(s, a, true));
            break;
        case 6:
            ok(ikv_scene_set_grace(s, b, 3));
            break;
        case 7:
            ok(ikv_scene_set_traits(s, b, IKV_FOCUSABLE));
            break;
        case 8:
            ok(ikv_scene_show(s, b, false));
            break;
        case 9:
            ok(ikv_scene_set_z(s, b, 5));
            break;
        case 10:
            ok(ikv_scene_raise(s, c));
            break;
        case 11:
            ok(ikv_scene_lower(s, c));
            break;
        case 12:
            ok(ikv_scene_set_parent(s, c, b));
            break;
        case 13:
            ok(ikv_scene_set_camera(s, 0, 0, &camera));
            break;
        case 14:
            ok(ikv_scene_move_many(s, &motion, 1));
            break;
        default:
            ok(ikv_scene_remove(s, b));
            break;
        }
        uint64_t after = ikv_scene_revision(s);
        ck_assert_msg(after > before, "change %d: %llu, then %llu", change,
                      (unsigned long long)before, (unsigned long long)after);
        before = after;
    }
    kit_close(&k);
}
END_TEST

Suite *scene_suite(void)
{
    Suite *s = suite_create("scene");
    add(s, "OVER7 the revision rises", revision_rises);
    add(s, "what a target costs", target_bytes);
    add(s, "told as set", told_as_set);
    add_table(s, "tree events", announced, 2);
    add(s, "clips without grace", clips_without_grace);
    add_table(s, "HIT1", stacking, ROWS(order_table));
    add_table(s, "HIT2", points, ROWS(point_table));
    add(s, "E4 what can't be here", wrong_here);
    add(s, "HIT2 corners", rect_corners);
    add(s, "E4 usual polygons", usual_polygons);
    add(s, "E4 no such view", no_such_view);
    add_table(s, "HIT2 margins", margins, 4);
    add(s, "HIT3 changes", changes);
    add(s, "removal", removal);
    add(s, "scene-1 removed by the bus", removed_by_the_bus);
    add_table(s, "wrong use", wrong_targets, ROWS(wrong_table));
    add(s, "T3 rotation", rotations);
    add(s, "layers", cameras);
    add(s, "reasons", obstacles);
    add(s, "HIT1 raise", raising);
    add_table(s, "HIT1 many siblings", many_siblings, ROWS(sibling_table));
    add(s, "stale", stale_targets);
    add_table(s, "HIT6 areas", found_in_areas, ROWS(area_table));
    add_table(s, "HIT6 along lines", found_along, ROWS(line_table));
    add(s, "limits", limits);
    add(s, "HIT1 random", random_scenes);
    add(s, "nobody there", nobody_there);
    add_table(s, "odd questions", odd_questions, ROWS(query_table));
    return s;
}
