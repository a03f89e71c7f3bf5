/* overlap_near.c - which shapes meet: a list of pairs that are near each other,
 * looked through each step.
 *
 * A part's fat box holds it for some steps to come. Pairs whose fat boxes meet
 * are candidates; while all stay within their fat boxes no other pair can meet.
 * A part that leaves its own is looked up anew in the grid that the list was
 * made with; when many do, the list is made anew. Each candidate
 * remembers whether it touches, so that only what begins or ends is looked for.
 *
 * overlap-6  of two parts that are in, whose fat boxes meet and of which one
 *            senses the other, there is a candidate
 *
 * overlap-7  a part's box lies within its fat box
 *
 * overlap-8  a candidate is marked if the two touch by shape
 */
#include "overlap_internal.h"

/* --------------------------------------------------------- looking at -- */

static inline bool pair_meets(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    const near_summary *x = summary_at(o, a), *y = summary_at(o, b);
    return boxes_meet(box_at(o, a), box_at(o, b)) && x->layer == y->layer &&
           ((x->flags & y->flags & PART_PLAIN) != 0 ||
            ikvi_shapes_meet(o, a, b));
}

/* Looks at a candidate. */
static void check_pair(ikv_overlaps *o, near_pair *pair)
{
    uint32_t a = pair_part(pair, 0), b = pair_part(pair, 1);
    bool meets = pair_meets(o, a, b);
    /* As before: nothing to be told, but what flew through. */
    if (IKVI_LIKELY(meets == pair_touches(pair))) {
        if (!meets && IKVI_UNLIKELY(ikvi_pair_passed(o, a, b)))
            ikvi_touch_pass(o, a, b);
        return;
    }
    if (meets)
        meets =
            ikvi_touch_begin(o, a, b, TOUCH_BY_SHAPE, true, NULL) != NO_TOUCH;
    else
        ikvi_touch_end(o, ikvi_touch_find(o, a, b), TOUCH_BY_SHAPE,
                       IKV_OVERLAP_APART);
    mark_pair(pair, meets);
}

static bool touches_by_shape(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    uint32_t touch = ikvi_touch_find(o, a, b);
    return touch != NO_TOUCH &&
           (contact_at(o, touch)->by & TOUCH_BY_SHAPE) != 0;
}

/* The same where it is not known whether they touched; what does is marked as
 * checked. Whether they touch now. */
static bool look_at_pair(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    if (pair_meets(o, a, b))
        return ikvi_touch_check(o, a, b);
    if (ikvi_pair_passed(o, a, b) && !touches_by_shape(o, a, b))
        ikvi_touch_pass(o, a, b);
    return false;
}

/* ----------------------------------------------------------------- grid -- */

void ikvi_near_open(ikv_overlaps *o)
{
    o->s.grid = (overlap_grid){.built = false};
}

static bool is_in(const ikv_overlaps *o, uint32_t place)
{
    return (summary_at(o, place)->flags & PART_IN) != 0;
}

/* So few that looking at each of them is worth it. */
static bool few_move(const ikv_overlaps *o)
{
    return o->mover_count <= o->s.in_count / 4;
}

/* How far a part may go before it is looked up again, along one axis: some
 * steps ahead at its speed, a little to all sides. */
static void fatten(near_box *fat, const near_box *box, uint32_t axis,
                   float ahead, float typical, float margin, bool few)
{
    float size = -box->high[axis] - box->low[axis];
    float slack = (0.05f * size + 0.05f * typical) * margin;
    /* What jumped once shall not be a candidate of all. Where many are fast, each
     * would be one of many: they go as far as they are large. */
    float most = (few ? 4.0f : 0.5f) * (typical + size);
    ahead = ikvi_clamp(ahead, -most, most);
    fat->low[axis] = box->low[axis] - slack + (ahead < 0 ? ahead : 0);
    fat->high[axis] = box->high[axis] - slack - (ahead > 0 ? ahead : 0);
}

/* From a half to one and a half, by the number: those that were looked up together
 * shall not all be looked up together again. */
static float staggered(uint32_t number)
{
    return 0.5f + (float)(number * UINT32_C(2654435769) >> 24) / 256;
}

