/* action_probe.c - why a press does not start a binding: what the actions ask of
 * it, asked once more without changing anything.
 */
#include "action_internal.h"

#include "../event/findings.h"

/* Whether one of the press's parts is what the binding waits for. */
static bool is_its_trigger(const action_shape *shape, const action_part *parts,
                           uint32_t count, action_part *which)
{
    uint32_t first = shape->axis ? 0 : shape->count - 1u;
    for (uint32_t i = first; i < shape->count; i++)
        for (uint32_t k = 0; k < count; k++)
            if (shape->parts[i].type == parts[k].type &&
                shape->parts[i].number == parts[k].number) {
                *which = parts[k];
                return true;
            }
    return false;
}

static ikv_value a_number(double number)
{
    return (ikv_value){IKV_VALUE_NUMBER, {.number = number}};
}

/* What the state lacks: a chord's other parts, and how far a stick is. */
static void probe_parts(const ikv_actions *a, const action_binding *b,
                        uint32_t seat, const binding_run *run,
                        action_part trigger, ikvi_findings *f)
{
    binding_run trial = *run;
    bool by_state = b->shape.axis ||
                    (trigger.type >= PART_AXIS && trigger.type <= PART_STICK);
    for (uint32_t i = 0; !b->shape.axis && i + 1u < b->shape.count; i++)
        if (!ikvi_part_is_held(a, seat, b->shape.parts[i]))
            ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_NOT_HELD,
                                        .nth = (uint16_t)(i + 1)});
    if (by_state && !ikvi_measure_binding(a, b, seat, &trial) &&
        (b->shape.axis || ikvi_others_are_held(a, seat, &b->shape)))
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_WEAK,
                                    .found = a_number((double)trial.value)});
}

static void probe_scope(const ikv_actions *a, const ikv_scope *scope,
                        uint32_t seat, const action_input *input,
                        ikvi_findings *f)
{
    if (!ikvi_scope_holds(a, scope, seat, input))
        ikvi_find(f, (ikv_obstacle){.code = IKV_WHY_SCOPE,
                                    .nth = (uint16_t)scope->where,
                                    .by = scope->target,
                                    .wanted = {IKV_VALUE_INTEGER,
                                               {.integer = scope->layer}}});
}

static void probe_length(const ikv_actions *a, const action_binding *b,
                         uint32_t seat, const action_input *input,
                         const action_part *parts, uint32_t count,
                         ikvi_findings *f)
{
    uint32_t place = NO_PLACE, own = ikvi_chord_length(b);
    uint32_t length = ikvi_longest_chord(a, seat, input, parts, count, &place);
    if (length > own)
        ikvi_find(f,
                  (ikv_obstacle){
                      .code = IKV_WHY_LONGER,
                      .name = ikvi_names_text(
                          &a->s.names, a,
                          action_row_at(a, binding_at(a, place)->action)->name),
                      .found = {IKV_VALUE_INTEGER, {.integer = length}},
                      .wanted = {IKV_VALUE_INTEGER, {.integer = own}}});
}

/* The press that is being looked at, or one that is made of an event. */
static action_input input_of(const ikv_actions *a, const ikv_event *event)
{
    if (a->looking != NULL && event == &a->looking->event)
        return *a->looking;
    return (action_input){.event = *event};
}

uint32_t ikv_actions_probe(const ikv_actions *actions, ikv_binding binding,
                           const ikv_event *event, ikv_obstacle *to,
                           uint32_t room)
{
    const ikv_actions *a = actions;
    ikvi_findings f = ikvi_findings_begin(to, room);
    action_part parts[TRIGGERS], trigger = {0, 0};
    if (a == NULL || event == NULL)
        return 0;
    uint32_t place = ikvi_slots_find(&a->s.binding_slots, a, binding.bits);
    if (place == IKVI_NO_SLOT) {
        ikvi_find_by(&f, IKV_WHY_UNBOUND, (ikv_target){0});
        return f.count;
    }
    const action_binding *b = binding_at(a, place);
    action_input input = input_of(a, event);
    uint32_t seat = action_seat(a, event->seat);
    const binding_run *run = binding_run_at(a, place * a->seats + seat);
    ikv_action_set set = action_row_at(a, b->action)->set;
    uint32_t count = ikvi_parts_of(&input, parts);
    /* What is let go starts nothing but the other side of an axis. */
    if ((input.release && !b->shape.axis) ||
        !is_its_trigger(&b->shape, parts, count, &trigger)) {
        ikvi_find_by(&f, IKV_WHY_OTHER_INPUT, (ikv_target){0});
        return f.count;
    }
    if (input.claimed && !input.release)
        ikvi_find_by(&f, IKV_WHY_CLAIMED, event->target);
    if (run->on)
        ikvi_find_by(&f, IKV_WHY_ON, (ikv_target){0});
    if (!ikv_actions_is_on(a, set, (uint8_t)seat))
        ikvi_find(&f, (ikv_obstacle){
                          .code = IKV_WHY_SET_OFF,
                          .name = ikvi_names_text(
                              &a->s.names, a, action_set_at(a, set)->name)});
    probe_scope(a, &b->scope, seat, &input, &f);
    probe_parts(a, b, seat, run, trigger, &f);
    if (f.count == 0)
        probe_length(a, b, seat, &input, parts, count, &f);
    return f.count;
}
