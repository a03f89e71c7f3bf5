/* 23: your own collision, in 3D.
 *
 * The engine reports which of its spheres touch in each step, and gets what the
 * library's own shapes get: enter, inside and leave in a fixed order, one
 * contact for all pieces of a body, a linger for what bounces. Without a scene.
 */
#include <ikvar/host.h>

#include <stdio.h>

enum {
    PIECES = 3
};

typedef struct sphere {
    const char *name;
    float x, y, z, radius;
    int body;
    ikv_target target;
} sphere;

static sphere spheres[PIECES] = {{"the crane", 0, 6, 4, 1, 0, {0}},
                                 {"its hook", 0, 3, 4, 0.5f, 0, {0}},
                                 {"the crate", 0, 0, 4, 1, 2, {0}}};

static const sphere *sphere_of(ikv_target target)
{
    int i = 0;
    while (i + 1 < PIECES && spheres[i].target.bits != target.bits)
        i++;
    return &spheres[i];
}

static ikv_target body(void *user, ikv_target target)
{
    (void)user;
    return spheres[sphere_of(target)->body].target;
}

static ikv_verdict tell(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    static const char *const what[] = {"meets", "is still at", "leaves"};
    (void)user;
    printf("step %2u  %s %s %s at height %.2f\n", (unsigned)delivery->step,
           sphere_of(event->target)->name,
           what[event->kind - IKV_KIND_OVERLAP_ENTER],
           sphere_of(event->source)->name, (double)event->overlap.y);
    return IKV_CONTINUE;
}

/* What the engine's collision finds. */
static void report_pairs(ikv_overlaps *overlaps)
{
    for (int i = 0; i < PIECES; i++)
        for (int k = i + 1; k < PIECES; k++) {
            const sphere *a = &spheres[i], *b = &spheres[k];
            float dx = a->x - b->x, dy = a->y - b->y, dz = a->z - b->z;
            float reach = a->radius + b->radius;
            float middle[3] = {(a->x + b->x) / 2, (a->y + b->y) / 2,
                               (a->z + b->z) / 2};
            if (dx * dx + dy * dy + dz * dz <= reach * reach)
                ikv_overlaps_report(overlaps, a->target, b->target, middle);
        }
}

int main(void)
{
    static const float heights[] = {4, 3, 2, 1.4f, 1.6f, 1.4f, 2, 3, 4, 4};
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_overlaps_config config = IKV_OVERLAPS_INIT;
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    ikv_sensing sensing = IKV_SENSING_INIT;
    ikv_bus *bus;
    ikv_overlaps *overlaps = NULL;
    bus_config.memory = config.memory = ikv_host_memory();
    callbacks.body = body;
    if (ikv_bus_open(&bus_config, &bus) < 0)
        return 1;
    ikv_bus_set_callbacks(bus, &callbacks);
    config.bus = bus;
    ikv_overlaps_open(&config, &overlaps);
    for (uint32_t i = 0; i < PIECES; i++)
        ikv_bus_add_target(bus, i + 1, &spheres[i].target);
    sensing.senses = 1; /* the engine has no tags: everything bears all */
    sensing.scope = IKV_OVERLAP_OF_BODIES;
    sensing.linger = 2;
    ikv_overlaps_sense(overlaps, spheres[2].target, &sensing);
    for (int kind = IKV_KIND_OVERLAP_ENTER; kind <= IKV_KIND_OVERLAP_LEAVE;
         kind++)
        ikv_bus_hear(bus, (ikv_kind)kind, spheres[2].target, tell, NULL, NULL);

    for (uint32_t step = 0; step < sizeof heights / sizeof heights[0]; step++) {
        spheres[1].y = heights[step]; /* the hook comes down, bounces, rises */
        ikv_bus_set_step(bus, step);
        report_pairs(overlaps);
        ikv_overlaps_step(overlaps, step, step * 16666667);
    }
    ikv_overlaps_close(overlaps);
    ikv_bus_close(bus);
    return 0;
}
