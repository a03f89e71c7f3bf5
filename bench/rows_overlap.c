/* rows_overlap.c - overlaps of 100 to 100,000 bodies, against a uniform grid
 * whose sorted pairs are merged with those of the last frame, against all pairs
 * and a general R-tree; actions with many bindings; the state of keys; changes
 * of a scene that announces them to nobody.
 *
 * A frame's time is that of finding what began and ended and calling a handler
 * for both sides of each; moving the bodies is not in
 * it, on neither side. */
#include "bench.h"
#include "rtree.h"

#include <ikvar/keys.h>

#include <math.h>
#include <string.h>

enum {
    FRAMES = 24, /* of which a mean is taken: lists are made anew within */
    MOST_ROUNDS = 12
};

static ikv_kit *kit;
static ikv_scene *scene;
static ikv_overlaps *overlaps;
static ikv_target *targets;
static ikv_motion *motions;
static float (*boxes)[4];
static float (*speeds)[2];
static uint32_t count, moving;
static uint32_t crowd = 1; /* pairs that touch, for each body */
static float side, speed = 1;
static uint64_t seed, step;
static pair_finder *finder;
static callee on_change;
static uint64_t changes[2];

static float real(float from, float to)
{
    seed = seed * 6364136223846793005u + 1442695040888963407u;
    return from + (to - from) * (float)(seed >> 40) / (float)(1u << 24);
}

/* So dense that there are about `crowd` times as many pairs as bodies. */
static void open_bodies(uint32_t n)
{
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_port port = ikv_null_port();
    config.memory = counting_memory();
    config.bus.targets = n;
    config.overlaps.pairs = 8 * n * crowd;
    config.overlaps.contacts = 3 * n * crowd;
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &kit) < 0)
        exit(2);
    scene = ikv_kit_scene(kit);
    overlaps = ikv_kit_overlaps(kit);
    count = n;
    seed = n;
    step = 0;
    changes[0] = changes[1] = 0;
    /* a body has on average two neighbours for each pair */
    side = sqrtf(2 * (float)n / (float)crowd) * 10;
    targets = calloc(n, sizeof *targets);
    motions = calloc(n, sizeof *motions);
    boxes = calloc(n, sizeof *boxes);
    speeds = calloc(n, sizeof *speeds);
    on_change = (callee){count_call, &changes[1]};
    finder = pair_finder_open(n, 4 * n * crowd + 64, &on_change);
    ikv_target none = {0};
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_OVERLAP_ENTER, none, count_call,
                 &changes[0], NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_OVERLAP_LEAVE, none, count_call,
                 &changes[0], NULL);
    for (uint32_t i = 0; i < n; i++) {
        ikv_target_config c = IKV_TARGET_INIT;
        ikv_sensing sensing = IKV_SENSING_INIT;
        c.x = real(0, side);
        c.y = real(0, side);
        c.shape = ikv_scene_rect(0, 0, 10, 10);
        c.hit = IKV_HIT_OFF;
        c.tags = sensing.senses = 1;
        if (ikv_scene_add(scene, &c, &targets[i], NULL) < 0 ||
            ikv_overlaps_sense(overlaps, targets[i], &sensing) < 0)
            exit(2);
        boxes[i][0] = c.x;
        boxes[i][1] = c.y;
        boxes[i][2] = c.x + 10;
        boxes[i][3] = c.y + 10;
        speeds[i][0] = real(-speed, speed);
        speeds[i][1] = real(-speed, speed);
    }
    /* the first step tells of all: it is not what is measured */
    ikv_overlaps_step(overlaps, step++, 0);
    pair_finder_frame(finder, (const float(*)[4])boxes, side);
}

static void close_bodies(void)
{
    pair_finder_close(finder);
    ikv_kit_close(kit);
    free(targets);
    free(motions);
    free(boxes);
    free(speeds);
}

