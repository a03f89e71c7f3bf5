/* 33: a network player.
 *
 * A port of our own is the connection: what the other machine's player does
 * comes as action.feed, so the boat's handler can't tell it from a key. It is
 * recorded, plays back without a network, and what it holds ends with the
 * connection. A computer player calls ikv_actions_feed() instead.
 */
#include "example.h"

enum {
    THERE = 1 /* the seat of who plays there; here it is 0 */
};

/* Stands for a socket: what arrives. */
static const struct message {
    uint64_t ms;
    float x;
} arriving[] = {{100, -1}, {300, 0}, {500, 1}};

typedef struct connection {
    ikv_sink *sink;
    const ikv_kit *kit;
    ikv_action_id steer;
    uint16_t device;
    uint32_t read;
} connection;

static ikv_status connect_it(void *state, ikv_sink *sink)
{
    connection *c = state;
    c->device = ikv_sink_device(c->sink = sink);
    return IKV_OK;
}

/* Of its clock, which the loop brings to its own. Here it has that one. */
static uint64_t its_time(void *state)
{
    const connection *c = state;
    return ikv_loop_clock_ns(ikv_kit_loop(c->kit));
}

static void disconnect(void *state)
{
    (void)state;
}

static ikv_status receive(void *state)
{
    connection *c = state;
    uint64_t now = its_time(c) / 1000000;
    for (; c->read < 3 && arriving[c->read].ms <= now; c->read++) {
        ikv_event event = ikv_event_make(IKV_KIND_ACTION_FEED,
                                         arriving[c->read].ms * 1000000);
        event.device = c->device;
        event.seat = THERE;
        event.action.action = c->steer.bits;
        event.action.x = arriving[c->read].x;
        ikv_sink_push(c->sink, &event);
    }
    return now < 700 ? IKV_OK : IKV_ENDED; /* it breaks off */
}

static ikv_verdict turned(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    static const char *const by[] = {"here", "there"};
    const char *how = event->kind == IKV_KIND_ACTION_END ? "lies still"
                      : event->action.x < 0              ? "turns to port"
                                                         : "turns to starboard";
    (void)delivery, (void)user;
    printf("%4u ms  the boat of the player %s %s\n", example_ms(event),
           by[event->seat], how);
    return IKV_CONTINUE;
}

int main(void)
{
    connection there = {0};
    ikv_port port = IKV_PORT_INIT;
    port.state = &there;
    port.open = connect_it;
    port.poll = receive;
    port.now = its_time;
    port.close = disconnect;
    ikv_kit_config config = IKV_KIT_INIT;
    config.ports = &port;
    config.port_count = 1;
    config.actions.seats = 2;
    example e = example_open("network.tape.jsonl", &config);
    ikv_actions *actions = ikv_kit_actions(e.kit);
    there.kit = e.kit;
    ikv_actions_add(actions, IKV_MAIN_SET, "steer", &there.steer);
    ikv_actions_bind(actions, there.steer, "ArrowLeft|ArrowRight", NULL, NULL);
    for (uint32_t state = IKV_ACTION_STARTED; state <= IKV_ACTION_ENDED;
         state += 2)
        ikv_actions_hear(actions, there.steer, state, turned, NULL, NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
