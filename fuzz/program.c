/* program.c - fuzzes programs of the interface: bytes become public calls of
 * all modules with wild values, outside and inside handlers. After each call at
 * rest all validators hold, and a model of the targets that are there agrees;
 * after each frame no call has been lost: what began has ended.
 *
 * A byte chooses the call, those behind it its arguments; handlers take their
 * calls from the same bytes. What is answered, heard and can be asked becomes
 * one number (look.c); so arguments are read one after another, in an order
 * that no compiler changes.
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
    bool tame;              /* numbers as a game has them, rather than wild */
    bool crowded;           /* many targets: slow to validate */
    bool announces;
    bool plain; /* each with each, instead of by an index */
    bool twice; /* with and without: all that is told must be the same */
    bool plays; /* hands' events come as from a tape */
    uint64_t last_due;
} world;

static uint8_t image[IMAGE_ROOM];

/* ------------------------------------------------------------- arguments -- */

static uint8_t byte(world *w)
{
    return w->at < w->end ? *w->at++ : 0;
}

static uint32_t word(world *w)
{
    uint32_t low = byte(w), high = byte(w);
    return low | high << 8;
}

static float number(world *w)
{
    static const float odd[] = {
        0,     -0.0f, 1,        -1,    0.5f, 1e9f, -1.5e9f, 1e30f,     -1e-30f,
        1e-6f, NAN,   INFINITY, 3e38f, 360,  -720, 100,     1073741824};
    uint32_t what = byte(w);
    if (w->tame)
        return (float)what / 4 - 2;
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
    for (uint32_t i = 0; w->tame && what < 250 && i < TARGETS; i++)
        if (w->alive[(what + i) % TARGETS])
            return w->targets[(what + i) % TARGETS];
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
    if (w->tame)
        return (ikv_kind)(1 + what % 63);
    return what < 250 ? (ikv_kind)(what % 80) : (ikv_kind)(word(w));
}

