/* 05: filters, once only, and an owner whose subscriptions go together.
 *
 * A pilot's hut listens to the harbour radio: only to its own channel, only
 * to loud calls or distress, to the first distress once; and when the pilot
 * goes home, all of it ends with one call.
 */
#include <ikvar/host.h>

#include <stdio.h>

static ikv_verdict hear(const ikv_event *event, const ikv_delivery *delivery,
                        void *name)
{
    (void)delivery;
    printf("  %-9s channel %u, loudness %u%s\n", (const char *)name,
           event->user[0], event->user[1], event->user[2] ? ", distress" : "");
    return IKV_CONTINUE;
}

static ikv_kind register_call(ikv_catalogue *catalogue)
{
    static const ikv_field fields[] = {
        {"channel", IKV_TYPE_U8, 0, "", "radio channel", 1, 0},
        {"loudness", IKV_TYPE_U8, 1, "", "0..9", 1, 0},
        {"distress", IKV_TYPE_BOOL, 2, "", "help is wanted", 1, 0}};
    ikv_kind kind = IKV_KIND_NONE;
    ikv_kind_config config = IKV_KIND_CONFIG_INIT;
    config.name = "radio.call";
    config.fields = fields;
    config.field_count = 3;
    ikv_catalogue_register(catalogue, &config, &kind, NULL);
    return kind;
}

static void call(ikv_bus *bus, ikv_kind kind, uint8_t channel, uint8_t loud,
                 bool distress)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.user[0] = channel;
    event.user[1] = loud;
    event.user[2] = distress;
    printf("call on %u, %u%s: heard by %u\n", channel, loud,
           distress ? ", distress" : "", ikv_bus_deliver(bus, &event).heard);
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
    config.catalogue = catalogue;
    ikv_kind kind = register_call(catalogue);
    ikv_owner pilot;
    if (ikv_bus_open(&config, &bus) < 0 || ikv_bus_add_owner(bus, &pilot) < 0)
        return 1;

    const ikv_condition channel = {
        "channel", IKV_EQUAL, {IKV_VALUE_INTEGER, {.integer = 12}}, false};
    const ikv_condition loud_or_distress[] = {
        {"loudness", IKV_AT_LEAST, {IKV_VALUE_INTEGER, {.integer = 7}}, false},
        {"distress", IKV_EQUAL, {IKV_VALUE_BOOL, {.boolean = true}}, false}};
    const ikv_condition_group urgent = {IKV_ANY, 2, loud_or_distress, false};
    ikv_subscription_config table[3] = {
        IKV_SUBSCRIPTION_INIT, IKV_SUBSCRIPTION_INIT, IKV_SUBSCRIPTION_INIT};
    static const char *const names[] = {"all of 12", "urgent", "alarm"};
    for (int i = 0; i < 3; i++) {
        table[i].kind = kind;
        table[i].handler = hear;
        table[i].user = (void *)(uintptr_t)names[i];
        table[i].owner = pilot;
        table[i].conditions = &channel;
        table[i].condition_count = 1;
    }
    table[1].groups = &urgent; /* the channel, and (loud or distress) */
    table[1].group_count = 1;
    table[2].conditions = &loud_or_distress[1];
    table[2].limit = 1;
    ikv_message message;
    if (ikv_bus_subscribe_table(bus, table, 3, NULL, &message) < 0) {
        fprintf(stderr, "%s\n", message.text);
        return 1;
    }
    call(bus, kind, 9, 9, false);
    call(bus, kind, 12, 3, false);
    call(bus, kind, 12, 8, false);
    call(bus, kind, 12, 1, true);
    call(bus, kind, 12, 1, true);
    printf("the pilot goes home\n");
    ikv_bus_drop_owner(bus, pilot);
    call(bus, kind, 12, 9, true);
    ikv_bus_close(bus);
    ikv_catalogue_close(catalogue);
    return 0;
}
