/* ikvar/kinds.h - the list of the built-in kinds and of their fields.
 *
 * These X-macro lists are the one place where kinds, payload fields and named
 * values are declared. The enumerators in event.h, the catalogue's table, the
 * names in files and the printed documentation are all made from them.
 */
#ifndef IKVAR_KINDS_H
#define IKVAR_KINDS_H

/* Who makes events of a kind: P a port may push it, R the router, L the loop,
 * O overlaps, A actions, S the scene, U anybody, T a tape as it is played. */
#define IKV_FROM_P 1u
#define IKV_FROM_R 2u
#define IKV_FROM_L 4u
#define IKV_FROM_O 8u
#define IKV_FROM_A 16u
#define IKV_FROM_S 32u
#define IKV_FROM_U 64u
#define IKV_FROM_T 128u

/* Families, in the order in which they are shown: X(NAME, "name", "meaning",
 * "in what order relative to its neighbours"). */
#define IKV_FAMILIES(X)                                                        \
    X(POINTER, "pointer", "mouse, pen and touch",                              \
      "out, leave (inner first), over, enter (outer first), then the "         \
      "event that caused them; capture_lost and capture_got before "           \
      "it; after an up: capture_lost, click, then over and out")               \
    X(CLICK, "click", "what a press and its release amount to",                \
      "after the up and capture_lost, before over and out")                    \
    X(WHEEL, "wheel", "scrolling",                                             \
      "alone; a resting pointer gets no move for it")                          \
    X(PEN, "pen", "a pen above the surface",                                   \
      "alone; a resting pen gets no move for it")                              \
    X(GESTURE, "gesture", "two fingers", "after the moves of both fingers")    \
    X(KEY, "key", "keys of a keyboard",                                        \
      "down, repeats, up; text.input after the down that types it")            \
    X(TEXT, "text", "text as it is typed or composed",                         \
      "after key.down; compose before the input that ends it")                 \
    X(FOCUS, "focus", "who gets the keys",                                     \
      "focus.out at the old target, then focus.in at the new one, at "         \
      "once")                                                                  \
    X(WINDOW, "window", "the window or screen",                                \
      "as they happened, among the other input of their step")                 \
    X(DEVICE, "device", "devices that come and go",                            \
      "add before all else of the device, remove after it; resync after all "  \
      "that had come in before the loss was seen")                             \
    X(PAD, "pad", "game pads",                                                 \
      "as they happened, among the other input of their step")                 \
    X(OVERLAP, "overlap", "shapes that meet",                                  \
      "after the step's code: leave, enter, inside; before timers and "        \
      "the step lane")                                                         \
    X(TREE, "tree", "changes of the scene",                                    \
      "at once, when the scene is changed")                                    \
    X(FIELD, "field", "named values of targets",                               \
      "at once, after the value was set")                                      \
    X(ACTION, "action", "the game's own commands",                             \
      "after the event that caused it was routed; start, hold each "           \
      "step, end")                                                             \
    X(DRAG, "drag", "things that are dragged onto others",                     \
      "after the move of the pointer that drags: enter, leave, over; after "   \
      "its up: drop or leave, then end")                                       \
    X(LOOP, "loop", "the frame loop itself",                                   \
      "start once; each step its input, step; each frame frame; end "          \
      "once; dropped, pause, resume, scale and idle between steps")            \
    X(USER, "user", "kinds that the user registered",                          \
      "when it is delivered, or its lane is flushed")

/* Kinds: X(number, NAME, "name", FAMILY, LAYOUT, from, bubbles, QUEUE CLASS,
 *          "when it is sent", "other words that people use for it").
 * A number is never used again. */
