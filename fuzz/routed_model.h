/* routed_model.h - the inside of the model: routed_keys.c, and routed_model.c
 * above it. */
#ifndef IKV_FUZZ_ROUTED_MODEL_H
#define IKV_FUZZ_ROUTED_MODEL_H

#include "routed.h"

typedef struct hand {
    bool known, primary;
    uint32_t buttons, spent; /* spent: down, but cancelled (MODAL2) */
    uint32_t place;          /* among those that are known */
    float x, y;
    uint32_t seat, view, next_view; /* once it is let go */
    int over;                       /* or NOBODY: out of the view */
    bool owed; /* its over is due: what it was over has been removed (GONE1) */
    int entered[BOXES + 1], entered_count; /* from the root on */
    int pending, captured;
    int dragging, to_drag; /* onto others: DRAG1 */
    int beneath;           /* of which it is told; NOBODY: none */
    bool accepts, accepted_entry, drag_told;
    bool told, loss_owed; /* of its capture: got, and lost */
    bool left;            /* the view, while captured (OVER5) */
    int slot, pressed;    /* CLICK1; of the first button */
    int press_button, passed[BOXES];
    uint32_t passed_count, turn;
    float press_x, press_y;
    bool dragged, menu_sent, holds;
    uint64_t hold_ms;
    bool outside, pressed_outside; /* of what is modal */
} hand;

typedef struct last_click {
    int count, device;
    uint64_t time_ms;
    float x, y;
} last_click;

typedef struct finger_pair {
    bool used, pinching, may_tap, lifted;
    int fingers[2], ids[2]; /* lifted: the one that is down, twice */
    int target;
    uint64_t tap_until_ms;
    float begin[2], last[2]; /* from the first finger to the second */
    float begin_middle[2], middle[2], rotation;
} finger_pair;

enum {
    PAIRS = HANDS,
    CLICKS = 8
};

typedef struct modal {
    int target, focus_before;
    uint32_t seat;
} modal;

struct model {
    side s; /* first */
    hand hands[HANDS];
    last_click clicks[CLICKS]; /* the oldest gives way */
    uint32_t click_count;
    finger_pair pairs[PAIRS];
    modal modals[IKV_MODAL_LIMIT];
    int modal_count, focused[SEATS];
    uint32_t turns, blurred;       /* the view that has lost the keys */
    int unplugged;                 /* a device */
    uint64_t tested, focus_tested; /* of which revision of the boxes */
    bool routing, cancels[SEATS], cancels_outside[SEATS];
    uint64_t now_ms;
    /* The event that is told of now. */
    int button;
    uint32_t flags;
};

/* routed_keys.c */
bool is_there(const model *m, int target);
/* What is modal for a seat; NOBODY: nothing. Whether it lets a target be
 * reached. */
int modal_of(const model *m, uint32_t seat);
bool reaches(const model *m, uint32_t seat, int target);
/* Of no hand: a kind, to a target, with a related one and a number. */
void tell_system(model *m, uint32_t seat, uint32_t kind, int target,
                 int related, int number);
void focus_by_press(model *m, uint32_t seat, int target);
/* FOCUS4, MODAL4. */
void check_focus(model *m);
ikv_status model_focus(side *s, uint32_t seat, int target);
ikv_status model_set_modal(side *s, uint32_t seat, int target);

/* routed_gestures.c */
void gesture_pressed(model *m, int who);
void gesture_moved(model *m, int who);
/* Whether its release may be half a tap of two. */
bool gesture_may_tap(model *m, int who, uint32_t kind);
/* True if both have tapped now. */
bool gesture_ended(model *m, int who, uint32_t kind, finger_pair *tapped);
void gesture_tapped(model *m, int who, const finger_pair *tapped);
/* It is captured by another, or was left out of the view. */
void gesture_lost(model *m, int who);
/* Nobody hears of it yet. */
void gesture_removed(model *m, int target);

/* routed_model.c: MODAL2. */
void cancel_now(model *m);
/* The nearest that holds both; NOBODY if one is gone. */
int common_of(const model *m, int a, int b);

#endif
