/* state.c - what is down and where, as of a step: S1, S2.
 *
 * Edges and motion bear the number of the step and of the frame in which they
 * were counted, so that nothing has to be cleared when one begins.
 *
 * Each seat has a place for each key of the keyboard's page, or, if that is too
 * much, as many places as there are keys to be known at once. A place is free
 * again when its key is up and its edges are of an earlier step; one whose edges
 * are of this frame is taken last.
 *
 * state-1  a key is down while a device holds it: at most two are told apart;
 *          no two places of a seat are one key's
 * state-2  no two pointers in use are of the same device and id
 * state-3  a touch that is not down is forgotten when the next step begins
 */
#include "../event/memory.h"
#include "../event/number.h"
#include "../event/report.h"
#include "../event/stick.h"
#include "../event/values.h"
#include "state_shared.h"

#include "ikvar/state.h"

enum {
    KEYS = 256,
    STATE_FILTERS = 2,
    STATE_SEATS = 8
};

/* How often something happened in one step and one frame. */
typedef struct state_edges {
    uint32_t step, frame;
    uint8_t in_step, in_frame;
} state_edges;

typedef struct state_key {
    uint64_t since_ns;
    state_edges down, up;
    uint16_t holders[2]; /* devices, plus 1; 0: nobody */
    uint8_t view;
    uint8_t usage; /* which key it is, if it is used */
    bool used;
} state_key;

typedef struct state_pointer {
    ikv_pointer_state now; /* its edges and motion hold for `step`, `frame` */
    uint64_t since_ns;
    uint32_t step, frame;
    bool used, placed;
    uint8_t pressed_view; /* while it is down: its own, wherever it is */
} state_pointer;

typedef struct state_pad {
    ikv_pad_state now; /* its edges hold for `step`, `frame` */
    uint32_t step, frame;
    bool used;
} state_pad;

struct ikv_state {
    const ikvi_state_calls *calls; /* first: see state_shared.h */
    ikv_memory memory;
    size_t size;
    uint64_t identity; /* of its config */
    ikvi_zones zones;
    uint32_t seats, capacity, key_room, pad_room;
    size_t keys, pointers, pads;
    uint32_t found[STATE_FILTERS]; /* where a pointer was found last: a hint */
    /* What an image holds of it, with the arrays behind. */
    struct {
        uint32_t step, frame; /* from 1 on */
        uint64_t time_ns;
        uint64_t refused;
        uint16_t modifiers[STATE_FILTERS][STATE_SEATS];
        uint32_t
            reach[STATE_FILTERS]; /* places from there on were never used */
    } s;
};

/* -------------------------------------------------------------- finding -- */

/* A seat that is not told apart is the last one's: no input is lost to a state
 * of few seats. */
static uint8_t seat_of(const ikv_state *s, uint8_t seat)
{
    return seat < s->seats ? seat : (uint8_t)(s->seats - 1);
}

/* The place of a seat's keys, `at` below the room. */
static state_key *key_place(const ikv_state *s, uint32_t filter, uint8_t seat,
                            uint32_t at)
{
    IKVI_CHECK(filter < STATE_FILTERS && at < s->key_room);
    return (state_key *)ikvi_at(s, s->keys) +
           ((size_t)filter * s->seats + seat_of(s, seat)) * s->key_room + at;
}

static bool is_key(uint32_t code)
{
    return code >> 16 == 7 && (code & 0xffff) < KEYS;
}

static uint32_t state_key_code(const state_key *key)
{
    return 0x00070000u | key->usage;
}

/* NULL if it is not known, and so is up. */
static state_key *state_key_of(const ikv_state *s, uint32_t filter,
                               uint8_t seat, uint32_t code)
{
    if (filter >= STATE_FILTERS || !is_key(code))
        return NULL;
    /* With room for all a key's number is its place. */
    if (s->key_room == KEYS)
        return key_place(s, filter, seat, code & 0xff);
    for (uint32_t at = 0; at < s->key_room; at++) {
        state_key *key = key_place(s, filter, seat, at);
        if (key->used && key->usage == (code & 0xff))
            return key;
    }
    return NULL;
}

static state_pad *pad_at(const ikv_state *s, uint32_t filter, uint32_t at)
{
    IKVI_CHECK(filter < STATE_FILTERS && at < s->pad_room);
    return (state_pad *)ikvi_at(s, s->pads) + (size_t)filter * s->pad_room + at;
}

static state_pointer *pointer_in(const ikv_state *s, uint32_t filter,
                                 uint32_t at)
{
    IKVI_CHECK(filter < STATE_FILTERS && at < s->capacity);
    return (state_pointer *)ikvi_at(s, s->pointers) +
           (size_t)filter * s->capacity + at;
}

