/* setup_reload.c - an edited setup, taken into the kit that runs.
 *
 * The file is compared with what it was. What it says as before stays as the
 * game has it, wherever that is by now; what it says differently is done (T7). First
 * comes all that can fail, nearly all of it additions; if something does, the
 * kit goes back to an image of before (T8). Only then does anything end.
 *
 * The old setup is kept inside the new one: names, and the handlers that the bus
 * calls, point into it.
 */
#define _POSIX_C_SOURCE 200809L
#include "reload.h"

#include <stdlib.h>
#include <string.h>

/* ------------------------------------------------------------ comparing -- */

/* What holds of a handler or group where nothing is said of it. */
static bool says_what_holds(const char *member, const json_t *value)
{
    static const struct {
        const char *member, *value;
    } rows[] = {{"phases", "[]"},
                {"rank", "0"},
                {"muted", "false"},
                {"join", "\"all\""},
                {"gap", "0"}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        if (strcmp(rows[i].member, member) != 0)
            continue;
        json_t *absent = json_loads(rows[i].value, JSON_DECODE_ANY, NULL);
        bool same = ikvi_reload_says_alike(value, absent);
        json_decref(absent);
        return same;
    }
    return false;
}

static bool has_all_of(const json_t *a, const json_t *b)
{
    const char *member;
    json_t *value;
    json_object_foreach((json_t *)(uintptr_t)a, member, value)
    {
        const json_t *other = json_object_get(b, member);
        bool same = false;
        if (strcmp(member, "note") == 0)
            same = true;
        else if (other == NULL)
            same = says_what_holds(member, value);
        else if (strcmp(member, "reactions") == 0)
            same = is_same(value, other); /* 1 and 1.0 are of two sorts there */
        else
            same = ikvi_reload_says_alike(value, other);
        if (!same)
            return false;
    }
    return true;
}

/* Objects, without their notes. */
static bool says_the_same(const json_t *a, const json_t *b)
{
    if (!json_is_object(a) || !json_is_object(b))
        return is_same(a, b);
    return has_all_of(a, b) && has_all_of(b, a);
}

/* ----------------------------------------------- what can't be changed -- */

static bool check_settings(const reloading *l)
{
    static const char *const fixed[] = {"view", "loop", "router", "announces"};
    for (size_t i = 0; i < sizeof fixed / sizeof fixed[0]; i++) {
        place here = {NULL, fixed[i], 0};
        const json_t *was = json_object_get(l->was->document, fixed[i]);
        const json_t *now = json_object_get(l->next->document, fixed[i]);
        if (!says_the_same(was, now))
            return ikvi_reader_fail(
                l->r, &here, "it can't change while the kit runs: start anew");
    }
    return true;
}

/* Targets and bindings know layers by their places. */
static bool check_layers(const reloading *l)
{
    place at = {NULL, "layers", 0};
    for (uint32_t i = 0; i < l->was->layer_count; i++) {
        place here = {&at, NULL, i};
        if (i >= l->next->layer_count ||
            strcmp(l->was->layers[i].name, l->next->layers[i].name) != 0)
            return ikvi_reader_fail(
                l->r, &here,
                "expected the layer \"%.60s\": layers can be added behind the "
                "others, not taken away or moved, while the kit runs",
                l->was->layers[i].name);
    }
    return true;
}

static bool is_same_kind(const ikv_kind_info *a, const ikv_kind_info *b)
{
    bool same = a->from == b->from && a->bubbles == b->bubbles &&
                a->outlives_target == b->outlives_target &&
                a->field_count == b->field_count;
    for (uint32_t i = 0; same && i < a->field_count; i++)
        same = strcmp(a->fields[i].name, b->fields[i].name) == 0 &&
               a->fields[i].type == b->fields[i].type &&
               a->fields[i].offset == b->fields[i].offset;
    return same;
}

