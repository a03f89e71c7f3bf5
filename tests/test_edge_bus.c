/* test_edge_bus.c - conditions at the ends of their ranges, what ends while it
 * runs, lanes at the limits, timers that jump. Each case is named by its entry
 * in docs/reliability.md. */
#include "support.h"

#include <math.h>

static bench_kit k;
static record seen;

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    (void)d;
    note(&seen, "%s%llu ", user != NULL ? (const char *)user : "",
         (unsigned long long)event->time_ns);
    return IKV_CONTINUE;
}

static void open_bus(void)
{
    seen.text[0] = '\0';
    kit_prepare(&k);
    k.config.bus.deferred = 32;
    k.config.bus.subscriptions = 16;
    kit_open(&k);
}

static ikv_subscription_config wants(ikv_kind kind)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.handler = hear;
    return config;
}

static void deliver_at(ikv_kind kind, ikv_target target, uint64_t time_ns)
{
    ikv_event e = ikv_event_make(kind, time_ns);
    e.target = target;
    ok(ikv_bus_deliver(k.bus, &e).status);
}

/* ---------------------------------------------------------- 20 conditions --
 */

#define WHOLE(n)                                                               \
    {                                                                          \
        IKV_VALUE_INTEGER,                                                     \
        {                                                                      \
            .integer = (n)                                                     \
        }                                                                      \
    }
#define NUMBER(n)                                                              \
    {                                                                          \
        IKV_VALUE_NUMBER,                                                      \
        {                                                                      \
            .number = (n)                                                      \
        }                                                                      \
    }

#define BOOL(b)                                                                \
    {                                                                          \
        IKV_VALUE_BOOL,                                                        \
        {                                                                      \
            .boolean = (b)                                                     \
        }                                                                      \
    }

/* A user's kind with a field of each type; the value that is set, the
 * condition, and whether it is refused (-1), holds (1) or not (0). */
static const ikv_field all_types[] = {
    {.name = "u8", .type = IKV_TYPE_U8, .offset = 0},
    {.name = "i8", .type = IKV_TYPE_I8, .offset = 1},
    {.name = "u16", .type = IKV_TYPE_U16, .offset = 2},
    {.name = "i32", .type = IKV_TYPE_I32, .offset = 4},
    {.name = "u64", .type = IKV_TYPE_U64, .offset = 8},
    {.name = "f64", .type = IKV_TYPE_F64, .offset = 16},
    {.name = "half", .type = IKV_TYPE_U8, .offset = 24, .scale = 2},
    {.name = "f32", .type = IKV_TYPE_F32, .offset = 28},
    {.name = "tilt", .type = IKV_TYPE_I8, .offset = 25, .scale = 2},
    {.name = "lit", .type = IKV_TYPE_BOOL, .offset = 26},
    {.name = "i64", .type = IKV_TYPE_I64, .offset = 8},
};

static const struct {
    const char *field;
    ikv_value set;
    uint32_t comparison;
    ikv_value value;
    bool negate;
    int holds;
} condition_table[] = {
    {"u8", WHOLE(1), IKV_EQUAL, WHOLE(257), false, -1},
    {"u8", WHOLE(1), IKV_EQUAL, WHOLE(257), true, 1},
    {"u8", WHOLE(1), IKV_EQUAL, WHOLE(1), false, 1},
    {"u8", WHOLE(255), IKV_EQUAL, WHOLE(-1), false, -1},
    {"i8", WHOLE(-1), IKV_EQUAL, WHOLE(255), false, -1},
    {"i8", WHOLE(-1), IKV_EQUAL, WHOLE(-1), false, 1},
    {"u8", WHOLE(2), IKV_EQUAL, NUMBER(2.5), false, -1},
    {"u8", WHOLE(2), IKV_EQUAL, NUMBER(2), false, 1},
    {"u8", WHOLE(2), IKV_BELOW, NUMBER(2.5), false, 1},
    {"u8", WHOLE(3), IKV_BELOW, NUMBER(2.5), false, 0},
    {"u8", WHOLE(3), IKV_AT_LEAST, NUMBER(2.5), false, 1},
    {"u8", WHOLE(2), IKV_ABOVE, NUMBER(2.5), false, 0},
    {"u8", WHOLE(9), IKV_BELOW, WHOLE(0), false, -1},
    {"u8", WHOLE(9), IKV_BELOW, WHOLE(-5), true, 1},
    {"u8", WHOLE(9), IKV_ABOVE, WHOLE(255), false, -1},
    {"u8", WHOLE(9), IKV_ABOVE, WHOLE(-1), false, 1},
    {"u8", WHOLE(9), IKV_AT_MOST, WHOLE(1000), false, 1},
    {"u8", WHOLE(9), IKV_AT_LEAST, NUMBER(1e300), false, -1},
    {"u8", WHOLE(9), IKV_HAS, WHOLE(256), false, -1},
    {"u8", WHOLE(9), IKV_HAS, WHOLE(0), false, -1},
    {"u8", WHOLE(9), IKV_HAS, WHOLE(8), false, 1},
    {"u8", WHOLE(9), IKV_EQUAL, NUMBER(NAN), false, -1},
    {"u8", WHOLE(9), IKV_BELOW, NUMBER(NAN), true, -1},
    {"u16", WHOLE(7), IKV_EQUAL, WHOLE(65543), false, -1},
    {"i32", WHOLE(-5), IKV_EQUAL, WHOLE(-5), false, 1},
    {"i32", WHOLE(-5), IKV_EQUAL, WHOLE(4294967291), false, -1},
    {"i32", WHOLE(-5), IKV_BELOW, NUMBER(-4.5), false, 1},
    {"u64", WHOLE(-1), IKV_ABOVE, WHOLE(5), false, 1}, /* 2^64 - 1 */
    {"u64", WHOLE(-1), IKV_BELOW, WHOLE(5), false, 0},
    {"u64", WHOLE(-1), IKV_EQUAL, WHOLE(-1), false, -1},
    {"u64", WHOLE(-1), IKV_ABOVE, NUMBER(1e19), false, 1},
    {"u64", WHOLE(-1), IKV_EQUAL, NUMBER(0x1p64), false, -1},
    {"u64", WHOLE(INT64_MIN), IKV_EQUAL, NUMBER(0x1p63), false, 1},
    {"u64", WHOLE(5), IKV_AT_LEAST, WHOLE(-3), false, 1},
    {"f64", NUMBER(1.5), IKV_EQUAL, NUMBER(1.5), false, 1},
    {"f64", NUMBER(NAN), IKV_AT_MOST, WHOLE(3), false, 0},
    {"f64", NUMBER(NAN), IKV_AT_LEAST, WHOLE(3), false, 0},
    {"f64", NUMBER(NAN), IKV_EQUAL, WHOLE(3), false, 0},
    {"f64", NUMBER(INFINITY), IKV_ABOVE, WHOLE(3), false, 1},
    {"f32", NUMBER(0.5), IKV_EQUAL, NUMBER(0.5), false, 1},
    {"half", NUMBER(1.5), IKV_EQUAL, NUMBER(1.5), false, 1},
    {"half", NUMBER(1.5), IKV_EQUAL, NUMBER(1.25), false, -1},
    {"half", NUMBER(1.5), IKV_EQUAL, WHOLE(1), false, 0},
    {"half", NUMBER(1.5), IKV_EQUAL, WHOLE(128), false, -1},
    {"half", NUMBER(1.5), IKV_ABOVE, WHOLE(1), false, 1},
    {"tilt", NUMBER(-1.5), IKV_EQUAL, NUMBER(-1.5), false, 1},
    {"tilt", NUMBER(-1.5), IKV_EQUAL, NUMBER(-1.25), false, -1},
    {"u64", WHOLE(3), IKV_ABOVE, NUMBER(-0.5), false, 1},
    {"u64", WHOLE(2), IKV_BELOW, NUMBER(2.5), false, 1},
    {"u64", WHOLE(3), IKV_BELOW, NUMBER(2.5), false, 0},
    {"u64", WHOLE(3), IKV_AT_MOST, NUMBER(3), false, 1},
    {"u64", WHOLE(3), IKV_BELOW, NUMBER(1e300), false, 1},
    {"u64", WHOLE(3), IKV_EQUAL, WHOLE(3), false, 1},
    {"u64", WHOLE(3), IKV_EQUAL, NUMBER(0x1p63), false, 0},
    {"i32", WHOLE(-5), IKV_BELOW, NUMBER(-5.5), false, 0},
    {"i32", WHOLE(-4), IKV_ABOVE, NUMBER(-4.5), false, 1},
    {"i32", WHOLE(-4), IKV_ABOVE, NUMBER(-1e300), false, 1},
    {"i32", WHOLE(-4), IKV_BELOW, NUMBER(1e300), false, 1},
    {"i32", WHOLE(-4), IKV_EQUAL, NUMBER(-0x1p62), false, -1},
    {"i32", WHOLE(7), IKV_AT_MOST, NUMBER(7), false, 1},
    {"i64", WHOLE(INT64_MIN), IKV_EQUAL, NUMBER(-0x1p63), false, 1},
    {"i64", WHOLE(INT64_MIN), IKV_ABOVE, NUMBER(-0x1p63), false, 0},
    {"i64", WHOLE(INT64_MIN), IKV_ABOVE, NUMBER(-1e19), false, 1},
    {"i64", WHOLE(INT64_MAX), IKV_BELOW, NUMBER(0x1p63), false, 1},
    {"lit", BOOL(true), IKV_EQUAL, BOOL(true), false, 1},
    {"lit", BOOL(true), IKV_EQUAL, WHOLE(1), false, -1},
    {"lit", BOOL(true), IKV_CHANGED, BOOL(true), false, 1},
    {"u8", WHOLE(9), IKV_HAS, NUMBER(8), false, -1},
    {"i8", WHOLE(-1), IKV_HAS, WHOLE(256), false, 1}, /* its sign goes on */
    {"i8", WHOLE(1), IKV_HAS, WHOLE(256), false, 0},
    {"f32", NUMBER(9), IKV_HAS, WHOLE(8), false, -1},
    {"f32", NUMBER(9), IKV_EQUAL, BOOL(true), false, -1},
};

