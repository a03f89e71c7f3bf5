/* test_router.c - the golden cases of routing.txt, and wrong use. */
#include "support.h"

#include <math.h>

enum {
    CASES = 280,
    LINES = 32,
    NAMES = 10,
    RULES = 6
};

typedef struct golden {
    char rule[96];
    char lines[LINES][280];
    int count;
} golden;

static golden cases[CASES];
static int routing_count;

static void load_cases(void)
{
    FILE *file = fopen(SOURCE "/tests/golden/routing.txt", "r");
    char line[300];
    golden *g = NULL;
    while (file != NULL && fgets(line, sizeof line, file) != NULL) {
        line[strcspn(line, "\n")] = '\0';
        if (line[0] == '#' || line[0] == '\0')
            continue;
        if (strncmp(line, "case ", 5) == 0) {
            g = &cases[routing_count++];
            snprintf(g->rule, sizeof g->rule, "%.90s", line + 5);
        } else if (g != NULL && g->count < LINES) {
            snprintf(g->lines[g->count++], sizeof g->lines[0], "%.279s", line);
        }
    }
    if (file != NULL)
        fclose(file);
}

/* ------------------------------------------------------------- one case -- */

typedef struct rule {
    char at[40], action[16], argument[16], second[16];
    float x, y;
} rule;

/* The last event of a kind at a target. */
typedef struct last_event {
    char at[40], related[16];
    ikv_event event;
    float local_x, local_y;
} last_event;

typedef struct play {
    bench_kit k;
    record seen, shown, visits;
    struct {
        char name[16];
        ikv_target target;
        bool used;
    } names[NAMES];
    rule rules[RULES];
    int rule_count;
    char also[120], visited[24];
    uint64_t ms;
    float x, y, fingers[16][2];
    last_event last[96];
    int last_count;
} play;

static play *now;

static ikv_target target_named(const char *name)
{
    for (int i = 0; i < NAMES; i++)
        if (now->names[i].used && strcmp(now->names[i].name, name) == 0)
            return now->names[i].target;
    return ikv_bus_root(now->k.bus);
}

static const char *name_of(ikv_target target)
{
    if (target.bits == 0)
        return "none";
    for (int i = 0; i < NAMES; i++)
        if (now->names[i].used && now->names[i].target.bits == target.bits)
            return now->names[i].name;
    return "root";
}

static const char *short_kind(ikv_kind kind)
{
    const char *name = ikv_catalogue_info(NULL, kind)->name;
    if (strncmp(name, "pointer.capture_", 16) == 0)
        return name + 16;
    return strncmp(name, "pointer.", 8) == 0 ? name + 8 : name;
}

static void do_capture(const rule *r, const ikv_event *event,
                       const ikv_delivery *delivery)
{
    ikv_router_capture(delivery->router, event, target_named(r->argument));
}

static void do_drag(const rule *r, const ikv_event *event,
                    const ikv_delivery *delivery)
{
    ikv_router_drag(delivery->router, event, target_named(r->argument));
}

static void do_release(const rule *r, const ikv_event *event,
                       const ikv_delivery *delivery)
{
    ikv_router_release(delivery->router, event, target_named(r->argument));
}

static void do_scene(const rule *r)
{
    ikv_scene *scene = now->k.scene;
    ikv_target target = target_named(r->argument);
    if (strcmp(r->action, "remove") == 0)
        ok(ikv_scene_remove(scene, target));
    else if (strcmp(r->action, "move") == 0)
        ok(ikv_scene_move(scene, target, r->x, r->y));
    else if (strcmp(r->action, "show") == 0)
        ok(ikv_scene_show(scene, target, true));
    else if (strcmp(r->action, "hide") == 0)
        ok(ikv_scene_show(scene, target, false));
    else if (strcmp(r->action, "raise") == 0)
        ok(ikv_scene_raise(scene, target));
    else if (strcmp(r->action, "lower") == 0)
        ok(ikv_scene_lower(scene, target));
    else if (strcmp(r->action, "parent") == 0)
        ok(ikv_scene_set_parent(scene, target, target_named(r->second)));
    else if (strcmp(r->action, "camera") == 0)
        ok(ikv_scene_set_camera(scene, 0, 0,
                                &(ikv_camera){.x = (float)atof(r->argument),
                                              .y = (float)atof(r->second)}));
    else if (strcmp(r->action, "shape") == 0)
        ok(ikv_scene_set_shape(scene, target,
                               &(ikv_shape){.type = IKV_SHAPE_RECT,
                                            .width = r->x,
                                            .height = r->y}));
    else
        ck_abort_msg("on ... %s", r->action);
}

/* What handlers ask of the router for a seat; false if it is none of that. */
static bool do_router(const rule *r, uint8_t seat)
{
    static const char *const directions[] = {"left", "right", "up", "down"};
    ikv_router *router = now->k.router;
    ikv_target target = target_named(r->argument);
    if (strcmp(r->action, "focus") == 0)
        ikv_router_focus(router, seat, target);
    else if (strcmp(r->action, "modal") == 0)
        ikv_router_set_modal(router, seat, target);
    else if (strcmp(r->action, "unmodal") == 0)
        ok(ikv_router_set_modal(router, seat, (ikv_target){0}));
    else if (strcmp(r->action, "cancel") == 0)
        ok(ikv_router_cancel_all(router, seat));
    else if (strcmp(r->action, "toward") == 0) {
        uint32_t i = 0;
        while (strcmp(directions[i], r->argument) != 0)
            i++;
        ikv_router_focus_toward(router, seat, i);
    } else
        return false;
    return true;
}

static ikv_verdict do_rule(const rule *r, const ikv_event *event,
                           const ikv_delivery *delivery)
{
    static const struct {
        const char *name;
        ikv_verdict verdict;
        void (*act)(const rule *, const ikv_event *, const ikv_delivery *);
    } actions[] = {
        {"stop", IKV_STOP, NULL},     {"stop_all", IKV_STOP_ALL, NULL},
        {"refuse", IKV_REFUSE, NULL}, {"capture", 0, do_capture},
        {"drag", 0, do_drag},         {"accept", IKV_ACCEPT, NULL},
        {"release", 0, do_release}};
    for (int i = 0; i < ROWS(actions); i++) {
        if (strcmp(actions[i].name, r->action) != 0)
            continue;
        if (actions[i].act != NULL)
            actions[i].act(r, event, delivery);
        return actions[i].verdict;
    }
    if (do_router(r, event->seat))
        return IKV_CONTINUE;
    if (strcmp(r->action, "blur") == 0)
        ikv_router_blur(now->k.router, event->seat);
    else if (strcmp(r->action, "nested") == 0) {
        ikv_event nested = ikv_event_make(IKV_KIND_FIELD_SET, 0);
        nested.target = target_named(r->argument);
        ikv_bus_deliver(delivery->bus, &nested);
    } else
        do_scene(r);
    return IKV_CONTINUE;
}

static bool is_extra(const char *kind)
{
    static const char *const extras[] = {"drag",
                                         "hold",
                                         "menu",
                                         "double",
                                         "gesture.two_tap",
                                         "gesture.pinch_start",
                                         "gesture.pinch",
                                         "gesture.pinch_end"};
    for (int i = 0; i < ROWS(extras); i++)
        if (strcmp(extras[i], kind) == 0)
            return strstr(now->also, kind) == NULL;
    return false;
}

static void keep_last(const char *at, const ikv_event *event,
                      const ikv_delivery *delivery)
{
    if (now->last_count == ROWS(now->last))
        return;
    last_event *l = &now->last[now->last_count++];
    snprintf(l->at, sizeof l->at, "%s", at);
    snprintf(l->related, sizeof l->related, "%s", name_of(event->source));
    l->event = *event;
    l->local_x = delivery->local_x;
    l->local_y = delivery->local_y;
}

static ikv_verdict see(const ikv_event *event, const ikv_delivery *delivery,
                       void *name)
{
    char at[40];
    ikv_verdict verdict = 0;
    const char *kind = short_kind(event->kind);
    if (is_extra(kind))
        return 0;
    snprintf(at, sizeof at, "%s@%s%s", kind, (const char *)name,
             delivery->flags & IKV_PASSED ? "*" : "");
    note(&now->seen, "%s%s%.*s ", at, delivery->data_size > 0 ? "=" : "",
         (int)delivery->data_size, (const char *)delivery->data);
    ikv_kind k = event->kind;
    if (k == IKV_KIND_POINTER_DOWN || k == IKV_KIND_POINTER_MOVE ||
        k == IKV_KIND_POINTER_UP)
        note(&now->shown, "%s %d/%d, ", kind, event->pointer.button,
             event->pointer.buttons);
    ck_assert_uint_eq(delivery->current.bits, event->target.bits);
    ck_assert(delivery->router == now->k.router || k == IKV_KIND_FIELD_SET);
    keep_last(at, event, delivery);
    for (int i = 0; i < now->rule_count; i++)
        if (strcmp(now->rules[i].at, at) == 0)
            verdict |= do_rule(&now->rules[i], event, delivery);
    return verdict;
}

/* PATH1, PATH2: visits as the rules write them, of the event that the case asks
 * for: v by a capturing subscription, ^ by another one. */
static void see_visit(const ikv_event *event, const char *mark, void *name)
{
    char at[40];
    snprintf(at, sizeof at, "%s@%s", short_kind(event->kind),
             name_of(event->target));
    if (strcmp(at, now->visited) == 0)
        note(&now->visits, "%s%s ", mark, (const char *)name);
}

