/* draw_shape.c - shapes through cameras, as lines, polygons and circles. */
#include "draw_internal.h"

enum {
    ARC = 8 /* corners of a half circle */
};

/* Half a circle of radius 1, from (0, -1) by (1, 0) to (0, 1). */
static const float arc[ARC + 1][2] = {
    {0, -1},
    {0.38268343f, -0.92387953f},
    {0.70710678f, -0.70710678f},
    {0.92387953f, -0.38268343f},
    {1, 0},
    {0.92387953f, 0.38268343f},
    {0.70710678f, 0.70710678f},
    {0.38268343f, 0.92387953f},
    {0, 1},
};

void ikvi_draw_line(const drawing *d, uint32_t what, float x, float y, float x2,
                    float y2)
{
    const ikv_canvas *canvas = &d->config->canvas;
    const ikv_draw_mark mark = mark_of(d, what);
    if (canvas->line != NULL)
        canvas->line(canvas->user, &mark, x, y, x2, y2);
}

void ikvi_draw_circle(const drawing *d, uint32_t what, float x, float y,
                      float radius)
{
    const ikv_canvas *canvas = &d->config->canvas;
    const ikv_draw_mark mark = mark_of(d, what);
    if (canvas->circle != NULL)
        canvas->circle(canvas->user, &mark, x, y, radius);
}

/* A point of the target's space in the view. */
static bool to_view(const drawing *d, float x, float y, float out[2])
{
    return ikv_scene_to_view(d->config->scene, d->target, d->config->view, x, y,
                             out);
}

/* Of the target's space, all of which must be there. */
static void draw_polygon(const drawing *d, uint32_t what, const float *points,
                         uint32_t count)
{
    float view[4 * (ARC + 1)];
    const ikv_canvas *canvas = &d->config->canvas;
    const ikv_draw_mark mark = mark_of(d, what);
    for (uint32_t i = 0; i < count; i++)
        if (!to_view(d, points[2 * i], points[2 * i + 1], &view[2 * i]))
            return;
    if (canvas->polygon != NULL)
        canvas->polygon(canvas->user, &mark, view, count);
}

/* How long one unit of the target's space is in the view: all scales are the
 * same both ways. */
static float scale_of(const drawing *d)
{
    const ikv_scene *scene = d->config->scene;
    float scale = ikv_scene_camera(scene, ikv_scene_layer(scene, d->target),
                                   d->config->view)
                      .zoom;
    scale = scale > 0 ? scale : 1;
    ikv_target root = ikv_bus_root(NULL);
    for (ikv_target at = d->target; at.bits != root.bits && at.bits != 0;
         at = ikv_scene_parent(scene, at))
        scale *= ikv_scene_scale(scene, at);
    return scale;
}

static void draw_round(const drawing *d, uint32_t what, float x, float y,
                       float radius)
{
    float at[2];
    if (to_view(d, x, y, at))
        ikvi_draw_circle(d, what, at[0], at[1], radius * scale_of(d));
}

/* A capsule's outline: half a circle at each end. `along` is its direction, of
 * length 1. */
static void draw_capsule(const drawing *d, uint32_t what, const ikv_shape *s,
                         float radius)
{
    float points[4 * (ARC + 1)];
    ikv_rotation along = ikv_scene_direction(s->x2 - s->x, s->y2 - s->y);
    if (s->x2 == s->x && s->y2 == s->y)
        along = (ikv_rotation){1, 0}; /* a circle */
    for (uint32_t i = 0; i <= ARC; i++) {
        float x = arc[i][0] * radius, y = arc[i][1] * radius;
        float turned_x = x * along.cos - y * along.sin;
        float turned_y = x * along.sin + y * along.cos;
        points[2 * i] = s->x2 + turned_x;
        points[2 * i + 1] = s->y2 + turned_y;
        points[2 * (ARC + 1 + i)] = s->x - turned_x;
        points[2 * (ARC + 1 + i) + 1] = s->y - turned_y;
    }
    draw_polygon(d, what, points, 2 * (ARC + 1));
}

static void draw_rect(const drawing *d, uint32_t what, const ikv_shape *s,
                      float grown)
{
    const float left = s->x - grown, top = s->y - grown;
    const float right = s->x + s->width + grown;
    const float bottom = s->y + s->height + grown;
    const float points[] = {left, top, right, top, right, bottom, left, bottom};
    draw_polygon(d, what, points, 4);
}

void ikvi_draw_outline(const drawing *d, uint32_t what, float grown)
{
    const ikv_shape s = ikv_scene_shape(d->config->scene, d->target);
    switch (s.type) {
    case IKV_SHAPE_RECT:
    case IKV_SHAPE_OWN:
        draw_rect(d, what, &s, grown);
        break;
    case IKV_SHAPE_CIRCLE:
        draw_round(d, what, s.x, s.y, s.radius + grown);
        break;
    case IKV_SHAPE_CAPSULE:
        draw_capsule(d, what, &s, s.radius + grown);
        break;
    case IKV_SHAPE_POLYGON:
        /* grown it would have round corners */
        for (uint32_t i = 0; grown > 0 && i < s.point_count; i++)
            draw_round(d, what, s.points[2 * i], s.points[2 * i + 1], grown);
        if (!(grown > 0))
            draw_polygon(d, what, s.points, s.point_count);
        break;
    case IKV_SHAPE_POINT:
        draw_round(d, what, s.x, s.y, grown);
        break;
    default:
        break;
    }
}
