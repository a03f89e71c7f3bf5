/* setup_reload.c - an edited setup, taken into the kit that runs.
 *
 * The file is compared with what it was. What it says as before stays as the
 * game has it, wherever that is by now; what it says differently is done (T7). First
 * comes all that can fail, nearly all of it additions; if something does, the
 * kit goes back to an image of before (T8). Only then does anything end.
 *
 * The old setup is kept inside the new one: names, and the handlers that the bus
 * calls, point into it.
 */
#define _POSIX_C_SOURCE 200809L
#include "setup.h"

#include <stdlib.h>
#include <string.h>

/* What has been counted, for the message. */
enum counted {
    COUNT_KINDS,
    COUNT_LAYERS,
    COUNT_TARGETS,
    COUNT_SETS,
    COUNT_ACTIONS,
    COUNT_HANDLERS,
    COUNTED
};

typedef struct change_counts {
    uint32_t added, changed, gone;
} change_counts;

typedef struct reloading {
    ikv_setup *was;
    ikv_setup *next;
    ikv_kit *kit;
    uint32_t flags;
    reader *r;
    change_counts counts[COUNTED];
} reloading;

/* ------------------------------------------------------------ comparing -- */

static bool is_same(const json_t *a, const json_t *b)
{
    return a == b || (a != NULL && b != NULL && json_equal(a, b) != 0);
}

static bool has_all_of(const json_t *a, const json_t *b)
{
    const char *member;
    json_t *value;
    json_object_foreach((json_t *)(uintptr_t)a, member, value)
    {
        if (strcmp(member, "note") != 0 &&
            !is_same(value, json_object_get(b, member)))
            return false;
    }
    return true;
}

/* Objects, without their notes. */
static bool says_the_same(const json_t *a, const json_t *b)
{
    if (!json_is_object(a) || !json_is_object(b))
        return is_same(a, b);
    return has_all_of(a, b) && has_all_of(b, a);
}

static const json_t *entry(const ikv_setup *setup, const char *list,
                           size_t index)
{
    return json_array_get(json_object_get(setup->document, list), index);
}

static bool same_member(const json_t *a, const json_t *b, const char *member)
{
    return is_same(json_object_get(a, member), json_object_get(b, member));
}

static const json_t *target_entry_of(const ikv_setup *setup,
                                     const setup_target *target)
{
    return entry(setup, "targets", (size_t)(target - setup->targets));
}

/* ----------------------------------------------- what can't be changed -- */

static bool check_settings(const reloading *l)
{
    static const char *const fixed[] = {"view", "loop", "router", "announces"};
    for (size_t i = 0; i < sizeof fixed / sizeof fixed[0]; i++) {
        place here = {NULL, fixed[i], 0};
        if (!says_the_same(json_object_get(l->was->document, fixed[i]),
                           json_object_get(l->next->document, fixed[i])))
            return ikvi_reader_fail(
                l->r, &here, "it can't change while the kit runs: start anew");
    }
    return true;
}

/* Targets and bindings know layers by their places. */
static bool check_layers(const reloading *l)
{
    place at = {NULL, "layers", 0};
    for (uint32_t i = 0; i < l->was->layer_count; i++) {
        place here = {&at, NULL, i};
        if (i >= l->next->layer_count ||
            strcmp(l->was->layers[i].name, l->next->layers[i].name) != 0)
            return ikvi_reader_fail(
                l->r, &here,
                "expected the layer \"%.60s\": layers can be added behind the "
                "others, not taken away or moved, while the kit runs",
                l->was->layers[i].name);
    }
    return true;
}

static bool is_same_kind(const ikv_kind_info *a, const ikv_kind_info *b)
{
    bool same = a->from == b->from && a->bubbles == b->bubbles &&
                a->outlives_target == b->outlives_target &&
                a->field_count == b->field_count;
    for (uint32_t i = 0; same && i < a->field_count; i++)
        same = strcmp(a->fields[i].name, b->fields[i].name) == 0 &&
               a->fields[i].type == b->fields[i].type &&
               a->fields[i].offset == b->fields[i].offset;
    return same;
}

