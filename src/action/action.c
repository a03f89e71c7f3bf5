/* action.c - sets, actions and bindings. See action_internal.h.
 *
 * action-1  an action's bindings form one list, from `first` to `last`, in the
 *           order of binding
 *
 * action-2  a binding lies in the bucket of each of its triggers: the last part
 *           of a chord, each part of an axis
 *
 * action-3  `held` names each binding and seat that is satisfied, and each action
 *           and seat that is fed, once
 *
 * action-4  an action is held by as many bindings as are satisfied, and by what
 *           it is fed
 */
#include "action_internal.h"

/* -------------------------------------------------------------- opening -- */

static ikv_status lay_out_actions(const ikv_actions_config *config,
                                  const ikv_reporter *reporter, ikv_actions *a)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    const ikvi_range ranges[] = {
        {"actions.sets", config->sets, 0, UINT16_MAX - 1},
        {"actions.actions", config->actions, 0, 1u << 20},
        {"actions.bindings", config->bindings, 0, UINT16_MAX},
        {"actions.seats", config->seats, 0, ACTION_SEATS},
        {"actions.name_bytes", config->name_bytes, 0, 1u << 30}};
    ikv_status status = ikvi_check_ranges(reporter, "action", ranges,
                                          sizeof ranges / sizeof ranges[0]);
    if (status < 0)
        return status;
    a->seats = ikvi_or(config->seats, 1);
    /* The main set is always there, and not counted. */
    a->set_room = ikvi_or(config->sets, 15) + 1;
    a->s.action_slots.capacity = ikvi_or(config->actions, 64);
    a->s.binding_slots.capacity = ikvi_or(config->bindings, 256);
    size_t actions = a->s.action_slots.capacity;
    size_t bindings = a->s.binding_slots.capacity;
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *a);
    a->s.action_slots.slots = ikvi_layout_add(&l, actions, sizeof(ikvi_slot));
    a->s.binding_slots.slots = ikvi_layout_add(&l, bindings, sizeof(ikvi_slot));
    ikvi_names_layout(&a->s.names, &l, ikvi_or(config->name_bytes, 4096));
    a->s.names.drops = true;
    a->sets = ikvi_layout_add(&l, a->set_room, sizeof(action_set));
    a->rows = ikvi_layout_add(&l, actions, sizeof(action_row));
    a->action_runs =
        ikvi_layout_add(&l, actions * a->seats, sizeof(action_run));
    a->bindings = ikvi_layout_add(&l, bindings, sizeof(action_binding));
    a->binding_runs =
        ikvi_layout_add(&l, bindings * a->seats, sizeof(binding_run));
    a->held =
        ikvi_layout_add(&l, (bindings + actions) * a->seats, sizeof(uint32_t));
    a->size = ikvi_layout_size(&l);
    return a->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_actions_footprint(const ikv_actions_config *config)
{
    ikv_actions plan = {0};
    return config != NULL &&
                   lay_out_actions(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

static void set_action_time(ikv_actions *actions, uint64_t time_ns)
{
    actions->s.time_ns = time_ns;
}

/* It may be said though nobody hears them any more: then the loop goes on for
 * nothing while something is held. */
static bool actions_await(const ikv_actions *a)
{
    return a->s.held_count > 0 &&
           ikvi_bus_hears_any(a->bus, IKV_KIND_ACTION_HOLD);
}

static const ikvi_actions_calls action_calls = {.set_time = set_action_time,
                                                .follow = ikv_actions_follow,
                                                .take = ikv_actions_take,
                                                .settle = ikv_actions_settle,
                                                .step = ikv_actions_step,
                                                .awaits = actions_await};

ikv_status ikv_actions_open(const ikv_actions_config *config,
                            ikv_actions **actions)
{
    if (config == NULL || actions == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_actions plan = {.calls = &action_calls,
                        .memory = config->memory,
                        .identity = ikvi_identity(
                            config, offsetof(ikv_actions_config, name_bytes) +
                                        sizeof(uint32_t)),
                        .bus = config->bus,
                        .state = config->state,
                        .reporter = config->reporter};
    void *block = NULL;
    ikv_status status = lay_out_actions(config, &config->reporter, &plan);
    if (status == IKV_OK && (config->bus == NULL || config->state == NULL))
        status =
            ikvi_bad_config(&config->reporter, IKV_BAD_CONFIG, "action",
                            config->bus == NULL ? "the config's bus is NULL"
                                                : "the config's state is NULL");
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (block == NULL)
        return status;
    ikv_actions *a = block;
    *a = plan;
    /* The main one, without a name. */
    a->s.set_count = 1;
    ikvi_slots_open(&a->s.action_slots, plan.s.action_slots.capacity,
                    plan.s.action_slots.slots, a);
    ikvi_slots_open(&a->s.binding_slots, plan.s.binding_slots.capacity,
                    plan.s.binding_slots.slots, a);
    for (uint32_t i = 0; i < TRIGGER_BUCKETS; i++)
        a->s.heads[i] = NO_PLACE;
    *actions = a;
    return IKV_OK;
}

ikv_status ikv_actions_close(ikv_actions *actions)
{
    if (actions == NULL)
        return IKV_OK;
    if (actions->resolving || ikvi_bus_is_busy(actions->bus)) {
        ikvi_report(&actions->reporter, IKV_REPORT_ERROR, IKV_BUSY, "action",
                    "not closed: inside a handler");
        return IKV_BUSY;
    }
    for (uint32_t i = 0; i < actions->router_count; i++)
        ikv_router_set_follower(actions->routers[i], NULL, NULL);
    ikv_memory memory = actions->memory;
    ikvi_memory_give(&memory, actions, actions->size);
    return IKV_OK;
}

uint64_t ikvi_actions_saved(ikv_actions *actions, ikvi_saved *to)
{
    const size_t from = offsetof(ikv_actions, s);
    *to = (ikvi_saved){(char *)actions + from, actions->size - from};
    return actions->identity;
}

ikv_status ikv_actions_follow(ikv_actions *actions, ikv_router *router)
{
    if (actions == NULL || router == NULL)
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; i < actions->router_count; i++)
        if (actions->routers[i] == router)
            return IKV_OK;
    if (actions->router_count == IKV_ROUTER_LIMIT)
        return IKV_FULL_ROUTERS;
    actions->routers[actions->router_count++] = router;
    ikv_router_set_follower(router, ikvi_action_on_routed, actions);
    return IKV_OK;
}

/* -------------------------------------------------------------- actions -- */

static uint32_t find_action(const ikv_actions *a, ikv_action_id action)
{
    return a != NULL ? ikvi_slots_find(&a->s.action_slots, a, action.bits)
                     : IKVI_NO_SLOT;
}

static ikv_action_id action_id_at(const ikv_actions *a, uint32_t place)
{
    return (ikv_action_id){ikvi_slots_bits(&a->s.action_slots, a, place)};
}

static bool slot_used(const ikvi_slots *slots, const ikv_actions *a,
                      uint32_t place)
{
    return ikvi_slots_at(slots, a, place)->next == IKVI_IN_USE;
}

ikv_status ikv_actions_set_toggle(ikv_actions *actions, ikv_action_id action,
                                  uint8_t seat, bool toggles)
{
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    uint32_t at = find_action(actions, action);
    if (at == IKVI_NO_SLOT)
        return IKV_STALE;
    uint32_t seats = seats_named(actions, seat);
    uint8_t *bits = &action_row_at(actions, at)->toggles;
    *bits = (uint8_t)(toggles ? *bits | seats : *bits & ~seats);
    for (uint32_t i = 0; !toggles && i < actions->seats; i++)
        /* A handler of an end may remove it. */
        if (seats >> i & 1 && find_action(actions, action) == at)
            ikvi_action_unlatch(actions, at, i);
    return IKV_OK;
}

bool ikv_actions_toggles(const ikv_actions *actions, ikv_action_id action,
                         uint8_t seat)
{
    uint32_t at = actions != NULL ? find_action(actions, action) : IKVI_NO_SLOT;
    return at != IKVI_NO_SLOT && seat < ACTION_SEATS &&
           (action_row_at(actions, at)->toggles >> action_seat(actions, seat) &
            1) != 0;
}

ikv_status ikv_actions_set_repeat(ikv_actions *actions, uint8_t seat,
                                  uint64_t after_ns, uint64_t every_ns)
{
    if (actions == NULL || !is_a_seat(seat))
        return IKV_BAD_ARGUMENT;
    for (uint32_t i = 0; i < actions->seats; i++)
        if (seats_named(actions, seat) >> i & 1)
            actions->s.times[i] = (action_times){after_ns, every_ns};
    return IKV_OK;
}

ikv_action_id ikv_actions_list(const ikv_actions *actions, uint32_t nth)
{
    for (uint32_t i = 0;
         actions != NULL && i < actions->s.action_slots.capacity; i++)
        if (slot_used(&actions->s.action_slots, actions, i) && nth-- == 0)
            return action_id_at(actions, i);
    return (ikv_action_id){0};
}

ikv_action_id ikv_actions_find(const ikv_actions *actions, const char *name)
{
    /* A few dozen actions, found by name when a game is set up. */
    for (uint32_t i = 0; actions != NULL && name != NULL &&
                         i < actions->s.action_slots.capacity;
         i++)
        if (slot_used(&actions->s.action_slots, actions, i) &&
            ikvi_same(ikvi_names_text(&actions->s.names, actions,
                                      action_row_at(actions, i)->name),
                      name))
            return action_id_at(actions, i);
    return (ikv_action_id){0};
}

/* All is checked before anything is taken: a name that was kept for nothing
 * would fill the names. */
ikv_status ikv_actions_add(ikv_actions *actions, ikv_action_set set,
                           const char *name, ikv_action_id *action)
{
    if (actions == NULL || name == NULL || name[0] == '\0')
        return IKV_BAD_ARGUMENT;
    if (set >= actions->s.set_count)
        return IKV_UNKNOWN_NAME;
    if (ikv_actions_find(actions, name).bits != 0)
        return IKV_DUPLICATE;
    if (actions->s.action_slots.used == actions->s.action_slots.capacity)
        return IKV_FULL_ACTIONS;
    uint32_t kept = ikvi_names_keep(&actions->s.names, actions, name);
    if (kept == 0)
        return IKV_FULL_NAMES;
    uint32_t place = ikvi_slots_take(&actions->s.action_slots, actions);
    *action_row_at(actions, place) = (action_row){
        .name = kept, .first = NO_PLACE, .last = NO_PLACE, .set = set};
    /* The place may have been another's. */
    for (uint32_t seat = 0; seat < actions->seats; seat++)
        *action_run_at(actions, place, seat) = (action_run){0};
    if (action != NULL)
        *action = action_id_at(actions, place);
    return IKV_OK;
}

const char *ikv_actions_name(const ikv_actions *actions, ikv_action_id action)
{
    uint32_t place = find_action(actions, action);
    return place != IKVI_NO_SLOT
               ? ikvi_names_text(&actions->s.names, actions,
                                 action_row_at(actions, place)->name)
               : NULL;
}

ikv_action_set ikv_actions_set_of(const ikv_actions *actions,
                                  ikv_action_id action)
{
    uint32_t place = find_action(actions, action);
    return place != IKVI_NO_SLOT ? action_row_at(actions, place)->set
                                 : (ikv_action_set)IKV_MAIN_SET;
}

/* Nobody else may bear it: sets and actions share their names. */
static void drop_name(ikv_actions *a, uint32_t name)
{
    for (uint32_t i = 0; i < a->s.set_count; i++)
        if (action_set_at(a, i)->name == name)
            return;
    for (uint32_t i = 0; i < a->s.action_slots.capacity; i++)
        if (slot_used(&a->s.action_slots, a, i) &&
            action_row_at(a, i)->name == name)
            return;
    ikvi_names_drop(&a->s.names, a, name);
}

ikv_status ikv_actions_remove(ikv_actions *actions, ikv_action_id action)
{
    if (find_action(actions, action) == IKVI_NO_SLOT)
        return IKV_ABSENT;
    action_leaving leaving = {actions->leaving, 0, action.bits};
    actions->leaving = &leaving;
    ikv_actions_unbind_all(actions, action);
    uint32_t place = find_action(actions, action);
    for (uint32_t seat = 0; place != IKVI_NO_SLOT && seat < actions->seats;
         seat++) {
        if (action_run_at(actions, place, seat)->fed)
            ikvi_held_release(actions, first_fed(actions) +
                                           place * actions->seats + seat);
        place = find_action(actions, action);
    }
    actions->leaving = leaving.outer;
    if (place == IKVI_NO_SLOT)
        return IKV_OK; /* a handler of its end has removed it */
    if (action_row_at(actions, place)->first != NO_PLACE)
        return ikv_actions_remove(actions, action); /* or has bound it anew */
    uint32_t name = action_row_at(actions, place)->name;
    ikvi_slots_give(&actions->s.action_slots, actions, place);
    drop_name(actions, name);
    return IKV_OK;
}

/* A9. */
ikv_status ikv_actions_feed(ikv_actions *actions, ikv_action_id action,
                            uint8_t seat, float x, float y)
{
    if (actions == NULL || seat >= ACTION_SEATS)
        return IKV_BAD_ARGUMENT;
    seat = action_seat(actions, seat);
    if (!ikvi_coordinate_is_good(x) || !ikvi_coordinate_is_good(y))
        return IKV_BAD_VALUE;
    uint32_t place = find_action(actions, action);
    if (place == IKVI_NO_SLOT || action_is_leaving(actions, NO_PLACE, place))
        return IKV_STALE;
    if (!ikv_actions_is_on(actions, action_row_at(actions, place)->set, seat))
        return IKV_ABSENT;
    uint64_t now = action_now(actions);
    ikv_event cause = ikv_event_make(IKV_KIND_ACTION_FEED, now);
    cause.seat = seat;
    cause.target = ikvi_bus_root();
    cause.action.action = action.bits;
    cause.action.x = x;
    cause.action.y = y;
    actions->s.time_ns = now;
    ikvi_action_feed(actions, place, seat, x, y, &cause);
    return IKV_OK;
}

ikv_status ikv_actions_hear(ikv_actions *actions, ikv_action_id action,
                            uint32_t state, ikv_handler handler, void *user,
                            ikv_subscription *subscription)
{
    if (actions == NULL || handler == NULL || state > IKV_ACTION_ENDED)
        return IKV_BAD_ARGUMENT;
    if (find_action(actions, action) == IKVI_NO_SLOT)
        return IKV_STALE;
    const ikv_condition its = {"action",
                               IKV_EQUAL,
                               {IKV_VALUE_INTEGER, {.integer = action.bits}},
                               false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = (ikv_kind)(IKV_KIND_ACTION_START + state);
    config.conditions = &its;
    config.condition_count = 1;
    config.handler = handler;
    config.user = user;
    return ikv_bus_subscribe(actions->bus, &config, subscription, NULL);
}

/* ------------------------------------------------------------- bindings -- */

static uint32_t find_binding(const ikv_actions *a, ikv_binding binding)
{
    return a != NULL ? ikvi_slots_find(&a->s.binding_slots, a, binding.bits)
                     : IKVI_NO_SLOT;
}

static ikv_binding binding_handle(const ikv_actions *a, uint32_t place)
{
    return (ikv_binding){ikvi_slots_bits(&a->s.binding_slots, a, place)};
}

/* A2: the first part that is a trigger. A bucket is in the order of binding. */
static uint32_t first_trigger(const action_shape *shape)
{
    return shape->axis ? 0 : shape->count - 1u;
}

static void add_triggers(ikv_actions *a, uint32_t place)
{
    action_binding *b = binding_at(a, place);
    for (uint32_t i = first_trigger(&b->shape); i < b->shape.count; i++) {
        uint32_t *link = &a->s.heads[trigger_bucket(b->shape.parts[i])];
        /* At the end: those that were bound first start first. */
        while (*link != NO_PLACE)
            link = &binding_at(a, *link / ACTION_PARTS)
                        ->same[*link % ACTION_PARTS];
        b->same[i] = NO_PLACE;
        *link = place * ACTION_PARTS + i;
    }
}

static void remove_triggers(ikv_actions *a, uint32_t place)
{
    const action_binding *b = binding_at(a, place);
    for (uint32_t i = first_trigger(&b->shape); i < b->shape.count; i++) {
        uint32_t *link = &a->s.heads[trigger_bucket(b->shape.parts[i])];
        while (*link != place * ACTION_PARTS + i)
            link = &binding_at(a, *link / ACTION_PARTS)
                        ->same[*link % ACTION_PARTS];
        *link = b->same[i];
    }
}

static bool is_zero_number(float number)
{
    return number >= 0 && number <= 0;
}

/* What is of a stick alone is 0 elsewhere. */
static bool stick_fits(const ikv_scope *scope, const action_shape *shape)
{
    if (shape->parts[0].type != PART_FINGER)
        return is_zero_number(scope->radius) &&
               is_zero_number(scope->dead_zone) && !scope->floating;
    return scope->radius >= 0 && scope->radius <= IKV_COORDINATE_LIMIT &&
           scope->dead_zone >= 0 && scope->dead_zone < 1;
}

static bool scope_fits(const ikv_actions *a, const ikv_scope *scope)
{
    switch (scope->where) {
    case IKV_ANYWHERE:
    case IKV_IN_LAYER:
        return true;
    case IKV_FOCUSED:
        /* Whoever has the focus. */
        return scope->target.bits == 0 ||
               ikv_bus_target_alive(a->bus, scope->target);
    case IKV_WITHIN:
    case IKV_ON_BODY:
        return ikv_bus_target_alive(a->bus, scope->target);
    case IKV_TAGGED:
        return scope->layer != 0;
    default:
        return false;
    }
}

/* Bindings of an action are a list in the order of binding, which players see;
 * those of one trigger are another, which input walks. A binding begins
 * untouched: what is held when it is bound starts with its next press. */
ikv_status ikv_actions_bind(ikv_actions *actions, ikv_action_id action,
                            const char *text, const ikv_scope *scope,
                            ikv_binding *binding)
{
    static const ikv_scope anywhere = {.where = IKV_ANYWHERE};
    action_shape shape;
    if (actions == NULL || text == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t at = find_action(actions, action);
    if (at == IKVI_NO_SLOT)
        return IKV_STALE;
    scope = scope != NULL ? scope : &anywhere;
    if (!scope_fits(actions, scope))
        return IKV_BAD_ARGUMENT;
    /* All that may be wrong comes before the place is taken. */
    ikv_status status = ikvi_shape_read(text, &shape, NULL);
    if (status < 0)
        return status;
    if (!stick_fits(scope, &shape))
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_take(&actions->s.binding_slots, actions);
    if (place == IKVI_NO_SLOT)
        return IKV_FULL_BINDINGS;
    action_row *row = action_row_at(actions, at);
    *binding_at(actions, place) = (action_binding){.action = at,
                                                   .next = NO_PLACE,
                                                   .born = actions->s.births++,
                                                   .scope = *scope,
                                                   .shape = shape};
    /* Not with the press whose handler binds it either. */
    for (uint32_t seat = 0; seat < actions->seats; seat++)
        *binding_run_at(actions, place * actions->seats + seat) = (binding_run){
            .tried = actions->looking != NULL ? actions->s.tries : 0};
    if (row->last == NO_PLACE)
        row->first = place;
    else
        binding_at(actions, row->last)->next = place;
    row->last = place;
    add_triggers(actions, place);
    actions->s.axes += shape.axis;
    if (binding != NULL)
        *binding = binding_handle(actions, place);
    return IKV_OK;
}

/* Out of its action's list. */
static void unlink_binding(ikv_actions *a, uint32_t place)
{
    action_row *row = action_row_at(a, binding_at(a, place)->action);
    uint32_t before = NO_PLACE;
    /* An action has few bindings: its list goes one way. */
    for (uint32_t at = row->first; at != place; at = binding_at(a, at)->next)
        before = at;
    if (before == NO_PLACE)
        row->first = binding_at(a, place)->next;
    else
        binding_at(a, before)->next = binding_at(a, place)->next;
    if (row->last == place)
        row->last = before;
}

ikv_status ikv_actions_unbind(ikv_actions *actions, ikv_binding binding)
{
    uint32_t place = find_binding(actions, binding);
    if (place == IKVI_NO_SLOT)
        return IKV_ABSENT;
    action_leaving leaving = {actions->leaving, binding.bits, 0};
    actions->leaving = &leaving;
    for (uint32_t seat = 0; place != IKVI_NO_SLOT && seat < actions->seats;
         seat++) {
        /* Its end is told while it still is bound. */
        if (binding_run_at(actions, place * actions->seats + seat)->on)
            ikvi_binding_release(actions, place, seat);
        place = find_binding(actions, binding);
    }
    actions->leaving = leaving.outer;
    if (place == IKVI_NO_SLOT)
        return IKV_OK; /* a handler of its end has removed it */
    remove_triggers(actions, place);
    actions->s.axes -= binding_at(actions, place)->shape.axis;
    unlink_binding(actions, place);
    ikvi_slots_give(&actions->s.binding_slots, actions, place);
    return IKV_OK;
}

ikv_status ikv_actions_unbind_all(ikv_actions *actions, ikv_action_id action)
{
    if (find_action(actions, action) == IKVI_NO_SLOT)
        return actions != NULL ? IKV_STALE : IKV_BAD_ARGUMENT;
    ikv_binding first;
    while ((first = ikv_actions_binding(actions, action, 0)).bits != 0)
        ikv_actions_unbind(actions, first);
    return IKV_OK;
}

ikv_binding ikv_actions_binding(const ikv_actions *actions,
                                ikv_action_id action, uint32_t nth)
{
    uint32_t at = find_action(actions, action);
    uint32_t place =
        at != IKVI_NO_SLOT ? action_row_at(actions, at)->first : NO_PLACE;
    for (; place != NO_PLACE && nth > 0; nth--)
        place = binding_at(actions, place)->next;
    return place != NO_PLACE ? binding_handle(actions, place)
                             : (ikv_binding){0};
}

ikv_binding ikv_actions_binding_of(const ikv_actions *actions,
                                   const ikv_event *event)
{
    if (actions == NULL || event == NULL ||
        event->kind < IKV_KIND_ACTION_START ||
        event->kind > IKV_KIND_ACTION_END || event->action.binding == 0 ||
        event->action.binding > actions->s.binding_slots.capacity ||
        !slot_used(&actions->s.binding_slots, actions,
                   event->action.binding - 1u))
        return (ikv_binding){0};
    return binding_handle(actions, event->action.binding - 1u);
}

ikv_action_id ikv_binding_action(const ikv_actions *actions,
                                 ikv_binding binding)
{
    uint32_t place = find_binding(actions, binding);
    return place != IKVI_NO_SLOT
               ? action_id_at(actions, binding_at(actions, place)->action)
               : (ikv_action_id){0};
}

ikv_scope ikv_binding_scope(const ikv_actions *actions, ikv_binding binding)
{
    uint32_t place = find_binding(actions, binding);
    return place != IKVI_NO_SLOT ? binding_at(actions, place)->scope
                                 : (ikv_scope){0};
}

size_t ikv_binding_text(const ikv_actions *actions, ikv_binding binding,
                        char *buffer, size_t size)
{
    uint32_t place = find_binding(actions, binding);
    if (buffer != NULL && size > 0)
        buffer[0] = '\0';
    return place != IKVI_NO_SLOT && (buffer != NULL || size == 0)
               ? ikvi_shape_write(&binding_at(actions, place)->shape, buffer,
                                  size)
               : 0;
}

/* Scopes of the same place, or one that is everywhere. */
static bool scopes_meet(const ikv_scope *a, const ikv_scope *b)
{
    if (a->where == IKV_ANYWHERE || b->where == IKV_ANYWHERE)
        return true;
    if (a->where != b->where)
        return false;
    if (a->where == IKV_TAGGED)
        return (a->layer & b->layer) != 0;
    return a->where == IKV_IN_LAYER ? a->layer == b->layer
                                    : a->target.bits == b->target.bits;
}

/* Of other actions alone: one action may well have two bindings that meet. */
uint32_t ikv_actions_conflicts(const ikv_actions *actions, ikv_action_id action,
                               const char *text, const ikv_scope *scope,
                               ikv_binding *list, uint32_t room)
{
    static const ikv_scope anywhere = {.where = IKV_ANYWHERE};
    action_shape shape;
    uint32_t count = 0;
    if (actions == NULL || text == NULL || (list == NULL && room > 0) ||
        ikvi_shape_read(text, &shape, NULL) < 0)
        return 0;
    for (uint32_t i = 0; i < actions->s.binding_slots.capacity; i++) {
        const action_binding *b = binding_at(actions, i);
        if (!slot_used(&actions->s.binding_slots, actions, i) ||
            action_id_at(actions, b->action).bits == action.bits ||
            !scopes_meet(&b->scope, scope != NULL ? scope : &anywhere) ||
            !ikvi_shapes_clash(&b->shape, &shape))
            continue;
        if (count < room)
            list[count] = binding_handle(actions, i);
        count++;
    }
    return count;
}

/* --------------------------------------------------------------- asking -- */

ikv_action_state ikv_actions_ask(const ikv_actions *actions,
                                 ikv_action_id action, uint8_t seat)
{
    uint32_t place = find_action(actions, action);
    if (place == IKVI_NO_SLOT)
        return (ikv_action_state){0};
    const action_run *run =
        action_run_at(actions, place, action_seat(actions, seat));
    /* What it was when it ended is nobody's question. */
    if (run->on == 0)
        return (ikv_action_state){0};
    return (ikv_action_state){.on = true,
                              .value = run->value,
                              .x = run->x,
                              .y = run->y,
                              .steps = run->steps};
}

ikv_status ikv_actions_counters(const ikv_actions *actions,
                                ikv_actions_counts *counts)
{
    if (actions == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_actions_counts found = actions->s.counters;
    found.actions = actions->s.action_slots.used;
    found.actions_high = actions->s.action_slots.high;
    found.bindings = actions->s.binding_slots.used;
    found.bindings_high = actions->s.binding_slots.high;
    found.actions_capacity = actions->s.action_slots.capacity;
    found.bindings_capacity = actions->s.binding_slots.capacity;
    found.held = actions->s.held_count;
    return ikvi_give_sized(counts, &found, sizeof found);
}

uint32_t ikv_actions_room(const ikv_actions *actions)
{
    return actions != NULL ? actions->s.binding_slots.capacity : 0;
}

/* ----------------------------------------------------------- validating -- */

static const char *validate_lists(const ikv_actions *a)
{
    uint32_t listed = 0;
    for (uint32_t i = 0; i < a->s.action_slots.capacity; i++) {
        if (!slot_used(&a->s.action_slots, a, i))
            continue;
        const action_row *row = action_row_at(a, i);
        uint32_t last = NO_PLACE;
        for (uint32_t at = row->first; at != NO_PLACE;
             at = binding_at(a, at)->next, listed++) {
            if (listed > a->s.binding_slots.used ||
                binding_at(a, at)->action != i)
                return "action-1";
            last = at;
        }
        if (last != row->last)
            return "action-1";
    }
    return listed == a->s.binding_slots.used ? NULL : "action-1";
}

static const char *validate_triggers(const ikv_actions *a)
{
    uint32_t listed = 0, expected = 0;
    for (uint32_t i = 0; i < TRIGGER_BUCKETS; i++)
        for (uint32_t at = a->s.heads[i]; at != NO_PLACE; listed++) {
            const action_binding *b = binding_at(a, at / ACTION_PARTS);
            uint32_t part = at % ACTION_PARTS;
            if (!slot_used(&a->s.binding_slots, a, at / ACTION_PARTS) ||
                trigger_bucket(b->shape.parts[part]) != i)
                return "action-2";
            at = b->same[part];
        }
    for (uint32_t i = 0; i < a->s.binding_slots.capacity; i++)
        if (slot_used(&a->s.binding_slots, a, i)) {
            const action_shape *shape = &binding_at(a, i)->shape;
            expected += shape->count - first_trigger(shape);
        }
    return listed == expected ? NULL : "action-2";
}

static uint32_t count_on(const ikv_actions *a, uint32_t action, uint32_t seat)
{
    uint32_t on = 0;
    for (uint32_t at = action_row_at(a, action)->first; at != NO_PLACE;
         at = binding_at(a, at)->next)
        on += binding_run_at(a, at * a->seats + seat)->on;
    return on;
}

const char *ikv_actions_validate(const ikv_actions *actions)
{
    if (actions == NULL)
        return NULL;
    const ikv_actions *a = actions;
    const char *broken = validate_lists(a);
    uint32_t on = 0;
    if (broken == NULL)
        broken = validate_triggers(a);
    if (broken != NULL)
        return broken;
    for (uint32_t i = 0; i < a->s.held_count; i++) {
        uint32_t index = *held_at(a, i);
        if (index >= first_fed(a)
                ? !action_run_at(a, ikvi_held_action(a, index),
                                 held_seat(a, index))
                       ->fed
                : !binding_run_at(a, index)->on)
            return "action-3";
        for (uint32_t k = 0; k < i; k++)
            if (*held_at(a, k) == *held_at(a, i))
                return "action-3";
    }
    for (uint32_t i = 0; i < a->s.action_slots.capacity; i++)
        for (uint32_t seat = 0;
             slot_used(&a->s.action_slots, a, i) && seat < a->seats; seat++) {
            uint32_t holders =
                count_on(a, i, seat) + action_run_at(a, i, seat)->fed;
            on += holders;
            if (action_run_at(a, i, seat)->on != holders)
                return "action-4";
        }
    return on == a->s.held_count ? NULL : "action-3";
}