static ikv_verdict see_down(const ikv_event *event,
                            const ikv_delivery *delivery, void *name)
{
    ck_assert_int_eq(delivery->phase == IKV_CAPTURING,
                     delivery->current.bits != event->target.bits);
    see_visit(event, "v ", name);
    return 0;
}

static ikv_verdict see_up(const ikv_event *event, const ikv_delivery *delivery,
                          void *name)
{
    ck_assert_int_eq(delivery->phase == IKV_BUBBLING,
                     delivery->current.bits != event->target.bits);
    see_visit(event, "^", name);
    return 0;
}

static void listen_at(ikv_target target, const char *name)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.families = 1u << IKV_FAMILY_POINTER | 1u << IKV_FAMILY_CLICK |
                      1u << IKV_FAMILY_FOCUS | 1u << IKV_FAMILY_KEY |
                      1u << IKV_FAMILY_WHEEL | 1u << IKV_FAMILY_TEXT |
                      1u << IKV_FAMILY_GESTURE | 1u << IKV_FAMILY_FIELD |
                      1u << IKV_FAMILY_WINDOW | 1u << IKV_FAMILY_DEVICE |
                      1u << IKV_FAMILY_DRAG;
    config.phases = IKV_AT_TARGET;
    config.at = target;
    config.handler = see;
    config.user = (void *)(uintptr_t)name;
    ok(ikv_bus_subscribe(now->k.bus, &config, NULL, NULL));
    config.phases = IKV_CAPTURING;
    config.handler = see_down;
    ok(ikv_bus_subscribe(now->k.bus, &config, NULL, NULL));
    config.phases = IKV_AT_TARGET | IKV_BUBBLING;
    config.handler = see_up;
    ok(ikv_bus_subscribe(now->k.bus, &config, NULL, NULL));
}

/* The rest of a target's line: words, some with a value. */
static void target_words(const char *words, ikv_target_config *config)
{
    char word[16], value[16];
    int used;
    while (sscanf(words, " %15s%n", word, &used) == 1) {
        words += used;
        if (strcmp(word, "pass") == 0)
            config->hit = IKV_HIT_PASS;
        else if (strcmp(word, "off") == 0)
            config->hit = IKV_HIT_OFF;
        else if (strcmp(word, "captures") == 0)
            config->traits |= IKV_CAPTURES;
        else if (strcmp(word, "focusable") == 0)
            config->traits |= IKV_FOCUSABLE;
        else if (strcmp(word, "live") == 0)
            config->traits |= IKV_STAYS_LIVE;
        else if (strcmp(word, "hidden") == 0)
            config->hidden = true;
        else if (strcmp(word, "clip") == 0)
            config->clip = true;
        else {
            ck_assert_msg(sscanf(words, " %15s%n", value, &used) == 1, "%s",
                          words);
            words += used;
            if (strcmp(word, "in") == 0)
                config->parent = target_named(value);
            else if (strcmp(word, "z") == 0)
                config->z = atoi(value);
            else if (strcmp(word, "tab") == 0)
                config->tab = atoi(value);
            else if (strcmp(word, "grace") == 0)
                config->grace = (float)atof(value);
            else
                ck_abort_msg("target ... %s", word);
        }
    }
}

/* with SETTING VALUE: the router's config of this case; before it is opened. */
static void with_setting(const char *line)
{
    ikv_router_config *config = &now->k.config.router;
    char name[24] = "";
    float value = 0;
    sscanf(line, "with %23s %f", name, &value);
    const struct {
        const char *name;
        float *number;
        uint64_t *time;
        bool *flag;
    } settings[] = {
        {"slop", &config->slop, NULL, NULL},
        {"mouse_slop", &config->mouse_slop, NULL, NULL},
        {"double_slop", &config->double_slop, NULL, NULL},
        {"view_width", &config->view_width, NULL, NULL},
        {"view_height", &config->view_height, NULL, NULL},
        {"hold", NULL, &config->hold_ns, NULL},
        {"double", NULL, &config->double_ns, NULL},
        {"keep_focus", NULL, NULL, &config->keep_focus},
        {"no_tab", NULL, NULL, &config->no_tab},
        {"click_after_drag", NULL, NULL, &config->click_after_drag}};
    for (int i = 0; i < ROWS(settings); i++) {
        if (strcmp(settings[i].name, name) != 0)
            continue;
        if (settings[i].number != NULL)
            *settings[i].number = value;
        else if (settings[i].time != NULL)
            *settings[i].time = (uint64_t)value * 1000000;
        else
            *settings[i].flag = true;
        return;
    }
    ck_abort_msg("%s", line);
}

static void add_target_line(const char *line)
{
    ikv_target_config config = IKV_TARGET_INIT;
    char name[16];
    float x, y, w, h;
    int used = 0;
    int got =
        sscanf(line, "target %15s %f %f %f %f%n", name, &x, &y, &w, &h, &used);
    ck_assert_msg(got == 5, "%s", line);
    config.x = x;
    config.y = y;
    config.shape = ikv_scene_rect(0, 0, w, h);
    target_words(line + used, &config);
    int i = 0;
    while (now->names[i].used)
        i++;
    now->names[i].used = true;
    snprintf(now->names[i].name, 16, "%s", name);
    ok(ikv_scene_add(now->k.scene, &config, &now->names[i].target, NULL));
    listen_at(now->names[i].target, now->names[i].name);
}

static void push(ikv_event *event)
{
    event->time_ns = 7000000000 + now->ms * 1000000;
    event->device = now->k.fake.device;
    ok(ikv_sink_push(now->k.fake.sink, event));
    now->ms += 20;
    ck_assert_int_ge(kit_frame(&now->k, now->ms), 0);
}

/* Pointers by verb: what it pushes, of what type, and what it takes: a position
 * (p), a button (b), an id and a position (i). */
static const struct {
    const char *verb;
    ikv_kind kind;
    uint8_t type;
    char takes;
    int8_t button;
} verbs[] = {
    {"mouse", IKV_KIND_POINTER_MOVE, IKV_MOUSE, 'p', -1},
    {"down", IKV_KIND_POINTER_DOWN, IKV_MOUSE, 'b', 0},
    {"downat", IKV_KIND_POINTER_DOWN, IKV_MOUSE, 'p', 0},
    {"up", IKV_KIND_POINTER_UP, IKV_MOUSE, 'b', 0},
    {"upat", IKV_KIND_POINTER_UP, IKV_MOUSE, 'p', 0},
    {"leave", IKV_KIND_POINTER_LEAVE, IKV_MOUSE, '-', -1},
    {"leaveat", IKV_KIND_POINTER_LEAVE, IKV_MOUSE, 'p', -1},
    {"pen", IKV_KIND_POINTER_MOVE, IKV_PEN, 'p', -1},
    {"pendown", IKV_KIND_POINTER_DOWN, IKV_PEN, 'b', 0},
    {"penup", IKV_KIND_POINTER_UP, IKV_PEN, 'b', 0},
    {"touch", IKV_KIND_POINTER_DOWN, IKV_TOUCH, 'i', 0},
    {"drag", IKV_KIND_POINTER_MOVE, IKV_TOUCH, 'i', -1},
    {"lift", IKV_KIND_POINTER_UP, IKV_TOUCH, 'i', 0},
    {"lose", IKV_KIND_POINTER_CANCEL, IKV_TOUCH, 'i', -1},
};

static bool do_pointer(const char *verb, const char *arguments)
{
    float a = 0, b = 0, c = 0;
    int got = sscanf(arguments, "%f %f %f", &a, &b, &c), i = 0;
    while (i < ROWS(verbs) && strcmp(verbs[i].verb, verb) != 0)
        i++;
    if (i == ROWS(verbs))
        return false;
    ikv_event event = ikv_event_make(verbs[i].kind, 0);
    event.pointer.type = verbs[i].type;
    event.pointer.button = verbs[i].button;
    if (verbs[i].takes == 'p') {
        now->x = a;
        now->y = b;
    } else if (verbs[i].takes == 'b') {
        event.pointer.button = (int8_t)a;
    } else if (verbs[i].takes == 'i') {
        event.pointer.pointer = (uint16_t)a;
        float *at = now->fingers[(int)a % 16]; /* where it is without one */
        if (got == 3) {
            at[0] = b;
            at[1] = c;
        }
        now->x = at[0];
        now->y = at[1];
    }
    if (verbs[i].type == IKV_PEN)
        event.pointer.pointer = 50;
    event.pointer.x = now->x;
    event.pointer.y = now->y;
    push(&event);
    return true;
}

/* What the system drags over the window: "file X Y", "drop X Y" (with a name as
 * data), "fileout". */
static bool do_file(const char *verb, const char *arguments)
{
    ikv_event event = ikv_event_make(IKV_KIND_DRAG_OVER, 0);
    sscanf(arguments, "%f %f", &event.drag.x, &event.drag.y);
    if (strcmp(verb, "file") == 0 || strcmp(verb, "fileout") == 0) {
        if (verb[4] != '\0')
            event.kind = IKV_KIND_DRAG_LEAVE;
        push(&event);
        return true;
    }
    if (strcmp(verb, "drop") != 0)
        return false;
    event.kind = IKV_KIND_DRAG_DROP;
    event.time_ns = 7000000000 + now->ms * 1000000;
    ok(ikv_sink_push_data(now->k.fake.sink, &event, "map.txt", 7));
    now->ms += 20;
    kit_frame(&now->k, now->ms);
    return true;
}

