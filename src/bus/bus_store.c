/* bus_store.c - what is subscribed, and how it ends. */
#include "bus_internal.h"

/* Whether a call of the subscription runs, at any depth. */
static bool call_runs(const ikv_bus *b, uint32_t bits)
{
    for (uint32_t i = 0; i < b->depth; i++)
        if (ikvi_bus_dispatch(b, i)->using->subscription.bits == bits)
            return true;
    return false;
}

/* When the outermost dispatch has ended: runs are packed, what waited is put
 * in, and only then is anybody told, who may subscribe again. */
void ikvi_bus_compact(ikv_bus *b)
{
    b->untidy = false;
    ikvi_bus_tidy(b);
    if (b->ended != IKVI_NONE)
        ikvi_bus_tell_ended(b);
}

/* ------------------------------------------------------------- dropping -- */

static void leave_owner(ikv_bus *b, bus_subscription *s)
{
    if (s->owner == IKVI_NONE)
        return;
    /* Linked both ways: one that ends is found in no time among thousands. */
    if (s->owner_prev != IKVI_NONE)
        ikvi_bus_subscription(b, s->owner_prev)->owner_next = s->owner_next;
    else
        ikvi_bus_owner(b, s->owner)->first = s->owner_next;
    if (s->owner_next != IKVI_NONE)
        ikvi_bus_subscription(b, s->owner_next)->owner_prev = s->owner_prev;
    s->owner = IKVI_NONE;
}

static void join_owner(ikv_bus *b, uint32_t at, uint32_t owner)
{
    bus_subscription *s = ikvi_bus_subscription(b, at);
    s->owner = owner;
    s->owner_prev = IKVI_NONE;
    s->owner_next = IKVI_NONE;
    if (owner == IKVI_NONE)
        return;
    s->owner_next = ikvi_bus_owner(b, owner)->first;
    if (s->owner_next != IKVI_NONE)
        ikvi_bus_subscription(b, s->owner_next)->owner_prev = at;
    ikvi_bus_owner(b, owner)->first = at;
}

/* Told wholly detached; on_drop may do anything. */
static void give_subscription(ikv_bus *b, uint32_t at)
{
    bus_subscription *s = ikvi_bus_subscription(b, at), ended = *s;
    IKVI_CHECK(s->first_link == IKVI_NONE && s->owner == IKVI_NONE);
    /* The place may be taken again inside on_drop, hence the copy. */
    s->ended = false;
    ikvi_slots_give(&b->s.subscription_slots, b, at);
    ikvi_bus_drop_told(b, &ended, at);
}

/* Takes one that does not run out of the list; IKVI_NONE if all do. */
static uint32_t take_ended(ikv_bus *b)
{
    uint32_t *link = &b->ended;
    while (*link != IKVI_NONE) {
        uint32_t at = *link;
        bus_subscription *s = ikvi_bus_subscription(b, at);
        if (!call_runs(b, ikvi_slots_bits(&b->s.subscription_slots, b, at))) {
            *link = s->owner_next;
            IKVI_CHECK(s->ended && b->ended_count > 0);
            b->ended_count--;
            return at;
        }
        link = &s->owner_next;
    }
    return IKVI_NONE;
}

void ikvi_bus_tell_ended(ikv_bus *b)
{
    for (uint32_t at; (at = take_ended(b)) != IKVI_NONE;)
        give_subscription(b, at);
}

static void leave_body(ikv_bus *b, uint32_t subscription)
{
    const bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    uint32_t body =
        gate != NULL && gate->body.bits != 0
            ? ikvi_slots_find(&b->s.target_slots, b, gate->body.bits)
            : IKVI_NO_SLOT;
    if (body == IKVI_NO_SLOT)
        return;
    uint32_t *link = &ikvi_bus_target(b, body)->of_body;
    while (*link != subscription)
        link = &ikvi_bus_gate_of(b, *link)->next_of_body;
    *link = gate->next_of_body;
}

