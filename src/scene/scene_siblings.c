/* scene_siblings.c - the order of siblings, and the keys that say where an item is
 * in a walk of the whole tree.
 */
#include "scene_internal.h"

/* Distances of keys: of what is added at the end, and at most between others.
 */
#define KEY_STEP (UINT64_C(1) << 32)
#define KEY_NEAR (UINT64_C(1) << 16)

/* HIT1: by layer, z and age among siblings. Whether a sibling lies above where
 * an item is to go: above those of its own layer and z, or beneath them. */
static bool lies_above(const scene_item *sibling, const scene_item *item,
                       bool lowest)
{
    if (sibling->layer != item->layer)
        return sibling->layer > item->layer;
    /* Of equals the one that came last lies above. */
    return sibling->z > item->z || (lowest && sibling->z == item->z);
}

/* Siblings on both sides of where an item is to go: the nearest ones that are
 * known, or NO_ITEM. */
typedef struct neighbours {
    uint32_t under, over;
} neighbours;

/* One step nearer from each; true once *beneath is just beneath it. Both ends
 * of the siblings have been asked: what is sought lies between. */
static bool step_near(const ikv_scene *scene, const scene_item *item,
                      bool lowest, neighbours *n, uint32_t *beneath)
{
    if (n->under != NO_ITEM) {
        *beneath = n->under;
        n->under = item_at(scene, n->under)->above;
        if (lies_above(item_at(scene, n->under), item, lowest))
            return true;
    }
    if (n->over != NO_ITEM) {
        n->over = item_at(scene, n->over)->below;
        *beneath = n->over;
        return !lies_above(item_at(scene, n->over), item, lowest);
    }
    return false;
}

/* A sibling that is nearer than the one known on its side takes its place. */
static void note_near(const ikv_scene *scene, const scene_item *item,
                      bool lowest, uint32_t sibling, neighbours *n)
{
    const scene_item *other = item_at(scene, sibling);
    bool above = lies_above(other, item, lowest);
    uint32_t *known = above ? &n->over : &n->under;
    if (*known == NO_ITEM ||
        (item_at(scene, *known)->key > other->key) == above)
        *known = sibling;
}

/* Looks at some items by chance. Which ones makes no difference to what is
 * found in the end. */
static void guess_near(const ikv_scene *scene, const scene_item *item,
                       uint32_t parent, bool lowest, uint32_t guesses,
                       neighbours *n)
{
    uint32_t dice = item->target;
    for (uint32_t i = 0; i < guesses; i++) {
        dice = dice * 1664525 + 1013904223;
        uint32_t place = (uint32_t)((uint64_t)dice * scene->capacity >> 32);
        const scene_item *other = item_at(scene, place);
        if (other->parent == parent && other != item)
            note_near(scene, item, lowest, place, n);
    }
}

static sibling_hint *hint_at(const ikv_scene *scene, uint32_t index)
{
    IKVI_CHECK(2 * index + 1 < scene->capacity);
    return (sibling_hint *)ikvi_at(scene, scene->s.index.order) + index;
}

static sibling_hint hint_of(const ikv_scene *scene, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    return (sibling_hint){item->z, item->layer, place & 0xffffffu};
}

static void make_hints(ikv_scene *scene, uint32_t parent)
{
    scene_hints *hints = &scene->s.hints;
    *hints = (scene_hints){.parent = parent};
    uint32_t seen = 0;
    for (uint32_t at = item_at(scene, parent)->first_child; at != NO_ITEM;
         at = item_at(scene, at)->above)
        if (seen++ % 2 == 0)
            *hint_at(scene, hints->count++) = hint_of(scene, at);
}

/* How many of the hints lie beneath where the item is to go. */
static uint32_t hints_beneath(const ikv_scene *scene, const scene_item *item,
                              bool lowest)
{
    uint32_t from = 0, to = scene->s.hints.count;
    while (from < to) {
        uint32_t middle = from + (to - from) / 2;
        const sibling_hint *hint = hint_at(scene, middle);
        scene_item sibling = {.z = hint->z, .layer = hint->layer};
        if (lies_above(&sibling, item, lowest))
            to = middle;
        else
            from = middle + 1;
    }
    return from;
}

/* Notes the sibling of a hint, wherever it lies now, if it still is one. */
static void note_hint(const ikv_scene *scene, const scene_item *item,
                      bool lowest, uint32_t index, neighbours *n)
{
    uint32_t place = hint_at(scene, index)->place;
    const scene_item *sibling = item_at(scene, place);
    if (sibling != item && sibling->parent == scene->s.hints.parent)
        note_near(scene, item, lowest, place, n);
}

enum {
    FEW_STEPS = 6, /* before hints are looked at */
    STEPS = 32,    /* before it is guessed at the first time */
    LIKELY = 4     /* hints on a side, so that one still lies there */
};

/* Looks at the nearest hints on both sides; the item takes the place of one, so
 * that those of one z which come one after another find each other. */
