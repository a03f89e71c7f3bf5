/* setup.c - a setup: finding things in it, sizing a kit by it, adding it to the
 * kit. The document is kept: all names point into it.
 */
#define _POSIX_C_SOURCE 200809L
#include "setup.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

static void *host_take(void *user, size_t size, size_t alignment)
{
    (void)user;
    /* Sizes must be multiples of the alignment. */
    return aligned_alloc(alignment,
                         (size + alignment - 1) / alignment * alignment);
}

static void host_give(void *user, void *block, size_t size)
{
    (void)user, (void)size;
    free(block);
}

ikv_memory ikv_host_memory(void)
{
    return (ikv_memory){.take = host_take, .give = host_give};
}

/* -------------------------------------------------------------- finding -- */

/* Names have their places by jansson's hash tables. */
bool ikvi_setup_name(reader *r, json_t **names, const char *name, size_t index)
{
    if (*names == NULL)
        *names = json_object();
    /* Setting a name that is there does not make it one more. */
    size_t before = json_object_size(*names);
    if (*names == NULL ||
        json_object_set_new_nocheck(*names, name,
                                    json_integer((json_int_t)index)) != 0)
        return ikvi_no_memory(r) == IKV_OK;
    return json_object_size(*names) > before;
}

size_t ikvi_setup_place(const json_t *names, const char *name)
{
    const json_t *at = json_object_get(names, name);
    return at != NULL ? (size_t)json_integer_value(at) : SIZE_MAX;
}

setup_target *ikvi_setup_find_target(const ikv_setup *setup, const char *id)
{
    size_t at = ikvi_setup_place(setup->target_names, id);
    return at != SIZE_MAX ? &setup->targets[at] : NULL;
}

setup_handler *ikvi_setup_find_handler(const ikv_setup *setup, const char *name)
{
    size_t at = ikvi_setup_place(setup->handler_names, name);
    return at != SIZE_MAX ? &setup->handlers[at] : NULL;
}

setup_group *ikvi_setup_find_group(const ikv_setup *setup, const char *name)
{
    size_t at = ikvi_setup_place(setup->group_names, name);
    return at != SIZE_MAX ? &setup->groups[at] : NULL;
}

setup_field *ikvi_setup_find_field(setup_target *target, const char *name)
{
    for (uint32_t i = 0; i < target->field_count; i++)
        if (strcmp(target->fields[i].name, name) == 0)
            return &target->fields[i];
    return NULL;
}

bool ikvi_setup_number_field(reader *r, ikv_setup *setup, const char *name)
{
    if (ikvi_setup_field_number(setup, name) != 0)
        return true;
    if (!ikvi_setup_name(r, &setup->field_names, name, setup->field_count))
        return false;
    if (setup->field_count == setup->field_room) {
        /* Doubled, so that many fields cost a constant each. */
        uint32_t room = setup->field_room * 2 + 16;
        const char **fields = realloc(setup->fields, room * sizeof *fields);
        if (fields == NULL)
            return ikvi_no_memory(r) == IKV_OK;
        setup->fields = fields;
        setup->field_room = room;
    }
    setup->fields[setup->field_count++] = name;
    return true;
}

const char *ikv_setup_field_name(const ikv_setup *setup, uint32_t number)
{
    return setup != NULL && number > 0 && number <= setup->field_count
               ? setup->fields[number - 1]
               : "?";
}

uint32_t ikvi_setup_field_number(const ikv_setup *setup, const char *name)
{
    size_t at = ikvi_setup_place(setup->field_names, name);
    return at != SIZE_MAX ? (uint32_t)at + 1 : 0;
}

/* Targets bear their index + 1 as id. */
setup_target *ikvi_setup_target_of(const ikv_setup *setup, ikv_target target)
{
    if (setup == NULL || setup->kit == NULL)
        return NULL;
    uint32_t id = ikv_bus_target_id(ikv_kit_bus(setup->kit), target);
    return id > 0 && id <= setup->target_count ? &setup->targets[id - 1] : NULL;
}

bool ikvi_setup_unknown(reader *r, const place *at, const char *what,
                        const char *name, const char *const *known)
{
    const char *near = ikv_nearest_name(name, known);
    return ikvi_reader_fail(r, at, "unknown %s \"%.60s\"%s%s%s", what, name,
                            near != NULL ? "; did you mean \"" : "",
                            near != NULL ? near : "",
                            near != NULL ? "\"?" : "");
}