static void do_input(const char *line)
{
    char verb[16], name[32] = "";
    int used = 0;
    sscanf(line, "do %15s%n %31s", verb, &used, name);
    const char *arguments = line + used;
    ikv_event event = ikv_event_make(IKV_KIND_WINDOW_BLUR, 0);
    if (do_pointer(verb, arguments) || do_file(verb, arguments)) {
    } else if (strcmp(verb, "wheel") == 0) {
        event.kind = IKV_KIND_WHEEL;
        sscanf(arguments, "%f %f", &event.wheel.x, &event.wheel.y);
        push(&event);
    } else if (strcmp(verb, "resize") == 0) {
        event.kind = IKV_KIND_WINDOW_RESIZE;
        sscanf(arguments, "%f %f", &event.window.width, &event.window.height);
        push(&event);
    } else if (strcmp(verb, "wait") == 0) {
        now->ms += name[0] != '\0' ? (uint64_t)atoi(name) : 20;
        kit_frame(&now->k, now->ms);
    } else if (strcmp(verb, "blur") == 0) {
        push(&event);
    } else if (strcmp(verb, "lost") == 0) {
        ikv_sink_lost(now->k.fake.sink, now->k.fake.device);
        now->ms += 20;
        kit_frame(&now->k, now->ms);
    } else if (strcmp(verb, "gone") == 0) {
        event.kind = IKV_KIND_DEVICE_REMOVE;
        push(&event);
    } else if (strcmp(verb, "text") == 0) {
        event.kind = IKV_KIND_TEXT_INPUT;
        event.text.length = 1;
        event.text.bytes[0] = name[0];
        push(&event);
    } else if (strcmp(verb, "compose") == 0) {
        event.kind = IKV_KIND_TEXT_COMPOSE;
        event.compose.length = name[0] != '-';
        event.compose.bytes[0] = name[0] != '-' ? name[0] : '\0';
        push(&event);
    } else if (strcmp(verb, "scene") == 0) {
        rule r = {.action = ""};
        sscanf(arguments, "%15s %15s %15s", r.action, r.argument, r.second);
        sscanf(arguments, "%*s %*s %f %f", &r.x, &r.y);
        if (!do_router(&r, 0))
            do_scene(&r);
    } else {
        ck_assert_msg(strcmp(verb, "key") == 0 || strcmp(verb, "unkey") == 0,
                      "%s", line);
        event.kind = verb[0] == 'k' ? IKV_KIND_KEY_DOWN : IKV_KIND_KEY_UP;
        event.key.code = ikv_code_find(name);
        push(&event);
    }
    valid(ikv_router_validate(now->k.router));
}

/* fields KIND@NAME button/buttons, and other members of the last such event. */
static void check_fields(const char *line, const char *rule_name)
{
    char at[40], what[16], value[40], found[40] = "";
    ck_assert_int_eq(sscanf(line, "%15s %39s %39[^\n]", what, at, value), 3);
    int i = now->last_count - 1;
    while (i >= 0 && strcmp(now->last[i].at, at) != 0)
        i--;
    ck_assert_msg(i >= 0, "%s: no %s", rule_name, at);
    const last_event *l = &now->last[i];
    const ikv_event *e = &l->event;
    if (strcmp(what, "fields") == 0)
        snprintf(found, sizeof found, "%d/%d", e->pointer.button,
                 e->pointer.buttons);
    else if (strcmp(what, "related") == 0)
        snprintf(found, sizeof found, "%s", l->related);
    else if (strcmp(what, "place") == 0)
        snprintf(found, sizeof found, "%g %g", (double)e->pointer.x,
                 (double)e->pointer.y);
    else if (strcmp(what, "local") == 0)
        snprintf(found, sizeof found, "%g %g", (double)l->local_x,
                 (double)l->local_y);
    else if (strcmp(what, "flags") == 0)
        snprintf(found, sizeof found, "%u", e->flags);
    else if (strcmp(what, "modifiers") == 0)
        snprintf(found, sizeof found, "%u", e->modifiers);
    else if (strcmp(what, "clicks") == 0)
        snprintf(found, sizeof found, "%u", e->click.clicks);
    else if (strcmp(what, "time") == 0)
        snprintf(found, sizeof found, "%g", (double)(e->time_ns) / 1e6);
    else if (strcmp(what, "accepted") == 0)
        snprintf(found, sizeof found, "%d", e->drag.accepted);
    else if (strcmp(what, "moved") == 0)
        snprintf(found, sizeof found, "%g %g", (double)e->drag.dx,
                 (double)e->drag.dy);
    else if (strcmp(what, "reason") == 0)
        snprintf(found, sizeof found, "%u", e->focus.reason);
    else
        ck_abort_msg("%s: %s", rule_name, line);
    ck_assert_msg(strcmp(found, value) == 0, "%s: %s of %s is %s, expected %s",
                  rule_name, what, at, found, value);
}

static void add_rule(const char *line)
{
    ck_assert_int_lt(now->rule_count, RULES);
    rule *r = &now->rules[now->rule_count++];
    int got = sscanf(line, "on %39s %15s %15s %15s", r->at, r->action,
                     r->argument, r->second);
    sscanf(line, "on %*s %*s %*s %f %f", &r->x, &r->y);
    ck_assert_int_ge(got, 2);
}

/* Compares what was recorded, without its last two or one characters. */
static void compare(const golden *g, char *found, size_t less,
                    const char *expected)
{
    size_t length = strlen(found);
    if (length >= less)
        found[length - less] = '\0';
    ck_assert_msg(strcmp(found, expected) == 0, "%s:\n     got %s\nexpected %s",
                  g->rule, found, expected);
}

/* False if it is not a line of the language. */
static bool run_line(const golden *g, const char *line, bool *expected)
{
    if (strncmp(line, "target ", 7) == 0)
        add_target_line(line);
    else if (strncmp(line, "on ", 3) == 0)
        add_rule(line);
    else if (strncmp(line, "do ", 3) == 0)
        do_input(line);
    else if (strncmp(line, "also ", 5) == 0)
        snprintf(now->also, sizeof now->also, "%.110s", line + 5);
    else if (strncmp(line, "watch ", 6) == 0)
        snprintf(now->visited, sizeof now->visited, "%.20s", line + 6);
    else if (strcmp(line, "clear") == 0)
        now->seen.text[0] = now->shown.text[0] = now->visits.text[0] = '\0';
    else if (strncmp(line, "expect", 6) == 0)
        compare(g, now->seen.text, 1, line + (line[6] ? 7 : 6));
    else if (strncmp(line, "shows ", 6) == 0)
        compare(g, now->shown.text, 2, line + 6);
    else if (strncmp(line, "visits ", 7) == 0)
        compare(g, now->visits.text, 1, line + 7);
    else
        check_fields(line, g->rule);
    *expected = *expected || strncmp(line, "expect", 6) == 0 ||
                strncmp(line, "shows", 5) == 0 ||
                strncmp(line, "visits", 6) == 0;
    return true;
}

START_TEST(golden_routing)
{
    const golden *g = &cases[_i];
    now = calloc(1, sizeof *now);
    kit_prepare(&now->k);
    now->k.config.loop.step_num = 50; /* one step a frame */
    int first = 0;
    while (strncmp(g->lines[first], "with ", 5) == 0)
        with_setting(g->lines[first++]);
    kit_open(&now->k);
    kit_frame(&now->k, 0);
    listen_at((ikv_target){0}, "root");
    bool expected = false;
    for (int i = first; i < g->count; i++)
        ck_assert_msg(run_line(g, g->lines[i], &expected), "%s: %s", g->rule,
                      g->lines[i]);
    ck_assert(expected);
    kit_close(&now->k);
    free(now);
}
END_TEST

/* MODAL1, MODAL3: each seat for itself; what comes at a wrong moment. */
START_TEST(modal_seats)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_router *r = k.router;
    ikv_target all[IKV_MODAL_LIMIT + 1], none = {0}, root = ikv_bus_root(k.bus);
    for (int i = 0; i < ROWS(all); i++)
        all[i] = rect_target(k.scene, none, (float)i * 10, 0, 10, 10, 1);
    for (uint8_t i = 0; i < IKV_MODAL_LIMIT; i++) {
        ok(ikv_router_set_modal(r, i, all[i]));
        status_is(ikv_router_set_modal(r, i, all[i]), IKV_ABSENT);
        ck_assert_uint_eq(ikv_router_modal(r, i).bits, all[i].bits);
    }
    status_is(ikv_router_set_modal(r, 0, all[8]), IKV_FULL_MODALS);
    status_is(ikv_router_set_modal(r, 8, all[0]), IKV_BAD_ARGUMENT);
    status_is(ikv_router_set_modal(NULL, 0, all[0]), IKV_BAD_ARGUMENT);
    status_is(ikv_router_set_modal(r, 0, root), IKV_ABSENT);
    status_is(ikv_router_set_modal(r, 0, (ikv_target){1234567}), IKV_STALE);
    for (uint8_t seat = 0; seat < 2; seat++) {
        ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
        e.device = seat;
        e.seat = seat;
        e.pointer.x = 5;
        e.pointer.y = 5;
        ok(ikv_router_route(r, &e).status);
        ck_assert_uint_eq(ikv_router_over(r, seat, 0).bits, all[seat].bits);
    }
    /* In the second one's view of it, its pointer is beside all[1]. */
    ck_assert_uint_eq(ikv_router_over(r, 0, 1).bits, 0);
    ck_assert_uint_eq(ikv_router_over(NULL, 0, 0).bits, 0);
    ck_assert_uint_eq(ikv_router_modal(NULL, 0).bits, 0);
    ok(ikv_router_set_modal(r, 0, none));
    status_is(ikv_router_set_modal(r, 0, none), IKV_ABSENT);
    ok(ikv_scene_show(k.scene, all[8], false));
    status_is(ikv_router_set_modal(r, 0, all[8]), IKV_ABSENT);
    status_is(ikv_router_cancel_all(NULL, 0), IKV_BAD_ARGUMENT);
    status_is(ikv_router_cancel_all(r, 8), IKV_BAD_ARGUMENT);
    valid(ikv_router_validate(r));
    kit_close(&k);
}
END_TEST

