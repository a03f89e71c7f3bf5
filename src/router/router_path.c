/* router_path.c - paths, sending along them, boundary events. */
#include "router_internal.h"

bool ikvi_router_alive(const ikv_router *r, ikv_target target)
{
    return same(target, root_of(r)) ||
           (target.bits != 0 && r->picking.alive(r->picking.scene, target));
}

uint32_t ikvi_router_traits(const ikv_router *r, ikv_target target)
{
    return same(target, root_of(r))
               ? 0
               : r->picking.traits(r->picking.scene, target);
}

ikv_target ikvi_router_parent(const ikv_router *r, ikv_target target)
{
    if (same(target, root_of(r)))
        return (ikv_target){0};
    ikv_target parent = r->picking.parent(r->picking.scene, target);
    /* The root is above all, whether or not a picking says so. */
    return parent.bits != 0 ? parent : root_of(r);
}

uint32_t ikvi_router_layer(const ikv_router *r, ikv_target target)
{
    return r->picking.layer != NULL && !same(target, root_of(r))
               ? r->picking.layer(r->picking.scene, target)
               : UINT32_MAX;
}

ikv_target ikv_router_modal(const ikv_router *router, uint8_t seat)
{
    if (router == NULL)
        return (ikv_target){0};
    /* MODAL4: of those that are there and shown the last one. */
    for (uint32_t i = router->s.modal_count; i-- > 0;) {
        ikv_target target = router->s.modals[i].target;
        if (router->s.modals[i].seat == seat &&
            ikvi_router_alive(router, target) &&
            (ikvi_router_traits(router, target) & IKV_HIDDEN) == 0)
            return target;
    }
    return (ikv_target){0};
}

bool ikvi_router_is_within(const ikv_router *r, ikv_target target,
                           ikv_target top)
{
    for (uint32_t i = 0; target.bits != 0 && i < TREE_LIMIT; i++) {
        if (same(target, top))
            return true;
        target = ikvi_router_parent(r, target);
    }
    return false;
}

bool ikvi_router_reaches(const ikv_router *r, uint8_t seat, ikv_target target)
{
    ikv_target top = ikv_router_modal(r, seat);
    if (top.bits == 0)
        return true;
    for (uint32_t i = 0; target.bits != 0 && i < TREE_LIMIT; i++) {
        if (same(target, top) ||
            (ikvi_router_traits(r, target) & IKV_STAYS_LIVE) != 0)
            return true;
        target = ikvi_router_parent(r, target);
    }
    return false;
}

bool ikvi_router_shuts_out(const ikv_router *r, uint8_t seat, ikv_target target)
{
    /* What the modal target is in holds as ever. */
    return !ikvi_router_is_within(r, ikv_router_modal(r, seat), target) &&
           !ikvi_router_reaches(r, seat, target);
}

/* A scene's tree that is deeper than the limit loses its upper middle. */
void ikvi_router_path(const ikv_router *r, ikv_target target, path *to)
{
    ikv_target up[IKV_PATH_LIMIT];
    uint32_t count = 0;
    /* From the target up; a loop in somebody's tree ends at the limit. */
    for (; target.bits != 0 && !same(target, root_of(r)) &&
           count < IKV_PATH_LIMIT - 1;
         target = ikvi_router_parent(r, target))
        up[count++] = target;
    IKVI_CHECK(count < IKV_PATH_LIMIT);
    to->nodes[0] = root_of(r);
    to->length = 1;
    while (count > 0)
        to->nodes[to->length++] = up[--count];
}

/* Paths are short: no set is worth it. */
static bool holds(const ikv_target *nodes, uint32_t length, ikv_target target)
{
    for (uint32_t i = 0; i < length; i++)
        if (same(nodes[i], target))
            return true;
    return false;
}

/* -------------------------------------------------------------- sending -- */

/* Actions hear of each delivery with what came of it. */
static void tell_follower(ikv_router *r, const ikv_event *sent,
                          ikv_outcome outcome, bool passed)
{
    if (r->follower != NULL)
        r->follower(r->follower_user, r, sent, outcome, passed);
}

/* The path goes along as it was when the way was chosen: a handler that moves
 * targets changes no delivery under way (PATH1). */
