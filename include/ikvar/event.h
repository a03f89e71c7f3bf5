/* ikvar/event.h - the event: 64 bytes of plain data that say what happened.
 *
 * Overview
 *   A header of 32 bytes is common to all events; a payload of 32 bytes is
 *   read through the union member that belongs to the event's kind, which the
 *   catalogue (catalogue.h) names. Make one with
 *   ikv_event_make(), and set what matters; all else is zero.
 *
 *       ikv_event event = ikv_event_make(IKV_KIND_POINTER_DOWN, now_ns);
 *       event.pointer.x = 120.5f;
 *       event.pointer.type = IKV_TOUCH;
 *
 *   0       8        16       24       32                              64
 *   +-------+--------+--------+--------+-------------------------------+
 *   | stamp | time   | target | mods   | payload, a union by kind      |
 *   | kind  |        | source | flags..|                               |
 *   +-------+--------+--------+--------+-------------------------------+
 *
 * Memory
 *   An event is copied by assignment and owns nothing. What a handler is given
 *   is valid for that dispatch only: keep one with ikv_event_copy().
 *
 * Threads
 *   Plain data. Any thread.
 */
#ifndef IKVAR_EVENT_H
#define IKVAR_EVENT_H

#include "base.h"
#include "kinds.h"

#ifdef __cplusplus
extern "C" {
#endif

/* ---------------------------------------------------------------- kinds -- */

/* Numbers of kinds: built-in ones below IKV_KIND_USER, the user's from it. */
typedef uint16_t ikv_kind;
enum {
    IKV_KIND_NONE = 0,
#define IKV_X(number, name, text, family, layout, from, bubbles, queue, when,  \
              words)                                                           \
    IKV_KIND_##name = (number),
    IKV_KINDS(IKV_X)
#undef IKV_X
    IKV_KIND_USER = 128,
    IKV_KIND_LIMIT = 4096
};

/* Pointer types, as W3C Pointer Events' pointerType. */
enum {
    IKV_MOUSE = 0,
    IKV_PEN = 1,
    IKV_TOUCH = 2
};

/* A pointer has so many buttons. */
#define IKV_BUTTON_LIMIT 16

/* Numbers of a pointer's buttons (Pointer Events 3, 4.2). A pen's tip is the
 * primary one, its barrel's the secondary. */
enum {
    IKV_NO_BUTTON = -1,
    IKV_PRIMARY_BUTTON = 0,
    IKV_MIDDLE_BUTTON = 1,
    IKV_SECONDARY_BUTTON = 2,
    IKV_BACK_BUTTON = 3,
    IKV_FORWARD_BUTTON = 4,
    IKV_ERASER_BUTTON = 5 /* a pen's */
};

/* Their bits in `buttons`, which are in another order. */
enum {
    IKV_BUTTONS_PRIMARY = 1,
    IKV_BUTTONS_SECONDARY = 2,
    IKV_BUTTONS_MIDDLE = 4,
    IKV_BUTTONS_BACK = 8,
    IKV_BUTTONS_FORWARD = 16,
    IKV_BUTTONS_ERASER = 32
};

/* Units of a wheel's motion: the view's own, lines or pages (UI Events,
 * deltaMode). */
enum {
    IKV_WHEEL_UNITS = 0,
    IKV_WHEEL_LINES = 1,
    IKV_WHEEL_PAGES = 2
};

/* Modifier keys (UI Events, KeyboardEvent modifiers). */
enum {
    IKV_SHIFT = 1,
    IKV_CONTROL = 2,
    IKV_ALT = 4,
    IKV_META = 8,
    IKV_CAPS_LOCK = 16,
    IKV_NUM_LOCK = 32
};

/* Flags of an event.
 *   SYNTHETIC  made up by a port or by the library, not by hardware
 *   REPEAT     a held key repeats
 *   PRIMARY    the first active pointer of its type
 *   MORE       another piece of the same text follows
 *   FIRST      the first piece of a text
 *   LATE       it came too late for the step that its time belongs to
 *   GAP        moves before it were lost in a full queue: x and y are right,
 *              the motion between is missing from dx and dy
 *   OUTSIDE    it went to a modal target (router.h), and was not on it or in it
 *   RELATIVE   of a locked pointer: dx and dy count, it stays where it was
 */
enum {
    IKV_SYNTHETIC = 1,
    IKV_REPEAT = 2,
    IKV_PRIMARY = 4,
    IKV_MORE = 8,
    IKV_FIRST = 16,
    IKV_LATE = 32,
    IKV_GAP = 64,
    IKV_OUTSIDE = 128,
    IKV_RELATIVE = 256
};

