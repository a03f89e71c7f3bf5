/* look.c - one number of all that has been told: what a program of calls was
 * answered, heard and can ask. Two builds of which one does anything else give
 * different numbers; so do machines whose order of bytes is another. Left out is
 * what only says how fast something was. */
#include "fuzz.h"

static uint64_t sum;
bool fuzz_tells, fuzz_quiet;

void fuzz_begin(void)
{
    sum = UINT64_C(0xcbf29ce484222325);
}

uint64_t fuzz_sum(void)
{
    return sum;
}

void fuzz_number(uint64_t value)
{
    if (fuzz_quiet)
        return;
    sum = (sum ^ value) * UINT64_C(0x100000001b3);
    if (fuzz_tells)
        fprintf(stderr, "%llx\n", (unsigned long long)value);
}

/* A float that is no number has other bits on other machines. */
void fuzz_tell(const void *data, size_t size)
{
    const uint8_t *bytes = data;
    for (size_t at = 0; at < size; at += 4) {
        uint32_t word = 0;
        memcpy(&word, bytes + at, size - at < 4 ? size - at : 4);
        if ((word & 0x7fffffff) > 0x7f800000)
            word = 0x7fc00000;
        fuzz_number(word);
    }
}

void fuzz_text(const char *text)
{
    fuzz_number(text != NULL);
    if (text != NULL)
        fuzz_tell(text, strlen(text));
    if (text != NULL && fuzz_tells)
        fprintf(stderr, "\"%s\"\n", text);
}

/* Field by field: what lies between them says nothing. */
void fuzz_event(const ikv_event *event)
{
    char text[1024];
    const uint32_t plain[] = {event->kind,
                              event->device,
                              (uint32_t)event->time_ns,
                              (uint32_t)(event->time_ns >> 32),
                              event->target.bits,
                              event->source.bits,
                              event->modifiers,
                              event->flags,
                              event->view | (uint32_t)event->seat << 8,
                              event->samples};
    fuzz_tell(plain, sizeof plain);
    fuzz_number(ikv_event_format(NULL, event, text, sizeof text));
    fuzz_text(text);
}

void fuzz_obstacle(const ikv_obstacle *o)
{
    fuzz_number(o->code | (uint64_t)o->nth << 16 | (uint64_t)o->by.bits << 32);
    fuzz_number(o->comparison | (uint64_t)o->negated << 16 |
                (uint64_t)o->found.type << 32);
    fuzz_number((uint64_t)o->found.bits.integer);
    fuzz_number((uint64_t)o->wanted.bits.integer);
    fuzz_text(o->name);
}

/* D7: what a probe says of who is about to be asked is what comes of it. */
static void look_at_asked(const ikv_watch *watch)
{
    static struct {
        uint32_t count, subscription;
        uint16_t code;
    } asked[64];
    ikv_obstacle why[4] = {{0}};
    uint32_t at = watch->depth % 64;
    if (watch->what == IKV_WATCH_ASK) {
        asked[at].subscription = watch->subscription.bits;
        asked[at].count =
            ikv_bus_probe(watch->delivery->bus, watch->delivery->subscription,
                          watch->event, watch->delivery, why, 4);
        asked[at].code = why[0].code;
        for (uint32_t i = 0; i < asked[at].count && i < 4; i++)
            fuzz_obstacle(&why[i]);
    } else if ((watch->what & (IKV_WATCH_CALL | IKV_WATCH_SKIP)) != 0) {
        MUST(watch->subscription.bits != asked[at].subscription ||
             watch->reason == asked[at].code);
        asked[at].subscription = 0;
    }
}

void fuzz_watch(const ikv_watch *watch, void *user)
{
    (void)user;
    look_at_asked(watch);
    fuzz_number((uint64_t)watch->what << 32 | watch->depth << 16 |
                watch->reason);
    fuzz_number(watch->verdict | (uint64_t)watch->heard << 16 |
                (uint64_t)watch->lane << 40 |
                (uint64_t)watch->frame_scoped << 60);
    fuzz_number((uint64_t)watch->status | (uint64_t)watch->subscription.bits
                                              << 32);
    if (watch->event != NULL)
        fuzz_event(watch->event);
    fuzz_text(watch->name);
}

void fuzz_report(const ikv_report *report, void *user)
{
    (void)user;
    fuzz_number((uint64_t)report->status);
    fuzz_text(report->text);
}

/* --------------------------------------------------------------- modules -- */

