/* reactions.c - what handlers in a setup do. A reaction is one public call, with
 * constants or the event's fields; the table below is all there is. But for
 * "set" and "toggle": the fields of a setup's targets are the setup's own, and
 * what the library has of them is the kind field.set. */
#include "reactions.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

/* -------------------------------------------------------------- running -- */

static void note(const ikv_setup *setup, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

static void note(const ikv_setup *setup, const char *format, ...)
{
    char few[256], *text = few;
    va_list list;
    /* nobody reads them: not even put into words */
    if (setup->note == NULL)
        return;
    va_start(list, format);
    int length = vsnprintf(few, sizeof few, format, list);
    va_end(list);
    /* what is logged may be of any length, and is told whole */
    char *whole = length >= (int)sizeof few ? malloc((size_t)length + 1) : NULL;
    if (whole != NULL) {
        text = whole;
        va_start(list, format);
        vsnprintf(text, (size_t)length + 1, format, list);
        va_end(list);
    }
    setup->note(text, setup->note_user);
    free(whole);
}

static const char *name_of(const ikv_setup *setup, ikv_target target)
{
    return ikv_setup_target_name(setup, target);
}

/* The reaction's target: the named one, or the one that is visited. */
static ikv_target its_target(const doing *d)
{
    /* by name each time: it may have been removed and added since */
    return d->what->target_id != NULL
               ? ikv_setup_target(d->setup, d->what->target_id)
               : d->delivery->current;
}

static void note_outcome(const ikv_setup *setup, const char *what,
                         ikv_target target, ikv_status status)
{
    if (status == IKV_OK)
        note(setup, "%s %s", what, name_of(setup, target));
    else
        note(setup, "%s %s: %s", what, name_of(setup, target),
             ikv_status_name(status));
}

static ikv_verdict run_stop(const doing *d)
{
    (void)d;
    return IKV_STOP;
}

static ikv_verdict run_stop_all(const doing *d)
{
    (void)d;
    return IKV_STOP_ALL;
}

static ikv_verdict run_refuse(const doing *d)
{
    (void)d;
    return IKV_REFUSE;
}

static ikv_verdict run_accept(const doing *d)
{
    (void)d;
    return IKV_ACCEPT;
}

/* Does something to the event's pointer, for the reaction's target. */
static ikv_verdict with_pointer(const doing *d, const char *what,
                                ikv_status (*act)(ikv_router *router,
                                                  const ikv_event *event,
                                                  ikv_target target))
{
    ikv_target target = its_target(d);
    note_outcome(d->setup, what, target,
                 act(d->delivery->router, d->event, target));
    return IKV_CONTINUE;
}

static ikv_verdict run_capture(const doing *d)
{
    return with_pointer(d, "capture by", ikv_router_capture);
}

static ikv_verdict run_release(const doing *d)
{
    return with_pointer(d, "release by", ikv_router_release);
}

static ikv_verdict run_attach(const doing *d)
{
    return with_pointer(d, "attach", ikv_router_attach);
}

static ikv_verdict run_drag(const doing *d)
{
    return with_pointer(d, "drag", ikv_router_drag);
}

static ikv_verdict run_focus(const doing *d)
{
    ikv_target target = its_target(d);
    note_outcome(d->setup, "focus", target,
                 ikv_router_focus(ikv_kit_router(d->setup->kit), d->event->seat,
                                  target));
    return IKV_CONTINUE;
}

static ikv_verdict run_blur(const doing *d)
{
    ikv_router_blur(ikv_kit_router(d->setup->kit), d->event->seat);
    note(d->setup, "blur");
    return IKV_CONTINUE;
}

static ikv_verdict run_modal(const doing *d)
{
    ikv_target target = its_target(d);
    note_outcome(d->setup, "modal", target,
                 ikv_router_set_modal(ikv_kit_router(d->setup->kit),
                                      d->event->seat, target));
    return IKV_CONTINUE;
}

static ikv_verdict run_end_modal(const doing *d)
{
    ikv_router *router = ikv_kit_router(d->setup->kit);
    ikv_target target = ikv_router_modal(router, d->event->seat);
    note_outcome(d->setup, "end modal", target,
                 ikv_router_set_modal(router, d->event->seat, (ikv_target){0}));
    return IKV_CONTINUE;
}

static ikv_verdict run_cancel_all(const doing *d)
{
    ikv_router_cancel_all(ikv_kit_router(d->setup->kit), d->event->seat);
    note(d->setup, "cancel all");
    return IKV_CONTINUE;
}

const char *const ikvi_directions[] = {"left", "right", "up", "down", NULL};

static ikv_verdict run_focus_toward(const doing *d)
{
    ikv_router *router = ikv_kit_router(d->setup->kit);
    uint32_t direction = 0;
    while (strcmp(ikvi_directions[direction], d->what->text) != 0)
        direction++;
    ikv_status status =
        ikv_router_focus_toward(router, d->event->seat, direction);
    note(d->setup, "focus toward %s: %s", d->what->text,
         status == IKV_OK
             ? name_of(d->setup, ikv_router_focused(router, d->event->seat))
             : ikv_status_name(status));
    return IKV_CONTINUE;
}

static void note_set(const doing *d, const char *what, ikv_status status)
{
    const char *name = d->what->text != NULL ? d->what->text : "";
    note(d->setup, "%s%s%s%s%s", what, name[0] != '\0' ? " " : "", name,
         status == IKV_OK ? "" : ": ",
         status == IKV_OK ? "" : ikv_status_name(status));
}

/* The set that the reaction names. */
static ikv_action_set its_set(const doing *d)
{
    ikv_action_set set = IKV_MAIN_SET;
    ikv_actions_find_set(ikv_kit_actions(d->setup->kit), d->what->text, &set);
    return set;
}

static ikv_verdict run_push_set(const doing *d)
{
    note_set(d, "push set",
             ikv_actions_push(ikv_kit_actions(d->setup->kit), its_set(d),
                              d->event->seat, false));
    return IKV_CONTINUE;
}

static ikv_verdict run_join_set(const doing *d)
{
    note_set(d, "join set",
             ikv_actions_push(ikv_kit_actions(d->setup->kit), its_set(d),
                              d->event->seat, true));
    return IKV_CONTINUE;
}

static ikv_verdict run_pop_set(const doing *d)
{
    note_set(d, "pop set",
             ikv_actions_pop(ikv_kit_actions(d->setup->kit), d->event->seat));
    return IKV_CONTINUE;
}

static ikv_verdict run_start_held(const doing *d)
{
    note_set(d, "start held",
             ikv_actions_start_held(ikv_kit_actions(d->setup->kit), its_set(d),
                                    d->event->seat));
    return IKV_CONTINUE;
}

static ikv_verdict run_switch_on(const doing *d)
{
    note_set(d, "switch on",
             ikv_actions_switch(ikv_kit_actions(d->setup->kit), its_set(d),
                                IKV_ALL_SEATS, true));
    return IKV_CONTINUE;
}

static ikv_verdict run_switch_off(const doing *d)
{
    note_set(d, "switch off",
             ikv_actions_switch(ikv_kit_actions(d->setup->kit), its_set(d),
                                IKV_ALL_SEATS, false));
    return IKV_CONTINUE;
}

static ikv_verdict run_set_seat(const doing *d)
{
    ikv_loop *loop = ikv_kit_loop(d->setup->kit);
    uint8_t seat = (uint8_t)d->what->arguments[0].constant.bits.integer;
    ikv_status status = ikv_loop_set_seat(loop, d->event->device, seat);
    note(d->setup, "device %u to seat %u%s%s", (unsigned)d->event->device,
         (unsigned)seat, status == IKV_OK ? "" : ": ",
         status == IKV_OK ? "" : ikv_status_name(status));
    return IKV_CONTINUE;
}

static ikv_verdict run_pause(const doing *d)
{
    ikv_loop_pause(ikv_kit_loop(d->setup->kit));
    return IKV_CONTINUE;
}

static ikv_verdict run_resume(const doing *d)
{
    ikv_loop_resume(ikv_kit_loop(d->setup->kit));
    return IKV_CONTINUE;
}

static ikv_verdict run_show(const doing *d)
{
    ikv_target target = its_target(d);
    note_outcome(d->setup, "show", target,
                 ikv_scene_show(ikv_kit_scene(d->setup->kit), target, true));
    return IKV_CONTINUE;
}

static ikv_verdict run_hide(const doing *d)
{
    ikv_target target = its_target(d);
    note_outcome(d->setup, "hide", target,
                 ikv_scene_show(ikv_kit_scene(d->setup->kit), target, false));
    return IKV_CONTINUE;
}

static ikv_verdict run_remove(const doing *d)
{
    ikv_target target = its_target(d);
    /* before it goes: its name goes with it */
    note(d->setup, "remove %s", name_of(d->setup, target));
    ikv_scene_remove(ikv_kit_scene(d->setup->kit), target);
    return IKV_CONTINUE;
}

/* The value of an argument for this event. */
static ikv_value value_of(const doing *d, const argument *from)
{
    if (from->event_field == NULL)
        return from->constant;
    /* one handler can hear kinds of which only some have the field */
    const ikv_field *field =
        ikv_field_find(ikv_catalogue_info(d->setup->catalogue, d->event->kind),
                       from->event_field);
    ikv_value value = {IKV_VALUE_NONE, {0}};
    if (field != NULL)
        value = ikv_field_get(field, d->event);
    /* a value has 63 bits */
    if (field != NULL && field->type == IKV_TYPE_U64 && value.bits.integer < 0)
        value = (ikv_value){IKV_VALUE_NUMBER,
                            {.number = (double)(uint64_t)value.bits.integer}};
    return value;
}

static bool as_float(ikv_value value, float *to)
{
    if (value.type == IKV_VALUE_NUMBER)
        *to = (float)value.bits.number;
    else if (value.type == IKV_VALUE_INTEGER)
        *to = (float)value.bits.integer;
    return value.type == IKV_VALUE_NUMBER || value.type == IKV_VALUE_INTEGER;
}

static ikv_verdict run_move(const doing *d)
{
    ikv_scene *scene = ikv_kit_scene(d->setup->kit);
    ikv_target target = its_target(d);
    /* what is no number leaves the coordinate as it was */
    float own[2], view[2];
    if (!ikv_scene_position(scene, target, own, view)) {
        note_outcome(d->setup, "move", target, IKV_STALE);
        return IKV_CONTINUE;
    }
    as_float(value_of(d, &d->what->arguments[0]), &own[0]);
    as_float(value_of(d, &d->what->arguments[1]), &own[1]);
    ikv_status status = ikv_scene_move(scene, target, own[0], own[1]);
    note(d->setup, "move %s to %s, %s%s%s", name_of(d->setup, target),
         ikvi_number((double)own[0]).text, ikvi_number((double)own[1]).text,
         status < 0 ? ": " : "", status < 0 ? ikv_status_name(status) : "");
    return IKV_CONTINUE;
}

static ikv_verdict run_turn_to(const doing *d)
{
    ikv_target target = its_target(d);
    float to[2] = {0, 0};
    /* both, or none: half a direction is none */
    if (!as_float(value_of(d, &d->what->arguments[0]), &to[0]) ||
        !as_float(value_of(d, &d->what->arguments[1]), &to[1])) {
        note(d->setup, "turn_to: this event has no such number");
        return IKV_CONTINUE;
    }
    ikv_status status = ikv_scene_turn_to(ikv_kit_scene(d->setup->kit), target,
                                          d->event->view, to[0], to[1]);
    note(d->setup, "turn %s to %s, %s%s%s", name_of(d->setup, target),
         ikvi_number((double)to[0]).text, ikvi_number((double)to[1]).text,
         status < 0 ? ": " : "", status < 0 ? ikv_status_name(status) : "");
    return IKV_CONTINUE;
}

static ikv_verdict run_feed(const doing *d)
{
    ikv_actions *actions = ikv_kit_actions(d->setup->kit);
    float x = 0, y = 0;
    as_float(value_of(d, &d->what->arguments[0]), &x);
    as_float(value_of(d, &d->what->arguments[1]), &y);
    ikv_status status =
        ikv_actions_feed(actions, ikv_actions_find(actions, d->what->text),
                         d->event->seat, x, y);
    note(d->setup, "feed %s %s, %s%s%s", d->what->text,
         ikvi_number((double)x).text, ikvi_number((double)y).text,
         status == IKV_OK ? "" : ": ",
         status == IKV_OK ? "" : ikv_status_name(status));
    return IKV_CONTINUE;
}

static const char *value_text(ikv_value value, char *buffer)
{
    switch (value.type) {
    case IKV_VALUE_BOOL:
        return value.bits.boolean ? "true" : "false";
    case IKV_VALUE_NUMBER:
        ikv_number_format(value.bits.number, false, buffer);
        return buffer;
    case IKV_VALUE_INTEGER:
        snprintf(buffer, 32, "%lld", (long long)value.bits.integer);
        return buffer;
    default:
        return "none";
    }
}

/* Whole numbers are numbers, where the other one is: both are then of one type.
 * False: they can't be. */
static bool are_alike(ikv_value *a, ikv_value *b)
{
    ikv_value *whole = a->type == IKV_VALUE_INTEGER ? a : b;
    const ikv_value *other = whole == a ? b : a;
    if (a->type == b->type)
        return true;
    if (whole->type != IKV_VALUE_INTEGER || other->type != IKV_VALUE_NUMBER)
        return false;
    whole->type = IKV_VALUE_NUMBER;
    whole->bits.number = (double)whole->bits.integer;
    return true;
}

/* With a setup that announces, whoever listens is told of it. */
static void set_field(const doing *d, setup_target *target, setup_field *field,
                      ikv_value value)
{
    char before[32], after[32];
    if (!are_alike(&field->value, &value)) {
        note(d->setup, "set: %s.%s is %s, not %s", target->id, field->name,
             value_text(field->value, before), value_text(value, after));
        return;
    }
    ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, d->event->time_ns);
    note(d->setup, "%s.%s: %s -> %s", target->id, field->name,
         value_text(field->value, before), value_text(value, after));
    event.target = target->handle;
    event.field.field = ikvi_setup_field_number(d->setup, field->name);
    event.field.type = (uint8_t)value.type;
    event.field.before = field->value.bits;
    event.field.after = value.bits;
    /* before it is told, so that a handler that asks finds the new value */
    field->value = value;
    if (d->setup->announces)
        ikv_bus_deliver(d->delivery->bus, &event);
}