enum {
    IKV_FOCUS_CALL = 0,
    IKV_FOCUS_PRESS = 1,
    IKV_FOCUS_TAB = 2,
    IKV_FOCUS_REMOVED = 3,
    IKV_FOCUS_HIDDEN = 4, /* or not focusable any more */
    IKV_FOCUS_MODAL = 5,  /* into what is modal, or back when that has ended */
    IKV_FOCUS_TOWARD = 6
};

/* Device numbers are below this. */
#define IKV_DEVICE_LIMIT 1024

/* What a device can do: bits of device.add's `types`. */
enum {
    IKV_DEVICE_KEYS = 1,
    IKV_DEVICE_MOUSE = 2,
    IKV_DEVICE_PEN = 4,
    IKV_DEVICE_TOUCH = 8,
    IKV_DEVICE_PAD = 16,
    IKV_DEVICE_TEXT = 32
};

/* Axes and buttons of a pad (W3C Gamepad's standard mapping has 4 and 17), and
 * pads that a router and a state know at once. */
#define IKV_PAD_AXES    16
#define IKV_PAD_BUTTONS 32
#define IKV_PAD_LIMIT   8

/* `state` of an action's events. */
enum {
    IKV_ACTION_STARTED = 0,
    IKV_ACTION_HELD = 1,
    IKV_ACTION_ENDED = 2
};

/* Why an overlap ended: the shapes came apart, or one was removed or can't
 * overlap any more. And between whom it is. */
enum {
    IKV_OVERLAP_APART = 0,
    IKV_OVERLAP_REMOVED = 1,
    IKV_OVERLAP_DISABLED = 2
};
enum {
    IKV_OVERLAP_OF_PIECES = 0,
    IKV_OVERLAP_OF_BODIES = 1
};

/* Why a target's place in the tree changed. */
enum {
    IKV_TREE_ADDED = 0,
    IKV_TREE_REPARENTED = 1,
    IKV_TREE_REMOVED = 2
};

/* Types of a value that is not tied to a field. */
enum {
    IKV_VALUE_NONE = 0,
    IKV_VALUE_INTEGER = 1,
    IKV_VALUE_NUMBER = 2,
    IKV_VALUE_BOOL = 3,
    IKV_VALUE_TARGET = 4
};

/* ------------------------------------------------------------- payloads -- */
/* Units, ranges and meanings of the members stand in kinds.h, IKV_FIELDS. */

typedef struct ikv_pointer_data {
    float x, y, dx, dy;
    uint16_t pressure, width, height;
    int8_t tilt_x, tilt_y;
    uint16_t twist;
    uint16_t pointer;
    uint8_t type;
    int8_t button;
    uint16_t buttons;
} ikv_pointer_data;

/* Where members have the same names they lie in the same place. */
typedef struct ikv_click_data {
    float x, y, dx, dy;
    uint16_t pressure, width, height;
    int8_t tilt_x, tilt_y;
    uint16_t clicks;
    uint16_t pointer;
    uint8_t type;
    int8_t button;
    uint16_t buttons;
} ikv_click_data;

typedef struct ikv_drag_data {
    float x, y, dx, dy;
    uint16_t pointer;
    uint8_t type;
    uint8_t accepted;
} ikv_drag_data;

typedef struct ikv_wheel_data {
    float x, y, dx, dy, dz;
    uint16_t pointer;
    uint8_t mode;
    uint8_t type;
    uint16_t buttons;
} ikv_wheel_data;

typedef struct ikv_pen_data {
    float x, y;
    float distance;
    uint16_t pointer;
} ikv_pen_data;

typedef struct ikv_gesture_data {
    float x, y, dx, dy, scale, rotation;
    uint16_t pointer, other;
    uint8_t count;
} ikv_gesture_data;

typedef struct ikv_key_data {
    uint32_t code;
    uint32_t key;
    uint8_t location;
} ikv_key_data;

#define IKV_TEXT_BYTES    31
#define IKV_COMPOSE_BYTES 25

/* `length` bytes of UTF-8, whole code points, without an end mark. */
typedef struct ikv_text_data {
    uint8_t length;
    char bytes[IKV_TEXT_BYTES];
} ikv_text_data;

typedef struct ikv_compose_data {
    uint16_t cursor, selection, total;
    uint8_t length;
    char bytes[IKV_COMPOSE_BYTES];
} ikv_compose_data;

typedef struct ikv_focus_data {
    uint8_t reason;
} ikv_focus_data;

typedef struct ikv_window_data {
    float width, height, density;
    uint8_t reason;
} ikv_window_data;

typedef struct ikv_device_data {
    uint16_t vendor, product, version, bus;
    uint32_t types;
} ikv_device_data;

typedef struct ikv_pad_data {
    float value, x, y;
    uint8_t index;
    uint8_t pad;
} ikv_pad_data;

