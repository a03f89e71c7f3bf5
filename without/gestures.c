/* gestures.c - instead of src/router/router_gesture.c: two fingers are two
 * fingers, and no pinch or tap of both.
 */
#include "../src/router/router_internal.h"

void ikvi_gesture_pressed(ikv_router *r, const pointer *p,
                          const ikv_event *event)
{
    (void)r, (void)p, (void)event;
}

void ikvi_gesture_moved(ikv_router *r, const pointer *p, const ikv_event *event)
{
    (void)r, (void)p, (void)event;
}

bool ikvi_gesture_may_tap(const ikv_router *r, const pointer *p,
                          const ikv_event *event)
{
    (void)r, (void)p, (void)event;
    return false;
}

bool ikvi_gesture_ended(ikv_router *r, const pointer *p, const ikv_event *event,
                        finger_pair *tapped)
{
    (void)r, (void)p, (void)event, (void)tapped;
    return false;
}

void ikvi_gesture_tapped(ikv_router *r, const finger_pair *tapped,
                         const ikv_event *event)
{
    (void)r, (void)tapped, (void)event;
}

void ikvi_gesture_lost(ikv_router *r, const pointer *p, const ikv_event *event)
{
    (void)r, (void)p, (void)event;
}

void ikvi_gesture_removed(ikv_router *r, ikv_target target)
{
    (void)r, (void)target;
}
