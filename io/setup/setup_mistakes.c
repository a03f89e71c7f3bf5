/* setup_mistakes.c - what a setup says that is valid and seldom meant.
 */
#define _POSIX_C_SOURCE 200809L
#include "setup.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ---------------------------------------------------------------- codes -- */

static const ikv_mistake_info infos[] = {
#define IKV_X(value, name, code, text, why, instead)                           \
    {IKV_MISTAKE_##name, code, text, why, instead},
    IKV_MISTAKES(IKV_X)
#undef IKV_X
};

const ikv_mistake_info *ikv_mistake_list(uint32_t index)
{
    return index < sizeof infos / sizeof infos[0] ? &infos[index] : NULL;
}

const ikv_mistake_info *ikv_mistake_about(uint16_t code)
{
    const ikv_mistake_info *info;
    for (uint32_t i = 0; (info = ikv_mistake_list(i)) != NULL; i++)
        if (info->code == code)
            return info;
    return NULL;
}

/* -------------------------------------------------------------- keeping -- */

static void keep(const ikv_mistake *mistake, void *user)
{
    ikv_setup *setup = user;
    if (setup->mistake_count == setup->mistake_room) {
        uint32_t room = setup->mistake_room * 2 + 16;
        ikv_mistake *list = realloc(setup->mistakes, room * sizeof *list);
        if (list == NULL) {
            setup->mistake_lost = true;
            return;
        }
        setup->mistakes = list;
        setup->mistake_room = room;
    }
    ikv_mistake kept = {mistake->code, strdup(mistake->text)};
    if (kept.text != NULL)
        setup->mistakes[setup->mistake_count++] = kept;
    /* One that is lost is an error: "fine" would be wrong. */
    setup->mistake_lost = setup->mistake_lost || kept.text == NULL;
}

void ikvi_tell_mistake(ikv_mistake_fn told, void *user, uint16_t code,
                       const char *name, const char *format, ...)
{
    char line[320], shown[sizeof line];
    int used = snprintf(line, sizeof line, "%.60s: ", name);
    va_list list;
    va_start(list, format);
    vsnprintf(line + used, sizeof line - (size_t)used, format, list);
    va_end(list);
    told(&(ikv_mistake){code, ikv_shown_text(line, shown, sizeof shown)}, user);
}

static void found(ikv_setup *setup, uint16_t code, const char *name)
{
    ikvi_tell_mistake(keep, setup, code, name, "%s",
                      ikv_mistake_about(code)->text);
}

void ikvi_drop_setup_mistakes(ikv_setup *setup)
{
    for (uint32_t i = 0; i < setup->mistake_count; i++)
        free((char *)setup->mistakes[i].text);
    free(setup->mistakes);
}

const ikv_mistake *ikv_setup_mistake(const ikv_setup *setup, uint32_t index)
{
    return setup != NULL && index < setup->mistake_count
               ? &setup->mistakes[index]
               : NULL;
}

/* -------------------------------------------------------------- targets -- */

enum {
    BY_HIT = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK |
             1u << IKV_FAMILY_WHEEL | 1u << IKV_FAMILY_PEN |
             1u << IKV_FAMILY_GESTURE, /* come to who is hit */
    BY_FOCUS = 1u << IKV_FAMILY_KEY | 1u << IKV_FAMILY_TEXT
};

/* The families of all kinds that it hears. */
static uint32_t families_of(const ikv_setup *setup, const setup_handler *h)
{
    uint32_t families = h->all_kinds ? UINT32_MAX : h->families;
    for (uint32_t k = 0; k < h->kind_count; k++)
        families |=
            1u << ikv_catalogue_info(setup->catalogue, h->kinds[k])->family;
    return families;
}

static bool hears_kind(const setup_handler *h, ikv_kind kind, uint32_t families)
{
    bool hears = h->all_kinds || (h->families & families) != 0;
    for (uint32_t k = 0; !hears && k < h->kind_count; k++)
        hears = h->kinds[k] == kind;
    return hears;
}

/* Where it hears of what is inside: at its targets, or at all. */
static void note_inside(ikv_setup *setup, const setup_handler *h)
{
    if (!hears_kind(h, IKV_KIND_OVERLAP_INSIDE, 1u << IKV_FAMILY_OVERLAP))
        return;
    for (uint32_t a = 0; a < h->at_count; a++)
        ikvi_setup_find_target(setup, h->at[a])->hears_inside = true;
    setup->root_hears_inside = setup->root_hears_inside || h->at_count == 0;
}

/* Which actions it hears of: one that it asks for, or all. */
static void note_actions(ikv_setup *setup, const setup_handler *h)
{
    if ((families_of(setup, h) >> IKV_FAMILY_ACTION & 1) == 0)
        return;
    const char *name = ikvi_conditions_action(h);
    const setup_action *action =
        name != NULL ? ikvi_setup_find_action(setup, name) : NULL;
    if (action != NULL)
        setup->actions[action - setup->actions].heard = true;
    setup->actions_heard = setup->actions_heard || name == NULL;
}

/* Who is heard, can have the focus, is unmuted, is used. */
static void note_handlers(ikv_setup *setup)
{
    for (uint32_t i = 0; i < setup->handler_count; i++) {
        const setup_handler *h = &setup->handlers[i];
        bool by_hit = (families_of(setup, h) & (uint32_t)BY_HIT) != 0;
        for (uint32_t a = 0; a < h->at_count; a++) {
            setup_target *t = ikvi_setup_find_target(setup, h->at[a]);
            t->heard = true;
            t->heard_by_hit = t->heard_by_hit || by_hit;
        }
        for (uint32_t n = 0; n < h->reaction_count; n++)
            ikvi_reaction_note(setup, h, &h->reactions[n]);
        if (h->group != NULL)
            setup->groups[h->group - setup->groups].used = true;
        note_inside(setup, h);
        note_actions(setup, h);
    }
}

static void note_targets(ikv_setup *setup)
{
    for (uint32_t i = 0; setup->targets != NULL && i < setup->target_count;
         i++) {
        const setup_target *t = &setup->targets[i];
        if (t->parent != NO_INDEX)
            setup->targets[t->parent].has_children = true;
        /* each is marked once: above a marked one all are */
        for (int at = (int)i; t->sensing.senses != 0 && at != NO_INDEX &&
                              !setup->targets[at].has_senses;
             at = setup->targets[at].parent)
            setup->targets[at].has_senses = true;
        if ((t->config.traits & IKV_FOCUSABLE) == 0)
            continue;
        for (int at = (int)i; at != NO_INDEX && !setup->targets[at].has_focus;
             at = setup->targets[at].parent)
            setup->targets[at].has_focus = true;
    }
}

bool ikvi_setup_is_heard(const ikv_setup *setup, const setup_target *target)
{
    /* No longer than a path: parents were checked. */
    for (int at = (int)(target - setup->targets); at != NO_INDEX;
         at = setup->targets[at].parent)
        if (setup->targets[at].heard)
            return true;
    return false;
}

static void find_mistakes_of_target(ikv_setup *setup, const setup_target *t)
{
    const ikv_shape *shape = &t->config.shape;
    const ikv_sensing *sensing = &t->sensing;
    bool shapeless = shape->type == IKV_SHAPE_NONE;
    const struct {
        uint16_t code;
        bool made;
    } rows[] = {
        {IKV_MISTAKE_COVERS_ONLY,
         !shapeless && t->config.hit == IKV_HIT_SOLID && !t->becomes_modal &&
             !ikvi_setup_is_heard(setup, t)},
        {IKV_MISTAKE_NO_SHAPE,
         shapeless && !t->has_children && t->heard_by_hit},
        {IKV_MISTAKE_CLIPS_ALL, shapeless && t->config.clip},
        {IKV_MISTAKE_EMPTY_SHAPE,
         shape->type == IKV_SHAPE_RECT &&
             (shape->width == 0 || shape->height == 0)},
        {IKV_MISTAKE_SENSES_NO_SHAPE, shapeless && sensing->senses != 0},
        {IKV_MISTAKE_SENSES_NOTHING,
         sensing->senses == 0 && t->has_sensing &&
             (sensing->linger != 0 || sensing->inside != 0)},
    };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (rows[i].made)
            found(setup, rows[i].code, t->id);
    if (t->focus_asked_by != NULL && !t->has_focus)
        ikvi_tell_mistake(keep, setup, IKV_MISTAKE_CANNOT_FOCUS,
                          t->focus_asked_by,
                          "a binding waits for the focus at \"%.60s\", where "
                          "nothing can have it",
                          t->id);
}

/* Who is told of each of many in each step, as their tags say at least. */
static void find_many_inside(ikv_setup *setup)
{
    enum {
        MANY = 16
    };
    uint32_t bearers[32] = {0};
    for (uint32_t i = 0; i < setup->target_count; i++)
        for (uint32_t bit = 0; bit < setup->tag_count; bit++)
            bearers[bit] += setup->targets[i].config.tags >> bit & 1;
    for (uint32_t i = 0; i < setup->target_count; i++) {
        const setup_target *t = &setup->targets[i];
        uint32_t most = 0;
        for (uint32_t bit = 0; bit < setup->tag_count; bit++)
            if ((t->sensing.senses >> bit & 1) != 0 && bearers[bit] > most)
                most = bearers[bit];
        if ((t->hears_inside || setup->root_hears_inside) && most >= MANY &&
            t->sensing.inside == IKV_INSIDE_ALWAYS)
            ikvi_tell_mistake(keep, setup, IKV_MISTAKE_MANY_INSIDE, t->id,
                              "each of what is inside of it is told in each "
                              "step, and it senses %u targets",
                              most);
    }
}

/* It hears overlaps, and nothing that it is at senses any; of several kinds and
 * places one that may come is enough. */
static bool hears_no_overlap(const ikv_setup *setup, const setup_handler *h,
                             bool any)
{
    uint32_t families = families_of(setup, h);
    bool mixed = (families & ~(1u << IKV_FAMILY_OVERLAP)) != 0;
    if (h->all_kinds || (families >> IKV_FAMILY_OVERLAP & 1) == 0)
        return false;
    if (!any || mixed || h->at_count == 0)
        return !any;
    for (uint32_t a = 0; a < h->at_count; a++) {
        const setup_target *t = ikvi_setup_find_target(setup, h->at[a]);
        if (t->has_senses)
            return false;
    }
    return true;
}

/* Tags that are sensed but borne by nobody; handlers of overlaps that never
 * come. */
static void find_mistakes_of_sensing(ikv_setup *setup)
{
    uint32_t borne = 0, sensed = 0;
    for (uint32_t i = 0; i < setup->target_count; i++) {
        /* Of bodies, too: tags are the target's own. */
        borne |= setup->targets[i].config.tags;
        sensed |= setup->targets[i].sensing.senses;
    }
    for (uint32_t bit = 0; bit < setup->tag_count; bit++) {
        bool is_borne = (borne >> bit & 1) != 0;
        bool is_used = ((sensed | setup->asked_tags) >> bit & 1) != 0;
        if (is_used && !is_borne)
            found(setup, IKV_MISTAKE_TAG_NOT_BORNE, setup->tags[bit]);
        else if (!is_used && setup->handler_count > 0)
            found(setup, IKV_MISTAKE_UNUSED_TAG, setup->tags[bit]);
    }
    for (uint32_t i = 0; i < setup->handler_count; i++)
        if (hears_no_overlap(setup, &setup->handlers[i], sensed != 0))
            found(setup, IKV_MISTAKE_NOBODY_SENSES, setup->handlers[i].name);
}

/* ------------------------------------------------------------- handlers -- */

/* The field that a reaction sets at a target; `*other` is set if it holds values
 * of another sort. */
static bool can_set(const reaction *what, setup_target *target, bool *other)
{
    const setup_field *field = ikvi_setup_find_field(target, what->text);
    bool fits = field != NULL && ikvi_reaction_fits(what, field);
    *other = *other || (field != NULL && !fits);
    return fits;
}

/* Why a reaction can set its field at none of its targets, the one that it names
 * or those that the handler is at; NULL if it may. */
static const char *fault_of_field(const ikv_setup *setup,
                                  const setup_handler *h, const reaction *what)
{
    bool other = false;
    if (what->target_id == NULL && h->at_count == 0)
        return ikvi_setup_field_number(setup, what->text) != 0
                   ? NULL
                   : "does not have";
    if (what->target_id != NULL &&
        can_set(what, ikvi_setup_find_target(setup, what->target_id), &other))
        return NULL;
    for (uint32_t a = 0; what->target_id == NULL && a < h->at_count; a++)
        if (can_set(what, ikvi_setup_find_target(setup, h->at[a]), &other))
            return NULL;
    return other ? "has for values of another sort" : "does not have";
}

static void find_mistakes_of_fields(ikv_setup *setup, const setup_handler *h)
{
    for (uint32_t i = 0; i < h->reaction_count; i++) {
        const reaction *what = &h->reactions[i];
        const char *fault = ikvi_reaction_sets_field(what)
                                ? fault_of_field(setup, h, what)
                                : NULL;
        if (fault != NULL)
            ikvi_tell_mistake(keep, setup, IKV_MISTAKE_NO_FIELD, h->name,
                              "it sets the field \"%.60s\", which its target "
                              "%s",
                              what->text, fault);
    }
}

static bool misses_focus(const ikv_setup *setup, const setup_handler *h)
{
    if (h->at_count == 0 || (families_of(setup, h) & ~(uint32_t)BY_FOCUS) != 0)
        return false;
    for (uint32_t a = 0; a < h->at_count; a++) {
        const setup_target *t = ikvi_setup_find_target(setup, h->at[a]);
        if (t->has_focus)
            return false;
    }
    return true;
}

/* One with a function of the program's own is the program's to unmute. */
static bool stays_muted(const setup_handler *h)
{
    bool muted = h->muted, unmuted = h->unmuted;
    if (h->group != NULL) {
        muted = muted || h->group->muted;
        unmuted = unmuted || h->group->unmuted;
    }
    return h->has_reactions && muted && !unmuted;
}

/* What it does hangs on how many moves there are, and not on when. */
static bool counts_moves(const ikv_setup *setup, const setup_handler *h)
{
    bool counts = h->limit > 1 || h->after > 0;
    bool moves = h->kind_count > 0 && h->families == 0 && !h->all_kinds;
    for (uint32_t i = 0; i < h->reaction_count; i++)
        counts = counts || ikvi_reaction_toggles(&h->reactions[i]);
    for (uint32_t k = 0; k < h->kind_count; k++)
        moves =
            moves &&
            ikv_catalogue_info(setup->catalogue, h->kinds[k])->queue_class ==
                IKV_QUEUE_MERGEABLE;
    for (uint32_t c = 0; c < h->condition_count; c++)
        counts = counts && h->conditions[c].comparison != IKV_CHANGED;
    return moves && counts && h->gap_ns == 0 && h->at_most == 0;
}

static void find_mistakes_of_focus(ikv_setup *setup, const setup_handler *h)
{
    const char *id;
    if (misses_focus(setup, h))
        found(setup, IKV_MISTAKE_NO_FOCUS, h->name);
    for (uint32_t i = 0; i < h->reaction_count; i++)
        if (ikvi_reaction_loses_focus(setup, h, &h->reactions[i], &id))
            ikvi_tell_mistake(keep, setup, IKV_MISTAKE_CANNOT_FOCUS, h->name,
                              "it gives the focus to \"%.60s\", which can't "
                              "have it",
                              id);
}

static void find_mistakes_of_handler(ikv_setup *setup, const setup_handler *h)
{
    if (h->has_reactions && h->reaction_count == 0)
        found(setup, IKV_MISTAKE_DOES_NOTHING, h->name);
    find_mistakes_of_fields(setup, h);
    const char *field = ikvi_conditions_exclude(setup, h);
    if (field != NULL)
        ikvi_tell_mistake(keep, setup, IKV_MISTAKE_NEVER_MATCHES, h->name,
                          "it is never called: two of its conditions on "
                          "\"%.60s\" exclude each other",
                          field);
    find_mistakes_of_focus(setup, h);
    if (counts_moves(setup, h))
        found(setup, IKV_MISTAKE_COUNTS_MOVES, h->name);
    if (stays_muted(h))
        found(setup, IKV_MISTAKE_STAYS_MUTED, h->name);
}

/* Kinds of its own that nobody hears; false for lack of memory. */
static bool find_unused_kinds(ikv_setup *setup)
{
    bool *heard = calloc(setup->kind_count + 1u, sizeof *heard);
    uint32_t families = 0;
    for (uint32_t i = 0; heard != NULL && i < setup->handler_count; i++) {
        const setup_handler *h = &setup->handlers[i];
        families |= h->all_kinds ? UINT32_MAX : h->families;
        for (uint32_t k = 0; k < h->kind_count; k++)
            if (h->kinds[k] >= IKV_KIND_USER)
                heard[h->kinds[k] - IKV_KIND_USER] = true;
    }
    for (uint32_t k = 0; heard != NULL && k < setup->kind_count; k++) {
        const ikv_kind_info *info =
            ikv_catalogue_info(setup->catalogue, (ikv_kind)(IKV_KIND_USER + k));
        if (!heard[k] && (families >> info->family & 1) == 0)
            found(setup, IKV_MISTAKE_UNUSED_KIND, info->name);
    }
    free(heard);
    return heard != NULL;
}

static void find_mistakes_of_actions(ikv_setup *setup)
{
    for (uint32_t i = 0; i < setup->action_count; i++) {
        const setup_action *a = &setup->actions[i];
        if (json_array_size(a->bindings) == 0)
            found(setup, IKV_MISTAKE_NO_BINDING, a->name);
        if (setup->handler_count > 0 && !setup->actions_heard && !a->heard)
            found(setup, IKV_MISTAKE_UNHEARD_ACTION, a->name);
    }
}

bool ikvi_find_setup_mistakes(ikv_setup *setup)
{
    note_handlers(setup);
    note_targets(setup);
    for (uint32_t i = 0; i < setup->target_count; i++)
        find_mistakes_of_target(setup, &setup->targets[i]);
    find_mistakes_of_sensing(setup);
    find_many_inside(setup);
    for (uint32_t i = 0; i < setup->handler_count; i++)
        find_mistakes_of_handler(setup, &setup->handlers[i]);
    for (uint32_t i = 0; i < setup->group_count; i++)
        if (!setup->groups[i].used)
            found(setup, IKV_MISTAKE_EMPTY_GROUP, setup->groups[i].name);
    find_mistakes_of_actions(setup);
    /* Without handlers who hears what is the program's alone. */
    if (setup->handler_count > 0 && !find_unused_kinds(setup))
        return false;
    return ikvi_find_binding_clashes(setup, keep) && !setup->mistake_lost;
}
