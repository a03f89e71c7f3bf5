/* setup.c - fuzzes setups: what is read can be applied or says why not, and
 * then runs with made-up input. */
#include "fuzz.h"

enum {
    FRAMES = 40
};

static void run(ikv_setup *setup)
{
    ikv_kit *kit;
    ikv_port port;
    ikv_message message = {""};
    ikv_sim_config sim = IKV_SIM_INIT;
    ikv_kit_config config = IKV_KIT_INIT;
    sim.seed = 5;
    ikv_setup_view(setup, &sim.view_width, &sim.view_height);
    MUST(ikv_sim_open(&sim, &port) == IKV_OK);
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    MUST(ikv_setup_size(setup, &config) == IKV_OK);
    if (ikv_kit_open(&config, &kit) == IKV_OK) {
        ikv_status status =
            ikv_setup_apply(setup, kit, IKV_APPLY_UNBOUND, &message);
        fuzz_told(status, &message);
        ikv_loop *loop = ikv_kit_loop(kit);
        static uint32_t turn;
        ikv_why *why[4] = {NULL, NULL, NULL, NULL};
        ikv_why_past *past = NULL;
        ikv_review *review = NULL;
        uint32_t asked = turn++ % 8;
        if (status == IKV_OK) {
            MUST(ikv_setup_survey(setup, fuzz_mistake, NULL) == IKV_OK);
            MUST(ikv_why_watch(kit, 1 + turn * 13 % 300, &past) == IKV_OK);
            MUST(ikv_review_open(kit, setup, &review) == IKV_OK);
        }
        for (uint32_t i = 0; i < 4 && status == IKV_OK; i++)
            why[i] = fuzz_ask(kit, setup, 1 + i, (asked + i) % 8, NULL);
        for (int i = 0; i < FRAMES && ikv_loop_begin(loop); i++) {
            while (ikv_loop_step(loop)) {
            }
            ikv_loop_end(loop);
            fuzz_validate(kit);
        }
        for (uint32_t i = 0; i < 4; i++)
            fuzz_answer(why[i]);
        for (uint32_t i = 0; i < 4 && past != NULL; i++)
            fuzz_answer(fuzz_ask(kit, setup, 1 + i, (asked + i) % 8, past));
        if (review != NULL)
            MUST(ikv_review_tell(review, fuzz_mistake, NULL) == IKV_OK);
        MUST(ikv_review_close(review) == IKV_OK);
        MUST(ikv_why_unwatch(past) == IKV_OK);
        ikv_kit_close(kit);
    }
    ikv_sim_close(&port);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    ikv_setup *setup;
    ikv_message message = {""};
    ikv_status status =
        ikv_setup_read(fuzz_file(data, size, ".setup.json"), &setup, &message);
    fuzz_told(status, &message);
    if (status < 0)
        return 0;
    for (uint32_t i = 0; ikv_setup_mistake(setup, i) != NULL; i++)
        fuzz_mistake(ikv_setup_mistake(setup, i), NULL);
    run(setup);
    ikv_setup_close(setup);
    return 0;
}
