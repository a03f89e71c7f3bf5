/* why_text.c - an answer in words: sentences for people, and one JSON object
 * whose texts are the same sentences.
 */
#include "why.h"

#include "../text/write.h"

#include <stdarg.h>
#include <string.h>

/* ---------------------------------------------------------------- pieces -- */

/* A sentence that grows; what does not fit is cut off. */
typedef struct phrase {
    char *text;
    size_t size, used;
} phrase;

static void put(phrase *p, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

static void put(phrase *p, const char *format, ...)
{
    va_list list;
    if (p->used >= p->size)
        return;
    va_start(list, format);
    int length = vsnprintf(p->text + p->used, p->size - p->used, format, list);
    va_end(list);
    p->used += length > 0 ? (size_t)length : 0;
    if (p->used >= p->size)
        ikvi_cut_text(p->text);
}

static void put_target(phrase *p, const ikv_why *why, ikv_target target)
{
    put(p, "%s", ikvi_kit_target(&why->names, target));
}

static void put_number(phrase *p, double number)
{
    put(p, "%s", ikvi_number(number).text);
}

/* ns as milliseconds. */
static void put_ms(phrase *p, uint64_t ns)
{
    put(p, "%s ms", ikvi_number((double)ns / 1e6).text);
}

static const char *kind_name(const ikv_why *why, ikv_kind kind)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), kind);
    return info != NULL ? info->name : "no such kind";
}

/* ------------------------------------------------------------ conditions -- */

/* The field of that name in the event, for the names of its values. */
static const ikv_field *field_of(const ikv_why *why, const ikv_event *event,
                                 const char *name)
{
    const ikv_field *field = ikv_field_find(
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), event->kind), name);
    return field != NULL ? field : ikv_field_find(NULL, name);
}

/* "shift, control", or "none". */
static void put_mask(phrase *p, const ikv_field *field, uint64_t mask)
{
    char buffer[8];
    const char *before = "";
    put(p, "%s", mask == 0 ? "none" : "");
    for (uint32_t bit = 0; bit < 64; bit++) {
        uint64_t one = (uint64_t)1 << bit;
        const char *name =
            (mask & one) != 0 ? ikvi_json_value_name(field, one, buffer) : NULL;
        if ((mask & one) == 0)
            continue;
        if (name != NULL)
            put(p, "%s%s", before, name);
        else
            put(p, "%sbit %u", before, bit);
        before = ", ";
    }
}

/* "light, sea", or "none"; the number where nobody knows the tags' names. */
static void put_tags(phrase *p, const ikv_why *why, uint32_t tags)
{
    const ikv_setup *setup = why->names.setup;
    const char *before = "";
    if (setup == NULL) {
        put(p, "%u", (unsigned)tags);
        return;
    }
    put(p, "%s", tags == 0 ? "none" : "");
    for (uint32_t bit = 0; bit < 32; bit++) {
        if ((tags >> bit & 1) == 0)
            continue;
        const char *name = ikvi_setup_tag(setup, bit);
        if (name != NULL)
            put(p, "%s%s", before, name);
        else
            put(p, "%sbit %u", before, (unsigned)bit);
        before = ", ";
    }
}

/* By its name in the setup, else by its number. */
static void put_layer(phrase *p, const ikv_why *why, uint32_t layer)
{
    const char *name = ikvi_setup_layer(why->names.setup, layer);
    if (name != NULL)
        put(p, "layer %s", name);
    else
        put(p, "layer %u", (unsigned)layer);
}

