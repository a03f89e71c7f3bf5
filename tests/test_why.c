/* test_why.c - the answers of `ikvar why`: setups and tapes that work are broken
 * in one way, and the answer names that one and no other; in two ways, and it
 * names both in their order. */
#define _XOPEN_SOURCE 700 /* strdup */
#include "support.h"

#include <jansson.h>

#define CASES "why.txt"

/* What has changed of a text, by lines "OLD => NEW"; "\n" stands for an end of
 * line. How often each was found is added to `found`. */
static char *changed(const char *text, const char *changes, int *found)
{
    char *result = strdup(text), *list = strdup(changes);
    for (char *at = strtok(list, "\n"); at != NULL; at = strtok(NULL, "\n")) {
        char *arrow = strstr(at, " =>");
        ck_assert_ptr_nonnull(arrow);
        *arrow = '\0';
        const char *to = arrow[3] == ' ' ? arrow + 4 : arrow + 3;
        char words[2][2000];
        for (int i = 0; i < 2; i++) {
            const char *from = i == 0 ? at : to;
            size_t used = 0;
            for (; *from != '\0'; from++) {
                bool end = from[0] == '\\' && from[1] == 'n';
                words[i][used++] = end ? '\n' : *from;
                from += end;
            }
            words[i][used] = '\0';
        }
        char *where = strstr(result, words[0]);
        *found += where != NULL;
        if (where == NULL)
            continue;
        size_t room = strlen(result) + strlen(words[1]) + 1;
        char *made = malloc(room);
        snprintf(made, room, "%.*s%s%s", (int)(where - result), result,
                 words[1], where + strlen(words[0]));
        free(result);
        result = made;
    }
    free(list);
    return result;
}

static int lines_of(const char *text)
{
    int count = text[0] != '\0';
    for (; *text != '\0'; text++)
        count += *text == '\n' && text[1] != '\0';
    return count;
}

static void write_case(int nth)
{
    static const char *const files[] = {"why.setup.json", "why.tape.jsonl"};
    const char *changes = case_text(CASES, nth, "change");
    char path[256];
    int found = 0;
    for (int i = 0; i < 2; i++) {
        snprintf(path, sizeof path, SOURCE "/tests/golden/%s", files[i]);
        char *text = read_file(path), *now = changed(text, changes, &found);
        write_file(files[i], now);
        free(text);
        free(now);
    }
    ck_assert_int_eq(found, lines_of(changes));
}

/* The same answer is at the end of a trace with decisions. */
static void expect_in_trace(const char *ask, const char *answer)
{
    char about[16], name[64], more[2], said[4096];
    if (sscanf(ask, "--%15s %63s %1s", about, name, more) != 2)
        return; /* of a part of the run, of a kind, of two */
    run_command_line(said, sizeof said,
                     BINARY "/ikvar run --json --decisions why.setup.json "
                            "why.tape.jsonl | grep '^{\"answer\":\"%s\","
                            "\"name\":\"%s\"' > why.answer.json",
                     about, name);
    json_t *line = json_load_file("why.answer.json", 0, NULL);
    ck_assert_ptr_nonnull(line);
    /* behind what was reported */
    const char *text = json_string_value(json_object_get(line, "text"));
    ck_assert_uint_le(strlen(text), strlen(answer));
    ck_assert_str_eq(answer + strlen(answer) - strlen(text), text);
    json_decref(line);
}

START_TEST(answers)
{
    char output[4096];
    write_case(_i);
    int code =
        run_command_line(output, sizeof output,
                         BINARY "/ikvar why why.setup.json why.tape.jsonl %s",
                         case_text(CASES, _i, "ask"));
    bool called = strstr(output, "passed by.") != NULL;
    ck_assert_msg(code == (called ? 0 : 1), "%d: %s", code, output);
    expect_in_trace(case_text(CASES, _i, "ask"), output);
    size_t length = strlen(output);
    ck_assert(length > 0 && output[length - 1] == '\n');
    output[length - 1] = '\0';
    expect_case(CASES, _i, "says", output);
}
END_TEST

/* ---------------------------------------------------------------- made up -- */

/* A setup and a tape that work, made up: boxes in a grid, each somewhere in a
 * tree of groups, a press and a release on one of them. Then something is broken
 * in the files, by what is written into them alone. */
enum {
    BOXES = 9,
    SIDE = 100
};

typedef struct made_up {
    uint64_t seed;
    int subject, other, groups, depth[4];
    /* What is broken. */
    char target[96], group[128], handler[160], more_targets[160],
        more_handlers[200], kind[32];
    float down[2], up[2];
} made_up;

static int pick_one(made_up *m, uint32_t count)
{
    return (int)random_below(&m->seed, count);
}

static void break_outside(made_up *m)
{
    m->down[0] = m->up[0] = m->down[1] = m->up[1] = 3;
}

static void break_covered(made_up *m)
{
    snprintf(m->more_targets, sizeof m->more_targets,
             ",{\"id\":\"cover\",\"z\":99,\"shape\":{\"rect\":[0,0,900,900]}}");
}

static void break_layer(made_up *m)
{
    snprintf(m->more_targets, sizeof m->more_targets,
             ",{\"id\":\"cover\",\"layer\":\"panel\",\"z\":-9,"
             "\"shape\":{\"rect\":[0,0,900,900]}}");
}