ikv_outcome ikvi_router_send(ikv_router *r, const ikv_event *event,
                             const ikv_target *nodes, uint32_t length,
                             bool passed)
{
    IKVI_CHECK(length > 0 && (passed || same(nodes[0], root_of(r))));
    ikv_event sent = *event;
    ikv_route route = IKV_ROUTE_INIT;
    route.path = nodes;
    route.path_length = length;
    route.router = r;
    route.own_visit = passed;
    route.flags = passed ? IKV_PASSED : 0;
    /* Whom it was for before, a port's or a tape's word, is over. */
    sent.target = nodes[length - 1];
    if (sent.samples > 1 && r->along.samples != NULL) {
        route.samples = r->along.samples;
        route.sample_count = r->along.count;
    }
    /* Not what follows from it. */
    if (IKVI_UNLIKELY(r->along.data != NULL) && sent.kind == r->along_kind) {
        route.data = r->along.data;
        route.data_size = r->along.data_size;
    }
    ikv_outcome outcome = ikv_bus_deliver_along(r->bus, &sent, &route);
    tell_follower(r, &sent, outcome, passed);
    return outcome;
}

ikv_outcome ikvi_router_send_to(ikv_router *r, const ikv_event *event,
                                ikv_target target)
{
    path along;
    ikvi_router_path(r, ikvi_router_alive(r, target) ? target : root_of(r),
                     &along);
    return ikvi_router_send(r, event, along.nodes, along.length, false);
}

static ikv_event following(const ikv_event *cause, ikv_kind kind,
                           ikv_target related)
{
    ikv_event event = *cause;
    event.kind = kind;
    event.source = related;
    /* What follows from a merged move follows from all of it. */
    event.samples = 0;
    return event;
}

/* What follows from an event, along a path. */
static ikv_outcome send_along(ikv_router *r, const ikv_event *cause,
                              ikv_kind kind, const ikv_target *nodes,
                              uint32_t length, ikv_target related)
{
    ikv_event event = following(cause, kind, related);
    return ikvi_router_send(r, &event, nodes, length, false);
}

ikv_outcome ikvi_router_send_kind(ikv_router *r, const ikv_event *cause,
                                  ikv_kind kind, ikv_target target,
                                  ikv_target related)
{
    path along;
    if (!ikvi_router_alive(r, target))
        return no_outcome(IKV_STALE);
    ikvi_router_path(r, target, &along);
    return send_along(r, cause, kind, along.nodes, along.length, related);
}

/* ------------------------------------------------------ boundary events -- */

static bool same_path(const pointer *p, const path *now)
{
    bool same_nodes = p->chain_length == now->length;
    for (uint32_t i = 0; same_nodes && i < now->length; i++)
        same_nodes = same(p->chain[i], now->nodes[i]);
    return same_nodes;
}

/* Boundary events of one kind, to targets of one path. */
typedef struct boundary {
    ikv_kind kind;
    const path *along;
    ikv_target related;
    uint64_t *revision; /* the scene's, asked anew after each that was sent */
    ikvi_quiet quiet;
} boundary;

/* To the target at a place of the path. It and those above it are where they
 * were unless the scene has changed since, which a handler may do at any
 * time. */
static void send_boundary(ikv_router *r, const ikv_event *cause, boundary *to,
                          uint32_t place)
{
    const ikv_target *nodes = to->along->nodes;
    IKVI_CHECK(place < to->along->length);
    if (to->along->revision != *to->revision)
        ikvi_router_send_kind(r, cause, to->kind, nodes[place], to->related);
    else if (ikvi_bus_nobody_hears_along(r->bus, to->kind, nodes, place, 1,
                                         &to->quiet))
        return;
    else
        send_along(r, cause, to->kind, nodes, place + 1, to->related);
    *to->revision = scene_revision_of(r);
}

/* Whether nobody hears any of those that are due along the path, from a place
 * on. */
static bool passes_unheard(ikv_router *r, boundary *to, uint32_t from)
{
    const path *along = to->along;
    return from > 0 && along->revision == *to->revision &&
           (from == along->length ||
            ikvi_bus_nobody_hears_along(r->bus, to->kind, along->nodes,
                                        along->length - 1, along->length - from,
                                        &to->quiet));
}

/* How much both paths share from the root on; 0 if they are of different
 * times. */
static uint32_t shared_length(const path *a, const path *b)
{
    uint32_t shared = 0;
    while (a->revision == b->revision && shared < a->length &&
           shared < b->length && same(a->nodes[shared], b->nodes[shared]))
        shared++;
    return shared;
}

