/* watch_scene.c - the scene in cells: each ink has a character of its own, so that
 * it is told without colours, too. */
#include "watch.h"

#include <math.h>
#include <string.h>

/* Of an outline; 0: by its direction. */
static const char characters[IKV_DRAW_COUNT] = {
    [IKV_DRAW_SOLID] = 0,     [IKV_DRAW_PASS] = '%',
    [IKV_DRAW_OFF] = '.',     [IKV_DRAW_CLIP] = '"',
    [IKV_DRAW_MARGIN] = ',',  [IKV_DRAW_ZONE] = ':',
    [IKV_DRAW_CONTACT] = '*', [IKV_DRAW_BODY] = '+',
    [IKV_DRAW_POINTER] = 'o', [IKV_DRAW_HOVER] = '=',
    [IKV_DRAW_CAPTURE] = '@', [IKV_DRAW_FOCUS] = '^',
    [IKV_DRAW_TRAIL] = '\'',  [IKV_DRAW_PRESS] = 'x',
    [IKV_DRAW_RELEASE] = 'u', [IKV_DRAW_MODAL] = '&',
};

static float cell_x(const watcher *w, float x)
{
    return (x - w->view.left) * w->scale_x;
}

static float cell_y(const watcher *w, float y)
{
    return (y - w->view.top) * w->scale_y;
}

/* "-", "|", "/" or "\" for what is hit. */
static uint32_t character_of(uint16_t what, float dx, float dy)
{
    if (characters[what] != 0)
        return (uint32_t)characters[what];
    float wide = fabsf(dx), high = fabsf(dy);
    if (wide > 3 * high)
        return '-';
    if (high > 3 * wide)
        return '|';
    return (dx > 0) == (dy > 0) ? '\\' : '/';
}

static void draw_edge(const watcher *w, const ikv_draw_mark *mark, float x,
                      float y, float x2, float y2)
{
    float from_x = cell_x(w, x), from_y = cell_y(w, y);
    float to_x = cell_x(w, x2), to_y = cell_y(w, y2);
    panel_line(&w->scene, from_x, from_y, to_x, to_y,
               character_of(mark->what, to_x - from_x, to_y - from_y),
               (uint8_t)mark->what);
}

static void draw_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    draw_edge(user, mark, x, y, x2, y2);
}

static void draw_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        const float *to = &points[2 * ((i + 1) % count)];
        draw_edge(user, mark, points[2 * i], points[2 * i + 1], to[0], to[1]);
    }
}

/* Of what a pointer does one cell, of others the outline. */
static void draw_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    enum {
        EDGES = 24
    };
    const watcher *w = user;
    const float turn = 6.2831853f / EDGES;
    bool pressed =
        mark->what == IKV_DRAW_POINTER && (mark->ink->fill & 0xff) != 0;
    if (mark->what == IKV_DRAW_POINTER || mark->what >= IKV_DRAW_TRAIL ||
        radius * w->scale_x < 0.5f) {
        float column = cell_x(w, x), row = cell_y(w, y);
        uint32_t character = pressed ? 'O'
                             : characters[mark->what]
                                 ? (uint32_t)characters[mark->what]
                                 : '#';
        panel_line(&w->scene, column, row, column, row, character,
                   (uint8_t)mark->what);
        return;
    }
    for (int i = 0; i < EDGES; i++) {
        float from = turn * (float)i, to = turn * (float)(i + 1);
        draw_edge(w, mark, x + radius * cosf(from), y + radius * sinf(from),
                  x + radius * cosf(to), y + radius * sinf(to));
    }
}

static bool is_free(const panel *p, int column, int row, int length)
{
    for (int i = 0; i < length; i++)
        if (column + i < p->columns && row < p->rows &&
            p->grid->at[p->row + row][p->column + column + i].ink ==
                IKV_DRAW_NAME)
            return false;
    return true;
}

/* Names without their z, beneath those that lie there already. */
static void draw_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    const watcher *w = user;
    const panel *p = &w->scene;
    const char *z = strrchr(text, ' ');
    int length = z != NULL ? (int)(z - text) : (int)strlen(text);
    float at_x = cell_x(w, x), at_y = cell_y(w, y);
    if (!(at_x > -100 && at_y > -1 && at_x < (float)p->columns &&
          at_y < (float)p->rows))
        return;
    int column = (int)at_x + 1, row = at_y > 0 ? (int)at_y : 0;
    if (column + length > p->columns)
        column = p->columns > length ? p->columns - length : 0;
    column = column > 0 ? column : 0;
    for (int tries = 0; tries < 6 && !is_free(p, column, row, length); tries++)
        row++;
    if (!is_free(p, column, row, length))
        return; /* none is better than one upon another */
    panel_text(p, column, row, (uint8_t)mark->what, "%.*s", length, text);
}

static const char *name_of(void *user, ikv_target target)
{
    return ikv_setup_target_name(((watcher *)user)->setup, target);
}

static ikv_draw_config config_of(watcher *w)
{
    ikv_draw_config config = IKV_DRAW_INIT;
    config.scene = ikv_kit_scene(w->kit);
    config.router = ikv_kit_router(w->kit);
    config.overlaps = ikv_kit_overlaps(w->kit);
    config.trail = &w->trail;
    config.name = name_of;
    config.user = w;
    config.canvas =
        (ikv_canvas){w, draw_line, draw_polygon, draw_circle, draw_text};
    return config;
}

/* As large as the panel lets it be: a cell is twice as high as it is wide. */
static void fit(watcher *w)
{
    float width = w->view.right - w->view.left;
    float height = w->view.bottom - w->view.top;
    float wide = (float)w->scene.columns / width;
    float high = 2 * (float)w->scene.rows / height;
    w->scale_x = wide < high ? wide : high;
    w->scale_y = w->scale_x / 2;
}

void watch_draw_scene(watcher *w)
{
    ikv_draw_config config = config_of(w);
    if (!w->view.any)
        w->view = extent_of(w->setup, &config);
    fit(w);
    /* one above the other: outlines and ways, where it was pressed, names,
     * pointers */
    const uint32_t all = (1u << IKV_DRAW_COUNT) - 1, name = 1u << IKV_DRAW_NAME;
    const uint32_t presses = 1u << IKV_DRAW_PRESS | 1u << IKV_DRAW_RELEASE;
    const uint32_t pointer = 1u << IKV_DRAW_POINTER;
    const uint32_t passes[] = {all & ~(name | presses | pointer), presses, name,
                               pointer};
    for (int i = 0; i < 4; i++) {
        config.what = passes[i];
        ikv_draw(&config);
    }
}

bool watch_place(const watcher *w, int column, int row, float *x, float *y)
{
    float in_x = (float)(column - w->scene.column) + 0.5f;
    float in_y = (float)(row - w->scene.row) + 0.5f;
    if (w->scale_x > 0) {
        *x = w->view.left + in_x / w->scale_x;
        *y = w->view.top + in_y / w->scale_y;
    }
    return w->scale_x > 0 && in_x >= 0 && in_y >= 0 &&
           in_x < (float)w->scene.columns && in_y < (float)w->scene.rows &&
           *x <= w->view.right && *y <= w->view.bottom;
}