#define IKV_KINDS(X)                                                           \
    X(1, POINTER_OVER, "pointer.over", POINTER, POINTER, IKV_FROM_R, true,     \
      NONE, "the pointer's target became this one",                            \
      "hover, mouse over, pointer over")                                       \
    X(2, POINTER_OUT, "pointer.out", POINTER, POINTER, IKV_FROM_R, true, NONE, \
      "the pointer's target is this one no more", "hover, mouse out, unhover") \
    X(3, POINTER_ENTER, "pointer.enter", POINTER, POINTER, IKV_FROM_R, false,  \
      NONE, "the pointer came into the target or one of its descendants",      \
      "hover start, pointer came in, hover, mouse enter")                      \
    X(4, POINTER_LEAVE, "pointer.leave", POINTER, POINTER,                     \
      IKV_FROM_R | IKV_FROM_P, false, NONE,                                    \
      "the pointer left the target and all its descendants; from a port: it "  \
      "left the view",                                                         \
      "hover end, pointer went out, mouse leave")                              \
    X(5, POINTER_DOWN, "pointer.down", POINTER, POINTER,                       \
      IKV_FROM_P | IKV_FROM_R, true, TRANSITION,                               \
      "the first button went down or a contact began; ports push it for "      \
      "every button",                                                          \
      "press, touch start, began, click, tap, mouse down, button down")        \
    X(6, POINTER_UP, "pointer.up", POINTER, POINTER, IKV_FROM_P | IKV_FROM_R,  \
      true, TRANSITION,                                                        \
      "the last button was released or a contact ended; ports push it for "    \
      "every button",                                                          \
      "release, touch end, ended, mouse up, button up")                        \
    X(7, POINTER_MOVE, "pointer.move", POINTER, POINTER,                       \
      IKV_FROM_P | IKV_FROM_R, true, MERGEABLE,                                \
      "the pointer moved, or a further button of a chord changed",             \
      "drag, touch move, moved, mouse move, motion")                           \
    X(8, POINTER_CANCEL, "pointer.cancel", POINTER, POINTER,                   \
      IKV_FROM_P | IKV_FROM_R, true, TRANSITION,                               \
      "the contact was taken away: no release will come",                      \
      "abort, lost touch, touch cancel, interrupted")                          \
    X(9, POINTER_CAPTURE_GOT, "pointer.capture_got", POINTER, POINTER,         \
      IKV_FROM_R, true, NONE,                                                  \
      "from now on the pointer belongs to this target",                        \
      "grab, focus of a touch, got capture")                                   \
    X(10, POINTER_CAPTURE_LOST, "pointer.capture_lost", POINTER, POINTER,      \
      IKV_FROM_R, true, NONE, "the pointer belongs to this target no more",    \
      "ungrab, lost capture, drag end")                                        \
    X(11, POINTER_CLICK, "pointer.click", CLICK, CLICK, IKV_FROM_R, true,      \
      NONE, "a press and its release with the primary button on the target",   \
      "tap, mouse click, press")                                               \
    X(12, POINTER_DOUBLE, "pointer.double", CLICK, CLICK, IKV_FROM_R, true,    \
      NONE, "a second click soon after and near the first",                    \
      "double tap, double click")                                              \
    X(13, POINTER_AUXILIARY, "pointer.auxiliary", CLICK, CLICK, IKV_FROM_R,    \
      true, NONE, "a press and its release with another button",               \
      "right click, middle click, secondary click")                            \
    X(14, POINTER_MENU, "pointer.menu", CLICK, CLICK, IKV_FROM_R, true, NONE,  \
      "a secondary press, or a touch's long press",                            \
      "context menu, right click, context")                                    \
    X(15, POINTER_HOLD, "pointer.hold", CLICK, CLICK, IKV_FROM_R, true, NONE,  \
      "pressed for the hold time without moving away",                         \
      "long press, press and hold")                                            \
    X(16, POINTER_DRAG, "pointer.drag", CLICK, CLICK, IKV_FROM_R, true, NONE,  \
      "a pressed pointer moved beyond the slop; once a press",                 \
      "drag start, pan start, dragged")                                        \
    X(17, WHEEL, "wheel", WHEEL, WHEEL, IKV_FROM_P, true, MERGEABLE,           \
      "something scrolled over the target", "scroll, mouse wheel, zoom")       \
    X(18, GESTURE_TWO_TAP, "gesture.two_tap", GESTURE, GESTURE, IKV_FROM_R,    \
      true, NONE, "two fingers tapped together", "two-finger tap")             \
    X(19, GESTURE_PINCH_START, "gesture.pinch_start", GESTURE, GESTURE,        \
      IKV_FROM_R, true, NONE, "two fingers began to move as a pair",           \
      "zoom, rotate, two-finger, pinch began")                                 \
    X(20, GESTURE_PINCH, "gesture.pinch", GESTURE, GESTURE, IKV_FROM_R, true,  \
      NONE, "the pair's distance or angle changed",                            \
      "zoom, rotate, two-finger, scale")                                       \
    X(21, GESTURE_PINCH_END, "gesture.pinch_end", GESTURE, GESTURE,            \
      IKV_FROM_R, true, NONE, "one of the pair was lifted",                    \
      "zoom end, rotate end, two-finger")                                      \
    X(22, KEY_DOWN, "key.down", KEY, KEY, IKV_FROM_P, true, TRANSITION,        \
      "a key went down, or repeats while it is held (flag repeat)",            \
      "pressed, key press, button, walk, jump")                                \
    X(23, KEY_UP, "key.up", KEY, KEY, IKV_FROM_P, true, TRANSITION,            \
      "a key was released", "released, key release, button up")                \
    X(24, TEXT_INPUT, "text.input", TEXT, TEXT, IKV_FROM_P, true, TRANSITION,  \
      "text was typed or pasted", "character, char, typing, paste")            \
    X(25, TEXT_COMPOSE, "text.compose", TEXT, COMPOSE, IKV_FROM_P, true,       \
      TRANSITION, "the text being composed changed",                           \
      "IME, composition, preedit")                                             \
    X(26, FOCUS_IN, "focus.in", FOCUS, FOCUS, IKV_FROM_R, true, NONE,          \
      "the target gets the keys from now on", "activate, got focus, select")   \
    X(27, FOCUS_OUT, "focus.out", FOCUS, FOCUS, IKV_FROM_R, true, NONE,        \
      "the target gets the keys no more", "blur, lost focus, deselect")        \
    X(28, WINDOW_RESIZE, "window.resize", WINDOW, WINDOW, IKV_FROM_P, false,   \
      TRANSITION, "the view has another size", "resized, size, viewport")      \
    X(29, WINDOW_DENSITY, "window.density", WINDOW, WINDOW, IKV_FROM_P, false, \
      TRANSITION, "another number of pixels a unit", "dpi, scale factor")      \
    X(30, WINDOW_SHOW, "window.show", WINDOW, WINDOW, IKV_FROM_P, false,       \
      TRANSITION, "the window can be seen again", "restore, resume, expose")   \
    X(31, WINDOW_HIDE, "window.hide", WINDOW, WINDOW, IKV_FROM_P, false,       \
      TRANSITION, "the window can't be seen", "minimise, suspend, background") \
    X(32, WINDOW_FOCUS, "window.focus", WINDOW, WINDOW, IKV_FROM_P, false,     \
      TRANSITION, "the window gets the input", "activate, foreground")         \
    X(33, WINDOW_BLUR, "window.blur", WINDOW, WINDOW, IKV_FROM_P, false,       \
      TRANSITION, "the window gets the input no more", "deactivate, alt-tab")  \
    X(34, WINDOW_CLOSE, "window.close", WINDOW, WINDOW, IKV_FROM_P, false,     \
      TRANSITION, "a request to end: refuse it, or the loop ends",             \
      "quit, exit, close")                                                     \
    X(35, DEVICE_ADD, "device.add", DEVICE, DEVICE, IKV_FROM_P, false,         \
      TRANSITION, "a device appeared", "hot-plug, connected, plugged")         \
    X(36, DEVICE_REMOVE, "device.remove", DEVICE, DEVICE, IKV_FROM_P, false,   \
      TRANSITION, "a device went", "hot-plug, disconnected, unplugged")        \
    X(37, DEVICE_RESYNC, "device.resync", DEVICE, DEVICE,                      \
      IKV_FROM_L | IKV_FROM_T, false, NONE,                                    \
      "state was made up after events had been lost", "dropped, lost")         \
    X(38, PAD_DOWN, "pad.down", PAD, PAD, IKV_FROM_P, true, TRANSITION,        \
      "a pad's button went down", "controller, joystick, button, press")       \
    X(39, PAD_UP, "pad.up", PAD, PAD, IKV_FROM_P, true, TRANSITION,            \
      "a pad's button was released", "controller, joystick, button")           \
    X(40, PAD_AXIS, "pad.axis", PAD, PAD, IKV_FROM_P, true, MERGEABLE,         \
      "a stick or trigger moved", "controller, joystick, stick, walk")         \
    X(41, OVERLAP_ENTER, "overlap.enter", OVERLAP, OVERLAP, IKV_FROM_O, false, \
      NONE, "two shapes began to overlap",                                     \
      "collision, collide, trigger, contact, touch, hit")                      \
    X(42, OVERLAP_INSIDE, "overlap.inside", OVERLAP, OVERLAP, IKV_FROM_O,      \
      false, NONE, "two shapes still overlap; each step, opt-in",              \
      "stay, collision, trigger, contact, touch")                              \
    X(43, OVERLAP_LEAVE, "overlap.leave", OVERLAP, OVERLAP, IKV_FROM_O, false, \
      NONE, "two shapes overlap no more",                                      \
      "exit, collision end, trigger, contact, touch")                          \
    X(44, TREE_ATTACH, "tree.attach", TREE, TREE, IKV_FROM_S, false, NONE,     \
      "a target got a parent; opt-in", "child added, parented, spawn")         \
    X(45, TREE_DETACH, "tree.detach", TREE, TREE, IKV_FROM_S, false, NONE,     \
      "at a target that lost its parent; at the parent, if it was removed "    \
      "(source: it, gone); opt-in",                                            \
      "child removed, unparented, despawn, destroyed")                         \
    X(46, TREE_MOVE, "tree.move", TREE, TREE, IKV_FROM_S, false, NONE,         \
      "a target moved; opt-in", "position changed, translated")                \
    X(47, TREE_SHOW, "tree.show", TREE, TREE, IKV_FROM_S, false, NONE,         \
      "a target can be hit again; opt-in", "enabled, visible")                 \
    X(48, TREE_HIDE, "tree.hide", TREE, TREE, IKV_FROM_S, false, NONE,         \
      "a target can't be hit; opt-in", "disabled, invisible")                  \
    X(49, FIELD_SET, "field.set", FIELD, FIELD, IKV_FROM_U, false, OTHER,      \
      "a named field of a target got a value", "property changed, attribute")  \
    X(50, ACTION_START, "action.start", ACTION, ACTION, IKV_FROM_A, true,      \
      NONE, "a binding of the action was satisfied",                           \
      "command, shortcut, named command, walk, jump")                          \
    X(51, ACTION_HOLD, "action.hold", ACTION, ACTION, IKV_FROM_A, true, NONE,  \
      "each step while the binding is satisfied", "command, held")             \
    X(52, ACTION_END, "action.end", ACTION, ACTION, IKV_FROM_A, true, NONE,    \
      "the binding is satisfied no more", "command, released, named command")  \
    X(53, LOOP_START, "loop.start", LOOP, LOOP, IKV_FROM_L, false, NONE,       \
      "once, before the first step", "init, load, ready, begin")               \
    X(54, LOOP_END, "loop.end", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T, false,    \
      NONE, "once, at the end; on a tape: the run ends there",                 \
      "quit, shutdown, unload, exit")                                          \
    X(55, LOOP_STEP, "loop.step", LOOP, LOOP, IKV_FROM_L, false, NONE,         \
      "each fixed step, after its input", "tick, update, fixed update")        \
    X(56, LOOP_FRAME, "loop.frame", LOOP, LOOP, IKV_FROM_L, false, NONE,       \
      "each frame, before the user's drawing", "every frame, update, render")  \
    X(57, LOOP_DROPPED, "loop.dropped", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T,   \
      false, NONE,                                                             \
      "more steps were due than one frame may run: time was "                  \
      "dropped",                                                               \
      "lag, spiral, stall")                                                    \
    X(58, LOOP_PAUSE, "loop.pause", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T,       \
      false, NONE, "the steps stand still from here on", "stop, freeze, halt") \
    X(59, LOOP_RESUME, "loop.resume", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T,     \
      false, NONE, "the steps run again", "unpause, continue, go on")          \
    X(60, LOOP_SINGLE, "loop.single", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T,     \
      false, NONE, "one step runs while the others stand still",               \
      "frame advance, single step, next")                                      \
    X(61, LOOP_SCALE, "loop.scale", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T,       \
      false, NONE,                                                             \
      "the steps run slower or faster; count is the scale in "                 \
      "thousandths",                                                           \
      "slow motion, time scale, speed, bullet time")                           \
    X(62, LOOP_IDLE, "loop.idle", LOOP, LOOP, IKV_FROM_L | IKV_FROM_T, false,  \
      NONE, "the loop waited for input; the steps stood still",                \
      "sleep, wait, rest")                                                     \
    X(63, PEN_DISTANCE, "pen.distance", PEN, PEN, IKV_FROM_P, true, MERGEABLE, \
      "the pen came nearer to the surface or went away from it",               \
      "hover distance, height, proximity, stylus")                             \
    X(64, DEVICE_SEAT, "device.seat", DEVICE, DEVICE, IKV_FROM_P | IKV_FROM_L, \
      false, TRANSITION,                                                       \
      "the device is another player's from here on: see its seat",             \
      "player joined, assign, local multiplayer, pairing")                     \
    X(65, ACTION_FEED, "action.feed", ACTION, ACTION, IKV_FROM_P, false,       \
      TRANSITION,                                                              \
      "an action is driven from outside: by x and y, until both are 0",        \
      "network player, computer player, remote, virtual input")                \
    X(66, ACTION_LEARNED, "action.learned", ACTION, ACTION, IKV_FROM_A, false, \
      NONE,                                                                    \
      "a binding was learned: its text is the delivery's data; without one "   \
      "it was called off",                                                     \
      "rebind, remap, key capture, press any key")                             \
    X(67, DRAG_ENTER, "drag.enter", DRAG, DRAG, IKV_FROM_R, true, NONE,        \
      "something is dragged over the target now (source: what); the verdict "  \
      "IKV_ACCEPT lets it be dropped there",                                   \
      "drag and drop, hover a drop target")                                    \
    X(68, DRAG_OVER, "drag.over", DRAG, DRAG, IKV_FROM_R | IKV_FROM_P, true,   \
      NONE, "it is dragged on over the target; IKV_ACCEPT likewise",           \
      "drag and drop, hover a drop target")                                    \
    X(69, DRAG_LEAVE, "drag.leave", DRAG, DRAG, IKV_FROM_R | IKV_FROM_P, true, \
      NONE, "it is dragged over the target no more, and not dropped there",    \
      "drag and drop, exit a drop target")                                     \
    X(70, DRAG_DROP, "drag.drop", DRAG, DRAG, IKV_FROM_R | IKV_FROM_P, true,   \
      NONE,                                                                    \
      "it is dropped on the target, which has accepted it; what comes from "   \
      "outside, a file, is named by the delivery's data",                      \
      "drag and drop, receive, put into a slot, file drop")                    \
    X(71, DRAG_END, "drag.end", DRAG, DRAG, IKV_FROM_R, true, NONE,            \
      "at what was dragged: it was dropped, or taken back (source: on what)",  \
      "drag and drop, drag finished, snap back")                               \
    X(72, WINDOW_UNLOCK, "window.unlock", WINDOW, WINDOW, IKV_FROM_P, false,   \
      TRANSITION,                                                              \
      "the system took the pointer's lock away: motion is not relative any "   \
      "more",                                                                  \
      "pointer lock lost, mouse released, alt-tab")                            \
    X(73, DEVICE_MOTION, "device.motion", DEVICE, MOTION, IKV_FROM_P, false,   \
      MERGEABLE, "how a device is moved and turned, as its sensors say",       \
      "gyroscope, accelerometer, tilt, sensor")                                \
    X(74, DEVICE_BATTERY, "device.battery", DEVICE, BATTERY, IKV_FROM_P,       \
      false, OTHER, "how full a device's battery is, when that changes",       \
      "power, charge, low battery")                                            \
    X(75, PAD_VALUE, "pad.value", PAD, PAD, IKV_FROM_P, true, MERGEABLE,       \
      "how far a pad's button is pressed, 0 to 1: a trigger",                  \
      "analog button, trigger, pressure")

