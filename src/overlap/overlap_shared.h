/* overlap_shared.h - what images need of the overlaps. */
#ifndef IKVI_OVERLAP_SHARED_H
#define IKVI_OVERLAP_SHARED_H

#include "../event/saved.h"

#include "ikvar/overlap.h"

uint64_t ikvi_overlaps_saved(ikv_overlaps *overlaps, ikvi_saved *to);

#endif
