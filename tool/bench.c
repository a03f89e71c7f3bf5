/* bench.c - ikvar bench: starts the benchmark program, which is built apart
 * because its baselines need libraries that nothing else does. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <string.h>
#include <unistd.h>

/* Beside the command, as installed, or in the build's folder. */
static void start(const char *folder, const char *name, bool json)
{
    char path[4200];
    snprintf(path, sizeof path, "%s%s", folder, name);
    execl(path, path, json ? "--json" : (char *)NULL, (char *)NULL);
}

int bench_command(int argc, char **argv)
{
    bool json = false;
    int code;
    arguments left;
    char folder[4096];
    const option_row options[] = {{"json", 'j', OPTION_FLAG, &json, NULL,
                                   "print a JSON line for each row", 0, 0},
                                  {0}};
    if (!parse_options(
            argc, argv, options,
            "bench\n\nMeasures this machine against plain baselines, "
            "as ratios. Exits with 1 if a row is\nover its budget.",
            &left, &code))
        return code;
    if (left.count > 0) {
        fprintf(stderr, "ikvar bench: found \"%s\", expected no argument\n",
                left.list[0]);
        return WRONG_USE;
    }
    ssize_t length = readlink("/proc/self/exe", folder, sizeof folder - 1);
    if (length > 0) {
        folder[length] = '\0';
        char *slash = strrchr(folder, '/');
        if (slash != NULL)
            slash[1] = '\0';
        start(folder, "ikvar_bench", json);
        start(folder, "bench/ikvar_bench", json);
    }
    fprintf(stderr, "ikvar bench: the program ikvar_bench is not here; build "
                    "it with make bench\n");
    return BAD_INPUT;
}