static state_pointer *find_in(const ikv_state *s, uint32_t filter,
                              uint16_t device, uint16_t id)
{
    /* Behind the reach nobody ever was. */
    for (uint32_t i = 0; i < s->s.reach[filter]; i++) {
        state_pointer *p = pointer_in(s, filter, i);
        if (p->used && p->now.device == device && p->now.pointer == id)
            return p;
    }
    return NULL;
}

/* ----------------------------------------------------------------- keys -- */

static void count_edge(const ikv_state *s, state_edges *edges)
{
    /* Counted in another step: nothing of this one yet. */
    if (edges->step != s->s.step)
        edges->in_step = 0;
    if (edges->frame != s->s.frame)
        edges->in_frame = 0;
    edges->step = s->s.step;
    edges->frame = s->s.frame;
    /* More taps in a step than that are told as that many. */
    if (edges->in_step < UINT8_MAX)
        edges->in_step++;
    if (edges->in_frame < UINT8_MAX)
        edges->in_frame++;
}

static bool is_down(const state_key *key)
{
    return key != NULL && (key->holders[0] != 0 || key->holders[1] != 0);
}

/* Whether a key's place tells nothing any more of this step. */
static bool is_free(const ikv_state *s, const state_key *key)
{
    return !key->used || (!is_down(key) && key->down.step != s->s.step &&
                          key->up.step != s->s.step);
}

/* A place that still tells of this frame is the last to be taken, but it is: what
 * is known in a step shall not hang on where frames begin. NULL if there is
 * none. */
static state_key *free_key(ikv_state *s, uint32_t filter, uint8_t seat)
{
    state_key *found = NULL;
    for (uint32_t at = 0; at < s->key_room; at++) {
        state_key *place = key_place(s, filter, seat, at);
        if (!is_free(s, place))
            continue;
        found = place;
        if (place->down.frame != s->s.frame && place->up.frame != s->s.frame)
            break;
    }
    if (found == NULL)
        s->s.refused++;
    else
        *found = (state_key){.since_ns = 0};
    return found;
}

/* The key's place, or a free one. */
static state_key *place_for_key(ikv_state *s, uint32_t filter, uint8_t seat,
                                uint32_t code)
{
    IKVI_CHECK(is_key(code));
    state_key *key = state_key_of(s, filter, seat, code);
    if (key == NULL)
        key = free_key(s, filter, seat);
    if (key != NULL) {
        key->used = true;
        key->usage = (uint8_t)code;
    }
    return key;
}

static void update_modifiers(ikv_state *s, uint32_t filter, uint8_t seat)
{
    uint16_t modifiers = 0;
    /* HID usages 0xe0 to 0xe7: the eight modifier keys. */
    for (uint32_t code = 0x000700e0; code <= 0x000700e7; code++)
        if (is_down(state_key_of(s, filter, seat, code)))
            modifiers |= ikvi_modifier_bit(code);
    s->s.modifiers[filter][seat_of(s, seat)] = modifiers;
}

/* 0 is nobody, so that device 0 is 1. The last number of all has no holder. */
static uint32_t holder_of(const ikv_event *event)
{
    return event->device + 1u;
}

static bool is_held_by(const state_key *key, uint32_t holder)
{
    return key != NULL &&
           (key->holders[0] == holder || key->holders[1] == holder);
}

/* A key that its device holds already repeats, whatever seat the port names. */
static void press_key(ikv_state *s, uint32_t filter, const ikv_event *event)
{
    uint32_t code = event->key.code;
    for (uint32_t n = 0; n < s->seats; n++)
        if (is_held_by(state_key_of(s, filter, (uint8_t)n, code),
                       holder_of(event)))
            return;
    if (!is_key(code) || holder_of(event) > UINT16_MAX)
        return;
    state_key *key = place_for_key(s, filter, event->seat, code);
    if (key == NULL)
        return;
    if (!is_down(key)) {
        key->since_ns = event->time_ns;
        count_edge(s, &key->down);
    }
    /* A third device that holds the same key takes the second one's place. */
    key->holders[key->holders[0] != 0] = (uint16_t)holder_of(event);
    key->view = event->view;
    update_modifiers(s, filter, event->seat);
}

static void release_key(ikv_state *s, state_key *key, uint32_t holder)
{
    IKVI_CHECK(holder < 2 && key->holders[holder] != 0);
    key->holders[holder] = 0;
    if (!is_down(key))
        count_edge(s, &key->up);
}

/* Wherever its device holds it: a port may have named another seat as it went
 * down, and nothing shall stay down for good. */
static void let_key_up(ikv_state *s, uint32_t filter, const ikv_event *event)
{
    for (uint32_t n = 0; n < s->seats; n++) {
        uint8_t seat = (uint8_t)n;
        state_key *key = state_key_of(s, filter, seat, event->key.code);
        if (!is_held_by(key, holder_of(event)))
            continue;
        release_key(s, key, key->holders[1] == holder_of(event));
        update_modifiers(s, filter, seat);
    }
}