static void join_body(ikv_bus *b, uint32_t subscription)
{
    bus_gate *gate = ikvi_bus_gate_of(b, subscription);
    if (gate == NULL || gate->body.bits == 0)
        return;
    bus_target *body = ikvi_bus_target(
        b, ikvi_slots_find(&b->s.target_slots, b, gate->body.bits));
    gate->next_of_body = body->of_body;
    body->of_body = subscription;
}

/* D5: it is not called any more from now on. Detached wholly before on_drop is
 * called: at once, or if a call of it runs, when that has returned. */
void ikvi_bus_drop(ikv_bus *b, uint32_t subscription)
{
    bus_subscription *s = ikvi_bus_subscription(b, subscription);
    uint32_t bits = ikvi_slots_bits(&b->s.subscription_slots, b, subscription);
    ikv_watch watch = {.what = IKV_WATCH_END,
                       .reason = s->ending ? IKV_WHY_LIMIT : IKV_WHY_ENDED};
    if (ikvi_bus_watches(b, IKV_WATCH_END))
        ikvi_bus_tell_of(b, &watch, subscription);
    /* Held, so that no run is freed while links still name it. */
    ikvi_bus_hold(b);
    while (s->first_link != IKVI_NONE) {
        uint32_t at = s->first_link;
        s->first_link = ikvi_bus_link(b, at)->next;
        ikvi_bus_free_link(b, at);
    }
    leave_owner(b, s);
    leave_body(b, subscription);
    ikvi_bus_gate_drop(b, subscription);
    /* Its handler's `user` must stay until it returns. */
    bool runs = call_runs(b, bits);
    if (runs) {
        s->ended = true;
        s->owner_next = b->ended;
        b->ended = subscription;
        b->ended_count++;
        b->untidy = true;
    }
    ikvi_bus_release(b);
    if (!runs)
        give_subscription(b, subscription);
}

/* Ends what one link stands for: the subscription, if it was its last. */
static void drop_link(ikv_bus *b, uint32_t at)
{
    uint32_t subscription = ikvi_bus_link(b, at)->subscription;
    bus_subscription *s = ikvi_bus_subscription(b, subscription);
    if (s->first_link == at && ikvi_bus_link(b, at)->next == IKVI_NONE) {
        ikvi_bus_drop(b, subscription);
        return;
    }
    uint32_t *link = &s->first_link;
    while (*link != at)
        link = &ikvi_bus_link(b, *link)->next;
    *link = ikvi_bus_link(b, at)->next;
    ikvi_bus_free_link(b, at);
}

static uint32_t pending_at(const ikv_bus *b, uint32_t target)
{
    const uint32_t *pending = ikvi_bus_words(b, b->pending);
    for (uint32_t i = 0; i < b->pending_count; i++)
        if (ikvi_bus_link(b, pending[i])->target == target)
            return pending[i];
    return IKVI_NONE;
}

/* Held, so that nothing moves while the runs are walked; the target's own chain
 * is taken apart last, when no link is left that would look for it. */
void ikvi_bus_drop_at(ikv_bus *b, uint32_t target)
{
    bus_target *t = ikvi_bus_target(b, target);
    ikvi_bus_hold(b);
    for (uint32_t at = t->first_run; at != IKVI_NONE;
         at = ikvi_bus_run(b, at)->next) {
        bus_run *run = ikvi_bus_run(b, at);
        for (uint32_t i = 0; i < run->count; i++) {
            uint32_t link = ikvi_bus_words(b, b->pool_links)[run->first + i];
            if (link != IKVI_NONE)
                drop_link(b, link);
        }
    }
    /* A drop takes all links of that subscription, so the list is asked
     * anew. */
    for (uint32_t at; (at = pending_at(b, target)) != IKVI_NONE;)
        drop_link(b, at);
    while (t->of_body != IKVI_NONE)
        ikvi_bus_drop(b, t->of_body);
    while (t->first_run != IKVI_NONE) {
        uint32_t at = t->first_run;
        t->first_run = ikvi_bus_run(b, at)->next;
        ikvi_bus_run(b, at)->target = IKVI_NONE;
        ikvi_bus_mark_dirty(b, at);
    }
    t->kinds_seen = 0;
    ikvi_bus_release(b);
}

