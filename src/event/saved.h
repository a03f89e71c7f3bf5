/* saved.h - what an image holds of a module. */
#ifndef IKVI_SAVED_H
#define IKVI_SAVED_H

#include <stddef.h>

/* A part of a module's block. Each module gives its own, and a hash of its
 * config: ikvi_<module>_saved(). */
typedef struct ikvi_saved {
    void *at;
    size_t size;
} ikvi_saved;

#endif
