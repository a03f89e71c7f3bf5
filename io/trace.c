/* trace.c - traces: a line for each call of a handler, in the order in which
 * they begin.
 *
 * A line is complete when its handler has returned, and handlers deliver inside
 * handlers; so lines wait in `lines` until the outermost delivery has ended.
 */
#include "setup.h"

#include <stdlib.h>

struct ikv_trace {
    FILE *file;
    ikv_bus *bus;
    const ikv_actions *actions;
    const ikv_catalogue *catalogue;
    const ikv_setup *setup;
    json_t **lines;
    size_t count, room;
    size_t open[64]; /* which lines' handlers run, by depth */
    uint64_t number;
    bool steps_only;
    bool failed;
};

static const char *target_name(const void *user, ikv_target target)
{
    const ikv_trace *trace = user;
    static _Thread_local char number[16];
    if (target.bits == ikv_bus_root(trace->bus).bits)
        return "root";
    if (trace->setup != NULL)
        return ikv_setup_target_name(trace->setup, target);
    snprintf(number, sizeof number, "%u",
             (unsigned)ikv_bus_target_id(trace->bus, target));
    return number;
}

static const char *phase_name(uint32_t phase)
{
    return phase == IKV_CAPTURING   ? "capturing"
           : phase == IKV_AT_TARGET ? "target"
                                    : "bubbling";
}

const char *ikvi_verdict_name(ikv_verdict verdict)
{
    static const char *const names[] = {
        "continue", "stop",        "stop_all",        "stop_all",
        "refuse",   "stop+refuse", "stop_all+refuse", "stop_all+refuse"};
    return names[verdict & 7];
}

/* The name of what a field names by a number. */
static const char *name_in_trace(const void *user, const ikv_field *field,
                                 uint32_t bits)
{
    const ikv_trace *trace = user;
    static _Thread_local char text[IKV_BINDING_BYTES];
    if (field->set == IKV_SET_ACTION) {
        const char *name =
            ikv_action_name(trace->actions, (ikv_action_id){bits});
        return name != NULL ? name : "gone";
    }
    if (field->set == IKV_SET_FIELD)
        return ikv_setup_field_name(trace->setup, bits);
    if (field->set != IKV_SET_BINDING)
        return target_name(user, (ikv_target){bits});
    ikv_event event = ikv_event_make(IKV_KIND_ACTION_START, 0);
    event.action.binding = (uint16_t)bits;
    ikv_binding binding = ikv_action_binding_of(trace->actions, &event);
    return ikv_binding_text(trace->actions, binding, text, sizeof text) > 0
               ? text
               : "gone";
}

/* What the router sends has its header fields in full, so that a sequence can
 * be compared field by field. */
static bool is_whole(const ikv_kind_info *info, const ikv_field *field)
{
    const uint32_t routed = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK |
                            1u << IKV_FAMILY_WHEEL | 1u << IKV_FAMILY_KEY |
                            1u << IKV_FAMILY_TEXT | 1u << IKV_FAMILY_FOCUS;
    return (routed >> info->family & 1) != 0 &&
           (field->offset == offsetof(ikv_event, source) ||
            field->offset == offsetof(ikv_event, modifiers) ||
            field->offset == offsetof(ikv_event, flags));
}

/* The event's part of a line. */
static json_t *event_line(ikv_trace *trace, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    const ikv_kind_info *info =
        ikv_catalogue_info(trace->catalogue, event->kind);
    const ikv_delivery *delivery = watch->delivery;
    json_t *line = json_object();
    json_object_set_new(line, "n", json_integer((json_int_t)++trace->number));
    if (delivery != NULL)
        json_object_set_new(line, "step",
                            json_integer((json_int_t)delivery->step));
    json_object_set_new(
        line, "t", ikvi_json_shortest((double)event->time_ns / 1e6, false));
    json_object_set_new(line, "kind", json_string(info->name));
    if (delivery != NULL && watch->what == IKV_WATCH_CALL) {
        json_object_set_new(line, "at",
                            json_string(target_name(trace, delivery->current)));
    }
    json_object_set_new(line, "target",
                        json_string(target_name(trace, event->target)));
    const ikv_field *field;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++) {
        ikv_value value = ikv_field_get(field, event);
        if (field->offset != offsetof(ikv_event, target) &&
            (value.bits.integer != 0 || is_whole(info, field)))
            json_object_set_new(
                line, field->name,
                ikvi_write_field(field, event, name_in_trace, trace));
    }
    for (uint32_t i = 0; i < info->field_count; i++)
        json_object_set_new(
            line, info->fields[i].name,
            ikvi_write_field(&info->fields[i], event, name_in_trace, trace));
    return line;
}

