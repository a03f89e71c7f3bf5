/* ikvar/mistake.h - what is valid in a file and seldom meant; needs the host
 * library.
 *
 * Overview
 *   Reading a setup finds these mistakes. None keeps it from running, each has
 *   a code: ikv_mistake_about() says why it matters and what to write instead.
 *
 *       const ikv_mistake *m;
 *       for (uint32_t i = 0; (m = ikv_setup_mistake(setup, i)) != NULL; i++)
 *           printf("%s [%s]\n", m->text, ikv_mistake_about(m->code)->name);
 *
 * Memory
 *   A mistake lives as long as the setup that it is of, or for the call that
 *   tells of it; what is said about codes lives for ever.
 *
 * Threads
 *   ikv_mistake_about() from any.
 */
#ifndef IKVAR_MISTAKE_H
#define IKVAR_MISTAKE_H

#include "base.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The mistakes: value, name, the name in files, what is so, why it matters,
 * what to write instead. A value is never used again. */
#define IKV_MISTAKES(X)                                                        \
    /* of targets */                                                           \
    X(1, COVERS_ONLY, "covers-only",                                           \
      "it is hit, but no handler is at it or an ancestor: it only covers "     \
      "what lies beneath (hit \"off\" lets events through)",                   \
      "A pointer's event goes to the topmost target at its point. What lies "  \
      "beneath never hears of it, even if nobody listens to the one above.",   \
      "\"hit\": \"off\" for what is only drawn; or a handler at it, or at an " \
      "ancestor.")                                                             \
    X(2, NO_SHAPE, "no-shape",                                                 \
      "handlers are at it, but it has no shape to be hit by",                  \
      "Only a shape is hit. A target without one hears of what its children "  \
      "are hit by, and this one has no children.",                             \
      "A \"shape\", such as {\"rect\": [0, 0, 100, 40]}.")                     \
    X(3, CLIPS_ALL, "clips-all",                                               \
      "it clips, but has no shape: its children are never hit",                \
      "Children of a target that clips are hit inside its shape alone; no "    \
      "shape has no inside.",                                                  \
      "A \"shape\" that shows what is seen of them, or no \"clip\".")          \
    X(4, EMPTY_SHAPE, "empty-shape",                                           \
      "its rectangle is empty: it is never hit",                               \
      "A rectangle's right and lower edges are outside of it; without width "  \
      "or height it has no inside.",                                           \
      "A width and a height above 0; {\"point\": [x, y]} for a body that "     \
      "only overlaps.")                                                        \
    X(5, COVERED, "covered",                                                   \
      "as placed, another target lies above all of it: it is never hit",       \
      "A pointer's event goes to the topmost target at its point, unless "     \
      "that "                                                                  \
      "one's hit is \"pass\" or \"off\".",                                     \
      "A higher \"z\" or a later place for it; \"hit\": \"off\" for the one "  \
      "above; or it as the other's child, which lies above its parent.")       \
    X(6, OUTSIDE_CLIP, "outside-clip",                                         \
      "as placed, all of it is outside of an ancestor that clips: it is "      \
      "never "                                                                 \
      "hit",                                                                   \
      "Positions are in the parent's space: (0, 0) is where the parent is, "   \
      "not the view's corner.",                                                \
      "A \"position\" inside of the ancestor's shape; or no \"clip\".")        \
    /* of overlaps */                                                          \
    X(16, SENSES_NO_SHAPE, "senses-no-shape",                                  \
      "it senses, but has no shape: nothing ever overlaps it",                 \
      "Overlaps are found between shapes.",                                    \
      "A \"shape\"; or take \"senses\" away.")                                 \
    X(17, SENSES_NOTHING, "senses-nothing",                                    \
      "it has \"linger\" or \"inside\", but senses no tags",                   \
      "Both say how a target hears of what it senses. It may still be sensed " \
      "by others, who use their own.",                                         \
      "\"senses\": the tags of those that it should hear of.")                 \
    X(18, TAG_NOT_BORNE, "tag-not-borne",                                      \
      "this tag is sensed or asked for, but no target bears it",               \
      "Who senses a tag hears of targets with it in their \"tags\", and "      \
      "conditions ask for them. Often the tag is spelled in two ways.",        \
      "The tag in the \"tags\" of who is meant.")                              \
    X(19, NOBODY_SENSES, "nobody-senses",                                      \
      "it hears overlaps, but nothing that it is at senses any",               \
      "An overlap is told to the one of two that senses a tag of the other.",  \
      "\"senses\" at the target that the handler is at.")                      \
    X(20, UNUSED_TAG, "unused-tag",                                            \
      "targets bear this tag, but nobody senses it or asks for it",            \
      "A tag does nothing by itself. Often it is spelled in two ways.",        \
      "\"senses\", \"at_tags\" or a condition on \"target.tags\" with the "    \
      "tag; or take it away.")                                                 \
    X(21, MANY_INSIDE, "many-inside",                                          \
      "each of many targets inside of it is told in each step",                \
      "overlap.inside comes for each that is inside, in each step: a hundred " \
      "at rest are 6,000 events a second.",                                    \
      "\"inside\": \"moving\" for those that move; or count them up and down " \
      "by overlap.enter and overlap.leave.")                                   \
    /* of handlers */                                                          \
    X(32, DOES_NOTHING, "does-nothing",                                        \
      "its list of reactions is empty: it does nothing",                       \
      "Without a list the program's own function is bound to a handler; an "   \
      "empty list is what it does.",                                           \
      "Reactions in the list; or no \"reactions\", and ikv_setup_bind().")     \
    X(33, NO_FIELD, "no-field",                                                \
      "it sets a field that its target does not have, or not for such values", \
      "\"set\" and \"toggle\" change fields that a target declares, \"set\" "  \
      "to values of the same sort, numbers or true and false; of others they " \
      "do nothing.",                                                           \
      "The field in the target's \"fields\", with what it is at first.")       \
    X(34, NO_FOCUS, "no-focus",                                                \
      "it hears keys, but nothing that it is at can have the focus",           \
      "Keys go to the target that has the focus, and from there to its "       \
      "ancestors; to the root if nothing has it.",                             \
      "\"focusable\": true at the target or one inside of it; or a handler "   \
      "without \"at\", which hears at the root.")                              \
    X(35, STAYS_MUTED, "stays-muted",                                          \
      "it is muted, and no reaction unmutes it",                               \
      "A muted handler is never called; the program alone can unmute it.",     \
      "{\"unmute\": ...} among another handler's reactions; or no \"muted\".") \
    X(36, EMPTY_GROUP, "empty-group", "no handler is in this group",           \
      "A group's conditions hold for those that name it. Often the name is "   \
      "left from a handler that has gone.",                                    \
      "\"group\": its name, at a handler; or take the group away.")            \
    X(37, NEVER_MATCHES, "never-matches",                                      \
      "two of its conditions exclude each other",                              \
      "All of a handler's conditions must hold, and those of its group, too.", \
      "\"join\": \"any\" where one is enough; or two handlers.")               \
    X(38, COUNTS_MOVES, "counts-moves",                                        \
      "it counts moves, and several moves may come as one",                    \
      "What moves between two frames is merged into one event: how many come " \
      "depends on the frame rate and the device.",                             \
      "\"gap\", for so much time between two calls; the distances of the "     \
      "moves, which are added up; or a kind that is never merged.")            \
    X(39, CANNOT_FOCUS, "cannot-focus",                                        \
      "a reaction gives the focus to a target that can't have it, or a "       \
      "binding waits for it there",                                            \
      "Only a focusable target takes the focus; else nothing happens.",        \
      "\"focusable\": true at the target.")                                    \
    X(40, UNUSED_KIND, "unused-kind", "no handler hears this kind",            \
      "An event that nobody hears does nothing. Often there are two kinds of " \
      "almost the same name.",                                                 \
      "A handler with it in its \"kinds\"; or take the kind away.")            \
    /* of actions */                                                           \
    X(48, NO_BINDING, "no-binding",                                            \
      "it has no bindings: only the program starts it",                        \
      "No key, button or stick starts this action until somebody binds one.",  \
      "\"bindings\", such as [\"KeyH\", \"pad.0\"].")                          \
    X(49, BOUND_TWICE, "bound-twice", "a binding is listed twice",             \
      "The second of two that are the same never does anything.",              \
      "It once; or another \"within\", \"layer\" or \"focused\" for one.")     \
    X(50, CLASH, "clash", "one press starts two actions of a set",             \
      "Both start where both bindings hold. In different sets they would "     \
      "take turns.",                                                           \
      "Another key for one; a longer chord, which wins; scopes that do not "   \
      "meet; or another set.")                                                 \
    X(51, UNHEARD_ACTION, "unheard-action", "no handler hears this action",    \
      "It starts and ends, and nothing comes of it but its state, which the "  \
      "program can ask for.",                                                  \
      "A handler of action.start with a condition on \"action\".")             \
    /* of files of lines, and of what was run */                               \
    X(64, TORN, "torn", "the file is torn at its end",                         \
      "What wrote it was stopped in the middle of a line: the last event may " \
      "be missing.",                                                           \
      "Nothing, if the run was killed; else record it again.")                 \
    X(65, NEVER_CALLED, "never-called", "this handler was never called",       \
      "Nothing in this run came by it, or something stood in the way each "    \
      "time.",                                                                 \
      "`ikvar why SETUP TAPE --handler NAME` says what came nearest, and "     \
      "what stood in its way.")                                                \
    X(66, NEAR_NAME, "near-name",                                              \
      "nobody heard this kind, and one of almost the same name is listened "   \
      "to",                                                                    \
      "Two kinds whose names differ by a letter or two are seldom meant.",     \
      "One name for both.")                                                    \
    X(67, NEVER_FLUSHED, "never-flushed",                                      \
      "events wait on this lane, and it was never flushed",                    \
      "The loop flushes the lanes \"step\" and \"frame\"; a lane of the "      \
      "program's own waits for the program.",                                  \
      "ikv_bus_flush() where its events are due; or one of the loop's two "    \
      "lanes.")                                                                \
    X(68, BACKLOG, "backlog", "events waited long before they were heard",     \
      "What comes late is heard late: more comes in than is taken out, or a "  \
      "frame takes too long.",                                                 \
      "A flush of the lane in each frame; less work in a frame, or more "      \
      "steps "                                                                 \
      "in one.")

enum {
    IKV_MISTAKE_NONE = 0,
#define IKV_X(value, name, code, text, why, instead)                           \
    IKV_MISTAKE_##name = (value),
    IKV_MISTAKES(IKV_X)
#undef IKV_X
};

/* One that was found: its code, and a sentence that begins with whose it is:
 * "lamp: handlers are at it, but ...". */
typedef struct ikv_mistake {
    uint16_t code;
    const char *text;
} ikv_mistake;

typedef void (*ikv_mistake_fn)(const ikv_mistake *mistake, void *user);

/* What there is to say of a code. */
typedef struct ikv_mistake_info {
    uint16_t code;
    const char *name;    /* in files: "no-shape" */
    const char *text;    /* what is so */
    const char *why;     /* it matters */
    const char *instead; /* what to write */
} ikv_mistake_info;

/* NULL for numbers that are no code. Context: any thread; O(codes). */
IKV_API const ikv_mistake_info *ikv_mistake_about(uint16_t code);

/* All of them, one a call from index 0 on; NULL past the last.
 * Context: any thread; O(1). */
IKV_API const ikv_mistake_info *ikv_mistake_list(uint32_t index);

#ifdef __cplusplus
}
#endif

#endif
