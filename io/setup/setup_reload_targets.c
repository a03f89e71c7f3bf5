/* setup_reload_targets.c - the targets of an edited setup, taken into a scene that
 * the game has changed meanwhile. What the file says as before stays as the game
 * has it (T7).
 */
#include "reload.h"

#include <stdlib.h>
#include <string.h>

static const json_t *target_entry_of(const ikv_setup *setup,
                                     const setup_target *target)
{
    return entry(setup, "targets", (size_t)(target - setup->targets));
}

/* A field that begins as before has the value that it has by now. */
static void keep_fields(setup_target *was, setup_target *to)
{
    for (uint32_t i = 0; i < to->field_count; i++) {
        const setup_field *old = ikvi_setup_find_field(was, to->fields[i].name);
        if (old != NULL && old->initial.type == to->fields[i].initial.type &&
            old->initial.bits.integer == to->fields[i].initial.bits.integer)
            to->fields[i].value = old->value;
    }
}

bool ikvi_reload_says_alike(const json_t *a, const json_t *b)
{
    const char *member;
    json_t *value;
    if (json_is_number(a) && json_is_number(b) &&
        json_typeof(a) != json_typeof(b))
        return json_number_value(a) == json_number_value(b);
    if (json_is_array(a) && json_is_array(b)) {
        size_t count = json_array_size(a), i = 0;
        while (
            count == json_array_size(b) && i < count &&
            ikvi_reload_says_alike(json_array_get(a, i), json_array_get(b, i)))
            i++;
        return i == count && count == json_array_size(b);
    }
    if (!json_is_object(a) || !json_is_object(b))
        return is_same(a, b);
    json_object_foreach((json_t *)(uintptr_t)a, member, value)
    {
        if (!ikvi_reload_says_alike(value, json_object_get(b, member)))
            return false;
    }
    return json_object_size(a) == json_object_size(b);
}

typedef struct target_change {
    ikv_kit *kit;
    const ikv_setup *next;
    ikv_scene *scene;
    const setup_target *was, *to;
} target_change;

/* Puts a target and its ancestors in the file where the file has them, the
 * uppermost first. */
static void hang_as_in_file(const target_change *c, int index)
{
    if (index == NO_INDEX)
        return;
    const setup_target *t = &c->next->targets[index];
    hang_as_in_file(c, t->parent);
    /* Of one whose parent the game has removed: at the root. */
    bool hangs = ikv_scene_alive(c->scene, t->config.parent);
    ikv_scene_set_parent(c->scene, t->handle,
                         hangs ? t->config.parent : (ikv_target){0});
}

static ikv_status change_parent(const target_change *c)
{
    ikv_status status =
        ikv_scene_set_parent(c->scene, c->to->handle, c->to->config.parent);
    if (status != IKV_CYCLE)
        return status;
    /* The game has put the new parent into it. */
    hang_as_in_file(c, c->to->parent);
    return ikv_scene_set_parent(c->scene, c->to->handle, c->to->config.parent);
}

/* Beneath another one, be it by the file or the game, it is in that one's. */
static ikv_status change_layer(const target_change *c)
{
    ikv_target root = ikv_bus_root(ikv_kit_bus(c->kit));
    ikv_target parent = ikv_scene_parent(c->scene, c->to->handle);
    if (c->to->parent != NO_INDEX || parent.bits != root.bits)
        return IKV_OK;
    return ikv_scene_set_layer(c->scene, c->to->handle, c->to->config.layer);
}

/* At the root it is in the layer that the file says, from wherever it comes. */
static ikv_status change_parent_or_layer(const target_change *c)
{
    ikv_status status = change_parent(c);
    return status == IKV_OK ? change_layer(c) : status;
}

static ikv_status change_position(const target_change *c)
{
    return ikv_scene_move(c->scene, c->to->handle, c->to->config.x,
                          c->to->config.y);
}

static ikv_status change_rotation(const target_change *c)
{
    return ikv_scene_turn(c->scene, c->to->handle, c->to->config.rotation);
}

static ikv_status change_scale(const target_change *c)
{
    return ikv_scene_resize(c->scene, c->to->handle, c->to->config.scale);
}

static ikv_status change_z(const target_change *c)
{
    return ikv_scene_set_z(c->scene, c->to->handle, c->to->config.z);
}

static ikv_status change_shape(const target_change *c)
{
    return ikv_scene_set_shape(c->scene, c->to->handle, &c->to->config.shape);
}

static ikv_status change_grace(const target_change *c)
{
    return ikv_scene_set_grace(c->scene, c->to->handle, c->to->config.grace);
}

static ikv_status change_hit(const target_change *c)
{
    return ikv_scene_set_hit(c->scene, c->to->handle, c->to->config.hit);
}

static ikv_status change_hidden(const target_change *c)
{
    return ikv_scene_show(c->scene, c->to->handle, !c->to->config.hidden);
}

