/* main.c - the ikvar command. */
#include "tool.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const struct command {
    const char *name;
    int (*run)(int argc, const char **argv);
    const char *form, *does;
} commands[] = {
    {"demo", demo_command, "demo", "run the shipped harbour"},
    {"run", run_command, "run SETUP [TAPE]",
     "rehearse a setup, with a tape or live"},
    {"kinds", kinds_command, "kinds [NAME | SETUP]",
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
    fprintf(stderr, "ikvar: unknown command \"%s\"; expected one of", name);
    for (size_t i = 0; i < COMMANDS; i++)
        fprintf(stderr, " %s,", commands[i].name);
    fprintf(stderr, " version, help\n");
    return WRONG_USE;
}

static int help_on(const char *name)
{
    const struct command *command = find_command(name);
    const char *argv[] = {name, "--help", NULL};
    return command != NULL ? command->run(2, argv) : unknown_command(name);
}

/* As popt wants them, from the word behind the command's on. */
int main(int argc, char **argv)
{
    const char *name = argc > 1 ? argv[1] : NULL;
    if (name == NULL) {
        print_help(stderr);
        return WRONG_USE;
    }
    if (strcmp(name, "version") == 0 || strcmp(name, "--version") == 0) {
        printf("ikvar %s\n", ikv_version());
        return FINE;
    }
    if (strcmp(name, "help") == 0 || strcmp(name, "--help") == 0) {
        if (argc > 2)
            return help_on(argv[2]);
        print_help(stdout);
        return FINE;
    }
    const struct command *command = find_command(name);
    if (command == NULL)
        return unknown_command(name);
    int code = command->run(argc - 1, (const char **)(void *)(argv + 1));
    if (fflush(stdout) != 0 || ferror(stdout)) {
        fprintf(stderr, "ikvar: can't write the output\n");
        return code == FINE ? BAD_INPUT : code;
    }
    return code;
}

poptContext parse_options(int argc, const char **argv,
                          struct poptOption *options, const char *usage,
                          int *code)
{
    int help = 0;
    const char *name = argv[0];
    struct poptOption all[] = {
        {NULL, '\0', POPT_ARG_INCLUDE_TABLE, options, 0, NULL, NULL},
        {"help", 'h', POPT_ARG_NONE, &help, 0, "show this", NULL},
        POPT_TABLEEND};
    argv[0] = "ikvar"; /* as help names it */
    poptContext context = poptGetContext("ikvar", argc, argv, all, 0);
    poptSetOtherOptionHelp(context, usage);
    int got = poptGetNextOpt(context);
    *code = FINE;
    if (help) {
        poptPrintHelp(context, stdout, 0);
    } else if (got < -1) {
        fprintf(stderr, "ikvar %s: %s: %s\n", name, poptBadOption(context, 0),
                poptStrerror(got));
        *code = WRONG_USE;
    } else {
        return context;
    }
    poptFreeContext(context);
    return NULL;
}
