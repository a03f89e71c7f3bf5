/* json.c - reading and writing values of the catalogue's fields as JSON. */
#define _POSIX_C_SOURCE 200809L
#include "json.h"

#include "ikvar/keys.h"

#include <errno.h>
#include <float.h>
#include <locale.h>
#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ------------------------------------------------------------- messages -- */

static size_t print_place(char *buffer, size_t size, const place *at)
{
    if (at == NULL)
        return 0;
    size_t used = print_place(buffer, size, at->up);
    if (used >= size)
        return used;
    int more = at->member != NULL
                   ? snprintf(buffer + used, size - used, "/%s", at->member)
                   : snprintf(buffer + used, size - used, "/%zu", at->index);
    return used + (size_t)more;
}

bool ikvi_reader_fail(reader *r, const place *at, const char *format, ...)
{
    if (r->failed)
        return false;
    r->failed = true;
    if (r->message == NULL)
        return false;
    char text[sizeof r->message->text];
    size_t size = sizeof text;
    int used = r->line != 0 ? snprintf(text, size, "%s:%zu: ", r->path, r->line)
                            : snprintf(text, size, "%s: ", r->path);
    size_t length = (size_t)used;
    if (length < size && at != NULL) {
        length += print_place(text + length, size - length, at);
        if (length < size)
            length += (size_t)snprintf(text + length, size - length, ": ");
    }
    if (length < size) {
        va_list list;
        va_start(list, format);
        vsnprintf(text + length, size - length, format, list);
        va_end(list);
    }
    /* what was found may be anything, and a message may go to a terminal */
    ikv_shown_text(text, r->message->text, sizeof r->message->text);
    return false;
}

const char *ikvi_json_found(const json_t *value)
{
    static _Thread_local char text[96];
    if (value == NULL)
        return "nothing";
    switch (json_typeof(value)) {
    case JSON_OBJECT:
        return "an object";
    case JSON_ARRAY:
        return "an array";
    case JSON_STRING:
        snprintf(text, sizeof text, "\"%.60s\"", json_string_value(value));
        return text;
    case JSON_INTEGER:
        snprintf(text, sizeof text, "%" JSON_INTEGER_FORMAT,
                 json_integer_value(value));
        return text;
    case JSON_REAL:
        ikv_number_format(json_real_value(value), false, text);
        return text;
    case JSON_TRUE:
        return "true";
    case JSON_FALSE:
        return "false";
    default:
        return "null";
    }
}

number_text ikvi_number(double value)
{
    number_text number = {""};
    const char *point = localeconv()->decimal_point;
    if (fabs(value) >= 1e5) {
        /* Six digits would end before the point. */
        bool is_float = fabs(value) <= FLT_MAX && (double)(float)value == value;
        ikv_number_format(value, is_float, number.text);
        return number;
    }
    snprintf(number.text, sizeof number.text, "%g", value);
    char *at = strstr(number.text, point);
    if (at != NULL && strcmp(point, ".") != 0) {
        *at = '.';
        memmove(at + 1, at + strlen(point), strlen(at + strlen(point)) + 1);
    }
    return number;
}

double ikvi_read_double(const char *text)
{
    char local[400];
    const struct lconv *here = localeconv();
    const char *dot = strchr(text, '.'), *point = here->decimal_point;
    if (dot == NULL || strcmp(point, ".") == 0)
        return strtod(text, NULL);
    size_t before = (size_t)(dot - text);
    snprintf(local, sizeof local, "%.*s%s%s", (int)before, text, point,
             dot + 1);
    return strtod(local, NULL);
}

/* jansson reads numbers by strtod(), and knows of points that are one byte. */
static json_t *load_text(const char *text, size_t length, json_error_t *error)
{
    locale_t plain = newlocale(LC_ALL_MASK, "C", (locale_t)0);
    locale_t before = plain != (locale_t)0 ? uselocale(plain) : (locale_t)0;
    json_t *document = json_loadb(text, length, JSON_REJECT_DUPLICATES, error);
    if (plain != (locale_t)0) {
        uselocale(before);
        freelocale(plain);
    }
    return document;
}

