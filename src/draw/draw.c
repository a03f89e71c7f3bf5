/* draw.c - walks a scene and draws what there is of it. */
#include "draw_internal.h"

enum {
    LAYERS = 32
};

/* ---------------------------------------------------------------- styles -- */

/* Line, fill, width, whether dashed. Colours that are told apart by those who
 * don't see red or green, too. */
static const ikv_draw_style dark = {
    .inks = {[IKV_DRAW_SOLID] = {0xd8dee4ff, 0xd8dee41c, 1.5f, false, {0}},
             [IKV_DRAW_PASS] = {0x56b4e9ff, 0x56b4e91c, 1.5f, true, {0}},
             [IKV_DRAW_OFF] = {0x8a939cff, 0, 1, true, {0}},
             [IKV_DRAW_NAME] = {0xd8dee4ff, 0, 1, false, {0}},
             [IKV_DRAW_CLIP] = {0xe69f00ff, 0, 1.5f, true, {0}},
             [IKV_DRAW_MARGIN] = {0xcc79a7ff, 0, 2, true, {0}},
             [IKV_DRAW_ZONE] = {0x009e73ff, 0x009e7333, 1.5f, false, {0}},
             [IKV_DRAW_CONTACT] = {0x00d69bff, 0, 2, false, {0}},
             [IKV_DRAW_BODY] = {0xe69f00ff, 0, 1, false, {0}},
             [IKV_DRAW_POINTER] = {0xf0e442ff, 0xf0e442ff, 2, false, {0}},
             [IKV_DRAW_HOVER] = {0xf0e442ff, 0, 2, false, {0}},
             [IKV_DRAW_CAPTURE] = {0xff7f50ff, 0, 2.5f, false, {0}},
             [IKV_DRAW_FOCUS] = {0x56b4e9ff, 0, 3, true, {0}},
             [IKV_DRAW_TRAIL] = {0xf0e442b0, 0, 1, false, {0}},
             [IKV_DRAW_PRESS] = {0xff7f50ff, 0xff7f50ff, 1, false, {0}},
             [IKV_DRAW_RELEASE] = {0xff7f50ff, 0, 1.5f, false, {0}},
             [IKV_DRAW_MODAL] = {0xcc79a7ff, 0xcc79a71c, 3, true, {0}}},
    .background = 0x101418ff,
    .pointer_radius = 7};

static const ikv_draw_style light = {
    .inks = {[IKV_DRAW_SOLID] = {0x20262cff, 0x20262c14, 1.5f, false, {0}},
             [IKV_DRAW_PASS] = {0x0072b2ff, 0x0072b21c, 1.5f, true, {0}},
             [IKV_DRAW_OFF] = {0x68727cff, 0, 1, true, {0}},
             [IKV_DRAW_NAME] = {0x20262cff, 0, 1, false, {0}},
             [IKV_DRAW_CLIP] = {0x9a5c00ff, 0, 1.5f, true, {0}},
             [IKV_DRAW_MARGIN] = {0xa64d79ff, 0, 2, true, {0}},
             [IKV_DRAW_ZONE] = {0x007a58ff, 0x009e7326, 1.5f, false, {0}},
             [IKV_DRAW_CONTACT] = {0x007a58ff, 0, 2, false, {0}},
             [IKV_DRAW_BODY] = {0x9a5c00ff, 0, 1, false, {0}},
             [IKV_DRAW_POINTER] = {0xb00020ff, 0xb00020ff, 2, false, {0}},
             [IKV_DRAW_HOVER] = {0xb00020ff, 0, 2, false, {0}},
             [IKV_DRAW_CAPTURE] = {0xb84f00ff, 0, 2.5f, false, {0}},
             [IKV_DRAW_FOCUS] = {0x0072b2ff, 0, 3, true, {0}},
             [IKV_DRAW_TRAIL] = {0xb00020b0, 0, 1, false, {0}},
             [IKV_DRAW_PRESS] = {0xb84f00ff, 0xb84f00ff, 1, false, {0}},
             [IKV_DRAW_RELEASE] = {0xb84f00ff, 0, 1.5f, false, {0}},
             [IKV_DRAW_MODAL] = {0xa64d79ff, 0xa64d791c, 3, true, {0}}},
    .background = 0xffffffff,
    .pointer_radius = 7};

const char *ikv_draw_name_of(uint32_t what)
{
    static const char *const names[IKV_DRAW_COUNT] = {
        [IKV_DRAW_SOLID] = "solid", [IKV_DRAW_PASS] = "pass",
        [IKV_DRAW_OFF] = "off",     [IKV_DRAW_NAME] = "name",
        [IKV_DRAW_CLIP] = "clip",   [IKV_DRAW_MARGIN] = "margin",
        [IKV_DRAW_ZONE] = "zone",   [IKV_DRAW_CONTACT] = "contact",
        [IKV_DRAW_BODY] = "body",   [IKV_DRAW_POINTER] = "pointer",
        [IKV_DRAW_HOVER] = "hover", [IKV_DRAW_CAPTURE] = "capture",
        [IKV_DRAW_FOCUS] = "focus", [IKV_DRAW_TRAIL] = "trail",
        [IKV_DRAW_PRESS] = "press", [IKV_DRAW_RELEASE] = "release",
        [IKV_DRAW_MODAL] = "modal",
    };
    return what < IKV_DRAW_COUNT ? names[what] : NULL;
}

