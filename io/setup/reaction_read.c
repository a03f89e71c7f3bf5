/* reaction_read.c - reads what a handler in a setup does: each reaction takes what
 * its row says. */
#include "reactions.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

static bool wrong_form(reader *r, const place *at, const reaction *to,
                       const json_t *value)
{
    return ikvi_reader_fail(r, at, "expected the form %s, found %s",
                            to->row->form, ikvi_json_found(value));
}

static bool read_target_id(reader *r, const place *at, ikv_setup *setup,
                           const json_t *object, reaction *to)
{
    if (!ikvi_read_string(r, at, object, "target", false, &to->target_id))
        return false;
    /* "root" is always there */
    place here = {at, "target", 0};
    return to->target_id == NULL || strcmp(to->target_id, "root") == 0 ||
           ikvi_setup_find_target(setup, to->target_id) != NULL ||
           ikvi_setup_unknown_target(r, &here, setup, to->target_id);
}

/* A constant, or {"field": "x"}: the event's field of that name. */
static bool read_argument(reader *r, const place *at, const json_t *value,
                          argument *to)
{
    static const char *const members[] = {"field", NULL};
    if (json_is_object(value))
        return ikvi_expect_object(r, at, value, members) &&
               ikvi_read_string(r, at, value, "field", true, &to->event_field);
    return ikvi_read_scalar(r, at, value, &to->constant);
}

/* The same, of a number: a coordinate, or what an action is fed. */
static bool read_number_argument(reader *r, const place *at,
                                 const json_t *value, argument *to)
{
    if (!read_argument(r, at, value, to))
        return false;
    /* a field's type is known only when an event comes */
    return to->event_field != NULL ||
           (json_is_number(value) &&
            fabs(json_number_value(value)) <= IKV_COORDINATE_LIMIT) ||
           ikvi_reader_fail(r, at,
                            "expected a number from -2^30 to 2^30, found %s",
                            ikvi_json_found(value));
}

static bool read_position(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "x", "y", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    if (!ikvi_expect_object(r, at, value, members) ||
        !read_target_id(r, at, setup, value, to))
        return false;
    for (int i = 0; i < 2; i++) {
        const char *member = members[i + 1];
        place here = {at, member, 0};
        /* each of the two is needed: half a position is a mistake */
        const json_t *part = json_object_get(value, member);
        if (part == NULL)
            return wrong_form(r, at, to, value);
        if (!read_number_argument(r, &here, part, &to->arguments[i]))
            return false;
    }
    return true;
}

static bool read_set(reader *r, const place *at, ikv_setup *setup,
                     const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "field", "value", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    place here = {at, "value", 0};
    return ikvi_expect_object(r, at, value, members) &&
           read_target_id(r, at, setup, value, to) &&
           ikvi_read_string(r, at, value, "field", true, &to->text) &&
           read_argument(r, &here, json_object_get(value, "value"),
                         &to->arguments[0]);
}

static bool read_toggle(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "field", NULL};
    if (json_is_string(value)) {
        to->text = json_string_value(value);
        return true;
    }
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    return ikvi_expect_object(r, at, value, members) &&
           read_target_id(r, at, setup, value, to) &&
           ikvi_read_string(r, at, value, "field", true, &to->text);
}

static bool read_lane(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    static const char *const lanes[] = {"step", "frame", NULL};
    /* as ikv_bus_defer() does where nothing is said */
    const char *lane = "step";
    if (!ikvi_read_string(r, at, value, "lane", false, &lane))
        return false;
    place here = {at, "lane", 0};
    if (strcmp(lane, "step") != 0 && strcmp(lane, "frame") != 0)
        return ikvi_setup_unknown(r, &here, "lane", lane, lanes);
    to->lane = strcmp(lane, "step") == 0 ? IKV_STEP_LANE : IKV_FRAME_LANE;
    return true;
}

static bool read_event_field(reader *r, const place *at, const json_t *value,
                             const ikv_field *field, reaction *to)
{
    static const char *const members[] = {"field", NULL};
    /* a constant goes into the event here, once for all */
    if (!json_is_object(value))
        return ikvi_read_field(r, at, value, field, NULL, &to->event);
    if (to->argument_count == SETUP_ARGUMENTS)
        return ikvi_reader_fail(r, at, "more than %d fields of the event",
                                SETUP_ARGUMENTS);
    argument *a = &to->arguments[to->argument_count++];
    a->to = field;
    return ikvi_expect_object(r, at, value, members) &&
           ikvi_read_string(r, at, value, "field", true, &a->event_field);
}

static bool read_sent_event(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, reaction *to)
{
    const json_t *kind = json_object_get(value, "kind");
    place here = {at, "kind", 0};
    if (!json_is_object(value) || kind == NULL)
        return wrong_form(r, at, to, value);
    ikv_kind number;
    if (!ikvi_setup_read_kind(r, &here, setup, kind, &number) ||
        !read_target_id(r, at, setup, value, to))
        return false;
    to->event = ikv_event_make(number, 0);
    if (to->row->takes == TAKES_LANE && !read_lane(r, at, value, to))
        return false;
    const ikv_kind_info *info = ikv_catalogue_info(setup->catalogue, number);
    const char *member;
    json_t *part;
    json_object_foreach((json_t *)(uintptr_t)value, member, part)
    {
        /* what is not of the payload was read above; a note is for people */
        if (strcmp(member, "kind") == 0 || strcmp(member, "target") == 0 ||
            strcmp(member, "note") == 0 ||
            (strcmp(member, "lane") == 0 && to->row->takes == TAKES_LANE))
            continue;
        place at_member = {at, member, 0};
        const ikv_field *field = NULL;
        for (uint32_t i = 0; i < info->field_count; i++)
            if (strcmp(info->fields[i].name, member) == 0)
                field = &info->fields[i];
        if (field == NULL) {
            const char *known[FIELDS_PER_TARGET * 2 + 4];
            size_t count = 0;
            for (uint32_t i = 0; i < info->field_count; i++)
                known[count++] = info->fields[i].name;
            /* it can be given beside the fields: a near name may mean it */
            known[count++] = "target";
            known[count] = NULL;
            return ikvi_setup_unknown(r, &at_member, "field", member, known);
        }
        if (!read_event_field(r, &at_member, part, field, to))
            return false;
    }
    return true;
}

