/* image.c - copies the state of modules out and back.
 *
 * Each module's block begins with links to what is outside, which stay; what
 * follows holds offsets and can be copied as it is.
 */
#include "bus_internal.h"
#include "loop_internal.h"
#include "router_internal.h"
#include "scene_internal.h"

#include "ikvar/image.h"

#define IMAGE_MAGIC UINT64_C(0x31676d6972766b69) /* "ikvrimg1" */

enum {
    RANGES = 10 + IKV_ROUTER_LIMIT,
    ROUNDING = 16
};

typedef struct image_head {
    uint64_t magic, size;
    uint64_t layout; /* of the ranges: their number and sizes */
    uint64_t in_step;
} image_head;

/* A part of a module's block that is copied. */
typedef struct image_range {
    char *at;
    size_t size;
} image_range;

typedef struct image_ranges {
    image_range list[RANGES];
    uint32_t count;
    size_t size; /* of all, rounded up, with the head */
    uint64_t layout;
} image_ranges;

static void add_range(image_ranges *r, void *block, size_t from, size_t to)
{
    r->list[r->count++] = (image_range){(char *)block + from, to - from};
    r->size += ikvi_round_up(to - from, ROUNDING);
    r->layout = (r->layout ^ (to - from)) * UINT64_C(0x100000001b3);
}

/* The loop's ring of pending events is the second range. */
static bool find_ranges(const ikv_parts *parts, image_ranges *r)
{
    *r = (image_ranges){.size = sizeof(image_head), .layout = IMAGE_MAGIC};
    if (parts == NULL || parts->size != sizeof *parts || parts->loop == NULL ||
        parts->bus == NULL || parts->router_count > IKV_ROUTER_LIMIT)
        return false;
    ikv_loop *loop = parts->loop;
    add_range(r, loop, offsetof(ikv_loop, s),
              offsetof(ikv_loop, s) + sizeof loop->s);
    add_range(r, loop, loop->events, loop->samples);
    ikv_bus *bus = parts->bus;
    size_t outside_end = bus->rebindings +
                         ikvi_round_up(IKV_REBIND_LIMIT * sizeof(bus_rebinding),
                                       IKV_BLOCK_ALIGNMENT);
    add_range(r, bus, offsetof(ikv_bus, names), bus->inboxes);
    add_range(r, bus, outside_end, bus->size);
    if (parts->scene != NULL)
        add_range(r, parts->scene, offsetof(ikv_scene, polygon_room),
                  parts->scene->size);
    if (parts->state != NULL) {
        size_t from, to;
        ikvi_state_range(parts->state, &from, &to);
        add_range(r, parts->state, from, to);
    }
    if (parts->actions != NULL) {
        size_t from, to;
        ikvi_actions_range(parts->actions, &from, &to);
        add_range(r, parts->actions, from, to);
    }
    if (parts->overlaps != NULL) {
        size_t from, to;
        ikvi_overlaps_range(parts->overlaps, &from, &to);
        add_range(r, parts->overlaps, from, to);
    }
    for (uint32_t i = 0; i < parts->router_count; i++) {
        if (parts->routers[i] == NULL)
            return false;
        add_range(r, parts->routers[i], offsetof(ikv_router, capacity),
                  parts->routers[i]->size);
    }
    return true;
}

size_t ikv_image_size(const ikv_parts *parts)
{
    image_ranges ranges;
    return find_ranges(parts, &ranges) ? ranges.size : 0;
}

static bool is_busy(const ikv_parts *parts)
{
    bool busy = parts->bus->busy != 0 || parts->loop->in_event;
    for (uint32_t i = 0; i < parts->bus->lane_count; i++)
        busy = busy || ikvi_bus_lane(parts->bus, i)->flushing;
    for (uint32_t i = 0; i < parts->router_count; i++)
        busy = busy || parts->routers[i]->routing;
    return busy;
}

ikv_status ikv_image_save(const ikv_parts *parts, void *image, size_t size)
{
    image_ranges ranges;
    if (image == NULL || !find_ranges(parts, &ranges))
        return IKV_BAD_ARGUMENT;
    if (size < ranges.size)
        return IKV_BAD_SIZE;
    if (is_busy(parts))
        return IKV_BUSY;
    image_head head = {IMAGE_MAGIC, ranges.size, ranges.layout,
                       parts->loop->where == IN_STEP};
    char *to = image;
    memcpy(to, &head, sizeof head);
    to += sizeof head;
    for (uint32_t i = 0; i < ranges.count; i++) {
        memcpy(to, ranges.list[i].at, ranges.list[i].size);
        to += ikvi_round_up(ranges.list[i].size, ROUNDING);
    }
    return IKV_OK;
}

/* ------------------------------------------------------------ restoring -- */

/* Moves what waits now to the end of the ring's room and puts the other before
 * it: there is room for both. */
static void put_before(ikv_loop *loop, const ikv_taken *since, uint32_t count,
                       uint32_t head, uint32_t waiting)
{
    loop->s.head = (head - count) & (loop->capacity - 1);
    loop->s.count = waiting + count;
    loop->s.marked = loop->s.fed = 0;
    for (uint32_t i = 0; i < count; i++) {
        uint32_t at = (loop->s.head + i) & (loop->capacity - 1);
        *loop_event(loop, at) = since[i].event;
        *loop_entry_at(loop, at) = ikvi_loop_played_entry(&since[i].intake);
    }
}

static void copy_back(const image_ranges *ranges, const char *from,
                      bool with_pending)
{
    for (uint32_t i = 0; i < ranges->count; i++) {
        if (i != 1 || with_pending)
            memcpy(ranges->list[i].at, from, ranges->list[i].size);
        from += ikvi_round_up(ranges->list[i].size, ROUNDING);
    }
}

ikv_status ikv_image_restore(const ikv_parts *parts, const void *image,
                             size_t size, const ikv_taken *since,
                             uint32_t count)
{
    image_ranges ranges;
    image_head head;
    if (image == NULL || !find_ranges(parts, &ranges) ||
        (since == NULL && count > 0))
        return IKV_BAD_ARGUMENT;
    ikv_loop *loop = parts->loop;
    if (is_busy(parts))
        return IKV_BUSY;
    if (size < sizeof head)
        return IKV_BAD_FILE;
    memcpy(&head, image, sizeof head);
    if (head.magic != IMAGE_MAGIC || head.size != ranges.size ||
        head.size > size || head.layout != ranges.layout)
        return IKV_BAD_FILE;
    if ((head.in_step != 0) != (loop->where == IN_STEP))
        return IKV_BUSY;
    uint32_t at = loop->s.head, waiting = loop->s.count;
    if (since != NULL && count > loop->capacity - waiting)
        return IKV_FULL_PENDING;
    for (uint32_t i = 0; i < count; i++) {
        ikv_status status =
            ikvi_loop_check_played(loop, &since[i].event, &since[i].intake);
        if (status < 0)
            return status;
    }
    copy_back(&ranges, (const char *)image + sizeof head, since == NULL);
    if (since != NULL)
        put_before(loop, since, count, at, waiting);
    loop->counters.waiting = loop->s.count;
    ikvi_bus_restored(parts->bus);
    ikv_bus_set_frame(parts->bus, loop->frame);
    return IKV_OK;
}
