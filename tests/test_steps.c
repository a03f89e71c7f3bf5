/* test_steps.c - time: one tape at any frame rate, recording, pauses, merged
 * moves, floods. */
#include "support.h"

#include <ikvar/digest.h>
#include <ikvar/keys.h>

#define STEPS BINARY "/tests/ikvar_steps "
#define TAPE  SOURCE "/tests/steps/steps.tape.jsonl"

static char output[4096];

/* ------------------------------------------------- one tape, one digest -- */

static const char *const rates[] = {"60 0",  "24 0", "144 0", "1000 0",
                                    "60 31", "24 7", "144 3", "1000 12"};

/* T1, L1, L2: at any frame rate, and when frames come late. */
START_TEST(any_rate)
{
    char *golden = read_file(SOURCE "/tests/golden/steps.txt");
    ck_assert_int_eq(
        run_command_line(output, sizeof output, STEPS TAPE " %s", rates[_i]),
        0);
    ck_assert_str_eq(output, golden);
    free(golden);
}
END_TEST

/* 45: made-up runs, with both timings, are the same on every machine. */
START_TEST(made_up_runs)
{
    char *golden = read_file(SOURCE "/tests/golden/made_up.txt");
    int rows = 0;
    for (char *line = strtok(golden, "\n"); line != NULL;
         line = strtok(NULL, "\n"), rows++) {
        char *expected = strchr(line, '|');
        ck_assert_ptr_nonnull(expected);
        *expected++ = '\0';
        ck_assert_int_eq(
            run_command_line(output, sizeof output, STEPS "%s", line), 0);
        output[strcspn(output, "\n")] = '\0';
        ck_assert_str_eq(output, expected);
    }
    ck_assert_int_eq(rows, 5);
    free(golden);
}
END_TEST

static const struct {
    const char *source, *rate, *timing;
} recorded[] = {{TAPE, "60", ""},
                {"random:1", "60", ""},
                {"random:1", "60", "at_frame"},
                {"random:6", "24", ""},
                {"random:4", "2", ""},
                {"random:10", "2", "at_frame"}};

/* T1: what is recorded of broken hardware, with pauses, single steps, changes
 * of speed, dropped time and other threads' events, plays back to the byte. */
START_TEST(recorded_plays_back)
{
    static const char *const played[] = {"60 0", "24 7"};
    ck_assert_int_eq(run_command_line(output, sizeof output,
                                      STEPS "%s %s 5 a.jsonl r.jsonl %s",
                                      recorded[_i].source, recorded[_i].rate,
                                      recorded[_i].timing),
                     0);
    char *first = read_file("a.jsonl"), said[128];
    snprintf(said, sizeof said, "%.120s", output);
    for (int i = 0; i < ROWS(played); i++) {
        ck_assert_int_eq(run_command_line(output, sizeof output,
                                          STEPS "r.jsonl %s b.jsonl",
                                          played[i]),
                         0);
        ck_assert_str_eq(output, said);
        char *second = read_file("b.jsonl");
        ck_assert(strcmp(first, second) == 0);
        free(second);
    }
    free(first);
}
END_TEST

/* P3: hands tremble by the seed, the same for the same one. */
START_TEST(jitter)
{
    double sums[3] = {0, 0, 0};
    static const uint32_t seeds[] = {1, 1, 2};
    for (int i = 0; i < 3; i++) {
        ikv_sim_config sim = IKV_SIM_INIT;
        ikv_port port;
        ikv_kit *kit;
        ikv_kit_config config = IKV_KIT_INIT;
        ok(ikv_tape_open(TAPE, NULL, &sim.tape, NULL));
        sim.seed = seeds[i];
        sim.jitter = 3;
        sim.jitter_ns = 2000000;
        sim.until_ns = 3000000000;
        ok(ikv_sim_open(&sim, &port));
        config.memory = ikv_host_memory();
        config.ports = &port;
        config.port_count = 1;
        ok(ikv_kit_open(&config, &kit));
        ikv_mailbox mailbox;
        ikv_subscription_config wants = IKV_SUBSCRIPTION_INIT;
        ikv_event e;
        ok(ikv_bus_add_mailbox(ikv_kit_bus(kit), &mailbox));
        wants.kind = IKV_KIND_POINTER_DOWN;
        wants.mailbox = mailbox;
        ok(ikv_bus_subscribe(ikv_kit_bus(kit), &wants, NULL, NULL));
        while (ikv_loop_begin(ikv_kit_loop(kit))) {
            while (ikv_loop_step(ikv_kit_loop(kit))) {
            }
            ikv_loop_end(ikv_kit_loop(kit));
            while (ikv_bus_read(ikv_kit_bus(kit), mailbox, &e) == IKV_OK)
                sums[i] += (double)e.pointer.x + (double)e.time_ns / 1e6;
        }
        ikv_kit_close(kit);
        ikv_sim_close(&port);
        ikv_tape_close(sim.tape);
    }
    ck_assert(sums[0] > 0 && sums[0] == sums[1] && sums[0] != sums[2]);
}
END_TEST

/* --------------------------------------------------- pause and the like -- */

static bench_kit k;
static record heard;

static ikv_verdict note_kind(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    const char *name = ikv_catalogue_info(NULL, event->kind)->name;
    (void)user;
    if (event->kind == IKV_KIND_LOOP_STEP)
        note(&heard, "%u ", (unsigned)event->loop.step);
    else
        note(&heard, "%s%s ", name, d->sample_count > 1 ? "*" : "");
    return IKV_CONTINUE;
}

static void listen(ikv_kind kind)
{
    ikv_target everywhere = {0};
    hears(k.bus, kind, everywhere, note_kind, NULL);
}

static void open_loop(void)
{
    kit_prepare(&k);
    heard.text[0] = '\0';
}

