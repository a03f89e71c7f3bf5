/* tape_binary_write.c - writes binary tapes. See tape_binary.c.
 *
 * A kind is described before its first event: its fields' names and types. An
 * event's bits are those of its kind's fields, of the fields of each event's
 * header, which the first item names, and of its intake: what mostly differs
 * comes first, so that they are small numbers.
 */
#include "tape.h"

#include <cbor.h>
#include <stdlib.h>
#include <string.h>

enum {
    BUFFER = 65536,
    LONGEST = 12 /* bytes of anything but a text */
};

const char *const ikvi_binary_marks[BINARY_MARKS] = {
    [BINARY_DUE] = "due",   [BINARY_GROUP] = "between", [BINARY_LANE] = "lane",
    [BINARY_HELD] = "held", [BINARY_WITHIN] = "within", [BINARY_LOST] = "lost",
    [BINARY_DATA] = "data", [BINARY_FLUSH] = "flush"};

typedef struct binary_field {
    const ikv_field *field;
    bool is_single;
} binary_field;

struct binary_writer {
    FILE *file;
    uint64_t time_ns;               /* of the event before */
    uint16_t index[IKV_KIND_LIMIT]; /* of kinds that are described, plus 1 */
    uint16_t count;
    /* Of the last event's kind. */
    const ikv_kind_info *info;
    ikv_event blank;
    uint32_t field_count;
    field_places places;
    binary_field fields[EVENT_FIELDS];
    size_t used;
    unsigned char buffer[BUFFER];
};

bool ikvi_is_binary_path(const char *path)
{
    size_t length = strlen(path);
    return length >= 5 && strcmp(path + length - 5, ".cbor") == 0;
}

binary_writer *ikvi_binary_write_open(FILE *file)
{
    binary_writer *w = calloc(1, sizeof *w);
    if (w != NULL)
        w->file = file;
    return w;
}

void ikvi_binary_write_close(binary_writer *w)
{
    free(w);
}

void ikvi_binary_flush(binary_writer *w)
{
    fwrite(w->buffer, 1, w->used, w->file);
    w->used = 0;
}

/* --------------------------------------------------------------- values -- */

/* Where the next piece goes, of which LONGEST bytes are room. */
static unsigned char *room(binary_writer *w)
{
    if (w->used + LONGEST > BUFFER)
        ikvi_binary_flush(w);
    return w->buffer + w->used;
}

static void put_uint(binary_writer *w, uint64_t value)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_uint(value, to, LONGEST);
}

static void put_integer(binary_writer *w, int64_t value)
{
    unsigned char *to = room(w);
    w->used += value < 0 ? cbor_encode_negint(~(uint64_t)value, to, LONGEST)
                         : cbor_encode_uint((uint64_t)value, to, LONGEST);
}

static void put_array(binary_writer *w, size_t count)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_array_start(count, to, LONGEST);
}

static void put_map(binary_writer *w, size_t count)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_map_start(count, to, LONGEST);
}

static void put_bool(binary_writer *w, bool value)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_bool(value, to, LONGEST);
}

static void put_null(binary_writer *w)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_null(to, LONGEST);
}

static void put_string(binary_writer *w, const char *text, size_t length)
{
    if (length > BUFFER - w->used) {
        ikvi_binary_flush(w);
        fwrite(text, 1, length > BUFFER ? length : 0, w->file);
        if (length > BUFFER)
            return;
    }
    memcpy(w->buffer + w->used, text, length);
    w->used += length;
}

static void put_text(binary_writer *w, const char *text, size_t length)
{
    unsigned char *to = room(w);
    w->used += cbor_encode_string_start(length, to, LONGEST);
    put_string(w, text, length);
}

static void put_data(binary_writer *w, const void *data, size_t size)
{
    if (ikvi_is_shown_text(data, size)) {
        put_text(w, data, size);
        return;
    }
    unsigned char *to = room(w);
    w->used += cbor_encode_bytestring_start(size, to, LONGEST);
    put_string(w, data, size);
}

/* Whether 16 bits hold it, and not as a small one, which is rounded. */
static bool fits_half(float number)
{
    uint32_t bits;
    memcpy(&bits, &number, sizeof bits);
    uint32_t exponent = bits >> 23 & 255;
    return bits << 1 == 0 ||
           (exponent >= 113 && exponent <= 142 && (bits & 0x1fff) == 0);
}

/* In the shortest width that is exact. */
static void put_single(binary_writer *w, float number)
{
    unsigned char *to = room(w);
    w->used += fits_half(number) ? cbor_encode_half(number, to, LONGEST)
                                 : cbor_encode_single(number, to, LONGEST);
}

