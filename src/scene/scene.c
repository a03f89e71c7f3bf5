/* scene.c - the tree of targets.
 *
 * Items are placed as the bus places their targets; place 0 is the root.
 *
 * scene-1  an item in use bears its target's handle, and its parent is in use
 * scene-2  siblings are linked from low to high, sorted by layer and z
 * scene-3  an item's world transform is its parent's joined with its own
 *          placement; what it has from its ancestors (layer, covered, clipped)
 *          agrees with them
 * scene-4  keys rise in a walk that meets parents first and low siblings first
 */
#include "scene_internal.h"

static uint32_t find_target(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = ikvi_scene_find(scene, target);
    return place != ROOT_ITEM ? place : NO_ITEM;
}

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_scene(const ikv_scene_config *config,
                                const ikv_reporter *reporter, ikv_scene *s)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"scene.targets", config->targets, 0, (1u << 24) - 1},
        {"scene.layers", config->layers, 0, LAYER_LIMIT},
        {"scene.views", config->views, 0, VIEW_LIMIT},
        {"scene.polygons", config->polygons, 0, 1u << 24}};
    ikv_status status = ikvi_check_ranges(reporter, "scene", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    /* A target's place is the same here and there, the fixed ones included. */
    s->capacity = ikvi_or(config->targets, 1024) + 2; /* as the bus */
    s->layers = ikvi_or(config->layers, 1);
    s->views = ikvi_or(config->views, 1);
    s->polygon_room = ikvi_or(config->polygons, 64);
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *s);
    s->items = ikvi_layout_add(&l, s->capacity, sizeof(scene_item));
    s->polygons = ikvi_layout_add(&l, s->polygon_room, sizeof(scene_polygon));
    s->cameras =
        ikvi_layout_add(&l, (size_t)s->layers * s->views, sizeof(scene_camera));
    ikvi_index_layout(s, &l, config->plain);
    s->s.counters.target_bytes =
        (float)sizeof(scene_item) + s->s.counters.index_bytes;
    s->size = ikvi_layout_size(&l);
    return s->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_scene_footprint(const ikv_scene_config *config)
{
    ikv_scene plan = {.size = 0};
    return config != NULL &&
                   lay_out_scene(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

static void clear_item(scene_item *item)
{
    /* Of no target: 0 in `target` is what a free place is told by. */
    *item = (scene_item){.parent = NO_ITEM,
                         .first_child = NO_ITEM,
                         .last_child = NO_ITEM,
                         .above = NO_ITEM,
                         .below = NO_ITEM,
                         .world = {0, 0, 1, 0},
                         .cos = 1,
                         .scale = 1};
}

static void open_scene(ikv_scene *scene)
{
    for (uint32_t i = 0; i < scene->capacity; i++)
        clear_item(item_at(scene, i));
    for (uint32_t i = 0; i < scene->polygon_room; i++)
        polygon_at(scene, i)->next_free =
            i + 1 < scene->polygon_room ? i + 1 : NO_ITEM;
    /* All layers' cameras lie in one row. */
    for (uint32_t i = 0; i < scene->layers * scene->views; i++)
        ikvi_camera_reset(camera_at(scene, 0, i));
    item_at(scene, ROOT_ITEM)->target = ikvi_bus_root().bits;
    ikvi_index_open(scene);
}

ikv_status ikv_scene_open(const ikv_scene_config *config, ikv_scene **scene)
{
    if (config == NULL || scene == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_scene plan = {
        .memory = config->memory,
        .identity = ikvi_identity(
            config, offsetof(ikv_scene_config, announces) + sizeof(bool)),
        .bus = config->bus,
        .announces = config->announces,
        .own_test = config->own_test,
        .own_user = config->own_user,
        .reporter = config->reporter};
    void *block = NULL;
    if (ikvi_is_fused())
        return ikvi_bad_config(&config->reporter, IKV_BAD_CONFIG, "scene",
                               "the library was built with fused products: "
                               "-ffp-contract=off is missing");
    ikv_status status = lay_out_scene(config, &config->reporter, &plan);
    if (status == IKV_OK && (config->bus == NULL ||
                             ikvi_bus_target_room(config->bus) > plan.capacity))
        status = ikvi_bad_config(
            &config->reporter, IKV_BAD_CONFIG, "scene",
            config->bus == NULL ? "the config's bus is NULL"
                                : "scene.targets is less than bus.targets");
    /* From here on each error gives the bus back. */
    if (status == IKV_OK && !ikvi_bus_take_scene(config->bus, true))
        return ikvi_bad_config(
            &config->reporter, IKV_BUSY, "scene",
            "the bus has a scene already: tags, bodies, paths and images are "
            "of one; use layers and views");
    if (status == IKV_OK &&
        (status = ikvi_memory_take(&config->memory, plan.size, &block)) < 0)
        ikvi_bus_take_scene(config->bus, false);
    if (block == NULL)
        return status;
    *scene = block;
    **scene = plan;
    open_scene(*scene);
    return IKV_OK;
}

ikv_status ikv_scene_close(ikv_scene *scene)
{
    if (scene == NULL)
        return IKV_OK;
    if (ikvi_bus_is_busy(scene->bus)) {
        ikvi_report(&scene->reporter, IKV_REPORT_ERROR, IKV_BUSY, "scene",
                    "not closed: inside a handler");
        return IKV_BUSY;
    }
    /* They stay targets of the bus, which may remove them now. */
    for (uint32_t i = ROOT_ITEM + 1; i < scene->capacity; i++)
        if (item_at(scene, i)->target != 0)
            ikvi_bus_set_in_scene(
                scene->bus, (ikv_target){item_at(scene, i)->target}, false);
    ikvi_bus_take_scene(scene->bus, false);
    ikv_memory memory = scene->memory;
    ikvi_memory_give(&memory, scene, scene->size);
    return IKV_OK;
}

static ikv_target parent_for_bus(void *user, ikv_target target)
{
    return ikv_scene_parent(user, target);
}

static bool local_for_bus(void *user, ikv_target target, uint8_t view, float x,
                          float y, float layer[2], float local[2])
{
    return ikv_scene_to_local(user, target, view, x, y, layer, local);
}

static uint32_t tags_for_bus(void *user, ikv_target target)
{
    return ikv_scene_tags(user, target);
}

static ikv_target body_for_bus(void *user, ikv_target target)
{
    return ikv_scene_body(user, target);
}

ikv_bus_callbacks ikv_scene_callbacks(ikv_scene *scene)
{
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    callbacks.user = scene;
    callbacks.parent = parent_for_bus;
    callbacks.tags = tags_for_bus;
    callbacks.body = body_for_bus;
    callbacks.to_local = local_for_bus;
    return callbacks;
}

/* --------------------------------------------------------------- adding -- */

enum {
    OWN_TRAITS = IKV_FOCUSABLE | IKV_TAKES_TEXT | IKV_CAPTURES | IKV_STAYS_LIVE,
    GRACE_LIMIT = 4095
};

static bool grace_usable(float grace)
{
    return grace >= 0 && grace <= GRACE_LIMIT;
}

static bool is_tab(int32_t tab)
{
    return tab >= IKV_NO_TAB && tab <= INT16_MAX;
}

static const char *config_fault(const ikv_scene *scene,
                                const ikv_target_config *config)
{
    const char *fault = ikvi_placement_fault(config->x, config->y,
                                             config->rotation, config->scale);
    if (fault != NULL)
        return fault;
    if (config->hit > IKV_HIT_OFF)
        return "hit is none of IKV_HIT_SOLID, IKV_HIT_PASS, IKV_HIT_OFF";
    /* Hidden and passing have members of their own. */
    if ((config->traits & ~(uint32_t)OWN_TRAITS) != 0)
        return "traits has an unknown bit";
    if (config->layer >= scene->layers)
        return "there is no such layer: raise scene.layers";
    if (!grace_usable(config->grace))
        return "grace must be 0 to 4,095";
    if (!is_tab(config->tab))
        return "tab must be IKV_NO_TAB or 0 to 32,767";
    if (config->shape.type == IKV_SHAPE_OWN && scene->own_test == NULL)
        return "a shape of one's own needs the scene's own_test";
    return ikv_scene_shape_fault(&config->shape);
}

static ikv_status say(ikv_message *message, ikv_status status, const char *text)
{
    const char *parts[] = {text, NULL};
    ikvi_message(message, parts);
    return status;
}

static ikv_status say_status(ikv_message *message, ikv_status status)
{
    return say(message, status, ikv_status_text(status));
}

/* Grace is kept in sixteenths of a unit: 4,095 of them and a fraction fit into
 * 16 bits. */
static void fill_item(scene_item *item, const ikv_target_config *config)
{
    item->x = config->x;
    item->y = config->y;
    /* 0 is what INIT leaves, and stands for 1. */
    item->scale = config->scale > 0 ? config->scale : 1;
    ikvi_item_rotate(item, config->rotation);
    item->z = config->z;
    item->tags = config->tags;
    item->grace = (uint16_t)(config->grace * 16);
    item->tab = (int16_t)config->tab;
    item->type_traits = packed_traits(config->traits);
    item->layer = (uint8_t)config->layer;
    item->flags = (uint8_t)(config->hit | (config->hidden ? ITEM_HIDDEN : 0) |
                            (config->body ? ITEM_BODY : 0) |
                            (config->clip ? ITEM_CLIPS : 0));
    item->user = config->user;
}

/* What a config asks for, checked; `parent` gets its place. */
static ikv_status check_addition(const ikv_scene *scene,
                                 const ikv_target_config *config,
                                 uint32_t *parent, ikv_message *message)
{
    if (config->size != sizeof *config)
        return say(message, IKV_BAD_SIZE,
                   "size is not that of the struct: begin with "
                   "IKV_TARGET_INIT");
    const char *fault = config_fault(scene, config);
    if (fault != NULL)
        return say(message, IKV_BAD_ARGUMENT, fault);
    *parent = config->parent.bits != 0 ? ikvi_scene_find(scene, config->parent)
                                       : ROOT_ITEM;
    if (*parent == NO_ITEM)
        return say(message, IKV_STALE, "the parent is not in this scene");
    /* A subtree is in one layer, which its top says. */
    if (*parent != ROOT_ITEM && config->layer != 0 &&
        config->layer != item_at(scene, *parent)->layer)
        return say(message, IKV_BAD_ARGUMENT,
                   "the layer is not that of the parent: leave it out");
    if (item_at(scene, *parent)->level + 2 > IKV_PATH_LIMIT)
        return say_status(message, IKV_FULL_DEPTH);
    if (config->shape.type == IKV_SHAPE_POLYGON &&
        scene->s.free_polygon == NO_ITEM)
        return say_status(message, IKV_FULL_POLYGONS);
    return IKV_OK;
}

/* The scene is in order when handlers hear of its change, and they may change
 * it again. */
static void deliver_tree(ikv_scene *scene, ikv_kind kind, ikv_target target,
                         ikv_target source, ikv_tree_data tree)
{
    if (!ikvi_bus_hears_any(scene->bus, kind))
        return;
    ikv_event event = ikv_event_make(kind, ikvi_bus_time(scene->bus));
    uint32_t place = find_target(scene, target);
    event.target = target;
    event.source = source;
    if (place != NO_ITEM) {
        tree.x = item_at(scene, place)->x;
        tree.y = item_at(scene, place)->y;
    }
    event.tree = tree;
    ikv_bus_deliver(scene->bus, &event);
}

static void announce(ikv_scene *scene, ikv_kind kind, ikv_target target,
                     ikv_target parent, uint8_t reason)
{
    if (IKVI_UNLIKELY(scene->announces))
        deliver_tree(
            scene, kind, target, (ikv_target){0},
            (ikv_tree_data){.parent = parent,
                            .reason = reason,
                            .id = ikv_bus_target_id(scene->bus, target)});
}

/* What went is told at what is left, by its number too: nobody can ask for that
 * any more. */
static void announce_removed(ikv_scene *scene, ikv_target former,
                             ikv_target gone, uint32_t id)
{
    if (IKVI_UNLIKELY(scene->announces) && former.bits != 0)
        deliver_tree(scene, IKV_KIND_TREE_DETACH, former, gone,
                     (ikv_tree_data){.parent = former,
                                     .reason = IKV_TREE_REMOVED,
                                     .id = id});
}

static void announce_at(ikv_scene *scene, ikv_kind kind, ikv_target target)
{
    /* Asked before all else: things move all the time. */
    if (IKVI_UNLIKELY(scene->announces) && ikvi_bus_hears_any(scene->bus, kind))
        announce(scene, kind, target, ikv_scene_parent(scene, target), 0);
}

/* All that can fail comes first. The announcement comes last, when a handler
 * may do anything, the new target's removal too. */
ikv_status ikv_scene_add(ikv_scene *scene, const ikv_target_config *config,
                         ikv_target *target, ikv_message *message)
{
    uint32_t parent = NO_ITEM;
    if (scene == NULL || config == NULL || target == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_status status = check_addition(scene, config, &parent, message);
    if (status < 0)
        return status;
    status = ikv_bus_add_target(scene->bus, config->id, target);
    if (status < 0)
        return say_status(message, status);
    ikvi_bus_set_in_scene(scene->bus, *target, true);
    uint32_t place = ikv_bus_target_place(scene->bus, *target);
    scene_item *item = item_at(scene, place);
    IKVI_CHECK(item->target == 0); /* scene-1 */
    clear_item(item);
    item->target = target->bits;
    fill_item(item, config);
    ikvi_shape_store(scene, item, &config->shape);
    if (parent != ROOT_ITEM)
        item->layer = item_at(scene, parent)->layer;
    ikvi_scene_link(scene, place, parent, false, NO_ITEM);
    scene->s.count++;
    ikvi_scene_place(scene, place);
    ikvi_scene_reordered(scene, place);
    /* The caller's handle may be where a handler writes. */
    ikv_target added = *target;
    announce(scene, IKV_KIND_TREE_ATTACH, added, ikv_scene_parent(scene, added),
             IKV_TREE_ADDED);
    return ikvi_fine(message);
}

/* The lowest descendant of all along first children. */
static uint32_t deepest_first(const ikv_scene *scene, uint32_t place)
{
    while (item_at(scene, place)->first_child != NO_ITEM)
        place = item_at(scene, place)->first_child;
    return place;
}

/* Children go before their parents, each wholly out of the scene and the bus
 * before anybody is told; so what is told may change the scene. */
ikv_status ikv_scene_remove(ikv_scene *scene, ikv_target target)
{
    uint32_t top = find_target(scene, target);
    if (top == NO_ITEM)
        return IKV_STALE;
    /* A handler may add below it meanwhile: that goes, too. */
    while (find_target(scene, target) == top) {
        /* What was removed is told at what is left: its parent, which may be
         * another by now. */
        ikv_target former = ikv_scene_parent(scene, target);
        uint32_t place = deepest_first(scene, top);
        ikv_target gone = {item_at(scene, place)->target};
        uint32_t id = ikv_bus_target_id(scene->bus, gone);
        IKVI_CHECK(scene->s.count > 0 && place != ROOT_ITEM);
        ikvi_scene_unlink(scene, place);
        /* While the item still has its key and place. */
        ikvi_index_removed(scene, place);
        ikvi_shape_drop(scene, item_at(scene, place));
        clear_item(item_at(scene, place));
        scene->s.count--;
        scene->s.revision++;
        ikvi_bus_set_in_scene(scene->bus, gone, false);
        ikv_bus_remove_target(scene->bus, gone);
        for (uint32_t i = 0; i < scene->watcher_count; i++)
            scene->watchers[i].watcher(scene->watchers[i].user, gone, former);
        announce_removed(scene, former, gone, id);
    }
    return IKV_OK;
}

/* ------------------------------------------------------------- changing -- */

static void placed(ikv_scene *scene, uint32_t place)
{
    ikvi_scene_place(scene, place);
    scene->s.revision++;
}

static void touched(ikv_scene *scene, uint32_t place)
{
    ikvi_index_changed(scene, place);
    scene->s.revision++;
}

ikv_status ikv_scene_move(ikv_scene *scene, ikv_target target, float x, float y)
{
    uint32_t place = find_target(scene, target);
    if (IKVI_UNLIKELY(place == NO_ITEM))
        return IKV_STALE;
    if (!coordinate_fits(x) || !coordinate_fits(y))
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->x = x;
    item_at(scene, place)->y = y;
    /* Neither turned nor hidden: children aside, two numbers change. */
    ikvi_scene_shift(scene, place);
    scene->s.revision++;
    announce_at(scene, IKV_KIND_TREE_MOVE, target);
    return IKV_OK;
}

ikv_status ikv_scene_move_many(ikv_scene *scene, const ikv_motion *motions,
                               uint32_t count)
{
    ikv_status first = IKV_OK;
    if (scene == NULL || (motions == NULL && count > 0))
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; i < count; i++) {
        ikv_status status = ikv_scene_move(scene, motions[i].target,
                                           motions[i].x, motions[i].y);
        first = first == IKV_OK ? status : first;
    }
    return first;
}

ikv_status ikv_scene_turn(ikv_scene *scene, ikv_target target,
                          ikv_rotation rotation)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (ikvi_placement_fault(0, 0, rotation, 0) != NULL)
        return IKV_BAD_ARGUMENT;
    ikvi_item_rotate(item_at(scene, place), rotation);
    placed(scene, place);
    return IKV_OK;
}

ikv_status ikv_scene_turn_to(ikv_scene *scene, ikv_target target, uint32_t view,
                             float x, float y)
{
    float to[2], origin[2];
    float own[2] = {0, 0};
    if (!ikv_scene_alive(scene, target))
        return IKV_STALE;
    if (!ikv_scene_to_parent(scene, target, view, x, y, to))
        return IKV_BAD_ARGUMENT;
    ikv_scene_position(scene, target, own, origin);
    /* There is no direction to where it is. */
    if (to[0] == own[0] && to[1] == own[1])
        return IKV_OK;
    return ikv_scene_turn(scene, target,
                          ikv_scene_direction(to[0] - own[0], to[1] - own[1]));
}

ikv_status ikv_scene_resize(ikv_scene *scene, ikv_target target, float scale)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (ikvi_placement_fault(0, 0, (ikv_rotation){0, 0}, scale) != NULL)
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->scale = scale > 0 ? scale : 1;
    placed(scene, place);
    return IKV_OK;
}

/* Takes a target out of its siblings and in again. Where it stays where it was,
 * so do all orders; yet the scene counts as changed. */
static void relink(ikv_scene *scene, uint32_t place, bool lowest)
{
    const scene_item *item = item_at(scene, place);
    uint32_t below = item->below, above = item->above;
    ikvi_scene_unlink(scene, place);
    ikvi_scene_link(scene, place, item->parent, lowest,
                    below != NO_ITEM ? below : above);
    if (item->below != below)
        ikvi_scene_reordered(scene, place);
    else
        scene->s.revision++;
}

ikv_status ikv_scene_set_z(ikv_scene *scene, ikv_target target, int32_t z)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    item_at(scene, place)->z = z;
    relink(scene, place, false);
    return IKV_OK;
}

