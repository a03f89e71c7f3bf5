/* kit.c - the usual set of modules in one block. */
#include "../event/memory.h"
#include "../event/report.h"
#include "../event/text.h"
#include "../scene/scene_shared.h"

#include "ikvar/kit.h"

struct ikv_kit {
    ikv_memory memory;
    size_t size;
    ikv_queue *queue;
    ikv_bus *bus;
    ikv_scene *scene;
    ikv_router *router;
    ikv_state *state;
    ikv_actions *actions;
    ikv_overlaps *overlaps;
    ikv_input *input;
    ikv_loop *loop;
    bool closing;
};

/* -------------------------------------------- a scene as routers see it -- */

static ikv_target scene_pick(void *scene, const ikv_query *query, uint32_t nth)
{
    return ikv_scene_pick(scene, query, nth);
}

static ikv_target scene_parent(void *scene, ikv_target target)
{
    return ikv_scene_parent(scene, target);
}

static bool scene_alive(void *scene, ikv_target target)
{
    return ikv_scene_alive(scene, target);
}

static uint32_t scene_traits(void *scene, ikv_target target)
{
    /* All that routing asks of a target, in one word. */
    ikvi_manner manner = ikvi_scene_manner(scene, target);
    return manner.traits | (manner.passes ? IKV_PASSES : 0) |
           (manner.shown ? 0 : IKV_HIDDEN);
}

static bool scene_local(void *scene, ikv_target target, uint8_t view, float x,
                        float y, float layer[2], float local[2])
{
    return ikv_scene_to_local(scene, target, view, x, y, layer, local);
}

static ikv_target scene_tab(void *scene, ikv_target from, bool backwards)
{
    return ikv_scene_tab_next(scene, from, backwards);
}

static uint64_t scene_revision(void *scene)
{
    return ikv_scene_revision(scene);
}

static uint32_t scene_layer(void *scene, ikv_target target)
{
    return ikv_scene_layer(scene, target);
}

static bool scene_grip(void *scene, ikv_target target, uint8_t view, float x,
                       float y, float grip[2])
{
    float own[2], in_view[2];
    if (!ikv_scene_to_parent(scene, target, view, x, y, grip) ||
        !ikv_scene_position(scene, target, own, in_view))
        return false;
    /* In the parent's space, so that it stays right whatever the target's own
     * turn. */
    grip[0] -= own[0];
    grip[1] -= own[1];
    return true;
}

static bool scene_carry(void *scene, ikv_target target, uint8_t view, float x,
                        float y, const float grip[2])
{
    float at[2];
    return ikv_scene_to_parent(scene, target, view, x, y, at) &&
           ikv_scene_move(scene, target, at[0] - grip[0], at[1] - grip[1]) ==
               IKV_OK;
}

static uint32_t scene_probe(void *scene, const ikv_query *query,
                            ikv_target target, ikv_obstacle *to, uint32_t room)
{
    return ikv_scene_probe(scene, query, target, to, room);
}

static ikv_target scene_tab_in(void *scene, ikv_target within, ikv_target from,
                               bool backwards)
{
    return ikv_scene_tab_within(scene, within, from, backwards);
}

static ikv_target scene_toward(void *scene, ikv_target within, ikv_target from,
                               uint8_t view, uint32_t direction)
{
    return ikv_scene_toward(scene, within, from, view, direction);
}

static bool scene_box(void *scene, ikv_target target, uint8_t view,
                      float box[4])
{
    return ikv_scene_box(scene, target, view, box);
}

ikv_picking ikv_kit_picking(ikv_scene *scene)
{
    ikv_picking picking = IKV_PICKING_INIT;
    picking.scene = scene;
    picking.pick = scene_pick;
    picking.parent = scene_parent;
    picking.alive = scene_alive;
    picking.traits = scene_traits;
    picking.to_local = scene_local;
    picking.tab_next = scene_tab;
    picking.revision = scene_revision;
    picking.layer = scene_layer;
    picking.grip = scene_grip;
    picking.carry = scene_carry;
    picking.probe = scene_probe;
    picking.tab_within = scene_tab_in;
    picking.toward = scene_toward;
    picking.box = scene_box;
    return picking;
}

