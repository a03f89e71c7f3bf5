/* test_overlap.c - O1 to O6, S3: who overlaps whom, and what is told of it. */
#include "support.h"

#include <math.h>

enum {
    FERRY = 1,
    GULL = 2,
    LAMP = 4
};

static bench_kit k;
static ikv_overlaps *o;
static record seen;
static uint64_t steps;
static ikv_target named[26]; /* a to z */

static char name_of(ikv_target target)
{
    uint32_t id = ikv_bus_target_id(k.bus, target);
    return id > 0 ? (char)('a' + id - 1) : '?';
}

/* "a+b" enter at a, "a-b" leave, "a=b" inside; then what is unusual. */
static bool with_places; /* where it began is noted, too */

static ikv_verdict note_overlap(const ikv_event *e, const ikv_delivery *d,
                                void *user)
{
    static const char marks[] = "+=-";
    const ikv_overlap_data *v = &e->overlap;
    (void)user;
    note(&seen, "%c%c%c", name_of(e->target),
         marks[e->kind - IKV_KIND_OVERLAP_ENTER],
         v->other_id > 0 ? (char)('a' + v->other_id - 1) : '?');
    if (d->flags & IKV_MIRROR)
        note(&seen, "m");
    if (v->scope == IKV_OVERLAP_OF_BODIES)
        note(&seen, "B");
    if (v->count > 1)
        note(&seen, "%u", v->count);
    if (v->reason != IKV_OVERLAP_APART)
        note(&seen, "%s", v->reason == IKV_OVERLAP_REMOVED ? "!" : "~");
    if (with_places)
        note(&seen, "@%g,%g", (double)v->x, (double)v->y);
    note(&seen, " ");
    return IKV_CONTINUE;
}

static uint32_t pair_room; /* 0: as many as there are by default */

static void open_overlaps(bool plain, bool inside)
{
    ikv_target none = {0};
    kit_prepare(&k);
    k.config.loop.step_num = 50;
    k.config.scene.layers = 2;
    k.config.overlaps.plain = plain;
    k.config.overlaps.pairs = pair_room;
    kit_open(&k);
    o = ikv_kit_overlaps(k.kit);
    seen.text[0] = '\0';
    steps = 0;
    memset(named, 0, sizeof named);
    hears(k.bus, IKV_KIND_OVERLAP_ENTER, none, note_overlap, NULL);
    hears(k.bus, IKV_KIND_OVERLAP_LEAVE, none, note_overlap, NULL);
    if (inside)
        hears(k.bus, IKV_KIND_OVERLAP_INSIDE, none, note_overlap, NULL);
    kit_frame(&k, 0);
}

static void close_overlaps(void)
{
    valid(ikv_overlaps_validate(o));
    kit_close(&k);
    ck_assert_int_eq(k.memory.takes, k.memory.gives);
}

static void step(void)
{
    kit_frame(&k, ++steps * 20);
    kit_frame(&k, steps * 20); /* the step's end comes with the next */
    valid(ikv_overlaps_validate(o));
    note(&seen, "| ");
}

/* ------------------------------------------------------------ a language -- */

static ikv_shape shape_of(const char *text)
{
    static float points[32];
    ikv_shape shape = ikv_scene_rect(0, 0, 10, 10);
    float n[6] = {0, 0, 0, 0, 0, 0};
    uint32_t count = 0;
    if (sscanf(text, "box,%f,%f,%f,%f", &n[0], &n[1], &n[2], &n[3]) == 4)
        shape = ikv_scene_rect(n[0], n[1], n[2], n[3]);
    else if (sscanf(text, "rect,%f,%f", &n[0], &n[1]) == 2)
        shape = ikv_scene_rect(0, 0, n[0], n[1]);
    else if (sscanf(text, "circle,%f", &n[0]) == 1)
        shape = ikv_scene_circle(0, 0, n[0]);
    else if (sscanf(text, "capsule,%f,%f,%f", &n[0], &n[1], &n[2]) == 3)
        shape = ikv_scene_capsule(0, 0, n[0], n[1], n[2]);
    else if (strcmp(text, "point") == 0)
        shape = ikv_scene_point(0, 0);
    else if (strncmp(text, "poly", 4) == 0) {
        int used = 0;
        for (text += 4; sscanf(text, ",%f,%f%n", &n[0], &n[1], &used) == 2;
             text += used) {
            points[2 * count] = n[0];
            points[2 * count++ + 1] = n[1];
        }
        shape = ikv_scene_polygon(points, count);
    } else {
        ck_abort_msg("unknown shape %s", text);
    }
    return shape;
}

static uint32_t tags_of(const char *text)
{
    return (strchr(text, 'F') ? FERRY : 0u) | (strchr(text, 'G') ? GULL : 0u) |
           (strchr(text, 'L') ? LAMP : 0u);
}

/* "+a:F>G@3,4" adds a with the tag ferry, sensing gulls, at (3, 4); then, after
 * commas or not: "/b" beneath b, "=shape", "B" a body, "!h" scope of bodies,
 * "~2" lingers, "s" swept, "l1" layer 1, "m" inside when something moves,
 * "r30" turned, "x2" scaled. */
static void add_named(const char *text)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    int index = text[0] - 'a', used = 0, n = 0;
    char bears[8] = "", senses[8] = "", shape[400] = "";
    float number = 0;
    config.id = (uint32_t)index + 1;
    config.shape = ikv_scene_rect(0, 0, 10, 10);
    config.hit = IKV_HIT_OFF;
    text += 2;
    if (sscanf(text, "%7[FGL]%n", bears, &used) == 1)
        text += used;
    if (sscanf(text, ">%7[FGL]%n", senses, &used) == 1)
        text += used;
    if (sscanf(text, "@%f,%f%n", &config.x, &config.y, &used) == 2)
        text += used;
    config.tags = tags_of(bears);
    sensing.senses = tags_of(senses);
    while (*text != '\0') {
        if (sscanf(text, "/%c%n", shape, &used) == 1 && *text == '/') {
            config.parent = named[shape[0] - 'a'];
        } else if (sscanf(text, "=%399[^;];%n", shape, &used) == 1) {
            config.shape = shape_of(shape);
        } else if (sscanf(text, "~%d%n", &n, &used) == 1) {
            sensing.linger = (uint16_t)n;
        } else if (sscanf(text, "l%d%n", &n, &used) == 1) {
            config.layer = (uint32_t)n;
        } else if (sscanf(text, "r%f%n", &number, &used) == 1) {
            config.rotation = ikv_scene_rotation(number);
        } else if (sscanf(text, "x%f%n", &number, &used) == 1) {
            config.scale = number;
        } else {
            used = 1;
            config.body = config.body || *text == 'B';
            sensing.scope =
                *text == '!' ? IKV_OVERLAP_OF_BODIES : sensing.scope;
            sensing.swept = sensing.swept || *text == 's';
            sensing.inside = *text == 'm' ? IKV_INSIDE_MOVING : sensing.inside;
        }
        text += used;
    }
    ok(ikv_scene_add(k.scene, &config, &named[index], NULL));
    ok(ikv_overlaps_sense(o, named[index], &sensing));
}

