/* conditions.c - conditions of handlers in a setup. They are checked when the
 * file is read, as far as the first kind goes, and made when it is applied,
 * because targets have their handles only then.
 */
#include "setup.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

static const char *const comparisons[] = {
    "equal", "below", "at_most", "above", "at_least", "has", "changed", NULL};
static const char *const joins[] = {"all", "any", NULL};

/* The first kind that the handler names; fields are looked up in it. */
static const ikv_kind_info *first_kind(const ikv_setup *setup,
                                       const setup_handler *handler)
{
    if (handler->kind_count > 0)
        return ikv_catalogue_info(setup->catalogue, handler->kinds[0]);
    /* Of families the first kind says what a field is; the bus checks all of
     * them. */
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(setup->catalogue, k)) != IKV_KIND_NONE;) {
        const ikv_kind_info *info = ikv_catalogue_info(setup->catalogue, k);
        /* the first kind that there is */
        if (handler->all_kinds || (handler->families >> info->family & 1))
            return info;
    }
    return NULL;
}

static ikv_target find_target_by_name(const void *user, const char *name)
{
    const ikv_setup *setup = user;
    const setup_target *target = ikvi_setup_find_target(setup, name);
    if (target == NULL)
        return (ikv_target){0};
    /* Before it is applied, any handle will do to say that it is known. */
    return setup->kit != NULL ? target->handle : (ikv_target){1};
}

/* An action, or a field that targets declare; bindings are not asked for. */
uint32_t ikvi_setup_find_number(const void *user, const ikv_field *field,
                                const char *name)
{
    const ikv_setup *setup = user;
    if (field->set == IKV_SET_FIELD)
        return ikvi_setup_field_number(setup, name);
    if (field->set != IKV_SET_ACTION)
        return 0;
    if (setup->kit != NULL)
        return ikv_actions_find(ikv_kit_actions(setup->kit), name).bits;
    /* Any number will do to say that it is known. */
    return ikvi_setup_find_action(setup, name) != NULL;
}

static bool unknown_field(reader *r, const place *at, const ikv_kind_info *info,
                          const char *name)
{
    const char *known[64];
    char what[80];
    size_t count = 0;
    const ikv_field *header;
    place here = {at, "field", 0};
    /* the header's are of each kind */
    for (uint32_t i = 0; (header = ikv_field_header(i)) != NULL; i++)
        known[count++] = header->name;
    for (uint32_t i = 0; i < info->field_count && count < 63; i++)
        known[count++] = info->fields[i].name;
    known[count] = NULL;
    snprintf(what, sizeof what, "field of %.60s", info->name);
    return ikvi_setup_unknown(r, &here, what, name, known);
}

/* The value as the core wants it: named values, tags and targets by name. */
static bool make_value(reader *r, const place *at, const ikv_setup *setup,
                       const setup_handler *handler, const setup_condition *c,
                       ikv_value *to)
{
    const ikv_kind_info *info = first_kind(setup, handler);
    const ikv_field *field = ikv_field_find(info, c->field);
    target_finder finder = {find_target_by_name, ikvi_setup_find_number, setup,
                            NULL, false};
    /* target.tags and source.tags, which are no fields of an event. */
    bool tags = strstr(c->field, ".tags") != NULL;
    /* nor this one: it is a target, as the event's own */
    bool body = strstr(c->field, ".body") != NULL;
    *to = (ikv_value){IKV_VALUE_NONE, {0}};
    if (c->comparison == IKV_CHANGED)
        return c->value == NULL ||
               ikvi_reader_fail(r, at, "\"changed\" takes no value");
    if (tags) {
        uint32_t bits = 0;
        to->type = IKV_VALUE_INTEGER;
        if (!ikvi_setup_read_tags(r, at, (ikv_setup *)(uintptr_t)setup,
                                  c->value, &bits))
            return false;
        to->bits.integer = bits;
        ((ikv_setup *)(uintptr_t)setup)->asked_tags |= bits;
        return true;
    }
    if (body) {
        static const ikv_field target = {"body", IKV_TYPE_TARGET, 16, "", "", 1,
                                         0};
        field = &target;
    }
    if (field == NULL && info != NULL && strchr(c->field, '.') == NULL)
        return unknown_field(r, at != NULL ? at->up : NULL, info, c->field);
    if (field == NULL)
        return ikvi_read_scalar(r, at, c->value,
                                to); /* local.x; or it is refused */
    ikv_event event = ikv_event_make(info != NULL ? info->kind : 0, 0);
    if (!ikvi_read_field(r, at, c->value, field, &finder, &event))
        return false;
    *to = ikv_field_get(field, &event);
    return field->type != IKV_TYPE_U64 || to->bits.integer >= 0 ||
           ikvi_reader_fail(r, at,
                            "a condition's value is at most "
                            "9223372036854775807, found %s",
                            ikvi_json_found(c->value));
}

