/* steps.c - plays a tape at any frame rate, with stalls, against handlers that
 * do what games do, and prints one digest (T1, L1). Its handlers are
 * deterministic: so is all that follows.
 *
 *   steps TAPE FRAME_HZ STALLS [TRACE [RECORDING]]
 *   steps random:SEED FRAME_HZ STALLS TRACE RECORDING [at_frame]
 *
 * STALLS is a seed of frames that come late, 0 for none. Trace and recording
 * are files to write; "-" for none. With random:SEED the port behaves as broken
 * hardware does, and the program outside the steps pauses, resumes, changes the
 * speed, and has other threads' events come in. */
#include <ikvar/digest.h>
#include <ikvar/host.h>

#include <stdio.h>
#include <stdlib.h>

enum {
    FERRIES = 24,
    KIND_TICK = IKV_KIND_USER,
    KIND_ECHO = IKV_KIND_USER + 1
};

typedef struct harbour {
    ikv_kit *kit;
    ikv_target ferries[FERRIES];
    float speed[FERRIES][2];
    uint32_t ticks, moves;
    ikv_port inner;
    uint64_t stalls;
    ikv_digest digest;
    ikv_port port;
    ikv_tape *tape;
    ikv_catalogue *catalogue;
    ikv_trace *trace;
    FILE *file;
    ikv_recording *recording;
    bool hardware;
} harbour;

static harbour h;

/* --------------------------------------------------------------- stalls -- */

static ikv_status stalling_wait(void *state, uint64_t until_ns, bool for_input)
{
    h.stalls ^= h.stalls << 13;
    h.stalls ^= h.stalls >> 7;
    h.stalls ^= h.stalls << 17;
    uint64_t more = h.stalls % 9 == 0 ? h.stalls % 300000000 : 0;
    return h.inner.wait(state, until_ns + more, for_input);
}

/* ------------------------------------------------------------- handlers -- */

static ikv_verdict grab(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)u;
    ikv_router_capture(d->router, event, d->current);
    return event->pointer.pointer % 2 ? IKV_STOP : IKV_CONTINUE;
}

static ikv_verdict follow(const ikv_event *event, const ikv_delivery *d,
                          void *u)
{
    (void)u;
    h.moves += 1 + d->sample_count;
    if (ikv_router_has_capture(d->router, event, d->current))
        ikv_scene_move(ikv_kit_scene(h.kit), d->current, d->layer_x - 10,
                       d->layer_y - 10);
    return IKV_CONTINUE;
}

static ikv_verdict turn(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)u;
    ikv_scene_turn(ikv_kit_scene(h.kit), d->current,
                   ikv_scene_rotation((float)(event->time_ns / 1000000 % 360)));
    return IKV_CONTINUE;
}

static ikv_verdict note(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)event, (void)d, (void)u;
    return IKV_CONTINUE;
}

/* Every 5 ms: shorter than a step. Each seventh tick begins a chain. */
static ikv_verdict tick(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)u;
    if (++h.ticks % 7 == 0) {
        ikv_event echo = ikv_event_make(KIND_ECHO, event->time_ns);
        echo.user[0] = 3;
        ikv_bus_defer(d->bus, IKV_STEP_LANE, &echo);
    }
    return IKV_CONTINUE;
}

static ikv_verdict echo(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)u;
    ikv_event next = *event;
    next.user[0]--;
    if (event->user[0] > 2)
        ikv_bus_deliver(d->bus, &next);
    else if (event->user[0] > 0)
        ikv_bus_defer_after(d->bus, IKV_STEP_LANE, 3000000, &next, NULL);
    return IKV_CONTINUE;
}

/* Players come and go, menus open and close, by other keys. */
static void change_players(const ikv_event *event, ikv_loop *loop)
{
    ikv_router *router = ikv_kit_router(h.kit);
    uint32_t usage = event->key.code & 0xff;
    ikv_target none = {0};
    if (usage % 5 == 0)
        ikv_loop_set_seat(loop, event->device, (uint8_t)(usage % 3));
    if (usage % 7 == 0)
        ikv_router_set_modal(router, event->seat, h.ferries[usage % FERRIES]);
    if (usage % 7 == 1)
        ikv_router_set_modal(router, event->seat, none);
    if (usage % 11 == 0)
        ikv_router_cancel_all(router, event->seat);
}

