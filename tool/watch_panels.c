/* watch_panels.c - what is around the scene: the time, events, what is down, how
 * full all is, why, and the keys. */
#define _POSIX_C_SOURCE 200809L
#include "watch.h"

#include <ikvar/keys.h>

#include <stdlib.h>
#include <string.h>

static const char *const families[IKV_FAMILY_COUNT] = {
#define IKV_X(name, text, meaning, order) [IKV_FAMILY_##name] = (text),
    IKV_FAMILIES(IKV_X)
#undef IKV_X
};

/* ------------------------------------------------------------- listening -- */

static const char *name_of(const watcher *w, ikv_target target)
{
    return target.bits == 0 ? "root" : ikv_setup_target_name(w->setup, target);
}

static bool is_idle(const ikv_event *event)
{
    return event->kind == IKV_KIND_LOOP_STEP ||
           event->kind == IKV_KIND_LOOP_FRAME;
}

/* The line of the event under way at that depth, which is begun now. */
static void begin_line(watcher *w, const ikv_watch *watch)
{
    const ikv_event *event = watch->event;
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(ikv_kit_bus(w->kit)), event->kind);
    event_line *line = &w->lines[w->line_count % KEPT_LINES];
    char place[32] = "";
    if (info->positioned)
        snprintf(place, sizeof place, " %.0f,%.0f", (double)event->pointer.x,
                 (double)event->pointer.y);
    line->family = info->family;
    line->heard = false;
    snprintf(line->text, sizeof line->text, "%8.0f %s %s%s",
             (double)event->time_ns / 1e6, info->name,
             name_of(w, event->target), place);
    w->under_way[watch->depth] = ++w->line_count;
}

static void add_caller(watcher *w, const ikv_watch *watch)
{
    if (w->under_way[watch->depth] == 0)
        begin_line(w, watch);
    uint64_t nth = w->under_way[watch->depth];
    event_line *line = &w->lines[(nth - 1) % KEPT_LINES];
    size_t used = strlen(line->text);
    if (w->line_count - nth >= KEPT_LINES)
        return; /* it has gone from the ring */
    snprintf(line->text + used, sizeof line->text - used, "%s%s",
             line->heard ? ", " : ": ",
             watch->name[0] != '\0' ? watch->name : "?");
    line->heard = true;
}

void watch_listen(const ikv_watch *watch, void *user)
{
    watcher *w = user;
    if (watch->depth >= KEPT_DEPTHS)
        return;
    w->decisions++;
    if (watch->what == IKV_WATCH_EVENT) {
        w->under_way[watch->depth] = 0;
        /* steps that nobody hears go without saying */
        if (!is_idle(watch->event))
            begin_line(w, watch);
        if (watch->delivery->router != NULL &&
            (watch->delivery->flags & IKV_PASSED) == 0)
            ikv_trail_note(&w->trail, watch->event);
    } else if (watch->what == IKV_WATCH_CALL) {
        add_caller(w, watch);
    }
}

void watch_ask(watcher *w)
{
    ikv_why_config config = IKV_WHY_INIT;
    ikv_why *why = NULL;
    const char *id =
        w->subject >= 0
            ? ikv_setup_name(w->setup, IKV_SETUP_TARGETS, (uint32_t)w->subject)
            : NULL;
    if (id == NULL || (w->answered == w->decisions && w->answer[0] != '\0'))
        return;
    config.kit = w->kit;
    config.about = IKV_ASK_TARGET;
    config.target = ikv_setup_target(w->setup, id);
    config.setup = w->setup;
    config.past = w->past;
    snprintf(w->answer, sizeof w->answer, "%s: nothing is known of it\n", id);
    w->answered = w->decisions;
    if (ikv_why_open(&config, &why) < 0)
        return;
    FILE *file = fmemopen(w->answer, sizeof w->answer, "w");
    if (file != NULL) {
        ikv_why_print(why, file, IKV_PRINT_TEXT);
        fclose(file);
        w->answer[sizeof w->answer - 1] = '\0';
    }
    ikv_why_close(why);
}

/* ---------------------------------------------------------------- panels -- */

