/* setup.h - a setup's inside: setup.c reads it and ties it to a kit,
 * reaction_read.c reads reactions, reactions.c runs them. */
#ifndef IKVI_IO_SETUP_H
#define IKVI_IO_SETUP_H

#include "../text/json.h"
#include "setup_shared.h"

enum {
    FIELDS_PER_TARGET = 16,
    SETUP_LAYERS = 32,
    SETUP_ARGUMENTS = 16,
    NO_INDEX = -1
};

struct reaction;
struct setup_handler;

/* A scalar field that a target declares. */
typedef struct setup_field {
    const char *name;
    ikv_value value, initial;
} setup_field;

typedef struct setup_target {
    const char *id;
    const char *parent_id;
    int parent; /* index, or NO_INDEX */
    bool added;
    uint32_t turn;            /* the how-manieth it was added, from 0 on */
    bool heard, has_children; /* by handlers at it, or a binding's scope; by
                                 others */
    bool heard_by_hit;        /* of pointers, clicks ... */
    bool has_focus;           /* it or one inside can have it */
    bool becomes_modal;       /* it covers on purpose */
    bool changed; /* moved, shown or removed by a reaction, or it may be */
    bool hears_inside;
    bool has_senses;            /* it or one inside senses others */
    const char *focus_asked_by; /* the action of a binding there; NULL: none */
    uint32_t field_count;
    setup_field *fields;
    ikv_target_config config;
    ikv_sensing sensing;
    bool has_sensing;
    float *points; /* of a polygon, or NULL */
    ikv_target handle;
} setup_target;

typedef struct setup_set {
    const char *name;
    bool on;
    ikv_action_set number; /* when it is applied */
} setup_set;

typedef struct setup_action {
    const char *name, *set; /* NULL: the main one */
    const json_t *bindings;
    ikv_action_id added;
    bool toggles;
    uint32_t outdated; /* so many of its bindings are of the file before */
    bool heard;
} setup_action;

typedef struct setup_layer {
    const char *name;
    ikv_camera camera;
} setup_layer;

/* What a reaction's argument is: a constant, or a field of the event. */
typedef struct argument {
    const ikv_field *to;     /* field of the event to send, or NULL */
    const char *event_field; /* name, or NULL: the constant */
    ikv_value constant;
} argument;

struct doing;
typedef ikv_verdict (*reaction_fn)(const struct doing *d);

typedef struct reaction {
    const struct reaction_row *row;
    const char *target_id; /* or NULL: the one that is visited */
    const char *text;      /* a handler's, field's or lane's name, or a text */
    ikv_lane lane;
    ikv_event event; /* to send */
    uint32_t argument_count;
    argument *arguments; /* SETUP_ARGUMENTS, or NULL */
} reaction;

/* A condition or a group of them, kept as it stands in the file. */
typedef struct setup_condition {
    const char *field;
    uint32_t comparison;
    const json_t *value;
    bool negate;
    /* A group, if `count` is not 0. */
    uint32_t join, count;
    struct setup_condition *conditions;
} setup_condition;

/* Handlers that share conditions, and are muted together. */
typedef struct setup_group {
    const char *name;
    uint32_t join, condition_count;
    setup_condition *conditions;
    bool muted, unmuted; /* at first; by a reaction */
    bool used;           /* by a handler */
} setup_group;

/* The bus has the first one of its name, as long as its subscription lasts;
 * that knows the one that it is now. */
typedef struct setup_handler {
    ikv_setup *setup;
    struct setup_handler *first;
    const struct setup_handler *now;
    const char *name;
    ikv_kind *kinds;
    uint16_t kind_count;
    uint32_t families;
    bool all_kinds;
    const char **at;
    uint32_t at_count;
    uint32_t phases;
    int32_t rank;
    const char *owner;
    const setup_group *group;
    bool muted, unmuted; /* at first; by a reaction */
    uint32_t at_tags;
    const char *at_body;
    uint32_t join, condition_count, limit, after, at_most;
    uint64_t gap_ns;
    setup_condition *conditions;
    bool has_reactions;
    reaction *reactions;
    uint32_t reaction_count;
    ikv_handler bound;
    void *bound_user;
    ikv_subscription subscription;
} setup_handler;

/* A reaction that is being run. */
typedef struct doing {
    ikv_setup *setup;
    const reaction *what;
    const setup_handler *handler;
    const ikv_event *event;
    const ikv_delivery *delivery;
} doing;

enum {
    OWNERS = 64
};

