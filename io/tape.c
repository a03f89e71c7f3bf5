/* tape.c - reading tapes: a header line, then an event a line. */
#define _POSIX_C_SOURCE 200809L
#include "json.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

struct ikv_tape {
    FILE *file;
    char *path, *line;
    size_t room;
    reader reader;
    const ikv_setup *setup;
    uint64_t until_ns, last_ns;
    ikv_message fault;
    bool failed;
};

enum {
    LINE_LIMIT = 65536
};

#define DAYS_100_MS 8.64e9

/* The next line that is not empty, as an object. *object is NULL at the end
 * of the file. */
static bool read_object(ikv_tape *tape, json_t **object)
{
    *object = NULL;
    ssize_t length;
    do {
        length = getline(&tape->line, &tape->room, tape->file);
        if (length < 0)
            return !ferror(tape->file) ||
                   reader_fail(&tape->reader, NULL, "can't read: %s",
                               strerror(errno));
        tape->reader.line++;
        if (length > LINE_LIMIT)
            return reader_fail(&tape->reader, NULL,
                               "the line has %zd bytes, expected at most %d",
                               length, LINE_LIMIT);
    } while (strspn(tape->line, " \t\r\n") == (size_t)length);
    json_error_t error;
    *object =
        json_loadb(tape->line, (size_t)length, JSON_REJECT_DUPLICATES, &error);
    if (*object == NULL) {
        return reader_fail(&tape->reader, NULL,
                           "column %d: expected one JSON object a line: %s",
                           error.column, error.text);
    }
    if (!json_is_object(*object))
        return reader_fail(&tape->reader, NULL, "expected an object, found %s",
                           json_found(*object));
    return true;
}

static bool read_header(ikv_tape *tape, const json_t *object)
{
    static const char *const members[] = {"format", "until", NULL};
    const char *format = NULL;
    double until = 0;
    reader *r = &tape->reader;
    if (object == NULL)
        return reader_fail(r, NULL,
                           "the file is empty, expected a header line "
                           "{\"format\":\"ikvar.tape/1\"}");
    if (!read_string(r, NULL, object, "format", true, &format))
        return false;
    if (strcmp(format, "ikvar.tape/1") != 0)
        return reader_fail(r, NULL,
                           "expected format \"ikvar.tape/1\", found \"%.60s\"",
                           format);
    if (!expect_object(r, NULL, object, members) ||
        !read_number(r, NULL, object, "until", 0, DAYS_100_MS, &until))
        return false;
    tape->until_ns = (uint64_t)(until * 1e6 + 0.5);
    return true;
}

ikv_status ikv_tape_open(const char *path, const ikv_setup *setup,
                         ikv_tape **tape, ikv_message *message)
{
    if (path == NULL || tape == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_tape *t = calloc(1, sizeof *t);
    if (t == NULL)
        return IKV_NO_MEMORY;
    t->path = strdup(path);
    t->setup = setup;
    t->reader = (reader){.path = path, .message = message};
    t->file = fopen(path, "r");
    json_t *header = NULL;
    if (t->file == NULL)
        reader_fail(&t->reader, NULL, "can't open the tape: %s",
                    strerror(errno));
    else if (read_object(t, &header))
        read_header(t, header);
    json_decref(header);
    if (t->reader.failed || t->path == NULL) {
        ikv_tape_close(t);
        return IKV_BAD_FILE;
    }
    t->reader.path = t->path;
    *tape = t;
    return IKV_OK;
}

/* --------------------------------------------------------------- events -- */

static ikv_target find_by_name(const void *setup, const char *name)
{
    return ikv_setup_target(setup, name);
}

static bool read_kind(ikv_tape *tape, const json_t *object,
                      const ikv_kind_info **info)
{
    reader *r = &tape->reader;
    const ikv_catalogue *catalogue = ikv_setup_catalogue(tape->setup);
    const char *name = NULL;
    if (!read_string(r, NULL, object, "kind", true, &name))
        return false;
    *info = ikv_catalogue_info(catalogue, ikv_catalogue_find(catalogue, name));
    if (*info != NULL && ((*info)->from & (IKV_FROM_P | IKV_FROM_U)))
        return true;
    const char *known[IKV_KIND_USER + 256];
    size_t count = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE &&
         count < IKV_KIND_USER + 255;) {
        const ikv_kind_info *one = ikv_catalogue_info(catalogue, k);
        if (one->from & (IKV_FROM_P | IKV_FROM_U))
            known[count++] = one->name;
    }
    known[count] = NULL;
    const char *near = ikv_nearest_name(name, known);
    return reader_fail(r, NULL, "%s \"%.60s\"%s%s%s",
                       *info != NULL ? "ports do not push the kind"
                                     : "unknown kind",
                       name, near != NULL ? "; did you mean \"" : "",
                       near != NULL ? near : "", near != NULL ? "\"?" : "");
}

