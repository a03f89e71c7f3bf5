/* ikvar/kit.h - the usual set of modules, tied together, in one block.
 *
 * Overview
 *   queue, bus, scene, router, state, actions, overlaps, input and loop, opened with
 *   one call and one block of memory. Each part's config may be set as if it
 *   were opened alone; what ties them together is filled in by the kit.
 *
 *       ikv_kit_config config = IKV_KIT_INIT;
 *       config.memory = ikv_host_memory();
 *       config.ports = &port, config.port_count = 1;
 *       ikv_kit *kit;
 *       ikv_kit_open(&config, &kit);
 *       ikv_loop *loop = ikv_kit_loop(kit);
 *
 * Memory
 *   One block from config.memory; nothing afterwards.
 *
 * Threads
 *   As the modules.
 */
#ifndef IKVAR_KIT_H
#define IKVAR_KIT_H

#include "image.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_kit ikv_kit;

/* Members of the parts that the kit fills in itself (memory, reporter, bus,
 * queue, input, ports, catalogue) are ignored. With a picking of your own in
 * `router` the kit opens no scene; tell ikv_router_removed() of removals.
 *   catalogue  for kinds of your own; NULL: the built-in ones
 *   ports      port_count of them, the first is the clock
 *   reporter   for all parts
 *   no_actions, no_overlaps  spare their memory: the kit opens none (false)
 */
typedef struct ikv_kit_config {
    uint32_t size;
    uint32_t port_count;
    const ikv_port *ports;
    const ikv_catalogue *catalogue;
    ikv_reporter reporter;
    ikv_memory memory;
    bool no_actions, no_overlaps;
    uint8_t reserved[6];
    ikv_queue_config queue;
    ikv_bus_config bus;
    ikv_scene_config scene;
    ikv_router_config router;
    ikv_state_config state;
    ikv_actions_config actions;
    ikv_overlaps_config overlaps;
    ikv_loop_config loop;
} ikv_kit_config;

#ifdef __cplusplus
extern "C++" inline ikv_kit_config ikv_kit_init()
{
    ikv_kit_config config = IKV_SIZED(ikv_kit_config);
    config.queue = IKV_QUEUE_INIT;
    config.bus = IKV_BUS_INIT;
    config.scene = IKV_SCENE_INIT;
    config.router = IKV_ROUTER_INIT;
    config.state = IKV_STATE_INIT;
    config.actions = IKV_ACTIONS_INIT;
    config.overlaps = IKV_OVERLAPS_INIT;
    config.loop = IKV_LOOP_INIT;
    return config;
}
#define IKV_KIT_INIT ikv_kit_init()
#else
#define IKV_KIT_INIT                                                           \
    {                                                                          \
        .size = sizeof(ikv_kit_config), .queue = IKV_QUEUE_INIT,               \
        .bus = IKV_BUS_INIT, .scene = IKV_SCENE_INIT,                          \
        .router = IKV_ROUTER_INIT, .state = IKV_STATE_INIT,                    \
        .actions = IKV_ACTIONS_INIT, .overlaps = IKV_OVERLAPS_INIT,            \
        .loop = IKV_LOOP_INIT                                                  \
    }
#endif

/* Bytes that ikv_kit_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_kit_footprint(const ikv_kit_config *config);

/* Opens all parts, or none. Returns IKV_OK, BAD_ARGUMENT for NULL, BAD_SIZE for
 * a size that is not that of its struct, or what the part that fails returns;
 * which member it is, is reported. See ikv_bus_open(), ikv_scene_open(),
 * ikv_router_open(), ikv_loop_open().
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_kit_open(const ikv_kit_config *config, ikv_kit **kit);

/* Closes all parts, and the ports. NULL is fine.
 * Returns IKV_OK, or BUSY (and a report) inside a handler: then nothing is
 * closed.
 * Context: owner thread, not inside a handler; gives the block back. */
IKV_API ikv_status ikv_kit_close(ikv_kit *kit);

/* The parts; they belong to the kit. NULL for NULL; the scene is NULL with a
 * picking of your own.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_loop *ikv_kit_loop(const ikv_kit *kit);
IKV_API ikv_bus *ikv_kit_bus(const ikv_kit *kit);
IKV_API ikv_queue *ikv_kit_queue(const ikv_kit *kit);
IKV_API ikv_scene *ikv_kit_scene(const ikv_kit *kit);
IKV_API ikv_router *ikv_kit_router(const ikv_kit *kit);
IKV_API ikv_input *ikv_kit_input(const ikv_kit *kit);
IKV_API ikv_state *ikv_kit_state(const ikv_kit *kit);
IKV_API ikv_actions *ikv_kit_actions(const ikv_kit *kit);
IKV_API ikv_overlaps *ikv_kit_overlaps(const ikv_kit *kit);

/* The parts whose state is saved and restored together: image.h.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_parts ikv_kit_parts(const ikv_kit *kit);

/* A scene as a router sees it, for those who open the parts themselves.
 * Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_picking ikv_kit_picking(ikv_scene *scene);

/* Lets arrow keys, pads' crosses and left sticks move the focus: adds the actions
 * focus.left, focus.right, focus.up and focus.down to a set, with usual bindings,
 * and hears them; held, they go on as ikv_actions_set_repeat() says. What is
 * focusable is up to the scene; what a press of a pad's
 * first button then does is yours.
 *
 *     ikv_kit_bind_focus(kit, menu_set);
 *
 * Returns IKV_OK, DUPLICATE (they are there already), or as ikv_actions_add(),
 * ikv_actions_bind() and ikv_actions_hear(): what was added before that stays.
 * Context: owner thread, inside handlers too; O(actions). */
IKV_API ikv_status ikv_kit_bind_focus(ikv_kit *kit, ikv_action_set set);

#ifdef __cplusplus
}
#endif

#endif
