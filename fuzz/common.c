/* common.c - see fuzz.h. */
#define _POSIX_C_SOURCE 200809L
#include "fuzz.h"

#include <unistd.h>

void fuzz_broken(const char *what, const char *file, int line)
{
    fprintf(stderr, "%s:%d: does not hold: %s\n", file, line, what);
    abort();
}

/* Of each ending that is used one; gone when the program ends as it should. */
static char files[4][64];

static void remove_files(void)
{
    for (int i = 0; i < 4 && files[i][0] != '\0'; i++)
        remove(files[i]);
}

const char *fuzz_file(const uint8_t *data, size_t size, const char *ending)
{
    char path[sizeof files[0]];
    int at = 0;
    snprintf(path, sizeof path, "/tmp/ikvar-fuzz-%ld%s", (long)getpid(),
             ending);
    while (at < 4 && files[at][0] != '\0' && strcmp(files[at], path) != 0)
        at++;
    MUST(at < 4);
    if (files[0][0] == '\0')
        MUST(atexit(remove_files) == 0);
    memcpy(files[at], path, sizeof path);
    FILE *file = fopen(path, "w");
    MUST(file != NULL);
    MUST(fwrite(data, 1, size, file) == size);
    fclose(file);
    return files[at];
}

static void check(const char *fault)
{
    if (fault != NULL)
        fuzz_broken(fault, "validator", 0);
}

void fuzz_validate(const ikv_kit *kit)
{
    check(ikv_bus_validate(ikv_kit_bus(kit)));
    check(ikv_scene_validate(ikv_kit_scene(kit)));
    check(ikv_router_validate(ikv_kit_router(kit)));
    check(ikv_queue_validate(ikv_kit_queue(kit)));
    check(ikv_state_validate(ikv_kit_state(kit)));
    check(ikv_actions_validate(ikv_kit_actions(kit)));
    check(ikv_overlaps_validate(ikv_kit_overlaps(kit)));
    check(ikv_loop_validate(ikv_kit_loop(kit)));
}

void fuzz_told(ikv_status status, const ikv_message *message)
{
    MUST((status < 0) == (message->text[0] != '\0'));
    for (const char *at = message->text; *at != '\0'; at++)
        MUST((unsigned char)*at >= 0x20 && *at != 0x7f);
}

ikv_setup *fuzz_setup(void)
{
    static const char text[] =
        "{\"format\":\"ikvar.setup/"
        "1\",\"announces\":true,\"layers\":[{\"name\":"
        "\"water\"},{\"name\":\"glass\"}],\"kinds\":[{\"name\":\"tide."
        "computed\","
        "\"fields\":[{\"name\":\"level\",\"type\":\"f32\"},{\"name\":\"who\","
        "\"type\":\"target\"}]}],\"targets\":[{\"id\":\"pier\",\"layer\":"
        "\"water\",\"shape\":{\"rect\":[0,0,64,36]},\"tags\":[\"ground\"],"
        "\"focusable\":true,\"takes_text\":true},{\"id\":\"lamp\",\"parent\":"
        "\"pier\",\"shape\":{\"circle\":[10,10,6]},\"senses\":[\"ground\"],"
        "\"linger\":2,\"fields\":{\"lit\":false}}],\"sets\":[{\"name\":"
        "\"helm\"}"
        "],\"actions\":[{\"name\":\"horn\",\"bindings\":[\"KeyF\",{\"press\":"
        "\"pointer.primary\",\"within\":\"lamp\"}]},{\"name\":\"steer\","
        "\"set\":"
        "\"helm\",\"bindings\":[\"pad.left\"]}],\"handlers\":[{\"name\":"
        "\"tap\","
        "\"kinds\":[\"pointer.click\",\"pointer.down\"],\"at\":\"lamp\","
        "\"reactions\":[{\"toggle\":\"lit\"},\"attach\",{\"defer\":{\"kind\":"
        "\"tide.computed\",\"level\":{\"field\":\"x\"}}}]},{\"name\":\"all\","
        "\"all_kinds\":true}]}";
    ikv_setup *setup;
    ikv_message message;
    MUST(ikv_setup_read(
             fuzz_file((const uint8_t *)text, strlen(text), ".setup.json"),
             &setup, &message) == IKV_OK);
    return setup;
}

ikv_kit *fuzz_kit(ikv_setup *setup, ikv_port *port)
{
    ikv_kit *kit;
    ikv_message message = {""};
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = port;
    config.port_count = 1;
    config.queue.capacity = 256;
    config.loop.pending = 256;
    MUST(ikv_setup_size(setup, &config) == IKV_OK);
    MUST(ikv_kit_open(&config, &kit) == IKV_OK);
    MUST(ikv_setup_apply(setup, kit, IKV_APPLY_UNBOUND, &message) == IKV_OK);
    return kit;
}

ikv_why *fuzz_ask(ikv_kit *kit, const ikv_setup *setup, uint32_t about,
                  uint32_t nth, const ikv_why_past *past)
{
    ikv_why_config config = IKV_WHY_INIT;
    ikv_why *why = NULL;
    const char *name =
        ikv_setup_name(setup,
                       about == IKV_ASK_HANDLER  ? IKV_SETUP_HANDLERS
                       : about == IKV_ASK_ACTION ? IKV_SETUP_ACTIONS
                                                 : IKV_SETUP_TARGETS,
                       nth);
    config.kit = kit;
    config.setup = setup;
    config.about = about;
    config.past = past;
    config.subscription = ikv_setup_subscription(setup, name);
    config.target = ikv_setup_target(setup, name);
    config.other = ikv_setup_target(
        setup, ikv_setup_name(setup, IKV_SETUP_TARGETS, nth / 2));
    config.action = ikv_actions_find(ikv_kit_actions(kit), name);
    if (name != NULL)
        MUST(ikv_why_open(&config, &why) <= IKV_OK);
    return why;
}

void fuzz_mistake(const ikv_mistake *mistake, void *user)
{
    (void)user;
    MUST(ikv_mistake_about(mistake->code) != NULL);
    MUST(mistake->text != NULL && mistake->text[0] != '\0');
}

void fuzz_answer(ikv_why *why)
{
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    if (why == NULL)
        return;
    FILE *nowhere = fopen("/dev/null", "w");
    MUST(nowhere != NULL);
    MUST(ikv_why_ask(why, &answer) == IKV_OK);
    MUST(answer.called > 0 || answer.count > 0);
    MUST(answer.count <= IKV_WHY_ROOM);
    MUST(ikv_why_print(why, nowhere, IKV_PRINT_TEXT) == IKV_OK);
    MUST(ikv_why_print(why, nowhere, IKV_PRINT_JSON) == IKV_OK);
    fclose(nowhere);
    MUST(ikv_why_close(why) == IKV_OK);
}
