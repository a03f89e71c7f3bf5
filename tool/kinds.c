/* kinds.c - ikvar kinds: the catalogue as a table, one kind, or by other
 * words. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <ctype.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

static const char *type_text(uint32_t type)
{
    static const char *const names[IKV_TYPE_COUNT] = {
        [IKV_TYPE_U8] = "u8",     [IKV_TYPE_I8] = "i8",
        [IKV_TYPE_U16] = "u16",   [IKV_TYPE_I16] = "i16",
        [IKV_TYPE_U32] = "u32",   [IKV_TYPE_I32] = "i32",
        [IKV_TYPE_U64] = "u64",   [IKV_TYPE_I64] = "i64",
        [IKV_TYPE_F32] = "f32",   [IKV_TYPE_F64] = "f64",
        [IKV_TYPE_BOOL] = "bool", [IKV_TYPE_TARGET] = "target",
        [IKV_TYPE_TEXT] = "text", [IKV_TYPE_VALUE] = "value"};
    return names[type];
}

static const struct {
    uint32_t bit;
    const char *name;
} makers[] = {{IKV_FROM_P, "ports"},   {IKV_FROM_R, "router"},
              {IKV_FROM_L, "loop"},    {IKV_FROM_O, "overlaps"},
              {IKV_FROM_A, "actions"}, {IKV_FROM_S, "scene"},
              {IKV_FROM_T, "tapes"},   {IKV_FROM_U, "anybody"}};

enum {
    MAKERS = sizeof makers / sizeof makers[0]
};

static const char *makers_text(uint32_t from, char *buffer, size_t size)
{
    size_t used = 0;
    buffer[0] = '\0';
    for (size_t i = 0; i < MAKERS; i++)
        if (from & makers[i].bit)
            used += (size_t)snprintf(buffer + used, size - used, "%s%s",
                                     used > 0 ? ", " : "", makers[i].name);
    return buffer;
}

/* ------------------------------------------------------------ the table -- */

/* Prints text in lines of at most `width`, each after the first indented. */
static void print_wrapped(const char *text, int indent, int width)
{
    int column = 0;
    while (*text != '\0') {
        int length = (int)strcspn(text, " ");
        /* a word longer than a line has one of its own */
        if (column > 0 && column + 1 + length > width) {
            printf("\n%*s", indent, "");
            column = 0;
        }
        column += printf("%s%.*s", column > 0 ? " " : "", length, text);
        text += length;
        text += strspn(text, " ");
    }
    printf("\n");
}

static void print_family_fields(const ikv_kind_info *info)
{
    char line[1024] = "";
    size_t used = 0;
    for (uint32_t i = 0; i < info->field_count && used < sizeof line; i++)
        used += (size_t)snprintf(line + used, sizeof line - used, "%s%s",
                                 i > 0 ? ", " : "", info->fields[i].name);
    printf("  %-22s ", "  carries");
    print_wrapped(info->field_count > 0 ? line : "nothing", 25, 70);
}

static bool same_fields(const ikv_kind_info *a, const ikv_kind_info *b)
{
    return a->fields == b->fields && a->field_count == b->field_count;
}

static void print_family(const ikv_catalogue *catalogue, uint32_t family,
                         bool colour)
{
    const ikv_kind_info *last = NULL, *info;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;) {
        info = ikv_catalogue_info(catalogue, k);
        if (info->family != family)
            continue;
        if (last == NULL)
            printf("\n%s%s%s - %s\n", colour ? "\033[1m" : "",
                   ikv_family_name(family), colour ? "\033[0m" : "",
                   ikv_family_meaning(family));
        /* kinds of a family share fields in runs: said once behind each */
        else if (!same_fields(info, last))
            print_family_fields(last);
        printf("  %-22s ", info->name);
        print_wrapped(info->when, 25, 70);
        last = info;
    }
    if (last != NULL)
        print_family_fields(last);
}

static int print_table(const ikv_catalogue *catalogue)
{
    printf("Kinds of events, by family. One in detail: ikvar kinds NAME. By "
           "another word: ikvar kinds --find WORD.\n");
    for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
        print_family(catalogue, f, is_coloured(stdout));
    return FINE;
}

