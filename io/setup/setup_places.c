/* setup_places.c - what a setup's places make useless: targets that lie beneath
 * others, or outside of what clips them. Asked of the scene itself, where it is
 * applied; all shapes are convex, so that what holds a shape's corners holds the
 * shape.
 */
#include "setup.h"

enum {
    CORNERS = IKV_POLYGON_LIMIT,
    ABOVE = 16 /* that many are looked at in one place, from the top */
};

typedef struct corner {
    float x, y;
} corner;

/* Corners around a shape in its own space. A rectangle's are a thousandth
 * further in: its right and lower edges are not its own. */
static uint32_t corners_of(const setup_target *t, corner *to)
{
    const ikv_shape *s = &t->config.shape;
    float left = s->x, top = s->y, right = s->x, bottom = s->y;
    switch (s->type) {
    case IKV_SHAPE_RECT:
    case IKV_SHAPE_OWN:
        left += s->width / 1024, top += s->height / 1024;
        right += s->width - s->width / 1024;
        bottom += s->height - s->height / 1024;
        break;
    case IKV_SHAPE_CAPSULE:
        left = (s->x < s->x2 ? s->x : s->x2) - s->radius;
        top = (s->y < s->y2 ? s->y : s->y2) - s->radius;
        right = (s->x > s->x2 ? s->x : s->x2) + s->radius;
        bottom = (s->y > s->y2 ? s->y : s->y2) + s->radius;
        break;
    case IKV_SHAPE_CIRCLE:
        left -= s->radius, top -= s->radius;
        right += s->radius, bottom += s->radius;
        break;
    case IKV_SHAPE_POLYGON:
        for (uint32_t i = 0; i < s->point_count; i++)
            to[i] = (corner){t->points[2 * i], t->points[2 * i + 1]};
        return s->point_count;
    default: /* a point */
        to[0] = (corner){s->x, s->y};
        return 1;
    }
    to[0] = (corner){left, top};
    to[1] = (corner){right, top};
    to[2] = (corner){right, bottom};
    to[3] = (corner){left, bottom};
    return 4;
}

static bool is_within(const ikv_setup *setup, const setup_target *t,
                      const setup_target *top)
{
    for (int at = (int)(t - setup->targets); at != NO_INDEX;
         at = setup->targets[at].parent)
        if (&setup->targets[at] == top)
            return true;
    return false;
}

/* Whether a reaction may change how it lies to the other one. */
static bool may_change(const ikv_setup *setup, const setup_target *t,
                       const setup_target *other)
{
    for (int at = (int)(t - setup->targets); at != NO_INDEX;
         at = setup->targets[at].parent) {
        const setup_target *up = &setup->targets[at];
        if (is_within(setup, other, up))
            return false; /* from here on both change */
        if (up->changed)
            return true;
    }
    return false;
}

/* ---------------------------------------------------------------- covered -- */

static bool is_among(ikv_target target, const ikv_target *list, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++)
        if (list[i].bits == target.bits)
            return true;
    return false;
}

static uint32_t pick_at(const ikv_setup *setup, const setup_target *t,
                        corner at, ikv_target *to)
{
    const ikv_scene *scene = ikv_kit_scene(setup->kit);
    ikv_query query = IKV_QUERY_INIT;
    float view[2];
    if (!ikv_scene_to_view(scene, t->handle, 0, at.x, at.y, view))
        return 0;
    query.x = view[0], query.y = view[1];
    uint32_t count = ikv_scene_pick_all(scene, &query, to, ABOVE);
    return count < ABOVE ? count : ABOVE;
}

static bool can_cover(const ikv_setup *setup, const setup_target *c,
                      const setup_target *t)
{
    return c->config.hit == IKV_HIT_SOLID &&
           c->config.shape.type != IKV_SHAPE_OWN &&
           c->config.layer == t->config.layer && !is_within(setup, c, t) &&
           !may_change(setup, c, t) && !may_change(setup, t, c);
}

static bool holds(const ikv_setup *setup, const setup_target *cover,
                  const setup_target *t, const corner *corners, uint32_t count)
{
    ikv_target there[ABOVE];
    for (uint32_t i = 0; i < count; i++)
        if (!is_among(cover->handle, there,
                      pick_at(setup, t, corners[i], there)))
            return false;
    return true;
}