static bool read_one(reader *r, const place *at, ikv_setup *setup,
                     const setup_handler *handler, const json_t *value,
                     setup_condition *to)
{
    static const char *const members[] = {"field", "comparison", "value",
                                          "negate", NULL};
    ikv_value ignored;
    place here = {at, "value", 0};
    /* Kept as it stands: targets have no handles yet. */
    to->value = json_object_get(value, "value");
    return ikvi_expect_object(r, at, value, members) &&
           ikvi_read_string(r, at, value, "field", true, &to->field) &&
           ikvi_read_choice(r, at, value, "comparison", comparisons,
                            &to->comparison) &&
           ikvi_read_bool(r, at, value, "negate", &to->negate) &&
           (handler == NULL ||
            make_value(r, &here, setup, handler, to, &ignored));
}

static bool read_list(reader *r, const place *at, ikv_setup *setup,
                      const setup_handler *handler, const json_t *list,
                      bool in_group, setup_condition **to, uint32_t *count);

static bool read_group(reader *r, const place *at, ikv_setup *setup,
                       const setup_handler *handler, const json_t *value,
                       setup_condition *to)
{
    static const char *const members[] = {"join", "negate", "conditions", NULL};
    place here = {at, "conditions", 0};
    return ikvi_expect_object(r, at, value, members) &&
           ikvi_read_choice(r, at, value, "join", joins, &to->join) &&
           ikvi_read_bool(r, at, value, "negate", &to->negate) &&
           read_list(r, &here, setup, handler,
                     json_object_get(value, "conditions"), true,
                     &to->conditions, &to->count);
}

static bool read_list(reader *r, const place *at, ikv_setup *setup,
                      const setup_handler *handler, const json_t *list,
                      bool in_group, setup_condition **to, uint32_t *count)
{
    if (json_is_object(list))
        return ikvi_reader_fail(r, at,
                                "expected a list, [{\"field\": \"button\", "
                                "\"value\": 0}] for instance, found a bare "
                                "condition");
    if (!ikvi_expect_array(r, at, list))
        return false;
    if (json_array_size(list) == 0)
        return ikvi_reader_fail(r, at,
                                "expected a list of conditions, found an "
                                "empty one");
    /* Counted up as they are read. */
    *to = calloc(json_array_size(list), sizeof **to);
    for (size_t i = 0; *to != NULL && i < json_array_size(list); i++) {
        const json_t *one = json_array_get(list, i);
        place here = {at, NULL, i};
        bool group = json_object_get(one, "conditions") != NULL;
        if (group && in_group)
            return ikvi_reader_fail(r, &here,
                                    "groups are nested one level deep");
        ++*count;
        if (!(group ? read_group(r, &here, setup, handler, one, &(*to)[i])
                    : read_one(r, &here, setup, handler, one, &(*to)[i])))
            return false;
    }
    return *to != NULL || ikvi_no_memory(r) == IKV_OK;
}

