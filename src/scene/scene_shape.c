/* scene_shape.c - shapes: what they hold, and the boxes around them.
 *
 * A point is taken into the target's own space and tested there, so that a
 * target without rotation and scale is tested exactly.
 */
#include "scene_internal.h"

/* --------------------------------------------------------- descriptions -- */

ikv_shape ikv_scene_rect(float x, float y, float width, float height)
{
    return (ikv_shape){.type = IKV_SHAPE_RECT,
                       .x = x,
                       .y = y,
                       .width = width,
                       .height = height};
}

ikv_shape ikv_scene_circle(float x, float y, float radius)
{
    return (ikv_shape){
        .type = IKV_SHAPE_CIRCLE, .x = x, .y = y, .radius = radius};
}

ikv_shape ikv_scene_capsule(float x, float y, float x2, float y2, float radius)
{
    return (ikv_shape){.type = IKV_SHAPE_CAPSULE,
                       .x = x,
                       .y = y,
                       .x2 = x2,
                       .y2 = y2,
                       .radius = radius};
}

ikv_shape ikv_scene_polygon(const float *points, uint32_t point_count)
{
    return (ikv_shape){.type = IKV_SHAPE_POLYGON,
                       .points = points,
                       .point_count = point_count};
}

ikv_shape ikv_scene_point(float x, float y)
{
    return (ikv_shape){.type = IKV_SHAPE_POINT, .x = x, .y = y};
}

ikv_shape ikv_scene_own(float x, float y, float width, float height)
{
    return (ikv_shape){.type = IKV_SHAPE_OWN,
                       .x = x,
                       .y = y,
                       .width = width,
                       .height = height};
}

/* Twice the area of the triangle; above 0 if it turns from x towards y. */
static float turn_of(const float *a, const float *b, const float *c)
{
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]);
}

/* Twice the area that a closed line goes round. */
static float area_of(const float *points, uint32_t count)
{
    float area = 0;
    for (uint32_t i = 1; i + 1 < count; i++)
        area += turn_of(points, points + 2 * i, points + 2 * i + 2);
    return area;
}

/* Convex: all turns go the same way, and it goes round once, which is so if
 * each point is on the inner side of every edge. */
static const char *polygon_fault(const float *points, uint32_t count)
{
    if (points == NULL || count < 3 || count > IKV_POLYGON_LIMIT)
        return "a polygon has 3 to 16 points";
    for (uint32_t i = 0; i < 2 * count; i++)
        if (!coordinate_fits(points[i]))
            return "a polygon's points must be -2^30 to 2^30";
    float area = area_of(points, count);
    if (!(area > 0 || area < 0))
        return "a polygon must have an area";
    float sign = area > 0 ? 1.0f : -1.0f;
    /* Within what rounding may make of points in one line. */
    for (uint32_t i = 0; i < count; i++)
        for (uint32_t k = 0; k < count; k++)
            if (sign * turn_of(points + 2 * i, points + 2 * ((i + 1) % count),
                               points + 2 * k) <
                -1e-6f * sign * area)
                return "a polygon must be convex, its points in turn around it";
    return NULL;
}

/* A message says the range, since the number that is wrong is the caller's and
 * at hand. */
