/* setup_scene.c - what a setup says of layers, targets and their shapes, and of
 * the router. */
#include "setup.h"

#include <stdlib.h>
#include <string.h>

/* --------------------------------------------------------------- router -- */

static bool read_time(reader *r, const place *at, const json_t *object,
                      const char *member, uint64_t *ns)
{
    double ms = 0;
    if (!ikvi_read_number(r, at, object, member, 1, 3600000, &ms))
        return false;
    /* At least a millisecond, so that 0 stays "as usual". */
    *ns = (uint64_t)(ms * 1e6 + 0.5);
    return true;
}

bool ikvi_read_router_settings(reader *r, ikv_setup *setup)
{
    static const char *const members[] = {
        "slop",          "mouse_slop", "double_slop", "hold",
        "double",        "keep_focus", "no_tab",      "pointers",
        "dead_zone",     "full_zone",  "axial_zones", "click_after_drag",
        "two_tap_alone", NULL};
    const json_t *value = json_object_get(setup->document, "router");
    place at = {NULL, "router", 0};
    double slop = 0, mouse_slop = 0, double_slop = 0, dead = 0, full = 0;
    int64_t pointers = 0;
    ikv_router_config *to = &setup->router;
    /* 0 is the default in all of them: what the file leaves out says
     * nothing. */
    *to = (ikv_router_config)IKV_ROUTER_INIT;
    if (value == NULL)
        return true;
    if (!ikvi_expect_object(r, &at, value, members) ||
        !ikvi_read_number(r, &at, value, "slop", 0.001, 10000, &slop) ||
        !ikvi_read_number(r, &at, value, "mouse_slop", 0.001, 10000,
                          &mouse_slop) ||
        !ikvi_read_number(r, &at, value, "double_slop", 0.001, 10000,
                          &double_slop) ||
        !read_time(r, &at, value, "hold", &to->hold_ns) ||
        !read_time(r, &at, value, "double", &to->double_ns) ||
        !ikvi_read_bool(r, &at, value, "keep_focus", &to->keep_focus) ||
        !ikvi_read_bool(r, &at, value, "no_tab", &to->no_tab) ||
        !ikvi_read_bool(r, &at, value, "click_after_drag",
                        &to->click_after_drag) ||
        !ikvi_read_bool(r, &at, value, "two_tap_alone", &to->two_tap_alone) ||
        !ikvi_read_number(r, &at, value, "dead_zone", 0.001, 0.9, &dead) ||
        !ikvi_read_number(r, &at, value, "full_zone", 0.002, 1, &full) ||
        !ikvi_read_bool(r, &at, value, "axial_zones", &to->axial_zones) ||
        !ikvi_read_integer(r, &at, value, "pointers", 1, 65535, &pointers))
        return false;
    to->slop = (float)slop;
    to->mouse_slop = (float)mouse_slop;
    to->double_slop = (float)double_slop;
    to->pointers = (uint32_t)pointers;
    to->dead_zone = (float)dead;
    to->full_zone = (float)full;
    place at_zone = {&at, "dead_zone", 0};
    /* Against the default of the one that is left out. */
    if ((dead > 0 ? dead : 0.2) >= (full > 0 ? full : 0.95))
        return ikvi_reader_fail(
            r, &at_zone, "the dead zone must be smaller than the full one");
    return true;
}

/* --------------------------------------------------------------- layers -- */

static bool read_pair(reader *r, const place *at, const json_t *object,
                      const char *member, float *x, float *y)
{
    const json_t *value = json_object_get(object, member);
    place here = {at, member, 0};
    /* What is left out stays as it was. */
    float pair[2] = {*x, *y};
    if (value != NULL && !ikvi_read_floats(r, &here, value, 2, pair))
        return false;
    *x = pair[0];
    *y = pair[1];
    return true;
}

static bool read_degrees(reader *r, const place *at, const json_t *object,
                         ikv_rotation *rotation)
{
    double degrees = 0;
    if (!ikvi_read_number(r, at, object, "rotation", -1e6, 1e6, &degrees))
        return false;
    *rotation = ikv_scene_rotation((float)degrees);
    return true;
}

