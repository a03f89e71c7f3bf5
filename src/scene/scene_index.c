/* scene_index.c - finds the targets that a query may meet.
 *
 * Each target's box is kept in 15-bit whole numbers, rounded outwards, four of
 * them in one 64-bit word, so that one subtraction compares all four sides.
 * Small scenes, and those where many targets move, are scanned in order from
 * the topmost down. Else a grid of cells lists who is near; there are four of
 * them, each eight times coarser, the last a single cell; a target is in the
 * finest one where it covers no more than three by three cells. Where all move,
 * a scan is cheaper than any grid; so many changes at once lead back to it. A
 * scan's boxes are a little larger than the targets, so that what moves a
 * little needs no new box.
 *
 * Both give candidates alone; ikvi_probe_offer() tests them exactly.
 *
 * scene-5  in the grid, a target that can be hit has a box and a home, and is
 *          listed once in each cell of its home, and nowhere else; a cell lists
 *          the topmost first
 * scene-6  in a scan, `order` holds every target once, topmost first, and a box
 *          that holds that of order[i] is at i
 * scene-7  what is not so is marked dirty, or all is
 * scene-8  entries in cells + free entries == entry_room
 */
#include "scene_internal.h"

enum {
    SIDE = 32767,       /* the greatest coordinate */
    SCAN_LIMIT = 160,   /* targets up to which a scan is never worse */
    QUIET_QUERIES = 24, /* queries after which a grid is worth building */
    SAMPLE = 256,
    MOST_CELLS = 3, /* that a target covers in a direction */
    LANES = 8,      /* boxes that a scan compares at once */
    FRAME_AGE = 16  /* refreshes that a frame serves */
};

/* How much larger a scan's boxes are, in mean sides of a target. */
#define SLACK 0.25f

/* A scan's boxes, eight at a time: each side's numbers lie together, so that
 * one vector comparison tests eight of them. As large as eight packed boxes. */
typedef struct box_block {
    int16_t sides[4][LANES]; /* left, top, right, bottom */
} box_block;

#define GUARDS    UINT64_C(0x8000800080008000)
#define NEVER_BOX UINT64_C(0x7fff7fff7fff7fff) /* right of and above all */

/* Arrays, by the places of targets where nothing else is said. */
static uint64_t *packed_at(const ikv_scene *s, uint32_t place)
{
    IKVI_CHECK(place < s->capacity);
    return (uint64_t *)ikvi_at(s, s->s.index.boxes) + place;
}

static box_block *block_of(const ikv_scene *s, uint32_t rank)
{
    IKVI_CHECK(rank <= s->capacity);
    return (box_block *)ikvi_at(s, s->s.index.boxes) + rank / LANES;
}

static index_home *home_at(const ikv_scene *s, uint32_t place)
{
    IKVI_CHECK(place < s->capacity);
    return (index_home *)ikvi_at(s, s->s.index.homes) + place;
}

/* Of a cell's list. */
static index_entry *entry_at(const ikv_scene *s, uint32_t at)
{
    IKVI_CHECK(at < s->s.index.entry_room);
    return (index_entry *)ikvi_at(s, s->s.index.entries) + at;
}

/* Of a cell, by head_index(). */
static uint32_t *head_at(const ikv_scene *s, uint32_t cell)
{
    IKVI_CHECK(cell < s->s.index.head_room);
    return (uint32_t *)ikvi_at(s, s->s.index.heads) + cell;
}

/* Places by rank, from the topmost down. */
static uint32_t *order_at(const ikv_scene *s, uint32_t rank)
{
    IKVI_CHECK(rank < s->capacity);
    return (uint32_t *)ikvi_at(s, s->s.index.order) + rank;
}

static uint32_t *dirty_at(const ikv_scene *s, uint32_t nth)
{
    IKVI_CHECK(nth < s->s.index.dirty_room);
    return (uint32_t *)ikvi_at(s, s->s.index.dirty) + nth;
}

/* In a scan a home is not needed: it holds the target's place in `order`. */
static void set_rank(ikv_scene *s, uint32_t place, uint32_t rank)
{
    memcpy(home_at(s, place), &rank, sizeof rank);
}

static uint32_t rank_of(const ikv_scene *s, uint32_t place)
{
    uint32_t rank;
    memcpy(&rank, home_at(s, place), sizeof rank);
    return rank;
}

/* -------------------------------------------------------------- opening -- */

static uint32_t power_below(uint32_t value)
{
    uint32_t power = 1;
    while (power <= value / 2)
        power *= 2;
    return power;
}