const char *ikv_scene_shape_fault(const ikv_shape *shape)
{
    const ikv_shape *s = shape;
    if (s == NULL)
        return "there is no shape";
    bool sized = s->type == IKV_SHAPE_RECT || s->type == IKV_SHAPE_OWN;
    if (s->type > IKV_SHAPE_OWN)
        return "shape.type is none of IKV_SHAPE_...";
    if ((s->reserved[0] | s->reserved[1] | s->reserved[2]) != 0)
        return "what a shape has reserved must be 0";
    if (s->type == IKV_SHAPE_POLYGON)
        return polygon_fault(s->points, s->point_count);
    if (!coordinate_fits(s->x) || !coordinate_fits(s->y))
        return "the shape's position must be -2^30 to 2^30";
    if (sized && !(coordinate_fits(s->width) && coordinate_fits(s->height) &&
                   s->width >= 0 && s->height >= 0))
        return "a rectangle's width and height must be 0 to 2^30";
    if ((s->type == IKV_SHAPE_CIRCLE || s->type == IKV_SHAPE_CAPSULE) &&
        !(coordinate_fits(s->radius) && s->radius >= 0))
        return "a radius must be 0 to 2^30";
    if (s->type == IKV_SHAPE_CAPSULE &&
        !(coordinate_fits(s->x2) && coordinate_fits(s->y2)))
        return "a capsule's ends must be -2^30 to 2^30";
    return NULL;
}

/* -------------------------------------------------------------- storing -- */

void ikvi_shape_drop(ikv_scene *scene, scene_item *item)
{
    if (item_shape(item) == IKV_SHAPE_POLYGON) {
        scene_polygon *polygon = polygon_at(scene, item->shape.polygon);
        IKVI_CHECK(polygon->count >= 3 && scene->s.counters.polygons > 0);
        polygon->count = 0;
        polygon->next_free = scene->s.free_polygon;
        scene->s.free_polygon = item->shape.polygon;
        scene->s.counters.polygons--;
    }
    item->type_traits &= 0xf0;
}

static uint32_t store_polygon(ikv_scene *scene, const ikv_shape *shape)
{
    uint32_t index = scene->s.free_polygon;
    scene_polygon *to = polygon_at(scene, index);
    /* Kept in one turn, so that "inside" has one sign. */
    bool turned = area_of(shape->points, shape->point_count) < 0;
    scene->s.free_polygon = to->next_free;
    scene->s.counters.polygons++;
    IKVI_CHECK(to->count == 0 && shape->point_count <= IKV_POLYGON_LIMIT);
    to->count = shape->point_count;
    for (uint32_t i = 0; i < to->count; i++) {
        uint32_t from = turned ? to->count - 1 - i : i;
        to->points[2 * i] = shape->points[2 * from];
        to->points[2 * i + 1] = shape->points[2 * from + 1];
    }
    return index;
}

/* The old polygon is given back only when there is room for the new one, its
 * own place included: on false the shape is as it was. */
static void shape_numbers(const ikv_shape *shape, float *n)
{
    n[0] = shape->x;
    n[1] = shape->y;
    n[2] = shape->width;
    n[3] = shape->height;
    if (shape->type == IKV_SHAPE_CIRCLE)
        n[2] = shape->radius;
    if (shape->type == IKV_SHAPE_CAPSULE) {
        n[2] = shape->x2;
        n[3] = shape->y2;
    }
    /* A capsule has both ends and a radius: five numbers. */
    n[4] = shape->radius;
}

bool ikvi_shape_store(ikv_scene *scene, scene_item *item,
                      const ikv_shape *shape)
{
    bool polygon = shape->type == IKV_SHAPE_POLYGON;
    uint32_t index = 0;
    if (polygon && scene->s.free_polygon == NO_ITEM &&
        item_shape(item) != IKV_SHAPE_POLYGON)
        return false;
    ikvi_shape_drop(scene, item);
    if (polygon)
        index = store_polygon(scene, shape);
    shape_numbers(shape, item->shape.numbers);
    if (polygon)
        item->shape.polygon = index;
    item->type_traits = (uint8_t)((item->type_traits & 0xf0) | shape->type);
    return true;
}

/* -------------------------------------------------------------- holding -- */

/* How far `at` is outside 0..size. */
static float outside(float at, float size)
{
    if (at < 0)
        return -at;
    return at > size ? at - size : 0;
}

