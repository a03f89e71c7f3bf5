/* loop_only.c - a program that uses the queue, the bus and the loop alone, with
 * a port of its own: what it does not use is not linked. */
#include "board.h"

int main(void)
{
    ikv_port port = board_port();
    ikv_queue_config queue = IKV_QUEUE_INIT;
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_loop_config config = IKV_LOOP_INIT;
    ikv_loop *loop;
    ikv_target everywhere = {0};
    ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    int calls = 0;
    queue.memory = memory_of(0, sizeof blocks[0]);
    bus.memory = memory_of(1, sizeof blocks[1]);
    config.memory = memory_of(2, sizeof blocks[2]);
    config.ports = &port;
    config.port_count = 1;
    config.frame_hz = IKV_UNPACED;
    if (ikv_queue_open(&queue, &config.queue) < 0 ||
        ikv_bus_open(&bus, &config.bus) < 0 ||
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
