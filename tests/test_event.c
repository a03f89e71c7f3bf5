/* test_event.c - E1, E2, E4, T3: the event, the catalogue, printing. */
#include "support.h"

#include <ikvar/digest.h>

#include <float.h>
#include <math.h>

START_TEST(statuses_have_names)
{
    ck_assert_str_eq(ikv_status_name(IKV_OK), "OK");
    ck_assert_str_eq(ikv_status_name(IKV_FULL_QUEUE), "FULL_QUEUE");
    ck_assert_str_eq(ikv_status_name(-9999), "UNKNOWN_STATUS");
    ck_assert_str_eq(ikv_status_text(-9999), "not a status of this version");
    for (ikv_status s = -60; s < 5; s++)
        if (strcmp(ikv_status_name(s), "UNKNOWN_STATUS") != 0)
            ck_assert_uint_gt(strlen(ikv_status_text(s)), 3);
    ck_assert_str_eq(ikv_version(), "0.1.0");
}
END_TEST

/* E2: the rows of the catalogue's page, by name. */
static const struct {
    const char *name, *family;
    bool bubbles, pushable;
    uint32_t fields, queue_class;
} kind_table[] = {
    {"pointer.over", "pointer", true, false, 14, IKV_QUEUE_NONE},
    {"pointer.enter", "pointer", false, false, 14, IKV_QUEUE_NONE},
    {"pointer.leave", "pointer", false, true, 14, IKV_QUEUE_NONE},
    {"pointer.down", "pointer", true, true, 14, IKV_QUEUE_TRANSITION},
    {"pointer.move", "pointer", true, true, 14, IKV_QUEUE_MERGEABLE},
    {"pointer.cancel", "pointer", true, true, 14, IKV_QUEUE_TRANSITION},
    {"pointer.click", "click", true, false, 14, IKV_QUEUE_NONE},
    {"pointer.drag", "click", true, false, 14, IKV_QUEUE_NONE},
    {"wheel", "wheel", true, true, 9, IKV_QUEUE_MERGEABLE},
    {"pen.distance", "pen", true, true, 4, IKV_QUEUE_MERGEABLE},
    {"gesture.pinch", "gesture", true, false, 9, IKV_QUEUE_NONE},
    {"key.down", "key", true, true, 3, IKV_QUEUE_TRANSITION},
    {"text.input", "text", true, true, 1, IKV_QUEUE_TRANSITION},
    {"text.compose", "text", true, true, 4, IKV_QUEUE_TRANSITION},
    {"focus.in", "focus", true, false, 1, IKV_QUEUE_NONE},
    {"window.close", "window", false, true, 4, IKV_QUEUE_TRANSITION},
    {"device.add", "device", false, true, 5, IKV_QUEUE_TRANSITION},
    {"device.resync", "device", false, false, 5, IKV_QUEUE_NONE},
    {"pad.axis", "pad", true, true, 5, IKV_QUEUE_MERGEABLE},
    {"overlap.enter", "overlap", false, false, 10, IKV_QUEUE_NONE},
    {"tree.attach", "tree", false, false, 5, IKV_QUEUE_NONE},
    {"field.set", "field", false, false, 4, IKV_QUEUE_OTHER},
    {"action.start", "action", true, false, 7, IKV_QUEUE_NONE},
    {"loop.step", "loop", false, false, 4, IKV_QUEUE_NONE},
};

START_TEST(catalogue_rows)
{
    ikv_kind kind = ikv_catalogue_find(NULL, kind_table[_i].name);
    const ikv_kind_info *info = ikv_catalogue_info(NULL, kind);
    ck_assert_msg(info != NULL, "%s is missing", kind_table[_i].name);
    ck_assert_uint_eq(info->kind, kind);
    ck_assert_str_eq(ikv_family_name(info->family), kind_table[_i].family);
    ck_assert_int_eq(info->bubbles, kind_table[_i].bubbles);
    ck_assert_int_eq((info->from & IKV_FROM_P) != 0, kind_table[_i].pushable);
    ck_assert_uint_eq(info->field_count, kind_table[_i].fields);
    ck_assert_uint_eq(info->queue_class, kind_table[_i].queue_class);
}
END_TEST

static const uint8_t sizes[IKV_TYPE_COUNT] = {1, 1, 2, 2, 4, 4, 8,
                                              8, 4, 8, 1, 4, 0, 8};

/* Puts a value into an event that is full of something else: all but the field
 * stays as it was. */
static void put_alone(const ikv_field *field, ikv_value value)
{
    ikv_event event, before;
    memset(&event, 0xa5, sizeof event);
    before = event;
    ok(ikv_field_put(field, &event, value));
    for (size_t at = 0; at < sizeof event; at++) {
        bool own =
            at >= field->offset && at < field->offset + sizes[field->type];
        ck_assert(own || ((char *)&event)[at] == ((char *)&before)[at]);
    }
}

/* E1, E2: every field of every kind lies in the payload, overlaps no other,
 * has a name of its own, and gives back what was put into it. */
