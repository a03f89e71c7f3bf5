/* test_data.c - what comes with an event beyond its 64 bytes, and text of any
 * length: from ports and threads through blocks, images and tapes. */
#define _GNU_SOURCE
#include "support.h"

#include <pthread.h>
#include <sched.h>

static bench_kit k;
static record heard;

static ikv_verdict hear_text(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    uint32_t length;
    const char *text = ikv_delivery_text(event, delivery, &length);
    (void)user;
    note(&heard, "%s%.*s%s", event->flags & IKV_FIRST ? "[" : "", (int)length,
         text, event->flags & IKV_MORE ? "|" : "]");
    return IKV_CONTINUE;
}

static ikv_verdict hear_data(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)user;
    note(&heard, "(%u:%.*s@%u)", event->device, (int)delivery->data_size,
         (const char *)delivery->data, event->samples);
    return IKV_CONTINUE;
}

static void open_with(uint32_t blocks, uint32_t bytes)
{
    k = (bench_kit){0};
    kit_prepare(&k);
    k.config.queue.blocks = blocks;
    k.config.queue.block_bytes = bytes;
    kit_open(&k);
    heard.text[0] = '\0';
    hears(k.bus, IKV_KIND_TEXT_INPUT, (ikv_target){0}, hear_text, NULL);
    hears(k.bus, IKV_KIND_TEXT_COMPOSE, (ikv_target){0}, hear_text, NULL);
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, hear_data, NULL);
    kit_frame(&k, 0);
}

static ikv_event event_of(ikv_kind kind)
{
    ikv_event e = ikv_event_make(kind, k.fake.now_ns);
    e.device = k.fake.device;
    return e;
}

static ikv_status push_key(const char *data, size_t size)
{
    ikv_event e = event_of(IKV_KIND_KEY_DOWN);
    e.key.code = 0x70004;
    return ikv_sink_push_data(k.fake.sink, &e, data, size);
}

static void close_it(void)
{
    ikv_parts parts = parts_of(&k);
    valid_parts(&parts);
    valid(ikv_queue_validate(ikv_kit_queue(k.kit)));
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).blocks, 0);
    kit_close(&k);
}

/* ----------------------------------------------------------------- text -- */

static const struct {
    const char *text;
    ikv_status status;
    const char *pieces, *whole;
} text_table[] = {
    {"ferry", IKV_OK, "[ferry]", "[ferry]"},
    {"the ferry leaves at half past nine", IKV_OK,
     "[the ferry leaves at half past n|ine]",
     "[the ferry leaves at half past ni|ne]"},
    {"0123456789012345678901234567890", IKV_OK,
     "[0123456789012345678901234567890]", "[0123456789012345678901234567890]"},
    {"012345678901234567890123456789\xc3\xa9!", IKV_OK,
     "[012345678901234567890123456789|\xc3\xa9!]",
     "[012345678901234567890123456789\xc3\xa9|!]"},
    {"0123456789012345678901234567\xf0\x9f\x9a\xa2", IKV_OK,
     "[0123456789012345678901234567|\xf0\x9f\x9a\xa2]",
     "[0123456789012345678901234567\xf0\x9f\x9a\xa2]"},
    {"", IKV_ABSENT, "", ""},
    {"bad \xff", IKV_BAD_VALUE, "", ""},
    {"cut \xc3", IKV_BAD_VALUE, "", ""},
};

/* In pieces of the event's own, in blocks of 32 bytes, and in one of 1,024. */
START_TEST(texts)
{
    const char *text = text_table[_i].text;
    for (int with = 0; with < 3; with++) {
        open_with(with == 0 ? IKV_NO_BLOCKS : 0, with == 1 ? 32 : 0);
        ikv_event e = event_of(IKV_KIND_TEXT_INPUT);
        status_is(ikv_sink_push_text(k.fake.sink, &e, text, strlen(text)),
                  text_table[_i].status);
        kit_frame(&k, 20);
        record whole = {.text = ""};
        if (text_table[_i].whole[0] != '\0')
            note(&whole, "[%s]", text);
        ck_assert_str_eq(heard.text, with == 0   ? text_table[_i].pieces
                                     : with == 1 ? text_table[_i].whole
                                                 : whole.text);
        status_is(ikv_sink_push_text(NULL, &e, text, 1), IKV_BAD_ARGUMENT);
        close_it();
    }
}
END_TEST