/* With room for about STEPS_AHEAD steps at its speed. */
static void set_fat(ikv_overlaps *o, uint32_t place, float turn, float margin)
{
    float steps = STEPS_AHEAD * turn * margin;
    const near_part *part = part_at(o, place);
    const near_box *box = box_at(o, place);
    near_box *fat = fat_at(o, place);
    float typical = o->s.grid.extent;
    bool few = few_move(o);
    fatten(fat, box, 0, part->step_x * steps, typical, margin, few);
    fatten(fat, box, 1, part->step_y * steps, typical, margin, few);
    summary_at(o, place)->flags &= (uint8_t)~PART_NEW;
}

static uint32_t cell_along(const overlap_grid *g, uint32_t axis, float x)
{
    uint32_t count = axis == 0 ? g->columns : g->rows;
    float at = (x - g->from[axis]) * g->per[axis];
    /* What is outside of the grid lies in its outermost cells, NaN in the
     * first. */
    if (!(at > 0))
        return 0;
    return at < (float)count ? (uint32_t)at : count - 1;
}

typedef struct cell_range {
    uint32_t x0, y0, x1, y1;
} cell_range;

static cell_range cells_of(const overlap_grid *g, const near_box *fat)
{
    return (cell_range){
        cell_along(g, 0, fat->low[0]), cell_along(g, 1, fat->low[1]),
        cell_along(g, 0, -fat->high[0]), cell_along(g, 1, -fat->high[1])};
}

static uint32_t range_size(const cell_range *r)
{
    return (r->x1 - r->x0 + 1) * (r->y1 - r->y0 + 1);
}

/* The middle of what is in, how far from it things are, and how large. */
static void size_grid(ikv_overlaps *o, float margin)
{
    overlap_grid *g = &o->s.grid;
    double middle[2] = {0, 0}, away[2] = {0, 0}, size = 0, fat = 0;
    double share = o->s.in_count > 0 ? 1.0 / o->s.in_count : 0;
    bool few = few_move(o);
    for (uint32_t i = 1; i < o->capacity; i++) {
        const near_box *box = box_at(o, i);
        if (!is_in(o, i))
            continue;
        for (uint32_t k = 0; k < 2; k++) {
            middle[k] += (double)box->low[k] * share;
            size += (double)(-box->high[k] - box->low[k]) * share / 2;
        }
    }
    g->extent = (float)size;
    for (uint32_t i = 1; i < o->capacity; i++) {
        const near_box *box = box_at(o, i);
        if (!is_in(o, i))
            continue;
        /* After the mean size is known, which margins are made of. */
        set_fat(o, i, few ? staggered(i) : 1, margin);
        for (uint32_t k = 0; k < 2; k++) {
            double d = (double)box->low[k] - middle[k];
            away[k] += (d < 0 ? -d : d) * share;
            fat += (double)(-fat_at(o, i)->high[k] - fat_at(o, i)->low[k]) *
                   share / 2;
        }
    }
    /* Evenly spread, all lies within twice the mean distance. */
    fat = fat < 1e30 ? fat : 1e30;
    double width = 4 * away[0] + fat, height = 4 * away[1] + fat;
    double cell = (double)ikvi_sqrt(width * height * share);
    cell = cell > 1.6 * fat ? cell : 1.6 * fat;
    cell = cell > 1e-30 ? cell : 1;
    /* There is room for so many cells. */
    while ((width / cell + 1) * (height / cell + 1) >= o->cell_room)
        cell *= 1.5;
    g->columns = (uint32_t)(width / cell + 1);
    g->rows = (uint32_t)(height / cell + 1);
    g->from[0] = (float)(middle[0] - width / 2);
    g->from[1] = (float)(middle[1] - height / 2);
    g->per[0] = g->per[1] = (float)(1 / cell);
}

/* Counts what lies in each cell, then where each cell's part of `sorted`
 * begins; false if that is too much. */