static void break_hidden(made_up *m)
{
    strcat(m->target, ",\"hidden\":true");
}

static void break_group(made_up *m)
{
    strcat(m->group, ",\"hidden\":true");
}

static void break_off(made_up *m)
{
    strcat(m->target, ",\"hit\":\"off\"");
}

static void break_clip(made_up *m)
{
    strcat(m->group, ",\"clip\":true,\"shape\":{\"rect\":[5000,0,9,9]}");
}

static void break_press(made_up *m)
{
    m->down[0] = (float)(m->other % 3 * SIDE + SIDE / 2);
    m->down[1] = (float)(m->other / 3 * SIDE + SIDE / 2);
}

static void break_muted(made_up *m)
{
    strcat(m->handler, ",\"muted\":true");
}

static void break_condition(made_up *m)
{
    strcat(m->handler, ",\"conditions\":[{\"field\":\"button\",\"value\":2}]");
}

static void break_after(made_up *m)
{
    strcat(m->handler, ",\"after\":1");
}

static void break_phase(made_up *m)
{
    strcat(m->handler, ",\"phases\":[\"bubbling\"]");
}

static void break_stop(made_up *m)
{
    snprintf(m->more_handlers, sizeof m->more_handlers,
             ",{\"name\":\"stopper\",\"kinds\":[\"pointer.click\"],"
             "\"phases\":[\"capturing\"],\"reactions\":[\"stop\"]}");
}

static void break_ended(made_up *m)
{
    snprintf(m->more_handlers, sizeof m->more_handlers,
             ",{\"name\":\"ender\",\"kinds\":[\"pointer.down\"],"
             "\"reactions\":[{\"unsubscribe\":\"subject\"}]}");
}

static void break_kind(made_up *m)
{
    strcpy(m->kind, "pointer.double");
}

/* In the order in which they stand in the way; those of one sort do not go
 * together. */
static const struct {
    const char *code;
    int sort; /* 0: where it goes; 1: who is before; 2: the handler itself */
    void (*plant)(made_up *m);
} breakages[] = {
    {"outside", 0, break_outside},     {"covered", 0, break_covered},
    {"covered", 0, break_layer},       {"hidden", 0, break_hidden},
    {"parent-hidden", 0, break_group}, {"hit-off", 0, break_off},
    {"clipped", 0, break_clip},        {"pressed", 0, break_press},
    {"phase", 1, break_phase},         {"stopped", 1, break_stop},
    {"muted", 2, break_muted},         {"condition", 2, break_condition},
    {"after", 2, break_after},         {"ended", 3, break_ended},
    {"no-event", 3, break_kind},
};

/* Of the scene, in the order in which a hit test gives up; all that stand in the
 * way are told, but what lies above is asked where the shape is alone. */
static const struct {
    const char *code;
    void (*plant)(made_up *m);
} scene_breakages[] = {
    {"hidden", break_hidden}, {"parent-hidden", break_group},
    {"hit-off", break_off},   {"outside", break_outside},
    {"clipped", break_clip},  {"covered", break_covered},
};

static void make_up(made_up *m)
{
    m->subject = pick_one(m, BOXES);
    m->other = (m->subject + 1 + pick_one(m, BOXES - 1)) % BOXES;
    m->groups = 1 + pick_one(m, 3);
    m->down[0] = m->up[0] = (float)(m->subject % 3 * SIDE + SIDE / 2);
    m->down[1] = m->up[1] = (float)(m->subject / 3 * SIDE + SIDE / 2);
    strcpy(m->kind, "pointer.click");
}

/* A chain of groups, each a little off, and the boxes in some of them; the
 * subject in the last. */
static void write_made_up(made_up *m)
{
    record setup = {""}, tape = {""};
    note(&setup,
         "{\"format\":\"ikvar.setup/1\",\"layers\":[{\"name\":\"world\"},"
         "{\"name\":\"panel\"}],\"targets\":[");
    int off = 0;
    for (int g = 0; g < m->groups; g++) {
        int by = pick_one(m, 20);
        off += by;
        m->depth[g] = off;
        note(&setup, "{\"id\":\"group%d\",\"position\":[%d,0],\"z\":%d", g, by,
             pick_one(m, 5));
        if (g > 0)
            note(&setup, ",\"parent\":\"group%d\"", g - 1);
        note(&setup, "%s},", g == m->groups - 1 ? m->group : "");
    }
    for (int b = 0; b < BOXES; b++) {
        int g = b == m->subject ? m->groups - 1
                                : pick_one(m, (uint32_t)m->groups + 1) - 1;
        note(&setup, "%s{\"id\":\"box%d\",\"position\":[%d,%d],\"z\":%d",
             b > 0 ? "," : "", b,
             b % 3 * SIDE + 10 - (g >= 0 ? m->depth[g] : 0), b / 3 * SIDE + 10,
             pick_one(m, 5));
        if (g >= 0)
            note(&setup, ",\"parent\":\"group%d\"", g);
        note(&setup, ",\"shape\":{\"rect\":[0,0,%d,%d]}%s}", SIDE - 20,
             SIDE - 20, b == m->subject ? m->target : "");
    }
    note(&setup,
         "%s],\"handlers\":[{\"name\":\"subject\",\"kinds\":[\"%s\"],"
         "\"at\":\"box%d\"%s,\"reactions\":[{\"log\":\"here\"}]}%s]}",
         m->more_targets, m->kind, m->subject, m->handler, m->more_handlers);
    note(&tape,
         "{\"format\":\"ikvar.tape/2\"}\n{\"t\":100,\"kind\":\"pointer.down\","
         "\"x\":%g,\"y\":%g}\n{\"t\":150,\"kind\":\"pointer.up\",\"x\":%g,"
         "\"y\":%g}\n",
         (double)m->down[0], (double)m->down[1], (double)m->up[0],
         (double)m->up[1]);
    write_file("made.setup.json", setup.text);
    write_file("made.tape.jsonl", tape.text);
}

