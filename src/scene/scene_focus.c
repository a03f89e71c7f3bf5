/* scene_focus.c - who may get the focus next: in Tab order, and by direction. */
#include "scene_internal.h"

static bool tab_reaches(const scene_item *item)
{
    /* Tab -1: by pointer or program alone, as in HTML's tabindex. */
    return (item_traits(item) & IKV_FOCUSABLE) != 0 && item->tab >= 0 &&
           !item_is_hidden(item);
}

/* Whether a comes before b in Tab order. */
static bool tab_before(const scene_item *a, const scene_item *b)
{
    return a->tab != b->tab ? a->tab < b->tab : a->key < b->key;
}

/* The subtree to look through; zero bits: all. */
static uint32_t top_of(const ikv_scene *scene, ikv_target within)
{
    return within.bits != 0 ? ikvi_scene_find(scene, within) : ROOT_ITEM;
}

/* ------------------------------------------------------------------ Tab -- */

ikv_target ikv_scene_tab_within(const ikv_scene *scene, ikv_target within,
                                ikv_target from, bool backwards)
{
    uint32_t top = top_of(scene, within);
    if (scene == NULL || top == NO_ITEM)
        return (ikv_target){0};
    uint32_t start = ikvi_scene_find(scene, from);
    /* In one walk, without a list: Tab is pressed by people. */
    const scene_item *here =
        start != NO_ITEM && start != ROOT_ITEM ? item_at(scene, start) : NULL;
    const scene_item *end = NULL, *next = NULL; /* the first one; beyond here */
    for (uint32_t at = ikvi_scene_walk(scene, top, top); at != NO_ITEM;
         at = ikvi_scene_walk(scene, top, at)) {
        const scene_item *item = item_at(scene, at);
        if (!tab_reaches(item))
            continue;
        if (end == NULL || tab_before(item, end) != backwards)
            end = item;
        if (here == NULL || item == here || tab_before(here, item) == backwards)
            continue;
        if (next == NULL || tab_before(item, next) != backwards)
            next = item;
    }
    /* Behind the last comes the first. */
    next = next != NULL ? next : end;
    return (ikv_target){next != NULL ? next->target : 0};
}

ikv_target ikv_scene_tab_next(const ikv_scene *scene, ikv_target from,
                              bool backwards)
{
    return ikv_scene_tab_within(scene, (ikv_target){0}, from, backwards);
}

/* ------------------------------------------------------------ direction -- */

/* Left, top, right, bottom of its shape in a view; what has none is its
 * position. False if the view does not show its layer. */
static bool box_in_view(const ikv_scene *scene, const scene_item *item,
                        uint32_t view, float box[4])
{
    const scene_camera *camera = camera_at(scene, item->layer, view);
    hull shape = {.count = 1, .points = {item->world.x, item->world.y}};
    float point[2];
    if (camera->set.hidden)
        return false;
    if (item_shape(item) != IKV_SHAPE_NONE)
        ikvi_shape_hull(scene, item, &shape);
    ikvi_layer_to_view(scene, item->layer, view, shape.points, point);
    box[0] = box[2] = point[0];
    box[1] = box[3] = point[1];
    for (uint32_t i = 1; i < shape.count; i++) {
        ikvi_layer_to_view(scene, item->layer, view, &shape.points[2 * i],
                           point);
        for (uint32_t axis = 0; axis < 2; axis++) {
            if (point[axis] < box[axis])
                box[axis] = point[axis];
            if (point[axis] > box[axis + 2])
                box[axis + 2] = point[axis];
        }
    }
    for (uint32_t side = 0; side < 4; side++)
        box[side] += (side < 2 ? -1.0f : 1.0f) * shape.radius * camera->zoom;
    return true;
}

bool ikv_scene_box(const ikv_scene *scene, ikv_target target, uint32_t view,
                   float box[4])
{
    uint32_t place = ikvi_scene_find(scene, target);
    return place != NO_ITEM && place != ROOT_ITEM && view < scene->views &&
           box != NULL && box_in_view(scene, item_at(scene, place), view, box);
}

/* Turns a box so that the direction is to the right. */
static void turn_box(uint32_t direction, float box[4])
{
    float l = box[0], t = box[1], r = box[2], b = box[3];
    if (direction == IKV_TOWARD_LEFT)
        box[0] = -r, box[2] = -l;
    else if (direction == IKV_TOWARD_UP)
        box[0] = -b, box[1] = l, box[2] = -t, box[3] = r;
    else if (direction == IKV_TOWARD_DOWN)
        box[0] = t, box[1] = l, box[2] = b, box[3] = r;
}

/* FOCUS5: how far one is to the right of the other: along, and twice what it lies
 * to the side, first where their boxes begin, then where their middles are. False
 * if it is not to the right: its middle and its far edge must be further. */
static bool is_toward(const float from[4], const float to[4], float far[2])
{
    float along = to[0] - from[2], side = 0;
    float middle = to[1] + to[3] - from[1] - from[3];
    if (!(to[0] + to[2] > from[0] + from[2] && to[2] > from[2]))
        return false;
    if (to[1] > from[3])
        side = to[1] - from[3];
    else if (from[1] > to[3])
        side = from[1] - to[3];
    far[0] = (along > 0 ? along : 0) + 2 * side;
    far[1] = number_size(middle);
    return true;
}

ikv_target ikv_scene_toward(const ikv_scene *scene, ikv_target within,
                            ikv_target from, uint32_t view, uint32_t direction)
{
    ikv_target best = {0};
    uint32_t top = top_of(scene, within), start = ikvi_scene_find(scene, from);
    float begin[4], box[4], far[2], least[2] = {0, 0};
    if (scene == NULL || top == NO_ITEM || view >= scene->views ||
        direction > IKV_TOWARD_DOWN)
        return best;
    if (start == NO_ITEM || start == ROOT_ITEM ||
        !box_in_view(scene, item_at(scene, start), view, begin))
        return ikv_scene_tab_within(scene, within, from, false);
    turn_box(direction, begin);
    const scene_item *found = NULL;
    for (uint32_t at = ikvi_scene_walk(scene, top, top); at != NO_ITEM;
         at = ikvi_scene_walk(scene, top, at)) {
        const scene_item *item = item_at(scene, at);
        if (at == start || !tab_reaches(item) ||
            !box_in_view(scene, item, view, box))
            continue;
        turn_box(direction, box);
        if (!is_toward(begin, box, far))
            continue;
        /* Of those as far, the one in the middle; then the first by Tab. */
        if (found != NULL &&
            (far[0] > least[0] ||
             (far[0] >= least[0] &&
              (far[1] > least[1] ||
               (far[1] >= least[1] && !tab_before(item, found))))))
            continue;
        found = item;
        memcpy(least, far, sizeof least);
    }
    best.bits = found != NULL ? found->target : 0;
    return best;
}