static void do_word(const char *word)
{
    char a = 0, b = 0, text[8] = "", shape[80] = "";
    float x = 0, y = 0;
    if (strcmp(word, "|") == 0) {
        step();
    } else if (word[0] == '+') {
        add_named(word + 1);
    } else if (sscanf(word, "%c@%f,%f", &a, &x, &y) == 3) {
        ok(ikv_scene_move(k.scene, named[a - 'a'], x, y));
    } else if (sscanf(word, "remove:%c", &a) == 1) {
        ok(ikv_scene_remove(k.scene, named[a - 'a']));
    } else if (sscanf(word, "hide:%c", &a) == 1) {
        ok(ikv_scene_show(k.scene, named[a - 'a'], false));
    } else if (sscanf(word, "show:%c", &a) == 1) {
        ok(ikv_scene_show(k.scene, named[a - 'a'], true));
    } else if (sscanf(word, "off:%c", &a) == 1) {
        ok(ikv_overlaps_enable(o, named[a - 'a'], false));
    } else if (sscanf(word, "on:%c", &a) == 1) {
        ok(ikv_overlaps_enable(o, named[a - 'a'], true));
    } else if (sscanf(word, "place:%c", &a) == 1) {
        ok(ikv_overlaps_place(o, named[a - 'a']));
    } else if (sscanf(word, "parent:%c%c", &a, &b) == 2) {
        ok(ikv_scene_set_parent(k.scene, named[a - 'a'], named[b - 'a']));
    } else if (sscanf(word, "tags:%c%7s", &a, text) == 2) {
        ok(ikv_scene_set_tags(k.scene, named[a - 'a'], tags_of(text)));
    } else if (sscanf(word, "senses:%c%7s", &a, text) == 2) {
        ikv_sensing s = ikv_overlaps_sensing(o, named[a - 'a']);
        s.senses = tags_of(text);
        ok(ikv_overlaps_sense(o, named[a - 'a'], &s));
    } else if (sscanf(word, "turn:%c%f", &a, &x) == 2) {
        ok(ikv_scene_turn(k.scene, named[a - 'a'], ikv_scene_rotation(x)));
    } else if (sscanf(word, "shape:%c=%79s", &a, shape) == 2) {
        ikv_shape to = shape_of(shape);
        ok(ikv_scene_set_shape(k.scene, named[a - 'a'], &to));
    } else if (sscanf(word, "sweep:%c%f", &a, &x) == 2) {
        ikv_sensing s = ikv_overlaps_sensing(o, named[a - 'a']);
        s.swept = x > 0;
        ok(ikv_overlaps_sense(o, named[a - 'a'], &s));
    } else if (sscanf(word, "report:%c%c", &a, &b) == 2) {
        const float point[3] = {1, 2, 3};
        ok(ikv_overlaps_report(o, named[a - 'a'], named[b - 'a'], point));
    } else {
        ck_abort_msg("unknown word %s", word);
    }
}

static void do_words(const char *words)
{
    for_words(words, do_word);
}

#define CASES "overlaps.txt"

/* With a list of pairs, and all with all. */
START_TEST(row)
{
    for (int plain = 0; plain < 2; plain++) {
        open_overlaps(plain, true);
        do_words(case_text(CASES, _i, "do"));
        expect_case(CASES, _i, "hear", seen.text);
        close_overlaps();
    }
}
END_TEST

/* --------------------------------------------------------------- shapes -- */

static const struct {
    const char *a, *b;
    float apart, near; /* b's x: just apart, and just touching */
} shapes[] = {
    {"+a:F@0,0", "+b:L>F@%g,0", 10.01f, 9.99f},
    {"+a:F@0,0r45", "+b:L>F@%g,7.071r45", 7.08f, 7.06f},
    {"+a:F@0,0r45", "+b:L>F@%g,7.071=point;", 7.08f, 7.06f},
    {"+a:F@0,0", "+b:L>F@%g,5=circle,3;", 13.01f, 12.99f},
    {"+a:F@0,0", "+b:L>F@%g,-2.1213=circle,3;", 12.13f, 12.11f},
    {"+a:F@0,0=circle,4;", "+b:L>F@%g,3=circle,1;", 4.01f, 3.99f},
    {"+a:F@0,0=circle,4;x2", "+b:L>F@%g,0=circle,1;x3", 11.01f, 10.99f},
    {"+a:F@0,0=capsule,0,10,2;", "+b:L>F@%g,5=capsule,0,10,1;", 3.01f, 2.99f},
    {"+a:F@0,0=capsule,0,10,2;", "+b:L>F@%g,13=point;", 0.01f, -9},
    {"+a:F@0,0=capsule,10,10,1;r-45", "+b:L>F@%g,0=capsule,0,5,1;", 16.15f,
     16.13f},
    {"+a:F@0,0=poly,0,0,10,0,0,10;", "+b:L>F@%g,5=point;", 5.01f, 4.99f},
    {"+a:F@0,0=poly,0,0,10,0,0,10;", "+b:L>F@%g,5=rect,4,4;", 5.01f, 4.99f},
    {"+a:F@0,0=poly,10,0,0,10,0,0;", "+b:L>F@%g,5=rect,4,4;", 5.01f, 4.99f},
    {"+a:F@0,0=poly,0,0,10,0,10,10,0,10;r30", "+b:L>F@%g,0=poly,0,0,5,5,5,-5;",
     3.68f, 3.64f},
    {"+a:F@0,0", "+b:L>F@%g,3=poly,0,0,4,-2,4,2;", 10.01f, 9.99f},
    {"+a:F@0,0=rect,0,10;", "+b:L>F@%g,5=rect,0,0;", 0.01f, 0},
    {"+a:F@1000000,0", "+b:L>F@%.9g,0", 1000011, 1000009},
};

