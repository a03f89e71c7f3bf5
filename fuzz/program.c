/* program.c - fuzzes programs of the interface: bytes become public calls of
 * all modules with wild values, outside and inside handlers. After each call at
 * rest all validators hold, and a model of the targets that are there agrees;
 * after each frame no call has been lost: what began has ended.
 *
 * A byte chooses the call, those behind it its arguments; handlers take their
 * calls from the same bytes.
 */
#include "fuzz.h"

#include <math.h>

enum {
    TARGETS = 24,
    SUBSCRIPTIONS = 24,
    TIMERS = 8,
    OWNERS = 4,
    ACTIONS = 8,
    DEPTH = 3,
    IMAGE_ROOM = 1 << 22
};

typedef struct world {
    float points[16]; /* of the last polygon: a shape only points to them */
    const uint8_t *at, *end;
    ikv_kit *kit;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_overlaps *overlaps;
    ikv_actions *actions;
    ikv_loop *loop;
    ikv_sink *sink;
    uint64_t now;
    uint32_t depth, running, calls;
    uint16_t device;
    ikv_target targets[TARGETS];
    bool alive[TARGETS]; /* the model: by what calls said */
    uint32_t parent[TARGETS];
    ikv_subscription subscriptions[SUBSCRIPTIONS];
    ikv_timer timers[TIMERS];
    ikv_owner owners[OWNERS];
    ikv_mailbox mailbox;
    ikv_lane lane;
    ikv_action_id actions_of[ACTIONS];
    ikv_action_set set;
    const ikv_event *event; /* that is being handled, or NULL */
    size_t saved;           /* bytes of the image, 0: none */
    bool model;             /* whether the model of targets is to be trusted */
} world;

static uint8_t image[IMAGE_ROOM];

/* ------------------------------------------------------------- arguments -- */

static uint8_t byte(world *w)
{
    return w->at < w->end ? *w->at++ : 0;
}

static uint32_t word(world *w)
{
    uint32_t low = byte(w);
    return low | (uint32_t)byte(w) << 8;
}

static float number(world *w)
{
    static const float odd[] = {
        0,     -0.0f, 1,        -1,    0.5f, 1e9f, -1.5e9f, 1e30f,     -1e-30f,
        1e-6f, NAN,   INFINITY, 3e38f, 360,  -720, 100,     1073741824};
    uint32_t what = byte(w);
    if (what < sizeof odd / sizeof odd[0])
        return odd[what];
    return ((float)what - 128) / (float)(1 + byte(w) % 8);
}

static uint32_t count32(world *w)
{
    static const uint32_t odd[] = {0, 1, UINT32_MAX, 0x80000000u, 65536};
    uint32_t what = byte(w);
    return what < 5 ? odd[what] : what;
}

static uint64_t time64(world *w)
{
    static const uint64_t odd[] = {0, 1, UINT64_MAX, 1ull << 63, 1000000};
    uint32_t what = byte(w);
    return what < 5 ? odd[what] : (uint64_t)what * 3000000;
}

static uint32_t place(world *w)
{
    return byte(w) % TARGETS;
}

static ikv_target target(world *w)
{
    uint32_t what = byte(w);
    if (what < 250)
        return w->targets[what % TARGETS];
    return what == 250   ? ikv_bus_root(w->bus)
           : what == 251 ? (ikv_target){UINT32_MAX}
           : what == 252 ? (ikv_target){word(w)}
                         : (ikv_target){0};
}

static ikv_kind kind(world *w)
{
    uint32_t what = byte(w);
    return what < 250 ? (ikv_kind)(what % 80) : (ikv_kind)(word(w));
}

static ikv_event some_event(world *w)
{
    ikv_event e = ikv_event_make(kind(w), time64(w));
    e.target = target(w);
    e.device = byte(w) % 4 != 0 ? w->device : (uint16_t)word(w);
    e.view = byte(w) % 5;
    e.seat = byte(w) % 5;
    e.modifiers = byte(w);
    uint8_t *payload = (uint8_t *)&e.pointer;
    switch (byte(w) % 4) {
    case 0:
        for (uint32_t i = 0; i < 32; i++)
            payload[i] = byte(w);
        break;
    case 1:
        e.key.code = IKV_CODE(byte(w));
        e.key.key = byte(w);
        break;
    default:
        e.pointer.x = number(w);
        e.pointer.y = number(w);
        e.pointer.pointer = byte(w) % 4;
        e.pointer.type = byte(w) % 4;
        e.pointer.button = (int8_t)(byte(w) % 7 - 1);
        break;
    }
    return e;
}

