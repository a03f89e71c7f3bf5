/* 36: touch controls.
 *
 * A stick and two buttons on the screen, each a target with a binding of its own:
 * every finger drives what it went down on, also when it slides off it. The
 * stick's middle is where the thumb goes down (`floating`), and it goes as far as
 * 40 units. The same actions have a pad's stick and keys.
 */
#include "example.h"

#include <string.h>

static ikv_actions *actions;
static ikv_action_id steer;

static ikv_verdict press(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)delivery;
    printf("%4u ms  %s %s\n", example_ms(event), (const char *)user,
           event->kind == IKV_KIND_ACTION_START ? "on" : "off");
    return IKV_CONTINUE;
}

/* Each step: where to, asked for instead of heard. */
static ikv_verdict sail(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    ikv_action_state state = ikv_actions_ask(actions, steer, 0);
    (void)delivery, (void)user;
    if (state.on && event->loop.step % 3 == 0)
        printf("%4u ms  the ferry goes %+.2f, %+.2f\n", example_ms(event),
               (double)state.x, (double)state.y);
    return IKV_CONTINUE;
}

static ikv_action_id add(const char *name, const char *press_on,
                         ikv_target place, const char *else_by)
{
    ikv_action_id action = {0};
    ikv_scope scope = {.where = IKV_WITHIN, .target = place};
    if (strcmp(press_on, "pointer.stick") == 0) {
        scope.radius = 40;
        scope.floating = true;
    }
    example_check(name, ikv_actions_add(actions, IKV_MAIN_SET, name, &action));
    example_check(press_on,
                  ikv_actions_bind(actions, action, press_on, &scope, NULL));
    example_check(else_by,
                  ikv_actions_bind(actions, action, else_by, NULL, NULL));
    return action;
}

static void hear(ikv_action_id action, char *name)
{
    ikv_actions_hear(actions, action, IKV_ACTION_STARTED, press, name, NULL);
    ikv_actions_hear(actions, action, IKV_ACTION_ENDED, press, name, NULL);
}

int main(void)
{
    ikv_kit_config config = IKV_KIT_INIT;
    /* A tap of two fingers is a gesture here, and no two clicks. */
    config.router.two_tap_alone = true;
    example e = example_open("touch_controls.tape.jsonl", &config);
    ikv_target none = {0};
    actions = ikv_kit_actions(e.kit);
    ikv_target left = example_rect(&e, none, 0, 100, 160, 140, NULL);
    ikv_target horn = example_rect(&e, none, 260, 180, 50, 50, NULL);
    ikv_target light = example_rect(&e, none, 320, 180, 50, 50, NULL);
    steer = add("steer", "pointer.stick", left, "pad.left");
    ikv_action_id horns = add("horn", "pointer.primary", horn, "KeyF");
    ikv_action_id lights = add("light", "pointer.primary", light, "KeyL");
    hear(horns, "the horn");
    hear(lights, "the light");
    ikv_bus_hear(ikv_kit_bus(e.kit), IKV_KIND_LOOP_STEP, none, sail, NULL,
                 NULL);
    example_play(&e);
    example_close(&e);
    return 0;
}
