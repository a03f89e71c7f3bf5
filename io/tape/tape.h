/* tape.h - the inside of tapes: tape_lines.c finds lines, tape.c reads them,
 * tape_quick.c the plain ones quickly, tape_binary.c the items of binary tapes,
 * tape_names.c knows targets by name alone,
 * tape_play.c makes events of gestures, tape_write.c writes lines and
 * tape_binary_write.c items, record.c tapes, tape_join.c cuts and joins,
 * tape_convert.c makes one form of the other. */
#ifndef IKVI_IO_TAPE_H
#define IKVI_IO_TAPE_H

#include "../text/json.h"
#include "../text/write.h"

/* What a line of a tape says. */
typedef struct tape_line {
    ikv_event event;
    ikv_intake intake;
} tape_line;

/* The flush that took it, where the tape does not say: frames' code flushes the
 * frame lane. */
uint8_t ikvi_tape_flush(const ikv_intake *intake);

/* The event of a kind that a line with nothing else in it stands for. */
ikv_event ikvi_tape_blank(const ikv_kind_info *info);

/* Members of lines that are no fields: what an intake keeps. */
extern const char *const ikvi_tape_members[];

/* What a call that went well says: nothing, or what was left out. */
void ikvi_message_left_out(ikv_message *message, const char *warning);

/* Whether such an event can bring data along, if it does; else after a
 * message. */
bool ikvi_may_have_data(reader *r, const ikv_kind_info *info,
                        const ikv_intake *intake);

/* What is wrong with a kind's or a field's name; always false. `any`: it may be
 * one that ports don't push. */
bool ikvi_unknown_kind(reader *r, const ikv_catalogue *catalogue,
                       const char *name, bool any);
bool ikvi_unknown_field(reader *r, const ikv_kind_info *info,
                        const char *member);

/* ---------------------------------------------------------------- names -- */

/* What one event names, where no setup need know it, from when it is read until
 * it is written: a number for each name, and for each number that would be
 * taken for one. */
typedef struct tape_name {
    char *text; /* NULL: a number */
    uint32_t number;
} tape_name;

typedef struct tape_names {
    tape_name *list;
    uint32_t count, room;
} tape_names;

/* Before another event is read, and at the end. */
void ikvi_names_clear(tape_names *names);
void ikvi_names_free(tape_names *names);
/* For reading and writing an event; the user is the names. */
target_finder ikvi_any_target(tape_names *names);
const char *ikvi_name_of_number(const void *user, const ikv_field *field,
                                uint32_t *bits);

/* ---------------------------------------------------------- binary tapes -- */

enum {
    EVENT_FIELDS = 48, /* of a kind, the header's included */
    EVENT_WORDS = sizeof(ikv_event) / 8
};

/* What an event's bits say behind those of its fields: parts of its intake. */
enum {
    BINARY_DUE, /* in ns behind the event's time */
    BINARY_GROUP,
    BINARY_LANE,
    BINARY_HELD,
    BINARY_WITHIN,
    BINARY_LOST, /* in ns */
    BINARY_DATA, /* a text, or bytes */
    BINARY_FLUSH,
    BINARY_MARKS
};
extern const char *const ikvi_binary_marks[BINARY_MARKS];

/* How many bits of an event's mask are set: as many values follow. */
static inline uint32_t ikvi_bits_in(uint64_t mask)
{
    uint32_t count = 0;
    for (; mask != 0; mask &= mask - 1)
        count++;
    return count;
}

/* The number of the lowest bit of a mask that has one: by a multiplier whose
 * upper six bits are others for each place it is shifted to. */
static inline uint32_t ikvi_lowest_bit(uint64_t mask)
{
    static const uint8_t places[64] = {
        0,  1,  48, 2,  57, 49, 28, 3,  61, 58, 50, 42, 38, 29, 17, 4,
        62, 55, 59, 36, 53, 51, 43, 22, 45, 39, 33, 30, 24, 18, 12, 5,
        63, 47, 56, 27, 60, 41, 37, 16, 54, 35, 52, 21, 44, 32, 23, 11,
        46, 26, 40, 15, 34, 20, 31, 10, 25, 14, 19, 9,  13, 8,  7,  6};
    return places[((mask & (~mask + 1)) * UINT64_C(0x03f79d71b4cb0a89)) >> 58];
}