static ikv_shape shape(world *w)
{
    switch (byte(w) % 7) {
    case 0:
        return ikv_scene_rect(number(w), number(w), number(w), number(w));
    case 1:
        return ikv_scene_circle(number(w), number(w), number(w));
    case 2:
        return ikv_scene_capsule(number(w), number(w), number(w), number(w),
                                 number(w));
    case 3:
        for (int i = 0; i < 16; i++)
            w->points[i] = number(w);
        return ikv_scene_polygon(w->points, 3 + byte(w) % 6);
    case 4:
        return ikv_scene_point(number(w), number(w));
    case 5:
        return ikv_scene_own(number(w), number(w), number(w), number(w));
    default:
        return ikv_scene_rect(0, 0, 60, 30);
    }
}

static const char *name(world *w)
{
    static const char *const names[] = {"tug",  "pier", "lamp",
                                        "gull", "",     "buoy"};
    return names[byte(w) % 6];
}

/* ----------------------------------------------------------- the handler -- */

static void call(world *w);

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    world *w = user;
    const ikv_event *before = w->event;
    MUST(delivery->bus == w->bus);
    w->running++;
    if (w->depth < DEPTH && w->at < w->end) {
        w->depth++;
        w->event = event;
        for (uint32_t i = byte(w) % 3; i > 0; i--)
            call(w);
        w->event = before;
        w->depth--;
    }
    w->running--;
    return byte(w) & 7;
}

static void dropped(void *user)
{
    MUST(user != NULL);
}

/* ----------------------------------------------------------------- calls -- */

static void add_target(world *w)
{
    uint32_t at = place(w), parent = place(w);
    ikv_target_config config = IKV_TARGET_INIT;
    bool has_parent = byte(w) % 2;
    config.id = at + 1;
    if (has_parent)
        config.parent = w->targets[parent];
    else
        config.layer = byte(w) % 5;
    config.x = number(w);
    config.y = number(w);
    config.scale = byte(w) % 3 != 0 ? 1 : number(w);
    if (byte(w) % 3 == 0)
        config.rotation = ikv_scene_rotation(number(w));
    config.z = (int32_t)byte(w) - 100;
    config.shape = shape(w);
    config.hit = byte(w) % 4;
    config.traits = byte(w) % 16;
    config.tags = byte(w);
    config.body = byte(w) % 4 == 0;
    config.hidden = byte(w) % 8 == 0;
    config.clip = byte(w) % 8 == 0;
    ikv_target made;
    if (ikv_scene_add(w->scene, &config, &made, NULL) < 0)
        return;
    MUST(ikv_bus_target_alive(w->bus, made));
    if (w->alive[at])
        w->model = false; /* the old one is forgotten, not removed */
    w->targets[at] = made;
    w->alive[at] = true;
    w->parent[at] = has_parent ? parent : at;
}

static void forget_subtree(world *w, uint32_t at)
{
    w->alive[at] = false;
    for (uint32_t i = 0; i < TARGETS; i++)
        if (w->alive[i] && w->parent[i] == at && i != at)
            forget_subtree(w, i);
}

static void remove_target(world *w)
{
    uint32_t at = place(w);
    if (ikv_scene_remove(w->scene, w->targets[at]) == IKV_OK) {
        MUST(!ikv_bus_target_alive(w->bus, w->targets[at]));
        forget_subtree(w, at);
    }
}

static void set_parent(world *w)
{
    uint32_t at = place(w), parent = place(w);
    if (ikv_scene_set_parent(w->scene, w->targets[at], w->targets[parent]) ==
        IKV_OK)
        w->parent[at] = parent;
}

