/* main.c - the ikvar command. */
#include "tool.h"

#include <string.h>

static const struct command {
    const char *name;
    int (*run)(int argc, char **argv);
    const char *form, *does;
} commands[] = {
    {"demo", demo_command, "demo", "run the shipped harbour"},
    {"run", run_command, "run SETUP [TAPE]",
     "rehearse a setup, with a tape or live"},
    {"why", why_command, "why SETUP TAPE",
     "tell why a handler was not called, a target not hit"},
    {"draw", draw_command, "draw SETUP [TAPE]",
     "draw the scene at a moment, as PNG or SVG"},
    {"plot", plot_command, "plot SETUP TAPE",
     "plot what each frame of a run has, or list it"},
    {"view", view_command, "view SETUP TAPE",
     "make a page of a run, for a browser"},
    {"watch", watch_command, "watch SETUP [TAPE]",
     "watch a run in this terminal, live or of a tape"},
    {"kinds", kinds_command, "kinds [NAME] [SETUP]",
     "show the catalogue of events"},
    {"check", check_command, "check FILE...", "validate files"},
    {"tape", tape_command, "tape VERB TAPE...",
     "tell of tapes, cut, join, verify them"},
    {"bench", bench_command, "bench", "measure against plain baselines"},
};

enum {
    COMMANDS = sizeof commands / sizeof commands[0]
};

static void print_help(FILE *file)
{
    fprintf(file, "ikvar - the event core of a game engine: rehearse, look up, "
                  "check\n\n");
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(file, "  ikvar %-22s %s\n", commands[i].form, commands[i].does);
    fprintf(file, "  ikvar %-22s %s\n  ikvar %-22s %s\n", "version",
            "print the version", "help [COMMAND]",
            "print this, or its options");
    fprintf(file,
            "\nExit codes: 0 fine, 1 the answer is no, 2 wrong use, 3 bad "
            "input.\nTry:  ikvar demo\n");
}

static const struct command *find_command(const char *name)
{
    for (size_t i = 0; i < COMMANDS; i++)
        if (strcmp(commands[i].name, name) == 0)
            return &commands[i];
    return NULL;
}

static int unknown_command(const char *name)
{
    const char *known[COMMANDS + 3];
    char shown[160];
    for (size_t i = 0; i < COMMANDS; i++)
        known[i] = commands[i].name;
    known[COMMANDS] = "version";
    known[COMMANDS + 1] = "help";
    known[COMMANDS + 2] = NULL;
    char hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(name, known);
    fprintf(stderr, "ikvar: unknown command \"%s\"; expected one of",
            ikv_shown_text(name, shown, sizeof shown));
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(stderr, " %s,", commands[i].name);
    fprintf(stderr, " version, help%s\n",
            ikv_did_you_mean(near, hint, sizeof hint));
    return WRONG_USE;
}

static int refuse_more(const char *command, const char *found)
{
    fprintf(stderr, "ikvar %s: found \"%s\", expected no more\n", command,
            found);
    return WRONG_USE;
}

static int version_command(int argc, char **argv)
{
    if (argc > 1)
        return refuse_more("version", argv[1]);
    printf("ikvar %s\n", ikv_version());
    return FINE;
}

static bool asks_for_help(const char *word)
{
    return strcmp(word, "--help") == 0 || strcmp(word, "-h") == 0 ||
           strcmp(word, "help") == 0;
}

static int help_command(int argc, char **argv)
{
    if (argc > 2)
        return refuse_more("help", argv[2]);
    const struct command *command = argc > 1 ? find_command(argv[1]) : NULL;
    if (command != NULL) {
        char name[16], help[] = "--help", *of_it[] = {name, help, NULL};
        snprintf(name, sizeof name, "%s", command->name);
        return command->run(2, of_it);
    }
    if (argc > 1 && !asks_for_help(argv[1]) && strcmp(argv[1], "version") != 0)
        return unknown_command(argv[1]);
    print_help(stdout);
    return FINE;
}

static int run_named(int argc, char **argv)
{
    const char *name = argv[0];
    if (strcmp(name, "version") == 0 || strcmp(name, "--version") == 0)
        return version_command(argc, argv);
    if (asks_for_help(name))
        return help_command(argc, argv);
    const struct command *command = find_command(name);
    return command != NULL ? command->run(argc, argv) : unknown_command(name);
}

int main(int argc, char **argv)
{
    if (argc < 2) {
        print_help(stderr);
        return WRONG_USE;
    }
    keep_reserve();
    int code = run_named(argc - 1, argv + 1);
    if (fflush(stdout) != 0 || ferror(stdout)) {
        fprintf(stderr, "ikvar: can't write the output\n");
        return BAD_INPUT;
    }
    return code;
}