/* The codes of the answer, one after the other. */
static void ask_made_up(made_up *m, int code, const char *codes)
{
    char output[4096], found[256] = "", *at = output;
    write_made_up(m);
    int exit_code = run_command_line(
        output, sizeof output,
        BINARY "/ikvar why made.setup.json made.tape.jsonl --handler subject");
    while ((at = strstr(at, "\n  ")) != NULL) {
        const char *word = strchr(at, '.') + 2;
        strncat(found, word, strcspn(word, ":"));
        strcat(found, " ");
        at++;
    }
    ck_assert_msg(exit_code == code && strcmp(found, codes) == 0,
                  "%d, \"%s\" and not \"%s\": %s", exit_code, found, codes,
                  output);
}

/* What works is never explained away; what is broken in one way is named, and
 * nothing else; in two ways both, in their order. IKV_WHY_RUNS: how many more. */
START_TEST(broken_at_random)
{
    const char *more = getenv("IKV_WHY_RUNS");
    int runs = more != NULL ? atoi(more) : 3;
    for (int run = 0; run < runs; run++) {
        made_up m = {.seed = 900 + (uint64_t)_i * 7919 + (uint64_t)run};
        char codes[64];
        make_up(&m);
        uint64_t shape = m.seed;
        if (run == 0)
            ask_made_up(&m, 0, "");
        int first = pick_one(&m, ROWS(breakages));
        int second = pick_one(&m, ROWS(breakages));
        /* What does not come by is not asked for its phase, nor stopped. */
        bool two = breakages[first].sort < 2 && breakages[second].sort == 2;
        breakages[first].plant(&m);
        if (two)
            breakages[second].plant(&m);
        snprintf(codes, sizeof codes, "%s %s%s", breakages[first].code,
                 two ? breakages[second].code : "", two ? " " : "");
        m.seed = shape;
        ask_made_up(&m, 1, codes);
    }
}
END_TEST

START_TEST(scene_pairs)
{
    enum {
        ALL = ROWS(scene_breakages)
    };
    int first = _i / ALL, second = _i % ALL;
    if (first >= second)
        return;
    made_up m = {.seed = 31 + (uint64_t)_i};
    char codes[64];
    make_up(&m);
    scene_breakages[first].plant(&m);
    scene_breakages[second].plant(&m);
    bool both = second != ALL - 1 || first < 3;
    snprintf(codes, sizeof codes, "%s %s%s", scene_breakages[first].code,
             both ? scene_breakages[second].code : "", both ? " " : "");
    ask_made_up(&m, 1, codes);
}
END_TEST

/* Of the handler itself all that would keep it from the event. */
static const struct {
    const char *code;
    void (*plant)(made_up *m);
} handler_breakages[] = {{"phase", break_phase},
                         {"muted", break_muted},
                         {"condition", break_condition},
                         {"after", break_after}};

START_TEST(handler_pairs)
{
    made_up m = {.seed = 51 + (uint64_t)_i};
    char codes[64] = "";
    make_up(&m);
    for (int i = 0; i < ROWS(handler_breakages); i++)
        if (_i >> i & 1) {
            handler_breakages[i].plant(&m);
            strcat(codes, handler_breakages[i].code);
            strcat(codes, " ");
        }
    ask_made_up(&m, _i > 0, codes);
}
END_TEST

/* ------------------------------------------------------ actions, overlaps -- */

/* A program with one way to be broken: what is written into its files. */
typedef struct broken {
    const char *code;   /* "": it works */
    const char *target; /* more members of the subject: a lamp; the ferry */
    const char *other;  /* of the other: a buoy; the berth */
    const char *action; /* bindings in place of the made-up chord */
    const char *more;   /* actions, handlers beside */
    bool early;         /* the chord's first key is let go before */
    bool elsewhere;     /* another key; the two apart */
} broken;

static const broken action_table[] = {
    {.code = ""},
    {.code = "no-event", .elsewhere = true},
    {.code = "unbound", .action = ""},
    {.code = "not-held", .early = true},
    {.code = "set-off", .more = "\"on\":false"},
    {.code = "scope", .action = "within"},
    {.code = "scope", .action = "layer"},
    {.code = "claimed", .more = "stop"},
    {.code = "longer", .more = "longer"},
};

static const char *const chord_keys[] = {"KeyA", "KeyB", "KeyC", "Digit1",
                                         "Space"};

