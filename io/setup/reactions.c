/* reactions.c - what handlers in a setup can do. A reaction is one public call,
 * with constants or the event's fields; the table below is all there is. But for
 * "set" and "toggle": the fields of a setup's targets are the setup's own, and
 * what the library has of them is the kind field.set. */
#include "setup.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

/* What a reaction takes. */
enum takes {
    TAKES_NOTHING,   /* "stop" */
    TAKES_TARGET,    /* "capture", or {"capture": "ferry"} */
    TAKES_HANDLER,   /* "unsubscribe", or {"mute": "greet"} */
    TAKES_FIELD,     /* {"toggle": "lit"}, or with a target */
    TAKES_VALUE,     /* {"set": {"field": "lit", "value": true}} */
    TAKES_POSITION,  /* {"move": {"x": 1, "y": 2}} */
    TAKES_EVENT,     /* {"deliver": {"kind": "horn.sounded", ...}} */
    TAKES_LANE,      /* {"defer": {"kind": ..., "lane": "frame"}} */
    TAKES_TEXT,      /* {"log": "text"} */
    TAKES_DIRECTION, /* {"focus_toward": "left"} */
    TAKES_SET,       /* {"push_set": "menu"} */
    TAKES_SEAT,      /* {"set_seat": 1} */
    TAKES_FEED       /* {"feed": {"action": "horn", "x": 1}} */
};

struct reaction_row {
    const char *name;
    enum takes takes;
    reaction_fn run;
    const char *form;
};

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

static const char *const directions[] = {"left", "right", "up", "down", NULL};

