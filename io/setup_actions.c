/* setup_actions.c - sets, actions and bindings in setups, and files of bindings
 * alone. */
#include "setup.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum {
    BINDINGS_FILE_LIMIT = 4096
};

/* Finds a layer by its name, or says what is wrong. */
typedef struct scope_reader {
    const ikv_setup *setup;
    const place *at;
} scope_reader;

/* A binding as it stands in a file. */
typedef struct read_binding {
    const char *text;
    ikv_scope scope;
    const char *target_id; /* of its scope, or NULL */
} read_binding;

static bool read_scope_target(reader *r, const scope_reader *s,
                              const json_t *value, const char *member,
                              uint32_t where, read_binding *to)
{
    place here = {s->at, member, 0};
    const char *id = NULL;
    if (!ikvi_read_string(r, s->at, value, member, false, &id))
        return false;
    if (id == NULL)
        return true;
    to->scope.where = where;
    if (where == IKV_FOCUSED && strcmp(id, "root") == 0)
        return true; /* on anything */
    if (s->setup == NULL || ikvi_setup_find_target(s->setup, id) == NULL)
        return s->setup != NULL
                   ? ikvi_setup_unknown_target(r, &here, s->setup, id)
                   : ikvi_reader_fail(
                         r, &here, "there is no setup to name \"%.60s\"", id);
    to->target_id = id;
    return true;
}

static bool read_scope_layer(reader *r, const scope_reader *s,
                             const json_t *value, read_binding *to)
{
    place here = {s->at, "layer", 0};
    const char *name = NULL;
    if (!ikvi_read_string(r, s->at, value, "layer", false, &name) ||
        name == NULL)
        return !r->failed;
    to->scope.where = IKV_IN_LAYER;
    for (uint32_t i = 0; s->setup != NULL && i < s->setup->layer_count; i++)
        if (strcmp(s->setup->layers[i].name, name) == 0) {
            to->scope.layer = i;
            return true;
        }
    return ikvi_reader_fail(r, &here, "there is no layer \"%.60s\"", name);
}

static bool read_binding_at(reader *r, const place *at, const ikv_setup *setup,
                            const json_t *value, read_binding *to)
{
    static const char *const members[] = {"press", "within", "layer", "focused",
                                          NULL};
    scope_reader scope = {setup, at};
    ikv_message message;
    place here = {at, "press", 0};
    *to = (read_binding){.text = json_string_value(value)};
    if (to->text == NULL) {
        if (!json_is_object(value))
            return ikvi_reader_fail(
                r, at,
                "expected a binding, \"KeyF\" or {\"press\": "
                "\"KeyF\", \"within\": a target's id}, found %s",
                ikvi_json_found(value));
        if (!ikvi_expect_object(r, at, value, members) ||
            !ikvi_read_string(r, at, value, "press", true, &to->text) ||
            !read_scope_target(r, &scope, value, "within", IKV_WITHIN, to) ||
            !read_scope_target(r, &scope, value, "focused", IKV_FOCUSED, to) ||
            !read_scope_layer(r, &scope, value, to))
            return false;
        if ((json_object_get(value, "within") != NULL) +
                (json_object_get(value, "focused") != NULL) +
                (json_object_get(value, "layer") != NULL) >
            1)
            return ikvi_reader_fail(r, at,
                                    "expected one of \"within\", \"layer\" and "
                                    "\"focused\"");
    }
    return ikv_binding_check(to->text, &message) == IKV_OK ||
           ikvi_reader_fail(r, json_is_object(value) ? &here : at, "%s",
                            message.text);
}

/* ---------------------------------------------------------------- setups -- */

bool ikvi_read_action_set(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, size_t index)
{
    static const char *const members[] = {"name", "on", NULL};
    setup_set *to = &setup->sets[index];
    place here = {at, "name", 0};
    to->on = true;
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "name", true, &to->name) ||
        !ikvi_read_bool(r, at, value, "on", &to->on))
        return false;
    if (to->name[0] == '\0' || ikvi_setup_find_set(setup, to->name) < index)
        return ikvi_reader_fail(
            r, &here, "the name \"%.60s\" is empty or taken", to->name);
    return true;
}

