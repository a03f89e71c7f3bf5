/* setup_read.c - what a setup document says: kinds, targets, handlers.
 *
 * Reading goes in the order kinds, names of targets and handlers, then their
 * contents, so that the order of definition in the file is free.
 */
#define _POSIX_C_SOURCE 200809L
#include "setup.h"

#include <stdlib.h>
#include <string.h>

/* ---------------------------------------------------------------- kinds -- */

static bool read_kind_field(reader *r, const place *at, const json_t *value,
                            ikv_field *field, uint16_t *offset)
{
    static const char *const members[] = {"name", "type", "unit", "meaning",
                                          NULL};
    const char *type = NULL, *known[IKV_TYPE_COUNT + 1] = {NULL};
    *field = (ikv_field){.unit = "", .meaning = ""};
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "name", true, &field->name) ||
        !ikvi_read_string(r, at, value, "type", true, &type) ||
        !ikvi_read_line(r, at, value, "unit", &field->unit) ||
        !ikvi_read_line(r, at, value, "meaning", &field->meaning))
        return false;
    if (ikvi_place_field(field, type, offset))
        return true;
    for (uint32_t i = 0; ikvi_field_type_name(i) != NULL; i++)
        known[i] = ikvi_field_type_name(i);
    place here = {at, "type", 0};
    return ikvi_setup_unknown(r, &here, "type", type, known);
}

static bool read_user_kind(reader *r, const place *at, ikv_setup *setup,
                           const json_t *value)
{
    static const char *const members[] = {
        "name",   "when", "words", "bubbles", "pushable", "outlives_target",
        "fields", NULL};
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    ikv_field fields[FIELDS_PER_TARGET];
    uint16_t offset = 0;
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "name", true, &config.name) ||
        !ikvi_read_line(r, at, value, "when", &config.when) ||
        !ikvi_read_line(r, at, value, "words", &config.words) ||
        !ikvi_read_bool(r, at, value, "bubbles", &config.bubbles) ||
        !ikvi_read_bool(r, at, value, "pushable", &config.pushable) ||
        !ikvi_read_bool(r, at, value, "outlives_target",
                        &config.outlives_target))
        return false;
    const json_t *list = json_object_get(value, "fields");
    place here = {at, "fields", 0};
    if (list != NULL && !ikvi_expect_array(r, &here, list))
        return false;
    if (json_array_size(list) > FIELDS_PER_TARGET)
        return ikvi_reader_fail(r, &here,
                                "expected at most %d fields, found %zu",
                                FIELDS_PER_TARGET, json_array_size(list));
    for (size_t i = 0; i < json_array_size(list); i++) {
        place one = {&here, NULL, i};
        if (!read_kind_field(r, &one, json_array_get(list, i), &fields[i],
                             &offset))
            return false;
    }
    config.fields = fields;
    config.field_count = (uint32_t)json_array_size(list);
    setup->kind_count++;
    ikv_kind kind = ikv_catalogue_find(setup->catalogue, config.name);
    /* Of a lent catalogue: it was compared before. */
    if (setup->catalogue_lent && kind != IKV_KIND_NONE)
        return true;
    /* The catalogue checks names, sizes and room. */
    ikv_message message = {"it can't be registered"};
    if (ikv_catalogue_register(setup->catalogue, &config, &kind, &message) < 0)
        return ikvi_reader_fail(r, at, "%.300s", message.text);
    return true;
}

/* ------------------------------------------------------------- handlers -- */

static bool read_kinds(reader *r, const place *at, const ikv_setup *setup,
                       const json_t *list, setup_handler *handler)
{
    if (!ikvi_expect_array(r, at, list))
        return false;
    if (json_array_size(list) == 0 || json_array_size(list) > 1000)
        return ikvi_reader_fail(r, at,
                                "expected a list of kinds, found an empty "
                                "one, or one of more than 1,000");
    /* The list is counted up as it is read, so that closing frees what there
     * is. */
    handler->kinds = calloc(json_array_size(list), sizeof *handler->kinds);
    for (size_t i = 0; handler->kinds != NULL && i < json_array_size(list);
         i++) {
        place one = {at, NULL, i};
        if (!ikvi_setup_read_kind(r, &one, setup, json_array_get(list, i),
                                  &handler->kinds[handler->kind_count++]))
            return false;
    }
    return handler->kinds != NULL || ikvi_no_memory(r) == IKV_OK;
}