static void look_at_bus(const ikv_kit *kit)
{
    const ikv_bus *bus = ikv_kit_bus(kit);
    ikv_bus_counts counts = IKV_BUS_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_bus_counters(bus, &counts));
    fuzz_tell(&counts, sizeof counts);
    for (uint32_t lane = 0; lane < 6; lane++) {
        ikv_lane_counts of = IKV_LANE_COUNTS_INIT;
        fuzz_number((uint64_t)ikv_bus_lane_counters(bus, (ikv_lane)lane, &of));
        fuzz_number(of.waiting | (uint64_t)of.high_water << 32);
        fuzz_tell(&of.deferred, 4 * sizeof of.deferred);
        fuzz_text(ikv_bus_lane_name(bus, (ikv_lane)lane));
    }
}

static void look_at_target(const ikv_kit *kit, ikv_target target)
{
    const ikv_scene *scene = ikv_kit_scene(kit);
    const ikv_overlaps *overlaps = ikv_kit_overlaps(kit);
    float places[8] = {0};
    ikv_rotation turned = ikv_scene_turned(scene, target);
    ikv_sensing sensing = ikv_overlaps_sensing(overlaps, target);
    ikv_contact contact;
    const uint32_t plain[] = {
        ikv_scene_alive(scene, target),
        ikv_scene_parent(scene, target).bits,
        ikv_scene_layer(scene, target),
        ikv_scene_traits(scene, target),
        ikv_scene_hit(scene, target),
        ikv_scene_shown(scene, target),
        (uint32_t)ikv_scene_z(scene, target),
        ikv_scene_clip(scene, target),
        ikv_scene_tags(scene, target),
        ikv_scene_body(scene, target).bits,
        ikv_scene_tab_next(scene, target, false).bits,
        ikv_scene_tab_next(scene, target, true).bits,
        ikv_bus_target_id(ikv_kit_bus(kit), target),
        ikv_router_takes_text(ikv_kit_router(kit), 0),
        ikv_overlaps_contacts(overlaps, target, 0),
        ikv_scene_position(scene, target, places, places + 2),
        ikv_scene_to_local(scene, target, 0, 20, 10, places + 4, places + 6)};
    fuzz_tell(plain, sizeof plain);
    fuzz_tell(places, sizeof places);
    fuzz_tell(&turned, sizeof turned);
    fuzz_tell(&sensing, sizeof sensing);
    places[0] = ikv_scene_grace(scene, target);
    places[1] = ikv_scene_scale(scene, target);
    places[2] = places[3] = 0;
    fuzz_number(ikv_scene_to_parent(scene, target, 0, 5, 50, places + 2));
    places[4] = places[5] = 0;
    fuzz_number(ikv_scene_to_view(scene, target, 1, 7, 3, places + 4));
    fuzz_tell(places, 6 * sizeof *places);
    for (uint32_t i = 0; i < 3; i++) {
        memset(&contact, 0, sizeof contact);
        fuzz_number(ikv_overlaps_contact(overlaps, target, i, i / 2, &contact));
        fuzz_tell(&contact, sizeof contact);
    }
}

static void look_at_scene(const ikv_kit *kit, bool twice)
{
    const ikv_scene *scene = ikv_kit_scene(kit);
    ikv_target found[8];
    ikv_query query = IKV_QUERY_INIT;
    ikv_scene_counts counts = IKV_SCENE_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_scene_counters(scene, &counts));
    fuzz_number(counts.targets | (uint64_t)counts.polygons << 32);
    if (!twice) {
        fuzz_number(counts.gridded);
        fuzz_tell(&counts.rebuilds, 4 * sizeof counts.rebuilds);
    }
    for (int i = 0; i < 6; i++) {
        query.x = (float)(i * 10 + 3);
        query.y = (float)(i * 7);
        uint32_t count = ikv_scene_pick_all(scene, &query, found, 8);
        fuzz_number(count);
        fuzz_tell(found, (count < 8 ? count : 8) * sizeof *found);
        count = ikv_scene_pick_rect(scene, &query, 9, 5, found, 8);
        fuzz_number(count);
        fuzz_tell(found, (count < 8 ? count : 8) * sizeof *found);
    }
}

