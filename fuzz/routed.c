/* routed.c - a router and a model of the routing rules are given the same input,
 * on the same boxes, with handlers that do the same; what both tell, whom, in
 * which order and with which fields, must be the same.
 *
 * The boxes are a picking of our own, so that it is the router alone that is
 * looked at. One subscription hears everything at the root as it comes down;
 * what is passed on beneath a box is heard there.
 */
#include "routed.h"

enum {
    LOG = 1 << 16,
    INPUTS = 400
};

static told heard[LOG];
static uint32_t heard_count, seen;

/* ---------------------------------------------------------------- boxes -- */

uint32_t take_byte(side *s)
{
    return s->at < s->end ? *s->at++ : 0;
}

bool is_touch(int hand)
{
    return hand >= 2;
}

int device_of(int hand)
{
    return is_touch(hand) ? 2 : hand;
}

bool is_hidden(const side *s, int target)
{
    for (; target != ROOT; target = s->boxes[target].parent)
        if (s->boxes[target].hidden)
            return true;
    return false;
}

bool is_within(const side *s, int target, int top)
{
    while (target != top && target != ROOT)
        target = s->boxes[target].parent;
    return target == top;
}

int path_to(const side *s, int target, int path[BOXES + 1])
{
    int count = 1;
    for (int up = target; up != ROOT; up = s->boxes[up].parent)
        count++;
    for (int at = count - 1; at > 0; target = s->boxes[target].parent)
        path[at--] = target;
    path[0] = ROOT;
    return count;
}

int box_at(const side *s, uint32_t view, float x, float y, uint32_t nth)
{
    uint32_t below = UINT32_MAX;
    int found = NOBODY;
    for (uint32_t n = 0; n <= nth; n++) {
        uint32_t best = 0;
        found = NOBODY;
        for (int i = 0; i < BOXES; i++) {
            const box *b = &s->boxes[i];
            if (b->alive && b->hit && (b->views >> view & 1) != 0 &&
                !is_hidden(s, i) && x >= b->left && y >= b->top &&
                x < b->right && y < b->bottom && b->z < below && b->z > best) {
                best = b->z;
                found = i;
            }
        }
        if (found == NOBODY)
            return NOBODY;
        below = best;
    }
    return found;
}

static void place(side *s, box *b)
{
    b->left = (float)(take_byte(s) % 80);
    b->top = (float)(take_byte(s) % 80);
    b->right = b->left + 10 + (float)(take_byte(s) % 60);
    b->bottom = b->top + 10 + (float)(take_byte(s) % 60);
}

static void make_boxes(side *s)
{
    for (int i = 0; i < BOXES; i++) {
        box *b = &s->boxes[i];
        uint32_t what = take_byte(s), more = take_byte(s);
        *b = (box){.alive = true,
                   .hit = what % 8 != 0,
                   .passes = what / 8 % 4 == 0,
                   .captures = what / 32 == 0,
                   .focusable = more % 2 != 0,
                   .hidden = more / 2 % 8 == 0,
                   .live = more / 16 % 8 == 0,
                   .parent = more / 128 != 0 || i == 0
                                 ? ROOT
                                 : (int)(what % (uint32_t)i),
                   .views = 1 + take_byte(s) % 3,
                   .z = (uint32_t)i + 1};
        place(s, b);
    }
    s->revision = 1;
}

/* Its descendants first, each by itself, as a scene does it. */
static void remove_box(side *s, int target)
{
    while (s->boxes[target].alive) {
        int former = s->boxes[target].parent, lowest = target;
        for (int i = 0; i < BOXES; i++)
            if (s->boxes[i].alive && s->boxes[i].parent == lowest) {
                lowest = i;
                i = -1;
            }
        s->boxes[lowest].alive = false;
        s->revision++;
        s->remove(s, lowest, former);
    }
}

void change_box(side *s)
{
    uint32_t what = take_byte(s);
    int target = (int)(take_byte(s) % BOXES), other = (int)(take_byte(s) % 10);
    box *b = &s->boxes[target];
    if (!b->alive)
        return;
    switch (what % 7) {
    case 0:
        if (what / 7 % 2 != 0)
            remove_box(s, target);
        return;
    case 1:
        if (other != ROOT &&
            (!s->boxes[other].alive || is_within(s, other, target)))
            return;
        b->parent = other;
        break;
    case 2:
        b->hit = !b->hit;
        break;
    case 3:
        if (other != ROOT) {
            uint32_t z = b->z;
            b->z = s->boxes[other].z;
            s->boxes[other].z = z;
        }
        break;
    case 4:
        b->hidden = !b->hidden;
        break;
    default:
        place(s, b);
    }
    s->revision++;
}

