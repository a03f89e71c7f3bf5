/* tape_binary.c - reads binary tapes: a CBOR sequence (RFC 8949, RFC 8742) of
 * what stands on the lines of others. docs/files.md has the format.
 *
 * Items are taken from a window of the file token by token. An event's values
 * are kept as cells until somebody says of which catalogue its kinds are;
 * whatever else there is becomes the object that the same line would be.
 */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <cbor.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum {
    ITEM_LIMIT = 65536, /* bytes */
    WINDOW = 2 * ITEM_LIMIT,
    DEPTH_LIMIT = 8,
    KIND_FIELDS = EVENT_FIELDS,
    HEADER_LIMIT = 16
};

typedef enum token_type {
    TOKEN_NONE, /* of a type that no tape has */
    TOKEN_UINT,
    TOKEN_NEGATIVE, /* -1 - number */
    TOKEN_REAL,
    TOKEN_BOOL,
    TOKEN_NULL,
    TOKEN_TEXT,
    TOKEN_BYTES,
    TOKEN_ARRAY,
    TOKEN_MAP
} token_type;

/* A text's bytes lie in the window, `text` behind the item's begin. */
typedef struct token {
    token_type type;
    uint64_t number; /* of collections and texts how many */
    double real;
    size_t text;
} token;

/* A kind as the tape describes it, and what it is in the catalogue. */
typedef struct binary_kind {
    char *name;
    uint32_t count;
    char *fields[KIND_FIELDS], *types[KIND_FIELDS];
    const ikv_kind_info *info; /* NULL: not looked up yet */
    ikv_event blank;
    const ikv_field *found[KIND_FIELDS];
} binary_kind;

struct binary_reader {
    FILE *file;
    reader *reader; /* its line is the item's number */
    bool short_item, too_long;
    size_t begin, at, end; /* of the item, in the window */
    unsigned char window[WINDOW];
    const ikv_catalogue *catalogue;
    ikv_catalogue *own;         /* of kinds that only the tape knows */
    bool any_kind;              /* those may be made up */
    char *header[HEADER_LIMIT]; /* names of the fields of each event */
    uint32_t header_count;
    binary_kind *kinds;
    size_t kind_count;
    tape_names names;
    uint64_t time_ns; /* of the event before */
    /* The item at hand: an object, or an event. */
    json_t *object;
    binary_kind *kind;
    int64_t after_ns;
    uint64_t mask;
    uint32_t cell_count;
    token cells[64];
};

/* --------------------------------------------------------------- tokens -- */

static void take_uint(void *to, uint64_t value)
{
    *(token *)to = (token){.type = TOKEN_UINT, .number = value};
}
static void take_uint8(void *to, uint8_t value)
{
    take_uint(to, value);
}
static void take_uint16(void *to, uint16_t value)
{
    take_uint(to, value);
}
static void take_uint32(void *to, uint32_t value)
{
    take_uint(to, value);
}
static void take_negative(void *to, uint64_t value)
{
    *(token *)to = (token){.type = TOKEN_NEGATIVE, .number = value};
}
static void take_negative8(void *to, uint8_t value)
{
    take_negative(to, value);
}
static void take_negative16(void *to, uint16_t value)
{
    take_negative(to, value);
}
static void take_negative32(void *to, uint32_t value)
{
    take_negative(to, value);
}
static void take_double(void *to, double value)
{
    *(token *)to = (token){.type = TOKEN_REAL, .real = value};
}
static void take_float(void *to, float value)
{
    take_double(to, (double)value);
}
static void take_bool(void *to, bool value)
{
    *(token *)to = (token){.type = TOKEN_BOOL, .number = value};
}
static void take_null(void *to)
{
    *(token *)to = (token){.type = TOKEN_NULL};
}
static void take_array(void *to, size_t count)
{
    *(token *)to = (token){.type = TOKEN_ARRAY, .number = count};
}
static void take_map(void *to, size_t count)
{
    *(token *)to = (token){.type = TOKEN_MAP, .number = count};
}
/* Its bytes are the token's last ones. */
static void take_text(void *to, cbor_data bytes, size_t length)
{
    (void)bytes;
    *(token *)to = (token){.type = TOKEN_TEXT, .number = length};
}
/* What no tape has. */
static void take_other(void *to)
{
    *(token *)to = (token){.type = TOKEN_NONE};
}
/* Likewise. */
static void take_bytes(void *to, cbor_data bytes, size_t length)
{
    (void)bytes;
    *(token *)to = (token){.type = TOKEN_BYTES, .number = length};
}
static void take_tag(void *to, uint64_t tag)
{
    (void)tag;
    take_other(to);
}