/* A group's conditions are looked at for each of its handlers, whose kinds say
 * what the fields are. */
static bool check_group(reader *r, const place *at, ikv_setup *setup,
                        const setup_handler *handler)
{
    const setup_group *group = handler->group;
    ikv_value ignored;
    place here = {at, "group", 0};
    /* a field that this handler's kind lacks is refused */
    for (uint32_t i = 0; group != NULL && i < group->condition_count; i++)
        if (!make_value(r, &here, setup, handler, &group->conditions[i],
                        &ignored))
            return false;
    return group == NULL || handler->join == IKV_ALL ||
           ikvi_reader_fail(
               r, &here,
               "a handler of a group joins its own conditions by "
               "\"all\"; put those joined by \"any\" into a group of "
               "conditions");
}

bool ikvi_read_conditions(reader *r, const place *at, ikv_setup *setup,
                          const json_t *object, setup_handler *handler)
{
    static const char *const turns[] = {"often", "step", "frame", NULL};
    const json_t *list = json_object_get(object, "conditions");
    const json_t *tags = json_object_get(object, "at_tags");
    place here = {at, "conditions", 0}, at_tags = {at, "at_tags", 0};
    int64_t limit = 0, after = 0;
    double gap = 0;
    /* of a limit, 0 says that there is none: it can't be asked for in the
     * file */
    if (!ikvi_read_choice(r, at, object, "join", joins, &handler->join) ||
        !ikvi_read_choice(r, at, object, "at_most", turns, &handler->at_most) ||
        !ikvi_read_integer(r, at, object, "limit", 1, UINT32_MAX, &limit) ||
        !ikvi_read_integer(r, at, object, "after", 1, UINT32_MAX, &after) ||
        !ikvi_read_number(r, at, object, "gap", 0, 8.64e9, &gap) ||
        !ikvi_read_string(r, at, object, "at_body", false, &handler->at_body) ||
        (tags != NULL &&
         !ikvi_setup_read_tags(r, &at_tags, setup, tags, &handler->at_tags)))
        return false;
    setup->asked_tags |= handler->at_tags;
    handler->limit = (uint32_t)limit;
    handler->after = (uint32_t)after;
    /* Milliseconds in files, as people say them. */
    handler->gap_ns = (uint64_t)(gap * 1e6 + 0.5);
    place at_body = {at, "at_body", 0};
    if (handler->at_body != NULL &&
        ikvi_setup_find_target(setup, handler->at_body) == NULL)
        return ikvi_setup_unknown_target(r, &at_body, setup, handler->at_body);
    return check_group(r, at, setup, handler) &&
           (list == NULL ||
            read_list(r, &here, setup, handler, list, false,
                      &handler->conditions, &handler->condition_count));
}

bool ikvi_read_setup_group(reader *r, const place *at, ikv_setup *setup,
                           const json_t *value, setup_group *to)
{
    static const char *const members[] = {"name", "join", "conditions", "muted",
                                          NULL};
    const json_t *list = json_object_get(value, "conditions");
    const char *name = NULL;
    place here = {at, "conditions", 0}, at_name = {at, "name", 0};
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_name(r, at, value, "name", &name))
        return false;
    if (!ikvi_setup_name(r, &setup->group_names, name,
                         (size_t)(to - setup->groups)))
        return ikvi_reader_fail(r, &at_name, "the name \"%.60s\" is taken",
                                name);
    /* Names that are taken have been refused. */
    to->name = name;
    return ikvi_read_choice(r, at, value, "join", joins, &to->join) &&
           ikvi_read_bool(r, at, value, "muted", &to->muted) &&
           (list == NULL || read_list(r, &here, setup, NULL, list, true,
                                      &to->conditions, &to->condition_count));
}

void ikvi_free_conditions(setup_condition *conditions, uint32_t count)
{
    /* groups go one level deep, so that this is all */
    for (uint32_t i = 0; conditions != NULL && i < count; i++)
        free(conditions[i].conditions);
    free(conditions);
}