static bool count_near_cells(ikv_overlaps *o)
{
    overlap_grid *g = &o->s.grid;
    uint32_t count = g->columns * g->rows, total = 0;
    memset(cell_at(o, 0), 0, (count + 1) * sizeof(uint32_t));
    g->huge_count = 0;
    for (uint32_t i = 1; i < o->capacity; i++) {
        if (!is_in(o, i))
            continue;
        cell_range r = cells_of(g, fat_at(o, i));
        summary_at(o, i)->flags &= (uint8_t)~PART_HUGE;
        /* The few that lie everywhere are compared with all. */
        if (range_size(&r) > CELL_LIMIT && g->huge_count < HUGE_LIMIT) {
            summary_at(o, i)->flags |= PART_HUGE;
            *huge_at(o, g->huge_count++) = i;
            continue;
        }
        total += range_size(&r);
        if (total > 4 * o->capacity)
            return false;
        for (uint32_t y = r.y0; y <= r.y1; y++)
            for (uint32_t x = r.x0; x <= r.x1; x++)
                ++*cell_at(o, y * g->columns + x);
    }
    for (uint32_t i = 0, sum = 0; i <= count; i++) {
        uint32_t here = *cell_at(o, i);
        *cell_at(o, i) = sum + here; /* the end: filling goes down from it */
        sum += here;
    }
    return true;
}

static void fill_near_cells(ikv_overlaps *o)
{
    overlap_grid *g = &o->s.grid;
    /* Backwards, as cells are filled from their ends: each holds rising
     * places. */
    for (uint32_t i = o->capacity; i-- > 1;) {
        if (!is_in(o, i) || (summary_at(o, i)->flags & PART_HUGE) != 0)
            continue;
        cell_range r = cells_of(g, fat_at(o, i));
        for (uint32_t y = r.y0; y <= r.y1; y++)
            for (uint32_t x = r.x0; x <= r.x1; x++)
                *sorted_at(o, --*cell_at(o, y * g->columns + x)) = i;
    }
    uint32_t count = g->columns * g->rows;
    for (uint32_t i = 0; i < count; i++)
        *cell_at(o, o->cell_room + i) = NO_TOUCH;
    g->nodes = *cell_at(o, count) / 2 + 1;
    g->free_node = NO_TOUCH;
}

/* ----------------------------------------------------------- candidates -- */

static void link_pair(ikv_overlaps *o, uint32_t index)
{
    near_pair *pair = pair_at(o, index);
    for (uint32_t side = 0; side < SIDES; side++) {
        uint32_t *head = &part_at(o, pair_part(pair, side))->pairs;
        pair->next[side] = *head;
        *head = index * 2 + side;
    }
}

static void link_all(ikv_overlaps *o)
{
    /* Made when somebody asks: while most move the list is walked from end to
     * end. */
    if (o->s.grid.linked)
        return;
    o->s.grid.linked = true;
    IKVI_CHECK(o->s.grid.free_pairs == 0); /* only what is linked is dropped */
    for (uint32_t i = 0; i < o->capacity; i++)
        part_at(o, i)->pairs = NO_TOUCH;
    for (uint32_t i = o->s.pair_count; i-- > 0;)
        link_pair(o, i);
}

/* The lower place first, so that a pair is the same whoever found
 * it. */
static bool add_pair(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    overlap_grid *g = &o->s.grid;
    bool again = g->free_pairs > 0;
    uint32_t index = again ? g->free_pair : o->s.pair_count;
    if (index == o->pair_room)
        return false;
    IKVI_CHECK(a != b && is_in(o, a) && is_in(o, b));
    near_pair *pair = pair_at(o, index);
    if (again)
        g->free_pair = pair->next[0];
    g->free_pairs -= again;
    o->s.pair_count += !again;
    /* Who looks at it finds out whether it touches. */
    pair->part[0] = a < b ? a : b;
    pair->part[1] = a < b ? b : a;
    if (g->linked)
        link_pair(o, index);
    uint32_t count = o->s.pair_count - g->free_pairs;
    if (count > o->s.counters.pairs_high)
        o->s.counters.pairs_high = count;
    return true;
}

static inline bool are_near(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    return boxes_meet(fat_at(o, a), fat_at(o, b)) &&
           pair_counts(summary_at(o, a), summary_at(o, b));
}

/* A pair that shares several cells is taken in the one where the corner of what
 * they share lies. */
static bool is_home(const overlap_grid *g, const near_box *a, const near_box *b,
                    uint32_t x, uint32_t y)
{
    float left = a->low[0] > b->low[0] ? a->low[0] : b->low[0];
    float top = a->low[1] > b->low[1] ? a->low[1] : b->low[1];
    return cell_along(g, 0, left) == x && cell_along(g, 1, top) == y;
}

