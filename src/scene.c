/* scene.c - the tree of targets, and the hit test as a plain scan.
 *
 * Items are placed as the bus places their targets; place 0 is the root. The
 * scan goes along `order`, all items from the topmost down, which is made anew
 * when the tree's shape has changed.
 *
 * S1  an item in use bears its target's handle, and its parent is in use
 * S2  siblings are linked from low to high, sorted by z
 * S3  an item's origin in the view is its parent's plus its own position
 * S4  while `ordered`, `order` holds every item once, children before parents
 */
#include "internal.h"

#include "ikvar/scene.h"

#define NO_ITEM UINT32_MAX
enum {
    ROOT_ITEM = 0,
    WATCHERS = 8
};

typedef struct scene_item {
    uint32_t target; /* bits; 0 when free */
    uint32_t parent, first_child, last_child, above, below;
    float x, y, view_x, view_y;
    int32_t z;
    uint32_t traits;
    uint32_t tags;
    uint8_t hit;
    bool hidden, body;
    uint16_t level; /* the root's is 0 */
    ikv_shape shape;
    void *user;
} scene_item;

struct ikv_scene {
    ikv_memory memory;
    size_t size;
    ikv_bus *bus;
    ikv_reporter reporter;
    struct {
        ikv_removal_watcher watcher;
        void *user;
    } watchers[WATCHERS];
    uint32_t watcher_count;
    uint32_t capacity;
    size_t items, order;
    uint64_t revision;
    uint32_t count;
    bool ordered;
};

static scene_item *item_at(const ikv_scene *scene, uint32_t place)
{
    return (scene_item *)ikvi_at((void *)(uintptr_t)scene, scene->items) +
           place;
}

static uint32_t *order_of(const ikv_scene *scene)
{
    return ikvi_at((void *)(uintptr_t)scene, scene->order);
}

/* The place of one of this scene's targets, NO_ITEM if stale. */
static uint32_t find_item(const ikv_scene *scene, ikv_target target)
{
    if (scene == NULL || target.bits == 0)
        return NO_ITEM;
    uint32_t place = ikv_bus_target_place(scene->bus, target);
    return place != UINT32_MAX && item_at(scene, place)->target == target.bits
               ? place
               : NO_ITEM;
}

static uint32_t find_target(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_item(scene, target);
    return place != ROOT_ITEM ? place : NO_ITEM;
}

static bool finite(float value)
{
    return value - value == 0;
}

ikv_shape ikv_scene_rect(float x, float y, float width, float height)
{
    return (ikv_shape){IKV_SHAPE_RECT, x, y, width, height, 0};
}

ikv_shape ikv_scene_circle(float x, float y, float radius)
{
    return (ikv_shape){IKV_SHAPE_CIRCLE, x, y, 0, 0, radius};
}

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_scene(const ikv_scene_config *config, ikv_scene *s)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    s->capacity = ikvi_or(config->targets, 1024) + 2; /* as the bus */
    ikvi_layout l = {0, false};
    ikvi_layout_add(&l, 1, sizeof *s);
    s->items = ikvi_layout_add(&l, s->capacity, sizeof(scene_item));
    s->order = ikvi_layout_add(&l, s->capacity, sizeof(uint32_t));
    s->size = ikvi_layout_size(&l);
    return s->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_scene_footprint(const ikv_scene_config *config)
{
    ikv_scene plan;
    return config != NULL && lay_out_scene(config, &plan) == IKV_OK ? plan.size
                                                                    : 0;
}

static void clear_item(scene_item *item)
{
    *item = (scene_item){.parent = NO_ITEM,
                         .first_child = NO_ITEM,
                         .last_child = NO_ITEM,
                         .above = NO_ITEM,
                         .below = NO_ITEM};
}

