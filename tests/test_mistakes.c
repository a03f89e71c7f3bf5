/* test_mistakes.c - what `ikvar check` says: each mistake has cases that make it
 * and near misses, and where it can be known for sure it is compared with what
 * really happens. */
#define _GNU_SOURCE
#include "support.h"

#include <string.h>

#define TOOL BINARY "/ikvar"

#define SETUP "check.setup.json"

static char output[1 << 16];
static int current_case;

#define QUAY                                                                   \
    "\"targets\":[{\"id\":\"a\",\"shape\":{\"rect\":[0,0,9,9]},\"fields\":{"   \
    "\"lit\":true}},{\"id\":\"b\",\"parent\":\"a\"}]"
/* A case's lines, with " | " between two, behind a header; its last one is
 * written as it stands. */
static bool write_run(const char *path, const char *member, const char *format)
{
    char text[4096];
    const char *lines = case_text("checks.txt", current_case, member);
    size_t used =
        (size_t)snprintf(text, sizeof text, "{\"format\":\"%s\"}\n", format);
    bool more = *lines != '\0';
    if (!more)
        return false;
    while (more) {
        const char *end = strstr(lines, " | ");
        more = end != NULL;
        int length = (int)(more ? (size_t)(end - lines) : strlen(lines));
        used += (size_t)snprintf(text + used, sizeof text - used, "%.*s%s",
                                 length, lines, more ? "\n" : "");
        lines = more ? end + 3 : lines;
    }
    write_file(path, text);
    return true;
}

/* What check says of a setup; with exit code 0 it is a warning, or "fine". */
START_TEST(what_check_says)
{
    current_case = _i;
    const char *text = case_text("checks.txt", _i, "text");
    const char *says = case_text("checks.txt", _i, "says");
    int expected = atoi(case_text("checks.txt", _i, "code"));
    bool quay = strncmp(text, "QUAY", 4) == 0;
    FILE *file = fopen(SETUP, "w");
    fprintf(file, "{\"format\":\"ikvar.setup/1\",%s%s}", quay ? QUAY : "",
            quay ? text + 4 : text);
    fclose(file);
    /* and what is run with it */
    bool tape = write_run("check.tape.jsonl", "tape", "ikvar.tape/2");
    bool trace = write_run("check.trace.jsonl", "trace", "ikvar.trace/2");
    int code = run_command_line(
        output, sizeof output, TOOL " check --play " SETUP "%s%s",
        tape ? " check.tape.jsonl" : "", trace ? " check.trace.jsonl" : "");
    ck_assert_msg(
        code == expected && strstr(output, says) != NULL && *says != '\0',
        "%s: %d, expected %d \"%s\": %s", text, code, expected, says, output);
    /* that one and no other */
    const char *mistake = case_text("checks.txt", _i, "mistake");
    char ending[64];
    snprintf(ending, sizeof ending, " [%s]\n", mistake);
    ck_assert_msg(*mistake == '\0' || (strstr(output, ": 1 warning:") != NULL &&
                                       strstr(output, ending) != NULL),
                  "%s: expected %s alone: %s", text, mistake, output);
}
END_TEST

/* Each code is found in some case, has a name and a value of its own, and
 * explains itself. */