/* It leaves the text empty then. */
static bool ran_out(const json_error_t *error)
{
    return error->text[0] == '\0' ||
           json_error_code(error) == json_error_out_of_memory;
}

/* In the words of files, and not of the library that reads them. */
static const char *fault_text(const json_error_t *error)
{
    return json_error_code(error) == json_error_null_character
               ? "a text can't hold the character \\u0000"
               : error->text;
}

json_t *ikvi_json_parse(reader *r, const char *text, size_t length)
{
    json_error_t error = {.text = ""};
    json_t *object = load_text(text, length, &error);
    if (object != NULL && json_is_object(object))
        return object;
    if (object != NULL)
        ikvi_reader_fail(r, NULL, "expected one JSON object a line, found %s",
                         ikvi_json_found(object));
    else if (ran_out(&error))
        ikvi_no_memory(r);
    else
        ikvi_reader_fail(r, NULL,
                         "column %d: expected one JSON object a line: %s",
                         error.column, fault_text(&error));
    json_decref(object);
    return NULL;
}

/* The whole file, as a text that is to be freed; NULL after a message. */
static char *read_whole(reader *r, const char *what, size_t *length)
{
    size_t room = 0;
    char *text = NULL, *more = NULL;
    errno = 0;
    FILE *file = fopen(r->path, "r");
    if (file == NULL) {
        ikvi_reader_fail(r, NULL, "can't open %s: %s", what, strerror(errno));
        r->no_memory = errno == ENOMEM;
        return NULL;
    }
    *length = 0;
    do {
        room = room * 2 + 65536;
        more = realloc(text, room);
        if (more == NULL)
            break;
        text = more;
        *length += fread(text + *length, 1, room - *length, file);
    } while (*length == room);
    bool broken = ferror(file) != 0;
    int why = errno;
    fclose(file);
    if (more != NULL && !broken)
        return text;
    free(text);
    if (broken)
        ikvi_reader_fail(r, NULL, "can't read %s: %s", what, strerror(why));
    else
        ikvi_no_memory(r);
    return NULL;
}

json_t *ikvi_json_load(reader *r, const char *what)
{
    json_error_t error = {.text = ""};
    size_t length;
    char *text = read_whole(r, what, &length);
    if (text == NULL)
        return NULL;
    json_t *document = load_text(text, length, &error);
    free(text);
    if (document == NULL && ran_out(&error)) {
        ikvi_no_memory(r);
    } else if (document == NULL) {
        r->line = error.line > 0 ? (size_t)error.line : 1;
        ikvi_reader_fail(r, NULL, "column %d: %s", error.column,
                         fault_text(&error));
        r->line = 0;
    }
    return document;
}

ikv_status ikvi_no_memory(reader *r)
{
    ikvi_reader_fail(r, NULL, "no memory");
    r->no_memory = true;
    return IKV_NO_MEMORY;
}

ikv_status ikvi_reader_status(const reader *r)
{
    return !r->failed     ? ikvi_message_fine(r->message)
           : r->no_memory ? IKV_NO_MEMORY
                          : IKV_BAD_FILE;
}

/* Edit distance (insert, delete, replace), for names below 64 bytes. */
static size_t distance(const char *a, const char *b)
{
    size_t row[64], length = strlen(b);
    if (length >= 64)
        return 64;
    for (size_t j = 0; j <= length; j++)
        row[j] = j;
    for (size_t i = 1; a[i - 1] != '\0'; i++) {
        size_t corner = row[0];
        row[0] = i;
        for (size_t j = 1; j <= length; j++) {
            size_t replace = corner + (a[i - 1] != b[j - 1]);
            size_t shift = (row[j] < row[j - 1] ? row[j] : row[j - 1]) + 1;
            corner = row[j];
            row[j] = replace < shift ? replace : shift;
        }
    }
    return row[length];
}

/* How many bytes of a character there are at most; 0 if it is not UTF-8, or cut.
 * RFC 3629: neither longer than needed, nor a surrogate, nor above U+10FFFF. */
