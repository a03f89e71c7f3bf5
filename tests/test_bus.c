/* test_bus.c - D1 to D10 as far as they hold, PATH1 to PATH8 on the bus. */
#include "support.h"

static counted memory;
static ikv_bus *bus;
static record heard;
static int reports;

static void count_report(const ikv_report *report, void *user)
{
    (void)user;
    ck_assert_str_eq(report->module, "bus");
    reports++;
}

static void open_bus(uint32_t subscriptions, uint32_t entries,
                     uint32_t deferred)
{
    ikv_bus_config config = IKV_BUS_INIT;
    memory = (counted){0};
    heard.text[0] = '\0';
    reports = 0;
    config.subscriptions = subscriptions;
    config.entries = entries;
    config.deferred = deferred;
    config.targets = 8;
    config.owners = 4;
    config.user_lanes = 1;
    config.depth = 4;
    config.reporter.report = count_report;
    config.memory = counted_memory(&memory);
    ok(ikv_bus_open(&config, &bus));
}

static void close_bus(void)
{
    valid(ikv_bus_validate(bus));
    ikv_bus_close(bus);
    ck_assert_int_eq(memory.takes, 1);
    ck_assert_int_eq(memory.gives, 1);
}

/* A handler that notes its name and does something. */
typedef struct actor {
    const char *name;
    ikv_verdict verdict;
    void (*act)(struct actor *self, const ikv_event *event,
                const ikv_delivery *delivery);
    ikv_subscription subscription, other;
    ikv_target target;
    ikv_owner owner;
    int dropped;
} actor;

static ikv_verdict play(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    actor *a = user;
    note(&heard, "%s ", a->name);
    ck_assert_uint_eq(delivery->subscription.bits, a->subscription.bits);
    ck_assert_uint_eq(delivery->size, sizeof *delivery);
    ck_assert_ptr_eq(delivery->bus, bus);
    if (a->act != NULL)
        a->act(a, event, delivery);
    return a->verdict;
}

static void dropped(void *user)
{
    ((actor *)user)->dropped++;
}

static ikv_subscription_config wants(actor *a, ikv_kind kind)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.handler = play;
    config.user = a;
    config.on_drop = dropped;
    config.name = a->name;
    return config;
}

static void hear(actor *a, ikv_kind kind, ikv_target at, int rank)
{
    ikv_subscription_config config = wants(a, kind);
    config.at = at;
    config.rank = rank;
    ok(ikv_bus_subscribe(bus, &config, &a->subscription, NULL));
}

static ikv_outcome deliver(ikv_kind kind, ikv_target target)
{
    ikv_event event = ikv_event_make(kind, 1);
    event.target = target;
    return ikv_bus_deliver(bus, &event);
}

static const ikv_target everywhere = {0};

/* ---------------------------------------------------------------- order -- */

/* D4: rank, then order of subscription. */
START_TEST(order_by_rank_then_age)
{
    static const int ranks[] = {3, 0, -1, 0, 3, -2147483647, 0};
    static const char *const names[] = {"a", "b", "c", "d", "e", "f", "g"};
    actor actors[7];
    open_bus(16, 0, 0);
    for (int i = 0; i < 7; i++) {
        actors[i] = (actor){.name = names[i]};
        hear(&actors[i], IKV_KIND_KEY_DOWN, everywhere, ranks[i]);
    }
    ikv_outcome outcome = deliver(IKV_KIND_KEY_DOWN, everywhere);
    ck_assert_uint_eq(outcome.heard, 7);
    ck_assert_str_eq(heard.text, "f c b d g a e ");
    ck_assert_str_eq(ikv_bus_subscription_name(bus, actors[2].subscription),
                     "c");
    close_bus();
}
END_TEST

/* Wide subscriptions (families, all kinds) mix with the others by rank and
 * age, and cover kinds that are registered later. */
START_TEST(families_and_all_kinds)
{
    counted c = {0};
    ikv_catalogue *catalogue;
    ikv_catalogue_config cc = IKV_CATALOGUE_INIT;
    cc.memory = counted_memory(&c);
    ok(ikv_catalogue_open(&cc, &catalogue));
    ikv_bus_config config = IKV_BUS_INIT;
    memory = (counted){0};
    heard.text[0] = '\0';
    config.catalogue = catalogue;
    config.memory = counted_memory(&memory);
    ok(ikv_bus_open(&config, &bus));
    actor a = {.name = "all"}, b = {.name = "key"}, k = {.name = "keys"},
          u = {.name = "users"};
    ikv_subscription_config all = wants(&a, 0), keys = wants(&k, 0),
                            users = wants(&u, 0);
    all.all_kinds = true;
    all.rank = 1;
    keys.families = 1u << IKV_FAMILY_KEY;
    users.families = 1u << IKV_FAMILY_USER;
    ok(ikv_bus_subscribe(bus, &all, &a.subscription, NULL));
    hear(&b, IKV_KIND_KEY_DOWN, everywhere, 0);
    ok(ikv_bus_subscribe(bus, &keys, &k.subscription, NULL));
    ok(ikv_bus_subscribe(bus, &users, &u.subscription, NULL));
    ikv_kind_config kc = IKV_KIND_CONFIG_INIT;
    ikv_kind kind;
    kc.name = "late.kind";
    ok(ikv_catalogue_register(catalogue, &kc, &kind, NULL));
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    note(&heard, "| ");
    deliver(kind, everywhere);
    note(&heard, "| ");
    deliver(IKV_KIND_LOOP_STEP, everywhere);
    ck_assert_str_eq(heard.text, "key keys all | users all | all ");
    status_is(deliver(999, everywhere).status, IKV_UNKNOWN_KIND);
    status_is(deliver(kind + 1, everywhere).status, IKV_UNKNOWN_KIND);
    close_bus();
    ikv_catalogue_close(catalogue);
}
END_TEST