static bool read_feed(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value, reaction *to)
{
    static const char *const members[] = {"action", "x", "y", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "action", true, &to->text))
        return false;
    place action = {at, "action", 0};
    if (ikvi_setup_find_action(setup, to->text) == NULL)
        return ikvi_setup_unknown_of(r, &action, "action", to->text,
                                     setup->action_names, NULL);
    for (int i = 0; i < 2; i++) {
        place here = {at, members[i + 1], 0};
        const json_t *part = json_object_get(value, members[i + 1]);
        if (part != NULL &&
            !read_number_argument(r, &here, part, &to->arguments[i]))
            return false;
    }
    return true;
}

static bool read_seat(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    json_int_t seat = json_integer_value(value);
    if (!json_is_integer(value) || seat < 0 || seat >= IKV_SEAT_LIMIT)
        return ikvi_reader_fail(r, at, "expected a seat from 0 to %d, found %s",
                                IKV_SEAT_LIMIT - 1, ikvi_json_found(value));
    to->arguments[0].constant =
        (ikv_value){IKV_VALUE_INTEGER, {.integer = seat}};
    return true;
}

static bool read_name(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value, reaction *to)
{
    const char *name = json_string_value(value);
    if (name == NULL)
        return wrong_form(r, at, to, value);
    if (to->row->takes == TAKES_TARGET) {
        to->target_id = name;
        return ikvi_setup_find_target(setup, name) != NULL ||
               ikvi_setup_unknown_target(r, at, setup, name);
    }
    to->text = name;
    if (to->row->takes == TAKES_SET)
        return ikvi_setup_find_set(setup, name) < setup->set_count ||
               ikvi_setup_unknown_of(r, at, "set", name, setup->set_names,
                                     NULL);
    if (to->row->takes == TAKES_DIRECTION) {
        for (uint32_t i = 0; ikvi_directions[i] != NULL; i++)
            if (strcmp(ikvi_directions[i], name) == 0)
                return true;
        return ikvi_setup_unknown(r, at, "direction", name, ikvi_directions);
    }
    /* any text will do; a handler or a group must be there */
    if (to->row->takes == TAKES_TEXT ||
        ikvi_setup_find_handler(setup, name) != NULL ||
        ikvi_setup_find_group(setup, name) != NULL)
        return true;
    return ikvi_setup_unknown_of(r, at, "handler or group", name,
                                 setup->handler_names, setup->group_names);
}

static bool unknown_reaction(reader *r, const place *at, const char *name)
{
    const char *known[MOST_REACTIONS + 1];
    size_t count = 0;
    while (count < MOST_REACTIONS &&
           (known[count] = ikvi_reaction_name(count)) != NULL)
        count++;
    known[count] = NULL;
    return ikvi_setup_unknown(r, at, "reaction", name, known);
}

static bool read_bare(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    const char *name = json_string_value(value);
    to->row = ikvi_find_reaction(name);
    if (to->row == NULL)
        return unknown_reaction(r, at, name);
    /* what its event or its handler can say without words */
    return to->row->takes == TAKES_NOTHING || to->row->takes == TAKES_TARGET ||
           to->row->takes == TAKES_HANDLER || wrong_form(r, at, to, value);
}

bool ikvi_read_reaction(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, reaction *to)
{
    if (json_is_string(value))
        return read_bare(r, at, value, to);
    if (!json_is_object(value) || json_object_size(value) != 1)
        return ikvi_reader_fail(r, at,
                                "expected a reaction, \"stop\" or {\"toggle\": "
                                "\"lit\"} for instance, found %s",
                                ikvi_json_found(value));
    /* the one member's name says what, its value with what */
    void *only = json_object_iter((json_t *)(uintptr_t)value);
    const char *name = json_object_iter_key(only);
    const json_t *part = json_object_iter_value(only);
    place here = {at, name, 0};
    to->row = ikvi_find_reaction(name);
    if (to->row == NULL)
        return unknown_reaction(r, at, name);
    /* a setup has many reactions and few arguments */
    if (to->row->takes == TAKES_SEAT ||
        (to->row->takes != TAKES_NOTHING && to->row->takes != TAKES_FIELD &&
         json_is_object(part))) {
        to->arguments = calloc(SETUP_ARGUMENTS, sizeof *to->arguments);
        if (to->arguments == NULL)
            return ikvi_no_memory(r) == IKV_OK;
    }
    switch (to->row->takes) {
    case TAKES_NOTHING:
        return wrong_form(r, at, to, value);
    case TAKES_FIELD:
        return read_toggle(r, &here, setup, part, to);
    case TAKES_VALUE:
        return read_set(r, &here, setup, part, to);
    case TAKES_POSITION:
        return read_position(r, &here, setup, part, to);
    case TAKES_FEED:
        return read_feed(r, &here, setup, part, to);
    case TAKES_SEAT:
        return read_seat(r, &here, part, to);
    case TAKES_EVENT:
    case TAKES_LANE:
        return read_sent_event(r, &here, setup, part, to);
    default:
        return read_name(r, &here, setup, part, to);
    }
}
