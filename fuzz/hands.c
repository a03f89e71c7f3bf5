/* hands.c - input as ports push it: any event, and what hands do; and many
 * targets for them. */
#include "world.h"

void push(world *w)
{
    ikv_event e = an_event(w);
    if (a_byte(w) % 2)
        e.time_ns = w->now;
    if (a_byte(w) % 16 == 0)
        ikv_sink_lost(w->sink, e.device);
    if (a_byte(w) % 3 == 0)
        fuzz_number((uint64_t)ikv_sink_push_any(w->sink, &e));
    else
        fuzz_number((uint64_t)ikv_sink_push(w->sink, &e));
}

/* What hands do: so that presses, drags, releases and gestures come about. */
static void fill_hand(world *w, ikv_event *e)
{
    uint8_t what = a_byte(w), more = a_byte(w);
    switch (e->kind) {
    case IKV_KIND_KEY_DOWN:
    case IKV_KIND_KEY_UP:
        e->key.code = IKV_CODE(4 + what % 30);
        if (what >= 220) /* Tab, Escape and the modifiers, more often */
            e->key.code =
                IKV_CODE(what < 228 ? 0x29 + what % 3 : 0xe0 + more % 8);
        e->flags = more % 8 == 0 ? IKV_REPEAT : 0;
        e->seat = more % 16 == 1;
        break;
    case IKV_KIND_PAD_DOWN:
    case IKV_KIND_PAD_UP:
    case IKV_KIND_PAD_AXIS:
        e->pad.index = what % 6;
        e->pad.pad = more % 2;
        e->pad.value = (float)(more / 2 % 9) / 4 - 1;
        break;
    default:
        e->pointer.x = (float)(what % 64);
        e->pointer.y = (float)(more % 36);
        what = a_byte(w);
        e->pointer.dx = (float)(more % 8) - 4;
        e->pointer.dy = (float)(what % 8) - 4;
        e->pointer.pointer = what % 3;
        e->pointer.type = what / 4 % 3;
        e->view = what / 16 == 3;
        if (e->kind == IKV_KIND_WHEEL)
            e->wheel.dy = (float)(what % 7) - 3;
        else if (e->pointer.type == IKV_MOUSE && what > 200)
            e->pointer.button = (int8_t)(what % 5);
        break;
    }
}

static void give_hand(world *w, const ikv_event *e)
{
    static const char path[32] = "a dropped file's path"; /* and zeros */
    ikv_intake intake = IKV_INTAKE_INIT;
    if (!w->plays) {
        fuzz_number((uint64_t)ikv_sink_push(w->sink, e));
        return;
    }
    uint32_t what = a_byte(w);
    w->last_due += what % 8 * 2000000;
    intake.has_due = what % 16 != 0;
    intake.due_ns = w->last_due;
    intake.how = what >= 224 ? (uint8_t)(what % 3) : 0;
    intake.lane = what / 8 % 4;
    intake.group = what / 32 == 6 ? 1 + a_byte(w) % 2 : 0;
    intake.within = what / 64 == 3;
    intake.flush = what / 4 % 4;
    if (what / 16 == 4) {
        intake.data = path;
        intake.data_size = 1 + what % 8 * 4;
    }
    fuzz_number((uint64_t)ikv_sink_play(w->sink, e, &intake));
}

void push_hand(world *w)
{
    static const ikv_kind kinds[] = {
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN,   IKV_KIND_POINTER_UP,
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_DOWN,   IKV_KIND_POINTER_UP,
        IKV_KIND_KEY_DOWN,     IKV_KIND_KEY_UP,         IKV_KIND_WHEEL,
        IKV_KIND_PAD_DOWN,     IKV_KIND_PAD_UP,         IKV_KIND_PAD_AXIS,
        IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_CANCEL, IKV_KIND_POINTER_UP,
        IKV_KIND_PEN_DISTANCE, IKV_KIND_POINTER_MOVE,   IKV_KIND_KEY_DOWN};
    static const ikv_kind seldom[] = {
        IKV_KIND_DEVICE_ADD,   IKV_KIND_DEVICE_REMOVE, IKV_KIND_WINDOW_BLUR,
        IKV_KIND_WINDOW_FOCUS, IKV_KIND_WINDOW_HIDE,   IKV_KIND_WINDOW_RESIZE};
    uint32_t what = a_byte(w);
    ikv_kind of = what >= 250 ? seldom[what - 250] : kinds[what % 18];
    ikv_event e = ikv_event_make(of, w->now);
    e.device = w->device;
    if (what < 250)
        fill_hand(w, &e);
    give_hand(w, &e);
}