/* As long as all blocks together, and no longer; all of it or none. */
START_TEST(text_of_any_length)
{
    static char much[8193], whole[8193];
    for (size_t i = 0; i < sizeof much; i++)
        much[i] = "\xf0\x9f\x9a\xa2"[i % 4];
    open_with(0, 0);
    ikv_event e = event_of(IKV_KIND_TEXT_INPUT);
    status_is(ikv_sink_push_text(k.fake.sink, &e, much, 8193), IKV_BAD_VALUE);
    ok(ikv_sink_push_text(k.fake.sink, &e, much, 8192));
    status_is(ikv_sink_push_text(k.fake.sink, &e, much, 40), IKV_FULL_BLOCKS);
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).blocks, 8);
    kit_frame(&k, 20);
    size_t length = 0;
    for (const char *at = heard.text; *at != '\0'; at++)
        if (strchr("[|]", *at) == NULL)
            whole[length++] = *at;
    ck_assert_uint_eq(length, 8192);
    ck_assert_mem_eq(whole, much, 8192);
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).blocks_high, 8);
    /* Too long for all of them: none of it, and none is held. */
    memset(much, 'x', sizeof much);
    heard.text[0] = '\0';
    status_is(ikv_sink_push_text(k.fake.sink, &e, much, 8193), IKV_FULL_BLOCKS);
    ck_assert_uint_ge(queue_counts(ikv_kit_queue(k.kit)).blocks_refused, 2);
    kit_frame(&k, 40);
    ck_assert_str_eq(heard.text, "");
    close_it();
    /* Without blocks there is a limit, too. */
    open_with(IKV_NO_BLOCKS, 0);
    e = event_of(IKV_KIND_TEXT_INPUT);
    status_is(ikv_sink_push_text(k.fake.sink, &e, much, IKV_TEXT_LIMIT + 1),
              IKV_FULL_BLOCKS);
    ok(ikv_sink_push_text(k.fake.sink, &e, much, IKV_TEXT_LIMIT));
    kit_frame(&k, 20);
    ck_assert_uint_eq(strlen(heard.text), IKV_TEXT_LIMIT + 35);
    status_is(push_key("a", 1), IKV_BAD_SIZE);
    close_it();
}
END_TEST

START_TEST(no_room_for_all_pieces)
{
    char much[160];
    memset(much, 'x', sizeof much);
    for (int with = 0; with < 2; with++) {
        k = (bench_kit){0};
        kit_prepare(&k);
        k.config.queue.own_capacity = 2;
        k.config.queue.blocks = with == 0 ? IKV_NO_BLOCKS : 0;
        k.config.queue.block_bytes = 32;
        kit_open(&k);
        kit_frame(&k, 0);
        ikv_event e = event_of(IKV_KIND_TEXT_INPUT);
        status_is(
            ikv_sink_push_text(k.fake.sink, &e, much, with == 0 ? 80 : 96),
            IKV_FULL_QUEUE);
        ck_assert_uint_eq(ikv_queue_waiting(ikv_kit_queue(k.kit)), 0);
        ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).refused, 3);
        close_it();
    }
}
END_TEST

/* ----------------------------------------------------------------- data -- */

