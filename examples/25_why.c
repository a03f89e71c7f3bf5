/* 25_why.c - why was my handler not called? Asked by the program itself: a lamp
 * that is clicked three times, and does not light. */
#include "own_time.h"

#include <ikvar/host.h>

#include <stdio.h>

static ikv_target lamp, gull;

static ikv_verdict light(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)event, (void)delivery, (void)user;
    printf("the lamp is lit\n");
    return IKV_CONTINUE;
}

static const char *name_of(void *user, ikv_target target)
{
    (void)user;
    return target.bits == lamp.bits   ? "the lamp"
           : target.bits == gull.bits ? "the gull"
                                      : NULL;
}

/* A press and a release at a place, each in a step of its own. */
static void click(ikv_kit *kit, float x, float y)
{
    ikv_event touch = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    touch.pointer = (ikv_pointer_data){.x = x, .y = y, .type = IKV_TOUCH};
    for (int i = 0; i < 2; i++) {
        touch.kind = i == 0 ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_UP;
        ikv_queue_push(ikv_kit_queue(kit), &touch);
        ikv_loop *loop = ikv_kit_loop(kit);
        ikv_loop_begin(loop);
        while (ikv_loop_step(loop)) {
        }
        ikv_loop_end(loop);
    }
}

static ikv_target add_round(ikv_kit *kit, float x, float y, float radius, int z)
{
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target target = {0};
    config.x = x, config.y = y, config.z = z;
    config.shape = ikv_scene_circle(0, 0, radius);
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    return target;
}

/* The answer for the clicks since the question was opened; then it is asked
 * anew. */
static void answer(const ikv_why_config *config, ikv_why **why)
{
    ikv_why_print(*why, stdout, IKV_PRINT_TEXT);
    ikv_why_close(*why);
    ikv_why_open(config, why);
}

int main(void)
{
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    port.now = time_now;
    port.wait = wait_until;
    if (ikv_kit_open(&config, &kit) != IKV_OK)
        return 1;
    lamp = add_round(kit, 100, 50, 14, 0);
    gull = add_round(kit, 110, 50, 8, 1);
    ikv_subscription_config hears = IKV_SUBSCRIPTION_INIT;
    ikv_condition mouse = {
        "type", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = IKV_MOUSE}}, false};
    hears.kind = IKV_KIND_POINTER_CLICK;
    hears.at = lamp;
    hears.handler = light;
    hears.name = "light";
    hears.conditions = &mouse;
    hears.condition_count = 1;
    ikv_why_config question = IKV_WHY_INIT;
    ikv_why *why;
    question.kit = kit;
    question.about = IKV_ASK_HANDLER;
    question.target_name = name_of;
    ikv_bus_subscribe(ikv_kit_bus(kit), &hears, &question.subscription, NULL);
    if (ikv_why_open(&question, &why) != IKV_OK)
        return 1;
    click(kit, 120, 60); /* beside it */
    answer(&question, &why);
    click(kit, 110, 52); /* beneath the gull */
    answer(&question, &why);
    click(kit, 95, 50); /* with a finger, where it wants a mouse */
    answer(&question, &why);
    ikv_why_close(why);
    ikv_kit_close(kit);
    return 0;
}