static ikv_status change_clip(const target_change *c)
{
    return ikv_scene_set_clip(c->scene, c->to->handle, c->to->config.clip);
}

static ikv_status change_tab(const target_change *c)
{
    return ikv_scene_set_tab(c->scene, c->to->handle, c->to->config.tab);
}

/* The bits in which two words differ are as in the second one; the others are
 * as they are now. */
static uint32_t with_changes(uint32_t now, uint32_t was, uint32_t to)
{
    return (now & ~(was ^ to)) | (to & (was ^ to));
}

static ikv_status change_traits(const target_change *c)
{
    const uint32_t own =
        IKV_FOCUSABLE | IKV_TAKES_TEXT | IKV_CAPTURES | IKV_STAYS_LIVE;
    uint32_t now = ikv_scene_traits(c->scene, c->to->handle) & own;
    return ikv_scene_set_traits(
        c->scene, c->to->handle,
        with_changes(now, c->was->config.traits, c->to->config.traits));
}

static ikv_status change_tags(const target_change *c)
{
    return ikv_scene_set_tags(
        c->scene, c->to->handle,
        with_changes(ikv_scene_tags(c->scene, c->to->handle),
                     c->was->config.tags, c->to->config.tags));
}

static ikv_status change_sensing(const target_change *c)
{
    ikv_overlaps *overlaps = ikv_kit_overlaps(c->kit);
    return overlaps == NULL
               ? IKV_OK
               : ikv_overlaps_sense(overlaps, c->to->handle, &c->to->sensing);
}

static ikv_status change_fields(const target_change *c)
{
    (void)c; /* they are kept with it */
    return IKV_OK;
}

/* The members of a target in the file, and what stands for one that is absent;
 * "parent" first, since it puts the target above its siblings, whatever their
 * layer. */
static const struct target_row {
    const char *member;
    ikv_status (*change)(const target_change *c);
    const char *absent;
} target_rows[] = {{"parent", change_parent_or_layer, "\"root\""},
                   {"layer", change_layer, NULL},
                   {"position", change_position, "[0,0]"},
                   {"rotation", change_rotation, "0"},
                   {"scale", change_scale, "1"},
                   {"z", change_z, "0"},
                   {"shape", change_shape, NULL},
                   {"grace", change_grace, "0"},
                   {"hit", change_hit, "\"solid\""},
                   {"hidden", change_hidden, "false"},
                   {"clip", change_clip, "false"},
                   {"tab", change_tab, "0"},
                   {"tags", change_tags, "[]"},
                   {"focusable", change_traits, "false"},
                   {"takes_text", change_traits, "false"},
                   {"captures", change_traits, "false"},
                   {"stays_live", change_traits, "false"},
                   {"senses", change_sensing, "[]"},
                   {"contacts", change_sensing, "\"pieces\""},
                   {"inside", change_sensing, "\"always\""},
                   {"linger", change_sensing, "0"},
                   {"swept", change_sensing, "false"},
                   {"overlaps", change_sensing, "true"},
                   {"fields", change_fields, "{}"}};

/* The file's parent, of a target that the game has put into one that goes. */
static ikv_status leave_gone_parent(const reloading *l, const target_change *c)
{
    const setup_target *parent =
        ikvi_setup_target_of(l->was, ikv_scene_parent(c->scene, c->to->handle));
    if (parent == NULL || ikvi_setup_find_target(l->next, parent->id) != NULL)
        return IKV_OK;
    return change_parent_or_layer(c);
}

/* The first layer can be named or not. Else, 1 and 1.0 are the same place, but
 * fields of different types. */
static bool same_in_target(const reloading *l, const setup_target *was,
                           const setup_target *to, const struct target_row *row)
{
    json_t *before = json_object_get(target_entry_of(l->was, was), row->member);
    json_t *after = json_object_get(target_entry_of(l->next, to), row->member);
    json_t *absent = NULL;
    if (strcmp(row->member, "layer") == 0)
        return was->config.layer == to->config.layer;
    if (row->absent != NULL && (before == NULL) != (after == NULL))
        absent = json_loads(row->absent, JSON_DECODE_ANY, NULL);
    before = before != NULL ? before : absent;
    after = after != NULL ? after : absent;
    bool same = strcmp(row->member, "fields") == 0
                    ? is_same(before, after)
                    : ikvi_reload_says_alike(before, after);
    json_decref(absent);
    return same;
}

/* Whether it is in the parent that the file says, and not where the game has put
 * it. */
static bool hangs_as_in_file(const reloading *l, const setup_target *to)
{
    ikv_target parent = to->parent != NO_INDEX
                            ? to->config.parent
                            : ikv_bus_root(ikv_kit_bus(l->kit));
    return ikv_scene_parent(ikv_kit_scene(l->kit), to->handle).bits ==
           parent.bits;
}

