/* tape_quick.c - reads plain lines of tapes through a streaming parser.
 *
 * Long tapes are made of lines like
 * {"t":12.5,"kind":"pointer.move","x":1,"y":2}. They are read without a
 * document in between; whatever is not so plain, or is wrong, is left to
 * tape.c.
 */
#include "tape.h"

#include <stdlib.h>
#include <string.h>
#include <yajl/yajl_parse.h>

enum {
    MEMBERS = 24,
    TEXT_BYTES = 512,
    LONGEST = 1024 /* bytes of a line */
};

enum {
    VALUE_STRING = 1,
    VALUE_NUMBER = 2,
    VALUE_BOOL = 3
};

/* Name and value are texts that end with a zero byte. */
typedef struct quick_member {
    const char *name, *text;
    uint8_t type;
    bool on;
} quick_member;

struct quick_reader {
    yajl_handle parser;
    json_arena arena;
    const ikv_catalogue *catalogue;
    quick_member members[MEMBERS];
    uint32_t count, used;
    bool unfit, open, closed;
    char text[TEXT_BYTES];
    /* The kind of the last line, and its fields by their place in the line. */
    const ikv_kind_info *info;
    ikv_event blank;
    const ikv_field *fields[MEMBERS];
};

/* -------------------------------------------------------------- parsing -- */

static const char *keep_text(quick_reader *q, const void *text, size_t length)
{
    /* A zero byte within a text would end it early for everybody else. */
    if (length + 1 > TEXT_BYTES - q->used ||
        memchr(text, '\0', length) != NULL) {
        q->unfit = true;
        return "";
    }
    char *to = q->text + q->used;
    memcpy(to, text, length);
    to[length] = '\0';
    q->used += (uint32_t)length + 1;
    return to;
}

static int quick_name(void *user, const unsigned char *text, size_t length)
{
    quick_reader *q = user;
    /* More members than any event has fields: it is read the long way. */
    q->unfit = q->unfit || q->count == MEMBERS;
    if (!q->unfit)
        q->members[q->count++] =
            (quick_member){.name = keep_text(q, text, length)};
    return !q->unfit;
}

static quick_member *last_member(quick_reader *q)
{
    /* Written to and never read: the line is unfit already. */
    static quick_member nobody;
    q->unfit = q->unfit || !q->open || q->count == 0;
    return q->unfit ? &nobody : &q->members[q->count - 1];
}

static int quick_string(void *user, const unsigned char *text, size_t length)
{
    quick_reader *q = user;
    quick_member *member = last_member(q);
    member->type = VALUE_STRING;
    member->text = keep_text(q, text, length);
    return !q->unfit;
}

static int quick_number(void *user, const char *text, size_t length)
{
    quick_reader *q = user;
    quick_member *member = last_member(q);
    member->type = VALUE_NUMBER;
    member->text = keep_text(q, text, length);
    return !q->unfit;
}

static int quick_bool(void *user, int on)
{
    quick_reader *q = user;
    quick_member *member = last_member(q);
    member->type = VALUE_BOOL;
    member->on = on != 0;
    return !q->unfit;
}

static int quick_begin(void *user)
{
    quick_reader *q = user;
    /* A second object, or one in another: not a plain line. */
    q->unfit = q->unfit || q->open || q->closed;
    q->open = true;
    return !q->unfit;
}

static int quick_end(void *user)
{
    quick_reader *q = user;
    q->open = false;
    q->closed = true;
    return 1;
}

static int quick_other(void *user)
{
    quick_reader *q = user;
    q->unfit = true;
    return 0;
}

static const yajl_callbacks quick_callbacks = {
    .yajl_null = quick_other,
    .yajl_boolean = quick_bool,
    .yajl_number = quick_number,
    .yajl_string = quick_string,
    .yajl_start_map = quick_begin,
    .yajl_map_key = quick_name,
    .yajl_end_map = quick_end,
    .yajl_start_array = quick_other,
    .yajl_end_array = quick_other,
};

/* The parser keeps its state after an error: then it is made anew. What it
 * needs for a line without escapes that is not long fits into its arena. */
static bool parse_line(quick_reader *q, const char *line, size_t length)
{
    if (length > LONGEST || memchr(line, '\\', length) != NULL)
        return false;
    if (q->parser == NULL) {
        ikvi_arena_begin(&q->arena);
        q->parser = yajl_alloc(&quick_callbacks, &q->arena.funcs, q);
        /* One parser for all lines: each is a further value. */
        yajl_config(q->parser, yajl_allow_multiple_values, 1);
    }
    /* The texts of the last line are overwritten. */
    q->count = q->used = 0;
    q->unfit = q->open = q->closed = false;
    if (yajl_parse(q->parser, (const unsigned char *)line, length) ==
            yajl_status_ok &&
        !q->unfit && q->closed)
        return true;
    /* After an error a parser is of no use: the next line gets a new one. */
    yajl_free(q->parser);
    q->parser = NULL;
    return false;
}

/* -------------------------------------------------------------- filling -- */

static bool same_text(const char *a, const char *b)
{
    return strcmp(a, b) == 0;
}

/* Milliseconds with up to six decimals as ns; false if it is written in another
 * way. */