START_TEST(codes_of_mistakes)
{
    const ikv_mistake_info *info = ikv_mistake_list((uint32_t)_i);
    char command[256], tag[64];
    ck_assert_ptr_nonnull(info);
    ck_assert_ptr_eq(ikv_mistake_about(info->code), info);
    for (uint32_t i = 0; i < (uint32_t)_i; i++) {
        ck_assert_uint_lt(ikv_mistake_list(i)->code, info->code);
        ck_assert_str_ne(ikv_mistake_list(i)->name, info->name);
    }
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " check --explain %s", info->name),
                     0);
    snprintf(command, sizeof command, "%s: ", info->name);
    ck_assert_msg(strncmp(output, command, strlen(command)) == 0, "%s", output);
    ck_assert_ptr_nonnull(strstr(output, info->why));
    ck_assert_ptr_nonnull(strstr(output, info->instead));
    /* of tapes, not of setups */
    write_file("mistakes.tape.jsonl", "{\"format\":\"ikvar.tape/2\"}\n"
                                      "{\"t\":1,\"kind\":\"window.fo");
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      TOOL " check mistakes.tape.jsonl"),
                     0);
    snprintf(tag, sizeof tag, "[%s]", info->name);
    bool found = strstr(output, tag) != NULL;
    ck_assert_int_eq(found, info->code == IKV_MISTAKE_TORN);
    char *cases = read_file(SOURCE "/tests/golden/checks.txt");
    snprintf(command, sizeof command, "\nmistake %s\n", info->name);
    found =
        found || strstr(cases, command) != NULL || strstr(cases, tag) != NULL;
    free(cases);
    /* these are of a program: what_waited */
    found = found || info->code == IKV_MISTAKE_NEVER_FLUSHED ||
            info->code == IKV_MISTAKE_BACKLOG;
    ck_assert_msg(found, "%s: in no case", info->name);
    snprintf(tag, sizeof tag, "`%s`", info->name);
    char *page = read_file(SOURCE "/docs/debugging.md");
    ck_assert_msg(strstr(page, tag) != NULL, "%s: not in docs/debugging.md",
                  info->name);
    free(page);
}
END_TEST

/* Whether a handler at the root with made-up conditions is ever called, and
 * what reading its setup says: never-matches is right, and, where no number is
 * left out, also complete. */
static bool is_ever_called(ikv_setup *setup)
{
    static const float halves[] = {-1, 0, 0.5f, 1, 1.5f, 2, 2.5f, 3, 3.5f, 9};
    bench_kit k;
    ikv_message message;
    int calls = 0;
    ok(ikv_setup_bind(setup, "h", count_heard, &calls));
    kit_prepare(&k);
    ok(ikv_setup_size(setup, &k.config));
    kit_open(&k);
    ok(ikv_setup_apply(setup, k.kit, 0, &message));
    kit_frame(&k, 0);
    for (int x = 0; x < ROWS(halves); x++)
        for (int8_t button = -1; button < 5; button++) {
            ikv_event event = ikv_event_make(IKV_KIND_POINTER_DOWN, 1);
            event.pointer.x = halves[x];
            event.pointer.button = button;
            ikv_bus_deliver(k.bus, &event);
        }
    kit_close(&k);
    return calls > 0;
}

START_TEST(never_matches)
{
    static const char *const comparisons[] = {"equal", "below", "at_most",
                                              "above", "at_least"};
    uint64_t random = (uint64_t)_i + 1;
    int flagged = 0;
    for (int turn = 0; turn < 40; turn++) {
        char text[1024];
        bool negated = false;
        size_t used = (size_t)snprintf(
            text, sizeof text,
            "{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":\"h\","
            "\"kinds\":[\"pointer.down\"],\"conditions\":[");
        uint32_t count = 1 + random_below(&random, 4);
        for (uint32_t c = 0; c < count; c++) {
            bool x = random_below(&random, 2) == 0;
            bool negate = random_below(&random, 4) == 0;
            uint32_t value = random_below(&random, 4);
            negated = negated || negate;
            used += (size_t)snprintf(
                text + used, sizeof text - used,
                "%s{\"field\":\"%s\",\"comparison\":\"%s\",\"value\":%u%s%s}",
                c > 0 ? "," : "", x ? "x" : "button",
                comparisons[random_below(&random, ROWS(comparisons))], value,
                x && random_below(&random, 2) == 0 ? ".5" : "",
                negate ? ",\"negate\":true" : "");
        }
        snprintf(text + used, sizeof text - used, "]}]}");
        ikv_setup *setup;
        ikv_message message;
        write_file(SETUP, text);
        ok(ikv_setup_read(SETUP, &setup, &message));
        const ikv_mistake *m = ikv_setup_mistake(setup, 0);
        bool told = m != NULL && m->code == IKV_MISTAKE_NEVER_MATCHES;
        bool called = is_ever_called(setup);
        ck_assert_msg(!(told && called), "wrongly told: %s", text);
        ck_assert_msg(told || called || negated, "not told: %s", text);
        flagged += told;
        ikv_setup_close(setup);
    }
    ck_assert_int_gt(flagged, 3);
    ck_assert_int_lt(flagged, 37);
}
END_TEST

