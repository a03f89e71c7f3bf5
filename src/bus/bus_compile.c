/* bus_compile.c - conditions in their compact form: made, tested without a look
 * at them where that can be, and asked.
 */
#include "bus_internal.h"

void ikvi_conditions_open(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->condition_capacity; i++)
        ikvi_bus_condition(b, i)->next =
            i + 1 < b->condition_capacity ? i + 1 : IKVI_NONE;
    b->s.free_condition = b->condition_capacity > 0 ? 0 : IKVI_NONE;
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

static const double two_to_62 = 4611686018427387904.0;

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
    *to =
        (bus_condition){.next = gate->first_condition,
                        .comparison = (uint8_t)from->comparison,
                        .group = group,
                        .special = (uint8_t)ikvi_condition_special(from->field),
                        .negate = from->negate,
                        .value = from->value.bits};
    gate->first_condition = at;
    gate->group_used |= (uint8_t)(1u << group);
    if (to->special == NOT_SPECIAL)
        ikvi_condition_field(b, config, from->field, &field, &uniform, NULL);
    if (field != NULL) {
        to->offset = field->offset;
        to->type = (uint8_t)field->type;
        to->scale = field->scale;
    }
    /* A number that is whole is compared as such; with floats, as one. */
    uint32_t type = ikvi_condition_type(to->special, field);
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
bool ikvi_conditions_keep_names(ikv_bus *b,
                                const ikv_subscription_config *config)
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
            if (ikvi_condition_special(list[i].field) != NOT_SPECIAL)
                continue;
            ikvi_condition_field(b, config, list[i].field, &field, &uniform,
                                 NULL);
            if (needs_name(config, list[i].field, field, uniform))
                kept =
                    kept && ikvi_names_keep(&b->s.names, b, list[i].field) != 0;
        }
    }
    return kept;
}

/* ---------------------------------------------------------------- tests -- */

/* A field of up to 32 bits as a number that grows as its value does: its own
 * bits, with the top one turned if it has a sign, all of them for negative
 * floats. */
typedef struct keyed {
    const bus_condition *condition;
    uint32_t bytes, top; /* the sign's bit, 0 if there is none */
    bool is_float;
    uint64_t first, end; /* keys of values that can be compared */
} keyed;

static bool make_keyed(const bus_condition *c, keyed *k)
{
    static const uint8_t bytes[IKV_TYPE_COUNT] = {
        [IKV_TYPE_U8] = 1,  [IKV_TYPE_I8] = 1,   [IKV_TYPE_U16] = 2,
        [IKV_TYPE_I16] = 2, [IKV_TYPE_U32] = 4,  [IKV_TYPE_I32] = 4,
        [IKV_TYPE_F32] = 4, [IKV_TYPE_BOOL] = 1, [IKV_TYPE_TARGET] = 4,
    };
    const uint8_t one[4] = {1, 0, 0, 0};
    uint32_t little;
    memcpy(&little, one, sizeof little);
    *k = (keyed){.condition = c, .bytes = bytes[c->type]};
    k->is_float = c->type == IKV_TYPE_F32;
    if (k->is_float || c->type == IKV_TYPE_I8 || c->type == IKV_TYPE_I16 ||
        c->type == IKV_TYPE_I32)
        k->top = 1u << (8 * k->bytes - 1);
    k->end = (uint64_t)1 << 8 * k->bytes;
    if (k->is_float) { /* from -infinity to infinity: what is beyond is NaN */
        k->first = 0x007fffff;
        k->end = 0xff800001;
    }
    /* On a machine that has the lowest byte first. */
    return k->bytes != 0 && c->special == NOT_SPECIAL && c->name == 0 &&
           little == 1;
}

/* How the value with that key is to the condition's: -1, 0, 1. */
static int order_of_key(const keyed *k, uint64_t key)
{
    const bus_condition *c = k->condition;
    uint32_t bits = (uint32_t)key ^ k->top;
    if (k->is_float && (bits & k->top) != 0)
        bits ^= ~k->top;
    ikv_event event = {0};
    memcpy((char *)&event + c->offset, &bits, k->bytes);
    ikv_field field = {.type = c->type, .offset = c->offset, .scale = c->scale};
    return ikvi_condition_order(c->type, ikv_field_get(&field, &event),
                                c->value_type, c->value);
}

