/* test_replay.c - made-up games, played by made-up input of hardware that
 * breaks, whose handlers do anything with targets, pointers, actions and the
 * clock: what is recorded of them plays back the same, at other frame rates.
 *
 * All that a handler does follows from what was told so far. */
#include "support.h"

#include <ikvar/digest.h>
#include <ikvar/image.h>

#include <stdlib.h>
#include <unistd.h>

enum {
    TARGETS = 40,
    PLAYS = 3,
    INPUTS = 4096,
    MOST_FRAMES = 20000
};

static const uint32_t rates[] = {60, 24, 144, 30, 1000};

typedef struct game {
    ikv_kit *kit;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_loop *loop;
    ikv_actions *actions;
    ikv_overlaps *overlaps;
    ikv_target targets[TARGETS];
    ikv_action_id ids[2];
    ikv_digest digest;
    uint64_t told;   /* a sum of all that handlers were told */
    uint64_t traits; /* of its seed: which calls it makes, how often */
} game;

static uint64_t mix(uint64_t sum, uint64_t with)
{
    sum = (sum ^ with) * UINT64_C(0x9e3779b97f4a7c15);
    return sum ^ sum >> 29;
}

/* Takes a number below `limit` off the dice. */
static uint32_t off(uint64_t *dice, uint32_t limit)
{
    uint32_t number = (uint32_t)(*dice % limit);
    *dice /= limit;
    return number;
}

static ikv_target some(const game *g, uint64_t *dice)
{
    return g->targets[off(dice, TARGETS)];
}

static void add_target(game *g, uint32_t i, uint64_t dice)
{
    static const uint32_t traits[] = {0, IKV_FOCUSABLE, IKV_CAPTURES,
                                      IKV_PASSES,
                                      IKV_FOCUSABLE | IKV_TAKES_TEXT};
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_target parent = g->targets[(i * 7 + 1) % TARGETS];
    float large = off(&dice, 9) == 0 ? 300 : 60;
    config.id = i + 1;
    config.x = (float)off(&dice, 600);
    config.y = (float)off(&dice, 330);
    config.shape = off(&dice, 3) == 0 ? ikv_scene_circle(0, 0, large / 2)
                                      : ikv_scene_rect(0, 0, large, large / 2);
    config.layer = off(&dice, 2);
    if (off(&dice, 4) == 0 && ikv_scene_alive(g->scene, parent))
        config.parent = parent;
    config.traits = traits[off(&dice, ROWS(traits))];
    config.z = (int32_t)off(&dice, 5);
    config.tags = 1 + off(&dice, 7);
    config.body = off(&dice, 5) == 0;
    sensing.senses = off(&dice, 8);
    sensing.linger = (uint16_t)off(&dice, 3);
    sensing.scope = (uint8_t)off(&dice, 2);
    if (ikv_scene_add(g->scene, &config, &g->targets[i], NULL) == IKV_OK)
        ok(ikv_overlaps_sense(g->overlaps, g->targets[i], &sensing));
}

static void move_or_remove(game *g, uint64_t dice)
{
    uint32_t i = off(&dice, TARGETS);
    ikv_target target = g->targets[i];
    if (!ikv_scene_alive(g->scene, target))
        add_target(g, i, mix(dice, i));
    else if (off(&dice, 12) == 0)
        ikv_scene_remove(g->scene, target);
    else if (off(&dice, 6) == 0)
        ikv_scene_set_parent(g->scene, target, some(g, &dice));
    else if (off(&dice, 6) == 0)
        ikv_scene_show(g->scene, target, off(&dice, 3) > 0);
    else
        ikv_scene_move(g->scene, target, (float)off(&dice, 600),
                       (float)off(&dice, 330));
}

static void use_pointer(const game *g, const ikv_event *event, uint64_t dice)
{
    ikv_target target = some(g, &dice);
    switch (off(&dice, 6)) {
    case 0:
        ikv_router_capture(g->router, event, target);
        break;
    case 1:
        ikv_router_release(g->router, event, target);
        break;
    case 2:
        ikv_router_drag(g->router, event, target);
        break;
    case 3:
        ikv_router_attach(g->router, event, target);
        break;
    case 4:
        ikv_router_focus(g->router, (uint8_t)off(&dice, 3), target);
        break;
    default:
        ikv_router_set_modal(g->router, (uint8_t)off(&dice, 3),
                             off(&dice, 4) ? (ikv_target){0} : target);
        break;
    }
}

static void turn_clock(const game *g, const ikv_event *event, uint64_t dice)
{
    static const uint32_t scales[] = {1000, 500, 2300};
    uint8_t seat = (uint8_t)off(&dice, 3);
    switch (off(&dice, 6)) {
    case 0:
        if (g->traits % 2 == 0 && off(&dice, 3) == 0)
            ikv_loop_pause(g->loop);
        break;
    case 1:
        ikv_loop_resume(g->loop);
        break;
    case 2:
        ikv_loop_single_step(g->loop);
        break;
    case 3:
        if (g->traits % 3 == 0)
            ikv_loop_set_scale(g->loop, scales[off(&dice, ROWS(scales))]);
        break;
    case 4:
        if (g->traits % 5 < 3)
            ikv_loop_set_seat(g->loop, event->device, seat);
        break;
    default:
        if (g->traits % 7 == 0)
            ikv_loop_set_sticky(g->loop, seat, off(&dice, 2) > 0);
        break;
    }
}

static void use_actions(const game *g, uint64_t dice)
{
    uint8_t seat = (uint8_t)off(&dice, 3);
    switch (off(&dice, 4)) {
    case 0:
        ikv_actions_switch(g->actions, (ikv_action_set)off(&dice, 2), seat,
                           off(&dice, 3) > 0);
        break;
    case 1:
        ikv_actions_push(g->actions, 1, seat, off(&dice, 3) == 0);
        break;
    case 2:
        ikv_actions_pop(g->actions, seat);
        break;
    default:
        ikv_actions_feed(g->actions, g->ids[off(&dice, 2)], seat,
                         (float)off(&dice, 2), 0);
        break;
    }
}

static void defer(const game *g, const ikv_event *event, uint64_t dice)
{
    ikv_event later = ikv_event_make(IKV_KIND_FIELD_SET, event->time_ns);
    later.target = some(g, &dice);
    switch (off(&dice, 3)) {
    case 0:
        ikv_bus_defer(g->bus, IKV_STEP_LANE, &later);
        break;
    case 1:
        ikv_bus_defer_after(g->bus, IKV_STEP_LANE, off(&dice, 200) * 1000000,
                            &later, NULL);
        break;
    default:
        ikv_bus_deliver(g->bus, &later);
        break;
    }
}

/* S1: what is down is of the step, whatever frames there are. */
static uint64_t ask_state(const game *g, uint64_t dice)
{
    const ikv_state *state = ikv_kit_state(g->kit);
    uint32_t filter = off(&dice, 2);
    uint8_t seat = (uint8_t)off(&dice, 3);
    ikv_key_state any = ikv_state_any_key(state, filter, seat);
    uint64_t told = mix(any.down, any.went_down | (uint64_t)any.went_up << 8);
    ikv_pointer_state p;
    for (uint32_t i = 0; ikv_state_pointer(state, filter, i, &p); i++)
        told = mix(told, p.buttons | (uint64_t)p.pointer << 16 |
                             (uint64_t)(uint32_t)p.x << 32);
    return mix(told, ikv_state_refused(state));
}