static void change_target(world *w)
{
    ikv_target t = target(w);
    ikv_shape to;
    switch (byte(w) % 14) {
    case 0:
        ikv_scene_move(w->scene, t, number(w), number(w));
        break;
    case 1:
        ikv_scene_turn(w->scene, t, ikv_scene_rotation(number(w)));
        break;
    case 2:
        ikv_scene_resize(w->scene, t, number(w));
        break;
    case 3:
        to = shape(w);
        ikv_scene_set_shape(w->scene, t, &to);
        break;
    case 4:
        ikv_scene_set_hit(w->scene, t, byte(w) % 5);
        break;
    case 5:
        ikv_scene_set_clip(w->scene, t, byte(w) % 2);
        break;
    case 6:
        ikv_scene_set_grace(w->scene, t, number(w));
        break;
    case 7:
        ikv_scene_set_traits(w->scene, t, byte(w));
        break;
    case 8:
        ikv_scene_show(w->scene, t, byte(w) % 2);
        break;
    case 9:
        ikv_scene_set_z(w->scene, t, (int32_t)count32(w));
        break;
    case 10:
        ikv_scene_raise(w->scene, t);
        break;
    case 11:
        ikv_scene_lower(w->scene, t);
        break;
    case 12:
        ikv_scene_set_tags(w->scene, t, byte(w));
        break;
    default:
        ikv_scene_turn_to(w->scene, t, byte(w) % 5, number(w), number(w));
        break;
    }
}

static void move_camera(world *w)
{
    ikv_camera camera = ikv_scene_camera(w->scene, 0, 0);
    camera.x = number(w);
    camera.y = number(w);
    if (byte(w) % 2)
        camera.zoom = number(w);
    ikv_scene_set_camera(w->scene, byte(w) % 5, byte(w) % 5, &camera);
}

static void ask_scene(world *w)
{
    ikv_query query = IKV_QUERY_INIT;
    ikv_target found[8], by;
    float out[2], local[2];
    query.view = byte(w) % 5;
    query.x = number(w);
    query.y = number(w);
    ikv_target first = ikv_scene_pick(w->scene, &query, 0);
    uint32_t all = ikv_scene_pick_all(w->scene, &query, found, 8);
    MUST((first.bits == 0) == (all == 0));
    MUST(all == 0 || found[0].bits == first.bits);
    ikv_scene_pick_rect(w->scene, &query, number(w), number(w), found, 8);
    ikv_scene_beneath(w->scene, &query, target(w));
    ikv_scene_explain(w->scene, &query, target(w), &by);
    ikv_scene_tab_next(w->scene, target(w), byte(w) % 2);
    ikv_scene_position(w->scene, target(w), local, out);
    ikv_scene_to_local(w->scene, target(w), query.view, query.x, query.y, out,
                       local);
    ikv_scene_to_view(w->scene, target(w), query.view, query.x, query.y, out);
}

static void subscribe(world *w)
{
    static const char *const fields[] = {"x",           "clicks",     "type",
                                         "target.tags", "key",        "local.x",
                                         "none",        "source.body"};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_condition conditions[2];
    ikv_target at[3] = {target(w), target(w), target(w)};
    uint32_t place_of = byte(w) % SUBSCRIPTIONS;
    memset(conditions, 0, sizeof conditions);
    switch (byte(w) % 3) {
    case 0:
        config.kind = kind(w);
        break;
    case 1:
        config.families = word(w);
        break;
    default:
        config.all_kinds = true;
        break;
    }
    if (byte(w) % 2) {
        config.at_list = at;
        config.at_count = 1 + byte(w) % 3;
    }
    config.phases = byte(w) % 9;
    config.rank = (int32_t)byte(w) - 8;
    config.handler = hear;
    config.user = w;
    config.on_drop = byte(w) % 2 ? dropped : NULL;
    config.name = name(w);
    config.owner = w->owners[byte(w) % OWNERS];
    config.at_tags = byte(w) % 4 == 0 ? byte(w) : 0;
    config.limit = byte(w) % 4;
    config.after = byte(w) % 4;
    config.at_most = byte(w) % 4;
    config.gap_ns = byte(w) % 4 == 0 ? time64(w) : 0;
    config.join = byte(w) % 2;
    config.condition_count = byte(w) % 3;
    config.conditions = conditions;
    for (uint32_t i = 0; i < config.condition_count; i++) {
        conditions[i].field = fields[byte(w) % 8];
        conditions[i].comparison = byte(w) % 8;
        conditions[i].negate = byte(w) % 2;
        conditions[i].value.type = byte(w) % 6;
        if (conditions[i].value.type == IKV_VALUE_NUMBER)
            conditions[i].value.bits.number = (double)number(w);
        else
            conditions[i].value.bits.integer = (int64_t)count32(w) - 8;
    }
    ikv_bus_subscribe(w->bus, &config, &w->subscriptions[place_of], NULL);
}