static void begin_loop(void)
{
    kit_open(&k);
    kit_frame(&k, 0);
    listen(IKV_KIND_LOOP_STEP);
    listen(IKV_KIND_KEY_DOWN);
    listen(IKV_KIND_POINTER_MOVE);
    listen(IKV_KIND_LOOP_PAUSE);
    listen(IKV_KIND_LOOP_RESUME);
    listen(IKV_KIND_LOOP_DROPPED);
}

static void push_key(uint64_t ms)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 7000000000 + ms * 1000000);
    e.device = k.fake.device;
    e.key.code = ikv_code_find("KeyA");
    ok(ikv_sink_push(k.fake.sink, &e));
}

static void expect(const char *text)
{
    ck_assert_str_eq(heard.text, text);
    heard.text[0] = '\0';
}

/* L5: the steps stand still, input is routed at the frame; one step; on again.
 */
START_TEST(pause_and_single_step)
{
    open_loop();
    k.config.loop.step_num = 100;
    begin_loop();
    kit_frame(&k, 25);
    expect("0 1 ");
    ok(ikv_loop_pause(k.loop));
    status_is(ikv_loop_pause(k.loop), IKV_ABSENT);
    ck_assert(ikv_loop_paused(k.loop));
    push_key(30);
    kit_frame(&k, 60);
    expect("loop.pause key.down ");
    ok(ikv_loop_single_step(k.loop));
    kit_frame(&k, 70);
    kit_frame(&k, 80);
    expect("2 ");
    ok(ikv_loop_resume(k.loop));
    status_is(ikv_loop_resume(k.loop), IKV_ABSENT);
    status_is(ikv_loop_single_step(k.loop), IKV_ABSENT);
    kit_frame(&k, 89);
    expect("loop.resume ");
    kit_frame(&k, 91);
    expect("3 ");
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

/* L5: what comes due by itself while the steps stand still is of its own moment:
 * a handler of it that resumes makes up for nothing. A long press, and what is
 * moved beneath a mouse. */
START_TEST(resumed_by_itself)
{
    ikv_event event = ikv_event_make(IKV_KIND_POINTER_DOWN, 7002000000);
    open_loop();
    k.config.loop.step_num = 100;
    begin_loop();
    hears(k.bus, _i == 0 ? IKV_KIND_POINTER_HOLD : IKV_KIND_POINTER_OVER,
          (ikv_target){0}, resume, NULL);
    ikv_target lamp = rect_target(k.scene, (ikv_target){0}, 500, 0, 10, 10, 0);
    event.kind = _i == 0 ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_MOVE;
    event.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &event));
    int steps = kit_frame(&k, 15);
    ok(ikv_loop_pause(k.loop));
    steps += kit_frame(&k, 480);
    ck_assert_int_eq(steps, 1);
    if (_i == 1)
        ok(ikv_scene_move(k.scene, lamp, -5, -5));
    /* Due at 502, or moved at 480. */
    for (uint64_t ms = 500; ms < 600; ms += 10)
        steps += kit_frame(&k, ms);
    ck_assert(!ikv_loop_paused(k.loop));
    ck_assert_int_eq(steps, 10);
    kit_close(&k);
}
END_TEST

/* L5: half as fast, and faster; blend lies between the steps. */
START_TEST(time_scale)
{
    open_loop();
    k.config.loop.step_num = 100;
    begin_loop();
    ok(ikv_loop_set_scale(k.loop, 500));
    status_is(ikv_loop_set_scale(k.loop, 500), IKV_ABSENT);
    status_is(ikv_loop_set_scale(k.loop, 0), IKV_BAD_VALUE);
    status_is(ikv_loop_set_scale(k.loop, IKV_SCALE_LIMIT + 1), IKV_BAD_VALUE);
    kit_frame(&k, 19);
    expect("");
    ck_assert_float_eq_tol(ikv_loop_blend(k.loop), 0.95f, 0.001f);
    kit_frame(&k, 20);
    expect("0 ");
    ok(ikv_loop_set_scale(k.loop, 3000));
    kit_frame(&k, 30);
    expect("1 2 3 ");
    ck_assert_uint_eq(ikv_loop_scale(k.loop), 3000);
    ok(ikv_loop_set_scale(k.loop, IKV_SCALE_LIMIT));
    kit_close(&k);
}
END_TEST

static ikv_verdict pause_in_step(const ikv_event *event, const ikv_delivery *d,
                                 void *user)
{
    (void)d, (void)user;
    if (event->loop.step == 2)
        ikv_loop_pause(k.loop);
    return IKV_CONTINUE;
}

/* L5: asked for within a step, it takes effect at that step's end, though more
 * are due in this frame. */
START_TEST(pause_within_a_step)
{
    ikv_target everywhere = {0};
    open_loop();
    k.config.loop.step_num = 100;
    begin_loop();
    hears(k.bus, IKV_KIND_LOOP_STEP, everywhere, pause_in_step, NULL);
    kit_frame(&k, 60);
    expect("0 1 2 loop.pause ");
    kit_close(&k);
}
END_TEST

/* L1: at_frame routes at the frame's begin, whether or not a step is due. */
START_TEST(timing_at_frame)
{
    open_loop();
    k.config.loop.timing = IKV_AT_FRAME;
    k.config.loop.step_num = 10;
    begin_loop();
    push_key(5);
    kit_frame(&k, 10);
    expect("key.down ");
    ck_assert_uint_eq(ikv_loop_timing(k.loop), IKV_AT_FRAME);
    kit_close(&k);
}
END_TEST

/* L2: what is over max_steps is dropped before the steps that run; so soon also
 * where they run faster than the clock, and where one is too many. */
