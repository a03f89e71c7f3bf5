/* router_internal.h - the router's inside: pointers, paths, keys and focus,
 * clicks and drags, gestures, capture, pads.
 *
 * Files, lowest first: router_table.c, router_path.c, router_keys.c,
 * router_modal.c, router_click.c, router_gesture.c, router_drag.c,
 * router_capture.c, router_pad.c, router_pointer.c, router_probe.c, router.c.
 */
#ifndef IKVI_ROUTER_INTERNAL_H
#define IKVI_ROUTER_INTERNAL_H

#include "../bus/bus_shared.h"
#include "../event/memory.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/stick.h"
#include "../event/text.h"
#include "../event/values.h"
#include "router_shared.h"

#include "ikvar/router.h"

enum {
    VIEWS = 32,
    FINGER_PAIRS = 4, /* at most */
    RECENT_CLICKS = 8,
    /* What a picking never ends, ends: no tree is so deep, and nothing lies over
     * so many. */
    TREE_LIMIT = 1 << 12,
    PICK_LIMIT = 1 << 16
};

/* A target that keeps a seat's pointers and keys to itself. */
typedef struct modal {
    ikv_target target;
    ikv_target focus_before; /* who gets the keys when it has ended */
    uint8_t seat;
} modal;

/* What is dragged onto others. */
typedef struct drag_state {
    ikv_target over; /* zero bits: nothing yet */
    bool entry;      /* that has accepted it as it came, */
    bool accepts;    /* or now */
} drag_state;

/* What the system drags over the window. */
typedef struct foreign_drag {
    bool used;
    uint8_t type, view, seat;
    uint16_t device, id, modifiers;
    float x, y, press_x, press_y; /* where it came in */
    drag_state drag;
} foreign_drag;

typedef struct pointer {
    bool used;
    bool in_view; /* it is over something, the root at least */
    bool outside; /* it left the view while it was captured */
    bool
        over_untold; /* what it was over is gone: the next over is due anyway */
    bool capture_told; /* who captured it was told so */
    bool loss_untold;  /* and is gone since (GONE2) */
    bool primary;
    bool hold_due;  /* pressed, not moved: a hold will come */
    bool dragged;   /* moved further than the slop since the press */
    bool menu_sent; /* a long press sent the menu, or it pinches: no click */
    bool outside_modal;   /* it is on nothing that the modal target lets hear */
    bool pressed_outside; /* so was the press that a click comes of */
    bool drag_told;       /* of what is dragged: it went beyond the slop */
    uint8_t type, view, seat;
    uint8_t next_view; /* where it was let go */
    int8_t press_button;
    int8_t tilt_x, tilt_y;
    uint16_t buttons;
    uint16_t spent; /* buttons that are down, of a press that was cancelled */
    uint16_t device, id, modifiers;
    uint32_t press_number; /* rises with each press, of all pointers */
    float x, y, press_x, press_y;
    float strayed[2];    /* since the press, of motion that moved it nowhere */
    ikv_target dragging; /* onto others, while it has captured it */
    ikv_target to_drag;  /* so from its capture on: another one may be, now */
    drag_state drag;
    ikv_target attached;  /* follows it while it has captured it; */
    float grip[2];        /* so it was taken */
    ikv_target to_attach; /* so from its capture on */
    float to_grip[2];
    uint16_t pressure, width, height, twist; /* as they were told last */
    ikv_target over, captured, pending;
    ikv_target pressed;  /* of the first press, for hold, drag and menu */
    ikv_target clicking; /* CLICK1's slot */
    uint64_t hold_ns;    /* when the hold is due */
    uint64_t chain_revision;
    uint32_t chain_length, passed_count;
    ikv_target chain[IKV_PATH_LIMIT];
} pointer;

/* A click that a second one may double. */
typedef struct recent_click {
    uint64_t time_ns;
    float x, y;
    uint32_t clicks; /* 0: none */
    uint16_t device;
    uint8_t type;
} recent_click;

typedef struct held_key {
    uint32_t code, key;
    uint16_t device;
    uint8_t location, view, seat;
} held_key;