/* Payload layouts: X(NAME, member of ikv_event, whether it has a position in
 * the view). */
#define IKV_LAYOUTS(X)                                                         \
    X(POINTER, pointer, true)                                                  \
    X(CLICK, click, true)                                                      \
    X(WHEEL, wheel, true)                                                      \
    X(PEN, pen, true)                                                          \
    X(GESTURE, gesture, true)                                                  \
    X(KEY, key, false)                                                         \
    X(TEXT, text, false)                                                       \
    X(COMPOSE, compose, false)                                                 \
    X(FOCUS, focus, false)                                                     \
    X(WINDOW, window, false)                                                   \
    X(DEVICE, info, false)                                                     \
    X(PAD, pad, false)                                                         \
    X(MOTION, motion, false)                                                   \
    X(BATTERY, battery, false)                                                 \
    X(OVERLAP, overlap, false)                                                 \
    X(TREE, tree, false)                                                       \
    X(FIELD, field, false)                                                     \
    X(ACTION, action, false)                                                   \
    X(DRAG, drag, true)                                                        \
    X(LOOP, loop, false)

/* Header fields: X(member, "name", TYPE, SET, "unit", scale, "meaning"). In
 * files the time is `t`, in milliseconds; it stands outside this list. */
#define IKV_HEADER_FIELDS(X)                                                   \
    X(device, "device", U16, NONE, "", 1, "number that the loop gave it")      \
    X(target, "target", TARGET, NONE, "", 1, "what the event is about")        \
    X(source, "source", TARGET, NONE, "", 1, "related target or other party")  \
    X(modifiers, "modifiers", U16, MODIFIERS, "mask", 1, "modifier keys held") \
    X(flags, "flags", U16, FLAGS, "mask", 1, "how the event came about")       \
    X(view, "view", U8, NONE, "", 1, "window or part of a split screen")       \
    X(seat, "seat", U8, NONE, "", 1, "player")                                 \
    X(samples, "samples", U16, NONE, "", 1, "raw events merged into this one")