/* Whether there are so many that what is needed next may not be near by. */
static inline bool fetch_pays(const ikv_overlaps *o)
{
    return o->s.in_count > CACHED_PARTS;
}

/* What pairing will need a little later: nothing hangs on it. */
static inline void fetch_sorted(const ikv_overlaps *o, uint32_t index)
{
    if (fetch_pays(o) && index < 4 * o->capacity) {
        IKVI_FETCH(fat_at(o, *sorted_at(o, index)));
        IKVI_FETCH(summary_at(o, *sorted_at(o, index)));
    }
}

/* Two parts may share several cells: only their home cell, the first that both
 * are in, makes the pair. */
IKVI_APART static bool pair_cell(ikv_overlaps *o, uint32_t x, uint32_t y)
{
    const overlap_grid *g = &o->s.grid;
    uint32_t begin = *cell_at(o, y * g->columns + x);
    uint32_t end = *cell_at(o, y * g->columns + x + 1);
    for (uint32_t i = begin; i < end; i++) {
        uint32_t a = *sorted_at(o, i);
        const near_box *fat = fat_at(o, a);
        fetch_sorted(o, i + 24);
        for (uint32_t k = i + 1; k < end; k++) {
            uint32_t b = *sorted_at(o, k);
            if (boxes_meet(fat, fat_at(o, b)) &&
                pair_counts(summary_at(o, a), summary_at(o, b)) &&
                is_home(g, fat, fat_at(o, b), x, y) && !add_pair(o, a, b))
                return false;
        }
    }
    return true;
}

static bool pair_huge(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->s.grid.huge_count; i++) {
        uint32_t a = *huge_at(o, i);
        for (uint32_t b = 1; b < o->capacity; b++) {
            /* Two huge ones are a pair once. */
            bool later = (summary_at(o, b)->flags & PART_HUGE) == 0 || b > a;
            if (is_in(o, b) && b != a && later && are_near(o, a, b) &&
                !add_pair(o, a, b))
                return false;
        }
    }
    return true;
}

/* Cells grow until all parts' cells fit into the room that there is. */
static bool make_list(ikv_overlaps *o, float margin)
{
    overlap_grid *g = &o->s.grid;
    o->s.pair_count = g->free_pairs = 0;
    g->linked = false;
    size_grid(o, margin);
    while (!count_near_cells(o)) {
        g->per[0] /= 2;
        g->per[1] /= 2;
        g->columns = g->columns / 2 + 1;
        g->rows = g->rows / 2 + 1;
    }
    fill_near_cells(o);
    for (uint32_t y = 0; y < g->rows; y++)
        for (uint32_t x = 0; x < g->columns; x++)
            if (!pair_cell(o, x, y))
                return false;
    return pair_huge(o);
}

/* With less margin if there is no room for so many pairs. */
static bool rebuild_list(ikv_overlaps *o)
{
    o->s.counters.rebuilds++;
    o->s.grid.built = true;
    o->s.grid.scanned = false;
    static const float margins[] = {1, 0.25f, 0.05f, 0};
    for (uint32_t i = 0; i < 4; i++) {
        if (!make_list(o, margins[i]))
            continue;
        o->s.grid.built_pairs = o->s.pair_count;
        return true;
    }
    /* No list holds now: all are compared, and then those that move. */
    o->s.grid.built = false;
    o->s.grid.scanned = true;
    o->s.grid.moves = 0;
    o->s.pair_count = o->s.grid.free_pairs = 0;
    if (o->s.counters.scans == 0)
        ikvi_report(
            &o->reporter, IKV_REPORT_ERROR, IKV_FULL_PAIRS, "overlap",
            "more pairs are near each other than there is room for, and "
            "all are compared with all: raise overlaps.pairs");
    return false;
}

/* --------------------------------------------------------------- strays -- */

/* Takes a candidate out of the list, and out of both parts' own; `link` is where
 * one of these names it. Its place is used again: until then it is a pair of the
 * root with itself, which never meet. False if the other's is so long that to
 * keep it is cheaper. */