static void scene_removed(void *router, ikv_target target, ikv_target former)
{
    ikv_router_removed(router, target, former);
}

/* -------------------------------------------------------------- opening -- */

static size_t rounded(size_t size)
{
    size_t mask = IKV_BLOCK_ALIGNMENT - 1;
    return (size + mask) & ~mask;
}

/* The config with what ties the parts together, but for what is not open yet.
 */
static ikv_kit_config tied(const ikv_kit_config *config)
{
    ikv_kit_config c = *config;
    c.bus.catalogue = c.queue.catalogue = config->catalogue;
    c.bus.reporter = c.scene.reporter = c.router.reporter = config->reporter;
    c.actions.reporter = c.overlaps.reporter = c.loop.reporter =
        config->reporter;
    c.queue.reporter = c.state.reporter = config->reporter;
    /* A target is one of the bus: none of the three could use more. */
    c.scene.targets = c.overlaps.targets = c.bus.targets;
    /* The queue marks losses of as many devices as the loop can number. */
    if (c.queue.devices == 0 && c.loop.devices <= IKV_DEVICE_LIMIT)
        c.queue.devices = c.loop.devices;
    if (c.loop.blocks == 0)
        c.loop.blocks = c.queue.blocks;
    if (c.loop.block_bytes == 0)
        c.loop.block_bytes = c.queue.block_bytes;
    c.loop.ports = config->ports;
    c.loop.port_count = config->port_count;
    return c;
}

static bool picks_itself(const ikv_kit_config *config)
{
    return config->router.picking.pick != NULL;
}

/* 1 stands for "none, and nothing is wrong with it": 0 is a config that can't
 * be used. */
static size_t scene_size(const ikv_kit_config *config)
{
    return picks_itself(config) ? 1 : ikv_scene_footprint(&config->scene);
}

/* The member of the kit's config that a part's comes from, its size, and the
 * size that it should say it has. */
typedef struct part_size {
    const char *member;
    size_t bytes;
    uint32_t found, expected;
} part_size;

/* Each part's open reports which of its members can't be used; without memory
 * that is all that it does. */
static ikv_status let_part_say(ikv_kit_config *c, size_t part)
{
    const ikv_memory none = {.block = NULL};
    void *unused = NULL;
    switch (part) {
    case 0:
        c->queue.memory = none;
        return ikv_queue_open(&c->queue, (ikv_queue **)&unused);
    case 1:
        c->bus.memory = none;
        return ikv_bus_open(&c->bus, (ikv_bus **)&unused);
    case 2:
        c->scene.memory = none;
        return ikv_scene_open(&c->scene, (ikv_scene **)&unused);
    case 3:
        c->router.memory = none;
        return ikv_router_open(&c->router, (ikv_router **)&unused);
    case 4:
        c->state.memory = none;
        return ikv_state_open(&c->state, (ikv_state **)&unused);
    case 5:
        c->actions.memory = none;
        return ikv_actions_open(&c->actions, (ikv_actions **)&unused);
    case 6:
        c->overlaps.memory = none;
        return ikv_overlaps_open(&c->overlaps, (ikv_overlaps **)&unused);
    default:
        c->loop.memory = none;
        return ikv_loop_open(&c->loop, (ikv_loop **)&unused);
    }
}

static ikv_status say_size(const ikv_reporter *reporter, const char *member)
{
    ikv_message message;
    ikvi_message(&message, (const char *const[]){
                               "the config's ", member,
                               ".size is not that of the struct: begin with "
                               "IKV_KIT_INIT",
                               NULL});
    return ikvi_bad_config(reporter, IKV_BAD_SIZE, "kit", message.text);
}

/* A part that needs no bytes has a config that can't be used: it is opened
 * without memory, to say why in its own words. */
