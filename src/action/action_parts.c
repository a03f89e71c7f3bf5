/* action_parts.c - what events are, among the parts of bindings; and how one is
 * learned from them.
 */
#include "action_internal.h"

#include "ikvar/keys.h"

static bool moves(const ikv_event *event)
{
    return event->pointer.dx < 0 || event->pointer.dx > 0 ||
           event->pointer.dy < 0 || event->pointer.dy > 0;
}

/* A key that a part can be: of the keyboard's page, one of its first 256. */
static bool is_of_keyboard(const ikv_event *event)
{
    return event->key.code >> 8 == IKV_CODE(0) >> 8;
}

/* What is let go, which an axis may have been kept in its middle by. */
uint32_t ikvi_releases_of(const ikv_event *event, action_part *to)
{
    uint16_t button = ikvi_button_bit(event->pointer.button);
    uint16_t modifier = ikvi_modifier_bit(event->key.code);
    uint32_t count = 0;
    if (event->kind == IKV_KIND_KEY_UP && is_of_keyboard(event)) {
        to[count++] = (action_part){PART_KEY, (uint8_t)event->key.code};
        if (modifier != 0)
            to[count++] = (action_part){PART_MODIFIER, (uint8_t)modifier};
    } else if (event->kind == IKV_KIND_PAD_UP) {
        to[count++] = (action_part){PART_PAD, event->pad.index};
    } else if (event->kind == IKV_KIND_POINTER_UP ||
               (event->kind == IKV_KIND_POINTER_MOVE && button != 0 &&
                (event->pointer.buttons & button) == 0)) {
        to[count++] =
            (action_part){PART_BUTTON, (uint8_t)event->pointer.button};
    }
    return count;
}

/* What an event is, among the parts of bindings. */
uint32_t ikvi_triggers_of(const ikv_event *event, action_part *to)
{
    uint32_t count = 0;
    uint16_t button = ikvi_button_bit(event->pointer.button);
    uint8_t index = event->pad.index;
    switch (event->kind) {
    case IKV_KIND_KEY_DOWN:
        if (event->flags & IKV_REPEAT || !is_of_keyboard(event))
            break;
        to[count++] = (action_part){PART_KEY, (uint8_t)event->key.code};
        if (ikvi_modifier_bit(event->key.code) != 0)
            to[count++] = (action_part){
                PART_MODIFIER, (uint8_t)ikvi_modifier_bit(event->key.code)};
        to[count++] = (action_part){PART_ANY_KEY, 0};
        break;
    case IKV_KIND_POINTER_DOWN:
    case IKV_KIND_POINTER_MOVE:
        if (button != 0 && (event->pointer.buttons & button) != 0)
            to[count++] =
                (action_part){PART_BUTTON, (uint8_t)event->pointer.button};
        if (button == 1 && (event->pointer.buttons & button) != 0)
            to[count++] = (action_part){PART_FINGER, 0};
        if (event->kind == IKV_KIND_POINTER_MOVE && moves(event))
            to[count++] = (action_part){PART_MOVE, 0};
        break;
    case IKV_KIND_POINTER_CLICK:
        to[count++] = (action_part){PART_CLICK, 0};
        break;
    case IKV_KIND_POINTER_DOUBLE:
        to[count++] = (action_part){PART_DOUBLE, 0};
        break;
    case IKV_KIND_POINTER_HOLD:
        to[count++] = (action_part){PART_HOLD, 0};
        break;
    case IKV_KIND_GESTURE_TWO_TAP:
        to[count++] = (action_part){PART_TWO_TAP, 0};
        break;
    case IKV_KIND_WHEEL:
        if (event->wheel.dy < 0 || event->wheel.dy > 0)
            to[count++] = (action_part){
                PART_WHEEL, event->wheel.dy < 0 ? WHEEL_UP : WHEEL_DOWN};
        if (event->wheel.dx < 0 || event->wheel.dx > 0)
            to[count++] = (action_part){
                PART_WHEEL, event->wheel.dx < 0 ? WHEEL_LEFT : WHEEL_RIGHT};
        break;
    case IKV_KIND_PAD_DOWN:
        to[count++] = (action_part){PART_PAD, index};
        to[count++] = (action_part){PART_VALUE, index};
        break;
    case IKV_KIND_PAD_VALUE:
        to[count++] = (action_part){PART_VALUE, index};
        break;
    case IKV_KIND_PAD_AXIS:
        to[count++] = (action_part){PART_AXIS, index};
        to[count++] = (action_part){PART_AXIS_PLUS, index};
        to[count++] = (action_part){PART_AXIS_MINUS, index};
        to[count++] = (action_part){PART_STICK, (uint8_t)(index / 2)};
        break;
    default:
        break;
    }
    IKVI_CHECK(count <= TRIGGERS);
    return count;
}

uint32_t ikvi_parts_of(const action_input *input, action_part parts[TRIGGERS])
{
    return input->release ? ikvi_releases_of(&input->event, parts)
                          : ikvi_triggers_of(&input->event, parts);
}

/* ------------------------------------------------------------- learning -- */

