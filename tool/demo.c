/* demo.c - ikvar demo: the shipped harbour, from the setup and tape files. */
#include "tool.h"

#include <unistd.h>

static const char *demo_folder(void)
{
    return access(IKV_DEMO_BUILT "/harbour.setup.json", R_OK) == 0
               ? IKV_DEMO_BUILT
               : IKV_DEMO_INSTALLED;
}

int demo_command(int argc, const char **argv)
{
    int json = 0, code;
    char setup[4096], tape[4096];
    struct poptOption options[] = {
        {"json", 'j', POPT_ARG_NONE, &json, 0, "write a trace", NULL},
        POPT_TABLEEND};
    poptContext context = parse_options(argc, argv, options, "demo", &code);
    if (context == NULL)
        return code;
    if (poptPeekArg(context) != NULL) {
        fprintf(stderr, "ikvar demo: found \"%s\", expected no argument\n",
                poptPeekArg(context));
        poptFreeContext(context);
        return WRONG_USE;
    }
    poptFreeContext(context);
    snprintf(setup, sizeof setup, "%s/harbour.setup.json", demo_folder());
    snprintf(tape, sizeof tape, "%s/harbour.tape.jsonl", demo_folder());
    run_plan plan = {
        .setup = setup, .tape = tape, .json = json != 0, .seed = 1};
    if (!plan.json)
        printf("The harbour at dusk: demo/harbour.setup.json, played by "
               "demo/harbour.tape.jsonl.\n\n");
    return run_plan_through(&plan);
}