ikv_status ikv_scene_raise(ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    relink(scene, place, false);
    return IKV_OK;
}

ikv_status ikv_scene_lower(ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    relink(scene, place, true);
    return IKV_OK;
}

/* A handler that hears of the detaching may remove the target: then nothing is
 * attached. */
ikv_status ikv_scene_set_parent(ikv_scene *scene, ikv_target target,
                                ikv_target parent)
{
    uint32_t place = find_target(scene, target);
    uint32_t to = parent.bits != 0 ? ikvi_scene_find(scene, parent) : ROOT_ITEM;
    if (place == NO_ITEM || to == NO_ITEM)
        return IKV_STALE;
    /* Nothing may hang on itself. */
    for (uint32_t at = to; at != NO_ITEM; at = item_at(scene, at)->parent)
        if (at == place)
            return IKV_CYCLE;
    if (item_at(scene, to)->level + 1 + ikvi_scene_height(scene, place) >
        IKV_PATH_LIMIT)
        return IKV_FULL_DEPTH;
    ikv_target former = ikv_scene_parent(scene, target);
    ikvi_scene_unlink(scene, place);
    if (to != ROOT_ITEM)
        item_at(scene, place)->layer = item_at(scene, to)->layer;
    ikvi_scene_link(scene, place, to, false, NO_ITEM);
    /* Where it is in its parent stays: in the layer it jumps. */
    placed(scene, place);
    ikvi_scene_reordered(scene, place);
    announce(scene, IKV_KIND_TREE_DETACH, target, former, IKV_TREE_REPARENTED);
    if (find_target(scene, target) != NO_ITEM)
        announce(scene, IKV_KIND_TREE_ATTACH, target,
                 ikv_scene_parent(scene, target), IKV_TREE_REPARENTED);
    return IKV_OK;
}