static bool read_families(reader *r, const place *at, const json_t *list,
                          setup_handler *handler)
{
    if (!ikvi_expect_array(r, at, list))
        return false;
    for (size_t i = 0; i < json_array_size(list); i++) {
        place one = {at, NULL, i};
        const char *name = json_string_value(json_array_get(list, i));
        uint32_t family = ikv_family_find(name);
        if (name == NULL)
            return ikvi_reader_fail(r, &one,
                                    "expected a family's name, found %s",
                                    ikvi_json_found(json_array_get(list, i)));
        /* For the nearest name, if this is none. */
        const char *known[IKV_FAMILY_COUNT + 1] = {NULL};
        for (uint32_t f = 0; f < IKV_FAMILY_COUNT; f++)
            known[f] = ikv_family_name(f);
        if (family == IKV_FAMILY_COUNT)
            return ikvi_setup_unknown(r, &one, "family", name, known);
        handler->families |= 1u << family;
    }
    return handler->families != 0 ||
           ikvi_reader_fail(r, at,
                            "expected a list of families, found an empty "
                            "one");
}

static bool read_what(reader *r, const place *at, const ikv_setup *setup,
                      const json_t *value, setup_handler *handler)
{
    const json_t *kinds = json_object_get(value, "kinds");
    const json_t *families = json_object_get(value, "families");
    place at_kinds = {at, "kinds", 0}, at_families = {at, "families", 0};
    if (!ikvi_read_bool(r, at, value, "all_kinds", &handler->all_kinds))
        return false;
    /* Two ways at once would leave open which is meant. */
    if ((kinds != NULL) + (families != NULL) + handler->all_kinds != 1)
        return ikvi_reader_fail(
            r, at,
            "expected one of \"kinds\": [...], \"families\": "
            "[...], \"all_kinds\": true");
    if (kinds != NULL)
        return read_kinds(r, &at_kinds, setup, kinds, handler);
    return families == NULL ||
           read_families(r, &at_families, families, handler);
}

static bool read_at(reader *r, const place *at, const ikv_setup *setup,
                    const json_t *value, setup_handler *handler)
{
    const json_t *where = json_object_get(value, "at");
    place here = {at, "at", 0};
    /* One id, or a list of them. */
    size_t count =
        json_is_array(where) ? json_array_size(where) : where != NULL;
    if (where == NULL)
        return true;
    if (count == 0)
        return ikvi_reader_fail(r, &here,
                                "expected a target's id or a list of "
                                "them, found an empty list");
    handler->at = calloc(count, sizeof *handler->at);
    for (size_t i = 0; handler->at != NULL && i < count; i++) {
        const json_t *one =
            json_is_array(where) ? json_array_get(where, i) : where;
        const char *id = json_string_value(one);
        if (id == NULL)
            return ikvi_reader_fail(r, &here,
                                    "expected a target's id, found %s",
                                    ikvi_json_found(one));
        if (ikvi_setup_find_target(setup, id) == NULL)
            return ikvi_setup_unknown_target(r, &here, setup, id);
        handler->at[handler->at_count++] = id;
    }
    return handler->at != NULL || ikvi_no_memory(r) == IKV_OK;
}

static bool read_phases(reader *r, const place *at, const json_t *value,
                        uint32_t *phases)
{
    static const char *const names[] = {"capturing", "target", "bubbling",
                                        NULL};
    const json_t *list = json_object_get(value, "phases");
    place here = {at, "phases", 0};
    if (list == NULL)
        return true;
    if (!ikvi_expect_array(r, &here, list))
        return false;
    for (size_t i = 0; i < json_array_size(list); i++) {
        const char *name = json_string_value(json_array_get(list, i));
        uint32_t n = 0;
        while (name != NULL && names[n] != NULL && strcmp(names[n], name) != 0)
            n++;
        if (name == NULL || names[n] == NULL)
            return ikvi_reader_fail(r, &here,
                                    "expected \"capturing\", \"target\" or "
                                    "\"bubbling\", found %s",
                                    ikvi_json_found(json_array_get(list, i)));
        /* The names stand in the order of the phases' bits. */
        *phases |= 1u << n;
    }
    return true;
}

