/* tape.c - reading tapes: a header line, then a line for each event, gesture or
 * digest. */
#define _POSIX_C_SOURCE 200809L
#include "../setup/setup_shared.h"
#include "tape.h"

#include <stdlib.h>
#include <string.h>

struct ikv_tape {
    tape_lines lines;
    char *setup_path;
    const ikv_setup *setup;
    const ikv_catalogue *catalogue;
    target_finder finder;
    quick_reader *quick;
    ikv_tape_info info;
    uint64_t last_ns, last_due;
    /* What is at hand: the next line, and gestures under way. */
    tape_line next;
    data_buffer data; /* of that line */
    bool has_next, file_ended;
    tape_plays plays;
    ikv_check *checks;
    size_t check_count, check_room;
    ikv_message fault;
    bool failed;
};

const char *const ikvi_tape_members[] = {
    "t",    "kind", "due",    "between", "lane", "held", "within",
    "lost", "data", "base64", "flush",   "note", NULL};

ikv_event ikvi_tape_blank(const ikv_kind_info *info)
{
    ikv_event event = ikv_event_make(info->kind, 0);
    event.device = 1;
    return event;
}

uint8_t ikvi_tape_flush(const ikv_intake *intake)
{
    return intake->how == IKV_INTAKE_INBOX && intake->lane == IKV_FRAME_LANE
               ? IKV_FLUSH_OUTSIDE
               : 0;
}

/* --------------------------------------------------------------- opening -- */

static ikv_target find_by_name(const void *setup, const char *name)
{
    /* Of whatever bus it will be. */
    if (setup == NULL && strcmp(name, "root") == 0)
        return ikv_bus_root(NULL);
    return ikv_setup_target(setup, name);
}

static uint32_t find_number_by_name(const void *setup, const ikv_field *field,
                                    const char *name)
{
    return setup != NULL ? ikvi_setup_find_number(setup, field, name) : 0;
}

static uint32_t itself(const void *setup, uint32_t number)
{
    (void)setup;
    return number;
}

static void read_header(ikv_tape *tape)
{
    reader *r = &tape->lines.reader;
    const char *setup;
    if (!ikvi_lines_next(&tape->lines)) {
        ikvi_reader_fail(r, NULL,
                         "the file is empty, expected a header line "
                         "{\"format\":\"" TAPE_FORMAT "\"}");
        return;
    }
    json_t *header = ikvi_lines_parse(&tape->lines);
    if (header != NULL &&
        ikvi_read_tape_header(r, header, &tape->info, &setup) &&
        setup != NULL) {
        tape->info.setup = tape->setup_path = strdup(setup);
        if (tape->setup_path == NULL)
            ikvi_no_memory(r);
    }
    json_decref(header);
}

