/* tape_play.c - gestures on tapes: a line says what is done, and becomes the
 * events that a pointer or a keyboard gives then. */
#include "tape.h"

#include "ikvar/keys.h"

#include <math.h>
#include <string.h>

enum {
    PLAY_DRAG = 1,
    PLAY_TAP = 2,
    PLAY_PINCH = 3,
    PLAY_TEXT = 4
};

static const char *const play_names[] = {"drag", "tap", "pinch", "text", NULL};

static const char *const play_members[][14] = {
    {"t", "play", "path", "ms", "every", "type", "pointer", "button", "device",
     "view", "seat", NULL},
    {"t", "play", "x", "y", "ms", "count", "type", "pointer", "button",
     "device", "view", "seat", NULL},
    {"t", "play", "x", "y", "from", "to", "turn", "ms", "every", "pointer",
     "device", "view", "seat", NULL},
    {"t", "play", "text", "every", "device", "view", "seat", NULL},
};

/* -------------------------------------------------------------- reading -- */

static bool read_small(reader *r, const json_t *object, const char *member,
                       int64_t most, int64_t *to)
{
    return ikvi_read_integer(r, NULL, object, member, 0, most, to);
}

static bool read_ms(reader *r, const json_t *object, const char *member,
                    double least, uint64_t *to)
{
    double ms = (double)*to / 1e6;
    if (!ikvi_read_number(r, NULL, object, member, least, 1e6, &ms))
        return false;
    *to = (uint64_t)(ms * 1e6 + 0.5);
    return true;
}

static bool read_path(reader *r, const json_t *object, tape_play *play)
{
    json_t *path = json_object_get(object, "path");
    place at = {NULL, "path", 0};
    if (!ikvi_expect_array(r, &at, path))
        return false;
    size_t count = json_array_size(path);
    if (count < 2 || count > PLAY_POINTS)
        return ikvi_reader_fail(r, &at, "expected 2 to %d points, found %zu",
                                PLAY_POINTS, count);
    play->point_count = (uint32_t)count;
    for (size_t i = 0; i < count; i++) {
        place here = {&at, NULL, i};
        if (!ikvi_read_floats(r, &here, json_array_get(path, i), 2,
                              play->points[i]))
            return false;
    }
    return true;
}

static bool read_point(reader *r, const json_t *object, tape_play *play)
{
    double x = 0, y = 0;
    if (!ikvi_read_number(r, NULL, object, "x", -1e9, 1e9, &x) ||
        !ikvi_read_number(r, NULL, object, "y", -1e9, 1e9, &y))
        return false;
    if (json_object_get(object, "x") == NULL ||
        json_object_get(object, "y") == NULL)
        return ikvi_reader_fail(r, NULL, "expected \"x\" and \"y\"");
    play->points[0][0] = (float)x;
    play->points[0][1] = (float)y;
    play->point_count = 1;
    return true;
}

static bool read_pointer_type(reader *r, const json_t *object, tape_play *play)
{
    const char *type = "touch";
    uint64_t value;
    if (!ikvi_read_string(r, NULL, object, "type", false, &type))
        return false;
    if (!ikv_value_find(IKV_SET_POINTER_TYPE, type, &value))
        return ikvi_reader_fail(
            r, NULL,
            "type: expected \"mouse\", \"pen\" or \"touch\", "
            "found \"%.40s\"",
            type);
    play->type = (uint8_t)value;
    return true;
}

static bool read_common(reader *r, const json_t *object, tape_play *play)
{
    int64_t device = 1, view = 0, seat = 0, pointer = 1, button = 0, count = 1;
    double from = 80, to = 80, turn = 0;
    if (!read_small(r, object, "device", UINT16_MAX, &device) ||
        !read_small(r, object, "view", 255, &view) ||
        !read_small(r, object, "seat", 255, &seat) ||
        !read_small(r, object, "pointer", UINT16_MAX - 1, &pointer) ||
        !read_small(r, object, "button", IKV_BUTTON_LIMIT - 1, &button) ||
        !ikvi_read_integer(r, NULL, object, "count", 1, 1000, &count) ||
        !ikvi_read_number(r, NULL, object, "from", 0, 1e6, &from) ||
        !ikvi_read_number(r, NULL, object, "to", 0, 1e6, &to) ||
        !ikvi_read_number(r, NULL, object, "turn", -3600, 3600, &turn) ||
        !read_ms(r, object, "ms", 0, &play->length_ns) ||
        !read_ms(r, object, "every", 0.01, &play->every_ns) ||
        !read_pointer_type(r, object, play))
        return false;
    play->device = (uint16_t)device;
    play->view = (uint8_t)view;
    play->seat = (uint8_t)seat;
    play->pointer = (uint16_t)pointer;
    play->other = (uint16_t)(pointer + 1);
    play->button = (int8_t)button;
    play->count = (uint32_t)count;
    play->from = (float)from;
    play->to = (float)to;
    play->turn = (float)turn;
    return true;
}