static const struct drop_row {
    uint32_t max_steps, scale;
    struct {
        uint64_t at_us;
        const char *steps;
    } frames[3];
    uint32_t dropped;
} drops[] = {
    {3,
     1000,
     {{205000, "loop.dropped 0 1 2 "}, {209000, ""}, {210000, "3 "}},
     17},
    {1, 1000, {{19999, "0 "}, {30000, "loop.dropped 1 "}, {39999, ""}}, 1},
    {1, 1000, {{20000, "loop.dropped 0 "}, {29999, ""}, {30000, "1 "}}, 1},
    {2, 10000, {{3000, "loop.dropped 0 1 "}, {3999, ""}, {5000, "2 3 "}}, 1},
    {2,
     500,
     {{39999, "0 "}, {60000, "1 2 "}, {120000, "loop.dropped 3 4 "}},
     1}};

START_TEST(dropped_time)
{
    const struct drop_row *row = &drops[_i];
    open_loop();
    k.config.loop.step_num = 100;
    k.config.loop.max_steps = row->max_steps;
    begin_loop();
    ikv_loop_set_scale(k.loop, row->scale);
    for (int i = 0; i < ROWS(row->frames); i++) {
        kit_frame_ns(&k, row->frames[i].at_us * 1000);
        expect(row->frames[i].steps);
    }
    ck_assert_uint_eq(loop_counts(k.loop).dropped_steps, row->dropped);
    kit_close(&k);
}
END_TEST

/* L4: steps that the program does not run are not waited for. */
START_TEST(steps_left_out)
{
    open_loop();
    k.config.loop.timing = IKV_AT_FRAME;
    k.config.loop.step_num = 100;
    begin_loop();
    k.fake.poll_status = IKV_ENDED;
    int frames = 0;
    for (; ikv_loop_begin(k.loop); frames++) {
        ok(ikv_loop_end(k.loop));
        k.fake.now_ns += 20000000;
        ck_assert_int_lt(frames, 9);
    }
    ck_assert_int_gt(frames, 0);
    kit_close(&k);
}
END_TEST

/* A port that waits for input: it comes 70 ms later, or with wake(). */
static int waits_for_input;

static ikv_status wait_for_input(void *state, uint64_t until_ns, bool for_input)
{
    fake_port *fake = state;
    waits_for_input += for_input;
    ck_assert(until_ns >= fake->now_ns &&
              until_ns - fake->now_ns <= 3600000000000);
    fake->now_ns = for_input ? fake->now_ns + 70000000 : until_ns;
    return IKV_OK;
}

/* L6: with nothing to do it waits for input, and the time is not dropped. */
START_TEST(idle)
{
    ikv_timer timer;
    open_loop();
    k.port.wait = wait_for_input;
    k.config.loop.frame_hz = 100;
    k.config.loop.step_num = 100;
    begin_loop();
    listen(IKV_KIND_LOOP_IDLE);
    waits_for_input = 0;
    kit_frame(&k, 10);
    ck_assert_int_eq(waits_for_input, 0);
    expect("0 ");
    ikv_loop_set_idle(k.loop, true);
    for (int i = 0; i < 4; i++) { /* each 70 ms long; the steps stand still */
        ck_assert(whole_frame(k.loop));
    }
    ck_assert_int_ge(waits_for_input, 3);
    ck_assert_uint_eq(loop_counts(k.loop).idle_ns,
                      (uint64_t)waits_for_input * 70000000);
    ck_assert_uint_eq(loop_counts(k.loop).dropped_ns, 0);
    ck_assert_ptr_nonnull(strstr(heard.text, "loop.idle"));
    /* A timer, or a press that may become a hold, is something to do. */
    ikv_event later = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ok(ikv_bus_defer_after(k.bus, IKV_STEP_LANE, 1000000000, &later, &timer));
    int before = waits_for_input;
    uint64_t woke_ns = k.fake.now_ns;
    ck_assert(ikv_loop_begin(k.loop));
    ikv_loop_end(k.loop);
    ck_assert_int_eq(waits_for_input, before);
    /* Frames are paced anew from when the wait ended. */
    ck_assert_uint_eq(k.fake.now_ns - woke_ns, 10000000);
    ikv_loop_wake(k.loop);
    ikv_loop_wake(NULL);
    kit_close(&k);
}
END_TEST

/* L6: whatever will happen by itself, or has not been done yet, is waited for
 * by frames. */