/* {"fit": [width, height]}: a letterbox in the setup's view. */
static bool read_fit(reader *r, const place *at, const ikv_setup *setup,
                     const json_t *value, ikv_camera *camera)
{
    float width = 0, height = 0;
    if (json_object_get(value, "fit") == NULL)
        return true;
    place here = {at, "fit", 0};
    if (!read_pair(r, at, value, "fit", &width, &height))
        return false;
    *camera =
        ikv_scene_fit(width, height, setup->view_width, setup->view_height);
    return camera->zoom > 0 ||
           ikvi_reader_fail(
               r, &here,
               "expected a width and height above 0, and the setup's "
               "\"view\" to fit into");
}

static bool read_camera(reader *r, const place *at, const ikv_setup *setup,
                        const json_t *value, ikv_camera *camera)
{
    static const char *const members[] = {"fit",    "center",   "in_view",
                                          "zoom",   "rotation", "flip_y",
                                          "hidden", NULL};
    double zoom = 0;
    if (!ikvi_expect_object(r, at, value, members) ||
        !read_fit(r, at, setup, value, camera) ||
        !read_pair(r, at, value, "center", &camera->x, &camera->y) ||
        !read_pair(r, at, value, "in_view", &camera->view_x, &camera->view_y) ||
        !ikvi_read_number(r, at, value, "zoom", 1e-6, 1e6, &zoom) ||
        !read_degrees(r, at, value, &camera->rotation) ||
        !ikvi_read_bool(r, at, value, "flip_y", &camera->flip_y) ||
        !ikvi_read_bool(r, at, value, "hidden", &camera->hidden))
        return false;
    /* A fit has set one already. */
    camera->zoom = zoom > 0 ? (float)zoom : camera->zoom;
    return true;
}

static bool read_layer(reader *r, const place *at, ikv_setup *setup,
                       const json_t *value)
{
    static const char *const members[] = {"name", "camera", NULL};
    setup_layer *layer = &setup->layers[setup->layer_count];
    const json_t *camera = json_object_get(value, "camera");
    place at_camera = {at, "camera", 0}, at_name = {at, "name", 0};
    if (!ikvi_expect_object(r, at, value, members) ||
        !ikvi_read_name(r, at, value, "name", &layer->name))
        return false;
    for (uint32_t i = 0; i < setup->layer_count; i++)
        if (strcmp(setup->layers[i].name, layer->name) == 0)
            return ikvi_reader_fail(r, &at_name, "the name \"%.60s\" is taken",
                                    layer->name);
    /* Counted before its camera is read: its name is taken. */
    setup->layer_count++;
    return camera == NULL ||
           read_camera(r, &at_camera, setup, camera, &layer->camera);
}

bool ikvi_read_layers(reader *r, ikv_setup *setup)
{
    const json_t *list = json_object_get(setup->document, "layers");
    place at = {NULL, "layers", 0};
    if (list == NULL)
        return true;
    if (!ikvi_expect_array(r, &at, list))
        return false;
    if (json_array_size(list) == 0 || json_array_size(list) > SETUP_LAYERS)
        return ikvi_reader_fail(r, &at, "expected 1 to %d layers, found %zu",
                                SETUP_LAYERS, json_array_size(list));
    for (size_t i = 0; i < json_array_size(list); i++) {
        place one = {&at, NULL, i};
        if (!read_layer(r, &one, setup, json_array_get(list, i)))
            return false;
    }
    return true;
}

static bool find_layer(reader *r, const place *at, const ikv_setup *setup,
                       const json_t *object, uint32_t *layer)
{
    const char *known[SETUP_LAYERS + 1], *name = NULL;
    if (!ikvi_read_string(r, at, object, "layer", false, &name))
        return false;
    for (uint32_t i = 0; i < setup->layer_count; i++) {
        /* For the nearest name, if none fits. */
        known[i] = setup->layers[i].name;
        if (name != NULL && strcmp(known[i], name) == 0) {
            *layer = i;
            return true;
        }
    }
    known[setup->layer_count] = NULL;
    place here = {at, "layer", 0};
    return name == NULL || ikvi_setup_unknown(r, &here, "layer", name, known);
}

