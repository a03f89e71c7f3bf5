/* watch_feed.c - a port of what a terminal's port has pushed, and a clock that goes
 * as far as the run may go. */
#include "watch.h"

#include <stdio.h>

static ikv_status feed_open(void *state, ikv_sink *sink)
{
    watcher *w = state;
    w->sink = sink;
    w->keyboard = ikv_sink_device(sink);
    w->mouse = ikv_sink_device(sink);
    return IKV_OK;
}

/* What there is no room for is lost, and counted, by the loop; what had none here
 * is made good by it. */
static ikv_status feed_poll(void *state)
{
    watcher *w = state;
    for (uint32_t i = 0; i < w->fed_count; i++) {
        w->fed[i].time_ns = w->now_ns;
        ikv_sink_push(w->sink, &w->fed[i]);
    }
    w->fed_count = 0;
    if (w->lost_keys)
        ikv_sink_lost(w->sink, w->keyboard);
    if (w->lost_buttons)
        ikv_sink_lost(w->sink, w->mouse);
    w->lost_keys = w->lost_buttons = false;
    return IKV_OK;
}

static ikv_status feed_wait(void *state, uint64_t until_ns, bool for_input)
{
    watcher *w = state;
    (void)for_input;
    w->now_ns = until_ns > w->now_ns ? until_ns : w->now_ns;
    return IKV_OK;
}

static uint64_t feed_now(void *state)
{
    return ((watcher *)state)->now_ns;
}

static void feed_close(void *state)
{
    ((watcher *)state)->sink = NULL;
}

ikv_port watch_feed(watcher *w)
{
    ikv_port port = IKV_PORT_INIT;
    /* nothing is dropped by a clock that waits for the run */
    port.capabilities = IKV_PORT_CLOCK | IKV_PORT_WAITS | IKV_PORT_PLAYBACK;
    port.name = "watch";
    port.state = w;
    port.open = feed_open;
    port.poll = feed_poll;
    port.wait = feed_wait;
    port.now = feed_now;
    port.close = feed_close;
    return port;
}

/* What there is no room for: the run is paused, and much has come in. */
static void lose(watcher *w, ikv_kind kind)
{
    w->lost_keys =
        w->lost_keys || kind == IKV_KIND_KEY_DOWN || kind == IKV_KIND_KEY_UP;
    w->lost_buttons = w->lost_buttons || kind == IKV_KIND_POINTER_DOWN ||
                      kind == IKV_KIND_POINTER_UP;
    snprintf(w->note, sizeof w->note,
             "paused: there is no room for more input");
}

/* While the run is paused nothing takes what waits: of moves in a row the last one
 * is kept, with the motion of all. */
static void feed(watcher *w, const ikv_event *event, uint16_t device)
{
    ikv_event mine = *event;
    const ikv_event *last = w->fed_count > 0 ? &w->fed[w->fed_count - 1] : NULL;
    mine.device = device;
    if (w->paused && last != NULL && last->kind == IKV_KIND_POINTER_MOVE &&
        mine.kind == last->kind) {
        mine.pointer.dx += last->pointer.dx;
        mine.pointer.dy += last->pointer.dy;
        w->fed_count--;
    }
    if (w->sink != NULL && w->fed_count < FED)
        w->fed[w->fed_count++] = mine;
    else if (w->sink != NULL)
        lose(w, mine.kind);
}

/* Where the pointer is in the scene; what began there ends there. */
static void take_pointer(watcher *w, ikv_event *event)
{
    float x = 0, y = 0;
    bool inside =
        watch_place(w, (int)event->pointer.x, (int)event->pointer.y, &x, &y);
    uint32_t bit = 0;
    if (event->pointer.button >= 0)
        bit = 1u << (event->pointer.button & 15);
    if (event->kind == IKV_KIND_POINTER_DOWN) {
        if (!inside)
            return;
        w->buttons |= (uint16_t)bit;
    } else if (event->kind == IKV_KIND_POINTER_UP) {
        if ((w->buttons & bit) == 0)
            return;
        w->buttons &= (uint16_t)~bit;
    } else if (!inside && w->buttons == 0) {
        return;
    }
    event->pointer.x = x;
    event->pointer.y = y;
    feed(w, event, w->mouse);
}

static void take_wheel(watcher *w, ikv_event *event)
{
    float x = 0, y = 0;
    if (!watch_place(w, (int)event->wheel.x, (int)event->wheel.y, &x, &y))
        return;
    event->wheel.x = x;
    event->wheel.y = y;
    feed(w, event, w->mouse);
}

void watch_take(watcher *w, const ikv_event *event)
{
    ikv_event mine = *event;
    switch (event->kind) {
    case IKV_KIND_POINTER_DOWN:
    case IKV_KIND_POINTER_UP:
    case IKV_KIND_POINTER_MOVE:
        take_pointer(w, &mine);
        break;
    case IKV_KIND_WHEEL:
        take_wheel(w, &mine);
        break;
    case IKV_KIND_KEY_DOWN:
    case IKV_KIND_KEY_UP:
    case IKV_KIND_TEXT_INPUT:
        feed(w, &mine, w->keyboard);
        break;
    case IKV_KIND_WINDOW_BLUR:
        w->buttons = 0; /* the terminal tells of no release */
        feed(w, &mine, 0);
        break;
    case IKV_KIND_WINDOW_FOCUS:
        feed(w, &mine, 0);
        break;
    default:
        break;
    }
}
