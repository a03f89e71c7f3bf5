/* test_tool.c - the command, the examples and the installed library, as
 * processes. */
#define _GNU_SOURCE
#include "support.h"

#define TOOL BINARY "/ikvar"

static char output[1 << 20];

/* Each runs and its whole output is compared. */
#define DEMO_RUN                                                               \
    SOURCE "/demo/harbour.setup.json " SOURCE "/demo/harbour.tape.jsonl"

static const struct {
    const char *command, *golden;
} golden_table[] = {
    {TOOL " demo --out seen", "demo.txt"},
    {TOOL " demo --json", "demo.trace.jsonl"},
    {TOOL " kinds", "kinds.txt"},
    {TOOL " kinds pointer.down", "kinds-pointer.down.txt"},
    {TOOL " kinds --find tap", "kinds-tap.txt"},
    {TOOL " run " SOURCE "/tests/golden/reactions.setup.json " SOURCE
          "/tests/golden/reactions.tape.jsonl",
     "reactions.txt"},
    {TOOL " help", "help.txt"},
    /* but for how long it takes on this machine */
    {BINARY "/ikvar run --stats " DEMO_RUN " | sed "
            "'/^frame/,$d'",
     "stats.txt"},
    {BINARY "/ikvar run --stats --json " DEMO_RUN " | sed "
            "'/\"frame_ms\"/,$d'",
     "stats.json"},
    {BINARY "/examples/01_print_events " SOURCE "/examples/escape.tape.jsonl",
     "01_print_events.txt"},
    {BINARY "/examples/02_topmost", "02_topmost.txt"},
    {BINARY "/examples/03_now_or_later", "03_now_or_later.txt"},
    {BINARY "/examples/04_own_handlers", "04_own_handlers.txt"},
    {BINARY "/examples/05_filters", "05_filters.txt"},
    {BINARY "/examples/06_two_layers", "06_two_layers.txt"},
    {BINARY "/examples/07_worker", "07_worker.txt"},
    {BINARY "/examples/08_who_hears_what", "08_who_hears_what.txt"},
    {BINARY "/examples/09_drag", "09_drag.txt"},
    {BINARY "/examples/10_two_fingers", "10_two_fingers.txt"},
    {BINARY "/examples/11_zoom", "11_zoom.txt"},
    {BINARY "/examples/12_focus_and_text", "12_focus_and_text.txt"},
    {BINARY "/examples/13_own_picking", "13_own_picking.txt"},
    {BINARY "/examples/14_record_a_bug", "14_record_a_bug.txt"},
    {BINARY "/examples/15_frame_rates", "15_frame_rates.txt"},
    {BINARY "/examples/16_rollback", "16_rollback.txt"},
    {BINARY "/examples/17_host_calls_us", "17_host_calls_us.txt"},
    {BINARY "/examples/18_actions", "18_actions.txt"},
    {"rm -f saved.bindings.json; " BINARY
     "/examples/19_rebinding saved.bindings.json",
     "19_rebinding.txt"},
    {BINARY "/examples/20_zones", "20_zones.txt"},
    {BINARY "/examples/21_standing", "21_standing.txt"},
    {BINARY "/examples/22_state", "22_state.txt"},
    {BINARY "/examples/23_own_collision", "23_own_collision.txt"},
    {BINARY "/examples/24_own_loop", "24_own_loop.txt"},
    {BINARY "/examples/25_why", "25_why.txt"},
    {BINARY "/examples/26_console", "26_console.txt"},
    {BINARY "/examples/27_draw", "27_draw.txt"},
    {BINARY "/examples/28_crates_into_slots", "28_crates_into_slots.txt"},
    {BINARY "/examples/29_pause_menu", "29_pause_menu.txt"},
    {BINARY "/examples/30_two_players", "30_two_players.txt"},
    {BINARY "/examples/31_menu_by_pad", "31_menu_by_pad.txt"},
    {BINARY "/examples/32_blast_radius", "32_blast_radius.txt"},
    {BINARY "/examples/33_network_player", "33_network_player.txt"},
    {BINARY "/examples/34_bindings_over_an_update player.bindings.json",
     "34_bindings_over_an_update.txt"},
    {BINARY "/examples/35_edit_while_it_runs", "35_edit_while_it_runs.txt"},
    {BINARY "/examples/36_touch_controls", "36_touch_controls.txt"},
    {BINARY "/examples/37_pick_in_3d", "37_pick_in_3d.txt"},
    {BINARY "/examples/38_host_window", "38_host_window.txt"},
    {BINARY "/examples/lambdas", "lambdas.txt"},
    {BINARY "/tests/ikvar_test_cpp", "cpp.txt"},
};

START_TEST(golden_outputs)
{
    int code =
        run_command_line(output, sizeof output, "%s", golden_table[_i].command);
    ck_assert_msg(code == 0, "%s: %d: %s", golden_table[_i].command, code,
                  output);
    expect_golden(golden_table[_i].golden, output);
}
END_TEST

