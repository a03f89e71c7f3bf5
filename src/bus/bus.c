/* bus.c - opening, targets, owners, lanes, counters. */
#include "bus_internal.h"

/* `reporter` is told which member can't be used. */
static ikv_status check_bus(const ikv_bus_config *config,
                            const ikv_reporter *reporter)
{
    /* A place and its generation share 32 bits: 24 for places leave 8 to tell a
     * stale handle from a new one. */
    const uint64_t most = (1u << 24) - 1;
    const ikvi_range ranges[] = {
        {"bus.subscriptions", config->subscriptions, 0, most},
        {"bus.entries", config->entries, 0, most},
        {"bus.targets", config->targets, 0, most},
        {"bus.owners", config->owners, 0, most},
        {"bus.deferred", config->deferred, 0, most},
        {"bus.conditions", config->conditions, 0, most},
        {"bus.gates", config->gates, 0, most},
        {"bus.timers", config->timers, 0, most},
        {"bus.inbox", config->inbox, 0, most},
        {"bus.payloads", config->payloads, 0, most},
        {"bus.payload_bytes", config->payload_bytes, 0, most},
        {"bus.mailboxes", config->mailboxes, 0, UINT16_MAX},
        {"bus.mailbox_events", config->mailbox_events, 0, most},
        {"bus.user_lanes", config->user_lanes, 0, UINT16_MAX - 2},
        {"bus.name_bytes", config->name_bytes, 0, 1u << 30},
        {"bus.depth", config->depth, 0, 1024},
        {"bus.kept", config->kept, 0, most},
        {"bus.rebindings", config->rebindings, 0, most}};
    return ikvi_check_ranges(reporter, "bus", ranges,
                             sizeof ranges / sizeof ranges[0]);
}

