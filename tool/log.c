/* log.c - the readable log of a run: time, step, what came in, who heard it and
 * in which phase, what they did, and what nobody heard.
 *
 * An event's line is printed when its first handler is called; one that nobody
 * hears joins a list, which is printed in one go before the next line.
 */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <math.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

enum {
    DEPTHS = 64,
    WIDTH = 100,
    MARGIN = 28
};

struct run_log {
    FILE *file;
    ikv_kit *kit;
    ikv_setup *setup;
    bool colour;
    bool shown[DEPTHS]; /* whether the event's line has been printed */
    uint32_t depth;
    char unheard[4096];
    size_t unheard_length;
    uint64_t unheard_ns, unheard_step;
    uint64_t latest_ns; /* of all that was printed */
    ikv_kind unheard_kind;
    uint64_t handler_count;
};

enum ink {
    PLAIN,
    STRONG,
    FAINT,
    NOTE,
    ALERT
};

static const char *ink(const run_log *log, enum ink which)
{
    static const char *const codes[] = {"\033[0m", "\033[1m", "\033[2m",
                                        "\033[36m", "\033[33m"};
    return log->colour ? codes[which] : "";
}

/* ----------------------------------------------------------- describing -- */

/* A name of the setup's; valid until eight later ones. */
static const char *shown(const char *name)
{
    static char texts[8][256];
    static unsigned turn;
    /* enough for all names of one line */
    turn = (turn + 1) % 8;
    return ikv_shown_text(name, texts[turn], sizeof texts[turn]);
}

static const char *name_of(const run_log *log, ikv_target target)
{
    return shown(ikv_setup_target_name(log->setup, target));
}