/* ------------------------------------------------------ phases and path -- */

/* PATH1 to PATH3, PATH8 over root, t0 (parent), t1 (target). Who: g global, p
 * at t0, t at t1; c capturing, b bubbling, o own visit, d default. */
static const struct {
    const char *rule, *who;
    ikv_kind kind;
    const char *stopper;
    ikv_verdict verdict;
    const char *order;
} path_table[] = {
    {"PATH1", "gd gc pd pc td tc", IKV_KIND_KEY_DOWN, "", 0,
     "gc pc tc td pd gd "},
    {"PATH1 own first half", "td tc", IKV_KIND_KEY_DOWN, "", 0, "tc td "},
    {"PATH1 bubbling alone", "tb pb gb", IKV_KIND_KEY_DOWN, "", 0, "pb gb "},
    {"PATH1 own alone", "to po go", IKV_KIND_KEY_DOWN, "", 0, "to "},
    {"PATH2", "gd gc pd pc td tc", IKV_KIND_POINTER_ENTER, "", 0,
     "gd gc pc tc td "},
    {"PATH3 stop capturing", "gc pc td", IKV_KIND_KEY_DOWN, "gc", IKV_STOP,
     "gc "},
    {"PATH3 own capturing hides", "tc td pd", IKV_KIND_KEY_DOWN, "tc", IKV_STOP,
     "tc "},
    {"PATH3 same visit runs on", "td to pd", IKV_KIND_KEY_DOWN, "td", IKV_STOP,
     "td to "},
    {"PATH3 stop_all", "td to pd", IKV_KIND_KEY_DOWN, "td", IKV_STOP_ALL,
     "td "},
    {"PATH3 refuse goes on", "td pd gd", IKV_KIND_KEY_DOWN, "td", IKV_REFUSE,
     "td pd gd "},
    {"PATH8 global after stop", "gd td", IKV_KIND_KEY_DOWN, "td", IKV_STOP,
     "td "},
};

static ikv_target two[2];

static ikv_target parent_of_two(void *user, ikv_target target)
{
    (void)user;
    return target.bits == two[1].bits ? two[0] : ikv_bus_root(bus);
}

START_TEST(paths)
{
    actor actors[8];
    static char names[8][3];
    int count = 0;
    open_bus(16, 0, 0);
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    callbacks.parent = parent_of_two;
    ok(ikv_bus_set_callbacks(bus, &callbacks));
    ok(ikv_bus_add_target(bus, 10, &two[0]));
    ok(ikv_bus_add_target(bus, 11, &two[1]));
    for (const char *w = path_table[_i].who; *w != '\0'; w += w[2] ? 3 : 2) {
        memcpy(names[count], w, 2);
        actor *a = &actors[count];
        *a = (actor){.name = names[count]};
        if (strncmp(path_table[_i].stopper, w, 2) == 0)
            a->verdict = path_table[_i].verdict;
        ikv_subscription_config config = wants(a, path_table[_i].kind);
        config.at = w[0] == 'g' ? everywhere : two[w[0] == 't'];
        config.phases = w[1] == 'c'   ? IKV_CAPTURING
                        : w[1] == 'b' ? IKV_BUBBLING
                        : w[1] == 'o' ? IKV_AT_TARGET
                                      : 0;
        ok(ikv_bus_subscribe(bus, &config, &a->subscription, NULL));
        count++;
    }
    /* Along a given path, and by the parent callback where the kind bubbles. */
    ikv_event event = ikv_event_make(path_table[_i].kind, 0);
    ikv_target path[] = {ikv_bus_root(bus), two[0], two[1]};
    ikv_route route = IKV_ROUTE_INIT;
    route.path = path;
    route.path_length = 3;
    ikv_outcome outcome = ikv_bus_deliver_along(bus, &event, &route);
    ck_assert_str_eq(heard.text, path_table[_i].order);
    ck_assert_uint_eq(outcome.verdict, path_table[_i].verdict);
    if (path_table[_i].kind == IKV_KIND_KEY_DOWN) {
        heard.text[0] = '\0';
        deliver(path_table[_i].kind, two[1]);
        ck_assert_str_eq(heard.text, path_table[_i].order);
    }
    close_bus();
}
END_TEST