ikv_status ikv_scene_set_layer(ikv_scene *scene, ikv_target target,
                               uint32_t layer)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    scene_item *item = item_at(scene, place);
    if (layer >= scene->layers ||
        (item->parent != ROOT_ITEM && layer != item->layer))
        return IKV_BAD_ARGUMENT;
    if (layer == item->layer)
        return IKV_OK;
    ikvi_scene_unlink(scene, place);
    item->layer = (uint8_t)layer;
    ikvi_scene_link(scene, place, ROOT_ITEM, false, NO_ITEM);
    placed(scene, place);
    ikvi_scene_reordered(scene, place);
    return IKV_OK;
}

ikv_status ikv_scene_set_shape(ikv_scene *scene, ikv_target target,
                               const ikv_shape *shape)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (ikv_scene_shape_fault(shape) != NULL ||
        (shape->type == IKV_SHAPE_OWN && scene->own_test == NULL))
        return IKV_BAD_ARGUMENT;
    if (!ikvi_shape_store(scene, item_at(scene, place), shape))
        return IKV_FULL_POLYGONS;
    touched(scene, place);
    return IKV_OK;
}

ikv_status ikv_scene_set_hit(ikv_scene *scene, ikv_target target, uint32_t hit)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (hit > IKV_HIT_OFF)
        return IKV_BAD_ARGUMENT;
    uint8_t *flags = &item_at(scene, place)->flags;
    *flags = (uint8_t)((*flags & ~(unsigned)ITEM_HIT) | hit);
    touched(scene, place);
    return IKV_OK;
}