/* FOCUS5, MODAL3: a picking of one's own may lack what they need. */
START_TEST(less_picking)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_router_config config = IKV_ROUTER_INIT;
    ikv_target_config target = IKV_TARGET_INIT;
    ikv_target none = {0}, menu, item;
    ikv_router *r;
    _Alignas(64) static char block[65536];
    config.bus = k.bus;
    config.picking = ikv_kit_picking(k.scene);
    config.picking.tab_within = NULL;
    config.picking.toward = NULL;
    config.memory.block = block;
    config.memory.block_size = sizeof block;
    ok(ikv_router_open(&config, &r));
    target.traits = IKV_FOCUSABLE;
    ok(ikv_scene_add(k.scene, &target, &menu, NULL));
    target.parent = menu;
    ok(ikv_scene_add(k.scene, &target, &item, NULL));
    status_is(ikv_router_focus_toward(r, 0, IKV_TOWARD_UP), IKV_NEEDS_CALLBACK);
    ok(ikv_router_set_modal(r, 0, menu));
    ck_assert_uint_eq(ikv_router_focused(r, 0).bits, menu.bits);
    ikv_event tab = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    tab.key.code = ikv_code_find("Tab");
    ok(ikv_router_route(r, &tab).status);
    ck_assert_uint_eq(ikv_router_focused(r, 0).bits, menu.bits);
    ok(ikv_router_close(r));
    r = k.router;
    status_is(ikv_router_focus_toward(r, 0, 4), IKV_BAD_ARGUMENT);
    status_is(ikv_router_focus_toward(r, 8, 0), IKV_BAD_ARGUMENT);
    ok(ikv_router_focus_toward(r, 0, 0)); /* the first by Tab */
    ck_assert_uint_eq(ikv_router_focused(r, 0).bits, menu.bits);
    status_is(ikv_router_focus_toward(r, 0, 0), IKV_ABSENT);
    ck_assert_uint_eq(ikv_scene_toward(NULL, none, none, 0, 0).bits, 0);
    ck_assert_uint_eq(ikv_scene_toward(k.scene, none, none, 99, 0).bits, 0);
    kit_close(&k);
}
END_TEST

/* Knows the topmost alone, whichever is asked for; and no bodies. */
static ikv_target pick_topmost(void *scene, const ikv_query *query,
                               uint32_t nth)
{
    ikv_query its = *query;
    its.skip_body.bits = 0;
    (void)nth;
    return ikv_scene_pick(scene, &its, 0);
}

/* DRAG1, MODAL1: looking through has an end with such a picking, too. */
START_TEST(topmost_alone)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_router_config config = IKV_ROUTER_INIT;
    ikv_target none = {0};
    ikv_router *r;
    _Alignas(64) static char block[65536];
    config.bus = k.bus;
    config.picking = ikv_kit_picking(k.scene);
    config.picking.pick = pick_topmost;
    config.memory.block = block;
    config.memory.block_size = sizeof block;
    ok(ikv_router_open(&config, &r));
    ikv_target crate = rect_target(k.scene, none, 0, 0, 400, 40, 1);
    ikv_target menu = rect_target(k.scene, none, 0, 90, 40, 40, 1);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_DOWN, 0);
    e.pointer.x = e.pointer.y = 5;
    ok(ikv_router_route(r, &e).status);
    ok(ikv_router_drag(r, &e, crate));
    e.kind = IKV_KIND_POINTER_MOVE;
    e.pointer.button = IKV_NO_BUTTON;
    e.pointer.x = 200;
    ok(ikv_router_route(r, &e).status);
    ikv_routed_pointer seen = IKV_ROUTED_POINTER_INIT;
    ck_assert(ikv_router_pointer(r, 0, &seen));
    ck_assert_uint_eq(seen.drag_over.bits, ikv_bus_root(k.bus).bits);
    ok(ikv_router_set_modal(r, 0, menu));
    e.pointer.x = 210;
    ok(ikv_router_route(r, &e).status);
    ck_assert(ikv_router_pointer(r, 0, &seen));
    ck_assert_uint_ne(seen.over.bits, crate.bits);
    valid(ikv_router_validate(r));
    ok(ikv_router_close(r));
    kit_close(&k);
}
END_TEST

/* DRAG1: what can't be dragged; a target that goes while it is. */
START_TEST(no_drag)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_router *r = k.router;
    ikv_target none = {0};
    ikv_target crate = rect_target(k.scene, none, 0, 0, 40, 40, 1);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    e.pointer.type = IKV_MOUSE;
    e.pointer.x = e.pointer.y = 5;
    status_is(ikv_router_drag(NULL, &e, crate), IKV_BAD_ARGUMENT);
    status_is(ikv_router_drag(r, NULL, crate), IKV_BAD_ARGUMENT);
    status_is(ikv_router_drag(r, &e, crate), IKV_BAD_ARGUMENT); /* unknown */
    ok(ikv_router_route(r, &e).status);
    status_is(ikv_router_drag(r, &e, crate), IKV_ABSENT); /* not pressed */
    e.kind = IKV_KIND_POINTER_DOWN;
    e.pointer.button = 0;
    ok(ikv_router_route(r, &e).status);
    status_is(ikv_router_drag(r, &e, none), IKV_STALE);
    ok(ikv_router_drag(r, &e, crate));
    e.kind = IKV_KIND_POINTER_MOVE;
    e.pointer.button = IKV_NO_BUTTON;
    e.pointer.x = 200;
    ok(ikv_router_route(r, &e).status);
    ikv_routed_pointer seen = IKV_ROUTED_POINTER_INIT;
    ck_assert(ikv_router_pointer(r, 0, &seen));
    ck_assert_uint_eq(seen.dragging.bits, crate.bits);
    ok(ikv_scene_remove(k.scene, crate));
    e.pointer.x = 300;
    ok(ikv_router_route(r, &e).status);
    ck_assert(ikv_router_pointer(r, 0, &seen));
    ck_assert_uint_eq(seen.dragging.bits, 0);
    ck_assert_uint_eq(seen.drag_over.bits, 0);
    valid(ikv_router_validate(r));
    kit_close(&k);
}
END_TEST

/* ------------------------------------------------------------ wrong use -- */

static ikv_event pointer_event(ikv_kind kind, uint8_t type, float x, int button)
{
    ikv_event event = ikv_event_make(kind, 0);
    event.pointer.type = type;
    event.pointer.x = x;
    event.pointer.button = (int8_t)button;
    return event;
}

static const struct {
    ikv_kind kind;
    uint8_t type;
    float x;
    int button;
    ikv_status status;
} refusal_table[] = {
    {IKV_KIND_POINTER_UP, IKV_MOUSE, 0, 0, IKV_ABSENT},
    {IKV_KIND_POINTER_UP, IKV_TOUCH, 0, 0, IKV_ABSENT},
    {IKV_KIND_POINTER_MOVE, IKV_TOUCH, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_CANCEL, IKV_TOUCH, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_LEAVE, IKV_MOUSE, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, -1, IKV_ABSENT},
    {IKV_KIND_POINTER_DOWN, IKV_MOUSE, 0, 99, IKV_ABSENT},
    {IKV_KIND_POINTER_MOVE, IKV_MOUSE, NAN, -1, IKV_BAD_VALUE},
    {IKV_KIND_POINTER_MOVE, IKV_MOUSE, INFINITY, -1, IKV_BAD_VALUE},
    {IKV_KIND_WHEEL, IKV_MOUSE, -INFINITY, 0, IKV_BAD_VALUE},
    {IKV_KIND_PEN_DISTANCE, IKV_MOUSE, NAN, 0, IKV_BAD_VALUE},
    {IKV_KIND_PAD_AXIS, IKV_MOUSE, NAN, 0, IKV_BAD_VALUE}, /* its value */
    {IKV_KIND_PAD_DOWN, IKV_MOUSE, INFINITY, 0, IKV_BAD_VALUE},
    {999, 0, 0, 0, IKV_UNKNOWN_KIND},
};