START_TEST(catalogue_fields)
{
    int kinds = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(NULL, k)) != IKV_KIND_NONE; kinds++) {
        const ikv_kind_info *info = ikv_catalogue_info(NULL, k);
        ck_assert_uint_eq(ikv_catalogue_find(NULL, info->name), k);
        uint64_t taken = 0;
        ikv_event event = ikv_event_make(k, 0);
        for (uint32_t i = 0; i < info->field_count; i++) {
            const ikv_field *f = &info->fields[i];
            uint32_t at = f->offset - 32u;
            uint64_t bits = sizes[f->type] == 0
                                ? 1ull << at
                                : ((1ull << sizes[f->type]) - 1) << at;
            ck_assert_uint_ge(f->offset, 32);
            ck_assert_uint_le(at + sizes[f->type], 32);
            ck_assert_uint_eq(taken & bits, 0);
            taken |= bits;
            ck_assert_ptr_eq(ikv_field_find(info, f->name), f);
            ikv_value value = {IKV_VALUE_INTEGER, {.integer = 1}};
            if (f->type == IKV_TYPE_TEXT || f->type == IKV_TYPE_TARGET ||
                f->type == IKV_TYPE_VALUE)
                continue;
            put_alone(f, value);
            ok(ikv_field_put(f, &event, value));
            value = ikv_field_get(f, &event);
            ck_assert(value.type == IKV_VALUE_NUMBER ? value.bits.number == 1
                                                     : value.bits.integer == 1);
        }
    }
    ck_assert_int_eq(kinds, 75);
}
END_TEST

static const struct {
    const char *kind, *field;
    ikv_value value;
    ikv_status status;
} put_table[] = {
    {"pointer.down", "button", {IKV_VALUE_INTEGER, {.integer = -1}}, IKV_OK},
    {"pointer.down",
     "button",
     {IKV_VALUE_INTEGER, {.integer = -129}},
     IKV_BAD_VALUE},
    {"pointer.down",
     "buttons",
     {IKV_VALUE_INTEGER, {.integer = 65536}},
     IKV_BAD_VALUE},
    {"pointer.down",
     "buttons",
     {IKV_VALUE_INTEGER, {.integer = 65535}},
     IKV_OK},
    {"pointer.down",
     "buttons",
     {IKV_VALUE_NUMBER, {.number = 2.5}},
     IKV_BAD_VALUE},
    {"pointer.down", "buttons", {IKV_VALUE_NUMBER, {.number = 2}}, IKV_OK},
    {"pointer.down", "pressure", {IKV_VALUE_NUMBER, {.number = 0.5}}, IKV_OK},
    {"pointer.down",
     "pressure",
     {IKV_VALUE_NUMBER, {.number = 1.1}},
     IKV_BAD_VALUE},
    {"pointer.down", "x", {IKV_VALUE_BOOL, {.boolean = true}}, IKV_BAD_VALUE},
    {"overlap.enter",
     "body",
     {IKV_VALUE_INTEGER, {.integer = 1}},
     IKV_BAD_VALUE},
    {"loop.step", "step", {IKV_VALUE_INTEGER, {.integer = -1}}, IKV_BAD_VALUE},
    {"field.set", "new", {99, {.integer = 1}}, IKV_BAD_VALUE},
    {"field.set", "new", {IKV_VALUE_TARGET, {.integer = 1}}, IKV_OK},
    {"text.input", "text", {IKV_VALUE_INTEGER, {.integer = 1}}, IKV_BAD_VALUE},
};

START_TEST(fields_refuse_what_does_not_fit)
{
    ikv_kind kind = ikv_catalogue_find(NULL, put_table[_i].kind);
    const ikv_field *field =
        ikv_field_find(ikv_catalogue_info(NULL, kind), put_table[_i].field);
    ikv_event event = ikv_event_make(kind, 0), before = event;
    ck_assert_ptr_nonnull(field);
    status_is(ikv_field_put(field, &event, put_table[_i].value),
              put_table[_i].status);
    if (put_table[_i].status != IKV_OK)
        ck_assert_mem_eq(&event, &before, sizeof event);
}
END_TEST

/* ----------------------------------------------------------- user kinds -- */

static const ikv_field good_fields[] = {
    {"berth", IKV_TYPE_U32, 0, "", "which", 1, 0},
    {"load", IKV_TYPE_F64, 8, "t", "tonnes", 1, 0},
    {"full", IKV_TYPE_BOOL, 16, "", "whether", 1, 0},
};
static const ikv_field far_field[] = {{"far", IKV_TYPE_U32, 32, "", "", 1, 0}};
static const ikv_field odd_field[] = {{"odd", IKV_TYPE_U32, 2, "", "", 1, 0}};
static const ikv_field reserved_field[] = {
    {"verdict", IKV_TYPE_U32, 0, "", "", 1, 0}};
static const ikv_field header_field[] = {
    {"seat", IKV_TYPE_U32, 0, "", "", 1, 0}};
static const ikv_field wrong_field[] = {{"a b", IKV_TYPE_U8, 0, "", "", 1, 0}};
static const ikv_field odd_type[] = {{"odd", 77, 0, "", "", 1, 0}};
static const ikv_field text_type[] = {{"odd", IKV_TYPE_TEXT, 0, "", "", 1, 0}};
static const ikv_field
    /* A double has no room for them, or what has no name is not read back. */
    scaled_fields[] = {{"low", IKV_TYPE_I32, 0, "", "", 1000, 0},
                       {"high", IKV_TYPE_U8, 4, "", "", 2, IKV_SET_FIELD}},
    scaled_wide[] = {{"load", IKV_TYPE_U64, 0, "", "", 10, 0}},
    scaled_float[] = {{"load", IKV_TYPE_F32, 0, "", "", 10, 0}},
    set_signed[] = {{"load", IKV_TYPE_I8, 0, "", "", 1, IKV_SET_FLAGS}},
    set_wide[] = {{"load", IKV_TYPE_U64, 0, "", "", 1, IKV_SET_FLAGS}},
    set_bool[] = {{"load", IKV_TYPE_BOOL, 0, "", "", 1, IKV_SET_CODE}},
    set_unknown[] = {{"load", IKV_TYPE_U8, 0, "", "", 1, IKV_SET_FIELD + 1}};