START_TEST(what_may_come)
{
    ikv_event e;
    open_with(2, 32);
    e = event_of(IKV_KIND_KEY_DOWN);
    status_is(push_key("0123456789012345678901234567890123", 33), IKV_BAD_SIZE);
    status_is(push_key(NULL, 3), IKV_BAD_ARGUMENT);
    status_is(ikv_sink_push_data(NULL, &e, "a", 1), IKV_BAD_ARGUMENT);
    status_is(ikv_sink_push_data(k.fake.sink, NULL, "a", 1), IKV_BAD_ARGUMENT);
    e = event_of(IKV_KIND_POINTER_MOVE);
    status_is(ikv_sink_push_data(k.fake.sink, &e, "a", 1), IKV_NOT_PUSHABLE);
    e = event_of(IKV_KIND_TEXT_COMPOSE);
    status_is(ikv_sink_push_data(k.fake.sink, &e, "\xff", 1), IKV_BAD_VALUE);
    e.device = IKV_DEVICE_LIMIT;
    status_is(ikv_sink_push_data(k.fake.sink, &e, "a", 1), IKV_BAD_ARGUMENT);
    e = event_of(IKV_KIND_POINTER_DOWN);
    e.pointer.x = 0.0f / 0.0f;
    status_is(ikv_sink_push_data(k.fake.sink, &e, "a", 1), IKV_BAD_VALUE);
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).blocks, 0);
    /* A kind that ports don't push is refused as it is taken in. */
    e = event_of(IKV_KIND_FOCUS_IN);
    ok(ikv_sink_push_data(k.fake.sink, &e, "a", 1));
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).rejected, 1);
    /* Two at once, of 32 bytes, and none after. */
    ok(push_key("01234567890123456789012345678901", 32));
    ok(push_key("b", 1));
    status_is(push_key("c", 1), IKV_FULL_BLOCKS);
    ok(push_key(NULL, 0));
    kit_frame(&k, 40);
    ck_assert_str_eq(heard.text, "(1:01234567890123456789012345678901@0)"
                                 "(1:b@0)(1:@0)");
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).blocks_refused, 1);
    close_it();
}
END_TEST

/* What waits for its step has the ring's blocks; the next ones wait in the queue
 * and come in order, none lost. */
START_TEST(waits_for_room)
{
    char text[8];
    record all = {.text = ""};
    k = (bench_kit){0};
    kit_prepare(&k);
    k.config.queue.blocks = 8;
    k.config.loop.blocks = 1;
    kit_open(&k);
    heard.text[0] = '\0';
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, hear_data, NULL);
    kit_frame(&k, 0);
    for (int i = 0; i < 8; i++) {
        snprintf(text, sizeof text, "%d", i);
        ok(push_key(text, 1));
        if (i % 2)
            ok(push_key(NULL, 0)); /* stays in its place */
        note(&all, "(1:%d@0)%s", i, i % 2 ? "(1:@0)" : "");
    }
    for (int frame = 1; frame < 12; frame++)
        kit_frame(&k, (uint64_t)frame * 20);
    ck_assert_str_eq(heard.text, all.text);
    close_it();
}
END_TEST

/* E3: one who keeps the pointer finds it out in debug builds. */
static const char *kept;

static ikv_verdict keep_pointer(const ikv_event *event,
                                const ikv_delivery *delivery, void *user)
{
    (void)event, (void)user;
    kept = delivery->data;
    /* What is deferred has a copy of its own. */
    ikv_event later = ikv_event_make(IKV_KIND_KEY_UP, event->time_ns);
    ok(ikv_bus_defer_data(delivery->bus, IKV_FRAME_LANE, &later, kept,
                          delivery->data_size));
    return IKV_CONTINUE;
}

START_TEST(no_longer_than_its_dispatch)
{
    open_with(0, 0);
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, keep_pointer, NULL);
    hears(k.bus, IKV_KIND_KEY_UP, (ikv_target){0}, hear_data, NULL);
    ok(push_key("a path", 6));
    kit_frame(&k, 20);
    ck_assert_str_eq(heard.text, "(1:a path@0)(0:a path@0)");
#ifdef IKV_DEBUG
    ck_assert_int_eq((unsigned char)kept[0], 0xdd);
#endif
    close_it();
}
END_TEST