/* The same bodies in both, back from the edges. */
static void move_bodies(void)
{
    /* spread over all of them */
    uint32_t stride = count / moving, n = 0;
    for (uint32_t k = 0; k < moving; k++) {
        uint32_t i = k * stride;
        for (int axis = 0; axis < 2; axis++) {
            float at = boxes[i][axis] + speeds[i][axis];
            if (at < 0 || at > side)
                speeds[i][axis] = -speeds[i][axis];
            boxes[i][axis] = at;
            boxes[i][axis + 2] = at + 10;
        }
        motions[n++] = (ikv_motion){targets[i], boxes[i][0], boxes[i][1]};
    }
    ikv_scene_move_many(scene, motions, n);
}

static void find_by_grid(void)
{
    pair_finder_frame(finder, (const float(*)[4])boxes, side);
}

static void find_by_scan(void)
{
    pair_finder_scan(finder, (const float(*)[4])boxes);
}

static void find_by_tree(void)
{
    pair_finder_tree(finder, (const float(*)[4])boxes);
}

/* Means over frames, the least of the rounds; both see the same frames. */
static void measure_bodies(const char *name, const char *baseline,
                           double budget, void (*theirs)(void))
{
    double least[2] = {1e18, 1e18};
    for (int round = 0; round < MOST_ROUNDS; round++) {
        double sum[2] = {0, 0};
        for (int frame = 0; frame < FRAMES; frame++) {
            move_bodies();
            uint64_t begin = read_clock(NULL);
            ikv_overlaps_step(overlaps, step++, 0);
            uint64_t middle = read_clock(NULL);
            theirs();
            uint64_t end = read_clock(NULL);
            sum[0] += (double)(middle - begin) / FRAMES;
            sum[1] += (double)(end - middle) / FRAMES;
            ikv_overlaps_counts counts = IKV_OVERLAPS_COUNTS_INIT;
            ikv_overlaps_counters(overlaps, &counts);
            /* both found the same, and told as often: else neither is timed */
            if (counts.touching != pair_finder_count(finder) ||
                changes[0] != changes[1]) {
                fprintf(stderr, "%s: %u pairs, the baseline has %u\n", name,
                        counts.touching, pair_finder_count(finder));
                exit(2);
            }
        }
        for (int i = 0; i < 2; i++)
            least[i] = sum[i] < least[i] ? sum[i] : least[i];
    }
    compare(name, baseline, budget, 1.2, least[0], least[1]);
}

/* Making the list anew shall not be felt: of rounds of frames the one whose
 * longest is the least, beside the mean. */
static void measure_worst(const char *name)
{
    double least = 1e18, mean = 1e18;
    for (int round = 0; round < MOST_ROUNDS; round++) {
        double sum = 0, longest = 0;
        for (int frame = 0; frame < FRAMES; frame++) {
            move_bodies();
            uint64_t begin = read_clock(NULL);
            ikv_overlaps_step(overlaps, step++, 0);
            double took = (double)(read_clock(NULL) - begin);
            longest = took > longest ? took : longest;
            sum += took / FRAMES;
        }
        least = longest < least ? longest : least;
        mean = sum < mean ? sum : mean;
    }
    compare(name, "the mean one", 2, 1.2, least, mean);
}

static void worst_rows_of(const char *few, const char *all)
{
    moving = count / 10;
    measure_worst(few);
    moving = count;
    measure_worst(all);
}

static const struct {
    uint32_t bodies;
    const char *all, *few;
    double all_budget, few_budget, tree_budget;
} sizes[] = {{100, "overlaps, 100 moving bodies", NULL, 1, 0, 0},
             {1000, "overlaps, 1,000 moving bodies",
              "overlaps, 1% of 1,000 moving", 0.8, 0.05, 0.25},
             {10000, "overlaps, 10,000 moving bodies",
              "overlaps, 1% of 10,000 moving", 0.8, 0.05, 0.35},
             {100000, "overlaps, 100,000 moving bodies",
              "overlaps, 1% of 100,000 moving", 0.8, 0.05, 0}};

