/* board.h - what the small programs share: a port of their own on a made-up
 * board, whose clock they turn, and blocks of memory. */
#include <ikvar/loop.h>

static IKV_ALIGNED(64) char blocks[6][1 << 20];
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

static ikv_port board_port(void)
{
    ikv_port port = IKV_PORT_INIT;
    port.capabilities = IKV_PORT_CLOCK;
    port.name = "board";
    port.open = board_open;
    port.now = board_now;
    port.close = board_close;
    return port;
}

static ikv_verdict count(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

/* One of the blocks, the first `size` bytes of it. */
static ikv_memory memory_of(int block, size_t size)
{
    ikv_memory memory = {0};
    memory.block = blocks[block];
    memory.block_size = size;
    return memory;
}