static size_t character_bytes(const unsigned char *at)
{
    static const struct {
        unsigned char from, to;  /* the first byte */
        unsigned char low, high; /* the second */
        size_t bytes;
    } rows[] = {{0x00, 0x7f, 0x00, 0xff, 1}, {0xc2, 0xdf, 0x80, 0xbf, 2},
                {0xe0, 0xe0, 0xa0, 0xbf, 3}, {0xe1, 0xec, 0x80, 0xbf, 3},
                {0xed, 0xed, 0x80, 0x9f, 3}, {0xee, 0xef, 0x80, 0xbf, 3},
                {0xf0, 0xf0, 0x90, 0xbf, 4}, {0xf1, 0xf3, 0x80, 0xbf, 4},
                {0xf4, 0xf4, 0x80, 0x8f, 4}};
    size_t row = 0, rest = 2, count = sizeof rows / sizeof rows[0];
    while (row < count && (*at < rows[row].from || *at > rows[row].to))
        row++;
    if (row == count)
        return 0;
    if (rows[row].bytes == 1)
        return 1;
    if (at[1] < rows[row].low || at[1] > rows[row].high)
        return 0;
    while (rest < rows[row].bytes && (at[rest] & 0xc0) == 0x80)
        rest++;
    return rest == rows[row].bytes ? rest : 0;
}

void ikvi_cut_text(char *text)
{
    size_t end = strlen(text), begin = end, most = end < 3 ? end : 3;
    /* back to where the last character begins, which may be whole */
    while (end - begin < most &&
           ((unsigned char)text[begin - 1] & 0xc0) == 0x80)
        begin--;
    if (begin > 0 && (unsigned char)text[begin - 1] >= 0xc0 &&
        character_bytes((const unsigned char *)text + begin - 1) !=
            end - begin + 1)
        text[begin - 1] = '\0';
}

static bool is_control(const unsigned char *at)
{
    /* C0, DEL, and C1 as UTF-8 has it. */
    return *at < 0x20 || *at == 0x7f ||
           (at[0] == 0xc2 && at[1] >= 0x80 && at[1] < 0xa0);
}

const char *ikv_shown_text(const char *text, char *buffer, size_t size)
{
    size_t used = 0, bytes = 0;
    if (text == NULL || buffer == NULL || size == 0)
        return "";
    for (const unsigned char *at = (const unsigned char *)text;
         *at != '\0' && used + 5 < size; at += bytes) {
        bytes = character_bytes(at);
        if (bytes > 0 && !is_control(at)) {
            memcpy(buffer + used, at, bytes);
            used += bytes;
            continue;
        }
        bytes += bytes == 0;
        used += (size_t)snprintf(buffer + used, size - used, "\\x%02x",
                                 at[bytes - 1]);
    }
    buffer[used] = '\0';
    return buffer;
}

const char *ikv_nearest_name(const char *name, const char *const *known)
{
    const char *best = NULL;
    if (name == NULL || known == NULL)
        return NULL;
    size_t least = strlen(name) / 3 + 2;
    for (; *known != NULL; known++) {
        size_t d = distance(name, *known);
        if (d < least) {
            least = d;
            best = *known;
        }
    }
    return best;
}

const char *ikv_did_you_mean(const char *name, char *buffer, size_t size)
{
    char shown[IKV_HINT_BYTES - 24];
    if (name == NULL || buffer == NULL || size == 0)
        return "";
    snprintf(buffer, size, "; did you mean \"%s\"?",
             ikv_shown_text(name, shown, sizeof shown));
    return buffer;
}

/* ----------------------------------------------------------- structures -- */

static bool is_known(const char *member, const char *const *known)
{
    for (; *known != NULL; known++)
        if (strcmp(*known, member) == 0)
            return true;
    return strcmp(member, "note") == 0;
}

