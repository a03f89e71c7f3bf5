/* test_edge_time.c - images, going back, tapes of inboxes, several routers,
 * from outside. Each case is named by its entry in docs/reliability.md. */
#include "support.h"

static bench_kit k;

/* ---------------------------------------------------- 37 tapes of inboxes --
 */

/* A recording of a recording is the same file, and plays the same. */
START_TEST(recorded_again)
{
    char out[8192], *tapes[4];
    const char *from = SOURCE "/tests/golden/lanes.tape.jsonl";
    char path[4][32];
    write_file("lanes.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"kinds\":[{\"name\":"
               "\"tide.computed\",\"fields\":[{\"name\":\"level\",\"type\":"
               "\"i32\"}]}],\"targets\":[{\"id\":\"boat\",\"shape\":{\"rect\":"
               "[0,0,100,100]}}],\"handlers\":[{\"name\":\"tide\",\"kinds\":["
               "\"tide.computed\"],\"reactions\":[{\"log\":\"the tide\"}]},{"
               "\"name\":\"rows\",\"kinds\":[\"pointer.down\"],\"at\":["
               "\"boat\"],\"reactions\":[{\"defer\":{\"kind\":\"tide."
               "computed\",\"lane\":\"step\",\"level\":9}}]}]}");
    tapes[0] = read_file(from);
    ck_assert_ptr_nonnull(strstr(tapes[0], "\"lane\""));
    for (int i = 0; i < 3; i++) {
        snprintf(path[i], sizeof path[i], "lanes%d.tape.jsonl", i);
        ck_assert_int_eq(
            run_command_line(out, sizeof out,
                             "%s/ikvar run lanes.setup.json %s --record=%s -d",
                             BINARY, i == 0 ? from : path[i - 1], path[i]),
            0);
        ck_assert_int_eq(run_command_line(out, sizeof out,
                                          "%s/ikvar tape verify %s", BINARY,
                                          path[i]),
                         0);
        ck_assert_ptr_nonnull(strstr(out, "same"));
        tapes[i + 1] = read_file(path[i]);
        ck_assert_str_eq(tapes[i + 1], tapes[0]);
    }
    for (int i = 0; i < 4; i++)
        free(tapes[i]);
}
END_TEST

/* --------------------------------------------------------- 38 going back --
 */

enum {
    KEPT_IMAGES = 12,
    BACK = 7,
    TAKEN = 8192,
    ENDS = 4096
};

/* A game that is saved along with the library, and what must be the same. */
static struct {
    ikv_parts parts;
    char *images[KEPT_IMAGES];
    uint32_t taken_then[KEPT_IMAGES];
    ikv_digest digest_then[KEPT_IMAGES], digest;
    struct game {
        uint64_t seed, heard;
        ikv_subscription last;
        ikv_target boats[6];
    } game_then[KEPT_IMAGES], game;
    ikv_taken taken[TAKEN];
    char data[TAKEN][64]; /* of those that bring some along */
    uint32_t count, played;
    int alive[ENDS], ends; /* of what on_drop is told */
} past;

static void take(const ikv_event *event, const ikv_intake *intake, void *user)
{
    (void)user;
    ck_assert_uint_lt(past.count, TAKEN);
    ikv_taken *to = &past.taken[past.count];
    *to = (ikv_taken){*event, *intake};
    if (intake->data_size > 0) {
        memcpy(past.data[past.count], intake->data, intake->data_size);
        to->intake.data = past.data[past.count];
    }
    past.count++;
}

static void watch_past(const ikv_watch *watch, void *user)
{
    (void)user;
    ikv_digest_add(&past.digest, k.bus, watch);
}

static void note_end(void *user)
{
    ck_assert_int_eq(*(int *)user, 1); /* once */
    *(int *)user = 2;
}

static uint32_t of_game(uint32_t limit)
{
    return random_below(&past.game.seed, limit);
}

static ikv_verdict play(const ikv_event *event, const ikv_delivery *d,
                        void *user);

static void hear_at(ikv_kind kind, ikv_target at)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ck_assert_int_lt(past.ends, ENDS);
    config.kind = kind;
    config.at = at;
    config.handler = play;
    config.user = &past.alive[past.ends];
    config.on_drop = note_end;
    ikv_subscription made;
    if (ikv_bus_subscribe(k.bus, &config, &made, NULL) == IKV_OK) {
        past.alive[past.ends++] = 1;
        past.game.last = made;
    }
}

static void add_boat(uint32_t at)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN,
                                     IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_UP,
                                     IKV_KIND_POINTER_ENTER};
    past.game.boats[at] =
        rect_target(k.scene, (ikv_target){0}, (float)at * 40,
                    (float)of_game(40), 70, 70, (int)of_game(3));
    for (int n = 0; n < ROWS(kinds); n++)
        hear_at(kinds[n], past.game.boats[at]);
}

/* What a step's handlers do follows from the game alone. */
static ikv_verdict play(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    ck_assert_int_eq(*(int *)user, 1); /* not told that it has ended */
    ikv_pointer_state raw; /* S1: has all that is routed with this */
    if (ikv_state_pointer(ikv_kit_state(k.kit), IKV_STATE_RAW, 0, &raw))
        past.game.seed += raw.went_down * 4u + raw.went_up + raw.held_ns +
                          (uint64_t)(int64_t)(raw.x + 3 * raw.dx);
    past.game.heard = past.game.heard * 31 + event->kind + d->sample_count;
    ikv_event later = ikv_event_make(IKV_KIND_FIELD_SET, event->time_ns);
    uint32_t at = of_game(6);
    later.target = past.game.boats[at];
    switch (of_game(18)) {
    case 0:
        ikv_bus_defer_after(d->bus, IKV_STEP_LANE, of_game(60) * 1000000,
                            &later, NULL);
        break;
    case 1:
        hear_at(IKV_KIND_FIELD_SET, past.game.boats[at]);
        break;
    case 2:
        ikv_bus_unsubscribe(d->bus, past.game.last);
        break;
    case 3:
        ikv_scene_remove(k.scene, past.game.boats[at]);
        add_boat(at);
        break;
    case 4:
        if (of_game(2) == 0)
            ikv_router_attach(k.router, event, past.game.boats[at]);
        else
            ikv_router_capture(k.router, event, past.game.boats[at]);
        break;
    case 5:
        ikv_scene_move(k.scene, past.game.boats[at], (float)of_game(200), 10);
        break;
    case 6:
        ikv_loop_set_scale(k.loop, 500 + of_game(1000));
        break;
    case 7:
        ikv_bus_defer(d->bus, IKV_STEP_LANE, &later);
        break;
    case 8:
        ikv_loop_resume(k.loop);
        break;
    case 9:
        if (of_game(3) == 0)
            ikv_loop_pause(k.loop);
        break;
    case 10:
        ikv_loop_single_step(k.loop);
        break;
    default:
        break;
    }
    return IKV_CONTINUE;
}

static void save_now(uint64_t turn)
{
    uint32_t at = (uint32_t)(turn % KEPT_IMAGES);
    ok(ikv_image_save(&past.parts, past.images[at],
                      ikv_image_size(&past.parts)));
    past.taken_then[at] = past.count;
    past.digest_then[at] = past.digest;
    past.game_then[at] = past.game;
}