size_t ikvi_setup_find_set(const ikv_setup *setup, const char *name)
{
    size_t i = 0;
    while (i < setup->set_count && (setup->sets[i].name == NULL ||
                                    strcmp(setup->sets[i].name, name) != 0))
        i++;
    return i;
}

const setup_action *ikvi_setup_find_action(const ikv_setup *setup,
                                           const char *name)
{
    for (uint32_t i = 0; i < setup->action_count; i++)
        if (setup->actions[i].name != NULL &&
            strcmp(setup->actions[i].name, name) == 0)
            return &setup->actions[i];
    return NULL;
}

bool ikvi_read_setup_action(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, size_t index)
{
    static const char *const members[] = {"name", "set", "bindings", NULL};
    setup_action *to = &setup->actions[index];
    const char *name = NULL, *set = NULL;
    place at_name = {at, "name", 0}, at_set = {at, "set", 0},
          at_list = {at, "bindings", 0};
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "name", true, &name) ||
        !ikvi_read_string(r, at, value, "set", false, &set))
        return false;
    if (name[0] == '\0' || ikvi_setup_find_action(setup, name) != NULL)
        return ikvi_reader_fail(r, &at_name,
                                "the name \"%.60s\" is empty or taken", name);
    to->name = name;
    to->set = set;
    if (set != NULL && ikvi_setup_find_set(setup, set) == setup->set_count)
        return ikvi_reader_fail(r, &at_set, "there is no set \"%.60s\"", set);
    to->bindings = json_object_get(value, "bindings");
    if (to->bindings == NULL)
        return true;
    if (!ikvi_expect_array(r, &at_list, to->bindings))
        return false;
    setup->binding_count += (uint32_t)json_array_size(to->bindings);
    return true;
}

/* When all targets and layers are known. */
bool ikvi_check_setup_bindings(reader *r, const place *at, ikv_setup *setup,
                               const json_t *value, size_t index)
{
    place list = {at, "bindings", 0};
    read_binding binding;
    (void)value;
    for (size_t i = 0; i < json_array_size(setup->actions[index].bindings);
         i++) {
        place one = {&list, NULL, i};
        if (!read_binding_at(r, &one, setup,
                             json_array_get(setup->actions[index].bindings, i),
                             &binding))
            return false;
    }
    return true;
}

static ikv_scope scope_of(const ikv_setup *setup, const read_binding *binding)
{
    ikv_scope scope = binding->scope;
    if (binding->target_id != NULL)
        scope.target =
            ikvi_setup_find_target(setup, binding->target_id)->handle;
    return scope;
}

/* Binds what a checked list says. */
static ikv_status bind_list(reader *r, const ikv_setup *setup,
                            ikv_actions *actions, ikv_action_id action,
                            const json_t *list)
{
    read_binding binding;
    ikv_status status = IKV_OK;
    for (size_t i = 0; status == IKV_OK && i < json_array_size(list); i++) {
        if (!read_binding_at(r, NULL, setup, json_array_get(list, i), &binding))
            return IKV_BAD_FILE;
        ikv_scope scope = scope_of(setup, &binding);
        status = ikv_action_bind(actions, action, binding.text, &scope, NULL);
    }
    return status;
}

ikv_status ikvi_apply_actions(ikv_setup *setup, reader *r)
{
    ikv_actions *actions = ikv_kit_actions(setup->kit);
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < setup->set_count; i++) {
        setup_set *set = &setup->sets[i];
        status = ikv_action_add_set(actions, set->name, &set->number);
        if (status == IKV_DUPLICATE) /* the kit's, or of an earlier try */
            status = ikv_action_find_set(actions, set->name, &set->number);
        if (status == IKV_OK && !set->on)
            ikv_action_switch(actions, set->number, IKV_ALL_SEATS, false);
    }
    for (uint32_t i = 0; status == IKV_OK && i < setup->action_count; i++) {
        setup_action *a = &setup->actions[i];
        ikv_action_set set = IKV_MAIN_SET;
        if (a->set != NULL)
            set = setup->sets[ikvi_setup_find_set(setup, a->set)].number;
        status = ikv_action_add(actions, set, a->name, &a->added);
        if (status == IKV_OK)
            status = bind_list(r, setup, actions, a->added, a->bindings);
        if (status < 0)
            ikvi_reader_fail(r, NULL,
                             "the action \"%.60s\" could not be added: %s",
                             a->name, ikv_status_text(status));
    }
    return status;
}

