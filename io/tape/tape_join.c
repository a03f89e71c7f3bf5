/* tape_join.c - cuts tapes and joins them, line by line.
 *
 * A line has two times: its event's own, and `due`, when it took effect. Both
 * are moved, each by its own measure, since a pause makes them differ. Where a
 * part ends both are kept on its last line ("end" and "clock"), so that what is
 * joined again is the whole.
 *
 * J1  each part is read twice: first for where it begins and ends
 * J2  clock_at() of one place is the same for the part before and the one
 *     behind it, and not later than any line behind it
 * J3  pieces come in the order in which ikv_tape_next() gives them
 */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* Two times that belong together: of the clock, and of the steps. */
typedef struct moment {
    uint64_t clock, due;
} moment;

/* A place at which a tape is cut. */
typedef struct cut {
    uint64_t due;
    moment before;  /* the last line before it */
    uint64_t least; /* clock of all lines behind it */
} cut;

/* What is known of a part before it is written. */
typedef struct part_facts {
    cut from, to;
    bool whole; /* to its end */
    bool ends;  /* it says where; else that is where its last line is */
    moment last, end;
    bool is_over; /* by loop.end: */
    moment over;
    bool has_lines;
    uint32_t first_group, last_group;
    FILE *kept; /* what was read from a pipe */
} part_facts;

typedef struct splice {
    json_writer writer;
    reader *reader; /* of the new tape */
    tape_lines lines;
    tape_plays plays;
    ikv_tape_info info; /* of all parts */
    char *setup;        /* of the first one, as seen from the new tape */
    part_facts *facts;  /* of the part at hand */
    moment base;        /* where it begins on the new tape */
    uint32_t last_group, group_shift;
    bool expands;        /* gestures become their events */
    bool goes_on;        /* behind the part at hand */
    ikv_message warning; /* of the last part that is torn; else empty */
} splice;

/* A line, or a gesture's event. */
typedef struct piece {
    const json_t *object; /* or NULL: */
    const ikv_event *event;
    moment at;
    bool has_due;
    uint32_t group;
} piece;

typedef bool (*piece_fn)(splice *s, const piece *p);

/* -------------------------------------------------------------- reading -- */

static bool read_piece(reader *r, const json_t *object, piece *to)
{
    int64_t group = 0;
    *to = (piece){.object = object};
    to->has_due = json_object_get(object, "due") != NULL;
    if (!ikvi_read_ns(r, object, "t", true, &to->at.clock))
        return false;
    to->at.due = to->at.clock;
    if (!ikvi_read_ns(r, object, "due", false, &to->at.due) ||
        !ikvi_read_integer(r, NULL, object, "between", 1, UINT32_MAX, &group))
        return false;
    to->group = (uint32_t)group;
    return true;
}

/* The events of gestures that come before a line of that time. */
static bool give_plays(splice *s, uint64_t before, piece_fn each)
{
    tape_play *play;
    while ((play = ikvi_plays_next(&s->plays)) != NULL &&
           play->next.time_ns < before) {
        /* a gesture's events have no times of their own apart from these: both
         * are the same, as for a line without "due" */
        piece one = {.event = &play->next,
                     .at = {play->next.time_ns, play->next.time_ns}};
        if (!each(s, &one))
            return false;
        ikvi_play_go_on(play);
    }
    return true;
}

static bool read_end(splice *s, const json_t *object)
{
    reader *r = &s->lines.reader;
    moment end = {UINT64_MAX, 0};
    if (json_object_get(object, "end") == NULL)
        return true;
    if (!ikvi_read_ns(r, object, "end", false, &end.due))
        return false;
    if (json_object_get(object, "clock") != NULL) {
        end.clock = 0;
        if (!ikvi_read_ns(r, object, "clock", false, &end.clock))
            return false;
    }
    if (!s->facts->ends || end.due >= s->facts->end.due)
        s->facts->end = end;
    s->facts->ends = true;
    return true;
}

