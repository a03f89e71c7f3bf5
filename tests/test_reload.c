/* test_reload.c - an edited setup in a kit that runs: cases of what is kept and
 * what is done in golden/reload.txt; made-up pairs of setups, of which the second
 * is taken in, or applied to a kit of its own: both must come to the same. */
#include "support.h"

#define SETUP "reload.setup.json"
#define TOOL  BINARY "/ikvar"

typedef struct world {
    bench_kit k;
    ikv_setup *setup;
    ikv_message message;
    record heard;
} world;

static world w;

/* ---------------------------------------------------------- description -- */

static const char *id_of(ikv_target target)
{
    return ikv_setup_target_name(w.setup, target);
}

static void describe_target(record *r, ikv_target t)
{
    const ikv_scene *scene = w.k.scene;
    ikv_shape shape = ikv_scene_shape(scene, t);
    ikv_rotation turned = ikv_scene_turned(scene, t);
    float local[2] = {0, 0}, view[2];
    ikv_scene_position(scene, t, local, view);
    note(r, "%s in %s %g,%g", id_of(t), id_of(ikv_scene_parent(scene, t)),
         (double)local[0], (double)local[1]);
    note(r, " l%u z%d %.2f/%.2f x%g s%u:%g,%g g%g h%u t%x c%d v%d b%s",
         ikv_scene_layer(scene, t), ikv_scene_z(scene, t), (double)turned.cos,
         (double)turned.sin, (double)ikv_scene_scale(scene, t), shape.type,
         (double)shape.x, (double)shape.width,
         (double)ikv_scene_grace(scene, t), ikv_scene_hit(scene, t),
         ikv_scene_tags(scene, t), ikv_scene_clip(scene, t),
         ikv_scene_shown(scene, t), id_of(ikv_scene_body(scene, t)));
    note(r, " T%x\n", ikv_scene_traits(scene, t));
}

/* All in stacking order; then who comes after whom by Tab. */
static void describe_scene(record *r)
{
    ikv_target t = {0};
    while ((t = ikv_scene_next(w.k.scene, (ikv_target){0}, t)).bits != 0)
        describe_target(r, t);
    t = (ikv_target){0};
    ikv_target first = ikv_scene_tab_next(w.k.scene, t, false);
    for (t = first; t.bits != 0;) {
        note(r, "tab %s\n", id_of(t));
        t = ikv_scene_tab_next(w.k.scene, t, false);
        if (t.bits == first.bits)
            break;
    }
}

static void describe_handlers(record *r)
{
    const char *name;
    for (uint32_t i = 0;
         (name = ikv_setup_name(w.setup, IKV_SETUP_HANDLERS, i)) != NULL; i++) {
        ikv_subscription s = ikv_setup_subscription(w.setup, name);
        ikv_target at[8];
        ikv_kind kinds[8];
        uint32_t places = ikv_bus_subscription_targets(w.k.bus, s, at, 8);
        uint32_t count = ikv_bus_subscription_kinds(w.k.bus, s, kinds, 8);
        note(r, "%s %s rank %d kinds", name,
             ikv_bus_subscription_name(w.k.bus, s),
             ikv_bus_subscription_rank(w.k.bus, s));
        for (uint32_t n = 0; n < count; n++)
            note(r, " %u", kinds[n]);
        for (uint32_t n = 0; n < places; n++)
            note(r, " at %s", id_of(at[n]));
        note(r, "\n");
    }
}

static void describe_actions(record *r)
{
    const ikv_actions *actions = ikv_kit_actions(w.k.kit);
    const char *name;
    for (uint32_t i = 0;
         (name = ikv_setup_name(w.setup, IKV_SETUP_ACTIONS, i)) != NULL; i++) {
        ikv_action_id id = ikv_actions_find(actions, name);
        ikv_action_set set = ikv_actions_set_of(actions, id);
        note(r, "%s in '%s' %d:", name, ikv_actions_set_name(actions, set),
             ikv_actions_is_on(actions, set, 0));
        ikv_binding b;
        for (uint32_t n = 0;
             (b = ikv_actions_binding(actions, id, n)).bits != 0; n++) {
            char text[IKV_BINDING_BYTES];
            ikv_scope scope = ikv_binding_scope(actions, b);
            ikv_binding_text(actions, b, text, sizeof text);
            note(r, " %s@%u/%s/%u", text, scope.where,
                 scope.target.bits != 0 ? id_of(scope.target) : "-",
                 scope.layer);
        }
        note(r, "\n");
    }
    ikv_actions_counts counts = actions_counts(actions);
    note(r, "%u actions, %u bindings\n", counts.actions, counts.bindings);
}