/* By its name, where the field's values have names. */
static void put_value(phrase *p, const ikv_why *why, const ikv_field *field,
                      ikv_value value)
{
    char buffer[8];
    const char *name = NULL;
    uint32_t bits = (uint32_t)value.bits.integer;
    if (value.type == IKV_VALUE_INTEGER && field != NULL &&
        ikvi_json_is_mask(field)) {
        put_mask(p, field, (uint64_t)value.bits.integer);
        return;
    }
    if (value.type == IKV_VALUE_INTEGER && field != NULL) {
        name = ikvi_names_something(field)
                   ? ikvi_kit_name(&why->names, field, &bits)
                   : ikvi_json_value_name(field, (uint64_t)value.bits.integer,
                                          buffer);
    }
    if (name != NULL)
        put(p, "%s", name);
    else if (value.type == IKV_VALUE_INTEGER && field != NULL &&
             field->type == IKV_TYPE_U64)
        put(p, "%llu", (unsigned long long)value.bits.integer);
    else if (value.type == IKV_VALUE_INTEGER)
        put(p, "%lld", (long long)value.bits.integer);
    else if (value.type == IKV_VALUE_NUMBER)
        put_number(p, value.bits.number);
    else if (value.type == IKV_VALUE_BOOL)
        put(p, "%s", value.bits.boolean ? "true" : "false");
    else if (value.type == IKV_VALUE_TARGET)
        put_target(p, why, value.bits.target);
    else
        put(p, "nothing");
}

static void put_condition(phrase *p, const ikv_why *why, const ikv_event *event,
                          const ikv_obstacle *o)
{
    static const char *const words[IKV_COMPARISON_COUNT] = {
        "be ",   "be below ", "be at most ", "be above ", "be at least ",
        "have ", ""};
    const ikv_field *field = field_of(why, event, o->name);
    bool tags = strstr(o->name, ".tags") != NULL; /* no field of an event */
    put(p, "%s is ", o->name);
    if (tags)
        put_tags(p, why, (uint32_t)o->found.bits.integer);
    else
        put_value(p, why, field, o->found);
    if (o->comparison == IKV_CHANGED) {
        put(p, o->negated ? ", and must not have changed"
                          : ", as it was before, and must have changed");
    } else {
        put(p, ", and must %s%s", o->negated ? "not " : "",
            words[o->comparison]);
        if (tags)
            put_tags(p, why, (uint32_t)o->wanted.bits.integer);
        else
            put_value(p, why, field, o->wanted);
    }
    put(p, " (condition %u)", o->nth);
}

/* --------------------------------------------------------------- the scene -- */

/* The ancestor that is a child of `top`, or itself. */
static ikv_target beneath(const ikv_scene *scene, ikv_target target,
                          ikv_target top)
{
    for (;;) {
        ikv_target parent = ikv_scene_parent(scene, target);
        if (parent.bits == 0 || parent.bits == top.bits)
            return target;
        target = parent;
    }
}

static bool is_within(const ikv_scene *scene, ikv_target target, ikv_target top)
{
    for (; target.bits != 0; target = ikv_scene_parent(scene, target))
        if (target.bits == top.bits)
            return true;
    return false;
}

/* "quay, which lamp is in, has z 1". */
static void put_z(phrase *p, const ikv_why *why, ikv_target ancestor,
                  ikv_target target)
{
    put_target(p, why, ancestor);
    if (ancestor.bits != target.bits) {
        put(p, ", which ");
        put_target(p, why, target);
        put(p, " is in,");
    }
    put(p, " has z %ld", (long)ikv_scene_z(why->scene, ancestor));
}

/* Who lies above whom is settled where their ancestors are siblings. */
static void put_stacking(phrase *p, const ikv_why *why, ikv_target top,
                         ikv_target target)
{
    const ikv_scene *scene = why->scene;
    if (scene == NULL || !ikv_scene_alive(scene, top) ||
        !ikv_scene_alive(scene, target))
        return;
    uint32_t high = ikv_scene_layer(scene, top);
    uint32_t low = ikv_scene_layer(scene, target);
    if (high != low) {
        put(p, ": it is in ");
        put_layer(p, why, high);
        put(p, ", above ");
        put_layer(p, why, low);
        return;
    }
    ikv_target shared = top;
    while (shared.bits != 0 && !is_within(scene, target, shared))
        shared = ikv_scene_parent(scene, shared);
    if (shared.bits == target.bits) {
        put(p, ": it is a part of it");
        return;
    }
    ikv_target a = beneath(scene, top, shared);
    ikv_target b = beneath(scene, target, shared);

    put(p, ": ");
    put_z(p, why, a, top);
    put(p, "; ");
    put_z(p, why, b, target);
    if (ikv_scene_z(scene, a) == ikv_scene_z(scene, b))
        put(p, ", and was added before it");
}

