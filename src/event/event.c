/* event.c - making, keeping and printing events. */
#include "text.h"
#include "values.h"

#include "ikvar/keys.h"

/* What an event of that kind needs to mean something. */
ikv_event ikv_event_make(ikv_kind kind, uint64_t time_ns)
{
    /* All else is 0, which is a value that means nothing in particular. */
    ikv_event event = {.kind = kind, .time_ns = time_ns};
    const ikv_kind_info *info = ikv_catalogue_info(NULL, kind);
    if (info == NULL)
        return event;
    switch (info->family) {
    case IKV_FAMILY_POINTER:
        event.pointer.button =
            kind == IKV_KIND_POINTER_DOWN || kind == IKV_KIND_POINTER_UP
                ? IKV_PRIMARY_BUTTON
                : IKV_NO_BUTTON;
        break;
    case IKV_FAMILY_CLICK:
        event.pointer.button =
            kind == IKV_KIND_POINTER_AUXILIARY || kind == IKV_KIND_POINTER_MENU
                ? IKV_SECONDARY_BUTTON
                : IKV_PRIMARY_BUTTON;
        break;
    case IKV_FAMILY_GESTURE:
        event.gesture.scale = 1;
        event.gesture.count = 2;
        break;
    case IKV_FAMILY_WINDOW:
        /* A density of 1: 0 would make all lengths vanish. */
        event.window.density = kind == IKV_KIND_WINDOW_DENSITY;
        break;
    default:
        break;
    }
    return event;
}

ikv_status ikv_event_copy(ikv_kept_event *to, void *buffer, size_t buffer_size,
                          const ikv_event *event, const void *data,
                          size_t data_size)
{
    if (to == NULL || event == NULL || (data_size > 0 && data == NULL) ||
        data_size > UINT32_MAX)
        return IKV_BAD_ARGUMENT;
    /* Also where the buffer is too small: the caller learns how much is
     * needed. */
    to->data_size = (uint32_t)data_size;
    if (data_size > 0 && (buffer == NULL || buffer_size < data_size))
        return IKV_BAD_SIZE;
    to->event = *event;
    if (data_size > 0)
        memcpy(buffer, data, data_size);
    return IKV_OK;
}

/* ------------------------------------------------------------- printing -- */

static void print_number(ikvi_text *text, double value, bool is_float)
{
    char digits[32];
    ikvi_text_bytes(text, digits, ikv_number_format(value, is_float, digits));
}

static void print_mask(ikvi_text *text, uint32_t set, uint64_t mask)
{
    bool first = true;
    for (unsigned bit = 0; bit < 64; bit++) {
        uint64_t value = (uint64_t)1 << bit;
        if ((mask & value) == 0)
            continue;
        /* A bit without a name is told as its number, and not left out. */
        const char *name = ikv_value_name(set, value);
        ikvi_text_add(text, first ? "" : "+");
        if (name != NULL)
            ikvi_text_add(text, name);
        else
            ikvi_text_unsigned(text, value);
        first = false;
    }
}

static void print_integer(ikvi_text *text, const ikv_field *field,
                          int64_t value)
{
    char buffer[8];
    const char *name = NULL;
    bool mask = ikvi_same(field->unit, "mask");
    if (field->set == IKV_SET_CODE)
        name = ikv_code_name((uint32_t)value);
    else if (field->set == IKV_SET_KEY)
        name = ikv_key_name((uint32_t)value, buffer);
    else if (field->set != IKV_SET_NONE && !mask)
        name = ikv_value_name(field->set, (uint64_t)value);
    if (name != NULL)
        ikvi_text_add(text, name);
    else if (mask && field->set != IKV_SET_NONE)
        print_mask(text, field->set, (uint64_t)value);
    else if (field->type == IKV_TYPE_U64)
        ikvi_text_unsigned(text, (uint64_t)value);
    else
        ikvi_text_signed(text, value);
}

