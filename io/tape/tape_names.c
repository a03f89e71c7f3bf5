/* tape_names.c - targets' names where no setup need know them: numbers that
 * stand for them while a tape is cut, joined or converted.
 */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <stdlib.h>
#include <string.h>

uint32_t ikvi_names_number(tape_names *names, const char *name)
{
    for (uint32_t i = 0; i < names->count; i++)
        if (strcmp(names->list[i], name) == 0)
            return IKVI_FIRST_NAME + i;
    if (names->count == names->room) {
        uint32_t room = names->room * 2 + 16;
        char **list = realloc(names->list, room * sizeof *list);
        if (list == NULL)
            return 0;
        names->list = list;
        names->room = room;
    }
    char *kept = strdup(name);
    if (kept == NULL)
        return 0;
    names->list[names->count] = kept;
    return IKVI_FIRST_NAME + names->count++;
}

const char *ikvi_names_name(const tape_names *names, uint32_t number)
{
    uint32_t at = number - IKVI_FIRST_NAME;
    return number >= IKVI_FIRST_NAME && at < names->count ? names->list[at]
                                                          : NULL;
}

void ikvi_names_free(tape_names *names)
{
    for (uint32_t i = 0; i < names->count; i++)
        free(names->list[i]);
    free(names->list);
    *names = (tape_names){0};
}

static ikv_target find_number(const void *user, const char *name)
{
    tape_names *names = (tape_names *)(uintptr_t)user;
    return (ikv_target){ikvi_names_number(names, name)};
}

static uint32_t find_named(const void *user, const ikv_field *field,
                           const char *name)
{
    (void)field;
    return find_number(user, name).bits;
}

const char *ikvi_name_of_number(const void *user, const ikv_field *field,
                                uint32_t bits)
{
    (void)field;
    return ikvi_names_name(user, bits);
}

target_finder ikvi_any_target(tape_names *names)
{
    /* A handle that has a name's number could not be told from it. */
    return (target_finder){find_number,         find_named, names,
                           IKVI_FIRST_NAME - 1, true,       true};
}