static ikv_target given_up;

static bool alive_unless_dropped(void *user, ikv_target target)
{
    (void)user;
    return target.bits != given_up.bits;
}

/* PATH5: handlers of targets that the engine says are gone are passed over,
 * the surviving ones on the path hear the event; so does the root. */
START_TEST(engine_dropped)
{
    static const char *const orders[] = {"t a g ", "t g ", "a g ", "t a g "};
    actor a = {.name = "a"}, t = {.name = "t"}, g = {.name = "g"};
    open_bus(8, 0, 0);
    ikv_bus_callbacks callbacks = IKV_BUS_CALLBACKS_INIT;
    callbacks.parent = parent_of_two;
    callbacks.alive = alive_unless_dropped;
    ok(ikv_bus_set_callbacks(bus, &callbacks));
    ok(ikv_bus_add_target(bus, 10, &two[0]));
    ok(ikv_bus_add_target(bus, 11, &two[1]));
    given_up = _i == 3   ? ikv_bus_root(bus)
               : _i == 0 ? (ikv_target){0}
                         : two[_i - 1];
    hear(&a, IKV_KIND_KEY_DOWN, two[0], 0);
    hear(&t, IKV_KIND_KEY_DOWN, two[1], 0);
    hear(&g, IKV_KIND_KEY_DOWN, everywhere, 0);
    deliver(IKV_KIND_KEY_DOWN, two[1]);
    ck_assert_str_eq(heard.text, orders[_i]);
    close_bus();
}
END_TEST

/* PATH8: at the root itself a default subscription hears its own visit once. */
START_TEST(root_once)
{
    actor a = {.name = "a"};
    open_bus(4, 0, 0);
    hear(&a, IKV_KIND_LOOP_STEP, everywhere, 0);
    deliver(IKV_KIND_LOOP_STEP, everywhere);
    deliver(IKV_KIND_LOOP_STEP, ikv_bus_root(bus));
    ck_assert_str_eq(heard.text, "a a ");
    close_bus();
}
END_TEST

/* --------------------------------------------- change while dispatching -- */

static void end_other(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)e;
    ikv_bus_unsubscribe(d->bus, self->other);
}

static void drop_own(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)e;
    ikv_bus_drop_owner(d->bus, self->owner);
}

static void remove_it(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)e;
    ok(ikv_bus_remove_target(d->bus, self->target));
}

static void mute_other(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)e;
    ok(ikv_bus_mute(d->bus, self->other, true));
}

static actor newcomer;

static void subscribe_new(actor *self, const ikv_event *e,
                          const ikv_delivery *d)
{
    (void)d;
    if (newcomer.name != NULL)
        return;
    newcomer = (actor){.name = "new"};
    hear(&newcomer, e->kind, everywhere, -5);
    ikv_event again = *e;
    again.target.bits = 0;
    note(&heard, "( ");
    ck_assert_uint_eq(ikv_bus_deliver(bus, &again).heard, 2);
    note(&heard, ") ");
    (void)self;
}

/* D5, D8: what a handler ends is not called again, even later in the same
 * dispatch; on_drop is told once. */
static const struct {
    const char *rule;
    void (*act)(actor *, const ikv_event *, const ikv_delivery *);
    const char *first, *second;
    int other_dropped;
} change_table[] = {
    {"D5 others", end_other, "a c ", "a c ", 1},
    {"D5 owner", drop_own, "a c ", "a c ", 1},
    {"D5 target", remove_it, "a c ", "a c ", 1},
    {"D8 mute", mute_other, "a c ", "a c ", 0},
};

START_TEST(changes_inside_handlers)
{
    actor a = {.name = "a", .act = change_table[_i].act}, b = {.name = "b"},
          c = {.name = "c"};
    open_bus(8, 0, 0);
    ikv_target t;
    ok(ikv_bus_add_target(bus, 1, &t));
    ok(ikv_bus_add_owner(bus, &a.owner));
    /* a is visited first, capturing at the root; b at the target; c last. */
    ikv_subscription_config config = wants(&a, IKV_KIND_KEY_DOWN);
    config.phases = IKV_CAPTURING;
    ok(ikv_bus_subscribe(bus, &config, &a.subscription, NULL));
    config = wants(&b, IKV_KIND_KEY_DOWN);
    config.at = t;
    config.owner = a.owner;
    ok(ikv_bus_subscribe(bus, &config, &b.subscription, NULL));
    hear(&c, IKV_KIND_KEY_DOWN, everywhere, 0);
    a.other = b.subscription;
    a.target = t;
    deliver(IKV_KIND_KEY_DOWN, t);
    ck_assert_str_eq(heard.text, change_table[_i].first);
    ck_assert_int_eq(b.dropped, change_table[_i].other_dropped);
    ck_assert_int_eq(ikv_bus_subscribed(bus, b.subscription),
                     change_table[_i].other_dropped == 0);
    close_bus();
    ck_assert_int_eq(a.dropped + b.dropped + c.dropped, 3);
}
END_TEST