static ikv_event some_event(world *w)
{
    ikv_kind of = kind(w);
    ikv_event e = ikv_event_make(of, time64(w));
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

static float size(world *w)
{
    float wild = number(w);
    return w->tame ? 0.25f + wild / 32 : wild;
}

static ikv_shape shape(world *w)
{
    static const float ring[] = {4,  0, 3,  3,  0, 4,  -3, 3,
                                 -4, 0, -3, -3, 0, -4, 3,  -3};
    uint32_t form = byte(w) % 7;
    float x = number(w), y = number(w), a = number(w), b = number(w);
    switch (form) {
    case 0:
        return ikv_scene_rect(x, y, a, b);
    case 1:
        return ikv_scene_circle(x, y, a);
    case 2:
        return ikv_scene_capsule(x, y, a, b, size(w));
    case 3:
        for (int i = 0; i < 16; i++)
            w->points[i] =
                w->tame ? (i % 2 ? y : x) + ring[i] * (1 + a / 16) : number(w);
        return ikv_scene_polygon(w->points, 3 + byte(w) % 6);
    case 4:
        return ikv_scene_point(x, y);
    case 5:
        return ikv_scene_own(x, y, a, b);
    default:
        return ikv_scene_rect(0, 0, 60, 30);
    }
}

static const char *name(world *w)
{
    static const char *const names[] = {"tug", "pier", "lamp",  "gull",
                                        "",    "buoy", "ferry", "crane"};
    return names[byte(w) % 8];
}

/* ----------------------------------------------------------- the handler -- */

static void call(world *w);

static void look_at_delivery(const ikv_event *event,
                             const ikv_delivery *delivery)
{
    const uint32_t plain[] = {delivery->phase,         delivery->flags,
                              delivery->path_length,   delivery->sample_count,
                              delivery->data_size,     delivery->current.bits,
                              (uint32_t)delivery->step};
    const float places[] = {delivery->layer_x, delivery->layer_y,
                            delivery->local_x, delivery->local_y};
    fuzz_event(event);
    fuzz_tell(plain, sizeof plain);
    fuzz_tell(places, sizeof places);
    fuzz_tell(delivery->path, delivery->path_length * sizeof(ikv_target));
    for (uint32_t i = 0; i < delivery->sample_count; i++)
        fuzz_event(delivery->samples + i);
    fuzz_tell(delivery->data, delivery->data_size);
    if (delivery->cause != NULL)
        fuzz_number(delivery->cause->kind);
}

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    world *w = user;
    const ikv_event *before = w->event;
    MUST(delivery->bus == w->bus);
    look_at_delivery(event, delivery);
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

static ikv_verdict hear_too(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    fuzz_number(99);
    return hear(event, delivery, user);
}

static void dropped(void *user)
{
    MUST(user != NULL);
    fuzz_number(77);
}

/* ----------------------------------------------------------------- calls -- */

static void add_target(world *w)
{
    uint32_t at = place(w), parent = place(w);
    ikv_target_config config = IKV_TARGET_INIT;
    bool has_parent = byte(w) % 2 && w->targets[parent].bits != 0;
    config.id = at + 1;
    if (has_parent)
        config.parent = w->targets[parent];
    else
        config.layer = byte(w) % (w->tame ? 2u : 5u);
    config.x = number(w);
    config.y = number(w);
    config.scale = byte(w) % 3 != 0 ? 1 : size(w);
    if (byte(w) % 3 == 0)
        config.rotation = ikv_scene_rotation(number(w));
    config.z = (int32_t)byte(w) - 100;
    config.shape = shape(w);
    config.hit = byte(w) % (w->tame ? 3u : 4u);
    config.grace = w->tame ? (float)(byte(w) % 4) : number(w);
    config.tab = (int32_t)byte(w) % 4 - 1;
    config.traits = byte(w) % (w->tame ? 4u : 16u);
    config.tags = byte(w);
    config.body = byte(w) % 4 == 0;
    config.hidden = byte(w) % 8 == 0;
    config.clip = byte(w) % 8 == 0;
    ikv_target made;
    ikv_message message = {""};
    ikv_status status = ikv_scene_add(w->scene, &config, &made, &message);
    fuzz_told(status, &message);
    fuzz_number((uint64_t)status);
    fuzz_text(message.text);
    if (status < 0)
        return;
    bool stays = ikv_bus_target_alive(w->bus, made);
    MUST(stays || w->announces); /* to a handler that removed it */
    if (w->alive[at])
        w->model = false; /* the old one is forgotten, not removed */
    w->targets[at] = made;
    w->alive[at] = stays;
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
    ikv_target old = w->targets[at];
    ikv_status status = ikv_scene_remove(w->scene, old);
    fuzz_number((uint64_t)status);
    if (status == IKV_OK) {
        MUST(!ikv_bus_target_alive(w->bus, old));
        if (w->targets[at].bits != old.bits)
            w->model = false; /* a handler that was told put another there */
        forget_subtree(w, at);
    }
}

static void set_parent(world *w)
{
    uint32_t at = place(w), parent = place(w);
    ikv_status status =
        ikv_scene_set_parent(w->scene, w->targets[at], w->targets[parent]);
    fuzz_number((uint64_t)status);
    if (status == IKV_OK)
        w->parent[at] = w->targets[parent].bits != 0 ? parent : at;
}

static ikv_status change(world *w, ikv_target t)
{
    uint32_t what = byte(w) % 15, value = byte(w);
    float x = number(w), y = number(w);
    ikv_motion motions[2] = {{t, x, y}, {w->targets[value % TARGETS], y, x}};
    ikv_shape to;
    switch (what) {
    case 0:
        return ikv_scene_move(w->scene, t, x, y);
    case 1:
        return ikv_scene_turn(w->scene, t, ikv_scene_rotation(x));
    case 2:
        return ikv_scene_resize(w->scene, t, w->tame ? 0.5f + x / 32 : x);
    case 3:
        to = shape(w);
        return ikv_scene_set_shape(w->scene, t, &to);
    case 4:
        return ikv_scene_set_hit(w->scene, t, value % 5);
    case 5:
        return ikv_scene_set_clip(w->scene, t, value % 2);
    case 6:
        return ikv_scene_set_grace(w->scene, t, x);
    case 7:
        return ikv_scene_set_traits(w->scene, t, value);
    case 8:
        return ikv_scene_show(w->scene, t, value % 2);
    case 9:
        return ikv_scene_set_z(w->scene, t, (int32_t)count32(w));
    case 10:
        return ikv_scene_raise(w->scene, t);
    case 11:
        return ikv_scene_lower(w->scene, t);
    case 12:
        return ikv_scene_set_tags(w->scene, t, value);
    case 13:
        return ikv_scene_move_many(w->scene, motions, 1 + value % 2);
    default:
        return ikv_scene_turn_to(w->scene, t, value % 5, x, y);
    }
}

static void change_target(world *w)
{
    ikv_target t = target(w);
    fuzz_number((uint64_t)change(w, t));
}

static void move_camera(world *w)
{
    uint32_t layer = byte(w) % 5, view = byte(w) % 5, what = byte(w) % 3;
    ikv_camera camera = ikv_scene_camera(w->scene, layer, view);
    float x = number(w), y = number(w), zoom = size(w);
    camera.x = x / 4;
    camera.y = y / 4;
    if (what == 1)
        camera.zoom = zoom;
    else if (what == 2)
        camera = ikv_scene_fit(x, y, 64, 36);
    fuzz_number((uint64_t)ikv_scene_set_camera(w->scene, layer, view, &camera));
}

static void ask_scene(world *w)
{
    ikv_query query = IKV_QUERY_INIT;
    ikv_target found[8], by = {0};
    float out[4] = {0};
    query.view = byte(w) % 5;
    query.x = number(w);
    query.y = number(w);
    ikv_target first = ikv_scene_pick(w->scene, &query, 0), t = target(w);
    uint32_t all = ikv_scene_pick_all(w->scene, &query, found, 8);
    MUST((first.bits == 0) == (all == 0));
    MUST(all == 0 || found[0].bits == first.bits);
    fuzz_number(first.bits | (uint64_t)all << 32);
    float width = number(w), height = number(w);
    fuzz_number(ikv_scene_pick_rect(w->scene, &query, width, height, found, 8));
    fuzz_number(ikv_scene_beneath(w->scene, &query, t).bits);
    fuzz_number(ikv_scene_explain(w->scene, &query, t, &by));
    fuzz_number(by.bits);
    fuzz_number(ikv_scene_tab_next(w->scene, t, byte(w) % 2).bits);
    fuzz_number(ikv_scene_to_layer(w->scene, byte(w) % 5, query.view, query.x,
                                   query.y, out));
    fuzz_tell(out, sizeof out);
    fuzz_number(ikv_scene_to_local(w->scene, t, query.view, query.x, query.y,
                                   out, out + 2));
    fuzz_number(
        ikv_scene_to_view(w->scene, t, query.view, query.x, query.y, out + 2));
    fuzz_tell(out, sizeof out);
}

static ikv_condition condition(world *w)
{
    static const char *const fields[] = {
        "x",      "target.tags", "clicks",  "type",        "key",
        "button", "local.x",     "seat",    "source.body", "modifiers",
        "value",  "pressure",    "none",    "target",      "buttons",
        "index",  "time",        "samples", "code",        "scale"};
    ikv_condition c = {fields[byte(w) % 20], byte(w) % 8, {0, {0}}, false};
    c.negate = byte(w) % 4 == 0;
    c.value.type = byte(w) % 6;
    switch (c.value.type) {
    case IKV_VALUE_NUMBER:
        c.value.bits.number = (double)number(w);
        break;
    case IKV_VALUE_TARGET:
        c.value.bits.target = target(w);
        break;
    case IKV_VALUE_BOOL:
        c.value.bits.boolean = byte(w) % 2;
        break;
    default:
        c.value.bits.integer = (int64_t)count32(w) - (w->tame ? 0 : 8);
        if (w->tame) /* most fields are small whole numbers */
            c.value = (ikv_value){IKV_VALUE_INTEGER, {byte(w) % 8}};
        break;
    }
    return c;
}

static void subscribe(world *w)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_condition conditions[2];
    ikv_target at[3];
    for (int i = 0; i < 3; i++)
        at[i] = target(w);
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
    uint32_t aims = byte(w);
    config.phases = w->tame ? aims / 8 % 8 : byte(w) % 9;
    config.rank = (int32_t)byte(w) - 8;
    if (byte(w) % 8 == 0)
        config.mailbox = w->mailbox;
    else
        config.handler = hear;
    config.user = w;
    config.on_drop = byte(w) % 2 ? dropped : NULL;
    config.name = name(w);
    config.owner = w->owners[byte(w) % OWNERS];
    if (aims % 4 == 0)
        config.at_tags = byte(w);
    else if (aims % 8 == 1)
        config.at_body = target(w);
    else if (aims % 2)
        config.at_list = at;
    config.at_count = config.at_list != NULL ? 1 + byte(w) % 3 : 0;
    uint32_t limits = byte(w);
    config.limit = limits % 8 == 0 ? 1 + byte(w) % 8 : 0;
    config.after = limits / 8 % 4 == 0 ? byte(w) % 3 : 0;
    config.at_most = limits >= 220 ? limits % 4 : 0;
    config.gap_ns = limits / 32 == 4 ? time64(w) : 0;
    config.join = byte(w) % 2;
    uint32_t count = byte(w) % 6, grouped = byte(w);
    count = w->tame && count > 2 ? 0 : count % 3;
    ikv_condition_group group = {grouped / 2 % 2, 1, conditions + 1,
                                 grouped / 4 % 2};
    config.group_count = count == 2 && grouped % 2;
    config.groups = config.group_count > 0 || !w->tame ? &group : NULL;
    config.condition_count = count - config.group_count;
    config.conditions =
        config.condition_count > 0 || !w->tame ? conditions : NULL;
    for (uint32_t i = 0; i < count; i++)
        conditions[i] = condition(w);
    ikv_message message = {""};
    ikv_status status = ikv_bus_subscribe(
        w->bus, &config, &w->subscriptions[place_of], &message);
    fuzz_told(status, &message);
    fuzz_number((uint64_t)status);
    fuzz_text(message.text);
}

