/* action_text.c - a binding's text, read and written. */
#include "action_internal.h"

#include "ikvar/keys.h"

/* The names of all parts but keys; those that end in a number lack it here. */
static const struct part_row {
    const char *name;
    uint8_t type, number;
    uint8_t numbers; /* how many there are, if it ends in one */
    bool signs;      /* + or - may follow the number */
} part_rows[] = {
    {"key.any", PART_ANY_KEY, 0, 0, false},
    {"Shift", PART_MODIFIER, IKV_SHIFT, 0, false},
    {"Control", PART_MODIFIER, IKV_CONTROL, 0, false},
    {"Alt", PART_MODIFIER, IKV_ALT, 0, false},
    {"Meta", PART_MODIFIER, IKV_META, 0, false},
    {"pointer.primary", PART_BUTTON, IKV_PRIMARY_BUTTON, 0, false},
    {"pointer.middle", PART_BUTTON, IKV_MIDDLE_BUTTON, 0, false},
    {"pointer.secondary", PART_BUTTON, IKV_SECONDARY_BUTTON, 0, false},
    {"pointer.back", PART_BUTTON, IKV_BACK_BUTTON, 0, false},
    {"pointer.forward", PART_BUTTON, IKV_FORWARD_BUTTON, 0, false},
    {"pointer.eraser", PART_BUTTON, IKV_ERASER_BUTTON, 0, false},
    {"pointer.click", PART_CLICK, 0, 0, false},
    {"pointer.double", PART_DOUBLE, 0, 0, false},
    {"pointer.hold", PART_HOLD, 0, 0, false},
    {"pointer.move", PART_MOVE, 0, 0, false},
    {"pointer.stick", PART_FINGER, 0, 0, false},
    {"gesture.two_tap", PART_TWO_TAP, 0, 0, false},
    {"wheel.up", PART_WHEEL, WHEEL_UP, 0, false},
    {"wheel.down", PART_WHEEL, WHEEL_DOWN, 0, false},
    {"wheel.left", PART_WHEEL, WHEEL_LEFT, 0, false},
    {"wheel.right", PART_WHEEL, WHEEL_RIGHT, 0, false},
    {"pad.left", PART_STICK, 0, 0, false},
    {"pad.right", PART_STICK, 1, 0, false},
    {"pad.axis", PART_AXIS, 0, IKV_PAD_AXES, true},
    {"pad.value", PART_VALUE, 0, IKV_PAD_BUTTONS, false},
    {"pad.", PART_PAD, 0, IKV_PAD_BUTTONS, false},
    {"pointer.", PART_BUTTON, 0, IKV_BUTTON_LIMIT, false}};

enum {
    PART_ROWS = sizeof part_rows / sizeof part_rows[0],
    PART_NAME_LIMIT = 40
};

/* What may stand where in a binding; each may be alone. */
enum {
    MAY_BE_HELD = 1, /* before the last of a chord, and in an axis */
    MAY_END = 2      /* the last of a chord that has others */
};

static const uint8_t uses[PART_TYPES] = {
    [PART_KEY] = MAY_BE_HELD | MAY_END,
    [PART_ANY_KEY] = MAY_END,
    [PART_MODIFIER] = MAY_BE_HELD | MAY_END,
    [PART_BUTTON] = MAY_BE_HELD | MAY_END,
    [PART_CLICK] = MAY_END,
    [PART_DOUBLE] = MAY_END,
    [PART_HOLD] = MAY_END,
    [PART_TWO_TAP] = MAY_END,
    [PART_MOVE] = MAY_END,
    [PART_WHEEL] = MAY_END,
    [PART_PAD] = MAY_BE_HELD | MAY_END,
    [PART_VALUE] = MAY_BE_HELD | MAY_END,
    [PART_AXIS_PLUS] = MAY_BE_HELD | MAY_END,
    [PART_AXIS_MINUS] = MAY_BE_HELD | MAY_END};

/* A text that is being read. */
typedef struct part_reader {
    const char *text;
    size_t at, begin; /* of the part's name */
    char name[PART_NAME_LIMIT];
    ikv_message *message;
} part_reader;

