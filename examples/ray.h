/* ray.h - a picking for a world in 3D, y up: a ray from a perspective camera at
 * boxes. Take it along as it is, or put your engine's own test in the place of
 * ray_meets(). Whoever moves the camera or a body raises `revision`. What is
 * attached to a pointer slides along the ground, the plane at its own height. */
#ifndef RAY_H
#define RAY_H

#include <ikvar/ikvar.h>
#include <math.h>

typedef struct ray_body {
    ikv_target target;
    float middle[3], half[3];
    uint32_t traits;
} ray_body;

/* `right` and `above`: from the view's middle, at eye + ahead, to its edges. */
typedef struct ray_world {
    ray_body *bodies;
    uint32_t count;
    float eye[3], ahead[3], right[3], above[3];
    float width, height; /* of the view, in its units */
    uint64_t revision;
} ray_world;

static void ray_through(const ray_world *c, float x, float y, float way[3])
{
    for (int i = 0; i < 3; i++)
        way[i] = c->ahead[i] + (2 * x / c->width - 1) * c->right[i] +
                 (1 - 2 * y / c->height) * c->above[i];
}

/* How many times `way` it is to the body; below 0 if it is not met. */
static float ray_meets(const ray_body *b, const float eye[3],
                       const float way[3])
{
    float near = 0, far = INFINITY;
    for (int i = 0; i < 3; i++) { /* between each pair of sides */
        float one = (b->middle[i] - b->half[i] - eye[i]) / way[i];
        float other = (b->middle[i] + b->half[i] - eye[i]) / way[i];
        near = fmaxf(near, fminf(one, other));
        far = fminf(far, fmaxf(one, other));
    }
    return near <= far ? near : -1;
}

static ray_body *ray_find(const ray_world *w, ikv_target target)
{
    for (uint32_t i = 0; i < w->count; i++)
        if (target.bits != 0 && w->bodies[i].target.bits == target.bits)
            return &w->bodies[i];
    return NULL;
}

/* The nth from the front; of equals the first one. */
static ikv_target ray_pick(void *world, const ikv_query *query, uint32_t nth)
{
    const ray_world *w = world;
    const ray_body *found = NULL;
    float way[3], last = -1;
    ray_through(w, query->x, query->y, way);
    for (uint32_t n = 0; n <= nth; n++) {
        const ray_body *next = NULL;
        float best = INFINITY;
        for (const ray_body *b = w->bodies; b < w->bodies + w->count; b++) {
            float far = ray_meets(b, w->eye, way);
            bool behind = far > last || (far >= last && b > found);
            if (far >= 0 && behind && far < best) {
                best = far;
                next = b;
            }
        }
        if (next == NULL)
            return (ikv_target){0};
        found = next;
        last = best;
    }
    return found->target;
}

static ikv_target ray_parent(void *world, ikv_target t)
{
    (void)world, (void)t;
    return (ikv_target){0}; /* all hang from the root */
}

static bool ray_alive(void *world, ikv_target t)
{
    return ray_find(world, t) != NULL;
}

static uint32_t ray_traits(void *world, ikv_target t)
{
    return ray_alive(world, t) ? ray_find(world, t)->traits : 0;
}

static uint64_t ray_revision(void *world)
{
    return ((ray_world *)world)->revision;
}

/* Where the ray meets the ground, from a body's middle. */
static bool ray_ground(void *world, ikv_target t, uint8_t v, float x, float y,
                       float to[2])
{
    const ray_world *c = world;
    const ray_body *b = ray_find(world, t);
    float way[3];
    ray_through(c, x, y, way);
    float far = b != NULL && v == 0 ? (b->middle[1] - c->eye[1]) / way[1] : -1;
    for (int i = 0; i < 2 && far > 0; i++)
        to[i] = c->eye[2 * i] + far * way[2 * i] - b->middle[2 * i];
    return far > 0 && far < INFINITY; /* else it looks above the horizon */
}

static bool ray_to_local(void *world, ikv_target t, uint8_t v, float x, float y,
                         float layer[2], float local[2])
{
    layer[0] = x, layer[1] = y;
    return ray_ground(world, t, v, x, y, local);
}

static bool ray_carry(void *world, ikv_target t, uint8_t v, float x, float y,
                      const float grip[2])
{
    float to[2];
    bool meets = ray_ground(world, t, v, x, y, to);
    for (int i = 0; i < 2 && meets; i++)
        ray_find(world, t)->middle[2 * i] += to[i] - grip[i];
    ((ray_world *)world)->revision += meets;
    return meets;
}

/* The world must outlive the router. */
static ikv_picking ray_picking(ray_world *world)
{
    ikv_picking picking = IKV_PICKING_INIT;
    picking.scene = world;
    picking.pick = ray_pick;
    picking.parent = ray_parent;
    picking.alive = ray_alive;
    picking.traits = ray_traits;
    picking.to_local = ray_to_local;
    picking.revision = ray_revision;
    picking.grip = ray_ground;
    picking.carry = ray_carry;
    return picking;
}

#endif
