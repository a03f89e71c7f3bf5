/* test_images.c - images from outside: what is refused, what comes back. Each
 * case is named by its entry in docs/reliability.md or its rule. */
#include "support.h"

static bench_kit k;

/* ------------------------------------------------------------- 32 images --
 */

static ikv_bus *heard_at;
static uint64_t heard_step;

static ikv_verdict note_bus(const ikv_event *event, const ikv_delivery *d,
                            void *user)
{
    heard_at = d->bus;
    heard_step = d->step;
    return count_heard(event, d, user);
}

static void fill(bench_kit *kit, int *heard)
{
    kit_frame(kit, 0);
    ikv_target boat =
        rect_target(kit->scene, (ikv_target){0}, 10, 10, 50, 50, 1);
    hears(kit->bus, IKV_KIND_FIELD_SET, boat, count_heard, heard);
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 1);
    e.target = boat;
    ok(ikv_bus_defer(kit->bus, IKV_STEP_LANE, &e));
    ok(ikv_bus_defer_after(kit->bus, IKV_STEP_LANE, 100000000, &e, NULL));
}

/* Whatever is done to it, an image that is not as it was is refused. */
START_TEST(damaged)
{
    uint64_t seed = 77;
    int heard = 0;
    open_small(&k);
    kit_open(&k);
    fill(&k, &heard);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    unsigned char *image = malloc(size), *bad = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    for (int i = 0; i < 4000; i++) {
        memcpy(bad, image, size);
        size_t at = random_below(&seed, i % 4 == 0 ? 128 : (uint32_t)size);
        switch (i % 5) {
        case 0: /* a bit */
            bad[at] ^= (unsigned char)(1 << random_below(&seed, 8));
            break;
        case 1: /* a byte */
            bad[at] = (unsigned char)(bad[at] + 1 + random_below(&seed, 255));
            break;
        case 2: /* the same upper bit of two words of a lane */
            at = at / 32 * 32 + 7 < size - 32 ? at / 32 * 32 + 7 : 7;
            bad[at] ^= 0x80;
            bad[at + 32] ^= 0x80;
            break;
        case 3: /* two halves swapped */
            at = at / 8 * 8 < size - 16 ? at / 8 * 8 : 0;
            memcpy(bad + at, image + at + 8, 8);
            memcpy(bad + at + 8, image + at, 8);
            if (memcmp(bad, image, size) == 0)
                continue;
            break;
        default: /* torn: the rest is of another time */
            memset(bad + at, 0x5a, size - at);
            break;
        }
        status_is(ikv_image_restore(&parts, bad, size, NULL, 0), IKV_BAD_FILE);
    }
    status_is(ikv_image_restore(&parts, image, size - 1, NULL, 0),
              IKV_BAD_FILE);
    kit_frame(&k, 20);
    ck_assert_int_eq(heard, 1);
    restore(&parts, image, size);
    kit_frame(&k, 40);
    ck_assert_int_eq(heard, 2);
    free(image);
    free(bad);
    kit_close(&k);
}
END_TEST

/* Of another kit: any number of any config tells them apart. */
#define OTHER(member, value)                                                   \
    {                                                                          \
#member, offsetof(ikv_kit_config, member),                             \
            sizeof(((ikv_kit_config *)0)->member), value                       \
    }

static const struct {
    const char *member;
    size_t offset, size;
    union {
        uint64_t whole;
        float number;
    } value;
} other_table[] = {
    {"nothing", 0, 0, {0}},
    OTHER(loop.number, {2}),
    OTHER(loop.step_num, {50}),
    OTHER(loop.max_steps, {9}),
    OTHER(loop.timing, {IKV_AT_FRAME}),
    OTHER(bus.depth, {15}),
    OTHER(bus.timers, {63}),
    OTHER(router.slop, {.number = 13}),
    OTHER(router.hold_ns, {400000000}),
    OTHER(state.dead_zone, {.number = 0.25f}),
    OTHER(actions.sets, {3}),
    OTHER(scene.announces, {1}),
    OTHER(overlaps.plain, {1}),
};

/* T6 D7: who watches is told of images that were made and gone back to, and of no
 * others. */
static void note_images(const ikv_watch *w, void *seen)
{
    ck_assert_ptr_null(w->event);
    note(seen, w->what == IKV_WATCH_SAVE      ? "save "
               : w->what == IKV_WATCH_RESTORE ? "restore "
                                              : "? ");
}