static int mistake_count(void)
{
    int count = 0;
    while (ikv_mistake_list((uint32_t)count) != NULL)
        count++;
    return count;
}

/* -------------------------------------------------------- where things lie -- */

enum {
    THINGS = 12
};

/* Whom the survey names, and never tells wrongly: a random scene's targets that
 * are hit at none of many points, while something lies there. */
static void note_named(const ikv_mistake *mistake, void *named)
{
    int id = atoi(mistake->text + 1);
    ck_assert_int_lt(id, THINGS);
    ck_assert(mistake->code == IKV_MISTAKE_COVERED ||
              mistake->code == IKV_MISTAKE_OUTSIDE_CLIP);
    ((bool *)named)[id] = true;
}

static size_t put_thing(char *text, size_t size, int id, uint64_t *random)
{
    static const char *const shapes[] = {
        "{\"rect\":[%d,%d,%d,%d]}", "{\"circle\":[%d,%d,%d]}",
        "{\"capsule\":[%d,%d,%d,%d,6]}",
        "{\"polygon\":[[%d,%d],[%d,%d],[2,20]]}"};
    char shape[96];
    int a = (int)random_below(random, 10), b = (int)random_below(random, 10);
    int c = 12 + (int)random_below(random, 30),
        d = 12 + (int)random_below(random, 30);
    snprintf(shape, sizeof shape, shapes[random_below(random, ROWS(shapes))], a,
             -b, c, d);
    char parent[32] = "";
    if (id > 0 && random_below(random, 3) == 0)
        snprintf(parent, sizeof parent, ",\"parent\":\"t%d\"",
                 (int)random_below(random, (uint32_t)id));
    static const char *const hits[] = {"solid", "solid", "pass", "off"};
    return (size_t)snprintf(
        text, size,
        "%s{\"id\":\"t%d\",\"position\":[%u,%u],\"rotation\":%u,\"z\":%u,"
        "\"hit\":\"%s\",\"clip\":%s,\"shape\":%s%s}",
        id > 0 ? "," : "", id, random_below(random, 40),
        random_below(random, 40), 45 * random_below(random, 3),
        random_below(random, 3), hits[random_below(random, ROWS(hits))],
        random_below(random, 4) == 0 ? "true" : "false", shape, parent);
}

static int id_of(const ikv_setup *setup, ikv_target target)
{
    return atoi(ikv_setup_target_name(setup, target) + 1);
}

/* Who takes part in a pointer's event there: down to the first solid one. */
static void note_hit(const ikv_setup *setup, const ikv_scene *scene, float x,
                     float y, bool *hit)
{
    ikv_target there[THINGS];
    ikv_query query = IKV_QUERY_INIT;
    query.x = x, query.y = y;
    uint32_t count = ikv_scene_pick_all(scene, &query, there, THINGS);
    for (uint32_t i = 0; i < count; i++) {
        hit[id_of(setup, there[i])] = true;
        if (ikv_scene_hit(scene, there[i]) == IKV_HIT_SOLID)
            return;
    }
}

START_TEST(never_hit)
{
    uint64_t random = (uint64_t)_i + 1;
    int told = 0;
    for (int turn = 0; turn < 40; turn++) {
        char text[8192];
        bool named[THINGS] = {0}, hit[THINGS] = {0};
        size_t used = (size_t)snprintf(
            text, sizeof text,
            "{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":\"h\","
            "\"kinds\":[\"pointer.down\"],\"reactions\":[\"stop\"],\"at\":["
            "\"t0\",\"t1\",\"t2\",\"t3\",\"t4\",\"t5\",\"t6\",\"t7\",\"t8\","
            "\"t9\",\"t10\",\"t11\"]}],\"targets\":[");
        for (int id = 0; id < THINGS; id++)
            used += put_thing(text + used, sizeof text - used, id, &random);
        snprintf(text + used, sizeof text - used, "]}");
        write_file(SETUP, text);
        ikv_setup *setup;
        ikv_message message = {"?"};
        bench_kit k;
        ck_assert_msg(ikv_setup_read(SETUP, &setup, &message) == IKV_OK, "%s",
                      message.text);
        status_is(ikv_setup_survey(setup, note_named, named), IKV_ABSENT);
        kit_prepare(&k);
        ok(ikv_setup_size(setup, &k.config));
        kit_open(&k);
        ok(ikv_setup_apply(setup, k.kit, 0, &message));
        ok(ikv_setup_survey(setup, note_named, named));
        /* off the lattice on which edges lie */
        for (int at = 0; at < 500; at++)
            note_hit(setup, ikv_kit_scene(k.kit),
                     (float)random_below(&random, 160) - 40.37f,
                     (float)random_below(&random, 160) - 40.41f, hit);
        for (int id = 0; id < THINGS; id++) {
            ck_assert_msg(!(named[id] && hit[id]), "t%d: %s", id, text);
            told += named[id];
        }
        kit_close(&k);
        ikv_setup_close(setup);
    }
    ck_assert_int_gt(told, 5);
    status_is(ikv_setup_survey(NULL, note_named, NULL), IKV_BAD_ARGUMENT);
}
END_TEST