/* --------------------------------------------------------------- shapes -- */

static bool read_polygon(reader *r, const place *at, const json_t *value,
                         setup_target *target)
{
    size_t count = json_array_size(value);
    if (count < 3 || count > IKV_POLYGON_LIMIT)
        return ikvi_reader_fail(r, at, "expected 3 to %d points, [x, y] each",
                                IKV_POLYGON_LIMIT);
    /* The shape points to them until the setup is closed. */
    target->points = calloc(count, 2 * sizeof(float));
    if (target->points == NULL)
        return ikvi_no_memory(r) == IKV_OK;
    for (size_t i = 0; i < count; i++) {
        place one = {at, NULL, i};
        if (!ikvi_read_floats(r, &one, json_array_get(value, i), 2,
                              target->points + 2 * i))
            return false;
    }
    target->config.shape = ikv_scene_polygon(target->points, (uint32_t)count);
    return true;
}

/* Shapes by the numbers that they take. */
static const struct {
    const char *name;
    uint32_t type, numbers;
} shapes[] = {{"rect", IKV_SHAPE_RECT, 4},
              {"circle", IKV_SHAPE_CIRCLE, 3},
              {"capsule", IKV_SHAPE_CAPSULE, 5},
              {"point", IKV_SHAPE_POINT, 2},
              {"polygon", IKV_SHAPE_POLYGON, 0}};

enum {
    SHAPES = sizeof shapes / sizeof shapes[0]
};

static ikv_shape shape_of(uint32_t type, const float *n)
{
    switch (type) {
    case IKV_SHAPE_RECT:
        return ikv_scene_rect(n[0], n[1], n[2], n[3]);
    case IKV_SHAPE_CIRCLE:
        return ikv_scene_circle(n[0], n[1], n[2]);
    case IKV_SHAPE_CAPSULE:
        return ikv_scene_capsule(n[0], n[1], n[2], n[3], n[4]);
    default:
        return ikv_scene_point(n[0], n[1]);
    }
}

static bool read_shape(reader *r, const place *at, const json_t *value,
                       setup_target *target)
{
    const char *known[SHAPES + 1];
    float n[5];
    for (size_t i = 0; i < SHAPES; i++)
        known[i] = shapes[i].name;
    known[SHAPES] = NULL;
    if (!ikvi_expect_object(r, at, value, known))
        return false;
    /* Exactly one, whatever the order of members. */
    size_t which = SHAPES, given = 0;
    for (size_t i = 0; i < SHAPES; i++)
        if (json_object_get(value, shapes[i].name) != NULL) {
            which = i;
            given++;
        }
    if (given != 1)
        return ikvi_reader_fail(
            r, at,
            "expected one of {\"rect\": [x, y, width, height]}, {\"circle\": "
            "[x, y, radius]}, {\"capsule\": [x, y, x2, y2, radius]}, "
            "{\"polygon\": [[x, y], ...]}, {\"point\": [x, y]}");
    const json_t *numbers = json_object_get(value, shapes[which].name);
    place here = {at, shapes[which].name, 0};
    if (shapes[which].type == IKV_SHAPE_POLYGON) {
        if (!read_polygon(r, &here, numbers, target))
            return false;
    } else {
        if (!ikvi_read_floats(r, &here, numbers, shapes[which].numbers, n))
            return false;
        target->config.shape = shape_of(shapes[which].type, n);
    }
    const char *fault = ikv_scene_shape_fault(&target->config.shape);
    return fault == NULL || ikvi_reader_fail(r, &here, "%s", fault);
}

/* -------------------------------------------------------------- targets -- */

