/* test_hits.c - shapes and queries against double precision, and the hit index
 * against a plain scan of the same scene: always equal, order included. */
#include "support.h"

#include <math.h>

static const double degree = 3.14159265358979323846 / 180;

/* --------------------------------------------------------------- a pair -- */

/* The same scene twice: with an index, and plain. Handles are the same in both,
 * since the same is done to both. */
typedef struct pair {
    bench_kit indexed, plain;
    ikv_target *targets;
    uint32_t room, count;
    uint64_t seed;
} pair;

static bool own_test(void *user, ikv_target target, void *target_user, float x,
                     float y, float radius)
{
    (void)user, (void)target, (void)target_user;
    return fmodf(fabsf(x) + fabsf(y), 4) < 2 + radius;
}

static void pair_open(pair *p, uint32_t room, uint64_t seed)
{
    memset(p, 0, sizeof *p);
    bench_kit *kits[] = {&p->indexed, &p->plain};
    for (int i = 0; i < 2; i++) {
        kit_prepare(kits[i]);
        kits[i]->config.bus.targets = room;
        kits[i]->config.scene.layers = 3;
        kits[i]->config.scene.views = 2;
        kits[i]->config.scene.polygons = room;
        kits[i]->config.scene.own_test = own_test;
        kits[i]->config.scene.plain = i == 1;
        kit_open(kits[i]);
    }
    p->targets = calloc(room, sizeof *p->targets);
    p->room = room;
    p->seed = seed;
}

static void pair_close(pair *p)
{
    kit_close(&p->indexed);
    kit_close(&p->plain);
    free(p->targets);
}

#define BOTH(call)                                                             \
    do {                                                                       \
        ikv_scene *scene = p->indexed.scene;                                   \
        ikv_status first = (call);                                             \
        scene = p->plain.scene;                                                \
        ck_assert_int_eq((call), first);                                       \
    } while (0)

static float real(pair *p, float from, float to)
{
    return from + (to - from) * (float)random_below(&p->seed, 100001) / 100000;
}

static bool one_in(pair *p, uint32_t n)
{
    return random_below(&p->seed, n) == 0;
}

/* How a scene is spread: most of it evenly, some far, some huge, some tiny. */
typedef struct spread {
    const char *name;
    uint32_t targets;
    float width, height, size;
    uint32_t far_one_in, giant_one_in, zero_one_in, nested_one_in,
        turned_one_in;
    uint32_t moved_percent;
    int rounds;
    bool drifts; /* moves are small, all of them */
} spread;

static const spread spreads[] = {
    {"even, 1% move", 1200, 1000, 1000, 30, 0, 0, 0, 0, 0, 1, 90, false},
    {"even, 10% move", 1200, 1000, 1000, 30, 0, 0, 9, 4, 4, 10, 60, false},
    {"even, all move", 900, 1000, 1000, 30, 0, 0, 9, 4, 4, 100, 40, false},
    {"far outliers", 900, 500, 500, 20, 40, 0, 9, 5, 5, 3, 60, false},
    {"giants", 900, 900, 900, 20, 0, 15, 9, 5, 3, 3, 60, false},
    {"tiny and zero", 1500, 100, 100, 0.5f, 0, 40, 3, 6, 4, 2, 60, false},
    {"one long row", 1200, 200000, 10, 30, 0, 0, 9, 0, 0, 2, 60, false},
    {"all at one place", 700, 0, 0, 10, 0, 0, 9, 0, 0, 2, 40, false},
    {"few", 40, 100, 100, 30, 10, 10, 5, 3, 3, 10, 300, false},
    {"about the limit", 170, 300, 300, 30, 10, 10, 5, 3, 3, 5, 200, false},
    {"all drift", 700, 1000, 1000, 30, 0, 0, 9, 4, 4, 100, 60, true},
    {"half drift", 700, 1000, 1000, 30, 0, 20, 9, 4, 4, 50, 60, true},
    {"a third moves", 1200, 1000, 1000, 30, 0, 0, 9, 4, 4, 33, 60, false},
};

