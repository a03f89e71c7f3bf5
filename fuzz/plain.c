/* plain.c - plays files: PROGRAM FILE... */
#include "fuzz.h"

int main(int argc, char **argv)
{
    for (int i = 1; i < argc; i++) {
        FILE *file = fopen(argv[i], "rb");
        if (file == NULL) {
            fprintf(stderr, "%s: can't be opened\n", argv[i]);
            return 2;
        }
        static uint8_t bytes[1 << 20];
        size_t size = fread(bytes, 1, sizeof bytes, file);
        fclose(file);
        LLVMFuzzerTestOneInput(bytes, size);
    }
    printf("%d files\n", argc - 1);
    return 0;
}