static ikv_status measure(const ikv_kit_config *config,
                          const ikv_reporter *reporter, size_t *size)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    /* As it will be opened: sizes hang on what ties the parts. */
    ikv_kit_config c = tied(config);
    const part_size parts[] = {
        {"queue", ikv_queue_footprint(&c.queue), c.queue.size, sizeof c.queue},
        {"bus", ikv_bus_footprint(&c.bus), c.bus.size, sizeof c.bus},
        {"scene", scene_size(&c), c.scene.size, sizeof c.scene},
        {"router", ikv_router_footprint(&c.router), c.router.size,
         sizeof c.router},
        {"state", ikv_state_footprint(&c.state), c.state.size, sizeof c.state},
        {"actions", c.no_actions ? 1 : ikv_actions_footprint(&c.actions),
         c.actions.size, sizeof c.actions},
        {"overlaps", c.no_overlaps ? 1 : ikv_overlaps_footprint(&c.overlaps),
         c.overlaps.size, sizeof c.overlaps},
        {"loop", ikv_loop_footprint(&c.loop), c.loop.size, sizeof c.loop}};
    const ikv_input_config input = IKV_INPUT_INIT;
    *size = rounded(sizeof(ikv_kit)) + rounded(ikv_input_footprint(&input));
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++) {
        /* Before bytes: a part of another size measures 0 bytes, too. */
        if (parts[i].found != parts[i].expected)
            return say_size(reporter, parts[i].member);
        if (parts[i].bytes == 0)
            return reporter->report != NULL ? let_part_say(&c, i)
                                            : IKV_BAD_CONFIG;
        *size += rounded(parts[i].bytes);
    }
    return IKV_OK;
}

size_t ikv_kit_footprint(const ikv_kit_config *config)
{
    size_t size;
    return config != NULL && measure(config, &ikvi_silent, &size) == IKV_OK
               ? size
               : 0;
}

/* A part's share of the block; `at` goes on to the next one's. */
static ikv_memory part_memory(char **at, size_t size)
{
    ikv_memory memory = {.block = *at, .block_size = size};
    *at += rounded(size);
    return memory;
}

/* The bus walks the scene's parents, or those of the picking. */
static void tie_bus(ikv_kit *kit, const ikv_picking *picking)
{
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    if (kit->scene != NULL) {
        callbacks = ikv_scene_callbacks(kit->scene);
        ikv_scene_watch_removals(kit->scene, scene_removed, kit->router);
    } else {
        /* Without a scene nobody has tags or bodies: such subscriptions are
         * refused. */
        callbacks.user = picking->scene;
        callbacks.parent = picking->parent;
        callbacks.alive = picking->alive;
        callbacks.to_local = picking->to_local;
    }
    ikv_bus_set_callbacks(kit->bus, &callbacks);
}

/* What the loop hands events to. */
static ikv_status open_input(ikv_kit *kit, const ikv_reporter *reporter,
                             char **at)
{
    ikv_input_config config = IKV_INPUT_INIT;
    config.bus = kit->bus;
    config.routers = &kit->router;
    config.router_count = 1;
    config.state = kit->state;
    config.actions = kit->actions;
    config.overlaps = kit->overlaps;
    config.reporter = *reporter;
    config.memory = part_memory(at, ikv_input_footprint(&config));
    return ikv_input_open(&config, &kit->input);
}

/* The parts' blocks follow one another behind the kit's. On an error, what is
 * open stays so for the caller to close. */