/* Payload fields, a list for each layout: X(member path in ikv_event, "name",
 * TYPE, SET, "unit", scale, "meaning"). In files and conditions a field's
 * number is the stored one divided by scale. */

/* What pointers and clicks have in common, before and after what differs. */
#define IKV_FIELDS_CONTACT(X, P)                                               \
    X(P.x, "x", F32, NONE, "view units", 1, "position")                        \
    X(P.y, "y", F32, NONE, "view units", 1, "position")                        \
    X(P.dx, "dx", F32, NONE, "view units", 1, "motion")                        \
    X(P.dy, "dy", F32, NONE, "view units", 1, "motion")                        \
    X(P.pressure, "pressure", U16, NONE, "0..1", 65535,                        \
      "force of the contact")                                                  \
    X(P.width, "width", U16, NONE, "view units", 16,                           \
      "width of the contact, 0 unknown")                                       \
    X(P.height, "height", U16, NONE, "view units", 16,                         \
      "height of the contact, 0 unknown")                                      \
    X(P.tilt_x, "tilt_x", I8, NONE, "degrees", 1, "pen's tilt")                \
    X(P.tilt_y, "tilt_y", I8, NONE, "degrees", 1, "pen's tilt")

#define IKV_FIELDS_BUTTONS(X, P)                                               \
    X(P.pointer, "pointer", U16, NONE, "", 1,                                  \
      "number of the pointer on its device")                                   \
    X(P.type, "type", U8, POINTER_TYPE, "", 1, "what it is")                   \
    X(P.button, "button", I8, NONE, "", 1,                                     \
      "button that changed: 0 primary, 1 middle, 2 secondary, 3 back, "        \
      "4 forward, 5 eraser, 6 to 15 further ones, -1 none")                    \
    X(P.buttons, "buttons", U16, NONE, "mask", 1,                              \
      "buttons down: 1 primary, 2 secondary, 4 middle, 8 back, 16 forward, "   \
      "32 eraser, 64 and so on further ones")