static void end_self(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)e;
    ok(ikv_bus_unsubscribe(d->bus, self->subscription));
    status_is(ikv_bus_unsubscribe(d->bus, self->subscription), IKV_ABSENT);
}

/* D5: one that is added is first called for a delivery that begins later,
 * nested ones included, in its place by rank. */
START_TEST(added_inside_handlers)
{
    actor a = {.name = "a", .act = subscribe_new},
          z = {.name = "z", .act = end_self};
    newcomer.name = NULL;
    open_bus(8, 0, 0);
    hear(&a, IKV_KIND_KEY_UP, everywhere, 0);
    hear(&z, IKV_KIND_WHEEL, everywhere, 0);
    deliver(IKV_KIND_KEY_UP, everywhere);
    ck_assert_str_eq(heard.text, "a ( new a ) ");
    heard.text[0] = '\0';
    deliver(IKV_KIND_KEY_UP, everywhere);
    deliver(IKV_KIND_WHEEL, everywhere);
    deliver(IKV_KIND_WHEEL, everywhere);
    ck_assert_str_eq(heard.text, "new a z ");
    close_bus();
}
END_TEST

static bool delivers_too;

static void subscribe_further_on(actor *self, const ikv_event *e,
                                 const ikv_delivery *d)
{
    if (newcomer.name != NULL)
        return;
    newcomer = (actor){.name = "new"};
    hear(&newcomer, e->kind, self->target, 0);
    ikv_event other = ikv_event_make(IKV_KIND_WHEEL, 1);
    if (delivers_too)
        ok(ikv_bus_deliver(d->bus, &other).status);
}

/* PATH6: also where the event has not come yet, and whether or not another one
 * was delivered in between, which may hear what was subscribed. */
START_TEST(added_further_on)
{
    actor a = {.name = "a", .act = subscribe_further_on}, b = {.name = "b"};
    newcomer.name = NULL;
    delivers_too = _i != 0;
    open_bus(8, 0, 0);
    ok(ikv_bus_add_target(bus, 1, &a.target));
    ikv_subscription_config config = wants(&a, IKV_KIND_KEY_DOWN);
    config.phases = IKV_CAPTURING;
    ok(ikv_bus_subscribe(bus, &config, &a.subscription, NULL));
    hear(&b, IKV_KIND_KEY_DOWN, a.target, 0);
    deliver(IKV_KIND_KEY_DOWN, a.target);
    ck_assert_str_eq(heard.text, "a b ");
    deliver(IKV_KIND_KEY_DOWN, a.target);
    ck_assert_str_eq(heard.text, "a b a b new ");
    close_bus();
}
END_TEST

static void nest(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    ikv_event again = *e;
    ikv_outcome outcome = ikv_bus_deliver(d->bus, &again);
    if (outcome.status == IKV_TOO_DEEP)
        note(&heard, "deep ");
    (void)self;
}

/* D1: nested up to the limit, then an error, a counter and a report. */
START_TEST(endless_delivery_ends)
{
    actor a = {.name = "a", .act = nest};
    open_bus(4, 0, 0);
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    ck_assert_int_eq(deliver(IKV_KIND_KEY_DOWN, everywhere).status, IKV_OK);
    ck_assert_str_eq(heard.text, "a a a a deep ");
    ck_assert_uint_eq(bus_counts(bus).too_deep, 1);
    ck_assert_int_eq(reports, 1);
    close_bus();
}
END_TEST

/* ---------------------------------------------------------------- lanes -- */

static void defer_again(actor *self, const ikv_event *e, const ikv_delivery *d)
{
    (void)self;
    ok(ikv_bus_defer(d->bus, IKV_STEP_LANE, e));
    status_is(ikv_bus_flush(d->bus, IKV_STEP_LANE, NULL), IKV_BUSY);
}

/* D2: first in, first out; what is deferred while its lane is flushed waits
 * for the next flush. */
