/* pairs.c - baselines for overlaps: what somebody would write who needs them.
 * The pairs of a frame are sorted and merged with those of the last one, so
 * that what began and what ended is known. */
#include "bench.h"
#include "rtree.h"

#include <math.h>
#include <string.h>

struct pair_finder {
    uint32_t bodies, room, pairs, before, began, ended;
    uint64_t *now, *last, *scratch;
    uint32_t *starts, *items;
    uint32_t cells;
    callee told; /* of each beginning and end, for both */
};

pair_finder *pair_finder_open(uint32_t bodies, uint32_t pairs,
                              const callee *told)
{
    pair_finder *f = calloc(1, sizeof *f);
    f->told = *told;
    f->bodies = bodies;
    f->room = pairs;
    f->cells = 2 * bodies + 64;
    f->now = calloc(f->room, sizeof *f->now);
    f->last = calloc(f->room, sizeof *f->last);
    f->scratch = calloc(f->room, sizeof *f->scratch);
    f->starts = calloc(f->cells + 1, sizeof *f->starts);
    f->items = calloc(8 * bodies, sizeof *f->items);
    return f;
}

void pair_finder_close(pair_finder *f)
{
    free(f->now);
    free(f->last);
    free(f->scratch);
    free(f->starts);
    free(f->items);
    free(f);
}

uint32_t pair_finder_count(const pair_finder *f)
{
    return f->before;
}

/* By 11 bits at a time, from the lowest on: a pair's two numbers are of 17. */
static void sort_pairs(pair_finder *f)
{
    static const uint32_t shifts[] = {0, 11, 32, 43};
    uint64_t *from = f->now, *to = f->scratch;
    for (int pass = 0; pass < 4; pass++) {
        /* four passes over a few thousand are less than comparing */
        uint32_t counts[2048] = {0}, sum = 0;
        for (uint32_t i = 0; i < f->pairs; i++)
            counts[from[i] >> shifts[pass] & 2047]++;
        for (uint32_t i = 0; i < 2048; i++) {
            uint32_t here = counts[i];
            counts[i] = sum;
            sum += here;
        }
        for (uint32_t i = 0; i < f->pairs; i++)
            to[counts[from[i] >> shifts[pass] & 2047]++] = from[i];
        uint64_t *swap = from;
        from = to;
        to = swap;
    }
}

static void tell_both(const pair_finder *f, ikv_kind kind, uint64_t pair)
{
    ikv_event event = {.kind = kind};
    event.target.bits = (uint32_t)(pair >> 32);
    event.source.bits = (uint32_t)pair;
    f->told.handler(&event, NULL, f->told.user);
    event.target.bits = (uint32_t)pair;
    event.source.bits = (uint32_t)(pair >> 32);
    f->told.handler(&event, NULL, f->told.user);
}

static void merge_pairs(pair_finder *f)
{
    uint32_t a = 0, b = 0;
    sort_pairs(f);
    while (a < f->before || b < f->pairs) {
        /* in the last frame but not in this one */
        if (b == f->pairs || (a < f->before && f->last[a] < f->now[b])) {
            f->ended++;
            tell_both(f, IKV_KIND_OVERLAP_LEAVE, f->last[a++]);
        } else if (a == f->before || f->now[b] < f->last[a]) {
            f->began++;
            tell_both(f, IKV_KIND_OVERLAP_ENTER, f->now[b++]);
        } else {
            a++;
            b++;
        }
    }
    uint64_t *swap = f->last;
    f->last = f->now;
    f->now = swap;
    f->before = f->pairs;
    f->pairs = 0;
}

static void add_found(pair_finder *f, uint32_t a, uint32_t b)
{
    /* there are fewer */
    if (f->pairs < f->room)
        f->now[f->pairs++] =
            a < b ? (uint64_t)a << 32 | b : (uint64_t)b << 32 | a;
}

static bool meet(const float a[4], const float b[4])
{
    return a[0] <= b[2] && b[0] <= a[2] && a[1] <= b[3] && b[1] <= a[3];
}

static uint32_t cell_of(float x, float per, uint32_t columns)
{
    float at = x * per;
    /* what is outside counts to the edge */
    return at > 0 ? ((uint32_t)at < columns ? (uint32_t)at : columns - 1) : 0;
}

/* Cells of twice a body's size, filled by a counting sort; a pair is taken in
 * the cell where the corner of what it shares lies. */
void pair_finder_frame(pair_finder *f, const float (*boxes)[4], float side)
{
    uint32_t columns = (uint32_t)(side / 20) + 1;
    float per = (float)columns / (side + 10);
    /* the whole grid is made anew: bodies move each frame */
    memset(f->starts, 0, (columns * columns + 1) * sizeof *f->starts);
    for (int pass = 0; pass < 2; pass++) {
        for (uint32_t i = 0; i < f->bodies; i++) {
            const float *b = boxes[i];
            uint32_t x1 = cell_of(b[2], per, columns);
            uint32_t y1 = cell_of(b[3], per, columns);
            for (uint32_t y = cell_of(b[1], per, columns); y <= y1; y++)
                for (uint32_t x = cell_of(b[0], per, columns); x <= x1; x++) {
                    uint32_t *cell = &f->starts[y * columns + x];
                    if (pass == 0)
                        ++*cell;
                    else
                        f->items[--*cell] = i;
                }
        }
        uint32_t sum = 0;
        for (uint32_t i = 0; pass == 0 && i <= columns * columns; i++) {
            sum += f->starts[i];
            f->starts[i] = sum;
        }
    }
    for (uint32_t y = 0; y < columns; y++)
        for (uint32_t x = 0; x < columns; x++) {
            uint32_t at = y * columns + x, end = f->starts[at + 1];
            for (uint32_t i = f->starts[at]; i < end; i++)
                for (uint32_t k = i + 1; k < end; k++) {
                    const float *a = boxes[f->items[i]];
                    const float *b = boxes[f->items[k]];
                    if (meet(a, b) &&
                        cell_of(a[0] > b[0] ? a[0] : b[0], per, columns) == x &&
                        cell_of(a[1] > b[1] ? a[1] : b[1], per, columns) == y)
                        add_found(f, f->items[i], f->items[k]);
                }
        }
    merge_pairs(f);
}

void pair_finder_scan(pair_finder *f, const float (*boxes)[4])
{
    for (uint32_t a = 0; a < f->bodies; a++)
        for (uint32_t b = a + 1; b < f->bodies; b++)
            if (meet(boxes[a], boxes[b]))
                add_found(f, a, b);
    merge_pairs(f);
}

static void add_from_tree(void *finder, uint32_t a, uint32_t b)
{
    add_found(finder, a, b);
}

void pair_finder_tree(pair_finder *f, const float (*boxes)[4])
{
    rtree *tree = rtree_open(boxes, f->bodies);
    rtree_pairs(tree, boxes, f->bodies, add_from_tree, f);
    rtree_close(tree);
    merge_pairs(f);
}
