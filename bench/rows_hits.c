/* rows_hits.c - hit tests and movement from 10 to 1,000,000 targets, against a
 * plain scan backwards over boxes, and against a general R-tree. */
#include "bench.h"
#include "rtree.h"

#include <math.h>

enum {
    POINTS = 65536,
    FEW_POINTS = 16 /* where a scan takes long */
};

static ikv_kit *kit;
static ikv_scene *scene;
static uint32_t count, moving, queries;
static float side;
static float (*boxes)[4];
static ikv_target *targets;
static ikv_motion *motions;
static rtree *tree;
static float points[POINTS][2];
static uint32_t turn;
static volatile uint32_t sink;
static uint64_t seed;

static float real(float from, float to)
{
    seed = seed * 6364136223846793005u + 1442695040888963407u;
    return from + (to - from) * (float)(seed >> 40) / (float)(1u << 24);
}

static void open_scene(uint32_t n)
{
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = counting_memory();
    config.bus.targets = n;
    ikv_port port = ikv_null_port();
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &kit) < 0)
        exit(2);
    scene = ikv_kit_scene(kit);
    count = n;
    seed = n;
    /* the same density whatever their number */
    side = sqrtf((float)n) * 50;
    boxes = calloc(n, sizeof *boxes);
    targets = calloc(n, sizeof *targets);
    motions = calloc(n, sizeof *motions);
    if (boxes == NULL || targets == NULL || motions == NULL)
        exit(2);
    for (uint32_t i = 0; i < n; i++) {
        ikv_target_config c = IKV_TARGET_INIT;
        c.x = real(0, side);
        c.y = real(0, side);
        c.shape = ikv_scene_rect(0, 0, real(10, 50), real(10, 50));
        if (ikv_scene_add(scene, &c, &targets[i], NULL) < 0)
            exit(2);
        boxes[i][0] = c.x;
        boxes[i][1] = c.y;
        boxes[i][2] = c.x + c.shape.width;
        boxes[i][3] = c.y + c.shape.height;
    }
    for (int i = 0; i < POINTS; i++) {
        points[i][0] = real(0, side);
        points[i][1] = real(0, side);
    }
}

static void close_scene(void)
{
    ikv_kit_close(kit);
    free(boxes);
    free(targets);
    free(motions);
}

static void pick_ours(void)
{
    ikv_query query = IKV_QUERY_INIT;
    for (uint32_t i = 0; i < queries; i++) {
        query.x = points[i % POINTS][0];
        query.y = points[i % POINTS][1];
        sink += ikv_scene_pick(scene, &query, 0).bits;
    }
}

static void pick_plain(void)
{
    for (uint32_t i = 0; i < queries; i++)
        sink += plain_pick(boxes, count, points[i % POINTS][0],
                           points[i % POINTS][1]);
}

static void pick_tree(void)
{
    for (uint32_t i = 0; i < queries; i++)
        sink += rtree_pick(tree, points[i % POINTS][0], points[i % POINTS][1]);
}

/* The same targets move in both, a little to and fro. */
static float shift_of(uint32_t i)
{
    return (turn + i) % 2 ? 1.5f : -1.5f;
}

static void frame_ours(void)
{
    /* spread over all of them */
    uint32_t n = 0, stride = count / moving;
    turn++;
    for (uint32_t k = 0; k < moving; k++) {
        uint32_t i = k * stride;
        float by = shift_of(i);
        motions[n++] = (ikv_motion){targets[i], boxes[i][0] + by, boxes[i][1]};
    }
    ikv_scene_move_many(scene, motions, n);
    pick_ours();
}

/* As many targets and hit tests, half as many moves. */
static void frame_halved(void)
{
    moving /= 2;
    frame_ours();
    moving *= 2;
}

static void frame_plain(void)
{
    uint32_t stride = count / moving;
    turn++;
    for (uint32_t k = 0; k < moving; k++) {
        uint32_t i = k * stride;
        float by = shift_of(i);
        plain_move(boxes[i], boxes[i][0] + by, boxes[i][1]);
    }
    pick_plain();
}

/* In the small ones what a call costs outweighs what is done: no budget. */
static const struct {
    uint32_t targets;
    const char *hit, *few, *all;
    double hit_budget, tree_budget, few_budget, all_budget;
} sizes[] = {
    {10, "hit test, 10 targets", NULL, "frame: 10 move, 10 hit tests", 2.5, 0,
     0, 0},
    {100, "hit test, 100 targets", NULL, "frame: 100 move, 10 hit tests", 0.5,
     1, 0, 1.2},
    {1000, "hit test, 1,000 targets", "frame: 1% of 1,000 move, 10 hit tests",
     "frame: 1,000 move, 10 hit tests", 0.10, 0.5, 0.2, 1.2},
    {10000, "hit test, 10,000 targets",
     "frame: 1% of 10,000 move, 10 hit tests",
     "frame: 10,000 move, 10 hit tests", 0.03, 0.5, 0.15, 1.2},
    {100000, "hit test, 100,000 targets",
     "frame: 1% of 100,000 move, 10 hit tests",
     "frame: 100,000 move, 10 hit tests", 0.006, 0.5, 0.15, 1.2},
    {1000000, "hit test, 1,000,000 targets", NULL, NULL, 0.001, 0, 0, 0},
};

