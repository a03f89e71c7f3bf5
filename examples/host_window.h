/* host_window.h - an adapter for a host that owns the window and its message
 * loop: a port that only pushes. It says in view units what the host says in
 * pixels, whatever the density, and runs a frame when the host says so. Put your
 * host's messages in the place of those of example 38. */
#ifndef HOST_WINDOW_H
#define HOST_WINDOW_H

#include <ikvar/ikvar.h>

typedef struct adapter {
    ikv_sink *sink;
    ikv_loop *loop;
    uint64_t now_ns;
    float density, width, height, x, y; /* in pixels */
    bool down;
} adapter;

static ikv_status adapter_open(void *state, ikv_sink *sink)
{
    ((adapter *)state)->sink = sink;
    return IKV_OK;
}

static uint64_t adapter_now(void *state)
{
    return ((adapter *)state)->now_ns;
}

static void adapter_close(void *state)
{
    ((adapter *)state)->sink = NULL;
}

static void push(const adapter *a, ikv_kind kind)
{
    ikv_event e = ikv_event_make(kind, a->now_ns);
    if (kind >= IKV_KIND_WINDOW_RESIZE && kind <= IKV_KIND_WINDOW_CLOSE) {
        e.window.width = a->width / a->density;
        e.window.height = a->height / a->density;
        e.window.density = a->density;
    } else {
        e.pointer.x = a->x / a->density;
        e.pointer.y = a->y / a->density;
        e.pointer.button = kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : 0;
        e.pointer.buttons = a->down;
    }
    ikv_sink_push(a->sink, &e);
}

static void frame(adapter *a)
{
    a->now_ns += 16666667;
    if (!ikv_loop_begin(a->loop))
        return;
    while (ikv_loop_step(a->loop)) {
    }
    ikv_loop_end(a->loop);
}

static void on_message(adapter *a, const host_message *m)
{
    static const ikv_kind kinds[] = {[SIZE] = IKV_KIND_WINDOW_RESIZE,
                                     [DENSITY] = IKV_KIND_WINDOW_DENSITY,
                                     [MOUSE] = IKV_KIND_POINTER_MOVE,
                                     [BUTTON] =
                                         IKV_KIND_POINTER_UP, /* or a down */
                                     [CLOSE] = IKV_KIND_WINDOW_CLOSE};
    if (m->what == TICK)
        frame(a);
    else if (m->what == SIZE)
        a->width = m->a, a->height = m->b;
    else if (m->what == MOUSE)
        a->x = m->a, a->y = m->b;
    else if (m->what == BUTTON)
        a->down = m->a > 0;
    else if (m->what == DENSITY)
        a->density = m->a;
    if (m->what == BUTTON && a->down)
        push(a, IKV_KIND_POINTER_DOWN);
    else if (m->what != TICK)
        push(a, kinds[m->what]);
    if (m->what == DENSITY) /* as many pixels are fewer units */
        push(a, IKV_KIND_WINDOW_RESIZE);
}

static ikv_port adapter_port(adapter *a)
{
    return (ikv_port){.size = sizeof(ikv_port),
                      .capabilities = IKV_PORT_CLOCK,
                      .name = "host window",
                      .state = a,
                      .open = adapter_open,
                      .now = adapter_now,
                      .close = adapter_close};
}

#endif