START_TEST(watched_images)
{
    int heard = 0;
    record seen = {""};
    open_small(&k);
    kit_open(&k);
    fill(&k, &heard);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    unsigned char *image = malloc(size);
    ok(ikv_bus_add_watcher(k.bus, IKV_WATCH_SAVE | IKV_WATCH_RESTORE,
                           note_images, &seen));
    status_is(ikv_image_save(&parts, image, 8), IKV_BAD_SIZE);
    ok(ikv_image_save(&parts, image, size));
    ok(ikv_image_restore(&parts, image, size, NULL, 0));
    image[size / 2] ^= 1;
    status_is(ikv_image_restore(&parts, image, size, NULL, 0), IKV_BAD_FILE);
    ck_assert_str_eq(seen.text, "save restore ");
    free(image);
    kit_close(&k);
}
END_TEST

/* T6 D7: who hears once a frame and has heard has heard after the way back, in
 * that frame. */
START_TEST(once_in_the_frame)
{
    int heard = 0;
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_WINDOW_SHOW;
    config.handler = count_heard;
    config.user = &heard;
    config.at_most = IKV_PER_FRAME;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    unsigned char *image = malloc(size);
    ikv_event show = ikv_event_make(IKV_KIND_WINDOW_SHOW, 0);
    k.fake.now_ns += 20000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    for (int turn = 0; turn < 3; turn++) {
        ok(ikv_bus_deliver(k.bus, &show).status);
        ck_assert_int_eq(heard, 1);
        if (turn == 0)
            ok(ikv_image_save(&parts, image, size));
        else
            restore(&parts, image, size);
    }
    ok(ikv_loop_end(k.loop));
    k.fake.now_ns += 20000000;
    ck_assert(ikv_loop_begin(k.loop) && ikv_loop_step(k.loop));
    ok(ikv_bus_deliver(k.bus, &show).status);
    ck_assert_int_eq(heard, 2);
    ok(ikv_loop_end(k.loop));
    free(image);
    kit_close(&k);
}
END_TEST

START_TEST(other_kits)
{
    static bench_kit other;
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    open_small(&other);
    memcpy((char *)&other.config + other_table[_i].offset,
           &other_table[_i].value, other_table[_i].size);
    kit_open(&other);
    kit_frame(&other, 0);
    ikv_parts parts = parts_of(&k), others = parts_of(&other);
    size_t size = ikv_image_size(&parts);
    size_t room = size + ikv_image_size(&others);
    void *image = calloc(1, room);
    ok(ikv_image_save(&parts, image, size));
    status_is(ikv_image_restore(&others, image, room, NULL, 0),
              _i == 0 ? IKV_OK : IKV_BAD_FILE);
    free(image);
    kit_close(&other);
    kit_close(&k);
}
END_TEST

/* A kit of the same config that itself has heard nothing yet hears all that the
 * image's heard, what only targets below the root do as well. */
START_TEST(into_a_twin)
{
    static bench_kit twin;
    int heard = 0;
    open_small(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    kit_frame(&k, 100);
    ikv_target boat = rect_target(k.scene, (ikv_target){0}, 10, 10, 50, 50, 1);
    hears(k.bus, IKV_KIND_POINTER_ENTER, boat, note_bus, &heard);
    hears(k.bus, IKV_KIND_POINTER_OVER, boat, count_heard, &heard);
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, note_bus, &heard);
    open_small(&twin);
    kit_open(&twin);
    kit_frame(&twin, 0);
    ikv_parts parts = parts_of(&k), twins = parts_of(&twin);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    restore(&twins, image, size);
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    key.target = ikv_bus_root(twin.bus);
    ikv_bus_deliver(twin.bus, &key);
    ck_assert_int_eq(heard, 1);
    ck_assert_uint_eq(heard_step, ikv_loop_step_number(k.loop));
    ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, twin.fake.now_ns);
    move.device = twin.fake.device;
    move.pointer.type = IKV_MOUSE;
    move.pointer.x = move.pointer.y = 20;
    ok(ikv_sink_push(twin.fake.sink, &move));
    kit_frame(&twin, 140);
    ck_assert_int_eq(heard, 3);
    ck_assert_ptr_eq(heard_at, twin.bus);
    free(image);
    kit_close(&twin);
    kit_close(&k);
}
END_TEST

