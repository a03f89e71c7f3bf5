/* 16: go back, and play on.
 *
 * A ball rolls down a ramp; space gives it a push. After each step the state of
 * the game and of the library is saved; the key R takes both half a second
 * back. What was pressed since is given again, but for the R: so the ball rolls
 * the same way, and the key that went down is still down.
 */
#include "example.h"
#include <ikvar/keys.h>

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    STEPS = 64, /* how far back one can go */
    BACK = 30,
    INPUTS = 1024
};

typedef struct game {
    float ball, speed;
    int pushes;
} game;

typedef struct moment {
    game game;
    char *image;
    uint32_t inputs; /* taken so far */
} moment;

static ikv_parts parts;
static game now;
static moment past[STEPS];
static ikv_taken inputs[INPUTS];
static uint32_t input_count;
static bool back_wanted;

static ikv_verdict key(const ikv_event *event, const ikv_delivery *delivery,
                       void *user)
{
    (void)delivery, (void)user;
    if (event->key.code == ikv_code_find("Space")) {
        now.speed += 2;
        now.pushes++;
    }
    if (event->key.code == ikv_code_find("KeyR"))
        back_wanted = true; /* not inside a handler */
    return IKV_CONTINUE;
}

/* What comes in; the R is of the player, not of the game. */
static void remember(const ikv_event *event, const ikv_intake *intake,
                     void *user)
{
    (void)user;
    if (input_count < INPUTS && event->key.code != ikv_code_find("KeyR"))
        inputs[input_count++] = (ikv_taken){*event, *intake};
}

static void save(uint64_t step)
{
    moment *m = &past[step % STEPS];
    m->game = now;
    m->inputs = input_count;
    example_check("saving",
                  ikv_image_save(&parts, m->image, ikv_image_size(&parts)));
}

static void go_back(uint64_t to)
{
    static ikv_taken since[INPUTS];
    const moment *m = &past[to % STEPS];
    uint32_t count = input_count - m->inputs;
    memcpy(since, inputs + m->inputs, count * sizeof since[0]);
    example_check("going back",
                  ikv_image_restore(&parts, m->image, ikv_image_size(&parts),
                                    since, count));
    input_count = m->inputs; /* they are taken again */
    now = m->game;
}

int main(void)
{
    ikv_target everywhere = {0};
    example e = example_open("rollback.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    parts = ikv_kit_parts(kit);
    for (int i = 0; i < STEPS; i++)
        if ((past[i].image = malloc(ikv_image_size(&parts))) == NULL)
            example_check("an image", IKV_NO_MEMORY);
    ikv_loop *loop = ikv_kit_loop(kit);
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_KEY_DOWN, everywhere, key, NULL,
                 NULL);
    ikv_loop_set_recorder(loop, remember, NULL);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop)) {
            uint64_t step = ikv_loop_step_number(loop);
            now.speed += 0.1f;
            now.ball += now.speed / 60;
            if (step % 30 == 0)
                printf("step %3d: the ball is at %.3f, %d pushes\n", (int)step,
                       (double)now.ball, now.pushes);
            save(step);
            if (back_wanted && step >= BACK) {
                back_wanted = false;
                printf("step %3d: back to step %d\n", (int)step,
                       (int)(step - BACK));
                go_back(step - BACK);
            }
        }
        ikv_loop_end(loop);
    }
    for (int i = 0; i < STEPS; i++)
        free(past[i].image);
    example_close(&e);
    return 0;
}