typedef struct binary_reader binary_reader;
typedef enum binary_next {
    BINARY_EVENT,
    BINARY_OBJECT, /* the header, a gesture, a digest, an end */
    BINARY_END,    /* `torn` says so if the last item is */
    BINARY_FAILED  /* with a message */
} binary_next;

/* Whether what follows in the file is a binary tape. */
bool ikvi_is_binary(FILE *file);
/* Kinds may be any until a catalogue is named, also those that only the tape
 * knows. NULL: no memory. */
binary_reader *ikvi_binary_open(FILE *file, reader *r);
void ikvi_binary_use(binary_reader *b, const ikv_catalogue *catalogue);
void ikvi_binary_close(binary_reader *b);
binary_next ikvi_binary_next(binary_reader *b, ikv_message *torn);
/* The event at hand; once. */
bool ikvi_binary_event(binary_reader *b, const target_finder *finder,
                       tape_line *to, const ikv_kind_info **info);
/* The object that stands on the same line of another tape; NULL after a
 * message. */
json_t *ikvi_binary_object(binary_reader *b);

/* Whether a tape of that name is a binary one. */
bool ikvi_is_binary_path(const char *path);

/* Takes no memory once it is open; how it went the file's error tells. */
typedef struct binary_writer binary_writer;
binary_writer *ikvi_binary_write_open(FILE *file);
void ikvi_binary_write_close(binary_writer *w);
/* Hands on what has been written. */
void ikvi_binary_flush(binary_writer *w);
void ikvi_binary_write_header(binary_writer *w, const json_t *header);
void ikvi_binary_write_object(binary_writer *w, const json_t *object);
void ikvi_binary_write_event(binary_writer *w, const ikv_event *event,
                             const ikv_kind_info *info,
                             const ikv_intake *intake, target_namer name,
                             const void *user);
/* A digest; where the tape ends; or both. */
void ikvi_binary_write_check(binary_writer *w, const ikv_check *check);
void ikvi_binary_write_end(binary_writer *w, uint64_t end_ns,
                           const uint64_t *clock_ns, const ikv_check *check);

/* ---------------------------------------------------------------- lines -- */

/* The lines of a tape, one by one; or a binary one's items. */
typedef struct tape_lines {
    FILE *file;
    binary_reader *binary; /* NULL: it has lines */
    binary_next item;      /* of it, at hand */
    char *path, *line;
    size_t room, length;
    reader reader;
    bool begun;          /* a line has been parsed: the header */
    ikv_message warning; /* of a torn last line; else empty */
} tape_lines;

bool ikvi_lines_open(tape_lines *lines, const char *path, ikv_message *message);
/* Looks of which form the file is, at its begin; false: no memory. */
bool ikvi_lines_look(tape_lines *lines);
void ikvi_lines_close(tape_lines *lines);

/* The next line that is not empty; false at the end, and after a message. */
bool ikvi_lines_next(tape_lines *lines);

/* The line's object, NULL after a message. NULL without one if it is the last
 * line and torn: then it is as if it were not there. */
json_t *ikvi_lines_parse(tape_lines *lines);

/* The header's members; `setup` lives as long as the object. */
bool ikvi_read_tape_header(reader *r, const json_t *object, ikv_tape_info *info,
                           const char **setup);

/* Of a new tape, with the setup as seen from it, of the present version if that
 * is 0; NULL after a message. */
json_t *ikvi_tape_header(reader *r, const ikv_tape_info *info);

/* A time in milliseconds. */
bool ikvi_read_ns(reader *r, const json_t *object, const char *member,
                  bool needed, uint64_t *ns);

