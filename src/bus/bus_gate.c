/* bus_gate.c - gates: what a subscription asks before it is called, kept in a
 * compact form, and asked.
 *
 * bus-9  conditions and gates that are used and those that are free make up all
 *        of them
 */
#include "bus_internal.h"

void ikvi_bus_gate_open(ikv_bus *b)
{
    ikvi_conditions_open(b);
    for (uint32_t i = 0; i < b->gate_capacity; i++)
        ikvi_bus_gate(b, i)->next_of_body =
            i + 1 < b->gate_capacity ? i + 1 : IKVI_NONE;
    b->s.free_gate = 0;
}

/* Whether something must hold before it is called, beside its kind and place. */
static bool needs_gate(const ikv_subscription_config *config)
{
    return config->condition_count > 0 || config->group_count > 0 ||
           config->at_most != 0 || config->limit != 0 || config->after != 0 ||
           config->at_tags != 0 || config->at_body.bits != 0 ||
           config->gap_ns != 0;
}

bool ikvi_bus_gate_has_room(const ikv_bus *b,
                            const ikv_subscription_config *config)
{
    return b->s.free_gate != IKVI_NONE || !needs_gate(config);
}

/* ------------------------------------------------------------- checking -- */

static ikv_status check_place(const ikv_bus *b,
                              const ikv_subscription_config *config,
                              ikv_message *message)
{
    bool other = config->at.bits != 0 || config->at_list != NULL;
    if ((config->at_tags != 0) + (config->at_body.bits != 0) + other > 1)
        return ikvi_refuse_condition(
            message, IKV_BAD_ARGUMENT, "at", "is given twice",
            "set one of at, at_list, at_tags, at_body");
    if (config->at_tags != 0 && b->callbacks.tags == NULL)
        return ikvi_refuse_condition(message, IKV_NEEDS_CALLBACK, "at_tags",
                                     "needs tags",
                                     "set the bus's callback `tags`");
    if (config->at_body.bits != 0 &&
        ikvi_bus_place(b, config->at_body) == IKVI_NONE)
        return ikvi_refuse_condition(message, IKV_STALE, "at_body",
                                     "names what is gone or unknown",
                                     "it must be a target of this bus");
    if (config->at_body.bits != 0 && b->callbacks.body == NULL)
        return ikvi_refuse_condition(message, IKV_NEEDS_CALLBACK, "at_body",
                                     "needs bodies",
                                     "set the bus's callback `body`");
    return IKV_OK;
}

ikv_status ikvi_bus_gate_check(const ikv_bus *b,
                               const ikv_subscription_config *config,
                               ikv_message *message)
{
    uint32_t conditions = 0;
    ikv_status status = check_place(b, config, message);
    if (status == IKV_OK)
        status = ikvi_conditions_check(b, config, message, &conditions);
    if (status == IKV_OK && config->at_most > IKV_PER_FRAME)
        status = ikvi_refuse_condition(message, IKV_BAD_ARGUMENT, "at_most",
                                       "is out of range",
                                       "set IKV_PER_STEP or IKV_PER_FRAME");
    if (status == IKV_OK &&
        conditions > b->condition_capacity - b->s.conditions_used)
        status = IKV_FULL_CONDITIONS;
    return status;
}

/* --------------------------------------------------------------- making -- */

/* Returns whether there is a gate at all: without one the entry is called
 * straight from its run. A plain comparison becomes the entry's own test, which
 * reads no gate. */
bool ikvi_bus_gate_make(ikv_bus *b, uint32_t subscription,
                        const ikv_subscription_config *config)
{
    uint32_t at = b->s.free_gate;
    if (!needs_gate(config))
        return false;
    bus_gate *gate = ikvi_bus_gate(b, at);
    b->s.free_gate = gate->next_of_body;
    if (++b->s.gates_used > b->s.gates_high)
        b->s.gates_high = b->s.gates_used;
    ikvi_bus_subscription(b, subscription)->gate = at;
    *gate = (bus_gate){.first_condition = IKVI_NONE,
                       .at_most = config->at_most,
                       .limit = config->limit,
                       .after = config->after,
                       .tags = config->at_tags,
                       .body = config->at_body,
                       .gap_ns = config->gap_ns};
    ikvi_conditions_make(b, gate, config);
    if (gate->first_condition == IKVI_NONE && gate->tags == 0 &&
        gate->body.bits == 0 && (gate->gap_ns != 0 || gate->at_most != 0))
        gate->test = (bus_test){TEST_GATE, at, UINT32_MAX};
    return true;
}