bool ikvi_expect_object(reader *r, const place *at, const json_t *value,
                        const char *const *known)
{
    if (!json_is_object(value))
        return ikvi_reader_fail(r, at, "expected an object, found %s",
                                ikvi_json_found(value));
    const char *member;
    json_t *ignored;
    json_object_foreach((json_t *)(uintptr_t)value, member, ignored)
    {
        if (is_known(member, known))
            continue;
        char hint[IKV_HINT_BYTES];
        const char *near = ikv_nearest_name(member, known);
        return ikvi_reader_fail(r, at, "unknown member \"%.60s\"%s", member,
                                ikv_did_you_mean(near, hint, sizeof hint));
    }
    return true;
}

bool ikvi_expect_array(reader *r, const place *at, const json_t *value)
{
    return json_is_array(value) ||
           ikvi_reader_fail(r, at, "expected an array, found %s",
                            ikvi_json_found(value));
}

bool ikvi_read_string(reader *r, const place *at, const json_t *object,
                      const char *member, bool needed, const char **to)
{
    const json_t *value = json_object_get(object, member);
    if (value == NULL)
        return !needed ||
               ikvi_reader_fail(r, at, "member \"%s\" is missing", member);
    place here = {at, member, 0};
    if (!json_is_string(value))
        return ikvi_reader_fail(r, &here, "expected a string, found %s",
                                ikvi_json_found(value));
    *to = json_string_value(value);
    return true;
}

bool ikvi_read_name(reader *r, const place *at, const json_t *object,
                    const char *member, const char **to)
{
    place here = {at, member, 0};
    if (!ikvi_read_string(r, at, object, member, true, to))
        return false;
    if (strlen(*to) > NAME_LIMIT)
        return ikvi_reader_fail(r, &here,
                                "expected a name of at most %d bytes, found "
                                "one of %zu",
                                NAME_LIMIT, strlen(*to));
    return (*to)[0] != '\0' ||
           ikvi_reader_fail(r, &here, "expected a name, found an empty text");
}

bool ikvi_read_line(reader *r, const place *at, const json_t *object,
                    const char *member, const char **to)
{
    place here = {at, member, 0};
    if (!ikvi_read_string(r, at, object, member, false, to))
        return false;
    for (const char *c = *to; c != NULL && *c != '\0'; c++)
        if (is_control((const unsigned char *)c))
            return ikvi_reader_fail(r, &here,
                                    "expected a line of text, found a control "
                                    "character in \"%.60s\"",
                                    *to);
    return true;
}

bool ikvi_read_bool(reader *r, const place *at, const json_t *object,
                    const char *member, bool *to)
{
    const json_t *value = json_object_get(object, member);
    if (value == NULL)
        return true;
    place here = {at, member, 0};
    if (!json_is_boolean(value))
        return ikvi_reader_fail(r, &here, "expected true or false, found %s",
                                ikvi_json_found(value));
    *to = json_is_true(value);
    return true;
}

bool ikvi_read_integer(reader *r, const place *at, const json_t *object,
                       const char *member, int64_t least, int64_t most,
                       int64_t *to)
{
    const json_t *value = json_object_get(object, member);
    if (value == NULL)
        return true;
    place here = {at, member, 0};
    if (!json_is_integer(value) || json_integer_value(value) < least ||
        json_integer_value(value) > most)
        return ikvi_reader_fail(
            r, &here,
            "expected a whole number from %lld to %lld, found "
            "%s",
            (long long)least, (long long)most, ikvi_json_found(value));
    *to = json_integer_value(value);
    return true;
}

bool ikvi_read_rate(reader *r, const place *at, const json_t *object,
                    uint32_t *num, uint32_t *den)
{
    int64_t steps = 0, seconds = 0;
    if (!ikvi_read_integer(r, at, object, "steps", 1, IKV_STEP_NUM_LIMIT - 1,
                           &steps) ||
        !ikvi_read_integer(r, at, object, "per_seconds", 1,
                           IKV_STEP_DEN_LIMIT - 1, &seconds))
        return false;
    *num = (uint32_t)steps;
    *den = (uint32_t)seconds;
    double length =
        (double)(seconds > 0 ? seconds : 1) / (double)(steps > 0 ? steps : 60);
    if (length >= 1e-6 && length <= 1000)
        return true;
    place here = {at, steps > 0 ? "steps" : "per_seconds", 0};
    return ikvi_reader_fail(
        r, &here, "expected steps of 0.000001 to 1000 seconds, found %s",
        ikvi_number(length).text);
}