static ikv_status change_heard(world *w, ikv_subscription *s)
{
    uint32_t what = byte(w) % 6, value = byte(w);
    ikv_status status;
    switch (what) {
    case 0:
        status = ikv_bus_unsubscribe(w->bus, *s);
        MUST(status != IKV_OK || !ikv_bus_subscribed(w->bus, *s));
        return status;
    case 1:
        return ikv_bus_mute(w->bus, *s, value % 2);
    case 2:
        return ikv_bus_unsubscribe_kind(w->bus, kind(w));
    case 3:
        return ikv_bus_rebind(w->bus, name(w), value % 2 ? hear_too : hear, w);
    case 4:
        return ikv_bus_add_owner(w->bus, &w->owners[value % OWNERS]);
    default:
        return ikv_bus_drop_owner(w->bus, w->owners[value % OWNERS]);
    }
}

static void change_subscription(world *w)
{
    ikv_subscription *s = &w->subscriptions[byte(w) % SUBSCRIPTIONS];
    ikv_subscription_counts counts = IKV_SUBSCRIPTION_COUNTS_INIT;
    fuzz_number((uint64_t)change_heard(w, s));
    fuzz_number((uint64_t)ikv_bus_subscription_counters(w->bus, *s, &counts));
    fuzz_tell(&counts.candidates, 8 * sizeof counts.candidates);
    fuzz_text(ikv_bus_subscription_name(w->bus, *s));
}

