/* test_storm.c - random input on random scenes, with handlers that do anything:
 * what is told must add up. For each pointer and target: entered before it is
 * left, and once; over before out; a down before its one up or cancel; got
 * before lost; one thing dragged at a time, onto one, and its end told; a pinch
 * begun before it ends. A removed target is told nothing any more (GONE1, PATH5).
 */
#include "support.h"

#include <math.h>

enum {
    TARGETS = 24,
    POINTERS = 6
};

typedef struct told {
    ikv_target over; /* the last over without its out */
    bool down;
    bool away;  /* it left the view while it was: no up may come (OVER5) */
    bool asked; /* to be captured, perhaps while it is away */
    ikv_target captured; /* got without its lost */
    ikv_target dragged, onto,
        from; /* `from`: its leave is due, after an enter */
    ikv_target pinches;
    ikv_target entered[64];
    int entered_count;
} told;

typedef struct storm {
    bench_kit k;
    uint64_t seed;
    ikv_target targets[TARGETS];
    told pointers[POINTERS];
    int key_downs, depth;
    bool wild; /* handlers act */
    uint32_t events, first_seed;
    uint64_t heard; /* a sum of all that was told */
} storm;

static storm *now;

/* The seed, for whoever has to find a failure. */
#define adds(condition, text)                                                  \
    ck_assert_msg(condition, "%s (seed %u, event %u)", text, now->first_seed,  \
                  now->events)

static uint32_t below(uint32_t limit)
{
    return random_below(&now->seed, limit);
}

static ikv_target some_target(void)
{
    return now->targets[below(TARGETS)];
}

static int entered_at(const told *t, ikv_target target)
{
    for (int i = 0; i < t->entered_count; i++)
        if (t->entered[i].bits == target.bits)
            return i;
    return -1;
}

static void forget(told *t, int index)
{
    t->entered[index] = t->entered[--t->entered_count];
}

static void gone(void *user, ikv_target target, ikv_target former)
{
    (void)user, (void)former;
    for (int i = 0; i < POINTERS; i++) {
        told *t = &now->pointers[i];
        int at = entered_at(t, target);
        if (at >= 0)
            forget(t, at);
        if (t->over.bits == target.bits)
            t->over.bits = 0;
        if (t->captured.bits == target.bits) /* told to the root, if at all */
            t->captured = ikv_bus_root(now->k.bus);
        if (t->pinches.bits == target.bits) /* its end, likewise */
            t->pinches = ikv_bus_root(now->k.bus);
        ikv_target *others[] = {&t->dragged, &t->onto, &t->from};
        for (size_t k = 0; k < ROWS(others); k++)
            if (others[k]->bits == target.bits)
                others[k]->bits = 0;
    }
}

/* What is told of a pointer, as it goes by the root. */
static void check_pointer(told *t, const ikv_event *e)
{
    int at = entered_at(t, e->target);
    switch (e->kind) {
    case IKV_KIND_POINTER_OVER:
        adds(t->over.bits == 0, "over before out");
        t->over = e->target;
        break;
    case IKV_KIND_POINTER_OUT:
        adds(t->over.bits == e->target.bits, "out of something else");
        t->over.bits = 0;
        break;
    case IKV_KIND_POINTER_ENTER:
        adds(at < 0, "entered twice");
        t->entered[t->entered_count++] = e->target;
        break;
    case IKV_KIND_POINTER_LEAVE:
        adds(at >= 0, "left before it was entered");
        forget(t, at);
        if (e->target.bits == ikv_bus_root(now->k.bus).bits)
            t->away = t->down;
        break;
    case IKV_KIND_POINTER_DOWN:
        adds(!t->down || t->away, "down twice");
        t->down = true;
        t->away = false;
        break;
    case IKV_KIND_POINTER_UP:
    case IKV_KIND_POINTER_CANCEL:
        adds(t->down || t->asked, "an end before its down");
        t->down = t->asked = false;
        break;
    case IKV_KIND_POINTER_MOVE: /* OVER5: back with or without its button */
        adds(!t->down || t->away || e->pointer.buttons != 0, "up in a move");
        t->down = e->pointer.buttons != 0;
        t->away = false;
        break;
    case IKV_KIND_POINTER_CAPTURE_GOT:
        adds(t->captured.bits == 0, "got before lost");
        t->captured = e->target;
        break;
    case IKV_KIND_POINTER_CAPTURE_LOST:
        adds(t->captured.bits == e->target.bits, "lost by another");
        t->captured.bits = 0;
        break;
    default:
        break;
    }
}