/* HIT2: the left and top edge are in, the right and bottom ones not. */
static bool rect_holds(const float *n, float x, float y, float radius)
{
    x -= n[0];
    y -= n[1];
    if (x >= 0 && x < n[2] && y >= 0 && y < n[3])
        return true;
    /* With a radius corners are round: the distance to the nearest point
     * counts. */
    float dx = outside(x, n[2]), dy = outside(y, n[3]);
    return radius > 0 && dx * dx + dy * dy <= radius * radius;
}

/* The square of the distance from (x, y) to the line from a to b. */
static float line_distance(float x, float y, const float *a, const float *b)
{
    float lx = b[0] - a[0], ly = b[1] - a[1], px = x - a[0], py = y - a[1];
    float length = lx * lx + ly * ly, along = px * lx + py * ly;
    /* A line without a length is a point. */
    float share = length > 0 ? along / length : 0;
    share = ikvi_clamp(share, 0, 1);
    px -= share * lx;
    py -= share * ly;
    return px * px + py * py;
}

static bool polygon_holds(const float *points, uint32_t count, float x, float y,
                          float radius)
{
    float at[2] = {x, y};
    bool inside = true;
    for (uint32_t i = 0; i < count; i++) {
        const float *a = points + 2 * i, *b = points + 2 * ((i + 1) % count);
        /* What is not a number is not inside. */
        if (!(turn_of(a, b, at) >= 0))
            inside = false;
        if (radius > 0 && line_distance(x, y, a, b) <= radius * radius)
            return true;
    }
    return inside;
}

/* In the shape's own space, where a rectangle is upright. Edges count as
 * inside. */
static bool shape_holds(const ikv_scene *scene, const scene_item *item, float x,
                        float y, float radius)
{
    const float *n = item->shape.numbers;
    float dx = x - n[0], dy = y - n[1], reach;
    switch (item_shape(item)) {
    case IKV_SHAPE_RECT:
        return rect_holds(n, x, y, radius);
    case IKV_SHAPE_CIRCLE:
        reach = n[2] + radius;
        return dx * dx + dy * dy <= reach * reach;
    case IKV_SHAPE_CAPSULE:
        reach = n[4] + radius;
        return line_distance(x, y, n, n + 2) <= reach * reach;
    case IKV_SHAPE_POLYGON: {
        const scene_polygon *p = polygon_at(scene, item->shape.polygon);
        return polygon_holds(p->points, p->count, x, y, radius);
    }
    /* Without a radius nobody ever hits a point. */
    case IKV_SHAPE_POINT:
        return radius > 0 && dx * dx + dy * dy <= radius * radius;
    case IKV_SHAPE_OWN:
        /* Its box first: the program's test may be dear. */
        return scene->own_test != NULL && rect_holds(n, x, y, radius) &&
               scene->own_test(scene->own_user, (ikv_target){item->target},
                               item->user, x, y, radius);
    default:
        return false;
    }
}

/* A target that its ancestors shrink to nothing, or put out of all numbers,
 * holds nothing (HIT5): within these bounds no square leaves a float. */
static bool reachable(const transform *t)
{
    const float far = 0x1p62f;
    float det = t->c * t->c + t->s * t->s;
    return det >= SCALE_LEAST * SCALE_LEAST && det <= SCALE_MOST * SCALE_MOST &&
           number_size(t->x) <= far && number_size(t->y) <= far;
}

bool ikvi_shape_holds(const ikv_scene *scene, const scene_item *item, float x,
                      float y, float radius, bool touch)
{
    const transform *t = &item->world;
    float dx = x - t->x, dy = y - t->y, det = t->c * t->c + t->s * t->s;
    if (t->c == 1 && t->s == 0) { /* not turned, not scaled: the usual case */
        radius += touch ? (float)item->grace * 0.0625f : 0;
        return number_finite(dx + dy) &&
               shape_holds(scene, item, dx, dy, radius);
    }
    if (IKVI_UNLIKELY(!reachable(t)))
        return false;
    /* A radius is of the layer's space, grace of the target's own. */
    if (radius > 0)
        radius = radius / ikvi_sqrt((double)det);
    if (touch)
        radius += (float)item->grace * 0.0625f;
    /* Turned back: the transform's transpose over its square. */
    return shape_holds(scene, item, (dx * t->c + dy * t->s) / det,
                       (dy * t->c - dx * t->s) / det, radius);
}