static const struct cbor_callbacks token_callbacks = {
    .uint8 = take_uint8,
    .uint16 = take_uint16,
    .uint32 = take_uint32,
    .uint64 = take_uint,
    .negint8 = take_negative8,
    .negint16 = take_negative16,
    .negint32 = take_negative32,
    .negint64 = take_negative,
    .byte_string_start = take_other,
    .byte_string = take_bytes,
    .string = take_text,
    .string_start = take_other,
    .indef_array_start = take_other,
    .array_start = take_array,
    .indef_map_start = take_other,
    .map_start = take_map,
    .tag = take_tag,
    .float2 = take_float,
    .float4 = take_float,
    .float8 = take_double,
    .undefined = take_other,
    .null = take_null,
    .boolean = take_bool,
    .indef_break = take_other,
};

/* Reads more of the file, with the item's begin kept. */
static bool fill_window(binary_reader *b)
{
    memmove(b->window, b->window + b->begin, b->end - b->begin);
    b->at -= b->begin;
    b->end -= b->begin;
    b->begin = 0;
    if (b->at > ITEM_LIMIT) {
        b->too_long = true;
        return false;
    }
    errno = 0;
    size_t got = fread(b->window + b->end, 1, WINDOW - b->end, b->file);
    b->end += got;
    if (ferror(b->file)) {
        ikvi_reader_fail(b->reader, NULL, "can't read: %s", strerror(errno));
        b->reader->no_memory = errno == ENOMEM;
        return false;
    }
    return got > 0;
}

/* False at the file's end within the item, and after a message. */
static bool next_token(binary_reader *b, token *to)
{
    for (;;) {
        struct cbor_decoder_result done = {0};
        *to = (token){0};
        if (b->at < b->end)
            done = cbor_stream_decode(b->window + b->at, b->end - b->at,
                                      &token_callbacks, to);
        if (b->at < b->end && done.status == CBOR_DECODER_ERROR)
            return ikvi_reader_fail(b->reader, NULL, "this is no CBOR");
        if (b->at < b->end && done.status == CBOR_DECODER_FINISHED) {
            b->at += done.read;
            to->text = b->at - b->begin - (size_t)to->number;
            if (b->at - b->begin > ITEM_LIMIT)
                b->too_long = true;
            return !b->too_long;
        }
        /* A text that is longer than any item will not come. */
        if (b->end - b->begin > ITEM_LIMIT)
            b->too_long = true;
        if (b->too_long || !fill_window(b)) {
            b->short_item = !b->too_long && !b->reader->failed;
            return false;
        }
    }
}

static const char *text_of(const binary_reader *b, const token *t)
{
    return (const char *)b->window + b->begin + t->text;
}

static json_t *text_to_json(const binary_reader *b, const token *t)
{
    return json_stringn(text_of(b, t), (size_t)t->number);
}

