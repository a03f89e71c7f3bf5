/* 29: a pause menu.
 *
 * Escape stands the steps still, puts the menu's actions above the helm's, and
 * makes the menu modal: the pointer and the keys stay in it. What was held at
 * the helm ends; back in the game the ferry sails on if its key is held still.
 * A press beside the menu closes it, too.
 */
#include "example.h"

static ikv_kit *kit;
static ikv_action_set helm, menu_set;
static ikv_target menu;

static ikv_verdict sail(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    printf("%4u ms  the ferry %s\n", example_ms(event),
           event->kind == IKV_KIND_ACTION_START ? "sails" : "drifts");
    return IKV_CONTINUE;
}

static ikv_verdict open_menu(const ikv_event *event,
                             const ikv_delivery *delivery, void *user)
{
    (void)user;
    printf("%4u ms  the menu opens\n", example_ms(event));
    ikv_loop_pause(ikv_kit_loop(kit));
    ikv_actions_push(ikv_kit_actions(kit), menu_set, event->seat, false);
    ikv_scene_show(ikv_kit_scene(kit), menu, true);
    ikv_router_set_modal(ikv_kit_router(kit), event->seat, menu);
    (void)delivery;
    return IKV_STOP;
}

static ikv_verdict close_menu(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    bool beside = (event->flags & IKV_OUTSIDE) != 0;
    (void)delivery;
    /* The menu itself hears its button's presses too: they bubble. */
    if (event->kind == IKV_KIND_POINTER_DOWN && !beside)
        return IKV_CONTINUE;
    printf("%4u ms  it closes, by %s\n", example_ms(event),
           beside ? "a press beside it" : (const char *)user);
    ikv_router_set_modal(ikv_kit_router(kit), event->seat, (ikv_target){0});
    ikv_scene_show(ikv_kit_scene(kit), menu, false);
    ikv_actions_pop(ikv_kit_actions(kit), event->seat);
    ikv_actions_start_held(ikv_kit_actions(kit), helm, event->seat);
    ikv_loop_resume(ikv_kit_loop(kit));
    return IKV_STOP;
}

static ikv_verdict ring(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)delivery, (void)user;
    printf("%4u ms  the bell rings\n", example_ms(event));
    return IKV_CONTINUE;
}

static ikv_action_id add(ikv_action_set set, const char *name, const char *key)
{
    ikv_action_id action = {0};
    ikv_actions_add(ikv_kit_actions(kit), set, name, &action);
    ikv_actions_bind(ikv_kit_actions(kit), action, key, NULL, NULL);
    return action;
}

int main(void)
{
    example e = example_open("pause_menu.tape.jsonl", NULL);
    kit = e.kit;
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_target none = {0};
    ikv_actions_add_set(actions, "helm", &helm);
    ikv_actions_add_set(actions, "menu", &menu_set);
    ikv_actions_switch(actions, menu_set, IKV_ALL_SEATS, false);
    ikv_action_id sailing = add(helm, "sail", "KeyW");
    ikv_action_id pausing = add(helm, "pause", "Escape");
    ikv_action_id leaving = add(menu_set, "back", "Escape");
    ikv_actions_hear(actions, sailing, IKV_ACTION_STARTED, sail, NULL, NULL);
    ikv_actions_hear(actions, sailing, IKV_ACTION_ENDED, sail, NULL, NULL);
    ikv_actions_hear(actions, pausing, IKV_ACTION_STARTED, open_menu, NULL,
                     NULL);
    ikv_actions_hear(actions, leaving, IKV_ACTION_STARTED, close_menu,
                     "its key", NULL);
    ikv_target bell = example_rect(&e, none, 0, 0, 40, 40, NULL);
    menu = example_rect(&e, none, 100, 100, 200, 120, NULL);
    ikv_target back = example_rect(&e, menu, 20, 20, 80, 30, NULL);
    ikv_scene_show(ikv_kit_scene(kit), menu, false);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, bell, ring, NULL, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, menu, close_menu, NULL, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_CLICK, back, close_menu, "its button",
                 NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