static void tell_outcome(ikv_outcome outcome)
{
    fuzz_tell(&outcome, sizeof outcome);
}

static void deliver(world *w)
{
    ikv_event e = some_event(w);
    ikv_route route = IKV_ROUTE_INIT;
    ikv_target path[3];
    if (byte(w) % 2) {
        tell_outcome(ikv_bus_deliver(w->bus, &e));
        return;
    }
    route.flags = byte(w) % 8;
    route.own_visit = byte(w) % 2;
    route.path_length = byte(w) % 4;
    route.path = route.path_length > 0 ? path : NULL;
    for (int i = 0; i < 3; i++)
        path[i] = target(w);
    tell_outcome(ikv_bus_deliver_along(w->bus, &e, &route));
}

static ikv_status defer_one(world *w, ikv_lane lane, const ikv_event *e)
{
    uint8_t data[80] = {1};
    ikv_timer *timer = &w->timers[byte(w) % TIMERS];
    uint32_t what = byte(w) % 9, value = byte(w), delivered = 0;
    ikv_event got = ikv_event_make(IKV_KIND_NONE, 0);
    ikv_status status;
    switch (what) {
    case 0:
        return ikv_bus_defer(w->bus, lane, e);
    case 1:
        return ikv_bus_defer_data(w->bus, lane, e, data, value % 80);
    case 2:
        return ikv_bus_defer_any(w->bus, lane, e);
    case 3:
        return ikv_bus_defer_after(w->bus, lane, time64(w), e, timer);
    case 4:
        return ikv_bus_defer_every(w->bus, lane, time64(w), value % 2, e,
                                   timer);
    case 5:
        return ikv_bus_cancel_timer(w->bus, *timer);
    case 6:
        return ikv_bus_set_timer_data(w->bus, *timer, data, value % 80);
    case 7:
        status = ikv_bus_read(w->bus, w->mailbox, &got);
        fuzz_event(&got);
        fuzz_number(ikv_bus_mailbox_refused(w->bus, w->mailbox));
        return status;
    default:
        status = ikv_bus_flush(w->bus, lane, &delivered);
        fuzz_number(delivered);
        return status;
    }
}

static void defer(world *w)
{
    ikv_event e = some_event(w);
    ikv_lane lane = byte(w) % 4;
    if (byte(w) % 3 == 0)
        lane = w->lane;
    fuzz_number((uint64_t)defer_one(w, lane, &e));
}

static ikv_status ask_router(world *w, const ikv_event *made)
{
    const ikv_event *e = w->event != NULL && byte(w) % 2 ? w->event : made;
    uint32_t what = byte(w) % 7;
    uint8_t seat = byte(w) % 5;
    ikv_target t = target(w);
    fuzz_number(ikv_router_has_capture(w->router, e, t));
    fuzz_number(ikv_router_is_down(w->router, e));
    fuzz_number(ikv_router_holds(w->router, e));
    switch (what) {
    case 0:
        return ikv_router_capture(w->router, e, t);
    case 1:
        return ikv_router_attach(w->router, e, t);
    case 2:
        return ikv_router_release(w->router, e, t);
    case 3:
        return ikv_router_focus(w->router, seat, t);
    case 4:
        return ikv_router_blur(w->router, seat);
    case 5:
        tell_outcome(ikv_router_route(w->router, made));
        return IKV_OK;
    default:
        ikv_router_retest(w->router, w->now);
        return IKV_OK;
    }
}

