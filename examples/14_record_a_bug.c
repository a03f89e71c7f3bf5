/* 14: record a bug, and play it back.
 *
 * A gate counts boats in and out, and loses count when a boat is taken away
 * while it is held. The first run makes input up and is recorded; then its tape
 * is played, as often as you like, with the same outcome each time: put a
 * breakpoint where it says.
 */
#include <ikvar/host.h>

#include <stdio.h>

typedef struct gate {
    ikv_kit *kit;
    ikv_target boat;
    int held, presses;
    uint64_t bug_step; /* 0: it did not happen */
} gate;

static ikv_verdict press(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    gate *g = user;
    g->held++;
    g->presses++;
    if (g->held > 2 && g->bug_step == 0) /* put a breakpoint here */
        g->bug_step = delivery->step;
    (void)event;
    return IKV_CONTINUE;
}

static ikv_verdict let_go(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    (void)event, (void)delivery;
    ((gate *)user)->held--; /* cancels are forgotten: that is the bug */
    return IKV_CONTINUE;
}

/* Runs with that port; records to a file, or compares with a tape. */
static void run(ikv_port *port, const char *record, ikv_tape *tape)
{
    gate g = {0};
    ikv_recording *recording = NULL;
    ikv_comparison *comparison = NULL;
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &g.kit) < 0)
        return;
    ikv_target_config boat = IKV_TARGET_INIT;
    boat.shape = ikv_scene_rect(0, 0, 640, 360);
    ikv_bus *bus = ikv_kit_bus(g.kit);
    ikv_scene_add(ikv_kit_scene(g.kit), &boat, &g.boat, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, g.boat, press, &g, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_UP, g.boat, let_go, &g, NULL);
    ikv_recording_config where = IKV_RECORDING_INIT;
    where.path = record;
    where.kit = g.kit;
    if (record != NULL)
        ikv_recording_open(&where, &recording, NULL);
    else
        ikv_comparison_open(g.kit, tape, &comparison);
    ikv_loop *loop = ikv_kit_loop(g.kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    printf("%s: %d presses, the count goes wrong in step %d",
           record != NULL ? "recorded" : "played  ", g.presses,
           (int)g.bug_step);
    ikv_comparison_result result = ikv_comparison_close(comparison);
    printf(record != NULL                    ? "\n"
           : result.whole && !result.differs ? ", the same run\n"
                                             : ", another run!\n");
    ikv_recording_close(recording, NULL);
    ikv_kit_close(g.kit);
    ikv_sim_close(port);
}

int main(void)
{
    ikv_port port;
    ikv_sim_config made_up = IKV_SIM_INIT, played = IKV_SIM_INIT;
    made_up.seed = 14;
    made_up.until_ns = 20000000000;
    ikv_sim_open(&made_up, &port);
    run(&port, "bug.tape.jsonl", NULL);
    for (int i = 0; i < 2; i++) {
        if (ikv_tape_open("bug.tape.jsonl", NULL, &played.tape, NULL) < 0)
            return 1;
        ikv_sim_open(&played, &port);
        run(&port, NULL, played.tape);
        ikv_tape_close(played.tape);
    }
    return remove("bug.tape.jsonl");
}
