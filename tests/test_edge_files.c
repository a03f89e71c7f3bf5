/* test_edge_files.c - files at the edges: torn, cut and joined, onto what is
 * read, without memory or room, under other locales. Cases are
 * named by the entries of docs/reliability.md. */
#define _GNU_SOURCE
#include "support.h"

#include <jansson.h>

#include <locale.h>
#include <math.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#define TOOL BINARY "/ikvar"

static char output[1 << 16];

/* --------------------------------------------------------- a small world -- */

static const char pier[] =
    "{\"format\":\"ikvar.setup/1\",\"view\":{\"width\":64,\"height\":36},"
    "\"announces\":true,\"kinds\":[{\"name\":\"tide.computed\",\"fields\":["
    "{\"name\":\"level\",\"type\":\"f32\"}]}],"
    "\"layers\":[{\"name\":\"water\"},{\"name\":\"glass\"}],"
    "\"targets\":[{\"id\":\"pier\",\"layer\":\"water\",\"shape\":{\"rect\":[0,"
    "0,"
    "64,36]},\"tags\":[\"ground\"],\"focusable\":true},{\"id\":\"lamp\","
    "\"parent\":\"pier\",\"shape\":{\"circle\":[10,10,6]},\"senses\":["
    "\"ground\"],\"tags\":[\"light\"],\"fields\":{\"lit\":false}}],"
    "\"actions\":[{\"name\":\"horn\",\"bindings\":[\"KeyF\",{\"press\":"
    "\"KeyG\","
    "\"within\":\"pier\"},{\"press\":\"KeyH\",\"layer\":\"glass\"},"
    "{\"press\":\"KeyJ\",\"on_body\":\"lamp\"},"
    "{\"press\":\"KeyK\",\"tagged\":[\"light\"]}]}],"
    "\"handlers\":[{\"name\":\"tap\",\"kinds\":[\"pointer.click\",\"pointer."
    "down\"],"
    "\"at\":\"lamp\",\"conditions\":[{\"field\":\"x\",\"comparison\":\"above\","
    "\"value\":1.5}],\"reactions\":[{\"toggle\":\"lit\"},{\"defer\":{\"kind\":"
    "\"tide.computed\",\"level\":0.25}}]},{\"name\":\"tide\",\"kinds\":["
    "\"tide.computed\",\"pointer.drag\",\"action.start\",\"action.hold\","
    "\"key.down\",\"overlap.enter\"],\"reactions\":[{\"log\":\"heard\"}]}]}";

/* Pauses, scales, drops, single steps, inboxes, gestures, text. */
static const char evening[] =
    "{\"format\":\"ikvar.tape/"
    "2\",\"setup\":\"pier.setup.json\",\"until\":1200}\n"
    "{\"t\":5,\"kind\":\"pointer.move\",\"x\":10.5,\"y\":10}\n"
    "{\"t\":20,\"play\":\"drag\",\"path\":[[10,10],[30,20],[50,5]],\"ms\":300}"
    "\n"
    "{\"t\":60,\"kind\":\"key.down\",\"code\":\"KeyF\",\"modifiers\":["
    "\"shift\"]}\n"
    "{\"t\":100,\"kind\":\"tide.computed\",\"due\":100,\"lane\":\"step\","
    "\"level\":"
    "1}\n"
    "{\"t\":110,\"kind\":\"tide.computed\",\"due\":110,\"lane\":\"frame\","
    "\"level\""
    ":2.5}\n"
    "{\"t\":130,\"play\":\"tap\",\"x\":10,\"y\":10,\"pointer\":5,\"count\":2}\n"
    "{\"t\":160,\"kind\":\"key.up\",\"code\":\"KeyF\"}\n"
    "{\"t\":400,\"kind\":\"loop.pause\"}\n"
    "{\"t\":420,\"kind\":\"pointer.down\",\"x\":9,\"y\":9,\"due\":400,"
    "\"between\":3"
    "}\n"
    "{\"t\":430,\"kind\":\"pointer.move\",\"x\":9.5,\"y\":9,\"due\":400,"
    "\"between\""
    ":3}\n"
    "{\"t\":440,\"kind\":\"pointer.up\",\"x\":9,\"y\":9,\"due\":400,"
    "\"between\":4}"
    "\n"
    "{\"t\":500,\"kind\":\"loop.single\",\"due\":400,\"between\":5}\n"
    "{\"t\":600,\"kind\":\"loop.resume\",\"due\":416.666666,\"between\":6}\n"
    "{\"t\":700,\"kind\":\"key.down\",\"code\":\"KeyG\",\"due\":500}\n"
    "{\"t\":740,\"kind\":\"loop.scale\",\"seconds\":0.5,\"due\":520}\n"
    "{\"t\":800,\"kind\":\"key.up\",\"code\":\"KeyG\",\"due\":560}\n"
    "{\"t\":820,\"kind\":\"text.input\",\"text\":\"caf\\u00e9 "
    "\\\"x\\\"\",\"due\":"
    "570}\n"
    "{\"t\":1000,\"kind\":\"loop.dropped\",\"due\":700,\"lost\":50}\n"
    "{\"t\":1100,\"kind\":\"pointer.down\",\"x\":10,\"y\":10,\"due\":800}\n"
    "{\"t\":1150,\"kind\":\"pointer.up\",\"x\":10,\"y\":10,\"due\":850}\n";

/* Each test has a folder of its own, and leaves nothing. */
static char folder[32];

static void enter_folder(void)
{
    snprintf(folder, sizeof folder, "files-XXXXXX");
    ck_assert_ptr_nonnull(mkdtemp(folder));
    ck_assert_int_eq(chdir(folder), 0);
}

static void leave_folder(void)
{
    ck_assert_int_eq(chdir(".."), 0);
    run_command_line(output, sizeof output, "rm -r %s", folder);
}

static void write_world(void)
{
    write_file("pier.setup.json", pier);
    write_file("evening.tape.jsonl", evening);
}

/* A tape that has been played, and what came of it. */
typedef struct played {
    ikv_comparison_result result;
    uint64_t events;
} played;

static played play(const char *setup_path, const char *tape_path,
                   const char *recorded)
{
    played p = {0};
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_kit *kit;
    ikv_port port;
    ikv_message message;
    ikv_recording *recording = NULL;
    ikv_comparison *comparison;
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    ck_assert_msg(ikv_setup_read(setup_path, &setup, &message) == IKV_OK, "%s",
                  message.text);
    ck_assert_msg(ikv_tape_open(tape_path, setup, &tape, &message) == IKV_OK,
                  "%s", message.text);
    sim.tape = tape;
    ok(ikv_sim_open(&sim, &port));
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ok(ikv_setup_size(setup, &config));
    ok(ikv_kit_open(&config, &kit));
    ck_assert_msg(ikv_setup_apply(setup, kit, 0, &message) == IKV_OK, "%s",
                  message.text);
    if (recorded != NULL) {
        ikv_recording_config to = IKV_RECORDING_INIT;
        to.path = recorded;
        to.kit = kit;
        to.setup = setup;
        to.setup_path = setup_path;
        ok(ikv_recording_open(&to, &recording, &message));
    }
    ok(ikv_comparison_open(kit, tape, &comparison));
    ikv_loop *loop = ikv_kit_loop(kit);
    while (whole_frame(loop)) {
    }
    p.events = loop_counts(loop).routed;
    ok(ikv_recording_close(recording, &message));
    p.result = ikv_comparison_close(comparison);
    ck_assert_msg(ikv_sim_fault(&port) == NULL, "%s", ikv_sim_fault(&port));
    ikv_kit_close(kit);
    ikv_sim_close(&port);
    ikv_tape_close(tape);
    ikv_setup_close(setup);
    return p;
}

static uint64_t count_events(const char *path, ikv_message *message,
                             ikv_status *status, char warning[256])
{
    ikv_tape *tape;
    ikv_event event;
    uint64_t count = 0;
    *status = ikv_tape_open(path, NULL, &tape, message);
    warning[0] = '\0';
    if (*status < 0)
        return 0;
    while ((*status = ikv_tape_next(tape, &event, NULL, message)) == IKV_OK)
        count++;
    if (ikv_tape_warning(tape) != NULL)
        snprintf(warning, 256, "%s", ikv_tape_warning(tape));
    ikv_tape_close(tape);
    return count;
}

/* ------------------------------------------------------------- 10 torn -- */

static const char torn_header[] = "{\"format\":\"ikvar.tape/2\"}\n";

/* Lines that are read quickly and lines that are not. */
static const char *const torn_lines[] = {
    "{\"t\":1,\"kind\":\"key.down\",\"code\":\"KeyA\"}\n",
    "{\"t\":2.5,\"kind\":\"pointer.move\",\"x\":12.25,\"y\":3}\n",
    "{\"t\":3,\"kind\":\"text.input\",\"text\":\"a \\\"}\\u00e9\\n\"}\n",
    "{\"t\":4,\"kind\":\"pointer.up\",\"modifiers\":[\"shift\",\"alt\"]}\n",
    "{\"t\":5,\"kind\":\"wheel\",\"dy\":-1e-3,\"note\":{\"a\":[1,2]}}\n"};

/* Cut at every byte: what came before is read, what is whole is read, and a
 * torn last line is left out with a warning that names it. */
