/* tool.h - what the command's files share. */
#ifndef IKV_TOOL_H
#define IKV_TOOL_H

#include <ikvar/host.h>

#include <stdio.h>

/* Exit codes. */
enum {
    FINE = 0,
    ANSWER_IS_NO = 1,
    WRONG_USE = 2,
    BAD_INPUT = 3
};

/* `argv[0]` is the command's name. */
int demo_command(int argc, char **argv);
int run_command(int argc, char **argv);
int kinds_command(int argc, char **argv);
int check_command(int argc, char **argv);
int tape_command(int argc, char **argv);
int bench_command(int argc, char **argv);
int why_command(int argc, char **argv);
int draw_command(int argc, char **argv);
int plot_command(int argc, char **argv);
int view_command(int argc, char **argv);
int watch_command(int argc, char **argv);

/* -------------------------------------------------------------- options -- */

enum option_type {
    OPTION_FLAG,  /* bool */
    OPTION_TEXT,  /* const char *, lives as long as the process */
    OPTION_WHOLE, /* int */
    OPTION_NUMBER /* double */
};

/* One option; a list ends with a row without a name. */
typedef struct option_row {
    const char *name;
    char letter; /* or '\0' */
    enum option_type type;
    void *to;
    const char *value; /* what it is called in help; NULL for a flag */
    const char *does;
    double least, most; /* of a number */
} option_row;

/* What is left behind the options. */
typedef struct arguments {
    char **list;
    int count;
} arguments;

/* False after a message if an option is wrong, or after --help (*code says
 * which). */
bool parse_options(int argc, char **argv, const option_row *rows,
                   const char *usage, arguments *left, int *code);
/* NULL if there is none left. */
const char *next_argument(arguments *left);

/* --------------------------------------------------------------- output -- */

/* Whether output to a file is for eyes and may be coloured: a terminal, that is
 * not dumb, and NO_COLOR is not set. */
bool is_coloured(FILE *file);

/* For what jansson allocates; first of all. What it dumps is freed by the
 * second. */
void keep_reserve(void);
void free_json_text(char *text);

/* JSON of what a command prints; what can't be added for lack of memory is
 * found when it is printed. `value` is given away. */
struct json_t;
void put_json(struct json_t *to, const char *name, struct json_t *value);
/* A path: what is not UTF-8 in it as it is shown. */
void put_text(struct json_t *to, const char *name, const char *text);
void add_json(struct json_t *list, struct json_t *value);
/* Prints and drops it, on one line or indented; FINE, or BAD_INPUT after a
 * message of the command. */
int print_json(FILE *file, struct json_t *value, bool indented,
               const char *command);

/* What a file is, by its name's end or its first line. */
bool ends_with(const char *name, const char *end);
bool begins_with(const char *path, const char *format);
bool is_trace(const char *path);

/* A file that is written whole or not at all: beside, and it takes its name at
 * its end; what is no regular file is written straight, and standard output if
 * the path is NULL. */
typedef struct whole_file {
    const char *path;
    FILE *file;
    char part[4096];
    bool straight;
    int error; /* of opening it */
} whole_file;

/* NULL if it can't be: then close_whole() says why. */
FILE *open_whole(whole_file *to, const char *path);
/* Unless `good`, there is none, or the one of before. NULL, or what was wrong. */
const char *close_whole(whole_file *to, bool good);

/* Whether two paths, either of which may be NULL, are one regular file. */
bool is_same_file(const char *a, const char *b);
/* Whether a picture can be written there: named as one, and neither of the files
 * that are read, which may be NULL as `output` may; else a message is printed. */
int check_picture(const char *command, const char *output, const char *first,
                  const char *second);

/* ---------------------------------------------------------------- tapes -- */

/* ikvar tape verify (verify.c); the options are read. */
int verify_tapes(arguments *left, const char *setup, bool json);

/* What readers say of a tape, with its path (tape.c); gives BAD_INPUT. */
/* ikvar tape timeline (timeline.c); likewise. */
int write_timeline(arguments *left, const char *setup, const char *output);

/* Says what a reader says of a tape, with its path (tape.c); BAD_INPUT. */
int bad_tape(const char *text);

/* The setup that a tape names, which lies where its folder says: in `path`, or
 * NULL with a message. */
const char *setup_of_tape(const char *tape, char *path, size_t size,
                          ikv_message *message);

/* Where the ending of a tape's name begins, ".tape.jsonl", ".tape.cbor" or one
 * of them with ".part"; NULL if it is not named like one. */
const char *tape_ending(const char *name);

/* Says on stderr what a tape has to be warned of, after it was read. */
void warn_of_tape(const char *command, const ikv_tape *tape);

/* --------------------------------------------------------------- traces -- */

/* Takes a line after the first; NULL, or what is wrong with it. */
typedef const char *(*trace_taker)(void *user, struct json_t *line);

/* Gives it the lines of a trace; messages name the command and the path. A torn
 * last line is left out with a warning. The exit code. */
int read_trace(const char *command, const char *path, FILE *file,
               trace_taker take, void *user);

/* ----------------------------------------------------------------- runs -- */

enum run_moment {
    RUN_FRAME,
    RUN_FRAME_END
};

/* What a run is made of. Zero is the default. */
typedef struct run_plan {
    const char *command; /* that messages name; NULL: run */
    const char *setup, *tape, *port, *record;
    bool json, steps_only, heard_only, scene, decisions, digest, stats, reload;
    double until_ms, speed;
    int frame_hz;
    /* soak */
    double soak_seconds;
    int seed;
    /* Who listens instead of the log, or NULL: told of the kit before it runs,
     * and before it is closed; they return exit codes. `user` is theirs. */
    int (*begin)(void *user, ikv_kit *kit, ikv_setup *setup);
    int (*end)(void *user);
    /* Or NULL: told when a frame is about to begin, the last one too, in which the
     * loop ends, and when it is about to end. */
    void (*moment)(void *user, enum run_moment moment);
    void *user;
} run_plan;

/* Made-up input with all validators on, until the time is up (soak.c). */
int soak(const run_plan *plan);

/* Opens a kit on a port with room for a setup, and adds the setup to it; the
 * rest of the config is the caller's. False after a message; the kit may be
 * open even so. */
bool open_kit(ikv_kit_config *config, ikv_setup *setup, const ikv_port *port,
              ikv_kit **kit, ikv_message *message);

/* Prints reports of the library to stderr. */
void print_report(const ikv_report *report, void *user);

/* Runs it and prints what happened; the exit code. */
int run_plan_through(const run_plan *plan);

/* The readable log (log.c). */
typedef struct run_log run_log;
run_log *log_open(FILE *file, ikv_kit *kit, ikv_setup *setup, bool colour);
void log_close(run_log *log);

#endif