static void put_outside(phrase *p, const ikv_why *why, const ikv_event *event,
                        ikv_target target, const ikv_obstacle *o)
{
    float layer[2], x = event->pointer.x, y = event->pointer.y;
    put(p, "(");
    put_number(p, (double)x);
    put(p, ", ");
    put_number(p, (double)y);
    put(p, ") is ");
    if (o->found.type == IKV_VALUE_NUMBER) {
        put_number(p, o->found.bits.number);
        put(p, " units ");
    }
    put(p, "outside ");
    put_target(p, why, target);
    if (why->scene == NULL)
        return;
    uint32_t of = ikv_scene_layer(why->scene, target);
    if (!ikv_scene_to_layer(why->scene, of, event->view, x, y, layer) ||
        (layer[0] == x && layer[1] == y))
        return;
    put(p, ": through the camera of ");
    put_layer(p, why, of);
    put(p, " it is at (");
    put_number(p, (double)layer[0]);
    put(p, ", ");
    put_number(p, (double)layer[1]);
    put(p, ") there");
}

/* ---------------------------------------------------------- all sentences -- */

static void put_rest(phrase *p, const ikv_obstacle *o)
{
    put(p, "its last call was ");
    put_ms(p, (uint64_t)o->found.bits.integer);
    put(p, " before: at least ");
    put_ms(p, (uint64_t)o->wanted.bits.integer);
    put(p, " must lie between two");
}

/* "it was muted by the handler "grab" at 150 ms", as far as that is known. */
static void put_change(phrase *p, const char *what, const ikv_obstacle *o)
{
    put(p, "%s", what);
    if (o->since_ns == 0 && o->name == NULL) {
        put(p, " from the beginning");
        return;
    }
    if (o->name != NULL && o->name[0] != '\0')
        put(p, " by the handler \"%s\"", o->name);
    put(p, " at ");
    put_ms(p, o->since_ns);
}

static void put_stop(phrase *p, const ikv_why *why, const ikv_obstacle *o)
{
    put(p, "the handler \"%s\" at ", o->name);
    put_target(p, why, o->by);
    put(p, " returned %s",
        ikvi_verdict_name((ikv_verdict)o->found.bits.integer));
    if (o->wanted.type == IKV_VALUE_NONE)
        return;
    /* both are at one target */
    int64_t theirs = o->wanted.bits.integer;
    int64_t ours =
        ikv_bus_subscription_rank(why->bus, why->config.subscription);
    if (theirs < ours)
        put(p, "; it comes first by its rank: %lld, this one's is %lld",
            (long long)theirs, (long long)ours);
    else if (theirs == ours)
        put(p, "; it comes first, as it subscribed first");
}

/* -------------------------------------------------------- actions, overlaps -- */

/* The nth of a chord's parts, as its text has it. */
static void put_part(phrase *p, const ikv_why *why, ikv_binding binding,
                     uint32_t nth)
{
    char text[IKV_BINDING_BYTES];
    if (ikv_binding_text(why->actions, binding, text, sizeof text) == 0)
        return;
    char *part = text;
    while (nth-- > 1 && strchr(part, '+') != NULL)
        part = strchr(part, '+') + 1;
    put(p, "%.*s", (int)strcspn(part, "+"), part);
}

static void put_scope(phrase *p, const ikv_why *why, const ikv_obstacle *o)
{
    const uint32_t wanted = (uint32_t)o->wanted.bits.integer;
    const char *by = ikvi_kit_target(&why->names, o->by);
    switch (o->nth) {
    case IKV_IN_LAYER:
        put(p, "it is not in ");
        put_layer(p, why, wanted);
        break;
    case IKV_TAGGED:
        put(p, "it bears none of the tags that the binding asks for: ");
        put_tags(p, why, wanted);
        break;
    case IKV_ON_BODY:
        put(p, "it is no piece of %s", by);
        break;
    case IKV_FOCUSED:
        if (o->by.bits == 0)
            put(p, "nothing has the focus");
        else
            put(p, "the focus is not within %s", by);
        break;
    default:
        put(p, "it is not within %s", by);
        break;
    }
}