START_TEST(deferring)
{
    actor a = {.name = "a", .act = defer_again}, b = {.name = "b"};
    ikv_lane lane, more;
    uint32_t count;
    open_bus(4, 0, 4);
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    hear(&b, IKV_KIND_KEY_UP, everywhere, 0);
    ok(ikv_bus_add_lane(bus, "tide", &lane));
    status_is(ikv_bus_add_lane(bus, "more", &more), IKV_FULL_LANES);
    ck_assert_str_eq(ikv_bus_lane_name(bus, lane), "tide");
    ck_assert_str_eq(ikv_bus_lane_name(bus, IKV_FRAME_LANE), "frame");
    ck_assert_ptr_null(ikv_bus_lane_name(bus, 9));
    ikv_event down = ikv_event_make(IKV_KIND_KEY_DOWN, 1),
              up = ikv_event_make(IKV_KIND_KEY_UP, 1);
    ok(ikv_bus_defer(bus, IKV_STEP_LANE, &down));
    ok(ikv_bus_defer(bus, IKV_STEP_LANE, &up));
    ok(ikv_bus_defer(bus, lane, &up));
    ok(ikv_bus_flush(bus, IKV_STEP_LANE, &count));
    ck_assert_uint_eq(count, 2);
    ck_assert_str_eq(heard.text, "a b ");
    ck_assert_uint_eq(ikv_bus_lane_waiting(bus, IKV_STEP_LANE), 1);
    ck_assert_uint_eq(ikv_bus_lane_waiting(bus, lane), 1);
    ok(ikv_bus_defer(bus, lane, &up));
    ok(ikv_bus_defer(bus, lane, &up));
    status_is(ikv_bus_defer(bus, lane, &up), IKV_FULL_DEFERRED);
    status_is(ikv_bus_defer(bus, 9, &up), IKV_UNKNOWN_NAME);
    status_is(ikv_bus_flush(bus, 9, NULL), IKV_UNKNOWN_NAME);
    up.kind = 999;
    status_is(ikv_bus_defer(bus, lane, &up), IKV_UNKNOWN_KIND);
    ikv_bus_counts n = bus_counts(bus);
    ck_assert_uint_eq(n.deferred, 6);
    ck_assert_uint_eq(n.defer_refused, 1);
    ck_assert_uint_eq(n.waiting_high, 4);
    close_bus();
}
END_TEST

/* D9: a deferred event whose target has gone is dropped and counted. */
START_TEST(deferred_target_gone)
{
    actor a = {.name = "a"};
    ikv_target t;
    uint32_t count;
    open_bus(4, 0, 4);
    ok(ikv_bus_add_target(bus, 7, &t));
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    ikv_event down = ikv_event_make(IKV_KIND_KEY_DOWN, 1);
    down.target = t;
    ok(ikv_bus_defer(bus, IKV_FRAME_LANE, &down));
    ok(ikv_bus_remove_target(bus, t));
    ok(ikv_bus_flush(bus, IKV_FRAME_LANE, &count));
    ck_assert_uint_eq(count, 0);
    ck_assert_uint_eq(bus_counts(bus).dropped, 1);
    status_is(ikv_bus_defer(bus, IKV_FRAME_LANE, &down), IKV_STALE);
    status_is(deliver(IKV_KIND_KEY_DOWN, t).status, IKV_STALE);
    ck_assert_str_eq(heard.text, "");
    close_bus();
}
END_TEST

/* ------------------------------------------------- refusals and handles -- */

static ikv_kind two_kinds[] = {IKV_KIND_KEY_DOWN, 999};
static ikv_target bad_list[] = {{0x5000}};

static const struct {
    const char *what;
    ikv_subscription_config config;
    ikv_status status;
    const char *message;
} refusal_table[] = {
    {"size", {.size = 0}, IKV_BAD_SIZE, "begin with IKV_SUBSCRIPTION_INIT"},
    {"handler", {.kind = IKV_KIND_KEY_UP}, IKV_BAD_ARGUMENT, "set handler"},
    {"none", {.handler = play}, IKV_BAD_ARGUMENT, "no kind is given"},
    {"twice",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .all_kinds = true},
     IKV_BAD_ARGUMENT,
     "kinds are given twice"},
    {"kind", {.handler = play, .kind = 999}, IKV_UNKNOWN_KIND, "register it"},
    {"in list",
     {.handler = play, .kinds = two_kinds, .kind_count = 2},
     IKV_UNKNOWN_KIND,
     "not in the catalogue"},
    {"empty kinds",
     {.handler = play, .kinds = two_kinds},
     IKV_BAD_ARGUMENT,
     "the list kinds is empty"},
    {"families",
     {.handler = play, .families = 1u << 31},
     IKV_BAD_ARGUMENT,
     "no family"},
    {"target",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .at = {0x5000}},
     IKV_STALE,
     "a target is stale"},
    {"empty list",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .at_list = bad_list},
     IKV_BAD_ARGUMENT,
     "at_list is empty"},
    {"list",
     {.handler = play,
      .kind = IKV_KIND_KEY_UP,
      .at_list = bad_list,
      .at_count = 1},
     IKV_STALE,
     "a target is stale"},
    {"no list",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .at_count = 1},
     IKV_BAD_ARGUMENT,
     "no at_list"},
    {"owner",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .owner = {77}},
     IKV_STALE,
     "the owner is stale"},
    {"phases",
     {.handler = play, .kind = IKV_KIND_KEY_UP, .phases = 8},
     IKV_BAD_ARGUMENT,
     "no phase"},
};

START_TEST(refused_subscriptions)
{
    ikv_message message = {""};
    open_bus(4, 0, 0);
    ikv_subscription_config config = refusal_table[_i].config;
    if (_i > 0)
        config.size = sizeof config;
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              refusal_table[_i].status);
    ck_assert_msg(strstr(message.text, refusal_table[_i].message) != NULL,
                  "%s: found \"%s\"", refusal_table[_i].what, message.text);
    ck_assert_uint_eq(bus_counts(bus).subscriptions, 0);
    close_bus();
}
END_TEST