static void go_back(uint64_t turn)
{
    static ikv_taken since[TAKEN];
    uint32_t at = (uint32_t)(turn % KEPT_IMAGES);
    uint32_t count = past.count - past.taken_then[at];
    memcpy(since, past.taken + past.taken_then[at], count * sizeof since[0]);
    /* They are recorded anew in their old places. */
    static char data[TAKEN][64];
    memcpy(data, past.data[past.taken_then[at]], count * sizeof data[0]);
    for (uint32_t i = 0; i < count; i++)
        if (since[i].intake.data_size > 0)
            since[i].intake.data = data[i];
    ok(ikv_image_restore(&past.parts, past.images[at],
                         ikv_image_size(&past.parts), since, count));
    valid_parts(&past.parts);
    past.count = past.taken_then[at];
    past.digest = past.digest_then[at];
    past.game = past.game_then[at];
}

/* What the player and other threads do in a frame. */
static void act(uint64_t *seed, uint64_t ms, bool *down)
{
    uint64_t late = random_below(seed, 4) == 0 ? random_below(seed, 40) : 0;
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE,
                                 7000000000 + (ms - late) * 1000000 - 500);
    e.device = k.fake.device;
    e.pointer.x = (float)random_below(seed, 250);
    e.pointer.y = (float)random_below(seed, 60);
    e.pointer.dx = (float)random_below(seed, 20);
    ok(ikv_sink_push(k.fake.sink, &e));
    if (random_below(seed, 4) == 0) {
        e.kind = *down ? IKV_KIND_POINTER_UP : IKV_KIND_POINTER_DOWN;
        e.pointer.button = 0;
        *down = !*down;
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    static const char text[] =
        "the last ferry of the day leaves the old pier at half past nine";
    if (random_below(seed, 3) == 0)
        ok(ikv_sink_push_text(k.fake.sink, &e, text,
                              1 + random_below(seed, sizeof text - 1)));
    ikv_event tide = ikv_event_make(IKV_KIND_FIELD_SET, ms);
    tide.field.field = random_below(seed, 1000);
    if (random_below(seed, 3) == 0)
        ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &tide));
}

/* Outside the steps; it is recorded, and does not come again. */
static void turn_clock(uint64_t *seed)
{
    switch (random_below(seed, 12)) {
    case 0:
        ikv_loop_pause(k.loop);
        break;
    case 1:
    case 2:
        ikv_loop_resume(k.loop);
        break;
    case 3:
        ikv_loop_single_step(k.loop);
        break;
    case 4:
        ikv_loop_set_scale(k.loop, 200 + random_below(seed, 1500));
        break;
    default:
        break;
    }
}

static void open_past(uint64_t program)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_FIELD_SET,   IKV_KIND_LOOP_PAUSE,   IKV_KIND_LOOP_RESUME,
        IKV_KIND_LOOP_SINGLE, IKV_KIND_LOOP_DROPPED, IKV_KIND_TEXT_INPUT};
    memset(&past.digest, 0, sizeof past.digest);
    past.digest = (ikv_digest)IKV_DIGEST_INIT;
    memset(&past.game, 0, sizeof past.game);
    past.game.seed = program + 1;
    past.ends = 0;
    k.config.loop.step_num = 100;
    k.config.loop.timing = program % 3 == 2 ? IKV_AT_FRAME : IKV_IN_STEP;
    k.config.loop.pending = 256;
    k.config.loop.blocks = 64;
    k.config.bus.subscriptions = 64;
    k.config.bus.images = KEPT_IMAGES;
    k.config.bus.inbox = 64;
    kit_open(&k);
    kit_frame(&k, 0);
    past.parts = parts_of(&k);
    ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_ALL, watch_past, NULL));
    for (int i = 0; i < ROWS(kinds); i++)
        hear_at(kinds[i], (ikv_target){0});
    for (uint32_t i = 0; i < 6; i++)
        add_boat(i);
}

static ikv_digest close_past(void)
{
    ikv_digest digest = past.digest;
    kit_close(&k);
    for (int i = 0; i < past.ends; i++)
        ck_assert_int_eq(past.alive[i], 2); /* all were told, once */
    return digest;
}

/* A program of that number; every so many turns back, 0 never. A turn is a step
 * or, if `outside`, a frame. */
static ikv_digest play_past(uint64_t program, uint64_t every, bool outside)
{
    uint64_t seed = program * 7919 + 3, ms = 0, turn = 0, bent = 0;
    bool down = false;
    past.count = 0;
    open_small(&k);
    open_past(program);
    for (int i = 0; i < KEPT_IMAGES; i++)
        past.images[i] = malloc(ikv_image_size(&past.parts));
    ok(ikv_loop_set_recorder(k.loop, take, NULL));
    for (int frame = 0; frame < 60; frame++) {
        ms += random_below(&seed, 20) == 0 ? 150 : 3 + random_below(&seed, 30);
        act(&seed, ms, &down);
        turn_clock(&seed);
        if (outside && every > 0) {
            turn++;
            save_now(turn);
            if (turn % every == 0 && turn > BACK)
                go_back(turn - BACK);
        }
        k.fake.now_ns = 7000000000 + ms * 1000000;
        ck_assert(ikv_loop_begin(k.loop));
        while (ikv_loop_step(k.loop)) {
            uint64_t step = ikv_loop_step_number(k.loop);
            if (outside || every == 0)
                continue;
            save_now(step);
            if (step > bent && step % every == 0 && step > BACK) {
                bent = step;
                go_back(step - BACK);
            }
        }
        turn_clock(&seed);
        ikv_loop_end(k.loop);
        if (frame % 16 == 0) { /* they take long */
            valid(ikv_overlaps_validate(ikv_kit_overlaps(k.kit)));
            valid(ikv_actions_validate(ikv_kit_actions(k.kit)));
        }
    }
    kit_frame(&k, ms); /* the steps that max_steps left */
    for (int i = 0; i < KEPT_IMAGES; i++)
        free(past.images[i]);
    return close_past();
}

static ikv_status poll_taken(void *state)
{
    (void)state;
    while (past.played < past.count &&
           ikv_sink_play(k.fake.sink, &past.taken[past.played].event,
                         &past.taken[past.played].intake) == IKV_OK)
        past.played++;
    return IKV_OK;
}

/* What was recorded last, as a tape, with frames of other lengths. */
static ikv_digest play_taken(uint64_t program)
{
    uint64_t seed = program, end_ns = k.fake.now_ns;
    past.played = past.count;
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    k.port.poll = poll_taken;
    open_past(program);
    past.played = 0;
    while (k.fake.now_ns < end_ns) {
        k.fake.now_ns += (1 + random_below(&seed, 60)) * 1000000;
        if (k.fake.now_ns > end_ns)
            k.fake.now_ns = end_ns;
        ck_assert(ikv_loop_begin(k.loop));
        while (ikv_loop_step(k.loop))
            valid(ikv_loop_validate(k.loop));
        ikv_loop_end(k.loop);
    }
    ck_assert_uint_eq(past.played, past.count);
    return close_past();
}

/* Programs that pause, slow down, drop time, subscribe, remove and hear other
 * threads, whose handlers turn the clock and read the raw state: gone back or
 * not, saved in a step or outside, or played from what was recorded, the same
 * run. */
START_TEST(going_back)
{
    enum {
        PROGRAMS = 200
    };
    int differ[3] = {0, 0, 0}, first = -1;
    uint64_t deliveries = 0;
    for (uint64_t program = 0; program < PROGRAMS; program++) {
        ikv_digest straight = play_past(program, 0, false);
        deliveries += straight.deliveries;
        for (int way = 0; way < 3; way++) {
            ikv_digest other =
                way == 0 ? play_taken(program)
                         : play_past(program, 9 + program % 5, way == 2);
            if (other.value != straight.value ||
                other.deliveries != straight.deliveries) {
                differ[way]++;
                first = first < 0 ? (int)program : first;
            }
        }
    }
    ck_assert_msg(differ[0] + differ[1] + differ[2] == 0,
                  "of %d programs %d differ when played, %d gone back inside "
                  "steps, %d outside; the first is %d",
                  PROGRAMS, differ[0], differ[1], differ[2], first);
    ck_assert_uint_gt(deliveries, 10000);
}
END_TEST

