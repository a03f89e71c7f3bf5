/* setup.c - a setup: opening and closing it, and finding things in it. The
 * document is kept: all names point into it.
 */
#define _POSIX_C_SOURCE 200809L
#include "setup.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

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

/* Targets bear a number as id, at first their index + 1. */
setup_target *ikvi_setup_target_of(const ikv_setup *setup, ikv_target target)
{
    if (setup == NULL || setup->kit == NULL)
        return NULL;
    uint32_t id = ikv_bus_target_id(ikv_kit_bus(setup->kit), target);
    if (id > 0 && setup->places != NULL)
        id = id <= setup->number_count ? setup->places[id - 1] + 1 : 0;
    return id > 0 && id <= setup->target_count ? &setup->targets[id - 1] : NULL;
}

bool ikvi_setup_unknown(reader *r, const place *at, const char *what,
                        const char *name, const char *const *known)
{
    char hint[IKV_HINT_BYTES], all[96]; /* a line's worth */
    const char *near = ikv_nearest_name(name, known);
    /* Where nothing is near, all of them, if they are few. */
    if (near == NULL && known[0] != NULL &&
        ikvi_list_names(known, all, sizeof all))
        return ikvi_reader_fail(r, at, "unknown %s \"%.60s\"; expected %s%s",
                                what, name, known[1] != NULL ? "one of " : "",
                                all);
    return ikvi_reader_fail(r, at, "unknown %s \"%.60s\"%s", what, name,
                            ikv_did_you_mean(near, hint, sizeof hint));
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
        if (name == NULL || *name == '\0')
            return ikvi_reader_fail(
                r, &here, "expected a tag's name, found %s",
                name != NULL ? "an empty text"
                             : ikvi_json_found(json_array_get(list, i)));
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

const char *ikvi_setup_tag(const ikv_setup *setup, uint32_t bit)
{
    return setup != NULL && bit < setup->tag_count ? setup->tags[bit] : NULL;
}

const char *ikvi_setup_layer(const ikv_setup *setup, uint32_t layer)
{
    return setup != NULL && layer < setup->layer_count
               ? setup->layers[layer].name
               : NULL;
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
    json_decref(setup->owner_names);
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
    if (!setup->catalogue_lent)
        ikv_catalogue_close(setup->catalogue);
    json_decref(setup->document);
    free(setup->places);
    free(setup->path);
    ikv_setup_close(setup->before);
    free(setup);
}

const ikv_catalogue *ikv_setup_catalogue(const ikv_setup *setup)
{
    return setup != NULL ? setup->catalogue : NULL;
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

ikv_owner ikv_setup_owner(const ikv_setup *setup, const char *name)
{
    for (uint32_t i = 0;
         setup != NULL && name != NULL && i < setup->owner_count; i++)
        if (strcmp(setup->owners[i].name, name) == 0)
            return setup->owners[i].owner;
    return (ikv_owner){0};
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

/* Of one that is alive; NULL: none of that name now. */
static const char *name_now(const ikv_setup *setup, ikv_target target)
{
    if (setup == NULL || setup->kit == NULL)
        return NULL;
    if (target.bits == ikv_bus_root(ikv_kit_bus(setup->kit)).bits)
        return "root";
    const setup_target *found = ikvi_setup_target_of(setup, target);
    return found != NULL ? found->id : NULL;
}

const char *ikv_setup_target_name(const ikv_setup *setup, ikv_target target)
{
    const char *name = name_now(setup, target);
    return name != NULL ? name : "gone";
}

const char *ikvi_setup_name_of(const ikv_setup *setup, ikv_target target)
{
    const char *name = name_now(setup, target);
    if (name != NULL)
        return name;
    /* One that was removed has no id at the bus any more, but its handle is
     * remembered. */
    for (; setup != NULL && target.bits != 0; setup = setup->before)
        for (uint32_t i = 0; i < setup->target_count; i++)
            if (setup->targets[i].handle.bits == target.bits)
                return setup->targets[i].id;
    return "gone";
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
