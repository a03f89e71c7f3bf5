/* image.c - copies the state of modules out and back.
 *
 * Each module's block begins with links to what is outside, which stay; what
 * follows holds offsets and can be copied as it is.
 */
#include "../action/action_shared.h"
#include "../bus/bus_shared.h"
#include "../event/catalogue_shared.h"
#include "../event/hash.h"
#include "../event/memory.h"
#include "../event/report.h"
#include "../loop/loop_shared.h"
#include "../overlap/overlap_shared.h"
#include "../router/router_shared.h"
#include "../scene/scene_shared.h"
#include "../state/state_shared.h"

#include "ikvar/image.h"

#define IMAGE_MAGIC UINT64_C(0x33676d6972766b69) /* "ikvrimg3" */
#define SUM_PRIME   UINT64_C(0x9e3779b97f4a7c15)

enum {
    RANGES = 10 + IKV_ROUTER_LIMIT,
    SUM_LANES = 4,
    ROUNDING = 2 * SUM_LANES * sizeof(uint64_t), /* two words a lane */
    SUM_PIECE = 4096, /* copied and summed while it is at hand */
    PENDING_RANGE = 1,
    BUS_RANGE = 2 /* and the one after it */
};

typedef struct image_head {
    uint64_t magic, size;
    uint64_t identity; /* of the configs and of the first kinds */
    uint64_t in_step, kinds;
    uint64_t number;
    uint64_t reserved;
    uint64_t sum; /* of all of the image, while this is 0 */
} image_head;

_Static_assert(sizeof(image_head) % ROUNDING == 0, "ranges begin aligned");

typedef struct image_ranges {
    ikvi_saved list[RANGES];
    uint32_t count;
    size_t size; /* of all, rounded up, with the head */
    uint64_t identity;
} image_ranges;

static void add_saved(image_ranges *r, ikvi_saved part, uint64_t identity)
{
    /* Sizes with it, so that another build's structs are told apart. */
    const uint64_t numbers[] = {part.size, identity};
    IKVI_CHECK(r->count < RANGES && part.at != NULL);
    r->list[r->count++] = part;
    r->size += ikvi_round_up(part.size, ROUNDING);
    r->identity = ikvi_hash(r->identity, numbers, sizeof numbers);
}

static void add_two_saved(image_ranges *r, const ikvi_saved parts[2],
                          uint64_t identity)
{
    add_saved(r, parts[0], identity);
    add_saved(r, parts[1], 0);
}

/* An image is these pieces, one after the other, in this order; their
 * identities joined say of which kit it is. The loop and the bus have two each:
 * what lies between is of the present and stays. */
static bool find_ranges(const ikv_parts *parts, image_ranges *r)
{
    ikvi_saved part, two[2];
    *r = (image_ranges){.size = sizeof(image_head), .identity = IMAGE_MAGIC};
    if (parts == NULL || parts->size != sizeof *parts || parts->loop == NULL ||
        parts->bus == NULL || parts->router_count > IKV_ROUTER_LIMIT)
        return false;
    /* In this order, which PENDING_RANGE and BUS_RANGE count on. */
    uint64_t identity = ikvi_loop_saved(parts->loop, two);
    add_two_saved(r, two, identity);
    identity = ikvi_bus_saved(parts->bus, two);
    add_two_saved(r, two, identity);
    if (parts->scene != NULL) {
        identity = ikvi_scene_saved(parts->scene, &part);
        add_saved(r, part, identity);
    }
    if (parts->state != NULL) {
        identity = ikvi_state_saved(parts->state, &part);
        add_saved(r, part, identity);
    }
    if (parts->actions != NULL) {
        identity = ikvi_actions_saved(parts->actions, &part);
        add_saved(r, part, identity);
    }
    if (parts->overlaps != NULL) {
        identity = ikvi_overlaps_saved(parts->overlaps, &part);
        add_saved(r, part, identity);
    }
    for (uint32_t i = 0; i < parts->router_count; i++) {
        if (parts->routers[i] == NULL)
            return false;
        identity = ikvi_router_saved(parts->routers[i], &part);
        add_saved(r, part, identity);
    }
    return true;
}

/* The configs' and that of the kinds that there were: more may have been
 * registered since. */
