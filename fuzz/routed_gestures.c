/* routed_gestures.c - two fingers of one device (docs/routing.md): the tap of
 * both, and the pinch. Angles are the C library's here.
 */
#include "routed_model.h"

#include <math.h>

static const float slop = 12;

static finger_pair *pair_of(model *m, int who)
{
    for (int i = 0; i < PAIRS; i++)
        if (m->pairs[i].used &&
            (m->pairs[i].fingers[0] == who || m->pairs[i].fingers[1] == who))
            return &m->pairs[i];
    return NULL;
}

static bool is_beyond(const float a[2], const float b[2])
{
    float dx = a[0] - b[0], dy = a[1] - b[1];
    return dx * dx + dy * dy > slop * slop;
}

/* From the first finger to the second; and their middle. */
static void span_of(const model *m, const finger_pair *pair, float v[2],
                    float middle[2])
{
    const hand *a = &m->hands[pair->fingers[0]],
               *b = &m->hands[pair->fingers[1]];
    v[0] = b->x - a->x;
    v[1] = b->y - a->y;
    middle[0] = (a->x + b->x) / 2;
    middle[1] = (a->y + b->y) / 2;
}

static float length_of(const float v[2])
{
    float length = hypotf(v[0], v[1]);
    return length > slop / 12 ? length : slop / 12;
}

static void tell_gesture(model *m, const finger_pair *pair, int who,
                         uint32_t kind, const float middle[2], float scale)
{
    const hand *h = &m->hands[who];
    const told what = {.kind = kind,
                       .hand = NOBODY,
                       .target = pair->target,
                       .related = NOBODY,
                       .flags = m->flags & IKV_SYNTHETIC,
                       .view = h->view,
                       .seat = h->seat,
                       .number = pair->ids[0] * HANDS + pair->ids[1],
                       .x = middle[0],
                       .y = middle[1],
                       .dx = middle[0] - pair->middle[0],
                       .dy = middle[1] - pair->middle[1],
                       .scale = scale,
                       .rotation = pair->rotation};
    if (!is_there(m, pair->target))
        return;
    m->s.tell(&m->s, &what);
    act(&m->s, NOBODY);
}

void gesture_pressed(model *m, int who)
{
    hand *h = &m->hands[who];
    int first = NOBODY;
    if (!is_touch(who) || h->buttons == 0)
        return;
    /* The one that went down last of those that are not in a pair. */
    for (int i = 0; i < HANDS; i++) {
        const finger_pair *pair = pair_of(m, i);
        if (i != who && is_touch(i) && m->hands[i].buttons != 0 &&
            m->hands[i].view == h->view && (pair == NULL || pair->lifted) &&
            is_there(m, m->hands[i].pressed) &&
            (first == NOBODY || m->hands[i].turn > m->hands[first].turn))
            first = i;
    }
    if (first == NOBODY)
        return;
    const hand *f = &m->hands[first];
    int target = common_of(m, f->pressed, h->pressed);
    if (target == NOBODY)
        return;
    finger_pair *pair = pair_of(m, first);
    for (int i = 0; pair == NULL; i++)
        pair = m->pairs[i].used ? NULL : &m->pairs[i];
    *pair = (finger_pair){.used = true,
                          .may_tap = f->holds && m->now_ms < f->hold_ms,
                          .fingers = {first, who},
                          .ids = {first, who},
                          .target = target,
                          .tap_until_ms = f->hold_ms};
    span_of(m, pair, pair->begin, pair->middle);
    memcpy(pair->begin_middle, pair->middle, sizeof pair->middle);
}

static void end_pair(model *m, finger_pair *pair, int who)
{
    finger_pair ended = *pair;
    uint32_t flags = m->flags;
    pair->used = false;
    if (!ended.pinching)
        return;
    if (ended.target == NOBODY) {
        ended.target = ROOT;
        m->flags |= IKV_SYNTHETIC;
    }
    tell_gesture(m, &ended, who, IKV_KIND_GESTURE_PINCH_END, ended.middle,
                 length_of(ended.last) / length_of(ended.begin));
    m->flags = flags;
}

void gesture_moved(model *m, int who)
{
    finger_pair *pair = pair_of(m, who);
    float v[2], middle[2], scale = 1;
    if (pair == NULL || pair->lifted)
        return;
    if (pair->target == NOBODY) {
        end_pair(m, pair, who);
        return;
    }
    span_of(m, pair, v, middle);
    bool begins = !pair->pinching;
    if (begins && !is_beyond(v, pair->begin) &&
        !is_beyond(middle, pair->begin_middle))
        return;
    if (begins) {
        pair->pinching = true;
        pair->may_tap = false;
        memcpy(pair->begin, v, sizeof v);
        memcpy(pair->middle, middle, sizeof middle);
        for (int i = 0; i < 2; i++) {
            m->hands[pair->fingers[i]].holds = false;
            m->hands[pair->fingers[i]].menu_sent = true;
        }
    } else {
        const float *last = pair->last;
        /* Half a turn is one to the right, and to one place none: no zeros with
         * a sign. */
        float across = last[0] * v[1] - last[1] * v[0] + 0.0f,
              along = last[0] * v[0] + last[1] * v[1] + 0.0f;
        pair->rotation += atan2f(across, along);
        scale = length_of(v) / length_of(pair->begin);
    }
    memcpy(pair->last, v, sizeof v);
    finger_pair sent = *pair; /* what its handlers do may end it */
    memcpy(pair->middle, middle, sizeof middle);
    tell_gesture(m, &sent, who,
                 begins ? IKV_KIND_GESTURE_PINCH_START : IKV_KIND_GESTURE_PINCH,
                 middle, scale);
}

bool gesture_may_tap(model *m, int who, uint32_t kind)
{
    const finger_pair *pair = pair_of(m, who);
    const hand *h = &m->hands[who];
    return pair != NULL && pair->may_tap && !h->dragged && !h->menu_sent &&
           kind == IKV_KIND_POINTER_UP && m->now_ms <= pair->tap_until_ms;
}

bool gesture_ended(model *m, int who, uint32_t kind, finger_pair *tapped)
{
    finger_pair *pair = pair_of(m, who);
    bool may_tap = gesture_may_tap(m, who, kind);
    if (pair == NULL)
        return false;
    *tapped = *pair;
    if (!may_tap) {
        end_pair(m, pair, who);
    } else if (!pair->lifted) {
        int other = pair->fingers[pair->fingers[0] == who];
        pair->lifted = true;
        pair->fingers[0] = pair->fingers[1] = other;
        return false;
    } else {
        pair->used = false;
    }
    return may_tap;
}

void gesture_tapped(model *m, int who, const finger_pair *tapped)
{
    tell_gesture(m, tapped, who, IKV_KIND_GESTURE_TWO_TAP, tapped->middle, 1);
}

void gesture_lost(model *m, int who)
{
    finger_pair *pair = pair_of(m, who);
    uint32_t flags = m->flags;
    if (pair == NULL)
        return;
    m->flags |= IKV_SYNTHETIC;
    end_pair(m, pair, who);
    m->flags = flags;
}

void gesture_removed(model *m, int target)
{
    for (int i = 0; i < PAIRS; i++)
        if (m->pairs[i].target == target) {
            m->pairs[i].used &= m->pairs[i].pinching;
            m->pairs[i].target = NOBODY;
        }
}