static ikv_status lay_out_bus(const ikv_bus_config *config,
                              const ikv_reporter *reporter, ikv_bus *b)
{
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    ikv_status status = check_bus(config, reporter);
    if (status < 0)
        return status;
    uint32_t subscriptions = ikvi_or(config->subscriptions, 1024);
    uint32_t targets = ikvi_or(config->targets, 1024);
    uint32_t owners = ikvi_or(config->owners, 64);
    /* One entry a subscription is enough but for those to several kinds or
     * targets. */
    b->entry_capacity = ikvi_or(config->entries, subscriptions);
    b->deferred_capacity = ikvi_or(config->deferred, 1024);
    b->condition_capacity = ikvi_or(config->conditions, 256);
    b->gate_capacity = ikvi_or(config->gates, subscriptions);
    b->payload_capacity = ikvi_or(config->payloads, 32);
    b->payload_bytes = ikvi_or(config->payload_bytes, 256);
    b->mailbox_capacity = ikvi_or(config->mailboxes, 4);
    b->mailbox_events = ikvi_or(config->mailbox_events, 64);
    b->counting = config->statistics;
    b->image_limit = ikvi_or(config->images, 64);
    b->kept_room = ikvi_or(config->kept, 128);
    b->rebinding_room = ikvi_or(config->rebindings, 64);
    uint32_t timers = ikvi_or(config->timers, 64);
    ikv_queue_config inbox = ikvi_bus_inbox(ikvi_or(config->inbox, 64));
    b->inbox_size = ikv_queue_footprint(&inbox);
    b->lane_capacity = 2 + ikvi_or(config->user_lanes, 4);
    b->depth_limit = ikvi_or(config->depth, 16);
    b->kind_limit = ikvi_catalogue_kind_limit(config->catalogue);
    /* A half holds all entries packed; the rest is for runs to grow without
     * changing halves each time. */
    uint32_t spare = b->entry_capacity / 2;
    b->pool_half = b->entry_capacity + spare + (spare < 16 ? spare : 16);
    size_t pool = 2 * (size_t)b->pool_half;

    /* The order matters to images: they hold the struct's saved part with all
     * up to the inboxes, and all from outside_end on. What lies between is this
     * process's: other threads' queues, what names stand for, what waits to be
     * told. */
    ikvi_layout l = ikvi_layout_begin();
    ikvi_layout_add(&l, 1, sizeof *b);
    b->pool = ikvi_layout_add(&l, pool, sizeof(bus_entry));
    b->pool_links = ikvi_layout_add(&l, pool, sizeof(uint32_t));
    b->links = ikvi_layout_add(&l, b->entry_capacity, sizeof(bus_link));
    b->runs = ikvi_layout_add(&l, b->entry_capacity, sizeof(bus_run));
    b->pending = ikvi_layout_add(&l, b->entry_capacity, sizeof(uint32_t));
    b->subscriptions =
        ikvi_layout_add(&l, subscriptions, sizeof(bus_subscription));
    b->targets =
        ikvi_layout_add(&l, targets + FIXED_PLACES, sizeof(bus_target));
    b->owners = ikvi_layout_add(&l, owners, sizeof(bus_owner));
    b->root_runs = ikvi_layout_add(&l, b->kind_limit, sizeof(uint32_t));
    b->kind_counts =
        ikvi_layout_add(&l, b->kind_limit, sizeof(bus_kind_counts));
    b->kind_traits = ikvi_layout_add(&l, b->kind_limit, sizeof(uint8_t));
    b->deferred = ikvi_layout_add(&l, b->deferred_capacity, sizeof(ikv_event));
    b->extras = ikvi_layout_add(&l, b->deferred_capacity, sizeof(bus_extra));
    b->payloads = ikvi_layout_add(&l, b->payload_capacity,
                                  ikvi_round_up(b->payload_bytes, 16));
    b->payload_next =
        ikvi_layout_add(&l, b->payload_capacity, sizeof(uint32_t));
    b->timers = ikvi_layout_add(&l, timers, sizeof(bus_timer));
    b->timer_heap = ikvi_layout_add(&l, timers, sizeof(uint32_t));
    b->mailboxes =
        ikvi_layout_add(&l, b->mailbox_capacity, sizeof(bus_mailbox));
    b->mail = ikvi_layout_add(
        &l, (size_t)b->mailbox_capacity * b->mailbox_events, sizeof(ikv_event));
    b->inbox_capacity = ikvi_power_of_two(inbox.capacity);
    b->given = ikvi_layout_add(&l, (size_t)b->lane_capacity * b->inbox_capacity,
                               sizeof(ikv_event));
    b->inboxes = ikvi_layout_add(&l, b->lane_capacity, b->inbox_size);
    b->rebindings =
        ikvi_layout_add(&l, b->rebinding_room, sizeof(bus_rebinding));
    /* Outside of images, so that a handle from a future that was undone is
     * never taken for a new one. */
    size_t floors[] = {ikvi_layout_add(&l, subscriptions, sizeof(uint32_t)),
                       ikvi_layout_add(&l, owners, sizeof(uint32_t)),
                       ikvi_layout_add(&l, timers, sizeof(uint32_t))};
    b->kept = ikvi_layout_add(&l, b->kept_room, sizeof(bus_kept));
    b->said_kinds =
        ikvi_layout_add(&l, b->kind_limit / 32 + 1u, sizeof(uint32_t));
    /* None is under way when an image is made; each names this bus. */
    b->dispatches = ikvi_layout_add(&l, b->depth_limit, sizeof(bus_dispatch));
    b->gates = b->outside_end =
        ikvi_layout_add(&l, b->gate_capacity, sizeof(bus_gate));
    b->conditions =
        ikvi_layout_add(&l, b->condition_capacity, sizeof(bus_condition));
    b->counters =
        ikvi_layout_add(&l, b->counting ? subscriptions : 0, sizeof(bus_seen));
    b->lanes = ikvi_layout_add(&l, b->lane_capacity, sizeof(bus_lane));
    ikvi_names_layout(&b->s.names, &l, ikvi_or(config->name_bytes, 16384));
    b->s.subscription_slots = (ikvi_slots){
        .capacity = subscriptions,
        .slots = ikvi_layout_add(&l, subscriptions, sizeof(ikvi_slot)),
        .floors = floors[0]};
    b->s.target_slots =
        (ikvi_slots){.capacity = targets + FIXED_PLACES,
                     .slots = ikvi_layout_add(&l, targets + FIXED_PLACES,
                                              sizeof(ikvi_slot))};
    b->s.owner_slots =
        (ikvi_slots){.capacity = owners,
                     .slots = ikvi_layout_add(&l, owners, sizeof(ikvi_slot)),
                     .floors = floors[1]};
    b->s.timer_slots =
        (ikvi_slots){.capacity = timers,
                     .slots = ikvi_layout_add(&l, timers, sizeof(ikvi_slot)),
                     .floors = floors[2]};
    b->size = ikvi_layout_size(&l);
    return b->size != 0 ? IKV_OK : IKV_BAD_CONFIG;
}