static uint64_t identity_of(const image_ranges *ranges, const ikv_parts *parts,
                            uint64_t kinds)
{
    const ikv_catalogue *catalogue = ikv_bus_catalogue(parts->bus);
    /* It knows kinds that are not here. */
    if (kinds > ikvi_catalogue_user_kinds(catalogue))
        return 0;
    const uint64_t numbers[] = {
        kinds, ikvi_catalogue_identity(catalogue, (uint32_t)kinds)};
    return ikvi_hash(ranges->identity, numbers, sizeof numbers);
}

/* -------------------------------------------------------------- checking -- */

/* A sum in four lanes, against accidents: it changes with any byte. */
typedef struct image_sum {
    uint64_t lane[SUM_LANES];
} image_sum;

/* A word of an image, which may lie anywhere; little-endian, so that a sum is
 * the same on every machine. */
static inline uint64_t word_at(const char *from)
{
#if defined(__GNUC__)
    typedef uint64_t any_word __attribute__((may_alias, aligned(1)));
    uint64_t word = *(const any_word *)from;
#else
    uint64_t word;
    memcpy(&word, from, sizeof word);
#endif
#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_BIG_ENDIAN__
    word = __builtin_bswap64(word);
#endif
    return word;
}

/* Takes two words in. Each step can be undone, so that what differs stays
 * different; the turns carry the upper bits, which a product leaves alone,
 * down. */
static inline uint64_t sum_words(uint64_t lane, uint64_t first, uint64_t second)
{
    lane += first;
    lane = ((lane << 23 | lane >> 41) ^ second) * SUM_PRIME;
    return lane << 29 | lane >> 35;
}

static void sum_bytes(image_sum *sum, const char *from, size_t size)
{
    const size_t half = ROUNDING / 2;
    IKVI_CHECK(size % ROUNDING == 0);
    uint64_t a = sum->lane[0], b = sum->lane[1];
    uint64_t c = sum->lane[2], d = sum->lane[3];
    /* Four sums side by side, so that none waits for the last product. */
    for (const char *end = from + size; from < end; from += ROUNDING) {
        a = sum_words(a, word_at(from), word_at(from + half));
        b = sum_words(b, word_at(from + 8), word_at(from + half + 8));
        c = sum_words(c, word_at(from + 16), word_at(from + half + 16));
        d = sum_words(d, word_at(from + 24), word_at(from + half + 24));
    }
    *sum = (image_sum){{a, b, c, d}};
}

static image_sum sum_begin(image_head head)
{
    image_sum sum = {{1, 2, 3, 4}};
    /* The head is part of the sum, but for the sum itself. */
    head.sum = 0;
    sum_bytes(&sum, (const char *)&head, sizeof head);
    return sum;
}

static uint64_t sum_end(const image_sum *sum)
{
    uint64_t all = 0;
    for (uint32_t i = 0; i < SUM_LANES; i++)
        all = sum_words(all, sum->lane[i], i);
    return all;
}

/* Copies a range out, rounded up with zeros. */
static char *copy_out(image_sum *sum, char *to, const ikvi_saved *range)
{
    size_t whole = range->size / ROUNDING * ROUNDING;
    for (size_t at = 0; at < whole; at += SUM_PIECE) {
        size_t size = whole - at < SUM_PIECE ? whole - at : SUM_PIECE;
        memcpy(to + at, (const char *)range->at + at, size);
        sum_bytes(sum, to + at, size);
    }
    if (whole == range->size)
        return to + whole;
    /* The rest of the last piece: zeros, so that equal states are equal
     * images. */
    memset(to + whole, 0, ROUNDING);
    memcpy(to + whole, (const char *)range->at + whole, range->size - whole);
    sum_bytes(sum, to + whole, ROUNDING);
    return to + whole + ROUNDING;
}

/* ---------------------------------------------------------------- saving -- */

size_t ikv_image_size(const ikv_parts *parts)
{
    image_ranges ranges;
    return find_ranges(parts, &ranges) ? ranges.size : 0;
}

static bool is_busy(const ikv_parts *parts)
{
    bool busy =
        ikvi_bus_is_delivering(parts->bus) || ikvi_loop_is_routing(parts->loop);
    for (uint32_t i = 0; i < parts->router_count; i++)
        busy = busy || ikvi_router_is_routing(parts->routers[i]);
    return busy;
}