/* What has ended comes back with an image: it is told when no image can bring
 * it, and once. An image that would bring back what was told is refused. */
START_TEST(ended_and_back)
{
    int life[4] = {1, 1, 1, 1};
    open_small(&k);
    k.config.bus.images = 3;
    k.config.bus.kept = 2;
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    char *first = malloc(size), *later = malloc(size);
    ikv_subscription made[4], born;
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_FIELD_SET;
    config.handler = count_heard;
    config.on_drop = note_end;
    for (int i = 0; i < 4; i++) {
        config.user = &life[i];
        ok(ikv_bus_subscribe(k.bus, &config, &made[i], NULL));
    }
    ok(ikv_image_save(&parts, first, size)); /* number 1 */
    ok(ikv_bus_unsubscribe(k.bus, made[0]));
    ck_assert_int_eq(life[0], 1);
    restore(&parts, first, size);
    ok(ikv_bus_unsubscribe(k.bus, made[0])); /* it was back */
    ok(ikv_image_save(&parts, later, size)); /* 2 */
    ok(ikv_image_save(&parts, later, size));
    ck_assert_int_eq(life[0], 1);
    ok(ikv_image_save(&parts, later, size)); /* 4: three since it ended */
    ck_assert_int_eq(life[0], 2);
    status_is(ikv_image_restore(&parts, first, size, NULL, 0), IKV_STALE);
    restore(&parts, later, size);
    ok(ikv_bus_unsubscribe(k.bus, made[1]));
    ok(ikv_bus_unsubscribe(k.bus, made[2]));
    ck_assert_int_eq(life[1], 1);
    ok(ikv_bus_unsubscribe(k.bus, made[3])); /* no more room for the first */
    ck_assert_int_eq(life[1], 2);
    ck_assert_int_eq(life[2], 1);
    status_is(ikv_image_restore(&parts, later, size, NULL, 0), IKV_STALE);
    /* Born since the image: told when it is restored, which never held it. */
    ok(ikv_image_save(&parts, later, size));
    life[0] = 1;
    config.user = &life[0];
    ok(ikv_bus_subscribe(k.bus, &config, &born, NULL));
    restore(&parts, later, size);
    ck_assert_int_eq(life[0], 2);
    /* Its handle is of nothing now, and never of another one. */
    for (int i = 0; i < 70; i++) {
        ikv_subscription next;
        config.on_drop = NULL;
        ok(ikv_bus_subscribe(k.bus, &config, &next, NULL));
        ck_assert_uint_ne(next.bits, born.bits);
        status_is(ikv_bus_unsubscribe(k.bus, born), IKV_ABSENT);
        if (i % 2 == 0)
            ok(ikv_bus_unsubscribe(k.bus, next));
        else
            restore(&parts, later, size);
    }
    free(first);
    free(later);
    kit_close(&k);
    ck_assert_int_eq(life[2], 2);
    ck_assert_int_eq(life[3], 2);
}
END_TEST

/* Where there is room for one only, what comes back with the image is not told
 * to make room for what goes. */
START_TEST(little_room)
{
    int life[3] = {1, 1, 1};
    open_small(&k);
    k.config.bus.kept = 1;
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size), *later = malloc(size);
    ikv_subscription made[3];
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_FIELD_SET;
    config.handler = count_heard;
    config.on_drop = note_end;
    for (int i = 0; i < 3; i++) {
        config.user = &life[i];
        ok(ikv_bus_subscribe(k.bus, &config, &made[i], NULL));
        if (i == 0)
            ok(ikv_image_save(&parts, image, size));
    }
    ok(ikv_image_save(&parts, later, size)); /* holds the others too */
    ok(ikv_bus_unsubscribe(k.bus, made[0]));
    restore(&parts, image, size);
    ck_assert(ikv_bus_subscribed(k.bus, made[0]));
    ck_assert_int_eq(life[0], 1);
    ck_assert_int_eq(life[1] + life[2], 3); /* there is room for one */
    free(image);
    free(later);
    kit_close(&k);
    for (int i = 0; i < 3; i++)
        ck_assert_int_eq(life[i], 2);
}
END_TEST

/* Who is told to make room ends the next one: that is told once as well. */
static ikv_subscription to_end;

static void end_another(void *user)
{
    note_end(user);
    ikv_bus_unsubscribe(k.bus, to_end);
}

START_TEST(told_to_make_room)
{
    int life[2] = {1, 1};
    open_small(&k);
    k.config.bus.kept = 1;
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size), *later = malloc(size);
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_FIELD_SET;
    config.handler = count_heard;
    ok(ikv_image_save(&parts, image, size));
    for (int i = 0; i < 2; i++) {
        config.user = &life[i];
        config.on_drop = i == 0 ? end_another : note_end;
        ok(ikv_bus_subscribe(k.bus, &config, &to_end, NULL));
    }
    ok(ikv_image_save(&parts, later, size)); /* holds both */
    restore(&parts, image, size);
    ck_assert_int_eq(life[0], 2);
    free(image);
    free(later);
    kit_close(&k);
    ck_assert_int_eq(life[1], 2);
}
END_TEST

/* Handles of owners and timers go on likewise; a target's is the same again. */
START_TEST(handles_and_back)
{
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size);
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 1);
    ikv_owner owner, next_owner;
    ikv_timer timer, next_timer;
    ikv_target target, next_target;
    ok(ikv_image_save(&parts, image, size));
    ok(ikv_bus_add_owner(k.bus, &owner));
    ok(ikv_bus_defer_after(k.bus, IKV_STEP_LANE, 5, &e, &timer));
    target = rect_target(k.scene, (ikv_target){0}, 0, 0, 5, 5, 0);
    restore(&parts, image, size);
    ok(ikv_bus_add_owner(k.bus, &next_owner));
    ok(ikv_bus_defer_after(k.bus, IKV_STEP_LANE, 5, &e, &next_timer));
    next_target = rect_target(k.scene, (ikv_target){0}, 0, 0, 5, 5, 0);
    ck_assert_uint_ne(owner.bits, next_owner.bits);
    ck_assert_uint_ne(timer.bits, next_timer.bits);
    ck_assert_uint_eq(target.bits, next_target.bits);
    status_is(ikv_bus_cancel_timer(k.bus, timer), IKV_ABSENT);
    ok(ikv_bus_cancel_timer(k.bus, next_timer));
    free(image);
    kit_close(&k);
}
END_TEST

/* How many frames there are to the end, and steps in them; in that frame it
 * goes back to the begin, 0 never. */
static int frames_to_the_end(int back_at, int *steps)
{
    int frames = 0;
    ikv_taken none;
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    kit_frame(&k, 100);
    k.fake.poll_status = IKV_ENDED;
    *steps = 0;
    while (ikv_loop_begin(k.loop)) {
        frames++;
        ck_assert_int_lt(frames, 50);
        if (frames == back_at) {
            ikv_loop_end(k.loop);
            ok(ikv_image_restore(&parts, image, size, &none, 0));
            valid_parts(&parts);
            *steps = 0;
            continue;
        }
        while (ikv_loop_step(k.loop))
            ++*steps;
        ikv_loop_end(k.loop);
    }
    free(image);
    kit_close(&k);
    return frames;
}

