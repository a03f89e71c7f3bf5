/* review.c - what a run, or a trace of one, shows that files don't: who was never
 * called, and what went by unheard or late.
 */
#define _POSIX_C_SOURCE 200809L
#include "../setup/setup_shared.h"
#include "../text/json.h"

#include "ikvar/review.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    LANES = 16,        /* of which it is told how long events wait */
    LONG_STEPS = 60,   /* a backlog on a lane */
    LONG_MS = 100,     /* of input */
    OWN_LANES_FROM = 2 /* the loop flushes those before */
};

/* Of a lane: whether a batch that waited at a step is through. */
typedef struct lane_past {
    bool marked;
    uint64_t mark;        /* so many were deferred when it was looked at */
    uint64_t since, most; /* steps */
} lane_past;

/* A handler of the setup, found by its subscription or its name. */
typedef struct reviewed {
    ikv_subscription subscription;
    const char *name;
    bool called;
} reviewed;

struct ikv_review {
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_catalogue *catalogue;
    const ikv_setup *setup;
    reviewed *handlers; /* by subscription */
    uint32_t handler_count;
    json_t *places;    /* of names in that list */
    uint64_t *unheard; /* events, by kind */
    uint32_t kind_room;
    json_t *strangers; /* kinds of a trace that the setup lacks: how many were
                        * unheard; null: some were heard */
    uint64_t steps;
    lane_past lanes[LANES];
    bool torn;
};

/* --------------------------------------------------------------- watching -- */

static int compare_handlers(const void *a, const void *b)
{
    uint64_t x = ((const reviewed *)a)->subscription.bits,
             y = ((const reviewed *)b)->subscription.bits;
    return (x > y) - (x < y);
}

static void note_call(ikv_review *review, ikv_subscription subscription)
{
    reviewed key = {.subscription = subscription};
    reviewed *h = bsearch(&key, review->handlers, review->handler_count,
                          sizeof key, compare_handlers);
    if (h != NULL)
        h->called = true;
}

static void note_unheard(ikv_review *review, ikv_kind kind)
{
    if (kind < review->kind_room)
        review->unheard[kind]++;
}

static void look_at_lanes(ikv_review *review)
{
    uint64_t now = ++review->steps;
    for (uint32_t nth = 0; nth < LANES; nth++) {
        ikv_lane lane = (ikv_lane)nth;
        ikv_lane_counts c = IKV_LANE_COUNTS_INIT;
        lane_past *past = &review->lanes[lane];
        if (ikv_bus_lane_counters(review->bus, lane, &c) < 0)
            return;
        /* first in, first out: then all before the mark are through */
        if (past->marked && c.delivered + c.dropped >= past->mark)
            past->marked = false;
        if (past->marked && now - past->since > past->most)
            past->most = now - past->since;
        if (!past->marked && c.waiting > 0)
            *past = (lane_past){true, c.deferred, now, past->most};
    }
}

static void watch_run(const ikv_watch *watch, void *user)
{
    ikv_review *review = user;
    if (watch->what == IKV_WATCH_CALL)
        note_call(review, watch->subscription);
    else if (watch->heard == 0)
        note_unheard(review, watch->event->kind);
    if (watch->what == IKV_WATCH_DONE &&
        watch->event->kind == IKV_KIND_LOOP_STEP)
        look_at_lanes(review);
}

/* ---------------------------------------------------------------- opening -- */

static bool list_handlers(ikv_review *review)
{
    const char *name;
    uint32_t count = 0;
    while (ikv_setup_name(review->setup, IKV_SETUP_HANDLERS, count) != NULL)
        count++;
    review->handlers = calloc(count + 1u, sizeof *review->handlers);
    review->places = json_object();
    if (review->handlers == NULL || review->places == NULL)
        return false;
    for (uint32_t i = 0; i < count; i++) {
        name = ikv_setup_name(review->setup, IKV_SETUP_HANDLERS, i);
        review->handlers[i] = (reviewed){
            ikv_setup_subscription(review->setup, name), name, false};
    }
    review->handler_count = count;
    qsort(review->handlers, count, sizeof *review->handlers, compare_handlers);
    for (uint32_t i = 0; i < count; i++)
        if (json_object_set_new_nocheck(
                review->places, review->handlers[i].name, json_integer(i)) != 0)
            return false;
    return true;
}

static bool make_room(ikv_review *review)
{
    ikv_kind kind = IKV_KIND_NONE;
    while ((kind = ikv_catalogue_next(review->catalogue, kind)) !=
           IKV_KIND_NONE)
        review->kind_room = kind + 1u;
    review->unheard = calloc(review->kind_room + 1u, sizeof *review->unheard);
    review->strangers = json_object();
    return review->unheard != NULL && review->strangers != NULL &&
           list_handlers(review);
}

static void drop(ikv_review *review)
{
    free(review->handlers);
    free(review->unheard);
    json_decref(review->places);
    json_decref(review->strangers);
    free(review);
}