static void change_subscription(world *w)
{
    ikv_subscription *s = &w->subscriptions[byte(w) % SUBSCRIPTIONS];
    switch (byte(w) % 6) {
    case 0:
        if (ikv_bus_unsubscribe(w->bus, *s) == IKV_OK)
            MUST(!ikv_bus_subscribed(w->bus, *s));
        break;
    case 1:
        ikv_bus_mute(w->bus, *s, byte(w) % 2);
        break;
    case 2:
        ikv_bus_unsubscribe_kind(w->bus, kind(w));
        break;
    case 3:
        ikv_bus_rebind(w->bus, name(w), hear, w);
        break;
    case 4:
        ikv_bus_add_owner(w->bus, &w->owners[byte(w) % OWNERS]);
        break;
    default:
        ikv_bus_drop_owner(w->bus, w->owners[byte(w) % OWNERS]);
        break;
    }
}

static void deliver(world *w)
{
    ikv_event e = some_event(w);
    ikv_bus_deliver(w->bus, &e);
}

static void defer(world *w)
{
    ikv_event e = some_event(w);
    ikv_lane lane = byte(w) % 3 == 0 ? w->lane : byte(w) % 4;
    uint8_t data[80] = {1};
    ikv_timer *timer = &w->timers[byte(w) % TIMERS];
    uint32_t delivered;
    switch (byte(w) % 7) {
    case 0:
        ikv_bus_defer(w->bus, lane, &e);
        break;
    case 1:
        ikv_bus_defer_data(w->bus, lane, &e, data, byte(w) % 80);
        break;
    case 2:
        ikv_bus_defer_any(w->bus, lane, &e);
        break;
    case 3:
        ikv_bus_defer_after(w->bus, lane, time64(w), &e, timer);
        break;
    case 4:
        ikv_bus_defer_every(w->bus, lane, time64(w), byte(w) % 2, &e, timer);
        break;
    case 5:
        ikv_bus_cancel_timer(w->bus, *timer);
        break;
    default:
        ikv_bus_flush(w->bus, lane, &delivered);
        break;
    }
}

static void use_router(world *w)
{
    ikv_event made = some_event(w);
    const ikv_event *e = w->event != NULL && byte(w) % 2 ? w->event : &made;
    switch (byte(w) % 7) {
    case 0:
        ikv_router_capture(w->router, e, target(w));
        break;
    case 6:
        ikv_router_attach(w->router, e, target(w));
        break;
    case 1:
        ikv_router_release(w->router, e, target(w));
        break;
    case 2:
        ikv_router_focus(w->router, byte(w) % 5, target(w));
        break;
    case 3:
        ikv_router_blur(w->router, byte(w) % 5);
        break;
    case 4:
        ikv_router_route(w->router, &made);
        break;
    default:
        ikv_router_retest(w->router, w->now);
        break;
    }
}

static void use_overlaps(world *w)
{
    ikv_sensing sensing = {.size = sizeof sensing};
    const float point[3] = {number(w), number(w), 0};
    ikv_contact contact;
    ikv_target a = target(w), b = target(w);
    switch (byte(w) % 5) {
    case 0:
        sensing.senses = byte(w);
        sensing.linger = byte(w) % 4;
        sensing.scope = byte(w) % 3;
        sensing.inside = byte(w) % 3;
        sensing.swept = byte(w) % 2;
        sensing.disabled = byte(w) % 4 == 0;
        ikv_overlaps_sense(w->overlaps, a, &sensing);
        break;
    case 1:
        ikv_overlaps_enable(w->overlaps, a, byte(w) % 2);
        break;
    case 2:
        ikv_overlaps_place(w->overlaps, a);
        break;
    case 3:
        ikv_overlaps_report(w->overlaps, a, b, byte(w) % 2 ? point : NULL);
        break;
    default:
        ikv_overlaps_contact(w->overlaps, a, byte(w), byte(w) % 3, &contact);
        MUST(ikv_overlaps_touches(w->overlaps, a, b) ==
             ikv_overlaps_touches(w->overlaps, b, a));
        break;
    }
}