static void follow_hints(const ikv_scene *scene, uint32_t place, bool lowest,
                         neighbours *n)
{
    const scene_item *item = item_at(scene, place);
    uint32_t count = scene->s.hints.count;
    uint32_t beneath = hints_beneath(scene, item, lowest);
    for (uint32_t i = 0; i < LIKELY; i++) {
        if (i < beneath)
            note_hint(scene, item, lowest, beneath - 1 - i, n);
        if (i < count - beneath)
            note_hint(scene, item, lowest, beneath + i, n);
    }
    if (lowest && beneath < count)
        *hint_at(scene, beneath) = hint_of(scene, place);
    else if (beneath > 0)
        *hint_at(scene, beneath - 1) = hint_of(scene, place);
}

/* The sibling just beneath where the item is to go, NO_ITEM if there is none:
 * sought from both ends, and from a sibling that is near, if there is one.
 * Most are added at the top or near an end, or move a little. Siblings in
 * thousands must not be walked: hints bring it near; without them, after a while,
 * guesses come nearer, in turn with twice as many steps, so that about the root of
 * their number are looked at. */
static uint32_t sibling_beneath(const ikv_scene *scene, uint32_t place,
                                uint32_t parent, bool lowest, uint32_t near,
                                uint32_t *steps)
{
    const scene_item *item = item_at(scene, place);
    uint32_t high = item_at(scene, parent)->last_child;
    uint32_t low = item_at(scene, parent)->first_child;
    neighbours n = {NO_ITEM, NO_ITEM};
    uint32_t next_guess = STEPS, beneath;
    if (near != NO_ITEM)
        note_near(scene, item, lowest, near, &n);
    while (high != NO_ITEM) {
        if (!lies_above(item_at(scene, high), item, lowest))
            return high;
        if (lies_above(item_at(scene, low), item, lowest))
            return item_at(scene, low)->below;
        if (step_near(scene, item, lowest, &n, &beneath))
            return beneath;
        high = item_at(scene, high)->below;
        low = item_at(scene, low)->above;
        if (++*steps == FEW_STEPS && scene->s.hints.count > 0 &&
            scene->s.hints.parent == parent)
            follow_hints(scene, place, lowest, &n);
        if (*steps < next_guess)
            continue;
        guess_near(scene, item, parent, lowest, *steps, &n);
        next_guess *= 2;
    }
    return NO_ITEM;
}

/* The same; where siblings were sought for as many steps as there are targets, it
 * pays to look at all of one parent's. */
static uint32_t place_beneath(ikv_scene *scene, uint32_t place, uint32_t parent,
                              bool lowest, uint32_t near)
{
    uint32_t steps = 0;
    uint32_t beneath =
        sibling_beneath(scene, place, parent, lowest, near, &steps);
    /* Not of a parent where little is sought, though much was elsewhere. */
    if (steps <= FEW_STEPS)
        return beneath;
    scene->s.hints.sought += steps;
    if (scene->s.hints.sought > scene->s.count && scene->s.index.reordered)
        make_hints(scene, parent);
    return beneath;
}

/* Both lists of siblings, upwards and downwards, are kept: hit tests go one
 * way, drawing the other. */
void ikvi_scene_link(ikv_scene *scene, uint32_t place, uint32_t parent,
                     bool lowest, uint32_t near)
{
    scene_item *item = item_at(scene, place), *p = item_at(scene, parent);
    uint32_t below = place_beneath(scene, place, parent, lowest, near);
    IKVI_CHECK(place != parent && below != place);
    item->parent = parent;
    item->below = below;
    item->above =
        below != NO_ITEM ? item_at(scene, below)->above : p->first_child;
    if (below != NO_ITEM)
        item_at(scene, below)->above = place;
    else
        p->first_child = place;
    if (item->above != NO_ITEM)
        item_at(scene, item->above)->below = place;
    else
        p->last_child = place;
}

void ikvi_scene_unlink(ikv_scene *scene, uint32_t place)
{
    scene_item *item = item_at(scene, place);
    scene_item *p = item_at(scene, item->parent);
    IKVI_CHECK((item->below == NO_ITEM) ==
               (p->first_child == place)); /* scene-2 */
    if (item->below != NO_ITEM)
        item_at(scene, item->below)->above = item->above;
    else
        p->first_child = item->above;
    if (item->above != NO_ITEM)
        item_at(scene, item->above)->below = item->below;
    else
        p->last_child = item->below;
}

/* The item before this one in the walk: it has a parent. */
static uint32_t walk_before(const ikv_scene *scene, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    if (item->below == NO_ITEM)
        return item->parent;
    IKVI_CHECK(item_at(scene, item->below)->parent == item->parent);
    /* The last of all that is beneath the sibling. */
    uint32_t at = item->below;
    while (item_at(scene, at)->last_child != NO_ITEM)
        at = item_at(scene, at)->last_child;
    return at;
}