/* Keys of a device, or of a window that has lost the focus. */
static void release_keys(ikv_state *s, uint32_t filter, const ikv_event *cause,
                         const ikv_event *held, uint32_t count)
{
    bool blur = cause->kind == IKV_KIND_WINDOW_BLUR;
    for (uint32_t n = 0; n < s->seats; n++) {
        uint8_t seat = (uint8_t)n;
        for (uint32_t at = 0; at < s->key_room; at++) {
            state_key *key = key_place(s, filter, seat, at);
            for (uint32_t i = 0; i < 2; i++)
                if (key->holders[i] != 0 &&
                    (blur ? key->view == cause->view
                          : key->holders[i] == holder_of(cause)) &&
                    !ikvi_key_is_held(held, count, state_key_code(key)))
                    release_key(s, key, i);
        }
        update_modifiers(s, filter, seat);
    }
}

/* ------------------------------------------------------------- pointers -- */

/* Motion and edges of an earlier step or frame are gone. */
static void bring_up_to_date(const ikv_state *s, state_pointer *p)
{
    if (p->step != s->s.step) {
        p->now.dx = p->now.dy = p->now.wheel_dx = p->now.wheel_dy = 0;
        p->now.went_down = p->now.went_up = 0;
    }
    if (p->frame != s->s.frame) {
        p->now.frame_dx = p->now.frame_dy = 0;
        p->now.frame_down = p->now.frame_up = 0;
    }
    p->step = s->s.step;
    p->frame = s->s.frame;
}

/* A touch that has ended is known until its step is over. */
static bool is_over(const ikv_state *s, const state_pointer *p)
{
    /* Until then its release may be asked for. */
    return p->now.type == IKV_TOUCH && p->now.buttons == 0 &&
           p->step != s->s.step;
}

/* The same, beginning with the one that was found last and those behind it: one
 * moves on, or hands take turns. */
static state_pointer *find_next(ikv_state *s, uint32_t filter, uint16_t device,
                                uint16_t id)
{
    state_pointer *places = pointer_in(s, filter, 0);
    uint32_t at = s->found[filter], reach = s->s.reach[filter];
    IKVI_CHECK(reach <= s->capacity);
    for (uint32_t i = 0; i < reach; i++, at++) {
        at = at < reach ? at : 0;
        state_pointer *p = &places[at];
        if (!p->used || p->now.device != device || p->now.pointer != id)
            continue;
        s->found[filter] = at;
        return p;
    }
    return NULL;
}

static state_pointer *free_place(const ikv_state *s, uint32_t filter)
{
    for (uint32_t i = 0; i < s->capacity; i++) {
        state_pointer *p = pointer_in(s, filter, i);
        if (!p->used || is_over(s, p))
            return p;
    }
    return NULL;
}

/* `reach` lets queries stop at the last place that was ever used. */
IKVI_APART static state_pointer *new_pointer(ikv_state *s, uint32_t filter,
                                             uint16_t device, uint16_t id,
                                             uint8_t type)
{
    state_pointer *p = free_place(s, filter);
    if (p == NULL) {
        s->s.refused++;
        return NULL;
    }
    *p = (state_pointer){.used = true, .step = s->s.step, .frame = s->s.frame};
    uint32_t place = (uint32_t)(p - pointer_in(s, filter, 0));
    if (place >= s->s.reach[filter])
        s->s.reach[filter] = place + 1;
    p->now.device = device;
    p->now.pointer = id;
    p->now.type = type;
    return p;
}

static state_pointer *known_pointer(ikv_state *s, uint32_t filter,
                                    const ikv_event *event, uint16_t id,
                                    uint8_t type)
{
    state_pointer *p = find_next(s, filter, event->device, id);
    IKVI_CHECK(s->s.reach[filter] <= s->capacity);
    if (p == NULL)
        p = new_pointer(s, filter, event->device, id, type);
    if (p == NULL)
        return NULL;
    /* Before anything is added to the step's motion. */
    bring_up_to_date(s, p);
    IKVI_CHECK(p->used && p->step == s->s.step);
    p->now.view = event->view;
    p->now.seat = event->seat;
    return p;
}

static void place_pointer(state_pointer *p, const ikv_event *event)
{
    const ikv_pointer_data *at = &event->pointer;
    float dx = at->dx, dy = at->dy;
    bool rests = (event->flags & IKV_RELATIVE) != 0 && p->placed;
    /* The first place is no motion from nowhere. */
    if (dx == 0 && dy == 0 && p->placed && !rests) {
        dx = at->x - p->now.x;
        dy = at->y - p->now.y;
    }
    p->placed = true;
    if (!rests) {
        p->now.x = at->x;
        p->now.y = at->y;
    }
    p->now.dx += dx;
    p->now.dy += dy;
    p->now.frame_dx += dx;
    p->now.frame_dy += dy;
}

