/* index.c - instead of src/scene/scene_boxes.c, src/scene/scene_grid.c and
 * src/scene/scene_index.c: every query looks at every target of its layer, as
 * with config.plain.
 */
#include "../src/scene/scene_internal.h"

void ikvi_index_layout(ikv_scene *scene, ikvi_layout *layout, bool plain)
{
    (void)plain;
    scene->s.index.absent = true;
    ikvi_order_layout(scene, layout);
}

void ikvi_index_open(ikv_scene *scene)
{
    scene->s.index.reordered = true;
}

void ikvi_index_changed(ikv_scene *scene, uint32_t place)
{
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_CHANGED);
}

void ikvi_index_moved(ikv_scene *scene, uint32_t place)
{
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_MOVED);
}

void ikvi_index_removed(ikv_scene *scene, uint32_t place)
{
    ikvi_index_changed(scene, place);
    ikvi_index_reordered(scene);
}

void ikvi_index_reordered(ikv_scene *scene)
{
    scene->s.index.reordered = true;
}

void ikvi_index_rekeys(ikv_scene *scene, uint32_t top)
{
    (void)scene, (void)top;
}

void ikvi_index_search(ikv_scene *scene, probe *p)
{
    ikvi_order_search(scene, p);
    scene->s.counters.tested += p->tested;
    p->tested = 0;
}

const char *ikvi_index_validate(const ikv_scene *scene)
{
    return ikvi_order_validate(scene);
}
