// lambdas: the harbour's lamp in C++17, with subscriptions that have a scope.
#include <ikvar/host.h>
#include <ikvar/ikvar.hpp>

#include <cstdio>

// A whole kit: an action sails the ferry, a zone tells of it.
static bool sail()
{
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ikv_kit *kit = nullptr;
    ikv_target berth, ferry;
    ikv_target_config at = IKV_TARGET_INIT;
    ikv_action_id sailing;
    if (ikv_kit_open(&config, &kit) < 0)
        return false;
    ikv_scene *scene = ikv_kit_scene(kit);
    at.shape = ikv_scene_rect(0, 0, 20, 20);
    at.tags = 1;
    bool fine = ikv_scene_add(scene, &at, &ferry, nullptr) == IKV_OK;
    at.x = 100;
    fine = fine && ikv_scene_add(scene, &at, &berth, nullptr) == IKV_OK;
    ikv_sensing sensing = IKV_SENSING_INIT;
    sensing.senses = 1;
    ikv_actions *actions = ikv_kit_actions(kit);
    fine =
        fine &&
        ikv_overlaps_sense(ikv_kit_overlaps(kit), berth, &sensing) == IKV_OK &&
        ikv_actions_add(actions, IKV_MAIN_SET, "sail", &sailing) == IKV_OK;
    float x = 0;
    auto ahead = ikvar::hear(ikv_kit_bus(kit), sailing, IKV_ACTION_HELD,
                             [&](const ikv_event &event) {
                                 x += 30 * event.action.value;
                                 ikv_scene_move(scene, ferry, x, 0);
                             });
    auto moored =
        ikvar::hear(ikv_kit_bus(kit), IKV_KIND_OVERLAP_ENTER, berth,
                    [&](const ikv_event &, const ikv_delivery &delivery) {
                        std::printf("the ferry is in at %g, in step %u\n",
                                    static_cast<double>(x),
                                    static_cast<unsigned>(delivery.step));
                        ikv_loop_quit(ikv_kit_loop(kit));
                    });
    ikv_loop *loop = ikv_kit_loop(kit);
    while (fine && ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop))
            ikv_actions_feed(actions, sailing, 0, 0.5F, 0);
        ikv_loop_end(loop);
    }
    ahead.end();
    moored.end();
    ikv_kit_close(kit);
    return fine;
}

int main()
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = ikv_host_memory();
    ikv_bus *bus = nullptr;
    ikv_target lamp;
    if (ikv_bus_open(&config, &bus) < 0 ||
        ikv_bus_add_target(bus, 1, &lamp) < 0)
        return 1;
    ikv_event tap = ikv_event_make(IKV_KIND_POINTER_CLICK, 0);
    tap.target = lamp;
    bool lit = false;
    int nights = 0;
    auto light = ikvar::hear(bus, IKV_KIND_POINTER_CLICK, lamp,
                             [&](const ikv_event &) { lit = !lit; });
    {
        auto keeper = ikvar::hear(
            bus, IKV_KIND_POINTER_CLICK, {0},
            [&](const ikv_event &, const ikv_delivery &delivery) {
                nights += lit;
                std::printf("the keeper sees the lamp %s\n",
                            lit ? "lit" : "dark");
                return delivery.phase == IKV_BUBBLING ? IKV_CONTINUE : IKV_STOP;
            });
        ikv_bus_deliver(bus, &tap);
        ikv_bus_deliver(bus, &tap);
    } // the keeper goes home
    ikv_bus_deliver(bus, &tap);
    std::printf("lit: %s, nights: %d\n", lit ? "yes" : "no", nights);
    light.end();

    ikv_bus_close(bus);
    return sail() ? 0 : 1;
}
