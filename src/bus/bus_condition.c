/* bus_condition.c - conditions: checked against the catalogue when subscribing,
 * and numbers of any type compared exactly.
 */
#include "bus_internal.h"

static const struct special_row {
    const char *name;
    uint32_t type;
} special_rows[] = {
    [NOT_SPECIAL] = {"", IKV_VALUE_NONE},
    [TARGET_TAGS] = {"target.tags", IKV_VALUE_INTEGER},
    [SOURCE_TAGS] = {"source.tags", IKV_VALUE_INTEGER},
    [TARGET_BODY] = {"target.body", IKV_VALUE_TARGET},
    [SOURCE_BODY] = {"source.body", IKV_VALUE_TARGET},
    [LOCAL_X] = {"local.x", IKV_VALUE_NUMBER},
    [LOCAL_Y] = {"local.y", IKV_VALUE_NUMBER},
};

enum {
    SPECIALS = sizeof special_rows / sizeof special_rows[0]
};

/* ------------------------------------------------------------- checking -- */

/* Fields of the delivery, beside the event's own; their names are taken in no
 * kind. */
uint32_t ikvi_condition_special(const char *name)
{
    for (uint32_t i = 1; i < SPECIALS; i++)
        if (ikvi_same(special_rows[i].name, name))
            return i;
    return NOT_SPECIAL;
}

const char *ikvi_condition_special_name(uint32_t special)
{
    return special_rows[special].name;
}

/* The kind after this one among those that the config names. */
static ikv_kind next_kind(const ikv_bus *b,
                          const ikv_subscription_config *config, ikv_kind kind,
                          uint32_t *index)
{
    if (config->kinds != NULL)
        return *index < config->kind_count ? config->kinds[(*index)++]
                                           : IKV_KIND_NONE;
    if (config->kind != 0)
        return (*index)++ == 0 ? config->kind : IKV_KIND_NONE;
    /* By families: all kinds that there are now. */
    while ((kind = ikv_catalogue_next(b->catalogue, kind)) != IKV_KIND_NONE) {
        uint8_t family = ikv_catalogue_info(b->catalogue, kind)->family;
        if (config->all_kinds || (config->families >> family & 1))
            return kind;
    }
    return IKV_KIND_NONE;
}

/* What type of value the field has, or what is special: IKV_VALUE_..., NONE for
 * text. */
uint32_t ikvi_condition_type(uint32_t special, const ikv_field *field)
{
    if (special != NOT_SPECIAL)
        return special_rows[special].type;
    switch (field->type) {
    case IKV_TYPE_BOOL:
        return IKV_VALUE_BOOL;
    case IKV_TYPE_TARGET:
        return IKV_VALUE_TARGET;
    case IKV_TYPE_TEXT:
    case IKV_TYPE_VALUE:
        return IKV_VALUE_NONE;
    case IKV_TYPE_F32:
    case IKV_TYPE_F64:
        return IKV_VALUE_NUMBER;
    default:
        return field->scale > 1 ? IKV_VALUE_NUMBER : IKV_VALUE_INTEGER;
    }
}

static bool same_place(const ikv_field *a, const ikv_field *b)
{
    return a->offset == b->offset && a->type == b->type && a->scale == b->scale;
}

static ikv_status lacks_field(const ikv_kind_info *info, const char *name,
                              ikv_message *message)
{
    ikv_message has = {""};
    /* What does not fit is left out: a list of names is long enough to see
     * which was meant. */
    ikvi_text text = {has.text, 300, 0};
    for (uint32_t i = 0; i < info->field_count; i++) {
        ikvi_text_add(&text, i > 0 ? ", " : "");
        ikvi_text_add(&text, info->fields[i].name);
    }
    ikvi_text_end(&text);
    const char *parts[] = {"the kind ", info->name,    " has no field \"",
                           name,        "\"; it has ", has.text,
                           NULL};
    ikvi_message(message, parts);
    return IKV_UNKNOWN_FIELD;
}

/* Finds the field that all kinds have under that name. *field is the first
 * kind's; *uniform whether it lies at the same place in all of them. */
ikv_status ikvi_condition_field(const ikv_bus *b,
                                const ikv_subscription_config *config,
                                const char *name, const ikv_field **field,
                                bool *uniform, ikv_message *message)
{
    uint32_t index = 0;
    *field = NULL;
    *uniform = true;
    for (ikv_kind kind = IKV_KIND_NONE;
         (kind = next_kind(b, config, kind, &index)) != IKV_KIND_NONE;) {
        const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, kind);
        const ikv_field *found = ikv_field_find(info, name);
        if (found == NULL)
            return lacks_field(info, name, message);
        if (*field == NULL)
            *field = found;
        *uniform = *uniform && same_place(found, *field);
        /* One comparison is made for all kinds: its value must fit each. */
        if (ikvi_condition_type(NOT_SPECIAL, found) !=
            ikvi_condition_type(NOT_SPECIAL, *field)) {
            const char *parts[] = {"the field \"", name,
                                   "\" is of another type in the kind ",
                                   info->name, NULL};
            ikvi_message(message, parts);
            return IKV_BAD_VALUE;
        }
    }
    return IKV_OK;
}

