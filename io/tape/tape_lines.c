/* tape_lines.c - finds the lines of tapes; their headers. T4: a torn last one
 * is left out. See tape.h. */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum {
    LINE_LIMIT = 65536
};

#define LATEST_MS ((double)(IKV_TIME_LIMIT / 1000000))

bool ikvi_lines_open(tape_lines *lines, const char *path, ikv_message *message)
{
    *lines = (tape_lines){.reader = {.path = path, .message = message}};
    lines->path = strdup(path);
    if (lines->path == NULL)
        return ikvi_no_memory(&lines->reader) == IKV_OK;
    lines->reader.path = lines->path;
    errno = 0;
    lines->file = fopen(path, "r");
    if (lines->file != NULL)
        return ikvi_lines_look(lines);
    ikvi_reader_fail(&lines->reader, NULL, "can't open the tape: %s",
                     strerror(errno));
    lines->reader.no_memory = errno == ENOMEM;
    return false;
}

bool ikvi_lines_look(tape_lines *lines)
{
    if (!ikvi_is_binary(lines->file))
        return true;
    lines->binary = ikvi_binary_open(lines->file, &lines->reader);
    return lines->binary != NULL || ikvi_no_memory(&lines->reader) == IKV_OK;
}

void ikvi_lines_close(tape_lines *lines)
{
    ikvi_binary_close(lines->binary);
    if (lines->file != NULL)
        fclose(lines->file);
    free(lines->line);
    free(lines->path);
    *lines = (tape_lines){0};
}

void ikvi_message_left_out(ikv_message *message, const char *warning)
{
    ikvi_message_fine(message);
    if (message != NULL && warning != NULL)
        snprintf(message->text, sizeof message->text, "%s", warning);
}

static bool is_blank(const char *text, size_t length)
{
    return strspn(text, " \t\r\n") == length;
}

bool ikvi_lines_next(tape_lines *lines)
{
    if (lines->binary != NULL) {
        lines->item = ikvi_binary_next(lines->binary, &lines->warning);
        return lines->item == BINARY_EVENT || lines->item == BINARY_OBJECT;
    }
    do {
        errno = 0;
        ssize_t length = getline(&lines->line, &lines->room, lines->file);
        if (length < 0 && feof(lines->file))
            return false;
        if (length < 0) {
            ikvi_reader_fail(&lines->reader, NULL, "can't read: %s",
                             strerror(errno));
            lines->reader.no_memory = errno == ENOMEM;
            return false;
        }
        lines->length = (size_t)length;
        lines->reader.line++;
        if (length > LINE_LIMIT)
            return ikvi_reader_fail(
                &lines->reader, NULL,
                "the line has %zd bytes, expected at most %d", length,
                LINE_LIMIT);
    } while (is_blank(lines->line, lines->length));
    return true;
}

/* Whether the text ends within its object: what a writer that was killed
 * leaves, or a disk that was not written to its end. */
static bool ends_within(const char *text, size_t length)
{
    size_t depth = 0;
    bool quoted = false;
    if (length > 0 && text[length - 1] == '\n')
        return false;
    if (length > 0 && text[0] == '\0')
        return true;
    for (size_t i = 0; i < length; i++) {
        if (quoted && text[i] == '\\')
            i++;
        else if (text[i] == '"')
            quoted = !quoted;
        else if (!quoted && (text[i] == '{' || text[i] == '['))
            depth++;
        else if (!quoted && (text[i] == '}' || text[i] == ']') && depth > 0)
            depth--;
    }
    return quoted || depth > 0;
}

json_t *ikvi_lines_parse(tape_lines *lines)
{
    bool header = !lines->begun;
    lines->begun = true;
    if (lines->binary != NULL)
        return ikvi_binary_object(lines->binary);
    if (!header && ends_within(lines->line, lines->length)) {
        reader torn = {.path = lines->path,
                       .line = lines->reader.line,
                       .message = &lines->warning};
        ikvi_reader_fail(&torn, NULL,
                         "the last line is torn after %zu bytes, as a "
                         "recording that was killed leaves it: it is left out",
                         lines->length);
        return NULL;
    }
    return ikvi_json_parse(&lines->reader, lines->line, lines->length);
}

