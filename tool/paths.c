/* paths.c - paths that one file names another by. */
#define _XOPEN_SOURCE 700
#include "tool.h"

#include <libgen.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>

/* The real path of a file's folder. */
static bool real_folder(const char *file, char real[PATH_MAX])
{
    char copy[PATH_MAX];
    snprintf(copy, sizeof copy, "%s", file);
    return realpath(dirname(copy), real) != NULL;
}

/* Goes up from the one's folder to what both share, and down to the other. */
const char *path_seen_from(const char *file, const char *path)
{
    static char seen[PATH_MAX];
    char from[PATH_MAX], to[PATH_MAX];
    if (!real_folder(file, from) || realpath(path, to) == NULL)
        return path;
    size_t same = 0, used = 0;
    for (size_t i = 0; from[i] == to[i] && from[i] != '\0'; i++)
        if (from[i + 1] == '\0' ? to[i + 1] == '/' : from[i] == '/')
            same = i + 1;
    if (strcmp(from, "/") == 0)
        same = 0;
    seen[0] = '\0';
    for (size_t i = same; from[i] != '\0' && used + 4 < sizeof seen; i++)
        if (i == same || from[i] == '/')
            used += (size_t)snprintf(seen + used, sizeof seen - used, "../");
    snprintf(seen + used, sizeof seen - used, "%s",
             to + same + (to[same] == '/'));
    return seen;
}