static ikv_catalogue *own_kinds(void)
{
    ikv_catalogue_config config = IKV_CATALOGUE_INIT;
    ikv_catalogue *catalogue;
    config.memory = ikv_host_memory();
    ok(ikv_catalogue_open(&config, &catalogue));
    return catalogue;
}

static ikv_kind own_kind(ikv_catalogue *catalogue, const char *name,
                         const ikv_field *fields, uint32_t count)
{
    ikv_kind kind;
    ikv_message message;
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    config.name = name;
    config.fields = fields;
    config.field_count = count;
    ck_assert_msg(ikv_catalogue_register(catalogue, &config, &kind, &message) ==
                      IKV_OK,
                  "%s", message.text);
    return kind;
}

START_TEST(conditions)
{
    ikv_catalogue *catalogue = own_kinds();
    ikv_kind kind =
        own_kind(catalogue, "harbour.depth", all_types, ROWS(all_types));
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    seen.text[0] = '\0';
    ikv_subscription_config config = wants(kind);
    ikv_condition condition = {
        condition_table[_i].field, condition_table[_i].comparison,
        condition_table[_i].value, condition_table[_i].negate};
    ikv_message message = {"not cleared"};
    config.conditions = &condition;
    config.condition_count = 1;
    ikv_status status = ikv_bus_subscribe(k.bus, &config, NULL, &message);
    if (condition_table[_i].holds < 0) {
        status_is(status, IKV_BAD_VALUE);
        ck_assert_ptr_nonnull(strstr(message.text, condition.field));
        kit_close(&k);
        ikv_catalogue_close(catalogue);
        return;
    }
    ok(status);
    ck_assert_str_eq(message.text, "");
    ikv_event e = ikv_event_make(kind, 1);
    const ikv_field *field =
        ikv_field_find(ikv_catalogue_info(catalogue, kind), condition.field);
    if (field->type == IKV_TYPE_U64 || field->type == IKV_TYPE_F64 ||
        field->type == IKV_TYPE_I64)
        memcpy((char *)&e + field->offset,
               &condition_table[_i].set.bits.integer, 8);
    else
        ok(ikv_field_put(field, &e, condition_table[_i].set));
    ok(ikv_bus_deliver(k.bus, &e).status);
    ck_assert_str_eq(seen.text, condition_table[_i].holds ? "1 " : "");
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* Whether it holds, by what the field says (of up to 32 bits, so that a double
 * has it exactly). */
static bool should_hold(const ikv_condition *c, ikv_value found)
{
    bool whole = found.type == IKV_VALUE_INTEGER;
    double a = whole ? (double)found.bits.integer : found.bits.number;
    double b = whole ? (double)c->value.bits.integer : c->value.bits.number;
    bool holds[] = {a == b, a<b, a <= b, a> b, a >= b,
                    (found.bits.integer & c->value.bits.integer) != 0};
    return holds[c->comparison] != c->negate;
}

/* Each type, comparison and sign, with values at and about the ends of what the
 * field can have: alone and beside another one it holds where it should. */
START_TEST(every_comparison)
{
    static const uint32_t bits[] = {
        0,          1,          2,          3,          0x7e,       0x7f,
        0x80,       0x81,       0xfe,       0xff,       0x7fff,     0x8000,
        0xffff,     0x7fffffff, 0x80000000, 0x80000001, 0xffffffff, 0x3f800000,
        0xbf800000, 0x7f800000, 0xff800000, 0x7fc00000, 0xffc00000, 0x00800000};
    static const char *const names[] = {"u8",  "i8",   "u16", "i32",
                                        "f32", "tilt", "half"};
    ikv_catalogue *catalogue = own_kinds();
    ikv_kind kind =
        own_kind(catalogue, "harbour.depth", all_types, ROWS(all_types));
    const ikv_field *field =
        ikv_field_find(ikv_catalogue_info(catalogue, kind), names[_i]);
    ikv_event e = ikv_event_make(kind, 1), with = e;
    size_t payload_at = sizeof e - 32; /* the payload */
    int asked = 0;
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    for (int v = 0; v < ROWS(bits) * 24; v++) {
        memcpy((char *)&with + field->offset, &bits[v / 24], 4);
        ikv_condition c[2] = {{names[_i], (uint32_t)(v / 4 % 6),
                               ikv_field_get(field, &with), v % 2 != 0},
                              {"u64", IKV_ABOVE, WHOLE(0), false}};
        if (v / 2 % 2 != 0 && c->value.type == IKV_VALUE_NUMBER)
            c->value.bits.number += 0.25;
        ikv_subscription_config config = wants(kind);
        ikv_subscription handle;
        config.conditions = c;
        config.condition_count = v / 2 % 2 != 0 ? 2 : 1;
        /* What never holds is refused: as in the table above. */
        if (ikv_bus_subscribe(k.bus, &config, &handle, NULL) != IKV_OK)
            continue;
        for (int b = 0; b < ROWS(bits); b++, asked++) {
            /* Whatever lies beside it. */
            memset((char *)&e + payload_at, b % 2 ? 0xa5 : 0x5a, 32);
            memcpy((char *)&e + field->offset, &bits[b], 4);
            seen.text[0] = '\0';
            ok(ikv_bus_deliver(k.bus, &e).status);
            ck_assert_msg((seen.text[0] != '\0') ==
                              should_hold(c, ikv_field_get(field, &e)),
                          "%s, %u, bits %x with %x", names[_i], c->comparison,
                          bits[b], bits[v / 24]);
        }
        ok(ikv_bus_unsubscribe(k.bus, handle));
    }
    ck_assert_int_gt(asked, 1000);
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* Tags are compared as what they are, with any number. */
START_TEST(tags_as_numbers)
{
    open_bus();
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target lamp;
    t.tags = 5;
    ok(ikv_scene_add(k.scene, &t, &lamp, NULL));
    static const struct {
        ikv_value value;
        const char *heard;
    } rows[] = {{NUMBER(5), "1 "}, {WHOLE(5), "1 "}, {NUMBER(4), ""}};
    ikv_condition condition = {"target.tags", IKV_EQUAL, rows[_i].value, false};
    ikv_subscription_config config = wants(IKV_KIND_KEY_DOWN);
    config.conditions = &condition;
    config.condition_count = 1;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    e.target = lamp;
    e.modifiers = 5;
    ok(ikv_bus_deliver(k.bus, &e).status);
    ck_assert_str_eq(seen.text, rows[_i].heard);
    kit_close(&k);
}
END_TEST

/* A condition on a family finds the field where each kind has it, also in
 * kinds that are registered later, and in those that lack it. */
START_TEST(later_kinds)
{
    static const ikv_field first[] = {{.name = "depth", .type = IKV_TYPE_U8}},
                           moved[] = {{.name = "other", .type = IKV_TYPE_U8},
                                      {.name = "depth",
                                       .type = IKV_TYPE_U8,
                                       .offset = 5}},
                           lacks[] = {{.name = "other", .type = IKV_TYPE_U8}},
                           wider[] = {{.name = "depth", .type = IKV_TYPE_I32}},
                           is_bool[] = {
                               {.name = "depth", .type = IKV_TYPE_BOOL}};
    ikv_catalogue *catalogue = own_kinds();
    ikv_message message;
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    seen.text[0] = '\0';
    ikv_condition condition = {"depth", IKV_EQUAL, WHOLE(7), false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.families = 1u << IKV_FAMILY_USER;
    config.handler = hear;
    config.conditions = &condition;
    config.condition_count = 1;
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, &message),
              IKV_UNKNOWN_FIELD); /* there is no such kind yet */
    ikv_kind kinds[5];
    kinds[0] = own_kind(catalogue, "a", first, 1);
    ok(ikv_bus_subscribe(k.bus, &config, NULL, &message));
    kinds[1] = own_kind(catalogue, "b", moved, 2);
    kinds[2] = own_kind(catalogue, "c", lacks, 1);
    kinds[3] = own_kind(catalogue, "d", wider, 1);
    kinds[4] = own_kind(catalogue, "e", is_bool, 1);
    for (int i = 0; i < 5; i++)
        for (uint8_t at = 0; at < 6; at += 5) {
            ikv_event e = ikv_event_make(kinds[i], (uint64_t)(10 * i + at));
            e.user[at] = 7;
            ok(ikv_bus_deliver(k.bus, &e).status);
        }
    ck_assert_str_eq(seen.text, "0 15 30 ");
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* Names fill their room to the last byte: each takes its letters, their end and
 * four bytes; the first byte is the empty name's. */
START_TEST(names_to_the_last_byte)
{
    kit_prepare(&k);
    k.config.bus.name_bytes = 64 + (uint32_t)_i;
    kit_open(&k);
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    char name[] = "aaa";
    uint32_t kept = 0, own = 1 + sizeof "step" + sizeof "frame" + 8;
    config.name = name;
    while (ikv_bus_subscribe(k.bus, &config, NULL, NULL) == IKV_OK) {
        kept++;
        name[1]++;
    }
    ck_assert_uint_eq(kept, (k.config.bus.name_bytes - own) / 8);
    kit_close(&k);
}
END_TEST

/* Without room for the name that such a condition needs, it is refused. */
START_TEST(names_full)
{
    static const ikv_field own[] = {
        {.name = "a_long_name_of_a_field", .type = IKV_TYPE_U8}};
    ikv_catalogue *catalogue = own_kinds();
    own_kind(catalogue, "a", own, 1);
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    k.config.bus.name_bytes = 32;
    kit_open(&k);
    ikv_condition condition = {own[0].name, IKV_EQUAL, WHOLE(7), false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.families = 1u << IKV_FAMILY_USER;
    config.handler = hear;
    config.conditions = &condition;
    config.condition_count = 1;
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, NULL), IKV_FULL_NAMES);
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, 0);
    /* Nor in a group. */
    ikv_condition_group group = {.conditions = &condition, .count = 1};
    config.conditions = NULL;
    config.condition_count = 0;
    config.groups = &group;
    config.group_count = 1;
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, NULL), IKV_FULL_NAMES);
    /* Nor for the shortest name of a handler, when all is full. */
    config.groups = NULL;
    config.group_count = 0;
    char name[2] = "a";
    ikv_status status = IKV_OK;
    for (; status == IKV_OK && name[0] <= 'z'; name[0]++) {
        config.name = name;
        status = ikv_bus_subscribe(k.bus, &config, NULL, NULL);
    }
    status_is(status, IKV_FULL_NAMES);
    config.name = NULL;
    config.group_count = 0;
    config.conditions = &condition;
    config.condition_count = 1;
    /* What has one place in all that are heard needs no name. */
    static const char *const placed[] = {"pressure", "width",  "height",
                                         "tilt_x",   "tilt_y", "twist",
                                         "pointer",  "button", "buttons"};
    config.families = 0;
    config.kind = IKV_KIND_POINTER_DOWN;
    condition.value = (ikv_value)WHOLE(0);
    for (int i = 0; i < ROWS(placed); i++) {
        condition.field = placed[i];
        status_is(ikv_bus_subscribe(k.bus, &config, NULL, NULL), IKV_OK);
    }
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* A bool that has changed, and one that has not. */
START_TEST(bool_changed)
{
    static const ikv_field lit[] = {{.name = "lit", .type = IKV_TYPE_BOOL}};
    ikv_catalogue *catalogue = own_kinds();
    ikv_kind kind = own_kind(catalogue, "lamp", lit, 1);
    kit_prepare(&k);
    k.config.catalogue = catalogue;
    kit_open(&k);
    ikv_condition condition = {.field = "lit", .comparison = IKV_CHANGED};
    ikv_subscription_config config = wants(kind);
    config.conditions = &condition;
    config.condition_count = 1;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    static const bool values[] = {true, true, false, false, true};
    static const uint32_t heard[] = {1, 0, 1, 0, 1};
    for (int i = 0; i < ROWS(values); i++) {
        ikv_event e = ikv_event_make(kind, 0);
        memcpy(&e.pointer, &values[i], 1);
        ck_assert_uint_eq(ikv_bus_deliver(k.bus, &e).heard, heard[i]);
    }
    kit_close(&k);
    ikv_catalogue_close(catalogue);
}
END_TEST