/* `next` has a catalogue of its own, still. */
static bool check_kinds(const reloading *l)
{
    place at = {NULL, "kinds", 0};
    const json_t *list = json_object_get(l->next->document, "kinds");
    for (size_t i = 0; i < json_array_size(list); i++) {
        place here = {&at, NULL, i};
        const char *name =
            json_string_value(json_object_get(json_array_get(list, i), "name"));
        ikv_kind kind = ikv_catalogue_find(l->was->catalogue, name);
        ikv_kind now = ikv_catalogue_find(l->next->catalogue, name);
        if (kind != IKV_KIND_NONE &&
            !is_same_kind(ikv_catalogue_info(l->was->catalogue, kind),
                          ikv_catalogue_info(l->next->catalogue, now)))
            return ikvi_reader_fail(
                l->r, &here,
                "the kind \"%.60s\" can't change while the kit runs: give it "
                "another name, or start anew",
                name);
    }
    return true;
}

/* Overlaps tell of bodies. */
static bool check_targets(const reloading *l)
{
    place at = {NULL, "targets", 0};
    for (uint32_t i = 0; i < l->next->target_count; i++) {
        const setup_target *to = &l->next->targets[i];
        const setup_target *was = ikvi_setup_find_target(l->was, to->id);
        place here = {&at, NULL, i}, member = {&here, "body", 0};
        if (was != NULL && was->config.body != to->config.body)
            return ikvi_reader_fail(
                l->r, &member,
                "whether \"%.60s\" is a body can't change while the kit runs: "
                "give it another id, or start anew",
                to->id);
    }
    return true;
}

/* -------------------------------------------------------------- reading -- */

/* Names of fields and tags keep their numbers. */
static bool keep_numbers(const ikv_setup *was, ikv_setup *next, reader *r)
{
    for (uint32_t i = 0; i < was->field_count; i++)
        if (!ikvi_setup_number_field(r, next, was->fields[i]))
            return false;
    memcpy(next->tags, was->tags, sizeof next->tags);
    next->tag_count = was->tag_count;
    return true;
}

/* With a catalogue of its own, or the one that runs. NULL after a message. */
static ikv_setup *read_next(const reloading *l, json_t *document, bool lent)
{
    ikv_setup *next = calloc(1, sizeof *next);
    if (next == NULL) {
        ikvi_no_memory(l->r);
        return NULL;
    }
    next->document = json_incref(document);
    next->path = strdup(l->r->path);
    next->catalogue_lent = lent;
    next->catalogue = lent ? l->was->catalogue : NULL;
    if (next->path == NULL)
        ikvi_no_memory(l->r);
    if (next->path != NULL && keep_numbers(l->was, next, l->r) &&
        ikvi_read_document(l->r, next))
        return next;
    ikv_setup_close(next);
    return NULL;
}

/* Once to see whether all of it is right, and again with the kinds that run, to
 * which new ones are added. */
static bool read_all(reloading *l)
{
    json_t *document = ikvi_json_load(l->r, "the setup");
    bool good = document != NULL;
    if (good)
        l->next = read_next(l, document, false);
    good = l->next != NULL && check_settings(l) && check_layers(l) &&
           check_kinds(l) && check_targets(l);
    uint32_t kinds = l->was->kind_count;
    ikv_setup_close(l->next);
    l->next = good ? read_next(l, document, true) : NULL;
    json_decref(document);
    if (l->next == NULL)
        return false;
    if (l->next->kind_count > kinds)
        l->counts[COUNT_KINDS].added = l->next->kind_count - kinds;
    return ikvi_find_setup_mistakes(l->next) || ikvi_no_memory(l->r) == IKV_OK;
}

/* --------------------------------------------------------- what is kept -- */

static void keep_handlers(const reloading *l)
{
    for (uint32_t i = 0; i < l->next->handler_count; i++) {
        setup_handler *h = &l->next->handlers[i];
        const setup_handler *was = ikvi_setup_find_handler(l->was, h->name);
        if (was != NULL && !h->has_reactions) {
            h->bound = was->bound;
            h->bound_user = was->bound_user;
        }
    }
    memcpy(l->next->owners, l->was->owners, sizeof l->next->owners);
    l->next->owner_count = l->was->owner_count;
    l->next->note = l->was->note;
    l->next->note_user = l->was->note_user;
    l->next->kit = l->kit;
}