/* The field that the reaction names, NULL if the target has gone or lacks it.
 */
static setup_field *its_field(const doing *d, setup_target **target)
{
    *target = ikvi_setup_target_of(d->setup, its_target(d));
    return *target != NULL ? ikvi_setup_find_field(*target, d->what->text)
                           : NULL;
}

static ikv_verdict run_toggle(const doing *d)
{
    setup_target *target;
    setup_field *field = its_field(d, &target);
    if (field == NULL || field->value.type != IKV_VALUE_BOOL) {
        note(d->setup, "toggle: there is no field \"%s\" of true or false",
             d->what->text);
        return IKV_CONTINUE;
    }
    ikv_value value = field->value;
    value.bits.boolean = !value.bits.boolean;
    set_field(d, target, field, value);
    return IKV_CONTINUE;
}

static ikv_verdict run_set(const doing *d)
{
    setup_target *target;
    setup_field *field = its_field(d, &target);
    ikv_value value = value_of(d, &d->what->arguments[0]);
    if (field == NULL || value.type == IKV_VALUE_NONE)
        note(d->setup, "set: there is no field \"%s\", or no value",
             d->what->text);
    else
        set_field(d, target, field, value);
    return IKV_CONTINUE;
}

/* Does something to the subscription that the reaction names, its own handler's
 * by default, or to all of a group's; notes what came of it. */