/* Whether it is put above its siblings: it is new, or the file has another
 * parent, layer or z for it. */
static bool is_uppermost(const reloading *l, const setup_target *was,
                         const setup_target *to)
{
    return was == NULL || was->config.layer != to->config.layer ||
           was->config.z != to->config.z ||
           !same_in_target(l, was, to, &target_rows[0]);
}

static ikv_status change_target(reloading *l, const setup_target *was,
                                const setup_target *to)
{
    target_change c = {l->kit, l->next, ikv_kit_scene(l->kit), was, to};
    place list = {NULL, "targets", 0},
          here = {&list, NULL, (size_t)(to - l->next->targets)};
    bool changed = false;
    ikv_status status = IKV_OK;
    for (size_t i = 0;
         status == IKV_OK && i < sizeof target_rows / sizeof target_rows[0];
         i++) {
        place at = {&here, target_rows[i].member, 0};
        if (same_in_target(l, was, to, &target_rows[i]))
            continue;
        changed = true;
        status = target_rows[i].change(&c);
        if (status < 0)
            ikvi_reader_fail(l->r, &at, "\"%.60s\": %s", to->id,
                             ikv_status_text(status));
    }
    l->counts[COUNT_TARGETS].changed += changed;
    if (status == IKV_OK)
        status = leave_gone_parent(l, &c);
    /* Also if the game has it at that z or in that layer already. */
    if (status == IKV_OK && is_uppermost(l, was, to) && hangs_as_in_file(l, to))
        status = ikv_scene_raise(c.scene, to->handle);
    return status;
}

/* One that the game has removed stays so, with all that would be in it. */
static ikv_status settle_target(ikv_setup *next, uint32_t index, void *reload)
{
    reloading *l = reload;
    const ikv_scene *scene = ikv_kit_scene(l->kit);
    setup_target *to = &next->targets[index];
    setup_target *was = ikvi_setup_find_target(l->was, to->id);
    if (was != NULL) {
        to->handle = was->handle;
        keep_fields(was, to);
    }
    if ((was != NULL && !ikv_scene_alive(scene, to->handle)) ||
        (to->parent != NO_INDEX && !ikv_scene_alive(scene, to->config.parent)))
        return IKV_OK;
    if (was != NULL)
        return change_target(l, was, to);
    l->counts[COUNT_TARGETS].added++;
    return ikvi_apply_target(next, index, l->r);
}

static uint32_t parent_of(const setup_target *target, uint32_t root)
{
    return target->parent != NO_INDEX ? (uint32_t)target->parent : root;
}

/* Of the targets by their turns: marks the parents, the root behind the last
 * target, whose children lie otherwise than they would if added so. */
static void find_new_orders(const reloading *l, const uint32_t *by_turn,
                            uint32_t *last, bool *deals)
{
    for (uint32_t n = 0; n < l->next->target_count; n++) {
        const setup_target *to = &l->next->targets[by_turn[n]];
        const setup_target *was = ikvi_setup_find_target(l->was, to->id);
        uint32_t in = parent_of(to, l->next->target_count);
        uint32_t turn = is_uppermost(l, was, to) ? UINT32_MAX : was->turn;
        deals[in] = deals[in] || turn < last[in];
        last[in] = turn;
    }
}

/* Siblings of the same z lie as the file says, if it says it differently. */
static ikv_status settle_orders(const reloading *l)
{
    uint32_t count = l->next->target_count;
    uint32_t *last = calloc(2 * (count + 1u), sizeof *last);
    bool *deals = calloc(count + 1u, sizeof *deals);
    uint32_t *by_turn = last != NULL ? last + count + 1 : NULL;
    ikv_status status = IKV_OK;
    if (last == NULL || deals == NULL) {
        status = ikvi_no_memory(l->r);
    } else {
        for (uint32_t i = 0; i < count; i++)
            by_turn[l->next->targets[i].turn] = i;
        find_new_orders(l, by_turn, last, deals);
        for (uint32_t n = 0; n < count; n++) {
            const setup_target *to = &l->next->targets[by_turn[n]];
            if (deals[parent_of(to, count)] && hangs_as_in_file(l, to))
                ikv_scene_raise(ikv_kit_scene(l->kit), to->handle);
        }
    }
    free(last);
    free(deals);
    return status;
}

ikv_status ikvi_reload_targets(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->target_count; i++)
        status = ikvi_parents_first(l->next, i, settle_target, l);
    return status == IKV_OK ? settle_orders(l) : status;
}

void ikvi_reload_end_targets(reloading *l)
{
    for (uint32_t i = 0; i < l->was->target_count; i++) {
        const setup_target *was = &l->was->targets[i];
        if (ikvi_setup_find_target(l->next, was->id) != NULL)
            continue;
        l->counts[COUNT_TARGETS].gone++;
        ikv_scene_remove(ikv_kit_scene(l->kit), was->handle);
    }
}
