/* bus.c - opening, targets, owners, lanes, counters. */
#include "bus_internal.h"

static ikv_status lay_out_bus(const ikv_bus_config *config, ikv_bus *b)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    uint32_t subscriptions = ikvi_or(config->subscriptions, 1024);
    uint32_t targets = ikvi_or(config->targets, 1024);
    uint32_t owners = ikvi_or(config->owners, 64);
    uint32_t limit = 1u << 24;
    b->entry_capacity = ikvi_or(config->entries, subscriptions);
    b->deferred_capacity = ikvi_or(config->deferred, 1024);
    b->lane_capacity = 2 + ikvi_or(config->user_lanes, 4);
    b->depth_limit = ikvi_or(config->depth, 16);
    b->kind_limit = ikvi_catalogue_kind_limit(config->catalogue);
    if (subscriptions >= limit || targets >= limit || owners >= limit ||
        b->entry_capacity >= limit || b->deferred_capacity >= limit ||
        b->lane_capacity > UINT16_MAX || b->depth_limit > 1024)
        return IKV_BAD_CONFIG;
    b->pool_half = b->entry_capacity + b->entry_capacity / 2 + 16;
    size_t pool = 2 * (size_t)b->pool_half;

    ikvi_layout l = {0, false};
    ikvi_layout_add(&l, 1, sizeof *b);
    b->pool = ikvi_layout_add(&l, pool, sizeof(bus_entry));
    b->pool_links = ikvi_layout_add(&l, pool, sizeof(uint32_t));
    b->links = ikvi_layout_add(&l, b->entry_capacity, sizeof(bus_link));
    b->runs = ikvi_layout_add(&l, b->entry_capacity, sizeof(bus_run));
    b->pending = ikvi_layout_add(&l, b->entry_capacity, sizeof(uint32_t));
    b->subscriptions =
        ikvi_layout_add(&l, subscriptions, sizeof(bus_subscription));
    b->targets = ikvi_layout_add(&l, targets + 1, sizeof(bus_target));
    b->owners = ikvi_layout_add(&l, owners, sizeof(bus_owner));
    b->root_runs = ikvi_layout_add(&l, b->kind_limit, sizeof(uint32_t));
    b->kind_counts =
        ikvi_layout_add(&l, b->kind_limit, sizeof(ikv_kind_counters));
    b->kind_traits = ikvi_layout_add(&l, b->kind_limit, sizeof(uint8_t));
    b->dispatches = ikvi_layout_add(&l, b->depth_limit, sizeof(bus_dispatch));
    b->deferred = ikvi_layout_add(&l, b->deferred_capacity, sizeof(ikv_event));
    b->deferred_next =
        ikvi_layout_add(&l, b->deferred_capacity, sizeof(uint32_t));
    b->lanes = ikvi_layout_add(&l, b->lane_capacity, sizeof(bus_lane));
    ikvi_names_layout(&b->names, &l, ikvi_or(config->name_bytes, 16384));
    b->subscription_slots = (ikvi_slots){
        .capacity = subscriptions,
        .slots = ikvi_layout_add(&l, subscriptions, sizeof(ikvi_slot))};
    b->target_slots = (ikvi_slots){
        .capacity = targets + 1,
        .slots = ikvi_layout_add(&l, targets + 1, sizeof(ikvi_slot))};
    b->owner_slots =
        (ikvi_slots){.capacity = owners,
                     .slots = ikvi_layout_add(&l, owners, sizeof(ikvi_slot))};
    b->size = ikvi_layout_size(&l);
    return b->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_bus_footprint(const ikv_bus_config *config)
{
    ikv_bus plan = {0};
    return config != NULL && lay_out_bus(config, &plan) == IKV_OK ? plan.size
                                                                  : 0;
}

static void add_lane(ikv_bus *b, uint32_t name)
{
    *ikvi_bus_lane(b, b->lane_count++) =
        (bus_lane){.head = IKVI_NONE, .tail = IKVI_NONE, .name = name};
}

static void open_slots(ikvi_slots *slots, ikv_bus *b)
{
    ikvi_slots_open(slots, slots->capacity, slots->slots, b);
}