/* ------------------------------------------------------------- one kind -- */

static void print_values(uint32_t set)
{
    const char *name;
    uint64_t value;
    char line[256] = "";
    size_t used = 0;
    for (uint32_t i = 0; (name = ikv_value_list(set, i, &value)) != NULL; i++)
        used += (size_t)snprintf(line + used, sizeof line - used, "%s%s",
                                 i > 0 ? ", " : "", name);
    if (used > 0)
        printf("  %-12s %-7s %-14s %s\n", "", "", "", line);
}

/* ----------------------------------------------------------- an example -- */

/* A line of a tape for kinds that can be played; else NULL. */
static void print_tape_line(const ikv_kind_info *info)
{
    static const struct {
        const char *kind, *rest;
    } rows[] = {
        {"pointer.down",
         ",\"type\":\"touch\",\"pointer\":1,\"x\":120.5,\"y\":80"},
        {"pointer.up", ",\"type\":\"touch\",\"pointer\":1,\"x\":121,\"y\":80"},
        {"pointer.move", ",\"type\":\"mouse\",\"x\":130,\"y\":84.5"},
        {"pointer.cancel", ",\"type\":\"touch\",\"pointer\":1"},
        {"pointer.leave", ",\"type\":\"mouse\""},
        {"pen.distance", ",\"pointer\":1,\"x\":130,\"y\":84,\"distance\":0.5"},
        {"wheel", ",\"x\":130,\"y\":84,\"dy\":-1,\"mode\":\"lines\""},
        {"key.down", ",\"code\":\"KeyB\",\"key\":\"b\""},
        {"key.up", ",\"code\":\"KeyB\",\"key\":\"b\""},
        {"text.input", ",\"text\":\"b\""},
        {"text.compose", ",\"text\":\"be\",\"cursor\":2"},
        {"pad.axis", ",\"index\":0,\"value\":0.75"},
        {"device.seat", ",\"device\":1,\"seat\":1"},
        {"action.feed", ",\"action\":\"foghorn\",\"x\":1"},
        {"loop.scale", ",\"seconds\":0.5"},
        {"loop.dropped", ",\"lost\":383.5"},
    };
    if ((info->from & (IKV_FROM_P | IKV_FROM_T)) == 0 &&
        info->family != IKV_FAMILY_USER) {
        printf("  on a tape  ports don't push it: it follows from what they "
               "push\n");
        return;
    }
    const char *rest = "";
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (strcmp(rows[i].kind, info->name) == 0)
            rest = rows[i].rest;
    printf("  on a tape  {\"t\":16.25,\"kind\":\"%s\"%s}\n", info->name, rest);
}

/* The member of ikv_event that the kind's payload is, by the catalogue's own
 * list. */
static const char *payload_member(const ikv_kind_info *info)
{
    enum {
#define LAYOUT_OF(name, member, positioned) LAYOUT_##name,
        IKV_LAYOUTS(LAYOUT_OF)
#undef LAYOUT_OF
        LAYOUTS
    };
    static const char *const members[LAYOUTS] = {
#define MEMBER_OF(name, member, positioned) [LAYOUT_##name] = #member,
        IKV_LAYOUTS(MEMBER_OF)
#undef MEMBER_OF
    };
    static const uint8_t layouts[] = {
#define KIND_OF(number, name, text, family, layout, from, bubbles, class,      \
                when, words)                                                   \
    [number] = LAYOUT_##layout,
        IKV_KINDS(KIND_OF)
#undef KIND_OF
    };
    /* A kind of a program's own has none. */
    return info->kind < sizeof layouts ? members[layouts[info->kind]] : NULL;
}

/* A C identifier of a kind's name, in lower or upper case. */
static const char *identifier(const char *name, bool upper, char *buffer)
{
    size_t i = 0;
    for (; i < 63 && name[i] != '\0'; i++) {
        int c = name[i] == '.' ? '_' : name[i];
        buffer[i] = (char)(upper ? toupper(c) : c);
    }
    buffer[i] = '\0';
    return buffer;
}

