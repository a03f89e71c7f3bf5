/* 32: what lies within a radius, and along a line.
 *
 * A rocket goes off where the player presses: all boats within its light are
 * asked of the scene, whatever lies above them, and so is what stands between
 * the lighthouse and it. Neither needs pointers, views or cameras.
 */
#include "example.h"

enum {
    BOAT = 1,
    PIER = 2
};

static ikv_scene *scene;

static void say(const char *what, uint32_t count, const ikv_target *found)
{
    printf("  %s: %u", what, (unsigned)count);
    for (uint32_t i = 0; i < count; i++)
        printf("%s %s", i > 0 ? "," : ":",
               (const char *)ikv_scene_user(scene, found[i]));
    printf("\n");
}

static ikv_verdict go_off(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    ikv_target found[8];
    ikv_area light = IKV_AREA_INIT;
    ikv_line beam = IKV_LINE_INIT;
    (void)user;
    printf("%4u ms  a rocket, at %g, %g\n", example_ms(event),
           (double)delivery->layer_x, (double)delivery->layer_y);
    light.shape = ikv_scene_circle(0, 0, 60);
    light.x = delivery->layer_x;
    light.y = delivery->layer_y;
    light.tags = BOAT;
    say("lit", ikv_scene_find(scene, &light, found, 8), found);

    ikv_crossing crossings[8];
    beam.x2 = delivery->layer_x; /* from the lighthouse, at 0, 0 */
    beam.y2 = delivery->layer_y;
    beam.tags = BOAT | PIER;
    uint32_t count = ikv_scene_along(scene, &beam, crossings, 8);
    for (uint32_t i = 0; i < count; i++)
        found[i] = crossings[i].target;
    say("between it and the lighthouse", count, found);
    return IKV_CONTINUE;
}

static void add(const char *name, float x, float y, ikv_shape shape,
                uint32_t tags)
{
    ikv_target_config config = IKV_TARGET_INIT;
    config.x = x;
    config.y = y;
    config.shape = shape;
    config.tags = tags;
    config.user = (void *)name;
    ikv_target target;
    example_check(name, ikv_scene_add(scene, &config, &target, NULL));
}

int main(void)
{
    example e = example_open("rockets.tape.jsonl", NULL);
    scene = ikv_kit_scene(e.kit);
    ikv_shape hull = ikv_scene_rect(-20, -8, 40, 16);
    ikv_shape stone = ikv_scene_rect(-5, -40, 10, 80);
    add("the tug", 100, 50, hull, BOAT);
    add("the ferry", 160, 90, hull, BOAT);
    add("the dinghy", 300, 60, hull, BOAT);
    add("the pier", 230, 60, stone, PIER);
    add("the fog", 0, 0, ikv_scene_rect(0, 0, 400, 200), 0);
    ikv_bus *bus = ikv_kit_bus(e.kit);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, ikv_bus_root(bus), go_off, NULL,
                 NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
