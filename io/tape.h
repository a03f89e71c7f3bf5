/* tape.h - the inside of tapes: tape.c reads lines, tape_quick.c reads the
 * plain ones quickly, tape_play.c makes events of gestures, record.c writes. */
#ifndef IKVI_IO_TAPE_H
#define IKVI_IO_TAPE_H

#include "json.h"

/* What a line of a tape says. */
typedef struct tape_line {
    ikv_event event;
    ikv_intake intake;
} tape_line;

/* The event of a kind that a line with nothing else in it stands for. */
ikv_event ikvi_tape_blank(const ikv_kind_info *info);

/* Members of lines that are no fields: what an intake keeps. */
extern const char *const ikvi_tape_members[];

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

/* Fills in a gesture from its line, whose time is known. */
bool ikvi_play_read(reader *r, const json_t *object, uint64_t time_ns,
                    tape_play *play);
/* Makes the next event; false when there are no more. */
bool ikvi_play_next(tape_play *play);

#endif