typedef struct ikv_motion_data {
    float ax, ay, az;
    float rx, ry, rz;
} ikv_motion_data;

typedef struct ikv_battery_data {
    float level;
    uint8_t charging;
} ikv_battery_data;

typedef struct ikv_overlap_data {
    float x, y, z;
    uint32_t steps;
    ikv_target body, other_body;
    uint16_t count;
    uint8_t reason;
    uint8_t scope;
    uint32_t other_id;
} ikv_overlap_data;

typedef struct ikv_tree_data {
    ikv_target parent;
    float x, y;
    uint8_t reason;
    uint32_t id; /* of what went, where that can't be asked any more */
} ikv_tree_data;

/* A value whose type stands beside it: one of IKV_VALUE_... */
typedef union ikv_bits {
    IKV_ALIGNED(8) int64_t integer;
    double number;
    bool boolean;
    ikv_target target;
} ikv_bits;

typedef struct ikv_field_data {
    uint32_t field;
    uint8_t type;
    ikv_bits before, after;
} ikv_field_data;

typedef struct ikv_action_data {
    uint32_t action;
    float value, x, y;
    uint16_t binding;
    uint8_t state;
    uint32_t steps;
} ikv_action_data;

typedef struct ikv_loop_data {
    IKV_ALIGNED(8) uint64_t step;
    IKV_ALIGNED(8) uint64_t frame;
    float seconds;
    uint32_t count;
} ikv_loop_data;

/* ---------------------------------------------------------------- event -- */

/*   stamp      the queue's own; don't read or set it
 *   kind       which union member below holds; see the catalogue
 *   device     the device's number, given by the loop
 *   time_ns    when it happened, ns on the loop's clock, 0 at loop.start, below
 *              UINT64_MAX; a port pushes its own clock's time, the loop converts
 *              it
 *   target     what the event is about; zero bits until it is routed
 *   source     the related target of boundary and focus events, the other
 *              party of overlaps
 *   modifiers  IKV_SHIFT ... held at that moment
 *   flags      IKV_SYNTHETIC ...
 *   view       window or part of a split screen
 *   seat       player
 *   samples    how many raw events were merged into this one; 0 as 1
 */
typedef struct ikv_event {
    uint32_t stamp;
    ikv_kind kind;
    uint16_t device;
    IKV_ALIGNED(8) uint64_t time_ns;
    ikv_target target;
    ikv_target source;
    uint16_t modifiers;
    uint16_t flags;
    uint8_t view;
    uint8_t seat;
    uint16_t samples;
    union {
        ikv_pointer_data pointer;
        ikv_click_data click;
        ikv_wheel_data wheel;
        ikv_pen_data pen;
        ikv_gesture_data gesture;
        ikv_key_data key;
        ikv_text_data text;
        ikv_compose_data compose;
        ikv_focus_data focus;
        ikv_window_data window;
        ikv_device_data info;
        ikv_pad_data pad;
        ikv_motion_data motion;
        ikv_battery_data battery;
        ikv_overlap_data overlap;
        ikv_tree_data tree;
        ikv_field_data field;
        ikv_action_data action;
        ikv_drag_data drag;
        ikv_loop_data loop;
        IKV_ALIGNED(8) uint8_t user[32];
    };
} ikv_event;

/* An event of that kind and time, with what it needs to mean something: button
 * is the primary one on a down, an up and what comes of a press, the secondary
 * one on pointer.auxiliary and pointer.menu, else -1; a gesture has two fingers
 * and scale 1, window.density a density of 1. All else is zero. Cost: 64 bytes
 * written.
 * Context: any thread; O(1). */
IKV_API ikv_event ikv_event_make(ikv_kind kind, uint64_t time_ns);

/* An event kept past its moment, with its larger payload if it has one. */
typedef struct ikv_kept_event {
    ikv_event event;
    uint32_t data_size;
} ikv_kept_event;

/* Keeps an event past the dispatch in which it is valid.
 *   to           gets the event and the size of its larger payload
 *   buffer       gets the larger payload; may be NULL when data_size is 0
 *   buffer_size  bytes at buffer
 *   event        what the handler was given
 *   data, data_size  delivery->data and delivery->data_size, NULL and 0 if none
 * Returns IKV_OK; IKV_BAD_ARGUMENT for NULL; IKV_BAD_SIZE if the buffer is
 * smaller than data_size (to->data_size then says what is needed).
 * Context: any thread, inside handlers too; O(data_size). */
IKV_API ikv_status ikv_event_copy(ikv_kept_event *to, void *buffer,
                                  size_t buffer_size, const ikv_event *event,
                                  const void *data, size_t data_size);

#ifdef __cplusplus
}
#endif

#endif
