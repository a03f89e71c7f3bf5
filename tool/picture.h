/* picture.h - a page that is drawn on, as PNG or SVG. */
#ifndef IKV_PICTURE_H
#define IKV_PICTURE_H

#include <ikvar/host.h>

#include <stdbool.h>
#include <stdio.h>

/* What draws on a page, in its units from the upper left. Groups have a class
 * and a name, and don't lie in each other. */
typedef struct page_pen {
    void (*line)(void *page, const ikv_ink *ink, double x, double y, double x2,
                 double y2);
    void (*polygon)(void *page, const ikv_ink *ink, const double *points,
                    uint32_t count);
    void (*circle)(void *page, const ikv_ink *ink, double x, double y,
                   double radius);
    void (*text)(void *page, const ikv_ink *ink, double x, double y,
                 double size, const char *text);
    void (*begin_group)(void *page, const char *class_name, const char *name);
    void (*end_group)(void *page);
    /* Writes what there is and drops the page; false if that failed. */
    bool (*end)(void *page, FILE *file);
} page_pen;

/* What of the view's units is to be seen: the view, or around all that is drawn
 * if the setup says nothing of it. */
typedef struct extent {
    float left, top, right, bottom;
    bool any;
} extent;
extent extent_of(const ikv_setup *setup, const ikv_draw_config *config);

/* What an ink stands for, in legends. */
const char *ink_meaning(uint32_t what);

/* NULL for lack of memory. */
void *svg_begin(uint32_t width, uint32_t height, uint32_t background,
                const char *title);
extern const page_pen svg_pen;

/* The same as a bitmap, by cairo. */
void *png_begin(uint32_t width, uint32_t height, uint32_t background,
                const char *title);
extern const page_pen png_pen;

#endif
