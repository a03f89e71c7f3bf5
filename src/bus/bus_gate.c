/* bus_gate.c - conditions and limits: checked against the catalogue when
 * subscribing, kept in a compact form, looked at before a handler is called.
 *
 * bus-9  conditions and gates that are used and those that are free make up all
 *        of them
 */
#include "bus_internal.h"

/* Fields that are none of the event's own. */
enum special {
    NOT_SPECIAL = 0,
    TARGET_TAGS,
    SOURCE_TAGS,
    TARGET_BODY,
    SOURCE_BODY,
    LOCAL_X,
    LOCAL_Y
};

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
    SPECIALS = sizeof special_rows / sizeof special_rows[0],
    GROUPS = 7
};

void ikvi_bus_gate_open(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->condition_capacity; i++)
        ikvi_bus_condition(b, i)->next =
            i + 1 < b->condition_capacity ? i + 1 : IKVI_NONE;
    b->s.free_condition = b->condition_capacity > 0 ? 0 : IKVI_NONE;
    for (uint32_t i = 0; i < b->gate_capacity; i++)
        ikvi_bus_gate(b, i)->next_of_body =
            i + 1 < b->gate_capacity ? i + 1 : IKVI_NONE;
    b->s.free_gate = 0;
}

/* ------------------------------------------------------------- checking -- */

/* Fields of the delivery, beside the event's own; their names are taken in no
 * kind. */
