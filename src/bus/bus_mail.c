/* bus_mail.c - mailboxes: what is subscribed to one is kept until it is read.
 */
#include "bus_internal.h"

static ikv_event *mail_at(const ikv_bus *b, uint32_t mailbox, uint32_t index)
{
    return (ikv_event *)ikvi_at(b, b->mail) +
           (size_t)mailbox * b->mailbox_events + index % b->mailbox_events;
}

ikv_status ikv_bus_add_mailbox(ikv_bus *bus, ikv_mailbox *mailbox)
{
    if (bus == NULL || mailbox == NULL)
        return IKV_BAD_ARGUMENT;
    if (bus->s.mailbox_count == bus->mailbox_capacity)
        return IKV_FULL_MAILBOXES;
    *mailbox = (ikv_mailbox)++bus->s.mailbox_count;
    return IKV_OK;
}

/* The handler of what is subscribed to a mailbox: `user` is its number. */
ikv_verdict ikvi_bus_mail(const ikv_event *event, const ikv_delivery *delivery,
                          void *user)
{
    ikv_bus *b = delivery->bus;
    uint32_t at = (uint32_t)(uintptr_t)user - 1;
    bus_mailbox *box = ikvi_bus_mailbox(b, at);
    /* The oldest are kept, as a full queue's are: what is lost is counted. */
    if (box->count == b->mailbox_events)
        box->refused++;
    else
        *mail_at(b, at, box->head + box->count++) = *event;
    return IKV_CONTINUE;
}

ikv_status ikv_bus_read(ikv_bus *bus, ikv_mailbox mailbox, ikv_event *event)
{
    if (bus == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    if (mailbox == 0 || mailbox > bus->s.mailbox_count)
        return IKV_UNKNOWN_NAME;
    bus_mailbox *box = ikvi_bus_mailbox(bus, mailbox - 1u);
    if (box->count == 0)
        return IKV_ABSENT;
    *event = *mail_at(bus, mailbox - 1u, box->head);
    box->head = (box->head + 1) % bus->mailbox_events;
    box->count--;
    return IKV_OK;
}

uint64_t ikv_bus_mailbox_refused(const ikv_bus *bus, ikv_mailbox mailbox)
{
    return bus != NULL && mailbox > 0 && mailbox <= bus->s.mailbox_count
               ? ikvi_bus_mailbox(bus, mailbox - 1u)->refused
               : 0;
}
