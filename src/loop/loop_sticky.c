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

/* Whose it is now: a device takes its modifiers along to another seat. */
static uint8_t sticky_seat(const ikv_loop *loop, uint16_t device,
                           uint8_t own_seat)
{
    uint8_t seat = device < loop->device_room ? *loop_seat(loop, device) : 0;
    return seat > 0 ? (uint8_t)(seat - 1) : own_seat;
}

static bool is_sticky(const loop_sticky *s, uint8_t seat)
{
    return seat < IKV_SEAT_LIMIT && (s->seats >> seat & 1) != 0;
}

static bool is_sticky_of(const ikv_loop *loop, const sticky_key *key,
                         uint8_t seat)
{
    return sticky_seat(loop, key->device, key->own_seat) == seat;
}

/* Whether it is down of itself, be it held or not. */
static bool is_sticky_down(const sticky_key *key)
{
    return key->how != STICKY_DOWN && key->how != STICKY_HELD;
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

static ikv_event sticky_event(const sticky_key *key, ikv_kind kind,
                              uint64_t time_ns)
{
    ikv_event event = ikv_event_make(kind, time_ns);
    event.device = key->device;
    event.view = key->view;
    event.seat = key->own_seat;
    event.flags = IKV_SYNTHETIC;
    event.key.code = key->code;
    event.key.key = key->key;
    event.key.location = key->location;
    return event;
}

/* Whether it goes on to where it is routed. */
static bool modifier_down(loop_sticky *s, const ikv_event *event, uint8_t seat)
{
    sticky_key *key = find_sticky(s, event);
    if (key == NULL && is_sticky(s, seat) && s->count < STICKY_LIMIT) {
        key = &s->keys[s->count++];
        *key = (sticky_key){.code = event->key.code,
                            .key = event->key.key,
                            .device = event->device,
                            .location = event->key.location,
                            .view = event->view,
                            .own_seat = event->seat};
        return true;
    }
    if (key == NULL || !is_sticky_down(key))
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
static void other_down(ikv_loop *loop, uint8_t seat)
{
    for (uint32_t i = 0; i < loop->sticky.count; i++) {
        sticky_key *key = &loop->sticky.keys[i];
        if (!is_sticky_of(loop, key, seat))
            continue;
        if (key->how == STICKY_DOWN)
            key->how = STICKY_HELD;
        else if (key->how == STICKY_LATCHED)
            key->how = STICKY_USED;
    }
}

/* What ends behind it, as events of its moment. */
static uint32_t other_up(ikv_loop *loop, const ikv_event *event, uint8_t seat,
                         ikv_event *after)
{
    loop_sticky *s = &loop->sticky;
    uint32_t count = 0;
    for (uint32_t i = 0; i < s->count;) {
        sticky_key *key = &s->keys[i];
        if (!is_sticky_of(loop, key, seat) || key->how != STICKY_USED) {
            i++;
            continue;
        }
        after[count++] = sticky_event(key, IKV_KIND_KEY_UP, event->time_ns);
        remove_sticky(s, key);
    }
    return count;
}

void ikvi_loop_forget_sticky(ikv_loop *loop, const ikv_event *event)
{
    loop_sticky *s = &loop->sticky;
    bool blur = event->kind == IKV_KIND_WINDOW_BLUR;
    for (uint32_t i = s->count; i-- > 0;)
        if (blur ? s->keys[i].view == event->view
                 : s->keys[i].device == event->device)
            remove_sticky(s, &s->keys[i]);
}

bool ikvi_loop_sticky(ikv_loop *loop, const ikv_event *event, ikv_event *after,
                      uint32_t *count)
{
    loop_sticky *s = &loop->sticky;
    uint8_t seat = sticky_seat(loop, event->device, event->seat);
    bool key =
        event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP;
    *count = 0;
    if (event->kind == IKV_KIND_WINDOW_BLUR ||
        event->kind == IKV_KIND_DEVICE_REMOVE)
        ikvi_loop_forget_sticky(loop, event);
    if (key && ikvi_modifier_bit(event->key.code) != 0)
        return event->kind == IKV_KIND_KEY_DOWN ? modifier_down(s, event, seat)
                                                : modifier_up(s, event);
    if ((event->kind == IKV_KIND_KEY_DOWN &&
         (event->flags & IKV_REPEAT) == 0) ||
        event->kind == IKV_KIND_POINTER_DOWN)
        other_down(loop, seat);
    else if (event->kind == IKV_KIND_KEY_UP ||
             event->kind == IKV_KIND_POINTER_UP ||
             event->kind == IKV_KIND_POINTER_CANCEL)
        *count = other_up(loop, event, seat, after);
    return true;
}

uint32_t ikvi_loop_resync_sticky(ikv_loop *loop, uint16_t device,
                                 ikv_event *held, uint32_t named, uint32_t room)
{
    loop_sticky *s = &loop->sticky;
    uint32_t count = named;
    for (uint32_t i = s->count; i-- > 0;) {
        sticky_key *key = &s->keys[i];
        if (key->device != device || ikvi_key_is_held(held, named, key->code))
            continue;
        if (key->how == STICKY_AGAIN)
            key->how = STICKY_LOCKED;
        if (is_sticky_down(key) && key->how != STICKY_LAST && count < room)
            held[count++] = sticky_event(key, IKV_KIND_KEY_DOWN, loop->now);
        else
            remove_sticky(s, key);
    }
    for (uint32_t i = 0; i < named; i++)
        if (held[i].kind == IKV_KIND_KEY_DOWN &&
            ikvi_modifier_bit(held[i].key.code) != 0)
            modifier_down(s, &held[i], sticky_seat(loop, device, held[i].seat));
    return count;
}

/* What is held by a finger is let go by it. */
uint32_t ikvi_loop_end_sticky(ikv_loop *loop, ikv_event *ups)
{
    loop_sticky *s = &loop->sticky;
    uint32_t count = 0;
    for (uint32_t i = s->count; i-- > 0;) {
        sticky_key *key = &s->keys[i];
        if (is_sticky(s, sticky_seat(loop, key->device, key->own_seat)))
            continue;
        if (is_sticky_down(key))
            ups[count++] = sticky_event(key, IKV_KIND_KEY_UP, loop->now);
        remove_sticky(s, key);
    }
    return count;
}