static void draw_title(const watcher *w, const panel *p)
{
    const ikv_loop *loop = ikv_kit_loop(w->kit);
    for (int column = 0; column < p->columns; column++)
        panel_put(p, column, 0, ' ', INK_TITLE);
    int column = panel_text(p, 1, 0, INK_TITLE, "%s  %.3f s  step %llu  x%g",
                            w->title, (double)ikv_loop_time_ns(loop) / 1e9,
                            (unsigned long long)ikv_loop_step_number(loop),
                            (double)w->speed / 1000);
    if (w->ended)
        panel_text(p, column, 0, INK_TITLE, "  ENDED");
    else if (w->paused)
        panel_text(p, column, 0, INK_TITLE, "  PAUSED");
}

static const char *filter_name(int filter)
{
    return filter == 0 ? "heard" : filter == 1 ? "all" : families[filter - 2];
}

static bool is_listed(const watcher *w, const event_line *line)
{
    return w->filter == 0   ? line->heard
           : w->filter == 1 ? true
                            : line->family == w->filter - 2;
}

/* The last ones that the filter lets through, the newest at the bottom. */
static void draw_events(const watcher *w, const panel *p)
{
    int row = p->rows;
    uint64_t kept = w->line_count < KEPT_LINES ? w->line_count : KEPT_LINES;
    panel_text(p, 0, 0, INK_TITLE, " events: %s ", filter_name(w->filter));
    for (uint64_t back = 1; back <= kept && row > 1; back++) {
        const event_line *line = &w->lines[(w->line_count - back) % KEPT_LINES];
        if (is_listed(w, line))
            panel_text(p, 0, --row, line->heard ? INK_TEXT : INK_QUIET, "%s",
                       line->text);
    }
}

static void draw_why(watcher *w, const panel *p)
{
    const char *id =
        ikv_setup_name(w->setup, IKV_SETUP_TARGETS, (uint32_t)w->subject);
    panel_text(p, 0, 0, INK_TITLE, " why: %s ", id != NULL ? id : "");
    watch_ask(w);
    panel_lines(p, 1, INK_TEXT, w->answer);
}

/* "name [####----] 12": how much of a capacity is used. */
static int draw_meter(const panel *p, int column, const char *name,
                      uint32_t used, uint32_t capacity)
{
    const uint32_t wide = p->columns < 90 ? 4 : 8;
    uint32_t marks = capacity > 0 ? (used * wide + capacity - 1) / capacity : 0;
    uint8_t ink = used * 4 > capacity * 3 ? INK_WARN : INK_TEXT;
    column = panel_text(p, column, 0, INK_QUIET, "%s ", name);
    column = panel_text(
        p, column, 0, ink, "[%.*s%.*s] %u", (int)(marks < wide ? marks : wide),
        "########", (int)(marks < wide ? wide - marks : 0), "--------", used);
    return column + 2;
}

static void draw_meters(const watcher *w, const panel *p)
{
    ikv_loop_counts loop = IKV_LOOP_COUNTS_INIT;
    ikv_bus_counts bus = IKV_BUS_COUNTS_INIT;
    ikv_overlaps_counts overlaps = IKV_OVERLAPS_COUNTS_INIT;
    ikv_loop_counters(ikv_kit_loop(w->kit), &loop);
    ikv_bus_counters(ikv_kit_bus(w->kit), &bus);
    int column = draw_meter(p, 0, "queue", loop.waiting, loop.waiting_capacity);
    column = draw_meter(p, column, "lanes", bus.waiting, bus.waiting_capacity);
    column = draw_meter(p, column, "timers", bus.timers, bus.timers_capacity);
    if (ikv_overlaps_counters(ikv_kit_overlaps(w->kit), &overlaps) == IKV_OK)
        panel_text(p, column, 0, INK_TEXT, "contacts %u", overlaps.contacts);
}

