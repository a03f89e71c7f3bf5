/* conditions.c - instead of src/bus/bus_condition.c and src/bus/bus_compile.c:
 * subscriptions have no conditions, and one that asks for some is refused with
 * LEFT_OUT. Tags, bodies, limits and gaps stay.
 */
#include "../src/bus/bus_internal.h"

void ikvi_conditions_open(ikv_bus *b)
{
    b->s.free_condition = IKVI_NONE;
}

ikv_status ikvi_conditions_check(const ikv_bus *b,
                                 const ikv_subscription_config *config,
                                 ikv_message *message, uint32_t *conditions)
{
    (void)b;
    *conditions = 0;
    if (config->conditions == NULL && config->condition_count == 0 &&
        config->groups == NULL && config->group_count == 0)
        return IKV_OK;
    return ikvi_refuse_condition(message, IKV_LEFT_OUT, "", "can't be made",
                                 "this build leaves conditions out");
}

bool ikvi_conditions_keep_names(ikv_bus *b,
                                const ikv_subscription_config *config)
{
    (void)b, (void)config;
    return true;
}

void ikvi_conditions_make(ikv_bus *b, bus_gate *gate,
                          const ikv_subscription_config *config)
{
    (void)b, (void)config;
    gate->test = (bus_test){0, 0, UINT32_MAX};
}

void ikvi_conditions_drop(ikv_bus *b, bus_gate *gate)
{
    (void)b, (void)gate;
}

bool ikvi_conditions_hold(const ikv_bus *b, const bus_gate *gate,
                          const ikv_event *event, const ikv_delivery *delivery)
{
    (void)b, (void)gate, (void)event, (void)delivery;
    return true;
}

uint32_t ikvi_conditions_probe(const ikv_bus *b, const bus_gate *gate,
                               const ikv_event *event,
                               const ikv_delivery *delivery, ikv_obstacle *to,
                               uint32_t room, uint32_t count)
{
    (void)b, (void)gate, (void)event, (void)delivery, (void)to, (void)room;
    return count;
}

const char *ikvi_conditions_validate(const ikv_bus *b)
{
    return b->s.conditions_used == 0 ? NULL : "bus-9";
}
