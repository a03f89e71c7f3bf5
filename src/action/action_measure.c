/* action_measure.c - whether bindings are satisfied, by the state, and whether
 * their scopes hold; nothing changes.
 */
#include "action_internal.h"

bool ikv_actions_is_on(const ikv_actions *actions, ikv_action_set set,
                       uint8_t seat)
{
    if (actions == NULL || set >= actions->s.set_count)
        return false;
    seat = action_seat(actions, seat);
    /* From the top of the stack down to what hides the rest. */
    for (uint32_t i = actions->s.pushed_count; i-- > 0;) {
        const action_push *p = &actions->s.pushed[i];
        if (p->seat == seat && p->set == set)
            return true;
        if (p->seat == seat && !p->joins)
            return false;
    }
    return (action_set_at(actions, set)->off >> seat & 1) == 0;
}

/* ------------------------------------------------------------ measuring -- */

static bool pad_of_seat(const ikv_actions *a, uint32_t nth, uint32_t seat,
                        ikv_pad_state *pad)
{
    for (uint32_t i = 0; ikv_state_pad(a->state, IKV_STATE_UNCLAIMED, i, pad);
         i++)
        if (pad->connected && action_seat(a, pad->seat) == seat && nth-- == 0)
            return true;
    return false;
}

static float axis_value(const ikv_pad_state *pad, uint32_t number)
{
    if (number < 2)
        return pad->left[number];
    if (number < 4)
        return pad->right[number - 2];
    return number < IKV_PAD_AXES ? pad->axes[number] : 0;
}

/* After the dead zone; of several pads the one that is furthest. */
static float axis_of(const ikv_actions *a, uint32_t seat, uint32_t number)
{
    ikv_pad_state pad;
    float most = 0;
    for (uint32_t i = 0; pad_of_seat(a, i, seat, &pad); i++) {
        float value = axis_value(&pad, number);
        most = size_of(value) > size_of(most) ? value : most;
    }
    return most;
}

static bool button_is_down(const ikv_actions *a, uint32_t seat, int8_t button)
{
    ikv_pointer_state p;
    uint16_t bit = ikvi_button_bit(button);
    /* Any pointer of the seat: chords may be held with another one. */
    for (uint32_t i = 0;
         ikv_state_pointer(a->state, IKV_STATE_UNCLAIMED, i, &p); i++)
        if (action_seat(a, p.seat) == seat && (p.buttons & bit) != 0)
            return true;
    return false;
}

static bool pad_button_is_down(const ikv_actions *a, uint32_t seat,
                               uint32_t button)
{
    ikv_pad_state pad;
    for (uint32_t i = 0; pad_of_seat(a, i, seat, &pad); i++)
        if (pad.buttons >> button & 1)
            return true;
    return false;
}

static float pad_value(const ikv_actions *a, uint32_t seat, uint32_t button)
{
    ikv_pad_state pad;
    float most = 0;
    for (uint32_t i = 0; pad_of_seat(a, i, seat, &pad); i++)
        most = pad.values[button] > most ? pad.values[button] : most;
    return most;
}

static bool key_is_down(const ikv_actions *a, uint32_t seat, uint32_t usage)
{
    return ikv_state_key(a->state, IKV_STATE_UNCLAIMED, (uint8_t)seat,
                         0x00070000u | usage)
        .down;
}

/* How far a part that can be held is held, 0 to 1. */
float ikvi_part_amount(const ikv_actions *a, uint32_t seat, action_part part)
{
    float axis;
    switch (part.type) {
    case PART_KEY:
        return key_is_down(a, seat, part.number);
    case PART_ANY_KEY:
        return ikv_state_any_key(a->state, IKV_STATE_UNCLAIMED, (uint8_t)seat)
            .down;
    case PART_MODIFIER:
        return (ikv_state_modifiers(a->state, IKV_STATE_UNCLAIMED,
                                    (uint8_t)seat) &
                part.number) != 0;
    case PART_BUTTON:
        return button_is_down(a, seat, (int8_t)part.number);
    case PART_PAD:
        return pad_button_is_down(a, seat, part.number);
    case PART_VALUE:
        return pad_value(a, seat, part.number);
    case PART_AXIS_PLUS:
    case PART_AXIS_MINUS:
        axis = axis_of(a, seat, part.number);
        axis = part.type == PART_AXIS_PLUS ? axis : -axis;
        return axis > 0 ? axis : 0;
    default:
        return 0;
    }
}