/* ----------------------------------------------------------------- keys -- */

/* A run of items in the walk of all, between two others: ROOT_ITEM and NO_ITEM
 * at the ends. */
typedef struct key_run {
    uint32_t before, next;
    uint32_t count;
} key_run;

/* About twice as many, on both sides. */
static void widen_run(const ikv_scene *scene, key_run *run)
{
    for (uint32_t more = run->count; more > 0; more--) {
        if (run->before != ROOT_ITEM) {
            run->before = walk_before(scene, run->before);
            run->count++;
        }
        if (run->next != NO_ITEM) {
            run->next = ikvi_scene_walk(scene, ROOT_ITEM, run->next);
            run->count++;
        }
    }
}

/* Between the keys of a run, if they are dealt evenly. */
static uint64_t even_step(const ikv_scene *scene, const key_run *run)
{
    uint64_t low = item_at(scene, run->before)->key, count = run->count + 1u;
    if (run->next != NO_ITEM)
        return (item_at(scene, run->next)->key - low) / count;
    /* Of all: half of the numbers stay free behind the last one. */
    if (run->before == ROOT_ITEM)
        return (UINT64_C(1) << 62) / count;
    uint64_t step = (UINT64_MAX - low) / count;
    return step < KEY_STEP ? step : KEY_STEP;
}

/* Deals new keys to a run and to what is around it: to so many that each has
 * more room the more they are, or to all. So each place has to grow by a good
 * part before it comes to so many again, and an item costs about the logarithm
 * of their number. */
static void relabel(ikv_scene *scene, key_run run)
{
    uint64_t step = even_step(scene, &run);
    while (step / KEY_NEAR <= run.count &&
           (run.before != ROOT_ITEM || run.next != NO_ITEM)) {
        widen_run(scene, &run);
        step = even_step(scene, &run);
    }
    uint64_t key = item_at(scene, run.before)->key;
    for (uint32_t at = ikvi_scene_walk(scene, ROOT_ITEM, run.before);
         at != run.next; at = ikvi_scene_walk(scene, ROOT_ITEM, at))
        item_at(scene, at)->key = key += step;
    scene->s.counters.relabels++;
}

/* Gives a linked subtree keys between its neighbours'; near the lower one, or
 * near the upper one if nothing but the parent is beneath, so that raising and
 * lowering again and again use up little room. If there is none, those around it
 * get new keys, too. */
static void give_keys(ikv_scene *scene, uint32_t top)
{
    uint32_t before = walk_before(scene, top), n = 0;
    uint32_t next = ikvi_scene_walk_past(scene, ROOT_ITEM, top);
    uint64_t low = item_at(scene, before)->key;
    uint64_t high = next != NO_ITEM ? item_at(scene, next)->key : UINT64_MAX;
    /* All of the subtree lies between the two neighbours, in its own order. */
    for (uint32_t at = top; at != NO_ITEM; at = ikvi_scene_walk(scene, top, at))
        n++;
    IKVI_CHECK(low < high); /* scene-4 */
    uint64_t step = (high - low) / (n + 1u);
    /* At the end there is room without end; in between little is taken each
     * time. */
    uint64_t most = next != NO_ITEM ? KEY_NEAR : KEY_STEP;
    step = step < most ? step : most;
    if (step == 0) {
        relabel(scene, (key_run){before, next, n});
        return;
    }
    if (item_at(scene, top)->below == NO_ITEM && next != NO_ITEM)
        low = high - step * (n + 1u);
    for (uint32_t at = top; at != NO_ITEM; at = ikvi_scene_walk(scene, top, at))
        item_at(scene, at)->key = low += step;
}

void ikvi_scene_reordered(ikv_scene *scene, uint32_t place)
{
    ikvi_index_rekeys(scene, place);
    give_keys(scene, place);
    ikvi_index_reordered(scene);
    scene->s.revision++;
}

/* How many levels the subtree has, its top included. */
uint32_t ikvi_scene_height(const ikv_scene *scene, uint32_t top)
{
    uint32_t deepest = 0;
    for (uint32_t at = top; at != NO_ITEM;
         at = ikvi_scene_walk(scene, top, at)) {
        uint32_t level = item_at(scene, at)->level;
        /* Levels are those of before a move: only their difference counts. */
        deepest = level > deepest ? level : deepest;
    }
    IKVI_CHECK(deepest < IKV_PATH_LIMIT);
    return deepest - item_at(scene, top)->level + 1;
}

/* ------------------------------------------------------------ validator -- */

const char *ikvi_scene_validate_order(const ikv_scene *scene, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    if (item->above != NO_ITEM &&
        (lies_above(item, item_at(scene, item->above), false) ||
         item_at(scene, item->above)->below != place))
        return "scene-2";
    return item_at(scene, walk_before(scene, place))->key < item->key
               ? NULL
               : "scene-4";
}
