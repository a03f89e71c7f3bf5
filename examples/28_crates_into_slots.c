/* 28: crates into slots.
 *
 * A press takes a crate along, and drags it: what lies beneath is told of it,
 * and says whether it may be dropped there. The cold store takes fish alone, the
 * shed takes anything; over the water nobody does, and the crate goes back.
 */
#include "example.h"

enum {
    FISH = 1,
    ROPE = 2
};

typedef struct thing {
    const char *name;
    uint32_t takes, holds; /* a slot's tags, a crate's tag */
    float x, y;
    ikv_target target;
} thing;

static thing store = {"the cold store", FISH, 0, 200, 20, {0}};
static thing shed = {"the shed", FISH | ROPE, 0, 300, 20, {0}};
static thing herring = {"herring", 0, FISH, 20, 20, {0}};
static thing rope = {"rope", 0, ROPE, 20, 80, {0}};
static ikv_scene *scene;

static thing *thing_of(ikv_target target)
{
    return ikv_scene_user(scene, target);
}

static ikv_verdict taken(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    const thing *crate = user;
    ikv_router_attach(delivery->router, event, crate->target);
    ikv_router_drag(delivery->router, event, crate->target);
    return IKV_STOP;
}

/* The verdict is the answer: whether it may be dropped here. */
static ikv_verdict over(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery;
    const thing *slot = user, *crate = thing_of(event->source);
    bool fits = (slot->takes & crate->holds) != 0;
    printf("%4u ms  %s over %s: %s\n", example_ms(event), crate->name,
           slot->name, fits ? "it fits" : "it is not taken");
    return fits ? IKV_ACCEPT : IKV_CONTINUE;
}

static ikv_verdict dropped(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    (void)delivery;
    const thing *slot = user, *crate = thing_of(event->source);
    printf("%4u ms  %s is put into %s\n", example_ms(event), crate->name,
           slot->name);
    ikv_scene_move(scene, crate->target, slot->x + 10, slot->y + 10);
    return IKV_CONTINUE;
}

/* Told to the crate, however it ended. */
static ikv_verdict ended(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    const thing *crate = user;
    (void)delivery;
    if (event->drag.accepted)
        return IKV_CONTINUE;
    ikv_scene_move(scene, crate->target, crate->x, crate->y);
    printf("%4u ms  %s goes back\n", example_ms(event), crate->name);
    return IKV_CONTINUE;
}

int main(void)
{
    example e = example_open("crates.tape.jsonl", NULL);
    ikv_bus *bus = ikv_kit_bus(e.kit);
    ikv_target none = {0};
    thing *slots[] = {&store, &shed}, *crates[] = {&herring, &rope};
    scene = ikv_kit_scene(e.kit);
    for (int i = 0; i < 2; i++) {
        ikv_target at = slots[i]->target =
            example_rect(&e, none, slots[i]->x, slots[i]->y, 60, 60, slots[i]);
        ikv_bus_hear(bus, IKV_KIND_DRAG_ENTER, at, over, slots[i], NULL);
        ikv_bus_hear(bus, IKV_KIND_DRAG_DROP, at, dropped, slots[i], NULL);
    }
    for (int i = 0; i < 2; i++) {
        ikv_target at = crates[i]->target = example_rect(
            &e, none, crates[i]->x, crates[i]->y, 40, 40, crates[i]);
        ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, at, taken, crates[i], NULL);
        ikv_bus_hear(bus, IKV_KIND_DRAG_END, at, ended, crates[i], NULL);
    }
    example_play(&e);
    example_close(&e);
    return 0;
}