/* An image has what waits, with what it brings along. */
START_TEST(in_an_image)
{
    static ikv_taken since[4];
    open_with(0, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    /* Drained, and due in a step that has not come. */
    k.fake.now_ns += 21000000;
    ok(push_key("kept", 4));
    ck_assert(ikv_loop_begin(k.loop));
    ok(ikv_image_save(&parts, image, size));
    while (ikv_loop_step(k.loop)) {
    }
    ok(ikv_loop_end(k.loop));
    kit_frame(&k, 40);
    ck_assert_str_eq(heard.text, "(1:kept@0)");
    ok(push_key("other", 5));
    kit_frame(&k, 60);
    heard.text[0] = '\0';
    ck_assert(ikv_loop_begin(k.loop));
    ok(ikv_image_restore(&parts, image, size, NULL, 0));
    valid_parts(&parts);
    while (ikv_loop_step(k.loop)) {
    }
    ok(ikv_loop_end(k.loop));
    ck_assert_str_eq(heard.text, "(1:kept@0)");
    /* And with what came in since, if there is room for all of it. */
    for (int i = 0; i < 4; i++) {
        since[i] = (ikv_taken){event_of(IKV_KIND_KEY_DOWN), IKV_INTAKE_INIT};
        since[i].event.time_ns = 30000000;
        since[i].intake.data = "since";
        since[i].intake.data_size = 5;
    }
    since[3].intake.data_size = 2000;
    heard.text[0] = '\0';
    ck_assert(ikv_loop_begin(k.loop));
    status_is(ikv_image_restore(&parts, image, size, since, 4), IKV_BAD_SIZE);
    ok(ikv_image_restore(&parts, image, size, since, 2));
    valid_parts(&parts);
    while (ikv_loop_step(k.loop)) {
    }
    ok(ikv_loop_end(k.loop));
    kit_frame(&k, 80);
    ck_assert_str_eq(heard.text, "(1:since@0)(1:since@0)");
    free(image);
    close_it();
}
END_TEST

/* ---------------------------------------------------------------- files -- */

static record asked;

static ikv_status take_request(void *state, const ikv_request *request)
{
    (void)state;
    if (request->kind == IKV_REQUEST_DROP)
        note(&asked, "%d", request->on);
    return IKV_OK;
}

static ikv_verdict accept(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    (void)event, (void)delivery, (void)user;
    return IKV_ACCEPT;
}

/* The port is told whether a drop would be taken, when that changes; a device
 * that is gone takes its file along. */
START_TEST(a_file_over_the_window)
{
    static const float way[] = {10, 12, 60, 61, 20, 21};
    k = (bench_kit){0};
    kit_prepare(&k);
    k.port.request = take_request;
    kit_open(&k);
    asked.text[0] = '\0';
    int left = 0;
    ikv_target box = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 50, 0);
    hears(k.bus, IKV_KIND_DRAG_OVER, box, accept, NULL);
    hears(k.bus, IKV_KIND_DRAG_LEAVE, box, count_heard, &left);
    kit_frame(&k, 0);
    ikv_event e = event_of(IKV_KIND_DRAG_OVER);
    for (int i = 0; i < ROWS(way); i++) {
        e.drag.x = e.drag.y = way[i];
        e.time_ns = k.fake.now_ns;
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 20 + 20 * (uint64_t)i);
    }
    ck_assert_str_eq(asked.text, "101");
    ck_assert_int_eq(left, 1);
    /* each begins anew: the port hears of the next one, too */
    for (int i = 0; i < 2; i++) {
        e = event_of(IKV_KIND_DEVICE_REMOVE);
        if (i == 0)
            ok(ikv_sink_push(k.fake.sink, &e));
        else
            ikv_sink_lost(k.fake.sink, k.fake.device);
        kit_frame(&k, 200 + 60 * (uint64_t)i);
        kit_frame(&k, 220 + 60 * (uint64_t)i);
        ck_assert_int_eq(left, 2 + i);
        e = event_of(IKV_KIND_DRAG_OVER);
        e.drag.x = e.drag.y = 10;
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 240 + 60 * (uint64_t)i);
        ck_assert_str_eq(asked.text, i == 0 ? "1011" : "10111");
    }
    /* Only these three kinds are a port's. */
    e = event_of(IKV_KIND_DRAG_ENTER);
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 320);
    ck_assert_uint_eq(loop_counts(k.loop).rejected, 1);
    status_is(ikv_router_route(k.router, &e).status, IKV_ABSENT);
    close_it();
}
END_TEST

/* -------------------------------------------------------------- threads -- */

enum {
    THREADS = 3,
    EACH = 2000
};