/* How lines begin that are neither events nor gestures. */
bool ikvi_is_check(const json_t *object);
/* What such a line says; without a digest `has_digest` is false. */
bool ikvi_read_check(reader *r, const json_t *object, ikv_check *check,
                     bool *has_digest);

/* What comes next on a tape: an event, or an object. */
typedef enum tape_item {
    ITEM_EVENT,
    ITEM_OBJECT, /* to be released */
    ITEM_END,
    ITEM_FAILED /* with a message */
} tape_item;
tape_item ikvi_tape_item(ikv_tape *tape, tape_line *line, json_t **object);
/* Targets are any from now on, by these names. */
void ikvi_tape_name_any(ikv_tape *tape, tape_names *names);
reader *ikvi_tape_reader(ikv_tape *tape);

/* ---------------------------------------------------------- quick lines -- */

/* Reads lines of a flat object with plain values, without a document in
 * between; false for any other line, right or wrong: then it is read again, and
 * what is wrong with it is found. */
typedef struct quick_reader quick_reader;
quick_reader *ikvi_quick_open(const ikv_catalogue *catalogue);
bool ikvi_quick_read(quick_reader *quick, const char *line, size_t length,
                     tape_line *to);
void ikvi_quick_close(quick_reader *quick);

/* ------------------------------------------------------------- gestures -- */

enum {
    PLAY_LIMIT = 16, /* that run at once */
    PLAY_POINTS = 64
};

/* A gesture that is under way: what comes next, and when. */
typedef struct tape_play {
    uint32_t what;  /* 0: free */
    uint32_t order; /* of their lines */
    uint64_t begin_ns, length_ns, every_ns;
    uint32_t at; /* events given so far */
    uint16_t device, pointer, other;
    uint8_t type;
    int8_t button;
    uint8_t view, seat;
    uint32_t point_count, count;
    float points[PLAY_POINTS][2];
    float from, to, turn; /* of a pinch: distances, degrees */
    char text[256];
    uint64_t next_ns;
    ikv_event next;
} tape_play;

/* All that are under way. */
typedef struct tape_plays {
    tape_play list[PLAY_LIMIT];
    uint32_t begun;
} tape_plays;

/* A gesture begins with its line, whose time is known. */
bool ikvi_plays_begin(tape_plays *plays, reader *r, const json_t *object,
                      uint64_t time_ns);

/* The one whose event is next, NULL if there is none; and goes on. */
tape_play *ikvi_plays_next(tape_plays *plays);
void ikvi_play_go_on(tape_play *play);

/* -------------------------------------------------------------- writing -- */

#define TAPE_FORMAT "ikvar.tape/2"
enum {
    TAPE_VERSION = 2
};

/* An event's fields that are not what its kind alone stands for. */
void ikvi_write_fields(json_writer *w, const ikv_event *event,
                       const ikv_kind_info *info, target_namer name,
                       const void *user);

/* Its line, as an object that is not closed yet. */
void ikvi_write_event(json_writer *w, const ikv_event *event,
                      const ikv_kind_info *info, const ikv_intake *intake,
                      target_namer name, const void *user);

/* Where the fields of a kind lie in an event, counted in 8 bytes. */
typedef struct field_places {
    uint64_t bytes[EVENT_FIELDS];  /* of its word that are a field's */
    uint64_t in_word[EVENT_WORDS]; /* a bit for each field that lies there */
    uint32_t count;
    uint64_t anywhere; /* texts, and values of any type */
} field_places;
void ikvi_places_add(field_places *places, const ikv_field *field);
/* A bit for each field in which two events differ, and of those anywhere. */
uint64_t ikvi_places_compare(const field_places *places, const ikv_event *a,
                             const ikv_event *b);

/* The same line, with its end, if it is a plain one; else NULL. It stays until
 * the next one. */
typedef struct plain_writer plain_writer;
plain_writer *ikvi_plain_open(void);
const char *ikvi_plain_line(plain_writer *plain, const ikv_event *event,
                            const ikv_kind_info *info, const ikv_intake *intake,
                            size_t *length);
void ikvi_plain_close(plain_writer *plain);

#endif
