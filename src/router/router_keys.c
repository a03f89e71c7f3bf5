/* router_keys.c - keys that are down, modifiers, focus. */
#include "router_internal.h"

#define KEY_TAB UINT32_C(0x0007002b) /* USB HID usage page 7 */

static uint16_t own_modifiers(const ikv_router *r, uint8_t seat)
{
    uint16_t modifiers = 0;
    for (uint32_t i = 0; i < r->s.key_count; i++)
        if (key_at(r, i)->seat == seat)
            modifiers |= ikvi_modifier_bit(key_at(r, i)->code);
    return modifiers;
}

/* Whichever router of the loop has them. */
uint16_t ikvi_router_modifiers(const ikv_router *r, uint8_t seat)
{
    uint16_t modifiers = own_modifiers(r, seat);
    /* A key is down in the router whose view had it, and holds for all
     * views. */
    for (uint32_t i = 0; i < r->peer_count; i++)
        if (r->peers[i] != r)
            modifiers |= own_modifiers(r->peers[i], seat);
    return modifiers;
}

void ikvi_router_join(ikv_router *router, ikv_router *const *peers,
                      uint32_t count)
{
    router->peers = peers;
    router->peer_count = count;
}

void ikvi_router_leave(ikv_router *router, ikv_router *const *peers)
{
    if (router->peers == peers)
        ikvi_router_join(router, NULL, 0);
}

/* ---------------------------------------------------------------- focus -- */

static void send_focus(ikv_router *r, ikv_kind kind, uint8_t seat,
                       ikv_target target, ikv_target related, uint8_t reason)
{
    ikv_event event = ikv_event_make(kind, r->s.time_ns);
    event.seat = seat;
    event.view = r->s.view;
    event.focus.reason = reason;
    ikvi_router_send_kind(r, &event, kind, target, related);
}

/* FOCUS1: who has the keys no more has nothing of a composition either. */
static void end_composing(ikv_router *r, uint8_t seat, ikv_target target)
{
    uint8_t bit = (uint8_t)(1u << seat);
    bool composing = (r->s.composing & bit) != 0;
    r->s.composing &= (uint8_t)~bit;
    if (!composing || !ikvi_router_alive(r, target))
        return;
    ikv_event event = ikv_event_make(IKV_KIND_TEXT_COMPOSE, r->s.time_ns);
    event.seat = seat;
    event.view = r->s.view;
    event.flags = IKV_SYNTHETIC;
    /* What goes along is of the event under way. */
    ikvi_along along = r->along;
    r->along = (ikvi_along){0};
    ikvi_router_send_to(r, &event, target);
    r->along = along;
}

/* K1: the system's own composing ends with it. */
void ikvi_router_end_texts(ikv_router *r)
{
    for (uint8_t seat = 0; r->s.composing != 0 && seat < IKV_SEAT_LIMIT; seat++)
        end_composing(r, seat, r->s.focused[seat]);
}

/* FOCUS3: it is gone, so that the root hears of it. */
static void send_removed(ikv_router *r, uint8_t seat)
{
    send_focus(r, IKV_KIND_FOCUS_OUT, seat, root_of(r), (ikv_target){0},
               IKV_FOCUS_REMOVED);
}

/* FOCUS1. While focus.out is told nobody has the keys; a handler of it that
 * gives them away has the last word. */
