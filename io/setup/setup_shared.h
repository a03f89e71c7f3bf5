/* setup_shared.h - what traces and answers need of a setup beyond its header. */
#ifndef IKVI_IO_SETUP_SHARED_H
#define IKVI_IO_SETUP_SHARED_H

#include "ikvar/io.h"

/* The id of a target that is there or was there; "gone" if it never was. */
const char *ikvi_setup_name_of(const ikv_setup *setup, ikv_target target);

/* What a tag's bit and a layer are called; NULL if the setup has no such one, or
 * is NULL. */
const char *ikvi_setup_tag(const ikv_setup *setup, uint32_t bit);
const char *ikvi_setup_layer(const ikv_setup *setup, uint32_t layer);

/* Who knows what things of a kit are called: the setup, or else the caller. */
typedef struct kit_names {
    ikv_bus *bus;
    const ikv_actions *actions;                                /* or NULL */
    const ikv_setup *setup;                                    /* or NULL */
    const char *(*target_name)(void *user, ikv_target target); /* or NULL */
    void *user;
} kit_names;

/* "root", a name, "gone", or the caller's number where nobody knows names. Lives
 * until the next call. */
const char *ikvi_kit_target(const kit_names *names, ikv_target target);

/* Whether a subscription listens to a kind, wherever it is; false if it ended. */
bool ikvi_kit_hears(const ikv_bus *bus, ikv_subscription subscription,
                    ikv_kind kind);

/* What a field names by a number: a target_namer of io/text/write.h. */
const char *ikvi_kit_name(const void *kit_names, const ikv_field *field,
                          uint32_t *number);

/* The number of an action, or of a field that targets declare, by its name; 0 if
 * there is none. */
uint32_t ikvi_setup_find_number(const void *setup, const ikv_field *field,
                                const char *name);

#endif
