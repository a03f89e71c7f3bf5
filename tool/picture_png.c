/* picture_png.c - a page as PNG, by cairo. */
#include "picture.h"

#include <cairo.h>

/* What the font library keeps until the process ends is no leak of ours. */
#if defined(__SANITIZE_ADDRESS__)
__attribute__((visibility("default"))) const char *
__lsan_default_suppressions(void);
const char *__lsan_default_suppressions(void)
{
    return "leak:libfontconfig\nleak:libcairo\nleak:libtinfo\nleak:"
           "libncurses\n";
}
#endif

static void set_colour(cairo_t *page, uint32_t rgba)
{
    cairo_set_source_rgba(
        page, (double)(rgba >> 24) / 255, (double)(rgba >> 16 & 0xff) / 255,
        (double)(rgba >> 8 & 0xff) / 255, (double)(rgba & 0xff) / 255);
}

/* The path that there is. */
static void draw_path(cairo_t *page, const ikv_ink *ink)
{
    static const double dashes[] = {5, 4};
    if ((ink->fill & 0xff) != 0) {
        set_colour(page, ink->fill);
        cairo_fill_preserve(page);
    }
    set_colour(page, ink->line);
    cairo_set_line_width(page, (double)ink->width);
    cairo_set_dash(page, dashes, ink->dashed ? 2 : 0, 0);
    cairo_stroke(page);
}

static void png_line(void *page, const ikv_ink *ink, double x, double y,
                     double x2, double y2)
{
    cairo_move_to(page, x, y);
    cairo_line_to(page, x2, y2);
    draw_path(page, ink);
}

static void png_polygon(void *page, const ikv_ink *ink, const double *points,
                        uint32_t count)
{
    for (uint32_t i = 0; i < count; i++)
        cairo_line_to(page, points[2 * i], points[2 * i + 1]);
    cairo_close_path(page);
    draw_path(page, ink);
}

static void png_circle(void *page, const ikv_ink *ink, double x, double y,
                       double radius)
{
    cairo_new_sub_path(page);
    cairo_arc(page, x, y, radius, 0, 6.283185307179586);
    draw_path(page, ink);
}

static void png_text(void *page, const ikv_ink *ink, double x, double y,
                     double size, const char *text)
{
    set_colour(page, ink->line);
    cairo_set_font_size(page, size);
    cairo_move_to(page, x, y);
    cairo_show_text(page, text);
    cairo_new_path(page);
}

static void png_begin_group(void *page, const char *class_name,
                            const char *name)
{
    (void)page, (void)class_name, (void)name;
}

static void png_end_group(void *page)
{
    (void)page;
}

static cairo_status_t write_bytes(void *file, const unsigned char *data,
                                  unsigned int length)
{
    return fwrite(data, 1, length, file) == length ? CAIRO_STATUS_SUCCESS
                                                   : CAIRO_STATUS_WRITE_ERROR;
}

static bool png_end(void *page, FILE *file)
{
    bool whole =
        cairo_status(page) == CAIRO_STATUS_SUCCESS &&
        cairo_surface_write_to_png_stream(cairo_get_target(page), write_bytes,
                                          file) == CAIRO_STATUS_SUCCESS;
    cairo_destroy(page);
    return whole;
}

void *png_begin(uint32_t width, uint32_t height, uint32_t background,
                const char *title)
{
    (void)title;
    cairo_surface_t *surface =
        cairo_image_surface_create(CAIRO_FORMAT_RGB24, (int)width, (int)height);
    cairo_t *page = cairo_create(surface);
    cairo_surface_destroy(surface); /* the page holds it */
    cairo_select_font_face(page, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                           CAIRO_FONT_WEIGHT_NORMAL);
    set_colour(page, background);
    cairo_paint(page);
    return page;
}

const page_pen png_pen = {png_line,        png_polygon,   png_circle, png_text,
                          png_begin_group, png_end_group, png_end};