static void append(char *to, size_t size, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

static void append(char *to, size_t size, const char *format, ...)
{
    size_t used = strlen(to);
    va_list list;
    va_start(list, format);
    /* cut off where there is no room: a log is for people */
    vsnprintf(to + used, size - used, format, list);
    va_end(list);
}

/* To two decimals: enough for people; a trace has all of them. */
static void append_number(char *to, size_t size, double value)
{
    char text[32];
    bool has_decimals = fabs(value) < 1e15;
    ikv_number_format(has_decimals ? round(value * 100) / 100 : value, false,
                      text);
    append(to, size, "%s", text);
}

static void describe_pointer(const ikv_event *event, char *to, size_t size)
{
    static const char *const buttons[] = {"primary", "middle",  "secondary",
                                          "back",    "forward", "eraser"};
    const ikv_pointer_data *p = &event->pointer;
    const char *type = ikv_value_name(IKV_SET_POINTER_TYPE, p->type);
    append(to, size, "%s", type != NULL ? type : "pointer");
    /* there is one mouse and one pen, but ten fingers */
    if (p->type == IKV_TOUCH)
        append(to, size, " %u", p->pointer);
    if (p->button > IKV_ERASER_BUTTON)
        append(to, size, " button %d", p->button);
    else if (p->button > 0)
        append(to, size, " %s", buttons[p->button]);
    append(to, size, " at ");
    append_number(to, size, (double)p->x);
    append(to, size, ", ");
    append_number(to, size, (double)p->y);
}

static void describe_key(const ikv_event *event, char *to, size_t size)
{
    const char *code = ikv_code_name(event->key.code);
    append(to, size, "%s", code != NULL ? code : "unknown key");
    const char *name;
    uint64_t bit;
    for (uint32_t i = 0;
         (name = ikv_value_list(IKV_SET_MODIFIERS, i, &bit)) != NULL; i++)
        if (event->modifiers & bit)
            append(to, size, " %s", name);
    if (event->flags & IKV_REPEAT)
        append(to, size, " repeat");
}

static void describe_value(const run_log *log, const ikv_field *field,
                           ikv_value value, char *to, size_t size)
{
    if (value.type == IKV_VALUE_BOOL)
        append(to, size, "%s", value.bits.boolean ? "true" : "false");
    else if (value.type == IKV_VALUE_NUMBER)
        append_number(to, size, value.bits.number);
    else if (value.type == IKV_VALUE_TARGET)
        append(to, size, "%s", name_of(log, value.bits.target));
    else if (field->type == IKV_TYPE_U64)
        append(to, size, "%llu", (unsigned long long)value.bits.integer);
    else
        append(to, size, "%lld", (long long)value.bits.integer);
}

/* The names of what a mask holds. */
static void describe_mask(const ikv_field *field, uint64_t mask, char *to,
                          size_t size)
{
    const char *name, *between = "";
    uint64_t bit;
    for (uint32_t i = 0; (name = ikv_value_list(field->set, i, &bit)) != NULL;
         i++)
        if ((mask & bit) == bit) {
            append(to, size, "%s%s", between, name);
            between = "+";
        }
}

static void describe_fields(const run_log *log, const ikv_event *event,
                            const ikv_kind_info *info, char *to, size_t size)
{
    for (uint32_t i = 0; i < info->field_count; i++) {
        const ikv_field *field = &info->fields[i];
        uint32_t length;
        const char *text = ikv_field_text(field, event, &length);
        ikv_value value = ikv_field_get(field, event);
        uint64_t number = (uint64_t)value.bits.integer;
        bool named =
            value.type == IKV_VALUE_INTEGER && field->set != IKV_SET_NONE;
        const char *name =
            !named ? NULL
            : field->set == IKV_SET_FIELD
                ? ikv_setup_field_name(log->setup, (uint32_t)number)
                : ikv_value_name(field->set, number);
        /* what is zero and has no name says nothing */
        if (name == NULL &&
            (text != NULL ? length == 0 : value.bits.integer == 0))
            continue;
        append(to, size, "%s%s ", to[0] != '\0' ? ", " : "", field->name);
        if (text != NULL)
            append(to, size, "\"%.*s\"", (int)length, text);
        else if (name != NULL)
            append(to, size, "%s", name);
        else if (named && strcmp(field->unit, "mask") == 0)
            describe_mask(field, number, to, size);
        else
            describe_value(log, field, value, to, size);
    }
}

/* "with ferry, 2 pieces", for a leave also how long and why. */
static void describe_overlap(const run_log *log, const ikv_event *event,
                             char *to, size_t size)
{
    const ikv_overlap_data *v = &event->overlap;
    append(to, size, "with %s", name_of(log, event->source));
    if (v->scope == IKV_OVERLAP_OF_BODIES && v->count > 0)
        append(to, size, ", %u piece%s", v->count, v->count > 1 ? "s" : "");
    if (v->steps > 0)
        append(to, size, ", for %u step%s", v->steps, v->steps > 1 ? "s" : "");
    if (v->reason != IKV_OVERLAP_APART)
        append(to, size, ", %s",
               ikv_value_name(IKV_SET_OVERLAP_REASON, v->reason));
}

/* "foghorn by KeyF"; how far, where that says something. */
static void describe_action(const run_log *log, const ikv_event *event,
                            char *to, size_t size)
{
    const ikv_action_data *a = &event->action;
    const char *name =
        ikv_actions_name(ikv_kit_actions(log->kit), (ikv_action_id){a->action});
    ikv_binding binding =
        ikv_actions_binding_of(ikv_kit_actions(log->kit), event);
    char text[IKV_BINDING_BYTES];
    /* it can be removed while it is held */
    append(to, size, "%s", name != NULL ? name : "gone");
    if (ikv_binding_text(ikv_kit_actions(log->kit), binding, text,
                         sizeof text) > 0)
        append(to, size, " by %s", text);
    if (a->y < 0 || a->y > 0) {
        append(to, size, ", ");
        append_number(to, size, (double)a->x);
        append(to, size, ", ");
        append_number(to, size, (double)a->y);
    } else if (a->value < 1 || a->value > 1) {
        /* a full press is the common case: not said */
        append(to, size, ", ");
        append_number(to, size, (double)a->value);
    }
    if (a->steps > 0)
        append(to, size, ", for %u step%s", a->steps, a->steps > 1 ? "s" : "");
}

static void describe(const run_log *log, const ikv_event *event, char *to,
                     size_t size)
{
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_setup_catalogue(log->setup), event->kind);
    to[0] = '\0';
    if (info->family == IKV_FAMILY_POINTER || info->family == IKV_FAMILY_CLICK)
        describe_pointer(event, to, size);
    else if (info->family == IKV_FAMILY_KEY)
        describe_key(event, to, size);
    else if (info->family == IKV_FAMILY_OVERLAP)
        describe_overlap(log, event, to, size);
    else if (info->family == IKV_FAMILY_ACTION)
        describe_action(log, event, to, size);
    else if (info->family != IKV_FAMILY_LOOP)
        describe_fields(log, event, info, to, size);
    if (event->source.bits != 0 && info->family == IKV_FAMILY_POINTER)
        append(to, size, " (related: %s)", name_of(log, event->source));
}