static ikv_status refuse_list(ikv_message *message, ikv_status status,
                              const char *text)
{
    const char *parts[] = {text, NULL};
    ikvi_message(message, parts);
    return status;
}

static ikv_status check_special(const ikv_bus *b,
                                const ikv_subscription_config *config,
                                uint32_t special, ikv_message *message)
{
    const char *name = special_rows[special].name;
    if ((special == TARGET_TAGS || special == SOURCE_TAGS) &&
        b->callbacks.tags == NULL)
        return ikvi_refuse_condition(message, IKV_NEEDS_CALLBACK, name,
                                     "needs tags",
                                     "set the bus's callback `tags`");
    if ((special == TARGET_BODY || special == SOURCE_BODY) &&
        b->callbacks.body == NULL)
        return ikvi_refuse_condition(message, IKV_NEEDS_CALLBACK, name,
                                     "needs bodies",
                                     "set the bus's callback `body`");
    uint32_t index = 0;
    for (ikv_kind kind = IKV_KIND_NONE;
         special >= LOCAL_X &&
         (kind = next_kind(b, config, kind, &index)) != IKV_KIND_NONE;)
        if (!ikv_catalogue_info(b->catalogue, kind)->positioned)
            return ikvi_refuse_condition(
                message, IKV_UNKNOWN_FIELD, name, "needs a position",
                "subscribe to kinds of pointers, clicks, wheel or gestures");
    return IKV_OK;
}

/* Whether this comparison makes sense for a field of that type with a value of
 * the other; what is needed if not. */
static const char *value_fault(uint32_t field, const ikv_condition *condition)
{
    uint32_t given = condition->value.type;
    bool number = field == IKV_VALUE_INTEGER || field == IKV_VALUE_NUMBER;
    if (condition->comparison >= IKV_COMPARISON_COUNT)
        return "a comparison of the list, IKV_EQUAL for instance";
    if (field == IKV_VALUE_NONE)
        return "a field that is no text";
    /* It has no value. */
    if (condition->comparison == IKV_CHANGED)
        return NULL;
    if (condition->comparison == IKV_HAS)
        return field == IKV_VALUE_INTEGER && given == IKV_VALUE_INTEGER
                   ? NULL
                   : "a field and a value that are whole numbers, as masks";
    if (condition->comparison != IKV_EQUAL && !number)
        return "IKV_EQUAL or IKV_CHANGED, since it has no order";
    if (number)
        return given == IKV_VALUE_INTEGER || given == IKV_VALUE_NUMBER
                   ? NULL
                   : "a number: {IKV_VALUE_INTEGER, {.integer = 1}}";
    if (given == field)
        return NULL;
    return field == IKV_VALUE_BOOL
               ? "{IKV_VALUE_BOOL, {.boolean = true}}"
               : "a target: {IKV_VALUE_TARGET, {.target = lamp}}";
}

/* ------------------------------------------------------- comparing exactly --
 */

/* -1, 0 or 1: a whole number against any; both exactly. */
static int order_of_signed(int64_t value, double with)
{
    /* Beyond all whole numbers: a cast would be undefined. */
    if (with >= 0x1p63)
        return -1;
    if (with < -0x1p63)
        return 1;
    int64_t whole = (int64_t)with;
    if (value != whole)
        return value < whole ? -1 : 1;
    double rest = with - (double)whole;
    return (rest < 0) - (rest > 0);
}

static int order_of_unsigned(uint64_t value, double with)
{
    if (with < 0)
        return 1;
    if (with >= 0x1p64)
        return -1;
    uint64_t whole = (uint64_t)with;
    if (value != whole)
        return value < whole ? -1 : 1;
    /* The value is its whole part: what is left over makes it the smaller
     * one. */
    return with > (double)whole ? -1 : 0;
}

enum {
    UNORDERED = 2
};