/* What is said of it all, by names alone. */
static void describe(record *r)
{
    r->text[0] = '\0';
    describe_scene(r);
    describe_handlers(r);
    describe_actions(r);
    ikv_bus_counts counts = bus_counts(w.k.bus);
    note(r, "%u subscriptions, %u targets\n", counts.subscriptions,
         counts.targets);
}

/* --------------------------------------------------------------- worlds -- */

static void hear_note(const char *text, void *user)
{
    (void)user;
    note(&w.heard, " %s", text);
}

static void write_setup(const char *members)
{
    char text[16384];
    snprintf(text, sizeof text, "{\"format\":\"ikvar.setup/1\"%s%s}",
             members[0] != '\0' ? "," : "", members);
    write_file(SETUP, text);
}

static void open_world(const char *members, uint32_t targets)
{
    memset(&w, 0, sizeof w);
    write_setup(members);
    ck_assert_msg(ikv_setup_read(SETUP, &w.setup, &w.message) == IKV_OK,
                  "%s\n%s", w.message.text, members);
    kit_prepare(&w.k);
    w.k.config.router = (ikv_router_config)IKV_ROUTER_INIT;
    w.k.config.bus.targets = targets;
    if (targets == 0)
        ok(ikv_setup_size(w.setup, &w.k.config));
    w.k.config.catalogue = ikv_setup_catalogue(w.setup);
    kit_open(&w.k);
    ck_assert_msg(ikv_setup_apply(w.setup, w.k.kit, IKV_APPLY_UNBOUND,
                                  &w.message) == IKV_OK,
                  "%s\n%s", w.message.text, members);
    ikv_setup_set_note(w.setup, hear_note, NULL);
}

static ikv_status reload(const char *members)
{
    write_setup(members);
    return ikv_setup_reload(w.setup, w.k.kit, NULL, IKV_APPLY_UNBOUND,
                            &w.message);
}

static void close_world(void)
{
    ikv_parts parts = parts_of(&w.k);
    valid_parts(&parts);
    kit_close(&w.k);
    ikv_setup_close(w.setup);
}

/* ---------------------------------------------------------------- cases -- */

static uint64_t now_ms;

static void push(ikv_kind kind, float x, uint32_t code)
{
    ikv_event e = ikv_event_make(kind, now_ms * 1000000);
    e.device = w.k.fake.device;
    if (code != 0)
        e.key.code = code;
    else
        e.pointer =
            (ikv_pointer_data){.x = x, .y = 5, .pointer = 1, .type = IKV_MOUSE};
    if (kind == IKV_KIND_POINTER_DOWN)
        e.pointer.buttons = 1;
    ok(ikv_sink_push(w.k.fake.sink, &e));
    kit_frame(&w.k, now_ms += 20);
}

/* What is done between the files: "down5", "at5" and "up5" by the mouse, "+KeyW",
 * "-KeyW"; by the game "move.ID.X", "remove.ID", "put.ID.PARENT", "raise.ID",
 * "mute.HANDLER"; "step". */
