/* view.c - ikvar view: a run as one page that needs nothing else. */
#define _POSIX_C_SOURCE 200809L
#include "page.h"
#include "picture.h"
#include "view.h"

#include <errno.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

/* --------------------------------------------------------------- reading -- */

static int fail(const char *path, const char *why)
{
    char shown[512];
    fprintf(stderr, "ikvar view: %s: %s\n",
            ikv_shown_text(path, shown, sizeof shown), why);
    return BAD_INPUT;
}

static int read_lines(viewer *v, FILE *file)
{
    int code = read_trace("view", v->path, file, view_take_line, v);
    if (code != FINE)
        return code;
    if (v->lost)
        return fail(v->path, "no memory");
    if (v->scenes == 0)
        return fail(v->path, "has no scene: make it with ikvar run --json "
                             "--scene --decisions");
    if (v->began)
        view_end_moment(v);
    return FINE;
}

/* ------------------------------------------------------------------ page -- */

/* Inside an element of the page. */
static void put_text_in(FILE *file, const char *text)
{
    char shown[1024];
    ikv_shown_text(text, shown, sizeof shown);
    for (const char *at = shown; *at != '\0'; at++)
        if (*at == '<')
            fputs("&lt;", file);
        else if (*at == '&')
            fputs("&amp;", file);
        else
            fputc(*at, file);
}

/* JSON inside a script element: only in texts there is a "<". */
static void put_in_script(FILE *file, const char *text, size_t size)
{
    const char *end = text + size;
    while (text < end) {
        const char *at = memchr(text, '<', (size_t)(end - text));
        size_t length = (size_t)((at != NULL ? at : end) - text);
        fwrite(text, 1, length, file);
        text += length;
        if (at != NULL) {
            fputs("\\u003c", file);
            text++;
        }
    }
}

static json_t *inks_of(viewer *v, const ikv_draw_style *style)
{
    json_t *list = json_array();
    char colour[16];
    for (uint32_t what = 0; what < IKV_DRAW_COUNT; what++) {
        const ikv_ink *ink = &style->inks[what];
        json_t *row = json_array();
        snprintf(colour, sizeof colour, "#%08x", (unsigned)ink->line);
        view_add(v, row, json_string(colour));
        snprintf(colour, sizeof colour, "#%08x", (unsigned)ink->fill);
        view_add(v, row, json_string(colour));
        view_add(v, row, json_real((double)ink->width));
        view_add(v, row, json_boolean(ink->dashed));
        view_add(v, list, row);
    }
    snprintf(colour, sizeof colour, "#%08x", (unsigned)style->background);
    view_add(v, list, json_string(colour));
    return list;
}

/* What there is around the rows. */
static json_t *head_of(viewer *v)
{
    json_t *head = json_object(), *view = json_array(), *whats = json_array();
    double width = json_number_value(json_array_get(v->view, 0));
    double height = json_number_value(json_array_get(v->view, 1));
    /* or around all that is drawn, if anything is */
    bool known = (width > 1 && height > 1) || !(v->box[0] <= v->box[2]);
    double margin = (v->box[2] - v->box[0] + v->box[3] - v->box[1]) / 40 + 1;
    const double box[] = {
        known ? 0 : v->box[0] - margin, known ? 0 : v->box[1] - margin,
        known ? fmax(width, 1) : v->box[2] - v->box[0] + 2 * margin,
        known ? fmax(height, 1) : v->box[3] - v->box[1] + 2 * margin};
    for (int i = 0; i < 4; i++)
        view_add(v, view, json_real(box[i]));
    for (uint32_t what = 0; what < IKV_DRAW_COUNT; what++) {
        json_t *row = json_array();
        view_add(v, row, json_string(ikv_draw_name_of(what)));
        view_add(v, row, json_string(ink_meaning(what)));
        view_add(v, whats, row);
    }
    put_text(head, "title", v->title);
    put_json(head, "view", view);
    put_json(head, "whats", whats);
    put_json(head, "dark", inks_of(v, ikv_draw_dark()));
    put_json(head, "light", inks_of(v, ikv_draw_light()));
    v->lost = v->lost || json_object_size(head) != 5;
    return head;
}

/* The data: an object whose rows are not held in memory twice. */
static bool put_data(viewer *v, FILE *file)
{
    json_t *head = head_of(v);
    char *text = json_dumps(head, JSON_COMPACT | JSON_REAL_PRECISION(9));
    json_decref(head);
    if (text == NULL || v->lost)
        return false;
    put_in_script(file, text, strlen(text) - 1); /* without its brace */
    free_json_text(text);
    for (int i = 0; i < SECTIONS; i++) {
        section_text *s = &v->sections[i];
        fprintf(file, ",\n\"%s\":[\n", view_section_name((enum section)i));
        v->lost = v->lost || (s->file != NULL &&
                              (fflush(s->file) != 0 || s->text == NULL));
        if (v->lost)
            return false;
        put_in_script(file, s->text != NULL ? s->text : "", s->size);
        fputs("]", file);
    }
    fputs("}\n", file);
    return true;
}

