/* scene_boxes.c - frames, in which boxes are whole numbers, and the boxes of
 * what is no plain rectangle.
 */
#include "scene_index.h"

bool ikvi_box_any(const ikv_scene *s, const scene_item *item, float slack,
                  uint16_t q[4])
{
    float box[4];
    if (!ikvi_shape_box(s, item, box))
        return false;
    widen_box(box, slack);
    float sum = box[0] + box[1] + box[2] + box[3];
    /* Else a box of all: candidates are tested exactly. */
    if (number_finite(sum)) {
        quantised_box(&layer_at(s, item->layer)->frame, box, q);
    } else {
        q[0] = q[1] = 0;
        q[2] = q[3] = SIDE;
    }
    return true;
}

/* ---------------------------------------------------------------- frame -- */

/* Where one layer's targets are, from a sample of them. */
typedef struct extent {
    uint32_t count;
    float low[2], high[2], sum[2], spread[2], side;
} extent;

/* In two passes, the extent and then how far from its middle: what is far off
 * shall not make the frame of all others coarse. */
static void measure_layer(const ikv_scene *s, uint32_t layer, extent *e)
{
    uint32_t begin = layer_at(s, layer)->start, end = layer_at(s, layer)->end;
    /* About so many at even distances, and the same ones each time. */
    uint32_t stride = (end - begin) / SAMPLE + 1;
    for (int pass = 0; pass < 2; pass++)
        for (uint32_t i = begin; i < end; i += stride) {
            const scene_item *item = item_at(s, *order_at(s, i));
            float box[4];
            if (!ikvi_shape_box(s, item, box) ||
                !number_finite(box[0] + box[1] + box[2] + box[3]))
                continue;
            e->count += pass == 0;
            e->side += (box[2] - box[0]) / 2 + (box[3] - box[1]) / 2;
            for (int k = 0; k < 2; k++) {
                float at = box[k] / 2 + box[k + 2] / 2;
                if (pass == 0) {
                    bool first = e->count == 1;
                    e->low[k] =
                        first || box[k] < e->low[k] ? box[k] : e->low[k];
                    e->high[k] = first || box[k + 2] > e->high[k] ? box[k + 2]
                                                                  : e->high[k];
                    e->sum[k] += at;
                } else {
                    float off = at - e->sum[k] / (float)e->count;
                    e->spread[k] += off < 0 ? -off : off;
                }
            }
        }
}

/* The frame leaves out what is far away from the most: that lies on its edges,
 * and does not make the rest coarse. */
void ikvi_index_make_frames(ikv_scene *s)
{
    for (uint32_t layer = 0; layer < s->layers; layer++) {
        index_frame *f = &layer_at(s, layer)->frame;
        extent e = {.count = 0};
        measure_layer(s, layer, &e);
        float from[2] = {0, 0}, per[2] = {1, 1};
        for (int k = 0; k < 2 && e.count > 0; k++) {
            float n = (float)e.count, mean = e.sum[k] / n;
            /* With the whole of most boxes: a point outside is beside them, and
             * not on an edge that they reach. */
            float reach = 4 * e.spread[k] / n + e.side / (2 * n);
            float low = mean - reach, high = mean + reach;
            low = low < e.low[k] || reach == 0 ? e.low[k] : low;
            high = high > e.high[k] || reach == 0 ? e.high[k] : high;
            float width = high - low;
            /* Without an extent along it all lie in one column: a frame that
             * turns nothing round. */
            if (!number_finite(width) || !(width > 0) ||
                !number_finite((float)SIDE / width))
                continue;
            from[k] = low;
            per[k] = (float)SIDE / width;
        }
        for (int k = 0; k < 4; k++) {
            f->from[k] = from[k % 2];
            f->per[k] = per[k % 2];
        }
        /* Both passes have added to the sides. */
        f->slack = e.count > 0 ? e.side / (float)(2 * e.count) * SLACK : 0;
        if (!number_finite(f->slack))
            f->slack = 0;
    }
}
