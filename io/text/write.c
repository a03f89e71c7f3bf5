/* write.c - JSON written piece by piece. See write.h. */
#include "write.h"

#include "ikvar/keys.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

/* --------------------------------------------------------------- memory -- */

/* Each block has its size before it. */
static void *arena_take(void *user, size_t size)
{
    json_arena *arena = user;
    size_t rounded = (size + 15) / 16 * 16 + 16;
    if (size > ARENA_BYTES || rounded > ARENA_BYTES - arena->used)
        return NULL;
    unsigned char *block = arena->bytes + arena->used;
    memcpy(block, &size, sizeof size);
    arena->used += rounded;
    return block + 16;
}

static void arena_give(void *user, void *block)
{
    (void)user;
    (void)block;
}

static void *arena_retake(void *user, void *block, size_t size)
{
    void *to = arena_take(user, size);
    size_t before = 0;
    if (block == NULL || to == NULL)
        return to;
    memcpy(&before, (unsigned char *)block - 16, sizeof before);
    memcpy(to, block, before < size ? before : size);
    return to;
}

void ikvi_arena_begin(json_arena *arena)
{
    arena->funcs =
        (yajl_alloc_funcs){arena_take, arena_retake, arena_give, arena};
    arena->used = 0;
}

/* --------------------------------------------------------------- pieces -- */

static void put(json_writer *w, const char *text, size_t length)
{
    if (w->file != NULL) {
        fwrite(text, 1, length, w->file); /* ferror() tells */
        return;
    }
    if (w->failed)
        return;
    if (length > w->room - w->length) {
        size_t room = (w->room + length) * 2;
        char *more = realloc(w->text, room);
        if (more == NULL) {
            w->failed = true;
            return;
        }
        w->text = more;
        w->room = room;
    }
    memcpy(w->text + w->length, text, length);
    w->length += length;
}

static void put_piece(void *user, const char *text, size_t length)
{
    put(user, text, length);
}

void ikvi_write_begin(json_writer *w, FILE *file, bool indented)
{
    *w = (json_writer){.file = file};
    ikvi_arena_begin(&w->arena);
    w->gen = yajl_gen_alloc(&w->arena.funcs);
    yajl_gen_config(w->gen, yajl_gen_print_callback, put_piece, w);
    yajl_gen_config(w->gen, yajl_gen_validate_utf8, 1);
    if (indented) {
        yajl_gen_config(w->gen, yajl_gen_beautify, 1);
        yajl_gen_config(w->gen, yajl_gen_indent_string, "  ");
    }
}

void ikvi_write_end(json_writer *w)
{
    free(w->text);
    *w = (json_writer){0};
}

static void note(json_writer *w, yajl_gen_status status)
{
    if (status != yajl_gen_status_ok)
        w->failed = true;
}

void ikvi_write_object(json_writer *w)
{
    note(w, yajl_gen_map_open(w->gen));
}

void ikvi_write_list(json_writer *w)
{
    note(w, yajl_gen_array_open(w->gen));
}

void ikvi_write_close_object(json_writer *w)
{
    note(w, yajl_gen_map_close(w->gen));
}

void ikvi_write_close_list(json_writer *w)
{
    note(w, yajl_gen_array_close(w->gen));
}

void ikvi_write_bytes(json_writer *w, const char *text, size_t length)
{
    note(w, yajl_gen_string(w->gen, (const unsigned char *)text, length));
}

void ikvi_write_text(json_writer *w, const char *text)
{
    ikvi_write_bytes(w, text, strlen(text));
}

void ikvi_write_name(json_writer *w, const char *name)
{
    ikvi_write_text(w, name);
}

size_t ikvi_integer_text(int64_t value, char *text)
{
    char digits[20], *to = text;
    size_t count = 0;
    uint64_t size = value < 0 ? -(uint64_t)value : (uint64_t)value;
    do {
        digits[count++] = (char)('0' + size % 10);
        size /= 10;
    } while (size > 0);
    if (value < 0)
        *to++ = '-';
    while (count > 0)
        *to++ = digits[--count];
    return (size_t)(to - text);
}

size_t ikvi_number_text(double value, bool is_float, char *text)
{
    if (!isfinite(value))
        return 0;
    if (value == 0 && signbit(value)) {
        memcpy(text, "-0.0", 5);
        return 4;
    }
    /* Below 2^24 a float's shortest digits are all that a whole one has. */
    double most = is_float ? 16777216 : 0;
    return fabs(value) >= most && value == floor(value) && fabs(value) < 1e15
               ? ikvi_integer_text((int64_t)value, text)
               : ikv_number_format(value, is_float, text);
}

void ikvi_write_integer(json_writer *w, int64_t value)
{
    char text[32];
    size_t length = ikvi_integer_text(value, text);
    note(w, yajl_gen_number(w->gen, text, length));
}

void ikvi_write_number(json_writer *w, double value, bool is_float)
{
    char text[32];
    size_t length = ikvi_number_text(value, is_float, text);
    if (length == 0)
        ikvi_write_null(w);
    else
        note(w, yajl_gen_number(w->gen, text, length));
}

