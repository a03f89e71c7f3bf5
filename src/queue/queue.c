/* queue.c - Q1: many producers, one consumer, bounded, without locks.
 *
 * Positions count up for ever; a position's slot is position % capacity. A
 * producer claims positions by moving the tail, writes its slots, and stores
 * each slot's stamp last, with release. The stamp of a written position p is
 * p + 1, which no earlier lap can have left there; so the consumer, which
 * never writes slots, knows what is ready. It publishes its index once a
 * drain.
 *
 * An event that the owner pushes bears, as its stamp, the tail of the shared
 * ring at that moment: everything before that position arrived earlier.
 *
 * Whether an event may use the reserve is asked only when the rest is full.
 *
 * queue-1  head <= tail <= head + capacity, in the shared ring and in the own
 *          one
 * queue-2  the stamps in the own ring never go backwards
 */
#include "../event/atomic.h"
#include "../event/memory.h"
#include "../event/report.h"
#include "queue_shared.h"

/* As an event, but with the stamp's and the next word's accesses of a size of
 * their own, so that loads match the recent stores. */
typedef struct slot {
    _Alignas(64) ikvi_atomic stamp;
    uint32_t kind_and_device;
    uint64_t words[7];
} slot;

_Static_assert(sizeof(slot) == sizeof(ikv_event), "a slot is an event");

enum {
    MARK_BITS = 32 /* devices in a word of `lost` or `gaps` */
};

struct ikv_queue {
    /* Written by producers. */
    _Alignas(64) ikvi_atomic tail;
    ikvi_atomic seen_head; /* a copy of `head`, perhaps older */
    /* Written by the consumer, once a drain. */
    _Alignas(64) ikvi_atomic head;
    /* The consumer's own. */
    _Alignas(64) uint32_t next;
    uint32_t own_head, own_tail;
    uint32_t high_water, shared_high, own_high, blocks_high;
    uint64_t drained, own_refused, own_lost;
    /* Constant. */
    _Alignas(64) size_t slots;
    size_t own;
    uint32_t mask, own_mask;
    uint32_t reserve, own_reserve;
    uint32_t device_room;
    /* Larger payloads, their sizes, and a bit of each that is in use. */
    size_t blocks, block_sizes, block_bits;
    uint32_t block_count, block_bytes;
    size_t lost; /* a bit of each device: it lost a transition */
    size_t gaps; /* its last move was refused */
    const ikv_catalogue *catalogue;
    ikv_memory memory;
    size_t size;
    /* Written by producers that are refused. */
    _Alignas(64) ikvi_atomic refused;
    ikvi_atomic transitions_refused;
    ikvi_atomic blocks_refused;
    ikvi_atomic any_lost; /* bit n: word n of `lost` has bits */
    ikvi_atomic any_gap;  /* likewise of `gaps` */
};

typedef struct queue_plan {
    uint32_t capacity, own_capacity, device_room, block_count, block_bytes;
    size_t slots, own, lost, gaps, blocks, block_sizes, block_bits, size;
} queue_plan;

static uint32_t words_for(uint32_t bits)
{
    return (bits + MARK_BITS - 1) / MARK_BITS;
}

