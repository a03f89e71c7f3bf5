/* scene_place.c - spaces: placements, cameras, rotations without libm. */
#include "scene_internal.h"

/* Sine and cosine of -45 to 45 degrees, by their series. */
static void small_rotation(double degrees, double *cosine, double *sine)
{
    /* The same in every build: libm's are not the same everywhere. */
    double a = degrees * (3.14159265358979323846 / 180), b = a * a;
    *sine =
        a *
        (1 -
         b / 6 * (1 - b / 20 * (1 - b / 42 * (1 - b / 72 * (1 - b / 110)))));
    *cosine =
        1 - b / 2 * (1 - b / 12 * (1 - b / 30 * (1 - b / 56 * (1 - b / 90))));
}

ikv_rotation ikv_scene_rotation(float degrees)
{
    ikv_rotation none = {1, 0};
    if (!(degrees > -1e15f && degrees < 1e15f))
        return none;
    double turns = (double)degrees / 360;
    double rest =
        (double)degrees - 360 * (double)(int64_t)turns; /* -360 to 360 */
    int quarter = (int)(rest / 90 + (rest < 0 ? -0.5 : 0.5));
    double c, s;
    small_rotation(rest - 90 * (double)quarter, &c, &s);
    switch (quarter & 3) {
    case 0:
        return (ikv_rotation){(float)c, (float)s};
    case 1:
        return (ikv_rotation){(float)-s, (float)c};
    case 2:
        return (ikv_rotation){(float)-c, (float)-s};
    default:
        return (ikv_rotation){(float)s, (float)-c};
    }
}

/* A unit vector; none for zeros, or what has no length. */
static ikv_rotation unit(ikv_rotation r)
{
    double c = (double)r.cos, s = (double)r.sin;
    float length = ikvi_sqrt(c * c + s * s);
    if (!(length > 0))
        return (ikv_rotation){1, 0};
    return (ikv_rotation){r.cos / length, r.sin / length};
}

ikv_rotation ikv_scene_direction(float dx, float dy)
{
    return unit((ikv_rotation){dx, dy});
}

void ikvi_item_rotate(scene_item *item, ikv_rotation rotation)
{
    ikv_rotation r = unit(rotation);
    item->cos = r.cos;
    item->sin = r.sin;
}

const char *ikvi_placement_fault(float x, float y, ikv_rotation rotation,
                                 float scale)
{
    if (!coordinate_fits(x) || !coordinate_fits(y))
        return "x and y must be -2^30 to 2^30";
    if (!coordinate_fits(rotation.cos) || !coordinate_fits(rotation.sin))
        return "the rotation's parts must be -2^30 to 2^30";
    /* 0 is let through; so is nothing else that lies outside. */
    if (!(scale >= SCALE_LEAST && scale <= SCALE_MOST) &&
        (scale < 0 || scale > 0 || scale != scale))
        return "scale must be 0 (for 1), or 2^-30 to 2^30";
    return NULL;
}

/* ----------------------------------------------------------- placements -- */

static transform composed(const transform *outer, const scene_item *item)
{
    const transform *o = outer;
    /* Scale is even along both axes, so that c and s hold it, too. */
    return (transform){
        o->x + (o->c * item->x - o->s * item->y),
        o->y + (o->s * item->x + o->c * item->y),
        item->scale * (o->c * item->cos - o->s * item->sin),
        item->scale * (o->s * item->cos + o->c * item->sin),
    };
}

static void place_item(ikv_scene *scene, uint32_t place)
{
    scene_item *item = item_at(scene, place);
    IKVI_CHECK(place != ROOT_ITEM && item->parent != NO_ITEM);
    const scene_item *parent = item_at(scene, item->parent);
    unsigned flags = item->flags & ~(unsigned)(ITEM_IN_HIDDEN | ITEM_CLIPPED);
    if (parent->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN))
        flags |= ITEM_IN_HIDDEN;
    if (parent->flags & (ITEM_CLIPS | ITEM_CLIPPED))
        flags |= ITEM_CLIPPED;
    item->flags = (uint8_t)flags;
    item->world = composed(&parent->world, item);
    item->level = (uint8_t)(parent->level + 1);
    /* A subtree follows its top into another layer. */
    if (item->parent != ROOT_ITEM)
        item->layer = parent->layer;
    IKVI_CHECK(item->level > parent->level); /* scene-3: it fits a byte */
    ikvi_index_changed(scene, place);
}

/* Brings a subtree up to date after its top has moved or changed. */
void ikvi_scene_place(ikv_scene *scene, uint32_t top)
{
    /* Most have no children: no walk. */
    if (item_at(scene, top)->first_child == NO_ITEM) {
        place_item(scene, top);
        return;
    }
    for (uint32_t at = top; at != NO_ITEM; at = ikvi_scene_walk(scene, top, at))
        place_item(scene, at);
}

void ikvi_scene_shift(ikv_scene *scene, uint32_t top)
{
    scene_item *item = item_at(scene, top);
    IKVI_CHECK(top != ROOT_ITEM && item->parent != NO_ITEM);
    if (item->first_child != NO_ITEM) {
        ikvi_scene_place(scene, top);
        return;
    }
    /* As composed() does, so that both ways give the same bits. */
    const transform *o = &item_at(scene, item->parent)->world;
    item->world.x = o->x + (o->c * item->x - o->s * item->y);
    item->world.y = o->y + (o->s * item->x + o->c * item->y);
    ikvi_index_moved(scene, top);
}