static bool give_line(splice *s, const json_t *object, piece_fn each)
{
    piece one;
    /* digests are of the old run: they would be wrong on the new tape */
    if (ikvi_is_check(object))
        return read_end(s, object);
    if (!read_piece(&s->lines.reader, object, &one))
        return false;
    /* only when it is cut or moved: else a gesture can stay one line */
    if (s->expands && json_object_get(object, "play") != NULL)
        return ikvi_plays_begin(&s->plays, &s->lines.reader, object,
                                one.at.clock);
    return give_plays(s, one.at.clock, each) && each(s, &one);
}

/* From behind the header to the end. */
static bool give_all(splice *s, piece_fn each)
{
    s->plays = (tape_plays){0};
    while (ikvi_lines_next(&s->lines)) {
        json_t *object = ikvi_lines_parse(&s->lines);
        if (object == NULL)
            break; /* torn, or wrong */
        bool good = give_line(s, object, each);
        json_decref(object);
        if (!good)
            return false;
    }
    return !s->lines.reader.failed && give_plays(s, UINT64_MAX, each);
}

static bool refuse_part(splice *s, const ikv_tape_info *info)
{
    if (info->at_frame != s->info.at_frame)
        return ikvi_reader_fail(&s->lines.reader, NULL,
                                "its timing is %s, but that of the first tape "
                                "is %s",
                                info->at_frame ? "at_frame" : "in_step",
                                s->info.at_frame ? "at_frame" : "in_step");
    return ikvi_reader_fail(
        &s->lines.reader, NULL,
        "recorded at %u steps in %u s, but a tape before it at %u in %u s",
        info->step_num, info->step_den, s->info.step_num, s->info.step_den);
}

/* The setup is named as seen from the tape's folder. */
static bool take_setup(splice *s, const char *setup)
{
    char *path = ikvi_path_beside(s->lines.path, setup);
    if (path != NULL)
        s->setup = ikvi_path_seen_from(s->reader->path, path);
    free(path);
    return s->setup != NULL || ikvi_no_memory(s->reader) == IKV_OK;
}

static bool take_header(splice *s, bool first)
{
    reader *r = &s->lines.reader;
    ikv_tape_info info = {0};
    const char *setup = NULL;
    json_t *header = NULL;
    if (ikvi_lines_next(&s->lines))
        header = ikvi_lines_parse(&s->lines);
    else
        ikvi_reader_fail(r, NULL, "the file is empty, expected a tape");
    bool good =
        header != NULL && ikvi_read_tape_header(r, header, &info, &setup);
    /* its clock is found when all lines are known (find_end) */
    if (good && info.until_ns > 0) {
        s->facts->ends = true;
        s->facts->end = (moment){UINT64_MAX, info.until_ns};
    }
    if (good && first) {
        s->info = info;
        good = setup == NULL || take_setup(s, setup);
    } else if (good) {
        /* 30 in 1 s are 60 in 2 s */
        bool other = info.step_num != 0 && s->info.step_num != 0 &&
                     (uint64_t)info.step_num * s->info.step_den !=
                         (uint64_t)s->info.step_num * info.step_den;
        if (other || info.at_frame != s->info.at_frame)
            good = refuse_part(s, &info);
        /* the first one that says it says it for all */
        else if (s->info.step_num == 0) {
            s->info.step_num = info.step_num;
            s->info.step_den = info.step_den;
        }
    }
    json_decref(header);
    return good;
}

/* A pipe can be read but once. */
static bool keep_pipe(splice *s)
{
    tape_lines *lines = &s->lines;
    char bytes[4096];
    size_t got;
    /* what can be sought in is opened anew for its second reading */
    if (fseek(lines->file, 0, SEEK_CUR) == 0)
        return true;
    FILE *copy = tmpfile();
    bool good = copy != NULL;
    while (good && (got = fread(bytes, 1, sizeof bytes, lines->file)) > 0)
        good = fwrite(bytes, 1, got, copy) == got;
    good = good && !ferror(lines->file) && fseek(copy, 0, SEEK_SET) == 0;
    if (good) {
        fclose(lines->file);
        lines->file = s->facts->kept = copy;
        return true;
    }
    if (copy != NULL)
        fclose(copy);
    return ikvi_reader_fail(&lines->reader, NULL, "can't keep what is read: %s",
                            strerror(errno));
}

/* --------------------------------------------------------------- facts -- */