/* O1: exact, rotated and scaled ones included; either of the two may come
 * first. */
START_TEST(shape_pair)
{
    for (int turn = 0; turn < 4; turn++) {
        char b[100];
        bool near = turn % 2 != 0;
        snprintf(b, sizeof b, shapes[_i].b,
                 (double)(near ? shapes[_i].near : shapes[_i].apart));
        if (near && shapes[_i].near < -8)
            continue; /* it is a corner case of being apart alone */
        open_overlaps(turn >= 2, false);
        do_word(turn % 3 ? b : shapes[_i].a);
        do_word(turn % 3 ? shapes[_i].a : b);
        step();
        ck_assert_msg(strcmp(seen.text, near ? "b+a | " : "| ") == 0,
                      "%s and %s: %s", shapes[_i].a, b, seen.text);
        close_overlaps();
    }
}
END_TEST

/* A shape in doubles, taken into the layer. */
static bool holds_point(const ikv_shape *s, const double *place, double x,
                        double y)
{
    double dx = x - place[0], dy = y - place[1];
    double lx = (dx * place[2] + dy * place[3]) / place[4];
    double ly = (dy * place[2] - dx * place[3]) / place[4];
    if (s->type == IKV_SHAPE_RECT)
        return lx >= 0 && lx <= (double)s->width && ly >= 0 &&
               ly <= (double)s->height;
    return lx * lx + ly * ly <= (double)s->radius * (double)s->radius;
}

/* O1 against points of a fine raster: what share one meets, and what meets
 * comes near to sharing one. */
START_TEST(raster)
{
    uint64_t dice = (uint64_t)_i + 1;
    for (int round = 0; round < 40; round++) {
        ikv_shape shape[2];
        double place[2][5];
        open_overlaps(false, false);
        for (int i = 0; i < 2; i++) {
            ikv_target_config config = IKV_TARGET_INIT;
            ikv_sensing sensing = IKV_SENSING_INIT;
            ikv_target target;
            double angle = random_below(&dice, 360) * 3.14159265358979 / 180;
            shape[i] =
                random_below(&dice, 2)
                    ? ikv_scene_rect(0, 0, 4 + (float)random_below(&dice, 12),
                                     4 + (float)random_below(&dice, 12))
                    : ikv_scene_circle(0, 0, 3 + (float)random_below(&dice, 6));
            config.x = (float)random_below(&dice, 30);
            config.y = (float)random_below(&dice, 30);
            config.rotation.cos = (float)cos(angle);
            config.rotation.sin = (float)sin(angle);
            config.scale = 1 + (float)random_below(&dice, 3) / 2;
            config.shape = shape[i];
            config.id = (uint32_t)i + 1;
            config.tags = FERRY;
            sensing.senses = i ? FERRY : 0;
            ok(ikv_scene_add(k.scene, &config, &target, NULL));
            ok(ikv_overlaps_sense(o, target, &sensing));
            place[i][0] = (double)config.x;
            place[i][1] = (double)config.y;
            place[i][2] = cos(angle);
            place[i][3] = sin(angle);
            place[i][4] = (double)config.scale;
        }
        step();
        bool shares = false, near = false;
        for (double x = -50; x < 80; x += 0.5)
            for (double y = -50; y < 80; y += 0.5) {
                if (holds_point(&shape[0], place[0], x, y) &&
                    holds_point(&shape[1], place[1], x, y))
                    shares = true;
                bool close[2] = {false, false};
                for (int i = 0; i < 2; i++)
                    for (int n = 0; n < 9; n++)
                        close[i] =
                            close[i] || holds_point(&shape[i], place[i],
                                                    x + (n % 3 - 1) * 0.5,
                                                    y + (n / 3 - 1) * 0.5);
                near = near || (close[0] && close[1]);
            }
        bool meets = strcmp(seen.text, "b+a | ") == 0;
        ck_assert(!shares || meets);
        ck_assert(!meets || near);
        close_overlaps();
    }
}
END_TEST

/* ---------------------------------------------------------------- model -- */

enum {
    MODEL_TARGETS = 60
};

/* What happens is thrown by dice; twice the same, once by the list and once all
 * with all. */
/* S3: who touches whom is what the lists say, of those that are gone, too. */
static void check_touches(const ikv_target *target)
{
    for (int a = 0; a < MODEL_TARGETS; a++) {
        ikv_contact list[2 * MODEL_TARGETS];
        uint32_t count =
            ikv_overlaps_list(o, target[a], 0, list, 2 * MODEL_TARGETS);
        for (int b = 0; b < MODEL_TARGETS; b++) {
            bool listed = false;
            for (uint32_t i = 0; i < count; i++)
                listed = listed || list[i].other.bits == target[b].bits;
            ck_assert(ikv_overlaps_touches(o, target[a], target[b]) == listed);
        }
    }
}

