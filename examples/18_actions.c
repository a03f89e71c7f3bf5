/* 18: an action with three bindings, and one that happens once only.
 *
 * The game knows a foghorn, not keys: a key, the secondary button and a tap
 * with two fingers all sound it. Its cause tells which it was. The harbour
 * master's greeting is bound to another key; its handler hears one start, and
 * no more.
 */
#include "example.h"

static ikv_actions *actions;

static ikv_verdict sound(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    char binding[IKV_BINDING_BYTES];
    const ikv_kind_info *cause =
        ikv_catalogue_info(NULL, delivery->cause->kind);
    (void)user;
    ikv_binding_text(actions, ikv_actions_binding_of(actions, event), binding,
                     sizeof binding);
    if (event->kind == IKV_KIND_ACTION_START)
        printf("%3d ms  the foghorn sounds: %s, by a %s\n",
               (int)(event->time_ns / 1000000), binding, cause->name);
    else
        printf("%3d ms  it is silent after %u steps\n",
               (int)(event->time_ns / 1000000), event->action.steps);
    return IKV_CONTINUE;
}

static ikv_verdict greet(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)delivery, (void)user;
    printf("%3d ms  the harbour master greets, once\n",
           (int)(event->time_ns / 1000000));
    return IKV_CONTINUE;
}

/* The handler hears that action alone. */
static void hear(ikv_bus *bus, ikv_kind kind, ikv_action_id action,
                 ikv_handler handler, uint32_t limit)
{
    ikv_subscription_config wants = IKV_SUBSCRIPTION_INIT;
    ikv_condition is = {"action",
                        IKV_EQUAL,
                        {IKV_VALUE_INTEGER, {.integer = action.bits}},
                        false};
    wants.kind = kind;
    wants.conditions = &is;
    wants.condition_count = 1;
    wants.handler = handler;
    wants.limit = limit;
    ikv_bus_subscribe(bus, &wants, NULL, NULL);
}

int main(void)
{
    ikv_action_id foghorn, greeting;
    example e = example_open("foghorn.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    actions = ikv_kit_actions(kit);
    ikv_actions_add(actions, IKV_MAIN_SET, "foghorn", &foghorn);
    ikv_actions_bind(actions, foghorn, "KeyF", NULL, NULL);
    ikv_actions_bind(actions, foghorn, "pointer.secondary", NULL, NULL);
    ikv_actions_bind(actions, foghorn, "gesture.two_tap", NULL, NULL);
    ikv_actions_add(actions, IKV_MAIN_SET, "greet", &greeting);
    ikv_actions_bind(actions, greeting, "KeyG", NULL, NULL);

    ikv_bus *bus = ikv_kit_bus(kit);
    hear(bus, IKV_KIND_ACTION_START, foghorn, sound, 0);
    hear(bus, IKV_KIND_ACTION_END, foghorn, sound, 0);
    hear(bus, IKV_KIND_ACTION_START, greeting, greet, 1);
    example_play(&e);
    example_close(&e);
    return 0;
}
