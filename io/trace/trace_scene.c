/* trace_scene.c - the scene as it is drawn, in lines that say what has changed.
 *
 * What is drawn of a target is a run of bytes: if it is the same as it was in the
 * frame before, nothing is written of it.
 */
#include "trace.h"

#include "ikvar/draw.h"

enum shape {
    LINE,
    POLYGON,
    CIRCLE,
    DISC, /* a circle of a pointer that is pressed */
    TEXT,
};

static const char *const shape_names[] = {
    [LINE] = "line", [POLYGON] = "polygon", [CIRCLE] = "circle",
    [DISC] = "disc", [TEXT] = "text",
};

/* Before the numbers of a mark; of a text its bytes lie behind them. */
typedef struct mark_head {
    uint8_t what, shape;
    uint16_t count;  /* of floats */
    uint32_t length; /* of the text */
} mark_head;

/* What was drawn of one target; zero bits: of pointers and what they hold. */
typedef struct part {
    ikv_target target;
    size_t from, length;
    bool changed;
} part;

typedef struct frame {
    unsigned char *bytes;
    size_t used, room;
    part *parts;
    size_t count, part_room;
} frame;

struct trace_scene {
    frame frames[2]; /* the one that is drawn, and the one before */
    unsigned now;
    bool begun, failed;
};

trace_scene *ikvi_trace_scene_open(void)
{
    return calloc(1, sizeof(trace_scene));
}

void ikvi_trace_scene_close(trace_scene *scene)
{
    for (int i = 0; scene != NULL && i < 2; i++) {
        free(scene->frames[i].bytes);
        free(scene->frames[i].parts);
    }
    free(scene);
}

/* -------------------------------------------------------------- drawing -- */

static bool make_room(trace_scene *s, size_t size)
{
    frame *f = &s->frames[s->now];
    if (s->failed || f->used + size <= f->room)
        return !s->failed;
    size_t room = (f->used + size) * 2 + 4096;
    unsigned char *bytes = realloc(f->bytes, room);
    if (bytes == NULL) {
        s->failed = true;
        return false;
    }
    f->bytes = bytes;
    f->room = room;
    return true;
}

static void put_bytes(trace_scene *s, const void *from, size_t size)
{
    frame *f = &s->frames[s->now];
    if (!make_room(s, size))
        return;
    memcpy(f->bytes + f->used, from, size);
    f->used += size;
    f->parts[f->count - 1].length += size;
}

static void begin_part(trace_scene *s, ikv_target target)
{
    frame *f = &s->frames[s->now];
    if (f->count > 0 && f->parts[f->count - 1].target.bits == target.bits)
        return;
    if (f->count == f->part_room) {
        size_t room = f->part_room * 2 + 64;
        part *parts = realloc(f->parts, room * sizeof *parts);
        s->failed = s->failed || parts == NULL;
        if (parts == NULL)
            return;
        f->parts = parts;
        f->part_room = room;
    }
    f->parts[f->count++] = (part){target, f->used, 0, false};
}

static void put_mark(trace_scene *s, const ikv_draw_mark *mark,
                     enum shape shape, const float *values, uint32_t count)
{
    const mark_head head = {(uint8_t)mark->what, (uint8_t)shape,
                            (uint16_t)count, 0};
    const ikv_target none = {0};
    begin_part(s, mark->what >= IKV_DRAW_POINTER ? none : mark->target);
    if (s->failed)
        return;
    put_bytes(s, &head, sizeof head);
    put_bytes(s, values, count * sizeof *values);
}

static void draw_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    put_mark(user, mark, LINE, (const float[]){x, y, x2, y2}, 4);
}

static void draw_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    put_mark(user, mark, POLYGON, points, 2 * count);
}

static void draw_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    bool pressed =
        mark->what == IKV_DRAW_POINTER && (mark->ink->fill & 0xff) != 0;
    put_mark(user, mark, pressed ? DISC : CIRCLE, (const float[]){x, y, radius},
             3);
}

static void draw_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    trace_scene *s = user;
    const float at[] = {x, y};
    const mark_head head = {(uint8_t)mark->what, TEXT, 2,
                            (uint32_t)strlen(text)};
    begin_part(s, mark->target);
    if (s->failed)
        return;
    put_bytes(s, &head, sizeof head);
    put_bytes(s, at, sizeof at);
    put_bytes(s, text, head.length);
}

static const char *name_of(void *user, ikv_target target)
{
    return ikvi_kit_target(user, target);
}

/* The scene of a moment; the part of the pointers is the last, and there always.
 */
static void draw_frame(trace_scene *s, ikv_trace *trace)
{
    ikv_draw_config config = IKV_DRAW_INIT;
    s->now = 1 - s->now;
    s->frames[s->now].used = s->frames[s->now].count = 0;
    config.scene = ikv_kit_scene(trace->kit);
    config.router = ikv_kit_router(trace->kit);
    config.overlaps = ikv_kit_overlaps(trace->kit);
    config.name = name_of;
    config.user = &trace->names;
    config.canvas =
        (ikv_canvas){s, draw_line, draw_polygon, draw_circle, draw_text};
    ikv_draw(&config);
    begin_part(s, (ikv_target){0});
}

/* ------------------------------------------------------------- comparing -- */