static ikv_shape random_shape(pair *p, const spread *how, float *points)
{
    float size = one_in(p, how->giant_one_in ? how->giant_one_in : 1u << 30)
                     ? how->width * 2 + 100
                     : how->size;
    float w = real(p, 0, size), h = real(p, 0, size);
    if (how->zero_one_in && one_in(p, how->zero_one_in))
        w = h = 0;
    uint32_t n = 3 + random_below(&p->seed, 6);
    switch (random_below(&p->seed, 8)) {
    case 0:
        return ikv_scene_circle(real(p, -9, 9), 0, w / 2);
    case 1:
        return ikv_scene_capsule(0, 0, w, real(p, -h, h), h / 4);
    case 2:
        for (uint32_t i = 0; i < n; i++) {
            double a = 6.2831853 * i / n;
            points[2 * i] = (float)cos(a) * (w + 1);
            points[2 * i + 1] = (float)sin(a) * (h + 1);
        }
        return ikv_scene_polygon(points, n);
    case 3:
        return ikv_scene_point(w, h);
    case 4:
        return ikv_scene_own(-w / 2, -h / 2, w, h);
    default:
        return ikv_scene_rect(real(p, -5, 5), real(p, -5, 5), w, h);
    }
}

static float random_x(pair *p, const spread *how)
{
    if (how->far_one_in && one_in(p, how->far_one_in))
        return real(p, -1e7f, 1e7f);
    return real(p, -how->width / 2, how->width / 2);
}

static float random_y(pair *p, const spread *how)
{
    return real(p, -how->height / 2, how->height / 2);
}

static void add_one(pair *p, const spread *how)
{
    ikv_target_config config = IKV_TARGET_INIT;
    float points[2 * IKV_POLYGON_LIMIT];
    if (p->count == p->room)
        return;
    config.x = random_x(p, how);
    config.y = random_y(p, how);
    config.layer = random_below(&p->seed, 8) / 6;
    config.z = (int32_t)random_below(&p->seed, 3);
    config.shape = random_shape(p, how, points);
    config.hit = random_below(&p->seed, 9) == 0 ? IKV_HIT_OFF : IKV_HIT_SOLID;
    config.hidden = one_in(p, 12);
    config.clip = one_in(p, 6);
    config.grace = one_in(p, 6) ? 3 : 0;
    config.tags = 1u << random_below(&p->seed, 4);
    config.body = one_in(p, 5);
    if (how->turned_one_in && one_in(p, how->turned_one_in)) {
        config.rotation = ikv_scene_rotation(real(p, -180, 180));
        config.scale = real(p, 0.3f, 3);
    }
    if (how->nested_one_in && one_in(p, how->nested_one_in) && p->count > 0) {
        config.parent = p->targets[random_below(&p->seed, p->count)];
        config.layer = 0;
        config.x /= 10;
        config.y /= 10;
    }
    ikv_target target = {0}, again = {0};
    ikv_status status = ikv_scene_add(p->indexed.scene, &config, &target, NULL);
    ck_assert_int_eq(ikv_scene_add(p->plain.scene, &config, &again, NULL),
                     status);
    ck_assert_uint_eq(target.bits, again.bits);
    if (status == IKV_OK)
        p->targets[p->count++] = target;
}

static ikv_target any_target(pair *p)
{
    return p->targets[random_below(&p->seed, p->count)];
}

static void forget_gone(pair *p)
{
    uint32_t kept = 0;
    for (uint32_t i = 0; i < p->count; i++)
        if (ikv_scene_alive(p->plain.scene, p->targets[i]))
            p->targets[kept++] = p->targets[i];
    p->count = kept;
}

