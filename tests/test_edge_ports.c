/* test_edge_ports.c - hostile ports, odd clocks, values that can't be kept,
 * frames inside frames. Each case is named by its entry in
 * docs/reliability.md. */
#define _DEFAULT_SOURCE
#include "support.h"

#include <ikvar/digest.h>

#include <math.h>
#include <pthread.h>
#include <signal.h>
#include <sys/mman.h>
#include <time.h>

static const uint64_t base_ns = 7000000000, ms_ns = 1000000;

static bench_kit k;
static record seen;
static record said; /* all reports */

static const char *said_by; /* the last report's module */

static void say_all(const ikv_report *report, void *user)
{
    bench_kit *kit = user;
    kit->reports++;
    said_by = report->module;
    note(&said, "[%s] ", report->text);
    snprintf(kit->report, sizeof kit->report, "%s", report->text);
}

/* Kind and time in ms of what is heard. */
static ikv_verdict hear(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    (void)d, (void)user;
    char time[32];
    size_t length = ikv_time_format(event->time_ns, time);
    note(&seen, "%s@%.*s%s ", ikv_catalogue_info(NULL, event->kind)->name,
         (int)length, time, event->flags & IKV_SYNTHETIC ? "*" : "");
    return IKV_CONTINUE;
}

static void listen(uint32_t families)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.families = families;
    config.handler = hear;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
}

enum {
    INPUT = 1u << IKV_FAMILY_KEY | 1u << IKV_FAMILY_DEVICE |
            1u << IKV_FAMILY_WINDOW | 1u << IKV_FAMILY_POINTER
};

static void prepare(void)
{
    kit_prepare(&k);
    k.config.reporter = (ikv_reporter){say_all, &k};
    k.config.loop.step_num = 100; /* a step each 10 ms */
    seen.text[0] = said.text[0] = '\0';
}

static void open_with(uint32_t families)
{
    prepare();
    kit_open(&k);
    listen(families);
    kit_frame(&k, 0);
}

static ikv_event key(ikv_kind kind, uint64_t ms)
{
    ikv_event e = ikv_event_make(kind, base_ns + ms * ms_ns);
    e.device = k.fake.device;
    e.key.code = ikv_code_find("KeyA");
    return e;
}

/* ------------------------------------------------------- 1: ahead of now -- */

/* What is ahead of its port's clock is taken as of now: it holds nothing back,
 * and is reported once. */
START_TEST(ahead_of_the_clock)
{
    static const uint64_t ahead_ns[] = {5000000000ull, 1790000000000000000ull,
                                        UINT64_MAX - 7100000000ull};
    open_with(INPUT);
    k.fake.now_ns = base_ns + 20 * ms_ns;
    ikv_event e = key(IKV_KIND_KEY_DOWN, 20);
    e.time_ns += ahead_ns[_i];
    ok(ikv_sink_push(k.fake.sink, &e));
    ikv_event up = key(IKV_KIND_KEY_UP, 20);
    ok(ikv_sink_push(k.fake.sink, &up));
    kit_frame(&k, 40);
    kit_frame(&k, 50);
    ck_assert_str_eq(seen.text, "key.down@40 key.up@20 ");
    e = key(IKV_KIND_KEY_DOWN, 40);
    e.time_ns += ahead_ns[_i];
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 60);
    kit_frame(&k, 80);
    ck_assert_uint_eq(loop_counts(k.loop).ahead, 2);
    ck_assert_int_eq(k.reports, 1);
    ck_assert_msg(strstr(k.report, "ahead of its clock, by ") != NULL,
                  "said: %s", k.report);
    ck_assert_str_eq(said_by, "fake");
    const char *end = strstr(k.report, " ms: they are taken as of now; ");
    ck_assert_ptr_nonnull(end);
    ck_assert_str_eq(end, " ms: they are taken as of now; event times must be "
                          "on the clock of the port's now()");
    kit_close(&k);
}
END_TEST

/* A clock that runs backwards stands still; one that jumps drops time. */
START_TEST(hostile_clock)
{
    open_with(INPUT);
    kit_frame(&k, 50);
    k.fake.now_ns = 0;
    ck_assert(ikv_loop_begin(k.loop));
    ikv_loop_end(k.loop);
    ck_assert_uint_eq(ikv_loop_time_ns(k.loop), 50 * ms_ns);
    kit_frame(&k, 45); /* a little */
    ck_assert_uint_eq(ikv_loop_time_ns(k.loop), 50 * ms_ns);
    k.fake.now_ns = base_ns + (UINT64_C(1) << 61);
    ck_assert(ikv_loop_begin(k.loop));
    ikv_loop_end(k.loop);
    ck_assert_uint_gt(loop_counts(k.loop).dropped_steps, 1000000);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------- 2, 4: several clocks -- */

static fake_port other;

static void open_prepared_two(uint64_t other_now)
{
    static ikv_port ports[2];
    other = (fake_port){.now_ns = other_now};
    ports[0] = k.port;
    ports[1] = fake_port_of(&other);
    k.config.ports = ports;
    k.config.port_count = 2;
    kit_open(&k);
    listen(INPUT);
    kit_frame(&k, 0);
}

static void open_two(uint64_t other_now)
{
    prepare();
    open_prepared_two(other_now);
}

/* What comes through a sink bears that port's clock, also without a device and
 * from another thread. */
START_TEST(clock_of_the_sink)
{
    open_two(900 * ms_ns);
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, 903 * ms_ns);
    other.now_ns = 905 * ms_ns;
    ok(_i == 0 ? ikv_sink_push(other.sink, &e)
               : ikv_sink_push_any(other.sink, &e));
    kit_frame(&k, 20);
    ck_assert_str_eq(seen.text, "window.show@3 ");
    ck_assert_int_eq(k.reports, 0);
    uint32_t readings = other.readings;
    for (uint64_t ms = 20; ms < 1000; ms += 20)
        kit_frame(&k, ms);
    ck_assert_uint_eq(other.readings, readings);
    kit_frame(&k, 1000); /* once a second they are compared */
    kit_frame(&k, 1020);
    ck_assert_uint_eq(other.readings, readings + 1);
    /* Who drains the queue by hand finds its device, and no port's mark. */
    e.device = other.device;
    ok(_i == 0 ? ikv_sink_push(other.sink, &e)
               : ikv_sink_push_any(other.sink, &e));
    ck_assert_uint_eq(ikv_queue_drain(ikv_kit_queue(k.kit), &e, 1), 1);
    ck_assert_uint_eq(e.device, other.device);
    kit_close(&k);
}
END_TEST

/* Clocks that drift apart by so many ppm stay together; times of one port never
 * run backwards. */
START_TEST(drift)
{
    static const double ppm[] = {300, -300, 900, -900, 0};
    uint64_t last = 0;
    open_two(500);
    for (uint64_t ms = 7; ms < 60000; ms += 7) {
        double own = 500 + (double)(ms * ms_ns) * (1 + ppm[_i] / 1e6);
        ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, (uint64_t)own);
        other.now_ns = (uint64_t)own;
        ok(ikv_sink_push(other.sink, &e));
        seen.text[0] = '\0';
        kit_frame(&k, ms);
        kit_frame(&k, ms);
        if (seen.text[0] == '\0')
            continue;
        uint64_t at = (uint64_t)(atof(strrchr(seen.text, '@') + 1) * 1e6);
        ck_assert_msg(at >= last, "%llu ns after %llu ns",
                      (unsigned long long)at, (unsigned long long)last);
        ck_assert_msg(at + 12 * ms_ns > ms * ms_ns, "%s at %llu ms", seen.text,
                      (unsigned long long)ms);
        /* Evenly: it is 7 ms, or a few times that, since the last one. */
        uint64_t odd = (at - last) % (7 * ms_ns);
        ck_assert_msg(odd < 100000 || odd > 7 * ms_ns - 100000,
                      "%llu ns after the last at %llu ms",
                      (unsigned long long)(at - last), (unsigned long long)ms);
        last = at;
    }
    ck_assert_uint_gt(last, 59000 * ms_ns);
    ck_assert_uint_eq(loop_counts(k.loop).ahead, 0);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------- 3, 41: ports that fall over -- */

