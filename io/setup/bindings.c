/* bindings.c - bindings as they stand in files: in setups, and in files of
 * their own. */
#include "setup.h"
#include "../text/write.h"

#include "ikvar/keys.h"

#include <stdlib.h>
#include <string.h>

enum {
    BINDINGS_FILE_LIMIT = 4096
};

/* -------------------------------------------------------------- reading -- */

/* A target that a scope names; false if nobody knows the name. */
static bool find_scope_target(const binding_names *names, const char *id,
                              read_binding *to)
{
    if (names->setup != NULL) {
        /* the setup may not be built yet: found by name when it is bound */
        to->target_id = id;
        return strcmp(id, "root") == 0 ||
               ikvi_setup_find_target(names->setup, id) != NULL;
    }
    if (names->config == NULL || names->config->find_target == NULL)
        return false;
    /* without a setup the engine knows them */
    to->scope.target = names->config->find_target(names->config->user, id);
    return to->scope.target.bits != 0;
}

static bool read_scope_target(reader *r, const place *at,
                              const binding_names *names, const json_t *value,
                              const char *member, uint32_t where,
                              read_binding *to)
{
    place here = {at, member, 0};
    const char *id = NULL;
    if (!ikvi_read_string(r, at, value, member, false, &id))
        return false;
    if (id == NULL)
        return true;
    to->scope.where = where;
    /* no target in the scope: whichever has the focus */
    if (where == IKV_FOCUSED && strcmp(id, "root") == 0)
        return true; /* on anything */
    if (find_scope_target(names, id, to))
        return true;
    /* a lenient reader leaves it out */
    to->unknown = true;
    return names->setup != NULL
               ? ikvi_setup_unknown_target(r, &here, names->setup, id)
               : ikvi_reader_fail(r, &here, "nobody knows the target \"%.60s\"",
                                  id);
}

/* By its name in a setup, or by its number. */
static bool read_scope_layer(reader *r, const place *at,
                             const binding_names *names, const json_t *value,
                             read_binding *to)
{
    const ikv_setup *setup = names->setup;
    const json_t *layer = json_object_get(value, "layer");
    const char *name = json_string_value(layer);
    place here = {at, "layer", 0};
    int64_t number = 0;
    if (layer == NULL)
        return true;
    to->scope.where = IKV_IN_LAYER;
    if (name == NULL) {
        if (!ikvi_read_integer(r, at, value, "layer", 0, SETUP_LAYERS - 1,
                               &number))
            return false;
        to->scope.layer = (uint32_t)number;
        return true;
    }
    for (uint32_t i = 0; setup != NULL && i < setup->layer_count; i++)
        if (strcmp(setup->layers[i].name, name) == 0) {
            to->scope.layer = i;
            return true;
        }
    /* a number is of any scene, a name of this setup */
    to->unknown = true;
    return ikvi_reader_fail(r, &here, "there is no layer \"%.60s\"", name);
}

/* Tags by their names in a setup, or their bits as a number. */
static bool read_scope_tags(reader *r, const place *at,
                            const binding_names *names, const json_t *value,
                            read_binding *to)
{
    const ikv_setup *setup = names->setup;
    const json_t *tags = json_object_get(value, "tagged");
    place list = {at, "tagged", 0};
    int64_t bits = 0;
    if (tags == NULL)
        return true;
    to->scope.where = IKV_TAGGED;
    if (json_is_integer(tags)) {
        if (!ikvi_read_integer(r, at, value, "tagged", 1, UINT32_MAX, &bits))
            return false;
        to->scope.layer = (uint32_t)bits;
        return true;
    }
    if (!ikvi_expect_array(r, &list, tags))
        return false;
    for (size_t i = 0; i < json_array_size(tags); i++) {
        const char *name = json_string_value(json_array_get(tags, i));
        place here = {&list, NULL, i};
        uint32_t tag = 0;
        if (name == NULL)
            return ikvi_reader_fail(r, &here, "expected a tag's name, found %s",
                                    ikvi_json_found(json_array_get(tags, i)));
        while (setup != NULL && tag < setup->tag_count &&
               strcmp(setup->tags[tag], name) != 0)
            tag++;
        if (setup == NULL || tag == setup->tag_count) {
            to->unknown = true;
            return ikvi_reader_fail(r, &here,
                                    "no target bears the tag \"%.60s\"", name);
        }
        to->scope.layer |= 1u << tag;
    }
    return to->scope.layer != 0 ||
           ikvi_reader_fail(r, &list, "expected at least one tag");
}

