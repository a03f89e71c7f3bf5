/* loop_only.c - a program that uses the queue, the bus and the loop alone, with
 * a port of its own: what it does not use is not linked. */
#include <ikvar/loop.h>

static IKV_ALIGNED(64) char blocks[3][1 << 20];
static ikv_sink *sink;
static uint64_t now_ns;

static ikv_status board_open(void *state, ikv_sink *to)
{
    (void)state;
    sink = to;
    return IKV_OK;
}

static uint64_t board_now(void *state)
{
    (void)state;
    return now_ns;
}

static void board_close(void *state)
{
    (void)state;
    sink = NULL;
}

static ikv_verdict count(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

static ikv_memory memory_of(int block)
{
    ikv_memory memory = {0};
    memory.block = blocks[block];
    memory.block_size = sizeof blocks[block];
    return memory;
}

int main(void)
{
    ikv_port port = IKV_PORT_INIT;
    ikv_queue_config queue_config = IKV_QUEUE_INIT;
    ikv_bus_config bus_config = IKV_BUS_INIT;
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_loop *loop;
    ikv_target everywhere = {0};
    ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    int calls = 0;
    queue_config.memory = memory_of(0);
    bus_config.memory = memory_of(1);
    config.memory = memory_of(2);
    port.capabilities = IKV_PORT_CLOCK;
    port.name = "board";
    port.open = board_open;
    port.now = board_now;
    port.close = board_close;
    config.ports = &port;
    config.port_count = 1;
    config.frame_hz = IKV_UNPACED;
    if (ikv_queue_open(&queue_config, &config.queue) < 0 ||
        ikv_bus_open(&bus_config, &config.bus) < 0 ||
        ikv_loop_open(&config, &loop) < 0 ||
        ikv_bus_hear(config.bus, IKV_KIND_KEY_DOWN, everywhere, count, &calls,
                     NULL) < 0)
        return 2;
    for (int frame = 0; frame < 3; frame++) {
        if (frame == 1)
            ikv_sink_push(sink, &event);
        ikv_loop_begin(loop);
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
        now_ns += 20000000;
    }
    ikv_loop_close(loop);
    return calls == 1 && sink == NULL ? 0 : 1;
}