static ikv_status open_parts(ikv_kit *kit, ikv_kit_config *c)
{
    /* In the order of measure(): the shares add up to its size. */
    char *at = (char *)kit + rounded(sizeof *kit);
    c->queue.memory = part_memory(&at, ikv_queue_footprint(&c->queue));
    c->bus.memory = part_memory(&at, ikv_bus_footprint(&c->bus));
    c->scene.memory = part_memory(&at, scene_size(c));
    c->router.memory = part_memory(&at, ikv_router_footprint(&c->router));
    c->state.memory = part_memory(&at, ikv_state_footprint(&c->state));
    if (!c->no_actions)
        c->actions.memory =
            part_memory(&at, ikv_actions_footprint(&c->actions));
    if (!c->no_overlaps)
        c->overlaps.memory =
            part_memory(&at, ikv_overlaps_footprint(&c->overlaps));
    c->loop.memory = part_memory(&at, ikv_loop_footprint(&c->loop));

    ikv_status status = ikv_queue_open(&c->queue, &kit->queue);
    if (status == IKV_OK)
        status = ikv_bus_open(&c->bus, &kit->bus);
    /* Set also after an error: nobody is opened with it then. */
    c->scene.bus = c->router.bus = c->loop.bus = kit->bus;
    c->loop.queue = kit->queue;
    if (status == IKV_OK && !picks_itself(c)) {
        status = ikv_scene_open(&c->scene, &kit->scene);
        c->router.picking = ikv_kit_picking(kit->scene);
    }
    if (status == IKV_OK)
        status = ikv_router_open(&c->router, &kit->router);
    if (status == IKV_OK)
        status = ikv_state_open(&c->state, &kit->state);
    c->actions.bus = c->overlaps.bus = kit->bus;
    c->actions.state = kit->state;
    c->overlaps.scene = kit->scene;
    if (status == IKV_OK && !c->no_actions)
        status = ikv_actions_open(&c->actions, &kit->actions);
    if (status == IKV_OK && !c->no_overlaps)
        status = ikv_overlaps_open(&c->overlaps, &kit->overlaps);
    if (status < 0)
        return status;
    tie_bus(kit, &c->router.picking);
    status = open_input(kit, &c->reporter, &at);
    if (status < 0)
        return status;
    c->loop.input = kit->input;
    return ikv_loop_open(&c->loop, &kit->loop);
}

ikv_status ikv_kit_open(const ikv_kit_config *config, ikv_kit **kit)
{
    if (config == NULL || kit == NULL)
        return IKV_BAD_ARGUMENT;
    size_t size;
    void *block = NULL;
    ikv_status status = measure(config, &config->reporter, &size);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, size, &block);
    /* A block that is there has no error before it. */
    if (block == NULL)
        return status;
    ikv_kit *k = block;
    k->memory = config->memory;
    k->size = size;
    ikv_kit_config c = tied(config);
    status = open_parts(k, &c);
    if (status < 0) {
        ikv_kit_close(k);
        return status;
    }
    *kit = k;
    return IKV_OK;
}

ikv_status ikv_kit_close(ikv_kit *kit)
{
    if (kit == NULL)
        return IKV_OK;
    if (kit->closing)
        return IKV_BUSY;
    /* The loop first: it refuses inside a handler, and then nothing has been
     * closed. */
    ikv_status status = ikv_loop_close(kit->loop);
    if (status < 0)
        return status;
    kit->closing = true;
    ikv_input_close(kit->input);
    ikv_overlaps_close(kit->overlaps);
    ikv_actions_close(kit->actions);
    ikv_state_close(kit->state);
    ikv_router_close(kit->router);
    ikv_scene_close(kit->scene);
    ikv_bus_close(kit->bus);
    ikv_queue_close(kit->queue);
    /* A copy, as the block that it lies in goes. */
    ikv_memory memory = kit->memory;
    ikvi_memory_give(&memory, kit, kit->size);
    return IKV_OK;
}

ikv_parts ikv_kit_parts(const ikv_kit *kit)
{
    ikv_parts parts = IKV_PARTS_INIT;
    if (kit != NULL) {
        parts.loop = kit->loop;
        parts.bus = kit->bus;
        parts.scene = kit->scene;
        parts.state = kit->state;
        parts.actions = kit->actions;
        parts.overlaps = kit->overlaps;
        parts.routers[0] = kit->router;
        parts.router_count = 1;
    }
    return parts;
}

ikv_loop *ikv_kit_loop(const ikv_kit *kit)
{
    return kit != NULL ? kit->loop : NULL;
}