static const ikv_field edge_field[] = {{"edge", IKV_TYPE_U8, 32, "", "", 1, 0}},
                       last_field[] = {
                           {"last", IKV_TYPE_BOOL, 31, "", "", 1, 0},
                           {"byte", IKV_TYPE_U8, 30, "", "", 1, 0}};
static const ikv_field double_field[] = {
    {"berth", IKV_TYPE_U32, 0, "", "", 1, 0},
    {"berth", IKV_TYPE_U32, 4, "", "", 1, 0}};

static const struct {
    const char *name;
    const ikv_field *fields;
    uint32_t count;
    ikv_status status;
    const char *message;
} register_table[] = {
    {"ferry.docked", good_fields, 3, IKV_OK, ""},
    {"pointer.down", NULL, 0, IKV_DUPLICATE,
     "kind \"pointer.down\" exists already"},
    {"ferry docked", NULL, 0, IKV_BAD_ARGUMENT, "found \"ferry docked\""},
    {"", NULL, 0, IKV_BAD_ARGUMENT, "a kind's name must be made of"},
    {"a.b", far_field, 1, IKV_BAD_VALUE, "field \"far\" must have"},
    {"a.b", edge_field, 1, IKV_BAD_VALUE, "field \"edge\" must have"},
    {"ferry.docked", last_field, 2, IKV_OK, ""},
    {"a.b", odd_field, 1, IKV_BAD_VALUE, "field \"odd\" must have"},
    {"a.b", reserved_field, 1, IKV_DUPLICATE, "field \"verdict\" is taken"},
    {"a.b", double_field, 2, IKV_DUPLICATE, "field \"berth\" is taken"},
    {"a.b", header_field, 1, IKV_DUPLICATE, "field \"seat\" is taken"},
    {"a.b", wrong_field, 1, IKV_BAD_ARGUMENT, "a field's name must be made"},
    {"a.b", odd_type, 1, IKV_BAD_VALUE, "field \"odd\" must have"},
    {"a.b", text_type, 1, IKV_BAD_VALUE, "field \"odd\" must have"},
    {"ferry.docked", scaled_fields, 2, IKV_OK, ""},
    {"a.b", scaled_wide, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", scaled_float, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", set_signed, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", set_wide, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", set_bool, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", set_unknown, 1, IKV_BAD_VALUE, "\"load\": only whole numbers of"},
    {"a.b", good_fields, 17, IKV_BAD_ARGUMENT, "at most 16 fields"},
    {"a[b", NULL, 0, IKV_BAD_ARGUMENT, "found \"a[b\""},
    {"a{b", NULL, 0, IKV_BAD_ARGUMENT, "found \"a{b\""},
    {"a/b", NULL, 0, IKV_BAD_ARGUMENT, "found \"a/b\""},
    {"a.b", NULL, 2, IKV_BAD_ARGUMENT, "at most 16 fields"},
};

static ikv_catalogue *open_catalogue(counted *c, uint32_t kinds)
{
    ikv_catalogue *catalogue;
    ikv_catalogue_config config = IKV_CATALOGUE_INIT;
    config.user_kinds = kinds;
    config.memory = counted_memory(c);
    ok(ikv_catalogue_open(&config, &catalogue));
    return catalogue;
}

/* What stands in traces and tapes for itself. */
START_TEST(reserved_names)
{
    static const char *const names[] = {
        "n",       "step",      "t",           "due",     "kind",    "at",
        "target",  "phase",     "source",      "handler", "verdict", "between",
        "lane",    "within",    "held",        "lost",    "digest",  "play",
        "end",     "note",      "event",       "gone",    "passed",  "mirror",
        "dropped", "clock",     "source_gone", "cause",   "path",    "device",
        "seat",    "modifiers", "view",        "flags"};
    counted c = {0};
    ikv_catalogue *catalogue = open_catalogue(&c, 4);
    ikv_field field = {names[_i], IKV_TYPE_U32, 0, "", "", 1, 0};
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_kind kind;
    config.name = "a.b";
    config.fields = &field;
    config.field_count = 1;
    status_is(ikv_catalogue_register(catalogue, &config, &kind, NULL),
              IKV_DUPLICATE);
    ikv_catalogue_close(catalogue);
}
END_TEST