static ikv_verdict act(const ikv_event *event, const ikv_delivery *delivery,
                       void *user)
{
    game *g = user;
    uint64_t sum = mix(event->kind, delivery->current.bits);
    sum = mix(mix(sum, event->time_ns), delivery->step);
    g->told = mix(g->told, mix(sum, ask_state(g, sum)));
    uint64_t dice = g->told;
    if (off(&dice, 3 + (uint32_t)(g->traits >> 8) % 20) == 0)
        switch (off(&dice, 8)) {
        case 0:
        case 1:
            use_pointer(g, event, dice);
            break;
        case 2:
        case 3:
            turn_clock(g, event, dice);
            break;
        case 4:
            use_actions(g, dice);
            break;
        case 5:
            defer(g, event, dice);
            break;
        default:
            move_or_remove(g, dice);
            break;
        }
    dice = g->told >> 7;
    return off(&dice, 37) == 0   ? IKV_STOP
           : off(&dice, 41) == 0 ? IKV_REFUSE
           : off(&dice, 9) == 0  ? IKV_ACCEPT
                                 : IKV_CONTINUE;
}

static void watch_game(const ikv_watch *watch, void *user)
{
    game *g = user;
    ikv_digest_add(&g->digest, g->bus, watch);
}

static void listen_all(game *g, uint64_t dice)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_DOWN,  IKV_KIND_POINTER_UP,
        IKV_KIND_POINTER_MOVE,  IKV_KIND_POINTER_CANCEL,
        IKV_KIND_POINTER_CLICK, IKV_KIND_POINTER_OVER,
        IKV_KIND_POINTER_OUT,   IKV_KIND_POINTER_ENTER,
        IKV_KIND_POINTER_LEAVE, IKV_KIND_POINTER_CAPTURE_GOT,
        IKV_KIND_POINTER_DRAG,  IKV_KIND_POINTER_HOLD,
        IKV_KIND_WHEEL,         IKV_KIND_KEY_DOWN,
        IKV_KIND_KEY_UP,        IKV_KIND_DRAG_ENTER,
        IKV_KIND_DRAG_DROP,     IKV_KIND_DRAG_END,
        IKV_KIND_OVERLAP_ENTER, IKV_KIND_OVERLAP_LEAVE,
        IKV_KIND_ACTION_START,  IKV_KIND_ACTION_END,
        IKV_KIND_FIELD_SET,     IKV_KIND_DEVICE_REMOVE,
        IKV_KIND_DEVICE_RESYNC, IKV_KIND_POINTER_CAPTURE_LOST};
    for (uint32_t i = 0; i < ROWS(kinds); i++) {
        hears(g->bus, kinds[i], (ikv_target){0}, act, g);
        for (uint32_t t = 0; t < TARGETS; t++)
            if ((dice = mix(dice, t)) % 3 == 0)
                hears(g->bus, kinds[i], g->targets[t], act, g);
    }
}

/* Its shape follows from the seed; frame rate and steps a frame do not matter. */
static void open_game(game *g, const ikv_port *port, uint64_t seed,
                      uint32_t frame_hz)
{
    static const uint32_t steps[] = {30, 60, 120, 59};
    static const char *const bindings[][2] = {{"KeyF", "pointer.secondary"},
                                              {"Space", "pointer.click"}};
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_action_set set;
    uint64_t dice = mix(seed, 1);
    memset(g, 0, sizeof *g);
    g->digest = (ikv_digest)IKV_DIGEST_INIT;
    config.memory = ikv_host_memory();
    config.ports = port;
    config.port_count = 1;
    config.scene.layers = 2;
    config.bus.depth = 6;
    config.loop.frame_hz = frame_hz;
    config.loop.timing = off(&dice, 3) == 0 ? IKV_AT_FRAME : IKV_IN_STEP;
    config.loop.step_num = steps[off(&dice, ROWS(steps))];
    config.loop.max_steps = off(&dice, 3) == 0 ? 2 : 0;
    config.loop.samples = off(&dice, 3) == 0 ? 4 : 0;
    /* So little room that a burst does not fit in. */
    if (off(&dice, 2) == 0)
        config.loop.pending = config.queue.own_capacity = 64;
    if (off(&dice, 2) == 0)
        config.state.keys = config.state.pointers = 2;
    ok(ikv_kit_open(&config, &g->kit));
    g->bus = ikv_kit_bus(g->kit);
    g->scene = ikv_kit_scene(g->kit);
    g->router = ikv_kit_router(g->kit);
    g->loop = ikv_kit_loop(g->kit);
    g->actions = ikv_kit_actions(g->kit);
    g->overlaps = ikv_kit_overlaps(g->kit);
    g->traits = dice;
    ok(ikv_actions_add_set(g->actions, "menu", &set));
    ok(ikv_actions_add(g->actions, IKV_MAIN_SET, "horn", &g->ids[0]));
    ok(ikv_actions_add(g->actions, set, "rail", &g->ids[1]));
    for (int i = 0; i < 4; i++)
        ok(ikv_actions_bind(g->actions, g->ids[i / 2], bindings[i / 2][i % 2],
                            NULL, NULL));
    for (uint32_t i = 0; i < TARGETS; i++)
        add_target(g, i, mix(seed, i + 1));
    ok(ikv_bus_add_watcher(g->bus, IKV_DIGEST_WANTS, watch_game, g));
    listen_all(g, seed);
}

static void run_to_its_end(game *g)
{
    uint32_t frames = 0;
    ikv_parts parts = ikv_kit_parts(g->kit);
    while (whole_frame(g->loop)) {
        if (frames % 100 == 0)
            valid_parts(&parts);
        ck_assert_uint_lt(frames++, MOST_FRAMES);
    }
    valid_parts(&parts);
}

static ikv_digest record_game(uint64_t seed, const char *path)
{
    game g;
    ikv_port port;
    ikv_recording *recording;
    ikv_recording_config where = IKV_RECORDING_INIT;
    uint64_t dice = mix(seed, 2);
    ikv_sim_config made_up = IKV_SIM_INIT;
    ikv_sim_faults faults = {.lost_release = (uint16_t)off(&dice, 30),
                             .flood = (uint16_t)off(&dice, 5),
                             .unplug = (uint16_t)off(&dice, 10),
                             .blur = (uint16_t)off(&dice, 10),
                             .duplicate = (uint16_t)off(&dice, 20),
                             .late = (uint16_t)off(&dice, 40),
                             .reorder = (uint16_t)off(&dice, 40),
                             .clock_jump = (uint16_t)off(&dice, 5)};
    made_up.seed = (uint32_t)seed + 1;
    made_up.until_ns = 5000000000;
    made_up.faults = off(&dice, 2) ? &faults : NULL;
    ok(ikv_sim_open(&made_up, &port));
    open_game(&g, &port, seed, rates[off(&dice, ROWS(rates))]);
    where.path = path;
    where.kit = g.kit;
    ok(ikv_recording_open(&where, &recording, NULL));
    run_to_its_end(&g);
    ok(ikv_recording_close(recording, NULL));
    ikv_kit_close(g.kit);
    ikv_sim_close(&port);
    return g.digest;
}

