/* support.h - what the tests share. */
#ifndef IKV_TEST_SUPPORT_H
#define IKV_TEST_SUPPORT_H

#include <ikvar/host.h>

#include <check.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Suites, by file. */
Suite *event_suite(void);
Suite *queue_suite(void);
Suite *bus_suite(void);
Suite *bus_model_suite(void);
Suite *dispatch_suite(void);
Suite *scene_suite(void);
Suite *hits_suite(void);
Suite *router_suite(void);
Suite *programs_suite(void);
Suite *storm_suite(void);
Suite *loop_suite(void);
Suite *steps_suite(void);
Suite *state_suite(void);
Suite *action_suite(void);
Suite *overlap_suite(void);
Suite *ports_suite(void);
Suite *io_suite(void);
Suite *tool_suite(void);
Suite *terminal_suite(void);
Suite *edge_ports_suite(void);
Suite *edge_bus_suite(void);
Suite *absurd_suite(void);
Suite *probe_suite(void);
Suite *why_suite(void);
Suite *edge_route_suite(void);
Suite *edge_time_suite(void);
Suite *images_suite(void);
Suite *binary_suite(void);
Suite *edge_files_suite(void);
Suite *mistakes_suite(void);
Suite *draw_suite(void);
Suite *view_suite(void);
Suite *reload_suite(void);
Suite *data_suite(void);
Suite *touch_suite(void);
Suite *replay_suite(void);

/* A case named after the rule that it holds. */
static inline void add(Suite *suite, const char *rule, const TTest *test)
{
    TCase *tc = tcase_create(rule);
    tcase_set_timeout(tc, 120);
    tcase_add_test(tc, test);
    suite_add_tcase(suite, tc);
}

static inline void add_table(Suite *suite, const char *rule, const TTest *test,
                             int rows)
{
    TCase *tc = tcase_create(rule);
    tcase_set_timeout(tc, 120);
    tcase_add_loop_test(tc, test, 0, rows);
    suite_add_tcase(suite, tc);
}

