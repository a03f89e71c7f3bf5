/* test_io.c - setup and tape files: bad input with its message, sizing,
 * binding, reactions, traces. */
#include "support.h"

#define S(text) "{\"format\": \"ikvar.setup/1\", " text "}"
#define T(line) "{\"format\":\"ikvar.tape/2\"}\n" line "\n"

START_TEST(bad_setups)
{
    ikv_setup *setup;
    ikv_message message = {""};
    const char *text = case_text("setups.txt", _i, "text");
    const char *says = case_text("setups.txt", _i, "says");
    write_file("t.setup.json", text);
    status_is(ikv_setup_read("t.setup.json", &setup, &message), IKV_BAD_FILE);
    ck_assert_msg(strstr(message.text, says) != NULL && *says != '\0',
                  "%s\n     got %s\nexpected %s", text, message.text, says);
    ck_assert_int_eq(strncmp(message.text, "t.setup.json:", 13), 0);
    remove("t.setup.json");
}
END_TEST

/* What a gesture's line comes to: a letter an event (d, m, u, k down, i text, o
 * key up), its time in ms where it changes. */
static const struct {
    const char *line, *events;
} play_table[] = {
    {"{\"t\":10,\"play\":\"drag\",\"path\":[[0,0],[30,40]],\"ms\":20,"
     "\"every\":10}",
     "10 d(0,0) 20 m(15,20) 30 m(30,40) u(30,40)"},
    {"{\"t\":0,\"play\":\"drag\",\"path\":[[0,0],[10,0],[10,30]],\"ms\":20,"
     "\"every\":5,\"type\":\"mouse\"}",
     "0 d(0,0) 5 m(10,0) 10 m(10,10) 15 m(10,20) 20 m(10,30) u(10,30)"},
    {"{\"t\":5,\"play\":\"drag\",\"path\":[[1,1],[1,1]],\"ms\":0}",
     "5 d(1,1) u(1,1)"},
    {"{\"t\":0,\"play\":\"tap\",\"x\":3,\"y\":4,\"ms\":20,\"count\":2}",
     "0 d(3,4) 20 u(3,4) 40 d(3,4) 60 u(3,4)"},
    {"{\"t\":0,\"play\":\"pinch\",\"x\":0,\"y\":0,\"from\":10,\"to\":20,"
     "\"turn\":90,\"ms\":10,\"every\":10}",
     "0 d(-5,0) d(5,0) 10 m(0,-10) m(0,10) u(0,-10) u(0,10)"},
    {"{\"t\":0,\"play\":\"text\",\"text\":\"a\u00e9\",\"every\":10}",
     "0 ka ia 5 oa 10 i\xc3\xa9"},
};

/* P3: gestures in the tape's own terms. */
START_TEST(played_gestures)
{
    static const char letters[] = {
        [IKV_KIND_POINTER_DOWN] = 'd', [IKV_KIND_POINTER_MOVE] = 'm',
        [IKV_KIND_POINTER_UP] = 'u',   [IKV_KIND_KEY_DOWN] = 'k',
        [IKV_KIND_TEXT_INPUT] = 'i',   [IKV_KIND_KEY_UP] = 'o'};
    ikv_tape *tape;
    ikv_event e;
    record found = {""};
    char text[400], key[8];
    uint64_t last = UINT64_MAX;
    snprintf(text, sizeof text, "{\"format\":\"ikvar.tape/2\"}\n%s\n",
             play_table[_i].line);
    write_file("t.tape.jsonl", text);
    ok(ikv_tape_open("t.tape.jsonl", NULL, &tape, NULL));
    while (ikv_tape_next(tape, &e, NULL, NULL) == IKV_OK) {
        note(&found, "%s", found.text[0] != '\0' ? " " : "");
        if (e.time_ns != last)
            note(&found, "%g ", (double)e.time_ns / 1e6);
        last = e.time_ns;
        note(&found, "%c", letters[e.kind]);
        if (e.kind == IKV_KIND_TEXT_INPUT)
            note(&found, "%.*s", e.text.length, (char *)e.text.bytes);
        else if (e.kind == IKV_KIND_KEY_DOWN || e.kind == IKV_KIND_KEY_UP)
            note(&found, "%s", ikv_key_name(e.key.key, key));
        else
            note(&found, "(%g,%g)", (double)e.pointer.x, (double)e.pointer.y);
    }
    ck_assert_str_eq(found.text, play_table[_i].events);
    ikv_tape_close(tape);
    remove("t.tape.jsonl");
}
END_TEST