static void use_router(world *w)
{
    ikv_event made = some_event(w);
    fuzz_number((uint64_t)ask_router(w, &made));
}

static ikv_status change_overlaps(world *w, ikv_target a, ikv_target b)
{
    ikv_sensing sensing = {.size = sizeof sensing};
    uint32_t what = byte(w) % 5, value = byte(w);
    const float x = number(w), point[3] = {x, x / 2, 0};
    switch (what) {
    case 0:
    case 1:
        sensing.senses = value;
        sensing.linger = byte(w) % 4;
        sensing.scope = byte(w) % 3;
        sensing.inside = byte(w) % 3;
        sensing.swept = byte(w) % 2;
        sensing.disabled = byte(w) % 4 == 0;
        return ikv_overlaps_sense(w->overlaps, a, &sensing);
    case 2:
        return ikv_overlaps_enable(w->overlaps, a, value % 2);
    case 3:
        return ikv_overlaps_place(w->overlaps, a);
    default:
        return ikv_overlaps_report(w->overlaps, a, b, value % 2 ? point : NULL);
    }
}

static void use_overlaps(world *w)
{
    ikv_contact contact = {{0}, {0}, 0, 0, 0, 0, 0, 0, 0, 0};
    ikv_target a = target(w), b = target(w);
    uint32_t tags = byte(w), nth = byte(w) % 3;
    fuzz_number((uint64_t)change_overlaps(w, a, b));
    fuzz_number(ikv_overlaps_contact(w->overlaps, a, tags, nth, &contact));
    fuzz_tell(&contact, sizeof contact);
    bool listed = false; /* what it touches is among its contacts */
    for (uint32_t i = 0; ikv_overlaps_contact(w->overlaps, a, 0, i, &contact);
         i++)
        listed = listed || contact.other.bits == b.bits;
    MUST(ikv_overlaps_touches(w->overlaps, a, b) == listed);
    fuzz_number(listed);
}

static ikv_status change_actions(world *w, ikv_action_id *id)
{
    static const char *const texts[] = {"KeyF",
                                        "Shift+KeyF",
                                        "key.any",
                                        "pointer.click",
                                        "KeyA|KeyD",
                                        "KeyA|KeyD|KeyG|KeyJ",
                                        "pad.left",
                                        "pad.axis1-",
                                        "pad.axis0",
                                        "pad.2",
                                        "pad.3|pad.4",
                                        "pointer.primary",
                                        "pointer.double",
                                        "pointer.hold",
                                        "gesture.two_tap",
                                        "pointer.move",
                                        "wheel.up",
                                        "Control+Shift+KeyB",
                                        "pad.right",
                                        "Shift",
                                        "KeyC+KeyD",
                                        "nonsense",
                                        "Shift+pointer.click",
                                        "wheel.left|wheel.right",
                                        "Escape",
                                        "pointer.secondary",
                                        "KeyE+pointer.primary"};
    uint32_t what = byte(w) % 10, value = byte(w);
    uint8_t seat = byte(w);
    const char *text = texts[byte(w) % 27];
    ikv_scope scope = {value % 5, seat % 5, {0}};
    scope.target = target(w);
    ikv_action_set set = (ikv_action_set)(seat % 4);
    ikv_binding clash[4];
    char learned[IKV_BINDING_BYTES] = "";
    switch (what) {
    case 0:
        return ikv_actions_add(w->actions, set, name(w), id);
    case 1:
        return ikv_actions_remove(w->actions, *id);
    case 2:
    case 3:
        fuzz_number(
            ikv_actions_conflicts(w->actions, *id, text, &scope, clash, 4));
        return ikv_actions_bind(w->actions, *id, text,
                                value % 2 ? &scope : NULL, NULL);
    case 4:
        return ikv_actions_unbind(
            w->actions, ikv_actions_binding(w->actions, *id, value % 3));
    case 5:
        return ikv_actions_unbind_all(w->actions, *id);
    case 6:
        return ikv_actions_switch(w->actions, set, seat % 3, value % 2);
    case 7:
        return ikv_actions_learn(w->actions, seat % 5, 0);
    case 8:
        return ikv_actions_add_set(w->actions, name(w), &set);
    default:
        if (ikv_actions_learned(w->actions, learned, sizeof learned) == IKV_OK)
            MUST(ikv_binding_check(learned, NULL) == IKV_OK);
        fuzz_text(learned);
        ikv_actions_stop_learning(w->actions);
        return IKV_OK;
    }
}