START_TEST(torn_anywhere)
{
    char text[1024], warning[256], place[64];
    ikv_message message;
    ikv_status status;
    size_t begins[ROWS(torn_lines) + 1], used = strlen(torn_header);
    memcpy(text, torn_header, used + 1);
    for (int i = 0; i < ROWS(torn_lines); i++) {
        begins[i] = used;
        used += (size_t)snprintf(text + used, sizeof text - used, "%s",
                                 torn_lines[i]);
    }
    begins[ROWS(torn_lines)] = used;
    for (size_t cut = begins[0]; cut <= used; cut++) {
        FILE *file = fopen("torn.tape.jsonl", "w");
        fwrite(text, 1, cut, file);
        fclose(file);
        uint64_t whole = 0;
        while (whole < ROWS(torn_lines) && begins[whole + 1] <= cut + 1)
            whole++; /* the line's end may be missing */
        bool torn = begins[whole] < cut;
        uint64_t found =
            count_events("torn.tape.jsonl", &message, &status, warning);
        ck_assert_msg(status == IKV_ENDED, "cut at %zu: %s", cut, message.text);
        ck_assert_msg(found == whole, "cut at %zu: %d events, expected %d", cut,
                      (int)found, (int)whole);
        snprintf(place, sizeof place,
                 "torn.tape.jsonl:%d: the last line is torn", (int)whole + 2);
        ck_assert_msg((strstr(warning, place) != NULL) == torn,
                      "cut at %zu: \"%s\"", cut, warning);
    }
}
END_TEST

/* Anywhere else it is an error at that line, and so is what is whole but wrong;
 * a tail of zero bytes is what a lost power leaves. */
static const struct {
    const char *end;
    size_t length; /* 0: strlen() */
    ikv_status status;
    const char *says;
} torn_table[] = {
    {"{\"t\":1,\"kind\":\"key.do\n{\"t\":2,\"kind\":\"wheel\"}\n", 0,
     IKV_BAD_FILE, "torn.tape.jsonl:2: column"},
    {"{\"t\":1,\"kind\":\"wheel\",}", 0, IKV_BAD_FILE, "torn.tape.jsonl:2:"},
    {"{\"t\":1,\"kind\":\"wheel\"}}", 0, IKV_BAD_FILE, "torn.tape.jsonl:2:"},
    {"{\"t\":1,\"kind\":\"wheel\"} {\"t\":2,\"kind\":\"wheel\"}\n", 0,
     IKV_BAD_FILE, "torn.tape.jsonl:2:"},
    {"{\"t\":1,\"kind\":\"wheel\"", 0, IKV_ENDED,
     "line is torn after 21 bytes"},
    {"{\"t\":1,\"kind\":\"wheel\"\n", 0, IKV_BAD_FILE, "torn.tape.jsonl:2:"},
    {"\0\0\0\0\0\0\0\0", 8, IKV_ENDED, "line is torn after 8 bytes"},
    {"nonsense", 0, IKV_BAD_FILE, "torn.tape.jsonl:2:"},
};

START_TEST(torn_or_wrong)
{
    char warning[256];
    ikv_message message;
    ikv_status status;
    FILE *file = fopen("torn.tape.jsonl", "w");
    fputs(torn_header, file);
    fwrite(torn_table[_i].end, 1,
           torn_table[_i].length != 0 ? torn_table[_i].length
                                      : strlen(torn_table[_i].end),
           file);
    fclose(file);
    count_events("torn.tape.jsonl", &message, &status, warning);
    status_is(status, torn_table[_i].status);
    const char *said = status < 0 ? message.text : warning;
    ck_assert_msg(strstr(said, torn_table[_i].says) != NULL,
                  "no \"%s\" in \"%s\"", torn_table[_i].says, said);
}
END_TEST

/* A header that is torn is none, on whichever line it stands. */
static const char *const torn_headers[] = {
    "{\"format\":\"ikvar.ta", "\n{\"format\":\"ikvar.ta",
    "\n\n{\"t\":5,\"kind\":\"wheel\",\"x\":", "\n{\"t\":5,\"kind\":\"wheel\"}"};

START_TEST(torn_at_once)
{
    ikv_message message = {""};
    ikv_status status;
    char warning[256];
    ikv_tape_part part = {"torn.tape.jsonl", 0, 0};
    write_file("torn.tape.jsonl", torn_headers[_i]);
    count_events("torn.tape.jsonl", &message, &status, warning);
    status_is(status, IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "torn.tape.jsonl:"));
    message.text[0] = '\0';
    status_is(ikv_tape_join(&part, 1, "joined.tape.jsonl", &message),
              IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "torn.tape.jsonl:"));
    ck_assert_int_ne(access("joined.tape.jsonl", F_OK), 0);
}
END_TEST

/* A recording that was killed is NAME.part; verify says how far its checks
 * agree, run and info say that it is torn; and what NAME was is still there. */
START_TEST(killed_recording)
{
    write_world();
    play("pier.setup.json", "evening.tape.jsonl", "old.tape.jsonl");
    char *before = read_file("old.tape.jsonl");
    pid_t child = fork();
    if (child == 0) {
        ikv_setup *setup;
        ikv_kit *kit;
        ikv_port port;
        ikv_sim_config sim = IKV_SIM_INIT;
        ikv_kit_config config = IKV_KIT_INIT;
        ikv_recording_config to = IKV_RECORDING_INIT;
        ikv_recording *recording;
        ikv_setup_read("pier.setup.json", &setup, NULL);
        sim.seed = 3;
        sim.view_width = 64;
        sim.view_height = 36;
        ikv_sim_open(&sim, &port);
        config.memory = ikv_host_memory();
        config.ports = &port;
        config.port_count = 1;
        ikv_setup_size(setup, &config);
        ikv_kit_open(&config, &kit);
        ikv_setup_apply(setup, kit, 0, NULL);
        to.path = "old.tape.jsonl";
        to.kit = kit;
        to.setup = setup;
        to.setup_path = "pier.setup.json";
        if (ikv_recording_open(&to, &recording, NULL) < 0)
            _exit(1);
        for (int i = 0; i < 900 && whole_frame(ikv_kit_loop(kit)); i++) {
        }
        raise(SIGKILL);
    }
    int status;
    waitpid(child, &status, 0);
    ck_assert(WIFSIGNALED(status));
    char *after = read_file("old.tape.jsonl");
    ck_assert_str_eq(before, after);
    struct stat about;
    ck_assert_int_eq(stat("old.tape.jsonl.part", &about), 0);
    ck_assert_int_gt(about.st_size, 2000);
    ck_assert_int_eq(truncate("old.tape.jsonl.part", about.st_size - 9), 0);
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " tape verify old.tape.jsonl.part"),
                     1);
    ck_assert_ptr_nonnull(strstr(output, "the last line is torn"));
    ck_assert_ptr_nonnull(strstr(output, "on the way agree, up to step "));
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " tape info old.tape.jsonl.part"),
                     0);
    ck_assert_ptr_nonnull(strstr(output, "warning: old.tape.jsonl.part:"));
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " run -d pier.setup.json "
                                           "old.tape.jsonl.part"),
                     0);
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " check pier.setup.json "
                                           "old.tape.jsonl.part"),
                     0);
    ck_assert_ptr_nonnull(strstr(output, "old.tape.jsonl.part: 1 warning"));
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " tape join old.tape.jsonl.part -o "
                                           "new.tape.jsonl"),
                     0);
    free(before);
    free(after);
}
END_TEST

/* ------------------------------------------------------ 11 cut and join -- */

static void cut_at(const char *path, uint64_t at_ns, const char *joined)
{
    ikv_message message = {""};
    ikv_tape_part first = {path, 0, at_ns}, second = {path, at_ns, 0};
    ck_assert_msg(ikv_tape_join(&first, 1, "cut1.tape.jsonl", &message) ==
                      IKV_OK,
                  "%s", message.text);
    ck_assert_msg(ikv_tape_join(&second, 1, "cut2.tape.jsonl", &message) ==
                      IKV_OK,
                  "%s", message.text);
    ikv_tape_part both[] = {{"cut1.tape.jsonl", 0, 0},
                            {"cut2.tape.jsonl", 0, 0}};
    ck_assert_msg(ikv_tape_join(both, 2, joined, &message) == IKV_OK, "%s",
                  message.text);
}

/* Cut anywhere and joined again, the digest is the whole's: of a tape made by
 * hand, of its recording, and of what hands and broken hardware did. */
START_TEST(cut_anywhere)
{
    write_world();
    const char *path = "evening.tape.jsonl";
    if (_i >= 1)
        play("pier.setup.json", "evening.tape.jsonl", "r.tape.jsonl");
    if (_i == 2) { /* a recording of a joined tape */
        cut_at("r.tape.jsonl", 333000001, "j.tape.jsonl");
        play("pier.setup.json", "j.tape.jsonl", "r.tape.jsonl");
    }
    if (_i == 3)
        run_command_line(output, sizeof output,
                         TOOL " run --soak 20 --until 1500 --seed 7 --record "
                              "r.tape.jsonl pier.setup.json");
    if (_i >= 1)
        path = "r.tape.jsonl";
    played whole = play("pier.setup.json", path, NULL);
    ck_assert_uint_gt(whole.result.deliveries, 60);
    for (uint64_t at = 1; at < 1400; at += _i == 3 ? 173 : 37) {
        cut_at(path, at * 1000000 + at, "joined.tape.jsonl");
        played again = play("pier.setup.json", "joined.tape.jsonl", NULL);
        ck_assert_msg(again.result.digest == whole.result.digest &&
                          again.result.deliveries == whole.result.deliveries,
                      "cut at %d ms: %llu deliveries, expected %llu", (int)at,
                      (unsigned long long)again.result.deliveries,
                      (unsigned long long)whole.result.deliveries);
    }
}
END_TEST