/* Handles go on over a restore: one that was given out after the save ends
 * nothing that is there again, of any slot. */
START_TEST(handles_over_a_restore)
{
    enum {
        MANY = 40
    };
    static ikv_subscription before[MANY], after[MANY];
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    for (int i = 0; i < MANY; i++)
        ok(ikv_bus_subscribe(k.bus, &config, &before[i], NULL));
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    for (int round = 0; round < 3; round++) {
        for (int i = 0; i < MANY; i++)
            ok(ikv_bus_unsubscribe(k.bus, round == 0 ? before[i] : after[i]));
        for (int i = 0; i < MANY; i++)
            ok(ikv_bus_subscribe(k.bus, &config, &after[i], NULL));
    }
    restore(&parts, image, size);
    valid(ikv_bus_validate(k.bus));
    for (int i = 0; i < MANY; i++) {
        status_is(ikv_bus_unsubscribe(k.bus, after[i]), IKV_ABSENT);
        ck_assert(ikv_bus_subscribed(k.bus, before[i]));
    }
    for (int i = 0; i < MANY; i++) {
        ok(ikv_bus_unsubscribe(k.bus, before[i]));
        ok(ikv_bus_subscribe(k.bus, &config, &before[i], NULL));
        for (int j = 0; j < MANY; j++)
            ck_assert_uint_ne(before[i].bits, after[j].bits);
    }
    free(image);
    kit_close(&k);
}
END_TEST