static void change_one(pair *p, const spread *how)
{
    ikv_target t = any_target(p), other = any_target(p);
    float points[2 * IKV_POLYGON_LIMIT];
    float x = random_x(p, how);
    ikv_shape shape = random_shape(p, how, points);
    uint32_t pick = random_below(&p->seed, 4);
    bool flag = pick % 2 == 0;
    ikv_camera camera = {.x = x,
                         .view_x = 3,
                         .zoom = pick ? 0.5f * (float)pick : 1,
                         .rotation = ikv_scene_rotation((float)pick * 30),
                         .flip_y = flag,
                         .hidden = x > how->width / 3};
    switch (random_below(&p->seed, 16)) {
    case 0:
        BOTH(ikv_scene_set_z(scene, t, (int32_t)pick));
        break;
    case 1:
        BOTH(ikv_scene_raise(scene, t));
        break;
    case 2:
        BOTH(ikv_scene_lower(scene, t));
        break;
    case 3:
        BOTH(ikv_scene_set_parent(scene, t, other));
        break;
    case 4:
        BOTH(ikv_scene_set_parent(scene, t, (ikv_target){0}));
        break;
    case 5:
        BOTH(ikv_scene_set_shape(scene, t, &shape));
        break;
    case 6:
        BOTH(ikv_scene_show(scene, t, flag));
        break;
    case 7:
        BOTH(ikv_scene_set_clip(scene, t, flag));
        break;
    case 8:
        BOTH(ikv_scene_set_hit(scene, t, pick % 3));
        break;
    case 9:
        BOTH(ikv_scene_turn(scene, t, camera.rotation));
        break;
    case 10:
        BOTH(ikv_scene_resize(scene, t, (float)(pick + 1) / 2));
        break;
    case 11:
        BOTH(ikv_scene_set_camera(scene, pick % 3, 1, &camera));
        break;
    case 12:
        if (p->count > p->room / 3)
            BOTH(ikv_scene_remove(scene, t));
        forget_gone(p);
        break;
    default:
        add_one(p, how);
        break;
    }
}

static void move_some(pair *p, const spread *how)
{
    uint32_t moves = p->count * how->moved_percent / 100 + 1;
    for (uint32_t i = 0; i < moves; i++) {
        ikv_motion motion = {moves >= p->count ? p->targets[i % p->count]
                                               : any_target(p),
                             random_x(p, how), random_y(p, how)};
        float own[2], view[2];
        if ((how->drifts || one_in(p, 2)) &&
            ikv_scene_position(p->plain.scene, motion.target, own, view)) {
            motion.x = own[0] + real(p, -2, 2);
            motion.y = own[1] + real(p, -2, 2);
        }
        BOTH(ikv_scene_move_many(scene, &motion, 1));
    }
}

/* A point that is often one of a target. */
static ikv_query random_query(pair *p, const spread *how)
{
    ikv_query query = IKV_QUERY_INIT;
    query.view = (uint8_t)random_below(&p->seed, 2);
    query.x = random_x(p, how);
    query.y = random_y(p, how);
    float at[2];
    if (one_in(p, 2) && ikv_scene_to_view(p->plain.scene, any_target(p),
                                          query.view, 0, 0, at)) {
        query.x = at[0] + real(p, 0, 2);
        query.y = at[1];
    }
    query.touch = one_in(p, 3);
    query.radius = one_in(p, 3) ? real(p, 0, how->size) : 0;
    query.tags = one_in(p, 4) ? random_below(&p->seed, 16) : 0;
    if (one_in(p, 5))
        query.skip_body = any_target(p);
    return query;
}

enum {
    ROOM = 4000
};

/* What is found in an area, and along a line: the same by the index and by a
 * scan, sorted, and the nearest of all when there is little room. */