static ikv_status lay_out_queue(const ikv_queue_config *config,
                                const ikv_reporter *reporter, queue_plan *to)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"capacity", config->capacity, 0, 1u << 24},
        {"own_capacity", config->own_capacity, 0, 1u << 24},
        {"reserve", config->reserve == IKV_NO_RESERVE ? 0 : config->reserve, 0,
         255},
        {"devices", config->devices, 0, IKV_DEVICE_LIMIT},
        {"blocks", config->blocks == IKV_NO_BLOCKS ? 0 : config->blocks, 0,
         IKVI_MOST_BLOCKS},
        {"block_bytes", config->block_bytes, 0, IKVI_BLOCK_LIMIT}};
    ikv_status status = ikvi_check_ranges(reporter, "queue", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    /* Positions wrap at 2^32: only a power of two divides that. */
    to->capacity = ikvi_power_of_two(ikvi_or(config->capacity, 1024));
    to->own_capacity = ikvi_power_of_two(ikvi_or(config->own_capacity, 1024));
    ikvi_layout layout = ikvi_layout_begin();
    ikvi_layout_add(&layout, 1, sizeof(ikv_queue));
    to->slots = ikvi_layout_add(&layout, to->capacity, sizeof(slot));
    to->own = ikvi_layout_add(&layout, to->own_capacity, sizeof(ikv_event));
    to->device_room = ikvi_or(config->devices, IKV_DEVICE_LIMIT);
    uint32_t words = words_for(to->device_room);
    to->lost = ikvi_layout_add(&layout, words, sizeof(ikvi_atomic));
    to->gaps = ikvi_layout_add(&layout, words, sizeof(ikvi_atomic));
    to->block_count = ikvi_block_count(config->blocks);
    to->block_bytes = ikvi_block_bytes(config->block_bytes);
    to->block_bits = ikvi_layout_add(&layout, words_for(to->block_count),
                                     sizeof(ikvi_atomic));
    to->block_sizes =
        ikvi_layout_add(&layout, to->block_count, sizeof(uint32_t));
    to->blocks = ikvi_layout_add(&layout, to->block_count, to->block_bytes);
    to->size = ikvi_layout_size(&layout);
    return to->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_queue_footprint(const ikv_queue_config *config)
{
    queue_plan plan;
    return config != NULL &&
                   lay_out_queue(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

/* Two laps before they wrap, so that every program meets the wrap early and not
 * only after 2^32 events. One lap would be too few: a slot that was never
 * written, with a stamp of 0, would look written at the last position. */
static void begin_positions(ikv_queue *q)
{
    uint32_t first = 0 - 2 * (q->mask + 1),
             own_first = 0 - 2 * (q->own_mask + 1);
    ikvi_store_release(&q->tail, first);
    ikvi_store_release(&q->seen_head, first);
    ikvi_store_release(&q->head, first);
    q->next = first;
    q->own_head = q->own_tail = own_first;
}

ikv_status ikv_queue_open(const ikv_queue_config *config, ikv_queue **queue)
{
    if (config == NULL || queue == NULL)
        return IKV_BAD_ARGUMENT;
    queue_plan plan;
    void *block = NULL;
    ikv_status status = lay_out_queue(config, &config->reporter, &plan);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    ikv_queue *q = block;
    q->slots = plan.slots;
    q->own = plan.own;
    q->device_room = plan.device_room;
    q->lost = plan.lost;
    q->gaps = plan.gaps;
    q->blocks = plan.blocks;
    q->block_sizes = plan.block_sizes;
    q->block_bits = plan.block_bits;
    q->block_count = plan.block_count;
    q->block_bytes = plan.block_bytes;
    q->mask = plan.capacity - 1;
    q->own_mask = plan.own_capacity - 1;
    begin_positions(q);
    uint32_t share =
        config->reserve == IKV_NO_RESERVE ? 0 : ikvi_or(config->reserve, 64);
    /* A share of 256, so that a small queue keeps some too. */
    q->reserve = (uint32_t)((uint64_t)plan.capacity * share / 256);
    q->own_reserve = (uint32_t)((uint64_t)plan.own_capacity * share / 256);
    q->catalogue = config->catalogue;
    q->memory = config->memory;
    q->size = plan.size;
    *queue = q;
    return IKV_OK;
}

void ikv_queue_close(ikv_queue *queue)
{
    if (queue != NULL) {
        ikv_memory memory = queue->memory;
        ikvi_memory_give(&memory, queue, queue->size);
    }
}

/* -------------------------------------------------------------- pushing -- */

static slot *slot_at(ikv_queue *q, uint32_t position)
{
    return (slot *)ikvi_at(q, q->slots) + (position & q->mask);
}

static ikv_event *own_at(const ikv_queue *q, uint32_t position)
{
    return (ikv_event *)ikvi_at(q, q->own) + (position & q->own_mask);
}

static uint8_t class_of(const ikv_queue *q, ikv_kind kind)
{
    const ikv_kind_info *info = ikv_catalogue_info(q->catalogue, kind);
    return info != NULL ? info->queue_class : IKV_QUEUE_OTHER;
}

/* Slots that a kind leaves free, of a ring's reserve. */
static uint32_t kept_free(const ikv_queue *q, ikv_kind kind, uint32_t reserve)
{
    /* A lost transition leaves a button held for ever; a move is made good by
     * the next one. */
    uint8_t class = class_of(q, kind);
    if (class == IKV_QUEUE_TRANSITION)
        return 0;
    return class == IKV_QUEUE_MERGEABLE ? reserve : reserve / 2;
}

static uint32_t least_kept_free(const ikv_queue *q, const ikv_event *events,
                                uint32_t count, uint32_t reserve)
{
    uint32_t least = reserve;
    /* A batch is taken whole or not at all: one transition lets all of it use
     * the reserve. */
    for (uint32_t i = 0; i < count && least > 0; i++) {
        uint32_t kept = kept_free(q, events[i].kind, reserve);
        least = kept < least ? kept : least;
    }
    return least;
}

static uint32_t transitions_in(const ikv_queue *q, const ikv_event *events,
                               uint32_t count)
{
    uint32_t found = 0;
    for (uint32_t i = 0; i < count; i++)
        found += class_of(q, events[i].kind) == IKV_QUEUE_TRANSITION;
    return found;
}

/* Whether `count` more fit behind position `tail` and leave so many free.
 * Differences are taken as signed: a tail that is out of date may lie behind
 * the head, and then the claim fails and tries again. */
static bool has_room(ikv_queue *q, uint32_t tail, uint32_t count, uint32_t kept)
{
    int32_t most = (int32_t)(q->mask + 1 - count - kept);
    /* The copy is producers' own, so that the consumer's line is read only when
     * it seems full. */
    if ((int32_t)(tail - ikvi_load_acquire(&q->seen_head)) <= most)
        return true;
    uint32_t head = ikvi_load_acquire(&q->head);
    ikvi_store_release(&q->seen_head, head);
    return (int32_t)(tail - head) <= most;
}

static bool claim(ikv_queue *q, const ikv_event *events, uint32_t count,
                  uint32_t *position)
{
    uint32_t tail = ikvi_load(&q->tail), kept = q->reserve;
    do {
        /* With the whole reserve free, what kind it is need not be asked. */
        if (has_room(q, tail, count, kept))
            continue;
        kept = least_kept_free(q, events, count, q->reserve);
        if (!has_room(q, tail, count, kept))
            return false;
    } while (!ikvi_claim(&q->tail, &tail, tail + count));
    *position = tail;
    return true;
}

/* The words of `lost` or `gaps`. */
static ikvi_atomic *marks_at(const ikv_queue *q, size_t marks)
{
    return ikvi_at(q, marks);
}

/* Whether moves of the device were refused since its last one: told once. */
static bool takes_gap(ikv_queue *q, const ikv_event *event)
{
    uint32_t word = event->device / MARK_BITS;
    uint32_t bit = 1u << event->device % MARK_BITS;
    ikvi_atomic *gaps = marks_at(q, q->gaps);
    if (class_of(q, event->kind) != IKV_QUEUE_MERGEABLE ||
        event->device >= q->device_room || (ikvi_load(&gaps[word]) & bit) == 0)
        return false;
    /* The summary is cleared first: a mark that comes now is found later. */
    ikvi_clear_bits(&q->any_gap, 1u << word);
    IKVI_CHECK(word < MARK_BITS);
    uint32_t was = ikvi_clear_bits(&gaps[word], bit);
    if ((was & ~bit) != 0)
        ikvi_set_bits(&q->any_gap, 1u << word);
    return (was & bit) != 0;
}

/* The event's flags, with what the queue adds. */
static inline uint16_t flags_of(ikv_queue *q, const ikv_event *event)
{
    return IKVI_UNLIKELY(ikvi_load(&q->any_gap) != 0) && takes_gap(q, event)
               ? event->flags | IKV_GAP
               : event->flags;
}

static void write_slot(ikv_queue *q, uint32_t position, const ikv_event *event,
                       uint16_t tag)
{
    slot *to = slot_at(q, position);
    IKVI_CHECK(ikvi_load(&to->stamp) != position + 1);
    const uint16_t head[2] = {event->kind, event->device | tag};
    memcpy(&to->kind_and_device, head, sizeof head);
    /* All but the first word, which is the stamp's. */
    memcpy(to->words, (const char *)event + 8, sizeof to->words);
    uint16_t flags = flags_of(q, event);
    memcpy((char *)to + offsetof(ikv_event, flags), &flags, sizeof flags);
    ikvi_store_release(&to->stamp, position + 1);
}

static void mark(const ikv_queue *q, size_t marks, ikvi_atomic *summary,
                 uint16_t device)
{
    if (device >= q->device_room)
        return;
    uint32_t word = device / MARK_BITS;
    /* The word first: who sees the summary finds its bit. */
    ikvi_set_bits(&marks_at(q, marks)[word], 1u << device % MARK_BITS);
    ikvi_set_bits(summary, 1u << word);
}

void ikv_queue_mark_lost(ikv_queue *queue, uint16_t device)
{
    if (queue != NULL)
        mark(queue, queue->lost, &queue->any_lost, device);
}

static void mark_all_lost(ikv_queue *q, const ikv_event *events, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        uint8_t class = class_of(q, events[i].kind);
        if (class == IKV_QUEUE_TRANSITION)
            mark(q, q->lost, &q->any_lost, events[i].device);
        else if (class == IKV_QUEUE_MERGEABLE)
            mark(q, q->gaps, &q->any_gap, events[i].device);
    }
}

bool ikv_queue_take_lost(ikv_queue *queue, uint16_t *device)
{
    if (queue == NULL || device == NULL)
        return false;
    ikvi_atomic *lost = marks_at(queue, queue->lost);
    for (uint32_t i = 0;
         i * MARK_BITS < queue->device_room && ikvi_load(&queue->any_lost) != 0;
         i++) {
        /* The summary is cleared first: a mark that comes now is found later.
         */
        ikvi_clear_bits(&queue->any_lost, 1u << i);
        uint32_t bits = ikvi_load(&lost[i]);
        if (bits == 0)
            continue;
        uint32_t bit = 0;
        while ((bits >> bit & 1) == 0)
            bit++;
        ikvi_clear_bits(&lost[i], 1u << bit);
        if ((bits & ~(1u << bit)) != 0)
            ikvi_set_bits(&queue->any_lost, 1u << i);
        *device = (uint16_t)(i * MARK_BITS + bit);
        return true;
    }
    return false;
}

static ikv_status refuse_push(ikv_queue *q, const ikv_event *events,
                              uint32_t count)
{
    ikvi_add(&q->refused, count);
    /* Its device's state is no longer known: it is asked anew at the next
     * drain. */
    ikvi_add(&q->transitions_refused, transitions_in(q, events, count));
    mark_all_lost(q, events, count);
    return IKV_FULL_QUEUE;
}

static ikv_status refuse_own(ikv_queue *q, const ikv_event *events,
                             uint32_t count)
{
    q->own_refused += count;
    q->own_lost += transitions_in(q, events, count);
    mark_all_lost(q, events, count);
    return IKV_FULL_QUEUE;
}

static bool devices_fit(const ikv_event *events, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++)
        if (events[i].device >= IKV_DEVICE_LIMIT)
            return false;
    return true;
}

ikv_status ikvi_queue_push_from(ikv_queue *queue, const ikv_event *event,
                                uint16_t tag)
{
    if (queue == NULL || event == NULL || event->device >= IKV_DEVICE_LIMIT)
        return IKV_BAD_ARGUMENT;
    uint32_t position;
    if (!claim(queue, event, 1, &position))
        return refuse_push(queue, event, 1);
    write_slot(queue, position, event, tag);
    return IKV_OK;
}

ikv_status ikv_queue_push(ikv_queue *queue, const ikv_event *event)
{
    return ikvi_queue_push_from(queue, event, 0);
}

ikv_status ikv_queue_push_all(ikv_queue *queue, const ikv_event *events,
                              uint32_t count)
{
    if (queue == NULL || events == NULL || !devices_fit(events, count))
        return IKV_BAD_ARGUMENT;
    uint32_t position;
    if (count == 0)
        return IKV_OK;
    /* More than the whole ring would never fit, and its difference no longer be
     * signed. */
    if (count > queue->mask + 1 || !claim(queue, events, count, &position))
        return refuse_push(queue, events, count);
    for (uint32_t i = 0; i < count; i++)
        write_slot(queue, position + i, &events[i], 0);
    return IKV_OK;
}

static inline void put_own(ikv_queue *q, const ikv_event *event, uint16_t tag)
{
    IKVI_CHECK(q->own_tail - q->own_head <= q->own_mask);
    ikv_event *to = own_at(q, q->own_tail++);
    *to = *event;
    /* Relaxed: this thread's own pushes are all that must be ordered. */
    to->stamp = ikvi_load(&q->tail);
    to->device |= tag;
    to->flags = flags_of(q, event);
}

ikv_status ikvi_queue_push_own_from(ikv_queue *queue, const ikv_event *event,
                                    uint16_t tag)
{
    if (queue == NULL || event == NULL || event->device >= IKV_DEVICE_LIMIT)
        return IKV_BAD_ARGUMENT;
    ikv_queue *q = queue;
    uint32_t used = q->own_tail - q->own_head;
    /* The kind is looked up only when the reserve is touched. */
    if (IKVI_UNLIKELY(used + q->own_reserve > q->own_mask) &&
        used + kept_free(q, event->kind, q->own_reserve) > q->own_mask)
        return refuse_own(q, event, 1);
    put_own(q, event, tag);
    return IKV_OK;
}

ikv_status ikv_queue_push_own(ikv_queue *queue, const ikv_event *event)
{
    return ikvi_queue_push_own_from(queue, event, 0);
}

ikv_status ikvi_queue_push_own_all_from(ikv_queue *queue,
                                        const ikv_event *events, uint32_t count,
                                        uint16_t tag)
{
    if (queue == NULL || events == NULL || !devices_fit(events, count))
        return IKV_BAD_ARGUMENT;
    if (count == 0)
        return IKV_OK;
    uint32_t free_slots =
        queue->own_mask + 1 - (queue->own_tail - queue->own_head);
    uint32_t kept = least_kept_free(queue, events, count, queue->own_reserve);
    if (count > free_slots || kept > free_slots - count)
        return refuse_own(queue, events, count);
    for (uint32_t i = 0; i < count; i++)
        put_own(queue, &events[i], tag);
    return IKV_OK;
}

ikv_status ikv_queue_push_own_all(ikv_queue *queue, const ikv_event *events,
                                  uint32_t count)
{
    return ikvi_queue_push_own_all_from(queue, events, count, 0);
}

/* --------------------------------------------------------------- blocks -- */

static ikvi_atomic *queue_block_bits(const ikv_queue *q)
{
    return ikvi_at(q, q->block_bits);
}

static uint32_t *queue_block_size(const ikv_queue *q, uint32_t block)
{
    IKVI_CHECK(block < q->block_count);
    return (uint32_t *)ikvi_at(q, q->block_sizes) + block;
}

static void *queue_block_at(const ikv_queue *q, uint32_t block)
{
    IKVI_CHECK(block < q->block_count);
    return (char *)ikvi_at(q, q->blocks) + (size_t)block * q->block_bytes;
}

/* By any thread: whose bit it was to set has the block. */
static bool claim_block(ikv_queue *q, uint32_t *block)
{
    for (uint32_t at = 0; at < q->block_count; at++) {
        uint32_t bit = 1u << at % MARK_BITS;
        ikvi_atomic *word = &queue_block_bits(q)[at / MARK_BITS];
        if ((ikvi_load(word) & bit) == 0 &&
            (ikvi_set_bits(word, bit) & bit) == 0) {
            *block = at;
            return true;
        }
    }
    return false;
}

uint32_t ikvi_queue_blocks(const ikv_queue *queue, uint32_t *bytes)
{
    uint32_t used = 0;
    *bytes = queue->block_count > 0 ? queue->block_bytes : 0;
    for (uint32_t at = 0; at < queue->block_count; at++)
        used += ikvi_load(&queue_block_bits(queue)[at / MARK_BITS]) >>
                    at % MARK_BITS &
                1;
    return queue->block_count - used;
}

const void *ikvi_queue_block(const ikv_queue *queue, uint32_t block,
                             uint32_t *size)
{
    *size = *queue_block_size(queue, block);
    return queue_block_at(queue, block);
}

void ikvi_queue_free_block(ikv_queue *queue, uint32_t block)
{
    IKVI_CHECK(block < queue->block_count);
    ikvi_poison(queue_block_at(queue, block), queue->block_bytes);
    ikvi_clear_bits(&queue_block_bits(queue)[block / MARK_BITS],
                    1u << block % MARK_BITS);
}

ikv_status ikvi_queue_fill_block(ikv_queue *queue, const void *data,
                                 uint32_t size, uint16_t *block)
{
    uint32_t at;
    if (size > queue->block_bytes || queue->block_count == 0)
        return IKV_BAD_SIZE;
    if (!claim_block(queue, &at)) {
        ikvi_add(&queue->blocks_refused, 1);
        return IKV_FULL_BLOCKS;
    }
    *queue_block_size(queue, at) = size;
    memcpy(queue_block_at(queue, at), data, size);
    *block = (uint16_t)at;
    return IKV_OK;
}

/* ----------------------------------------------------------------- room -- */

uint32_t ikv_queue_room(const ikv_queue *queue, ikv_kind kind)
{
    if (queue == NULL)
        return 0;
    /* The head first: the tail that is read then is not behind it. */
    uint32_t head = ikvi_load_acquire(&queue->head);
    uint32_t used = ikvi_load_acquire(&queue->tail) - head;
    uint32_t kept = kept_free(queue, kind, queue->reserve);
    uint32_t taken = used + kept;
    return taken <= queue->mask ? queue->mask + 1 - taken : 0;
}

uint32_t ikv_queue_room_own(const ikv_queue *queue, ikv_kind kind)
{
    if (queue == NULL)
        return 0;
    uint32_t free_slots =
        queue->own_mask + 1 - (queue->own_tail - queue->own_head);
    uint32_t kept = kept_free(queue, kind, queue->own_reserve);
    return free_slots > kept ? free_slots - kept : 0;
}

/* ------------------------------------------------------------- draining -- */

/* Whether there is room for what the device's upper bits say of an event; takes
 * it. */
static inline bool take_data_room(uint16_t device, uint32_t *data_room)
{
    if (IKVI_LIKELY((device & IKVI_TAG_DATA) == 0))
        return true;
    if (*data_room == 0)
        return false;
    --*data_room;
    return true;
}

/* Takes shared events out up to that position, as far as they are ready. */
static uint32_t drain_shared(ikv_queue *q, uint32_t until, ikv_event *events,
                             uint32_t room, uint32_t *data_room)
{
    uint32_t count = 0;
    while (count < room && q->next != until) {
        slot *from = slot_at(q, q->next);
        /* Claimed and not written yet: it and all behind it wait for the next
         * drain. */
        if (ikvi_load_acquire(&from->stamp) != q->next + 1)
            break;
        IKVI_CHECK((int32_t)(until - q->next) > 0);
        uint16_t head[2];
        memcpy(head, &from->kind_and_device, sizeof head);
        if (!take_data_room(head[1], data_room))
            break;
        char *to = (char *)&events[count++];
        memset(to, 0, 4);
        memcpy(to + 4, head, sizeof head);
        memcpy(to + 8, from->words, sizeof from->words);
        q->next++;
    }
    return count;
}

static void raise_to(uint32_t *high, uint32_t value)
{
    if (value > *high)
        *high = value;
}

/* Q1: the two rings are merged by stamp, the number of shared slots that were
 * claimed before an own event: what one thread pushed comes out in its order.
 * The head moves once, at the end. */
uint32_t ikvi_queue_drain_tagged(ikv_queue *q, ikv_event *events, uint32_t room,
                                 uint32_t data_room)
{
    /* Read once: a drain ends, however fast others push. */
    uint32_t tail = ikvi_load_acquire(&q->tail);
    uint32_t shared = tail - q->next, own = q->own_tail - q->own_head;
    raise_to(&q->shared_high, shared);
    raise_to(&q->own_high, own);
    raise_to(&q->high_water, shared + own);

    uint32_t count = 0, until = tail, data_before = data_room, bytes;
    for (uint32_t head = q->own_head; head != q->own_tail && count < room;) {
        const ikv_event *from = own_at(q, head);
        if (IKVI_UNLIKELY((int32_t)(from->stamp - q->next) > 0)) {
            count += drain_shared(q, from->stamp, events + count, room - count,
                                  &data_room);
            /* One that is claimed and not written yet holds up what came later,
             * own ones too: behind it may be one of this thread's. */
            if (count == room || q->next != from->stamp) {
                until = from->stamp;
                break;
            }
        }
        if (!take_data_room(from->device, &data_room)) {
            until = q->next; /* what came later waits with it */
            break;
        }
        events[count] = *from;
        events[count++].stamp = 0;
        q->own_head = ++head;
    }
    count += drain_shared(q, until, events + count, room - count, &data_room);
    IKVI_CHECK(count <= room);
    if (IKVI_UNLIKELY(data_room != data_before))
        raise_to(&q->blocks_high,
                 q->block_count - ikvi_queue_blocks(q, &bytes));
    ikvi_store_release(&q->head, q->next);
    q->drained += count;
    return count;
}

uint32_t ikv_queue_drain(ikv_queue *queue, ikv_event *events, uint32_t room)
{
    if (queue == NULL || events == NULL)
        return 0;
    uint32_t count =
        ikvi_queue_drain_tagged(queue, events, room, queue->block_count);
    for (uint32_t i = 0; i < count; i++) {
        /* Only a loop's sinks push such. */
        if ((events[i].device & IKVI_TAG_DATA) != 0) {
            ikvi_queue_free_block(queue, events[i].samples);
            events[i].samples = 0;
        }
        events[i].device &= IKV_DEVICE_LIMIT - 1;
    }
    return count;
}

uint32_t ikv_queue_waiting(const ikv_queue *queue)
{
    if (queue == NULL)
        return 0;
    /* The consumer's own index, not the head that producers see. */
    return ikvi_load(&queue->tail) - queue->next + queue->own_tail -
           queue->own_head;
}

bool ikv_queue_has_news(const ikv_queue *queue)
{
    return queue != NULL &&
           (ikv_queue_waiting(queue) > 0 || ikvi_load(&queue->any_lost) != 0);
}

ikv_status ikvi_queue_refuse_own(ikv_queue *queue, const ikv_event *events,
                                 uint32_t count)
{
    return refuse_own(queue, events, count);
}

bool ikvi_queue_refused(const ikv_queue *queue)
{
    return queue->own_refused + ikvi_load(&queue->refused) > 0;
}

ikv_status ikv_queue_counters(const ikv_queue *queue, ikv_queue_counts *counts)
{
    if (queue == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_queue_counts found = {0};
    found.drained = queue->drained;
    found.pushed = queue->drained + ikv_queue_waiting(queue);
    found.refused = queue->own_refused + ikvi_load(&queue->refused);
    found.lost = queue->own_lost + ikvi_load(&queue->transitions_refused);
    found.high_water = queue->high_water;
    found.shared_high = queue->shared_high;
    found.own_high = queue->own_high;
    found.capacity = queue->mask + 1;
    found.own_capacity = queue->own_mask + 1;
    uint32_t bytes;
    found.block_capacity = queue->block_count;
    found.blocks = queue->block_count - ikvi_queue_blocks(queue, &bytes);
    found.blocks_high =
        queue->blocks_high > found.blocks ? queue->blocks_high : found.blocks;
    found.blocks_refused = ikvi_load(&queue->blocks_refused);
    return ikvi_give_sized(counts, &found, sizeof found);
}

const char *ikv_queue_validate(const ikv_queue *queue)
{
    if (queue == NULL)
        return NULL;
    const ikv_queue *q = queue;
    uint32_t head = ikvi_load(&q->head), tail = ikvi_load(&q->tail);
    if (q->next != head || tail - head > q->mask + 1 ||
        q->own_tail - q->own_head > q->own_mask + 1)
        return "queue-1";
    for (uint32_t i = q->own_head + 1;
         i - q->own_head < q->own_tail - q->own_head; i++)
        if ((int32_t)(own_at(q, i)->stamp - own_at(q, i - 1)->stamp) < 0)
            return "queue-2";
    return NULL;
}