static void is_stopped(void)
{
    ok(ikv_loop_pause(k.loop));
}
static void has_quit(void)
{
    ikv_loop_quit(k.loop);
}
static void has_key_ahead(void)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
}
static void may_hold(void)
{
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.type = IKV_TOUCH;
    e.pointer.button = 0;
    ok(ikv_sink_push(k.fake.sink, &e));
    for (int i = 0; i < 3; i++) { /* it is routed, and down */
        k.fake.now_ns += 10000000;
        ck_assert(whole_frame(k.loop));
    }
}
static void has_left(void)
{
    k.fake.poll_status = IKV_ENDED;
}
static void has_deferred(void)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ok(ikv_bus_defer(k.bus, IKV_STEP_LANE, &e));
}
static void has_deferred_any(void)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e));
}
static ikv_verdict push_a_key(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)event, (void)delivery, (void)user;
    has_key_ahead();
    return IKV_CONTINUE;
}
static void pushes_late(void) /* after the queue was drained */
{
    ikv_target everywhere = {0};
    hears(k.bus, IKV_KIND_LOOP_FRAME, everywhere, push_a_key, NULL);
}
static void action_is_on(bool told)
{
    ikv_actions *actions = ikv_kit_actions(k.kit);
    ikv_action_id scroll;
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "scroll", &scroll));
    ok(ikv_actions_bind(actions, scroll, "KeyA", NULL, NULL));
    ok(ikv_actions_hear(actions, scroll,
                        told ? IKV_ACTION_HELD : IKV_ACTION_STARTED,
                        count_heard, &waits_for_input, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k.fake.now_ns);
    e.device = k.fake.device;
    e.key.code = ikv_code_find("KeyA");
    ok(ikv_sink_push(k.fake.sink, &e));
    for (int i = 0; i < 3; i++) {
        k.fake.now_ns += 10000000;
        ck_assert(whole_frame(k.loop));
    }
    ck_assert(ikv_actions_ask(actions, scroll, 0).on);
    waits_for_input = 0;
}
static void scrolls(void)
{
    action_is_on(true);
}
static void is_held(void) /* and nobody hears that it is */
{
    action_is_on(false);
}
/* Two targets meet and touch for some more steps, or part again and linger. */
static void touches(uint8_t inside, uint16_t linger, int steps)
{
    ikv_overlaps *overlaps = ikv_kit_overlaps(k.kit);
    ikv_target a = rect_target(k.scene, (ikv_target){0}, 0, 0, 10, 10, 0);
    ikv_target b = rect_target(k.scene, (ikv_target){0}, 5, 5, 10, 10, 0);
    ikv_sensing sensing = IKV_SENSING_INIT;
    ok(ikv_scene_set_tags(k.scene, b, 1));
    sensing.senses = 1;
    sensing.inside = inside;
    sensing.linger = linger;
    hears(k.bus, IKV_KIND_OVERLAP_INSIDE, a, count_heard, &waits_for_input);
    for (int i = 0; i < 8; i++) {
        if (i == 7 - steps)
            ok(ikv_overlaps_sense(overlaps, a, &sensing));
        k.fake.now_ns += 10000000;
        ck_assert(whole_frame(k.loop));
        if (i == 4 && linger > 0)
            ok(ikv_scene_move(k.scene, b, 50, 50));
    }
    ck_assert(ikv_overlaps_touches(overlaps, a, b)); /* what lingers, too */
    waits_for_input = 0;
}
static void is_inside(void)
{
    touches(IKV_INSIDE_ALWAYS, 0, 5);
}
static void rests_inside(void)
{
    touches(IKV_INSIDE_MOVING, 0, 5);
}
static void lingers(void)
{
    touches(IKV_INSIDE_MOVING, 100, 5);
}
static void
came_inside(void) /* in this step: the next one is the first to tell */
{
    touches(IKV_INSIDE_ALWAYS, 0, 0);
}
/* A mouse that rests is over something else, which the next step tells. */
static void is_over(void)
{
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
    e.device = k.fake.device;
    e.pointer.type = IKV_MOUSE;
    e.pointer.x = e.pointer.y = 5;
    ok(ikv_sink_push(k.fake.sink, &e));
    for (int i = 0; i < 3; i++) {
        k.fake.now_ns += 10000000;
        ck_assert(whole_frame(k.loop));
    }
}
static void is_over_another(void)
{
    is_over();
    rect_target(k.scene, (ikv_target){0}, 0, 0, 10, 10, 0);
}
static void nothing(void) {}

static const struct {
    void (*obstacle)(void);
    int waits; /* for input */
    bool no_wait;
} idle_table[] = {{nothing, 1, false},          {nothing, 0, true},
                  {is_stopped, 0, false},       {has_quit, 0, false},
                  {has_key_ahead, 0, false},    {may_hold, 0, false},
                  {has_left, 0, false},         {has_deferred, 0, false},
                  {has_deferred_any, 0, false}, {pushes_late, 0, false},
                  {scrolls, 0, false},          {is_held, 1, false},
                  {is_inside, 0, false},        {rests_inside, 1, false},
                  {lingers, 0, false},          {is_over, 1, false},
                  {is_over_another, 0, false},  {came_inside, 0, false}};

START_TEST(not_idle)
{
    open_loop();
    k.port.wait = idle_table[_i].no_wait ? NULL : wait_for_input;
    k.config.loop.frame_hz = IKV_UNPACED;
    k.config.loop.step_num = 100;
    begin_loop();
    waits_for_input = 0;
    idle_table[_i].obstacle();
    ck_assert(ikv_loop_begin(k.loop) || idle_table[_i].obstacle == has_quit);
    ikv_loop_set_idle(k.loop, true);
    if (idle_table[_i].obstacle == has_key_ahead)
        has_key_ahead();
    ok(ikv_loop_end(k.loop));
    ck_assert_int_eq(waits_for_input, idle_table[_i].waits);
    kit_close(&k);
}
END_TEST

/* --------------------------------------------------------- merged moves -- */

typedef struct merge_row {
    const char *pushes; /* a letter a pointer: its move; D, U: a's down, up; k a
                           key; A: a's move with shift */
    const char *heard;
} merge_row;

static const merge_row merges[] = {
    {"aaa", "a3 "},
    {"aabab", "a3 b2 "},
    {"aaDaaUa", "a2 D1 a2 U1 a1 "},
    {"akaa", "a1 k1 a2 "},
    {"aAAa", "a1 A2 a1 "},
    {"ab", "a1 b1 "},
};

static const ikv_event *kept_samples;
static uint32_t kept_count;

static ikv_verdict note_merge(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)user;
    char who = event->kind == IKV_KIND_KEY_DOWN       ? 'k'
               : event->kind == IKV_KIND_POINTER_DOWN ? 'D'
               : event->kind == IKV_KIND_POINTER_UP   ? 'U'
               : event->modifiers != 0                ? 'A'
                                                      : 'a';
    if (who == 'a' || who == 'A')
        who = (char)(who + event->pointer.pointer);
    uint32_t count = d->sample_count > 0 ? d->sample_count : 1;
    note(&heard, "%c%u ", who, count);
    kept_samples = d->samples;
    kept_count = d->sample_count;
    float sum = 0;
    for (uint32_t i = 0; i < d->sample_count; i++)
        sum += d->samples[i].pointer.dx;
    if (d->sample_count > 0) {
        ck_assert_float_eq(sum, event->pointer.dx);
        ck_assert_float_eq(d->samples[d->sample_count - 1].pointer.x,
                           event->pointer.x);
        ck_assert_uint_eq(event->samples, d->sample_count);
        ck_assert_uint_eq(d->samples[d->sample_count - 1].time_ns,
                          event->time_ns);
    }
    return IKV_CONTINUE;
}