ikv_status ikv_scene_set_grace(ikv_scene *scene, ikv_target target, float grace)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (!grace_usable(grace))
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->grace = (uint16_t)(grace * 16);
    touched(scene, place);
    return IKV_OK;
}

ikv_status ikv_scene_set_traits(ikv_scene *scene, ikv_target target,
                                uint32_t traits)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if ((traits & ~(uint32_t)OWN_TRAITS) != 0)
        return IKV_BAD_ARGUMENT;
    uint8_t *both = &item_at(scene, place)->type_traits;
    /* The lower half is the shape's type. */
    *both = (uint8_t)((*both & 15u) | packed_traits(traits));
    scene->s.revision++; /* for who has the keys */
    return IKV_OK;
}

ikv_status ikv_scene_set_tab(ikv_scene *scene, ikv_target target, int32_t tab)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (!is_tab(tab))
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->tab = (int16_t)tab;
    return IKV_OK;
}

static ikv_status set_flag(ikv_scene *scene, ikv_target target, unsigned flag,
                           bool on)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    uint8_t *flags = &item_at(scene, place)->flags;
    bool was = (*flags & flag) != 0;
    *flags = (uint8_t)(on ? *flags | flag : *flags & ~flag);
    /* All that is beneath has it from here. */
    placed(scene, place);
    if (flag == ITEM_HIDDEN && was != on)
        announce_at(scene, on ? IKV_KIND_TREE_HIDE : IKV_KIND_TREE_SHOW,
                    target);
    return IKV_OK;
}

