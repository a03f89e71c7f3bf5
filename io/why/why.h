/* why.h - a question's inside: why.c watches, why_text.c puts into words. */
#ifndef IKVI_IO_WHY_H
#define IKVI_IO_WHY_H

#include "../setup/setup_shared.h"

#include "ikvar/why.h"

enum {
    WHY_DEPTHS = 64,
    WHY_POINTERS = 64
};

/* Obstacles of one event, and how near it came. */
typedef struct miss {
    ikv_obstacle list[IKV_WHY_ROOM];
    uint32_t count;
    ikv_target of; /* whose obstacles they are: of several, the nearest one */
    ikv_binding binding; /* likewise */
} miss;

/* One delivery under way. */
typedef struct under_way {
    bool on, asked, called;
    ikv_event event;
    ikv_target at; /* its path's end */
    uint64_t step;
    miss miss;
    const char *running; /* the handler that is called now */
    /* The first that stopped it. */
    const char *stopper;
    ikv_target stopped_at;
    ikv_verdict verdict;
} under_way;

/* What a pointer did last. */
typedef struct pointer_past {
    uint16_t device, pointer;
    bool used;
    ikv_target pressed;
    uint64_t captured_ns;
} pointer_past;

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
    uint16_t reason;    /* of its end */
    ikv_event deferred; /* the last one of its kinds that was put on a lane */
    ikv_lane lane;
};

/* One obstacle in a sentence without its name; cut to the buffer. */
void ikvi_why_sentence(const ikv_why *why, const ikv_why_answer *answer,
                       const ikv_obstacle *obstacle, char *text, size_t size);

#endif
