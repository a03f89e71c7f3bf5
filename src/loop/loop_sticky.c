/* loop_sticky.c - modifiers that stay down for the next press: for players who
 * can't hold one key and press another. What a port pushes is changed before it
 * waits for its step, so that the state, routers, actions and tapes all have the
 * same, and a tape plays back without the setting.
 *
 * A modifier that is pressed and let go by itself is latched: its release waits
 * until the next key or button has been pressed and let go. Pressed again it is
 * locked, until it is pressed once more.
 */
#include "loop_internal.h"

/* How a modifier stands. */
enum {
    STICKY_DOWN,    /* nothing else was pressed since */
    STICKY_HELD,    /* something was: it is an ordinary one */
    STICKY_LATCHED, /* let go, and down all the same */
    STICKY_USED,    /* by a press, whose end ends it */
    STICKY_AGAIN,   /* pressed once more */
    STICKY_LOCKED,
    STICKY_LAST /* pressed to be let go */
};

static uint8_t seat_of_event(const ikv_loop *loop, const ikv_event *event)
{
    uint8_t own =
        event->device < loop->device_room ? *loop_seat(loop, event->device) : 0;
    return own > 0 ? (uint8_t)(own - 1) : event->seat;
}

static sticky_key *find_sticky(loop_sticky *s, const ikv_event *event)
{
    for (uint32_t i = 0; i < s->count; i++)
        if (s->keys[i].device == event->device &&
            s->keys[i].code == event->key.code)
            return &s->keys[i];
    return NULL;
}

static void remove_sticky(loop_sticky *s, const sticky_key *key)
{
    uint32_t at = (uint32_t)(key - s->keys);
    for (s->count--; at < s->count; at++)
        s->keys[at] = s->keys[at + 1];
}

static ikv_event release_of(const sticky_key *key, uint64_t time_ns)
{
    ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, time_ns);
    up.device = key->device;
    up.view = key->view;
    up.seat = key->own_seat;
    up.flags = IKV_SYNTHETIC;
    up.key.code = key->code;
    up.key.key = key->key;
    up.key.location = key->location;
    return up;
}

/* Whether it goes on to where it is routed. */
static bool modifier_down(loop_sticky *s, const ikv_event *event, uint8_t seat)
{
    sticky_key *key = find_sticky(s, event);
    if (key == NULL && s->count < STICKY_LIMIT) {
        key = &s->keys[s->count++];
        *key = (sticky_key){.code = event->key.code,
                            .key = event->key.key,
                            .device = event->device,
                            .location = event->key.location,
                            .view = event->view,
                            .own_seat = event->seat,
                            .seat = seat};
        return true;
    }
    if (key == NULL || key->how == STICKY_DOWN || key->how == STICKY_HELD)
        return true; /* more than there is room for; or it repeats */
    if (key->how == STICKY_LATCHED || key->how == STICKY_USED)
        key->how = STICKY_AGAIN;
    else if (key->how == STICKY_LOCKED)
        key->how = STICKY_LAST;
    return false;
}

static bool modifier_up(loop_sticky *s, const ikv_event *event)
{
    sticky_key *key = find_sticky(s, event);
    if (key == NULL)
        return true;
    if (key->how == STICKY_HELD || key->how == STICKY_LAST) {
        remove_sticky(s, key);
        return true;
    }
    key->how = key->how == STICKY_AGAIN ? STICKY_LOCKED : STICKY_LATCHED;
    return false;
}

/* A press of anything else uses what is latched, and makes what is held an
 * ordinary modifier. */
static void other_down(loop_sticky *s, uint8_t seat)
{
    for (uint32_t i = 0; i < s->count; i++) {
        sticky_key *key = &s->keys[i];
        if (key->seat == seat && key->how == STICKY_DOWN)
            key->how = STICKY_HELD;
        else if (key->seat == seat && key->how == STICKY_LATCHED)
            key->how = STICKY_USED;
    }
}

/* What ends behind it, as events of its moment. */
static uint32_t other_up(loop_sticky *s, const ikv_event *event, uint8_t seat,
                         ikv_event *after)
{
    uint32_t count = 0;
    for (uint32_t i = 0; i < s->count;) {
        sticky_key *key = &s->keys[i];
        if (key->seat != seat || key->how != STICKY_USED) {
            i++;
            continue;
        }
        after[count++] = release_of(key, event->time_ns);
        remove_sticky(s, key);
    }
    return count;
}

/* The router lets go of them by itself. */
static void forget_sticky(loop_sticky *s, const ikv_event *event)
{
    for (uint32_t i = s->count; i-- > 0;)
        if (event->kind == IKV_KIND_WINDOW_BLUR ||
            s->keys[i].device == event->device)
            remove_sticky(s, &s->keys[i]);
}

bool ikvi_loop_sticky(ikv_loop *loop, const ikv_event *event, ikv_event *after,
                      uint32_t *count)
{
    loop_sticky *s = &loop->sticky;
    uint8_t seat = seat_of_event(loop, event);
    bool key =
        event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP;
    *count = 0;
    if (event->kind == IKV_KIND_WINDOW_BLUR ||
        event->kind == IKV_KIND_DEVICE_REMOVE)
        forget_sticky(s, event);
    if (seat >= IKV_SEAT_LIMIT || (s->seats >> seat & 1) == 0)
        return true;
    if (key && ikvi_modifier_bit(event->key.code) != 0)
        return event->kind == IKV_KIND_KEY_DOWN ? modifier_down(s, event, seat)
                                                : modifier_up(s, event);
    if (event->kind == IKV_KIND_KEY_DOWN ||
        event->kind == IKV_KIND_POINTER_DOWN)
        other_down(s, seat);
    else if (event->kind == IKV_KIND_KEY_UP ||
             event->kind == IKV_KIND_POINTER_UP ||
             event->kind == IKV_KIND_POINTER_CANCEL)
        *count = other_up(s, event, seat, after);
    return true;
}

/* What is held by a finger is let go by it. */
uint32_t ikvi_loop_end_sticky(ikv_loop *loop, uint8_t seat, ikv_event *ups)
{
    loop_sticky *s = &loop->sticky;
    uint32_t count = 0;
    for (uint32_t i = s->count; i-- > 0;) {
        sticky_key key = s->keys[i];
        if (key.seat != seat)
            continue;
        remove_sticky(s, &s->keys[i]);
        if (key.how == STICKY_DOWN || key.how == STICKY_HELD)
            continue;
        ups[count++] = release_of(&key, loop->now);
    }
    return count;
}