bool ikvi_read_number(reader *r, const place *at, const json_t *object,
                      const char *member, double least, double most, double *to)
{
    const json_t *value = json_object_get(object, member);
    if (value == NULL)
        return true;
    place here = {at, member, 0};
    double number = json_number_value(value);
    if (!json_is_number(value) || !(number >= least && number <= most))
        return ikvi_reader_fail(r, &here,
                                "expected a number from %s to %s, found %s",
                                ikvi_number(least).text, ikvi_number(most).text,
                                ikvi_json_found(value));
    *to = number;
    return true;
}

bool ikvi_list_names(const char *const *names, char *to, size_t size)
{
    size_t used = 0;
    *to = '\0';
    for (uint32_t i = 0; names[i] != NULL && used < size; i++)
        used += (size_t)snprintf(to + used, size - used, "%s\"%s\"",
                                 i > 0 ? ", " : "", names[i]);
    return used < size;
}

bool ikvi_read_choice(reader *r, const place *at, const json_t *object,
                      const char *member, const char *const *names,
                      uint32_t *to)
{
    const char *name = NULL;
    if (!ikvi_read_string(r, at, object, member, false, &name) || name == NULL)
        return !r->failed;
    for (*to = 0; names[*to] != NULL; ++*to)
        if (strcmp(names[*to], name) == 0)
            return true;
    place here = {at, member, 0};
    char known[160], hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(name, names);
    ikvi_list_names(names, known, sizeof known);
    return ikvi_reader_fail(r, &here, "expected one of %s, found \"%.60s\"%s",
                            known, name,
                            ikv_did_you_mean(near, hint, sizeof hint));
}

bool ikvi_read_floats(reader *r, const place *at, const json_t *value,
                      size_t count, float *to)
{
    bool good = json_is_array(value) && json_array_size(value) == count;
    for (size_t i = 0; good && i < count; i++) {
        const json_t *number = json_array_get(value, i);
        to[i] = (float)json_number_value(number);
        good = json_is_number(number);
        if (good && !(fabs(json_number_value(number)) <= IKV_COORDINATE_LIMIT))
            return ikvi_reader_fail(r, at,
                                    "expected numbers from -2^30 to 2^30, "
                                    "found %s",
                                    ikvi_json_found(number));
    }
    return good || ikvi_reader_fail(r, at,
                                    "expected %zu numbers in an array, found "
                                    "%s",
                                    count, ikvi_json_found(value));
}

/* --------------------------------------------------------------- fields -- */

bool ikvi_json_is_mask(const ikv_field *field)
{
    return field->set != IKV_SET_NONE && strcmp(field->unit, "mask") == 0;
}

/* The names that a set has, for messages. */
static const char *list_names(uint32_t set, char *buffer, size_t size)
{
    const char *name;
    uint64_t value;
    size_t used = 0;
    buffer[0] = '\0';
    for (uint32_t i = 0; (name = ikv_value_list(set, i, &value)) != NULL; i++)
        if (used < size)
            used += (size_t)snprintf(buffer + used, size - used, "%s\"%s\"",
                                     i > 0 ? ", " : "", name);
    return buffer;
}

bool ikvi_json_named(const ikv_field *field, const char *name, uint64_t *value)
{
    if (field->set == IKV_SET_CODE)
        return (*value = ikv_code_find(name)) != 0;
    if (field->set == IKV_SET_KEY)
        return (*value = ikv_key_find(name)) != 0;
    return ikv_value_find(field->set, name, value);
}

const char *ikvi_json_value_name(const ikv_field *field, uint64_t value,
                                 char buffer[8])
{
    if (field->set == IKV_SET_NONE)
        return NULL;
    if (field->set == IKV_SET_CODE)
        return ikv_code_name((uint32_t)value);
    if (field->set == IKV_SET_KEY)
        return ikv_key_name((uint32_t)value, buffer);
    return ikv_value_name(field->set, value);
}