static ikv_verdict run_focus_toward(const doing *d)
{
    ikv_router *router = ikv_kit_router(d->setup->kit);
    uint32_t direction = 0;
    while (strcmp(directions[direction], d->what->text) != 0)
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

/* -------------------------------------------------------------- reading -- */

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

static bool wrong_form(reader *r, const place *at, const reaction *to,
                       const json_t *value)
{
    return ikvi_reader_fail(r, at, "expected the form %s, found %s",
                            to->row->form, ikvi_json_found(value));
}

static bool read_target_id(reader *r, const place *at, ikv_setup *setup,
                           const json_t *object, reaction *to)
{
    if (!ikvi_read_string(r, at, object, "target", false, &to->target_id))
        return false;
    /* "root" is always there */
    place here = {at, "target", 0};
    return to->target_id == NULL || strcmp(to->target_id, "root") == 0 ||
           ikvi_setup_find_target(setup, to->target_id) != NULL ||
           ikvi_setup_unknown_target(r, &here, setup, to->target_id);
}

/* A constant, or {"field": "x"}: the event's field of that name. */
static bool read_argument(reader *r, const place *at, const json_t *value,
                          argument *to)
{
    static const char *const members[] = {"field", NULL};
    if (json_is_object(value))
        return ikvi_expect_object(r, at, value, members) &&
               ikvi_read_string(r, at, value, "field", true, &to->event_field);
    return ikvi_read_scalar(r, at, value, &to->constant);
}

static bool read_position(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "x", "y", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    if (!ikvi_expect_object(r, at, value, members) ||
        !read_target_id(r, at, setup, value, to))
        return false;
    for (int i = 0; i < 2; i++) {
        const char *member = members[i + 1];
        place here = {at, member, 0};
        /* each of the two is needed: half a position is a mistake */
        const json_t *part = json_object_get(value, member);
        if (part == NULL)
            return wrong_form(r, at, to, value);
        if (!read_argument(r, &here, part, &to->arguments[i]))
            return false;
        argument *a = &to->arguments[i];
        /* a field's type is known only when an event comes */
        if (a->event_field == NULL && a->constant.type == IKV_VALUE_BOOL)
            return ikvi_reader_fail(r, &here, "expected a number, found %s",
                                    ikvi_json_found(part));
    }
    return true;
}

static bool read_set(reader *r, const place *at, ikv_setup *setup,
                     const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "field", "value", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    place here = {at, "value", 0};
    return ikvi_expect_object(r, at, value, members) &&
           read_target_id(r, at, setup, value, to) &&
           ikvi_read_string(r, at, value, "field", true, &to->text) &&
           read_argument(r, &here, json_object_get(value, "value"),
                         &to->arguments[0]);
}

static bool read_toggle(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, reaction *to)
{
    static const char *const members[] = {"target", "field", NULL};
    if (json_is_string(value)) {
        to->text = json_string_value(value);
        return true;
    }
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    return ikvi_expect_object(r, at, value, members) &&
           read_target_id(r, at, setup, value, to) &&
           ikvi_read_string(r, at, value, "field", true, &to->text);
}

static bool read_lane(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    static const char *const lanes[] = {"step", "frame", NULL};
    /* as ikv_bus_defer() does where nothing is said */
    const char *lane = "step";
    if (!ikvi_read_string(r, at, value, "lane", false, &lane))
        return false;
    place here = {at, "lane", 0};
    if (strcmp(lane, "step") != 0 && strcmp(lane, "frame") != 0)
        return ikvi_setup_unknown(r, &here, "lane", lane, lanes);
    to->lane = strcmp(lane, "step") == 0 ? IKV_STEP_LANE : IKV_FRAME_LANE;
    return true;
}

static bool read_event_field(reader *r, const place *at, const json_t *value,
                             const ikv_field *field, reaction *to)
{
    static const char *const members[] = {"field", NULL};
    /* a constant goes into the event here, once for all */
    if (!json_is_object(value))
        return ikvi_read_field(r, at, value, field, NULL, &to->event);
    if (to->argument_count == SETUP_ARGUMENTS)
        return ikvi_reader_fail(r, at, "more than %d fields of the event",
                                SETUP_ARGUMENTS);
    argument *a = &to->arguments[to->argument_count++];
    a->to = field;
    return ikvi_expect_object(r, at, value, members) &&
           ikvi_read_string(r, at, value, "field", true, &a->event_field);
}

static bool read_sent_event(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, reaction *to)
{
    const json_t *kind = json_object_get(value, "kind");
    place here = {at, "kind", 0};
    if (!json_is_object(value) || kind == NULL)
        return wrong_form(r, at, to, value);
    ikv_kind number;
    if (!ikvi_setup_read_kind(r, &here, setup, kind, &number) ||
        !read_target_id(r, at, setup, value, to))
        return false;
    to->event = ikv_event_make(number, 0);
    if (to->row->takes == TAKES_LANE && !read_lane(r, at, value, to))
        return false;
    const ikv_kind_info *info = ikv_catalogue_info(setup->catalogue, number);
    const char *member;
    json_t *part;
    json_object_foreach((json_t *)(uintptr_t)value, member, part)
    {
        /* what is not of the payload was read above; a note is for people */
        if (strcmp(member, "kind") == 0 || strcmp(member, "target") == 0 ||
            strcmp(member, "note") == 0 ||
            (strcmp(member, "lane") == 0 && to->row->takes == TAKES_LANE))
            continue;
        place at_member = {at, member, 0};
        const ikv_field *field = NULL;
        for (uint32_t i = 0; i < info->field_count; i++)
            if (strcmp(info->fields[i].name, member) == 0)
                field = &info->fields[i];
        if (field == NULL) {
            const char *known[FIELDS_PER_TARGET * 2 + 4];
            size_t count = 0;
            for (uint32_t i = 0; i < info->field_count; i++)
                known[count++] = info->fields[i].name;
            /* it can be given beside the fields: a near name may mean it */
            known[count++] = "target";
            known[count] = NULL;
            return ikvi_setup_unknown(r, &at_member, "field", member, known);
        }
        if (!read_event_field(r, &at_member, part, field, to))
            return false;
    }
    return true;
}

static bool read_feed(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value, reaction *to)
{
    static const char *const members[] = {"action", "x", "y", NULL};
    if (!json_is_object(value))
        return wrong_form(r, at, to, value);
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_string(r, at, value, "action", true, &to->text))
        return false;
    place action = {at, "action", 0};
    if (ikvi_setup_find_action(setup, to->text) == NULL)
        return ikvi_reader_fail(r, &action, "unknown action \"%.60s\"",
                                to->text);
    for (int i = 0; i < 2; i++) {
        place here = {at, members[i + 1], 0};
        const json_t *part = json_object_get(value, members[i + 1]);
        argument *a = &to->arguments[i];
        if (part != NULL && !read_argument(r, &here, part, a))
            return false;
        if (part != NULL && a->event_field == NULL &&
            a->constant.type == IKV_VALUE_BOOL)
            return ikvi_reader_fail(r, &here, "expected a number, found %s",
                                    ikvi_json_found(part));
    }
    return true;
}