static bool read_reactions(reader *r, const place *at, ikv_setup *setup,
                           const json_t *value, setup_handler *handler)
{
    const json_t *list = json_object_get(value, "reactions");
    place here = {at, "reactions", 0};
    if (list == NULL)
        return true;
    /* An empty list, too: the handler does nothing, and needs no binding. */
    handler->has_reactions = true;
    if (!ikvi_expect_array(r, &here, list))
        return false;
    size_t count = json_array_size(list);
    if (count == 0)
        return true;
    handler->reactions = calloc(count, sizeof *handler->reactions);
    for (size_t i = 0; handler->reactions != NULL && i < count; i++) {
        place one = {&here, NULL, i};
        handler->reaction_count++;
        if (!ikvi_read_reaction(r, &one, setup, json_array_get(list, i),
                                &handler->reactions[i]))
            return false;
    }
    return handler->reactions != NULL || ikvi_no_memory(r) == IKV_OK;
}

static bool read_group_name(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, setup_handler *handler)
{
    const char *name = NULL;
    place here = {at, "group", 0};
    if (!ikvi_read_string(r, at, value, "group", false, &name) || name == NULL)
        return !r->failed;
    handler->group = ikvi_setup_find_group(setup, name);
    return handler->group != NULL ||
           ikvi_setup_unknown_of(r, &here, "group", name, setup->group_names,
                                 NULL);
}

static bool read_owner(reader *r, const place *at, ikv_setup *setup,
                       const json_t *value, setup_handler *handler)
{
    place here = {at, "owner", 0};
    size_t count = json_object_size(setup->owner_names);
    if (!ikvi_read_string(r, at, value, "owner", false, &handler->owner))
        return false;
    if (handler->owner == NULL ||
        ikvi_setup_place(setup->owner_names, handler->owner) != SIZE_MAX)
        return true;
    if (count == OWNERS)
        return ikvi_reader_fail(r, &here, "more than %d different owners",
                                OWNERS);
    return ikvi_setup_name(r, &setup->owner_names, handler->owner, count);
}

static bool read_handler(reader *r, const place *at, ikv_setup *setup,
                         const json_t *value, setup_handler *handler)
{
    static const char *const members[] = {
        "name",   "kinds",      "families", "all_kinds", "at",
        "phases", "rank",       "owner",    "muted",     "reactions",
        "join",   "conditions", "at_tags",  "at_body",   "limit",
        "after",  "at_most",    "gap",      "group",     NULL};
    int64_t rank = 0;
    if (!ikvi_expect_object(r, at, value, members) ||
        !read_what(r, at, setup, value, handler) ||
        !read_at(r, at, setup, value, handler) ||
        !read_phases(r, at, value, &handler->phases) ||
        !ikvi_read_integer(r, at, value, "rank", INT32_MIN, INT32_MAX, &rank) ||
        !read_owner(r, at, setup, value, handler) ||
        !ikvi_read_bool(r, at, value, "muted", &handler->muted) ||
        !read_group_name(r, at, setup, value, handler) ||
        !ikvi_read_conditions(r, at, setup, value, handler) ||
        !read_reactions(r, at, setup, value, handler))
        return false;
    /* Read as 64 bits, within these 32. */
    handler->rank = (int32_t)rank;
    return true;
}

/* --------------------------------------------------- the whole document -- */

static bool read_view(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value)
{
    static const char *const members[] = {"width", "height", NULL};
    double width = 0, height = 0;
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_number(r, at, value, "width", 1, 1e6, &width) ||
        !ikvi_read_number(r, at, value, "height", 1, 1e6, &height))
        return false;
    setup->view_width = (float)width;
    setup->view_height = (float)height;
    return true;
}