static void body_rows(void)
{
    for (size_t i = 0; i < sizeof sizes / sizeof sizes[0]; i++) {
        if (counting_only)
            break; /* these are times alone */
        open_bodies(sizes[i].bodies);
        moving = count;
        measure_bodies(sizes[i].all, "grid, sorted pairs merged",
                       sizes[i].all_budget, find_by_grid);
        if (count == 1000)
            measure_bodies(sizes[i].all, "all pairs", 0.08, find_by_scan);
        if (sizes[i].tree_budget > 0)
            measure_bodies(sizes[i].all, "Boost's R-tree, sorted pairs merged",
                           sizes[i].tree_budget, find_by_tree);
        moving = count / 100;
        if (sizes[i].few != NULL)
            measure_bodies(sizes[i].few, "grid, sorted pairs merged",
                           sizes[i].few_budget, find_by_grid);
        if (count == 10000)
            worst_rows_of("the longest frame, 10% of 10,000 moving",
                          "the longest frame, 10,000 moving");
        close_bodies();
    }
}

/* Crowded, and fast: a body's side in a frame. */
static const struct {
    const char *name;
    uint32_t bodies, crowd;
    float speed;
} worse[] = {{"overlaps, 1,000 moving, 8 pairs each", 1000, 8, 1},
             {"overlaps, 10,000 moving, 8 pairs each", 10000, 8, 1},
             {"overlaps, 1,000 fast bodies", 1000, 1, 10},
             {"overlaps, 10,000 fast bodies", 10000, 1, 10}};

static void worse_rows(void)
{
    for (size_t i = 0; i < sizeof worse / sizeof worse[0]; i++) {
        if (counting_only)
            break;
        crowd = worse[i].crowd;
        speed = worse[i].speed;
        open_bodies(worse[i].bodies);
        moving = count;
        measure_bodies(worse[i].name, "grid, sorted pairs merged", 1.2,
                       find_by_grid);
        close_bodies();
    }
    crowd = 1;
    speed = 1;
}

/* -------------------------------------------------------------- actions -- */

enum {
    KEYS = 100,
    BINDINGS = 1000
};

static ikv_actions *actions;
static ikv_state *state;
static ikv_event presses[2 * KEYS];
static uint64_t heard;
static binding_row plain_bindings[BINDINGS];
static callee on_action;

static void press_ours(void)
{
    for (uint32_t i = 0; i < 2 * KEYS; i++) {
        ikv_state_take(state, IKV_STATE_UNCLAIMED, &presses[i]);
        ikv_actions_take(actions, &presses[i], false);
        ikv_actions_settle(actions, presses[i].time_ns, false, false);
    }
}

static void press_plain(void)
{
    for (uint32_t i = 0; i < 2 * KEYS; i++)
        match_bindings(plain_bindings, BINDINGS, &presses[i], &on_action);
}

/* Ten bindings a key, nine of them chords that are not complete. */
static void action_rows(void)
{
    static const char *const others[] = {
        "",          "Control+",     "Alt+",
        "Meta+",     "Control+Alt+", "Control+Meta+",
        "Alt+Meta+", "F13+",         "F14+",
        "F15+"};
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_port port = ikv_null_port();
    ikv_target none = {0};
    config.memory = counting_memory();
    config.actions.actions = config.actions.bindings = BINDINGS;
    config.actions.name_bytes = 65536;
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &kit) < 0)
        exit(2);
    actions = ikv_kit_actions(kit);
    state = ikv_kit_state(kit);
    on_action = (callee){count_call, &heard};
    for (uint32_t i = 0; i < BINDINGS; i++) {
        char name[32], text[64];
        ikv_action_id id;
        uint32_t code = ikv_code_list(i % KEYS);
        snprintf(name, sizeof name, "action %u", i);
        snprintf(text, sizeof text, "%s%s", others[i / KEYS],
                 ikv_code_name(code));
        if (ikv_actions_add(actions, IKV_MAIN_SET, name, &id) < 0)
            exit(2);
        /* a key together with itself is refused */
        if (ikv_actions_bind(actions, id, text, NULL, NULL) < 0 &&
            strstr(text, "F1") == NULL)
            exit(2);
        plain_bindings[i] = (binding_row){code, i / KEYS, id.bits};
    }
    for (ikv_kind kind = IKV_KIND_ACTION_START; kind <= IKV_KIND_ACTION_END;
         kind++)
        ikv_bus_hear(ikv_kit_bus(kit), kind, none, count_call, &heard, NULL);
    for (uint32_t i = 0; i < 2 * KEYS; i++) {
        presses[i] =
            ikv_event_make(i % 2 ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN, i);
        presses[i].key.code = ikv_code_list(i / 2);
        /* routed already: only actions are timed */
        presses[i].target = ikv_bus_root(ikv_kit_bus(kit));
    }
    measure("actions: a key event, 1,000 bindings", "a loop over all of them",
            1, 1.2, 2 * KEYS, press_ours, press_plain);
    ikv_kit_close(kit);
}

