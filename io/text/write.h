/* write.h - writing: files that are written whole or not at all, and JSON piece
 * by piece into a file or a text, without a document in between and without
 * memory of its own. */
#ifndef IKVI_IO_WRITE_H
#define IKVI_IO_WRITE_H

#include "json.h"

#include <stddef.h>
#include <yajl/yajl_common.h>
#include <yajl/yajl_gen.h>

/* ---------------------------------------------------------------- files -- */

/* A file on its way: what was called that before stays until it is whole. */
typedef struct output {
    FILE *file;
    char *path; /* in the end */
    char *part; /* until then; NULL: what is no regular file, as it comes */
    bool grows;
} output;

/* Opens it beside `path`: under a name of its own, or, if it grows, NAME.part,
 * which stays if it is never closed. What is not a regular file is written
 * straight. `what` is "the tape" for instance. False after a message. */
bool ikvi_output_open(output *to, reader *r, const char *path, bool grows,
                      const char *what);

/* Ends it: gives it its name if all went well, or else leaves what had that
 * name before; then of what grows NAME.part is left, anything else is removed.
 * Returns whether all went well; else after a message. */
bool ikvi_output_close(output *to, reader *r, bool good, const char *what);

/* Whether two paths are one regular file. */
bool ikvi_same_file(const char *a, const char *b);

/* A path as seen from the folder of another file; free() it. NULL: no memory.
 */
char *ikvi_path_seen_from(const char *file, const char *path);
/* What another file calls so, as seen from here; likewise. */
char *ikvi_path_beside(const char *file, const char *path);

/* ----------------------------------------------------------------- JSON -- */

/* Memory for one of yajl's parts, which takes it for granted that there is
 * some: what it needs is known and small. */
enum {
    ARENA_BYTES = 16384
};
typedef struct json_arena {
    yajl_alloc_funcs funcs;
    size_t used;
    IKV_ALIGNED(16) unsigned char bytes[ARENA_BYTES];
} json_arena;

void ikvi_arena_begin(json_arena *arena);

/* Where pieces of JSON go. */
typedef struct json_writer {
    FILE *file; /* or NULL: into the text */
    char *text;
    size_t length, room;
    bool failed; /* no memory for the text, or a text is not UTF-8 */
    yajl_gen gen;
    json_arena arena;
} json_writer;

/* Into a file, or into a text that the writer owns if it is NULL. `indented`
 * for files that are written by hand too. */
void ikvi_write_begin(json_writer *w, FILE *file, bool indented);
void ikvi_write_end(json_writer *w);

void ikvi_write_object(json_writer *w);
void ikvi_write_list(json_writer *w);
void ikvi_write_close_object(json_writer *w);
void ikvi_write_close_list(json_writer *w);
void ikvi_write_name(json_writer *w, const char *name);
void ikvi_write_text(json_writer *w, const char *text);
void ikvi_write_bytes(json_writer *w, const char *text, size_t length);
void ikvi_write_integer(json_writer *w, int64_t value);
/* In its shortest form; null for what is no number. */
void ikvi_write_number(json_writer *w, double value, bool is_float);
/* The texts of both, of at most 32 bytes without a zero behind; their lengths,
 * 0 for what is no number. */
size_t ikvi_integer_text(int64_t value, char *text);
size_t ikvi_number_text(double value, bool is_float, char *text);
/* ns as milliseconds. */
void ikvi_write_ms(json_writer *w, uint64_t ns);
void ikvi_write_bool(json_writer *w, bool value);
void ikvi_write_null(json_writer *w);
void ikvi_write_json(json_writer *w, const json_t *value);

/* The next line begins. False if anything has failed. */
bool ikvi_write_newline(json_writer *w);
/* Whether all could be written as JSON; else after a message. */
bool ikvi_write_is_whole(const json_writer *w, reader *r);
/* Without anything around it. */
void ikvi_write_raw(json_writer *w, const char *text, size_t length);
/* What has been begun is left as it is; the next thing begins anew. */
void ikvi_write_forget(json_writer *w);

/* A target's name, for a field of that number; NULL if it has none, and the
 * number may be another that is to be written. */
typedef const char *(*target_namer)(const void *user, const ikv_field *field,
                                    uint32_t *bits);

/* The field's value; targets' names by the callback: NULL for one that has none,
 * which is written as its handle's number. */
void ikvi_write_field(json_writer *w, const ikv_field *field,
                      const ikv_event *event, target_namer name,
                      const void *user);

/* ----------------------------------------------------------------- data -- */

/* Bytes of any sort, as members of objects: "data", if they are text, or
 * "base64". */

enum {
    IKVI_DATA_LIMIT = 16384 /* as a block of a queue */
};

/* Bytes as they were read; free() them at the end. */
typedef struct data_buffer {
    char *bytes;
    size_t size, room;
} data_buffer;

bool ikvi_is_shown_text(const void *data, size_t size);
/* Nothing, if there are none. */
void ikvi_write_data(json_writer *w, const void *data, size_t size);
/* `size` is 0 then. False after a message. */
bool ikvi_read_data(reader *r, const json_t *object, data_buffer *buffer);

#endif