static bool read_traits(reader *r, const place *at, const json_t *object,
                        uint32_t *traits)
{
    static const struct {
        const char *name;
        uint32_t bit;
    } rows[] = {{"focusable", IKV_FOCUSABLE},
                {"takes_text", IKV_TAKES_TEXT},
                {"captures", IKV_CAPTURES},
                {"stays_live", IKV_STAYS_LIVE}};
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        bool set = false;
        if (!ikvi_read_bool(r, at, object, rows[i].name, &set))
            return false;
        *traits |= set ? rows[i].bit : 0;
    }
    return true;
}

static bool read_target_fields(reader *r, const place *at, ikv_setup *setup,
                               const json_t *object, setup_target *target)
{
    json_t *fields = json_object_get(object, "fields"), *value;
    const char *name;
    place here = {at, "fields", 0};
    if (fields == NULL)
        return true;
    if (!json_is_object(fields) || json_object_size(fields) > FIELDS_PER_TARGET)
        return ikvi_reader_fail(
            r, &here, "expected an object of at most %d fields, found %s",
            FIELDS_PER_TARGET, ikvi_json_found(fields));
    /* One more, as no member at all is no lack of memory. */
    target->fields =
        calloc(json_object_size(fields) + 1, sizeof *target->fields);
    if (target->fields == NULL)
        return ikvi_no_memory(r) == IKV_OK;
    json_object_foreach(fields, name, value)
    {
        place one = {&here, name, 0};
        if (!ikvi_setup_number_field(r, setup, name))
            return false;
        setup_field *field = &target->fields[target->field_count++];
        field->name = name;
        if (!ikvi_read_scalar(r, &one, value, &field->value))
            return false;
        field->initial = field->value;
    }
    return true;
}

static bool read_placement(reader *r, const place *at, const json_t *value,
                           ikv_target_config *config)
{
    double scale = 0, grace = 0;
    int64_t z = 0, tab = 0;
    if (!read_pair(r, at, value, "position", &config->x, &config->y) ||
        !read_degrees(r, at, value, &config->rotation) ||
        !ikvi_read_number(r, at, value, "scale", 1e-6, 1e6, &scale) ||
        !ikvi_read_number(r, at, value, "grace", 0, 4095, &grace) ||
        !ikvi_read_integer(r, at, value, "tab", -1, INT16_MAX, &tab) ||
        !ikvi_read_integer(r, at, value, "z", INT32_MIN, INT32_MAX, &z))
        return false;
    config->scale = (float)scale;
    config->grace = (float)grace;
    config->tab = (int32_t)tab;
    config->z = (int32_t)z;
    return true;
}

static bool read_parent(reader *r, const place *at, const ikv_setup *setup,
                        const json_t *value, setup_target *target)
{
    place here = {at, "parent", 0};
    if (!ikvi_read_string(r, at, value, "parent", false, &target->parent_id))
        return false;
    if (target->parent_id == NULL || strcmp(target->parent_id, "root") == 0)
        return true;
    const setup_target *parent =
        ikvi_setup_find_target(setup, target->parent_id);
    if (parent == NULL)
        return ikvi_setup_unknown_target(r, &here, setup, target->parent_id);
    /* By index: the list does not move any more. */
    target->parent = (int)(parent - setup->targets);
    place at_layer = {at, "layer", 0};
    return json_object_get(value, "layer") == NULL ||
           ikvi_reader_fail(r, &at_layer,
                            "a target with a parent is in its parent's layer");
}

/* What it senses, and how. */
static bool read_sensing(reader *r, const place *at, ikv_setup *setup,
                         const json_t *value, setup_target *target)
{
    static const char *const scopes[] = {"pieces", "bodies", NULL};
    static const char *const insides[] = {"always", "moving", NULL};
    static const char *const members[] = {"senses", "contacts", "inside",
                                          "linger", "swept",    "overlaps"};
    ikv_sensing *to = &target->sensing;
    const json_t *senses = json_object_get(value, "senses");
    place here = {at, "senses", 0};
    uint32_t scope = 0, inside = 0;
    int64_t linger = 0;
    bool overlaps = true;
    *to = (ikv_sensing)IKV_SENSING_INIT;
    for (size_t i = 0; i < sizeof members / sizeof members[0]; i++)
        if (json_object_get(value, members[i]) != NULL)
            target->has_sensing = true;
    if ((senses != NULL &&
         !ikvi_setup_read_tags(r, &here, setup, senses, &to->senses)) ||
        !ikvi_read_choice(r, at, value, "contacts", scopes, &scope) ||
        !ikvi_read_choice(r, at, value, "inside", insides, &inside) ||
        !ikvi_read_integer(r, at, value, "linger", 0, UINT16_MAX, &linger) ||
        !ikvi_read_bool(r, at, value, "swept", &to->swept) ||
        !ikvi_read_bool(r, at, value, "overlaps", &overlaps))
        return false;
    to->scope = (uint8_t)scope;
    to->inside = (uint8_t)inside;
    to->linger = (uint16_t)linger;
    to->disabled = !overlaps;
    return true;
}