/* Characters count from 1, as people do; the name that was found is quoted. */
static ikv_status refuse_text(const part_reader *r, const char *what,
                              const char *need)
{
    char digits[24];
    ikvi_text number = {digits, sizeof digits, 0};
    ikvi_text_unsigned(&number, r->begin + 1);
    ikvi_text_end(&number);
    const char *parts[] = {"at character ",
                           digits,
                           ": ",
                           what,
                           r->name[0] != '\0' ? " \"" : "",
                           r->name,
                           r->name[0] != '\0' ? "\"; " : "; ",
                           need,
                           NULL};
    ikvi_message(r->message, parts);
    return IKV_BAD_VALUE;
}

static void skip_spaces(part_reader *r)
{
    while (r->text[r->at] == ' ')
        r->at++;
}

/* A "+" belongs to the name if nothing follows it. */
static bool ends_name(const char *text, size_t at)
{
    char c = text[at];
    /* "pad.axis0+" ends with its sign; "Shift+KeyA" is two names. */
    return c == '\0' || c == ' ' || c == '|' ||
           (c == '+' && text[at + 1] != '\0' && text[at + 1] != '|' &&
            text[at + 1] != '+');
}

static bool read_name(part_reader *r)
{
    size_t length = 0;
    skip_spaces(r);
    r->begin = r->at;
    for (; !ends_name(r->text, r->at); r->at++)
        if (length + 1 < PART_NAME_LIMIT)
            r->name[length++] = r->text[r->at];
    r->name[length] = '\0';
    return r->at - r->begin == length;
}

/* What follows a prefix: a number, and perhaps a sign. */
static bool number_part(const struct part_row *row, const char *rest,
                        action_part *to)
{
    uint32_t number = 0;
    /* One way to write each number: no zeros before it. */
    if (rest[0] < '0' || (rest[0] == '0' && rest[1] >= '0'))
        return false;
    for (; *rest >= '0' && *rest <= '9' && number < 100; rest++)
        number = number * 10 + (uint32_t)(*rest - '0');
    to->type = row->type;
    to->number = (uint8_t)number;
    if (row->signs && (*rest == '+' || *rest == '-'))
        to->type = *rest++ == '+' ? PART_AXIS_PLUS : PART_AXIS_MINUS;
    return *rest == '\0' && number < row->numbers;
}

static bool begins_with(const char *text, const char *with, const char **rest)
{
    while (*with != '\0' && *text == *with)
        text++, with++;
    *rest = text;
    return *with == '\0';
}

static bool find_part(const char *name, action_part *to)
{
    /* Keys first: no row has the name of one. */
    uint32_t code = ikv_code_find(name);
    if (code != 0) {
        *to = (action_part){PART_KEY, (uint8_t)code};
        return true;
    }
    for (uint32_t i = 0; i < PART_ROWS; i++) {
        const struct part_row *row = &part_rows[i];
        const char *rest;
        if (!begins_with(name, row->name, &rest))
            continue;
        /* A prefix of another row is none: "pad." stands behind "pad.axis". */
        if (row->numbers > 0 ? number_part(row, rest, to) : *rest == '\0') {
            if (row->numbers == 0)
                *to = (action_part){row->type, row->number};
            return true;
        }
    }
    return false;
}

static bool same_part(action_part a, action_part b)
{
    return a.type == b.type && a.number == b.number;
}

/* Whether a name is right but for the "+" behind it, which nothing follows: it
 * is there that something is missing. */
static bool lacks_part(part_reader *r, action_part *part)
{
    size_t length = r->at - r->begin;
    if (find_part(r->name, part) || length < 2 || r->name[length - 1] != '+')
        return false;
    r->name[length - 1] = '\0';
    bool lacks = find_part(r->name, part);
    r->name[lacks ? 0 : length - 1] = lacks ? '\0' : '+';
    if (lacks)
        r->begin = r->at;
    return lacks;
}

/* The texts name what can be written, since this is read by players who edit a
 * file. */
