/* tape_write.c - writes the lines of a tape's events, plain ones quickly.
 *
 * A recording runs beside a game: most of what comes in are moves of the
 * mouse, whose fields are numbers and names of the catalogue's own. Their lines
 * are put together from pieces that are kept for the last kind. What is not so
 * plain goes through a JSON writer, piece by piece; both write the same.
 */
#include "tape.h"

#include <stdlib.h>
#include <string.h>

/* ------------------------------------------------------------ any event -- */

static void write_intake(json_writer *w, const ikv_event *event,
                         const ikv_intake *intake)
{
    if (intake->due_ns != event->time_ns || intake->group != 0 ||
        intake->how != IKV_INTAKE_INPUT) {
        ikvi_write_name(w, "due");
        ikvi_write_ms(w, intake->due_ns);
    }
    if (intake->group != 0) {
        ikvi_write_name(w, "between");
        ikvi_write_integer(w, intake->group);
    }
    if (intake->how == IKV_INTAKE_HELD) {
        ikvi_write_name(w, "held");
        ikvi_write_bool(w, true);
    }
    if (intake->how == IKV_INTAKE_INBOX) {
        ikvi_write_name(w, "lane");
        if (intake->lane == IKV_STEP_LANE || intake->lane == IKV_FRAME_LANE)
            ikvi_write_text(w,
                            intake->lane == IKV_STEP_LANE ? "step" : "frame");
        else
            ikvi_write_integer(w, intake->lane);
    }
    if (intake->within) {
        ikvi_write_name(w, "within");
        ikvi_write_bool(w, true);
    }
    if (intake->flush != ikvi_tape_flush(intake)) {
        ikvi_write_name(w, "flush");
        ikvi_write_integer(w, intake->flush);
    }
    if (intake->lost_ns != 0) {
        ikvi_write_name(w, "lost");
        ikvi_write_ms(w, intake->lost_ns);
    }
}

void ikvi_write_fields(json_writer *w, const ikv_event *event,
                       const ikv_kind_info *info, target_namer name,
                       const void *user)
{
    ikv_event blank = ikvi_tape_blank(info);
    const ikv_field *field;
    for (uint32_t i = 0;; i++) {
        field = ikv_field_header(i);
        if (field == NULL)
            break;
        if (ikv_field_get(field, event).bits.integer !=
            ikv_field_get(field, &blank).bits.integer) {
            ikvi_write_name(w, field->name);
            ikvi_write_field(w, field, event, name, user);
        }
    }
    for (uint32_t i = 0; i < info->field_count; i++) {
        uint32_t length = 0;
        field = &info->fields[i];
        bool text = ikv_field_text(field, event, &length) != NULL;
        if (text ? length > 0
                 : ikv_field_get(field, event).bits.integer !=
                       ikv_field_get(field, &blank).bits.integer) {
            ikvi_write_name(w, field->name);
            ikvi_write_field(w, field, event, name, user);
        }
    }
}

void ikvi_write_event(json_writer *w, const ikv_event *event,
                      const ikv_kind_info *info, const ikv_intake *intake,
                      target_namer name, const void *user)
{
    ikvi_write_object(w);
    ikvi_write_name(w, "t");
    ikvi_write_ms(w, event->time_ns);
    ikvi_write_name(w, "kind");
    ikvi_write_text(w, info->name);
    write_intake(w, event, intake);
    ikvi_write_fields(w, event, info, name, user);
    ikvi_write_data(w, intake->data, intake->data_size);
}

/* ------------------------------------------------------- what is written -- */

void ikvi_places_add(field_places *places, const ikv_field *field)
{
    unsigned char bytes[8] = {0};
    uint32_t size = ikvi_size_of_field(field), index = places->count++;
    /* No number lies in two words. */
    memset(bytes + field->offset % 8, 0xff, size);
    memcpy(&places->bytes[index], bytes, sizeof bytes);
    places->in_word[field->offset / 8] |= (uint64_t)(size > 0) << index;
    places->anywhere |= (uint64_t)(size == 0) << index;
}