static uint32_t special_of(const char *name)
{
    for (uint32_t i = 1; i < SPECIALS; i++)
        if (ikvi_same(special_rows[i].name, name))
            return i;
    return NOT_SPECIAL;
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

/* What type of value the field has: IKV_VALUE_..., NONE for text. */
static uint32_t value_type(const ikv_field *field)
{
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
static ikv_status find_common(const ikv_bus *b,
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
        if (value_type(found) != value_type(*field)) {
            const char *parts[] = {"the field \"", name,
                                   "\" is of another type in the kind ",
                                   info->name, NULL};
            ikvi_message(message, parts);
            return IKV_BAD_VALUE;
        }
    }
    return IKV_OK;
}

static ikv_status refuse_condition(ikv_message *message, ikv_status status,
                                   const char *field, const char *why,
                                   const char *needed)
{
    const char *parts[] = {
        "a condition on \"", field, "\" ", why, ": ", needed, NULL};
    ikvi_message(message, parts);
    return status;
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
        return refuse_condition(message, IKV_NEEDS_CALLBACK, name, "needs tags",
                                "set the bus's callback `tags`");
    if ((special == TARGET_BODY || special == SOURCE_BODY) &&
        b->callbacks.body == NULL)
        return refuse_condition(message, IKV_NEEDS_CALLBACK, name,
                                "needs bodies",
                                "set the bus's callback `body`");
    uint32_t index = 0;
    for (ikv_kind kind = IKV_KIND_NONE;
         special >= LOCAL_X &&
         (kind = next_kind(b, config, kind, &index)) != IKV_KIND_NONE;)
        if (!ikv_catalogue_info(b->catalogue, kind)->positioned)
            return refuse_condition(
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
static int order_of_numbers(uint8_t field_type, ikv_value value,
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

static bool holds_order(uint32_t comparison, int order)
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
 * order_of_numbers() takes them. */
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
static const double two_to_62 = 4611686018427387904.0;

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
    int low = order_of_numbers(type, least, value.type, value.bits);
    int high = order_of_numbers(type, most, value.type, value.bits);
    uint32_t how = condition->comparison;
    /* An order holds somewhere if it holds at one of the ends. */
    bool some = how == IKV_EQUAL
                    ? low <= 0 && high >= 0
                    : holds_order(how, low) || holds_order(how, high);
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
        return refuse_condition(message, IKV_BAD_ARGUMENT, "", "names no field",
                                "set field, \"button\" for instance");
    uint32_t special = special_of(condition->field);
    ikv_status status = special != NOT_SPECIAL
                            ? check_special(b, config, special, message)
                            : find_common(b, config, condition->field, &field,
                                          &uniform, message);
    if (status < 0)
        return status;
    uint32_t type =
        field != NULL ? value_type(field) : special_rows[special].type;
    if (special == NOT_SPECIAL && field == NULL)
        return refuse_condition(message, IKV_UNKNOWN_FIELD, condition->field,
                                "names no field",
                                "register a kind of the family first");
    const char *fault = value_fault(type, condition);
    if (fault == NULL &&
        (type == IKV_VALUE_INTEGER || type == IKV_VALUE_NUMBER))
        fault = number_fault(b, config, condition, special);
    return fault == NULL
               ? IKV_OK
               : refuse_condition(message, IKV_BAD_VALUE, condition->field,
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
        return refuse_condition(message, IKV_BAD_ARGUMENT, "", "has no join",
                                "set IKV_ALL or IKV_ANY");
    for (uint32_t i = 0; i < count; i++) {
        ikv_status status = check_condition(b, config, &list[i], message);
        if (status < 0)
            return status;
    }
    return IKV_OK;
}

static ikv_status check_place(const ikv_bus *b,
                              const ikv_subscription_config *config,
                              ikv_message *message)
{
    bool other = config->at.bits != 0 || config->at_list != NULL;
    if ((config->at_tags != 0) + (config->at_body.bits != 0) + other > 1)
        return refuse_condition(message, IKV_BAD_ARGUMENT, "at",
                                "is given twice",
                                "set one of at, at_list, at_tags, at_body");
    if (config->at_tags != 0 && b->callbacks.tags == NULL)
        return refuse_condition(message, IKV_NEEDS_CALLBACK, "at_tags",
                                "needs tags", "set the bus's callback `tags`");
    if (config->at_body.bits != 0 &&
        ikvi_bus_place(b, config->at_body) == IKVI_NONE)
        return refuse_condition(message, IKV_STALE, "at_body",
                                "names what is gone or unknown",
                                "it must be a target of this bus");
    if (config->at_body.bits != 0 && b->callbacks.body == NULL)
        return refuse_condition(message, IKV_NEEDS_CALLBACK, "at_body",
                                "needs bodies",
                                "set the bus's callback `body`");
    return IKV_OK;
}

/* Whether something must hold before it is called, beside its kind and place. */
static bool needs_gate(const ikv_subscription_config *config)
{
    return config->condition_count > 0 || config->group_count > 0 ||
           config->at_most != 0 || config->limit != 0 || config->after != 0 ||
           config->at_tags != 0 || config->at_body.bits != 0 ||
           config->gap_ns != 0;
}

/* Checks everything that a gate is made of, so that making one can't fail; how
 * many conditions it takes is handed back. */
ikv_status ikvi_bus_gate_check(const ikv_bus *b,
                               const ikv_subscription_config *config,
                               ikv_message *message, uint32_t *conditions)
{
    ikv_status status = check_place(b, config, message);
    *conditions = config->condition_count;
    if (status == IKV_OK)
        status = check_list(b, config, config->conditions,
                            config->condition_count, config->join, message);
    if (status == IKV_OK && config->group_count > GROUPS)
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
        status = g->count == 0 ? refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                                  "stands in an empty group",
                                                  "give the group a list")
                               : check_list(b, config, g->conditions, g->count,
                                            g->join, message);
    }
    if (status == IKV_OK && config->at_most > IKV_PER_FRAME)
        status = refuse_condition(message, IKV_BAD_ARGUMENT, "at_most",
                                  "is out of range",
                                  "set IKV_PER_STEP or IKV_PER_FRAME");
    if (status == IKV_OK &&
        *conditions > b->condition_capacity - b->s.conditions_used)
        status = IKV_FULL_CONDITIONS;
    return status;
}

bool ikvi_bus_gate_has_room(const ikv_bus *b,
                            const ikv_subscription_config *config)
{
    return b->s.free_gate != IKVI_NONE || !needs_gate(config);
}

/* ------------------------------------------------------------ compiling -- */

/* Whether the field must be found again for each event: its place differs by
 * kind, or kinds may be registered later that have it elsewhere or not. */
static bool needs_name(const ikv_subscription_config *config, const char *name,
                       const ikv_field *field, bool uniform)
{
    /* Kinds of one's own may be registered at any time. */
    bool open =
        config->all_kinds || (config->families >> IKV_FAMILY_USER & 1) != 0;
    if (field == NULL)
        return false;
    return !uniform || (open && ikv_field_find(NULL, name) == NULL);
}

static void compile(ikv_bus *b, bus_gate *gate, uint8_t group,
                    const ikv_subscription_config *config,
                    const ikv_condition *from)
{
    const ikv_field *field = NULL;
    bool uniform = true;
    /* There is one: as many were asked for when the config was checked. */
    uint32_t at = b->s.free_condition;
    bus_condition *to = ikvi_bus_condition(b, at);
    b->s.free_condition = to->next;
    if (++b->s.conditions_used > b->s.conditions_high)
        b->s.conditions_high = b->s.conditions_used;
    *to = (bus_condition){.next = gate->first_condition,
                          .comparison = (uint8_t)from->comparison,
                          .group = group,
                          .special = (uint8_t)special_of(from->field),
                          .negate = from->negate,
                          .value = from->value.bits};
    gate->first_condition = at;
    gate->group_used |= (uint8_t)(1u << group);
    if (to->special == NOT_SPECIAL)
        find_common(b, config, from->field, &field, &uniform, NULL);
    if (field != NULL) {
        to->offset = field->offset;
        to->type = (uint8_t)field->type;
        to->scale = field->scale;
    }
    /* A number that is whole is compared as such; with floats, as one. */
    uint32_t type =
        field != NULL ? value_type(field) : special_rows[to->special].type;
    to->value_type = (uint8_t)from->value.type;
    double number = from->value.bits.number;
    if (type == IKV_VALUE_NUMBER && from->value.type == IKV_VALUE_INTEGER) {
        to->value.number = (double)from->value.bits.integer;
        to->value_type = IKV_VALUE_NUMBER;
    } else if (type == IKV_VALUE_INTEGER &&
               from->value.type == IKV_VALUE_NUMBER && number >= -two_to_62 &&
               number <= two_to_62 && (double)(int64_t)number == number) {
        to->value.integer = (int64_t)number;
        to->value_type = IKV_VALUE_INTEGER;
    }
    if (needs_name(config, from->field, field, uniform))
        to->name = ikvi_names_keep(&b->s.names, b, from->field);
}

/* A field that lies elsewhere in different kinds is found by its name at each
 * event: that name is kept here, before a subscription is made that would need
 * it. */
bool ikvi_bus_gate_names(ikv_bus *b, const ikv_subscription_config *config)
{
    bool kept = true;
    for (uint32_t g = 0; g <= config->group_count; g++) {
        const ikv_condition *list =
            g == 0 ? config->conditions : config->groups[g - 1].conditions;
        uint32_t count =
            g == 0 ? config->condition_count : config->groups[g - 1].count;
        for (uint32_t i = 0; i < count; i++) {
            const ikv_field *field = NULL;
            bool uniform = true;
            if (special_of(list[i].field) != NOT_SPECIAL)
                continue;
            find_common(b, config, list[i].field, &field, &uniform, NULL);
            if (needs_name(config, list[i].field, field, uniform))
                kept =
                    kept && ikvi_names_keep(&b->s.names, b, list[i].field) != 0;
        }
    }
    return kept;
}

/* A comparison for equality with an integer of up to 32 bits can be tested
 * without a loop. False if it is none. */
static bool make_test(bus_gate *gate, const bus_condition *c)
{
    static const uint32_t masks[] = {0xff,   0xff,       0xffff,
                                     0xffff, UINT32_MAX, UINT32_MAX};
    uint32_t mask = c->type <= IKV_TYPE_I32 ? masks[c->type] : 0;
    const uint8_t one[4] = {1, 0, 0, 0};
    uint32_t little;
    memcpy(&little, one, sizeof little);
    /* Four bytes from its offset on must lie within the event, on a machine
     * that has the lowest byte first. */
    if (c->special != NOT_SPECIAL || c->comparison != IKV_EQUAL || c->negate ||
        c->name != 0 || c->scale > 1 || mask == 0 || c->offset > 60 ||
        little != 1 || c->value_type != IKV_VALUE_INTEGER)
        return false;
    gate->test_mask = mask;
    gate->test_offset = c->offset;
    gate->test_value = (uint32_t)c->value.integer & mask;
    return true;
}

/* Of several conditions that must all hold the last one that can be, since what
 * is general comes first. What `changed` remembers must see each event. */
static void choose_test(const ikv_bus *b, bus_gate *gate, uint32_t conditions)
{
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;
         at = ikvi_bus_condition(b, at)->next)
        if (ikvi_bus_condition(b, at)->comparison == IKV_CHANGED)
            return;
    if (conditions > 1 && (gate->group_any & 1))
        return;
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;) {
        const bus_condition *c = ikvi_bus_condition(b, at);
        if (c->group == 0 && make_test(gate, c))
            break;
        at = c->next;
    }
    gate->tests_all = gate->test_mask != 0 && conditions == 1;
}

