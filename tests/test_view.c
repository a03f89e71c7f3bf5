/* test_view.c - what traces tell besides calls: the scene, decisions and causes;
 * and the page that is made of them. Its look and its keys are tested in a
 * browser: scripts/check-page. */
#define _POSIX_C_SOURCE 200809L /* open_memstream */
#include "support.h"

#include <jansson.h>
#include <math.h>

#define TOOL  BINARY "/ikvar"
#define CASES "decisions.txt"
#define DEMO                                                                   \
    SOURCE "/demo/harbour.setup.json " SOURCE "/demo/harbour.tape.jsonl "

static char output[1 << 16];

/* ------------------------------------------------------------- decisions -- */

static const char *text_of(const json_t *line, const char *member)
{
    const char *text = json_string_value(json_object_get(line, member));
    return text != NULL ? text : "";
}

/* A trace's lines behind its header; each of them is one object. */
static json_t *read_trace(const char *path)
{
    json_t *lines = json_array();
    FILE *file = fopen(path, "r");
    ck_assert_ptr_nonnull(file);
    json_t *line;
    while ((line = json_loadf(file, JSON_DISABLE_EOF_CHECK, NULL)) != NULL)
        json_array_append_new(lines, line);
    fclose(file);
    ck_assert_str_eq(text_of(json_array_get(lines, 0), "format"),
                     "ikvar.trace/2");
    return lines;
}

/* The kind of the event of that number. */
static const char *kind_of(const json_t *lines, json_int_t number)
{
    for (size_t i = 1; i < json_array_size(lines); i++) {
        const json_t *line = json_array_get(lines, i);
        if (json_object_get(line, "decision") == NULL &&
            json_integer_value(json_object_get(line, "event")) == number)
            return text_of(line, "kind");
    }
    return "";
}

static void note_decision(record *r, const json_t *lines, const json_t *line)
{
    const json_t *list = json_object_get(line, "obstacles");
    const json_t *there = json_object_get(line, "there");
    const json_t *event = json_object_get(line, "event");
    const char *members[] = {"handler", "action", "kind", "target", "lane"};
    note(r, "%s", text_of(line, "decision"));
    if (event != NULL)
        note(r, " %s", kind_of(lines, json_integer_value(event)));
    for (int i = 0; i < ROWS(members); i++)
        if (*text_of(line, members[i]) != '\0')
            note(r, " %s", text_of(line, members[i]));
    for (size_t i = 0; i < json_array_size(there); i++)
        note(r, " %s", json_string_value(json_array_get(there, i)));
    if (*text_of(line, "captured") != '\0')
        note(r, " captured %s", text_of(line, "captured"));
    if (*text_of(line, "by") != '\0')
        note(r, " by %s", text_of(line, "by"));
    for (size_t i = 0; i < json_array_size(list); i++)
        note(r, "%s %s", i == 0 ? ":" : ";",
             text_of(json_array_get(list, i), "text"));
    note(r, " %s%s", text_of(line, "reason"), text_of(line, "status"));
    for (size_t length = strlen(r->text); r->text[length - 1] == ' ';)
        r->text[--length] = '\0';
    note(r, "\n");
}

/* What is decided, and of what each event comes. */
START_TEST(decisions)
{
    record told = {""};
    json_int_t last = 0;
    FILE *file = fopen("d.setup.json", "w");
    fprintf(file, "{\"format\":\"ikvar.setup/1\",%s}",
            case_text(CASES, _i, "text"));
    fclose(file);
    file = fopen("d.tape.jsonl", "w");
    fputs("{\"format\":\"ikvar.tape/2\"}\n", file);
    for (const char *at = case_text(CASES, _i, "tape"); *at != '\0';) {
        const char *end = strstr(at, " | ");
        int length = end != NULL ? (int)(end - at) : (int)strlen(at);
        fprintf(file, "%.*s\n", length, at);
        at += length + (end != NULL ? 3 : 0);
    }
    fclose(file);
    int code = run_command_line(output, sizeof output,
                                TOOL " run --json --decisions d.setup.json "
                                     "d.tape.jsonl > d.trace.jsonl");
    ck_assert_msg(code == 0, "%s", output);
    json_t *lines = read_trace("d.trace.jsonl");
    for (size_t i = 1; i < json_array_size(lines); i++) {
        const json_t *line = json_array_get(lines, i);
        json_int_t cause = json_integer_value(json_object_get(line, "cause"));
        json_int_t event = json_integer_value(json_object_get(line, "event"));
        if (json_object_get(line, "decision") != NULL)
            note_decision(&told, lines, line);
        else if (cause != 0 && event != last)
            note(&told, "%s < %s%s\n", text_of(line, "kind"),
                 kind_of(lines, cause),
                 json_is_true(json_object_get(line, "dropped")) ? ", dropped"
                                                                : "");
        last = event;
    }
    size_t length = strlen(told.text);
    if (length > 0)
        told.text[length - 1] = '\0';
    expect_case(CASES, _i, "says", told.text);
    json_decref(lines);
}
END_TEST