/* So many actions, one of them asked about; its chord is pressed, and others. */
static void write_action(const broken *b, uint64_t *random)
{
    record setup = {""}, tape = {""};
    int count = 1 + (int)random_below(random, 4);
    int subject = (int)random_below(random, (uint32_t)count);
    const char *first = chord_keys[random_below(random, 2)];
    const char *last = chord_keys[2 + random_below(random, 3)];
    bool scoped = b->action != NULL && *b->action != '\0';
    bool stops = b->more != NULL && strcmp(b->more, "stop") == 0;
    bool longer = b->more != NULL && strcmp(b->more, "longer") == 0;
    note(&setup,
         "{\"format\":\"ikvar.setup/1\",\"layers\":[{\"name\":\"world\"},{"
         "\"name\":\"panel\"}],\"targets\":[{\"id\":\"pier\",\"shape\":{"
         "\"rect\":[0,0,9,9]}}],\"sets\":[{\"name\":\"helm\"%s}],\"actions\":"
         "[",
         b->more != NULL && !stops && !longer ? ",\"on\":false" : "");
    for (int i = 0; i < count; i++) {
        note(&setup, "%s{\"name\":\"%s%d\",\"set\":\"helm\",\"bindings\":[",
             i > 0 ? "," : "", i == subject ? "subject" : "other",
             i == subject ? 0 : i);
        if (i != subject)
            note(&setup, "\"F%d\"", i + 1);
        else if (scoped)
            note(&setup, "{\"press\":\"%s+%s\",\"%s\":\"%s\"}", first, last,
                 b->action, b->action[0] == 'w' ? "pier" : "panel");
        else if (b->action == NULL)
            note(&setup, "\"%s+%s\"", first, last);
        note(&setup, "]}");
    }
    if (longer)
        note(&setup, ",{\"name\":\"more\",\"bindings\":[\"F9+%s+%s\"]}", first,
             last);
    /* the chord's last press alone: what is stopped is not held either */
    note(&setup,
         "],\"handlers\":[{\"name\":\"h\",\"kinds\":[\"%s\"],"
         "\"conditions\":[{\"field\":\"%s\",\"value\":\"%s\"}],"
         "\"reactions\":[\"%s\"]}]}",
         stops ? "key.down" : "action.start", stops ? "code" : "action",
         stops ? last : "subject0", stops ? "stop" : "stop_all");
    note(&tape, "{\"format\":\"ikvar.tape/2\"}\n");
    if (longer)
        note(&tape, "{\"t\":80,\"kind\":\"key.down\",\"code\":\"F9\"}\n");
    note(&tape, "{\"t\":90,\"kind\":\"key.down\",\"code\":\"%s\"}\n",
         b->elsewhere ? "KeyZ" : first);
    if (b->early)
        note(&tape, "{\"t\":95,\"kind\":\"key.up\",\"code\":\"%s\"}\n", first);
    note(&tape, "{\"t\":100,\"kind\":\"key.down\",\"code\":\"%s\"}\n",
         b->elsewhere ? "KeyY" : last);
    write_file("made.setup.json", setup.text);
    write_file("made.tape.jsonl", tape.text);
}

/* The first code of the answer, and its exit code. */
static void ask_broken(const broken *b, const char *ask)
{
    char output[4096], found[64] = "";
    int code = run_command_line(
        output, sizeof output,
        BINARY "/ikvar why made.setup.json made.tape.jsonl %s", ask);
    const char *at = strstr(output, "\n  1. ");
    if (at != NULL)
        snprintf(found, sizeof found, "%.*s", (int)strcspn(at + 6, ":"),
                 at + 6);
    ck_assert_msg(code == (*b->code != '\0') && strcmp(found, b->code) == 0 &&
                      strstr(output, "\n  2. ") == NULL,
                  "%d, expected \"%s\" alone: %s", code, b->code, output);
}

START_TEST(broken_actions)
{
    uint64_t random = 7 + (uint64_t)_i;
    const broken *b = &action_table[_i % ROWS(action_table)];
    write_action(b, &random);
    ask_broken(b, "--action subject0");
}
END_TEST

static const broken overlap_table[] = {
    {.code = ""},
    {.code = "apart", .elsewhere = true},
    {.code = "senses", .other = ",\"senses\":[\"gull\"]"},
    {.code = "hidden", .target = ",\"hidden\":true"},
    {.code = "hidden", .other = ",\"senses\":[\"ferry\"],\"hidden\":true"},
    {.code = "parent-hidden", .more = ",\"hidden\":true"},
    {.code = "layer", .other = ",\"senses\":[\"ferry\"],\"layer\":\"panel\""},
    {.code = "disabled", .target = ",\"overlaps\":false"},
    {.code = "same-body",
     .more = ",\"body\":true",
     .other = ",\"senses\":[\"ferry\"],\"parent\":\"group\""},
};