/* Kinds may be added after the image was saved; other kinds are another kit. */
START_TEST(other_catalogues)
{
    static bench_kit kits[2];
    static const char *const names[] = {"lamp.lit", "lamp.out", "gull.up"};
    ikv_catalogue *catalogues[2];
    ikv_kind kind;
    char *image = NULL;
    size_t size = 0;
    for (int i = 0; i < 2; i++) {
        ikv_catalogue_config config = IKV_CATALOGUE_INIT;
        ikv_kind_config lamp = IKV_KIND_CONFIG_INIT;
        config.memory = ikv_host_memory();
        lamp.name = names[i];
        ok(ikv_catalogue_open(&config, &catalogues[i]));
        ok(ikv_catalogue_register(catalogues[i], &lamp, &kind, NULL));
        open_small(&kits[i]);
        kits[i].config.catalogue = catalogues[i];
        kit_open(&kits[i]);
        kit_frame(&kits[i], 0);
        ikv_parts parts = parts_of(&kits[i]);
        if (i == 1) {
            status_is(ikv_image_restore(&parts, image, size, NULL, 0),
                      IKV_BAD_FILE);
            continue;
        }
        size = ikv_image_size(&parts);
        image = malloc(size);
        ok(ikv_image_save(&parts, image, size));
        lamp.name = names[2];
        ok(ikv_catalogue_register(catalogues[i], &lamp, &kind, NULL));
        restore(&parts, image, size);
    }
    free(image);
    for (int i = 0; i < 2; i++) {
        kit_close(&kits[i]);
        ikv_catalogue_close(catalogues[i]);
    }
}
END_TEST

/* ------------------------------------------------ all that an image has -- */

static void count_watched(const ikv_watch *watch, void *user)
{
    *(int *)user += watch->what == IKV_WATCH_CALL;
}

/* T6: what the bus asks of seldom comes back too: the watcher's detour, which
 * half of the pool is in use, lanes, mailboxes, places for payloads, names. */
START_TEST(bus_comes_back)
{
    static const ikv_target everywhere = {0};
    static char name[300];
    int calls = 0, told = 0;
    kit_prepare(&k);
    k.config.bus.subscriptions = k.config.bus.entries = 6;
    k.config.bus.user_lanes = k.config.bus.mailboxes = 1;
    k.config.bus.payloads = 2;
    k.config.bus.name_bytes = 500;
    kit_open(&k);
    ikv_bus *bus = ikv_kit_bus(k.kit);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, 0);
    e.target = ikv_bus_root(bus);
    hears(bus, e.kind, everywhere, count_heard, &calls);
    kit_frame(&k, 0);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    ok(ikv_bus_add_watcher(bus, IKV_WATCH_CALL, count_watched, &told));
    memset(name, 'n', sizeof name - 1);
    for (int round = 1; round < 4; round++) {
        ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
        ikv_subscription some[5];
        ikv_mailbox box;
        ikv_lane lane;
        config.kind = IKV_KIND_KEY_UP;
        config.handler = deliver_nested;
        config.name = name;
        for (int times = 0; times < round * 3; times++) {
            for (int i = 0; i < 5; i++)
                ok(ikv_bus_subscribe(bus, &config, &some[i], NULL));
            for (int i = 0; i < 5; i++)
                if (i > 0)
                    ok(ikv_bus_unsubscribe(bus, some[i]));
            up.target = ikv_bus_root(bus);
            ikv_bus_deliver(bus, &up);
            ok(ikv_bus_unsubscribe(bus, some[0]));
        }
        ck_assert_uint_gt(bus_counts(bus).too_deep, 0);
        ok(ikv_bus_add_lane(bus, "ebb", &lane));
        ck_assert_uint_eq(lane, 2);
        ok(ikv_bus_add_mailbox(bus, &box));
        ck_assert_uint_eq(box, 1);
        for (int i = 0; i < 2; i++)
            ok(ikv_bus_defer_data(bus, lane, &e, "tide", 5));
        restore(&parts, image, size);
        valid(ikv_bus_validate(bus));
        ck_assert_uint_eq(bus_counts(bus).too_deep, 0);
        told = 0;
        ck_assert_int_eq(ikv_bus_deliver(bus, &e).heard, 1);
        ck_assert_int_eq(calls, round);
        ck_assert_int_eq(told, 1);
    }
    free(image);
    kit_close(&k);
}
END_TEST

/* T6: a single step that was asked for within a step: that step's image has it.
 */
