/* 01: print every event, and end when Escape is released.
 *
 *   01_print_events         the terminal's own keys and mouse
 *   01_print_events TAPE    what a tape holds
 *
 * A press and a release are events of their own, and a held key's repeats are
 * marked; so ending on the release is one comparison.
 */
#include <ikvar/host.h>

#include <stdio.h>

static ikv_verdict print(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    char line[256];
    (void)delivery, (void)user;
    ikv_event_format(NULL, event, line, sizeof line);
    printf("%s\n", line);
    return IKV_CONTINUE;
}

static ikv_verdict end(const ikv_event *event, const ikv_delivery *delivery,
                       void *loop)
{
    (void)delivery;
    if (event->key.code == ikv_code_find("Escape"))
        ikv_loop_quit(loop);
    return IKV_CONTINUE;
}

static ikv_status open_port(const char *path, ikv_tape **tape, ikv_port *port,
                            ikv_message *message)
{
    ikv_terminal_config terminal = IKV_TERMINAL_INIT;
    ikv_sim_config sim = IKV_SIM_INIT;
    if (path == NULL)
        return ikv_terminal_open(&terminal, port, message);
    ikv_status status = ikv_tape_open(path, NULL, tape, message);
    sim.tape = *tape;
    return status == IKV_OK ? ikv_sim_open(&sim, port) : status;
}

int main(int argc, char **argv)
{
    ikv_tape *tape = NULL;
    ikv_port port;
    ikv_message message;
    if (open_port(argc > 1 ? argv[1] : NULL, &tape, &port, &message) < 0) {
        fprintf(stderr, "%s\n", message.text);
        return 1;
    }
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ikv_kit *kit;
    if (ikv_kit_open(&config, &kit) < 0)
        return 1;
    ikv_loop *loop = ikv_kit_loop(kit);

    /* Everything that comes in: the families that ports push. */
    ikv_subscription_config all = IKV_SUBSCRIPTION_INIT;
    all.families = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_WHEEL |
                   1u << IKV_FAMILY_KEY | 1u << IKV_FAMILY_TEXT |
                   1u << IKV_FAMILY_WINDOW;
    all.handler = print;
    ikv_bus_subscribe(ikv_kit_bus(kit), &all, NULL, NULL);
    ikv_target everywhere = {0};
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_KEY_UP, everywhere, end, loop,
                 NULL);

    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    ikv_kit_close(kit);
    if (tape != NULL)
        ikv_sim_close(&port);
    else
        ikv_terminal_close(&port);
    ikv_tape_close(tape);
    return 0;
}
