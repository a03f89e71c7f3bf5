/* record.c - writes tapes, with digests; compares runs with them. */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include "ikvar/digest.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum {
    CHECK_STEPS = 256 /* how far digests on a tape are apart */
};

struct ikv_recording {
    FILE *file;
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_setup *setup;
    ikv_digest digest;
    bool failed;
};

/* Whether a delivery is the first one of a later span of steps. */
static bool begins_span(const ikv_digest *digest, const ikv_watch *watch)
{
    return watch->delivery != NULL && !watch->frame_scoped &&
           (watch->what == IKV_WATCH_CALL || watch->what == IKV_WATCH_DONE) &&
           watch->delivery->step / CHECK_STEPS != digest->step / CHECK_STEPS;
}

/* -------------------------------------------------------------- writing -- */

/* Events of actions are never on a tape. */
static const char *target_of_tape(const void *user, const ikv_field *field,
                                  uint32_t bits)
{
    const ikv_recording *r = user;
    (void)field;
    return r->setup != NULL
               ? ikv_setup_target_name(r->setup, (ikv_target){bits})
               : "root";
}

static json_t *json_ms(uint64_t ns)
{
    return ikvi_json_shortest((double)ns / 1e6, false);
}

static void add_intake(json_t *line, const ikv_event *event,
                       const ikv_intake *intake)
{
    if (intake->due_ns != event->time_ns || intake->group != 0 ||
        intake->how != IKV_INTAKE_INPUT)
        json_object_set_new(line, "due", json_ms(intake->due_ns));
    if (intake->group != 0)
        json_object_set_new(line, "between", json_integer(intake->group));
    if (intake->how == IKV_INTAKE_HELD)
        json_object_set_new(line, "held", json_true());
    if (intake->how == IKV_INTAKE_INBOX)
        json_object_set_new(line, "lane",
                            intake->lane == IKV_STEP_LANE ? json_string("step")
                            : intake->lane == IKV_FRAME_LANE
                                ? json_string("frame")
                                : json_integer(intake->lane));
    if (intake->within)
        json_object_set_new(line, "within", json_true());
    if (intake->lost_ns != 0)
        json_object_set_new(line, "lost", json_ms(intake->lost_ns));
}

/* Fields that are not what the kind alone stands for. */
static void add_fields(ikv_recording *r, json_t *line, const ikv_event *event,
                       const ikv_kind_info *info)
{
    ikv_event blank = ikvi_tape_blank(info);
    const ikv_field *field;
    for (uint32_t i = 0;; i++) {
        field = ikv_field_header(i);
        if (field == NULL)
            break;
        if (ikv_field_get(field, event).bits.integer !=
            ikv_field_get(field, &blank).bits.integer)
            json_object_set_new(
                line, field->name,
                ikvi_write_field(field, event, target_of_tape, r));
    }
    for (uint32_t i = 0; i < info->field_count; i++) {
        uint32_t length = 0;
        field = &info->fields[i];
        bool text = ikv_field_text(field, event, &length) != NULL;
        if (text ? length > 0
                 : ikv_field_get(field, event).bits.integer !=
                       ikv_field_get(field, &blank).bits.integer)
            json_object_set_new(
                line, field->name,
                ikvi_write_field(field, event, target_of_tape, r));
    }
}

static void record_event(const ikv_event *event, const ikv_intake *intake,
                         void *user)
{
    ikv_recording *r = user;
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(r->bus), event->kind);
    json_t *line = json_object();
    json_object_set_new(line, "t", json_ms(event->time_ns));
    json_object_set_new(line, "kind", json_string(info->name));
    add_intake(line, event, intake);
    add_fields(r, line, event, info);
    r->failed = !ikvi_write_line(r->file, line) || r->failed;
}

static void write_check(ikv_recording *r, bool last)
{
    char hex[24];
    json_t *line = json_object();
    snprintf(hex, sizeof hex, "%016llx", (unsigned long long)r->digest.value);
    json_object_set_new(line, "digest", json_string(hex));
    json_object_set_new(line, "step", json_integer((json_int_t)r->digest.step));
    json_object_set_new(line, "deliveries",
                        json_integer((json_int_t)r->digest.deliveries));
    if (last)
        json_object_set_new(line, "end",
                            json_ms(ikv_loop_time_ns(ikv_kit_loop(r->kit))));
    r->failed = !ikvi_write_line(r->file, line) || r->failed;
}

static void watch_recording(const ikv_watch *watch, void *user)
{
    ikv_recording *r = user;
    if (begins_span(&r->digest, watch))
        write_check(r, false);
    ikv_digest_add(&r->digest, r->bus, watch);
}

