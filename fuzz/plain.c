/* plain.c - plays files: PROGRAM FILE...; or makes input up, from a seed:
 * PROGRAM --made SEED COUNT, and prints a number of what each group was told
 * (look.c), which is another one if anything of it changes. With --tell after
 * it, all that was told goes to stderr. */
#include "fuzz.h"

enum {
    GROUP = 50,
    LONGEST = 1 << 12
};

static uint8_t bytes[1 << 20];

static int play(int count, char **paths)
{
    for (int i = 0; i < count; i++) {
        FILE *file = fopen(paths[i], "rb");
        if (file == NULL) {
            fprintf(stderr, "%s: can't be opened\n", paths[i]);
            return 2;
        }
        size_t size = fread(bytes, 1, sizeof bytes, file);
        fclose(file);
        LLVMFuzzerTestOneInput(bytes, size);
    }
    printf("%d files\n", count);
    return 0;
}

/* splitmix64 */
static uint64_t random64(uint64_t *seed)
{
    uint64_t z = *seed += UINT64_C(0x9e3779b97f4a7c15);
    z = (z ^ z >> 30) * UINT64_C(0xbf58476d1ce4e5b9);
    z = (z ^ z >> 27) * UINT64_C(0x94d049bb133111eb);
    return z ^ z >> 31;
}

static int make_up(uint64_t seed, uint32_t count)
{
    uint64_t sum = 0;
    for (uint32_t i = 0; i < count; i++) {
        size_t size = 64 + random64(&seed) % (LONGEST - 64);
        for (size_t at = 0; at < size; at++)
            bytes[at] = (uint8_t)random64(&seed);
        LLVMFuzzerTestOneInput(bytes, size);
        sum = sum * 31 + fuzz_sum();
        if (i % GROUP == GROUP - 1 || i + 1 == count) {
            printf("%u to %u: %016llx\n", i - i % GROUP, i,
                   (unsigned long long)sum);
            sum = 0;
        }
    }
    return 0;
}

int main(int argc, char **argv)
{
    fuzz_tells = argc == 5 && strcmp(argv[4], "--tell") == 0;
    if (argc - fuzz_tells == 4 && strcmp(argv[1], "--made") == 0)
        return make_up(strtoull(argv[2], NULL, 10),
                       (uint32_t)strtoul(argv[3], NULL, 10));
    return play(argc - 1, argv + 1);
}
