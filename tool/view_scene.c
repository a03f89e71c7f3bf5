/* view_scene.c - what is seen, in rows: in full, or as it was and moved. */
#define _POSIX_C_SOURCE 200809L
#include "picture.h"
#include "view.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

static const char *const shape_names[] = {"line", "polygon", "circle", "disc",
                                          "text"};
enum {
    SHAPE_CIRCLE = 2,
    SHAPE_TEXT = 4,
    SHAPE_COUNT = 5
};

/* ----------------------------------------------------------------- scenes -- */

static int shape_of_mark(const json_t *mark)
{
    const char *name = json_string_value(json_array_get(mark, 1));
    for (int i = 0; name != NULL && i < SHAPE_COUNT; i++)
        if (strcmp(name, shape_names[i]) == 0)
            return i;
    return -1;
}

static uint32_t what_of_mark(const json_t *mark)
{
    const char *name = json_string_value(json_array_get(mark, 0));
    uint32_t what = 0;
    while (what < IKV_DRAW_COUNT &&
           (name == NULL || strcmp(name, ikv_draw_name_of(what)) != 0))
        what++;
    return what;
}

/* How many of its numbers are places: x and y in turn. */
static size_t places_of(const json_t *mark, int shape)
{
    size_t numbers = json_array_size(mark) - 2;
    return shape >= SHAPE_CIRCLE ? 2 : numbers;
}

static double value_at(const json_t *mark, size_t nth)
{
    return json_number_value(json_array_get(mark, nth + 2));
}

static void widen_box(viewer *v, const json_t *mark, int shape)
{
    for (size_t i = 0; i + 1 < places_of(mark, shape); i += 2) {
        double x = value_at(mark, i), y = value_at(mark, i + 1);
        v->box[0] = fmin(v->box[0], x);
        v->box[1] = fmin(v->box[1], y);
        v->box[2] = fmax(v->box[2], x);
        v->box[3] = fmax(v->box[3], y);
    }
}

/* To a hundredth: [what, shape, numbers..., text]. */
static void put_mark(viewer *v, FILE *file, const json_t *mark)
{
    int shape = shape_of_mark(mark);
    fprintf(file, "[%u,%d", what_of_mark(mark), shape);
    for (size_t i = 0; i + 2 < json_array_size(mark); i++) {
        const json_t *value = json_array_get(mark, i + 2);
        fputc(',', file);
        if (json_is_number(value))
            view_put_number(file, round(json_number_value(value) * 100) / 100);
        else
            view_put_json(v, file, value);
    }
    fputc(']', file);
    widen_box(v, mark, shape);
}

/* How many values there are behind what and shape; 0: any even number. */
static bool is_size_fine(int shape, size_t values)
{
    static const size_t sizes[SHAPE_COUNT] = {4, 0, 3, 3, 3};
    return sizes[shape] != 0 ? values == sizes[shape]
                             : values > 0 && values % 2 == 0;
}

static const char *check_mark(const json_t *mark)
{
    int shape = shape_of_mark(mark);
    size_t size = json_array_size(mark);
    if (shape < 0 || what_of_mark(mark) == IKV_DRAW_COUNT ||
        !is_size_fine(shape, size - 2))
        return "expected a mark such as [\"solid\",\"circle\",x,y,radius]";
    for (size_t i = 2; i < size; i++) {
        const json_t *value = json_array_get(mark, i);
        if (shape == SHAPE_TEXT && i == 4 ? !json_is_string(value)
                                          : !json_is_number(value))
            return "expected numbers in a mark, and a text in one of a text";
    }
    return NULL;
}

static const char *check_marks(const json_t *marks)
{
    const char *wrong =
        json_is_array(marks) ? NULL : "expected a list of marks";
    for (size_t i = 0; wrong == NULL && i < json_array_size(marks); i++)
        wrong = check_mark(json_array_get(marks, i));
    return wrong;
}

static void put_marks(viewer *v, FILE *file, const json_t *marks)
{
    fputc('[', file);
    for (size_t i = 0; i < json_array_size(marks); i++) {
        if (i > 0)
            fputc(',', file);
        put_mark(v, file, json_array_get(marks, i));
    }
    fputc(']', file);
}

static bool is_mark_moved(const json_t *a, const json_t *b, double by[2],
                          bool *known)
{
    int shape = shape_of_mark(a);
    size_t size = json_array_size(a), places = places_of(a, shape);
    if (shape != shape_of_mark(b) || size != json_array_size(b) ||
        what_of_mark(a) != what_of_mark(b))
        return false;
    for (size_t i = 0; i + 2 < size; i++) {
        double from = value_at(a, i), to = value_at(b, i);
        double moved = i < places ? by[i % 2] : 0;
        if (shape == SHAPE_TEXT && i == 2) {
            if (!json_equal(json_array_get((json_t *)a, 4),
                            json_array_get((json_t *)b, 4)))
                return false;
        } else if (i < places && !*known) {
            by[i] = to - from;
            *known = i == 1;
        } else if (fabs(to - from - moved) > 0.0021) {
            return false;
        }
    }
    return true;
}