/* A token that is no collection; NULL if JSON has no such value. */
static json_t *plain_to_json(const binary_reader *b, const token *t)
{
    switch (t->type) {
    case TOKEN_UINT:
        return t->number <= INT64_MAX ? json_integer((json_int_t)t->number)
                                      : NULL;
    case TOKEN_NEGATIVE:
        return t->number <= INT64_MAX ? json_integer(-1 - (json_int_t)t->number)
                                      : NULL;
    case TOKEN_REAL:
        return json_real(t->real);
    case TOKEN_BOOL:
        return json_boolean(t->number != 0);
    case TOKEN_NULL:
        return json_null();
    case TOKEN_TEXT:
        return text_to_json(b, t);
    default:
        return NULL;
    }
}

static json_t *value_to_json(binary_reader *b, const token *first,
                             uint32_t depth);

static json_t *next_to_json(binary_reader *b, uint32_t depth)
{
    token t;
    return next_token(b, &t) ? value_to_json(b, &t, depth) : NULL;
}

static json_t *array_to_json(binary_reader *b, uint64_t count, uint32_t depth)
{
    json_t *list = json_array();
    for (uint64_t i = 0; list != NULL && i < count; i++) {
        json_t *value = next_to_json(b, depth + 1);
        if (value == NULL || json_array_append_new(list, value) != 0) {
            json_decref(list);
            return NULL;
        }
    }
    return list;
}

static json_t *map_to_json(binary_reader *b, uint64_t count, uint32_t depth)
{
    json_t *map = json_object();
    for (uint64_t i = 0; map != NULL && i < count; i++) {
        json_t *name = next_to_json(b, DEPTH_LIMIT);
        json_t *value =
            json_is_string(name) ? next_to_json(b, depth + 1) : NULL;
        const char *member = json_string_value(name);
        /* A name twice is wrong, as it is in a line. */
        bool good = value != NULL && json_object_get(map, member) == NULL &&
                    json_object_set(map, member, value) == 0;
        json_decref(name);
        json_decref(value);
        if (!good) {
            json_decref(map);
            return NULL;
        }
    }
    return map;
}

/* NULL for what is no JSON, what ends too early, and after a message. */
static json_t *value_to_json(binary_reader *b, const token *first,
                             uint32_t depth)
{
    if (first->type != TOKEN_ARRAY && first->type != TOKEN_MAP)
        return plain_to_json(b, first);
    if (depth >= DEPTH_LIMIT)
        return NULL;
    return first->type == TOKEN_ARRAY ? array_to_json(b, first->number, depth)
                                      : map_to_json(b, first->number, depth);
}

/* ---------------------------------------------------------------- kinds -- */

static void free_kind(binary_kind *kind)
{
    free(kind->name);
    for (uint32_t i = 0; i < KIND_FIELDS; i++) {
        free(kind->fields[i]);
        free(kind->types[i]);
    }
}

/* "header":["device","target"] of the first item. */
static bool take_header(binary_reader *b)
{
    const json_t *list = json_object_get(b->object, "header");
    place at = {NULL, "header", 0};
    if (list == NULL)
        return true;
    if (!ikvi_expect_array(b->reader, &at, list))
        return false;
    if (json_array_size(list) > HEADER_LIMIT)
        return ikvi_reader_fail(b->reader, &at,
                                "expected at most %d names, found %zu",
                                HEADER_LIMIT, json_array_size(list));
    for (size_t i = 0; i < json_array_size(list); i++) {
        const char *name = json_string_value(json_array_get(list, i));
        place here = {&at, NULL, i};
        if (name == NULL)
            return ikvi_reader_fail(b->reader, &here,
                                    "expected a string, found %s",
                                    ikvi_json_found(json_array_get(list, i)));
        b->header[b->header_count] = strdup(name);
        if (b->header[b->header_count] == NULL)
            return ikvi_no_memory(b->reader) == IKV_OK;
        b->header_count++;
    }
    json_object_del(b->object, "header");
    return true;
}