static void play_at_random(uint64_t dice, bool plain, uint32_t crowd,
                           record *to)
{
    ikv_target target[MODEL_TARGETS] = {{0}};
    bool there[MODEL_TARGETS];
    float speed[MODEL_TARGETS][2];
    open_overlaps(plain, dice % 2 == 0);
    memset(there, 0, sizeof there);
    memset(speed, 0, sizeof speed);
    for (int turn = 0; turn < 120; turn++) {
        uint32_t changes = 1 + random_below(&dice, turn % 10 == 0 ? 40 : 4);
        for (uint32_t c = 0; c < changes; c++) {
            uint32_t i = random_below(&dice, MODEL_TARGETS);
            uint32_t what = random_below(&dice, 20);
            float x = (float)random_below(&dice, crowd);
            float y = (float)random_below(&dice, crowd);
            uint32_t other = random_below(&dice, MODEL_TARGETS);
            if (!there[i]) {
                static const float triangle[] = {0, 0, 9, 1, 3, 8};
                const ikv_shape kinds[] = {
                    ikv_scene_rect(0, 0, 12, 8),
                    ikv_scene_circle(0, 0, 6),
                    ikv_scene_capsule(0, 0, 10, 3, 3),
                    ikv_scene_polygon(triangle, 3),
                    ikv_scene_point(0, 0),
                    ikv_scene_rect(-150, -150, 300, 300)};
                ikv_target_config config = IKV_TARGET_INIT;
                ikv_sensing s = IKV_SENSING_INIT;
                config.id = i + 1;
                config.x = x;
                config.y = y;
                config.rotation =
                    ikv_scene_rotation((float)random_below(&dice, 4) * 30);
                config.shape =
                    kinds[random_below(&dice, random_below(&dice, 8) ? 5 : 6)];
                config.tags = random_below(&dice, 8);
                config.body = random_below(&dice, 3) == 0;
                if (there[other] && random_below(&dice, 3) == 0)
                    config.parent = target[other];
                else
                    config.layer = random_below(&dice, 6) == 0;
                s.senses = random_below(&dice, 8);
                s.scope = (uint8_t)(random_below(&dice, 3) == 0);
                s.linger = (uint16_t)(random_below(&dice, 4) == 0 ? 2 : 0);
                s.swept = random_below(&dice, 5) == 0;
                s.inside = (uint8_t)random_below(&dice, 2);
                ok(ikv_scene_add(k.scene, &config, &target[i], NULL));
                ok(ikv_overlaps_sense(o, target[i], &s));
                there[i] = true;
                speed[i][0] = (float)random_below(&dice, 9) - 4;
                speed[i][1] = (float)random_below(&dice, 9) - 4;
            } else if (what == 0) {
                ok(ikv_scene_remove(k.scene, target[i]));
                for (int n = 0; n < MODEL_TARGETS; n++)
                    there[n] = there[n] && ikv_scene_alive(k.scene, target[n]);
            } else if (what == 1) {
                ok(ikv_overlaps_enable(o, target[i], turn % 2 == 0));
            } else if (what == 2) {
                ok(ikv_scene_show(k.scene, target[i], turn % 3 > 0));
            } else if (what == 3 && there[other]) {
                ikv_scene_set_parent(k.scene, target[i], target[other]);
            } else if (what == 4) {
                ok(ikv_scene_set_tags(k.scene, target[i],
                                      random_below(&dice, 8)));
            } else if (what == 5 && there[other] && other != i) {
                ok(ikv_overlaps_report(o, target[i], target[other], NULL));
            } else if (what == 6) {
                ok(ikv_scene_turn(k.scene, target[i],
                                  ikv_scene_rotation(x * 7)));
            } else if (what == 7) {
                ok(ikv_overlaps_place(o, target[i]));
                ok(ikv_scene_move(k.scene, target[i], x, y));
            } else if (what < 12) {
                ok(ikv_scene_move(k.scene, target[i], x, y));
            } else if (what < 16) {
                ikv_sensing s = ikv_overlaps_sensing(o, target[i]);
                s.senses = what == 12 ? other % 8 : s.senses;
                s.linger = what == 13 ? (uint16_t)(other % 4) : s.linger;
                s.scope = what == 14 ? other % 2 : s.scope;
                s.swept = what == 15 ? other % 2 > 0 : s.swept;
                ok(ikv_overlaps_sense(o, target[i], &s));
            }
        }
        for (int i = 0; turn % 3 > 0 && i < MODEL_TARGETS; i++) {
            float at[2], view[2];
            if (there[i] && ikv_scene_position(k.scene, target[i], at, view))
                ok(ikv_scene_move(k.scene, target[i], at[0] + speed[i][0],
                                  at[1] + speed[i][1]));
        }
        if (turn % 5 == 0)
            check_touches(target); /* before its leaves are told */
        step();
        for (int i = 0; i < MODEL_TARGETS; i++)
            if (there[i])
                note(&seen, "%u", ikv_overlaps_contacts(o, target[i], 0));
        if (strlen(seen.text) > sizeof seen.text / 2) {
            uint64_t sum = 0; /* what is too long is kept as a sum */
            for (const char *c = seen.text; *c != '\0'; c++)
                sum = (sum ^ (uint8_t)*c) * UINT64_C(0x100000001b3);
            snprintf(seen.text, sizeof seen.text, "%llx ",
                     (unsigned long long)sum);
        }
    }
    *to = seen;
    close_overlaps();
}

static void expect_same(const record *found, const record *expected)
{
    size_t at = 0;
    while (found->text[at] != '\0' && found->text[at] == expected->text[at])
        at++;
    ck_assert_msg(found->text[at] == expected->text[at],
                  "at %zu \"%.40s\", expected \"%.40s\"", at, found->text + at,
                  expected->text + at);
}

/* O1 to O6: equal to all-with-all, order included, with and without room for the
 * list. */
START_TEST(model)
{
    static record by_list, by_scan, by_movers;
    uint32_t crowd = _i % 3 == 0 ? 60 : _i % 3 == 1 ? 300 : 3000;
    with_places = true;
    play_at_random((uint64_t)_i + 1, false, crowd, &by_list);
    play_at_random((uint64_t)_i + 1, true, crowd, &by_scan);
    pair_room = 2;
    play_at_random((uint64_t)_i + 1, false, crowd, &by_movers);
    pair_room = 0;
    with_places = false;
    expect_same(&by_list, &by_scan);
    expect_same(&by_movers, &by_scan);
}
END_TEST

/* Many, all moving or few, with little room for pairs, in other layouts: the
 * same as well. */
static const struct {
    uint32_t count, moving, pairs;
    float across, down;  /* where they lie */
    uint32_t large_each; /* each nth is, */
    float large;         /* by so much */
    uint32_t grows_each; /* in each nth turn one grows as large */
    bool scans;          /* there is no room for the list */
} many_table[] = {
    {400, 400, 0, 500, 500, 100, 300, 99, false},
    {400, 4, 0, 500, 500, 100, 300, 99, false},
    {400, 400, 900, 500, 500, 100, 300, 99, false},
    {400, 400, 20, 500, 500, 100, 300, 99, true},
    {400, 99, 20, 500, 500, 100, 300, 99, true}, /* those that move */
    {400, 3, 20, 500, 500, 100, 300, 99, true},
    {400, 100, 0, 500, 500, 100, 300, 99, false},
    {2400, 2400, 0, 3000, 3000, 100, 9, 99, false}, /* past the near caches */
    {2400, 20, 0, 3000, 3000, 100, 9, 99, false},
    {200, 3, 9000, 2000, 2000, 199, 1500, 3,
     false},                                        /* one grows now and then */
    {600, 5, 200000, 4000, 4000, 2, 700, 9, false}, /* too many are huge */
    {100, 6, 9000, 1, 1, 100, 9, 7, false},         /* all at one place */
    {400, 400, 0, 4000, 1, 100, 9, 99, false},      /* on a line */
    {100, 9, 9000, 1e9f, 1e9f, 9, 3e8f, 9, false},  /* far apart */
    {40, 40, 0, 60, 60, 7, 1e8f, 9, false},
};
enum {
    MANY = 2400
};

