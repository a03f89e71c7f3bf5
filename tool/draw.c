/* draw.c - ikvar draw: the scene at a moment, as a picture. */
#define _POSIX_C_SOURCE 200809L
#include "picture.h"
#include "tool.h"

#include <stdlib.h>
#include <string.h>

enum {
    TRAIL = 512, /* points */
    LABELS = 512,
    LABEL_SIZE = 11,
    MARGIN = 20,
    HEAD = 34,
    FOOT = 76 /* of a page, in its units */
};

typedef struct artist {
    const char *setup_path, *tape_path, *output, *only;
    double at_ms;
    int width, height;
    bool light;
    const ikv_setup *setup;
    ikv_kit *kit;
    /* the page, and where the view lies on it */
    const page_pen *pen;
    void *page;
    double left, top, scale;
    char group[256]; /* the one that is open */
    bool in_group, of_pointer;
    uint32_t used; /* inks */
    struct {
        double x, y, wide;
    } labels[LABELS]; /* that lie on the page already */
    int label_count;
    ikv_trail trail;
    ikv_trail_point points[TRAIL];
    ikv_bus *bus;
} artist;

/* What each ink stands for, in the legend. */
static const char *const meanings[IKV_DRAW_COUNT] = {
    [IKV_DRAW_SOLID] = "is hit",        [IKV_DRAW_PASS] = "is hit, passes on",
    [IKV_DRAW_OFF] = "is not hit",      [IKV_DRAW_NAME] = "name, z",
    [IKV_DRAW_CLIP] = "clips",          [IKV_DRAW_MARGIN] = "finger's margin",
    [IKV_DRAW_ZONE] = "senses",         [IKV_DRAW_CONTACT] = "is in it",
    [IKV_DRAW_BODY] = "body, pieces",   [IKV_DRAW_POINTER] = "pointer",
    [IKV_DRAW_HOVER] = "hovered",       [IKV_DRAW_CAPTURE] = "has captured",
    [IKV_DRAW_FOCUS] = "has the focus", [IKV_DRAW_TRAIL] = "went there",
    [IKV_DRAW_PRESS] = "press",         [IKV_DRAW_RELEASE] = "release",
    [IKV_DRAW_MODAL] = "is modal",
};

const char *ink_meaning(uint32_t what)
{
    return meanings[what];
}

/* ---------------------------------------------------------------- the page -- */

static double page_x(const artist *a, float x)
{
    return a->left + a->scale * (double)x;
}

static double page_y(const artist *a, float y)
{
    return a->top + a->scale * (double)y;
}

/* A target's marks come one after the other and are one group; what pointers do
 * is beside them. */
static void enter_group(artist *a, const ikv_draw_mark *mark)
{
    bool of_pointer = mark->what >= IKV_DRAW_POINTER;
    bool of_target = !of_pointer && mark->what != IKV_DRAW_NAME;
    const char *name =
        of_target ? ikv_setup_target_name(a->setup, mark->target) : "";
    a->used |= 1u << mark->what;
    if (a->in_group && strcmp(a->group, name) == 0 &&
        a->of_pointer == of_pointer)
        return;
    if (a->in_group)
        a->pen->end_group(a->page);
    snprintf(a->group, sizeof a->group, "%s", name);
    a->in_group = true;
    a->of_pointer = of_pointer;
    a->pen->begin_group(a->page,
                        of_pointer  ? "pointers"
                        : of_target ? "target"
                                    : "names",
                        of_target ? name : NULL);
}

static void leave_group(artist *a)
{
    if (a->in_group)
        a->pen->end_group(a->page);
    a->in_group = false;
}

static void draw_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    artist *a = user;
    enter_group(a, mark);
    a->pen->line(a->page, mark->ink, page_x(a, x), page_y(a, y), page_x(a, x2),
                 page_y(a, y2));
}

static void draw_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    artist *a = user;
    double on_page[64];
    enter_group(a, mark);
    for (uint32_t i = 0; i < count && i < 32; i++) {
        on_page[2 * i] = page_x(a, points[2 * i]);
        on_page[2 * i + 1] = page_y(a, points[2 * i + 1]);
    }
    a->pen->polygon(a->page, mark->ink, on_page, count < 32 ? count : 32);
}

static void draw_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    artist *a = user;
    /* pointers are as large on any page, and a point can be seen */
    double size = a->scale * (double)radius;
    if (mark->what >= IKV_DRAW_POINTER)
        size = (double)radius;
    enter_group(a, mark);
    a->pen->circle(a->page, mark->ink, page_x(a, x), page_y(a, y),
                   size > 1.5 ? size : 1.5);
}