static void release_buttons(state_pointer *p, uint16_t buttons)
{
    p->now.buttons &= (uint16_t)~buttons;
    p->now.went_up |= buttons;
    p->now.frame_up |= buttons;
}

static void press_button(state_pointer *p, uint16_t button, uint64_t time_ns)
{
    if (p->now.buttons == 0) {
        p->since_ns = time_ns;
        p->pressed_view = p->now.view;
    }
    p->now.distance = 0;
    if ((p->now.buttons & button) == 0) {
        p->now.went_down |= button;
        p->now.frame_down |= button;
    }
    p->now.buttons |= button;
}

/* Of a pointer that is not known; or that it has left one view, told after it has
 * come into another. */
static bool is_no_end(const ikv_state *s, uint32_t filter,
                      const ikv_event *event)
{
    const state_pointer *p =
        find_in(s, filter, event->device, event->pointer.pointer);
    return p == NULL || (event->kind == IKV_KIND_POINTER_LEAVE &&
                         p->now.buttons == 0 && p->now.view != event->view);
}

/* What is claimed moves and releases, but never presses (S2): a handler that
 * stopped the press must not leave a button held. */
static void take_pointer(ikv_state *s, uint32_t filter, const ikv_event *event,
                         bool claimed)
{
    uint16_t id = event->pointer.pointer;
    uint16_t button = ikvi_button_bit(event->pointer.button);
    /* What ends makes no pointer known that was not. */
    bool ends = event->kind != IKV_KIND_POINTER_DOWN &&
                event->kind != IKV_KIND_POINTER_MOVE;
    if (ends && is_no_end(s, filter, event))
        return;
    state_pointer *p = known_pointer(s, filter, event, id, event->pointer.type);
    if (p == NULL)
        return;
    /* A finger comes from nowhere each time it is put down. */
    if (event->kind == IKV_KIND_POINTER_DOWN && p->now.type == IKV_TOUCH &&
        p->now.buttons == 0)
        p->placed = false;
    /* A cancel's place means nothing. */
    if (event->kind != IKV_KIND_POINTER_CANCEL)
        place_pointer(p, event);
    if (event->kind == IKV_KIND_POINTER_DOWN && !claimed)
        press_button(p, button, event->time_ns);
    else if (event->kind == IKV_KIND_POINTER_UP)
        release_buttons(p, p->now.buttons & button);
    else if (event->kind == IKV_KIND_POINTER_CANCEL)
        release_buttons(p, p->now.buttons);
    else if (event->kind == IKV_KIND_POINTER_LEAVE && p->now.buttons == 0)
        p->used = false;
}

/* OVER6: one that hovers is where it turned its wheel, or a pen where it said how
 * far it is. It is there without having moved. */
static void hover_at(state_pointer *p, const ikv_event *event, float x, float y)
{
    if (p->now.buttons != 0 || (event->flags & IKV_RELATIVE) != 0)
        return;
    p->placed = true;
    p->now.x = x;
    p->now.y = y;
}

static void take_wheel(ikv_state *s, uint32_t filter, const ikv_event *event,
                       bool claimed)
{
    state_pointer *p = known_pointer(s, filter, event, event->wheel.pointer,
                                     event->wheel.type);
    if (p == NULL)
        return;
    hover_at(p, event, event->wheel.x, event->wheel.y);
    if (claimed)
        return;
    p->now.wheel_dx += event->wheel.dx;
    p->now.wheel_dy += event->wheel.dy;
}

static uint16_t buttons_named(const state_pointer *p, const ikv_event *held,
                              uint32_t count)
{
    uint16_t buttons = 0;
    for (uint32_t i = 0; i < count; i++)
        if (held[i].kind == IKV_KIND_POINTER_DOWN &&
            held[i].pointer.pointer == p->now.pointer)
            buttons |= ikvi_button_bit(held[i].pointer.button);
    return buttons;
}

static void take_distance(ikv_state *s, uint32_t filter, const ikv_event *event)
{
    state_pointer *p = find_in(s, filter, event->device, event->pen.pointer);
    /* A pen that is down is at no distance, whatever its port says. */
    if (p == NULL || p->now.buttons != 0)
        return;
    p->now.distance = ikvi_clamp(event->pen.distance, 0, 1);
    hover_at(p, event, event->pen.x, event->pen.y);
}

/* Pointers of a device, or of a window that has lost the focus. */
static void release_pointers(ikv_state *s, uint32_t filter,
                             const ikv_event *cause, const ikv_event *held,
                             uint32_t count)
{
    bool blur = cause->kind == IKV_KIND_WINDOW_BLUR;
    for (uint32_t i = 0; i < s->capacity; i++) {
        state_pointer *p = pointer_in(s, filter, i);
        if (!p->used || (blur ? p->pressed_view != cause->view
                              : p->now.device != cause->device))
            continue;
        /* Releases are edges of this step. */
        bring_up_to_date(s, p);
        release_buttons(
            p, (uint16_t)(p->now.buttons & ~buttons_named(p, held, count)));
        if (cause->kind == IKV_KIND_DEVICE_REMOVE && p->now.type != IKV_TOUCH)
            p->used = false;
    }
}