START_TEST(single_comes_back)
{
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    uint64_t begun = 0, now = 0;
    for (int turn = 0; turn < 2; turn++) {
        bool done = false;
        k.fake.now_ns = 7000000000 + (now += 20) * 1000000;
        ck_assert(ikv_loop_begin(k.loop));
        for (; ikv_loop_step(k.loop); done = true) {
            if (done)
                continue;
            if (turn == 0) {
                begun = ikv_loop_step_number(k.loop);
                ok(ikv_loop_pause(k.loop));
                ok(ikv_loop_single_step(k.loop));
                ok(ikv_image_save(&parts, image, size));
            } else {
                restore(&parts, image, size);
            }
        }
        ok(ikv_loop_end(k.loop));
        ck_assert(done);
        for (int i = 0; i < 4; i++)
            kit_frame(&k, now += 20);
        ck_assert_uint_eq(ikv_loop_step_number(k.loop), begun + 1);
        ok(ikv_loop_resume(k.loop));
    }
    free(image);
    kit_close(&k);
}
END_TEST

static struct {
    ikv_taken all[16];
    uint32_t count;
} since_then;

static void take_down(const ikv_event *event, const ikv_intake *intake,
                      void *user)
{
    (void)user;
    ck_assert_uint_lt(since_then.count, ROWS(since_then.all));
    since_then.all[since_then.count++] = (ikv_taken){*event, *intake};
}

static ikv_verdict note_clock(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)d;
    note(user, "%s ", ikv_catalogue_info(NULL, event->kind)->name);
    return IKV_CONTINUE;
}

/* T6 L4: an image of before the first frame has loop.start before it, and what
 * the clock was asked for; whether it is gone back to between frames or within
 * one, with what came in or without. */
START_TEST(start_comes_back)
{
    static const ikv_kind heard[] = {IKV_KIND_LOOP_START, IKV_KIND_LOOP_PAUSE,
                                     IKV_KIND_LOOP_RESUME, IKV_KIND_LOOP_STEP};
    bool with = _i % 2 == 0, within = _i / 2 == 1;
    record seen = {""};
    open_small(&k);
    kit_open(&k);
    for (int i = 0; i < ROWS(heard); i++)
        hears(k.bus, heard[i], (ikv_target){0}, note_clock, &seen);
    ikv_parts parts = parts_of(&k);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    since_then.count = 0;
    ok(ikv_loop_pause(k.loop));
    ok(ikv_loop_set_recorder(k.loop, take_down, NULL));
    ok(ikv_image_save(&parts, image, size));
    kit_frame(&k, 0);
    kit_frame(&k, 20);
    ok(ikv_loop_resume(k.loop));
    kit_frame(&k, 40);
    ck_assert_str_eq(seen.text, "loop.start loop.pause loop.resume loop.step ");
    if (within)
        ck_assert(ikv_loop_begin(k.loop));
    ok(ikv_image_restore(&parts, image, size, with ? since_then.all : NULL,
                         with ? since_then.count : 0));
    seen.text[0] = '\0';
    while (within && ikv_loop_step(k.loop)) {
    }
    kit_frame(&k, 40);
    ck_assert_str_eq(seen.text,
                     with ? "loop.start loop.pause loop.resume loop.step "
                          : "loop.start loop.pause ");
    ck_assert(ikv_loop_paused(k.loop) == !with);
    free(image);
    kit_close(&k);
}
END_TEST

static ikv_verdict note_focus(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)d;
    note(user, "%u ", event->view);
    return IKV_CONTINUE;
}

/* T6: whether who has the keys is still to be looked at, and the view that this
 * is told in. */
START_TEST(focus_comes_back)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target field, everywhere = {0};
    record seen = {""};
    kit_prepare(&k);
    k.config.scene.views = 2;
    kit_open(&k);
    ikv_router *router = ikv_kit_router(k.kit);
    config.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(k.scene, &config, &field, NULL));
    hears(k.bus, IKV_KIND_FOCUS_OUT, everywhere, note_focus, &seen);
    kit_frame(&k, 0);
    ikv_event text = ikv_event_make(IKV_KIND_TEXT_INPUT, 1);
    ikv_router_route(router, &text);
    ok(ikv_router_focus(router, 0, field));
    ikv_router_route(router, &text);
    ok(ikv_scene_show(k.scene, field, false));
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    for (int turn = 0; turn < 2; turn++) {
        ikv_router_retest(router, 1); /* who has the keys is told */
        ck_assert_str_eq(seen.text, turn == 0 ? "0 " : "0 0 ");
        text.view = 1;
        ikv_router_route(router, &text);
        restore(&parts, image, size);
    }
    free(image);
    kit_close(&k);
}
END_TEST

/* ------------------------------------ fields that are asked of seldom -- */

