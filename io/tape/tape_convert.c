/* tape_convert.c - makes a tape of lines of a binary one, and the other way
 * round. Events, gestures and digests stay what they are; "note" is left out.
 */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <stdlib.h>
#include <string.h>

/* What a tape is written to, in one of its two forms. */
typedef struct tape_sink {
    binary_writer *binary; /* or NULL: */
    json_writer lines;
    tape_names names;
} tape_sink;

static void put_object(tape_sink *to, const json_t *object)
{
    if (to->binary != NULL) {
        ikvi_binary_write_object(to->binary, object);
        return;
    }
    ikvi_write_json(&to->lines, object);
    ikvi_write_newline(&to->lines);
}

static bool put_check(tape_sink *to, reader *r, const json_t *object)
{
    ikv_check check;
    bool has_digest;
    uint64_t clock = 0;
    bool has_clock = json_object_get(object, "clock") != NULL;
    if (!ikvi_read_check(r, object, &check, &has_digest) ||
        !ikvi_read_ns(r, object, "clock", false, &clock))
        return false;
    if (to->binary == NULL)
        put_object(to, object);
    else if (check.last)
        ikvi_binary_write_end(to->binary, check.end_ns,
                              has_clock ? &clock : NULL,
                              has_digest ? &check : NULL);
    else
        ikvi_binary_write_check(to->binary, &check);
    return true;
}

static void put_event(tape_sink *to, const tape_line *line,
                      const ikv_kind_info *info)
{
    ikv_intake intake = line->intake;
    if (!intake.has_due)
        intake.due_ns = line->event.time_ns;
    if (to->binary != NULL) {
        ikvi_binary_write_event(to->binary, &line->event, info, &intake,
                                ikvi_name_of_number, &to->names);
        return;
    }
    ikvi_write_event(&to->lines, &line->event, info, &intake,
                     ikvi_name_of_number, &to->names);
    ikvi_write_close_object(&to->lines);
    ikvi_write_newline(&to->lines);
}

static bool put_all(tape_sink *to, ikv_tape *tape,
                    const ikv_catalogue *catalogue)
{
    tape_line line;
    json_t *object;
    reader *r = ikvi_tape_reader(tape);
    for (;;) {
        tape_item item = ikvi_tape_item(tape, &line, &object);
        bool good = true;
        if (item == ITEM_EVENT) {
            put_event(to, &line,
                      ikv_catalogue_info(catalogue, line.event.kind));
            ikvi_names_clear(&to->names);
        } else if (item == ITEM_OBJECT && ikvi_is_check(object))
            good = put_check(to, r, object);
        else if (item == ITEM_OBJECT)
            put_object(to, object);
        json_decref(object);
        if (!good || item == ITEM_FAILED)
            return false;
        if (item == ITEM_END)
            return true;
    }
}

/* The tape says whose kinds it may have; what it names lies beside it. */
static ikv_status read_its_setup(const char *path, const char *named,
                                 ikv_setup **setup, ikv_message *message)
{
    char *beside = ikvi_path_beside(path, named);
    if (beside == NULL)
        return ikvi_no_memory(&(reader){.path = path, .message = message});
    ikv_status status = ikv_setup_read(beside, setup, message);
    free(beside);
    return status;
}

/* Its setup is named as seen from the new tape. */
static json_t *new_header(reader *r, const ikv_tape_info *was, const char *from,
                          const char *to)
{
    ikv_tape_info info = *was;
    char *beside = NULL, *seen = NULL;
    if (was->setup != NULL)
        beside = ikvi_path_beside(from, was->setup);
    if (beside != NULL)
        seen = ikvi_path_seen_from(to, beside);
    info.setup = seen;
    json_t *header = NULL;
    if (was->setup != NULL && seen == NULL)
        ikvi_no_memory(r);
    else
        header = ikvi_tape_header(r, &info);
    free(beside);
    free(seen);
    return header;
}

static const char the_tape[] = "the tape";

static bool write_tape(ikv_tape *tape, const ikv_catalogue *catalogue,
                       const char *from, const char *to, reader *r)
{
    output out = {0};
    ikv_tape_info info = ikv_tape_about(tape);
    tape_sink sink = {0};
    if (!ikvi_output_open(&out, r, to, false, the_tape))
        return false;
    ikvi_write_begin(&sink.lines, out.file, false);
    if (ikvi_is_binary_path(to))
        sink.binary = ikvi_binary_write_open(out.file);
    ikvi_tape_name_any(tape, &sink.names);
    json_t *header = new_header(r, &info, from, to);
    bool good =
        header != NULL && (sink.binary != NULL || !ikvi_is_binary_path(to));
    if (!good && !r->failed)
        ikvi_no_memory(r);
    if (good) {
        if (sink.binary != NULL)
            ikvi_binary_write_header(sink.binary, header);
        else
            put_object(&sink, header);
        good = put_all(&sink, tape, catalogue);
    }
    if (sink.binary != NULL)
        ikvi_binary_flush(sink.binary);
    json_decref(header);
    good = ikvi_write_is_whole(&sink.lines, r) && good;
    ikvi_write_end(&sink.lines);
    ikvi_binary_write_close(sink.binary);
    ikvi_names_free(&sink.names);
    return ikvi_output_close(&out, r, good, the_tape) && good;
}

ikv_status ikv_tape_convert(const char *from, const char *to,
                            const ikv_setup *setup, ikv_message *message)
{
    if (from == NULL || to == NULL)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = to, .message = message};
    ikv_setup *own = NULL;
    ikv_tape *tape;
    if (ikvi_same_file(from, to)) {
        ikvi_reader_fail(&r, NULL,
                         "it is the tape that is read: the new one "
                         "would destroy it");
        return IKV_BAD_FILE;
    }
    ikv_status status = ikv_tape_open(from, setup, &tape, message);
    if (status < 0)
        return status;
    const char *named = ikv_tape_about(tape).setup;
    if (setup == NULL && named != NULL) {
        status = read_its_setup(from, named, &own, message);
        ikv_tape_close(tape);
        if (status == IKV_OK)
            status = ikv_tape_open(from, own, &tape, message);
        if (status < 0) {
            ikv_setup_close(own);
            return status;
        }
        setup = own;
    }
    reader *read = ikvi_tape_reader(tape);
    read->message = message;
    bool good = write_tape(tape, ikv_setup_catalogue(setup), from, to, &r);
    if (!good)
        status = read->no_memory || r.no_memory ? IKV_NO_MEMORY : IKV_BAD_FILE;
    else
        ikvi_message_left_out(message, ikv_tape_warning(tape));
    ikv_tape_close(tape);
    ikv_setup_close(own);
    return status;
}