static void do_word(const char *word)
{
    char name[32] = "", more[32] = "";
    float x = 0;
    ikv_target t;
    sscanf(word, "%*[^.].%31[^.].%31s", name, more);
    t = ikv_setup_target(w.setup, name);
    if (sscanf(word, "down%f", &x) == 1) {
        push(IKV_KIND_POINTER_MOVE, x, 0);
        push(IKV_KIND_POINTER_DOWN, x, 0);
    } else if (sscanf(word, "at%f", &x) == 1) {
        push(IKV_KIND_POINTER_MOVE, x, 0);
    } else if (sscanf(word, "up%f", &x) == 1) {
        push(IKV_KIND_POINTER_UP, x, 0);
    } else if (*word == '+' || *word == '-') {
        push(*word == '+' ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP, 0,
             ikv_code_find(word + 1));
    } else if (strncmp(word, "move", 4) == 0) {
        ok(ikv_scene_move(w.k.scene, t, (float)atof(more), 0));
    } else if (strncmp(word, "remove", 6) == 0) {
        ok(ikv_scene_remove(w.k.scene, t));
    } else if (strncmp(word, "put", 3) == 0) {
        ok(ikv_scene_set_parent(w.k.scene, t, ikv_setup_target(w.setup, more)));
    } else if (strncmp(word, "raise", 5) == 0) {
        ok(ikv_scene_raise(w.k.scene, t));
    } else if (strncmp(word, "mute", 4) == 0) {
        ok(ikv_bus_mute(w.k.bus, ikv_setup_subscription(w.setup, name), true));
    } else {
        ck_assert_str_eq(word, "step");
        kit_frame(&w.k, now_ms += 20);
    }
}

/* A case's file, with ' for ". */
static const char *members_of(int nth, const char *key)
{
    static char text[2][4096];
    static int next;
    char *to = text[next++ % 2];
    snprintf(to, sizeof text[0], "%s", case_text("reload.txt", nth, key));
    for (char *at = to; *at != '\0'; at++)
        *at = *at == '\'' ? '"' : *at;
    return to;
}

/* A line a target: where it is, and what its fields are. */
static void show_scene(record *r)
{
    ikv_target t = {0};
    while ((t = ikv_scene_next(w.k.scene, (ikv_target){0}, t)).bits != 0) {
        float local[2], view[2];
        ikv_scene_position(w.k.scene, t, local, view);
        note(r, "%s%s/%s:%g", r->text[0] != '\0' ? " " : "",
             id_of(ikv_scene_parent(w.k.scene, t)), id_of(t), (double)local[0]);
    }
}

START_TEST(what_is_kept)
{
    record scene = {.text = ""};
    now_ms = 100;
    open_world(members_of(_i, "from"), 0);
    kit_frame(&w.k, now_ms);
    for_words(case_text("reload.txt", _i, "do"), do_word);
    w.heard.text[0] = '\0';
    ikv_status status = reload(members_of(_i, "to"));
    char *says = w.message.text;
    if (status < 0 && strstr(says, SETUP ": ") == says)
        says += strlen(SETUP ": ");
    expect_case("reload.txt", _i, "says", says);
    note(&w.heard, " |");
    for_words(case_text("reload.txt", _i, "then"), do_word);
    expect_case("reload.txt", _i, "hear", w.heard.text + 1);
    show_scene(&scene);
    expect_case("reload.txt", _i, "scene", scene.text);
    close_world();
}
END_TEST

/* ------------------------------------------------------ made-up setups -- */

enum {
    IDS = 9,
    HANDLERS = 6,
    ACTIONS = 4
};

static uint64_t seed;

static bool chance(uint32_t of_ten)
{
    return random_below(&seed, 10) < of_ten;
}

static void one_of(record *r, const char *const *list, uint32_t count)
{
    note(r, "%s", list[random_below(&seed, count)]);
}

