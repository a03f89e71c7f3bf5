/* 35: a setup that is edited while the game runs.
 *
 * The file is compared with what it was: what it says as before stays as the
 * game has it, so the ferry stays where it has gone and the greeting is not said
 * twice; what it says differently is done. What is wrong in it changes nothing.
 * A game would look at the file's time each second; here it is written by
 * ourselves. `ikvar run --reload` does the same for a setup alone.
 */
#include "example.h"

#define PIER                                                                   \
    "{\"format\":\"ikvar.setup/1\",\"targets\":["                              \
    "{\"id\":\"ferry\",\"position\":[10,10],\"shape\":{\"rect\":[0,0,40,20]}}"
#define HANDLERS                                                               \
    "],\"handlers\":[{\"name\":\"greet\",\"kinds\":[\"loop.step\"],"           \
    "\"limit\":1},{\"name\":\"sail\",\"kinds\":[\"loop.step\"]}"

/* The file, before and after: a buoy comes, and a mistake. */
static const char *const versions[] = {
    PIER HANDLERS "]}",
    PIER ",{\"id\":\"buoy\",\"position\":[200,40]}" HANDLERS "]}",
    PIER HANDLERS ",{\"name\":\"horn\",\"kinds\":[\"key.dwn\"]}]}"};

static void write_setup(const char *path, const char *text)
{
    FILE *file = fopen(path, "w");
    if (file == NULL || fputs(text, file) < 0 || fclose(file) != 0)
        exit(1);
}

static ikv_verdict greet(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery, (void)user;
    printf("the harbour greets the ferry\n");
    return IKV_CONTINUE;
}

/* Two units a step to the right. */
static ikv_verdict sail(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    ikv_kit *kit = *(ikv_kit **)user;
    ikv_target ferry = {0};
    float at[2], view[2];
    (void)event, (void)delivery;
    ferry = ikv_scene_next(ikv_kit_scene(kit), ferry, ferry);
    ikv_scene_position(ikv_kit_scene(kit), ferry, at, view);
    ikv_scene_move(ikv_kit_scene(kit), ferry, at[0] + 2, at[1]);
    return IKV_CONTINUE;
}

static void tell_where(const ikv_setup *setup, const ikv_kit *kit)
{
    ikv_target t = {0};
    float at[2], view[2];
    while ((t = ikv_scene_next(ikv_kit_scene(kit), (ikv_target){0}, t)).bits) {
        ikv_scene_position(ikv_kit_scene(kit), t, at, view);
        printf("  %s at %g\n", ikv_setup_target_name(setup, t), (double)at[0]);
    }
}

int main(int argc, char **argv)
{
    const char *path = argc > 1 ? argv[1] : "pier.setup.json";
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_message message = {""};
    ikv_kit *kit = NULL;
    ikv_setup *setup = NULL;
    write_setup(path, versions[0]);
    ikv_status status = ikv_setup_read(path, &setup, &message);
    example_check(message.text, status);
    example_check("greet", ikv_setup_bind(setup, "greet", greet, NULL));
    example_check("sail", ikv_setup_bind(setup, "sail", sail, &kit));
    example_check("the size", ikv_setup_size(setup, &config));
    example e = example_open("edit.tape.jsonl", &config);
    kit = e.kit;
    status = ikv_setup_apply(setup, kit, 0, &message);
    example_check(message.text, status);
    for (int frame = 0; ikv_loop_begin(ikv_kit_loop(kit)); frame++) {
        while (ikv_loop_step(ikv_kit_loop(kit))) {
        }
        ikv_loop_end(ikv_kit_loop(kit));
        if (frame != 10 && frame != 20)
            continue;
        write_setup(path, versions[frame / 10]);
        ikv_setup_reload(setup, kit, NULL, 0, &message);
        printf("%s\n", message.text);
        tell_where(setup, kit);
    }
    example_close(&e);
    ikv_setup_close(setup);
    return remove(path);
}