/* The new tape names the setup as seen from its own folder; parts of other
 * rates or timings are refused; groups of two tapes stay apart. */
START_TEST(parts_that_fit)
{
    ikv_message message;
    ikv_tape *tape;
    ikv_event event;
    ikv_intake intake;
    mkdir("sub", 0700);
    write_world();
    ikv_tape_part part = {"evening.tape.jsonl", 0, 0};
    ok(ikv_tape_join(&part, 1, "sub/new.tape.jsonl", &message));
    ok(ikv_tape_open("sub/new.tape.jsonl", NULL, &tape, &message));
    ck_assert_str_eq(ikv_tape_about(tape).setup, "../pier.setup.json");
    ikv_tape_close(tape);
    write_file("a.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"steps\":60,\"until\":10}\n"
               "{\"t\":1,\"kind\":\"wheel\",\"due\":0,\"between\":7}\n");
    write_file("b.tape.jsonl", "{\"format\":\"ikvar.tape/2\",\"steps\":30}\n");
    write_file("c.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"timing\":\"at_frame\"}\n");
    ikv_tape_part two[] = {{"a.tape.jsonl", 0, 0}, {"b.tape.jsonl", 0, 0}};
    status_is(ikv_tape_join(two, 2, "new.tape.jsonl", &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "b.tape.jsonl:1: recorded at 30 "
                                               "steps in 1 s, but"));
    two[1].path = "c.tape.jsonl";
    status_is(ikv_tape_join(two, 2, "new.tape.jsonl", &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "timing is at_frame"));
    ck_assert_int_ne(access("new.tape.jsonl", F_OK), 0);
    two[1].path = "a.tape.jsonl";
    ok(ikv_tape_join(two, 2, "new.tape.jsonl", &message));
    ok(ikv_tape_open("new.tape.jsonl", NULL, &tape, &message));
    ok(ikv_tape_next(tape, &event, &intake, NULL));
    ck_assert_uint_eq(intake.group, 7);
    ok(ikv_tape_next(tape, &event, &intake, NULL));
    ck_assert_uint_eq(intake.group, 8);
    ck_assert_uint_eq(event.time_ns, 12000000);
    ck_assert_uint_eq(intake.due_ns, 10000000);
    status_is(ikv_tape_next(tape, &event, NULL, NULL), IKV_ENDED);
    ck_assert_uint_eq(ikv_tape_about(tape).until_ns, 20000000);
    ikv_tape_close(tape);
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      "cat a.tape.jsonl | " TOOL
                                      " tape cut /dev/stdin -o /dev/stdout"),
                     0);
    ck_assert_ptr_nonnull(strstr(output, "\"between\":7"));
}
END_TEST

/* A path that JSON can't hold: it is said, and what was there stays. */
START_TEST(paths_not_utf8)
{
    static const char *const commands[] = {
        "tape join $'\\xe9/evening.tape.jsonl' -o kept.tape.jsonl",
        "run -d --record kept.tape.jsonl $'\\xe9/pier.setup.json' "
        "$'\\xe9/evening.tape.jsonl'"};
    write_world();
    write_file("kept.tape.jsonl", "what was there");
    run_command_line(output, sizeof output,
                     "bash -c \"mkdir $'\\xe9'; mv pier.setup.json "
                     "evening.tape.jsonl $'\\xe9'\"");
    for (int i = 0; i < ROWS(commands); i++) {
        int code = run_command_line(output, sizeof output,
                                    "bash -c \"" TOOL " %s\"", commands[i]);
        ck_assert_msg(code == 3 && strstr(output, "is not UTF-8") != NULL,
                      "%s: %d: %s", commands[i], code, output);
        char *kept = read_file("kept.tape.jsonl");
        ck_assert_str_eq(kept, "what was there");
        ck_assert_int_ne(access("kept.tape.jsonl.part", F_OK), 0);
        free(kept);
    }
}
END_TEST

/* --------------------------------------------------- 12 onto the input -- */

static const struct {
    const char *command;
    int code;
    const char *says;
    const char *kept; /* that must be as it was */
} onto_table[] = {
    {"tape cut evening.tape.jsonl -o evening.tape.jsonl", 3,
     "evening.tape.jsonl: it is one of the tapes that are read",
     "evening.tape.jsonl"},
    {"tape join evening.tape.jsonl link.tape.jsonl -o link.tape.jsonl", 3,
     "would destroy it", "evening.tape.jsonl"},
    {"tape join evening.tape.jsonl -o hard.tape.jsonl", 3, "would destroy it",
     "evening.tape.jsonl"},
    {"run -d --record evening.tape.jsonl pier.setup.json evening.tape.jsonl", 3,
     "it is read in this run", "evening.tape.jsonl"},
    {"run -d --record hard.tape.jsonl pier.setup.json evening.tape.jsonl", 3,
     "it is read in this run", "evening.tape.jsonl"},
    {"run -d --record pier.setup.json pier.setup.json evening.tape.jsonl", 3,
     "it is read in this run", "pier.setup.json"},
    {"run -d --record x pier.setup.json x.part", 3, "it is read in this run",
     "x.part"},
    {"run --soak 1 --record pier.setup.json pier.setup.json", 3,
     "it is the setup", "pier.setup.json"},
    {"tape join none.tape.jsonl -o other.tape.jsonl", 3, "can't open",
     "other.tape.jsonl"},
    {"tape join bad.tape.jsonl -o other.tape.jsonl", 3,
     "bad.tape.jsonl:2:", "other.tape.jsonl"},
    {"tape join evening.tape.jsonl -o /dev/full", 3, "can't write the tape",
     "evening.tape.jsonl"},
    {"run -d --record /dev/full pier.setup.json evening.tape.jsonl", 3,
     "can't write the tape", "evening.tape.jsonl"},
    {"run -d --record /dev/null pier.setup.json evening.tape.jsonl", 0, " ",
     "evening.tape.jsonl"},
    {"run --record . pier.setup.json evening.tape.jsonl", 3,
     "can't write the tape: Is a directory", "evening.tape.jsonl"},
    {"run pier.setup.json evening.tape.jsonl > /dev/full", 3,
     "can't write the output", "evening.tape.jsonl"},
    {"tape join evening.tape.jsonl -o sub/link.tape.jsonl", 0, "",
     "evening.tape.jsonl"},
};

START_TEST(onto_the_input)
{
    write_world();
    write_file("x.part", evening);
    write_file("other.tape.jsonl", "what was there");
    write_file("bad.tape.jsonl", "{\"format\":\"ikvar.tape/2\"}\n{\"t\":1\n\n");
    ck_assert_int_eq(
        run_command_line(output, sizeof output,
                         "ln -s evening.tape.jsonl link.tape.jsonl; "
                         "ln evening.tape.jsonl hard.tape.jsonl; mkdir sub; "
                         "ln -s ../other.tape.jsonl sub/link.tape.jsonl"),
        0);
    char *before = read_file(onto_table[_i].kept);
    int code = run_command_line(output, sizeof output, TOOL " %s",
                                onto_table[_i].command);
    ck_assert_msg(code == onto_table[_i].code, "%s: %d: %s",
                  onto_table[_i].command, code, output);
    ck_assert_msg(strstr(output, onto_table[_i].says) != NULL,
                  "no \"%s\" in %s", onto_table[_i].says, output);
    char *after = read_file(onto_table[_i].kept);
    ck_assert_str_eq(before, after);
    free(before);
    free(after);
    /* Nothing is left beside it; a link that was written is one still. */
    ck_assert_int_ne(
        run_command_line(output, sizeof output, "ls | grep '\\.new'"), 0);
    if (onto_table[_i].code == 0 && strstr(onto_table[_i].command, "sub/")) {
        ck_assert_int_eq(run_command_line(output, sizeof output,
                                          "test -L sub/link.tape.jsonl && grep "
                                          "-q drag other.tape.jsonl"),
                         0);
    }
}
END_TEST

/* Bindings onto the setup are refused; a save that fails leaves the old file.
 */
START_TEST(bindings_kept)
{
    write_world();
    ikv_setup *setup;
    ikv_kit *kit;
    ikv_port port = ikv_null_port();
    ikv_message message;
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_bindings_config names = IKV_BINDINGS_INIT;
    ok(ikv_setup_read("pier.setup.json", &setup, &message));
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ok(ikv_setup_size(setup, &config));
    ok(ikv_kit_open(&config, &kit));
    ok(ikv_setup_apply(setup, kit, 0, &message));
    ikv_actions *actions = ikv_kit_actions(kit);
    names.setup = setup;
    status_is(ikv_bindings_save("pier.setup.json", actions, &names, &message),
              IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "it is the setup"));
    status_is(ikv_bindings_save("/dev/full", actions, &names, &message),
              IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "No space left"));
    ok(ikv_bindings_save("b.bindings.json", actions, &names, &message));
    ck_assert_int_eq(chmod("b.bindings.json", 0640), 0);
    ok(ikv_bindings_load("b.bindings.json", actions, &names, &message));
    ok(ikv_bindings_save("b.bindings.json", actions, &names, &message));
    struct stat about;
    ck_assert_int_eq(stat("b.bindings.json", &about), 0);
    ck_assert_uint_eq(about.st_mode & 0777, 0640);
    char *text = read_file("b.bindings.json");
    ck_assert_ptr_nonnull(strstr(text, "\"within\": \"pier\""));
    ck_assert_ptr_nonnull(strstr(text, "\"layer\": \"glass\""));
    ck_assert_ptr_nonnull(strstr(text, "\"on_body\": \"lamp\""));
    ck_assert_ptr_nonnull(strstr(text, "\"tagged\": ["));
    ck_assert_ptr_nonnull(strstr(text, "\"light\""));
    free(text);
    ikv_kit_close(kit);
    ikv_setup_close(setup);
}
END_TEST