static ikv_status bad_status;
static uint32_t bad_count;
static ikv_event bad_held[70];
#define UNTOLD 1000 /* the count is left as it was */

static ikv_status held_badly(void *state, uint16_t device, ikv_event *events,
                             uint32_t room, uint32_t *count)
{
    (void)state, (void)device;
    for (uint32_t i = 0; i < bad_count && i < room; i++)
        events[i] = bad_held[i];
    if (bad_count != UNTOLD)
        *count = bad_count;
    return bad_status;
}

static ikv_status fail_waiting(void *state, uint64_t until_ns, bool for_input)
{
    fake_port *fake = state; /* on its own clock, not long from now */
    ck_assert(until_ns >= fake->now_ns &&
              until_ns - fake->now_ns <= 3600000000000);
    (void)for_input;
    fake->now_ns += 100000;
    fake->waits++;
    return IKV_PORT_FAILED;
}

static void hold_all(fake_port *port, uint64_t at_ns)
{
    ikv_event e = key(IKV_KIND_KEY_DOWN, 0);
    e.device = port->device;
    e.time_ns = at_ns;
    ok(ikv_sink_push(port->sink, &e));
    e = ikv_event_make(IKV_KIND_POINTER_DOWN, at_ns);
    e.device = port->device;
    ok(ikv_sink_push(port->sink, &e));
    e = ikv_event_make(IKV_KIND_KEY_DOWN, at_ns); /* of no device */
    e.key.code = ikv_code_find("KeyB");
    ok(ikv_sink_push(port->sink, &e));
}

static void check_let_go(void)
{
    const ikv_state *state = ikv_kit_state(k.kit);
    ck_assert(!ikv_state_any_key(state, IKV_STATE_RAW, 0).down);
    ck_assert(!ikv_state_any_key(state, IKV_STATE_UNCLAIMED, 0).down);
    ck_assert_uint_eq(router_counts(k.router).pointers_down, 0);
}

/* A second port that ends or fails while keys and pointers are down. */
START_TEST(port_falls_over)
{
    open_two(0);
    hold_all(&other, 0);
    kit_frame(&k, 20);
    ck_assert(ikv_state_any_key(ikv_kit_state(k.kit), IKV_STATE_RAW, 0).down);
    ck_assert_uint_eq(router_counts(k.router).pointers_down, 1);
    seen.text[0] = '\0';
    other.poll_status = _i == 0 ? IKV_ENDED : IKV_PORT_FAILED;
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    check_let_go();
    ck_assert_str_eq(seen.text,
                     "key.up@40* pointer.cancel@40* pointer.out@40* "
                     "pointer.leave@40* device.remove@40* key.up@40* "
                     "device.remove@40* ");
    kit_frame(&k, 80);
    ck_assert_int_eq(k.reports, _i);
    ck_assert_int_eq(kit_frame(&k, 100), 2); /* the other one goes on */
    kit_close(&k);
}
END_TEST

/* P1: a port that has more than the ring has room for is polled on within the
 * frame; afterwards once a frame again. */
static uint32_t polls, left;

static ikv_status plays_more(void *state)
{
    const fake_port *fake = state;
    polls++;
    for (; left > 0; left--) {
        ikv_event e =
            key(left % 2 != 0 ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN, 0);
        e.time_ns = ms_ns; /* of the loop, which has begun */
        if (ikv_sink_play(fake->sink, &e, NULL) != IKV_OK)
            break;
    }
    return IKV_OK;
}

START_TEST(polled_on)
{
    prepare();
    k.config.loop.pending = 4;
    k.port.poll = plays_more;
    kit_open(&k);
    kit_frame(&k, 0);
    left = 10;
    polls = 0;
    kit_frame(&k, 20);
    kit_frame(&k, 40);
    ck_assert_uint_eq(left, 0);
    ck_assert_uint_gt(polls, 2);
    polls = 0;
    for (uint64_t ms = 60; ms <= 140; ms += 20)
        kit_frame(&k, ms);
    ck_assert_uint_eq(polls, 5);
    kit_close(&k);
}
END_TEST

static void tap(fake_port *port, const char *code)
{
    ikv_event e = key(IKV_KIND_KEY_DOWN, 1);
    e.device = port->device;
    e.time_ns = port->now_ns;
    e.key.code = ikv_code_find(code);
    ok(ikv_sink_push(port->sink, &e));
    e.kind = IKV_KIND_KEY_UP;
    ok(ikv_sink_push(port->sink, &e));
}

/* K1: modifiers that stayed, as many as can, take no room when it has ended. */
START_TEST(ends_with_what_stays)
{
    static const char *const codes[] = {
        "ShiftLeft",  "ControlLeft",  "AltLeft",  "MetaLeft",
        "ShiftRight", "ControlRight", "AltRight", "MetaRight"};
    static const uint32_t all = IKV_SHIFT | IKV_CONTROL | IKV_ALT | IKV_META;
    open_two(0);
    const ikv_state *state = ikv_kit_state(k.kit);
    ok(ikv_loop_set_sticky(k.loop, 0, true));
    for (int i = 0; i < ROWS(codes); i++)
        tap(&other, codes[i]);
    kit_frame(&k, 20);
    ck_assert_uint_eq(ikv_state_modifiers(state, IKV_STATE_RAW, 0), all);
    other.poll_status = IKV_ENDED;
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    check_let_go();
    tap(&k.fake, "ShiftLeft");
    kit_frame(&k, 80);
    ck_assert_uint_eq(ikv_state_modifiers(state, IKV_STATE_RAW, 0), IKV_SHIFT);
    kit_close(&k);
}
END_TEST

/* What a port that has ended holds is let go though no room is left for it in
 * the frame in which it ends. */
START_TEST(ends_while_full)
{
    prepare();
    k.config.loop.pending = 4;
    open_prepared_two(0);
    hold_all(&other, 0);
    kit_frame(&k, 20);
    for (int i = 0; i < 4; i++) {
        ikv_event e = key(i % 2 ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN, 21);
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    other.poll_status = IKV_ENDED;
    for (uint64_t ms = 22; ms < 200; ms += 20)
        kit_frame(&k, ms);
    check_let_go();
    ck_assert_msg(strstr(seen.text, "device.remove") != NULL, "%s", seen.text);
    kit_close(&k);
}
END_TEST

/* What has no device and may be another port's is asked of that one. */
START_TEST(unnamed_of_two)
{
    open_two(0);
    k.port.held = NULL;
    hold_all(&other, 0);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, base_ns);
    e.key.code = ikv_code_find("KeyC");
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    seen.text[0] = '\0';
    other.poll_status = IKV_ENDED;
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    check_let_go();
    ck_assert_msg(strstr(seen.text, "device.resync") != NULL, "%s", seen.text);
    kit_close(&k);
}
END_TEST

/* What has no device is asked of all ports, and all that they hold stays. */
static ikv_status held_by(ikv_event *events, uint32_t room, uint32_t *count,
                          const char *code)
{
    ck_assert_uint_gt(room, 0);
    events[0] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    events[0].key.code = ikv_code_find(code);
    *count = 1;
    return IKV_OK;
}

static ikv_status holds_a(void *state, uint16_t device, ikv_event *events,
                          uint32_t room, uint32_t *count)
{
    (void)state, (void)device;
    return held_by(events, room, count, "KeyA");
}

static ikv_status holds_b(void *state, uint16_t device, ikv_event *events,
                          uint32_t room, uint32_t *count)
{
    (void)state, (void)device;
    return held_by(events, room, count, "KeyB");
}

START_TEST(unnamed_of_all)
{
    static const char *const codes[] = {"KeyA", "KeyB", "KeyC"};
    prepare();
    fake_port second = {.now_ns = 1};
    ikv_port ports[2] = {k.port, fake_port_of(&second)};
    ports[0].held = holds_a;
    ports[1].held = holds_b;
    k.config.ports = ports;
    k.config.port_count = 2;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < 3; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, base_ns);
        e.key.code = ikv_code_find(codes[i]);
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kit_frame(&k, 20);
    ikv_sink_lost(k.fake.sink, 0);
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    for (int i = 0; i < 3; i++)
        ck_assert(ikv_state_key(ikv_kit_state(k.kit), IKV_STATE_RAW, 0,
                                ikv_code_find(codes[i]))
                      .down == (i < 2));
    kit_close(&k);
}
END_TEST