bool ikvi_setup_unknown_target(reader *r, const place *at,
                               const ikv_setup *setup, const char *id)
{
    return ikvi_setup_unknown_of(r, at, "target", id, setup->target_names,
                                 NULL);
}

bool ikvi_setup_unknown_of(reader *r, const place *at, const char *what,
                           const char *name, const json_t *names,
                           const json_t *more)
{
    size_t count = 0, room = json_object_size(names) + json_object_size(more);
    /* Without memory the name is refused all the same, without a guess. */
    const char **known = calloc(room + 1, sizeof *known), *one;
    const json_t *maps[] = {names, more};
    json_t *ignored;
    static const char *const none[] = {NULL};
    for (int i = 0; known != NULL && i < 2; i++)
        json_object_foreach((json_t *)(uintptr_t)maps[i], one, ignored)
            known[count++] = one;
    ikvi_setup_unknown(r, at, what, name, known != NULL ? known : none);
    free(known);
    return false;
}

static bool unknown_kind(reader *r, const place *at, const ikv_setup *setup,
                         const char *name)
{
    const char *known[IKV_KIND_LIMIT];
    size_t count = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(setup->catalogue, k)) != IKV_KIND_NONE;)
        known[count++] = ikv_catalogue_info(setup->catalogue, k)->name;
    known[count] = NULL;
    return ikvi_setup_unknown(r, at, "kind", name, known);
}

bool ikvi_setup_read_kind(reader *r, const place *at, const ikv_setup *setup,
                          const json_t *value, ikv_kind *kind)
{
    const char *name = json_string_value(value);
    if (name == NULL)
        return ikvi_reader_fail(r, at, "expected a kind's name, found %s",
                                ikvi_json_found(value));
    *kind = ikv_catalogue_find(setup->catalogue, name);
    return *kind != IKV_KIND_NONE || unknown_kind(r, at, setup, name);
}

bool ikvi_setup_read_tags(reader *r, const place *at, ikv_setup *setup,
                          const json_t *list, uint32_t *tags)
{
    if (!ikvi_expect_array(r, at, list))
        return false;
    for (size_t i = 0; i < json_array_size(list); i++) {
        const char *name = json_string_value(json_array_get(list, i));
        place here = {at, NULL, i};
        if (name == NULL)
            return ikvi_reader_fail(r, &here, "expected a tag's name, found %s",
                                    ikvi_json_found(json_array_get(list, i)));
        /* A tag's bit is its place among those that were named so far. */
        uint32_t bit = 0;
        while (bit < setup->tag_count && strcmp(setup->tags[bit], name) != 0)
            bit++;
        if (bit == 32)
            return ikvi_reader_fail(r, &here, "more than 32 different tags");
        if (bit == setup->tag_count)
            setup->tags[setup->tag_count++] = name;
        *tags |= 1u << bit;
    }
    return true;
}

bool ikvi_read_scalar(reader *r, const place *at, const json_t *value,
                      ikv_value *to)
{
    if (json_is_boolean(value)) {
        to->type = IKV_VALUE_BOOL;
        to->bits.boolean = json_is_true(value);
    } else if (json_is_integer(value)) {
        to->type = IKV_VALUE_INTEGER;
        to->bits.integer = json_integer_value(value);
    } else if (json_is_real(value)) {
        to->type = IKV_VALUE_NUMBER;
        to->bits.number = json_real_value(value);
    } else {
        return ikvi_reader_fail(r, at,
                                "expected a number, or true or false, found %s",
                                ikvi_json_found(value));
    }
    return true;
}

/* --------------------------------------------------------------- public -- */

ikv_status ikv_setup_read(const char *path, ikv_setup **setup,
                          ikv_message *message)
{
    if (path == NULL || setup == NULL)
        return IKV_BAD_ARGUMENT;
    /* All messages begin with the path. */
    reader r = {.path = path, .message = message};
    ikv_setup *s = calloc(1, sizeof *s);
    if (s == NULL)
        return ikvi_no_memory(&r);
    s->path = strdup(path);
    if (s->path == NULL)
        ikvi_no_memory(&r);
    else
        s->document = ikvi_json_load(&r, "the setup");
    if (r.failed || !ikvi_read_document(&r, s)) {
        ikv_setup_close(s);
        return ikvi_reader_status(&r);
    }
    /* Of a document that is right: what it says may still be no use. */
    if (!ikvi_find_setup_mistakes(s)) {
        ikvi_no_memory(&r);
        ikv_setup_close(s);
        return IKV_NO_MEMORY;
    }
    *setup = s;
    return ikvi_message_fine(message);
}

