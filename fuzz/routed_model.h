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
    int count;
    uint64_t time_ms;
    float x, y;
} last_click;

typedef struct modal {
    int target, focus_before;
    uint32_t seat;
} modal;

struct model {
    side s; /* first */
    hand hands[HANDS];
    last_click clicks[HANDS];
    modal modals[IKV_MODAL_LIMIT];
    int modal_count, focused[SEATS];
    uint32_t turns, blurred;       /* the view that has lost the keys */
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

/* routed_model.c: MODAL2. */
void cancel_now(model *m);

#endif
