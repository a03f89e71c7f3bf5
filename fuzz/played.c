/* played.c - fuzzes what tapes promise: a program of the interface (calls.c) is
 * a game that is recorded, with a port and a host that turns the clock; then it
 * is played at another frame rate, and must be told the same before each step,
 * and at the end have the digest of its tape.
 */
#include "world.h"

enum {
    FRAMES = 40
};

static uint64_t sums[2][STEPS];

/* What is of frames differs, and is on no tape. */
static void watch(const ikv_watch *told, void *user)
{
    world *w = user;
    if (told->frame_scoped ||
        (told->event != NULL && told->event->kind == IKV_KIND_LOOP_FRAME))
        return;
    note_step(w);
    fuzz_watch(told, NULL);
}

static void open_game(world *w, const world *like, uint64_t *to)
{
    *w = *like;
    w->sums = to;
    w->step = UINT64_MAX;
    w->at = w->data;
    w->end = w->data + w->size;
    memset(to, 0, sizeof sums[0]);
    fuzz_begin();
    open_world(w);
    MUST(ikv_bus_add_watcher(w->bus, IKV_WATCH_ALL & ~IKV_WATCH_ASK, watch,
                             w) == IKV_OK);
}

/* Another thread, while a step runs: when it is recorded. */
static void defer_meanwhile(world *w)
{
    const uint8_t *at = w->at, *end = w->end;
    fuzz_quiet = true;
    seek(w, w->step, 3000);
    bool defers = a_byte(w) % 2 == 0 && w->sums == sums[0];
    ikv_event event = an_event(w);
    fuzz_quiet = false;
    w->at = at;
    w->end = end;
    if (defers)
        (void)ikv_bus_defer_any(w->bus, IKV_STEP_LANE, &event);
}

/* A frame, with what the game itself does behind each step; false at the end. */
static bool run_game(world *w)
{
    if (!ikv_loop_begin(w->loop))
        return false;
    while (ikv_loop_step(w->loop)) {
        note_step(w);
        seek(w, w->step, 2000);
        for (int i = 0; i < 3; i++)
            call(w);
        defer_meanwhile(w);
        if (w->step % 4 == 0)
            fuzz_validate(w->kit);
    }
    MUST(ikv_loop_end(w->loop) == IKV_OK);
    return true;
}

/* Hands, the host and another thread, between two frames. */
static void meddle(world *w, uint32_t frame)
{
    static void (*const hands[])(world *) = {push_hand, push_hand, strike,
                                             pinch,     type_text, push};
    const uint8_t *at = w->at, *end = w->end;
    fuzz_quiet = true;
    seek(w, frame, 7);
    w->now += 1000000ull * (1 + a_byte(w) % 40);
    for (uint32_t i = a_byte(w) % 8; i > 0; i--)
        hands[a_byte(w) % 6](w);
    uint8_t turn = a_byte(w), scale = a_byte(w);
    ikv_event other = an_event(w);
    fuzz_quiet = false;
    /* Handlers of it go on with the step's bytes. */
    w->at = at;
    w->end = end;
    if (frame == 0) /* what comes before the first frame is the program's */
        return;
    if (turn % 8 == 0)
        (void)ikv_loop_pause(w->loop);
    else if (turn % 8 == 1)
        (void)ikv_loop_single_step(w->loop);
    else if (turn % 8 == 2)
        (void)ikv_loop_set_scale(w->loop, 200 + scale * 10u);
    else if (turn % 8 < 5)
        (void)ikv_loop_resume(w->loop);
    if (turn / 8 % 2) /* another thread does */
        (void)ikv_bus_defer_any(w->bus, turn / 16 % 2 ? IKV_STEP_LANE : w->lane,
                                &other);
}

/* Returns the number of the last step. */
static uint64_t record(const world *like, const char *path)
{
    static world w;
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    open_game(&w, like, sums[0]);
    config.path = path;
    config.kit = w.kit;
    MUST(ikv_recording_open(&config, &recording, NULL) == IKV_OK);
    for (uint32_t frame = 0; frame < FRAMES; frame++) {
        meddle(&w, frame);
        if (!run_game(&w))
            break;
    }
    /* It hears of its end, as it will when the tape has ended. */
    ikv_loop_quit(w.loop);
    MUST(!ikv_loop_begin(w.loop));
    uint64_t last = ikv_loop_step_number(w.loop);
    MUST(ikv_recording_close(recording, NULL) == IKV_OK);
    MUST(ikv_kit_close(w.kit) == IKV_OK);
    return last;
}

static void play(const world *like, const char *path, uint64_t last)
{
    static world w;
    world played = *like;
    ikv_port port;
    ikv_comparison *comparison;
    ikv_sim_config config = IKV_SIM_INIT;
    MUST(ikv_tape_open(path, NULL, &config.tape, NULL) == IKV_OK);
    MUST(ikv_sim_open(&config, &port) == IKV_OK);
    played.port = &port;
    open_game(&w, &played, sums[1]);
    MUST(ikv_comparison_open(w.kit, config.tape, &comparison) == IKV_OK);
    while (run_game(&w)) {
    }
    MUST(ikv_sim_fault(&port) == NULL);
    MUST(ikv_loop_step_number(w.loop) == last);
    for (uint64_t step = 0; step <= last; step++)
        MUST(sums[0][step] == sums[1][step]);
    ikv_comparison_result found = ikv_comparison_close(comparison);
    MUST(found.whole && !found.differs);
    MUST(ikv_kit_close(w.kit) == IKV_OK);
    ikv_sim_close(&port);
    ikv_tape_close(config.tape);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    world like = {.now = 1000, .taped = true, .data = data, .size = size};
    if (size < 16)
        return 0;
    const char *path =
        fuzz_file(data, 0, data[0] % 2 ? ".tape.cbor" : ".tape.jsonl");
    play(&like, path, record(&like, path));
    return 0;
}