/* ------------------------------------------------------------ what waited -- */

/* A lane of the program's own in 100 steps, deferred to in each and flushed in
 * each nth; and a key that was pushed so long after its time. */
static const struct {
    int flush_every; /* 0: never */
    uint64_t late_ms;
    const char *told;
} waited_table[] = {
    {1, 0, ""},
    {30, 0, ""},
    {59, 0, ""},
    {61, 0, "tide: events waited on this lane for up to 60 steps"},
    {80, 0, "tide: events waited on this lane for up to 79 steps"},
    {0, 0, "tide: 100 events wait on this lane, and it was never flushed"},
    {1, 90, ""},
    {1, 110,
     "input: 1 events had waited longer than a frame when they were taken in, "
     "up to 110 ms"},
};

static void keep_told(const ikv_mistake *mistake, void *text)
{
    ck_assert_msg(*(char *)text == '\0', "%s; %s", (char *)text, mistake->text);
    ck_assert_ptr_nonnull(ikv_mistake_about(mistake->code));
    snprintf(text, 256, "%s", mistake->text);
}

START_TEST(what_waited)
{
    bench_kit k;
    ikv_setup *setup;
    ikv_review *review;
    ikv_lane lane;
    char told[256] = "";
    write_file(SETUP, "{\"format\":\"ikvar.setup/1\"}");
    ok(ikv_setup_read(SETUP, &setup, NULL));
    kit_prepare(&k);
    k.config.bus.deferred = 256;
    kit_open(&k);
    ok(ikv_setup_apply(setup, k.kit, 0, NULL));
    ok(ikv_review_open(k.kit, setup, &review));
    ok(ikv_bus_add_lane(k.bus, "tide", &lane));
    kit_frame(&k, 0);
    for (int step = 1; step <= 100; step++) {
        ikv_event event = ikv_event_make(IKV_KIND_WINDOW_FOCUS, 0);
        ok(ikv_bus_defer(k.bus, lane, &event));
        kit_frame_ns(&k, (uint64_t)step * 16666667);
        if (waited_table[_i].flush_every > 0 &&
            step % waited_table[_i].flush_every == 0)
            ok(ikv_bus_flush(k.bus, lane, NULL));
    }
    if (waited_table[_i].late_ms > 0) {
        ikv_event event = ikv_event_make(
            IKV_KIND_KEY_DOWN,
            7000000000 + (1700 - waited_table[_i].late_ms) * 1000000);
        event.device = k.fake.device;
        ok(ikv_sink_push(k.fake.sink, &event));
        kit_frame(&k, 1700);
    }
    ok(ikv_review_tell(review, keep_told, told));
    ck_assert_str_eq(told, waited_table[_i].told);
    ok(ikv_review_close(review));
    kit_close(&k);
    ikv_setup_close(setup);
}
END_TEST

Suite *mistakes_suite(void)
{
    Suite *s = suite_create("mistakes");
    add_table(s, "16 what check says", what_check_says,
              case_count("checks.txt"));
    add_table(s, "16 codes of mistakes", codes_of_mistakes, mistake_count());
    add_table(s, "16 conditions that exclude", never_matches, 10);
    add_table(s, "16 never hit", never_hit, 10);
    add_table(s, "16 what waited", what_waited, ROWS(waited_table));
    return s;
}