static ikv_digest play_game(uint64_t seed, const char *path, uint32_t frame_hz)
{
    game g;
    ikv_port port;
    ikv_sim_config played = IKV_SIM_INIT;
    ikv_comparison *comparison;
    ok(ikv_tape_open(path, NULL, &played.tape, NULL));
    ok(ikv_sim_open(&played, &port));
    open_game(&g, &port, seed, frame_hz);
    ok(ikv_comparison_open(g.kit, played.tape, &comparison));
    run_to_its_end(&g);
    ikv_comparison_result result = ikv_comparison_close(comparison);
    ck_assert_msg(result.whole && !result.differs,
                  "seed %u at %u Hz: differs between steps %u and %u",
                  (unsigned)seed, frame_hz, (unsigned)result.from_step,
                  (unsigned)result.to_step);
    ikv_kit_close(g.kit);
    ikv_sim_close(&port);
    ikv_tape_close(played.tape);
    return g.digest;
}

/* T1, L1: four games a row. */
START_TEST(played_back)
{
    uint64_t deliveries = 0;
    for (uint64_t seed = (uint64_t)_i * 4; seed < (uint64_t)_i * 4 + 4;
         seed++) {
        char path[40];
        snprintf(path, sizeof path, "game%u.tape.%s", (unsigned)seed,
                 seed % 2 ? "cbor" : "jsonl");
        ikv_digest recorded = record_game(seed, path);
        for (uint64_t play = 0; play < PLAYS; play++) {
            ikv_digest played =
                play_game(seed, path, rates[(seed + play) % ROWS(rates)]);
            ck_assert_uint_eq(played.value, recorded.value);
            ck_assert_uint_eq(played.deliveries, recorded.deliveries);
        }
        deliveries += recorded.deliveries;
        remove(path);
    }
    ck_assert_uint_gt(deliveries, 5000);
}
END_TEST

/* What a game that goes back has kept: the last image, and what came in since. */
typedef struct way_back {
    void *image;
    size_t size;
    game then;
    uint64_t dice;
    uint32_t count, until, times;
    ikv_taken since[INPUTS];
    uint8_t data[INPUTS][64];
} way_back;

static void keep_input(const ikv_event *event, const ikv_intake *intake,
                       void *user)
{
    way_back *back = user;
    ck_assert_uint_lt(back->count, INPUTS);
    ikv_taken *to = &back->since[back->count];
    *to = (ikv_taken){*event, *intake};
    if (intake->data_size > 0) {
        ck_assert_uint_le(intake->data_size, sizeof back->data[0]);
        memcpy(back->data[back->count], intake->data, intake->data_size);
        to->intake.data = back->data[back->count];
    }
    back->count++;
}

/* Saves now and then, and some steps later goes back, once. */
static void go_back(game *g, way_back *back)
{
    const ikv_parts parts = ikv_kit_parts(g->kit);
    uint32_t step = (uint32_t)ikv_loop_step_number(g->loop);
    if (back->until == 0 && step % 8 == 0) {
        ok(ikv_image_save(&parts, back->image, back->size));
        back->then = *g;
        back->count = 0;
        back->until = step + 1 + off(&back->dice, 7);
        back->dice = mix(back->dice, step);
    } else if (back->until != 0 && step >= back->until) {
        ikv_status status = ikv_image_restore(&parts, back->image, back->size,
                                              back->since, back->count);
        back->until = 0;
        if (status == IKV_FULL_PENDING)
            return; /* a game of little room; nothing has changed */
        ok(status);
        valid_parts(&parts);
        *g = back->then;
        back->times++;
    }
}

static ikv_digest live_game(uint64_t seed, way_back *back)
{
    game g;
    ikv_port port;
    ikv_sim_config made_up = IKV_SIM_INIT;
    made_up.seed = (uint32_t)seed + 1;
    made_up.until_ns = 5000000000;
    ok(ikv_sim_open(&made_up, &port));
    open_game(&g, &port, seed, rates[seed % ROWS(rates)]);
    if (back != NULL) {
        ikv_parts parts = ikv_kit_parts(g.kit);
        back->size = ikv_image_size(&parts);
        back->image = malloc(back->size);
        ok(ikv_loop_set_recorder(g.loop, keep_input, back));
    }
    while (ikv_loop_begin(g.loop)) {
        while (ikv_loop_step(g.loop))
            if (back != NULL)
                go_back(&g, back);
        ok(ikv_loop_end(g.loop));
    }
    if (back != NULL)
        free(back->image);
    ikv_kit_close(g.kit);
    ikv_sim_close(&port);
    return g.digest;
}

/* T1: steps that are run again from an image are the same steps. */
START_TEST(gone_back)
{
    static way_back back;
    for (uint64_t seed = (uint64_t)_i * 4; seed < (uint64_t)_i * 4 + 4;
         seed++) {
        back = (way_back){.dice = mix(seed, 3)};
        ikv_digest plain = live_game(seed, NULL),
                   again = live_game(seed, &back);
        ck_assert_msg(plain.value == again.value &&
                          plain.deliveries == again.deliveries,
                      "seed %u: %u and %u", (unsigned)seed,
                      (unsigned)plain.deliveries, (unsigned)again.deliveries);
        ck_assert_uint_gt(back.times, 3);
    }
}
END_TEST

/* A small game on a port whose input is named, recorded and then played: what
 * it was told. */
typedef struct small_game {
    const char *rule;
    void (*shape)(bench_kit *k);
    /* What is pushed before the frame, and which follow; false at the end. */
    bool (*push)(bench_kit *k, uint32_t frame);
    ikv_kind kinds[6];
    ikv_handler handler;
    const char *told; /* step, kind, samples, time in ms */
    /* Its last frame, if that ends otherwise than as the port does. */
    void (*end)(bench_kit *k);
} small_game;

static record small_told;
static ikv_action_id small_horn;
static bool small_live;     /* it is recorded, and not played */
static ikv_lane small_lane; /* that only handlers flush */
static bool small_halts;    /* the program begins with a single step */
static bool small_seats;    /* and seats its device before */
static int small_lamps;     /* that handlers have made */

static void push_moves(bench_kit *k, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k->fake.now_ns);
        e.device = k->fake.device;
        e.pointer.x = (float)i;
        ok(ikv_sink_push(k->fake.sink, &e));
    }
}

static void push_key(const bench_kit *k)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k->fake.now_ns);
    e.device = k->fake.device;
    e.key.code = IKV_CODE(4);
    ok(ikv_sink_push(k->fake.sink, &e));
}

/* A ring of 64, of which the first group takes more than half. */
static void at_frame(bench_kit *k)
{
    k->config.loop.timing = IKV_AT_FRAME;
}

static void at_a_halt(bench_kit *k)
{
    at_frame(k);
    small_halts = true;
}

static void with_a_seat(bench_kit *k)
{
    (void)k;
    small_seats = true;
}

static void of_a_film(bench_kit *k)
{
    k->config.loop.step_num = 60000;
    k->config.loop.step_den = 1001;
}

static bool push_groups(bench_kit *k, uint32_t frame)
{
    push_moves(k, frame == 0 ? 40 : 64);
    return frame < 3;
}

