/* trace_lines.c - lines of a trace on their way into the file. */
#include "trace.h"

void ikvi_trace_end_line(ikv_trace *trace, waiting_line line)
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

void ikvi_trace_flush(ikv_trace *trace)
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

const char *ikvi_verdict_name(ikv_verdict verdict)
{
    static const char *const names[] = {"continue",
                                        "stop",
                                        "stop_all",
                                        "stop_all",
                                        "refuse",
                                        "stop+refuse",
                                        "stop_all+refuse",
                                        "stop_all+refuse",
                                        "accept",
                                        "stop+accept",
                                        "stop_all+accept",
                                        "stop_all+accept",
                                        "refuse+accept",
                                        "stop+refuse+accept",
                                        "stop_all+refuse+accept",
                                        "stop_all+refuse+accept"};
    return names[verdict & 15];
}

void ikvi_trace_target(ikv_trace *trace, const char *member, const char *gone,
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

uint64_t ikvi_trace_event(const ikv_trace *trace, uint32_t depth)
{
    return depth > 0 && depth < DEPTHS ? trace->events[depth] : 0;
}
