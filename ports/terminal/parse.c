/* parse.c - see parse.h. */
#include "parse.h"

#include "ikvar/event.h"
#include "ikvar/keys.h"

#include <stddef.h>

enum state {
    GROUND,
    ESCAPED, /* ESC */
    CONTROL, /* ESC [ */
    SINGLE_SHIFT /* ESC O */,
    DOUBT /* "[" or "<", behind what has expired */
};

/* --------------------------------------------------------------- tables -- */

/* US keyboard: what a character is typed with. `shifted` follows `plain`. */
static const struct {
    char plain, shifted;
    uint8_t usage;
} typed[] = {
    {'1', '!', 0x1e}, {'2', '@', 0x1f},  {'3', '#', 0x20}, {'4', '$', 0x21},
    {'5', '%', 0x22}, {'6', '^', 0x23},  {'7', '&', 0x24}, {'8', '*', 0x25},
    {'9', '(', 0x26}, {'0', ')', 0x27},  {' ', ' ', 0x2c}, {'-', '_', 0x2d},
    {'=', '+', 0x2e}, {'[', '{', 0x2f},  {']', '}', 0x30}, {'\\', '|', 0x31},
    {';', ':', 0x33}, {'\'', '"', 0x34}, {'`', '~', 0x35}, {',', '<', 0x36},
    {'.', '>', 0x37}, {'/', '?', 0x38},
};

/* ESC [ A and the like; ESC O P and the like. */
static const struct {
    char final;
    uint8_t usage;
} finals[] = {
    {'A', 0x52}, {'B', 0x51}, {'C', 0x4f}, {'D', 0x50}, {'F', 0x4d},
    {'H', 0x4a}, {'P', 0x3a}, {'Q', 0x3b}, {'R', 0x3c}, {'S', 0x3d},
};

/* ESC [ n ~ */
static const struct {
    uint8_t number, usage;
} numbered[] = {
    {1, 0x4a},  {2, 0x49},  {3, 0x4c},  {4, 0x4d},  {5, 0x4b},
    {6, 0x4e},  {7, 0x4a},  {8, 0x4d},  {11, 0x3a}, {12, 0x3b},
    {13, 0x3c}, {14, 0x3d}, {15, 0x3e}, {17, 0x3f}, {18, 0x40},
    {19, 0x41}, {20, 0x42}, {21, 0x43}, {23, 0x44}, {24, 0x45},
};

#define COUNT(table) (sizeof(table) / sizeof(table)[0])

/* --------------------------------------------------------------- tokens -- */

static token key(uint32_t usage, uint32_t character, uint16_t modifiers)
{
    return (token){.type = TOKEN_KEY,
                   .code = usage != 0 ? IKV_CODE(usage) : 0,
                   .character = character,
                   .modifiers = modifiers};
}

static token unknown(void)
{
    return (token){.type = TOKEN_UNKNOWN};
}

/* A code point as a key press. */
static token character_key(const parser *p, uint32_t point, uint16_t modifiers)
{
    token t = key(0, point, modifiers);
    /* what is pasted is text, whatever keys would type it */
    t.pasted = p->pasting;
    if (point >= 'a' && point <= 'z')
        t.code = IKV_CODE(0x04 + point - 'a');
    if (point >= 'A' && point <= 'Z') {
        t.code = IKV_CODE(0x04 + point - 'A');
        t.modifiers |= IKV_SHIFT;
    }
    for (size_t i = 0; i < COUNT(typed); i++) {
        if (point == (uint32_t)typed[i].plain)
            t.code = IKV_CODE(typed[i].usage);
        else if (point == (uint32_t)typed[i].shifted) {
            t.code = IKV_CODE(typed[i].usage);
            t.modifiers |= IKV_SHIFT;
        }
    }
    return t;
}

static token control_byte(const parser *p, uint8_t byte, uint16_t modifiers)
{
    switch (byte) {
    case 0x09:
        return key(0x2b, 0, modifiers);
    case 0x0a:
    case 0x0d:
        return key(0x28, 0, modifiers);
    case 0x08:
    case 0x7f:
        return key(0x2a, 0, modifiers);
    case 0x00:
        return key(0x2c, 0, modifiers | IKV_CONTROL);
    default:
        break;
    }
    /* Control takes bits 6 and 7 off: 0x01 is Control+A */
    if (byte <= 0x1a) {
        token t = character_key(p, byte + 0x60u, modifiers);
        t.modifiers |= IKV_CONTROL;
        t.character = 0;
        return t;
    }
    return unknown();
}

