/* 34: bindings over an update.
 *
 * A player's file is from the game's last version: it has an action that is gone,
 * and lacks one that is new. Read leniently, all that is still known is taken,
 * the rest is told, and the new action has its usual key; unless the player has
 * given that to another one, which is found and told as well.
 */
#include <ikvar/host.h>

#include <stdio.h>

typedef struct usual {
    const char *name, *binding;
} usual;

static const usual last_version[] = {
    {"sail", "KeyW"}, {"whistle", "KeyX"}, {"moor", "KeyM"}};
static const usual this_version[] = {
    {"sail", "KeyW"}, {"moor", "KeyM"}, {"anchor", "KeyA"}};

static void tell(const char *note, void *user)
{
    (void)user;
    printf("  left out: %s\n", note);
}

static ikv_kit *open_game(const ikv_port *port, const usual *actions)
{
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit = NULL;
    config.memory = ikv_host_memory();
    config.ports = port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &kit) < 0)
        return NULL;
    for (int i = 0; i < 3; i++) {
        ikv_actions *all = ikv_kit_actions(kit);
        ikv_action_id action = {0};
        ikv_actions_add(all, IKV_MAIN_SET, actions[i].name, &action);
        ikv_actions_bind(all, action, actions[i].binding, NULL, NULL);
    }
    return kit;
}

static void list(ikv_actions *actions)
{
    ikv_action_id action;
    for (uint32_t i = 0; (action = ikv_actions_list(actions, i)).bits != 0;
         i++) {
        char text[IKV_BINDING_BYTES] = "";
        ikv_binding binding = ikv_actions_binding(actions, action, 0);
        ikv_binding_text(actions, binding, text, sizeof text);
        ikv_binding other;
        bool taken =
            ikv_actions_conflicts(actions, action, text, NULL, &other, 1) > 0;
        ikv_action_id of = {0};
        if (taken)
            of = ikv_binding_action(actions, other);
        printf("  %-7s %s%s%s\n", ikv_actions_name(actions, action), text,
               taken ? ", as is " : "",
               taken ? ikv_actions_name(actions, of) : "");
    }
}

int main(int argc, char **argv)
{
    ikv_port port = ikv_null_port();
    ikv_message message = {"no path"};
    ikv_kit *kit = open_game(&port, last_version);
    if (argc < 2 || kit == NULL)
        return 1;
    /* The player sails with A. */
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_action_id sail = ikv_actions_find(actions, "sail");
    ikv_actions_unbind_all(actions, sail);
    ikv_actions_bind(actions, sail, "KeyA", NULL, NULL);
    if (ikv_bindings_save(argv[1], actions, NULL, &message) < 0)
        return fprintf(stderr, "%s\n", message.text), 1;
    ikv_kit_close(kit);

    kit = open_game(&port, this_version);
    if (kit == NULL)
        return 1;
    ikv_bindings_config config = IKV_BINDINGS_INIT;
    config.flags = IKV_BINDINGS_LENIENT;
    config.skipped = tell;
    printf("the new version reads the old one's file\n");
    if (ikv_bindings_load(argv[1], ikv_kit_actions(kit), &config, &message) < 0)
        return fprintf(stderr, "%s\n", message.text), 1;
    list(ikv_kit_actions(kit));
    ikv_kit_close(kit);
    return 0;
}
