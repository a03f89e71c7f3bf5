/* catalogue_shared.h - what the modules above ask of a catalogue. */
#ifndef IKVI_CATALOGUE_SHARED_H
#define IKVI_CATALOGUE_SHARED_H

#include "platform.h"

#include "ikvar/catalogue.h"

/* One more than the highest number that a kind can get. */
uint32_t ikvi_catalogue_kind_limit(const ikv_catalogue *catalogue);

/* How many user kinds there are; a hash of the first of them. */
uint32_t ikvi_catalogue_user_kinds(const ikv_catalogue *catalogue);
uint64_t ikvi_catalogue_identity(const ikv_catalogue *catalogue,
                                 uint32_t kinds);

#endif