START_TEST(refused_events)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_event event =
        pointer_event(refusal_table[_i].kind, refusal_table[_i].type,
                      refusal_table[_i].x, refusal_table[_i].button);
    status_is(ikv_router_route(k.router, &event).status,
              refusal_table[_i].status);
    ikv_router_counts n = router_counts(k.router);
    ck_assert_uint_eq(n.routed, 0);
    ck_assert_uint_eq(n.pointers, 0);
    ck_assert_uint_eq(n.meaningless, refusal_table[_i].status == IKV_ABSENT);
    ck_assert_uint_eq(n.not_finite, refusal_table[_i].status == IKV_BAD_VALUE);
    kit_close(&k);
}
END_TEST

/* Too many touches, each down twice, few and thousands: what is past the
 * capacity is refused and counted, the rest goes on, and nothing stays. */
static const struct {
    uint32_t room, touches;
} touch_table[] = {{3, 5}, {32, 5000}};

START_TEST(too_many_touches)
{
    static const ikv_kind turns[] = {
        IKV_KIND_POINTER_DOWN, IKV_KIND_POINTER_DOWN, IKV_KIND_POINTER_UP};
    static const ikv_status within[] = {IKV_OK, IKV_ABSENT, IKV_OK};
    uint32_t room = touch_table[_i].room, touches = touch_table[_i].touches;
    bench_kit k;
    kit_prepare(&k);
    k.config.router.pointers = room;
    kit_open(&k);
    for (int turn = 0; turn < 3; turn++)
        for (uint32_t i = 0; i < touches; i++) {
            ikv_event e = pointer_event(turns[turn], IKV_TOUCH, (float)i, 0);
            e.pointer.pointer = (uint16_t)i;
            status_is(ikv_router_route(k.router, &e).status,
                      i < room   ? within[turn]
                      : turn < 2 ? IKV_FULL_POINTERS
                                 : IKV_ABSENT);
        }
    ikv_router_counts n = router_counts(k.router);
    ck_assert_uint_eq(n.pointers, 0);
    ck_assert_uint_eq(n.pointers_high, room);
    ck_assert_uint_eq(n.too_many, 2 * (touches - room));
    ck_assert_uint_eq(n.meaningless, touches);
    kit_close(&k);
}
END_TEST

/* Keys past the capacity, seats that are not there, a pointer that changes its
 * type: refused, counted. */
START_TEST(refused_keys_and_seats)
{
    bench_kit k;
    kit_prepare(&k);
    k.config.router.keys = 2;
    kit_open(&k);
    ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    for (uint32_t i = 0; i < 3; i++) {
        e.key.code = 0x00070004 + i;
        status_is(ikv_router_route(k.router, &e).status,
                  i < 2 ? IKV_OK : IKV_FULL_KEYS);
    }
    e.kind = IKV_KIND_KEY_UP;
    status_is(ikv_router_route(k.router, &e).status, IKV_ABSENT);
    ck_assert_uint_eq(router_counts(k.router).too_many_keys, 1);
    e.key.code = 0x00070004; /* the first of as many as there may be */
    ok(ikv_router_route(k.router, &e).status);
    valid(ikv_router_validate(k.router));
    e.seat = IKV_SEAT_LIMIT;
    status_is(ikv_router_route(k.router, &e).status, IKV_ABSENT);
    e = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 0, 0);
    ok(ikv_router_route(k.router, &e).status);
    e.kind = IKV_KIND_POINTER_MOVE;
    e.pointer.type = IKV_MOUSE;
    status_is(ikv_router_route(k.router, &e).status, IKV_ABSENT);
    e.pointer.type = 9;
    status_is(ikv_router_route(k.router, &e).status, IKV_ABSENT);
    ck_assert_uint_eq(router_counts(k.router).meaningless, 4);
    kit_close(&k);
}
END_TEST

static ikv_verdict count_call(const ikv_event *event,
                              const ikv_delivery *delivery, void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return 0;
}

/* KEYS: a focus for each seat. */
START_TEST(seats)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_target_config config = IKV_TARGET_INIT;
    config.traits = IKV_FOCUSABLE;
    ikv_target a, b, none = {0};
    ok(ikv_scene_add(k.scene, &config, &a, NULL));
    ok(ikv_scene_add(k.scene, &config, &b, NULL));
    ok(ikv_router_focus(k.router, 0, a));
    ok(ikv_router_focus(k.router, 1, b));
    int heard[2] = {0, 0};
    hears(k.bus, IKV_KIND_KEY_DOWN, a, count_call, &heard[0]);
    hears(k.bus, IKV_KIND_KEY_DOWN, b, count_call, &heard[1]);
    for (uint8_t seat = 0; seat < 3; seat++) {
        ikv_event e = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
        e.seat = seat;
        e.device = seat;
        e.key.code = 0x000700e1; /* ShiftLeft */
        ok(ikv_router_route(k.router, &e).status);
    }
    ck_assert(heard[0] == 1 && heard[1] == 1);
    ck_assert_uint_eq(ikv_router_focused(k.router, 1).bits, b.bits);
    ck_assert_uint_eq(ikv_router_focused(k.router, 2).bits, none.bits);
    ck_assert_uint_eq(ikv_router_focused(k.router, 99).bits, none.bits);
    ok(ikv_router_blur(k.router, 1));
    ck_assert_uint_eq(ikv_router_focused(k.router, 0).bits, a.bits);
    status_is(ikv_router_focus(k.router, IKV_SEAT_LIMIT, a), IKV_BAD_ARGUMENT);
    status_is(ikv_router_blur(k.router, IKV_SEAT_LIMIT), IKV_BAD_ARGUMENT);
    kit_close(&k);
}
END_TEST

typedef struct heirs {
    record seen;
    ikv_router *router;
    ikv_target next; /* gets the second seat's keys as the first loses its */
} heirs;

static ikv_verdict give_on(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    heirs *h = user;
    (void)delivery;
    note(&h->seen, "%s %u %u %d; ",
         event->kind == IKV_KIND_FOCUS_IN ? "in" : "out", event->seat,
         event->focus.reason, event->source.bits != 0);
    if (event->kind == IKV_KIND_FOCUS_OUT && event->seat == 0)
        ok(ikv_router_focus(h->router, 1, h->next));
    return IKV_CONTINUE;
}

/* FOCUS3: two seats have given it the keys, and it goes. Each is told so first,
 * and then what handlers make of it. */
START_TEST(removed_from_two_seats)
{
    bench_kit k = {0};
    kit_open(&k);
    heirs h = {.router = k.router};
    ikv_target_config config = IKV_TARGET_INIT;
    config.traits = IKV_FOCUSABLE;
    ikv_target gone;
    ok(ikv_scene_add(k.scene, &config, &gone, NULL));
    ok(ikv_scene_add(k.scene, &config, &h.next, NULL));
    for (uint8_t seat = 0; seat < 3; seat++)
        ok(ikv_router_focus(k.router, seat, gone));
    hears(k.bus, IKV_KIND_FOCUS_IN, (ikv_target){0}, give_on, &h);
    hears(k.bus, IKV_KIND_FOCUS_OUT, (ikv_target){0}, give_on, &h);
    ok(ikv_scene_remove(k.scene, gone));
    /* 3: removed, 0: asked for */
    ck_assert_str_eq(h.seen.text,
                     "out 0 3 0; out 1 3 0; in 1 0 0; out 2 3 0; ");
    ck_assert_uint_eq(ikv_router_focused(k.router, 1).bits, h.next.bits);
    kit_close(&k);
}
END_TEST

static ikv_verdict note_place(const ikv_event *event,
                              const ikv_delivery *delivery, void *seen)
{
    note(seen, "%s %g in view %u of router %d; ",
         ikv_catalogue_info(NULL, event->kind)->name, (double)event->pointer.x,
         event->view, delivery->router == now->k.router ? 0 : 1);
    return 0;
}

/* Two routers on one loop, a view each: events go by view; a pointer that is
 * down stays with its router and in its view; both let go of a lost device. */