/* Those that stay keep their numbers, others get new ones. */
static bool number_targets(const reloading *l)
{
    ikv_setup *next = l->next;
    uint32_t count =
        l->was->places != NULL ? l->was->number_count : l->was->target_count;
    size_t room = (size_t)count + next->target_count + 1;
    next->places = malloc(room * sizeof *next->places);
    if (next->places == NULL)
        return ikvi_no_memory(l->r) == IKV_OK;
    memset(next->places, 0xff, room * sizeof *next->places);
    for (uint32_t i = 0; i < next->target_count; i++) {
        const setup_target *was =
            ikvi_setup_find_target(l->was, next->targets[i].id);
        uint32_t number = was != NULL ? was->config.id : ++count;
        next->targets[i].config.id = number;
        next->places[number - 1] = i;
    }
    next->number_count = count;
    return true;
}

/* ------------------------------------------------------ layers, actions -- */

static ikv_status settle_layers(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->layer_count; i++) {
        if (i >= l->was->layer_count)
            l->counts[COUNT_LAYERS].added++;
        else if (same_member(entry(l->was, "layers", i),
                             entry(l->next, "layers", i), "camera"))
            continue;
        else
            l->counts[COUNT_LAYERS].changed++;
        status = ikvi_apply_layer(l->next, i, l->r);
    }
    return status;
}

static const setup_set *set_before(const reloading *l, const char *name)
{
    size_t at = ikvi_setup_find_set(l->was, name);
    return at < l->was->set_count ? &l->was->sets[at] : NULL;
}

static ikv_status settle_sets(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->set_count; i++) {
        setup_set *set = &l->next->sets[i];
        const setup_set *was = set_before(l, set->name);
        if (was != NULL) {
            set->number = was->number;
            continue;
        }
        l->counts[COUNT_SETS].added++;
        status = ikvi_apply_set(l->next, i, l->r);
        /* One of an earlier file is there, switched off. */
        if (status == IKV_OK && set->on)
            ikv_actions_switch(actions, set->number, IKV_ALL_SEATS, true);
    }
    return status;
}

static void end_sets(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    for (uint32_t i = 0; i < l->was->set_count; i++) {
        const setup_set *was = &l->was->sets[i];
        size_t at = ikvi_setup_find_set(l->next, was->name);
        bool gone = at == l->next->set_count;
        bool on = !gone && l->next->sets[at].on;
        l->counts[COUNT_SETS].gone += gone;
        l->counts[COUNT_SETS].changed += !gone && on != was->on;
        if (gone || on != was->on)
            ikv_actions_switch(actions, was->number, IKV_ALL_SEATS, on);
    }
}

static bool same_text(const char *a, const char *b)
{
    return a == b || (a != NULL && b != NULL && strcmp(a, b) == 0);
}

static uint32_t count_bindings(const ikv_actions *actions, ikv_action_id action)
{
    uint32_t count = 0;
    while (ikv_actions_binding(actions, action, count).bits != 0)
        count++;
    return count;
}

/* New bindings are added to the old ones, which end later. */
static ikv_status change_action(reloading *l, const setup_action *was,
                                uint32_t index)
{
    const ikv_actions *actions = ikv_kit_actions(l->kit);
    setup_action *to = &l->next->actions[index];
    place list = {NULL, "actions", 0}, here = {&list, NULL, index};
    to->added = was->added;
    if (ikv_actions_name(actions, to->added) == NULL)
        return IKV_OK;
    bool same = ikvi_reload_says_alike(was->bindings, to->bindings);
    l->counts[COUNT_ACTIONS].changed += !same || was->toggles != to->toggles;
    if (same)
        return IKV_OK;
    to->outdated = count_bindings(actions, to->added);
    ikv_status status = ikvi_apply_bindings(l->next, index, l->r);
    if (status < 0)
        ikvi_reader_fail(l->r, &here, "the action \"%.60s\": %s", to->name,
                         ikv_status_text(status));
    return status;
}