ikv_status ikv_scene_open(const ikv_scene_config *config, ikv_scene **scene)
{
    if (config == NULL || scene == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_scene plan = {.memory = config->memory,
                      .bus = config->bus,
                      .reporter = config->reporter};
    void *block = NULL;
    ikv_status status = lay_out_scene(config, &plan);
    if (status == IKV_OK && (config->bus == NULL ||
                             ikvi_bus_target_room(config->bus) > plan.capacity))
        status = IKV_BAD_CONFIG;
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    *scene = block;
    **scene = plan;
    for (uint32_t i = 0; i < plan.capacity; i++)
        clear_item(item_at(*scene, i));
    item_at(*scene, ROOT_ITEM)->target = ikv_bus_root(config->bus).bits;
    return IKV_OK;
}

void ikv_scene_close(ikv_scene *scene)
{
    if (scene != NULL) {
        ikv_memory memory = scene->memory;
        ikvi_memory_give(&memory, scene, scene->size);
    }
}

static ikv_target parent_for_bus(void *user, ikv_target target)
{
    return ikv_scene_parent(user, target);
}

static bool alive_for_bus(void *user, ikv_target target)
{
    return ikv_scene_alive(user, target);
}

static bool local_for_bus(void *user, ikv_target target, uint8_t view, float x,
                          float y, float layer[2], float local[2])
{
    (void)view;
    uint32_t place = find_item(user, target);
    if (place == NO_ITEM)
        return false;
    const scene_item *item = item_at(user, place);
    layer[0] = x;
    layer[1] = y;
    local[0] = x - item->view_x;
    local[1] = y - item->view_y;
    return true;
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
    callbacks.alive = alive_for_bus;
    callbacks.tags = tags_for_bus;
    callbacks.body = body_for_bus;
    callbacks.to_local = local_for_bus;
    return callbacks;
}

/* ------------------------------------------------------------- the tree -- */

static void changed(ikv_scene *scene, bool order)
{
    scene->revision++;
    if (order)
        scene->ordered = false;
}

static void link_item(ikv_scene *scene, uint32_t place, uint32_t parent)
{
    scene_item *item = item_at(scene, place), *p = item_at(scene, parent);
    uint32_t below = p->last_child;
    while (below != NO_ITEM && item_at(scene, below)->z > item->z)
        below = item_at(scene, below)->below;
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

static void unlink_item(ikv_scene *scene, uint32_t place)
{
    scene_item *item = item_at(scene, place);
    scene_item *p = item_at(scene, item->parent);
    if (item->below != NO_ITEM)
        item_at(scene, item->below)->above = item->above;
    else
        p->first_child = item->above;
    if (item->above != NO_ITEM)
        item_at(scene, item->above)->below = item->below;
    else
        p->last_child = item->below;
}

/* The item after this one in a walk over `top`'s subtree that meets parents
 * before children; NO_ITEM at its end. */
static uint32_t walk_next(const ikv_scene *scene, uint32_t top, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    if (item->first_child != NO_ITEM)
        return item->first_child;
    while (place != top) {
        item = item_at(scene, place);
        if (item->above != NO_ITEM)
            return item->above;
        place = item->parent;
    }
    return NO_ITEM;
}

/* Positions and levels of a subtree, after its top has moved or changed. */
static void place_subtree(ikv_scene *scene, uint32_t top)
{
    for (uint32_t at = top; at != NO_ITEM; at = walk_next(scene, top, at)) {
        scene_item *item = item_at(scene, at);
        const scene_item *parent = item_at(scene, item->parent);
        item->view_x = parent->view_x + item->x;
        item->view_y = parent->view_y + item->y;
        item->level = (uint16_t)(parent->level + 1);
    }
}

/* How many levels the subtree has, its top included. */
static uint32_t height(const ikv_scene *scene, uint32_t top)
{
    uint32_t deepest = 0;
    for (uint32_t at = top; at != NO_ITEM; at = walk_next(scene, top, at)) {
        uint32_t level = item_at(scene, at)->level;
        deepest = level > deepest ? level : deepest;
    }
    return deepest - item_at(scene, top)->level + 1;
}

static const char *shape_fault(ikv_shape shape)
{
    if (shape.type > IKV_SHAPE_CIRCLE)
        return "shape.type is none of IKV_SHAPE_...";
    if (!finite(shape.x) || !finite(shape.y))
        return "the shape's position must be finite";
    if (shape.type == IKV_SHAPE_RECT &&
        !(finite(shape.width) && finite(shape.height) && shape.width >= 0 &&
          shape.height >= 0))
        return "a rectangle's width and height must be finite, 0 or more";
    if (shape.type == IKV_SHAPE_CIRCLE &&
        !(finite(shape.radius) && shape.radius >= 0))
        return "a circle's radius must be finite, 0 or more";
    return NULL;
}

static const char *config_fault(const ikv_target_config *config)
{
    if (!finite(config->x) || !finite(config->y))
        return "x and y must be finite";
    if (config->hit > IKV_HIT_OFF)
        return "hit is none of IKV_HIT_SOLID, IKV_HIT_PASS, IKV_HIT_OFF";
    if (config->traits > (IKV_FOCUSABLE | IKV_TAKES_TEXT | IKV_CAPTURES))
        return "traits has an unknown bit";
    return shape_fault(config->shape);
}

static ikv_status say(ikv_message *message, ikv_status status, const char *text)
{
    const char *parts[] = {text, NULL};
    ikvi_message(message, parts);
    return status;
}

ikv_status ikv_scene_add(ikv_scene *scene, const ikv_target_config *config,
                         ikv_target *target, ikv_message *message)
{
    if (scene == NULL || config == NULL || target == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return say(message, IKV_BAD_SIZE,
                   "size is not that of the struct: begin with "
                   "IKV_TARGET_INIT");
    const char *fault = config_fault(config);
    if (fault != NULL)
        return say(message, IKV_BAD_ARGUMENT, fault);
    uint32_t parent =
        config->parent.bits != 0 ? find_item(scene, config->parent) : ROOT_ITEM;
    if (parent == NO_ITEM)
        return say(message, IKV_STALE, "the parent is not in this scene");
    if (item_at(scene, parent)->level + 2 > IKV_PATH_LIMIT)
        return say(message, IKV_FULL_DEPTH, ikv_status_text(IKV_FULL_DEPTH));
    ikv_status status = ikv_bus_add_target(scene->bus, config->id, target);
    if (status < 0)
        return say(message, status, ikv_status_text(status));
    uint32_t place = ikv_bus_target_place(scene->bus, *target);
    scene_item *item = item_at(scene, place);
    clear_item(item);
    item->target = target->bits;
    item->x = config->x;
    item->y = config->y;
    item->z = config->z;
    item->shape = config->shape;
    item->hit = (uint8_t)config->hit;
    item->traits = config->traits;
    item->tags = config->tags;
    item->body = config->body;
    item->hidden = config->hidden;
    item->user = config->user;
    link_item(scene, place, parent);
    place_subtree(scene, place);
    scene->count++;
    changed(scene, true);
    return IKV_OK;
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
    ikv_target former = ikv_scene_parent(scene, target);
    while (find_target(scene, target) == top) {
        uint32_t place = deepest_first(scene, top);
        ikv_target gone = {item_at(scene, place)->target};
        unlink_item(scene, place);
        clear_item(item_at(scene, place));
        scene->count--;
        changed(scene, true);
        ikv_bus_remove_target(scene->bus, gone);
        for (uint32_t i = 0; i < scene->watcher_count; i++)
            scene->watchers[i].watcher(scene->watchers[i].user, gone, former);
    }
    return IKV_OK;
}

ikv_status ikv_scene_move(ikv_scene *scene, ikv_target target, float x, float y)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (!finite(x) || !finite(y))
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->x = x;
    item_at(scene, place)->y = y;
    place_subtree(scene, place);
    changed(scene, false);
    return IKV_OK;
}

ikv_status ikv_scene_set_z(ikv_scene *scene, ikv_target target, int32_t z)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    unlink_item(scene, place);
    item_at(scene, place)->z = z;
    link_item(scene, place, item_at(scene, place)->parent);
    changed(scene, true);
    return IKV_OK;
}

ikv_status ikv_scene_set_parent(ikv_scene *scene, ikv_target target,
                                ikv_target parent)
{
    uint32_t place = find_target(scene, target);
    uint32_t to = parent.bits != 0 ? find_item(scene, parent) : ROOT_ITEM;
    if (place == NO_ITEM || to == NO_ITEM)
        return IKV_STALE;
    for (uint32_t at = to; at != NO_ITEM; at = item_at(scene, at)->parent)
        if (at == place)
            return IKV_CYCLE;
    if (item_at(scene, to)->level + 1 + height(scene, place) > IKV_PATH_LIMIT)
        return IKV_FULL_DEPTH;
    unlink_item(scene, place);
    link_item(scene, place, to);
    place_subtree(scene, place);
    changed(scene, true);
    return IKV_OK;
}

ikv_status ikv_scene_set_shape(ikv_scene *scene, ikv_target target,
                               ikv_shape shape)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (shape_fault(shape) != NULL)
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->shape = shape;
    changed(scene, false);
    return IKV_OK;
}

