/* bus_past.c - what has ended, and may come back when an image is restored:
 * its on_drop waits until no image can bring it back.
 *
 * Images are numbered on from the one that was saved or restored last. What
 * ends is in no image but those up to the highest number so far; once that many
 * images as are kept have been saved beyond it, it can't come back. Where there
 * is no more room, the oldest is told earlier, and the images that hold it are
 * refused from then on.
 */
#include "bus_internal.h"

static bus_kept *kept_at(const ikv_bus *b, uint32_t at)
{
    return (bus_kept *)ikvi_at(b, b->kept) + at;
}

static void take_out_kept(ikv_bus *b, uint32_t at)
{
    b->kept_count--;
    for (uint32_t i = at; i < b->kept_count; i++)
        *kept_at(b, i) = *kept_at(b, i + 1);
}

/* Tells one; the images that hold it can't be restored any more. */
static void tell_kept(ikv_bus *b, uint32_t at)
{
    bus_kept kept = *kept_at(b, at);
    /* Out of the list first: on_drop may end others. */
    take_out_kept(b, at);
    if (kept.number > b->forgotten)
        b->forgotten = kept.number;
    kept.on_drop(kept.user);
}

static bool can_not_return(const ikv_bus *b, const bus_kept *kept)
{
    return kept->number == 0 ||
           (b->image_number >= b->image_limit &&
            kept->number <= b->image_number - b->image_limit);
}

/* Handlers of on_drop may end further ones, which go to the end. */
static void tell_what_is_over(ikv_bus *b)
{
    for (uint32_t i = 0; i < b->kept_count;)
        if (can_not_return(b, kept_at(b, i)))
            tell_kept(b, i);
        else
            i++;
}

/* A subscription, as it is kept once it has ended. */
static bus_kept record_of(const ikv_bus *b, const bus_subscription *s,
                          uint32_t place)
{
    return (bus_kept){.on_drop = s->on_drop,
                      .user = s->drop_user,
                      .birth = s->birth,
                      /* what no image holds is over at once */
                      .number =
                          s->birth < b->saved_births ? b->image_highest : 0,
                      .place = place};
}

static void make_room(ikv_bus *b)
{
    while (b->kept_count == b->kept_room)
        tell_kept(b, 0);
}

/* Whether a subscription is in the image that is being restored. */
static bool is_in_image(const ikv_bus *b, const bus_kept *one)
{
    bus_subscription then;
    ikvi_slot was;
    if (b->image_before == NULL)
        return false;
    /* The image's copies of its place: the same birth is the same
     * subscription, unless it is of another bus of that config. */
    memcpy(&then,
           b->image_before + (b->subscriptions - offsetof(ikv_bus, s)) +
               one->place * sizeof then,
           sizeof then);
    memcpy(&was,
           b->image_after + (b->s.subscription_slots.slots - b->outside_end) +
               one->place * sizeof was,
           sizeof was);
    return was.next == IKVI_IN_USE && then.birth == one->birth &&
           then.on_drop == one->on_drop && then.drop_user == one->user;
}

void ikvi_bus_drop_told(ikv_bus *b, const bus_subscription *s, uint32_t place)
{
    bus_kept record = record_of(b, s, place);
    if (s->on_drop == NULL || is_in_image(b, &record))
        return;
    /* Closing, or born since the last image: nothing can bring it back. */
    if (b->closing || s->birth >= b->saved_births) {
        s->on_drop(s->drop_user);
        return;
    }
    make_room(b);
    *kept_at(b, b->kept_count++) = record;
}

void ikvi_bus_forget_past(ikv_bus *b)
{
    while (b->kept_count > 0)
        tell_kept(b, 0);
}

uint64_t ikvi_bus_saved(ikv_bus *b, ikvi_saved to[2])
{
    const size_t from = offsetof(ikv_bus, s);
    /* What is late is no part of an image, nor does it outlast another. */
    if (!ikvi_bus_is_held(b))
        ikvi_bus_tidy(b);
    /* Up to the inboxes, and from outside_end on: see lay_out_bus(). */
    to[0] = (ikvi_saved){(char *)b + from, b->inboxes - from};
    to[1] = (ikvi_saved){ikvi_at(b, b->outside_end), b->size - b->outside_end};
    return b->identity;
}

uint64_t ikvi_bus_next_image(const ikv_bus *b)
{
    return b->image_number + 1;
}

void ikvi_bus_image_saved(ikv_bus *b)
{
    b->image_number++;
    if (b->image_number > b->image_highest)
        b->image_highest = b->image_number;
    b->saved_births = b->births;
    tell_what_is_over(b);
}

bool ikvi_bus_may_restore(const ikv_bus *b, uint64_t number)
{
    return number > b->forgotten;
}

/* What comes back is not ended; all else that is subscribed is. What is told
 * for lack of room is never what comes back. */
void ikvi_bus_before_restore(ikv_bus *b, const char *before, const char *after)
{
    b->image_before = before;
    b->image_after = after;
    /* From the end: taking one out moves those behind it. */
    for (uint32_t i = b->kept_count; i-- > 0;)
        if (is_in_image(b, kept_at(b, i)))
            take_out_kept(b, i);
    for (uint32_t i = 0; i < b->s.subscription_slots.capacity; i++) {
        bus_kept record = record_of(b, ikvi_bus_subscription(b, i), i);
        if (!ikvi_bus_subscribed_at(b, i) || record.on_drop == NULL ||
            is_in_image(b, &record))
            continue;
        make_room(b);
        /* What that told may have ended it meanwhile. */
        record = record_of(b, ikvi_bus_subscription(b, i), i);
        if (ikvi_bus_subscribed_at(b, i) && !is_in_image(b, &record))
            *kept_at(b, b->kept_count++) = record;
    }
}

void ikvi_bus_after_restore(ikv_bus *b, uint64_t number)
{
    b->image_before = b->image_after = NULL;
    b->image_number = number;
    /* It may be of another bus of that config, which had made more. */
    if (number > b->image_highest)
        b->image_highest = number;
    tell_what_is_over(b);
}