/* Answers of held() that fail, are too many, or name what is none. */
static const struct {
    ikv_status status;
    uint32_t count;
    ikv_kind kind;
    float x;
    const char *report;
} held_table[] = {
    {IKV_PORT_FAILED, 0, 0, 0, "the port's held() failed"},
    {IKV_OK, 70, IKV_KIND_KEY_DOWN, 0, "held() named over loop.held"},
    {IKV_OK, UINT32_MAX, IKV_KIND_KEY_DOWN, 0, "held() named over loop.held"},
    {IKV_OK, 1, 999, 0, "held() named"},
    {IKV_OK, 1, IKV_KIND_NONE, 0, "held() named"},
    {IKV_OK, 1, IKV_KIND_POINTER_UP, 0, "held() named"},
    {IKV_OK, 1, IKV_KIND_POINTER_DOWN, NAN, "held() named"},
    {IKV_OK, 1, IKV_KIND_LOOP_PAUSE, 0, "held() named"},
    {IKV_OK, UNTOLD, IKV_KIND_KEY_DOWN, 0, ""}, /* nothing is held */
};

START_TEST(held_answers)
{
    prepare();
    k.port.held = held_badly;
    kit_open(&k);
    listen(INPUT);
    kit_frame(&k, 0);
    hold_all(&k.fake, base_ns);
    kit_frame(&k, 20);
    bad_status = held_table[_i].status;
    bad_count = held_table[_i].count;
    for (int i = 0; i < ROWS(bad_held); i++) {
        bad_held[i] = ikv_event_make(held_table[_i].kind, 0);
        bad_held[i].key.code = ikv_code_find("KeyA");
        if (held_table[_i].kind == IKV_KIND_POINTER_DOWN)
            bad_held[i].pointer.x = held_table[_i].x;
    }
    for (int i = 0; i < 3; i++) {
        ikv_sink_lost(k.fake.sink, k.fake.device);
        ikv_sink_lost(k.fake.sink, 0);
        kit_frame(&k, 40 + 20 * (uint64_t)i);
    }
    check_let_go();
    ck_assert_int_eq(k.reports, held_table[_i].report[0] != '\0');
    ck_assert_msg(strstr(k.report, held_table[_i].report) != NULL, "said: %s",
                  k.report);
    kit_close(&k);
}
END_TEST

/* An answer for which there is no room beside its device.resync is none. */
static const struct {
    uint32_t held;
    uint64_t made_up;
} room_table[] = {{15, 16}, {16, 1}, {17, 1}};

START_TEST(held_beyond_the_ring)
{
    prepare();
    k.port.held = held_badly;
    k.config.loop.pending = 16;
    kit_open(&k);
    kit_frame(&k, 0);
    hold_all(&k.fake, base_ns);
    kit_frame(&k, 20);
    bad_status = IKV_OK;
    bad_count = room_table[_i].held;
    for (uint32_t i = 0; i < ROWS(bad_held); i++) {
        bad_held[i] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        bad_held[i].key.code = IKV_CODE(4 + i);
    }
    ikv_sink_lost(k.fake.sink, k.fake.device);
    kit_frame(&k, 40);
    kit_frame(&k, 60);
    ck_assert_uint_eq(loop_counts(k.loop).made_up, room_table[_i].made_up);
    ck_assert_uint_eq(router_counts(k.router).pointers_down, 0);
    ck_assert(ikv_loop_validate(k.loop) == NULL);
    kit_close(&k);
}
END_TEST

/* A wait() that fails is asked once; frames are paced by the clock. */
START_TEST(wait_fails)
{
    prepare();
    k.port.wait = fail_waiting;
    k.config.loop.frame_hz = 1000;
    k.config.loop.idles = _i == 1;
    k.fake.now_ns = 9000 * UINT64_C(1000000000); /* it was on before */
    kit_open(&k);
    for (int i = 0; i < 5; i++) {
        ck_assert(ikv_loop_begin(k.loop));
        ikv_loop_end(k.loop);
    }
    ck_assert_int_eq(k.fake.waits, 1);
    ck_assert_int_eq(k.reports, 1);
    ck_assert_msg(strstr(k.report, "wait() failed") != NULL, "said: %s",
                  k.report);
    kit_close(&k);
}
END_TEST

/* ---------------------------------------------------- 5: what is recorded --
 */

static const char *const good_text[] = {"",
                                        "a",
                                        "\x01",
                                        "\x7f",
                                        "\xc2\x80",
                                        "\xdf\xbf",
                                        "\xc3\xa4",
                                        "\xe2\x82\xac",
                                        "\xf0\x9f\x9a\xa2",
                                        "\xf4\x8f\xbf\xbf",
                                        "\xed\x9f\xbf",
                                        "\xee\x80\x80",
                                        "\xe0\xa0\x80",
                                        "\xf0\x90\x80\x80"};
static const char *const bad_text[] = {
    "\x80",         "\xc0\x80",         "\xc1\xbf",         "\xe0\x80\x80",
    "\xe0\x9f\xbf", "\xed\xa0\x80",     "\xed\xbf\xbf",     "\xf0\x80\x80\x80",
    "\xf0\x8f\xbf", "\xf4\x90\x80\x80", "\xf5\x80\x80",     "\xff",
    "\xc3",         "a\xe2\x82",        "\xfc\x80\x80\x80", "\x84\x80\x80\x80"};

/* Text: surrogates, overlong forms, what is above U+10FFFF, a zero byte. */
START_TEST(text_values)
{
    open_with(1u << IKV_FAMILY_TEXT);
    ikv_event e = ikv_event_make(IKV_KIND_TEXT_INPUT, base_ns);
    e.device = k.fake.device;
    for (int i = 0; i < ROWS(good_text); i++) {
        size_t length = strlen(good_text[i]);
        memcpy(e.text.bytes, good_text[i], length);
        e.text.length = (uint8_t)length;
        ok(ikv_sink_push(k.fake.sink, &e));
        status_is(ikv_sink_push_text(k.fake.sink, &e, good_text[i], length),
                  length > 0 ? IKV_OK : IKV_ABSENT);
    }
    for (int i = 0; i < ROWS(bad_text); i++) {
        size_t length = strlen(bad_text[i]);
        memcpy(e.text.bytes, bad_text[i], length);
        e.text.length = (uint8_t)length;
        status_is(ikv_sink_push(k.fake.sink, &e), IKV_BAD_VALUE);
        status_is(ikv_sink_push_text(k.fake.sink, &e, bad_text[i], length),
                  IKV_BAD_VALUE);
        ikv_event c = ikv_event_make(IKV_KIND_TEXT_COMPOSE, base_ns);
        memcpy(c.compose.bytes, bad_text[i], length);
        c.compose.length = (uint8_t)length;
        status_is(ikv_sink_push_any(k.fake.sink, &c), IKV_BAD_VALUE);
    }
    status_is(ikv_sink_push_text(k.fake.sink, &e, "a\0b", 3), IKV_BAD_VALUE);
    e.text.length = IKV_TEXT_BYTES + 1;
    status_is(ikv_sink_push(k.fake.sink, &e), IKV_BAD_VALUE);
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).bad_values, 2 * ROWS(bad_text) + 1);
    ck_assert_int_eq(k.reports, 1); /* one kind of the two since the drain */
    ck_assert_msg(strstr(said.text, "text.input.text") != NULL, "%s",
                  said.text);
    kit_close(&k);
}
END_TEST

static void is_recordable(const ikv_event *event, const ikv_intake *intake,
                          void *user)
{
    (void)intake;
    ++*(int *)user;
    ck_assert_uint_le(event->time_ns, IKV_TIME_LIMIT);
}

/* E5: no time comes in that a tape could not have. */
START_TEST(far_times)
{
    static const struct {
        uint64_t time_ns;
        ikv_status status;
    } rows[] = {{0, IKV_OK},
                {IKV_TIME_LIMIT, IKV_OK},
                {IKV_TIME_LIMIT + 1, IKV_BAD_VALUE},
                {UINT64_MAX, IKV_BAD_VALUE}};
    int taken = 0;
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ok(ikv_loop_set_recorder(k.loop, is_recordable, &taken));
    for (int i = 0; i < ROWS(rows); i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, rows[i].time_ns);
        status_is(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e), rows[i].status);
        /* A port's is of its own clock, and not after it was seen. */
        e.device = k.fake.device;
        ok(ikv_sink_push(k.fake.sink, &e));
        e.kind = IKV_KIND_KEY_UP;
        ok(ikv_sink_push_any(k.fake.sink, &e));
    }
    kit_frame(&k, 40);
    kit_frame(&k, 80);
    ck_assert_int_eq(taken, 2 + 2 * ROWS(rows));
    kit_close(&k);
}
END_TEST