/* Two actions of one set that the same press starts. */
void ikvi_find_binding_clashes(ikv_setup *setup,
                               void (*warn)(ikv_setup *setup, const char *text,
                                            const char *name))
{
    ikv_actions_config config = IKV_ACTIONS_INIT;
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_state_config state = IKV_STATE_INIT;
    ikv_actions *actions = NULL;
    config.memory = bus.memory = state.memory = ikv_host_memory();
    config.actions = setup->action_count + 1;
    config.bindings = setup->binding_count + 1;
    config.name_bytes = 65536;
    if (setup->action_count == 0 || ikv_bus_open(&bus, &config.bus) < 0)
        return;
    if (ikv_state_open(&state, &config.state) == IKV_OK &&
        ikv_actions_open(&config, &actions) == IKV_OK)
        for (uint32_t i = 0; i < setup->action_count; i++) {
            const setup_action *a = &setup->actions[i];
            ikv_action_id id;
            if (ikv_action_add(actions, IKV_MAIN_SET, a->name, &id) < 0)
                break;
            for (size_t n = 0; n < json_array_size(a->bindings); n++) {
                const json_t *value = json_array_get(a->bindings, n);
                const char *text = json_string_value(value);
                ikv_binding other;
                char line[200];
                if (text == NULL) /* it holds somewhere only */
                    continue;
                if (ikv_action_conflicts(actions, id, text, NULL, &other, 1)) {
                    const char *whose = ikv_action_name(
                        actions, ikv_binding_action(actions, other));
                    const setup_action *b =
                        ikvi_setup_find_action(setup, whose);
                    snprintf(line, sizeof line,
                             "%.60s starts \"%.60s\" too, in the same set",
                             text, whose);
                    if ((a->set == NULL) == (b->set == NULL) &&
                        (a->set == NULL || strcmp(a->set, b->set) == 0))
                        warn(setup, line, a->name);
                }
                ikv_action_bind(actions, id, text, NULL, NULL);
            }
        }
    ikv_actions_close(actions);
    ikv_state_close(config.state);
    ikv_bus_close(config.bus);
}

/* ----------------------------------------------------- files of bindings -- */

static json_t *load_bindings(reader *r)
{
    json_error_t error;
    FILE *file = fopen(r->path, "r");
    if (file == NULL) {
        ikvi_reader_fail(r, NULL, "can't open the bindings: %s",
                         strerror(errno));
        return NULL;
    }
    json_t *document = json_loadf(file, JSON_REJECT_DUPLICATES, &error);
    fclose(file);
    if (document == NULL) {
        r->line = error.line > 0 ? (size_t)error.line : 1;
        ikvi_reader_fail(r, NULL, "column %d: %s", error.column, error.text);
    }
    return document;
}

static bool unknown_action(reader *r, const place *at,
                           const ikv_actions *actions, const char *name)
{
    const char *known[BINDINGS_FILE_LIMIT + 1];
    uint32_t count = 0;
    ikv_action_id id;
    while (count < BINDINGS_FILE_LIMIT &&
           (id = ikv_action_list(actions, count)).bits != 0)
        known[count++] = ikv_action_name(actions, id);
    known[count] = NULL;
    return ikvi_setup_unknown(r, at, "action", name, known);
}

/* All of it, before anything is changed. */
static bool check_bindings(reader *r, const json_t *document,
                           const ikv_actions *actions, const ikv_setup *setup)
{
    static const char *const members[] = {"format", "bindings", NULL};
    const char *format = NULL, *name;
    json_t *all = json_object_get(document, "bindings"), *list;
    place at_format = {NULL, "format", 0}, at_all = {NULL, "bindings", 0};
    read_binding binding;
    if (!json_is_object(document))
        return ikvi_reader_fail(r, NULL, "expected an object, found %s",
                                ikvi_json_found(document));
    if (!ikvi_read_string(r, NULL, document, "format", true, &format))
        return false;
    if (strcmp(format, "ikvar.bindings/1") != 0)
        return ikvi_reader_fail(
            r, &at_format, "expected \"ikvar.bindings/1\", found \"%.60s\"",
            format);
    if (!ikvi_expect_object(r, NULL, document, members))
        return false;
    if (!json_is_object(all))
        return ikvi_reader_fail(
            r, &at_all, "expected {\"action\": [bindings], ...}, found %s",
            ikvi_json_found(all));
    json_object_foreach(all, name, list)
    {
        place here = {&at_all, name, 0};
        if (actions != NULL && ikv_action_find(actions, name).bits == 0)
            return unknown_action(r, &here, actions, name);
        if (!ikvi_expect_array(r, &here, list))
            return false;
        for (size_t i = 0; i < json_array_size(list); i++) {
            place one = {&here, NULL, i};
            if (!read_binding_at(r, &one, setup, json_array_get(list, i),
                                 &binding))
                return false;
        }
    }
    return true;
}