/* The sum is made while copying: the image is read once. */
ikv_status ikv_image_save(const ikv_parts *parts, void *image, size_t size)
{
    image_ranges ranges;
    if (image == NULL || !find_ranges(parts, &ranges))
        return IKV_BAD_ARGUMENT;
    if (size < ranges.size)
        return IKV_BAD_SIZE;
    if (is_busy(parts))
        return IKV_BUSY;
    uint64_t kinds = ikvi_catalogue_user_kinds(ikv_bus_catalogue(parts->bus));
    image_head head = {.magic = IMAGE_MAGIC,
                       .size = ranges.size,
                       .identity = identity_of(&ranges, parts, kinds),
                       .in_step = ikvi_loop_is_in_step(parts->loop),
                       .kinds = kinds,
                       .number = ikvi_bus_next_image(parts->bus)};
    image_sum sum = sum_begin(head);
    char *to = (char *)image + sizeof head;
    for (uint32_t i = 0; i < ranges.count; i++)
        to = copy_out(&sum, to, &ranges.list[i]);
    IKVI_CHECK(to == (char *)image + ranges.size);
    head.sum = sum_end(&sum);
    /* Last: an image that was cut off while it was made has no head. */
    memcpy(image, &head, sizeof head);
    ikvi_bus_image_saved(parts->bus);
    ikvi_bus_tell_moment(parts->bus, IKV_WATCH_SAVE, NULL);
    return IKV_OK;
}

/* ------------------------------------------------------------ restoring -- */

static void copy_back(const image_ranges *ranges, const char *from,
                      bool with_pending)
{
    for (uint32_t i = 0; i < ranges->count; i++) {
        /* What waits now stays, if what came in since is put before it. */
        if (i != PENDING_RANGE || with_pending)
            memcpy(ranges->list[i].at, from, ranges->list[i].size);
        from += ikvi_round_up(ranges->list[i].size, ROUNDING);
    }
}

/* Where the copies of the bus's two parts lie. */
static void tell_bus(const ikv_parts *parts, const image_ranges *ranges,
                     const char *from)
{
    for (uint32_t i = 0; i < BUS_RANGE; i++)
        from += ikvi_round_up(ranges->list[i].size, ROUNDING);
    ikvi_bus_before_restore(
        parts->bus, from,
        from + ikvi_round_up(ranges->list[BUS_RANGE].size, ROUNDING));
}

/* T6. Whether it is an image of these parts, as it was saved. */
static bool is_image(const ikv_parts *parts, const image_ranges *ranges,
                     const char *image, size_t size, image_head *head)
{
    if (size < sizeof *head)
        return false;
    memcpy(head, image, sizeof *head);
    /* What is cheap to ask comes before the sum of all. */
    if (head->magic != IMAGE_MAGIC || head->size != ranges->size ||
        head->size > size ||
        head->identity != identity_of(ranges, parts, head->kinds))
        return false;
    image_sum sum = sum_begin(*head);
    sum_bytes(&sum, image + sizeof *head, ranges->size - sizeof *head);
    return sum_end(&sum) == head->sum;
}

/* All that may be wrong is looked at before the first byte is copied. The bus
 * is told between: who subscribed since then ends, and only it knows whom that
 * concerns. */
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
    ikvi_waiting now = ikvi_loop_waiting(loop);
    if (is_busy(parts))
        return IKV_BUSY;
    if (!is_image(parts, &ranges, image, size, &head))
        return IKV_BAD_FILE;
    /* An image from within a step goes back into one. */
    if ((head.in_step != 0) != ikvi_loop_is_in_step(loop))
        return IKV_BUSY;
    if (!ikvi_bus_may_restore(parts->bus, head.number))
        return IKV_STALE;
    ikv_status status = ikvi_loop_check_taken(loop, since, count);
    if (status < 0)
        return status;
    const char *from = (const char *)image + sizeof head;
    tell_bus(parts, &ranges, from);
    copy_back(&ranges, from, since == NULL);
    /* From here on nothing can fail. */
    ikvi_loop_restored(loop, since, count, now);
    ikvi_bus_restored(parts->bus, head.in_step != 0);
    ikvi_bus_after_restore(parts->bus, head.number);
    ikvi_bus_tell_moment(parts->bus, IKV_WATCH_RESTORE, NULL);
    return IKV_OK;
}
