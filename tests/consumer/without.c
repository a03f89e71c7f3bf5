/* without.c - a program of a build that leaves out all that can be: what stays
 * works, what is left out says so. */
#include "board.h"

#include <ikvar/ikvar.h>

#include <stdio.h>
#include <string.h>

static int failed;

static void expect(const char *what, bool holds)
{
    if (!holds) {
        fprintf(stderr, "without: %s\n", what);
        failed = 1;
    }
}

static void expect_no_texts(void)
{
    const ikv_kind_info *info = ikv_catalogue_info(NULL, IKV_KIND_POINTER_DOWN);
    expect("texts: kinds have none",
           info->name[0] == '\0' && info->when[0] == '\0');
    expect("texts: fields keep their names",
           ikv_field_find(info, "button") != NULL);
    expect("texts: no kind has that name",
           ikv_catalogue_find(NULL, "") == IKV_KIND_NONE &&
               ikv_catalogue_find(NULL, "pointer.down") == IKV_KIND_NONE);
    expect("texts: statuses have none", ikv_status_text(IKV_STALE)[0] == '\0');
}

static void expect_no_conditions(ikv_bus *bus)
{
    const ikv_condition left = {
        "button", IKV_EQUAL, {IKV_VALUE_INTEGER, {0}}, false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_message message = {""};
    int calls = 0;
    config.kind = IKV_KIND_FIELD_SET;
    config.handler = count;
    config.user = &calls;
    config.conditions = &left;
    config.condition_count = 1;
    expect("conditions: refused",
           ikv_bus_subscribe(bus, &config, NULL, &message) == IKV_LEFT_OUT &&
               strstr(message.text, "leaves conditions out") != NULL);
    config.conditions = NULL;
    config.condition_count = 0;
    config.limit = 1;
    expect("limits: taken",
           ikv_bus_subscribe(bus, &config, NULL, NULL) == IKV_OK);
    ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ikv_bus_deliver(bus, &event);
    ikv_bus_deliver(bus, &event);
    expect("limits: hold", calls == 1);
}

static void expect_no_timers(ikv_bus *bus)
{
    ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ikv_timer timer = {0};
    expect("timers: refused",
           ikv_bus_defer_after(bus, IKV_STEP_LANE, 1, &event, &timer) ==
                   IKV_LEFT_OUT &&
               ikv_bus_defer_every(bus, IKV_STEP_LANE, 1, true, &event,
                                   &timer) == IKV_LEFT_OUT &&
               ikv_bus_cancel_timer(bus, timer) == IKV_ABSENT);
    expect("lanes: taken", ikv_bus_defer(bus, IKV_STEP_LANE, &event) == IKV_OK);
}

static void push(ikv_kind kind, uint32_t id, float x, float y)
{
    ikv_event event = ikv_event_make(kind, now_ns);
    event.pointer.pointer = (uint16_t)id;
    event.pointer.type = IKV_TOUCH;
    event.pointer.x = x;
    event.pointer.y = y;
    event.pointer.button = 0;
    expect("pushed", ikv_sink_push(sink, &event) == IKV_OK);
}

static void run_frame(ikv_loop *loop)
{
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
    now_ns += 20000000;
}

/* Many rows of lamps: found without an index; two fingers are two clicks. */
static void expect_picks(ikv_kit *kit)
{
    ikv_scene *scene = ikv_kit_scene(kit);
    ikv_target_config lamp = IKV_TARGET_INIT;
    ikv_target lamps[400], root = ikv_bus_root(ikv_kit_bus(kit));
    int clicks = 0, pinches = 0;
    lamp.shape = ikv_scene_rect(0, 0, 9, 9);
    for (int i = 0; i < 400; i++) {
        lamp.x = (float)(i % 20 * 10);
        lamp.y = (float)(i / 20 * 10);
        expect("a lamp is there",
               ikv_scene_add(scene, &lamp, &lamps[i], NULL) == IKV_OK);
    }
    for (int i = 0; i < 400; i++) {
        ikv_query query = IKV_QUERY_INIT;
        query.x = (float)(i % 20 * 10) + 4;
        query.y = (float)(i / 20 * 10) + 4;
        expect("index: picked all the same",
               ikv_scene_pick(scene, &query, 0).bits == lamps[i].bits);
    }
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, root, count, &clicks,
                 NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_GESTURE_PINCH_START, root, count,
                 &pinches, NULL);
    ikv_loop *loop = ikv_kit_loop(kit);
    run_frame(loop);
    push(IKV_KIND_POINTER_DOWN, 1, 4, 4);
    push(IKV_KIND_POINTER_DOWN, 2, 104, 104);
    run_frame(loop);
    push(IKV_KIND_POINTER_MOVE, 1, 44, 4);
    push(IKV_KIND_POINTER_UP, 2, 104, 104);
    run_frame(loop);
    push(IKV_KIND_POINTER_UP, 1, 44, 4);
    run_frame(loop);
    expect("gestures: none", pinches == 0);
    expect("clicks: of the finger that rested", clicks == 1);
    expect("all is sound", ikv_scene_validate(scene) == NULL &&
                               ikv_bus_validate(ikv_kit_bus(kit)) == NULL);
}

int main(void)
{
    ikv_port port = board_port();
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = IKV_UNPACED;
    config.memory = memory_of(0, sizeof blocks);
    if (ikv_kit_open(&config, &kit) < 0)
        return 2;
    expect_no_texts();
    expect_no_conditions(ikv_kit_bus(kit));
    expect_no_timers(ikv_kit_bus(kit));
    expect_picks(kit);
    ikv_kit_close(kit);
    return failed;
}
