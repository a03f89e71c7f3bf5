/* scene_grid.c - the grid of cells: built, kept up to date, searched.
 *
 * scene-5  in the grid, a target that can be hit has a box and a home, and is
 *          listed once in each cell of its home, and nowhere else; a cell lists
 *          the topmost first
 * scene-8  entries in cells + free entries == entry_room
 */
#include "scene_index.h"

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

void ikvi_grid_leave(ikv_scene *s, uint32_t place)
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

bool ikvi_grid_build(ikv_scene *s)
{
    scene_index *x = &s->s.index;
    if (x->reordered)
        ikvi_order_make(s);
    ikvi_index_make_frames(s);
    choose_shifts(s);
    /* Where all lie over each other a cell's list is as long as the scene. */
    if (x->heads_at[1] < CELLS_THAT_PAY)
        return false;
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
    x->dirty_count = x->unlisted = x->updates = 0;
    x->all_dirty = false;
    x->gridded = true;
    x->regret = 0;
    x->built_for = s->s.count;
    s->s.counters.rebuilds++;
    return true;
}

/* -------------------------------------------------------------- changes -- */

bool ikvi_grid_update(ikv_scene *s, uint32_t place)
{
    scene_item *item = item_at(s, place);
    uint16_t q[4];
    item->flags &= (uint8_t)~ITEM_DIRTY;
    if (!box_item(s, item, 0, q)) {
        *packed_at(s, place) = NEVER_BOX;
        ikvi_grid_leave(s, place);
        return true;
    }
    /* Exact also where it stays in its cells. */
    *packed_at(s, place) = packed_box(q);
    if (home_holds(&s->s.index, home_at(s, place), q))
        return true;
    ikvi_grid_leave(s, place);
    s->s.index.updates++;
    return enter_home(s, place, home_for(&s->s.index, q));
}

/* ------------------------------------------------------------ searching -- */

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
void ikvi_grid_search(const ikv_scene *s, probe *p, const uint16_t q[4])
{
    const scene_index *x = &s->s.index;
    uint64_t wanted = wanted_box(q);
    for (uint32_t level = 0; level < GRID_LEVELS; level++)
        if (x->level_count[level] > 0)
            search_cells(s, p, wanted, level, q);
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

const char *ikvi_grid_validate(const ikv_scene *s)
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
