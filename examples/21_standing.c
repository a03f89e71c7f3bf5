/* 21: standing on ground.
 *
 * "Is anything touching me now?" is a question, not an event. A sailor walks
 * from the quay over a plank onto the ferry: for some steps the feet touch two
 * floors, and leaving one of them while still on the other changes nothing. Who
 * keeps a flag that enter sets and leave clears gets this wrong.
 */
#include "example.h"

enum {
    GROUND = 1,
    ROPE = 2
};

static ikv_verdict set_flag(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    (void)delivery;
    *(bool *)user = event->kind == IKV_KIND_OVERLAP_ENTER;
    return IKV_CONTINUE;
}

static ikv_target add(ikv_kit *kit, uint32_t id, float x, float width,
                      uint32_t tags)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0};
    config.id = id;
    config.x = x;
    config.shape = ikv_scene_rect(0, 0, width, 10);
    config.tags = tags;
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    return target;
}

int main(void)
{
    static const char *const names[] = {"", "quay", "plank", "ferry", "rope"};
    bool flag = false;
    example e = example_open("quiet.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    add(kit, 1, 0, 100, GROUND);
    add(kit, 2, 90, 60, GROUND);
    add(kit, 3, 170, 200, GROUND); /* with a gap before it */
    add(kit, 4, 60, 30, ROPE);
    ikv_target feet = add(kit, 5, 0, 8, 0);
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_overlaps *overlaps = ikv_kit_overlaps(kit);
    sensing.senses = GROUND | ROPE;
    ikv_overlaps_sense(overlaps, feet, &sensing);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_OVERLAP_ENTER, feet, set_flag,
                 &flag, NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_OVERLAP_LEAVE, feet, set_flag,
                 &flag, NULL);

    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
            float x = (float)ikv_loop_step_number(loop) * 12;
            if (x < 1)
                continue;
            /* As of the last step; then the next move. */
            ikv_contact on[4];
            uint32_t count = ikv_overlaps_list(overlaps, feet, GROUND, on, 4);
            printf("x %3d  %s", (int)x - 12, count > 0 ? "stands on" : "falls");
            for (uint32_t n = 0; n < count && n < 4; n++)
                printf(" %s", names[on[n].other_id]);
            printf("%s\n", flag ? "" : "   (a flag would say: falls)");
            ikv_scene_move(ikv_kit_scene(kit), feet, x, 5);
        }
        ikv_loop_end(loop);
    }
    example_close(&e);
    return 0;
}