static void see(cut *c, moment at)
{
    if (at.due < c->due)
        c->before = at;
    /* a line behind the cut: the cut can't be later than it (J2) */
    else if (at.clock < c->least)
        c->least = at.clock;
}

/* What ends the run, before the tape's end. */
static bool ends_run(const piece *p)
{
    const char *kind = json_string_value(json_object_get(p->object, "kind"));
    return kind != NULL && strcmp(kind, "loop.end") == 0;
}

static bool survey(splice *s, const piece *p)
{
    part_facts *f = s->facts;
    if (ends_run(p) && !f->is_over) {
        f->is_over = true;
        f->over = p->at;
    }
    see(&f->from, p->at);
    see(&f->to, p->at);
    if (!f->whole && p->at.due >= f->to.due)
        return true;
    /* not simply the last line: late events stand behind those that they are
     * due before */
    if (p->at.due >= f->last.due)
        f->last = p->at;
    /* it is left out: its group does not count */
    if (p->at.due < f->from.due)
        return true;
    f->has_lines = true;
    if (p->group != 0) {
        f->first_group = f->first_group != 0 ? f->first_group : p->group;
        f->last_group = p->group;
    }
    return true;
}

/* What the clock showed when the steps' time was `due`, going by a line: a
 * pause puts it ahead, while an event that was late says nothing of it. */
static uint64_t clock_behind(moment line, uint64_t due)
{
    return due + (line.clock > line.due ? line.clock - line.due : 0);
}

static uint64_t clock_at(const cut *c)
{
    uint64_t clock = clock_behind(c->before, c->due);
    return clock < c->least ? clock : c->least;
}

/* A cut behind the end is none. */
static bool is_behind(const part_facts *f)
{
    return f->to.least == UINT64_MAX && (!f->ends || f->end.due <= f->to.due);
}

/* Where the part ends: where it is cut, where the tape says, or else where its
 * last line is. */
static void find_end(part_facts *f)
{
    if (f->is_over) {
        f->end = f->over;
        f->ends = true;
    }
    f->whole = f->whole || is_behind(f);
    if (!f->whole) {
        f->end = (moment){clock_at(&f->to), f->to.due};
        f->ends = true;
    } else if (!f->ends || f->end.due < f->last.due) {
        f->end = f->last;
    } else if (f->end.clock == UINT64_MAX) {
        f->end.clock = clock_behind(f->last, f->end.due);
    }
    /* an empty part has no length, not one below zero */
    moment from = {clock_at(&f->from), f->from.due};
    if (f->end.due < from.due)
        f->end = from;
    /* a file written by hand can say anything */
    if (f->end.clock < from.clock)
        f->end.clock = from.clock;
}

static bool open_part(splice *s, const ikv_tape_part *part, bool first)
{
    if (!ikvi_lines_open(&s->lines, part->path, s->reader->message))
        return false;
    /* the second reading takes what the first one kept */
    if (s->facts->kept != NULL) {
        fclose(s->lines.file);
        s->lines.file = s->facts->kept;
        s->facts->kept = NULL;
        rewind(s->lines.file);
    } else if (!keep_pipe(s)) {
        return false;
    }
    return take_header(s, first);
}

/* What is wrong with a part is what is wrong with all. */
static bool close_part(splice *s, bool good)
{
    s->reader->failed = s->reader->failed || !good;
    s->reader->no_memory = s->reader->no_memory || s->lines.reader.no_memory;
    if (s->lines.warning.text[0] != '\0')
        s->warning = s->lines.warning;
    /* it is read again, and closed with all the others */
    if (s->facts->kept == s->lines.file)
        s->lines.file = NULL;
    ikvi_lines_close(&s->lines);
    return good;
}

static bool survey_part(splice *s, const ikv_tape_part *part, part_facts *facts,
                        bool first)
{
    *facts = (part_facts){.whole = part->to_ns == 0};
    facts->from = (cut){.due = part->from_ns, .least = UINT64_MAX};
    facts->to = (cut){.due = part->to_ns, .least = UINT64_MAX};
    s->facts = facts;
    /* with them, since a gesture's last event can be the end */
    s->expands = true;
    bool good = open_part(s, part, first) && give_all(s, survey);
    find_end(facts);
    return close_part(s, good);
}