/* ---------------------------------------------------------------- state -- */

static uint8_t down_now[256], down_before[256];
static volatile uint32_t answers;

static void state_ours(void)
{
    for (uint32_t i = 0; i < 2 * KEYS; i += 20) {
        ikv_state_begin_step(state, i);
        /* ten keys down and up a step */
        for (uint32_t k = 0; k < 20; k++)
            ikv_state_take(state, IKV_STATE_RAW, &presses[i + k]);
        for (uint32_t k = 0; k < KEYS; k++) {
            ikv_key_state key =
                ikv_state_key(state, IKV_STATE_RAW, 0, presses[2 * k].key.code);
            answers += key.down + key.went_down;
        }
    }
}

static void state_plain(void)
{
    for (uint32_t i = 0; i < 2 * KEYS; i += 20) {
        keys_begin(down_now, down_before);
        for (uint32_t k = 0; k < 20; k++)
            keys_take(down_now, &presses[i + k]);
        for (uint32_t k = 0; k < KEYS; k++)
            answers += keys_ask(down_now, down_before, presses[2 * k].key.code);
    }
}

static void state_row(void)
{
    ikv_state_config config = IKV_STATE_INIT;
    config.memory = counting_memory();
    if (ikv_state_open(&config, &state) < 0)
        exit(2);
    measure("state: a step of 20 key events, 100 asked",
            "two arrays of what is down", 0, 1.2, 10, state_ours, state_plain);
    ikv_state_close(state);
}

/* ----------------------------------------------------------- announcing -- */

static ikv_kit *silent_kit;
static ikv_target announced[1000], silent[1000];
static float shift;

static void move_all(ikv_kit *in, const ikv_target *list)
{
    ikv_scene *of = ikv_kit_scene(in);
    for (uint32_t i = 0; i < 1000; i++)
        ikv_scene_move(of, list[i], (float)i + shift, 0);
}

static void move_announced(void)
{
    shift = 1 - shift;
    move_all(kit, announced);
}

static void move_silent(void)
{
    shift = 1 - shift;
    move_all(silent_kit, silent);
}

static ikv_kit *open_moving(bool announces, ikv_target *list)
{
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_port port = ikv_null_port();
    ikv_kit *opened;
    config.memory = counting_memory();
    config.scene.announces = announces;
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &opened) < 0)
        exit(2);
    for (uint32_t i = 0; i < 1000; i++) {
        ikv_target_config c = IKV_TARGET_INIT;
        c.shape = ikv_scene_rect(0, 0, 10, 10);
        if (ikv_scene_add(ikv_kit_scene(opened), &c, &list[i], NULL) < 0)
            exit(2);
    }
    return opened;
}

static void announce_row(void)
{
    kit = open_moving(true, announced);
    /* two kits, since the flag is for good */
    silent_kit = open_moving(false, silent);
    measure("a move that is announced, nobody listens", "one that is not", 1.05,
            1.2, 1000, move_announced, move_silent);
    ikv_kit_close(kit);
    ikv_kit_close(silent_kit);
}

void overlap_rows(void)
{
    body_rows();
    worse_rows();
    action_rows();
    state_row();
    announce_row();
}