static void inner_point(const transform *t, float x, float y, float out[2])
{
    float dx = x - t->x, dy = y - t->y, det = t->c * t->c + t->s * t->s;
    out[0] = (dx * t->c + dy * t->s) / det;
    out[1] = (dy * t->c - dx * t->s) / det;
}

static void outer_point(const transform *t, float x, float y, float out[2])
{
    out[0] = t->x + (t->c * x - t->s * y);
    out[1] = t->y + (t->s * x + t->c * y);
}

/* -------------------------------------------------------------- cameras -- */

void ikvi_camera_reset(scene_camera *camera)
{
    *camera = (scene_camera){.place = {0, 0, 1, 0}, .back_c = 1, .zoom = 1};
}

/* What is of a later version is refused rather than left out. */
static bool has_reserved(const ikv_camera *camera)
{
    bool has = false;
    for (uint32_t i = 0; i < sizeof camera->reserved; i++)
        has = has || camera->reserved[i] != 0;
    return has;
}

/* The way back is kept, not divided for each point: a point goes through the
 * same roundings everywhere. */
ikv_status ikv_scene_set_camera(ikv_scene *scene, uint32_t layer, uint32_t view,
                                const ikv_camera *camera)
{
    if (scene == NULL || camera == NULL || layer >= scene->layers ||
        view >= scene->views || has_reserved(camera) ||
        !coordinate_fits(camera->view_x) || !coordinate_fits(camera->view_y) ||
        ikvi_placement_fault(camera->x, camera->y, camera->rotation,
                             camera->zoom) != NULL)
        return IKV_BAD_ARGUMENT;
    scene_camera *to = camera_at(scene, layer, view);
    ikv_rotation r = unit(camera->rotation);
    to->set = *camera;
    to->zoom = camera->zoom > 0 ? camera->zoom : 1;
    to->place = (transform){camera->view_x, camera->view_y, to->zoom * r.cos,
                            to->zoom * r.sin};
    to->back_c = r.cos / to->zoom;
    to->back_s = r.sin / to->zoom;
    scene->s.revision++;
    return IKV_OK;
}

ikv_camera ikv_scene_camera(const ikv_scene *scene, uint32_t layer,
                            uint32_t view)
{
    return scene != NULL && layer < scene->layers && view < scene->views
               ? camera_at(scene, layer, view)->set
               : (ikv_camera){.zoom = 0};
}

ikv_camera ikv_scene_fit(float width, float height, float view_width,
                         float view_height)
{
    ikv_camera camera = {.zoom = 0};
    if (!(width > 0 && height > 0 && view_width > 0 && view_height > 0))
        return camera;
    float across = view_width / width, down = view_height / height;
    camera.zoom = across < down ? across : down;
    camera.x = width / 2;
    camera.y = height / 2;
    camera.view_x = view_width / 2;
    camera.view_y = view_height / 2;
    return camera;
}

bool ikv_scene_to_layer(const ikv_scene *scene, uint32_t layer, uint32_t view,
                        float x, float y, float out[2])
{
    if (scene == NULL || layer >= scene->layers || view >= scene->views ||
        out == NULL)
        return false;
    ikvi_camera_to_layer(scene, layer, view, x, y, out);
    return true;
}

bool ikv_scene_to_local(const ikv_scene *scene, ikv_target target,
                        uint32_t view, float x, float y, float layer[2],
                        float local[2])
{
    uint32_t place = ikvi_scene_find(scene, target);
    if (place == NO_ITEM || view >= scene->views || layer == NULL ||
        local == NULL)
        return false;
    const scene_item *item = item_at(scene, place);
    /* Also where the view hides the layer: a captured pointer goes on. */
    ikvi_camera_to_layer(scene, item->layer, view, x, y, layer);
    inner_point(&item->world, layer[0], layer[1], local);
    return true;
}

bool ikv_scene_to_parent(const ikv_scene *scene, ikv_target target,
                         uint32_t view, float x, float y, float out[2])
{
    uint32_t place = ikvi_scene_find(scene, target);
    float layer[2] = {0, 0};
    if (place == NO_ITEM || place == ROOT_ITEM || view >= scene->views ||
        out == NULL)
        return false;
    const scene_item *item = item_at(scene, place);
    ikvi_camera_to_layer(scene, item->layer, view, x, y, layer);
    inner_point(&item_at(scene, item->parent)->world, layer[0], layer[1], out);
    return true;
}

/* The camera's steps the other way round. */
void ikvi_layer_to_view(const ikv_scene *scene, uint32_t layer, uint32_t view,
                        const float point[2], float out[2])
{
    const scene_camera *camera = camera_at(scene, layer, view);
    float x = point[0] - camera->set.x, y = point[1] - camera->set.y;
    outer_point(&camera->place, x, camera->set.flip_y ? -y : y, out);
}

bool ikv_scene_to_view(const ikv_scene *scene, ikv_target target, uint32_t view,
                       float x, float y, float out[2])
{
    uint32_t place = ikvi_scene_find(scene, target);
    if (place == NO_ITEM || view >= scene->views || out == NULL)
        return false;
    const scene_item *item = item_at(scene, place);
    float layer[2];
    outer_point(&item->world, x, y, layer);
    ikvi_layer_to_view(scene, item->layer, view, layer, out);
    return true;
}

bool ikv_scene_position(const ikv_scene *scene, ikv_target target,
                        float local[2], float view[2])
{
    uint32_t place = ikvi_scene_find(scene, target);
    if (place == NO_ITEM || local == NULL || view == NULL)
        return false;
    local[0] = item_at(scene, place)->x;
    local[1] = item_at(scene, place)->y;
    return ikv_scene_to_view(scene, target, 0, 0, 0, view);
}
