// lambdas: the harbour's lamp in C++17, with subscriptions that have a scope.
#include <ikvar/host.h>
#include <ikvar/ikvar.hpp>

#include <cstdio>

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
    return 0;
}