static ikv_verdict for_handlers(const doing *d, const char *what,
                                ikv_status (*act)(ikv_bus *bus,
                                                  ikv_subscription handle))
{
    ikv_bus *bus = d->delivery->bus;
    const char *name = d->what->text;
    /* a group and a handler can't have the same name */
    const setup_group *group =
        name != NULL ? ikvi_setup_find_group(d->setup, name) : NULL;
    ikv_status status = IKV_OK;
    if (name == NULL)
        status = act(bus, d->delivery->subscription);
    else if (group == NULL)
        status =
            act(bus, ikvi_setup_find_handler(d->setup, name)->subscription);
    for (uint32_t i = 0; group != NULL && i < d->setup->handler_count; i++)
        if (d->setup->handlers[i].group == group)
            act(bus, d->setup->handlers[i].subscription);
    note(d->setup, "%s %s%s", what, name != NULL ? name : d->handler->name,
         status == IKV_OK ? "" : ": it has ended");
    return IKV_CONTINUE;
}

static ikv_status mute_one(ikv_bus *bus, ikv_subscription handle)
{
    return ikv_bus_mute(bus, handle, true);
}

static ikv_status unmute_one(ikv_bus *bus, ikv_subscription handle)
{
    return ikv_bus_mute(bus, handle, false);
}