/* Q2: moves of one pointer within one step, not across a transition. */
START_TEST(merged_moves)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_MOVE,
                                     IKV_KIND_POINTER_DOWN, IKV_KIND_POINTER_UP,
                                     IKV_KIND_KEY_DOWN};
    ikv_target everywhere = {0};
    open_loop();
    k.config.loop.step_num = 50;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < ROWS(kinds); i++)
        hears(k.bus, kinds[i], everywhere, note_merge, NULL);
    float x = 0;
    for (const char *c = merges[_i].pushes; *c != '\0'; c++) {
        ikv_event e = ikv_event_make(*c == 'D'   ? IKV_KIND_POINTER_DOWN
                                     : *c == 'U' ? IKV_KIND_POINTER_UP
                                     : *c == 'k' ? IKV_KIND_KEY_DOWN
                                                 : IKV_KIND_POINTER_MOVE,
                                     7001000000);
        e.device = k.fake.device;
        if (*c == 'k') {
            e.key.code = ikv_code_find("KeyA");
        } else {
            e.pointer.pointer = *c == 'b';
            e.pointer.x = x += 1;
            e.pointer.dx = 1;
            e.pointer.button = *c == 'D' || *c == 'U' ? 0 : -1;
            e.modifiers = *c == 'A' ? IKV_SHIFT : 0;
        }
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kept_count = 0;
    kit_frame(&k, 20);
    expect(merges[_i].heard);
#ifdef IKV_DEBUG /* E3: they are gone after their dispatch, each of them */
    for (uint32_t i = 0; i < kept_count; i++)
        ck_assert_uint_eq(((const volatile ikv_event *)kept_samples)[i].kind,
                          0xdddd);
#endif
    kit_close(&k);
}
END_TEST

/* Q2: what differs in more than where it is and when is told apart. */
static const struct {
    ikv_kind kind;
    const char *field;
    int64_t value;
    bool merges;
    int heard;
} differ_table[] = {
    {IKV_KIND_POINTER_MOVE, "dx", 3, true, 1},
    {IKV_KIND_POINTER_MOVE, "view", 1, false, 2},
    {IKV_KIND_POINTER_MOVE, "seat", 1, false, 2},
    {IKV_KIND_POINTER_MOVE, "modifiers", IKV_SHIFT, false, 2},
    {IKV_KIND_POINTER_MOVE, "flags", IKV_SYNTHETIC, false, 2},
    {IKV_KIND_POINTER_MOVE, "flags", IKV_GAP, true, 1},
    {IKV_KIND_POINTER_MOVE, "type", IKV_PEN, false, 1}, /* refused */
    {IKV_KIND_POINTER_MOVE, "button", 1, false, 2},
    {IKV_KIND_POINTER_MOVE, "buttons", 2, false, 2},
    {IKV_KIND_POINTER_MOVE, "pointer", 1, false, 2},
    {IKV_KIND_POINTER_MOVE, "target", 1, false, 2},
    {IKV_KIND_POINTER_MOVE, "source", 1, false, 2},
    {IKV_KIND_WHEEL, "dx", 3, true, 1},
    {IKV_KIND_WHEEL, "mode", 1, false, 2},
    {IKV_KIND_WHEEL, "type", IKV_PEN, false, 2},
    {IKV_KIND_WHEEL, "buttons", 2, false, 2},
    {IKV_KIND_WHEEL, "pointer", 1, false, 2},
    {IKV_KIND_PEN_DISTANCE, "distance", 1, true, 1},
    {IKV_KIND_PEN_DISTANCE, "pointer", 1, false, 2},
    {IKV_KIND_PAD_AXIS, "value", 1, true, 1},
    {IKV_KIND_PAD_AXIS, "index", 1, false, 2},
    {IKV_KIND_PAD_AXIS, "pad", 1, false, 2},
};

static ikv_verdict count_event(const ikv_event *e, const ikv_delivery *d,
                               void *user)
{
    (void)e, (void)d;
    ++*(int *)user;
    return IKV_CONTINUE;
}

START_TEST(told_apart)
{
    ikv_target everywhere = {0};
    int count = 0;
    ikv_kind kind = differ_table[_i].kind;
    open_loop();
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, kind, everywhere, count_event, &count);
    const ikv_field *field =
        ikv_field_find(ikv_catalogue_info(NULL, kind), differ_table[_i].field);
    if (field == NULL)
        field = ikv_field_find(NULL, differ_table[_i].field);
    for (int i = 0; i < 2; i++) {
        ikv_event e = ikv_event_make(kind, 7001000000);
        e.device = k.fake.device;
        if (kind == IKV_KIND_POINTER_MOVE)
            e.pointer.button = -1;
        if (i == 1)
            ok(ikv_field_put(field, &e,
                             (ikv_value){field->type == IKV_TYPE_TARGET
                                             ? IKV_VALUE_TARGET
                                             : IKV_VALUE_INTEGER,
                                         {.integer = differ_table[_i].value}}));
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kit_frame(&k, 20);
    ck_assert_uint_eq(loop_counts(k.loop).merged, differ_table[_i].merges);
    ck_assert_int_eq(count, differ_table[_i].heard);
    kit_close(&k);
}
END_TEST