/* What the line's event comes of has the same kind in `all` too, in a line that
 * is alike but for the numbers. */
static bool has_such_a_cause(const json_t *all, const json_t *line,
                             const char *cause)
{
    static const char *const same[] = {"kind", "t", "target", "handler", "at"};
    for (size_t i = 1; i < json_array_size(all); i++) {
        const json_t *other = json_array_get(all, i);
        bool alike = json_object_get(other, "decision") == NULL;
        for (int m = 0; alike && m < ROWS(same); m++) {
            const json_t *here = json_object_get(line, same[m]);
            const json_t *there = json_object_get(other, same[m]);
            alike = here == there || json_equal(here, there) != 0;
        }
        json_int_t number = json_integer_value(json_object_get(other, "cause"));
        if (alike &&
            strcmp(number != 0 ? kind_of(all, number) : "", cause) == 0)
            return true;
    }
    return false;
}

/* D2: without what belongs to frames a trace tells no cause that the whole one
 * does not. */
START_TEST(causes_of_steps)
{
    int code = run_command_line(
        output, sizeof output,
        TOOL " run --json --decisions " DEMO "> all.trace.jsonl && " TOOL
             " run --json --decisions --steps-only " DEMO
             "> steps.trace.jsonl");
    ck_assert_msg(code == 0, "%s", output);
    json_t *all = read_trace("all.trace.jsonl");
    json_t *steps = read_trace("steps.trace.jsonl");
    size_t causes = 0;
    for (size_t i = 1; i < json_array_size(steps); i++) {
        const json_t *line = json_array_get(steps, i);
        json_int_t cause = json_integer_value(json_object_get(line, "cause"));
        if (json_object_get(line, "decision") != NULL || cause == 0)
            continue;
        causes++;
        ck_assert_int_lt(cause,
                         json_integer_value(json_object_get(line, "event")));
        ck_assert_msg(has_such_a_cause(all, line, kind_of(steps, cause)),
                      "line %zu: %s of %s", i + 1, text_of(line, "kind"),
                      kind_of(steps, cause));
    }
    ck_assert_uint_gt(causes, 10);
    json_decref(steps);
    json_decref(all);
}
END_TEST

/* Of a trace in memory, what each event comes of: "b<a" by the first letters of
 * the kinds' names. */
static char *trace_text;
static size_t trace_size;
static FILE *trace_file;
static bench_kit k;
static ikv_kind kinds[4];
static ikv_lane own_lane;
static char image[1 << 21];

static ikv_event event_of(int nth)
{
    return ikv_event_make(kinds[nth], 0);
}

/* Puts one on the program's own lane, and delivers the same at once. */
static ikv_verdict both_ways(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    ikv_event other = event_of(1);
    (void)event, (void)user;
    ok(ikv_bus_defer(delivery->bus, own_lane, &other));
    ikv_bus_deliver(delivery->bus, &other);
    return IKV_CONTINUE;
}

static ikv_verdict flush_own(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)event, (void)user;
    ikv_event third = event_of(3);
    ok(ikv_bus_flush(delivery->bus, own_lane, NULL));
    ikv_bus_deliver(delivery->bus, &third);
    return IKV_CONTINUE;
}

static void expect_causes(const char *expected)
{
    record found = {""};
    fflush(trace_file);
    FILE *file = fmemopen(trace_text, trace_size, "r");
    json_t *lines = json_array(), *line;
    while ((line = json_loadf(file, JSON_DISABLE_EOF_CHECK, NULL)) != NULL)
        json_array_append_new(lines, line);
    fclose(file);
    for (size_t i = 1; i < json_array_size(lines); i++) {
        line = json_array_get(lines, i);
        const char *kind = text_of(line, "kind");
        json_int_t cause = json_integer_value(json_object_get(line, "cause"));
        if (json_object_get(line, "decision") == NULL &&
            strncmp(kind, "tide.", 5) == 0)
            note(&found, "%c<%s ", kind[5],
                 cause != 0 ? kind_of(lines, cause) + 5 : "");
    }
    ck_assert_str_eq(found.text, expected);
    json_decref(lines);
}

/* An event of a lane comes of who put it there, whoever flushes the lane, and
 * though the same was delivered at once. What an image has brought back comes of
 * nobody that is known, and takes no other's place. */
