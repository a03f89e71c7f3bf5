/* demo.c - ikvar demo: the shipped harbour, from the setup and tape files. */
#include "tool.h"

#include <unistd.h>

static const char *demo_folder(void)
{
    return access(IKV_DEMO_BUILT "/harbour.setup.json", R_OK) == 0
               ? IKV_DEMO_BUILT
               : IKV_DEMO_INSTALLED;
}

int demo_command(int argc, char **argv)
{
    bool json = false;
    int code;
    arguments left;
    char setup[4096], tape[4096];
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