/* ---------------------------------------- 12a without memory, without room --
 */

/* What each command must leave alone or make: an output that is there is whole.
 * `check`: a command that looks at it. */
static const struct {
    const char *command, *check;
} fault_table[] = {
    {"run pier.setup.json evening.tape.jsonl", NULL},
    {"run --json pier.setup.json evening.tape.jsonl", NULL},
    {"run -d --record made.tape.jsonl pier.setup.json evening.tape.jsonl",
     "tape verify made.tape.jsonl"},
    {"tape info --setup pier.setup.json kept.tape.jsonl", NULL},
    {"tape info --json --setup pier.setup.json kept.tape.jsonl", NULL},
    {"tape cut --from 100 --to 700 -o made.tape.jsonl kept.tape.jsonl",
     "tape info --setup pier.setup.json made.tape.jsonl"},
    {"tape join -o made.tape.jsonl kept.tape.jsonl evening.tape.jsonl",
     "tape info --setup pier.setup.json made.tape.jsonl"},
    {"tape verify kept.tape.jsonl", NULL},
    {"run -d --record made.tape.cbor pier.setup.json evening.tape.jsonl",
     "tape verify made.tape.cbor"},
    {"tape convert kept.tape.jsonl made.tape.cbor",
     "tape verify made.tape.cbor"},
    {"tape convert kept.tape.cbor made.tape.jsonl",
     "tape verify made.tape.jsonl"},
    {"tape join -o made.tape.cbor kept.tape.cbor evening.tape.jsonl",
     "tape info --setup pier.setup.json made.tape.cbor"},
    {"check pier.setup.json kept.tape.jsonl horn.bindings.json", NULL},
    {"check --json pier.setup.json kept.tape.jsonl horn.bindings.json", NULL},
    {"check --play --json pier.setup.json kept.tape.jsonl evening.trace.jsonl",
     NULL},
    {"draw pier.setup.json evening.tape.jsonl --at 300", NULL},
    {"view pier.setup.json evening.tape.jsonl --until 30 -o made.tape.jsonl",
     "the page"},
    {"tape timeline kept.tape.jsonl -o made.tape.jsonl",
     "version && tail -1 made.tape.jsonl | grep -qx ']}' && ! grep "
     "'\"cat\": \"\\(event\\|handler\\)\"' made.tape.jsonl | grep -v "
     "'\"args\": {\"'"},
    {"plot evening.trace.jsonl", NULL},
    {"watch pier.setup.json evening.tape.jsonl --print 80x24 --at 300", NULL},
    {"kinds", NULL},
    {"kinds --json wheel", NULL},
    {"kinds tide.computed pier.setup.json", NULL},
    {"version", NULL},
};

static void write_fault_files(void)
{
    write_world();
    write_file("horn.bindings.json",
               "{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"horn\":["
               "\"KeyQ\",{\"press\":\"KeyW\",\"within\":\"lamp\"}]}}");
    play("pier.setup.json", "evening.tape.jsonl", "kept.tape.jsonl");
    ok(ikv_tape_convert("kept.tape.jsonl", "kept.tape.cbor", NULL, NULL));
    run_command_line(output, sizeof output,
                     TOOL " run --json pier.setup.json evening.tape.jsonl "
                          "> evening.trace.jsonl");
}

static char reference[1 << 16];

static void put_old(void)
{
    write_file("made.tape.jsonl", "what was there\n");
    write_file("made.tape.cbor", "what was there\n");
    remove("made.tape.jsonl.part");
    remove("made.tape.cbor.part");
}

static char *whole_page;

static bool is_page(int row)
{
    return strncmp(fault_table[row].command, "view", 4) == 0;
}

/* As the first one, which nothing was wrong with. */
static bool is_whole_page(void)
{
    char *page = read_file("made.tape.jsonl");
    if (whole_page == NULL)
        whole_page = strdup(page);
    bool whole = strcmp(page, whole_page) == 0;
    free(page);
    return whole;
}

/* Fine, with all that it prints; or bad input, with a message, and what was
 * there before is there still. */
static void judge(int row, long at, int code, int fine)
{
    bool binary = strstr(fault_table[row].command, "made.tape.cbor") != NULL;
    char *made = read_file(binary ? "made.tape.cbor" : "made.tape.jsonl");
    bool old = strcmp(made, "what was there\n") == 0;
    free(made);
    ck_assert_msg((code == fine && strcmp(output, reference) == 0) ||
                      (code == 3 && output[0] != '\0'),
                  "%s: failed at %ld: code %d: %s", fault_table[row].command,
                  at, code, output);
    ck_assert_msg(old || code == fine,
                  "%s: failed at %ld: the old file is gone",
                  fault_table[row].command, at);
    if (fault_table[row].check != NULL && !old && is_page(row))
        ck_assert_msg(is_whole_page(), "%s: failed at %ld: a damaged page",
                      fault_table[row].command, at);
    else if (fault_table[row].check != NULL && !old)
        ck_assert_msg(run_command_line(output, sizeof output, TOOL " %s",
                                       fault_table[row].check) == 0,
                      "%s: failed at %ld: a damaged file: %s",
                      fault_table[row].command, at, output);
    put_old();
}

START_TEST(without_memory)
{
    if (strstr(TEST_CFLAGS, "-fsanitize") != NULL ||
        strstr(TEST_CFLAGS, "--coverage") != NULL)
        return; /* what they add allocates too */
    write_fault_files();
    int fine = run_command_line(reference, sizeof reference, TOOL " %s",
                                fault_table[_i].command);
    ck_assert_int_eq(fine, 0);
    if (is_page(_i))
        is_whole_page();
    put_old();
    bool failed = true;
    /* of very many not each one, unless that is asked for */
    const long each = getenv("IKV_EACH_FAULT") != NULL ? 1000000 : 100;
    for (long n = 1; failed; n += n > each ? 1 + n / 25 : 1) {
        remove("faulted");
        int code = run_command_line(
            output, sizeof output,
            "IKV_FAULT_DONE=faulted IKV_FAULT_AT=%ld LD_PRELOAD=" BINARY
            "/tests/libikvar_faults.so " TOOL " %s",
            n, fault_table[_i].command);
        failed = access("faulted", F_OK) == 0;
        ck_assert_msg(failed || n > 1, "nothing fails");
        judge(_i, n, code, fine);
    }
}
END_TEST

/* The disk is full after so many bytes: for the command alone, since what the
 * test asserts is written to a file too. */
START_TEST(without_room)
{
    write_fault_files();
    int fine =
        run_command_line(reference, sizeof reference,
                         TOOL " %s > out.txt 2>&1; code=$?; cat out.txt; "
                              "exit $code",
                         fault_table[_i].command);
    if (is_page(_i))
        is_whole_page();
    put_old();
    signal(SIGXFSZ, SIG_IGN);
    bool again = true;
    long step = strstr(TEST_CFLAGS, "-fsanitize") != NULL ? 431 : 59;
    for (long most = 0; again && most < 200000;
         most += most < 2000 ? step : most * step / 944) {
        int code = run_command_line(output, sizeof output,
                                    "prlimit --fsize=%ld: " TOOL
                                    " %s > out.txt 2> err.txt || "
                                    "{ code=$?; echo failed; exit $code; }",
                                    most, fault_table[_i].command);
        char *text = read_file("out.txt");
        again = code != 0;
        if (code == 0)
            snprintf(output, sizeof output, "%s", text);
        free(text);
        judge(_i, most, code, fine);
    }
    ck_assert_msg(!again, "%s fails for ever", fault_table[_i].command);
    signal(SIGXFSZ, SIG_DFL);
}
END_TEST

/* ----------------------------------------------------------- 15 bindings -- */

static const char *name_by_place(void *user, ikv_target target)
{
    const ikv_target *piers = user;
    return target.bits == piers[0].bits   ? "east"
           : target.bits == piers[1].bits ? "west"
                                          : NULL;
}

static ikv_target place_by_name(void *user, const char *name)
{
    const ikv_target *piers = user;
    return strcmp(name, "east") == 0   ? piers[0]
           : strcmp(name, "west") == 0 ? piers[1]
                                       : (ikv_target){0};
}

static char skipped[2048];

static void note_skipped(const char *text, void *user)
{
    (void)user;
    strncat(skipped, text, sizeof skipped - strlen(skipped) - 2);
    strncat(skipped, "\n", 2);
}

/* Without a setup the game names its targets; what an update took away is left
 * out and told, or is an error. */
