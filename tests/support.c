/* support.c - see support.h. */
#define _POSIX_C_SOURCE 200809L
#include "support.h"

#include <stdarg.h>
#include <sys/wait.h>

static void *counted_take(void *user, size_t size, size_t alignment)
{
    counted *c = user;
    if (++c->takes == c->fail_at)
        return NULL;
    c->bytes += size;
    return aligned_alloc(alignment,
                         (size + alignment - 1) / alignment * alignment);
}

static void counted_give(void *user, void *block, size_t size)
{
    counted *c = user;
    memset(block, 0xdd, size); /* who still uses it finds nonsense */
    c->gives++;
    c->bytes -= size;
    free(block);
}

ikv_memory counted_memory(counted *c)
{
    return (ikv_memory){.take = counted_take, .give = counted_give, .user = c};
}

static ikv_status fake_open(void *state, ikv_sink *sink)
{
    fake_port *f = state;
    f->opened++;
    f->sink = sink;
    if (f->open_status == IKV_OK)
        f->device = ikv_sink_device(sink);
    return f->open_status;
}

static ikv_status fake_poll(void *state)
{
    return ((fake_port *)state)->poll_status;
}

static ikv_status fake_wait(void *state, uint64_t until_ns, bool for_input)
{
    fake_port *f = state;
    (void)for_input;
    f->waits++;
    f->now_ns = until_ns;
    return IKV_OK;
}

static uint64_t fake_now(void *state)
{
    fake_port *f = state;
    f->readings++;
    return f->now_ns;
}

static void fake_close(void *state)
{
    ((fake_port *)state)->closed++;
}

ikv_port fake_port_of(fake_port *fake)
{
    return (ikv_port){.size = sizeof(ikv_port),
                      .capabilities = IKV_PORT_CLOCK,
                      .name = "fake",
                      .state = fake,
                      .open = fake_open,
                      .poll = fake_poll,
                      .wait = fake_wait,
                      .now = fake_now,
                      .close = fake_close};
}

static void keep_report(const ikv_report *report, void *user)
{
    bench_kit *k = user;
    k->reports++;
    snprintf(k->report, sizeof k->report, "%s: %s", report->module,
             report->text);
}

void kit_prepare(bench_kit *k)
{
    *k = (bench_kit){.fake = {.now_ns = 7000000000}};
    k->port = fake_port_of(&k->fake);
    k->config = (ikv_kit_config)IKV_KIT_INIT;
    k->config.memory = counted_memory(&k->memory);
    k->config.reporter = (ikv_reporter){keep_report, k};
    k->config.ports = &k->port;
    k->config.port_count = 1;
    k->config.loop.frame_hz = IKV_UNPACED;
}

void open_small(bench_kit *k)
{
    kit_prepare(k);
    k->config.bus.targets = 16;
    k->config.bus.subscriptions = 32;
    k->config.loop.pending = 64;
    k->config.bus.inbox = 8;
}

void kit_open(bench_kit *k)
{
    if (k->config.size == 0)
        kit_prepare(k);
    ok(ikv_kit_open(&k->config, &k->kit));
    k->bus = ikv_kit_bus(k->kit);
    k->scene = ikv_kit_scene(k->kit);
    k->router = ikv_kit_router(k->kit);
    k->loop = ikv_kit_loop(k->kit);
}

bool whole_frame(ikv_loop *loop)
{
    if (!ikv_loop_begin(loop))
        return false;
    while (ikv_loop_step(loop)) {
    }
    ok(ikv_loop_end(loop));
    return true;
}

void hears(ikv_bus *bus, ikv_kind kind, ikv_target target, ikv_handler handler,
           void *user)
{
    ok(ikv_bus_hear(bus, kind, target, handler, user, NULL));
}

ikv_verdict count_heard(const ikv_event *event, const ikv_delivery *delivery,
                        void *user)
{
    (void)event, (void)delivery;
    ++*(int *)user;
    return IKV_CONTINUE;
}

ikv_verdict deliver_nested(const ikv_event *event, const ikv_delivery *delivery,
                           void *user)
{
    (void)user;
    ikv_bus_deliver(delivery->bus, event);
    return IKV_CONTINUE;
}