static ikv_status add_part(part_reader *r, action_shape *to)
{
    action_part part;
    bool whole = read_name(r);
    if (r->name[0] == '\0')
        return refuse_text(r, "nothing",
                           "the name of a key, button or axis is "
                           "expected");
    if (whole && lacks_part(r, &part))
        return refuse_text(r, "nothing",
                           "the name of a key, button or axis is "
                           "expected");
    if (!whole || !find_part(r->name, &part))
        return refuse_text(
            r, "there is no input",
            "expected are codes such as KeyW, Shift, Control, Alt, Meta, "
            "key.any, pointer.primary, .middle, .secondary, .back, .forward, "
            ".eraser, .6 to .15, .click, .double, .hold, .move, .stick, "
            "gesture.two_tap, wheel.up, .down, "
            ".left, .right, pad.0 to pad.31, pad.axis0 to pad.axis15, "
            "pad.value0 to pad.value31, "
            "pad.left, pad.right");
    if (to->count == ACTION_PARTS)
        return refuse_text(r, "too much:", "a binding has at most 4 parts");
    for (uint32_t i = 0; i < to->count; i++)
        if (same_part(to->parts[i], part))
            return refuse_text(r, "a second", "each is named once");
    to->parts[to->count++] = part;
    return IKV_OK;
}

/* Whether the part just read may stand before a "+", before or after a "|", or
 * where the text ends. */
static ikv_status check_use(const part_reader *r, const action_shape *shape,
                            char next)
{
    /* Of the part just read, given what it turned out to stand in. */
    uint8_t use = uses[shape->parts[shape->count - 1].type];
    if ((shape->axis || next == '|') && (use & MAY_BE_HELD) == 0)
        return refuse_text(r, "no direction of an axis:",
                           "what can be held is needed: a key, button or half "
                           "of a pad's axis");
    if (next == '+' && (use & MAY_BE_HELD) == 0)
        return refuse_text(
            r, "it can't be held:", "only the last of a chord can be this");
    if (next == '\0' && !shape->axis && shape->count > 1 &&
        (use & MAY_END) == 0)
        return refuse_text(r, "no part of a chord:", "it stands alone");
    return IKV_OK;
}

/* The first separator says which it is, a chord or an axis; the other one may
 * not follow. */
static ikv_status read_parts(part_reader *r, action_shape *shape)
{
    for (;;) {
        ikv_status status = add_part(r, shape);
        if (status < 0)
            return status;
        skip_spaces(r);
        char next = r->text[r->at];
        if (next != '\0' && next != '+' && next != '|') {
            r->begin = r->at;
            r->name[0] = '\0';
            return refuse_text(r, "something follows", "+ or | is expected");
        }
        if (next != '\0' && shape->count > 1 && shape->axis != (next == '|')) {
            r->begin = r->at;
            r->name[0] = '\0';
            return refuse_text(r, "both + and |",
                               "a binding is a chord or an axis");
        }
        status = check_use(r, shape, next);
        if (status < 0 || next == '\0')
            return status;
        shape->axis = next == '|';
        r->at++;
    }
}

ikv_status ikvi_shape_read(const char *text, action_shape *to,
                           ikv_message *message)
{
    part_reader r = {.text = text, .message = message};
    *to = (action_shape){0};
    ikv_status status = read_parts(&r, to);
    if (status == IKV_OK && to->axis && to->count == 3)
        return refuse_text(&r, "a third direction,",
                           "an axis has two, or four: left, right, up, down");
    return status;
}