#define IKV_FIELDS_POINTER(X)                                                  \
    IKV_FIELDS_CONTACT(X, pointer)                                             \
    X(pointer.twist, "twist", U16, NONE, "degrees", 1,                         \
      "pen's rotation, 0..359")                                                \
    IKV_FIELDS_BUTTONS(X, pointer)

#define IKV_FIELDS_CLICK(X)                                                    \
    IKV_FIELDS_CONTACT(X, click)                                               \
    X(click.clicks, "clicks", U16, NONE, "", 1,                                \
      "how many clicks in a row; 0 of what is none")                           \
    IKV_FIELDS_BUTTONS(X, click)

#define IKV_FIELDS_WHEEL(X)                                                    \
    X(wheel.x, "x", F32, NONE, "view units", 1, "position")                    \
    X(wheel.y, "y", F32, NONE, "view units", 1, "position")                    \
    X(wheel.dx, "dx", F32, NONE, "by mode", 1, "scrolled right")               \
    X(wheel.dy, "dy", F32, NONE, "by mode", 1, "scrolled down")                \
    X(wheel.dz, "dz", F32, NONE, "by mode", 1, "scrolled inwards")             \
    X(wheel.pointer, "pointer", U16, NONE, "", 1,                              \
      "number of the pointer on its device")                                   \
    X(wheel.mode, "mode", U8, WHEEL_MODE, "", 1, "unit of the motion")         \
    X(wheel.type, "type", U8, POINTER_TYPE, "", 1, "what it is")               \
    X(wheel.buttons, "buttons", U16, NONE, "mask", 1, "buttons down")

