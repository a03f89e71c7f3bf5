/* bus_gate.c - conditions and limits: checked against the catalogue when
 * subscribing, kept in a compact form, looked at before a handler is called.
 *
 * G1  conditions that are used and those that are free make up all of them
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
    b->free_condition = b->condition_capacity > 0 ? 0 : IKVI_NONE;
}

/* ------------------------------------------------------------- checking -- */

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
    return given == field ? NULL
           : field == IKV_VALUE_BOOL
               ? "{IKV_VALUE_BOOL, {.boolean = true}}"
               : "a target: {IKV_VALUE_TARGET, {.target = lamp}}";
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
    const char *fault = value_fault(type, condition);
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
    if ((list == NULL) != (count == 0))
        return refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                "lacks its list or its count",
                                "set both, or neither");
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
    if (config->at_body.bits != 0 && b->callbacks.body == NULL)
        return refuse_condition(message, IKV_NEEDS_CALLBACK, "at_body",
                                "needs bodies",
                                "set the bus's callback `body`");
    return IKV_OK;
}

ikv_status ikvi_bus_gate_check(const ikv_bus *b,
                               const ikv_subscription_config *config,
                               ikv_message *message, uint32_t *conditions)
{
    ikv_status status = check_place(b, config, message);
    *conditions = config->condition_count;
    if (status == IKV_OK)
        status = check_list(b, config, config->conditions,
                            config->condition_count, config->join, message);
    if (status == IKV_OK &&
        (config->group_count > GROUPS ||
         (config->groups == NULL) != (config->group_count == 0)))
        status = refuse_condition(message, IKV_BAD_ARGUMENT, "",
                                  "lacks its groups or their count",
                                  "set both, or neither; at most 7");
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
        *conditions > b->condition_capacity - b->conditions_used)
        status = IKV_FULL_CONDITIONS;
    return status;
}

/* ------------------------------------------------------------ compiling -- */

static void compile(ikv_bus *b, bus_gate *gate, uint8_t group,
                    const ikv_subscription_config *config,
                    const ikv_condition *from)
{
    const ikv_field *field = NULL;
    bool uniform = true;
    uint32_t at = b->free_condition;
    bus_condition *to = ikvi_bus_condition(b, at);
    b->free_condition = to->next;
    if (++b->conditions_used > b->conditions_high)
        b->conditions_high = b->conditions_used;
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
    /* The value takes the field's own type, so that comparing is one step. */
    uint32_t type =
        field != NULL ? value_type(field) : special_rows[to->special].type;
    if (type == IKV_VALUE_NUMBER && from->value.type == IKV_VALUE_INTEGER)
        to->value.number = (double)from->value.bits.integer;
    if (type == IKV_VALUE_INTEGER && from->value.type == IKV_VALUE_NUMBER) {
        to->value.number = from->value.bits.number;
        to->special = NOT_SPECIAL;
        to->scale = UINT32_MAX; /* compare as numbers */
    }
    if (!uniform)
        to->name = ikvi_names_keep(&b->names, b, from->field);
}

/* Conditions that are one comparison for equality with an integer of up to 32
 * bits can be tested without a loop. */
static void make_test(bus_gate *gate, const bus_condition *c)
{
    static const uint32_t masks[] = {0xff,   0xff,       0xffff,
                                     0xffff, UINT32_MAX, UINT32_MAX};
    uint32_t mask = c->type <= IKV_TYPE_I32 ? masks[c->type] : 0;
    const uint8_t one[4] = {1, 0, 0, 0};
    uint32_t little;
    memcpy(&little, one, sizeof little);
    if (c->special != NOT_SPECIAL || c->comparison != IKV_EQUAL || c->negate ||
        c->name != 0 || c->scale > 1 || mask == 0 || c->offset > 60 ||
        little != 1 || (int64_t)(int32_t)c->value.integer != c->value.integer)
        return;
    gate->test_mask = mask;
    gate->test_offset = c->offset;
    gate->test_value = (uint32_t)c->value.integer & mask;
}

bool ikvi_bus_gate_make(ikv_bus *b, uint32_t at,
                        const ikv_subscription_config *config)
{
    bus_gate *gate = ikvi_bus_gate(b, at);
    *gate = (bus_gate){.first_condition = IKVI_NONE,
                       .at_most = config->at_most,
                       .limit = config->limit,
                       .after = config->after,
                       .tags = config->at_tags,
                       .body = config->at_body,
                       .gap_ns = config->gap_ns};
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
    uint32_t first = gate->first_condition;
    if (config->group_count == 0 && config->condition_count == 1)
        make_test(gate, ikvi_bus_condition(b, first));
    return first != IKVI_NONE || gate->at_most != 0 || gate->limit != 0 ||
           gate->after != 0 || gate->tags != 0 || gate->body.bits != 0 ||
           gate->gap_ns != 0;
}