static void make_target(record *r, int id, const int *parents)
{
    static const char *const members[] = {
        ",\"position\":[3,4]",
        ",\"position\":[-5.5,1]",
        ",\"position\":[0,0]", /* as if it said nothing */
        ",\"z\":0",
        ",\"hidden\":false",
        ",\"tab\":0",
        ",\"rotation\":30",
        ",\"scale\":2",
        ",\"z\":3",
        ",\"z\":-1",
        ",\"hit\":\"pass\"",
        ",\"hit\":\"off\"",
        ",\"grace\":4",
        ",\"clip\":true",
        ",\"hidden\":true",
        ",\"tab\":3",
        ",\"focusable\":true",
        ",\"takes_text\":true",
        ",\"captures\":true",
        ",\"tags\":[\"t1\"]",
        ",\"tab\":-1",
        ",\"stays_live\":true",
    };
    static const char *const shapes[] = {
        ",\"shape\":{\"rect\":[0,0,20,20]}", ",\"shape\":{\"circle\":[0,0,9]}",
        ",\"shape\":{\"polygon\":[[0,0],[9,0],[0,9]]}",
        ",\"shape\":{\"polygon\":[[0,0],[9,0],[9,9],[0,9]]}", ""};
    note(r, "{\"id\":\"%c\"", 'a' + id);
    if (parents[id] >= 0)
        note(r, ",\"parent\":\"%c\"", 'a' + parents[id]);
    if (id == 3)
        note(r, ",\"body\":true");
    if (parents[id] < 0 && chance(5))
        note(r, ",\"layer\":\"%s\"", chance(5) ? "high" : "low");
    one_of(r, shapes, 5);
    for (size_t i = 0; i < sizeof members / sizeof members[0]; i++) {
        /* no member twice */
        char name[16];
        sscanf(members[i], ",\"%15[^\"]", name);
        const char *own = strstr(r->text, "\"id\":"), *next;
        while ((next = strstr(own + 1, "\"id\":")) != NULL)
            own = next;
        if (chance(2) && strstr(own, name) == NULL)
            note(r, "%s", members[i]);
    }
    note(r, "}");
}

/* The first target bears all tags, so that they have the same bits; a parent is
 * of those before in an order of its own. */
static void make_targets(record *r, bool *has)
{
    int order[IDS], parents[IDS], shown[IDS];
    for (int i = 0; i < IDS; i++) {
        order[i] = i;
        parents[i] = -1;
        has[i] = chance(7);
    }
    for (int i = IDS - 1; i > 0; i--) {
        int other = (int)random_below(&seed, (uint32_t)i + 1);
        int kept = order[i];
        order[i] = order[other];
        order[other] = kept;
    }
    for (int i = 1; i < IDS; i++) {
        int up = order[random_below(&seed, (uint32_t)i)];
        if (chance(6) && has[up])
            parents[order[i]] = up;
    }
    memcpy(shown, order, sizeof shown);
    bool sorted = chance(5);
    note(r,
         "\"layers\":[{\"name\":\"low\"},{\"name\":\"high\"%s}],"
         "\"targets\":[{\"id\":\"base\",\"tags\":[\"t0\",\"t1\"]}",
         chance(5) ? ",\"camera\":{\"zoom\":2}" : "");
    for (int i = 0; i < IDS; i++)
        if (has[sorted ? i : shown[i]]) {
            note(r, ",");
            make_target(r, sorted ? i : shown[i], parents);
        }
    note(r, "]");
}

static void make_handlers(record *r, const bool *has)
{
    static const char *const kinds[] = {
        "\"pointer.down\"", "\"pointer.up\",\"key.down\"", "\"loop.step\""};
    static const char *const rest[] = {"",
                                       ",\"rank\":3",
                                       ",\"owner\":\"crew\"",
                                       ",\"muted\":true",
                                       ",\"group\":\"g\"",
                                       ",\"limit\":2",
                                       ",\"phases\":[\"bubbling\"]",
                                       ",\"at_tags\":[\"t1\"]",
                                       ",\"reactions\":[\"stop\"]"};
    note(r, ",\"groups\":[{\"name\":\"g\",\"muted\":%s}],\"handlers\":[",
         chance(5) ? "true" : "false");
    bool first = true;
    for (int i = 0; i < HANDLERS; i++) {
        if (!chance(7))
            continue;
        note(r, "%s{\"name\":\"h%d\",\"kinds\":[", first ? "" : ",", i);
        one_of(r, kinds, 3);
        note(r, "]");
        uint32_t more = random_below(&seed, ROWS(rest));
        note(r, "%s", rest[more]);
        int at = (int)random_below(&seed, IDS);
        if (more != 7 && has[at])
            note(r, ",\"at\":[\"base\",\"%c\"]", 'a' + at);
        note(r, "}");
        first = false;
    }
    note(r, "]");
}