/* A table is taken whole or not at all. */
START_TEST(tables)
{
    actor a[3] = {{.name = "a"}, {.name = "b"}, {.name = "c"}};
    ikv_subscription got[3];
    ikv_message message;
    open_bus(4, 0, 0);
    ikv_subscription_config table[3] = {wants(&a[0], IKV_KIND_KEY_DOWN),
                                        wants(&a[1], IKV_KIND_KEY_DOWN),
                                        wants(&a[2], 999)};
    status_is(ikv_bus_subscribe_table(bus, table, 3, got, &message),
              IKV_UNKNOWN_KIND);
    ck_assert_str_eq(message.text, "row 2: a kind is not in the catalogue: "
                                   "register it first, with the bus's "
                                   "catalogue");
    ck_assert_uint_eq(bus_counts(bus).subscriptions, 0);
    ck_assert_int_eq(a[0].dropped, 0);
    table[2].kind = IKV_KIND_KEY_UP;
    ok(ikv_bus_subscribe_table(bus, table, 3, got, NULL));
    for (int i = 0; i < 3; i++)
        a[i].subscription = got[i];
    ck_assert_uint_eq(deliver(IKV_KIND_KEY_DOWN, everywhere).heard, 2);
    close_bus();
}
END_TEST

/* Full is a status that names the capacity; the rest goes on. */
START_TEST(full_bus)
{
    actor a = {.name = "a"};
    ikv_message message;
    ikv_target t, targets[9];
    ikv_owner owners[5];
    static const ikv_kind kinds[] = {IKV_KIND_KEY_DOWN, IKV_KIND_KEY_UP,
                                     IKV_KIND_WHEEL};
    open_bus(3, 4, 0);
    ikv_subscription_config config = wants(&a, 0);
    config.kinds = kinds;
    config.kind_count = 3;
    ok(ikv_bus_subscribe(bus, &config, &a.subscription, NULL));
    status_is(ikv_bus_subscribe(bus, &config, NULL, &message),
              IKV_FULL_ENTRIES);
    ck_assert_str_eq(message.text, "FULL_ENTRIES: raise bus.entries");
    hears(bus, IKV_KIND_FOCUS_IN, everywhere, play, &a);
    status_is(ikv_bus_hear(bus, IKV_KIND_FOCUS_IN, everywhere, play, &a, NULL),
              IKV_FULL_ENTRIES);
    ck_assert_uint_eq(deliver(IKV_KIND_WHEEL, everywhere).heard, 1);
    for (int i = 0; i < 9; i++)
        status_is(ikv_bus_add_target(bus, 0, &targets[i]),
                  i < 8 ? IKV_OK : IKV_FULL_TARGETS);
    for (int i = 0; i < 5; i++)
        status_is(ikv_bus_add_owner(bus, &owners[i]),
                  i < 4 ? IKV_OK : IKV_FULL_OWNERS);
    ok(ikv_bus_remove_target(bus, targets[3]));
    ok(ikv_bus_add_target(bus, 5, &t));
    ck_assert_uint_ne(t.bits, targets[3].bits); /* another generation */
    ck_assert(!ikv_bus_target_alive(bus, targets[3]));
    ck_assert_uint_eq(ikv_bus_target_id(bus, t), 5);
    ck_assert_uint_eq(ikv_bus_target_id(bus, targets[3]), 0);
    status_is(ikv_bus_remove_target(bus, targets[3]), IKV_STALE);
    status_is(ikv_bus_remove_target(bus, ikv_bus_root(bus)), IKV_BAD_ARGUMENT);
    close_bus();
}
END_TEST

/* Handles: a slot that is used again has another generation. */
START_TEST(handles_are_new)
{
    ikv_target t;
    open_bus(4, 0, 0);
    uint32_t last = 0;
    for (uint32_t i = 0; i < 1000; i++) {
        ok(ikv_bus_add_target(bus, i, &t));
        ck_assert_uint_ne(t.bits, last);
        last = t.bits;
        ok(ikv_bus_remove_target(bus, t));
    }
    ck_assert_uint_eq(bus_counts(bus).generation_wraps, 0);
    ck_assert_uint_eq(bus_counts(bus).targets_high, 1);
    close_bus();
}
END_TEST

/* D10: nor is it heard by one at the root that waits for what bubbles up. */
START_TEST(unheard_at_the_root)
{
    static const uint32_t phases[] = {IKV_BUBBLING, IKV_AT_TARGET};
    actor a = {.name = "a"};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    open_bus(4, 0, 0);
    config.kind = IKV_KIND_KEY_DOWN;
    config.phases = phases[_i];
    config.handler = play;
    config.user = &a;
    ok(ikv_bus_subscribe(bus, &config, &a.subscription, NULL));
    for (unsigned i = 1; i <= 2; i++) { /* the root by either name */
        deliver(IKV_KIND_KEY_DOWN, i == 1 ? everywhere : ikv_bus_root(bus));
        ikv_kind_counts counts = kind_counts(bus, IKV_KIND_KEY_DOWN);
        ck_assert_uint_eq(counts.delivered, i);
        ck_assert_uint_eq(counts.unheard, _i == 0 ? i : 0);
    }
    ck_assert_str_eq(heard.text, _i == 0 ? "" : "a a ");
    close_bus();
}
END_TEST

