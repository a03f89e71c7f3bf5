/* values.c - what may come in: values that can be recorded and read back. */
#include "values.h"

size_t ikvi_point_length(const char *text, size_t left)
{
    const uint8_t *bytes = (const uint8_t *)text;
    /* Table 3-7 of the Unicode Standard: which second bytes a first one may
     * have. */
    uint8_t lead = bytes[0], least = 0x80, most = 0xbf;
    size_t length = 0;
    if (lead > 0 && lead < 0x80)
        length = 1;
    else if (lead >= 0xc2 && lead < 0xe0)
        length = 2;
    else if (lead >= 0xe0 && lead < 0xf0)
        length = 3;
    else if (lead >= 0xf0 && lead <= 0xf4)
        length = 4;
    if (length == 0 || length > left)
        return 0;
    if (lead == 0xe0)
        least = 0xa0; /* else there is a shorter form */
    else if (lead == 0xed)
        most = 0x9f; /* surrogates */
    else if (lead == 0xf0)
        least = 0x90;
    else if (lead == 0xf4)
        most = 0x8f; /* above U+10FFFF */
    for (size_t i = 1; i < length; i++) {
        if (bytes[i] < least || bytes[i] > most)
            return 0;
        /* Only the second byte has other limits. */
        least = 0x80;
        most = 0xbf;
    }
    return length;
}

bool ikvi_is_utf8(const char *text, size_t size)
{
    size_t used = 0, length = 1;
    for (; used < size && length > 0; used += length)
        length = ikvi_point_length(text + used, size - used);
    return length > 0;
}

static bool text_is_good(const ikv_field *field, const ikv_event *event)
{
    const uint8_t *at = (const uint8_t *)event + field->offset;
    size_t length = *at;
    /* The first byte is the length: what came from outside may say anything. */
    if (length > sizeof *event - field->offset - 1u)
        return false;
    return ikvi_is_utf8((const char *)at + 1, length);
}

/* A float's bits without the sign, if it is no larger than the limit of
 * coordinates; kinds of one's own may hold any that is finite. */
#define COORDINATE_BITS UINT32_C(0x4e800000)
#define FINITE_BITS     UINT32_C(0x7f7fffff)
#define FINITE_WORDS    UINT64_C(0x7fefffffffffffff)

static bool number_is_good(uint32_t bits, bool any)
{
    return (bits & INT32_MAX) <= (any ? FINITE_BITS : COORDINATE_BITS);
}

/* By the bits of the number: a comparison would need one for each of NaN and
 * the infinities. */
static bool field_is_good(const ikv_field *field, const ikv_event *event,
                          bool any)
{
    const char *at = (const char *)event + field->offset;
    uint32_t word;
    uint64_t wide;
    switch (field->type) {
    case IKV_TYPE_TEXT:
        return text_is_good(field, event);
    case IKV_TYPE_F32:
        memcpy(&word, at, sizeof word);
        return number_is_good(word, any);
    case IKV_TYPE_F64:
        memcpy(&wide, at, sizeof wide);
        return (wide & INT64_MAX) <= FINITE_WORDS;
    case IKV_TYPE_VALUE:
        memcpy(&wide, at, sizeof wide);
        return event->field.type == IKV_VALUE_NUMBER
                   ? (wide & INT64_MAX) <= FINITE_WORDS
                   : event->field.type <= IKV_VALUE_TARGET;
    default:
        return true;
    }
}

const ikv_field *ikvi_event_fault(const ikv_catalogue *catalogue,
                                  const ikv_event *event)
{
    const ikv_kind_info *info = ikv_catalogue_info(catalogue, event->kind);
    bool any = event->kind >= IKV_KIND_USER;
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++)
        if (!field_is_good(&info->fields[i], event, any))
            return &info->fields[i];
    return NULL;
}

bool ikvi_pointer_is_good(const ikv_event *event)
{
    uint32_t words[4];
    memcpy(words, &event->pointer, sizeof words);
    return number_is_good(words[0], false) && number_is_good(words[1], false) &&
           number_is_good(words[2], false) && number_is_good(words[3], false);
}

bool ikvi_coordinate_is_good(float value)
{
    return value >= -IKV_COORDINATE_LIMIT && value <= IKV_COORDINATE_LIMIT;
}

bool ikvi_key_is_held(const ikv_event *held, uint32_t count, uint32_t code)
{
    for (uint32_t i = 0; i < count; i++)
        if (held[i].kind == IKV_KIND_KEY_DOWN && held[i].key.code == code)
            return true;
    return false;
}