/* ----------------------------------------------------------------- pads -- */

static void date_pad(const ikv_state *s, state_pad *p)
{
    if (p->step != s->s.step)
        p->now.went_down = p->now.went_up = 0;
    if (p->frame != s->s.frame)
        p->now.frame_down = p->now.frame_up = 0;
    p->step = s->s.step;
    p->frame = s->s.frame;
}

static state_pad *pad_of(ikv_state *s, uint32_t filter, uint16_t device)
{
    for (uint32_t i = 0; i < s->pad_room; i++) {
        state_pad *p = pad_at(s, filter, i);
        /* Device numbers don't come back: who is gone is found by his
         * numbers. */
        if (p->used && p->now.connected && p->now.device == device)
            return p;
    }
    return NULL;
}

/* A new pad's place: that of the same one before it was unplugged, or else a
 * new one, or that of another that is gone. */
static state_pad *place_for_pad(ikv_state *s, uint32_t filter,
                                const ikv_device_data *who)
{
    state_pad *fresh = NULL, *gone = NULL;
    for (uint32_t i = 0; i < s->pad_room; i++) {
        state_pad *p = pad_at(s, filter, i);
        if (!p->used) {
            fresh = fresh == NULL ? p : fresh;
        } else if (!p->now.connected) {
            if (who != NULL && p->now.vendor == who->vendor &&
                p->now.product == who->product &&
                p->now.version == who->version && p->now.bus == who->bus)
                return p;
            gone = gone == NULL ? p : gone;
        }
    }
    /* Places that were never used come first, so that nth stays who it was. */
    return fresh != NULL ? fresh : gone;
}

/* K1: one that is known again by its numbers gets its old place, so that a
 * player's pad stays the nth. */
static state_pad *connect_pad(ikv_state *s, uint32_t filter,
                              const ikv_event *event,
                              const ikv_device_data *who)
{
    state_pad *p = place_for_pad(s, filter, who);
    if (p == NULL) {
        s->s.refused++;
        return NULL;
    }
    *p = (state_pad){.used = true, .step = s->s.step, .frame = s->s.frame};
    p->now.connected = true;
    p->now.device = event->device;
    p->now.seat = event->seat;
    if (who != NULL) {
        p->now.vendor = who->vendor;
        p->now.product = who->product;
        p->now.version = who->version;
        p->now.bus = who->bus;
    }
    return p;
}

static void take_pad(ikv_state *s, uint32_t filter, const ikv_event *event,
                     bool claimed)
{
    bool axis = event->kind == IKV_KIND_PAD_AXIS;
    float value = ikvi_clamp(event->pad.value, -1, 1);
    state_pad *p = pad_of(s, filter, event->device);
    /* Before a pad is made known of it: what means nothing takes no place. */
    if (event->pad.index >= (axis ? IKV_PAD_AXES : IKV_PAD_BUTTONS))
        return;
    if (p == NULL)
        p = connect_pad(s, filter, event, NULL);
    if (p == NULL)
        return;
    date_pad(s, p);
    p->now.pad = event->pad.pad;
    uint32_t bit = 1u << event->pad.index;
    if (axis && !claimed) {
        p->now.axes[event->pad.index] = value;
        /* Both axes of a stick make its dead zone: it is found anew for
         * either. */
        ikvi_stick(&s->zones, &p->now.axes[0], p->now.left);
        ikvi_stick(&s->zones, &p->now.axes[2], p->now.right);
    } else if (event->kind == IKV_KIND_PAD_VALUE && !claimed) {
        p->now.values[event->pad.index] = value > 0 ? value : 0;
    } else if (event->kind == IKV_KIND_PAD_DOWN && !claimed) {
        /* One that says no more is wholly down. */
        p->now.values[event->pad.index] = value > 0 ? value : 1;
        if ((p->now.buttons & bit) == 0) {
            p->now.went_down |= bit;
            p->now.frame_down |= bit;
        }
        p->now.buttons |= bit;
    } else if (event->kind == IKV_KIND_PAD_UP && (p->now.buttons & bit) != 0) {
        p->now.values[event->pad.index] = value > 0 ? value : 0;
        p->now.buttons &= ~bit;
        p->now.went_up |= bit;
        p->now.frame_up |= bit;
    }
}