static bool read_loop(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value)
{
    static const char *const members[] = {"steps", "per_seconds", "frame_hz",
                                          "max_steps", NULL};
    int64_t hz = 0, most = 0;
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_rate(r, at, value, &setup->step_num, &setup->step_den) ||
        !ikvi_read_integer(r, at, value, "frame_hz", 1, 1000000, &hz) ||
        !ikvi_read_integer(r, at, value, "max_steps", 1, 1000, &most))
        return false;
    setup->frame_hz = (uint32_t)hz;
    setup->max_steps = (uint32_t)most;
    return true;
}

typedef bool (*entry_reader)(reader *r, const place *at, ikv_setup *setup,
                             const json_t *value, size_t index);

static bool each(reader *r, ikv_setup *setup, const char *member,
                 entry_reader read)
{
    const json_t *list = json_object_get(setup->document, member);
    place here = {NULL, member, 0};
    if (list == NULL)
        return true;
    if (!ikvi_expect_array(r, &here, list))
        return false;
    /* Up to the first that is wrong: its message is the file's. */
    for (size_t i = 0; i < json_array_size(list); i++) {
        place one = {&here, NULL, i};
        if (!read(r, &one, setup, json_array_get(list, i), i))
            return false;
    }
    return true;
}

static bool kind_entry(reader *r, const place *at, ikv_setup *setup,
                       const json_t *value, size_t index)
{
    (void)index;
    return read_user_kind(r, at, setup, value);
}

static bool target_name_entry(reader *r, const place *at, ikv_setup *setup,
                              const json_t *value, size_t index)
{
    const char *id = NULL;
    if (!json_is_object(value))
        return ikvi_reader_fail(r, at, "expected an object, found %s",
                                ikvi_json_found(value));
    if (!ikvi_read_name(r, at, value, "id", &id))
        return false;
    place here = {at, "id", 0};
    if (strcmp(id, "root") == 0)
        return ikvi_reader_fail(r, &here,
                                "expected a name of its own, found \"%s\"", id);
    if (!ikvi_setup_name(r, &setup->target_names, id, index))
        return ikvi_reader_fail(r, &here, "the id \"%.60s\" is taken", id);
    setup->targets[index] =
        (setup_target){.id = id, .parent = NO_INDEX, .config = IKV_TARGET_INIT};
    setup->targets[index].config.id = (uint32_t)index + 1;
    return true;
}

static bool handler_name_entry(reader *r, const place *at, ikv_setup *setup,
                               const json_t *value, size_t index)
{
    const char *name = NULL;
    if (!json_is_object(value))
        return ikvi_reader_fail(r, at, "expected an object, found %s",
                                ikvi_json_found(value));
    if (!ikvi_read_name(r, at, value, "name", &name))
        return false;
    place here = {at, "name", 0};
    if (ikvi_setup_find_group(setup, name) != NULL ||
        !ikvi_setup_name(r, &setup->handler_names, name, index))
        return ikvi_reader_fail(r, &here, "the name \"%.60s\" is taken", name);
    setup_handler *to = &setup->handlers[index];
    *to = (setup_handler){.setup = setup, .name = name, .first = to, .now = to};
    return true;
}

static bool group_entry(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, size_t index)
{
    return ikvi_read_setup_group(r, at, setup, value, &setup->groups[index]);
}

static bool target_entry(reader *r, const place *at, ikv_setup *setup,
                         const json_t *value, size_t index)
{
    return ikvi_read_setup_target(r, at, setup, value, &setup->targets[index]);
}

static bool handler_entry(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, size_t index)
{
    return read_handler(r, at, setup, value, &setup->handlers[index]);
}

