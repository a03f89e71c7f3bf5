/* router_shared.h - what the router offers to the actions, the loop and images
 * beyond its header. */
#ifndef IKVI_ROUTER_SHARED_H
#define IKVI_ROUTER_SHARED_H

#include "../event/saved.h"

#include "ikvar/router.h"

/* For bindings that hold somewhere: whether a target is `top` or lies in it; and
 * its layer, the root's being none: UINT32_MAX. */
bool ikvi_router_is_within(const ikv_router *router, ikv_target target,
                           ikv_target top);
uint32_t ikvi_router_layer(const ikv_router *router, ikv_target target);

/* Whether a target has nothing in common with what is modal for the seat: what
 * holds within it alone is over. */
bool ikvi_router_shuts_out(const ikv_router *router, uint8_t seat,
                           ikv_target target);

/* As ikv_router_advance(); false if it could do nothing. */
bool ikvi_router_advance(ikv_router *router, uint64_t time_ns);

/* The routers of an input, which share what keys are down; until they leave. */
void ikvi_router_join(ikv_router *router, ikv_router *const *peers,
                      uint32_t count);
void ikvi_router_leave(ikv_router *router, ikv_router *const *peers);

/* The event's mouse or pen is somewhere else now: where it
 * hovered it leaves. */
void ikvi_router_elsewhere(ikv_router *router, const ikv_event *event);

/* L10: what its device holds, or hovers, is the event's seat's from now on. */
void ikvi_router_reseat(ikv_router *router, const ikv_event *event);

/* Whether a retest would look at anything. */
bool ikvi_router_is_stale(const ikv_router *router);

/* The modifiers of the keys that the seat holds down. */
uint16_t ikvi_router_modifiers(const ikv_router *router, uint8_t seat);

/* S2: whether a key or a text goes into a target that takes text; false for no
 * router. */
bool ikvi_router_types(const ikv_router *router, const ikv_event *event);

/* A number that rises with each change of the focus and of the scene. */
uint64_t ikvi_router_focus_turn(const ikv_router *router);
/* A target's box in the view of what was routed last; untouched if the picking
 * can't say. */
void ikvi_router_box(const ikv_router *router, ikv_target target, float box[4]);

/* Whether an event is under way in it. */
bool ikvi_router_is_routing(const ikv_router *router);

uint64_t ikvi_router_saved(ikv_router *router, ikvi_saved *to);

/* As ikv_router_route(), with what the event brings along. */
ikv_outcome ikvi_router_route_with(ikv_router *router, const ikv_event *event,
                                   const ikvi_along *with);

/* What the system drags over the window is in another router's view now. */
void ikvi_router_drag_elsewhere(ikv_router *router, const ikv_event *event);

#endif