void ikv_setup_close(ikv_setup *setup)
{
    if (setup == NULL)
        return;
    for (uint32_t i = 0; setup->handlers != NULL && i < setup->handler_count;
         i++) {
        free(setup->handlers[i].kinds);
        free(setup->handlers[i].at);
        for (uint32_t n = 0; n < setup->handlers[i].reaction_count; n++)
            free(setup->handlers[i].reactions[n].arguments);
        /* A setup that failed half way is closed by this as well. */
        free(setup->handlers[i].reactions);
        ikvi_free_conditions(setup->handlers[i].conditions,
                             setup->handlers[i].condition_count);
    }
    ikvi_drop_setup_mistakes(setup);
    free(setup->fields);
    json_decref(setup->target_names);
    json_decref(setup->handler_names);
    json_decref(setup->group_names);
    json_decref(setup->field_names);
    json_decref(setup->set_names);
    json_decref(setup->action_names);
    for (uint32_t i = 0; setup->groups != NULL && i < setup->group_count; i++)
        ikvi_free_conditions(setup->groups[i].conditions,
                             setup->groups[i].condition_count);
    free(setup->groups);
    free(setup->sets);
    free(setup->actions);
    for (uint32_t i = 0; setup->targets != NULL && i < setup->target_count;
         i++) {
        free(setup->targets[i].points);
        free(setup->targets[i].fields);
    }
    free(setup->targets);
    free(setup->handlers);
    ikv_catalogue_close(setup->catalogue);
    json_decref(setup->document);
    free(setup->path);
    free(setup);
}

const ikv_catalogue *ikv_setup_catalogue(const ikv_setup *setup)
{
    return setup != NULL ? setup->catalogue : NULL;
}

ikv_status ikv_setup_bind(ikv_setup *setup, const char *name,
                          ikv_handler handler, void *user)
{
    if (setup == NULL || name == NULL || handler == NULL)
        return IKV_BAD_ARGUMENT;
    setup_handler *h = ikvi_setup_find_handler(setup, name);
    if (h == NULL)
        return IKV_UNKNOWN_NAME;
    /* One or the other, and once. */
    if (h->has_reactions || h->bound != NULL)
        return IKV_DUPLICATE;
    h->bound = handler;
    h->bound_user = user;
    return IKV_OK;
}

static uint32_t larger(uint32_t a, uint32_t b)
{
    return a > b ? a : b;
}

/* What the config does not say, the setup does. */
static void size_router(const ikv_setup *setup, ikv_router_config *to)
{
    const ikv_router_config *from = &setup->router;
    to->pointers = larger(to->pointers, from->pointers);
    to->slop = to->slop > 0 ? to->slop : from->slop;
    to->mouse_slop = to->mouse_slop > 0 ? to->mouse_slop : from->mouse_slop;
    to->double_slop = to->double_slop > 0 ? to->double_slop : from->double_slop;
    to->hold_ns = to->hold_ns > 0 ? to->hold_ns : from->hold_ns;
    to->double_ns = to->double_ns > 0 ? to->double_ns : from->double_ns;
    to->keep_focus = to->keep_focus || from->keep_focus;
    to->no_tab = to->no_tab || from->no_tab;
    to->click_after_drag = to->click_after_drag || from->click_after_drag;
    to->dead_zone = to->dead_zone > 0 ? to->dead_zone : from->dead_zone;
    to->full_zone = to->full_zone > 0 ? to->full_zone : from->full_zone;
    to->axial_zones = to->axial_zones || from->axial_zones;
}