ikv_status ikv_scene_set_hit(ikv_scene *scene, ikv_target target, uint32_t hit)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    if (hit > IKV_HIT_OFF)
        return IKV_BAD_ARGUMENT;
    item_at(scene, place)->hit = (uint8_t)hit;
    changed(scene, false);
    return IKV_OK;
}

ikv_status ikv_scene_show(ikv_scene *scene, ikv_target target, bool shown)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    item_at(scene, place)->hidden = !shown;
    changed(scene, false);
    return IKV_OK;
}

/* -------------------------------------------------------------- reading -- */

bool ikv_scene_alive(const ikv_scene *scene, ikv_target target)
{
    return find_item(scene, target) != NO_ITEM;
}

ikv_target ikv_scene_parent(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return (ikv_target){0};
    return (ikv_target){item_at(scene, item_at(scene, place)->parent)->target};
}

void *ikv_scene_user(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    return place != NO_ITEM ? item_at(scene, place)->user : NULL;
}

uint32_t ikv_scene_traits(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    return place != NO_ITEM ? item_at(scene, place)->traits : 0;
}

uint32_t ikv_scene_hit(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    return place != NO_ITEM ? item_at(scene, place)->hit : 0;
}

uint32_t ikv_scene_tags(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    return place != NO_ITEM ? item_at(scene, place)->tags : 0;
}