static ikv_verdict on_key(const ikv_event *event, const ikv_delivery *d,
                          void *loop)
{
    (void)d;
    switch (event->key.code - 0x0007003a) { /* F1 */
    case 0:
        ikv_loop_pause(loop);
        break;
    case 1:
        ikv_loop_resume(loop);
        break;
    case 2:
        ikv_loop_single_step(loop);
        break;
    case 3:
        ikv_loop_set_scale(loop, 350);
        break;
    case 4:
        ikv_loop_set_scale(loop, 1000);
        break;
    case 5:
        ikv_loop_set_scale(loop, 2500);
        break;
    default:
        change_players(event, loop);
        break;
    }
    return IKV_CONTINUE;
}

/* Ferries bounce off the edges; now and then one is hidden. */
static ikv_verdict sail(const ikv_event *event, const ikv_delivery *d, void *u)
{
    (void)d, (void)u;
    ikv_scene *scene = ikv_kit_scene(h.kit);
    for (int i = 0; i < FERRIES; i++) {
        float own[2], view[2];
        if (!ikv_scene_position(scene, h.ferries[i], own, view))
            continue;
        for (int k = 0; k < 2; k++)
            if (own[k] < 0 || own[k] > (k == 0 ? 620.0f : 340.0f))
                h.speed[i][k] = own[k] < 0 ? 0.7f : -0.7f;
        ikv_scene_move(scene, h.ferries[i], own[0] + h.speed[i][0],
                       own[1] + h.speed[i][1]);
        if ((event->loop.step + (uint64_t)i * 37) % 400 == 0)
            ikv_scene_show(scene, h.ferries[i], false);
        if ((event->loop.step + (uint64_t)i * 37) % 400 == 20)
            ikv_scene_show(scene, h.ferries[i], true);
    }
    return IKV_CONTINUE;
}

/* -------------------------------------------------------------- opening -- */

static void hear(ikv_kind kind, ikv_target at, ikv_handler handler, void *user,
                 const char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kinds = &kind;
    config.kind_count = 1;
    config.at = at;
    config.handler = handler;
    config.user = user;
    config.name = name;
    if (ikv_bus_subscribe(ikv_kit_bus(h.kit), &config, NULL, NULL) < 0)
        exit(4);
}

static void add_ferries(void)
{
    for (int i = 0; i < FERRIES; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.id = (uint32_t)i + 1;
        config.x = (float)(i % 6) * 100 + 20;
        config.y = (float)(i / 6) * 80 + 20;
        config.shape = i % 3 == 0   ? ikv_scene_rect(0, 0, 60, 30)
                       : i % 3 == 1 ? ikv_scene_circle(20, 15, 22)
                                    : ikv_scene_capsule(0, 10, 50, 10, 12);
        if (i % 5 == 4)
            config.hit = IKV_HIT_PASS;
        config.tags = 1u << i % 3;
        if (ikv_scene_add(ikv_kit_scene(h.kit), &config, &h.ferries[i], NULL) <
            0)
            exit(4);
        h.speed[i][0] = (float)(i % 7 - 3) * 0.37f;
        h.speed[i][1] = (float)(i % 5 - 2) * 0.29f;
        ikv_sensing sensing = IKV_SENSING_INIT;
        sensing.senses = 1u << (i + 1) % 3;
        sensing.scope = i % 4 == 0;
        sensing.linger = (uint16_t)(i % 3);
        sensing.swept = i % 5 == 0;
        if (ikv_overlaps_sense(ikv_kit_overlaps(h.kit), h.ferries[i],
                               &sensing) < 0)
            exit(4);
        hear(IKV_KIND_POINTER_DOWN, h.ferries[i], grab, NULL, "grab");
        hear(IKV_KIND_POINTER_MOVE, h.ferries[i], follow, NULL, "follow");
        hear(IKV_KIND_POINTER_CLICK, h.ferries[i], turn, NULL, "turn");
    }
}