static bool drop_pair(ikv_overlaps *o, uint32_t *link)
{
    overlap_grid *g = &o->s.grid;
    uint32_t index = *link / 2, side = *link % 2, steps = 0;
    near_pair *pair = pair_at(o, index);
    uint32_t *other = &part_at(o, pair_part(pair, !side))->pairs;
    for (; *other / 2 != index && steps < DROP_STEPS; steps++)
        other = &pair_at(o, *other / 2)->next[*other % 2];
    if (*other / 2 != index)
        return false;
    *link = pair->next[side];
    *other = pair->next[!side];
    *pair = (near_pair){{ROOT_ITEM, ROOT_ITEM}, {g->free_pair, NO_TOUCH}};
    g->free_pair = index;
    g->free_pairs++;
    return true;
}

/* Whom it is a candidate with already is not looked at again; those that it has
 * left behind are candidates no more. */
static void mark_known(ikv_overlaps *o, uint32_t place)
{
    uint32_t *link = &part_at(o, place)->pairs;
    while (*link != NO_TOUCH) {
        near_pair *pair = pair_at(o, *link / 2);
        uint32_t other = pair_part(pair, !(*link % 2));
        if (!pair_touches(pair) && !are_near(o, place, other) &&
            drop_pair(o, link))
            continue;
        part_at(o, other)->seen = o->s.grid.search;
        link = &pair->next[*link % 2];
    }
    part_at(o, place)->seen = o->s.grid.search;
}

static bool meet_stray(ikv_overlaps *o, uint32_t place, uint32_t other)
{
    near_part *part = part_at(o, other);
    /* In several cells, or a candidate already. */
    if (part->seen == o->s.grid.search)
        return true;
    part->seen = o->s.grid.search;
    return !is_in(o, other) || !are_near(o, place, other) ||
           add_pair(o, place, other);
}

/* It is in a cell's list from now on; false if there is no room. */
static bool enter_cell(ikv_overlaps *o, uint32_t place, uint32_t *head)
{
    overlap_grid *g = &o->s.grid;
    uint32_t index = g->free_node;
    if (index != NO_TOUCH)
        g->free_node = node_at(o, index)->next;
    else if (g->nodes < o->node_room)
        index = g->nodes++;
    else
        return false;
    *node_at(o, index) = (near_node){place, *head};
    *head = index;
    return true;
}

/* What it entered where it was before. */
static void leave_cell(ikv_overlaps *o, uint32_t place, uint32_t cell)
{
    uint32_t *link = cell_at(o, o->cell_room + cell);
    while (*link != NO_TOUCH && node_at(o, *link)->part != place)
        link = &node_at(o, *link)->next;
    uint32_t index = *link;
    if (index == NO_TOUCH)
        return;
    *link = node_at(o, index)->next;
    node_at(o, index)->next = o->s.grid.free_node;
    o->s.grid.free_node = index;
}

static void leave_cells(ikv_overlaps *o, uint32_t place)
{
    cell_range r = cells_of(&o->s.grid, fat_at(o, place));
    if (range_size(&r) > CELL_LIMIT)
        return;
    for (uint32_t y = r.y0; y <= r.y1; y++)
        for (uint32_t x = r.x0; x <= r.x1; x++)
            leave_cell(o, place, y * o->s.grid.columns + x);
}

/* All in a cell; and it is one of them from now on. */
static bool meet_cell(ikv_overlaps *o, uint32_t place, uint32_t cell)
{
    uint32_t *head = cell_at(o, o->cell_room + cell);
    /* Those it was made with, then those that came since. */
    for (uint32_t i = *cell_at(o, cell); i < *cell_at(o, cell + 1); i++) {
        IKVI_FETCH(part_at(o, *sorted_at(o, i)));
        IKVI_FETCH(fat_at(o, *sorted_at(o, i)));
        IKVI_FETCH(summary_at(o, *sorted_at(o, i)));
    }
    for (uint32_t i = *cell_at(o, cell); i < *cell_at(o, cell + 1); i++)
        if (!meet_stray(o, place, *sorted_at(o, i)))
            return false;
    for (uint32_t at = *head; at != NO_TOUCH; at = node_at(o, at)->next)
        if (!meet_stray(o, place, node_at(o, at)->part))
            return false;
    return enter_cell(o, place, head);
}

static bool meet_all(ikv_overlaps *o, uint32_t place)
{
    overlap_grid *g = &o->s.grid;
    uint32_t at = 0;
    while (at < g->huge_count && *huge_at(o, at) != place)
        at++;
    if (at == HUGE_LIMIT)
        return false;
    *huge_at(o, at) = place;
    g->huge_count += at == g->huge_count;
    for (uint32_t i = 1; i < o->capacity; i++)
        if (!meet_stray(o, place, i))
            return false;
    return true;
}

