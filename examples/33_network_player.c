/* 33: a network player.
 *
 * A port of our own is the connection: what the other machine's player does
 * comes as action.feed, so the boat's handler can't tell it from a key. Since it
 * is input, it is recorded, and plays back without a network; what it holds ends
 * when the connection is lost. A computer player within the game calls
 * ikv_actions_feed() instead.
 */
#include "example.h"

enum {
    THERE = 1 /* the seat of who plays there; here it is 0 */
};

/* Stands for a socket: what arrives, and at which step of the sender. */
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
    c->sink = sink;
    c->device = ikv_sink_device(sink);
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
    uint32_t count = sizeof arriving / sizeof arriving[0];
    for (; c->read < count && arriving[c->read].ms <= now; c->read++) {
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
    example e = {0};
    ikv_tape_open(EXAMPLES "/network.tape.jsonl", NULL, &e.tape, NULL);
    ikv_sim_config sim = IKV_SIM_INIT;
    sim.tape = e.tape;
    example_check("the port", ikv_sim_open(&sim, &e.port));
    ikv_port ports[2] = {e.port, IKV_PORT_INIT};
    ports[1].name = "the connection";
    ports[1].state = &there;
    ports[1].open = connect_it;
    ports[1].poll = receive;
    ports[1].now = its_time;
    ports[1].close = disconnect;
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = ports;
    config.port_count = 2;
    config.actions.seats = 2;
    example_check("the kit", ikv_kit_open(&config, &e.kit));
    ikv_actions *actions = ikv_kit_actions(e.kit);
    there.kit = e.kit;
    ikv_actions_add(actions, IKV_MAIN_SET, "steer", &there.steer);
    ikv_actions_bind(actions, there.steer, "ArrowLeft|ArrowRight", NULL, NULL);
    ikv_actions_hear(actions, there.steer, IKV_ACTION_STARTED, turned, NULL,
                     NULL);
    ikv_actions_hear(actions, there.steer, IKV_ACTION_ENDED, turned, NULL,
                     NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