static ikv_verdict run_mute(const doing *d)
{
    return for_handlers(d, "mute", mute_one);
}

static ikv_verdict run_unmute(const doing *d)
{
    return for_handlers(d, "unmute", unmute_one);
}

static ikv_verdict run_unsubscribe(const doing *d)
{
    return for_handlers(d, "unsubscribe", ikv_bus_unsubscribe);
}

/* The event to send: the constants, and what is taken from this event. */
static ikv_event made_event(const doing *d)
{
    ikv_event made = d->what->event;
    made.time_ns = d->event->time_ns;
    made.target = its_target(d);
    made.source = d->event->target;
    for (uint32_t i = 0; i < d->what->argument_count; i++) {
        const argument *a = &d->what->arguments[i];
        /* a number too large for it, or a kind without the field: the constant
         * stays */
        if (ikv_field_put(a->to, &made, value_of(d, a)) < 0)
            note(d->setup, "field %s of this event does not fit %s",
                 a->event_field, a->to->name);
    }
    return made;
}

static const char *kind_name(const ikv_setup *setup, ikv_kind kind)
{
    return ikv_catalogue_info(setup->catalogue, kind)->name;
}

static ikv_verdict run_deliver(const doing *d)
{
    ikv_event made = made_event(d);
    note(d->setup, "deliver %s at once", kind_name(d->setup, made.kind));
    ikv_outcome outcome = ikv_bus_deliver(d->delivery->bus, &made);
    if (outcome.status < 0)
        note(d->setup, "deliver %s: %s", kind_name(d->setup, made.kind),
             ikv_status_name(outcome.status));
    return IKV_CONTINUE;
}