static void use_actions(world *w)
{
    ikv_action_id *id = &w->actions_of[byte(w) % ACTIONS];
    fuzz_number((uint64_t)change_actions(w, id));
    if (w->event != NULL)
        fuzz_number(ikv_actions_binding_of(w->actions, w->event).bits);
}

static void push(world *w)
{
    ikv_event e = some_event(w);
    if (byte(w) % 2)
        e.time_ns = w->now;
    if (byte(w) % 16 == 0)
        ikv_sink_lost(w->sink, e.device);
    if (byte(w) % 3 == 0)
        fuzz_number((uint64_t)ikv_sink_push_any(w->sink, &e));
    else
        fuzz_number((uint64_t)ikv_sink_push(w->sink, &e));
}

/* What hands do: so that presses, drags, releases and gestures come about. */
static void run_frame(world *w);

static void fill_hand(world *w, ikv_event *e)
{
    uint8_t what = byte(w), more = byte(w);
    switch (e->kind) {
    case IKV_KIND_KEY_DOWN:
    case IKV_KIND_KEY_UP:
        e->key.code = IKV_CODE(4 + what % 30);
        if (what >= 220) /* Tab, Escape and the modifiers, more often */
            e->key.code =
                IKV_CODE(what < 228 ? 0x29 + what % 3 : 0xe0 + more % 8);
        e->flags = more % 8 == 0 ? IKV_REPEAT : 0;
        e->seat = more % 16 == 1;
        break;
    case IKV_KIND_PAD_DOWN:
    case IKV_KIND_PAD_UP:
    case IKV_KIND_PAD_AXIS:
        e->pad.index = what % 6;
        e->pad.pad = more % 2;
        e->pad.value = (float)(more / 2 % 9) / 4 - 1;
        break;
    default:
        e->pointer.x = (float)(what % 64);
        e->pointer.y = (float)(more % 36);
        what = byte(w);
        e->pointer.dx = (float)(more % 8) - 4;
        e->pointer.dy = (float)(what % 8) - 4;
        e->pointer.pointer = what % 3;
        e->pointer.type = what / 4 % 3;
        e->view = what / 16 == 3;
        if (e->kind == IKV_KIND_WHEEL)
            e->wheel.dy = (float)(what % 7) - 3;
        else if (e->pointer.type == IKV_MOUSE && what > 200)
            e->pointer.button = (int8_t)(what % 5);
        break;
    }
}

static void give_hand(world *w, const ikv_event *e)
{
    ikv_intake intake = IKV_INTAKE_INIT;
    if (!w->plays) {
        fuzz_number((uint64_t)ikv_sink_push(w->sink, e));
        return;
    }
    uint32_t what = byte(w);
    w->last_due += what % 8 * 2000000;
    intake.has_due = what % 16 != 0;
    intake.due_ns = w->last_due;
    intake.how = what >= 224 ? (uint8_t)(what % 3) : 0;
    intake.lane = what / 8 % 4;
    intake.group = what / 32 == 6 ? 1 + byte(w) % 2 : 0;
    intake.within = what / 64 == 3;
    fuzz_number((uint64_t)ikv_sink_play(w->sink, e, &intake));
}

static void push_hand(world *w)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN,   IKV_KIND_POINTER_UP,
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN,   IKV_KIND_POINTER_UP,
        IKV_KIND_KEY_DOWN,     IKV_KIND_KEY_UP,         IKV_KIND_WHEEL,
        IKV_KIND_PAD_DOWN,     IKV_KIND_PAD_UP,         IKV_KIND_PAD_AXIS,
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_CANCEL, IKV_KIND_POINTER_UP,
        IKV_KIND_PEN_DISTANCE, IKV_KIND_POINTER_MOVE,   IKV_KIND_KEY_DOWN};
    static const ikv_kind seldom[] = {
        IKV_KIND_DEVICE_ADD,   IKV_KIND_DEVICE_REMOVE, IKV_KIND_WINDOW_BLUR,
        IKV_KIND_WINDOW_FOCUS, IKV_KIND_WINDOW_HIDE,   IKV_KIND_WINDOW_RESIZE};
    uint32_t what = byte(w);
    ikv_kind of = what >= 250 ? seldom[what - 250] : kinds[what % 18];
    ikv_event e = ikv_event_make(of, w->now);
    e.device = w->device;
    if (what < 250)
        fill_hand(w, &e);
    give_hand(w, &e);
}

/* A flick of the finger, a key struck: down and up in one frame. */
static void strike(world *w)
{
    uint32_t what = byte(w);
    ikv_event e = ikv_event_make(
        what % 2 ? IKV_KIND_POINTER_DOWN : IKV_KIND_KEY_DOWN, w->now);
    e.device = w->device;
    fill_hand(w, &e);
    give_hand(w, &e);
    e.kind++;
    if (what % 2 && what / 2 % 4 == 0)
        e.pointer.x += 3;
    e.time_ns += what / 8 * 1000000;
    give_hand(w, &e);
}

