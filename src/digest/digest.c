/* digest.c - a canonical form of deliveries, and its FNV-1a hash. */
#include "../bus/bus_shared.h"
#include "../event/hash.h"
#include "../event/platform.h"

#include "ikvar/digest.h"

static void add_bytes(ikv_digest *d, const void *bytes, size_t count)
{
    d->value = ikvi_hash(d->value, bytes, count);
}

/* Least significant byte first, on every machine. */
static void add_number(ikv_digest *d, uint64_t number, uint32_t bytes)
{
    uint8_t little[8];
    for (uint32_t i = 0; i < bytes; i++)
        little[i] = (uint8_t)(number >> (8 * i));
    add_bytes(d, little, bytes);
}

static void add_string(ikv_digest *d, const char *string)
{
    d->value = ikvi_hash_text(d->value, string);
}

/* Independent of how a handle's bits are split. */
static void add_target(ikv_digest *d, const ikv_bus *bus, ikv_target target)
{
    /* How many bits a slot has hangs on the bus's capacity, which is no part of
     * what happened. */
    uint32_t bits = ikvi_bus_slot_bits(bus);
    add_number(d, target.bits & ((1u << bits) - 1), 4);
    add_number(d, target.bits >> bits, 4);
    add_number(d, ikv_bus_target_id(bus, target), 4);
}

/* By value and width, not by the bytes of memory: those differ by the order of
 * bytes and by what lies between fields. */
static void add_value(ikv_digest *d, const ikv_bus *bus, const ikv_field *field,
                      const ikv_event *event)
{
    uint32_t length;
    const char *text = ikv_field_text(field, event, &length);
    if (text != NULL) {
        add_number(d, length, 4);
        add_bytes(d, text, length);
        return;
    }
    ikv_value value = ikv_field_get(field, event);
    uint64_t number = 0;
    switch (value.type) {
    case IKV_VALUE_TARGET:
        add_target(d, bus, value.bits.target);
        return;
    case IKV_VALUE_BOOL:
        number = value.bits.boolean;
        break;
    /* The bits, not a text: equal digests need equal numbers, to the last
     * bit. */
    case IKV_VALUE_NUMBER:
        memcpy(&number, &value.bits.number, sizeof number);
        break;
    default:
        number = (uint64_t)value.bits.integer;
        break;
    }
    add_number(d, number, 8);
}

static void add_event(ikv_digest *d, const ikv_bus *bus, const ikv_event *event)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(bus), event->kind);
    add_string(d, info->name);
    add_number(d, event->time_ns, 8);
    const ikv_field *field;
    for (uint32_t i = 0; (field = ikv_field_header(i)) != NULL; i++)
        add_value(d, bus, field, event);
    for (uint32_t i = 0; i < info->field_count; i++)
        add_value(d, bus, &info->fields[i], event);
}

/* T2: in little-endian form, kinds by name. */
void ikv_digest_add(ikv_digest *digest, const ikv_bus *bus,
                    const ikv_watch *watch)
{
    if (digest == NULL || bus == NULL || watch == NULL || watch->event == NULL)
        return;
    const ikv_delivery *delivery = watch->delivery;
    bool unheard = watch->what == IKV_WATCH_DONE && watch->heard == 0;
    /* Frames are this machine's pace; steps are what a tape plays again. */
    if (watch->frame_scoped && !digest->frames)
        return;
    if (watch->what == IKV_WATCH_RETURN) {
        add_number(digest, watch->verdict, 4);
        return;
    }
    /* Numbers of the digest's own: they never change. */
    uint32_t what = 2;
    if (unheard)
        what = 4;
    else if (watch->what == IKV_WATCH_DROP)
        what = 6;
    else if (watch->what != IKV_WATCH_CALL)
        return;
    /* Calls, what was dropped, and what nobody heard. */
    digest->deliveries++;
    add_number(digest, what, 1);
    add_event(digest, bus, watch->event);
    if (delivery == NULL)
        return;
    digest->step = delivery->step;
    add_number(digest, delivery->step, 8);
    if (unheard)
        return;
    add_target(digest, bus, delivery->current);
    add_number(digest, delivery->phase, 2);
    add_number(digest, delivery->flags, 2);
    add_number(digest, delivery->sample_count, 4);
    add_string(digest, watch->name);
    /* Of a program's own kinds it may hold what differs from run to run. */
    if (delivery->data_size > 0 && watch->event->kind < IKV_KIND_USER)
        add_bytes(digest, delivery->data, delivery->data_size);
}