/* ------------------------------------------------------------- printing -- */

/* What comes later than it was made, a deferred event for instance, stands at
 * its place: lines never run backwards in time. */
static void print_time(run_log *log, uint64_t time_ns, uint64_t step)
{
    /* a deferred event keeps the time at which it was made */
    if (time_ns > log->latest_ns)
        log->latest_ns = time_ns;
    time_ns = log->latest_ns;
    fprintf(log->file, "%s%10.3f ms  step %-4llu%s ", ink(log, FAINT),
            (double)time_ns / 1e6, (unsigned long long)step, ink(log, PLAIN));
}

static void flush_unheard(run_log *log)
{
    if (log->unheard_length == 0)
        return;
    print_time(log, log->unheard_ns, log->unheard_step);
    fprintf(log->file, "%snobody heard  %s%s\n", ink(log, FAINT), log->unheard,
            ink(log, PLAIN));
    log->unheard_length = 0;
    log->unheard[0] = '\0';
    log->unheard_kind = IKV_KIND_NONE;
}

static const char *kind_name(const run_log *log, const ikv_event *event)
{
    return ikv_catalogue_info(ikv_setup_catalogue(log->setup), event->kind)
        ->name;
}

/* Joins the list: "pointer.enter root, quay; pointer.down lamp". It goes on on
 * a new line when it is long. */
static void add_unheard(run_log *log, const ikv_watch *watch)
{
    char item[512];
    const ikv_event *event = watch->event;
    /* a frame's end is where a list ends too */
    if (event->kind == IKV_KIND_LOOP_FRAME)
        flush_unheard(log);
    if (event->kind == IKV_KIND_LOOP_STEP ||
        event->kind == IKV_KIND_LOOP_FRAME ||
        event->kind == IKV_KIND_ACTION_HOLD ||
        event->kind == IKV_KIND_OVERLAP_INSIDE)
        return; /* each step */
    bool again = event->kind == log->unheard_kind;
    snprintf(item, sizeof item, "%s%s%s", again ? ", " : kind_name(log, event),
             again ? "" : " ", name_of(log, event->target));
    /* of one moment, and as long as a line */
    if (log->unheard_length > 0 &&
        (log->unheard_ns != event->time_ns ||
         log->unheard_length + strlen(item) > WIDTH - 38)) {
        flush_unheard(log);
        again = false;
        snprintf(item, sizeof item, "%s %s", kind_name(log, event),
                 name_of(log, event->target));
    }
    append(log->unheard, sizeof log->unheard, "%s%s",
           log->unheard_length > 0 && !again ? "; " : "", item);
    log->unheard_ns = event->time_ns;
    log->unheard_step = watch->delivery->step;
    log->unheard_kind = event->kind;
    log->unheard_length = strlen(log->unheard);
}

/* A delivery inside a handler is indented by two levels: itself, and what its
 * handlers do. */