void ikvi_index_layout(ikv_scene *scene, ikvi_layout *l, bool plain)
{
    scene_index *x = &scene->s.index;
    size_t n = scene->capacity, before;
    x->absent = plain;
    x->order = ikvi_layout_add(l, n, sizeof(uint32_t));
    x->layers = ikvi_layout_add(l, scene->layers, sizeof(index_layer));
    if (plain)
        return;
    before = l->size;
    uint32_t cells = power_below(scene->capacity);
    /* 2.75 a target; choose_shifts() aims at 2.33, and the rest is for
     * moves. */
    x->entry_room = scene->capacity / 4 * 11 + 64;
    /* One finest cell a target, a 64th of it for each grid that is 8 by 8 times
     * coarser. */
    x->head_room = cells + cells / 64 + cells / 4096 + 3;
    x->dirty_room = scene->capacity / 8 + 8;
    x->boxes = ikvi_layout_add(l, n / LANES + 1, sizeof(box_block));
    x->homes = ikvi_layout_add(l, n, sizeof(index_home));
    x->entries = ikvi_layout_add(l, x->entry_room, sizeof(index_entry));
    x->heads = ikvi_layout_add(l, x->head_room, sizeof(uint32_t));
    x->dirty = ikvi_layout_add(l, x->dirty_room, sizeof(uint32_t));
    scene->s.counters.index_bytes =
        (float)((double)(l->size - before) / (double)n + sizeof(uint32_t));
}

void ikvi_index_open(ikv_scene *scene)
{
    scene->s.index.reordered = true;
    scene->s.index.all_dirty = true;
}

/* ---------------------------------------------------------------- boxes -- */

/* Four 15-bit numbers, each below a free bit: left, top, and the distances of
 * right and bottom from the far sides. A box meets another exactly if
 * wanted_box(other) - packed_box(it) keeps all four free bits. */
static uint64_t packed_box(const uint16_t q[4])
{
    return (uint64_t)q[0] | (uint64_t)q[1] << 16 |
           (uint64_t)(SIDE - q[2]) << 32 | (uint64_t)(SIDE - q[3]) << 48;
}

static uint64_t wanted_box(const uint16_t q[4])
{
    return ((uint64_t)q[2] | (uint64_t)q[3] << 16 |
            (uint64_t)(SIDE - q[0]) << 32 | (uint64_t)(SIDE - q[1]) << 48) |
           GUARDS;
}

static bool meets(uint64_t wanted, uint64_t box)
{
    return ((wanted - box) & GUARDS) == GUARDS;
}

/* Rounds towards minus infinity and never falls as `at` rises; what is outside
 * the frame comes to lie on its edge. */
#if defined(__GNUC__)
typedef float four __attribute__((vector_size(16)));
typedef int32_t four_whole __attribute__((vector_size(16)));

IKVI_INLINE void quantised_box(const index_frame *f, const float box[4],
                               uint16_t q[4])
{
    four at, from, per, zero = {0, 0, 0, 0}, side = {SIDE, SIDE, SIDE, SIDE};
    memcpy(&at, box, sizeof at);
    memcpy(&from, f->from, sizeof from);
    memcpy(&per, f->per, sizeof per);
    at = (at - from) * per;
    four_whole above = at > zero, below = at < side;
    four_whole bits = (four_whole)at & above & below;
    at = (four)(bits | ((four_whole)side & ~below & above));
    four_whole whole = __builtin_convertvector(at, four_whole);
    for (int k = 0; k < 4; k++)
        q[k] = (uint16_t)whole[k];
}
#else
IKVI_INLINE void quantised_box(const index_frame *f, const float box[4],
                               uint16_t q[4])
{
    for (int k = 0; k < 4; k++) {
        float t = (box[k] - f->from[k]) * f->per[k];
        t = t > 0 ? t : 0;
        t = t < (float)SIDE ? t : (float)SIDE;
        q[k] = (uint16_t)(int32_t)t;
    }
}
#endif

/* Sets a box of the scan; one that meets nothing if there is none. */
IKVI_INLINE void set_scan_box(ikv_scene *s, uint32_t rank, const uint16_t *q)
{
    box_block *block = block_of(s, rank);
    uint32_t lane = rank % LANES;
    for (uint32_t side = 0; side < 4; side++)
        block->sides[side][lane] = q != NULL ? (int16_t)q[side] : -1;
}

static bool validate_scan_box(const ikv_scene *s, uint32_t rank,
                              const uint16_t *q)
{
    const box_block *block = block_of(s, rank);
    int16_t at[4];
    for (uint32_t side = 0; side < 4; side++)
        at[side] = block->sides[side][rank % LANES];
    return q == NULL ? at[2] < 0
                     : at[0] <= (int16_t)q[0] && at[1] <= (int16_t)q[1] &&
                           at[2] >= (int16_t)q[2] && at[3] >= (int16_t)q[3];
}

IKVI_INLINE void widen_box(float box[4], float by)
{
    box[0] -= by;
    box[1] -= by;
    box[2] += by;
    box[3] += by;
}

static bool box_any_item(const ikv_scene *s, const scene_item *item,
                         float slack, uint16_t q[4])
{
    float box[4];
    if (!ikvi_shape_box(s, item, box))
        return false;
    widen_box(box, slack);
    float sum = box[0] + box[1] + box[2] + box[3];
    /* Else a box of all: candidates are tested exactly. */
    if (number_finite(sum)) {
        quantised_box(&layer_at(s, item->layer)->frame, box, q);
    } else {
        q[0] = q[1] = 0;
        q[2] = q[3] = SIDE;
    }
    return true;
}