static void *push_from_thread(void *user)
{
    uint32_t own = (uint32_t)(uintptr_t)user;
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, 0);
    for (uint32_t i = 0; i < EACH;) {
        char text[40];
        int length = snprintf(text, sizeof text, "%u %u %.*s", own, i,
                              (int)(i % 20), "xxxxxxxxxxxxxxxxxxxx");
        e.source.bits = own;
        ikv_status status =
            ikv_sink_push_data_any(k.fake.sink, &e, text, (size_t)length + 1);
        i += status == IKV_OK;
        if (status < 0 && status != IKV_FULL_BLOCKS)
            ck_assert_int_eq(status, IKV_FULL_QUEUE);
        if (status < 0)
            sched_yield();
    }
    return NULL;
}

static uint32_t next_of[THREADS], wrong;

static ikv_verdict check_order(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    unsigned own = 99, number = 0, length = 0;
    (void)user, (void)event;
    sscanf(delivery->data, "%u %u", &own, &number);
    const char *rest = strrchr(delivery->data, ' ') + 1;
    length = (unsigned)strlen(rest);
    wrong += own >= THREADS || number != next_of[own < THREADS ? own : 0] ||
             length != number % 20;
    if (own < THREADS)
        next_of[own]++;
    return IKV_CONTINUE;
}

/* Q1: each thread's come in its order, whole, none lost that was taken. */
START_TEST(from_threads)
{
    pthread_t threads[THREADS];
    memset(next_of, 0, sizeof next_of);
    wrong = 0;
    open_with(4, 64);
    hears(k.bus, IKV_KIND_WINDOW_SHOW, (ikv_target){0}, check_order, NULL);
    for (uintptr_t i = 0; i < THREADS; i++)
        ck_assert_int_eq(
            pthread_create(&threads[i], NULL, push_from_thread, (void *)i), 0);
    uint64_t ms = 20;
    uint32_t taken = 0;
    while (taken < THREADS * EACH) {
        if (ikv_queue_waiting(ikv_kit_queue(k.kit)) == 0)
            sched_yield();
        kit_frame(&k, ms += 20);
        taken = next_of[0] + next_of[1] + next_of[2];
    }
    for (int i = 0; i < THREADS; i++)
        pthread_join(threads[i], NULL);
    ck_assert_uint_eq(wrong, 0);
    close_it();
}
END_TEST

/* ---------------------------------------------------------------- tapes -- */

/* Recorded, read, converted both ways: to the byte; and played the same. */
START_TEST(on_tapes)
{
    static char output[8192];
    int code = run_command_line(
        output, sizeof output,
        "cp " SOURCE "/tests/golden/data.setup.json " SOURCE
        "/tests/golden/data.tape.jsonl . && T=" BINARY "/ikvar && "
        "$T run -R one.tape.jsonl data.setup.json data.tape.jsonl > log.txt && "
        "$T tape convert one.tape.jsonl one.tape.cbor && "
        "$T tape convert one.tape.cbor two.tape.jsonl && "
        "cmp one.tape.jsonl two.tape.jsonl && "
        "$T run -R three.tape.cbor data.setup.json one.tape.cbor > log2.txt && "
        "cmp one.tape.cbor three.tape.cbor && cmp log.txt log2.txt && "
        "$T tape cut one.tape.cbor --to 70 -o a.tape.cbor && "
        "$T tape cut one.tape.jsonl --from 70 -o b.tape.jsonl && "
        "$T tape join a.tape.cbor b.tape.jsonl -o all.tape.jsonl && "
        "grep -v digest one.tape.jsonl > x && grep -v '\"end\"' all.tape.jsonl "
        "> y && cmp x y && "
        "$T run --json --heard data.setup.json one.tape.cbor | grep data && "
        "cat log.txt");
    ck_assert_msg(code == 0, "%d: %s", code, output);
    expect_golden("data.txt", output);
}
END_TEST

#define FIELD_SET "\"kind\":\"field.set\",\"due\":5,\"lane\":\"step\","