static void play_many(int nth, bool plain)
{
    static ikv_target target[MANY];
    uint32_t count = many_table[nth].count;
    uint64_t dice = 7;
    ikv_target none = {0};
    kit_prepare(&k);
    k.config.bus.targets = count + 50;
    k.config.overlaps.plain = plain;
    k.config.overlaps.pairs = many_table[nth].pairs;
    k.config.overlaps.contacts = count * 10 + many_table[nth].pairs;
    kit_open(&k);
    o = ikv_kit_overlaps(k.kit);
    seen.text[0] = '\0';
    steps = 0;
    hears(k.bus, IKV_KIND_OVERLAP_ENTER, none, note_overlap, NULL);
    hears(k.bus, IKV_KIND_OVERLAP_LEAVE, none, note_overlap, NULL);
    float large = many_table[nth].large;
    uint32_t across = (uint32_t)many_table[nth].across,
             down = (uint32_t)many_table[nth].down;
    for (uint32_t i = 0; i < count; i++) {
        ikv_sensing s = IKV_SENSING_INIT;
        ikv_target_config config = IKV_TARGET_INIT;
        config.id = 1 + i % 26;
        config.x = (float)random_below(&dice, across);
        config.y = (float)random_below(&dice, down);
        config.shape =
            i % many_table[nth].large_each == 7 % many_table[nth].large_each
                ? ikv_scene_rect(-large / 2, -large / 2, large, large)
                : ikv_scene_rect(0, 0, 10, 10);
        config.tags = s.senses = FERRY;
        ok(ikv_scene_add(k.scene, &config, &target[i], NULL));
        ok(ikv_overlaps_sense(o, target[i], &s));
    }
    for (uint32_t turn = 0; turn < (count > 400 ? 6 : 60); turn++) {
        for (uint32_t i = 0; i < many_table[nth].moving; i++) {
            float at[2], view[2];
            float dx = (float)(i % 5) - 2, dy = (float)(i % 7) - 3;
            ikv_scene_position(k.scene, target[i], at, view);
            if (random_below(&dice, 200) == 0)
                at[0] = (float)random_below(&dice, across);
            ok(ikv_scene_move(k.scene, target[i], at[0] + dx, at[1] + dy));
        }
        if (turn % many_table[nth].grows_each == 1) {
            ikv_shape grown = ikv_scene_rect(0, 0, large, large);
            ok(ikv_scene_set_shape(k.scene, target[random_below(&dice, count)],
                                   &grown));
        }
        kit_frame(&k, ++steps * 20);
        if (turn % 20 == 19)
            valid(ikv_overlaps_validate(o));
        if (strlen(seen.text) > sizeof seen.text / 2) {
            uint64_t sum = 0;
            for (const char *c = seen.text; *c != '\0'; c++)
                sum = (sum ^ (uint8_t)*c) * UINT64_C(0x100000001b3);
            snprintf(seen.text, sizeof seen.text, "%llx ",
                     (unsigned long long)sum);
        }
    }
}

START_TEST(many)
{
    static record first;
    bool scans = many_table[_i].scans;
    play_many(_i, false);
    ikv_overlaps_counts counters = overlaps_counts(o);
    first = seen;
    ck_assert(scans ? counters.scans > 0 : counters.rebuilds > 0);
    ck_assert(many_table[_i].pairs != 0 || counters.scans == 0);
    ck_assert_int_eq(k.reports, scans);
    ck_assert(strlen(first.text) > 20);
    kit_close(&k);
    play_many(_i, true);
    ck_assert_str_eq(seen.text, first.text);
    kit_close(&k);
}
END_TEST

static uint64_t told_last;
static uint32_t told_pairs;

static ikv_verdict note_order(const ikv_event *e, const ikv_delivery *d,
                              void *user)
{
    uint64_t key = (uint64_t)e->target.bits << 32 | e->source.bits;
    (void)user;
    if ((d->flags & IKV_MIRROR) != 0)
        return IKV_CONTINUE;
    ck_assert(told_pairs == 0 || key > told_last);
    told_last = key;
    told_pairs++;
    return IKV_CONTINUE;
}

/* O2: all that begins in a step is told in the order of the targets' places,
 * wherever they lie: few pairs, and many of which places take one byte or two. */
START_TEST(told_in_order)
{
    static const uint32_t pair_counts[] = {1, 9, 24, 25, 100, 250, 400, 1200};
    uint32_t pairs = pair_counts[_i];
    static ikv_target target[2400];
    uint64_t dice = 5;
    kit_prepare(&k);
    k.config.bus.targets = 2 * pairs + 1;
    k.config.overlaps.contacts = 4 * pairs;
    kit_open(&k);
    o = ikv_kit_overlaps(k.kit);
    told_pairs = 0;
    hears(k.bus, IKV_KIND_OVERLAP_ENTER, (ikv_target){0}, note_order, NULL);
    for (uint32_t i = 0; i < 2 * pairs; i++) {
        ikv_sensing s = IKV_SENSING_INIT;
        ikv_target_config config = IKV_TARGET_INIT;
        config.x = (float)(100 * i);
        config.shape = ikv_scene_rect(0, 0, 10, 10);
        config.tags = s.senses = FERRY;
        ok(ikv_scene_add(k.scene, &config, &target[i], NULL));
        ok(ikv_overlaps_sense(o, target[i], &s));
    }
    kit_frame(&k, 20);
    ck_assert_uint_eq(told_pairs, 0);
    /* The one goes to the other's place, anywhere. */
    for (uint32_t i = 0; i < pairs; i++) {
        float x = (float)random_below(&dice, 1000) * 100;
        float y = (float)(20 * i);
        ok(ikv_scene_move(k.scene, target[i], x, y));
        ok(ikv_scene_move(k.scene, target[2 * pairs - 1 - i], x, y));
    }
    kit_frame(&k, 40);
    ck_assert_uint_eq(told_pairs, pairs);
    kit_close(&k);
}
END_TEST

/* -------------------------------------------------------- inside handlers --
 */

