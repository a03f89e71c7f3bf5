/* tape.c - fuzzes tapes: what is read plays, records and plays again the same,
 * what is cut and joined is the whole, and both forms are the same. */
#include "fuzz.h"

#include <unistd.h>

enum {
    FRAMES = 120
};

typedef struct play {
    ikv_comparison_result result;
    bool whole; /* the run came to its end, without a fault */
} play;

static play play_tape(const char *path, const char *recorded)
{
    play p = {{0}, false};
    ikv_setup *setup = fuzz_setup();
    ikv_tape *tape;
    ikv_port port;
    ikv_message message = {""};
    ikv_recording *recording = NULL;
    ikv_comparison *comparison;
    ikv_sim_config sim = IKV_SIM_INIT;
    if (ikv_tape_open(path, setup, &tape, &message) < 0) {
        fuzz_told(IKV_BAD_FILE, &message);
        ikv_setup_close(setup);
        return p;
    }
    sim.tape = tape;
    MUST(ikv_sim_open(&sim, &port) == IKV_OK);
    ikv_kit *kit = fuzz_kit(setup, &port);
    ikv_loop *loop = ikv_kit_loop(kit);
    if (recorded != NULL) {
        ikv_recording_config config = IKV_RECORDING_INIT;
        config.path = recorded;
        config.kit = kit;
        config.setup = setup;
        MUST(ikv_recording_open(&config, &recording, &message) == IKV_OK);
    }
    MUST(ikv_comparison_open(kit, tape, &comparison) == IKV_OK);
    /* One question a tape, each time another one. */
    static uint32_t turn;
    ikv_why *why = recorded != NULL
                       ? fuzz_ask(kit, setup, 1 + turn % 4, turn / 4 % 12, NULL)
                       : NULL;
    turn++;
    int frames = 0;
    while (frames++ < FRAMES && ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
        fuzz_validate(kit);
    }
    fuzz_answer(why);
    p.whole = frames <= FRAMES && ikv_sim_fault(&port) == NULL;
    ikv_status status = ikv_recording_close(recording, &message);
    MUST(status == IKV_OK);
    p.result = ikv_comparison_close(comparison);
    ikv_kit_close(kit);
    ikv_sim_close(&port);
    ikv_tape_close(tape);
    ikv_setup_close(setup);
    return p;
}

static void must_be_same(const char *path, const play *first)
{
    play again = play_tape(path, NULL);
    MUST(again.whole);
    MUST(again.result.digest == first->result.digest);
    MUST(again.result.deliveries == first->result.deliveries);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    char path[64], recorded[96], parts[2][96], joined[96], other[96];
    /* Both forms of tapes are read; which one is written first turns. */
    const char *form = size % 2 == 0 ? "" : ".cbor";
    snprintf(path, sizeof path, "%s", fuzz_file(data, size, ".tape.jsonl"));
    snprintf(recorded, sizeof recorded, "%s.recorded%s", path, form);
    snprintf(parts[0], sizeof parts[0], "%s.1", path);
    snprintf(parts[1], sizeof parts[1], "%s.2", path);
    snprintf(joined, sizeof joined, "%s.joined", path);
    snprintf(other, sizeof other, "%s.other%s", path,
             size % 2 == 0 ? ".cbor" : "");
    play first = play_tape(path, recorded);
    if (!first.whole)
        return 0;
    must_be_same(recorded, &first);
    ikv_message message = {""};
    ikv_setup *setup = fuzz_setup();
    MUST(ikv_tape_convert(recorded, other, setup, &message) == IKV_OK);
    must_be_same(other, &first);
    MUST(ikv_tape_convert(path, other, setup, &message) == IKV_OK);
    must_be_same(other, &first);
    ikv_setup_close(setup);
    uint64_t at = 1 + (size > 0 ? data[size / 2] : 0) * 3000000ull;
    ikv_tape_part whole[] = {{recorded, 0, at}, {recorded, at, 0}};
    ikv_tape_part both[] = {{parts[0], 0, 0}, {parts[1], 0, 0}};
    MUST(ikv_tape_join(&whole[0], 1, parts[0], &message) == IKV_OK);
    MUST(ikv_tape_join(&whole[1], 1, parts[1], &message) == IKV_OK);
    MUST(ikv_tape_join(both, 2, joined, &message) == IKV_OK);
    must_be_same(joined, &first);
    ikv_status status = ikv_tape_join(
        (ikv_tape_part[]){{path, at, 0}, {path, 0, at}}, 2, joined, &message);
    /* What went well says nothing but what was left out. */
    if (status == IKV_OK && strstr(message.text, " is torn after ") != NULL)
        message.text[0] = '\0';
    fuzz_told(status, &message);
    remove(other);
    remove(joined);
    remove(recorded);
    remove(parts[0]);
    remove(parts[1]);
    return 0;
}
