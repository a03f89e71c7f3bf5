/* 31: a menu by pad.
 *
 * One line lets the cross and the left stick, and the arrow keys, move the focus
 * to the nearest entry that way. The pad's first button, or Enter, chooses the
 * one that has it: the router knows which that is.
 */
#include "example.h"

typedef struct entry {
    const char *name;
    float x, y;
} entry;

static const entry entries[] = {{"sail", 20, 20},
                                {"moor", 120, 20},
                                {"log book", 20, 70},
                                {"leave", 120, 70}};

static ikv_verdict focused(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    const entry *at = user;
    (void)delivery;
    printf("%4u ms  > %s\n", example_ms(event), at->name);
    return IKV_CONTINUE;
}

static ikv_verdict chosen(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    const ikv_kit *kit = user;
    ikv_target at = ikv_router_focused(ikv_kit_router(kit), event->seat);
    const entry *focus = ikv_scene_user(ikv_kit_scene(kit), at);
    (void)delivery;
    if (focus != NULL)
        printf("%4u ms  %s is chosen\n", example_ms(event), focus->name);
    return IKV_CONTINUE;
}

int main(void)
{
    example e = example_open("menu_by_pad.tape.jsonl", NULL);
    ikv_scene *scene = ikv_kit_scene(e.kit);
    ikv_bus *bus = ikv_kit_bus(e.kit);
    ikv_actions *actions = ikv_kit_actions(e.kit);
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target menu, at;
    config.shape = ikv_scene_rect(0, 0, 240, 120);
    example_check("the menu", ikv_scene_add(scene, &config, &menu, NULL));
    config.parent = menu;
    config.traits = IKV_FOCUSABLE;
    config.shape = ikv_scene_rect(0, 0, 80, 30);
    for (int i = 0; i < 4; i++) {
        config.user = (void *)&entries[i];
        config.x = entries[i].x;
        config.y = entries[i].y;
        example_check("an entry", ikv_scene_add(scene, &config, &at, NULL));
        ikv_bus_hear(bus, IKV_KIND_FOCUS_IN, at, focused, config.user, NULL);
    }
    example_check("the focus", ikv_kit_bind_focus(e.kit, IKV_MAIN_SET));
    ikv_action_id choose = {0};
    ikv_actions_add(actions, IKV_MAIN_SET, "choose", &choose);
    ikv_actions_bind(actions, choose, "pad.0", NULL, NULL);
    ikv_actions_bind(actions, choose, "Enter", NULL, NULL);
    ikv_actions_hear(actions, choose, IKV_ACTION_STARTED, chosen, e.kit, NULL);
    ikv_router_set_modal(ikv_kit_router(e.kit), 0, menu);
    example_play(&e);
    example_close(&e);
    return 0;
}
