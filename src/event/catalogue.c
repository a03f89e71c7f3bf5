/* catalogue.c - the table of all kinds, fields and named values.
 *
 * catalogue-1  the built-in kinds stand in the order of their numbers, from 1
 * catalogue-2  user kind u has number IKV_KIND_USER + u; its fields lie in one
 *              run
 */
#include "catalogue_shared.h"
#include "hash.h"
#include "memory.h"
#include "names.h"
#include "report.h"
#include "text.h"
#include "texts.h"

/* E1: where each part lies is part of the interface. */
_Static_assert(sizeof(ikv_event) == 64, "E1: an event is 64 bytes");
_Static_assert(offsetof(ikv_event, stamp) == 0, "E1");
_Static_assert(offsetof(ikv_event, kind) == 4, "E1");
_Static_assert(offsetof(ikv_event, device) == 6, "E1");
_Static_assert(offsetof(ikv_event, time_ns) == 8, "E1");
_Static_assert(offsetof(ikv_event, target) == 16, "E1");
_Static_assert(offsetof(ikv_event, source) == 20, "E1");
_Static_assert(offsetof(ikv_event, modifiers) == 24, "E1");
_Static_assert(offsetof(ikv_event, flags) == 26, "E1");
_Static_assert(offsetof(ikv_event, view) == 28, "E1");
_Static_assert(offsetof(ikv_event, seat) == 29, "E1");
_Static_assert(offsetof(ikv_event, samples) == 30, "E1");
_Static_assert(offsetof(ikv_event, user) == 32, "E1");
_Static_assert(sizeof(ikv_pointer_data) == 32, "E1");
_Static_assert(sizeof(ikv_click_data) == 32, "E1");
_Static_assert(offsetof(ikv_click_data, x) == offsetof(ikv_pointer_data, x) &&
                   offsetof(ikv_click_data, clicks) ==
                       offsetof(ikv_pointer_data, twist) &&
                   offsetof(ikv_click_data, buttons) ==
                       offsetof(ikv_pointer_data, buttons),
               "E1: a click's members lie where the pointer's do");
_Static_assert(sizeof(ikv_text_data) == 32, "E1");
_Static_assert(sizeof(ikv_compose_data) == 32, "E1");
_Static_assert(offsetof(ikv_field_data, after) == 16, "E1");

enum {
    PAYLOAD = offsetof(ikv_event, user),
    PAYLOAD_BYTES = 32,
    FIELDS_OF_A_KIND = 16,
    NAME_LIMIT = 64
};

/* -------------------------------------------------------------- opening -- */

struct ikv_catalogue {
    ikv_memory memory;
    size_t size;
    uint32_t kind_capacity, kind_count;
    uint32_t field_capacity, field_count;
    ikvi_names names;
    size_t kinds, fields, identities;
};

static size_t lay_out(const ikv_catalogue_config *config,
                      const ikv_reporter *reporter, ikv_catalogue *c)
{
    if (config == NULL || config->size != sizeof *config)
        return 0;
    const ikvi_range ranges[] = {
        {"catalogue.user_kinds", config->user_kinds, 0,
         IKV_KIND_LIMIT - IKV_KIND_USER},
        {"catalogue.user_fields", config->user_fields, 0, 1u << 16},
        {"catalogue.text_bytes", config->text_bytes, 0, 1u << 30}};
    if (ikvi_check_ranges(reporter, "catalogue", ranges,
                          sizeof ranges / sizeof ranges[0]) < 0)
        return 0;
    c->kind_capacity = ikvi_or(config->user_kinds, 64);
    c->field_capacity = ikvi_or(config->user_fields, 4 * c->kind_capacity);
    /* A kind has three texts and a field three: 64 bytes is room for short
     * ones. */
    uint32_t text = ikvi_or(config->text_bytes,
                            64 * (c->kind_capacity + c->field_capacity));
    ikvi_layout layout = ikvi_layout_begin();
    ikvi_layout_add(&layout, 1, sizeof *c);
    c->kinds =
        ikvi_layout_add(&layout, c->kind_capacity, sizeof(ikv_kind_info));
    c->fields = ikvi_layout_add(&layout, c->field_capacity, sizeof(ikv_field));
    c->identities =
        ikvi_layout_add(&layout, c->kind_capacity, sizeof(uint64_t));
    ikvi_names_layout(&c->names, &layout, text);
    return ikvi_layout_size(&layout);
}

