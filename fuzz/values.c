/* values.c - arguments of calls, made of bytes: wild ones, or such as a game has
 * them. */
#include "world.h"

#include <math.h>

uint8_t a_byte(world *w)
{
    return w->at < w->end ? *w->at++ : 0;
}

uint32_t a_word(world *w)
{
    uint32_t low = a_byte(w), high = a_byte(w);
    return low | high << 8;
}

float a_number(world *w)
{
    static const float odd[] = {
        0,     -0.0f, 1,        -1,    0.5f, 1e9f, -1.5e9f, 1e30f,     -1e-30f,
        1e-6f, NAN,   INFINITY, 3e38f, 360,  -720, 100,     1073741824};
    uint32_t what = a_byte(w);
    if (w->tame)
        return (float)what / 4 - 2;
    if (what < sizeof odd / sizeof odd[0])
        return odd[what];
    return ((float)what - 128) / (float)(1 + a_byte(w) % 8);
}

uint32_t a_count(world *w)
{
    static const uint32_t odd[] = {0, 1, UINT32_MAX, 0x80000000u, 65536};
    uint32_t what = a_byte(w);
    return what < 5 ? odd[what] : what;
}

uint64_t a_time(world *w)
{
    static const uint64_t odd[] = {0, 1, UINT64_MAX, 1ull << 63, 1000000};
    uint32_t what = a_byte(w);
    return what < 5 ? odd[what] : (uint64_t)what * 3000000;
}

uint32_t a_place(world *w)
{
    return a_byte(w) % TARGETS;
}

ikv_target a_target(world *w)
{
    uint32_t what = a_byte(w);
    for (uint32_t i = 0; w->tame && what < 250 && i < TARGETS; i++)
        if (w->alive[(what + i) % TARGETS])
            return w->targets[(what + i) % TARGETS];
    if (what < 250)
        return w->targets[what % TARGETS];
    return what == 250   ? ikv_bus_root(w->bus)
           : what == 251 ? (ikv_target){UINT32_MAX}
           : what == 252 ? (ikv_target){a_word(w)}
                         : (ikv_target){0};
}

ikv_kind a_kind(world *w)
{
    uint32_t what = a_byte(w);
    if (w->tame)
        return (ikv_kind)(1 + what % 63);
    return what < 250 ? (ikv_kind)(what % 80) : (ikv_kind)(a_word(w));
}

ikv_event an_event(world *w)
{
    ikv_kind of = a_kind(w);
    ikv_event e = ikv_event_make(of, a_time(w));
    e.target = a_target(w);
    e.device = a_byte(w) % 4 != 0 ? w->device : (uint16_t)a_word(w);
    e.view = a_byte(w) % 5;
    e.seat = a_byte(w) % 5;
    e.modifiers = a_byte(w);
    uint8_t *payload = (uint8_t *)&e.pointer;
    switch (a_byte(w) % 4) {
    case 0:
        for (uint32_t i = 0; i < 32; i++)
            payload[i] = a_byte(w);
        break;
    case 1:
        e.key.code = IKV_CODE(a_byte(w));
        e.key.key = a_byte(w);
        break;
    default:
        e.pointer.x = a_number(w);
        e.pointer.y = a_number(w);
        e.pointer.pointer = a_byte(w) % 4;
        e.pointer.type = a_byte(w) % 4;
        e.pointer.button = (int8_t)(a_byte(w) % 7 - 1);
        break;
    }
    return e;
}

float a_size(world *w)
{
    float wild = a_number(w);
    return w->tame ? 0.25f + wild / 32 : wild;
}

ikv_shape a_shape(world *w)
{
    static const float ring[] = {4,  0, 3,  3,  0, 4,  -3, 3,
                                 -4, 0, -3, -3, 0, -4, 3,  -3};
    uint32_t form = a_byte(w) % 7;
    float x = a_number(w), y = a_number(w), a = a_number(w), b = a_number(w);
    switch (form) {
    case 0:
        return ikv_scene_rect(x, y, a, b);
    case 1:
        return ikv_scene_circle(x, y, a);
    case 2:
        return ikv_scene_capsule(x, y, a, b, a_size(w));
    case 3:
        for (int i = 0; i < 16; i++)
            w->points[i] = w->tame ? (i % 2 ? y : x) + ring[i] * (1 + a / 16)
                                   : a_number(w);
        return ikv_scene_polygon(w->points, 3 + a_byte(w) % 6);
    case 4:
        return ikv_scene_point(x, y);
    case 5:
        return ikv_scene_own(x, y, a, b);
    default:
        return ikv_scene_rect(0, 0, 60, 30);
    }
}

const char *a_name(world *w)
{
    static const char *const names[] = {"tug", "pier", "lamp",  "gull",
                                        "",    "buoy", "ferry", "crane"};
    return names[a_byte(w) % 8];
}