/* In the last frame, in which all ports have ended, steps are run again all the
 * same, though the clock stands still. */
START_TEST(back_at_the_end)
{
    int steps, frames = frames_to_the_end(0, &steps);
    ck_assert_int_eq(steps, 1); /* for the device that was let go */
    frames_to_the_end(frames, &steps);
    ck_assert_int_eq(steps, 7);
}
END_TEST

static ikv_verdict note_kind(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)d;
    note(user, "%s ", ikv_catalogue_info(NULL, event->kind)->name);
    return IKV_CONTINUE;
}

/* A run whose port ends, with a frame each `ms`; gone back, or not, as the frame
 * begins in which that is seen, and in which something `waits` that it had pushed. */
static void run_to_the_end(bool back, uint64_t ms, bool waits, record *heard)
{
    static const ikv_kind kinds[] = {IKV_KIND_LOOP_STEP, IKV_KIND_KEY_DOWN,
                                     IKV_KIND_KEY_UP, IKV_KIND_POINTER_MOVE,
                                     IKV_KIND_DEVICE_REMOVE};
    ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, 7005000000);
    open_small(&k);
    k.config.loop.step_num = 100;
    k.config.loop.timing = IKV_AT_FRAME;
    kit_open(&k);
    kit_frame(&k, 0);
    heard->text[0] = '\0';
    past.count = 0;
    ok(ikv_loop_set_recorder(k.loop, take, NULL));
    for (int i = 0; i < ROWS(kinds); i++)
        hears(k.bus, kinds[i], (ikv_target){0}, note_kind, heard);
    event.device = k.fake.device;
    event.key.code = IKV_CODE(9);
    ok(ikv_sink_push(k.fake.sink, &event));
    kit_frame(&k, ms);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts), length = strlen(heard->text);
    void *image = malloc(size);
    uint32_t then = past.count;
    ok(ikv_image_save(&parts, image, size));
    for (uint64_t frame = 2; frame <= 5; frame++) {
        event = ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
        event.device = k.fake.device;
        if (frame < 5 || waits)
            ok(ikv_sink_push(k.fake.sink, &event));
        if (frame < 5)
            kit_frame(&k, frame * ms);
    }
    k.fake.poll_status = IKV_ENDED;
    if (back) {
        ok(ikv_image_restore(&parts, image, size, past.taken + then,
                             past.count - then));
        heard->text[length] = '\0';
    }
    for (uint64_t frame = 5; kit_frame(&k, frame * ms) >= 0; frame++)
        ck_assert_uint_lt(frame, 20);
    free(image);
    kit_close(&k);
}

/* The port's devices are let go of where they were. */
START_TEST(ended_while_past)
{
    static record straight, back;
    uint64_t ms = _i % 2 == 0 ? 10 : 1; /* a step's length, or so few */
    run_to_the_end(false, ms, _i < 2, &straight);
    run_to_the_end(true, ms, _i < 2, &back);
    ck_assert_ptr_nonnull(strstr(straight.text, "device.remove"));
    ck_assert_str_eq(back.text, straight.text);
}
END_TEST

/* What another thread had deferred, and was taken between two steps: gone back
 * into the first of them, it does not come at its end. */
START_TEST(inbox_between_two_steps)
{
    open_small(&k);
    k.config.loop.step_num = 100;
    kit_open(&k);
    int heard = 0;
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    hears(k.bus, IKV_KIND_FIELD_SET, (ikv_target){0}, count_heard, &heard);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    past.count = 0;
    k.fake.now_ns += 10000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    ok(ikv_image_save(&parts, image, size));
    ok(ikv_loop_set_recorder(k.loop, take, NULL));
    ikv_loop_end(k.loop);
    ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e));
    ok(ikv_bus_flush(k.bus, IKV_STEP_LANE, NULL));
    ck_assert_int_eq(heard, 1);
    k.fake.now_ns += 10000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    heard = 0;
    ok(ikv_image_restore(&parts, image, size, past.taken, past.count));
    ck_assert(ikv_loop_step(k.loop));
    ck_assert_int_eq(heard, 0);
    ck_assert(!ikv_loop_step(k.loop));
    ck_assert_int_eq(heard, 1);
    free(image);
    ikv_loop_end(k.loop);
    kit_close(&k);
}
END_TEST

/* Paused while the past is run again: that is the present then, and what comes
 * in is heard. */
START_TEST(paused_on_the_way)
{
    open_small(&k);
    k.config.loop.step_num = 100;
    kit_open(&k);
    int heard = 0;
    hears(k.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, count_heard, &heard);
    kit_frame(&k, 0);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    kit_frame(&k, 50);
    ok(ikv_image_restore(&parts, image, size, past.taken, 0));
    k.fake.now_ns += 10000000;
    ck_assert(ikv_loop_begin(k.loop));
    ck_assert(ikv_loop_step(k.loop));
    if (_i == 0) { /* when the step ends */
        ok(ikv_loop_pause(k.loop));
        ck_assert(!ikv_loop_step(k.loop));
    }
    ikv_loop_end(k.loop);
    if (_i == 1) /* the others have not run */
        ok(ikv_loop_pause(k.loop));
    ck_assert_uint_eq(ikv_loop_step_number(k.loop), 0);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 80);
    ck_assert_int_eq(heard, 1);
    free(image);
    kit_close(&k);
}
END_TEST

/* A tape's numbers of groups and the loop's own have nothing in common: what is
 * played alone does not draw a group along before its time. */
START_TEST(numbers_of_groups)
{
    int heard = 0;
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    kit_open(&k);
    hears(k.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, count_heard, &heard);
    kit_frame(&k, 0);
    ok(ikv_loop_pause(k.loop));
    ikv_intake intake = IKV_INTAKE_INIT;
    for (uint32_t i = 0; i < 2; i++) {
        ikv_event e =
            ikv_event_make(IKV_KIND_POINTER_MOVE, 20000000 + i * 10000000);
        e.device = k.fake.device;
        intake.group = i == 0 ? 0 : (uint32_t)_i + 1;
        ok(ikv_sink_play(k.fake.sink, &e, &intake));
    }
    kit_frame(&k, 25);
    ck_assert_int_eq(heard, 1);
    kit_frame(&k, 40);
    ck_assert_int_eq(heard, 2);
    kit_close(&k);
}
END_TEST

/* What a tape says was taken from an inbox while an event was handled is given
 * once, however small the ring is that it lies in. */
static ikv_verdict note_lane(const ikv_event *event, const ikv_delivery *d,
                             void *seen)
{
    ck_assert(d->data == NULL && d->data_size == 0);
    note(seen, "%u ", event->action.steps);
    return IKV_CONTINUE;
}