START_TEST(registering_kinds)
{
    counted c = {0};
    ikv_catalogue *catalogue = open_catalogue(&c, 4);
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_message message = {""};
    ikv_kind kind = 0;
    config.name = register_table[_i].name;
    config.fields = register_table[_i].fields;
    config.field_count = register_table[_i].count;
    /* Texts are the caller's: none is needed after the call. */
    ikv_field passing[4];
    char meanings[4][16];
    for (uint32_t f = 0;
         config.fields != NULL && f < config.field_count && f < 3; f++) {
        passing[f] = config.fields[f];
        snprintf(meanings[f], sizeof meanings[f], "%s", passing[f].meaning);
        passing[f].meaning = meanings[f];
    }
    ikv_kind_config lent = config;
    if (config.fields != NULL)
        lent.fields = passing;
    status_is(ikv_catalogue_register(catalogue, &lent, &kind, &message),
              register_table[_i].status);
    memset(meanings, 'x', sizeof meanings);
    ck_assert_msg(strstr(message.text, register_table[_i].message) != NULL,
                  "found \"%s\"", message.text);
    if (register_table[_i].status == IKV_OK) {
        ck_assert_uint_eq(kind, IKV_KIND_USER);
        ck_assert_uint_eq(ikv_catalogue_find(catalogue, "ferry.docked"), kind);
        const ikv_kind_info *info = ikv_catalogue_info(catalogue, kind);
        ck_assert_uint_eq(info->field_count, config.field_count);
        for (uint32_t f = 0; f < config.field_count; f++) {
            ck_assert_str_eq(info->fields[f].name, config.fields[f].name);
            ck_assert_str_eq(info->fields[f].unit, config.fields[f].unit);
            ck_assert_str_eq(info->fields[f].meaning, config.fields[f].meaning);
        }
        status_is(ikv_catalogue_register(catalogue, &config, &kind, NULL),
                  IKV_DUPLICATE);
    }
    ikv_catalogue_close(catalogue);
    ck_assert_int_eq(c.takes, c.gives);
}
END_TEST

START_TEST(catalogue_full)
{
    counted c = {0};
    ikv_catalogue *catalogue = open_catalogue(&c, 2);
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_message message;
    ikv_kind kind;
    char name[8];
    for (int i = 0; i < 3; i++) {
        snprintf(name, sizeof name, "k.%d", i);
        config.name = name;
        status_is(ikv_catalogue_register(catalogue, &config, &kind, &message),
                  i < 2 ? IKV_OK : IKV_FULL_KINDS);
    }
    ck_assert_str_eq(message.text, "kind \"k.2\": raise catalogue.user_kinds");
    ck_assert_str_eq(ikv_catalogue_info(catalogue, IKV_KIND_USER)->name, "k.0");
    ikv_catalogue_close(catalogue);
    /* Room for kinds, but not for their fields or names; a class of none. */
    ikv_catalogue_config small = IKV_CATALOGUE_INIT;
    small.memory = ikv_host_memory();
    small.user_kinds = 40;
    small.user_fields = 2;
    ok(ikv_catalogue_open(&small, &catalogue));
    config = (ikv_kind_config)IKV_KIND_CONFIG_INIT;
    config.name = "Zz.Aa";
    config.fields = good_fields;
    config.field_count = 3;
    status_is(ikv_catalogue_register(catalogue, &config, &kind, &message),
              IKV_FULL_FIELDS);
    config.field_count = 2;
    config.queue_class = IKV_QUEUE_OTHER + 1;
    status_is(ikv_catalogue_register(catalogue, &config, &kind, &message),
              IKV_BAD_ARGUMENT);
    config.queue_class = IKV_QUEUE_OTHER;
    config.pushable = true;
    ok(ikv_catalogue_register(catalogue, &config, &kind, &message));
    ikv_catalogue_close(catalogue);
    /* What may be pushed and says no class is of the last one. */
    ok(ikv_catalogue_open(&small, &catalogue));
    for (uint32_t i = 0; i < 8; i++) {
        static const char *const names[] = {"a.a", "a.b", "a.c", "a.d",
                                            "a.e", "a.f", "a.g", "a.h"};
        config = (ikv_kind_config)IKV_KIND_CONFIG_INIT;
        config.name = names[i];
        config.queue_class = (uint8_t)(i / 2);
        config.pushable = i % 2;
        ok(ikv_catalogue_register(catalogue, &config, &kind, &message));
        ck_assert_uint_eq(ikv_catalogue_info(catalogue, kind)->queue_class,
                          i == 1 ? IKV_QUEUE_OTHER : i / 2);
    }
    ikv_catalogue_close(catalogue);
    small.text_bytes = 32;
    ok(ikv_catalogue_open(&small, &catalogue));
    config.when = "of which there is far more than there is room for texts";
    status_is(ikv_catalogue_register(catalogue, &config, &kind, &message),
              IKV_FULL_NAMES);
    ck_assert_uint_eq(ikv_catalogue_find(catalogue, "Zz.Aa"), IKV_KIND_NONE);
    ikv_catalogue_close(catalogue);
    ck_assert_uint_eq(ikv_family_find(NULL), IKV_FAMILY_COUNT);
    ikv_catalogue_config bad = {0};
    status_is(ikv_catalogue_open(&bad, &catalogue), IKV_BAD_SIZE);
    status_is(ikv_catalogue_open(NULL, &catalogue), IKV_BAD_ARGUMENT);
    ikv_catalogue_config none = IKV_CATALOGUE_INIT;
    status_is(ikv_catalogue_open(&none, &catalogue), IKV_NO_MEMORY);
}
END_TEST

/* ------------------------------------------------------------- printing -- */

/* T3: shortest round trip. */
static const struct {
    double value;
    bool is_float;
    const char *text;
} number_table[] = {
    {0, false, "0"},
    {1, false, "1"},
    {-2.5, false, "-2.5"},
    {0.1, false, "0.1"},
    {(double)0.1f, true, "0.1"},
    {1.0 / 3, false, "0.3333333333333333"},
    {(double)(1.0f / 3), true, "0.33333334"},
    {5e-324, false, "5e-324"},
    {DBL_MAX, false, "1.7976931348623157e308"},
    {(double)FLT_MAX, true, "3.4028235e38"},
    {1e21, false, "1e21"},
    {123456789, false, "123456789"},
    {0.000001, false, "0.000001"},
    {16777216, true, "16777216"},
    {HUGE_VAL, false, "inf"},
    {-HUGE_VAL, true, "-inf"},
    {NAN, false, "nan"},
    {NAN, true, "nan"},
    {-0.0, false, "0"},
    {-1e-7, true, "-1e-7"},
    {999999.9, false, "999999.9"},
    {(double)-FLT_MAX, true, "-3.4028235e38"},
};