bool ikvi_read_setup_target(reader *r, const place *at, ikv_setup *setup,
                            const json_t *value, setup_target *target)
{
    static const char *const members[] = {
        "id",         "parent",   "layer",  "position", "rotation",
        "scale",      "z",        "shape",  "grace",    "hit",
        "hidden",     "clip",     "fields", "tab",      "focusable",
        "takes_text", "captures", "tags",   "body",     "senses",
        "contacts",   "inside",   "linger", "swept",    "overlaps",
        "stays_live", NULL};
    static const char *const hits[] = {"solid", "pass", "off", NULL};
    ikv_target_config *config = &target->config;
    const json_t *shape = json_object_get(value, "shape");
    const json_t *tags = json_object_get(value, "tags");
    place at_tags = {at, "tags", 0}, at_shape = {at, "shape", 0};
    return ikvi_expect_object(r, at, value, members) &&
           read_parent(r, at, setup, value, target) &&
           find_layer(r, at, setup, value, &config->layer) &&
           read_placement(r, at, value, config) &&
           (shape == NULL || read_shape(r, &at_shape, shape, target)) &&
           ikvi_read_choice(r, at, value, "hit", hits, &config->hit) &&
           read_traits(r, at, value, &config->traits) &&
           ikvi_read_bool(r, at, value, "hidden", &config->hidden) &&
           ikvi_read_bool(r, at, value, "clip", &config->clip) &&
           ikvi_read_bool(r, at, value, "body", &config->body) &&
           (tags == NULL ||
            ikvi_setup_read_tags(r, &at_tags, setup, tags, &config->tags)) &&
           read_sensing(r, at, setup, value, target) &&
           read_target_fields(r, at, setup, value, target);
}

/* How many ancestors the target has, no further than a path may be long;
 * whether one of them is itself. */
static uint32_t count_ancestors(const ikv_setup *setup, uint32_t index,
                                bool *is_own)
{
    uint32_t count = 0;
    *is_own = false;
    for (int up = setup->targets[index].parent;
         up != NO_INDEX && count < IKV_PATH_LIMIT && !*is_own;
         up = setup->targets[up].parent) {
        *is_own = up == (int)index;
        count++;
    }
    return count;
}

/* Who is his own ancestor is told before who is merely too deep, as all beneath
 * a circle are. The root and the target itself are of a path, too. */
bool ikvi_check_parents(reader *r, const place *at, const ikv_setup *setup)
{
    uint32_t deep = setup->target_count;
    for (uint32_t i = 0; i < setup->target_count; i++) {
        place here = {at, NULL, i};
        bool is_own;
        if (count_ancestors(setup, i, &is_own) + 2 > IKV_PATH_LIMIT)
            deep = i < deep ? i : deep;
        if (is_own)
            return ikvi_reader_fail(r, &here, "\"%s\" is its own ancestor",
                                    setup->targets[i].id);
    }
    place here = {at, NULL, deep};
    return deep == setup->target_count ||
           ikvi_reader_fail(r, &here,
                            "\"%.60s\" has %d ancestors or more: a path is at "
                            "most %d long, the root and the target included",
                            setup->targets[deep].id, IKV_PATH_LIMIT - 1,
                            IKV_PATH_LIMIT);
}