/* A1: what may be bound. */
ikv_status ikv_binding_check(const char *text, ikv_message *message)
{
    action_shape shape;
    if (text == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_status status = ikvi_shape_read(text, &shape, message);
    return status == IKV_OK ? ikvi_fine(message) : status;
}

/* -------------------------------------------------------------- writing -- */

static bool is_half(action_part part)
{
    return part.type == PART_AXIS_PLUS || part.type == PART_AXIS_MINUS;
}

/* The row that names a part that is no key; NULL if none does. */
static const struct part_row *row_of(action_part part)
{
    uint8_t type = is_half(part) ? PART_AXIS : part.type;
    for (uint32_t i = 0; i < PART_ROWS; i++) {
        const struct part_row *row = &part_rows[i];
        if (row->type == type &&
            (row->numbers == 0 ? row->number == part.number
                               : part.number < row->numbers))
            return row;
    }
    return NULL;
}

/* A1: whether a text can say it. Keyboards have keys without a name, and pads
 * may have more buttons than are known. */
bool ikvi_part_is_named(action_part part)
{
    return part.type == PART_KEY ? ikv_code_name(IKV_CODE(part.number)) != NULL
                                 : row_of(part) != NULL;
}

static void write_part(ikvi_text *text, action_part part)
{
    IKVI_CHECK(ikvi_part_is_named(part));
    if (part.type == PART_KEY) {
        ikvi_text_add(text, ikv_code_name(IKV_CODE(part.number)));
        return;
    }
    const struct part_row *row = row_of(part);
    ikvi_text_add(text, row->name);
    if (row->numbers > 0)
        ikvi_text_unsigned(text, part.number);
    if (is_half(part))
        ikvi_text_add(text, part.type == PART_AXIS_PLUS ? "+" : "-");
}

size_t ikvi_shape_write(const action_shape *shape, char *buffer, size_t size)
{
    ikvi_text text = {buffer, size, 0};
    for (uint32_t i = 0; i < shape->count; i++) {
        if (i > 0)
            ikvi_text_add(&text, shape->axis ? "|" : "+");
        write_part(&text, shape->parts[i]);
    }
    return ikvi_text_end(&text);
}

/* ------------------------------------------------------------- clashing -- */

/* Whether the same key or button can be both. */
static bool parts_meet(action_part a, action_part b)
{
    static const uint8_t modifiers[] = {IKV_CONTROL, IKV_SHIFT, IKV_ALT,
                                        IKV_META};
    if (same_part(a, b))
        return true;
    if (a.type == PART_ANY_KEY || b.type == PART_ANY_KEY) {
        uint8_t other = a.type == PART_ANY_KEY ? b.type : a.type;
        /* Any key is also one of the modifiers. */
        return other == PART_KEY || other == PART_MODIFIER;
    }
    if (a.type == PART_MODIFIER && b.type == PART_KEY)
        return b.number >= 0xe0 && b.number <= 0xe7 &&
               modifiers[b.number & 3] == a.number;
    if (a.type == PART_KEY && b.type == PART_MODIFIER)
        return parts_meet(b, a);
    if (a.type == PART_FINGER || b.type == PART_FINGER) {
        action_part other = a.type == PART_FINGER ? b : a;
        return other.type == PART_BUTTON && other.number == IKV_PRIMARY_BUTTON;
    }
    if (a.type == PART_VALUE || b.type == PART_VALUE) {
        uint8_t other = a.type == PART_VALUE ? b.type : a.type;
        return other == PART_PAD && a.number == b.number;
    }
    if (a.type == PART_STICK)
        return b.type >= PART_AXIS && b.type <= PART_AXIS_MINUS &&
               b.number / 2 == a.number;
    if (b.type == PART_STICK)
        return parts_meet(b, a);
    if (a.type == PART_AXIS || b.type == PART_AXIS)
        return a.type >= PART_AXIS && a.type <= PART_AXIS_MINUS &&
               b.type >= PART_AXIS && b.type <= PART_AXIS_MINUS &&
               a.number == b.number;
    return false;
}

static bool has_part(const action_shape *shape, action_part part)
{
    for (uint32_t i = 0; i < shape->count; i++)
        if (parts_meet(shape->parts[i], part))
            return true;
    return false;
}

bool ikvi_shapes_clash(const action_shape *a, const action_shape *b)
{
    if (a->axis || b->axis) { /* each direction is pressed by itself */
        const action_shape *axis = a->axis ? a : b, *other = a->axis ? b : a;
        if (!other->axis && other->count > 1)
            return false;
        for (uint32_t i = 0; i < other->count; i++)
            if (has_part(axis, other->parts[i]))
                return true;
        return false;
    }
    if (a->count != b->count ||
        !parts_meet(a->parts[a->count - 1], b->parts[b->count - 1]))
        return false;
    /* In any order: what is held before the last is a set. */
    for (uint32_t i = 0; i + 1 < a->count; i++)
        if (!has_part(b, a->parts[i]))
            return false;
    return true;
}