/* Whether the other path lacks what is at that place. Paths of one tree never
 * meet again below what they share. */
static bool is_apart(const path *p, uint32_t place, const path *other,
                     uint32_t shared)
{
    return shared > 0 ? place >= shared
                      : !holds(other->nodes, other->length, p->nodes[place]);
}

/* OVER1, OVER2: out and leaves, then over and enters. OVER1 to OVER3, GONE1,
 * GONE4. With the same target but other ancestors (GONE5) only these are left
 * and entered. */
void ikvi_router_move_over(ikv_router *r, pointer *p, ikv_target to,
                           const ikv_event *cause)
{
    /* While the scene is as it was, so are all paths. */
    uint64_t revision = scene_revision_of(r);
    IKVI_CHECK(p->chain_length == 0 || same(p->chain[0], root_of(r)));
    bool stays = p->in_view && same(p->over, to) && !p->over_untold;
    if ((stays && p->chain_revision == revision) ||
        (!p->in_view && to.bits == 0))
        return;
    path old = {.length = p->chain_length, .revision = p->chain_revision};
    path now = {.length = 0, .revision = revision};
    memcpy(old.nodes, p->chain, p->chain_length * sizeof p->chain[0]);
    ikv_target from = p->in_view ? p->over : (ikv_target){0};
    bool owed = p->over_untold;
    if (to.bits != 0) {
        ikvi_router_path(r, to, &now);
        now.revision -= !ikvi_router_alive(r, to); /* it never was so */
    }
    p->chain_revision = revision;
    if (stays && same_path(p, &now))
        return;
    /* The pointer is there before anybody is told: a handler that asks finds it
     * so. */
    memcpy(p->chain, now.nodes, now.length * sizeof p->chain[0]);
    IKVI_CHECK(now.length <= IKV_PATH_LIMIT &&
               (now.length > 0) == (to.bits != 0));
    p->chain_length = now.length;
    p->over = to;
    p->in_view = to.bits != 0;
    p->over_untold = false;

    boundary out = {IKV_KIND_POINTER_OUT, &old, to, &revision, {0, 0}};
    boundary leave = {IKV_KIND_POINTER_LEAVE, &old, to, &revision, {0, 0}};
    boundary over = {IKV_KIND_POINTER_OVER, &now, from, &revision, {0, 0}};
    boundary enter = {IKV_KIND_POINTER_ENTER, &now, from, &revision, {0, 0}};
    uint32_t shared = shared_length(&old, &now);
    /* What has gone can't be told that it was left. */
    if (from.bits != 0 && !owed && !stays && ikvi_router_alive(r, from))
        send_boundary(r, cause, &out, old.length - 1);
    bool unheard = passes_unheard(r, &leave, shared);
    for (uint32_t i = unheard ? 0 : old.length; i-- > 0;)
        if (is_apart(&old, i, &now, shared))
            send_boundary(r, cause, &leave, i);
    if (to.bits != 0 && !stays)
        send_boundary(r, cause, &over, now.length - 1);
    unheard = passes_unheard(r, &enter, shared);
    for (uint32_t i = 0; i < now.length && !unheard; i++)
        if (is_apart(&now, i, &old, shared))
            send_boundary(r, cause, &enter, i);
}

/* MODAL1, DRAG1: what the seat does not reach is looked through, and so is what
 * lies in `without`. */
ikv_target ikvi_router_pick(const ikv_router *r, const pointer *p,
                            ikv_target without, uint32_t nth)
{
    ikv_query query = IKV_QUERY_INIT;
    query.view = p->view;
    query.touch = p->type == IKV_TOUCH;
    query.x = p->x;
    query.y = p->y;
    query.skip_body = without;
    if (r->s.modal_count == 0 && without.bits == 0)
        return r->picking.pick(r->picking.scene, &query, nth);
    ikv_target last = {0};
    for (uint32_t at = 0; at < PICK_LIMIT; at++) {
        ikv_target hit = r->picking.pick(r->picking.scene, &query, at);
        /* A picking of one's own may know the topmost alone, or no bodies. */
        if (hit.bits == 0 || same(hit, last))
            return (ikv_target){0};
        last = hit;
        if (ikvi_router_reaches(r, p->seat, hit) &&
            (without.bits == 0 || !ikvi_router_is_within(r, hit, without)) &&
            nth-- == 0)
            return hit;
    }
    return (ikv_target){0};
}