START_TEST(causes_on_lanes)
{
    static const char *const names[] = {"tide.a", "tide.b", "tide.c", "tide.d"};
    ikv_trace *trace;
    ikv_catalogue *catalogue;
    ikv_catalogue_config own = IKV_CATALOGUE_INIT;
    own.memory = ikv_host_memory();
    ok(ikv_catalogue_open(&own, &catalogue));
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    for (int i = 0; i < 4; i++) {
        ikv_kind_config kind = IKV_KIND_CONFIG_INIT;
        kind.name = names[i];
        ok(ikv_catalogue_register(catalogue, &kind, &kinds[i], NULL));
    }
    ok(ikv_bus_add_lane(k.bus, "own", &own_lane));
    hears(k.bus, kinds[0], (ikv_target){0}, both_ways, NULL);
    hears(k.bus, kinds[2], (ikv_target){0}, flush_own, NULL);
    trace_file = open_memstream(&trace_text, &trace_size);
    ok(ikv_trace_open(trace_file, k.kit, NULL, IKV_TRACE_DECISIONS, &trace));
    ikv_event first = event_of(0), third = event_of(2);
    ikv_bus_deliver(k.bus, &first);
    const ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    ck_assert_uint_le(size, sizeof image);
    ok(ikv_image_save(&parts, image, size));
    ikv_bus_deliver(k.bus, &third);
    /* the lane as it was: b waits there */
    ok(ikv_image_restore(&parts, image, size, NULL, 0));
    ikv_bus_deliver(k.bus, &first);
    ikv_bus_deliver(k.bus, &third);
    ok(ikv_trace_close(trace));
    /* a, at once b; c flushes b of a, delivers d; a, b; c flushes both */
    expect_causes("a< b<a c< b<a d<c a< b<a c< b< b<a d<c ");
    fclose(trace_file);
    free(trace_text);
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* ----------------------------------------------------------------- scene -- */

/* What is drawn now, as the trace has it: places to a thousandth. */
typedef struct drawing {
    json_t *marks, *order, *pointers;
    ikv_setup *setup;
} drawing;

static void take_mark(drawing *d, const ikv_draw_mark *mark, const char *shape,
                      const float *values, uint32_t count, const char *text)
{
    json_t *row = json_array();
    json_array_append_new(row, json_string(ikv_draw_name_of(mark->what)));
    json_array_append_new(row, json_string(shape));
    for (uint32_t i = 0; i < count; i++)
        json_array_append_new(row, json_real((double)values[i]));
    if (text != NULL)
        json_array_append_new(row, json_string(text));
    if (mark->what >= IKV_DRAW_POINTER) {
        json_array_append_new(d->pointers, row);
        return;
    }
    const char *name = ikv_setup_target_name(d->setup, mark->target);
    if (json_object_get(d->marks, name) == NULL) {
        json_object_set_new(d->marks, name, json_array());
        json_array_append_new(d->order, json_string(name));
    }
    json_array_append_new(json_object_get(d->marks, name), row);
}

static void take_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    take_mark(user, mark, "line", (const float[]){x, y, x2, y2}, 4, NULL);
}

static void take_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    take_mark(user, mark, "polygon", points, 2 * count, NULL);
}

static void take_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    bool disc = mark->what == IKV_DRAW_POINTER && mark->ink->fill != 0;
    take_mark(user, mark, disc ? "disc" : "circle",
              (const float[]){x, y, radius}, 3, NULL);
}

static void take_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    take_mark(user, mark, "text", (const float[]){x, y}, 2, text);
}

static const char *name_of(void *user, ikv_target target)
{
    return ikv_setup_target_name(((drawing *)user)->setup, target);
}

static void expect_alike(const json_t *found, const json_t *expected,
                         const char *of)
{
    if (json_is_number(expected)) {
        double off = json_number_value(found) - json_number_value(expected);
        ck_assert_msg(json_is_number(found) && fabs(off) <= 0.000501, "%s: %g",
                      of, off);
    } else if (json_is_array(expected)) {
        ck_assert_msg(json_array_size(found) == json_array_size(expected),
                      "%s: %zu, expected %zu", of, json_array_size(found),
                      json_array_size(expected));
        for (size_t i = 0; i < json_array_size(expected); i++)
            expect_alike(json_array_get(found, i), json_array_get(expected, i),
                         of);
    } else {
        ck_assert_msg(json_equal((json_t *)found, (json_t *)expected), "%s",
                      of);
    }
}

/* What the trace's lines so far make of the scene, line by line. */
static void follow(drawing *d, const char *text, size_t *at, size_t size)
{
    while (*at < size) {
        const char *end = memchr(text + *at, '\n', size - *at);
        json_t *line =
            json_loadb(text + *at, (size_t)(end - text) - *at, 0, NULL);
        ck_assert_ptr_nonnull(line);
        *at = (size_t)(end - text) + 1;
        const char *name;
        json_t *marks;
        json_object_foreach(json_object_get(line, "marks"), name, marks)
            json_object_set(d->marks, name, marks);
        if (json_object_get(line, "order") != NULL) {
            json_array_clear(d->order);
            json_array_extend(d->order, json_object_get(line, "order"));
        }
        if (json_object_get(line, "scene") != NULL &&
            json_object_get(line, "pointers") != NULL) {
            json_array_clear(d->pointers);
            json_array_extend(d->pointers, json_object_get(line, "pointers"));
        }
        json_decref(line);
    }
}

