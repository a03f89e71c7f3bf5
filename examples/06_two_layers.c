/* 06: an engine layer that announces contacts, and a game layer that reacts;
 * neither knows the other. What they share is the kind's name and fields.
 */
#include <ikvar/host.h>

#include <stdio.h>

/* ----------------------------------------------------------- the engine -- */

typedef struct hulls_touched { /* the fields of hull.touched */
    ikv_target other;
    float speed;
} hulls_touched;

static ikv_kind announce_kind(ikv_catalogue *catalogue)
{
    static const ikv_field fields[] = {
        {"other", IKV_TYPE_TARGET, 0, "", "the other hull", 1, 0},
        {"speed", IKV_TYPE_F32, 4, "m/s", "how hard", 1, 0}};
    ikv_kind kind = IKV_KIND_NONE;
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    config.name = "hull.touched";
    config.when = "two hulls touched";
    config.fields = fields;
    config.field_count = 2;
    ikv_catalogue_register(catalogue, &config, &kind, NULL);
    return kind;
}

/* Found in the middle of a simulation step: told after it, in order. */
static void contact(ikv_bus *bus, ikv_kind kind, ikv_target a, ikv_target b,
                    float speed)
{
    ikv_event event = ikv_event_make(kind, 0);
    hulls_touched *payload = (hulls_touched *)(void *)event.user;
    event.target = a;
    event.source = b;
    *payload = (hulls_touched){b, speed};
    ikv_status status = ikv_bus_defer(bus, IKV_STEP_LANE, &event);
    if (status < 0)
        printf("engine: %s\n", ikv_status_text(status));
}

static void simulate(ikv_bus *bus, ikv_kind kind, const ikv_target *hulls)
{
    printf("engine: step begins\n");
    contact(bus, kind, hulls[0], hulls[1], 0.4f);
    contact(bus, kind, hulls[1], hulls[2], 2.5f);
    printf("engine: step ends\n");
}

/* ------------------------------------------------------------- the game -- */

static ikv_verdict creak(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)user;
    printf("game: hull %u creaks\n",
           ikv_bus_target_id(delivery->bus, event->target));
    return IKV_CONTINUE;
}

static ikv_verdict damage(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    const hulls_touched *payload =
        (const hulls_touched *)(const void *)event->user;
    (void)user;
    printf("game: hull %u is damaged by hull %u at %g m/s\n",
           ikv_bus_target_id(delivery->bus, event->target),
           ikv_bus_target_id(delivery->bus, payload->other),
           (double)payload->speed);
    return IKV_CONTINUE;
}

static int subscribe_game(ikv_bus *bus)
{
    ikv_kind kind = ikv_catalogue_find(ikv_bus_catalogue(bus), "hull.touched");
    ikv_target everywhere = {0};
    const ikv_condition hard = {
        "speed", IKV_ABOVE, {IKV_VALUE_NUMBER, {.number = 1}}, false};
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.handler = damage;
    config.conditions = &hard;
    config.condition_count = 1;
    return ikv_bus_hear(bus, kind, everywhere, creak, NULL, NULL) == IKV_OK &&
           ikv_bus_subscribe(bus, &config, NULL, NULL) == IKV_OK;
}

int main(void)
{
    ikv_catalogue *catalogue;
    ikv_catalogue_config kinds = IKV_CATALOGUE_INIT;
    kinds.memory = ikv_host_memory();
    ikv_bus *bus;
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = ikv_host_memory();
    if (ikv_catalogue_open(&kinds, &catalogue) < 0)
        return 1;
    ikv_kind kind = announce_kind(catalogue);
    config.catalogue = catalogue;
    ikv_target hulls[3];
    if (ikv_bus_open(&config, &bus) < 0 || !subscribe_game(bus))
        return 1;
    for (uint32_t i = 0; i < 3; i++)
        ikv_bus_add_target(bus, i + 1, &hulls[i]);
    simulate(bus, kind, hulls);
    ikv_bus_flush(bus, IKV_STEP_LANE, NULL); /* the loop does this for you */
    ikv_bus_close(bus);
    ikv_catalogue_close(catalogue);
    return 0;
}