/* Returns whether there is a gate at all: without one the entry is called
 * straight from its run. A plain comparison becomes the entry's own test, which
 * reads no gate. */
bool ikvi_bus_gate_make(ikv_bus *b, uint32_t subscription,
                        const ikv_subscription_config *config)
{
    uint32_t at = b->s.free_gate;
    if (!needs_gate(config))
        return false;
    bus_gate *gate = ikvi_bus_gate(b, at);
    b->s.free_gate = gate->next_of_body;
    if (++b->s.gates_used > b->s.gates_high)
        b->s.gates_high = b->s.gates_used;
    ikvi_bus_subscription(b, subscription)->gate = at;
    *gate = (bus_gate){.first_condition = IKVI_NONE,
                       .at_most = config->at_most,
                       .limit = config->limit,
                       .after = config->after,
                       .tags = config->at_tags,
                       .body = config->at_body,
                       .gap_ns = config->gap_ns};
    /* Bit 0 is the top, under which groups are joined. */
    gate->group_any = config->join == IKV_ANY;
    for (uint32_t i = 0; i < config->condition_count; i++)
        compile(b, gate, 0, config, &config->conditions[i]);
    for (uint32_t g = 0; g < config->group_count; g++) {
        const ikv_condition_group *group = &config->groups[g];
        uint8_t bit = (uint8_t)(2u << g);
        gate->group_any |= group->join == IKV_ANY ? bit : 0;
        gate->group_negated |= group->negate ? bit : 0;
        for (uint32_t i = 0; i < group->count; i++)
            compile(b, gate, (uint8_t)(g + 1), config, &group->conditions[i]);
    }
    choose_test(b, gate, config->condition_count + config->group_count);
    return true;
}