/* Cutting and joining keep what is in the part, and its order. */
START_TEST(cut_and_joined)
{
    ikv_message message;
    ikv_tape *tape;
    ikv_event e;
    ikv_intake intake;
    write_file("a.tape.jsonl",
               T("{\"t\":1,\"kind\":\"key.down\",\"code\":\"KeyA\"}\n"
                 "{\"t\":2,\"kind\":\"key.up\",\"code\":\"KeyA\",\"due\":3.5}\n"
                 "{\"digest\":\"0123456789abcdef\",\"step\":1,\"end\":10}"));
    write_file("b.tape.jsonl", "{\"format\":\"ikvar.tape/2\",\"until\":20}\n"
                               "{\"t\":4,\"kind\":\"wheel\",\"dy\":1}\n"
                               "{\"t\":7.25,\"kind\":\"wheel\",\"dy\":2}\n");
    ikv_tape_part parts[] = {{.path = "a.tape.jsonl"},
                             {.path = "b.tape.jsonl", .from_ns = 5000000}};
    ok(ikv_tape_join(parts, 2, "c.tape.jsonl", &message));
    ok(ikv_tape_open("c.tape.jsonl", NULL, &tape, &message));
    ok(ikv_tape_next(tape, &e, &intake, NULL));
    ck_assert_uint_eq(e.time_ns, 1000000);
    ok(ikv_tape_next(tape, &e, &intake, NULL));
    ck_assert_uint_eq(intake.due_ns, 3500000);
    ok(ikv_tape_next(tape, &e, &intake, NULL));
    ck_assert_uint_eq(e.time_ns, 12250000);
    ck_assert_float_eq(e.wheel.dy, 2);
    status_is(ikv_tape_next(tape, &e, &intake, NULL), IKV_ENDED);
    ck_assert_uint_eq(ikv_tape_about(tape).until_ns, 25000000);
    ikv_tape_close(tape);
    parts[0].to_ns = 2000000;
    ok(ikv_tape_join(parts, 1, "c.tape.jsonl", &message));
    ok(ikv_tape_open("c.tape.jsonl", NULL, &tape, &message));
    ok(ikv_tape_next(tape, &e, &intake, NULL));
    status_is(ikv_tape_next(tape, &e, &intake, NULL), IKV_ENDED);
    ikv_tape_close(tape);
    parts[0].path = "none.tape.jsonl";
    status_is(ikv_tape_join(parts, 1, "c.tape.jsonl", &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "none.tape.jsonl: can't open"));
    write_file("a.tape.jsonl", T("[1]"));
    parts[0].path = "a.tape.jsonl";
    status_is(ikv_tape_join(parts, 1, "c.tape.jsonl", &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(
        strstr(message.text, "a.tape.jsonl:2: expected one JSON object"));
    status_is(ikv_tape_join(parts, 0, "c.tape.jsonl", NULL), IKV_BAD_ARGUMENT);
    remove("a.tape.jsonl");
    remove("b.tape.jsonl");
    remove("c.tape.jsonl");
}
END_TEST

START_TEST(bad_tapes)
{
    ikv_tape *tape = NULL;
    ikv_message message = {""};
    ikv_event event;
    const char *text = case_text("tapes.txt", _i, "text");
    const char *says = case_text("tapes.txt", _i, "says");
    write_file("t.tape.jsonl", text);
    ikv_status status = ikv_tape_open("t.tape.jsonl", NULL, &tape, &message);
    while (status == IKV_OK)
        status = ikv_tape_next(tape, &event, NULL, &message);
    status_is(status, IKV_BAD_FILE);
    ck_assert_msg(strstr(message.text, says) != NULL && *says != '\0',
                  "%s\n     got %s\nexpected %s", text, message.text, says);
    if (tape != NULL)
        status_is(ikv_tape_next(tape, &event, NULL, &message), IKV_BAD_FILE);
    ikv_tape_close(tape);
    remove("t.tape.jsonl");
}
END_TEST

START_TEST(missing_files)
{
    ikv_message message;
    ikv_setup *setup;
    ikv_tape *tape;
    status_is(ikv_setup_read("none.json", &setup, &message), IKV_BAD_FILE);
    ck_assert_str_eq(message.text, "none.json: can't open the setup: No such "
                                   "file or directory");
    status_is(ikv_tape_open("none.jsonl", NULL, &tape, &message), IKV_BAD_FILE);
    ck_assert_str_eq(message.text, "none.jsonl: can't open the tape: No such "
                                   "file or directory");
    status_is(ikv_setup_read(NULL, &setup, NULL), IKV_BAD_ARGUMENT);
    status_is(ikv_tape_open(NULL, NULL, &tape, NULL), IKV_BAD_ARGUMENT);
    ikv_setup_close(NULL);
    ikv_tape_close(NULL);
    ok(ikv_trace_close(NULL));
}
END_TEST

/* Everything that a tape line can say, read into the event. */
START_TEST(tape_fields)
{
    ikv_tape *tape;
    ikv_event e;
    write_file(
        "t.tape.jsonl",
        T("{\"t\":16.25,\"kind\":\"pointer.down\",\"device\":3,"
          "\"pointer\":7,\"type\":\"pen\",\"x\":120.5,\"y\":80,"
          "\"pressure\":0.5,\"width\":2.5,\"tilt_x\":-3,\"view\":1,"
          "\"seat\":2,\"modifiers\":[\"shift\",\"alt\"],"
          "\"flags\":[\"synthetic\"],\"note\":\"any\"}\n"
          "{\"t\":16.25,\"kind\":\"text.input\",\"text\":\"h\xc3\xa9\"}\n"
          "{\"t\":20,\"kind\":\"key.up\",\"code\":\"F5\",\"key\":\"F5\"}"));
    ok(ikv_tape_open("t.tape.jsonl", NULL, &tape, NULL));
    ok(ikv_tape_next(tape, &e, NULL, NULL));
    ck_assert_uint_eq(e.kind, IKV_KIND_POINTER_DOWN);
    ck_assert_uint_eq(e.time_ns, 16250000);
    ck_assert(e.device == 3 && e.view == 1 && e.seat == 2);
    ck_assert_uint_eq(e.modifiers, IKV_SHIFT | IKV_ALT);
    ck_assert_uint_eq(e.flags, IKV_SYNTHETIC);
    ck_assert(e.pointer.x == 120.5f && e.pointer.y == 80);
    ck_assert(e.pointer.pointer == 7 && e.pointer.type == IKV_PEN);
    ck_assert(e.pointer.pressure == 32768 && e.pointer.width == 40);
    ck_assert(e.pointer.tilt_x == -3 && e.pointer.button == 0);
    ok(ikv_tape_next(tape, &e, NULL, NULL));
    ck_assert_mem_eq(e.text.bytes, "h\xc3\xa9", 3);
    ck_assert_uint_eq(e.text.length, 3);
    ok(ikv_tape_next(tape, &e, NULL, NULL));
    ck_assert_uint_eq(e.key.code, ikv_code_find("F5"));
    status_is(ikv_tape_next(tape, &e, NULL, NULL), IKV_ENDED);
    status_is(ikv_tape_next(tape, &e, NULL, NULL), IKV_ENDED);
    ikv_tape_close(tape);
    remove("t.tape.jsonl");
}
END_TEST

/* ------------------------------------------------------------ reactions -- */

static record notes;

static void keep_note(const char *text, void *user)
{
    (void)user;
    note(&notes, "%s; ", text);
}

#define TWO                                                                    \
    "\"targets\": [{\"id\": \"a\", \"position\": [0, 0], \"shape\": "          \
    "{\"rect\": [0, 0, 50, 50]}, \"focusable\": true, \"fields\": {\"lit\": "  \
    "false, \"n\": 1}}, {\"id\": \"b\", \"position\": [100, 0], \"shape\": "   \
    "{\"rect\": [0, 0, 50, 50]}}], \"kinds\": [{\"name\": \"bell\", "          \
    "\"fields\": [{\"name\": \"at_x\", \"type\": \"f32\"}, {\"name\": "        \
    "\"loud\", \"type\": \"u8\"}]}], "
#define ON(kind, reactions)                                                    \
    S(TWO "\"handlers\": [{\"name\": \"h\", \"kinds\": [\"" kind "\"], "       \
          "\"at\": \"a\", \"reactions\": [" reactions "]}, {\"name\": "        \
          "\"hear\", \"kinds\": [\"bell\"], \"reactions\": [{\"set\": "        \
          "{\"target\": \"a\", \"field\": \"n\", \"value\": {\"field\": "      \
          "\"at_x\"}}}]}]")

/* What a press at (20, 10) on target a does. */
static const struct {
    const char *setup, *notes;
} reaction_table[] = {
    {ON("pointer.down", "{\"turn_to\": {\"x\": 0, \"y\": {\"field\": \"y\"}}}"),
     "turn a to 0, 10; "},
    {ON("pointer.down", "{\"turn_to\": {\"x\": {\"field\": \"z\"}, \"y\": 0}}"),
     "turn_to: this event has no such number; "},
    {ON("pointer.down", "{\"toggle\": \"lit\"}, {\"toggle\": \"lit\"}"),
     "a.lit: false -> true; a.lit: true -> false; "},
    {ON("pointer.down", "{\"set\": {\"field\": \"n\", \"value\": {\"field\": "
                        "\"x\"}}}"),
     "a.n: 1 -> 20; "},
    {ON("pointer.down", "{\"set\": {\"field\": \"gone\", \"value\": 1}}"),
     "set: there is no field \"gone\", or no value; "},
    {ON("pointer.down", "{\"toggle\": \"n\"}"),
     "toggle: there is no field \"n\" of true or false; "},
    {ON("pointer.down", "{\"deliver\": {\"kind\": \"bell\", \"at_x\": "
                        "{\"field\": \"x\"}, \"loud\": 3}}"),
     "deliver bell at once; a.n: 1 -> 20; "},
    {ON("pointer.down", "{\"defer\": {\"kind\": \"bell\", \"lane\": "
                        "\"frame\", \"at_x\": 4}}, {\"log\": \"first\"}"),
     "defer bell to the frame lane; \"first\"; a.n: 1 -> 4; "},
    {ON("pointer.down", "{\"deliver\": {\"kind\": \"bell\", \"loud\": "
                        "{\"field\": \"dx\"}}}, \"stop\""),
     "deliver bell at once; a.n: 1 -> 0; "},
    {ON("pointer.down", "{\"move\": {\"x\": {\"field\": \"x\"}, \"y\": 7}}"),
     "move a to 20, 7; "},
    {ON("pointer.down", "{\"move\": {\"target\": \"b\", \"x\": 1, \"y\": 2}}"),
     "move b to 1, 2; "},
    {ON("pointer.down", "\"capture\", \"release\""),
     "capture by a; release by a; "},
    {ON("pointer.down", "{\"release\": \"b\"}"), "release by b: ABSENT; "},
    {ON("pointer.down", "\"focus\", \"blur\", \"refuse\""), "focus a; blur; "},
    {ON("pointer.down", "{\"hide\": \"b\"}, {\"show\": \"b\"}"),
     "hide b; show b; "},
    {ON("pointer.down", "{\"remove\": \"b\"}, {\"remove\": \"b\"}, {\"move\": "
                        "{\"target\": \"b\", \"x\": 1, \"y\": 1}}"),
     "remove b; remove gone; move gone: STALE; "},
    {ON("pointer.down", "\"unsubscribe\", \"unsubscribe\""),
     "unsubscribe h; unsubscribe h: it has ended; "},
    {ON("pointer.down", "{\"mute\": \"hear\"}, {\"deliver\": {\"kind\": "
                        "\"bell\"}}, {\"unmute\": \"hear\"}, {\"deliver\": "
                        "{\"kind\": \"bell\"}}"),
     "mute hear; deliver bell at once; unmute hear; deliver bell at once; a.n: "
     "1 -> 0; "},
    {ON("pointer.down", "\"attach\", \"stop_all\""), "attach a; "},
};

static void run_setup(bench_kit *k, ikv_setup **setup, const char *text)
{
    ikv_message message = {""};
    write_file("t.setup.json", text);
    ck_assert_msg(ikv_setup_read("t.setup.json", setup, &message) == IKV_OK,
                  "%s", message.text);
    remove("t.setup.json");
    kit_prepare(k);
    ok(ikv_setup_size(*setup, &k->config));
    kit_open(k);
    ck_assert_msg(ikv_setup_apply(*setup, k->kit, 0, &message) == IKV_OK, "%s",
                  message.text);
    notes.text[0] = '\0';
    ikv_setup_set_note(*setup, keep_note, NULL);
    kit_frame(k, 0);
}

START_TEST(reactions)
{
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup, reaction_table[_i].setup);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    e.device = k.fake.device;
    e.pointer.button = 0;
    e.pointer.x = 20;
    e.pointer.y = 10;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    ck_assert_str_eq(notes.text, reaction_table[_i].notes);
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* What a handler with these members hears of two presses at (20, 10) by touch
 * on target a, which bears the tag "gull" and is b's body. */
#define WHEN(members)                                                          \
    S("\"targets\": [{\"id\": \"a\", \"tags\": [\"gull\"], \"body\": true, "   \
      "\"shape\": {\"rect\": [0, 0, 50, 50]}}, {\"id\": \"b\", \"parent\": "   \
      "\"a\", \"shape\": {\"rect\": [0, 0, 5, 5]}}], \"handlers\": "           \
      "[{\"name\": "                                                           \
      "\"h\", \"kinds\": [\"pointer.down\"], \"reactions\": [{\"log\": "       \
      "\"x\"}], " members "}]")
#define IF(conditions) WHEN("\"conditions\": [" conditions "]")
#define TYPE(type)     "{\"field\": \"type\", \"value\": \"" type "\"}"

static const struct {
    const char *setup;
    int heard;
} condition_table[] = {
    {IF(TYPE("touch")), 2},
    {IF(TYPE("mouse")), 0},
    {IF("{\"field\": \"type\", \"value\": \"mouse\", \"negate\": true}"), 2},
    {IF(TYPE("touch") ", {\"field\": \"x\", \"comparison\": \"above\", "
                      "\"value\": 20.5}"),
     0},
    {WHEN("\"join\": \"any\", \"conditions\": [" TYPE("touch") ", " TYPE(
         "mouse") "]"),
     2},
    {IF("{\"join\": \"any\", \"conditions\": [" TYPE("mouse") ", " TYPE(
         "touch") "]}, {\"field\": \"local.y\", \"comparison\": \"at_most\", "
                  "\"value\": 10}"),
     2},
    {IF("{\"negate\": true, \"conditions\": [" TYPE("mouse") "]}"), 2},
    {IF("{\"field\": \"target.tags\", \"comparison\": \"has\", \"value\": "
        "[\"gull\", \"crow\"]}"),
     2},
    {IF("{\"field\": \"target.tags\", \"comparison\": \"has\", \"value\": "
        "[\"crow\"]}"),
     0},
    {IF("{\"field\": \"target.body\", \"value\": \"a\"}"), 2},
    {IF("{\"field\": \"target.body\", \"value\": \"b\"}"), 0},
    {IF("{\"field\": \"x\", \"comparison\": \"changed\"}"), 1},
    {WHEN("\"limit\": 1"), 1},
    {WHEN("\"after\": 1"), 1},
    {WHEN("\"at_most\": \"step\""), 2},
    {WHEN("\"gap\": 50"), 1},
    {WHEN("\"at_tags\": [\"gull\"]"), 2},
    {WHEN("\"at_tags\": [\"crow\"]"), 0},
    {WHEN("\"at_body\": \"a\""), 2},
    {WHEN("\"at_body\": \"b\""), 0},
};

/* Two handlers of a group: they share its conditions, and one reaction mutes
 * both; a third hears the second press, since it alone is not muted. */
START_TEST(setup_groups)
{
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup,
              S("\"groups\": [{\"name\": \"night\", \"join\": \"any\", "
                "\"conditions\": [" TYPE("pen") ", " TYPE(
                    "touch") "]}], "
                             "\"handlers\": [{\"name\": \"a\", \"group\": "
                             "\"night\", \"kinds\": "
                             "[\"pointer.down\"], \"reactions\": [{\"log\": "
                             "\"a\"}]}, {\"name\": "
                             "\"b\", \"group\": \"night\", \"kinds\": "
                             "[\"pointer.down\"], "
                             "\"conditions\": [{\"field\": \"x\", "
                             "\"comparison\": \"above\", "
                             "\"value\": 15}], \"reactions\": [{\"log\": "
                             "\"b\"}]}, {\"name\": "
                             "\"c\", \"kinds\": [\"pointer.up\"], "
                             "\"reactions\": [{\"mute\": "
                             "\"night\"}]}, {\"name\": \"d\", \"kinds\": "
                             "[\"pointer.cancel\"], "
                             "\"reactions\": [{\"unmute\": \"night\"}]}]"));
    static const struct {
        ikv_kind kind;
        uint8_t type;
        float x;
        const char *notes;
    } presses[] = {
        {IKV_KIND_POINTER_DOWN, IKV_MOUSE, 20, ""},
        {IKV_KIND_POINTER_DOWN, IKV_TOUCH, 10, "\"a\"; "},
        {IKV_KIND_POINTER_CANCEL, IKV_TOUCH, 10, "unmute night; "},
        {IKV_KIND_POINTER_DOWN, IKV_TOUCH, 20, "\"a\"; \"b\"; "},
        {IKV_KIND_POINTER_UP, IKV_TOUCH, 20, "mute night; "},
        {IKV_KIND_POINTER_DOWN, IKV_TOUCH, 20, ""},
        {IKV_KIND_POINTER_CANCEL, IKV_TOUCH, 20, "unmute night; "},
        {IKV_KIND_POINTER_DOWN, IKV_TOUCH, 10, "\"a\"; "},
    };
    for (int i = 0; i < ROWS(presses); i++) {
        ikv_event e = ikv_event_make(presses[i].kind, k.fake.now_ns);
        e.device = k.fake.device;
        e.pointer.pointer = presses[i].type;
        e.pointer.type = presses[i].type;
        e.pointer.button = 0;
        e.pointer.x = presses[i].x;
        notes.text[0] = '\0';
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, (uint64_t)i * 40 + 40);
        ck_assert_str_eq(notes.text, presses[i].notes);
    }
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

START_TEST(setup_conditions)
{
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup, condition_table[_i].setup);
    for (uint64_t i = 0; i < 2; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns);
        e.device = k.fake.device;
        e.pointer.button = 0;
        e.pointer.type = IKV_TOUCH;
        e.pointer.pointer = (uint16_t)i;
        e.pointer.x = 20;
        e.pointer.y = 10;
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, i * 20 + 20);
    }
    ck_assert_int_eq((int)strlen(notes.text) / 5, condition_table[_i].heard);
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* A condition that some of the kinds can't answer is refused by the bus. */
START_TEST(setup_conditions_refused)
{
    bench_kit k;
    ikv_setup *setup;
    ikv_message message;
    write_file("t.setup.json",
               S("\"handlers\": [{\"name\": \"h\", \"kinds\": "
                 "[\"pointer.down\", \"key.down\"], \"reactions\": [], "
                 "\"conditions\": [{\"field\": \"x\", \"value\": 1}]}]"));
    ok(ikv_setup_read("t.setup.json", &setup, &message));
    kit_prepare(&k);
    ok(ikv_setup_size(setup, &k.config));
    kit_open(&k);
    status_is(ikv_setup_apply(setup, k.kit, 0, &message), IKV_UNKNOWN_FIELD);
    ck_assert_str_eq(
        message.text,
        "t.setup.json: /handlers/0: handler \"h\": the kind key.down has no "
        "field \"x\"; it has code, key, location");
    kit_close(&k);
    ikv_setup_close(setup);
    remove("t.setup.json");
}
END_TEST

