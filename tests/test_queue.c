/* test_queue.c - Q1: many producers, one consumer, bounded. */
#include "support.h"

#include <pthread.h>

static ikv_queue *open_queue(counted *c, uint32_t capacity, uint32_t own)
{
    ikv_queue *queue;
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.capacity = capacity;
    config.own_capacity = own;
    config.memory = counted_memory(c);
    ok(ikv_queue_open(&config, &queue));
    return queue;
}

static void close_queue(counted *c, ikv_queue *queue)
{
    valid(ikv_queue_validate(queue));
    ikv_queue_close(queue);
    ck_assert_int_eq(c->takes, 1);
    ck_assert_int_eq(c->gives, 1);
}

static ikv_event numbered(uint32_t number)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, number);
    e.key.code = number;
    memset(e.user + 12, (int)(number & 0xff), 20);
    return e;
}

/* Any interleaving of the two rings comes out in the order of arrival, whole,
 * over several laps. Each row: s pushes shared, o own, d drains all. */
static const char *const orders[] = {
    "sod",      "osd",       "sssooossod",         "ososososdososd",
    "sdodsdod", "ooooooood", "ssssssssdssssssssd", "sosdsosdsosdsosdsosdsosd",
};

START_TEST(order_of_arrival)
{
    counted c = {0};
    ikv_queue *q = open_queue(&c, 8, 8);
    uint32_t pushed = 0, drained = 0;
    for (int lap = 0; lap < 50; lap++) {
        for (const char *at = orders[_i]; *at != '\0'; at++) {
            ikv_event e = numbered(pushed), out[16];
            if (*at == 's')
                ok(ikv_queue_push(q, &e));
            if (*at == 'o')
                ok(ikv_queue_push_own(q, &e));
            pushed += *at != 'd';
            uint32_t count = *at == 'd' ? ikv_queue_drain(q, out, 16) : 0;
            for (uint32_t i = 0; i < count; i++) {
                e = numbered(drained++);
                ck_assert_mem_eq(&out[i], &e, sizeof e);
            }
        }
        ck_assert_uint_eq(pushed, drained);
    }
    ikv_queue_counts n = queue_counts(q);
    ck_assert_uint_eq(n.pushed, pushed);
    ck_assert_uint_eq(n.drained, drained);
    ck_assert_uint_eq(n.refused, 0);
    close_queue(&c, q);
}
END_TEST

START_TEST(full_is_counted)
{
    counted c = {0};
    ikv_queue *q = open_queue(&c, 4, 2);
    ikv_event e = numbered(1), batch[5] = {e, e, e, e, e}, out[8];
    for (int i = 0; i < 6; i++)
        status_is(ikv_queue_push(q, &e), i < 4 ? IKV_OK : IKV_FULL_QUEUE);
    for (int i = 0; i < 3; i++)
        status_is(ikv_queue_push_own(q, &e), i < 2 ? IKV_OK : IKV_FULL_QUEUE);
    ck_assert_uint_eq(ikv_queue_waiting(q), 6);
    ok(ikv_queue_push_all(q, batch, 0));
    ok(ikv_queue_push_own_all(q, batch, 0));
    ck_assert_uint_eq(ikv_queue_drain(q, out, 3), 3);
    ck_assert_uint_eq(ikv_queue_drain(q, out, 8), 3);
    status_is(ikv_queue_push_all(q, batch, 5), IKV_FULL_QUEUE);
    ok(ikv_queue_push_all(q, batch, 3));
    status_is(ikv_queue_push_all(q, batch, 2), IKV_FULL_QUEUE);
    ikv_queue_counts n = queue_counts(q);
    ck_assert_uint_eq(n.refused, 2 + 1 + 5 + 2);
    ck_assert_uint_eq(n.high_water, 6);
    ck_assert_uint_eq(n.shared_high, 4);
    ck_assert_uint_eq(n.own_high, 2);
    ck_assert_uint_eq(n.capacity, 4);
    ck_assert_uint_eq(n.pushed, 9);
    close_queue(&c, q);
}
END_TEST

