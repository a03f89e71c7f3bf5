/* 19: a screen where players choose their keys.
 *
 * "Press what you want to use": the next press is not played but kept as the
 * text of a binding. If another action has it, the screen says so and asks
 * again; else it replaces the old one, and all bindings are written to a file,
 * from which the next game has them.
 */
#include "example.h"

#include <unistd.h>

static ikv_actions *actions;
static ikv_action_id lift, lower, choose;

static ikv_verdict on_action(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    ikv_action_id action = {event->action.action};
    (void)delivery, (void)user;
    printf("%3d ms  %s\n", (int)(event->time_ns / 1000000),
           ikv_actions_name(actions, action));
    if (action.bits == choose.bits) {
        printf("        press what you want to use for lift\n");
        ikv_actions_learn(actions, 0, ikv_code_find("Escape"));
    }
    return IKV_CONTINUE;
}

/* Once a frame: has something been pressed? */
static void look_at_lesson(const char *path)
{
    char text[IKV_BINDING_BYTES];
    ikv_binding other;
    if (ikv_actions_learned(actions, 0, text, sizeof text) != IKV_OK)
        return;
    if (ikv_actions_conflicts(actions, lift, text, NULL, &other, 1) > 0) {
        printf("        %s is taken by %s: press another\n", text,
               ikv_actions_name(actions, ikv_binding_action(actions, other)));
        ikv_actions_learn(actions, 0, ikv_code_find("Escape"));
        return;
    }
    ikv_actions_unbind_all(actions, lift);
    ikv_actions_bind(actions, lift, text, NULL, NULL);
    printf("        lift is %s now\n", text);
    if (path != NULL && ikv_bindings_save(path, actions, NULL, NULL) == IKV_OK)
        printf("        written\n");
}

static ikv_action_id add(const char *name, const char *binding)
{
    ikv_action_id id = {0};
    ikv_actions_add(actions, IKV_MAIN_SET, name, &id);
    ikv_actions_bind(actions, id, binding, NULL, NULL);
    return id;
}

/* With a path the bindings are read there at the start, if there are any, and
 * written once they change. */
int main(int argc, char **argv)
{
    ikv_target everywhere = {0};
    example e = example_open("rebinding.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    actions = ikv_kit_actions(kit);
    lift = add("lift", "KeyW");
    lower = add("lower", "Control+KeyL");
    choose = add("choose", "Enter");
    ikv_message message;
    if (argc > 1 && access(argv[1], F_OK) == 0 &&
        ikv_bindings_load(argv[1], actions, NULL, &message) < 0)
        fprintf(stderr, "%s; the usual ones are used\n", message.text);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_ACTION_START, everywhere, on_action,
                 NULL, NULL);
    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
        }
        look_at_lesson(argc > 1 ? argv[1] : NULL);
        ikv_loop_end(loop);
    }
    example_close(&e);
    return 0;
}
