/* scene_find.c - what meets a shape in a layer's space, and what a line comes
 * upon: for the world of the game, whatever is seen of it. */
#include "scene_internal.h"

/* Exact up to the limit, as all that is placed. */
static bool area_fits(const hull *area)
{
    bool fits = coordinate_fits(area->radius);
    for (uint32_t i = 0; i < 2 * area->count; i++)
        fits = fits && coordinate_fits(area->points[i]);
    return fits;
}

static void search_area(const ikv_scene *scene, probe *p)
{
    ikvi_index_search((ikv_scene *)(uintptr_t)scene, p); /* its cells alone */
}

uint32_t ikv_scene_find(const ikv_scene *scene, const ikv_area *area,
                        ikv_target *to, uint32_t room)
{
    hull h;
    probe p;
    if (scene == NULL || area == NULL || area->size != sizeof *area ||
        area->layer >= scene->layers ||
        ikvi_placement_fault(area->x, area->y, area->rotation, area->scale) !=
            NULL)
        return 0;
    scene_item turned;
    ikvi_item_rotate(&turned, area->rotation);
    float scale = area->scale > 0 ? area->scale : 1;
    const transform place = {area->x, area->y, scale * turned.cos,
                             scale * turned.sin};
    if (!ikvi_area_hull(&area->shape, &place, &h) || !area_fits(&h))
        return 0;
    ikv_query query = IKV_QUERY_INIT;
    query.tags = area->tags;
    query.skip_body = area->skip_body;
    ikvi_probe_begin(&p, scene, &query);
    p.heap = to;
    p.room = to != NULL ? room : 0;
    ikvi_probe_aim_area(&p, area->layer, &h);
    search_area(scene, &p);
    ikvi_probe_sort(&p);
    return p.total;
}

uint32_t ikv_scene_along(const ikv_scene *scene, const ikv_line *line,
                         ikv_crossing *to, uint32_t room)
{
    ikv_crossing none;
    probe p;
    if (scene == NULL || line == NULL || line->size != sizeof *line ||
        line->layer >= scene->layers || !(line->radius >= 0))
        return 0;
    hull h = {.count = 2,
              .radius = line->radius,
              .points = {line->x, line->y, line->x2, line->y2}};
    if (!area_fits(&h))
        return 0;
    ikv_query query = IKV_QUERY_INIT;
    query.tags = line->tags;
    query.skip_body = line->skip_body;
    ikvi_probe_begin(&p, scene, &query);
    p.crossings = to != NULL ? to : &none;
    p.room = to != NULL ? room : 0;
    ikvi_probe_aim_area(&p, line->layer, &h);
    search_area(scene, &p);
    ikvi_probe_sort_crossings(&p);
    return p.total;
}