/* A byte outside any sequence; starts or continues UTF-8. */
static token plain_byte(parser *p, uint8_t byte, uint16_t modifiers)
{
    token none = {.type = TOKEN_NONE};
    if (p->utf8_left > 0 && (byte & 0xc0) == 0x80) {
        p->utf8 = p->utf8 << 6 | (byte & 0x3f);
        return --p->utf8_left == 0 ? character_key(p, p->utf8, modifiers)
                                   : none;
    }
    /* what was begun and does not go on is dropped */
    p->utf8_left = 0;
    if (byte < 0x20 || byte == 0x7f)
        return control_byte(p, byte, modifiers);
    if (byte < 0x80)
        return character_key(p, byte, modifiers);
    /* a stray one, an overlong one, or behind the last code point */
    if (byte < 0xc2 || byte > 0xf4)
        return unknown();
    p->utf8_left = byte < 0xe0 ? 1 : byte < 0xf0 ? 2 : 3;
    /* the first byte's own bits */
    p->utf8 = byte & (0x3fu >> p->utf8_left);
    return none;
}

/* ---------------------------------------------------- control sequences -- */

/* The parameters of a control sequence, as numbers; how many there are. */
static size_t read_numbers(const parser *p, size_t from, uint32_t *to,
                           size_t room)
{
    size_t count = 0;
    bool open = false;
    for (size_t i = from; i < p->length; i++) {
        char c = p->sequence[i];
        if (c >= '0' && c <= '9') {
            /* a parameter begins with its first digit */
            if (!open && count < room)
                to[count++] = 0;
            open = true;
            /* large enough for each; it does not wrap */
            if (count > 0 && to[count - 1] < 100000)
                to[count - 1] = to[count - 1] * 10 + (uint32_t)(c - '0');
        } else {
            /* one that is left out is 0 */
            if (!open && c == ';' && count < room)
                to[count++] = 0;
            open = false;
        }
    }
    return count;
}

/* xterm's modifier parameter: 1 + shift 1, alt 2, control 4, meta 8. */
static uint16_t modifiers_of(uint32_t parameter)
{
    uint32_t bits = parameter > 0 ? parameter - 1 : 0;
    return (uint16_t)((bits & 1 ? IKV_SHIFT : 0) | (bits & 2 ? IKV_ALT : 0) |
                      (bits & 4 ? IKV_CONTROL : 0) | (bits & 8 ? IKV_META : 0));
}

static token mouse(const parser *p, uint8_t final)
{
    /* behind the "<" */
    uint32_t n[3] = {0, 0, 0};
    if (read_numbers(p, 1, n, 3) != 3 || n[0] > 1023 || n[1] == 0 ||
        n[2] == 0 || n[1] > 65535 || n[2] > 65535)
        return unknown();
    uint16_t modifiers =
        (uint16_t)((n[0] & 4 ? IKV_SHIFT : 0) | (n[0] & 8 ? IKV_ALT : 0) |
                   (n[0] & 16 ? IKV_CONTROL : 0));
    return (token){.type = TOKEN_MOUSE,
                   .button = (uint16_t)n[0],
                   .column = (uint16_t)n[1],
                   .row = (uint16_t)n[2],
                   .modifiers = modifiers,
                   .pressed = final == 'M'};
}

static token numbered_key(parser *p, const uint32_t *n, size_t count)
{
    uint32_t number = count > 0 ? n[0] : 0;
    /* a paste begins and ends */
    if (number == 200 || number == 201) {
        p->pasting = number == 200;
        return (token){.type = TOKEN_NONE};
    }
    for (size_t i = 0; i < COUNT(numbered); i++)
        if (numbered[i].number == number)
            return key(numbered[i].usage, 0,
                       count > 1 ? modifiers_of(n[1]) : 0);
    return unknown();
}

/* ESC [ code ; modifiers u: keys that would be ambiguous otherwise. */
static token coded_key(parser *p, const uint32_t *n, size_t count)
{
    uint16_t modifiers = count > 1 ? modifiers_of(n[1]) : 0;
    if (count == 0)
        return unknown();
    if (n[0] == 27)
        return key(0x29, 0, modifiers);
    if (n[0] < 0x20 || n[0] == 0x7f)
        return control_byte(p, (uint8_t)n[0], modifiers);
    token t = character_key(p, n[0], modifiers);
    /* a command, not text */
    if (modifiers & (IKV_CONTROL | IKV_ALT | IKV_META))
        t.character = 0;
    return t;
}