static ikv_verdict remove_source(const ikv_event *e, const ikv_delivery *d,
                                 void *user)
{
    (void)d, (void)user;
    if (ikv_scene_alive(k.scene, e->source))
        ok(ikv_scene_remove(k.scene, e->source));
    status_is(ikv_overlaps_step(o, 0, 0), IKV_BUSY);
    status_is(ikv_overlaps_report(o, named[1], named[2], NULL), IKV_BUSY);
    return IKV_CONTINUE;
}

/* D5, O2: who is removed by a handler of an enter is not entered elsewhere. */
START_TEST(removed_by_handler)
{
    for (int plain = 0; plain < 2; plain++) {
        open_overlaps(plain, false);
        do_words("+a:F>L@0,0 +b:L>F@5,5 +c:L>F@5,5 +d:F@100,0");
        hears(k.bus, IKV_KIND_OVERLAP_ENTER, named[1], remove_source, NULL);
        do_words("| | d@0,0 | |");
        ck_assert_str_eq(seen.text, "a+b b+am | b-a! | b+d | b-d! | ");
        close_overlaps();
    }
}
END_TEST

static void move_and_step(const char *words, uint32_t count)
{
    do_words(words);
    for (uint32_t i = 0; i < count; i++) {
        ok(ikv_overlaps_step(o, ++steps, 0));
        valid(ikv_overlaps_validate(o));
        note(&seen, "| ");
    }
}

/* Contacts, candidates and all go into an image and back: the same again. What
 * is done before the image, and after it in three turns of so many steps. */
static const struct {
    const char *before, *after[3];
    uint32_t steps[3];
    const char *heard;
} rolled_rows[] = {
    {"+a:F>L@0,0~2 +b:L>F@5,5 +c:L>F@40,0! | |",
     {"a@20,0 c@22,3", "b@90,90", "a@0,0"},
     {2, 1, 3},
     "a-b"},
    {"+a:F@0,0 +b:L>F@5,5~4 | | a@50,0 |", /* lingers */
     {"a@0,0", "a@50,0", "a@0,0"},
     {2, 6, 1},
     "b-a"},
    {"+a:F@0,0s +b:L>F@50,0=rect,1,10; | |",
     {"a@100,0", "sweep:a0", "a@0,0"},
     {2, 1, 2},
     "b+a b-a"},
    {"+a:F@0,0 +b:L>F@5,5 | report:ab |", /* a report that ends */
     {"a@50,0", "a@0,0 report:ab", "a@50,0"},
     {2, 2, 2},
     "b-a"},
};

START_TEST(rolled_back)
{
    static record first;
    open_overlaps(false, true);
    do_words(rolled_rows[_i].before);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    uint64_t saved = steps;
    bool touched = ikv_overlaps_touches(o, named[1], named[0]);
    ok(ikv_image_save(&parts, image, size));
    for (int turn = 0; turn < 2; turn++) {
        steps = saved;
        seen.text[0] = '\0';
        for (int i = 0; i < 3; i++)
            move_and_step(rolled_rows[_i].after[i], rolled_rows[_i].steps[i]);
        if (turn > 0)
            break;
        first = seen;
        restore(&parts, image, size);
        valid(ikv_overlaps_validate(o));
        ck_assert(ikv_overlaps_touches(o, named[1], named[0]) == touched);
    }
    ck_assert_ptr_nonnull(strstr(first.text, rolled_rows[_i].heard));
    ck_assert_str_eq(seen.text, first.text);
    free(image);
    close_overlaps();
}
END_TEST

/* S3: what touches now, how many, who. */
START_TEST(queries)
{
    ikv_contact contact;
    open_overlaps(false, false);
    do_words("+a:F>LG@0,0~2 +b:L@-5,5 +c:L@5,5 +d:G@5,5 | |");
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[0], 0), 3);
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[0], LAMP), 2);
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[0], FERRY), 0);
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[1], 0), 0);
    ck_assert(ikv_overlaps_touches(o, named[0], named[2]));
    ck_assert(!ikv_overlaps_touches(o, named[2], named[0]));
    ck_assert(ikv_overlaps_contact(o, named[0], LAMP, 1, &contact));
    ck_assert_uint_eq(contact.other.bits, named[2].bits);
    ck_assert_uint_eq(contact.other_id, 3);
    ck_assert_uint_eq(contact.count, 1);
    ck_assert_uint_eq(contact.steps, 1);
    ck_assert_float_eq(contact.x, 7.5f);
    ck_assert_float_eq(contact.y, 7.5f);
    ck_assert(ikv_overlaps_contact(o, named[0], LAMP, 0, &contact));
    ck_assert_float_eq(contact.x, 2.5f); /* of what both cover */
    ck_assert_float_eq(contact.y, 7.5f);
    ck_assert(!ikv_overlaps_contact(o, named[0], LAMP, 2, &contact));
    ikv_contact all[3] = {{.other = {9}}, {.other = {9}}, {.other = {9}}};
    ck_assert_uint_eq(ikv_overlaps_list(o, named[0], 0, all, 2), 3);
    ck_assert_uint_eq(all[0].other.bits, named[1].bits); /* the first began */
    ck_assert_uint_eq(all[1].other.bits, named[2].bits);
    ck_assert_uint_eq(all[2].other.bits, 9); /* beyond the room */
    ck_assert_uint_eq(ikv_overlaps_list(o, named[0], LAMP, all, 3), 2);
    ck_assert_uint_eq(all[1].other.bits, named[2].bits);
    ck_assert_uint_eq(ikv_overlaps_list(o, named[0], 0, NULL, 3), 3);
    ck_assert_uint_eq(ikv_overlaps_list(o, named[1], 0, all, 3), 0);
    do_words("b@-50,0 |"); /* it lingers */
    ck_assert(ikv_overlaps_contact(o, named[0], 0, 0, &contact));
    ck_assert_uint_eq(contact.other.bits, named[1].bits);
    ck_assert_uint_eq(contact.count, 0);
    do_words("| |");
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[0], 0), 2);
    do_words("remove:a");
    ck_assert_uint_eq(ikv_overlaps_contacts(o, named[0], 0), 0);
    step();
    ck_assert_uint_eq(overlaps_counts(o).touching, 0);
    ck_assert_uint_eq(overlaps_counts(o).contacts, 0);
    close_overlaps();
}
END_TEST