/* How many more bindings there will be. */
static bool has_room(const json_t *document, const ikv_actions *actions,
                     uint32_t room)
{
    json_t *all = json_object_get(document, "bindings"), *list;
    const char *name;
    size_t needed = ikv_action_count(actions).bindings;
    json_object_foreach(all, name, list)
    {
        ikv_action_id id = ikv_action_find(actions, name);
        for (uint32_t n = 0; ikv_action_binding(actions, id, n).bits != 0; n++)
            needed--;
        needed += json_array_size(list);
    }
    return needed <= room;
}

ikv_status ikv_bindings_load(const char *path, ikv_actions *actions,
                             const ikv_setup *setup, ikv_message *message)
{
    if (path == NULL)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = path, .message = message};
    json_t *document = load_bindings(&r), *list;
    const char *name;
    ikv_status status = IKV_OK;
    if (document == NULL || !check_bindings(&r, document, actions, setup)) {
        status = IKV_BAD_FILE;
    } else if (actions != NULL &&
               !has_room(document, actions, ikv_action_room(actions))) {
        ikvi_reader_fail(&r, NULL, "there is no room for so many bindings");
        status = IKV_FULL_BINDINGS;
    } else if (actions != NULL) {
        json_object_foreach(json_object_get(document, "bindings"), name, list)
        {
            ikv_action_id id = ikv_action_find(actions, name);
            ikv_action_unbind_all(actions, id);
            status = bind_list(&r, setup, actions, id, list);
            if (status < 0)
                break;
        }
    }
    json_decref(document);
    return status == IKV_OK ? ikvi_message_fine(message) : status;
}

static json_t *write_binding(const ikv_actions *actions, ikv_binding binding,
                             const ikv_setup *setup)
{
    char text[IKV_BINDING_BYTES];
    ikv_scope scope = ikv_binding_scope(actions, binding);
    ikv_binding_text(actions, binding, text, sizeof text);
    const char *target = scope.target.bits == 0
                             ? "root"
                             : ikv_setup_target_name(setup, scope.target);
    if (scope.where == IKV_ANYWHERE)
        return json_string(text);
    json_t *object = json_object();
    json_object_set_new(object, "press", json_string(text));
    if (scope.where == IKV_IN_LAYER)
        json_object_set_new(
            object, "layer",
            json_string(setup != NULL && scope.layer < setup->layer_count
                            ? setup->layers[scope.layer].name
                            : ""));
    else
        json_object_set_new(object,
                            scope.where == IKV_WITHIN ? "within" : "focused",
                            json_string(target));
    return object;
}

ikv_status ikv_bindings_save(const char *path, const ikv_actions *actions,
                             const ikv_setup *setup)
{
    if (path == NULL || actions == NULL)
        return IKV_BAD_ARGUMENT;
    json_t *document = json_object(), *all = json_object();
    ikv_action_id id;
    ikv_binding binding;
    json_object_set_new(document, "format", json_string("ikvar.bindings/1"));
    for (uint32_t i = 0; (id = ikv_action_list(actions, i)).bits != 0; i++) {
        json_t *list = json_array();
        for (uint32_t n = 0;
             (binding = ikv_action_binding(actions, id, n)).bits != 0; n++)
            json_array_append_new(list, write_binding(actions, binding, setup));
        json_object_set_new(all, ikv_action_name(actions, id), list);
    }
    json_object_set_new(document, "bindings", all);
    int failed = json_dump_file(document, path, JSON_INDENT(2));
    json_decref(document);
    return failed ? IKV_BAD_FILE : IKV_OK;
}