ikv_status ikv_bus_open(const ikv_bus_config *config, ikv_bus **bus)
{
    if (config == NULL || bus == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_bus plan = {.memory = config->memory,
                    .catalogue = config->catalogue,
                    .reporter = config->reporter};
    void *block = NULL;
    ikv_status status = lay_out_bus(config, &plan);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    ikv_bus *b = block;
    *b = plan;
    open_slots(&b->subscription_slots, b);
    open_slots(&b->target_slots, b);
    open_slots(&b->owner_slots, b);
    for (uint32_t i = 0; i < b->target_slots.capacity; i++)
        ikvi_bus_target(b, i)->first_run = IKVI_NONE;
    for (uint32_t i = 0; i < b->owner_slots.capacity; i++)
        ikvi_bus_owner(b, i)->first = IKVI_NONE;
    for (uint32_t i = 0; i < b->deferred_capacity; i++)
        ikvi_bus_words(b, b->deferred_next)[i] =
            i + 1 < b->deferred_capacity ? i + 1 : IKVI_NONE;
    ikvi_bus_store_open(b);
    ikvi_bus_deliver_open(b);
    ikvi_slots_take(&b->target_slots, b); /* the root, place 0 */
    add_lane(b, ikvi_names_keep(&b->names, b, "step"));
    add_lane(b, ikvi_names_keep(&b->names, b, "frame"));
    *bus = b;
    return IKV_OK;
}

void ikv_bus_close(ikv_bus *bus)
{
    if (bus == NULL || bus->busy != 0)
        return;
    for (uint32_t i = 0; i < bus->subscription_slots.capacity; i++)
        if (ikvi_slots_at(&bus->subscription_slots, bus, i)->next ==
            IKVI_IN_USE)
            ikvi_bus_drop(bus, i);
    ikv_memory memory = bus->memory;
    ikvi_memory_give(&memory, bus, bus->size);
}

ikv_status ikv_bus_set_callbacks(ikv_bus *bus,
                                 const ikv_bus_callbacks *callbacks)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (callbacks != NULL && callbacks->size != sizeof *callbacks)
        return IKV_BAD_SIZE;
    if (bus->busy != 0)
        return IKV_BUSY;
    bus->callbacks =
        callbacks != NULL ? *callbacks : (ikv_bus_callbacks){.size = 0};
    return IKV_OK;
}

const ikv_catalogue *ikv_bus_catalogue(const ikv_bus *bus)
{
    return bus != NULL ? bus->catalogue : NULL;
}

/* ---------------------------------------------------------------- targets --
 */

uint32_t ikvi_bus_target_room(const ikv_bus *bus)
{
    return bus->target_slots.capacity;
}

ikv_target ikv_bus_root(const ikv_bus *bus)
{
    (void)bus;
    return ikvi_bus_root();
}

ikv_status ikv_bus_add_target(ikv_bus *bus, uint32_t id, ikv_target *target)
{
    if (bus == NULL || target == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_take(&bus->target_slots, bus);
    if (place == IKVI_NO_SLOT)
        return IKV_FULL_TARGETS;
    *ikvi_bus_target(bus, place) =
        (bus_target){.id = id, .first_run = IKVI_NONE};
    target->bits = ikvi_slots_bits(&bus->target_slots, bus, place);
    return IKV_OK;
}

ikv_status ikv_bus_remove_target(ikv_bus *bus, ikv_target target)
{
    if (bus == NULL || target.bits == ikv_bus_root(bus).bits)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_bus_place(bus, target);
    if (place == IKVI_NONE)
        return IKV_STALE;
    ikvi_bus_target(bus, place)->closing = true;
    ikvi_bus_drop_at(bus, place);
    ikvi_bus_target(bus, place)->closing = false;
    ikvi_slots_give(&bus->target_slots, bus, place);
    return IKV_OK;
}

bool ikv_bus_target_alive(const ikv_bus *bus, ikv_target target)
{
    return bus != NULL && ikvi_bus_place(bus, target) != IKVI_NONE;
}

uint32_t ikv_bus_target_id(const ikv_bus *bus, ikv_target target)
{
    uint32_t place = bus != NULL ? ikvi_bus_place(bus, target) : IKVI_NONE;
    return place != IKVI_NONE ? ikvi_bus_target(bus, place)->id : 0;
}

uint32_t ikv_bus_target_place(const ikv_bus *bus, ikv_target target)
{
    return bus != NULL ? ikvi_bus_place(bus, target) : IKVI_NONE;
}

/* ----------------------------------------------- subscriptions and owners --
 */

static uint32_t subscription_place(const ikv_bus *b, ikv_subscription s)
{
    return b == NULL ? IKVI_NO_SLOT
                     : ikvi_slots_find(&b->subscription_slots,
                                       (void *)(uintptr_t)b, s.bits);
}

ikv_status ikv_bus_unsubscribe(ikv_bus *bus, ikv_subscription subscription)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = subscription_place(bus, subscription);
    if (place == IKVI_NO_SLOT)
        return IKV_ABSENT;
    ikvi_bus_drop(bus, place);
    return IKV_OK;
}