static bool read_typing(reader *r, const json_t *object, tape_play *play)
{
    const char *text = NULL;
    if (!ikvi_read_string(r, NULL, object, "text", true, &text))
        return false;
    if (strlen(text) >= sizeof play->text || text[0] == '\0')
        return ikvi_reader_fail(r, NULL,
                                "text: expected 1 to %zu bytes, found %zu",
                                sizeof play->text - 1, strlen(text));
    memcpy(play->text, text, strlen(text) + 1);
    return true;
}

static bool read_play(reader *r, const json_t *object, uint64_t time_ns,
                      tape_play *play)
{
    static const uint64_t lengths_ms[] = {0, 300, 60, 400, 0};
    const char *name = NULL;
    if (!ikvi_read_string(r, NULL, object, "play", true, &name))
        return false;
    uint32_t what = 0;
    while (play_names[what] != NULL && strcmp(play_names[what], name) != 0)
        what++;
    if (play_names[what] == NULL) {
        char hint[IKV_HINT_BYTES];
        const char *near = ikv_nearest_name(name, play_names);
        return ikvi_reader_fail(
            r, NULL,
            "play: expected \"drag\", \"tap\", \"pinch\" or "
            "\"text\", found \"%.40s\"%s",
            name, ikv_did_you_mean(near, hint, sizeof hint));
    }
    *play = (tape_play){.what = what + 1,
                        .begin_ns = time_ns,
                        .length_ns = lengths_ms[what + 1] * 1000000,
                        .every_ns = what + 1 == PLAY_TEXT ? 80000000 : 8000000};
    if (!ikvi_expect_object(r, NULL, object, play_members[what]) ||
        !read_common(r, object, play))
        return false;
    if (play->what == PLAY_TEXT)
        return read_typing(r, object, play);
    return play->what == PLAY_DRAG ? read_path(r, object, play)
                                   : read_point(r, object, play);
}

/* --------------------------------------------------------------- events -- */

static void pointer_at(tape_play *play, ikv_kind kind, uint16_t pointer,
                       float x, float y)
{
    ikv_event *e = &play->next;
    *e = ikv_event_make(kind, play->next_ns);
    e->device = play->device;
    e->view = play->view;
    e->seat = play->seat;
    e->pointer.pointer = pointer;
    e->pointer.type = play->type;
    e->pointer.x = x;
    e->pointer.y = y;
    e->pointer.button =
        kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : play->button;
}

/* How many moves there are between the press and the release. */
static uint32_t moves_of(const tape_play *play)
{
    return (uint32_t)((play->length_ns + play->every_ns - 1) / play->every_ns);
}

static uint64_t time_of_move(const tape_play *play, uint32_t move)
{
    uint64_t after = move * play->every_ns;
    return play->begin_ns + (after < play->length_ns ? after : play->length_ns);
}

/* The square root is exact, and so the same on every machine. */
static double distance(const float a[2], const float b[2])
{
    double dx = (double)b[0] - (double)a[0], dy = (double)b[1] - (double)a[1];
    return sqrt(dx * dx + dy * dy);
}

/* The point that lies such a part of the path's length along it. */
static void point_on_path(const tape_play *play, double part, float out[2])
{
    double whole = 0, left;
    for (uint32_t i = 1; i < play->point_count; i++)
        whole += distance(play->points[i - 1], play->points[i]);
    left = part * whole;
    for (uint32_t i = 1; i < play->point_count; i++) {
        const float *a = play->points[i - 1], *b = play->points[i];
        double length = distance(a, b);
        if (left <= length || i + 1 == play->point_count) {
            float along = (float)(length > 0 ? left / length : 0);
            along = along > 1 ? 1 : along;
            out[0] = a[0] + (b[0] - a[0]) * along;
            out[1] = a[1] + (b[1] - a[1]) * along;
            return;
        }
        left -= length;
    }
}

static bool next_of_drag(tape_play *play)
{
    uint32_t moves = moves_of(play), at = play->at;
    float point[2] = {0, 0};
    if (at > moves + 1)
        return false;
    play->next_ns = time_of_move(play, at > moves ? moves : at);
    point_on_path(play, at >= moves ? 1 : (double)at / moves, point);
    pointer_at(play,
               at == 0           ? IKV_KIND_POINTER_DOWN
               : at == moves + 1 ? IKV_KIND_POINTER_UP
                                 : IKV_KIND_POINTER_MOVE,
               play->pointer, point[0], point[1]);
    return true;
}