/* DRAG1, DRAG3: the new one is told before the old one is left. */
static void check_drag(told *t, const ikv_event *e)
{
    ikv_target *left = t->from.bits != 0 ? &t->from : &t->onto;
    switch (e->kind) {
    case IKV_KIND_DRAG_ENTER:
        adds(t->from.bits == 0 && t->onto.bits != e->target.bits,
             "dragged onto two, or twice");
        adds(t->dragged.bits == 0 || t->dragged.bits == e->source.bits,
             "another one is dragged");
        t->from = t->onto;
        t->onto = e->target;
        t->dragged = e->source;
        break;
    case IKV_KIND_DRAG_OVER:
        adds(t->onto.bits == e->target.bits, "dragged over another");
        break;
    case IKV_KIND_DRAG_END:
        adds(t->onto.bits == 0, "the end before its leave or drop");
        adds(t->dragged.bits == 0 || t->dragged.bits == e->target.bits,
             "the end of another");
        t->dragged.bits = 0;
        break;
    default:
        adds(left->bits == e->target.bits, "left or dropped on another");
        left->bits = 0;
        break;
    }
}

static void check_pinch(told *t, const ikv_event *e)
{
    if (e->kind == IKV_KIND_GESTURE_TWO_TAP)
        return;
    bool begins = e->kind == IKV_KIND_GESTURE_PINCH_START;
    adds(t->pinches.bits == (begins ? 0 : e->target.bits),
         "a pinch within or without another");
    t->pinches = e->target;
    if (e->kind == IKV_KIND_GESTURE_PINCH_END)
        t->pinches.bits = 0;
}

static ikv_verdict overhear(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    (void)user;
    now->events++;
    if (ikv_catalogue_info(NULL, event->kind)->family == IKV_FAMILY_LOOP)
        return 0; /* of which a loop of one's own has none */
    now->heard = (now->heard ^ event->kind) * UINT64_C(0x100000001b3);
    now->heard = (now->heard ^ event->target.bits) * UINT64_C(0x100000001b3);
    now->heard = (now->heard ^ event->time_ns) * UINT64_C(0x100000001b3);
    ck_assert(ikv_bus_target_alive(delivery->bus, event->target));
    uint8_t family = ikv_catalogue_info(NULL, event->kind)->family;
    if (family == IKV_FAMILY_POINTER)
        check_pointer(&now->pointers[event->pointer.pointer], event);
    else if (family == IKV_FAMILY_DRAG)
        check_drag(&now->pointers[event->drag.pointer], event);
    else if (family == IKV_FAMILY_GESTURE)
        check_pinch(&now->pointers[event->gesture.pointer], event);
    if (event->kind == IKV_KIND_KEY_DOWN && (event->flags & IKV_REPEAT) == 0)
        now->key_downs++;
    if (event->kind == IKV_KIND_KEY_UP)
        now->key_downs--;
    return 0;
}

static void add_target(int index);

/* A capture, now and then to drag, or to be followed. */
static void capture(const ikv_event *event, ikv_target t)
{
    static ikv_status (*const calls[])(ikv_router *, const ikv_event *,
                                       ikv_target) = {
        ikv_router_capture, ikv_router_drag, ikv_router_drag,
        ikv_router_attach};
    uint8_t family = ikv_catalogue_info(NULL, event->kind)->family;
    if (calls[below(ROWS(calls))](now->k.router, event, t) == IKV_OK)
        now->pointers[family == IKV_FAMILY_DRAG ? event->drag.pointer
                                                : event->pointer.pointer]
            .asked = true;
}

