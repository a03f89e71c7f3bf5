/* text.c - texts in buffers that may be too small. */
#include "text.h"

size_t ikvi_text_length(const char *string)
{
    size_t length = 0;
    while (string[length] != '\0')
        length++;
    return length;
}

void ikvi_text_bytes(ikvi_text *text, const char *bytes, size_t count)
{
    if (text->length < text->size) {
        size_t room = text->size - text->length;
        memcpy(text->buffer + text->length, bytes, count < room ? count : room);
    }
    /* It goes on counting, so that the caller learns how much was needed. */
    text->length += count;
}

void ikvi_text_add(ikvi_text *text, const char *string)
{
    ikvi_text_bytes(text, string, ikvi_text_length(string));
}

void ikvi_text_unsigned(ikvi_text *text, uint64_t value)
{
    char digits[20];
    size_t at = sizeof digits;
    /* Also 0 has a digit. */
    do {
        digits[--at] = (char)('0' + value % 10);
        value /= 10;
    } while (value != 0);
    ikvi_text_bytes(text, digits + at, sizeof digits - at);
}

void ikvi_text_signed(ikvi_text *text, int64_t value)
{
    if (value < 0)
        ikvi_text_add(text, "-");
    /* The least number has no positive one: negated as unsigned, it is
     * right. */
    ikvi_text_unsigned(text, value < 0 ? -(uint64_t)value : (uint64_t)value);
}

void ikvi_text_hex(ikvi_text *text, uint32_t value)
{
    char digits[8];
    for (size_t i = sizeof digits; i-- > 0; value >>= 4)
        digits[i] = "0123456789abcdef"[value & 15];
    ikvi_text_bytes(text, digits, sizeof digits);
}

size_t ikvi_text_end(ikvi_text *text)
{
    if (text->size > 0) {
        /* A text that is too long is cut, and ends with a zero all the same. */
        size_t end = text->size - 1;
        text->buffer[text->length < end ? text->length : end] = '\0';
    }
    return text->length;
}

void ikvi_message(ikv_message *message, const char *const *parts)
{
    if (message == NULL)
        return;
    ikvi_text text = {message->text, sizeof message->text, 0};
    for (size_t i = 0; parts[i] != NULL; i++)
        ikvi_text_add(&text, parts[i]);
    ikvi_text_end(&text);
}

bool ikvi_same(const char *a, const char *b)
{
    while (*a != '\0' && *a == *b)
        a++, b++;
    return *a == *b;
}