static void two_steps_a_frame(bench_kit *k)
{
    k->config.loop.max_steps = 2;
}

static bool push_nothing(bench_kit *k, uint32_t frame)
{
    (void)k;
    return frame < 4;
}

static ikv_verdict note_told(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)user;
    note(&small_told, "%u:%s:%u:%u ", (unsigned)delivery->step,
         ikv_catalogue_info(NULL, event->kind)->name, delivery->sample_count,
         (unsigned)(event->time_ns / 1000000));
    return IKV_CONTINUE;
}

/* The last steps leave more due than a frame may run. */
static ikv_verdict hurry(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    bench_kit *k = user;
    if (event->loop.step >= 8)
        ikv_loop_set_scale(k->loop, 20000);
    return note_told(event, delivery, NULL);
}

/* Paused, a finger's hold puts a lamp beneath the mouse, and what that tells
 * makes the clock go on: at the time of the frame that looked. */
static void short_holds(bench_kit *k)
{
    k->config.router.hold_ns = 70000000;
}

static bool push_finger(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, k->fake.now_ns);
    e.device = k->fake.device;
    e.pointer.pointer = 1;
    e.pointer.type = IKV_TOUCH;
    if (frame == 0)
        push_moves(k, 1);
    if (frame == 2) {
        ok(ikv_sink_push(k->fake.sink, &e));
        ok(ikv_loop_pause(k->loop));
    }
    return frame < 7;
}

static ikv_verdict light_up(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    bench_kit *k = user;
    if (event->kind == IKV_KIND_POINTER_HOLD) {
        ikv_target lamp =
            rect_target(k->scene, (ikv_target){0}, -5, -5, 10, 10, 0);
        ok(ikv_scene_set_traits(k->scene, lamp, IKV_FOCUSABLE));
        ok(ikv_router_focus(k->router, 0, lamp));
        ikv_loop_set_seat(k->loop, event->device, 2);
        ikv_actions_feed(ikv_kit_actions(k->kit), small_horn, 0, 1, 0);
    }
    if (event->kind == IKV_KIND_POINTER_OVER &&
        event->pointer.type == IKV_MOUSE)
        ikv_loop_resume(k->loop);
    return note_told(event, delivery, NULL);
}

/* Another thread defers in each frame: what it has deferred in the last one is
 * delivered as the run ends, and who hears of it asks for a pause. */
static ikv_verdict hear_late(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    ikv_event deferred = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    if (event->kind != IKV_KIND_LOOP_FRAME) {
        note_told(event, delivery, NULL);
        if (event->kind == IKV_KIND_FIELD_SET && event->time_ns >= 1008000000)
            ikv_loop_pause(k->loop);
        return IKV_CONTINUE;
    }
    /* Any time is the program's own. */
    deferred.time_ns = (1000 + delivery->step) * 1000000;
    if (small_live)
        ok(ikv_bus_defer_any(k->bus, IKV_STEP_LANE, &deferred));
    return IKV_CONTINUE;
}

/* Of five steps that are due the program runs two. */
static void begin_last(bench_kit *k)
{
    k->fake.now_ns += 50000000;
    ck_assert(ikv_loop_begin(k->loop));
    ck_assert(ikv_loop_step(k->loop));
    ck_assert(ikv_loop_step(k->loop));
}

static void leave_out(bench_kit *k)
{
    begin_last(k);
    ok(ikv_loop_end(k->loop));
}

static void quit_in_frame(bench_kit *k)
{
    begin_last(k);
    ikv_loop_quit(k->loop);
    ck_assert(!ikv_loop_step(k->loop));
    ok(ikv_loop_end(k->loop));
    ck_assert(!ikv_loop_begin(k->loop));
}

/* None of the steps that are due, though something was told within them. */
static void leave_all_out(bench_kit *k)
{
    k->fake.now_ns += 50000000;
    ck_assert(ikv_loop_begin(k->loop));
    ok(ikv_loop_end(k->loop));
}

static void turn_after_quit(bench_kit *k)
{
    begin_last(k);
    ikv_loop_quit(k->loop);
    ok(ikv_loop_end(k->loop));
    ok(ikv_loop_pause(k->loop));
    ok(ikv_loop_set_scale(k->loop, 500));
    ck_assert(!ikv_loop_begin(k->loop));
    ck_assert_int_eq(ikv_loop_resume(k->loop), IKV_ABSENT);
}

/* The clock is turned before the first frame, and then. */
static bool turn_early(bench_kit *k, uint32_t frame)
{
    if (frame == 0) {
        ok(ikv_loop_pause(k->loop));
        ck_assert_int_eq(ikv_loop_pause(k->loop), IKV_ABSENT);
        ok(ikv_loop_single_step(k->loop));
        ok(ikv_loop_set_scale(k->loop, 2000));
        ck_assert(ikv_loop_paused(k->loop));
        ck_assert_uint_eq(ikv_loop_scale(k->loop), 2000);
        ck_assert_str_eq(small_told.text, "");
    }
    if (frame == 2)
        ok(ikv_loop_resume(k->loop));
    return frame < 4;
}

static bool go_on(bench_kit *k, uint32_t frame)
{
    if (frame == 2)
        ok(ikv_loop_resume(k->loop));
    return frame < 3;
}

/* Two keys in one frame, of two steps. */
static bool push_keys(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, k->fake.now_ns + 1000000);
    e.device = k->fake.device;
    e.key.code = IKV_CODE(4);
    for (int i = 0; frame == 1 && i < 2;
         i++, e.time_ns += 14000000, e.key.code++)
        ok(ikv_sink_push(k->fake.sink, &e));
    return frame < 4;
}

/* Quits in the third step; another thread defers then, which is taken behind it. */
static ikv_verdict quit_early(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 7000000);
    (void)note_told(event, delivery, user);
    if (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 2) {
        if (small_live)
            ok(ikv_bus_defer_any(k->bus, IKV_FRAME_LANE, &e));
        ikv_loop_quit(k->loop);
    }
    return IKV_CONTINUE;
}

/* Behind the quit code beside the run pauses, and another thread defers: who
 * hears that at the end asks for a pause, too. */
static ikv_verdict quit_and_pause(const ikv_event *event,
                                  const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_FIELD_SET)
        ikv_loop_pause(k->loop);
    if (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 2)
        ikv_loop_quit(k->loop);
    return note_told(event, delivery, user);
}

static bool pause_behind_quit(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 7000000);
    if (frame == 3) {
        ok(ikv_loop_pause(k->loop));
        ok(ikv_bus_defer_any(k->bus, IKV_STEP_LANE, &e));
    }
    return frame < 4;
}

/* The third step's own code pauses and routes a key: what comes of that comes
 * as the steps stop, and not with what is next. */
static ikv_verdict route_and_pause(const ikv_event *event,
                                   const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 2) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 7000000);
        e.key.code = IKV_CODE(5);
        ikv_loop_pause(k->loop);
        ok(ikv_router_route(ikv_kit_router(k->kit), &e).status);
    }
    return note_told(event, delivery, user);
}

static bool push_key_late(bench_kit *k, uint32_t frame)
{
    if (frame == 5)
        push_key(k);
    return frame < 7;
}

