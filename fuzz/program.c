/* program.c - fuzzes programs of the interface: bytes become public calls of
 * all modules with wild values, outside and inside handlers. After each call at
 * rest all validators hold, and a model of the targets that are there agrees;
 * after each frame no call has been lost: what began has ended.
 *
 * A byte chooses the call, those behind it its arguments; handlers take their
 * calls from the same bytes. What is answered, heard and can be asked becomes
 * one number (look.c); so arguments are read one after another, in an order
 * that no compiler changes.
 */
#include "world.h"

static uint64_t run(const uint8_t *data, size_t size, bool plain, bool *twice)
{
    static world w;
    fuzz_begin();
    w = (world){.at = data, .end = data + size, .now = 1000, .plain = plain};
    open_world(&w);
    while (w.at < w.end && w.calls < 4000) {
        call(&w);
        MUST(w.running == 0);
        if (!w.crowded || w.calls % 16 == 0)
            fuzz_validate(w.kit);
        for (uint32_t i = 0; w.model && i < TARGETS; i++)
            MUST(w.alive[i] == (w.targets[i].bits != 0 &&
                                ikv_bus_target_alive(w.bus, w.targets[i])));
    }
    fuzz_look(w.kit, w.targets, TARGETS, w.twice);
    MUST(ikv_kit_close(w.kit) == IKV_OK);
    *twice = w.twice;
    return fuzz_sum();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    bool twice;
    uint64_t sum = run(data, size, false, &twice);
    if (twice)
        MUST(run(data, size, true, &twice) == sum);
    return 0;
}