static void write_header(ikv_recording *r, const char *setup_path)
{
    uint32_t num, den;
    ikv_loop_rate(ikv_kit_loop(r->kit), &num, &den);
    json_t *line = json_object();
    json_object_set_new(line, "format", json_string("ikvar.tape/1"));
    if (setup_path != NULL)
        json_object_set_new(line, "setup", json_string(setup_path));
    json_object_set_new(line, "steps", json_integer(num));
    json_object_set_new(line, "per_seconds", json_integer(den));
    if (ikv_loop_timing(ikv_kit_loop(r->kit)) == IKV_AT_FRAME)
        json_object_set_new(line, "timing", json_string("at_frame"));
    r->failed = !ikvi_write_line(r->file, line);
}

ikv_status ikv_recording_open(const ikv_recording_config *config,
                              ikv_recording **recording, ikv_message *message)
{
    if (config == NULL || recording == NULL || config->path == NULL ||
        config->kit == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    ikv_recording *r = calloc(1, sizeof *r);
    if (r == NULL)
        return IKV_NO_MEMORY;
    *r = (ikv_recording){.kit = config->kit,
                         .bus = ikv_kit_bus(config->kit),
                         .setup = config->setup,
                         .digest = IKV_DIGEST_INIT};
    r->file = fopen(config->path, "w");
    if (r->file == NULL) {
        reader fault = {.path = config->path, .message = message};
        ikvi_reader_fail(&fault, NULL, "can't write the tape: %s",
                         strerror(errno));
        free(r);
        return IKV_BAD_FILE;
    }
    setvbuf(r->file, NULL, _IOLBF, 4096);
    ikv_loop *loop = ikv_kit_loop(config->kit);
    ikv_status status = ikv_loop_set_recorder(loop, record_event, r);
    if (status == IKV_OK) {
        status = ikv_bus_add_watcher(r->bus, watch_recording, r);
        if (status < 0)
            ikv_loop_set_recorder(loop, NULL, NULL);
    }
    if (status < 0) {
        fclose(r->file);
        free(r);
        return status;
    }
    write_header(r, config->setup_path);
    *recording = r;
    return ikvi_message_fine(message);
}

ikv_status ikv_recording_close(ikv_recording *recording)
{
    if (recording == NULL)
        return IKV_OK;
    ikv_recording *r = recording;
    ikv_loop_set_recorder(ikv_kit_loop(r->kit), NULL, NULL);
    ikv_bus_remove_watcher(r->bus, watch_recording, r);
    write_check(r, true);
    bool failed = r->failed;
    failed = fclose(r->file) != 0 || failed;
    free(r);
    return failed ? IKV_BAD_FILE : IKV_OK;
}

/* ------------------------------------------------------------ comparing -- */

struct ikv_comparison {
    const ikv_tape *tape;
    ikv_bus *bus;
    ikv_digest digest;
    uint32_t next;
    ikv_comparison_result result;
};

/* The check of the tape must be the same; the first that differs is kept. */
static void compare_next(ikv_comparison *c, bool last)
{
    ikv_check check;
    if (!ikv_tape_check(c->tape, c->next, &check) || check.last != last)
        return;
    c->next++;
    c->result.checks++;
    c->result.whole = last;
    if (c->result.differs)
        return;
    c->result.differs = check.digest != c->digest.value ||
                        check.deliveries != c->digest.deliveries;
    if (c->result.differs)
        c->result.to_step = check.step;
    else
        c->result.from_step = check.step;
}

static void watch_comparison(const ikv_watch *watch, void *user)
{
    ikv_comparison *c = user;
    if (begins_span(&c->digest, watch))
        compare_next(c, false);
    ikv_digest_add(&c->digest, c->bus, watch);
}

ikv_status ikv_comparison_open(ikv_kit *kit, const ikv_tape *tape,
                               ikv_comparison **comparison)
{
    if (kit == NULL || tape == NULL || comparison == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_comparison *c = calloc(1, sizeof *c);
    if (c == NULL)
        return IKV_NO_MEMORY;
    *c = (ikv_comparison){
        .tape = tape, .bus = ikv_kit_bus(kit), .digest = IKV_DIGEST_INIT};
    ikv_status status = ikv_bus_add_watcher(c->bus, watch_comparison, c);
    if (status < 0) {
        free(c);
        return status;
    }
    *comparison = c;
    return IKV_OK;
}

ikv_comparison_result ikv_comparison_close(ikv_comparison *comparison)
{
    if (comparison == NULL)
        return (ikv_comparison_result){0};
    ikv_bus_remove_watcher(comparison->bus, watch_comparison, comparison);
    compare_next(comparison, true);
    ikv_comparison_result result = comparison->result;
    result.digest = comparison->digest.value;
    result.deliveries = comparison->digest.deliveries;
    free(comparison);
    return result;
}