static void make_one(reader *r, const ikv_setup *setup,
                     const setup_handler *handler, const setup_condition *from,
                     ikv_condition *to)
{
    *to = (ikv_condition){.field = from->field,
                          .comparison = from->comparison,
                          .negate = from->negate};
    make_value(r, NULL, setup, handler, from, &to->value);
}

/* All conditions in one list: those of the handler itself first, then each
 * group's. */
ikv_status ikvi_make_conditions(const ikv_setup *setup,
                                const setup_handler *handler,
                                ikv_subscription_config *config,
                                ikv_condition **conditions,
                                ikv_condition_group **groups)
{
    reader r = {.path = ""};
    uint32_t total = 0, count = 0;
    const setup_group *shared = handler->group;
    for (uint32_t i = 0; i < handler->condition_count; i++)
        total += 1 + handler->conditions[i].count;
    if (shared != NULL)
        total += 1 + shared->condition_count;
    /* The groups point into this list, so that it is made whole before it is
     * filled. */
    *conditions = calloc(total + 1u, sizeof **conditions);
    *groups = calloc(total + 1u, sizeof **groups);
    if (*conditions == NULL || *groups == NULL)
        return IKV_NO_MEMORY;
    for (uint32_t i = 0; i < handler->condition_count; i++)
        if (handler->conditions[i].count == 0)
            make_one(&r, setup, handler, &handler->conditions[i],
                     &(*conditions)[count++]);
    config->condition_count = count;
    config->conditions = count > 0 ? *conditions : NULL;
    for (uint32_t i = 0; i < handler->condition_count; i++) {
        const setup_condition *g = &handler->conditions[i];
        if (g->count == 0)
            continue;
        (*groups)[config->group_count++] =
            (ikv_condition_group){.join = g->join,
                                  .count = g->count,
                                  .conditions = *conditions + count,
                                  .negate = g->negate};
        for (uint32_t c = 0; c < g->count; c++)
            make_one(&r, setup, handler, &g->conditions[c],
                     &(*conditions)[count++]);
    }
    /* What handlers share is one more group. */
    if (shared != NULL && shared->condition_count > 0) {
        (*groups)[config->group_count++] =
            (ikv_condition_group){.join = shared->join,
                                  .count = shared->condition_count,
                                  .conditions = *conditions + count};
        for (uint32_t c = 0; c < shared->condition_count; c++)
            make_one(&r, setup, handler, &shared->conditions[c],
                     &(*conditions)[count++]);
    }
    config->groups = config->group_count > 0 ? *groups : NULL;
    config->join = handler->join;
    return IKV_OK;
}

/* ------------------------------------------------------------- mistakes -- */

/* What one condition lets through: an interval, or all but one number. */
typedef struct span {
    const char *field;
    double low, high;
    bool open_low, open_high; /* the end itself is left out */
    bool all_but;             /* `low`; then nothing else counts */
} span;

enum {
    SPANS = 64 /* conditions of a handler that are compared */
};

static bool number_of(const ikv_value *value, double *number)
{
    const double exact = 9007199254740992.0; /* 2^53 */
    if (value->type == IKV_VALUE_NUMBER)
        *number = value->bits.number;
    else if (value->type == IKV_VALUE_INTEGER)
        *number = (double)value->bits.integer;
    else if (value->type == IKV_VALUE_BOOL)
        *number = value->bits.boolean ? 1 : 0;
    else
        return false;
    return *number > -exact && *number < exact;
}

