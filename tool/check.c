/* check.c - ikvar check: validates files. */
#include "tool.h"

#include <stdlib.h>
#include <string.h>

static bool ends_with(const char *name, const char *end)
{
    size_t length = strlen(name), tail = strlen(end);
    return length >= tail && strcmp(name + length - tail, end) == 0;
}

/* A file of lines is a tape; the names say so, else the first line. */
static bool is_tape(const char *path)
{
    char line[256] = "";
    if (ends_with(path, ".jsonl"))
        return true;
    if (ends_with(path, ".setup.json"))
        return false;
    FILE *file = fopen(path, "r");
    if (file == NULL)
        return false;
    bool read = fgets(line, sizeof line, file) != NULL;
    fclose(file);
    return read && strstr(line, "ikvar.tape") != NULL;
}

static int bad(const char *text)
{
    fprintf(stderr, "ikvar check: %s\n", text);
    return BAD_INPUT;
}

static int check_setup(const char *path, ikv_setup **setup)
{
    ikv_message message;
    ikv_setup_close(*setup);
    *setup = NULL;
    if (ikv_setup_read(path, setup, &message) < 0)
        return bad(message.text);
    ikv_setup_counts counts = ikv_setup_count(*setup);
    printf("%s: fine: %u targets, %u handlers, %u kinds of its own\n", path,
           counts.targets, counts.handlers, counts.kinds);
    const char *warning;
    for (uint32_t i = 0; (warning = ikv_setup_warning(*setup, i)) != NULL; i++)
        printf("%s: warning: %s\n", path, warning);
    return FINE;
}

/* With a setup, its targets have no handles before it is applied; a tape that
 * names targets is read against a kit that holds them. */
static int open_targets(ikv_setup *setup, ikv_kit **kit, ikv_port *port)
{
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_message message = {"the kit can't be opened"};
    *port = ikv_null_port();
    config.memory = ikv_host_memory();
    config.ports = port;
    config.port_count = 1;
    ikv_setup_size(setup, &config);
    if (ikv_kit_open(&config, kit) < 0 ||
        ikv_setup_apply(setup, *kit, IKV_APPLY_UNBOUND, &message) < 0)
        return bad(message.text);
    return FINE;
}

static int check_tape(const char *path, const ikv_setup *setup)
{
    ikv_tape *tape;
    ikv_message message;
    ikv_event event;
    unsigned long long count = 0;
    uint64_t last_ns = 0;
    if (ikv_tape_open(path, setup, &tape, &message) < 0)
        return bad(message.text);
    ikv_status status;
    while ((status = ikv_tape_next(tape, &event, NULL, &message)) == IKV_OK) {
        count++;
        last_ns = event.time_ns;
    }
    if (last_ns < ikv_tape_about(tape).until_ns)
        last_ns = ikv_tape_about(tape).until_ns;
    ikv_tape_close(tape);
    if (status < 0)
        return bad(message.text);
    printf("%s: fine: %llu events in %.3f ms\n", path, count,
           (double)last_ns / 1e6);
    return FINE;
}

/* Against the actions of the setup before it, if there is one. */
static int check_bindings(const char *path, const ikv_kit *kit,
                          const ikv_setup *setup)
{
    ikv_message message;
    if (ikv_bindings_load(path, ikv_kit_actions(kit), setup, &message) < 0)
        return bad(message.text);
    printf("%s: fine\n", path);
    return FINE;
}

int check_command(int argc, const char **argv)
{
    int code;
    ikv_setup *setup = NULL;
    ikv_kit *kit = NULL;
    ikv_port port;
    struct poptOption options[] = {POPT_TABLEEND};
    poptContext context = parse_options(
        argc, argv, options,
        "check FILE...\n\nSetups (*.setup.json), tapes (*.tape.jsonl) and "
        "bindings (*.bindings.json); these are\nread with the kinds, targets "
        "and actions of the setup before them.",
        &code);
    if (context == NULL)
        return code;
    const char *path = poptGetArg(context);
    if (path == NULL) {
        fprintf(stderr, "ikvar check: expected FILE...\n");
        code = WRONG_USE;
    }
    for (; path != NULL; path = poptGetArg(context)) {
        int one;
        if (is_tape(path)) {
            one = check_tape(path, setup);
        } else if (ends_with(path, ".bindings.json")) {
            one = check_bindings(path, kit, setup);
        } else {
            ikv_kit_close(kit);
            kit = NULL;
            one = check_setup(path, &setup);
            if (one == FINE)
                one = open_targets(setup, &kit, &port);
        }
        code = one > code ? one : code;
    }
    ikv_kit_close(kit);
    ikv_setup_close(setup);
    poptFreeContext(context);
    return code;
}