#define ROWS(table) ((int)(sizeof(table) / sizeof(table)[0]))
#define ok(expression)                                                         \
    ck_assert_msg((expression) == IKV_OK, "%s is not OK", #expression)
#define status_is(expression, expected)                                        \
    ck_assert_str_eq(ikv_status_name(expression), ikv_status_name(expected))
#define valid(expression) is_valid((expression), #expression)

/* No invariant is broken. */
static inline void is_valid(const char *broken, const char *what)
{
    ck_assert_msg(broken == NULL, "%s: breaks %s", what, broken);
}

/* An allocator that counts, and fails the Nth block if told to. */
typedef struct counted {
    int takes, gives, fail_at;
    size_t bytes; /* taken and not given back */
} counted;
ikv_memory counted_memory(counted *c);

/* A port whose clock the test moves. */
typedef struct fake_port {
    uint64_t now_ns;
    uint32_t readings; /* of its clock */
    ikv_sink *sink;
    uint16_t device;
    int opened, closed, waits;
    ikv_status open_status, poll_status;
    void *user; /* yours */
} fake_port;
ikv_port fake_port_of(fake_port *fake);

/* A kit on a fake port; reports are kept. */
typedef struct bench_kit {
    fake_port fake;
    ikv_port port;
    counted memory;
    ikv_kit_config config;
    ikv_kit *kit;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_loop *loop;
    int reports;
    char report[256];
} bench_kit;

/* Fills in the config; change it, then open. */
void kit_prepare(bench_kit *k);
void kit_open(bench_kit *k);
void kit_close(bench_kit *k);

/* Small, with something of everything in it: as kit_prepare(). */
void open_small(bench_kit *k);

/* Ties routers to an input, with no more than they. */
ikv_input *input_of(ikv_bus *bus, ikv_router *const *routers, uint32_t count,
                    ikv_memory memory);

static inline ikv_parts parts_of(const bench_kit *k)
{
    return ikv_kit_parts(k->kit);
}

/* No part has a broken invariant. */
void valid_parts(const ikv_parts *parts);
/* Goes back to an image; all parts are whole then. */
void restore(const ikv_parts *parts, const void *image, size_t size);

/* One frame at that time; how many steps ran. */
int kit_frame(bench_kit *k, uint64_t time_ms);
int kit_frame_ns(bench_kit *k, uint64_t time_ns);

/* One frame of any loop, with its steps; false if it has ended. */
bool whole_frame(ikv_loop *loop);

/* What was recorded, in words. */
typedef struct record {
    char text[16384];
} record;
void note(record *r, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

/* Subscribes; all went well. */
void hears(ikv_bus *bus, ikv_kind kind, ikv_target target, ikv_handler handler,
           void *user);

/* A handler that counts. */
ikv_verdict count_heard(const ikv_event *event, const ikv_delivery *delivery,
                        void *user);

/* A handler that delivers what it hears once more, inside itself. */
ikv_verdict deliver_nested(const ikv_event *event, const ikv_delivery *delivery,
                           void *user);

/* Does what each word of a text says. */
void for_words(const char *words, void (*each)(const char *word));

/* Small things. */
ikv_target rect_target(ikv_scene *scene, ikv_target parent, float x, float y,
                       float width, float height, int z);
ikv_target pick_at(ikv_scene *scene, float x, float y, float radius,
                   uint32_t nth);
char *read_file(const char *path);

/* That a text is a file of tests/golden/, byte by byte; with UPDATE_GOLDEN=1 the
 * file is written anew. */
void expect_golden(const char *file, const char *text);

/* Cases of a file of tests/golden/: each from a line "case TITLE" on. */
int case_count(const char *file);
/* The nth one's lines that begin with `key`, without it and joined by ends of
 * lines; "" if there is none. Valid until the eighth such call after it. */
const char *case_text(const char *file, int nth, const char *key);
/* That such lines are what was found, but for spaces at the end. */
void expect_case(const char *file, int nth, const char *key, char *found);
void write_file(const char *path, const char *text);
uint32_t random_below(uint64_t *state, uint32_t limit);

/* Runs a command by the shell: its exit code; output of both streams. */
int run_command_line(char *output, size_t size, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

/* Counters by value: loop_counts(loop), kind_counts(bus, kind) and so on. */
#define COUNTS(name, INIT, type)                                               \
    static inline ikv_##name##_counts name##_counts(const type *of)            \
    {                                                                          \
        ikv_##name##_counts counts = INIT;                                     \
        ikv_##name##_counters(of, &counts);                                    \
        return counts;                                                         \
    }
COUNTS(loop, IKV_LOOP_COUNTS_INIT, ikv_loop)
COUNTS(bus, IKV_BUS_COUNTS_INIT, ikv_bus)
COUNTS(router, IKV_ROUTER_COUNTS_INIT, ikv_router)
COUNTS(queue, IKV_QUEUE_COUNTS_INIT, ikv_queue)
COUNTS(scene, IKV_SCENE_COUNTS_INIT, ikv_scene)
COUNTS(actions, IKV_ACTIONS_COUNTS_INIT, ikv_actions)
COUNTS(overlaps, IKV_OVERLAPS_COUNTS_INIT, ikv_overlaps)
#define COUNTS_OF_BUS(name, INIT, type)                                        \
    static inline ikv_##name##_counts name##_counts(const ikv_bus *bus,        \
                                                    type of)                   \
    {                                                                          \
        ikv_##name##_counts counts = INIT;                                     \
        ikv_bus_##name##_counters(bus, of, &counts);                           \
        return counts;                                                         \
    }
COUNTS_OF_BUS(kind, IKV_KIND_COUNTS_INIT, ikv_kind)
COUNTS_OF_BUS(lane, IKV_LANE_COUNTS_INIT, ikv_lane)
COUNTS_OF_BUS(subscription, IKV_SUBSCRIPTION_COUNTS_INIT, ikv_subscription)
#undef COUNTS
#undef COUNTS_OF_BUS

#endif