/* Paused, a key puts a lamp beneath the mouse and asks for a step. That the
 * mouse is over it puts another there, which is told as the step begins: who
 * hears that flushes what another thread has deferred. */
static ikv_verdict light_two(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    bool over = event->kind == IKV_KIND_POINTER_OVER;
    if (event->kind == IKV_KIND_KEY_DOWN)
        ok(ikv_loop_single_step(k->loop));
    if (event->kind == IKV_KIND_KEY_DOWN || (over && small_lamps == 1)) {
        rect_target(k->scene, (ikv_target){0}, -5, -5, 10, 10, ++small_lamps);
        if (over && small_live) {
            ikv_event late = ikv_event_make(IKV_KIND_FIELD_SET, 900000000);
            ok(ikv_bus_defer_any(k->bus, small_lane, &late));
        }
    } else if (over && small_lamps == 2) {
        ikv_bus_flush(k->bus, small_lane, NULL);
    }
    return note_told(event, delivery, user);
}

static bool push_key_paused(bench_kit *k, uint32_t frame)
{
    push_moves(k, frame == 0);
    if (frame == 3)
        ok(ikv_loop_pause(k->loop));
    return push_key_late(k, frame);
}

/* Code of the first frame, behind its step, makes time run faster. */
static ikv_verdict scale_in_frame(const ikv_event *event,
                                  const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (small_live && event->kind == IKV_KIND_LOOP_FRAME)
        ikv_loop_set_scale(k->loop, 2000);
    return event->kind == IKV_KIND_LOOP_FRAME
               ? IKV_CONTINUE
               : note_told(event, delivery, user);
}

/* The program seats its device before the first frame, whose time it pauses at;
 * a tape has both. */
static bool pause_at_once(bench_kit *k, uint32_t frame)
{
    push_moves(k, frame == 2);
    if (frame == 1)
        ok(ikv_loop_pause(k->loop));
    return frame < 4;
}

static void defer_live(const bench_kit *k, uint64_t ms)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, ms * 1000000);
    if (small_live)
        ok(ikv_bus_defer_any(k->bus, IKV_STEP_LANE, &e));
}

/* Another thread defers in the third step, behind a handler's flush of its lane:
 * the flush at the step's end takes it. */
static ikv_verdict flush_and_defer(const ikv_event *event,
                                   const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_LOOP_STEP)
        ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    (void)note_told(event, delivery, user);
    if (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 2)
        defer_live(k, 7);
    return IKV_CONTINUE;
}

/* And before it, which takes it then. */
static ikv_verdict defer_and_flush(const ikv_event *event,
                                   const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 2)
        defer_live(k, 7);
    if (event->kind == IKV_KIND_LOOP_STEP)
        ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    return note_told(event, delivery, user);
}

/* Another thread defers between a handler's flushes, of which the second takes
 * that, and twice behind all of them. */
static ikv_verdict flush_twice(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    (void)note_told(event, delivery, user);
    if (event->kind != IKV_KIND_LOOP_STEP && event->kind != IKV_KIND_KEY_DOWN)
        return IKV_CONTINUE;
    ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    defer_live(k, 7);
    ikv_bus_flush(k->bus, small_lane, NULL);
    ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    note(&small_told, "- ");
    ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    defer_live(k, 8);
    defer_live(k, 9);
    return IKV_CONTINUE;
}

/* In a step, and in a pause. */
static bool push_key_twice(bench_kit *k, uint32_t frame)
{
    if (frame == 1 || frame == 3)
        push_key(k);
    if (frame == 2)
        ok(ikv_loop_pause(k->loop));
    return frame < 4;
}

/* Quits and flushes: another thread defers after that. */
static ikv_verdict quit_and_flush(const ikv_event *event,
                                  const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_KEY_DOWN) {
        ikv_loop_quit(k->loop);
        ikv_bus_flush(k->bus, IKV_STEP_LANE, NULL);
    }
    return note_told(event, delivery, user);
}

static bool defer_behind_quit(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 7000000);
    if (frame == 6)
        ok(ikv_bus_defer_any(k->bus, IKV_STEP_LANE, &e));
    return push_key_paused(k, frame);
}

static ikv_verdict pause_and_quit(const ikv_event *event,
                                  const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    if (event->kind == IKV_KIND_KEY_DOWN) {
        ikv_loop_pause(k->loop);
        ikv_loop_quit(k->loop);
    }
    return note_told(event, delivery, NULL);
}

static bool pause_for_two(bench_kit *k, uint32_t frame)
{
    if (frame == 2 || frame == 3)
        ok((frame == 2 ? ikv_loop_pause : ikv_loop_resume)(k->loop));
    return frame < 3;
}

/* Another thread defers events of a device that is someone's, as someone
 * else's; one is of a kind that the loop itself has on tapes. */
static bool defer_for_another(bench_kit *k, uint32_t frame)
{
    static const ikv_kind kinds[] = {IKV_KIND_LOOP_PAUSE, IKV_KIND_FIELD_SET,
                                     IKV_KIND_LOOP_END};
    if (frame == 0)
        ok(ikv_loop_set_seat(k->loop, k->fake.device, 2));
    push_moves(k, frame == 2);
    for (int i = 0; frame == 2 && i < ROWS(kinds); i++) {
        ikv_event e = ikv_event_make(kinds[i], 0);
        e.device = k->fake.device;
        e.seat = 3;
        ok(ikv_bus_defer_any(k->bus, IKV_STEP_LANE, &e));
    }
    return frame < 4;
}

static ikv_verdict note_whose(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)user;
    if (event->device != 0)
        note(&small_told, "%u:%s:%u ", (unsigned)delivery->step,
             ikv_catalogue_info(NULL, event->kind)->name, event->seat);
    return IKV_CONTINUE;
}

/* A lamp comes beneath the mouse in a step: as the next one begins that is
 * told, and who hears it flushes what another thread has deferred. */
static bool defer_late(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    push_moves(k, frame == 0);
    if (frame == 3)
        ok(ikv_bus_defer_any(k->bus, small_lane, &e));
    return frame < 5;
}

/* Likewise while the steps stand still, after a frame's input. */
static bool defer_paused(bench_kit *k, uint32_t frame)
{
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    push_moves(k, frame == 0);
    if (frame == 1)
        ok(ikv_loop_pause(k->loop));
    if (frame == 2) {
        ok(ikv_bus_defer_any(k->bus, small_lane, &e));
        push_key(k);
    }
    return frame < 4;
}

/* Two pointers' moves by turns: what is taken while the first is handled parts
 * none of them. */
static bool defer_in_moves(bench_kit *k, uint32_t frame)
{
    ikv_event late = ikv_event_make(IKV_KIND_FIELD_SET, 900000000);
    if (frame == 1)
        ok(ikv_loop_pause(k->loop));
    for (uint16_t i = 0; frame == 2 && i < 4; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k->fake.now_ns);
        e.device = k->fake.device;
        e.pointer.pointer = i % 2;
        ok(ikv_sink_push(k->fake.sink, &e));
    }
    if (frame == 2)
        ok(ikv_bus_defer_any(k->bus, small_lane, &late));
    return frame < 4;
}