/* --------------------------------------------------------------- header -- */

static const char *const formats[] = {"ikvar.tape/1", TAPE_FORMAT, NULL};

bool ikvi_read_tape_header(reader *r, const json_t *object, ikv_tape_info *info,
                           const char **setup)
{
    static const char *const members[] = {
        "format", "until", "setup", "steps", "per_seconds", "timing", NULL};
    const char *format = NULL, *timing = "in_step";
    double until = 0;
    *info = (ikv_tape_info){0};
    *setup = NULL;
    if (!ikvi_read_string(r, NULL, object, "format", true, &format))
        return false;
    while (formats[info->version] != NULL &&
           strcmp(formats[info->version], format) != 0)
        info->version++;
    if (formats[info->version++] == NULL)
        return ikvi_reader_fail(
            r, NULL, "expected format \"" TAPE_FORMAT "\", found \"%.60s\"",
            format);
    if (!ikvi_expect_object(r, NULL, object, members) ||
        !ikvi_read_number(r, NULL, object, "until", 0, LATEST_MS, &until) ||
        !ikvi_read_rate(r, NULL, object, &info->step_num, &info->step_den) ||
        !ikvi_read_string(r, NULL, object, "setup", false, setup) ||
        !ikvi_read_string(r, NULL, object, "timing", false, &timing))
        return false;
    if (strcmp(timing, "in_step") != 0 && strcmp(timing, "at_frame") != 0)
        return ikvi_reader_fail(r, NULL,
                                "timing: expected \"in_step\" or \"at_frame\", "
                                "found \"%.40s\"",
                                timing);
    info->until_ns = (uint64_t)(until * 1e6 + 0.5);
    if (info->step_num > 0 && info->step_den == 0)
        info->step_den = 1;
    info->at_frame = strcmp(timing, "at_frame") == 0;
    return true;
}

json_t *ikvi_tape_header(reader *r, const ikv_tape_info *info)
{
    json_t *header = json_object();
    const char *format =
        info->version != 0 ? formats[info->version - 1] : TAPE_FORMAT;
    bool good = json_object_set_new(header, "format", json_string(format)) == 0;
    if (info->until_ns != 0)
        good &=
            json_object_set_new(header, "until",
                                json_real((double)info->until_ns / 1e6)) == 0;
    if (good && info->setup != NULL) {
        errno = 0;
        good =
            json_object_set_new(header, "setup", json_string(info->setup)) == 0;
        if (!good && errno != ENOMEM)
            ikvi_reader_fail(r, NULL, "the setup's path is not UTF-8");
    }
    if (info->step_num != 0) {
        good &= json_object_set_new(header, "steps",
                                    json_integer(info->step_num)) == 0;
        good &= json_object_set_new(header, "per_seconds",
                                    json_integer(info->step_den)) == 0;
    }
    if (info->at_frame)
        good &=
            json_object_set_new(header, "timing", json_string("at_frame")) == 0;
    if (good)
        return header;
    json_decref(header);
    if (!r->failed)
        ikvi_no_memory(r);
    return NULL;
}

bool ikvi_read_ns(reader *r, const json_t *object, const char *member,
                  bool needed, uint64_t *ns)
{
    double ms = (double)*ns / 1e6;
    if (needed && json_object_get(object, member) == NULL)
        return ikvi_reader_fail(r, NULL, "member \"%s\" is missing", member);
    if (!ikvi_read_number(r, NULL, object, member, 0, LATEST_MS, &ms))
        return false;
    *ns = (uint64_t)(ms * 1e6 + 0.5);
    return true;
}

bool ikvi_is_check(const json_t *object)
{
    return json_object_get(object, "digest") != NULL ||
           json_object_get(object, "end") != NULL;
}
