/* 13: your own 3D picking.
 *
 * An engine that has a world of its own needs no ikv_scene: it asks the bus for
 * targets and fills in an ikv_picking. Here a ray from the eye through the
 * pointer is cast at lanterns, which are spheres; hover, capture and clicks
 * work as they do with a scene.
 */
#include "example.h"

enum {
    LANTERNS = 3
};

typedef struct lantern {
    const char *name;
    float x, y, z, radius; /* z: away from the eye, which is at 0, 0, 0 */
    ikv_target target;
} lantern;

static ikv_bus *bus;
static lantern lanterns[LANTERNS] = {{"the near lantern", 0, 0, 4, 0.3f, {0}},
                                     {"the far lantern", 0.5f, 0, 8, 0.9f, {0}},
                                     {"the high lantern", 3, 0, 9, 0.8f, {0}}};

/* The ray through a point of a view of 640 x 360 whose eye sees 90 degrees
 * across: how far along it a lantern is met, 0 if it is not. */
static float distance(const lantern *l, float x, float y)
{
    float dx = (x - 320) / 320, dy = (y - 180) / 320, dz = 1;
    float length = dx * dx + dy * dy + dz * dz;
    float along = (l->x * dx + l->y * dy + l->z * dz) / length;
    float off_x = l->x - along * dx, off_y = l->y - along * dy;
    float off_z = l->z - along * dz;
    float off = off_x * off_x + off_y * off_y + off_z * off_z;
    return along > 0 && off <= l->radius * l->radius ? along : 0;
}

/* The nth from the front: as many are nearer. */
static ikv_target pick(void *scene, const ikv_query *query, uint32_t nth)
{
    (void)scene;
    for (int i = 0; i < LANTERNS; i++) {
        float mine = distance(&lanterns[i], query->x, query->y);
        uint32_t nearer = 0;
        for (int k = 0; k < LANTERNS; k++) {
            float other = distance(&lanterns[k], query->x, query->y);
            nearer += other > 0 && other < mine;
        }
        if (mine > 0 && nearer == nth)
            return lanterns[i].target;
    }
    return (ikv_target){0};
}

static ikv_target parent(void *scene, ikv_target target)
{
    (void)scene, (void)target;
    return (ikv_target){0}; /* all hang from the root */
}

static bool alive(void *scene, ikv_target target)
{
    (void)scene;
    return ikv_bus_target_alive(bus, target);
}

static uint32_t traits(void *scene, ikv_target target)
{
    (void)scene;
    return target.bits == lanterns[2].target.bits ? IKV_CAPTURES : 0;
}

static bool to_local(void *scene, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2])
{
    (void)scene, (void)target, (void)view;
    layer[0] = local[0] = x;
    layer[1] = local[1] = y;
    return true;
}

/* Changes whenever the world does; this one never does. */
static uint64_t revision(void *scene)
{
    (void)scene;
    return 1;
}

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery;
    printf("%3d ms  %-20s %s\n", (int)(event->time_ns / 1000000),
           ikv_catalogue_info(NULL, event->kind)->name,
           ((lantern *)user)->name);
    return IKV_CONTINUE;
}

static void add(lantern *l, uint32_t id)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_bus_add_target(bus, id, &l->target);
    config.families = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK;
    config.at = l->target;
    config.handler = hear;
    config.user = l;
    ikv_bus_subscribe(bus, &config, NULL, NULL);
}

int main(void)
{
    ikv_kit_config config = IKV_KIT_INIT;
    config.router.picking.pick = pick;
    config.router.picking.parent = parent;
    config.router.picking.alive = alive;
    config.router.picking.traits = traits;
    config.router.picking.to_local = to_local;
    config.router.picking.revision = revision;
    example e = example_open("own_picking.tape.jsonl", &config);
    ikv_kit *kit = e.kit;
    bus = ikv_kit_bus(kit);
    for (uint32_t i = 0; i < LANTERNS; i++)
        add(&lanterns[i], i + 1);
    example_play(&e);
    example_close(&e);
    return 0;
}