/* Each float of each kind that ports push, one at a time. */
static int push_bad_floats(const ikv_kind_info *info, double value)
{
    int found = 0;
    for (uint32_t f = 0; f < info->field_count; f++) {
        const ikv_field *field = &info->fields[f];
        ikv_event e = ikv_event_make(info->kind, base_ns);
        ikv_value v = {IKV_VALUE_NUMBER, {.number = value}};
        if (field->type != IKV_TYPE_F32 && field->type != IKV_TYPE_F64)
            continue;
        e.device = k.fake.device;
        found++;
        float small = (float)value;
        if (field->type == IKV_TYPE_F32)
            memcpy((char *)&e + field->offset, &small, sizeof small);
        else
            memcpy((char *)&e + field->offset, &v.bits.number, 8);
        status_is(ikv_sink_push(k.fake.sink, &e), IKV_BAD_VALUE);
        status_is(ikv_sink_push_any(k.fake.sink, &e), IKV_BAD_VALUE);
        status_is(ikv_sink_play(k.fake.sink, &e, NULL), IKV_BAD_VALUE);
        status_is(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e), IKV_BAD_VALUE);
        ok(ikv_queue_push(ikv_kit_queue(k.kit), &e)); /* seen at the drain */
    }
    return found;
}

START_TEST(float_values)
{
    static const double values[] = {NAN, INFINITY, -INFINITY};
    ikv_catalogue_config config = IKV_CATALOGUE_INIT;
    config.memory = ikv_host_memory();
    ikv_catalogue *catalogue;
    ok(ikv_catalogue_open(&config, &catalogue));
    const ikv_field fields[] = {
        {.name = "depth", .type = IKV_TYPE_F64},
        {.name = "drift", .type = IKV_TYPE_F32, .offset = 8}};
    ikv_kind_config own = IKV_KIND_CONFIG_INIT;
    ikv_kind tide;
    own.name = "harbour.tide";
    own.fields = fields;
    own.field_count = 2;
    own.pushable = true;
    ok(ikv_catalogue_register(catalogue, &own, &tide, NULL));
    prepare();
    k.config.catalogue = catalogue;
    kit_open(&k);
    kit_frame(&k, 0);
    int found = 0, kinds = 0;
    for (ikv_kind kind = 0;
         (kind = ikv_catalogue_next(catalogue, kind)) != IKV_KIND_NONE;) {
        const ikv_kind_info *info = ikv_catalogue_info(catalogue, kind);
        int before = found;
        if (info->from & IKV_FROM_P)
            found += push_bad_floats(info, values[_i]);
        kinds += found > before;
    }
    ck_assert_int_gt(found, 40);
    /* A field's value, if it is a number. */
    ikv_event set = ikv_event_make(IKV_KIND_FIELD_SET, base_ns);
    memcpy(&set.field.after, &values[_i], sizeof values[_i]);
    for (uint8_t type = IKV_VALUE_INTEGER; type <= IKV_VALUE_TARGET; type++) {
        set.field.type = type;
        status_is(ikv_sink_push(k.fake.sink, &set),
                  type == IKV_VALUE_NUMBER ? IKV_BAD_VALUE : IKV_OK);
    }
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).routed, 0);
    ck_assert_uint_eq(loop_counts(k.loop).bad_values, 4u * (uint32_t)found + 1);
    ck_assert_int_eq(k.reports, kinds + 1); /* each kind once */
    ck_assert_msg(strstr(said.text, "harbour.tide.depth") != NULL, "%s",
                  said.text);
    ikv_event far = ikv_event_make(tide, k.fake.now_ns);
    const float beyond = 1e30f; /* of a kind of one's own any that is finite */
    memcpy((char *)&far + 40, &beyond, sizeof beyond);
    ok(ikv_sink_push(k.fake.sink, &far));
    kit_frame(&k, 40);
    ck_assert_uint_eq(loop_counts(k.loop).routed, 1);
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* Whatever is pushed, of random bytes: what was taken is read back, and played
 * and recorded anew it is the same tape. */
static ikv_event random_event(uint64_t *seed, uint64_t time_ns)
{
    ikv_kind kind;
    do
        kind = (ikv_kind)(1 + random_below(seed, 40));
    while ((ikv_catalogue_info(NULL, kind)->from & IKV_FROM_P) == 0 ||
           kind == IKV_KIND_WINDOW_CLOSE);
    ikv_event e = ikv_event_make(kind, time_ns);
    bool wild = random_below(seed, 2) == 0;
    for (uint32_t i = 0; i < 32; i++)
        if (wild || random_below(seed, 4) == 0)
            e.user[i] = (uint8_t)random_below(seed, 256);
    e.device = (uint16_t)random_below(seed, 4);
    e.flags = (uint16_t)random_below(seed, 128);
    e.modifiers = (uint16_t)random_below(seed, 70);
    e.view = (uint8_t)random_below(seed, 256);
    e.seat = (uint8_t)random_below(seed, 10);
    return e;
}

static void record_again(const char *path)
{
    ikv_message message;
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    ikv_sim_config sim = IKV_SIM_INIT;
    char again[80];
    snprintf(again, sizeof again, "again-%s", path);
    prepare();
    ok(ikv_tape_open(path, NULL, &sim.tape, &message));
    ok(ikv_sim_open(&sim, &k.port));
    k.config.loop.frame_hz = 0;
    kit_open(&k);
    config.path = again;
    config.kit = k.kit;
    ok(ikv_recording_open(&config, &recording, &message));
    while (whole_frame(k.loop)) {
    }
    ok(ikv_recording_close(recording, NULL));
    ikv_kit_close(k.kit);
    ikv_sim_close(&k.port);
    ikv_tape_close(sim.tape);
    char *first = read_file(path), *second = read_file(again);
    *strstr(first, "{\"digest\"") = *strstr(second, "{\"digest\"") = '\0';
    size_t same = 0;
    while (first[same] != '\0' && first[same] == second[same])
        same++;
    ck_assert_msg(first[same] == second[same], "%s: \"%.300s\" and \"%.300s\"",
                  path, first + same - (same < 100 ? same : 100),
                  second + same - (same < 100 ? same : 100));
    free(first);
    free(second);
}

START_TEST(recordings_read_back)
{
    uint64_t seed = 31 + (uint64_t)_i;
    ikv_message message;
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    char path[64];
    snprintf(path, sizeof path, "edge5-%d.tape.jsonl", _i);
    open_with(0x1u);
    config.path = path;
    config.kit = k.kit;
    ok(ikv_recording_open(&config, &recording, &message));
    for (uint64_t ms = 20; ms < 400; ms += 20) {
        for (int i = 0; i < 60; i++) {
            ikv_event e = random_event(&seed, k.fake.now_ns);
            ikv_sink_push(k.fake.sink, &e);
        }
        kit_frame(&k, ms);
    }
    ok(ikv_recording_close(recording, NULL));
    uint32_t count = (uint32_t)loop_counts(k.loop).routed +
                     (uint32_t)loop_counts(k.loop).merged;
    kit_close(&k);
    ikv_tape *tape;
    ikv_event e;
    ikv_intake intake;
    uint32_t read = 0;
    ok(ikv_tape_open(path, NULL, &tape, &message));
    for (;;) {
        ikv_status status = ikv_tape_next(tape, &e, &intake, &message);
        if (status == IKV_ENDED)
            break;
        ck_assert_msg(status == IKV_OK, "%s", message.text);
        read++;
    }
    ck_assert_uint_gt(read, 200);
    ck_assert_uint_eq(read, count);
    ikv_tape_close(tape);
    record_again(path);
}
END_TEST

/* ------------------------------------------------- 6: made events, reasons --
 */