/* A flick of the finger, a key struck: down and up in one frame. */
void strike(world *w)
{
    uint32_t what = a_byte(w);
    ikv_event e = ikv_event_make(
        what % 2 ? IKV_KIND_POINTER_DOWN : IKV_KIND_KEY_DOWN, w->now);
    e.device = w->device;
    fill_hand(w, &e);
    give_hand(w, &e);
    e.kind++;
    if (what % 2 && what / 2 % 4 == 0)
        e.pointer.x += 3;
    e.time_ns += what / 8 * 1000000;
    give_hand(w, &e);
}

/* Two fingers that go down, move and go up, a frame or more apart. */
void pinch(world *w)
{
    uint32_t frames = 1 + a_byte(w) % 4, way = a_byte(w);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, w->now);
    e.device = w->device;
    e.pointer.type = IKV_TOUCH;
    for (uint32_t i = 0; i < 2 * frames + 2; i++) {
        if (i >= 2)
            e.kind =
                i < 2 * frames ? IKV_KIND_POINTER_MOVE : IKV_KIND_POINTER_UP;
        e.pointer.pointer = (uint16_t)(i % 2);
        e.pointer.x = 20 + (float)(i % 2 ? 1 + way % 8 * i : i * (way / 64));
        e.pointer.y = 10 + (float)(i % 2 ? way / 8 % 8 * i : i % 3);
        e.time_ns = w->now;
        give_hand(w, &e);
        if (i % 2 && w->running == 0)
            run_frame(w);
    }
}

/* More targets than are looked at one by one. */
void add_crowd(world *w)
{
    uint32_t count = a_byte(w), spread = 1 + a_byte(w) % 16;
    ikv_target_config config = IKV_TARGET_INIT;
    ikv_target made = {0};
    for (uint32_t i = 0; i < count; i++) {
        config.x = (float)(i * 7 % 61 * spread) / 8;
        config.y = (float)(i * 5 % 37 * spread) / 8;
        config.z = (int32_t)(i % 3);
        config.hit = i % 5 == 0 ? IKV_HIT_PASS : IKV_HIT_SOLID;
        config.tags = i % 4;
        config.shape = i % 2 ? ikv_scene_circle(0, 0, (float)(i % 4) + 0.5f)
                             : ikv_scene_rect(0, 0, 2, (float)(1 + i % 3));
        if (ikv_scene_add(w->scene, &config, &made, NULL) < 0)
            break;
    }
    fuzz_number(made.bits);
    w->model = false;
    w->crowded = true;
    if (made.bits != 0)
        w->targets[a_byte(w) % TARGETS] = made;
}

void type_text(world *w)
{
    static const char *const texts[] = {
        "a", "ferry to pier two, and back again", "\xc3\xa4", "\xff", ""};
    ikv_event e = ikv_event_make(IKV_KIND_TEXT_INPUT, w->now);
    uint32_t what = a_byte(w);
    const char *text = texts[what % 5];
    size_t length = strlen(text);
    e.device = w->device;
    if (what < 128) {
        fuzz_number((uint64_t)ikv_sink_push_text(w->sink, &e, text, length));
        return;
    }
    e.kind = what / 8 % 2 ? IKV_KIND_TEXT_COMPOSE : IKV_KIND_KEY_DOWN;
    if (length > 32)
        length = 32 + what / 16 % 2;
    fuzz_number(
        (uint64_t)(what / 32 % 2
                       ? ikv_sink_push_data(w->sink, &e, text, length)
                       : ikv_sink_push_data_any(w->sink, &e, text, length)));
}