uint64_t ikvi_places_compare(const field_places *places, const ikv_event *a,
                             const ikv_event *b)
{
    uint64_t one[EVENT_WORDS], other[EVENT_WORDS];
    uint64_t found = places->anywhere;
    memcpy(one, a, sizeof one);
    memcpy(other, b, sizeof other);
    for (uint32_t i = 0; i < EVENT_WORDS; i++) {
        uint64_t differs = one[i] ^ other[i];
        /* Most words are as they are in most events. */
        uint64_t left = differs != 0 ? places->in_word[i] : 0;
        for (; left != 0; left &= left - 1) {
            uint32_t field = ikvi_lowest_bit(left);
            found |= (uint64_t)((differs & places->bytes[field]) != 0) << field;
        }
    }
    return found;
}

/* ---------------------------------------------------------- plain lines -- */

enum {
    PREFIX = 40,     /* bytes of `,"name":` */
    KIND_BYTES = 80, /* of `,"kind":"name"` */
    FIELD_BYTES = 128
};

/* How a field's value is written. */
enum {
    WRITE_NUMBER,
    WRITE_SINGLE,
    WRITE_NAMED,
    WRITE_MASK,
    WRITE_BOOL,
    WRITE_NOT /* if it has one, the event is not plain */
};

typedef struct plain_field {
    const ikv_field *field;
    uint8_t how, length;
    /* The last value that has names, and its text: mostly the next one's. */
    uint8_t text_length;
    uint64_t value;
    char prefix[PREFIX], text[FIELD_BYTES - PREFIX];
} plain_field;

struct plain_writer {
    const ikv_kind_info *info;
    ikv_event blank; /* what is as in it is not written */
    bool fit;        /* that kind can be written here */
    uint32_t count, kind_length;
    field_places places;
    char kind[KIND_BYTES];
    plain_field fields[EVENT_FIELDS];
    char line[EVENT_FIELDS * FIELD_BYTES + KIND_BYTES + FIELD_BYTES];
};

plain_writer *ikvi_plain_open(void)
{
    return calloc(1, sizeof(plain_writer));
}

void ikvi_plain_close(plain_writer *plain)
{
    free(plain);
}

static uint8_t how_written(const ikv_field *field)
{
    if (field->type == IKV_TYPE_TARGET || ikvi_names_something(field))
        return WRITE_NOT;
    if (field->type == IKV_TYPE_BOOL)
        return WRITE_BOOL;
    if (field->set == IKV_SET_NONE)
        return field->type == IKV_TYPE_F32 ? WRITE_SINGLE : WRITE_NUMBER;
    return ikvi_json_is_mask(field) ? WRITE_MASK : WRITE_NAMED;
}

static void learn_field(plain_writer *p, const ikv_field *field)
{
    if (field->type == IKV_TYPE_TEXT || field->type == IKV_TYPE_VALUE ||
        p->count == EVENT_FIELDS || strlen(field->name) > PREFIX - 5) {
        p->fit = false;
        return;
    }
    ikvi_places_add(&p->places, field);
    plain_field *f = &p->fields[p->count++];
    *f = (plain_field){.field = field, .how = how_written(field)};
    f->length =
        (uint8_t)snprintf(f->prefix, sizeof f->prefix, ",\"%s\":", field->name);
}

static void learn_kind(plain_writer *p, const ikv_kind_info *info)
{
    const ikv_field *field;
    p->blank = ikvi_tape_blank(info);
    p->info = info;
    p->count = 0;
    p->places = (field_places){0};
    /* The catalogue's names need no escapes. */
    p->fit = strlen(info->name) < KIND_BYTES - 12;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++)
        learn_field(p, field);
    for (uint32_t i = 0; i < info->field_count; i++)
        learn_field(p, &info->fields[i]);
    if (p->fit)
        p->kind_length = (uint32_t)snprintf(p->kind, sizeof p->kind,
                                            ",\"kind\":\"%s\"", info->name);
}

/* The place after a piece that is put there. */
static char *put(char *to, const char *piece)
{
    size_t length = strlen(piece);
    memcpy(to, piece, length + 1);
    return to + length;
}

/* The place after a text that is put there; NULL if it needs escapes, or is
 * longer than any name. */
static char *put_text(char *to, const char *text)
{
    const char *end = to + FIELD_BYTES - PREFIX - 4;
    for (*to++ = '"'; *text != '\0'; *to++ = *text++)
        if (to == end || *text < ' ' || *text > '~' || *text == '"' ||
            *text == '\\' || *text == '/')
            return NULL;
    *to++ = '"';
    return to;
}