/* Of the inputs in a binding's text that are none, the first one's nearest key;
 * NULL if there is none. */
static const char *nearest_key(const char *text)
{
    const char *known[512] = {NULL};
    for (uint32_t i = 0, code; i < 511 && (code = ikv_code_list(i)) != 0; i++)
        known[i] = ikv_code_name(code);
    while (*text != '\0') {
        char part[IKV_BINDING_BYTES];
        size_t length = strcspn(text, "+");
        snprintf(part, sizeof part, "%.*s", (int)length, text);
        /* what is too long is near to nothing */
        if (length < sizeof part && ikv_binding_check(part, NULL) != IKV_OK)
            return ikv_nearest_name(part, known);
        text += length + (text[length] == '+');
    }
    return NULL;
}

static bool steers(const ikv_scope *scope)
{
    return scope->radius > 0 || scope->dead_zone > 0 || scope->floating;
}

/* How a finger steers, of "pointer.stick". */
static bool read_stick(reader *r, const place *at, const json_t *value,
                       read_binding *to)
{
    double radius = 0, dead_zone = 0;
    if (!ikvi_read_number(r, at, value, "radius", 0.001, 1e6, &radius) ||
        !ikvi_read_number(r, at, value, "dead_zone", 0.001, 0.9, &dead_zone) ||
        !ikvi_read_bool(r, at, value, "floating", &to->scope.floating))
        return false;
    to->scope.radius = (float)radius;
    to->scope.dead_zone = (float)dead_zone;
    return !steers(&to->scope) || strcmp(to->text, "pointer.stick") == 0 ||
           ikvi_reader_fail(r, at,
                            "\"radius\", \"dead_zone\" and \"floating\" are "
                            "of \"pointer.stick\" alone");
}

bool ikvi_read_binding(reader *r, const place *at, const binding_names *names,
                       const json_t *value, read_binding *to)
{
    static const char *const members[] = {
        "press",  "within", "layer",     "focused",  "on_body",
        "tagged", "radius", "dead_zone", "floating", NULL};
    enum {
        SCOPES = 5 /* members from the second on, of which one at most */
    };
    ikv_message message;
    uint32_t scopes = 0;
    place here = {at, "press", 0};
    *to = (read_binding){.text = json_string_value(value)};
    if (to->text == NULL) {
        if (!json_is_object(value))
            return ikvi_reader_fail(
                r, at,
                "expected a binding, \"KeyF\" or {\"press\": "
                "\"KeyF\", \"within\": a target's id}, found %s",
                ikvi_json_found(value));
        /* each scope that is there is read, so that the first fault in it is
         * told before there being two */
        if (!ikvi_expect_object(r, at, value, members) ||
            !ikvi_read_string(r, at, value, "press", true, &to->text) ||
            !read_scope_target(r, at, names, value, "within", IKV_WITHIN, to) ||
            !read_scope_target(r, at, names, value, "focused", IKV_FOCUSED,
                               to) ||
            !read_scope_target(r, at, names, value, "on_body", IKV_ON_BODY,
                               to) ||
            !read_scope_layer(r, at, names, value, to) ||
            !read_scope_tags(r, at, names, value, to) ||
            !read_stick(r, at, value, to))
            return false;
        for (int i = 1; i <= SCOPES; i++)
            scopes += json_object_get(value, members[i]) != NULL;
        if (scopes > 1)
            return ikvi_reader_fail(r, at,
                                    "expected one of \"within\", \"layer\", "
                                    "\"focused\", \"on_body\" and \"tagged\"");
    }
    if (ikv_binding_check(to->text, &message) == IKV_OK)
        return true;
    /* the text may be of a newer version: unknown, not broken */
    char hint[IKV_HINT_BYTES];
    const char *near = nearest_key(to->text);
    to->unknown = true;
    return ikvi_reader_fail(r, json_is_object(value) ? &here : at, "%s%s",
                            message.text,
                            ikv_did_you_mean(near, hint, sizeof hint));
}