/* A made down and up do something; what means nothing is told why, once. */
static const struct {
    ikv_kind kind;
    int button, type;
    const char *why;
} nonsense_table[] = {
    {IKV_KIND_POINTER_UP, 0, IKV_MOUSE, "pointer.up: the button is not down"},
    {IKV_KIND_POINTER_DOWN, -1, IKV_MOUSE, "its button is none of"},
    {IKV_KIND_POINTER_DOWN, 0, 9, "its type is none of"},
    {IKV_KIND_POINTER_CANCEL, -1, IKV_MOUSE, "the pointer is not down"},
    {IKV_KIND_POINTER_LEAVE, -1, IKV_MOUSE, "the pointer is not known"},
    {IKV_KIND_POINTER_MOVE, -1, IKV_TOUCH, "the touch is not down"},
};

START_TEST(meaningless_events)
{
    open_with(INPUT);
    ikv_event e = ikv_event_make(nonsense_table[_i].kind, base_ns);
    e.device = k.fake.device;
    e.pointer.button = (int8_t)nonsense_table[_i].button;
    e.pointer.type = (uint8_t)nonsense_table[_i].type;
    for (int i = 0; i < 5; i++)
        ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    ck_assert_int_eq(k.reports, 1);
    ck_assert_msg(strstr(k.report, nonsense_table[_i].why) != NULL, "said: %s",
                  k.report);
    kit_close(&k);
}
END_TEST

START_TEST(made_events)
{
    open_with(1u << IKV_FAMILY_CLICK);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, base_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    e = ikv_event_make(IKV_KIND_POINTER_UP, base_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    ck_assert_str_eq(seen.text, "pointer.click@0 ");
    ck_assert_int_eq(k.reports, 0);
    ck_assert_int_eq(ikv_event_make(IKV_KIND_POINTER_MOVE, 0).pointer.button,
                     -1);
    ck_assert_int_eq(ikv_event_make(IKV_KIND_POINTER_MENU, 0).pointer.button,
                     IKV_SECONDARY_BUTTON);
    ck_assert(ikv_event_make(IKV_KIND_GESTURE_PINCH, 0).gesture.scale == 1);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------- 7: frames and ends, nested -- */

static int nesting, inner_frames;

static ikv_status poll_with_frames(void *state)
{
    fake_port *f = state;
    static bool polled;
    ck_assert(!polled); /* not while it is polled already */
    if (nesting == 0 || f->sink == NULL)
        return IKV_OK;
    int frames = nesting;
    nesting = 0;
    polled = true;
    for (int i = 0; i < frames; i++) {
        f->now_ns += 10 * ms_ns;
        ck_assert(ikv_loop_begin(k.loop));
        while (ikv_loop_step(k.loop))
            note(&seen, "inner-step ");
        inner_frames++;
        if (i + 1 < frames)
            ok(ikv_loop_end(k.loop)); /* the last one ends by itself */
    }
    note(&seen, "polled ");
    polled = false;
    return IKV_OK;
}

static ikv_status wait_with_frames(void *state, uint64_t until_ns,
                                   bool for_input)
{
    (void)until_ns, (void)for_input;
    return poll_with_frames(state);
}

/* From inside a port's poll, or its wait, whole frames run as ones of their
 * own. */
START_TEST(frame_in_a_poll)
{
    prepare();
    if (_i == 0) {
        k.port.poll = poll_with_frames;
    } else {
        k.port.wait = wait_with_frames;
        k.config.loop.frame_hz = 100;
    }
    kit_open(&k);
    listen(1u << IKV_FAMILY_LOOP | INPUT);
    kit_frame(&k, 0);
    seen.text[0] = '\0';
    nesting = 3;
    inner_frames = 0;
    k.fake.now_ns = base_ns;
    ck_assert(ikv_loop_begin(k.loop));
    while (ikv_loop_step(k.loop))
        note(&seen, "outer-step ");
    ok(ikv_loop_end(k.loop));
    ck_assert_int_eq(inner_frames, 3);
    ck_assert_uint_eq(loop_counts(k.loop).steps, 3);
    ck_assert_uint_eq(ikv_loop_frame_number(k.loop), 5);
    ck_assert_int_eq(k.reports, 0);
    ck_assert_msg(strstr(seen.text, "polled ") != NULL, "%s", seen.text);
    kit_close(&k);
}
END_TEST

/* The end that is asked for in an inner frame ends the outer one too. */
static ikv_status poll_with_quit(void *state)
{
    (void)state;
    if (nesting-- == 1) {
        ikv_loop_quit(k.loop);
        ck_assert(!ikv_loop_begin(k.loop));
    }
    return IKV_OK;
}

START_TEST(end_in_a_poll)
{
    prepare();
    k.port.poll = poll_with_quit;
    kit_open(&k);
    listen(1u << IKV_FAMILY_LOOP);
    nesting = 1;
    ck_assert(!ikv_loop_begin(k.loop));
    ck_assert_str_eq(seen.text, "loop.start@0 loop.end@0 ");
    kit_close(&k);
}
END_TEST

/* Everything that must not be done inside a handler, a watcher, a recorder, a
 * report: refused, said, and nothing crashes. */
static int refusals;

static void try_all(void)
{
    if (refusals++ > 0)
        return;
    ck_assert(!ikv_loop_begin(k.loop));
    ck_assert(!ikv_loop_step(k.loop));
    status_is(ikv_loop_end(k.loop), IKV_BUSY);
    status_is(ikv_kit_close(k.kit), IKV_BUSY);
    status_is(ikv_loop_close(k.loop), IKV_BUSY);
}

static ikv_verdict try_in_handler(const ikv_event *event, const ikv_delivery *d,
                                  void *user)
{
    (void)event, (void)d, (void)user;
    try_all();
    status_is(ikv_bus_close(k.bus), IKV_BUSY);
    status_is(ikv_scene_close(k.scene), IKV_BUSY);
    status_is(ikv_router_close(k.router), IKV_BUSY);
    status_is(ikv_actions_close(ikv_kit_actions(k.kit)), IKV_BUSY);
    status_is(ikv_overlaps_close(ikv_kit_overlaps(k.kit)), IKV_BUSY);
    return IKV_CONTINUE;
}

static void try_in_recorder(const ikv_event *event, const ikv_intake *intake,
                            void *user)
{
    (void)event, (void)intake, (void)user;
    try_all();
}

static void try_in_watcher(const ikv_watch *watch, void *user)
{
    (void)watch, (void)user;
    if (ikv_loop_frame_number(k.loop) > 0)
        try_all();
}

START_TEST(refused_inside)
{
    open_with(0x1u);
    refusals = 0;
    if (_i == 0)
        hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, try_in_handler, NULL);
    else if (_i == 1)
        ok(ikv_loop_set_recorder(k.loop, try_in_recorder, NULL));
    else
        ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_ALL, try_in_watcher, NULL));
    ikv_event e = key(IKV_KIND_KEY_DOWN, 0);
    if (_i == 3) {
        ok(ikv_bus_deliver(k.bus, &e).status); /* not by the loop at all */
    } else {
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 20);
    }
    ck_assert_int_gt(refusals, 0);
    ck_assert_int_ge(k.reports, 5);
    ck_assert_int_ge(kit_frame(&k, 40), 2);
    ok(ikv_loop_set_recorder(k.loop, NULL, NULL));
    kit_close(&k);
}
END_TEST

static void close_again(void *user)
{
    (void)user;
    refusals++;
    status_is(ikv_bus_close(k.bus), IKV_BUSY);
    status_is(ikv_kit_close(k.kit), IKV_BUSY);
}

START_TEST(closed_once)
{
    open_with(0x1u);
    refusals = 0;
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.all_kinds = true;
    config.handler = hear;
    config.on_drop = close_again;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    kit_close(&k);
    ck_assert_int_eq(refusals, 1);
}
END_TEST

/* ---------------------------------------------------- 8: reports, configs --
 */

/* A member of the kit's config that can't be used is named. */
#define MEMBER(path, found, text)                                              \
    {                                                                          \
        offsetof(ikv_kit_config, path), sizeof(((ikv_kit_config *)0)->path),   \
            (found), text                                                      \
    }