/* Two fingers that go down, move and go up, a frame or more apart. */
static void pinch(world *w)
{
    uint32_t frames = 1 + byte(w) % 4, way = byte(w);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, w->now);
    e.device = w->device;
    e.pointer.type = IKV_TOUCH;
    for (uint32_t i = 0; i < 2 * frames + 2; i++) {
        if (i >= 2)
            e.kind =
                i < 2 * frames ? IKV_KIND_POINTER_MOVE : IKV_KIND_POINTER_UP;
        e.pointer.pointer = (uint16_t)(i % 2);
        e.pointer.x = 20 + (float)(i % 2 ? 1 + way % 8 * i : i * (way / 64));
        e.pointer.y = 10 + (float)(i % 2 ? way / 8 % 8 * i : i % 3);
        e.time_ns = w->now;
        give_hand(w, &e);
        if (i % 2 && w->running == 0)
            run_frame(w);
    }
}

/* More targets than are looked at one by one. */
static void add_crowd(world *w)
{
    uint32_t count = byte(w), spread = 1 + byte(w) % 16;
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target made = {0};
    for (uint32_t i = 0; i < count; i++) {
        config.x = (float)(i * 7 % 61 * spread) / 8;
        config.y = (float)(i * 5 % 37 * spread) / 8;
        config.z = (int32_t)(i % 3);
        config.hit = i % 5 == 0 ? IKV_HIT_PASS : IKV_HIT_SOLID;
        config.tags = i % 4;
        config.shape = i % 2 ? ikv_scene_circle(0, 0, (float)(i % 4) + 0.5f)
                             : ikv_scene_rect(0, 0, 2, (float)(1 + i % 3));
        if (ikv_scene_add(w->scene, &config, &made, NULL) < 0)
            break;
    }
    fuzz_number(made.bits);
    w->model = false;
    w->crowded = true;
    if (made.bits != 0)
        w->targets[byte(w) % TARGETS] = made;
}

static void type_text(world *w)
{
    static const char *const texts[] = {
        "a", "ferry to pier two, and back again", "\xc3\xa4", "\xff", ""};
    ikv_event e = ikv_event_make(IKV_KIND_TEXT_INPUT, w->now);
    const char *text = texts[byte(w) % 5];
    e.device = w->device;
    fuzz_number((uint64_t)ikv_sink_push_text(w->sink, &e, text, strlen(text)));
}

static ikv_status change_clock(world *w)
{
    switch (byte(w) % 5) {
    case 0:
        return ikv_loop_pause(w->loop);
    case 1:
        return ikv_loop_resume(w->loop);
    case 2:
        return ikv_loop_single_step(w->loop);
    case 3:
        return ikv_loop_set_scale(w->loop, count32(w) * (w->tame ? 10 : 1));
    default:
        w->now += byte(w) % 4 == 0 ? time64(w) % 3000000000u : 16666667;
        return IKV_OK;
    }
}

static void turn_clock(world *w)
{
    fuzz_number((uint64_t)change_clock(w));
}

/* In a handler they are refused, and say so. */
static void run_frame(world *w)
{
    bool inside = w->running > 0;
    w->now += 1000000ull * (1 + byte(w) % 40);
    fuzz_look(w->kit, w->targets, w->running == 0 ? TARGETS : 1, w->twice);
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
        fuzz_number((uint64_t)status);
        w->saved = status == IKV_OK ? size : w->saved;
    } else {
        ikv_status status = ikv_image_restore(&parts, image, w->saved, NULL, 0);
        MUST(!(inside && status == IKV_OK));
        fuzz_number((uint64_t)status);
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
    use_actions,   use_actions,   push,          push_hand,
    push_hand,     push_hand,     push_hand,     strike,
    strike,        pinch,         type_text,     add_crowd,
    turn_clock,    run_frame,     run_frame,     run_frame,
    go_back,       close_inside};

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

static ikv_status wait_port(void *state, uint64_t until, bool for_input)
{
    world *w = state;
    if (until > w->now)
        w->now = until < w->now + 50000000 ? until : w->now + 50000000;
    return for_input && w->now % 2 ? IKV_ENDED : IKV_OK;
}

static ikv_status poll_port(void *state)
{
    (void)state;
    return IKV_OK;
}

static ikv_status held_on(void *state, uint16_t device, ikv_event *events,
                          uint32_t room, uint32_t *count)
{
    const world *w = state;
    MUST(room >= 2);
    *count = 2;
    events[0] = ikv_event_make(IKV_KIND_KEY_DOWN, w->now);
    events[0].key.code = IKV_CODE(4 + w->calls % 30);
    events[1] = ikv_event_make(IKV_KIND_POINTER_DOWN, w->now);
    events[1].pointer.x = events[1].pointer.y = 20;
    events[0].device = events[1].device = device;
    return IKV_OK;
}