static void release_pad(ikv_state *s, uint32_t filter, const ikv_event *cause,
                        const ikv_event *held, uint32_t count)
{
    state_pad *p = pad_of(s, filter, cause->device);
    /* A pad has no window. */
    if (p == NULL || cause->kind == IKV_KIND_WINDOW_BLUR)
        return;
    date_pad(s, p);
    uint32_t keeps = p->now.buttons & ikvi_pad_buttons_held(held, count);
    p->now.went_up |= p->now.buttons & ~keeps;
    p->now.frame_up |= p->now.buttons & ~keeps;
    p->now.buttons = keeps;
    memset(p->now.axes, 0, sizeof p->now.axes);
    memset(p->now.values, 0, sizeof p->now.values);
    memset(p->now.left, 0, sizeof p->now.left);
    memset(p->now.right, 0, sizeof p->now.right);
    p->now.connected = cause->kind != IKV_KIND_DEVICE_REMOVE;
}

/* What a device holds is another player's: no edges for him, who has pressed
 * nothing. */
static void move_key(ikv_state *s, uint32_t filter, state_key *key, uint32_t i,
                     const ikv_event *event)
{
    uint64_t since_ns = key->since_ns;
    uint32_t code = state_key_code(key);
    uint8_t view = key->view;
    release_key(s, key, i);
    state_key *to = place_for_key(s, filter, event->seat, code);
    if (to == NULL || is_held_by(to, holder_of(event)) ||
        (to->holders[0] != 0 && to->holders[1] != 0))
        return;
    if (!is_down(to)) {
        to->since_ns = since_ns;
        to->view = view;
    }
    to->holders[to->holders[0] != 0] = (uint16_t)holder_of(event);
}

static void move_to_seat(ikv_state *s, uint32_t filter, const ikv_event *event)
{
    for (uint32_t n = 0; n < s->seats; n++) {
        for (uint32_t at = 0; at < s->key_room; at++) {
            state_key *key = key_place(s, filter, (uint8_t)n, at);
            for (uint32_t i = 0; n != seat_of(s, event->seat) && i < 2; i++)
                if (key->holders[i] == holder_of(event))
                    move_key(s, filter, key, i, event);
        }
        update_modifiers(s, filter, (uint8_t)n);
    }
    /* Those that were moved to a lower seat came after its sum. */
    update_modifiers(s, filter, event->seat);
    for (uint32_t i = 0; i < s->s.reach[filter]; i++) {
        state_pointer *p = pointer_in(s, filter, i);
        if (p->used && p->now.device == event->device)
            p->now.seat = event->seat;
    }
    state_pad *pad = pad_of(s, filter, event->device);
    if (pad != NULL)
        pad->now.seat = event->seat;
}

/* -------------------------------------------------------------- feeding -- */

void ikv_state_begin_step(ikv_state *state, uint64_t time_ns)
{
    if (state != NULL) {
        /* All of the last step's edges and motion are over by that. */
        state->s.step++;
        state->s.time_ns = time_ns;
    }
}

void ikv_state_begin_frame(ikv_state *state)
{
    if (state != NULL)
        state->s.frame++;
}

static void take_event(ikv_state *s, uint32_t filter, const ikv_event *event,
                       bool claimed)
{
    switch (event->kind) {
    case IKV_KIND_KEY_DOWN:
        if (!claimed)
            press_key(s, filter, event);
        break;
    case IKV_KIND_KEY_UP:
        let_key_up(s, filter, event);
        break;
    case IKV_KIND_POINTER_DOWN:
    case IKV_KIND_POINTER_MOVE:
    case IKV_KIND_POINTER_UP:
    case IKV_KIND_POINTER_CANCEL:
    case IKV_KIND_POINTER_LEAVE:
        take_pointer(s, filter, event, claimed);
        break;
    case IKV_KIND_WHEEL:
        take_wheel(s, filter, event, claimed);
        break;
    case IKV_KIND_PEN_DISTANCE:
        take_distance(s, filter, event);
        break;
    case IKV_KIND_PAD_DOWN:
    case IKV_KIND_PAD_UP:
    case IKV_KIND_PAD_AXIS:
    case IKV_KIND_PAD_VALUE:
        take_pad(s, filter, event, claimed);
        break;
    case IKV_KIND_DEVICE_ADD:
        if ((event->info.types & IKV_DEVICE_PAD) != 0 &&
            pad_of(s, filter, event->device) == NULL)
            connect_pad(s, filter, event, &event->info);
        break;
    case IKV_KIND_DEVICE_SEAT:
        move_to_seat(s, filter, event);
        break;
    case IKV_KIND_WINDOW_BLUR:
    case IKV_KIND_DEVICE_REMOVE:
    case IKV_KIND_DEVICE_RESYNC:
        release_pad(s, filter, event, NULL, 0);
        release_keys(s, filter, event, NULL, 0);
        release_pointers(s, filter, event, NULL, 0);
        break;
    default:
        break;
    }
}