/* Looks a part up again; false if the list must be made anew. */
static bool relocate(ikv_overlaps *o, uint32_t place)
{
    overlap_grid *g = &o->s.grid;
    o->s.counters.strays++;
    /* A number of its own for each search: marks need no clearing. */
    g->search++;
    leave_cells(o, place);
    set_fat(o, place, staggered(g->search), 1);
    mark_known(o, place);
    cell_range r = cells_of(g, fat_at(o, place));
    if (range_size(&r) > CELL_LIMIT)
        return meet_all(o, place);
    for (uint32_t i = 0; i < g->huge_count; i++)
        if (!meet_stray(o, place, *huge_at(o, i)))
            return false;
    for (uint32_t y = r.y0; y <= r.y1; y++)
        for (uint32_t x = r.x0; x <= r.x1; x++)
            if (!meet_cell(o, place, y * g->columns + x))
                return false;
    return true;
}

static bool relocate_strays(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->mover_count; i++)
        if ((summary_at(o, *mover_at(o, i))->flags & PART_STRAY) != 0 &&
            !relocate(o, *mover_at(o, i)))
            return false;
    return true;
}

void ikvi_near_forget(ikv_overlaps *o, uint32_t place)
{
    if (!o->s.grid.built)
        return;
    link_all(o);
    uint32_t at = part_at(o, place)->pairs;
    while (at != NO_TOUCH) {
        /* The pairs stay: who is there later, near or not, is asked again. */
        near_pair *pair = pair_at(o, at / 2);
        if (pair_touches(pair))
            mark_pair(pair, touches_by_shape(o, pair_part(pair, 0),
                                             pair_part(pair, 1)));
        at = pair_at(o, at / 2)->next[at % 2];
    }
}

/* -------------------------------------------------------------- finding -- */

/* Pairs whose touches begin or end, or may: what these are kept in is fetched
 * for all of them at once, rather than waited for one after another. */
typedef struct pair_batch {
    uint32_t count;
    near_pair *pairs[PAIRS_AT_ONCE];
} pair_batch;

/* The list is new: whether they touched is not known. */
static void check_new_pair(ikv_overlaps *o, near_pair *pair)
{
    mark_pair(pair, look_at_pair(o, pair_part(pair, 0), pair_part(pair, 1)));
}

static void finish_batch(ikv_overlaps *o, pair_batch *batch,
                         void (*check)(ikv_overlaps *o, near_pair *pair))
{
    for (uint32_t i = 0; i < batch->count; i++)
        ikvi_touch_fetch(o, pair_part(batch->pairs[i], 0),
                         pair_part(batch->pairs[i], 1));
    for (uint32_t i = 0; i < batch->count; i++)
        check(o, batch->pairs[i]);
    batch->count = 0;
}

static inline void add_to_batch(ikv_overlaps *o, pair_batch *batch,
                                near_pair *pair,
                                void (*check)(ikv_overlaps *o, near_pair *pair))
{
    ikvi_touch_fetch_heads(o, pair_part(pair, 0), pair_part(pair, 1));
    batch->pairs[batch->count++] = pair;
    if (batch->count == PAIRS_AT_ONCE)
        finish_batch(o, batch, check);
}

/* Most go on as they were, which is seen here: between two unturned rectangles
 * boxes say all. */
static inline bool pair_goes_on(const ikv_overlaps *o, const near_pair *pair)
{
    const near_summary *summaries = summary_at(o, 0);
    const near_summary *a = &summaries[pair_part(pair, 0)];
    const near_summary *b = &summaries[pair_part(pair, 1)];
    bool meets = boxes_meet(&a->box, &b->box);
    return meets == pair_touches(pair) && o->s.swept_count == 0 &&
           (!meets || (a->flags & b->flags & PART_PLAIN) != 0);
}

/* All of the list; who is in a pair is fetched some pairs ahead, if it may not
 * be near by. */
