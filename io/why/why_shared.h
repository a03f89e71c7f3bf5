/* why_shared.h - what traces take of answers: questions that another's watcher
 * feeds, and obstacles in words. */
#ifndef IKVI_IO_WHY_SHARED_H
#define IKVI_IO_WHY_SHARED_H

#include "../text/write.h"

#include "ikvar/why.h"

/* Obstacles of one event, and how near it came. */
typedef struct miss {
    ikv_obstacle list[IKV_WHY_ROOM];
    uint32_t count;
    ikv_target of; /* whose obstacles they are: of several, the nearest one */
    ikv_binding binding; /* likewise */
} miss;

/* The nearest of an action's bindings: none if the press starts it, or waits for
 * something else. */
miss ikvi_why_press(const ikv_actions *actions, ikv_action_id action,
                    const ikv_event *event);

/* As ikv_why_open(), but it watches nothing by itself: who watches all tells it
 * of what he is told. Without a past. ikvi_why_free(), not ikv_why_close(). */
ikv_status ikvi_why_make(const ikv_why_config *config, ikv_why **why);
void ikvi_why_told(ikv_why *why, const ikv_watch *watch);
void ikvi_why_free(ikv_why *why);

/* Asks nothing, but knows names, for sentences; NULL: no memory. Likewise. */
ikv_why *ikvi_why_teller(ikv_kit *kit, const ikv_setup *setup);

/* An obstacle as in an answer's JSON, with its sentence. Of the answer its event,
 * `of` and binding are read. */
void ikvi_why_write_obstacle(json_writer *w, const ikv_why *why,
                             const ikv_why_answer *answer,
                             const ikv_obstacle *o);

#endif