static ikv_status settle_actions(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->action_count; i++) {
        setup_action *to = &l->next->actions[i];
        const setup_action *was = ikvi_setup_find_action(l->was, to->name);
        if (was != NULL && same_text(was->set, to->set)) {
            status = change_action(l, was, i);
            continue;
        }
        if (was == NULL)
            l->counts[COUNT_ACTIONS].added++;
        else
            l->counts[COUNT_ACTIONS].changed++;
        /* An action is of one set all its life. */
        if (was != NULL)
            ikv_actions_remove(ikv_kit_actions(l->kit), was->added);
        status = ikvi_apply_action(l->next, i, l->r);
    }
    return status;
}

static void end_actions(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    for (uint32_t i = 0; i < l->was->action_count; i++) {
        const setup_action *was = &l->was->actions[i];
        if (ikvi_setup_find_action(l->next, was->name) != NULL)
            continue;
        l->counts[COUNT_ACTIONS].gone++;
        ikv_actions_remove(actions, was->added);
    }
    for (uint32_t i = 0; i < l->next->action_count; i++) {
        const setup_action *to = &l->next->actions[i];
        const setup_action *was = ikvi_setup_find_action(l->was, to->name);
        if (was != NULL && was->toggles != to->toggles)
            ikv_actions_set_toggle(actions, to->added, IKV_ALL_SEATS,
                                   to->toggles);
        for (uint32_t n = 0; n < to->outdated; n++)
            ikv_actions_unbind(actions,
                               ikv_actions_binding(actions, to->added, 0));
    }
}

/* ------------------------------------------------------------- handlers -- */

static const json_t *group_entry_of(const ikv_setup *setup,
                                    const setup_handler *handler)
{
    return handler->group == NULL
               ? NULL
               : entry(setup, "groups",
                       (size_t)(handler->group - setup->groups));
}

/* Its group is a part of it. */
static bool is_same_handler(const reloading *l, const setup_handler *was,
                            const setup_handler *to)
{
    return says_the_same(
               entry(l->was, "handlers", (size_t)(was - l->was->handlers)),
               entry(l->next, "handlers", (size_t)(to - l->next->handlers))) &&
           says_the_same(group_entry_of(l->was, was),
                         group_entry_of(l->next, to));
}

static ikv_status settle_handlers(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->handler_count; i++) {
        setup_handler *to = &l->next->handlers[i];
        const setup_handler *was = ikvi_setup_find_handler(l->was, to->name);
        if (was != NULL && is_same_handler(l, was, to)) {
            to->subscription = was->subscription;
            to->first = was->first;
            continue;
        }
        if (was == NULL)
            l->counts[COUNT_HANDLERS].added++;
        else
            l->counts[COUNT_HANDLERS].changed++;
        status = ikvi_apply_handler(l->next, to, l->flags, l->r);
    }
    return status;
}

static void end_handlers(reloading *l)
{
    ikv_bus *bus = ikv_kit_bus(l->kit);
    for (uint32_t i = 0; i < l->was->handler_count; i++) {
        const setup_handler *was = &l->was->handlers[i];
        const setup_handler *to = ikvi_setup_find_handler(l->next, was->name);
        l->counts[COUNT_HANDLERS].gone += to == NULL;
        if (to == NULL || to->subscription.bits != was->subscription.bits)
            ikv_bus_unsubscribe(bus, was->subscription);
    }
}

static bool is_owner(const ikv_setup *setup, const char *name)
{
    for (uint32_t i = 0; i < setup->handler_count; i++)
        if (same_text(setup->handlers[i].owner, name))
            return true;
    return false;
}