static void answer(side *s, ikv_status status)
{
    s->tell(s, &(told){.hand = NOBODY, .number = status});
}

ikv_verdict act(side *s, int hand)
{
    static const ikv_verdict verdicts[] = {IKV_REFUSE, IKV_STOP, IKV_ACCEPT};
    uint32_t what = s->at < s->end ? take_byte(s) % 32 : 31;
    if (what >= 14 || s->depth > 3)
        return IKV_CONTINUE;
    if (what < 3)
        return verdicts[what];
    s->depth++;
    uint32_t more = take_byte(s), seat = more >> 7;
    int target = (int)(more % (BOXES + 1));
    if (what < 6)
        answer(s, s->capture(s, hand, target));
    else if (what < 8)
        answer(s, s->release(s, hand, target));
    else if (what == 8)
        answer(s, s->focus(s, seat, target == ROOT ? NOBODY : target));
    else if (what == 9)
        answer(s, s->set_modal(s, seat, target == ROOT ? NOBODY : target));
    else if (what == 10 && target == 0)
        s->cancel_all(s, seat);
    else if (what > 10 && what < 13)
        answer(s, s->drag(s, hand, target));
    else
        change_box(s);
    s->depth--;
    return IKV_CONTINUE;
}

/* --------------------------------------------------------------- router -- */

typedef struct routed {
    side s; /* first */
    ikv_bus *bus;
    ikv_router *router;
    ikv_target targets[BOXES];
    const ikv_event *event; /* that is heard now */
} routed;

static int number_of(const routed *r, ikv_target target)
{
    for (int i = 0; i < BOXES; i++)
        if (r->targets[i].bits == target.bits)
            return i;
    return target.bits == ikv_bus_root(r->bus).bits ? ROOT : NOBODY;
}

static ikv_target target_of(const routed *r, int number)
{
    if (number == NOBODY)
        return (ikv_target){0};
    return number == ROOT ? ikv_bus_root(r->bus) : r->targets[number];
}

static ikv_target pick(void *scene, const ikv_query *query, uint32_t nth)
{
    const routed *r = scene;
    return target_of(r, box_at(&r->s, query->view, query->x, query->y, nth));
}

static bool alive(void *scene, ikv_target target)
{
    const routed *r = scene;
    int number = number_of(r, target);
    return number >= 0 && number < BOXES && r->s.boxes[number].alive;
}

static ikv_target parent(void *scene, ikv_target target)
{
    const routed *r = scene;
    return alive(scene, target)
               ? target_of(r, r->s.boxes[number_of(r, target)].parent)
               : (ikv_target){0};
}

static uint32_t traits(void *scene, ikv_target target)
{
    const routed *r = scene;
    if (!alive(scene, target))
        return 0;
    int number = number_of(r, target);
    const box *b = &r->s.boxes[number];
    uint32_t found = is_hidden(&r->s, number) ? IKV_HIDDEN : 0;
    found |= b->captures ? IKV_CAPTURES : 0;
    found |= b->passes ? IKV_PASSES : 0;
    found |= b->focusable ? IKV_FOCUSABLE : 0;
    return found | (b->live ? IKV_STAYS_LIVE : 0);
}

static bool to_local(void *scene, ikv_target target, uint8_t view, float x,
                     float y, float layer[2], float local[2])
{
    (void)scene, (void)target, (void)view;
    layer[0] = local[0] = x;
    layer[1] = local[1] = y;
    return true;
}

static uint64_t revision(void *scene)
{
    return ((routed *)scene)->s.revision;
}

static void note(side *s, const told *what)
{
    (void)s;
    fuzz_number(what->kind << 16 | (uint32_t)(what->target + 1) << 8 |
                (uint32_t)(what->hand + 1));
    if (heard_count < LOG) /* what is beyond is not compared */
        heard[heard_count++] = *what;
}

static ikv_status router_capture(side *s, int hand, int target)
{
    routed *r = (routed *)s;
    (void)hand;
    return ikv_router_capture(r->router, r->event, target_of(r, target));
}