struct ikv_setup {
    json_t *document; /* owns all strings */
    char *path;
    ikv_catalogue *catalogue;
    bool catalogue_lent; /* another one's */
    /* What it was before it was taken in anew; kept, as names and
     * subscriptions point into it. */
    ikv_setup *before;
    /* By targets' numbers - 1, their indices, UINT32_MAX for those that are
     * gone; NULL: they are the same. */
    uint32_t *places;
    uint32_t number_count;
    ikv_kit *kit;
    float view_width, view_height;
    uint32_t step_num, step_den, frame_hz, max_steps;
    ikv_router_config router; /* slops, zones, times and flags alone */
    bool announces;
    setup_layer layers[SETUP_LAYERS];
    uint32_t layer_count;
    setup_target *targets;
    uint32_t target_count, turns; /* so many of them are added */
    setup_handler *handlers;
    uint32_t handler_count;
    setup_group *groups;
    uint32_t group_count;
    setup_set *sets;
    uint32_t set_count;
    setup_action *actions;
    uint32_t action_count, binding_count;
    uint32_t kind_count;
    struct {
        const char *name;
        ikv_owner owner;
    } owners[2 * OWNERS]; /* and those of before, while it is taken in anew */
    uint32_t owner_count;
    ikv_mistake *mistakes;
    uint32_t mistake_count, mistake_room;
    bool mistake_lost; /* for lack of memory */
    json_t *target_names, *handler_names, *group_names, *field_names,
        *set_names, *action_names, *owner_names;
    const char **fields; /* names of fields by their numbers - 1 */
    uint32_t field_count, field_room;
    const char *tags[32];
    uint32_t tag_count;
    uint32_t asked_tags;                   /* by handlers and bindings */
    bool root_hears_inside, actions_heard; /* all of them */
    ikv_note_fn note;
    void *note_user;
};

setup_target *ikvi_setup_find_target(const ikv_setup *setup, const char *id);
setup_target *ikvi_setup_target_of(const ikv_setup *setup, ikv_target target);
setup_handler *ikvi_setup_find_handler(const ikv_setup *setup,
                                       const char *name);
setup_group *ikvi_setup_find_group(const ikv_setup *setup, const char *name);
/* Numbers of fields' names, from 1 on, in order of appearance; 0 and "?" for
 * what is not known. */
uint32_t ikvi_setup_field_number(const ikv_setup *setup, const char *name);
/* Gives a name its place in a list of names; false if it is taken already, or
 * for lack of memory (then the reader has failed). */
bool ikvi_setup_name(reader *r, json_t **names, const char *name, size_t index);
/* The place that a name has; SIZE_MAX if it is not there. */
size_t ikvi_setup_place(const json_t *names, const char *name);
/* Numbers a field's name, if it is new. */
bool ikvi_setup_number_field(reader *r, ikv_setup *setup, const char *name);
setup_field *ikvi_setup_find_field(setup_target *target, const char *name);

/* An unknown name: fails with the nearest one. */
bool ikvi_setup_unknown(reader *r, const place *at, const char *what,
                        const char *name, const char *const *known);
/* The same with the names of one or two maps of names. */
bool ikvi_setup_unknown_of(reader *r, const place *at, const char *what,
                           const char *name, const json_t *names,
                           const json_t *more);
bool ikvi_setup_unknown_target(reader *r, const place *at,
                               const ikv_setup *setup, const char *id);
bool ikvi_setup_read_kind(reader *r, const place *at, const ikv_setup *setup,
                          const json_t *value, ikv_kind *kind);

/* A scalar: an integer, a number or a bool. */
bool ikvi_read_scalar(reader *r, const place *at, const json_t *value,
                      ikv_value *to);

/* An array of tags' names as bits, which are given in order of appearance. */
bool ikvi_setup_read_tags(reader *r, const place *at, ikv_setup *setup,
                          const json_t *list, uint32_t *tags);

/* setup_read.c: fills the setup in from its document. */
bool ikvi_read_document(reader *r, ikv_setup *setup);

/* setup_scene.c */
bool ikvi_read_router_settings(reader *r, ikv_setup *setup);
bool ikvi_read_layers(reader *r, ikv_setup *setup);
bool ikvi_read_setup_target(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, setup_target *target);
bool ikvi_check_parents(reader *r, const place *at, const ikv_setup *setup);

/* setup_actions.c */
bool ikvi_read_action_set(reader *r, const place *at, ikv_setup *setup,
                          const json_t *value, size_t index);
bool ikvi_read_setup_action(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, size_t index);
bool ikvi_check_setup_bindings(reader *r, const place *at, ikv_setup *setup,
                               const json_t *value, size_t index);
/* The set's index; set_count if there is none. */
size_t ikvi_setup_find_set(const ikv_setup *setup, const char *name);
const setup_action *ikvi_setup_find_action(const ikv_setup *setup,
                                           const char *name);