/* The item's box, widened by the slack; false if it can't be hit. */
IKVI_INLINE bool box_item(const ikv_scene *s, const scene_item *item,
                          float slack, uint16_t q[4])
{
    float box[4];
    if (!item_hittable(item) || !item_unturned_rect(item))
        return box_any_item(s, item, slack, q);
    item_rect_box(item, box);
    widen_box(box, slack);
    quantised_box(&layer_at(s, item->layer)->frame, box, q);
    return true;
}

/* Where a target was when a scan's box was made of it: kept in the room of the
 * entries, which a scan does not need. */
typedef struct scan_origin {
    float x, y;
} scan_origin;

_Static_assert(sizeof(scan_origin) <= 2 * sizeof(index_entry),
               "there are more than two entries a target");

static scan_origin *origin_at(const ikv_scene *s, uint32_t place)
{
    IKVI_CHECK(place < s->capacity);
    return (scan_origin *)ikvi_at(s, s->s.index.entries) + place;
}

IKVI_INLINE void box_for_scan(ikv_scene *s, uint32_t place, uint32_t rank)
{
    scene_item *item = item_at(s, place);
    uint16_t q[4];
    float slack = layer_at(s, item->layer)->frame.slack;
    /* From this place on drifts are measured. */
    item->flags &= (uint8_t)~ITEM_DIRTY;
    *origin_at(s, place) = (scan_origin){item->world.x, item->world.y};
    set_scan_box(s, rank, box_item(s, item, slack, q) ? q : NULL);
}

/* A half of the slack, so that rounding can't matter. */
static void note_dirty(ikv_scene *scene, uint32_t place)
{
    scene_index *x = &scene->s.index;
    scene_item *item = item_at(scene, place);
    x->settled = false;
    if (x->absent || x->all_dirty || (item->flags & ITEM_DIRTY))
        return;
    /* So many that doing all anew is cheaper than a list of them. */
    if (x->dirty_count == x->dirty_room ||
        x->dirty_count > scene->s.count / 8 + 4) {
        x->all_dirty = true;
        return;
    }
    IKVI_CHECK(place != ROOT_ITEM && item->target != 0);
    item->flags |= ITEM_DIRTY;
    *dirty_at(scene, x->dirty_count++) = place;
}

/* While the scene is scanned, boxes are made so much larger that small moves
 * need nothing. */
void ikvi_index_moved(ikv_scene *scene, uint32_t place)
{
    scene_index *x = &scene->s.index;
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_MOVED);
    const scene_item *item = item_at(scene, place);
    if (!x->gridded && !x->absent && !x->all_dirty) {
        float reach = layer_at(scene, item->layer)->frame.slack / 2;
        const scan_origin *origin = origin_at(scene, place);
        float dx = item->world.x - origin->x, dy = item->world.y - origin->y;
        /* Not so for what is not a number: that is dirty. */
        if (dx <= reach && dx >= -reach && dy <= reach && dy >= -reach) {
            x->drifts++;
            return;
        }
    }
    note_dirty(scene, place);
}

/* ---------------------------------------------------------------- order -- */

/* All items from the topmost down: the walk that meets parents first and low
 * siblings first, backwards. */
static void make_order(ikv_scene *s)
{
    /* Filled from the end: the walk goes upwards, the order downwards. */
    uint32_t at = s->s.count;
    for (uint32_t layer = 0; layer < s->layers; layer++)
        layer_at(s, layer)->start = layer_at(s, layer)->end = 0;
    for (uint32_t place = ikvi_scene_walk(s, ROOT_ITEM, ROOT_ITEM);
         place != NO_ITEM; place = ikvi_scene_walk(s, ROOT_ITEM, place)) {
        index_layer *layer = layer_at(s, item_at(s, place)->layer);
        if (layer->end == 0)
            layer->end = at;
        *order_at(s, --at) = place;
        layer->start = at;
    }
    IKVI_CHECK(at == 0);
    s->s.index.reordered = false;
}

/* ---------------------------------------------------------------- frame -- */

/* Where one layer's targets are, from a sample of them. */
typedef struct extent {
    uint32_t count;
    float low[2], high[2], sum[2], spread[2], side;
} extent;

/* In two passes, the extent and then how far from its middle: what is far off
 * shall not make the frame of all others coarse. */
static void measure_layer(const ikv_scene *s, uint32_t layer, extent *e)
{
    uint32_t begin = layer_at(s, layer)->start, end = layer_at(s, layer)->end;
    /* About so many at even distances, and the same ones each time. */
    uint32_t stride = (end - begin) / SAMPLE + 1;
    for (int pass = 0; pass < 2; pass++)
        for (uint32_t i = begin; i < end; i += stride) {
            const scene_item *item = item_at(s, *order_at(s, i));
            float box[4];
            if (!ikvi_shape_box(s, item, box) ||
                !number_finite(box[0] + box[1] + box[2] + box[3]))
                continue;
            e->count += pass == 0;
            e->side += (box[2] - box[0]) / 2 + (box[3] - box[1]) / 2;
            for (int k = 0; k < 2; k++) {
                float at = box[k] / 2 + box[k + 2] / 2;
                if (pass == 0) {
                    bool first = e->count == 1;
                    e->low[k] =
                        first || box[k] < e->low[k] ? box[k] : e->low[k];
                    e->high[k] = first || box[k + 2] > e->high[k] ? box[k + 2]
                                                                  : e->high[k];
                    e->sum[k] += at;
                } else {
                    float off = at - e->sum[k] / (float)e->count;
                    e->spread[k] += off < 0 ? -off : off;
                }
            }
        }
}

