/* scene_order.c - all targets from the topmost down, and a search that looks at
 * each.
 *
 * scene-6  `order` holds every target once, topmost first, unless it is out of
 *          date; only then are there hints
 */
#include "scene_internal.h"

void ikvi_order_layout(ikv_scene *scene, ikvi_layout *l)
{
    scene_index *x = &scene->s.index;
    x->order = ikvi_layout_add(l, scene->capacity, sizeof(uint32_t));
    x->layers = ikvi_layout_add(l, scene->layers, sizeof(index_layer));
}

/* All items from the topmost down: the walk that meets parents first and low
 * siblings first, backwards. */
void ikvi_order_make(ikv_scene *s)
{
    /* Filled from the end: the walk goes upwards, the order downwards. */
    uint32_t at = s->s.count;
    for (uint32_t layer = 0; layer < s->layers; layer++)
        layer_at(s, layer)->start = layer_at(s, layer)->end = 0;
    for (uint32_t place = ikvi_scene_walk(s, ROOT_ITEM, ROOT_ITEM);
         place != NO_ITEM; place = ikvi_scene_walk(s, ROOT_ITEM, place)) {
        index_layer *layer = layer_at(s, item_at(s, place)->layer);
        if (layer->end == 0)
            layer->end = at;
        *order_at(s, --at) = place;
        layer->start = at;
    }
    IKVI_CHECK(at == 0);
    s->s.index.reordered = false;
    s->s.hints.count = 0;
}

void ikvi_order_search(ikv_scene *s, probe *p)
{
    if (s->s.index.reordered)
        ikvi_order_make(s);
    const index_layer *layer = layer_at(s, p->layer);
    for (uint32_t i = layer->start; i < layer->end; i++)
        if (ikvi_probe_offer(p, *order_at(s, i)))
            return;
}

const char *ikvi_order_validate(const ikv_scene *scene)
{
    uint64_t above = UINT64_MAX;
    if (scene->s.hints.count > 0 && !scene->s.index.reordered)
        return "scene-6";
    for (uint32_t i = 0; !scene->s.index.reordered && i < scene->s.count; i++) {
        const scene_item *item = item_at(scene, *order_at(scene, i));
        if (item->target == 0 || item->key >= above)
            return "scene-6";
        above = item->key;
    }
    return NULL;
}