ikv_status ikv_scene_show(ikv_scene *scene, ikv_target target, bool shown)
{
    return set_flag(scene, target, ITEM_HIDDEN, !shown);
}

ikv_status ikv_scene_set_clip(ikv_scene *scene, ikv_target target, bool clip)
{
    return set_flag(scene, target, ITEM_CLIPS, clip);
}

ikv_status ikv_scene_set_tags(ikv_scene *scene, ikv_target target,
                              uint32_t tags)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    item_at(scene, place)->tags = tags;
    if (scene->changes != NULL)
        ikvi_changes_note(scene->changes, place, IKVI_HAS_CHANGED);
    return IKV_OK;
}

/* -------------------------------------------------------------- reading -- */

ikv_target ikv_scene_parent(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return (ikv_target){0};
    return (ikv_target){item_at(scene, item_at(scene, place)->parent)->target};
}

/* The target's item; a free one's, all zero, if it is stale. */
static const scene_item *item_of(const ikv_scene *scene, ikv_target target)
{
    static const scene_item nobodys = {.user = NULL};
    uint32_t place = find_target(scene, target);
    return place != NO_ITEM ? item_at(scene, place) : &nobodys;
}

void *ikv_scene_user(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->user;
}

uint32_t ikv_scene_layer(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->layer;
}