/* The first key whose order is at least that; k->end if there is none. */
static uint64_t first_key(const keyed *k, int order)
{
    uint64_t first = k->first, end = k->end;
    while (first < end) {
        uint64_t half = first + (end - first) / 2;
        if (order_of_key(k, half) < order)
            first = half + 1;
        else
            end = half;
    }
    return first;
}

/* The keys for which the comparison holds, from *first on, before *end. */
static void find_keys(const keyed *k, uint64_t *first, uint64_t *end)
{
    const bus_condition *c = k->condition;
    *first = k->first;
    *end = k->end;
    if (c->type == IKV_TYPE_BOOL) { /* what is not 0 is true */
        *first = c->value.boolean ? 1 : 0;
        *end = c->value.boolean ? 256 : 1;
    } else if (c->type == IKV_TYPE_TARGET) {
        *first = c->value.target.bits;
        *end = *first + 1;
    } else if (c->comparison == IKV_BELOW) {
        *end = first_key(k, 0);
    } else if (c->comparison == IKV_AT_MOST) {
        *end = first_key(k, 1);
    } else if (c->comparison == IKV_ABOVE) {
        *first = first_key(k, 1);
    } else {
        *first = first_key(k, 0);
        *end = c->comparison == IKV_EQUAL ? first_key(k, 1) : *end;
    }
}

static bool make_mask_test(bus_test *test, const keyed *k, uint32_t shift)
{
    const bus_condition *c = k->condition;
    uint64_t mask = (uint64_t)c->value.integer;
    uint32_t low = (uint32_t)mask << shift;
    /* As the field's sign is carried on, that bit stands for all above. */
    if (k->top != 0 && mask >> (8 * k->bytes - 1) != 0)
        low |= k->top << shift;
    test->where |= TEST_MASK;
    test->low = low;
    test->span = c->negate ? 0 : 1;
    return true;
}

/* A comparison with a field of up to 32 bits is one of an interval, or of a
 * mask, and can be tested without its condition. The interval's ends are found
 * by asking the comparison itself. False if it is none. */
static bool make_test(bus_test *test, const bus_condition *c)
{
    keyed k;
    uint64_t first, end;
    if (c->comparison == IKV_CHANGED || !make_keyed(c, &k))
        return false;
    uint32_t shift = 32 - 8 * k.bytes;
    IKVI_CHECK(c->offset + k.bytes >= 4); /* a stamp is first */
    test->where = (uint32_t)(c->offset + k.bytes - 4) << TEST_OFFSET;
    if (c->comparison == IKV_HAS)
        return make_mask_test(test, &k, shift);
    find_keys(&k, &first, &end);
    uint64_t all = (uint64_t)1 << 8 * k.bytes;
    /* What is outside is an interval as well, past the greatest key. */
    uint64_t count = c->negate ? all - (end - first) : end - first;
    uint64_t begin = c->negate ? end : first;
    if (count == 0)
        return false;
    test->where |= k.is_float ? TEST_FLOAT : 0;
    test->low = ((uint32_t)begin ^ k.top) << shift;
    test->span = (uint32_t)(count - 1) << shift | ((1u << shift) - 1);
    return true;
}

/* Of several conditions that must all hold the last one that can be, since what
 * is general comes first. What `changed` remembers must see each event. */
static void choose_test(const ikv_bus *b, bus_gate *gate, uint32_t conditions)
{
    gate->test = (bus_test){0, 0, UINT32_MAX};
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;
         at = ikvi_bus_condition(b, at)->next)
        if (ikvi_bus_condition(b, at)->comparison == IKV_CHANGED)
            return;
    if (conditions > 1 && (gate->group_any & 1))
        return;
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;) {
        const bus_condition *c = ikvi_bus_condition(b, at);
        bus_test test;
        if (c->group == 0 && make_test(&test, c)) {
            gate->test = test;
            gate->test.where |= conditions == 1 ? TEST_WHOLE : 0;
            return;
        }
        at = c->next;
    }
}

