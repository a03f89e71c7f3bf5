/* tape_names.c - targets' names where no setup need know them: numbers that
 * stand for them while an event is read, and written into another tape.
 */
#define _POSIX_C_SOURCE 200809L
#include "tape.h"

#include <stdlib.h>
#include <string.h>

enum {
    FIRST = 0x7f000000 /* few handles are so large: these get a place too */
};

/* 0: no memory. */
static uint32_t add(tape_names *names, const char *text, uint32_t number)
{
    if (names->count == names->room) {
        uint32_t room = names->room * 2 + 16;
        tape_name *list = realloc(names->list, room * sizeof *list);
        if (list == NULL)
            return 0;
        names->list = list;
        names->room = room;
    }
    char *kept = text != NULL ? strdup(text) : NULL;
    if (text != NULL && kept == NULL)
        return 0;
    names->list[names->count] = (tape_name){kept, number};
    return FIRST + names->count++;
}

void ikvi_names_clear(tape_names *names)
{
    while (names->count > 0)
        free(names->list[--names->count].text);
}

void ikvi_names_free(tape_names *names)
{
    ikvi_names_clear(names);
    free(names->list);
    *names = (tape_names){0};
}

static ikv_target find_target(const void *user, const char *name)
{
    return (ikv_target){add((tape_names *)(uintptr_t)user, name, 0)};
}

static uint32_t find_named(const void *user, const ikv_field *field,
                           const char *name)
{
    (void)field;
    return find_target(user, name).bits;
}

static uint32_t take_number(const void *user, uint32_t number)
{
    return number < FIRST ? number
                          : add((tape_names *)(uintptr_t)user, NULL, number);
}

const char *ikvi_name_of_number(const void *user, const ikv_field *field,
                                uint32_t *bits)
{
    const tape_names *names = user;
    (void)field;
    if (*bits < FIRST || *bits - FIRST >= names->count)
        return NULL;
    const tape_name *name = &names->list[*bits - FIRST];
    *bits = name->number;
    return name->text;
}

target_finder ikvi_any_target(tape_names *names)
{
    return (target_finder){find_target, find_named, names, take_number, true};
}
