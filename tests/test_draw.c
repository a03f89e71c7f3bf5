/* test_draw.c - what is drawn of a scene: what there is, in stacking order, and
 * where hits are. */
#include "support.h"

#include <math.h>

static bench_kit k;
static record drawn;
static ikv_target named[8];

static const char *const inks[] = {
    "solid", "pass",    "off",   "name",    "clip",  "margin",
    "zone",  "contact", "body",  "pointer", "hover", "capture",
    "focus", "trail",   "press", "release", "modal"};

static char letter_of(ikv_target target)
{
    for (int i = 0; i < ROWS(named); i++)
        if (target.bits != 0 && named[i].bits == target.bits)
            return (char)('a' + i);
    return target.bits == 0 ? '-' : '?';
}

static const char *name_of(void *user, ikv_target target)
{
    static char name[2];
    (void)user;
    name[0] = letter_of(target);
    return target.bits == named[7].bits ? NULL : name;
}

static void begin_mark(const ikv_draw_mark *mark)
{
    ck_assert_uint_lt(mark->what, IKV_DRAW_COUNT);
    note(&drawn, "%s:%c", inks[mark->what], letter_of(mark->target));
}

static void take_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    (void)user;
    begin_mark(mark);
    note(&drawn, " %g,%g-%g,%g; ", (double)x, (double)y, (double)x2,
         (double)y2);
}

static void take_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    (void)user;
    begin_mark(mark);
    for (uint32_t i = 0; i < count; i++)
        note(&drawn, " %g,%g", (double)points[2 * i],
             (double)points[2 * i + 1]);
    note(&drawn, "; ");
}

static void take_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    (void)user;
    begin_mark(mark);
    note(&drawn, " %g,%g r%g%s; ", (double)x, (double)y, (double)radius,
         mark->ink->fill != 0 ? " filled" : "");
}

static void take_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    (void)user;
    begin_mark(mark);
    note(&drawn, " %g,%g \"%s\"; ", (double)x, (double)y, text);
}

static ikv_draw_config open_scene(void)
{
    ikv_draw_config config = IKV_DRAW_INIT;
    drawn.text[0] = '\0';
    memset(named, 0, sizeof named);
    kit_prepare(&k);
    k.config.scene.layers = 3;
    k.config.scene.views = 2;
    k.config.router.views = 3;
    kit_open(&k);
    kit_frame(&k, 0);
    config.scene = k.scene;
    config.canvas =
        (ikv_canvas){NULL, take_line, take_polygon, take_circle, take_text};
    config.name = name_of;
    return config;
}

static ikv_target put(int letter, ikv_target_config config)
{
    config.id = (uint32_t)letter;
    ok(ikv_scene_add(k.scene, &config, &named[letter - 'a'], NULL));
    return named[letter - 'a'];
}

static void draw(const ikv_draw_config *config, const char *expected)
{
    drawn.text[0] = '\0';
    ok(ikv_draw(config));
    ck_assert_str_eq(drawn.text, expected);
}

#define WHAT(name) (1u << IKV_DRAW_##name)
#define OUTLINES   (WHAT(SOLID) | WHAT(PASS) | WHAT(OFF))

/* Each shape where it is, through placements and cameras. */
START_TEST(shapes)
{
    static const float triangle[] = {0, 0, 4, 0, 0, 4};
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    t.x = 10, t.y = 20;
    t.shape = ikv_scene_rect(1, 2, 30, 4);
    ikv_target a = put('a', t);
    t.parent = a;
    t.scale = 2;
    t.rotation = ikv_scene_rotation(90);
    t.shape = ikv_scene_circle(1, 0, 3);
    t.hit = IKV_HIT_PASS;
    put('b', t);
    t.shape = ikv_scene_polygon(triangle, 3);
    t.hit = IKV_HIT_OFF;
    put('c', t);
    t.shape = ikv_scene_point(5, 0);
    put('d', t);
    t.shape = (ikv_shape){.type = IKV_SHAPE_NONE};
    put('e', t);
    config.what = OUTLINES;
    draw(&config, "solid:a 11,22 41,22 41,26 11,26; pass:b 20,42 r6 filled; "
                  "off:c 20,40 20,48 12,40; off:d 20,50 r0; ");
    ikv_camera camera = {.x = 10, .y = 20, .zoom = 0.5f};
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    draw(&config, "solid:a 0.5,1 15.5,1 15.5,3 0.5,3; pass:b 5,11 r3 filled; "
                  "off:c 5,10 5,14 1,10; off:d 5,15 r0; ");
    /* as they are, in another view, and not where the layer is not shown */
    config.view = 1;
    config.what = WHAT(SOLID);
    draw(&config, "solid:a 11,22 41,22 41,26 11,26; ");
    camera.hidden = true;
    ok(ikv_scene_set_camera(k.scene, 0, 1, &camera));
    draw(&config, "");
    config.view = 7;
    draw(&config, "");
    kit_close(&k);
}
END_TEST