/* T1. Each lane has a ring of its own for what is played: full ones keep apart. */
START_TEST(full_inboxes)
{
    static record seen;
    ikv_lane lanes[4];
    seen.text[0] = '\0';
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    kit_open(&k);
    for (int i = 0; i < ROWS(lanes); i++)
        ok(ikv_bus_add_lane(k.bus, (const char[]){(char)('a' + i), 0},
                            &lanes[i]));
    hears(k.bus, IKV_KIND_ACTION_HOLD, (ikv_target){0}, note_lane, &seen);
    kit_frame(&k, 0);
    char expected[256] = "";
    for (int i = 0; i < ROWS(lanes); i++)
        for (uint32_t nth = 0; nth < 8; nth++) {
            ikv_intake intake = IKV_INTAKE_INIT;
            ikv_event e = ikv_event_make(IKV_KIND_ACTION_HOLD, 0);
            e.action.steps = (uint32_t)i * 10 + nth;
            intake.how = IKV_INTAKE_INBOX;
            intake.lane = lanes[i];
            intake.has_due = true;
            ok(ikv_sink_play(k.fake.sink, &e, &intake));
            snprintf(expected + strlen(expected), 8, "%u ", e.action.steps);
        }
    kit_frame(&k, 20);
    for (int i = 0; i < ROWS(lanes); i++)
        ok(ikv_bus_flush(k.bus, lanes[i], NULL));
    ck_assert_str_eq(seen.text, expected);
    kit_close(&k);
}
END_TEST

/* T1. What was taken in while another was handled comes with it, also where a
 * tape gives it a later time (`_i` odd), after moves that merge, or in none; and
 * all is heard though no flush comes as the tape says (from 2 on). */
START_TEST(inboxes_in_a_small_ring)
{
    static record seen;
    seen.text[0] = '\0';
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    k.config.loop.pending = 4;
    kit_open(&k);
    hears(k.bus, IKV_KIND_ACTION_HOLD, (ikv_target){0}, note_lane, &seen);
    kit_frame(&k, 0);
    static const char *const frames[] = {"iwww", "iw",   "ww",
                                         "mmww", "mwmw", "xxi"};
    uint32_t number = 0;
    for (int f = 0; f < ROWS(frames); f++) {
        for (const char *c = frames[f]; *c != '\0'; c++) {
            ikv_intake intake = IKV_INTAKE_INIT;
            ikv_event e = ikv_event_make(*c == 'i'   ? IKV_KIND_KEY_DOWN
                                         : *c == 'm' ? IKV_KIND_POINTER_MOVE
                                                     : IKV_KIND_ACTION_HOLD,
                                         (uint64_t)f * 20000000);
            e.device = k.fake.device;
            intake.within = *c == 'w';
            intake.has_due = true;
            intake.due_ns = (uint64_t)f * 20000000;
            if (*c == 'w' || *c == 'x') {
                intake.how = IKV_INTAKE_INBOX;
                intake.flush = (uint8_t)(_i / 2 * 3);
                e.action.steps = ++number;
            }
            if (*c == 'w')
                intake.due_ns += (uint64_t)(_i % 2) * 30000000;
            ok(ikv_sink_play(k.fake.sink, &e, &intake));
        }
        kit_frame(&k, (uint64_t)f * 20 + 20);
        kit_frame(&k, (uint64_t)f * 20 + 20);
        valid(ikv_loop_validate(k.loop));
    }
    kit_frame(&k, 200);
    ck_assert_str_eq(seen.text, "1 2 3 4 5 6 7 8 9 10 11 12 ");
    ck_assert_uint_eq(loop_counts(k.loop).waiting, 0);
    kit_close(&k);
}
END_TEST

/* A tape may name more that is held than there is room for: it is said. */
START_TEST(held_beyond_the_room)
{
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    k.config.loop.held = 2;
    kit_open(&k);
    kit_frame(&k, 0);
    for (int i = 0; i <= 2 + _i; i++) {
        ikv_intake intake = IKV_INTAKE_INIT;
        bool mark = i == 2 + _i;
        ikv_event e = ikv_event_make(
            mark ? IKV_KIND_DEVICE_RESYNC : IKV_KIND_KEY_DOWN, 1000000);
        e.device = k.fake.device;
        if (!mark)
            e.key.code = ikv_code_find("KeyA") + (uint32_t)i;
        intake.how = mark ? IKV_INTAKE_INPUT : IKV_INTAKE_HELD;
        ok(ikv_sink_play(k.fake.sink, &e, &intake));
    }
    kit_frame(&k, 100);
    ck_assert_int_eq(k.reports, _i);
    for (uint32_t i = 0; i < 3; i++)
        ck_assert_int_eq(ikv_state_key(ikv_kit_state(k.kit), IKV_STATE_RAW, 0,
                                       ikv_code_find("KeyA") + i)
                             .down,
                         i < 2);
    kit_close(&k);
}
END_TEST

/* A hold that comes due just when a frame of a paused loop does is of that
 * frame, and recorded as such. */
static void count_marks(const ikv_event *event, const ikv_intake *intake,
                        void *marks)
{
    (void)intake;
    *(int *)marks += event->kind == IKV_KIND_LOOP_PAUSE;
}

START_TEST(held_while_paused)
{
    int held = 0, marks = 0;
    open_small(&k);
    kit_open(&k);
    hears(k.bus, IKV_KIND_POINTER_HOLD, (ikv_target){0}, count_heard, &held);
    kit_frame(&k, 0);
    ok(ikv_loop_pause(k.loop));
    ikv_event e =
        ikv_event_make(IKV_KIND_POINTER_DOWN, k.fake.now_ns + 20000000);
    e.device = k.fake.device;
    ok(ikv_sink_push(k.fake.sink, &e));
    kit_frame(&k, 20);
    kit_frame(&k, 40); /* its edges end */
    ok(ikv_loop_set_recorder(k.loop, count_marks, &marks));
    kit_frame(&k, 60);
    ck_assert(held == 0 && marks == 0);
    kit_frame(&k, 520);
    ck_assert(held == 1 && marks == 1);
    kit_frame(&k, 540);
    ck_assert(held == 1 && marks == 1);
    kit_close(&k);
}
END_TEST

/* The log names a field that is set as traces do. */
START_TEST(log_names)
{
    char out[8192];
    write_file("log.setup.json",
               "{\"format\":\"ikvar.setup/1\",\"announces\":true,\"targets\":[{"
               "\"id\":\"lamp\",\"shape\":{\"rect\":[0,0,100,100]},\"fields\":{"
               "\"lit\":false}}],\"handlers\":[{\"name\":\"light\",\"kinds\":["
               "\"pointer.down\"],\"reactions\":[{\"toggle\":\"lit\"}],\"at\":["
               "\"lamp\"]},{\"name\":\"count\",\"kinds\":[\"field.set\"],"
               "\"reactions\":[{\"log\":\"one more\"}]}]}");
    write_file("log.tape.jsonl",
               "{\"format\":\"ikvar.tape/2\"}\n"
               "{\"t\":20,\"kind\":\"pointer.down\",\"x\":10,\"y\":10}\n");
    ck_assert_int_eq(run_command_line(out, sizeof out,
                                      "%s/ikvar run log.setup.json "
                                      "log.tape.jsonl",
                                      BINARY),
                     0);
    ck_assert_msg(strstr(out, "field.set on lamp  field lit, type bool, "
                              "new true") != NULL,
                  "%s", out);
    ck_assert_int_eq(
        run_command_line(out, sizeof out, "%s/ikvar help run", BINARY), 0);
    ck_assert_ptr_nonnull(strstr(out, "Usage: ikvar run [options]"));
}
END_TEST

/* ------------------------------------------------------ 39 several routers --
 */

static struct {
    bench_kit k;
    ikv_router *routers[2];
    ikv_input *input;
    ikv_loop *loop;
    fake_port fake;
    counted memory;
    record seen;
} pair;