static void add_actions(void)
{
    static const char *const bindings[] = {
        "key.any",      "KeyA|KeyD", "Shift+KeyB", "pointer.primary",
        "wheel.up",     "pad.0",     "pad.axis0+", "pointer.click",
        "pointer.hold", "pad.left"};
    ikv_actions *actions = ikv_kit_actions(h.kit);
    for (size_t i = 0; i < sizeof bindings / sizeof bindings[0]; i++) {
        ikv_action_id id;
        char name[16];
        snprintf(name, sizeof name, "action %d", (int)i / 2);
        id = ikv_actions_find(actions, name);
        if (id.bits == 0)
            ikv_actions_add(actions, IKV_MAIN_SET, name, &id);
        if (ikv_actions_bind(actions, id, bindings[i], NULL, NULL) < 0)
            exit(4);
    }
}

static void add_handlers(void)
{
    static const ikv_kind noted[] = {
        IKV_KIND_POINTER_ENTER,  IKV_KIND_POINTER_LEAVE,
        IKV_KIND_POINTER_UP,     IKV_KIND_POINTER_CAPTURE_LOST,
        IKV_KIND_POINTER_DRAG,   IKV_KIND_POINTER_HOLD,
        IKV_KIND_POINTER_DOUBLE, IKV_KIND_KEY_DOWN,
        IKV_KIND_KEY_UP,         IKV_KIND_TEXT_INPUT,
        IKV_KIND_WHEEL,          IKV_KIND_LOOP_PAUSE,
        IKV_KIND_LOOP_RESUME,    IKV_KIND_LOOP_SINGLE,
        IKV_KIND_LOOP_SCALE,     IKV_KIND_LOOP_DROPPED,
        IKV_KIND_LOOP_IDLE,      IKV_KIND_DEVICE_RESYNC,
        IKV_KIND_WINDOW_BLUR,    IKV_KIND_ACTION_START,
        IKV_KIND_ACTION_HOLD,    IKV_KIND_ACTION_END,
        IKV_KIND_OVERLAP_ENTER,  IKV_KIND_OVERLAP_INSIDE,
        IKV_KIND_OVERLAP_LEAVE,  IKV_KIND_DEVICE_SEAT,
        IKV_KIND_POINTER_CANCEL};
    ikv_target everywhere = {0};
    for (size_t i = 0; i < sizeof noted / sizeof noted[0]; i++)
        hear(noted[i], everywhere, note, NULL, "note");
    hear(KIND_TICK, everywhere, tick, NULL, "tick");
    hear(KIND_ECHO, everywhere, echo, NULL, "echo");
    hear(IKV_KIND_KEY_DOWN, everywhere, on_key, ikv_kit_loop(h.kit), "keys");
    hear(IKV_KIND_LOOP_STEP, everywhere, sail, NULL, "sail");
    add_actions();
    ikv_event event = ikv_event_make(KIND_TICK, 0);
    if (ikv_bus_defer_every(ikv_kit_bus(h.kit), IKV_STEP_LANE, 5000000, false,
                            &event, NULL) < 0)
        exit(4);
}

static void watch(const ikv_watch *seen, void *user)
{
    (void)user;
    ikv_digest_add(&h.digest, ikv_kit_bus(h.kit), seen);
}

static ikv_catalogue *own_kinds(void)
{
    ikv_catalogue *catalogue;
    ikv_catalogue_config config = IKV_CATALOGUE_INIT;
    config.memory = ikv_host_memory();
    ikv_kind_config tick_kind = IKV_KIND_CONFIG_INIT,
                    echo_kind = IKV_KIND_CONFIG_INIT;
    ikv_field left = {"left", IKV_TYPE_U8, 0, "", "echoes to come", 1, 0};
    tick_kind.name = "tick";
    echo_kind.name = "echo";
    echo_kind.fields = &left;
    echo_kind.field_count = 1;
    ikv_kind kind;
    if (ikv_catalogue_open(&config, &catalogue) < 0 ||
        ikv_catalogue_register(catalogue, &tick_kind, &kind, NULL) < 0 ||
        kind != KIND_TICK ||
        ikv_catalogue_register(catalogue, &echo_kind, &kind, NULL) < 0)
        exit(4);
    return catalogue;
}