/* Ranks in the order of the calls. */
static int32_t heard_ranks[64];
static int heard_count, dropped;

static ikv_verdict keep_rank(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)event, (void)d;
    heard_ranks[heard_count++] = (int32_t)(intptr_t)user;
    return IKV_CONTINUE;
}

static void subscribe_ranks(int count, int32_t first, int32_t step)
{
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.handler = keep_rank;
    for (int i = 0; i < count; i++) {
        config.rank = first + i * step;
        config.user = (void *)(intptr_t)config.rank;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    }
}

static void heard_in_order(int count)
{
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 1);
    heard_count = 0;
    valid(ikv_bus_validate(k.bus));
    ok(ikv_bus_deliver(k.bus, &e).status);
    valid(ikv_bus_validate(k.bus));
    ck_assert_int_eq(heard_count, count);
    for (int i = 1; i < count; i++)
        ck_assert_int_le(heard_ranks[i - 1], heard_ranks[i]);
}

/* What is far from its place in a long run is sorted in later: an image that is
 * saved or comes back in between is whole, and nobody is lost. */
START_TEST(ranks_over_a_restore)
{
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    subscribe_ranks(20, 0, -1);
    ikv_parts parts = ikv_kit_parts(k.kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    ok(ikv_image_save(&parts, image, size));
    if (_i & 1)
        heard_in_order(20);
    if (_i & 2)
        subscribe_ranks(20, -5, -3); /* late, as the image comes back */
    restore(&parts, image, size);
    heard_in_order(20);
    subscribe_ranks(20, 30, -2);
    heard_in_order(40);
    free(image);
    kit_close(&k);
}
END_TEST

/* What is subscribed to all kinds, to a family or to tags beside a kind's own, in
 * between deliveries that go the fast way: w, f (of keys), g (of windows), t (which
 * the root does not bear), or o; each with its rank. The last column is how many
 * hear a key's event. */
static const struct {
    const char *subscribed;
    int heard;
} beside_table[] = {
    {"o1 w2 o3 o0 w1", 5},       {"w0 o1 o2 w3 o0", 5},
    {"o0 f1 g2 g3 o4", 3},       {"g0 o1 g2", 1},
    {"w1 o0 t1 o2 w3", 4},       {"o0 o1 w2 t0 w0", 4},
    {"f0 o0 o1 t1 f2", 4},       {"o2 w1 o0 g0 w3", 4},
    {"w3 w2 o1 w0 o5", 5},       {"g0 f1 w2", 2},
    {"o5 o4 o3 o2 o1 o0 w2", 7}, {"w0 o9 o8 o7 o6 w5 w8", 7},
};

START_TEST(beside_each_other)
{
    const char *at = beside_table[_i / 2].subscribed;
    int32_t ranks[8];
    kit_prepare(&k);
    k.config.bus.statistics = _i % 2 != 0;
    kit_open(&k);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    e.target = ikv_bus_root(k.bus);
    int expected = 0, asked = 0;
    ikv_subscription one, tagged = {0};
    for (; *at != '\0'; at += at[2] != '\0' ? 3 : 2) {
        ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
        config.kind = *at == 'o' || *at == 't' ? IKV_KIND_KEY_DOWN : 0;
        config.all_kinds = *at == 'w';
        config.families = *at == 'f'   ? 1u << IKV_FAMILY_KEY
                          : *at == 'g' ? 1u << IKV_FAMILY_WINDOW
                                       : 0;
        config.at_tags = *at == 't';
        config.rank = at[1] - '0';
        config.handler = keep_rank;
        config.user = (void *)(intptr_t)config.rank;
        ok(ikv_bus_subscribe(k.bus, &config, &one, NULL));
        tagged = *at == 't' ? one : tagged;
        asked += tagged.bits != 0;
        if (*at != 'g' &&
            *at != 't') { /* ranks are sorted here, stably, by hand */
            int place = expected++;
            for (; place > 0 && ranks[place - 1] > config.rank; place--)
                ranks[place] = ranks[place - 1];
            ranks[place] = config.rank;
        }
        heard_count = 0;
        ck_assert_uint_eq(ikv_bus_deliver(k.bus, &e).heard, (unsigned)expected);
        ck_assert_int_eq(heard_count, expected);
        for (int i = 0; i < expected; i++)
            ck_assert_int_eq(heard_ranks[i], ranks[i]);
    }
    ck_assert_int_eq(expected, beside_table[_i / 2].heard);
    ikv_subscription_counts counts = IKV_SUBSCRIPTION_COUNTS_INIT;
    if (asked > 0 && _i % 2 != 0) {
        ok(ikv_bus_subscription_counters(k.bus, tagged, &counts));
        ck_assert_uint_eq(counts.by_place, (unsigned)asked);
    }
    kit_close(&k);
}
END_TEST

static void deliver_wheel(void *user)
{
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 1);
    (void)user;
    if (ikv_bus_deliver(k.bus, &e).heard > 0)
        dropped++;
}

/* Who is told that all ends with its target, or with its kind, delivers to those
 * that were not sorted in yet. */
START_TEST(late_as_others_end)
{
    open_bus();
    dropped = heard_count = 0;
    ikv_target target = rect_target(k.scene, (ikv_target){0}, 0, 0, 9, 9, 0);
    ikv_subscription_config config = wants(IKV_KIND_KEY_UP);
    config.at = target;
    config.on_drop = deliver_wheel;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    subscribe_ranks(14, 0, -1);
    if (_i == 0)
        ok(ikv_scene_remove(k.scene, target));
    else
        ok(ikv_bus_unsubscribe_kind(k.bus, IKV_KIND_KEY_UP));
    ck_assert_int_eq(dropped, 1);
    ck_assert_int_eq(heard_count, 14);
    for (int i = 1; i < 14; i++)
        ck_assert_int_lt(heard_ranks[i - 1], heard_ranks[i]);
    kit_close(&k);
}
END_TEST

static ikv_verdict end_and_accept(const ikv_event *event, const ikv_delivery *d,
                                  void *user)
{
    (void)event, (void)user;
    ok(ikv_bus_unsubscribe(k.bus, d->subscription));
    return IKV_ACCEPT;
}

static void deliver_to_three(void *user)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_UP, 1);
    (void)user;
    e.target = ikv_bus_root(k.bus);
    ck_assert_uint_eq(ikv_bus_deliver(k.bus, &e).heard, 3);
    dropped++;
}

/* D8, D10: who is told that it has ended as the outermost delivery ends delivers
 * in turn: what came of the first is not what came of that. */
START_TEST(outcome_of_its_own)
{
    static const ikv_target nobody = {0};
    open_bus();
    dropped = 0;
    ikv_subscription_config config = wants(IKV_KIND_KEY_DOWN);
    config.handler = end_and_accept;
    config.on_drop = deliver_to_three;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    /* So many that the run is not packed for the one that ends. */
    hears(k.bus, IKV_KIND_KEY_DOWN, nobody, hear, NULL);
    for (int i = 0; i < 3; i++)
        hears(k.bus, IKV_KIND_KEY_UP, nobody, hear, NULL);
    for (int i = 1; i <= 2; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
        e.target = _i == 0 ? ikv_bus_root(k.bus) : nobody;
        ikv_outcome outcome = ikv_bus_deliver(k.bus, &e);
        ck_assert_uint_eq(outcome.heard, i == 1 ? 2 : 1);
        ck_assert_uint_eq(outcome.verdict, i == 1 ? IKV_ACCEPT : 0);
        ck_assert_int_eq(dropped, 1);
    }
    kit_close(&k);
}
END_TEST