/* A kit that goes on, and a fresh one of the same config into which its image
 * goes, are told the same: row by row what an image holds for rare moments. */
static bench_kit kits[2], *in; /* the two; the one that runs */
static record told;
static ikv_target boat, gull;
static int met;

static void note_told(const ikv_watch *watch, void *user)
{
    const ikv_event *e = watch->event;
    uint8_t family = ikv_catalogue_info(NULL, e->kind)->family;
    bool of_interest = family == IKV_FAMILY_CLICK || family == IKV_FAMILY_KEY ||
                       family == IKV_FAMILY_OVERLAP ||
                       family == IKV_FAMILY_ACTION;
    if (user != in || watch->what != IKV_WATCH_EVENT || !of_interest)
        return;
    note(&told, "%s@%c ", ikv_catalogue_info(NULL, e->kind)->name,
         e->target.bits == boat.bits   ? 'b'
         : e->target.bits == gull.bits ? 'g'
                                       : 'r');
    if (e->kind == IKV_KIND_POINTER_CLICK)
        note(&told, "x%u ", e->click.clicks);
    if (e->kind == IKV_KIND_POINTER_HOLD)
        note(&told, "by %u ", e->click.pointer);
}

static void note_taken(const ikv_event *event, const ikv_intake *intake,
                       void *user)
{
    (void)intake;
    if (user == in && event->kind == IKV_KIND_LOOP_PAUSE)
        note(&told, "+%s ", ikv_catalogue_info(NULL, event->kind)->name);
}

static void push_pointer(ikv_kind kind, uint32_t type, uint16_t id, float x)
{
    ikv_event e = ikv_event_make(kind, in->fake.now_ns);
    e.device = in->fake.device;
    e.pointer.type = (uint8_t)type;
    e.pointer.pointer = id;
    e.pointer.x = x;
    e.pointer.y = 5;
    e.pointer.button = 0;
    ok(ikv_sink_push(in->fake.sink, &e));
}

static void add_two(void)
{
    boat = rect_target(in->scene, (ikv_target){0}, 0, 0, 400, 400, 1);
    gull = rect_target(in->scene, (ikv_target){0}, 900, 0, 10, 10, 1);
}

/* Two of eight places for rows of clicks are taken. */
static void tap(uint32_t place)
{
    push_pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 1, (float)place * 40);
    push_pointer(IKV_KIND_POINTER_UP, IKV_TOUCH, 1, (float)place * 40);
}

static void click_twice(void)
{
    add_two();
    tap(0);
    tap(1);
    kit_frame(in, 40);
}

static void click_on(void)
{
    for (uint32_t i = 2; i < 8; i++)
        tap(i);
    tap(0); /* still known: a double */
    kit_frame(in, 60);
}

/* Holds that are due at one moment come in the order of their presses. */
static void press_fourth(void)
{
    add_two();
    for (uint32_t i = 0; i < 3; i++)
        tap(i);
    push_pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 7, 10);
    kit_frame(in, 40);
}

static void press_at_once(void)
{
    in->fake.now_ns -= 40000000;
    push_pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 3, 300);
    kit_frame(in, 900);
}

static void press_three(void)
{
    for (uint16_t id = 1; id <= 3; id++)
        push_pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, id, (float)id * 10);
    kit_frame(in, 40);
}

static void list_pointers(void)
{
    ikv_pointer_state found;
    for (uint32_t i = 0;
         ikv_state_pointer(ikv_kit_state(in->kit), IKV_STATE_RAW, i, &found);
         i++)
        note(&told, "%u ", found.pointer);
}

static void play(ikv_kind kind, uint8_t how, uint64_t due_ms, uint64_t lost_ms)
{
    ikv_event e = ikv_event_make(kind, in->fake.now_ns);
    ikv_intake intake = IKV_INTAKE_INIT;
    e.device = in->fake.device;
    if (kind == IKV_KIND_KEY_DOWN)
        e.key.code = ikv_code_find("KeyA");
    intake.how = how;
    intake.has_due = true;
    intake.due_ns = due_ms * 1000000;
    intake.lost_ns = lost_ms * 1000000;
    ok(ikv_sink_play(in->fake.sink, &e, &intake));
}

static void push_key(ikv_kind kind)
{
    ikv_event e = ikv_event_make(kind, in->fake.now_ns);
    e.device = in->fake.device;
    e.key.code = ikv_code_find("KeyA");
    ok(ikv_sink_push(in->fake.sink, &e));
}

