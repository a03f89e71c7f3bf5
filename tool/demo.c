/* demo.c - ikvar demo: the shipped harbour, from the setup and tape files. */
#define _XOPEN_SOURCE 700 /* mkdtemp */
#include "tool.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
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

/* What there is to look at beside the text: each is made by its command. */
static int make_picture(const char *folder, const char *name, char *setup,
                        char *tape)
{
    char path[5000];
    char draw[] = "draw", at[] = "--at", moment[] = "590", view[] = "view",
         output[] = "-o";
    snprintf(path, sizeof path, "%s/%s", folder, name);
    bool page = ends_with(name, ".html");
    char *of_page[] = {view, setup, tape, output, path, NULL};
    char *of_scene[] = {draw, setup, tape, at, moment, output, path, NULL};
    int code = page ? view_command(5, of_page) : draw_command(7, of_scene);
    if (code == FINE)
        printf("  %s\n", path);
    return code;
}

/* The folder that is asked for, which is made if need be, or a new one where
 * such things go. */
static const char *open_folder(const char *asked, char *made, size_t size)
{
    const char *temporary = getenv("TMPDIR");
    if (asked != NULL)
        return mkdir(asked, 0777) == 0 || errno == EEXIST ? asked : NULL;
    snprintf(made, size, "%s/ikvar-demo-XXXXXX",
             temporary != NULL ? temporary : "/tmp");
    return mkdtemp(made);
}

static int make_pictures(const char *asked, char *setup, char *tape)
{
    char made[4200], shown[4300];
    const char *folder = open_folder(asked, made, sizeof made);
    if (folder == NULL) {
        fprintf(
            stderr, "ikvar demo: %s: %s\n",
            ikv_shown_text(asked != NULL ? asked : made, shown, sizeof shown),
            strerror(errno));
        return BAD_INPUT;
    }
    printf("\nTo look at, the scene while the ferry is dragged, and the whole "
           "run for a browser:\n");
    int code = make_picture(folder, "harbour.png", setup, tape);
    return code == FINE ? make_picture(folder, "harbour.html", setup, tape)
                        : code;
}

int demo_command(int argc, char **argv)
{
    bool json = false;
    const char *out = NULL;
    int code;
    arguments left;
    char setup[4300], tape[4300];
    const option_row options[] = {
        {"json", 'j', OPTION_FLAG, &json, NULL, "write a trace, and no more", 0,
         0},
        {"out", 'o', OPTION_TEXT, &out, "FOLDER",
         "where the picture and the page go; else into a new folder,\nwhich "
         "is named",
         0, 0},
        {0}};
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
    code = run_plan_through(&plan);
    return code == FINE && !json ? make_pictures(out, setup, tape) : code;
}
