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
            ikvi_reaction_note_unmuted(setup, &h->reactions[n]);
        if (h->group != NULL)
            setup->groups[h->group - setup->groups].used = true;
    }
}

static void note_targets(ikv_setup *setup)
{
    for (uint32_t i = 0; setup->targets != NULL && i < setup->target_count;
         i++) {
        const setup_target *t = &setup->targets[i];
        if (t->parent != NO_INDEX)
            setup->targets[t->parent].has_children = true;
        if ((t->config.traits & IKV_FOCUSABLE) == 0)
            continue;
        /* each is marked once: above a marked one all are */
        for (int at = (int)i; at != NO_INDEX && !setup->targets[at].has_focus;
             at = setup->targets[at].parent)
            setup->targets[at].has_focus = true;
    }
}

static bool an_ancestor_hears(const ikv_setup *setup,
                              const setup_target *target)
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
        {IKV_MISTAKE_COVERS_ONLY, !shapeless &&
                                      t->config.hit == IKV_HIT_SOLID &&
                                      !an_ancestor_hears(setup, t)},
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
    for (uint32_t bit = 0; bit < setup->tag_count; bit++)
        if ((sensed & ~borne) >> bit & 1)
            found(setup, IKV_MISTAKE_TAG_NOT_BORNE, setup->tags[bit]);
    for (uint32_t i = 0; sensed == 0 && i < setup->handler_count; i++)
        if (!setup->handlers[i].all_kinds &&
            families_of(setup, &setup->handlers[i]) >> IKV_FAMILY_OVERLAP & 1)
            found(setup, IKV_MISTAKE_NOBODY_SENSES, setup->handlers[i].name);
}

/* ------------------------------------------------------------- handlers -- */

/* Whether a reaction's target may have the field: the one that it names, those
 * that the handler is at, or any. */
static bool field_is_there(const ikv_setup *setup, const setup_handler *h,
                           const reaction *what)
{
    if (what->target_id != NULL)
        return ikvi_setup_find_field(
                   ikvi_setup_find_target(setup, what->target_id),
                   what->text) != NULL;
    for (uint32_t a = 0; a < h->at_count; a++) {
        setup_target *t = ikvi_setup_find_target(setup, h->at[a]);
        if (ikvi_setup_find_field(t, what->text) != NULL)
            return true;
    }
    return h->at_count == 0 && ikvi_setup_field_number(setup, what->text) != 0;
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

static void find_mistakes_of_handler(ikv_setup *setup, const setup_handler *h)
{
    if (h->has_reactions && h->reaction_count == 0)
        found(setup, IKV_MISTAKE_DOES_NOTHING, h->name);
    for (uint32_t i = 0; i < h->reaction_count; i++)
        if (ikvi_reaction_sets_field(&h->reactions[i]) &&
            !field_is_there(setup, h, &h->reactions[i]))
            ikvi_tell_mistake(keep, setup, IKV_MISTAKE_NO_FIELD, h->name,
                              "it sets the field \"%.60s\", which its target "
                              "does not have",
                              h->reactions[i].text);
    const char *field = ikvi_conditions_exclude(setup, h);
    if (field != NULL)
        ikvi_tell_mistake(keep, setup, IKV_MISTAKE_NEVER_MATCHES, h->name,
                          "it is never called: two of its conditions on "
                          "\"%.60s\" exclude each other",
                          field);
    if (misses_focus(setup, h))
        found(setup, IKV_MISTAKE_NO_FOCUS, h->name);
    if (stays_muted(h))
        found(setup, IKV_MISTAKE_STAYS_MUTED, h->name);
}

bool ikvi_find_setup_mistakes(ikv_setup *setup)
{
    note_handlers(setup);
    note_targets(setup);
    for (uint32_t i = 0; i < setup->target_count; i++)
        find_mistakes_of_target(setup, &setup->targets[i]);
    find_mistakes_of_sensing(setup);
    for (uint32_t i = 0; i < setup->handler_count; i++)
        find_mistakes_of_handler(setup, &setup->handlers[i]);
    for (uint32_t i = 0; i < setup->group_count; i++)
        if (!setup->groups[i].used)
            found(setup, IKV_MISTAKE_EMPTY_GROUP, setup->groups[i].name);
    for (uint32_t i = 0; i < setup->action_count; i++)
        if (json_array_size(setup->actions[i].bindings) == 0)
            found(setup, IKV_MISTAKE_NO_BINDING, setup->actions[i].name);
    return ikvi_find_binding_clashes(setup, keep) && !setup->mistake_lost;
}