static bool is_removed(const ikv_setup *setup, ikv_target target)
{
    return setup->kit != NULL &&
           !ikv_bus_target_alive(ikv_kit_bus(setup->kit), target);
}

ikv_status ikvi_bind_list(reader *r, const binding_names *names,
                          ikv_actions *actions, ikv_action_id action,
                          const json_t *list)
{
    ikv_status status = IKV_OK;
    for (size_t i = 0; status == IKV_OK && i < json_array_size(list); i++) {
        /* without a message: it would be told twice */
        reader one = {.path = r->path};
        read_binding binding;
        if (!ikvi_read_binding(&one, NULL, names, json_array_get(list, i),
                               &binding))
            continue; /* told before, or the list would not be bound */
        ikv_scope scope = binding.scope;
        if (binding.target_id != NULL) {
            scope.target = ikv_setup_target(names->setup, binding.target_id);
            /* the game has removed it: nothing can be pressed there */
            if (is_removed(names->setup, scope.target))
                continue;
        }
        status = ikv_actions_bind(actions, action, binding.text, &scope, NULL);
    }
    return status;
}

/* -------------------------------------------------------------- loading -- */

/* A file on its way. */
typedef struct loading {
    reader reader;
    binding_names names;
    ikv_actions *actions;
    bool lenient;
} loading;

/* What is not known is told and left out, if that is wanted; else it fails with
 * the same words. */
static bool leave_out(loading *l, const ikv_message *message, bool unknown)
{
    const ikv_bindings_config *config = l->names.config;
    if (l->lenient && unknown) {
        if (config->skipped != NULL)
            config->skipped(message->text, config->user);
        return true;
    }
    /* the reader that found it was one of its own: it fails now */
    l->reader.failed = true;
    if (l->reader.message != NULL)
        *l->reader.message = *message;
    return false;
}

static bool unknown_action(loading *l, const place *at, const char *name)
{
    const char *known[BINDINGS_FILE_LIMIT + 1];
    uint32_t count = 0;
    ikv_action_id id;
    ikv_message message = {""};
    /* it may be but a word to the user, not a failure */
    reader one = {.path = l->reader.path, .message = &message};
    while (count < BINDINGS_FILE_LIMIT &&
           (id = ikv_actions_list(l->actions, count)).bits != 0)
        known[count++] = ikv_actions_name(l->actions, id);
    known[count] = NULL;
    ikvi_setup_unknown(&one, at, "action", name, known);
    return leave_out(l, &message, true);
}

static bool check_list(loading *l, const place *at, const json_t *list)
{
    if (!ikvi_expect_array(&l->reader, at, list))
        return false;
    for (size_t i = 0; i < json_array_size(list); i++) {
        ikv_message message = {""};
        /* one each, since what is left out must not stop the rest */
        reader one = {.path = l->reader.path, .message = &message};
        place here = {at, NULL, i};
        read_binding binding;
        if (!ikvi_read_binding(&one, &here, &l->names, json_array_get(list, i),
                               &binding) &&
            !leave_out(l, &message, binding.unknown))
            return false;
    }
    return true;
}

/* All of it, before anything is changed. */
static bool check_bindings(loading *l, const json_t *document)
{
    static const char *const members[] = {"format", "bindings", NULL};
    const char *format = NULL, *name;
    json_t *all = json_object_get(document, "bindings"), *list;
    place at_format = {NULL, "format", 0}, at_all = {NULL, "bindings", 0};
    reader *r = &l->reader;
    if (!json_is_object(document))
        return ikvi_reader_fail(r, NULL, "expected an object, found %s",
                                ikvi_json_found(document));
    if (!ikvi_read_string(r, NULL, document, "format", true, &format))
        return false;
    /* before the members: another version may have others */
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
        /* without actions it is only checked: any name is right */
        bool known =
            l->actions == NULL || ikv_actions_find(l->actions, name).bits != 0;
        if (known ? !check_list(l, &here, list)
                  : !unknown_action(l, &here, name))
            return false;
    }
    return true;
}