/* One that is past its greatest value is named with its range. */
#define RANGE(path, least, most)                                               \
    {                                                                          \
        offsetof(ikv_kit_config, path), sizeof(((ikv_kit_config *)0)->path),   \
            (most) + 1ull, #path " is %llu: expected " #least " to " #most     \
    }
typedef struct member_row {
    size_t offset, size;
    uint64_t value;
    const char *text;
} member_row;

static const member_row member_table[] = {
    RANGE(queue.capacity, 0, 16777216),
    RANGE(queue.reserve, 0, 255),
    RANGE(queue.devices, 0, 1024),
    RANGE(bus.subscriptions, 0, 16777215),
    RANGE(bus.entries, 0, 16777215),
    RANGE(bus.targets, 0, 16777215),
    RANGE(bus.owners, 0, 16777215),
    RANGE(bus.deferred, 0, 16777215),
    RANGE(bus.conditions, 0, 16777215),
    RANGE(bus.gates, 0, 16777215),
    RANGE(bus.timers, 0, 16777215),
    RANGE(bus.inbox, 0, 16777215),
    RANGE(bus.payloads, 0, 16777215),
    RANGE(bus.payload_bytes, 0, 16777215),
    RANGE(bus.mailboxes, 0, 65535),
    RANGE(bus.mailbox_events, 0, 16777215),
    RANGE(bus.user_lanes, 0, 65533),
    RANGE(bus.name_bytes, 0, 1073741824),
    RANGE(bus.depth, 0, 1024),
    RANGE(bus.kept, 0, 16777215),
    RANGE(bus.rebindings, 0, 16777215),
    RANGE(scene.layers, 0, 32),
    RANGE(scene.views, 0, 16),
    RANGE(scene.polygons, 0, 16777216),
    RANGE(router.pointers, 0, 65535),
    RANGE(router.keys, 0, 65535),
    RANGE(router.pads, 0, 8),
    MEMBER(router.slop, 0xbf800000, "router.slop"),        /* -1 */
    MEMBER(router.mouse_slop, 0x7fc00000, "router.mouse"), /* NaN */
    MEMBER(router.double_slop, 0x7f800000, "router.double_slop"),
    MEMBER(router.dead_zone, 0x40000000, "dead_zone"), /* 2 */
    RANGE(state.seats, 0, 8),
    RANGE(state.pointers, 0, 65535),
    RANGE(state.keys, 0, 256),
    RANGE(state.pads, 0, 8),
    MEMBER(state.full_zone, 0x40000000, "full_zone"),
    RANGE(actions.sets, 0, 65534),
    RANGE(actions.actions, 0, 1048576),
    RANGE(actions.bindings, 0, 65535),
    RANGE(actions.seats, 0, 8),
    RANGE(actions.name_bytes, 0, 1073741824),
    RANGE(overlaps.pairs, 0, 268435456),
    RANGE(overlaps.contacts, 0, 268435456),
    RANGE(loop.step_num, 1, 1073741823),
    RANGE(loop.step_den, 1, 1048575),
    RANGE(loop.frame_hz, 1, 1000000),
    RANGE(loop.pending, 0, 16777216),
    RANGE(loop.samples, 0, 65535),
    RANGE(loop.held, 1, 64),
    RANGE(loop.devices, 2, 1024),
    MEMBER(loop.devices, 1, "loop.devices is 1: expected 2 to 1024"),
    RANGE(loop.timing, 0, 1),
    RANGE(loop.spin_ns, 0, 1000000000),
    MEMBER(bus.size, 3, "bus.size is not that of the struct"),
    MEMBER(loop.size, 3, "loop.size is not that of the struct"),
    MEMBER(ports, 0, "ports is empty"),
};

/* L2: a step is 1 us to 1,000 s long. */
static const struct {
    uint32_t num, den;
    bool fine;
} length_table[] = {{1, 1000, true},     {1, 1001, false},
                    {2, 2001, false},    {1000000, 1, true},
                    {1000001, 1, false}, {2000000, 2, true}};

START_TEST(step_lengths)
{
    prepare();
    k.config.loop.step_num = length_table[_i].num;
    k.config.loop.step_den = length_table[_i].den;
    ikv_status status = ikv_kit_open(&k.config, &k.kit);
    status_is(status, length_table[_i].fine ? IKV_OK : IKV_BAD_CONFIG);
    if (status == IKV_OK)
        ikv_kit_close(k.kit);
    else
        ck_assert_ptr_nonnull(strstr(k.report, "a step's length in ns"));
}
END_TEST

START_TEST(config_members)
{
    prepare();
    memcpy((char *)&k.config + member_table[_i].offset, &member_table[_i].value,
           member_table[_i].size); /* little-endian, as the machine is */
    ikv_status status = ikv_kit_open(&k.config, &k.kit);
    ck_assert(status == IKV_BAD_CONFIG || status == IKV_BAD_SIZE);
    char expected[160];
    const char *text = strstr(member_table[_i].text, "queue.");
    /* A queue can be opened by itself: it names its members alone. */
    snprintf(expected, sizeof expected,
             text != NULL ? text + strlen("queue.") : member_table[_i].text,
             (unsigned long long)member_table[_i].value);
    ck_assert_msg(strstr(said.text, expected) != NULL, "said: %s, not %s",
                  said.text, expected);
    const char *range = strstr(said.text, ": expected ");
    if (range != NULL && strchr("01", range[11]) != NULL) /* it ends there */
        ck_assert_str_eq(range + 11 + strspn(range + 11, "0123456789 to"),
                         "] ");
    ck_assert_int_eq(k.reports, 1);
}
END_TEST

/* What the headers say zero stands for takes as many bytes as zero does. */
static const member_row default_table[] = {
    MEMBER(queue.capacity, 1024, ""),
    MEMBER(queue.own_capacity, 1024, ""),
    MEMBER(queue.devices, 1024, ""),
    MEMBER(bus.subscriptions, 1024, ""),
    MEMBER(bus.entries, 1024, ""),
    MEMBER(bus.targets, 1024, ""),
    MEMBER(bus.owners, 64, ""),
    MEMBER(bus.deferred, 1024, ""),
    MEMBER(bus.conditions, 256, ""),
    MEMBER(bus.gates, 1024, ""),
    MEMBER(bus.timers, 64, ""),
    MEMBER(bus.inbox, 64, ""),
    MEMBER(bus.payloads, 32, ""),
    MEMBER(bus.payload_bytes, 256, ""),
    MEMBER(bus.mailboxes, 4, ""),
    MEMBER(bus.mailbox_events, 64, ""),
    MEMBER(bus.user_lanes, 4, ""),
    MEMBER(bus.name_bytes, 16384, ""),
    MEMBER(bus.depth, 16, ""),
    MEMBER(bus.kept, 128, ""),
    MEMBER(bus.rebindings, 64, ""),
    MEMBER(scene.layers, 1, ""),
    MEMBER(scene.views, 1, ""),
    MEMBER(scene.polygons, 64, ""),
    MEMBER(router.pointers, 32, ""),
    MEMBER(router.keys, 64, ""),
    MEMBER(router.passed, 16, ""),
    MEMBER(router.pads, 8, ""),
    MEMBER(state.seats, 1, ""),
    MEMBER(state.pointers, 32, ""),
    MEMBER(state.keys, 256, ""),
    MEMBER(state.pads, 8, ""),
    MEMBER(actions.actions, 64, ""),
    MEMBER(actions.bindings, 256, ""),
    MEMBER(actions.sets, 15, ""),
    MEMBER(actions.seats, 1, ""),
    MEMBER(actions.name_bytes, 4096, ""),
    MEMBER(loop.pending, 2048, ""),
    MEMBER(loop.samples, 256, ""),
    MEMBER(loop.held, 64, ""),
    MEMBER(loop.devices, 1024, ""),
};

START_TEST(config_defaults)
{
    const member_row *row = &default_table[_i];
    kit_prepare(&k);
    size_t bytes = ikv_kit_footprint(&k.config);
    ck_assert_uint_gt(bytes, 0);
    memcpy((char *)&k.config + row->offset, &row->value, row->size);
    ck_assert_uint_eq(ikv_kit_footprint(&k.config), bytes);
    uint64_t more = row->value * 2;
    if (row->size > 1)
        memcpy((char *)&k.config + row->offset, &more, row->size);
    size_t larger = ikv_kit_footprint(&k.config);
    ck_assert(larger == 0 || row->size == 1 || larger > bytes);
}
END_TEST