const ikv_draw_style *ikv_draw_dark(void)
{
    return &dark;
}

const ikv_draw_style *ikv_draw_light(void)
{
    return &light;
}

/* --------------------------------------------------------------- targets -- */

/* Its position in the view; false if it or its layer is not shown. */
static bool position_of(const drawing *d, ikv_target target, float view[2])
{
    const ikv_scene *scene = d->config->scene;
    const uint8_t seen_by = d->config->view;
    return ikv_scene_shown(scene, target) &&
           !ikv_scene_camera(scene, ikv_scene_layer(scene, target), seen_by)
                .hidden &&
           ikv_scene_to_view(scene, target, seen_by, 0, 0, view);
}

static void draw_name(const drawing *d)
{
    const ikv_draw_config *c = d->config;
    const ikv_draw_mark mark = mark_of(d, IKV_DRAW_NAME);
    char buffer[96];
    ikvi_text text = {buffer, sizeof buffer, 0};
    if (c->canvas.text == NULL)
        return;
    const char *name = c->name != NULL ? c->name(c->user, d->target) : NULL;
    if (name != NULL)
        ikvi_text_add(&text, name);
    else
        ikvi_text_unsigned(&text, d->target.bits);
    ikvi_text_add(&text, " z");
    ikvi_text_signed(&text, ikv_scene_z(c->scene, d->target));
    ikvi_text_end(&text);
    c->canvas.text(c->canvas.user, &mark, d->at[0], d->at[1], buffer);
}

static void draw_contacts(const drawing *d)
{
    ikv_contact contact;
    float other[2];
    for (uint32_t nth = 0;
         ikv_overlaps_contact(d->config->overlaps, d->target, 0, nth, &contact);
         nth++)
        if (position_of(d, contact.other, other))
            ikvi_draw_line(d, IKV_DRAW_CONTACT, d->at[0], d->at[1], other[0],
                           other[1]);
}

/* A body has a cross, its pieces a line to it. */
static void draw_body(const drawing *d)
{
    const float size = 4;
    ikv_target body = ikv_scene_body(d->config->scene, d->target);
    float at[2];
    if (body.bits == 0 || !position_of(d, body, at))
        return;
    if (body.bits == d->target.bits) {
        /* who is nobody's piece is a body by himself, as any target */
        ikv_target piece = ikv_scene_next(d->config->scene, body, body);
        if (ikv_scene_body(d->config->scene, piece).bits != body.bits)
            return;
        ikvi_draw_line(d, IKV_DRAW_BODY, at[0] - size, at[1], at[0] + size,
                       at[1]);
        ikvi_draw_line(d, IKV_DRAW_BODY, at[0], at[1] - size, at[0],
                       at[1] + size);
    } else {
        ikvi_draw_line(d, IKV_DRAW_BODY, d->at[0], d->at[1], at[0], at[1]);
    }
}

static void draw_zone(const drawing *d)
{
    if (d->config->overlaps == NULL ||
        ikv_overlaps_sensing(d->config->overlaps, d->target).senses == 0)
        return;
    if (draws(d, IKV_DRAW_ZONE))
        ikvi_draw_outline(d, IKV_DRAW_ZONE, 0);
    if (draws(d, IKV_DRAW_CONTACT))
        draw_contacts(d);
}

static void draw_target(const drawing *d)
{
    const ikv_scene *scene = d->config->scene;
    const uint32_t hit = ikv_scene_hit(scene, d->target);
    uint32_t outline = IKV_DRAW_OFF;
    if (hit == IKV_HIT_SOLID)
        outline = IKV_DRAW_SOLID;
    else if (hit == IKV_HIT_PASS)
        outline = IKV_DRAW_PASS;
    if (draws(d, outline))
        ikvi_draw_outline(d, outline, 0);
    if (ikv_scene_clip(scene, d->target) && draws(d, IKV_DRAW_CLIP))
        ikvi_draw_outline(d, IKV_DRAW_CLIP, 0);
    if (ikv_scene_grace(scene, d->target) > 0 && draws(d, IKV_DRAW_MARGIN))
        ikvi_draw_outline(d, IKV_DRAW_MARGIN,
                          ikv_scene_grace(scene, d->target));
    draw_zone(d);
    if (draws(d, IKV_DRAW_BODY))
        draw_body(d);
    if (draws(d, IKV_DRAW_NAME))
        draw_name(d);
}

/* Takes up one that the filters let through and that can be seen. */
static bool take_target(drawing *d, ikv_target target, uint32_t layer)
{
    const ikv_draw_config *c = d->config;
    d->target = target;
    return ikv_scene_layer(c->scene, target) == layer &&
           (c->tags == 0 ||
            (ikv_scene_tags(c->scene, target) & c->tags) != 0) &&
           position_of(d, target, d->at);
}

