/* ikvar/scene.h - what can be hit: targets, shapes, layers, and who is on top.
 *
 * Overview
 *   Targets form a tree. A target has a placement in its parent's space
 *   (position, rotation, scale), a shape in its own, and a z among its
 *   siblings. Children lie above their parent, siblings by z, then the later
 *   one above; a subtree is stacked as one. The scene answers which target is
 *   the topmost at a point, and which lie beneath.
 *
 *       ikv_target_config lamp = IKV_TARGET_INIT;
 *       lamp.x = 100, lamp.y = 60;
 *       lamp.shape = ikv_scene_circle(0, 0, 12);
 *       lamp.user = my_lamp;
 *       ikv_scene_add(scene, &lamp, &target, NULL);
 *
 *       ikv_query query = IKV_QUERY_INIT;
 *       query.x = x, query.y = y;
 *       hit = ikv_scene_pick(scene, &query, 0);
 *
 *   Layers are stacked from 0, the lowest, up. Each is shown in each view
 *   through a camera of its own: the world pans and zooms, what is drawn over
 *   it does not. A router takes the scene as an ikv_picking (router.h), a bus
 *   as callbacks; the kit ties them together. An engine with picking of its own
 *   needs no scene.
 *
 *       view space --camera--> layer space --placements--> target space
 *
 * Memory
 *   One block; a slot for each target that its bus can hold: 112 bytes, and 48
 *   of index (none with config.plain).
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
    IKV_SHAPE_CIRCLE = 2,
    IKV_SHAPE_CAPSULE = 3,
    IKV_SHAPE_POLYGON = 4,
    IKV_SHAPE_POINT = 5,
    IKV_SHAPE_OWN = 6
};

/* The most points that a polygon can have. */
#define IKV_POLYGON_LIMIT 16

/* A shape in its target's space.
 *   NONE     is never hit; its children may be
 *   RECT     from (x, y), width by height; holds its left and top edge, not its
 *            right and bottom one
 *   CIRCLE   around (x, y) with radius; holds its edge
 *   CAPSULE  all within radius of the line from (x, y) to (x2, y2); holds its
 *            edge
 *   POLYGON  convex, 3 to 16 points, either way round; holds its edge. The
 *            points are copied, x and y in turn
 *   POINT    at (x, y); is hit by queries with a radius, or by fingers if the
 *            target has a grace margin
 *   OWN      what the config's own_test says, asked within the rectangle alone
 * What is reserved must be 0. */
typedef struct ikv_shape {
    uint32_t type;
    float x, y;
    float width, height;
    float radius;
    float x2, y2;
    const float *points;
    uint32_t point_count;
    uint32_t reserved[3];
} ikv_shape;

/* Context: any thread; O(1). */
IKV_API ikv_shape ikv_scene_rect(float x, float y, float width, float height);
IKV_API ikv_shape ikv_scene_circle(float x, float y, float radius);
IKV_API ikv_shape ikv_scene_capsule(float x, float y, float x2, float y2,
                                    float radius);
/* `points` is read when the shape is given to a target.
 * Context: any thread; O(1). */
IKV_API ikv_shape ikv_scene_polygon(const float *points, uint32_t point_count);
IKV_API ikv_shape ikv_scene_point(float x, float y);
IKV_API ikv_shape ikv_scene_own(float x, float y, float width, float height);

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

/* What is wrong with a shape, in words; NULL if nothing is.
 * Context: any thread; O(points^2). */
IKV_API const char *ikv_scene_shape_fault(const ikv_shape *shape);

/* ------------------------------------------------------------- rotation -- */

/* A rotation from x towards y, as a unit vector; zeros mean none. */
typedef struct ikv_rotation {
    float cos, sin;
} ikv_rotation;

/* By degrees, the same on every machine; exact at quarter turns. Any finite
 * number; others give none.
 * Context: any thread; O(1). */
IKV_API ikv_rotation ikv_scene_rotation(float degrees);