/* Two fingers of one device. */
typedef struct finger_pair {
    bool used;
    bool pinching;
    bool may_tap;
    bool lifted; /* one of them, and `first` is the other */
    uint16_t device, first, second;
    uint16_t ids[2];   /* both, also when one is lifted */
    ikv_target target; /* none: it is gone; the end is untold (GONE2) */
    uint64_t tap_until_ns;
    float begin[2], last[2]; /* from the first finger to the second */
    float begin_middle[2], middle[2];
    float rotation;
} finger_pair;

typedef struct pad_state {
    uint32_t buttons;
    float axes[IKV_PAD_AXES];
    uint16_t device;
    uint8_t number;
    bool used;
} pad_state;

struct ikv_router {
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikv_bus *bus;
    const ikv_catalogue *catalogue; /* the bus's */
    ikv_picking picking;
    ikv_reporter reporter;
    ikv_router_follower follower;
    void *follower_user;
    ikv_router *const *peers; /* of the loop that it is in, itself too */
    uint32_t peer_count;
    float slop, mouse_slop, double_slop;
    uint64_t hold_ns, double_ns;
    bool keep_focus, no_tab, click_after_drag, two_tap_alone;
    ikvi_zones zones;
    uint32_t said[IKV_DEVICE_LIMIT / 32]; /* of which devices meaningless() */
    bool routing;
    /* With the event that is routed, and its kind. */
    ikvi_along along;
    ikv_kind along_kind;
    uint32_t capacity, key_capacity, pair_room, pad_room;
    uint32_t views, passed_limit;
    size_t pointers, keys, passed, pairs, pads; /* where the arrays begin */
    /* What an image holds of it, with the arrays behind. */
    struct {
        uint8_t
            view; /* of what was routed last; else the first that it serves */
        float sizes[VIEWS][2]; /* of views; 0: not known */
        uint32_t key_count, holds_due;
        uint32_t presses;        /* of all pointers */
        uint64_t revision;       /* of the last retest */
        uint64_t focus_revision; /* when who has the keys was looked at last */
        uint64_t time_ns;        /* of the last event */
        uint32_t next_click;
        recent_click clicks[RECENT_CLICKS];
        uint64_t focus_changes;
        ikv_target focused[IKV_SEAT_LIMIT];
        uint32_t modal_count;
        modal modals[IKV_MODAL_LIMIT]; /* the last one of a seat is in effect */
        uint32_t hold_us[IKV_SEAT_LIMIT]; /* a seat's own; 0: as the config */
        uint32_t double_us[IKV_SEAT_LIMIT];
        foreign_drag foreign;
        uint8_t cancels;         /* bits of seats: all that is down, */
        uint8_t cancels_outside; /* or what is outside the modal target */
        uint8_t composing;       /* whose focused target has a composition */
        ikv_router_counts counters;
    } s;
};

static inline pointer *pointer_at(const ikv_router *r, uint32_t index)
{
    IKVI_CHECK(index < r->capacity);
    return (pointer *)ikvi_at(r, r->pointers) + index;
}

static inline finger_pair *finger_pair_at(const ikv_router *r, uint32_t index)
{
    IKVI_CHECK(index < r->pair_room);
    return (finger_pair *)ikvi_at(r, r->pairs) + index;
}

static inline pad_state *pad_state_at(const ikv_router *r, uint32_t index)
{
    IKVI_CHECK(index < r->pad_room);
    return (pad_state *)ikvi_at(r, r->pads) + index;
}

/* Who was passed a pointer's down (HIT4): passed_limit of them. */
static inline ikv_target *passed_of(const ikv_router *r, const pointer *p)
{
    return (ikv_target *)ikvi_at(r, r->passed) +
           (size_t)(p - pointer_at(r, 0)) * r->passed_limit;
}

static inline held_key *key_at(const ikv_router *r, uint32_t index)
{
    IKVI_CHECK(index < r->key_capacity);
    return (held_key *)ikvi_at(r, r->keys) + index;
}

static inline bool same(ikv_target a, ikv_target b)
{
    return a.bits == b.bits;
}

static inline ikv_target root_of(const ikv_router *r)
{
    (void)r;
    return ikvi_bus_root();
}

static inline uint64_t scene_revision_of(const ikv_router *r)
{
    return r->picking.revision(r->picking.scene);
}

