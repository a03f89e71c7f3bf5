/* calls.c - the calls of all modules that a program is made of, with a handler
 * that makes some of them itself. */
#include "world.h"

static uint8_t image[IMAGE_ROOM];

/* ----------------------------------------------------------- the handler -- */

static void look_at_delivery(const ikv_event *event,
                             const ikv_delivery *delivery)
{
    const uint32_t plain[] = {delivery->phase,         delivery->flags,
                              delivery->path_length,   delivery->sample_count,
                              delivery->data_size,     delivery->current.bits,
                              (uint32_t)delivery->step};
    fuzz_tell(delivery->data, delivery->data_size);
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
    if (w->taped)
        note_step(w);
    look_at_delivery(event, delivery);
    w->running++;
    if (w->depth < DEPTH && w->at < w->end) {
        w->depth++;
        w->event = event;
        for (uint32_t i = a_byte(w) % 3; i > 0; i--)
            call(w);
        w->event = before;
        w->depth--;
    }
    w->running--;
    return a_byte(w) & 7;
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

void add_target(world *w)
{
    uint32_t at = a_place(w), parent = a_place(w);
    ikv_target_config config = IKV_TARGET_INIT;
    bool has_parent = a_byte(w) % 2 && w->targets[parent].bits != 0;
    config.id = at + 1;
    if (has_parent)
        config.parent = w->targets[parent];
    else
        config.layer = a_byte(w) % (w->tame ? 2u : 5u);
    config.x = a_number(w);
    config.y = a_number(w);
    config.scale = a_byte(w) % 3 != 0 ? 1 : a_size(w);
    if (a_byte(w) % 3 == 0)
        config.rotation = ikv_scene_rotation(a_number(w));
    config.z = (int32_t)a_byte(w) - 100;
    config.shape = a_shape(w);
    config.hit = a_byte(w) % (w->tame ? 3u : 4u);
    config.grace = w->tame ? (float)(a_byte(w) % 4) : a_number(w);
    config.tab = (int32_t)a_byte(w) % 4 - 1;
    config.traits = a_byte(w) % (w->tame ? 4u : 64u);
    config.tags = a_byte(w);
    config.body = a_byte(w) % 4 == 0;
    config.hidden = a_byte(w) % 8 == 0;
    config.clip = a_byte(w) % 8 == 0;
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
    uint32_t at = a_place(w);
    ikv_target old = w->targets[at];
    MUST(ikv_bus_remove_target(w->bus, old) != IKV_OK);
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
    uint32_t at = a_place(w), parent = a_place(w);
    ikv_status status =
        ikv_scene_set_parent(w->scene, w->targets[at], w->targets[parent]);
    fuzz_number((uint64_t)status);
    if (status == IKV_OK)
        w->parent[at] = w->targets[parent].bits != 0 ? parent : at;
}

static ikv_status change(world *w, ikv_target t)
{
    uint32_t what = a_byte(w) % 15, value = a_byte(w);
    float x = a_number(w), y = a_number(w);
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
        to = a_shape(w);
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
        return ikv_scene_set_z(w->scene, t, (int32_t)a_count(w));
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
    ikv_target t = a_target(w);
    fuzz_number((uint64_t)change(w, t));
}

static void move_camera(world *w)
{
    uint32_t layer = a_byte(w) % 5, view = a_byte(w) % 5, what = a_byte(w) % 3;
    ikv_camera camera = ikv_scene_camera(w->scene, layer, view);
    float x = a_number(w), y = a_number(w), zoom = a_size(w);
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
    ikv_target found[8];
    ikv_obstacle why[4] = {{0}};
    float out[4] = {0};
    query.view = a_byte(w) % 5;
    query.x = a_number(w);
    query.y = a_number(w);
    ikv_target first = ikv_scene_pick(w->scene, &query, 0), t = a_target(w);
    uint32_t all = ikv_scene_pick_all(w->scene, &query, found, 8);
    MUST((first.bits == 0) == (all == 0));
    MUST(all == 0 || found[0].bits == first.bits);
    fuzz_number(first.bits | (uint64_t)all << 32);
    float width = a_number(w), height = a_number(w);
    fuzz_number(ikv_scene_pick_rect(w->scene, &query, width, height, found, 8));
    ikv_area area = IKV_AREA_INIT;
    area.layer = query.view;
    area.x = query.x;
    area.y = query.y;
    area.shape = ikv_scene_rect(0, 0, width, height);
    area.rotation = ikv_scene_direction(width, query.y);
    fuzz_number(ikv_scene_find(w->scene, &area, found, 8));
    ikv_line line = IKV_LINE_INIT;
    ikv_crossing crossings[4];
    memset(crossings, 0, sizeof crossings);
    line.x = query.x;
    line.y = query.y;
    line.x2 = width;
    line.y2 = height;
    line.radius = query.radius;
    fuzz_number(ikv_scene_along(w->scene, &line, crossings, 4));
    fuzz_tell(crossings, sizeof crossings);
    fuzz_number(ikv_scene_beneath(w->scene, &query, t).bits);
    uint32_t obstacles = ikv_scene_probe(w->scene, &query, t, why, 4);
    MUST((obstacles == 0) == (first.bits == t.bits && t.bits != 0));
    fuzz_number(obstacles);
    for (uint32_t i = 0; i < obstacles && i < 4; i++)
        fuzz_obstacle(&why[i]);
    fuzz_number(ikv_scene_tab_next(w->scene, t, a_byte(w) % 2).bits);
    fuzz_number(ikv_scene_to_layer(w->scene, a_byte(w) % 5, query.view, query.x,
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
    ikv_condition c = {fields[a_byte(w) % 20], a_byte(w) % 8, {0, {0}}, false};
    c.negate = a_byte(w) % 4 == 0;
    c.value.type = a_byte(w) % 6;
    switch (c.value.type) {
    case IKV_VALUE_NUMBER:
        c.value.bits.number = (double)a_number(w);
        break;
    case IKV_VALUE_TARGET:
        c.value.bits.target = a_target(w);
        break;
    case IKV_VALUE_BOOL:
        c.value.bits.boolean = a_byte(w) % 2;
        break;
    default:
        c.value.bits.integer = (int64_t)a_count(w) - (w->tame ? 0 : 8);
        if (w->tame) /* most fields are small whole numbers */
            c.value = (ikv_value){IKV_VALUE_INTEGER, {a_byte(w) % 8}};
        break;
    }
    return c;
}

/* Of which there are others when it is played. */
static void leave_frames_out(ikv_subscription_config *config)
{
    if (config->all_kinds)
        config->families = UINT32_MAX;
    config->all_kinds = false;
    config->families &= ~(1u << IKV_FAMILY_LOOP);
    if (config->kind == IKV_KIND_LOOP_FRAME)
        config->kind = IKV_KIND_LOOP_STEP;
}

void subscribe(world *w)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_condition conditions[2];
    ikv_target at[3];
    for (int i = 0; i < 3; i++)
        at[i] = a_target(w);
    uint32_t place_of = a_byte(w) % SUBSCRIPTIONS;
    memset(conditions, 0, sizeof conditions);
    switch (a_byte(w) % 3) {
    case 0:
        config.kind = a_kind(w);
        break;
    case 1:
        config.families = a_word(w);
        break;
    default:
        config.all_kinds = true;
        break;
    }
    if (w->taped)
        leave_frames_out(&config);
    uint32_t aims = a_byte(w);
    config.phases = w->tame ? aims / 8 % 8 : a_byte(w) % 9;
    config.rank = (int32_t)a_byte(w) - 8;
    if (a_byte(w) % 8 == 0)
        config.mailbox = w->mailbox;
    else
        config.handler = hear;
    config.user = w;
    config.on_drop = a_byte(w) % 2 ? dropped : NULL;
    config.name = a_name(w);
    config.owner = w->owners[a_byte(w) % OWNERS];
    if (aims % 4 == 0)
        config.at_tags = a_byte(w);
    else if (aims % 8 == 1)
        config.at_body = a_target(w);
    else if (aims % 2)
        config.at_list = at;
    config.at_count = config.at_list != NULL ? 1 + a_byte(w) % 3 : 0;
    uint32_t limits = a_byte(w);
    config.limit = limits % 8 == 0 ? 1 + a_byte(w) % 8 : 0;
    config.after = limits / 8 % 4 == 0 ? a_byte(w) % 3 : 0;
    config.at_most = (uint8_t)(limits >= 220 ? limits % (w->taped ? 2 : 4) : 0);
    config.gap_ns = limits / 32 == 4 ? a_time(w) : 0;
    config.join = a_byte(w) % 2;
    uint32_t count = a_byte(w) % 6, grouped = a_byte(w);
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
    uint32_t what = a_byte(w) % 6, value = a_byte(w);
    ikv_status status;
    switch (what) {
    case 0:
        status = ikv_bus_unsubscribe(w->bus, *s);
        MUST(status != IKV_OK || !ikv_bus_subscribed(w->bus, *s));
        return status;
    case 1:
        return ikv_bus_mute(w->bus, *s, value % 2);
    case 2:
        return ikv_bus_unsubscribe_kind(w->bus, a_kind(w));
    case 3:
        return ikv_bus_rebind(w->bus, a_name(w), value % 2 ? hear_too : hear,
                              w);
    case 4:
        return ikv_bus_add_owner(w->bus, &w->owners[value % OWNERS]);
    default:
        return ikv_bus_drop_owner(w->bus, w->owners[value % OWNERS]);
    }
}

static void change_subscription(world *w)
{
    ikv_subscription *s = &w->subscriptions[a_byte(w) % SUBSCRIPTIONS];
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
    ikv_event e = an_event(w);
    ikv_route route = IKV_ROUTE_INIT;
    ikv_target path[3];
    if (a_byte(w) % 2) {
        tell_outcome(ikv_bus_deliver(w->bus, &e));
        return;
    }
    route.flags = a_byte(w) % 8;
    route.own_visit = a_byte(w) % 2;
    route.path_length = a_byte(w) % 4;
    route.path = route.path_length > 0 ? path : NULL;
    for (int i = 0; i < 3; i++)
        path[i] = a_target(w);
    tell_outcome(ikv_bus_deliver_along(w->bus, &e, &route));
}

static ikv_status defer_one(world *w, ikv_lane lane, const ikv_event *e)
{
    uint8_t data[80] = {1};
    ikv_timer *timer = &w->timers[a_byte(w) % TIMERS];
    uint32_t what = a_byte(w) % 9, value = a_byte(w), delivered = 0;
    ikv_event got = ikv_event_make(IKV_KIND_NONE, 0);
    ikv_status status;
    switch (what) {
    case 0:
        return ikv_bus_defer(w->bus, lane, e);
    case 1:
        return ikv_bus_defer_data(w->bus, lane, e, data, value % 80);
    case 2:
        /* Of a taped game other code does so: it is on the tape. */
        return w->taped ? IKV_OK : ikv_bus_defer_any(w->bus, lane, e);
    case 3:
        return ikv_bus_defer_after(w->bus, lane, a_time(w), e, timer);
    case 4:
        return ikv_bus_defer_every(w->bus, lane, a_time(w), value % 2, e,
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
    ikv_event e = an_event(w);
    ikv_lane lane = a_byte(w) % 4;
    if (w->taped && lane == IKV_FRAME_LANE)
        lane = IKV_STEP_LANE;
    if (a_byte(w) % 3 == 0)
        lane = w->lane;
    fuzz_number((uint64_t)defer_one(w, lane, &e));
}

static ikv_status ask_router(world *w, const ikv_event *made)
{
    const ikv_event *e = w->event != NULL && a_byte(w) % 2 ? w->event : made;
    uint32_t what = a_byte(w) % 11;
    uint8_t seat = a_byte(w) % 5;
    ikv_target t = a_target(w);
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
    case 6:
        return ikv_router_set_modal(w->router, seat, t);
    case 7:
        return ikv_router_cancel_all(w->router, seat);
    case 9:
        return ikv_router_drag(w->router, e, t);
    case 8:
        fuzz_number(ikv_router_over(w->router, e->device, 1).bits);
        fuzz_number(ikv_router_modal(w->router, seat).bits);
        return ikv_router_focus_toward(w->router, seat, a_byte(w) % 5);
    case 5:
        tell_outcome(ikv_router_route(w->router, made));
        return IKV_OK;
    default:
        ikv_router_retest(w->router, w->taped ? w->step * 1000000 : w->now);
        return IKV_OK;
    }
}

static void use_router(world *w)
{
    ikv_event made = an_event(w);
    fuzz_number((uint64_t)ask_router(w, &made));
}

static ikv_status change_overlaps(world *w, ikv_target a, ikv_target b)
{
    ikv_sensing sensing = {.size = sizeof sensing};
    uint32_t what = a_byte(w) % 5, value = a_byte(w);
    const float x = a_number(w), point[3] = {x, x / 2, 0};
    switch (what) {
    case 0:
    case 1:
        sensing.senses = value;
        sensing.linger = a_byte(w) % 4;
        sensing.scope = a_byte(w) % 3;
        sensing.inside = a_byte(w) % 3;
        sensing.swept = a_byte(w) % 2;
        sensing.disabled = a_byte(w) % 4 == 0;
        return ikv_overlaps_sense(w->overlaps, a, &sensing);
    case 2:
        return ikv_overlaps_enable(w->overlaps, a, value % 2);
    case 3:
        return ikv_overlaps_place(w->overlaps, a);
    default:
        return ikv_overlaps_report(w->overlaps, a, b, value % 2 ? point : NULL);
    }
}

void use_overlaps(world *w)
{
    ikv_contact contact = {{0}, {0}, 0, 0, 0, 0, 0, 0, 0, 0};
    ikv_target a = a_target(w), b = a_target(w);
    uint32_t tags = a_byte(w), nth = a_byte(w) % 3;
    fuzz_number((uint64_t)change_overlaps(w, a, b));
    fuzz_number(ikv_overlaps_contact(w->overlaps, a, tags, nth, &contact));
    fuzz_tell(&contact, sizeof contact);
    bool listed = false; /* what it touches is among its contacts */
    ikv_contact list[2];
    uint32_t i = 0;
    uint32_t count = ikv_overlaps_list(w->overlaps, a, 0, list, 2);
    for (; ikv_overlaps_contact(w->overlaps, a, 0, i, &contact); i++) {
        listed = listed || contact.other.bits == b.bits;
        MUST(i >= 2 || memcmp(&contact, &list[i], sizeof contact) == 0);
    }
    MUST(count == i);
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
    uint32_t what = a_byte(w) % 14, value = a_byte(w);
    uint8_t seat = a_byte(w);
    const char *text = texts[a_byte(w) % 27];
    ikv_scope scope = {.where = value % 7, .layer = seat % 5};
    scope.target = a_target(w);
    ikv_action_set set = (ikv_action_set)(seat % 4);
    ikv_binding clash[4];
    char learned[IKV_BINDING_BYTES] = "";
    switch (what) {
    case 0:
        return ikv_actions_add(w->actions, set, a_name(w), id);
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
        return ikv_actions_add_set(w->actions, a_name(w), &set);
    case 9:
        return ikv_actions_push(w->actions, set, seat % 4, value % 2);
    case 10:
        return ikv_actions_pop(w->actions, value % 4 ? seat % 4 : 255);
    case 11:
        return ikv_actions_start_held(w->actions, set, seat % 4);
    case 12:
        return ikv_actions_feed(w->actions, *id, seat % 9,
                                value % 2 ? a_number(w) : 0, (float)(seat % 2));
    default:
        if (ikv_actions_learned(w->actions, seat % 5, learned,
                                sizeof learned) == IKV_OK)
            MUST(ikv_binding_check(learned, NULL) == IKV_OK);
        fuzz_text(learned);
        ikv_actions_stop_learning(w->actions, seat % 5);
        return IKV_OK;
    }
}

void use_actions(world *w)
{
    ikv_action_id *id = &w->actions_of[a_byte(w) % ACTIONS];
    fuzz_number((uint64_t)change_actions(w, id));
    if (w->event != NULL)
        fuzz_number(ikv_actions_binding_of(w->actions, w->event).bits);
}

static ikv_status change_clock(world *w)
{
    switch (a_byte(w) % 6) {
    case 0:
        return ikv_loop_pause(w->loop);
    case 1:
        return ikv_loop_resume(w->loop);
    case 2:
        return ikv_loop_single_step(w->loop);
    case 3:
        if (w->taped)
            return ikv_loop_set_scale(w->loop, 200 + a_byte(w) * 10u);
        return ikv_loop_set_scale(w->loop, a_count(w) * (w->tame ? 10 : 1));
    case 4: {
        const uint8_t seat = a_byte(w) % 9;
        return ikv_loop_set_seat(w->loop, a_byte(w) % 4, seat);
    }
    default:
        if (w->taped && w->step > 20 && w->step < STEPS)
            ikv_loop_quit(w->loop);
        if (w->taped)
            return ikv_loop_resume(w->loop);
        w->now += a_byte(w) % 4 == 0 ? a_time(w) % 3000000000u : 16666667;
        return IKV_OK;
    }
}

static void turn_clock(world *w)
{
    fuzz_number((uint64_t)change_clock(w));
}

/* In a handler they are refused, and say so. */
void run_frame(world *w)
{
    if (w->taped)
        return;
    bool inside = w->running > 0;
    w->now += 1000000ull * (1 + a_byte(w) % 40);
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
    if (a_byte(w) % 2 || w->saved == 0) {
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

/* What a recorded game makes. */
static void (*const of_games[])(world *w) = {
    add_target,          add_target,  remove_target, set_parent, change_target,
    move_camera,         ask_scene,   subscribe,     subscribe,  subscribe,
    change_subscription, deliver,     defer,         defer,      use_router,
    use_overlaps,        use_actions, use_actions,   add_crowd,  turn_clock};

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

void call(world *w)
{
    uint32_t what = a_byte(w);
    w->calls++;
    if (w->taped)
        of_games[what % (sizeof of_games / sizeof of_games[0])](w);
    else
        calls[what % (sizeof calls / sizeof calls[0])](w);
}
