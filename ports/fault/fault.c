/* fault.c - a port around another of which the Nth call breaks. */
#include "ikvar/ports.h"

#include <stdlib.h>

typedef struct fault_port {
    ikv_port inner;
    ikv_fault_config config;
    uint64_t calls[IKV_CALL_COUNT];
    uint64_t last_now;
} fault_port;

/* Whether this call is the one that breaks. */
static bool breaks(fault_port *f, uint32_t call)
{
    uint64_t nth = ++f->calls[call], all = 0;
    for (uint32_t i = 0; i < IKV_CALL_COUNT; i++)
        all += f->calls[i];
    uint64_t count = f->config.call == IKV_CALL_ANY ? all : nth;
    if (f->config.call != IKV_CALL_ANY && f->config.call != call)
        return false;
    return count == f->config.nth ||
           (f->config.from_then_on && count > f->config.nth);
}

static ikv_status fault_open(void *state, ikv_sink *sink)
{
    fault_port *f = state;
    return breaks(f, IKV_CALL_OPEN) ? IKV_PORT_FAILED
                                    : f->inner.open(f->inner.state, sink);
}

static ikv_status fault_poll(void *state)
{
    fault_port *f = state;
    return breaks(f, IKV_CALL_POLL) ? IKV_PORT_FAILED
                                    : f->inner.poll(f->inner.state);
}

static ikv_status fault_wait(void *state, uint64_t until_ns, bool for_input)
{
    fault_port *f = state;
    return breaks(f, IKV_CALL_WAIT)
               ? IKV_PORT_FAILED
               : f->inner.wait(f->inner.state, until_ns, for_input);
}

static void fault_wake(void *state)
{
    const fault_port *f = state;
    f->inner.wake(f->inner.state);
}

/* A clock that breaks stands still for a moment. */
static uint64_t fault_now(void *state)
{
    fault_port *f = state;
    if (!breaks(f, IKV_CALL_NOW))
        f->last_now = f->inner.now(f->inner.state);
    return f->last_now;
}

static ikv_status fault_held(void *state, uint16_t device, ikv_event *events,
                             uint32_t room, uint32_t *count)
{
    fault_port *f = state;
    return breaks(f, IKV_CALL_HELD)
               ? IKV_PORT_FAILED
               : f->inner.held(f->inner.state, device, events, room, count);
}

static size_t fault_describe(void *state, uint16_t device, char *buffer,
                             size_t size)
{
    fault_port *f = state;
    if (!breaks(f, IKV_CALL_DESCRIBE))
        return f->inner.describe(f->inner.state, device, buffer, size);
    if (size > 0)
        buffer[0] = '\0';
    return 0;
}

static size_t fault_identify(void *state, uint16_t device, char *buffer,
                             size_t size)
{
    fault_port *f = state;
    if (!breaks(f, IKV_CALL_DESCRIBE))
        return f->inner.identify(f->inner.state, device, buffer, size);
    if (size > 0)
        buffer[0] = '\0';
    return 0;
}

static ikv_status fault_request(void *state, const ikv_request *request)
{
    fault_port *f = state;
    return breaks(f, IKV_CALL_REQUEST)
               ? IKV_PORT_FAILED
               : f->inner.request(f->inner.state, request);
}

static void fault_close(void *state)
{
    const fault_port *f = state;
    f->inner.close(f->inner.state);
}

ikv_status ikv_fault_port_open(const ikv_port *inner,
                               const ikv_fault_config *config, ikv_port *port)
{
    if (inner == NULL || config == NULL || port == NULL)
        return IKV_BAD_ARGUMENT;
    if (inner->size != sizeof *inner || config->size != sizeof *config)
        return IKV_BAD_SIZE;
    if (config->call >= IKV_CALL_COUNT)
        return IKV_BAD_CONFIG;
    fault_port *f = calloc(1, sizeof *f);
    if (f == NULL)
        return IKV_NO_MEMORY;
    *f = (fault_port){.inner = *inner, .config = *config};
    *port = *inner; /* what it can't do stays NULL */
    port->state = f;
    port->open = fault_open;
    port->poll = inner->poll != NULL ? fault_poll : NULL;
    port->wait = inner->wait != NULL ? fault_wait : NULL;
    port->wake = inner->wake != NULL ? fault_wake : NULL;
    port->now = fault_now;
    port->held = inner->held != NULL ? fault_held : NULL;
    port->describe = inner->describe != NULL ? fault_describe : NULL;
    port->identify = inner->identify != NULL ? fault_identify : NULL;
    port->request = inner->request != NULL ? fault_request : NULL;
    port->close = fault_close;
    return IKV_OK;
}

uint64_t ikv_fault_port_calls(const ikv_port *port, uint32_t call)
{
    const fault_port *f = port != NULL ? port->state : NULL;
    uint64_t calls = 0;
    for (uint32_t i = 0; f != NULL && i < IKV_CALL_COUNT; i++)
        if (call == IKV_CALL_ANY || call == i)
            calls += f->calls[i];
    return calls;
}

void ikv_fault_port_close(ikv_port *port)
{
    if (port != NULL) {
        free(port->state);
        port->state = NULL;
    }
}
