/* 10: two fingers on two objects.
 *
 * A touch captures what it pressed by itself, until it ends; so two fingers
 * that cross never swap their ferries, and one that is taken away (a cancel)
 * lets go of its own alone.
 */
#include "example.h"

typedef struct ferry {
    const char *name;
    ikv_scene *scene;
    ikv_target target;
    float grip[2];
} ferry;

static ikv_verdict handle(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    ferry *f = user;
    const ikv_pointer_data *p = &event->pointer;
    float at[2];
    switch (event->kind) {
    case IKV_KIND_POINTER_DOWN:
        f->grip[0] = delivery->local_x;
        f->grip[1] = delivery->local_y;
        printf("finger %d takes %s\n", p->pointer, f->name);
        break;
    case IKV_KIND_POINTER_MOVE:
        ikv_scene_to_parent(f->scene, f->target, event->view, p->x, p->y, at);
        ikv_scene_move(f->scene, f->target, at[0] - f->grip[0],
                       at[1] - f->grip[1]);
        printf("finger %d moves %s to %g, %g\n", p->pointer, f->name,
               (double)(at[0] - f->grip[0]), (double)(at[1] - f->grip[1]));
        break;
    default:
        printf("finger %d %s %s\n", p->pointer,
               event->kind == IKV_KIND_POINTER_UP ? "lets go of" : "loses",
               f->name);
    }
    return IKV_STOP;
}

static void add(ikv_kit *kit, ferry *f, float x)
{
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN,
                                     IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_UP,
                                     IKV_KIND_POINTER_CANCEL};
    ikv_target_config config = IKV_TARGET_INIT;
    config.x = x;
    config.y = 40;
    config.shape = ikv_scene_rect(0, 0, 120, 40);
    f->scene = ikv_kit_scene(kit);
    ikv_scene_add(f->scene, &config, &f->target, NULL);
    ikv_subscription_config subscription = IKV_SUBSCRIPTION_INIT;
    subscription.kinds = kinds;
    subscription.kind_count = 4;
    subscription.at = f->target;
    subscription.handler = handle;
    subscription.user = f;
    ikv_bus_subscribe(ikv_kit_bus(kit), &subscription, NULL, NULL);
}

int main(void)
{
    ferry one = {.name = "the Anemone"}, two = {.name = "the Petrel"};
    example e = example_open("fingers.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    add(kit, &one, 60);
    add(kit, &two, 380);
    example_play(&e);
    example_close(&e);
    return 0;
}