static void expect_drawn(const drawing *followed, const drawing *now)
{
    expect_alike(followed->order, now->order, "order");
    expect_alike(followed->pointers, now->pointers, "pointers");
    for (size_t i = 0; i < json_array_size(now->order); i++) {
        const char *name = json_string_value(json_array_get(now->order, i));
        expect_alike(json_object_get(followed->marks, name),
                     json_object_get(now->marks, name), name);
    }
}

static drawing draw_now(ikv_kit *kit, ikv_setup *setup)
{
    drawing now = {json_object(), json_array(), json_array(), setup};
    ikv_draw_config config = IKV_DRAW_INIT;
    config.scene = ikv_kit_scene(kit);
    config.router = ikv_kit_router(kit);
    config.overlaps = ikv_kit_overlaps(kit);
    config.name = name_of;
    config.user = &now;
    config.canvas =
        (ikv_canvas){&now, take_line, take_polygon, take_circle, take_text};
    ok(ikv_draw(&config));
    return now;
}

static void free_drawing(drawing *d)
{
    json_decref(d->marks);
    json_decref(d->order);
    json_decref(d->pointers);
}

/* At the end of each frame's steps what the lines so far say is what is drawn;
 * targets come and go, and change their order. */
START_TEST(scene_of_a_run)
{
    static const char *const runs[][2] = {
        {"demo/harbour.setup.json", "demo/harbour.tape.jsonl"},
        {"examples/tickets.setup.json", "examples/tickets.tape.jsonl"},
        {"tests/golden/why.setup.json", "tests/golden/why.tape.jsonl"}};
    char path[256], *text = NULL;
    size_t size = 0, at = 0;
    ikv_setup *setup;
    ikv_tape *tape;
    ikv_message message;
    ikv_kit *kit;
    ikv_port port;
    ikv_trace *trace;
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    snprintf(path, sizeof path, SOURCE "/%s", runs[_i][0]);
    ok(ikv_setup_read(path, &setup, &message));
    snprintf(path, sizeof path, SOURCE "/%s", runs[_i][1]);
    ok(ikv_tape_open(path, setup, &tape, &message));
    sim.tape = tape;
    ok(ikv_sim_open(&sim, &port));
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ok(ikv_setup_size(setup, &config));
    ok(ikv_kit_open(&config, &kit));
    ok(ikv_setup_apply(setup, kit, IKV_APPLY_UNBOUND, &message));
    FILE *file = open_memstream(&text, &size);
    ok(ikv_trace_open(file, kit, setup, IKV_TRACE_SCENE, &trace));
    drawing followed = {json_object(), json_array(), json_array(), setup};
    ikv_loop *loop = ikv_kit_loop(kit);
    ikv_scene *scene = ikv_kit_scene(kit);
    int frames = 0;
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        /* the lines are of now: nothing has changed since loop.frame */
        fflush(file);
        follow(&followed, text, &at, size);
        drawing now = draw_now(kit, setup);
        expect_drawn(&followed, &now);
        free_drawing(&now);
        /* and then the program changes it */
        ikv_target last = ikv_setup_target(
            setup, ikv_setup_name(setup, IKV_SETUP_TARGETS, 1));
        if (frames % 7 == 3)
            ikv_scene_set_z(scene, last, frames);
        if (frames % 11 == 5)
            ikv_scene_show(scene, last, frames % 2 != 0);
        if (frames == (_i == 0 ? 60 : 8))
            ikv_scene_remove(scene, last);
        ikv_loop_end(loop);
        frames++;
    }
    ck_assert_int_gt(frames, 10);
    ok(ikv_trace_close(trace));
    /* and what the last frame's lane has done */
    fflush(file);
    follow(&followed, text, &at, size);
    drawing now = draw_now(kit, setup);
    expect_drawn(&followed, &now);
    free_drawing(&now);
    free_drawing(&followed);
    fclose(file);
    free(text);
    ikv_kit_close(kit);
    ikv_sim_close(&port);
    ikv_tape_close(tape);
    ikv_setup_close(setup);
}
END_TEST

/* ------------------------------------------------------------------ page -- */

static json_t *data_of(const char *path)
{
    char *page = read_file(path);
    const char *begin = strstr(page, "id=\"run\">\n");
    ck_assert_ptr_nonnull(begin);
    begin += 10;
    const char *end = strstr(begin, "</script>");
    ck_assert_ptr_nonnull(end);
    json_error_t error;
    json_t *data = json_loadb(begin, (size_t)(end - begin), 0, &error);
    ck_assert_msg(data != NULL, "%s", error.text);
    ck_assert_str_eq(page + strlen(page) - 8, "</html>\n");
    free(page);
    return data;
}

static size_t rows_of(const json_t *data, const char *section)
{
    return json_array_size(json_object_get(data, section));
}