uint32_t ikvi_bus_target_at(const ikv_bus *b, uint32_t place)
{
    if (place >= b->s.target_slots.capacity)
        return 0;
    /* A place whose target is closing has bits still, but is nobody's. */
    uint32_t bits = ikvi_slots_bits(&b->s.target_slots, b, place);
    return ikvi_bus_place(b, (ikv_target){bits}) != IKVI_NONE ? bits : 0;
}

/* ---------------------------------------------------------- subscribing -- */

/* PATH8: without a phase the own visit and bubbling; at the root also what
 * does not bubble. */
static uint32_t visits_of(const ikv_subscription_config *config)
{
    uint32_t visits = 0;
    if (config->at_tags != 0 || config->at_body.bits != 0)
        return config->phases & IKV_CAPTURING ? VISIT_FIRST : VISIT_OWN;
    if (config->phases == 0) /* ONCE is asked for at the root alone */
        return VISIT_OWN | VISIT_BUBBLE | VISIT_ONCE;
    if (config->phases & IKV_CAPTURING)
        visits |= VISIT_CAPTURE | VISIT_FIRST;
    else if (config->phases & IKV_AT_TARGET)
        visits |= VISIT_OWN;
    if (config->phases & IKV_BUBBLING)
        visits |= VISIT_BUBBLE;
    return visits;
}

static ikv_status refuse(ikv_message *message, ikv_status status,
                         const char *given, const char *what,
                         const char *needed)
{
    const char *parts[] = {given, what, needed, NULL};
    ikvi_message(message, parts);
    return status;
}

/* Exactly one of the four ways: two at once would leave open which is meant. */
static ikv_status check_kinds(const ikv_bus *b,
                              const ikv_subscription_config *config,
                              ikv_message *message)
{
    int ways = (config->kind != 0) + (config->kinds != NULL) +
               (config->families != 0) + config->all_kinds;
    if (ways != 1)
        return refuse(message, IKV_BAD_ARGUMENT,
                      ways == 0 ? "no kind is given" : "kinds are given twice",
                      ": set one of kind, kinds, families, all_kinds",
                      ", .kind = IKV_KIND_POINTER_DOWN for instance");
    if (config->kinds != NULL && config->kind_count == 0)
        return refuse(message, IKV_BAD_ARGUMENT, "the list kinds is empty", "",
                      ": set kind_count to how many it holds");
    if (config->families >> IKV_FAMILY_COUNT != 0)
        return refuse(message, IKV_BAD_ARGUMENT,
                      "families has a bit of no family", "",
                      ": join 1u << IKV_FAMILY_POINTER and the like");
    const ikv_kind *kinds =
        config->kinds != NULL ? config->kinds : &config->kind;
    uint32_t count =
        config->kinds != NULL ? config->kind_count : config->kind != 0;
    for (uint32_t i = 0; i < count; i++)
        if (ikv_catalogue_info(b->catalogue, kinds[i]) == NULL)
            return refuse(message, IKV_UNKNOWN_KIND,
                          "a kind is not in the catalogue", "",
                          ": register it first, with the bus's catalogue");
    return IKV_OK;
}

/* A target that is named twice is fine (it counts once), a stale one is not: it
 * would be a subscription that never hears. */
