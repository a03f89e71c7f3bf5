/* test_ports.c - one suite for every port: P1, P2, T1; and what the wrappers
 * do. */
#define _GNU_SOURCE
#include "support.h"

#include <pthread.h>
#include <signal.h>
#include <pty.h>
#include <time.h>
#include <unistd.h>

/* -------------------------------------------------------- ports to test -- */

typedef struct tested {
    ikv_port port, inner;
    ikv_tape *tape;
    int master;
    FILE *log;
    bool wrapped;
} tested;

static tested t;

static void open_null(void)
{
    t.inner = ikv_null_port();
}

static void open_sim(float speed, const ikv_sim_faults *faults)
{
    ikv_sim_config config = IKV_SIM_INIT;
    write_file("c.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n"
               "{\"t\":5,\"kind\":\"key.down\",\"code\":\"KeyA\"}\n"
               "{\"t\":6,\"kind\":\"key.up\",\"code\":\"KeyA\"}\n"
               "{\"t\":7,\"play\":\"tap\",\"x\":1,\"y\":2}\n");
    ok(ikv_tape_open("c.tape.jsonl", NULL, &t.tape, NULL));
    config.tape = t.tape;
    config.speed = speed;
    config.faults = faults;
    ok(ikv_sim_open(&config, &t.inner));
}

static void open_sim_fast(void)
{
    open_sim(0, NULL);
}

static void open_sim_real(void)
{
    open_sim(1, NULL);
}

static void open_sim_broken(void)
{
    static const ikv_sim_faults odds = {.duplicate = 5000, .late = 2000};
    open_sim(0, &odds);
}

static void open_random(void)
{
    ikv_sim_config config = IKV_SIM_INIT;
    config.seed = 3;
    config.until_ns = 2000000000;
    ok(ikv_sim_open(&config, &t.inner));
}

static void open_terminal(void)
{
    static char name[128];
    int slave;
    ikv_terminal_config config = IKV_TERMINAL_INIT;
    ck_assert_int_eq(openpty(&t.master, &slave, name, NULL, NULL), 0);
    config.device = name;
    ok(ikv_terminal_open(&config, &t.inner, NULL));
    ck_assert_int_eq(write(t.master, "ab\033[<35;3;4M", 12), 12);
    close(slave);
}

static void open_as_is(void)
{
    t.port = t.inner;
}

static void open_logged(void)
{
    t.log = tmpfile();
    ok(ikv_log_port_open(&t.inner, t.log, &t.port));
    t.wrapped = true;
}

static void open_failing_never(void)
{
    ikv_fault_config config = IKV_FAULT_INIT;
    ok(ikv_fault_port_open(&t.inner, &config, &t.port));
    t.wrapped = true;
}

static void (*const openers[])(void) = {open_null,     open_sim_fast,
                                        open_sim_real, open_sim_broken,
                                        open_random,   open_terminal};
static void (*const wraps[])(void) = {open_as_is, open_logged,
                                      open_failing_never};

enum {
    OPENERS = ROWS(openers),
    PORTS = OPENERS * ROWS(wraps)
};

static void open_tested(int which)
{
    t = (tested){.master = -1};
    openers[which % OPENERS]();
    wraps[which / OPENERS]();
}

static void close_tested(int which)
{
    if (which / OPENERS == 1)
        ikv_log_port_close(&t.port);
    if (which / OPENERS == 2)
        ikv_fault_port_close(&t.port);
    if (which % OPENERS == 5)
        ikv_terminal_close(&t.inner);
    else if (which % OPENERS != 0)
        ikv_sim_close(&t.inner);
    ikv_tape_close(t.tape);
    if (t.master >= 0)
        close(t.master);
    if (t.log != NULL)
        fclose(t.log);
}

/* --------------------------------------------------------- the contract -- */

static ikv_kit *kit;

static void open_in_kit(uint32_t frame_hz)
{
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &t.port;
    config.port_count = 1;
    config.loop.frame_hz = frame_hz;
    ok(ikv_kit_open(&config, &kit));
}

static int run_frames(int most)
{
    int frames = 0;
    ikv_loop *loop = ikv_kit_loop(kit);
    while (frames < most && whole_frame(loop))
        frames++;
    return frames;
}