/* Where a text of that length is free: at a place, or some lines beneath it; false
 * if it would lie upon others everywhere there. */
static bool free_line(artist *a, double x, double *y, const char *text)
{
    double wide = (double)strlen(text) * LABEL_SIZE * 0.62;
    bool hits = true;
    for (int line = 0; line < 8 && hits; line++) {
        double at = *y + line * (LABEL_SIZE + 2.0);
        hits = at > a->height - FOOT + 8; /* the legend is there */
        for (int i = 0; i < a->label_count; i++)
            hits = hits || (x < a->labels[i].x + a->labels[i].wide &&
                            a->labels[i].x < x + wide &&
                            at < a->labels[i].y + LABEL_SIZE + 1 &&
                            a->labels[i].y < at + LABEL_SIZE + 1);
        if (!hits)
            *y = at;
    }
    if (hits || a->label_count == LABELS)
        return false;
    a->labels[a->label_count].x = x;
    a->labels[a->label_count].y = *y;
    a->labels[a->label_count++].wide = wide;
    return true;
}

static void draw_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    artist *a = user;
    char shown[512];
    enter_group(a, mark);
    ikv_shown_text(text, shown, sizeof shown);
    /* not over the page's edge */
    double most = a->width - 2 - (double)strlen(shown) * LABEL_SIZE * 0.62;
    double at = page_x(a, x) + 4;
    at = at < most ? at : most;
    double line = page_y(a, y) - 4;
    if (free_line(a, at, &line, shown))
        a->pen->text(a->page, mark->ink, at, line, LABEL_SIZE, shown);
}

static const char *name_of(void *user, ikv_target target)
{
    return ikv_setup_target_name(((artist *)user)->setup, target);
}

/* ------------------------------------------------------- around the scene -- */

/* The view's frame, a title, a scale, and what each ink that was used means. */
static void draw_head(artist *a, const ikv_draw_style *style, const extent *e)
{
    const ikv_ink *ink = &style->inks[IKV_DRAW_NAME];
    ikv_ink frame = style->inks[IKV_DRAW_OFF];
    char title[512];
    const char *file = strrchr(a->setup_path, '/');
    char shown[256];
    snprintf(title, sizeof title, "%s at %.10g ms",
             ikv_shown_text(file != NULL ? file + 1 : a->setup_path, shown,
                            sizeof shown),
             a->at_ms);
    frame.dashed = false;
    const double corners[] = {
        page_x(a, e->left), page_y(a, e->top),    page_x(a, e->right),
        page_y(a, e->top),  page_x(a, e->right),  page_y(a, e->bottom),
        page_x(a, e->left), page_y(a, e->bottom),
    };
    a->pen->begin_group(a->page, "page", NULL);
    a->pen->text(a->page, ink, MARGIN, HEAD - 12, 16, title);
    /* and two of the small ones in its place */
    double first = HEAD - 12, second = HEAD - 4;
    free_line(a, MARGIN, &first, title);
    free_line(a, MARGIN, &second, title);
    a->pen->polygon(a->page, &frame, corners, 4);
    a->pen->end_group(a->page);
}

/* A length of 1, 2 or 5 times a power of ten that is about 100 of the page. */
static double round_length(double scale)
{
    static const double steps[] = {2, 2.5, 2};
    double length = 1;
    for (int i = 0; length * scale < 60 && i < 30; i++)
        length *= steps[i % 3];
    return length;
}

static void draw_scale(artist *a, const ikv_ink *ink)
{
    double length = round_length(a->scale), y = a->height - MARGIN - 4;
    double right = a->width - MARGIN, left = right - length * a->scale;
    char text[48];
    snprintf(text, sizeof text, "%.6g units", length);
    a->pen->line(a->page, ink, left, y, right, y);
    a->pen->line(a->page, ink, left, y - 4, left, y + 4);
    a->pen->line(a->page, ink, right, y - 4, right, y + 4);
    a->pen->text(a->page, ink, left, y - 8, 11, text);
}

