/* acted_model.h - what the files of the model of actions share. */
#ifndef IKV_FUZZ_ACTED_MODEL_H
#define IKV_FUZZ_ACTED_MODEL_H

#include "acted.h"

enum {
    HELD = (BINDINGS + ACTIONS) * SEATS,
    QUEUE = 16,
    PUSHED = IKV_PUSH_LIMIT,
    TRIGGERS = 8
};

/* What holds an action: one of its bindings, or that it is fed. */
typedef struct holder {
    bool fed;
    int number; /* of the binding, or of the action */
    uint32_t seat;
} holder;

typedef struct bound {
    bool there;
    int leaves; /* how many calls unbind it */
    int action;
    const shape *shape;
    uint32_t born;
    struct {
        bool on, tried, moved;
        float value, x, y, moved_x, moved_y;
    } run[SEATS];
} bound;

typedef struct game_action {
    bool there;
    int leaves; /* how many calls remove it */
    bool toggles[SEATS];
    struct {
        int on; /* how many hold it */
        bool fed, left_on, told;
        float fed_x, fed_y, value, x, y;
        uint32_t fed_device, steps, repeats;
        int binding;
        ikv_event cause;
    } run[SEATS];
} game_action;

typedef struct model {
    side s; /* first */
    bool key[SEATS][CODES], pad[SEATS][PAD_BUTTONS];
    float axes[SEATS][PAD_AXES], values[SEATS][PAD_VALUES];
    int button[SEATS];
    bound bindings[BINDINGS];
    uint32_t births;
    game_action actions[ACTIONS];
    holder held[HELD];
    int held_count;
    bool off[SETS][SEATS], fresh[SETS][SEATS];
    struct {
        uint32_t set, seat;
        bool joins;
    } pushed[PUSHED];
    int pushed_count;
    uint64_t after_ns[SEATS], every_ns[SEATS];
    struct {
        ikv_event event;
        bool claimed, release;
        int life; /* of the action that is fed */
    } queue[QUEUE];
    int queue_count;
    /* Of what goes on now. */
    bool resolving, synthetic;
    const ikv_event *pressed; /* is being taken */
    bool releases;
    uint64_t time_ns, started, passed_over;
} model;

/* acted_model.c */
int set_of(int action);
bool set_is_on(const model *m, uint32_t set, uint32_t seat);
bool action_is_on(const model *m, int action, uint32_t seat);
int length_of(const shape *form);
int action_of(const model *m, const holder *h);
bool is_down(const model *m, part p, uint32_t seat);
/* Whether a binding is satisfied, by what is down; and its values then. What is
 * not `on` yet must be past an edge. */
bool measure(const model *m, const shape *form, uint32_t seat, bool on,
             float *to);
int parts_of(const ikv_event *e, bool release, part to[TRIGGERS]);
/* A press starts a binding; of what toggles it ends what the last one has left
 * on, or is let go at once and left on. */
void start(model *m, int n, uint32_t seat, const ikv_event *cause);
void let_go(model *m, holder h, bool synthetic);
void feed_action(model *m, int number, uint32_t seat, float x, float y,
                 const ikv_event *cause);

/* acted_calls.c */
extern const side model_calls;

#endif