static inline ikv_outcome no_outcome(ikv_status status)
{
    return (ikv_outcome){status, 0, 0, 0};
}

/* router_table.c */
pointer *ikvi_router_find(const ikv_router *r, uint16_t device, uint16_t id);
pad_state *ikvi_router_find_pad(const ikv_router *r, uint16_t device);
/* Into an event: what is known of its pointer. */
void ikvi_router_fill_in(const pointer *p, ikv_event *event, int8_t button);
/* An event of that kind with what is known of the pointer. */
ikv_event ikvi_router_event_of(const pointer *p, ikv_kind kind,
                               uint64_t time_ns);
/* An event that means nothing is counted; the first one of a device is
 * reported, with its reason. */
ikv_outcome ikvi_router_meaningless(ikv_router *r, const ikv_event *event,
                                    const char *why);

/* router_path.c */
typedef struct path {
    ikv_target nodes[IKV_PATH_LIMIT];
    uint32_t length;
    uint64_t revision; /* the scene's, when it was so */
} path;

bool ikvi_router_alive(const ikv_router *r, ikv_target target);
uint32_t ikvi_router_traits(const ikv_router *r, ikv_target target);
/* The root's parent is none. */
ikv_target ikvi_router_parent(const ikv_router *r, ikv_target target);
/* The nth target from the top where the pointer is; zero bits past the last.
 *   without  what is dragged; zero bits: nothing */
ikv_target ikvi_router_pick(const ikv_router *r, const pointer *p,
                            ikv_target without, uint32_t nth);
/* MODAL1, MODAL5: whether a seat's pointers may be on the target, or its keys go
 * there; all, if nothing is modal. */
bool ikvi_router_reaches(const ikv_router *r, uint8_t seat, ikv_target target);
/* The path from the root to a target. */
void ikvi_router_path(const ikv_router *r, ikv_target target, path *to);
ikv_outcome ikvi_router_send(ikv_router *r, const ikv_event *event,
                             const ikv_target *nodes, uint32_t length,
                             bool passed);
/* Sends an event to a target, or to the root if it is gone. */
ikv_outcome ikvi_router_send_to(ikv_router *r, const ikv_event *event,
                                ikv_target target);
/* Sends an event like `cause`, but of that kind, to a target with a related
 * one; nothing if the target is gone. */
ikv_outcome ikvi_router_send_kind(ikv_router *r, const ikv_event *cause,
                                  ikv_kind kind, ikv_target target,
                                  ikv_target related);
/* Makes `to` (zero bits: nothing, out of the view) what the pointer is over,
 * and tells whom it concerns. */
void ikvi_router_move_over(ikv_router *r, pointer *p, ikv_target to,
                           const ikv_event *cause);
/* router_capture.c */

/* Carries out what was asked for since the pointer's last event. */
void ikvi_router_apply_capture(ikv_router *r, pointer *p,
                               const ikv_event *cause);

/* What is attached to the pointer goes where it is. */
void ikvi_router_carry(ikv_router *r, const pointer *p);

/* Tells who had captured the pointer of its loss; the root, if it is gone. */
void ikvi_router_lose(ikv_router *r, pointer *p, ikv_target captured,
                      const ikv_event *cause);

/* router_pointer.c */
ikv_outcome ikvi_router_pointer(ikv_router *r, const ikv_event *event);
ikv_outcome ikvi_router_wheel(ikv_router *r, const ikv_event *event);
ikv_outcome ikvi_router_pen(ikv_router *r, const ikv_event *event);
/* Cancels a pointer that is down; one that hovers leaves if `leaves`. */
void ikvi_router_end(ikv_router *r, pointer *p, uint64_t time_ns, bool leaves);
/* MODAL2: what was asked to be cancelled while something was routed is, before
 * anything else is routed. */
void ikvi_router_end_routing(ikv_router *r);
/* Buttons that are down of a cancelled press count no more: what was theirs is
 * gone, or is said anew. */
void ikvi_router_drop_spent(ikv_router *r, const ikv_event *cause);
void ikvi_router_forget(ikv_router *r, pointer *p);
void ikvi_router_resized(ikv_router *r, const ikv_event *event);