static void act(const ikv_event *event)
{
    ikv_scene *scene = now->k.scene;
    ikv_target t = some_target(), other = some_target(), none = {0};
    uint32_t n = below(17);
    if (n == 0 && now->depth < 3) {
        ikv_scene_remove(scene, t);
    } else if (n == 1) {
        ikv_scene_set_parent(scene, t, below(2) ? other : (ikv_target){0});
    } else if (n == 2) {
        ikv_scene_show(scene, t, below(2));
    } else if (n < 5) {
        ikv_scene_move(scene, t, (float)below(100), (float)below(100));
    } else if (n < 8) {
        capture(event, t);
    } else if (n == 8) {
        ikv_router_release(now->k.router, event, t);
    } else if (n == 9) {
        ikv_router_focus(now->k.router, (uint8_t)below(2), t);
    } else if (n == 10) {
        ikv_router_blur(now->k.router, (uint8_t)below(2));
    } else if (n == 11) {
        ikv_scene_set_hit(scene, t, below(3));
    } else if (n == 12) {
        ikv_scene_raise(scene, t);
    } else if (n == 13) {
        ikv_router_set_modal(now->k.router, (uint8_t)below(2), t);
    } else if (n == 14) {
        ikv_router_set_modal(now->k.router, (uint8_t)below(2), none);
    } else if (n == 15) {
        ikv_router_cancel_all(now->k.router, (uint8_t)below(2));
    } else {
        add_target((int)below(TARGETS));
    }
}

static ikv_verdict do_anything(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    static const ikv_verdict verdicts[] = {
        0, 0, IKV_ACCEPT, IKV_ACCEPT, IKV_STOP, IKV_STOP_ALL, IKV_REFUSE};
    (void)user;
    ck_assert(ikv_bus_target_alive(delivery->bus, delivery->current));
    now->depth++;
    if (now->wild && below(4) == 0)
        act(event);
    now->depth--;
    return now->wild ? verdicts[below(ROWS(verdicts))] : 0;
}

static void add_target(int index)
{
    ikv_target_config config = IKV_TARGET_INIT;
    if (ikv_scene_alive(now->k.scene, now->targets[index]))
        return;
    config.x = (float)below(100);
    config.y = (float)below(100);
    config.shape =
        below(4) ? ikv_scene_rect(0, 0, 60, 60) : ikv_scene_circle(0, 0, 40);
    config.hit = below(5) == 0 ? IKV_HIT_PASS : IKV_HIT_SOLID;
    config.traits = below(2) ? IKV_FOCUSABLE : 0;
    config.traits |= below(6) == 0 ? IKV_CAPTURES : 0;
    config.traits |= below(9) == 0 ? IKV_STAYS_LIVE : 0;
    config.clip = below(6) == 0;
    if (below(2))
        config.parent = some_target();
    if (ikv_scene_add(now->k.scene, &config, &now->targets[index], NULL) !=
        IKV_OK)
        return;
    ikv_subscription_config s = IKV_SUBSCRIPTION_INIT;
    s.all_kinds = true;
    s.at = now->targets[index];
    s.handler = do_anything;
    ikv_bus_subscribe(now->k.bus, &s, NULL, NULL);
}

/* A third of it makes no sense. */
static ikv_event random_event(uint64_t time_ns)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_MOVE,  IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_MOVE,
        IKV_KIND_POINTER_DOWN,  IKV_KIND_POINTER_UP,   IKV_KIND_POINTER_CANCEL,
        IKV_KIND_POINTER_LEAVE, IKV_KIND_KEY_DOWN,     IKV_KIND_KEY_UP,
        IKV_KIND_WHEEL};
    ikv_event e = ikv_event_make(kinds[below(ROWS(kinds))], time_ns);
    uint32_t id = below(POINTERS);
    e.device = 1;
    if (e.kind == IKV_KIND_KEY_DOWN || e.kind == IKV_KIND_KEY_UP) {
        e.key.code = below(3) == 0 ? 0x0007002b : 0x000700e0 + below(8);
        e.seat = (uint8_t)below(2);
    } else if (e.kind == IKV_KIND_WHEEL) {
        e.wheel.x = (float)below(120);
        e.wheel.y = (float)below(120);
    } else {
        e.pointer.pointer = (uint16_t)id;
        e.pointer.type = id == 0 ? IKV_MOUSE : id == 1 ? IKV_PEN : IKV_TOUCH;
        e.pointer.button =
            (int8_t)(id < 2 ? (int)below(4) - 1
                            : (e.kind == IKV_KIND_POINTER_MOVE ? -1 : 0));
        e.pointer.x = below(60) == 0 ? NAN : (float)below(140) - 20;
        e.pointer.y = below(60) == 0 ? -INFINITY : (float)below(140) - 20;
    }
    if (below(200) == 0)
        e = ikv_event_make(IKV_KIND_WINDOW_BLUR, time_ns);
    if (below(300) == 0) {
        e = ikv_event_make(IKV_KIND_DEVICE_REMOVE, time_ns);
        e.device = 1;
    }
    return e;
}