/* attach: the target follows, off its own outline, until the release. */
START_TEST(attached_target_follows)
{
    static const struct {
        ikv_kind kind;
        float x;
        const char *notes;
        float at;
    } steps[] = {{IKV_KIND_POINTER_DOWN, 20, "attach a; ", 0},
                 {IKV_KIND_POINTER_MOVE, 300, "", 280},
                 {IKV_KIND_POINTER_MOVE, 20, "", 0},
                 {IKV_KIND_POINTER_UP, 22, "", 2},
                 {IKV_KIND_POINTER_MOVE, 25, "", 2}};
    float own[2], view[2];
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup, ON("pointer.down", "\"attach\""));
    for (int i = 0; i < ROWS(steps); i++) {
        ikv_event e = ikv_event_make(steps[i].kind, k.fake.now_ns);
        e.device = k.fake.device;
        e.pointer.button = steps[i].kind == IKV_KIND_POINTER_MOVE ? -1 : 0;
        e.pointer.x = steps[i].x;
        e.pointer.y = 10;
        notes.text[0] = '\0';
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, (uint64_t)i * 40 + 40);
        ck_assert_str_eq(notes.text, steps[i].notes);
        ck_assert(ikv_scene_position(k.scene, ikv_setup_target(setup, "a"), own,
                                     view));
        ck_assert_float_eq(own[0], steps[i].at);
    }
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, 2);
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* Layers, cameras, rotation and shapes of a file: who is hit where. */
static const struct {
    float x, y;
    const char *hit;
} place_table[] = {
    {10, 10, "panel"},   {30, 10, "sea"},    {110, 100, "bar"},
    {100, 110, "sea"},   {108, 122, "bar"},  {88, 100, "sea"},
    {300, 200, "kite"},  {312, 200, "kite"}, {300, 218, "kite"},
    {318, 218, "sea"},   {200, 60, "buoy"},  {200, 48, "sea"},
    {404, 300, "inner"}, {412, 300, "sea"},
};