START_TEST(wrong_use)
{
    ikv_queue *q;
    ikv_event e = numbered(0);
    ikv_queue_config config = IKV_QUEUE_INIT;
    status_is(ikv_queue_open(NULL, &q), IKV_BAD_ARGUMENT);
    status_is(ikv_queue_open(&config, &q), IKV_NO_MEMORY);
    config.capacity = UINT32_MAX;
    status_is(ikv_queue_open(&config, &q), IKV_BAD_CONFIG);
    ck_assert_uint_eq(ikv_queue_footprint(&config), 0);
    config.size = 3;
    status_is(ikv_queue_open(&config, &q), IKV_BAD_SIZE);
    status_is(ikv_queue_push(NULL, &e), IKV_BAD_ARGUMENT);
    status_is(ikv_queue_push_own(NULL, &e), IKV_BAD_ARGUMENT);
    status_is(ikv_queue_push_all(NULL, &e, 1), IKV_BAD_ARGUMENT);
    ck_assert_uint_eq(ikv_queue_drain(NULL, &e, 1), 0);
    ck_assert_uint_eq(ikv_queue_waiting(NULL), 0);
    ck_assert_uint_eq(queue_counts(NULL).pushed, 0);
    ikv_queue_close(NULL);
}
END_TEST

/* A buffer of one's own: too small, not aligned, and just right. */
START_TEST(own_buffer)
{
    static _Alignas(64) char buffer[64 * 40];
    ikv_queue *q;
    ikv_queue_config config = IKV_QUEUE_INIT;
    config.capacity = config.own_capacity = 8;
    config.blocks = IKV_NO_BLOCKS;
    size_t size = ikv_queue_footprint(&config);
    ck_assert_uint_le(size, sizeof buffer - 64);
    config.memory.block = buffer;
    config.memory.block_size = size - 1;
    status_is(ikv_queue_open(&config, &q), IKV_NO_MEMORY);
    config.memory.block = buffer + 8;
    config.memory.block_size = size;
    status_is(ikv_queue_open(&config, &q), IKV_BAD_ARGUMENT);
    config.memory.block = buffer;
    buffer[size] = 77;
    ok(ikv_queue_open(&config, &q));
    ck_assert_ptr_eq(q, buffer);
    ikv_queue_close(q);
    ck_assert_int_eq(buffer[size], 77);
}
END_TEST

/* -------------------------------------------------------------- threads -- */

enum {
    PRODUCERS = 3,
    EACH = 40000
};

static ikv_queue *shared;

static void *produce(void *number)
{
    uint32_t me = (uint32_t)(uintptr_t)number;
    for (uint32_t i = 0; i < EACH;) {
        ikv_event e[16];
        uint32_t count = me == 2 ? 16 : 1;
        for (uint32_t j = 0; j < count; j++) {
            e[j] = numbered(i + j);
            e[j].device = (uint16_t)me;
        }
        if (ikv_queue_push_all(shared, e, count) == IKV_OK)
            i += count;
    }
    return NULL;
}

/* Q1 with three threads and the owner, who uses both ways in: each producer's
 * order is kept, every event comes out once and whole. */
START_TEST(threads_keep_their_order)
{
    counted c = {0};
    pthread_t threads[PRODUCERS];
    uint32_t next[PRODUCERS + 1] = {0}, own = 0, total = 0;
    ikv_event out[32];
    shared = open_queue(&c, 64, 64);
    for (uintptr_t i = 0; i < PRODUCERS; i++)
        pthread_create(&threads[i], NULL, produce, (void *)i);
    while (total < (PRODUCERS + 1) * EACH) {
        ikv_event mine = numbered(own);
        mine.device = PRODUCERS;
        if (own < EACH &&
            (own % 3 == 0 ? ikv_queue_push(shared, &mine)
                          : ikv_queue_push_own(shared, &mine)) == IKV_OK)
            own++;
        uint32_t count = ikv_queue_drain(shared, out, 32);
        for (uint32_t i = 0; i < count; i++) {
            uint16_t from = out[i].device;
            ikv_event e = numbered(next[from]++);
            e.device = from;
            ck_assert_mem_eq(&out[i], &e, sizeof e);
        }
        total += count;
    }
    for (int i = 0; i < PRODUCERS; i++)
        pthread_join(threads[i], NULL);
    ck_assert_uint_eq(queue_counts(shared).drained, total);
    close_queue(&c, shared);
}
END_TEST

/* Q3: each device that lost something is named once, of so many as the config
 * has room for; moves of the others bear no mark of a gap either. */