#define DEMO SOURCE "/demo/harbour.setup.json "
#define TAPE SOURCE "/demo/harbour.tape.jsonl "

/* Exit codes: 0 fine, 1 the answer is no, 2 wrong use, 3 bad input. */
static const struct {
    const char *arguments;
    int code;
    const char *says;
} code_table[] = {
    {"", 2, "ikvar run SETUP [TAPE]"},
    {"version", 0, "ikvar 0.1.0"},
    {"help run", 0, "--real-time"},
    {"help nothing", 2, "unknown command \"nothing\"; expected one of demo"},
    {"dmeo", 2, "did you mean \"demo\"?"},
    {"version x", 2, "found \"x\", expected no more"},
    {"-h", 0, "ikvar demo"},
    {"help --help", 0, "ikvar demo"},
    {"help run x", 2, "found \"x\""},
    {"run --help", 0, "Usage: ikvar run [options] SETUP [TAPE]"},
    {"run --recrod x", 2,
     "--recrod: unknown option; did you mean \"--record\""},
    {"run -Z x", 2, "-Z: unknown option"},
    {"run --record", 2, "--record: its value is missing"},
    {"run --frame-hz 2.5 " DEMO, 2, "--frame-hz: expected a whole number"},
    {"kinds tap", 0, "these are known by it"},
    {"kinds wheel --json", 0, "\"name\": \"wheel\""},
    {"kinds gesture", 0, "gesture.pinch"},
    {"kinds --find pinch --json", 0, "\"name\": \"gesture.pinch\""},
    {"kinds ferry.docked " DEMO, 0, "family user"},
    {"kinds device.resync", 0, "made by    loop, tapes"},
    {"kinds loop.pause", 0, "on a tape  {\"t\":16.25,\"kind\":\"loop.pause\"}"},
    {"kinds --find a b", 2, "found both"},
    {"check --json " DEMO, 0, "\"fine\": true, \"error\": null"},
    {"check --json none.setup.json", 3, "\"error\": \"none.setup.json: can't"},
    {"check " SOURCE "/docs", 3, "Is a directory"},
    {"run --soak 1 --digest " DEMO, 2, "--soak prints sums"},
    {"run --stats --digest " DEMO, 2, "--stats prints counters"},
    {"run --soak 1 --stats " DEMO, 2, "--soak prints sums"},
    {"demo --out seen > /dev/null && head -c 4 seen/harbour.png | od -An -c", 0,
     "P   N   G"},
    {"demo --out seen > /dev/null && tail -1 seen/harbour.html", 0, "</html>"},
    {"demo --out no/such/folder > /dev/null", 3, "no/such/folder: No such"},
    {"demo --help", 0, "--json"},
    {"demo --nonsense", 2, "--nonsense: unknown option"},
    {"demo more", 2, "found \"more\", expected no argument"},
    {"run", 2, "expected SETUP [TAPE]"},
    {"run none.setup.json", 3, "none.setup.json: can't open the setup"},
    {"run " DEMO "none.tape.jsonl", 3, "none.tape.jsonl: can't open the tape"},
    {"run " DEMO "a b", 2, "expected SETUP [TAPE]"},
    {"run --port sim " DEMO, 2, "the sim port plays a tape"},
    {"run --port null " DEMO TAPE, 2, "a tape is played by the sim port"},
    {"run --port null " DEMO, 2, "give --until"},
    {"run --port null --until 30 " DEMO, 0, "dusk"},
    {"run --port mouse " DEMO, 2, "expected sim, terminal or null"},
    {"run --until abc " DEMO TAPE, 2,
     "--until: expected a number from 0 to 1e+10, found \"abc\""},
    {"run --until -5 " DEMO TAPE, 2, "expected a number from 0"},
    {"run --until 100 " DEMO TAPE, 0, "7 frames"},
    {"run --until 100 --frame-hz 240 " DEMO TAPE, 0, "25 frames"},
    {"run --until 100 --real-time " DEMO TAPE, 0, "raise_bridge"},
    {"run " TAPE, 3, "expected"},
    {"kinds nothing", 1, "there is no kind or family \"nothing\""},
    {"kinds --find zzzzzzz", 1, "no kind is known by \"zzzzzzz\""},
    {"kinds --find hovver", 1, "did you mean \"hover\"?"},
    {"kinds --find collide", 0, "overlap.enter"},
    {"kinds --find walk", 0, "action.start"},
    {"kinds pointer.dwn", 1, "did you mean \"pointer.down\"?"},
    {"kinds --json wheel", 0, "\"name\": \"wheel\""},
    {"kinds " DEMO, 0, "ferry.docked"},
    {"kinds a b", 2, "expected one name"},
    {"kinds none.json", 3, "can't open the setup"},
    {"bench --help", 0, "plain baselines"},
    {"check", 2, "expected FILE"},
    {"check --explain no-shap", 2,
     "unknown code \"no-shap\"; did you mean \"no-shape\"?; --explain all"},
    {"check --explain ''  ", 2, "unknown code \"\"; --explain all"},
    {"check --explain clash x.setup.json", 2, "--explain CODE stands alone"},
    {"check --explain clash --json", 2, "--explain CODE stands alone"},
    {"check --explain all", 0, "\n\ntorn: the file is torn at its end\n"},
    {"check " DEMO TAPE, 0, "fine: 65 events in 3200.000 ms"},
    {"check --play " DEMO TAPE, 0, ": fine: 26 handlers, 1 run\n"},
    {"check --play " SOURCE "/examples/tickets.setup.json " SOURCE
     "/examples/tickets.tape.jsonl | grep -c fine",
     0, "3\n"},
    {"check --play " DEMO TAPE " | grep -c fine", 0, "3\n"},
    {"check --play --explain clash", 2, "--explain CODE stands alone"},
    {"check none.setup.json", 3, "can't open"},
    {"check none.tape.jsonl " DEMO, 3, "none.tape.jsonl: can't open"},
    {"run --digest " DEMO TAPE, 0, " 442\n"},
    {"run --digest --frame-hz 24 " DEMO TAPE, 0, " 442\n"},
    {"run --speed 100 --digest " DEMO TAPE, 0, " 442\n"},
    {"run --speed -1 " DEMO TAPE, 2, "--speed: expected a number from 0"},
    {"run --speed 1e-300 " DEMO TAPE, 2, "expected a number from 0.001"},
    {"run --record no/such/folder " DEMO TAPE, 3, "can't write the tape"},
    {"run --soak 0.2 --seed 5 " DEMO, 0, "pointers: downs = ends + down"},
    {"run --soak 9 --until 500 --record soaked.tape.jsonl " DEMO, 0,
     "recorded: soaked.tape.jsonl"},
    {"tape verify soaked.tape.jsonl", 0, "same "},
    {"run --soak 1 " DEMO TAPE, 2, "--soak makes its input up"},
    {"run --soak 1 --seed 0 " DEMO, 2,
     "--seed: expected a whole number from 1"},
    {"tape", 2, "expected info, cut, join, convert, timeline or verify"},
    {"tape look a", 2, "found \"look\", expected info"},
    {"tape verfiy a", 2, "did you mean \"verify\"?"},
    {"tape info", 2, "expected TAPE"},
    {"tape info " TAPE, 0, "65 events in 3.200 s"},
    {"tape info --json " TAPE, 0, "\"pointer.move\": 15"},
    {"tape info none.tape.jsonl", 3, "none.tape.jsonl: can't open"},
    {"tape info " SOURCE "/tests/golden/data.tape.jsonl", 0, "2 note.dropped"},
    {"tape info --setup none.json " TAPE, 3, "none.json: can't open"},
    {"tape cut " TAPE, 2, "expected --output"},
    {"tape cut -o x.jsonl a b", 2, "expected one TAPE to cut"},
    {"tape cut -o x.jsonl --from 5 --to 4 a", 2, "the second after the first"},
    {"tape join -o x.jsonl", 2, "expected TAPE"},
    {"tape join -o x.jsonl none.tape.jsonl", 3, "can't open the tape"},
    {"tape verify", 2, "expected FOLDER or TAPE"},
    {"tape verify none", 3, "none: No such file"},
    {"tape verify " SOURCE "/docs", 3,
     "expected tapes (*.tape.jsonl, *.tape.cbor) in it"},
    {"tape verify " TAPE, 3, "the tape names no setup: give --setup"},
    {"tape verify --setup " DEMO TAPE, 1, "no digest"},
};

