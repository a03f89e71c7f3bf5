/* main.c - make bench: this machine against plain baselines, as ratios. Exits
 * with 1 if a row is over its budget, or if anything was allocated after
 * opening. A time is of one operation, the least of all rounds. With the name
 * of a group (queue, bus, route, more, hits, time, overlap,
 * worst) only its rows are
 * run; with --json each row is a line of JSON. With --counts each piece of work
 * is done once for callgrind to count (scripts/counts), and nothing is timed. */
#define _POSIX_C_SOURCE 200809L
#include "bench.h"

#include <string.h>
#include <unistd.h>
#include <valgrind/callgrind.h>

enum {
    ROWS = 256,
    ROUNDS = 25
};

static row rows[ROWS];
static int row_count;
/* By all that counting_memory() was given to, and while something was measured:
 * by then all is open. */
static int blocks_taken, taken_after;

static void *take(void *user, size_t size, size_t alignment)
{
    blocks_taken++;
    return ikv_host_memory().take(user, size, alignment);
}

ikv_memory counting_memory(void)
{
    return (ikv_memory){.take = take, .give = ikv_host_memory().give};
}

static ikv_status open_port(void *state, ikv_sink *to)
{
    bench_port *port = state;
    port->sink = to;
    port->device = ikv_sink_device(to);
    return IKV_OK;
}

static uint64_t port_now(void *state)
{
    return ((const bench_port *)state)->now_ns;
}

static void close_port(void *state)
{
    (void)state;
}

ikv_port port_of(bench_port *port)
{
    return (ikv_port){.size = sizeof(ikv_port),
                      .capabilities = IKV_PORT_CLOCK,
                      .name = "bench",
                      .state = port,
                      .open = open_port,
                      .now = port_now,
                      .close = close_port};
}

static double timed(void (*work)(void), double operations)
{
    /* the clock is read twice for thousands of operations */
    int before = blocks_taken;
    uint64_t begin = read_clock(NULL);
    work();
    double took = (double)(read_clock(NULL) - begin);
    taken_after += blocks_taken - before;
    return took / operations;
}

static void progress(const char *name)
{
    if (isatty(STDERR_FILENO))
        fprintf(stderr, "\r\033[K%s", name);
}

bool counting_only;

/* Twice, as what is warm is what is asked about; the second one is counted. */
static void count(const char *name, const char *side, double operations,
                  void (*work)(void))
{
    char mark[256];
    snprintf(mark, sizeof mark, "%s|%.0f|%s", side, operations, name);
    work();
    CALLGRIND_ZERO_STATS;
    work();
    CALLGRIND_DUMP_STATS_AT(mark);
}

/* None may be left out. */
static row *next_row(void)
{
    if (row_count == ROWS) {
        fprintf(stderr,
                "bench: more rows than there is room for: raise ROWS\n");
        exit(2);
    }
    return &rows[row_count++];
}

void measure(const char *name, const char *baseline, double budget,
             double slack, double operations, void (*ours)(void),
             void (*theirs)(void))
{
    if (counting_only) {
        progress(name);
        count(name, "ours", operations, ours);
        count(baseline, "theirs", operations, theirs);
        return;
    }
    row *r = next_row();
    *r = (row){.name = name,
               .baseline = baseline,
               .budget = budget,
               .slack = slack,
               .operations = operations};
    progress(name);
    r->ours_ns = r->theirs_ns = 1e18;
    /* caches and branches of both are warm */
    ours();
    theirs();
    /* At least ROUNDS, then until neither least time has become less for as
     * many: the machine's clock rate has phases. At most three seconds. */
    uint64_t begin = read_clock(NULL);
    for (int quiet = 0;
         quiet < ROUNDS && read_clock(NULL) - begin < 3000000000u; quiet++) {
        double a = timed(theirs, operations), b = timed(ours, operations);
        if (a < r->theirs_ns * 0.99 || b < r->ours_ns * 0.99)
            quiet = 0;
        r->theirs_ns = a < r->theirs_ns ? a : r->theirs_ns;
        r->ours_ns = b < r->ours_ns ? b : r->ours_ns;
    }
}

double least_of(void (*work)(void), void (*undo)(void))
{
    double least = 1e18;
    for (int round = 0; round < (counting_only ? 1 : 5); round++) {
        double took = timed(work, 1);
        least = took < least ? took : least;
        undo();
    }
    return least;
}

