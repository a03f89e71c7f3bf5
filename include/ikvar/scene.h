/* ikvar/scene.h - what can be hit: targets, shapes, order from top to bottom.
 *
 * Overview
 *   Targets form a tree. A target has a position in its parent's space, a
 *   shape in its own, and a z among its siblings. Children lie above their
 *   parent, siblings by z, then the later one above; a subtree is stacked as
 *   one. The scene answers which target is the topmost at a point.
 *
 *       ikv_target_config lamp = IKV_TARGET_INIT;
 *       lamp.x = 100, lamp.y = 60;
 *       lamp.shape = ikv_scene_circle(0, 0, 12);
 *       lamp.user = my_lamp;
 *       ikv_scene_add(scene, &lamp, &target, NULL);
 *       hit = ikv_scene_pick(scene, 0, x, y, 0, 0);
 *
 *   A router takes it as an ikv_picking (router.h), a bus as callbacks; the
 *   kit ties them together. An engine with picking of its own needs no scene.
 *
 * Memory
 *   One block; a slot for each target that its bus can hold.
 *
 * Threads and re-entrancy
 *   The owner's thread. Everything may be called inside handlers.
 */
#ifndef IKVAR_SCENE_H
#define IKVAR_SCENE_H

#include "bus.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_scene ikv_scene;

/* --------------------------------------------------------------- shapes -- */

enum {
    IKV_SHAPE_NONE = 0,
    IKV_SHAPE_RECT = 1,
    IKV_SHAPE_CIRCLE = 2
};

/* A shape in its target's space.
 *   RECT    from (x, y), width by height; holds its left and top edge, not its
 *           right and bottom one
 *   CIRCLE  around (x, y) with radius; holds its edge
 *   NONE    is never hit; its children may be
 */
typedef struct ikv_shape {
    uint32_t type;
    float x, y;
    float width, height;
    float radius;
} ikv_shape;

IKV_API ikv_shape ikv_scene_rect(float x, float y, float width, float height);
IKV_API ikv_shape ikv_scene_circle(float x, float y, float radius);

/* What a hit means.
 *   SOLID  the target gets the event, what lies beneath does not
 *   PASS   the target gets it, then the next one beneath too, unless stopped
 *   OFF    the point goes through this target alone, its children can be hit
 */
enum {
    IKV_HIT_SOLID = 0,
    IKV_HIT_PASS = 1,
    IKV_HIT_OFF = 2
};

/* -------------------------------------------------------------- opening -- */

/*   targets  as in the bus's config (1,024 when 0)
 *   bus      which hands out the targets; it must outlive the scene */