/* Whether one is the other, moved by so much. */
static bool is_moved(const json_t *a, const json_t *b, double by[2])
{
    bool known = false;
    size_t count = json_array_size(a);
    if (count == 0 || count != json_array_size(b))
        return false;
    for (size_t i = 0; i < count; i++)
        if (!is_mark_moved(json_array_get(a, i), json_array_get(b, i), by,
                           &known))
            return false;
    return known;
}

static json_t **look_of(viewer *v, size_t name)
{
    if (name >= v->look_count) {
        size_t count = name * 2 + 64;
        json_t **looks = realloc(v->looks, count * sizeof *looks);
        v->lost = v->lost || looks == NULL;
        if (looks == NULL)
            return NULL;
        memset(looks + v->look_count, 0,
               (count - v->look_count) * sizeof *looks);
        v->looks = looks;
        v->look_count = count;
    }
    return &v->looks[name];
}

/* [scene, dx, dy, names...]: what has moved together. */
static void end_movement(viewer *v)
{
    movement *m = &v->moved;
    FILE *file = m->count > 0 ? view_row(v, MARKS) : NULL;
    if (file == NULL)
        return;
    fprintf(file, "[%zu,", v->scenes);
    view_put_number(file, m->by[0]);
    fputc(',', file);
    view_put_number(file, m->by[1]);
    for (size_t i = 0; i < m->count; i++)
        fprintf(file, ",%lld", (long long)m->names[i]);
    fputc(']', file);
    m->count = 0;
}

static void add_movement(viewer *v, json_int_t name, const double by[2])
{
    movement *m = &v->moved;
    const double rounded[2] = {round(by[0] * 100) / 100,
                               round(by[1] * 100) / 100};
    if (m->by[0] != rounded[0] || m->by[1] != rounded[1])
        end_movement(v);
    if (m->count == m->room) {
        size_t room = m->room * 2 + 16;
        json_int_t *names = realloc(m->names, room * sizeof *names);
        v->lost = v->lost || names == NULL;
        if (names == NULL)
            return;
        m->names = names;
        m->room = room;
    }
    memcpy(m->by, rounded, sizeof m->by);
    m->names[m->count++] = name;
}

/* [scene, name, marks], unless it is what it was, moved. */
static void write_look(viewer *v, const char *name, json_t *marks)
{
    json_int_t number = view_name(v, name);
    json_t **look = look_of(v, (size_t)number);
    double by[2] = {0, 0};
    if (look == NULL)
        return;
    if (*look != NULL && is_moved(*look, marks, by)) {
        add_movement(v, number, by);
        return;
    }
    FILE *file = view_row(v, MARKS);
    if (file == NULL)
        return;
    fprintf(file, "[%zu,%lld,", v->scenes, (long long)number);
    put_marks(v, file, marks);
    fputc(']', file);
    json_decref(*look);
    *look = json_incref(marks);
}

static void write_order(viewer *v, const json_t *order)
{
    json_t *row = json_array();
    for (size_t i = 0; i < json_array_size(order); i++)
        view_add(v, row,
                 json_integer(view_name(
                     v, json_string_value(json_array_get(order, i)))));
    FILE *file = view_row(v, ORDERS);
    if (file != NULL) {
        fprintf(file, "[%zu,", v->scenes);
        view_put_json(v, file, row);
        fputc(']', file);
    }
    json_decref(row);
}

const char *view_take_scene(viewer *v, json_t *line)
{
    const json_t *order = json_object_get(line, "order");
    const json_t *pointers = json_object_get(line, "pointers");
    json_t *targets = json_object_get(line, "marks"), *marks;
    const char *name;
    if (v->view == NULL)
        v->view = json_incref(json_object_get(line, "view"));
    if (order != NULL)
        write_order(v, order);
    json_object_foreach(targets, name, marks)
    {
        const char *wrong = check_marks(marks);
        if (wrong != NULL)
            return wrong;
        write_look(v, name, marks);
    }
    end_movement(v);
    if (pointers != NULL) {
        const char *wrong = check_marks(pointers);
        FILE *file = wrong == NULL ? view_row(v, POINTERS) : NULL;
        if (wrong != NULL)
            return wrong;
        if (file != NULL) {
            fprintf(file, "[%zu,", v->scenes);
            put_marks(v, file, pointers);
            fputc(']', file);
        }
    }
    v->t = json_number_value(json_object_get(line, "t"));
    v->step = json_integer_value(json_object_get(line, "scene"));
    v->scenes++;
    view_end_moment(v);
    return NULL;
}