/* A field's value of that field type against a condition's number. */
int ikvi_condition_order(uint8_t field_type, ikv_value value,
                         uint32_t with_type, ikv_bits with)
{
    if (value.type == IKV_VALUE_NUMBER) {
        double a = value.bits.number, b = with.number;
        if (a != a || b != b)
            return UNORDERED;
        return (a > b) - (a < b);
    }
    int64_t a = value.bits.integer;
    bool wide = field_type == IKV_TYPE_U64;
    if (with_type == IKV_VALUE_NUMBER && with.number != with.number)
        return UNORDERED;
    if (with_type == IKV_VALUE_NUMBER)
        return wide ? order_of_unsigned((uint64_t)a, with.number)
                    : order_of_signed(a, with.number);
    if (wide && with.integer < 0)
        return 1;
    if (wide)
        return ((uint64_t)a > (uint64_t)with.integer) -
               ((uint64_t)a < (uint64_t)with.integer);
    return (a > with.integer) - (a < with.integer);
}

bool ikvi_condition_holds(uint32_t comparison, int order)
{
    switch (comparison) {
    case IKV_EQUAL:
        return order == 0;
    case IKV_BELOW:
        return order == -1;
    case IKV_AT_MOST:
        return order == -1 || order == 0;
    case IKV_ABOVE:
        return order == 1;
    default:
        return order == 1 || order == 0;
    }
}

/* ------------------------------------------------- what can match at all -- */

/* The least and the greatest whole number that a field of that type holds, as
 * ikvi_condition_order() takes them. */
static void limits_of(uint8_t type, ikv_value *least, ikv_value *most)
{
    static const struct {
        int64_t least, most;
    } rows[IKV_TYPE_COUNT] = {
        [IKV_TYPE_U8] = {0, UINT8_MAX},
        [IKV_TYPE_I8] = {INT8_MIN, INT8_MAX},
        [IKV_TYPE_U16] = {0, UINT16_MAX},
        [IKV_TYPE_I16] = {INT16_MIN, INT16_MAX},
        [IKV_TYPE_U32] = {0, UINT32_MAX},
        [IKV_TYPE_I32] = {INT32_MIN, INT32_MAX},
        [IKV_TYPE_U64] = {0, -1 /* as unsigned */},
        [IKV_TYPE_I64] = {INT64_MIN, INT64_MAX},
    };
    *least = *most = (ikv_value){IKV_VALUE_INTEGER, {0}};
    least->bits.integer = rows[type].least;
    most->bits.integer = rows[type].most;
}

static const double two_to_53 = 9007199254740992.0;

/* From 2^53 on every double is whole, and a cast might overflow. */
static bool is_whole(double number)
{
    return number >= two_to_53 || number <= -two_to_53 ||
           (double)(int64_t)number == number;
}

/* Whether a number within the field's limits is one of its values. */
static bool is_value(uint32_t scale, ikv_value value)
{
    double number = value.bits.number;
    if (value.type == IKV_VALUE_INTEGER)
        return true;
    if (scale <= 1)
        return is_whole(number);
    /* As it would be put into the field: the nearest one, read back. */
    double stored = number * scale; /* a whole number of 1/scale */
    int64_t nearest = (int64_t)(stored < 0 ? stored - 0.5 : stored + 0.5);
    return (double)nearest / scale == number;
}

/* What is wrong with a number that no value of the field can match; NULL if
 * some can. Negated, it matches what the other does not. */
static const char *range_fault(uint8_t type, uint32_t scale,
                               const ikv_condition *condition)
{
    ikv_value least, most, value = condition->value;
    bool is_float = type == IKV_TYPE_F32 || type == IKV_TYPE_F64;
    if (value.type == IKV_VALUE_NUMBER &&
        value.bits.number != value.bits.number)
        return "a value that is a number: NaN compares with nothing";
    /* Negated it matches what is outside; floats reach everywhere. */
    if (condition->negate || is_float)
        return NULL;
    limits_of(type, &least, &most);
    if (condition->comparison == IKV_HAS) {
        uint64_t mask =
            (uint64_t)most.bits.integer | (uint64_t)least.bits.integer;
        return ((uint64_t)value.bits.integer & mask) != 0
                   ? NULL
                   : "a mask with a bit that the field can have";
    }
    if (scale > 1) {
        double low = (double)least.bits.integer / scale;
        double high = (double)most.bits.integer / scale;
        least = (ikv_value){IKV_VALUE_NUMBER, {.number = low}};
        most = (ikv_value){IKV_VALUE_NUMBER, {.number = high}};
        if (value.type == IKV_VALUE_INTEGER)
            value.bits.number = (double)value.bits.integer;
        value.type = IKV_VALUE_NUMBER;
    }
    int low = ikvi_condition_order(type, least, value.type, value.bits);
    int high = ikvi_condition_order(type, most, value.type, value.bits);
    uint32_t how = condition->comparison;
    /* An order holds somewhere if it holds at one of the ends. */
    bool some = how == IKV_EQUAL ? low <= 0 && high >= 0
                                 : ikvi_condition_holds(how, low) ||
                                       ikvi_condition_holds(how, high);
    if (!some)
        return "a value that the field can have: it never gets there";
    return how == IKV_EQUAL && !is_value(scale, value)
               ? "a value that the field can have exactly: compare with "
                 "IKV_AT_LEAST or IKV_AT_MOST"
               : NULL;
}