START_TEST(setup_places)
{
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup,
              S("\"view\": {\"width\": 640, \"height\": 360},"
                "\"layers\": [{\"name\": \"world\", \"camera\": {\"zoom\": 2}},"
                "             {\"name\": \"over\"}],"
                "\"router\": {\"hold\": 1.001, \"slop\": 3, \"no_tab\": true},"
                "\"targets\": ["
                "{\"id\": \"sea\", \"shape\": {\"rect\": [0, 0, 320, 180]}},"
                "{\"id\": \"panel\", \"layer\": \"over\","
                " \"shape\": {\"rect\": [0, 0, 20, 20]}},"
                "{\"id\": \"bar\", \"position\": [50, 50], \"rotation\": 90,"
                " \"shape\": {\"capsule\": [-2, -4, 10, -4, 2]}},"
                "{\"id\": \"kite\", \"position\": [150, 100], \"scale\": 2,"
                " \"shape\": {\"polygon\": [[0, 0], [5, 0], [0, 5]]}},"
                "{\"id\": \"buoy\", \"position\": [100, 30],"
                " \"shape\": {\"circle\": [0, 0, 5]}},"
                "{\"id\": \"outer\", \"position\": [200, 150], \"clip\": true,"
                " \"hit\": \"off\", \"shape\": {\"rect\": [0, 0, 5, 5]}},"
                "{\"id\": \"inner\", \"parent\": \"outer\","
                " \"shape\": {\"rect\": [0, -5, 50, 50]}}]"));
    ck_assert_uint_eq(k.config.router.hold_ns, 1001000);
    for (int i = 0; i < ROWS(place_table); i++) {
        ikv_target hit =
            pick_at(k.scene, place_table[i].x, place_table[i].y, 0, 0);
        const char *name = ikv_setup_target_name(setup, hit);
        ck_assert_msg(strcmp(name, place_table[i].hit) == 0,
                      "%s at %g, %g, expected %s", name,
                      (double)place_table[i].x, (double)place_table[i].y,
                      place_table[i].hit);
    }
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