/* The frame leaves out what is far away from the most: that lies on its edges,
 * and does not make the rest coarse. */
static void make_frames(ikv_scene *s)
{
    for (uint32_t layer = 0; layer < s->layers; layer++) {
        index_frame *f = &layer_at(s, layer)->frame;
        extent e = {.count = 0};
        measure_layer(s, layer, &e);
        float from[2] = {0, 0}, per[2] = {1, 1};
        for (int k = 0; k < 2 && e.count > 0; k++) {
            float n = (float)e.count, mean = e.sum[k] / n;
            float reach = 4 * e.spread[k] / n;
            float low = mean - reach, high = mean + reach;
            low = low < e.low[k] || reach == 0 ? e.low[k] : low;
            high = high > e.high[k] || reach == 0 ? e.high[k] : high;
            float width = high - low;
            /* Without an extent along it all lie in one column: a frame that
             * turns nothing round. */
            if (!number_finite(width) || !(width > 0) ||
                !number_finite((float)SIDE / width))
                continue;
            from[k] = low;
            per[k] = (float)SIDE / width;
        }
        for (int k = 0; k < 4; k++) {
            f->from[k] = from[k % 2];
            f->per[k] = per[k % 2];
        }
        /* Both passes have added to the sides. */
        f->slack = e.count > 0 ? e.side / (float)(2 * e.count) * SLACK : 0;
        if (!number_finite(f->slack))
            f->slack = 0;
    }
}

/* ----------------------------------------------------------------- grid -- */

static uint32_t cell_bits(const scene_index *x, uint32_t level)
{
    return 15u - x->shift_x[level];
}

static uint32_t head_index(const scene_index *x, uint32_t level, uint32_t cx,
                           uint32_t cy)
{
    IKVI_CHECK(level < GRID_LEVELS && cx >> cell_bits(x, level) == 0);
    return x->heads_at[level] + (cy << cell_bits(x, level)) + cx;
}

static uint32_t widened(uint32_t at, uint32_t margin, bool down)
{
    if (down)
        return at > margin ? at - margin : 0;
    return at + margin < SIDE ? at + margin : SIDE;
}

/* The cells of a box, with a sixteenth of a cell around it so that small moves
 * change nothing, in the finest grid where they are few. */
static index_home home_for(const scene_index *x, const uint16_t q[4])
{
    /* The coarsest one is a single cell, where everything fits. */
    index_home home = {.level = GRID_LEVELS - 1, .in = 1};
    for (uint32_t level = 0; level < GRID_LEVELS - 1; level++) {
        IKVI_CHECK(level < GRID_LEVELS);
        uint32_t sx = x->shift_x[level], sy = x->shift_y[level];
        uint32_t mx = (1u << sx) >> 4, my = (1u << sy) >> 4;
        uint32_t x0 = widened(q[0], mx, true) >> sx;
        uint32_t y0 = widened(q[1], my, true) >> sy;
        uint32_t x1 = widened(q[2], mx, false) >> sx;
        uint32_t y1 = widened(q[3], my, false) >> sy;
        if (x1 - x0 >= MOST_CELLS || y1 - y0 >= MOST_CELLS)
            continue;
        home.x = (uint16_t)x0;
        home.y = (uint16_t)y0;
        home.more_x = (uint8_t)(x1 - x0);
        home.more_y = (uint8_t)(y1 - y0);
        home.level = (uint8_t)level;
        break;
    }
    return home;
}

static bool home_holds(const scene_index *x, const index_home *home,
                       const uint16_t q[4])
{
    uint32_t sx = x->shift_x[home->level], sy = x->shift_y[home->level];
    return home->in && (uint32_t)q[0] >> sx >= home->x &&
           (uint32_t)q[1] >> sy >= home->y &&
           (uint32_t)q[2] >> sx <= (uint32_t)home->x + home->more_x &&
           (uint32_t)q[3] >> sy <= (uint32_t)home->y + home->more_y;
}

static uint32_t home_size(const index_home *home)
{
    return (home->more_x + 1u) * (home->more_y + 1u);
}

static uint32_t home_head(const scene_index *x, const index_home *home,
                          uint32_t i)
{
    uint32_t across = home->more_x + 1u;
    return head_index(x, home->level, home->x + i % across,
                      home->y + i / across);
}

static void leave_home(ikv_scene *s, uint32_t place)
{
    scene_index *x = &s->s.index;
    index_home *home = home_at(s, place);
    for (uint32_t i = 0; home->in && i < home_size(home); i++) {
        uint32_t *link = head_at(s, home_head(x, home, i));
        /* A cell lists few: there is no way back from a target to its
         * entries. */
        while (entry_at(s, *link)->place != place)
            link = &entry_at(s, *link)->next;
        uint32_t entry = *link;
        *link = entry_at(s, entry)->next;
        entry_at(s, entry)->next = x->free_entry;
        x->free_entry = entry;
    }
    IKVI_CHECK(!home->in || x->level_count[home->level] > 0);
    if (home->in)
        x->level_count[home->level]--;
    home->in = 0;
}