static ikv_verdict note_view(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)user;
    uint32_t family = ikv_catalogue_info(NULL, event->kind)->family;
    note(&pair.seen, "%s@%u/%u%s%s; ",
         ikv_catalogue_info(NULL, event->kind)->name,
         ikv_bus_target_id(d->bus, event->target), event->view,
         family == IKV_FAMILY_KEY && (event->modifiers & IKV_SHIFT) != 0 ? "S"
                                                                         : "",
         d->router == pair.routers[1] ? " second" : "");
    if (family != IKV_FAMILY_FOCUS) /* also where another one's event leaves */
        status_is(
            ikv_router_route(pair.routers[d->router == pair.routers[1]], event)
                .status,
            IKV_BUSY);
    return IKV_CONTINUE;
}

/* Two routers, a view each, over one scene with a boat in each view's layer. */
static void open_pair(void)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_ENTER, IKV_KIND_POINTER_LEAVE, IKV_KIND_POINTER_DOWN,
        IKV_KIND_POINTER_UP,    IKV_KIND_KEY_DOWN,      IKV_KIND_KEY_UP,
        IKV_KIND_FOCUS_IN};
    memset(&pair, 0, sizeof pair);
    kit_prepare(&pair.k);
    pair.k.config.scene.views = 2;
    pair.k.config.router.views = 1;
    kit_open(&pair.k);
    ikv_router_config config = IKV_ROUTER_INIT;
    config.bus = pair.k.bus;
    config.picking = ikv_kit_picking(pair.k.scene);
    config.views = 2;
    config.memory = counted_memory(&pair.memory);
    pair.routers[0] = pair.k.router;
    ok(ikv_router_open(&config, &pair.routers[1]));
    ikv_loop_config loop = IKV_LOOP_INIT;
    loop.bus = pair.k.bus;
    loop.queue = ikv_kit_queue(pair.k.kit);
    loop.input = pair.input =
        input_of(pair.k.bus, pair.routers, 2, counted_memory(&pair.memory));
    pair.fake.now_ns = 7000000000;
    ikv_port port = fake_port_of(&pair.fake);
    loop.ports = &port;
    loop.port_count = 1;
    loop.frame_hz = IKV_UNPACED;
    loop.memory = counted_memory(&pair.memory);
    ok(ikv_loop_open(&loop, &pair.loop));
    ikv_target_config boat = IKV_TARGET_INIT;
    ikv_target target;
    boat.shape = ikv_scene_rect(0, 0, 100, 100);
    boat.id = 7;
    boat.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(pair.k.scene, &boat, &target, NULL));
    ikv_subscription_config s = IKV_SUBSCRIPTION_INIT;
    s.kinds = kinds;
    s.kind_count = ROWS(kinds);
    s.at = target;
    s.handler = note_view;
    ok(ikv_bus_subscribe(pair.k.bus, &s, NULL, NULL));
    for (ikv_kind kind = IKV_KIND_PAD_DOWN; kind <= IKV_KIND_PAD_AXIS; kind++)
        hears(pair.k.bus, kind, (ikv_target){0}, note_view, NULL);
    ok(ikv_router_focus(pair.routers[0], 0, target));
    ok(ikv_router_focus(pair.routers[1], 0, target));
}

static void close_pair(void)
{
    valid(ikv_router_validate(pair.routers[1]));
    ikv_loop_close(pair.loop);
    ok(ikv_input_close(pair.input));
    ikv_router_close(pair.routers[1]);
    kit_close(&pair.k);
}

/* L5. What either router owes its resting mice while paused is recorded: here
 * the second one's boat slips away under it, and comes back. */
static ikv_target slippery;

static ikv_verdict slip_away(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)d, (void)user;
    ikv_scene_move(pair.k.scene, slippery,
                   event->kind == IKV_KIND_POINTER_OVER ? 900 : 200, 0);
    return IKV_CONTINUE;
}

START_TEST(second_owes)
{
    int marks = 0;
    open_pair();
    slippery = rect_target(pair.k.scene, (ikv_target){0}, 200, 0, 50, 50, 1);
    hears(pair.k.bus, IKV_KIND_POINTER_OVER, slippery, slip_away, NULL);
    hears(pair.k.bus, IKV_KIND_POINTER_OUT, slippery, slip_away, NULL);
    whole_frame(pair.loop);
    ok(ikv_loop_pause(pair.loop));
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, pair.fake.now_ns);
    move.device = pair.fake.device;
    move.view = (uint8_t)_i;
    move.pointer.type = IKV_MOUSE;
    move.pointer.x = 210;
    move.pointer.y = 5;
    ok(ikv_sink_push(pair.fake.sink, &move));
    for (int frame = 0; frame < 4; frame++) {
        if (frame == 2) /* nothing else is due any more */
            ok(ikv_loop_set_recorder(pair.loop, count_marks, &marks));
        pair.fake.now_ns += 10000000;
        whole_frame(pair.loop);
    }
    ck_assert_int_eq(marks, 2);
    close_pair();
}
END_TEST

/* MODAL2: the mouse goes over to the first view. Who is told in the second that
 * it has left makes something modal there: the finger that is down outside is
 * cancelled at once. */
static ikv_verdict make_modal(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)event, (void)d;
    ikv_router_set_modal(pair.routers[1], 0, *(ikv_target *)user);
    return IKV_CONTINUE;
}

START_TEST(modal_as_it_goes_over)
{
    int cancelled = 0;
    open_pair();
    ikv_target menu =
        rect_target(pair.k.scene, (ikv_target){0}, 300, 0, 9, 9, 0);
    hears(pair.k.bus, IKV_KIND_POINTER_CANCEL, (ikv_target){0}, count_heard,
          &cancelled);
    whole_frame(pair.loop);
    for (uint16_t id = 0; id < 3; id++) {
        ikv_event event = ikv_event_make(id == 0 ? IKV_KIND_POINTER_DOWN
                                                 : IKV_KIND_POINTER_MOVE,
                                         pair.fake.now_ns);
        event.device = pair.fake.device;
        event.view = id < 2;
        event.pointer.pointer = id > 0;
        event.pointer.type = id == 0 ? IKV_TOUCH : IKV_MOUSE;
        event.pointer.x = event.pointer.y = 10;
        ikv_input_route(pair.input, &event, NULL, 0);
        if (id == 1)
            hears(pair.k.bus, IKV_KIND_POINTER_LEAVE, (ikv_target){0},
                  make_modal, &menu);
        valid(ikv_router_validate(pair.routers[1]));
    }
    ck_assert_int_eq(cancelled, 1);
    close_pair();
}
END_TEST

typedef struct pair_row {
    const char *what;
    struct {
        ikv_kind kind;
        uint8_t view;
        const char *code; /* of a key */
    } input[4];
    const char *seen;
} pair_row;