/* A name, or the number of what has none: ports may push such. */
static bool read_named(reader *r, const place *at, const json_t *value,
                       const ikv_field *field, uint64_t *to)
{
    char buffer[8];
    if (json_is_string(value) &&
        ikvi_json_named(field, json_string_value(value), to))
        return true;
    *to = json_is_integer(value) ? (uint64_t)json_integer_value(value) : 0;
    if (json_is_integer(value) && *to <= UINT32_MAX &&
        ikvi_json_value_name(field, *to, buffer) == NULL)
        return true;
    char names[256];
    if (field->set == IKV_SET_CODE)
        return ikvi_reader_fail(r, at,
                                "expected a key's W3C code name, \"KeyA\" "
                                "for instance, found %s",
                                ikvi_json_found(value));
    if (field->set == IKV_SET_KEY)
        return ikvi_reader_fail(r, at,
                                "expected one character or a key's W3C name, "
                                "\"a\" or \"Enter\" for instance, found %s",
                                ikvi_json_found(value));
    return ikvi_reader_fail(r, at, "expected one of %s, found %s",
                            list_names(field->set, names, sizeof names),
                            ikvi_json_found(value));
}

static bool read_mask(reader *r, const place *at, const json_t *value,
                      const ikv_field *field, uint64_t *to)
{
    if (!ikvi_expect_array(r, at, value))
        return false;
    *to = 0;
    for (size_t i = 0; i < json_array_size(value); i++) {
        uint64_t bit = 0;
        place here = {at, NULL, i};
        if (!read_named(r, &here, json_array_get(value, i), field, &bit))
            return false;
        *to |= bit;
    }
    return true;
}

static bool read_text(reader *r, const place *at, const json_t *value,
                      const ikv_field *field, ikv_event *event)
{
    size_t room = sizeof *event - field->offset - 1u;
    if (!json_is_string(value) || json_string_length(value) > room)
        return ikvi_reader_fail(
            r, at, "expected a string of at most %zu bytes, found %s", room,
            ikvi_json_found(value));
    char *to = (char *)event + field->offset;
    *to = (char)json_string_length(value);
    memcpy(to + 1, json_string_value(value), json_string_length(value));
    return true;
}

/* A number where a name may stand; false: none is taken there. */
static bool take_number(const json_t *value, const target_finder *finder,
                        uint32_t *to)
{
    json_int_t number = json_integer_value(value);
    if (!json_is_integer(value) || finder == NULL ||
        finder->take_number == NULL || number < 0 || number > UINT32_MAX)
        return false;
    *to = finder->take_number(finder->user, (uint32_t)number);
    return *to != 0 || number == 0;
}

static bool read_target(reader *r, const place *at, const json_t *value,
                        const target_finder *finder, ikv_target *to)
{
    if (json_is_string(value) && finder != NULL) {
        *to = finder->find(finder->user, json_string_value(value));
        if (to->bits != 0)
            return true;
    }
    uint32_t bits;
    if (json_integer_value(value) != 0 && take_number(value, finder, &bits)) {
        to->bits = bits;
        return true;
    }
    return ikvi_reader_fail(r, at, "expected a target's id, found %s",
                            ikvi_json_found(value));
}