bool ikvi_set_vector(binding_run *run, float x, float y)
{
    float length = ikvi_sqrt((double)x * (double)x + (double)y * (double)y);
    run->x = x;
    run->y = y;
    /* Two keys at once are no faster than one. */
    run->value = length < 1 ? length : 1;
    return length > 0;
}

/* A1: far enough to start, or not back yet. */
static bool is_past_edge(const binding_run *run)
{
    return size_of(run->value) > (run->on ? 0 : START_AT);
}

static bool measure_axis(const ikv_actions *a, uint32_t seat,
                         const action_shape *shape, binding_run *run)
{
    const action_part *p = shape->parts;
    float x = ikvi_part_amount(a, seat, p[1]) - ikvi_part_amount(a, seat, p[0]);
    run->value = run->x = x;
    if (shape->count == 4)
        ikvi_set_vector(run, x,
                        ikvi_part_amount(a, seat, p[3]) -
                            ikvi_part_amount(a, seat, p[2]));
    return is_past_edge(run);
}

void ikvi_measure_grab(const ikv_actions *a, const ikv_scope *scope,
                       const action_input *input, binding_run *run)
{
    float box[4] = {0, 0, 0, 0};
    bool has_target =
        (scope->where == IKV_WITHIN || scope->where == IKV_ON_BODY) &&
        input->router < a->router_count;
    if (has_target)
        ikvi_router_box(a->routers[input->router], scope->target, box);
    float width = box[2] - box[0], height = box[3] - box[1];
    float half = (width < height ? width : height) / 2;
    bool fixed = half > 0 && !scope->floating;
    run->middle[0] = fixed ? box[0] + width / 2 : input->event.pointer.x;
    run->middle[1] = fixed ? box[1] + height / 2 : input->event.pointer.y;
    run->radius = half > 0 ? half : 64;
    if (scope->radius > 0)
        run->radius = scope->radius;
    run->dead_zone = scope->dead_zone > 0 ? scope->dead_zone : 0.1f;
}

/* By the pointer that began it: others are elsewhere. L10: while it is the
 * seat's. */
static bool pointer_goes_on(const ikv_actions *a, uint32_t seat,
                            const binding_run *run, uint16_t buttons,
                            ikv_pointer_state *p)
{
    return ikv_state_find_pointer(a->state, IKV_STATE_UNCLAIMED, run->device,
                                  run->pointer, p) &&
           action_seat(a, p->seat) == seat && (p->buttons & buttons) != 0;
}

/* On from the press to the release, in its middle too. */
static bool measure_finger(const ikv_actions *a, uint32_t seat,
                           binding_run *run)
{
    ikv_pointer_state p;
    ikvi_zones zones = {run->dead_zone, 1, false};
    float out[2];
    if (!pointer_goes_on(a, seat, run, 1, &p))
        return false;
    const float way[2] = {(p.x - run->middle[0]) / run->radius,
                          (p.y - run->middle[1]) / run->radius};
    ikvi_stick(&zones, way, out);
    ikvi_set_vector(run, out[0], out[1]);
    return true;
}

