/* bench.h - what the benchmark's files share.
 *
 * A row is two pieces of work, ours and a plain baseline, which do the same
 * number of operations. They are run in turn, many rounds in one process; the
 * least time of each counts, and their ratio is what is printed.
 */
#ifndef IKV_BENCH_H
#define IKV_BENCH_H

#include <ikvar/host.h>

#include <stdio.h>
#include <stdlib.h>

typedef struct row {
    const char *name, *baseline;
    double budget; /* highest ratio that is in order; 0: none */
    double slack;  /* 1.2 on one thread, 2 on several */
    double operations;
    void (*ours)(void);
    void (*theirs)(void);
    double ours_ns, theirs_ns; /* an operation, the least */
} row;

/* Adds a row: the two functions are called `rounds` times each. */
void measure(const char *name, const char *baseline, double budget,
             double slack, double operations, void (*ours)(void),
             void (*theirs)(void));

/* Adds a row of two times that were measured already. */
void compare(const char *name, const char *baseline, double budget,
             double slack, double ours_ns, double theirs_ns);

/* A port whose clock is set, and into whose sink events are pushed. */
typedef struct bench_port {
    uint64_t now_ns;
    ikv_sink *sink;
    uint16_t device;
} bench_port;

ikv_port port_of(bench_port *port);

/* The least ns of some rounds of work, each undone. */
double least_of(void (*work)(void), void (*undo)(void));

/* An allocator that counts blocks: none may be taken while something is
 * measured. */
ikv_memory counting_memory(void);

/* Instructions are counted, of one thread: others, and the clock, mean
 * nothing. */
extern bool counting_only;

void queue_rows(void);
void bus_rows(void);
void route_rows(void);
void more_rows(void);
void hit_rows(void);
void time_rows(void);
void overlap_rows(void);
void worst_rows(void);

/* baseline.c: plain code, in a file of its own so that nothing is inlined into
 * what it is compared with, or the other way round. */
typedef struct bare_ring bare_ring;
bare_ring *bare_ring_open(uint32_t capacity);
bool bare_ring_push(bare_ring *ring, const ikv_event *event);
bool bare_ring_pop(bare_ring *ring, ikv_event *event);

typedef struct callee {
    ikv_handler handler;
    void *user;
} callee;

/* A hand-written loop over packed function pointers. */
ikv_verdict call_all(const callee *list, uint32_t count, const ikv_event *event,
                     const ikv_delivery *delivery);

/* The handler that everybody calls; and one function that calls five. */
ikv_verdict count_call(const ikv_event *event, const ikv_delivery *delivery,
                       void *counter);
ikv_verdict call_five(const ikv_event *event, const ikv_delivery *delivery,
                      void *counter);

/* For each target a list of its own. */
ikv_verdict call_at(callee *const *lists, const uint32_t *counts,
                    uint32_t target, const ikv_event *event,
                    const ikv_delivery *delivery);

/* What must be done for a pointer event in any case: find the topmost box in
 * a list from the top down, walk up its parents, call the one handler. */
typedef struct plain_box {
    float x0, y0, x1, y1;
    uint32_t parent;
    callee handler;
} plain_box;
ikv_verdict plain_route(const plain_box *boxes, uint32_t count,
                        const ikv_event *event, const ikv_delivery *delivery);

/* The last of the boxes (left, top, right, bottom) that holds the point,
 * UINT32_MAX if none; and moves a box. */
uint32_t plain_pick(float (*boxes)[4], uint32_t count, float x, float y);
void plain_move(float box[4], float x, float y);

/* pairs.c: which boxes meet, by a grid, by comparing all, by an R-tree; the
 * pairs are sorted and merged with the last ones. */
typedef struct pair_finder pair_finder;
pair_finder *pair_finder_open(uint32_t bodies, uint32_t pairs,
                              const callee *told);
void pair_finder_close(pair_finder *finder);
void pair_finder_frame(pair_finder *finder, const float (*boxes)[4],
                       float side);
void pair_finder_scan(pair_finder *finder, const float (*boxes)[4]);
void pair_finder_tree(pair_finder *finder, const float (*boxes)[4]);
uint32_t pair_finder_count(const pair_finder *finder);

/* A list of bindings that is gone through for each key. */
typedef struct binding_row {
    uint32_t code, modifiers, action;
} binding_row;
void match_bindings(const binding_row *rows, uint32_t count,
                    const ikv_event *event, const callee *handler);

/* What is down now, and was before this step. */
void keys_begin(uint8_t *now, uint8_t *before);
void keys_take(uint8_t *now, const ikv_event *event);
uint32_t keys_ask(const uint8_t *now, const uint8_t *before, uint32_t code);

/* ns; as a port's now() */
uint64_t read_clock(void *unused);

#endif