static void compare_found(pair *p, const spread *how, const ikv_query *query)
{
    static ikv_target a[ROOM], b[ROOM];
    static ikv_crossing c[ROOM], d[ROOM], few[3];
    ikv_scene *one = p->indexed.scene, *two = p->plain.scene;
    ikv_area area = IKV_AREA_INIT;
    float size = real(p, 0, how->width / 8);
    area.x = query->x;
    area.y = query->y;
    area.rotation = ikv_scene_rotation(real(p, -180, 180));
    area.shape = one_in(p, 2)   ? ikv_scene_circle(0, 0, size)
                 : one_in(p, 2) ? ikv_scene_rect(0, 0, size, size / 3)
                                : ikv_scene_capsule(0, 0, size, 0, size / 4);
    area.tags = query->tags;
    area.skip_body = query->skip_body;
    uint32_t n = ikv_scene_find(two, &area, b, ROOM);
    ck_assert_uint_eq(ikv_scene_find(one, &area, a, ROOM), n);
    ck_assert_int_eq(memcmp(a, b, n * sizeof a[0]), 0);
    ck_assert_uint_eq(ikv_scene_find(one, &area, a, 1), n);
    ck_assert(n == 0 || a[0].bits == b[0].bits);
    ikv_line line = IKV_LINE_INIT;
    line.x = query->x;
    line.y = query->y;
    line.x2 = query->x + real(p, -size, size);
    line.y2 = query->y + real(p, -size, size);
    line.radius = one_in(p, 2) ? real(p, 0, size / 8) : 0;
    line.tags = query->tags;
    line.skip_body = query->skip_body;
    n = ikv_scene_along(two, &line, d, ROOM);
    ck_assert_uint_eq(ikv_scene_along(one, &line, c, ROOM), n);
    ck_assert_int_eq(memcmp(c, d, n * sizeof c[0]), 0);
    ck_assert_uint_eq(ikv_scene_along(one, &line, few, 3), n);
    ck_assert_int_eq(memcmp(few, d, (n < 3 ? n : 3) * sizeof few[0]), 0);
    for (uint32_t i = 1; i < n; i++)
        ck_assert(d[i - 1].share <= d[i].share);
    /* Up to there nothing else is met, and there it is. */
    for (uint32_t i = 0; i < n && i < 3; i++) {
        ikv_line to_there = line;
        to_there.x2 = d[i].x;
        to_there.y2 = d[i].y;
        to_there.radius +=
            1e-4f * (1 + how->width) + 1e-6f * (fabsf(d[i].x) + fabsf(d[i].y));
        ck_assert_uint_gt(ikv_scene_along(two, &to_there, c, ROOM), i);
    }
}

static void compare_queries(pair *p, const spread *how)
{
    static ikv_target a[ROOM], b[ROOM];
    ikv_query query = random_query(p, how);
    ikv_scene *one = p->indexed.scene, *two = p->plain.scene;
    uint32_t nth = random_below(&p->seed, 3);
    ikv_target top = ikv_scene_pick(two, &query, nth);
    ck_assert_uint_eq(ikv_scene_pick(one, &query, nth).bits, top.bits);
    ikv_target t = any_target(p);
    ikv_obstacle by_one[3] = {{0}}, by_two[3] = {{0}};
    ck_assert_uint_eq(ikv_scene_beneath(one, &query, t).bits,
                      ikv_scene_beneath(two, &query, t).bits);
    uint32_t obstacles = ikv_scene_probe(two, &query, t, by_two, 3);
    ck_assert_uint_eq(ikv_scene_probe(one, &query, t, by_one, 3), obstacles);
    for (uint32_t i = 0; i < 3; i++) {
        ck_assert_uint_eq(by_one[i].code, by_two[i].code);
        ck_assert_uint_eq(by_one[i].by.bits, by_two[i].by.bits);
    }
    ck_assert_int_eq(obstacles == 0,
                     ikv_scene_pick(two, &query, 0).bits == t.bits);
    uint32_t room = one_in(p, 2) ? ROOM : 3;
    uint32_t n = ikv_scene_pick_all(two, &query, b, room);
    ck_assert_uint_eq(ikv_scene_pick_all(one, &query, a, room), n);
    uint32_t kept = n < room ? n : room;
    ck_assert_int_eq(memcmp(a, b, kept * sizeof a[0]), 0);
    for (uint32_t i = 0; i < kept && i < 12; i++) {
        ck_assert_uint_eq(ikv_scene_pick(one, &query, i).bits, a[i].bits);
        ck_assert(query.tags == 0 ||
                  (ikv_scene_tags(one, a[i]) & query.tags) != 0);
    }
    float w = real(p, 0, how->width / 4), h = real(p, 0, how->height / 4);
    n = ikv_scene_pick_rect(two, &query, w, h, b, room);
    ck_assert_uint_eq(ikv_scene_pick_rect(one, &query, w, h, a, room), n);
    ck_assert_int_eq(memcmp(a, b, (n < room ? n : room) * sizeof a[0]), 0);
    compare_found(p, how, &query);
    ck_assert_uint_eq(ikv_scene_tab_next(one, t, one_in(p, 2)).bits != 0,
                      ikv_scene_tab_next(two, t, false).bits != 0);
}