ikv_status ikv_review_open(ikv_kit *kit, const ikv_setup *setup,
                           ikv_review **review)
{
    if (kit == NULL || setup == NULL || review == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_review *made = calloc(1, sizeof *made);
    if (made == NULL)
        return IKV_NO_MEMORY;
    made->kit = kit;
    made->bus = ikv_kit_bus(kit);
    made->catalogue = ikv_bus_catalogue(made->bus);
    made->setup = setup;
    ikv_status status =
        make_room(made)
            ? ikv_bus_add_watcher(made->bus, IKV_WATCH_CALL | IKV_WATCH_DONE,
                                  watch_run, made)
            : IKV_NO_MEMORY;
    if (status < 0) {
        drop(made);
        return status;
    }
    *review = made;
    return IKV_OK;
}

ikv_status ikv_review_close(ikv_review *review)
{
    if (review == NULL)
        return IKV_OK;
    ikv_status status = ikv_bus_remove_watcher(review->bus, watch_run, review);
    if (status == IKV_OK)
        drop(review);
    return status;
}

/* ----------------------------------------------------------------- traces -- */

static bool take_header(reader *r, const json_t *line)
{
    const char *format = NULL;
    return ikvi_read_string(r, NULL, line, "format", true, &format) &&
           (strncmp(format, "ikvar.trace/", 12) == 0 ||
            ikvi_reader_fail(r, NULL,
                             "expected the format \"ikvar.trace/2\", found "
                             "\"%.60s\"",
                             format));
}

/* A kind that the program has registered by itself. */
static bool note_stranger(ikv_review *review, reader *r, const char *kind,
                          bool heard)
{
    json_t *before = json_object_get(review->strangers, kind);
    json_t *now = heard || json_is_null(before)
                      ? json_null()
                      : json_integer(json_integer_value(before) + 1);
    return json_object_set_new(review->strangers, kind, now) == 0 ||
           ikvi_no_memory(r) == IKV_OK;
}

static bool take_line(ikv_review *review, reader *r, const json_t *line)
{
    const char *kind = NULL, *handler = NULL;
    const json_t *member = json_object_get(line, "handler");
    /* what is told besides calls, which are numbered, is no matter here */
    if (json_object_get(line, "n") == NULL &&
        (json_object_get(line, "scene") != NULL ||
         json_object_get(line, "decision") != NULL ||
         json_object_get(line, "answer") != NULL))
        return true;
    if (!ikvi_read_string(r, NULL, line, "kind", true, &kind) ||
        (!json_is_null(member) &&
         !ikvi_read_string(r, NULL, line, "handler", false, &handler)))
        return false;
    ikv_kind number = ikv_catalogue_find(review->catalogue, kind);
    const json_t *found =
        handler != NULL ? json_object_get(review->places, handler) : NULL;
    /* others are the program's own */
    if (found != NULL)
        review->handlers[json_integer_value(found)].called = true;
    if (number == IKV_KIND_NONE)
        return note_stranger(review, r, kind, !json_is_null(member));
    if (json_is_null(member))
        note_unheard(review, number);
    return true;
}

/* Whether the last line is left out: who wrote it was stopped. */
static bool is_torn(FILE *file, const char *line, ssize_t length)
{
    if (line[length - 1] == '\n' || fgetc(file) != EOF)
        return false;
    json_t *whole = json_loadb(line, (size_t)length, 0, NULL);
    json_decref(whole);
    return whole == NULL;
}

static bool take_lines(ikv_review *review, reader *r, FILE *file)
{
    char *text = NULL;
    size_t room = 0;
    ssize_t length;
    bool fine = true;
    while (fine && (length = getline(&text, &room, file)) > 0) {
        r->line++;
        if (r->line > 1 && is_torn(file, text, length)) {
            review->torn = true;
            break;
        }
        json_t *line = ikvi_json_parse(r, text, (size_t)length);
        fine = line != NULL && (r->line == 1 ? take_header(r, line)
                                             : take_line(review, r, line));
        json_decref(line);
    }
    free(text);
    if (fine && ferror(file) != 0)
        return ikvi_reader_fail(r, NULL, "can't be read: %s", strerror(errno));
    return fine &&
           (r->line > 0 ||
            ikvi_reader_fail(r, NULL, "expected a trace, found an empty file"));
}

ikv_status ikv_review_trace(ikv_review *review, const char *path,
                            ikv_message *message)
{
    if (review == NULL || path == NULL)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = path, .message = message};
    errno = 0;
    FILE *file = fopen(path, "r");
    if (file == NULL) {
        ikvi_reader_fail(&r, NULL, "can't open the trace: %s", strerror(errno));
        return ikvi_reader_status(&r);
    }
    take_lines(review, &r, file);
    fclose(file);
    return ikvi_reader_status(&r);
}

/* ---------------------------------------------------------------- telling -- */

typedef struct teller {
    ikv_mistake_fn told;
    void *user;
} teller;