/* What a loop has taken in was checked as it came. */
static void take_input(ikv_state *state, const ikv_event *event)
{
    take_event(state, IKV_STATE_RAW, event, false);
}

/* Fed by hand it may be anything. */
void ikv_state_take(ikv_state *state, uint32_t filter, const ikv_event *event)
{
    if (state != NULL && event != NULL && filter < STATE_FILTERS &&
        ikvi_event_is_good(NULL, event))
        take_event(state, filter, event, false);
}

void ikv_state_take_claimed(ikv_state *state, const ikv_event *event)
{
    if (state != NULL && event != NULL && ikvi_event_is_good(NULL, event))
        take_event(state, IKV_STATE_UNCLAIMED, event, true);
}

void ikv_state_resync(ikv_state *state, uint32_t filter, const ikv_event *cause,
                      const ikv_event *held, uint32_t count)
{
    if (state == NULL || cause == NULL || filter >= STATE_FILTERS ||
        (held == NULL && count > 0))
        return;
    release_keys(state, filter, cause, held, count);
    release_pointers(state, filter, cause, held, count);
    release_pad(state, filter, cause, held, count);
    /* What is down already stays as it is: its edges are not counted again. Of
     * what goes down somebody may claim a part (S2). */
    for (uint32_t i = 0; filter == IKV_STATE_RAW && i < count; i++)
        ikv_state_take(state, filter, &held[i]);
}

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_state(const ikv_state_config *config,
                                const ikv_reporter *reporter, ikv_state *s)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"state.seats", config->seats, 0, STATE_SEATS},
        {"state.pointers", config->pointers, 0, UINT16_MAX},
        {"state.keys", config->keys, 0, KEYS},
        {"state.pads", config->pads, 0, IKV_PAD_LIMIT}};
    ikv_status status = ikvi_check_ranges(reporter, "state", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    if (!ikvi_zones_set(&s->zones, config->dead_zone, config->full_zone,
                        config->axial_zones))
        return ikvi_bad_config(reporter, IKV_BAD_CONFIG, "state",
                               ikvi_zones_fault);
    s->seats = ikvi_or(config->seats, 1);
    s->capacity = ikvi_or(config->pointers, 32);
    s->key_room = ikvi_or(config->keys, KEYS);
    s->pad_room = ikvi_or(config->pads, IKV_PAD_LIMIT);
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *s);
    s->keys = ikvi_layout_add(
        &l, (size_t)STATE_FILTERS * s->seats * s->key_room, sizeof(state_key));
    s->pointers = ikvi_layout_add(&l, (size_t)STATE_FILTERS * s->capacity,
                                  sizeof(state_pointer));
    s->pads = ikvi_layout_add(&l, (size_t)STATE_FILTERS * s->pad_room,
                              sizeof(state_pad));
    s->size = ikvi_layout_size(&l);
    return s->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_state_footprint(const ikv_state_config *config)
{
    ikv_state plan;
    return config != NULL &&
                   lay_out_state(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

static void set_state_time(ikv_state *state, uint64_t time_ns)
{
    state->s.time_ns = time_ns;
}

static const ikvi_state_calls state_calls = {
    .begin_step = ikv_state_begin_step,
    .begin_frame = ikv_state_begin_frame,
    .set_time = set_state_time,
    .take_input = take_input,
    .take = ikv_state_take,
    .take_claimed = ikv_state_take_claimed,
    .resync = ikv_state_resync};

ikv_status ikv_state_open(const ikv_state_config *config, ikv_state **state)
{
    if (config == NULL || state == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_state plan = {
        .calls = &state_calls,
        .memory = config->memory,
        .identity = ikvi_identity(
            config, offsetof(ikv_state_config, axial_zones) + sizeof(bool)),
        .s.step = 1,
        .s.frame = 1};
    void *block = NULL;
    ikv_status status = lay_out_state(config, &config->reporter, &plan);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    *state = block;
    **state = plan;
    return IKV_OK;
}

void ikv_state_close(ikv_state *state)
{
    if (state != NULL) {
        ikv_memory memory = state->memory;
        ikvi_memory_give(&memory, state, state->size);
    }
}

uint64_t ikvi_state_saved(ikv_state *state, ikvi_saved *to)
{
    const size_t from = offsetof(ikv_state, s);
    *to = (ikvi_saved){(char *)state + from, state->size - from};
    return state->identity;
}

/* -------------------------------------------------------------- queries -- */

static uint8_t edges_in_step(const ikv_state *s, const state_edges *edges)
{
    return edges->step == s->s.step ? edges->in_step : 0;
}

static uint8_t edges_in_frame(const ikv_state *s, const state_edges *edges)
{
    return edges->frame == s->s.frame ? edges->in_frame : 0;
}

static uint64_t held_for(const ikv_state *s, uint64_t since_ns)
{
    return s->s.time_ns > since_ns ? s->s.time_ns - since_ns : 0;
}

static ikv_key_state key_state_of(const ikv_state *s, const state_key *key)
{
    bool down = is_down(key);
    return (ikv_key_state){.down = down,
                           .went_down = edges_in_step(s, &key->down),
                           .went_up = edges_in_step(s, &key->up),
                           .frame_down = edges_in_frame(s, &key->down),
                           .frame_up = edges_in_frame(s, &key->up),
                           .held_ns = down ? held_for(s, key->since_ns) : 0};
}

ikv_key_state ikv_state_key(const ikv_state *state, uint32_t filter,
                            uint8_t seat, uint32_t code)
{
    const state_key *key =
        state != NULL ? state_key_of(state, filter, seat, code) : NULL;
    return key != NULL ? key_state_of(state, key) : (ikv_key_state){0};
}

static uint8_t add_up(uint8_t a, uint8_t b)
{
    return (uint8_t)(a + b > UINT8_MAX ? UINT8_MAX : a + b);
}

ikv_key_state ikv_state_any_key(const ikv_state *state, uint32_t filter,
                                uint8_t seat)
{
    ikv_key_state any = {0};
    if (state == NULL || filter >= STATE_FILTERS)
        return any;
    for (uint32_t at = 0; at < state->key_room; at++) {
        ikv_key_state one =
            key_state_of(state, key_place(state, filter, seat, at));
        any.down = any.down || one.down;
        any.went_down = add_up(any.went_down, one.went_down);
        any.went_up = add_up(any.went_up, one.went_up);
        any.frame_down = add_up(any.frame_down, one.frame_down);
        any.frame_up = add_up(any.frame_up, one.frame_up);
        any.held_ns = one.held_ns > any.held_ns ? one.held_ns : any.held_ns;
    }
    return any;
}

uint16_t ikv_state_modifiers(const ikv_state *state, uint32_t filter,
                             uint8_t seat)
{
    return state != NULL && filter < STATE_FILTERS
               ? state->s.modifiers[filter][seat_of(state, seat)]
               : 0;
}

static ikv_pointer_state pointer_state_of(const ikv_state *s,
                                          const state_pointer *p)
{
    /* A query changes nothing. */
    state_pointer copy = *p;
    bring_up_to_date(s, &copy);
    copy.now.held_ns = copy.now.buttons != 0 ? held_for(s, copy.since_ns) : 0;
    return copy.now;
}

bool ikv_state_pointer(const ikv_state *state, uint32_t filter, uint32_t nth,
                       ikv_pointer_state *to)
{
    if (state == NULL || to == NULL || filter >= STATE_FILTERS)
        return false;
    for (uint32_t i = 0; i < state->capacity; i++) {
        const state_pointer *p = pointer_in(state, filter, i);
        if (!p->used || is_over(state, p) || nth-- > 0)
            continue;
        *to = pointer_state_of(state, p);
        return true;
    }
    return false;
}

bool ikv_state_find_pointer(const ikv_state *state, uint32_t filter,
                            uint16_t device, uint16_t id, ikv_pointer_state *to)
{
    if (state == NULL || to == NULL || filter >= STATE_FILTERS)
        return false;
    const state_pointer *p = find_in(state, filter, device, id);
    if (p == NULL || is_over(state, p))
        return false;
    *to = pointer_state_of(state, p);
    return true;
}

bool ikv_state_pad(const ikv_state *state, uint32_t filter, uint32_t nth,
                   ikv_pad_state *to)
{
    if (state == NULL || to == NULL || filter >= STATE_FILTERS ||
        nth >= state->pad_room || !pad_at(state, filter, nth)->used)
        return false;
    state_pad copy = *pad_at(state, filter, nth);
    date_pad(state, &copy);
    *to = copy.now;
    return true;
}

uint64_t ikv_state_refused(const ikv_state *state)
{
    return state != NULL ? state->s.refused : 0;
}

const char *ikv_state_validate(const ikv_state *state)
{
    if (state == NULL)
        return NULL;
    for (uint32_t filter = 0; filter < STATE_FILTERS; filter++) {
        for (uint32_t seat = 0; seat < state->seats; seat++)
            for (uint32_t at = 0; at < state->key_room; at++) {
                const state_key *key =
                    key_place(state, filter, (uint8_t)seat, at);
                if (key->holders[0] != 0 && key->holders[0] == key->holders[1])
                    return "state-1";
                if (key->used && state_key_of(state, filter, (uint8_t)seat,
                                              state_key_code(key)) != key)
                    return "state-1";
            }
        for (uint32_t i = 0; i < state->capacity; i++) {
            const state_pointer *p = pointer_in(state, filter, i);
            if (p->used &&
                find_in(state, filter, p->now.device, p->now.pointer) != p)
                return "state-2"; /* or beyond the reach */
        }
    }
    return NULL;
}
