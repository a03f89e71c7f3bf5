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
    uint8_t late;  /* the state that expired: a report's rest may follow */
    uint8_t again; /* bytes of `sequence` that are keys after all */
    uint32_t utf8;
    char sequence[SEQUENCE_LIMIT];
} parser;

/* Takes one byte; what it completes, if anything. Then, while
 * ikvi_parser_has_more(), a call of ikvi_parser_more(). */
token ikvi_parser_take(parser *p, uint8_t byte);
bool ikvi_parser_has_more(const parser *p);
token ikvi_parser_more(parser *p);

/* Whether something waits to be told apart from a key: an escape, an escape and
 * a bracket, or what may be the rest of a mouse report. A sequence whose
 * parameters have begun waits for its end however long that takes. */
bool ikvi_parser_waits(const parser *p);

/* No more came: what waits was the Escape key, or what it looks like. Then,
 * too, ikvi_parser_more(). */
token ikvi_parser_expire(parser *p);

#endif
