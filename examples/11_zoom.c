/* 11: a camera that zooms, and a panel over it that doesn't.
 *
 * The sea is layer 0, the panel layer 1. The wheel zooms the sea around the
 * pointer: the same tap then hits the buoy, which it missed before. The button
 * on the panel stays where it is.
 */
#include "example.h"

enum {
    SEA = 0,
    PANEL = 1
};

static ikv_verdict zoom(const ikv_event *event, const ikv_delivery *delivery,
                        void *scene)
{
    ikv_camera camera = ikv_scene_camera(scene, SEA, event->view);
    float at[2];
    (void)delivery;
    /* What is under the pointer now stays there. */
    ikv_scene_to_layer(scene, SEA, event->view, event->wheel.x, event->wheel.y,
                       at);
    camera.x = at[0];
    camera.y = at[1];
    camera.view_x = event->wheel.x;
    camera.view_y = event->wheel.y;
    camera.zoom = (camera.zoom > 0 ? camera.zoom : 1) *
                  (event->wheel.dy < 0 ? 2.0f : 0.5f);
    ikv_scene_set_camera(scene, SEA, event->view, &camera);
    printf("zoom %g around %g, %g\n", (double)camera.zoom, (double)at[0],
           (double)at[1]);
    return IKV_STOP;
}

static ikv_verdict clicked(const ikv_event *event, const ikv_delivery *delivery,
                           void *name)
{
    printf("click at %g, %g: %s, at %g, %g of its layer\n",
           (double)event->pointer.x, (double)event->pointer.y,
           (const char *)name, (double)delivery->layer_x,
           (double)delivery->layer_y);
    return IKV_STOP;
}

static void add(ikv_kit *kit, uint32_t layer, float x, float y, ikv_shape shape,
                char *name)
{
    ikv_target target;
    ikv_target_config config = IKV_TARGET_INIT;
    config.layer = layer;
    config.x = x;
    config.y = y;
    config.shape = shape;
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, target, clicked,
                 name, NULL);
}

int main(void)
{
    static char sea[] = "open water", buoy[] = "a buoy", button[] = "a button";
    ikv_kit_config config = IKV_KIT_INIT;
    config.scene.layers = 2;
    example e = example_open("zoom.tape.jsonl", &config);
    ikv_kit *kit = e.kit;
    add(kit, SEA, 0, 0, ikv_scene_rect(0, 0, 640, 360), sea);
    add(kit, SEA, 304, 150, ikv_scene_circle(0, 0, 5), buoy);
    add(kit, PANEL, 600, 0, ikv_scene_rect(0, 0, 40, 40), button);
    ikv_target everywhere = {0};
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_WHEEL, everywhere, zoom,
                 ikv_kit_scene(kit), NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
