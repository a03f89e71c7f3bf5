/* why.h - a question's inside: why.c watches, why_text.c puts into words,
 * why_past.c keeps what was decided before the question. */
#ifndef IKVI_IO_WHY_H
#define IKVI_IO_WHY_H

#include "why_shared.h"

#include "../setup/setup_shared.h"

enum {
    WHY_DEPTHS = 64,
    WHY_POINTERS = 64
};

/* One delivery under way. */
typedef struct under_way {
    bool on, asked, called, passed;
    ikv_event event;
    ikv_target at; /* its path's end */
    uint64_t step;
    miss miss;
    const char *running; /* the handler that is called now */
    /* The first that stopped it. */
    const char *stopper;
    ikv_target stopped_at;
    int32_t stopper_rank;
    ikv_verdict verdict;
} under_way;

/* What a pointer did last. */
typedef struct pointer_past {
    uint16_t device, pointer;
    bool used;
    ikv_target pressed;
    uint64_t captured_ns;
} pointer_past;

/* What is told of neither an event's way nor who may hear it. */
enum {
    NOT_OF_EVENTS = IKV_WATCH_OVERLAPS | IKV_WATCH_TAKE | IKV_WATCH_FLUSH |
                    IKV_WATCH_SAVE | IKV_WATCH_RESTORE
};

enum {
    PAST_FOUND = 4,  /* obstacles that are kept of a decision */
    PAST_ABOVE = 8,  /* targets at an event's place */
    PAST_KINDS = 512 /* of a handler that ended: the first ones */
};

/* What was told, with all that it points at, and what was found out then. */
typedef struct past_record {
    ikv_watch watch;
    ikv_event event;
    ikv_delivery delivery;
    bool captured;
    ikv_target modal; /* for its seat; zero bits: nothing */
    ikv_target path[IKV_PATH_LIMIT];
    uint32_t above_count, found_count;
    ikv_target above[PAST_ABOVE]; /* of an EVENT: from the top down; of an END:
                                   * where it listened, and to what */
    uint8_t kinds[PAST_KINDS / 8];
    ikv_obstacle found[PAST_FOUND]; /* of a SKIP or a PRESS */
    ikv_action_id action;           /* of a PRESS: what did not start by it */
    ikv_binding binding;
} past_record;

struct ikv_why {
    ikv_why_config config;
    kit_names names;
    ikv_bus *bus;
    const ikv_scene *scene; /* or NULL */
    const ikv_actions *actions;
    const ikv_overlaps *overlaps;
    bool touching; /* the two of an overlap */
    uint64_t now_step;
    const char *subject; /* a handler's name */
    ikv_target *targets; /* where the handler listens, or the target */
    uint32_t target_count;
    bool *hears; /* by kind: what it listens to, as of opening */
    uint32_t kind_room;
    uint64_t called, missed, merged;
    ikv_why_answer nearest;
    under_way under_way[WHY_DEPTHS];
    pointer_past pointers[WHY_POINTERS];
    uint32_t next_pointer;
    uint64_t now_ns;   /* of the last event */
    bool muted, ended; /* the handler; by whom and since when */
    const char *changer;
    uint64_t changed_ns;
    uint16_t reason;             /* of its end */
    const past_record *recalled; /* while the past is looked at */
    ikv_event deferred; /* the last one of its kinds that was put on a lane */
    ikv_lane lane;
};

/* why_past.c: gives what was kept to `told`, the oldest first. */
void ikvi_why_recall(const ikv_why_past *past,
                     void (*told)(const past_record *record, ikv_why *why),
                     ikv_why *why);
/* Of a handler that has ended: what it was; NULL if that was not kept. */
const past_record *ikvi_why_ended(const ikv_why_past *past,
                                  ikv_subscription subscription);
/* As ikv_router_probe() of the recorded event; with who had it then. */
uint32_t ikvi_why_recall_route(const ikv_why *why, const ikv_watch *watch,
                               ikv_target target, ikv_obstacle *to);
/* As ikv_bus_probe() of the recorded moment. */
uint32_t ikvi_why_recall_handler(const ikv_why *why, const ikv_watch *watch,
                                 ikv_obstacle *to);

/* One obstacle in a sentence without its name; cut to the buffer. */
void ikvi_why_sentence(const ikv_why *why, const ikv_why_answer *answer,
                       const ikv_obstacle *obstacle, char *text, size_t size);

#endif