static const pair_row pair_table[] = {
    {"a mouse goes over",
     {{IKV_KIND_POINTER_MOVE, 0, NULL}, {IKV_KIND_POINTER_MOVE, 1, NULL}},
     "pointer.enter@7/0; pointer.leave@7/0; pointer.enter@7/1 second; "},
    {"and back, by the wheel",
     {{IKV_KIND_POINTER_MOVE, 1, NULL},
      {IKV_KIND_WHEEL, 0, NULL},
      {IKV_KIND_POINTER_MOVE, 0, NULL}},
     "pointer.enter@7/1 second; pointer.leave@7/1 second; "
     "pointer.enter@7/0; "},
    {"a pen's distance is told over the other",
     {{IKV_KIND_POINTER_MOVE, 0, NULL}, {IKV_KIND_PEN_DISTANCE, 1, NULL}},
     "pointer.enter@7/0; pointer.leave@7/0; "},
    {"a drag ends over the other",
     {{IKV_KIND_POINTER_DOWN, 0, NULL},
      {IKV_KIND_POINTER_UP, 1, NULL},
      {IKV_KIND_POINTER_MOVE, 1, NULL}},
     "pointer.enter@7/0; pointer.down@7/0; pointer.up@7/0; "
     "pointer.leave@7/0; pointer.enter@7/1 second; "},
    {"a key's up comes with another view",
     {{IKV_KIND_KEY_DOWN, 0, "ShiftLeft"},
      {IKV_KIND_KEY_DOWN, 1, "KeyA"},
      {IKV_KIND_KEY_UP, 0, "KeyA"},
      {IKV_KIND_KEY_UP, 1, "ShiftLeft"}},
     "key.down@7/0S; key.down@7/1S second; key.up@7/0S second; "
     "key.up@7/1; "},
    {"a device goes that has keys down in both",
     {{IKV_KIND_KEY_DOWN, 0, "KeyA"},
      {IKV_KIND_KEY_DOWN, 1, "KeyB"},
      {IKV_KIND_DEVICE_REMOVE, 0, NULL}},
     "key.down@7/0; key.down@7/1 second; key.up@7/1 second; key.up@7/0; "},
    /* a pad is of the router that had it first, until it is gone */
    {"a pad's button in the other view",
     {{IKV_KIND_PAD_DOWN, 1, NULL},
      {IKV_KIND_PAD_AXIS, 0, NULL},
      {IKV_KIND_PAD_UP, 0, NULL}},
     "pad.down@0/1 second; pad.axis@0/0 second; pad.up@0/0 second; "},
    {"a pad that is gone",
     {{IKV_KIND_PAD_DOWN, 1, NULL},
      {IKV_KIND_DEVICE_REMOVE, 0, NULL},
      {IKV_KIND_PAD_DOWN, 0, NULL}},
     "pad.down@0/1 second; pad.up@0/0 second; pad.down@0/0; "},
};

START_TEST(between_routers)
{
    open_pair();
    ck_assert_str_eq(pair.seen.text, "focus.in@7/0; focus.in@7/1 second; ");
    pair.seen.text[0] = '\0';
    ikv_loop_begin(pair.loop);
    ikv_loop_end(pair.loop);
    for (int i = 0; i < 4 && pair_table[_i].input[i].kind != 0; i++) {
        ikv_kind kind = pair_table[_i].input[i].kind;
        ikv_event e = ikv_event_make(kind, pair.fake.now_ns);
        e.device = pair.fake.device;
        e.view = pair_table[_i].input[i].view;
        if (pair_table[_i].input[i].code != NULL)
            e.key.code = ikv_code_find(pair_table[_i].input[i].code);
        else
            e.pointer.x = e.pointer.y = 10;
        if (kind == IKV_KIND_PEN_DISTANCE)
            e.pen.pointer = 5;
        else if (kind == IKV_KIND_WHEEL)
            e.wheel.pointer = 5;
        else if (kind < IKV_KIND_WHEEL)
            e.pointer.pointer = 5;
        if (kind == IKV_KIND_WHEEL)
            e.wheel.dy = 1;
        ok(ikv_sink_push(pair.fake.sink, &e));
        pair.fake.now_ns += 20000000;
        ck_assert(whole_frame(pair.loop));
    }
    ck_assert_str_eq(pair.seen.text, pair_table[_i].seen);
    for (int i = 0; i < 2; i++)
        ck_assert_uint_eq(router_counts(pair.routers[i]).meaningless, 0);
    close_pair();
}
END_TEST

static ikv_verdict note_place(const ikv_event *event, const ikv_delivery *d,
                              void *seen)
{
    (void)d;
    note(seen, "%s/%u ", ikv_catalogue_info(NULL, event->kind)->name,
         event->view);
    return IKV_CONTINUE;
}

/* One router with two views: a drag that ends over the other view leaves the
 * first, and the mouse is in the other at once; with a capture too. */
START_TEST(drag_between_views)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_ENTER, IKV_KIND_POINTER_LEAVE, IKV_KIND_POINTER_UP};
    static const struct {
        ikv_kind kind;
        uint8_t view;
    } input[] = {{IKV_KIND_POINTER_DOWN, 0},
                 {IKV_KIND_POINTER_MOVE, 1},
                 {IKV_KIND_POINTER_UP, 1}};
    static record seen;
    seen.text[0] = '\0';
    kit_prepare(&k);
    k.config.scene.views = 2;
    kit_open(&k);
    ikv_target_config boat = IKV_TARGET_INIT;
    ikv_target target;
    boat.shape = ikv_scene_rect(0, 0, 100, 100);
    boat.traits = _i == 1 ? IKV_CAPTURES : 0;
    ok(ikv_scene_add(k.scene, &boat, &target, NULL));
    for (int i = 0; i < ROWS(kinds); i++)
        hears(k.bus, kinds[i], target, note_place, &seen);
    kit_frame(&k, 0);
    for (uint64_t i = 0; i < 3; i++) {
        ikv_event e = ikv_event_make(input[i].kind, k.fake.now_ns);
        e.device = k.fake.device;
        e.view = input[i].view;
        e.pointer.x = e.pointer.y = 10;
        ok(ikv_sink_push(k.fake.sink, &e));
        kit_frame(&k, 20 * (i + 1));
    }
    ck_assert_str_eq(seen.text, "pointer.enter/0 pointer.up/0 "
                                "pointer.leave/0 pointer.enter/1 ");
    kit_close(&k);
}
END_TEST

/* A bus has one scene; when that is closed it may have another. */
START_TEST(one_scene)
{
    ikv_scene *second = NULL;
    kit_prepare(&k);
    kit_open(&k);
    counted memory = {0};
    ikv_scene_config config = IKV_SCENE_INIT;
    config.bus = k.bus;
    config.memory = counted_memory(&memory);
    config.reporter = k.config.reporter;
    status_is(ikv_scene_open(&config, &second), IKV_BUSY);
    ck_assert_ptr_nonnull(strstr(k.report, "the bus has a scene already"));
    ck_assert_int_eq(memory.takes, 0);
    kit_close(&k);
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_bus *bus;
    bus_config.memory = ikv_host_memory();
    ok(ikv_bus_open(&bus_config, &bus));
    config.bus = bus;
    for (int i = 0; i < 2; i++) {
        ok(ikv_scene_open(&config, &second));
        ok(ikv_scene_close(second));
    }
    ikv_bus_close(bus);
}
END_TEST

/* Without the scene, whose targets the bus then knows no more: what is removed
 * from it, or closed with it, is let go all the same. */
START_TEST(image_without_the_scene)
{
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = ikv_kit_parts(k.kit);
    parts.scene = NULL;
    size_t size = ikv_image_size(&parts);
    char *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    ikv_target a = rect_target(k.scene, (ikv_target){0}, 0, 0, 5, 5, 0);
    rect_target(k.scene, (ikv_target){0}, 0, 0, 5, 5, 0);
    ok(ikv_image_restore(&parts, image, size, NULL, 0));
    status_is(ikv_scene_remove(k.scene, a), IKV_STALE);
    free(image);
    ok(ikv_kit_close(k.kit)); /* its scene is not valid any more */
}
END_TEST

