/* router_modal.c - targets that keep a seat's pointers and keys to themselves.
 *
 * They lie in one list, in the order in which they were set; of a seat the last
 * one that is there and shown is in effect. What has gone or is hidden is taken
 * out when the scene is looked at anew, and the focus goes back then.
 */
#include "router_internal.h"

/* Of the list; what is set later has the same place. */
static void take_modal(ikv_router *r, uint32_t at)
{
    IKVI_CHECK(at < r->s.modal_count);
    const modal gone = r->s.modals[at];
    r->s.modal_count--;
    for (uint32_t i = at; i < r->s.modal_count; i++)
        r->s.modals[i] = r->s.modals[i + 1];
    /* Who waited for the keys beneath it waits on beneath the next one. */
    for (uint32_t i = at; i < r->s.modal_count; i++) {
        modal *next = &r->s.modals[i];
        if (next->seat != gone.seat)
            continue;
        if (!ikvi_router_alive(r, next->focus_before) ||
            ikvi_router_is_within(r, next->focus_before, gone.target))
            next->focus_before = gone.focus_before;
        return;
    }
}

/* The mouse that rests is looked at anew. */
static void want_retest(ikv_router *r)
{
    r->s.revision = ~scene_revision_of(r);
}

/* MODAL3: to the first that may have the keys, unless who has them may keep
 * them. */
static void focus_within(ikv_router *r, uint8_t seat, ikv_target top)
{
    ikv_target first = {0}, focused = r->s.focused[seat];
    if (focused.bits != 0 && ikvi_router_alive(r, focused) &&
        ikvi_router_reaches(r, seat, focused))
        return;
    if (r->picking.tab_within != NULL)
        first = r->picking.tab_within(r->picking.scene, top, first, false);
    if (first.bits == 0 && ikvi_router_may_have_keys(r, seat, top))
        first = top;
    ikvi_router_set_focus(r, seat, first, IKV_FOCUS_MODAL);
}

/* MODAL3: back to who had it. `had` was that of what has ended. */
static void focus_back(ikv_router *r, uint8_t seat, const modal *ended)
{
    ikv_target focused = r->s.focused[seat], back = ended->focus_before;
    ikv_target top = ikv_router_modal(r, seat);
    bool keeps = focused.bits != 0 && ikvi_router_alive(r, focused) &&
                 ikvi_router_may_have_keys(r, seat, focused) &&
                 !ikvi_router_is_within(r, focused, ended->target);
    if (keeps)
        return;
    if (back.bits != 0 && ikvi_router_alive(r, back) &&
        ikvi_router_may_have_keys(r, seat, back))
        ikvi_router_set_focus(r, seat, back, IKV_FOCUS_MODAL);
    else if (top.bits != 0)
        focus_within(r, seat, top);
    else
        ikvi_router_set_focus(r, seat, top, IKV_FOCUS_MODAL);
}

static void end_modal(ikv_router *r, uint32_t at)
{
    const modal ended = r->s.modals[at];
    take_modal(r, at);
    want_retest(r);
    focus_back(r, ended.seat, &ended);
}

/* MODAL4. */
static bool has_ended(const ikv_router *r, ikv_target target)
{
    return !ikvi_router_alive(r, target) ||
           (ikvi_router_traits(r, target) & IKV_HIDDEN) != 0;
}

/* FOCUS4: it is told of its loss, for it is there. */
static void take_keys(ikv_router *r, uint8_t seat)
{
    ikv_target target = r->s.focused[seat];
    if (target.bits != 0 && ikvi_router_alive(r, target) &&
        !ikvi_router_may_have_keys(r, seat, target))
        ikvi_router_set_focus(r, seat, (ikv_target){0}, IKV_FOCUS_HIDDEN);
}

void ikvi_router_check_focus(ikv_router *r, uint64_t time_ns)
{
    uint64_t revision = scene_revision_of(r);
    if (IKVI_LIKELY(r->s.focus_revision == revision))
        return;
    /* First: a handler's change is looked at the next time. */
    r->s.focus_revision = revision;
    r->s.time_ns = time_ns;
    for (uint8_t seat = 0; seat < IKV_SEAT_LIMIT; seat++)
        take_keys(r, seat);
    /* MODAL4, from the last one down; each time anew, after handlers. */
    for (uint32_t i = r->s.modal_count; i-- > 0;)
        if (i < r->s.modal_count && has_ended(r, r->s.modals[i].target))
            end_modal(r, i);
}

/* Where it is in the list, of a seat; `modal_count` if it is not. */
static uint32_t find_modal(const ikv_router *r, uint8_t seat, ikv_target target)
{
    uint32_t at = 0;
    while (at < r->s.modal_count && (r->s.modals[at].seat != seat ||
                                     !same(r->s.modals[at].target, target)))
        at++;
    return at;
}

ikv_status ikvi_router_begin_modal(ikv_router *r, uint8_t seat,
                                   ikv_target target)
{
    ikvi_router_check_focus(r, r->s.time_ns);
    if (!ikvi_router_alive(r, target))
        return IKV_STALE;
    if (same(target, root_of(r)) || same(target, ikv_router_modal(r, seat)) ||
        (ikvi_router_traits(r, target) & IKV_HIDDEN) != 0)
        return IKV_ABSENT;
    uint32_t at = find_modal(r, seat, target);
    if (at < r->s.modal_count)
        take_modal(r, at); /* it comes to the top */
    if (r->s.modal_count == IKV_MODAL_LIMIT)
        return IKV_FULL_MODALS;
    IKVI_CHECK(find_modal(r, seat, target) == r->s.modal_count); /* router-5 */
    r->s.modals[r->s.modal_count++] = (modal){target, r->s.focused[seat], seat};
    r->s.cancels_outside |= (uint8_t)(1u << seat);
    want_retest(r);
    focus_within(r, seat, target);
    return IKV_OK;
}

ikv_status ikvi_router_end_modal(ikv_router *r, uint8_t seat)
{
    ikvi_router_check_focus(r, r->s.time_ns);
    ikv_target top = ikv_router_modal(r, seat);
    if (top.bits == 0)
        return IKV_ABSENT;
    end_modal(r, find_modal(r, seat, top));
    return IKV_OK;
}
