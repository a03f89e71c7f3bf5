/* rows_time.c - merging moves, digests, tapes, images, pacing. */
#define _POSIX_C_SOURCE 200809L
#include "bench.h"

#include <ikvar/digest.h>

#include <jansson.h>
#include <string.h>
#include <time.h>

enum {
    RAW = 2000,
    POINTERS = 10,
    LINES = 20000
};

#define BINARY_PATH "bench.tape.cbor"
#define TAPE_PATH   "bench.tape.jsonl"

static ikv_kit *kit;
static ikv_loop *loop;
static bench_port moves;
static ikv_event raw[RAW], copies[RAW];
static uint64_t sum;

/* -------------------------------------------------------- merging moves -- */

/* All moves of a step come in, are merged, and ten are routed. */
static void merge_ours(void)
{
    for (uint32_t i = 0; i < RAW; i++) {
        raw[i].time_ns = moves.now_ns;
        ikv_sink_push(moves.sink, &raw[i]);
    }
    /* one step: 50 a second */
    moves.now_ns += 20000000;
    ikv_loop_begin(loop);
    while (ikv_loop_step(loop)) {
    }
    ikv_loop_end(loop);
}

/* The same events without merging: pushed, drained, and read once. */
static ikv_queue *plain_queue;

static void merge_plain(void)
{
    for (uint32_t i = 0; i < RAW; i++) {
        raw[i].time_ns = moves.now_ns;
        ikv_queue_push_own(plain_queue, &raw[i]);
    }
    /* a drain can end where the ring does */
    for (uint32_t got = 0; got < RAW;)
        got += ikv_queue_drain(plain_queue, copies + got, RAW - got);
    for (uint32_t i = 0; i < RAW; i++)
        sum += (uint64_t)copies[i].pointer.x + copies[i].pointer.pointer;
}

static void open_merging(void)
{
    ikv_port port = port_of(&moves);
    ikv_kit_config config = IKV_KIT_INIT;
    ikv_queue_config queue = IKV_QUEUE_INIT;
    queue.own_capacity = config.queue.own_capacity = 4096;
    queue.memory = config.memory = counting_memory();
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = IKV_UNPACED;
    config.loop.step_num = 50;
    if (ikv_kit_open(&config, &kit) < 0 ||
        ikv_queue_open(&queue, &plain_queue) < 0)
        exit(2);
    loop = ikv_kit_loop(kit);
    for (uint32_t i = 0; i < RAW; i++) {
        raw[i] = ikv_event_make(IKV_KIND_POINTER_MOVE, 0);
        /* in turn: moves of ten pointers lie among each other */
        raw[i].pointer.pointer = (uint16_t)(i % POINTERS);
        raw[i].pointer.x = (float)i;
        raw[i].pointer.type = IKV_MOUSE;
    }
}

/* ------------------------------------------------------------- watching -- */

static ikv_event heard;
static ikv_digest digest = IKV_DIGEST_INIT;

static void feed_digest(const ikv_watch *watch, void *user)
{
    (void)user;
    ikv_digest_add(&digest, ikv_kit_bus(kit), watch);
}

static void deliver_some(void)
{
    for (uint32_t i = 0; i < 1000; i++)
        ikv_bus_deliver(ikv_kit_bus(kit), &heard);
}

static void deliver_digested(void)
{
    ikv_bus_add_watcher(ikv_kit_bus(kit), IKV_DIGEST_WANTS, feed_digest, NULL);
    deliver_some();
    /* with adding and removing it, once for a thousand */
    ikv_bus_remove_watcher(ikv_kit_bus(kit), feed_digest, NULL);
}

/* --------------------------------------------------------------- images -- */

static char *image;
static size_t image_bytes;

static void save_ours(void)
{
    ikv_parts parts = ikv_kit_parts(kit);
    ikv_image_save(&parts, image, image_bytes);
}

static void restore_ours(void)
{
    ikv_parts parts = ikv_kit_parts(kit);
    ikv_image_restore(&parts, image, image_bytes, NULL, 0);
}

static char *other_bytes;

static void save_plain(void)
{
    memcpy(other_bytes, image, image_bytes);
}

/* ---------------------------------------------------------------- tapes -- */