#define IKV_FIELDS_PEN(X)                                                      \
    X(pen.x, "x", F32, NONE, "view units", 1, "position")                      \
    X(pen.y, "y", F32, NONE, "view units", 1, "position")                      \
    X(pen.distance, "distance", F32, NONE, "0..1", 1,                          \
      "above the surface: 0 on it, 1 as far as the pen is sensed")             \
    X(pen.pointer, "pointer", U16, NONE, "", 1,                                \
      "number of the pointer on its device")

#define IKV_FIELDS_GESTURE(X)                                                  \
    X(gesture.x, "x", F32, NONE, "view units", 1, "centre")                    \
    X(gesture.y, "y", F32, NONE, "view units", 1, "centre")                    \
    X(gesture.dx, "dx", F32, NONE, "view units", 1, "motion")                  \
    X(gesture.dy, "dy", F32, NONE, "view units", 1, "motion")                  \
    X(gesture.scale, "scale", F32, NONE, "", 1, "1 at its start")              \
    X(gesture.rotation, "rotation", F32, NONE, "radians", 1, "0 at its start") \
    X(gesture.pointer, "pointer", U16, NONE, "", 1, "one finger")              \
    X(gesture.other, "other", U16, NONE, "", 1, "the other finger")            \
    X(gesture.count, "count", U8, NONE, "", 1, "fingers")

#define IKV_FIELDS_KEY(X)                                                      \
    X(key.code, "code", U32, CODE, "", 1,                                      \
      "the physical key (USB HID usage; W3C name in files)")                   \
    X(key.key, "key", U32, KEY, "", 1,                                         \
      "its meaning: a character, or a named key")                              \
    X(key.location, "location", U8, KEY_LOCATION, "", 1,                       \
      "which of several such keys")

#define IKV_FIELDS_TEXT(X)                                                     \
    X(text.length, "text", TEXT, NONE, "UTF-8", 1, "what was typed")

#define IKV_FIELDS_COMPOSE(X)                                                  \
    X(compose.cursor, "cursor", U16, NONE, "bytes", 1, "caret")                \
    X(compose.selection, "selection", U16, NONE, "bytes", 1,                   \
      "length of the selected part")                                           \
    X(compose.total, "total", U16, NONE, "bytes", 1,                           \
      "length of the whole composition")                                       \
    X(compose.length, "text", TEXT, NONE, "UTF-8", 1, "the composition so far")

#define IKV_FIELDS_FOCUS(X)                                                    \
    X(focus.reason, "reason", U8, FOCUS_REASON, "", 1, "why")

#define IKV_FIELDS_WINDOW(X)                                                   \
    X(window.width, "width", F32, NONE, "view units", 1, "the view")           \
    X(window.height, "height", F32, NONE, "view units", 1, "the view")         \
    X(window.density, "density", F32, NONE, "pixels a unit", 1, "the view")    \
    X(window.reason, "reason", U8, NONE, "", 1, "the port's own")

