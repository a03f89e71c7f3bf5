/* input_shared.h - how the loop reaches an input: through a table that the
 * input brings along, so that a program without one links none of what it
 * ties. NULL for an input does nothing. */
#ifndef IKVI_INPUT_SHARED_H
#define IKVI_INPUT_SHARED_H

#include "ikvar/input.h"

#include "../bus/bus_shared.h"

typedef struct ikvi_input_calls {
    void (*begin_frame)(ikv_input *input);
    void (*begin_step)(ikv_input *input, uint64_t time_ns);
    void (*feed)(ikv_input *input, const ikv_event *event);
    ikv_outcome (*route)(ikv_input *input, const ikv_event *event,
                         const ikvi_along *with);
    /* Of the raw state, which is fed first; and of all else. */
    void (*feed_resync)(ikv_input *input, const ikv_event *event,
                        const ikv_event *held, uint32_t count);
    void (*resync)(ikv_input *input, const ikv_event *event,
                   const ikv_event *held, uint32_t count);
    void (*retest)(ikv_input *input, uint64_t time_ns);
    void (*finish)(ikv_input *input, uint64_t last_ns, uint64_t end_ns);
    void (*end_step)(ikv_input *input, uint64_t step, uint64_t time_ns);
    uint64_t (*next_hold)(const ikv_input *input);
    /* Whether the next step has something to tell though no input comes: a press
     * may become a hold, a mouse may be over something else, an action is on, a
     * contact lingers. */
    bool (*awaits)(const ikv_input *input);
    /* Holds up to that time, each with the actions that follow from it. */
    void (*advance)(ikv_input *input, uint64_t time_ns);
    /* What the actions make of what has changed by itself. */
    void (*settle)(ikv_input *input, uint64_t time_ns);
    /* What is held has been so up to then; edges and motion stay. */
    void (*set_time)(ikv_input *input, uint64_t time_ns);
    /* Whether a retest would look at anything. */
    bool (*is_stale)(const ikv_input *input);
    /* A number that is another when the focus or what a scene shows may be; and
     * whether some seat types into a target, with its box in the view. */
    uint64_t (*focus_turn)(const ikv_input *input);
    bool (*text_area)(const ikv_input *input, float box[4]);
} ikvi_input_calls;

struct ikv_input {
    const ikvi_input_calls *calls;
    bool in_loop; /* a loop has it: it stays open */
};

static inline void ikvi_input_begin_frame(ikv_input *input)
{
    if (input != NULL)
        input->calls->begin_frame(input);
}

static inline void ikvi_input_begin_step(ikv_input *input, uint64_t time_ns)
{
    if (input != NULL)
        input->calls->begin_step(input, time_ns);
}

static inline void ikvi_input_feed(ikv_input *input, const ikv_event *event)
{
    if (input != NULL)
        input->calls->feed(input, event);
}

static inline void ikvi_input_feed_resync(ikv_input *input,
                                          const ikv_event *event,
                                          const ikv_event *held, uint32_t count)
{
    if (input != NULL)
        input->calls->feed_resync(input, event, held, count);
}

static inline void ikvi_input_retest(ikv_input *input, uint64_t time_ns)
{
    if (input != NULL)
        input->calls->retest(input, time_ns);
}

static inline void ikvi_input_finish(ikv_input *input, uint64_t last_ns,
                                     uint64_t end_ns)
{
    if (input != NULL)
        input->calls->finish(input, last_ns, end_ns);
}

static inline void ikvi_input_end_step(ikv_input *input, uint64_t step,
                                       uint64_t time_ns)
{
    if (input != NULL)
        input->calls->end_step(input, step, time_ns);
}

static inline uint64_t ikvi_input_next_hold(const ikv_input *input)
{
    return input != NULL ? input->calls->next_hold(input) : UINT64_MAX;
}

static inline bool ikvi_input_awaits(const ikv_input *input)
{
    return input != NULL && input->calls->awaits(input);
}

static inline void ikvi_input_advance(ikv_input *input, uint64_t time_ns)
{
    if (input != NULL)
        input->calls->advance(input, time_ns);
}

static inline void ikvi_input_settle(ikv_input *input, uint64_t time_ns)
{
    if (input != NULL)
        input->calls->settle(input, time_ns);
}

static inline void ikvi_input_set_time(ikv_input *input, uint64_t time_ns)
{
    if (input != NULL)
        input->calls->set_time(input, time_ns);
}

static inline bool ikvi_input_is_stale(const ikv_input *input)
{
    return input != NULL && input->calls->is_stale(input);
}

#endif
