/* routed_keys.c - of the model: who has the keys, and what is modal (FOCUS1 to
 * FOCUS4, MODAL1 to MODAL4).
 */
#include "routed_model.h"

bool is_there(const model *m, int target)
{
    return target == ROOT || (target != NOBODY && m->s.boxes[target].alive);
}

int modal_of(const model *m, uint32_t seat)
{
    for (int i = m->modal_count; i-- > 0;)
        if (m->modals[i].seat == seat && is_there(m, m->modals[i].target) &&
            !is_hidden(&m->s, m->modals[i].target))
            return m->modals[i].target;
    return NOBODY;
}

bool reaches(const model *m, uint32_t seat, int target)
{
    int top = modal_of(m, seat);
    if (top == NOBODY)
        return true;
    for (; target != ROOT; target = m->s.boxes[target].parent)
        if (target == top || m->s.boxes[target].live)
            return true;
    return false;
}

static bool may_have_keys(const model *m, uint32_t seat, int target)
{
    return is_there(m, target) && target != ROOT &&
           m->s.boxes[target].focusable && !is_hidden(&m->s, target) &&
           reaches(m, seat, target);
}

void tell_system(model *m, uint32_t seat, uint32_t kind, int target,
                 int related, int number)
{
    const told what = {.kind = kind,
                       .hand = NOBODY,
                       .target = target,
                       .related = related,
                       .seat = seat,
                       .number = number};
    m->s.tell(&m->s, &what);
    act(&m->s, NOBODY);
}

/* FOCUS1. */
static ikv_status give_keys(model *m, uint32_t seat, int target, int why)
{
    int old = m->focused[seat];
    if (old == target)
        return IKV_ABSENT;
    m->focused[seat] = NOBODY;
    if (is_there(m, old)) {
        tell_system(m, seat, IKV_KIND_FOCUS_OUT, old, target, why);
    } else if (old != NOBODY) { /* FOCUS3 */
        old = NOBODY;
        tell_system(m, seat, IKV_KIND_FOCUS_OUT, ROOT, NOBODY,
                    IKV_FOCUS_REMOVED);
    }
    if (m->focused[seat] != NOBODY || !may_have_keys(m, seat, target))
        return IKV_OK;
    m->focused[seat] = target;
    tell_system(m, seat, IKV_KIND_FOCUS_IN, target, old, why);
    return IKV_OK;
}

/* FOCUS2. */
void focus_by_press(model *m, uint32_t seat, int target)
{
    if (!is_there(m, target))
        return;
    while (target != ROOT && !may_have_keys(m, seat, target))
        target = m->s.boxes[target].parent;
    give_keys(m, seat, target == ROOT ? NOBODY : target, IKV_FOCUS_PRESS);
}

static void take_modal(model *m, int at)
{
    const modal gone = m->modals[at];
    for (int i = at; i + 1 < m->modal_count; i++)
        m->modals[i] = m->modals[i + 1];
    m->modal_count--;
    while (at < m->modal_count && m->modals[at].seat != gone.seat)
        at++;
    if (at == m->modal_count)
        return;
    modal *next = &m->modals[at];
    if (!is_there(m, next->focus_before) ||
        is_within(&m->s, next->focus_before, gone.target))
        next->focus_before = gone.focus_before;
}

static void focus_within(model *m, uint32_t seat, int top)
{
    if (is_there(m, m->focused[seat]) && reaches(m, seat, m->focused[seat]))
        return;
    give_keys(m, seat, may_have_keys(m, seat, top) ? top : NOBODY,
              IKV_FOCUS_MODAL);
}

/* MODAL3. */
static void end_modal(model *m, int at)
{
    const modal gone = m->modals[at];
    const uint32_t seat = gone.seat;
    take_modal(m, at);
    m->tested = 0;
    if (may_have_keys(m, seat, m->focused[seat]) &&
        !is_within(&m->s, m->focused[seat], gone.target))
        return;
    if (may_have_keys(m, seat, gone.focus_before))
        give_keys(m, seat, gone.focus_before, IKV_FOCUS_MODAL);
    else if (modal_of(m, seat) != NOBODY)
        focus_within(m, seat, modal_of(m, seat));
    else
        give_keys(m, seat, NOBODY, IKV_FOCUS_MODAL);
}

/* FOCUS4, MODAL4. */
void check_focus(model *m)
{
    if (m->focus_tested == m->s.revision)
        return;
    m->focus_tested = m->s.revision;
    for (uint32_t seat = 0; seat < SEATS; seat++)
        if (is_there(m, m->focused[seat]) &&
            !may_have_keys(m, seat, m->focused[seat]))
            give_keys(m, seat, NOBODY, IKV_FOCUS_HIDDEN);
    for (int i = m->modal_count; i-- > 0;)
        if (i < m->modal_count && (!is_there(m, m->modals[i].target) ||
                                   is_hidden(&m->s, m->modals[i].target)))
            end_modal(m, i);
}

ikv_status model_focus(side *s, uint32_t seat, int target)
{
    model *m = (model *)s;
    if (target == NOBODY)
        return give_keys(m, seat, NOBODY, IKV_FOCUS_CALL);
    if (!is_there(m, target))
        return IKV_STALE;
    return may_have_keys(m, seat, target)
               ? give_keys(m, seat, target, IKV_FOCUS_CALL)
               : IKV_ABSENT;
}

static int find_modal(const model *m, uint32_t seat, int target)
{
    int at = 0;
    while (at < m->modal_count &&
           (m->modals[at].seat != seat || m->modals[at].target != target))
        at++;
    return at;
}

ikv_status model_set_modal(side *s, uint32_t seat, int target)
{
    model *m = (model *)s;
    check_focus(m);
    int top = modal_of(m, seat);
    if (target == NOBODY) {
        if (top == NOBODY)
            return IKV_ABSENT;
        end_modal(m, find_modal(m, seat, top));
        return IKV_OK;
    }
    if (!is_there(m, target))
        return IKV_STALE;
    if (target == top || is_hidden(s, target))
        return IKV_ABSENT;
    if (find_modal(m, seat, target) < m->modal_count)
        take_modal(m, find_modal(m, seat, target));
    if (m->modal_count == IKV_MODAL_LIMIT)
        return IKV_FULL_MODALS;
    m->modals[m->modal_count++] = (modal){target, m->focused[seat], seat};
    m->cancels_outside[seat] = true;
    m->tested = 0;
    focus_within(m, seat, target);
    cancel_now(m);
    return IKV_OK;
}
