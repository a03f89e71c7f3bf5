/* draw_internal.h - drawing's inside.
 *
 * Files, lowest first: draw_trail.c, draw_shape.c, draw.c.
 */
#ifndef IKVI_DRAW_INTERNAL_H
#define IKVI_DRAW_INTERNAL_H

#include "../event/platform.h"
#include "../event/text.h"

#include "ikvar/draw.h"

/* One picture. */
typedef struct drawing {
    const ikv_draw_config *config;
    const ikv_draw_style *style;
    ikv_target target; /* whose marks are made now */
    float at[2];       /* its position in the view; pointers' marks: none */
} drawing;

static inline bool draws(const drawing *d, uint32_t what)
{
    return d->config->what == 0 || (d->config->what >> what & 1) != 0;
}

static inline ikv_draw_mark mark_of(const drawing *d, uint32_t what)
{
    return (ikv_draw_mark){(uint16_t)what, 0, d->target, &d->style->inks[what]};
}

/* draw_shape.c: lines and circles that nobody takes are left out. */
void ikvi_draw_line(const drawing *d, uint32_t what, float x, float y, float x2,
                    float y2);
void ikvi_draw_circle(const drawing *d, uint32_t what, float x, float y,
                      float radius);
/* The drawing's target, as its shape is, grown by so much of its own space. */
void ikvi_draw_outline(const drawing *d, uint32_t what, float grown);

#endif