static ikv_status check_targets(const ikv_bus *b,
                                const ikv_subscription_config *config,
                                ikv_message *message)
{
    if (config->at_list != NULL && config->at_count == 0)
        return refuse(message, IKV_BAD_ARGUMENT, "the list at_list is empty",
                      "", ": set at_count to how many it holds");
    if (config->at_list == NULL && config->at_count != 0)
        return refuse(message, IKV_BAD_ARGUMENT, "at_count is given", "",
                      ", but no at_list");
    if (config->at_list != NULL && config->at.bits != 0)
        return refuse(message, IKV_BAD_ARGUMENT, "at and at_list are given", "",
                      ": set one of them");
    const ikv_target *list =
        config->at_list != NULL ? config->at_list : &config->at;
    uint32_t count =
        config->at_list != NULL ? config->at_count : config->at.bits != 0;
    for (uint32_t i = 0; i < count; i++)
        if (ikvi_bus_place(b, list[i]) == IKVI_NONE)
            return refuse(message, IKV_STALE, "a target is stale or unknown",
                          "", ": it must be one of this bus that is there");
    return IKV_OK;
}

/* D7: what can't match is refused, with what is needed. */
static ikv_status check_config(const ikv_bus *b,
                               const ikv_subscription_config *config,
                               ikv_message *message)
{
    if (config->size != sizeof *config)
        return refuse(message, IKV_BAD_SIZE, "size is not that of the struct",
                      "", ": begin with IKV_SUBSCRIPTION_INIT");
    if ((config->handler != NULL) == (config->mailbox != 0))
        return refuse(message, IKV_BAD_ARGUMENT,
                      config->mailbox != 0 ? "handler and mailbox are given"
                                           : "no handler is given",
                      "", ": set handler, or mailbox");
    /* Mailboxes are numbered from 1 and never go. */
    if (config->mailbox > b->s.mailbox_count)
        return refuse(message, IKV_UNKNOWN_NAME, "there is no such mailbox", "",
                      ": make one with ikv_bus_add_mailbox()");
    if (config->phases > (IKV_CAPTURING | IKV_AT_TARGET | IKV_BUBBLING))
        return refuse(message, IKV_BAD_ARGUMENT, "phases has a bit of no phase",
                      "", ": join IKV_CAPTURING, IKV_AT_TARGET, IKV_BUBBLING");
    if (config->owner.bits != 0) {
        uint32_t owner =
            ikvi_slots_find(&b->s.owner_slots, b, config->owner.bits);
        if (owner == IKVI_NO_SLOT || ikvi_bus_owner(b, owner)->closing)
            return refuse(message, IKV_STALE, "the owner is stale", "",
                          ": it has been dropped, or is not of this bus");
    }
    ikv_status status = check_kinds(b, config, message);
    return status == IKV_OK ? check_targets(b, config, message) : status;
}

static ikv_status refuse_full(ikv_message *message, ikv_status status)
{
    return refuse(message, status, ikv_status_name(status), ": ",
                  ikv_status_text(status));
}

/* Whether kind i of the list stands earlier in it. */
static bool kind_again(const ikv_subscription_config *config, uint32_t i)
{
    for (uint32_t j = 0; j < i; j++)
        if (config->kinds[j] == config->kinds[i])
            return true;
    return false;
}

/* Whether the target at that place came up in this list before. */
static bool target_again(const ikv_bus *b, uint32_t place)
{
    bus_target *target = ikvi_bus_target(b, place);
    bool again = target->listed;
    target->listed = true;
    return again;
}

/* Tags and bodies hang on a place of their own, since who bears them is only
 * known when an event comes. */
static void add_links(ikv_bus *b, uint32_t at,
                      const ikv_subscription_config *config)
{
    uint32_t targets = config->at_list != NULL ? config->at_count : 1;
    uint32_t kinds = config->kinds != NULL ? config->kind_count : 1;
    for (uint32_t i = 0; i < targets; i++) {
        ikv_target target =
            config->at_list != NULL ? config->at_list[i] : config->at;
        uint32_t place = target.bits != 0 ? ikvi_bus_place(b, target) : 0;
        if (config->at_tags != 0 || config->at_body.bits != 0)
            place = TAGGED_PLACE;
        if (config->at_list != NULL && target_again(b, place))
            continue;
        /* Without a list it is the one kind, or 0: the wide run. */
        for (uint32_t k = 0; k < kinds; k++)
            if (config->kinds == NULL)
                ikvi_bus_add_link(b, at, place, config->kind);
            else if (!kind_again(config, k))
                ikvi_bus_add_link(b, at, place, config->kinds[k]);
    }
    for (uint32_t i = 0; config->at_list != NULL && i < targets; i++) {
        uint32_t place = ikvi_bus_place(b, config->at_list[i]);
        ikvi_bus_target(b, place)->listed = false;
    }
}