void ikvi_conditions_make(ikv_bus *b, bus_gate *gate,
                          const ikv_subscription_config *config)
{
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
}

void ikvi_conditions_drop(ikv_bus *b, bus_gate *gate)
{
    while (gate->first_condition != IKVI_NONE) {
        uint32_t c = gate->first_condition;
        gate->first_condition = ikvi_bus_condition(b, c)->next;
        *ikvi_bus_condition(b, c) =
            (bus_condition){.next = b->s.free_condition};
        b->s.free_condition = c;
        b->s.conditions_used--;
    }
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
    ikv_value value = {ikvi_condition_type(special, NULL), {0}};
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
    if (field == NULL || ikvi_condition_type(NOT_SPECIAL, field) !=
                             ikvi_condition_type(NOT_SPECIAL, &place))
        return false;
    *type = (uint8_t)field->type;
    *value = ikv_field_get(field, event);
    return true;
}

/* What `changed` compares: bits, as what compares equal and is not the same has
 * changed. */
static uint64_t bits_of(ikv_value value)
{
    uint64_t now = 0;
    if (value.type == IKV_VALUE_BOOL)
        now = value.bits.boolean;
    else if (value.type == IKV_VALUE_TARGET)
        now = value.bits.target.bits;
    else
        memcpy(&now, &value.bits, sizeof now);
    return now;
}

/* A field that this kind does not have never holds, negated or not: the
 * condition is about something else. Changes nothing. */
static bool holds_condition(const ikv_bus *b, const bus_condition *c,
                            const ikv_event *event,
                            const ikv_delivery *delivery, ikv_value *value)
{
    uint8_t type;
    *value = (ikv_value){IKV_VALUE_NONE, {0}};
    if (!field_value(b, c, event, delivery, value, &type))
        return false;
    bool result = false;
    if (c->comparison == IKV_CHANGED)
        result = !c->seen || bits_of(*value) != c->last;
    else if (c->comparison == IKV_HAS)
        result = (value->bits.integer & c->value.integer) != 0;
    else if (value->type == IKV_VALUE_BOOL)
        result = value->bits.boolean == c->value.boolean;
    else if (value->type == IKV_VALUE_TARGET)
        result = value->bits.target.bits == c->value.target.bits;
    else
        result = ikvi_condition_holds(
            c->comparison,
            ikvi_condition_order(type, *value, c->value_type, c->value));
    return result != c->negate;
}

/* Joins one result to a group's. */
static uint32_t join(const bus_gate *gate, uint32_t groups, uint32_t g,
                     bool result)
{
    uint32_t bit = 1u << g;
    if (gate->group_any & bit)
        return groups | (result ? bit : 0);
    return groups & (result ? ~0u : ~bit);
}

/* "All" begins as true and "any" as false. */
static uint32_t first_results(const bus_gate *gate)
{
    return ~(uint32_t)gate->group_any & 0xff;
}

/* Whether a group counts as true, if bit g of `groups` is what is in it. */
static bool group_holds(const bus_gate *gate, uint32_t groups, uint32_t g)
{
    return ((groups ^ gate->group_negated) >> g & 1) != 0;
}

/* Bit 0 of all groups' results, with theirs joined to it. */
static uint32_t join_groups(const bus_gate *gate, uint32_t groups)
{
    for (uint32_t g = 1; g <= CONDITION_GROUPS; g++)
        if (gate->group_used >> g & 1)
            groups = join(gate, groups, 0, group_holds(gate, groups, g));
    return groups;
}

/* Every condition is looked at, so that what `changed` remembers does not hang
 * on the others. Bit g of `groups` is group g's result so far. */