static void recorded(const ikv_event *event, const ikv_intake *intake,
                     void *user)
{
    (void)user;
    fuzz_event(event);
    fuzz_number(intake->how | (uint64_t)intake->has_due << 8 |
                (uint64_t)intake->within << 9 | (uint64_t)intake->lane << 16 |
                (uint64_t)intake->group << 32);
    fuzz_number(intake->due_ns ^ intake->lost_ns << 1);
}

static uint64_t clock_of(void *user)
{
    world *w = user;
    return w->now += 100;
}

static void close_port(void *state)
{
    (void)state;
}

static bool has_point(void *user, ikv_target target, void *target_user, float x,
                      float y, float radius)
{
    (void)user, (void)target, (void)target_user;
    return x * x + y * y <= (20 + radius) * (20 + radius);
}

static void open_world(world *w)
{
    ikv_port port = {.size = sizeof port,
                     .capabilities = IKV_PORT_CLOCK,
                     .name = "fuzz",
                     .state = w,
                     .open = open_port,
                     .poll = poll_port,
                     .wait = wait_port,
                     .now = port_now,
                     .close = close_port};
    ikv_kit_config config = IKV_KIT_INIT;
    uint32_t small = byte(w), other = byte(w);
    uint32_t third = byte(w);
    w->tame = other % 4 != 0;
    w->twice = other / 16 % 4 == 0;
    w->plays = third % 4 == 1;
    if (w->plays)
        port.capabilities |= IKV_PORT_PLAYBACK;
    if (third / 4 % 2)
        port.held = held_on;
    if (third / 8 % 2)
        port.capabilities |= IKV_PORT_WAITS;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.queue.capacity = 64;
    config.bus.targets = config.scene.targets = config.overlaps.targets =
        third / 128 ? 400 : 64;
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
    config.reporter.report = fuzz_report;
    config.bus.statistics = other / 4 % 2;
    config.scene.announces = w->announces = other / 8 % 2;
    config.scene.plain = config.overlaps.plain = w->plain;
    if (w->twice) /* what is refused depends on the order of finding */
        config.overlaps.contacts = config.overlaps.pairs = 8000;
    config.scene.own_test = has_point;
    config.scene.views = config.router.views = 2;
    config.router.keep_focus = other / 64 % 2;
    config.router.pointers = 3;
    config.state.pointers = 4;
    config.state.keys = 6;
    config.state.seats = config.actions.seats = 2;
    config.loop.samples = other / 128 * 16;
    config.loop.frame_hz = third / 16 % 4 == 0 ? 90 : IKV_UNPACED;
    config.loop.idles = third / 64 % 2;
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
    for (int i = 0; i < OWNERS; i++)
        ikv_bus_add_owner(w->bus, &w->owners[i]);
    for (int i = 0; w->tame && i < 8; i++)
        add_target(w);
    for (int i = 0; w->tame && i < 8; i++)
        subscribe(w);
    for (uint32_t i = 0; w->tame && i < ACTIONS / 2; i++)
        ikv_actions_add(w->actions, IKV_MAIN_SET, name(w), &w->actions_of[i]);
    for (int i = 0; w->tame && i < 16; i++)
        use_actions(w);
    for (int i = 0; w->tame && i < 8; i++)
        use_overlaps(w);
    if (small / 8 % 3 == 0)
        ikv_bus_add_watcher(w->bus, fuzz_watch, NULL);
    if (small / 8 % 3 == 1)
        ikv_bus_set_clock(w->bus, clock_of, w);
    ikv_loop_set_recorder(w->loop, recorded, NULL);
}

static uint64_t run(const uint8_t *data, size_t size, bool plain, bool *twice)
{
    static world w;
    fuzz_begin();
    w = (world){.at = data, .end = data + size, .now = 1000, .plain = plain};
    open_world(&w);
    while (w.at < w.end && w.calls < 4000) {
        call(&w);
        MUST(w.running == 0);
        if (!w.crowded || w.calls % 16 == 0)
            fuzz_validate(w.kit);
        for (uint32_t i = 0; w.model && i < TARGETS; i++)
            MUST(w.alive[i] == (w.targets[i].bits != 0 &&
                                ikv_bus_target_alive(w.bus, w.targets[i])));
    }
    fuzz_look(w.kit, w.targets, TARGETS, w.twice);
    MUST(ikv_kit_close(w.kit) == IKV_OK);
    *twice = w.twice;
    return fuzz_sum();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bool twice;
    uint64_t sum = run(data, size, false, &twice);
    if (twice)
        MUST(run(data, size, true, &twice) == sum);
    return 0;
}