/* All that can fail comes before the first thing that is taken. Places of what
 * has ended are given up only when they are needed, since images may bring them
 * back. */
ikv_status ikv_bus_subscribe(ikv_bus *bus,
                             const ikv_subscription_config *config,
                             ikv_subscription *subscription,
                             ikv_message *message)
{
    if (bus == NULL || config == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_bus *b = bus;
    ikv_status status = check_config(b, config, message);
    if (status == IKV_OK)
        status = ikvi_bus_gate_check(b, config, message);
    if (status <= IKV_FULL_QUEUE)
        return refuse_full(message, status);
    if (status < 0)
        return status;
    /* As many as could be: what is named twice is counted, and not linked. */
    uint64_t links =
        (uint64_t)(config->at_list != NULL ? config->at_count : 1) *
        (config->kinds != NULL ? config->kind_count : 1);
    if (b->s.subscription_slots.used == b->s.subscription_slots.capacity)
        ikvi_bus_tell_ended(b);
    if (b->s.subscription_slots.used == b->s.subscription_slots.capacity)
        return refuse_full(message, IKV_FULL_SUBSCRIPTIONS);
    if (links > b->entry_capacity - b->s.links_used)
        return refuse_full(message, IKV_FULL_ENTRIES);
    if (!ikvi_bus_gate_has_room(b, config))
        return refuse_full(message, IKV_FULL_GATES);
    /* Names are kept for good: one too many is no harm if the next step
     * fails. */
    uint32_t name = ikvi_names_keep(&b->s.names, b, config->name);
    if (name == 0 && config->name != NULL && config->name[0] != '\0')
        return refuse_full(message, IKV_FULL_NAMES);
    if (!ikvi_conditions_keep_names(b, config))
        return refuse_full(message, IKV_FULL_NAMES);

    uint32_t at = ikvi_slots_take(&b->s.subscription_slots, b);
    uint32_t families = config->all_kinds ? UINT32_MAX : config->families;
    bool mail = config->mailbox != 0;
    *ikvi_bus_subscription(b, at) = (bus_subscription){
        .handler = mail ? ikvi_bus_mail : config->handler,
        .user = mail ? (void *)(uintptr_t)config->mailbox : config->user,
        .on_drop = config->on_drop,
        .drop_user = config->user,
        .name = name,
        .first_link = IKVI_NONE,
        .visits = visits_of(config),
        .gate = IKVI_NONE,
        .families = families,
        .birth = b->births++,
        .rank = config->rank};
    if (ikvi_bus_gate_make(b, at, config))
        ikvi_bus_subscription(b, at)->visits |=
            VISIT_GATED | ikvi_bus_gate_of(b, at)->test.where;
    if (b->counting)
        *ikvi_bus_seen(b, at) = (bus_seen){0};
    join_owner(b, at,
               config->owner.bits != 0
                   ? ikvi_slots_find(&b->s.owner_slots, b, config->owner.bits)
                   : IKVI_NONE);
    join_body(b, at);
    add_links(b, at, config);
    if (subscription != NULL)
        subscription->bits = ikvi_slots_bits(&b->s.subscription_slots, b, at);
    return ikvi_fine(message);
}

/* Ends those that came about after `born`, without telling anybody. */
static void take_back(ikv_bus *b, uint64_t born)
{
    for (uint32_t i = 0; i < b->s.subscription_slots.capacity; i++) {
        bus_subscription *s = ikvi_bus_subscription(b, i);
        if (ikvi_bus_subscribed_at(b, i) && s->birth >= born) {
            /* The caller learns of it by the status: `user` is still his. */
            s->on_drop = NULL;
            ikvi_bus_drop(b, i);
        }
    }
}

ikv_status ikv_bus_subscribe_table(ikv_bus *bus,
                                   const ikv_subscription_config *table,
                                   uint32_t count,
                                   ikv_subscription *subscriptions,
                                   ikv_message *message)
{
    if (bus == NULL || (table == NULL && count > 0))
        return IKV_BAD_ARGUMENT;
    uint64_t born = bus->births;
    for (uint32_t i = 0; i < count; i++) {
        ikv_message row;
        ikv_subscription made;
        ikv_status status = ikv_bus_subscribe(bus, &table[i], &made, &row);
        if (status < 0) {
            char number[24];
            ikvi_text text = {number, sizeof number, 0};
            ikvi_text_unsigned(&text, i);
            ikvi_text_end(&text);
            const char *parts[] = {"row ", number, ": ", row.text, NULL};
            ikvi_message(message, parts);
            take_back(bus, born);
            return status;
        }
        if (subscriptions != NULL)
            subscriptions[i] = made;
    }
    return ikvi_fine(message);
}

ikv_status ikv_bus_hear(ikv_bus *bus, ikv_kind kind, ikv_target at,
                        ikv_handler handler, void *user,
                        ikv_subscription *subscription)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.at = at;
    config.handler = handler;
    config.user = user;
    return ikv_bus_subscribe(bus, &config, subscription, NULL);
}