static void add_held_modifiers(action_shape *shape, uint16_t modifiers)
{
    static const uint8_t order[] = {IKV_CONTROL, IKV_SHIFT, IKV_ALT, IKV_META};
    /* One place is left for what was pressed. */
    for (uint32_t i = 0; i < 4 && shape->count + 1 < ACTION_PARTS; i++)
        if (modifiers & order[i])
            shape->parts[shape->count++] =
                (action_part){PART_MODIFIER, order[i]};
}

/* The part by which an event is remembered; false if it says nothing yet. */
static bool learned_part(const ikv_event *event, action_part *to)
{
    float axis = event->pad.index % 2 == 0 ? event->pad.x : event->pad.y;
    bool touch = event->pointer.type == IKV_TOUCH;
    action_part parts[TRIGGERS];
    if (event->kind == IKV_KIND_PAD_AXIS) {
        /* Those of no stick have a value of their own alone. */
        if (event->pad.index >= 4)
            axis = event->pad.value;
        *to = (action_part){axis > 0 ? PART_AXIS_PLUS : PART_AXIS_MINUS,
                            event->pad.index};
        return size_of(axis) > PRESS_AT;
    }
    if (event->kind == IKV_KIND_KEY_UP) {
        *to = (action_part){PART_KEY, (uint8_t)event->key.code};
        return ikvi_modifier_bit(event->key.code) != 0;
    }
    if (event->kind == IKV_KIND_KEY_DOWN &&
        ikvi_modifier_bit(event->key.code) != 0)
        return false; /* more may follow */
    if (ikvi_triggers_of(event, parts) == 0 || parts[0].type == PART_MOVE ||
        parts[0].type == PART_VALUE) /* it may become a press */
        return false;
    *to = parts[0];
    return touch ? to->type != PART_BUTTON
                 : to->type != PART_CLICK && to->type != PART_DOUBLE &&
                       to->type != PART_HOLD;
}

/* The text goes along with the event; without one it was called off. */
static void tell_learned(ikv_actions *a, const ikv_event *by, uint32_t seat,
                         const char *text)
{
    ikv_event event = ikv_event_make(IKV_KIND_ACTION_LEARNED, by->time_ns);
    event.device = by->device;
    event.view = by->view;
    event.seat = (uint8_t)seat;
    event.target = ikvi_bus_root();
    ikv_route route = IKV_ROUTE_INIT;
    route.data = text;
    route.data_size = (uint32_t)ikvi_text_length(text) + 1;
    route.cause = by;
    ikv_bus_deliver_along(a->bus, &event, &route);
}

/* A8: a modifier is learned when it comes up again: before that another key may
 * make a chord of it. What is learned can be asked for before it is told. */
bool ikvi_learn_from(ikv_actions *a, uint32_t seat, const ikv_event *event)
{
    action_learning *learning = &a->s.learning[seat];
    char text[IKV_BINDING_BYTES] = "";
    action_part part;
    if (!learning->on)
        return false;
    if (event->kind == IKV_KIND_KEY_DOWN && learning->cancel_code != 0 &&
        event->key.code == learning->cancel_code) {
        learning->on = false;
        tell_learned(a, event, seat, text);
        return true;
    }
    if (event->kind == IKV_KIND_KEY_DOWN)
        learning->modifier = event->key.code;
    if (!learned_part(event, &part) || !ikvi_part_is_named(part) ||
        (event->kind == IKV_KIND_KEY_UP &&
         event->key.code != learning->modifier))
        return true;
    learning->shape = (action_shape){0};
    if (event->kind != IKV_KIND_KEY_UP)
        add_held_modifiers(&learning->shape, event->modifiers);
    IKVI_CHECK(learning->shape.count < ACTION_PARTS);
    learning->shape.parts[learning->shape.count++] = part;
    learning->done = true;
    learning->on = false;
    ikvi_shape_write(&learning->shape, text, sizeof text);
    tell_learned(a, event, seat, text);
    return true;
}

ikv_status ikv_actions_learn(ikv_actions *actions, uint8_t seat,
                             uint32_t cancel_code)
{
    if (actions == NULL || seat >= ACTION_SEATS)
        return IKV_BAD_ARGUMENT;
    action_learning *learning =
        &actions->s.learning[action_seat(actions, seat)];
    if (learning->on)
        return IKV_BUSY;
    *learning = (action_learning){.on = true, .cancel_code = cancel_code};
    return IKV_OK;
}

ikv_status ikv_actions_learned(ikv_actions *actions, uint8_t seat, char *buffer,
                               size_t size)
{
    if (actions == NULL || seat >= ACTION_SEATS || buffer == NULL || size == 0)
        return IKV_BAD_ARGUMENT;
    action_learning *learning =
        &actions->s.learning[action_seat(actions, seat)];
    if (learning->on)
        return IKV_BUSY;
    if (!learning->done)
        return IKV_ABSENT;
    learning->done = false;
    ikvi_shape_write(&learning->shape, buffer, size);
    return IKV_OK;
}

void ikv_actions_stop_learning(ikv_actions *actions, uint8_t seat)
{
    if (actions != NULL && seat < ACTION_SEATS)
        actions->s.learning[action_seat(actions, seat)] = (action_learning){0};
}