/* {"kind":"pointer.move","fields":["x","f32","y","f32"]}: the next kind. */
static bool take_kind(binary_reader *b, const json_t *object)
{
    static const char *const members[] = {"kind", "fields", NULL};
    const char *name = NULL;
    const json_t *list = json_object_get(object, "fields");
    size_t count = json_array_size(list);
    place at = {NULL, "fields", 0};
    if (!ikvi_expect_object(b->reader, NULL, object, members) ||
        !ikvi_read_string(b->reader, NULL, object, "kind", true, &name) ||
        !ikvi_expect_array(b->reader, &at, list))
        return false;
    if (count % 2 != 0 || count / 2 + b->header_count > KIND_FIELDS)
        return ikvi_reader_fail(b->reader, &at,
                                "expected names and types of at most %d "
                                "fields, found %zu",
                                KIND_FIELDS - (int)b->header_count, count);
    binary_kind *kinds = realloc(b->kinds, (b->kind_count + 1) * sizeof *kinds);
    if (kinds == NULL)
        return ikvi_no_memory(b->reader) == IKV_OK;
    b->kinds = kinds;
    binary_kind *kind = &kinds[b->kind_count];
    *kind = (binary_kind){.name = strdup(name), .count = (uint32_t)count / 2};
    bool good = kind->name != NULL;
    for (size_t i = 0; good && i < count; i++) {
        const char *text = json_string_value(json_array_get(list, i));
        place here = {&at, NULL, i};
        if (text == NULL) {
            free_kind(kind);
            return ikvi_reader_fail(b->reader, &here,
                                    "expected a string, found %s",
                                    ikvi_json_found(json_array_get(list, i)));
        }
        char *kept = strdup(text);
        *(i % 2 == 0 ? &kind->fields[i / 2] : &kind->types[i / 2]) = kept;
        good = kept != NULL;
    }
    if (good)
        b->kind_count++;
    else
        free_kind(kind);
    return good || ikvi_no_memory(b->reader) == IKV_OK;
}

/* The name of the nth bit's field: the kind's own come first. */
static const char *field_name(const binary_reader *b, const binary_kind *kind,
                              uint32_t nth)
{
    return nth < kind->count ? kind->fields[nth] : b->header[nth - kind->count];
}

static uint32_t fields_of(const binary_reader *b, const binary_kind *kind)
{
    return kind->count + b->header_count;
}

/* A kind that no catalogue has. */
static ikv_kind register_kind(binary_reader *b, const binary_kind *kind)
{
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_field fields[16];
    uint16_t offset = 0;
    ikv_kind number = IKV_KIND_NONE;
    if (b->own == NULL) {
        ikv_catalogue_config own = IKV_CATALOGUE_INIT;
        own.memory = ikv_host_memory();
        own.user_kinds = IKV_KIND_LIMIT - IKV_KIND_USER;
        own.text_bytes = 1 << 20;
        if (ikv_catalogue_open(&own, &b->own) < 0)
            return IKV_KIND_NONE;
        b->catalogue = b->own;
    }
    for (uint32_t i = 0; i < kind->count; i++) {
        if (config.field_count == 16)
            return IKV_KIND_NONE;
        ikv_field *field = &fields[config.field_count++];
        *field =
            (ikv_field){.name = kind->fields[i], .unit = "", .meaning = ""};
        if (!ikvi_place_field(field, kind->types[i], &offset))
            return IKV_KIND_NONE;
    }
    config.name = kind->name;
    config.fields = config.field_count > 0 ? fields : NULL;
    config.pushable = true;
    ikv_catalogue_register(b->own, &config, &number, NULL);
    return number;
}

/* What the kind is in the catalogue, once an event is of it. */
static bool find_kind(binary_reader *b, binary_kind *kind)
{
    ikv_kind number = ikv_catalogue_find(b->catalogue, kind->name);
    if (number == IKV_KIND_NONE && b->any_kind)
        number = register_kind(b, kind);
    const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, number);
    if (info == NULL)
        return ikvi_unknown_kind(b->reader, b->catalogue, kind->name, true);
    kind->blank = ikvi_tape_blank(info);
    for (uint32_t i = 0; i < fields_of(b, kind); i++)
        kind->found[i] = ikv_field_find(info, field_name(b, kind, i));
    kind->info = info;
    return true;
}