/* The last part of a chord, by the state: what is over in a moment never is. */
static bool measure_trigger(const ikv_actions *a, uint32_t seat,
                            action_part part, binding_run *run)
{
    ikv_pointer_state p;
    float value;
    switch (part.type) {
    case PART_AXIS:
        run->value = run->x = axis_of(a, seat, part.number);
        return is_past_edge(run);
    case PART_VALUE:
        run->value = run->x = pad_value(a, seat, part.number);
        return is_past_edge(run);
    case PART_STICK:
        ikvi_set_vector(run, axis_of(a, seat, 2u * part.number),
                        axis_of(a, seat, 2u * part.number + 1));
        return is_past_edge(run);
    case PART_FINGER:
        return measure_finger(a, seat, run);
    case PART_AXIS_PLUS:
    case PART_AXIS_MINUS:
        value = ikvi_part_amount(a, seat, part);
        run->value = run->x = value;
        /* Two limits, so that a trembling thumb does not press again and
         * again. */
        return value > (run->on ? RELEASE_AT : PRESS_AT);
    case PART_HOLD:
        /* As long as the pointer that was held still has any button down. */
        return pointer_goes_on(a, seat, run, UINT16_MAX, &p);
    case PART_BUTTON:
        run->value = run->x = 1;
        return pointer_goes_on(a, seat, run,
                               ikvi_button_bit((int8_t)part.number), &p);
    case PART_MOVE:
        return true; /* until a step without motion */
    default:
        run->value = run->x = 1;
        return ikvi_part_amount(a, seat, part) > 0;
    }
}

bool ikvi_part_is_held(const ikv_actions *a, uint32_t seat, action_part part)
{
    return ikvi_part_amount(a, seat, part) > RELEASE_AT;
}

bool ikvi_others_are_held(const ikv_actions *a, uint32_t seat,
                          const action_shape *shape)
{
    for (uint32_t i = 0; i + 1 < shape->count; i++)
        if (!ikvi_part_is_held(a, seat, shape->parts[i]))
            return false;
    return true;
}

/* Whether the binding is satisfied, by the state; its values follow. */
bool ikvi_measure_binding(const ikv_actions *a, const action_binding *b,
                          uint32_t seat, binding_run *run)
{
    const action_shape *shape = &b->shape;
    if (shape->axis)
        return measure_axis(a, seat, shape, run);
    return ikvi_others_are_held(a, seat, shape) &&
           measure_trigger(a, seat, shape->parts[shape->count - 1], run);
}

/* -------------------------------------------------------------- scoping -- */

bool ikvi_focus_is_within(const ikv_actions *a, uint32_t seat, ikv_target top)
{
    /* The keys are in one router's scene; which one does not matter. */
    for (uint32_t i = 0; i < a->router_count; i++) {
        ikv_target at = ikv_router_focused(a->routers[i], (uint8_t)seat);
        if (at.bits != 0 &&
            (top.bits == 0 || ikvi_router_is_within(a->routers[i], at, top)))
            return true;
    }
    return false;
}

/* What is over nothing is over the lowest layer. */
static bool is_over_ground(const ikv_actions *a, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(a->bus), event->kind);
    return event->target.bits == ikvi_bus_root().bits && info->positioned;
}

/* A4. */
bool ikvi_scope_holds(const ikv_actions *a, const ikv_scope *scope,
                      uint32_t seat, const action_input *input)
{
    const ikv_router *router =
        input->router < a->router_count ? a->routers[input->router] : NULL;
    switch (scope->where) {
    case IKV_WITHIN:
        return router != NULL &&
               ikvi_router_is_within(router, input->event.target,
                                     scope->target);
    case IKV_IN_LAYER:
        return router != NULL && input->event.target.bits != 0 &&
               (ikvi_router_layer(router, input->event.target) ==
                    scope->layer ||
                (scope->layer == 0 && is_over_ground(a, &input->event)));
    case IKV_ON_BODY:
        return input->event.target.bits != 0 &&
               ikvi_bus_body(a->bus, input->event.target).bits ==
                   scope->target.bits;
    case IKV_TAGGED:
        return input->event.target.bits != 0 &&
               (ikvi_bus_tags(a->bus, input->event.target) & scope->layer) != 0;
    case IKV_FOCUSED:
        return ikvi_focus_is_within(a, seat, scope->target);
    default:
        return true;
    }
}

/* MODAL6: what holds within a target ends when something else is modal. */
bool ikvi_scope_goes_on(const ikv_actions *a, const ikv_scope *scope,
                        uint32_t seat, uint8_t router)
{
    if (scope->where == IKV_FOCUSED)
        return ikvi_focus_is_within(a, seat, scope->target);
    return scope->where != IKV_WITHIN || router >= a->router_count ||
           !ikvi_router_shuts_out(a->routers[router], (uint8_t)seat,
                                  scope->target);
}
