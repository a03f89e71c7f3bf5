/* trace.c - traces: a line for each call of a handler, in the order in which
 * they begin.
 */
#include "trace.h"

static const char *phase_name(uint32_t phase)
{
    return phase == IKV_CAPTURING   ? "capturing"
           : phase == IKV_AT_TARGET ? "target"
                                    : "bubbling";
}

/* What the router sends has its header fields in full, so that a sequence can
 * be compared field by field. */
static bool is_whole(const ikv_kind_info *info, const ikv_field *field)
{
    const uint32_t routed = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK |
                            1u << IKV_FAMILY_WHEEL | 1u << IKV_FAMILY_PEN |
                            1u << IKV_FAMILY_KEY | 1u << IKV_FAMILY_TEXT |
                            1u << IKV_FAMILY_FOCUS;
    return (routed >> info->family & 1) != 0 &&
           (field->offset == offsetof(ikv_event, source) ||
            field->offset == offsetof(ikv_event, modifiers) ||
            field->offset == offsetof(ikv_event, flags));
}

static void write_header_field(ikv_trace *trace, const ikv_field *field,
                               const ikv_event *event)
{
    json_writer *w = &trace->writer;
    if (field->offset == offsetof(ikv_event, source) &&
        event->source.bits != 0) {
        ikvi_trace_target(trace, field->name, "source_gone", event->source);
    } else {
        ikvi_write_name(w, field->name);
        ikvi_write_field(w, field, event, ikvi_kit_name, &trace->names);
    }
}

/* Of a delivery its own; a dropped event has none, and a number all the same.
 */
static uint64_t number_of(const ikv_trace *trace, const ikv_watch *watch)
{
    return watch->what != IKV_WATCH_DROP && watch->depth < DEPTHS
               ? trace->events[watch->depth]
               : trace->event;
}

/* Likewise of what it comes, where decisions are told. */
static uint64_t cause_of(const ikv_trace *trace, const ikv_watch *watch)
{
    uint32_t at = watch->what != IKV_WATCH_DROP ? watch->depth : 0;
    return at < DEPTHS ? trace->causes[at] : 0;
}

static void write_path(ikv_trace *trace, const ikv_delivery *delivery)
{
    json_writer *w = &trace->writer;
    ikvi_write_name(w, "path");
    ikvi_write_list(w);
    for (uint32_t i = 0; i < delivery->path_length; i++)
        ikvi_write_text(w, ikvi_kit_target(&trace->names, delivery->path[i]));
    ikvi_write_close_list(w);
}

/* What is no text may be a program's memory, and differ from run to run. */
static void write_data(json_writer *w, const ikv_delivery *delivery)
{
    if (delivery == NULL || delivery->data_size == 0)
        return;
    if (ikvi_is_shown_text(delivery->data, delivery->data_size)) {
        ikvi_write_data(w, delivery->data, delivery->data_size);
        return;
    }
    ikvi_write_name(w, "data_size");
    ikvi_write_integer(w, delivery->data_size);
}

/* The event's part of a line. */
static void write_event(ikv_trace *trace, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    const ikv_kind_info *info =
        ikv_catalogue_info(trace->catalogue, event->kind);
    const ikv_delivery *delivery = watch->delivery;
    json_writer *w = &trace->writer;
    /* The loop's own events bear the step themselves. */
    bool of_loop = info->family == IKV_FAMILY_LOOP;
    ikvi_write_object(w);
    ikvi_write_name(w, "n");
    ikvi_write_integer(w, (int64_t)++trace->number);
    ikvi_write_name(w, "event");
    ikvi_write_integer(w, (int64_t)number_of(trace, watch));
    if (cause_of(trace, watch) != 0) {
        ikvi_write_name(w, "cause");
        ikvi_write_integer(w, (int64_t)cause_of(trace, watch));
    }
    if (delivery != NULL || of_loop) {
        ikvi_write_name(w, "step");
        ikvi_write_integer(
            w, (int64_t)(of_loop ? event->loop.step : delivery->step));
    }
    ikvi_write_name(w, "t");
    ikvi_write_ms(w, event->time_ns);
    ikvi_write_name(w, "kind");
    ikvi_write_text(w, info->name);
    if (delivery != NULL && watch->what == IKV_WATCH_CALL) {
        ikvi_write_name(w, "at");
        ikvi_write_text(w, ikvi_kit_target(&trace->names, delivery->current));
    }
    ikvi_trace_target(trace, "target", "gone", event->target);
    if (trace->decisions != NULL && delivery != NULL)
        write_path(trace, delivery);
    const ikv_field *field;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++) {
        ikv_value value = ikv_field_get(field, event);
        if (field->offset != offsetof(ikv_event, target) &&
            (value.bits.integer != 0 || is_whole(info, field)))
            write_header_field(trace, field, event);
    }
    for (uint32_t i = 0; i < info->field_count; i++) {
        field = &info->fields[i];
        if (of_loop && field->offset == offsetof(ikv_event, loop.step))
            continue;
        ikvi_write_name(w, field->name);
        ikvi_write_field(w, field, event, ikvi_kit_name, &trace->names);
    }
    write_data(w, delivery);
}

static void watch_call(ikv_trace *trace, const ikv_watch *watch)
{
    json_writer *w = &trace->writer;
    write_event(trace, watch);
    ikvi_write_name(w, "phase");
    ikvi_write_text(w, phase_name(watch->delivery->phase));
    if (watch->delivery->flags & IKV_PASSED) {
        ikvi_write_name(w, "passed");
        ikvi_write_bool(w, true);
    }
    if (watch->delivery->flags & IKV_MIRROR) {
        ikvi_write_name(w, "mirror");
        ikvi_write_bool(w, true);
    }
    ikvi_write_name(w, "handler");
    ikvi_write_text(w, watch->name);
    if (watch->depth < DEPTHS)
        trace->open[watch->depth] = trace->count;
    ikvi_trace_end_line(trace, (waiting_line){0});
}