static bool put_of_action(phrase *p, const ikv_why *why,
                          const ikv_why_answer *answer, const ikv_obstacle *o)
{
    switch (o->code) {
    case IKV_WHY_UNBOUND:
        put(p, "the action has no binding");
        return true;
    case IKV_WHY_CLAIMED:
        put(p, "a handler stopped it, or it was typed, at ");
        put_target(p, why, o->by);
        return true;
    case IKV_WHY_SET_OFF:
        put(p, "its set \"%s\" is switched off", o->name);
        return true;
    case IKV_WHY_SCOPE:
        put_scope(p, why, o);
        return true;
    case IKV_WHY_NOT_HELD:
        put_part(p, why, answer->binding, o->nth);
        put(p, " is not held");
        return true;
    case IKV_WHY_WEAK:
        put(p, "it is not pushed far enough: after its dead zone it is at ");
        put_number(p, o->found.bits.number);
        return true;
    case IKV_WHY_LONGER:
        put(p, "a chord of %lld parts has it, of the action \"%s\"",
            (long long)o->found.bits.integer, o->name);
        return true;
    default:
        return false;
    }
}

static bool put_of_overlap(phrase *p, const ikv_why *why,
                           const ikv_why_answer *answer, const ikv_obstacle *o)
{
    const bool sided = o->code == IKV_WHY_DISABLED ||
                       o->code == IKV_WHY_HIDDEN || o->code == IKV_WHY_NO_SHAPE;
    if (sided && o->by.bits != 0) {
        put_target(p, why, o->by);
        put(p, o->code == IKV_WHY_DISABLED ? " is disabled: it overlaps nothing"
               : o->code == IKV_WHY_HIDDEN ? " is hidden"
                                           : " has no shape");
    } else if (o->code == IKV_WHY_SAME_BODY) {
        put(p, "both are pieces of ");
        put_target(p, why, o->by);
    } else if (o->code == IKV_WHY_SENSES) {
        put(p, "neither ");
        put_target(p, why, answer->of);
        put(p, " nor ");
        put_target(p, why, o->by);
        put(p, " senses a tag of the other");
    } else if (o->code == IKV_WHY_LAYER) {
        put_target(p, why, o->by);
        put(p, " is in ");
        put_layer(p, why, (uint32_t)o->found.bits.integer);
        put(p, ", ");
        put_target(p, why, answer->of);
        put(p, " in ");
        put_layer(p, why, (uint32_t)o->wanted.bits.integer);
    } else if (o->code == IKV_WHY_APART) {
        put_target(p, why, answer->of);
        put(p, " and ");
        put_target(p, why, o->by);
        put(p, " are ");
        put_number(p, o->found.bits.number);
        put(p, " units apart");
    } else {
        return false;
    }
    return true;
}