static void write_long_tape(void)
{
    FILE *file = fopen(TAPE_PATH, "w");
    if (file == NULL)
        exit(2);
    /* numbers with fractions, as recordings have them */
    fprintf(file, "{\"format\":\"ikvar.tape/2\"}\n");
    for (int i = 0; i < LINES; i++)
        fprintf(file,
                "{\"t\":%d.125,\"kind\":\"pointer.move\",\"x\":%d.25,\"y\":%d."
                "5}\n",
                i, i % 640, i % 360);
    fclose(file);
}

static void read_tape(const char *path)
{
    ikv_tape *tape;
    ikv_event event;
    if (ikv_tape_open(path, NULL, &tape, NULL) < 0)
        exit(2);
    while (ikv_tape_next(tape, &event, NULL, NULL) == IKV_OK)
        sum += event.time_ns;
    ikv_tape_close(tape);
}

static void read_ours(void)
{
    read_tape(TAPE_PATH);
}

static void read_binary(void)
{
    read_tape(BINARY_PATH);
}

static double bytes_of(const char *path)
{
    FILE *file = fopen(path, "r");
    if (file == NULL || fseek(file, 0, SEEK_END) != 0)
        exit(2);
    double bytes = (double)ftell(file);
    fclose(file);
    return bytes;
}

/* Each line as a document of its own, and its members. */
static void read_documents(void)
{
    FILE *file = fopen(TAPE_PATH, "r");
    char line[256];
    while (file != NULL && fgets(line, sizeof line, file) != NULL) {
        json_t *object = json_loads(line, 0, NULL);
        /* the members that ours reads too */
        sum += (uint64_t)json_number_value(json_object_get(object, "t")) +
               (uint64_t)json_number_value(json_object_get(object, "x")) +
               (uint64_t)json_number_value(json_object_get(object, "y")) +
               (json_string_value(json_object_get(object, "kind")) != NULL);
        json_decref(object);
    }
    if (file != NULL)
        fclose(file);
}

/* ------------------------------------------------------------ recording -- */

static void nothing(void) {}

/* What recording adds to a raw move; its checks, with the digest of what is
 * delivered, are few. */
static double recording_cost(float divisor, const char *path)
{
    ikv_recording *recording;
    ikv_recording_config config = IKV_RECORDING_INIT;
    uint32_t dice = 1;
    config.path = path;
    config.kit = kit;
    for (uint32_t i = 0; i < RAW; i++) {
        float *fields[] = {&raw[i].pointer.x, &raw[i].pointer.y,
                           &raw[i].pointer.dx, &raw[i].pointer.dy};
        for (int f = 0; f < 4; f++) {
            dice = dice * 1664525 + 1013904223;
            *fields[f] = (float)(dice >> 20) / divisor;
        }
    }
    double without = least_of(merge_ours, nothing);
    if (ikv_recording_open(&config, &recording, NULL) < 0)
        exit(2);
    double with = least_of(merge_ours, nothing);
    ikv_recording_close(recording, NULL);
    remove(path);
    return (with - without) / RAW;
}

/* --------------------------------------------------------------- setups -- */

#define SETUP_PATH "bench.setup.json"

static void write_large_setup(int targets)
{
    FILE *file = fopen(SETUP_PATH, "w");
    if (file == NULL)
        exit(2);
    fprintf(file, "{\"format\":\"ikvar.setup/1\",\"targets\":[");
    for (int i = 0; i < targets; i++)
        fprintf(file,
                "%s{\"id\":\"t%d\",\"position\":[%d,%d],\"shape\":{\"rect\":[0,"
                "0,9,9]}}",
                i > 0 ? "," : "", i, i % 1000 * 10, i / 1000 * 10);
    fprintf(file, "],\"handlers\":[");
    for (int i = 0; i < targets; i++)
        fprintf(file,
                "%s{\"name\":\"h%d\",\"kinds\":[\"pointer.down\"],\"at\":"
                "\"t%d\",\"reactions\":[\"stop\"]}",
                i > 0 ? "," : "", i, i);
    fprintf(file, "]}");
    fclose(file);
}

/* The least time of a target and its handler, in ns. */
static double read_setup_of(int targets, bool whole)
{
    double least = 1e18;
    write_large_setup(targets);
    for (int i = 0; i < 5; i++) {
        ikv_setup *setup = NULL;
        json_t *document = NULL;
        uint64_t begin = read_clock(NULL);
        if (whole && ikv_setup_read(SETUP_PATH, &setup, NULL) < 0)
            exit(2);
        /* with the check for members that stand twice, as ours */
        if (!whole)
            document = json_load_file(SETUP_PATH, JSON_REJECT_DUPLICATES, NULL);
        double each = (double)(read_clock(NULL) - begin) / targets;
        least = each < least ? each : least;
        ikv_setup_close(setup);
        json_decref(document);
    }
    remove(SETUP_PATH);
    return least;
}