/* -------------------------------------------------------------- writing -- */

static void write_due(json_writer *w, moment at)
{
    ikvi_write_name(w, "due");
    ikvi_write_ms(w, at.due);
}

/* The line with its two times and its group moved. */
static void write_line(splice *s, const piece *p, moment at)
{
    json_writer *w = &s->writer;
    const char *member;
    json_t *value;
    /* a line without it had one time; on the new tape it has two */
    bool due = !p->has_due && at.due != at.clock;
    json_object_foreach((json_t *)(uintptr_t)p->object, member, value)
    {
        ikvi_write_name(w, member);
        if (strcmp(member, "t") == 0)
            ikvi_write_ms(w, at.clock);
        else if (strcmp(member, "due") == 0)
            ikvi_write_ms(w, at.due);
        else if (strcmp(member, "between") == 0)
            ikvi_write_integer(w, (int64_t)p->group + s->group_shift);
        else
            ikvi_write_json(w, value);
        if (due && strcmp(member, "kind") == 0)
            write_due(w, at);
    }
}

static const char *no_name(const void *user, const ikv_field *field,
                           uint32_t *bits)
{
    (void)user;
    (void)field;
    (void)bits;
    return "root";
}

static bool write_piece(splice *s, const piece *p)
{
    const part_facts *f = s->facts;
    json_writer *w = &s->writer;
    if (p->at.due < f->from.due || (!f->whole && p->at.due >= f->to.due))
        return true;
    /* What is joined to it goes on there. */
    if (s->goes_on && ends_run(p))
        return true;
    /* never below zero: clock_at() is not later than any line behind it (J2) */
    moment at = {s->base.clock + p->at.clock - clock_at(&f->from),
                 s->base.due + p->at.due - f->from.due};
    ikvi_write_object(w);
    if (p->object != NULL) {
        write_line(s, p, at);
    } else {
        /* of a gesture: nothing stands on the tape for it */
        const ikv_kind_info *info = ikv_catalogue_info(NULL, p->event->kind);
        ikvi_write_name(w, "t");
        ikvi_write_ms(w, at.clock);
        ikvi_write_name(w, "kind");
        ikvi_write_text(w, info->name);
        if (at.due != at.clock)
            write_due(w, at);
        ikvi_write_fields(w, p->event, info, no_name, NULL);
    }
    ikvi_write_close_object(w);
    return ikvi_write_newline(w);
}

static bool write_header(splice *s)
{
    s->info.setup = s->setup;
    s->info.until_ns = 0; /* the end says it */
    s->info.version = 0;  /* no digest of an older one is on it */
    json_t *header = ikvi_tape_header(s->reader, &s->info);
    if (header == NULL)
        return false;
    ikvi_write_json(&s->writer, header);
    json_decref(header);
    return ikvi_write_newline(&s->writer);
}

static bool write_end(splice *s)
{
    json_writer *w = &s->writer;
    ikvi_write_object(w);
    ikvi_write_name(w, "end");
    ikvi_write_ms(w, s->base.due);
    if (s->base.clock != s->base.due) {
        ikvi_write_name(w, "clock");
        ikvi_write_ms(w, s->base.clock);
    }
    ikvi_write_close_object(w);
    return ikvi_write_newline(w);
}

/* Groups of one part must not go on in the next. */
static void shift_groups(splice *s)
{
    const part_facts *f = s->facts;
    s->group_shift = 0;
    if (f->first_group == 0)
        return;
    /* no further than needed: a tape cut and joined again is the same */
    if (f->first_group <= s->last_group)
        s->group_shift = s->last_group + 1 - f->first_group;
    s->last_group = f->last_group + s->group_shift;
}

static bool write_part(splice *s, const ikv_tape_part *part, part_facts *facts)
{
    part_facts known = *facts; /* reading finds its end again */
    s->facts = facts;
    /* where nothing is cut or moved, its lines stay as they are */
    s->expands =
        part->from_ns != 0 || part->to_ns != 0 || s->base.clock != s->base.due;
    shift_groups(s);
    bool good = open_part(s, part, false) && give_all(s, write_piece);
    s->base.clock += known.end.clock - clock_at(&known.from);
    s->base.due += known.end.due - known.from.due;
    return close_part(s, good);
}

