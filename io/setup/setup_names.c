/* setup_names.c - what things of a kit are called in traces and answers. */
#include "setup_shared.h"

#include <stdio.h>

const char *ikvi_kit_target(const kit_names *names, ikv_target target)
{
    static _Thread_local char number[16];
    if (target.bits == ikv_bus_root(names->bus).bits)
        return "root";
    if (names->setup != NULL)
        return ikvi_setup_name_of(names->setup, target);
    if (names->target_name != NULL) {
        const char *name = names->target_name(names->user, target);
        return name != NULL ? name : "gone";
    }
    snprintf(number, sizeof number, "%u",
             (unsigned)ikv_bus_target_id(names->bus, target));
    return number;
}

const char *ikvi_kit_name(const void *kit, const ikv_field *field,
                          uint32_t *number)
{
    const kit_names *names = kit;
    uint32_t bits = *number;
    static _Thread_local char text[IKV_BINDING_BYTES];
    if (field->set == IKV_SET_ACTION) {
        const char *name =
            ikv_actions_name(names->actions, (ikv_action_id){bits});
        return name != NULL ? name : "gone";
    }
    if (field->set == IKV_SET_FIELD)
        return ikv_setup_field_name(names->setup, bits);
    if (field->set != IKV_SET_BINDING)
        return ikvi_kit_target(names, (ikv_target){bits});
    ikv_event event = ikv_event_make(IKV_KIND_ACTION_START, 0);
    event.action.binding = (uint16_t)bits;
    ikv_binding binding = ikv_actions_binding_of(names->actions, &event);
    return ikv_binding_text(names->actions, binding, text, sizeof text) > 0
               ? text
               : "gone";
}

bool ikvi_kit_hears(const ikv_bus *bus, ikv_subscription subscription,
                    ikv_kind kind)
{
    ikv_target root = ikv_bus_root(bus);
    ikv_delivery at_root = {.path = &root, .path_length = 1};
    ikv_obstacle why_not = {.code = IKV_WHY_NONE};
    ikv_event event = ikv_event_make(kind, 0);
    ikv_bus_probe(bus, subscription, &event, &at_root, &why_not, 1);
    return why_not.code != IKV_WHY_KIND && why_not.code != IKV_WHY_ENDED;
}
