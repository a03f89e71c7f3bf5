/* view_rows.c - rows of a page's data, and what they refer to. */
#define _POSIX_C_SOURCE 200809L
#include "view.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

static const char *const section_names[SECTIONS] = {
    [NAMES] = "names",         [SHAPES] = "shapes",     [RESTS] = "rests",
    [PATHS] = "paths",         [EVENTS] = "events",     [CALLS] = "calls",
    [DECISIONS] = "decisions", [MOMENTS] = "moments",   [ORDERS] = "orders",
    [MARKS] = "marks",         [POINTERS] = "pointers", [ANSWERS] = "answers",
};

const char *view_section_name(enum section section)
{
    return section_names[section];
}

/* --------------------------------------------------------------- writing -- */

FILE *view_row(viewer *v, enum section section)
{
    section_text *s = &v->sections[section];
    if (s->file == NULL)
        s->file = open_memstream(&s->text, &s->size);
    v->lost = v->lost || s->file == NULL;
    if (s->file != NULL && s->rows++ > 0)
        fputs(",\n", s->file);
    return s->file;
}

void view_put_json(viewer *v, FILE *file, const json_t *value)
{
    const size_t flags =
        JSON_COMPACT | JSON_ENCODE_ANY | JSON_REAL_PRECISION(15);
    v->lost = json_dumpf(value, file, flags) != 0 || v->lost;
}

void view_add(viewer *v, json_t *list, json_t *value)
{
    v->lost = json_array_append_new(list, value) != 0 || v->lost;
}

void view_put_number(FILE *file, double value)
{
    fprintf(file, "%.10g", isfinite(value) ? value : 0);
}

/* The number of a text among those of its list, where it is added. */
static json_int_t number_in(viewer *v, json_t *list, const char *key,
                            const json_t *row, enum section section)
{
    const json_t *there = json_object_get(list, key);
    if (there != NULL)
        return json_integer_value(there);
    json_int_t number = (json_int_t)json_object_size(list);
    v->lost =
        json_object_set_new(list, key, json_integer(number)) != 0 || v->lost;
    FILE *file = view_row(v, section);
    if (file != NULL)
        view_put_json(v, file, row);
    return number;
}

json_int_t view_name(viewer *v, const char *name)
{
    json_t *row = json_string(name != NULL ? name : "");
    json_int_t number =
        number_in(v, v->names, name != NULL ? name : "", row, NAMES);
    json_decref(row);
    return number;
}

const char *view_text(const json_t *line, const char *member)
{
    const char *text = json_string_value(json_object_get(line, member));
    return text != NULL ? text : "";
}

/* A list among others of its section, and its number there. */
json_int_t view_list(viewer *v, json_t *list, json_t *row, enum section section)
{
    char *key = json_dumps(row, JSON_COMPACT | JSON_REAL_PRECISION(15));
    v->lost = v->lost || key == NULL;
    json_int_t number = key != NULL ? number_in(v, list, key, row, section) : 0;
    free_json_text(key);
    json_decref(row);
    return number;
}

/* [t, step, scene, events by then, calls, merged, deferred since the one before] */
void view_end_moment(viewer *v)
{
    FILE *file = view_row(v, MOMENTS);
    if (file != NULL)
        fprintf(file, "[%.15g,%lld,%zu,%zu,%zu,%zu,%zu]", v->t,
                (long long)v->step, v->scenes > 0 ? v->scenes - 1 : 0,
                v->sections[EVENTS].rows, v->calls, v->merged, v->deferred);
    v->calls = v->merged = v->deferred = 0;
    v->moment_step = v->step;
    v->began = false;
}

bool view_begin(viewer *v)
{
    v->names = json_object();
    v->shapes = json_object();
    v->rests = json_object();
    v->paths = json_object();
    v->box[0] = v->box[1] = INFINITY;
    v->box[2] = v->box[3] = -INFINITY;
    return v->names != NULL && v->shapes != NULL && v->rests != NULL &&
           v->paths != NULL;
}

void view_end(viewer *v)
{
    for (int i = 0; i < SECTIONS; i++) {
        if (v->sections[i].file != NULL)
            fclose(v->sections[i].file);
        free(v->sections[i].text);
    }
    for (size_t i = 0; i < v->look_count; i++)
        json_decref(v->looks[i]);
    free(v->looks);
    free(v->moved.names);
    free(v->written);
    json_decref(v->names);
    json_decref(v->shapes);
    json_decref(v->rests);
    json_decref(v->paths);
    json_decref(v->view);
    if (v->trace != NULL)
        fclose(v->trace);
}