/* Writes what the subscription is now into its entries. */
static void refresh_entries(ikv_bus *b, const bus_subscription *s)
{
    for (uint32_t l = s->first_link; l != IKVI_NONE;) {
        const bus_link *link = ikvi_bus_link(b, l);
        if (link->run != IKVI_NONE) {
            bus_entry *entry = ikvi_bus_entry(
                b, ikvi_bus_run(b, link->run)->first + link->position);
            entry->handler = s->handler;
            entry->user = s->user;
            /* A muted one takes no part, at the cost of none: it is no test of
             * its own. */
            entry->visits = s->muted ? 0 : s->visits;
        }
        l = link->next;
    }
}

void ikvi_bus_silence(ikv_bus *b, uint32_t at, bool muted)
{
    bus_subscription *s = ikvi_bus_subscription(b, at);
    s->muted = muted;
    refresh_entries(b, s);
}

ikv_status ikv_bus_mute(ikv_bus *bus, ikv_subscription subscription, bool muted)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    uint32_t at = ikvi_bus_find_subscription(bus, subscription.bits);
    if (at == IKVI_NO_SLOT || ikvi_bus_subscription(bus, at)->ending)
        return IKV_STALE;
    ikv_watch watch = {.what = IKV_WATCH_MUTE,
                       .reason = muted ? IKV_WHY_MUTED : IKV_WHY_NONE};
    ikvi_bus_silence(bus, at, muted);
    if (ikvi_bus_watches(bus, IKV_WATCH_MUTE))
        ikvi_bus_tell_of(bus, &watch, at);
    return IKV_OK;
}

ikv_status ikv_bus_unsubscribe_kind(ikv_bus *bus, ikv_kind kind)
{
    if (bus == NULL)
        return IKV_BAD_ARGUMENT;
    if (ikv_catalogue_info(bus->catalogue, kind) == NULL)
        return IKV_UNKNOWN_KIND;
    ikv_status status = IKV_ABSENT;
    uint64_t born = bus->births;
    ikvi_bus_hold(bus);
    for (uint32_t i = 0; i < bus->entry_capacity; i++) {
        const bus_link *link = ikvi_bus_link(bus, i);
        /* Whoever is told that it ends may subscribe anew: that stays. */
        if (link->kind != kind ||
            ikvi_bus_subscription(bus, link->subscription)->birth >= born)
            continue;
        drop_link(bus, i);
        status = IKV_OK;
    }
    ikvi_bus_release(bus);
    return status;
}