/* Whether it is of the steps and frames that nobody hears. */
static bool is_idle(const json_t *line)
{
    return json_is_null(json_object_get(line, "handler")) &&
           (strcmp(text_of(line, "kind"), "loop.step") == 0 ||
            strcmp(text_of(line, "kind"), "loop.frame") == 0);
}

/* A row for each event, call, scene and answer of the trace; from the trace the
 * same page. */
START_TEST(rows_of_a_page)
{
    run_command_line(output, sizeof output,
                     TOOL " run --json --scene --decisions " DEMO
                          "> harbour.tape.jsonl.trace.jsonl && " TOOL
                          " view " DEMO "-o run.html && mkdir -p from && mv "
                          "harbour.tape.jsonl.trace.jsonl "
                          "from/harbour.tape.jsonl && " TOOL
                          " view from/harbour.tape.jsonl -o trace.html && cmp "
                          "run.html trace.html");
    ck_assert_str_eq(output, "");
    json_t *lines = read_trace("from/harbour.tape.jsonl");
    json_t *data = data_of("run.html");
    size_t events = 0, calls = 0, scenes = 0, answers = 0;
    json_int_t last = 0;
    for (size_t i = 1; i < json_array_size(lines); i++) {
        const json_t *line = json_array_get(lines, i);
        json_int_t event = json_integer_value(json_object_get(line, "event"));
        scenes += json_object_get(line, "scene") != NULL;
        answers += json_object_get(line, "answer") != NULL;
        if (json_object_get(line, "handler") == NULL ||
            json_object_get(line, "decision") != NULL)
            continue;
        calls += json_is_string(json_object_get(line, "handler"));
        events += event > last && !is_idle(line);
        last = event > last ? event : last;
    }
    ck_assert_uint_eq(rows_of(data, "events"), events);
    ck_assert_uint_eq(rows_of(data, "calls"), calls);
    ck_assert_uint_eq(rows_of(data, "answers"), answers);
    ck_assert_uint_eq(answers, 18 + 5 + 26);
    const json_t *moments = json_object_get(data, "moments");
    const json_t *end = json_array_get(moments, json_array_size(moments) - 1);
    ck_assert_int_eq(json_integer_value(json_array_get(end, 2)),
                     (json_int_t)scenes - 1);
    ck_assert_int_eq(json_integer_value(json_array_get(end, 3)),
                     (json_int_t)events);
    json_decref(data);
    json_decref(lines);
}
END_TEST

/* 201 bytes, of characters of three */
#define SOME                                                                   \
    "\xe6\xb8\xaf\xe6\xb8\xaf\xe6\xb8\xaf\xe6\xb8\xaf\xe6\xb8\xaf\xe6\xb8\xaf"
#define LONG                                                                   \
    SOME SOME SOME SOME SOME SOME SOME SOME SOME SOME SOME "\xe6\xb8\xaf"
#define HEAD "{\"format\":\"ikvar.trace/2\"}\n"

/* Traces that are not as they should be, and wrong use; "" for the demo. */
static const struct {
    const char *trace, *arguments;
    int code;
    const char *says;
} view_table[] = {
    {"", DEMO "-o run.html && tail -1 run.html", 0, "</html>"},
    {"", DEMO "| grep -c '<title>harbour.tape.jsonl</title>'", 0, "1"},
    {"", DEMO "--until 200 -o run.html", 0, ""},
    {"", "", 2, "expected SETUP TAPE, or TRACE"},
    {"", SOURCE "/demo/harbour.setup.json", 2, "expected SETUP TAPE, or TRACE"},
    {"", DEMO "more", 2, "expected SETUP TAPE, or TRACE"},
    {"", "gone.trace.jsonl", 3, "gone.trace.jsonl: No such file"},
    {"", DEMO "-o no/such.html", 3, "ikvar view: no/such.html: No such file"},
    {"", DEMO "> /dev/full", 3, "can't be written"},
    {"", DEMO "-o /dev/full", 3, "/dev/full: can't be written"},
    {HEAD, "odd.trace.jsonl -o odd.trace.jsonl", 3, "would destroy it"},
    {HEAD, "odd.trace.jsonl --until 3", 2, "a trace is shown whole"},
    {HEAD, "odd.trace.jsonl", 3, "has no scene: make it with ikvar run"},
    {"{\"format\":\"ikvar.trace/3\"}\n", "odd.trace.jsonl", 3,
     "odd.trace.jsonl:1: expected a trace of format \"ikvar.trace/2\""},
    {HEAD "[]\n", "odd.trace.jsonl", 3, ":2: expected an object"},
    {HEAD "{\"n\":1}\n", "odd.trace.jsonl", 3, ":2: expected a call"},
    {HEAD "{\"kind\":\"a\",\"handler\":null,\"event\":-1}\n", "odd.trace.jsonl",
     3, ":2: expected an event's number below 100,000,000"},
    {HEAD "{\"kind\":\"a\",\"handler\":null,\"event\":100000000}\n",
     "odd.trace.jsonl", 3, ":2: expected an event's number"},
    {HEAD "{\"answer\":\"handler\"}\n", "odd.trace.jsonl", 3,
     ":2: expected an answer with a text"},
    {HEAD
     "{\"scene\":0}\n{\"decision\":\"end\",\"handler\":\"h\",\"by\":\"" LONG
     "\"}\n",
     "odd.trace.jsonl", 0, "it was ended by the handler"},
    {HEAD "{\"decision\":\"guess\"}\n", "odd.trace.jsonl", 3,
     ":2: expected a decision that this version knows"},
    {HEAD "{\"scene\":0,\"marks\":{\"a\":3}}\n", "odd.trace.jsonl", 3,
     ":2: expected a list of marks"},
    {HEAD "{\"scene\":0,\"marks\":{\"a\":[[\"solid\",\"star\",1,2]]}}\n",
     "odd.trace.jsonl", 3, ":2: expected a mark such as"},
    {HEAD "{\"scene\":0,\"pointers\":[[\"pointer\",\"disc\",1,\"2\",3]]}\n",
     "odd.trace.jsonl", 3, ":2: expected numbers in a mark, and"},
    {HEAD "{\"scene\":0,\"pointers\":[[\"pointer\",\"text\",1,2]]}\n",
     "odd.trace.jsonl", 3, ":2: expected a mark such as"},
    {HEAD "{\"scene\":0,\"marks\":{}}\n{\"n\":1,\"ev", "odd.trace.jsonl", 0,
     "warning: odd.trace.jsonl:3: the line is torn: it is left out"},
    {HEAD "{\"scene\":0,\"marks\":{}}\n{\"n\":1,\"ev\n{}\n", "odd.trace.jsonl",
     3, ":3: expected an object"},
};