/* Q2: the first pad's second axis and the second pad's first are two. */
START_TEST(two_pads_apart)
{
    int count = 0;
    open_loop();
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, IKV_KIND_PAD_AXIS, (ikv_target){0}, count_event, &count);
    for (uint8_t i = 0; i < 2; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_PAD_AXIS, 7001000000);
        e.device = k.fake.device;
        e.pad.pad = i;
        e.pad.index = !i;
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kit_frame(&k, 20);
    ck_assert_int_eq(count, 2);
    kit_close(&k);
}
END_TEST

/* Q2, E5: however far the merged ones went, the sum comes, as far as it can be
 * told. */
static float motion_heard[2];

static ikv_verdict keep_motion(const ikv_event *e, const ikv_delivery *d,
                               void *user)
{
    (void)d, (void)user;
    motion_heard[0] = e->kind == IKV_KIND_WHEEL ? e->wheel.dx : e->pointer.dx;
    motion_heard[1] = e->kind == IKV_KIND_WHEEL ? e->wheel.dy : e->pointer.dy;
    return IKV_CONTINUE;
}

START_TEST(far_motion)
{
    static const struct {
        float dx, dy, sum[2];
    } rows[] = {{6e8f, 1, {IKV_COORDINATE_LIMIT, 3}},
                {-6e8f, -6e8f, {-IKV_COORDINATE_LIMIT, -IKV_COORDINATE_LIMIT}},
                {3e8f, 0, {9e8f, 0}}};
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_MOVE, IKV_KIND_WHEEL};
    ikv_target everywhere = {0};
    open_loop();
    kit_open(&k);
    kit_frame(&k, 0);
    for (int kind = 0; kind < 2; kind++)
        hears(k.bus, kinds[kind], everywhere, keep_motion, NULL);
    for (int kind = 0; kind < 2; kind++) {
        for (int i = 0; i < 3; i++) {
            ikv_event e = ikv_event_make(kinds[kind], k.fake.now_ns);
            e.device = k.fake.device;
            if (kind == 0) {
                e.pointer.button = -1;
                e.pointer.dx = rows[_i].dx;
                e.pointer.dy = rows[_i].dy;
            } else {
                e.wheel.dx = rows[_i].dx;
                e.wheel.dy = rows[_i].dy;
            }
            ok(ikv_sink_push(k.fake.sink, &e));
        }
        motion_heard[0] = motion_heard[1] = 0;
        kit_frame(&k, 40 + 40 * (uint64_t)kind);
        ck_assert_float_eq(motion_heard[0], rows[_i].sum[0]);
        ck_assert_float_eq(motion_heard[1], rows[_i].sum[1]);
    }
    ck_assert_uint_eq(router_counts(k.router).not_finite, 0);
    kit_close(&k);
}
END_TEST

/* Q2: more pointers than there is room to remember: told apart, none lost. */
START_TEST(many_merge)
{
    ikv_target everywhere = {0};
    int count = 0;
    open_loop();
    k.config.router.pointers = 100;
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, IKV_KIND_POINTER_MOVE, everywhere, count_event, &count);
    for (int i = 0; i < 200; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, 7001000000);
        e.device = k.fake.device;
        e.pointer.pointer = (uint16_t)(i % 100);
        e.pointer.button = -1;
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kit_frame(&k, 20);
    ikv_loop_counts n = loop_counts(k.loop);
    ck_assert_uint_eq(n.merged + (uint64_t)count, 200);
    ck_assert_uint_eq(n.merged, 64);
    kit_close(&k);
}
END_TEST

/* L5: a loop without a router delivers at the root, merged moves too. */
static ikv_verdict check_root(const ikv_event *e, const ikv_delivery *d,
                              void *user)
{
    ck_assert_uint_eq(e->target.bits, ikv_bus_root(user).bits);
    note(&heard, "%u ", d->sample_count);
    return IKV_CONTINUE;
}

START_TEST(no_router)
{
    fake_port fake = {.now_ns = 7000000000};
    ikv_port port = fake_port_of(&fake);
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_queue_config queue_config = IKV_QUEUE_INIT;
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_target everywhere = {0};
    bus_config.memory = queue_config.memory = config.memory = ikv_host_memory();
    ikv_bus *bus;
    ikv_queue *queue;
    ikv_loop *loop;
    ok(ikv_bus_open(&bus_config, &bus));
    ok(ikv_queue_open(&queue_config, &queue));
    config.bus = bus;
    config.queue = queue;
    config.ports = &port;
    config.port_count = 1;
    config.frame_hz = IKV_UNPACED;
    ok(ikv_loop_open(&config, &loop));
    hears(bus, IKV_KIND_POINTER_MOVE, everywhere, check_root, bus);
    heard.text[0] = '\0';
    for (int frame = 0; frame < 4; frame++) {
        for (int i = 0; i < frame; i++) {
            ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, fake.now_ns);
            e.device = fake.device;
            e.pointer.button = -1;
            ok(ikv_sink_push(fake.sink, &e));
        }
        ikv_sink_lost(fake.sink, fake.device);
        fake.now_ns += 20000000;
        ck_assert(whole_frame(loop));
    }
    expect("0 2 3 ");
    ok(ikv_loop_close(loop));
    ikv_queue_close(queue);
    ok(ikv_bus_close(bus));
}
END_TEST

/* ----------------------------------------------------------- Q3: floods -- */

enum {
    POINTERS = 12
};

/* Hardware that pushes a million events a second, and knows what is down. */
static struct {
    bool down[POINTERS];
    uint64_t pushed, downs, ends;
    bool heard_down[POINTERS];
} hardware;