/* What is known beside the obstacle's own text. */
static void put_more(phrase *p, const ikv_why *why,
                     const ikv_why_answer *answer, const ikv_obstacle *o)
{
    const char *by = ikvi_kit_target(&why->names, o->by);
    switch (o->code) {
    case IKV_WHY_CONDITION:
        put_condition(p, why, &answer->event, o);
        break;
    case IKV_WHY_MUTED:
        put_change(p, "it is muted", o);
        break;
    case IKV_WHY_ENDED:
        put_change(p, "it was ended", o);
        break;
    case IKV_WHY_LIMIT:
        put(p, "its last call, by its limit, was at ");
        put_ms(p, o->since_ns);
        break;
    case IKV_WHY_PLACE:
        put(p,
            o->wanted.bits.integer != 0
                ? "%s bears none of the tags that it asks for: "
                : "%s is a piece of another body",
            by);
        if (o->wanted.bits.integer != 0)
            put_tags(p, why, (uint32_t)o->wanted.bits.integer);
        break;
    case IKV_WHY_PATH:
        put(p, "it went to %s", by);
        break;
    case IKV_WHY_PHASE:
        put(p, "it comes by %s, in a phase that the handler does not name", by);
        break;
    case IKV_WHY_AFTER:
        put(p, "it leaves out this one");
        if (o->found.bits.integer > 1)
            put(p, " and %lld more", (long long)o->found.bits.integer - 1);
        break;
    case IKV_WHY_AT_MOST:
        put(p, "it was called in %s %lld already", o->name,
            (long long)o->found.bits.integer);
        break;
    case IKV_WHY_GAP:
        put_rest(p, o);
        break;
    case IKV_WHY_PARENT_HIDDEN:
        put(p, "%s, which it is in, is hidden", by);
        break;
    case IKV_WHY_OUTSIDE:
        put_outside(p, why, &answer->event, answer->of, o);
        break;
    case IKV_WHY_CLIPPED:
        put(p, "the point is outside %s, which clips what is in it", by);
        break;
    case IKV_WHY_COVERED:
        put(p, "%s lies above it there", by);
        if (why->scene != NULL &&
            ikv_scene_hit(why->scene, o->by) == IKV_HIT_PASS)
            put(p, ", and passes on presses, moves and wheels alone, to no "
                   "ancestors");
        put_stacking(p, why, o->by, answer->of);
        break;
    case IKV_WHY_CAPTURED:
        put(p, "%s has captured the pointer", by);
        if (o->since_ns > 0) {
            put(p, " since ");
            put_ms(p, o->since_ns);
        }
        break;
    case IKV_WHY_MODAL:
        put(p, "%s is modal, and keeps the rest out", by);
        break;
    case IKV_WHY_FOCUS:
        put(p,
            strcmp(by, "root") == 0
                ? "nobody has the focus: keys go to the root"
                : "%s has the focus",
            by);
        break;
    case IKV_WHY_STOPPED:
        put_stop(p, why, o);
        break;
    case IKV_WHY_PRESSED:
        put(p, "the press was on %s: a click needs both", by);
        break;
    case IKV_WHY_WAITING:
        put(p, "the lane \"%s\" has not been flushed since", o->name);
        break;
    case IKV_WHY_DROPPED:
        put(p, "it waited on the lane \"%s\", and its target has gone",
            o->name);
        break;
    case IKV_WHY_REFUSED:
        put(p, "it was not delivered: %s",
            ikv_status_text((ikv_status)o->found.bits.integer));
        break;
    default:
        put(p, "%s", ikv_obstacle_text(o->code));
        break;
    }
}

void ikvi_why_sentence(const ikv_why *why, const ikv_why_answer *answer,
                       const ikv_obstacle *obstacle, char *text, size_t size)
{
    phrase p = {text, size, 0};
    if (!put_of_action(&p, why, answer, obstacle) &&
        !put_of_overlap(&p, why, answer, obstacle))
        put_more(&p, why, answer, obstacle);
}

/* --------------------------------------------------------------- printing -- */

/* What each question is about and asks for, in words. */
static const struct about_row {
    const char *name, *yes, *by, *no;
} about_rows[] = {
    [IKV_ASK_HANDLER] = {"handler", "was called", "event", "was not called"},
    [IKV_ASK_TARGET] = {"target", "was hit", "event", "was not hit"},
    [IKV_ASK_ACTION] = {"action", "started", "press", "did not start"},
    [IKV_ASK_OVERLAP] = {"overlap", "came into contact", "step",
                         "did not come into contact"},
};

static void put_subject(phrase *p, const ikv_why *why)
{
    if (why->subject != NULL) {
        put(p, "%s", why->subject);
        return;
    }
    put_target(p, why, why->config.target);
    if (why->config.about == IKV_ASK_OVERLAP) {
        put(p, " and ");
        put_target(p, why, why->config.other);
    }
}

