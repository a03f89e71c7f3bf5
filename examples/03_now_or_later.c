/* 03: immediate and deferred, side by side.
 *
 * A horn is sounded three ways. Delivered, its handlers have run before the
 * call returns. Deferred to the step lane, they run after the step's code; to
 * the frame lane, at the frame's end.
 */
#include <ikvar/host.h>

#include <stdio.h>
#include <string.h>

static ikv_kind horn;

/* What its events carry in their own bytes: traces and conditions know it by
 * this. */
static const ikv_field horn_fields[] = {
    {"how", IKV_TYPE_U32, 0, "", "0 at once, 1 and 2 later", 0, 0}};
static const char *const ways[] = {"at once", "after the step",
                                   "at the frame's end"};

static ikv_verdict answer(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    uint32_t how;
    (void)delivery, (void)user;
    memcpy(&how, event->user, sizeof how);
    printf("      heard: %s\n", ways[how]);
    return IKV_CONTINUE;
}

static ikv_event sound(uint32_t how)
{
    ikv_event event = ikv_event_make(horn, 0);
    memcpy(event.user, &how, sizeof how);
    return event;
}

static void code_of_a_step(ikv_bus *bus)
{
    ikv_event now = sound(0);
    ikv_event step = sound(1);
    ikv_event frame = sound(2);
    printf("   defer to the frame lane\n");
    ikv_bus_defer(bus, IKV_FRAME_LANE, &frame);
    printf("   defer to the step lane\n");
    ikv_bus_defer(bus, IKV_STEP_LANE, &step);
    printf("   deliver\n");
    ikv_bus_deliver(bus, &now);
    printf("   the step's code is done\n");
}

int main(void)
{
    ikv_catalogue_config kinds = IKV_CATALOGUE_INIT;
    ikv_catalogue *catalogue;
    kinds.memory = ikv_host_memory();
    ikv_kind_config config_of_horn = IKV_KIND_CONFIG_INIT;
    config_of_horn.name = "horn.sounded";
    config_of_horn.when = "a horn was sounded";
    config_of_horn.fields = horn_fields;
    config_of_horn.field_count = 1;
    if (ikv_catalogue_open(&kinds, &catalogue) < 0 ||
        ikv_catalogue_register(catalogue, &config_of_horn, &horn, NULL) < 0)
        return 1;

    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.catalogue = catalogue;
    config.ports = &port;
    config.port_count = 1;
    ikv_kit *kit;
    if (ikv_kit_open(&config, &kit) < 0)
        return 1;
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_loop *loop = ikv_kit_loop(kit);
    ikv_target everywhere = {0};
    ikv_bus_hear(bus, horn, everywhere, answer, NULL, NULL);

    while (ikv_loop_begin(loop)) {
        bool stepped = false;
        while (ikv_loop_step(loop)) {
            printf("step\n");
            code_of_a_step(bus);
            stepped = true;
            ikv_loop_quit(loop); /* one step is enough here */
        }
        if (stepped)
            printf("draw\n");
        ikv_loop_end(loop);
    }
    printf("the frame is over\n");
    ikv_kit_close(kit);
    ikv_catalogue_close(catalogue);
    return 0;
}