static ikv_verdict bound(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

START_TEST(binding)
{
    ikv_setup *setup;
    ikv_message message;
    bench_kit k;
    int calls = 0;
    write_file("t.setup.json",
               S(TWO "\"handlers\": [{\"name\": \"mine\", \"kinds\": "
                     "[\"loop.step\"]}, {\"name\": \"other\", \"kinds\": "
                     "[\"loop.step\"], \"reactions\": []}]"));
    ok(ikv_setup_read("t.setup.json", &setup, &message));
    status_is(ikv_setup_bind(setup, "none", bound, &calls), IKV_UNKNOWN_NAME);
    status_is(ikv_setup_bind(setup, "other", bound, &calls), IKV_DUPLICATE);
    kit_prepare(&k);
    ok(ikv_setup_size(setup, &k.config));
    kit_open(&k);
    status_is(ikv_setup_apply(setup, k.kit, 0, &message), IKV_UNKNOWN_NAME);
    ck_assert_str_eq(
        message.text,
        "t.setup.json: /handlers/0: handler \"mine\" has no reactions and is "
        "not bound: call ikv_setup_bind() for it");
    kit_close(&k);
    ikv_setup_close(setup);
    ok(ikv_setup_read("t.setup.json", &setup, &message));
    ok(ikv_setup_bind(setup, "mine", bound, &calls));
    status_is(ikv_setup_bind(setup, "mine", bound, &calls), IKV_DUPLICATE);
    kit_prepare(&k);
    ok(ikv_setup_size(setup, &k.config));
    kit_open(&k);
    ok(ikv_setup_apply(setup, k.kit, 0, &message));
    status_is(ikv_setup_apply(setup, k.kit, 0, &message), IKV_BAD_ARGUMENT);
    kit_frame(&k, 0);
    kit_frame(&k, 40);
    ck_assert_int_eq(calls, 2);
    ck_assert_str_eq(ikv_setup_mistake(setup, 0)->text,
                     "a: it is hit, but no handler is at it or an ancestor: it "
                     "only covers what lies beneath (hit \"off\" lets events "
                     "through)");
    kit_close(&k);
    ikv_setup_close(setup);
    remove("t.setup.json");
}
END_TEST

/* A trace: a line a call, in the order in which calls begin, nested ones too;
 * a line for what nobody heard. */
START_TEST(traces)
{
    bench_kit k;
    ikv_setup *setup;
    ikv_trace *trace;
    run_setup(&k, &setup,
              ON("pointer.down", "{\"deliver\": {\"kind\": \"bell\", "
                                 "\"at_x\": 0.1}}, \"stop\""));
    FILE *file = fopen("t.trace.jsonl", "w");
    ok(ikv_trace_open(file, k.kit, setup, 0, &trace));
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.button = 0;
    e.pointer.x = 20.1f;
    e.pointer.y = 10;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    ok(ikv_trace_close(trace));
    fclose(file);
    char *text = read_file("t.trace.jsonl");
    static const char *const lines[] = {
        "{\"format\":\"ikvar.trace/2\"}\n",
        "\"kind\":\"pointer.over\",\"target\":\"a\",\"device\":1,"
        "\"source\":null,\"modifiers\":[],\"flags\":[\"primary\"],"
        "\"x\":20.1,\"y\":10,",
        "\"kind\":\"pointer.down\",\"at\":\"a\",\"target\":\"a\"",
        "\"phase\":\"target\",\"handler\":\"h\",\"verdict\":\"stop\"}\n",
        "\"kind\":\"bell\",\"at\":\"root\",\"target\":\"a\",\"source\":\"a\","
        "\"at_x\":0.1,\"loud\":0,\"phase\":\"capturing\",\"handler\":\"hear\","
        "\"verdict\":\"continue\"}\n",
        "\"kind\":\"loop.step\"",
    };
    const char *at = text;
    for (int i = 0; i < ROWS(lines); i++) {
        const char *found = strstr(at, lines[i]);
        ck_assert_msg(found != NULL, "no %s in\n%s", lines[i], at);
        at = found;
    }
    free(text);
    remove("t.trace.jsonl");
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* The reader measures the file: a thousand targets and handlers just fit. */
START_TEST(sized_by_the_file)
{
    FILE *file = fopen("t.setup.json", "w");
    fprintf(file, "{\"format\": \"ikvar.setup/1\", \"targets\": [");
    for (int i = 0; i < 3000; i++)
        fprintf(file, "%s{\"id\": \"t%d\"}", i > 0 ? "," : "", i);
    fprintf(file, "], \"handlers\": [");
    for (int i = 0; i < 3000; i++)
        fprintf(file,
                "%s{\"name\": \"h%d\", \"kinds\": [\"key.up\", \"key.down\"], "
                "\"at\": [\"t%d\", \"t0\"], \"reactions\": [\"stop\"]}",
                i > 0 ? "," : "", i, i);
    fprintf(file, "]}");
    fclose(file);
    char *text = read_file("t.setup.json");
    bench_kit k;
    ikv_setup *setup;
    run_setup(&k, &setup, text);
    ck_assert_uint_eq(bus_counts(k.bus).targets, 3000);
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, 3000);
    free(text);
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

/* Blocks of all sizes, also those that ask for large pages. */
static const size_t block_sizes[] = {
    1, 64, 4096 + 1, (4 << 20) - 1, 4 << 20, (9 << 20) + 5};

START_TEST(host_blocks)
{
    ikv_memory memory = ikv_host_memory();
    size_t size = block_sizes[_i];
    unsigned char *block = memory.take(memory.user, size, IKV_BLOCK_ALIGNMENT);
    ck_assert_ptr_nonnull(block);
    ck_assert_uint_eq((uintptr_t)block % IKV_BLOCK_ALIGNMENT, 0);
    memset(block, 7, size);
    ck_assert_uint_eq(block[size / 2] + block[size - 1], 14);
    memory.give(memory.user, block, size);
}
END_TEST

Suite *io_suite(void)
{
    Suite *s = suite_create("io");
    add_table(s, "46 blocks of a host", host_blocks, ROWS(block_sizes));
    add_table(s, "setup errors", bad_setups, case_count("setups.txt"));
    add_table(s, "tape errors", bad_tapes, case_count("tapes.txt"));
    add_table(s, "P3 gestures", played_gestures, ROWS(play_table));
    add(s, "T1 cut and join", cut_and_joined);
    add(s, "missing files", missing_files);
    add(s, "tape fields", tape_fields);
    add_table(s, "reactions", reactions, ROWS(reaction_table));
    add_table(s, "D7 setup", setup_conditions, ROWS(condition_table));
    add(s, "D7 setup groups", setup_groups);
    add(s, "D7 setup refused", setup_conditions_refused);
    add(s, "setup scene", setup_places);
    add(s, "attach", attached_target_follows);
    add(s, "bind", binding);
    add(s, "trace", traces);
    add(s, "sizes", sized_by_the_file);
    return s;
}
