/* output.c - what the commands print. */
#define _POSIX_C_SOURCE 200809L
#include "tool.h"

#include <errno.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

bool is_coloured(FILE *file)
{
    const char *no_colour = getenv("NO_COLOR"), *term = getenv("TERM");
    return isatty(fileno(file)) &&
           (no_colour == NULL || no_colour[0] == '\0') &&
           (term == NULL || strcmp(term, "dumb") != 0);
}

/* -------------------------------------------------------------- memory -- */

/* jansson's reader takes it for granted that its buffer for a text can grow,
 * and reads past it when that failed. So that it never fails there, what
 * malloc() refuses comes from a reserve. */
enum {
    RESERVE = 1 << 18
};
static struct {
    IKV_ALIGNED(16) unsigned char bytes[RESERVE];
    size_t used;
} reserve;

static void *take_for_json(size_t size)
{
    void *block = malloc(size);
    size_t rounded = (size + 15) / 16 * 16;
    if (block != NULL || rounded > RESERVE - reserve.used)
        return block;
    block = reserve.bytes + reserve.used;
    reserve.used += rounded;
    return block;
}

static void give_from_json(void *block)
{
    uintptr_t at = (uintptr_t)block, begin = (uintptr_t)reserve.bytes;
    if (at < begin || at >= begin + RESERVE)
        free(block);
}

void free_json_text(char *text)
{
    give_from_json(text);
}

void keep_reserve(void)
{
    json_set_alloc_funcs(take_for_json, give_from_json);
}

/* --------------------------------------------------------------- output -- */

static bool json_lost;

void put_json(json_t *to, const char *name, json_t *value)
{
    json_lost = json_object_set_new(to, name, value) != 0 || json_lost;
}

void put_text(json_t *to, const char *name, const char *text)
{
    char shown[4096];
    json_t *value = json_string(text);
    /* a path may be any bytes */
    put_json(to, name,
             value != NULL
                 ? value
                 : json_string(ikv_shown_text(text, shown, sizeof shown)));
}

void add_json(json_t *list, json_t *value)
{
    json_lost = json_array_append_new(list, value) != 0 || json_lost;
}

int print_json(FILE *file, json_t *value, bool indented, const char *command)
{
    bool lost = json_lost || value == NULL;
    json_lost = false;
    if (!lost)
        lost = json_dumpf(value, file,
                          JSON_REAL_PRECISION(15) |
                              (indented ? JSON_INDENT(1) : 0)) != 0 &&
               !ferror(file);
    if (!lost)
        fputc('\n', file);
    json_decref(value);
    if (lost)
        fprintf(stderr, "ikvar %s: no memory\n", command);
    return lost ? BAD_INPUT : FINE;
}

bool ends_with(const char *name, const char *end)
{
    size_t length = strlen(name), tail = strlen(end);
    return length >= tail && strcmp(name + length - tail, end) == 0;
}

bool begins_with(const char *path, const char *format)
{
    char line[256] = "";
    FILE *file = fopen(path, "r");
    if (file == NULL)
        return false;
    bool read = fgets(line, sizeof line, file) != NULL;
    fclose(file);
    return read && strstr(line, format) != NULL;
}

bool is_trace(const char *path)
{
    return ends_with(path, ".trace.jsonl") || begins_with(path, "ikvar.trace/");
}

bool is_same_file(const char *a, const char *b)
{
    struct stat one, other;
    return a != NULL && b != NULL && stat(a, &one) == 0 &&
           stat(b, &other) == 0 && one.st_dev == other.st_dev &&
           one.st_ino == other.st_ino && S_ISREG(one.st_mode);
}

int check_picture(const char *command, const char *output, const char *first,
                  const char *second)
{
    char shown[512];
    if (output == NULL)
        return FINE;
    ikv_shown_text(output, shown, sizeof shown);
    if (!ends_with(output, ".png") && !ends_with(output, ".svg")) {
        fprintf(stderr,
                "ikvar %s: --output: found \"%s\", expected a name that ends "
                "in .png or .svg\n",
                command, shown);
        return WRONG_USE;
    }
    if (!is_same_file(output, first) && !is_same_file(output, second))
        return FINE;
    fprintf(stderr,
            "ikvar %s: %s: it is read in this run: the picture would destroy "
            "it\n",
            command, shown);
    return BAD_INPUT;
}

FILE *open_whole(whole_file *to, const char *path)
{
    struct stat there;
    *to = (whole_file){.path = path, .file = stdout, .straight = true};
    if (path == NULL)
        return stdout;
    to->straight = stat(path, &there) == 0 && !S_ISREG(there.st_mode);
    snprintf(to->part, sizeof to->part, "%s%s", path,
             to->straight ? "" : ".part");
    to->file = fopen(to->part, "wb");
    to->error = errno;
    return to->file;
}

const char *close_whole(whole_file *to, bool good)
{
    if (to->file == NULL)
        return strerror(to->error);
    if (to->path == NULL)
        good = fflush(stdout) == 0 && !ferror(stdout) && good;
    else
        good = fclose(to->file) == 0 && good;
    if (good && (to->straight || rename(to->part, to->path) == 0))
        return NULL;
    if (!to->straight)
        remove(to->part);
    return "can't be written";
}

void warn_of_tape(const char *command, const ikv_tape *tape)
{
    if (ikv_tape_warning(tape) != NULL)
        fprintf(stderr, "ikvar %s: warning: %s\n", command,
                ikv_tape_warning(tape));
}

const char *setup_of_tape(const char *tape_path, char *path, size_t size,
                          ikv_message *message)
{
    char shown[256];
    ikv_tape *tape;
    /* once without it, to see which one it names */
    if (ikv_tape_open(tape_path, NULL, &tape, message) < 0)
        return NULL;
    const char *named = ikv_tape_about(tape).setup;
    const char *slash = strrchr(tape_path, '/');
    int folder = slash != NULL && named != NULL && named[0] != '/'
                     ? (int)(slash - tape_path) + 1
                     : 0;
    bool found = named != NULL && named[0] != '\0';
    snprintf(path, size, "%.*s%s", folder, tape_path, found ? named : "");
    ikv_tape_close(tape);
    if (!found)
        snprintf(message->text, sizeof message->text,
                 "%s: the tape names no setup: give --setup",
                 ikv_shown_text(tape_path, shown, sizeof shown));
    return found ? path : NULL;
}

const char *tape_ending(const char *name)
{
    static const char *const endings[] = {".tape.jsonl", ".tape.cbor"};
    size_t length = strlen(name);
    const char *part = length > 5 ? name + length - 5 : name;
    if (strcmp(part, ".part") == 0)
        length -= 5;
    for (size_t i = 0; i < sizeof endings / sizeof endings[0]; i++) {
        size_t tail = strlen(endings[i]);
        if (length >= tail &&
            strncmp(name + length - tail, endings[i], tail) == 0)
            return name + length - tail;
    }
    return NULL;
}
