/* setup_actions.c - sets, actions and bindings in setups. */
#include "setup.h"

#include <stdlib.h>
#include <string.h>

/* ---------------------------------------------------------------- setups -- */

bool ikvi_read_action_set(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, size_t index)
{
    static const char *const members[] = {"name", "on", NULL};
    setup_set *to = &setup->sets[index];
    place here = {at, "name", 0};
    to->on = true;
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_name(r, at, value, "name", &to->name) ||
        !ikvi_read_bool(r, at, value, "on", &to->on))
        return false;
    if (!ikvi_setup_name(r, &setup->set_names, to->name, index))
        return ikvi_reader_fail(r, &here, "the name \"%.60s\" is taken",
                                to->name);
    return true;
}

size_t ikvi_setup_find_set(const ikv_setup *setup, const char *name)
{
    size_t at = ikvi_setup_place(setup->set_names, name);
    /* As many as there are stands for none. */
    return at != SIZE_MAX ? at : setup->set_count;
}

const setup_action *ikvi_setup_find_action(const ikv_setup *setup,
                                           const char *name)
{
    size_t at = ikvi_setup_place(setup->action_names, name);
    return at != SIZE_MAX ? &setup->actions[at] : NULL;
}

bool ikvi_read_setup_action(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, size_t index)
{
    static const char *const members[] = {"name", "set", "bindings", "toggle",
                                          NULL};
    setup_action *to = &setup->actions[index];
    const char *name = NULL, *set = NULL;
    place at_name = {at, "name", 0}, at_set = {at, "set", 0},
          at_list = {at, "bindings", 0};
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_name(r, at, value, "name", &name) ||
        !ikvi_read_string(r, at, value, "set", false, &set) ||
        !ikvi_read_bool(r, at, value, "toggle", &to->toggles))
        return false;
    if (!ikvi_setup_name(r, &setup->action_names, name, index))
        return ikvi_reader_fail(r, &at_name, "the name \"%.60s\" is taken",
                                name);
    to->name = name;
    to->set = set;
    if (set != NULL && ikvi_setup_find_set(setup, set) == setup->set_count)
        return ikvi_setup_unknown_of(r, &at_set, "set", set, setup->set_names,
                                     NULL);
    /* Checked later, when targets and layers are known. */
    to->bindings = json_object_get(value, "bindings");
    if (to->bindings == NULL)
        return true;
    if (!ikvi_expect_array(r, &at_list, to->bindings))
        return false;
    setup->binding_count += (uint32_t)json_array_size(to->bindings);
    return true;
}

/* What a binding asks for is used: its scope's target, its tags and who bears
 * them. */
static void note_binding(ikv_setup *setup, const setup_action *action,
                         const read_binding *binding)
{
    uint32_t tags =
        binding->scope.where == IKV_TAGGED ? binding->scope.layer : 0;
    setup_target *target =
        binding->target_id != NULL
            ? ikvi_setup_find_target(setup, binding->target_id)
            : NULL;
    if (target != NULL)
        target->heard = true;
    if (target != NULL && binding->scope.where == IKV_FOCUSED)
        target->focus_asked_by = action->name;
    setup->asked_tags |= tags;
    for (uint32_t i = 0; tags != 0 && i < setup->target_count; i++)
        if ((setup->targets[i].config.tags & tags) != 0)
            setup->targets[i].heard = true;
}

/* When all targets, their tags and layers are known. */
bool ikvi_check_setup_bindings(reader *r, const place *at, ikv_setup *setup,
                               const json_t *value, size_t index)
{
    place list = {at, "bindings", 0};
    const binding_names names = {.setup = setup};
    read_binding binding;
    (void)value;
    for (size_t i = 0; i < json_array_size(setup->actions[index].bindings);
         i++) {
        place one = {&list, NULL, i};
        if (!ikvi_read_binding(
                r, &one, &names,
                json_array_get(setup->actions[index].bindings, i), &binding))
            return false;
        note_binding(setup, &setup->actions[index], &binding);
    }
    return true;
}

ikv_status ikvi_apply_set(ikv_setup *setup, uint32_t index, reader *r)
{
    ikv_actions *actions = ikv_kit_actions(setup->kit);
    setup_set *set = &setup->sets[index];
    place list = {NULL, "sets", 0}, here = {&list, NULL, index};
    ikv_status status = ikv_actions_add_set(actions, set->name, &set->number);
    if (status == IKV_DUPLICATE) /* the kit's, or of an earlier try */
        status = ikv_actions_find_set(actions, set->name, &set->number);
    if (status == IKV_OK && !set->on)
        ikv_actions_switch(actions, set->number, IKV_ALL_SEATS, false);
    if (status < 0)
        ikvi_reader_fail(r, &here, "the set \"%.60s\" could not be added: %s",
                         set->name, ikv_status_text(status));
    return status;
}