static void draw_legend(artist *a, const ikv_draw_style *style)
{
    const ikv_ink *words = &style->inks[IKV_DRAW_NAME];
    const int columns = 8, wide = (a->width - 2 * MARGIN - 110) / columns;
    int nth = 0;
    a->pen->begin_group(a->page, "legend", NULL);
    for (uint32_t what = 0; what < IKV_DRAW_COUNT; what++) {
        if ((a->used >> what & 1) == 0 || what == IKV_DRAW_NAME)
            continue;
        double x = MARGIN + nth % columns * wide;
        int line = nth / columns;
        double y = a->height - FOOT + 22 + line * 22;
        const double box[] = {x, y - 9, x + 16, y - 9, x + 16, y, x, y};
        a->pen->polygon(a->page, &style->inks[what], box, 4);
        a->pen->text(a->page, words, x + 22, y, 11, meanings[what]);
        nth++;
    }
    draw_scale(a, words);
    a->pen->end_group(a->page);
}

/* ---------------------------------------------------------------- choosing -- */

/* The bits of "solid,zone"; false after a message. */
static bool read_only(const char *only, uint32_t *what)
{
    char word[32];
    *what = 0;
    while (only != NULL && *only != '\0') {
        size_t length = strcspn(only, ",");
        uint32_t at = 0;
        snprintf(word, sizeof word, "%.*s", (int)length, only);
        while (at < IKV_DRAW_COUNT && strcmp(word, ikv_draw_name_of(at)) != 0)
            at++;
        if (at == IKV_DRAW_COUNT) {
            const char *known[IKV_DRAW_COUNT + 1] = {NULL};
            char shown[64];
            for (uint32_t i = 0; i < IKV_DRAW_COUNT; i++)
                known[i] = ikv_draw_name_of(i);
            char hint[IKV_HINT_BYTES];
            const char *near = ikv_nearest_name(word, known);
            fprintf(
                stderr,
                "ikvar draw: --only: found \"%s\", expected of solid, pass, "
                "off, name, clip, margin, zone, contact, body, pointer, "
                "hover, capture, focus, trail, press, release, modal%s\n",
                ikv_shown_text(word, shown, sizeof shown),
                ikv_did_you_mean(near, hint, sizeof hint));
            return false;
        }
        *what |= 1u << at;
        only += length + (only[length] == ',');
    }
    return true;
}

/* ---------------------------------------------------------------- output -- */

static int fail(const char *path, const char *why)
{
    char shown[512];
    fprintf(stderr, "ikvar draw: %s: %s\n",
            ikv_shown_text(path, shown, sizeof shown), why);
    return BAD_INPUT;
}

static int write_page(artist *a)
{
    whole_file to;
    FILE *file = open_whole(&to, a->output);
    FILE *at = file != NULL ? file : fopen("/dev/null", "wb");
    bool whole = a->pen->end(a->page, at) && file != NULL;
    if (file == NULL && at != NULL)
        fclose(at);
    const char *fault = close_whole(&to, whole);
    return fault == NULL
               ? FINE
               : fail(a->output != NULL ? a->output : "standard output", fault);
}

/* Names above all that is filled, pointers above the names. */
static void draw_passes(ikv_draw_config *config)
{
    const uint32_t names = 1u << IKV_DRAW_NAME;
    const uint32_t targets = (1u << IKV_DRAW_POINTER) - 1 - names;
    const uint32_t asked = config->what != 0 ? config->what : UINT32_MAX;
    const uint32_t passes[] = {targets, names, ~(targets | names)};
    for (int i = 0; i < 3; i++) {
        config->what = passes[i] & asked;
        /* none is all */
        if (config->what != 0)
            ikv_draw(config);
    }
}

static int draw_scene(artist *a)
{
    const ikv_kit *kit = a->kit;
    const ikv_draw_style *style = a->light ? ikv_draw_light() : ikv_draw_dark();
    ikv_draw_config config = IKV_DRAW_INIT;
    char title[256];
    if (!read_only(a->only, &config.what))
        return WRONG_USE;

    snprintf(title, sizeof title, "%s at %.10g ms", a->setup_path, a->at_ms);
    bool png = a->output != NULL && ends_with(a->output, ".png");
    a->pen = png ? &png_pen : &svg_pen;
    a->page = (png ? png_begin : svg_begin)(
        (uint32_t)a->width, (uint32_t)a->height, style->background, title);
    if (a->page == NULL)
        return fail(a->setup_path, "no memory");
    config.scene = ikv_kit_scene(kit);
    config.router = ikv_kit_router(kit);
    config.overlaps = ikv_kit_overlaps(kit);
    config.trail = &a->trail;
    config.style = style;
    config.name = name_of;
    config.user = a;
    const extent e = extent_of(a->setup, &config);
    double width = (double)e.right - (double)e.left;
    double height = (double)e.bottom - (double)e.top;
    double wide = (a->width - 2.0 * MARGIN) / width;
    double high = ((double)a->height - HEAD - FOOT) / height;
    a->scale = wide < high ? wide : high;
    a->left = (a->width - a->scale * width) / 2 - a->scale * (double)e.left;
    a->top = HEAD - a->scale * (double)e.top;
    config.canvas =
        (ikv_canvas){a, draw_line, draw_polygon, draw_circle, draw_text};
    draw_head(a, style, &e);
    draw_passes(&config);
    leave_group(a);
    draw_legend(a, style);
    return write_page(a);
}

