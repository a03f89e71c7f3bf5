/* stick.c - dead zones: a stick at rest says nothing, one at its end says 1. */
#include "stick.h"

#include "number.h"

/* From the inner zone on evenly up to 1 at the outer one. */
static float zoned(const ikvi_zones *zones, float value)
{
    float size = value < 0 ? -value : value;
    /* The zones differ, as ikvi_zones_set() has asked. */
    float part = (size - zones->inner) / (zones->outer - zones->inner);
    part = ikvi_clamp(part, 0, 1);
    return value < 0 ? -part : part;
}

void ikvi_stick(const ikvi_zones *zones, const float raw[2], float out[2])
{
    if (zones->axial) {
        out[0] = zoned(zones, raw[0]);
        out[1] = zoned(zones, raw[1]);
        return;
    }
    /* Along its direction: a stick that is pushed aside keeps where it
     * points. */
    float length = ikvi_sqrt((double)raw[0] * raw[0] + (double)raw[1] * raw[1]);
    float part = length > 0 ? zoned(zones, length) / length : 0;
    out[0] = raw[0] * part;
    out[1] = raw[1] * part;
}

const char ikvi_zones_fault[] =
    "dead_zone and full_zone must be 0 to 1, the dead one smaller";

bool ikvi_zones_set(ikvi_zones *zones, float inner, float outer, bool axial)
{
    zones->inner = inner > 0 ? inner : 0.2f;
    zones->outer = outer > 0 ? outer : 0.95f;
    zones->axial = axial;
    return inner >= 0 && outer >= 0 && outer <= 1 &&
           zones->inner < zones->outer;
}

uint32_t ikvi_pad_buttons_held(const ikv_event *held, uint32_t count)
{
    uint32_t buttons = 0;
    for (uint32_t i = 0; i < count; i++)
        if (held[i].kind == IKV_KIND_PAD_DOWN &&
            held[i].pad.index < IKV_PAD_BUTTONS)
            buttons |= 1u << held[i].pad.index;
    return buttons;
}
