/* 22: state instead of events.
 *
 * Movement is simpler to ask for than to be told of: what is down in this step,
 * where is the pointer, how far is the stick. A press and its release within
 * one step are both seen. What a handler stopped is not in the unclaimed view;
 * what is down when the window loses the focus is down no more.
 */
#include "example.h"

static void look(const ikv_state *state, uint64_t step)
{
    ikv_key_state right = ikv_state_key(state, IKV_STATE_UNCLAIMED, 0,
                                        ikv_code_find("ArrowRight"));
    bool shift =
        (ikv_state_modifiers(state, IKV_STATE_UNCLAIMED, 0) & IKV_SHIFT) != 0;
    ikv_pointer_state pointer;
    ikv_pad_state pad;
    printf("step %2u ", (unsigned)step);
    if (right.went_down)
        printf(" right goes down;");
    if (right.down)
        printf(" %s right, held for %d ms;", shift ? "runs" : "walks",
               (int)(right.held_ns / 1000000));
    if (right.went_up)
        printf(" right goes up;");
    if (ikv_state_pointer(state, IKV_STATE_UNCLAIMED, 0, &pointer)) {
        printf(" pointer at %g, %g", (double)pointer.x, (double)pointer.y);
        if (pointer.dx > 0)
            printf(", moved by %g", (double)pointer.dx);
        if (pointer.went_down && pointer.went_up)
            printf(", pressed and released");
        printf(";");
    }
    if (ikv_state_pad(state, IKV_STATE_UNCLAIMED, 0, &pad) && pad.left[0] < 0)
        printf(" stick left by %.2f;", (double)-pad.left[0]);
    printf("\n");
}

int main(void)
{
    example e = example_open("state.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    ikv_loop *loop = ikv_kit_loop(kit);
    while (ikv_loop_begin(loop)) {
        while (ikv_loop_step(loop))
            look(ikv_kit_state(kit), ikv_loop_step_number(loop));
        ikv_loop_end(loop);
    }
    example_close(&e);
    return 0;
}