size_t ikv_bus_footprint(const ikv_bus_config *config)
{
    /* Laid out in a struct of its own: what opening does, but for the
     * memory. */
    ikv_bus plan = {0};
    return config != NULL && lay_out_bus(config, &ikvi_silent, &plan) == IKV_OK
               ? plan.size
               : 0;
}

static void open_slots(ikvi_slots *slots, ikv_bus *b)
{
    ikvi_slots_open(slots, slots->capacity, slots->slots, b);
}

ikv_status ikv_bus_open(const ikv_bus_config *config, ikv_bus **bus)
{
    if (config == NULL || bus == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_bus plan = {
        .memory = config->memory,
        .identity = ikvi_identity(config, offsetof(ikv_bus_config, statistics) +
                                              sizeof(bool)),
        .catalogue = config->catalogue,
        .reporter = config->reporter};
    void *block = NULL;
    ikv_status status = lay_out_bus(config, &config->reporter, &plan);
    if (status == IKV_OK)
        status = ikvi_memory_take(&config->memory, plan.size, &block);
    if (status < 0)
        return status;
    ikv_bus *b = block;
    /* All offsets are known now; the arrays behind are zero, as memory is
     * given. */
    *b = plan;
    open_slots(&b->s.subscription_slots, b);
    open_slots(&b->s.target_slots, b);
    open_slots(&b->s.owner_slots, b);
    open_slots(&b->s.timer_slots, b);
    for (uint32_t i = 0; i < b->s.target_slots.capacity; i++)
        ikvi_bus_target(b, i)->first_run = ikvi_bus_target(b, i)->of_body =
            IKVI_NONE;
    b->ended = IKVI_NONE;
    for (uint32_t i = 0; i < b->s.owner_slots.capacity; i++)
        ikvi_bus_owner(b, i)->first = IKVI_NONE;
    ikvi_bus_runs_open(b);
    ikvi_bus_deliver_open(b);
    ikvi_bus_gate_open(b);
    ikvi_bus_lanes_open(b);
    /* The first places that are taken are 0 and 1: nobody can remove them. */
    for (int i = 0; i < FIXED_PLACES; i++)
        ikvi_slots_take(&b->s.target_slots, b);
    /* Statistics count each candidate, which the straight way does not. */
    b->s.detours |= b->counting ? DETOUR_COUNTING : 0;
    *bus = b;
    return IKV_OK;
}

ikv_status ikv_bus_close(ikv_bus *bus)
{
    if (bus == NULL)
        return IKV_OK;
    if (ikvi_bus_is_busy(bus)) {
        ikvi_report(&bus->reporter, IKV_REPORT_ERROR, IKV_BUSY, "bus",
                    "not closed: inside a handler");
        return IKV_BUSY;
    }
    /* From here on the bus is busy for everybody: on_drop can't subscribe. */
    bus->closing = true;
    for (uint32_t i = 0; i < bus->s.subscription_slots.capacity; i++)
        if (ikvi_bus_subscribed_at(bus, i))
            ikvi_bus_drop(bus, i);
    ikvi_bus_forget_past(bus);
    ikv_memory memory = bus->memory;
    ikvi_memory_give(&memory, bus, bus->size);
    return IKV_OK;
}

/* One scene a bus: it answers the callbacks. Whether it could be taken, or
 * given back. */
bool ikvi_bus_take_scene(ikv_bus *bus, bool takes)
{
    bool had = bus->has_scene;
    bus->has_scene = takes;
    return !had;
}

void ikvi_bus_set_in_scene(ikv_bus *bus, ikv_target target, bool in_scene)
{
    uint32_t place = ikvi_bus_place(bus, target);
    if (place != IKVI_NONE)
        ikvi_bus_target(bus, place)->in_scene = in_scene;
}

bool ikvi_bus_is_delivering(const ikv_bus *bus)
{
    /* Between two events of a flush nothing holds it, but the lane's list is in
     * use. */
    bool flushing = false;
    for (uint32_t i = 0; i < bus->s.lane_count; i++)
        flushing = flushing || ikvi_bus_lane(bus, i)->flushing;
    return ikvi_bus_is_held(bus) || flushing;
}

void ikvi_bus_hold_inboxes(ikv_bus *bus, bool holds)
{
    bus->inbox_held = holds;
}

bool ikvi_bus_is_first_of(ikv_bus *bus, ikv_kind kind)
{
    /* Kinds that are too large for the catalogue share the last bit. */
    uint32_t at = kind < bus->kind_limit ? kind : bus->kind_limit;
    uint32_t *word = ikvi_bus_words(bus, bus->said_kinds) + at / 32;
    bool first = (*word >> at % 32 & 1) == 0;
    *word |= 1u << at % 32;
    return first;
}

uint32_t ikvi_bus_slot_bits(const ikv_bus *bus)
{
    return bus->s.target_slots.bits;
}

void ikvi_bus_fetch_target(const ikv_bus *bus, uint32_t place)
{
    IKVI_FETCH(ikvi_slots_at(&bus->s.target_slots, bus, place));
    IKVI_FETCH(ikvi_bus_target(bus, place));
}

bool ikvi_bus_is_busy(const ikv_bus *bus)
{
    return ikvi_bus_is_held(bus) || bus->closing;
}

ikv_status ikv_bus_set_callbacks(ikv_bus *bus,
                                 const ikv_bus_callbacks *callbacks)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (callbacks != NULL && callbacks->size != sizeof *callbacks)
        return IKV_BAD_SIZE;
    if (ikvi_bus_is_held(bus))
        return IKV_BUSY;
    bus->callbacks = callbacks != NULL
                         ? *callbacks
                         : (ikv_bus_callbacks)IKV_BUS_CALLBACKS_INIT;
    return IKV_OK;
}