/* T1, T2: a recorded run plays the same; a changed one is found, with the first
 * line that differs and what came before. */
START_TEST(verified_tapes)
{
    static const char *const steps[] = {
        "mkdir -p v && cp " DEMO "v/h.setup.json",
        TOOL " run --record v/h.tape.jsonl v/h.setup.json " TAPE "> /dev/null",
        TOOL " run --json --steps-only v/h.setup.json v/h.tape.jsonl "
             "> v/h.trace.jsonl",
        TOOL " tape verify v",
        TOOL " tape verify --json v/h.tape.jsonl v/h.tape.jsonl"};
    for (int i = 0; i < ROWS(steps); i++)
        ck_assert_msg(run_command_line(output, sizeof output, "%s", steps[i]) ==
                          0,
                      "%s: %s", steps[i], output);
    ck_assert_ptr_nonnull(strstr(output, "\"verdict\": \"same\""));
    ck_assert_int_eq(
        run_command_line(output, sizeof output,
                         "sed -i '/pointer.up/s/\"x\":470/\"x\":471/' "
                         "v/h.tape.jsonl; " TOOL " tape verify v"),
        1);
    ck_assert_ptr_nonnull(strstr(output, "v/h.tape.jsonl: the traces differ in "
                                         "line "));
    ck_assert_ptr_nonnull(strstr(output, "  expected {"));
    ck_assert_ptr_nonnull(strstr(output, "\"x\":471"));
    ck_assert_ptr_nonnull(strstr(output, "differs "));
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " run v/h.setup.json "
                                           "v/h.tape.jsonl | tail -1; "
                                           "rm -r v"),
                     0);
}
END_TEST