START_TEST(view_command_line)
{
    static char page[1 << 18];
    write_file("odd.trace.jsonl", view_table[_i].trace);
    int code = run_command_line(page, sizeof page, TOOL " view %s",
                                view_table[_i].arguments);
    ck_assert_msg(code == view_table[_i].code &&
                      strstr(page, view_table[_i].says) != NULL,
                  "%s: %d: %.400s", view_table[_i].arguments, code, page);
    char *left = read_file("odd.trace.jsonl");
    ck_assert_str_eq(left, view_table[_i].trace);
    free(left);
    run_command_line(output, sizeof output, "rm -f run.html; ls");
    ck_assert_ptr_null(strstr(output, ".part"));
}
END_TEST

/* A setup of more than a trace has answers for; fields that are called as lines
 * are. */
START_TEST(many_subjects)
{
    FILE *file = fopen("many.setup.json", "w");
    fputs("{\"format\":\"ikvar.setup/1\",\"kinds\":[{\"name\":\"tide.told\","
          "\"fields\":[{\"name\":\"scene\",\"type\":\"u32\"},{\"name\":"
          "\"decision\",\"type\":\"u32\"},{\"name\":\"answer\",\"type\":"
          "\"f32\"}]}],\"targets\":[",
          file);
    for (int i = 0; i < 1100; i++)
        fprintf(file, "%s{\"id\":\"buoy_%d\",\"shape\":{\"circle\":[%d,%d,4]}}",
                i > 0 ? "," : "", i, i % 40 * 10, i / 40 * 10);
    fputs("]}", file);
    fclose(file);
    write_file(
        "many.tape.jsonl",
        "{\"format\":\"ikvar.tape/2\"}\n{\"t\":30,\"kind\":\"tide.told\","
        "\"scene\":3,\"decision\":4,\"answer\":2.5}\n");
    int code = run_command_line(
        output, sizeof output,
        TOOL " run --json --scene --decisions many.setup.json "
             "many.tape.jsonl > many.trace.jsonl && " TOOL
             " view many.trace.jsonl -o many.html && " TOOL
             " plot many.trace.jsonl > many.csv && " TOOL
             " check many.setup.json many.trace.jsonl > many.txt && grep -c "
             "'^{\"answer' many.trace.jsonl");
    ck_assert_msg(code == 0 && strcmp(output, "1000\n") == 0, "%s", output);
    json_t *data = data_of("many.html");
    const json_t *orders = json_object_get(data, "orders");
    ck_assert_uint_eq(
        json_array_size(json_array_get(json_array_get(orders, 0), 1)), 1100);
    /* loop.start, the tape's one, loop.end */
    ck_assert_uint_eq(rows_of(data, "events"), 3);
    json_decref(data);
}
END_TEST

