/* sim_faults.c - what goes wrong with hardware, by the dice: P3. */
#include "sim.h"

#include <string.h>

uint32_t ikvi_dice_below(sim_dice *dice, uint32_t limit)
{
    /* xorshift64*, the upper half. */
    uint64_t x = dice->state;
    x ^= x >> 12;
    x ^= x << 25;
    x ^= x >> 27;
    dice->state = x;
    return (uint32_t)(((x * UINT64_C(0x2545f4914f6cdd1d)) >> 32) * limit >> 32);
}

static bool happens(sim_faults *f, uint32_t odds)
{
    /* dice that are not thrown leave the run as it is without that fault */
    return odds > 0 && ikvi_dice_below(&f->dice, 10000) < odds;
}

/* --------------------------------------------------------- what is down -- */

static bool same_hold(const ikv_event *a, const ikv_event *b)
{
    bool key = a->kind == IKV_KIND_KEY_DOWN;
    if (a->device != b->device ||
        key != (b->kind == IKV_KIND_KEY_DOWN || b->kind == IKV_KIND_KEY_UP))
        return false;
    /* a cancel ends all buttons of its pointer */
    return key ? a->key.code == b->key.code
               : a->pointer.pointer == b->pointer.pointer &&
                     (a->pointer.button == b->pointer.button ||
                      b->kind == IKV_KIND_POINTER_CANCEL);
}

void ikvi_held_note(sim_held *held, const ikv_event *event)
{
    bool down = event->kind == IKV_KIND_KEY_DOWN ||
                event->kind == IKV_KIND_POINTER_DOWN;
    if (!down && event->kind != IKV_KIND_KEY_UP &&
        event->kind != IKV_KIND_POINTER_UP &&
        event->kind != IKV_KIND_POINTER_CANCEL)
        return;
    for (uint32_t i = 0; i < held->count;) {
        if (same_hold(&held->downs[i], event)) {
            /* another down of it is a repeat */
            if (down)
                return;
            held->downs[i] = held->downs[--held->count];
        } else {
            i++;
        }
    }
    if (down && held->count < SIM_HELD)
        held->downs[held->count++] = *event;
}

static void release_device(sim_held *held, uint16_t device)
{
    for (uint32_t i = 0; i < held->count;)
        if (held->downs[i].device == device)
            held->downs[i] = held->downs[--held->count];
        else
            i++;
}

/* -------------------------------------------------------------- pushing -- */

static void push(sim_faults *f, ikv_sink *sink, const ikv_event *event)
{
    f->count.pushed++;
    if (ikv_sink_push(sink, event) != IKV_OK)
        f->count.refused++;
}

static void push_kind(sim_faults *f, ikv_sink *sink, ikv_kind kind,
                      uint16_t device, uint64_t now_ns)
{
    ikv_event event = ikv_event_make(kind, now_ns);
    event.device = device;
    push(f, sink, &event);
}

static void flood(sim_faults *f, ikv_sink *sink, uint64_t now_ns)
{
    ikv_event move = f->last_move;
    f->count.floods++;
    for (uint32_t i = 0; i < 2000; i++) {
        move.time_ns = now_ns;
        move.pointer.x += (float)ikvi_dice_below(&f->dice, 3) - 1;
        push(f, sink, &move);
    }
}

static void delay(sim_faults *f, const ikv_event *event, uint64_t at_ns)
{
    f->delayed[f->delayed_count++] = (sim_delayed){*event, at_ns};
}

/* A device or the window that comes back. */
static void come_back(sim_faults *f, ikv_sink *sink, uint64_t now_ns)
{
    for (uint32_t i = 0; i < SIM_DEVICES; i++)
        if (f->gone_until[i] != 0 && now_ns >= f->gone_until[i]) {
            f->gone_until[i] = 0;
            push_kind(f, sink, IKV_KIND_DEVICE_ADD, (uint16_t)i, now_ns);
        }
    if (f->blurred_until != 0 && now_ns >= f->blurred_until) {
        f->blurred_until = 0;
        push_kind(f, sink, IKV_KIND_WINDOW_FOCUS, 0, now_ns);
    }
}

void ikvi_faults_advance(sim_faults *faults, ikv_sink *sink, uint64_t now_ns)
{
    sim_faults *f = faults;
    come_back(f, sink, now_ns);
    for (uint32_t i = 0; i < f->delayed_count;) {
        if (f->delayed[i].at_ns > now_ns) {
            i++;
            continue;
        }
        ikv_event event = f->delayed[i].event;
        f->delayed[i] = f->delayed[--f->delayed_count];
        if (event.device < SIM_DEVICES && f->gone_until[event.device] != 0)
            continue;
        push(f, sink, &event);
    }
}

/* The hardware loses a release: it knows that it lost something. */
static bool loses(sim_faults *f, ikv_sink *sink, const ikv_event *event)
{
    if ((event->kind != IKV_KIND_KEY_UP &&
         event->kind != IKV_KIND_POINTER_UP) ||
        !happens(f, f->odds.lost_release))
        return false;
    f->count.lost_releases++;
    ikv_sink_lost(sink, event->device);
    return true;
}

static void break_more(sim_faults *f, ikv_sink *sink, const ikv_event *event,
                       uint64_t now_ns)
{
    uint32_t ms = 1 + ikvi_dice_below(&f->dice, 300);
    if (f->has_move && happens(f, f->odds.flood))
        flood(f, sink, now_ns);
    if (event->device > 0 && event->device < SIM_DEVICES &&
        happens(f, f->odds.unplug)) {
        f->count.unplugs++;
        f->gone_until[event->device] = now_ns + ms * 1000000ull;
        release_device(&f->held, event->device);
        push_kind(f, sink, IKV_KIND_DEVICE_REMOVE, event->device, now_ns);
    }
    if (f->blurred_until == 0 && happens(f, f->odds.blur)) {
        f->count.blurs++;
        f->blurred_until = now_ns + ms * 1000000ull;
        push_kind(f, sink, IKV_KIND_WINDOW_BLUR, 0, now_ns);
    }
    if (happens(f, f->odds.clock_jump)) {
        f->count.clock_jumps++;
        f->jumped_ns += ms * 10000000ull;
    }
}

void ikvi_faults_push(sim_faults *faults, ikv_sink *sink,
                      const ikv_event *event, uint64_t now_ns)
{
    sim_faults *f = faults;
    if (event->device < SIM_DEVICES && f->gone_until[event->device] != 0)
        return;
    ikvi_held_note(&f->held, event);
    if (event->kind == IKV_KIND_POINTER_MOVE) {
        f->last_move = *event;
        f->has_move = true;
    }
    if (loses(f, sink, event))
        return;
    bool room = f->delayed_count < SIM_DELAYED;
    uint64_t ms = 1 + ikvi_dice_below(&f->dice, 100);
    if (room && happens(f, f->odds.late)) {
        f->count.late++;
        delay(f, event, now_ns + ms * 1000000);
    } else if (room && happens(f, f->odds.reorder)) {
        f->count.reordered++;
        delay(f, event, now_ns + 1);
    } else {
        push(f, sink, event);
        if (happens(f, f->odds.duplicate)) {
            f->count.duplicates++;
            push(f, sink, event);
        }
    }
    break_more(f, sink, event, now_ns);
}