START_TEST(two_routers)
{
    now = calloc(1, sizeof *now);
    bench_kit *k = &now->k;
    kit_prepare(k);
    k->config.scene.views = 2;
    k->config.router.views = 1;
    kit_open(k);
    counted memory = {0};
    ikv_router_config config = IKV_ROUTER_INIT;
    config.bus = k->bus;
    config.picking = ikv_kit_picking(k->scene);
    config.views = 2;
    config.memory = counted_memory(&memory);
    ikv_router *second;
    ok(ikv_router_open(&config, &second));
    ck_assert(ikv_router_serves(second, 1) && !ikv_router_serves(second, 0));
    ikv_router *routers[] = {k->router, second};
    ikv_loop_config loop_config = IKV_LOOP_INIT;
    loop_config.bus = k->bus;
    loop_config.queue = ikv_kit_queue(k->kit);
    loop_config.input = input_of(k->bus, routers, 2, counted_memory(&memory));
    fake_port fake = {.now_ns = 7000000000};
    ikv_port port = fake_port_of(&fake);
    loop_config.ports = &port;
    loop_config.port_count = 1;
    loop_config.frame_hz = IKV_UNPACED;
    loop_config.memory = counted_memory(&memory);
    bench_kit outer = *k; /* the same modules, driven by a loop of our own */
    ok(ikv_loop_open(&loop_config, &outer.loop));
    static const ikv_kind kinds[] = {IKV_KIND_POINTER_DOWN,
                                     IKV_KIND_POINTER_MOVE, IKV_KIND_POINTER_UP,
                                     IKV_KIND_POINTER_CANCEL};
    ikv_subscription_config s = IKV_SUBSCRIPTION_INIT;
    s.kinds = kinds;
    s.kind_count = 4;
    s.handler = note_place;
    s.user = &now->seen;
    ok(ikv_bus_subscribe(k->bus, &s, NULL, NULL));
    static const struct {
        ikv_kind kind;
        uint8_t view;
        float x;
    } input[] = {{IKV_KIND_POINTER_DOWN, 0, 1}, {IKV_KIND_POINTER_DOWN, 1, 2},
                 {IKV_KIND_POINTER_MOVE, 0, 3}, {IKV_KIND_POINTER_MOVE, 0, 4},
                 {IKV_KIND_POINTER_UP, 1, 5},   {IKV_KIND_DEVICE_REMOVE, 0, 0}};
    ikv_loop_begin(outer.loop);
    ikv_loop_end(outer.loop);
    for (int i = 0; i < ROWS(input); i++) {
        ikv_event e =
            pointer_event(input[i].kind, IKV_TOUCH, input[i].x,
                          input[i].kind == IKV_KIND_POINTER_MOVE ? -1 : 0);
        e.view = input[i].view;
        e.device = fake.device;
        e.time_ns = fake.now_ns;
        e.pointer.pointer = (uint16_t)(i % 2);
        ok(ikv_sink_push(fake.sink, &e));
        fake.now_ns += 20000000;
        ck_assert(whole_frame(outer.loop));
    }
    ck_assert_str_eq(now->seen.text,
                     "pointer.down 1 in view 0 of router 0; "
                     "pointer.down 2 in view 1 of router 1; "
                     "pointer.move 3 in view 0 of router 0; "
                     "pointer.move 4 in view 1 of router 1; "
                     "pointer.up 5 in view 0 of router 0; "
                     "pointer.cancel 4 in view 1 of router 1; ");
    valid(ikv_router_validate(second));
    ck_assert_uint_eq(router_counts(second).pointers, 0);
    ikv_loop_close(outer.loop);
    ok(ikv_input_close(loop_config.input));
    ikv_router_close(second);
    ck_assert_int_eq(memory.takes, memory.gives);
    kit_close(k);
    free(now);
}
END_TEST

/* L3: a mouse that goes to another view leaves the one it was in, which takes
 * it again when it comes back; each view a router's own, or both one's. What
 * says that it has left may come late. */
START_TEST(mouse_between_routers)
{
    static const struct {
        ikv_kind kind;
        uint8_t view;
        int8_t in; /* -1: in neither */
        ikv_status status;
    } input[] = {{IKV_KIND_POINTER_MOVE, 0, 0, IKV_OK},
                 {IKV_KIND_POINTER_MOVE, 1, 1, IKV_OK},
                 {IKV_KIND_POINTER_MOVE, 0, 0, IKV_OK},
                 {IKV_KIND_POINTER_LEAVE, 1, 0, IKV_ABSENT},
                 {IKV_KIND_POINTER_CANCEL, 1, 0, IKV_ABSENT},
                 {IKV_KIND_POINTER_MOVE, 0, 0, IKV_OK},
                 {IKV_KIND_POINTER_MOVE, 1, 1, IKV_OK},
                 {IKV_KIND_POINTER_MOVE, 1, 1, IKV_OK},
                 {IKV_KIND_POINTER_LEAVE, 1, -1, IKV_OK},
                 {IKV_KIND_POINTER_MOVE, 0, 0, IKV_OK},
                 {IKV_KIND_WHEEL, 1, 1, IKV_OK}};
    bench_kit k;
    counted memory = {0};
    ikv_router *routers[2];
    const uint32_t count = _i == 0 ? 2 : 1;
    kit_prepare(&k);
    k.config.scene.views = 2;
    k.config.no_actions = true;
    kit_open(&k);
    ikv_router_config config = IKV_ROUTER_INIT;
    config.bus = k.bus;
    config.picking = ikv_kit_picking(k.scene);
    config.memory = counted_memory(&memory);
    for (uint32_t i = 0; i < count; i++) {
        config.views = count == 1 ? 3 : 1u << i;
        ok(ikv_router_open(&config, &routers[i]));
    }
    ikv_input *own = input_of(k.bus, routers, count, counted_memory(&memory));
    for (int i = 0; i < ROWS(input); i++) {
        ikv_event e =
            pointer_event(input[i].kind, IKV_MOUSE, (float)i, IKV_NO_BUTTON);
        int in = input[i].in;
        if (e.kind == IKV_KIND_WHEEL) {
            /* OVER6: where it was in the other view. A wheel makes no mouse
             * known. */
            e.wheel = (ikv_wheel_data){.x = (float)i - 1, .type = IKV_MOUSE};
            in = count == 1 ? in : -1;
        }
        e.view = input[i].view;
        e.time_ns = (uint64_t)i * 1000;
        status_is(ikv_input_route(own, &e, NULL, 2).status, IKV_BAD_ARGUMENT);
        /* without samples it stands for itself, as one or as none */
        status_is(ikv_input_route(own, &e, NULL, (uint32_t)i % 2).status,
                  input[i].status);
        for (uint32_t r = 0; r < count; r++) {
            ikv_routed_pointer p = IKV_ROUTED_POINTER_INIT;
            bool known = ikv_router_pointer(routers[r], 0, &p);
            ck_assert_int_eq(known, count == 1 ? in >= 0 : (int)r == in);
            ck_assert(!known || (p.view == in && p.over.bits != 0));
        }
    }
    ok(ikv_input_close(own));
    for (uint32_t i = 0; i < count; i++)
        ok(ikv_router_close(routers[i]));
    kit_close(&k);
}
END_TEST

/* After a loss each of as many routers as there can be lets go of what is not
 * held; the actions that follow them all are closed before them. */
START_TEST(resync_of_all)
{
    bench_kit k;
    counted memory = {0};
    ikv_router *routers[IKV_ROUTER_LIMIT + 1];
    kit_prepare(&k);
    k.config.scene.views = IKV_ROUTER_LIMIT + 1;
    k.config.no_actions = true;
    kit_open(&k);
    ikv_router_config config = IKV_ROUTER_INIT;
    ikv_actions_config acts = IKV_ACTIONS_INIT;
    ikv_actions *actions;
    config.bus = acts.bus = k.bus;
    config.picking = ikv_kit_picking(k.scene);
    config.memory = acts.memory = counted_memory(&memory);
    acts.state = ikv_kit_state(k.kit);
    ok(ikv_actions_open(&acts, &actions));
    for (int i = 0; i <= IKV_ROUTER_LIMIT; i++) {
        config.views = 1u << i;
        ok(ikv_router_open(&config, &routers[i]));
        status_is(ikv_actions_follow(actions, routers[i]),
                  i < IKV_ROUTER_LIMIT ? IKV_OK : IKV_FULL_ROUTERS);
    }
    ok(ikv_actions_follow(actions, routers[0]));
    ikv_input *input =
        input_of(k.bus, routers, IKV_ROUTER_LIMIT, counted_memory(&memory));
    ikv_event down[IKV_ROUTER_LIMIT];
    for (int i = 0; i < IKV_ROUTER_LIMIT; i++) {
        down[i] = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 5, 0);
        down[i].view = (uint8_t)i;
        down[i].pointer.pointer = (uint16_t)(i + 1);
        ikv_input_route(input, &down[i], NULL, 0);
        ck_assert(ikv_router_is_down(routers[i], &down[i]));
    }
    ikv_event lost = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 10);
    lost.device = down[0].device;
    ikv_input_resync(input, &lost, &down[2], 1);
    for (int i = 0; i < IKV_ROUTER_LIMIT; i++)
        ck_assert_int_eq(ikv_router_is_down(routers[i], &down[i]), i == 2);
    ok(ikv_input_close(input));
    ok(ikv_actions_close(actions));
    for (int i = 0; i <= IKV_ROUTER_LIMIT; i++)
        ok(ikv_router_close(routers[i]));
    ck_assert_int_eq(memory.takes, memory.gives);
    kit_close(&k);
}
END_TEST

/* Kinds of pads and pointers, a pad's with its button's or axis' number. */
static ikv_verdict note_input(const ikv_event *event, const ikv_delivery *d,
                              void *user)
{
    char *text = user;
    size_t at = strlen(text);
    (void)d;
    if (event->kind == IKV_KIND_PAD_UP || event->kind == IKV_KIND_PAD_DOWN ||
        event->kind == IKV_KIND_PAD_AXIS)
        snprintf(text + at, 200 - at, "%s %u, ",
                 ikv_catalogue_info(NULL, event->kind)->name, event->pad.index);
    else if (event->kind == IKV_KIND_POINTER_DOWN ||
             event->kind == IKV_KIND_POINTER_CANCEL ||
             event->kind == IKV_KIND_DEVICE_RESYNC)
        snprintf(text + at, 200 - at, "%s, ",
                 ikv_catalogue_info(NULL, event->kind)->name);
    return IKV_CONTINUE;
}

/* K1, Q3: after a loss a pad's button that is still held stays down, and one
 * whose press was lost goes down, whatever pointers the same device has. */