static token finish_control(parser *p, uint8_t final)
{
    uint32_t n[4] = {0};
    size_t count = read_numbers(p, 0, n, 4);
    p->state = GROUND;
    /* others that begin so are none of ours */
    if (p->length > 0 && p->sequence[0] == '<')
        return final == 'M' || final == 'm' ? mouse(p, final) : unknown();
    if (final == 'I' || final == 'O')
        return (token){.type = TOKEN_FOCUS, .pressed = final == 'I'};
    if (final == '~')
        return numbered_key(p, n, count);
    if (final == 'u')
        return coded_key(p, n, count);
    if (final == 'Z')
        return key(0x2b, 0, IKV_SHIFT);
    for (size_t i = 0; i < COUNT(finals); i++)
        if (finals[i].final == (char) final)
            return key(finals[i].usage, 0, count > 1 ? modifiers_of(n[1]) : 0);
    return unknown();
}

static token take_control(parser *p, uint8_t byte)
{
    if (byte >= 0x40 && byte <= 0x7e)
        return finish_control(p, byte);
    /* broken off by something that can't be in one, or longer than any */
    if (byte < 0x20 || byte >= 0x7f || p->length == SEQUENCE_LIMIT) {
        p->state = GROUND;
        return unknown();
    }
    p->sequence[p->length++] = (char)byte;
    return (token){.type = TOKEN_NONE};
}

static token take_escaped(parser *p, uint8_t byte)
{
    token none = {.type = TOKEN_NONE};
    p->length = 0;
    if (byte == '[') {
        p->state = CONTROL;
        return none;
    }
    if (byte == 'O') {
        p->state = SINGLE_SHIFT;
        return none;
    }
    if (byte == 0x1b) /* Escape twice: the first was the key */
        return key(0x29, 0, 0);
    p->state = GROUND;
    /* ESC before a character is how Alt is sent */
    token t = plain_byte(p, byte, IKV_ALT);
    t.character = 0;
    return t;
}

static token take_shifted(parser *p, uint8_t byte)
{
    p->state = GROUND;
    for (size_t i = 0; i < COUNT(finals); i++)
        if (finals[i].final == (char)byte)
            return key(finals[i].usage, 0, 0);
    return unknown();
}

/* What was doubtful is keys: all that has come of it. */
static token give_again(parser *p)
{
    p->state = GROUND;
    p->again = p->length;
    return ikvi_parser_more(p);
}

/* The report that broke off goes on with a digit behind "<"; anything else was
 * typed. */
static token take_doubtful(parser *p, uint8_t byte)
{
    char last = p->sequence[p->length - 1];
    p->sequence[p->length++] = (char)byte;
    if (last == '[' && byte == '<')
        return (token){.type = TOKEN_NONE};
    if (last != '<' || byte < '0' || byte > '9')
        return give_again(p);
    /* as if "<" had come in time */
    p->state = CONTROL;
    p->sequence[0] = '<';
    p->sequence[1] = (char)byte;
    p->length = 2;
    return (token){.type = TOKEN_NONE};
}

token ikvi_parser_take(parser *p, uint8_t byte)
{
    switch (p->state) {
    case ESCAPED:
        return take_escaped(p, byte);
    case CONTROL:
        /* a new one begins: what came of the old one is no key */
        if (byte == 0x1b) {
            p->state = ESCAPED;
            return unknown();
        }
        return take_control(p, byte);
    case SINGLE_SHIFT:
        return take_shifted(p, byte);
    case DOUBT:
        return take_doubtful(p, byte);
    default:
        break;
    }
    uint8_t late = p->late;
    p->late = GROUND;
    if (byte == 0x1b) {
        p->state = ESCAPED;
        p->utf8_left = 0;
        return (token){.type = TOKEN_NONE};
    }
    /* its first byte was told as a key when its time was up, but it may only
     * have been slow */
    if ((late == ESCAPED && byte == '[') || (late == CONTROL && byte == '<')) {
        p->state = DOUBT;
        p->sequence[0] = (char)byte;
        p->length = 1;
        return (token){.type = TOKEN_NONE};
    }
    return plain_byte(p, byte, 0);
}

bool ikvi_parser_has_more(const parser *p)
{
    return p->again > 0;
}

token ikvi_parser_more(parser *p)
{
    uint8_t byte = (uint8_t)p->sequence[p->length - p->again];
    /* first: taking it may make more of them doubtful */
    p->again--;
    return ikvi_parser_take(p, byte);
}

bool ikvi_parser_waits(const parser *p)
{
    /* a sequence with parameters was sent by no hand: it can take its time */
    return p->state != GROUND && !(p->state == CONTROL && p->length > 0);
}

token ikvi_parser_expire(parser *p)
{
    uint8_t was = p->state;
    if (was == DOUBT)
        return give_again(p);
    p->state = GROUND;
    p->late = was;
    /* nothing came behind it: the key itself */
    if (was == ESCAPED)
        return key(0x29, 0, 0);
    token t = character_key(p, was == CONTROL ? '[' : 'O', IKV_ALT);
    t.character = 0;
    return t;
}