START_TEST(lost_devices)
{
    static const uint16_t rooms[] = {0, 1, 32, 33, 1000};
    static bool named[IKV_DEVICE_LIMIT];
    ikv_queue_config config = IKV_QUEUE_INIT;
    ikv_queue *q;
    config.capacity = config.own_capacity = 8;
    config.devices = rooms[_i];
    config.memory = ikv_host_memory();
    ok(ikv_queue_open(&config, &q));
    memset(named, 0, sizeof named);
    uint16_t device, found = 0, room = _i == 0 ? IKV_DEVICE_LIMIT : rooms[_i];
    for (uint32_t i = 0; i < IKV_DEVICE_LIMIT; i++) {
        ikv_queue_mark_lost(q, (uint16_t)i);
        if (i % 37 == 0)
            ikv_queue_mark_lost(q, (uint16_t)i);
    }
    for (; ikv_queue_take_lost(q, &device); found++) {
        ck_assert_uint_lt(device, room);
        ck_assert(!named[device]);
        named[device] = true;
    }
    ck_assert_uint_eq(found, room);
    for (uint32_t i = 0; i < room; i += 11) {
        ikv_queue_mark_lost(q, (uint16_t)i);
        ck_assert(ikv_queue_take_lost(q, &device));
        ck_assert_uint_eq(device, i);
        ck_assert(!ikv_queue_take_lost(q, &device));
    }
    ikv_queue_mark_lost(q, room);
    ikv_queue_mark_lost(q, IKV_DEVICE_LIMIT);
    ck_assert(!ikv_queue_take_lost(q, &device));
    for (uint32_t i = 0; i < 2;
         i++) { /* the last with room, the first without */
        ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0), out[8];
        move.device = (uint16_t)(room - 1 + i) % IKV_DEVICE_LIMIT;
        while (ikv_queue_push_own(q, &move) == IKV_OK) {
        }
        ikv_queue_drain(q, out, 8);
        ok(ikv_queue_push_own(q, &move));
        ck_assert_uint_eq(ikv_queue_drain(q, out, 8), 1);
        ck_assert_int_eq((out[0].flags & IKV_GAP) != 0, i == 0 || _i == 0);
    }
    ikv_queue_close(q);
}
END_TEST

/* Of a batch that is refused its own devices have lost something, whatever lies
 * behind it. */
START_TEST(lost_of_a_batch)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    ikv_queue *q;
    ikv_event keys[9];
    uint16_t device;
    config.capacity = config.own_capacity = 4;
    config.memory = ikv_host_memory();
    ok(ikv_queue_open(&config, &q));
    for (int i = 0; i < ROWS(keys); i++) {
        keys[i] = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        keys[i].device = (uint16_t)(i + 1);
    }
    for (int own = 0; own < 2; own++) {
        status_is(
            (own ? ikv_queue_push_own_all : ikv_queue_push_all)(q, keys, 8),
            IKV_FULL_QUEUE);
        for (uint32_t i = 0; i < 8; i++) {
            ck_assert(ikv_queue_take_lost(q, &device));
            ck_assert_uint_eq(device, i + 1);
        }
        ck_assert(!ikv_queue_take_lost(q, &device));
    }
    ikv_queue_close(q);
}
END_TEST

/* Gaps of two devices of one word: each one's next move bears its own. */
START_TEST(two_gaps)
{
    ikv_queue_config config = IKV_QUEUE_INIT;
    ikv_queue *q;
    config.capacity = config.own_capacity = 8;
    config.memory = ikv_host_memory();
    ok(ikv_queue_open(&config, &q));
    for (int round = 0; round < 2; round++) {
        static const uint16_t devices[2][2] = {{32, 33}, {33, 32}};
        ikv_event move = ikv_event_make(IKV_KIND_POINTER_MOVE, 0), out[8];
        ikv_event key = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        while (ikv_queue_push_own(q, &key) == IKV_OK) {
        }
        for (int i = 0; i < 2; i++) {
            move.device = devices[round][i];
            ck_assert_int_lt(ikv_queue_push_own(q, &move), 0);
        }
        ikv_queue_drain(q, out, 8);
        for (int i = 0; i < 4; i++) {
            move.device = devices[round][i % 2];
            ok(ikv_queue_push_own(q, &move));
            ck_assert_uint_eq(ikv_queue_drain(q, out, 8), 1);
            ck_assert_int_eq((out[0].flags & IKV_GAP) != 0, i < 2);
        }
    }
    ikv_queue_close(q);
}
END_TEST

/* A struct of another version: what a later one has behind is left alone, an
 * older one than the first there is not. */