static ikv_status router_release(side *s, int hand, int target)
{
    routed *r = (routed *)s;
    (void)hand;
    return ikv_router_release(r->router, r->event, target_of(r, target));
}

static ikv_status router_drag(side *s, int hand, int target)
{
    routed *r = (routed *)s;
    (void)hand;
    return ikv_router_drag(r->router, r->event, target_of(r, target));
}

static ikv_status router_focus(side *s, uint32_t seat, int target)
{
    routed *r = (routed *)s;
    return target == NOBODY ? ikv_router_blur(r->router, (uint8_t)seat)
                            : ikv_router_focus(r->router, (uint8_t)seat,
                                               target_of(r, target));
}

static ikv_status router_set_modal(side *s, uint32_t seat, int target)
{
    routed *r = (routed *)s;
    return ikv_router_set_modal(r->router, (uint8_t)seat, target_of(r, target));
}

static void router_cancel_all(side *s, uint32_t seat)
{
    ikv_router_cancel_all(((routed *)s)->router, (uint8_t)seat);
}

static void router_remove(side *s, int number, int former)
{
    routed *r = (routed *)s;
    ikv_router_removed(r->router, r->targets[number], target_of(r, former));
    ikv_bus_remove_target(r->bus, r->targets[number]);
}

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    routed *r = user;
    uint32_t family = ikv_catalogue_info(NULL, event->kind)->family;
    bool pointers = family == IKV_FAMILY_POINTER,
         clicks = family == IKV_FAMILY_CLICK;
    told what = {.kind = event->kind,
                 .hand = NOBODY,
                 .target = number_of(r, event->target),
                 .related = number_of(r, event->source),
                 .seat = event->seat,
                 .passed = (delivery->flags & IKV_PASSED) != 0};
    if (pointers || clicks) {
        what.hand = event->pointer.pointer;
        what.button = event->pointer.button;
        what.buttons = event->pointer.buttons;
        what.flags = event->flags;
        what.view = event->view;
        what.x = event->pointer.x;
        what.y = event->pointer.y;
    }
    if (event->kind == IKV_KIND_WHEEL) {
        what.number = event->wheel.pointer;
        what.buttons = event->wheel.buttons;
        what.flags = event->flags;
        what.view = event->view;
        what.x = event->wheel.x;
        what.y = event->wheel.y;
    }
    if (family == IKV_FAMILY_DRAG) {
        what.hand = event->drag.pointer;
        what.number = event->drag.accepted;
        what.flags = event->flags;
        what.view = event->view;
        what.x = event->drag.x;
        what.y = event->drag.y;
    }
    if (family == IKV_FAMILY_GESTURE) {
        what.number = event->gesture.pointer * HANDS + event->gesture.other;
        what.flags = event->flags;
        what.view = event->view;
        what.x = event->gesture.x;
        what.y = event->gesture.y;
        what.dx = event->gesture.dx;
        what.dy = event->gesture.dy;
        what.scale = event->gesture.scale;
        what.rotation = event->gesture.rotation;
        MUST(event->gesture.count == 2);
    }
    if (clicks)
        what.number = event->click.clicks;
    else if (family == IKV_FAMILY_FOCUS)
        what.number = event->focus.reason;
    note(&r->s, &what);
    const ikv_event *before = r->event;
    r->event = event;
    ikv_verdict verdict = act(&r->s, what.hand);
    r->event = before;
    return verdict;
}

static ikv_verdict hear_passed(const ikv_event *event,
                               const ikv_delivery *delivery, void *user)
{
    return (delivery->flags & IKV_PASSED) != 0 ? hear(event, delivery, user)
                                               : IKV_CONTINUE;
}

static void listen(routed *r, ikv_target at, ikv_handler handler,
                   uint32_t phases)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.all_kinds = true;
    config.at = at;
    config.handler = handler;
    config.user = r;
    config.phases = phases;
    MUST(ikv_bus_subscribe(r->bus, &config, NULL, NULL) == IKV_OK);
}

