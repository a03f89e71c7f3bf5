/* 04: your own handlers, bound to a setup file.
 *
 * The file says what there is and who wants to hear what; a handler in it that
 * has no reactions is bound to C by its name. Taps come from a tape.
 */
#include <ikvar/host.h>

#include <stdio.h>

typedef struct harbour {
    ikv_setup *setup;
    int fares;
} harbour;

static ikv_verdict sell_ticket(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    harbour *h = user;
    (void)event;
    h->fares += 3;
    printf("a ticket for the %s: %d in the till\n",
           ikv_setup_target_name(h->setup, delivery->current), h->fares);
    return IKV_CONTINUE;
}

static ikv_verdict close_gate(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    const harbour *h = user;
    (void)delivery;
    printf("%s is let go: the gate closes\n", ikv_code_name(event->key.code));
    return h->fares > 0 ? IKV_CONTINUE : IKV_STOP;
}

static void print_note(const char *note, void *user)
{
    (void)user;
    printf("   setup: %s\n", note);
}

static int fail(const char *text)
{
    fprintf(stderr, "%s\n", text);
    return 1;
}

int main(void)
{
    harbour h = {NULL, 0};
    ikv_message message = {"it can't be opened"};
    if (ikv_setup_read(EXAMPLES "/tickets.setup.json", &h.setup, &message) < 0)
        return fail(message.text);
    if (ikv_setup_bind(h.setup, "sell_ticket", sell_ticket, &h) < 0 ||
        ikv_setup_bind(h.setup, "close_gate", close_gate, &h) < 0)
        return fail("the setup has no such handler");
    ikv_setup_set_note(h.setup, print_note, NULL);

    ikv_tape *tape;
    ikv_port port;
    ikv_sim_config sim = IKV_SIM_INIT;
    if (ikv_tape_open(EXAMPLES "/tickets.tape.jsonl", h.setup, &tape,
                      &message) < 0)
        return fail(message.text);
    sim.tape = tape;
    ikv_kit *kit;
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    ikv_setup_size(h.setup, &config);
    if (ikv_sim_open(&sim, &port) < 0 || ikv_kit_open(&config, &kit) < 0 ||
        ikv_setup_apply(h.setup, kit, 0, &message) < 0)
        return fail(message.text);

    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    ikv_kit_close(kit);
    ikv_sim_close(&port);
    ikv_tape_close(tape);
    ikv_setup_close(h.setup);
    return 0;
}
