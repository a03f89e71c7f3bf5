/* picture_svg.c - a page as SVG: what belongs together is a group that says whose
 * it is, texts are texts, and names are escaped. */
#define _POSIX_C_SOURCE 200809L
#include "picture.h"

#include <ikvar/event.h>

#include <stdlib.h>
#include <string.h>

typedef struct svg_page {
    char *text;
    size_t size;
    FILE *file;
} svg_page;

/* Names and titles may be anything: XML has no control characters at all, nor
 * U+FFFE and U+FFFF. */
static void put_escaped(FILE *file, const char *text)
{
    static const struct {
        const char *found, *written;
    } escapes[] = {{"&", "&amp;"},
                   {"<", "&lt;"},
                   {">", "&gt;"},
                   {"\"", "&quot;"},
                   {"\xef\xbf\xbe", "\\ufffe"},
                   {"\xef\xbf\xbf", "\\uffff"}};
    char shown[1024];
    const char *at = ikv_shown_text(text, shown, sizeof shown);
    for (size_t i, length; *at != '\0'; at += length) {
        length = 1;
        for (i = 0; i < sizeof escapes / sizeof escapes[0]; i++)
            if (strncmp(at, escapes[i].found, strlen(escapes[i].found)) == 0)
                break;
        if (i < sizeof escapes / sizeof escapes[0]) {
            length = strlen(escapes[i].found);
            fputs(escapes[i].written, file);
        } else {
            fputc(*at, file);
        }
    }
}

/* To a hundredth, without a locale's comma. */
static void put_number(FILE *file, double value)
{
    long long hundredths = (long long)(value * 100 + (value < 0 ? -0.5 : 0.5));
    long long whole = llabs(hundredths) / 100, rest = llabs(hundredths) % 100;
    fprintf(file, "%s%lld", hundredths < 0 ? "-" : "", whole);
    if (rest != 0)
        fprintf(file, ".%02lld", rest);
}

static void put_pair(FILE *file, const char *name, double value)
{
    fprintf(file, " %s=\"", name);
    put_number(file, value);
    fputc('"', file);
}

static void put_colour(FILE *file, const char *name, uint32_t rgba)
{
    fprintf(file, " %s=\"#%06x\"", name, (unsigned)(rgba >> 8));
    if ((rgba & 0xff) != 0xff) {
        char opacity[40];
        snprintf(opacity, sizeof opacity, "%s-opacity", name);
        put_pair(file, opacity, (double)(rgba & 0xff) / 255);
    }
}

static void put_ink(FILE *file, const ikv_ink *ink)
{
    if ((ink->fill & 0xff) != 0)
        put_colour(file, "fill", ink->fill);
    else
        fputs(" fill=\"none\"", file);
    put_colour(file, "stroke", ink->line);
    put_pair(file, "stroke-width", (double)ink->width);
    if (ink->dashed)
        fputs(" stroke-dasharray=\"5 4\"", file);
    fputs("/>\n", file);
}

static void svg_line(void *page, const ikv_ink *ink, double x, double y,
                     double x2, double y2)
{
    FILE *file = ((svg_page *)page)->file;
    fputs("<line", file);
    put_pair(file, "x1", x);
    put_pair(file, "y1", y);
    put_pair(file, "x2", x2);
    put_pair(file, "y2", y2);
    put_ink(file, ink);
}

static void svg_polygon(void *page, const ikv_ink *ink, const double *points,
                        uint32_t count)
{
    FILE *file = ((svg_page *)page)->file;
    fputs("<polygon points=\"", file);
    for (uint32_t i = 0; i < 2 * count; i++) {
        put_number(file, points[i]);
        fputs(i + 1 == 2 * count ? "\"" : i % 2 == 0 ? "," : " ", file);
    }
    put_ink(file, ink);
}

static void svg_circle(void *page, const ikv_ink *ink, double x, double y,
                       double radius)
{
    FILE *file = ((svg_page *)page)->file;
    fputs("<circle", file);
    put_pair(file, "cx", x);
    put_pair(file, "cy", y);
    put_pair(file, "r", radius);
    put_ink(file, ink);
}

static void svg_text(void *page, const ikv_ink *ink, double x, double y,
                     double size, const char *text)
{
    FILE *file = ((svg_page *)page)->file;
    fputs("<text", file);
    put_pair(file, "x", x);
    put_pair(file, "y", y);
    put_pair(file, "font-size", size);
    put_colour(file, "fill", ink->line);
    fputc('>', file);
    put_escaped(file, text);
    fputs("</text>\n", file);
}

static void svg_begin_group(void *page, const char *class_name,
                            const char *name)
{
    FILE *file = ((svg_page *)page)->file;
    fprintf(file, "<g class=\"%s\"", class_name);
    if (name != NULL) {
        fputs(" data-name=\"", file);
        put_escaped(file, name);
        fputc('"', file);
    }
    fputs(">\n", file);
}

static void svg_end_group(void *page)
{
    fputs("</g>\n", ((svg_page *)page)->file);
}

static bool svg_end(void *page, FILE *file)
{
    svg_page *p = page;
    fputs("</svg>\n", p->file);
    bool whole = fclose(p->file) == 0 && p->text != NULL &&
                 fwrite(p->text, 1, p->size, file) == p->size;
    free(p->text);
    free(p);
    return whole;
}

void *svg_begin(uint32_t width, uint32_t height, uint32_t background,
                const char *title)
{
    svg_page *p = calloc(1, sizeof *p);
    if (p == NULL)
        return NULL;
    p->file = open_memstream(&p->text, &p->size);
    if (p->file == NULL) {
        free(p);
        return NULL;
    }
    fprintf(p->file,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%u\" "
            "height=\"%u\" viewBox=\"0 0 %u %u\" font-family=\"sans-serif\">\n"
            "<title>",
            width, height, width, height);
    put_escaped(p->file, title);
    fprintf(p->file,
            "</title>\n<rect width=\"%u\" height=\"%u\" fill=\"#%06x\"/>\n",
            width, height, (unsigned)(background >> 8));
    return p;
}

const page_pen svg_pen = {svg_line,        svg_polygon,   svg_circle, svg_text,
                          svg_begin_group, svg_end_group, svg_end};