static ikv_verdict run_defer(const doing *d)
{
    ikv_event made = made_event(d);
    /* a full lane is told, and nothing stops for it */
    ikv_status status = ikv_bus_defer(d->delivery->bus, d->what->lane, &made);
    note(d->setup, "defer %s to the %s lane%s%s",
         kind_name(d->setup, made.kind),
         ikv_bus_lane_name(d->delivery->bus, d->what->lane),
         status < 0 ? ": " : "", status < 0 ? ikv_status_name(status) : "");
    return IKV_CONTINUE;
}

static ikv_verdict run_log(const doing *d)
{
    note(d->setup, "\"%s\"", d->what->text);
    return IKV_CONTINUE;
}

/* ------------------------------------------------------------- the table -- */

static const struct reaction_row rows[] = {
    {"stop", TAKES_NOTHING, run_stop, "\"stop\""},
    {"stop_all", TAKES_NOTHING, run_stop_all, "\"stop_all\""},
    {"refuse", TAKES_NOTHING, run_refuse, "\"refuse\""},
    {"capture", TAKES_TARGET, run_capture, "\"capture\""},
    {"release", TAKES_TARGET, run_release, "\"release\""},
    {"focus", TAKES_TARGET, run_focus, "{\"focus\": \"ferry\"}"},
    {"blur", TAKES_NOTHING, run_blur, "\"blur\""},
    {"focus_toward", TAKES_DIRECTION, run_focus_toward,
     "{\"focus_toward\": \"left\"}"},
    {"modal", TAKES_TARGET, run_modal, "{\"modal\": \"menu\"}"},
    {"end_modal", TAKES_NOTHING, run_end_modal, "\"end_modal\""},
    {"cancel_all", TAKES_NOTHING, run_cancel_all, "\"cancel_all\""},
    {"push_set", TAKES_SET, run_push_set, "{\"push_set\": \"menu\"}"},
    {"join_set", TAKES_SET, run_join_set, "{\"join_set\": \"menu\"}"},
    {"pop_set", TAKES_NOTHING, run_pop_set, "\"pop_set\""},
    {"switch_on", TAKES_SET, run_switch_on, "{\"switch_on\": \"deck\"}"},
    {"switch_off", TAKES_SET, run_switch_off, "{\"switch_off\": \"deck\"}"},
    {"start_held", TAKES_SET, run_start_held, "{\"start_held\": \"deck\"}"},
    {"feed", TAKES_FEED, run_feed,
     "{\"feed\": {\"action\": \"horn\", \"x\": 1}}"},
    {"set_seat", TAKES_SEAT, run_set_seat, "{\"set_seat\": 1}"},
    {"pause", TAKES_NOTHING, run_pause, "\"pause\""},
    {"resume", TAKES_NOTHING, run_resume, "\"resume\""},
    {"attach", TAKES_TARGET, run_attach, "\"attach\""},
    {"drag", TAKES_TARGET, run_drag, "\"drag\""},
    {"accept", TAKES_NOTHING, run_accept, "\"accept\""},
    {"move", TAKES_POSITION, run_move, "{\"move\": {\"x\": 10, \"y\": 20}}"},
    {"turn_to", TAKES_POSITION, run_turn_to,
     "{\"turn_to\": {\"x\": {\"field\": \"x\"}, \"y\": {\"field\": \"y\"}}}"},
    {"show", TAKES_TARGET, run_show, "{\"show\": \"lamp\"}"},
    {"hide", TAKES_TARGET, run_hide, "{\"hide\": \"lamp\"}"},
    {"set", TAKES_VALUE, run_set,
     "{\"set\": {\"field\": \"lit\", \"value\": true}}"},
    {"toggle", TAKES_FIELD, run_toggle, "{\"toggle\": \"lit\"}"},
    {"remove", TAKES_TARGET, run_remove, "{\"remove\": \"gull\"}"},
    {"mute", TAKES_HANDLER, run_mute, "{\"mute\": \"greet\"}"},
    {"unmute", TAKES_HANDLER, run_unmute, "{\"unmute\": \"greet\"}"},
    {"unsubscribe", TAKES_HANDLER, run_unsubscribe, "\"unsubscribe\""},
    {"deliver", TAKES_EVENT, run_deliver,
     "{\"deliver\": {\"kind\": \"horn.sounded\"}}"},
    {"defer", TAKES_LANE, run_defer,
     "{\"defer\": {\"kind\": \"ferry.docked\", \"lane\": \"frame\"}}"},
    {"log", TAKES_TEXT, run_log, "{\"log\": \"a text\"}"},
};

