/* record.c - T1: writes tapes, with digests; compares runs with them. */
#define _POSIX_C_SOURCE 200809L
#include "../setup/setup_shared.h"
#include "tape.h"

#include "ikvar/digest.h"

#include <stdlib.h>
#include <string.h>

enum {
    CHECK_STEPS = 256, /* how far digests on a tape are apart */
    WATCH_IMAGES = IKV_WATCH_SAVE | IKV_WATCH_RESTORE
};

/* Where a run is: what is restored where nothing has come since it was saved, as
 * by a setup that could not be taken in anew, is no way back. */
typedef struct run_mark {
    uint64_t events, deliveries, step;
} run_mark;

struct ikv_recording {
    output output;
    json_writer writer;
    ikv_kit *kit;
    ikv_bus *bus;
    const ikv_setup *setup;
    char *path; /* for messages */
    plain_writer *plain;
    binary_writer *binary; /* or NULL: lines */
    ikv_digest digest;
    uint64_t events;
    run_mark saved;
    bool failed, unsaved;
    bool went_back;     /* by an image: the tape ends before that */
    char buffer[65536]; /* the file's */
};

/* Whether a delivery is the first one of a later span of steps. */
static bool begins_span(const ikv_digest *digest, const ikv_watch *watch)
{
    return watch->delivery != NULL && !watch->frame_scoped &&
           (watch->what == IKV_WATCH_CALL || watch->what == IKV_WATCH_DONE) &&
           watch->delivery->step / CHECK_STEPS != digest->step / CHECK_STEPS;
}

/* Whether an image takes the run back. */
static bool goes_back(run_mark *saved, run_mark now, const ikv_watch *watch)
{
    if (watch->what == IKV_WATCH_SAVE)
        *saved = now;
    return watch->what == IKV_WATCH_RESTORE &&
           (now.events != saved->events ||
            now.deliveries != saved->deliveries || now.step != saved->step);
}

/* -------------------------------------------------------------- writing -- */

/* NULL for what only the program knows. */
static const char *target_of_tape(const void *user, const ikv_field *field,
                                  uint32_t *number)
{
    const ikv_recording *r = user;
    const char *name;
    uint32_t bits = *number;
    if (field->set == IKV_SET_ACTION)
        return ikv_actions_name(ikv_kit_actions(r->kit), (ikv_action_id){bits});
    if (field->set == IKV_SET_FIELD && r->setup != NULL) {
        name = ikv_setup_field_name(r->setup, bits);
        return strcmp(name, "?") != 0 ? name : NULL;
    }
    if (field->type != IKV_TYPE_TARGET && field->type != IKV_TYPE_VALUE)
        return NULL;
    if (bits == ikv_bus_root(r->bus).bits)
        return "root";
    if (r->setup == NULL)
        return NULL;
    name = ikvi_setup_name_of(r->setup, (ikv_target){bits});
    return strcmp(name, "gone") != 0 ? name : NULL;
}

static void end_line(ikv_recording *r)
{
    ikvi_write_close_object(&r->writer);
    r->failed = !ikvi_write_newline(&r->writer) || r->failed;
}

static void record_event(const ikv_event *event, const ikv_intake *intake,
                         void *user)
{
    ikv_recording *r = user;
    const ikv_kind_info *info =
        ikv_catalogue_info(ikv_bus_catalogue(r->bus), event->kind);
    size_t length;
    if (r->failed || r->went_back)
        return; /* what follows a gap would be wrong */
    const char *line = NULL;
    if (r->binary == NULL)
        line = ikvi_plain_line(r->plain, event, info, intake, &length);
    if (r->binary != NULL) {
        ikvi_binary_write_event(r->binary, event, info, intake, target_of_tape,
                                r);
    } else if (line != NULL) {
        fwrite(line, 1, length, r->output.file); /* save() asks how it went */
    } else {
        ikvi_write_event(&r->writer, event, info, intake, target_of_tape, r);
        end_line(r);
    }
    r->unsaved = true;
    r->events++;
}

/* Hands what has come in to the system before it is delivered: if a handler
 * brings the program down, what brought it there is on the tape. Merged moves
 * are handed over together. */