bool ikv_bus_subscribed(const ikv_bus *bus, ikv_subscription subscription)
{
    return subscription_place(bus, subscription) != IKVI_NO_SLOT;
}

const char *ikv_bus_subscription_name(const ikv_bus *bus,
                                      ikv_subscription subscription)
{
    uint32_t place = subscription_place(bus, subscription);
    return place != IKVI_NO_SLOT
               ? ikvi_names_text(&bus->names, bus,
                                 ikvi_bus_subscription(bus, place)->name)
               : "";
}

ikv_status ikv_bus_add_owner(ikv_bus *bus, ikv_owner *owner)
{
    if (bus == NULL || owner == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_take(&bus->owner_slots, bus);
    if (place == IKVI_NO_SLOT)
        return IKV_FULL_OWNERS;
    *ikvi_bus_owner(bus, place) = (bus_owner){.first = IKVI_NONE};
    owner->bits = ikvi_slots_bits(&bus->owner_slots, bus, place);
    return IKV_OK;
}

ikv_status ikv_bus_drop_owner(ikv_bus *bus, ikv_owner owner)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_find(&bus->owner_slots, bus, owner.bits);
    if (place == IKVI_NO_SLOT || ikvi_bus_owner(bus, place)->closing)
        return IKV_ABSENT;
    bus_owner *o = ikvi_bus_owner(bus, place);
    o->closing = true;
    while (o->first != IKVI_NONE)
        ikvi_bus_drop(bus, o->first);
    ikvi_slots_give(&bus->owner_slots, bus, place);
    return IKV_OK;
}

/* ------------------------------------------------------------------ lanes --
 */

ikv_status ikv_bus_add_lane(ikv_bus *bus, const char *name, ikv_lane *lane)
{
    if (bus == NULL || lane == NULL || name == NULL || name[0] == '\0')
        return IKV_BAD_ARGUMENT;
    if (bus->lane_count == bus->lane_capacity)
        return IKV_FULL_LANES;
    uint32_t kept = ikvi_names_keep(&bus->names, bus, name);
    if (kept == 0)
        return IKV_FULL_NAMES;
    *lane = (ikv_lane)bus->lane_count;
    add_lane(bus, kept);
    return IKV_OK;
}

const char *ikv_bus_lane_name(const ikv_bus *bus, ikv_lane lane)
{
    return bus != NULL && lane < bus->lane_count
               ? ikvi_names_text(&bus->names, bus,
                                 ikvi_bus_lane(bus, lane)->name)
               : NULL;
}

static ikv_status check_deferral(ikv_bus *b, ikv_lane lane,
                                 const ikv_event *event)
{
    if (lane >= b->lane_count)
        return IKV_UNKNOWN_NAME;
    if (ikv_catalogue_info(b->catalogue, event->kind) == NULL)
        return IKV_UNKNOWN_KIND;
    if (event->target.bits != 0 &&
        ikvi_bus_place(b, event->target) == IKVI_NONE) {
        b->stale++;
        return IKV_STALE;
    }
    if (b->free_deferred == IKVI_NONE) {
        b->defer_refused++;
        return IKV_FULL_DEFERRED;
    }
    return IKV_OK;
}