/* A ferry in a group, at a berth that senses it; others beside, far away. */
static void write_overlap(const broken *b, uint64_t *random)
{
    record setup = {""};
    int x = (int)random_below(random, 200), y = (int)random_below(random, 200);
    int off = (int)random_below(random, 30);
    int size = 10 + (int)random_below(random, 30);
    int at[2] = {x + (int)random_below(random, (uint32_t)size),
                 y + (int)random_below(random, (uint32_t)size)};
    bool in_group = b->other != NULL && strstr(b->other, "parent") != NULL;
    if (b->elsewhere)
        at[0] = x + 200;
    note(
        &setup,
        "{\"format\":\"ikvar.setup/1\",\"layers\":[{\"name\":\"world\"},{"
        "\"name\":\"panel\"}],\"targets\":[{\"id\":\"group\",\"position\":["
        "%d,%d]%s},{\"id\":\"ferry\",\"parent\":\"group\",\"position\":[%d,%d],"
        "\"shape\":{\"rect\":[0,0,%d,%d]},\"tags\":[\"ferry\"]%s},{\"id\":"
        "\"berth\",\"position\":[%d,%d],\"shape\":{\"rect\":[0,0,%d,%d]}%s}",
        off, off, b->more != NULL ? b->more : "", x - off, y - off, size, size,
        b->target != NULL ? b->target : "", at[0] - (in_group ? off : 0),
        at[1] - (in_group ? off : 0), size, size,
        b->other != NULL ? b->other : ",\"senses\":[\"ferry\"]");
    for (int i = (int)random_below(random, 4); i > 0; i--)
        note(&setup,
             ",{\"id\":\"buoy%d\",\"position\":[%d,900],\"shape\":{\"circle\":"
             "[0,0,9]},\"tags\":[\"ferry\"],\"senses\":[\"ferry\"]}",
             i, i * 50);
    note(&setup, "]}");
    write_file("made.setup.json", setup.text);
    write_file("made.tape.jsonl", "{\"format\":\"ikvar.tape/2\",\"until\":100}"
                                  "\n");
}

START_TEST(broken_overlaps)
{
    uint64_t random = 77 + (uint64_t)_i;
    const broken *b = &overlap_table[_i % ROWS(overlap_table)];
    write_overlap(b, &random);
    ask_broken(b,
               _i % 2 == 0 ? "--overlap ferry berth" : "--overlap berth ferry");
}
END_TEST

/* ---------------------------------------------------------------- the past -- */

/* What a case asks, in words: "--handler light" ... */
static bool read_question(int nth, const ikv_setup *setup, ikv_kit *kit,
                          ikv_why_config *config)
{
    char ask[128];
    snprintf(ask, sizeof ask, "%s ", case_text(CASES, nth, "ask"));
    char *what = strtok(ask, " "), *name = strtok(NULL, " ");
    *config = (ikv_why_config)IKV_WHY_INIT;
    config->kit = kit;
    config->setup = setup;
    if (strstr(case_text(CASES, nth, "ask"), "--from") != NULL)
        config->from_ns = 151000000;
    if (strcmp(what, "--handler") == 0) {
        config->about = IKV_ASK_HANDLER;
        config->subscription = ikv_setup_subscription(setup, name);
    } else if (strcmp(what, "--action") == 0) {
        config->about = IKV_ASK_ACTION;
        config->action = ikv_actions_find(ikv_kit_actions(kit), name);
    } else if (strcmp(what, "--target") == 0) {
        config->about = IKV_ASK_TARGET;
        config->target = ikv_setup_target(setup, name);
        if (strstr(case_text(CASES, nth, "ask"), "--kind") != NULL)
            config->kind = IKV_KIND_POINTER_CLICK;
    }
    return config->about != 0;
}

static void print_answer(const ikv_why *why, char *text, size_t size)
{
    FILE *file = fmemopen(text, size, "w");
    ok(ikv_why_print(why, file, IKV_PRINT_TEXT));
    fclose(file);
}

/* A question that is asked when all is over is answered from the last decisions
 * as one that was asked before. */
START_TEST(recalled)
{
    char before[4096] = "", after[4096] = "";
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_port port;
    ikv_kit *kit;
    ikv_why *asked_before, *asked_after;
    ikv_why_past *past;
    ikv_why_config question;
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    write_case(_i);
    ok(ikv_setup_read("why.setup.json", &setup, NULL));
    ok(ikv_tape_open("why.tape.jsonl", setup, &tape, NULL));
    sim.tape = tape;
    ok(ikv_sim_open(&sim, &port));
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ok(ikv_setup_size(setup, &config));
    ok(ikv_kit_open(&config, &kit));
    ok(ikv_setup_apply(setup, kit, 0, NULL));
    bool asks = read_question(_i, setup, kit, &question);
    if (asks) {
        ok(ikv_why_watch(kit, 4000, &past));
        ok(ikv_why_open(&question, &asked_before));
        while (whole_frame(ikv_kit_loop(kit))) {
        }
        question.past = past;
        print_answer(asked_before, before, sizeof before);
        ok(ikv_why_open(&question, &asked_after));
        print_answer(asked_after, after, sizeof after);
        ok(ikv_why_close(asked_after));
        ok(ikv_why_close(asked_before));
        ok(ikv_why_unwatch(past));
        /* what was asked of no one then is left out: it was the moment's */
        size_t same = strlen(after);
        ck_assert_msg(
            strncmp(before, after, same) == 0 &&
                (before[same] == '\0' ||
                 strcmp(before + same, "  2. muted: it is muted from the "
                                       "beginning.\n") == 0),
            "%s\nbefore: %safter: %s", case_text(CASES, _i, "case"), before,
            after);
    }
    ikv_kit_close(kit);
    ikv_sim_close(&port);
    ikv_tape_close(tape);
    ikv_setup_close(setup);
}
END_TEST

/* ------------------------------------------------------------ in a program -- */

static bench_kit k;
static ikv_target lamp, crane;
static ikv_subscription light;

static ikv_verdict hear(const ikv_event *e, const ikv_delivery *d, void *user)
{
    ikv_why *why = user;
    (void)e, (void)d;
    if (why != NULL)
        status_is(ikv_why_close(why), IKV_BUSY);
    return IKV_CONTINUE;
}