static ikv_verdict count_rising(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)event, (void)d;
    ck_assert_int_eq(heard_count, (int)(intptr_t)user);
    heard_count++;
    return IKV_CONTINUE;
}

/* More than are counted as late at once. */
START_TEST(very_many_late)
{
    const int many = 70000;
    kit_prepare(&k);
    k.config.bus.subscriptions = k.config.bus.entries = (uint32_t)many;
    kit_open(&k);
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.handler = count_rising;
    for (int i = many; i-- > 0;) {
        config.rank = i;
        config.user = (void *)(intptr_t)i;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    }
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 1);
    heard_count = 0;
    ok(ikv_bus_deliver(k.bus, &e).status);
    ck_assert_int_eq(heard_count, many);
    kit_close(&k);
}
END_TEST

static void subscribe_two(void *user)
{
    if (--*(int *)user >= 0)
        subscribe_ranks(2, 7, -20);
}

/* All of a kind end while they are not sorted yet, and who is told subscribes
 * anew, to a run that is full of what has ended. */
START_TEST(late_and_ended)
{
    int rounds = 1 + _i;
    kit_prepare(&k);
    kit_open(&k);
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.on_drop = subscribe_two;
    config.user = &rounds;
    for (config.rank = 0; config.rank > -16; config.rank--)
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ok(ikv_bus_unsubscribe_kind(k.bus, IKV_KIND_WHEEL));
    heard_in_order(2 + 2 * _i);
    subscribe_ranks(20, 5, -1);
    heard_in_order(22 + 2 * _i);
    rounds = 0;
    kit_close(&k);
}
END_TEST

/* What is not delivered says nothing but why. */
START_TEST(refused_outcomes)
{
    open_bus();
    ikv_event e = ikv_event_make(4000, 0);
    const ikv_outcome outcomes[] = {ikv_bus_deliver(k.bus, &e),
                                    ikv_bus_deliver(k.bus, NULL),
                                    ikv_bus_deliver(NULL, &e)};
    for (int i = 0; i < ROWS(outcomes); i++) {
        ck_assert_int_lt(outcomes[i].status, 0);
        ck_assert_uint_eq(outcomes[i].heard, 0);
        ck_assert_uint_eq(outcomes[i].verdict, 0);
        ck_assert_uint_eq(outcomes[i].reserved, 0);
    }
    kit_close(&k);
}
END_TEST

/* 43: a list with a count of 0, a count without a list: each has its words. */
START_TEST(lists_and_counts)
{
    static const char *const says[] = {
        "a list of conditions is given, but its count is 0",
        "a count of conditions is given, but no list",
        "groups is given, but group_count is 0",
        "group_count is given, but no groups", "group_count is more than 7"};
    open_bus();
    ikv_message message;
    ikv_condition condition = {"seat", IKV_EQUAL, WHOLE(1), false};
    ikv_condition_group group = {0, 1, &condition, false};
    ikv_subscription_config config = wants(IKV_KIND_KEY_DOWN);
    config.conditions = _i == 0 ? &condition : NULL;
    config.condition_count = _i == 1;
    config.groups = _i == 2 || _i == 4 ? &group : NULL;
    config.group_count = _i == 3 ? 1 : _i == 4 ? 8 : 0;
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, &message),
              IKV_BAD_ARGUMENT);
    ck_assert_msg(strncmp(message.text, says[_i], strlen(says[_i])) == 0, "%s",
                  message.text);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------ 21 the root --
 */

/* At the root is everywhere: what is subscribed with it hears as much as what
 * names nothing. */
START_TEST(at_the_root)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_ENTER, IKV_KIND_KEY_DOWN,
                                     IKV_KIND_WINDOW_SHOW,
                                     IKV_KIND_OVERLAP_ENTER};
    open_bus();
    ikv_target lamp = rect_target(k.scene, (ikv_target){0}, 0, 0, 10, 10, 0);
    ikv_target root = ikv_bus_root(k.bus), both[] = {lamp, root};
    ikv_subscription_config config = wants(kinds[_i]);
    config.user = "nothing";
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    config.user = "root";
    config.at = root;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    config.user = "list";
    config.at = (ikv_target){0};
    config.at_list = &both[1];
    config.at_count = 1;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    deliver_at(kinds[_i], lamp, 1);
    deliver_at(kinds[_i], root, 2);
    deliver_at(kinds[_i], (ikv_target){0}, 3);
    ck_assert_str_eq(seen.text, "nothing1 root1 list1 nothing2 root2 list2 "
                                "nothing3 root3 list3 ");
    kit_close(&k);
}
END_TEST

/* --------------------------------------------------------- 22 lanes' limits --
 */

static ikv_status flushed;

static ikv_verdict flush_deeply(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)user;
    if (ikv_bus_deliver(d->bus, event).status == IKV_TOO_DEEP)
        flushed = ikv_bus_flush(d->bus, IKV_STEP_LANE, NULL);
    return IKV_CONTINUE;
}

/* A flush at the depth limit takes nothing. */
START_TEST(flush_too_deep)
{
    open_bus();
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, hear, NULL);
    hears(k.bus, IKV_KIND_WHEEL, (ikv_target){0}, flush_deeply, NULL);
    for (uint64_t i = 1; i < 4; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, i);
        ok(ikv_bus_defer(k.bus, IKV_STEP_LANE, &e));
    }
    deliver_at(IKV_KIND_WHEEL, (ikv_target){0}, 0);
    status_is(flushed, IKV_TOO_DEEP);
    ck_assert_uint_eq(ikv_bus_lane_waiting(k.bus, IKV_STEP_LANE), 3);
    ck_assert_int_eq(k.reports, 1);
    ok(ikv_bus_flush(k.bus, IKV_STEP_LANE, NULL));
    ck_assert_str_eq(seen.text, "1 2 3 ");
    kit_close(&k);
}
END_TEST

static bool endless;

static ikv_target deep_parent(void *user, ikv_target target)
{
    (void)user;
    return endless ? target : (ikv_target){0};
}

/* With a path that is too deep, it and what is behind it stay. */
START_TEST(flush_of_a_deep_path)
{
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    ikv_target lamp;
    uint32_t count;
    open_bus();
    callbacks.parent = deep_parent;
    ok(ikv_bus_set_callbacks(k.bus, &callbacks));
    ok(ikv_bus_add_target(k.bus, 1, &lamp));
    hears(k.bus, IKV_KIND_KEY_DOWN, (ikv_target){0}, hear, NULL);
    for (uint64_t i = 1; i < 5; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, i);
        e.target = i == 2 ? lamp : (ikv_target){0};
        ok(ikv_bus_defer_data(k.bus, IKV_STEP_LANE, &e, "wave", 5));
    }
    endless = true;
    status_is(ikv_bus_flush(k.bus, IKV_STEP_LANE, &count), IKV_FULL_DEPTH);
    ck_assert_uint_eq(count, 1);
    status_is(ikv_bus_flush(k.bus, IKV_STEP_LANE, &count), IKV_FULL_DEPTH);
    ck_assert_uint_eq(ikv_bus_lane_waiting(k.bus, IKV_STEP_LANE), 3);
    valid(ikv_bus_validate(k.bus));
    endless = false;
    ok(ikv_bus_flush(k.bus, IKV_STEP_LANE, &count));
    ck_assert_str_eq(seen.text, "1 2 3 4 ");
    ck_assert_uint_eq(bus_counts(k.bus).payloads, 0);
    kit_close(&k);
}
END_TEST