static void save(ikv_recording *r)
{
    r->unsaved = false;
    if (r->binary != NULL)
        ikvi_binary_flush(r->binary);
    r->failed =
        fflush(r->output.file) != 0 || ferror(r->output.file) || r->failed;
}

static void write_check(ikv_recording *r, bool last)
{
    char hex[24];
    json_writer *w = &r->writer;
    ikv_check check = {.digest = r->digest.value,
                       .step = r->digest.step,
                       .deliveries = r->digest.deliveries,
                       .end_ns = ikv_loop_time_ns(ikv_kit_loop(r->kit))};
    if (r->failed || r->went_back)
        return;
    if (r->binary != NULL) {
        if (last)
            ikvi_binary_write_end(r->binary, check.end_ns, NULL, &check);
        else
            ikvi_binary_write_check(r->binary, &check);
        return;
    }
    snprintf(hex, sizeof hex, "%016llx", (unsigned long long)check.digest);
    ikvi_write_object(w);
    ikvi_write_name(w, "digest");
    ikvi_write_text(w, hex);
    ikvi_write_name(w, "step");
    ikvi_write_integer(w, (int64_t)check.step);
    ikvi_write_name(w, "deliveries");
    ikvi_write_integer(w, (int64_t)check.deliveries);
    if (last) {
        ikvi_write_name(w, "end");
        ikvi_write_ms(w, check.end_ns);
    }
    end_line(r);
}

static void watch_recording(const ikv_watch *watch, void *user)
{
    ikv_recording *r = user;
    if (r->unsaved && watch->what == IKV_WATCH_EVENT)
        save(r);
    if ((watch->what & WATCH_IMAGES) != 0) {
        const run_mark now = {r->events, r->digest.deliveries,
                              ikv_loop_step_number(ikv_kit_loop(r->kit))};
        r->went_back = goes_back(&r->saved, now, watch) || r->went_back;
        return;
    }
    if (begins_span(&r->digest, watch))
        write_check(r, false);
    ikv_digest_add(&r->digest, r->bus, watch);
}

static void write_header(ikv_recording *r, const char *setup_path,
                         reader *fault)
{
    ikv_tape_info info = {.at_frame = ikv_loop_timing(ikv_kit_loop(r->kit)) ==
                                      IKV_AT_FRAME};
    char *seen =
        setup_path != NULL ? ikvi_path_seen_from(r->path, setup_path) : NULL;
    info.setup = seen;
    ikv_loop_rate(ikv_kit_loop(r->kit), &info.step_num, &info.step_den);
    if (setup_path != NULL && seen == NULL)
        ikvi_no_memory(fault);
    json_t *header = fault->failed ? NULL : ikvi_tape_header(fault, &info);
    if (header == NULL)
        r->failed = true;
    else if (r->binary != NULL)
        ikvi_binary_write_header(r->binary, header);
    else
        ikvi_write_json(&r->writer, header);
    if (r->binary == NULL && header != NULL)
        r->failed = !ikvi_write_newline(&r->writer) || r->failed;
    json_decref(header);
    free(seen);
    ikvi_write_is_whole(&r->writer, fault);
}

static const char the_tape[] = "the tape";

static ikv_status watch(ikv_recording *r)
{
    ikv_loop *loop = ikv_kit_loop(r->kit);
    ikv_status status = ikv_loop_set_recorder(loop, record_event, r);
    if (status < 0)
        return status;
    status = ikv_bus_add_watcher(
        r->bus, IKV_DIGEST_WANTS | IKV_WATCH_EVENT | WATCH_IMAGES,
        watch_recording, r);
    if (status < 0)
        ikv_loop_set_recorder(loop, NULL, NULL);
    return status;
}

static void unwatch(ikv_recording *r)
{
    ikv_loop_set_recorder(ikv_kit_loop(r->kit), NULL, NULL);
    ikv_bus_remove_watcher(r->bus, watch_recording, r);
}

static void free_recording(ikv_recording *r)
{
    ikvi_write_end(&r->writer);
    ikvi_plain_close(r->plain);
    ikvi_binary_write_close(r->binary);
    free(r->path);
    free(r);
}