START_TEST(numbers_print_shortest)
{
    char text[32];
    size_t length = ikv_number_format(number_table[_i].value,
                                      number_table[_i].is_float, text);
    ck_assert_str_eq(text, number_table[_i].text);
    ck_assert_uint_eq(length, strlen(text));
}
END_TEST

START_TEST(numbers_read_back)
{
    uint64_t seed = 11;
    char text[32];
    for (int i = 0; i < 20000; i++) {
        uint64_t bits = (uint64_t)random_below(&seed, 0x7fffffff) << 33 ^
                        random_below(&seed, 0x7fffffff);
        double value;
        memcpy(&value, &bits, sizeof value);
        if (value != value || value - value != 0)
            continue;
        ikv_number_format(value, false, text);
        ck_assert_msg(strtod(text, NULL) == value, "%.17g: %s", value, text);
        ikv_number_format((double)(float)value, true, text);
        ck_assert((float)strtod(text, NULL) == (float)value);
    }
}
END_TEST

/* How many significant digits there are, without zeros at either end. */
static int digits_of(const char *text)
{
    int count = 0, zeros = 0;
    for (; *text != '\0' && *text != 'e'; text++) {
        if (*text < '0' || *text > '9' || (count == 0 && *text == '0'))
            continue;
        zeros = *text == '0' ? zeros + 1 : 0;
        count++;
    }
    return count - zeros;
}

static double distance(const char *text, float value)
{
    return fabs(strtod(text, NULL) - (double)value);
}

/* T3: floats of every exponent, at the powers of two and anywhere: no fewer
 * digits read back, and of as many they are the nearest. */
START_TEST(floats_print_shortest)
{
    uint64_t seed = 12;
    for (uint32_t i = 0; i < 255 * 200; i++) {
        uint32_t bits = (i % 255) << 23;
        char text[32], nearest[40];
        float value;
        bits += i < 255 * 8 ? i / 255 - 4 : random_below(&seed, 1u << 23);
        memcpy(&value, &bits, sizeof value);
        if (bits == 0 || bits >= 0x7f800000)
            continue;
        ikv_number_format((double)value, true, text);
        ck_assert_msg(strtof(text, NULL) == value, "%08x: %s", bits, text);
        int count = digits_of(text);
        snprintf(nearest, sizeof nearest, "%.*e", count - 1, (double)value);
        if (strtof(nearest, NULL) == value)
            ck_assert_msg(distance(text, value) <= distance(nearest, value),
                          "%08x: %s, not %s", bits, text, nearest);
        snprintf(nearest, sizeof nearest, "%.*e", count > 1 ? count - 2 : 0,
                 (double)value);
        ck_assert_msg(count == 1 || strtof(nearest, NULL) != value,
                      "%08x: %s, where %s does", bits, text, nearest);
    }
}
END_TEST

/* The same of doubles at the powers of two, whose lower neighbour is nearer. */
START_TEST(doubles_print_shortest)
{
    for (uint64_t power = 1; power < 2047; power++)
        for (int64_t beside = -1; beside <= 1; beside++) {
            uint64_t bits = (power << 52) + (uint64_t)beside;
            char text[40], fewer[40];
            double value;
            memcpy(&value, &bits, sizeof value);
            ikv_number_format(value, false, text);
            ck_assert_msg(strtod(text, NULL) == value, "%a: %s", value, text);
            int count = digits_of(text);
            snprintf(fewer, sizeof fewer, "%.*e", count > 1 ? count - 2 : 0,
                     value);
            ck_assert_msg(count == 1 || strtod(fewer, NULL) != value,
                          "%a: %s, where %s does", value, text, fewer);
        }
}
END_TEST

static const struct {
    uint64_t ns;
    const char *text;
} time_table[] = {{0, "0"},
                  {16250000, "16.25"},
                  {1, "0.000001"},
                  {1000000, "1"},
                  {UINT64_MAX, "18446744073709.551615"}};

START_TEST(times_print_in_ms)
{
    char text[32];
    ikv_time_format(time_table[_i].ns, text);
    ck_assert_str_eq(text, time_table[_i].text);
}
END_TEST