START_TEST(bindings_without_setup)
{
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_state_config state = IKV_STATE_INIT;
    ikv_actions_config config = IKV_ACTIONS_INIT;
    ikv_bindings_config names = IKV_BINDINGS_INIT;
    ikv_actions *actions;
    ikv_action_id horn, bell;
    ikv_target piers[3];
    ikv_message message;
    bus.memory = state.memory = config.memory = ikv_host_memory();
    ok(ikv_bus_open(&bus, &config.bus));
    ok(ikv_state_open(&state, &config.state));
    ok(ikv_actions_open(&config, &actions));
    for (uint32_t i = 0; i < 3; i++)
        ok(ikv_bus_add_target(config.bus, i + 1, &piers[i]));
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "horn", &horn));
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "bell", &bell));
    ikv_scope west = {.where = IKV_WITHIN, .target = piers[1]},
              third = {.where = IKV_IN_LAYER, .layer = 2},
              nameless = {.where = IKV_WITHIN, .target = piers[2]},
              any = {.where = IKV_FOCUSED};
    ok(ikv_actions_bind(actions, horn, "KeyF", &west, NULL));
    ok(ikv_actions_bind(actions, horn, "KeyG", &third, NULL));
    ok(ikv_actions_bind(actions, bell, "Shift+KeyB", &any, NULL));
    names.target_name = name_by_place;
    names.find_target = place_by_name;
    names.skipped = note_skipped;
    names.user = piers;
    status_is(ikv_bindings_save("b.json", actions, NULL, &message),
              IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "has no name: give a setup"));
    ck_assert_int_ne(access("b.json", F_OK), 0);
    ok(ikv_bindings_save("b.json", actions, &names, &message));
    char *first = read_file("b.json");
    ck_assert_ptr_nonnull(strstr(first, "\"within\": \"west\""));
    ck_assert_ptr_nonnull(strstr(first, "\"layer\": 2"));
    ck_assert_ptr_nonnull(strstr(first, "\"focused\": \"root\""));
    ok(ikv_bindings_load("b.json", actions, &names, &message));
    ok(ikv_bindings_save("again.json", actions, &names, &message));
    char *again = read_file("again.json");
    ck_assert_str_eq(first, again);
    ok(ikv_actions_bind(actions, bell, "KeyC", &nameless, NULL));
    status_is(ikv_bindings_save("again.json", actions, &names, &message),
              IKV_BAD_FILE);
    char *kept = read_file("again.json");
    ck_assert_str_eq(first, kept);
    write_file(
        "old.json",
        "{\"format\":\"ikvar.bindings/1\",\"bindings\":{\"horn\":["
        "\"KeyZ\",{\"press\":\"KeyY\",\"within\":\"north\"},\"KeyNone\","
        "{\"press\":\"KeyX\",\"layer\":\"glass\"}],\"anchor\":[\"KeyA\"]}}");
    status_is(ikv_bindings_load("old.json", actions, &names, &message),
              IKV_BAD_FILE);
    ck_assert_str_eq(message.text, "old.json: /bindings/horn/1/within: nobody "
                                   "knows the target \"north\"");
    ck_assert_uint_eq(actions_counts(actions).bindings, 4);
    names.flags = IKV_BINDINGS_LENIENT;
    ok(ikv_bindings_load("old.json", actions, &names, &message));
    ck_assert_uint_eq(actions_counts(actions).bindings, 3);
    static const char *const told[] = {
        "old.json: /bindings/horn/1/within: nobody knows",
        "old.json: /bindings/horn/2: at character 1: there is no input",
        "old.json: /bindings/horn/3/layer: there is no layer \"glass\"",
        "old.json: /bindings/anchor: unknown action \"anchor\""};
    for (int i = 0; i < ROWS(told); i++)
        ck_assert_msg(strstr(skipped, told[i]) != NULL, "no \"%s\" in %s",
                      told[i], skipped);
    /* What is no file of bindings is an error all the same. */
    write_file("old.json", "{\"format\":\"ikvar.bindings/1\",\"bindings\":{"
                           "\"horn\":[3]}}");
    status_is(ikv_bindings_load("old.json", actions, &names, &message),
              IKV_BAD_FILE);
    ck_assert_uint_eq(actions_counts(actions).bindings, 3);
    names.size = 1;
    status_is(ikv_bindings_save("b.json", actions, &names, NULL), IKV_BAD_SIZE);
    status_is(ikv_bindings_load("b.json", actions, &names, NULL), IKV_BAD_SIZE);
    free(first);
    free(again);
    free(kept);
    ikv_actions_close(actions);
    ikv_state_close(config.state);
    ikv_bus_close(config.bus);
}
END_TEST

/* ----------------------------------------------------- 13 14 16 setups -- */

/* A setup that a kit has no room for leaves nothing in it, and can be applied
 * to another, and to the same one when there is room. */
START_TEST(applied_again)
{
    write_world();
    ikv_setup *setup;
    ikv_kit *kits[2];
    ikv_port ports[2] = {ikv_null_port(), ikv_null_port()};
    ikv_message message;
    ok(ikv_setup_read("pier.setup.json", &setup, &message));
    for (int i = 0; i < 2; i++) {
        ikv_kit_config config = IKV_KIT_INIT;
        config.memory = ikv_host_memory();
        config.ports = &ports[i];
        config.port_count = 1;
        ok(ikv_setup_size(setup, &config));
        if (i == 0)
            config.bus.subscriptions = config.bus.entries = 1;
        ok(ikv_kit_open(&config, &kits[i]));
    }
    for (int turn = 0; turn < 2; turn++) {
        ikv_bus *bus = ikv_kit_bus(kits[0]);
        ck_assert_int_lt(ikv_setup_apply(setup, kits[0], 0, &message), 0);
        ck_assert_msg(strstr(message.text, "pier.setup.json: /handlers/") !=
                          NULL,
                      "%s", message.text);
        ck_assert_uint_eq(bus_counts(bus).targets, 0);
        ck_assert_uint_eq(bus_counts(bus).subscriptions, 0);
        ck_assert_uint_eq(actions_counts(ikv_kit_actions(kits[0])).actions, 0);
        ck_assert_uint_eq(ikv_setup_target(setup, "lamp").bits, 0);
        is_valid(ikv_bus_validate(bus), "the bus");
    }
    ok(ikv_setup_apply(setup, kits[1], 0, &message));
    status_is(ikv_setup_apply(setup, kits[0], 0, &message), IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(bus_counts(ikv_kit_bus(kits[1])).targets, 2);
    ikv_kit_close(kits[0]);
    ikv_kit_close(kits[1]);
    ikv_setup_close(setup);
}
END_TEST

/* What is shown of a text, in so much room. */
static const struct {
    const char *text, *shown;
    size_t size;
} shown_table[] = {
    {"quay", "quay", 64},
    {"a\x1b[2J\x7f\n", "a\\x1b[2J\\x7f\\x0a", 64},
    {"\xc2\x9b\xc2\xa0", "\\x9b\xc2\xa0", 64},
    {"\xc3\xa4\xdf\xbf", "\xc3\xa4\xdf\xbf", 64},
    {"\xe0\xa0\x80\xe2\x82\xac\xee\x80\x80",
     "\xe0\xa0\x80\xe2\x82\xac\xee\x80\x80", 64},
    {"\xed\x9f\xbf\xf0\x90\x80\x80\xf4\x8f\xbf\xbf",
     "\xed\x9f\xbf\xf0\x90\x80\x80\xf4\x8f\xbf\xbf", 64},
    {"\xf1\x80\x80\x80", "\xf1\x80\x80\x80", 64},
    {"a\xc3", "a\\xc3", 64},
    {"\xc3: b", "\\xc3: b", 64},
    {"\xe2\x82 b", "\\xe2\\x82 b", 64},
    {"\xf0\x9f\x98", "\\xf0\\x9f\\x98", 64},
    {"\x80\xbf", "\\x80\\xbf", 64},
    {"\xc0\x80\xc1\xbf", "\\xc0\\x80\\xc1\\xbf", 64},
    {"\xe0\x9f\xbf", "\\xe0\\x9f\\xbf", 64},
    {"\xed\xa0\x80", "\\xed\\xa0\\x80", 64},
    {"\xf0\x8f\xbf\xbf", "\\xf0\\x8f\\xbf\\xbf", 64},
    {"\xf4\x90\x80\x80", "\\xf4\\x90\\x80\\x80", 64},
    {"\xf5\x80\x80\x80\xff", "\\xf5\\x80\\x80\\x80\\xff", 64},
    {"quay", "", 5},
    {"quay", "q", 6},
    {"\xf0\x9f\x98\x80", "\xf0\x9f\x98\x80", 6},
    {"q\xf0\x9f\x98\x80", "q", 6},
    {"\x1b\x1b", "\\x1b", 6},
    {"", "", 1},
};

START_TEST(what_is_shown)
{
    char buffer[64];
    memset(buffer, '#', sizeof buffer);
    size_t size = shown_table[_i].size;
    ck_assert_ptr_eq(ikv_shown_text(shown_table[_i].text, buffer, size),
                     buffer);
    ck_assert_str_eq(buffer, shown_table[_i].shown);
    for (size_t i = size; i < sizeof buffer; i++)
        ck_assert_int_eq(buffer[i], '#');
}
END_TEST

/* A name that is cut inside a character, in a warning and in an error, and a
 * path of any bytes: shown, and in JSON. */
START_TEST(cut_names)
{
    static const char *const characters[] = {"\xc3\xa4", "\xe2\x82\xac",
                                             "\xf0\x9f\x98\x80"};
    char name[160], text[1024];
    size_t bytes = strlen(characters[_i % 3]), used = 0;
    for (; used < (size_t)_i / 3; used++)
        name[used] = 'a';
    for (; used + bytes < 100; used += bytes)
        memcpy(name + used, characters[_i % 3], bytes);
    name[used] = '\0';
    for (int wrong = 0; wrong < 2; wrong++)
        for (int path = 0; path < 2; path++) {
            const char *file =
                path > 0 ? "fu\xdf\x1b.setup.json" : "x.setup.json";
            snprintf(
                text, sizeof text,
                "{\"format\":\"ikvar.setup/1\",\"targets\":[{\"id\":\"%s\","
                "\"shape\":{\"rect\":[0,0,9,9]}%s}]}",
                name, wrong ? ",\"parent\":\"b\"" : "");
            write_file(file, text);
            int code = run_command_line(output, sizeof output,
                                        TOOL " check --json '%s'", file);
            ck_assert_msg(code == (wrong ? 3 : 0), "%d: %s", code, output);
            json_t *line = json_loads(output, 0, NULL);
            ck_assert_msg(line != NULL, "%s", output);
            const char *told =
                json_string_value(json_object_get(line, "error"));
            ck_assert_int_eq(told != NULL, wrong);
            ck_assert_str_eq(json_string_value(json_object_get(line, "file")),
                             path ? "fu\\xdf\\x1b.setup.json" : file);
            json_decref(line);
            run_command_line(output, sizeof output, TOOL " check '%s'", file);
            ck_assert_ptr_null(strchr(output, '\x1b'));
            remove(file);
        }
}
END_TEST

/* A path that is too deep names the target at which it is, and the stack holds
 * however many parents a file names; who is beneath himself is told first. */
static const struct {
    int count;
    bool upwards; /* parents come later in the file */
    int last;     /* the last one's parent; -1: none */
    int exit;
    const char *says;
} chains[] = {
    {63, false, -1, 0, "63 targets"},
    {64, false, -1, 3, "/targets/63: \"t63\" has 63 ancestors"},
    {80, false, -1, 3, "/targets/63: \"t63\" has 63 ancestors"},
    {63, true, -1, 0, "63 targets"},
    {64, true, -1, 3, "/targets/0: \"t0\" has 63 ancestors"},
    {50000, true, -1, 3, "/targets/0: \"t0\" has 63 ancestors"},
    {70, true, 67, 3, "/targets/67: \"t67\" is its own ancestor"},
    {70, true, 0, 3, "/targets/0: \"t0\" has 63 ancestors"},
};

START_TEST(too_deep)
{
    int count = chains[_i].count;
    FILE *file = fopen("x.setup.json", "w");
    fprintf(file, "{\"format\":\"ikvar.setup/1\",\"targets\":[");
    for (int i = 0; i < count; i++) {
        int parent = chains[_i].upwards ? i + 1 : i - 1;
        if (i == count - 1 && chains[_i].upwards)
            parent = chains[_i].last;
        fprintf(file, "%s{\"id\":\"t%d\"", i > 0 ? "," : "", i);
        if (parent >= 0)
            fprintf(file, ",\"parent\":\"t%d\"", parent);
        fprintf(file, "}");
    }
    fprintf(file, "]}");
    fclose(file);
    ck_assert_int_eq(
        run_command_line(output, sizeof output, TOOL " check x.setup.json"),
        chains[_i].exit);
    ck_assert_msg(strstr(output, chains[_i].says) != NULL, "%s", output);
}
END_TEST

/* Names are found by hash: of many, each by its own, and one that is twice. */
START_TEST(many_names)
{
    enum {
        MANY = 30000
    };
    ikv_setup *setup;
    ikv_message message;
    for (int twice = 0; twice < 2; twice++) {
        FILE *file = fopen("x.setup.json", "w");
        fprintf(file, "{\"format\":\"ikvar.setup/1\",\"targets\":[");
        for (int i = 0; i < MANY; i++)
            fprintf(file, "%s{\"id\":\"t%d\",\"fields\":{\"f%d\":%d}}",
                    i > 0 ? "," : "", twice && i == MANY - 1 ? 77 : i, i % 100,
                    i);
        fprintf(file, "],\"handlers\":[");
        for (int i = 0; i < MANY; i++)
            fprintf(file,
                    "%s{\"name\":\"h%d\",\"kinds\":[\"wheel\"],\"at\":"
                    "\"t%d\"}",
                    i > 0 ? "," : "", i, MANY - 2 - i % (MANY - 1));
        fprintf(file, "]}");
        fclose(file);
        ikv_status status = ikv_setup_read("x.setup.json", &setup, &message);
        status_is(status, twice ? IKV_BAD_FILE : IKV_OK);
        if (twice)
            ck_assert_str_eq(message.text,
                             "x.setup.json: /targets/29999/id: the "
                             "id \"t77\" is taken");
        else {
            ikv_setup_counts counts = IKV_SETUP_COUNTS_INIT;
            ok(ikv_setup_counters(setup, &counts));
            ck_assert_uint_eq(counts.handlers, MANY);
            ck_assert_str_eq(ikv_setup_field_name(setup, 100), "f99");
            ck_assert_str_eq(ikv_setup_field_name(setup, 101), "?");
            ikv_setup_close(setup);
        }
    }
}
END_TEST

/* ------------------------------------------------------- 18 log and trace --
 */

/* The log never runs backwards, whatever is deferred, overlaps, holds. */
START_TEST(log_runs_forwards)
{
    write_world();
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " run pier.setup.json "
                                           "evening.tape.jsonl"),
                     0);
    double last = 0;
    int lines = 0;
    for (char *line = output; line != NULL; line = strchr(line + 1, '\n')) {
        char unit[8] = "", word[8] = "";
        double at = 0;
        if (sscanf(line, "%lf %2s %4s", &at, unit, word) < 3 ||
            strcmp(unit, "ms") != 0 || strcmp(word, "step") != 0)
            continue;
        ck_assert_msg(at >= last, "%.3f after %.3f: %.80s", at, last, line + 1);
        last = at;
        lines++;
    }
    ck_assert_int_gt(lines, 20);
    ck_assert_ptr_nonnull(strstr(output, "  of "));
}
END_TEST

