/* example.h - what the examples share: a kit that plays a tape of this folder.
 *
 * A game opens its ports instead (11 shows the same in a window's program, 17
 * where the host owns the loop), and goes on until it is told to stop.
 */
#ifndef EXAMPLE_H
#define EXAMPLE_H

#include <ikvar/host.h>

#include <stdio.h>
#include <stdlib.h>

typedef struct example {
    ikv_tape *tape;
    ikv_port port, ports[2];
    ikv_kit *kit;
} example;

/* Ends the program, with what went wrong. */
static inline void example_check(const char *what, ikv_status status)
{
    if (status >= 0)
        return;
    fprintf(stderr, "%s: %s\n", what, ikv_status_text(status));
    exit(1);
}

/*   wanted  what it shall have beside the port, another port too; NULL: the
 *           defaults */
static inline example example_open(const char *tape,
                                   const ikv_kit_config *wanted)
{
    example e = {0};
    ikv_message message;
    char path[512];
    ikv_sim_config sim = IKV_SIM_INIT;
    snprintf(path, sizeof path, EXAMPLES "/%s", tape);
    if (ikv_tape_open(path, NULL, &e.tape, &message) < 0) {
        fprintf(stderr, "%s\n", message.text);
        exit(1);
    }
    sim.tape = e.tape;
    example_check("the port", ikv_sim_open(&sim, &e.port));
    ikv_kit_config config = IKV_KIT_INIT;
    if (wanted != NULL)
        config = *wanted;
    config.memory = ikv_host_memory();
    e.ports[0] = e.port;
    if (config.port_count > 0)
        e.ports[1] = config.ports[0];
    config.ports = e.ports; /* copied on opening */
    config.port_count = config.port_count > 0 ? 2 : 1;
    example_check("the kit", ikv_kit_open(&config, &e.kit));
    return e;
}

/* A target with that rectangle, from its own origin on. */
static inline ikv_target example_rect(const example *e, ikv_target parent,
                                      float x, float y, float width,
                                      float height, void *user)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0};
    config.parent = parent;
    config.x = x;
    config.y = y;
    config.shape = ikv_scene_rect(0, 0, width, height);
    config.user = user;
    example_check("a target",
                  ikv_scene_add(ikv_kit_scene(e->kit), &config, &target, NULL));
    return target;
}

/* Plays the tape to its end. */
static inline void example_play(const example *e)
{
    ikv_loop *loop = ikv_kit_loop(e->kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
}

static inline void example_close(example *e)
{
    ikv_kit_close(e->kit);
    ikv_sim_close(&e->port);
    ikv_tape_close(e->tape);
}

static inline unsigned example_ms(const ikv_event *event)
{
    return (unsigned)(event->time_ns / 1000000);
}

#endif
