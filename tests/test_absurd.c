/* test_absurd.c - every public function with absurd arguments: in a usual call
 * on open objects, one parameter at a time is NULL, a stale handle, zero, the
 * largest number, not a number; outside and inside a handler. It must not
 * crash; what it returns must be what its header says; and if that is an error,
 * nothing has changed. The calls are made from the headers (absurd.awk): a new
 * function, or a type that is not known here, does not build without a case. */
#include "support.h"

#if defined(__SANITIZE_ADDRESS__)
#include <sanitizer/lsan_interface.h>
#endif

#include <ikvar/digest.h>
#include <ikvar/keys.h>

#include <math.h>

static bench_kit k;
static ikv_target lamp, gull;
static ikv_subscription light;
static ikv_owner owner;
static ikv_timer timer;
static ikv_lane lane;
static ikv_mailbox mailbox;
static ikv_action_id foghorn;
static ikv_binding binding;
static ikv_action_set set;
static ikv_event event;
static ikv_setup *setup, *made_setup;
static ikv_tape *tape, *made_tape;
static ikv_trace *trace, *made_trace;
static ikv_recording *recording, *made_recording;
static ikv_why *why, *made_why;
static ikv_stats *stats, *made_stats;
static ikv_review *review, *made_review;
static ikv_why_past *past, *made_past;
static ikv_comparison *comparison, *made_comparison;
static FILE *trace_file;
static ikv_status status_of_call;
static union {
    char bytes[1 << 16];
    uint64_t aligned;
} scratch;

/* What else a function returned; all zero: nothing. */
static bool answered_something;

static void answered(const void *answer, size_t size)
{
    for (size_t i = 0; i < size; i++)
        answered_something =
            answered_something || ((const uint8_t *)answer)[i] != 0;
}

static void answered_text(const char *text)
{
    answered_something = text != NULL && text[0] != '\0';
}

static void returned(ikv_status status)
{
    status_of_call = status;
}

static ikv_verdict hear(const ikv_event *e, const ikv_delivery *d, void *user)
{
    (void)e, (void)d, (void)user;
    return IKV_CONTINUE;
}

static void watch(const ikv_watch *w, void *user)
{
    (void)w, (void)user;
}

static void removed(void *user, ikv_target target, ikv_target former)
{
    (void)user, (void)target, (void)former;
}

static void recorded(const ikv_event *e, const ikv_intake *i, void *user)
{
    (void)e, (void)i, (void)user;
}

static void followed(void *user, ikv_router *router, const ikv_event *e,
                     ikv_outcome outcome, bool passed)
{
    (void)user, (void)router, (void)e, (void)outcome, (void)passed;
}

static void noted(const char *text, void *user)
{
    (void)text, (void)user;
}

static void told_mistake(const ikv_mistake *mistake, void *user)
{
    (void)user;
    ck_assert_ptr_nonnull(ikv_mistake_about(mistake->code));
}

static uint64_t clock_ns(void *user)
{
    (void)user;
    return 1;
}

/* ---------------------------------------------- what the calls are given -- */

/* nth < 0 gives the usual one. */
#define POINTER(word, type, usual)                                             \
    static type given_##word(int nth)                                          \
    {                                                                          \
        return nth < 0 ? (type)(usual) : NULL;                                 \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##word = 1                                                      \
    };
#define HANDLE(type, usual)                                                    \
    static type given_##type(int nth)                                          \
    {                                                                          \
        static const uint32_t bits[] = {0, 0x80000001u, UINT32_MAX};           \
        return nth < 0 ? (usual) : (type){bits[nth]};                          \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##type = 3                                                      \
    };
#define VALUES(word, type, usual, ...)                                         \
    static type given_##word(int nth)                                          \
    {                                                                          \
        static const type values[] = {__VA_ARGS__};                            \
        return nth < 0 ? (type)(usual) : values[nth];                          \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##word = sizeof((type[]){__VA_ARGS__}) / sizeof(type)           \
    };