/* 17: no colours where they are not wanted; control characters of a file never
 * reach a terminal as such. */
START_TEST(fit_for_terminals)
{
    static const char *const plain[] = {"NO_COLOR=1", "TERM=dumb"};
    write_file("x.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":"
               "\"bell\\u0007\",\"kinds\":[\"loop.start\"],\"reactions\":[{"
               "\"log\":\"clear \\u001b[2J\\u009b2J\"}]}]}");
    for (int i = 0; i < ROWS(plain) + 1; i++) {
        run_command_line(output, sizeof output,
                         "script -qec '%s " TOOL " run --port null --until 20 "
                         "x.setup.json' /dev/null",
                         i < ROWS(plain) ? plain[i] : "TERM=xterm");
        ck_assert_ptr_nonnull(strstr(output, "clear \\x1b[2J\\x9b2J"));
        ck_assert_ptr_nonnull(strstr(output, "bell\\x07"));
        ck_assert_ptr_null(strchr(output, '\a'));
        ck_assert_int_eq(strstr(output, "\033[") != NULL, i == ROWS(plain));
    }
}
END_TEST

/* 17: nor do names and arguments, in what is asked for or in a picture, which is
 * XML: that has no such characters at all. */
static const struct {
    const char *line, *shows;
} told_names[] = {
    {"why n.setup.json n.tape.jsonl --target 'lam[1mp'",
     "mean \"lam\\x1b[1mp\"?"},
    {"why n.setup.json n.tape.jsonl --target '%c'", "no target \"\\x1b\""},
    {"tape 'inf%c'", "found \"inf\\x1b\", expected info, cut"},
    {"run --sped%c 1", "--sped\\x1b: unknown option"},
    {"run --until %c", "found \"\\x1b\""},
    {"tape timeline n.tape.jsonl", "tape: n.tape.jsonl: the tape names no"},
    {"tape verify n.setup.json", "expected format \"ikvar.tape/2\""},
    {"draw n.setup.json -o 'n.svg' && cat n.svg", "data-name=\"lam\\x1b[1mp\""},
    {"draw n.setup.json -o n.svg && cat n.svg", "data-name=\"&lt;\\uffff&amp;"},
};

START_TEST(names_on_terminals)
{
    char line[160];
    write_file("n.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"targets\":[{\"id\":"
               "\"lam\\u001b[1mp\",\"shape\":{\"circle\":[9,9,5]}},{\"id\":"
               "\"<\\uffff&\",\"shape\":{\"circle\":[9,9,5]}}]}");
    write_file("n.tape.jsonl", "{\"format\":\"ikvar.tape/2\",\"until\":50}\n");
    snprintf(line, sizeof line, told_names[_i].line, '\x1b');
    run_command_line(output, sizeof output, TOOL " %s", line);
    ck_assert_msg(strstr(output, told_names[_i].shows) != NULL, "%s", output);
    ck_assert_ptr_null(strchr(output, '\x1b'));
}
END_TEST

/* Lines of one dispatch have one number; what was removed still has its name;
 * and only what was heard, if that is wanted. */