/* P1: what is needed is there, names are names, and NULL is what it can't do.
 */
START_TEST(shape)
{
    open_tested(_i);
    ck_assert_uint_eq(t.port.size, sizeof(ikv_port));
    ck_assert_ptr_nonnull(t.port.name);
    ck_assert(t.port.open != NULL && t.port.now != NULL &&
              t.port.close != NULL);
    ck_assert((t.port.capabilities & IKV_PORT_CLOCK) != 0);
    ck_assert(((t.port.capabilities & IKV_PORT_WAITS) != 0) ==
              (t.port.wait != NULL));
    close_tested(_i);
}
END_TEST

/* P1: the clock never goes backwards; wait() is back at its time or says why;
 * what it pushes is pushable and bears its devices. */
START_TEST(in_a_loop)
{
    open_tested(_i);
    open_in_kit(200);
    ikv_loop *loop = ikv_kit_loop(kit);
    uint64_t last = 0;
    for (int i = 0; i < 40 && ikv_loop_begin(loop); i++) {
        while (ikv_loop_step(loop)) {
        }
        uint64_t now = t.port.now(t.port.state);
        ck_assert_uint_ge(now, last);
        last = now;
        ikv_status status = t.port.wait(t.port.state, now + 1000000, false);
        now = t.port.now(t.port.state);
        ck_assert(status != IKV_OK || now >= last + 1000000);
        ck_assert(t.port.wait(t.port.state, now > 5 ? now - 5 : 0, false) >= 0);
        ikv_loop_end(loop);
    }
    ck_assert_uint_eq(loop_counts(loop).rejected, 0);
    ikv_kit_close(kit);
    close_tested(_i);
}
END_TEST

/* P1: questions about what is not there have an answer. */
START_TEST(questions)
{
    char small[4] = "xxx";
    ikv_event events[4];
    uint32_t count = 9;
    open_tested(_i);
    open_in_kit(0);
    if (t.port.held != NULL) {
        ikv_status status = t.port.held(t.port.state, 999, events, 4, &count);
        ck_assert(status == IKV_ABSENT || (status == IKV_OK && count == 0));
        ck_assert(t.port.held(t.port.state, 1, events, 0, &count) >= 0);
        ck_assert_uint_eq(count, 0);
    }
    if (t.port.describe != NULL) {
        size_t length = t.port.describe(t.port.state, 1, NULL, 0);
        ck_assert_uint_eq(t.port.describe(t.port.state, 1, small, 4), length);
        ck_assert_uint_le(strlen(small), 3);
        ck_assert_uint_eq(t.port.describe(t.port.state, 999, small, 4), 0);
    }
    if (t.port.request != NULL) {
        ikv_request request = {.size = sizeof request, .kind = 999};
        status_is(t.port.request(t.port.state, &request), IKV_ABSENT);
    }
    ikv_kit_close(kit);
    close_tested(_i);
}
END_TEST

/* P3: each fault comes as often as it is asked for, and no other. */
START_TEST(each_fault)
{
    ikv_sim_faults odds = {0};
    ikv_sim_config config = IKV_SIM_INIT;
    ikv_sim_counts counts = IKV_SIM_COUNTS_INIT;
    const uint64_t *found = &counts.lost_releases;
    if (_i < 8)
        ((uint16_t *)&odds)[_i] = 5000;
    t = (tested){.master = -1};
    config.seed = 3;
    config.until_ns = 1000000000;
    config.faults = &odds;
    ok(ikv_sim_open(&config, &t.port));
    open_in_kit(0);
    run_frames(INT32_MAX);
    ok(ikv_sim_counters(&t.port, &counts));
    for (int i = 0; i < 8; i++)
        if (i != _i)
            ck_assert_uint_eq(found[i], 0);
        else
            ck_assert_uint_ge(found[i], 3);
    ck_assert_uint_gt(counts.pushed, 50);
    ikv_kit_close(kit);
    ikv_sim_close(&t.port);
}
END_TEST