/* Who lies above all of it, or NULL. */
static const setup_target *find_cover(const ikv_setup *setup,
                                      const setup_target *t,
                                      const corner *corners, uint32_t count)
{
    corner middle = {0, 0};
    ikv_target above[ABOVE];
    for (uint32_t i = 0; i < count; i++) {
        middle.x += corners[i].x / (float)count;
        middle.y += corners[i].y / (float)count;
    }
    uint32_t found = pick_at(setup, t, middle, above);
    /* clipped there, or beneath too many */
    if (!is_among(t->handle, above, found))
        return NULL;
    for (uint32_t i = 0; above[i].bits != t->handle.bits; i++) {
        const setup_target *c = ikvi_setup_target_of(setup, above[i]);
        if (c != NULL && can_cover(setup, c, t) &&
            holds(setup, c, t, corners, count))
            return c;
    }
    return NULL;
}

/* ---------------------------------------------------------------- clipped -- */

typedef struct box {
    float left, top, right, bottom;
} box;

/* Around the corners, which are of `t`, in the space of `of`. */
static bool box_in(const ikv_setup *setup, const setup_target *t,
                   const corner *corners, uint32_t count,
                   const setup_target *of, box *to)
{
    const ikv_scene *scene = ikv_kit_scene(setup->kit);
    for (uint32_t i = 0; i < count; i++) {
        float view[2], layer[2], local[2];
        if (!ikv_scene_to_view(scene, t->handle, 0, corners[i].x, corners[i].y,
                               view) ||
            !ikv_scene_to_local(scene, of->handle, 0, view[0], view[1], layer,
                                local))
            return false;
        if (i == 0)
            *to = (box){local[0], local[1], local[0], local[1]};
        to->left = local[0] < to->left ? local[0] : to->left;
        to->top = local[1] < to->top ? local[1] : to->top;
        to->right = local[0] > to->right ? local[0] : to->right;
        to->bottom = local[1] > to->bottom ? local[1] : to->bottom;
    }
    return count > 0;
}

/* The ancestor that clips all of it away, or NULL. */
static const setup_target *find_clip(const ikv_setup *setup,
                                     const setup_target *t,
                                     const corner *corners, uint32_t count)
{
    for (int at = t->parent; at != NO_INDEX; at = setup->targets[at].parent) {
        const setup_target *up = &setup->targets[at];
        corner around[CORNERS];
        box own, its;
        if (!up->config.clip || up->config.shape.type == IKV_SHAPE_NONE ||
            may_change(setup, t, up))
            continue;
        uint32_t its_count = corners_of(up, around);
        if (box_in(setup, t, corners, count, up, &own) &&
            box_in(setup, up, around, its_count, up, &its) &&
            (own.right < its.left || own.left > its.right ||
             own.bottom < its.top || own.top > its.bottom))
            return up;
    }
    return NULL;
}

/* ---------------------------------------------------------------- survey -- */

static void survey_target(const ikv_setup *setup, const setup_target *t,
                          ikv_mistake_fn told, void *user)
{
    corner corners[CORNERS];
    const uint32_t type = t->config.shape.type;
    if (type == IKV_SHAPE_NONE || t->config.hit == IKV_HIT_OFF ||
        !ikv_scene_shown(ikv_kit_scene(setup->kit), t->handle) ||
        !ikvi_setup_is_heard(setup, t))
        return;
    uint32_t count = corners_of(t, corners);
    const setup_target *clip = find_clip(setup, t, corners, count);
    /* a point is hit by what has a radius alone */
    const setup_target *cover = clip == NULL && type != IKV_SHAPE_POINT
                                    ? find_cover(setup, t, corners, count)
                                    : NULL;
    if (clip != NULL)
        ikvi_tell_mistake(told, user, IKV_MISTAKE_OUTSIDE_CLIP, t->id,
                          "as placed, it is outside of \"%.60s\", which clips "
                          "what is in it: it is never hit",
                          clip->id);
    else if (cover != NULL)
        ikvi_tell_mistake(told, user, IKV_MISTAKE_COVERED, t->id,
                          "as placed, \"%.60s\" lies above all of it: it is "
                          "never hit",
                          cover->id);
}

ikv_status ikv_setup_survey(const ikv_setup *setup, ikv_mistake_fn told,
                            void *user)
{
    if (setup == NULL || told == NULL)
        return IKV_BAD_ARGUMENT;
    if (setup->kit == NULL)
        return IKV_ABSENT;
    for (uint32_t i = 0; i < setup->target_count; i++)
        survey_target(setup, &setup->targets[i], told, user);
    return IKV_OK;
}