uint32_t ikv_scene_traits(const ikv_scene *scene, ikv_target target)
{
    return item_traits(item_of(scene, target));
}

ikvi_manner ikvi_scene_manner(const ikv_scene *scene, ikv_target target)
{
    const scene_item *item = item_of(scene, target);
    return (ikvi_manner){
        .traits = item_traits(item),
        .passes = (item->flags & ITEM_HIT) == IKV_HIT_PASS,
        .shown = item->target != 0 &&
                 (item->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN)) == 0};
}

uint32_t ikv_scene_hit(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->flags & ITEM_HIT;
}

bool ikv_scene_shown(const ikv_scene *scene, ikv_target target)
{
    return ikvi_scene_manner(scene, target).shown;
}

ikv_shape ikv_scene_shape(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    ikv_shape s = {.type = IKV_SHAPE_NONE};
    if (place == NO_ITEM)
        return s;
    const scene_item *item = item_at(scene, place);
    const float *n = item->shape.numbers;
    s.type = item_shape(item);
    if (s.type == IKV_SHAPE_POLYGON) {
        const scene_polygon *p = polygon_at(scene, item->shape.polygon);
        s.points = p->points;
        s.point_count = p->count;
    } else if (s.type != IKV_SHAPE_NONE) {
        s.x = n[0], s.y = n[1];
    }
    if (s.type == IKV_SHAPE_RECT || s.type == IKV_SHAPE_OWN)
        s.width = n[2], s.height = n[3];
    else if (s.type == IKV_SHAPE_CIRCLE)
        s.radius = n[2];
    else if (s.type == IKV_SHAPE_CAPSULE)
        s.x2 = n[2], s.y2 = n[3], s.radius = n[4];
    return s;
}