ikv_status ikvi_apply_bindings(ikv_setup *setup, uint32_t index, reader *r)
{
    const binding_names names = {.setup = setup};
    const setup_action *a = &setup->actions[index];
    return ikvi_bind_list(r, &names, ikv_kit_actions(setup->kit), a->added,
                          a->bindings);
}

ikv_status ikvi_apply_action(ikv_setup *setup, uint32_t index, reader *r)
{
    setup_action *a = &setup->actions[index];
    place list = {NULL, "actions", 0}, here = {&list, NULL, index};
    /* Without a name it is the one that is always there. */
    ikv_action_set set = IKV_MAIN_SET;
    if (a->set != NULL)
        set = setup->sets[ikvi_setup_find_set(setup, a->set)].number;
    ikv_status status =
        ikv_actions_add(ikv_kit_actions(setup->kit), set, a->name, &a->added);
    if (status == IKV_OK)
        status = ikvi_apply_bindings(setup, index, r);
    if (status == IKV_OK && a->toggles)
        ikv_actions_set_toggle(ikv_kit_actions(setup->kit), a->added,
                               IKV_ALL_SEATS, true);
    if (status < 0)
        ikvi_reader_fail(r, &here,
                         "the action \"%.60s\" could not be added: %s", a->name,
                         ikv_status_text(status));
    return status;
}

/* ---------------------------------------------------------------- clashes --
 */

/* The setup's actions, in a bus of their own whose targets stand for the
 * setup's: as if it were applied. */
typedef struct trial {
    ikv_bus *bus;
    ikv_state *state;
    ikv_actions *actions;
    ikv_target *targets;
} trial;

static void close_trial(trial *t)
{
    ikv_actions_close(t->actions);
    ikv_state_close(t->state);
    ikv_bus_close(t->bus);
    free(t->targets);
}

static bool open_trial(const ikv_setup *setup, trial *t)
{
    ikv_actions_config actions = IKV_ACTIONS_INIT;
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_state_config state = IKV_STATE_INIT;
    actions.memory = bus.memory = state.memory = ikv_host_memory();
    /* Each stands for one of the setup's, so that scopes can be told apart. */
    bus.targets = setup->target_count + 1;
    actions.sets = setup->set_count + 1;
    actions.actions = setup->action_count + 1;
    actions.bindings = setup->binding_count + 1;
    actions.name_bytes = 4096 + 64 * (setup->action_count + setup->set_count);
    t->targets = calloc(setup->target_count + 1u, sizeof *t->targets);
    if (t->targets == NULL || ikv_bus_open(&bus, &t->bus) < 0 ||
        ikv_state_open(&state, &t->state) < 0)
        return false;
    actions.bus = t->bus;
    actions.state = t->state;
    if (ikv_actions_open(&actions, &t->actions) < 0)
        return false;
    for (uint32_t i = 0; i < setup->target_count; i++)
        if (ikv_bus_add_target(t->bus, i + 1, &t->targets[i]) < 0)
            return false;
    return true;
}

static bool fill_trial(const ikv_setup *setup, trial *t)
{
    const binding_names names = {.setup = setup};
    ikv_action_set numbers[1001] = {0};
    for (uint32_t i = 0; i < setup->set_count; i++)
        if (ikv_actions_add_set(t->actions, setup->sets[i].name, &numbers[i]) <
            0)
            return false;
    for (uint32_t i = 0; i < setup->action_count; i++) {
        const setup_action *a = &setup->actions[i];
        ikv_action_id id;
        ikv_action_set set = IKV_MAIN_SET;
        if (a->set != NULL)
            set = numbers[ikvi_setup_find_set(setup, a->set)];
        if (ikv_actions_add(t->actions, set, a->name, &id) < 0)
            return false;
        for (size_t n = 0; n < json_array_size(a->bindings); n++) {
            /* All of it was read before: nothing here can be wrong but
             * memory. */
            reader silent = {.path = setup->path};
            read_binding b;
            if (!ikvi_read_binding(&silent, NULL, &names,
                                   json_array_get(a->bindings, n), &b))
                return false;
            if (b.target_id != NULL)
                b.scope.target = strcmp(b.target_id, "root") == 0
                                     ? ikv_bus_root(t->bus)
                                     : t->targets[ikvi_setup_find_target(
                                                      setup, b.target_id) -
                                                  setup->targets];
            if (ikv_actions_bind(t->actions, id, b.text, &b.scope, NULL) < 0)
                return false;
        }
    }
    return true;
}

bool ikvi_find_binding_clashes(ikv_setup *setup, ikv_mistake_fn told)
{
    trial t = {0};
    /* Without actions there is nothing to try. */
    bool good = setup->action_count == 0 ||
                (open_trial(setup, &t) && fill_trial(setup, &t));
    if (good)
        ikv_bindings_find_clashes(t.actions, told, setup);
    close_trial(&t);
    return good;
}