/* Room for what the file has, and for as much again of one's own. */
ikv_status ikv_setup_size(const ikv_setup *setup, ikv_kit_config *config)
{
    if (setup == NULL || config == NULL || config->size != sizeof *config)
        return IKV_BAD_ARGUMENT;
    /* Room for conditions of the program's own. */
    uint32_t entries = 0, conditions = 64;
    for (uint32_t i = 0; i < setup->handler_count; i++) {
        const setup_handler *h = &setup->handlers[i];
        entries += larger(h->kind_count, 1) * larger(h->at_count, 1);
        for (uint32_t c = 0; c < h->condition_count; c++)
            conditions += 1 + h->conditions[c].count;
        conditions += h->group != NULL ? h->group->condition_count : 0;
    }
    uint32_t spare = 160, polygons = 64;
    for (uint32_t i = 0; i < setup->target_count; i++)
        polygons += setup->targets[i].points != NULL;
    config->scene.layers = larger(config->scene.layers, setup->layer_count);
    config->scene.polygons = larger(config->scene.polygons, polygons);
    size_router(setup, &config->router);
    if (config->router.view_width <= 0 && config->router.view_height <= 0) {
        config->router.view_width = setup->view_width;
        config->router.view_height = setup->view_height;
    }
    /* Router and state must see one stick. */
    config->state.dead_zone = config->router.dead_zone;
    config->state.full_zone = config->router.full_zone;
    config->state.axial_zones = config->router.axial_zones;
    config->scene.announces = config->scene.announces || setup->announces;
    config->catalogue = setup->catalogue;
    config->bus.targets = larger(config->bus.targets, setup->target_count + 64);
    config->bus.subscriptions =
        larger(config->bus.subscriptions, setup->handler_count + spare);
    config->bus.entries = larger(config->bus.entries, entries + spare);
    config->bus.conditions = larger(config->bus.conditions, conditions);
    config->bus.owners = larger(config->bus.owners, OWNERS);
    config->bus.name_bytes =
        larger(config->bus.name_bytes, 16384 + 64 * setup->handler_count);
    config->actions.sets = larger(config->actions.sets, setup->set_count + 1);
    config->actions.actions =
        larger(config->actions.actions, setup->action_count + 16);
    config->actions.bindings =
        larger(config->actions.bindings, 2 * setup->binding_count + 64);
    config->actions.name_bytes =
        larger(config->actions.name_bytes,
               4096 + 64 * (setup->action_count + setup->set_count));
    if (setup->step_num != 0)
        config->loop.step_num = setup->step_num;
    if (setup->step_den != 0)
        config->loop.step_den = setup->step_den;
    if (config->loop.frame_hz == 0)
        config->loop.frame_hz = setup->frame_hz;
    if (config->loop.max_steps == 0)
        config->loop.max_steps = setup->max_steps;
    return IKV_OK;
}

static ikv_verdict do_nothing(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)event, (void)delivery, (void)user;
    return IKV_CONTINUE;
}

static ikv_owner owner_named(ikv_setup *setup, const char *name)
{
    for (uint32_t i = 0; i < setup->owner_count; i++)
        if (strcmp(setup->owners[i].name, name) == 0)
            return setup->owners[i].owner;
    ikv_owner owner = {0};
    /* Beyond that they have no owner, and live on. */
    if (setup->owner_count < OWNERS &&
        ikv_bus_add_owner(ikv_kit_bus(setup->kit), &owner) == IKV_OK) {
        setup->owners[setup->owner_count].name = name;
        setup->owners[setup->owner_count++].owner = owner;
    }
    return owner;
}

static ikv_status apply_target(ikv_setup *setup, uint32_t index, reader *r)
{
    setup_target *t = &setup->targets[index];
    if (t->added)
        return IKV_OK;
    /* Before its parent, whom it may be reached through again. */
    t->added = true;
    /* Parents first, wherever they stand in the file; as deep as a path at
     * most. */
    if (t->parent != NO_INDEX) {
        ikv_status status = apply_target(setup, (uint32_t)t->parent, r);
        if (status < 0)
            return status;
        t->config.parent = setup->targets[t->parent].handle;
    }
    ikv_message message = {""};
    place list = {NULL, "targets", 0}, here = {&list, NULL, index};
    ikv_status status = ikv_scene_add(ikv_kit_scene(setup->kit), &t->config,
                                      &t->handle, &message);
    if (status < 0)
        ikvi_reader_fail(r, &here, "target \"%.60s\": %.300s", t->id,
                         message.text[0] != '\0' ? message.text
                                                 : ikv_status_text(status));
    else if (t->has_sensing && ikv_kit_overlaps(setup->kit) != NULL) {
        status = ikv_overlaps_sense(ikv_kit_overlaps(setup->kit), t->handle,
                                    &t->sensing);
        if (status < 0)
            ikvi_reader_fail(r, &here, "target \"%.60s\" can't sense: %s",
                             t->id, ikv_status_text(status));
    }
    return status;
}