static bool open_catalogue(reader *r, ikv_setup *setup)
{
    ikv_catalogue_config config = IKV_CATALOGUE_INIT;
    size_t kinds = json_array_size(json_object_get(setup->document, "kinds"));
    if (setup->catalogue_lent)
        return true;
    /* And some that come while it runs. */
    config.user_kinds = (uint32_t)(kinds < 3000 ? kinds : 3000) + 16;
    config.user_fields = config.user_kinds * FIELDS_PER_TARGET;
    config.text_bytes = 65536 + config.user_kinds * 1024;
    config.memory = ikv_host_memory();
    return ikv_catalogue_open(&config, &setup->catalogue) == IKV_OK ||
           ikvi_no_memory(r) == IKV_OK;
}

bool ikvi_read_document(reader *r, ikv_setup *setup)
{
    static const char *const members[] = {
        "format", "view",    "loop",   "router",   "layers",
        "kinds",  "targets", "groups", "handlers", "announces",
        "sets",   "actions", NULL};
    const char *format = NULL;
    const json_t *document = setup->document;
    if (!json_is_object(document))
        return ikvi_reader_fail(r, NULL, "expected an object, found %s",
                                ikvi_json_found(document));
    if (!ikvi_read_string(r, NULL, document, "format", true, &format))
        return false;
    place at_format = {NULL, "format", 0}, at_view = {NULL, "view", 0},
          at_loop = {NULL, "loop", 0}, at_targets = {NULL, "targets", 0};
    if (strcmp(format, "ikvar.setup/1") != 0)
        return ikvi_reader_fail(r, &at_format,
                                "expected \"ikvar.setup/1\", found \"%.60s\"",
                                format);
    if (!ikvi_expect_object(r, NULL, document, members))
        return false;
    const json_t *view = json_object_get(document, "view");
    const json_t *loop = json_object_get(document, "loop");
    size_t targets = json_array_size(json_object_get(document, "targets"));
    size_t handlers = json_array_size(json_object_get(document, "handlers"));
    size_t groups = json_array_size(json_object_get(document, "groups"));
    if (groups > 1000)
        return ikvi_reader_fail(r, NULL, "more than 1,000 groups");
    if (targets > 1000000 || handlers > 1000000)
        return ikvi_reader_fail(r, NULL,
                                "more than a million targets or handlers");
    setup->targets = calloc(targets + 1, sizeof *setup->targets);
    setup->handlers = calloc(handlers + 1, sizeof *setup->handlers);
    size_t sets = json_array_size(json_object_get(document, "sets"));
    size_t actions = json_array_size(json_object_get(document, "actions"));
    if (sets > 1000 || actions > 100000)
        return ikvi_reader_fail(r, NULL,
                                "more than 1,000 sets or 100,000 actions");
    setup->sets = calloc(sets + 1, sizeof *setup->sets);
    setup->actions = calloc(actions + 1, sizeof *setup->actions);
    setup->set_count = (uint32_t)sets;
    setup->action_count = (uint32_t)actions;
    setup->groups = calloc(groups + 1, sizeof *setup->groups);
    setup->group_count = (uint32_t)groups;
    setup->target_count = (uint32_t)targets;
    setup->handler_count = (uint32_t)handlers;
    if (setup->groups == NULL || setup->targets == NULL ||
        setup->handlers == NULL || setup->sets == NULL ||
        setup->actions == NULL)
        return ikvi_no_memory(r) == IKV_OK;
    return open_catalogue(r, setup) &&
           (view == NULL || read_view(r, &at_view, setup, view)) &&
           (loop == NULL || read_loop(r, &at_loop, setup, loop)) &&
           ikvi_read_bool(r, NULL, document, "announces", &setup->announces) &&
           ikvi_read_router_settings(r, setup) && ikvi_read_layers(r, setup) &&
           each(r, setup, "kinds", kind_entry) &&
           each(r, setup, "targets", target_name_entry) &&
           each(r, setup, "sets", ikvi_read_action_set) &&
           each(r, setup, "actions", ikvi_read_setup_action) &&
           each(r, setup, "groups", group_entry) &&
           each(r, setup, "handlers", handler_name_entry) &&
           each(r, setup, "targets", target_entry) &&
           ikvi_check_parents(r, &at_targets, setup) &&
           each(r, setup, "actions", ikvi_check_setup_bindings) &&
           each(r, setup, "handlers", handler_entry);
}