/* `next` has a catalogue of its own, still. */
static bool check_kinds(const reloading *l)
{
    place at = {NULL, "kinds", 0};
    const json_t *list = json_object_get(l->next->document, "kinds");
    for (size_t i = 0; i < json_array_size(list); i++) {
        place here = {&at, NULL, i};
        const char *name =
            json_string_value(json_object_get(json_array_get(list, i), "name"));
        ikv_kind kind = ikv_catalogue_find(l->was->catalogue, name);
        ikv_kind now = ikv_catalogue_find(l->next->catalogue, name);
        if (kind != IKV_KIND_NONE &&
            !is_same_kind(ikv_catalogue_info(l->was->catalogue, kind),
                          ikv_catalogue_info(l->next->catalogue, now)))
            return ikvi_reader_fail(
                l->r, &here,
                "the kind \"%.60s\" can't change while the kit runs: give it "
                "another name, or start anew",
                name);
    }
    return true;
}

/* Overlaps tell of bodies. */
static bool check_targets(const reloading *l)
{
    place at = {NULL, "targets", 0};
    for (uint32_t i = 0; i < l->next->target_count; i++) {
        const setup_target *to = &l->next->targets[i];
        const setup_target *was = ikvi_setup_find_target(l->was, to->id);
        place here = {&at, NULL, i}, member = {&here, "body", 0};
        if (was != NULL && was->config.body != to->config.body)
            return ikvi_reader_fail(
                l->r, &member,
                "whether \"%.60s\" is a body can't change while the kit runs: "
                "give it another id, or start anew",
                to->id);
    }
    return true;
}

/* -------------------------------------------------------------- reading -- */

/* Names of fields and tags keep their numbers. */
static bool keep_numbers(const ikv_setup *was, ikv_setup *next, reader *r)
{
    for (uint32_t i = 0; i < was->field_count; i++)
        if (!ikvi_setup_number_field(r, next, was->fields[i]))
            return false;
    memcpy(next->tags, was->tags, sizeof next->tags);
    next->tag_count = was->tag_count;
    return true;
}

/* With a catalogue of its own, or the one that runs. NULL after a message. */
static ikv_setup *read_next(const reloading *l, json_t *document, bool lent)
{
    ikv_setup *next = calloc(1, sizeof *next);
    if (next == NULL) {
        ikvi_no_memory(l->r);
        return NULL;
    }
    next->document = json_incref(document);
    next->path = strdup(l->r->path);
    next->catalogue_lent = lent;
    next->catalogue = lent ? l->was->catalogue : NULL;
    if (next->path == NULL)
        ikvi_no_memory(l->r);
    if (next->path != NULL && keep_numbers(l->was, next, l->r) &&
        ikvi_read_document(l->r, next))
        return next;
    ikv_setup_close(next);
    return NULL;
}

/* Once to see whether all of it is right, and again with the kinds that run, to
 * which new ones are added. */
static bool read_all(reloading *l)
{
    json_t *document = ikvi_json_load(l->r, "the setup");
    bool good = document != NULL;
    if (good)
        l->next = read_next(l, document, false);
    good = l->next != NULL && check_settings(l) && check_layers(l) &&
           check_kinds(l) && check_targets(l);
    uint32_t kinds = l->was->kind_count;
    ikv_setup_close(l->next);
    l->next = good ? read_next(l, document, true) : NULL;
    json_decref(document);
    if (l->next == NULL)
        return false;
    if (l->next->kind_count > kinds)
        l->counts[COUNT_KINDS].added = l->next->kind_count - kinds;
    return ikvi_find_setup_mistakes(l->next) || ikvi_no_memory(l->r) == IKV_OK;
}

/* --------------------------------------------------------- what is kept -- */

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