static ikv_verdict flush_late(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    const bench_kit *k = user;
    ikv_verdict verdict = note_told(event, delivery, NULL);
    if (event->kind == IKV_KIND_KEY_DOWN ||
        (event->kind == IKV_KIND_LOOP_STEP && event->loop.step == 3))
        rect_target(k->scene, (ikv_target){0}, -5, -5, 10, 10, 0);
    if (event->kind == IKV_KIND_POINTER_OVER ||
        event->kind == IKV_KIND_POINTER_MOVE)
        ikv_bus_flush(k->bus, small_lane, NULL);
    return verdict;
}

#define SIX_STEPS                                                              \
    "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 3:loop.step:0:40 "     \
    "4:loop.step:0:50 5:loop.step:0:60 "
static const small_game small_games[] = {
    {"a group is cut by the ring",
     at_frame,
     push_groups,
     {IKV_KIND_POINTER_MOVE},
     note_told,
     "0:pointer.move:40:0 0:pointer.move:64:0 0:pointer.move:64:16 "
     "2:pointer.move:64:32 ",
     NULL},
    {"more is due as it ends",
     two_steps_a_frame,
     push_nothing,
     {IKV_KIND_LOOP_STEP},
     hurry,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 "
     "3:loop.step:0:40 4:loop.step:0:50 5:loop.step:0:60 "
     "6:loop.step:0:70 7:loop.step:0:80 8:loop.step:0:90 "
     "9:loop.step:0:90 10:loop.step:0:111 11:loop.step:0:112 ",
     NULL},
    {"a hold comes due between frames",
     short_holds,
     push_finger,
     {IKV_KIND_POINTER_HOLD, IKV_KIND_POINTER_OVER, IKV_KIND_LOOP_STEP,
      IKV_KIND_DEVICE_SEAT, IKV_KIND_ACTION_START, IKV_KIND_FOCUS_IN},
     light_up,
     "0:pointer.over:0:0 0:loop.step:0:10 0:pointer.over:0:16 "
     "0:focus.in:0:86 0:action.start:0:86 0:pointer.hold:0:86 "
     "0:pointer.over:0:96 "
     "0:device.seat:0:96 1:loop.step:0:100 2:loop.step:0:110 "
     "3:loop.step:0:120 4:loop.step:0:130 5:loop.step:0:140 ",
     NULL},
    {"more is deferred as it ends",
     two_steps_a_frame,
     push_nothing,
     {IKV_KIND_LOOP_FRAME, IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP,
      IKV_KIND_LOOP_PAUSE},
     hear_late,
     "0:loop.step:0:10 0:field.set:0:1000 1:loop.step:0:20 1:field.set:0:1000 "
     "2:loop.step:0:30 3:loop.step:0:40 3:field.set:0:1002 4:loop.step:0:50 "
     "4:field.set:0:1003 5:loop.step:0:60 6:loop.step:0:70 6:field.set:0:1005 "
     "7:loop.step:0:80 8:loop.step:0:90 8:field.set:0:1007 "
     "8:field.set:0:1008 8:loop.pause:0:80 ",
     NULL},
    {"the program leaves steps out",
     at_frame,
     push_nothing,
     {IKV_KIND_LOOP_STEP},
     note_told,
     SIX_STEPS,
     leave_out},
    {"the program quits within a frame",
     at_frame,
     push_nothing,
     {IKV_KIND_LOOP_STEP},
     note_told,
     SIX_STEPS,
     quit_in_frame},
    {"steps of 1,001 seconds' 60,000th",
     of_a_film,
     push_keys,
     {IKV_KIND_KEY_DOWN, IKV_KIND_LOOP_STEP},
     note_told,
     "0:key.down:0:1 0:key.down:0:15 0:loop.step:0:16 1:loop.step:0:33 "
     "2:loop.step:0:50 3:loop.step:0:66 4:loop.step:0:83 ",
     NULL},
    {"another thread defers what is another player's",
     two_steps_a_frame,
     defer_for_another,
     {IKV_KIND_LOOP_PAUSE, IKV_KIND_FIELD_SET, IKV_KIND_LOOP_END,
      IKV_KIND_POINTER_MOVE, IKV_KIND_DEVICE_SEAT},
     note_whose,
     "0:device.seat:2 1:pointer.move:2 1:loop.pause:3 1:field.set:3 "
     "1:loop.end:3 ",
     NULL},
    {"what another thread defers is taken as a step begins",
     two_steps_a_frame,
     defer_late,
     {IKV_KIND_POINTER_OVER, IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP},
     flush_late,
     "0:pointer.over:0:0 0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 "
     "3:loop.step:0:40 4:pointer.over:0:40 4:field.set:0:0 4:loop.step:0:50 "
     "5:loop.step:0:60 6:loop.step:0:70 7:loop.step:0:80 8:loop.step:0:90 "
     "9:loop.step:0:100 10:loop.step:0:110 ",
     NULL},
    {"what another thread defers is taken after a frame's input",
     two_steps_a_frame,
     defer_paused,
     {IKV_KIND_POINTER_OVER, IKV_KIND_FIELD_SET, IKV_KIND_KEY_DOWN},
     flush_late,
     "0:pointer.over:0:0 0:key.down:0:16 0:pointer.over:0:16 "
     "0:field.set:0:0 ",
     NULL},
    {"what another thread defers is taken among moves",
     two_steps_a_frame,
     defer_in_moves,
     {IKV_KIND_POINTER_MOVE, IKV_KIND_FIELD_SET},
     flush_late,
     "0:pointer.move:2:16 0:field.set:0:900 0:pointer.move:2:16 ",
     NULL},
    {"the clock is turned before the first frame",
     at_frame,
     turn_early,
     {IKV_KIND_LOOP_START, IKV_KIND_LOOP_SCALE, IKV_KIND_LOOP_PAUSE,
      IKV_KIND_LOOP_SINGLE, IKV_KIND_LOOP_RESUME, IKV_KIND_LOOP_STEP},
     note_told,
     "0:loop.start:0:0 0:loop.scale:0:0 0:loop.pause:0:0 0:loop.single:0:0 "
     "0:loop.step:0:0 0:loop.resume:0:16 1:loop.step:0:21 2:loop.step:0:26 "
     "3:loop.step:0:31 4:loop.step:0:36 5:loop.step:0:41 6:loop.step:0:46 "
     "7:loop.step:0:51 8:loop.step:0:56 9:loop.step:0:61 10:loop.step:0:66 "
     "11:loop.step:0:71 12:loop.step:0:76 ",
     NULL},
    {"the program begins at a halt, with one step",
     at_a_halt,
     go_on,
     {IKV_KIND_LOOP_START, IKV_KIND_LOOP_PAUSE, IKV_KIND_LOOP_SINGLE,
      IKV_KIND_LOOP_RESUME, IKV_KIND_LOOP_STEP},
     note_told,
     "0:loop.start:0:0 0:loop.pause:0:0 0:loop.single:0:0 0:loop.step:0:0 "
     "0:loop.resume:0:16 1:loop.step:0:26 "
     "2:loop.step:0:36 3:loop.step:0:46 4:loop.step:0:56 ",
     NULL},
    {"the clock is turned after a quit",
     at_frame,
     push_nothing,
     {IKV_KIND_LOOP_STEP, IKV_KIND_LOOP_PAUSE, IKV_KIND_LOOP_RESUME,
      IKV_KIND_LOOP_SCALE},
     note_told,
     SIX_STEPS,
     turn_after_quit},
    {"a handler quits as it pauses",
     two_steps_a_frame,
     push_keys,
     {IKV_KIND_KEY_DOWN, IKV_KIND_LOOP_PAUSE},
     pause_and_quit,
     "0:loop.pause:0:1 0:key.down:0:1 ",
     NULL},
    {"another thread defers as the program quits",
     two_steps_a_frame,
     push_nothing,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP},
     quit_early,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 2:field.set:0:7 ",
     NULL},
    {"code beside the run pauses behind a quit",
     two_steps_a_frame,
     pause_behind_quit,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP, IKV_KIND_LOOP_PAUSE},
     quit_and_pause,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 2:loop.pause:0:20 "
     "2:field.set:0:7 ",
     NULL},
    {"a step's code routes a key and pauses",
     two_steps_a_frame,
     push_key_late,
     {IKV_KIND_LOOP_STEP, IKV_KIND_LOOP_PAUSE, IKV_KIND_ACTION_START,
      IKV_KIND_KEY_DOWN},
     route_and_pause,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.pause:0:20 2:key.down:0:7 "
     "2:loop.step:0:30 2:action.start:0:7 2:key.down:0:64 ",
     NULL},
    {"what another thread defers is taken as a single step begins",
     two_steps_a_frame,
     push_key_paused,
     {IKV_KIND_LOOP_STEP, IKV_KIND_POINTER_OVER, IKV_KIND_FIELD_SET,
      IKV_KIND_KEY_DOWN},
     light_two,
     "0:pointer.over:0:0 0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 "
     "2:key.down:0:64 2:pointer.over:0:64 3:field.set:0:900 "
     "3:pointer.over:0:64 3:loop.step:0:64 ",
     NULL},
    {"a frame's code turns the clock at its begin",
     at_a_halt,
     go_on,
     {IKV_KIND_LOOP_FRAME, IKV_KIND_LOOP_SCALE, IKV_KIND_LOOP_SINGLE,
      IKV_KIND_LOOP_RESUME, IKV_KIND_LOOP_STEP},
     scale_in_frame,
     "0:loop.single:0:0 0:loop.step:0:0 0:loop.scale:0:0 0:loop.resume:0:16 "
     "1:loop.step:0:21 2:loop.step:0:26 3:loop.step:0:31 4:loop.step:0:36 "
     "5:loop.step:0:41 6:loop.step:0:46 7:loop.step:0:51 8:loop.step:0:56 "
     "9:loop.step:0:61 ",
     NULL},
    {"the program seats its device before the first frame",
     with_a_seat,
     pause_at_once,
     {IKV_KIND_DEVICE_SEAT, IKV_KIND_POINTER_MOVE, IKV_KIND_LOOP_PAUSE},
     note_told,
     "0:loop.pause:0:0 0:device.seat:0:0 0:pointer.move:0:16 ",
     NULL},
    {"another thread defers behind a handler's flush",
     two_steps_a_frame,
     push_nothing,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP},
     flush_and_defer,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 2:field.set:0:7 "
     "3:loop.step:0:40 4:loop.step:0:50 5:loop.step:0:60 6:loop.step:0:70 "
     "7:loop.step:0:80 8:loop.step:0:90 ",
     NULL},
    {"another thread defers before a handler's flush",
     two_steps_a_frame,
     push_nothing,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP},
     defer_and_flush,
     "0:loop.step:0:10 1:loop.step:0:20 2:field.set:0:7 2:loop.step:0:30 "
     "3:loop.step:0:40 4:loop.step:0:50 5:loop.step:0:60 6:loop.step:0:70 "
     "7:loop.step:0:80 8:loop.step:0:90 ",
     NULL},
    {"another thread defers between a handler's flushes",
     two_steps_a_frame,
     push_key_twice,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP, IKV_KIND_KEY_DOWN},
     flush_twice,
     "0:key.down:0:0 0:field.set:0:7 - 0:loop.step:0:10 0:field.set:0:8 "
     "0:field.set:0:9 0:field.set:0:7 - 0:field.set:0:8 0:field.set:0:9 "
     "0:key.down:0:32 0:field.set:0:7 - 0:field.set:0:8 0:field.set:0:9 ",
     NULL},
    {"another thread defers behind a handler that quits and flushes",
     two_steps_a_frame,
     defer_behind_quit,
     {IKV_KIND_FIELD_SET, IKV_KIND_LOOP_STEP, IKV_KIND_KEY_DOWN},
     quit_and_flush,
     "0:loop.step:0:10 1:loop.step:0:20 2:loop.step:0:30 2:key.down:0:64 "
     "2:field.set:0:7 ",
     NULL},
    {"the program leaves out a step that a pause was in",
     at_frame,
     pause_for_two,
     {IKV_KIND_LOOP_STEP, IKV_KIND_LOOP_PAUSE, IKV_KIND_LOOP_RESUME},
     note_told,
     "0:loop.step:0:10 0:loop.pause:0:16 0:loop.resume:0:32 ",
     leave_all_out},
    {"a recording ends within a frame",
     at_frame,
     push_nothing,
     {IKV_KIND_LOOP_STEP},
     note_told,
     SIX_STEPS,
     begin_last},
};