/* What a program does between steps, by the number of the frame. */
static void meddle(ikv_loop *loop)
{
    uint64_t frame = ikv_loop_frame_number(loop);
    ikv_event echo_event = ikv_event_make(KIND_ECHO, 0);
    if (frame % 97 == 40)
        ikv_loop_pause(loop);
    if (frame % 97 == 44)
        ikv_loop_single_step(loop);
    if (frame % 97 == 48)
        ikv_loop_resume(loop);
    if (frame % 211 == 100)
        ikv_loop_set_scale(loop, 1700);
    if (frame % 211 == 150)
        ikv_loop_set_scale(loop, 1000);
    if (frame % 59 == 13)
        ikv_loop_set_seat(loop, (uint16_t)(1 + frame % 2),
                          (uint8_t)(frame % 4));
    if (frame % 13 == 5)
        ikv_bus_defer_any(ikv_kit_bus(h.kit), IKV_STEP_LANE, &echo_event);
}

static void open_port(const char *source)
{
    static const ikv_sim_faults odds = {.lost_release = 500,
                                        .flood = 5,
                                        .unplug = 20,
                                        .blur = 20,
                                        .duplicate = 100,
                                        .late = 200,
                                        .reorder = 100,
                                        .clock_jump = 10};
    ikv_message message;
    ikv_sim_config sim = IKV_SIM_INIT;
    unsigned seed;
    h.hardware = sscanf(source, "random:%u", &seed) == 1;
    if (h.hardware) {
        sim.seed = seed;
        sim.faults = &odds;
        sim.until_ns = 20000000000;
    } else if (ikv_tape_open_kinds(source, h.catalogue, &h.tape, &message) <
               0) {
        fprintf(stderr, "%s\n", message.text);
        exit(3);
    }
    sim.tape = h.tape;
    if (ikv_sim_open(&sim, &h.port) < 0)
        exit(4);
    h.inner = h.port;
    if (h.stalls != 0)
        h.port.wait = stalling_wait;
}

static void open_outputs(const char *trace, const char *recording)
{
    ikv_recording_config record = IKV_RECORDING_INIT;
    record.path = recording;
    record.kit = h.kit;
    ikv_bus_add_watcher(ikv_kit_bus(h.kit), IKV_DIGEST_WANTS, watch, NULL);
    if (trace != NULL && trace[0] != '-') {
        h.file = fopen(trace, "w");
        ikv_trace_open(h.file, h.kit, NULL, IKV_TRACE_STEPS, &h.trace);
    }
    if (recording != NULL && recording[0] != '-' &&
        ikv_recording_open(&record, &h.recording, NULL) < 0)
        exit(4);
}

static void close_all(void)
{
    ikv_recording_close(h.recording, NULL);
    ikv_trace_close(h.trace);
    if (h.file != NULL)
        fclose(h.file);
    ikv_kit_close(h.kit);
    ikv_sim_close(&h.port);
    ikv_tape_close(h.tape);
    ikv_catalogue_close(h.catalogue);
}

int main(int argc, char **argv)
{
    if (argc < 4)
        return 2;
    ikv_kit_config config = IKV_KIT_INIT;
    h.stalls = strtoull(argv[3], NULL, 10);
    h.digest = (ikv_digest)IKV_DIGEST_INIT;
    h.catalogue = own_kinds();
    open_port(argv[1]);
    config.memory = ikv_host_memory();
    config.catalogue = h.catalogue;
    config.ports = &h.port;
    config.port_count = 1;
    config.state.seats = config.actions.seats = 3;
    config.loop.frame_hz = (uint32_t)atoi(argv[2]);
    config.loop.pending = 16384;
    config.loop.timing = argc > 6 || ikv_tape_about(h.tape).at_frame
                             ? IKV_AT_FRAME
                             : IKV_IN_STEP;
    if (ikv_kit_open(&config, &h.kit) < 0)
        return 4;
    add_ferries();
    add_handlers();
    open_outputs(argc > 4 ? argv[4] : NULL, argc > 5 ? argv[5] : NULL);
    ikv_loop *loop = ikv_kit_loop(h.kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        if (h.hardware)
            meddle(loop);
        ikv_loop_end(loop);
    }
    ikv_loop_counts counts = IKV_LOOP_COUNTS_INIT;
    ikv_loop_counters(loop, &counts);
    printf("%016llx %llu deliveries in %llu steps\n",
           (unsigned long long)h.digest.value,
           (unsigned long long)h.digest.deliveries,
           (unsigned long long)counts.steps);
    const char *fault = ikv_sim_fault(&h.port);
    if (fault != NULL)
        fprintf(stderr, "%s\n", fault);
    bool failed = fault != NULL;
    close_all();
    return failed ? 3 : 0;
}
