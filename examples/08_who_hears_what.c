/* 08: the object's own handler against a global one: who hears what, also
 * after a stop. Prints the table that docs/dispatch.md shows.
 */
#include <ikvar/host.h>

#include <stdio.h>
#include <string.h>

static char heard[64];
static ikv_verdict verdict_of_object;

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *name)
{
    (void)event, (void)delivery;
    if (heard[0] != '\0')
        strncat(heard, ", ", sizeof heard - strlen(heard) - 1);
    strncat(heard, name, sizeof heard - strlen(heard) - 1);
    return strcmp(name, "object") == 0 ? verdict_of_object : IKV_CONTINUE;
}

static ikv_status subscribe(ikv_bus *bus, ikv_kind kind, ikv_target at,
                            uint32_t phases, int rank, char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.at = at;
    config.phases = phases;
    config.rank = rank;
    config.handler = hear;
    config.user = name;
    return ikv_bus_subscribe(bus, &config, NULL, NULL);
}

static void row(ikv_bus *bus, ikv_kind kind, ikv_target at, const char *where,
                ikv_verdict verdict, const char *returns)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.target = at;
    heard[0] = '\0';
    verdict_of_object = verdict;
    ikv_bus_deliver(bus, &event);
    printf("| %-13s | %-10s | %-8s | %-34s |\n",
           ikv_catalogue_info(NULL, kind)->name, where, returns, heard);
}

int main(void)
{
    static char object[] = "object", global[] = "global", early[] = "capturing",
                first[] = "rank -9";
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN,
                                     IKV_KIND_POINTER_ENTER};
    ikv_bus *bus;
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = ikv_host_memory();
    ikv_target lamp, everywhere = {0};
    if (ikv_bus_open(&config, &bus) < 0 ||
        ikv_bus_add_target(bus, 1, &lamp) < 0)
        return 1;
    for (int i = 0; i < 2; i++) {
        subscribe(bus, kinds[i], everywhere, 0, 0, global);
        subscribe(bus, kinds[i], everywhere, 0, -9, first);
        subscribe(bus, kinds[i], everywhere, IKV_CAPTURING, 0, early);
        subscribe(bus, kinds[i], lamp, 0, 0, object);
    }
    /* The bus finds no parents here: the path is the root and the lamp. */
    printf("| kind          | target     | object's | who hears it, in order   "
           "          |\n|---|---|---|---|\n");
    row(bus, IKV_KIND_POINTER_DOWN, lamp, "the object", 0, "continue");
    row(bus, IKV_KIND_POINTER_DOWN, lamp, "the object", IKV_STOP, "stop");
    row(bus, IKV_KIND_POINTER_DOWN, lamp, "the object", IKV_REFUSE, "refuse");
    row(bus, IKV_KIND_POINTER_DOWN, everywhere, "nothing", 0, "-");
    row(bus, IKV_KIND_POINTER_ENTER, lamp, "the object", 0, "continue");
    row(bus, IKV_KIND_POINTER_ENTER, lamp, "the object", IKV_STOP, "stop");
    ikv_bus_close(bus);
    return 0;
}
