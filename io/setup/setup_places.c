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

/* A point of the target's own space, as a query; false if none leads there. */
static bool query_at(const ikv_setup *setup, const setup_target *t, corner at,
                     ikv_query *query)
{
    float view[2];
    *query = (ikv_query)IKV_QUERY_INIT;
    if (!ikv_scene_to_view(ikv_kit_scene(setup->kit), t->handle, 0, at.x, at.y,
                           view))
        return false;
    query->x = view[0], query->y = view[1];
    return true;
}

/* What lies at a place, from the top down. */
typedef struct place_seen {
    ikv_query query;
    ikv_target above[ABOVE];
    uint32_t count;
} place_seen;

/* One for each corner and the middle: many targets lie where the last one lay. */
typedef struct survey {
    const ikv_setup *setup;
    ikv_mistake_fn told;
    void *user;
    place_seen seen[CORNERS + 1];
} survey;

static const place_seen *look_at(survey *s, const setup_target *t, uint32_t nth,
                                 corner at)
{
    static const place_seen nothing;
    place_seen *seen = &s->seen[nth];
    ikv_query query;
    if (!query_at(s->setup, t, at, &query))
        return &nothing;
    if (seen->query.size == query.size && seen->query.x == query.x &&
        seen->query.y == query.y)
        return seen;
    seen->query = query;
    seen->count = ikv_scene_pick_all(ikv_kit_scene(s->setup->kit), &query,
                                     seen->above, ABOVE);
    seen->count = seen->count < ABOVE ? seen->count : ABOVE;
    return seen;
}

/* Whether it lies there, but for what lies above it. */
static bool is_there(const ikv_setup *setup, const setup_target *t, corner at)
{
    ikv_query query;
    ikv_obstacle why = {.code = IKV_WHY_NONE};
    return query_at(setup, t, at, &query) &&
           ikv_scene_probe(ikv_kit_scene(setup->kit), &query, t->handle, &why,
                           1) == 1 &&
           why.code == IKV_WHY_COVERED;
}

static bool can_cover(const ikv_setup *setup, const setup_target *c,
                      const setup_target *t)
{
    return c->config.hit == IKV_HIT_SOLID &&
           c->config.shape.type != IKV_SHAPE_OWN &&
           c->config.layer == t->config.layer && !is_within(setup, c, t) &&
           !may_change(setup, c, t) && !may_change(setup, t, c);
}

static bool holds(survey *s, const setup_target *cover, const setup_target *t,
                  const corner *corners, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        const place_seen *there = look_at(s, t, i, corners[i]);
        if (!is_among(cover->handle, there->above, there->count))
            return false;
    }
    return true;
}

/* Who lies above all of it, or NULL. */
static const setup_target *find_cover(survey *s, const setup_target *t,
                                      const corner *corners, uint32_t count)
{
    corner middle = {0, 0};
    for (uint32_t i = 0; i < count; i++) {
        middle.x += corners[i].x / (float)count;
        middle.y += corners[i].y / (float)count;
    }
    const place_seen *there = look_at(s, t, CORNERS, middle);
    /* clipped there, or beneath many */
    if (!is_among(t->handle, there->above, there->count) &&
        !is_there(s->setup, t, middle))
        return NULL;
    for (uint32_t i = 0;
         i < there->count && there->above[i].bits != t->handle.bits; i++) {
        const setup_target *c = ikvi_setup_target_of(s->setup, there->above[i]);
        if (c != NULL && can_cover(s->setup, c, t) &&
            holds(s, c, t, corners, count))
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

static void survey_target(survey *s, const setup_target *t)
{
    const ikv_setup *setup = s->setup;
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
                                    ? find_cover(s, t, corners, count)
                                    : NULL;
    if (clip != NULL)
        ikvi_tell_mistake(s->told, s->user, IKV_MISTAKE_OUTSIDE_CLIP, t->id,
                          "as placed, it is outside of \"%.60s\", which clips "
                          "what is in it: it is never hit",
                          clip->id);
    else if (cover != NULL)
        ikvi_tell_mistake(s->told, s->user, IKV_MISTAKE_COVERED, t->id,
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
    survey s = {.setup = setup, .told = told, .user = user};
    for (uint32_t i = 0; i < setup->target_count; i++)
        survey_target(&s, &setup->targets[i]);
    return IKV_OK;
}