#define IKV_FIELDS_DEVICE(X)                                                   \
    X(info.vendor, "vendor", U16, NONE, "", 1, "USB vendor")                   \
    X(info.product, "product", U16, NONE, "", 1, "USB product")                \
    X(info.version, "version", U16, NONE, "", 1, "its version")                \
    X(info.bus, "bus", U16, NONE, "", 1, "how it is attached")                 \
    X(info.types, "types", U32, DEVICE_TYPES, "mask", 1, "what it can do")

#define IKV_FIELDS_PAD(X)                                                      \
    X(pad.value, "value", F32, NONE, "-1..1", 1, "button or axis")             \
    X(pad.x, "x", F32, NONE, "-1..1", 1, "the stick after dead zone")          \
    X(pad.y, "y", F32, NONE, "-1..1", 1, "the stick after dead zone")          \
    X(pad.index, "index", U8, NONE, "", 1, "W3C standard mapping")             \
    X(pad.pad, "pad", U8, NONE, "", 1, "which pad")

#define IKV_FIELDS_MOTION(X)                                                   \
    X(motion.ax, "ax", F32, NONE, "m/s2", 1, "acceleration to its right")      \
    X(motion.ay, "ay", F32, NONE, "m/s2", 1, "to its upper edge")              \
    X(motion.az, "az", F32, NONE, "m/s2", 1, "out of its face")                \
    X(motion.rx, "rx", F32, NONE, "rad/s", 1, "turning around that axis")      \
    X(motion.ry, "ry", F32, NONE, "rad/s", 1, "turning around that axis")      \
    X(motion.rz, "rz", F32, NONE, "rad/s", 1, "turning around that axis")

#define IKV_FIELDS_BATTERY(X)                                                  \
    X(battery.level, "level", F32, NONE, "0..1", 1, "how full it is")          \
    X(battery.charging, "charging", U8, NONE, "", 1, "whether it is charged")

#define IKV_FIELDS_OVERLAP(X)                                                  \
    X(overlap.x, "x", F32, NONE, "units", 1, "contact or centre")              \
    X(overlap.y, "y", F32, NONE, "units", 1, "contact or centre")              \
    X(overlap.z, "z", F32, NONE, "units", 1, "contact or centre")              \
    X(overlap.steps, "steps", U32, NONE, "steps", 1, "since enter")            \
    X(overlap.body, "body", TARGET, NONE, "", 1, "target's body")              \
    X(overlap.other_body, "other_body", TARGET, NONE, "", 1, "source's body")  \
    X(overlap.count, "count", U16, NONE, "", 1, "pieces that touch")           \
    X(overlap.reason, "reason", U8, OVERLAP_REASON, "", 1, "why it ended")     \
    X(overlap.scope, "scope", U8, OVERLAP_SCOPE, "", 1, "of whom")             \
    X(overlap.other_id, "other_id", U32, NONE, "", 1,                          \
      "the source's number, also when it is gone")

#define IKV_FIELDS_TREE(X)                                                     \
    X(tree.parent, "parent", TARGET, NONE, "", 1, "new or former one")         \
    X(tree.x, "x", F32, NONE, "units", 1, "position in the parent")            \
    X(tree.y, "y", F32, NONE, "units", 1, "position in the parent")            \
    X(tree.reason, "reason", U8, NONE, "", 1, "why")                           \
    X(tree.id, "id", U32, NONE, "", 1,                                         \
      "the program's number of what changed, or went")

#define IKV_FIELDS_FIELD(X)                                                    \
    X(field.field, "field", U32, FIELD, "", 1, "which field, by name")         \
    X(field.type, "type", U8, VALUE_TYPE, "", 1, "of old and new")             \
    X(field.before, "old", VALUE, NONE, "", 1, "value before")                 \
    X(field.after, "new", VALUE, NONE, "", 1, "value from now on")

#define IKV_FIELDS_ACTION(X)                                                   \
    X(action.action, "action", U32, ACTION, "", 1, "which action, by name")    \
    X(action.value, "value", F32, NONE, "-1..1", 1, "how far")                 \
    X(action.x, "x", F32, NONE, "", 1, "horizontal part")                      \
    X(action.y, "y", F32, NONE, "", 1, "vertical part")                        \
    X(action.binding, "binding", U16, BINDING, "", 1,                          \
      "which binding, by text")                                                \
    X(action.state, "state", U8, ACTION_STATE, "", 1, "how it stands")         \
    X(action.steps, "steps", U32, NONE, "steps", 1, "held so long")

#define IKV_FIELDS_DRAG(X)                                                     \
    X(drag.x, "x", F32, NONE, "view units", 1, "position")                     \
    X(drag.y, "y", F32, NONE, "view units", 1, "position")                     \
    X(drag.dx, "dx", F32, NONE, "view units", 1, "from where it was pressed")  \
    X(drag.dy, "dy", F32, NONE, "view units", 1, "from where it was pressed")  \
    X(drag.pointer, "pointer", U16, NONE, "", 1,                               \
      "number of the pointer on its device")                                   \
    X(drag.type, "type", U8, POINTER_TYPE, "", 1, "what it is")                \
    X(drag.accepted, "accepted", U8, NONE, "", 1,                              \
      "whether it may be dropped there, or was")