/* E4 */
START_TEST(events_print)
{
    char line[256], small[12];
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 16250000);
    e.device = 2;
    e.flags = IKV_PRIMARY | IKV_SYNTHETIC;
    e.pointer.x = 120.5f;
    e.pointer.type = IKV_TOUCH;
    e.pointer.button = 0;
    e.pointer.pressure = 32768;
    size_t length = ikv_event_format(NULL, &e, line, sizeof line);
    ck_assert_str_eq(line, "pointer.down t=16.25 device=2 "
                           "flags=synthetic+primary x=120.5 pressure=0.5000076 "
                           "type=touch button=0");
    ck_assert_uint_eq(length, strlen(line));
    ck_assert_uint_eq(ikv_event_format(NULL, &e, small, sizeof small), length);
    ck_assert_str_eq(small, "pointer.dow");
    ck_assert_uint_eq(ikv_event_format(NULL, &e, NULL, 0), length);
    char one[1] = {'x'};
    ck_assert_uint_eq(ikv_event_format(NULL, &e, one, 1), length);
    ck_assert_int_eq(one[0], '\0');
    e = ikv_event_make(IKV_KIND_KEY_UP, 0);
    e.key.code = IKV_CODE(0x04);
    e.key.key = 0xe9;
    ikv_event_format(NULL, &e, line, sizeof line);
    ck_assert_str_eq(line, "key.up t=0 code=KeyA key=\xc3\xa9");
    e = ikv_event_make(999, 1);
    ikv_event_format(NULL, &e, line, sizeof line);
    ck_assert_str_eq(line, "kind 999 t=0.000001");
    ikv_event_format(NULL, NULL, line, sizeof line);
    ck_assert_str_eq(line, "no event");
    e = ikv_event_make(IKV_KIND_TEXT_INPUT, 0);
    e.text.length = 255; /* hostile: cut to what there is */
    memset(e.text.bytes, '"', sizeof e.text.bytes);
    ikv_event_format(NULL, &e, line, sizeof line);
    ck_assert_str_eq(line,
                     "text.input t=0 text=\"???????????????????????????????\"");
}
END_TEST

/* E3 */
START_TEST(events_are_kept)
{
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_CLOSE, 5);
    ikv_kept_event kept;
    char data[4] = "abc", to[4] = "";
    ok(ikv_event_copy(&kept, NULL, 0, &e, NULL, 0));
    ck_assert_mem_eq(&kept.event, &e, sizeof e);
    ok(ikv_event_copy(&kept, to, sizeof to, &e, data, sizeof data));
    ck_assert_str_eq(to, "abc");
    status_is(ikv_event_copy(&kept, to, 3, &e, data, sizeof data),
              IKV_BAD_SIZE);
    ck_assert_uint_eq(kept.data_size, 4);
    status_is(ikv_event_copy(NULL, NULL, 0, &e, NULL, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_event_copy(&kept, NULL, 0, &e, NULL, 3), IKV_BAD_ARGUMENT);
}
END_TEST

/* KEYS3: names both ways. */
START_TEST(keys_both_ways)
{
    int count = 0;
    uint32_t code;
    char buffer[8];
    static record table;
    table.text[0] = '\0';
    for (; (code = ikv_code_list((uint32_t)count)) != 0; count++) {
        ck_assert_uint_eq(ikv_code_find(ikv_code_name(code)), code);
        uint32_t key = ikv_key_of_code(code);
        ck_assert_uint_ne(key, 0);
        ck_assert_uint_eq(ikv_key_find(ikv_key_name(key, buffer)), key);
        note(&table, "%02x %s %u %s\n", code & 0xff, ikv_code_name(code),
             ikv_code_location(code), ikv_key_name(key, buffer));
    }
    ck_assert_int_gt(count, 120);
    ck_assert_uint_eq(ikv_key_of_code(IKV_CODE(0xff)), 0);
    ck_assert_uint_eq(ikv_code_location(IKV_CODE(0xff)), 0);
    expect_golden("keys.txt", table.text);
    static const uint32_t edges[] = {1,     0x7f,   0x80,    0x7ff,
                                     0x800, 0xffff, 0x10000, 0x10ffff};
    for (int i = 0; i < ROWS(edges); i++) {
        const char *text = ikv_key_name(edges[i], buffer);
        ck_assert_uint_eq(strlen(text), 1u + (unsigned)i / 2);
        ck_assert_uint_eq(ikv_key_find(text), edges[i]);
    }
    ck_assert_uint_eq(ikv_code_find("KeyA"), IKV_CODE(4));
    ck_assert_uint_eq(ikv_code_find("keya"), 0);
    ck_assert_ptr_null(ikv_code_name(12));
    ck_assert_uint_eq(ikv_code_location(ikv_code_find("ShiftRight")), 2);
    ck_assert_uint_eq(ikv_key_find("\xf0\x9f\x9a\xa2"), 0x1f6a2);
    ck_assert_str_eq(ikv_key_name(0x1f6a2, buffer), "\xf0\x9f\x9a\xa2");
    ck_assert_uint_eq(ikv_key_find("ab"), 0);
    ck_assert_uint_eq(ikv_key_find("\xff"), 0);
    ck_assert_ptr_null(ikv_key_name(0xd800, buffer));
    ck_assert_ptr_null(ikv_key_name(0xdfff, buffer));
    ck_assert_ptr_nonnull(ikv_key_name(0xe000, buffer));
    ck_assert_ptr_null(ikv_key_name(0x7fffffff, buffer));
}
END_TEST

/* E2: what a field holds, of every type: put, got and printed; and what does
 * not fit is refused, with the event as it was. */
#define I(n)                                                                   \
    {                                                                          \
        IKV_VALUE_INTEGER,                                                     \
        {                                                                      \
            .integer = n                                                       \
        }                                                                      \
    }
#define N(n)                                                                   \
    {                                                                          \
        IKV_VALUE_NUMBER,                                                      \
        {                                                                      \
            .number = n                                                        \
        }                                                                      \
    }
#define B(n)                                                                   \
    {                                                                          \
        IKV_VALUE_BOOL,                                                        \
        {                                                                      \
            .boolean = n                                                       \
        }                                                                      \
    }
