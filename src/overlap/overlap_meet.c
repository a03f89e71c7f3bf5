/* overlap_meet.c - whether the shapes of two parts meet, or went through each
 * other between two steps. */
#include "overlap_internal.h"

static bool fresh_hull(const ikv_overlaps *o, uint32_t place, hull *to)
{
    return ikvi_shape_hull(o->scene, ikvi_scene_item(o->scene, place), to);
}

bool ikvi_shapes_meet(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    hull x, y;
    if (!fresh_hull(o, a, &x) || !fresh_hull(o, b, &y))
        return false;
    if (x.count > 1 || y.count > 1)
        return ikvi_hulls_meet(&x, &y);
    /* Two circles: no edge to look at. */
    float dx = x.points[0] - y.points[0], dy = x.points[1] - y.points[1];
    float reach = x.radius + y.radius;
    return dx * dx + dy * dy <= reach * reach;
}

/* Points from left to right, then down. */
static void sort_points(float *points, uint32_t count)
{
    for (uint32_t i = 1; i < count; i++) {
        float x = points[2 * i], y = points[2 * i + 1];
        uint32_t at = i;
        for (; at > 0 && (points[2 * at - 2] > x ||
                          (points[2 * at - 2] >= x && points[2 * at - 1] > y));
             at--) {
            points[2 * at] = points[2 * at - 2];
            points[2 * at + 1] = points[2 * at - 1];
        }
        points[2 * at] = x;
        points[2 * at + 1] = y;
    }
}

/* Whether the last two of a chain and a further point turn right or not. */
static bool bends_in(const float *chain, uint32_t count, const float *next)
{
    const float *a = chain + 2 * (count - 2), *b = chain + 2 * (count - 1);
    return (b[0] - a[0]) * (next[1] - a[1]) -
               (b[1] - a[1]) * (next[0] - a[0]) <=
           0;
}

/* The convex hull of points: along them and back, leaving out what bends in. */
static void wrap_points(hull *h)
{
    float points[4 * IKV_POLYGON_LIMIT];
    float chain[4 * IKV_POLYGON_LIMIT + 2] = {0};
    uint32_t count = h->count, used = 0, lower;
    memcpy(points, h->points, 2 * sizeof(float) * count);
    sort_points(points, count);
    for (uint32_t i = 0; i < count; i++) {
        while (used >= 2 && bends_in(chain, used, points + 2 * i))
            used--;
        IKVI_CHECK(2 * used + 2 <= sizeof chain / sizeof *chain);
        memcpy(chain + 2 * used++, points + 2 * i, 2 * sizeof(float));
    }
    /* The way back never undoes the way there. */
    lower = used + 1;
    for (uint32_t i = count - 1; i-- > 0;) {
        while (used >= lower && bends_in(chain, used, points + 2 * i))
            used--;
        IKVI_CHECK(2 * used + 2 <= sizeof chain / sizeof *chain);
        memcpy(chain + 2 * used++, points + 2 * i, 2 * sizeof(float));
    }
    /* The first point came twice. */
    h->count = used > 2 ? used - 1 : used;
    IKVI_CHECK(used <= 2 * IKV_POLYGON_LIMIT + 1);
    memcpy(h->points, chain, 2 * sizeof(float) * h->count);
}

/* From where it is to where it was before this step. */
static void way_back(const ikv_overlaps *o, uint32_t place, float way[2])
{
    const near_part *part = part_at(o, place);
    const scene_item *item = ikvi_scene_item(o->scene, place);
    bool swept = (summary_at(o, place)->flags & PART_SWEPT) != 0;
    way[0] = swept ? part->x - item->world.x : 0;
    way[1] = swept ? part->y - item->world.y : 0;
}

/* O5: whether the two met between the last step and this one. */
static bool went_through(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    float back[2], other[2];
    hull x, y;
    way_back(o, a, back);
    way_back(o, b, other);
    /* One of them at rest: only how they moved against each other counts. */
    float dx = back[0] - other[0], dy = back[1] - other[1];
    if (!(dx < 0 || dx > 0 || dy < 0 || dy > 0) || !fresh_hull(o, a, &x) ||
        !fresh_hull(o, b, &y))
        return false;
    /* The hull of where it is and of where it was holds all in between, as it
     * did not turn. */
    for (uint32_t i = 0; i < x.count; i++) {
        x.points[2 * (x.count + i)] = x.points[2 * i] + dx;
        x.points[2 * (x.count + i) + 1] = x.points[2 * i + 1] + dy;
    }
    x.count *= 2;
    wrap_points(&x);
    return ikvi_hulls_meet(&x, &y);
}

bool ikvi_pair_passed(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    return o->s.swept_count > 0 &&
           ((summary_at(o, a)->flags | summary_at(o, b)->flags) & PART_SWEPT) !=
               0 &&
           boxes_meet(box_at(o, a), box_at(o, b)) &&
           pair_counts(summary_at(o, a), summary_at(o, b)) &&
           went_through(o, a, b);
}