/* Where all lie over each other no grid pays; once they have gone apart, in a
 * few moves at a time (0) or at once (1), one does. */
START_TEST(crowd)
{
    static bench_kit k;
    static ikv_target boats[1000];
    ikv_query query = IKV_QUERY_INIT;
    kit_prepare(&k);
    kit_open(&k);
    for (int i = 0; i < ROWS(boats); i++)
        boats[i] = rect_target(k.scene, (ikv_target){0}, 0, 0, 10, 10, 0);
    for (int i = 0; i < 100; i++)
        ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits,
                          boats[ROWS(boats) - 1].bits);
    ck_assert_uint_eq(scene_counts(k.scene).rebuilds, 0);
    ck_assert_uint_eq(scene_counts(k.scene).gridded, false);
    for (int turn = 0; turn < 3; turn++)
        for (int i = 0; i < ROWS(boats); i++) {
            ok(ikv_scene_move(k.scene, boats[i], (float)(i % 32 * 20 + turn),
                              (float)(i / 32 * 20)));
            if (_i == 0 && i % 10 == 0)
                ikv_scene_pick(k.scene, &query, 0);
        }
    /* That all have moved weighs against the first ones. */
    for (int i = 0; i < 200; i++)
        ikv_scene_pick(k.scene, &query, 0);
    ck_assert_uint_eq(scene_counts(k.scene).gridded, true);
    valid(ikv_scene_validate(k.scene));
    kit_close(&k);
}
END_TEST

/* Scan or grid by what is asked beside what moves, comes and goes in a frame: it
 * is found soon, and kept. */
static const struct {
    uint32_t moved_percent, renewed, queries;
    bool gridded;
} choice_table[] = {
    {0, 0, 1, true},    {1, 0, 10, true},     {12, 0, 30, true},
    {15, 0, 100, true}, {50, 0, 200, true},   {100, 0, 400, true},
    {20, 0, 10, false}, {100, 0, 1, false},   {50, 0, 10, false},
    {90, 0, 60, false}, {100, 0, 120, false}, {0, 1, 1, true},
    {1, 10, 1, true},   {20, 1, 10, true},    {100, 1, 10, false}};

START_TEST(choice)
{
    static bench_kit k;
    static ikv_target boats[1000];
    const uint32_t percent = choice_table[_i].moved_percent;
    ikv_query query = IKV_QUERY_INIT;
    uint64_t rebuilds = 0;
    kit_prepare(&k);
    kit_open(&k);
    for (uint32_t i = 0; i < ROWS(boats); i++)
        boats[i] = rect_target(k.scene, (ikv_target){0}, (float)(i % 32) * 20,
                               (float)i / 32 * 20, 10, 10, 0);
    for (uint32_t frame = 0; frame < 200; frame++) {
        for (uint32_t i = 0; i < ROWS(boats); i++)
            if (i * 37 % 100 < percent)
                ok(ikv_scene_move(k.scene, boats[i],
                                  (float)(i % 32 * 20 + frame % 2 * 7),
                                  (float)i / 32 * 20));
        for (uint32_t i = 0; i < choice_table[_i].renewed; i++) {
            ok(ikv_scene_remove(k.scene, boats[i]));
            boats[i] = rect_target(k.scene, (ikv_target){0}, (float)i * 20,
                                   (float)frame, 10, 10, 0);
        }
        for (uint32_t i = 0; i < choice_table[_i].queries; i++) {
            query.x = (float)(i * 71 % 640);
            ikv_scene_pick(k.scene, &query, 0);
        }
        if (frame == 50)
            rebuilds = scene_counts(k.scene).rebuilds;
    }
    ck_assert_uint_eq(scene_counts(k.scene).gridded, choice_table[_i].gridded);
    ck_assert_uint_eq(scene_counts(k.scene).rebuilds, rebuilds);
    ck_assert_uint_le(rebuilds, 2);
    valid(ikv_scene_validate(k.scene));
    kit_close(&k);
}
END_TEST