/* NULL; a wrong size; all zero but for the size. */
#define CONFIG(type, fill)                                                     \
    static const type *given_const_##type##_p(int nth)                         \
    {                                                                          \
        static type config;                                                    \
        memset(&config, 0, sizeof config);                                     \
        config.size = nth == 1 ? 3 : sizeof config;                            \
        if (nth < 0) {                                                         \
            fill;                                                              \
        }                                                                      \
        return nth == 0 ? NULL : &config;                                      \
    }                                                                          \
    enum {                                                                     \
        ABSURD_const_##type##_p = 3                                            \
    };
#define OUT(type)                                                              \
    static type *given_##type##_p(int nth)                                     \
    {                                                                          \
        static type to;                                                        \
        return nth < 0 ? &to : NULL;                                           \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##type##_p = 1                                                  \
    };
/* NULL; a size that is none; too small. */
#define SIZED_OUT(type)                                                        \
    static type *given_##type##_p(int nth)                                     \
    {                                                                          \
        static type to;                                                        \
        to.size = nth == 1 ? 3 : sizeof to - (nth == 2 ? 8 : 0);               \
        return nth == 0 ? NULL : &to;                                          \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##type##_p = 3                                                  \
    };
#define OUT_POINTER(type, where)                                               \
    static type **given_##type##_p_p(int nth)                                  \
    {                                                                          \
        return nth < 0 ? (where) : NULL;                                       \
    }                                                                          \
    enum {                                                                     \
        ABSURD_##type##_p_p = 1                                                \
    };

VALUES(uint8_t, uint8_t, 0, 255, 8, 1)
VALUES(uint16_t, uint16_t, 1, 0, UINT16_MAX, 1024)
VALUES(uint32_t, uint32_t, 1, 0, UINT32_MAX, 1u << 31, 64)
VALUES(uint32_t_size, uint32_t, 1, 0)
VALUES(size_t_size, size_t, 64, 0, 1)
VALUES(uint64_t, uint64_t, 1, 0, UINT64_MAX, UINT64_MAX / 2 + 1)
VALUES(int32_t, int32_t, 1, 0, INT32_MAX, INT32_MIN)
VALUES(float, float, 1, 0, -1, NAN, INFINITY, -INFINITY, 3.4e38f, 1e-45f)
VALUES(double, double, 1, 0, NAN, INFINITY, -INFINITY, 1.7e308)
VALUES(bool, bool, true, false)
VALUES(ikv_status, ikv_status, 0, INT32_MIN, INT32_MAX)
VALUES(ikv_kind, ikv_kind, IKV_KIND_KEY_DOWN, 0, UINT16_MAX, 127, 4095)
VALUES(ikv_lane, ikv_lane, lane, UINT16_MAX, 99)
VALUES(ikv_mailbox, ikv_mailbox, mailbox, 0, UINT16_MAX)
VALUES(ikv_action_set, ikv_action_set, set, UINT16_MAX, 99)

HANDLE(ikv_target, lamp)
HANDLE(ikv_subscription, light)
HANDLE(ikv_owner, owner)
HANDLE(ikv_timer, timer)
HANDLE(ikv_action_id, foghorn)
HANDLE(ikv_binding, binding)

static const char *long_text(void)
{
    memset(scratch.bytes + 4096, 'x', 4000);
    scratch.bytes[8096] = '\0';
    return scratch.bytes + 4096;
}
#define TEXT(word, usual)                                                      \
    static const char *given_text_##word(int nth)                              \
    {                                                                          \
        return nth < 0    ? (usual)                                            \
               : nth == 0 ? NULL                                               \
               : nth == 1 ? ""                                                 \
                          : long_text();                                       \
    }                                                                          \
    enum {                                                                     \
        ABSURD_text_##word = 3                                                 \
    };
TEXT(name, "horn")
TEXT(text, "KeyG")
TEXT(path, "absurd.file")
TEXT(id, "lamp")
TEXT(handler, "light")
TEXT(from, SOURCE "/tests/golden/lanes.tape.jsonl")
TEXT(to, "absurd.tape.cbor")