/* Whether there is room for what is bound then. */
static bool has_room(const json_t *document, const ikv_actions *actions)
{
    json_t *all = json_object_get(document, "bindings"), *list;
    const char *name;
    ikv_actions_counts counts = IKV_ACTIONS_COUNTS_INIT;
    ikv_actions_counters(actions, &counts);
    /* what stays, and what the file puts in the place of its actions' own */
    size_t needed = counts.bindings;
    json_object_foreach(all, name, list)
    {
        ikv_action_id id = ikv_actions_find(actions, name);
        /* left out by a lenient reader */
        if (id.bits == 0)
            continue;
        for (uint32_t n = 0; ikv_actions_binding(actions, id, n).bits != 0; n++)
            needed--;
        needed += json_array_size(list);
    }
    return needed <= ikv_actions_room(actions);
}

static ikv_status bind_all(loading *l, const json_t *document)
{
    const char *name;
    json_t *list;
    json_object_foreach(json_object_get(document, "bindings"), name, list)
    {
        ikv_action_id id = ikv_actions_find(l->actions, name);
        if (id.bits == 0)
            continue;
        /* an action that the file does not name keeps what it has */
        ikv_actions_unbind_all(l->actions, id);
        ikv_status status =
            ikvi_bind_list(&l->reader, &l->names, l->actions, id, list);
        if (status < 0)
            return status;
    }
    return IKV_OK;
}

static const ikv_bindings_config no_config = IKV_BINDINGS_INIT;