static const struct {
    uint16_t type, scale;
    ikv_value value;
    ikv_status status;
    const char *prints;
} field_table[] = {
    {IKV_TYPE_U8, 1, I(255), IKV_OK, "255"},
    {IKV_TYPE_U8, 1, I(256), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U8, 1, I(-1), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U8, 1, N(3), IKV_OK, "3"},
    {IKV_TYPE_U8, 1, N(3.5), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U8, 1, B(true), IKV_BAD_VALUE, ""},
    {IKV_TYPE_I8, 1, I(-128), IKV_OK, "-128"},
    {IKV_TYPE_I8, 1, I(-129), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U16, 1, I(65535), IKV_OK, "65535"},
    {IKV_TYPE_I16, 1, I(-32768), IKV_OK, "-32768"},
    {IKV_TYPE_I16, 1, I(32768), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U32, 1, I(4294967295), IKV_OK, "4294967295"},
    {IKV_TYPE_U32, 1, I(4294967296), IKV_BAD_VALUE, ""},
    {IKV_TYPE_I32, 1, I(-2147483647), IKV_OK, "-2147483647"},
    {IKV_TYPE_U64, 1, I(9223372036854775807), IKV_OK, "9223372036854775807"},
    {IKV_TYPE_U64, 1, I(-1), IKV_BAD_VALUE, ""},
    {IKV_TYPE_I64, 1, I(-9007199254740993), IKV_OK, "-9007199254740993"},
    {IKV_TYPE_I64, 1, N(1e300), IKV_BAD_VALUE, ""},
    {IKV_TYPE_U16, 100, N(12.34), IKV_OK, "12.34"},
    {IKV_TYPE_U16, 100, I(12), IKV_OK, "12"},
    {IKV_TYPE_I16, 100, N(-0.01), IKV_OK, "-0.01"},
    {IKV_TYPE_I16, 100, N(-400), IKV_BAD_VALUE, ""},
    {IKV_TYPE_F32, 1, N(0.1), IKV_OK, "0.1"},
    {IKV_TYPE_F32, 1, I(7), IKV_OK, "7"},
    {IKV_TYPE_F32, 1, N(1e39), IKV_BAD_VALUE, ""},
    {IKV_TYPE_F32, 1, N(-1e39), IKV_BAD_VALUE, ""},
    {IKV_TYPE_F32, 1, N((double)FLT_MAX), IKV_OK, "3.4028235e38"},
    {IKV_TYPE_F32, 1, N((double)-FLT_MAX), IKV_OK, "-3.4028235e38"},
    {IKV_TYPE_F64, 1, N(1e39), IKV_OK, "1e39"},
    {IKV_TYPE_F64, 1, N(-0.1), IKV_OK, "-0.1"},
    {IKV_TYPE_F64, 1, N(INFINITY), IKV_BAD_VALUE, ""},
    {IKV_TYPE_F64, 1, N(NAN), IKV_BAD_VALUE, ""},
    {IKV_TYPE_BOOL, 1, B(true), IKV_OK, "true"},
    {IKV_TYPE_BOOL, 1, I(1), IKV_BAD_VALUE, ""},
    {IKV_TYPE_TARGET,
     1,
     {IKV_VALUE_TARGET, {.target = {0xab}}},
     IKV_OK,
     "000000ab"},
    {IKV_TYPE_TARGET, 1, I(1), IKV_BAD_VALUE, ""},
    {IKV_TYPE_COUNT, 1, I(1), IKV_BAD_ARGUMENT, ""},
    {999, 1, I(1), IKV_BAD_ARGUMENT, ""},
};
#undef I
#undef N
#undef B

START_TEST(fields_of_all_types)
{
    ikv_field field = {"level", field_table[_i].type,  0, "",
                       "",      field_table[_i].scale, 0};
    counted c = {0};
    ikv_catalogue *catalogue = open_catalogue(&c, 1);
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_kind kind = IKV_KIND_WHEEL;
    char line[200], expected[80];
    config.name = "tide";
    config.fields = &field;
    config.field_count = 1;
    const ikv_field *of = &field;
    field.offset = offsetof(ikv_event, pointer);
    if (field_table[_i].type < IKV_TYPE_COUNT) {
        field.offset = 0;
        ok(ikv_catalogue_register(catalogue, &config, &kind, NULL));
        of = ikv_field_find(ikv_catalogue_info(catalogue, kind), "level");
        ck_assert_ptr_nonnull(of);
    }
    ikv_event event = ikv_event_make(kind, 0), before = event;
    status_is(ikv_field_put(of, &event, field_table[_i].value),
              field_table[_i].status);
    if (field_table[_i].status < 0) {
        ck_assert_mem_eq(&event, &before, sizeof event);
    } else {
        ikv_event_format(catalogue, &event, line, sizeof line);
        snprintf(expected, sizeof expected, "level=%s", field_table[_i].prints);
        ck_assert_msg(strstr(line, expected) != NULL, "no \"%s\" in \"%s\"",
                      expected, line);
        ikv_event again = ikv_event_make(kind, 0);
        ok(ikv_field_put(of, &again, ikv_field_get(of, &event)));
        ck_assert_mem_eq(&event, &again, sizeof event);
        if (of->type != IKV_TYPE_VALUE)
            put_alone(of, field_table[_i].value);
    }
    status_is(ikv_field_put(NULL, &event, field_table[_i].value),
              IKV_BAD_ARGUMENT);
    status_is(ikv_field_put(of, NULL, field_table[_i].value), IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(ikv_field_get(NULL, &event).type, IKV_VALUE_NONE);
    ck_assert_uint_eq(ikv_field_get(of, NULL).type, IKV_VALUE_NONE);
    field.offset = sizeof(ikv_event) - 1;
    field.type = IKV_TYPE_U16;
    status_is(ikv_field_put(&field, &event, field_table[_i].value),
              IKV_BAD_ARGUMENT);
    ikv_catalogue_close(catalogue);
}
END_TEST

static ikv_verdict hear_tide(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)event, (void)d, (void)user;
    return IKV_CONTINUE;
}