static bool read_seat(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    json_int_t seat = json_integer_value(value);
    if (!json_is_integer(value) || seat < 0 || seat >= IKV_SEAT_LIMIT)
        return ikvi_reader_fail(r, at, "expected a seat from 0 to %d, found %s",
                                IKV_SEAT_LIMIT - 1, ikvi_json_found(value));
    to->arguments[0].constant =
        (ikv_value){IKV_VALUE_INTEGER, {.integer = seat}};
    return true;
}

static bool read_name(reader *r, const place *at, ikv_setup *setup,
                      const json_t *value, reaction *to)
{
    const char *name = json_string_value(value);
    if (name == NULL)
        return wrong_form(r, at, to, value);
    if (to->row->takes == TAKES_TARGET) {
        to->target_id = name;
        return ikvi_setup_find_target(setup, name) != NULL ||
               ikvi_setup_unknown_target(r, at, setup, name);
    }
    to->text = name;
    if (to->row->takes == TAKES_SET)
        return ikvi_setup_find_set(setup, name) < setup->set_count ||
               ikvi_setup_unknown_of(r, at, "set", name, setup->set_names,
                                     NULL);
    if (to->row->takes == TAKES_DIRECTION) {
        for (uint32_t i = 0; directions[i] != NULL; i++)
            if (strcmp(directions[i], name) == 0)
                return true;
        return ikvi_setup_unknown(r, at, "direction", name, directions);
    }
    /* any text will do; a handler or a group must be there */
    if (to->row->takes == TAKES_TEXT ||
        ikvi_setup_find_handler(setup, name) != NULL ||
        ikvi_setup_find_group(setup, name) != NULL)
        return true;
    return ikvi_setup_unknown_of(r, at, "handler or group", name,
                                 setup->handler_names, setup->group_names);
}

static const struct reaction_row *find_row(const char *name)
{
    for (size_t i = 0; i < ROWS; i++)
        if (strcmp(rows[i].name, name) == 0)
            return &rows[i];
    return NULL;
}

static bool unknown_reaction(reader *r, const place *at, const char *name)
{
    const char *known[ROWS + 1];
    for (size_t i = 0; i < ROWS; i++)
        known[i] = rows[i].name;
    known[ROWS] = NULL;
    return ikvi_setup_unknown(r, at, "reaction", name, known);
}

static bool read_bare(reader *r, const place *at, const json_t *value,
                      reaction *to)
{
    const char *name = json_string_value(value);
    to->row = find_row(name);
    if (to->row == NULL)
        return unknown_reaction(r, at, name);
    /* what its event or its handler can say without words */
    return to->row->takes == TAKES_NOTHING || to->row->takes == TAKES_TARGET ||
           to->row->takes == TAKES_HANDLER || wrong_form(r, at, to, value);
}

bool ikvi_read_reaction(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, reaction *to)
{
    if (json_is_string(value))
        return read_bare(r, at, value, to);
    if (!json_is_object(value) || json_object_size(value) != 1)
        return ikvi_reader_fail(r, at,
                                "expected a reaction, \"stop\" or {\"toggle\": "
                                "\"lit\"} for instance, found %s",
                                ikvi_json_found(value));
    /* the one member's name says what, its value with what */
    void *only = json_object_iter((json_t *)(uintptr_t)value);
    const char *name = json_object_iter_key(only);
    const json_t *part = json_object_iter_value(only);
    place here = {at, name, 0};
    to->row = find_row(name);
    if (to->row == NULL)
        return unknown_reaction(r, at, name);
    /* a setup has many reactions and few arguments */
    if (to->row->takes == TAKES_SEAT ||
        (to->row->takes != TAKES_NOTHING && to->row->takes != TAKES_FIELD &&
         json_is_object(part))) {
        to->arguments = calloc(SETUP_ARGUMENTS, sizeof *to->arguments);
        if (to->arguments == NULL)
            return ikvi_no_memory(r) == IKV_OK;
    }
    switch (to->row->takes) {
    case TAKES_NOTHING:
        return wrong_form(r, at, to, value);
    case TAKES_FIELD:
        return read_toggle(r, &here, setup, part, to);
    case TAKES_VALUE:
        return read_set(r, &here, setup, part, to);
    case TAKES_POSITION:
        return read_position(r, &here, setup, part, to);
    case TAKES_FEED:
        return read_feed(r, &here, setup, part, to);
    case TAKES_SEAT:
        return read_seat(r, &here, part, to);
    case TAKES_EVENT:
    case TAKES_LANE:
        return read_sent_event(r, &here, setup, part, to);
    default:
        return read_name(r, &here, setup, part, to);
    }
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
