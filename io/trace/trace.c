/* trace.c - traces: a line for each call of a handler, in the order in which
 * they begin.
 *
 * A line is complete when its handler has returned, and handlers deliver inside
 * handlers; so lines wait in `lines` until the outermost delivery has ended.
 */
#include "../setup/setup_shared.h"
#include "../text/write.h"

#include <stdlib.h>

/* A line that waits: its text is in the writer, but for what follows when its
 * handler has returned. */
typedef struct waiting_line {
    size_t end; /* of its text */
    ikv_verdict verdict;
    bool called, dropped, unheard;
} waiting_line;

enum {
    DEPTHS = 64
};

struct ikv_trace {
    FILE *file;
    ikv_bus *bus;
    const ikv_catalogue *catalogue;
    kit_names names;
    json_writer writer;
    waiting_line *lines;
    size_t count, room;
    size_t open[DEPTHS];     /* which lines' handlers run, by depth */
    uint64_t events[DEPTHS]; /* the numbers of events under way, by depth */
    uint64_t number, event;
    bool steps_only, heard_only;
    bool failed;
};

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

static void write_target(ikv_trace *trace, const char *member, const char *gone,
                         ikv_target target)
{
    json_writer *w = &trace->writer;
    ikvi_write_name(w, member);
    ikvi_write_text(w, ikvi_kit_target(&trace->names, target));
    if (!ikv_bus_target_alive(trace->bus, target)) {
        ikvi_write_name(w, gone);
        ikvi_write_bool(w, true);
    }
}

static void write_header_field(ikv_trace *trace, const ikv_field *field,
                               const ikv_event *event)
{
    json_writer *w = &trace->writer;
    if (field->offset == offsetof(ikv_event, source) &&
        event->source.bits != 0) {
        write_target(trace, field->name, "source_gone", event->source);
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
    write_target(trace, "target", "gone", event->target);
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
}

static void end_line(ikv_trace *trace, waiting_line line)
{
    ikvi_write_forget(&trace->writer);
    line.end = trace->writer.length;
    if (trace->count == trace->room) {
        size_t room = trace->room * 2 + 16;
        waiting_line *lines = realloc(trace->lines, room * sizeof *lines);
        if (lines == NULL) {
            trace->failed = true;
            return;
        }
        trace->lines = lines;
        trace->room = room;
    }
    trace->lines[trace->count++] = line;
}

static void flush_lines(ikv_trace *trace)
{
    size_t from = 0;
    trace->failed = trace->failed || trace->writer.failed;
    for (size_t i = 0; i < trace->count && !trace->failed; i++) {
        const waiting_line *line = &trace->lines[i];
        fwrite(trace->writer.text + from, 1, line->end - from, trace->file);
        from = line->end;
        if (line->unheard)
            fputs(",\"handler\":null", trace->file);
        if (line->dropped)
            fputs(",\"dropped\":true", trace->file);
        if (line->called)
            fprintf(trace->file, ",\"verdict\":\"%s\"",
                    ikvi_verdict_name(line->verdict));
        fputs("}\n", trace->file);
    }
    trace->failed = trace->failed || ferror(trace->file) != 0;
    trace->count = 0;
    trace->writer.length = 0;
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
    end_line(trace, (waiting_line){0});
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
        end_line(trace, (waiting_line){.unheard = true, .dropped = dropped});
    }
    if (watch->depth <= 1)
        flush_lines(trace);
}

static void number_event(ikv_trace *trace, const ikv_watch *watch)
{
    trace->event++;
    if (watch->what == IKV_WATCH_EVENT && watch->depth < DEPTHS)
        trace->events[watch->depth] = trace->event;
}

static void watch_bus(const ikv_watch *watch, void *user)
{
    ikv_trace *trace = user;
    if ((watch->frame_scoped && trace->steps_only) || trace->failed)
        return;
    if (watch->what == IKV_WATCH_EVENT || watch->what == IKV_WATCH_DROP)
        number_event(trace, watch);
    if (watch->what == IKV_WATCH_CALL)
        watch_call(trace, watch);
    else if (watch->what == IKV_WATCH_RETURN)
        watch_return(trace, watch);
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
    t->catalogue = ikv_bus_catalogue(t->bus);
    t->names = (kit_names){
        .bus = t->bus, .actions = ikv_kit_actions(kit), .setup = setup};
    t->steps_only = (flags & IKV_TRACE_STEPS) != 0;
    t->heard_only = (flags & IKV_TRACE_HEARD) != 0;
    ikv_status status = ikv_bus_add_watcher(t->bus,
                                            IKV_WATCH_EVENT | IKV_WATCH_CALL |
                                                IKV_WATCH_RETURN |
                                                IKV_WATCH_DONE | IKV_WATCH_DROP,
                                            watch_bus, t);
    if (status < 0) {
        free(t);
        return status;
    }
    ikvi_write_begin(&t->writer, NULL, false);
    fputs("{\"format\":\"ikvar.trace/2\"}\n", t->file);
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
    ikvi_write_end(&trace->writer);
    free(trace->lines);
    free(trace);
    return failed ? IKV_BAD_FILE : IKV_OK;
}