static void make_actions(record *r, const bool *has)
{
    static const char *const bindings[] = {
        "\"KeyA\"", "\"KeyB\",\"KeyC\"", "\"pointer.primary\"",
        "{\"press\":\"KeyD\",\"layer\":\"high\"}",
        "{\"press\":\"KeyE\",\"tagged\":[\"t1\"]}"};
    note(r, ",\"sets\":[{\"name\":\"s\",\"on\":%s}],\"actions\":[",
         chance(5) ? "true" : "false");
    bool first = true;
    for (int i = 0; i < ACTIONS; i++) {
        if (!chance(7))
            continue;
        note(r, "%s{\"name\":\"act%d\"%s,\"bindings\":[", first ? "" : ",", i,
             chance(3) ? ",\"set\":\"s\"" : "");
        int at = (int)random_below(&seed, IDS);
        if (has[at] && chance(3))
            note(r, "{\"press\":\"KeyW\",\"within\":\"%c\"}", 'a' + at);
        else
            one_of(r, bindings, 5);
        note(r, "]}");
        first = false;
    }
    note(r, "]");
}

static void make_setup(record *r)
{
    bool has[IDS];
    r->text[0] = '\0';
    make_targets(r, has);
    make_handlers(r, has);
    make_actions(r, has);
}

static const char *first_difference(const char *a, const char *b)
{
    while (*a != '\0' && *a == *b)
        a++, b++;
    return a;
}

START_TEST(as_if_opened_with_it)
{
    static record files[4], reloaded, fresh;
    seed = (uint64_t)_i * 7919 + 17;
    for (int i = 0; i < 4; i++)
        make_setup(&files[i]);
    open_world(files[0].text, 0);
    for (int i = 1; i < 4; i++) {
        ck_assert_msg(reload(files[i].text) == IKV_OK, "%d: %s", _i,
                      w.message.text);
        ikv_parts parts = parts_of(&w.k);
        valid_parts(&parts);
    }
    describe(&reloaded);
    /* and once more says so */
    ok(reload(files[3].text));
    ck_assert_str_eq(w.message.text, "nothing has changed");
    close_world();
    open_world(files[3].text, 0);
    describe(&fresh);
    close_world();
    if (strcmp(reloaded.text, fresh.text) != 0)
        printf("%s\n%s\n", files[2].text, files[3].text);
    ck_assert_msg(
        strcmp(reloaded.text, fresh.text) == 0,
        "%d: reloaded, from where they differ: %.200s\nfresh: %.2000s", _i,
        first_difference(reloaded.text, fresh.text), fresh.text);
}
END_TEST

/* Whatever the game does in between: what the file has is there or was removed by
 * the game, and what it has not is gone. */
static void play_with(void)
{
    ikv_target list[IDS + 1];
    uint32_t count = 0;
    ikv_target t = {0};
    while ((t = ikv_scene_next(w.k.scene, (ikv_target){0}, t)).bits != 0)
        list[count++] = t;
    for (int i = 0; count > 0 && i < 4; i++) {
        t = list[random_below(&seed, count)];
        ikv_target other = list[random_below(&seed, count)];
        uint32_t does = random_below(&seed, 6);
        if (does == 0)
            ikv_scene_remove(w.k.scene, t);
        else if (does < 3)
            ikv_scene_set_parent(w.k.scene, t, other);
        else if (does == 3)
            ikv_scene_set_layer(w.k.scene, t, random_below(&seed, 2));
        else if (does == 4)
            ikv_scene_raise(w.k.scene, t);
        else
            ikv_scene_move(w.k.scene, t, 77, 77);
        push(does < 3 ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_UP, 5, 0);
    }
}