/* D10: what nobody heard is counted by kind. */
START_TEST(unheard)
{
    actor a = {.name = "a"};
    open_bus(4, 0, 0);
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    deliver(IKV_KIND_KEY_UP, everywhere);
    ok(ikv_bus_mute(bus, a.subscription, true));
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    ok(ikv_bus_mute(bus, a.subscription, false));
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    ck_assert_uint_eq(kind_counts(bus, IKV_KIND_KEY_DOWN).delivered, 3);
    ck_assert_uint_eq(kind_counts(bus, IKV_KIND_KEY_DOWN).unheard, 1);
    ck_assert_uint_eq(kind_counts(bus, IKV_KIND_KEY_UP).unheard, 1);
    ck_assert_uint_eq(kind_counts(bus, 9999).delivered, 0);
    ck_assert_uint_eq(bus_counts(bus).unheard, 2);
    ck_assert_str_eq(heard.text, "a a ");
    ok(ikv_bus_unsubscribe(bus, a.subscription));
    status_is(ikv_bus_mute(bus, a.subscription, true), IKV_STALE);
    ck_assert_str_eq(ikv_bus_subscription_name(bus, a.subscription), "");
    close_bus();
}
END_TEST

/* However often one comes and goes beside another: its place is used again. */
START_TEST(comes_and_goes)
{
    actor a = {.name = "a"}, b = {.name = "b"};
    open_bus(4, 0, 0);
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    for (int i = 0; i < 300; i++) {
        hear(&b, IKV_KIND_KEY_DOWN, everywhere, i % 3 - 1);
        ok(ikv_bus_unsubscribe(bus, b.subscription));
        ck_assert_uint_eq(bus_counts(bus).entries, 1);
    }
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    ck_assert_str_eq(heard.text, "a ");
    close_bus();
}
END_TEST

/* A lane's inbox has room for 64 events, and for nobody's of its own. */
START_TEST(inbox_size)
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.user_lanes = 4;
    size_t four = ikv_bus_footprint(&config);
    config.user_lanes = 5;
    ck_assert_uint_lt(ikv_bus_footprint(&config) - four, 12 * 1024);
}
END_TEST

/* ------------------------------------------------------------- watching -- */

static void watch(const ikv_watch *w, void *user)
{
    static const char *const names[] = {"event",    "ask",  "call",   "return",
                                        "skip",     "done", "refuse", "defer",
                                        "drop",     "mute", "end",    "press",
                                        "overlaps", "take", "merge",  "flush"};
    int nth = 0;
    while (w->what >> nth > 1)
        nth++;
    ck_assert_uint_eq(w->what, 1u << nth);
    note(user, "%s%u:%s%s", names[nth], w->depth,
         w->name != NULL ? w->name : "", w->verdict & IKV_STOP ? "!" : "");
    if (w->what == IKV_WATCH_FLUSH)
        note(user, "%u on %s", w->heard, ikv_bus_lane_name(bus, w->lane));
    note(user, " ");
}

START_TEST(watchers)
{
    actor a = {.name = "a", .verdict = IKV_STOP};
    record seen = {""}, second = {""};
    open_bus(4, 0, 0);
    hear(&a, IKV_KIND_KEY_DOWN, everywhere, 0);
    ok(ikv_bus_add_watcher(bus, IKV_WATCH_ALL, watch, &seen));
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    ikv_event up = ikv_event_make(IKV_KIND_KEY_UP, 0);
    ok(ikv_bus_defer(bus, IKV_STEP_LANE, &up));
    ok(ikv_bus_flush(bus, IKV_STEP_LANE, NULL));
    ok(ikv_bus_flush(bus, IKV_STEP_LANE, NULL)); /* nothing waits */
    ck_assert_str_eq(seen.text, "event1: call1:a return1:a! done1:! defer0: "
                                "flush0:1 on step event1: done1: ");
    ok(ikv_bus_add_watcher(bus, IKV_WATCH_ALL, watch, &second));
    ok(ikv_bus_remove_watcher(bus, watch, &seen));
    deliver(IKV_KIND_KEY_DOWN, ikv_bus_root(bus)); /* the straight way */
    ck_assert_str_eq(heard.text, "a a ");
    ck_assert_str_eq(second.text, "event1: call1:a return1:a! done1:! ");
    ok(ikv_bus_remove_watcher(bus, watch, &second));
    status_is(ikv_bus_remove_watcher(bus, watch, &second), IKV_ABSENT);
    deliver(IKV_KIND_KEY_DOWN, everywhere);
    ck_assert_uint_eq(strlen(second.text), 35);
    close_bus();
}
END_TEST