void for_words(const char *words, void (*each)(const char *word))
{
    static char copy[1024];
    ck_assert_uint_lt(strlen(words), sizeof copy);
    snprintf(copy, sizeof copy, "%s", words);
    for (char *at = copy; *at != '\0';) {
        size_t length = strcspn(at, " ");
        bool last = at[length] == '\0';
        at[length] = '\0';
        each(at);
        at += length + !last;
    }
}

ikv_input *input_of(ikv_bus *bus, ikv_router *const *routers, uint32_t count,
                    ikv_memory memory)
{
    ikv_input_config config = IKV_INPUT_INIT;
    ikv_input *input = NULL;
    config.bus = bus;
    config.routers = routers;
    config.router_count = count;
    config.memory = memory;
    ok(ikv_input_open(&config, &input));
    return input;
}

void valid_parts(const ikv_parts *parts)
{
    valid(ikv_bus_validate(parts->bus));
    valid(ikv_scene_validate(parts->scene));
    valid(ikv_state_validate(parts->state));
    valid(ikv_actions_validate(parts->actions));
    valid(ikv_overlaps_validate(parts->overlaps));
    valid(ikv_loop_validate(parts->loop));
    for (uint32_t i = 0; i < parts->router_count; i++)
        valid(ikv_router_validate(parts->routers[i]));
}

void restore(const ikv_parts *parts, const void *image, size_t size)
{
    ok(ikv_image_restore(parts, image, size, NULL, 0));
    valid_parts(parts);
}

void kit_close(bench_kit *k)
{
    ikv_parts parts = ikv_kit_parts(k->kit);
    valid_parts(&parts);
    valid(ikv_queue_validate(ikv_kit_queue(k->kit)));
    ck_assert_int_eq(k->memory.takes, 1); /* nothing after opening */
    ikv_kit_close(k->kit);
    ck_assert_int_eq(k->memory.gives, 1);
    ck_assert_uint_eq(k->memory.bytes, 0); /* as large as it was taken */
    ck_assert_int_eq(k->fake.opened, k->fake.closed);
}

int kit_frame(bench_kit *k, uint64_t time_ms)
{
    return kit_frame_ns(k, time_ms * 1000000);
}

int kit_frame_ns(bench_kit *k, uint64_t time_ns)
{
    int steps = 0;
    k->fake.now_ns = 7000000000 + time_ns;
    if (!ikv_loop_begin(k->loop))
        return -1;
    while (ikv_loop_step(k->loop))
        steps++;
    ikv_loop_end(k->loop);
    ikv_parts parts = ikv_kit_parts(k->kit);
    if (k->config.bus.targets <= 256) /* else it takes too long */
        valid_parts(&parts);
    return steps;
}

void note(record *r, const char *format, ...)
{
    size_t used = strlen(r->text);
    va_list list;
    va_start(list, format);
    vsnprintf(r->text + used, sizeof r->text - used, format, list);
    va_end(list);
}

ikv_target rect_target(ikv_scene *scene, ikv_target parent, float x, float y,
                       float width, float height, int z)
{
    ikv_target target;
    ikv_target_config config = IKV_TARGET_INIT;
    config.parent = parent;
    config.x = x;
    config.y = y;
    config.z = z;
    config.shape = ikv_scene_rect(0, 0, width, height);
    ok(ikv_scene_add(scene, &config, &target, NULL));
    return target;
}

ikv_target pick_at(ikv_scene *scene, float x, float y, float radius,
                   uint32_t nth)
{
    ikv_query query = IKV_QUERY_INIT;
    query.x = x;
    query.y = y;
    query.radius = radius;
    return ikv_scene_pick(scene, &query, nth);
}

/* NULL if it can't be read. */
static char *read_whole(const char *path)
{
    FILE *file = fopen(path, "rb");
    if (file == NULL)
        return NULL;
    fseek(file, 0, SEEK_END);
    size_t size = (size_t)ftell(file);
    rewind(file);
    char *text = calloc(1, size + 1);
    bool whole = fread(text, 1, size, file) == size;
    fclose(file);
    if (whole)
        return text;
    free(text);
    return NULL;
}