/* 32: parts that are not there, or not all. */
START_TEST(images_of_some_parts)
{
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts all = ikv_kit_parts(k.kit), parts = all;
    size_t size = ikv_image_size(&all), less;
    char *image = malloc(size);
    ck_assert_uint_eq(ikv_image_size(NULL), 0);
    parts.size = 4;
    ck_assert_uint_eq(ikv_image_size(&parts), 0);
    parts = all;
    parts.loop = NULL;
    ck_assert_uint_eq(ikv_image_size(&parts), 0);
    parts = all;
    parts.bus = NULL;
    ck_assert_uint_eq(ikv_image_size(&parts), 0);
    parts = all;
    parts.router_count = IKV_ROUTER_LIMIT + 1;
    ck_assert_uint_eq(ikv_image_size(&parts), 0);
    parts = all;
    parts.router_count = 2; /* the second is NULL */
    ck_assert_uint_eq(ikv_image_size(&parts), 0);
    status_is(ikv_image_save(&parts, image, size), IKV_BAD_ARGUMENT);
    for (int without = 0; without < 5; without++) {
        parts = all;
        if (without == 0)
            parts.scene = NULL;
        if (without == 1)
            parts.state = NULL;
        if (without == 2)
            parts.actions = NULL;
        if (without == 3)
            parts.overlaps = NULL;
        if (without == 4)
            parts.router_count = 0;
        less = ikv_image_size(&parts);
        ck_assert(less > 0 && less < size);
        ok(ikv_image_save(&parts, image, less));
        restore(&parts, image, less);
        status_is(ikv_image_restore(&all, image, less, NULL, 0), IKV_BAD_FILE);
        status_is(ikv_image_save(&parts, image, less - 1), IKV_BAD_SIZE);
    }
    free(image);
    kit_close(&k);
}
END_TEST

/* While a lane is flushed no image is saved: what was taken from its inbox is in
 * neither place. */
static int saves_tried;

static void try_to_save(const ikv_event *event, const ikv_intake *intake,
                        void *image)
{
    (void)event;
    if (intake->how != IKV_INTAKE_INBOX)
        return;
    ikv_parts parts = ikv_kit_parts(k.kit);
    status_is(ikv_image_save(&parts, image, ikv_image_size(&parts)), IKV_BUSY);
    saves_tried++;
}

START_TEST(saved_in_a_flush)
{
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = ikv_kit_parts(k.kit);
    char *image = malloc(ikv_image_size(&parts));
    saves_tried = 0;
    ok(ikv_loop_set_recorder(k.loop, try_to_save, image));
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ok(ikv_bus_defer_any(k.bus, IKV_STEP_LANE, &e));
    kit_frame(&k, 40);
    ck_assert_int_eq(saves_tried, 1);
    ok(ikv_image_save(&parts, image, ikv_image_size(&parts)));
    free(image);
    kit_close(&k);
}
END_TEST

/* Q2: what is played while moves are routed takes no place of theirs that a later
 * one still carries: here A, B, A, and B's handler plays on. */
static bench_kit carried;
static float carried_dx;
static uint32_t carried_samples;

static ikv_event carried_move(uint16_t pointer, float dx)
{
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, 1000000);
    e.device = carried.fake.device;
    e.pointer.pointer = pointer;
    e.pointer.dx = dx;
    return e;
}

static ikv_verdict play_on(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    ikv_event more = carried_move(3, 100);
    (void)user;
    if (event->pointer.pointer == 1) {
        carried_dx += event->pointer.dx;
        carried_samples += delivery->sample_count;
    }
    for (int i = 0; i < 8 && event->pointer.pointer == 2; i++)
        ikv_sink_play(carried.fake.sink, &more, NULL);
    return IKV_CONTINUE;
}

START_TEST(played_while_carried)
{
    kit_prepare(&carried);
    carried.port.capabilities |= IKV_PORT_PLAYBACK;
    carried.config.loop.pending = 4;
    kit_open(&carried);
    hears(carried.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, play_on, NULL);
    kit_frame(&carried, 0);
    static const struct {
        uint16_t pointer;
        float dx;
    } rows[] = {{1, 5}, {2, 1}, {1, 7}};
    for (int i = 0; i < ROWS(rows); i++) {
        ikv_event e = carried_move(rows[i].pointer, rows[i].dx);
        ok(ikv_sink_play(carried.fake.sink, &e, NULL));
    }
    kit_frame(&carried, 40);
    ck_assert_float_eq(carried_dx, 12);
    ck_assert_uint_eq(carried_samples, 2);
    kit_close(&carried);
}
END_TEST

/* L5: a port that plays what was recorded, bit by bit: while the steps stand
 * still a hold waits for the mark that says when it was sent. */
START_TEST(hold_waits_for_its_mark)
{
    static const struct {
        uint64_t at_ms;
        ikv_kind kind;
    } tape[] = {{1, IKV_KIND_LOOP_PAUSE},
                {2, IKV_KIND_POINTER_DOWN},
                {96, IKV_KIND_LOOP_PAUSE}};
    int heard = 0, next = 0;
    open_small(&k);
    k.port.capabilities |= IKV_PORT_PLAYBACK;
    k.config.router.hold_ns = 70000000;
    kit_open(&k);
    hears(k.bus, IKV_KIND_POINTER_HOLD, (ikv_target){0}, count_heard, &heard);
    kit_frame(&k, 0);
    for (uint64_t ms = 1; ms < 100; ms++) {
        if (next < ROWS(tape) && tape[next].at_ms == ms) {
            ikv_event event = ikv_event_make(tape[next].kind, ms * 1000000);
            ikv_intake intake = IKV_INTAKE_INIT;
            intake.has_due = true;
            intake.group = next == 0 ? 0 : (uint32_t)next;
            if (tape[next++].kind == IKV_KIND_POINTER_DOWN) {
                event.device = k.fake.device;
                event.pointer.type = IKV_TOUCH;
            }
            ok(ikv_sink_play(k.fake.sink, &event, &intake));
        }
        kit_frame(&k, ms);
        ck_assert_int_eq(heard, ms >= 96);
    }
    kit_close(&k);
}
END_TEST

Suite *edge_time_suite(void)
{
    Suite *s = suite_create("edge_time");
    add(s, "32 an image without the scene", image_without_the_scene);
    add(s, "32 images of some parts", images_of_some_parts);
    add(s, "37 recorded again", recorded_again);
    add_table(s, "L5 39 either router owes", second_owes, 2);
    add(s, "39 MODAL2 as it goes over", modal_as_it_goes_over);
    add_table(s, "39 between routers", between_routers, ROWS(pair_table));
    add_table(s, "39 a drag between views", drag_between_views, 2);
    add(s, "39 one scene a bus", one_scene);
    add(s, "43 names in the log", log_names);
    add(s, "32 saved in a flush", saved_in_a_flush);
    add(s, "38 going back", going_back);
    add(s, "38 ended and back", ended_and_back);
    add(s, "38 little room", little_room);
    add(s, "38 told to make room", told_to_make_room);
    add(s, "38 handles and back", handles_and_back);
    add(s, "38 back at the end", back_at_the_end);
    add(s, "L5 a hold waits for its mark", hold_waits_for_its_mark);
    add_table(s, "38 ended while the past is run", ended_while_past, 4);
    add(s, "38 an inbox between two steps", inbox_between_two_steps);
    add_table(s, "38 paused on the way back", paused_on_the_way, 2);
    add(s, "L5 T1 held while paused", held_while_paused);
    add_table(s, "T1 numbers of groups", numbers_of_groups, 6);
    add(s, "T1 full inboxes", full_inboxes);
    add_table(s, "T1 inboxes in a small ring", inboxes_in_a_small_ring, 4);
    add_table(s, "Q3 more is held than there is room", held_beyond_the_room, 2);
    add(s, "Q2 played while carried", played_while_carried);
    return s;
}
