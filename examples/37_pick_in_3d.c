/* 37: crates on a quay, in 3D.
 *
 * ray.h is a picking to take along: a ray from a perspective camera at boxes.
 * Hover, capture and clicks work as they do with a scene, and a crate
 * that is attached to the pointer slides along the ground.
 */
#include "example.h"
#include "ray.h"

static ray_body bodies[] = {
    {.middle = {0, 0.5f, 0}, .half = {0.5f, 0.5f, 0.5f}},
    {.middle = {2, 0.5f, 1}, .half = {0.5f, 0.5f, 0.5f}},
    {.middle = {0, 1.5f, -3}, .half = {0.8f, 1.5f, 0.8f}}};
static const char *const names[] = {"the near crate", "the right crate",
                                    "the buoy"};
static ray_world world = {.bodies = bodies,
                          .count = 3,
                          .eye = {0, 4, 8},
                          .ahead = {0, -4, -8},
                          .right = {8, 0, 0},
                          .above = {0, 4, -2},
                          .width = 640,
                          .height = 360};

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    const ray_body *b = user;
    if (event->kind == IKV_KIND_POINTER_DOWN && b != &bodies[2])
        ikv_router_attach(delivery->router, event, b->target);
    printf("%4u ms  %-14s %s", example_ms(event),
           ikv_catalogue_info(NULL, event->kind)->name, names[b - bodies]);
    if (event->kind == IKV_KIND_POINTER_MOVE ||
        event->kind == IKV_KIND_POINTER_UP)
        printf(" at %.2f, %.2f", (double)b->middle[0], (double)b->middle[2]);
    printf("\n");
    return IKV_CONTINUE;
}

int main(void)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_ENTER, IKV_KIND_POINTER_LEAVE, IKV_KIND_POINTER_DOWN,
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_UP};
    ikv_kit_config config = IKV_KIT_INIT;
    config.router.picking = ray_picking(&world);
    example e = example_open("pick_in_3d.tape.jsonl", &config);
    ikv_bus *bus = ikv_kit_bus(e.kit);
    for (uint32_t i = 0; i < world.count; i++) {
        ikv_subscription_config wanted = IKV_SUBSCRIPTION_INIT;
        ikv_bus_add_target(bus, i + 1, &bodies[i].target);
        wanted.kinds = kinds;
        wanted.kind_count = sizeof kinds / sizeof kinds[0];
        wanted.at = bodies[i].target;
        wanted.handler = hear;
        wanted.user = &bodies[i];
        example_check("a subscription",
                      ikv_bus_subscribe(bus, &wanted, NULL, NULL));
    }
    example_play(&e);
    example_close(&e);
    return 0;
}