static void print_arguments(const ikv_kind_info *info)
{
    const char *member = payload_member(info);
    int printed = 0;
    for (uint32_t i = 0; i < info->field_count && printed < 2; i++) {
        const ikv_field *f = &info->fields[i];
        if (f->type == IKV_TYPE_TEXT)
            printf(", event->%s.length, event->%s.bytes", member, member);
        else if (f->type < IKV_TYPE_BOOL)
            printf(", (double)event->%s.%s", member, f->name);
        else
            continue;
        printed += f->type == IKV_TYPE_TEXT ? 2 : 1;
    }
}

static void print_formats(const ikv_kind_info *info)
{
    int printed = 0;
    for (uint32_t i = 0; i < info->field_count && printed < 2; i++) {
        const ikv_field *f = &info->fields[i];
        if (f->type == IKV_TYPE_TEXT)
            printf(", %s %%.*s", f->name);
        else if (f->type < IKV_TYPE_BOOL)
            printf(", %s %%g", f->name);
        else
            continue;
        printed += f->type == IKV_TYPE_TEXT ? 2 : 1;
    }
}

/* A handler that compiles as it stands; a kind of a setup's is looked up. */
static void print_handler(const ikv_kind_info *info)
{
    char lower[64], upper[64];
    identifier(info->name, false, lower);
    identifier(info->name, true, upper);
    bool own = info->family == IKV_FAMILY_USER;
    printf("  in C\n\n    static ikv_verdict on_%s(const ikv_event *event,\n"
           "%*sconst ikv_delivery *delivery, void *user)\n    {\n"
           "        (void)event, (void)delivery, (void)user;\n"
           "        printf(\"%s",
           lower,
           (int)strlen("    static ikv_verdict on_(") + (int)strlen(lower), "",
           info->name);
    if (!own)
        print_formats(info);
    printf("\\n\"");
    if (!own)
        print_arguments(info);
    printf(");\n        return IKV_CONTINUE;\n    }\n\n");
    if (own)
        printf("    ikv_bus_hear(bus, ikv_catalogue_find(catalogue, "
               "\"%s\"),\n                 target, on_%s, NULL, NULL);\n",
               info->name, lower);
    else
        printf("    ikv_bus_hear(bus, IKV_KIND_%s, target, on_%s, NULL, "
               "NULL);\n",
               upper, lower);
}

static int print_kind(const ikv_kind_info *info)
{
    static const char *const classes[] = {
        "never comes through it", "a transition, never lost quietly",
        "may be merged with its like", "plain"};
    char from[64];
    printf("%s (family %s, number %u)\n\n  sent       ", info->name,
           ikv_family_name(info->family), info->kind);
    print_wrapped(info->when, 13, 80);
    /* where it stands among the others of its family */
    printf("  order      ");
    print_wrapped(ikv_family_order(info->family), 13, 80);
    printf("  made by    %s\n", makers_text(info->from, from, sizeof from));
    printf("  path       %s\n", info->bubbles
                                    ? "capturing, target, bubbling"
                                    : "capturing, target; does not bubble");
    printf("  queue      %s\n", classes[info->queue_class]);
    if (info->words[0] != '\0') {
        printf("  also       ");
        print_wrapped(info->words, 13, 80);
    }
    printf("\n");
    for (uint32_t i = 0; i < info->field_count; i++) {
        const ikv_field *f = &info->fields[i];
        printf("  %-12s %-7s %-14s %s\n", f->name, type_text(f->type), f->unit,
               f->meaning);
        print_values(f->set);
    }
    printf("%s", info->field_count > 0 ? "\n" : "");
    print_tape_line(info);
    print_handler(info);
    return FINE;
}

/* -------------------------------------------------------------- finding -- */

/* Whether the text has the word, letters of either case alike. */
static bool has_word(const char *text, const char *word)
{
    size_t length = strlen(word);
    for (; *text != '\0'; text++) {
        size_t i = 0;
        while (i < length && tolower((unsigned char)text[i]) ==
                                 tolower((unsigned char)word[i]))
            i++;
        /* in the middle of a word too */
        if (i == length)
            return true;
    }
    return false;
}