/* Who else reads traces passes over the lines that are not of calls. */
START_TEST(other_readers)
{
    run_command_line(output, sizeof output,
                     TOOL " run --json " DEMO "> plain.trace.jsonl; " TOOL
                          " run --json --scene --decisions " DEMO
                          "> more.trace.jsonl");
    ck_assert_str_eq(output, "");
    int code = run_command_line(
        output, sizeof output,
        TOOL " plot plain.trace.jsonl | cut -d, -f1-3,12- > plain.csv; " TOOL
             " plot more.trace.jsonl | cut -d, -f1-3,12- > more.csv; cmp "
             "plain.csv more.csv && " TOOL
             " plot more.trace.jsonl | cut -d, -f4 | grep -c 1");
    ck_assert_msg(code == 0 && strcmp(output, "3\n") == 0, "%s", output);
    code = run_command_line(output, sizeof output,
                            TOOL " check " SOURCE
                                 "/demo/harbour.setup.json more.trace.jsonl");
    ck_assert_msg(code == 0 && strstr(output, "warning") == NULL, "%s", output);
    /* without them it is the trace that it always was */
    code = run_command_line(
        output, sizeof output,
        "grep -v -e '^{\"scene' -e '^{\"decision' -e '^{\"answer' "
        "more.trace.jsonl | sed -e 's/\"cause\":[0-9]*,//' -e "
        "'s/\"path\":\\[[^]]*\\],//' | cmp - plain.trace.jsonl");
    ck_assert_msg(code == 0, "%s", output);
    code = run_command_line(output, sizeof output, TOOL " run --scene " DEMO);
    ck_assert_msg(code == 2 && strstr(output, "give --json too") != NULL, "%s",
                  output);
}
END_TEST

/* -------------------------------------------------------------- timeline -- */

static double number_of(const json_t *event, const char *member)
{
    return json_number_value(json_object_get(event, member));
}

static double end_of(const json_t *event)
{
    return number_of(event, "ts") + number_of(event, "dur");
}

/* Whether a span of that sort lies around the nth, or ends with it; those around
 * end later, and are written so. */
static bool is_within(const json_t *list, size_t nth, const char *category)
{
    const json_t *event = json_array_get(list, nth);
    for (size_t i = nth + 1; i < json_array_size(list); i++) {
        const json_t *other = json_array_get(list, i);
        if (strcmp(text_of(other, "cat"), category) == 0)
            return number_of(other, "ts") <= number_of(event, "ts") + 1e-6 &&
                   end_of(other) >= end_of(event) - 1e-6;
    }
    return false;
}

/* Spans one within the other: a frame for each of the run, its steps, what was
 * delivered and who was called, as the run's counters have it; and counters at
 * each frame's end. Trace Event Format. */
START_TEST(timeline)
{
    static const struct {
        const char *category, *outer;
        int count;
    } rows[] = {{"frame", NULL, 194},
                {"step", "frame", 162},
                {"event", NULL, 0},
                {"handler", "event", 0},
                {"counters", NULL, 193}};
    int counts[ROWS(rows)] = {0}, delivered, called;
    run_command_line(output, sizeof output,
                     TOOL " run --json " DEMO
                          "| tee run.jsonl | grep -c '\"handler\":\"'; sed "
                          "-n 's/.*\"event\":\\([0-9]*\\).*/\\1/p' run.jsonl "
                          "| sort -u | wc -l");
    ck_assert_int_eq(sscanf(output, "%d %d", &called, &delivered), 2);
    int code = run_command_line(output, sizeof output,
                                TOOL " tape timeline --setup " SOURCE
                                     "/demo/harbour.setup.json " SOURCE
                                     "/demo/harbour.tape.jsonl -o run.json");
    ck_assert_msg(code == 0 && output[0] == '\0', "%s", output);
    json_t *file = json_load_file("run.json", 0, NULL);
    const json_t *list = json_object_get(file, "traceEvents");
    double last = 0, frame_end = 0;
    for (size_t i = 0; i < json_array_size(list); i++) {
        const json_t *event = json_array_get(list, i);
        const char *of = text_of(event, "cat"), *phase = text_of(event, "ph");
        ck_assert_str_eq(phase, strcmp(of, "counters") == 0 ? "C" : "X");
        /* written as they end */
        ck_assert_msg(end_of(event) >= last - 1e-6, "%s",
                      text_of(event, "name"));
        last = end_of(event);
        for (int r = 0; r < ROWS(rows); r++) {
            if (strcmp(rows[r].category, of) != 0)
                continue;
            counts[r]++;
            if (rows[r].outer != NULL)
                ck_assert_msg(is_within(list, i, rows[r].outer), "%s",
                              text_of(event, "name"));
        }
        if (strcmp(of, "frame") == 0) {
            ck_assert(number_of(event, "ts") >= frame_end - 1e-6);
            frame_end = end_of(event);
        }
    }
    for (int r = 0; r < ROWS(rows); r++) {
        int expected = strcmp(rows[r].category, "event") == 0 ? delivered
                       : strcmp(rows[r].category, "handler") == 0
                           ? called
                           : rows[r].count;
        ck_assert_msg(counts[r] == expected, "%d of %s, expected %d", counts[r],
                      rows[r].category, expected);
    }
    json_decref(file);
}
END_TEST

