/* json.h - reading JSON with good errors: where, what was found, what was
 * expected. */
#ifndef IKVI_IO_JSON_H
#define IKVI_IO_JSON_H

#include "ikvar/io.h"
#include "ikvar/loop.h"

#include <jansson.h>
#include <stdio.h>

/* What is being read, for messages. The first error stays. */
typedef struct reader {
    const char *path;
    size_t line; /* of a file of lines; 0: messages have a JSON pointer */
    ikv_message *message;
    bool failed;
    bool no_memory; /* that is why */
} reader;

/* A place in the document: a chain of members and indices. */
typedef struct place {
    const struct place *up;
    const char *member; /* or NULL, and then: */
    size_t index;
} place;

/* Fails with a message; always false. */
bool ikvi_reader_fail(reader *r, const place *at, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

/* "no memory"; gives IKV_NO_MEMORY. */
ikv_status ikvi_no_memory(reader *r);

/* Of what has been read: OK, with an empty message, BAD_FILE or NO_MEMORY. */
ikv_status ikvi_reader_status(const reader *r);

/* One line's object; NULL after a message. */
json_t *ikvi_json_parse(reader *r, const char *text, size_t length);

/* A whole file's document ("the setup" for instance); NULL after a message. */
json_t *ikvi_json_load(reader *r, const char *what);

/* Numbers in texts, with a point in any locale: six digits for messages, all of
 * them from 100,000 on; and read as they are. */
typedef struct number_text {
    char text[32];
} number_text;
number_text ikvi_number(double value);
double ikvi_read_double(const char *text);

/* What a call that went well leaves in its message: nothing. */
ikv_status ikvi_message_fine(ikv_message *message);

/* "a string", "the number 3.5" ...: what was found. Not re-entrant. */
const char *ikvi_json_found(const json_t *value);

/* Fails unless it is an object with known members alone ("note" always is). */
bool ikvi_expect_object(reader *r, const place *at, const json_t *value,
                        const char *const *known);
bool ikvi_expect_array(reader *r, const place *at, const json_t *value);

/* Reads a member. Absent members leave *to as it is, unless `needed`. */
bool ikvi_read_string(reader *r, const place *at, const json_t *object,
                      const char *member, bool needed, const char **to);
/* One that is for people to read, without control characters. */
bool ikvi_read_line(reader *r, const place *at, const json_t *object,
                    const char *member, const char **to);
/* What was cut off in the middle of a character ends before it. */
void ikvi_cut_text(char *text);

/* What something is called: not empty, and not longer than lines have room for. */
enum {
    NAME_LIMIT = 200
};
bool ikvi_read_name(reader *r, const place *at, const json_t *object,
                    const char *member, const char **to);
bool ikvi_read_bool(reader *r, const place *at, const json_t *object,
                    const char *member, bool *to);
bool ikvi_read_integer(reader *r, const place *at, const json_t *object,
                       const char *member, int64_t least, int64_t most,
                       int64_t *to);
/* How many `steps` a `per_seconds`, as a loop takes them; 0: absent. */
bool ikvi_read_rate(reader *r, const place *at, const json_t *object,
                    uint32_t *num, uint32_t *den);
bool ikvi_read_number(reader *r, const place *at, const json_t *object,
                      const char *member, double least, double most,
                      double *to);

/* Writes the names, each in quotes, with commas; false if they don't all fit. */
bool ikvi_list_names(const char *const *names, char *to, size_t size);

/* One of the names (the list ends with NULL), as its place in it. */
bool ikvi_read_choice(reader *r, const place *at, const json_t *object,
                      const char *member, const char *const *names,
                      uint32_t *to);

/* An array of so many finite numbers. */
bool ikvi_read_floats(reader *r, const place *at, const json_t *value,
                      size_t count, float *to);

/* Whether a field's number stands for a name that a setup knows. */
bool ikvi_names_something(const ikv_field *field);

/* Writes a value of JSON into a field of an event, or fails. Targets, and what
 * else is known by name alone, through the callbacks; zero for what is not
 * known. */
typedef struct target_finder {
    ikv_target (*find)(const void *user, const char *name);
    uint32_t (*find_number)(const void *user, const ikv_field *field,
                            const char *name);
    const void *user;
    /* A target may be a number as well, its handle's, and so may what else is
     * known by name: what the event gets for it. NULL: names only. */
    uint32_t (*take_number)(const void *user, uint32_t number);
    bool taped; /* it is to come in by a port: E5 */
} target_finder;
/* E5: of what comes in, a float of a built-in kind is a coordinate at most. False
 * if the value is not of the field's type either. */
bool ikvi_put_taped(const ikv_field *field, ikv_event *event, ikv_value value);
bool ikvi_read_field(reader *r, const place *at, const json_t *value,
                     const ikv_field *field, const target_finder *finder,
                     ikv_event *event);

/* Gives a field of one's own the type of that name, and the next place in the
 * payload, at a multiple of its size; false if there is no such type. */
bool ikvi_place_field(ikv_field *field, const char *type, uint16_t *offset);
/* The types that fields of one's own may have; NULL past the last. */
const char *ikvi_field_type_name(uint32_t index);
/* The name of any field's type; how many bytes it has, 0 for texts and what has
 * any type. */
const char *ikvi_type_of_field(const ikv_field *field);
uint32_t ikvi_size_of_field(const ikv_field *field);
/* Whether a float's shortest digits say what it holds, also where it is a scaled
 * one of 16 bits; else it takes a double's. */
bool ikvi_has_float_digits(const ikv_field *field);

/* The number that a field's value has of that name. */
bool ikvi_json_named(const ikv_field *field, const char *name, uint64_t *value);

/* The name of a field's value, NULL if it has none. */
const char *ikvi_json_value_name(const ikv_field *field, uint64_t value,
                                 char buffer[8]);

/* Whether it is a list of names. */
bool ikvi_json_is_mask(const ikv_field *field);

/* "stop+refuse" for instance (trace.c). */
const char *ikvi_verdict_name(ikv_verdict verdict);

#endif