/* The nearest of all names and of all other words. */
static const char *nearest_word(const ikv_catalogue *catalogue,
                                const char *word)
{
    static char words[16384];
    static const char *known[2048];
    size_t used = 0, count = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;) {
        const ikv_kind_info *info = ikv_catalogue_info(catalogue, k);
        int wrote = snprintf(words + used, sizeof words - used, "%s, %s",
                             info->name, info->words);
        /* there is room for many times what there is */
        if (wrote < 0 || (size_t)wrote >= sizeof words - used || count > 1900)
            break;
        char *state = NULL;
        for (char *one = strtok_r(words + used, ",", &state); one != NULL;
             one = strtok_r(NULL, ",", &state))
            known[count++] = one + strspn(one, " ");
        used += (size_t)wrote + 1;
    }
    known[count] = NULL;
    return ikv_nearest_name(word, known);
}

/* What is asked for: one kind, those of a family or known by a word, or all. */
typedef struct choice {
    ikv_kind kind;
    uint32_t family; /* IKV_FAMILY_COUNT: any */
    const char *word;
} choice;

static bool is_chosen(const choice *c, const ikv_kind_info *info)
{
    /* the narrowest that was asked for */
    if (c->kind != IKV_KIND_NONE)
        return info->kind == c->kind;
    if (c->family != IKV_FAMILY_COUNT)
        return info->family == c->family;
    return c->word == NULL || has_word(info->name, c->word) ||
           has_word(info->words, c->word);
}

static uint32_t count_chosen(const ikv_catalogue *catalogue, const choice *c)
{
    uint32_t count = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;)
        count += is_chosen(c, ikv_catalogue_info(catalogue, k));
    return count;
}

static int print_found(const ikv_catalogue *catalogue, const choice *c)
{
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;) {
        const ikv_kind_info *info = ikv_catalogue_info(catalogue, k);
        if (!is_chosen(c, info))
            continue;
        printf("%-24s ", info->name);
        print_wrapped(info->when, 25, 70);
    }
    return FINE;
}

/* Whether it is, whole, one of the other words of a kind. */
static bool is_other_word(const ikv_catalogue *catalogue, const char *word)
{
    size_t length = strlen(word);
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;)
        for (const char *at = ikv_catalogue_info(catalogue, k)->words;
             *at != '\0';) {
            size_t found = strcspn(at, ",");
            if (found == length && strncmp(at, word, length) == 0)
                return true;
            at += found;
            at += strspn(at, ", ");
        }
    return false;
}

/* ----------------------------------------------------------------- json -- */

static json_t *kind_json(const ikv_kind_info *info)
{
    static const char *const classes[] = {"never", "transition", "mergeable",
                                          "other"};
    json_t *kind = json_object(), *fields = json_array(), *from = json_array();
    put_json(kind, "name", json_string(info->name));
    put_json(kind, "family", json_string(ikv_family_name(info->family)));
    put_json(kind, "number", json_integer(info->kind));
    put_json(kind, "when", json_string(info->when));
    put_json(kind, "words", json_string(info->words));
    put_json(kind, "bubbles", json_boolean(info->bubbles));
    put_json(kind, "queue", json_string(classes[info->queue_class]));
    for (size_t i = 0; i < MAKERS; i++)
        if (info->from & makers[i].bit)
            add_json(from, json_string(makers[i].name));
    put_json(kind, "from", from);
    for (uint32_t i = 0; i < info->field_count; i++) {
        const ikv_field *f = &info->fields[i];
        json_t *field = json_object();
        put_json(field, "name", json_string(f->name));
        put_json(field, "type", json_string(type_text(f->type)));
        put_json(field, "unit", json_string(f->unit));
        put_json(field, "meaning", json_string(f->meaning));
        add_json(fields, field);
    }
    put_json(kind, "fields", fields);
    return kind;
}