static void end_owners(const reloading *l)
{
    ikv_setup *next = l->next;
    for (uint32_t i = next->owner_count; i-- > 0;) {
        if (is_owner(next, next->owners[i].name))
            continue;
        ikv_bus_drop_owner(ikv_kit_bus(l->kit), next->owners[i].owner);
        next->owners[i] = next->owners[--next->owner_count];
    }
}

/* ------------------------------------------------------------- all of it -- */

static ikv_status settle(reloading *l)
{
    ikv_status status = ikvi_reload_targets(l);
    if (status == IKV_OK)
        status = settle_layers(l);
    if (status == IKV_OK)
        status = settle_sets(l);
    if (status == IKV_OK)
        status = settle_actions(l);
    return status == IKV_OK ? settle_handlers(l) : status;
}

/* The two change places: `setup` is what callers, handlers and traces have. */
static void take_over(reloading *l)
{
    ikv_setup was = *l->was;
    ikv_setup *setup = l->was, *before = l->next;
    *setup = *l->next;
    *before = was;
    setup->before = before;
    /* Who is closed last closes it. */
    setup->catalogue_lent = before->catalogue_lent;
    before->catalogue_lent = true;
    for (uint32_t i = 0; i < setup->handler_count; i++) {
        setup->handlers[i].setup = setup;
        setup->handlers[i].first->now = &setup->handlers[i];
    }
    l->was = before;
    l->next = setup;
}

static void end_rest(reloading *l)
{
    /* Handlers first: what goes with its targets hears of no end. */
    end_handlers(l);
    end_owners(l);
    end_actions(l);
    end_sets(l);
    ikvi_reload_end_targets(l);
}

static void say_changes(const reloading *l, ikv_message *message)
{
    static const char *const names[COUNTED] = {"kinds", "layers",  "targets",
                                               "sets",  "actions", "handlers"};
    char *to = message != NULL ? message->text : NULL;
    size_t room = sizeof message->text, used = 0;
    if (to == NULL)
        return;
    for (int i = 0; i < COUNTED; i++) {
        const change_counts *c = &l->counts[i];
        const struct {
            uint32_t count;
            const char *word;
        } words[] = {
            {c->added, "added"}, {c->changed, "changed"}, {c->gone, "gone"}};
        bool begun = false;
        for (int w = 0; w < 3; w++) {
            if (words[w].count == 0)
                continue;
            used += (size_t)snprintf(to + used, room - used, "%s%s%s%u %s",
                                     begun      ? ", "
                                     : used > 0 ? "; "
                                                : "",
                                     begun ? "" : names[i], begun ? "" : ": ",
                                     words[w].count, words[w].word);
            begun = true;
        }
    }
    if (used == 0)
        snprintf(to, room, "nothing has changed");
}

/* From an image: what was added and changed is undone. */
static ikv_status settle_or_undo(reloading *l)
{
    ikv_parts parts = ikv_kit_parts(l->kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    if (image == NULL)
        return ikvi_no_memory(l->r);
    ikv_status status = ikv_image_save(&parts, image, size);
    if (status < 0) {
        ikvi_reader_fail(l->r, NULL, "%s", ikv_status_text(status));
    } else {
        status = settle(l);
        if (status < 0)
            ikv_image_restore(&parts, image, size, NULL, 0);
    }
    free(image);
    return status;
}

ikv_status ikv_setup_reload(ikv_setup *setup, ikv_kit *kit, const char *path,
                            uint32_t flags, ikv_message *message)
{
    if (setup == NULL || kit == NULL || setup->kit != kit)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = path != NULL ? path : setup->path, .message = message};
    reloading l = {.was = setup, .kit = kit, .flags = flags, .r = &r};
    ikv_status status = IKV_OK;
    if (read_all(&l) && number_targets(&l)) {
        keep_handlers(&l);
        status = settle_or_undo(&l);
    }
    if (r.failed || status < 0) {
        ikv_setup_close(l.next);
        return status < 0 ? status : ikvi_reader_status(&r);
    }
    take_over(&l);
    end_rest(&l);
    say_changes(&l, message);
    return IKV_OK;
}