START_TEST(exit_codes)
{
    int code = run_command_line(output, sizeof output, TOOL " %s",
                                code_table[_i].arguments);
    ck_assert_msg(code == code_table[_i].code,
                  "%s: exit code %d, expected %d: "
                  "%s",
                  code_table[_i].arguments, code, code_table[_i].code, output);
    ck_assert_msg(strstr(output, code_table[_i].says) != NULL,
                  "%s: no \"%s\" in: %s", code_table[_i].arguments,
                  code_table[_i].says, output);
}
END_TEST

/* A tape that turns bad in the middle ends the run with its message, after
 * what came before it. */
START_TEST(bad_tape_in_a_run)
{
    write_file("bad.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n"
               "{\"t\":20,\"kind\":\"key.down\",\"code\":\"KeyB\"}\n"
               "{\"t\":30,\"kind\":\"key.don\"}\n");
    int code = run_command_line(output, sizeof output,
                                TOOL " run " DEMO "bad.tape.jsonl");
    ck_assert_int_eq(code, 3);
    ck_assert_ptr_nonnull(strstr(output, "raise_bridge"));
    ck_assert_ptr_nonnull(strstr(output, "bad.tape.jsonl:3: unknown kind "
                                         "\"key.don\"; did you mean "
                                         "\"key.down\"?"));
    remove("bad.tape.jsonl");
}
END_TEST

/* Fields keep their sort, and what changes has one type: 2 becomes 2.5, a lamp
 * that is lit never 3. Large numbers are told as they are. */
START_TEST(fields_of_a_sort)
{
    static const char *const says[] = {
        "boat.load: 2 -> 2.5",
        "field load, type number, old 2, new 2.5",
        "set: boat.full is false, not 3",
        "field name, type number, old 1.5, new 4",
        "level 1e300, wide 18446744073709551615",
        "boat.load: 2.5 -> 1.8446744073709552e19",
        "move boat to 123456.75, 3\n",
        "move boat to 1, inf: BAD_ARGUMENT\n"};
    write_file(
        "boat.setup.json",
        "{\"format\":\"ikvar.setup/1\",\"announces\":true,\"kinds\":[{\"name\":"
        "\"tide.rose\",\"fields\":[{\"name\":\"level\",\"type\":\"f64\"},{"
        "\"name\":\"wide\",\"type\":\"u64\"}]}],\"targets\":[{\"id\":\"boat\","
        "\"shape\":{\"rect\":[0,0,9,9]},\"fields\":{\"load\":2,\"full\":false,"
        "\"name\":1.5}}],\"handlers\":[{\"name\":\"h\",\"kinds\":["
        "\"pointer.down\"],\"reactions\":[{\"set\":{\"target\":\"boat\","
        "\"field\":"
        "\"load\",\"value\":2.5}},{\"set\":{\"target\":\"boat\",\"field\":"
        "\"full\",\"value\":{\"field\":\"button\"}}},{\"set\":{\"target\":"
        "\"boat\",\"field\":\"name\",\"value\":4}}]},{\"name\":\"m\",\"kinds\":"
        "["
        "\"tide.rose\"],\"at\":\"boat\",\"reactions\":[{\"set\":{\"field\":"
        "\"load\",\"value\":{\"field\":\"wide\"}}},{\"move\":{\"x\":123456.75,"
        "\"y\":3}},{\"move\":{\"x\":1,\"y\":{\"field\":\"level\"}}}]},{"
        "\"name\":"
        "\"g\",\"kinds\":[\"field.set\"],\"at\":\"boat\",\"reactions\":["
        "\"stop\"]}]}");
    write_file(
        "boat.tape.jsonl",
        "{\"format\":\"ikvar.tape/2\",\"until\":60}\n"
        "{\"t\":5,\"kind\":\"pointer.down\",\"x\":3,\"y\":3,\"button\":3}\n"
        "{\"t\":15,\"kind\":\"tide.rose\",\"target\":\"boat\",\"level\":"
        "1e300,\"wide\":\"18446744073709551615\"}\n");
    run_command_line(output, sizeof output,
                     TOOL " run boat.setup.json boat.tape.jsonl");
    for (int i = 0; i < ROWS(says); i++)
        ck_assert_msg(strstr(output, says[i]) != NULL, "%s: %s", says[i],
                      output);
}
END_TEST

/* S, U: changes of the tree and of fields are events, if the setup asks for
 * them; A1: check warns of one press for two actions; A7: and reads files of
 * bindings. */