/* P1: at its own speed a run has an end, however long it is to wait. */
START_TEST(waits_to_the_end)
{
    ikv_sim_config config = IKV_SIM_INIT;
    config.seed = 3;
    config.speed = 1;
    config.until_ns = 5000000;
    t = (tested){.master = -1};
    ok(ikv_sim_open(&config, &t.port));
    open_in_kit(0);
    ck_assert_uint_lt(t.port.now(t.port.state), 5000000);
    status_is(t.port.wait(t.port.state, UINT64_MAX, false), IKV_ENDED);
    ck_assert_uint_eq(t.port.now(t.port.state), 5000000);
    status_is(t.port.wait(t.port.state, UINT64_MAX, false), IKV_ENDED);
    ikv_kit_close(kit);
    ikv_sim_close(&t.port);
}
END_TEST

static void *wake_soon(void *unused)
{
    struct timespec while_short = {0, 20000000};
    (void)unused;
    nanosleep(&while_short, NULL);
    t.port.wake(t.port.state);
    return NULL;
}

/* P1, L6: wake() from another thread ends a wait. */
START_TEST(waking)
{
    pthread_t thread;
    open_tested(_i);
    open_in_kit(0);
    if (t.port.wake != NULL) {
        uint64_t begin = t.port.now(t.port.state);
        ck_assert_int_eq(pthread_create(&thread, NULL, wake_soon, NULL), 0);
        t.port.wait(t.port.state, begin + 20000000000, false);
        ck_assert_uint_lt(t.port.now(t.port.state), begin + 10000000000);
        pthread_join(thread, NULL);
    }
    ikv_kit_close(kit);
    close_tested(_i);
}
END_TEST

/* P1: a signal ends a wait that begins after it, too; what it says is told. */
static const struct {
    int number;
    ikv_kind kind;
} signal_table[] = {{SIGWINCH, IKV_KIND_WINDOW_RESIZE},
                    {SIGTERM, IKV_KIND_WINDOW_CLOSE},
                    {SIGCONT, IKV_KIND_WINDOW_RESIZE}};

START_TEST(signals_wake)
{
    int told = 0;
    open_tested(5);
    open_in_kit(0);
    run_frames(2);
    hears(ikv_kit_bus(kit), signal_table[_i].kind, (ikv_target){0}, count_heard,
          &told);
    uint64_t begin = t.port.now(t.port.state);
    raise(signal_table[_i].number);
    t.port.wait(t.port.state, begin + 20000000000, false);
    ck_assert_uint_lt(t.port.now(t.port.state), begin + 10000000000);
    /* Frames that are late do not wait for the step that it is told in. */
    for (int i = 0; i < 100 && told == 0; i++)
        run_frames(1);
    run_frames(2);
    ck_assert_int_eq(told, 1);
    ikv_kit_close(kit);
    close_tested(5);
}
END_TEST

/* K1: a button that is down as the window loses the focus is pressed anew. */
START_TEST(pressed_anew)
{
    static const char bytes[] =
        "\033[<0;3;4M\033[O\033[I\033[<0;5;5M\033[<0;5;5m";
    int downs = 0, ups = 0;
    open_tested(5);
    open_in_kit(0);
    hears(ikv_kit_bus(kit), IKV_KIND_POINTER_DOWN, (ikv_target){0}, count_heard,
          &downs);
    hears(ikv_kit_bus(kit), IKV_KIND_POINTER_UP, (ikv_target){0}, count_heard,
          &ups);
    ck_assert_int_eq(write(t.master, bytes, sizeof bytes - 1),
                     sizeof bytes - 1);
    for (int i = 0; i < 100 && ups == 0; i++)
        run_frames(2);
    ck_assert_int_eq(downs, 2);
    ck_assert_int_eq(ups, 1);
    ikv_kit_close(kit);
    close_tested(5);
}
END_TEST

/* ------------------------------------------------------------- wrappers -- */

/* Fail the Nth, for every N: the loop goes on, or ends; nothing leaks or hangs.
 */