static const char *name_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits ? "the lamp" : NULL;
}

static ikv_why_config open_question(uint32_t about)
{
    ikv_why_config config = IKV_WHY_INIT;
    ikv_target none = {0};
    ikv_subscription_config listens = IKV_SUBSCRIPTION_INIT;
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    lamp = rect_target(k.scene, none, 0, 0, 50, 50, 0);
    crane = rect_target(k.scene, none, 100, 0, 50, 50, 0);
    listens.kind = IKV_KIND_POINTER_ENTER;
    listens.at = lamp;
    listens.handler = hear;
    listens.name = "light";
    ok(ikv_bus_subscribe(k.bus, &listens, &light, NULL));
    config.kit = k.kit;
    config.about = about;
    config.subscription = light;
    config.target = lamp;
    return config;
}

static void expect_answer(const ikv_why *why, const char *expected)
{
    char *text = NULL;
    FILE *file = fopen("answer.txt", "w");
    ok(ikv_why_print(why, file, IKV_PRINT_TEXT));
    fclose(file);
    text = read_file("answer.txt");
    ck_assert_str_eq(text, expected);
    free(text);
}

/* What is on a lane has come in, and no further; refused, not even that. */
START_TEST(on_a_lane)
{
    ikv_why_config config = open_question(IKV_ASK_HANDLER);
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    ikv_why *why;
    ikv_lane lane;
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_ENTER, 2000000);
    e.target = lamp;
    ok(ikv_bus_add_lane(k.bus, "evening", &lane));
    ok(ikv_why_open(&config, &why));
    expect_answer(why, "light was not called.\n"
                       "  1. no-event: no such event came: pointer.enter.\n");
    ok(ikv_bus_defer(k.bus, lane, &e));
    expect_answer(why,
                  "light was not called.\n"
                  "Nearest: pointer.enter at 2 ms, at (0, 0), to 0.\n"
                  "  1. waiting: the lane \"evening\" has not been flushed "
                  "since.\n");
    ok(ikv_bus_flush(k.bus, lane, NULL));
    ok(ikv_why_ask(why, &answer));
    ck_assert_uint_eq(answer.called, 1);
    ck_assert_uint_eq(answer.count, 0);
    ok(ikv_why_close(why));
    ok(ikv_why_open(&config, &why));
    e.target.bits = 12345;
    status_is(ikv_bus_deliver(k.bus, &e).status, IKV_STALE);
    ok(ikv_why_ask(why, &answer));
    ck_assert_uint_eq(answer.obstacles[0].code, IKV_WHY_REFUSED);
    ck_assert_int_eq(answer.obstacles[0].found.bits.integer, IKV_STALE);
    /* What came further takes its place. */
    e.target = crane;
    ok(ikv_bus_deliver(k.bus, &e).status);
    ok(ikv_why_ask(why, &answer));
    ck_assert_uint_eq(answer.obstacles[0].code, IKV_WHY_PATH);
    ck_assert_uint_eq(answer.at.bits, crane.bits);
    ck_assert_uint_eq(answer.missed, 2);
    ok(ikv_why_close(why));
    kit_close(&k);
}
END_TEST

/* The caller names targets; a window of time; one kind. */
START_TEST(own_names)
{
    ikv_why_config config = open_question(IKV_ASK_TARGET);
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    ikv_why *why, *later;
    config.target_name = name_of;
    ok(ikv_why_open(&config, &why));
    config.from_ns = 60000000;
    config.to_ns = 70000000;
    config.kind = IKV_KIND_POINTER_UP;
    ok(ikv_why_open(&config, &later));
    for (int i = 0; i < 4; i++) {
        ikv_event e = ikv_event_make(
            i % 2 ? IKV_KIND_POINTER_UP : IKV_KIND_POINTER_DOWN, k.fake.now_ns);
        e.device = k.fake.device;
        e.pointer.x = 60;
        e.pointer.y = 50;
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 20 * (uint64_t)i + 20);
    }
    expect_answer(why,
                  "the lamp was not hit.\n"
                  "Nearest: pointer.up at 60 ms, step 3, at (60, 50), to "
                  "root.\n"
                  "  1. outside: (60, 50) is 10 units outside the lamp.\n");
    ok(ikv_why_ask(later, &answer));
    ck_assert_uint_eq(answer.missed, 1);
    ck_assert_uint_eq(answer.event.kind, IKV_KIND_POINTER_UP);
    ok(ikv_why_close(why));
    ok(ikv_why_close(later));
    kit_close(&k);
}
END_TEST