size_t ikv_catalogue_footprint(const ikv_catalogue_config *config)
{
    ikv_catalogue unused;
    return lay_out(config, &ikvi_silent, &unused);
}

ikv_status ikv_catalogue_open(const ikv_catalogue_config *config,
                              ikv_catalogue **catalogue)
{
    if (config == NULL || catalogue == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    ikv_catalogue plan = {.memory = config->memory};
    plan.size = lay_out(config, &config->reporter, &plan);
    void *block;
    /* A config that can't be used has size 0, which is refused there. */
    ikv_status status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    *catalogue = block;
    **catalogue = plan;
    return IKV_OK;
}

void ikv_catalogue_close(ikv_catalogue *catalogue)
{
    if (catalogue != NULL) {
        ikv_memory memory = catalogue->memory;
        ikvi_memory_give(&memory, catalogue, catalogue->size);
    }
}

/* --------------------------------------------------- kinds of one's own -- */

static const struct type_row {
    uint8_t size;
    bool is_signed, is_float;
} type_rows[IKV_TYPE_COUNT] = {
    [IKV_TYPE_U8] = {1, false, false},   [IKV_TYPE_I8] = {1, true, false},
    [IKV_TYPE_U16] = {2, false, false},  [IKV_TYPE_I16] = {2, true, false},
    [IKV_TYPE_U32] = {4, false, false},  [IKV_TYPE_I32] = {4, true, false},
    [IKV_TYPE_U64] = {8, false, false},  [IKV_TYPE_I64] = {8, true, false},
    [IKV_TYPE_F32] = {4, true, true},    [IKV_TYPE_F64] = {8, true, true},
    [IKV_TYPE_BOOL] = {1, false, false}, [IKV_TYPE_TARGET] = {4, false, false},
};

static bool name_is_good(const char *name)
{
    size_t length = 0;
    if (name == NULL || name[0] == '\0')
        return false;
    for (; name[length] != '\0'; length++) {
        char c = name[length];
        /* Names are keys of JSON and words of commands: nothing that must be
         * escaped. */
        bool good = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') ||
                    (c >= '0' && c <= '9') || c == '_' || c == '.';
        if (!good || length + 1 >= NAME_LIMIT)
            return false;
    }
    return true;
}

/* Members of traces and tapes that no field may be named after. */
static bool name_is_reserved(const char *name)
{
    static const char *const reserved[] = {
        "n",      "step",   "t",       "due",     "kind",        "at",
        "target", "source", "phase",   "handler", "verdict",     "between",
        "lane",   "within", "held",    "lost",    "digest",      "play",
        "data",   "base64", "end",     "note",    "event",       "gone",
        "passed", "mirror", "dropped", "clock",   "source_gone", "cause",
        "path"};
    for (size_t i = 0; i < sizeof reserved / sizeof reserved[0]; i++)
        if (ikvi_same(reserved[i], name))
            return true;
    for (size_t i = 0; i < IKVI_HEADER_FIELDS; i++)
        if (ikvi_same(ikvi_header_fields[i].name, name))
            return true;
    return false;
}

/* A message names the kind and the field: configs are tables, and the fault is
 * in one row. */
static ikv_status check_field(const ikv_kind_config *config, uint32_t at,
                              ikv_message *message)
{
    const ikv_field *field = &config->fields[at];
    const char *kind = config->name, *name = field->name;
    if (!name_is_good(name)) {
        ikvi_message(
            message,
            (const char *[]){
                "kind \"", kind,
                "\": a field's name must be made of letters, digits and '_'",
                NULL});
        return IKV_BAD_ARGUMENT;
    }
    bool twice = name_is_reserved(name);
    for (uint32_t i = 0; i < at; i++)
        twice = twice || ikvi_same(config->fields[i].name, name);
    if (twice) {
        ikvi_message(
            message,
            (const char *[]){
                "kind \"", kind, "\": field \"", name,
                "\" is taken: every event has one, or it is listed twice",
                NULL});
        return IKV_DUPLICATE;
    }
    /* Texts and values of any type are the built-in kinds' alone: their size is
     * 0 here. */
    uint32_t size =
        field->type < IKV_TYPE_COUNT ? type_rows[field->type].size : 0;
    if (size == 0 || field->offset % size != 0 ||
        field->offset + size > PAYLOAD_BYTES) {
        ikvi_message(
            message,
            (const char *[]){
                "kind \"", kind, "\": field \"", name,
                "\" must have the type of a number, bool or target and lie ",
                "within 32 bytes, at a multiple of its size", NULL});
        return IKV_BAD_VALUE;
    }
    /* What people see of a scaled one is a double: it has room for 32 bits. */
    bool whole = field->type <= IKV_TYPE_I64 && size <= 4;
    bool named = whole && !type_rows[field->type].is_signed &&
                 field->set <= IKV_SET_FIELD;
    if ((field->scale > 1 && !whole) ||
        (field->set != IKV_SET_NONE && !named)) {
        ikvi_message(
            message,
            (const char *[]){
                "kind \"", kind, "\": field \"", name,
                "\": only whole numbers of at most 32 bits have a scale, ",
                "and only such from 0 a set of the list", NULL});
        return IKV_BAD_VALUE;
    }
    return IKV_OK;
}

static ikv_status check_kind(const ikv_catalogue *c,
                             const ikv_kind_config *config,
                             ikv_message *message)
{
    if (!name_is_good(config->name)) {
        ikvi_message(
            message,
            (const char *[]){
                "a kind's name must be made of "
                "letters, digits, '_' and '.', below 64 bytes, found \"",
                config->name != NULL ? config->name : "", "\"", NULL});
        return IKV_BAD_ARGUMENT;
    }
    if (ikv_catalogue_find(c, config->name) != IKV_KIND_NONE) {
        ikvi_message(message, (const char *[]){"kind \"", config->name,
                                               "\" exists already", NULL});
        return IKV_DUPLICATE;
    }
    if (config->field_count > FIELDS_OF_A_KIND ||
        (config->field_count > 0 && config->fields == NULL) ||
        config->queue_class > IKV_QUEUE_OTHER) {
        ikvi_message(message,
                     (const char *[]){
                         "kind \"", config->name,
                         "\": at most 16 fields, and a queue class of the list",
                         NULL});
        return IKV_BAD_ARGUMENT;
    }
    for (uint32_t i = 0; i < config->field_count; i++) {
        ikv_status status = check_field(config, i, message);
        if (status < 0)
            return status;
    }
    /* Room is asked for last: a config that is wrong is told so even when
     * full. */
    if (c->kind_count == c->kind_capacity)
        return IKV_FULL_KINDS;
    if (c->field_capacity - c->field_count < config->field_count)
        return IKV_FULL_FIELDS;
    return IKV_OK;
}

/* Keeps a string; sets *full if it did not fit. */
static const char *keep(ikv_catalogue *c, const char *text, bool *full)
{
    uint32_t at = ikvi_names_keep(&c->names, c, text);
    if (at == 0 && text != NULL && text[0] != '\0')
        *full = true;
    return ikvi_names_text(&c->names, c, at);
}

/* A hash of the kinds so far and of this one. */
static uint64_t identity_with(const ikv_catalogue *c, const ikv_kind_info *info)
{
    uint64_t hash = ikvi_catalogue_identity(c, c->kind_count);
    const uint32_t numbers[] = {info->kind, info->from, info->queue_class,
                                info->bubbles, info->outlives_target};
    hash = ikvi_hash_text(ikvi_hash(hash, numbers, sizeof numbers), info->name);
    for (uint32_t i = 0; i < info->field_count; i++) {
        const uint32_t field[] = {info->fields[i].type, info->fields[i].offset};
        hash = ikvi_hash_text(ikvi_hash(hash, field, sizeof field),
                              info->fields[i].name);
    }
    return hash;
}

/* E2: kinds of one's own, after the built-in table. */
ikv_status ikv_catalogue_register(ikv_catalogue *catalogue,
                                  const ikv_kind_config *config, ikv_kind *kind,
                                  ikv_message *message)
{
    if (catalogue == NULL || config == NULL || kind == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    ikv_catalogue *c = catalogue;
    ikv_status status = check_kind(c, config, message);
    bool full = false;
    /* Written behind those in use: they count only once all has been kept. */
    ikv_field *fields = (ikv_field *)ikvi_at(c, c->fields) + c->field_count;
    for (uint32_t i = 0; status == IKV_OK && i < config->field_count; i++) {
        fields[i] = config->fields[i];
        /* Configs count from the payload's begin, the table from the
         * event's. */
        fields[i].offset = (uint16_t)(fields[i].offset + PAYLOAD);
        fields[i].name = keep(c, config->fields[i].name, &full);
        fields[i].unit = keep(c, config->fields[i].unit, &full);
        fields[i].meaning = keep(c, config->fields[i].meaning, &full);
        fields[i].scale = ikvi_or(fields[i].scale, 1);
    }
    ikv_kind_info info = {
        .fields = fields,
        .field_count = config->field_count,
        .kind = (ikv_kind)(IKV_KIND_USER + c->kind_count),
        .family = IKV_FAMILY_USER,
        .from = IKV_FROM_U | (config->pushable ? IKV_FROM_P : 0),
        .queue_class = config->pushable && config->queue_class == 0
                           ? IKV_QUEUE_OTHER
                           : config->queue_class,
        .bubbles = config->bubbles,
        .outlives_target = config->outlives_target,
    };
    if (status == IKV_OK) {
        info.name = keep(c, config->name, &full);
        info.when = keep(c, config->when, &full);
        info.words = keep(c, config->words, &full);
        status = full ? IKV_FULL_NAMES : IKV_OK;
    }
    if (status < 0) {
        /* What is full has no message yet; what is wrong has. */
        if (status <= IKV_FULL_QUEUE)
            ikvi_message(message, (const char *[]){
                                      "kind \"", config->name,
                                      "\": ", ikv_status_text(status), NULL});
        return status;
    }
    ((uint64_t *)ikvi_at(c, c->identities))[c->kind_count] =
        identity_with(c, &info);
    ((ikv_kind_info *)ikvi_at(c, c->kinds))[c->kind_count++] = info;
    c->field_count += config->field_count;
    *kind = info.kind;
    return ikvi_fine(message);
}

/* -------------------------------------------------------------- reading -- */

/* Of user kinds only: the others are the program's own. */
uint64_t ikvi_catalogue_identity(const ikv_catalogue *catalogue, uint32_t kinds)
{
    return catalogue == NULL || kinds == 0
               ? 0
               : ((const uint64_t *)((const char *)catalogue +
                                     catalogue->identities))[kinds - 1];
}

uint32_t ikvi_catalogue_user_kinds(const ikv_catalogue *catalogue)
{
    return catalogue != NULL ? catalogue->kind_count : 0;
}

const ikv_kind_info *ikv_catalogue_info(const ikv_catalogue *catalogue,
                                        ikv_kind kind)
{
    if (kind >= 1 && kind <= IKVI_BUILT_IN_KINDS)
        return &ikvi_built_in_kinds[kind - 1];
    if (catalogue == NULL || kind < IKV_KIND_USER ||
        kind - IKV_KIND_USER >= (int)catalogue->kind_count)
        return NULL;
    return (const ikv_kind_info *)((const char *)catalogue + catalogue->kinds) +
           (kind - IKV_KIND_USER);
}

ikv_kind ikv_catalogue_next(const ikv_catalogue *catalogue, ikv_kind kind)
{
    uint32_t next = kind + 1u;
    /* Between the built-in kinds and those of one's own there is a gap. */
    if (next > IKVI_BUILT_IN_KINDS && next < IKV_KIND_USER)
        next = IKV_KIND_USER;
    return ikv_catalogue_info(catalogue, (ikv_kind)next) != NULL
               ? (ikv_kind)next
               : IKV_KIND_NONE;
}

ikv_kind ikv_catalogue_find(const ikv_catalogue *catalogue, const char *name)
{
    /* Without texts no kind has a name. */
    if (name == NULL || name[0] == '\0')
        return IKV_KIND_NONE;
    ikv_kind kind = ikv_catalogue_next(catalogue, IKV_KIND_NONE);
    while (kind != IKV_KIND_NONE &&
           !ikvi_same(ikv_catalogue_info(catalogue, kind)->name, name))
        kind = ikv_catalogue_next(catalogue, kind);
    return kind;
}

const char *ikv_family_name(uint32_t family)
{
    return family < IKV_FAMILY_COUNT ? ikvi_family_rows[family].name : NULL;
}

const char *ikv_family_meaning(uint32_t family)
{
    return family < IKV_FAMILY_COUNT ? ikvi_family_rows[family].meaning : NULL;
}

const char *ikv_family_order(uint32_t family)
{
    return family < IKV_FAMILY_COUNT ? ikvi_family_rows[family].order : NULL;
}

uint32_t ikv_family_find(const char *name)
{
    uint32_t family = 0;
    while (family < IKV_FAMILY_COUNT &&
           (name == NULL || !ikvi_same(ikvi_family_rows[family].name, name)))
        family++;
    return family;
}

const ikv_field *ikv_field_find(const ikv_kind_info *info, const char *name)
{
    if (name == NULL)
        return NULL;
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++)
        if (ikvi_same(info->fields[i].name, name))
            return &info->fields[i];
    /* No kind has a field of such a name: which list comes first is all the
     * same. */
    for (uint32_t i = 0; i < IKVI_HEADER_FIELDS; i++)
        if (ikvi_same(ikvi_header_fields[i].name, name))
            return &ikvi_header_fields[i];
    return NULL;
}

const ikv_field *ikv_field_header(uint32_t index)
{
    return index < IKVI_HEADER_FIELDS ? &ikvi_header_fields[index] : NULL;
}

const char *ikv_value_name(uint32_t set, uint64_t value)
{
    for (size_t i = 0; i < IKVI_VALUE_ROWS; i++)
        if (ikvi_value_rows[i].set == set && ikvi_value_rows[i].value == value)
            return ikvi_value_rows[i].name;
    return NULL;
}

bool ikv_value_find(uint32_t set, const char *name, uint64_t *value)
{
    /* Few rows, read when files are loaded or a log is written: a list will
     * do. */
    for (size_t i = 0; name != NULL && i < IKVI_VALUE_ROWS; i++) {
        if (ikvi_value_rows[i].set == set &&
            ikvi_same(ikvi_value_rows[i].name, name)) {
            if (value != NULL)
                *value = ikvi_value_rows[i].value;
            return true;
        }
    }
    return false;
}

const char *ikv_value_list(uint32_t set, uint32_t index, uint64_t *value)
{
    for (size_t i = 0; i < IKVI_VALUE_ROWS; i++) {
        if (ikvi_value_rows[i].set == set && index-- == 0) {
            if (value != NULL)
                *value = ikvi_value_rows[i].value;
            return ikvi_value_rows[i].name;
        }
    }
    return NULL;
}

/* --------------------------------------------------------- field values -- */

/* Through memcpy: a payload is bytes, and a field may lie where its type may
 * not be read. */
static int64_t get_integer(const char *at, struct type_row type)
{
    uint8_t u8;
    uint16_t u16;
    uint32_t u32;
    int64_t i64;
    switch (type.size) {
    case 1:
        memcpy(&u8, at, 1);
        return type.is_signed ? (int8_t)u8 : u8;
    case 2:
        memcpy(&u16, at, 2);
        return type.is_signed ? (int16_t)u16 : u16;
    case 4:
        memcpy(&u32, at, 4);
        return type.is_signed ? (int32_t)u32 : (int64_t)u32;
    default:
        memcpy(&i64, at, 8);
        return i64;
    }
}

static void put_integer(char *at, struct type_row type, int64_t value)
{
    uint8_t u8 = (uint8_t)value;
    uint16_t u16 = (uint16_t)value;
    uint32_t u32 = (uint32_t)value;
    switch (type.size) {
    case 1:
        memcpy(at, &u8, 1);
        break;
    case 2:
        memcpy(at, &u16, 2);
        break;
    case 4:
        memcpy(at, &u32, 4);
        break;
    default:
        memcpy(at, &value, 8);
        break;
    }
}

static double get_float(const char *at, struct type_row type)
{
    float f32;
    double f64;
    if (type.size == 4) {
        memcpy(&f32, at, 4);
        return f32;
    }
    memcpy(&f64, at, 8);
    return f64;
}

/* Whether it is one that a catalogue may hold. */
static bool field_is_usable(const ikv_field *field)
{
    return field != NULL && field->type < IKV_TYPE_COUNT &&
           field->offset < sizeof(ikv_event) &&
           type_rows[field->type].size <= sizeof(ikv_event) - field->offset;
}

/* Of what is narrower than its room the rest is 0. */
static ikv_value value_of(const char *at, uint32_t type)
{
    ikv_value value = {type, {0}};
    if (type == IKV_VALUE_BOOL)
        value.bits.boolean = *at != 0;
    else if (type == IKV_VALUE_TARGET)
        memcpy(&value.bits.target, at, sizeof value.bits.target);
    else if (type == IKV_VALUE_INTEGER || type == IKV_VALUE_NUMBER)
        memcpy(&value.bits, at, sizeof value.bits);
    return value;
}

/* One place that knows how each type lies in an event; conditions, files, logs
 * and digests all read through it. A scaled integer is told as people see it.
 * */
ikv_value ikv_field_get(const ikv_field *field, const ikv_event *event)
{
    ikv_value value = {IKV_VALUE_NONE, {0}};
    if (IKVI_UNLIKELY(!field_is_usable(field) || event == NULL))
        return value;
    const char *at = (const char *)event + field->offset;
    struct type_row type = type_rows[field->type];
    if (field->type == IKV_TYPE_VALUE) {
        value = value_of(at, event->field.type);
    } else if (field->type == IKV_TYPE_BOOL) {
        value.type = IKV_VALUE_BOOL;
        value.bits.boolean = *at != 0;
    } else if (field->type == IKV_TYPE_TARGET) {
        value.type = IKV_VALUE_TARGET;
        memcpy(&value.bits.target, at, sizeof value.bits.target);
    } else if (type.is_float) {
        value.type = IKV_VALUE_NUMBER;
        value.bits.number = get_float(at, type);
    } else if (field->scale > 1) {
        value.type = IKV_VALUE_NUMBER;
        value.bits.number = (double)get_integer(at, type) / field->scale;
    } else if (field->type != IKV_TYPE_TEXT) {
        value.type = IKV_VALUE_INTEGER;
        value.bits.integer = get_integer(at, type);
    }
    return value;
}

static bool fits(struct type_row type, int64_t value)
{
    if (type.size == 8)
        return type.is_signed || value >= 0;
    int64_t span = (int64_t)1 << (8 * type.size - (type.is_signed ? 1 : 0));
    return value < span && value >= (type.is_signed ? -span : 0);
}

/* The whole number nearest to a value; false if it is none that fits. A
 * number for a field without a scale must be whole. */
static bool to_integer(const ikv_field *field, ikv_value value, int64_t *to)
{
    double number = value.type == IKV_VALUE_INTEGER ? (double)value.bits.integer
                                                    : value.bits.number;
    if (value.type == IKV_VALUE_INTEGER && field->scale <= 1) {
        *to = value.bits.integer;
        return fits(type_rows[field->type], *to);
    }
    /* A scale is a whole number, so that 0.5 of a field in tenths is
     * exactly 5. */
    double scaled = number * (field->scale > 1 ? field->scale : 1);
    /* Below 2^53, where every whole number is a double; NaN fails too. */
    if (!(scaled > -9e15 && scaled < 9e15))
        return false;
    *to = (int64_t)(scaled < 0 ? scaled - 0.5 : scaled + 0.5);
    if (field->scale <= 1 && (double)*to != scaled)
        return false;
    return fits(type_rows[field->type], *to);
}

/* One that the field can't hold, 1e39 in a float for instance, is refused. */
static ikv_status put_float(char *at, struct type_row type, double number)
{
    const double most =
        type.size == 4 ? 0x1.fffffep127 : 0x1.fffffffffffffp1023;
    if (!(number >= -most && number <= most))
        return IKV_BAD_VALUE;
    float f32 = (float)number;
    if (type.size == 4)
        memcpy(at, &f32, 4);
    else
        memcpy(at, &number, 8);
    return IKV_OK;
}

/* On any error the event is as it was: all is looked at before a byte is
 * written. */
ikv_status ikv_field_put(const ikv_field *field, ikv_event *event,
                         ikv_value value)
{
    if (!field_is_usable(field) || event == NULL)
        return IKV_BAD_ARGUMENT;
    char *at = (char *)event + field->offset;
    struct type_row type = type_rows[field->type];
    if (field->type == IKV_TYPE_VALUE) {
        if (value.type > IKV_VALUE_TARGET)
            return IKV_BAD_VALUE;
        event->field.type = (uint8_t)value.type;
        memcpy(at, &value.bits, sizeof value.bits);
        return IKV_OK;
    }
    if (field->type == IKV_TYPE_BOOL) {
        if (value.type != IKV_VALUE_BOOL)
            return IKV_BAD_VALUE;
        *at = value.bits.boolean;
        return IKV_OK;
    }
    if (field->type == IKV_TYPE_TARGET) {
        if (value.type != IKV_VALUE_TARGET)
            return IKV_BAD_VALUE;
        memcpy(at, &value.bits.target, sizeof value.bits.target);
        return IKV_OK;
    }
    if (type.size == 0 ||
        (value.type != IKV_VALUE_INTEGER && value.type != IKV_VALUE_NUMBER))
        return IKV_BAD_VALUE;
    if (type.is_float) {
        double number = value.type == IKV_VALUE_INTEGER
                            ? (double)value.bits.integer
                            : value.bits.number;
        return put_float(at, type, number);
    }
    int64_t integer;
    if (!to_integer(field, value, &integer))
        return IKV_BAD_VALUE;
    put_integer(at, type, integer);
    return IKV_OK;
}

const char *ikv_field_text(const ikv_field *field, const ikv_event *event,
                           uint32_t *length)
{
    if (!field_is_usable(field) || event == NULL ||
        field->type != IKV_TYPE_TEXT)
        return NULL;
    const uint8_t *at = (const uint8_t *)event + field->offset;
    uint32_t room = (uint32_t)sizeof *event - field->offset - 1u;
    if (length != NULL)
        *length = *at < room ? *at : room;
    return (const char *)at + 1;
}

/* One more than the highest number that a kind may have: the size of tables by
 * kind. */
uint32_t ikvi_catalogue_kind_limit(const ikv_catalogue *catalogue)
{
    return catalogue != NULL ? IKV_KIND_USER + catalogue->kind_capacity
                             : IKVI_BUILT_IN_KINDS + 1;
}