/* ---------------------------------------------------------------- hulls -- */

static float world_scale(const transform *t)
{
    /* In double: the square of the least scale is no number of a float any
     * more. */
    double c = (double)t->c, s = (double)t->s;
    if (t->s == 0)
        return t->c < 0 ? -t->c : t->c;
    return ikvi_sqrt(c * c + s * s);
}

/* Points and a radius say all shapes: overlaps compare hulls, and know no
 * others. `numbers` are as in scene_item.shape, `points` a polygon's; false for
 * what has no shape, or where the transform takes it beyond all numbers. */
static bool fill_hull(uint32_t type, const float *numbers, const float *points,
                      uint32_t count, const transform *t, hull *to)
{
    const float *n = numbers;
    float corners[8];
    to->count = 1;
    to->radius = 0;
    switch (type) {
    case IKV_SHAPE_RECT:
    case IKV_SHAPE_OWN:
        for (int i = 0; i < 4; i++) {
            /* In turn around it, from the upper left on. */
            corners[2 * i] = n[0] + (i == 1 || i == 2 ? n[2] : 0);
            corners[2 * i + 1] = n[1] + (i >= 2 ? n[3] : 0);
        }
        n = corners;
        to->count = 4;
        break;
    case IKV_SHAPE_CIRCLE:
        to->radius = n[2];
        break;
    case IKV_SHAPE_CAPSULE:
        to->count = 2;
        to->radius = n[4];
        break;
    case IKV_SHAPE_POLYGON:
        n = points;
        to->count = count;
        break;
    case IKV_SHAPE_POINT:
        break;
    default:
        return false;
    }
    /* A similarity: circles stay circles, and a radius scales with all. */
    to->radius *= world_scale(t);
    for (uint32_t i = 0; i < to->count; i++) {
        float x = n[2 * i], y = n[2 * i + 1];
        to->points[2 * i] = t->x + (t->c * x - t->s * y);
        to->points[2 * i + 1] = t->y + (t->s * x + t->c * y);
    }
    return reachable(t);
}

bool ikvi_shape_hull(const ikv_scene *scene, const scene_item *item, hull *to)
{
    const float *points = NULL;
    uint32_t count = 0;
    if (item_shape(item) == IKV_SHAPE_POLYGON) {
        const scene_polygon *p = polygon_at(scene, item->shape.polygon);
        points = p->points;
        count = p->count;
    }
    return fill_hull(item_shape(item), item->shape.numbers, points, count,
                     &item->world, to);
}

bool ikvi_area_hull(const ikv_shape *shape, const transform *place, hull *to)
{
    float numbers[SHAPE_NUMBERS];
    if (ikv_scene_shape_fault(shape) != NULL)
        return false;
    shape_numbers(shape, numbers);
    return fill_hull(shape->type, numbers, shape->points, shape->point_count,
                     place, to);
}

/* What rounding may add to a hit, of numbers this large. */
static float rounding(const transform *t, float reach)
{
    return 2e-6f * (number_size(t->x) + number_size(t->y) +
                    (number_size(t->c) + number_size(t->s)) * reach);
}

/* A rectangle's box needs no corners. */
static float rect_box(const scene_item *item, float box[4])
{
    const float *n = item->shape.numbers;
    const transform *t = &item->world;
    float c = number_size(t->c), s = number_size(t->s);
    float reach = number_size(n[0]) + number_size(n[1]) + n[2] + n[3];
    float x = n[0] + n[2] / 2, y = n[1] + n[3] / 2;
    float ex = (c * n[2] + s * n[3]) / 2, ey = (s * n[2] + c * n[3]) / 2;
    float mx = t->x + (t->c * x - t->s * y), my = t->y + (t->s * x + t->c * y);
    box[0] = mx - ex;
    box[1] = my - ey;
    box[2] = mx + ex;
    box[3] = my + ey;
    return reach;
}