/* --------------------------------------------------------------- events -- */

/* [kind, ns since the event before, which of its fields and marks, values...]
 */
static bool take_event(binary_reader *b, uint64_t count, const token *first)
{
    token after, mask;
    if (first->number >= b->kind_count)
        return ikvi_reader_fail(b->reader, NULL,
                                "an event of kind %llu, expected one of the "
                                "%zu that are described before it",
                                (unsigned long long)first->number,
                                b->kind_count);
    if (!next_token(b, &after) || !next_token(b, &mask))
        return false;
    b->kind = &b->kinds[first->number];
    bool good = (after.type == TOKEN_UINT || after.type == TOKEN_NEGATIVE) &&
                after.number <= (uint64_t)INT64_MAX / 2 &&
                mask.type == TOKEN_UINT &&
                ikvi_bits_in(mask.number) + 3 == count &&
                mask.number >> (fields_of(b, b->kind) + BINARY_MARKS) == 0;
    if (!good)
        return ikvi_reader_fail(b->reader, NULL,
                                "expected an event: its kind, time, fields and "
                                "as many values");
    b->after_ns = after.type == TOKEN_UINT ? (int64_t)after.number
                                           : -1 - (int64_t)after.number;
    b->mask = mask.number;
    b->cell_count = (uint32_t)count - 3;
    for (uint32_t i = 0; i < b->cell_count; i++) {
        if (!next_token(b, &b->cells[i]))
            return false;
        if (b->cells[i].type == TOKEN_NONE || b->cells[i].type >= TOKEN_ARRAY)
            return ikvi_reader_fail(b->reader, NULL,
                                    "value %u: expected a number, a text, true "
                                    "or false",
                                    i + 1);
    }
    return true;
}

/* The object of ["digest", digest, step, deliveries] or ["end", ns, the clock's
 * ns or null, and perhaps the same three]. */
static json_t *mark_to_json(const token *values, uint64_t count, bool ends)
{
    char hex[24];
    json_t *object = json_object();
    uint64_t from = ends ? 2 : 0;
    if (count > from) {
        snprintf(hex, sizeof hex, "%016llx",
                 (unsigned long long)values[from].number);
        json_object_set_new(object, "digest", json_string(hex));
        json_object_set_new(object, "step",
                            json_integer((json_int_t)values[from + 1].number));
        json_object_set_new(object, "deliveries",
                            json_integer((json_int_t)values[from + 2].number));
    }
    if (ends)
        json_object_set_new(object, "end",
                            json_real((double)values[0].number / 1e6));
    if (ends && values[1].type == TOKEN_UINT)
        json_object_set_new(object, "clock",
                            json_real((double)values[1].number / 1e6));
    return object;
}

static bool take_mark(binary_reader *b, uint64_t count, const token *first)
{
    token values[5];
    bool ends = first->number == 3 && memcmp(text_of(b, first), "end", 3) == 0;
    bool good = count == 4 || (ends && (count == 3 || count == 6));
    if (!ends)
        good = good && first->number == 6 &&
               memcmp(text_of(b, first), "digest", 6) == 0;
    else
        good = good && count != 4;
    for (uint64_t i = 0; good && i + 1 < count; i++) {
        if (!next_token(b, &values[i]))
            return false;
        good = values[i].type == TOKEN_UINT ||
               (ends && i == 1 && values[i].type == TOKEN_NULL);
    }
    if (!good)
        return ikvi_reader_fail(b->reader, NULL,
                                "expected [\"digest\", digest, step, "
                                "deliveries] or [\"end\", ns, ns, ...]");
    b->object = mark_to_json(values, count - 1, ends);
    return b->object != NULL || ikvi_no_memory(b->reader) == IKV_OK;
}