static void indent(const run_log *log, uint32_t level)
{
    fprintf(log->file, "%*s", (int)(MARGIN + 3 * level), "");
}

/* Its first bytes, up to where a code point begins. */
static void describe_data(const ikv_delivery *delivery, char *to, size_t size)
{
    enum {
        BEGIN = 60
    };
    const char *data = delivery->data;
    uint32_t length = delivery->data_size, begin = length;
    if (length == 0)
        return;
    if (memchr(data, 0, length) != NULL) {
        append(to, size, "%sdata of %u bytes", to[0] != '\0' ? ", " : "",
               length);
        return;
    }
    if (begin > BEGIN)
        for (begin = BEGIN; begin > 0 && (data[begin] & 0xc0) == 0x80;)
            begin--;
    append(to, size, "%sdata \"%.*s\"", to[0] != '\0' ? ", " : "", (int)begin,
           data);
    if (begin < length)
        append(to, size, " and more, %u bytes", length);
}

static void print_event(run_log *log, const ikv_watch *watch)
{
    char told[1024], what[2048];
    const ikv_event *event = watch->event;
    describe(log, event, told, sizeof told);
    describe_data(watch->delivery, told, sizeof told);
    ikv_shown_text(told, what, sizeof what);
    flush_unheard(log);
    /* inside a handler the time is the outer line's */
    if (watch->depth <= 1)
        print_time(log, event->time_ns, watch->delivery->step);
    else
        indent(log, 2 * watch->depth - 3);
    fprintf(log->file, "%s%s%s", ink(log, STRONG), kind_name(log, event),
            ink(log, PLAIN));
    /* the root is where everything is */
    if (event->target.bits != ikv_bus_root(ikv_kit_bus(log->kit)).bits)
        fprintf(log->file, " on %s", name_of(log, event->target));
    if (what[0] != '\0')
        fprintf(log->file, "  %s%s%s", ink(log, FAINT), what, ink(log, PLAIN));
    if (watch->depth <= 1 && event->time_ns < log->latest_ns)
        fprintf(log->file, "  %sof %.3f ms%s", ink(log, FAINT),
                (double)event->time_ns / 1e6, ink(log, PLAIN));
    fputc('\n', log->file);
    log->shown[watch->depth] = true;
}

static void print_call(run_log *log, const ikv_watch *watch)
{
    static const char *const phases[] = {"", "capturing, ", "", "",
                                         "bubbling, "};
    if (watch->depth >= DEPTHS)
        return;
    if (!log->shown[watch->depth])
        print_event(log, watch);
    /* also of events whose line is above */
    log->handler_count++;
    log->depth = watch->depth;
    indent(log, 2 * watch->depth - 2);
    fprintf(log->file, "%s%sat %s: %s%s\n",
            watch->delivery->flags & IKV_PASSED ? "passed on, " : "",
            phases[watch->delivery->phase & 7],
            name_of(log, watch->delivery->current), shown(watch->name),
            watch->name[0] == '\0' ? "(a handler without a name)" : "");
}

static void print_return(run_log *log, const ikv_watch *watch)
{
    static const struct {
        ikv_verdict bit;
        const char *text;
    } verdicts[] = {{IKV_STOP, "stopped here"},
                    {IKV_STOP_ALL, "stopped at once"},
                    {IKV_REFUSE, "refused what would follow"},
                    {IKV_ACCEPT, "accepted what is dragged"}};
    for (size_t i = 0; i < sizeof verdicts / sizeof verdicts[0]; i++) {
        if ((watch->verdict & verdicts[i].bit) == 0)
            continue;
        indent(log, 2 * watch->depth - 1);
        fprintf(log->file, "%s%s%s\n", ink(log, ALERT), verdicts[i].text,
                ink(log, PLAIN));
    }
    /* notes from now on are of the outer handler */
    log->depth = watch->depth - 1;
}