const ikv_catalogue *ikv_bus_catalogue(const ikv_bus *bus)
{
    return bus != NULL ? bus->catalogue : NULL;
}

/* -------------------------------------------------------------- targets -- */

uint32_t ikvi_bus_target_room(const ikv_bus *bus)
{
    return bus->s.target_slots.capacity;
}

uint32_t ikvi_bus_removals(const ikv_bus *b)
{
    return b->removals;
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
    uint32_t place = ikvi_slots_take(&bus->s.target_slots, bus);
    if (place == IKVI_NO_SLOT)
        return IKV_FULL_TARGETS;
    *ikvi_bus_target(bus, place) =
        (bus_target){.id = id, .first_run = IKVI_NONE, .of_body = IKVI_NONE};
    target->bits = ikvi_slots_bits(&bus->s.target_slots, bus, place);
    return IKV_OK;
}

ikv_status ikv_bus_remove_target(ikv_bus *bus, ikv_target target)
{
    if (bus == NULL || target.bits == ikv_bus_root(bus).bits)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_bus_place(bus, target);
    if (place == IKVI_NONE || place < FIXED_PLACES)
        return IKV_STALE;
    /* The scene must let go of children, capture and focus first: it asks
     * again. */
    if (ikvi_bus_target(bus, place)->in_scene)
        return IKV_BAD_ARGUMENT;
    /* Stale from now on to all that asks, though its place is not free: what
     * on_drop adds meanwhile can't land on it. */
    ikvi_bus_target(bus, place)->closing = true;
    ikvi_bus_drop_at(bus, place);
    ikvi_bus_target(bus, place)->closing = false;
    ikvi_slots_give(&bus->s.target_slots, bus, place);
    bus->removals++;
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

/* --------------------------------------------- subscriptions and owners -- */

/* IKVI_NO_SLOT for one that is stale, has ended, or of no bus. */
static uint32_t subscription_place(const ikv_bus *b, ikv_subscription s)
{
    return b == NULL ? IKVI_NO_SLOT : ikvi_bus_find_subscription(b, s.bits);
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

int32_t ikv_bus_subscription_rank(const ikv_bus *bus,
                                  ikv_subscription subscription)
{
    uint32_t place = subscription_place(bus, subscription);
    return place != IKVI_NO_SLOT ? ikvi_bus_subscription(bus, place)->rank : 0;
}

const char *ikv_bus_subscription_name(const ikv_bus *bus,
                                      ikv_subscription subscription)
{
    uint32_t place = subscription_place(bus, subscription);
    return place != IKVI_NO_SLOT
               ? ikvi_names_text(&bus->s.names, bus,
                                 ikvi_bus_subscription(bus, place)->name)
               : "";
}

ikv_status ikv_bus_subscription_counters(const ikv_bus *bus,
                                         ikv_subscription subscription,
                                         ikv_subscription_counts *counts)
{
    static const bus_seen nothing;
    uint32_t place = subscription_place(bus, subscription);
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (place == IKVI_NO_SLOT)
        return IKV_STALE;
    const bus_seen *seen = bus->counting ? ikvi_bus_seen(bus, place) : &nothing;
    const uint64_t *by = seen->by;
    uint64_t candidates = 0;
    for (int i = 0; i < BY_COUNT; i++)
        candidates += by[i];
    ikv_subscription_counts found = {.candidates = candidates,
                                     .calls = by[BY_CALL],
                                     .by_mute = by[BY_MUTE],
                                     .by_place = by[BY_PLACE],
                                     .by_condition = by[BY_CONDITION],
                                     .by_after = by[BY_AFTER],
                                     .by_at_most = by[BY_AT_MOST],
                                     .by_gap = by[BY_GAP],
                                     .spent_ns = seen->spent_ns};
    return ikvi_give_sized(counts, &found, sizeof found);
}

ikv_status ikv_bus_set_clock(ikv_bus *bus, ikv_clock_fn now, void *user)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    bus->clock = now;
    bus->clock_user = user;
    return IKV_OK;
}

ikv_status ikv_bus_add_owner(ikv_bus *bus, ikv_owner *owner)
{
    if (bus == NULL || owner == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_take(&bus->s.owner_slots, bus);
    if (place == IKVI_NO_SLOT)
        return IKV_FULL_OWNERS;
    *ikvi_bus_owner(bus, place) = (bus_owner){.first = IKVI_NONE};
    owner->bits = ikvi_slots_bits(&bus->s.owner_slots, bus, place);
    return IKV_OK;
}

ikv_status ikv_bus_drop_owner(ikv_bus *bus, ikv_owner owner)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t place = ikvi_slots_find(&bus->s.owner_slots, bus, owner.bits);
    if (place == IKVI_NO_SLOT || ikvi_bus_owner(bus, place)->closing)
        return IKV_ABSENT;
    bus_owner *o = ikvi_bus_owner(bus, place);
    /* Whoever is told can't subscribe for this owner, or the loop would not
     * end. */
    o->closing = true;
    while (o->first != IKVI_NONE)
        ikvi_bus_drop(bus, o->first);
    ikvi_slots_give(&bus->s.owner_slots, bus, place);
    return IKV_OK;
}

/* --------------------------------------------------------------- counts -- */

ikv_status ikv_bus_counters(const ikv_bus *bus, ikv_bus_counts *counts)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    const ikv_bus *b = bus;
    uint64_t delivered = 0, unheard = 0;
    for (uint32_t kind = 0; kind < b->kind_limit; kind++) {
        delivered += ikvi_bus_kind(b, kind)->delivered;
        unheard += ikvi_bus_kind(b, kind)->unheard;
    }
    uint64_t mail_refused = 0;
    for (uint32_t i = 0; i < b->s.mailbox_count; i++)
        mail_refused += ikvi_bus_mailbox(b, i)->refused;
    ikv_bus_counts found = {
        .delivered = delivered,
        .unheard = unheard,
        .too_deep = b->s.too_deep,
        .stale = b->s.stale,
        .deferred = b->s.deferred_count,
        .defer_refused = b->s.defer_refused,
        .dropped = b->s.dropped,
        .mailbox_refused = mail_refused,
        .generation_wraps = b->s.subscription_slots.wraps +
                            b->s.target_slots.wraps + b->s.owner_slots.wraps,
        .subscriptions = b->s.subscription_slots.used - b->ended_count,
        .subscriptions_high = b->s.subscription_slots.high,
        .subscriptions_capacity = b->s.subscription_slots.capacity,
        .entries = b->s.links_used,
        .entries_high = b->s.links_high,
        .entries_capacity = b->entry_capacity,
        .timers = b->s.timer_slots.used,
        .timers_high = b->s.timer_slots.high,
        .timers_capacity = b->s.timer_slots.capacity,
        .payloads = b->s.payloads_used,
        .payloads_high = b->s.payloads_high,
        .payloads_capacity = b->payload_capacity,
        .conditions = b->s.conditions_used,
        .conditions_high = b->s.conditions_high,
        .conditions_capacity = b->condition_capacity,
        .gates = b->s.gates_used,
        .gates_high = b->s.gates_high,
        .gates_capacity = b->gate_capacity,
        .targets = b->s.target_slots.used - FIXED_PLACES,
        .targets_high = b->s.target_slots.high - FIXED_PLACES,
        .targets_capacity = b->s.target_slots.capacity - FIXED_PLACES,
        .owners = b->s.owner_slots.used,
        .owners_high = b->s.owner_slots.high,
        .owners_capacity = b->s.owner_slots.capacity,
        .waiting = b->s.deferred_used,
        .waiting_high = b->s.deferred_high,
        .waiting_capacity = b->deferred_capacity,
    };
    return ikvi_give_sized(counts, &found, sizeof found);
}