enum {
    ROWS = sizeof rows / sizeof rows[0]
};
_Static_assert((int)ROWS <= (int)MOST_REACTIONS, "all can be listed");

const struct reaction_row *ikvi_find_reaction(const char *name)
{
    for (size_t i = 0; i < ROWS; i++)
        if (strcmp(rows[i].name, name) == 0)
            return &rows[i];
    return NULL;
}

const char *ikvi_reaction_name(size_t index)
{
    return index < ROWS ? rows[index].name : NULL;
}

bool ikvi_reaction_sets_field(const reaction *what)
{
    return what->row->takes == TAKES_FIELD || what->row->takes == TAKES_VALUE;
}

bool ikvi_reaction_fits(const reaction *what, const setup_field *field)
{
    ikv_value initial = field->initial;
    if (what->row->takes == TAKES_FIELD)
        return initial.type == IKV_VALUE_BOOL;
    const argument *from = &what->arguments[0];
    ikv_value value = from->constant;
    return from->event_field != NULL || are_alike(&initial, &value);
}

bool ikvi_reaction_toggles(const reaction *what)
{
    return what->row->takes == TAKES_FIELD;
}

static void note_unmuted(ikv_setup *setup, const reaction *what)
{
    /* without a name it is the handler's own, which is too late */
    if (what->row->run != run_unmute || what->text == NULL)
        return;
    setup_handler *handler = ikvi_setup_find_handler(setup, what->text);
    setup_group *group = ikvi_setup_find_group(setup, what->text);
    if (handler != NULL)
        handler->unmuted = true;
    if (group != NULL)
        group->unmuted = true;
}

