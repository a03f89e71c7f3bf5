/* 07: a worker thread that defers its results into the frame.
 *
 * The worker computes the tide, and sends each result with ikv_bus_defer_any();
 * the loop's thread hears them when it flushes the lane, so that no handler
 * ever runs on the worker's thread.
 */
#include <ikvar/host.h>

#include <pthread.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>

static ikv_kind tide;

/* In the event's own bytes; the catalogue knows it, and so do traces and
 * conditions. */
typedef struct tide_data {
    float height;
    uint32_t hour;
} tide_data;

static const ikv_field tide_fields[] = {
    {"height", IKV_TYPE_F32, offsetof(tide_data, height), "m",
     "above the lowest water", 0, 0},
    {"hour", IKV_TYPE_U32, offsetof(tide_data, hour), "h", "of the day", 0, 0}};

typedef struct harbour {
    pthread_t thread;
    int heard;
    float height;
} harbour;

static ikv_verdict take(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    harbour *h = user;
    (void)delivery;
    h->heard++;
    tide_data data;
    memcpy(&data, event->user, sizeof data);
    h->height = data.height;
    if (!pthread_equal(pthread_self(), h->thread))
        printf("this must never be printed\n");
    return IKV_CONTINUE;
}

static void *work(void *bus)
{
    for (int hour = 0; hour < 24;) {
        int from_noon = hour < 12 ? hour : 24 - hour;
        ikv_event event = ikv_event_make(tide, 0);
        tide_data data = {(float)from_noon * 0.25f, (uint32_t)hour};
        memcpy(event.user, &data, sizeof data);
        if (ikv_bus_defer_any(bus, IKV_FRAME_LANE, &event) == IKV_OK)
            hour++; /* a full inbox: try again */
    }
    return NULL;
}

int main(void)
{
    harbour h = {pthread_self(), 0, 0};
    ikv_catalogue *catalogue;
    ikv_catalogue_config kinds = IKV_CATALOGUE_INIT;
    kinds.memory = ikv_host_memory();
    ikv_kind_config kind = IKV_KIND_CONFIG_INIT;
    kind.name = "tide.computed";
    kind.fields = tide_fields;
    kind.field_count = 2;
    if (ikv_catalogue_open(&kinds, &catalogue) < 0 ||
        ikv_catalogue_register(catalogue, &kind, &tide, NULL) < 0)
        return 1;
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.catalogue = catalogue;
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = 1000;
    config.bus.inbox = 8; /* smaller than what is sent: the worker waits */
    ikv_kit *kit;
    if (ikv_kit_open(&config, &kit) < 0)
        return 1;
    ikv_target everywhere = {0};
    ikv_bus_hear(ikv_kit_bus(kit), tide, everywhere, take, &h, NULL);

    pthread_t worker;
    if (pthread_create(&worker, NULL, work, ikv_kit_bus(kit)) != 0)
        return 1;
    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop); /* the frame lane: handlers run here */
        if (h.heard == 24)
            ikv_loop_quit(loop);
    }
    pthread_join(worker, NULL);
    printf("%d results heard on the loop's thread; the last is %g\n", h.heard,
           (double)h.height);
    ikv_kit_close(kit);
    ikv_catalogue_close(catalogue);
    return 0;
}
