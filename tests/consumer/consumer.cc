// consumer.cc - core and host from an installed copy, in C++17.
#include <ikvar/host.h>

int main()
{
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ikv_kit *kit = nullptr;
    if (ikv_kit_open(&config, &kit) != IKV_OK)
        return 1;
    int frames = 0;
    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        if (++frames == 2)
            ikv_loop_quit(loop);
        ikv_loop_end(loop);
    }
    ikv_kit_close(kit);
    return frames == 2 ? 0 : 1;
}