/* Layouts in which boxes say little: each row is against the better of the
 * scan and the R-tree. */
static const struct {
    const char *name;
    uint32_t targets;
    float x, y;          /* where a target lies, in parts of the side */
    float width, height; /* of the side */
} layouts[] = {
    {"hit test, 1,000 full-width lines", 1000, 0, 1, 1, 0},
    {"hit test, 10,000 full-width lines", 10000, 0, 1, 1, 0},
    {"hit test, 100,000 full-width lines", 100000, 0, 1, 1, 0},
    {"hit test, 1,000 in a dense core", 1000, 0.01f, 0.01f, 0, 0},
    {"hit test, 10,000 in a dense core", 10000, 0.01f, 0.01f, 0, 0},
    {"hit test, 100,000 in a dense core", 100000, 0.01f, 0.01f, 0, 0},
    {"hit test, 1,000 all on one line", 1000, 1, 0, 0, 0},
    {"hit test, 10,000 all on one line", 10000, 1, 0, 0, 0},
    {"hit test, 100,000 all on one line", 100000, 1, 0, 0, 0},
};

static void lay_out(size_t nth)
{
    for (uint32_t i = 0; i < count; i++) {
        float *box = boxes[i];
        /* one in a hundred lies anywhere, so that the view is as large */
        bool far = i % 100 == 0 && layouts[nth].width == 0;
        box[0] = real(0, side * (far ? 1 : layouts[nth].x));
        box[1] = real(0, side * (far ? 1 : layouts[nth].y));
        box[2] = box[0] + (layouts[nth].width > 0 ? side : real(10, 50));
        box[3] = box[1] + (layouts[nth].width > 0 ? 1 : real(10, 50));
        ikv_shape shape =
            ikv_scene_rect(0, 0, box[2] - box[0], box[3] - box[1]);
        ikv_scene_set_shape(scene, targets[i], &shape);
        ikv_scene_move(scene, targets[i], box[0], box[1]);
    }
    /* half of the points are where something is */
    for (int i = 0; i < POINTS; i += 2) {
        const float *box = boxes[(uint32_t)(i * 37) % count];
        points[i][0] = box[0] + 1;
        points[i][1] = box[1] + 0.5f;
    }
}

static void nothing(void) {}

static void layout_rows(void)
{
    for (size_t i = 0; i < sizeof layouts / sizeof layouts[0]; i++) {
        open_scene(layouts[i].targets);
        lay_out(i);
        tree = rtree_open((const float(*)[4])boxes, count);
        queries = 4096;
        pick_ours();
        pick_ours();
        double ours = least_of(pick_ours, nothing) / queries;
        double by_tree = least_of(pick_tree, nothing) / queries;
        queries = count > 1000 ? FEW_POINTS : 4096;
        double by_scan = least_of(pick_plain, nothing) / queries;
        compare(layouts[i].name,
                by_tree < by_scan ? "Boost's R-tree" : "a plain scan backwards",
                1, 1.2, ours, by_tree < by_scan ? by_tree : by_scan);
        rtree_close(tree);
        close_scene();
    }
}

void hit_rows(void)
{
    const char *scan = "a plain scan backwards";
    for (size_t i = 0; i < sizeof sizes / sizeof sizes[0]; i++) {
        open_scene(sizes[i].targets);
        /* a scan of so many takes its time */
        queries = count > 50000 ? FEW_POINTS : count > 100 ? 64 : 4096;
        /* once before, so that what was added is sorted in */
        pick_ours();
        measure(sizes[i].hit, scan, sizes[i].hit_budget, 1.2, queries,
                pick_ours, pick_plain);
        if (count >= 100 && count <= 100000) {
            tree = rtree_open((const float(*)[4])boxes, count);
            queries = counting_only ? 1024 : POINTS;
            measure(sizes[i].hit, "Boost's R-tree", sizes[i].tree_budget, 1.2,
                    queries, pick_ours, pick_tree);
            rtree_close(tree);
        }
        /* as in a frame: a few pointers, and what asks by itself */
        queries = 10;
        moving = count / 100;
        if (sizes[i].few != NULL)
            measure(sizes[i].few, scan, sizes[i].few_budget, 1.2, 1, frame_ours,
                    frame_plain);
        queries = 100;
        moving = count / 5;
        if (count == 10000)
            measure("frame: 20% of 10,000 move, 100 hit tests", "10% of them",
                    2, 1.2, 1, frame_ours, frame_halved);
        queries = 10;
        moving = count;
        if (sizes[i].all != NULL)
            measure(sizes[i].all, scan, sizes[i].all_budget, 1.2, 1, frame_ours,
                    frame_plain);
        close_scene();
    }
    if (!counting_only)
        layout_rows();
}