/* --------------------------------------------- 23 what ends while it runs --
 */

static ikv_subscription own;
static ikv_owner owner;
static ikv_target own_target;
static int running;
static void *dropped_user;

static void on_drop(void *user)
{
    ck_assert_int_eq(running, 0);
    dropped++;
    dropped_user = user;
}

static ikv_verdict end_itself(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    int how = *(const int *)user;
    if (running++ == 0 && how != 0) {
        if (how == 1)
            ok(ikv_bus_unsubscribe(d->bus, d->subscription));
        else if (how == 2)
            ok(ikv_scene_remove(k.scene, own_target));
        else if (how == 3)
            ok(ikv_bus_drop_owner(d->bus, owner));
        else if (how == 4)
            ok(ikv_bus_deliver(d->bus, event).status); /* its last call */
        else if (how == 5)
            ok(ikv_bus_unsubscribe_kind(d->bus, event->kind));
        ck_assert(how == 4 || !ikv_bus_subscribed(d->bus, own));
        ck_assert_str_eq(how == 4 ? "" : ikv_bus_subscription_name(k.bus, own),
                         "");
        status_is(ikv_bus_deliver(d->bus, event).status,
                  how == 2 ? IKV_STALE : IKV_OK);
    }
    running--;
    return IKV_CONTINUE;
}

START_TEST(ended_while_running)
{
    open_bus();
    running = dropped = 0;
    int how = _i;
    own_target = rect_target(k.scene, (ikv_target){0}, 0, 0, 10, 10, 0);
    ok(ikv_bus_add_owner(k.bus, &owner));
    ikv_subscription_config config = wants(IKV_KIND_WINDOW_SHOW);
    config.at = own_target;
    config.owner = owner;
    config.name = "light";
    config.handler = end_itself;
    config.user = &how;
    config.on_drop = on_drop;
    config.limit = _i == 4 ? 2 : 0;
    ok(ikv_bus_subscribe(k.bus, &config, &own, NULL));
    ikv_event e = ikv_event_make(IKV_KIND_WINDOW_SHOW, 1);
    e.target = own_target;
    ikv_bus_deliver(k.bus, &e);
    ck_assert_int_eq(dropped, _i != 0);
    ck_assert(_i == 0 || dropped_user == &how);
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, _i == 0);
    kit_close(&k);
    ck_assert_int_eq(dropped, 1);
}
END_TEST

static void close_again(void *user)
{
    status_is(ikv_kit_close(k.kit), IKV_BUSY);
    ++*(int *)user;
}

/* Who is told that all ends as the kit closes can't close it again. */
START_TEST(told_that_it_closes)
{
    open_bus();
    dropped = 0;
    ikv_subscription_config config = wants(IKV_KIND_WINDOW_SHOW);
    config.on_drop = close_again;
    config.user = &dropped;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    kit_close(&k);
    ck_assert_int_eq(dropped, 1);
}
END_TEST

/* Who is told that all ends with its target finds the target gone, at any of
 * those that are told. */
static void find_it_gone(void *user)
{
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.at = own_target;
    ck_assert(!ikv_bus_target_alive(k.bus, own_target));
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, NULL), IKV_STALE);
    status_is(ikv_bus_remove_target(k.bus, own_target), IKV_STALE);
    ++*(int *)user;
}

START_TEST(told_that_it_is_gone)
{
    open_bus();
    dropped = 0;
    ok(ikv_bus_add_target(k.bus, 7, &own_target));
    for (int i = 0; i < 3; i++) {
        ikv_subscription_config config = wants(IKV_KIND_WINDOW_SHOW);
        config.at = own_target;
        config.on_drop = find_it_gone;
        config.user = &dropped;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    }
    ok(ikv_bus_remove_target(k.bus, own_target));
    ck_assert_int_eq(dropped, 3);
    kit_close(&k);
}
END_TEST

/* One that ends itself and subscribes anew, with no place to spare. */
static ikv_verdict begin_anew(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    (void)event;
    ok(ikv_bus_unsubscribe(d->bus, d->subscription));
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.handler = begin_anew;
    config.on_drop = on_drop;
    config.user = user;
    return ikv_bus_subscribe(d->bus, &config, NULL, NULL) == IKV_OK
               ? IKV_CONTINUE
               : IKV_REFUSE;
}

START_TEST(room_of_what_has_ended)
{
    open_bus();
    running = dropped = 0;
    for (int i = 0; i < 15; i++) {
        ikv_subscription_config config = wants(IKV_KIND_WHEEL);
        config.handler = begin_anew;
        config.on_drop = on_drop;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    }
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 1);
    ikv_outcome outcome = ikv_bus_deliver(k.bus, &e);
    ck_assert_uint_eq(outcome.heard, 15);
    ck_assert_uint_eq(outcome.verdict, 0);
    ck_assert_int_eq(dropped, 15);
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, 15);
    valid(ikv_bus_validate(k.bus));
    kit_close(&k);
}
END_TEST

/* on_drop gets the user that was subscribed, after a rebind too; a mailbox's
 * user too. A name that is rebound leaves mailboxes alone. */
/* ------------------------------------------------------ how large it may be -- */

/* Each capacity may be as large as that, and no larger; more would not be told
 * apart from what is stored of it. */