static void look_at_state(const ikv_kit *kit)
{
    const ikv_state *state = ikv_kit_state(kit);
    ikv_pointer_state pointer;
    ikv_pad_state pad;
    fuzz_number(ikv_state_refused(state));
    for (uint32_t filter = 0; filter < 2; filter++) {
        for (uint32_t i = 0; i < 5; i++) {
            memset(&pointer, 0, sizeof pointer);
            fuzz_number(ikv_state_pointer(state, filter, i, &pointer));
            fuzz_tell(&pointer, offsetof(ikv_pointer_state, frame_up) + 2);
            fuzz_tell(&pointer.x, 9 * sizeof pointer.x);
            fuzz_number(pointer.held_ns);
            memset(&pad, 0, sizeof pad);
            fuzz_number(ikv_state_pad(state, filter, i, &pad));
            fuzz_tell(&pad, sizeof pad);
        }
        for (uint32_t i = 0; i < 48; i++) {
            ikv_key_state key =
                ikv_state_key(state, filter, i % 2, IKV_CODE(3 + i));
            fuzz_tell(&key, sizeof key);
        }
        fuzz_number(ikv_state_modifiers(state, filter, 0));
        fuzz_number(ikv_state_any_key(state, filter, 1).held_ns);
    }
}

static void look_at_router(const ikv_kit *kit)
{
    const ikv_router *router = ikv_kit_router(kit);
    ikv_router_counts counts = IKV_ROUTER_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_router_counters(router, &counts));
    fuzz_tell(&counts, sizeof counts);
    fuzz_number(ikv_router_next_hold(router));
    for (uint8_t seat = 0; seat < 3; seat++)
        fuzz_number(ikv_router_focused(router, seat).bits);
}

static void look_at_actions(const ikv_kit *kit)
{
    const ikv_actions *actions = ikv_kit_actions(kit);
    ikv_actions_counts counts = IKV_ACTIONS_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_actions_counters(actions, &counts));
    fuzz_tell(&counts, sizeof counts);
    for (uint32_t i = 0; i < 9; i++) {
        ikv_action_id id = ikv_actions_list(actions, i);
        ikv_action_state now = ikv_actions_ask(actions, id, i % 2);
        fuzz_tell(&now, sizeof now);
        fuzz_text(ikv_actions_name(actions, id));
        for (uint32_t nth = 0; nth < 2; nth++) {
            char text[IKV_BINDING_BYTES] = "";
            ikv_binding binding = ikv_actions_binding(actions, id, nth);
            ikv_scope scope = ikv_binding_scope(actions, binding);
            fuzz_number(ikv_binding_text(actions, binding, text, sizeof text));
            fuzz_text(text);
            fuzz_tell(&scope, sizeof scope);
        }
    }
}

static void look_at_loop(const ikv_kit *kit)
{
    const ikv_loop *loop = ikv_kit_loop(kit);
    float blend = ikv_loop_blend(loop), newest[2] = {0};
    ikv_loop_counts counts = IKV_LOOP_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_loop_counters(loop, &counts));
    fuzz_number(counts.waiting | (uint64_t)counts.waiting_high << 32);
    fuzz_tell(&counts.frames,
              sizeof counts - offsetof(ikv_loop_counts, frames));
    ikv_queue_counts of = IKV_QUEUE_COUNTS_INIT;
    fuzz_number((uint64_t)ikv_queue_counters(ikv_kit_queue(kit), &of));
    fuzz_tell(&of, sizeof of);
    fuzz_tell(&blend, sizeof blend);
    fuzz_number(ikv_loop_newest(loop, 0, 1, newest, newest + 1));
    fuzz_tell(newest, sizeof newest);
    fuzz_number(ikv_loop_step_number(loop));
    fuzz_number(ikv_loop_frame_number(loop));
    fuzz_number(ikv_loop_time_ns(loop));
    fuzz_number(ikv_loop_lateness(loop, 50));
    fuzz_number(ikv_loop_scale(loop) | (uint64_t)ikv_loop_paused(loop) << 32);
}

void fuzz_look(const ikv_kit *kit, const ikv_target *targets, uint32_t count,
               bool twice)
{
    ikv_overlaps_counts of = IKV_OVERLAPS_COUNTS_INIT;
    ikv_overlaps_counters(ikv_kit_overlaps(kit), &of);
    if (twice) {
        of.scans = of.rebuilds = of.strays = 0;
        of.pairs = of.pairs_high = of.touching = 0;
    }
    fuzz_tell(&of, sizeof of);
    look_at_bus(kit);
    look_at_scene(kit, twice);
    look_at_state(kit);
    look_at_router(kit);
    look_at_actions(kit);
    look_at_loop(kit);
    for (uint32_t i = 0; i < count; i++)
        look_at_target(kit, targets[i]);
}