static void print_value(ikvi_text *text, const ikv_field *field,
                        ikv_value value)
{
    /* A float's digits say also what a scaled field of 16 bits holds. */
    bool is_float = field->type == IKV_TYPE_F32 || field->type <= IKV_TYPE_I16;
    if (value.type == IKV_VALUE_NUMBER)
        print_number(text, value.bits.number, is_float);
    else if (value.type == IKV_VALUE_BOOL)
        ikvi_text_add(text, value.bits.boolean ? "true" : "false");
    else if (value.type == IKV_VALUE_TARGET)
        ikvi_text_hex(text, value.bits.target.bits);
    else
        print_integer(text, field, value.bits.integer);
}

static void print_quoted(ikvi_text *text, const char *bytes, uint32_t length)
{
    ikvi_text_add(text, "\"");
    for (uint32_t i = 0; i < length; i++) {
        char c = bytes[i];
        /* A log goes to terminals: what could steer one is a question mark. */
        bool plain =
            (unsigned char)c >= 0x20 && c != '"' && c != '\\' && c != 0x7f;
        ikvi_text_bytes(text, plain ? &c : "?", 1);
    }
    ikvi_text_add(text, "\"");
}

/* What a field holds when nobody has set it; such fields are not printed. */
static bool is_unset(const ikv_field *field, ikv_value value)
{
    if (value.type == IKV_VALUE_NUMBER)
        return value.bits.number == 0;
    if (value.type == IKV_VALUE_BOOL)
        return !value.bits.boolean;
    if (value.type == IKV_VALUE_TARGET)
        return value.bits.target.bits == 0;
    /* Button 0 is the primary one: here 0 says something, and -1 nothing. */
    if (field->type == IKV_TYPE_I8 && ikvi_same(field->name, "button"))
        return value.bits.integer == IKV_NO_BUTTON;
    return value.type == IKV_VALUE_NONE ||
           (value.bits.integer == 0 &&
            (field->set == IKV_SET_NONE || ikvi_same(field->unit, "mask") ||
             field->set == IKV_SET_KEY_LOCATION));
}

static void print_field(ikvi_text *text, const ikv_field *field,
                        const ikv_event *event)
{
    uint32_t length;
    const char *bytes = ikv_field_text(field, event, &length);
    ikv_value value = ikv_field_get(field, event);
    if (bytes == NULL && is_unset(field, value))
        return;
    ikvi_text_add(text, " ");
    ikvi_text_add(text, field->name);
    ikvi_text_add(text, "=");
    if (bytes != NULL)
        print_quoted(text, bytes, length);
    else
        print_value(text, field, value);
}

/* E4. */
size_t ikv_event_format(const ikv_catalogue *catalogue, const ikv_event *event,
                        char *buffer, size_t size)
{
    ikvi_text text = {buffer, buffer != NULL ? size : 0, 0};
    if (event == NULL) {
        ikvi_text_add(&text, "no event");
        return ikvi_text_end(&text);
    }
    const ikv_kind_info *info = ikv_catalogue_info(catalogue, event->kind);
    if (info != NULL) {
        ikvi_text_add(&text, info->name);
    } else {
        ikvi_text_add(&text, "kind ");
        ikvi_text_unsigned(&text, event->kind);
    }
    char time[32];
    ikvi_text_add(&text, " t=");
    ikvi_text_bytes(&text, time, ikv_time_format(event->time_ns, time));
    const ikv_field *field;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++)
        print_field(&text, field, event);
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++)
        print_field(&text, &info->fields[i], event);
    return ikvi_text_end(&text);
}

/* -------------------------------------------------------------- numbers -- */

uint16_t ikvi_modifier_bit(uint32_t code)
{
    static const uint16_t bits[] = {IKV_CONTROL, IKV_SHIFT, IKV_ALT, IKV_META};
    return code >= IKV_CODE(0xe0) && code <= IKV_CODE(0xe7) ? bits[code & 3]
                                                            : 0;
}