static int print_kinds_json(const ikv_catalogue *catalogue, const choice *c)
{
    json_t *list = json_array();
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE;)
        if (is_chosen(c, ikv_catalogue_info(catalogue, k)))
            add_json(list, kind_json(ikv_catalogue_info(catalogue, k)));
    return print_json(stdout, list, true, "kinds");
}

static int say_none(const ikv_catalogue *catalogue, const char *name,
                    const char *word)
{
    char shown[160];
    const char *asked = name != NULL ? name : word;
    char hint[IKV_HINT_BYTES];
    const char *near = nearest_word(catalogue, asked);
    fprintf(stderr, "ikvar kinds: %s \"%s\"%s%s\n",
            name != NULL ? "there is no kind or family" : "no kind is known by",
            ikv_shown_text(asked, shown, sizeof shown),
            ikv_did_you_mean(near, hint, sizeof hint),
            name != NULL ? "; try ikvar kinds --find WORD" : "");
    return ANSWER_IS_NO;
}

/* A name is a kind's, a family's, or a word that kinds are known by. */
static choice choose(const ikv_catalogue *catalogue, const char *name,
                     const char *word)
{
    choice c = {IKV_KIND_NONE, IKV_FAMILY_COUNT, word};
    if (name == NULL)
        return c;
    c.kind = ikv_catalogue_find(catalogue, name);
    for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
        if (strcmp(ikv_family_name(f), name) == 0)
            c.family = f;
    c.word = name;
    return c;
}

static int show(const ikv_catalogue *catalogue, const char *name,
                const char *word, bool json)
{
    choice c = choose(catalogue, name, word);
    bool by_word = c.kind == IKV_KIND_NONE && c.family == IKV_FAMILY_COUNT &&
                   c.word != NULL;
    if ((name != NULL && by_word && !is_other_word(catalogue, name)) ||
        count_chosen(catalogue, &c) == 0)
        return say_none(catalogue, name, word);
    if (json)
        return print_kinds_json(catalogue, &c);
    if (name != NULL && c.kind != IKV_KIND_NONE)
        return print_kind(ikv_catalogue_info(catalogue, c.kind));
    if (name != NULL && by_word)
        printf("No kind has the name \"%s\"; these are known by it:\n\n", name);
    if (by_word)
        return print_found(catalogue, &c);
    if (c.family == IKV_FAMILY_COUNT)
        return print_table(catalogue);
    print_family(catalogue, c.family, is_coloured(stdout));
    return FINE;
}

static bool is_file(const char *argument)
{
    return strstr(argument, ".json") != NULL || strchr(argument, '/') != NULL;
}

static int say_wrong(const char *text)
{
    fprintf(stderr, "ikvar kinds: %s\n", text);
    return WRONG_USE;
}

int kinds_command(int argc, char **argv)
{
    bool json = false;
    int code;
    arguments left;
    const char *word = NULL, *name = NULL, *path = NULL;
    const option_row options[] = {
        {"find", 'f', OPTION_TEXT, &word, "WORD",
         "kinds that people know by that word: tap, hover, quit", 0, 0},
        {"json", 'j', OPTION_FLAG, &json, NULL, "print JSON", 0, 0},
        {0}};
    if (!parse_options(argc, argv, options,
                       "kinds [NAME] [SETUP]\n\nNAME is a kind or a family; "
                       "with a SETUP its own kinds are known too.",
                       &left, &code))
        return code;
    for (const char *one; (one = next_argument(&left)) != NULL;) {
        const char **to = is_file(one) ? &path : &name;
        if (*to != NULL)
            return say_wrong("expected one name and one setup");
        *to = one;
    }
    if (name != NULL && word != NULL)
        return say_wrong("expected a name or --find, found both");
    ikv_setup *setup = NULL;
    ikv_message message = {"no memory"};
    if (path != NULL && ikv_setup_read(path, &setup, &message) < 0) {
        fprintf(stderr, "ikvar kinds: %s\n", message.text);
        return BAD_INPUT;
    }
    code = show(ikv_setup_catalogue(setup), name, word, json);
    ikv_setup_close(setup);
    return code;
}
