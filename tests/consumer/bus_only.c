/* bus_only.c - a program that uses the queue and the bus alone: what it does not
 * use is not linked. */
#include <ikvar/bus.h>
#include <ikvar/queue.h>

static IKV_ALIGNED(64) char blocks[2][1 << 20];

static ikv_verdict count(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

int main(void)
{
    ikv_queue_config queue_config = IKV_QUEUE_INIT;
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_queue *queue;
    ikv_bus *bus;
    ikv_target everywhere = {0};
    ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    int calls = 0;
    queue_config.memory.block = blocks[0];
    queue_config.memory.block_size = sizeof blocks[0];
    bus_config.memory.block = blocks[1];
    bus_config.memory.block_size = sizeof blocks[1];
    if (ikv_queue_open(&queue_config, &queue) < 0 ||
        ikv_bus_open(&bus_config, &bus) < 0 ||
        ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, everywhere, count, &calls, NULL) <
            0 ||
        ikv_queue_push(queue, &event) < 0)
        return 2;
    while (ikv_queue_drain(queue, &event, 1) > 0)
        ikv_bus_deliver(bus, &event);
    return calls == 1 ? 0 : 1;
}