/* --------------------------------------------------------------- pacing -- */

static double lateness_of(uint64_t spin_ns)
{
    ikv_port port = ikv_null_port();
    ikv_kit *paced;
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.loop.frame_hz = 500;
    config.loop.spin_ns = spin_ns;
    if (ikv_kit_open(&config, &paced) < 0)
        exit(2);
    /* half a second */
    for (int i = 0; i < 250; i++) {
        ikv_loop_begin(ikv_kit_loop(paced));
        ikv_loop_end(ikv_kit_loop(paced));
    }
    double late = (double)ikv_loop_lateness(ikv_kit_loop(paced), 50);
    ikv_kit_close(paced);
    return late > 0 ? late : 1;
}

static double late_spinning(void)
{
    return lateness_of(300000);
}

static double late_sleeping(void)
{
    return lateness_of(0);
}

void time_rows(void)
{
    open_merging();
    measure("a raw move: pushed, drained, merged", "pushed, drained, read once",
            3.5, 1.2, RAW, merge_ours, merge_plain);
    for (uint32_t i = 0; i < RAW; i++)
        raw[i].pointer.pointer = 0;
    measure("a raw move of one mouse", "pushed, drained, read once", 3.5, 1.2,
            RAW, merge_ours, merge_plain);
    compare("record a move, any x, y, dx, dy", "asked: 1 us", 1, 1.2,
            recording_cost(7.001f, TAPE_PATH), 1000);
    compare("record a move, in quarters", "asked: half of that", 1, 1.2,
            recording_cost(4, TAPE_PATH), 500);
    compare("record a move on a binary tape", "asked: 0.2 us", 1, 1.2,
            recording_cost(7.001f, BINARY_PATH), 200);
    heard = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    ikv_target everywhere = {0};
    ikv_bus_hear(ikv_kit_bus(kit), IKV_KIND_FIELD_SET, everywhere, count_call,
                 &sum, NULL);
    measure("deliver to 1, into a digest", "deliver to 1", 0, 1.2, 1000,
            deliver_digested, deliver_some);
    ikv_parts parts = ikv_kit_parts(kit);
    image_bytes = ikv_image_size(&parts);
    image = malloc(image_bytes);
    other_bytes = malloc(image_bytes);
    ikv_image_save(&parts, image, image_bytes);
    /* bound by memory, which has its phases: twice the slack */
    measure("save an image of a default kit", "memcpy of as many bytes", 2, 2,
            1, save_ours, save_plain);
    measure("restore it, checked", "memcpy of as many bytes", 2, 1.2, 1,
            restore_ours, save_plain);
    free(image);
    free(other_bytes);
    write_long_tape();
    measure("read an event from a tape", "a JSON document a line", 0.4, 1.2,
            LINES, read_ours, read_documents);
    if (ikv_tape_convert(TAPE_PATH, BINARY_PATH, NULL, NULL) < 0)
        exit(2);
    measure("read an event from a binary tape", "from lines", 0, 1.2, LINES,
            read_binary, read_ours);
    compare("bytes of an event on a binary tape", "on lines", 0.5, 1,
            bytes_of(BINARY_PATH) / LINES, bytes_of(TAPE_PATH) / LINES);
    remove(BINARY_PATH);
    remove(TAPE_PATH);
    ikv_queue_close(plain_queue);
    ikv_kit_close(kit);
    if (counting_only)
        return; /* the rest are times alone */
    double large = read_setup_of(100000, true);
    compare("read a setup, a target of 100,000", "asked: all in a second", 1, 1,
            large, 1e9 / 100000);
    compare("read a setup, a target of 100,000", "a target of 1,000", 1.5, 1.2,
            large, read_setup_of(1000, true));
    compare("read a setup, a target of 100,000", "the JSON document alone", 2,
            1.2, large, read_setup_of(100000, false));
    compare("lateness of a frame, p50, spins 0.3 ms", "only sleeps", 0, 1.2,
            late_spinning(), late_sleeping());
}