START_TEST(trace_lines)
{
    write_file("gull.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"targets\":[{\"id\":\"quay\","
               "\"shape\":{\"rect\":[0,0,64,36]}},{\"id\":\"gull\",\"parent\":"
               "\"quay\",\"shape\":{\"rect\":[0,0,9,9]}}],\"handlers\":[{"
               "\"name\":\"shoo\",\"kinds\":[\"pointer.down\"],\"at\":\"gull\","
               "\"reactions\":[{\"remove\":\"gull\"}]},{\"name\":\"seen\","
               "\"kinds\":[\"pointer.down\"],\"at\":\"quay\",\"reactions\":["
               "\"stop\"]}]}");
    write_file("gull.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\",\"until\":40}\n"
               "{\"t\":5,\"kind\":\"pointer.down\",\"x\":4,\"y\":4}\n");
    run_command_line(output, sizeof output,
                     TOOL " run --json gull.setup.json gull.tape.jsonl");
    const char *shoo = strstr(output, "\"handler\":\"shoo\""),
               *seen = strstr(output, "\"handler\":\"seen\"");
    ck_assert(shoo != NULL && seen != NULL && seen > shoo);
    ck_assert_ptr_nonnull(strstr(output, "\"format\":\"ikvar.trace/2\""));
    ck_assert_ptr_nonnull(strstr(output, "\"at\":\"quay\",\"target\":\"gull\","
                                         "\"gone\":true,"));
    unsigned long of_shoo = 0, of_seen = 0;
    for (char *line = output; line != NULL; line = strchr(line + 1, '\n')) {
        unsigned long n, event;
        if (sscanf(line, "\n{\"n\":%lu,\"event\":%lu", &n, &event) != 2)
            continue;
        of_shoo = line < shoo ? event : of_shoo;
        of_seen = line < seen ? event : of_seen;
    }
    ck_assert_uint_ne(of_shoo, 0);
    ck_assert_uint_eq(of_shoo, of_seen);
    ck_assert_ptr_nonnull(strstr(output, "\"handler\":null"));
    run_command_line(output, sizeof output,
                     TOOL " run --json --heard gull.setup.json "
                          "gull.tape.jsonl");
    ck_assert_ptr_null(strstr(output, "\"handler\":null"));
    ck_assert_ptr_nonnull(strstr(output, "\"handler\":\"seen\""));
}
END_TEST

/* Digests and traces of an older version are said to be old, not wrong. */
START_TEST(older_versions)
{
    write_world();
    play("pier.setup.json", "evening.tape.jsonl", "old.tape.jsonl");
    static const char *const steps[] = {
        "sed -i 's,tape/2,tape/1,;s/\"digest\":\"...../\"digest\":\"00000/' "
        "old.tape.jsonl",
        TOOL " run -d pier.setup.json old.tape.jsonl",
        TOOL " tape verify old.tape.jsonl; test $? = 1",
        "echo '{\"format\":\"ikvar.trace/1\"}' > old.trace.jsonl; " TOOL
        " tape verify old.tape.jsonl; test $? = 1"};
    static const char *const says[] = {
        "", "its digests are of an older version of tapes (ikvar.tape/1)",
        "old digest", "the trace beside it is of an older version"};
    for (int i = 0; i < ROWS(steps); i++) {
        int code = run_command_line(output, sizeof output, "%s", steps[i]);
        ck_assert_msg(code == 0 && strstr(output, says[i]) != NULL,
                      "%s: %d: %s", steps[i], code, output);
        ck_assert_ptr_null(strstr(output, "differs"));
    }
}
END_TEST

/* ------------------------------------------------------------- 44 locales --
 */

static const char comma_locale[] =
    "comment_char %%\nescape_char /\nLC_NUMERIC\ndecimal_point \"%s\"\n"
    "thousands_sep \"\"\ngrouping -1\nEND LC_NUMERIC\nLC_CTYPE\nEND LC_CTYPE\n";

/* In a program that has set a locale whose point is a comma, tapes, traces,
 * recordings, bindings and messages are what they are in any other. */
START_TEST(locales)
{
    static const char *const points[] = {",", "<U066B>"};
    write_world();
    played plain =
        play("pier.setup.json", "evening.tape.jsonl", "a.tape.jsonl");
    FILE *file = fopen("comma.src", "w");
    fprintf(file, comma_locale, points[_i]);
    fclose(file);
    run_command_line(output, sizeof output,
                     "localedef -c -i comma.src -f UTF-8 ./comma");
    char here[1024];
    ck_assert_ptr_nonnull(getcwd(here, sizeof here));
    setenv("LOCPATH", here, 1);
    ck_assert_msg(setlocale(LC_ALL, "comma") != NULL, "%s", output);
    snprintf(output, sizeof output, "%.1f", 2.5);
    ck_assert_str_ne(output, "2.5"); /* or this case proves nothing */
    played again =
        play("pier.setup.json", "evening.tape.jsonl", "b.tape.jsonl");
    ck_assert_uint_eq(plain.result.digest, again.result.digest);
    char *a = read_file("a.tape.jsonl"), *b = read_file("b.tape.jsonl");
    ck_assert_str_eq(a, b);
    ck_assert_ptr_nonnull(strstr(a, "\"x\":10.5"));
    free(a);
    free(b);
    ikv_setup *setup;
    ikv_message message;
    write_file("x.setup.json", "{\"format\":\"ikvar.setup/1\",\"router\":{"
                               "\"dead_zone\":1.5}}");
    status_is(ikv_setup_read("x.setup.json", &setup, &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "found 1.5"));
    write_file("x.setup.json", "{\"format\":\"ikvar.setup/1\",\"router\":{"
                               "\"slop\":1e-9}}");
    status_is(ikv_setup_read("x.setup.json", &setup, &message), IKV_BAD_FILE);
    ck_assert_ptr_nonnull(strstr(message.text, "expected a number from 0.001"));
    ikv_tape *tape;
    ikv_event event;
    write_file("x.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n"
               "{\"t\":1.5,\"kind\":\"wheel\",\"dy\":-1.25e-1,\"dx\":0.5}\n"
               "{\"t\":2,\"kind\":\"wheel\",\"dy\":0.123456789012345678901}\n");
    ok(ikv_tape_open("x.tape.jsonl", NULL, &tape, &message));
    ok(ikv_tape_next(tape, &event, NULL, &message));
    ck_assert_uint_eq(event.time_ns, 1500000);
    ck_assert_float_eq(event.wheel.dy, -0.125f);
    ck_assert_float_eq(event.wheel.dx, 0.5f);
    ok(ikv_tape_next(tape, &event, NULL, &message));
    ck_assert_float_eq(event.wheel.dy, 0.12345679f);
    ikv_tape_close(tape);
}
END_TEST

static void add_table_in_folder(Suite *suite, const char *rule,
                                const TTest *test, int rows)
{
    TCase *tc = tcase_create(rule);
    tcase_set_timeout(tc, 120);
    tcase_add_checked_fixture(tc, enter_folder, leave_folder);
    tcase_add_loop_test(tc, test, 0, rows);
    suite_add_tcase(suite, tc);
}

static void add_in_folder(Suite *suite, const char *rule, const TTest *test)
{
    add_table_in_folder(suite, rule, test, 1);
}

/* ------------------------------------------------- T1 any event on a tape --
 */

enum {
    ANY = 34500
};

static struct {
    ikv_event events[ANY * 2];
    ikv_intake intakes[ANY * 2];
    uint32_t count;
} any;

static void keep_any(const ikv_event *event, const ikv_intake *intake,
                     void *user)
{
    (void)user;
    ck_assert_uint_lt(any.count, ANY * 2);
    any.events[any.count] = *event;
    any.intakes[any.count++] = *intake;
}

/* Pushes events of all kinds that ports push, with any values. */
static void push_any(bench_kit *k)
{
    uint64_t seed = 21;
    ikv_kind kind = IKV_KIND_NONE;
    kit_frame(k, 0);
    for (int i = 0; i < ANY; i++) {
        kind = ikv_catalogue_next(NULL, kind);
        if (kind == IKV_KIND_NONE)
            continue;
        const ikv_kind_info *info = ikv_catalogue_info(NULL, kind);
        /* What ends the loop or changes devices would leave nothing to do. */
        if ((info->from & IKV_FROM_P) == 0 || kind == IKV_KIND_WINDOW_CLOSE ||
            info->family == IKV_FAMILY_DEVICE)
            continue;
        ikv_event e =
            ikv_event_make(kind, k->fake.now_ns - (uint32_t)i % 3 * 1000);
        e.device = k->fake.device;
        e.modifiers = (uint16_t)random_below(&seed, i % 4 == 0 ? 1u << 16 : 4);
        e.source.bits = i % 7 == 0; /* the root */
        for (uint32_t f = 0; f < info->field_count; f++) {
            const ikv_field *field = &info->fields[f];
            uint32_t bits = (uint32_t)random_below(&seed, UINT32_MAX);
            ikv_value value = {IKV_VALUE_INTEGER, {.integer = bits >> 20}};
            if (i % 3 == 0)
                value.bits.integer = random_below(&seed, 3);
            else if (field->set == IKV_SET_KEY && i % 4 == 0)
                value.bits.integer = "\"\\/\x7f"[i / 4 % 4];
            if (field->type == IKV_TYPE_F32 || field->scale > 1) {
                float number;
                bits = i % 2 ? bits & 0xbfffffff
                             : (bits & 0x807fffff) | 0x42000000;
                memcpy(&number, &bits, sizeof number);
                value.type = IKV_VALUE_NUMBER;
                value.bits.number = (double)number;
            }
            if (field->type == IKV_TYPE_BOOL)
                value = (ikv_value){IKV_VALUE_BOOL, {.boolean = bits % 2}};
            ikv_field_put(field, &e, value); /* or it stays 0 */
        }
        ikv_sink_push(k->fake.sink, &e);
        if (i % 50 == 49)
            kit_frame(k, (uint64_t)i);
    }
    kit_frame(k, ANY + 100);
}

static const char *any_part; /* the tape that grows */

/* Each is on the tape by then. */
static ikv_verdict expect_growth(const ikv_event *event, const ikv_delivery *d,
                                 void *user)
{
    struct stat about;
    off_t *known = user;
    (void)event, (void)d;
    ck_assert_int_eq(stat(any_part, &about), 0);
    ck_assert_int_gt(about.st_size, *known);
    *known = about.st_size;
    return IKV_CONTINUE;
}

static void open_any(bench_kit *k)
{
    kit_prepare(k);
    k->config.queue.own_capacity = 1024;
    k->config.loop.pending = 1024;
    kit_open(k);
}

