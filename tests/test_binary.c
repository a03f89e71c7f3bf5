/* test_binary.c - binary tapes: the same as lines, and good messages for what
 * is torn or hostile. */
#include "support.h"

static char output[8192];

/* A tape of two kinds of our own and built-in ones, with every sort of line. */
static const char lines[] =
    "{\"format\":\"ikvar.tape/"
    "2\",\"until\":900.5,\"setup\":\"pier.setup.json\","
    "\"steps\":60,\"per_seconds\":1,\"timing\":\"at_frame\"}\n"
    "{\"t\":1.25,\"kind\":\"pointer.move\",\"x\":0.1,\"y\":-3,\"dx\":1e-7,"
    "\"pressure\":0.33333334,\"type\":\"pen\"}\n"
    "{\"t\":1.25,\"kind\":\"key.down\",\"due\":3.5,\"between\":7,\"modifiers\":"
    "["
    "\"shift\",\"alt\"],\"code\":\"KeyB\",\"key\":\"b\"}\n"
    "{\"t\":1,\"kind\":\"text.input\",\"due\":4,\"between\":7,\"text\":"
    "\"\u00e5\"}\n"
    "{\"t\":5,\"kind\":\"tide.rose\",\"due\":5,\"lane\":\"step\",\"within\":"
    "true,"
    "\"target\":\"boat\",\"source\":\"root\",\"level\":-70000,\"calm\":true,"
    "\"depth\":0.1,\"marks\":9007199254740993}\n"
    "{\"t\":5,\"kind\":\"tide.rose\",\"due\":5,\"lane\":3,\"target\":77}\n"
    "{\"t\":5,\"kind\":\"tide.rose\",\"due\":5,\"lane\":\"step\","
    "\"flush\":2}\n"
    "{\"t\":6,\"kind\":\"key.down\",\"due\":6,\"held\":true,\"code\":\"KeyA\"}"
    "\n"
    "{\"t\":6,\"kind\":\"device.resync\"}\n"
    "{\"t\":7,\"kind\":\"loop.dropped\",\"due\":7,\"between\":8,\"lost\":250}\n"
    "{\"digest\":\"00ffee0123456789\",\"step\":255,\"deliveries\":9120}\n"
    "{\"t\":8,\"play\":\"drag\",\"path\":[[10,10],[200.5,50]],\"ms\":30}\n"
    "{\"digest\":\"ffffffffffffffff\",\"step\":300,\"deliveries\":9125,"
    "\"end\":900.5}\n"
    "{\"end\":901,\"clock\":950.25}\n";

static void write_pier(void)
{
    write_file(
        "pier.setup.json",
        "{\"format\":\"ikvar.setup/1\",\"kinds\":[{\"name\":\"tide.rose\","
        "\"fields\":[{\"name\":\"level\",\"type\":\"i32\"},{\"name\":"
        "\"calm\",\"type\":\"bool\"},{\"name\":\"depth\",\"type\":"
        "\"f64\"},{\"name\":\"marks\",\"type\":\"i64\"}]}],\"targets\":[{"
        "\"id\":\"boat\",\"shape\":{\"rect\":[0,0,9,9]}}]}");
    write_file("pier.tape.jsonl", lines);
}

static size_t size_of(const char *path)
{
    char *text = read_file(path);
    FILE *file = fopen(path, "r");
    fseek(file, 0, SEEK_END);
    size_t size = (size_t)ftell(file);
    fclose(file);
    free(text);
    return size;
}

static void do_tape(const char *arguments, int expected, const char *says)
{
    int code = run_command_line(output, sizeof output, BINARY "/ikvar tape %s",
                                arguments);
    ck_assert_msg(code == expected && strstr(output, says) != NULL,
                  "%s: %d: %s", arguments, code, output);
}

static void expect_same_files(const char *a, const char *b)
{
    ck_assert_msg(run_command_line(output, sizeof output, "cmp %s %s", a, b) ==
                      0,
                  "%s", output);
}

/* There and back again it is the same, with and without the setup at hand. */
START_TEST(there_and_back)
{
    write_pier();
    do_tape("convert pier.tape.jsonl pier.tape.cbor", 0, "");
    do_tape("convert pier.tape.cbor -o back.tape.jsonl", 0, "");
    expect_same_files("pier.tape.jsonl", "back.tape.jsonl");
    do_tape("convert --setup pier.setup.json back.tape.jsonl again.tape.cbor",
            0, "");
    expect_same_files("pier.tape.cbor", "again.tape.cbor");
    /* What is joined or cut knows the kinds by the tape alone. */
    do_tape("join pier.tape.cbor -o joined.tape.cbor", 0, "");
    do_tape("join pier.tape.jsonl -o joined.tape.jsonl", 0, "");
    do_tape("convert joined.tape.cbor unjoined.tape.jsonl", 0, "");
    expect_same_files("joined.tape.jsonl", "unjoined.tape.jsonl");
    /* An older version's digests stay an older one's. */
    write_file("old.tape.jsonl", "{\"format\":\"ikvar.tape/1\",\"until\":5}\n");
    do_tape("convert old.tape.jsonl old.tape.cbor", 0, "");
    do_tape("convert old.tape.cbor older.tape.jsonl", 0, "");
    expect_same_files("old.tape.jsonl", "older.tape.jsonl");
}
END_TEST