static void print_event(const ikv_why *why, const ikv_why_answer *a, FILE *file)
{
    char text[IKV_BINDING_BYTES], shown[512];
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), a->event.kind);
    fprintf(file, "Nearest: %s%sat %s ms", info != NULL ? info->name : "",
            info != NULL ? " " : "",
            ikvi_number((double)a->event.time_ns / 1e6).text);
    if (a->step > 0)
        fprintf(file, ", step %llu", (unsigned long long)a->step);
    if (info != NULL && info->positioned)
        fprintf(file, ", at (%s, %s)",
                ikvi_number((double)a->event.pointer.x).text,
                ikvi_number((double)a->event.pointer.y).text);
    if (a->at.bits != 0)
        fprintf(file, ", to %s",
                ikv_shown_text(ikvi_kit_target(&why->names, a->at), shown,
                               sizeof shown));
    if (a->binding.bits != 0 &&
        ikv_binding_text(why->actions, a->binding, text, sizeof text) > 0)
        fprintf(file, ", for %s", text);
    fprintf(file, ".\n");
}

static void print_bindings(const ikv_why *why, FILE *file)
{
    char text[IKV_BINDING_BYTES];
    ikv_binding binding;
    for (uint32_t nth = 0;
         (binding = ikv_actions_binding(why->actions, why->config.action, nth))
             .bits != 0;
         nth++)
        if (ikv_binding_text(why->actions, binding, text, sizeof text) > 0)
            fprintf(file, "%s%s", nth == 0 ? ": " : ", ", text);
}

/* What would have been such: a few kinds, of many there is nothing to read; or
 * an action's bindings. */
static void print_awaited(const ikv_why *why, FILE *file)
{
    uint32_t count = 0, told = 0;
    if (why->config.about == IKV_ASK_ACTION)
        print_bindings(why, file);
    for (uint32_t kind = 0; kind < why->kind_room; kind++)
        count += why->hears[kind];
    for (uint32_t kind = 0; count <= 8 && kind < why->kind_room; kind++)
        if (why->hears[kind])
            fprintf(file, "%s%s", told++ == 0 ? ": " : ", ",
                    kind_name(why, (ikv_kind)kind));
}

static void print_text(const ikv_why *why, const ikv_why_answer *a, FILE *file)
{
    const struct about_row *row = &about_rows[why->config.about];
    char text[512], subject[256], shown[1024];
    phrase who = {subject, sizeof subject, 0};
    put_subject(&who, why);
    if (a->called > 0) {
        const char *more = a->missed == 1                        ? ""
                           : why->config.about == IKV_ASK_ACTION ? "es"
                                                                 : "s";
        fprintf(file, "%s %s %llu time%s; %llu %s%s passed by.\n",
                ikv_shown_text(subject, shown, sizeof shown), row->yes,
                (unsigned long long)a->called, a->called == 1 ? "" : "s",
                (unsigned long long)a->missed, row->by, more);
        if (a->merged > 0)
            fprintf(file,
                    "%llu more moves came in, and were merged into later "
                    "ones.\n",
                    (unsigned long long)a->merged);
        return;
    }
    fprintf(file, "%s %s.\n", ikv_shown_text(subject, shown, sizeof shown),
            row->no);
    if (a->missed > 0 || a->event.kind != IKV_KIND_NONE)
        print_event(why, a, file);
    for (uint32_t i = 0; i < a->count; i++) {
        ikvi_why_sentence(why, a, &a->obstacles[i], text, sizeof text);
        fprintf(file, "  %u. %s: %s", i + 1,
                ikv_obstacle_name(a->obstacles[i].code),
                ikv_shown_text(text, shown, sizeof shown));
        if (a->obstacles[i].code == IKV_WHY_NO_EVENT)
            print_awaited(why, file);
        fprintf(file, ".\n");
    }
}

/* --------------------------------------------------------------------- JSON -- */

static void write_number_or_null(json_writer *w, const char *name,
                                 ikv_value value)
{
    if (value.type == IKV_VALUE_NONE)
        return;
    ikvi_write_name(w, name);
    if (value.type == IKV_VALUE_BOOL)
        ikvi_write_bool(w, value.bits.boolean);
    else if (value.type == IKV_VALUE_NUMBER)
        ikvi_write_number(w, value.bits.number, false);
    else if (value.type == IKV_VALUE_TARGET)
        ikvi_write_integer(w, value.bits.target.bits);
    else
        ikvi_write_integer(w, value.bits.integer);
}