POINTER(void_p, void *, scratch.bytes)
POINTER(const_void_p, const void *, scratch.bytes)
POINTER(char_p, char *, scratch.bytes)
POINTER(float_p, float *, scratch.bytes)
POINTER(const_float_p, const float *, scratch.bytes)
POINTER(uint16_t_p, uint16_t *, scratch.bytes)
POINTER(uint32_t_p, uint32_t *, scratch.bytes)
POINTER(uint32_t_p_size, uint32_t *, scratch.bytes)
POINTER(uint64_t_p, uint64_t *, scratch.bytes)
POINTER(ikv_bus_p, ikv_bus *, k.bus)
POINTER(const_ikv_bus_p, const ikv_bus *, k.bus)
POINTER(ikv_scene_p, ikv_scene *, k.scene)
POINTER(const_ikv_scene_p, const ikv_scene *, k.scene)
POINTER(ikv_router_p, ikv_router *, k.router)
POINTER(const_ikv_router_p, const ikv_router *, k.router)
POINTER(ikv_loop_p, ikv_loop *, k.loop)
POINTER(const_ikv_loop_p, const ikv_loop *, k.loop)
POINTER(ikv_kit_p, ikv_kit *, k.kit)
POINTER(const_ikv_kit_p, const ikv_kit *, k.kit)
POINTER(ikv_queue_p, ikv_queue *, ikv_kit_queue(k.kit))
POINTER(const_ikv_queue_p, const ikv_queue *, ikv_kit_queue(k.kit))
POINTER(ikv_state_p, ikv_state *, ikv_kit_state(k.kit))
POINTER(const_ikv_state_p, const ikv_state *, ikv_kit_state(k.kit))
POINTER(ikv_actions_p, ikv_actions *, ikv_kit_actions(k.kit))
POINTER(const_ikv_actions_p, const ikv_actions *, ikv_kit_actions(k.kit))
POINTER(ikv_input_p, ikv_input *, ikv_kit_input(k.kit))
POINTER(const_ikv_input_p, const ikv_input *, ikv_kit_input(k.kit))
POINTER(ikv_overlaps_p, ikv_overlaps *, ikv_kit_overlaps(k.kit))
POINTER(const_ikv_overlaps_p, const ikv_overlaps *, ikv_kit_overlaps(k.kit))
POINTER(ikv_sink_p, ikv_sink *, k.fake.sink)
POINTER(const_ikv_sink_p, const ikv_sink *, k.fake.sink)
POINTER(ikv_catalogue_p, ikv_catalogue *, k.config.catalogue)
POINTER(const_ikv_catalogue_p, const ikv_catalogue *, k.config.catalogue)
POINTER(ikv_event_p, ikv_event *, scratch.bytes)
POINTER(const_ikv_event_p, const ikv_event *, &event)
POINTER(const_ikv_field_p, const ikv_field *, ikv_field_header(0))
POINTER(const_ikv_kind_info_p, const ikv_kind_info *,
        ikv_catalogue_info(NULL, IKV_KIND_KEY_DOWN))
POINTER(ikv_handler, ikv_handler, hear)
POINTER(ikv_watcher, ikv_watcher, watch)
POINTER(ikv_removal_watcher, ikv_removal_watcher, removed)
POINTER(ikv_recorder, ikv_recorder, recorded)
POINTER(ikv_router_follower, ikv_router_follower, followed)
POINTER(ikv_note_fn, ikv_note_fn, noted)
POINTER(ikv_mistake_fn, ikv_mistake_fn, told_mistake)
POINTER(ikv_clock_fn, ikv_clock_fn, clock_ns)