/* T4. Names and numbers beside each other, of any size. */
START_TEST(names_and_numbers)
{
    write_file(
        "crew.tape.jsonl",
        "{\"format\":\"ikvar.tape/2\"}\n"
        "{\"t\":1,\"kind\":\"wheel\",\"target\":\"root\","
        "\"source\":2130706432,\"y\":1}\n"
        "{\"t\":2,\"kind\":\"wheel\",\"target\":4294967295,"
        "\"source\":\"ferry\",\"y\":1}\n"
        "{\"t\":3,\"kind\":\"wheel\",\"target\":2130706433,"
        "\"source\":2130706432,\"y\":1}\n"
        "{\"t\":4,\"kind\":\"action.feed\",\"action\":\"foghorn\",\"x\":1}\n"
        "{\"t\":5,\"kind\":\"action.feed\",\"action\":4294967295,\"x\":1}\n");
    do_tape("convert crew.tape.jsonl crew.tape.cbor", 0, "");
    do_tape("convert crew.tape.cbor crew_back.tape.jsonl", 0, "");
    expect_same_files("crew.tape.jsonl", "crew_back.tape.jsonl");
    do_tape("cut crew.tape.cbor --from 0 -o crew_cut.tape.jsonl", 0, "");
    expect_same_files("crew.tape.jsonl", "crew_cut.tape.jsonl");
    do_tape("join crew.tape.jsonl -o crew_joined.tape.cbor", 0, "");
    expect_same_files("crew.tape.cbor", "crew_joined.tape.cbor");
}
END_TEST

/* Recorded by the command, and found by what looks for tapes. */
START_TEST(recorded)
{
    int code = run_command_line(
        output, sizeof output,
        "mkdir evening && cd evening && " BINARY
        "/ikvar run -d --record harbour.tape.cbor " SOURCE
        "/demo/harbour.setup.json " SOURCE "/demo/harbour.tape.jsonl && " BINARY
        "/ikvar run --json --steps-only " SOURCE
        "/demo/harbour.setup.json harbour.tape.cbor > harbour.trace.jsonl && "
        "head -c -1 harbour.tape.cbor > torn.tape.cbor.part");
    ck_assert_msg(code == 0, "%s", output);
    do_tape("verify evening/harbour.tape.cbor", 0, "same ");
    do_tape("verify evening", 1, "no digest ");
    ck_assert_ptr_nonnull(strstr(output, "same "));
    code = run_command_line(output, sizeof output,
                            BINARY "/ikvar check " SOURCE
                                   "/demo/harbour.setup.json "
                                   "evening/harbour.tape.cbor "
                                   "evening/torn.tape.cbor.part");
    ck_assert_msg(code == 0 && strstr(output, "cbor: fine: 71 events") != NULL,
                  "%s", output);
    ck_assert_ptr_nonnull(strstr(output, "the last item is torn"));
    /* What is made of a torn one says so. */
    do_tape("convert evening/torn.tape.cbor.part evening/new.tape.jsonl", 0,
            "warning: evening/torn.tape.cbor.part:83: the last item is torn");
    do_tape("cut --to 500 evening/torn.tape.cbor.part -o evening/new.tape.cbor",
            0,
            "warning: evening/torn.tape.cbor.part:83: the last item is torn");
    do_tape("convert evening/harbour.tape.cbor evening/new.tape.jsonl", 0, "");
    ck_assert_str_eq(output, "");
    run_command_line(output, sizeof output,
                     "sed -i '9s/root/pier/' evening/harbour.trace.jsonl");
    do_tape("verify evening/harbour.tape.cbor", 1, "the traces differ");
}
END_TEST