/* A capsule's outline goes around both ends. */
START_TEST(capsules)
{
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    t.shape = ikv_scene_capsule(10, 10, 30, 10, 5);
    put('a', t);
    t.shape = ikv_scene_capsule(60, 10, 60, 10, 4);
    put('b', t);
    config.what = WHAT(SOLID);
    draw(&config,
         "solid:a 30,5 31.9134,5.3806 33.5355,6.46447 34.6194,8.08658 35,10 "
         "34.6194,11.9134 33.5355,13.5355 31.9134,14.6194 30,15 10,15 "
         "8.08658,14.6194 6.46447,13.5355 5.3806,11.9134 5,10 5.3806,8.08658 "
         "6.46447,6.46447 8.08658,5.3806 10,5; "
         "solid:b 60,6 61.5307,6.30448 62.8284,7.17157 63.6955,8.46927 64,10 "
         "63.6955,11.5307 62.8284,12.8284 61.5307,13.6955 60,14 60,14 "
         "58.4693,13.6955 57.1716,12.8284 56.3045,11.5307 56,10 "
         "56.3045,8.46927 57.1716,7.17157 58.4693,6.30448 60,6; ");
    kit_close(&k);
}
END_TEST

/* Layers from the lowest, then z, then age; what is hidden is not there; filters;
 * clips, margins and names. */
START_TEST(stacking)
{
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    t.shape = ikv_scene_rect(0, 0, 1, 1);
    t.layer = 2;
    t.tags = 2;
    put('a', t);
    t.layer = 0;
    t.z = 5;
    t.tags = 1;
    put('b', t);
    t.z = -3;
    put('c', t);
    put('d', t);
    t.parent = named[1];
    t.clip = true;
    t.grace = 2;
    t.tags = 3;
    t.x = 4;
    put('e', t);
    t.parent = (ikv_target){0};
    t.z = 0;
    t.clip = false;
    t.grace = 0;
    ikv_target hidden = put('f', t);
    ok(ikv_scene_show(k.scene, hidden, false));
    t.parent = hidden;
    put('g', t);
    config.what = WHAT(NAME);
    draw(&config, "name:c 0,0 \"c z-3\"; name:d 0,0 \"d z-3\"; name:b 0,0 \"b "
                  "z5\"; name:e 4,0 \"e z-3\"; name:a 0,0 \"a z0\"; ");
    config.tags = 2;
    draw(&config, "name:e 4,0 \"e z-3\"; name:a 0,0 \"a z0\"; ");
    config.layers = 4;
    draw(&config, "name:a 0,0 \"a z0\"; ");
    config.layers = config.tags = 0;
    config.what = WHAT(CLIP) | WHAT(MARGIN);
    draw(&config, "clip:e 4,0 5,0 5,1 4,1; margin:e 2,-2 7,-2 7,3 2,3; ");
    /* who gives no names gets numbers */
    t = (ikv_target_config)IKV_TARGET_INIT;
    put('h', t);
    config.what = WHAT(NAME);
    config.layers = 2;
    draw(&config, "");
    char expected[64];
    config.layers = 1;
    config.tags = 0;
    config.name = NULL;
    drawn.text[0] = '\0';
    ok(ikv_draw(&config));
    snprintf(expected, sizeof expected, "name:h 0,0 \"%u z0\"; ",
             named[7].bits);
    ck_assert_ptr_nonnull(strstr(drawn.text, expected));
    kit_close(&k);
}
END_TEST

/* Zones with what is in them, bodies with their pieces. */
START_TEST(zones)
{
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_sensing senses = IKV_SENSING_INIT;
    t.body = true;
    ikv_target boat = put('a', t);
    t.body = false;
    t.parent = boat;
    t.x = 10;
    t.tags = 1;
    t.shape = ikv_scene_rect(0, 0, 4, 4);
    put('b', t);
    t = (ikv_target_config)IKV_TARGET_INIT;
    t.x = 5, t.y = 1;
    t.shape = ikv_scene_rect(0, 0, 8, 8);
    ikv_target zone = put('c', t);
    senses.senses = 1;
    ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    ok(ikv_overlaps_sense(overlaps, zone, &senses));
    kit_frame(&k, 40);
    config.overlaps = overlaps;
    config.what = WHAT(ZONE) | WHAT(CONTACT) | WHAT(BODY);
    draw(&config, "body:a -4,0-4,0; body:a 0,-4-0,4; body:b 10,0-0,0; zone:c "
                  "5,1 13,1 13,9 5,9; contact:c 5,1-10,0; ");
    config.what = WHAT(ZONE);
    draw(&config, "zone:c 5,1 13,1 13,9 5,9; ");
    config.overlaps = NULL;
    draw(&config, "");
    kit_close(&k);
}
END_TEST

static ikv_event touch(ikv_kind kind, float x, uint16_t pointer)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.device = 1;
    event.pointer.type = IKV_TOUCH;
    event.pointer.x = x;
    event.pointer.button =
        (int8_t)(kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : 0);
    event.pointer.pointer = pointer;
    return event;
}