SIZED_OUT(ikv_bus_counts)
SIZED_OUT(ikv_subscription_counts)
SIZED_OUT(ikv_lane_counts)
SIZED_OUT(ikv_kind_counts)
SIZED_OUT(ikv_loop_counts)
SIZED_OUT(ikv_durations)
SIZED_OUT(ikv_routed_pointer)
#define given_const_ikv_durations_p given_ikv_durations_p
enum {
    ABSURD_const_ikv_durations_p = 3
};
SIZED_OUT(ikv_overlaps_counts)
SIZED_OUT(ikv_queue_counts)
SIZED_OUT(ikv_router_counts)
SIZED_OUT(ikv_scene_counts)
SIZED_OUT(ikv_actions_counts)
SIZED_OUT(ikv_setup_counts)
SIZED_OUT(ikv_why_answer)
OUT(ikv_message)
OUT(ikv_target)
OUT(ikv_subscription)
OUT(ikv_owner)
OUT(ikv_timer)
OUT(ikv_lane)
OUT(ikv_mailbox)
OUT(ikv_action_id)
OUT(ikv_action_set)
OUT(ikv_binding)
OUT(ikv_kind)
OUT(ikv_kept_event)
OUT(ikv_pointer_state)
OUT(ikv_pad_state)
OUT(ikv_contact)
OUT(ikv_obstacle)
OUT(ikv_crossing)
OUT(uint8_t)
OUT(ikv_check)
OUT(ikv_intake)
OUT(ikv_digest)
OUT(ikv_port)
OUT_POINTER(ikv_bus, &k.bus)
OUT_POINTER(ikv_scene, &k.scene)
OUT_POINTER(ikv_router, &k.router)
OUT_POINTER(ikv_loop, &k.loop)
OUT_POINTER(ikv_kit, &k.kit)
OUT_POINTER(ikv_queue, (ikv_queue **)scratch.bytes)
OUT_POINTER(ikv_state, (ikv_state **)scratch.bytes)
OUT_POINTER(ikv_actions, (ikv_actions **)scratch.bytes)
OUT_POINTER(ikv_overlaps, (ikv_overlaps **)scratch.bytes)
OUT_POINTER(ikv_input, (ikv_input **)scratch.bytes)
OUT_POINTER(ikv_catalogue, (ikv_catalogue **)scratch.bytes)
OUT_POINTER(ikv_setup, &made_setup)
OUT_POINTER(ikv_tape, &made_tape)
OUT_POINTER(ikv_trace, &made_trace)
OUT_POINTER(ikv_recording, &made_recording)
OUT_POINTER(ikv_why, &made_why)
OUT_POINTER(ikv_stats, &made_stats)
OUT_POINTER(ikv_review, &made_review)
OUT_POINTER(ikv_why_past, &made_past)
OUT_POINTER(ikv_comparison, &made_comparison)

CONFIG(ikv_bus_config, (void)0)
CONFIG(ikv_scene_config, config.bus = k.bus)
CONFIG(ikv_router_config, config.bus = k.bus)
CONFIG(ikv_loop_config, config.bus = k.bus)
CONFIG(ikv_kit_config, config = k.config)
CONFIG(ikv_queue_config, (void)0)
CONFIG(ikv_state_config, (void)0)
CONFIG(ikv_actions_config, config.bus = k.bus)
CONFIG(ikv_input_config, config.bus = k.bus)
CONFIG(ikv_overlaps_config, config.bus = k.bus)
CONFIG(ikv_catalogue_config, (void)0)
CONFIG(ikv_subscription_config, config.kind = IKV_KIND_WHEEL;
       config.handler = hear)
CONFIG(ikv_kind_config, config.name = "harbour.new")
CONFIG(ikv_bus_callbacks, (void)0)
CONFIG(ikv_route, (void)0)
CONFIG(ikv_query, (void)0)
CONFIG(ikv_area, config.shape = ikv_scene_circle(0, 0, 5))
CONFIG(ikv_line, config.x2 = 9)
CONFIG(ikv_request, config.kind = IKV_REQUEST_CURSOR)
CONFIG(ikv_target_config, (void)0)
CONFIG(ikv_sensing, config.senses = 1)
CONFIG(ikv_intake, (void)0)
CONFIG(ikv_parts, config = ikv_kit_parts(k.kit))
CONFIG(ikv_recording_config, config.path = "absurd.tape"; config.kit = k.kit)
CONFIG(ikv_bindings_config, (void)0)
CONFIG(ikv_why_config, config.kit = k.kit; config.about = IKV_ASK_HANDLER;
       config.subscription = light)
CONFIG(ikv_sim_config, config.seed = 1)
CONFIG(ikv_fault_config, config.nth = 1)