void ikvi_bus_gate_drop(ikv_bus *b, uint32_t subscription)
{
    uint32_t *at = &ikvi_bus_subscription(b, subscription)->gate;
    bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    if (gate == NULL)
        return;
    while (gate->first_condition != IKVI_NONE) {
        uint32_t c = gate->first_condition;
        gate->first_condition = ikvi_bus_condition(b, c)->next;
        *ikvi_bus_condition(b, c) =
            (bus_condition){.next = b->s.free_condition};
        b->s.free_condition = c;
        b->s.conditions_used--;
    }
    IKVI_CHECK(b->s.gates_used > 0); /* bus-9 */
    *gate = (bus_gate){.next_of_body = b->s.free_gate};
    b->s.free_gate = *at;
    b->s.gates_used--;
    *at = IKVI_NONE;
}

/* --------------------------------------------------------------- asking -- */

/* What has no target has no tags and no body: 0, and no error, since an event
 * may be about nothing. */
static ikv_value special_value(const ikv_bus *b, uint32_t special,
                               const ikv_event *event,
                               const ikv_delivery *delivery)
{
    const ikv_bus_callbacks *call = &b->callbacks;
    ikv_target of = special == SOURCE_TAGS || special == SOURCE_BODY
                        ? event->source
                        : event->target;
    ikv_value value = {special_rows[special].type, {0}};
    if (special == LOCAL_X || special == LOCAL_Y)
        value.bits.number = (double)(special == LOCAL_X ? delivery->local_x
                                                        : delivery->local_y);
    else if (special == TARGET_BODY || special == SOURCE_BODY)
        value.bits.target = call->body != NULL && of.bits != 0
                                ? call->body(call->user, of)
                                : (ikv_target){0};
    else
        value.bits.integer = call->tags != NULL && of.bits != 0
                                 ? (int64_t)call->tags(call->user, of)
                                 : 0;
    return value;
}