static const struct {
    const char *arguments, *says;
    int code;
} wrong_table[] = {
    {"convert pier.tape.jsonl", "expected the TAPE and the NEW one", 2},
    {"convert a b c", "expected the TAPE and the NEW one", 2},
    {"convert -o b", "expected the TAPE and the NEW one", 2},
    {"convert a b -o c", "expected the TAPE and the NEW one", 2},
    {"convert none.tape.jsonl new.tape.cbor", "can't open", 3},
    {"convert pier.tape.jsonl pier.tape.jsonl", "would destroy it", 3},
    {"join pier.tape.cbor -o pier.tape.cbor", "would destroy it", 3},
    {"convert pier.tape.jsonl /dev/full", "can't write the tape", 3},
    {"convert far.tape.jsonl new.tape.cbor", "gone.setup.json: can't open", 3},
    {"convert bad.tape.jsonl new.tape.cbor", "bad.tape.jsonl:2:", 3},
    {"convert named.tape.jsonl new.tape.cbor", "expected a target's id", 3},
};

START_TEST(wrong_use)
{
    write_pier();
    do_tape("convert pier.tape.jsonl pier.tape.cbor", 0, "");
    write_file("far.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"setup\":\"gone.setup.json\"}\n");
    write_file("bad.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n{\"t\":1,\"kind\":\"gull\"}\n");
    write_file("named.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n{\"t\":1,\"kind\":\"wheel\","
               "\"target\":\"root\",\"source\":4294967296}\n");
    do_tape(wrong_table[_i].arguments, wrong_table[_i].code,
            wrong_table[_i].says);
    ck_assert_int_ne(
        run_command_line(output, sizeof output,
                         "ls new.tape.cbor *.new pier.tape.cbor.*"),
        0); /* nothing is left half done */
}
END_TEST

/* T4. Torn at every byte: what is whole is read, what is not is named. */
START_TEST(torn)
{
    write_pier();
    ck_assert_int_eq(
        run_command_line(
            output, sizeof output,
            "sed -i 's/\"boat\"/9/; s/\"root\"/1/' pier.tape.jsonl"),
        0); /* no setup is applied here */
    do_tape("convert pier.tape.jsonl pier.tape.cbor", 0, "");
    size_t size = size_of("pier.tape.cbor");
    char *bytes = malloc(size);
    FILE *file = fopen("pier.tape.cbor", "r");
    ck_assert_uint_eq(fread(bytes, 1, size, file), size);
    fclose(file);
    ikv_setup *setup;
    ok(ikv_setup_read("pier.setup.json", &setup, NULL));
    uint64_t most = 0;
    for (size_t cut = 1; cut <= size; cut++) {
        ikv_tape *tape;
        ikv_event event;
        ikv_message message;
        uint64_t count = 0;
        file = fopen("torn.tape.cbor", "w");
        fwrite(bytes, 1, cut, file);
        if (cut % 2 == 0) /* as after a power cut */
            fwrite("\0\0\0\0", 1, 4, file);
        fclose(file);
        if (ikv_tape_open("torn.tape.cbor", setup, &tape, &message) < 0) {
            ck_assert_msg(most == 0 && strstr(message.text, ":1: ") != NULL,
                          "cut at %zu: %s", cut, message.text);
            continue;
        }
        ikv_status status;
        while ((status = ikv_tape_next(tape, &event, NULL, &message)) == IKV_OK)
            count++;
        /* Zeros may be what an item's end lacked. */
        ck_assert_msg(status == IKV_ENDED || cut % 2 == 0, "cut at %zu: %s",
                      cut, message.text);
        if (cut % 2 == 1) {
            ck_assert_uint_ge(count, most);
            most = count;
        }
        if (ikv_tape_warning(tape) != NULL)
            ck_assert_ptr_nonnull(
                strstr(ikv_tape_warning(tape), "the last item is torn"));
        ikv_tape_close(tape);
    }
    ck_assert_uint_gt(most, 12); /* the gesture's events as well */
    ikv_setup_close(setup);
    free(bytes);
}
END_TEST

/* Items behind a good header, as hexadecimal digits. */
#define HEADER                                                                 \
    "a2"                                                                       \
    "66"                                                                       \
    "666f726d6174"                                                             \
    "6c"                                                                       \
    "696b7661722e746170652f32"                                                 \
    "66"                                                                       \
    "686561646572"                                                             \
    "80"
#define KEY_DOWN                                                               \
    "a2"                                                                       \
    "64"                                                                       \
    "6b696e64"                                                                 \
    "68"                                                                       \
    "6b65792e646f776e"                                                         \
    "66"                                                                       \
    "6669656c6473"