static const char *type_name(const ikv_field *field, const ikv_event *event,
                             const json_t *value, bool taped)
{
    static const char *const names[IKV_TYPE_COUNT] = {
        [IKV_TYPE_U8] = "a whole number from 0 to 255",
        [IKV_TYPE_I8] = "a whole number from -128 to 127",
        [IKV_TYPE_U16] = "a whole number from 0 to 65535",
        [IKV_TYPE_I16] = "a whole number from -32768 to 32767",
        [IKV_TYPE_U32] = "a whole number from 0 to 4294967295",
        [IKV_TYPE_I32] = "a whole number of 32 bits",
        [IKV_TYPE_U64] = ("a whole number from 0 (above 9223372036854775807 "
                          "as a string)"),
        [IKV_TYPE_I64] = "a whole number",
        [IKV_TYPE_F32] = "a number",
        [IKV_TYPE_F64] = "a number",
        [IKV_TYPE_BOOL] = "true or false",
        [IKV_TYPE_TARGET] = "a target's id",
        [IKV_TYPE_TEXT] = "a string",
    };
    static const char *const values[] = {
        [IKV_VALUE_NONE] = "a number, or true or false",
        [IKV_VALUE_INTEGER] = "a whole number, of that \"type\"",
        [IKV_VALUE_NUMBER] = "a number, of that \"type\"",
        [IKV_VALUE_BOOL] = "true or false, of that \"type\"",
    };
    uint32_t type = event->field.type;
    if (field->type == IKV_TYPE_VALUE)
        return type <= IKV_VALUE_BOOL ? values[type]
                                      : "a \"type\" that has values";
    /* One that was not taken is too far from 0. */
    if (field->type == IKV_TYPE_F32 && json_is_number(value))
        return taped && event->kind < IKV_KIND_USER
                   ? "a number from -2^30 to 2^30"
                   : "a number from -3.4e38 to 3.4e38";
    return field->scale > 1 ? "a number that fits" : names[field->type];
}

/* A value is of the type that its event has already, if any: 25 is a number
 * too. */
static bool is_of_type(const ikv_field *field, const ikv_event *event,
                       ikv_value *value)
{
    uint32_t type = event->field.type;
    if (field->type != IKV_TYPE_VALUE || type == IKV_VALUE_NONE)
        return true;
    if (type == IKV_VALUE_NUMBER && value->type == IKV_VALUE_INTEGER) {
        value->type = IKV_VALUE_NUMBER;
        value->bits.number = (double)value->bits.integer;
    }
    return value->type == type;
}

bool ikvi_names_something(const ikv_field *field)
{
    return field->set >= IKV_SET_ACTION && field->set <= IKV_SET_FIELD;
}

ikv_status ikvi_message_fine(ikv_message *message)
{
    if (message != NULL)
        message->text[0] = '\0';
    return IKV_OK;
}

/* JSON's whole numbers have 63 bits: larger ones are strings of digits. */
static bool read_wide(const char *text, const ikv_field *field,
                      ikv_event *event)
{
    if (text == NULL || text[strspn(text, "0123456789")] != '\0' ||
        text[0] == '\0')
        return false;
    errno = 0;
    uint64_t number = strtoull(text, NULL, 10);
    if (errno != 0)
        return false;
    memcpy((char *)event + field->offset, &number, sizeof number);
    return true;
}

bool ikvi_put_taped(const ikv_field *field, ikv_event *event, ikv_value value)
{
    float number;
    if (ikv_field_put(field, event, value) < 0)
        return false;
    if (field->type != IKV_TYPE_F32 || event->kind >= IKV_KIND_USER)
        return true;
    memcpy(&number, (const char *)event + field->offset, sizeof number);
    return fabsf(number) <= IKV_COORDINATE_LIMIT;
}