static bool take_array_item(binary_reader *b, uint64_t count)
{
    token first;
    if (count < 3)
        return ikvi_reader_fail(b->reader, NULL,
                                "an array of %llu, expected an event or a mark",
                                (unsigned long long)count);
    if (!next_token(b, &first))
        return false;
    if (first.type == TOKEN_TEXT)
        return take_mark(b, count, &first);
    if (first.type == TOKEN_UINT)
        return take_event(b, count, &first);
    return ikvi_reader_fail(b->reader, NULL,
                            "expected an event's kind or \"digest\", \"end\"");
}

/* ---------------------------------------------------------------- items -- */

/* What a power cut leaves behind the last item. */
static bool only_zeros_follow(binary_reader *b)
{
    for (;;) {
        for (; b->at < b->end; b->at++)
            if (b->window[b->at] != 0)
                return false;
        b->begin = b->at;
        if (!fill_window(b))
            return !b->reader->failed;
    }
}

static bool take_item(binary_reader *b, const token *first)
{
    if (first->type == TOKEN_ARRAY)
        return take_array_item(b, first->number);
    if (first->type != TOKEN_MAP)
        return ikvi_reader_fail(b->reader, NULL,
                                "expected a map or an array, found something "
                                "else");
    errno = 0;
    b->object = map_to_json(b, first->number, 0);
    if (b->object != NULL)
        return true;
    if (errno == ENOMEM)
        return ikvi_no_memory(b->reader) == IKV_OK;
    return !b->short_item && !b->too_long &&
           ikvi_reader_fail(b->reader, NULL,
                            "expected a map of names and values as JSON has "
                            "them, each name once");
}

binary_next ikvi_binary_next(binary_reader *b, ikv_message *torn)
{
    token first;
    do {
        json_decref(b->object);
        b->object = NULL;
        b->kind = NULL;
        b->begin = b->at;
        b->reader->line++;
        if (b->at == b->end && !fill_window(b))
            return b->reader->failed ? BINARY_FAILED : BINARY_END;
        b->short_item = b->too_long = false;
        bool good = next_token(b, &first) && take_item(b, &first);
        if (!good && first.type == TOKEN_UINT && first.number == 0 &&
            only_zeros_follow(b))
            b->short_item = true; /* the message goes with it */
        if (b->short_item && b->reader->line > 1) {
            reader warned = {.path = b->reader->path,
                             .line = b->reader->line,
                             .message = torn};
            b->reader->failed = false;
            ikvi_reader_fail(&warned, NULL,
                             "the last item is torn after %zu bytes, as a "
                             "recording that was killed leaves it: it is left "
                             "out",
                             b->end - b->begin);
            return BINARY_END;
        }
        if (b->short_item)
            ikvi_reader_fail(b->reader, NULL, "the header is torn");
        if (b->too_long)
            ikvi_reader_fail(b->reader, NULL, "the item has more than %d bytes",
                             ITEM_LIMIT);
        if (!good || (b->reader->line == 1 && !take_header(b)))
            return BINARY_FAILED;
        /* What describes a kind is for us alone. */
        if (json_object_get(b->object, "fields") != NULL &&
            !take_kind(b, b->object))
            return BINARY_FAILED;
    } while (json_object_get(b->object, "fields") != NULL);
    return b->kind != NULL ? BINARY_EVENT : BINARY_OBJECT;
}

/* ------------------------------------------------------- as an event -- */

/* They stay in the window until the next item is read. */
static bool put_data(binary_reader *b, const token *cell, ikv_intake *intake)
{
    if ((cell->type != TOKEN_TEXT && cell->type != TOKEN_BYTES) ||
        cell->number == 0 || cell->number > IKVI_DATA_LIMIT)
        return ikvi_reader_fail(b->reader, NULL,
                                "data: expected a text or bytes, 1 to %d of "
                                "them",
                                IKVI_DATA_LIMIT);
    intake->data = text_of(b, cell);
    intake->data_size = (uint32_t)cell->number;
    return true;
}

