/* baseline.c - see bench.h. */
#define _POSIX_C_SOURCE 200809L
#include "bench.h"

#include <string.h>
#include <time.h>

struct bare_ring {
    uint32_t mask, head, tail;
    ikv_event *events;
};

bare_ring *bare_ring_open(uint32_t capacity)
{
    bare_ring *ring = calloc(1, sizeof *ring);
    ring->mask = capacity - 1;
    ring->events = aligned_alloc(64, capacity * sizeof(ikv_event));
    return ring;
}

bool bare_ring_push(bare_ring *ring, const ikv_event *event)
{
    if (ring->tail - ring->head > ring->mask)
        return false;
    ring->events[ring->tail++ & ring->mask] = *event;
    return true;
}

bool bare_ring_pop(bare_ring *ring, ikv_event *event)
{
    if (ring->head == ring->tail)
        return false;
    *event = ring->events[ring->head++ & ring->mask];
    return true;
}

ikv_verdict call_all(const callee *list, uint32_t count, const ikv_event *event,
                     const ikv_delivery *delivery)
{
    ikv_verdict verdict = 0;
    for (uint32_t i = 0; i < count; i++) {
        verdict |= list[i].handler(event, delivery, list[i].user);
        if (verdict & IKV_STOP_ALL)
            break;
    }
    return verdict;
}

ikv_verdict count_call(const ikv_event *event, const ikv_delivery *delivery,
                       void *counter)
{
    (void)event, (void)delivery;
    ++*(uint64_t *)counter;
    return IKV_CONTINUE;
}

ikv_verdict call_five(const ikv_event *event, const ikv_delivery *delivery,
                      void *counter)
{
    ikv_verdict verdict = count_call(event, delivery, counter);
    verdict |= count_call(event, delivery, counter);
    verdict |= count_call(event, delivery, counter);
    verdict |= count_call(event, delivery, counter);
    return verdict | count_call(event, delivery, counter);
}

ikv_verdict call_at(callee *const *lists, const uint32_t *counts,
                    uint32_t target, const ikv_event *event,
                    const ikv_delivery *delivery)
{
    return call_all(lists[target], counts[target], event, delivery);
}

ikv_verdict plain_route(const plain_box *boxes, uint32_t count,
                        const ikv_event *event, const ikv_delivery *delivery)
{
    float x = event->pointer.x, y = event->pointer.y;
    for (uint32_t i = count; i-- > 0;) {
        const plain_box *b = &boxes[i];
        if (x < b->x0 || y < b->y0 || x >= b->x1 || y >= b->y1)
            continue;
        ikv_verdict verdict = 0;
        /* upwards, as an event bubbles */
        for (uint32_t at = i; at != UINT32_MAX; at = boxes[at].parent)
            if (boxes[at].handler.handler != NULL)
                verdict |= boxes[at].handler.handler(event, delivery,
                                                     boxes[at].handler.user);
        return verdict;
    }
    return 0;
}

uint64_t read_clock(void *unused)
{
    (void)unused;
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000 + (uint64_t)now.tv_nsec;
}

uint32_t plain_pick(float (*boxes)[4], uint32_t count, float x, float y)
{
    /* the last one lies on top */
    for (uint32_t i = count; i-- > 0;)
        if (x >= boxes[i][0] && x < boxes[i][2] && y >= boxes[i][1] &&
            y < boxes[i][3])
            return i;
    return UINT32_MAX;
}

void plain_move(float box[4], float x, float y)
{
    box[2] += x - box[0];
    box[3] += y - box[1];
    box[0] = x;
    box[1] = y;
}

void match_bindings(const binding_row *rows, uint32_t count,
                    const ikv_event *event, const callee *handler)
{
    for (uint32_t i = 0; i < count; i++)
        if (rows[i].code == event->key.code &&
            rows[i].modifiers == event->modifiers) {
            ikv_event action = ikv_event_make(IKV_KIND_ACTION_START, 0);
            action.action.action = rows[i].action;
            handler->handler(&action, NULL, handler->user);
        }
}

void keys_begin(uint8_t *now, uint8_t *before)
{
    memcpy(before, now, 256);
}

void keys_take(uint8_t *now, const ikv_event *event)
{
    now[event->key.code & 255] = event->kind == IKV_KIND_KEY_DOWN;
}

uint32_t keys_ask(const uint8_t *now, const uint8_t *before, uint32_t code)
{
    uint8_t down = now[code & 255];
    return down + (down != 0 && before[code & 255] == 0 ? 1u : 0u);
}