/* Pointers, what they are over and who has captured them, the focus. */
START_TEST(pointers)
{
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_trail_point points[3];
    ikv_trail trail = {points, 3, 0, 0};
    t.shape = ikv_scene_rect(0, 0, 20, 20);
    t.traits = IKV_FOCUSABLE;
    put('a', t);
    config.router = k.router;
    config.trail = &trail;
    config.what = WHAT(POINTER) | WHAT(HOVER) | WHAT(CAPTURE) | WHAT(FOCUS) |
                  WHAT(TRAIL) | WHAT(PRESS) | WHAT(RELEASE);
    draw(&config, "");
    static const struct {
        ikv_kind kind;
        float x;
        const char *drawn;
    } steps[] = {
        {IKV_KIND_POINTER_DOWN, 3,
         "hover:a 0,0 20,0 20,20 0,20; pointer:a 3,0 r7 filled; press:- 3,0 "
         "r3.5 filled; "},
        {IKV_KIND_POINTER_MOVE, 60,
         "hover:a 0,0 20,0 20,20 0,20; "
         "capture:a 0,0 20,0 20,20 0,20; capture:a 60,0-0,0; pointer:a 60,0 r7 "
         "filled; press:- 3,0 r3.5 filled; trail:- 3,0-60,0; "},
        {IKV_KIND_POINTER_UP, 61,
         "press:- 3,0 r3.5 filled; trail:- "
         "3,0-60,0; trail:- 60,0-61,0; release:- 61,0 r3.5; "},
        /* the first has gone from the ring; a finger comes from nowhere */
        {IKV_KIND_POINTER_DOWN, 5,
         "hover:a 0,0 20,0 20,20 0,20; "
         "pointer:a 5,0 r7 filled; trail:- 60,0-61,0; release:- 61,0 r3.5; "
         "press:- 5,0 r3.5 filled; "},
    };
    for (int i = 0; i < ROWS(steps); i++) {
        ikv_event e = touch(steps[i].kind, steps[i].x, 2);
        e.time_ns = (uint64_t)i * 1000;
        ikv_router_route(k.router, &e);
        ikv_trail_note(&trail, &e);
        draw(&config, steps[i].drawn);
    }
    /* others are left alone, and have lines of their own */
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_trail_note(&trail, &e);
    ck_assert_uint_eq(trail.count, 4);
    e = touch(IKV_KIND_POINTER_MOVE, 7, 9);
    ikv_trail_note(&trail, &e);
    ck_assert_uint_eq(points[1].before, 0);
    config.view = 1;
    draw(&config, "");
    config.view = 0;
    /* the line to what has captured it, wherever both are */
    e = touch(IKV_KIND_POINTER_MOVE, 60, 2);
    e.pointer.y = 9;
    e.time_ns = 5000;
    ikv_router_route(k.router, &e);
    ok(ikv_scene_move(k.scene, named[0], 30, 50));
    config.what = WHAT(CAPTURE);
    draw(&config, "capture:a 30,50 50,50 50,70 30,70; capture:a 60,9-30,50; ");
    ok(ikv_scene_move(k.scene, named[0], 0, 0));
    config.what = WHAT(FOCUS);
    ok(ikv_router_focus(k.router, 3, named[0]));
    draw(&config, "focus:a 0,0 20,0 20,20 0,20; ");
    ok(ikv_router_set_modal(k.router, 3, named[0]));
    config.what |= WHAT(MODAL);
    draw(&config, "modal:a 0,0 20,0 20,20 0,20; focus:a 0,0 20,0 20,20 0,20; ");
    ok(ikv_router_set_modal(k.router, 3, (ikv_target){0}));
    /* nothing is held by what is not seen */
    ikv_camera camera = ikv_scene_camera(k.scene, 0, 0);
    camera.hidden = true;
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    draw(&config, "");
    camera.hidden = false;
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    draw(&config, "focus:a 0,0 20,0 20,20 0,20; ");
    ok(ikv_scene_show(k.scene, named[0], false));
    draw(&config, "");
    kit_close(&k);
}
END_TEST

/* Whoever takes no lines gets none; every ink can be seen on its ground. */
START_TEST(canvases)
{
    ikv_draw_config config = open_scene();
    ikv_target_config t = IKV_TARGET_INIT;
    t.shape = ikv_scene_rect(0, 0, 20, 20);
    put('a', t);
    config.router = k.router;
    config.canvas = (ikv_canvas){NULL, NULL, NULL, NULL, NULL};
    draw(&config, "");
    const ikv_draw_style *styles[] = {ikv_draw_dark(), ikv_draw_light()};
    for (int s = 0; s < 2; s++)
        for (int i = 0; i < IKV_DRAW_COUNT; i++) {
            const ikv_ink *ink = &styles[s]->inks[i];
            uint32_t ground = styles[s]->background >> 8 & 0xff;
            uint32_t green = ink->line >> 16 & 0xff;
            ck_assert_uint_gt(ink->line & 0xff, 127);
            ck_assert(ink->width >= 1);
            ck_assert_uint_ge(ground > green ? ground - green : green - ground,
                              90);
        }
    status_is(ikv_draw(NULL), IKV_BAD_ARGUMENT);
    config.size = 8;
    status_is(ikv_draw(&config), IKV_BAD_SIZE);
    config.scene = NULL;
    status_is(ikv_draw(&config), IKV_BAD_ARGUMENT);
    kit_close(&k);
}
END_TEST