bool ikvi_conditions_hold(const ikv_bus *b, const bus_gate *gate,
                          const ikv_event *event, const ikv_delivery *delivery)
{
    uint32_t groups = first_results(gate);
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;) {
        bus_condition *c = ikvi_bus_condition(b, at);
        ikv_value value;
        bool result = holds_condition(b, c, event, delivery, &value);
        if (c->comparison == IKV_CHANGED && value.type != IKV_VALUE_NONE) {
            c->seen = true;
            c->last = bits_of(value);
        }
        groups = join(gate, groups, c->group, result);
        at = c->next;
    }
    return (join_groups(gate, groups) & 1) != 0;
}

/* -------------------------------------------------------------- probing -- */

/* What a condition's field is called; its place alone is known where it is the
 * same in all kinds. */
static const char *field_name(const ikv_bus *b, const bus_condition *c,
                              ikv_kind kind)
{
    const ikv_kind_info *info = ikv_catalogue_info(b->catalogue, kind);
    const ikv_field *field;
    if (c->special != NOT_SPECIAL)
        return ikvi_condition_special_name(c->special);
    if (c->name != 0)
        return ikvi_names_text(&b->s.names, b, c->name);
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++)
        if (info->fields[i].offset == c->offset &&
            info->fields[i].type == c->type)
            return info->fields[i].name;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++)
        if (field->offset == c->offset && field->type == c->type)
            return field->name;
    return "";
}

/* Whether one with that result has a part in the event's being left out: its
 * group's result is one, and it made it so. */
static bool is_to_blame(const bus_gate *gate, uint32_t groups, uint32_t g,
                        bool result)
{
    if (g == 0)
        return !result;
    bool negated = (gate->group_negated >> g & 1) != 0;
    return !group_holds(gate, groups, g) && result == negated;
}

uint32_t ikvi_conditions_probe(const ikv_bus *b, const bus_gate *gate,
                               const ikv_event *event,
                               const ikv_delivery *delivery, ikv_obstacle *to,
                               uint32_t room, uint32_t count)
{
    uint32_t groups = first_results(gate), total = 0;
    ikv_value value;
    for (uint32_t at = gate->first_condition; at != IKVI_NONE;
         at = ikvi_bus_condition(b, at)->next) {
        const bus_condition *c = ikvi_bus_condition(b, at);
        groups = join(gate, groups, c->group,
                      holds_condition(b, c, event, delivery, &value));
        total++;
    }
    if (join_groups(gate, groups) & 1)
        return count;
    /* The last one is the list's first: how many are before it is known. */
    uint32_t first = count, nth = total;
    for (uint32_t at = gate->first_condition; at != IKVI_NONE; nth--) {
        const bus_condition *c = ikvi_bus_condition(b, at);
        bool result = holds_condition(b, c, event, delivery, &value);
        at = c->next;
        if (!is_to_blame(gate, groups, c->group, result))
            continue;
        ikv_obstacle o = {.code = IKV_WHY_CONDITION,
                          .nth = (uint16_t)nth,
                          .comparison = c->comparison,
                          .negated = c->negate != (c->group > 0 && result),
                          .name = field_name(b, c, event->kind),
                          .found = value,
                          .wanted = {c->value_type, c->value}};
        if (c->comparison == IKV_CHANGED)
            o.wanted = (ikv_value){IKV_VALUE_NONE, {0}};
        /* Put in front of those that came before it: the order is theirs who
         * subscribed. */
        for (uint32_t i = count < room ? count : room - (room > 0); i > first;
             i--)
            to[i] = to[i - 1];
        if (first < room)
            to[first] = o;
        count++;
    }
    return count;
}

/* ------------------------------------------------------------ validator -- */

const char *ikvi_conditions_validate(const ikv_bus *b)
{
    uint32_t conditions = b->s.conditions_used;
    for (uint32_t at = b->s.free_condition;
         at != IKVI_NONE && conditions <= b->condition_capacity;
         at = ikvi_bus_condition(b, at)->next)
        conditions++;
    return conditions == b->condition_capacity ? NULL : "bus-9";
}