/* HIT index: equal to the plain scan, whatever happens. More with
 * IKV_MODEL_RUNS=n, which runs n seeds. */
START_TEST(index_model)
{
    const spread *how = &spreads[_i];
    const char *runs = getenv("IKV_MODEL_RUNS");
    for (int run = 0; run < (runs != NULL ? atoi(runs) : 1); run++) {
        pair pair_now, *p = &pair_now;
        pair_open(p, how->targets * 2,
                  1000u * (uint64_t)run + (uint64_t)_i + 1);
        for (uint32_t i = 0; i < how->targets; i++)
            add_one(p, how);
        for (int round = 0; round < how->rounds; round++) {
            if (round % 3 != 0)
                move_some(p, how);
            for (uint32_t i = 0; i < 4 && round % 2; i++)
                change_one(p, how);
            for (int i = 0; i < 12; i++)
                compare_queries(p, how);
            if (round % 8 == 0)
                valid(ikv_scene_validate(p->indexed.scene));
            valid(round % 16 == 1 ? ikv_scene_validate(p->plain.scene) : NULL);
        }
        ikv_scene_counts n = scene_counts(p->indexed.scene);
        if (how->targets > 500 && how->moved_percent < 10)
            ck_assert_int_eq(n.rebuilds > 0, how->width > 0);
        if (how->targets < 50)
            ck_assert_uint_eq(n.rebuilds, 0);
        pair_close(p);
    }
}
END_TEST

/* --------------------------------------------------------------- shapes -- */

/* What a shape holds, in double precision: the distance of a point from it, in
 * the target's own space; below 0 inside. */
static double far_from_line(double x, double y, double ax, double ay, double bx,
                            double by)
{
    double lx = bx - ax, ly = by - ay, length = lx * lx + ly * ly;
    double share = length > 0 ? ((x - ax) * lx + (y - ay) * ly) / length : 0;
    share = share < 0 ? 0 : share > 1 ? 1 : share;
    return hypot(x - ax - share * lx, y - ay - share * ly);
}

static double far_from_corners(double x, double y, const float *p, uint32_t n)
{
    double nearest = 1e30, sign = 0;
    bool inside = true;
    for (uint32_t i = 0; i < n; i++) {
        const float *a = p + 2 * i, *b = p + 2 * ((i + 1) % n);
        double side = ((double)b[0] - a[0]) * (y - a[1]) -
                      ((double)b[1] - a[1]) * (x - a[0]);
        double d = far_from_line(x, y, a[0], a[1], b[0], b[1]);
        nearest = d < nearest ? d : nearest;
        sign = sign == 0 ? side : sign;
        inside = inside && side * sign >= 0;
    }
    return inside ? -nearest : nearest;
}

static double far_from(const ikv_shape *s, double x, double y)
{
    float r[] = {s->x,
                 s->y,
                 s->x + s->width,
                 s->y,
                 s->x + s->width,
                 s->y + s->height,
                 s->x,
                 s->y + s->height};
    switch (s->type) {
    case IKV_SHAPE_RECT:
        return far_from_corners(x, y, r, 4);
    case IKV_SHAPE_POLYGON:
        return far_from_corners(x, y, s->points, s->point_count);
    case IKV_SHAPE_CAPSULE:
        return far_from_line(x, y, s->x, s->y, s->x2, s->y2) - s->radius;
    default:
        return hypot(x - s->x, y - s->y) - s->radius;
    }
}

/* Each shape under a chain of turned and scaled parents and a turned camera:
 * the same answer as double precision, but near the edge. */