START_TEST(announced)
{
    static const char setup[] =
        "{\"format\":\"ikvar.setup/1\",%s\"targets\":[{\"id\":\"lamp\","
        "\"shape\":{\"circle\":[9,9,9]},\"fields\":{\"watts\":5,\"lit\":false}}"
        "],"
        "\"actions\":[{\"name\":\"light\",\"bindings\":[\"KeyL\"]},{\"name\":"
        "\"bell\",\"bindings\":[\"KeyL\"]},{\"name\":\"fog\",\"bindings\":["
        "\"KeyL\"],\"set\":\"helm\"}],\"sets\":[{\"name\":\"helm\"}],"
        "\"handlers\":[{\"name\":\"switch\",\"kinds\":[\"pointer.down\"],"
        "\"at\":\"lamp\",\"reactions\":[{\"toggle\":\"lit\"},{\"move\":{"
        "\"x\":3,\"y\":4}}]},{\"name\":\"glow\",\"kinds\":[\"field.set\"],"
        "\"conditions\":[{\"field\":\"field\",\"value\":\"lit\"}],"
        "\"reactions\":[{\"log\":\"it glows\"}]},{\"name\":\"shift\","
        "\"kinds\":[\"tree.move\"],\"reactions\":[{\"log\":\"it shifts\"}]}]}";
    char text[2048];
    write_file("lamp.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"until\":60}\n"
               "{\"t\":20,\"kind\":\"pointer.down\",\"x\":9,\"y\":9}\n");
    write_file("lamp.bindings.json", "{\"format\":\"ikvar.bindings/1\","
                                     "\"bindings\":{\"bel\":[\"KeyB\"]}}");
    for (int announces = 0; announces < 2; announces++) {
        snprintf(text, sizeof text, setup,
                 announces ? "\"announces\":true," : "");
        write_file("lamp.setup.json", text);
        ck_assert_int_eq(run_command_line(output, sizeof output,
                                          TOOL " run lamp.setup.json "
                                               "lamp.tape.jsonl"),
                         0);
        ck_assert_int_eq(strstr(output, "it glows") != NULL, announces);
        ck_assert_int_eq(strstr(output, "it shifts") != NULL, announces);
    }
    run_command_line(output, sizeof output,
                     TOOL " run --json lamp.setup.json lamp.tape.jsonl");
    ck_assert_ptr_nonnull(strstr(output, "\"field\":\"lit\",\"type\":\"bool\","
                                         "\"old\":false,\"new\":true"));
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " check lamp.setup.json "
                                           "lamp.bindings.json"),
                     3);
    ck_assert_ptr_nonnull(
        strstr(output, "warning: bell: KeyL starts \"light\" too"));
    ck_assert_ptr_null(strstr(output, "warning: fog: Key"));
    ck_assert_ptr_nonnull(
        strstr(output, "lamp.bindings.json: /bindings/bel: unknown action "
                       "\"bel\"; did you mean \"bell\"?"));
}
END_TEST

/* Each character is whole: as many bytes behind the first as that says. */
static bool is_utf8(const char *text)
{
    while (*text != '\0') {
        unsigned char first = (unsigned char)*text++;
        int behind = first < 0x80   ? 0
                     : first < 0xc2 ? -1
                     : first < 0xe0 ? 1
                     : first < 0xf0 ? 2
                                    : 3;
        while (behind > 0 && ((unsigned char)*text & 0xc0) == 0x80)
            behind--, text++;
        if (behind != 0)
            return false;
    }
    return true;
}

/* Names as long as they may be, of two bytes a character behind one or two that
 * are not, and a text that is longer than a line: what is cut off is not cut
 * within a character, and what is logged is whole. */
static const char *const long_commands[] = {
    "run long.setup.json long.tape.jsonl",
    "run --stats long.setup.json long.tape.jsonl",
    "run --json --scene --decisions long.setup.json long.tape.jsonl",
    "why long.setup.json long.tape.jsonl --target l%s",
    "why long.setup.json long.tape.jsonl --handler hh%s",
    "why --json long.setup.json long.tape.jsonl --handler hh%s",
    "check --play long.setup.json long.tape.jsonl"};

static void repeat(char *to, int count)
{
    for (int i = 0; i < count; i++)
        memcpy(to + 2 * i, "\xc3\xb6", 3);
}

START_TEST(long_names)
{
    char name[200], text[1024], setup[4096], command[512];
    repeat(name, 99);
    repeat(text, 400);
    snprintf(setup, sizeof setup,
             "{\"format\":\"ikvar.setup/1\",\"targets\":[{\"id\":\"l%s\","
             "\"shape\":{\"rect\":[0,0,9,9]},\"tags\":[\"%s\"]}],"
             "\"handlers\":[{\"name\":\"hh%s\",\"kinds\":[\"pointer.down\"],"
             "\"at\":\"l%s\",\"reactions\":[{\"log\":\"%s.\"}]},{\"name\":"
             "\"t\",\"kinds\":[\"wheel\"],\"at_tags\":[\"%s\"],"
             "\"reactions\":[]}]}",
             name, text, name, name, text, text);
    write_file("long.setup.json", setup);
    write_file("long.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"until\":60}\n"
               "{\"t\":20,\"kind\":\"pointer.down\",\"x\":5,\"y\":5}\n");
    snprintf(command, sizeof command, TOOL " ");
    snprintf(command + strlen(command), sizeof command - strlen(command),
             long_commands[_i], name);
    ck_assert_int_le(run_command_line(output, sizeof output, "%s", command), 1);
    ck_assert(is_utf8(output));
    ck_assert_ptr_null(strstr(output, "xc3"));
    strcat(text, ".\"\n");
    ck_assert_int_eq(strstr(output, text) != NULL, _i == 0);
}
END_TEST

