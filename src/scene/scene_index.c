/* scene_index.c - finds the targets that a query may meet.
 *
 * Each target's box is kept in 15-bit whole numbers, rounded outwards, four of
 * them in one 64-bit word, so that one subtraction compares all four sides.
 * Small scenes, and those where many targets move, are scanned in order from
 * the topmost down. Else a grid of cells lists who is near; there are four of
 * them, each eight times coarser, the last a single cell; a target is in the
 * finest one where it covers no more than three by three cells. Where many move
 * and few are asked for, a scan is cheaper than any grid: what the other of the two
 * would have spared is added up, and leads to it. A scan's boxes are a little
 * larger than the targets, so that what moves a little needs no new box.
 *
 * Both give candidates alone; ikvi_probe_offer() tests them exactly.
 *
 * scene-7  in a scan a box that holds that of order[i] is at i; what is not so,
 *          here or in the grid, is marked dirty, or all is
 */
#include "scene_index.h"

/* -------------------------------------------------------------- opening -- */

void ikvi_index_layout(ikv_scene *scene, ikvi_layout *l, bool plain)
{
    scene_index *x = &scene->s.index;
    size_t n = scene->capacity, before;
    x->absent = plain;
    ikvi_order_layout(scene, l);
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

/* --------------------------------------------------------- a scan's boxes -- */

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

/* Then more than those that are dirty will not lie in their boxes soon. */
static bool most_move(const ikv_scene *s)
{
    const scene_index *x = &s->s.index;
    return x->dirty_count + x->unlisted + x->drifts > s->s.count / 2;
}

/* What finds no room in the list is found by its flag. */
static void note_dirty(ikv_scene *scene, uint32_t place)
{
    scene_index *x = &scene->s.index;
    scene_item *item = item_at(scene, place);
    x->settled = false;
    if (x->absent || x->all_dirty || (item->flags & ITEM_DIRTY))
        return;
    IKVI_CHECK(place != ROOT_ITEM && item->target != 0);
    item->flags |= ITEM_DIRTY;
    if (x->dirty_count < x->dirty_room)
        *dirty_at(scene, x->dirty_count++) = place;
    else if (!x->gridded && most_move(scene))
        x->all_dirty = true;
    else
        x->unlisted++;
}

/* While the scene is scanned, boxes are made so much larger that small moves
 * need nothing. */
void ikvi_index_moved(ikv_scene *scene, uint32_t place)
{
    scene_index *x = &scene->s.index;
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_MOVED);
    const scene_item *item = item_at(scene, place);
    x->drifts += x->all_dirty;
    if (!x->gridded && !x->absent && !x->all_dirty) {
        /* A half of the slack, so that rounding can't matter. */
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
            ikvi_grid_leave(scene, at);
            note_dirty(scene, at);
        }
}

void ikvi_index_reordered(ikv_scene *scene)
{
    scene->s.index.reordered = scene->s.index.shuffled = true;
    scene->s.index.settled = false;
}

void ikvi_index_removed(ikv_scene *scene, uint32_t place)
{
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_CHANGED);
    if (scene->s.index.gridded)
        ikvi_grid_leave(scene, place);
    if (!scene->s.index.absent)
        home_at(scene, place)->in = 0;
    ikvi_index_reordered(scene);
}

