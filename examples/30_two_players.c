/* 30: two players join.
 *
 * Whoever presses a pad's first button gets the next seat, and a boat with it.
 * From then on the pad's events bear that seat: one handler steers all boats.
 * When a pad is pulled out its boat waits; plugged in, whoever holds it joins
 * anew.
 */
#include "example.h"

enum {
    CROWD, /* the seat of whoever has not joined: of all that is plugged in */
    BOATS = 2
};

static ikv_kit *kit;
static const char *const boats[] = {"the crowd", "the red boat",
                                    "the blue boat"};
static uint16_t sailed_by[BOATS + 1]; /* devices, by seat */

static ikv_verdict join(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    if (event->seat != CROWD)
        return IKV_CONTINUE;
    for (unsigned seat = 1; seat <= BOATS; seat++)
        if (sailed_by[seat] == 0) {
            sailed_by[seat] = event->device;
            ikv_loop_set_seat(ikv_kit_loop(kit), event->device, (uint8_t)seat);
            return IKV_CONTINUE;
        }
    printf("%4u ms  no boat is left for pad %u\n", example_ms(event),
           (unsigned)event->device);
    return IKV_CONTINUE;
}

/* The loop says when it has come into effect. */
static ikv_verdict seated(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    (void)delivery, (void)user;
    printf("%4u ms  pad %u sails %s\n", example_ms(event),
           (unsigned)event->device, boats[event->seat]);
    return IKV_CONTINUE;
}

static ikv_verdict gone(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    sailed_by[event->seat] = 0;
    printf("%4u ms  %s waits\n", example_ms(event), boats[event->seat]);
    return IKV_CONTINUE;
}

static ikv_verdict steer(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)delivery, (void)user;
    if (event->seat != CROWD)
        printf("%4u ms  %s turns to %s\n", example_ms(event),
               boats[event->seat], event->action.x < 0 ? "port" : "starboard");
    return IKV_CONTINUE;
}

int main(void)
{
    ikv_kit_config config = IKV_KIT_INIT;
    config.actions.seats = 1 + BOATS; /* who is told apart */
    example e = example_open("two_players.tape.jsonl", &config);
    ikv_action_id joining = {0}, steering = {0};
    kit = e.kit;
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_actions_add(actions, IKV_MAIN_SET, "join", &joining);
    ikv_actions_bind(actions, joining, "pad.0", NULL, NULL);
    ikv_actions_hear(actions, joining, IKV_ACTION_STARTED, join, NULL, NULL);
    ikv_actions_add(actions, IKV_MAIN_SET, "steer", &steering);
    ikv_actions_bind(actions, steering, "pad.axis0-|pad.axis0+", NULL, NULL);
    ikv_actions_hear(actions, steering, IKV_ACTION_STARTED, steer, NULL, NULL);
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_target root = ikv_bus_root(bus);
    ikv_bus_hear(bus, IKV_KIND_DEVICE_SEAT, root, seated, NULL, NULL);
    ikv_bus_hear(bus, IKV_KIND_DEVICE_REMOVE, root, gone, NULL, NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