/* What can't be asked says so, and watches nothing. */
START_TEST(odd_questions)
{
    ikv_why_config config = open_question(IKV_ASK_HANDLER), odd = config;
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    ikv_why *why = NULL, *many[IKV_WATCHER_LIMIT];
    odd.about = 9;
    status_is(ikv_why_open(&odd, &why), IKV_BAD_ARGUMENT);
    odd = config;
    odd.size = 8;
    status_is(ikv_why_open(&odd, &why), IKV_BAD_SIZE);
    odd = config;
    odd.subscription.bits = 12345;
    status_is(ikv_why_open(&odd, &why), IKV_STALE);
    odd = config;
    odd.about = IKV_ASK_TARGET;
    odd.target.bits = 12345;
    status_is(ikv_why_open(&odd, &why), IKV_STALE);
    ck_assert_ptr_null(why);
    for (int i = 0; i < IKV_WATCHER_LIMIT; i++)
        ok(ikv_why_open(&config, &many[i]));
    status_is(ikv_why_open(&config, &why), IKV_FULL_WATCHERS);
    for (int i = 1; i < IKV_WATCHER_LIMIT; i++)
        ok(ikv_why_close(many[i]));
    answer.size = 8;
    status_is(ikv_why_ask(many[0], &answer), IKV_BAD_SIZE);
    status_is(ikv_why_print(many[0], stdout, 2), IKV_BAD_ARGUMENT);
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, hear, many[0]);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ok(ikv_bus_deliver(k.bus, &e).status);
    FILE *full = fopen("/dev/full", "w");
    setvbuf(full, NULL, _IONBF, 0);
    status_is(ikv_why_print(many[0], full, IKV_PRINT_TEXT), IKV_BAD_FILE);
    status_is(ikv_why_print(many[0], full, IKV_PRINT_JSON), IKV_BAD_FILE);
    fclose(full);
    ok(ikv_why_close(many[0]));
    kit_close(&k);
}
END_TEST

/* How many of five misses and one call are remembered, by as much room; each
 * takes two decisions or, called, four. What has ended since is known as long as
 * its end is kept, and steps that nobody hears take no room. */
static const struct {
    uint32_t room;
    unsigned missed, called;
} memory_table[] = {{1, 0, 0},  {3, 0, 0},  {4, 0, 1},  {6, 1, 1},
                    {13, 4, 1}, {14, 5, 1}, {15, 5, 1}, {4000, 5, 1}};

START_TEST(short_memory)
{
    ikv_why_config config = open_question(IKV_ASK_HANDLER);
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    ikv_why_past *past = NULL;
    ikv_why *why;
    status_is(ikv_why_watch(NULL, 4, &past), IKV_BAD_ARGUMENT);
    status_is(ikv_why_watch(k.kit, 4, NULL), IKV_BAD_ARGUMENT);
    status_is(ikv_why_watch(k.kit, 0, &past), IKV_BAD_ARGUMENT);
    status_is(ikv_why_watch(k.kit, 1000001, &past), IKV_BAD_ARGUMENT);
    ck_assert_ptr_null(past);
    ok(ikv_why_watch(k.kit, memory_table[_i].room, &past));
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_ENTER, 0);
    for (int i = 0; i < 6; i++) {
        e.target = i < 5 ? crane : lamp;
        ok(ikv_bus_deliver(k.bus, &e).status);
    }
    kit_frame(&k, 100);
    config.past = past;
    ok(ikv_why_open(&config, &why));
    ok(ikv_why_ask(why, &answer));
    ck_assert_uint_eq(answer.missed, memory_table[_i].missed);
    ck_assert_uint_eq(answer.called, memory_table[_i].called);
    ok(ikv_why_close(why));
    ok(ikv_bus_unsubscribe(k.bus, light));
    ok(ikv_why_open(&config, &why));
    ok(ikv_why_close(why));
    config.past = NULL;
    status_is(ikv_why_open(&config, &why), IKV_STALE);
    config.past = past;
    ok(ikv_bus_deliver(k.bus, &e).status);
    status_is(ikv_why_open(&config, &why),
              memory_table[_i].room < 3 ? IKV_STALE : IKV_OK);
    if (memory_table[_i].room >= 3)
        ok(ikv_why_close(why));
    ok(ikv_why_unwatch(past));
    ok(ikv_why_unwatch(NULL));
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------- statistics -- */

static int64_t sum_of(const json_t *of, const char *member)
{
    int64_t sum = 0;
    const char *name;
    json_t *one;
    json_object_foreach((json_t *)(uintptr_t)of, name, one)
    {
        sum += json_integer_value(json_object_get(one, member));
    }
    return sum;
}

/* D10: what kinds and handlers have seen is what the bus has delivered; and of a
 * program without a setup there are no handlers' names. */
START_TEST(statistics)
{
    static char output[65536];
    int code = run_command_line(output, sizeof output,
                                BINARY "/ikvar run --stats --json " SOURCE
                                       "/demo/harbour.setup.json " SOURCE
                                       "/demo/harbour.tape.jsonl");
    ck_assert_int_eq(code, 0);
    json_t *all = json_loads(output, 0, NULL);
    const json_t *of_bus = json_object_get(all, "bus");
    const json_t *kinds = json_object_get(all, "kinds");
    int64_t delivered =
        json_integer_value(json_object_get(of_bus, "delivered"));
    ck_assert_int_gt(delivered, 300);
    ck_assert_int_eq(sum_of(kinds, "delivered"), delivered);
    ck_assert_int_eq(sum_of(kinds, "unheard"),
                     json_integer_value(json_object_get(of_bus, "unheard")));
    ck_assert_int_eq(sum_of(json_object_get(all, "handlers"), "calls"), 48);
    ck_assert_int_eq(json_integer_value(json_object_get(of_bus, "depth")), 2);
    json_decref(all);
    ikv_stats *stats;
    open_question(IKV_ASK_HANDLER);
    ok(ikv_stats_open(k.kit, NULL, &stats));
    status_is(ikv_stats_print(stats, stdout, 2), IKV_BAD_ARGUMENT);
    FILE *full = fopen("/dev/full", "w");
    setvbuf(full, NULL, _IONBF, 0);
    status_is(ikv_stats_print(stats, full, IKV_PRINT_TEXT), IKV_BAD_FILE);
    status_is(ikv_stats_print(stats, full, IKV_PRINT_JSON), IKV_BAD_FILE);
    fclose(full);
    /* A press that waits 30 ms for its frame. */
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.key.code = ikv_code_find("KeyA");
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 30);
    FILE *file = fopen("stats.json", "w");
    ok(ikv_stats_print(stats, file, IKV_PRINT_JSON));
    fclose(file);
    all = json_load_file("stats.json", 0, NULL);
    double wait = json_number_value(
        json_object_get(json_object_get(all, "latency_ms"), "p50"));
    ck_assert(wait >= 30 && wait <= 30 * 1.25);
    ck_assert_uint_eq(json_object_size(json_object_get(all, "handlers")), 0);
    json_decref(all);
    ok(ikv_stats_close(stats));
    kit_close(&k);
}
END_TEST

