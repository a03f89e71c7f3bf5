/* tape_join.c - cuts tapes and joins them, line by line. */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* One part on its way into the new tape. */
typedef struct splice {
    FILE *from, *to;
    reader reader;
    const ikv_tape_part *part;
    char *line;
    size_t room;
    uint64_t base_ns; /* where the part begins on the new tape */
    uint64_t end_ns;  /* where it ends */
    bool first;
} splice;

static bool next_object(splice *s, json_t **object)
{
    *object = NULL;
    ssize_t length;
    do {
        length = getline(&s->line, &s->room, s->from);
        s->reader.line++;
        if (length < 0)
            return !ferror(s->from) ||
                   ikvi_reader_fail(&s->reader, NULL, "can't read: %s",
                                    strerror(errno));
    } while (strspn(s->line, " \t\r\n") == (size_t)length);
    json_error_t error;
    *object =
        json_loadb(s->line, (size_t)length, JSON_REJECT_DUPLICATES, &error);
    if (json_is_object(*object))
        return true;
    json_decref(*object);
    *object = NULL;
    return ikvi_reader_fail(&s->reader, NULL,
                            "expected one JSON object a line");
}

static bool splice_ns(splice *s, const json_t *object, const char *member,
                      uint64_t *ns)
{
    double ms = (double)*ns / 1e6;
    if (!ikvi_read_number(&s->reader, NULL, object, member, 0, 8.64e9, &ms))
        return false;
    *ns = (uint64_t)(ms * 1e6 + 0.5);
    return true;
}

static bool take_header(splice *s)
{
    json_t *header;
    const char *format = NULL;
    double until = 0;
    if (!next_object(s, &header))
        return false;
    bool good =
        header != NULL &&
        ikvi_read_string(&s->reader, NULL, header, "format", true, &format) &&
        ikvi_read_number(&s->reader, NULL, header, "until", 0, 8.64e9, &until);
    if (good && strcmp(format, "ikvar.tape/1") != 0)
        good = ikvi_reader_fail(
            &s->reader, NULL,
            "expected format \"ikvar.tape/1\", found \"%.60s\"", format);
    if (header == NULL)
        ikvi_reader_fail(&s->reader, NULL,
                         "the file is empty, expected a tape");
    s->end_ns =
        s->part->to_ns != 0 ? s->part->to_ns : (uint64_t)(until * 1e6 + 0.5);
    if (good && s->first) {
        json_object_del(header, "until");
        good = ikvi_write_line(s->to, header);
    } else {
        json_decref(header);
    }
    return good;
}

static void set_ms(json_t *object, const char *member, uint64_t ns)
{
    json_object_set_new(object, member,
                        ikvi_json_shortest((double)ns / 1e6, false));
}

/* A digest line says when the run ended; others go over if they are in the
 * part. */
static bool take_line(splice *s, json_t *object)
{
    uint64_t t = 0, due = UINT64_MAX, end = 0;
    bool has_due = json_object_get(object, "due") != NULL;
    if (json_object_get(object, "digest") != NULL) {
        bool good = splice_ns(s, object, "end", &end);
        json_decref(object);
        if (s->part->to_ns == 0 && end > s->end_ns)
            s->end_ns = end;
        return good;
    }
    if (!splice_ns(s, object, "t", &t) ||
        (has_due && !splice_ns(s, object, "due", &due))) {
        json_decref(object);
        return false;
    }
    uint64_t at = has_due ? due : t, from = s->part->from_ns;
    if (at < from || (s->part->to_ns != 0 && at >= s->part->to_ns)) {
        json_decref(object);
        return true;
    }
    if (at > s->end_ns)
        s->end_ns = at;
    set_ms(object, "t", s->base_ns + (t > from ? t - from : 0));
    if (has_due)
        set_ms(object, "due", s->base_ns + due - from);
    return ikvi_write_line(s->to, object) ||
           ikvi_reader_fail(&s->reader, NULL, "can't write the new tape");
}

static bool splice_part(splice *s)
{
    json_t *object = NULL;
    s->reader.path = s->part->path;
    s->reader.line = 0;
    s->from = fopen(s->part->path, "r");
    if (s->from == NULL)
        return ikvi_reader_fail(&s->reader, NULL, "can't open the tape: %s",
                                strerror(errno));
    bool good = take_header(s);
    while (good && (good = next_object(s, &object)) && object != NULL)
        good = take_line(s, object);
    fclose(s->from);
    return good;
}

/* The run lasts until the last part's end: a last line of its own says so,
 * since the header was written first. */
ikv_status ikv_tape_join(const ikv_tape_part *parts, uint32_t count,
                         const char *path, ikv_message *message)
{
    if (parts == NULL || count == 0 || path == NULL)
        return IKV_BAD_ARGUMENT;
    splice s = {.reader = {.path = path, .message = message}, .first = true};
    s.to = fopen(path, "w");
    bool good = s.to != NULL ||
                ikvi_reader_fail(&s.reader, NULL, "can't write the tape: %s",
                                 strerror(errno));
    for (uint32_t i = 0; good && i < count; i++) {
        s.part = &parts[i];
        good = splice_part(&s);
        s.base_ns +=
            s.end_ns > parts[i].from_ns ? s.end_ns - parts[i].from_ns : 0;
        s.first = false;
    }
    if (good) {
        json_t *end = json_object();
        set_ms(end, "end", s.base_ns);
        good = ikvi_write_line(s.to, end);
    }
    free(s.line);
    if (s.to != NULL)
        good = fclose(s.to) == 0 && good;
    return good ? ikvi_message_fine(message) : IKV_BAD_FILE;
}