static inline void check_candidates(ikv_overlaps *o,
                                    void (*check)(ikv_overlaps *o,
                                                  near_pair *pair))
{
    const near_summary *summaries = summary_at(o, 0);
    near_pair *pairs = pair_at(o, 0);
    uint32_t count = o->s.pair_count;
    uint32_t ahead = fetch_pays(o) ? PAIRS_AHEAD : count;
    pair_batch batch;
    batch.count = 0;
    for (uint32_t i = 0; i < count; i++) {
        if (ahead < count - i) {
            IKVI_FETCH(&summaries[pair_part(&pairs[i + ahead], 0)]);
            IKVI_FETCH(&summaries[pair_part(&pairs[i + ahead], 1)]);
        }
        if (!pair_goes_on(o, &pairs[i]))
            add_to_batch(o, &batch, &pairs[i], check);
    }
    finish_batch(o, &batch, check);
}

/* One candidate of a mover; gives its next one. */
static uint32_t check_candidate(ikv_overlaps *o, uint32_t at, pair_batch *batch)
{
    near_pair *pair = pair_at(o, at / 2);
    uint32_t place = pair_part(pair, at % 2),
             other = pair_part(pair, !(at % 2));
    /* Where both move the pair is of the lower one. */
    if (((summary_at(o, other)->flags & PART_MOVED) == 0 || other > place) &&
        !pair_goes_on(o, pair))
        add_to_batch(o, batch, pair, check_pair);
    return pair->next[at % 2];
}

/* Where one of several movers is in its list, which is one wait for memory after
 * another. */
typedef struct mover_walk {
    uint32_t at;  /* NO_TOUCH: there is no mover left for it */
    bool fetched; /* who the other is */
} mover_walk;

/* Goes to a candidate, or to the first one of the next mover that has one. */
static bool walk_to(const ikv_overlaps *o, mover_walk *walk, uint32_t at,
                    uint32_t *movers)
{
    while (at == NO_TOUCH && *movers < o->mover_count) {
        if (*movers + MOVERS_AHEAD < o->mover_count)
            IKVI_FETCH(part_at(o, *mover_at(o, *movers + MOVERS_AHEAD)));
        at = part_at(o, *mover_at(o, (*movers)++))->pairs;
    }
    *walk = (mover_walk){at, false};
    if (at == NO_TOUCH)
        return false;
    IKVI_FETCH(pair_at(o, at / 2));
    return true;
}

static void fetch_other(const ikv_overlaps *o, mover_walk *walk)
{
    const near_pair *pair = pair_at(o, walk->at / 2);
    IKVI_FETCH(summary_at(o, pair_part(pair, !(walk->at % 2))));
    walk->fetched = true;
}

/* When few move: the candidates of those alone, each once. Several movers take
 * turns, so that what one of them needs comes while the others are looked at. */
static void find_by_movers(ikv_overlaps *o)
{
    mover_walk walks[MOVERS_AT_ONCE];
    pair_batch batch;
    uint32_t movers = 0, walking = 0;
    batch.count = 0;
    link_all(o);
    for (uint32_t i = 0; i < MOVERS_AT_ONCE; i++)
        walking += walk_to(o, &walks[i], NO_TOUCH, &movers);
    for (uint32_t i = 0; walking > 0; i = (i + 1) % MOVERS_AT_ONCE) {
        mover_walk *w = &walks[i];
        if (w->at == NO_TOUCH)
            continue;
        if (!w->fetched)
            fetch_other(o, w);
        else if (!walk_to(o, w, check_candidate(o, w->at, &batch), &movers))
            walking--;
    }
    finish_batch(o, &batch, check_pair);
}

/* Ends a mover's touches of which the two have come apart. */
static void end_parted(ikv_overlaps *o, uint32_t place)
{
    uint32_t at = part_at(o, place)->contacts;
    while (at != NO_TOUCH) {
        const overlap_contact *t = contact_at(o, at / 2);
        uint32_t after = t->links.after[at % 2];
        if ((t->by & TOUCH_BY_SHAPE) != 0 &&
            !pair_meets(o, t->place[0], t->place[1]))
            ikvi_touch_end(o, at / 2, TOUCH_BY_SHAPE, IKV_OVERLAP_APART);
        at = after;
    }
}

/* Begins what has not yet begun. */
static void look_again(ikv_overlaps *o, uint32_t a, uint32_t b)
{
    if (!boxes_meet(box_at(o, a), box_at(o, b)) || touches_by_shape(o, a, b))
        return;
    if (pair_meets(o, a, b))
        ikvi_touch_begin(o, a, b, TOUCH_BY_SHAPE, true, NULL);
    else if (ikvi_pair_passed(o, a, b))
        ikvi_touch_pass(o, a, b);
}