/* -------------------------------------------------- where hits are -- */

typedef struct outline {
    float points[40], x, y, radius;
    uint32_t count;
} outline;

static outline outlines[16];

static void keep_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    const ikv_target *all = user;
    for (int i = 0; i < ROWS(outlines); i++)
        if (all[i].bits == mark->target.bits) {
            memcpy(outlines[i].points, points, 2 * count * sizeof *points);
            outlines[i].count = count;
        }
}

static void keep_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    const ikv_target *all = user;
    for (int i = 0; i < ROWS(outlines); i++)
        if (all[i].bits == mark->target.bits)
            outlines[i] = (outline){.x = x, .y = y, .radius = radius};
}

/* How far inside a point is; below 0: outside. Both turns. */
static double depth_in(const outline *o, float x, float y)
{
    double least = 1e9, sign = 0;
    if (o->count == 0) {
        double dx = (double)x - (double)o->x, dy = (double)y - (double)o->y;
        return (double)o->radius - sqrt(dx * dx + dy * dy);
    }
    for (uint32_t i = 0; i < o->count; i++) {
        const float *a = &o->points[2 * i];
        const float *b = &o->points[2 * ((i + 1) % o->count)];
        double ex = (double)b[0] - (double)a[0],
               ey = (double)b[1] - (double)a[1];
        double length = sqrt(ex * ex + ey * ey);
        if (length < 1e-6)
            continue;
        double off = (ex * ((double)y - (double)a[1]) -
                      ey * ((double)x - (double)a[0])) /
                     length;
        if (sign == 0)
            for (uint32_t n = 0; n < o->count; n++)
                sign += ex * ((double)o->points[2 * n + 1] - (double)a[1]) -
                        ey * ((double)o->points[2 * n] - (double)a[0]);
        off = sign < 0 ? -off : off;
        least = off < least ? off : least;
    }
    return least;
}

static bool is_outside(ikv_target target, float x, float y)
{
    ikv_obstacle why[8];
    ikv_query query = IKV_QUERY_INIT;
    query.x = x, query.y = y;
    uint32_t count = ikv_scene_probe(k.scene, &query, target, why, 8);
    for (uint32_t i = 0; i < count && i < 8; i++)
        if (why[i].code == IKV_WHY_OUTSIDE)
            return true;
    return false;
}

