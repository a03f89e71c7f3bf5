/* image.c - fuzzes images: one that was changed anywhere, or cut, is refused
 * and nothing has changed; the one that was saved is restored, but for what
 * never goes back. */
#include "fuzz.h"

typedef struct world {
    ikv_setup *setup;
    ikv_port port;
    ikv_kit *kit;
} world;

static void frames(world *w, int count)
{
    ikv_loop *loop = ikv_kit_loop(w->kit);
    for (int i = 0; i < count && ikv_loop_begin(loop); i++) {
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
    fuzz_validate(w->kit);
}

/* Bytes in which two images of one kit differ, behind their heads, which bear a
 * number of their own and the sum. */
static size_t differing(const uint8_t *a, const uint8_t *b, size_t length)
{
    size_t count = 0;
    for (size_t i = 64; i < length; i++)
        count += a[i] != b[i];
    return count;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static uint8_t image[1 << 23], spoilt[1 << 23], after[1 << 23];
    world w = {.setup = fuzz_setup()};
    ikv_sim_config sim = IKV_SIM_INIT;
    if (size < 4) {
        ikv_setup_close(w.setup);
        return 0;
    }
    sim.seed = 1 + data[0];
    sim.view_width = 64;
    sim.view_height = 36;
    MUST(ikv_sim_open(&sim, &w.port) == IKV_OK);
    w.kit = fuzz_kit(w.setup, &w.port);
    frames(&w, data[1] % 64);
    ikv_parts parts = ikv_kit_parts(w.kit);
    size_t length = ikv_image_size(&parts);
    MUST(length > 0 && length <= sizeof image);
    MUST(ikv_image_save(&parts, image, length) == IKV_OK);
    memcpy(spoilt, image, length);
    bool changed = false;
    size_t shorter = length;
    for (size_t i = 2; i + 4 <= size; i += 4) {
        size_t at = (size_t)(data[i] | data[i + 1] << 8 | data[i + 2] << 16);
        spoilt[at % length] ^= data[i + 3];
        changed = memcmp(spoilt, image, length) != 0;
    }
    if (data[size - 1] == 0)
        shorter = length - 1 - data[size - 2] % length;
    frames(&w, 3);
    MUST(ikv_image_save(&parts, after, length) == IKV_OK);
    ikv_status status = ikv_image_restore(&parts, spoilt, shorter, NULL, 0);
    MUST((status == IKV_OK) == (!changed && shorter == length));
    if (status < 0) {
        fuzz_validate(w.kit);
        static uint8_t now[1 << 23];
        MUST(ikv_image_save(&parts, now, length) == IKV_OK);
        MUST(differing(now, after, length) == 0);
        MUST(ikv_image_restore(&parts, image, length, NULL, 0) == IKV_OK);
    }
    MUST(ikv_image_save(&parts, after, length) == IKV_OK);
    /* But for the count of subscriptions, which never goes back. */
    MUST(differing(image, after, length) <= sizeof(uint64_t));
    frames(&w, 3);
    ikv_kit_close(w.kit);
    ikv_sim_close(&w.port);
    ikv_setup_close(w.setup);
    return 0;
}