static void add_listener(void)
{
    ikv_subscription_config s = IKV_SUBSCRIPTION_INIT;
    s.all_kinds = true;
    s.phases = IKV_CAPTURING | IKV_AT_TARGET;
    s.rank = -1000; /* greater ranks come later or earlier: it never stops */
    s.handler = overhear;
    ok(ikv_bus_subscribe(now->k.bus, &s, NULL, NULL));
}

/* Nothing stays down, entered, over or captured after the device is gone. */
static void check_end(uint64_t time_ns)
{
    now->wild = false;
    ikv_event e = ikv_event_make(IKV_KIND_DEVICE_REMOVE, time_ns);
    e.device = 1;
    ok(ikv_router_route(now->k.router, &e).status);
    for (int i = 0; i < POINTERS; i++) {
        ck_assert_int_eq(now->pointers[i].entered_count, 0);
        ck_assert_uint_eq(now->pointers[i].over.bits, 0);
        ck_assert(!now->pointers[i].down || now->pointers[i].away);
        ck_assert_uint_eq(now->pointers[i].dragged.bits, 0);
        ck_assert_uint_eq(now->pointers[i].onto.bits, 0);
        ck_assert_uint_eq(now->pointers[i].pinches.bits, 0);
    }
    ck_assert_int_eq(now->key_downs, 0);
    ck_assert_uint_eq(router_counts(now->k.router).pointers, 0);
}

START_TEST(adds_up)
{
    const char *runs = getenv("IKV_MODEL_RUNS");
    for (int run = 0; run < (runs != NULL ? atoi(runs) : 4); run++) {
        now = calloc(1, sizeof *now);
        kit_prepare(&now->k);
        now->k.config.bus.targets = 256;
        if (_i % 2 != 0)
            now->k.config.router.view_width = now->k.config.router.view_height =
                100;
        kit_open(&now->k);
        now->seed = (uint64_t)run * 977 + (uint64_t)_i + 1;
        now->first_seed = (uint32_t)now->seed;
        now->wild = true;
        add_listener();
        ok(ikv_scene_watch_removals(now->k.scene, gone, NULL));
        for (int i = 0; i < TARGETS; i++)
            add_target(i);
        uint64_t time_ns = 0;
        for (int i = 0; i < 3000; i++) {
            time_ns += below(40) * 1000000;
            if (below(4) == 0)
                ikv_router_retest(now->k.router, time_ns);
            if (below(4) == 0)
                ikv_router_advance(now->k.router, time_ns);
            ikv_event e = random_event(time_ns);
            ikv_router_route(now->k.router, &e);
            if (below(10) == 0)
                add_target((int)below(TARGETS));
            if (i % 8 == 0) {
                valid(ikv_router_validate(now->k.router));
                valid(ikv_scene_validate(now->k.scene));
            }
        }
        ck_assert_uint_gt(now->events, 2000);
        check_end(time_ns);
        kit_close(&now->k);
        free(now);
    }
}
END_TEST