static const ikv_camera *given_const_ikv_camera_p(int nth)
{
    static ikv_camera camera;
    camera = ikv_scene_camera(k.scene, 0, 0);
    if (nth == 1)
        memset(&camera, 0, sizeof camera);
    else if (nth == 2)
        camera.x = NAN;
    else if (nth == 3)
        camera.zoom = 3e38f;
    return nth == 0 ? NULL : &camera;
}
enum {
    ABSURD_const_ikv_camera_p = 4
};

static ikv_trail *given_ikv_trail_p(int nth)
{
    static ikv_trail_point points[4];
    static ikv_trail trail;
    trail.points = nth == 1 ? NULL : points;
    trail.room = nth == 2 ? 0 : 4;
    return nth == 0 ? NULL : &trail;
}
enum {
    ABSURD_ikv_trail_p = 3
};

static const ikv_draw_config *given_const_ikv_draw_config_p(int nth)
{
    static ikv_draw_config config;
    config = (ikv_draw_config)IKV_DRAW_INIT;
    config.size = nth == 1 ? 3 : config.size;
    config.scene = nth == 2 ? NULL : k.scene;
    config.router = nth == 3 ? NULL : k.router;
    config.overlaps = nth == 4 ? NULL : ikv_kit_overlaps(k.kit);
    config.trail = given_ikv_trail_p(nth == 5 ? 1 : nth == 6 ? 2 : -1);
    config.view = nth == 7 ? 255 : 0;
    config.layers = config.tags = nth == 8 ? UINT32_MAX : 0;
    return nth == 0 ? NULL : &config;
}
enum {
    ABSURD_const_ikv_draw_config_p = 9
};

static ikv_setup *given_ikv_setup_p(int nth)
{
    if (setup == NULL && nth < 0)
        ok(ikv_setup_read(SOURCE "/demo/harbour.setup.json", &setup, NULL));
    return nth < 0 ? setup : NULL;
}
enum {
    ABSURD_ikv_setup_p = 1,
    ABSURD_const_ikv_setup_p = 1
};
#define given_const_ikv_setup_p given_ikv_setup_p

static ikv_tape *given_ikv_tape_p(int nth)
{
    if (tape == NULL && nth < 0)
        ok(ikv_tape_open(SOURCE "/demo/harbour.tape.jsonl", NULL, &tape, NULL));
    return nth < 0 ? tape : NULL;
}
enum {
    ABSURD_ikv_tape_p = 1,
    ABSURD_const_ikv_tape_p = 1
};
#define given_const_ikv_tape_p given_ikv_tape_p

POINTER(ikv_trace_p, ikv_trace *, trace)
POINTER(ikv_recording_p, ikv_recording *, recording)
POINTER(ikv_stats_p, ikv_stats *, stats)
POINTER(const_ikv_stats_p, const ikv_stats *, stats)
POINTER(ikv_review_p, ikv_review *, review)
POINTER(const_ikv_review_p, const ikv_review *, review)
POINTER(ikv_why_past_p, ikv_why_past *, past)
POINTER(ikv_why_p, ikv_why *, why)
POINTER(const_ikv_why_p, const ikv_why *, why)
POINTER(ikv_comparison_p, ikv_comparison *, comparison)

static ikv_value given_ikv_value(int nth)
{
    static const ikv_value values[] = {
        {IKV_VALUE_NONE, {0}},
        {99, {0}},
        {IKV_VALUE_INTEGER, {.integer = INT64_MAX}},
        {IKV_VALUE_NUMBER, {.number = NAN}},
        {IKV_VALUE_NUMBER, {.number = 1e300}}};
    return nth < 0 ? (ikv_value){IKV_VALUE_INTEGER, {.integer = 1}}
                   : values[nth];
}
enum {
    ABSURD_ikv_value = 5
};

static ikv_rotation given_ikv_rotation(int nth)
{
    static const ikv_rotation values[] = {
        {0, 0}, {NAN, 0}, {0, INFINITY}, {3e38f, 3e38f}, {1e-30f, 0}};
    return nth < 0 ? (ikv_rotation){1, 0} : values[nth];
}
enum {
    ABSURD_ikv_rotation = 5
};