void ikvi_write_ms(json_writer *w, uint64_t ns)
{
    char text[32];
    size_t length = ikv_time_format(ns, text);
    note(w, yajl_gen_number(w->gen, text, length));
}

void ikvi_write_bool(json_writer *w, bool value)
{
    note(w, yajl_gen_bool(w->gen, value));
}

void ikvi_write_null(json_writer *w)
{
    note(w, yajl_gen_null(w->gen));
}

void ikvi_write_json(json_writer *w, const json_t *value)
{
    const char *member;
    json_t *inner;
    size_t i;
    switch (json_typeof(value)) {
    case JSON_OBJECT:
        ikvi_write_object(w);
        json_object_foreach((json_t *)(uintptr_t)value, member, inner)
        {
            ikvi_write_name(w, member);
            ikvi_write_json(w, inner);
        }
        ikvi_write_close_object(w);
        break;
    case JSON_ARRAY:
        ikvi_write_list(w);
        json_array_foreach(value, i, inner)
        {
            ikvi_write_json(w, inner);
        }
        ikvi_write_close_list(w);
        break;
    case JSON_STRING:
        ikvi_write_bytes(w, json_string_value(value),
                         json_string_length(value));
        break;
    case JSON_INTEGER:
        ikvi_write_integer(w, json_integer_value(value));
        break;
    case JSON_REAL:
        ikvi_write_number(w, json_real_value(value), false);
        break;
    case JSON_NULL:
        ikvi_write_null(w);
        break;
    default:
        ikvi_write_bool(w, json_is_true(value));
        break;
    }
}

bool ikvi_write_newline(json_writer *w)
{
    put(w, "\n", 1);
    yajl_gen_reset(w->gen, NULL);
    return !w->failed && (w->file == NULL || !ferror(w->file));
}

bool ikvi_write_is_whole(const json_writer *w, reader *r)
{
    return !w->failed ||
           ikvi_reader_fail(r, NULL, "a name or a path in it is not UTF-8");
}

void ikvi_write_raw(json_writer *w, const char *text, size_t length)
{
    put(w, text, length);
}

void ikvi_write_forget(json_writer *w)
{
    yajl_gen_reset(w->gen, NULL);
}

/* --------------------------------------------------------------- fields -- */

static void write_mask(json_writer *w, const ikv_field *field, uint64_t mask)
{
    const char *name;
    uint64_t bit;
    ikvi_write_list(w);
    for (uint32_t i = 0; (name = ikv_value_list(field->set, i, &bit)) != NULL;
         i++) {
        if (mask & bit)
            ikvi_write_text(w, name);
        mask &= ~bit;
    }
    for (bit = 1; mask != 0; bit *= 2) {
        if (mask & bit)
            ikvi_write_integer(w, (int64_t)bit);
        mask &= ~bit;
    }
    ikvi_write_close_list(w);
}

/* JSON's whole numbers have 63 bits. */
static void write_wide(json_writer *w, uint64_t value)
{
    char text[24];
    snprintf(text, sizeof text, "%llu", (unsigned long long)value);
    ikvi_write_text(w, text);
}

static void write_whole(json_writer *w, const ikv_field *field, int64_t value)
{
    char buffer[8];
    const char *name = ikvi_json_value_name(field, (uint64_t)value, buffer);
    if (ikvi_json_is_mask(field))
        write_mask(w, field, (uint64_t)value);
    else if (name != NULL)
        ikvi_write_text(w, name);
    else if (field->type == IKV_TYPE_U64 && value < 0)
        write_wide(w, (uint64_t)value);
    else
        ikvi_write_integer(w, value);
}

static void write_named(json_writer *w, const ikv_field *field, uint32_t number,
                        target_namer name, const void *user)
{
    const char *text = name(user, field, &number);
    if (text != NULL)
        ikvi_write_text(w, text);
    else
        ikvi_write_integer(w, number);
}

void ikvi_write_field(json_writer *w, const ikv_field *field,
                      const ikv_event *event, target_namer name,
                      const void *user)
{
    uint32_t length;
    const char *text = ikv_field_text(field, event, &length);
    if (text != NULL) {
        ikvi_write_bytes(w, text, length);
        return;
    }
    ikv_value value = ikv_field_get(field, event);
    uint32_t bits = value.type == IKV_VALUE_TARGET
                        ? value.bits.target.bits
                        : (uint32_t)value.bits.integer;
    switch (value.type) {
    case IKV_VALUE_NUMBER:
        ikvi_write_number(w, value.bits.number, ikvi_has_float_digits(field));
        break;
    case IKV_VALUE_BOOL:
        ikvi_write_bool(w, value.bits.boolean);
        break;
    case IKV_VALUE_TARGET:
        if (bits == 0)
            ikvi_write_null(w);
        else
            write_named(w, field, bits, name, user);
        break;
    case IKV_VALUE_INTEGER:
        if (ikvi_names_something(field))
            write_named(w, field, bits, name, user);
        else
            write_whole(w, field, value.bits.integer);
        break;
    default:
        ikvi_write_null(w);
        break;
    }
}