static const struct {
    const char *line, *says;
} line_table[] = {
    {"\"kind\":\"key.down\",\"data\":3", "/data: expected a string, found "},
    {"\"kind\":\"key.down\",\"data\":\"\"",
     "/data: expected 1 to 16384 bytes, found 0"},
    {"\"kind\":\"key.down\",\"data\":\"a\",\"base64\":\"YQ==\"",
     "/data: expected \"data\" or \"base64\""},
    {"\"kind\":\"key.down\",\"base64\":\"YQ=\"",
     "/base64: expected base64 of 1 to 16384 bytes, found 3 characters"},
    {"\"kind\":\"key.down\",\"base64\":\"YQ=a\"",
     "/base64: expected base64, found \"YQ=a\" at character 1"},
    {"\"kind\":\"key.down\",\"base64\":\"YR==\"",
     "/base64: expected base64, found \"YR==\" at character 1"},
    {"\"kind\":\"key.down\",\"base64\":\"AAAA====\"",
     "/base64: expected base64, found \"====\" at character 5"},
    {"\"kind\":\"pointer.move\",\"data\":\"a\"",
     "/data: events of the kind pointer.move merge"},
    {"\"kind\":\"key.down\",\"held\":true,\"data\":\"a\"",
     "/data: what is \"held\""},
    {"\"kind\":\"text.input\",\"base64\":\"/w==\"",
     "the loop did not take a played event: a value has the wrong type"},
    {FIELD_SET "\"type\":\"integer\",\"new\":2.5",
     "/new: expected a whole number, of that \"type\", found 2.5"},
    {FIELD_SET "\"new\":1,\"type\":\"bool\"",
     "/new: expected true or false, of that \"type\", found 1"},
    {"\"kind\":\"field.set\",\"new\":1,\"type\":\"bool\"",
     "/new: expected true or false, of that \"type\", found 1"},
    {FIELD_SET "\"type\":\"number\",\"new\":true",
     "/new: expected a number, of that \"type\", found true"},
    {FIELD_SET "\"type\":\"target\",\"new\":\"nobody\"",
     "/new: expected a target's id, found \"nobody\""},
    {FIELD_SET "\"type\":9,\"new\":1", "/new: expected a \"type\" that has"},
    {FIELD_SET "\"old\":1,\"new\":1.5", "/new: expected a whole number"},
    {FIELD_SET "\"new\":null", "/new: expected a number, or true or false"},
    {FIELD_SET "\"old\":1,\"new\":1.5,\"type\":\"number\"", NULL},
    {FIELD_SET "\"type\":\"target\",\"new\":\"root\"", NULL},
    {FIELD_SET "\"new\":false", NULL},
    {"\"kind\":\"key.down\",\"data\":\"fine\"", NULL},
    {"\"kind\":\"key.down\",\"base64\":\"AAECAwQ=\"", NULL},
};

START_TEST(lines_that_are_wrong)
{
    static char output[4096];
    char line[512];
    snprintf(line, sizeof line,
             "{\"format\":\"ikvar.tape/2\",\"until\":50}\n{\"t\":5,%s}\n",
             line_table[_i].line);
    write_file("data.tape.jsonl", line);
    write_file("data.setup.json", "{\"format\":\"ikvar.setup/1\"}\n");
    int code = run_command_line(
        output, sizeof output,
        BINARY "/ikvar run data.setup.json data.tape.jsonl 2>&1 >/dev/null");
    ck_assert_msg(code == (line_table[_i].says != NULL ? 3 : 0), "%d: %s", code,
                  output);
    if (line_table[_i].says != NULL)
        ck_assert_msg(strstr(output, line_table[_i].says) != NULL, "%s",
                      output);
}
END_TEST

Suite *data_suite(void)
{
    Suite *s = suite_create("data");
    add_table(s, "E3 text", texts, ROWS(text_table));
    add(s, "E3 text of any length", text_of_any_length);
    add(s, "E3 text full", no_room_for_all_pieces);
    add(s, "E3 E5 what may come", what_may_come);
    add(s, "Q1 waits for room", waits_for_room);
    add(s, "E3 no longer than its dispatch", no_longer_than_its_dispatch);
    add(s, "T6 in an image", in_an_image);
    add(s, "DRAG5 a file over the window", a_file_over_the_window);
    add(s, "Q1 from threads", from_threads);
    add(s, "T1 on tapes", on_tapes);
    add_table(s, "T1 lines that are wrong", lines_that_are_wrong,
              ROWS(line_table));
    return s;
}