/* Marks follow the fields; see BINARY_DUE. */
static bool put_mark(binary_reader *b, uint32_t mark, const token *cell,
                     tape_line *to)
{
    ikv_intake *intake = &to->intake;
    if (mark == BINARY_DATA)
        return put_data(b, cell, intake);
    bool negative = cell->type == TOKEN_NEGATIVE;
    bool whole = cell->type == TOKEN_UINT || (negative && mark == BINARY_DUE);
    uint64_t most = mark == BINARY_LANE    ? UINT16_MAX
                    : mark == BINARY_GROUP ? UINT32_MAX
                    : mark == BINARY_FLUSH ? UINT8_MAX
                                           : IKV_TIME_LIMIT;
    bool truth = mark == BINARY_HELD || mark == BINARY_WITHIN;
    if (truth)
        whole = cell->type == TOKEN_BOOL && cell->number != 0;
    if (!whole || cell->number > most)
        return ikvi_reader_fail(b->reader, NULL, "%s: expected %s",
                                ikvi_binary_marks[mark],
                                truth ? "true" : "a whole number that fits");
    switch (mark) {
    case BINARY_DUE:
        intake->has_due = true;
        intake->due_ns =
            to->event.time_ns + (negative ? ~cell->number : cell->number);
        return intake->due_ns <= IKV_TIME_LIMIT ||
               ikvi_reader_fail(
                   b->reader, NULL,
                   "due: it is before 0, or beyond a hundred days");
    case BINARY_GROUP:
        intake->group = (uint32_t)cell->number;
        return true;
    case BINARY_LANE:
        intake->how = IKV_INTAKE_INBOX;
        intake->lane = (uint32_t)cell->number;
        intake->flush = ikvi_tape_flush(intake);
        return true;
    case BINARY_HELD:
        intake->how = IKV_INTAKE_HELD;
        return true;
    case BINARY_WITHIN:
        intake->within = true;
        return true;
    case BINARY_FLUSH:
        intake->flush = (uint8_t)cell->number;
        return true;
    default:
        intake->lost_ns = cell->number;
        return true;
    }
}

static bool put_plain(const token *cell, const ikv_field *field,
                      ikv_event *event)
{
    ikv_value value = {IKV_VALUE_NONE, {0}};
    bool whole = cell->type == TOKEN_UINT || cell->type == TOKEN_NEGATIVE;
    if (field->type == IKV_TYPE_TARGET || field->type == IKV_TYPE_TEXT ||
        field->type == IKV_TYPE_VALUE || ikvi_names_something(field))
        return false;
    if (cell->type == TOKEN_UINT && field->type == IKV_TYPE_U64) {
        memcpy((char *)event + field->offset, &cell->number, 8);
        return true;
    }
    if (whole && cell->number > INT64_MAX)
        return false;
    if (whole) {
        int64_t number = (int64_t)cell->number;
        value.type = IKV_VALUE_INTEGER;
        value.bits.integer = cell->type == TOKEN_UINT ? number : -1 - number;
        /* As it lies in the event: so many of its parts. */
        if (field->scale > 1)
            value = (ikv_value){
                IKV_VALUE_NUMBER,
                {.number = (double)value.bits.integer / field->scale}};
    } else if (cell->type == TOKEN_REAL && cell->real - cell->real == 0) {
        value.type = IKV_VALUE_NUMBER;
        value.bits.number = cell->real;
    } else if (cell->type == TOKEN_BOOL) {
        value.type = IKV_VALUE_BOOL;
        value.bits.boolean = cell->number != 0;
    }
    return value.type != IKV_VALUE_NONE && ikvi_put_taped(field, event, value);
}