static void digest_tide(const ikv_watch *watch, void *digest)
{
    ikv_digest_add(digest, (const ikv_bus *)watch->delivery->bus, watch);
}

/* T1: a digest is of all that an event holds, whatever the field's type. */
START_TEST(digests_of_all_types)
{
    ikv_field field = {"level", field_table[_i].type,  0, "",
                       "",      field_table[_i].scale, 0};
    uint64_t seen[2];
    if (field_table[_i].status < 0 || field_table[_i].type >= IKV_TYPE_COUNT)
        return;
    for (int set = 0; set < 2; set++) {
        counted c = {0};
        ikv_catalogue *catalogue = open_catalogue(&c, 1);
        ikv_kind_config config = IKV_KIND_CONFIG_INIT;
        ikv_bus_config bus_config = IKV_BUS_INIT;
        ikv_digest digest = IKV_DIGEST_INIT;
        ikv_kind kind;
        ikv_bus *bus;
        config.name = "tide";
        config.fields = &field;
        config.field_count = 1;
        ok(ikv_catalogue_register(catalogue, &config, &kind, NULL));
        bus_config.catalogue = catalogue;
        bus_config.memory = ikv_host_memory();
        ok(ikv_bus_open(&bus_config, &bus));
        hears(bus, kind, (ikv_target){0}, hear_tide, NULL);
        ok(ikv_bus_add_watcher(bus, IKV_DIGEST_WANTS, digest_tide, &digest));
        ikv_event event = ikv_event_make(kind, 0);
        ikv_event blank = event;
        ok(ikv_field_put(
            ikv_field_find(ikv_catalogue_info(catalogue, kind), "level"),
            &event, field_table[_i].value));
        bool same = memcmp(&event, &blank, sizeof event) == 0;
        ck_assert_uint_eq(
            ikv_bus_deliver(bus, set == 1 ? &event : &blank).heard, 1);
        ck_assert_uint_eq(digest.deliveries, 1);
        seen[set] = digest.value;
        if (set == 1)
            ck_assert_int_eq(seen[0] == seen[1], same);
        ikv_bus_close(bus);
        ikv_catalogue_close(catalogue);
    }
}
END_TEST

/* E5: what an event of a kind needs to mean something is filled in. */
START_TEST(made_events)
{
    static const struct {
        ikv_kind kind;
        const char *field;
        double value;
    } table[] = {{IKV_KIND_WINDOW_DENSITY, "density", 1},
                 {IKV_KIND_WINDOW_RESIZE, "density", 0},
                 {IKV_KIND_GESTURE_PINCH, "scale", 1},
                 {IKV_KIND_GESTURE_PINCH, "count", 2},
                 {IKV_KIND_POINTER_DOWN, "button", 0},
                 {IKV_KIND_POINTER_UP, "button", 0},
                 {IKV_KIND_POINTER_MOVE, "button", -1},
                 {IKV_KIND_POINTER_CLICK, "button", 0},
                 {IKV_KIND_POINTER_AUXILIARY, "button", 2},
                 {IKV_KIND_POINTER_MENU, "button", 2}};
    ikv_event e = ikv_event_make(table[_i].kind, 5);
    const ikv_field *field = ikv_field_find(
        ikv_catalogue_info(NULL, table[_i].kind), table[_i].field);
    if (field != NULL) {
        ikv_value value = ikv_field_get(field, &e);
        ck_assert(table[_i].value == (value.type == IKV_VALUE_NUMBER
                                          ? value.bits.number
                                          : (double)value.bits.integer));
    } else {
        ck_assert_int_eq(_i, 1); /* a resize has no density */
        ck_assert(e.window.density == 0);
    }
    ck_assert_uint_eq(e.time_ns, 5);
}
END_TEST

Suite *event_suite(void)
{
    Suite *s = suite_create("event");
    add(s, "statuses", statuses_have_names);
    add_table(s, "E5 made", made_events, 10);
    add_table(s, "E2", catalogue_rows, ROWS(kind_table));
    add_table(s, "E2 fields of all types", fields_of_all_types,
              ROWS(field_table));
    add_table(s, "T1 digests of all types", digests_of_all_types,
              ROWS(field_table));
    add(s, "E1 E2", catalogue_fields);
    add_table(s, "E2 range", fields_refuse_what_does_not_fit, ROWS(put_table));
    add_table(s, "E2 reserved names", reserved_names, 32);
    add_table(s, "E2 user", registering_kinds, ROWS(register_table));
    add(s, "E2 full", catalogue_full);
    add_table(s, "T3", numbers_print_shortest, ROWS(number_table));
    add(s, "T3 random", numbers_read_back);
    add(s, "T3 floats", floats_print_shortest);
    add(s, "T3 doubles", doubles_print_shortest);
    add_table(s, "T3 times", times_print_in_ms, ROWS(time_table));
    add(s, "E4", events_print);
    add(s, "E3", events_are_kept);
    add(s, "KEYS3", keys_both_ways);
    return s;
}
