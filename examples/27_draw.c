/* 27_draw.c - a scene as an engine's own debug renderer shows it: here a frame
 * buffer of characters. Outlines, a zone and what is in it, a drag. */
#include <ikvar/host.h>

#include <stdio.h>
#include <string.h>

/* --------------------------------------------------------- the renderer -- */

enum {
    WIDE = 76,
    HIGH = 21
};

static char frame[HIGH][WIDE + 1];

/* A character is 5 units wide and 10 high. */
static void plot(float x, float y, char c)
{
    int column = (int)(x / 5), row = (int)(y / 10);
    if (x >= 0 && y >= 0 && column < WIDE && row < HIGH)
        frame[row][column] = c;
}

/* What each sort of thing is drawn with. */
static char pen_of(const ikv_draw_mark *mark)
{
    static const char pens[] = "#+.A????_@o&*:vO";
    static const struct {
        int what;
        char pen;
    } others[] = {{IKV_DRAW_ZONE, '~'}, {IKV_DRAW_CONTACT, '='}};
    for (int i = 0; i < 2; i++)
        if (others[i].what == mark->what)
            return others[i].pen;
    return pens[mark->what];
}

static void draw_line(void *user, const ikv_draw_mark *mark, float x, float y,
                      float x2, float y2)
{
    const int steps = 200;
    (void)user;
    for (int i = 0; i <= steps; i++)
        plot(x + (x2 - x) * (float)i / (float)steps,
             y + (y2 - y) * (float)i / (float)steps, pen_of(mark));
}

static void draw_polygon(void *user, const ikv_draw_mark *mark,
                         const float *points, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        const float *a = &points[2 * i], *b = &points[2 * ((i + 1) % count)];
        draw_line(user, mark, a[0], a[1], b[0], b[1]);
    }
}

static void draw_circle(void *user, const ikv_draw_mark *mark, float x, float y,
                        float radius)
{
    (void)user;
    for (int degrees = 0; degrees < 360; degrees += 5) {
        ikv_rotation at = ikv_scene_rotation((float)degrees);
        plot(x + radius * at.cos, y + radius * at.sin, pen_of(mark));
    }
}

static void draw_text(void *user, const ikv_draw_mark *mark, float x, float y,
                      const char *text)
{
    (void)user, (void)mark;
    for (int i = 0; text[i] != '\0'; i++)
        plot(x + 5 * (float)i, y, text[i]);
}

/* ------------------------------------------------------------- the scene -- */

static const char *const names[] = {"quay", "ferry", "mast", "berth", "gull"};
static ikv_target targets[5];

static const char *name_of(void *user, ikv_target target)
{
    (void)user;
    for (int i = 0; i < 5; i++)
        if (targets[i].bits == target.bits)
            return names[i];
    return NULL;
}

static void build(ikv_kit *kit)
{
    static const struct {
        int parent;
        float x, y, width, height;
        uint32_t hit, tags;
        bool body;
    } rows[] = {{-1, 5, 5, 360, 40, IKV_HIT_OFF, 0, false},
                {-1, 40, 120, 90, 30, IKV_HIT_SOLID, 1, true},
                {1, 40, -30, 10, 30, IKV_HIT_SOLID, 1, false},
                {-1, 240, 90, 110, 80, IKV_HIT_OFF, 0, false},
                {-1, 180, 60, 0, 0, IKV_HIT_PASS, 0, false}};
    for (int i = 0; i < 5; i++) {
        ikv_target_config config = IKV_TARGET_INIT;
        config.parent =
            rows[i].parent >= 0 ? targets[rows[i].parent] : (ikv_target){0};
        config.x = rows[i].x, config.y = rows[i].y;
        config.hit = rows[i].hit;
        config.tags = rows[i].tags;
        config.body = rows[i].body;
        config.shape =
            i == 4 ? ikv_scene_circle(0, 0, 14)
                   : ikv_scene_rect(0, 0, rows[i].width, rows[i].height);
        ikv_scene_add(ikv_kit_scene(kit), &config, &targets[i], NULL);
    }
    ikv_sensing berth = IKV_SENSING_INIT;
    berth.senses = 1;
    ikv_overlaps_sense(ikv_kit_overlaps(kit), targets[3], &berth);
}

static ikv_verdict grab(const ikv_event *event, const ikv_delivery *delivery,
                        void *trail)
{
    (void)trail;
    ikv_router_attach(delivery->router, event, targets[1]);
    return IKV_CONTINUE;
}

static ikv_verdict note_trail(const ikv_event *event,
                              const ikv_delivery *delivery, void *trail)
{
    (void)delivery;
    ikv_trail_note(trail, event);
    return IKV_CONTINUE;
}

static void push(ikv_kit *kit, ikv_kind kind, float x, float y)
{
    ikv_event touch = ikv_event_make(kind, 0);
    touch.pointer = (ikv_pointer_data){.x = x, .y = y, .type = IKV_TOUCH};
    touch.pointer.button = kind == IKV_KIND_POINTER_MOVE ? IKV_NO_BUTTON : 0;
    ikv_queue_push(ikv_kit_queue(kit), &touch);
    ikv_loop *loop = ikv_kit_loop(kit);
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

static void show(const ikv_draw_config *config, const char *title)
{
    for (int row = 0; row < HIGH; row++) {
        memset(frame[row], ' ', WIDE);
        frame[row][WIDE] = '\0';
    }
    ikv_draw(config);
    printf("%s\n", title);
    for (int row = 0; row < HIGH; row++) {
        int length = WIDE;
        while (length > 0 && frame[row][length - 1] == ' ')
            length--;
        printf("|%.*s\n", length, frame[row]);
    }
}

int main(void)
{
    ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_kit *kit;
    ikv_trail_point points[64];
    ikv_trail trail = {points, 64, 0, 0};
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    if (ikv_kit_open(&config, &kit) != IKV_OK)
        return 1;
    build(kit);
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_target everywhere = {0};
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, targets[1], grab, NULL, NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_DOWN, everywhere, note_trail, &trail,
                 NULL);
    ikv_bus_hear(bus, IKV_KIND_POINTER_MOVE, everywhere, note_trail, &trail,
                 NULL);
    ikv_draw_config picture = IKV_DRAW_INIT;
    picture.scene = ikv_kit_scene(kit);
    picture.router = ikv_kit_router(kit);
    picture.overlaps = ikv_kit_overlaps(kit);
    picture.trail = &trail;
    picture.name = name_of;
    picture.canvas =
        (ikv_canvas){NULL, draw_line, draw_polygon, draw_circle, draw_text};
    /* what would lie above the outlines is left out */
    picture.what = ~(1u << IKV_DRAW_HOVER | 1u << IKV_DRAW_CAPTURE |
                     1u << IKV_DRAW_BODY | 1u << IKV_DRAW_CONTACT);

    push(kit, IKV_KIND_WINDOW_SHOW, 0, 0); /* a first frame */
    push(kit, IKV_KIND_POINTER_DOWN, 60, 135);
    show(&picture, "The ferry is touched:");
    for (int i = 1; i <= 10; i++)
        push(kit, IKV_KIND_POINTER_MOVE, 60 + 20 * (float)i, 135);
    show(&picture, "\nIt is in the berth:");
    picture.what =
        1u << IKV_DRAW_ZONE | 1u << IKV_DRAW_CONTACT | 1u << IKV_DRAW_BODY;
    show(&picture, "\nThe zone, what is in it, and the pieces of a body:");
    ikv_kit_close(kit);
    return 0;
}