/* Where there is no list and few move: each of those with all; all else touches
 * as in the last step. */
static void scan_movers(ikv_overlaps *o)
{
    for (uint32_t i = 0; i < o->mover_count; i++) {
        uint32_t place = *mover_at(o, i);
        for (uint32_t k = 1; k < o->capacity; k++) {
            /* Where both move the pair is of the lower one. */
            bool own = (summary_at(o, k)->flags & PART_MOVED) == 0 || k > place;
            if (is_in(o, k) && own && k != place)
                look_again(o, place < k ? place : k, place < k ? k : place);
        }
    }
    /* Then what has come apart: until here it is known that it touched. */
    for (uint32_t i = 0; i < o->mover_count; i++)
        end_parted(o, *mover_at(o, i));
}

/* Each with each. */
static void scan_all(ikv_overlaps *o)
{
    uint32_t count = 0;
    o->s.counters.scans++;
    for (uint32_t i = 1; i < o->capacity; i++)
        if (is_in(o, i))
            *sorted_at(o, count++) = i;
    for (uint32_t i = 0; i < count; i++)
        for (uint32_t k = i + 1; k < count; k++) {
            uint32_t a = *sorted_at(o, i), b = *sorted_at(o, k);
            if (boxes_meet(box_at(o, a), box_at(o, b)))
                look_at_pair(o, a, b);
        }
}

/* The list is of pairs whose boxes, made larger, meet: it holds while nobody
 * leaves its larger box. A few that do are taken out and in again; for many it
 * is made anew. */
void ikvi_near_find(ikv_overlaps *o)
{
    if (o->plain) {
        scan_all(o);
        ikvi_touch_end_unchecked(o);
        return;
    }
    /* A list is tried again when as many have moved as there are. */
    o->s.grid.moves += o->mover_count;
    if (o->s.grid.scanned && few_move(o) && o->s.grid.moves < o->s.in_count) {
        scan_movers(o);
        return;
    }
    uint32_t strays = o->stray_count;
    bool stale = !o->s.grid.built || strays > o->s.in_count / 8 + 16 ||
                 o->s.pair_count > 2 * o->s.grid.built_pairs + 256;
    if (!stale && strays > 0) {
        link_all(o);
        stale = !relocate_strays(o);
    }
    /* Nobody is in, and nobody was: no list is made of nothing. */
    if (stale && o->s.in_count == 0 && o->s.counters.touching == 0)
        return;
    if (stale) {
        if (rebuild_list(o))
            check_candidates(o, check_new_pair);
        else
            scan_all(o);
        ikvi_touch_end_unchecked(o);
    } else if (few_move(o)) {
        find_by_movers(o);
    } else {
        check_candidates(o, check_pair);
    }
}

/* ----------------------------------------------------------- validating -- */

static bool has_pair(const ikv_overlaps *o, uint32_t a, uint32_t b)
{
    for (uint32_t i = 0; i < o->s.pair_count; i++)
        if (pair_part(pair_at(o, i), 0) == a &&
            pair_part(pair_at(o, i), 1) == b)
            return true;
    return false;
}

const char *ikvi_near_validate(const ikv_overlaps *o)
{
    bool changed = o->s.changes.count > 0;
    if (!o->s.grid.built || o->plain || changed)
        return NULL;
    for (uint32_t a = 1; a < o->capacity; a++) {
        if (!is_in(o, a))
            continue;
        if (!box_lies_in(box_at(o, a), fat_at(o, a)))
            return "overlap-7";
        for (uint32_t b = a + 1; b < o->capacity; b++)
            if (is_in(o, b) && are_near(o, a, b) && !has_pair(o, a, b))
                return "overlap-6";
    }
    for (uint32_t i = 0; i < o->s.pair_count; i++) {
        const near_pair *pair = pair_at(o, i);
        uint32_t a = pair_part(pair, 0), b = pair_part(pair, 1);
        if (pair_counts(summary_at(o, a), summary_at(o, b)) && is_in(o, a) &&
            is_in(o, b) && pair_touches(pair) != touches_by_shape(o, a, b))
            return "overlap-8";
    }
    return NULL;
}