/* The field's value for this event, and its type; false if its kind has none
 * such (a kind of a family that was registered later). */
static bool field_value(const ikv_bus *b, const bus_condition *c,
                        const ikv_event *event, const ikv_delivery *delivery,
                        ikv_value *value, uint8_t *type)
{
    *type = c->type;
    if (c->special != NOT_SPECIAL) {
        *value = special_value(b, c->special, event, delivery);
        return true;
    }
    ikv_field place = {.type = c->type, .offset = c->offset, .scale = c->scale};
    const ikv_field *field = &place;
    /* Its place differs by kind, or may. */
    if (c->name != 0)
        field = ikv_field_find(ikv_catalogue_info(b->catalogue, event->kind),
                               ikvi_names_text(&b->s.names, b, c->name));
    if (field == NULL || value_type(field) != value_type(&place))
        return false;
    *type = (uint8_t)field->type;
    *value = ikv_field_get(field, event);
    return true;
}

static bool changed_since(bus_condition *c, ikv_value value)
{
    /* By its bits: what compares equal and is not the same has changed. */
    uint64_t now = 0;
    if (value.type == IKV_VALUE_BOOL)
        now = value.bits.boolean;
    else if (value.type == IKV_VALUE_TARGET)
        now = value.bits.target.bits;
    else
        memcpy(&now, &value.bits, sizeof now);
    bool changed = !c->seen || now != c->last;
    c->seen = true;
    c->last = now;
    return changed;
}

/* A field that this kind does not have never holds, negated or not: the
 * condition is about something else. */
static bool holds_condition(const ikv_bus *b, bus_condition *c,
                            const ikv_event *event,
                            const ikv_delivery *delivery)
{
    ikv_value value;
    uint8_t type;
    if (!field_value(b, c, event, delivery, &value, &type))
        return false;
    bool result = false;
    if (c->comparison == IKV_CHANGED)
        result = changed_since(c, value);
    else if (c->comparison == IKV_HAS)
        result = (value.bits.integer & c->value.integer) != 0;
    else if (value.type == IKV_VALUE_BOOL)
        result = value.bits.boolean == c->value.boolean;
    else if (value.type == IKV_VALUE_TARGET)
        result = value.bits.target.bits == c->value.target.bits;
    else
        result =
            holds_order(c->comparison,
                        order_of_numbers(type, value, c->value_type, c->value));
    return result != c->negate;
}

/* Every condition is looked at, so that what `changed` remembers does not hang
 * on the others. Bit g of `groups` is group g's result so far. */
static bool holds_all(const ikv_bus *b, const bus_gate *gate,
                      const ikv_event *event, const ikv_delivery *delivery)
{
    /* "All" begins as true and "any" as false. */
    uint32_t groups = ~(uint32_t)gate->group_any & 0xff;
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;) {
        bus_condition *c = ikvi_bus_condition(b, at);
        uint32_t bit = 1u << c->group;
        bool result = holds_condition(b, c, event, delivery);
        if (gate->group_any & bit)
            groups |= result ? bit : 0;
        else
            groups &= result ? ~0u : ~bit;
        at = c->next;
    }
    for (uint32_t g = 1; g <= GROUPS; g++) {
        uint32_t bit = 1u << g;
        if ((gate->group_used & bit) == 0)
            continue;
        bool result =
            ((groups & bit) != 0) != ((gate->group_negated & bit) != 0);
        if (gate->group_any & 1)
            groups |= result ? 1u : 0;
        else
            groups &= result ? ~0u : ~1u;
    }
    return (groups & 1) != 0;
}