START_TEST(whatever_the_game_does)
{
    static record file;
    now_ms = 100;
    seed = (uint64_t)_i * 104729 + 5;
    make_setup(&file);
    open_world(file.text, 0);
    kit_frame(&w.k, now_ms);
    for (int i = 0; i < 12; i++) {
        play_with();
        make_setup(&file);
        ck_assert_msg(reload(file.text) == IKV_OK, "%d: %s", _i,
                      w.message.text);
        ikv_parts parts = parts_of(&w.k);
        valid_parts(&parts);
        ikv_target t = {0};
        while ((t = ikv_scene_next(w.k.scene, (ikv_target){0}, t)).bits != 0)
            ck_assert_msg(ikv_setup_target(w.setup, id_of(t)).bits == t.bits,
                          "%d: %s is there", _i, id_of(t));
    }
    close_world();
}
END_TEST

/* ------------------------------------------------------- all or nothing -- */

/* More and more targets and handlers, until something is full: whatever was done
 * by then is undone. */
START_TEST(all_or_nothing)
{
    static record before, after, file;
    static const char base[] =
        "\"targets\":[{\"id\":\"a\",\"position\":[1,1]},{\"id\":\"gone\"}],"
        "\"handlers\":[{\"name\":\"h\",\"kinds\":[\"loop.step\"],"
        "\"at\":\"gone\",\"reactions\":[]}],"
        "\"actions\":[{\"name\":\"act\",\"bindings\":[\"KeyA\"]}]";
    open_world(base, 24);
    kit_frame(&w.k, 100);
    describe(&before);
    uint32_t refused = 0;
    for (int count = 1; count < 40; count++) {
        file.text[0] = '\0';
        note(&file, "\"actions\":[{\"name\":\"act\",\"bindings\":[\"KeyB\"]}],"
                    "\"targets\":[{\"id\":\"a\",\"position\":[9,9]}");
        for (int i = 0; i < count; i++)
            note(&file, ",{\"id\":\"n%d\"}", i);
        note(&file, "]");
        ikv_status status = reload(file.text);
        if (status == IKV_OK) {
            ok(reload(base));
        } else {
            status_is(status, IKV_FULL_TARGETS);
            ck_assert_ptr_nonnull(strstr(w.message.text, "/targets/"));
            refused++;
        }
        ikv_parts parts = parts_of(&w.k);
        valid_parts(&parts);
        describe(&after);
        ck_assert_msg(strcmp(before.text, after.text) == 0,
                      "%d targets: before:\n%s\nafter:\n%s", count, before.text,
                      after.text);
    }
    ck_assert_uint_gt(refused, 10);
    kit_frame(&w.k, 200);
    close_world();
}
END_TEST

static ikv_verdict reload_inside(const ikv_event *event,
                                 const ikv_delivery *delivery, void *user)
{
    ikv_status *status = user;
    (void)event, (void)delivery;
    *status = reload("");
    return IKV_CONTINUE;
}

START_TEST(not_there)
{
    ikv_status status = IKV_OK;
    ikv_setup *other;
    open_world("\"targets\":[{\"id\":\"a\"}]", 0);
    ok(ikv_setup_read(SETUP, &other, NULL));
    status_is(ikv_setup_reload(other, w.k.kit, NULL, 0, NULL),
              IKV_BAD_ARGUMENT);
    status_is(ikv_setup_reload(w.setup, NULL, NULL, 0, NULL), IKV_BAD_ARGUMENT);
    status_is(ikv_setup_reload(NULL, w.k.kit, NULL, 0, NULL), IKV_BAD_ARGUMENT);
    ikv_setup_close(other);
    status_is(ikv_setup_reload(w.setup, w.k.kit, "nowhere.json", 0, &w.message),
              IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(w.message.text, "nowhere.json"));
    hears(w.k.bus, IKV_KIND_LOOP_STEP, (ikv_target){0}, reload_inside, &status);
    kit_frame(&w.k, 100);
    kit_frame(&w.k, 200);
    status_is(status, IKV_BUSY);
    ck_assert_str_eq(id_of(ikv_setup_target(w.setup, "a")), "a");
    close_world();
}
END_TEST