static void keep_handlers(const reloading *l)
{
    for (uint32_t i = 0; i < l->next->handler_count; i++) {
        setup_handler *h = &l->next->handlers[i];
        const setup_handler *was = ikvi_setup_find_handler(l->was, h->name);
        if (was != NULL && !h->has_reactions) {
            h->bound = was->bound;
            h->bound_user = was->bound_user;
        }
    }
    memcpy(l->next->owners, l->was->owners, sizeof l->next->owners);
    l->next->owner_count = l->was->owner_count;
    l->next->note = l->was->note;
    l->next->note_user = l->was->note_user;
    l->next->kit = l->kit;
}

/* Those that stay keep their numbers, others get new ones. */
static bool number_targets(const reloading *l)
{
    ikv_setup *next = l->next;
    uint32_t count =
        l->was->places != NULL ? l->was->number_count : l->was->target_count;
    size_t room = (size_t)count + next->target_count + 1;
    next->places = malloc(room * sizeof *next->places);
    if (next->places == NULL)
        return ikvi_no_memory(l->r) == IKV_OK;
    memset(next->places, 0xff, room * sizeof *next->places);
    for (uint32_t i = 0; i < next->target_count; i++) {
        const setup_target *was =
            ikvi_setup_find_target(l->was, next->targets[i].id);
        uint32_t number = was != NULL ? was->config.id : ++count;
        next->targets[i].config.id = number;
        next->places[number - 1] = i;
    }
    next->number_count = count;
    return true;
}

/* -------------------------------------------------------------- targets -- */

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

/* The members of a target in the file; "parent" first, since it puts the target
 * above its siblings, whatever their layer. */
static const struct {
    const char *member;
    ikv_status (*change)(const target_change *c);
} target_rows[] = {{"parent", change_parent_or_layer},
                   {"layer", change_layer},
                   {"position", change_position},
                   {"rotation", change_rotation},
                   {"scale", change_scale},
                   {"z", change_z},
                   {"shape", change_shape},
                   {"grace", change_grace},
                   {"hit", change_hit},
                   {"hidden", change_hidden},
                   {"clip", change_clip},
                   {"tab", change_tab},
                   {"tags", change_tags},
                   {"focusable", change_traits},
                   {"takes_text", change_traits},
                   {"captures", change_traits},
                   {"stays_live", change_traits},
                   {"senses", change_sensing},
                   {"contacts", change_sensing},
                   {"inside", change_sensing},
                   {"linger", change_sensing},
                   {"swept", change_sensing},
                   {"overlaps", change_sensing},
                   {"fields", change_fields}};

/* The file's parent, of a target that the game has put into one that goes. */
static ikv_status leave_gone_parent(const reloading *l, const target_change *c)
{
    const setup_target *parent =
        ikvi_setup_target_of(l->was, ikv_scene_parent(c->scene, c->to->handle));
    if (parent == NULL || ikvi_setup_find_target(l->next, parent->id) != NULL)
        return IKV_OK;
    return change_parent_or_layer(c);
}

static ikv_status change_target(reloading *l, const setup_target *was,
                                const setup_target *to)
{
    const json_t *before = target_entry_of(l->was, was);
    const json_t *after = target_entry_of(l->next, to);
    target_change c = {l->kit, l->next, ikv_kit_scene(l->kit), was, to};
    place list = {NULL, "targets", 0},
          here = {&list, NULL, (size_t)(to - l->next->targets)};
    bool changed = false;
    ikv_status status = IKV_OK;
    for (size_t i = 0;
         status == IKV_OK && i < sizeof target_rows / sizeof target_rows[0];
         i++) {
        place at = {&here, target_rows[i].member, 0};
        if (same_member(before, after, target_rows[i].member))
            continue;
        changed = true;
        status = target_rows[i].change(&c);
        if (status < 0)
            ikvi_reader_fail(l->r, &at, "\"%.60s\": %s", to->id,
                             ikv_status_text(status));
    }
    l->counts[COUNT_TARGETS].changed += changed;
    return status == IKV_OK ? leave_gone_parent(l, &c) : status;
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

/* Whether it lies above its siblings, since it was added or put there. */
static bool is_uppermost(const reloading *l, const setup_target *was,
                         const setup_target *to)
{
    static const char *const puts[] = {"parent", "layer", "z"};
    bool put = was == NULL;
    for (size_t i = 0; !put && i < sizeof puts / sizeof puts[0]; i++)
        put = !same_member(target_entry_of(l->was, was),
                           target_entry_of(l->next, to), puts[i]);
    return put;
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
    }
    for (uint32_t n = 0; status == IKV_OK && n < count; n++) {
        const setup_target *to = &l->next->targets[by_turn[n]];
        if (deals[parent_of(to, count)] && hangs_as_in_file(l, to))
            ikv_scene_raise(ikv_kit_scene(l->kit), to->handle);
    }
    free(last);
    free(deals);
    return status;
}