/* 47: what fuzzing began with still goes through. */
static const char *const corpora[] = {
    "setup", "tape",    "trace",  "bindings", "terminal",
    "image", "program", "played", "routed",   "acted"};

START_TEST(corpus_plays)
{
    int code =
        run_command_line(output, sizeof output,
                         BINARY "/fuzz/fuzz_%s " SOURCE "/fuzz/corpus/%s/*",
                         corpora[_i], corpora[_i]);
    ck_assert_msg(code == 0, "%s: %d: %s", corpora[_i], code, output);
    ck_assert_ptr_nonnull(strstr(output, " files"));
}
END_TEST

/* The same tape gives the same log at other frame rates, but for its frames. */
START_TEST(same_log_at_any_rate)
{
    static char first[1 << 20];
    static const int rates[] = {60, 24, 144, 1000};
    for (int i = 0; i < ROWS(rates); i++) {
        run_command_line(output, sizeof output,
                         TOOL " run --frame-hz %d " DEMO TAPE
                              "| grep -v 'frames,' | grep -v docked -A 4",
                         rates[i]);
        char *end = strstr(output, "step 37");
        ck_assert_ptr_nonnull(end);
        *end = '\0'; /* what follows is deferred to the frame's end */
        if (i == 0)
            memcpy(first, output, sizeof first);
        ck_assert_str_eq(output, first);
    }
}
END_TEST

/* docs/dispatch.md shows the table that example 08 prints. */
START_TEST(table_of_dispatch)
{
    char *page = read_file(SOURCE "/docs/dispatch.md");
    run_command_line(output, sizeof output,
                     BINARY "/examples/08_who_hears_what");
    ck_assert_ptr_nonnull(strstr(page, output));
    free(page);
}
END_TEST

/* Every kind's example handler compiles as it is printed. */
START_TEST(example_handlers)
{
    FILE *file = fopen("handlers.c", "w");
    fprintf(file, "#include <ikvar/ikvar.h>\n#include <stdio.h>\n");
    char body[32768] = "void use(ikv_bus *bus, ikv_target target);\n"
                       "void use(ikv_bus *bus, ikv_target target)\n{\n";
    int kinds = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(NULL, k)) != IKV_KIND_NONE; kinds++) {
        run_command_line(output, sizeof output, TOOL " kinds %s",
                         ikv_catalogue_info(NULL, k)->name);
        char *code = strstr(output, "    static ikv_verdict");
        char *call = strstr(output, "    ikv_bus_hear(");
        ck_assert(code != NULL && call != NULL && call > code);
        fprintf(file, "%.*s\n", (int)(call - code), code);
        strncat(body, call, sizeof body - strlen(body) - 1);
        char *line = strstr(output, "on a tape  {");
        ck_assert_int_eq(line != NULL, (ikv_catalogue_info(NULL, k)->from &
                                        (IKV_FROM_P | IKV_FROM_T)) != 0);
        if (line == NULL)
            continue;
        line += strlen("on a tape  ");
        *strchr(line, '\n') = '\0';
        char tape[1024];
        snprintf(tape, sizeof tape, "{\"format\":\"ikvar.tape/2\"}\n%s\n",
                 line);
        write_file("one.tape.jsonl", tape);
        ck_assert_msg(run_command_line(output, sizeof output,
                                       TOOL " check " DEMO
                                            "one.tape.jsonl") == 0,
                      "%s: %s", line, output);
    }
    fprintf(file, "%s}\n", body);
    fclose(file);
    int code =
        run_command_line(output, sizeof output,
                         TEST_CC " -std=c11 -Wall -Wextra -Werror -I" SOURCE
                                 "/include -c handlers.c -o handlers.o");
    ck_assert_msg(code == 0, "%s", output);
    ck_assert_int_eq(kinds, 75);
    remove("handlers.c");
    remove("handlers.o");
    remove("one.tape.jsonl");
}
END_TEST

/* --------------------------------------------- the library as installed -- */

static void must(const char *format, const char *a, const char *b)
{
    char command[2048];
    snprintf(command, sizeof command, format, a, b);
    int code = run_command_line(output, sizeof output, "%s", command);
    ck_assert_msg(code == 0, "%s: %s", command, output);
}

/* The first program of the README, as it is printed there. */
static void extract_program(const char *path)
{
    char *readme = read_file(SOURCE "/README.md");
    char *begin = strstr(readme, "```c\n");
    ck_assert_ptr_nonnull(begin);
    char *end = strstr(begin + 5, "```");
    ck_assert_ptr_nonnull(end);
    *end = '\0';
    write_file(path, begin + 5);
    free(readme);
}

