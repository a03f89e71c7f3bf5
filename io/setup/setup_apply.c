/* setup_apply.c - sizing a kit by a setup, and adding the setup to it. */
#include "setup.h"

#include <stdlib.h>
#include <string.h>

ikv_status ikv_setup_bind(ikv_setup *setup, const char *name,
                          ikv_handler handler, void *user)
{
    if (setup == NULL || name == NULL || handler == NULL)
        return IKV_BAD_ARGUMENT;
    setup_handler *h = ikvi_setup_find_handler(setup, name);
    if (h == NULL)
        return IKV_UNKNOWN_NAME;
    /* One or the other; and once, until it is applied. */
    if (h->has_reactions || (h->bound != NULL && setup->kit == NULL))
        return IKV_DUPLICATE;
    ikv_status status = IKV_OK;
    if (setup->kit != NULL)
        status = ikv_bus_rebind(ikv_kit_bus(setup->kit), name, handler, user);
    /* One that has ended is bound for when it is subscribed anew. */
    if (status < 0)
        return status;
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
    to->two_tap_alone = to->two_tap_alone || from->two_tap_alone;
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

/* Subscribes for the owner of that name, who is there from then on; one that the
 * program has dropped is a new one. */
static ikv_status subscribe_owned(ikv_setup *setup, const char *name,
                                  ikv_subscription_config *config,
                                  ikv_subscription *handle,
                                  ikv_message *message)
{
    ikv_bus *bus = ikv_kit_bus(setup->kit);
    uint32_t at = 0;
    while (at < setup->owner_count && strcmp(setup->owners[at].name, name) != 0)
        at++;
    ikv_status status = IKV_STALE;
    if (at < setup->owner_count) {
        config->owner = setup->owners[at].owner;
        status = ikv_bus_subscribe(bus, config, handle, message);
    }
    if (status != IKV_STALE)
        return status;
    ikvi_message_fine(message);
    status = ikv_bus_add_owner(bus, &config->owner);
    if (status < 0)
        return status;
    setup->owners[at].name = name;
    setup->owners[at].owner = config->owner;
    setup->owner_count += at == setup->owner_count;
    return ikv_bus_subscribe(bus, config, handle, message);
}

ikv_status ikvi_parents_first(ikv_setup *setup, uint32_t index,
                              settle_fn settle, void *user)
{
    setup_target *t = &setup->targets[index];
    if (t->added)
        return IKV_OK;
    /* Before its parent, whom it may be reached through again. */
    t->added = true;
    /* Wherever they stand in the file; as deep as a path at most. */
    if (t->parent != NO_INDEX) {
        ikv_status status =
            ikvi_parents_first(setup, (uint32_t)t->parent, settle, user);
        if (status < 0)
            return status;
        t->config.parent = setup->targets[t->parent].handle;
    }
    t->turn = setup->turns++;
    return settle(setup, index, user);
}

ikv_status ikvi_apply_target(ikv_setup *setup, uint32_t index, void *r)
{
    setup_target *t = &setup->targets[index];
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

/* Of the targets that the file names, those that the game has not removed;
 * false if it named some and none is left. */
static bool find_places(const ikv_setup *setup, const setup_handler *h,
                        ikv_target *at, uint32_t *count)
{
    const ikv_bus *bus = ikv_kit_bus(setup->kit);
    *count = 0;
    for (uint32_t i = 0; i < h->at_count; i++) {
        at[*count] = ikv_setup_target(setup, h->at[i]);
        *count += ikv_bus_target_alive(bus, at[*count]);
    }
    if (h->at_body != NULL &&
        !ikv_bus_target_alive(bus, ikv_setup_target(setup, h->at_body)))
        return false;
    return h->at_count == 0 || *count > 0;
}

ikv_status ikvi_apply_handler(ikv_setup *setup, setup_handler *h,
                              uint32_t flags, reader *r)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_target *at = calloc(h->at_count + 1u, sizeof *at);
    uint32_t at_count;
    place list = {NULL, "handlers", 0},
          here = {&list, NULL, (size_t)(h - setup->handlers)};
    if (at == NULL)
        return ikvi_no_memory(r);
    if (!find_places(setup, h, at, &at_count)) {
        free(at);
        return IKV_OK;
    }
    config.kinds = h->kinds;
    config.kind_count = h->kind_count;
    config.families = h->families;
    config.all_kinds = h->all_kinds;
    config.at_list = at_count > 0 ? at : NULL;
    config.at_count = at_count;
    config.phases = h->phases;
    config.rank = h->rank;
    config.name = h->name;
    /* What is bound to nobody is heard, told and logged. */
    config.handler = h->has_reactions   ? ikvi_run_reactions
                     : h->bound != NULL ? h->bound
                                        : do_nothing;
    config.user = h->has_reactions ? (void *)h->first : h->bound_user;
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
        status = h->owner != NULL
                     ? subscribe_owned(setup, h->owner, &config,
                                       &h->subscription, &message)
                     : ikv_bus_subscribe(ikv_kit_bus(setup->kit), &config,
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

ikv_status ikvi_apply_layer(const ikv_setup *setup, uint32_t index, reader *r)
{
    place list = {NULL, "layers", 0}, here = {&list, NULL, index};
    ikv_status status = ikv_scene_set_camera(ikv_kit_scene(setup->kit), index,
                                             0, &setup->layers[index].camera);
    if (status < 0)
        ikvi_reader_fail(r, &here, "layer \"%.60s\": %s",
                         setup->layers[index].name,
                         "the kit has not so many layers: ikv_setup_size()");
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
    setup->turns = 0;
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
        status = ikvi_parents_first(setup, i, ikvi_apply_target, &r);
    for (uint32_t i = 0; status == IKV_OK && i < setup->set_count; i++)
        status = ikvi_apply_set(setup, i, &r);
    for (uint32_t i = 0; status == IKV_OK && i < setup->action_count; i++)
        status = ikvi_apply_action(setup, i, &r);
    for (uint32_t i = 0; status == IKV_OK && i < setup->handler_count; i++)
        status = ikvi_apply_handler(setup, &setup->handlers[i], flags, &r);
    for (uint32_t i = setup->layer_count; status == IKV_OK && i-- > 0;)
        status = ikvi_apply_layer(setup, i, &r);
    if (status < 0) {
        take_back(setup);
        return status;
    }
    return ikvi_message_fine(message);
}