static ikv_status settle_targets(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->target_count; i++)
        status = ikvi_parents_first(l->next, i, settle_target, l);
    return status == IKV_OK ? settle_orders(l) : status;
}

static void end_targets(reloading *l)
{
    for (uint32_t i = 0; i < l->was->target_count; i++) {
        const setup_target *was = &l->was->targets[i];
        if (ikvi_setup_find_target(l->next, was->id) != NULL)
            continue;
        l->counts[COUNT_TARGETS].gone++;
        ikv_scene_remove(ikv_kit_scene(l->kit), was->handle);
    }
}

/* ------------------------------------------------------ layers, actions -- */

static ikv_status settle_layers(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->layer_count; i++) {
        if (i >= l->was->layer_count)
            l->counts[COUNT_LAYERS].added++;
        else if (same_member(entry(l->was, "layers", i),
                             entry(l->next, "layers", i), "camera"))
            continue;
        else
            l->counts[COUNT_LAYERS].changed++;
        status = ikvi_apply_layer(l->next, i, l->r);
    }
    return status;
}

static const setup_set *set_before(const reloading *l, const char *name)
{
    size_t at = ikvi_setup_find_set(l->was, name);
    return at < l->was->set_count ? &l->was->sets[at] : NULL;
}

static ikv_status settle_sets(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->set_count; i++) {
        setup_set *set = &l->next->sets[i];
        const setup_set *was = set_before(l, set->name);
        if (was != NULL) {
            set->number = was->number;
            continue;
        }
        l->counts[COUNT_SETS].added++;
        status = ikvi_apply_set(l->next, i, l->r);
        /* One of an earlier file is there, switched off. */
        if (status == IKV_OK && set->on)
            ikv_actions_switch(actions, set->number, IKV_ALL_SEATS, true);
    }
    return status;
}

static void end_sets(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    for (uint32_t i = 0; i < l->was->set_count; i++) {
        const setup_set *was = &l->was->sets[i];
        size_t at = ikvi_setup_find_set(l->next, was->name);
        bool gone = at == l->next->set_count;
        bool on = !gone && l->next->sets[at].on;
        l->counts[COUNT_SETS].gone += gone;
        l->counts[COUNT_SETS].changed += !gone && on != was->on;
        if (gone || on != was->on)
            ikv_actions_switch(actions, was->number, IKV_ALL_SEATS, on);
    }
}

static bool same_text(const char *a, const char *b)
{
    return a == b || (a != NULL && b != NULL && strcmp(a, b) == 0);
}

static uint32_t count_bindings(const ikv_actions *actions, ikv_action_id action)
{
    uint32_t count = 0;
    while (ikv_actions_binding(actions, action, count).bits != 0)
        count++;
    return count;
}

/* New bindings are added to the old ones, which end later. */
static ikv_status change_action(reloading *l, const setup_action *was,
                                uint32_t index)
{
    const ikv_actions *actions = ikv_kit_actions(l->kit);
    setup_action *to = &l->next->actions[index];
    place list = {NULL, "actions", 0}, here = {&list, NULL, index};
    to->added = was->added;
    if (ikv_actions_name(actions, to->added) == NULL)
        return IKV_OK;
    bool same = is_same(was->bindings, to->bindings);
    l->counts[COUNT_ACTIONS].changed += !same || was->toggles != to->toggles;
    if (same)
        return IKV_OK;
    to->outdated = count_bindings(actions, to->added);
    ikv_status status = ikvi_apply_bindings(l->next, index, l->r);
    if (status < 0)
        ikvi_reader_fail(l->r, &here, "the action \"%.60s\": %s", to->name,
                         ikv_status_text(status));
    return status;
}