static void open_small_game(bench_kit *k, const small_game *row,
                            const ikv_port *port, uint32_t frame_hz)
{
    open_small(k);
    k->config.loop.step_num = 100;
    small_halts = small_seats = false;
    small_lamps = 0;
    row->shape(k);
    if (port != NULL)
        k->config.ports = port;
    k->config.loop.frame_hz = frame_hz;
    kit_open(k);
    ok(ikv_actions_add(ikv_kit_actions(k->kit), IKV_MAIN_SET, "horn",
                       &small_horn));
    ok(ikv_actions_bind(ikv_kit_actions(k->kit), small_horn, "KeyB", NULL,
                        NULL));
    ok(ikv_bus_add_lane(k->bus, "late", &small_lane));
    small_told.text[0] = '\0';
    if (small_seats)
        ok(ikv_loop_set_seat(k->loop, 1, 2));
    if (small_halts) {
        ok(ikv_loop_pause(k->loop));
        ok(ikv_loop_single_step(k->loop));
        ck_assert_int_eq(ikv_loop_single_step(k->loop), IKV_ABSENT);
    }
    for (int i = 0; i < ROWS(row->kinds) && row->kinds[i] != 0; i++)
        hears(k->bus, row->kinds[i], (ikv_target){0}, row->handler, k);
}