ikv_status ikvi_router_set_focus(ikv_router *r, uint8_t seat, ikv_target target,
                                 uint8_t reason)
{
    ikv_target old = r->s.focused[seat];
    IKVI_CHECK(seat < IKV_SEAT_LIMIT && !same(target, root_of(r)));
    if (same(old, target))
        return IKV_ABSENT;
    end_composing(r, seat, old);
    /* So has one of the composition's end. */
    if (!same(r->s.focused[seat], old) && r->s.focused[seat].bits != 0)
        return IKV_OK;
    old = r->s.focused[seat];
    r->s.focused[seat] = (ikv_target){0};
    r->s.focus_changes++;
    /* It has gone, which another seat's handlers were told first. */
    if (old.bits != 0 && !ikvi_router_alive(r, old)) {
        old = (ikv_target){0};
        send_removed(r, seat);
    } else if (old.bits != 0) {
        send_focus(r, IKV_KIND_FOCUS_OUT, seat, old, target, reason);
    }
    /* A handler of focus.out has given the keys to somebody else, or the target
     * may not have them any more (FOCUS4, MODAL3). */
    if (r->s.focused[seat].bits != 0 || target.bits == 0 ||
        !ikvi_router_alive(r, target) ||
        !ikvi_router_may_have_keys(r, seat, target))
        return IKV_OK;
    r->s.focused[seat] = target;
    send_focus(r, IKV_KIND_FOCUS_IN, seat, target, old, reason);
    return IKV_OK;
}

bool ikvi_router_may_have_keys(const ikv_router *r, uint8_t seat,
                               ikv_target target)
{
    uint32_t traits = ikvi_router_traits(r, target);
    return (traits & IKV_FOCUSABLE) != 0 && (traits & IKV_HIDDEN) == 0 &&
           ikvi_router_reaches(r, seat, target);
}

/* KEYS1, MODAL3: the focused target, or else what is modal. Zero bits: the
 * root. */
static ikv_target keys_target(const ikv_router *r, uint8_t seat)
{
    ikv_target focused = r->s.focused[seat];
    return focused.bits != 0 && ikvi_router_alive(r, focused)
               ? focused
               : ikv_router_modal(r, seat);
}