/* Keys and pointers that are down, who has the focus, what is on. */
static void draw_state(const watcher *w, const panel *p)
{
    const ikv_state *state = ikv_kit_state(w->kit);
    const ikv_router *router = ikv_kit_router(w->kit);
    ikv_routed_pointer pointer = IKV_ROUTED_POINTER_INIT;
    int column = panel_text(p, 0, 0, INK_QUIET, "down");
    uint32_t code;
    for (uint32_t nth = 0; state != NULL && (code = ikv_code_list(nth)) != 0;
         nth++)
        if (ikv_state_key(state, IKV_STATE_RAW, 0, code).down)
            column =
                panel_text(p, column, 0, INK_TEXT, " %s", ikv_code_name(code));
    for (uint32_t nth = 0; ikv_router_pointer(router, nth, &pointer); nth++)
        if (pointer.buttons != 0)
            column = panel_text(p, column, 0, INK_TEXT, " pointer %u",
                                pointer.pointer);
    ikv_target focus = ikv_router_focused(router, 0);
    column = panel_text(p, column, 0, INK_QUIET, "  focus ");
    column = panel_text(p, column, 0, INK_TEXT, "%s",
                        focus.bits != 0 ? name_of(w, focus) : "nobody");
    column = panel_text(p, column, 0, INK_QUIET, "  on");
    const ikv_actions *actions = ikv_kit_actions(w->kit);
    ikv_action_id action;
    for (uint32_t nth = 0;
         actions != NULL && (action = ikv_actions_list(actions, nth)).bits != 0;
         nth++)
        if (ikv_actions_ask(actions, action, 0).on)
            column = panel_text(p, column, 0, INK_TEXT, " %s",
                                ikv_actions_name(actions, action));
}

static void draw_keys(const watcher *w, const panel *p)
{
    const char *go = w->paused ? "on" : "pause";
    if (w->note[0] != '\0')
        panel_text(p, 0, 0, INK_WARN, "%s", w->note);
    else if (p->columns < 90)
        panel_text(p, 0, 0, INK_QUIET,
                   "F1 help 2 %s 3 step 4 slow 5 fast 6 filter 7 why 10 end",
                   go);
    else
        panel_text(p, 0, 0, INK_QUIET,
                   "F1 help  F2 %s  F3 step  F4 slower  F5 faster  F6 filter  "
                   "F7 why  F8 save  F10 end",
                   go);
}

static const char help_text[] =
    "F1  this page\n"
    "F2  pause, and go on\n"
    "F3  one frame, while paused\n"
    "F4  half as fast      F5  twice as fast\n"
    "F6  which events: heard, all, or of a family\n"
    "F7  why: the next target, and why it was not hit\n"
    "F9  why: the target under the pointer\n"
    "F8  save what has come in so far as a tape\n"
    "F10 end\n"
    "All other keys and the mouse within the scene are the scene's.\n"
    "\n"
    "- | / \\  is hit    %  is hit, passes on    .  is not hit\n"
    ":  senses    *  is in it    +  body and its pieces\n"
    "\"  clips    ,  a finger's margin\n"
    "o O  pointer, pressed    '  its way    x u  where it went down and up\n"
    "=  hovered    @  has captured the pointer    ^  has the focus\n";

static panel part_of(cells *grid, int column, int row, int columns, int rows)
{
    return (panel){grid, column, row, columns, rows};
}

/* The title; the scene beside events and why; meters, what is down, the keys. */
void watch_draw(watcher *w, cells *grid, int columns, int rows)
{
    cells_clear(grid, columns, rows);
    panel all = part_of(grid, 0, 0, grid->columns, grid->rows);
    if (columns < LEAST_COLUMNS || rows < LEAST_ROWS) {
        panel_text(&all, 0, 0, INK_WARN, "%d x %d cells:", columns, rows);
        panel_text(&all, 0, 1, INK_WARN, "at least %d x %d", LEAST_COLUMNS,
                   LEAST_ROWS);
        w->scale_x = 0;
        return;
    }
    int wide = columns * 3 / 5, high = grid->rows - 4;
    panel right = part_of(grid, wide + 1, 1, grid->columns - wide - 1, high);
    panel line = part_of(grid, 0, grid->rows - 3, grid->columns, 1);
    w->scene = part_of(grid, 0, 1, wide, high);
    draw_title(w, &all);
    if (w->help) {
        panel page = part_of(grid, 2, 2, grid->columns - 4, high - 1);
        panel_lines(&page, 0, INK_TEXT, help_text);
        w->scale_x = 0;
    } else {
        for (int row = 0; row < high; row++)
            panel_put(&all, wide, 1 + row, '|', INK_QUIET);
        watch_draw_scene(w);
        if (w->subject >= 0) {
            panel why = right;
            right.rows = high / 2;
            why.row += right.rows;
            why.rows -= right.rows;
            draw_why(w, &why);
        }
        draw_events(w, &right);
    }
    draw_meters(w, &line);
    line.row++;
    draw_state(w, &line);
    line.row++;
    draw_keys(w, &line);
}
