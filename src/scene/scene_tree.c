/* scene_tree.c - finding items, and walking the tree. */
#include "scene_internal.h"

/* The item after a subtree in the walk, NO_ITEM at the end. */
uint32_t ikvi_scene_walk_past(const ikv_scene *scene, uint32_t top,
                              uint32_t place)
{
    /* Up until there is a sibling above: what is beneath `top` ends with
     * `top`. */
    while (place != top) {
        const scene_item *item = item_at(scene, place);
        if (item->above != NO_ITEM)
            return item->above;
        place = item->parent;
    }
    return NO_ITEM;
}

uint32_t ikvi_scene_walk(const ikv_scene *scene, uint32_t top, uint32_t place)
{
    uint32_t child = item_at(scene, place)->first_child;
    return child != NO_ITEM ? child : ikvi_scene_walk_past(scene, top, place);
}

uint32_t ikvi_scene_body(const ikv_scene *scene, uint32_t place)
{
    uint32_t at = place;
    while (at != ROOT_ITEM && (item_at(scene, at)->flags & ITEM_BODY) == 0)
        at = item_at(scene, at)->parent;
    /* What belongs to no body is one of its own. */
    return at != ROOT_ITEM ? at : place;
}

ikv_target ikv_scene_next(const ikv_scene *scene, ikv_target top,
                          ikv_target last)
{
    ikv_target next = {0};
    if (scene == NULL)
        return next;
    uint32_t from = top.bits != 0 ? ikvi_scene_find(scene, top) : ROOT_ITEM;
    uint32_t at = last.bits != 0 ? ikvi_scene_find(scene, last) : NO_ITEM;
    if (from == NO_ITEM || (last.bits != 0 && at == NO_ITEM))
        return next;
    if (last.bits == 0)
        at = from;
    /* The root is nobody's target: behind it comes its first child. */
    if (last.bits != 0 || at == ROOT_ITEM)
        at = ikvi_scene_walk(scene, from, at);
    if (at != NO_ITEM)
        next.bits = item_at(scene, at)->target;
    return next;
}

bool ikv_scene_alive(const ikv_scene *scene, ikv_target target)
{
    return ikvi_scene_find(scene, target) != NO_ITEM;
}

scene_item *ikvi_scene_item(const ikv_scene *scene, uint32_t place)
{
    return item_at(scene, place);
}