/* An action is held for one step so far: each further one is told of. */
static void hold_an_action(void)
{
    ikv_actions *actions = ikv_kit_actions(in->kit);
    ikv_action_id id;
    ok(ikv_actions_add(actions, IKV_MAIN_SET, "row", &id));
    ok(ikv_actions_bind(actions, id, "KeyA", NULL, NULL));
    push_key(IKV_KIND_KEY_DOWN);
    ck_assert_int_eq(kit_frame(in, 17), 1);
}

static void hold_on_and_press_anew(void)
{
    kit_frame(in, 51);
    push_key(IKV_KIND_KEY_UP);
    push_key(IKV_KIND_KEY_DOWN);
    kit_frame(in, 68);
}

/* What was bound before the image, and is held, starts though it was bound later
 * than anything of the other kit. */
static void hold_in_a_set(void)
{
    ikv_actions *actions = ikv_kit_actions(in->kit);
    ikv_action_set deck;
    ikv_action_id id;
    ok(ikv_actions_add_set(actions, "deck", &deck));
    ok(ikv_actions_switch(actions, deck, 0, false));
    ok(ikv_actions_add(actions, deck, "row", &id));
    ok(ikv_actions_bind(actions, id, "KeyA", NULL, NULL));
    push_key(IKV_KIND_KEY_DOWN);
    kit_frame(in, 17);
}

static void start_in_the_set(void)
{
    ikv_actions *actions = ikv_kit_actions(in->kit);
    ikv_action_set deck;
    ok(ikv_actions_find_set(actions, "deck", &deck));
    ok(ikv_actions_switch(actions, deck, 0, true));
    ok(ikv_actions_start_held(actions, deck, 0));
}

/* Who subscribes later is called later, however many the other bus has had. */
static ikv_verdict note_user(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)event, (void)d;
    note(&told, "%s", (const char *)user);
    return IKV_CONTINUE;
}

static void subscribe_many(void)
{
    static const ikv_target everywhere = {0};
    ikv_subscription s;
    for (int i = 0; i < 100; i++) {
        ok(ikv_bus_hear(in->bus, IKV_KIND_KEY_DOWN, everywhere, note_user, "",
                        &s));
        ok(ikv_bus_unsubscribe(in->bus, s));
    }
    hears(in->bus, IKV_KIND_KEY_DOWN, everywhere, note_user, "first ");
}

static void subscribe_later(void)
{
    hears(in->bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, note_user, "second ");
    push_key(IKV_KIND_KEY_DOWN);
    kit_frame(in, 60);
}

/* Once a frame is once in each frame of this kit, whatever the other's number
 * was in which it was called. */
static void roll(uint64_t from, uint64_t to)
{
    for (uint64_t frame = from; frame <= to; frame++) {
        push_pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 0, (float)frame);
        kit_frame(in, frame * 17);
    }
}

static void hear_once_a_frame(void)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_POINTER_MOVE;
    config.handler = note_user;
    config.user = "called ";
    config.at_most = IKV_PER_FRAME;
    ok(ikv_bus_subscribe(in->bus, &config, NULL, NULL));
    roll(1, 1);
}

static void roll_on(void)
{
    roll(2, 4);
}

/* What a tape says is held comes in a step before the mark of the loss. */
static void hold_a_key(void)
{
    play(IKV_KIND_KEY_DOWN, IKV_INTAKE_HELD, 20, 0);
    play(IKV_KIND_DEVICE_RESYNC, IKV_INTAKE_INPUT, 60, 0);
    kit_frame(in, 40);
}

static void resync(void)
{
    kit_frame(in, 100);
    note(&told, "%d",
         ikv_state_key(ikv_kit_state(in->kit), IKV_STATE_RAW, 0,
                       ikv_code_find("KeyA"))
             .down);
}

/* Time is lost in a step, and lies there until its end. */
static void lose_time(void)
{
    play(IKV_KIND_KEY_DOWN, IKV_INTAKE_INPUT, 4, 0);
    play(IKV_KIND_LOOP_DROPPED, IKV_INTAKE_INPUT, 5, 500);
    in->fake.now_ns += 40000000;
    ck_assert(ikv_loop_begin(in->loop) && ikv_loop_step(in->loop));
}

static void end_frame(void)
{
    while (ikv_loop_step(in->loop)) {
    }
    ok(ikv_loop_end(in->loop));
    note(&told, "%d", kit_frame(in, 400)); /* half a second stands still */
}

