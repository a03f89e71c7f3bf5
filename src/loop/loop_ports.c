/* loop_ports.c - polling ports, and what becomes of those that end or fail. */
#include "loop_internal.h"

/* Whether the port's devices are let go of when it has ended. What a tape or
 * made-up input holds at its end is part of it, and the run ends with it. */
static bool leaves_things(const ikv_loop *loop, uint32_t port)
{
    return !(loop->playing && port == 0 &&
             loop->ended_count == loop->port_count);
}

static void end_port(ikv_loop *loop, uint32_t port)
{
    if (loop_port_at(loop, port)->ended)
        return;
    loop_port_at(loop, port)->ended = true;
    loop->ended_count++;
    if (leaves_things(loop, port)) {
        loop_port_at(loop, port)->leaving = true;
        loop->leaving_count++;
    }
}

/* Said once: a port that fails goes on failing. */
void ikvi_loop_port_failed(ikv_loop *loop, uint32_t port, ikv_status status,
                           const char *what)
{
    char bytes[160];
    ikvi_text text = {bytes, sizeof bytes, 0};
    if (loop_port_at(loop, port)->failed)
        return;
    loop_port_at(loop, port)->failed = true;
    ikvi_text_add(&text, "the port's ");
    ikvi_text_add(&text, what);
    ikvi_text_add(&text, " failed: it is not polled any more, and what its "
                         "devices hold is let go");
    ikvi_text_end(&text);
    const char *name = loop_port_at(loop, port)->port.name;
    ikvi_report(&loop->reporter, IKV_REPORT_ERROR, status,
                name != NULL ? name : "loop", bytes);
    end_port(loop, port);
}

bool ikvi_loop_lend(ikv_loop *loop, uint32_t port)
{
    bool might = loop->may_nest;
    loop_port_at(loop, port)->polling = true;
    /* In a frame there is one already. */
    loop->may_nest = loop->where == BETWEEN_FRAMES;
    return might;
}

void ikvi_loop_take_back(ikv_loop *loop, uint32_t port, bool lent)
{
    if (loop->may_nest && loop->where != BETWEEN_FRAMES)
        loop->end_frame(loop); /* a frame that was begun in there */
    loop_port_at(loop, port)->polling = false;
    loop->may_nest = lent;
}

/* P1. */
IKVI_APART void ikvi_loop_poll(ikv_loop *loop)
{
    for (uint32_t i = 0; i < loop->port_count; i++) {
        const ikv_port *port = &loop_port_at(loop, i)->port;
        if (port->poll == NULL || loop_port_at(loop, i)->ended ||
            loop_port_at(loop, i)->polling)
            continue;
        bool lent = ikvi_loop_lend(loop, i);
        ikv_status status = port->poll(port->state);
        ikvi_loop_take_back(loop, i, lent);
        if (status < 0)
            ikvi_loop_port_failed(loop, i, status, "poll()");
        else if (status == IKV_ENDED)
            end_port(loop, i);
    }
}