/* Never 0, which is a free place's. */
static uint64_t hash_of(const char *name)
{
    return ikvi_hash_text(IKVI_HASH_BEGIN, name) | 1;
}

/* The place of a name among those that were rebound, or a free one. */
static uint32_t rebound_place(const ikv_bus *b, uint64_t name)
{
    uint32_t i = 0;
    while (i < b->rebinding_room && ikvi_bus_rebinding(b, i)->name != name &&
           ikvi_bus_rebinding(b, i)->name != 0)
        i++;
    return i;
}

/* Mailboxes have no handler to be rebound. */
static bool is_rebindable(const ikv_bus *b, uint32_t at)
{
    const bus_subscription *s = ikvi_bus_subscription(b, at);
    return ikvi_bus_subscribed_at(b, at) && s->name != 0 &&
           s->handler != ikvi_bus_mail;
}

void ikvi_bus_restored(ikv_bus *b, bool in_frame)
{
    ikvi_bus_watch_anew(b);
    for (uint32_t i = 0; i < b->depth_limit; i++)
        ikvi_bus_dispatch(b, i)->at_root.step = b->s.step;
    /* It may be another bus's of the same config, that heard other kinds. */
    for (uint32_t i = 0; i < b->s.target_slots.capacity; i++)
        b->kinds_ever |= ikvi_bus_target(b, i)->kinds_seen;
    for (uint32_t i = 0; i < b->s.subscription_slots.capacity; i++) {
        bus_subscription *s = ikvi_bus_subscription(b, i);
        if (ikvi_slots_at(&b->s.subscription_slots, b, i)->next != IKVI_IN_USE)
            continue;
        /* What counts on is that other bus's: births, and frames that this one
         * has not come to. */
        bus_gate *gate = ikvi_bus_gate_of(b, i);
        if (s->birth >= b->saved_births)
            b->saved_births = s->birth + 1;
        if (gate != NULL && gate->at_most == IKV_PER_FRAME &&
            gate->last_turn > b->frame + in_frame)
            gate->last_turn = 0;
        /* Handlers that code was reloaded for since: an image has the old
         * addresses. */
        if (ikvi_bus_rebinding(b, 0)->name == 0 || !is_rebindable(b, i))
            continue;
        uint64_t name = hash_of(ikvi_names_text(&b->s.names, b, s->name));
        uint32_t at = rebound_place(b, name);
        if (at == b->rebinding_room || ikvi_bus_rebinding(b, at)->name != name)
            continue;
        s->handler = ikvi_bus_rebinding(b, at)->handler;
        s->user = ikvi_bus_rebinding(b, at)->user;
        refresh_entries(b, s);
    }
    if (b->births < b->saved_births)
        b->births = b->saved_births;
}

ikv_status ikv_bus_rebind(ikv_bus *bus, const char *name, ikv_handler handler,
                          void *user)
{
    if (bus == NULL || name == NULL || name[0] == '\0' || handler == NULL)
        return IKV_BAD_ARGUMENT;
    uint64_t hash = hash_of(name);
    uint32_t place = rebound_place(bus, hash);
    if (ikvi_names_find(&bus->s.names, bus, name) == 0)
        return IKV_ABSENT; /* no subscription ever had it */
    if (place == bus->rebinding_room)
        return IKV_FULL_NAMES;
    ikvi_bus_rebinding(bus, place)->name = hash;
    ikvi_bus_rebinding(bus, place)->handler = handler;
    ikvi_bus_rebinding(bus, place)->user = user;
    ikv_status status = IKV_ABSENT;
    for (uint32_t i = 0; i < bus->s.subscription_slots.capacity; i++) {
        bus_subscription *s = ikvi_bus_subscription(bus, i);
        if (!is_rebindable(bus, i) ||
            !ikvi_same(ikvi_names_text(&bus->s.names, bus, s->name), name))
            continue;
        s->handler = handler;
        s->user = user;
        refresh_entries(bus, s);
        status = IKV_OK;
    }
    return status;
}