ikv_bus *ikv_kit_bus(const ikv_kit *kit)
{
    return kit != NULL ? kit->bus : NULL;
}

ikv_queue *ikv_kit_queue(const ikv_kit *kit)
{
    return kit != NULL ? kit->queue : NULL;
}

ikv_scene *ikv_kit_scene(const ikv_kit *kit)
{
    return kit != NULL ? kit->scene : NULL;
}

ikv_router *ikv_kit_router(const ikv_kit *kit)
{
    return kit != NULL ? kit->router : NULL;
}

ikv_input *ikv_kit_input(const ikv_kit *kit)
{
    return kit != NULL ? kit->input : NULL;
}

ikv_state *ikv_kit_state(const ikv_kit *kit)
{
    return kit != NULL ? kit->state : NULL;
}

ikv_actions *ikv_kit_actions(const ikv_kit *kit)
{
    return kit != NULL ? kit->actions : NULL;
}

ikv_overlaps *ikv_kit_overlaps(const ikv_kit *kit)
{
    return kit != NULL ? kit->overlaps : NULL;
}

/* ------------------------------------------------------- focus by pads -- */

static ikv_verdict move_focus(const ikv_event *event, const ikv_delivery *d,
                              ikv_kit *kit, uint32_t direction)
{
    ikv_router *router = d->router != NULL ? d->router : ikv_kit_router(kit);
    /* Held on, it goes on when that repeats. */
    if (event->kind == IKV_KIND_ACTION_HOLD && (event->flags & IKV_REPEAT) == 0)
        return IKV_CONTINUE;
    ikv_router_focus_toward(router, event->seat, direction);
    return IKV_CONTINUE;
}

static ikv_verdict focus_left(const ikv_event *e, const ikv_delivery *d,
                              void *kit)
{
    return move_focus(e, d, kit, IKV_TOWARD_LEFT);
}

static ikv_verdict focus_right(const ikv_event *e, const ikv_delivery *d,
                               void *kit)
{
    return move_focus(e, d, kit, IKV_TOWARD_RIGHT);
}

static ikv_verdict focus_up(const ikv_event *e, const ikv_delivery *d,
                            void *kit)
{
    return move_focus(e, d, kit, IKV_TOWARD_UP);
}

static ikv_verdict focus_down(const ikv_event *e, const ikv_delivery *d,
                              void *kit)
{
    return move_focus(e, d, kit, IKV_TOWARD_DOWN);
}

/* By the names and numbers of W3C's codes and standard mapping. */
ikv_status ikv_kit_bind_focus(ikv_kit *kit, ikv_action_set set)
{
    static const struct {
        const char *name, *key, *button, *stick;
        ikv_handler handler;
    } rows[] = {
        {"focus.left", "ArrowLeft", "pad.14", "pad.axis0-", focus_left},
        {"focus.right", "ArrowRight", "pad.15", "pad.axis0+", focus_right},
        {"focus.up", "ArrowUp", "pad.12", "pad.axis1-", focus_up},
        {"focus.down", "ArrowDown", "pad.13", "pad.axis1+", focus_down}};
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_status status = actions != NULL ? IKV_OK : IKV_BAD_ARGUMENT;
    for (size_t i = 0; status == IKV_OK && i < sizeof rows / sizeof rows[0];
         i++) {
        const char *const texts[] = {rows[i].key, rows[i].button,
                                     rows[i].stick};
        ikv_action_id id;
        status = ikv_actions_add(actions, set, rows[i].name, &id);
        for (size_t n = 0; status == IKV_OK && n < 3; n++)
            status = ikv_actions_bind(actions, id, texts[n], NULL, NULL);
        if (status == IKV_OK)
            status = ikv_actions_hear(actions, id, IKV_ACTION_STARTED,
                                      rows[i].handler, kit, NULL);
        if (status == IKV_OK)
            status = ikv_actions_hear(actions, id, IKV_ACTION_HELD,
                                      rows[i].handler, kit, NULL);
    }
    return status;
}