int32_t ikv_scene_z(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->z;
}

bool ikv_scene_clip(const ikv_scene *scene, ikv_target target)
{
    return (item_of(scene, target)->flags & ITEM_CLIPS) != 0;
}

float ikv_scene_grace(const ikv_scene *scene, ikv_target target)
{
    return (float)item_of(scene, target)->grace / 16;
}

float ikv_scene_scale(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->scale;
}

ikv_rotation ikv_scene_turned(const ikv_scene *scene, ikv_target target)
{
    const scene_item *item = item_of(scene, target);
    return (ikv_rotation){item->cos, item->sin};
}

uint32_t ikv_scene_tags(const ikv_scene *scene, ikv_target target)
{
    return item_of(scene, target)->tags;
}

ikv_target ikv_scene_body(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return (ikv_target){0};
    return (ikv_target){item_at(scene, ikvi_scene_body(scene, place))->target};
}

/* ------------------------------------------------------------- watching -- */

uint64_t ikv_scene_revision(const ikv_scene *scene)
{
    return scene != NULL ? scene->s.revision : 0;
}

ikv_status ikv_scene_watch_removals(ikv_scene *scene,
                                    ikv_removal_watcher watcher, void *user)
{
    if (scene == NULL || watcher == NULL)
        return IKV_BAD_ARGUMENT;
    if (scene->watcher_count == WATCHERS)
        return IKV_FULL_WATCHERS;
    scene->watchers[scene->watcher_count].watcher = watcher;
    scene->watchers[scene->watcher_count++].user = user;
    return IKV_OK;
}