static const struct {
    const char *arguments;
    int code;
    const char *says;
} timeline_table[] = {
    {"", 2, "expected one TAPE"},
    {"a b", 2, "expected one TAPE"},
    {SOURCE "/demo/harbour.tape.jsonl", 3, "the tape names no setup"},
    {"gone.tape.jsonl", 3, "gone.tape.jsonl"},
    {"--setup gone.setup.json " SOURCE "/demo/harbour.tape.jsonl", 3,
     "gone.setup.json"},
    {"--setup " DEMO "-o no/such.json", 3, "no/such.json: No such file"},
    {"--setup " DEMO "-o /dev/full", 3, "/dev/full: can't be written"},
    {"--setup " DEMO "| tail -1", 0, "]}"},
    {"kept.tape.jsonl -o kept.tape.jsonl", 3, "would destroy it"},
    {"kept.tape.jsonl | grep -c raise", 0, "1"},
};

START_TEST(timeline_command_line)
{
    run_command_line(output, sizeof output,
                     TOOL " run -d --record kept.tape.jsonl " DEMO);
    int code = run_command_line(output, sizeof output, TOOL " tape timeline %s",
                                timeline_table[_i].arguments);
    ck_assert_msg(code == timeline_table[_i].code &&
                      strstr(output, timeline_table[_i].says) != NULL,
                  "%s: %d: %s", timeline_table[_i].arguments, code, output);
}
END_TEST

/* ----------------------------------------------------------------- watch -- */

/* What watch would show: sizes, moments, a target that is asked about, and a
 * scene without a view. */
START_TEST(screens)
{
    static const char *const asks[] = {
        DEMO "--print 60x20 --at 330",
        DEMO "--print 100x30 --at 500 --target shallow",
        DEMO "--print 132x40 --at 700 --target lamp_west",
        DEMO "--print 59x20",
        SOURCE "/examples/tickets.setup.json " SOURCE
               "/examples/tickets.tape.jsonl --print 80x24 --at 5000",
        SOURCE "/tests/golden/why.setup.json --print 80x24"};
    static char all[1 << 16];
    size_t used = 0;
    for (int i = 0; i < ROWS(asks); i++) {
        int code =
            run_command_line(output, sizeof output, TOOL " watch %s", asks[i]);
        ck_assert_msg(code == 0, "%s: %s", asks[i], output);
        used += (size_t)snprintf(all + used, sizeof all - used, "%s\n", output);
        ck_assert_uint_lt(used, sizeof all);
    }
    expect_golden("watch.txt", all);
}
END_TEST

static const struct {
    const char *arguments;
    int code;
    const char *says;
} watch_table[] = {
    {"", 2, "expected SETUP [TAPE]"},
    {DEMO "more", 2, "expected SETUP [TAPE]"},
    {DEMO "--at 3", 2, "--at is of --print, with a tape"},
    {SOURCE "/demo/harbour.setup.json --print 80x24 --at 3", 2, "with a tape"},
    {DEMO "--print 80", 2, "found \"80\", expected a size such as 80x24"},
    {DEMO "--print 80x24x", 2, "expected a size"},
    {DEMO "--print 401x24", 2, "at most 400x150"},
    {DEMO "--print 0x24", 2, "expected a size"},
    {DEMO "--print 80x24 --target bell", 3, "has no target \"bell\""},
    {"gone.setup.json", 3, "gone.setup.json"},
    {SOURCE "/demo/harbour.setup.json gone.tape.jsonl", 3, "gone.tape.jsonl"},
    {DEMO "--print 80x24 > /dev/full", 3, "can't write the output"},
    {DEMO "--print 400x150 --at 400 | wc -l", 0, "150"},
    {DEMO "--print 1x1 | wc -l", 0, "1"},
};

START_TEST(watch_command_line)
{
    int code = run_command_line(output, sizeof output, TOOL " watch %s",
                                watch_table[_i].arguments);
    ck_assert_msg(code == watch_table[_i].code &&
                      strstr(output, watch_table[_i].says) != NULL,
                  "%s: %d: %s", watch_table[_i].arguments, code, output);
}
END_TEST

Suite *view_suite(void)
{
    Suite *s = suite_create("view");
    add_table(s, "decisions in traces", decisions, case_count(CASES));
    add(s, "D2 causes on lanes", causes_on_lanes);
    add(s, "D2 causes of steps", causes_of_steps);
    add_table(s, "the scene in traces", scene_of_a_run, 3);
    add(s, "rows of a page", rows_of_a_page);
    add_table(s, "view", view_command_line, ROWS(view_table));
    add(s, "many subjects", many_subjects);
    add(s, "other readers of traces", other_readers);
    add(s, "timeline", timeline);
    add_table(s, "timeline's command line", timeline_command_line,
              ROWS(timeline_table));
    add(s, "screens", screens);
    add_table(s, "watch", watch_command_line, ROWS(watch_table));
    return s;
}