START_TEST(installed_library)
{
    must("rm -rf installed && cmake --install %s --prefix \"$PWD/installed\"%s",
         BINARY, "");
    must("test -x installed/bin/ikvar && installed/bin/ikvar version%s%s", "",
         "");
    /* By pkg-config, C11: the README's program. */
    extract_program("readme.c");
    setenv("PKG_CONFIG_PATH",
           "installed/lib/pkgconfig:"
           "installed/lib/x86_64-linux-gnu/pkgconfig",
           1);
    must(TEST_CC " -std=c11 -Wall -Wextra -Werror " TEST_CFLAGS
                 " readme.c -o readme $(pkg-config --cflags --libs "
                 "ikvar-host) && ! test -e installed/bin/ikvar_bench%s%s",
         "", "");
    int code = run_command_line(output, sizeof output, "./readme");
    ck_assert_int_eq(code, 0);
    expect_golden("readme.txt", output);
    /* By CMake's find_package, C11 and C++17. */
    must("rm -rf consumer && cmake -S " SOURCE "/tests/consumer -B consumer "
         "-DCMAKE_PREFIX_PATH=\"$PWD/installed\" -DCMAKE_C_COMPILER=%s "
         "-DCMAKE_CXX_COMPILER=%s "
         "-DCMAKE_C_FLAGS='" TEST_CFLAGS "' -DCMAKE_CXX_FLAGS='" TEST_CFLAGS
         "' && cmake --build consumer",
         TEST_CC, TEST_CXX);
    must("./consumer/consumer_c && ./consumer/consumer_cpp%s%s", "", "");
    /* The static libraries, as docs/build.md says. */
    must(TEST_CC
         " -std=c11 " TEST_CFLAGS
         " readme.c -o static $(pkg-config --cflags ikvar-host) "
         "-l:libikvar-host.a -l:libikvar.a -L$(pkg-config "
         "--variable=libdir ikvar) $(pkg-config --libs jansson yajl libcbor) "
         "-lm && ./static && ! ldd static | grep -q ikvar%s%s",
         "", "");
    /* 46: moved, the demo plays what lies beside it; licence and pages are
     * there. */
    must("mv installed elsewhere && elsewhere/bin/ikvar demo > /dev/null && "
         "echo spoilt > elsewhere/share/ikvar/demo/harbour.setup.json && "
         "! elsewhere/bin/ikvar demo 2> said && grep -q "
         "'elsewhere/bin/../share/ikvar/demo/harbour.setup.json:1' said && ls "
         "elsewhere/share/doc/ikvar/LICENSE "
         "elsewhere/share/doc/ikvar/docs/build.md%s%s",
         "", "");
    must("rm -rf elsewhere consumer readme static said readme.c%s%s", "", "");
}
END_TEST

/* 46: builds of others. In another project's build it has names of its own, and
 * installs nothing. */
static const struct {
    const char *what, *commands;
} build_table[] = {
    {"a subdirectory",
     "mkdir -p host/core && cp " SOURCE "/tests/consumer/consumer.c host && "
     "echo 'cmake_minimum_required(VERSION 3.25)\nproject(host LANGUAGES C)\n"
     "add_library(core STATIC consumer.c)\nadd_library(host STATIC "
     "consumer.c)\nadd_custom_target(tool)\nadd_subdirectory(" SOURCE
     " ikvar)\nadd_executable(consumer consumer.c)\ntarget_link_libraries("
     "consumer PRIVATE ikvar::core)\ntarget_link_libraries(core PRIVATE "
     "ikvar::core)\ntarget_link_libraries(host PRIVATE ikvar::core)\n"
     "install(TARGETS consumer)' > host/CMakeLists.txt && cmake -S host -B "
     "host/build -DCMAKE_UNITY_BUILD=ON -DIKV_HOST=ON && cmake --build "
     "host/build && host/build/consumer && cmake "
     "--install host/build --prefix \"$PWD/host/to\" && test \"$(find host/to "
     "-type "
     "f)\" = \"host/to/bin/consumer\""},
    {"no shared libraries",
     "cmake -S " SOURCE " -B bare -DCMAKE_SYSTEM_NAME=Generic "
     "-DCMAKE_TRY_COMPILE_TARGET_TYPE=STATIC_LIBRARY -DIKV_HOST=OFF "
     "-DIKV_SINGLE_THREAD=ON && cmake --build bare && cmake --install bare "
     "--prefix \"$PWD/bare/to\" && ls bare/to/lib/libikvar.a && ! ls "
     "bare/to/lib/*.so"},
    {"what is not used",
     "cmake -S " SOURCE " -B small -DCMAKE_BUILD_TYPE=Release -DIKV_HOST=OFF "
     "-DIKV_TOOL=OFF -DIKV_EXAMPLES=OFF -DIKV_SHARED=OFF && cmake --build "
     "small "
     "&& " TEST_CC " -std=c11 -O2 -I" SOURCE "/include " SOURCE
     "/tests/consumer/loop_only.c small/libikvar.a -Wl,--gc-sections -o small/"
     "loop_only && small/loop_only && ! nm small/loop_only | grep -E "
     "'ikvi?_(scene|state|router|gesture|overlap|touch|near|action|input|image|"
     "kit|digest)' && " TEST_CC " -std=c11 -O2 -I" SOURCE "/include " SOURCE
     "/tests/consumer/routed.c small/libikvar.a -Wl,--gc-sections -o small/"
     "routed && small/routed && ! nm small/routed | grep -E "
     "'ikvi?_(state|overlap|touch|near|action|image|kit_open|digest)' "
     "&& " TEST_CC " -std=c11 -O2 -I" SOURCE "/include " SOURCE
     "/tests/consumer/tiny.c "
     "small/libikvar.a -o small/tiny && small/tiny"},
    {"what is left out",
     "cmake -S " SOURCE " -B without -DIKV_HOST=OFF -DIKV_TOOL=OFF "
     "-DIKV_EXAMPLES=OFF "
     "'-DIKV_WITHOUT=texts;conditions;timers;index;gestures' && cmake --build "
     "without && " TEST_CC " -std=c11 -I" SOURCE "/include " SOURCE
     "/tests/consumer/without.c without/libikvar.a -o without/program && "
     "without/program && for wrong in 'pictures;-DIKV_HOST=OFF' 'texts;'; do "
     "rm -rf wrong; ! cmake -S " SOURCE
     " -B wrong \"-DIKV_WITHOUT=${wrong%;*}\" "
     "${wrong#*;} 2> wrong.txt && tr '\\n' ' ' < wrong.txt | grep -q "
     "\"IKV_WITHOUT has .${wrong%;*}.: \" || exit 1; done"},
    {"no compiler of C++",
     "CXX=/nonexistent cmake -S " SOURCE " -B plain -DIKV_TOOL=OFF && cmake "
     "--build plain --target ikvar_host ikvar_example_02_topmost && "
     "plain/examples/02_topmost > /dev/null"},
};