char *read_file(const char *path)
{
    char *text = read_whole(path);
    ck_assert_msg(text != NULL, "can't read %s", path);
    return text;
}

void expect_golden(const char *file, const char *text)
{
    char path[512];
    snprintf(path, sizeof path, SOURCE "/tests/golden/%s", file);
    if (getenv("UPDATE_GOLDEN") != NULL)
        write_file(path, text);
    char *golden = read_file(path);
    if (strcmp(golden, text) != 0) {
        const char *a = golden, *b = text;
        while (*a == *b)
            a++, b++;
        ck_abort_msg("%s differs at byte %d:\nexpected ...%.200s\n     got "
                     "...%.200s",
                     file, (int)(a - golden), a, b);
    }
    free(golden);
}

/* The begin of the nth case; of all that follow if it is past the last. */
static const char *find_case(const char *text, int nth)
{
    const char *at =
        strncmp(text, "case", 4) == 0 ? text : strstr(text, "\ncase");
    for (; at != NULL && nth > 0; nth--)
        at = strstr(at + 1, "\ncase");
    return at;
}

static char *read_cases(const char *file)
{
    char path[256];
    snprintf(path, sizeof path, SOURCE "/tests/golden/%s", file);
    char *text = read_whole(path);
    if (text == NULL) { /* also before any test runs */
        fprintf(stderr, "can't read %s\n", path);
        exit(2);
    }
    return text;
}

int case_count(const char *file)
{
    char *text = read_cases(file);
    int count = 0;
    while (find_case(text, count) != NULL)
        count++;
    free(text);
    return count;
}

const char *case_text(const char *file, int nth, const char *key)
{
    static char found[8][4096];
    static int next;
    char *text = read_cases(file), *to = found[next++ % 8];
    size_t length = strlen(key);
    char *at = strstr(find_case(text, nth), "case");
    char *end = strstr(at, "\ncase");
    if (end != NULL)
        *end = '\0';
    *to = '\0';
    bool first = true;
    for (char *line = strtok(at, "\n"); line != NULL;
         line = strtok(NULL, "\n")) {
        if (strncmp(line, key, length) != 0 ||
            (line[length] != ' ' && line[length] != '\0'))
            continue;
        char *rest = line + length + (line[length] == ' ');
        ck_assert_uint_lt(strlen(to) + strlen(rest) + 2, sizeof found[0]);
        strcat(strcat(to, first ? "" : "\n"), rest);
        first = false;
    }
    free(text);
    return to;
}

void expect_case(const char *file, int nth, const char *key, char *found)
{
    const char *expected = case_text(file, nth, key);
    size_t length = strlen(found);
    while (length > 0 && found[length - 1] == ' ')
        found[--length] = '\0';
    ck_assert_msg(strcmp(found, expected) == 0,
                  "%s: %s\n  got      %s\n  expected %s", file,
                  case_text(file, nth, "case"), found, expected);
}

void write_file(const char *path, const char *text)
{
    FILE *file = fopen(path, "wb");
    ck_assert_msg(file != NULL, "can't write %s", path);
    fputs(text, file);
    fclose(file);
}

/* xorshift64* */
uint32_t random_below(uint64_t *state, uint32_t limit)
{
    *state ^= *state >> 12;
    *state ^= *state << 25;
    *state ^= *state >> 27;
    return (uint32_t)((*state * 2685821657736338717ull) >> 33) % limit;
}

int run_command_line(char *output, size_t size, const char *format, ...)
{
    char command[4096];
    va_list list;
    va_start(list, format);
    memcpy(command, "{ ", 2);
    vsnprintf(command + 2, sizeof command - 16, format, list);
    va_end(list);
    strcat(command, "\n} 2>&1");
    FILE *pipe = popen(command, "r");
    ck_assert_ptr_nonnull(pipe);
    size_t used = fread(output, 1, size - 1, pipe);
    output[used] = '\0';
    while (fgetc(pipe) != EOF)
        ;
    int status = pclose(pipe);
    ck_assert_msg(WIFEXITED(status), "%s: killed by signal %d", command,
                  WTERMSIG(status));
    return WEXITSTATUS(status);
}
