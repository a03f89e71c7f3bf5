/* 20: zones, bodies and linger.
 *
 * A ferry's hull and mast are pieces of one body: the berth that asks for
 * bodies hears of one arrival, though two pieces come in. The shallow counts a
 * ferry as gone only when it was out for three steps: a swell that lifts it for
 * a moment is no departure. While it is inside it is told so at each step, for
 * that is what it asked for.
 */
#include "example.h"

enum {
    FERRY = 1
};

static ikv_verdict tell(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    static const char *const what[] = {"enters", "is inside", "leaves"};
    (void)delivery;
    printf("step %2u  the ferry %s the %s", (unsigned)delivery->step,
           what[event->kind - IKV_KIND_OVERLAP_ENTER], (const char *)user);
    if (event->kind == IKV_KIND_OVERLAP_ENTER)
        printf(" (pieces: %u)", event->overlap.count);
    if (event->kind == IKV_KIND_OVERLAP_LEAVE)
        printf(" after %u steps", event->overlap.steps);
    printf("\n");
    return IKV_CONTINUE;
}

static ikv_target add(ikv_kit *kit, ikv_target parent, float x, ikv_shape shape,
                      uint32_t tags, bool body)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0};
    config.parent = parent;
    config.x = x;
    config.shape = shape;
    config.tags = tags;
    config.body = body;
    config.hit = IKV_HIT_OFF; /* pointers go through it; overlaps do not care */
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    return target;
}

int main(void)
{
    ikv_target none = {0};
    example e = example_open("quiet.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    ikv_shape nothing = {.type = IKV_SHAPE_NONE};
    ikv_target ferry = add(kit, none, 0, nothing, 0, true);
    add(kit, ferry, 0, ikv_scene_rect(-30, -8, 60, 16), FERRY, false);
    add(kit, ferry, 0, ikv_scene_rect(-2, -40, 4, 32), FERRY, false);
    ikv_target shallow =
        add(kit, none, 120, ikv_scene_circle(0, 0, 30), 0, false);
    ikv_target berth =
        add(kit, none, 300, ikv_scene_rect(0, -50, 80, 100), 0, false);

    ikv_sensing bodies = IKV_SENSING_INIT;
    bodies.senses = FERRY;
    bodies.scope = IKV_OVERLAP_OF_BODIES;
    ikv_overlaps_sense(ikv_kit_overlaps(kit), berth, &bodies);
    bodies.linger = 3;
    ikv_overlaps_sense(ikv_kit_overlaps(kit), shallow, &bodies);
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_bus_hear(bus, IKV_KIND_OVERLAP_ENTER, berth, tell, "berth", NULL);
    for (int kind = IKV_KIND_OVERLAP_ENTER; kind <= IKV_KIND_OVERLAP_LEAVE;
         kind++)
        ikv_bus_hear(bus, (ikv_kind)kind, shallow, tell, "shallow", NULL);

    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
            float n = (float)ikv_loop_step_number(loop);
            bool swell = ikv_loop_step_number(loop) == 8; /* lifts it once */
            ikv_scene_move(ikv_kit_scene(kit), ferry, n * 14, swell ? -200 : 0);
        }
        ikv_loop_end(loop);
    }
    example_close(&e);
    return 0;
}
