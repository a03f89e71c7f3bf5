/* texts_tables.h - the tables of texts.h themselves, for the one file that has
 * said what a text becomes: IKVI_TEXT. Fields keep their names in any case:
 * conditions find them by these.
 */
#include "texts.h"

#define IKV_Y(member, name, type, set, unit, scale, meaning)                   \
    {name,                                                                     \
     IKV_TYPE_##type,                                                          \
     offsetof(ikv_event, member),                                              \
     IKVI_TEXT(unit),                                                          \
     IKVI_TEXT(meaning),                                                       \
     (scale),                                                                  \
     IKV_SET_##set},
#define IKV_X(name, member, positioned)                                        \
    static const ikv_field fields_##name[] = {IKV_FIELDS_##name(IKV_Y)};
IKV_LAYOUTS(IKV_X)
#undef IKV_X
const ikv_field ikvi_header_fields[IKVI_HEADER_FIELDS] = {
    IKV_HEADER_FIELDS(IKV_Y)};
#undef IKV_Y

enum {
#define IKV_X(name, member, positioned) POSITIONED_##name = (positioned),
    IKV_LAYOUTS(IKV_X)
#undef IKV_X
};

const ikv_kind_info ikvi_built_in_kinds[IKVI_BUILT_IN_KINDS] = {
#define IKV_X(number, name, text, family, layout, from, bubbles, queue, when,  \
              words)                                                           \
    {IKVI_TEXT(text),                                                          \
     IKVI_TEXT(when),                                                          \
     IKVI_TEXT(words),                                                         \
     fields_##layout,                                                          \
     sizeof fields_##layout / sizeof(ikv_field),                               \
     (number),                                                                 \
     IKV_FAMILY_##family,                                                      \
     (from),                                                                   \
     IKV_QUEUE_##queue,                                                        \
     (bubbles),                                                                \
     POSITIONED_##layout != 0,                                                 \
     false},
    IKV_KINDS(IKV_X)
#undef IKV_X
};
_Static_assert((int)IKVI_BUILT_IN_KINDS < (int)IKV_KIND_USER, "catalogue-2");

const ikvi_family_row ikvi_family_rows[IKV_FAMILY_COUNT] = {
#define IKV_X(name, text, meaning, order)                                      \
    {IKVI_TEXT(text), IKVI_TEXT(meaning), IKVI_TEXT(order)},
    IKV_FAMILIES(IKV_X)
#undef IKV_X
};

const ikvi_value_row ikvi_value_rows[IKVI_VALUE_ROWS] = {
#define IKV_X(set, value, name) {IKV_SET_##set, (value), IKVI_TEXT(name)},
    IKV_VALUE_NAMES(IKV_X)
#undef IKV_X
};

const ikvi_status_row ikvi_status_rows[IKVI_STATUS_ROWS] = {
#define IKV_X(value, name, text) {(value), IKVI_TEXT(#name), IKVI_TEXT(text)},
    IKV_STATUSES(IKV_X)
#undef IKV_X
};

const ikvi_obstacle_row ikvi_obstacle_rows[IKVI_OBSTACLE_ROWS] = {
#define IKV_X(value, name, code, text)                                         \
    {(value), IKVI_TEXT(code), IKVI_TEXT(text)},
    IKV_OBSTACLES(IKV_X)
#undef IKV_X
};