static const ikv_shape *given_const_ikv_shape_p(int nth)
{
    static ikv_shape shape;
    shape = ikv_scene_rect(0, 0, 9, 9);
    if (nth == 1)
        shape.type = 99;
    else if (nth == 2)
        shape.width = NAN;
    else if (nth == 3)
        shape.height = 3e38f;
    else if (nth == 4)
        shape =
            (ikv_shape){.type = IKV_SHAPE_POLYGON, .point_count = UINT32_MAX};
    return nth == 0 ? NULL : &shape;
}
enum {
    ABSURD_const_ikv_shape_p = 5
};

static const ikv_scope *given_const_ikv_scope_p(int nth)
{
    static ikv_scope scope;
    scope = (ikv_scope){.where = IKV_WITHIN,
                        .target = {nth == 2 ? UINT32_MAX : lamp.bits}};
    if (nth == 1)
        scope.where = 99;
    return nth == 0 ? NULL : &scope;
}
enum {
    ABSURD_const_ikv_scope_p = 3
};

static const ikv_motion a_motion;
static const ikv_tape_part a_part = {SOURCE "/demo/harbour.tape.jsonl", 0, 0};
static const ikv_taken a_taken = {.intake = IKV_INTAKE_INIT};
static const char *const known_names[] = {"horn", "lamp", NULL};
static ikv_watch a_watch;
static ikv_delivery a_delivery = {.path = &lamp, .path_length = 1};
static ikv_kit_config a_config;

POINTER(const_ikv_motion_p, const ikv_motion *, &a_motion)
POINTER(const_ikv_tape_part_p, const ikv_tape_part *, &a_part)
POINTER(const_ikv_taken_p, const ikv_taken *, &a_taken)
POINTER(const_char_pconst_p, const char *const *, known_names)
POINTER(const_ikv_watch_p, const ikv_watch *, &a_watch)
POINTER(const_ikv_delivery_p, const ikv_delivery *, &a_delivery)
POINTER(ikv_kit_config_p, ikv_kit_config *, &a_config)
POINTER(file, void *, trace_file)
POINTER(const_ikv_port_p, const ikv_port *, &k.port)

/* ----------------------------------------------------------- the table -- */

typedef struct absurd_row {
    const char *name;
    void (*call)(int bad, int nth);
    int parameters;
    int counts[12];
    const char *says; /* the comment before it */
    bool tells;       /* it returns a status */
    bool of_pointer;  /* its first parameter is one */
} absurd_row;

#include "absurd_rows.h"

static const absurd_row *find_row(const char *name, size_t length)
{
    for (int i = 0; i < ROWS(absurd_rows); i++)
        if (strncmp(absurd_rows[i].name, name, length) == 0 &&
            absurd_rows[i].name[length] == '\0')
            return &absurd_rows[i];
    return NULL;
}

static bool has_word(const char *text, const char *word)
{
    size_t length = strlen(word);
    for (const char *at = text; (at = strstr(at, word)) != NULL; at++)
        if ((at == text || strchr(" (,.;_*", at[-1]) != NULL) &&
            strchr(" ),.;:*", at[length]) != NULL)
            return true;
    return false;
}

/* Whether what a header says of a function has that status, or refers to
 * another one that has. */
static bool may_return(const char *says, const char *status, int depth)
{
    if (has_word(says, status))
        return true;
    for (const char *at = says; depth > 0 && (at = strstr(at, "ikv_")) != NULL;
         at++) {
        size_t length = strspn(at, "abcdefghijklmnopqrstuvwxyz_0123456789");
        const absurd_row *other = find_row(at, length);
        if (other != NULL && at[length] == '(' &&
            may_return(other->says, status, depth - 1))
            return true;
    }
    return false;
}

/* What an error must leave as it is. */
typedef struct observed {
    uint32_t subscriptions, entries, targets, owners, timers, waiting,
        conditions, payloads, scene, held, actions, bindings, contacts, pending;
    uint64_t revision, time_ns, step;
    uint32_t scale, focused;
    bool paused;
} observed;