static float hull_box(const ikv_scene *scene, const scene_item *item,
                      float box[4])
{
    hull h;
    float reach = 0;
    if (!ikvi_shape_hull(scene, item, &h))
        return 0;
    box[0] = box[2] = h.points[0];
    box[1] = box[3] = h.points[1];
    for (uint32_t i = 1; i < h.count; i++)
        for (uint32_t k = 0; k < 2; k++) {
            float at = h.points[2 * i + k];
            box[k] = at < box[k] ? at : box[k];
            box[k + 2] = at > box[k + 2] ? at : box[k + 2];
        }
    for (uint32_t k = 0; k < 2; k++) {
        /* Before the radius is added: as large as any sum that was rounded. */
        reach += number_size(box[k]) + number_size(box[k + 2]) + h.radius;
        box[k] -= h.radius;
        box[k + 2] += h.radius;
    }
    return reach / world_scale(&item->world);
}

/* Never smaller than the shape: what rounding may lack is added, as a box that
 * is too small would lose a hit. */
bool ikvi_shape_box(const ikv_scene *scene, const scene_item *item,
                    float box[4])
{
    uint32_t type = item_shape(item);
    if (!item_hittable(item))
        return false;
    /* The usual case by the same sums as its test. */
    if (item_unturned_rect(item)) {
        item_rect_box(item, box);
        return true;
    }
    if (!reachable(&item->world))
        return false;
    float reach = type == IKV_SHAPE_RECT || type == IKV_SHAPE_OWN
                      ? rect_box(item, box)
                      : hull_box(scene, item, box);
    float margin = rounding(&item->world, reach);
    if (item->grace > 0)
        margin += ikvi_shape_grace(item) * 1.001f;
    box[0] -= margin;
    box[1] -= margin;
    box[2] += margin;
    box[3] += margin;
    return true;
}

/* The range of a hull's points along an axis. */
static void span_along(const hull *h, const float *axis, float *least,
                       float *most)
{
    IKVI_CHECK(h->count > 0 && h->count <= 2 * IKV_POLYGON_LIMIT);
    for (uint32_t i = 0; i < h->count; i++) {
        float at = axis[0] * h->points[2 * i] + axis[1] * h->points[2 * i + 1];
        *least = i == 0 || at < *least ? at : *least;
        *most = i == 0 || at > *most ? at : *most;
    }
}

static bool axis_parts(const hull *a, const hull *b, float x, float y)
{
    float axis[2] = {x, y}, a0 = 0, a1 = 0, b0 = 0, b1 = 0;
    span_along(a, axis, &a0, &a1);
    span_along(b, axis, &b0, &b1);
    return a1 < b0 || b1 < a0;
}

/* Whether an axis across or along one of a's edges parts the two; along, for
 * what is flat. */
static bool edge_parts(const hull *a, const hull *b)
{
    for (uint32_t i = 0; i < a->count; i++) {
        const float *p = a->points + 2 * i;
        const float *q = a->points + 2 * ((i + 1) % a->count);
        float dx = q[0] - p[0], dy = q[1] - p[1];
        if (axis_parts(a, b, dy, -dx) || axis_parts(a, b, dx, dy))
            return true;
    }
    /* For two points there is no edge: the line between them. */
    return axis_parts(a, b, b->points[0] - a->points[0],
                      b->points[1] - a->points[1]);
}