ikv_status ikvi_apply_set(ikv_setup *setup, uint32_t index, reader *r);
ikv_status ikvi_apply_action(ikv_setup *setup, uint32_t index, reader *r);
ikv_status ikvi_apply_bindings(ikv_setup *setup, uint32_t index, reader *r);
/* False for lack of memory. */
bool ikvi_find_binding_clashes(ikv_setup *setup, ikv_mistake_fn told);

/* setup_apply.c: one of each, in the setup's kit; what fails fills the message
 * in. */
typedef ikv_status (*settle_fn)(ikv_setup *setup, uint32_t index, void *user);
/* Settles a target after those that it hangs on, each once. */
ikv_status ikvi_parents_first(ikv_setup *setup, uint32_t index,
                              settle_fn settle, void *user);
/* Its `user` is the reader. */
ikv_status ikvi_apply_target(ikv_setup *setup, uint32_t index, void *r);
ikv_status ikvi_apply_handler(ikv_setup *setup, setup_handler *handler,
                              uint32_t flags, reader *r);
ikv_status ikvi_apply_layer(const ikv_setup *setup, uint32_t index, reader *r);

/* bindings.c */

/* Who knows the names of targets and layers. */
typedef struct binding_names {
    const ikv_setup *setup;
    const ikv_bindings_config *config; /* or NULL */
} binding_names;

/* A binding as it stands in a file. */
typedef struct read_binding {
    const char *text;
    ikv_scope scope;
    const char *target_id; /* of its scope, in the setup; or NULL */
    bool unknown;          /* what is wrong is that nobody knows a name in it */
} read_binding;
bool ikvi_read_binding(reader *r, const place *at, const binding_names *names,
                       const json_t *value, read_binding *to);

/* Binds what a checked list says, without what is not known. */
ikv_status ikvi_bind_list(reader *r, const binding_names *names,
                          ikv_actions *actions, ikv_action_id action,
                          const json_t *list);

/* conditions.c */
bool ikvi_read_conditions(reader *r, const place *at, ikv_setup *setup,
                          const json_t *object, setup_handler *handler);
void ikvi_free_conditions(setup_condition *conditions, uint32_t count);
bool ikvi_read_setup_group(reader *r, const place *at, ikv_setup *setup,
                           const json_t *value, setup_group *to);
/* Fills in the conditions of a config; free() both lists afterwards. */
ikv_status ikvi_make_conditions(const ikv_setup *setup,
                                const setup_handler *handler,
                                ikv_subscription_config *config,
                                ikv_condition **conditions,
                                ikv_condition_group **groups);

/* A field of which two conditions can't hold at once, so that the handler is
 * never called; NULL if there is none. */
const char *ikvi_conditions_exclude(const ikv_setup *setup,
                                    const setup_handler *handler);
/* Which action its conditions ask for: NULL if that can't be said of one. */
const char *ikvi_conditions_action(const setup_handler *handler);

/* reaction_read.c */
bool ikvi_read_reaction(reader *r, const place *at, ikv_setup *setup,
                        const json_t *value, reaction *to);

/* reactions.c */
/* Whether it is a "set" or a "toggle"; `text` is the field's name. */
bool ikvi_reaction_sets_field(const reaction *what);
/* Whether the field can hold what such a reaction sets, as far as the file
 * says. */
bool ikvi_reaction_fits(const reaction *what, const setup_field *field);
/* Marks what it unmutes, moves, shows, hides or removes. */
void ikvi_reaction_note(ikv_setup *setup, const setup_handler *handler,
                        const reaction *what);
/* Whether it gives the focus to nobody who can have it; then `id` is one of
 * them. */
bool ikvi_reaction_loses_focus(const ikv_setup *setup,
                               const setup_handler *handler,
                               const reaction *what, const char **id);
bool ikvi_reaction_toggles(const reaction *what);
ikv_verdict ikvi_run_reactions(const ikv_event *event,
                               const ikv_delivery *delivery, void *handler);

/* setup_mistakes.c */
/* Of a document that is right: what it says may still be no use. False for
 * lack of memory. */
bool ikvi_find_setup_mistakes(ikv_setup *setup);
void ikvi_drop_setup_mistakes(ikv_setup *setup);
/* Whether a handler is at the target or an ancestor. */
bool ikvi_setup_is_heard(const ikv_setup *setup, const setup_target *target);
/* One, whoever has it: "name: ..." */
void ikvi_tell_mistake(ikv_mistake_fn told, void *user, uint16_t code,
                       const char *name, const char *format, ...)
    __attribute__((format(printf, 5, 6)));

#endif