#define AT(module, member)                                                     \
    offsetof(ikv_##module##_config, member),                                   \
        sizeof(((ikv_##module##_config *)0)->member)

static size_t large_bus(const void *c)
{
    return ikv_bus_footprint(c);
}

static size_t large_scene(const void *c)
{
    return ikv_scene_footprint(c);
}

static size_t large_overlaps(const void *c)
{
    return ikv_overlaps_footprint(c);
}

static size_t large_actions(const void *c)
{
    return ikv_actions_footprint(c);
}

static size_t large_catalogue(const void *c)
{
    return ikv_catalogue_footprint(c);
}

static size_t large_queue(const void *c)
{
    return ikv_queue_footprint(c);
}

static size_t large_loop(const void *c)
{
    return ikv_loop_footprint(c);
}

static const struct {
    size_t (*footprint)(const void *config);
    size_t at, size;
    uint64_t most;
} largest[] = {
    {large_bus, AT(bus, subscriptions), 0xffffff},
    {large_bus, AT(bus, entries), 0xffffff},
    {large_bus, AT(bus, targets), 0xffffff},
    {large_bus, AT(bus, owners), 0xffffff},
    {large_bus, AT(bus, deferred), 0xffffff},
    {large_bus, AT(bus, conditions), 0xffffff},
    {large_bus, AT(bus, gates), 0xffffff},
    {large_bus, AT(bus, timers), 0xffffff},
    {large_bus, AT(bus, inbox), 0xffffff},
    {large_bus, AT(bus, payloads), 0xffffff},
    {large_bus, AT(bus, payload_bytes), 0xffffff},
    {large_bus, AT(bus, mailboxes), UINT16_MAX},
    {large_bus, AT(bus, mailbox_events), 0xffffff},
    {large_bus, AT(bus, user_lanes), UINT16_MAX - 2},
    {large_bus, AT(bus, name_bytes), 1u << 30},
    {large_bus, AT(bus, depth), 1024},
    {large_bus, AT(bus, kept), 0xffffff},
    {large_bus, AT(bus, rebindings), 0xffffff},
    {large_scene, AT(scene, targets), 0xffffff},
    {large_scene, AT(scene, layers), 32},
    {large_scene, AT(scene, views), 16},
    {large_scene, AT(scene, polygons), 1u << 24},
    {large_overlaps, AT(overlaps, targets), 0xffffff},
    {large_overlaps, AT(overlaps, pairs), 1u << 28},
    {large_overlaps, AT(overlaps, contacts), 1u << 28},
    {large_actions, AT(actions, sets), UINT16_MAX - 1},
    {large_actions, AT(actions, actions), 1u << 20},
    {large_actions, AT(actions, bindings), UINT16_MAX},
    {large_actions, AT(actions, seats), 8},
    {large_actions, AT(actions, name_bytes), 1u << 30},
    {large_catalogue, AT(catalogue, user_kinds), 4096 - IKV_KIND_USER},
    {large_catalogue, AT(catalogue, user_fields), 1u << 16},
    {large_catalogue, AT(catalogue, text_bytes), 1u << 30},
    {large_queue, AT(queue, capacity), 1u << 24},
    {large_queue, AT(queue, own_capacity), 1u << 24},
    {large_loop, AT(loop, step_num), (1u << 30) - 1},
    {large_loop, AT(loop, frame_hz), 1000000},
    {large_loop, AT(loop, pending), 1u << 24},
    {large_loop, AT(loop, samples), UINT16_MAX},
    {large_loop, AT(loop, held), 64},
    {large_loop, AT(loop, devices), 1024},
    {large_loop, AT(loop, spin_ns), 1000000000},
};

START_TEST(how_large)
{
    union {
        ikv_bus_config bus;
        ikv_scene_config scene;
        ikv_overlaps_config overlaps;
        ikv_actions_config actions;
        ikv_catalogue_config catalogue;
        ikv_queue_config queue;
        ikv_loop_config loop;
    } c;
    ikv_port port = ikv_null_port();
    size_t (*footprint)(const void *config) = largest[_i].footprint;
    for (uint64_t more = 0; more < 2; more++) {
        if (footprint == large_bus)
            c.bus = (ikv_bus_config)IKV_BUS_INIT;
        else if (footprint == large_scene)
            c.scene = (ikv_scene_config)IKV_SCENE_INIT;
        else if (footprint == large_overlaps)
            c.overlaps = (ikv_overlaps_config)IKV_OVERLAPS_INIT;
        else if (footprint == large_actions)
            c.actions = (ikv_actions_config)IKV_ACTIONS_INIT;
        else if (footprint == large_catalogue)
            c.catalogue = (ikv_catalogue_config)IKV_CATALOGUE_INIT;
        else if (footprint == large_queue)
            c.queue = (ikv_queue_config)IKV_QUEUE_INIT;
        else
            c.loop = (ikv_loop_config){
                .size = sizeof c.loop, .ports = &port, .port_count = 1};
        /* steps of a length that can be */
        if (footprint == large_loop &&
            largest[_i].at == offsetof(ikv_loop_config, step_num))
            c.loop.step_den = 1u << 19;
        /* little end first, or the number's own bytes */
        uint64_t wide = largest[_i].most + more;
        uint32_t narrow = (uint32_t)wide;
        uint16_t small = (uint16_t)wide;
        memcpy((char *)&c + largest[_i].at,
               largest[_i].size == 8   ? (const void *)&wide
               : largest[_i].size == 4 ? (const void *)&narrow
                                       : (const void *)&small,
               largest[_i].size);
        ck_assert_msg((footprint(&c) > 0) == (more == 0), "row %d, %llu", _i,
                      (unsigned long long)wide);
    }
}
END_TEST

START_TEST(user_of_old)
{
    int mine = 0, other = 0;
    open_bus();
    running = dropped = 0;
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.name = "horn";
    config.user = &mine;
    config.on_drop = on_drop;
    ikv_mailbox box = 0;
    if (_i == 1) {
        ok(ikv_bus_add_mailbox(k.bus, &box));
        config.handler = NULL;
        config.mailbox = box;
    }
    ok(ikv_bus_subscribe(k.bus, &config, &own, NULL));
    status_is(ikv_bus_rebind(k.bus, "horn", hear, &other),
              _i == 1 ? IKV_ABSENT : IKV_OK);
    deliver_at(IKV_KIND_WHEEL, (ikv_target){0}, 1);
    ikv_event e;
    status_is(_i == 1 ? ikv_bus_read(k.bus, box, &e) : IKV_OK, IKV_OK);
    ok(ikv_bus_unsubscribe(k.bus, own));
    ck_assert_ptr_eq(dropped_user, &mine);
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------ 24 far jumps --
 */

/* Timers where time jumps far: bounded, in order, and over with their target.
 */
START_TEST(far_jumps)
{
    static const struct {
        uint64_t period, to;
        bool merge;
        uint32_t waiting;
    } rows[] = {{1, 1000000000000000000ull, false, 32},
                {1, 1000000000000000000ull, true, 1},
                {1, UINT64_MAX, false, 32},
                {7, UINT64_MAX, true, 1},
                {UINT64_MAX / 2, UINT64_MAX, false, 2},
                {1000, 5500, false, 5}};
    open_bus();
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 0);
    ok(ikv_bus_defer_every(k.bus, IKV_STEP_LANE, rows[_i].period,
                           rows[_i].merge, &e, NULL));
    ok(ikv_bus_advance(k.bus, rows[_i].to));
    ck_assert_uint_eq(ikv_bus_lane_waiting(k.bus, IKV_STEP_LANE),
                      rows[_i].waiting);
    ok(ikv_bus_advance(k.bus, rows[_i].to));
    ck_assert_int_le(k.reports, 1);
    valid(ikv_bus_validate(k.bus));
    kit_close(&k);
}
END_TEST

START_TEST(timer_of_the_removed)
{
    open_bus();
    ikv_timer timer;
    ikv_target lamp = rect_target(k.scene, (ikv_target){0}, 0, 0, 1, 1, 0);
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 0);
    e.target = lamp;
    ok(ikv_bus_defer_every(k.bus, IKV_STEP_LANE, 10, false, &e, &timer));
    ok(ikv_bus_advance(k.bus, 25));
    ok(ikv_scene_remove(k.scene, lamp));
    ok(ikv_bus_advance(k.bus, 100));
    ck_assert_uint_eq(ikv_bus_lane_waiting(k.bus, IKV_STEP_LANE), 2);
    ck_assert_uint_eq(bus_counts(k.bus).timers, 0);
    status_is(ikv_bus_cancel_timer(k.bus, timer), IKV_ABSENT);
    kit_close(&k);
}
END_TEST

/* Names that nobody ever had use up no place of those that are rebound. */
/* 401 times there is no payload left for what a timer sends: said once. */
START_TEST(timer_without_payload)
{
    kit_prepare(&k);
    k.config.bus.payloads = 1;
    k.config.bus.payload_bytes = 16;
    kit_open(&k);
    ikv_event e = ikv_event_make(IKV_KIND_FIELD_SET, 1);
    ikv_timer timer;
    ok(ikv_bus_defer_every(k.bus, IKV_FRAME_LANE, 1000000, false, &e, &timer));
    ok(ikv_bus_set_timer_data(k.bus, timer, "full", 4));
    k.reports = 0;
    for (uint64_t ms = 1; ms <= 401; ms++)
        ikv_bus_advance(k.bus, ms * 1000000);
    ck_assert_int_eq(k.reports, 1);
    ck_assert_ptr_nonnull(strstr(k.report, "bus.payloads"));
    ck_assert_uint_ge(bus_counts(k.bus).defer_refused, 401);
    kit_close(&k);
}
END_TEST

START_TEST(rebind_of_the_absent)
{
    open_bus();
    for (int i = 0; i < 200; i++) {
        char name[16];
        snprintf(name, sizeof name, "gull%d", i);
        status_is(ikv_bus_rebind(k.bus, name, hear, NULL), IKV_ABSENT);
    }
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.name = "horn";
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ok(ikv_bus_rebind(k.bus, "horn", hear, "new"));
    deliver_at(IKV_KIND_WHEEL, (ikv_target){0}, 1);
    ck_assert_str_eq(seen.text, "new1 ");
    kit_close(&k);
}
END_TEST

/* D1: each level of nesting gets a whole delivery. */
static int deepest;

static ikv_verdict nest(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    int level = *(int *)user;
    ck_assert_ptr_eq(d->bus, k.bus);
    ck_assert_uint_eq(d->size, sizeof *d);
    ck_assert_uint_ne(d->subscription.bits, 0);
    ck_assert_uint_eq(d->step, 5);
    deepest = level > deepest ? level : deepest;
    if (level == 6)
        return IKV_CONTINUE;
    ++*(int *)user;
    ikv_event next = ikv_event_make(event->kind, 1);
    ok(ikv_bus_deliver(k.bus, &next).status);
    --*(int *)user;
    return IKV_CONTINUE;
}

START_TEST(nested_deliveries)
{
    int level = 0;
    kit_prepare(&k);
    kit_open(&k);
    deepest = 0;
    ikv_bus_set_step(k.bus, 5);
    hears(k.bus, IKV_KIND_WHEEL, (ikv_target){0}, nest, &level);
    ikv_event e = ikv_event_make(IKV_KIND_WHEEL, 1);
    ok(ikv_bus_deliver(k.bus, &e).status);
    ck_assert_int_eq(deepest, 6);
    kit_close(&k);
}
END_TEST

/* So many names can be rebound; one more is said. */
START_TEST(rebound_names)
{
    const int room = _i == 0 ? 64 : 5;
    kit_prepare(&k);
    if (_i != 0)
        k.config.bus.rebindings = 5;
    k.config.bus.subscriptions = 72;
    kit_open(&k);
    seen.text[0] = '\0';
    for (int i = 0; i <= room; i++) {
        char name[16];
        snprintf(name, sizeof name, "gull%d", i);
        ikv_subscription_config config = wants(IKV_KIND_WHEEL);
        config.name = name;
        ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
        status_is(ikv_bus_rebind(k.bus, name, hear, "."),
                  i < room ? IKV_OK : IKV_FULL_NAMES);
        if (i > 0) /* again, where it is already */
            ok(ikv_bus_rebind(k.bus, "gull0", hear, "!"));
    }
    deliver_at(IKV_KIND_WHEEL, (ikv_target){0}, 1);
    ck_assert_uint_eq(strlen(seen.text), strlen(".1 ") * (size_t)room + 2);
    kit_close(&k);
}
END_TEST

/* A gap in events' time: an older event is within it. */
START_TEST(gap_and_older_events)
{
    open_bus();
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.gap_ns = 10;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    static const uint64_t times[] = {
        100, 50, 99, 105, 110, 3, 119, 120, UINT64_MAX - 1, 7};
    for (int i = 0; i < ROWS(times); i++)
        deliver_at(IKV_KIND_WHEEL, (ikv_target){0}, times[i]);
    ck_assert_str_eq(seen.text, "100 110 120 18446744073709551614 ");
    kit_close(&k);
}
END_TEST

/* What is subscribed at a body ends with it; a stale one is refused. */
START_TEST(body_that_is_gone)
{
    open_bus();
    running = dropped = 0;
    ikv_target_config t = IKV_TARGET_INIT;
    ikv_target ferry, mast;
    t.body = true;
    ok(ikv_scene_add(k.scene, &t, &ferry, NULL));
    t.body = false;
    t.parent = ferry;
    ok(ikv_scene_add(k.scene, &t, &mast, NULL));
    ikv_subscription_config config = wants(IKV_KIND_WHEEL);
    config.at_body = ferry;
    config.on_drop = on_drop;
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ok(ikv_bus_subscribe(k.bus, &config, &own, NULL));
    ok(ikv_bus_subscribe(k.bus, &config, NULL, NULL));
    ok(ikv_bus_unsubscribe(k.bus, own));
    deliver_at(IKV_KIND_WHEEL, mast, 1);
    ck_assert_str_eq(seen.text, "1 1 ");
    ok(ikv_scene_set_parent(k.scene, mast, (ikv_target){0}));
    ok(ikv_scene_remove(k.scene, ferry));
    ck_assert_int_eq(dropped, 3);
    ck_assert_uint_eq(bus_counts(k.bus).subscriptions, 0);
    status_is(ikv_bus_subscribe(k.bus, &config, NULL, NULL), IKV_STALE);
    kit_close(&k);
}
END_TEST

#ifdef IKV_DEBUG
static const ikv_event *kept_event, *kept_samples;
static const ikv_delivery *kept_delivery;

static ikv_verdict keep(const ikv_event *event, const ikv_delivery *d,
                        void *user)
{
    (void)user;
    kept_event = event;
    kept_delivery = d;
    kept_samples = d->samples;
    return IKV_CONTINUE;
}

/* Debug builds poison the event, the delivery and its samples. */
START_TEST(poisoned)
{
    open_bus();
    hears(k.bus, IKV_KIND_POINTER_MOVE, (ikv_target){0}, keep, NULL);
    kit_frame(&k, 0);
    for (int i = 0; i < 3; i++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, k.fake.now_ns);
        e.device = k.fake.device;
        ok(ikv_sink_push(k.fake.sink, &e));
    }
    kit_frame(&k, 20);
    const void *const kept[] = {kept_event, kept_delivery, kept_samples};
    for (int i = 0; i < 3; i++) {
        ck_assert_ptr_nonnull(kept[i]);
        ck_assert_uint_eq(((const uint8_t *)kept[i])[8], 0xdd);
    }
    kit_close(&k);
}
END_TEST
#endif

Suite *edge_bus_suite(void)
{
    Suite *s = suite_create("edge_bus");
    add_table(s, "20 conditions at their ends", conditions,
              ROWS(condition_table));
    add_table(s, "20 D7 every comparison", every_comparison, 7);
    add_table(s, "D8 D10 an outcome of its own", outcome_of_its_own, 2);
    add_table(s, "20 tags as numbers", tags_as_numbers, 3);
    add(s, "20 kinds registered later", later_kinds);
    add_table(s, "24 names to the last byte", names_to_the_last_byte, 10);
    add(s, "20 no room for names", names_full);
    add(s, "refused outcomes", refused_outcomes);
    add(s, "D7 a bool changed", bool_changed);
    add(s, "38 handles over a restore", handles_over_a_restore);
    add_table(s, "D4 ranks over a restore", ranks_over_a_restore, 4);
    add_table(s, "D4 D7 beside each other", beside_each_other,
              2 * ROWS(beside_table));
    add_table(s, "D4 late as others end", late_as_others_end, 2);
    add(s, "D4 very many late", very_many_late);
    add_table(s, "D4 D5 late and ended", late_and_ended, 8);
    add_table(s, "21 at the root", at_the_root, 4);
    add(s, "22 a flush too deep", flush_too_deep);
    add(s, "22 a flush of a deep path", flush_of_a_deep_path);
    add(s, "23 told that it closes", told_that_it_closes);
    add(s, "23 told that its target is gone", told_that_it_is_gone);
    add_table(s, "23 ended while running", ended_while_running, 6);
    add(s, "23 room of what has ended", room_of_what_has_ended);
    add_table(s, "23 42 the user of old", user_of_old, 2);
    add_table(s, "how large", how_large, ROWS(largest));
    add_table(s, "24 far jumps", far_jumps, 6);
    add(s, "24 a timer of the removed", timer_of_the_removed);
    add(s, "41 a timer without a payload", timer_without_payload);
    add(s, "24 rebind of the absent", rebind_of_the_absent);
    add_table(s, "D5 names that are rebound", rebound_names, 2);
    add(s, "D1 nested deliveries", nested_deliveries);
    add(s, "24 gaps and older events", gap_and_older_events);
    add(s, "24 a body that is gone", body_that_is_gone);
#ifdef IKV_DEBUG
    add(s, "24 poisoned", poisoned);
#endif
    add_table(s, "43 lists and counts", lists_and_counts, 5);
    return s;
}