/* Each thing once, not once a frame: a slow frame, a full ring, dropped time,
 * what ports may not push, nesting that is too deep, timers without room. */
START_TEST(reports_once)
{
    prepare();
    k.config.loop.pending = 8;
    k.config.queue.own_capacity = 16;
    k.config.bus.payloads = 1;
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, IKV_KIND_PAD_AXIS, (ikv_target){0}, deliver_nested, NULL);
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ikv_timer timer;
    ok(ikv_bus_defer_every(k.bus, IKV_STEP_LANE, ms_ns, false, &e, &timer));
    ok(ikv_bus_set_timer_data(k.bus, timer, "wave", 5));
    for (uint64_t ms = 300; ms < 9000; ms += 300) {
        for (int i = 0; i < 40; i++) {
            e = key(i % 2 ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP, ms - 200);
            e.kind = i % 7 == 0 ? IKV_KIND_FOCUS_IN : e.kind;
            ikv_sink_push(k.fake.sink, &e);
        }
        e = ikv_event_make(IKV_KIND_PAD_AXIS, 0);
        ikv_bus_deliver(k.bus, &e);
        kit_frame(&k, ms);
    }
    ck_assert_msg(k.reports == 7, "%s", said.text);
    kit_close(&k);
}
END_TEST

/* --------------------------------------------- 8b: played, and stalled -- */

static ikv_port player;
static uint64_t stall_ns;

static void stall(void)
{
    struct timespec until = {0, (long)stall_ns};
    nanosleep(&until, NULL);
}

static uint64_t stalled_now(void *state)
{
    uint64_t now = player.now(state);
    stall();
    return now;
}

static ikv_status stalled_poll(void *state)
{
    stall();
    ikv_status status = player.poll(state);
    stall();
    return status;
}

static void add_to_digest(const ikv_watch *watch, void *user)
{
    ikv_digest_add(user, k.bus, watch);
}

/* A tape without recorded steps, at its own speed on a machine that stalls
 * between the poll and the clock, and in the game's code: the same steps as
 * without. */
static ikv_digest play_stalled(float speed, uint64_t stalls)
{
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_message message;
    ikv_digest digest = IKV_DIGEST_INIT;
    prepare();
    ok(ikv_tape_open("edge8b.tape.jsonl", NULL, &sim.tape, &message));
    sim.speed = speed;
    ok(ikv_sim_open(&sim, &player));
    k.port = player;
    k.port.poll = stalled_poll;
    k.port.now = stalled_now;
    k.config.loop.frame_hz = 60;
    stall_ns = stalls;
    kit_open(&k);
    ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_ALL, add_to_digest, &digest));
    while (ikv_loop_begin(k.loop)) {
        while (ikv_loop_step(k.loop))
            stall();
        ok(ikv_loop_end(k.loop));
    }
    ikv_kit_close(k.kit);
    ikv_sim_close(&player);
    ikv_tape_close(sim.tape);
    return digest;
}

START_TEST(played_on_a_slow_machine)
{
    uint64_t seed = 5;
    FILE *file = fopen("edge8b.tape.jsonl", "w");
    fprintf(file, "{\"format\":\"ikvar.tape/2\",\"until\":1500}\n");
    for (uint32_t us = 0; us < 1400000; us += random_below(&seed, 3000))
        fprintf(file, "{\"t\":%u.%03u,\"kind\":\"pointer.move\",\"x\":%u}\n",
                us / 1000, us % 1000, random_below(&seed, 600));
    fclose(file);
    ikv_digest fast = play_stalled(0, 0), slow = play_stalled(4, 3000000);
    ck_assert_uint_gt(fast.deliveries, 200);
    ck_assert_uint_eq(fast.deliveries, slow.deliveries);
    ck_assert(fast.value == slow.value);
}
END_TEST

/* --------------------------------------- 8a: three ways to hang or crash -- */

START_TEST(pause_before_the_first_step)
{
    prepare();
    kit_open(&k);
    ok(ikv_loop_pause(k.loop));
    ok(ikv_loop_single_step(k.loop));
    ck_assert_int_eq(kit_frame(&k, 0), 1);
    ok(ikv_loop_single_step(k.loop));
    ck_assert_int_eq(kit_frame(&k, 50), 1);
    ok(ikv_loop_resume(k.loop));
    kit_frame(&k, 100);
    kit_close(&k);
}
END_TEST

static ikv_verdict resume(const ikv_event *event, const ikv_delivery *d,
                          void *user)
{
    (void)event, (void)d, (void)user;
    ikv_loop_resume(k.loop);
    return IKV_CONTINUE;
}

START_TEST(resume_in_a_press)
{
    open_with(1u << IKV_FAMILY_CLICK);
    hears(k.bus, IKV_KIND_POINTER_DOWN, (ikv_target){0}, resume, NULL);
    ok(ikv_loop_pause(k.loop));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, base_ns + 1000 * ms_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    e = ikv_event_make(IKV_KIND_POINTER_DOWN, base_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 900);
    kit_frame(&k, 1800);
    kit_frame(&k, 2500);
    ck_assert(!ikv_loop_paused(k.loop));
    ck_assert_msg(strstr(seen.text, "pointer.hold") != NULL, "%s", seen.text);
    kit_close(&k);
}
END_TEST

/* What is given back after a restore is checked as pushes are. */
START_TEST(since_is_checked)
{
    static char image[1 << 22];
    open_with(0x1u);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    ck_assert_uint_le(size, sizeof image);
    ok(ikv_image_save(&parts, image, size));
    ikv_taken since = {ikv_event_make(IKV_KIND_POINTER_MOVE, 0),
                       IKV_INTAKE_INIT};
    static const ikv_kind kinds[] = {999, 0, IKV_KIND_POINTER_OVER,
                                     IKV_KIND_POINTER_MOVE};
    since.event.kind = kinds[_i];
    if (kinds[_i] == IKV_KIND_POINTER_MOVE)
        since.event.pointer.x = NAN;
    status_is(ikv_image_restore(&parts, image, size, &since, 1),
              _i < 2    ? IKV_UNKNOWN_KIND
              : _i == 2 ? IKV_NOT_PUSHABLE
                        : IKV_BAD_VALUE);
    kit_frame(&k, 20);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------ 9: a ring that is full -- */

typedef struct flood_thread {
    pthread_t thread;
    uint32_t refused, pushed;
    float moved; /* of what was taken */
} flood_thread;

static void *flood(void *user)
{
    flood_thread *f = user;
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
    e.device = k.fake.device;
    for (int i = 1; i <= 300; i++) {
        e.pointer.x = (float)i;
        e.pointer.dx = 1;
        bool room = ikv_sink_has_room_any(k.fake.sink, e.kind);
        ikv_status status = ikv_sink_push_any(k.fake.sink, &e);
        ck_assert(room == (status == IKV_OK));
        f->refused += status == IKV_FULL_QUEUE;
        f->pushed += status == IKV_OK;
        f->moved += status == IKV_OK;
    }
    return NULL;
}

static struct {
    int moves, gaps;
    float x, dx;
} motion;

static ikv_verdict see_motion(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)d, (void)user;
    motion.moves++;
    motion.gaps += (event->flags & IKV_GAP) != 0;
    motion.x = event->pointer.x;
    motion.dx += event->pointer.dx;
    return IKV_CONTINUE;
}

/* A fast mouse on a thread of its own: what is refused is counted and said
 * once, positions carry on, lost motion is marked on the next move. */
START_TEST(fast_mouse)
{
    prepare();
    k.config.queue.capacity = 64;
    kit_open(&k);
    memset(&motion, 0, sizeof motion);
    hears(k.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, see_motion, NULL);
    flood_thread f = {.refused = 0};
    kit_frame(&k, 0);
    for (uint64_t ms = 20; ms < 100; ms += 20) {
        ck_assert_int_eq(pthread_create(&f.thread, NULL, flood, &f), 0);
        pthread_join(f.thread, NULL);
        kit_frame(&k, ms);
    }
    ck_assert_uint_eq(f.pushed, 4 * 48);
    ck_assert_uint_eq(queue_counts(ikv_kit_queue(k.kit)).refused, f.refused);
    ck_assert_int_eq(k.reports, 1);
    ck_assert(motion.x == 48 && motion.dx == f.moved);
    ck_assert_int_eq(motion.gaps, 3); /* each first move after a loss */
    ck_assert_int_eq(motion.moves, 4);
    kit_close(&k);
}
END_TEST

