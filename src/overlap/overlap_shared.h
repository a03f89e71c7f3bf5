/* overlap_shared.h - what images and inputs need of the overlaps. */
#ifndef IKVI_OVERLAP_SHARED_H
#define IKVI_OVERLAP_SHARED_H

#include "../event/saved.h"

#include "ikvar/overlap.h"

uint64_t ikvi_overlaps_saved(ikv_overlaps *overlaps, ikvi_saved *to);

/* How an input reaches overlaps: as ikvi_state_calls. */
typedef struct ikvi_overlaps_calls {
    ikv_status (*step)(ikv_overlaps *overlaps, uint64_t step, uint64_t time_ns);
    bool (*awaits)(const ikv_overlaps *overlaps);
} ikvi_overlaps_calls;

static inline const ikvi_overlaps_calls *
ikvi_overlaps_calls_of(const ikv_overlaps *overlaps)
{
    return *(const ikvi_overlaps_calls *const *)(const void *)overlaps;
}

#endif
