/* reload.h - an edited setup beside the one that runs: what setup_reload.c and
 * setup_reload_targets.c share. Both files' entries are compared as they stand in
 * the documents.
 */
#ifndef IKVI_RELOAD_H
#define IKVI_RELOAD_H

#include "setup.h"

/* What has been counted, for the message. */
enum counted {
    COUNT_KINDS,
    COUNT_LAYERS,
    COUNT_TARGETS,
    COUNT_SETS,
    COUNT_ACTIONS,
    COUNT_HANDLERS,
    COUNTED
};

typedef struct change_counts {
    uint32_t added, changed, gone;
} change_counts;

typedef struct reloading {
    ikv_setup *was;
    ikv_setup *next;
    ikv_kit *kit;
    uint32_t flags;
    reader *r;
    change_counts counts[COUNTED];
} reloading;

static inline bool is_same(const json_t *a, const json_t *b)
{
    return a == b || (a != NULL && b != NULL && json_equal(a, b) != 0);
}

/* Of a list of that name. */
static inline const json_t *entry(const ikv_setup *setup, const char *list,
                                  size_t index)
{
    return json_array_get(json_object_get(setup->document, list), index);
}

/* Whether two values say the same, however their numbers are written: 1 is 1.0. */
bool ikvi_reload_says_alike(const json_t *a, const json_t *b);

static inline bool same_member(const json_t *a, const json_t *b,
                               const char *member)
{
    return ikvi_reload_says_alike(json_object_get(a, member),
                                  json_object_get(b, member));
}

/* Makes the scene's targets what the file says: additions first, what it says
 * differently, and the order of siblings. What is gone from it stays until the
 * other one, which can't fail. */
ikv_status ikvi_reload_targets(reloading *l);
void ikvi_reload_end_targets(reloading *l);

#endif