/* Boxes in the order of a scan, all of them. */
static void refresh_scan(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    s->s.counters.refreshes += x->all_dirty;
    /* Where they lie is another matter now. */
    if (x->all_dirty || x->reordered)
        x->crowded = false;
    x->all_dirty = false;
    x->dirty_count = x->unlisted = x->updates = 0;
    x->gridded = false;
    if (x->reordered || ++x->aged > FRAME_AGE) {
        if (x->reordered)
            ikvi_order_make(s);
        ikvi_index_make_frames(s);
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

/* A grid, if it pays; else a scan, until they lie otherwise. */
static void try_grid(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    if (ikvi_grid_build(s))
        return;
    x->reordered = true;
    refresh_scan(s);
    x->crowded = true;
    x->regret = 0;
}

/* False as soon as an update is. */
static bool update_dirty(ikv_scene *s, bool (*update)(ikv_scene *, uint32_t))
{
    scene_index *x = &s->s.index;
    for (uint32_t i = 0; i < x->dirty_count; i++) {
        uint32_t place = *dirty_at(s, i);
        if ((item_at(s, place)->flags & ITEM_DIRTY) && !update(s, place))
            return false;
    }
    /* Looking at all flags is little beside so many updates. */
    for (uint32_t at = 1; x->unlisted > 0 && at < s->capacity; at++) {
        const scene_item *item = item_at(s, at);
        if (item->target != 0 && (item->flags & ITEM_DIRTY) && !update(s, at))
            return false;
    }
    x->dirty_count = x->unlisted = 0;
    return true;
}

static void refresh_grid(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    bool room = update_dirty(s, ikvi_grid_update);
    /* After so many moves it may lie badly; and it is made for a number. */
    if (!room || x->updates / 8 > s->s.count || s->s.count / 2 > x->built_for)
        try_grid(s);
}

static bool update_scan(ikv_scene *s, uint32_t place)
{
    box_for_scan(s, place, rank_of(s, place));
    s->s.index.updates++;
    return true;
}

static void refresh_some(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    update_dirty(s, update_scan);
    x->crowded = x->crowded && x->updates <= s->s.count;
}

/* In a grid each move costs more than for a scan, in a scan each query and each new
 * order. Adds up what the other would have spared since this one was chosen, in
 * queries by scan; what moved last weighs against the queries that follow. False if
 * a grid is not worth keeping. */
static bool weigh(ikv_scene *s, uint32_t moved)
{
    scene_index *x = &s->s.index;
    float all = s->s.count > CACHED_TARGETS ? FAR_MOVES : NEAR_MOVES;
    float share = (float)moved / (float)(s->s.count + 1);
    float moves = ikvi_clamp(share, 0, 1) * all, asked = (float)x->asked;
    if (x->shuffled && !x->all_dirty)
        asked += REORDERING;
    x->asked = x->drifts = 0;
    x->shuffled = false;
    if (!x->gridded) {
        float least = x->regret < -moves ? x->regret : -moves;
        x->regret = ikvi_clamp(x->regret + asked - moves, least, MOST_REGRET);
        return true;
    }
    x->regret = ikvi_clamp(x->regret + moves - asked, 0, MOST_REGRET);
    if (x->regret < MOST_REGRET)
        return true;
    x->regret = -moves;
    return false;
}

/* Brings boxes and cells up to date, and chooses between scan and grid. */
static void refresh(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    uint32_t dirty = x->dirty_count + x->unlisted, moved = dirty + x->drifts;
    bool worth = weigh(s, moved) && s->s.count > SCAN_LIMIT / 2;
    if (x->gridded && !x->all_dirty && worth) {
        if (dirty > 0)
            refresh_grid(s);
        x->settled = true;
        return;
    }
    if (x->gridded || x->all_dirty || x->reordered ||
        x->updates / 8 > s->s.count) {
        /* A grid does not keep the order up to date. */
        x->reordered = x->reordered || x->gridded;
        refresh_scan(s);
    } else if (dirty > 0) {
        refresh_some(s);
    }
    if (s->s.count > SCAN_LIMIT && !x->crowded && x->regret > QUIET_QUERIES)
        try_grid(s);
    /* A scan that may become a grid counts its queries. */
    x->settled = x->gridded || x->crowded || s->s.count <= SCAN_LIMIT;
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

static void search(ikv_scene *scene, probe *p)
{
    scene_index *x = &scene->s.index;
    uint16_t q[4];
    if (x->absent) {
        ikvi_order_search(scene, p);
        return;
    }
    x->asked++;
    if (!x->settled)
        refresh(scene);
    quantised_box(&layer_at(scene, p->layer)->frame, p->box, q);
    if (!x->gridded) {
        scan_boxes(scene, p, q);
        return;
    }
    ikvi_grid_search(scene, p, q);
}

void ikvi_index_search(ikv_scene *scene, probe *p)
{
    search(scene, p);
    scene->s.counters.tested += p->tested;
    p->tested = 0;
}

/* ------------------------------------------------------------ validator -- */

const char *ikvi_index_validate(const ikv_scene *scene)
{
    const scene_index *x = &scene->s.index;
    if (!x->absent && x->gridded)
        return ikvi_grid_validate(scene);
    const char *broken = ikvi_order_validate(scene);
    if (broken != NULL || x->reordered || x->absent || x->all_dirty)
        return broken;
    for (uint32_t i = 0; i < scene->s.count; i++) {
        uint32_t place = *order_at(scene, i);
        const scene_item *item = item_at(scene, place);
        uint16_t q[4];
        if (rank_of(scene, place) != i)
            return "scene-7";
        if ((item->flags & ITEM_DIRTY) == 0 &&
            !validate_scan_box(scene, i,
                               box_item(scene, item, 0, q) ? q : NULL))
            return "scene-7";
    }
    return NULL;
}
