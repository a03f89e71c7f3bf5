/* stick.h - what a pad's stick says past its dead zone, and which buttons it
 * holds; for the state and for the router. */
#ifndef IKVI_STICK_H
#define IKVI_STICK_H

#include "platform.h"

#include "ikvar/event.h"

/* Dead zones of a stick. */
typedef struct ikvi_zones {
    float inner, outer;
    bool axial; /* each axis for itself, not the stick's length */
} ikvi_zones;
/* Zeros are the defaults; false if the numbers can't be used. */
extern const char ikvi_zones_fault[];
bool ikvi_zones_set(ikvi_zones *zones, float inner, float outer, bool axial);
void ikvi_stick(const ikvi_zones *zones, const float raw[2], float out[2]);

/* The buttons of a pad among what a port says is down. */
uint32_t ikvi_pad_buttons_held(const ikv_event *held, uint32_t count);

#endif
