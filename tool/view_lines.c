/* view_lines.c - lines of a trace, in rows. */
#define _POSIX_C_SOURCE 200809L
#include "view.h"

#include <stdlib.h>
#include <string.h>

/* What is told of an event beside its fields. */
enum {
    BIT_GONE = 1,
    BIT_PASSED = 2,
    BIT_MIRROR = 4,
    BIT_DROPPED = 8,
    BIT_UNHEARD = 16
};

enum {
    NUMBERS = 100000000 /* of events: below that */
};

static json_int_t name_in(viewer *v, const json_t *line, const char *member)
{
    return view_name(v, view_text(line, member));
}

/* ---------------------------------------------------------------- events -- */

/* What an event's row has beside the fields of its shape. */
static bool is_of_line(const char *member)
{
    static const char *const all[] = {
        "n",      "event",   "cause",   "step",    "t",     "kind",
        "at",     "path",    "target",  "gone",    "phase", "passed",
        "mirror", "handler", "dropped", "verdict", NULL};
    for (int i = 0; all[i] != NULL; i++)
        if (strcmp(all[i], member) == 0)
            return true;
    return false;
}

/* What differs from event to event; the rest is often the same. */
static bool is_place(const char *member)
{
    static const char *const all[] = {"x", "y", "dx", "dy"};
    for (size_t i = 0; i < sizeof all / sizeof all[0]; i++)
        if (strcmp(all[i], member) == 0)
            return true;
    return false;
}

/* A kind, and which fields its lines have: first those of the place, then the
 * others: ["pointer.move",["x","y"],["device",...]]. */
static json_int_t shape_of(viewer *v, json_t *line)
{
    json_t *row = json_array(), *places = json_array(), *others = json_array();
    const char *member;
    json_t *value;
    json_object_foreach(line, member, value)
    {
        if (!is_of_line(member))
            view_add(v, is_place(member) ? places : others,
                     json_string(member));
    }
    view_add(v, row, json_incref(json_object_get(line, "kind")));
    view_add(v, row, places);
    view_add(v, row, others);
    return view_list(v, v->shapes, row, SHAPES);
}

static json_int_t rest_of(viewer *v, json_t *line)
{
    json_t *row = json_array(), *value;
    const char *member;
    json_object_foreach(line, member, value)
    {
        if (!is_of_line(member) && !is_place(member))
            view_add(v, row, json_incref(value));
    }
    return view_list(v, v->rests, row, RESTS);
}

static json_int_t path_of(viewer *v, const json_t *line)
{
    const json_t *path = json_object_get(line, "path");
    json_t *row = json_array();
    for (size_t i = 0; i < json_array_size(path); i++)
        view_add(v, row,
                 json_integer(
                     view_name(v, json_string_value(json_array_get(path, i)))));
    return view_list(v, v->paths, row, PATHS);
}

static unsigned bits_of(const json_t *line)
{
    return (json_is_true(json_object_get(line, "gone")) ? BIT_GONE : 0u) |
           (json_is_true(json_object_get(line, "passed")) ? BIT_PASSED : 0u) |
           (json_is_true(json_object_get(line, "mirror")) ? BIT_MIRROR : 0u) |
           (json_is_true(json_object_get(line, "dropped")) ? BIT_DROPPED : 0u) |
           (json_is_null(json_object_get(line, "handler")) ? BIT_UNHEARD : 0u);
}

/* [shape, number, t, step, target, cause, bits, path, rest, the place...] */
static void write_event(viewer *v, json_t *line, json_int_t number)
{
    json_int_t shape = shape_of(v, line), target = name_in(v, line, "target");
    json_int_t path = path_of(v, line), rest = rest_of(v, line);
    FILE *file = view_row(v, EVENTS);
    const char *member;
    json_t *value;
    if (file == NULL)
        return;
    fprintf(file, "[%lld,%lld,%.15g,%lld,%lld,%lld,%u,%lld,%lld",
            (long long)shape, (long long)number, v->t, (long long)v->step,
            (long long)target,
            (long long)json_integer_value(json_object_get(line, "cause")),
            bits_of(line), (long long)path, (long long)rest);
    json_object_foreach(line, member, value)
    {
        if (is_place(member)) {
            fputc(',', file);
            view_put_json(v, file, value);
        }
    }
    fputc(']', file);
}