static void use_actions(world *w)
{
    static const char *const texts[] = {
        "KeyF",     "Shift+KeyF", "key.any",   "pointer.primary",
        "pad.left", "Shift",      "KeyQ+KeyE", "pointer.move",
        "nonsense", "",           "Escape"};
    ikv_action_id *id = &w->actions_of[byte(w) % ACTIONS];
    ikv_scope scope = {byte(w) % 5, byte(w) % 5, target(w)};
    char text[IKV_BINDING_BYTES];
    switch (byte(w) % 8) {
    case 0:
        ikv_actions_add(w->actions, byte(w) % 3, name(w), id);
        break;
    case 1:
        ikv_actions_remove(w->actions, *id);
        break;
    case 2:
        ikv_actions_bind(w->actions, *id, texts[byte(w) % 11],
                         byte(w) % 2 ? &scope : NULL, NULL);
        break;
    case 3:
        ikv_actions_unbind(w->actions,
                           ikv_actions_binding(w->actions, *id, byte(w) % 3));
        break;
    case 4:
        ikv_actions_unbind_all(w->actions, *id);
        break;
    case 5:
        ikv_actions_switch(w->actions, byte(w) % 3, byte(w), byte(w) % 2);
        break;
    case 6:
        ikv_actions_learn(w->actions, byte(w) % 5, 0);
        ikv_actions_learned(w->actions, text, sizeof text);
        break;
    default:
        ikv_actions_ask(w->actions, *id, byte(w));
        ikv_actions_stop_learning(w->actions);
        break;
    }
}

static void push(world *w)
{
    ikv_event e = some_event(w);
    if (byte(w) % 2)
        e.time_ns = w->now;
    if (byte(w) % 16 == 0)
        ikv_sink_lost(w->sink, e.device);
    if (byte(w) % 3 == 0)
        ikv_sink_push_any(w->sink, &e);
    else
        ikv_sink_push(w->sink, &e);
}

/* What a hand does: so that presses, drags and releases come about. */
static void push_hand(world *w)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN, IKV_KIND_POINTER_UP,
        IKV_KIND_KEY_DOWN,     IKV_KIND_KEY_UP,       IKV_KIND_WHEEL};
    ikv_event e = ikv_event_make(kinds[byte(w) % 6], w->now);
    e.device = w->device;
    if (e.kind == IKV_KIND_KEY_DOWN || e.kind == IKV_KIND_KEY_UP) {
        e.key.code = IKV_CODE(4 + byte(w) % 30);
    } else if (e.kind != IKV_KIND_WHEEL) {
        e.pointer.x = (float)(byte(w) % 64);
        e.pointer.y = (float)(byte(w) % 36);
        e.pointer.pointer = byte(w) % 3;
        e.pointer.type = byte(w) % 3;
    }
    ikv_sink_push(w->sink, &e);
}

static void turn_clock(world *w)
{
    switch (byte(w) % 5) {
    case 0:
        ikv_loop_pause(w->loop);
        break;
    case 1:
        ikv_loop_resume(w->loop);
        break;
    case 2:
        ikv_loop_single_step(w->loop);
        break;
    case 3:
        ikv_loop_set_scale(w->loop, count32(w));
        break;
    default:
        w->now += byte(w) % 4 == 0 ? time64(w) % 3000000000u : 16666667;
        break;
    }
}

/* In a handler they are refused, and say so. */
static void run_frame(world *w)
{
    bool inside = w->running > 0;
    w->now += 1000000ull * (1 + byte(w) % 40);
    bool began = ikv_loop_begin(w->loop);
    MUST(!(inside && began));
    if (!began)
        return;
    for (uint32_t i = 0; ikv_loop_step(w->loop) && i < 20; i++) {
    }
    MUST(ikv_loop_end(w->loop) == IKV_OK);
    MUST(w->running == 0);
}