static void put_real(binary_writer *w, double number)
{
    float single = (float)number;
    double back = (double)single;
    if (back == number) {
        put_single(w, single);
        return;
    }
    unsigned char *to = room(w);
    w->used += cbor_encode_double(number, to, LONGEST);
}

/* -------------------------------------------------------------- objects -- */

static void put_json(binary_writer *w, const json_t *value)
{
    const char *name;
    json_t *member;
    if (json_is_object(value)) {
        put_map(w, json_object_size(value));
        json_object_foreach((json_t *)(uintptr_t)value, name, member)
        {
            put_text(w, name, strlen(name));
            put_json(w, member);
        }
    } else if (json_is_array(value)) {
        put_array(w, json_array_size(value));
        for (size_t i = 0; i < json_array_size(value); i++)
            put_json(w, json_array_get(value, i));
    } else if (json_is_string(value)) {
        put_text(w, json_string_value(value), json_string_length(value));
    } else if (json_is_integer(value)) {
        put_integer(w, json_integer_value(value));
    } else if (json_is_real(value)) {
        put_real(w, json_real_value(value));
    } else if (json_is_boolean(value)) {
        put_bool(w, json_is_true(value));
    } else {
        put_null(w);
    }
}

void ikvi_binary_write_object(binary_writer *w, const json_t *object)
{
    put_json(w, object);
}

void ikvi_binary_write_header(binary_writer *w, const json_t *header)
{
    const char *name;
    json_t *member;
    uint32_t count = 0;
    while (ikv_field_header(count) != NULL)
        count++;
    put_map(w, json_object_size(header) + 1);
    json_object_foreach((json_t *)(uintptr_t)header, name, member)
    {
        put_text(w, name, strlen(name));
        put_json(w, member);
    }
    put_text(w, "header", 6);
    put_array(w, count);
    for (uint32_t i = 0; i < count; i++) {
        name = ikv_field_header(i)->name;
        put_text(w, name, strlen(name));
    }
}

static void put_check(binary_writer *w, const ikv_check *check)
{
    put_uint(w, check->digest);
    put_uint(w, check->step);
    put_uint(w, check->deliveries);
}

void ikvi_binary_write_check(binary_writer *w, const ikv_check *check)
{
    put_array(w, 4);
    put_text(w, "digest", 6);
    put_check(w, check);
}

void ikvi_binary_write_end(binary_writer *w, uint64_t end_ns,
                           const uint64_t *clock_ns, const ikv_check *check)
{
    put_array(w, check != NULL ? 6 : 3);
    put_text(w, "end", 3);
    put_uint(w, end_ns);
    if (clock_ns != NULL)
        put_uint(w, *clock_ns);
    else
        put_null(w);
    if (check != NULL)
        put_check(w, check);
}

/* --------------------------------------------------------------- events -- */

static void learn_field(binary_writer *w, const ikv_field *field)
{
    ikvi_places_add(&w->places, field);
    w->fields[w->field_count++] = (binary_field){
        .field = field, .is_single = field->type == IKV_TYPE_F32};
}

static void learn_kind(binary_writer *w, const ikv_kind_info *info)
{
    const ikv_field *field;
    w->info = info;
    w->blank = ikvi_tape_blank(info);
    w->field_count = 0;
    w->places = (field_places){0};
    for (uint32_t i = 0; i < info->field_count; i++)
        learn_field(w, &info->fields[i]);
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++)
        learn_field(w, field);
}

static void describe_kind(binary_writer *w, const ikv_kind_info *info)
{
    w->index[info->kind] = ++w->count;
    put_map(w, 2);
    put_text(w, "kind", 4);
    put_text(w, info->name, strlen(info->name));
    put_text(w, "fields", 6);
    put_array(w, 2 * (size_t)info->field_count);
    for (uint32_t i = 0; i < info->field_count; i++) {
        const ikv_field *field = &info->fields[i];
        put_text(w, field->name, strlen(field->name));
        const char *type = ikvi_type_of_field(field);
        put_text(w, type, strlen(type));
    }
}

/* A text or a value as the event has it: not as the kind alone says. */
static bool differs(const binary_writer *w, const binary_field *f,
                    const ikv_event *event)
{
    uint32_t length = 0;
    if (ikv_field_text(f->field, event, &length) != NULL)
        return length > 0;
    return ikv_field_get(f->field, event).bits.integer !=
           ikv_field_get(f->field, &w->blank).bits.integer;
}