START_TEST(resync_of_a_pad)
{
    enum {
        DEVICE = 3
    };
    char text[200] = "";
    bench_kit k;
    kit_prepare(&k);
    kit_open(&k);
    ikv_subscription_config all = IKV_SUBSCRIPTION_INIT;
    all.all_kinds = true;
    all.handler = note_input;
    all.user = text;
    ok(ikv_bus_subscribe(k.bus, &all, NULL, NULL));
    ikv_event held[3], press = ikv_event_make(IKV_KIND_PAD_DOWN, 1);
    press.device = DEVICE;
    for (uint8_t i = 0; i < 3; i++) {
        press.kind = i == 2 ? IKV_KIND_PAD_AXIS : IKV_KIND_PAD_DOWN;
        press.pad.index = i;
        press.pad.value = i == 0 ? 0.5f : 1;
        ikv_input_route(ikv_kit_input(k.kit), &press, NULL, 0);
        ikv_state_take(ikv_kit_state(k.kit), IKV_STATE_RAW, &press);
    }
    /* Button 0 is held, 2 has gone down, 1 was let go; a touch is new. */
    held[0] = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 5, 0);
    held[0].pointer.pointer = 0;
    held[1] = held[2] = press;
    held[1].kind = held[2].kind = IKV_KIND_PAD_DOWN;
    held[1].pad.index = 0;
    for (int i = 0; i < 3; i++) {
        held[i].device = DEVICE;
        held[i].time_ns = 10;
    }
    ikv_event lost = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 10);
    lost.device = DEVICE;
    ikv_state_begin_step(ikv_kit_state(k.kit), 10);
    text[0] = '\0';
    ikv_input_resync(ikv_kit_input(k.kit), &lost, held, 3);
    ck_assert_str_eq(text, "pad.up 1, pad.axis 2, device.resync, "
                           "pointer.down, pad.down 2, ");
    ikv_pad_state pad;
    ck_assert(ikv_state_pad(ikv_kit_state(k.kit), IKV_STATE_RAW, 0, &pad));
    ck_assert_uint_eq(pad.buttons, 5);
    ck_assert_uint_eq(pad.went_down, 4);
    ck_assert_uint_eq(pad.went_up, 2);
    ck_assert(pad.values[0] > 0 && pad.values[1] <= 0 && pad.axes[2] == 0);
    static const struct {
        ikv_kind kind;
        uint8_t index;
        bool down;
    } asked[] = {{IKV_KIND_PAD_DOWN, 0, true},
                 {IKV_KIND_PAD_UP, 1, false},
                 {IKV_KIND_PAD_UP, 2, true},
                 {IKV_KIND_PAD_DOWN, 200, false},
                 {IKV_KIND_PAD_AXIS, 0, false},
                 {IKV_KIND_TEXT_INPUT, 0, false},
                 {60000, 0, false}};
    for (size_t i = 0; i < ROWS(asked); i++) {
        ikv_event about = ikv_event_make(asked[i].kind, 10);
        about.device = DEVICE;
        about.pad.index = asked[i].index;
        ck_assert_msg(ikv_router_is_down(k.router, &about) == asked[i].down,
                      "row %zu", i);
    }
    /* Without an answer all is let go. */
    text[0] = '\0';
    ikv_input_resync(ikv_kit_input(k.kit), &lost, NULL, 0);
    ck_assert_str_eq(text,
                     "pad.up 0, pad.up 2, pointer.cancel, device.resync, ");
    kit_close(&k);
}
END_TEST

static ikv_gesture_data last_gesture;
static uint32_t gestures;

static ikv_verdict keep_gesture(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)d, (void)user;
    last_gesture = event->gesture;
    gestures++;
    return IKV_CONTINUE;
}

/* A pointer's size goes with what is made up of it, and two fingers that meet
 * at one place have not turned. */
static ikv_pointer_data last_over;

static ikv_verdict keep_over(const ikv_event *event, const ikv_delivery *d,
                             void *user)
{
    (void)d, (void)user;
    last_over = event->pointer;
    return IKV_CONTINUE;
}

START_TEST(size_and_meeting)
{
    static const float moves[][2] = {{100, 140}, {90, 150}, {120, 120}};
    bench_kit k;
    ikv_target everywhere = {0};
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, IKV_KIND_GESTURE_PINCH, everywhere, keep_gesture, NULL);
    hears(k.bus, IKV_KIND_POINTER_OVER, everywhere, keep_over, NULL);
    gestures = 0;
    for (uint64_t frame = 0; frame < ROWS(moves); frame++)
        for (uint16_t finger = 0; finger < 2; finger++) {
            ikv_event e = ikv_event_make(frame == 0 ? IKV_KIND_POINTER_DOWN
                                                    : IKV_KIND_POINTER_MOVE,
                                         frame * 1000000);
            e.device = 3;
            e.pointer.type = IKV_TOUCH;
            e.pointer.pointer = finger;
            e.pointer.button = frame == 0 ? 0 : -1;
            e.pointer.x = moves[frame][finger];
            e.pointer.y = 100;
            e.pointer.width = 40;
            e.pointer.height = 60;
            ikv_router_route(k.router, &e);
        }
    ck_assert_int_gt(gestures, 0);
    ck_assert_float_eq(last_gesture.rotation, 0);
    ikv_event rests = ikv_event_make(IKV_KIND_POINTER_MOVE, 9000000);
    rests.device = 4;
    rests.pointer.type = IKV_MOUSE;
    rests.pointer.width = 40;
    rests.pointer.height = 60;
    ikv_router_route(k.router, &rests);
    rect_target(k.scene, (ikv_target){0}, -5, -5, 10, 10, 1);
    last_over = (ikv_pointer_data){0};
    ikv_router_retest(k.router, 10000000);
    ck_assert_uint_eq(last_over.width, 40);
    ck_assert_uint_eq(last_over.height, 60);
    kit_close(&k);
}
END_TEST

/* Two fingers around (100, 100): how far apart, and turned by how many degrees
 * in steps of so many, from 40 apart on. */
static const struct {
    float apart;
    int turned, step;
} pinch_table[] = {{80, 0, 15},    {20, 0, 15},    {40, 90, 15},
                   {60, -45, 15},  {100, 270, 15}, {40, -540, 15},
                   {40, 120, 30},  {40, -120, 40}, {40, 300, 60},
                   {40, -300, 75}, {40, 400, 100}, {40, -480, 120},
                   {40, 600, 150}};

/* GESTURE: scale and rotation count from the pinch's start; turns add up. */
START_TEST(pinches)
{
    bench_kit k;
    ikv_target everywhere = {0};
    gestures = 0;
    kit_prepare(&k);
    kit_open(&k);
    kit_frame(&k, 0);
    hears(k.bus, IKV_KIND_GESTURE_PINCH, everywhere, keep_gesture, NULL);
    int turned = pinch_table[_i].turned;
    int way = turned < 0 ? -pinch_table[_i].step : pinch_table[_i].step;
    int frames = turned / way + 12;
    for (int frame = 0; frame < frames; frame++) {
        int at = frame < 2 ? 0 : (frame - 2) * way;
        if (frame >= frames - 8)
            at = turned;
        float apart = frame == 0           ? 20.0f
                      : frame < frames - 6 ? 40.0f
                                           : pinch_table[_i].apart;
        ikv_rotation r = ikv_scene_rotation((float)at);
        for (int finger = 0; finger < 2; finger++) {
            float side = finger == 0 ? -apart / 2 : apart / 2;
            ikv_event e = ikv_event_make(frame == 0 ? IKV_KIND_POINTER_DOWN
                                                    : IKV_KIND_POINTER_MOVE,
                                         (uint64_t)frame * 1000000);
            e.device = 3;
            e.pointer.type = IKV_TOUCH;
            e.pointer.pointer = (uint16_t)(finger + 1);
            e.pointer.button = frame == 0 ? 0 : -1;
            e.pointer.x = 100 + side * r.cos;
            e.pointer.y = 100 + side * r.sin;
            ikv_router_route(k.router, &e);
        }
    }
    ck_assert_uint_gt(gestures, 4);
    ck_assert_float_eq_tol(last_gesture.rotation,
                           (float)turned * 3.14159265f / 180, 1e-4f);
    ck_assert_float_eq_tol(last_gesture.scale * 40, pinch_table[_i].apart,
                           0.01f);
    ck_assert_float_eq_tol(last_gesture.x, 100, 1e-3f);
    ck_assert_uint_eq(last_gesture.pointer + last_gesture.other, 3);
    kit_close(&k);
}
END_TEST

static ikv_verdict route_inside(const ikv_event *event,
                                const ikv_delivery *delivery, void *user)
{
    (void)user;
    status_is(ikv_router_route(delivery->router, event).status, IKV_BUSY);
    status_is(ikv_router_capture(delivery->router, event, (ikv_target){0x4000}),
              IKV_STALE);
    return IKV_CONTINUE;
}

static void note_followed(void *user, ikv_router *router,
                          const ikv_event *event, ikv_outcome outcome,
                          bool passed)
{
    (void)router, (void)passed;
    note(user, "%s:%u ", ikv_catalogue_info(NULL, event->kind)->name,
         outcome.heard);
}

static ikv_verdict hear_quietly(const ikv_event *event, const ikv_delivery *d,
                                void *user)
{
    (void)event, (void)d, (void)user;
    return IKV_CONTINUE;
}

/* A follower is told of what is routed, heard or not, and of boundary events
 * that somebody may have heard. */