static ikv_status apply_handler(ikv_setup *setup, setup_handler *h,
                                uint32_t flags, reader *r)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_target *at = calloc(h->at_count + 1u, sizeof *at);
    place list = {NULL, "handlers", 0},
          here = {&list, NULL, (size_t)(h - setup->handlers)};
    if (at == NULL)
        return ikvi_no_memory(r);
    for (uint32_t i = 0; i < h->at_count; i++)
        at[i] = ikv_setup_target(setup, h->at[i]);
    config.kinds = h->kinds;
    config.kind_count = h->kind_count;
    config.families = h->families;
    config.all_kinds = h->all_kinds;
    config.at_list = h->at_count > 0 ? at : NULL;
    config.at_count = h->at_count;
    config.phases = h->phases;
    config.rank = h->rank;
    config.name = h->name;
    /* What is bound to nobody is heard, told and logged. */
    config.handler = h->has_reactions   ? ikvi_run_reactions
                     : h->bound != NULL ? h->bound
                                        : do_nothing;
    config.user = h->has_reactions ? (void *)h : h->bound_user;
    if (h->owner != NULL)
        config.owner = owner_named(setup, h->owner);
    config.at_tags = h->at_tags;
    config.at_body = ikv_setup_target(setup, h->at_body);
    config.limit = h->limit;
    config.after = h->after;
    config.at_most = (uint8_t)h->at_most;
    config.gap_ns = h->gap_ns;
    ikv_condition *conditions = NULL;
    ikv_condition_group *groups = NULL;
    ikv_message message = {""};
    ikv_status status =
        ikvi_make_conditions(setup, h, &config, &conditions, &groups);
    if (status < 0) {
        ikvi_no_memory(r);
    } else if (!h->has_reactions && h->bound == NULL &&
               (flags & IKV_APPLY_UNBOUND) == 0) {
        status = IKV_UNKNOWN_NAME;
        ikvi_reader_fail(
            r, &here,
            "handler \"%.60s\" has no reactions and is not bound: call "
            "ikv_setup_bind() for it",
            h->name);
    } else {
        status = ikv_bus_subscribe(ikv_kit_bus(setup->kit), &config,
                                   &h->subscription, &message);
        if (status < 0)
            ikvi_reader_fail(r, &here, "handler \"%.60s\": %.300s", h->name,
                             message.text[0] != '\0' ? message.text
                                                     : ikv_status_text(status));
    }
    /* The bus has its own form of them. */
    free(conditions);
    free(groups);
    free(at);
    if (status == IKV_OK && (h->muted || (h->group != NULL && h->group->muted)))
        ikv_bus_mute(ikv_kit_bus(setup->kit), h->subscription, true);
    return status;
}

/* What was added of a setup that could not be applied as a whole. */
static void take_back(ikv_setup *setup)
{
    ikv_bus *bus = ikv_kit_bus(setup->kit);
    /* Handlers before their targets, so that nobody is told of an end. */
    for (uint32_t i = 0; i < setup->handler_count; i++) {
        ikv_bus_unsubscribe(bus, setup->handlers[i].subscription);
        setup->handlers[i].subscription = (ikv_subscription){0};
    }
    while (setup->owner_count > 0)
        ikv_bus_drop_owner(bus, setup->owners[--setup->owner_count].owner);
    for (uint32_t i = 0; i < setup->action_count; i++) {
        ikv_actions_remove(ikv_kit_actions(setup->kit),
                           setup->actions[i].added);
        setup->actions[i].added = (ikv_action_id){0};
    }
    for (uint32_t i = 0; i < setup->target_count; i++) {
        /* A child goes with its parent: its own removal finds nothing. */
        ikv_scene_remove(ikv_kit_scene(setup->kit), setup->targets[i].handle);
        setup->targets[i].handle = (ikv_target){0};
        setup->targets[i].added = false;
    }
    setup->kit = NULL;
}