/* ---------------------------------------------------------------- the run -- */

static void watch_pointers(const ikv_watch *watch, void *user)
{
    artist *a = user;
    /* as it was routed: made-up ones, and not what is passed on */
    if (watch->delivery->router != NULL &&
        (watch->delivery->flags & IKV_PASSED) == 0)
        ikv_trail_note(&a->trail, watch->event);
}

static int begin_drawing(void *user, ikv_kit *kit, ikv_setup *setup)
{
    artist *a = user;
    a->setup = setup;
    a->bus = ikv_kit_bus(kit);
    a->trail = (ikv_trail){a->points, TRAIL, 0, 0};
    a->kit = kit;
    return ikv_bus_add_watcher(a->bus, IKV_WATCH_EVENT, watch_pointers, a) ==
                   IKV_OK
               ? FINE
               : BAD_INPUT;
}

static int end_drawing(void *user)
{
    artist *a = user;
    int code = draw_scene(a);
    ikv_bus_remove_watcher(a->bus, watch_pointers, a);
    return code;
}

/* As it is placed, before anything happens. */
static int draw_at_rest(artist *a)
{
    ikv_message message = {"no memory"};
    ikv_setup *setup = NULL;
    ikv_kit *kit = NULL;
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_port port = ikv_null_port();
    int code = BAD_INPUT;
    if (ikv_setup_read(a->setup_path, &setup, &message) == IKV_OK &&
        open_kit(&config, setup, &port, &kit, &message)) {
        begin_drawing(a, kit, setup);

        code = end_drawing(a);
    } else {
        fprintf(stderr, "ikvar draw: %s\n", message.text);
    }
    ikv_kit_close(kit);
    ikv_setup_close(setup);
    return code;
}

int draw_command(int argc, char **argv)
{
    static artist a;
    int code;
    arguments left;
    a = (artist){.width = 1280, .height = 800};
    const option_row options[] = {
        {"at", 'a', OPTION_NUMBER, &a.at_ms, "MS",
         "the moment, on the tape; 0: before anything happens", 0, 1e10},
        {"output", 'o', OPTION_TEXT, &a.output, "FILE",
         "a name that ends in .png or .svg; else SVG on standard\noutput", 0,
         0},
        {"light", 'l', OPTION_FLAG, &a.light, NULL, "on white, for print", 0,
         0},
        {"only", 'O', OPTION_TEXT, &a.only, "WHAT,...",
         "of solid, pass, off, name, clip, margin, zone, contact,\nbody, "
         "pointer, hover, capture, focus, trail, press, release,\nmodal",
         0, 0},
        {"width", 'w', OPTION_WHOLE, &a.width, "N", "of the picture (1280)",
         200, 8192},
        {"height", 'H', OPTION_WHOLE, &a.height, "N", "of the picture (800)",
         200, 8192},
        {0}};
    if (!parse_options(argc, argv, options,
                       "draw SETUP [TAPE] [options]\n\nThe scene at a moment: "
                       "outlines, zones and what is in them, pointers, where\n"
                       "they went, and what they hold.",
                       &left, &code))
        return code;
    a.setup_path = next_argument(&left);
    a.tape_path = next_argument(&left);
    if (a.setup_path == NULL || left.count > 0) {
        fprintf(stderr, "ikvar draw: expected SETUP [TAPE]; see ikvar draw "
                        "--help\n");
        return WRONG_USE;
    }
    code = check_picture("draw", a.output, a.setup_path, a.tape_path);
    if (code != FINE)
        return code;
    if (a.tape_path == NULL || a.at_ms <= 0)
        return draw_at_rest(&a);
    run_plan plan = {.command = "draw",
                     .setup = a.setup_path,
                     .tape = a.tape_path,
                     .until_ms = a.at_ms,
                     .begin = begin_drawing,
                     .end = end_drawing,
                     .user = &a};
    return run_plan_through(&plan);
}