/* False if there is no room: then nothing has changed. */
static bool enter_home(ikv_scene *s, uint32_t place, index_home home)
{
    scene_index *x = &s->s.index;
    uint32_t taken[MOST_CELLS * MOST_CELLS], n = home_size(&home);
    uint32_t next = x->free_entry;
    uint64_t key = item_at(s, place)->key;
    /* All entries are there before the first cell is touched. */
    for (uint32_t i = 0; i < n; i++) {
        if (next == NO_ITEM)
            return false;
        taken[i] = next;
        next = entry_at(s, next)->next;
    }
    x->free_entry = next;
    for (uint32_t i = 0; i < n; i++) {
        uint32_t *link = head_at(s, home_head(x, &home, i));
        while (*link != NO_ITEM &&
               item_at(s, entry_at(s, *link)->place)->key > key)
            link = &entry_at(s, *link)->next;
        *entry_at(s, taken[i]) = (index_entry){place, *link};
        *link = taken[i];
    }
    IKVI_CHECK(!home_at(s, place)->in);
    *home_at(s, place) = home;
    x->level_count[home.level]++;
    return true;
}

/* ------------------------------------------------------ building a grid -- */

/* Lays out the four grids for these shifts of the finest one; false if there
 * are more cells than heads. */
static bool lay_out_grids(scene_index *x, uint32_t sx, uint32_t sy)
{
    uint32_t at = 0;
    for (uint32_t level = 0; level < GRID_LEVELS; level++) {
        bool last = level == GRID_LEVELS - 1;
        x->shift_x[level] = (uint8_t)(last || sx > 15 ? 15 : sx);
        x->shift_y[level] = (uint8_t)(last || sy > 15 ? 15 : sy);
        x->heads_at[level] = at;
        at += 1u << (30u - x->shift_x[level] - x->shift_y[level]);
        /* Eight times coarser along each axis. */
        sx += 3;
        sy += 3;
    }
    x->heads_at[GRID_LEVELS] = at;
    return at <= x->head_room;
}

/* How a sample of targets would lie in these grids. */
typedef struct fit {
    uint32_t sampled, fine, across, down, entries;
} fit;

/* Of a sample: choosing how large cells are shall cost less than filling them.
 * */
static fit try_fit(const ikv_scene *s)
{
    uint32_t stride = s->s.count / SAMPLE + 1;
    fit f = {0, 0, 0, 0, 0};
    for (uint32_t i = 0; i < s->s.count; i += stride) {
        uint16_t q[4];
        if (!box_item(s, item_at(s, *order_at(s, i)), 0, q))
            continue;
        index_home home = home_for(&s->s.index, q);
        f.sampled++;
        f.fine += home.level == 0;
        f.across += (((uint32_t)q[2] - q[0]) >> s->s.index.shift_x[0]) + 1u;
        f.down += (((uint32_t)q[3] - q[1]) >> s->s.index.shift_y[0]) + 1u;
        f.entries += home_size(&home);
    }
    return f;
}

/* Cells as small as there are heads for, but so large that nearly all targets
 * lie in a few of the finest ones. */
static void choose_shifts(ikv_scene *s)
{
    uint32_t cells =
        power_below(s->s.count < s->capacity ? s->s.count : s->capacity);
    uint32_t sx = 15, sy = 15;
    while (cells > 1) {
        if (sx >= sy)
            sx--;
        else
            sy--;
        cells /= 2;
    }
    for (;;) {
        bool fits = lay_out_grids(&s->s.index, sx, sy);
        fit f = try_fit(s);
        bool fine = f.fine * 10 >= f.sampled * 9;
        bool few = f.entries * 9 <= f.sampled * 21; /* 2.33 a target */
        if ((fits && fine && few) || (sx >= 15 && sy >= 15))
            return;
        /* The axis along which targets are long gives way first. */
        if (sx < 15 && (f.across >= f.down || sy >= 15))
            sx++;
        else
            sy++;
    }
}

/* Counts the entries of each cell, for a counting sort. */
static uint32_t count_entries(ikv_scene *s)
{
    uint32_t total = 0;
    for (uint32_t i = 0; i < s->s.index.heads_at[GRID_LEVELS]; i++)
        *head_at(s, i) = 0;
    for (uint32_t i = 0; i < s->s.count; i++) {
        uint32_t place = *order_at(s, i);
        uint16_t q[4];
        index_home *home = home_at(s, place);
        *home = (index_home){.in = 0};
        /* What can't be hit stays so, and is in no cell. */
        *packed_at(s, place) = NEVER_BOX;
        if (!box_item(s, item_at(s, place), 0, q))
            continue;
        *home = home_for(&s->s.index, q);
        *packed_at(s, place) = packed_box(q);
        for (uint32_t k = 0; k < home_size(home); k++)
            ++*head_at(s, home_head(&s->s.index, home, k));
        total += home_size(home);
    }
    return total;
}

/* The entries of a cell lie next to each other; heads hold their ends first,
 * then their starts. */