static void open_routed(routed *r)
{
    ikv_bus_config bus = IKV_BUS_INIT;
    ikv_router_config config = IKV_ROUTER_INIT;
    bus.targets = BOXES;
    bus.memory = ikv_host_memory();
    MUST(ikv_bus_open(&bus, &r->bus) == IKV_OK);
    for (uint32_t i = 0; i < BOXES; i++)
        MUST(ikv_bus_add_target(r->bus, i, &r->targets[i]) == IKV_OK);
    config.bus = r->bus;
    config.memory = ikv_host_memory();
    config.view_width = config.view_height = VIEW;
    config.two_tap_alone = r->s.two_tap_alone;
    config.hold_ns = config.double_ns = HOLD_MS * UINT64_C(1000000);
    config.picking.scene = r;
    config.picking.pick = pick;
    config.picking.parent = parent;
    config.picking.alive = alive;
    config.picking.traits = traits;
    config.picking.to_local = to_local;
    config.picking.revision = revision;
    MUST(ikv_router_open(&config, &r->router) == IKV_OK);
    listen(r, (ikv_target){0}, hear, IKV_CAPTURING | IKV_AT_TARGET);
    for (int i = 0; i < BOXES; i++)
        listen(r, r->targets[i], hear_passed, IKV_AT_TARGET);
}

static void router_take(side *s, const input *what)
{
    static const uint8_t types[HANDS] = {IKV_MOUSE, IKV_PEN, IKV_TOUCH,
                                         IKV_TOUCH, IKV_TOUCH};
    routed *r = (routed *)s;
    uint64_t now = what->time_ms * UINT64_C(1000000);
    ikv_event e =
        ikv_event_make(what->kind == BLURS     ? IKV_KIND_WINDOW_BLUR
                       : what->kind == UNPLUGS ? IKV_KIND_DEVICE_REMOVE
                       : what->kind == RESEATS ? IKV_KIND_DEVICE_SEAT
                                               : (ikv_kind)what->kind,
                       now);
    ikv_router_retest(r->router, now);
    e.device = (uint16_t)(device_of(what->hand) + 1);
    e.view = (uint8_t)what->view;
    e.seat = (uint8_t)s->seats[device_of(what->hand)];
    if (what->kind == IKV_KIND_WHEEL) {
        e.wheel.pointer = (uint16_t)what->hand;
        e.wheel.type = types[what->hand];
        e.wheel.x = what->x;
        e.wheel.y = what->y;
    } else if (what->kind < BLURS) {
        e.pointer.pointer = (uint16_t)what->hand;
        e.pointer.type = types[what->hand];
        e.pointer.button = (int8_t)what->button;
        e.pointer.x = what->x;
        e.pointer.y = what->y;
    }
    if (what->kind == CANCELS_ALL)
        router_cancel_all(s, what->seat);
    else if (what->kind == SETS_MODAL)
        answer(s, router_set_modal(s, what->seat, what->button));
    else if (what->kind == FOCUSES)
        answer(s, router_focus(s, what->seat, what->button));
    else if (what->kind != ONLY_CHANGES)
        answer(s, ikv_router_route(r->router, &e).status);
    MUST(ikv_router_validate(r->router) == NULL);
}

/* ----------------------------------------------------------------- both -- */

/* Places are the same; a turn is reckoned otherwise. */
static bool is_near(float a, float b)
{
    float most = (a < 0 ? -a : a) / 10000 + 1e-4f;
    return a - b <= most && b - a <= most;
}

static void tell_difference(const told *router, const told *rules)
{
    const told *both[] = {router, rules};
    for (int i = 0; i < 2; i++) {
        const told *t = both[i];
        fprintf(stderr,
                "%s, the %uth: kind %u hand %d at %d related %d buttons %d/%u "
                "flags %u view %u seat %u number %d, at %g, %g moved %g, %g "
                "scale %g turned %g\n",
                i == 0 ? "the router" : "the model", seen, t->kind, t->hand,
                t->target, t->related, t->button, t->buttons, t->flags, t->view,
                t->seat, t->number, (double)t->x, (double)t->y, (double)t->dx,
                (double)t->dy, (double)t->scale, (double)t->rotation);
    }
}

static void check(side *s, const told *what)
{
    (void)s;
    if (seen == LOG)
        return;
    MUST(seen < heard_count);
    const told *other = &heard[seen++];
    bool same =
        what->kind == other->kind && what->hand == other->hand &&
        what->target == other->target && what->related == other->related &&
        what->button == other->button && what->buttons == other->buttons &&
        what->flags == other->flags && what->view == other->view &&
        what->seat == other->seat && what->number == other->number &&
        what->passed == other->passed && is_near(what->x, other->x) &&
        is_near(what->y, other->y) && is_near(what->dx, other->dx) &&
        is_near(what->dy, other->dy) && is_near(what->scale, other->scale) &&
        is_near(what->rotation, other->rotation);
    if (!same)
        tell_difference(other, what);
    MUST(same);
}