void ikvi_reaction_note(ikv_setup *setup, const setup_handler *handler,
                        const reaction *what)
{
    reaction_fn run = what->row->run;
    const bool changes = run == run_move || run == run_turn_to ||
                         run == run_attach || run == run_show ||
                         run == run_hide || run == run_remove;
    note_unmuted(setup, what);
    setup_target *named = what->target_id != NULL
                              ? ikvi_setup_find_target(setup, what->target_id)
                              : NULL;
    if (changes && named != NULL)
        named->changed = true;
    if (run == run_modal && named != NULL)
        named->becomes_modal = true;
    /* else the one that is visited: any that it is at */
    for (uint32_t a = 0;
         changes && what->target_id == NULL && a < handler->at_count; a++)
        ikvi_setup_find_target(setup, handler->at[a])->changed = true;
}

bool ikvi_reaction_loses_focus(const ikv_setup *setup,
                               const setup_handler *handler,
                               const reaction *what, const char **id)
{
    const char *const *at = handler->at;
    uint32_t count = handler->at_count;
    if (what->row->run != run_focus)
        return false;
    if (what->target_id != NULL) {
        at = &what->target_id;
        count = 1;
    }
    *id = "root";
    for (uint32_t a = 0; a < count; a++) {
        const setup_target *t = ikvi_setup_find_target(setup, at[a]);
        *id = at[a];
        if (t != NULL && (t->config.traits & IKV_FOCUSABLE) != 0)
            return false;
    }
    return true;
}

ikv_verdict ikvi_run_reactions(const ikv_event *event,
                               const ikv_delivery *delivery, void *handler)
{
    const setup_handler *h = ((const setup_handler *)handler)->now;
    ikv_verdict verdict = IKV_CONTINUE;
    for (uint32_t i = 0; i < h->reaction_count; i++) {
        doing d = {h->setup, &h->reactions[i], h, event, delivery};
        /* all of them run, a "stop" in between or not: it is about other
         * handlers */
        verdict |= d.what->row->run(&d);
    }
    return verdict;
}