void compare(const char *name, const char *baseline, double budget,
             double slack, double ours_ns, double theirs_ns)
{
    *next_row() = (row){.name = name,
                        .baseline = baseline,
                        .budget = budget,
                        .slack = slack,
                        .ours_ns = ours_ns,
                        .theirs_ns = theirs_ns};
}

static bool is_over(const row *r)
{
    /* a row without a budget informs */
    return r->budget != 0 && r->ours_ns / r->theirs_ns > r->budget * r->slack;
}

/* Names are plain ASCII. */
static int print_json(void)
{
    int over = 0;
    for (int i = 0; i < row_count; i++) {
        const row *r = &rows[i];
        over += is_over(r);
        printf("{\"work\":\"%s\",\"ns\":%.9g,\"baseline\":\"%s\","
               "\"baseline_ns\":%.9g,\"ratio\":%.6g,\"budget\":%.6g,"
               "\"holds\":%s}\n",
               r->name, r->ours_ns, r->baseline, r->theirs_ns,
               r->ours_ns / r->theirs_ns, r->budget,
               r->budget == 0 ? "null"
               : is_over(r)   ? "false"
                              : "true");
    }
    printf("{\"blocks_taken_after_opening\":%d}\n", taken_after);
    return over;
}

static int print_rows(void)
{
    int over = 0;
    printf("%-44s %9s  %-38s %9s %7s %7s\n", "work", "ns", "baseline", "ns",
           "ratio", "budget");
    for (int i = 0; i < row_count; i++) {
        const row *r = &rows[i];
        double ratio = r->ours_ns / r->theirs_ns;
        over += is_over(r);
        printf("%-44s %9.*f  %-38s %9.*f %7.*f ", r->name,
               r->ours_ns < 1e5 ? 2 : 0, r->ours_ns, r->baseline,
               r->theirs_ns < 1e5 ? 2 : 0, r->theirs_ns, ratio < 0.01 ? 5 : 2,
               ratio);
        if (r->budget > 0)
            printf("%7g %s\n", r->budget, is_over(r) ? "OVER" : "holds");
        else
            printf("%7s\n", "-");
    }
    printf(
        "\nA ratio counts as over its budget beyond 20%% slack, in rows with "
        "threads beyond twice.\nBlocks taken after opening: %d.\n",
        taken_after);
    return over;
}

/* Our blocks ask for large pages: what the peers have from malloc shall do so
 * too, which the C library is told before it starts. */
static void begin_again_with_large_pages(char **argv)
{
    if (getenv("GLIBC_TUNABLES") != NULL)
        return;
    setenv("GLIBC_TUNABLES", "glibc.malloc.hugetlb=1", 1);
    execv("/proc/self/exe", argv);
    /* Where it can't, it goes on with small ones. */
}

int main(int argc, char **argv)
{
    static const struct {
        const char *name;
        void (*run)(void);
    } groups[] = {{"queue", queue_rows},     {"bus", bus_rows},
                  {"route", route_rows},     {"more", more_rows},
                  {"hits", hit_rows},        {"time", time_rows},
                  {"overlap", overlap_rows}, {"worst", worst_rows}};
    bool json = argc > 1 && strcmp(argv[1], "--json") == 0;
    counting_only = argc > 1 && strcmp(argv[1], "--counts") == 0;
    if (!counting_only)
        begin_again_with_large_pages(argv);
    int options = json || counting_only;
    const char *only = argc > 1 + options ? argv[1 + options] : NULL;
    int run = 0;
    for (size_t i = 0; i < sizeof groups / sizeof groups[0]; i++)
        if (only == NULL || strcmp(only, groups[i].name) == 0) {
            groups[i].run();
            run++;
        }
    if (run == 0) {
        fprintf(stderr, "bench: found \"%s\", expected", only);
        for (size_t i = 0; i < sizeof groups / sizeof groups[0]; i++)
            fprintf(stderr, " %s", groups[i].name);
        fprintf(stderr, "\n");
        return 2;
    }
    progress("");
    if (counting_only)
        return 0;
    int over = json ? print_json() : print_rows();
    return over > 0 || taken_after > 0 ? 1 : 0;
}