ikv_status ikv_scene_counters(const ikv_scene *scene, ikv_scene_counts *counts)
{
    if (scene == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_scene_counts found = scene->s.counters;
    found.targets = scene->s.count;
    /* What is so now, beside what has been counted. */
    found.gridded = scene->s.index.gridded;
    return ikvi_give_sized(counts, &found, sizeof found);
}

/* ------------------------------------------------------ for those above -- */

void ikvi_scene_note_changes(ikv_scene *scene, ikvi_changes *changes)
{
    scene->changes = changes;
}

bool ikvi_scene_notes_changes(const ikv_scene *scene)
{
    return scene->changes != NULL;
}

uint64_t ikvi_scene_saved(ikv_scene *scene, ikvi_saved *to)
{
    const size_t from = offsetof(ikv_scene, s);
    *to = (ikvi_saved){(char *)scene + from, scene->size - from};
    return scene->identity;
}

/* ------------------------------------------------------------ validator -- */

static bool same_placement(const scene_item *item, const scene_item *parent)
{
    const transform *p = &parent->world, *w = &item->world;
    float x = p->x + (p->c * item->x - p->s * item->y);
    float y = p->y + (p->s * item->x + p->c * item->y);
    bool covered = (parent->flags & (ITEM_HIDDEN | ITEM_IN_HIDDEN)) != 0;
    bool clipped = (parent->flags & (ITEM_CLIPS | ITEM_CLIPPED)) != 0;
    /* By the same sums as when it was placed: equal to the last bit. */
    return (w->x == x || !number_finite(x)) &&
           (w->y == y || !number_finite(y)) &&
           item->level == parent->level + 1 &&
           ((item->flags & ITEM_IN_HIDDEN) != 0) == covered &&
           ((item->flags & ITEM_CLIPPED) != 0) == clipped;
}

static const char *validate_item(const ikv_scene *scene, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    const scene_item *parent = item_at(scene, item->parent);
    ikv_target target = {item->target};
    if (ikv_bus_target_place(scene->bus, target) != place ||
        parent->target == 0)
        return "scene-1";
    const char *broken = ikvi_scene_validate_order(scene, place);
    if (broken != NULL)
        return broken;
    if (!same_placement(item, parent) ||
        (item->parent != ROOT_ITEM && item->layer != parent->layer))
        return "scene-3";
    return NULL;
}

const char *ikv_scene_validate(const ikv_scene *scene)
{
    if (scene == NULL)
        return NULL;
    uint32_t used = 0, walked = 0;
    for (uint32_t i = 1; i < scene->capacity; i++) {
        if (item_at(scene, i)->target == 0)
            continue;
        used++;
        const char *broken = validate_item(scene, i);
        if (broken != NULL)
            return broken;
    }
    for (uint32_t at = ROOT_ITEM; at != NO_ITEM && walked <= used;
         at = ikvi_scene_walk(scene, ROOT_ITEM, at))
        walked++;
    if (used != scene->s.count || walked != used + 1)
        return "scene-1";
    return ikvi_index_validate(scene);
}