START_TEST(shapes_in_double)
{
    static const float corners[] = {0, 0, 20, -5, 30, 10, 15, 25, 2, 12};
    const ikv_shape shapes[] = {
        ikv_scene_rect(-5, -3, 22, 14), ikv_scene_circle(4, 2, 9),
        ikv_scene_capsule(-8, 0, 12, 9, 5), ikv_scene_polygon(corners, 5),
        ikv_scene_point(3, 3)};
    pair pair_now, *p = &pair_now;
    pair_open(p, 64, 99);
    const ikv_shape *shape = &shapes[_i];
    ikv_target parent = {0}, target = {0};
    double angle[3] = {33, -70, 200}, scale[3] = {1.5, 0.4, 2}, camera_zoom = 3;
    for (int i = 0; i < 3; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.parent = parent;
        config.x = 10.0f * (float)(i + 1);
        config.y = -4;
        config.rotation = ikv_scene_rotation((float)angle[i]);
        config.scale = (float)scale[i];
        if (i == 2)
            config.shape = *shape;
        ok(ikv_scene_add(p->indexed.scene, &config, &parent, NULL));
    }
    target = parent;
    ikv_camera camera = {.x = 5,
                         .y = 6,
                         .view_x = 100,
                         .view_y = 50,
                         .zoom = (float)camera_zoom,
                         .rotation = ikv_scene_rotation(25),
                         .flip_y = true};
    ok(ikv_scene_set_camera(p->indexed.scene, 0, 0, &camera));
    int inside = 0, tested = 0;
    for (int i = 0; i < 20000; i++) {
        double lx = real(p, -40, 50), ly = real(p, -40, 50), x = lx, y = ly;
        for (int k = 2; k >= 0; k--) {
            double a = angle[k] * degree, c = cos(a), s = sin(a);
            double nx = 10.0 * (k + 1) + scale[k] * (c * x - s * y);
            y = -4 + scale[k] * (s * x + c * y);
            x = nx;
        }
        double a = 25 * degree, cx = x - 5, cy = -(y - 6);
        double vx = 100 + camera_zoom * (cos(a) * cx - sin(a) * cy);
        double vy = 50 + camera_zoom * (sin(a) * cx + cos(a) * cy);
        float at[2];
        ck_assert(ikv_scene_to_view(p->indexed.scene, target, 0, (float)lx,
                                    (float)ly, at));
        ck_assert(fabs(at[0] - vx) < 0.01 && fabs(at[1] - vy) < 0.01);
        double radius = i % 2 ? 7 : 0;
        double off =
            far_from(shape, lx, ly) - radius / (camera_zoom * 1.5 * 0.4 * 2);
        if (fabs(off) < 0.002 || (shape->type == IKV_SHAPE_POINT && !(i % 2)))
            continue;
        tested++;
        inside += off < 0;
        ikv_target hit =
            pick_at(p->indexed.scene, (float)vx, (float)vy, (float)radius, 0);
        ck_assert_msg((hit.bits == target.bits) == (off < 0),
                      "(%g, %g) is %g from the shape", lx, ly, off);
    }
    ck_assert_int_gt(tested, 9000);
    ck_assert_int_gt(inside, 5);
    pair_close(p);
}
END_TEST

/* ------------------------------------------------------------ candidates -- */

/* How many shapes a query compares, in hundredths: what the index is for. */
static const struct {
    const char *layout;
    uint32_t count;
    uint32_t far; /* each nth lies a thousand times as far away, and all far
                     from the origin; 0: none */
    uint32_t crowding; /* how much they are drawn together */
    float large;       /* each 97th is, by so much */
    uint32_t most;
} crowd_table[] = {
    {"spread evenly", 100, 0, 1, 40, 152},
    {"spread evenly", 400, 0, 1, 40, 96},
    {"spread evenly", 3000, 0, 1, 40, 82},
    {"some far away", 100, 20, 1, 40, 310},
    {"some far away", 400, 50, 1, 40, 211},
    {"some far away", 3000, 50, 1, 40, 189},
    {"drawn together", 400, 0, 4, 5, 1792},
    {"drawn together", 3000, 0, 4, 5, 2736},
    {"large ones", 400, 0, 1, 400, 251},
    {"large ones", 3000, 0, 1, 400, 721},
};

static float drawn(uint64_t *seed, float side, uint32_t times)
{
    float part = side;
    for (uint32_t i = 0; i < times; i++)
        part *= (float)random_below(seed, 1 << 20) / (1 << 20);
    return part;
}

