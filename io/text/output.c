/* output.c - files that are written whole or not at all. See write.h. */
#define _XOPEN_SOURCE 700
#include "write.h"

#include <errno.h>
#include <fcntl.h>
#include <libgen.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum {
    NAMES_TRIED = 100
};

bool ikvi_same_file(const char *a, const char *b)
{
    struct stat one, other;
    return a != NULL && b != NULL && stat(a, &one) == 0 &&
           stat(b, &other) == 0 && one.st_dev == other.st_dev &&
           one.st_ino == other.st_ino && S_ISREG(one.st_mode);
}

/* Devices, pipes, and what a process has open already. */
static bool is_written_straight(const char *path)
{
    struct stat about;
    return strncmp(path, "/dev/", 5) == 0 || strncmp(path, "/proc/", 6) == 0 ||
           (stat(path, &about) == 0 && !S_ISREG(about.st_mode));
}

/* Opens a file that is not there yet, with the rights that the old one has. */
static FILE *open_beside(output *to, const char *path, bool grows)
{
    struct stat old;
    size_t size = strlen(path) + 48;
    to->part = malloc(size);
    if (to->part == NULL)
        return NULL;
    int flags = O_WRONLY | O_CREAT | O_CLOEXEC, file = -1;
    for (int i = 0; i < (grows ? 1 : NAMES_TRIED) && file < 0; i++) {
        if (grows)
            snprintf(to->part, size, "%s.part", path);
        else
            snprintf(to->part, size, "%s.%ld-%d.new", path, (long)getpid(), i);
        file = open(to->part, flags | (grows ? O_TRUNC : O_EXCL), 0666);
        if (file < 0 && errno != EEXIST)
            break;
    }
    if (file < 0)
        return NULL;
    if (stat(path, &old) == 0 && fchmod(file, old.st_mode & 0777) != 0)
        errno = 0; /* then it has those of a new file */
    FILE *opened = fdopen(file, "w");
    if (opened == NULL) {
        close(file);
        remove(to->part);
    }
    return opened;
}

static bool cannot_write(reader *r, const char *what)
{
    return ikvi_reader_fail(r, NULL, "can't write %s: %s", what,
                            strerror(errno));
}

static void forget(output *to)
{
    free(to->path);
    free(to->part);
    *to = (output){0};
}

bool ikvi_output_open(output *to, reader *r, const char *path, bool grows,
                      const char *what)
{
    *to = (output){.grows = grows};
    if (is_written_straight(path)) {
        to->file = fopen(path, "w");
        return to->file != NULL || cannot_write(r, what);
    }
    /* A link stays one: what it leads to is written. */
    errno = 0;
    to->path = realpath(path, NULL);
    if (to->path == NULL && errno == ENOENT)
        to->path = strdup(path);
    if (to->path != NULL)
        to->file = open_beside(to, to->path, grows);
    if (to->file != NULL)
        return true;
    int why = errno;
    forget(to);
    errno = why;
    return cannot_write(r, what);
}

/* What is not in the file yet is, or it is known that it can't be. */
static bool is_written(FILE *file)
{
    errno = 0;
    return fflush(file) == 0 && !ferror(file);
}

bool ikvi_output_close(output *to, reader *r, bool good, const char *what)
{
    if (to->file == NULL)
        return good;
    bool written = is_written(to->file);
    if (written && to->part != NULL)
        written = fsync(fileno(to->file)) == 0 || errno == EINVAL;
    int why = errno;
    if (fclose(to->file) != 0 && written) {
        written = false;
        why = errno;
    }
    if (good && written && to->part != NULL &&
        rename(to->part, to->path) != 0) {
        written = false;
        why = errno;
    }
    if (good && !written && to->grows && to->part != NULL)
        ikvi_reader_fail(
            r, NULL, "can't write %s: %s; what could be written is in %s", what,
            why != 0 ? strerror(why) : "it failed before", to->part);
    else if (good && !written)
        ikvi_reader_fail(r, NULL, "can't write %s: %s", what,
                         why != 0 ? strerror(why) : "it failed before");
    if (!(good && written) && to->part != NULL && !to->grows)
        remove(to->part);
    forget(to);
    return good && written;
}

/* ---------------------------------------------------------------- paths -- */

/* The real path of a file's folder. */
static bool real_folder(const char *file, char real[PATH_MAX])
{
    char copy[PATH_MAX];
    snprintf(copy, sizeof copy, "%s", file);
    return realpath(dirname(copy), real) != NULL;
}

/* Goes up from the one's folder to what both share, and down to the other. */
char *ikvi_path_seen_from(const char *file, const char *path)
{
    char from[PATH_MAX], to[PATH_MAX];
    if (!real_folder(file, from) || realpath(path, to) == NULL)
        return strdup(path);
    size_t same = 0, ups = 0;
    for (size_t i = 0; from[i] == to[i] && from[i] != '\0'; i++)
        if (from[i + 1] == '\0' ? to[i + 1] == '/' : from[i] == '/')
            same = i + 1;
    if (strcmp(from, "/") == 0)
        same = 0;
    for (size_t i = same; from[i] != '\0'; i++)
        ups += i == same || from[i] == '/';
    const char *down = to + same + (to[same] == '/');
    char *seen = malloc(3 * ups + strlen(down) + 1);
    if (seen == NULL)
        return NULL;
    for (size_t i = 0; i < ups; i++)
        snprintf(seen + 3 * i, 4, "../");
    memcpy(seen + 3 * ups, down, strlen(down) + 1);
    return seen;
}

char *ikvi_path_beside(const char *file, const char *path)
{
    const char *slash = strrchr(file, '/');
    /* From the root it says where it lies whoever names it. */
    size_t folder =
        slash != NULL && path[0] != '/' ? (size_t)(slash - file) + 1 : 0;
    char *beside = malloc(folder + strlen(path) + 1);
    if (beside != NULL) {
        memcpy(beside, file, folder);
        memcpy(beside + folder, path, strlen(path) + 1);
    }
    return beside;
}
