/* sim_random.c - input that nobody meant: a mouse, ten fingers, a pen and a
 * keyboard, each doing what comes to mind. */
#include "sim.h"

#include "ikvar/keys.h"

static float real_below(sim_random *r, float limit)
{
    return limit * (float)ikvi_dice_below(&r->dice, 65536) / 65536;
}

void ikvi_random_open(sim_random *random, uint32_t seed, float width,
                      float height)
{
    *random = (sim_random){.dice = {seed * UINT64_C(0x9e3779b97f4a7c15) + 1},
                           .width = width > 0 ? width : 640,
                           .height = height > 0 ? height : 360};
    for (uint32_t i = 0; i < SIM_HANDS; i++) {
        sim_hand *hand = &random->hands[i];
        hand->type = i == 0 ? IKV_MOUSE : i == 1 ? IKV_PEN : IKV_TOUCH;
        if (i >= SIM_HANDS - 2)
            hand->type = 255;
        hand->next_ns = ikvi_dice_below(&random->dice, 1000) * 1000000ull;
    }
}

static void wait_for(sim_random *r, sim_hand *hand, uint32_t most_us)
{
    hand->next_ns += 1 + ikvi_dice_below(&r->dice, most_us) * 1000ull;
}

static uint32_t random_code(sim_random *r)
{
    uint32_t codes = 0;
    while (ikv_code_list(codes) != 0)
        codes++;
    return ikv_code_list(ikvi_dice_below(&r->dice, codes));
}

static void use_key(sim_random *r, sim_hand *hand, ikv_event *e)
{
    uint32_t what = ikvi_dice_below(&r->dice, 8);
    if (!hand->down && what == 0) {
        *e = ikv_event_make(IKV_KIND_TEXT_INPUT, hand->next_ns);
        e->text.length = 1;
        e->text.bytes[0] = (char)('a' + ikvi_dice_below(&r->dice, 26));
    } else {
        if (!hand->down)
            hand->code = random_code(r);
        bool up = hand->down && what > 3; /* else it repeats */
        *e = ikv_event_make(up ? IKV_KIND_KEY_UP : IKV_KIND_KEY_DOWN,
                            hand->next_ns);
        e->key.code = hand->code;
        e->key.key = ikv_key_of_code(hand->code);
        e->key.location = ikv_code_location(hand->code);
        hand->down = !up;
    }
    e->device = 3;
    wait_for(r, hand, 300000);
}

static void move_hand(sim_random *r, sim_hand *hand)
{
    if (hand->moves_left == 0) {
        hand->moves_left = 1 + ikvi_dice_below(&r->dice, 60);
        hand->dx = real_below(r, 24) - 12;
        hand->dy = real_below(r, 24) - 12;
    }
    hand->moves_left--;
    hand->x += hand->dx;
    hand->y += hand->dy;
    if (hand->x < -50 || hand->x > r->width + 50 || hand->y < -50 ||
        hand->y > r->height + 50) {
        hand->x = real_below(r, r->width);
        hand->y = real_below(r, r->height);
    }
}

static ikv_kind next_of_pointer(sim_random *r, sim_hand *hand)
{
    uint32_t what = ikvi_dice_below(&r->dice, 100);
    bool touch = hand->type == IKV_TOUCH;
    if (hand->down)
        return what < 12    ? IKV_KIND_POINTER_UP
               : what == 12 ? IKV_KIND_POINTER_CANCEL
                            : IKV_KIND_POINTER_MOVE;
    if (touch || what < 10)
        return IKV_KIND_POINTER_DOWN;
    return what < 14    ? IKV_KIND_WHEEL
           : what == 14 ? IKV_KIND_POINTER_LEAVE
                        : IKV_KIND_POINTER_MOVE;
}

static void use_pointer(sim_random *r, sim_hand *hand, ikv_event *e)
{
    ikv_kind kind = next_of_pointer(r, hand);
    move_hand(r, hand);
    *e = ikv_event_make(kind, hand->next_ns);
    e->device = (uint16_t)(hand->type == IKV_MOUSE   ? 1
                           : hand->type == IKV_TOUCH ? 2
                                                     : 4);
    if (kind == IKV_KIND_WHEEL) {
        e->wheel.x = hand->x;
        e->wheel.y = hand->y;
        e->wheel.dy = ikvi_dice_below(&r->dice, 2) ? 1 : -1;
    } else {
        if (kind == IKV_KIND_POINTER_DOWN)
            hand->id = hand->type == IKV_TOUCH
                           ? (uint16_t)(1 + ikvi_dice_below(&r->dice, 20) +
                                        20 * (hand - r->hands))
                           : 0;
        e->pointer.pointer = hand->id;
        e->pointer.type = hand->type;
        e->pointer.x = hand->x;
        e->pointer.y = hand->y;
        e->pointer.button =
            kind == IKV_KIND_POINTER_DOWN || kind == IKV_KIND_POINTER_UP
                ? IKV_PRIMARY_BUTTON
                : IKV_NO_BUTTON;
    }
    hand->down = kind == IKV_KIND_POINTER_DOWN ||
                 (hand->down && kind == IKV_KIND_POINTER_MOVE);
    wait_for(r, hand,
             hand->down                ? 16000
             : hand->type == IKV_TOUCH ? 800000
                                       : 30000);
}

void ikvi_random_next(sim_random *random, ikv_event *event)
{
    sim_hand *next = &random->hands[0];
    for (uint32_t i = 1; i < SIM_HANDS; i++)
        if (random->hands[i].next_ns < next->next_ns)
            next = &random->hands[i];
    if (next->type == 255)
        use_key(random, next, event);
    else
        use_pointer(random, next, event);
}