void ikvi_bus_gate_drop(ikv_bus *b, uint32_t at)
{
    bus_gate *gate = ikvi_bus_gate(b, at);
    while (gate->first_condition != IKVI_NONE) {
        uint32_t c = gate->first_condition;
        gate->first_condition = ikvi_bus_condition(b, c)->next;
        *ikvi_bus_condition(b, c) = (bus_condition){.next = b->free_condition};
        b->free_condition = c;
        b->conditions_used--;
    }
}

/* --------------------------------------------------------------- asking -- */

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

/* The field's value for this event; false if its kind has none (a kind of a
 * family that was registered later). */
static bool field_value(const ikv_bus *b, const bus_condition *c,
                        const ikv_event *event, const ikv_delivery *delivery,
                        ikv_value *value)
{
    if (c->special != NOT_SPECIAL) {
        *value = special_value(b, c->special, event, delivery);
        return true;
    }
    ikv_field place = {.type = c->type,
                       .offset = c->offset,
                       .scale = c->scale == UINT32_MAX ? 1 : c->scale};
    const ikv_field *field = &place;
    if (c->name != 0)
        field = ikv_field_find(ikv_catalogue_info(b->catalogue, event->kind),
                               ikvi_names_text(&b->names, b, c->name));
    if (field == NULL)
        return false;
    *value = ikv_field_get(field, event);
    if (c->scale == UINT32_MAX && value->type == IKV_VALUE_INTEGER) {
        value->bits.number = (double)value->bits.integer;
        value->type = IKV_VALUE_NUMBER;
    }
    return true;
}

static int order_of_values(ikv_value value, ikv_bits with)
{
    if (value.type == IKV_VALUE_NUMBER)
        return value.bits.number < with.number   ? -1
               : value.bits.number > with.number ? 1
                                                 : 0;
    return value.bits.integer < with.integer   ? -1
           : value.bits.integer > with.integer ? 1
                                               : 0;
}

static bool is_nan(ikv_value value)
{
    return value.type == IKV_VALUE_NUMBER &&
           value.bits.number != value.bits.number;
}

static bool changed_since(bus_condition *c, ikv_value value)
{
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

static bool holds_condition(const ikv_bus *b, bus_condition *c,
                            const ikv_event *event,
                            const ikv_delivery *delivery)
{
    ikv_value value;
    if (!field_value(b, c, event, delivery, &value))
        return false;
    bool result = false;
    switch (c->comparison) {
    case IKV_CHANGED:
        result = changed_since(c, value);
        break;
    case IKV_HAS:
        result = (value.bits.integer & c->value.integer) != 0;
        break;
    case IKV_EQUAL:
        result = value.type == IKV_VALUE_BOOL
                     ? value.bits.boolean == c->value.boolean
                 : value.type == IKV_VALUE_TARGET
                     ? value.bits.target.bits == c->value.target.bits
                     : order_of_values(value, c->value) == 0 && !is_nan(value);
        break;
    case IKV_BELOW:
        result = order_of_values(value, c->value) < 0;
        break;
    case IKV_AT_MOST:
        result = order_of_values(value, c->value) <= 0;
        break;
    case IKV_ABOVE:
        result = order_of_values(value, c->value) > 0;
        break;
    default:
        result = order_of_values(value, c->value) >= 0;
        break;
    }
    return result != c->negate;
}

/* Every condition is looked at, so that what `changed` remembers does not hang
 * on the others. Bit g of `groups` is group g's result so far. */
static bool holds_all(const ikv_bus *b, const bus_gate *gate,
                      const ikv_event *event, const ikv_delivery *delivery)
{
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

uint16_t ikvi_bus_gate_ask(ikv_bus *b, uint32_t at, const ikv_event *event,
                           const ikv_delivery *delivery)
{
    bus_gate *gate = ikvi_bus_gate(b, at);
    if ((gate->tags != 0 || gate->body.bits != 0) && !in_place(b, gate, event))
        return IKV_SKIP_PLACE;
    if (gate->test_mask != 0 ? test_excludes(gate, event)
                             : gate->first_condition != IKVI_NONE &&
                                   !holds_all(b, gate, event, delivery))
        return IKV_SKIP_CONDITION;
    if (gate->after > 0) {
        gate->after--;
        return IKV_SKIP_AFTER;
    }
    uint64_t turn = (gate->at_most == IKV_PER_STEP ? b->step : b->frame) + 1;
    if (gate->at_most != IKV_OFTEN && gate->last_turn == turn)
        return IKV_SKIP_AT_MOST;
    if (gate->gap_ns != 0 && gate->last_ns != 0 &&
        event->time_ns + 1 - gate->last_ns < gate->gap_ns)
        return IKV_SKIP_GAP;
    gate->last_turn = turn;
    gate->last_ns = event->time_ns + 1;
    return IKV_CALLED;
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