/* False for one that says nothing of numbers. */
static bool span_of(const ikv_setup *setup, const setup_handler *handler,
                    const setup_condition *c, span *to)
{
    reader silent = {.path = setup->path};
    const ikv_field *field =
        ikv_field_find(first_kind(setup, handler), c->field);
    ikv_value value;
    double number;
    *to = (span){c->field, -HUGE_VAL, HUGE_VAL, false, false, false};
    /* what actions are numbered is known when they are added */
    if (c->comparison == IKV_CHANGED || c->comparison == IKV_HAS ||
        strstr(c->field, ".tags") != NULL ||
        strstr(c->field, ".body") != NULL ||
        (field != NULL && field->set == IKV_SET_ACTION) ||
        !make_value(&silent, NULL, setup, handler, c, &value) ||
        !number_of(&value, &number))
        return false;
    to->all_but = c->comparison == IKV_EQUAL && c->negate;
    if (c->comparison == IKV_EQUAL) {
        to->low = to->high = number;
        return true;
    }
    /* what is not a number is neither below nor above */
    if (c->negate)
        return false;
    /* a place's numbers have fractions, however the file writes them */
    bool whole = field != NULL && value.type == IKV_VALUE_INTEGER;
    if (c->comparison == IKV_BELOW || c->comparison == IKV_AT_MOST) {
        to->open_high = c->comparison == IKV_BELOW && !whole;
        to->high = number - (c->comparison == IKV_BELOW && whole ? 1 : 0);
    } else {
        to->open_low = c->comparison == IKV_ABOVE && !whole;
        to->low = number + (c->comparison == IKV_ABOVE && whole ? 1 : 0);
    }
    return true;
}

static bool exclude_each_other(const span *a, const span *b)
{
    if (strcmp(a->field, b->field) != 0 || (a->all_but && b->all_but))
        return false;
    if (a->all_but || b->all_but) {
        const span *point = a->all_but ? b : a;
        double gone = a->all_but ? a->low : b->low;
        return point->low == gone && point->high == gone;
    }
    double low = fmax(a->low, b->low), high = fmin(a->high, b->high);
    bool open =
        (a->open_low && a->low == low) || (b->open_low && b->low == low) ||
        (a->open_high && a->high == high) || (b->open_high && b->high == high);
    return low > high || (low == high && open);
}

static uint32_t add_spans(const ikv_setup *setup, const setup_handler *handler,
                          const setup_condition *list, uint32_t count, span *to,
                          uint32_t used)
{
    for (uint32_t i = 0; i < count && used < SPANS; i++)
        if (list[i].count == 0 && span_of(setup, handler, &list[i], &to[used]))
            used++;
    return used;
}

const char *ikvi_conditions_exclude(const ikv_setup *setup,
                                    const setup_handler *handler)
{
    span spans[SPANS];
    uint32_t used = 0;
    const setup_group *group = handler->group;
    /* of several kinds each may understand a value in its way */
    if (handler->kind_count != 1 || handler->families != 0 ||
        handler->all_kinds)
        return NULL;
    if (handler->join == IKV_ALL)
        used = add_spans(setup, handler, handler->conditions,
                         handler->condition_count, spans, used);
    if (group != NULL && group->join == IKV_ALL)
        used = add_spans(setup, handler, group->conditions,
                         group->condition_count, spans, used);
    for (uint32_t i = 0; i < used; i++)
        for (uint32_t k = 0; k < i; k++)
            if (exclude_each_other(&spans[i], &spans[k]))
                return spans[i].field;
    return NULL;
}

/* The first in the list that asks for one. */
static const char *action_asked(const setup_condition *list, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++)
        if (list[i].count == 0 && strcmp(list[i].field, "action") == 0 &&
            list[i].comparison == IKV_EQUAL && !list[i].negate &&
            json_is_string(list[i].value))
            return json_string_value(list[i].value);
    return NULL;
}

const char *ikvi_conditions_action(const setup_handler *handler)
{
    const setup_group *group = handler->group;
    const char *asked = NULL;
    if (handler->join == IKV_ALL)
        asked = action_asked(handler->conditions, handler->condition_count);
    if (asked == NULL && group != NULL && group->join == IKV_ALL)
        asked = action_asked(group->conditions, group->condition_count);
    return asked;
}