ikv_status ikv_bus_kind_counters(const ikv_bus *bus, ikv_kind kind,
                                 ikv_kind_counts *counts)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (kind >= bus->kind_limit)
        return IKV_UNKNOWN_KIND;
    const bus_kind_counts *of = ikvi_bus_kind(bus, kind);
    ikv_kind_counts found = {.delivered = of->delivered,
                             .unheard = of->unheard};
    return ikvi_give_sized(counts, &found, sizeof found);
}

const char *ikv_bus_validate(const ikv_bus *bus)
{
    void *base = (void *)(uintptr_t)bus;
    if (bus == NULL)
        return NULL;
    const ikvi_slots *slots[] = {&bus->s.subscription_slots,
                                 &bus->s.target_slots, &bus->s.owner_slots,
                                 &bus->s.timer_slots};
    for (size_t i = 0; i < 4; i++) {
        const char *broken = ikvi_slots_validate(slots[i], base);
        if (broken != NULL)
            return broken;
    }
    const char *broken = ikvi_bus_runs_validate(bus);
    if (broken == NULL)
        broken = ikvi_bus_gate_validate(bus);
    if (broken == NULL)
        broken = ikvi_bus_lanes_validate(bus);
    return broken != NULL ? broken : ikvi_bus_timers_validate(bus);
}