static observed observe(void)
{
    ikv_bus_counts b = bus_counts(k.bus);
    ikv_actions_counts a = actions_counts(ikv_kit_actions(k.kit));
    observed o;
    memset(&o, 0, sizeof o);
    o.subscriptions = b.subscriptions;
    o.entries = b.entries;
    o.targets = b.targets;
    o.owners = b.owners;
    o.timers = b.timers;
    o.waiting = b.waiting;
    o.conditions = b.conditions;
    o.payloads = b.payloads;
    o.scene = scene_counts(k.scene).targets;
    o.actions = a.actions;
    o.bindings = a.bindings;
    o.held = a.held;
    o.contacts = overlaps_counts(ikv_kit_overlaps(k.kit)).contacts;
    o.pending = loop_counts(k.loop).waiting;
    o.revision = ikv_scene_revision(k.scene);
    o.time_ns = ikv_loop_time_ns(k.loop);
    o.step = ikv_loop_step_number(k.loop);
    o.scale = ikv_loop_scale(k.loop);
    o.focused = ikv_router_focused(k.router, 0).bits;
    o.paused = ikv_loop_paused(k.loop);
    return o;
}

static void open_all(void)
{
    kit_prepare(&k);
    k.config.bus.targets = 64;
    k.config.scene.targets = 64;
    static ikv_catalogue *catalogue;
    ikv_catalogue_config kinds = IKV_CATALOGUE_INIT;
    kinds.memory = ikv_host_memory();
    if (catalogue == NULL)
        ok(ikv_catalogue_open(&kinds, &catalogue));
    k.config.catalogue = catalogue;
    kit_open(&k);
    a_config = k.config;
    kit_frame(&k, 0);
    lamp = rect_target(k.scene, (ikv_target){0}, 0, 0, 50, 50, 0);
    gull = rect_target(k.scene, lamp, 0, 0, 10, 10, 0);
    ok(ikv_bus_add_owner(k.bus, &owner));
    ok(ikv_bus_hear(k.bus, IKV_KIND_KEY_DOWN, lamp, hear, NULL, &light));
    ok(ikv_bus_add_lane(k.bus, "evening", &lane));
    ok(ikv_bus_add_mailbox(k.bus, &mailbox));
    event = ikv_event_make(IKV_KIND_KEY_DOWN, k.fake.now_ns);
    event.device = k.fake.device;
    event.key.code = ikv_code_find("KeyA");
    ok(ikv_bus_defer_after(k.bus, lane, 1000000000, &event, &timer));
    ok(ikv_actions_add(ikv_kit_actions(k.kit), 0, "foghorn", &foghorn));
    ok(ikv_actions_bind(ikv_kit_actions(k.kit), foghorn, "KeyF", NULL,
                        &binding));
    a_watch = (ikv_watch){.what = IKV_WATCH_EVENT, .event = &event};
    trace_file = tmpfile();
    ikv_why_config question = IKV_WHY_INIT;
    question.kit = k.kit;
    question.about = IKV_ASK_HANDLER;
    question.subscription = light;
    ok(ikv_why_open(&question, &why));
    ok(ikv_stats_open(k.kit, NULL, &stats));
    ok(ikv_why_watch(k.kit, 8, &past));
}

static void close_all(void)
{
    ikv_trace_close(made_trace);
    ikv_recording_close(made_recording, NULL);
    ikv_stats_close(made_stats);
    ikv_review_close(made_review);
    ikv_why_unwatch(made_past);
    ikv_why_unwatch(past);
    ikv_stats_close(stats);
    ikv_review_close(review);
    review = made_review = NULL;
    past = made_past = NULL;
    ikv_why_close(made_why);
    ikv_why_close(why);
    ikv_comparison_close(made_comparison);
    ikv_parts parts = ikv_kit_parts(k.kit);
    valid_parts(&parts);
    valid(ikv_queue_validate(ikv_kit_queue(k.kit)));
    kit_frame(&k, 100);
    ok(ikv_kit_close(k.kit));
    ikv_tape_close(made_tape);
    ikv_setup_close(made_setup);
    ikv_tape_close(tape);
    ikv_setup_close(setup);
    fclose(trace_file);
    made_trace = NULL;
    made_recording = NULL;
    made_why = why = NULL;
    made_stats = stats = NULL;
    made_comparison = NULL;
    made_tape = tape = NULL;
    made_setup = setup = NULL;
}