/* router_click.c */
void ikvi_router_press(ikv_router *r, pointer *p, const ikv_event *event);
void ikvi_router_pressed(ikv_router *r, pointer *p, const ikv_event *event);
void ikvi_router_moved(ikv_router *r, pointer *p, const ikv_event *event);
ikv_target ikvi_router_click_target(const ikv_router *r, const pointer *p,
                                    const ikv_event *event);
void ikvi_router_click(ikv_router *r, pointer *p, const ikv_event *event,
                       ikv_target target);
void ikvi_router_let_up(ikv_router *r, pointer *p);
void ikvi_router_no_hold(ikv_router *r, pointer *p);
/* Neither a hold nor a click follows any more. */
void ikvi_router_no_click(ikv_router *r, pointer *p);
void ikvi_router_send_holds(ikv_router *r, uint64_t time_ns);

/* Of two targets' ancestors and themselves the nearest that both have; zero
 * bits if one is gone. */
ikv_target ikvi_router_common(const ikv_router *r, ikv_target a, ikv_target b);

/* router_gesture.c */
void ikvi_gesture_pressed(ikv_router *r, const pointer *p,
                          const ikv_event *event);
void ikvi_gesture_moved(ikv_router *r, const pointer *p,
                        const ikv_event *event);
/* Whether the finger's release may be of a tap of two. */
bool ikvi_gesture_may_tap(const ikv_router *r, const pointer *p,
                          const ikv_event *event);
/* Before the capture's end is told; if both have tapped, which: to be told
 * after the click. */
bool ikvi_gesture_ended(ikv_router *r, const pointer *p, const ikv_event *event,
                        finger_pair *tapped);
void ikvi_gesture_tapped(ikv_router *r, const finger_pair *tapped,
                         const ikv_event *event);
void ikvi_gesture_lost(ikv_router *r, const pointer *p, const ikv_event *event);
void ikvi_gesture_removed(ikv_router *r, ikv_target target);

/* router_drag.c */
void ikvi_drag_moved(ikv_router *r, pointer *p, const ikv_event *cause);
/* A port's drag.over, drag.leave or drag.drop. */
ikv_outcome ikvi_drag_foreign(ikv_router *r, const ikv_event *event);
/* Dropped, if it is accepted where it is `released`. */
void ikvi_drag_ended(ikv_router *r, pointer *p, const ikv_event *cause,
                     bool released);

/* router_pad.c */
ikv_outcome ikvi_router_pad(ikv_router *r, const ikv_event *event);
bool ikvi_router_pad_is_down(const ikv_router *r, const ikv_event *event);
void ikvi_router_release_pads(ikv_router *r, const ikv_event *cause,
                              const ikv_event *held, uint32_t count);

/* router_keys.c */
ikv_outcome ikvi_router_key(ikv_router *r, const ikv_event *event);
/* Those of a device or window that are down and not among the held ones. */
void ikvi_router_release_keys(ikv_router *r, const ikv_event *cause,
                              const ikv_event *held, uint32_t count);
bool ikvi_router_key_is_down(const ikv_router *r, const ikv_event *event);
/* All seats' compositions, as a window loses the focus. */
void ikvi_router_end_texts(ikv_router *r);
void ikvi_router_focus_by_press(ikv_router *r, uint8_t seat,
                                ikv_target pressed);
void ikvi_router_unfocus(ikv_router *r, ikv_target gone);
/* FOCUS1, for whatever reason; ABSENT if the target has the keys already. */
ikv_status ikvi_router_set_focus(ikv_router *r, uint8_t seat, ikv_target target,
                                 uint8_t reason);
bool ikvi_router_may_have_keys(const ikv_router *r, uint8_t seat,
                               ikv_target target);

/* router_modal.c */
ikv_status ikvi_router_begin_modal(ikv_router *r, uint8_t seat,
                                   ikv_target target);
ikv_status ikvi_router_end_modal(ikv_router *r, uint8_t seat);
/* After changes of the scene: FOCUS4 takes the keys from what can't have them
 * any more, MODAL4 ends what is gone or hidden. */
void ikvi_router_check_focus(ikv_router *r, uint64_t time_ns);
/* Whether a key or pointer goes with what has gone: a window, or a device. */
bool ikvi_router_belongs(const ikv_event *cause, uint16_t device, uint8_t view);

#endif