static void watch_return(ikv_trace *trace, const ikv_watch *watch)
{
    if (watch->depth >= DEPTHS || trace->open[watch->depth] >= trace->count)
        return;
    waiting_line *line = &trace->lines[trace->open[watch->depth]];
    line->called = true;
    line->verdict = watch->verdict;
}

static void watch_end(ikv_trace *trace, const ikv_watch *watch, bool dropped)
{
    if (watch->heard == 0 && !trace->heard_only) {
        write_event(trace, watch);
        ikvi_trace_end_line(
            trace, (waiting_line){.unheard = true, .dropped = dropped});
    }
    if (watch->depth <= 1)
        ikvi_trace_flush(trace);
}

static void number_event(ikv_trace *trace, const ikv_watch *watch, bool told)
{
    bool begins = watch->what == IKV_WATCH_EVENT;
    uint64_t number = told ? ++trace->event : 0;
    uint64_t cause =
        trace->decisions != NULL ? ikvi_trace_cause(trace, watch, number) : 0;
    if (watch->depth >= DEPTHS)
        return;
    /* a dropped one is under way at no depth */
    trace->causes[begins ? watch->depth : 0] = cause;
    if (begins)
        trace->events[watch->depth] = number;
}

static void note_time(ikv_trace *trace, const ikv_watch *watch)
{
    trace->now_ns = watch->event->time_ns;
    trace->now_step = watch->delivery->step;
}

/* What is drawn is as it is when a frame's steps have ended. */
static void end_frame(ikv_trace *trace, const ikv_watch *watch)
{
    if (watch->what != IKV_WATCH_DONE || watch->depth > 1 ||
        watch->event->kind != IKV_KIND_LOOP_FRAME)
        return;
    ikvi_trace_scene_line(trace);
    ikvi_trace_flush(trace);
}

static void watch_lines(ikv_trace *trace, const ikv_watch *watch)
{
    if (watch->what == IKV_WATCH_CALL)
        watch_call(trace, watch);
    else if (watch->what == IKV_WATCH_RETURN)
        watch_return(trace, watch);
    else if (watch->what == IKV_WATCH_DONE || watch->what == IKV_WATCH_DROP)
        watch_end(trace, watch, watch->what == IKV_WATCH_DROP);
}

static void watch_bus(const ikv_watch *watch, void *user)
{
    ikv_trace *trace = user;
    if (trace->failed)
        return;
    if (watch->what == IKV_WATCH_EVENT)
        note_time(trace, watch);
    bool told = !watch->frame_scoped || !trace->steps_only;
    if (watch->what == IKV_WATCH_EVENT || watch->what == IKV_WATCH_DROP)
        number_event(trace, watch, told);
    if (told)
        watch_lines(trace, watch);
    if (trace->decisions != NULL)
        ikvi_trace_decision(trace, watch, told);
    if (trace->scene != NULL)
        end_frame(trace, watch);
}

/* What is watched for which of them. */
static uint32_t wants_of(const ikv_trace *trace)
{
    const uint32_t of_calls = IKV_WATCH_EVENT | IKV_WATCH_CALL |
                              IKV_WATCH_RETURN | IKV_WATCH_DONE |
                              IKV_WATCH_DROP;
    const uint32_t unused = IKV_WATCH_TAKE | IKV_WATCH_SAVE;
    return trace->decisions != NULL ? IKV_WATCH_ALL & ~unused : of_calls;
}

static void free_trace(ikv_trace *trace)
{
    ikvi_write_end(&trace->writer);
    ikvi_trace_scene_close(trace->scene);
    ikvi_trace_decisions_close(trace->decisions);
    free(trace->lines);
    free(trace);
}

static bool open_parts(ikv_trace *trace, uint32_t flags)
{
    if (flags & IKV_TRACE_SCENE)
        trace->scene = ikvi_trace_scene_open();
    return ((flags & IKV_TRACE_SCENE) == 0 || trace->scene != NULL) &&
           ((flags & IKV_TRACE_DECISIONS) == 0 ||
            ikvi_trace_decisions_open(trace));
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
    t->kit = kit;
    t->bus = ikv_kit_bus(kit);
    t->catalogue = ikv_bus_catalogue(t->bus);
    t->setup = setup;
    t->names = (kit_names){
        .bus = t->bus, .actions = ikv_kit_actions(kit), .setup = setup};
    t->steps_only = (flags & IKV_TRACE_STEPS) != 0;
    t->heard_only = (flags & IKV_TRACE_HEARD) != 0;
    ikvi_write_begin(&t->writer, NULL, false);
    ikv_status status =
        open_parts(t, flags)
            ? ikv_bus_add_watcher(t->bus, wants_of(t), watch_bus, t)
            : IKV_NO_MEMORY;
    if (status < 0) {
        free_trace(t);
        return status;
    }
    fputs("{\"format\":\"ikvar.trace/2\"}\n", t->file);
    *trace = t;
    return IKV_OK;
}

ikv_status ikv_trace_close(ikv_trace *trace)
{
    if (trace == NULL)
        return IKV_OK;
    ikv_bus_remove_watcher(trace->bus, watch_bus, trace);
    if (trace->scene != NULL && !trace->failed)
        ikvi_trace_scene_line(trace);
    if (trace->decisions != NULL && !trace->failed)
        ikvi_trace_answers(trace);
    ikvi_trace_flush(trace);
    bool failed = fflush(trace->file) != 0 || trace->failed;
    free_trace(trace);
    return failed ? IKV_BAD_FILE : IKV_OK;
}