START_TEST(followed)
{
    bench_kit k = {0};
    record told = {""};
    kit_open(&k);
    ikv_target none = {0};
    ikv_target boat = rect_target(k.scene, none, 10, 10, 50, 50, 0);
    ikv_event e = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
    e.device = 1;
    e.pointer.type = IKV_MOUSE;
    ikv_router_set_follower(k.router, note_followed, &told);
    for (int i = 0; i < 2; i++) {
        if (i == 1)
            hears(k.bus, IKV_KIND_POINTER_ENTER, boat, hear_quietly, NULL);
        for (int at = 5; at < 40; at += 15) {
            e.time_ns++;
            e.pointer.x = e.pointer.y = (float)at;
            ikv_router_route(k.router, &e);
        }
        note(&told, "| ");
    }
    ck_assert_str_eq(told.text,
                     "pointer.move:0 pointer.move:0 pointer.move:0 | "
                     "pointer.move:0 pointer.enter:1 pointer.move:0 "
                     "pointer.move:0 | ");
    kit_close(&k);
}
END_TEST

START_TEST(wrong_calls)
{
    bench_kit k = {0};
    kit_open(&k);
    ikv_event e = pointer_event(IKV_KIND_POINTER_DOWN, IKV_TOUCH, 0, 0);
    ikv_target root = ikv_bus_root(k.bus), none = {0};
    ikv_router *router;
    ikv_router_config config = IKV_ROUTER_INIT;
    status_is(ikv_router_open(NULL, &router), IKV_BAD_ARGUMENT);
    status_is(ikv_router_open(&config, &router), IKV_BAD_CONFIG);
    config.bus = k.bus;
    status_is(ikv_router_open(&config, &router), IKV_BAD_CONFIG);
    config.picking = ikv_kit_picking(k.scene);
    status_is(ikv_router_open(&config, &router), IKV_NO_MEMORY);
    static const size_t needed[] = {
        offsetof(ikv_picking, pick),     offsetof(ikv_picking, parent),
        offsetof(ikv_picking, alive),    offsetof(ikv_picking, traits),
        offsetof(ikv_picking, to_local), offsetof(ikv_picking, revision)};
    for (int i = 0; i < ROWS(needed); i++) {
        memset((char *)&config.picking + needed[i], 0, sizeof(void (*)(void)));
        status_is(ikv_router_open(&config, &router), IKV_BAD_CONFIG);
        config.picking = ikv_kit_picking(k.scene);
    }
    config.picking.size = 1;
    status_is(ikv_router_open(&config, &router), IKV_BAD_SIZE);
    status_is(ikv_router_capture(k.router, &e, root), IKV_BAD_ARGUMENT);
    status_is(ikv_router_release(k.router, &e, root), IKV_BAD_ARGUMENT);
    status_is(ikv_router_capture(NULL, &e, root), IKV_BAD_ARGUMENT);
    ck_assert(!ikv_router_has_capture(k.router, &e, root));
    hears(k.bus, e.kind, none, route_inside, NULL);
    ok(ikv_router_route(k.router, &e).status);
    ck_assert_uint_eq(router_counts(k.router).busy, 1);
    ck_assert(ikv_router_has_capture(k.router, &e, root));
    status_is(ikv_router_release(k.router, &e, none), IKV_ABSENT);
    status_is(ikv_router_focus(k.router, 0, (ikv_target){99}), IKV_STALE);
    status_is(ikv_router_focus(k.router, 0, root), IKV_ABSENT);
    status_is(ikv_router_blur(k.router, 0), IKV_ABSENT);
    status_is(ikv_router_route(NULL, &e).status, IKV_BAD_ARGUMENT);
    ikv_router_retest(NULL, 0);
    ikv_router_removed(NULL, root, root);
    kit_close(&k);
}
END_TEST

/* What a host calls that has no loop of ours: larger payloads, merged moves,
 * losses (K1), what goes, and the state beside it (S2). */
static ikv_verdict note_all(const ikv_event *event,
                            const ikv_delivery *delivery, void *user)
{
    note(user, "%s%s%.*s%s ", ikv_catalogue_info(NULL, event->kind)->name,
         delivery->data_size > 0 ? "=" : "", (int)delivery->data_size,
         delivery->data_size > 0 ? (const char *)delivery->data : "",
         event->flags & IKV_SYNTHETIC ? "!" : "");
    if (delivery->sample_count > 0)
        note(user, "of %u ", delivery->sample_count);
    return IKV_CONTINUE;
}

START_TEST(by_hand)
{
    static record r;
    bench_kit k = {0};
    ikv_event e = ikv_event_make(IKV_KIND_TEXT_INPUT, 5), moves[3];
    ikv_subscription_config all = IKV_SUBSCRIPTION_INIT;
    kit_prepare(&k);
    kit_open(&k);
    ikv_state *state = ikv_kit_state(k.kit);
    ikv_input *input = ikv_kit_input(k.kit);
    all.all_kinds = true;
    all.handler = note_all;
    all.user = &r;
    ok(ikv_bus_subscribe(k.bus, &all, NULL, NULL));
    r.text[0] = '\0';
    ok(ikv_router_route_data(k.router, &e, "berth", 5).status);
    ok(ikv_input_route_data(input, &e, "quay", 4).status);
    status_is(ikv_router_route_data(k.router, &e, NULL, 3).status,
              IKV_BAD_ARGUMENT);
    status_is(ikv_input_route_data(input, &e, NULL, 3).status,
              IKV_BAD_ARGUMENT);
    ck_assert_str_eq(r.text, "text.input=berth text.input=quay ");
    for (int i = 0; i < 3; i++) {
        moves[i] = ikv_event_make(IKV_KIND_POINTER_MOVE, 6);
        moves[i].device = 1;
        moves[i].pointer.x = (float)i;
    }
    e = moves[2];
    e.samples = 3;
    r.text[0] = '\0';
    ok(ikv_router_route_merged(k.router, &e, moves, 3).status);
    status_is(ikv_router_route_merged(k.router, &e, NULL, 3).status,
              IKV_BAD_ARGUMENT);
    ck_assert_str_eq(r.text, "pointer.over pointer.enter pointer.move of 3 ");
    e = ikv_event_make(IKV_KIND_POINTER_DOWN, 7);
    e.device = 1;
    ok(ikv_router_route(k.router, &e).status);
    for (uint32_t code = 4; code < 6; code++) {
        e = ikv_event_make(IKV_KIND_KEY_DOWN, 7);
        e.device = 1;
        e.key.code = 0x00070000u | code;
        ok(ikv_router_route(k.router, &e).status);
        ikv_state_take(state, IKV_STATE_UNCLAIMED, &e);
        e.key.code += 10; /* a handler has stopped it */
        ikv_state_take_claimed(state, &e);
        ck_assert(
            !ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, e.key.code).down);
    }
    /* of that device alone, and not what is held */
    r.text[0] = '\0';
    ikv_event lost = ikv_event_make(IKV_KIND_DEVICE_RESYNC, 8), held = e;
    held.key.code = 0x00070004u;
    lost.device = 2;
    ikv_router_resync(k.router, &lost, NULL, 0);
    ck_assert_str_eq(r.text, "");
    lost.device = 1;
    ikv_router_resync(k.router, &lost, &held, 1);
    ck_assert_str_eq(r.text, "key.up! pointer.cancel! ");
    ck_assert(ikv_router_is_down(k.router, &held));
    ikv_state_take_claimed(state, &(ikv_event){.kind = IKV_KIND_KEY_UP,
                                               .device = 1,
                                               .key.code = 0x00070004u});
    ck_assert(!ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, 0x00070004u).down);
    ck_assert(ikv_state_key(state, IKV_STATE_UNCLAIMED, 0, 0x00070005u).down);
    /* as it goes; of other events nothing follows */
    r.text[0] = '\0';
    ikv_router_release_all(k.router, &moves[0]);
    ck_assert_str_eq(r.text, "");
    lost.kind = IKV_KIND_DEVICE_REMOVE;
    ikv_router_release_all(k.router, &lost);
    ck_assert_str_eq(r.text, "key.up! pointer.out! pointer.leave! ");
    kit_close(&k);
}
END_TEST

Suite *router_suite(void)
{
    Suite *s = suite_create("router");
    load_cases();
    add_table(s, "golden cases", golden_routing,
              routing_count > 0 ? routing_count : 1);
    add_table(s, "refused", refused_events, ROWS(refusal_table));
    add_table(s, "TOUCH many", too_many_touches, ROWS(touch_table));
    add(s, "KEYS refused", refused_keys_and_seats);
    add(s, "FOCUS seats", seats);
    add(s, "FOCUS3 removed from two seats", removed_from_two_seats);
    add(s, "L3 several routers", two_routers);
    add(s, "MODAL1 MODAL3 seats", modal_seats);
    add(s, "FOCUS5 MODAL3 less picking", less_picking);
    add(s, "DRAG1 what can't be dragged", no_drag);
    add(s, "DRAG1 MODAL1 a picking of the topmost alone", topmost_alone);
    add(s, "K1 resync of all", resync_of_all);
    add(s, "K1 resync of a pad", resync_of_a_pad);
    add_table(s, "L3 between routers", mouse_between_routers, 2);
    add(s, "GESTURE POINTER size and meeting", size_and_meeting);
    add_table(s, "GESTURE scale and rotation", pinches, ROWS(pinch_table));
    add(s, "OVER followed", followed);
    add(s, "K1 S2 by hand", by_hand);
    add(s, "wrong use", wrong_calls);
    return s;
}
