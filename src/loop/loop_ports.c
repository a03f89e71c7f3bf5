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

/* ------------------------------------------------------- back to the ports -- */

/* Which port has the device; false if none has. */
static bool find_port(const ikv_loop *loop, uint16_t device, uint32_t *port)
{
    if (device == 0 || device > loop->devices)
        return false;
    *port = *loop_device_port(loop, device);
    return true;
}

static bool is_from(float value, float least, float most)
{
    return value >= least && value <= most; /* no NaN is */
}

static bool is_good_request(const ikv_request *r)
{
    const float far = 1e9f;
    if (r->kind == IKV_REQUEST_CLIPBOARD_SET &&
        (r->text == NULL || !ikvi_is_utf8(r->text, r->text_size)))
        return false;
    return r->color <= 0xffffff && is_from(r->low, 0, 1) &&
           is_from(r->high, 0, 1) && is_from(r->seconds, 0, far) &&
           is_from(r->width, 0, far) && is_from(r->height, 0, far) &&
           is_from(r->x, -far, far) && is_from(r->y, -far, far);
}

static ikv_status ask_port(const ikv_loop *loop, uint32_t at,
                           const ikv_request *request)
{
    const ikv_port *port = &loop_port_at(loop, at)->port;
    return port->request == NULL || loop_port_at(loop, at)->ended
               ? IKV_ABSENT
               : port->request(port->state, request);
}

/* P1. */
ikv_status ikv_loop_request(ikv_loop *loop, const ikv_request *request)
{
    uint32_t port = 0;
    ikv_status status = IKV_ABSENT;
    if (loop == NULL || request == NULL)
        return IKV_BAD_ARGUMENT;
    if (request->size != sizeof *request)
        return IKV_BAD_SIZE;
    if (request->kind < IKV_REQUEST_RELATIVE ||
        request->kind >= IKV_REQUEST_COUNT)
        return IKV_BAD_ARGUMENT;
    if (!is_good_request(request))
        return IKV_BAD_VALUE;
    if (request->device != 0)
        return find_port(loop, request->device, &port)
                   ? ask_port(loop, port, request)
                   : IKV_ABSENT;
    for (; status == IKV_ABSENT && port < loop->port_count; port++)
        status = ask_port(loop, port, request);
    return status;
}

/* What a port says of a device by one of its functions. */
static size_t ask_about(const ikv_loop *loop, uint16_t device, bool identity,
                        char *buffer, size_t size)
{
    uint32_t at;
    if (size > 0 && buffer != NULL)
        buffer[0] = '\0';
    if (loop == NULL || (buffer == NULL && size > 0) ||
        !find_port(loop, device, &at))
        return 0;
    const ikv_port *port = &loop_port_at(loop, at)->port;
    size_t (*ask)(void *, uint16_t, char *, size_t) =
        identity ? port->identify : port->describe;
    return ask != NULL ? ask(port->state, device, buffer, size) : 0;
}

size_t ikv_loop_describe(const ikv_loop *loop, uint16_t device, char *buffer,
                         size_t size)
{
    return ask_about(loop, device, false, buffer, size);
}

size_t ikv_loop_identify(const ikv_loop *loop, uint16_t device, char *buffer,
                         size_t size)
{
    return ask_about(loop, device, true, buffer, size);
}

/* P1: the first port that can show where text goes does. Looked at when the
 * focus or the scene has changed; the rest of a frame it costs nothing. */
void ikvi_loop_ask_text_area(ikv_loop *loop)
{
    ikv_request request = IKV_REQUEST_INIT;
    float box[4] = {0, 0, 0, 0};
    uint64_t turn = loop->input->calls->focus_turn(loop->input);
    if (IKVI_LIKELY(turn == loop->text_turn))
        return;
    loop->text_turn = turn;
    request.kind = IKV_REQUEST_TEXT_AREA;
    request.on = loop->input->calls->text_area(loop->input, box);
    bool same = request.on == loop->text_on;
    for (uint32_t i = 0; i < 4; i++)
        same = same && !(box[i] < loop->text_box[i]) &&
               !(box[i] > loop->text_box[i]);
    if (same)
        return;
    loop->text_on = request.on;
    memcpy(loop->text_box, box, sizeof box);
    request.x = box[0];
    request.y = box[1];
    request.width = box[2] - box[0];
    request.height = box[3] - box[1];
    ikv_loop_request(loop, &request);
}

void ikvi_loop_tell_drop(ikv_loop *loop, const ikv_event *event,
                         ikv_verdict verdict)
{
    ikv_request request = IKV_REQUEST_INIT;
    request.kind = IKV_REQUEST_DROP;
    request.device = event->device;
    request.on = (verdict & IKV_ACCEPT) != 0;
    uint8_t told = request.on ? 2 : 1;
    if (loop->drop_told == told)
        return;
    loop->drop_told = told;
    ikv_loop_request(loop, &request);
}

/* ---------------------------------------------------------------- polling -- */

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

/* Until when a tape goes may be known only when all of it has been given: no
 * step of this frame is beyond that. */
void ikvi_loop_poll_on(ikv_loop *loop)
{
    loop->more_to_poll = false;
    ikvi_loop_poll(loop);
    if (loop->playing && loop->ended_count == loop->port_count) {
        uint64_t end = loop_clock(loop);
        loop->now = end < loop->now ? end : loop->now;
    }
}