/* One's own handlers stay bound, and can be bound to newly loaded code. */
static ikv_verdict other_handler(const ikv_event *event,
                                 const ikv_delivery *delivery, void *user)
{
    (void)event, (void)delivery;
    *(int *)user += 100;
    return IKV_CONTINUE;
}

START_TEST(what_is_bound)
{
    int calls = 0;
    static const char one[] =
        "\"handlers\":[{\"name\":\"own\",\"kinds\":[\"loop.step\"]}]";
    static const char two[] =
        "\"handlers\":[{\"name\":\"own\",\"kinds\":[\"loop.step\"],"
        "\"rank\":2},{\"name\":\"new\",\"kinds\":[\"loop.step\"]}]";
    open_world(one, 0);
    ok(ikv_setup_bind(w.setup, "own", count_heard, &calls));
    kit_frame_ns(&w.k, 0);
    kit_frame_ns(&w.k, 16666667);
    ck_assert_int_eq(calls, 1);
    write_setup(two);
    status_is(ikv_setup_reload(w.setup, w.k.kit, NULL, 0, &w.message),
              IKV_UNKNOWN_NAME);
    ck_assert_ptr_nonnull(strstr(w.message.text, "\"new\""));
    ok(reload(two));
    kit_frame_ns(&w.k, 2 * 16666667);
    ck_assert_int_eq(calls, 2);
    ok(ikv_setup_bind(w.setup, "new", other_handler, &calls));
    kit_frame_ns(&w.k, 3 * 16666667);
    ck_assert_int_eq(calls, 103);
    ok(ikv_setup_bind(w.setup, "own", other_handler, &calls));
    ok(reload(one));
    kit_frame_ns(&w.k, 4 * 16666667);
    ck_assert_int_eq(calls, 203);
    close_world();
}
END_TEST

/* Handlers from `first` on, each with an owner of its own, but for the last two. */
static const char *owned(uint32_t first, uint32_t count)
{
    static char text[12000];
    size_t used = (size_t)snprintf(text, sizeof text, "\"handlers\":[");
    for (uint32_t i = first; i <= first + count; i++)
        used += (size_t)snprintf(
            text + used, sizeof text - used,
            "%s{\"name\":\"h%u\",\"kinds\":[\"loop.step\"],\"owner\":"
            "\"o%u\"}",
            i > first ? "," : "", i, i < first + count ? i : i - 1);
    snprintf(text + used, sizeof text - used, "]");
    return text;
}

static uint32_t alive(uint32_t first, uint32_t count)
{
    uint32_t found = 0;
    char name[16];
    for (uint32_t i = first; i < first + count; i++) {
        snprintf(name, sizeof name, "h%u", i);
        found +=
            ikv_bus_subscribed(w.k.bus, ikv_setup_subscription(w.setup, name));
    }
    return found;
}

/* D8: owners have names in a setup, and no handler goes without its own. What can't
 * be taken in takes no run back, and ends no tape (T1). */
START_TEST(owners)
{
    ikv_recording *recording;
    ikv_recording_config where = IKV_RECORDING_INIT;
    open_world(owned(0, 64), 0);
    where.path = "owned.tape.jsonl";
    where.kit = w.k.kit;
    ok(ikv_recording_open(&where, &recording, NULL));
    ck_assert_uint_eq(ikv_setup_owner(w.setup, "o64").bits, 0);
    ikv_owner last = ikv_setup_owner(w.setup, "o63");
    ok(ikv_bus_drop_owner(w.k.bus, last));
    ck_assert_uint_eq(alive(0, 65), 63);
    kit_frame(&w.k, 0);
    kit_frame(&w.k, 40);
    /* those of before are still there: the kit has room for 64 */
    status_is(reload(owned(100, 64)), IKV_FULL_OWNERS);
    ck_assert_ptr_nonnull(strstr(w.message.text, "\"h101\""));
    ck_assert_uint_eq(alive(0, 65), 63);
    status_is(reload(owned(0, 65)), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(
        w.message.text, "/handlers/64/owner: more than 64 different owners"));
    ok(reload("\"handlers\":[{\"name\":\"late\",\"kinds\":[\"loop.step\"],"
              "\"owner\":\"o63\"}]"));
    ck_assert(
        ikv_bus_subscribed(w.k.bus, ikv_setup_subscription(w.setup, "late")));
    ck_assert_uint_ne(ikv_setup_owner(w.setup, "o63").bits, last.bits);
    ck_assert_uint_eq(ikv_setup_owner(w.setup, "o0").bits, 0);
    ok(ikv_recording_close(recording, NULL));
    remove(where.path);
    close_world();
}
END_TEST

