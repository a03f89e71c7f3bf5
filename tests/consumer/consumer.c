/* consumer.c - the core alone, from an installed copy, in a buffer of one's
 * own. */
#include <ikvar/ikvar.h>

static _Alignas(64) char block[1 << 20];
static int heard;

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)event, (void)delivery, (void)user;
    heard++;
    return IKV_CONTINUE;
}

int main(void)
{
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_bus *bus;
    ikv_target everywhere = {0};
    config.subscriptions = 16;
    config.memory.block = block;
    config.memory.block_size = sizeof block;
    if (ikv_bus_open(&config, &bus) != IKV_OK ||
        ikv_bus_hear(bus, IKV_KIND_KEY_UP, everywhere, hear, 0, 0) != IKV_OK)
        return 1;
    ikv_event event = ikv_event_make(IKV_KIND_KEY_UP, 0);
    ikv_bus_deliver(bus, &event);
    ikv_bus_close(bus);
    return heard == 1 ? 0 : 1;
}