/* What was drawn of it in that frame; NULL: nothing. `hint` is where it is looked
 * for first: most lie in the same order. */
static const part *find_part(const frame *f, ikv_target target, size_t *hint)
{
    for (size_t i = 0; i < f->count; i++) {
        size_t at = (*hint + i) % f->count;
        if (f->parts[at].target.bits == target.bits) {
            *hint = at + 1;
            return &f->parts[at];
        }
    }
    return NULL;
}

static bool is_same(const frame *a, const part *of_a, const frame *b,
                    const part *of_b)
{
    if (of_b == NULL) /* none is as one of nothing */
        return of_a->target.bits == 0 && of_a->length == 0;
    return of_a->length == of_b->length &&
           (of_a->length == 0 ||
            memcmp(a->bytes + of_a->from, b->bytes + of_b->from,
                   of_a->length) == 0);
}

/* Notes what is not as it was; returns how many parts. */
static size_t note_changes(frame *now, const frame *before)
{
    size_t hint = 0, changed = 0;
    for (size_t i = 0; i < now->count; i++) {
        part *p = &now->parts[i];
        p->changed =
            !is_same(now, p, before, find_part(before, p->target, &hint));
        changed += p->changed;
    }
    return changed;
}

static bool is_same_order(const frame *a, const frame *b)
{
    bool same = a->count == b->count;
    for (size_t i = 0; same && i < a->count; i++)
        same = a->parts[i].target.bits == b->parts[i].target.bits;
    return same;
}

/* -------------------------------------------------------------- writing -- */

/* To a thousandth, which is more than can be seen. */
static void write_place(json_writer *w, float value)
{
    const double limit = 1e12;
    double to = (double)value;
    if (to > -limit && to < limit)
        to = (double)(long long)(to * 1000 + (to < 0 ? -0.5 : 0.5)) / 1000;
    ikvi_write_number(w, to, false);
}

static size_t write_mark(json_writer *w, const unsigned char *bytes)
{
    mark_head head;
    memcpy(&head, bytes, sizeof head);
    size_t size = sizeof head;
    ikvi_write_list(w);
    ikvi_write_text(w, ikv_draw_name_of(head.what));
    ikvi_write_text(w, shape_names[head.shape]);
    for (uint32_t i = 0; i < head.count; i++, size += sizeof(float)) {
        float value;
        memcpy(&value, bytes + size, sizeof value);
        write_place(w, value);
    }
    if (head.shape == TEXT)
        ikvi_write_bytes(w, (const char *)bytes + size, head.length);
    ikvi_write_close_list(w);
    return size + head.length;
}

static void write_marks(json_writer *w, const char *name, const frame *f,
                        const part *p)
{
    size_t at = p->from, end = p->from + p->length;
    ikvi_write_name(w, name);
    ikvi_write_list(w);
    while (at < end)
        at += write_mark(w, f->bytes + at);
    ikvi_write_close_list(w);
}

static void write_order(ikv_trace *trace, const frame *f)
{
    json_writer *w = &trace->writer;
    ikvi_write_name(w, "order");
    ikvi_write_list(w);
    for (size_t i = 0; i + 1 < f->count; i++)
        ikvi_write_text(w, ikvi_kit_target(&trace->names, f->parts[i].target));
    ikvi_write_close_list(w);
}

static void write_targets(ikv_trace *trace, const frame *f)
{
    json_writer *w = &trace->writer;
    ikvi_write_name(w, "marks");
    ikvi_write_object(w);
    for (size_t i = 0; i + 1 < f->count; i++)
        if (f->parts[i].changed)
            write_marks(w, ikvi_kit_target(&trace->names, f->parts[i].target),
                        f, &f->parts[i]);
    ikvi_write_close_object(w);
}

static void write_view(ikv_trace *trace)
{
    json_writer *w = &trace->writer;
    float width = 0, height = 0;
    if (trace->setup != NULL)
        ikv_setup_view(trace->setup, &width, &height);
    ikvi_write_name(w, "view");
    ikvi_write_list(w);
    write_place(w, width);
    write_place(w, height);
    ikvi_write_close_list(w);
}

void ikvi_trace_scene_line(ikv_trace *trace)
{
    trace_scene *s = trace->scene;
    json_writer *w = &trace->writer;
    if (ikv_kit_scene(trace->kit) == NULL)
        return;
    draw_frame(s, trace);
    trace->failed = trace->failed || s->failed;
    if (trace->failed)
        return;
    frame *now = &s->frames[s->now];
    const frame *before = &s->frames[1 - s->now];
    size_t changed = note_changes(now, before);
    bool pointers = now->parts[now->count - 1].changed;
    bool moved = !is_same_order(now, before);
    if (changed == 0 && !moved)
        return;
    ikvi_write_object(w);
    ikvi_write_name(w, "scene");
    ikvi_write_integer(w, (int64_t)trace->now_step);
    ikvi_write_name(w, "t");
    ikvi_write_ms(w, trace->now_ns);
    if (!s->begun)
        write_view(trace);
    if (moved)
        write_order(trace, now);
    if (changed > pointers)
        write_targets(trace, now);
    if (pointers)
        write_marks(w, "pointers", now, &now->parts[now->count - 1]);
    s->begun = true;
    ikvi_trace_end_line(trace, (waiting_line){0});
}
