/* text.h - building texts without printf, and messages. */
#ifndef IKVI_TEXT_H
#define IKVI_TEXT_H

#include "platform.h"

/* Builds text in a buffer that may be too small: `length` goes on counting. */
typedef struct ikvi_text {
    char *buffer;
    size_t size, length;
} ikvi_text;

void ikvi_text_bytes(ikvi_text *text, const char *bytes, size_t count);
void ikvi_text_add(ikvi_text *text, const char *string);
void ikvi_text_unsigned(ikvi_text *text, uint64_t value);
void ikvi_text_signed(ikvi_text *text, int64_t value);
void ikvi_text_hex(ikvi_text *text, uint32_t value);
/* Ends the text with a zero byte; gives the length that it needs. */
size_t ikvi_text_end(ikvi_text *text);

/* Fills in a message from up to eight parts, the last of them NULL. */
void ikvi_message(ikv_message *message, const char *const *parts);

/* What a call that went well leaves: nothing. */
static inline ikv_status ikvi_fine(ikv_message *message)
{
    if (message != NULL)
        message->text[0] = '\0';
    return IKV_OK;
}

size_t ikvi_text_length(const char *string);
bool ikvi_same(const char *a, const char *b);

#endif
