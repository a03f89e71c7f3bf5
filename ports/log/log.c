/* log.c - a port around another that writes each call to a file. */
#include "ikvar/ports.h"

#include <stdio.h>
#include <stdlib.h>

typedef struct log_port {
    ikv_port inner;
    FILE *file;
    uint64_t calls;
} log_port;

static void begin_line(log_port *l, const char *call)
{
    /* counted, so that two logs can be laid side by side */
    fprintf(l->file, "%llu %s %s", (unsigned long long)++l->calls,
            l->inner.name != NULL ? l->inner.name : "port", call);
}

static ikv_status end_line(log_port *l, ikv_status status)
{
    fprintf(l->file, " -> %s\n", ikv_status_name(status));
    return status;
}

static ikv_status log_open(void *state, ikv_sink *sink)
{
    log_port *l = state;
    begin_line(l, "open");
    return end_line(l, l->inner.open(l->inner.state, sink));
}

static ikv_status log_poll(void *state)
{
    log_port *l = state;
    /* before it is called: a port that crashes is named by the last line */
    begin_line(l, "poll");
    return end_line(l, l->inner.poll(l->inner.state));
}

static ikv_status log_wait(void *state, uint64_t until_ns, bool for_input)
{
    log_port *l = state;
    begin_line(l, "wait");
    fprintf(l->file, " until %llu%s", (unsigned long long)until_ns,
            for_input ? " or input" : "");
    return end_line(l, l->inner.wait(l->inner.state, until_ns, for_input));
}

/* From any thread: the line is written at once. */
static void log_wake(void *state)
{
    log_port *l = state;
    fprintf(l->file, "- %s wake\n", l->inner.name);
    l->inner.wake(l->inner.state);
}

static uint64_t log_now(void *state)
{
    log_port *l = state;
    uint64_t now = l->inner.now(l->inner.state);
    begin_line(l, "now");
    fprintf(l->file, " -> %llu\n", (unsigned long long)now);
    return now;
}

static ikv_status log_held(void *state, uint16_t device, ikv_event *events,
                           uint32_t room, uint32_t *count)
{
    log_port *l = state;
    ikv_status status =
        l->inner.held(l->inner.state, device, events, room, count);
    begin_line(l, "held");
    fprintf(l->file, " device %u: %u", device, status == IKV_OK ? *count : 0);
    return end_line(l, status);
}

static size_t log_describe(void *state, uint16_t device, char *buffer,
                           size_t size)
{
    log_port *l = state;
    size_t length = l->inner.describe(l->inner.state, device, buffer, size);
    begin_line(l, "describe");
    fprintf(l->file, " device %u -> \"%s\"\n", device,
            length > 0 && size > 0 ? buffer : "");
    return length;
}

static size_t log_identify(void *state, uint16_t device, char *buffer,
                           size_t size)
{
    log_port *l = state;
    size_t length = l->inner.identify(l->inner.state, device, buffer, size);
    begin_line(l, "identify");
    fprintf(l->file, " device %u -> \"%s\"\n", device,
            length > 0 && size > 0 ? buffer : "");
    return length;
}

static ikv_status log_request(void *state, const ikv_request *request)
{
    static const char *const names[IKV_REQUEST_COUNT] = {
        "none",   "relative",      "cursor",        "text area", "rumble",
        "lights", "clipboard set", "clipboard get", "drop"};
    log_port *l = state;
    begin_line(l, "request");
    fprintf(l->file, " %s device %u",
            request->kind < IKV_REQUEST_COUNT ? names[request->kind] : "?",
            request->device);
    return end_line(l, l->inner.request(l->inner.state, request));
}

static void log_close(void *state)
{
    log_port *l = state;
    begin_line(l, "close");
    fputc('\n', l->file);
    l->inner.close(l->inner.state);
}

ikv_status ikv_log_port_open(const ikv_port *inner, void *file, ikv_port *port)
{
    if (inner == NULL || file == NULL || port == NULL)
        return IKV_BAD_ARGUMENT;
    if (inner->size != sizeof *inner)
        return IKV_BAD_SIZE;
    log_port *l = calloc(1, sizeof *l);
    if (l == NULL)
        return IKV_NO_MEMORY;
    *l = (log_port){.inner = *inner, .file = file};
    *port = *inner; /* what it can't do stays NULL */
    port->state = l;
    port->open = log_open;
    port->poll = inner->poll != NULL ? log_poll : NULL;
    port->wait = inner->wait != NULL ? log_wait : NULL;
    port->wake = inner->wake != NULL ? log_wake : NULL;
    port->now = log_now;
    port->held = inner->held != NULL ? log_held : NULL;
    port->describe = inner->describe != NULL ? log_describe : NULL;
    port->identify = inner->identify != NULL ? log_identify : NULL;
    port->request = inner->request != NULL ? log_request : NULL;
    port->close = log_close;
    return IKV_OK;
}

void ikv_log_port_close(ikv_port *port)
{
    if (port != NULL) {
        free(port->state);
        port->state = NULL;
    }
}