static bool read_time(ikv_tape *tape, const json_t *object, ikv_event *event)
{
    double t = -1;
    if (json_object_get(object, "t") == NULL)
        return reader_fail(&tape->reader, NULL, "member \"t\" is missing");
    if (!read_number(&tape->reader, NULL, object, "t", 0, DAYS_100_MS, &t))
        return false;
    event->time_ns = (uint64_t)(t * 1e6 + 0.5);
    if (event->time_ns < tape->last_ns) {
        char last[32];
        ikv_time_format(tape->last_ns, last);
        return reader_fail(&tape->reader, NULL,
                           "the time runs backwards: expected t of at least "
                           "%s, found %s",
                           last, json_found(json_object_get(object, "t")));
    }
    tape->last_ns = event->time_ns;
    return true;
}

static bool refuse_member(reader *r, const ikv_kind_info *info,
                          const char *member)
{
    const char *known[64];
    size_t count = 0;
    const ikv_field *header;
    known[count++] = "t";
    known[count++] = "kind";
    for (uint32_t i = 0; (header = ikv_field_header(i)) != NULL; i++)
        known[count++] = header->name;
    for (uint32_t i = 0; i < info->field_count; i++)
        known[count++] = info->fields[i].name;
    known[count] = NULL;
    const char *near = ikv_nearest_name(member, known);
    return reader_fail(r, NULL, "%s has no field \"%.60s\"%s%s%s", info->name,
                       member, near != NULL ? "; did you mean \"" : "",
                       near != NULL ? near : "", near != NULL ? "\"?" : "");
}

static bool read_event(ikv_tape *tape, json_t *object, ikv_event *event)
{
    const ikv_kind_info *info;
    if (!read_kind(tape, object, &info))
        return false;
    *event = ikv_event_make(info->kind, 0);
    event->device = 1;
    if (info->family == IKV_FAMILY_POINTER)
        event->pointer.button = info->queue_class == IKV_QUEUE_TRANSITION &&
                                        info->kind != IKV_KIND_POINTER_CANCEL
                                    ? IKV_PRIMARY_BUTTON
                                    : IKV_NO_BUTTON;
    if (!read_time(tape, object, event))
        return false;
    target_finder finder = {find_by_name, tape->setup};
    const char *member;
    json_t *value;
    json_object_foreach(object, member, value)
    {
        if (strcmp(member, "t") == 0 || strcmp(member, "kind") == 0 ||
            strcmp(member, "note") == 0)
            continue;
        place at = {NULL, member, 0};
        const ikv_field *field = ikv_field_find(info, member);
        if (field == NULL)
            return refuse_member(&tape->reader, info, member);
        if (!read_field(&tape->reader, &at, value, field,
                        tape->setup != NULL ? &finder : NULL, event))
            return false;
    }
    return true;
}

ikv_status ikv_tape_next(ikv_tape *tape, ikv_event *event, ikv_message *message)
{
    if (tape == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    json_t *object = NULL;
    tape->reader.message = &tape->fault;
    bool good = !tape->failed && read_object(tape, &object) &&
                (object == NULL || read_event(tape, object, event));
    bool ended = good && object == NULL;
    json_decref(object);
    if (good)
        return ended ? IKV_ENDED : IKV_OK;
    tape->failed = true;
    if (message != NULL)
        *message = tape->fault;
    return IKV_BAD_FILE;
}

uint64_t ikv_tape_until(const ikv_tape *tape)
{
    return tape != NULL ? tape->until_ns : 0;
}

void ikv_tape_close(ikv_tape *tape)
{
    if (tape == NULL)
        return;
    if (tape->file != NULL)
        fclose(tape->file);
    free(tape->line);
    free(tape->path);
    free(tape);
}