void ikvi_bus_gate_drop(ikv_bus *b, uint32_t subscription)
{
    uint32_t *at = &ikvi_bus_subscription(b, subscription)->gate;
    bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    if (gate == NULL)
        return;
    ikvi_conditions_drop(b, gate);
    IKVI_CHECK(b->s.gates_used > 0); /* bus-9 */
    *gate = (bus_gate){.next_of_body = b->s.free_gate};
    b->s.free_gate = *at;
    b->s.gates_used--;
    *at = IKVI_NONE;
}

/* --------------------------------------------------------------- asking -- */

bool ikvi_bus_in_place(const ikv_bus *b, const bus_gate *gate,
                       const ikv_event *event)
{
    const ikv_bus_callbacks *call = &b->callbacks;
    /* Nothing hangs on the root: it has no tags and no body. */
    if (event->target.bits == ikvi_bus_root().bits ||
        ikvi_bus_place(b, event->target) == IKVI_NONE)
        return false; /* PATH5: gone since the delivery began */
    if (gate->tags != 0)
        return call->tags != NULL &&
               (call->tags(call->user, event->target) & gate->tags) != 0;
    return call->body != NULL &&
           call->body(call->user, event->target).bits == gate->body.bits;
}

/* D7: conditions, after, once a step or frame, gap, limit. */
uint16_t ikvi_bus_gate_ask(ikv_bus *b, uint32_t subscription,
                           const ikv_event *event, const ikv_delivery *delivery)
{
    bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    IKVI_CHECK(gate != NULL);
    if ((gate->tags != 0 || gate->body.bits != 0) &&
        !ikvi_bus_in_place(b, gate, event))
        return IKV_WHY_PLACE;
    if (!ikvi_bus_passes(gate->test, event))
        return IKV_WHY_CONDITION;
    if (gate->first_condition != IKVI_NONE &&
        (gate->test.where & TEST_WHOLE) == 0 &&
        !ikvi_conditions_hold(b, gate, event, delivery))
        return IKV_WHY_CONDITION;
    /* Only events that would have been heard are counted. */
    if (gate->after > 0) {
        gate->after--;
        return IKV_WHY_AFTER;
    }
    uint16_t reason = ikvi_bus_rests(b, gate, event);
    if (reason != IKV_WHY_NONE)
        return reason;
    /* Plus 1, as 0 stands for "never". */
    if (gate->at_most != IKV_OFTEN)
        gate->last_turn =
            (gate->at_most == IKV_PER_STEP ? b->s.step : b->frame) + 1;
    if (gate->gap_ns != 0)
        gate->last_ns = event->time_ns + 1;
    return IKV_WHY_NONE;
}

/* ------------------------------------------------------------ validator -- */

const char *ikvi_bus_gate_validate(const ikv_bus *b)
{
    uint32_t gates = b->s.gates_used;
    for (uint32_t at = b->s.free_gate;
         at != IKVI_NONE && gates <= b->gate_capacity;
         at = ikvi_bus_gate(b, at)->next_of_body)
        gates++;
    for (uint32_t i = 0; i < b->s.subscription_slots.capacity; i++) {
        if (!ikvi_bus_subscribed_at(b, i))
            continue;
        const bus_gate *gate = ikvi_bus_gate_of(b, i);
        bool gated = (ikvi_bus_subscription(b, i)->visits & VISIT_GATED) != 0;
        if (gated != (gate != NULL))
            return "bus-9";
    }
    return gates == b->gate_capacity ? ikvi_conditions_validate(b) : "bus-9";
}

/* -------------------------------------------------------- the callbacks -- */

uint32_t ikvi_bus_tags(const ikv_bus *b, ikv_target target)
{
    return b->callbacks.tags != NULL
               ? b->callbacks.tags(b->callbacks.user, target)
               : UINT32_MAX;
}

ikv_target ikvi_bus_body(const ikv_bus *b, ikv_target target)
{
    ikv_target body = {0};
    if (b->callbacks.body != NULL)
        body = b->callbacks.body(b->callbacks.user, target);
    return body.bits != 0 ? body : target;
}
