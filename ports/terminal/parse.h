/* parse.h - a terminal's bytes as keys, mouse reports and text: a state machine
 * that takes a byte at a time, so that sequences may arrive in pieces.
 *
 * ECMA-48 control sequences; the mouse in SGR form (ESC [ < b ; x ; y M or m);
 * focus reports (ESC [ I, ESC [ O); pasted text between ESC [ 200 ~ and
 * ESC [ 201 ~.
 */
#ifndef IKVI_TERMINAL_PARSE_H
#define IKVI_TERMINAL_PARSE_H

#include <stdbool.h>
#include <stdint.h>

enum token_type {
    TOKEN_NONE,
    TOKEN_KEY,    /* code; modifiers; character if it types one */
    TOKEN_MOUSE,  /* button bits, column, row, pressed, moved */
    TOKEN_FOCUS,  /* pressed: got it */
    TOKEN_UNKNOWN /* a whole sequence that means nothing to us */
};

typedef struct token {
    enum token_type type;
    uint32_t code;      /* HID usage with page 7, 0 if unknown */
    uint32_t character; /* code point, 0 if none */
    uint16_t modifiers;
    uint16_t button;      /* as in the SGR report */
    uint16_t column, row; /* from 1 */
    bool pressed;
    bool pasted;
} token;

enum {
    SEQUENCE_LIMIT = 64
};

typedef struct parser {
    uint8_t state;
    uint8_t length; /* of `sequence` */
    uint8_t utf8_left;
    bool pasting;
    uint32_t utf8;
    char sequence[SEQUENCE_LIMIT];
} parser;

/* Takes one byte; what it completes, if anything. */
token ikvi_parser_take(parser *p, uint8_t byte);

/* Whether an escape waits to be told apart from the Escape key. */
bool ikvi_parser_waits(const parser *p);

/* No more came: what waits was the Escape key, or a broken sequence. */
token ikvi_parser_expire(parser *p);

#endif