START_TEST(counts_of_other_versions)
{
    struct {
        ikv_queue_counts known;
        uint32_t more[4];
    } counts;
    counted c = {0};
    ikv_queue *queue = open_queue(&c, 16, 16);
    for (size_t less = 1; less <= sizeof counts.known; less++) {
        memset(&counts, 0x77, sizeof counts);
        counts.known.size = (uint32_t)(sizeof counts.known - less);
        status_is(ikv_queue_counters(queue, &counts.known), IKV_BAD_SIZE);
        ck_assert_uint_eq(counts.known.capacity, 0x77777777);
    }
    memset(&counts, 0x77, sizeof counts);
    counts.known.size = sizeof counts;
    ok(ikv_queue_counters(queue, &counts.known));
    ck_assert_uint_eq(counts.known.size, sizeof counts);
    ck_assert_uint_eq(counts.known.capacity, 16);
    for (int i = 0; i < 4; i++)
        ck_assert_uint_eq(counts.more[i], 0x77777777);
    status_is(ikv_queue_counters(NULL, &counts.known), IKV_BAD_ARGUMENT);
    status_is(ikv_queue_counters(queue, NULL), IKV_BAD_ARGUMENT);
    close_queue(&c, queue);
}
END_TEST

/* Q3: as many as there is said to be room for can be pushed, and no more. */
START_TEST(room_is_exact)
{
    static const ikv_kind kinds[] = {IKV_KIND_KEY_DOWN, IKV_KIND_POINTER_MOVE,
                                     IKV_KIND_PAD_AXIS, IKV_KIND_TEXT_INPUT};
    for (int own = 0; own < 2; own++)
        for (uint32_t before = 0; before < 16; before += 5) {
            counted c = {0};
            ikv_queue *q = open_queue(&c, 16, 16);
            ikv_event e = numbered(0);
            for (uint32_t i = 0; i < before; i++)
                ok(own ? ikv_queue_push_own(q, &e) : ikv_queue_push(q, &e));
            e = ikv_event_make(kinds[_i], 0);
            uint32_t room =
                own ? ikv_queue_room_own(q, e.kind) : ikv_queue_room(q, e.kind);
            ikv_event all[17];
            for (uint32_t i = 0; i < 17; i++)
                all[i] = e;
            status_is(own ? ikv_queue_push_own_all(q, all, room + 1)
                          : ikv_queue_push_all(q, all, room + 1),
                      IKV_FULL_QUEUE);
            if (before % 2 != 0 && room > 0) { /* as one, or one by one */
                ok(own ? ikv_queue_push_own_all(q, all, room)
                       : ikv_queue_push_all(q, all, room));
                room = 0;
            }
            for (uint32_t i = 0; i <= room; i++)
                status_is(own ? ikv_queue_push_own(q, &e)
                              : ikv_queue_push(q, &e),
                          i < room ? IKV_OK : IKV_FULL_QUEUE);
            ck_assert_uint_eq(own ? ikv_queue_room_own(q, e.kind)
                                  : ikv_queue_room(q, e.kind),
                              0);
            close_queue(&c, q);
        }
}
END_TEST

/* Q1: the marks say how many waited at most, however many came in all. */
START_TEST(high_water)
{
    counted c = {0};
    ikv_queue *q = open_queue(&c, 16, 16);
    ikv_event e = numbered(0), out[32];
    for (uint32_t round = 1; round < 40; round++) {
        for (uint32_t i = 0; i < round % 5; i++)
            ok(ikv_queue_push_own(q, &e));
        for (uint32_t i = 0; i < round % 4; i++)
            ok(ikv_queue_push(q, &e));
        ikv_queue_drain(q, out, 32);
    }
    ikv_queue_counts n = IKV_QUEUE_COUNTS_INIT;
    ok(ikv_queue_counters(q, &n));
    ck_assert_uint_eq(n.own_high, 4);
    ck_assert_uint_eq(n.shared_high, 3);
    ck_assert_uint_eq(n.high_water, 7);
    for (uint32_t round = 0; round < 5; round++) { /* all of it, each time */
        e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        for (uint32_t i = 0; i < 17; i++)
            status_is(ikv_queue_push(q, &e), i < 16 ? IKV_OK : IKV_FULL_QUEUE);
        ck_assert_uint_eq(ikv_queue_drain(q, out, 32), 16);
    }
    close_queue(&c, q);
}
END_TEST

Suite *queue_suite(void)
{
    Suite *s = suite_create("queue");
    add(s, "Q3 two gaps", two_gaps);
    add(s, "Q3 lost of a batch", lost_of_a_batch);
    add_table(s, "Q3 room", room_is_exact, 4);
    add(s, "Q1 high water", high_water);
    add(s, "counts of other versions", counts_of_other_versions);
    add_table(s, "Q1 order", order_of_arrival, ROWS(orders));
    add(s, "Q1 full", full_is_counted);
    add(s, "Q1 wrong use", wrong_use);
    add(s, "memory", own_buffer);
    add(s, "Q1 threads", threads_keep_their_order);
    add_table(s, "Q3 lost devices", lost_devices, 5);
    return s;
}