/* One step of 20 ms, with its events, by the calls of an input alone. */
static void own_step(uint64_t step, const ikv_event *events, uint32_t count,
                     uint64_t *last)
{
    ikv_input *input = ikv_kit_input(now->k.kit);
    uint64_t begin = step * 20000000, end = begin + 20000000;
    ikv_input_begin_frame(input);
    ikv_input_begin_step(input, end);
    for (uint32_t i = 0; i < count; i++)
        ikv_input_feed(input, &events[i]);
    *last = begin > *last ? begin : *last;
    ikv_input_retest(input, *last);
    for (uint32_t i = 0; i < count; i++) {
        ikv_input_route(input, &events[i], NULL, 0);
        *last = events[i].time_ns;
    }
    ikv_input_finish(input, *last, end);
    ikv_input_end_step(input, step, end);
    ok(ikv_bus_advance(now->k.bus, end));
    ok(ikv_bus_flush(now->k.bus, IKV_STEP_LANE, NULL));
}

/* The same by the loop. */
static void loop_step(uint64_t step, ikv_event *events, uint32_t count)
{
    now->k.fake.now_ns = 7000000000 + (step + 1) * 20000000;
    for (uint32_t i = 0; i < count; i++) {
        events[i].time_ns += 7000000000;
        ok(ikv_sink_push(now->k.fake.sink, &events[i]));
    }
    ck_assert(whole_frame(now->k.loop));
}

/* Storms that a program's own loop hands to an input come to what they come to
 * in a loop of ours: deliveries, state and actions. */
START_TEST(own_loop)
{
    uint64_t heard[2], last = 0;
    uint32_t started[2];
    int downs[2] = {0, 0};
    for (int own = 0; own < 2; own++) {
        now = calloc(1, sizeof *now);
        kit_prepare(&now->k);
        now->k.config.bus.targets = 256;
        now->k.config.loop.step_num = 50;
        now->k.config.loop.samples = 1; /* nothing is merged */
        kit_open(&now->k);
        now->first_seed = (uint32_t)_i + 1;
        now->seed = now->first_seed;
        ikv_actions *actions = ikv_kit_actions(now->k.kit);
        ikv_action_id hoist;
        ok(ikv_actions_add(actions, IKV_MAIN_SET, "hoist", &hoist));
        ok(ikv_actions_bind(actions, hoist, "Tab", NULL, NULL));
        ok(ikv_actions_bind(actions, hoist, "pointer.primary", NULL, NULL));
        add_listener();
        ok(ikv_scene_watch_removals(now->k.scene, gone, NULL));
        for (int i = 0; i < TARGETS; i++)
            add_target(i);
        if (!own)
            kit_frame(&now->k, 0);
        now->heard = 0;
        now->wild = true;
        uint64_t input_seed = now->seed;
        for (uint64_t step = 0; step < 400; step++) {
            ikv_event events[8];
            uint32_t count = 0;
            uint64_t seed = now->seed;
            now->seed = input_seed;
            for (uint32_t n = below(8); n > 0; n--) {
                events[count] = random_event(step * 20000000 + (8 - n) * 1000);
                events[count].device = now->k.fake.device;
                if (isfinite(events[count].pointer.x) &&
                    isfinite(events[count].pointer.y))
                    count++;
            }
            input_seed = now->seed;
            now->seed = seed;
            if (own)
                own_step(step, events, count, &last);
            else
                loop_step(step, events, count);
            for (uint32_t code = 0x000700e0; code < 0x000700e8; code++)
                downs[own] += ikv_state_key(ikv_kit_state(now->k.kit),
                                            IKV_STATE_UNCLAIMED, 0, code)
                                  .went_down;
        }
        ikv_actions_counts counts = IKV_ACTIONS_COUNTS_INIT;
        ok(ikv_actions_counters(actions, &counts));
        started[own] = (uint32_t)counts.started;
        heard[own] = now->heard;
        ck_assert_uint_gt(now->events, 1000);
        kit_close(&now->k);
        free(now);
    }
    ck_assert_uint_gt(started[0], 10);
    ck_assert_uint_eq(started[0], started[1]);
    ck_assert_int_gt(downs[0], 10);
    ck_assert_int_eq(downs[0], downs[1]);
    ck_assert_uint_eq(heard[0], heard[1]);
}
END_TEST

Suite *storm_suite(void)
{
    Suite *s = suite_create("storm");
    add_table(s, "GONE4 it adds up", adds_up, 4);
    add_table(s, "L3 a loop of one's own", own_loop, 8);
    return s;
}
