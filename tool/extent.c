/* extent.c - around all that is drawn, for setups that say nothing of their view.
 */
#include "picture.h"

static void reach(extent *e, float x, float y)
{
    if (!e->any)
        *e = (extent){x, y, x, y, true};
    e->left = x < e->left ? x : e->left;
    e->top = y < e->top ? y : e->top;
    e->right = x > e->right ? x : e->right;
    e->bottom = y > e->bottom ? y : e->bottom;
}

static void reach_line(void *user, const ikv_draw_mark *mark, float x, float y,
                       float x2, float y2)
{
    (void)mark;
    reach(user, x, y);
    reach(user, x2, y2);
}

static void reach_polygon(void *user, const ikv_draw_mark *mark,
                          const float *points, uint32_t count)
{
    (void)mark;
    for (uint32_t i = 0; i < count; i++)
        reach(user, points[2 * i], points[2 * i + 1]);
}

static void reach_circle(void *user, const ikv_draw_mark *mark, float x,
                         float y, float radius)
{
    (void)mark;
    reach(user, x - radius, y - radius);
    reach(user, x + radius, y + radius);
}

extent extent_of(const ikv_setup *setup, const ikv_draw_config *config)
{
    float width, height;
    ikv_draw_config measured = *config;
    extent e = {0, 0, 1, 1, false};
    ikv_setup_view(setup, &width, &height);
    if (width > 1 || height > 1)
        return (extent){0, 0, width, height, true};
    measured.canvas =
        (ikv_canvas){&e, reach_line, reach_polygon, reach_circle, NULL};
    ikv_draw(&measured);
    /* a point alone has something around it */
    float margin = (e.right - e.left + e.bottom - e.top) / 40 + 1;
    return (extent){e.left - margin, e.top - margin, e.right + margin,
                    e.bottom + margin, true};
}