/* The least square of a distance from b's points to a's edges. */
static float edge_distance(const hull *a, const hull *b)
{
    float least = 0;
    bool first = true;
    for (uint32_t i = 0; i < a->count; i++)
        for (uint32_t k = 0; k < b->count; k++) {
            float d = line_distance(b->points[2 * k], b->points[2 * k + 1],
                                    a->points + 2 * i,
                                    a->points + 2 * ((i + 1) % a->count));
            least = first || d < least ? d : least;
            first = false;
        }
    return least;
}

float ikvi_shape_grace(const scene_item *item)
{
    return (float)item->grace * 0.0625f * world_scale(&item->world);
}

float ikvi_shape_distance(const ikv_scene *scene, const scene_item *item,
                          float x, float y)
{
    hull h, point = {.points = {x, y}, .count = 1};
    if (!ikvi_shape_hull(scene, item, &h))
        return -1;
    float away = ikvi_sqrt((double)edge_distance(&h, &point));
    return away > h.radius ? away - h.radius : 0;
}

float ikvi_hulls_apart(const hull *a, const hull *b)
{
    float one = edge_distance(a, b), other = edge_distance(b, a);
    float away = ikvi_sqrt((double)(one < other ? one : other));
    return away > a->radius + b->radius ? away - a->radius - b->radius : 0;
}

/* Touching counts. Hulls whose edges are apart may still cross, or one may lie
 * in the other: then no axis parts them. */
bool ikvi_hulls_meet(const hull *a, const hull *b)
{
    /* Round corners: hulls meet if their cores are that near. */
    float reach = a->radius + b->radius;
    if (edge_distance(a, b) <= reach * reach ||
        edge_distance(b, a) <= reach * reach)
        return true;
    return !edge_parts(a, b) && !edge_parts(b, a);
}

/* Where a line from (x, y) along (dx, dy) comes within a radius of a point, as a
 * share of its length; `least` if not before. */
static double meet_point(const float *point, double radius, double x, double y,
                         double dx, double dy, double least)
{
    double px = x - (double)point[0], py = y - (double)point[1];
    double a = dx * dx + dy * dy, b = px * dx + py * dy;
    double under = b * b - a * (px * px + py * py - radius * radius);
    if (!(a > 0) || !(under >= 0))
        return least;
    double at = (-b - (double)ikvi_sqrt(under)) / a;
    return at >= 0 && at < least ? at : least;
}

/* The same of an edge: where it comes within the radius beside it. */
static double meet_edge(const float *p, const float *q, double radius, double x,
                        double y, double dx, double dy, double least)
{
    double ex = (double)q[0] - (double)p[0], ey = (double)q[1] - (double)p[1];
    double length = (double)ikvi_sqrt(ex * ex + ey * ey);
    double px = x - (double)p[0], py = y - (double)p[1];
    if (!(length > 0))
        return least;
    /* From the edge, along its normal. */
    double away = (py * ex - px * ey) / length;
    double rate = (dy * ex - dx * ey) / length;
    if (!(rate < 0 || rate > 0))
        return least;
    double at = ((away > 0 ? radius : -radius) - away) / rate;
    double along = ((px + at * dx) * ex + (py + at * dy) * ey) / length;
    return at >= 0 && at < least && along >= 0 && along <= length ? at : least;
}

float ikvi_hull_entry(const hull *line, const hull *of)
{
    const float *from = line->points, *to = line->points + 2;
    hull begin = {
        .count = 1, .radius = line->radius, .points = {from[0], from[1]}};
    if (ikvi_hulls_meet(&begin, of))
        return 0;
    double x = (double)from[0], y = (double)from[1], least = 1;
    double dx = (double)to[0] - x, dy = (double)to[1] - y;
    double radius = (double)of->radius + (double)line->radius;
    for (uint32_t i = 0; i < of->count; i++) {
        const float *p = of->points + 2 * i;
        const float *q = of->points + 2 * ((i + 1) % of->count);
        least = meet_edge(p, q, radius, x, y, dx, dy, least);
        least = meet_point(p, radius, x, y, dx, dy, least);
    }
    return (float)least;
}