static void draw_targets(drawing *d, uint32_t layer)
{
    const ikv_target none = {0};
    ikv_target at = none;
    while ((at = ikv_scene_next(d->config->scene, none, at)).bits != 0)
        if (take_target(d, at, layer))
            draw_target(d);
    d->target = none;
}

/* Those that targets have. */
static uint32_t layers_of(const ikv_scene *scene)
{
    const ikv_target none = {0};
    ikv_target at = none;
    uint32_t layers = 0;
    while ((at = ikv_scene_next(scene, none, at)).bits != 0)
        layers |= 1u << ikv_scene_layer(scene, at);
    return layers;
}

/* -------------------------------------------------------------- pointers -- */

static void draw_trail(const drawing *d)
{
    const ikv_trail *t = d->config->trail;
    const float radius = d->style->pointer_radius / 2;
    uint64_t kept = t->count < t->room ? t->count : t->room;
    for (uint64_t nth = t->count - kept; nth < t->count; nth++) {
        const ikv_trail_point *p = &t->points[nth % t->room];
        /* what has gone from the ring is not drawn to */
        const ikv_trail_point *before =
            p->before > 0 && p->before <= nth - (t->count - kept)
                ? &t->points[(nth - p->before) % t->room]
                : NULL;
        if (p->view != d->config->view)
            continue;
        if (before != NULL && before->view == p->view &&
            draws(d, IKV_DRAW_TRAIL))
            ikvi_draw_line(d, IKV_DRAW_TRAIL, before->x, before->y, p->x, p->y);
        if (p->kind == IKV_KIND_POINTER_DOWN && draws(d, IKV_DRAW_PRESS))
            ikvi_draw_circle(d, IKV_DRAW_PRESS, p->x, p->y, radius);
        if ((p->kind == IKV_KIND_POINTER_UP ||
             p->kind == IKV_KIND_POINTER_CANCEL) &&
            draws(d, IKV_DRAW_RELEASE))
            ikvi_draw_circle(d, IKV_DRAW_RELEASE, p->x, p->y, radius);
    }
}

static void draw_held(drawing *d, uint32_t what, ikv_target target)
{
    float at[2];
    d->target = target;
    if (draws(d, what) && position_of(d, target, at))
        ikvi_draw_outline(d, what, 0);
}

static void draw_pointer(drawing *d, const ikv_routed_pointer *p)
{
    const ikv_target none = {0};
    const ikv_canvas *canvas = &d->config->canvas;
    float at[2];
    draw_held(d, IKV_DRAW_HOVER, p->over);
    draw_held(d, p->drag_accepts ? IKV_DRAW_FOCUS : IKV_DRAW_HOVER,
              p->drag_over);
    draw_held(d, IKV_DRAW_CAPTURE, p->captured);
    if (draws(d, IKV_DRAW_CAPTURE) && p->captured.bits != 0 &&
        position_of(d, p->captured, at))
        ikvi_draw_line(d, IKV_DRAW_CAPTURE, p->x, p->y, at[0], at[1]);
    d->target = none;
    if (!draws(d, IKV_DRAW_POINTER) || canvas->circle == NULL)
        return;
    /* without a button an empty one */
    ikv_ink ink = d->style->inks[IKV_DRAW_POINTER];
    ikv_draw_mark mark = {IKV_DRAW_POINTER, 0, p->over, &ink};
    ink.fill = p->buttons != 0 ? ink.fill : 0;
    canvas->circle(canvas->user, &mark, p->x, p->y, d->style->pointer_radius);
}

static void draw_pointers(drawing *d)
{
    const ikv_router *router = d->config->router;
    ikv_routed_pointer p = IKV_ROUTED_POINTER_INIT;
    for (uint8_t seat = 0; seat < IKV_SEAT_LIMIT; seat++) {
        draw_held(d, IKV_DRAW_MODAL, ikv_router_modal(router, seat));
        draw_held(d, IKV_DRAW_FOCUS, ikv_router_focused(router, seat));
    }
    for (uint32_t nth = 0; ikv_router_pointer(router, nth, &p); nth++)
        if (p.view == d->config->view)
            draw_pointer(d, &p);
}

ikv_status ikv_draw(const ikv_draw_config *config)
{
    if (config == NULL || config->scene == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    drawing d = {.config = config,
                 .style = config->style != NULL ? config->style : &dark};
    uint32_t layers = layers_of(config->scene);
    layers &= config->layers != 0 ? config->layers : UINT32_MAX;
    for (uint32_t layer = 0; layer < LAYERS; layer++)
        if ((layers >> layer & 1) != 0 &&
            !ikv_scene_camera(config->scene, layer, config->view).hidden)
            draw_targets(&d, layer);
    if (config->router != NULL)
        draw_pointers(&d);
    if (config->trail != NULL && config->trail->points != NULL)
        draw_trail(&d);
    return IKV_OK;
}