/* What is done next, which makes sense more often than not. */
static input next_input(side *s, uint64_t *now_ms, float places[HANDS][2])
{
    static const uint32_t of_system[] = {BLURS,       UNPLUGS, CANCELS_ALL,
                                         SETS_MODAL,  FOCUSES, RESEATS,
                                         ONLY_CHANGES};
    static const uint32_t kinds[] = {
        IKV_KIND_POINTER_MOVE,  IKV_KIND_POINTER_MOVE,   IKV_KIND_POINTER_MOVE,
        IKV_KIND_POINTER_DOWN,  IKV_KIND_POINTER_DOWN,   IKV_KIND_POINTER_DOWN,
        IKV_KIND_POINTER_UP,    IKV_KIND_POINTER_UP,     IKV_KIND_POINTER_UP,
        IKV_KIND_POINTER_LEAVE, IKV_KIND_POINTER_CANCEL, IKV_KIND_WHEEL};
    uint32_t what = take_byte(s), which = take_byte(s);
    input i = {.kind = kinds[what % 12],
               .hand = (int)(which % HANDS),
               .button = IKV_NO_BUTTON,
               .view = take_byte(s) % 4 == 0,
               .changes = which / 4 % 4 == 0};
    *now_ms += what / 11 == 0 ? 700 : which / 16 * 5;
    i.time_ms = *now_ms;
    i.x = (float)(take_byte(s) % 120) - 10;
    i.y = (float)(take_byte(s) % 120) - 10;
    if (which / 4 % 2 == 1) { /* it stays where it was: taps, clicks */
        i.x = places[i.hand][0];
        i.y = places[i.hand][1];
    }
    places[i.hand][0] = i.x;
    places[i.hand][1] = i.y;
    if (what >= 231) {
        uint32_t n = what - 231; /* to 24 */
        i.kind = of_system[n < 1    ? 0
                           : n < 2  ? 1
                           : n < 3  ? 2
                           : n < 11 ? 3
                           : n < 18 ? 4
                           : n < 21 ? 5
                                    : 6];
        i.seat = take_byte(s) % SEATS;
        i.button = (int)(take_byte(s) % (BOXES + 1));
        i.button = i.button == ROOT ? NOBODY : i.button;
    } else if (i.kind == IKV_KIND_POINTER_DOWN ||
               i.kind == IKV_KIND_POINTER_UP) {
        i.button = is_touch(i.hand) ? 0 : (int)(which / 16 % 3);
    }
    return i;
}

static void play(side *s, const uint8_t *data, size_t size,
                 void (*take)(side *s, const input *what))
{
    uint64_t now_ms = 0;
    float places[HANDS][2] = {{0}};
    s->at = data;
    s->end = data + size;
    for (int i = 0; i < DEVICES; i++)
        s->seats[i] = (uint32_t)i % SEATS;
    make_boxes(s);
    for (uint32_t n = 0; n < INPUTS && s->at < s->end; n++) {
        input what = next_input(s, &now_ms, places);
        if (what.changes)
            change_box(s);
        if (what.kind == RESEATS)
            s->seats[device_of(what.hand)] = what.seat;
        take(s, &what);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static routed r;
    r = (routed){.s = {.tell = note,
                       .capture = router_capture,
                       .release = router_release,
                       .drag = router_drag,
                       .focus = router_focus,
                       .set_modal = router_set_modal,
                       .cancel_all = router_cancel_all,
                       .remove = router_remove}};
    fuzz_begin();
    heard_count = seen = 0;
    r.s.two_tap_alone = size > 0 && data[size - 1] % 4 == 0;
    open_routed(&r);
    play(&r.s, data, size, router_take);
    side *rules = model_open();
    rules->tell = check;
    rules->two_tap_alone = r.s.two_tap_alone;
    play(rules, data, size, model_take);
    MUST(seen == heard_count);
    ikv_router_close(r.router);
    MUST(ikv_bus_close(r.bus) == IKV_OK);
    return 0;
}
