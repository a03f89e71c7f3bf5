/* loop_merge.c - Q2: moves of one pointer up to the next transition are one. */
#include "loop_internal.h"

/* Whose moves are merged: as far as a number tells. */
static uint64_t merge_key(const ikv_event *event, uint8_t family)
{
    uint32_t who = event->target.bits;
    if (family == IKV_FAMILY_POINTER)
        who = event->pointer.pointer;
    else if (family == IKV_FAMILY_WHEEL)
        who = event->wheel.pointer;
    else if (family == IKV_FAMILY_PEN)
        who = event->pen.pointer;
    else if (family == IKV_FAMILY_PAD)
        who = event->pad.pad * 256u + event->pad.index;
    return (uint64_t)who << 32 | (uint64_t)event->kind << 16 | event->device;
}

/* Q2: what a handler could tell apart does not merge. A gap may begin or end
 * between two moves: the sum bears it. */
static bool mergeable(const ikv_event *a, const ikv_event *b, uint8_t family)
{
    if (a->view != b->view || a->seat != b->seat ||
        a->modifiers != b->modifiers ||
        ((a->flags ^ b->flags) & (unsigned)~IKV_GAP) != 0 ||
        a->target.bits != b->target.bits || a->source.bits != b->source.bits)
        return false;
    if (family == IKV_FAMILY_POINTER)
        return a->pointer.type == b->pointer.type &&
               a->pointer.button == b->pointer.button &&
               a->pointer.buttons == b->pointer.buttons;
    if (family == IKV_FAMILY_WHEEL)
        return a->wheel.mode == b->wheel.mode &&
               a->wheel.type == b->wheel.type &&
               a->wheel.buttons == b->wheel.buttons;
    return true;
}

/* What is known of a key in this run; NULL if there is no room. */
static merge_slot *find_slot(ikv_loop *loop, uint64_t key)
{
    merge_slot *slots = ikvi_at(loop, loop->slots);
    uint32_t at = (uint32_t)((key * UINT64_C(0x9e3779b97f4a7c15)) >> 58);
    for (uint32_t i = 0; i < loop->slot_room; i++) {
        merge_slot *known = &slots[(at + i) & (loop->slot_room - 1)];
        /* Of an earlier run: free. So nothing is cleared between runs. */
        if (known->run != loop->run) {
            *known = (merge_slot){key, loop->run, UINT32_MAX};
            return known;
        }
        if (known->key == key)
            return known;
    }
    return NULL;
}

/* Ties a move to the one before it of the same pointer. `known` is what was found
 * for the move before this one, mostly of the same pointer. */
static merge_slot *chain_move(ikv_loop *loop, uint32_t index, uint8_t family,
                              merge_slot *known)
{
    const ikv_event *event = loop_event(loop, index);
    loop_entry *entry = loop_entry_at(loop, index);
    uint64_t key = merge_key(event, family);
    if (known == NULL || known->key != key)
        known = find_slot(loop, key);
    entry->length = 1;
    /* More pointers than places: this one's moves stay single, which is no
     * loss. */
    if (known == NULL)
        return NULL;
    if (known->last != UINT32_MAX) {
        loop_entry *before = loop_entry_at(loop, known->last);
        /* A chain that is full ends: the next move begins another one. */
        if (before->length < loop->sample_limit &&
            mergeable(loop_event(loop, known->last), event, family)) {
            before->merged = true;
            entry->length = (uint16_t)(before->length + 1);
            entry->before = (index - known->last) & (loop->capacity - 1);
        }
    }
    IKVI_CHECK(entry->length > 0 && entry->length <= loop->sample_limit);
    known->last = index;
    return known;
}

/* Q2: from the head on, moves until something else comes, or another group's or
 * step's event. `end` is in steps' time. */
void ikvi_loop_mark_run(ikv_loop *loop, uint32_t count, uint64_t end)
{
    loop_deadline step_end = ikvi_loop_deadline(loop, end);
    uint32_t group = loop_entry_at(loop, loop->s.head)->group, nth = 0;
    merge_slot *known = NULL;
    IKVI_CHECK(count <= loop->s.count && loop->marked == 0);
    if (IKVI_UNLIKELY(++loop->run == 0)) {
        /* The numbers come again: what is left of the first time is no run's. */
        memset(ikvi_at(loop, loop->slots), 0,
               loop->slot_room * sizeof(merge_slot));
        loop->run = 1;
    }
    for (; nth < count; nth++) {
        uint32_t at = loop_ring_index(loop, nth);
        const ikv_event *event = loop_event(loop, at);
        const loop_entry *entry = loop_entry_at(loop, at);
        const ikv_kind_info *info = loop_kind_info(loop, event->kind);
        /* It belongs to the event before it, and does not part the moves. */
        if (entry->how == IKV_INTAKE_INBOX && entry->within) {
            loop_entry_at(loop, at)->length = 1;
            continue;
        }
        if (info->queue_class != IKV_QUEUE_MERGEABLE ||
            entry->how != IKV_INTAKE_INPUT || entry->group != group ||
            !loop_is_before(step_end, event, entry))
            break;
        known = chain_move(loop, at, info->family, known);
    }
    loop->marked = nth;
}

/* E5: what comes of it is still a motion that may be delivered and recorded. */
static void add_to(float *sum, float motion)
{
    *sum =
        ikvi_clamp(*sum + motion, -IKV_COORDINATE_LIMIT, IKV_COORDINATE_LIMIT);
}

static void add_motion(ikv_event *to, const ikv_event *from, uint8_t family)
{
    if (family == IKV_FAMILY_POINTER) {
        add_to(&to->pointer.dx, from->pointer.dx);
        add_to(&to->pointer.dy, from->pointer.dy);
    } else if (family == IKV_FAMILY_WHEEL) {
        add_to(&to->wheel.dx, from->wheel.dx);
        add_to(&to->wheel.dy, from->wheel.dy);
        add_to(&to->wheel.dz, from->wheel.dz);
    }
}

/* The moves that the entry at `index` carries, oldest first; it becomes their
 * sum. Returns how many. */
uint32_t ikvi_loop_gather(ikv_loop *loop, uint32_t index, ikv_event *event)
{
    const loop_entry *entry = loop_entry_at(loop, index);
    uint32_t count = entry->length;
    uint8_t family = loop_kind_info(loop, event->kind)->family;
    ikv_event *samples = ikvi_at(loop, loop->samples);
    IKVI_CHECK(count > 1 && count <= loop->sample_limit);
    /* Backwards along the chain: each knows the one before it. */
    for (uint32_t i = count; i-- > 0;) {
        IKVI_CHECK(entry->length == i + 1);
        samples[i] = *loop_event(loop, index);
        index = (index - entry->before) & (loop->capacity - 1);
        entry = loop_entry_at(loop, index);
    }
    /* The event itself is the last sample: its own motion is in it. */
    for (uint32_t i = 0; i + 1 < count; i++) {
        add_motion(event, &samples[i], family);
        event->flags |= samples[i].flags & IKV_GAP;
    }
    event->samples = (uint16_t)count;
    return count;
}