START_TEST(few_candidates)
{
    enum {
        QUERIES = 400
    };
    static float at[3000][2];
    static ikv_target targets[3000];
    bench_kit k;
    uint32_t count = crowd_table[_i].count;
    float side = 10 * sqrtf((float)count);
    uint64_t seed = 11;
    kit_prepare(&k);
    k.config.bus.targets = count + 8;
    kit_open(&k);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_query query = IKV_QUERY_INIT;
    for (uint32_t i = 0; i < count; i++) {
        bool away = crowd_table[_i].far > 0 && i % crowd_table[_i].far == 0;
        float base = crowd_table[_i].far > 0 ? 1e6f : 0;
        t.x = drawn(&seed, away ? 1000 * side : side, crowd_table[_i].crowding);
        t.y = drawn(&seed, side, crowd_table[_i].crowding);
        t.x += base;
        t.y += base;
        float size = i % 97 == 0 ? crowd_table[_i].large : 5;
        t.shape = ikv_scene_rect(0, 0, size, size);
        at[i][0] = t.x;
        at[i][1] = t.y;
        ok(ikv_scene_add(k.scene, &t, &targets[i], NULL));
    }
    for (uint32_t i = 0; i < QUERIES; i++) {
        uint32_t near = random_below(&seed, count);
        query.x = at[near][0] + drawn(&seed, 8, 1);
        query.y = at[near][1] + drawn(&seed, 8, 1);
        ikv_scene_pick_all(k.scene, &query, NULL, 0);
        if (i % 4 == 0) /* a small move */
            ok(ikv_scene_move(k.scene, targets[near], at[near][0] + 0.25f,
                              at[near][1]));
    }
    ikv_scene_counts n = scene_counts(k.scene);
    ck_assert(n.gridded == (count > 200));
    ck_assert_msg(n.tested * 100 <= (uint64_t)crowd_table[_i].most * QUERIES,
                  "%s, %u: %.2f a query", crowd_table[_i].layout, count,
                  (double)n.tested / QUERIES);
    kit_close(&k);
}
END_TEST

/* A scene that has no room left is as any other, whatever it has room for: what
 * is added last is on top; what has gone makes room. */
START_TEST(full_scenes)
{
    ikv_target last[32] = {{0}};
    uint32_t room = (uint32_t)_i + 1;
    bench_kit k;
    kit_prepare(&k);
    k.config.bus.targets = k.config.scene.targets = room;
    kit_open(&k);
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_query query = IKV_QUERY_INIT;
    t.shape = ikv_scene_rect(0, 0, 40, 40);
    query.x = query.y = 35;
    for (uint32_t i = 0; i < 3 * room; i++) {
        ikv_target added;
        t.x = (float)(i % 8);
        if (i >= room)
            status_is(ikv_scene_add(k.scene, &t, &added, NULL),
                      IKV_FULL_TARGETS);
        if (i >= room)
            ok(ikv_scene_remove(k.scene, last[i % room]));
        ok(ikv_scene_add(k.scene, &t, &last[i % room], NULL));
        ck_assert_uint_eq(ikv_scene_pick(k.scene, &query, 0).bits,
                          last[i % room].bits);
        ok(ikv_scene_move(k.scene, last[i % room], t.x + 0.5f, 0));
        ck_assert_uint_eq(ikv_scene_pick_all(k.scene, &query, NULL, 0),
                          i < room ? i + 1 : room);
        valid(ikv_scene_validate(k.scene));
    }
    kit_close(&k);
}
END_TEST

Suite *hits_suite(void)
{
    Suite *s = suite_create("hits");
    add_table(s, "HIT a crowd", crowd, 2);
    add_table(s, "HIT scan or grid", choice, ROWS(choice_table));
    add_table(s, "HIT index equals scan", index_model, ROWS(spreads));
    add_table(s, "HIT2 shapes", shapes_in_double, 5);
    add_table(s, "HIT full scenes", full_scenes, 32);
    add_table(s, "HIT few candidates", few_candidates, ROWS(crowd_table));
    return s;
}