static void tell(const teller *t, uint16_t code, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

static void tell(const teller *t, uint16_t code, const char *format, ...)
{
    char line[320], shown[sizeof line];
    va_list list;
    va_start(list, format);
    vsnprintf(line, sizeof line, format, list);
    va_end(list);
    t->told(&(ikv_mistake){code, ikv_shown_text(line, shown, sizeof shown)},
            t->user);
}

/* Whether any handler of the setup listens to the kind, wherever it is. */
static bool is_listened_to(const ikv_review *review, ikv_kind kind)
{
    for (uint32_t i = 0; i < review->handler_count; i++)
        if (ikvi_kit_hears(review->bus, review->handlers[i].subscription, kind))
            return true;
    return false;
}

/* Kinds that are listened to; of the setup's own alone, or all. */
static const char **list_listened(const ikv_review *review, bool own)
{
    const char **known = calloc(review->kind_room + 1u, sizeof *known);
    uint32_t count = 0;
    ikv_kind kind = own ? IKV_KIND_USER - 1 : IKV_KIND_NONE;
    while (known != NULL && (kind = ikv_catalogue_next(review->catalogue,
                                                       kind)) != IKV_KIND_NONE)
        if (is_listened_to(review, kind))
            known[count++] = ikv_catalogue_info(review->catalogue, kind)->name;
    return known;
}

static void tell_near_name(const teller *t, const char *kind, uint64_t unheard,
                           const char *const *listened)
{
    const char *near = ikv_nearest_name(kind, listened);
    if (near != NULL)
        tell(t, IKV_MISTAKE_NEAR_NAME,
             "%.60s: %llu of this kind came, and nobody hears it; \"%.60s\" "
             "is listened to",
             kind, (unsigned long long)unheard, near);
}

/* One of the two is not built in: those have names that are near by design. */
static ikv_status tell_near_names(const ikv_review *review, const teller *t)
{
    const char **own = list_listened(review, true);
    const char **all = list_listened(review, false);
    ikv_kind kind = IKV_KIND_NONE;
    const char *name;
    json_t *count;
    bool whole = own != NULL && all != NULL;
    while (whole && (kind = ikv_catalogue_next(review->catalogue, kind)) !=
                        IKV_KIND_NONE)
        if (review->unheard[kind] > 0 && !is_listened_to(review, kind))
            tell_near_name(t, ikv_catalogue_info(review->catalogue, kind)->name,
                           review->unheard[kind],
                           kind < IKV_KIND_USER ? own : all);
    json_object_foreach(review->strangers, name, count)
    {
        if (whole && json_is_integer(count))
            tell_near_name(t, name, (uint64_t)json_integer_value(count), all);
    }
    free(own);
    free(all);
    return whole ? IKV_OK : IKV_NO_MEMORY;
}

static void tell_lanes(const ikv_review *review, const teller *t)
{
    const char *name;
    for (uint32_t nth = 0; nth < LANES; nth++) {
        ikv_lane lane = (ikv_lane)nth;
        ikv_lane_counts c = IKV_LANE_COUNTS_INIT;
        if (ikv_bus_lane_counters(review->bus, lane, &c) < 0)
            return;
        name = ikv_bus_lane_name(review->bus, lane);
        if (lane >= OWN_LANES_FROM && c.waiting > 0 &&
            c.delivered + c.dropped == 0)
            tell(t, IKV_MISTAKE_NEVER_FLUSHED,
                 "%.60s: %u events wait on this lane, and it was never flushed",
                 name, c.waiting);
        else if (review->lanes[lane].most >= LONG_STEPS)
            tell(t, IKV_MISTAKE_BACKLOG,
                 "%.60s: events waited on this lane for up to %llu steps", name,
                 (unsigned long long)review->lanes[lane].most);
    }
}

static void tell_input(const ikv_review *review, const teller *t)
{
    ikv_loop_counts c = IKV_LOOP_COUNTS_INIT;
    ikv_loop_counters(ikv_kit_loop(review->kit), &c);
    if (c.aged > 0 && c.max_age_ns >= (uint64_t)LONG_MS * 1000000)
        tell(t, IKV_MISTAKE_BACKLOG,
             "input: %llu events had waited longer than a frame when they were "
             "taken in, up to %s ms",
             (unsigned long long)c.aged,
             ikvi_number((double)c.max_age_ns / 1e6).text);
}

ikv_status ikv_review_tell(const ikv_review *review, ikv_mistake_fn told,
                           void *user)
{
    if (review == NULL || told == NULL)
        return IKV_BAD_ARGUMENT;
    const teller t = {told, user};
    if (review->torn)
        tell(&t, IKV_MISTAKE_TORN, "the trace is torn at its end");
    /* in the setup's order */
    const char *name;
    for (uint32_t i = 0;
         (name = ikv_setup_name(review->setup, IKV_SETUP_HANDLERS, i)) != NULL;
         i++) {
        const json_t *found = json_object_get(review->places, name);
        if (!review->handlers[json_integer_value(found)].called)
            tell(&t, IKV_MISTAKE_NEVER_CALLED, "%.60s: it was never called",
                 name);
    }
    tell_lanes(review, &t);
    tell_input(review, &t);
    return tell_near_names(review, &t);
}