/* The boat slips away under the mouse, and comes back when it has left. */
static ikv_verdict slip(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    ikv_scene_move(in->scene, boat,
                   event->kind == IKV_KIND_POINTER_OVER ? 500 : 0, 0);
    return IKV_CONTINUE;
}

static void rest_paused(void)
{
    add_two();
    hears(in->bus, IKV_KIND_POINTER_OVER, boat, slip, NULL);
    hears(in->bus, IKV_KIND_POINTER_OUT, boat, slip, NULL);
    ok(ikv_loop_pause(in->loop));
    push_pointer(IKV_KIND_POINTER_MOVE, IKV_MOUSE, 0, 5);
    kit_frame(in, 40);
    kit_frame(in, 50); /* nothing else is due any more */
}

static void pass_a_frame(void)
{
    kit_frame(in, 60);
}

static void sense(ikv_target target, uint32_t tags, bool disabled)
{
    ikv_sensing sensing = IKV_SENSING_INIT;
    sensing.senses = tags;
    sensing.disabled = disabled;
    ok(ikv_overlaps_sense(ikv_kit_overlaps(in->kit), target, &sensing));
}

/* Two shapes meet, and part where nothing has met before. */
static void meet(void)
{
    add_two();
    sense(boat, 1, false);
    ok(ikv_scene_move(in->scene, gull, 5, 5));
    ok(ikv_scene_set_tags(in->scene, gull, 1));
    kit_frame(in, 40);
}

static void part(void)
{
    ok(ikv_scene_move(in->scene, gull, 900, 5));
    kit_frame(in, 60);
}

/* What is reported is on the bus alone, which knows who of them is gone. */
static uint32_t any_tags(void *user, ikv_target target)
{
    (void)user, (void)target;
    return 1;
}

static void report_two(void)
{
    ok(ikv_bus_add_target(in->bus, 1, &boat));
    ok(ikv_bus_add_target(in->bus, 2, &gull));
    sense(boat, UINT32_MAX, false);
    sense(gull, UINT32_MAX, false);
    ok(ikv_overlaps_report(ikv_kit_overlaps(in->kit), boat, gull, NULL));
    ck_assert_int_eq(kit_frame(in, 17), 1);
}

static void remove_one(void)
{
    ok(ikv_bus_remove_target(in->bus, gull));
    kit_frame(in, 60);
    kit_frame(in, 80);
    note(&told, "%u", (unsigned)bus_counts(in->bus).stale);
}

/* A finger whose press was cancelled, and keys that go to what is modal. */
static void cancel_a_press(void)
{
    add_two();
    push_pointer(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 1, 5);
    kit_frame(in, 20);
    ok(ikv_router_set_modal(in->router, 0, gull));
}

static void lift_and_type(void)
{
    push_pointer(IKV_KIND_POINTER_UP, IKV_TOUCH, 1, 5);
    tap(22); /* at 880: beside the gull */
    push_key(IKV_KIND_KEY_DOWN);
    kit_frame(in, 60);
    ikv_router_counts counts = IKV_ROUTER_COUNTS_INIT;
    ok(ikv_router_counters(in->router, &counts));
    note(&told, "%d ", (int)counts.meaningless);
}

static const struct {
    const char *what;
    void (*before)(void), (*after)(void);
    const char *told;
} seldom_table[] = {
    {"router modals, spent", cancel_a_press, lift_and_type,
     "| pointer.click@g x1 key.down@g 0 "},
    {"router next_click", click_twice, click_on,
     "pointer.click@b x1 pointer.click@b x1 | pointer.click@b x1 "
     "pointer.click@b x1 pointer.click@b x1 pointer.click@b x1 "
     "pointer.click@b x1 pointer.click@b x1 pointer.click@b x2 "
     "pointer.double@b "},
    {"bus births", subscribe_many, subscribe_later,
     "| key.down@r first second "},
    {"bus last_turn", hear_once_a_frame, roll_on,
     "called | called called called "},
    {"actions step, tries", hold_an_action, hold_on_and_press_anew,
     "key.down@r action.start@r action.hold@r | action.hold@r action.hold@r "
     "key.up@r action.end@r key.down@r action.start@r action.hold@r "},
    {"actions births", hold_in_a_set, start_in_the_set,
     "key.down@r | action.start@r "},
    {"router presses", press_fourth, press_at_once,
     "pointer.click@b x1 pointer.click@b x1 pointer.click@b x1 | "
     "pointer.hold@b by 7 pointer.menu@b pointer.hold@b by 3 pointer.menu@b "},
    {"state reach", press_three, list_pointers, "| 1 2 3 "},
    {"loop held_count", hold_a_key, resync, "| key.down@r 1"},
    {"loop lost_ns", lose_time, end_frame, "key.down@r | 0"},
    {"loop owed", rest_paused, pass_a_frame,
     "+loop.pause +loop.pause +loop.pause | +loop.pause "},
    {"overlap touches", meet, part, "overlap.enter@b | overlap.leave@b "},
    {"overlap has_reports", report_two, remove_one,
     "overlap.enter@b overlap.enter@g | overlap.leave@b 0"},
};