/* Every obstacle stands in the page that explains them. */
START_TEST(documented)
{
    char *page = read_file(SOURCE "/docs/debugging.md");
    int count = 0;
    for (uint16_t code = 1; code < 256; code++) {
        char quoted[64];
        if (strcmp(ikv_obstacle_name(code), "unknown") == 0)
            continue;
        count++;
        snprintf(quoted, sizeof quoted, "`%s`", ikv_obstacle_name(code));
        ck_assert_msg(strstr(page, quoted) != NULL, "%s", quoted);
    }
    ck_assert_int_gt(count, 20);
    free(page);
}
END_TEST

/* The command's own mistakes. */
static const struct {
    const char *arguments, *says;
    int code;
} wrong_table[] = {
    {"why.setup.json", "expected SETUP TAPE", 2},
    {"a b",
     "expected one of --handler NAME, --target ID, "
     "--action NAME, --overlap ID ID, --all",
     2},
    {"a b c --target d", "expected SETUP TAPE", 2},
    {"a b --handler c --target d", "expected one of --handler", 2},
    {"a b --handler c --kind d", "--kind is of a target", 2},
    {"a b --overlap c", "--overlap: expected two targets", 2},
    {"a b --overlap c d e", "expected SETUP TAPE", 2},
    {"%s/why.setup.json %s/why.tape.jsonl --action hron",
     "the setup has no action \"hron\"; did you mean \"horn\"?", 3},
    {"%s/why.setup.json %s/why.tape.jsonl --overlap zone lamo",
     "the setup has no target \"lamo\"; did you mean \"lamp\"?", 3},
    {"none.setup.json b --handler c", "ikvar why: none.setup.json", 3},
    {"%s/why.setup.json %s/why.tape.jsonl --handler ligth",
     "the setup has no handler \"ligth\"; did you mean \"light\"?", 3},
    {"%s/why.setup.json %s/why.tape.jsonl --target lanp",
     "the setup has no target \"lanp\"; did you mean \"lamp\"?", 3},
    {"%s/why.setup.json %s/why.tape.jsonl --target lamp --kind key.down",
     "--kind: found \"key.down\", expected a kind that has a position", 3},
    {"%s/why.setup.json %s/why.tape.jsonl --target lamp --kind clack",
     "--kind: found \"clack\", expected a kind (ikvar kinds lists them)", 3},
    {"%s/why.setup.json none.tape.jsonl --target lamp", "none.tape.jsonl", 3},
};

START_TEST(wrong_use)
{
    char output[2048], arguments[512];
    const char *golden = SOURCE "/tests/golden";
    snprintf(arguments, sizeof arguments, wrong_table[_i].arguments, golden,
             golden);
    int code = run_command_line(output, sizeof output, BINARY "/ikvar why %s",
                                arguments);
    ck_assert_msg(code == wrong_table[_i].code &&
                      strstr(output, wrong_table[_i].says) != NULL,
                  "%d: %s", code, output);
}
END_TEST

Suite *why_suite(void)
{
    Suite *s = suite_create("why");
    /* IKV_WHY_RUNS: how many more of what is made up */
    const char *more = getenv("IKV_WHY_RUNS");
    int runs = more != NULL ? atoi(more) : 3;
    add_table(s, "D7 answers", answers, case_count(CASES));
    add_table(s, "D7 recalled", recalled, case_count(CASES));
    add_table(s, "D7 broken at random", broken_at_random, 40);
    add_table(s, "D7 two of the scene", scene_pairs,
              ROWS(scene_breakages) * ROWS(scene_breakages));
    add_table(s, "D7 some of the handler", handler_pairs,
              1 << ROWS(handler_breakages));
    add_table(s, "D7 broken actions", broken_actions,
              ROWS(action_table) * runs);
    add_table(s, "D7 broken overlaps", broken_overlaps,
              ROWS(overlap_table) * runs);
    add(s, "D7 on a lane", on_a_lane);
    add(s, "D7 own names", own_names);
    add(s, "D7 odd questions", odd_questions);
    add_table(s, "D7 short memory", short_memory, ROWS(memory_table));
    add(s, "D10 statistics", statistics);
    add(s, "D7 documented", documented);
    add_table(s, "D7 wrong use", wrong_use, ROWS(wrong_table));
    return s;
}