/* D7: at each target of a list once, however often it is named, and whatever
 * was subscribed there before. */
START_TEST(list_of_targets)
{
    actor a = {.name = "a"}, b = {.name = "b"};
    ikv_target at[5];
    open_bus(8, 16, 3);
    for (int i = 0; i < 3; i++)
        ok(ikv_bus_add_target(bus, (uint32_t)i, &at[i]));
    at[3] = at[0];
    at[4] = ikv_bus_root(bus);
    for (int i = 0; i < 2; i++) {
        ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
        config.kind = IKV_KIND_KEY_UP;
        config.handler = play;
        config.user = i == 0 ? &a : &b;
        config.at_list = at;
        config.at_count = 5;
        actor *who = i == 0 ? &a : &b;
        ok(ikv_bus_subscribe(bus, &config, &who->subscription, NULL));
    }
    ck_assert_uint_eq(bus_counts(bus).entries, 8);
    for (int i = 0; i < 3; i++)
        deliver(IKV_KIND_KEY_UP, at[i]);
    ck_assert_str_eq(heard.text, "a b a b a b a b a b a b ");
    close_bus();
}
END_TEST

START_TEST(wrong_calls)
{
    ikv_event e = ikv_event_make(IKV_KIND_KEY_UP, 0);
    ikv_route route = IKV_ROUTE_INIT;
    ikv_target t = ikv_bus_root(NULL), long_path[IKV_PATH_LIMIT + 1] = {{0}};
    ikv_bus_config config = IKV_BUS_INIT;
    ikv_bus *none;
    status_is(ikv_bus_open(NULL, &none), IKV_BAD_ARGUMENT);
    status_is(ikv_bus_open(&config, &none), IKV_NO_MEMORY);
    config.depth = 5000;
    status_is(ikv_bus_open(&config, &none), IKV_BAD_CONFIG);
    ck_assert_uint_eq(ikv_bus_footprint(&config), 0);
    config.size = 0;
    status_is(ikv_bus_open(&config, &none), IKV_BAD_SIZE);
    open_bus(4, 0, 0);
    status_is(ikv_bus_deliver(NULL, &e).status, IKV_BAD_ARGUMENT);
    status_is(ikv_bus_deliver(bus, NULL).status, IKV_BAD_ARGUMENT);
    status_is(ikv_bus_deliver_along(bus, &e, NULL).status, IKV_BAD_ARGUMENT);
    ok(ikv_bus_deliver_along(bus, &e, &route).status); /* it finds the path */
    route.path = long_path;
    status_is(ikv_bus_deliver_along(bus, &e, &route).status, IKV_BAD_ARGUMENT);
    route.path_length = IKV_PATH_LIMIT + 1;
    status_is(ikv_bus_deliver_along(bus, &e, &route).status, IKV_FULL_DEPTH);
    route.path_length = 1;
    e.kind = 0;
    status_is(ikv_bus_deliver_along(bus, &e, &route).status, IKV_UNKNOWN_KIND);
    route.size = 1;
    status_is(ikv_bus_deliver_along(bus, &e, &route).status, IKV_BAD_SIZE);
    status_is(ikv_bus_add_lane(bus, "", &(ikv_lane){0}), IKV_BAD_ARGUMENT);
    status_is(ikv_bus_unsubscribe(NULL, (ikv_subscription){1}),
              IKV_BAD_ARGUMENT);
    status_is(ikv_bus_drop_owner(bus, (ikv_owner){9}), IKV_ABSENT);
    ck_assert(!ikv_bus_target_alive(NULL, t));
    ck_assert_uint_eq(bus_counts(NULL).targets, 0);
    ikv_bus_close(NULL);
    close_bus();
}
END_TEST

Suite *bus_suite(void)
{
    Suite *s = suite_create("bus");
    add(s, "D5 comes and goes", comes_and_goes);
    add(s, "D2 inbox size", inbox_size);
    add(s, "D4", order_by_rank_then_age);
    add(s, "D4 wide", families_and_all_kinds);
    add_table(s, "PATH1 PATH2 PATH3 PATH8", paths, ROWS(path_table));
    add_table(s, "PATH5 dropped by the engine", engine_dropped, 4);
    add(s, "PATH8 root", root_once);
    add_table(s, "D5 D8", changes_inside_handlers, ROWS(change_table));
    add(s, "D5 PATH6", added_inside_handlers);
    add_table(s, "PATH6 further on", added_further_on, 2);
    add(s, "D1 depth", endless_delivery_ends);
    add(s, "D2", deferring);
    add(s, "D9", deferred_target_gone);
    add_table(s, "D7 refused", refused_subscriptions, ROWS(refusal_table));
    add(s, "D7 tables", tables);
    add(s, "full", full_bus);
    add(s, "handles", handles_are_new);
    add(s, "D10", unheard);
    add_table(s, "D10 at the root", unheard_at_the_root, 2);
    add(s, "watching", watchers);
    add(s, "D7 a list of targets", list_of_targets);
    add(s, "wrong use", wrong_calls);
    return s;
}
