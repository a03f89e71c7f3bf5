/* router_gesture.c - two fingers: the tap of both, and the pinch with scale and
 * rotation. Thresholds are those of clicks, holds and drags: a pair that has
 * moved no more than the slop and is lifted within the hold time is a tap;
 * beyond the slop it is a pinch, and no clicks follow.
 */
#include "router_internal.h"

#define HALF_TURN 3.14159265358979323846

/* atan(x) for 0 <= x <= 1, to a millionth: a series below tan(22.5 degrees). */
static double arc_tangent(double x)
{
    double base = 0;
    /* tan(a - 45 degrees) for the upper half: the series stays short. */
    if (x > 0.41421356237309503) {
        base = HALF_TURN / 4;
        x = (x - 1) / (x + 1);
    }
    double q = x * x;
    return base +
           x * (1 - q * (1.0 / 3 -
                         q * (1.0 / 5 -
                              q * (1.0 / 7 - q * (1.0 / 9 - q * (1.0 / 11))))));
}

/* The angle from one vector to another, from -pi to pi. */
static float angle_between(const float a[2], const float b[2])
{
    double along = (double)a[0] * b[0] + (double)a[1] * b[1];
    double across = (double)a[0] * b[1] - (double)a[1] * b[0];
    double size_along = along < 0 ? -along : along;
    double size_across = across < 0 ? -across : across;
    if (size_along == 0 && size_across == 0)
        return 0;
    /* Whichever quotient is at most 1. */
    double angle = size_across <= size_along
                       ? arc_tangent(size_across / size_along)
                       : HALF_TURN / 2 - arc_tangent(size_along / size_across);
    if (along < 0)
        angle = HALF_TURN - angle;
    return (float)(across < 0 ? -angle : angle);
}

/* How far they are apart; at one place about as far as fingers can tell, of
 * the slop: no scale from 0. */
static float span_length(const ikv_router *r, const float v[2])
{
    float length = ikvi_sqrt((double)v[0] * v[0] + (double)v[1] * v[1]);
    float least = r->slop / 12;
    return length > least ? length : least;
}

static finger_pair *pair_of(const ikv_router *r, const pointer *p)
{
    for (uint32_t i = 0; i < r->pair_room; i++) {
        finger_pair *pair = finger_pair_at(r, i);
        if (pair->used && pair->device == p->device &&
            (pair->first == p->id || pair->second == p->id))
            return pair;
    }
    return NULL;
}

/* The vector between the two fingers, and their middle. */
static bool span_of(const ikv_router *r, const finger_pair *pair, float v[2],
                    float middle[2])
{
    const pointer *a = ikvi_router_find(r, pair->device, pair->first);
    const pointer *b = ikvi_router_find(r, pair->device, pair->second);
    if (a == NULL || b == NULL)
        return false;
    v[0] = b->x - a->x;
    v[1] = b->y - a->y;
    /* Not half a sum, which may be no number. */
    middle[0] = a->x + v[0] / 2;
    middle[1] = a->y + v[1] / 2;
    return true;
}

/* Fingers are told in the order in which they went down, also when the first is
 * lifted. */
static void send_gesture(ikv_router *r, const finger_pair *pair, ikv_kind kind,
                         const ikv_event *cause, const float middle[2],
                         float scale)
{
    ikv_event event = ikv_event_make(kind, cause->time_ns);
    IKVI_CHECK(scale > 0 && pair->target.bits != 0);
    event.device = pair->device;
    event.view = cause->view;
    event.seat = cause->seat;
    event.modifiers = cause->modifiers;
    event.flags = cause->flags & IKV_SYNTHETIC;
    event.gesture.x = middle[0];
    event.gesture.y = middle[1];
    event.gesture.dx = middle[0] - pair->middle[0];
    event.gesture.dy = middle[1] - pair->middle[1];
    event.gesture.scale = scale;
    event.gesture.rotation = pair->rotation;
    event.gesture.pointer = pair->ids[0];
    event.gesture.other = pair->ids[1];
    event.gesture.count = 2;
    ikvi_router_send_kind(r, &event, kind, pair->target, (ikv_target){0});
}

/* One whose other finger was lifted only waits to be a tap. */
static bool is_single(const ikv_router *r, const pointer *p)
{
    const finger_pair *pair = pair_of(r, p);
    return pair == NULL || pair->lifted;
}

/* A second finger of the device goes down while a first one is: of several the
 * one that went down last. One that pressed nothing, out of the view, or what
 * is gone by now, is in nobody's way. */
void ikvi_gesture_pressed(ikv_router *r, const pointer *p,
                          const ikv_event *event)
{
    const pointer *first = NULL;
    if (p->type != IKV_TOUCH || !p->used || p->buttons == 0)
        return;
    for (uint32_t i = 0; i < r->capacity; i++) {
        const pointer *other = pointer_at(r, i);
        if (other != p && other->used && other->type == IKV_TOUCH &&
            other->buttons != 0 && other->device == p->device &&
            other->view == p->view && is_single(r, other) &&
            ikvi_router_alive(r, other->pressed) &&
            (first == NULL || other->press_number > first->press_number))
            first = other;
    }
    if (first == NULL)
        return;
    finger_pair *pair = pair_of(r, first);
    for (uint32_t i = 0; i < r->pair_room && pair == NULL; i++)
        if (!finger_pair_at(r, i)->used)
            pair = finger_pair_at(r, i);
    if (pair == NULL)
        return;
    ikv_target target = ikvi_router_common(r, first->pressed, p->pressed);
    if (target.bits == 0)
        return;
    IKVI_CHECK(first->id != p->id && pair_of(r, p) == NULL);
    *pair = (finger_pair){.used = true,
                          .device = p->device,
                          .first = first->id,
                          .second = p->id,
                          .ids = {first->id, p->id},
                          .target = target,
                          .tap_until_ns = first->hold_ns,
                          .may_tap = first->hold_due &&
                                     event->time_ns < first->hold_ns};
    span_of(r, pair, pair->begin, pair->middle);
    pair->begin_middle[0] = pair->middle[0];
    pair->begin_middle[1] = pair->middle[1];
}

