/* texts.h - the built-in kinds, fields, families, named values, statuses and
 * obstacles:
 * tables of what stands in kinds.h and base.h, with the texts that people read
 * (texts.c), or without (without/texts.c).
 */
#ifndef IKVI_TEXTS_H
#define IKVI_TEXTS_H

#include "platform.h"

#include "ikvar/catalogue.h"
#include "ikvar/obstacle.h"

typedef struct ikvi_family_row {
    const char *name, *meaning, *order;
} ikvi_family_row;

typedef struct ikvi_value_row {
    uint32_t set;
    uint32_t value;
    const char *name;
} ikvi_value_row;

typedef struct ikvi_status_row {
    ikv_status status;
    const char *name, *text;
} ikvi_status_row;

typedef struct ikvi_obstacle_row {
    uint16_t code;
    const char *name, *text;
} ikvi_obstacle_row;

/* How many there are of each. */
enum {
#define IKV_X(...) +1
    IKVI_BUILT_IN_KINDS = 0 IKV_KINDS(IKV_X),
    IKVI_HEADER_FIELDS = 0 IKV_HEADER_FIELDS(IKV_X),
    IKVI_VALUE_ROWS = 0 IKV_VALUE_NAMES(IKV_X),
    IKVI_STATUS_ROWS = 0 IKV_STATUSES(IKV_X),
    IKVI_OBSTACLE_ROWS = 0 IKV_OBSTACLES(IKV_X)
#undef IKV_X
};

extern const ikv_kind_info ikvi_built_in_kinds[IKVI_BUILT_IN_KINDS];
extern const ikv_field ikvi_header_fields[IKVI_HEADER_FIELDS];
extern const ikvi_family_row ikvi_family_rows[IKV_FAMILY_COUNT];
extern const ikvi_value_row ikvi_value_rows[IKVI_VALUE_ROWS];
extern const ikvi_status_row ikvi_status_rows[IKVI_STATUS_ROWS];
extern const ikvi_obstacle_row ikvi_obstacle_rows[IKVI_OBSTACLE_ROWS];

#endif