ikv_status ikv_bus_defer(ikv_bus *bus, ikv_lane lane, const ikv_event *event)
{
    if (bus == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_status status = check_deferral(bus, lane, event);
    if (status < 0)
        return status;
    uint32_t *next = ikvi_bus_words(bus, bus->deferred_next);
    bus_lane *l = ikvi_bus_lane(bus, lane);
    uint32_t at = bus->free_deferred;
    bus->free_deferred = next[at];
    next[at] = IKVI_NONE;
    *ikvi_bus_deferred(bus, at) = *event;
    if (l->tail != IKVI_NONE)
        next[l->tail] = at;
    else
        l->head = at;
    l->tail = at;
    l->count++;
    bus->deferred_count++;
    if (++bus->deferred_used > bus->deferred_high)
        bus->deferred_high = bus->deferred_used;
    ikvi_bus_watch(bus, IKV_WATCH_DEFER, event, lane);
    return IKV_OK;
}

static ikv_event take_deferred(ikv_bus *b, bus_lane *l)
{
    uint32_t *next = ikvi_bus_words(b, b->deferred_next);
    uint32_t at = l->head;
    ikv_event event = *ikvi_bus_deferred(b, at);
    l->head = next[at];
    if (l->head == IKVI_NONE)
        l->tail = IKVI_NONE;
    l->count--;
    next[at] = b->free_deferred;
    b->free_deferred = at;
    b->deferred_used--;
    return event;
}

ikv_status ikv_bus_flush(ikv_bus *bus, ikv_lane lane, uint32_t *delivered)
{
    if (delivered != NULL)
        *delivered = 0;
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (lane >= bus->lane_count)
        return IKV_UNKNOWN_NAME;
    bus_lane *l = ikvi_bus_lane(bus, lane);
    if (l->flushing)
        return IKV_BUSY;
    l->flushing = true;
    for (uint32_t left = l->count; left > 0; left--) {
        ikv_event event = take_deferred(bus, l);
        ikv_outcome outcome = ikv_bus_deliver(bus, &event);
        if (outcome.status < 0) {
            bus->dropped++;
            ikvi_bus_watch(bus, IKV_WATCH_DROP, &event, lane);
        } else if (delivered != NULL) {
            (*delivered)++;
        }
    }
    l->flushing = false;
    return IKV_OK;
}

uint32_t ikv_bus_lane_waiting(const ikv_bus *bus, ikv_lane lane)
{
    return bus != NULL && lane < bus->lane_count
               ? ikvi_bus_lane(bus, lane)->count
               : 0;
}

/* ------------------------------------------------------ watching and counts --
 */

ikv_status ikv_bus_set_watcher(ikv_bus *bus, ikv_watcher watcher, void *user)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (bus->busy != 0)
        return IKV_BUSY;
    bus->detours -= bus->watcher != NULL;
    bus->detours += watcher != NULL;
    bus->watcher = watcher;
    bus->watcher_user = user;
    return IKV_OK;
}

ikv_bus_counters ikv_bus_count(const ikv_bus *bus)
{
    if (bus == NULL)
        return (ikv_bus_counters){0};
    const ikv_bus *b = bus;
    uint64_t delivered = 0, unheard = 0;
    for (uint32_t kind = 0; kind < b->kind_limit; kind++) {
        delivered += ikvi_bus_kind(b, kind)->delivered;
        unheard += ikvi_bus_kind(b, kind)->unheard;
    }
    return (ikv_bus_counters){
        .delivered = delivered,
        .unheard = unheard,
        .too_deep = b->too_deep,
        .stale = b->stale,
        .deferred = b->deferred_count,
        .defer_refused = b->defer_refused,
        .dropped = b->dropped,
        .generation_wraps = b->subscription_slots.wraps +
                            b->target_slots.wraps + b->owner_slots.wraps,
        .subscriptions = b->subscription_slots.used,
        .subscriptions_high = b->subscription_slots.high,
        .entries = b->links_used,
        .entries_high = b->links_high,
        .targets = b->target_slots.used - 1,
        .targets_high = b->target_slots.high - 1,
        .owners = b->owner_slots.used,
        .owners_high = b->owner_slots.high,
        .waiting = b->deferred_used,
        .waiting_high = b->deferred_high,
    };
}

ikv_kind_counters ikv_bus_count_kind(const ikv_bus *bus, ikv_kind kind)
{
    return bus != NULL && kind < bus->kind_limit ? *ikvi_bus_kind(bus, kind)
                                                 : (ikv_kind_counters){0, 0};
}

static const char *validate_lanes(const ikv_bus *b)
{
    const uint32_t *next = ikvi_bus_words(b, b->deferred_next);
    uint32_t free_count = 0, on_lanes = 0;
    for (uint32_t at = b->free_deferred;
         at != IKVI_NONE && free_count <= b->deferred_capacity; at = next[at])
        free_count++;
    for (uint32_t i = 0; i < b->lane_count; i++) {
        const bus_lane *l = ikvi_bus_lane(b, i);
        uint32_t count = 0, last = IKVI_NONE;
        for (uint32_t at = l->head;
             at != IKVI_NONE && count <= b->deferred_capacity; at = next[at]) {
            count++;
            last = at;
        }
        if (count != l->count || last != l->tail)
            return "B7";
        on_lanes += count;
    }
    return on_lanes == b->deferred_used &&
                   free_count + on_lanes == b->deferred_capacity
               ? NULL
               : "B7";
}

const char *ikv_bus_validate(const ikv_bus *bus)
{
    void *base = (void *)(uintptr_t)bus;
    const ikvi_slots *slots[] = {&bus->subscription_slots, &bus->target_slots,
                                 &bus->owner_slots};
    for (size_t i = 0; i < 3; i++) {
        const char *broken = ikvi_slots_validate(slots[i], base);
        if (broken != NULL)
            return broken;
    }
    const char *broken = ikvi_bus_store_validate(bus);
    return broken != NULL ? broken : validate_lanes(bus);
}