/* Nothing is recorded yet: NAME.part needn't stay. */
static void close_unused(ikv_recording *r, reader *fault)
{
    r->output.grows = false;
    ikvi_output_close(&r->output, fault, !fault->failed, the_tape);
    free_recording(r);
}

ikv_status ikv_recording_open(const ikv_recording_config *config,
                              ikv_recording **recording, ikv_message *message)
{
    if (config == NULL || recording == NULL || config->path == NULL ||
        config->kit == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    reader fault = {.path = config->path, .message = message};
    ikv_recording *r = calloc(1, sizeof *r);
    plain_writer *plain = ikvi_plain_open();
    char *path = strdup(config->path);
    if (r == NULL || plain == NULL || path == NULL) {
        free(r);
        ikvi_plain_close(plain);
        free(path);
        return ikvi_no_memory(&fault);
    }
    *r = (ikv_recording){.kit = config->kit,
                         .bus = ikv_kit_bus(config->kit),
                         .setup = config->setup,
                         .path = path,
                         .plain = plain,
                         .digest = IKV_DIGEST_INIT};
    if (!ikvi_output_open(&r->output, &fault, path, true, the_tape)) {
        free_recording(r);
        return IKV_BAD_FILE;
    }
    ikvi_write_begin(&r->writer, r->output.file, false);
    setvbuf(r->output.file, r->buffer, _IOFBF, sizeof r->buffer);
    if (ikvi_is_binary_path(path)) {
        r->binary = ikvi_binary_write_open(r->output.file);
        if (r->binary == NULL) {
            ikvi_no_memory(&fault);
            close_unused(r, &fault);
            return IKV_NO_MEMORY;
        }
    }
    ikv_status status = watch(r);
    if (status < 0) {
        ikvi_reader_fail(&fault, NULL, "can't be recorded: %s",
                         ikv_status_text(status));
        close_unused(r, &fault);
        return status;
    }
    write_header(r, config->setup_path, &fault);
    if (fault.failed || r->failed) {
        unwatch(r);
        close_unused(r, &fault);
        return ikvi_reader_status(&fault);
    }
    *recording = r;
    return ikvi_message_fine(message);
}

ikv_status ikv_recording_close(ikv_recording *recording, ikv_message *message)
{
    if (recording == NULL)
        return ikvi_message_fine(message);
    ikv_recording *r = recording;
    reader fault = {.path = r->path, .message = message};
    unwatch(r);
    write_check(r, true);
    save(r);
    bool whole = ikvi_write_is_whole(&r->writer, &fault);
    if (whole && r->went_back)
        whole =
            ikvi_reader_fail(&fault, NULL,
                             "the run went back by an image: what had come "
                             "in before is in %s",
                             r->output.part != NULL ? r->output.part : r->path);
    bool good = ikvi_output_close(&r->output, &fault, whole, the_tape);
    free_recording(r);
    return good ? ikvi_message_fine(message) : IKV_BAD_FILE;
}

/* ------------------------------------------------------------ comparing -- */

struct ikv_comparison {
    const ikv_tape *tape;
    ikv_bus *bus;
    ikv_digest digest;
    uint32_t next;
    const ikv_loop *loop;
    run_mark saved;
    bool went_back; /* what is told since is no tape's run */
    ikv_comparison_result result;
};

/* The check of the tape must be the same; the first that differs is kept. */
static void compare_next(ikv_comparison *c, bool last)
{
    ikv_check check;
    if (c->result.old || c->went_back ||
        !ikv_tape_check(c->tape, c->next, &check) || check.last != last)
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
    if ((watch->what & WATCH_IMAGES) != 0) {
        const run_mark now = {0, c->digest.deliveries,
                              ikv_loop_step_number(c->loop)};
        c->went_back = goes_back(&c->saved, now, watch) || c->went_back;
        return;
    }
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
    *c = (ikv_comparison){.tape = tape,
                          .loop = ikv_kit_loop(kit),
                          .bus = ikv_kit_bus(kit),
                          .digest = IKV_DIGEST_INIT};
    c->result.old = ikv_tape_about(tape).version < TAPE_VERSION;
    ikv_status status = ikv_bus_add_watcher(
        c->bus, IKV_DIGEST_WANTS | WATCH_IMAGES, watch_comparison, c);
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