static ikv_status open_tape(const char *path, const ikv_setup *setup,
                            const ikv_catalogue *catalogue, ikv_tape **tape,
                            ikv_message *message)
{
    if (path == NULL || tape == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_tape *t = calloc(1, sizeof *t);
    reader *r = t != NULL ? &t->lines.reader
                          : &(reader){.path = path, .message = message};
    if (t == NULL)
        return ikvi_no_memory(r);
    t->setup = setup;
    t->catalogue = catalogue;
    t->finder =
        (target_finder){find_by_name, find_number_by_name, setup, itself, true};
    if (ikvi_lines_open(&t->lines, path, message)) {
        if (t->lines.binary != NULL)
            ikvi_binary_use(t->lines.binary, catalogue);
        read_header(t);
        t->quick = ikvi_quick_open(catalogue);
        if (t->quick == NULL)
            ikvi_no_memory(r);
    }
    ikv_status status = ikvi_reader_status(r);
    if (status == IKV_OK)
        *tape = t;
    else
        ikv_tape_close(t);
    return status;
}

ikv_status ikv_tape_open(const char *path, const ikv_setup *setup,
                         ikv_tape **tape, ikv_message *message)
{
    return open_tape(path, setup, ikv_setup_catalogue(setup), tape, message);
}

ikv_status ikv_tape_open_kinds(const char *path, const ikv_catalogue *kinds,
                               ikv_tape **tape, ikv_message *message)
{
    return open_tape(path, NULL, kinds, tape, message);
}

/* --------------------------------------------------------------- events -- */

static bool may_be_played(const ikv_kind_info *info, bool any)
{
    return any || (info->from & (IKV_FROM_P | IKV_FROM_U | IKV_FROM_T)) != 0;
}

bool ikvi_unknown_kind(reader *r, const ikv_catalogue *catalogue,
                       const char *name, bool any)
{
    const char *known[IKV_KIND_USER + 256];
    size_t count = 0;
    for (ikv_kind k = IKV_KIND_NONE;
         (k = ikv_catalogue_next(catalogue, k)) != IKV_KIND_NONE &&
         count < IKV_KIND_USER + 255;) {
        const ikv_kind_info *one = ikv_catalogue_info(catalogue, k);
        if (may_be_played(one, any))
            known[count++] = one->name;
    }
    known[count] = NULL;
    char hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(name, known);
    bool there = ikv_catalogue_find(catalogue, name) != IKV_KIND_NONE;
    bool plain = ikv_catalogue_next(catalogue, IKV_KIND_USER - 1) == 0;
    if (near == NULL && !there && plain)
        return ikvi_reader_fail(r, NULL,
                                "unknown kind \"%.60s\": a kind of a setup's "
                                "own is known with the setup",
                                name);
    return ikvi_reader_fail(r, NULL, "%s \"%.60s\"%s",
                            there ? "ports do not push the kind"
                                  : "unknown kind",
                            name, ikv_did_you_mean(near, hint, sizeof hint));
}

static bool read_kind(ikv_tape *tape, const json_t *object,
                      const ikv_kind_info **info)
{
    reader *r = &tape->lines.reader;
    const ikv_catalogue *catalogue = tape->catalogue;
    bool any = json_object_get(object, "lane") != NULL;
    const char *name = NULL;
    if (!ikvi_read_string(r, NULL, object, "kind", true, &name))
        return false;
    *info = ikv_catalogue_info(catalogue, ikv_catalogue_find(catalogue, name));
    return (*info != NULL && may_be_played(*info, any)) ||
           ikvi_unknown_kind(r, catalogue, name, any);
}

/* Lines are in the order in which they take effect: by `due`, or else `t`. */
static bool check_order(ikv_tape *tape, const tape_line *line)
{
    bool due = line->intake.has_due;
    uint64_t at = due ? line->intake.due_ns : line->event.time_ns;
    uint64_t *last = due ? &tape->last_due : &tape->last_ns;
    if (at < *last) {
        char wanted[32], found[32];
        ikv_time_format(*last, wanted);
        ikv_time_format(at, found);
        return ikvi_reader_fail(
            &tape->lines.reader, NULL,
            "the time runs backwards: expected %s of at least "
            "%s, found %s",
            due ? "due" : "t", wanted, found);
    }
    *last = at;
    return true;
}

bool ikvi_unknown_field(reader *r, const ikv_kind_info *info,
                        const char *member)
{
    const char *known[64];
    size_t count = 0;
    const ikv_field *header;
    for (uint32_t i = 0; ikvi_tape_members[i] != NULL; i++)
        known[count++] = ikvi_tape_members[i];
    for (uint32_t i = 0; (header = ikv_field_header(i)) != NULL; i++)
        known[count++] = header->name;
    for (uint32_t i = 0; i < info->field_count; i++)
        known[count++] = info->fields[i].name;
    known[count] = NULL;
    char hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(member, known);
    return ikvi_reader_fail(r, NULL, "%s has no field \"%.60s\"%s", info->name,
                            member, ikv_did_you_mean(near, hint, sizeof hint));
}

static bool read_lane(reader *r, const json_t *object, ikv_intake *intake)
{
    const json_t *lane = json_object_get(object, "lane");
    if (lane == NULL)
        return true;
    const char *name = json_string_value(lane);
    json_int_t number = json_is_integer(lane) ? json_integer_value(lane) : -1;
    if (name != NULL && strcmp(name, "step") == 0)
        number = IKV_STEP_LANE;
    else if (name != NULL && strcmp(name, "frame") == 0)
        number = IKV_FRAME_LANE;
    if (number < 0 || number > UINT16_MAX)
        return ikvi_reader_fail(
            r, NULL,
            "lane: expected \"step\", \"frame\" or a lane's "
            "number, found %s",
            ikvi_json_found(lane));
    intake->how = IKV_INTAKE_INBOX;
    intake->lane = (uint32_t)number;
    return true;
}

static bool read_intake(reader *r, const json_t *object, ikv_intake *intake)
{
    bool held = false;
    int64_t frame = 0, flush = 0;
    *intake = (ikv_intake)IKV_INTAKE_INIT;
    intake->has_due = json_object_get(object, "due") != NULL;
    if (!ikvi_read_ns(r, object, "due", false, &intake->due_ns) ||
        !ikvi_read_ns(r, object, "lost", false, &intake->lost_ns) ||
        !ikvi_read_integer(r, NULL, object, "between", 1, UINT32_MAX, &frame) ||
        !ikvi_read_bool(r, NULL, object, "held", &held) ||
        !ikvi_read_bool(r, NULL, object, "within", &intake->within) ||
        !ikvi_read_integer(r, NULL, object, "flush", 0, UINT8_MAX, &flush) ||
        !read_lane(r, object, intake))
        return false;
    intake->group = (uint32_t)frame;
    intake->flush = json_object_get(object, "flush") != NULL
                        ? (uint8_t)flush
                        : ikvi_tape_flush(intake);
    if (held)
        intake->how = IKV_INTAKE_HELD;
    return true;
}

static bool is_tape_member(const char *name)
{
    uint32_t i = 0;
    while (ikvi_tape_members[i] != NULL &&
           strcmp(ikvi_tape_members[i], name) != 0)
        i++;
    return ikvi_tape_members[i] != NULL;
}

bool ikvi_may_have_data(reader *r, const ikv_kind_info *info,
                        const ikv_intake *intake)
{
    place at = {NULL, "data", 0};
    if (intake->data_size == 0)
        return true;
    if (info->queue_class == IKV_QUEUE_MERGEABLE)
        return ikvi_reader_fail(r, &at,
                                "events of the kind %s merge: they bring no "
                                "data along",
                                info->name);
    return intake->how == IKV_INTAKE_INPUT ||
           ikvi_reader_fail(r, &at,
                            "what is \"held\" or on a \"lane\" brings no "
                            "data along");
}

/* Those that are of a field: that are values of any type, or that are not. */
static bool read_members(ikv_tape *tape, json_t *object,
                         const ikv_kind_info *info, bool values,
                         ikv_event *event)
{
    const char *member;
    json_t *value;
    json_object_foreach(object, member, value)
    {
        if (is_tape_member(member))
            continue;
        place at = {NULL, member, 0};
        const ikv_field *field = ikv_field_find(info, member);
        if (field == NULL)
            return ikvi_unknown_field(&tape->lines.reader, info, member);
        if ((field->type == IKV_TYPE_VALUE) == values &&
            !ikvi_read_field(&tape->lines.reader, &at, value, field,
                             &tape->finder, event))
            return false;
    }
    return true;
}

static bool read_event(ikv_tape *tape, json_t *object, tape_line *line)
{
    const ikv_kind_info *info;
    if (!read_kind(tape, object, &info))
        return false;
    line->event = ikvi_tape_blank(info);
    if (!ikvi_read_ns(&tape->lines.reader, object, "t", true,
                      &line->event.time_ns) ||
        !read_intake(&tape->lines.reader, object, &line->intake) ||
        !ikvi_read_data(&tape->lines.reader, object, &tape->data))
        return false;
    if (tape->data.size > 0) {
        line->intake.data = tape->data.bytes;
        line->intake.data_size = (uint32_t)tape->data.size;
    }
    /* Values last: their type may stand behind them. */
    return ikvi_may_have_data(&tape->lines.reader, info, &line->intake) &&
           read_members(tape, object, info, false, &line->event) &&
           read_members(tape, object, info, true, &line->event);
}

/* ------------------------------------------------- gestures and digests -- */

static bool begin_play(ikv_tape *tape, const json_t *object)
{
    tape_line line = {.intake = IKV_INTAKE_INIT};
    return ikvi_read_ns(&tape->lines.reader, object, "t", true,
                        &line.event.time_ns) &&
           check_order(tape, &line) &&
           ikvi_plays_begin(&tape->plays, &tape->lines.reader, object,
                            line.event.time_ns);
}

static bool read_hex(const char *text, uint64_t *value)
{
    size_t length = strspn(text, "0123456789abcdef");
    *value = strtoull(text, NULL, 16);
    return length == 16 && text[length] == '\0';
}

bool ikvi_read_check(reader *r, const json_t *object, ikv_check *check,
                     bool *has_digest)
{
    static const char *const members[] = {"digest", "step",  "deliveries",
                                          "end",    "clock", NULL};
    const char *digest = NULL;
    int64_t step = 0, deliveries = 0;
    uint64_t clock = 0;
    *check = (ikv_check){.last = json_object_get(object, "end") != NULL};
    *has_digest = json_object_get(object, "digest") != NULL;
    if (!ikvi_expect_object(r, NULL, object, members) ||
        !ikvi_read_string(r, NULL, object, "digest", *has_digest, &digest) ||
        !ikvi_read_integer(r, NULL, object, "step", 0, INT64_MAX, &step) ||
        !ikvi_read_integer(r, NULL, object, "deliveries", 0, INT64_MAX,
                           &deliveries) ||
        !ikvi_read_ns(r, object, "end", false, &check->end_ns) ||
        !ikvi_read_ns(r, object, "clock", false, &clock))
        return false;
    if (*has_digest && !read_hex(digest, &check->digest))
        return ikvi_reader_fail(r, NULL,
                                "digest: expected 16 digits from 0 to f, found "
                                "\"%.40s\"",
                                digest);
    check->step = (uint64_t)step;
    check->deliveries = (uint64_t)deliveries;
    return true;
}

static bool read_check(ikv_tape *tape, const json_t *object)
{
    ikv_check check;
    bool has_digest;
    if (!ikvi_read_check(&tape->lines.reader, object, &check, &has_digest))
        return false;
    if (check.last && check.end_ns > tape->info.until_ns)
        tape->info.until_ns = check.end_ns;
    if (!has_digest)
        return true;
    if (tape->check_count == tape->check_room) {
        size_t room = tape->check_room * 2 + 16;
        ikv_check *checks = realloc(tape->checks, room * sizeof *checks);
        if (checks == NULL)
            return ikvi_no_memory(&tape->lines.reader) == IKV_OK;
        tape->checks = checks;
        tape->check_room = room;
    }
    tape->checks[tape->check_count++] = check;
    return true;
}

/* -------------------------------------------------------------- reading -- */

static bool read_binary_event(ikv_tape *tape, tape_line *line)
{
    const ikv_kind_info *info;
    reader *r = &tape->lines.reader;
    if (!ikvi_binary_event(tape->lines.binary, &tape->finder, line, &info))
        return false;
    return may_be_played(info, line->intake.how == IKV_INTAKE_INBOX) ||
           ikvi_unknown_kind(r, tape->catalogue, info->name, false);
}

tape_item ikvi_tape_item(ikv_tape *tape, tape_line *line, json_t **object)
{
    tape_lines *lines = &tape->lines;
    *object = NULL;
    if (!ikvi_lines_next(lines))
        return lines->reader.failed ? ITEM_FAILED : ITEM_END;
    if (lines->binary != NULL && lines->item == BINARY_EVENT)
        return read_binary_event(tape, line) ? ITEM_EVENT : ITEM_FAILED;
    if (lines->binary == NULL &&
        ikvi_quick_read(tape->quick, lines->line, lines->length, line))
        return ITEM_EVENT;
    json_t *found = ikvi_lines_parse(lines);
    if (found == NULL)
        return lines->reader.failed ? ITEM_FAILED : ITEM_END;
    if (ikvi_is_check(found) || json_object_get(found, "play") != NULL) {
        *object = found;
        return ITEM_OBJECT;
    }
    bool good = read_event(tape, found, line);
    json_decref(found);
    return good ? ITEM_EVENT : ITEM_FAILED;
}

void ikvi_tape_name_any(ikv_tape *tape, tape_names *names)
{
    tape->finder = ikvi_any_target(names);
}

reader *ikvi_tape_reader(ikv_tape *tape)
{
    return &tape->lines.reader;
}

/* Reads one line: an event is then at hand, a gesture under way. */
static bool read_one_line(ikv_tape *tape)
{
    json_t *object;
    tape_item item = ikvi_tape_item(tape, &tape->next, &object);
    bool good = item != ITEM_FAILED;
    tape->file_ended = item == ITEM_END || item == ITEM_FAILED;
    tape->has_next = item == ITEM_EVENT;
    if (item == ITEM_OBJECT)
        good = ikvi_is_check(object) ? read_check(tape, object)
                                     : begin_play(tape, object);
    json_decref(object);
    return good && (!tape->has_next || check_order(tape, &tape->next));
}

/* Reads on until the next event is known: lines come in the order of their
 * times, so what a gesture gives before the last line's time can't be
 * overtaken. */
static bool take_next(ikv_tape *tape, tape_line *line, bool *ended)
{
    tape_play *play = ikvi_plays_next(&tape->plays);
    while (!tape->has_next && !tape->file_ended &&
           (play == NULL || play->next.time_ns >= tape->last_ns)) {
        if (!read_one_line(tape))
            return false;
        play = ikvi_plays_next(&tape->plays);
    }
    *ended = play == NULL && !tape->has_next;
    if (play != NULL &&
        (!tape->has_next || play->next.time_ns < tape->next.event.time_ns)) {
        line->event = play->next;
        line->intake = (ikv_intake)IKV_INTAKE_INIT;
        ikvi_play_go_on(play);
    } else if (tape->has_next) {
        *line = tape->next;
        tape->has_next = false;
    }
    return true;
}

ikv_status ikv_tape_next(ikv_tape *tape, ikv_event *event, ikv_intake *intake,
                         ikv_message *message)
{
    if (tape == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    tape_line line;
    bool ended = false;
    tape->lines.reader.message = &tape->fault;
    if (!tape->failed && take_next(tape, &line, &ended)) {
        if (ended)
            return IKV_ENDED;
        *event = line.event;
        if (intake != NULL)
            *intake = line.intake;
        return ikvi_message_fine(message);
    }
    tape->failed = true;
    if (message != NULL)
        *message = tape->fault;
    return tape->lines.reader.no_memory ? IKV_NO_MEMORY : IKV_BAD_FILE;
}

const char *ikv_tape_warning(const ikv_tape *tape)
{
    return tape != NULL && tape->lines.warning.text[0] != '\0'
               ? tape->lines.warning.text
               : NULL;
}

ikv_tape_info ikv_tape_about(const ikv_tape *tape)
{
    return tape != NULL ? tape->info : (ikv_tape_info){0};
}

bool ikv_tape_check(const ikv_tape *tape, uint32_t index, ikv_check *check)
{
    if (tape == NULL || check == NULL || index >= tape->check_count)
        return false;
    *check = tape->checks[index];
    return true;
}

void ikv_tape_close(ikv_tape *tape)
{
    if (tape == NULL)
        return;
    ikvi_lines_close(&tape->lines);
    ikvi_quick_close(tape->quick);
    free(tape->checks);
    free(tape->data.bytes);
    free(tape->setup_path);
    free(tape);
}