static void add_line(ikv_trace *trace, json_t *line)
{
    if (trace->count == trace->room) {
        size_t room = trace->room * 2 + 16;
        json_t **lines = realloc(trace->lines, room * sizeof(json_t *));
        if (lines == NULL) {
            trace->failed = true;
            json_decref(line);
            return;
        }
        trace->lines = lines;
        trace->room = room;
    }
    trace->lines[trace->count++] = line;
}

static void flush_lines(ikv_trace *trace)
{
    for (size_t i = 0; i < trace->count; i++)
        if (!ikvi_write_line(trace->file, trace->lines[i]))
            trace->failed = true;
    trace->count = 0;
}

static void watch_call(ikv_trace *trace, const ikv_watch *watch)
{
    json_t *line = event_line(trace, watch);
    json_object_set_new(line, "phase",
                        json_string(phase_name(watch->delivery->phase)));
    if (watch->delivery->flags & IKV_PASSED)
        json_object_set_new(line, "passed", json_true());
    if (watch->delivery->flags & IKV_MIRROR)
        json_object_set_new(line, "mirror", json_true());
    json_object_set_new(line, "handler", json_string(watch->name));
    if (watch->depth < 64)
        trace->open[watch->depth] = trace->count;
    add_line(trace, line);
}

static void watch_end(ikv_trace *trace, const ikv_watch *watch, bool dropped)
{
    if (watch->heard == 0) {
        json_t *line = event_line(trace, watch);
        json_object_set_new(line, "handler", json_null());
        if (dropped)
            json_object_set_new(line, "dropped", json_true());
        add_line(trace, line);
    }
    if (watch->depth <= 1)
        flush_lines(trace);
}

static void watch_bus(const ikv_watch *watch, void *user)
{
    ikv_trace *trace = user;
    if (watch->frame_scoped && trace->steps_only)
        return;
    if (watch->what == IKV_WATCH_CALL)
        watch_call(trace, watch);
    else if (watch->what == IKV_WATCH_RETURN && watch->depth < 64 &&
             trace->open[watch->depth] < trace->count)
        json_object_set_new(trace->lines[trace->open[watch->depth]], "verdict",
                            json_string(ikvi_verdict_name(watch->verdict)));
    else if (watch->what == IKV_WATCH_DONE || watch->what == IKV_WATCH_DROP)
        watch_end(trace, watch, watch->what == IKV_WATCH_DROP);
}

ikv_status ikv_trace_open(void *file, ikv_kit *kit, const ikv_setup *setup,
                          uint32_t flags, ikv_trace **trace)
{
    if (file == NULL || kit == NULL || trace == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_trace *t = calloc(1, sizeof *t);
    if (t == NULL)
        return IKV_NO_MEMORY;
    t->file = file;
    t->bus = ikv_kit_bus(kit);
    t->actions = ikv_kit_actions(kit);
    t->catalogue = ikv_bus_catalogue(t->bus);
    t->setup = setup;
    t->steps_only = (flags & IKV_TRACE_STEPS) != 0;
    ikv_status status = ikv_bus_add_watcher(t->bus, watch_bus, t);
    if (status < 0) {
        free(t);
        return status;
    }
    json_t *header = json_object();
    json_object_set_new(header, "format", json_string("ikvar.trace/1"));
    t->failed = !ikvi_write_line(t->file, header);
    *trace = t;
    return IKV_OK;
}

ikv_status ikv_trace_close(ikv_trace *trace)
{
    if (trace == NULL)
        return IKV_OK;
    ikv_bus_remove_watcher(trace->bus, watch_bus, trace);
    flush_lines(trace);
    bool failed = fflush(trace->file) != 0 || trace->failed;
    free(trace->lines);
    free(trace);
    return failed ? IKV_BAD_FILE : IKV_OK;
}