static const float *expected_point;
static ikv_verdict check_point(const ikv_event *e, const ikv_delivery *d,
                               void *user)
{
    (void)d;
    ++*(int *)user;
    ck_assert_float_eq(e->overlap.x, expected_point[0]);
    ck_assert_float_eq(e->overlap.z, expected_point[2]);
    return IKV_CONTINUE;
}

/* O6: no scene at all; what the engine's callbacks do not say is everything. */
START_TEST(own_collision)
{
    static const float point[4] = {4, 5, 6, NAN}; /* three are looked at */
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_overlaps_config config = IKV_OVERLAPS_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_bus *bus;
    ikv_overlaps *own;
    ikv_target a, b, none = {0};
    int calls = 0;
    bus_config.memory = config.memory = ikv_host_memory();
    ok(ikv_bus_open(&bus_config, &bus));
    status_is(ikv_overlaps_open(&config, &own), IKV_BAD_CONFIG);
    config.bus = bus;
    config.targets = 10;
    status_is(ikv_overlaps_open(&config, &own), IKV_BAD_CONFIG);
    config.targets = 0;
    config.contacts = 1;
    ok(ikv_overlaps_open(&config, &own));
    ok(ikv_bus_add_target(bus, 1, &a));
    ok(ikv_bus_add_target(bus, 2, &b));
    sensing.senses = 1;
    ok(ikv_overlaps_sense(own, a, &sensing));
    expected_point = point;
    for (ikv_kind kind = IKV_KIND_OVERLAP_ENTER; kind <= IKV_KIND_OVERLAP_LEAVE;
         kind++)
        hears(bus, kind, a, check_point, &calls);
    ok(ikv_overlaps_report(own, b, a, point)); /* its three, and no more */
    ok(ikv_overlaps_step(own, 0, 0));
    ck_assert_int_eq(calls, 1);
    ok(ikv_overlaps_report(own, a, b, point));
    ok(ikv_overlaps_step(own, 1, 0));
    ck_assert_int_eq(calls, 2);
    ck_assert(ikv_overlaps_touches(own, a, b));
    ikv_target c;
    ok(ikv_bus_add_target(bus, 3, &c));
    status_is(ikv_overlaps_report(own, a, c, NULL), IKV_FULL_CONTACTS);
    ck_assert_uint_eq(overlaps_counts(own).refused, 1);
    status_is(ikv_overlaps_report(own, a, a, NULL), IKV_BAD_ARGUMENT);
    status_is(ikv_overlaps_report(own, a, none, NULL), IKV_STALE);
    ok(ikv_overlaps_step(own, 2, 0));
    ck_assert_int_eq(calls, 3);
    valid(ikv_overlaps_validate(own));
    sensing.scope = 7;
    status_is(ikv_overlaps_sense(own, a, &sensing), IKV_BAD_ARGUMENT);
    sensing.size = 0;
    status_is(ikv_overlaps_sense(own, a, &sensing), IKV_BAD_SIZE);
    ok(ikv_bus_remove_target(bus, a));
    status_is(ikv_overlaps_enable(own, a, true), IKV_STALE);
    status_is(ikv_overlaps_place(own, a), IKV_STALE);
    ck_assert_uint_eq(ikv_overlaps_sensing(own, a).size, 0);
    ikv_overlaps_close(own);
    ikv_bus_close(bus);
}
END_TEST

/* Those that go far leave behind what they were near: the list does not grow with
 * the way, nor is it made anew while at most a quarter moves, so that no step is
 * much longer than others. Of those that began to move at once not all are looked
 * up again at once. */
static const struct {
    uint32_t movers, fewest_strays, most_rebuilds, most_pairs, most_at_once;
} left_table[] = {
    {1, 300, 1, 60, 1}, {30, 6000, 1, 250, 12}, {75, 15000, 2, 500, 30}};

START_TEST(left_behind)
{
    enum {
        ACROSS = 20,
        POSTS = 300,
        STEPS = 3000
    };
    ikv_target none = {0}, post[POSTS];
    ikv_sensing s = IKV_SENSING_INIT;
    float x[POSTS], dx[POSTS];
    uint64_t strays = 0, at_once = 0;
    uint32_t every = POSTS / left_table[_i].movers;
    s.senses = FERRY;
    kit_prepare(&k);
    k.config.bus.targets = POSTS + 10;
    k.config.overlaps.pairs = 20 * POSTS;
    kit_open(&k);
    o = ikv_kit_overlaps(k.kit);
    for (uint32_t i = 0; i < POSTS; i++) {
        x[i] = (float)(i % ACROSS) * 20;
        dx[i] = 7;
        post[i] =
            rect_target(k.scene, none, x[i], (float)i / ACROSS * 20, 10, 10, 0);
        ok(ikv_scene_set_tags(k.scene, post[i], FERRY));
        ok(ikv_overlaps_sense(o, post[i], &s));
    }
    for (uint64_t step = 1; step <= STEPS; step++) {
        for (uint32_t i = 0; i < POSTS; i += every) {
            dx[i] = x[i] > 400 ? -7.0f : x[i] < 0 ? 7.0f : dx[i];
            x[i] += dx[i];
            ok(ikv_scene_move(k.scene, post[i], x[i],
                              (float)((step + i * 7) % 500)));
        }
        kit_frame(&k, step * 20);
        uint64_t now = overlaps_counts(o).strays;
        if (step > STEPS / 10 && now - strays > at_once)
            at_once = now - strays;
        strays = now;
        if (step % 100 == 0)
            valid(ikv_overlaps_validate(o));
    }
    ikv_overlaps_counts counts = overlaps_counts(o);
    ck_assert_uint_ge(counts.strays, left_table[_i].fewest_strays);
    ck_assert_uint_le(counts.rebuilds, left_table[_i].most_rebuilds);
    ck_assert_uint_le(counts.pairs_high, left_table[_i].most_pairs);
    ck_assert_uint_le(at_once, left_table[_i].most_at_once);
    kit_close(&k);
}
END_TEST

/* With too little room for the list, what rests is compared once; what moves a
 * little, with all; and when as many have moved as there are, room is looked for
 * again. */