/* An image of before it was taken in brings back what it had. */
START_TEST(an_image_of_before)
{
    static record before, after;
    open_world("\"targets\":[{\"id\":\"a\"},{\"id\":\"b\"}],\"handlers\":["
               "{\"name\":\"h\",\"kinds\":[\"loop.step\"],\"reactions\":["
               "{\"log\":\"old\"}]}]",
               0);
    kit_frame(&w.k, 100);
    ikv_parts parts = parts_of(&w.k);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    describe_scene(&before);
    ok(ikv_image_save(&parts, image, size));
    ok(reload("\"targets\":[{\"id\":\"a\",\"position\":[5,5]}]"));
    restore(&parts, image, size);
    kit_frame(&w.k, 120);
    ck_assert_ptr_nonnull(strstr(w.heard.text, "old"));
    ok(reload("\"targets\":[{\"id\":\"a\"},{\"id\":\"b\"}]"));
    describe_scene(&after);
    ck_assert_ptr_nonnull(strstr(after.text, "a in root 0,0"));
    free(image);
    close_world();
}
END_TEST

/* -------------------------------------------------------------- command -- */

START_TEST(while_it_runs)
{
    static char output[1 << 16];
    static const struct {
        const char *edit, *says;
    } edits[] = {
        {"sed -i 's/\"one\"/\"two\"/' live.setup.json",
         "reloaded: handlers: 1 changed"},
        {"echo '{' > live.setup.json", "live.setup.json:"},
        {"rm live.setup.json", ""},
    };
    write_file("live.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":\"h\","
               "\"kinds\":[\"loop.step\"],\"reactions\":[{\"log\":\"one\"}]}]}"
               "\n");
    write_file("live.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"until\":1600}\n");
    int code = run_command_line(
        output, sizeof output,
        "(sleep 0.6; %s) & " TOOL " run --reload --real-time live.setup.json "
        "live.tape.jsonl 2> err.txt; code=$?; wait; cat err.txt; exit $code",
        edits[_i].edit);
    ck_assert_msg(code == 0, "%d: %s", code, output);
    ck_assert_msg(strstr(output, edits[_i].says) != NULL, "%s", output);
    ck_assert_ptr_nonnull(strstr(output, "one"));
    ck_assert_msg((strstr(output, "two") != NULL) == (_i == 0), "%s", output);
}
END_TEST

START_TEST(not_with)
{
    static char output[4096];
    static const char *const others[] = {"--record x.tape.jsonl", "--digest",
                                         "--stats", "--json --decisions"};
    write_file("live.setup.json", "{\"format\":\"ikvar.setup/1\"}\n");
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " run --reload %s live.setup.json",
                                      others[_i]),
                     2);
    ck_assert_ptr_nonnull(strstr(output, "--reload"));
}
END_TEST

Suite *reload_suite(void)
{
    Suite *s = suite_create("reload");
    add_table(s, "T7 what is kept and what is done", what_is_kept,
              case_count("reload.txt"));
    add_table(s, "T7 as if opened with it", as_if_opened_with_it, 60);
    add_table(s, "T7 whatever the game does", whatever_the_game_does, 40);
    add(s, "T8 all or nothing", all_or_nothing);
    add(s, "T8 what is not there", not_there);
    add(s, "T7 what is bound stays bound", what_is_bound);
    add(s, "D8 owners", owners);
    add(s, "T7 an image of before", an_image_of_before);
    add_table(s, "T7 ikvar run --reload", while_it_runs, 3);
    add_table(s, "T7 not with what needs one setup", not_with, 4);
    return s;
}