static ikv_status hardware_held(void *state, uint16_t device, ikv_event *events,
                                uint32_t room, uint32_t *count)
{
    (void)state;
    *count = 0;
    for (uint16_t i = 0; i < POINTERS && *count < room; i++)
        if (hardware.down[i]) {
            ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
            e.device = device;
            e.pointer.pointer = i;
            e.pointer.type = i < 2 ? IKV_MOUSE : IKV_TOUCH;
            e.pointer.button = 0;
            events[(*count)++] = e;
        }
    return IKV_OK;
}

static void push_random(uint64_t *seed, uint64_t time_ns)
{
    uint16_t i = (uint16_t)random_below(seed, POINTERS);
    uint32_t what = random_below(seed, 200);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, time_ns);
    if (what < 2) {
        e.kind = hardware.down[i] ? IKV_KIND_POINTER_UP : IKV_KIND_POINTER_DOWN;
        hardware.down[i] = !hardware.down[i];
        e.pointer.button = 0;
    }
    e.device = k.fake.device;
    e.pointer.pointer = i;
    e.pointer.type = i < 2 ? IKV_MOUSE : IKV_TOUCH;
    e.pointer.x = (float)random_below(seed, 600);
    hardware.pushed++;
    ikv_sink_push(k.fake.sink, &e);
}

static ikv_verdict pair_up(const ikv_event *event, const ikv_delivery *d,
                           void *user)
{
    bool *down = &hardware.heard_down[event->pointer.pointer];
    (void)d, (void)user;
    if (event->kind == IKV_KIND_POINTER_DOWN) {
        ck_assert(!*down);
        *down = true;
        hardware.downs++;
    } else {
        ck_assert(*down);
        *down = false;
        hardware.ends++;
    }
    return IKV_CONTINUE;
}

/* Q3: afterwards every down has exactly one up or cancel, what is down is what
 * the port says, and the counters add up. */
START_TEST(flood)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN, IKV_KIND_POINTER_UP,
                                     IKV_KIND_POINTER_CANCEL};
    ikv_target everywhere = {0};
    uint64_t seed = (uint64_t)_i * 77 + 5, now = 0;
    memset(&hardware, 0, sizeof hardware);
    open_loop();
    if (_i != 2)
        k.port.held = hardware_held;
    k.config.queue.own_capacity = 256;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i < ROWS(kinds); i++)
        hears(k.bus, kinds[i], everywhere, pair_up, NULL);
    for (int frame = 0; frame < 40; frame++) {
        /* In the tenth frame the consumer stalls for two seconds. */
        uint64_t events = frame == 10                ? 2000000
                          : frame > 10 && frame < 14 ? 0
                                                     : 400;
        for (uint64_t i = 0; i < events; i++)
            push_random(&seed, 7000000000 + now + i * 1000);
        now += events * 1000 > 16700000 ? events * 1000 : 16700000;
        kit_frame(&k, now / 1000000);
        valid(ikv_router_validate(k.router));
        for (int i = 0; frame == 13 && _i != 2 && i < POINTERS; i++)
            ck_assert(hardware.heard_down[i] == hardware.down[i]);
    }
    kit_frame(&k, now / 1000000 + 50);
    ikv_queue_counts queue = queue_counts(ikv_kit_queue(k.kit));
    ikv_loop_counts loop = loop_counts(k.loop);
    ck_assert_uint_eq(hardware.pushed, queue.pushed + queue.refused);
    ck_assert_uint_gt(queue.lost, 0);
    ck_assert_uint_gt(loop.resyncs, 0);
    ck_assert_uint_eq(queue.drained + loop.made_up,
                      loop.routed + loop.merged + loop.held_named);
    uint32_t down = 0;
    for (int i = 0; i < POINTERS; i++) {
        down += hardware.heard_down[i];
        if (_i != 2)
            ck_assert(hardware.heard_down[i] == hardware.down[i]);
    }
    ck_assert_uint_eq(hardware.downs, hardware.ends + down);
    kit_close(&k);
}
END_TEST

/* Q3: moves give way first, then other kinds; transitions get the last slots.
 */
START_TEST(reserve)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.capacity = config.own_capacity = 64;
    counted memory = {0};
    config.memory = counted_memory(&memory);
    ikv_queue *queue;
    ok(ikv_queue_open(&config, &queue));
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    ikv_event own = ikv_event_make(IKV_KIND_USER, 0);
    ikv_event key = ikv_event_make(IKV_KIND_KEY_UP, 0);
    ikv_status (*push)(ikv_queue *, const ikv_event *) =
        _i == 0 ? ikv_queue_push : ikv_queue_push_own;
    key.device = 9;
    uint16_t device;
    for (int i = 0; i < 48; i++)
        ok(push(queue, &move));
    status_is(push(queue, &move), IKV_FULL_QUEUE);
    for (int i = 0; i < 8; i++)
        ok(push(queue, &own));
    status_is(push(queue, &own), IKV_FULL_QUEUE);
    ck_assert(!ikv_queue_take_lost(queue, &device));
    for (int i = 0; i < 8; i++)
        ok(push(queue, &key));
    status_is(push(queue, &key), IKV_FULL_QUEUE);
    ck_assert(ikv_queue_take_lost(queue, &device));
    ck_assert_uint_eq(device, 9);
    ck_assert(!ikv_queue_take_lost(queue, &device));
    ck_assert_uint_eq(queue_counts(queue).lost, 1);
    ck_assert_uint_eq(queue_counts(queue).refused, 3);
    if (_i == 1)
        ck_assert_uint_eq(ikv_queue_room_own(queue, IKV_KIND_KEY_UP), 0);
    ikv_queue_close(queue);
}
END_TEST

/* --------------------------------------------------------------- images -- */

static ikv_verdict newer(const ikv_event *event, const ikv_delivery *d,
                         void *user)
{
    (void)event, (void)d;
    note(&heard, "newer %s ", user != NULL ? (const char *)user : "none");
    return IKV_CONTINUE;
}