ikv_status ikv_setup_apply(ikv_setup *setup, ikv_kit *kit, uint32_t flags,
                           ikv_message *message)
{
    if (setup == NULL || kit == NULL || setup->kit != NULL)
        return IKV_BAD_ARGUMENT;
    /* Names are looked up through it from here on. */
    setup->kit = kit;
    reader r = {.path = setup->path, .message = message};
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < setup->target_count; i++)
        status = apply_target(setup, i, &r);
    if (status == IKV_OK)
        status = ikvi_apply_actions(setup, &r);
    for (uint32_t i = 0; status == IKV_OK && i < setup->handler_count; i++)
        status = apply_handler(setup, &setup->handlers[i], flags, &r);
    for (uint32_t i = setup->layer_count; status == IKV_OK && i-- > 0;) {
        status = ikv_scene_set_camera(ikv_kit_scene(kit), i, 0,
                                      &setup->layers[i].camera);
        place list = {NULL, "layers", 0}, here = {&list, NULL, i};
        if (status < 0)
            ikvi_reader_fail(
                &r, &here, "layer \"%.60s\": %s", setup->layers[i].name,
                "the kit has not so many layers: ikv_setup_size()");
    }
    if (status < 0) {
        take_back(setup);
        return status;
    }
    return ikvi_message_fine(message);
}

ikv_target ikv_setup_target(const ikv_setup *setup, const char *id)
{
    ikv_target none = {0};
    if (setup == NULL || id == NULL)
        return none;
    if (strcmp(id, "root") == 0 && setup->kit != NULL)
        return ikv_bus_root(ikv_kit_bus(setup->kit));
    const setup_target *target = ikvi_setup_find_target(setup, id);
    return target != NULL ? target->handle : none;
}

ikv_subscription ikv_setup_subscription(const ikv_setup *setup,
                                        const char *handler)
{
    const setup_handler *h = setup != NULL && handler != NULL
                                 ? ikvi_setup_find_handler(setup, handler)
                                 : NULL;
    return h != NULL ? h->subscription : (ikv_subscription){0};
}

const char *ikv_setup_name(const ikv_setup *setup, uint32_t of, uint32_t index)
{
    if (setup == NULL)
        return NULL;
    if (of == IKV_SETUP_HANDLERS && index < setup->handler_count)
        return setup->handlers[index].name;
    if (of == IKV_SETUP_TARGETS && index < setup->target_count)
        return setup->targets[index].id;
    if (of == IKV_SETUP_ACTIONS && index < setup->action_count)
        return setup->actions[index].name;
    return NULL;
}

const char *ikv_setup_target_name(const ikv_setup *setup, ikv_target target)
{
    if (setup == NULL || setup->kit == NULL)
        return "gone";
    if (target.bits == ikv_bus_root(ikv_kit_bus(setup->kit)).bits)
        return "root";
    const setup_target *found = ikvi_setup_target_of(setup, target);
    return found != NULL ? found->id : "gone";
}

const char *ikvi_setup_name_of(const ikv_setup *setup, ikv_target target)
{
    const char *name = ikv_setup_target_name(setup, target);
    if (setup == NULL || target.bits == 0 || strcmp(name, "gone") != 0)
        return name;
    /* One that was removed has no id at the bus any more, but its handle is
     * remembered. */
    for (uint32_t i = 0; i < setup->target_count; i++)
        if (setup->targets[i].handle.bits == target.bits)
            return setup->targets[i].id;
    return name;
}

void ikv_setup_view(const ikv_setup *setup, float *width, float *height)
{
    if (width != NULL)
        *width = setup != NULL ? setup->view_width : 0;
    if (height != NULL)
        *height = setup != NULL ? setup->view_height : 0;
}

void ikv_setup_set_note(ikv_setup *setup, ikv_note_fn note, void *user)
{
    if (setup != NULL) {
        setup->note = note;
        setup->note_user = user;
    }
}

ikv_status ikv_setup_counters(const ikv_setup *setup, ikv_setup_counts *counts)
{
    if (setup == NULL || counts == NULL)
        return IKV_BAD_ARGUMENT;
    if (counts->size < sizeof *counts)
        return IKV_BAD_SIZE;
    counts->targets = setup->target_count;
    counts->handlers = setup->handler_count;
    counts->kinds = setup->kind_count;
    return IKV_OK;
}
