/* ikvar/draw.h - a scene as it is, for your own debug renderer: outlines, zones,
 * pointers and what they hold, as lines, polygons, circles and texts.
 *
 * Overview
 *   You give four functions that draw in view units, and get the scene through
 *   its cameras, from the bottom up:
 *
 *       ikv_draw_config config = IKV_DRAW_INIT;
 *       config.scene = scene, config.router = router;
 *       config.canvas = canvas;                 // the four
 *       ikv_draw(&config);
 *
 *   What is not given is not drawn: without a router no pointers, without
 *   overlaps no zones, without a trail no paths. It changes nothing, and costs
 *   nothing but when it is called.
 *
 * Memory
 *   None. The points of a trail are yours.
 *
 * Threads
 *   The scene's thread; inside handlers, too.
 */
#ifndef IKVAR_DRAW_H
#define IKVAR_DRAW_H

#include "overlap.h"
#include "router.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What there is to draw. Its bit in `what` is 1 << IKV_DRAW_...; each has an ink.
 *   SOLID, PASS, OFF  outlines of targets by what a hit means
 *   NAME      of a target and its z, at its position
 *   CLIP      outlines of those that clip what is in them
 *   MARGIN    how far a finger may be off
 *   ZONE      outlines of those that sense others
 *   CONTACT   a line from a zone to what is in it
 *   BODY      a cross at a body, and lines to its pieces
 *   POINTER   a circle at each pointer, filled while a button is down
 *   HOVER, CAPTURE, FOCUS  outlines of what a pointer is over, what has captured
 *             it (with a line to it), and what has the focus
 *   TRAIL     where pointers went
 *   PRESS, RELEASE  where they went down and up
 *   MODAL     outlines of what is modal for a seat
 */
enum {
    IKV_DRAW_SOLID = 0,
    IKV_DRAW_PASS,
    IKV_DRAW_OFF,
    IKV_DRAW_NAME,
    IKV_DRAW_CLIP,
    IKV_DRAW_MARGIN,
    IKV_DRAW_ZONE,
    IKV_DRAW_CONTACT,
    IKV_DRAW_BODY,
    IKV_DRAW_POINTER,
    IKV_DRAW_HOVER,
    IKV_DRAW_CAPTURE,
    IKV_DRAW_FOCUS,
    IKV_DRAW_TRAIL,
    IKV_DRAW_PRESS,
    IKV_DRAW_RELEASE,
    IKV_DRAW_MODAL,
    IKV_DRAW_COUNT
};

/* "solid", "pass" ... in lower case; NULL beyond the last.
 * Context: any thread; O(1). */
IKV_API const char *ikv_draw_name_of(uint32_t what);

/* How something is drawn; colours as 0xRRGGBBAA, without alpha not at all. */
typedef struct ikv_ink {
    uint32_t line, fill;
    float width; /* of lines, in view units */
    bool dashed;
    uint8_t reserved[3];
} ikv_ink;

typedef struct ikv_draw_style {
    ikv_ink inks[IKV_DRAW_COUNT];
    uint32_t background;
    float pointer_radius; /* view units */
} ikv_draw_style;

/* Made for a dark and for a light ground. Context: any thread; O(1). */
IKV_API const ikv_draw_style *ikv_draw_dark(void);
IKV_API const ikv_draw_style *ikv_draw_light(void);

/* What is being drawn: IKV_DRAW_..., of whom (zero bits: of nobody), and how. */
typedef struct ikv_draw_mark {
    uint16_t what;
    uint16_t reserved;
    ikv_target target;
    const ikv_ink *ink;
} ikv_draw_mark;

/* Yours, in view units; NULL draws none such. What they are given is valid for
 * the call. A polygon is closed, its points are x and y in turn. */
typedef struct ikv_canvas {
    void *user;
    void (*line)(void *user, const ikv_draw_mark *mark, float x, float y,
                 float x2, float y2);
    void (*polygon)(void *user, const ikv_draw_mark *mark, const float *points,
                    uint32_t count);
    void (*circle)(void *user, const ikv_draw_mark *mark, float x, float y,
                   float radius);
    void (*text)(void *user, const ikv_draw_mark *mark, float x, float y,
                 const char *text);
} ikv_canvas;

/* ---------------------------------------------------------------- trails -- */

/* Where a pointer was: its event's kind, pointer.move, down, up or cancel. */
typedef struct ikv_trail_point {
    float x, y;
    ikv_kind kind;
    uint16_t device, pointer;
    uint8_t view;
    uint8_t reserved;
    uint32_t before; /* so many points ago the same pointer was before; 0: not,
                        or a finger that was put down */
    IKV_ALIGNED(8) uint64_t time_ns;
} ikv_trail_point;

/* A ring of points; begin with zeros and your array. */
typedef struct ikv_trail {
    ikv_trail_point *points;
    uint32_t room;
    uint32_t reserved;
    IKV_ALIGNED(8) uint64_t count; /* ever noted */
} ikv_trail;

/* Notes where a pointer was; other kinds of events are left alone. Call it from
 * a handler of these kinds, or a watcher.
 * Context: owner thread, inside handlers and watchers too; O(room) if many
 * pointers come. */
IKV_API void ikv_trail_note(ikv_trail *trail, const ikv_event *event);

/* ---------------------------------------------------------------- drawing -- */

/*   what     bits of 1 << IKV_DRAW_...; 0: all
 *   layers   bit n: layer n; 0: all
 *   tags     only targets with one of these; 0: all
 *   view     through whose cameras
 *   scene    needed
 *   router, overlaps, trail  or NULL
 *   style    NULL: ikv_draw_dark()
 *   name     a target's, or NULL; NULL: by its number */
typedef struct ikv_draw_config {
    uint32_t size;
    uint32_t what;
    uint32_t layers;
    uint32_t tags;
    uint8_t view;
    uint8_t reserved[7];
    const ikv_scene *scene;
    const ikv_router *router;
    const ikv_overlaps *overlaps;
    const ikv_trail *trail;
    const ikv_draw_style *style;
    const char *(*name)(void *user, ikv_target target);
    void *user;
    ikv_canvas canvas;
} ikv_draw_config;

#define IKV_DRAW_INIT IKV_SIZED(ikv_draw_config)

/* Draws it: layers from the lowest up, in each layer targets in stacking order,
 * then pointers. Hidden targets are left out. Returns IKV_OK, BAD_ARGUMENT (NULL,
 * no scene), BAD_SIZE.
 * Context: owner thread, inside handlers and watchers too; O(layers * targets). */
IKV_API ikv_status ikv_draw(const ikv_draw_config *config);

#ifdef __cplusplus
}
#endif

#endif