START_TEST(where_hits_are)
{
    uint64_t random = (uint64_t)_i + 3;
    ikv_target all[16];
    int compared = 0;
    ikv_draw_config config = open_scene();
    ikv_camera camera = {
        .x = 30,
        .y = 20,
        .zoom = 0.5f + (float)random_below(&random, 4) / 2,
        .rotation = ikv_scene_rotation((float)random_below(&random, 360)),
        .flip_y = random_below(&random, 2) == 0};
    ok(ikv_scene_set_camera(k.scene, 0, 0, &camera));
    for (int i = 0; i < ROWS(all); i++) {
        ikv_target_config t = IKV_TARGET_INIT;
        float a = (float)random_below(&random, 20),
              b = (float)random_below(&random, 20);
        const float points[] = {a,      b,      a + 20, b + 3,
                                a + 15, b + 25, a - 2,  b + 9};
        const ikv_shape made[] = {ikv_scene_rect(a, b, 20, 10),
                                  ikv_scene_circle(a, b, 12),
                                  ikv_scene_capsule(a, b, b, a + 30, 6),
                                  ikv_scene_polygon(points, 4)};
        t.parent = i > 0 && random_below(&random, 2) == 0
                       ? all[random_below(&random, (uint32_t)i)]
                       : (ikv_target){0};
        t.x = (float)random_below(&random, 60);
        t.y = (float)random_below(&random, 60);
        t.rotation = ikv_scene_rotation((float)random_below(&random, 360));
        t.scale = 0.5f + (float)random_below(&random, 3) / 2;
        t.shape = made[random_below(&random, 4)];
        ok(ikv_scene_add(k.scene, &t, &all[i], NULL));
    }
    memset(outlines, 0, sizeof outlines);
    config.what = WHAT(SOLID);
    config.canvas = (ikv_canvas){all, NULL, keep_polygon, keep_circle, NULL};
    ok(ikv_draw(&config));
    for (int at = 0; at < 800; at++) {
        /* about one of them */
        const outline *near = &outlines[at % ROWS(outlines)];
        float x = near->x + near->points[0] - 40 +
                  (float)random_below(&random, 800) / 10;
        float y = near->y + near->points[1] - 40 +
                  (float)random_below(&random, 800) / 10;
        for (int i = 0; i < ROWS(all); i++) {
            double depth = depth_in(&outlines[i], x, y);
            /* a capsule's ends are drawn with corners */
            double blunt = outlines[i].count > 4 ? 1.5 : 0.01;
            if (depth > -0.01 && depth < 0.01)
                continue;
            if (depth < 0 && depth > -blunt)
                continue;
            ck_assert_msg(is_outside(all[i], x, y) == (depth < 0),
                          "target %d at %g, %g: %g", i, (double)x, (double)y,
                          depth);
            compared += depth > 0;
        }
    }
    ck_assert_int_gt(compared, 100);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------ the command -- */

#define TOOL BINARY "/ikvar"
#define DEMO SOURCE "/demo/harbour.setup.json "
#define TAPE SOURCE "/demo/harbour.tape.jsonl "

static char output[1 << 16];

static int count_of(const char *text, const char *what)
{
    int count = 0;
    for (; (text = strstr(text, what)) != NULL; text++)
        count++;
    return count;
}

static const char no_times[] = "{\"format\":\"ikvar.tape/2\",\"until\":500}\n";

/* A view of 640 by 360 on a page of 1280 by 800: 1.9167 times as large, from
 * (26.67, 34) on. Who is in it, once each and in stacking order, where it is. */
/* The colours are chosen to be told apart: none changes by accident. */
START_TEST(inks_as_they_are)
{
    static record r;
    const ikv_draw_style *styles[] = {ikv_draw_dark(), ikv_draw_light()};
    r.text[0] = '\0';
    for (int s = 0; s < 2; s++) {
        note(&r, "%08x %g\n", styles[s]->background,
             (double)styles[s]->pointer_radius);
        for (uint32_t what = 0; what < IKV_DRAW_COUNT; what++) {
            const ikv_ink *ink = &styles[s]->inks[what];
            note(&r, "%s %08x %08x %g%s\n", ikv_draw_name_of(what), ink->line,
                 ink->fill, (double)ink->width, ink->dashed ? " dashed" : "");
        }
    }
    expect_golden("inks.txt", r.text);
}
END_TEST

START_TEST(svg_of_a_setup)
{
    static const struct {
        const char *name;
        double x, y;
    } order[] = {{"low", 100, 50},
                 {"<b>&", 200, 60},
                 {"inner", 130, 70},
                 {"above", 0, 0},
                 {"panel", 300, 200}};
    write_file(
        "draw.setup.json",
        "{\"format\":\"ikvar.setup/1\",\"layers\":[{\"name\":\"w\"},{\"name\":"
        "\"p\"}],\"view\":{\"width\":640,\"height\":360},\"targets\":["
        "{\"id\":\"panel\",\"layer\":\"p\",\"position\":[300,200],\"shape\":{"
        "\"rect\":[0,0,9,9]}},{\"id\":\"above\",\"z\":3,\"shape\":{\"rect\":[0,"
        "0,"
        "9,9]}},{\"id\":\"low\",\"z\":-3,\"position\":[100,50],\"shape\":{"
        "\"rect\":"
        "[0,0,40,20]}},{\"id\":\"<b>&\",\"position\":[200,60],\"shape\":{"
        "\"rect\":["
        "0,0,9,9]}},{\"id\":\"inner\",\"parent\":\"<b>&\",\"position\":[-70,10]"
        ","
        "\"shape\":{\"rect\":[0,0,9,9]}},{\"id\":\"gone\",\"hidden\":true,"
        "\"shape\":{\"rect\":[0,0,9,9]}}]}");
    write_file("draw.tape.jsonl", no_times);
    int code = run_command_line(output, sizeof output, TOOL " draw %s",
                                _i == 0 ? "draw.setup.json"
                                        : "draw.setup.json draw.tape.jsonl "
                                          "--at 300");
    ck_assert_msg(code == 0, "%s", output);
    ck_assert_int_eq(count_of(output, "data-name="), ROWS(order));
    ck_assert_ptr_null(strstr(output, "<b>"));
    const char *at = output;
    for (int i = 0; i < ROWS(order); i++) {
        char group[64];
        double x, y;
        snprintf(group, sizeof group, "<g class=\"target\" data-name=\"%s\">",
                 i == 1 ? "&lt;b&gt;&amp;" : order[i].name);
        at = strstr(at, group);
        ck_assert_msg(at != NULL, "%s: %s", group, output);
        at = strstr(at, "points=\"");
        ck_assert_int_eq(sscanf(at, "points=\"%lf,%lf", &x, &y), 2);
        ck_assert_double_eq_tol(x, 26.67 + 1.91667 * order[i].x, 0.02);
        ck_assert_double_eq_tol(y, 34 + 1.91667 * order[i].y, 0.02);
    }
    ck_assert_ptr_nonnull(strstr(output, "draw.setup.json at "));
    ck_assert_ptr_nonnull(strstr(output, "50 units</text>"));
    ck_assert_ptr_nonnull(strstr(output, ">is hit</text>"));
    ck_assert_ptr_null(strstr(output, ">senses</text>"));
    ck_assert_int_eq(count_of(output, "<g "), count_of(output, "</g>"));
}
END_TEST

/* What the harbour's tape has moved by then, to a unit; and what has happened. */
static const struct {
    const char *at;
    double ferry;
    bool in_berth, hovers, captured;
} moments[] = {{"1", 220, false, false, false},
               {"640", 489, true, false, false},
               {"900", 489, true, true, false}};

START_TEST(svg_of_a_moment)
{
    double x;
    int code =
        run_command_line(output, sizeof output,
                         TOOL " draw " DEMO TAPE " --at %s", moments[_i].at);
    ck_assert_msg(code == 0, "%s", output);
    ck_assert_int_eq(count_of(output, "data-name="), 16);
    const char *hull = strstr(output, "data-name=\"hull\"");
    ck_assert_ptr_nonnull(hull);
    ck_assert_int_eq(sscanf(strstr(hull, "points=\""), "points=\"%lf", &x), 1);
    x = (x - 26.67) / 1.91667 + 60; /* its left edge */
    ck_assert_msg(x > moments[_i].ferry - 1 && x < moments[_i].ferry + 1, "%g",
                  x);
    ck_assert_int_eq(strstr(output, ">is in it<") != NULL,
                     moments[_i].in_berth);
    ck_assert_int_eq(strstr(output, ">hovered<") != NULL, moments[_i].hovers);
    ck_assert_int_eq(strstr(output, ">has captured<") != NULL,
                     moments[_i].captured);
}
END_TEST

/* ------------------------------------------------------------ to be read -- */

typedef struct text_box {
    double left, top, right, bottom;
    char text[64];
} text_box;

static double part_of(unsigned value)
{
    double v = (double)value / 255;
    return v <= 0.04045 ? v / 12.92 : pow((v + 0.055) / 1.055, 2.4);
}

static double light_of(unsigned rgb)
{
    return 0.2126 * part_of(rgb >> 16) + 0.7152 * part_of(rgb >> 8 & 0xff) +
           0.0722 * part_of(rgb & 0xff);
}

/* WCAG 2.2, 1.4.3: at least 4.5 to 1. */
static void expect_contrast(unsigned a, unsigned b, const char *text)
{
    double high = light_of(a), low = light_of(b);
    double contrast = high > low ? (high + 0.05) / (low + 0.05)
                                 : (low + 0.05) / (high + 0.05);
    ck_assert_msg(contrast >= 4.5, "%s: #%06x on #%06x: %.2f", text, a, b,
                  contrast);
}

/* Texts are large enough, on the page, not upon each other, and stand out. */
static void expect_readable(const char *svg, double width, double height)
{
    static text_box boxes[256];
    int count = 0;
    unsigned ground, ink;
    const char *at = strstr(svg, "<rect");
    ck_assert_int_eq(sscanf(strstr(at, "fill="), "fill=\"#%x", &ground), 1);
    while ((at = strstr(at, "<text")) != NULL) {
        double x, y, size;
        text_box *box = &boxes[count++];
        ck_assert_int_eq(sscanf(at,
                                "<text x=\"%lf\" y=\"%lf\" font-size=\"%lf\" "
                                "fill=\"#%x\">%63[^<]",
                                &x, &y, &size, &ink, box->text),
                         5);
        at++;
        box->left = x;
        box->right = x + (double)strlen(box->text) * size * 0.55;
        box->top = y - size * 0.8;
        box->bottom = y + size * 0.2;
        ck_assert_msg(size >= 11, "%s: of %g", box->text, size);
        ck_assert_msg(box->left >= 0 && box->right <= width && box->top >= 0 &&
                          box->bottom <= height,
                      "%s: not on the page: %g to %g, %g to %g", box->text,
                      box->left, box->right, box->top, box->bottom);
        expect_contrast(ink, ground, box->text);
        for (int i = 0; i + 1 < count; i++)
            ck_assert_msg(
                box->left >= boxes[i].right || boxes[i].left >= box->right ||
                    box->top >= boxes[i].bottom || boxes[i].top >= box->bottom,
                "\"%s\" upon \"%s\"", box->text, boxes[i].text);
    }
    ck_assert_int_gt(count, 10);
}

static const char *const readable_table[] = {
    DEMO, DEMO TAPE "--at 500", DEMO TAPE "--at 540", DEMO TAPE "--at 900",
    SOURCE "/tests/golden/why.setup.json"};

START_TEST(readable)
{
    for (int light = 0; light < 2; light++) {
        int code = run_command_line(output, sizeof output, TOOL " draw %s %s",
                                    readable_table[_i], light ? "--light" : "");
        ck_assert_msg(code == 0, "%s", output);
        expect_readable(output, 1280, 800);
    }
}
END_TEST

/* What each ink means is told without its colour, too: by dashes, filling, width
 * or what is drawn with it. */
START_TEST(inks_without_colour)
{
    static const uint8_t told[] = {
        IKV_DRAW_SOLID, IKV_DRAW_PASS,    IKV_DRAW_OFF,
        IKV_DRAW_CLIP,  IKV_DRAW_MARGIN,  IKV_DRAW_ZONE,
        IKV_DRAW_HOVER, IKV_DRAW_CAPTURE, IKV_DRAW_FOCUS};
    const ikv_draw_style *styles[] = {ikv_draw_dark(), ikv_draw_light()};
    for (int s = 0; s < 2; s++)
        for (int a = 0; a < ROWS(told); a++) {
            const ikv_ink *one = &styles[s]->inks[told[a]];
            expect_contrast(one->line >> 8, styles[s]->background >> 8,
                            ikv_draw_name_of(told[a]));
            for (int b = 0; b < a; b++) {
                const ikv_ink *other = &styles[s]->inks[told[b]];
                int filled =
                    (int)(one->fill & 0xff) - (int)(other->fill & 0xff);
                ck_assert_msg(one->dashed != other->dashed ||
                                  one->width != other->width || abs(filled) > 6,
                              "%s and %s differ by colour alone",
                              ikv_draw_name_of(told[a]),
                              ikv_draw_name_of(told[b]));
            }
        }
}
END_TEST

static const struct {
    const char *arguments;
    int code;
    const char *says;
} draw_table[] = {
    /* without a view: all that there is, on the page */
    {SOURCE "/examples/tickets.setup.json | grep -A1 'data-name=\"ferry\"'", 0,
     "points=\"65.85,165.54 751.40,165.54 751.40,422.62 65.85,422.62\""},
    {SOURCE "/examples/tickets.setup.json | grep -c '10 units'", 0, "1"},
    {DEMO TAPE "--only solid,zone | grep -c stroke-dasharray", 1, "0"},
    {DEMO TAPE "--only solid,zon", 2, "did you mean \"zone\"?"},
    {DEMO TAPE "more", 2, "expected SETUP [TAPE]"},
    {"", 2, "expected SETUP [TAPE]"},
    {DEMO "-o picture.gif", 2, "a name that ends in .png or .svg"},
    {"gone.setup.json", 3, "gone.setup.json: can't open"},
    {DEMO "gone.tape.jsonl --at 5", 3, "gone.tape.jsonl: can't open"},
    {DEMO "-o no/such.svg", 3, "no/such.svg: No such file"},
    {DEMO "> /dev/full", 3, "can't be written"},
    {"draw.svg -o draw.svg", 3, "the picture would destroy it"},
    {DEMO "--light -o draw.svg && grep -c ffffff draw.svg", 0, "1"},
    {DEMO TAPE "--at 900 -o draw.png && head -c 24 draw.png | od -An -tx1 | "
               "tr -d ' \\n'",
     0, "89504e470d0a1a0a0000000d494844520000050000000320"},
    {DEMO "-w 400 -H 300 -o draw.png && head -c 24 draw.png | od -An -tx1 | "
          "tail -1",
     0, "00 00 01 90 00 00 01 2c"},
    {DEMO "--width 4", 2, "--width"},
    {DEMO "-o \"$(printf 'a\\033b')\"", 2, "--output: found \"a\\x1bb\""},
};

START_TEST(draw_command_line)
{
    write_file("draw.svg", "{\"format\":\"ikvar.setup/1\"}");
    int code = run_command_line(output, sizeof output, TOOL " draw %s",
                                draw_table[_i].arguments);
    ck_assert_msg(code == draw_table[_i].code &&
                      strstr(output, draw_table[_i].says) != NULL,
                  "%s: %d: %s", draw_table[_i].arguments, code, output);
    remove("draw.svg");
    remove("draw.png");
    run_command_line(output, sizeof output, "ls *.part");
    ck_assert_ptr_null(strstr(output, "draw."));
}
END_TEST

/* ----------------------------------------------------------------- plots -- */

/* The sum of a column, by its name; and how many rows there are. */
static double sum_of(const char *csv, const char *column, int *rows)
{
    char line[512], *name, *value;
    int nth = -1;
    double sum = 0;
    *rows = -1;
    for (; *csv != '\0'; csv += strcspn(csv, "\n") + 1) {
        snprintf(line, sizeof line, "%.*s", (int)strcspn(csv, "\n"), csv);
        ++*rows;
        int at = 0;
        for (name = line; name != NULL; name = value, at++) {
            value = strchr(name, ',');
            if (value != NULL)
                *value++ = '\0';
            if (*rows == 0 && strcmp(name, column) == 0)
                nth = at;
            else if (*rows > 0 && at == nth)
                sum += atof(name);
        }
    }
    ck_assert_msg(nth >= 0, "no column %s", column);
    return sum;
}

/* What the counters say of the same run; of a trace the same, as far as it tells.
 */
START_TEST(csv_of_a_run)
{
    static const struct {
        const char *column;
        double sum;
        bool in_trace;
    } sums[] = {{"steps", 162, true},   {"calls", 49, true},
                {"pointer", 179, true}, {"loop", 362, true},
                {"overlap", 4, true},   {"action", 33, true},
                {"user", 5, true},      {"deferred", 3, false},
                {"merged", 0, false},   {"key", 12, true}};
    int rows;
    char *csv = malloc(1 << 17);
    if (_i == 1)
        run_command_line(csv, 1 << 17,
                         TOOL " run --json " DEMO TAPE "> draw.trace.jsonl");
    int code = run_command_line(csv, 1 << 17, TOOL " plot %s",
                                _i == 0 ? DEMO TAPE : "draw.trace.jsonl");
    ck_assert_int_eq(code, 0);
    for (int i = 0; i < ROWS(sums); i++)
        if (_i == 0 || sums[i].in_trace)
            ck_assert_msg(
                fabs(sum_of(csv, sums[i].column, &rows) - sums[i].sum) < 0.5,
                "%s: %g", sums[i].column, sum_of(csv, sums[i].column, &rows));
    ck_assert_int_eq(rows, 193);
    /* how long it takes is of this machine, and is told of each frame */
    double took = sum_of(csv, "frame_ms", &rows);
    ck_assert_int_eq(took > 0, _i == 0);
    remove("draw.trace.jsonl");
    free(csv);
}
END_TEST

static const struct {
    const char *arguments;
    int code;
    const char *says;
} plot_table[] = {
    {DEMO TAPE "-o draw.png && head -c 4 draw.png | od -An -c", 0, "P   N   G"},
    {DEMO TAPE "-o draw.svg && grep -c 'longest step' draw.svg", 0, "2"},
    {DEMO TAPE "--light -o draw.svg && grep -c 'fill=.#ffffff' draw.svg", 0,
     "1"},
    {DEMO TAPE "| head -1", 0,
     "t_ms,steps,calls,deferred,merged,queue,waiting,lanes,contacts,frame_ms,"
     "step_ms,pointer"},
    {DEMO TAPE "-o draw.gif", 2, "ends in .png or .svg"},
    {DEMO, 2, "expected SETUP TAPE, or TRACE"},
    {"", 2, "expected SETUP TAPE, or TRACE"},
    {"gone.trace.jsonl", 3, "gone.trace.jsonl: No such file"},
    {"torn.trace.jsonl", 3, "warning: torn.trace.jsonl:2: the line is torn"},
    {"odd.trace.jsonl", 3, "odd.trace.jsonl:2: expected a call of a trace"},
    {"wrong.trace.jsonl", 3, "wrong.trace.jsonl:1: expected a trace"},
    {"short.trace.jsonl", 3, "short.trace.jsonl: no frame ended in it"},
    {DEMO TAPE "-o \"$(printf 'a\\033b')\"", 2, "--output: found \"a\\x1bb\""},
    {DEMO TAPE "-o no/such.png", 3, "ikvar plot: no/such.png: "},
    {DEMO TAPE "> /dev/full", 3, "can't be written"},
};

START_TEST(plot_command_line)
{
    write_file("torn.trace.jsonl",
               "{\"format\":\"ikvar.trace/2\"}\n{\"n\":1,\"ki");
    write_file("odd.trace.jsonl",
               "{\"format\":\"ikvar.trace/2\"}\n{\"n\":1}\n");
    write_file("wrong.trace.jsonl", "{\"format\":\"ikvar.tape/2\"}\n");
    write_file("short.trace.jsonl", "{\"format\":\"ikvar.trace/2\"}\n");
    int code = run_command_line(output, sizeof output, TOOL " plot %s",
                                plot_table[_i].arguments);
    ck_assert_msg(code == plot_table[_i].code &&
                      strstr(output, plot_table[_i].says) != NULL,
                  "%s: %d: %s", plot_table[_i].arguments, code, output);
    run_command_line(
        output, sizeof output,
        "rm -f torn.* odd.* wrong.* short.* draw.svg draw.png; ls");
    ck_assert_ptr_null(strstr(output, ".part"));
    /* where there is no gnuplot it is said, and nothing is left */
    code = run_command_line(output, sizeof output,
                            "PATH=/nonexistent " TOOL " plot " DEMO TAPE
                            "-o draw.png");
    ck_assert_int_eq(code, 3);
    ck_assert_ptr_nonnull(strstr(output, "gnuplot is not there"));
}
END_TEST

Suite *draw_suite(void)
{
    Suite *s = suite_create("draw");
    add(s, "shapes", shapes);
    add(s, "capsules", capsules);
    add(s, "stacking", stacking);
    add(s, "zones", zones);
    add(s, "pointers", pointers);
    add(s, "canvases", canvases);
    add_table(s, "where hits are", where_hits_are, 20);
    add_table(s, "SVG of a setup", svg_of_a_setup, 2);
    add_table(s, "SVG of a moment", svg_of_a_moment, ROWS(moments));
    add_table(s, "readable", readable, ROWS(readable_table));
    add(s, "inks without colour", inks_without_colour);
    add(s, "inks", inks_as_they_are);
    add_table(s, "draw", draw_command_line, ROWS(draw_table));
    add_table(s, "CSV of a run", csv_of_a_run, 2);
    add_table(s, "plot", plot_command_line, ROWS(plot_table));
    return s;
}