static void write_call(viewer *v, const json_t *line, json_int_t number)
{
    json_int_t at = name_in(v, line, "at"), phase = name_in(v, line, "phase");
    json_int_t handler = name_in(v, line, "handler");
    json_int_t verdict = name_in(v, line, "verdict");
    FILE *file = view_row(v, CALLS);
    v->calls++;
    if (file != NULL)
        fprintf(file, "[%lld,%lld,%lld,%lld,%lld]", (long long)number,
                (long long)at, (long long)phase, (long long)handler,
                (long long)verdict);
}

/* Whether the event has no row yet; it gets one. */
static bool is_new(viewer *v, size_t number)
{
    if (number / 8 >= v->number_room) {
        size_t room = number / 8 * 2 + 1024;
        unsigned char *written = realloc(v->written, room);
        v->lost = v->lost || written == NULL;
        if (written == NULL)
            return false;
        memset(written + v->number_room, 0, room - v->number_room);
        v->written = written;
        v->number_room = room;
    }
    bool before = (v->written[number / 8] >> number % 8 & 1) != 0;
    v->written[number / 8] |= (unsigned char)(1u << number % 8);
    return !before;
}

/* --------------------------------------------------------------- moments -- */

static const char *take_delivery(viewer *v, json_t *line)
{
    const json_t *handler = json_object_get(line, "handler");
    const char *kind = json_string_value(json_object_get(line, "kind"));
    json_int_t number = json_integer_value(json_object_get(line, "event"));
    const json_t *step = json_object_get(line, "step");
    bool of_frame = kind != NULL && strcmp(kind, "loop.frame") == 0;
    bool idle = of_frame || (kind != NULL && strcmp(kind, "loop.step") == 0);
    /* what turns the clock tells of the step that comes next */
    if (kind != NULL && strncmp(kind, "loop.", 5) == 0 && !idle)
        step = NULL;
    if (kind == NULL || handler == NULL)
        return "expected a call of a trace";
    if (number < 0 || number >= NUMBERS)
        return "expected an event's number below 100,000,000";
    if (step != NULL && json_integer_value(step) != v->moment_step && v->began)
        view_end_moment(v);
    v->t = json_number_value(json_object_get(line, "t"));
    v->step = step != NULL ? json_integer_value(step) : v->step;
    v->moment_step = v->step;
    v->began = true;
    /* a step that nobody hears of goes without saying */
    if (!(idle && json_is_null(handler)) && is_new(v, (size_t)number))
        write_event(v, line, number);
    if (json_is_string(handler))
        write_call(v, line, number);
    return NULL;
}

/* -------------------------------------------------------------- decisions -- */

/* [what, event, t, about, sentence] */
static void write_decision(viewer *v, const json_t *line, const char *about,
                           const char *sentence)
{
    char shown[4096];
    json_int_t what = name_in(v, line, "decision");
    json_int_t who = view_name(v, about);
    /* what was cut may end within a character */
    json_int_t text =
        view_name(v, ikv_shown_text(sentence, shown, sizeof shown));
    FILE *file = view_row(v, DECISIONS);
    if (file != NULL)
        fprintf(file, "[%lld,%lld,%.15g,%lld,%lld]", (long long)what,
                (long long)json_integer_value(json_object_get(line, "event")),
                json_number_value(json_object_get(line, "t")), (long long)who,
                (long long)text);
}

/* "not called at lamp: it is muted; x is 3, and must be 4 (condition 1)". */
static void write_obstacles(viewer *v, const json_t *line, const char *about,
                            const char *begin)
{
    const json_t *list = json_object_get(line, "obstacles");
    char sentence[2048];
    int used = snprintf(sentence, sizeof sentence, "%s", begin);
    for (size_t i = 0; i < json_array_size(list); i++)
        if (used >= 0 && (size_t)used < sizeof sentence)
            used += snprintf(sentence + used, sizeof sentence - (size_t)used,
                             "%s%s", i == 0 ? ": " : "; ",
                             view_text(json_array_get(list, i), "text"));
    write_decision(v, line, about, sentence);
}