static const absurd_row *row_of_call;
static int bad_of_call, nth_of_call;

/* What says something where its first argument is NULL: the root is the same on
 * every bus, the built-in kinds need no catalogue, there is no hold to wait
 * for, a value has unused bytes, and the rest makes structs or says what is
 * wrong. */
static bool answers_nothing(const char *name)
{
    static const char *const names[] = {
        "ikv_bus_root",         "ikv_bus_target_place", "ikv_catalogue_info",
        "ikv_catalogue_next",   "ikv_event_format",     "ikv_field_get",
        "ikv_family_find",      "ikv_input_next_hold",  "ikv_kit_parts",
        "ikv_kit_picking",      "ikv_router_next_hold", "ikv_scene_callbacks",
        "ikv_scene_polygon",    "ikv_scene_probe",      "ikv_scene_shape_fault",
        "ikv_setup_field_name", "ikv_setup_target_name"};
    for (int i = 0; i < ROWS(names); i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return false;
}

static void call_it(void)
{
    const absurd_row *row = row_of_call;
    observed before = observe();
    status_of_call = IKV_OK;
    answered_something = false;
#if defined(__SANITIZE_ADDRESS__)
    __lsan_disable(); /* what a call opened is closed by nobody */
#endif
    row->call(bad_of_call, nth_of_call);
#if defined(__SANITIZE_ADDRESS__)
    __lsan_enable();
#endif
    ck_assert_msg(!row->tells ||
                      may_return(row->says, ikv_status_name(status_of_call), 2),
                  "%s, parameter %d, value %d: returned %s, which its header "
                  "does not say",
                  row->name, bad_of_call, nth_of_call,
                  ikv_status_name(status_of_call));
    ck_assert_msg(!answered_something || !row->of_pointer || bad_of_call != 1 ||
                      nth_of_call != 0 || answers_nothing(row->name),
                  "%s: says something of NULL", row->name);
    observed after = observe();
    if (strncmp(row->name, "ikv_setup_", 10) == 0)
        after.revision = before.revision; /* it took back what it had added */
    ck_assert_msg(
        status_of_call >= 0 || memcmp(&before, &after, sizeof before) == 0,
        "%s, parameter %d, value %d: returned %s, but something has "
        "changed",
        row->name, bad_of_call, nth_of_call, ikv_status_name(status_of_call));
}

static ikv_verdict call_in_handler(const ikv_event *e, const ikv_delivery *d,
                                   void *user)
{
    (void)e, (void)d, (void)user;
    call_it();
    return IKV_CONTINUE;
}

START_TEST(absurd)
{
    row_of_call = &absurd_rows[_i];
    for (int bad = 1; bad <= row_of_call->parameters; bad++)
        for (int nth = 0; nth < row_of_call->counts[bad - 1]; nth++)
            for (int inside = 0; inside < 2; inside++) {
                bad_of_call = bad;
                nth_of_call = nth;
                open_all();
                /* it reads a file: for its own calls alone */
                if (strncmp(row_of_call->name, "ikv_review", 10) == 0)
                    ok(ikv_review_open(k.kit, given_ikv_setup_p(-1), &review));
                if (inside == 0) {
                    call_it();
                } else {
                    ok(ikv_bus_hear(k.bus, IKV_KIND_WINDOW_SHOW,
                                    (ikv_target){0}, call_in_handler, NULL,
                                    NULL));
                    ikv_event e =
                        ikv_event_make(IKV_KIND_WINDOW_SHOW, k.fake.now_ns);
                    ok(ikv_sink_push(k.fake.sink, &e));
                    kit_frame(&k, 50);
                }
                close_all();
            }
}
END_TEST

Suite *absurd_suite(void)
{
    Suite *s = suite_create("absurd");
    add_table(s, "25 26 absurd arguments", absurd, ROWS(absurd_rows));
    return s;
}