/* The bits of the event's intake, as lines write it. */
static uint64_t marks_of(const ikv_event *event, const ikv_intake *intake)
{
    uint64_t marks = 0;
    if (intake->due_ns != event->time_ns || intake->group != 0 ||
        intake->how != IKV_INTAKE_INPUT)
        marks |= 1u << BINARY_DUE;
    marks |= (uint64_t)(intake->group != 0) << BINARY_GROUP;
    marks |= (uint64_t)(intake->how == IKV_INTAKE_INBOX) << BINARY_LANE;
    marks |= (uint64_t)(intake->how == IKV_INTAKE_HELD) << BINARY_HELD;
    marks |= (uint64_t)intake->within << BINARY_WITHIN;
    marks |= (uint64_t)(intake->lost_ns != 0) << BINARY_LOST;
    marks |= (uint64_t)(intake->data_size > 0) << BINARY_DATA;
    marks |= (uint64_t)(intake->flush != ikvi_tape_flush(intake))
             << BINARY_FLUSH;
    return marks;
}

static void put_marks(binary_writer *w, uint64_t marks, const ikv_event *event,
                      const ikv_intake *intake)
{
    if (marks >> BINARY_DUE & 1)
        put_integer(w, (int64_t)(intake->due_ns - event->time_ns));
    if (marks >> BINARY_GROUP & 1)
        put_uint(w, intake->group);
    if (marks >> BINARY_LANE & 1)
        put_uint(w, intake->lane);
    if (marks >> BINARY_HELD & 1)
        put_bool(w, true);
    if (marks >> BINARY_WITHIN & 1)
        put_bool(w, true);
    if (marks >> BINARY_LOST & 1)
        put_uint(w, intake->lost_ns);
    if (marks >> BINARY_DATA & 1)
        put_data(w, intake->data, intake->data_size);
    if (marks >> BINARY_FLUSH & 1)
        put_uint(w, intake->flush);
}

/* As many parts as lie in the event, of what has a scale. */
static int64_t parts_of_one(const binary_field *f, const ikv_event *event)
{
    ikv_field whole = *f->field;
    whole.scale = 1;
    return ikv_field_get(&whole, event).bits.integer;
}

static void put_field(binary_writer *w, const binary_field *f,
                      const ikv_event *event, target_namer name,
                      const void *user)
{
    uint32_t length = 0;
    if (f->is_single) {
        float number;
        memcpy(&number, (const char *)event + f->field->offset, sizeof number);
        put_single(w, number);
        return;
    }
    ikv_value value = ikv_field_get(f->field, event);
    const char *text = ikv_field_text(f->field, event, &length);
    bool is_target = value.type == IKV_VALUE_TARGET;
    uint32_t bits =
        is_target ? value.bits.target.bits : (uint32_t)value.bits.integer;
    bool named = ikvi_names_something(f->field) || (is_target && bits != 0);
    if (named) {
        text = name(user, f->field, &bits);
        length = text != NULL ? (uint32_t)strlen(text) : 0;
    }
    if (text != NULL)
        put_text(w, text, length);
    else if (named)
        put_uint(w, bits);
    else if (f->field->type == IKV_TYPE_U64)
        put_uint(w, (uint64_t)value.bits.integer);
    else if (value.type == IKV_VALUE_INTEGER)
        put_integer(w, value.bits.integer);
    else if (value.type == IKV_VALUE_NUMBER && f->field->scale > 1)
        put_integer(w, parts_of_one(f, event));
    else if (value.type == IKV_VALUE_NUMBER)
        put_real(w, value.bits.number);
    else if (value.type == IKV_VALUE_BOOL)
        put_bool(w, value.bits.boolean);
    else
        put_null(w);
}

void ikvi_binary_write_event(binary_writer *w, const ikv_event *event,
                             const ikv_kind_info *info,
                             const ikv_intake *intake, target_namer name,
                             const void *user)
{
    if (info != w->info)
        learn_kind(w, info);
    if (w->index[info->kind] == 0)
        describe_kind(w, info);
    uint64_t marks = marks_of(event, intake);
    uint64_t mask = ikvi_places_compare(&w->places, event, &w->blank);
    for (uint64_t left = w->places.anywhere; left != 0; left &= left - 1)
        if (!differs(w, &w->fields[ikvi_lowest_bit(left)], event))
            mask &= ~(left & (~left + 1));
    put_array(w, 3 + ikvi_bits_in(mask) + ikvi_bits_in(marks));
    put_uint(w, w->index[info->kind] - 1u);
    put_integer(w, (int64_t)(event->time_ns - w->time_ns));
    put_uint(w, mask | marks << w->field_count);
    w->time_ns = event->time_ns;
    for (uint64_t left = mask; left != 0; left &= left - 1)
        put_field(w, &w->fields[ikvi_lowest_bit(left)], event, name, user);
    put_marks(w, marks, event, intake);
}