static ikv_status settle_actions(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->action_count; i++) {
        setup_action *to = &l->next->actions[i];
        const setup_action *was = ikvi_setup_find_action(l->was, to->name);
        if (was != NULL && same_text(was->set, to->set)) {
            status = change_action(l, was, i);
            continue;
        }
        if (was == NULL)
            l->counts[COUNT_ACTIONS].added++;
        else
            l->counts[COUNT_ACTIONS].changed++;
        /* An action is of one set all its life. */
        if (was != NULL)
            ikv_actions_remove(ikv_kit_actions(l->kit), was->added);
        status = ikvi_apply_action(l->next, i, l->r);
    }
    return status;
}

static void end_actions(reloading *l)
{
    ikv_actions *actions = ikv_kit_actions(l->kit);
    for (uint32_t i = 0; i < l->was->action_count; i++) {
        const setup_action *was = &l->was->actions[i];
        if (ikvi_setup_find_action(l->next, was->name) != NULL)
            continue;
        l->counts[COUNT_ACTIONS].gone++;
        ikv_actions_remove(actions, was->added);
    }
    for (uint32_t i = 0; i < l->next->action_count; i++) {
        const setup_action *to = &l->next->actions[i];
        const setup_action *was = ikvi_setup_find_action(l->was, to->name);
        if (was != NULL && was->toggles != to->toggles)
            ikv_actions_set_toggle(actions, to->added, IKV_ALL_SEATS,
                                   to->toggles);
        for (uint32_t n = 0; n < to->outdated; n++)
            ikv_actions_unbind(actions,
                               ikv_actions_binding(actions, to->added, 0));
    }
}

/* ------------------------------------------------------------- handlers -- */

static const json_t *group_entry_of(const ikv_setup *setup,
                                    const setup_handler *handler)
{
    return handler->group == NULL
               ? NULL
               : entry(setup, "groups",
                       (size_t)(handler->group - setup->groups));
}

/* Its group is a part of it. */
static bool is_same_handler(const reloading *l, const setup_handler *was,
                            const setup_handler *to)
{
    return says_the_same(
               entry(l->was, "handlers", (size_t)(was - l->was->handlers)),
               entry(l->next, "handlers", (size_t)(to - l->next->handlers))) &&
           says_the_same(group_entry_of(l->was, was),
                         group_entry_of(l->next, to));
}

static ikv_status settle_handlers(reloading *l)
{
    ikv_status status = IKV_OK;
    for (uint32_t i = 0; status == IKV_OK && i < l->next->handler_count; i++) {
        setup_handler *to = &l->next->handlers[i];
        const setup_handler *was = ikvi_setup_find_handler(l->was, to->name);
        if (was != NULL && is_same_handler(l, was, to)) {
            to->subscription = was->subscription;
            to->first = was->first;
            continue;
        }
        if (was == NULL)
            l->counts[COUNT_HANDLERS].added++;
        else
            l->counts[COUNT_HANDLERS].changed++;
        status = ikvi_apply_handler(l->next, to, l->flags, l->r);
    }
    return status;
}

static void end_handlers(reloading *l)
{
    ikv_bus *bus = ikv_kit_bus(l->kit);
    for (uint32_t i = 0; i < l->was->handler_count; i++) {
        const setup_handler *was = &l->was->handlers[i];
        const setup_handler *to = ikvi_setup_find_handler(l->next, was->name);
        l->counts[COUNT_HANDLERS].gone += to == NULL;
        if (to == NULL || to->subscription.bits != was->subscription.bits)
            ikv_bus_unsubscribe(bus, was->subscription);
    }
}

static bool is_owner(const ikv_setup *setup, const char *name)
{
    for (uint32_t i = 0; i < setup->handler_count; i++)
        if (same_text(setup->handlers[i].owner, name))
            return true;
    return false;
}