START_TEST(pile_at_rest)
{
    enum {
        PILE = 120
    };
    ikv_target none = {0}, crate[PILE];
    ikv_sensing s = IKV_SENSING_INIT;
    s.senses = FERRY;
    kit_prepare(&k);
    k.config.overlaps.pairs = PILE;
    k.config.overlaps.contacts = PILE * PILE;
    kit_open(&k);
    o = ikv_kit_overlaps(k.kit);
    for (uint32_t i = 0; i < PILE; i++) {
        crate[i] = rect_target(k.scene, none, 0, 0, 10, 10, 0);
        ok(ikv_scene_set_tags(k.scene, crate[i], FERRY));
        ok(ikv_overlaps_sense(o, crate[i], &s));
    }
    for (uint64_t step = 1; step < 20; step++)
        kit_frame(&k, step * 20);
    ck_assert_uint_eq(overlaps_counts(o).scans, 1);
    ck_assert_uint_eq(overlaps_counts(o).rebuilds, 1);
    ck_assert_uint_eq(overlaps_counts(o).touching, PILE * (PILE - 1) / 2);
    for (uint32_t i = 0; i < PILE; i++) {
        ok(ikv_scene_move(k.scene, crate[i], (float)i * 20, 0));
        kit_frame(&k, (20 + i) * 20);
        ck_assert_uint_eq(ikv_overlaps_contacts(o, crate[i], 0),
                          i == 0 ? PILE - 1 : 0);
    }
    ck_assert_uint_eq(overlaps_counts(o).touching, 0);
    ck_assert_uint_eq(overlaps_counts(o).scans, 1);
    ck_assert_uint_eq(overlaps_counts(o).rebuilds, 2);
    valid(ikv_overlaps_validate(o));
    kit_close(&k);
}
END_TEST

/* Two bodies in contact are a record beside that of their pieces; what finds no
 * room for both is not half there. */
START_TEST(room_for_bodies)
{
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_overlaps_config config = IKV_OVERLAPS_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_bus *bus;
    ikv_overlaps *own;
    ikv_target a, b;
    uint32_t room = (uint32_t)_i + 1;
    bus_config.memory = config.memory = ikv_host_memory();
    ok(ikv_bus_open(&bus_config, &bus));
    config.bus = bus;
    config.contacts = room;
    ok(ikv_overlaps_open(&config, &own));
    ok(ikv_bus_add_target(bus, 1, &a));
    ok(ikv_bus_add_target(bus, 2, &b));
    sensing.senses = 1;
    ok(ikv_overlaps_sense(own, a, &sensing));
    sensing.scope = IKV_OVERLAP_OF_BODIES;
    ok(ikv_overlaps_sense(own, b, &sensing));
    for (uint64_t step = 0; step < 3; step++) {
        status_is(ikv_overlaps_report(own, a, b, NULL),
                  room < 2 ? IKV_FULL_CONTACTS : IKV_OK);
        valid(ikv_overlaps_validate(own));
        ok(ikv_overlaps_step(own, step, 0));
        valid(ikv_overlaps_validate(own));
        ikv_overlaps_counts counts = overlaps_counts(own);
        ck_assert_uint_eq(counts.touching, room >= 2);
        ck_assert_uint_eq(counts.contacts, room >= 2 ? 2 : 0);
        ck_assert_uint_eq(counts.contacts_capacity, room);
        ck_assert(ikv_overlaps_touches(own, a, b) == (room >= 2));
        ck_assert(ikv_overlaps_touches(own, b, a) == (room >= 2));
    }
    /* Not said again: both have left, and their room is free. */
    ok(ikv_overlaps_step(own, 3, 0));
    ck_assert_uint_eq(overlaps_counts(own).contacts, 0);
    valid(ikv_overlaps_validate(own));
    ikv_overlaps_close(own);
    ikv_bus_close(bus);
}
END_TEST

/* What was set is told as it was set. */
START_TEST(sensing_kept)
{
    open_overlaps(false, false);
    ikv_target none = {0}, t = rect_target(k.scene, none, 0, 0, 9, 9, 0);
    ikv_sensing s = IKV_SENSING_INIT;
    s.senses = FERRY | LAMP;
    s.scope = IKV_OVERLAP_OF_BODIES;
    s.inside = IKV_INSIDE_MOVING;
    s.linger = 7;
    s.swept = true;
    s.disabled = true;
    ok(ikv_overlaps_sense(o, t, &s));
    ikv_sensing kept = ikv_overlaps_sensing(o, t);
    ck_assert(kept.senses == s.senses && kept.scope == s.scope);
    ck_assert(kept.inside == s.inside && kept.linger == s.linger);
    ck_assert(kept.swept && kept.disabled);
    close_overlaps();
}
END_TEST

/* What a scene has already when overlaps are opened on it counts. */
START_TEST(opened_late)
{
    bench_kit late;
    ikv_target target[2];
    kit_prepare(&late);
    late.config.no_overlaps = true;
    kit_open(&late);
    for (int i = 0; i < 2; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.shape = ikv_scene_circle((float)i, 0, 5);
        config.tags = FERRY;
        ok(ikv_scene_add(late.scene, &config, &target[i], NULL));
    }
    ikv_overlaps_config config = IKV_OVERLAPS_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_overlaps *own;
    config.bus = late.bus;
    config.scene = late.scene;
    config.memory = ikv_host_memory();
    ok(ikv_overlaps_open(&config, &own));
    sensing.senses = FERRY;
    ok(ikv_overlaps_sense(own, target[0], &sensing));
    ok(ikv_overlaps_step(own, 0, 0));
    ck_assert(ikv_overlaps_touches(own, target[0], target[1]));
    ikv_overlaps_close(own);
    kit_close(&late);
}
END_TEST

Suite *overlap_suite(void)
{
    Suite *s = suite_create("overlap");
    add_table(s, "O1 to O6", row, case_count(CASES));
    add_table(s, "O1 exact", shape_pair, ROWS(shapes));
    add_table(s, "O1 raster", raster, 2);
    add_table(s, "O1 to O6 model", model, 18);
    add_table(s, "O1 many", many, ROWS(many_table));
    add_table(s, "O2 told in order", told_in_order, 8);
    add(s, "D5 O2 handlers", removed_by_handler);
    add(s, "S3", queries);
    add_table(s, "O1 rollback", rolled_back, ROWS(rolled_rows));
    add(s, "O6 own collision", own_collision);
    add_table(s, "O1 left behind", left_behind, ROWS(left_table));
    add(s, "O1 a pile at rest", pile_at_rest);
    add_table(s, "O2 room for bodies", room_for_bodies, 3);
    add(s, "O1 what was set", sensing_kept);
    add(s, "O1 opened late", opened_late);
    return s;
}