/* 5: an event of no kind, or of none that there is, with any payload at all. */
START_TEST(no_kind_at_all)
{
    static const ikv_kind kinds[] = {IKV_KIND_NONE, 79, 127, 4095, UINT16_MAX};
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < ROWS(kinds); i++) {
        ikv_event e = ikv_event_make(kinds[i], k.fake.now_ns);
        e.kind = kinds[i];
        e.device = k.fake.device;
        memset(&e.pointer, 0xff, sizeof e.pointer);
        uint64_t rejected = loop_counts(k.loop).rejected;
        ok(ikv_sink_push(k.fake.sink, &e));
        ok(ikv_sink_push_any(k.fake.sink, &e));
        ok(ikv_queue_push(ikv_kit_queue(k.kit), &e));
        kit_frame(&k, 20 * (uint64_t)i + 20);
        ck_assert_uint_eq(loop_counts(k.loop).rejected, rejected + 3);
    }
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------- a loss among threads -- */

enum {
    BULK = 4095, /* and a key's down fill the queue */
    PAGE = 65536 /* a multiple of any machine's */
};

static char *bulk, *last_page;
static _Atomic int stalls;

/* A thread that pushes all of it has looked at it when it comes to the last
 * page, and claimed its slots when it is at the first page again: there it
 * waits for as long as it is told to. */
static void wait_there(int number, siginfo_t *info, void *context)
{
    const struct timespec soon = {0, 100000};
    const char *at = info->si_addr;
    (void)context;
    if (at >= last_page && at < last_page + PAGE) {
        mprotect(bulk, PAGE, PROT_NONE);
        mprotect(last_page, PAGE, PROT_READ | PROT_WRITE);
    } else if (at >= bulk && at < bulk + PAGE) {
        while (stalls)
            nanosleep(&soon, NULL);
        mprotect(bulk, PAGE, PROT_READ | PROT_WRITE);
    } else {
        signal(number, SIG_DFL);
    }
}

static void *push_bulk(void *queue)
{
    ok(ikv_queue_push_all(queue, (const ikv_event *)(void *)bulk, BULK));
    return NULL;
}

/* Q3: the down waits behind what another thread has claimed and not written,
 * and the up found no room: what is made up for it comes after the down. */
START_TEST(loss_behind_a_claim)
{
    struct sigaction action = {.sa_sigaction = wait_there,
                               .sa_flags = SA_SIGINFO};
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    prepare();
    k.config.queue.capacity = BULK + 1;
    k.config.queue.reserve = IKV_NO_RESERVE;
    k.config.loop.pending = 2 * (BULK + 1);
    kit_open(&k);
    ikv_queue *queue = ikv_kit_queue(k.kit);
    size_t size = (BULK + 1) * sizeof key;
    bulk = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS,
                -1, 0);
    ck_assert(bulk != MAP_FAILED);
    last_page = bulk + size - PAGE;
    sigaction(SIGSEGV, &action, NULL);
    for (uint32_t i = 0; i < BULK; i++)
        ((ikv_event *)(void *)bulk)[i] =
            ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
    key.device = k.fake.device;
    key.key.code = IKV_CODE(4);
    for (uint64_t round = 1; round < 5; round++) {
        pthread_t thread;
        stalls = 1;
        mprotect(last_page, PAGE, PROT_NONE);
        ck_assert_int_eq(pthread_create(&thread, NULL, push_bulk, queue), 0);
        while (ikv_queue_waiting(queue) < BULK) {
        }
        key.time_ns = k.fake.now_ns;
        key.kind = IKV_KIND_KEY_DOWN;
        ok(ikv_sink_push_any(k.fake.sink, &key));
        key.kind = IKV_KIND_KEY_UP;
        status_is(ikv_sink_push_any(k.fake.sink, &key), IKV_FULL_QUEUE);
        kit_frame(&k, round * 100);
        ck_assert_uint_eq(ikv_queue_waiting(queue), BULK + 1);
        stalls = 0;
        pthread_join(thread, NULL);
        kit_frame(&k, round * 100 + 20);
        ck_assert_uint_eq(ikv_queue_waiting(queue), 0);
        ck_assert_uint_eq(loop_counts(k.loop).resyncs, round);
        kit_frame(&k, round * 100 + 40);
        for (uint32_t filter = 0; filter < 2; filter++)
            ck_assert(
                !ikv_state_key(ikv_kit_state(k.kit), filter, 0, key.key.code)
                     .down);
    }
    munmap(bulk, size);
    kit_close(&k);
}
END_TEST

/* S1, Q3: what is pressed after a loss is down, also where both are of one
 * step. */
START_TEST(pressed_after_a_loss)
{
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    prepare();
    kit_open(&k);
    kit_frame(&k, 0);
    key.device = k.fake.device;
    key.key.code = IKV_CODE(4);
    kit_frame(&k, 1);
    ikv_sink_lost(k.fake.sink, k.fake.device);
    kit_frame(&k, 2);
    key.time_ns = k.fake.now_ns;
    ok(ikv_sink_push(k.fake.sink, &key));
    kit_frame(&k, 4);
    ck_assert_uint_eq(loop_counts(k.loop).waiting, 2);
    kit_frame(&k, 20);
    for (uint32_t filter = 0; filter < 2; filter++)
        ck_assert(
            ikv_state_key(ikv_kit_state(k.kit), filter, 0, key.key.code).down);
    kit_close(&k);
}
END_TEST

Suite *edge_ports_suite(void)
{
    Suite *s = suite_create("edge_ports");
    add(s, "5 no kind at all", no_kind_at_all);
    add_table(s, "L8 1 ahead of the clock", ahead_of_the_clock, 3);
    add(s, "1 a hostile clock", hostile_clock);
    add(s, "Q3 a loss behind a claim", loss_behind_a_claim);
    add(s, "S1 Q3 pressed after a loss", pressed_after_a_loss);
    add_table(s, "2 the sink's clock", clock_of_the_sink, 2);
    add_table(s, "3 a port falls over", port_falls_over, 2);
    add(s, "3 ends while there is no room", ends_while_full);
    add(s, "K1 ends with what stays", ends_with_what_stays);
    add(s, "P1 polled on", polled_on);
    add(s, "3 of no device, two ports", unnamed_of_two);
    add(s, "3 unnamed of all ports", unnamed_of_all);
    add_table(s, "4 clocks drift", drift, 5);
    add(s, "E5 5 text", text_values);
    add(s, "E5 far times", far_times);
    add_table(s, "5 floats", float_values, 3);
    add_table(s, "5 recordings read back", recordings_read_back, 6);
    add_table(s, "6 meaningless, with reason", meaningless_events,
              ROWS(nonsense_table));
    add(s, "6 made events mean something", made_events);
    add_table(s, "7 L9 a frame in a poll", frame_in_a_poll, 2);
    add(s, "7 L9 the end in a poll", end_in_a_poll);
    add_table(s, "7 L9 refused inside", refused_inside, 4);
    add(s, "7 closed once", closed_once);
    add_table(s, "8 configs name the member", config_members,
              ROWS(member_table));
    add_table(s, "8 what zero stands for", config_defaults,
              ROWS(default_table));
    add_table(s, "8 L2 lengths of steps", step_lengths, ROWS(length_table));
    add(s, "8 reports are made once", reports_once);
    add(s, "8a pause before the first step", pause_before_the_first_step);
    add(s, "8a resume in a press", resume_in_a_press);
    add(s, "8b T5 played on a slow machine", played_on_a_slow_machine);
    add_table(s, "8a what is given back is checked", since_is_checked, 4);
    add(s, "9 a fast mouse", fast_mouse);
    add_table(s, "41 held() that is no answer", held_answers, ROWS(held_table));
    add_table(s, "41 held() beyond the ring", held_beyond_the_ring,
              ROWS(room_table));
    add_table(s, "41 wait() that fails", wait_fails, 2);
    return s;
}