ikv_status ikv_router_focus(ikv_router *router, uint8_t seat, ikv_target target)
{
    if (router == NULL || seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    if (!ikvi_router_alive(router, target))
        return IKV_STALE;
    if (!ikvi_router_may_have_keys(router, seat, target))
        return IKV_ABSENT;
    return ikvi_router_set_focus(router, seat, target, IKV_FOCUS_CALL);
}

ikv_status ikv_router_blur(ikv_router *router, uint8_t seat)
{
    if (router == NULL || seat >= IKV_SEAT_LIMIT)
        return IKV_BAD_ARGUMENT;
    return ikvi_router_set_focus(router, seat, (ikv_target){0}, IKV_FOCUS_CALL);
}

uint64_t ikvi_router_focus_turn(const ikv_router *router)
{
    return router->s.focus_changes + scene_revision_of(router);
}

void ikvi_router_box(const ikv_router *router, ikv_target target, float box[4])
{
    const ikv_picking *picking = &router->picking;
    if (picking->box != NULL)
        picking->box(picking->scene, target, router->s.view, box);
}

ikv_target ikv_router_focused(const ikv_router *router, uint8_t seat)
{
    return router != NULL && seat < IKV_SEAT_LIMIT ? router->s.focused[seat]
                                                   : (ikv_target){0};
}

bool ikv_router_takes_text(const ikv_router *router, uint8_t seat)
{
    ikv_target target = ikv_router_focused(router, seat);
    /* Who was removed without a word to the router takes nothing. */
    return target.bits != 0 && ikvi_router_alive(router, target) &&
           (ikvi_router_traits(router, target) & IKV_TAKES_TEXT) != 0;
}

/* FOCUS2: the nearest focusable self-or-ancestor, or nobody. */
void ikvi_router_focus_by_press(ikv_router *r, uint8_t seat, ikv_target pressed)
{
    if (r->keep_focus || !ikvi_router_alive(r, pressed))
        return;
    for (uint32_t i = 0; !same(pressed, root_of(r)) &&
                         !ikvi_router_may_have_keys(r, seat, pressed);
         i++)
        pressed = i < TREE_LIMIT ? ikvi_router_parent(r, pressed) : root_of(r);
    if (same(pressed, root_of(r)))
        pressed = (ikv_target){0};
    ikvi_router_set_focus(r, seat, pressed, IKV_FOCUS_PRESS);
}

/* FOCUS3. */
void ikvi_router_unfocus(ikv_router *r, ikv_target gone)
{
    for (uint8_t seat = 0; seat < IKV_SEAT_LIMIT; seat++)
        if (same(r->s.focused[seat], gone)) {
            r->s.focused[seat] = (ikv_target){0};
            send_removed(r, seat);
        }
}

ikv_status ikv_router_focus_toward(ikv_router *router, uint8_t seat,
                                   uint32_t direction)
{
    if (router == NULL || seat >= IKV_SEAT_LIMIT || direction > IKV_TOWARD_DOWN)
        return IKV_BAD_ARGUMENT;
    if (router->picking.toward == NULL)
        return IKV_NEEDS_CALLBACK;
    ikv_target next = router->picking.toward(
        router->picking.scene, ikv_router_modal(router, seat),
        router->s.focused[seat], router->s.view, direction);
    /* Whatever a picking says: what may not have the keys does not get them. */
    if (next.bits == 0 || !ikvi_router_alive(router, next) ||
        !ikvi_router_may_have_keys(router, seat, next))
        return IKV_ABSENT;
    return ikvi_router_set_focus(router, seat, next, IKV_FOCUS_TOWARD);
}

/* Tab moves the focus, shift and Tab back, unless a handler refused. */
static void tab_focus(ikv_router *r, const ikv_event *event)
{
    if (r->no_tab || r->picking.tab_next == NULL ||
        event->key.code != KEY_TAB ||
        (event->modifiers & (IKV_CONTROL | IKV_ALT | IKV_META)) != 0)
        return;
    ikv_target from = r->s.focused[event->seat], next = {0};
    ikv_target within = ikv_router_modal(r, event->seat);
    bool backwards = (event->modifiers & IKV_SHIFT) != 0;
    /* MODAL3: round in what is modal. */
    if (within.bits == 0)
        next = r->picking.tab_next(r->picking.scene, from, backwards);
    else if (r->picking.tab_within != NULL)
        next = r->picking.tab_within(r->picking.scene, within, from, backwards);
    if (next.bits != 0)
        ikvi_router_set_focus(r, event->seat, next, IKV_FOCUS_TAB);
}

/* ----------------------------------------------------------------- keys -- */

static uint32_t find_key(const ikv_router *r, const ikv_event *event)
{
    uint32_t i = 0;
    while (i < r->s.key_count && (key_at(r, i)->code != event->key.code ||
                                  key_at(r, i)->device != event->device))
        i++;
    return i;
}

static void remove_key(ikv_router *r, uint32_t index)
{
    IKVI_CHECK(index < r->s.key_count);
    r->s.key_count--;
    /* In their order, in which they are released. */
    for (uint32_t i = index; i < r->s.key_count; i++)
        *key_at(r, i) = *key_at(r, i + 1);
}

/* KEYS2: a key that is down already repeats. KEYS1 to KEYS3. */
static ikv_outcome key_down(ikv_router *r, ikv_event *event)
{
    uint32_t at = find_key(r, event);
    IKVI_CHECK(r->s.key_count <= r->key_capacity);
    if (at == r->s.key_count) {
        /* Its up would mean nothing: neither is told. */
        if (r->s.key_count == r->key_capacity) {
            r->s.counters.too_many_keys++;
            return no_outcome(IKV_FULL_KEYS);
        }
        *key_at(r, r->s.key_count++) =
            (held_key){event->key.code,     event->key.key, event->device,
                       event->key.location, event->view,    event->seat};
    } else {
        event->flags |= IKV_REPEAT;
    }
    event->modifiers |= ikvi_router_modifiers(r, event->seat);
    ikv_outcome outcome =
        ikvi_router_send_to(r, event, keys_target(r, event->seat));
    if ((outcome.verdict & IKV_REFUSE) == 0)
        tab_focus(r, event);
    return outcome;
}

static ikv_outcome key_up(ikv_router *r, ikv_event *event)
{
    uint32_t at = find_key(r, event);
    if (at == r->s.key_count)
        return ikvi_router_meaningless(r, event, "the key is not down");
    remove_key(r, at);
    /* A modifier's own up is without it, unless the other one of the two is
     * down. */
    event->modifiers &= (uint16_t)~ikvi_modifier_bit(event->key.code);
    event->modifiers |= ikvi_router_modifiers(r, event->seat);
    return ikvi_router_send_to(r, event, keys_target(r, event->seat));
}

/* What is typed ends a composition, as an empty one does. */
static ikv_outcome send_text(ikv_router *r, const ikv_event *event)
{
    ikv_target focused = r->s.focused[event->seat];
    uint8_t bit = (uint8_t)(1u << event->seat);
    r->s.composing &= (uint8_t)~bit;
    if (event->kind == IKV_KIND_TEXT_COMPOSE && focused.bits != 0 &&
        (event->compose.length > 0 || r->along.data_size > 0))
        r->s.composing |= bit;
    return ikvi_router_send_to(r, event, keys_target(r, event->seat));
}

ikv_outcome ikvi_router_key(ikv_router *r, const ikv_event *given)
{
    ikv_event event = *given;
    if (event.kind == IKV_KIND_KEY_DOWN)
        return key_down(r, &event);
    if (event.kind == IKV_KIND_KEY_UP)
        return key_up(r, &event);
    return send_text(r, &event);
}

bool ikvi_router_belongs(const ikv_event *cause, uint16_t device, uint8_t view)
{
    return cause->kind == IKV_KIND_WINDOW_BLUR ? view == cause->view
                                               : device == cause->device;
}

bool ikvi_router_key_is_down(const ikv_router *r, const ikv_event *event)
{
    return find_key(r, event) < r->s.key_count;
}

/* K1: in the order of their downs. */
void ikvi_router_release_keys(ikv_router *r, const ikv_event *cause,
                              const ikv_event *held, uint32_t count)
{
    for (uint32_t i = 0; i < r->s.key_count;) {
        /* A copy, as its place is taken by the next one; then the same place
         * again. */
        held_key key = *key_at(r, i);
        if (!ikvi_router_belongs(cause, key.device, key.view) ||
            ikvi_key_is_held(held, count, key.code)) {
            i++;
            continue;
        }
        ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, cause->time_ns);
        up.device = key.device;
        up.seat = key.seat;
        up.view = key.view;
        up.flags = IKV_SYNTHETIC;
        up.key.code = key.code;
        up.key.key = key.key;
        up.key.location = key.location;
        key_up(r, &up);
    }
}