ikv_status ikv_scene_set_tags(ikv_scene *scene, ikv_target target,
                              uint32_t tags)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return IKV_STALE;
    item_at(scene, place)->tags = tags;
    return IKV_OK;
}

ikv_target ikv_scene_body(const ikv_scene *scene, ikv_target target)
{
    uint32_t place = find_target(scene, target);
    if (place == NO_ITEM)
        return (ikv_target){0};
    uint32_t at = place;
    while (at != ROOT_ITEM && !item_at(scene, at)->body)
        at = item_at(scene, at)->parent;
    return (ikv_target){item_at(scene, at != ROOT_ITEM ? at : place)->target};
}

bool ikv_scene_position(const ikv_scene *scene, ikv_target target,
                        float local[2], float view[2])
{
    uint32_t place = find_item(scene, target);
    if (place == NO_ITEM)
        return false;
    const scene_item *item = item_at(scene, place);
    local[0] = item->x;
    local[1] = item->y;
    view[0] = item->view_x;
    view[1] = item->view_y;
    return true;
}

uint64_t ikv_scene_revision(const ikv_scene *scene)
{
    return scene != NULL ? scene->revision : 0;
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

/* ------------------------------------------------------------- hit test -- */

/* Children from the top down, each with its subtree, then the item itself:
 * the walk that meets parents first and low siblings first, backwards. */
static void make_order(ikv_scene *scene)
{
    uint32_t *order = order_of(scene), at = scene->count;
    for (uint32_t place = walk_next(scene, ROOT_ITEM, ROOT_ITEM);
         place != NO_ITEM; place = walk_next(scene, ROOT_ITEM, place))
        order[--at] = place;
    IKVI_CHECK(at == 0);
    scene->ordered = true;
}

/* How far (x, y) is outside 0..size in one direction. */
static float outside(float at, float size)
{
    return at < 0 ? -at : at > size ? at - size : 0;
}

static bool shape_holds(const ikv_shape *shape, float x, float y, float radius)
{
    x -= shape->x;
    y -= shape->y;
    if (shape->type == IKV_SHAPE_CIRCLE) {
        float reach = shape->radius + radius;
        return x * x + y * y <= reach * reach;
    }
    if (shape->type != IKV_SHAPE_RECT)
        return false;
    if (x >= 0 && x < shape->width && y >= 0 && y < shape->height)
        return true;
    float dx = outside(x, shape->width), dy = outside(y, shape->height);
    return radius > 0 && dx * dx + dy * dy <= radius * radius;
}

static bool is_shown(const ikv_scene *scene, uint32_t place)
{
    for (; place != NO_ITEM; place = item_at(scene, place)->parent)
        if (item_at(scene, place)->hidden)
            return false;
    return true;
}

ikv_target ikv_scene_pick(const ikv_scene *scene, uint8_t view, float x,
                          float y, float radius, uint32_t nth)
{
    (void)view;
    ikv_target none = {0};
    if (scene == NULL || !finite(x) || !finite(y) || !(radius >= 0))
        return none;
    if (!scene->ordered)
        make_order((ikv_scene *)(uintptr_t)scene);
    const uint32_t *order = order_of(scene);
    for (uint32_t i = 0; i < scene->count; i++) {
        const scene_item *item = item_at(scene, order[i]);
        if (item->hit != IKV_HIT_OFF &&
            shape_holds(&item->shape, x - item->view_x, y - item->view_y,
                        radius) &&
            is_shown(scene, order[i]) && nth-- == 0)
            return (ikv_target){item->target};
    }
    return none;
}

/* ------------------------------------------------------------ validator -- */

static const char *validate_item(const ikv_scene *scene, uint32_t place)
{
    const scene_item *item = item_at(scene, place);
    const scene_item *parent = item_at(scene, item->parent);
    ikv_target target = {item->target};
    if (ikv_bus_target_place(scene->bus, target) != place ||
        parent->target == 0)
        return "S1";
    if (item->above != NO_ITEM && (item_at(scene, item->above)->z < item->z ||
                                   item_at(scene, item->above)->below != place))
        return "S2";
    if (item->view_x != parent->view_x + item->x ||
        item->view_y != parent->view_y + item->y ||
        item->level != parent->level + 1)
        return "S3";
    return NULL;
}

const char *ikv_scene_validate(const ikv_scene *scene)
{
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
         at = walk_next(scene, ROOT_ITEM, at))
        walked++;
    if (used != scene->count || walked != used + 1)
        return "S1";
    uint32_t last = NO_ITEM;
    for (uint32_t i = 0; scene->ordered && i < scene->count; i++) {
        if (order_of(scene)[i] == last ||
            item_at(scene, order_of(scene)[i])->target == 0)
            return "S4";
        last = order_of(scene)[i];
    }
    return NULL;
}
