/* stick.h - what a pad's stick says past its dead zone; for the state and for
 * the router. */
#ifndef IKVI_STICK_H
#define IKVI_STICK_H

#include "platform.h"

/* Dead zones of a stick. */
typedef struct ikvi_zones {
    float inner, outer;
    bool axial; /* each axis for itself, not the stick's length */
} ikvi_zones;
/* Zeros are the defaults; false if the numbers can't be used. */
extern const char ikvi_zones_fault[];
bool ikvi_zones_set(ikvi_zones *zones, float inner, float outer, bool axial);
void ikvi_stick(const ikvi_zones *zones, const float raw[2], float out[2]);

#endif