static void fill_cells(ikv_scene *s, uint32_t total)
{
    scene_index *x = &s->s.index;
    uint32_t at = 0;
    uint32_t cells = x->heads_at[GRID_LEVELS];
    for (uint32_t i = 0; i < cells; i++) {
        uint32_t *head = head_at(s, i);
        at += *head;
        *head = at - *head;
    }
    IKVI_CHECK(at == total && total <= x->entry_room); /* scene-8 */
    for (uint32_t i = 0; i < s->s.count; i++) {
        uint32_t place = *order_at(s, i);
        const index_home *home = home_at(s, place);
        x->level_count[home->level] += home->in;
        for (uint32_t k = 0; home->in && k < home_size(home); k++)
            entry_at(s, (*head_at(s, home_head(x, home, k)))++)->place = place;
    }
    for (uint32_t i = 0, begin = 0; i < cells; i++) {
        uint32_t end = *head_at(s, i);
        for (uint32_t k = begin; k < end; k++)
            entry_at(s, k)->next = k + 1 < end ? k + 1 : NO_ITEM;
        *head_at(s, i) = begin < end ? begin : NO_ITEM;
        begin = end;
    }
    for (uint32_t i = total; i < x->entry_room; i++)
        *entry_at(s, i) =
            (index_entry){0, i + 1 < x->entry_room ? i + 1 : NO_ITEM};
    x->free_entry = total < x->entry_room ? total : NO_ITEM;
}

static void build_grid(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    if (x->reordered)
        make_order(s);
    make_frames(s);
    choose_shifts(s);
    uint32_t total;
    /* A 16th stays free for what moves; the sample may have been kind. */
    while ((total = count_entries(s)) > x->entry_room - x->entry_room / 16) {
        bool across = x->shift_x[0] <= x->shift_y[0];
        lay_out_grids(x, x->shift_x[0] + across, x->shift_y[0] + !across);
    }
    for (uint32_t level = 0; level < GRID_LEVELS; level++)
        x->level_count[level] = 0;
    fill_cells(s, total);
    for (uint32_t i = 0; i < s->s.count; i++)
        item_at(s, *order_at(s, i))->flags &= (uint8_t)~ITEM_DIRTY;
    x->dirty_count = 0;
    x->all_dirty = false;
    x->gridded = true;
    x->updates = 0;
    x->built_for = s->s.count;
    s->s.counters.rebuilds++;
}

/* -------------------------------------------------------------- changes -- */

void ikvi_index_changed(ikv_scene *scene, uint32_t place)
{
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_CHANGED);
    note_dirty(scene, place);
}

/* What gets another key is listed elsewhere in its cells. */
void ikvi_index_rekeys(ikv_scene *scene, uint32_t top)
{
    if (!scene->s.index.gridded)
        return;
    for (uint32_t at = top; at != NO_ITEM; at = ikvi_scene_walk(scene, top, at))
        if (home_at(scene, at)->in) {
            leave_home(scene, at);
            note_dirty(scene, at);
        }
}

void ikvi_index_reordered(ikv_scene *scene)
{
    scene->s.index.reordered = true;
    scene->s.index.settled = false;
}

void ikvi_index_removed(ikv_scene *scene, uint32_t place)
{
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_CHANGED);
    if (scene->s.index.gridded)
        leave_home(scene, place);
    if (!scene->s.index.absent)
        home_at(scene, place)->in = 0;
    ikvi_index_reordered(scene);
}

/* Boxes in the order of a scan, all of them. */
static void refresh_scan(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    if (x->all_dirty) {
        x->quiet = 0;
        s->s.counters.refreshes++;
    }
    x->all_dirty = false;
    x->dirty_count = 0;
    x->gridded = false;
    if (x->reordered || ++x->aged > FRAME_AGE) {
        if (x->reordered)
            make_order(s);
        make_frames(s);
        x->aged = 0;
    }
    for (uint32_t i = 0; i < s->s.count; i++) {
        uint32_t place = *order_at(s, i);
        set_rank(s, place, i);
        box_for_scan(s, place, i);
    }
    /* The last block's other lanes meet nothing. */
    for (uint32_t i = s->s.count; i % LANES != 0; i++)
        set_scan_box(s, i, NULL);
}

static bool update_in_grid(ikv_scene *s, uint32_t place)
{
    scene_item *item = item_at(s, place);
    uint16_t q[4];
    item->flags &= (uint8_t)~ITEM_DIRTY;
    if (!box_item(s, item, 0, q)) {
        *packed_at(s, place) = NEVER_BOX;
        leave_home(s, place);
        return true;
    }
    /* Exact also where it stays in its cells. */
    *packed_at(s, place) = packed_box(q);
    if (home_holds(&s->s.index, home_at(s, place), q))
        return true;
    leave_home(s, place);
    return enter_home(s, place, home_for(&s->s.index, q));
}

static void refresh_grid(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    bool room = true;
    for (uint32_t i = 0; room && i < x->dirty_count; i++) {
        uint32_t place = *dirty_at(s, i);
        if (item_at(s, place)->flags & ITEM_DIRTY)
            room = update_in_grid(s, place);
    }
    x->updates += x->dirty_count;
    x->dirty_count = room ? 0 : x->dirty_count;
    /* After so many moves it may lie badly; and it is made for a number. */
    if (!room || x->updates / 8 > s->s.count || s->s.count / 2 > x->built_for)
        build_grid(s);
}