/* What turns the x axis towards (dx, dy); none for (0, 0).
 * Context: any thread; O(1). */
IKV_API ikv_rotation ikv_scene_direction(float dx, float dy);

/* -------------------------------------------------------------- opening -- */

/* Says whether a target of IKV_SHAPE_OWN holds a point of its own space.
 *   radius  of the disc around it, in the same space; 0 for the point alone */
typedef bool (*ikv_own_test)(void *user, ikv_target target, void *target_user,
                             float x, float y, float radius);

/* Zero is the default in brackets.
 *   targets   as in the bus's config (1,024)
 *   layers    stacked from 0, the lowest, up (1); at most 32
 *   views     that show the layers (1); at most 16
 *   polygons  that can be there at once (64)
 *   plain     without an index: each query looks at each target (false)
 *   announces  delivers tree.attach, .detach, .move, .show and .hide, at once,
 *             after the change and before the call returns (false)
 *   own_test  with own_user, for IKV_SHAPE_OWN (none)
 *   bus       which hands out the targets; it must outlive the scene */
typedef struct ikv_scene_config {
    uint32_t size;
    uint32_t targets;
    uint32_t layers;
    uint32_t views;
    uint32_t polygons;
    bool plain;
    bool announces;
    ikv_own_test own_test;
    void *own_user;
    ikv_bus *bus;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_scene_config;

#define IKV_SCENE_INIT IKV_SIZED(ikv_scene_config)

/* Bytes that ikv_scene_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_scene_footprint(const ikv_scene_config *config);

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (no bus, or one with more
 * targets than the config says; too many layers or views), BUSY if the bus has
 * a scene already (a bus has one: what is shown apart is in layers and views)
 * or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_scene_open(const ikv_scene_config *config,
                                  ikv_scene **scene);

/* Its targets stay with the bus. NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler: then nothing is
 * closed.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_scene_close(ikv_scene *scene);

/* The callbacks that make the bus walk this scene's parents.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_bus_callbacks ikv_scene_callbacks(ikv_scene *scene);

/* -------------------------------------------------------------- cameras -- */

/* How a layer is shown in a view: (x, y) of the layer appears at (view_x,
 * view_y); zoom view units are one layer unit (0 means 1); the layer is turned
 * by rotation around that point; flip_y makes the layer's y point up. A
 * letterbox or a screen's density is a zoom and a place in the view too.
 *   hidden  the layer is not in this view
 * What is reserved must be 0. */
typedef struct ikv_camera {
    float x, y;
    float view_x, view_y;
    float zoom;
    ikv_rotation rotation;
    bool flip_y;
    bool hidden;
    uint8_t reserved[10];
} ikv_camera;

/* Shows a layer through a camera from now on. Nothing in the scene moves.
 * Returns IKV_OK; BAD_ARGUMENT for a layer or view that is not there, or a
 * number that is not finite, a zoom below 0, or something in what is reserved.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_scene_set_camera(ikv_scene *scene, uint32_t layer,
                                        uint32_t view,
                                        const ikv_camera *camera);

/* The camera as it was set, all zeros if it was not, or is not there.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_camera ikv_scene_camera(const ikv_scene *scene, uint32_t layer,
                                    uint32_t view);

/* The camera that shows a layer's rectangle, from (0, 0), as large as fits in
 * the view, centred (a letterbox). All zeros if a size is not above 0.
 * Context: any thread; O(1). */
IKV_API ikv_camera ikv_scene_fit(float width, float height, float view_width,
                                 float view_height);

/* -------------------------------------------------------------- targets -- */

/* A target to add.
 *   id        your number for it, which traces print by name
 *   parent    zero bits: the root
 *   layer     of a target at the root; those beneath are in their parent's: 0,
 *             or that one; another is refused (BAD_ARGUMENT)
 *   x, y      position in the parent's space
 *   rotation  around its own origin
 *   scale     parent units to one of its own; the same both ways, so that
 *             circles stay circles (0 means 1)
 *   z         order among siblings, high above
 *   shape     in the target's space; none by default
 *   grace     margin around the shape for fingers, in the target's space; kept
 *             in sixteenths, at most 4,095
 *   hit       IKV_HIT_...
 *   traits    IKV_FOCUSABLE | ... (base.h)
 *   tab       place in Tab order, lower first, then tree order;
 *             IKV_NO_TAB: not reached by Tab
 *   tags      bits of your own, for subscriptions, conditions and queries
 *   body      it is the body of itself and of what is beneath it in the tree
 *   hidden    neither it nor its children are hit
 *   clip      its children are hit only where its own shape is
 *   user      yours; ikv_scene_user() gives it
 */
typedef struct ikv_target_config {
    uint32_t size;
    uint32_t id;
    ikv_target parent;
    uint32_t layer;
    float x, y;
    ikv_rotation rotation;
    float scale;
    int32_t z;
    ikv_shape shape;
    float grace;
    uint32_t hit;
    uint32_t traits;
    int32_t tab;
    uint32_t tags;
    bool body;
    bool hidden;
    bool clip;
    void *user;
} ikv_target_config;

#define IKV_TARGET_INIT IKV_SIZED(ikv_target_config)

#define IKV_NO_TAB (-1)

/* Adds a target.
 *   message  NULL, or gets what is wrong and what is needed
 * Returns IKV_OK, BAD_ARGUMENT (a member out of range, not finite), BAD_SIZE,
 * STALE (the parent), FULL_TARGETS, FULL_POLYGONS or FULL_DEPTH. O(siblings
 * between it and the nearer end of their list).
 * Context: owner thread, inside handlers too; O(siblings between). */
IKV_API ikv_status ikv_scene_add(ikv_scene *scene,
                                 const ikv_target_config *config,
                                 ikv_target *target, ikv_message *message);

/* Removes a target with its descendants, and their subscriptions.
 * Returns IKV_OK or STALE.
 * Context: owner thread, inside handlers too; O(subtree). */
IKV_API ikv_status ikv_scene_remove(ikv_scene *scene, ikv_target target);

/* Each of these returns IKV_OK, STALE, or BAD_ARGUMENT for what is out of range
 * (coordinates and sizes: IKV_COORDINATE_LIMIT); a new shape also
 * FULL_POLYGONS; a new parent also CYCLE or FULL_DEPTH. Placing, showing and
 * clipping cost
 * Context: owner thread, inside handlers too; O(subtree). */
IKV_API ikv_status ikv_scene_move(ikv_scene *scene, ikv_target target, float x,
                                  float y);
IKV_API ikv_status ikv_scene_turn(ikv_scene *scene, ikv_target target,
                                  ikv_rotation rotation);
IKV_API ikv_status ikv_scene_resize(ikv_scene *scene, ikv_target target,
                                    float scale);
IKV_API ikv_status ikv_scene_set_shape(ikv_scene *scene, ikv_target target,
                                       const ikv_shape *shape);
IKV_API ikv_status ikv_scene_set_hit(ikv_scene *scene, ikv_target target,
                                     uint32_t hit);
IKV_API ikv_status ikv_scene_set_clip(ikv_scene *scene, ikv_target target,
                                      bool clip);
IKV_API ikv_status ikv_scene_set_grace(ikv_scene *scene, ikv_target target,
                                       float grace);
IKV_API ikv_status ikv_scene_set_traits(ikv_scene *scene, ikv_target target,
                                        uint32_t traits);
IKV_API ikv_status ikv_scene_set_tab(ikv_scene *scene, ikv_target target,
                                     int32_t tab);
IKV_API ikv_status ikv_scene_show(ikv_scene *scene, ikv_target target,
                                  bool shown);

/* Turns its x axis towards a point of the view; not at all if that is where its
 * origin is. Returns as ikv_scene_turn().
 * Context: owner thread, inside handlers too; O(subtree). */
IKV_API ikv_status ikv_scene_turn_to(ikv_scene *scene, ikv_target target,
                                     uint32_t view, float x, float y);

/* One of many targets to move. */
typedef struct ikv_motion {
    ikv_target target;
    float x, y;
} ikv_motion;

/* Moves many targets; what can't be moved is passed over.
 * Returns IKV_OK, or the first one's error: STALE, BAD_ARGUMENT.
 * Context: owner thread, inside handlers too; O(count), and of each its
 * subtree. */
IKV_API ikv_status ikv_scene_move_many(ikv_scene *scene,
                                       const ikv_motion *motions,
                                       uint32_t count);

/* Sets z; the target comes above its siblings of the same z.
 * Returns IKV_OK or STALE.
 * Context: owner thread, inside handlers too; O(siblings between it and where
 * it goes), or as ikv_scene_add() if that is less, and O(subtree). */
IKV_API ikv_status ikv_scene_set_z(ikv_scene *scene, ikv_target target,
                                   int32_t z);

/* Puts a target above, or beneath, its siblings of the same z.
 * Returns IKV_OK or STALE. Cost as above.
 * Context: owner thread, inside handlers too; as ikv_scene_add(), and
 * O(subtree). */
IKV_API ikv_status ikv_scene_raise(ikv_scene *scene, ikv_target target);
IKV_API ikv_status ikv_scene_lower(ikv_scene *scene, ikv_target target);

/* Puts a target beneath another parent, or the root, where it keeps its
 * placement's numbers, and comes above its new siblings of the same z. It takes
 * over the parent's layer; at the root it keeps its own.
 * Returns IKV_OK, STALE, CYCLE or FULL_DEPTH.
 * Context: owner thread, inside handlers too; as ikv_scene_add(), and
 * O(subtree). */
IKV_API ikv_status ikv_scene_set_parent(ikv_scene *scene, ikv_target target,
                                        ikv_target parent);

/* Puts a target at the root, with what is in it, into another layer, above what
 * has its z there; one beneath another target is in its layer.
 * Returns IKV_OK, STALE, or BAD_ARGUMENT: no such layer, or not at the root.
 * Context: owner thread, inside handlers too; as ikv_scene_add(), and
 * O(subtree). */
IKV_API ikv_status ikv_scene_set_layer(ikv_scene *scene, ikv_target target,
                                       uint32_t layer);

/* Whether the target is of this scene and there.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_alive(const ikv_scene *scene, ikv_target target);

/* The target's parent; the root for the uppermost; zero bits if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_target ikv_scene_parent(const ikv_scene *scene, ikv_target target);

/* The user pointer, NULL if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API void *ikv_scene_user(const ikv_scene *scene, ikv_target target);

/* The target's layer, traits and hit, 0 if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_scene_layer(const ikv_scene *scene, ikv_target target);
IKV_API uint32_t ikv_scene_traits(const ikv_scene *scene, ikv_target target);
IKV_API uint32_t ikv_scene_hit(const ikv_scene *scene, ikv_target target);

/* Whether it and all its ancestors are shown; false if stale.
 * Context: owner thread, inside handlers too; O(depth). */
IKV_API bool ikv_scene_shown(const ikv_scene *scene, ikv_target target);

/* The shape as it was set; a polygon's points, which may go the other way round,
 * live until the scene changes. IKV_SHAPE_NONE if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_shape ikv_scene_shape(const ikv_scene *scene, ikv_target target);

/* How it was placed and what else was set; 0, false, no rotation if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API int32_t ikv_scene_z(const ikv_scene *scene, ikv_target target);
IKV_API bool ikv_scene_clip(const ikv_scene *scene, ikv_target target);
IKV_API float ikv_scene_grace(const ikv_scene *scene, ikv_target target);
IKV_API float ikv_scene_scale(const ikv_scene *scene, ikv_target target);
IKV_API ikv_rotation ikv_scene_turned(const ikv_scene *scene,
                                      ikv_target target);

/* The target's tags, 0 if stale; and sets them: IKV_OK or STALE.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint32_t ikv_scene_tags(const ikv_scene *scene, ikv_target target);
IKV_API ikv_status ikv_scene_set_tags(ikv_scene *scene, ikv_target target,
                                      uint32_t tags);

/* The target's body: the nearest of itself and its ancestors that is marked as
 * one, else itself; zero bits if stale.
 * Context: owner thread, inside handlers too; O(depth). */
IKV_API ikv_target ikv_scene_body(const ikv_scene *scene, ikv_target target);

/* The next target in Tab order after `from` (zero bits, or one that is gone or
 * not focusable: from the start), or the one before it; from the last on to the
 * first. Zero bits if none is focusable, shown and reached by Tab.
 * Context: owner thread, inside handlers too; O(targets). */
IKV_API ikv_target ikv_scene_tab_next(const ikv_scene *scene, ikv_target from,
                                      bool backwards);

/* The same among what is in a target, itself not; zero bits if it is gone.
 * Context: owner thread, inside handlers too; O(targets in it). */
IKV_API ikv_target ikv_scene_tab_within(const ikv_scene *scene,
                                        ikv_target within, ikv_target from,
                                        bool backwards);

/* The focusable target nearest to `from` in a direction, among those that Tab
 * reaches, for pads and arrow keys; after the ideas of W3C's draft CSS Spatial
 * Navigation. By their boxes in the view: a candidate's middle and its far edge
 * are further that way, and the nearest is the one with the least sum of the gap
 * along the direction and twice the gap to the side; of equals the one whose
 * middle is nearer to the side, then the first in Tab order.
 *   within     what it must be in; zero bits: the whole scene
 *   from       zero bits, gone, or not in the view: the first in Tab order
 *   direction  IKV_TOWARD_LEFT ...
 * Zero bits if there is none that way.
 * Context: owner thread, inside handlers too; O(targets in it). */
IKV_API ikv_target ikv_scene_toward(const ikv_scene *scene, ikv_target within,
                                    ikv_target from, uint32_t view,
                                    uint32_t direction);

/* --------------------------------------------------------------- spaces -- */

/* The position in the parent's space, and of the target's origin in the first
 * view. False if stale.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_position(const ikv_scene *scene, ikv_target target,
                                float local[2], float view[2]);

/* A point of the view, in the space of the target's layer and in its own. The
 * root's own space is the lowest layer's. False if stale, or if the view is not
 * there.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_to_local(const ikv_scene *scene, ikv_target target,
                                uint32_t view, float x, float y, float layer[2],
                                float local[2]);

/* A point of the view in the space that the target's position is in: its
 * parent's, or its layer's at the root. For whatever follows a pointer. False
 * as above.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_to_parent(const ikv_scene *scene, ikv_target target,
                                 uint32_t view, float x, float y, float out[2]);

/* A point of the target's own space, in the view; false as above.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_to_view(const ikv_scene *scene, ikv_target target,
                               uint32_t view, float x, float y, float out[2]);

/* Left, top, right and bottom of a target's shape in a view; of one without a
 * shape its position. False if it is stale or the root, if the view is not there
 * or does not show its layer.
 * Context: owner thread, inside handlers too; O(points). */
IKV_API bool ikv_scene_box(const ikv_scene *scene, ikv_target target,
                           uint32_t view, float box[4]);

/* A point of the view in a layer's space; false if either is not there.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API bool ikv_scene_to_layer(const ikv_scene *scene, uint32_t layer,
                                uint32_t view, float x, float y, float out[2]);

/* ------------------------------------------------------------- hit test -- */

/* The nth target from the top at the query's point, 0 the topmost; zero bits if
 * there is none. Hidden targets and those with hit off are left out. About
 * O(targets there) with an index, O(targets) without; times n + 1.
 * Context: owner thread, inside handlers too; O(targets there) with an
 * index, O(targets) without. */
IKV_API ikv_target ikv_scene_pick(const ikv_scene *scene,
                                  const ikv_query *query, uint32_t nth);

/* All targets at the query's point, from the top down: the first `room` of them
 * go to `to`. Returns how many there are.
 * Context: owner thread, inside handlers too; O(targets there) with an
 * index, O(targets) without. */
IKV_API uint32_t ikv_scene_pick_all(const ikv_scene *scene,
                                    const ikv_query *query, ikv_target *to,
                                    uint32_t room);

/* All targets that meet the rectangle from the query's point on, width by
 * height view units, edges included, from the top down; as above. A target
 * that is clipped counts if the clipping ones meet the rectangle too; one of
 * IKV_SHAPE_OWN by its rectangle. The query's radius is not used.
 * Context: owner thread, inside handlers too; O(targets there) with an
 * index, O(targets) without. */
IKV_API uint32_t ikv_scene_pick_rect(const ikv_scene *scene,
                                     const ikv_query *query, float width,
                                     float height, ikv_target *to,
                                     uint32_t room);

/* Where ikv_scene_find() looks, in a layer's space, whatever a camera shows of
 * it; begin with IKV_AREA_INIT.
 *   shape      of the area, about its own origin; any but NONE
 *   x, y       where that is in the layer
 *   rotation   of the shape; zeros: none
 *   scale      of it; 0 for 1
 *   layer      its number
 *   tags       only targets with one of these; 0: all
 *   skip_body  not the pieces of this body; zero bits: all */
typedef struct ikv_area {
    uint32_t size;
    uint32_t layer;
    ikv_shape shape;
    float x, y;
    ikv_rotation rotation;
    float scale;
    uint32_t tags;
    ikv_target skip_body;
    uint32_t reserved;
} ikv_area;

#define IKV_AREA_INIT IKV_SIZED(ikv_area)

/* All targets whose shapes meet an area, edges included, from the top down: a
 * blast, a box of selection, whether there is room to build. The first `room` of
 * them go to `to`; NULL: they are counted alone.
 *
 *     ikv_area blast = IKV_AREA_INIT;
 *     blast.shape = ikv_scene_circle(0, 0, 40);
 *     blast.x = x, blast.y = y;
 *     uint32_t count = ikv_scene_find(scene, &blast, hurt, 32);
 *
 * Hidden targets and those with hit off are left out; what is clipped counts if
 * the clipping ones meet the area too; IKV_SHAPE_OWN by its rectangle.
 * Returns how many there are; 0 for what can't be asked (a layer that is not
 * there, a shape with a fault, a number beyond 2^30).
 * Context: owner thread, inside handlers too; O(targets there) with an index,
 * O(targets) without. */
IKV_API uint32_t ikv_scene_find(const ikv_scene *scene, const ikv_area *area,
                                ikv_target *to, uint32_t room);

/* Where ikv_scene_along() looks: from (x, y) to (x2, y2) of a layer's space, and
 * as far around as `radius` says; the rest as in ikv_area. */
typedef struct ikv_line {
    uint32_t size;
    uint32_t layer;
    float x, y, x2, y2;
    float radius;
    uint32_t tags;
    ikv_target skip_body;
} ikv_line;

#define IKV_LINE_INIT IKV_SIZED(ikv_line)

/* A target that a line comes upon.
 *   share  how far along the line, 0 to 1
 *   x, y   the line's point there: 0 if it begins within the target */
typedef struct ikv_crossing {
    ikv_target target;
    float share;
    float x, y;
} ikv_crossing;

/* All targets that a line meets, the nearest to its begin first; of those as
 * near the topmost first. For shots, sight and what a mover will run into. The
 * `room` nearest go to `to`. What is left out, and what is returned, as in
 * ikv_scene_find().
 * Context: owner thread, inside handlers too; O(targets in the box around it)
 * with an index, O(targets) without. */
IKV_API uint32_t ikv_scene_along(const ikv_scene *scene, const ikv_line *line,
                                 ikv_crossing *to, uint32_t room);

/* The next target beneath this one at the query's point, whether or not the
 * point is on this one; zero bits if there is none, or it is stale.
 * Context: owner thread, inside handlers too; O(targets there) with an
 * index, O(targets) without. */
IKV_API ikv_target ikv_scene_beneath(const ikv_scene *scene,
                                     const ikv_query *query, ikv_target target);

/* Why a target is not what a query finds first: all that stands in the way, in
 * the order in which a hit test would give up; up to `room` of it go to `to`.
 * Returns how many there are; 0: it is the topmost there.
 *   STALE    it is gone, or of another scene
 *   NO_VIEW  the query can't be asked, or its view does not show the target's
 *            layer: nothing else is known then
 *   HIDDEN; PARENT_HIDDEN by each ancestor that is
 *   HIT_OFF
 *   NO_SHAPE
 *   TAGS     none of those that the query asks for
 *   BODY     the query skips its body: `by`
 *   OUTSIDE  by so many units of its layer: `found`; no number where the
 *            program's own test decides
 *   CLIPPED  by each ancestor that clips the point away
 *   COVERED  by the topmost, asked where its shape is alone
 * Context: owner thread, inside handlers and watchers too; O(targets there +
 * depth) with an index, O(targets) without. */
IKV_API uint32_t ikv_scene_probe(const ikv_scene *scene, const ikv_query *query,
                                 ikv_target target, ikv_obstacle *to,
                                 uint32_t room);

/* The target after this one in a walk over `top`'s subtree that meets parents
 * before children, the lowest sibling first; `top` itself comes first. Zero bits
 * at its end, or if either is stale.
 *   top   zero bits: all
 *   last  zero bits: begin
 * Context: owner thread, inside handlers and watchers too; O(depth). */
IKV_API ikv_target ikv_scene_next(const ikv_scene *scene, ikv_target top,
                                  ikv_target last);

/* A number that changes with every change that could change a hit test.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API uint64_t ikv_scene_revision(const ikv_scene *scene);

/* Called for each target that is removed, with the surviving parent of the
 * removed subtree, after it is out of the scene. Up to 8 watchers.
 * Returns IKV_OK, BAD_ARGUMENT or FULL_WATCHERS.
 * Context: owner thread, inside handlers too; O(1). */
typedef void (*ikv_removal_watcher)(void *user, ikv_target target,
                                    ikv_target former_parent);
IKV_API ikv_status ikv_scene_watch_removals(ikv_scene *scene,
                                            ikv_removal_watcher watcher,
                                            void *user);

/* How the index stands.
 *   targets    in the scene
 *   gridded    whether queries go by the grid now; else they scan
 *   rebuilds   of the grid since opening
 *   refreshes  of all boxes at once, before a scan
 *   relabels   of the order's keys, those of some targets or all
 *   tested     candidates whose shapes were compared, by all queries
 *   index_bytes, target_bytes  a target, as opened */
typedef struct ikv_scene_counts {
    uint32_t size;
    uint32_t targets;
    uint32_t polygons;
    bool gridded;
    uint8_t reserved[3];
    float index_bytes, target_bytes;
    IKV_ALIGNED(8) uint64_t rebuilds;
    IKV_ALIGNED(8) uint64_t refreshes;
    IKV_ALIGNED(8) uint64_t relabels;
    IKV_ALIGNED(8) uint64_t tested;
} ikv_scene_counts;

#define IKV_SCENE_COUNTS_INIT IKV_SIZED(ikv_scene_counts)

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_scene_counters(const ikv_scene *scene,
                                      ikv_scene_counts *counts);

/* The name of the first invariant (scene.c and scene_index.c list them) that
 * does not hold, NULL if all do.
 * Context: owner thread, not inside a handler; O(all that it holds). */
IKV_API const char *ikv_scene_validate(const ikv_scene *scene);

#ifdef __cplusplus
}
#endif

#endif