static void go_back(world *w)
{
    ikv_parts parts = ikv_kit_parts(w->kit);
    size_t size = ikv_image_size(&parts);
    bool inside = w->running > 0;
    if (byte(w) % 2 || w->saved == 0) {
        MUST(size <= sizeof image);
        ikv_status status = ikv_image_save(&parts, image, size);
        MUST(inside ? status == IKV_BUSY : status == IKV_OK);
        w->saved = status == IKV_OK ? size : w->saved;
    } else {
        ikv_status status = ikv_image_restore(&parts, image, w->saved, NULL, 0);
        MUST(!(inside && status == IKV_OK));
        if (status == IKV_OK) /* handles may be of what is not there yet */
            w->model = false;
    }
}

static void close_inside(world *w)
{
    if (w->running == 0)
        return;
    MUST(ikv_kit_close(w->kit) == IKV_BUSY);
    MUST(ikv_bus_close(w->bus) == IKV_BUSY);
    MUST(ikv_loop_end(w->loop) == IKV_BUSY);
}

static void (*const calls[])(world *w) = {
    add_target,    add_target,    remove_target, set_parent,
    change_target, change_target, move_camera,   ask_scene,
    subscribe,     subscribe,     subscribe,     change_subscription,
    deliver,       defer,         use_router,    use_overlaps,
    use_actions,   push,          push_hand,     push_hand,
    push_hand,     turn_clock,    run_frame,     run_frame,
    run_frame,     go_back,       close_inside};

static void call(world *w)
{
    w->calls++;
    calls[byte(w) % (sizeof calls / sizeof calls[0])](w);
}

/* --------------------------------------------------------------- the run -- */

static ikv_status open_port(void *state, ikv_sink *sink)
{
    world *w = state;
    w->sink = sink;
    w->device = ikv_sink_device(sink);
    return IKV_OK;
}

static uint64_t port_now(void *state)
{
    const world *w = state;
    return w->now;
}

static void close_port(void *state)
{
    (void)state;
}

static void open_world(world *w)
{
    ikv_port port = {.size = sizeof port,
                     .capabilities = IKV_PORT_CLOCK,
                     .name = "fuzz",
                     .state = w,
                     .open = open_port,
                     .now = port_now,
                     .close = close_port};
    ikv_kit_config config = IKV_KIT_INIT;
    uint32_t small = byte(w);
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.queue.capacity = 64;
    config.bus.targets = config.scene.targets = config.overlaps.targets = 64;
    config.bus.subscriptions = small % 2 ? 12 : 40;
    config.bus.entries = small % 4 ? 24 : 200;
    config.bus.deferred = 24;
    config.bus.timers = 8;
    config.bus.owners = 4;
    config.scene.layers = 4;
    config.scene.polygons = 8;
    config.actions.actions = 8;
    config.actions.bindings = 12;
    config.overlaps.contacts = small % 8 ? 8 : 64;
    config.loop.frame_hz = IKV_UNPACED;
    config.loop.pending = 64;
    config.loop.timing = small % 3 == 0 ? IKV_AT_FRAME : IKV_IN_STEP;
    MUST(ikv_kit_open(&config, &w->kit) == IKV_OK);
    w->bus = ikv_kit_bus(w->kit);
    w->scene = ikv_kit_scene(w->kit);
    w->router = ikv_kit_router(w->kit);
    w->overlaps = ikv_kit_overlaps(w->kit);
    w->actions = ikv_kit_actions(w->kit);
    w->loop = ikv_kit_loop(w->kit);
    w->model = true;
    ikv_bus_add_lane(w->bus, "cargo", &w->lane);
    ikv_bus_add_mailbox(w->bus, &w->mailbox);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static world w;
    w = (world){.at = data, .end = data + size, .now = 1000};
    open_world(&w);
    while (w.at < w.end && w.calls < 4000) {
        call(&w);
        MUST(w.running == 0);
        fuzz_validate(w.kit);
        for (uint32_t i = 0; w.model && i < TARGETS; i++)
            MUST(w.alive[i] == (w.targets[i].bits != 0 &&
                                ikv_bus_target_alive(w.bus, w.targets[i])));
    }
    MUST(ikv_kit_close(w.kit) == IKV_OK);
    return 0;
}