START_TEST(every_nth_call)
{
    uint64_t calls = 1;
    for (uint64_t nth = 1; nth <= calls; nth++)
        for (int then_on = 0; then_on < 2; then_on++) {
            ikv_fault_config config = IKV_FAULT_INIT;
            t = (tested){.master = -1};
            openers[_i % 2 + 1]();
            config.nth = nth;
            config.from_then_on = then_on == 1;
            config.call = (uint32_t)_i / 2;
            ok(ikv_fault_port_open(&t.inner, &config, &t.port));
            ikv_kit_config kit_config = IKV_KIT_INIT;
            kit_config.memory = ikv_host_memory();
            kit_config.ports = &t.port;
            kit_config.port_count = 1;
            kit_config.loop.frame_hz = 2000;
            ikv_status status = ikv_kit_open(&kit_config, &kit);
            ck_assert(status == IKV_OK || status == IKV_PORT_FAILED);
            if (status == IKV_OK) {
                run_frames(6);
                valid(ikv_bus_validate(ikv_kit_bus(kit)));
                uint64_t made = ikv_fault_port_calls(&t.port, config.call);
                calls = made > calls && made < 60 ? made : calls;
                ikv_kit_close(kit);
            }
            ikv_fault_port_close(&t.port);
            ikv_sim_close(&t.inner);
            ikv_tape_close(t.tape);
        }
    ck_assert_uint_ge(calls, 1);
}
END_TEST

/* The log names each call, in order. */
START_TEST(logged_calls)
{
    char line[200];
    open_tested(OPENERS + 1);
    open_in_kit(100);
    run_frames(3);
    ikv_kit_close(kit);
    rewind(t.log);
    static const char *const begin[] = {
        "1 sim open -> OK\n", "2 sim now -> 0\n", "3 sim poll -> OK\n",
        "4 sim now -> 0\n"};
    for (int i = 0; i < ROWS(begin); i++) {
        ck_assert_ptr_nonnull(fgets(line, sizeof line, t.log));
        ck_assert_str_eq(line, begin[i]);
    }
    bool waited = false, closed = false;
    while (fgets(line, sizeof line, t.log) != NULL) {
        waited = waited || strstr(line, "wait until 10000000 -> OK") != NULL;
        closed = strstr(line, "sim close") != NULL;
    }
    ck_assert(waited && closed);
    close_tested(OPENERS + 1);
}
END_TEST

START_TEST(wrong_wrappers)
{
    ikv_port port, null = ikv_null_port(), empty = {0};
    ikv_fault_config config = IKV_FAULT_INIT;
    status_is(ikv_log_port_open(NULL, stderr, &port), IKV_BAD_ARGUMENT);
    status_is(ikv_log_port_open(&empty, stderr, &port), IKV_BAD_SIZE);
    status_is(ikv_fault_port_open(&null, NULL, &port), IKV_BAD_ARGUMENT);
    config.call = IKV_CALL_COUNT;
    status_is(ikv_fault_port_open(&null, &config, &port), IKV_BAD_CONFIG);
    config.size = 3;
    status_is(ikv_fault_port_open(&null, &config, &port), IKV_BAD_SIZE);
    ikv_sim_config sim = IKV_SIM_INIT;
    status_is(ikv_sim_open(&sim, &port), IKV_BAD_CONFIG);
    sim.seed = 1;
    sim.speed = -1;
    status_is(ikv_sim_open(&sim, &port), IKV_BAD_CONFIG);
    ikv_log_port_close(NULL);
    ikv_fault_port_close(NULL);
}
END_TEST

Suite *ports_suite(void)
{
    Suite *s = suite_create("ports");
    add_table(s, "P1 shape", shape, PORTS);
    add_table(s, "P1 P2 in a loop", in_a_loop, PORTS);
    add_table(s, "P1 questions", questions, PORTS);
    add_table(s, "P1 L6 wake", waking, PORTS);
    add_table(s, "P1 woken by signals", signals_wake, ROWS(signal_table));
    add(s, "K1 pressed anew", pressed_anew);
    add(s, "P1 waits to the end", waits_to_the_end);
    add_table(s, "P3 each fault", each_fault, 9);
    add_table(s, "every Nth call", every_nth_call, 2 * IKV_CALL_COUNT);
    add(s, "log", logged_calls);
    add(s, "wrong wrappers", wrong_wrappers);
    return s;
}
