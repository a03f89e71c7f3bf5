/* ikvar/obstacle.h - what stands between an event and who waits for it.
 *
 * Overview
 *   Each module that decides something about an event can be asked why it
 *   decides so: ikv_bus_probe() of a subscription, ikv_scene_probe() of a
 *   target, ikv_router_probe() of what a raw event becomes,
 *   ikv_actions_probe() of a binding, ikv_overlaps_probe() of two targets.
 *   All answer with obstacles, in the order in which they stand in the way,
 *   and change nothing.
 *
 *       ikv_obstacle why[8];
 *       uint32_t count = ikv_scene_probe(scene, &query, lamp, why, 8);
 *       for (uint32_t i = 0; i < count && i < 8; i++)
 *           puts(ikv_obstacle_text(why[i].code));
 *
 * Memory
 *   None. Names in an obstacle are those of what it is about, and live as long.
 *
 * Threads
 *   As the module that is asked.
 */
#ifndef IKVAR_OBSTACLE_H
#define IKVAR_OBSTACLE_H

#include "catalogue.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The obstacles: value, name, the name in files, what it means. A value is never
 * used again. */
#define IKV_OBSTACLES(X)                                                       \
    /* of a subscription */                                                    \
    X(1, ENDED, "ended", "the subscription has ended")                         \
    X(2, KIND, "kind", "it does not listen to this kind")                      \
    X(3, PATH, "path", "its target is not on the event's way")                 \
    X(4, PHASE, "phase", "it does not listen in the phase that comes by")      \
    X(5, GONE, "gone", "its target has gone on the way")                       \
    X(6, MUTED, "muted", "it is muted")                                        \
    X(7, PLACE, "place", "the event's target has another tag or body")         \
    X(8, CONDITION, "condition", "a condition does not hold")                  \
    X(9, AFTER, "after", "it leaves out the first ones")                       \
    X(10, AT_MOST, "at-most", "it was called already in this step or frame")   \
    X(11, GAP, "gap", "its last call is too recent")                           \
    X(12, LIMIT, "limit", "it was called as often as it may be")               \
    /* of a target at a point */                                               \
    X(32, STALE, "stale", "the target is gone, or of another scene")           \
    X(33, NO_VIEW, "no-view", "the view is not there, or hides its layer")     \
    X(34, HIDDEN, "hidden", "it is hidden")                                    \
    X(35, PARENT_HIDDEN, "parent-hidden", "an ancestor is hidden")             \
    X(36, HIT_OFF, "hit-off", "its hit is off")                                \
    X(37, NO_SHAPE, "no-shape", "it has no shape")                             \
    X(38, TAGS, "tags", "it has none of the tags asked for")                   \
    X(39, BODY, "body", "it is a piece of the body to skip")                   \
    X(40, OUTSIDE, "outside", "the point is outside its shape")                \
    X(41, CLIPPED, "clipped", "the point is outside an ancestor that clips")   \
    X(42, COVERED, "covered", "another target lies above it there")            \
    /* of an event on its way */                                               \
    X(64, NO_EVENT, "no-event", "no such event came")                          \
    X(65, CAPTURED, "captured", "another target has captured the pointer")     \
    X(66, FOCUS, "focus", "another target has the focus")                      \
    X(67, STOPPED, "stopped", "a handler before it stopped the event")         \
    X(68, REFUSED, "refused", "the event was not delivered at all")            \
    X(69, DROPPED, "dropped", "it waited on a lane, and its target has gone")  \
    X(70, PRESSED, "pressed", "the press was on another target")               \
    X(71, WAITING, "waiting", "it still waits on a lane")                      \
    X(72, MODAL, "modal", "another target is modal")                           \
    /* of two targets that do not overlap; also HIDDEN, NO_SHAPE, STALE */     \
    X(96, DISABLED, "disabled", "it overlaps nothing: it is disabled")         \
    X(97, SENSES, "senses", "neither senses a tag of the other")               \
    X(98, SAME_BODY, "same-body", "they are pieces of one body")               \
    X(99, LAYER, "layer", "they are in different layers")                      \
    X(100, APART, "apart", "their shapes are apart")                           \
    X(101, NOT_REPORTED, "not-reported",                                       \
      "nobody has reported that they touch")                                   \
    /* of a press and a binding */                                             \
    X(128, UNBOUND, "unbound", "the binding is gone")                          \
    X(129, OTHER_INPUT, "other-input", "the press is none of the binding's")   \
    X(130, CLAIMED, "claimed", "a handler stopped it, or it was typed")        \
    X(131, ON, "on", "the binding is satisfied already")                       \
    X(132, SET_OFF, "set-off",                                                 \
      "its set is off, or beneath one that was pushed")                        \
    X(133, SCOPE, "scope", "the press is out of its scope")                    \
    X(134, NOT_HELD, "not-held", "another part of the chord is not held")      \
    X(135, WEAK, "weak", "the stick or trigger is not pushed far enough")      \
    X(136, LONGER, "longer", "a longer chord has the press")

enum {
    IKV_WHY_NONE = 0,
#define IKV_X(value, name, code, text) IKV_WHY_##name = (value),
    IKV_OBSTACLES(IKV_X)
#undef IKV_X
};

/* One obstacle. What a code does not speak of is zero.
 *   code        IKV_WHY_...
 *   nth         which one, counted from 1: of conditions
 *   comparison  of a condition: IKV_EQUAL ...
 *   negated     of a condition: that it must not hold
 *   by          who is in the way: covers, clips, hides
 *   name        of the field; of the handler that stopped, muted or ended it; of
 *               the lane; NULL
 *   found, wanted   what was there, and what would let it pass
 *   since_ns    since when it has been so, where who answers has seen that: ns
 *               since loop.start; 0: since before
 */
typedef struct ikv_obstacle {
    uint16_t code;
    uint16_t nth;
    uint16_t comparison;
    bool negated;
    uint8_t reserved;
    ikv_target by;
    const char *name;
    ikv_value found;
    ikv_value wanted;
    IKV_ALIGNED(8) uint64_t since_ns;
} ikv_obstacle;

/* The obstacle's name in files, "covered"; "unknown" for other numbers.
 * Context: any thread; O(obstacles). */
IKV_API const char *ikv_obstacle_name(uint16_t code);

/* One sentence; "unknown" for other numbers. Context: any thread; O(obstacles). */
IKV_API const char *ikv_obstacle_text(uint16_t code);

#ifdef __cplusplus
}
#endif

#endif