static const struct {
    const char *what, *bytes, *says;
} hostile_table[] = {
    {"a number at the top", "05", ":2: expected a map or an array"},
    {"a tag", "c1a0", ":2: expected a map or an array"},
    {"an endless array", "9f00ff", ":2: expected a map or an array"},
    {"a short array", "8100", ":2: an array of 1, expected an event"},
    {"no kind yet", "83000000",
     ":2: an event of kind 0, expected one of the 0"},
    {"another mark",
     "84636162630000"
     "00",
     ":2: expected [\"digest\""},
    {"an end too short", "8463656e64000000", ":2: expected [\"digest\""},
    {"a bare float", "83f90000f90000f90000", ":2: expected an event's kind"},
    {"a name twice",
     "a26161006161"
     "01",
     ":2: expected a map of names"},
    {"a name that is none", "a10101", ":2: expected a map of names"},
    {"no UTF-8",
     "a16161"
     "61ff",
     ":2: expected a map of names"},
    {"too deep", "a1616181818181818181818180", ":2: expected a map of names"},
    {"a huge text", "7a00015000", ":2: the item has more than"},
    {"reserved bytes", "1c", ":2: this is no CBOR"},
    {"fields not in pairs", KEY_DOWN "8164636f6465", "fields: expected names"},
    {"a field's name that is none", KEY_DOWN "820000", "expected a string"},
    {"an unknown kind",
     "a2646b696e6464"
     "67756c6c"
     "666669656c647380"
     "83000000",
     ":3: unknown kind \"gull\""},
    {"an unknown field",
     KEY_DOWN "8264636f646163753332"
              "8400000105",
     ":3: key.down has no field \"coda\"; did you mean \"code\"?"},
    {"a bit too many",
     KEY_DOWN "80"
              "840000190fff"
              "00",
     ":3: expected an event: its kind"},
    {"a value too few",
     KEY_DOWN "8264636f646563753332"
              "83000001",
     ":3: expected an event: its kind"},
    {"a text for a code",
     KEY_DOWN "8264636f646563753332"
              "840000016161",
     ":3: "},
    {"a code that is too large",
     KEY_DOWN "8264636f646563753332"
              "840000011b0000000100000000",
     ":3: "},
    {"a lane that is too large",
     KEY_DOWN "80"
              "840000041a00010000",
     ":3: lane: expected a whole number"},
    {"a flush that is too large",
     KEY_DOWN "80"
              "8400001880190100",
     ":3: flush: expected a whole number"},
    {"held, but false",
     KEY_DOWN "80"
              "84000008f4",
     ":3: held: expected true"},
    {"due before 0",
     KEY_DOWN "80"
              "840000013"
              "863",
     ":3: due: it is before 0"},
    {"before 0",
     KEY_DOWN "80"
              "83002000",
     ":3: the event's time is below 0"},
    {"late",
     KEY_DOWN "80"
              "83001b00ffffffffffffff00",
     ":3: the event's time is beyond"},
    {"due too late",
     KEY_DOWN "80"
              "840000011b4000000000000000",
     ":3: due: expected a whole number"},
    {"no number",
     "a2646b696e646c706f696e7465722e6d6f7665666669656c6473826178636633328400000"
     "1"
     "f97e00",
     ":3: /x: expected a value that JSON has"},
    {"an infinite one",
     "a2646b696e646c706f696e7465722e6d6f7665666669656c6473826178636633328400000"
     "1"
     "fa7f800000",
     ":3: /x: expected a value that JSON has"},
    {"a collection for a value",
     KEY_DOWN "8264636f646563753332"
              "8400000180",
     ":3: value 1: expected"},
};

START_TEST(hostile)
{
    char text[512];
    snprintf(text, sizeof text, "%s%s", HEADER, hostile_table[_i].bytes);
    FILE *file = fopen("hostile.tape.cbor", "w");
    for (size_t i = 0; text[i] != '\0' && text[i + 1] != '\0'; i += 2) {
        char digits[3] = {text[i], text[i + 1], '\0'};
        putc((int)strtoul(digits, NULL, 16), file);
    }
    if (strstr(hostile_table[_i].says, "has more than") != NULL)
        fprintf(file, "%90000d", 7);
    fclose(file);
    ikv_tape *tape;
    ikv_event event;
    ikv_message message = {""};
    ikv_status status =
        ikv_tape_open("hostile.tape.cbor", NULL, &tape, &message);
    ck_assert_msg(status == IKV_OK, "%s", message.text);
    while ((status = ikv_tape_next(tape, &event, NULL, &message)) == IKV_OK) {
    }
    status_is(status, IKV_BAD_FILE);
    ck_assert_msg(strstr(message.text, hostile_table[_i].says) != NULL,
                  "%s: %s", hostile_table[_i].what, message.text);
    ikv_tape_close(tape);
}
END_TEST

Suite *binary_suite(void)
{
    Suite *s = suite_create("binary");
    add(s, "T1 there and back", there_and_back);
    add(s, "T4 names and numbers beside each other", names_and_numbers);
    add(s, "T1 recorded and found", recorded);
    add_table(s, "T1 wrong use", wrong_use, ROWS(wrong_table));
    add(s, "T4 torn at every byte", torn);
    add_table(s, "T4 hostile items", hostile, ROWS(hostile_table));
    return s;
}