static void refresh_some(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    for (uint32_t i = 0; i < x->dirty_count; i++) {
        uint32_t place = *dirty_at(s, i);
        if (item_at(s, place)->flags & ITEM_DIRTY)
            box_for_scan(s, place, rank_of(s, place));
    }
    x->dirty_count = 0;
}

/* Brings boxes and cells up to date, and chooses between scan and grid. */
static void refresh(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    if (x->gridded && !x->all_dirty && s->s.count > SCAN_LIMIT / 2) {
        if (x->dirty_count > 0)
            refresh_grid(s);
        x->settled = true;
        return;
    }
    if (x->gridded || x->all_dirty || x->reordered) {
        /* A grid does not keep the order up to date. */
        x->reordered = x->reordered || x->gridded;
        refresh_scan(s);
    } else if (x->dirty_count > 0) {
        refresh_some(s);
    }
    if (x->drifts > s->s.count / 8) {
        x->drifts = 0;
        x->quiet = 0;
    }
    /* So long has nothing much moved that a grid will pay. */
    if (s->s.count > SCAN_LIMIT && ++x->quiet > QUIET_QUERIES)
        build_grid(s);
    /* A scan that may become a grid counts its queries. */
    x->settled = x->gridded || s->s.count <= SCAN_LIMIT;
}

/* ------------------------------------------------------------ searching -- */

/* From `block` on, the first block before `end` of which boxes meet the wanted
 * one, left, top, right, bottom; `met` gets bit 2k for each such lane k. A box
 * of -1 on the right meets none. */
#if defined(__SSE2__) && defined(__GNUC__)
typedef int16_t lanes __attribute__((vector_size(2 * LANES)));
typedef char lane_bytes __attribute__((vector_size(2 * LANES)));

static lanes load_lanes(const int16_t *from)
{
    lanes to;
    memcpy(&to, from, sizeof to);
    return to;
}

IKVI_INLINE const box_block *next_block(const box_block *block,
                                        const box_block *end,
                                        const int16_t q[4], uint32_t *met)
{
    const lanes none = {0}, left = none + q[0], top = none + q[1];
    const lanes right = none + q[2], bottom = none + q[3];
    for (; block < end; block++) {
        lanes out = (load_lanes(block->sides[0]) > right) |
                    (load_lanes(block->sides[1]) > bottom) |
                    (load_lanes(block->sides[2]) < left) |
                    (load_lanes(block->sides[3]) < top);
        uint32_t bytes = (uint32_t)__builtin_ia32_pmovmskb128((lane_bytes)out);
        *met = ~bytes & 0x5555;
        if (bytes != 0xffff)
            break;
    }
    return block;
}
#else
IKVI_INLINE const box_block *next_block(const box_block *block,
                                        const box_block *end,
                                        const int16_t q[4], uint32_t *met)
{
    for (; block < end; block++) {
        *met = 0;
        for (uint32_t k = 0; k < LANES; k++)
            if (block->sides[0][k] <= q[2] && block->sides[1][k] <= q[3] &&
                block->sides[2][k] >= q[0] && block->sides[3][k] >= q[1])
                *met |= 1u << (2 * k);
        if (*met != 0)
            break;
    }
    return block;
}
#endif

static void scan_boxes(const ikv_scene *s, probe *p, const uint16_t q[4])
{
    const int16_t want[4] = {(int16_t)q[0], (int16_t)q[1], (int16_t)q[2],
                             (int16_t)q[3]};
    const uint32_t *order = ikvi_at(s, s->s.index.order);
    const index_layer *layer = layer_at(s, p->layer);
    uint32_t begin = layer->start, end = layer->end;
    const box_block *first = block_of(s, 0), *at = first + begin / LANES;
    const box_block *stop = first + (end + LANES - 1) / LANES;
    uint32_t met = 0;
    for (; (at = next_block(at, stop, want, &met)) < stop; at++) {
        uint32_t rank = (uint32_t)(at - first) * LANES;
        for (; met != 0; met >>= 2, rank++)
            if ((met & 1) && ikvi_probe_offer(p, order[rank]))
                return;
    }
}

static void scan_plainly(ikv_scene *s, probe *p)
{
    if (s->s.index.reordered)
        make_order(s);
    const index_layer *layer = layer_at(s, p->layer);
    for (uint32_t i = layer->start; i < layer->end; i++)
        if (ikvi_probe_offer(p, *order_at(s, i)))
            return;
}

static void search_cell(const ikv_scene *s, probe *p, uint64_t wanted,
                        uint32_t head)
{
    const index_entry *entries = ikvi_at(s, s->s.index.entries);
    const uint64_t *boxes = ikvi_at(s, s->s.index.boxes);
    for (uint32_t at = *head_at(s, head); at != NO_ITEM; at = entries[at].next)
        if (meets(wanted, boxes[entries[at].place]) &&
            ikvi_probe_offer(p, entries[at].place))
            return;
}