START_TEST(built_elsewhere)
{
    int code =
        run_command_line(output, sizeof output, "%s", build_table[_i].commands);
    ck_assert_msg(code == 0, "%s: %s", build_table[_i].what, output);
    run_command_line(output, sizeof output,
                     "rm -rf host bare plain small without "
                     "wrong wrong.txt");
}
END_TEST

/* 47: what programs of the interface are told is what it was when these numbers
 * were written. If it is meant to be another, write them anew; what is different
 * shows in what both builds say with --tell. */
START_TEST(programs_as_they_were)
{
    char name[64];
    int seed = 7 + _i, code = run_command_line(output, sizeof output,
                                               BINARY "/fuzz/fuzz_program "
                                                      "--made %d 200",
                                               seed);
    ck_assert_msg(code == 0, "%s", output);
    snprintf(name, sizeof name, "programs-%d.txt", seed);
    expect_golden(name, output);
}
END_TEST

/* T1: such games, with hosts and other threads, are told the same when they are
 * played, at another frame rate. OVER1 to OVER7, CAP1 to CAP9, TOUCH1 to TOUCH6,
 * GONE1 to GONE5, CLICK1, HIT4, FOCUS1 to FOCUS4, MODAL1 to MODAL5, A1 to A3, A5, A9:
 * whatever comes in, and handlers do, is told as a model of the rules tells it. */
static const struct {
    const char *program;
    int seed, count;
} made_up_table[] = {{"played", 302, 60}, {"played", 303, 60},
                     {"routed", 1, 500},  {"routed", 2, 500},
                     {"routed", 3, 500},  {"routed", 4, 500},
                     {"acted", 1, 1000},  {"acted", 2, 1000}};

START_TEST(made_up)
{
    int code = run_command_line(
        output, sizeof output, BINARY "/fuzz/fuzz_%s --made %d %d",
        made_up_table[_i].program, made_up_table[_i].seed,
        made_up_table[_i].count);
    ck_assert_msg(code == 0, "%s", output);
}
END_TEST

Suite *programs_suite(void)
{
    Suite *s = suite_create("programs");
    add_table(s, "47 programs as they were", programs_as_they_were, 4);
    add_table(s, "T1 OVER CAP GONE made up", made_up, ROWS(made_up_table));
    return s;
}

Suite *tool_suite(void)
{
    Suite *s = suite_create("tool");
    add_table(s, "outputs", golden_outputs, ROWS(golden_table));
    add_table(s, "exit codes", exit_codes, ROWS(code_table));
    add(s, "bad tape", bad_tape_in_a_run);
    add(s, "announces", announced);
    add(s, "fields of a sort", fields_of_a_sort);
    add_table(s, "long names", long_names, ROWS(long_commands));
    add(s, "T1 verify", verified_tapes);
    add(s, "L1 rates", same_log_at_any_rate);
    add(s, "E2 examples", example_handlers);
    add(s, "PATH8 table", table_of_dispatch);
    add_table(s, "47 corpora", corpus_plays, ROWS(corpora));
    add(s, "46 installed", installed_library);
    add_table(s, "46 built elsewhere", built_elsewhere, ROWS(build_table));
    return s;
}