static void put_part(FILE *file, const char *before, const page_part *part,
                     const char *after)
{
    fputs(before, file);
    fwrite(part->text, 1, part->size, file);
    fputs(after, file);
}

static int write_page(viewer *v)
{
    whole_file to;
    FILE *file = open_whole(&to, v->output);
    bool good = file != NULL;
    if (good) {
        fprintf(file,
                "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n"
                "<meta charset=\"utf-8\">\n"
                "<meta http-equiv=\"Content-Security-Policy\" content=\""
                "default-src 'none'; script-src '%s' '%s'; "
                "style-src '%s' '%s'; base-uri 'none'; "
                "form-action 'none'\">\n<title>",
                page_chart_js.hash, page_js.hash, page_chart_css.hash,
                page_css.hash);
        put_text_in(file, v->title);
        put_part(file, "</title>\n<!-- The charts' code, uPlot:\n\n",
                 &page_chart_licence, "-->\n");
        put_part(file, "<style>", &page_chart_css, "</style>\n");
        put_part(file, "<style>", &page_css, "</style>\n</head>\n<body>\n");
        put_part(file, "", &page_body,
                 "<script type=\"application/json\" id=\"run\">\n");
        good = put_data(v, file);
        put_part(file, "</script>\n<script>", &page_chart_js, "</script>\n");
        put_part(file, "<script>", &page_js, "</script>\n</body>\n</html>\n");
    }
    const char *fault = close_whole(&to, good);
    if (v->lost)
        return fail(v->path, "no memory");
    return fault == NULL
               ? FINE
               : fail(v->output != NULL ? v->output : "standard output", fault);
}

/* ---------------------------------------------------------------- the run -- */

static int begin_view(void *user, ikv_kit *kit, ikv_setup *setup)
{
    viewer *v = user;
    v->trace = tmpfile();
    if (v->trace == NULL)
        return fail("a temporary file", strerror(errno));
    return ikv_trace_open(v->trace, kit, setup,
                          IKV_TRACE_SCENE | IKV_TRACE_DECISIONS,
                          &v->writer) == IKV_OK
               ? FINE
               : fail(v->path, "no memory");
}

static int end_view(void *user)
{
    viewer *v = user;
    if (ikv_trace_close(v->writer) < 0)
        return fail("a temporary file", "can't be written");
    rewind(v->trace);
    int code = read_lines(v, v->trace);
    return code == FINE ? write_page(v) : code;
}

static int view_trace(viewer *v)
{
    FILE *file = fopen(v->path, "r");
    if (file == NULL)
        return fail(v->path, strerror(errno));
    int code = read_lines(v, file);
    fclose(file);
    return code == FINE ? write_page(v) : code;
}

static int view_run(viewer *v, const char *setup, const char *tape)
{
    run_plan plan = {.command = "view",
                     .setup = setup,
                     .tape = tape,
                     .until_ms = v->until_ms,
                     .begin = begin_view,
                     .end = end_view,
                     .user = v};
    return run_plan_through(&plan);
}

int view_command(int argc, char **argv)
{
    viewer v = {.output = NULL};
    int code;
    arguments left;
    const option_row options[] = {{"output", 'o', OPTION_TEXT, &v.output,
                                   "FILE", "the page; else on standard output",
                                   0, 0},
                                  {"until", 'u', OPTION_NUMBER, &v.until_ms,
                                   "MS", "play the tape so far", 0, 1e10},
                                  {0}};
    if (!parse_options(
            argc, argv, options,
            "view SETUP TAPE [options] | view TRACE [options]\n\nOne page for "
            "a browser, that needs nothing else: the scene at any moment, "
            "events,\nwho heard them, what was decided and why. A trace needs "
            "lines of the scene and of\ndecisions (ikvar run --json --scene "
            "--decisions).",
            &left, &code))
        return code;
    const char *first = next_argument(&left), *tape = next_argument(&left);
    bool alone = tape == NULL && first != NULL && is_trace(first);
    if (first == NULL || left.count > 0 || (tape == NULL && !alone)) {
        fprintf(stderr, "ikvar view: expected SETUP TAPE, or TRACE; see ikvar "
                        "view --help\n");
        return WRONG_USE;
    }
    if (alone && v.until_ms > 0) {
        fprintf(stderr, "ikvar view: --until: a trace is shown whole\n");
        return WRONG_USE;
    }
    if (is_same_file(v.output, first) || is_same_file(v.output, tape))
        return fail(v.output,
                    "it is read in this run: the page would destroy it");
    v.path = tape != NULL ? tape : first;
    const char *slash = strrchr(v.path, '/');
    v.title = slash != NULL ? slash + 1 : v.path;
    code = !view_begin(&v) ? fail(first, "no memory")
           : alone         ? view_trace(&v)
                           : view_run(&v, first, tape);
    view_end(&v);
    return code;
}