static bool beyond(const float a[2], const float b[2], float slop)
{
    float dx = a[0] - b[0], dy = a[1] - b[1];
    return dx * dx + dy * dy > slop * slop;
}

/* Ends a pair that pinches; one that does not is forgotten. GONE2: what is gone
 * can't be told, so the root is. */
static void end_pair(ikv_router *r, finger_pair *pair, const ikv_event *event)
{
    finger_pair ended = *pair;
    ikv_event end = *event;
    IKVI_CHECK(pair->used);
    pair->used = false;
    if (!ended.pinching)
        return;
    if (ended.target.bits == 0) {
        ended.target = root_of(r);
        end.flags |= IKV_SYNTHETIC;
    }
    send_gesture(r, &ended, IKV_KIND_GESTURE_PINCH_END, &end, ended.middle,
                 span_length(r, ended.last) / span_length(r, ended.begin));
}

void ikvi_gesture_moved(ikv_router *r, const pointer *p, const ikv_event *event)
{
    finger_pair *pair = pair_of(r, p);
    float v[2], middle[2];
    if (pair == NULL || pair->lifted || !span_of(r, pair, v, middle))
        return;
    if (pair->target.bits == 0) {
        end_pair(r, pair, event);
        return;
    }
    if (!pair->pinching) {
        if (!beyond(v, pair->begin, r->slop) &&
            !beyond(middle, pair->begin_middle, r->slop))
            return;
        pair->pinching = true;
        pair->may_tap = false;
        ikvi_router_no_click(r, ikvi_router_find(r, pair->device, pair->first));
        ikvi_router_no_click(r,
                             ikvi_router_find(r, pair->device, pair->second));
        memcpy(pair->begin, v, sizeof v);
        memcpy(pair->last, v, sizeof v);
        memcpy(pair->middle, middle, sizeof middle);
        send_gesture(r, pair, IKV_KIND_GESTURE_PINCH_START, event, middle, 1);
        return;
    }
    pair->rotation += angle_between(pair->last, v);
    memcpy(pair->last, v, sizeof v);
    float scale = span_length(r, v) / span_length(r, pair->begin);
    finger_pair sent = *pair; /* a handler may end it */
    memcpy(pair->middle, middle, sizeof middle);
    send_gesture(r, &sent, IKV_KIND_GESTURE_PINCH, event, middle, scale);
}

bool ikvi_gesture_may_tap(const ikv_router *r, const pointer *p,
                          const ikv_event *event)
{
    const finger_pair *pair = pair_of(r, p);
    return pair != NULL && pair->may_tap && !p->dragged && !p->menu_sent &&
           event->kind == IKV_KIND_POINTER_UP &&
           event->time_ns <= pair->tap_until_ns &&
           (event->flags & IKV_SYNTHETIC) == 0;
}

/* A finger is lifted or taken away. Whether both have tapped now. */
bool ikvi_gesture_ended(ikv_router *r, const pointer *p, const ikv_event *event,
                        finger_pair *tapped)
{
    finger_pair *pair = pair_of(r, p);
    if (pair == NULL)
        return false;
    if (!ikvi_gesture_may_tap(r, p, event)) {
        end_pair(r, pair, event);
        return false;
    }
    if (!pair->lifted) {
        pair->lifted = true;
        /* Its number may be used anew: the other finger alone is left. */
        if (pair->first == p->id)
            pair->first = pair->second;
        pair->second = pair->first;
        return false;
    }
    *tapped = *pair;
    pair->used = false;
    return true;
}

void ikvi_gesture_tapped(ikv_router *r, const finger_pair *tapped,
                         const ikv_event *event)
{
    send_gesture(r, tapped, IKV_KIND_GESTURE_TWO_TAP, event, tapped->middle, 1);
}

/* A finger's capture goes elsewhere in mid gesture. */
void ikvi_gesture_lost(ikv_router *r, const pointer *p, const ikv_event *event)
{
    finger_pair *pair = pair_of(r, p);
    if (pair == NULL)
        return;
    ikv_event end = *event;
    end.flags |= IKV_SYNTHETIC;
    end_pair(r, pair, &end);
}

/* GONE2: the end of a pinch is told with the next event of either finger. */
void ikvi_gesture_removed(ikv_router *r, ikv_target target)
{
    for (uint32_t i = 0; i < r->pair_room; i++) {
        finger_pair *pair = finger_pair_at(r, i);
        if (pair->used && same(pair->target, target)) {
            pair->used = pair->pinching;
            pair->target = (ikv_target){0};
        }
    }
}