static char *put_mask(char *to, const ikv_field *field, uint64_t mask)
{
    const char *end = to + FIELD_BYTES - PREFIX;
    *to = '['; /* again, if nothing follows */
    for (uint32_t i = 0; mask != 0; i++) {
        uint64_t bit;
        const char *name = ikv_value_list(field->set, i, &bit);
        if (name == NULL)
            return NULL;
        if ((mask & bit) == 0)
            continue;
        mask &= ~bit;
        if ((size_t)(end - to) < strlen(name) + 5)
            return NULL;
        to[0] = *to == '[' ? '[' : ',';
        to[1] = '"';
        to = put(to + 2, name);
        *to++ = '"';
        *to = ','; /* or the end */
    }
    if (*to == '[')
        to++;
    *to++ = ']';
    return to;
}

/* A value by its name, or the number of what has none. */
static char *put_name(char *to, const ikv_field *field, uint64_t value)
{
    char buffer[8];
    const char *name = ikvi_json_value_name(field, value, buffer);
    return name != NULL ? put_text(to, name)
                        : to + ikvi_integer_text((int64_t)value, to);
}

static char *put_named(char *to, plain_field *f, uint64_t value)
{
    if (f->text_length == 0 || f->value != value) {
        const char *end = f->how == WRITE_MASK
                              ? put_mask(f->text, f->field, value)
                              : put_name(f->text, f->field, value);
        f->value = value;
        f->text_length = end != NULL ? (uint8_t)(end - f->text) : 0;
    }
    if (f->text_length == 0)
        return NULL;
    memcpy(to, f->text, f->text_length);
    return to + f->text_length;
}

/* The place after the value, NULL if it is not plain. */
static char *put_value(char *to, plain_field *f, const ikv_event *event)
{
    const ikv_field *field = f->field;
    if (f->how == WRITE_SINGLE) {
        float number;
        memcpy(&number, (const char *)event + field->offset, sizeof number);
        size_t length = ikvi_number_text((double)number, true, to);
        return length > 0 ? to + length : NULL;
    }
    ikv_value value = ikv_field_get(field, event);
    uint64_t bits = (uint64_t)value.bits.integer;
    if (f->how == WRITE_NAMED || f->how == WRITE_MASK)
        return put_named(to, f, bits);
    if (f->how == WRITE_BOOL)
        return put(to, value.bits.boolean ? "true" : "false");
    if (f->how == WRITE_NOT ||
        (field->type == IKV_TYPE_U64 && value.bits.integer < 0))
        return NULL;
    size_t length = value.type == IKV_VALUE_INTEGER
                        ? ikvi_integer_text(value.bits.integer, to)
                        : ikvi_number_text(value.bits.number,
                                           ikvi_has_float_digits(field), to);
    return length > 0 ? to + length : NULL;
}

const char *ikvi_plain_line(plain_writer *p, const ikv_event *event,
                            const ikv_kind_info *info, const ikv_intake *intake,
                            size_t *length)
{
    if (info != p->info)
        learn_kind(p, info);
    if (!p->fit || intake->group != 0 || intake->how != IKV_INTAKE_INPUT ||
        intake->lost_ns != 0 || intake->data_size > 0)
        return NULL;
    uint64_t changed = ikvi_places_compare(&p->places, event, &p->blank);
    char *to = put(p->line, "{\"t\":");
    to += ikv_time_format(event->time_ns, to);
    memcpy(to, p->kind, KIND_BYTES);
    to += p->kind_length;
    if (intake->due_ns != event->time_ns) {
        to = put(to, ",\"due\":");
        to += ikv_time_format(intake->due_ns, to);
    }
    for (; changed != 0; changed &= changed - 1) {
        plain_field *f = &p->fields[ikvi_lowest_bit(changed)];
        /* All of it: a copy whose size is known needs no call. */
        memcpy(to, f->prefix, PREFIX);
        to = put_value(to + f->length, f, event);
        if (to == NULL)
            return NULL;
    }
    *to++ = '}';
    *to++ = '\n';
    *length = (size_t)(to - p->line);
    return p->line;
}