static int dropped[2]; /* by kit: how often on_drop of its own was told */

static void count_dropped(void *user)
{
    ++*(int *)user;
}

static void open_seldom(int nth, bool plays, bool in_step)
{
    in = &kits[nth];
    open_small(in);
    if (plays)
        in->port.capabilities |= IKV_PORT_PLAYBACK;
    in->config.overlaps.plain = true;
    kit_open(in);
    ikv_bus_callbacks callbacks = ikv_scene_callbacks(in->scene);
    callbacks.tags = any_tags;
    ikv_bus_set_callbacks(in->bus, &callbacks);
    ikv_subscription_config own = IKV_SUBSCRIPTION_INIT;
    own.kind = IKV_KIND_FIELD_SET;
    own.handler = count_heard;
    own.on_drop = count_dropped;
    own.user = &dropped[nth];
    dropped[nth] = 0;
    ok(ikv_bus_subscribe(in->bus, &own, NULL, NULL));
    ok(ikv_bus_add_watcher(in->bus, IKV_WATCH_EVENT, note_told, in));
    ok(ikv_loop_set_recorder(in->loop, note_taken, in));
    static const ikv_kind heard[] = {
        IKV_KIND_OVERLAP_ENTER, IKV_KIND_OVERLAP_LEAVE, IKV_KIND_ACTION_START,
        IKV_KIND_ACTION_HOLD, IKV_KIND_ACTION_END};
    for (int i = 0; i < ROWS(heard); i++)
        hears(in->bus, heard[i], (ikv_target){0}, count_heard, &met);
    kit_frame(in, 0);
    if (in_step) {
        in->fake.now_ns += 40000000;
        ck_assert(ikv_loop_begin(in->loop) && ikv_loop_step(in->loop));
    }
}

START_TEST(seldom_asked)
{
    bool in_step = seldom_table[_i].before == lose_time;
    bool plays = in_step || seldom_table[_i].before == hold_a_key;
    static char first[sizeof told.text];
    told.text[0] = '\0';
    open_seldom(0, plays, false);
    seldom_table[_i].before();
    ikv_parts parts = parts_of(&kits[0]);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    note(&told, "| ");
    char *at = strchr(told.text, '|');
    uint64_t now = in->fake.now_ns;
    seldom_table[_i].after();
    snprintf(first, sizeof first, "%s", told.text);
    open_seldom(1, plays, in_step);
    in->fake.now_ns = now;
    parts = parts_of(in);
    restore(&parts, image, size);
    ck_assert_int_eq(dropped[0], 0);
    ck_assert_int_eq(dropped[1], 1); /* the image has another in its place */
    at[2] = '\0';
    seldom_table[_i].after();
    ck_assert_msg(strcmp(told.text, first) == 0, "%s: \"%s\", but first \"%s\"",
                  seldom_table[_i].what, told.text, first);
    ck_assert_msg(strcmp(first, seldom_table[_i].told) == 0, "%s: \"%s\"",
                  seldom_table[_i].what, first);
    free(image);
    kit_close(&kits[0]);
    kit_close(&kits[1]);
}
END_TEST

Suite *images_suite(void)
{
    Suite *s = suite_create("images");
    add_table(s, "T6 32 fields that are asked of seldom", seldom_asked,
              ROWS(seldom_table));
    add(s, "T6 the bus comes back", bus_comes_back);
    add(s, "T6 a single step comes back", single_comes_back);
    add_table(s, "T6 L4 what is before the start comes back", start_comes_back,
              4);
    add(s, "T6 FOCUS4 the focus comes back", focus_comes_back);
    add(s, "T6 32 damaged images", damaged);
    add(s, "T6 D7 watched", watched_images);
    add(s, "T6 D7 once in the frame", once_in_the_frame);
    add(s, "32 into a kit of the same config", into_a_twin);
    add_table(s, "32 images of other kits", other_kits, ROWS(other_table));
    add(s, "32 images of other kinds", other_catalogues);
    return s;
}