typedef struct ikv_scene_config {
    uint32_t size;
    uint32_t targets;
    ikv_bus *bus;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_scene_config;

#define IKV_SCENE_INIT                                                         \
    {                                                                          \
        sizeof(ikv_scene_config), 0, 0, {0, 0},                                \
        {                                                                      \
            0, 0, 0, 0, 0                                                      \
        }                                                                      \
    }

/* Bytes that ikv_scene_open() needs; 0 if the config can't be used. */
IKV_API size_t ikv_scene_footprint(const ikv_scene_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, or one with more
 * targets than the config says) or NO_MEMORY. */
IKV_API ikv_status ikv_scene_open(const ikv_scene_config *config,
                                  ikv_scene **scene);

/* Its targets stay with the bus. NULL is fine. */
IKV_API void ikv_scene_close(ikv_scene *scene);

/* The callbacks that make the bus walk this scene's parents. */
IKV_API ikv_bus_callbacks ikv_scene_callbacks(ikv_scene *scene);

/* -------------------------------------------------------------- targets -- */

/* A target to add.
 *   id       your number for it, which traces print by name
 *   parent   zero bits: the root
 *   x, y     position in the parent's space
 *   z        order among siblings, high above
 *   shape    in the target's space; none by default
 *   hit      IKV_HIT_...
 *   traits   IKV_FOCUSABLE | ... (base.h)
 *   tags     bits of your own, for subscriptions and conditions
 *   body     it is the body of itself and of what is beneath it in the tree
 *   hidden   neither it nor its children are hit
 *   user     yours; ikv_scene_user() gives it
 */
typedef struct ikv_target_config {
    uint32_t size;
    uint32_t id;
    ikv_target parent;
    float x, y;
    int32_t z;
    ikv_shape shape;
    uint32_t hit;
    uint32_t traits;
    uint32_t tags;
    bool body;
    bool hidden;
    void *user;
} ikv_target_config;

#define IKV_TARGET_INIT                                                        \
    {                                                                          \
        sizeof(ikv_target_config), 0, {0}, 0, 0, 0, {0, 0, 0, 0, 0, 0}, 0, 0,  \
            0, false, false, 0                                                 \
    }

/* Adds a target.
 *   message  NULL, or gets what is wrong and what is needed
 * Returns IKV_OK, BAD_ARGUMENT (a member out of range, not finite), BAD_SIZE,
 * STALE (the parent), FULL_TARGETS or FULL_DEPTH. O(siblings of higher z). */
IKV_API ikv_status ikv_scene_add(ikv_scene *scene,
                                 const ikv_target_config *config,
                                 ikv_target *target, ikv_message *message);

/* Removes a target with its descendants, and their subscriptions.
 * Returns IKV_OK or STALE. O(subtree). */
IKV_API ikv_status ikv_scene_remove(ikv_scene *scene, ikv_target target);

/* Each returns IKV_OK, STALE, or BAD_ARGUMENT for what is not finite or out of
 * range; set_parent also CYCLE and FULL_DEPTH. Moving costs O(subtree), a new
 * z or parent O(siblings), all else O(1). */
IKV_API ikv_status ikv_scene_move(ikv_scene *scene, ikv_target target, float x,
                                  float y);
IKV_API ikv_status ikv_scene_set_z(ikv_scene *scene, ikv_target target,
                                   int32_t z);
IKV_API ikv_status ikv_scene_set_parent(ikv_scene *scene, ikv_target target,
                                        ikv_target parent);
IKV_API ikv_status ikv_scene_set_shape(ikv_scene *scene, ikv_target target,
                                       ikv_shape shape);
IKV_API ikv_status ikv_scene_set_hit(ikv_scene *scene, ikv_target target,
                                     uint32_t hit);
IKV_API ikv_status ikv_scene_show(ikv_scene *scene, ikv_target target,
                                  bool shown);

/* Whether the target is of this scene and there. O(1). */
IKV_API bool ikv_scene_alive(const ikv_scene *scene, ikv_target target);

/* The target's parent; the root for the uppermost; zero bits if stale. */
IKV_API ikv_target ikv_scene_parent(const ikv_scene *scene, ikv_target target);

/* The user pointer, NULL if stale. */
IKV_API void *ikv_scene_user(const ikv_scene *scene, ikv_target target);

/* The target's traits and hit, 0 if stale. */
IKV_API uint32_t ikv_scene_traits(const ikv_scene *scene, ikv_target target);
IKV_API uint32_t ikv_scene_hit(const ikv_scene *scene, ikv_target target);

/* The target's tags, 0 if stale; and sets them: IKV_OK or STALE. */
IKV_API uint32_t ikv_scene_tags(const ikv_scene *scene, ikv_target target);
IKV_API ikv_status ikv_scene_set_tags(ikv_scene *scene, ikv_target target,
                                      uint32_t tags);

/* The target's body: the nearest of itself and its ancestors that is marked as
 * one, else itself; zero bits if stale. */
IKV_API ikv_target ikv_scene_body(const ikv_scene *scene, ikv_target target);

/* The position in the parent's space, and of the target's origin in the view.
 * False if stale. */
IKV_API bool ikv_scene_position(const ikv_scene *scene, ikv_target target,
                                float local[2], float view[2]);

/* ------------------------------------------------------------- hit test -- */

/* The nth target from the top at a point of the view, 0 the topmost; zero
 * bits if there is none. `radius` widens the point to a disc. Hidden targets
 * and those with hit off are left out. O(targets). */
IKV_API ikv_target ikv_scene_pick(const ikv_scene *scene, uint8_t view, float x,
                                  float y, float radius, uint32_t nth);

/* A number that changes with every change that could change a hit test. */
IKV_API uint64_t ikv_scene_revision(const ikv_scene *scene);

/* Called for each target that is removed, with the surviving parent of the
 * removed subtree, after it is out of the scene. Up to 8 watchers.
 * Returns IKV_OK, BAD_ARGUMENT or FULL_WATCHERS. */
typedef void (*ikv_removal_watcher)(void *user, ikv_target target,
                                    ikv_target former_parent);
IKV_API ikv_status ikv_scene_watch_removals(ikv_scene *scene,
                                            ikv_removal_watcher watcher,
                                            void *user);

/* The name of the first invariant (scene.c lists them) that does not hold,
 * NULL if all do. */
IKV_API const char *ikv_scene_validate(const ikv_scene *scene);

#ifdef __cplusplus
}
#endif

#endif