static bool exact_ns(const char *text, uint64_t *ns)
{
    uint64_t whole = 0, scale = 1000000;
    size_t digits = 0;
    for (; *text >= '0' && *text <= '9' && digits < 12; text++, digits++)
        whole = whole * 10 + (uint64_t)(*text - '0');
    whole *= scale;
    /* More is no tape's time, and what comes below can't overflow. */
    if (digits == 0 || whole > IKV_TIME_LIMIT)
        return false;
    if (*text == '.')
        for (text++; *text >= '0' && *text <= '9' && scale > 1; text++) {
            scale /= 10;
            whole += scale * (uint64_t)(*text - '0');
        }
    *ns = whole;
    return *text == '\0';
}

static bool put_number(const ikv_field *field, const char *text,
                       ikv_event *event)
{
    ikv_value value = {IKV_VALUE_INTEGER, {0}};
    /* Of what type a value is another member says. */
    if (field->set != IKV_SET_NONE || field->type == IKV_TYPE_TEXT ||
        field->type == IKV_TYPE_TARGET || field->type == IKV_TYPE_VALUE)
        return false;
    /* Up to 15 digits fit into 64 bits and into a double alike. */
    if (strpbrk(text, ".eE") == NULL && strlen(text) < 16) {
        value.bits.integer = strtoll(text, NULL, 10);
    } else {
        value.type = IKV_VALUE_NUMBER;
        value.bits.number = ikvi_read_double(text);
    }
    return ikvi_put_taped(field, event, value);
}

static bool put_member(const quick_member *member, const ikv_field *field,
                       ikv_event *event)
{
    ikv_value value = {IKV_VALUE_INTEGER, {0}};
    uint64_t named = 0;
    if (member->type == VALUE_NUMBER)
        return put_number(field, member->text, event);
    if (member->type == VALUE_BOOL) {
        value.type = IKV_VALUE_BOOL;
        value.bits.boolean = member->on;
        return field->type == IKV_TYPE_BOOL &&
               ikv_field_put(field, event, value) == IKV_OK;
    }
    /* Masks and texts need more than one name: left to tape.c. */
    if (field->set == IKV_SET_NONE || field->set == IKV_SET_FLAGS ||
        field->set == IKV_SET_MODIFIERS || field->type == IKV_TYPE_TEXT ||
        field->type == IKV_TYPE_TARGET ||
        !ikvi_json_named(field, member->text, &named))
        return false;
    value.bits.integer = (int64_t)named;
    return ikv_field_put(field, event, value) == IKV_OK;
}

static bool is_other_member(const char *name)
{
    uint32_t i = 0;
    /* Marks, digests and the like are no fields. */
    while (ikvi_tape_members[i] != NULL &&
           !same_text(ikvi_tape_members[i], name))
        i++;
    return ikvi_tape_members[i] != NULL;
}

/* The kind must be the second member, after the time. */
static bool take_kind(quick_reader *q, const quick_member *member)
{
    if (!same_text(member->name, "kind") || member->type != VALUE_STRING)
        return false;
    if (q->info != NULL && same_text(q->info->name, member->text))
        return true;
    q->info = ikv_catalogue_info(
        q->catalogue, ikv_catalogue_find(q->catalogue, member->text));
    /* Another kind: its fields lie elsewhere in the line. */
    memset(q->fields, 0, sizeof q->fields);
    if (q->info == NULL ||
        (q->info->from & (IKV_FROM_P | IKV_FROM_U | IKV_FROM_T)) == 0) {
        q->info = NULL;
        return false;
    }
    q->blank = ikvi_tape_blank(q->info);
    return true;
}

static const ikv_field *field_at(quick_reader *q, uint32_t index)
{
    const char *name = q->members[index].name;
    /* Lines of one kind have the same members in the same order: most are found
     * at once. */
    if (q->fields[index] == NULL || !same_text(q->fields[index]->name, name))
        q->fields[index] = ikv_field_find(q->info, name);
    return q->fields[index];
}

/* Members twice in one line are wrong. */
static bool is_twice(const quick_reader *q, uint32_t index)
{
    for (uint32_t i = 0; i < index; i++)
        if (same_text(q->members[i].name, q->members[index].name))
            return true;
    return false;
}

bool ikvi_quick_read(quick_reader *quick, const char *line, size_t length,
                     tape_line *to)
{
    quick_reader *q = quick;
    uint64_t ns;
    if (q == NULL || !parse_line(q, line, length) || q->count < 2 ||
        !same_text(q->members[0].name, "t") ||
        q->members[0].type != VALUE_NUMBER ||
        !exact_ns(q->members[0].text, &ns) || !take_kind(q, &q->members[1]))
        return false;
    to->intake = (ikv_intake)IKV_INTAKE_INIT;
    /* What the kind's fields are when nobody says. */
    to->event = q->blank;
    to->event.time_ns = ns;
    for (uint32_t i = 2; i < q->count; i++) {
        const quick_member *member = &q->members[i];
        if (is_twice(q, i))
            return false;
        if (same_text(member->name, "due") && member->type == VALUE_NUMBER) {
            to->intake.has_due = true;
            if (!exact_ns(member->text, &to->intake.due_ns))
                return false;
            continue;
        }
        if (is_other_member(member->name))
            return false;
        const ikv_field *field = field_at(q, i);
        if (field == NULL || !put_member(member, field, &to->event))
            return false;
    }
    return true;
}

quick_reader *ikvi_quick_open(const ikv_catalogue *catalogue)
{
    quick_reader *q = calloc(1, sizeof *q);
    if (q != NULL)
        q->catalogue = catalogue;
    return q;
}

void ikvi_quick_close(quick_reader *quick)
{
    if (quick != NULL && quick->parser != NULL)
        yajl_free(quick->parser);
    free(quick);
}