bool ikvi_read_field(reader *r, const place *at, const json_t *value,
                     const ikv_field *field, const target_finder *finder,
                     ikv_event *event)
{
    ikv_value to = {IKV_VALUE_NONE, {0}};
    uint64_t named = 0;
    if (field->type == IKV_TYPE_TEXT)
        return read_text(r, at, value, field, event);
    if (field->type == IKV_TYPE_U64 && field->set == IKV_SET_NONE &&
        read_wide(json_string_value(value), field, event))
        return true;
    if (field->type == IKV_TYPE_TARGET ||
        (field->type == IKV_TYPE_VALUE &&
         event->field.type == IKV_VALUE_TARGET)) {
        to.type = IKV_VALUE_TARGET;
        if (!read_target(r, at, value, finder, &to.bits.target))
            return false;
    } else if (ikvi_names_something(field)) {
        const char *name = json_string_value(value);
        uint32_t bits;
        bool number = take_number(value, finder, &bits);
        if (!number &&
            (name == NULL || finder == NULL || finder->find_number == NULL))
            return ikvi_reader_fail(r, at, "expected %s's name, found %s",
                                    field->name, ikvi_json_found(value));
        if (!number)
            bits = finder->find_number(finder->user, field, name);
        if (!number && bits == 0)
            return ikvi_reader_fail(r, at, "unknown %s \"%.60s\"", field->name,
                                    name);
        to.type = IKV_VALUE_INTEGER;
        to.bits.integer = bits;
    } else if (ikvi_json_is_mask(field)) {
        to.type = IKV_VALUE_INTEGER;
        if (!read_mask(r, at, value, field, &named))
            return false;
        to.bits.integer = (int64_t)named;
    } else if (field->set != IKV_SET_NONE) {
        to.type = IKV_VALUE_INTEGER;
        if (!read_named(r, at, value, field, &named))
            return false;
        to.bits.integer = (int64_t)named;
    } else if (json_is_boolean(value)) {
        to.type = IKV_VALUE_BOOL;
        to.bits.boolean = json_is_true(value);
    } else if (json_is_integer(value)) {
        to.type = IKV_VALUE_INTEGER;
        to.bits.integer = json_integer_value(value);
    } else if (json_is_real(value)) {
        to.type = IKV_VALUE_NUMBER;
        to.bits.number = json_real_value(value);
    }
    bool taped = finder != NULL && finder->taped;
    if (to.type != IKV_VALUE_NONE && is_of_type(field, event, &to) &&
        (taped ? ikvi_put_taped(field, event, to)
               : ikv_field_put(field, event, to) == IKV_OK))
        return true;
    return ikvi_reader_fail(r, at, "expected %s, found %s",
                            type_name(field, event, value, taped),
                            ikvi_json_found(value));
}

/* ------------------------------------------------------ types of fields -- */

static const struct {
    const char *name;
    uint16_t type, size;
} field_types[] = {
    {"u8", IKV_TYPE_U8, 1},     {"i8", IKV_TYPE_I8, 1},
    {"u16", IKV_TYPE_U16, 2},   {"i16", IKV_TYPE_I16, 2},
    {"u32", IKV_TYPE_U32, 4},   {"i32", IKV_TYPE_I32, 4},
    {"u64", IKV_TYPE_U64, 8},   {"i64", IKV_TYPE_I64, 8},
    {"f32", IKV_TYPE_F32, 4},   {"f64", IKV_TYPE_F64, 8},
    {"bool", IKV_TYPE_BOOL, 1}, {"target", IKV_TYPE_TARGET, 4},
};

enum {
    FIELD_TYPES = sizeof field_types / sizeof field_types[0]
};

bool ikvi_place_field(ikv_field *field, const char *type, uint16_t *offset)
{
    size_t i = 0;
    while (i < FIELD_TYPES && strcmp(field_types[i].name, type) != 0)
        i++;
    if (i == FIELD_TYPES)
        return false;
    uint16_t size = field_types[i].size;
    field->type = field_types[i].type;
    field->offset = (uint16_t)((*offset + size - 1) / size * size);
    *offset = (uint16_t)(field->offset + size);
    return true;
}

const char *ikvi_field_type_name(uint32_t index)
{
    return index < FIELD_TYPES ? field_types[index].name : NULL;
}

const char *ikvi_type_of_field(const ikv_field *field)
{
    for (size_t i = 0; i < FIELD_TYPES; i++)
        if (field_types[i].type == field->type)
            return field_types[i].name;
    return field->type == IKV_TYPE_TEXT ? "text" : "value";
}

bool ikvi_has_float_digits(const ikv_field *field)
{
    return field->type == IKV_TYPE_F32 || field->type <= IKV_TYPE_I16;
}

uint32_t ikvi_size_of_field(const ikv_field *field)
{
    for (size_t i = 0; i < FIELD_TYPES; i++)
        if (field_types[i].type == field->type)
            return field_types[i].size;
    return 0;
}