#define IKV_FIELDS_LOOP(X)                                                     \
    X(loop.step, "step", U64, NONE, "", 1, "number of the step")               \
    X(loop.frame, "frame", U64, NONE, "", 1, "number of the frame")            \
    X(loop.seconds, "seconds", F32, NONE, "s", 1,                              \
      "length of the step, or of what was dropped")                            \
    X(loop.count, "count", U32, NONE, "", 1, "steps, or events")

/* Named values of fields: X(SET, value, "name"). Of a set whose field's unit
 * is "mask", several may hold at once. Codes and keys are in keys.h. */
#define IKV_VALUE_NAMES(X)                                                     \
    X(POINTER_TYPE, IKV_MOUSE, "mouse")                                        \
    X(POINTER_TYPE, IKV_PEN, "pen")                                            \
    X(POINTER_TYPE, IKV_TOUCH, "touch")                                        \
    X(WHEEL_MODE, IKV_WHEEL_UNITS, "units")                                    \
    X(WHEEL_MODE, IKV_WHEEL_LINES, "lines")                                    \
    X(WHEEL_MODE, IKV_WHEEL_PAGES, "pages")                                    \
    X(KEY_LOCATION, 0, "standard")                                             \
    X(KEY_LOCATION, 1, "left")                                                 \
    X(KEY_LOCATION, 2, "right")                                                \
    X(KEY_LOCATION, 3, "numpad")                                               \
    X(FOCUS_REASON, IKV_FOCUS_CALL, "call")                                    \
    X(FOCUS_REASON, IKV_FOCUS_PRESS, "press")                                  \
    X(FOCUS_REASON, IKV_FOCUS_TAB, "tab")                                      \
    X(FOCUS_REASON, IKV_FOCUS_REMOVED, "removed")                              \
    X(FOCUS_REASON, IKV_FOCUS_HIDDEN, "hidden")                                \
    X(FOCUS_REASON, IKV_FOCUS_MODAL, "modal")                                  \
    X(FOCUS_REASON, IKV_FOCUS_TOWARD, "toward")                                \
    X(OVERLAP_REASON, IKV_OVERLAP_APART, "apart")                              \
    X(OVERLAP_REASON, IKV_OVERLAP_REMOVED, "removed")                          \
    X(OVERLAP_REASON, IKV_OVERLAP_DISABLED, "disabled")                        \
    X(OVERLAP_SCOPE, IKV_OVERLAP_OF_PIECES, "piece")                           \
    X(OVERLAP_SCOPE, IKV_OVERLAP_OF_BODIES, "body")                            \
    X(ACTION_STATE, IKV_ACTION_STARTED, "started")                             \
    X(ACTION_STATE, IKV_ACTION_HELD, "held")                                   \
    X(ACTION_STATE, IKV_ACTION_ENDED, "ended")                                 \
    X(VALUE_TYPE, IKV_VALUE_NONE, "none")                                      \
    X(VALUE_TYPE, IKV_VALUE_INTEGER, "integer")                                \
    X(VALUE_TYPE, IKV_VALUE_NUMBER, "number")                                  \
    X(VALUE_TYPE, IKV_VALUE_BOOL, "bool")                                      \
    X(VALUE_TYPE, IKV_VALUE_TARGET, "target")                                  \
    X(MODIFIERS, IKV_SHIFT, "shift")                                           \
    X(MODIFIERS, IKV_CONTROL, "control")                                       \
    X(MODIFIERS, IKV_ALT, "alt")                                               \
    X(MODIFIERS, IKV_META, "meta")                                             \
    X(MODIFIERS, IKV_CAPS_LOCK, "caps_lock")                                   \
    X(MODIFIERS, IKV_NUM_LOCK, "num_lock")                                     \
    X(FLAGS, IKV_SYNTHETIC, "synthetic")                                       \
    X(FLAGS, IKV_REPEAT, "repeat")                                             \
    X(FLAGS, IKV_PRIMARY, "primary")                                           \
    X(FLAGS, IKV_MORE, "more")                                                 \
    X(FLAGS, IKV_FIRST, "first")                                               \
    X(FLAGS, IKV_LATE, "late")                                                 \
    X(FLAGS, IKV_GAP, "gap")                                                   \
    X(FLAGS, IKV_OUTSIDE, "outside")                                           \
    X(FLAGS, IKV_RELATIVE, "relative")                                         \
    X(DEVICE_TYPES, 1, "keys")                                                 \
    X(DEVICE_TYPES, 2, "mouse")                                                \
    X(DEVICE_TYPES, 4, "pen")                                                  \
    X(DEVICE_TYPES, 8, "touch")                                                \
    X(DEVICE_TYPES, 16, "pad")                                                 \
    X(DEVICE_TYPES, 32, "text")

#endif