/* Who was there, beneath who got it. */
static void write_beneath(viewer *v, const json_t *line)
{
    const json_t *there = json_object_get(line, "there");
    const char *captured = json_string_value(json_object_get(line, "captured"));
    const char *top = json_string_value(json_array_get(there, 0));
    char sentence[512];
    for (size_t i = captured != NULL ? 0 : 1; i < json_array_size(there); i++) {
        if (captured != NULL)
            snprintf(sentence, sizeof sentence,
                     "it was there; %.200s has captured the pointer", captured);
        else
            snprintf(sentence, sizeof sentence, "it was there, beneath %.200s",
                     top != NULL ? top : "");
        write_decision(v, line, json_string_value(json_array_get(there, i)),
                       sentence);
    }
}

static void write_change(viewer *v, const json_t *line, const char *what)
{
    const char *by = json_string_value(json_object_get(line, "by"));
    bool limit = strcmp(view_text(line, "reason"), "limit") == 0;
    char sentence[512];
    snprintf(sentence, sizeof sentence, "it was %s%s%.200s%s", what,
             by != NULL ? " by the handler \"" : "", by != NULL ? by : "",
             by != NULL ? "\""
             : limit    ? ": that was its last call, by its limit"
                        : "");
    write_decision(v, line, view_text(line, "handler"), sentence);
}

static const char *take_decision(viewer *v, const json_t *line)
{
    const char *what = view_text(line, "decision");
    char sentence[1024];
    v->merged += strcmp(what, "merge") == 0;
    v->deferred += strcmp(what, "defer") == 0;
    if (strcmp(what, "skip") == 0) {
        snprintf(sentence, sizeof sentence, "not called at %.200s",
                 view_text(line, "at"));
        write_obstacles(v, line, view_text(line, "handler"), sentence);
    } else if (strcmp(what, "press") == 0) {
        snprintf(sentence, sizeof sentence, "not started by %.200s",
                 view_text(line, "binding"));
        write_obstacles(v, line, view_text(line, "action"), sentence);
    } else if (strcmp(what, "hit") == 0) {
        write_beneath(v, line);
    } else if (strcmp(what, "defer") == 0) {
        snprintf(sentence, sizeof sentence,
                 "%.200s at %.200s was put on the lane \"%.200s\"",
                 view_text(line, "kind"), view_text(line, "target"),
                 view_text(line, "lane"));
        write_decision(v, line, view_text(line, "by"), sentence);
    } else if (strcmp(what, "refuse") == 0) {
        snprintf(sentence, sizeof sentence, "%.200s was not delivered: %.400s",
                 view_text(line, "kind"), view_text(line, "text"));
        write_decision(v, line, view_text(line, "kind"), sentence);
    } else if (strcmp(what, "mute") == 0) {
        write_change(v, line, "muted");
    } else if (strcmp(what, "unmute") == 0) {
        write_change(v, line, "woken");
    } else if (strcmp(what, "end") == 0) {
        write_change(v, line, "ended");
    } else if (strcmp(what, "merge") != 0) {
        return "expected a decision that this version knows";
    }
    return NULL;
}

/* [about, name, called, missed, text] */
static const char *take_answer(viewer *v, const json_t *line)
{
    if (!json_is_string(json_object_get(line, "text")))
        return "expected an answer with a text";
    json_int_t about = name_in(v, line, "answer");
    json_int_t name = name_in(v, line, "name");
    FILE *file = view_row(v, ANSWERS);
    if (file == NULL)
        return NULL;
    fprintf(file, "[%lld,%lld,%lld,%lld,", (long long)about, (long long)name,
            (long long)json_integer_value(json_object_get(line, "called")),
            (long long)json_integer_value(json_object_get(line, "missed")));
    view_put_json(v, file, json_object_get(line, "text"));
    fputc(']', file);
    return NULL;
}

const char *view_take_line(void *user, json_t *line)
{
    viewer *v = user;
    /* calls are numbered, whatever their fields are called */
    if (json_object_get(line, "n") != NULL)
        return take_delivery(v, line);
    if (json_object_get(line, "scene") != NULL)
        return view_take_scene(v, line);
    if (json_object_get(line, "decision") != NULL)
        return take_decision(v, line);
    if (json_object_get(line, "answer") != NULL)
        return take_answer(v, line);
    return take_delivery(v, line);
}
