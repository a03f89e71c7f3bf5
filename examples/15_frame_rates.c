/* 15: one tape at three frame rates, one digest.
 *
 * Steps are fixed and input is routed in the step that its time belongs to; so
 * what happens does not depend on how often frames are drawn. The digest is one
 * number for all deliveries of a run.
 */
#include <ikvar/digest.h>
#include <ikvar/host.h>

#include <stdio.h>

typedef struct tug {
    ikv_kit *kit;
    ikv_target target;
    ikv_digest digest;
    float speed;
} tug;

static ikv_verdict pull(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    tug *t = user;
    (void)event;
    t->speed += delivery->local_x > 20 ? 0.25f : -0.25f;
    return IKV_CONTINUE;
}

/* Each step, whatever the frame rate. */
static ikv_verdict sail(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    tug *t = user;
    float at[2], view[2];
    (void)event, (void)delivery;
    ikv_scene_position(ikv_kit_scene(t->kit), t->target, at, view);
    ikv_scene_move(ikv_kit_scene(t->kit), t->target, at[0] + t->speed, at[1]);
    return IKV_CONTINUE;
}

static void watch(const ikv_watch *seen, void *user)
{
    tug *t = user;
    ikv_digest_add(&t->digest, ikv_kit_bus(t->kit), seen);
}

static void run(uint32_t frame_hz)
{
    tug t = {.digest = IKV_DIGEST_INIT};
    ikv_port port;
    ikv_message message;
    ikv_target everywhere = {0};
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_target_config shape = IKV_TARGET_INIT;
    if (ikv_tape_open(EXAMPLES "/frame_rates.tape.jsonl", NULL, &sim.tape,
                      &message) < 0) {
        puts(message.text);
        return;
    }
    ikv_sim_open(&sim, &port);
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = frame_hz;
    if (ikv_kit_open(&config, &t.kit) < 0)
        return;
    shape.x = 100;
    shape.y = 40;
    shape.shape = ikv_scene_rect(0, 0, 40, 20);
    ikv_scene_add(ikv_kit_scene(t.kit), &shape, &t.target, NULL);
    ikv_bus *bus = ikv_kit_bus(t.kit);
    ikv_bus_hear(bus, IKV_KIND_POINTER_MOVE, t.target, pull, &t, NULL);
    ikv_bus_hear(bus, IKV_KIND_LOOP_STEP, everywhere, sail, &t, NULL);
    ikv_bus_add_watcher(bus, IKV_DIGEST_WANTS, watch, &t);
    ikv_loop *loop = ikv_kit_loop(t.kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    ikv_loop_counts count = IKV_LOOP_COUNTS_INIT;
    ikv_loop_counters(loop, &count);
    printf("%4u frames a second: %4u frames, %u steps, digest %016llx\n",
           (unsigned)frame_hz, (unsigned)count.frames, (unsigned)count.steps,
           (unsigned long long)t.digest.value);
    ikv_kit_close(t.kit);
    ikv_sim_close(&port);
    ikv_tape_close(sim.tape);
}

int main(void)
{
    run(24);
    run(60);
    run(1000);
    return 0;
}
