/* 26_console.c - an engine's console asks why, when it has already happened: the
 * last decisions are kept, and whoever is puzzled asks of them. */
#include "own_time.h"

#include <ikvar/host.h>

#include <stdio.h>
#include <string.h>

/* What the console knows by name. */
static ikv_target lamp, gull;
static ikv_subscription light;
static ikv_action_id foghorn;

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)event, (void)delivery;
    printf("  %s\n", (const char *)user);
    return IKV_CONTINUE;
}

/* The guard lets nobody light the lamp by night. */
static ikv_verdict watch_over(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)event, (void)user;
    ikv_bus_mute(delivery->bus, light, true);
    return IKV_CONTINUE;
}

static const char *name_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits   ? "lamp"
           : target.bits == gull.bits ? "gull"
                                      : NULL;
}

static ikv_subscription listen(ikv_kit *kit, ikv_kind kind, ikv_target at,
                               ikv_handler handler, const char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    ikv_subscription made = {0};
    config.kind = kind;
    config.at = at;
    config.handler = handler;
    config.user = (void *)"the lamp is lit";
    config.name = name;
    ikv_bus_subscribe(ikv_kit_bus(kit), &config, &made, NULL);
    return made;
}

static ikv_target add_round(ikv_kit *kit, float x, float radius, int z)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0};
    config.x = x, config.y = 50, config.z = z;
    config.shape = ikv_scene_circle(0, 0, radius);
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    return target;
}

/* -------------------------------------------------------------- the game -- */

static void frame(ikv_kit *kit, ikv_event event)
{
    ikv_loop *loop = ikv_kit_loop(kit);
    ikv_queue_push(ikv_kit_queue(kit), &event);
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

static void click(ikv_kit *kit, float x)
{
    ikv_event touch = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    touch.pointer = (ikv_pointer_data){.x = x, .y = 50, .type = IKV_MOUSE};
    printf("click at %g\n", (double)x);
    frame(kit, touch);
    touch.kind = IKV_KIND_POINTER_UP;
    frame(kit, touch);
}

static void press_key(ikv_kit *kit, const char *code)
{
    ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    key.key.code = ikv_code_find(code);
    printf("press %s\n", code);
    frame(kit, key);
    key.kind = IKV_KIND_KEY_UP;
    frame(kit, key);
}

/* ----------------------------------------------------------- the console -- */

/* "why NAME": nothing was asked before, all of it has happened. */
static void console_why(ikv_kit *kit, const ikv_why_past *past,
                        const char *name)
{
    ikv_why_config question = IKV_WHY_INIT;
    ikv_why *why;
    question.kit = kit;
    question.past = past;
    question.target_name = name_of;
    question.about = strcmp(name, "light") == 0     ? IKV_ASK_HANDLER
                     : strcmp(name, "foghorn") == 0 ? IKV_ASK_ACTION
                                                    : IKV_ASK_TARGET;
    question.subscription = light;
    question.action = foghorn;
    question.target = lamp;
    printf("> why %s\n", name);
    if (ikv_why_open(&question, &why) != IKV_OK)
        return;
    ikv_why_print(why, stdout, IKV_PRINT_TEXT);
    ikv_why_close(why);
}

int main(void)
{
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    ikv_why_past *past;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    port.now = time_now;
    port.wait = wait_until;
    if (ikv_kit_open(&config, &kit) != IKV_OK)
        return 1;
    lamp = add_round(kit, 100, 14, 0);
    gull = add_round(kit, 110, 8, 1);
    light = listen(kit, IKV_KIND_POINTER_CLICK, lamp, hear, "light");
    listen(kit, IKV_KIND_POINTER_DOWN, gull, watch_over, "guard");
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_actions_add(actions, IKV_MAIN_SET, "foghorn", &foghorn);
    ikv_actions_bind(actions, foghorn, "Control+KeyF", NULL, NULL);
    if (ikv_why_watch(kit, 100, &past) != IKV_OK)
        return 1;

    click(kit, 110); /* the gull sits there, and the guard wakes */
    console_why(kit, past, "lamp");
    click(kit, 95);
    console_why(kit, past, "light");
    press_key(kit, "KeyF");
    console_why(kit, past, "foghorn");

    ikv_why_unwatch(past);
    ikv_kit_close(kit);
    return 0;
}