/* Several taps are as far apart as each is long. */
static bool next_of_tap(tape_play *play)
{
    if (play->at >= 2 * play->count)
        return false;
    play->next_ns = play->begin_ns + play->at * play->length_ns;
    pointer_at(play,
               play->at % 2 == 0 ? IKV_KIND_POINTER_DOWN : IKV_KIND_POINTER_UP,
               play->pointer, play->points[0][0], play->points[0][1]);
    return true;
}

/* Two fingers on a line through the middle, one after the other. */
static bool next_of_pinch(tape_play *play)
{
    uint32_t moves = moves_of(play), pair = play->at / 2;
    if (pair > moves + 1)
        return false;
    uint32_t move = pair > moves ? moves : pair;
    double part = moves > 0 ? (double)move / moves : 1;
    float reach = play->from + (play->to - play->from) * (float)part;
    ikv_rotation at = ikv_scene_rotation(play->turn * (float)part);
    float side = play->at % 2 == 0 ? -0.5f : 0.5f;
    play->next_ns = time_of_move(play, move);
    play->type = IKV_TOUCH;
    pointer_at(play,
               pair == 0           ? IKV_KIND_POINTER_DOWN
               : pair == moves + 1 ? IKV_KIND_POINTER_UP
                                   : IKV_KIND_POINTER_MOVE,
               play->at % 2 == 0 ? play->pointer : play->other,
               play->points[0][0] + side * reach * at.cos,
               play->points[0][1] + side * reach * at.sin);
    return true;
}

/* The key of a US keyboard that types a character; 0 if there is none. */
static uint32_t code_that_types(const char *text)
{
    uint32_t key = ikv_key_find(text), code;
    for (uint32_t i = 0; (code = ikv_code_list(i)) != 0; i++)
        if (ikv_key_of_code(code) == key)
            return code;
    return 0;
}

/* Each character: key.down, text.input, and half way to the next key.up. */
static bool next_of_text(tape_play *play)
{
    const char *at = play->text;
    uint32_t nth = play->at / 3, part = play->at % 3;
    size_t length = 0;
    for (uint32_t i = 0; i <= nth; i++) {
        at += length;
        if (*at == '\0')
            return false;
        for (length = 1; ((unsigned char)at[length] & 0xc0) == 0x80;)
            length++;
    }
    char character[8] = "";
    memcpy(character, at, length < 5 ? length : 4);
    play->next_ns = play->begin_ns + nth * play->every_ns +
                    (part == 2 ? play->every_ns / 2 : 0);
    static const ikv_kind kinds[] = {IKV_KIND_KEY_DOWN, IKV_KIND_TEXT_INPUT,
                                     IKV_KIND_KEY_UP};
    play->next = ikv_event_make(kinds[part], play->next_ns);
    play->next.device = play->device;
    play->next.view = play->view;
    play->next.seat = play->seat;
    if (part == 1) {
        play->next.text.length = (uint8_t)strlen(character);
        memcpy(play->next.text.bytes, character, strlen(character));
        return true;
    }
    play->next.key.code = code_that_types(character);
    play->next.key.key = ikv_key_find(character);
    if (play->next.key.code == 0) { /* it has no key of its own */
        play->at++;
        return next_of_text(play);
    }
    return true;
}

void ikvi_play_go_on(tape_play *play)
{
    static bool (*const next[])(tape_play *) = {NULL, next_of_drag, next_of_tap,
                                                next_of_pinch, next_of_text};
    bool more = next[play->what](play);
    play->at++;
    if (!more)
        play->what = 0;
}

/* ---------------------------------------------------------- all at once -- */

bool ikvi_plays_begin(tape_plays *plays, reader *r, const json_t *object,
                      uint64_t time_ns)
{
    uint32_t i = 0;
    while (i < PLAY_LIMIT && plays->list[i].what != 0)
        i++;
    if (i == PLAY_LIMIT)
        return ikvi_reader_fail(r, NULL, "expected at most %d gestures at once",
                                PLAY_LIMIT);
    if (!read_play(r, object, time_ns, &plays->list[i]))
        return false;
    plays->list[i].order = plays->begun++;
    ikvi_play_go_on(&plays->list[i]);
    return true;
}

tape_play *ikvi_plays_next(tape_plays *plays)
{
    tape_play *next = NULL;
    for (uint32_t i = 0; i < PLAY_LIMIT && plays->begun > 0; i++) {
        tape_play *play = &plays->list[i];
        if (play->what != 0 &&
            (next == NULL || play->next.time_ns < next->next.time_ns ||
             (play->next.time_ns == next->next.time_ns &&
              play->order < next->order)))
            next = play;
    }
    return next;
}