void ikvi_why_write_obstacle(json_writer *w, const ikv_why *why,
                             const ikv_why_answer *a, const ikv_obstacle *o)
{
    char text[512];
    ikvi_why_sentence(why, a, o, text, sizeof text);
    ikvi_write_object(w);
    ikvi_write_name(w, "code");
    ikvi_write_text(w, ikv_obstacle_name(o->code));
    if (o->by.bits != 0) {
        ikvi_write_name(w, "by");
        ikvi_write_text(w, ikvi_kit_target(&why->names, o->by));
    }
    if (o->code == IKV_WHY_CONDITION) {
        ikvi_write_name(w, "condition");
        ikvi_write_integer(w, o->nth);
        ikvi_write_name(w, "field");
        ikvi_write_text(w, o->name);
    }
    if (o->name != NULL && o->code != IKV_WHY_CONDITION) {
        ikvi_write_name(w, "name");
        ikvi_write_text(w, o->name);
    }
    if (o->since_ns > 0) {
        ikvi_write_name(w, "since");
        ikvi_write_ms(w, o->since_ns);
    }
    write_number_or_null(w, "found", o->found);
    write_number_or_null(w, o->code == IKV_WHY_STOPPED ? "rank" : "wanted",
                         o->wanted);
    ikvi_write_name(w, "text");
    ikvi_write_text(w, text);
    ikvi_write_close_object(w);
}

static void write_event(json_writer *w, const ikv_why *why,
                        const ikv_why_answer *a)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(why->bus), a->event.kind);
    ikvi_write_name(w, "event");
    ikvi_write_object(w);
    if (info != NULL) {
        ikvi_write_name(w, "kind");
        ikvi_write_text(w, info->name);
    }
    ikvi_write_name(w, "t");
    ikvi_write_ms(w, a->event.time_ns);
    ikvi_write_name(w, "step");
    ikvi_write_integer(w, (int64_t)a->step);
    if (a->at.bits != 0) {
        ikvi_write_name(w, "target");
        ikvi_write_text(w, ikvi_kit_target(&why->names, a->at));
    }
    for (uint32_t i = 0; info != NULL && i < info->field_count; i++) {
        ikvi_write_name(w, info->fields[i].name);
        ikvi_write_field(w, &info->fields[i], &a->event, ikvi_kit_name,
                         &why->names);
    }
    ikvi_write_close_object(w);
}

static bool print_json(const ikv_why *why, const ikv_why_answer *a, FILE *file)
{
    json_writer w;
    char subject[256];
    phrase who = {subject, sizeof subject, 0};
    put_subject(&who, why);
    ikvi_write_begin(&w, file, true);
    ikvi_write_object(&w);
    ikvi_write_name(&w, about_rows[why->config.about].name);
    ikvi_write_text(&w, subject);
    ikvi_write_name(&w, "called");
    ikvi_write_integer(&w, (int64_t)a->called);
    ikvi_write_name(&w, "missed");
    ikvi_write_integer(&w, (int64_t)a->missed);
    if (a->merged > 0) {
        ikvi_write_name(&w, "merged");
        ikvi_write_integer(&w, (int64_t)a->merged);
    }
    if (a->count > 0 && (a->missed > 0 || a->event.kind != IKV_KIND_NONE))
        write_event(&w, why, a);
    ikvi_write_name(&w, "obstacles");
    ikvi_write_list(&w);
    for (uint32_t i = 0; i < a->count; i++)
        ikvi_why_write_obstacle(&w, why, a, &a->obstacles[i]);
    ikvi_write_close_list(&w);
    ikvi_write_close_object(&w);
    ikvi_write_end(&w);
    return !w.failed;
}

ikv_status ikv_why_print(const ikv_why *why, void *file, uint32_t form)
{
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    if (why == NULL || file == NULL || form > IKV_PRINT_JSON)
        return IKV_BAD_ARGUMENT;
    ikv_why_ask(why, &answer);
    bool whole = true;
    if (form == IKV_PRINT_JSON)
        whole = print_json(why, &answer, file);
    else
        print_text(why, &answer, file);
    return whole && ferror((FILE *)file) == 0 ? IKV_OK : IKV_BAD_FILE;
}