/* A7. */
ikv_status ikv_bindings_load(const char *path, ikv_actions *actions,
                             const ikv_bindings_config *config,
                             ikv_message *message)
{
    if (config == NULL)
        config = &no_config;
    if (path == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    loading l = {.reader = {.path = path, .message = message},
                 .names = {config->setup, config},
                 .actions = actions,
                 .lenient = (config->flags & IKV_BINDINGS_LENIENT) != 0};
    json_t *document = ikvi_json_load(&l.reader, "the bindings");
    ikv_status status = IKV_OK;
    if (document == NULL || !check_bindings(&l, document)) {
        status = ikvi_reader_status(&l.reader);
    } else if (actions != NULL && !has_room(document, actions)) {
        /* told before the first one is bound: all of it or nothing (A7) */
        ikvi_reader_fail(&l.reader, NULL,
                         "there is no room for so many bindings");
        status = IKV_FULL_BINDINGS;
    } else if (actions != NULL) {
        status = bind_all(&l, document);
        if (status < 0)
            ikvi_reader_fail(&l.reader, NULL, "a binding: %s",
                             ikv_status_text(status));
    }
    json_decref(document);
    return status == IKV_OK ? ikvi_message_fine(message) : status;
}

/* -------------------------------------------------------------- clashes -- */

enum {
    CLASHES = 64 /* of one binding that are told */
};

/* One binding, as it stands for the others. */
typedef struct known_binding {
    char text[IKV_BINDING_BYTES];
    ikv_scope scope;
} known_binding;

static known_binding know(const ikv_actions *actions, ikv_binding binding)
{
    known_binding known = {.scope = ikv_binding_scope(actions, binding)};
    ikv_binding_text(actions, binding, known.text, sizeof known.text);
    return known;
}

static bool is_twice(const ikv_actions *actions, ikv_action_id id, uint32_t nth)
{
    known_binding b = know(actions, ikv_actions_binding(actions, id, nth));
    /* against those before it, so that each pair is told once */
    for (uint32_t i = 0; i < nth; i++) {
        known_binding a = know(actions, ikv_actions_binding(actions, id, i));
        if (strcmp(a.text, b.text) == 0 && a.scope.where == b.scope.where &&
            a.scope.layer == b.scope.layer &&
            a.scope.target.bits == b.scope.target.bits)
            return true;
    }
    return false;
}

/* Whether of two actions the one comes first: each pair is told once. */
static bool comes_first(const ikv_actions *actions, ikv_action_id a,
                        ikv_action_id b)
{
    ikv_action_id id;
    for (uint32_t i = 0; (id = ikv_actions_list(actions, i)).bits != 0; i++)
        if (id.bits == a.bits || id.bits == b.bits)
            return id.bits == a.bits;
    return false;
}

static void tell_clashes(const ikv_actions *actions, ikv_action_id id,
                         ikv_binding binding, ikv_mistake_fn told, void *user)
{
    known_binding own = know(actions, binding);
    ikv_binding list[CLASHES];
    uint32_t count =
        ikv_actions_conflicts(actions, id, own.text, &own.scope, list, CLASHES);
    for (uint32_t i = 0; i < count && i < CLASHES; i++) {
        ikv_action_id other = ikv_binding_action(actions, list[i]);
        /* in another set they take turns: that is what sets are for */
        if (ikv_actions_set_of(actions, other) !=
                ikv_actions_set_of(actions, id) ||
            !comes_first(actions, other, id))
            continue;
        ikvi_tell_mistake(told, user, IKV_MISTAKE_CLASH,
                          ikv_actions_name(actions, id),
                          "%.60s starts \"%.60s\" too, in the same set",
                          own.text, ikv_actions_name(actions, other));
    }
}

void ikv_bindings_find_clashes(const ikv_actions *actions, ikv_mistake_fn told,
                               void *user)
{
    ikv_action_id id;
    ikv_binding binding;
    if (actions == NULL || told == NULL)
        return;
    for (uint32_t i = 0; (id = ikv_actions_list(actions, i)).bits != 0; i++)
        for (uint32_t n = 0;
             (binding = ikv_actions_binding(actions, id, n)).bits != 0; n++) {
            if (is_twice(actions, id, n))
                ikvi_tell_mistake(told, user, IKV_MISTAKE_BOUND_TWICE,
                                  ikv_actions_name(actions, id),
                                  "%.60s is listed twice",
                                  know(actions, binding).text);
            tell_clashes(actions, id, binding, told, user);
        }
}

/* --------------------------------------------------------------- saving -- */

/* The name of a scope's target; NULL if it has none. */
static const char *scope_target_name(const ikv_bindings_config *config,
                                     ikv_target target)
{
    /* written as it is read: "focused" on anything */
    if (target.bits == 0)
        return "root";
    if (config->setup != NULL)
        return ikvi_setup_name_of(config->setup, target);
    return config->target_name != NULL
               ? config->target_name(config->user, target)
               : NULL;
}

static void write_layer(json_writer *w, const ikv_setup *setup, uint32_t layer)
{
    ikvi_write_name(w, "layer");
    /* by name where there is one: numbers change when a layer is put between */
    if (setup != NULL && layer < setup->layer_count)
        ikvi_write_text(w, setup->layers[layer].name);
    else
        ikvi_write_integer(w, layer);
}

static void write_tags(json_writer *w, const ikv_setup *setup, uint32_t tags)
{
    ikvi_write_name(w, "tagged");
    if (setup == NULL ||
        (setup->tag_count < 32 && tags >> setup->tag_count != 0)) {
        ikvi_write_integer(w, tags);
        return;
    }
    ikvi_write_list(w);
    for (uint32_t i = 0; i < setup->tag_count; i++)
        if (tags >> i & 1)
            ikvi_write_text(w, setup->tags[i]);
    ikvi_write_close_list(w);
}

static void write_stick(json_writer *w, const ikv_scope *scope)
{
    if (scope->radius > 0) {
        ikvi_write_name(w, "radius");
        ikvi_write_number(w, (double)scope->radius, true);
    }
    if (scope->dead_zone > 0) {
        ikvi_write_name(w, "dead_zone");
        ikvi_write_number(w, (double)scope->dead_zone, true);
    }
    if (scope->floating) {
        ikvi_write_name(w, "floating");
        ikvi_write_bool(w, true);
    }
}

/* `name` is that of its target, where it has one. */
static void write_binding(json_writer *w, const ikv_actions *actions,
                          ikv_binding binding, const ikv_setup *setup,
                          const char *name)
{
    char text[IKV_BINDING_BYTES];
    ikv_scope scope = ikv_binding_scope(actions, binding);
    ikv_binding_text(actions, binding, text, sizeof text);
    if (scope.where == IKV_ANYWHERE && !steers(&scope)) {
        ikvi_write_text(w, text);
        return;
    }
    ikvi_write_object(w);
    ikvi_write_name(w, "press");
    ikvi_write_text(w, text);
    write_stick(w, &scope);
    if (scope.where == IKV_ANYWHERE) {
        /* wherever */
    } else if (scope.where == IKV_IN_LAYER) {
        write_layer(w, setup, scope.layer);
    } else if (scope.where == IKV_TAGGED) {
        write_tags(w, setup, scope.layer);
    } else {
        ikvi_write_name(w, scope.where == IKV_WITHIN    ? "within"
                           : scope.where == IKV_ON_BODY ? "on_body"
                                                        : "focused");
        ikvi_write_text(w, name);
    }
    ikvi_write_close_object(w);
}

static bool write_action(json_writer *w, reader *r, const ikv_actions *actions,
                         ikv_action_id id, const ikv_bindings_config *config)
{
    ikv_binding binding;
    ikvi_write_name(w, ikv_actions_name(actions, id));
    ikvi_write_list(w);
    for (uint32_t n = 0;
         (binding = ikv_actions_binding(actions, id, n)).bits != 0; n++) {
        ikv_scope scope = ikv_binding_scope(actions, binding);
        bool named = scope.where == IKV_WITHIN || scope.where == IKV_FOCUSED ||
                     scope.where == IKV_ON_BODY;
        const char *name =
            named ? scope_target_name(config, scope.target) : NULL;
        if (named && name == NULL)
            return ikvi_reader_fail(
                r, NULL,
                "the action \"%.60s\" is bound within a target that has no "
                "name: give a setup, or target_name",
                ikv_actions_name(actions, id));
        write_binding(w, actions, binding, config->setup, name);
    }
    ikvi_write_close_list(w);
    return true;
}

static bool write_bindings(json_writer *w, reader *r,
                           const ikv_actions *actions,
                           const ikv_bindings_config *config)
{
    ikv_action_id id;
    ikvi_write_object(w);
    ikvi_write_name(w, "format");
    ikvi_write_text(w, "ikvar.bindings/1");
    ikvi_write_name(w, "bindings");
    ikvi_write_object(w);
    for (uint32_t i = 0; (id = ikv_actions_list(actions, i)).bits != 0; i++)
        if (!write_action(w, r, actions, id, config))
            return false;
    ikvi_write_close_object(w);
    ikvi_write_close_object(w);
    return ikvi_write_is_whole(w, r);
}

ikv_status ikv_bindings_save(const char *path, const ikv_actions *actions,
                             const ikv_bindings_config *config,
                             ikv_message *message)
{
    static const char what[] = "the bindings";
    if (config == NULL)
        config = &no_config;
    if (path == NULL || actions == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    reader r = {.path = path, .message = message};
    output to;
    json_writer *w = malloc(sizeof *w);
    if (w == NULL)
        return ikvi_no_memory(&r);
    /* compared as files, not as names */
    if (config->setup != NULL && ikvi_same_file(config->setup->path, path)) {
        ikvi_reader_fail(&r, NULL,
                         "it is the setup: the bindings would destroy it");
    } else if (ikvi_output_open(&to, &r, path, false, what)) {
        ikvi_write_begin(w, to.file, true);
        bool good = write_bindings(w, &r, actions, config);
        ikvi_output_close(&to, &r, good, what);
        ikvi_write_end(w);
    }
    free(w);
    return ikvi_reader_status(&r);
}