START_TEST(small_played_back)
{
    const small_game *row = &small_games[_i];
    static record recorded;
    bench_kit k;
    ikv_recording *recording;
    ikv_recording_config where = IKV_RECORDING_INIT;
    small_live = true;
    open_small_game(&k, row, NULL, IKV_UNPACED);
    where.path = _i % 2 ? "small.tape.cbor" : "small.tape.jsonl";
    where.kit = k.kit;
    ok(ikv_recording_open(&where, &recording, NULL));
    uint64_t ms = 0;
    for (uint32_t frame = 0; row->push(&k, frame); frame++)
        kit_frame(&k, ms += 16);
    if (row->end != NULL)
        row->end(&k);
    k.fake.poll_status = IKV_ENDED;
    while (row->end == NULL && kit_frame(&k, ms += 16) >= 0)
        ck_assert_uint_lt(ms, 1000);
    ok(ikv_recording_close(recording, NULL));
    kit_close(&k);
    recorded = small_told;
    small_live = false;

    ck_assert_str_eq(recorded.text, row->told);
    for (int i = 0; i < ROWS(rates); i++) {
        ikv_port port;
        ikv_sim_config played = IKV_SIM_INIT;
        ok(ikv_tape_open(where.path, NULL, &played.tape, NULL));
        ok(ikv_sim_open(&played, &port));
        open_small_game(&k, row, &port, rates[i]);
        while (whole_frame(k.loop)) {
        }
        ck_assert_msg(strcmp(small_told.text, recorded.text) == 0,
                      "%s: %s\nfor %s", row->rule, small_told.text,
                      recorded.text);
        kit_close(&k);
        ikv_sim_close(&port);
        ikv_tape_close(played.tape);
    }
}
END_TEST

/* T1: a tape can't tell of a run that goes back: it ends before that, and who
 * closes it is told. */
START_TEST(recorded_until_gone_back)
{
    static const char *const paths[] = {"undone.tape.jsonl",
                                        "undone.tape.cbor"};
    static char image[1 << 22];
    char left[40];
    bench_kit k;
    ikv_recording *recording;
    ikv_comparison *comparison;
    ikv_tape *tape;
    ikv_message message = {""};
    ikv_event event;
    ikv_intake intake;
    ikv_recording_config where = IKV_RECORDING_INIT;
    open_small(&k);
    kit_open(&k);
    const ikv_parts parts = ikv_kit_parts(k.kit);
    where.path = paths[_i];
    where.kit = k.kit;
    ok(ikv_recording_open(&where, &recording, NULL));
    push_moves(&k, 3);
    kit_frame(&k, 0);
    kit_frame(&k, 40);
    ok(ikv_image_save(&parts, image, sizeof image));
    push_moves(&k, 2);
    kit_frame(&k, 80);
    ok(ikv_image_restore(&parts, image, sizeof image, NULL, 0));
    push_moves(&k, 1);
    kit_frame(&k, 120);
    ck_assert_int_eq(ikv_recording_close(recording, &message), IKV_BAD_FILE);
    snprintf(left, sizeof left, "%s.part", paths[_i]);
    ck_assert_msg(strstr(message.text, left) != NULL, "%s", message.text);
    ck_assert_int_ne(access(paths[_i], F_OK), 0);
    ok(ikv_tape_open(left, NULL, &tape, NULL));
    for (uint32_t i = 0; i < 6; i++)
        ck_assert_int_eq(ikv_tape_next(tape, &event, &intake, NULL),
                         i < 5 ? IKV_OK : IKV_ENDED);
    ok(ikv_comparison_open(k.kit, tape, &comparison));
    ok(ikv_image_restore(&parts, image, sizeof image, NULL, 0));
    kit_frame(&k, 160);
    ikv_comparison_result result = ikv_comparison_close(comparison);
    ck_assert(!result.whole && !result.differs);
    ikv_tape_close(tape);
    remove(left);
    kit_close(&k);
}
END_TEST

/* L5: played to a game that stops the clock where it did not when that was
 * recorded, a tape of more than there is room for comes to its end: as one that
 * says of no event when it was due. */
START_TEST(stopped_elsewhere)
{
    char output[2][200];
    write_file("stops.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":"
               "\"stop\",\"kinds\":[\"pointer.down\"],\"reactions\":["
               "\"pause\"]}]}");
    for (int due = 0; due < 2; due++) {
        FILE *tape = fopen("stops.tape.jsonl", "w");
        fprintf(tape, "{\"format\":\"ikvar.tape/2\"}\n");
        for (int i = 1; i < 4000; i++) {
            fprintf(tape, "{\"t\":%d,\"kind\":\"pointer.%s\",\"x\":%d", i,
                    i == 50 ? "down" : "move", i % 600);
            fprintf(tape, due ? ",\"due\":%d.000001}\n" : "}\n", i);
        }
        fclose(tape);
        ck_assert_int_eq(run_command_line(output[due], sizeof output[due],
                                          "timeout 60 " BINARY
                                          "/ikvar run stops.setup.json "
                                          "stops.tape.jsonl -d"),
                         0);
    }
    ck_assert_str_eq(output[0], output[1]);
}
END_TEST

/* T1: a tape can say where its run ends, before the steps that are due then;
 * what is joined to it goes on. */
START_TEST(ended_by_its_tape)
{
    char output[400];
    ck_assert_int_eq(
        run_command_line(
            output, sizeof output,
            "echo '{\"format\":\"ikvar.setup/1\",\"handlers\":[{\"name\":\"h\","
            "\"kinds\":[\"loop.step\"],\"reactions\":[\"stop\"]}]}' > "
            "e.setup.json && printf '%%s\\n' "
            "'{\"format\":\"ikvar.tape/2\",\"until\":300}' "
            "'{\"t\":90,\"kind\":\"key.down\",\"code\":\"KeyA\"}' "
            "'{\"t\":100,\"kind\":\"loop.end\"}' "
            "'{\"t\":110,\"kind\":\"key.up\",\"code\":\"KeyA\"}' > "
            "e.tape.jsonl "
            "&& T=" BINARY "/ikvar && for f in 0 13 240; do $T run -d -f $f "
            "e.setup.json e.tape.jsonl; done | uniq -c && $T tape join "
            "e.tape.jsonl e.tape.jsonl -o twice.tape.jsonl && $T tape cut "
            "--from 250 e.tape.jsonl -o none.tape.jsonl && $T tape join "
            "e.tape.jsonl none.tape.jsonl -o once.tape.jsonl && grep end "
            "once.tape.jsonl none.tape.jsonl && grep end "
            "twice.tape.jsonl && $T run e.setup.json twice.tape.jsonl -R "
            "again.tape.cbor | tail -1 && $T tape verify --setup e.setup.json "
            "again.tape.cbor"),
        0);
    ck_assert_str_eq(output,
                     "      3 62ba115c0134cd62 8\n"
                     "once.tape.jsonl:{\"t\":100,\"kind\":\"loop.end\"}\n"
                     "once.tape.jsonl:{\"end\":110}\n"
                     "none.tape.jsonl:{\"end\":0}\n"
                     "{\"t\":210,\"kind\":\"loop.end\"}\n{\"end\":220}\n"
                     "14 frames, 13 steps; 3 events came in, 32 deliveries; 13 "
                     "handlers called; nobody heard 19\n"
                     "same      bc0c53f7495edcf2         17 deliveries  "
                     "again.tape.cbor\n");
}
END_TEST

Suite *replay_suite(void)
{
    Suite *s = suite_create("replay");
    add_table(s, "T1 made-up games are played back", played_back, 8);
    add_table(s, "T1 made-up games go back", gone_back, 8);
    add_table(s, "T1 small games are played back", small_played_back,
              ROWS(small_games));
    add_table(s, "T1 recorded until gone back", recorded_until_gone_back, 2);
    add(s, "L5 stopped elsewhere", stopped_elsewhere);
    add(s, "T1 ended by its tape", ended_by_its_tape);
    return s;
}