static bool put_field(binary_reader *b, uint32_t nth, const token *cell,
                      const target_finder *finder, ikv_event *event)
{
    const ikv_field *field = b->kind->found[nth];
    place at = {NULL, field_name(b, b->kind, nth), 0};
    if (field == NULL)
        return ikvi_unknown_field(b->reader, b->kind->info, at.member);
    if (put_plain(cell, field, event))
        return true;
    json_t *value = plain_to_json(b, cell);
    bool good =
        value != NULL
            ? ikvi_read_field(b->reader, &at, value, field, finder, event)
            : ikvi_reader_fail(b->reader, &at,
                               "expected a value that JSON has");
    json_decref(value);
    return good;
}

bool ikvi_binary_event(binary_reader *b, const target_finder *finder,
                       tape_line *to, const ikv_kind_info **info)
{
    binary_kind *kind = b->kind;
    if (kind->info == NULL && !find_kind(b, kind))
        return false;
    *info = kind->info;
    to->event = kind->blank;
    to->intake = (ikv_intake)IKV_INTAKE_INIT;
    if (b->after_ns < 0 && (uint64_t)-b->after_ns > b->time_ns)
        return ikvi_reader_fail(b->reader, NULL, "the event's time is below 0");
    b->time_ns += (uint64_t)b->after_ns;
    if (b->time_ns > IKV_TIME_LIMIT)
        return ikvi_reader_fail(b->reader, NULL,
                                "the event's time is beyond a hundred days");
    to->event.time_ns = b->time_ns;
    uint32_t cell = 0, count = fields_of(b, kind);
    for (uint32_t i = 0; i < count + BINARY_MARKS; i++) {
        if ((b->mask >> i & 1) == 0)
            continue;
        const token *t = &b->cells[cell++];
        if (i < count ? !put_field(b, i, t, finder, &to->event)
                      : !put_mark(b, i - count, t, to))
            return false;
    }
    return ikvi_may_have_data(b->reader, kind->info, &to->intake);
}

/* ------------------------------------------------------------ as a line -- */

/* What the item is on a line; NULL after a message. */
json_t *ikvi_binary_object(binary_reader *b)
{
    tape_line line;
    const ikv_kind_info *info;
    target_finder finder = ikvi_any_target(&b->names);
    ikvi_names_clear(&b->names);
    if (b->kind == NULL)
        return json_incref(b->object);
    if (!ikvi_binary_event(b, &finder, &line, &info))
        return NULL;
    if (!line.intake.has_due)
        line.intake.due_ns = line.event.time_ns;
    json_writer w;
    ikvi_write_begin(&w, NULL, false);
    ikvi_write_event(&w, &line.event, info, &line.intake, ikvi_name_of_number,
                     &b->names);
    ikvi_write_close_object(&w);
    json_t *object = NULL;
    if (ikvi_write_is_whole(&w, b->reader))
        object = ikvi_json_parse(b->reader, w.text, w.length);
    ikvi_write_end(&w);
    return object;
}

/* -------------------------------------------------------------- opening -- */

bool ikvi_is_binary(FILE *file)
{
    int first = getc(file);
    ungetc(first, file);
    /* A map: lines begin with an object, or with white space. */
    return first >= 0xa0 && first <= 0xbb;
}

binary_reader *ikvi_binary_open(FILE *file, reader *r)
{
    binary_reader *b = calloc(1, sizeof *b);
    if (b == NULL)
        return NULL;
    b->file = file;
    b->reader = r;
    b->any_kind = true;
    return b;
}

void ikvi_binary_use(binary_reader *b, const ikv_catalogue *catalogue)
{
    b->catalogue = catalogue;
    b->any_kind = false;
}

void ikvi_binary_close(binary_reader *b)
{
    if (b == NULL)
        return;
    for (size_t i = 0; i < b->kind_count; i++)
        free_kind(&b->kinds[i]);
    free(b->kinds);
    for (uint32_t i = 0; i < b->header_count; i++)
        free(b->header[i]);
    ikvi_names_free(&b->names);
    ikv_catalogue_close(b->own);
    json_decref(b->object);
    free(b);
}