static bool write_all(splice *s, const ikv_tape_part *parts, part_facts *facts,
                      uint32_t count)
{
    bool good = write_header(s);
    /* if the last part does not say where it ends, no more does the whole */
    bool ends = facts[count - 1].ends;
    for (uint32_t i = 0; good && i < count; i++) {
        s->goes_on = false;
        for (uint32_t k = i + 1; k < count; k++)
            s->goes_on = s->goes_on || facts[k].has_lines;
        good = write_part(s, &parts[i], &facts[i]);
    }
    return good && (!ends || write_end(s));
}

static ikv_status join_lines(const ikv_tape_part *parts, uint32_t count,
                             const char *path, ikv_message *message)
{
    static const char what[] = "the tape";
    reader r = {.path = path, .message = message};
    splice *s = calloc(1, sizeof *s);
    part_facts *facts = calloc(count, sizeof *facts);
    output to = {0};
    bool good = s != NULL && facts != NULL;
    if (good)
        s->reader = &r;
    else
        ikvi_no_memory(&r);
    for (uint32_t i = 0; good && i < count; i++) {
        /* all of them before a byte is written: a bad part costs nothing */
        good = good && survey_part(s, &parts[i], &facts[i], i == 0);
    }
    if (good && ikvi_output_open(&to, &r, path, false, what)) {
        ikvi_write_begin(&s->writer, to.file, false);
        good = write_all(s, parts, facts, count);
        ikvi_write_is_whole(&s->writer, &r);
        ikvi_write_end(&s->writer);
        /* what is not whole is not put in the place of what was there */
        ikvi_output_close(&to, &r, good || !r.failed, what);
    }
    for (uint32_t i = 0; facts != NULL && i < count; i++)
        if (facts[i].kept != NULL)
            fclose(facts[i].kept);
    ikv_status status = ikvi_reader_status(&r);
    if (status == IKV_OK)
        ikvi_message_left_out(message, s->warning.text);
    if (s != NULL)
        free(s->setup);
    free(s);
    free(facts);
    return status;
}

/* A binary tape is made of one of lines beside it, since what joins them looks
 * at lines. */
static ikv_status join_binary(const ikv_tape_part *parts, uint32_t count,
                              const char *path, ikv_message *message)
{
    static const char end[] = ".XXXXXX";
    reader r = {.path = path, .message = message};
    char *lines = malloc(strlen(path) + sizeof end);
    if (lines == NULL)
        return ikvi_no_memory(&r);
    snprintf(lines, strlen(path) + sizeof end, "%s%s", path, end);
    int file = mkstemp(lines);
    if (file < 0) {
        ikvi_reader_fail(&r, NULL, "can't write beside it: %s",
                         strerror(errno));
        free(lines);
        return IKV_BAD_FILE;
    }
    close(file);
    ikv_message warning = {""};
    ikv_status status = join_lines(parts, count, lines, message);
    if (status == IKV_OK) {
        warning = message != NULL ? *message : warning;
        status = ikv_tape_convert(lines, path, NULL, message);
    }
    if (status == IKV_OK)
        ikvi_message_left_out(message, warning.text);
    remove(lines);
    free(lines);
    return status;
}

ikv_status ikv_tape_join(const ikv_tape_part *parts, uint32_t count,
                         const char *path, ikv_message *message)
{
    if (parts == NULL || count == 0 || path == NULL)
        return IKV_BAD_ARGUMENT;
    reader r = {.path = path, .message = message};
    for (uint32_t i = 0; i < count; i++)
        if (parts[i].path == NULL)
            return IKV_BAD_ARGUMENT;
        else if (ikvi_same_file(parts[i].path, path))
            ikvi_reader_fail(&r, NULL,
                             "it is one of the tapes that are read: the new "
                             "one would destroy it");
    if (r.failed)
        return IKV_BAD_FILE;
    return ikvi_is_binary_path(path) ? join_binary(parts, count, path, message)
                                     : join_lines(parts, count, path, message);
}