static bool in_place(const ikv_bus *b, const bus_gate *gate,
                     const ikv_event *event)
{
    const ikv_bus_callbacks *call = &b->callbacks;
    /* Nothing hangs on the root: it has no tags and no body. */
    if (event->target.bits == ikvi_bus_root().bits ||
        ikvi_bus_place(b, event->target) == IKVI_NONE)
        return false; /* PATH5: gone since the delivery began */
    if (gate->tags != 0)
        return call->tags != NULL &&
               (call->tags(call->user, event->target) & gate->tags) != 0;
    return call->body != NULL &&
           call->body(call->user, event->target).bits == gate->body.bits;
}

static bool test_excludes(const bus_gate *gate, const ikv_event *event)
{
    uint32_t field;
    memcpy(&field, (const char *)event + gate->test_offset, sizeof field);
    return (field & gate->test_mask) != gate->test_value;
}

/* D7: conditions, after, once a step or frame, gap, limit. */
uint16_t ikvi_bus_gate_ask(ikv_bus *b, uint32_t subscription,
                           const ikv_event *event, const ikv_delivery *delivery)
{
    bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    IKVI_CHECK(gate != NULL);
    if ((gate->tags != 0 || gate->body.bits != 0) && !in_place(b, gate, event))
        return IKV_SKIP_PLACE;
    if (gate->test_mask != 0 && test_excludes(gate, event))
        return IKV_SKIP_CONDITION;
    if (gate->first_condition != IKVI_NONE && !gate->tests_all &&
        !holds_all(b, gate, event, delivery))
        return IKV_SKIP_CONDITION;
    /* Only events that would have been heard are counted. */
    if (gate->after > 0) {
        gate->after--;
        return IKV_SKIP_AFTER;
    }
    uint64_t turn = (gate->at_most == IKV_PER_STEP ? b->s.step : b->frame) + 1;
    if (gate->at_most != IKV_OFTEN && gate->last_turn == turn)
        return IKV_SKIP_AT_MOST;
    /* Plus 1, as 0 stands for "never". */
    uint64_t moment = event->time_ns + 1;
    if (gate->gap_ns != 0 && gate->last_ns != 0 &&
        (moment < gate->last_ns || moment - gate->last_ns < gate->gap_ns))
        return IKV_SKIP_GAP;
    gate->last_turn = turn;
    gate->last_ns = event->time_ns + 1;
    return IKV_CALLED;
}

/* ------------------------------------------------------------ validator -- */

const char *ikvi_bus_gate_validate(const ikv_bus *b)
{
    uint32_t gates = b->s.gates_used, conditions = b->s.conditions_used;
    for (uint32_t at = b->s.free_gate;
         at != IKVI_NONE && gates <= b->gate_capacity;
         at = ikvi_bus_gate(b, at)->next_of_body)
        gates++;
    for (uint32_t at = b->s.free_condition;
         at != IKVI_NONE && conditions <= b->condition_capacity;
         at = ikvi_bus_condition(b, at)->next)
        conditions++;
    for (uint32_t i = 0; i < b->s.subscription_slots.capacity; i++) {
        if (!ikvi_bus_subscribed_at(b, i))
            continue;
        const bus_gate *gate = ikvi_bus_gate_of(b, i);
        bool gated = (ikvi_bus_subscription(b, i)->visits & VISIT_GATED) != 0;
        if (gated != (gate != NULL))
            return "bus-9";
    }
    return gates == b->gate_capacity && conditions == b->condition_capacity
               ? NULL
               : "bus-9";
}

/* -------------------------------------------------------- the callbacks -- */

uint32_t ikvi_bus_tags(const ikv_bus *b, ikv_target target)
{
    return b->callbacks.tags != NULL
               ? b->callbacks.tags(b->callbacks.user, target)
               : UINT32_MAX;
}

ikv_target ikvi_bus_body(const ikv_bus *b, ikv_target target)
{
    return b->callbacks.body != NULL
               ? b->callbacks.body(b->callbacks.user, target)
               : target;
}