static void print_note(const char *note, void *user)
{
    run_log *log = user;
    char few[1024];
    /* what a setup logs may be of any length */
    size_t room = 4 * strlen(note) + 8;
    char *shown = room > sizeof few ? malloc(room) : few;
    indent(log, log->depth > 0 ? 2 * log->depth - 1 : 0);
    fprintf(log->file, "%s%s%s\n", ink(log, NOTE),
            shown != NULL ? ikv_shown_text(note, shown, room)
                          : ikv_shown_text(note, few, sizeof few),
            ink(log, PLAIN));
    if (shown != few)
        free(shown);
}

static void watch_run(const ikv_watch *watch, void *user)
{
    run_log *log = user;
    switch (watch->what) {
    case IKV_WATCH_EVENT:
        if (watch->depth < DEPTHS)
            log->shown[watch->depth] = false;
        break;
    case IKV_WATCH_CALL:
        print_call(log, watch);
        break;
    case IKV_WATCH_RETURN:
        print_return(log, watch);
        break;
    case IKV_WATCH_DONE:
        if (watch->heard == 0)
            add_unheard(log, watch);
        log->depth = watch->depth - 1;
        break;
    case IKV_WATCH_DROP:
        flush_unheard(log);
        print_time(log, watch->event->time_ns,
                   ikv_loop_step_number(ikv_kit_loop(log->kit)));
        fprintf(log->file, "%sdropped  %s: its target has gone%s\n",
                ink(log, ALERT), kind_name(log, watch->event), ink(log, PLAIN));
        break;
    default:
        break;
    }
    /* somebody looks at it while it runs */
    if (log->colour)
        fflush(log->file);
}

run_log *log_open(FILE *file, ikv_kit *kit, ikv_setup *setup, bool colour)
{
    run_log *log = calloc(1, sizeof *log);
    if (log == NULL)
        return NULL;
    log->file = file;
    log->kit = kit;
    log->setup = setup;
    log->colour = colour;
    ikv_bus_add_watcher(ikv_kit_bus(kit),
                        IKV_WATCH_EVENT | IKV_WATCH_CALL | IKV_WATCH_RETURN |
                            IKV_WATCH_DONE | IKV_WATCH_DROP,
                        watch_run, log);
    ikv_setup_set_note(setup, print_note, log);
    return log;
}

static void print_summary(const run_log *log)
{
    ikv_loop_counts loop = IKV_LOOP_COUNTS_INIT;
    ikv_bus_counts bus = IKV_BUS_COUNTS_INIT;
    ikv_router_counts router = IKV_ROUTER_COUNTS_INIT;
    ikv_loop_counters(ikv_kit_loop(log->kit), &loop);
    ikv_bus_counters(ikv_kit_bus(log->kit), &bus);
    ikv_router_counters(ikv_kit_router(log->kit), &router);
    fprintf(log->file,
            "\n%llu frames, %llu steps; %llu events came in, %llu deliveries; "
            "%llu handlers called; nobody heard %llu\n",
            (unsigned long long)loop.frames, (unsigned long long)loop.steps,
            (unsigned long long)loop.routed, (unsigned long long)bus.delivered,
            (unsigned long long)log->handler_count,
            (unsigned long long)bus.unheard);
    uint64_t refused = router.not_finite + router.too_many + router.meaningless;
    /* only where something went wrong */
    if (refused + loop.rejected + loop.late + bus.dropped + bus.too_deep > 0)
        fprintf(log->file,
                "refused by the router %llu, rejected %llu, late %llu, "
                "dropped %llu, too deep %llu\n",
                (unsigned long long)refused, (unsigned long long)loop.rejected,
                (unsigned long long)loop.late, (unsigned long long)bus.dropped,
                (unsigned long long)bus.too_deep);
}

void log_close(run_log *log)
{
    if (log == NULL)
        return;
    flush_unheard(log);
    ikv_bus_remove_watcher(ikv_kit_bus(log->kit), watch_run, log);
    ikv_setup_set_note(log->setup, NULL, NULL);
    print_summary(log);
    free(log);
}
