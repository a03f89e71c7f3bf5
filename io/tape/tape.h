/* tape.h - the inside of tapes: tape_lines.c finds lines, tape.c reads them,
 * tape_quick.c the plain ones quickly, tape_play.c makes events of gestures,
 * tape_write.c writes lines, record.c tapes, tape_join.c cuts and joins. */
#ifndef IKVI_IO_TAPE_H
#define IKVI_IO_TAPE_H

#include "../text/json.h"
#include "../text/write.h"

/* What a line of a tape says. */
typedef struct tape_line {
    ikv_event event;
    ikv_intake intake;
} tape_line;

/* The event of a kind that a line with nothing else in it stands for. */
ikv_event ikvi_tape_blank(const ikv_kind_info *info);

/* Members of lines that are no fields: what an intake keeps. */
extern const char *const ikvi_tape_members[];

/* ---------------------------------------------------------------- lines -- */

/* The lines of a tape, one by one. */
typedef struct tape_lines {
    FILE *file;
    char *path, *line;
    size_t room, length;
    reader reader;
    bool begun;          /* a line has been parsed: the header */
    ikv_message warning; /* of a torn last line; else empty */
} tape_lines;

bool ikvi_lines_open(tape_lines *lines, const char *path, ikv_message *message);
void ikvi_lines_close(tape_lines *lines);

/* The next line that is not empty; false at the end, and after a message. */
bool ikvi_lines_next(tape_lines *lines);

/* The line's object, NULL after a message. NULL without one if it is the last
 * line and torn: then it is as if it were not there. */
json_t *ikvi_lines_parse(tape_lines *lines);

/* The first line. `setup` lives as long as the object. */
bool ikvi_read_tape_header(reader *r, const json_t *object, ikv_tape_info *info,
                           const char **setup);

/* A time in milliseconds. */
bool ikvi_read_ns(reader *r, const json_t *object, const char *member,
                  bool needed, uint64_t *ns);

/* How lines begin that are neither events nor gestures. */
bool ikvi_is_check(const json_t *object);

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
                       const ikv_kind_info *info,
                       const char *(*name)(const void *user,
                                           const ikv_field *field,
                                           uint32_t bits),
                       const void *user);

/* Its line, as an object that is not closed yet. */
void ikvi_write_event(json_writer *w, const ikv_event *event,
                      const ikv_kind_info *info, const ikv_intake *intake,
                      const char *(*name)(const void *user,
                                          const ikv_field *field,
                                          uint32_t bits),
                      const void *user);

/* The same line, with its end, if it is a plain one; else NULL. It stays until
 * the next one. */
typedef struct plain_writer plain_writer;
plain_writer *ikvi_plain_open(void);
const char *ikvi_plain_line(plain_writer *plain, const ikv_event *event,
                            const ikv_kind_info *info, const ikv_intake *intake,
                            size_t *length);
void ikvi_plain_close(plain_writer *plain);

#endif
