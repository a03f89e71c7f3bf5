/* demo.c - ikvar demo: the shipped harbour, from the setup and tape files. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <string.h>
#include <unistd.h>

/* Beside the installed command, or in the sources that it was built from. */
static const char *demo_folder(void)
{
    static char beside[4200];
    char command[4096];
    ssize_t length = readlink("/proc/self/exe", command, sizeof command - 1);
    if (length > 0) {
        command[length] = '\0';
        char *slash = strrchr(command, '/');
        if (slash != NULL)
            slash[1] = '\0';
        snprintf(beside, sizeof beside, "%s" IKV_DEMO_INSTALLED, command);
        char setup[4300];
        snprintf(setup, sizeof setup, "%s/harbour.setup.json", beside);
        if (access(setup, R_OK) == 0)
            return beside;
    }
    return IKV_DEMO_BUILT;
}

int demo_command(int argc, char **argv)
{
    bool json = false;
    int code;
    arguments left;
    char setup[4300], tape[4300];
    const option_row options[] = {
        {"json", 'j', OPTION_FLAG, &json, NULL, "write a trace", 0, 0}, {0}};
    if (!parse_options(argc, argv, options, "demo", &left, &code))
        return code;
    if (left.count > 0) {
        fprintf(stderr, "ikvar demo: found \"%s\", expected no argument\n",
                left.list[0]);
        return WRONG_USE;
    }
    snprintf(setup, sizeof setup, "%s/harbour.setup.json", demo_folder());
    snprintf(tape, sizeof tape, "%s/harbour.tape.jsonl", demo_folder());
    run_plan plan = {.setup = setup, .tape = tape, .json = json, .seed = 1};
    if (!plan.json)
        printf("The harbour at dusk: demo/harbour.setup.json, played by "
               "demo/harbour.tape.jsonl.\n\n");
    return run_plan_through(&plan);
}