static void end_owners(const reloading *l)
{
    ikv_setup *next = l->next;
    for (uint32_t i = next->owner_count; i-- > 0;) {
        if (is_owner(next, next->owners[i].name))
            continue;
        ikv_bus_drop_owner(ikv_kit_bus(l->kit), next->owners[i].owner);
        next->owners[i] = next->owners[--next->owner_count];
    }
}

/* ------------------------------------------------------------- all of it -- */

static ikv_status settle(reloading *l)
{
    ikv_status status = settle_targets(l);
    if (status == IKV_OK)
        status = settle_layers(l);
    if (status == IKV_OK)
        status = settle_sets(l);
    if (status == IKV_OK)
        status = settle_actions(l);
    return status == IKV_OK ? settle_handlers(l) : status;
}

/* The two change places: `setup` is what callers, handlers and traces have. */
static void take_over(reloading *l)
{
    ikv_setup was = *l->was;
    ikv_setup *setup = l->was, *before = l->next;
    *setup = *l->next;
    *before = was;
    setup->before = before;
    /* Who is closed last closes it. */
    setup->catalogue_lent = before->catalogue_lent;
    before->catalogue_lent = true;
    for (uint32_t i = 0; i < setup->handler_count; i++) {
        setup->handlers[i].setup = setup;
        setup->handlers[i].first->now = &setup->handlers[i];
    }
    l->was = before;
    l->next = setup;
}

static void end_rest(reloading *l)
{
    /* Handlers first: what goes with its targets hears of no end. */
    end_handlers(l);
    end_owners(l);
    end_actions(l);
    end_sets(l);
    end_targets(l);
}

static void say_changes(const reloading *l, ikv_message *message)
{
    static const char *const names[COUNTED] = {"kinds", "layers",  "targets",
                                               "sets",  "actions", "handlers"};
    char *to = message != NULL ? message->text : NULL;
    size_t room = sizeof message->text, used = 0;
    if (to == NULL)
        return;
    for (int i = 0; i < COUNTED; i++) {
        const change_counts *c = &l->counts[i];
        const struct {
            uint32_t count;
            const char *word;
        } words[] = {
            {c->added, "added"}, {c->changed, "changed"}, {c->gone, "gone"}};
        bool begun = false;
        for (int w = 0; w < 3; w++) {
            if (words[w].count == 0)
                continue;
            used += (size_t)snprintf(to + used, room - used, "%s%s%s%u %s",
                                     begun      ? ", "
                                     : used > 0 ? "; "
                                                : "",
                                     begun ? "" : names[i], begun ? "" : ": ",
                                     words[w].count, words[w].word);
            begun = true;
        }
    }
    if (used == 0)
        snprintf(to, room, "nothing has changed");
}

/* From an image: what was added and changed is undone. */
static ikv_status settle_or_undo(reloading *l)
{
    ikv_parts parts = ikv_kit_parts(l->kit);
    size_t size = ikv_image_size(&parts);
    void *image = malloc(size);
    if (image == NULL)
        return ikvi_no_memory(l->r);
    ikv_status status = ikv_image_save(&parts, image, size);
    if (status < 0) {
        ikvi_reader_fail(l->r, NULL, "%s", ikv_status_text(status));
    } else {
        status = settle(l);
        if (status < 0)
            ikv_image_restore(&parts, image, size, NULL, 0);
    }
    free(image);
    return status;
}

ikv_status ikv_setup_reload(ikv_setup *setup, ikv_kit *kit, const char *path,
                            uint32_t flags, ikv_message *message)
{
    if (setup == NULL || kit == NULL || setup->kit != kit)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = path != NULL ? path : setup->path, .message = message};
    reloading l = {.was = setup, .kit = kit, .flags = flags, .r = &r};
    ikv_status status = IKV_OK;
    if (read_all(&l) && number_targets(&l)) {
        keep_handlers(&l);
        status = settle_or_undo(&l);
    }
    if (r.failed || status < 0) {
        ikv_setup_close(l.next);
        return status < 0 ? status : ikvi_reader_status(&r);
    }
    take_over(&l);
    end_rest(&l);
    say_changes(&l, message);
    return IKV_OK;
}
