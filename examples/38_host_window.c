/* 38: a host that owns the window and its message loop.
 *
 * host_window.h has the port. While the window is dragged by its edge such a
 * host goes round in a loop of its own; its ticks come all the same, so the game
 * goes on, and what is anchored to the right edge stays there.
 */
#include "example.h"

/* What such hosts send, in pixels; here it is made up. */
typedef struct host_message {
    enum {
        TICK,
        SIZE,
        DENSITY,
        MOUSE,
        BUTTON,
        CLOSE
    } what;
    float a, b;
} host_message;

#include "host_window.h"

static const host_message before[] = {
    {SIZE, 640, 360}, {TICK, 0, 0},   {MOUSE, 600, 20}, {BUTTON, 1, 0},
    {TICK, 0, 0},     {BUTTON, 0, 0}, {TICK, 0, 0}};
static const host_message dragged[] = {
    {SIZE, 700, 360}, {TICK, 0, 0}, {SIZE, 800, 400}, {TICK, 0, 0}};
static const host_message after[] = {
    {DENSITY, 2, 0}, {TICK, 0, 0},  {MOUSE, 740, 40},
    {BUTTON, 1, 0},  {TICK, 0, 0},  {BUTTON, 0, 0},
    {TICK, 0, 0},    {CLOSE, 0, 0}, {TICK, 0, 0}};

static ikv_kit *kit;
static ikv_target bell; /* 60 units wide, at the right edge */

static ikv_verdict resized(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    (void)delivery, (void)user;
    ikv_scene_move(ikv_kit_scene(kit), bell, event->window.width - 60, 0);
    printf("%3u ms  the view is %g x %g\n", example_ms(event),
           (double)event->window.width, (double)event->window.height);
    return IKV_CONTINUE;
}

static ikv_verdict ring(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)user;
    printf("%3u ms  the bell rings, touched at %g, %g of its own\n",
           example_ms(event), (double)delivery->local_x,
           (double)delivery->local_y);
    return IKV_STOP;
}

static void send(adapter *a, const host_message *list, size_t count)
{
    for (size_t i = 0; i < count; i++)
        on_message(a, &list[i]);
}

/* As a system does it: it returns when the edge is let go. */
static void modal_loop(adapter *a)
{
    printf("        the host is in a loop of its own\n");
    send(a, dragged, sizeof dragged / sizeof dragged[0]);
    printf("        and back\n");
}

int main(void)
{
    adapter a = {.now_ns = 5000000000, .density = 1};
    ikv_port port = adapter_port(&a);
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_target none = {0};
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = IKV_UNPACED;
    example_check("the kit", ikv_kit_open(&config, &kit));
    a.loop = ikv_kit_loop(kit);
    example e = {.kit = kit};
    bell = example_rect(&e, none, 0, 0, 60, 60, NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_WINDOW_RESIZE, none, resized, NULL,
                 NULL);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_POINTER_CLICK, bell, ring, NULL,
                 NULL);
    send(&a, before, sizeof before / sizeof before[0]);
    modal_loop(&a);
    send(&a, after, sizeof after / sizeof after[0]);
    printf("it is over: %s\n", ikv_loop_begin(a.loop) ? "no" : "yes");
    ikv_kit_close(kit);
    return 0;
}