/* Some kind's field must be able to match. */
static const char *number_fault(const ikv_bus *b,
                                const ikv_subscription_config *config,
                                const ikv_condition *condition,
                                uint32_t special)
{
    const char *fault = NULL;
    uint32_t index = 0;
    if (condition->comparison == IKV_CHANGED)
        return NULL;
    if (special == TARGET_TAGS || special == SOURCE_TAGS)
        return range_fault(IKV_TYPE_U32, 1, condition);
    if (special != NOT_SPECIAL)
        return range_fault(IKV_TYPE_F32, 1, condition);
    for (ikv_kind kind = IKV_KIND_NONE;
         (kind = next_kind(b, config, kind, &index)) != IKV_KIND_NONE;) {
        const ikv_field *field = ikv_field_find(
            ikv_catalogue_info(b->catalogue, kind), condition->field);
        fault = range_fault((uint8_t)field->type, field->scale, condition);
        /* One kind for which it can match is enough. */
        if (fault == NULL)
            return NULL;
    }
    return fault;
}

static ikv_status check_condition(const ikv_bus *b,
                                  const ikv_subscription_config *config,
                                  const ikv_condition *condition,
                                  ikv_message *message)
{
    const ikv_field *field = NULL;
    bool uniform;
    if (condition->field == NULL)
        return ikvi_refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                     "names no field",
                                     "set field, \"button\" for instance");
    uint32_t special = ikvi_condition_special(condition->field);
    ikv_status status = special != NOT_SPECIAL
                            ? check_special(b, config, special, message)
                            : ikvi_condition_field(b, config, condition->field,
                                                   &field, &uniform, message);
    if (status < 0)
        return status;
    if (special == NOT_SPECIAL && field == NULL)
        return ikvi_refuse_condition(message, IKV_UNKNOWN_FIELD,
                                     condition->field, "names no field",
                                     "register a kind of the family first");
    uint32_t type = ikvi_condition_type(special, field);
    const char *fault = value_fault(type, condition);
    if (fault == NULL &&
        (type == IKV_VALUE_INTEGER || type == IKV_VALUE_NUMBER))
        fault = number_fault(b, config, condition, special);
    return fault == NULL
               ? IKV_OK
               : ikvi_refuse_condition(message, IKV_BAD_VALUE, condition->field,
                                       "does not fit", fault);
}

static ikv_status check_list(const ikv_bus *b,
                             const ikv_subscription_config *config,
                             const ikv_condition *list, uint32_t count,
                             uint32_t join, ikv_message *message)
{
    if (list != NULL && count == 0)
        return refuse_list(message, IKV_BAD_ARGUMENT,
                           "a list of conditions is given, but its count is "
                           "0: set the count, or no list");
    if (list == NULL && count != 0)
        return refuse_list(message, IKV_BAD_ARGUMENT,
                           "a count of conditions is given, but no list: set "
                           "the list, or the count to 0");
    if (join > IKV_ANY)
        return ikvi_refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                     "has no join", "set IKV_ALL or IKV_ANY");
    for (uint32_t i = 0; i < count; i++) {
        ikv_status status = check_condition(b, config, &list[i], message);
        if (status < 0)
            return status;
    }
    return IKV_OK;
}

ikv_status ikvi_conditions_check(const ikv_bus *b,
                                 const ikv_subscription_config *config,
                                 ikv_message *message, uint32_t *conditions)
{
    *conditions = config->condition_count;
    ikv_status status =
        check_list(b, config, config->conditions, config->condition_count,
                   config->join, message);
    if (status == IKV_OK && config->group_count > CONDITION_GROUPS)
        status = refuse_list(message, IKV_BAD_ARGUMENT,
                             "group_count is more than 7");
    if (status == IKV_OK &&
        (config->groups == NULL) != (config->group_count == 0))
        status = refuse_list(
            message, IKV_BAD_ARGUMENT,
            config->groups != NULL
                ? "groups is given, but group_count is 0: set the count, or no "
                  "groups"
                : "group_count is given, but no groups: set them, or the count "
                  "to 0");
    for (uint32_t i = 0; status == IKV_OK && i < config->group_count; i++) {
        const ikv_condition_group *g = &config->groups[i];
        *conditions += g->count;
        status = g->count == 0
                     ? ikvi_refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                             "stands in an empty group",
                                             "give the group a list")
                     : check_list(b, config, g->conditions, g->count, g->join,
                                  message);
    }
    return status;
}