/* Several cells: a target that is in some of them counts in the first. */
static void search_cells(const ikv_scene *s, probe *p, uint64_t wanted,
                         uint32_t level, const uint16_t q[4])
{
    const scene_index *x = &s->s.index;
    const index_entry *entries = ikvi_at(s, s->s.index.entries);
    uint32_t x0 = (uint32_t)q[0] >> x->shift_x[level];
    uint32_t y0 = (uint32_t)q[1] >> x->shift_y[level];
    uint32_t x1 = (uint32_t)q[2] >> x->shift_x[level];
    uint32_t y1 = (uint32_t)q[3] >> x->shift_y[level];
    if (x0 == x1 && y0 == y1) {
        search_cell(s, p, wanted, head_index(x, level, x0, y0));
        return;
    }
    for (uint32_t cy = y0; cy <= y1; cy++)
        for (uint32_t cx = x0; cx <= x1; cx++)
            for (uint32_t at = *head_at(s, head_index(x, level, cx, cy));
                 at != NO_ITEM; at = entries[at].next) {
                uint32_t place = entries[at].place;
                const index_home *home = home_at(s, place);
                bool first = cx == (home->x > x0 ? home->x : x0) &&
                             cy == (home->y > y0 ? home->y : y0);
                if (first && meets(wanted, *packed_at(s, place)) &&
                    ikvi_probe_offer(p, place))
                    break;
            }
}

/* Coarse levels come last: most targets are on the fine ones, and the best so
 * far cuts the rest short. */
static void search(ikv_scene *scene, probe *p)
{
    scene_index *x = &scene->s.index;
    uint16_t q[4];
    if (x->absent) {
        scan_plainly(scene, p);
        return;
    }
    if (!x->settled)
        refresh(scene);
    quantised_box(&layer_at(scene, p->layer)->frame, p->box, q);
    if (!x->gridded) {
        scan_boxes(scene, p, q);
        return;
    }
    uint64_t wanted = wanted_box(q);
    for (uint32_t level = 0; level < GRID_LEVELS; level++)
        if (x->level_count[level] > 0)
            search_cells(scene, p, wanted, level, q);
}

void ikvi_index_search(ikv_scene *scene, probe *p)
{
    search(scene, p);
    scene->s.counters.tested += p->tested;
    p->tested = 0;
}

/* ------------------------------------------------------------ validator -- */

static bool listed_once(const ikv_scene *s, uint32_t head, uint32_t place)
{
    uint32_t times = 0;
    for (uint32_t at = *head_at(s, head); at != NO_ITEM;
         at = entry_at(s, at)->next)
        times += entry_at(s, at)->place == place;
    return times == 1;
}

static const char *validate_grid(const ikv_scene *s)
{
    const scene_index *x = &s->s.index;
    uint32_t used = 0, free_ones = 0, listed = 0, levels[GRID_LEVELS] = {0};
    for (uint32_t i = 1; i < s->capacity; i++) {
        const scene_item *item = item_at(s, i);
        const index_home *home = home_at(s, i);
        uint16_t q[4];
        if (item->target == 0)
            continue;
        used += home->in ? home_size(home) : 0;
        levels[home->level] += home->in;
        for (uint32_t k = 0; home->in && k < home_size(home); k++)
            if (!listed_once(s, home_head(x, home, k), i))
                return "scene-5";
        if (x->all_dirty || (item->flags & ITEM_DIRTY))
            continue;
        bool can = box_item(s, item, 0, q);
        if (can != (home->in != 0) ||
            (can &&
             (!home_holds(x, home, q) || *packed_at(s, i) != packed_box(q))))
            return "scene-5";
    }
    for (uint32_t i = 0; i < x->heads_at[GRID_LEVELS]; i++) {
        uint64_t above = UINT64_MAX;
        for (uint32_t at = *head_at(s, i); at != NO_ITEM;
             at = entry_at(s, at)->next) {
            uint64_t key = item_at(s, entry_at(s, at)->place)->key;
            if (key >= above)
                return "scene-5";
            above = key;
            listed++;
        }
    }
    for (uint32_t at = x->free_entry; at != NO_ITEM; at = entry_at(s, at)->next)
        free_ones++;
    if (listed != used)
        return "scene-5";
    for (uint32_t level = 0; level < GRID_LEVELS; level++)
        if (levels[level] != x->level_count[level])
            return "scene-5";
    return used + free_ones == x->entry_room ? NULL : "scene-8";
}

const char *ikvi_index_validate(const ikv_scene *scene)
{
    const scene_index *x = &scene->s.index;
    if (!x->absent && x->gridded)
        return validate_grid(scene);
    if (x->reordered)
        return NULL;
    uint64_t above = UINT64_MAX;
    for (uint32_t i = 0; i < scene->s.count; i++) {
        uint32_t place = *order_at(scene, i);
        const scene_item *item = item_at(scene, place);
        uint16_t q[4];
        if (item->target == 0 || item->key >= above)
            return "scene-6";
        above = item->key;
        if (x->absent || x->all_dirty)
            continue;
        if (rank_of(scene, place) != i)
            return "scene-6";
        if ((item->flags & ITEM_DIRTY) == 0 &&
            !validate_scan_box(scene, i,
                               box_item(scene, item, 0, q) ? q : NULL))
            return "scene-7";
    }
    return NULL;
}
