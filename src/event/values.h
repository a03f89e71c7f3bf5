/* values.h - which values may come in: what can be recorded and read back. */
#ifndef IKVI_VALUES_H
#define IKVI_VALUES_H

#include "platform.h"

#include "ikvar/catalogue.h"

/* How many bytes the code point at `text` has, one of Unicode's but
 * the zero; 0 if it is none. */
size_t ikvi_point_length(const char *text, size_t left);
/* Whether all of it are such. */
bool ikvi_is_utf8(const char *text, size_t size);

/* The event's first field whose value can't be recorded and read back (a float
 * that is not finite or, of a built-in kind, beyond IKV_COORDINATE_LIMIT; text
 * that is longer than its field or not UTF-8); NULL if all can. */
const ikv_field *ikvi_event_fault(const ikv_catalogue *catalogue,
                                  const ikv_event *event);
/* The same for the kinds whose floats are a position and a motion. */
bool ikvi_pointer_is_good(const ikv_event *event);
bool ikvi_coordinate_is_good(float value);

/* Whether it has no such field; fast for what comes often. A kind that there is
 * not has no fields: what it is, is said elsewhere. */
static inline bool ikvi_event_is_good(const ikv_catalogue *catalogue,
                                      const ikv_event *event)
{
    if (event->kind <= IKV_KIND_POINTER_CANCEL && event->kind != IKV_KIND_NONE)
        return ikvi_pointer_is_good(event);
    return event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP ||
           ikvi_event_fault(catalogue, event) == NULL;
}

/* The bit of a pointer's button in `buttons`, and of a modifier's key
 * in `modifiers`; 0 for none. */
static inline uint16_t ikvi_button_bit(int8_t button)
{
    if (button < 0 || button >= IKV_BUTTON_LIMIT)
        return 0;
    if (button == IKV_MIDDLE_BUTTON)
        return IKV_BUTTONS_MIDDLE;
    if (button == IKV_SECONDARY_BUTTON)
        return IKV_BUTTONS_SECONDARY;
    return (uint16_t)(1u << button);
}
uint16_t ikvi_modifier_bit(uint32_t code);

/* Whether a key is among what a port says is down. */
bool ikvi_key_is_held(const ikv_event *held, uint32_t count, uint32_t code);

#endif
