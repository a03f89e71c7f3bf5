/* data.c - bytes of any sort in JSON: as the text that they are, or in base64
 * (RFC 4648, section 4). */
#include "write.h"

#include <stdlib.h>
#include <string.h>

static const char digits[] =
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

/* What a line of a file can show: UTF-8 without control characters, but for
 * tabs and ends of lines. */
bool ikvi_is_shown_text(const void *data, size_t size)
{
    const unsigned char *bytes = data;
    for (size_t i = 0; i < size; i++)
        if ((bytes[i] < ' ' && bytes[i] != '\t' && bytes[i] != '\n' &&
             bytes[i] != '\r') ||
            bytes[i] == 0x7f)
            return false;
    /* Without memory it counts as none, which loses nothing. */
    json_t *text = json_stringn(data, size);
    json_decref(text);
    return text != NULL;
}

/* Four digits of up to three bytes. */
static void put_group(const unsigned char *from, size_t count, char to[4])
{
    uint32_t bits = 0;
    for (size_t i = 0; i < 3; i++)
        bits = bits << 8 | (i < count ? from[i] : 0u);
    for (size_t i = 0; i < 4; i++)
        to[i] = i <= count ? digits[bits >> (18 - 6 * i) & 63] : '=';
}

void ikvi_write_data(json_writer *w, const void *data, size_t size)
{
    char text[(IKVI_DATA_LIMIT + 2) / 3 * 4];
    size_t length = 0;
    if (size == 0 || size > IKVI_DATA_LIMIT)
        return;
    if (ikvi_is_shown_text(data, size)) {
        ikvi_write_name(w, "data");
        ikvi_write_bytes(w, data, size);
        return;
    }
    for (size_t at = 0; at < size; at += 3, length += 4)
        put_group((const unsigned char *)data + at, size - at, text + length);
    ikvi_write_name(w, "base64");
    ikvi_write_bytes(w, text, length);
}

/* Three bytes of four digits, fewer of the last ones; false if they are none. */
static bool take_group(const char *from, bool last, char *to, size_t *count)
{
    uint32_t bits = 0;
    size_t used = 4;
    while (last && used > 2 && from[used - 1] == '=')
        used--;
    for (size_t i = 0; i < 4; i++) {
        const char *at = i < used ? strchr(digits, from[i]) : digits;
        if (at == NULL || *at == '\0')
            return false;
        bits = bits << 6 | (uint32_t)(at - digits);
    }
    *count = used - 1;
    for (size_t i = 0; i < *count; i++)
        to[i] = (char)(bits >> (16 - 8 * i) & 255);
    /* What is left over is 0, so that the same bytes have one form. */
    return (bits & (used == 4 ? 0u : used == 3 ? 255u : 65535u)) == 0;
}

static bool keep(reader *r, data_buffer *buffer, const char *bytes, size_t size)
{
    if (size > buffer->room) {
        char *grown = realloc(buffer->bytes, size);
        if (grown == NULL)
            return ikvi_no_memory(r) == IKV_OK;
        buffer->bytes = grown;
        buffer->room = size;
    }
    memcpy(buffer->bytes, bytes, size);
    buffer->size = size;
    return true;
}

static bool keep_base64(reader *r, const place *at, data_buffer *buffer,
                        const char *text, size_t length)
{
    char bytes[IKVI_DATA_LIMIT + 3];
    size_t size = 0, count;
    if (length == 0 || length % 4 != 0 || length / 4 * 3 > sizeof bytes)
        return ikvi_reader_fail(r, at,
                                "expected base64 of 1 to %d bytes, found %zu "
                                "characters",
                                IKVI_DATA_LIMIT, length);
    for (size_t i = 0; i < length; i += 4) {
        if (!take_group(text + i, i + 4 == length, bytes + size, &count))
            return ikvi_reader_fail(r, at,
                                    "expected base64, found \"%.4s\" at "
                                    "character %zu",
                                    text + i, i + 1);
        size += count;
    }
    return keep(r, buffer, bytes, size);
}

bool ikvi_read_data(reader *r, const json_t *object, data_buffer *buffer)
{
    const json_t *data = json_object_get(object, "data");
    const json_t *base64 = json_object_get(object, "base64");
    const json_t *value = data != NULL ? data : base64;
    place at = {NULL, data != NULL ? "data" : "base64", 0};
    buffer->size = 0;
    if (value == NULL)
        return true;
    if (data != NULL && base64 != NULL)
        return ikvi_reader_fail(r, &at, "expected \"data\" or \"base64\"");
    const char *text = json_string_value(value);
    size_t length = json_string_length(value);
    if (text == NULL)
        return ikvi_reader_fail(r, &at, "expected a string, found %s",
                                ikvi_json_found(value));
    if (data == NULL && !keep_base64(r, &at, buffer, text, length))
        return false;
    if (data != NULL && (length == 0 || length > IKVI_DATA_LIMIT))
        return ikvi_reader_fail(r, &at, "expected 1 to %d bytes, found %zu",
                                IKVI_DATA_LIMIT, length);
    return data == NULL || keep(r, buffer, text, length);
}
