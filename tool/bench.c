/* bench.c - ikvar bench: starts the benchmark program, which is built apart
 * because its baselines need libraries that nothing else does. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <string.h>
#include <unistd.h>

/* Beside the command, as installed, or in the build's folder. */
static void start(const char *folder, const char *name)
{
    char path[4200];
    snprintf(path, sizeof path, "%s%s", folder, name);
    execl(path, path, (char *)NULL);
}

int bench_command(int argc, const char **argv)
{
    int code;
    char folder[4096];
    struct poptOption options[] = {POPT_TABLEEND};
    poptContext context = parse_options(
        argc, argv, options,
        "bench\n\nMeasures this machine against plain baselines, as ratios. "
        "Exits with 1 if a row is\nover its budget.",
        &code);
    if (context == NULL)
        return code;
    poptFreeContext(context);
    ssize_t length = readlink("/proc/self/exe", folder, sizeof folder - 1);
    if (length > 0) {
        folder[length] = '\0';
        char *slash = strrchr(folder, '/');
        if (slash != NULL)
            slash[1] = '\0';
        start(folder, "ikvar_bench");
        start(folder, "bench/ikvar_bench");
    }
    fprintf(stderr, "ikvar bench: the program ikvar_bench is not here; build "
                    "it with make bench\n");
    return BAD_INPUT;
}