/* ----------------------------------------------------------------- text -- */

/* HID usages. */
enum {
    USAGE_ESCAPE = 0x29,
    USAGE_F1 = 0x3a,
    USAGE_F12 = 0x45,
    USAGE_F13 = 0x68,
    USAGE_F24 = 0x73
};

/* Whether a key is a command though the keys go into a text: with Control or
 * Meta, but not with Alt too, which types on some layouts; these three
 * themselves; Escape and F1 to F24. */
static bool is_command(const ikv_router *r, const ikv_event *event)
{
    uint32_t usage = event->key.code & 0xffff;
    uint16_t held = ikvi_router_modifiers(r, event->seat);
    return ((held & IKV_ALT) == 0 && (held & (IKV_CONTROL | IKV_META)) != 0) ||
           (ikvi_modifier_bit(event->key.code) & ~IKV_SHIFT) != 0 ||
           usage == USAGE_ESCAPE || (usage >= USAGE_F1 && usage <= USAGE_F12) ||
           (usage >= USAGE_F13 && usage <= USAGE_F24);
}

bool ikvi_router_types(const ikv_router *r, const ikv_event *event)
{
    bool key =
        event->kind == IKV_KIND_KEY_DOWN || event->kind == IKV_KIND_KEY_UP;
    return r != NULL &&
           (key ? !is_command(r, event)
                : event->kind == IKV_KIND_TEXT_INPUT ||
                      event->kind == IKV_KIND_TEXT_COMPOSE) &&
           ikv_router_takes_text(r, event->seat);
}