/* What is recorded is read back to the bit, and handed over before anybody
 * hears it; as lines (0) and binary (1), each of which becomes the other. */
START_TEST(any_event)
{
    static const char *const paths[] = {"any.tape.jsonl", "any.tape.cbor"};
    static const char *const parts[] = {"any.tape.jsonl.part",
                                        "any.tape.cbor.part"};
    static bench_kit k;
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    ikv_message message;
    ikv_tape *tape;
    ikv_event event;
    ikv_intake intake;
    uint32_t count = 0;
    off_t grown = 0;
    open_any(&k);
    ok(ikv_loop_set_recorder(k.loop, keep_any, NULL));
    push_any(&k);
    kit_close(&k);
    open_any(&k);
    config.path = paths[_i];
    any_part = parts[_i];
    config.kit = k.kit;
    ok(ikv_recording_open(&config, &recording, NULL));
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, expect_growth, &grown);
    push_any(&k);
    ck_assert_int_gt(grown, 0);
    ok(ikv_recording_close(recording, NULL));
    kit_close(&k);
    ck_assert_msg(ikv_tape_open(config.path, NULL, &tape, &message) == IKV_OK,
                  "%s", message.text);
    for (; ikv_tape_next(tape, &event, &intake, &message) == IKV_OK; count++) {
        ck_assert_uint_lt(count, any.count);
        ck_assert_msg(memcmp(&event, &any.events[count], sizeof event) == 0,
                      "event %u differs", count);
        ck_assert_uint_eq(intake.has_due ? intake.due_ns : event.time_ns,
                          any.intakes[count].due_ns);
    }
    ck_assert_str_eq(message.text, "");
    ck_assert_uint_eq(count, any.count);
    ck_assert_uint_gt(count, 10000);
    ikv_tape_close(tape);
    ok(ikv_tape_convert(paths[_i], paths[!_i], NULL, &message));
    ok(ikv_tape_convert(paths[!_i], "back.tape.jsonl", NULL, &message));
    ok(ikv_tape_convert("back.tape.jsonl", "back.tape.cbor", NULL, &message));
    ck_assert_msg(run_command_line(
                      output, sizeof output,
                      "cmp any.tape.jsonl back.tape.jsonl && cmp "
                      "any.tape.cbor back.tape.cbor && test $(($(wc -c < "
                      "any.tape.cbor) * 2)) -le $(wc -c < any.tape.jsonl)") ==
                      0,
                  "%s", output);
}
END_TEST

/* ------------------------------------------------ T1 any value on a tape -- */

/* A kind's numbers at their ends; and values of every type, 25 that is a number
 * and 25 that is a whole one. */
static const uint64_t wide_table[] = {
    0, 1, 999999999999999999, INT64_MAX, (uint64_t)INT64_MAX + 1, UINT64_MAX};
static const struct {
    uint8_t type;
    ikv_bits before, after;
} value_table[] = {
    {IKV_VALUE_INTEGER, {.integer = INT64_MIN}, {.integer = INT64_MAX}},
    {IKV_VALUE_INTEGER, {.integer = 0}, {.integer = 25}},
    {IKV_VALUE_NUMBER, {.number = 25}, {.number = 0.12345678901}},
    {IKV_VALUE_NUMBER, {.number = -0.0}, {.number = 25}},
    {IKV_VALUE_NUMBER, {.number = 1e300}, {.number = 5e-324}},
    {IKV_VALUE_BOOL, {.boolean = false}, {.boolean = true}},
    {IKV_VALUE_BOOL, {.boolean = true}, {.boolean = false}},
    {IKV_VALUE_TARGET, {.target = {0}}, {.target = {1}}}, /* the root */
    {IKV_VALUE_TARGET, {.target = {77}}, {.target = {0}}},
    {IKV_VALUE_NONE, {.integer = 0}, {.integer = 0}},
};

enum {
    VALUES = ROWS(wide_table) + ROWS(value_table)
};

static ikv_event any_value(int nth, ikv_kind tide, uint64_t time_ns)
{
    bool wide = nth < ROWS(wide_table);
    ikv_event e = ikv_event_make(wide ? tide : IKV_KIND_FIELD_SET, time_ns);
    if (wide) {
        const double numbers[] = {0, -0.0, 1e300, 5e-324, 0.1, 12345678901.5};
        int32_t parts = nth % 2 ? INT32_MIN + nth : INT32_MAX;
        uint64_t lower = wide_table[nth] - 7 * (uint64_t)(nth > 2);
        memcpy(e.user, &wide_table[nth], 8);
        memcpy((char *)e.user + 8, &lower, 8);
        memcpy((char *)e.user + 16, &numbers[nth], 8);
        memcpy((char *)e.user + 24, &parts, 4);
    } else {
        e.field.field = 3;
        e.field.type = value_table[nth - ROWS(wide_table)].type;
        e.field.before = value_table[nth - ROWS(wide_table)].before;
        e.field.after = value_table[nth - ROWS(wide_table)].after;
    }
    return e;
}

/* Pushed, or from another thread, as lines (0) and binary (1). */
START_TEST(any_values)
{
    static const ikv_field fields[] = {
        {"u", IKV_TYPE_U64, 0, "", "", 1, 0},
        {"i", IKV_TYPE_I64, 8, "", "", 1, 0},
        {"f", IKV_TYPE_F64, 16, "", "", 1, 0},
        {"s", IKV_TYPE_I32, 24, "", "", 1000, 0}};
    const char *path = _i == 0 ? "values.tape.jsonl" : "values.tape.cbor";
    static bench_kit k;
    ikv_catalogue *catalogue;
    ikv_catalogue_config own = IKV_CATALOGUE_INIT;
    ikv_kind_config kind = IKV_KIND_CONFIG_INIT;
    ikv_kind tide;
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    ikv_message message;
    ikv_tape *tape;
    ikv_event event;
    own.memory = ikv_host_memory();
    kind.name = "tide";
    kind.fields = fields;
    kind.field_count = ROWS(fields);
    kind.pushable = true;
    ok(ikv_catalogue_open(&own, &catalogue));
    ok(ikv_catalogue_register(catalogue, &kind, &tide, NULL));
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    config.path = path;
    config.kit = k.kit;
    ok(ikv_recording_open(&config, &recording, NULL));
    for (int i = 0; i < VALUES; i++) {
        event = any_value(i, tide, 0);
        if (event.kind == tide)
            ikv_sink_push(k.fake.sink, &event);
        else
            ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &event));
        kit_frame(&k, 20 * (uint64_t)i);
    }
    event = any_value(VALUES - 1, tide, 0);
    event.field.type = IKV_VALUE_TARGET + 1;
    status_is(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &event), IKV_BAD_VALUE);
    ok(ikv_recording_close(recording, NULL));
    kit_close(&k);
    ok(ikv_tape_open_kinds(path, catalogue, &tape, NULL));
    for (int i = 0; i < VALUES; i++) {
        ikv_event expected = any_value(i, tide, 0);
        ck_assert_msg(ikv_tape_next(tape, &event, NULL, &message) == IKV_OK,
                      "%d: %s", i, message.text);
        ck_assert_msg(
            event.kind == expected.kind &&
                memcmp(&event.user, &expected.user, sizeof event.user) == 0,
            "event %d differs", i);
    }
    status_is(ikv_tape_next(tape, &event, NULL, &message), IKV_ENDED);
    ikv_tape_close(tape);
    ikv_catalogue_close(catalogue);
    char *text = read_file(path);
    ck_assert(_i == 1 || strstr(text, "\"new\":\"root\"") != NULL);
    free(text);
}
END_TEST

Suite *edge_files_suite(void)
{
    Suite *s = suite_create("edge_files");
    add_table_in_folder(s, "T1 any event", any_event, 2);
    add_table_in_folder(s, "T1 any value", any_values, 2);
    add_in_folder(s, "T4 10 torn anywhere", torn_anywhere);
    add_table_in_folder(s, "10 torn or wrong", torn_or_wrong, ROWS(torn_table));
    add_table_in_folder(s, "10 torn at once", torn_at_once, ROWS(torn_headers));
    add_in_folder(s, "10 12 killed", killed_recording);
    add_table_in_folder(s, "11 cut anywhere", cut_anywhere, 4);
    add_in_folder(s, "11 parts that fit", parts_that_fit);
    add_table_in_folder(s, "12 onto the input", onto_the_input,
                        ROWS(onto_table));
    add_in_folder(s, "12 paths that are not UTF-8", paths_not_utf8);
    add_in_folder(s, "12 bindings", bindings_kept);
    add_table_in_folder(s, "12a without memory", without_memory,
                        ROWS(fault_table));
    add_table_in_folder(s, "12a without room", without_room, ROWS(fault_table));
    add_in_folder(s, "15 bindings without a setup", bindings_without_setup);
    add_table_in_folder(s, "16 what is shown", what_is_shown,
                        ROWS(shown_table));
    add_table_in_folder(s, "16 names that are cut", cut_names, 12);
    add_table_in_folder(s, "16 too deep", too_deep, ROWS(chains));
    add_in_folder(s, "13 applied again", applied_again);
    add_in_folder(s, "14 many names", many_names);
    add_in_folder(s, "18 the log runs forwards", log_runs_forwards);
    add_in_folder(s, "17 fit for terminals", fit_for_terminals);
    add_table_in_folder(s, "17 names on terminals", names_on_terminals,
                        ROWS(told_names));
    add_in_folder(s, "18 trace lines", trace_lines);
    add_in_folder(s, "18 older versions", older_versions);
    add_table_in_folder(s, "44 locales", locales, 2);
    return s;
}