static ikv_verdict save_inside(const ikv_event *event, const ikv_delivery *d,
                               void *image)
{
    (void)event, (void)d;
    ikv_parts parts = ikv_kit_parts(k.kit);
    status_is(ikv_image_save(&parts, image, ikv_image_size(&parts)), IKV_BUSY);
    status_is(ikv_image_restore(&parts, image, ikv_image_size(&parts), NULL, 0),
              IKV_BUSY);
    return IKV_CONTINUE;
}

/* Names resolve to what they were rebound to; what can't be is refused. */
START_TEST(images)
{
    ikv_target everywhere = {0};
    ikv_taken too_many = {.intake = IKV_INTAKE_INIT};
    open_loop();
    begin_loop();
    ikv_parts parts = ikv_kit_parts(k.kit), none = IKV_PARTS_INIT;
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size), *other = calloc(1, size);
    ikv_subscription_config named = IKV_SUBSCRIPTION_INIT;
    named.kind = IKV_KIND_FIELD_SET;
    named.handler = note_kind;
    named.name = "named";
    ok(ikv_bus_subscribe(k.bus, &named, NULL, NULL));
    ok(ikv_image_save(&parts, image, size));
    ok(ikv_bus_rebind(k.bus, "named", newer, "user"));
    restore(&parts, image, size);
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ikv_bus_deliver(k.bus, &e);
    expect("newer user ");
    ck_assert_uint_eq(ikv_image_size(&none), 0);
    status_is(ikv_image_save(&none, image, size), IKV_BAD_ARGUMENT);
    status_is(ikv_image_save(&parts, image, size - 1), IKV_BAD_SIZE);
    status_is(ikv_image_restore(&parts, other, size, NULL, 0), IKV_BAD_FILE);
    status_is(ikv_image_restore(&parts, image, 10, NULL, 0), IKV_BAD_FILE);
    status_is(ikv_image_restore(&parts, image, size, NULL, 1),
              IKV_BAD_ARGUMENT);
    status_is(ikv_image_restore(&parts, image, size, &too_many, 1 << 20),
              IKV_FULL_PENDING);
    hears(k.bus, IKV_KIND_FIELD_SET, everywhere, save_inside, other);
    ikv_bus_deliver(k.bus, &e);
    k.fake.now_ns += 20000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    status_is(ikv_image_restore(&parts, image, size, NULL, 0), IKV_BUSY);
    ikv_loop_end(k.loop);
    free(image);
    free(other);
    kit_close(&k);
}
END_TEST

/* ----------------------------------------------------------- statistics -- */

static bool oversleeps; /* for days */

static ikv_status sleep_long(void *state, uint64_t until_ns, bool for_input)
{
    (void)for_input;
    ((fake_port *)state)->now_ns =
        until_ns + (oversleeps ? UINT64_C(1) << 50 : 0);
    return IKV_OK;
}

/* L7, pacing: how late frames begin, in the statistics. */
START_TEST(lateness)
{
    oversleeps = false;
    open_loop();
    k.port.wait = sleep_long;
    k.config.loop.frame_hz = 100;
    kit_open(&k);
    for (int i = 0; i < 200; i++) {
        ck_assert(ikv_loop_begin(k.loop));
        while (ikv_loop_step(k.loop)) {
        }
        if (i == 50)
            k.fake.now_ns += 12000000; /* 2 ms late */
        ikv_loop_end(k.loop);
    }
    ck_assert_uint_le(ikv_loop_lateness(k.loop, 50), 16);
    ck_assert_uint_le(ikv_loop_lateness(k.loop, 98), 16);
    ck_assert_uint_ge(ikv_loop_lateness(k.loop, 100), 2000000);
    ck_assert_uint_eq(ikv_loop_lateness(k.loop, 101), 0);
    oversleeps = true;
    for (int i = 0; i < 300; i++) {
        ck_assert(whole_frame(k.loop));
    }
    ck_assert_uint_ge(ikv_loop_lateness(k.loop, 100), UINT64_C(1) << 49);
    ck_assert_uint_ge(ikv_loop_lateness(k.loop, 80), UINT64_C(1) << 49);
    ck_assert_uint_le(ikv_loop_lateness(k.loop, 39), 16);
    kit_close(&k);
}
END_TEST

Suite *steps_suite(void)
{
    Suite *s = suite_create("steps");
    add(s, "45 T2 made-up runs", made_up_runs);
    add_table(s, "T1 L1 L2 any rate", any_rate, ROWS(rates));
    add_table(s, "T1 T5 recorded", recorded_plays_back, ROWS(recorded));
    add(s, "P3 jitter", jitter);
    add(s, "L5 pause", pause_and_single_step);
    add_table(s, "L5 resumed by itself", resumed_by_itself, 2);
    add(s, "L5 scale", time_scale);
    add(s, "L5 in a step", pause_within_a_step);
    add(s, "L1 at_frame", timing_at_frame);
    add_table(s, "L2 dropped", dropped_time, ROWS(drops));
    add(s, "L4 steps left out", steps_left_out);
    add(s, "L6 idle", idle);
    add_table(s, "Q2 merging", merged_moves, ROWS(merges));
    add_table(s, "L6 not idle", not_idle, ROWS(idle_table));
    add_table(s, "Q2 told apart", told_apart, ROWS(differ_table));
    add(s, "Q2 two pads", two_pads_apart);
    add(s, "Q2 many pointers", many_merge);
    add_table(s, "Q2 E5 far motion", far_motion, 3);
    add(s, "L5 no router", no_router);
    add_table(s, "Q3 flood", flood, 3);
    add_table(s, "Q3 reserve", reserve, 2);
    add(s, "images refused", images);
    add(s, "L7 lateness", lateness);
    return s;
}
