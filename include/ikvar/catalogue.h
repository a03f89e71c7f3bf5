/* ikvar/catalogue.h - the one table of all kinds: what exists, what it carries.
 *
 * Overview
 *   The built-in kinds are constant and always there: every function here
 *   takes a catalogue, and NULL means "the built-in kinds alone". Open one to
 *   register kinds of your own, with fields, which then work everywhere:
 *   subscriptions, files, traces, printing.
 *
 *       const ikv_field fields[] = {
 *           {"berth", IKV_TYPE_U32, 0, "", "which berth", 1, 0},
 *       };
 *       ikv_kind_config docked = IKV_KIND_CONFIG_INIT;
 *       docked.name = "ferry.docked";
 *       docked.fields = fields;
 *       docked.field_count = 1;
 *       ikv_kind kind;
 *       ikv_catalogue_register(catalogue, &docked, &kind, NULL);
 *
 * Memory
 *   One block; names and fields are copied into it.
 *
 * Threads
 *   Register on the thread that owns the loop. Reading is safe from any thread
 *   while nothing is being registered.
 */
#ifndef IKVAR_CATALOGUE_H
#define IKVAR_CATALOGUE_H

#include "event.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_catalogue ikv_catalogue;

/* ------------------------------------------------------- what a kind is -- */

enum {
#define IKV_X(name, text, meaning, order) IKV_FAMILY_##name,
    IKV_FAMILIES(IKV_X)
#undef IKV_X
    IKV_FAMILY_COUNT
};

/* How the queue treats a kind: TRANSITION must not be lost, MERGEABLE may be
 * merged with its like, OTHER is neither, NONE never comes through it. */
enum {
    IKV_QUEUE_NONE = 0,
    IKV_QUEUE_TRANSITION = 1,
    IKV_QUEUE_MERGEABLE = 2,
    IKV_QUEUE_OTHER = 3
};

/* Types of fields. TEXT is a length byte, then so many bytes; VALUE is an
 * ikv_bits whose type is the event's `type` field. */
enum {
    IKV_TYPE_U8 = 0,
    IKV_TYPE_I8,
    IKV_TYPE_U16,
    IKV_TYPE_I16,
    IKV_TYPE_U32,
    IKV_TYPE_I32,
    IKV_TYPE_U64,
    IKV_TYPE_I64,
    IKV_TYPE_F32,
    IKV_TYPE_F64,
    IKV_TYPE_BOOL,
    IKV_TYPE_TARGET,
    IKV_TYPE_TEXT,
    IKV_TYPE_VALUE,
    IKV_TYPE_COUNT
};

/* Sets of named values that a field may draw from; 0 is none. */
enum {
    IKV_SET_NONE = 0,
    IKV_SET_POINTER_TYPE,
    IKV_SET_WHEEL_MODE,
    IKV_SET_KEY_LOCATION,
    IKV_SET_FOCUS_REASON,
    IKV_SET_OVERLAP_REASON,
    IKV_SET_OVERLAP_SCOPE,
    IKV_SET_VALUE_TYPE,
    IKV_SET_MODIFIERS,
    IKV_SET_FLAGS,
    IKV_SET_DEVICE_TYPES,
    IKV_SET_ACTION_STATE,
    IKV_SET_CODE,
    IKV_SET_KEY,
    IKV_SET_ACTION,  /* names that whoever opened the actions knows */
    IKV_SET_BINDING, /* likewise: the binding's text */
    IKV_SET_FIELD    /* fields that targets declare, in a setup */
};

/* One field.
 *   name     as in files and conditions
 *   type     IKV_TYPE_...
 *   offset   when registering: bytes from ikv_event.user, a multiple of the
 *            type's size; in an ikv_kind_info: bytes from the event's start
 *   unit     for people; "mask" if several named values may hold at once
 *   meaning  for people
 *   scale    of whole numbers of at most 32 bits: what people see is the stored
 *            one divided by this; 0 as 1
 *   set      of whole numbers from 0, of at most 32 bits: IKV_SET_..., named
 *            values
 */
typedef struct ikv_field {
    const char *name;
    uint16_t type;
    uint16_t offset;
    const char *unit;
    const char *meaning;
    uint32_t scale;
    uint32_t set;
} ikv_field;

/* What the catalogue says of a kind. Belongs to the catalogue. */
typedef struct ikv_kind_info {
    const char *name;
    const char *when;
    const char *words;
    const ikv_field *fields;
    uint32_t field_count;
    ikv_kind kind;
    uint8_t family;
    uint8_t from;
    uint8_t queue_class;
    bool bubbles;
    bool positioned;
    bool outlives_target;
} ikv_kind_info;

/* -------------------------------------------------------------- opening -- */

/* Capacities; zero is the default in brackets.
 *   user_kinds   kinds that may be registered (64)
 *   user_fields  fields of all of them together (4 a kind)
 *   text_bytes   for their names and meanings (64 a kind and field)
 */
typedef struct ikv_catalogue_config {
    uint32_t size;
    uint32_t user_kinds;
    uint32_t user_fields;
    uint32_t text_bytes;
    ikv_reporter reporter;
    ikv_memory memory;
} ikv_catalogue_config;

#define IKV_CATALOGUE_INIT IKV_SIZED(ikv_catalogue_config)

/* Bytes that ikv_catalogue_open() needs; 0 if the config can't be used.
 * Context: any thread; O(1). */
IKV_API size_t ikv_catalogue_footprint(const ikv_catalogue_config *config);

/* Opens a catalogue for kinds of your own.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG or NO_MEMORY.
 * Context: the thread that will own it; takes one block and clears it. */
IKV_API ikv_status ikv_catalogue_open(const ikv_catalogue_config *config,
                                      ikv_catalogue **catalogue);

/* Gives the block back. NULL is fine.
 * Context: the thread that opened it, when nothing uses it. */
IKV_API void ikv_catalogue_close(ikv_catalogue *catalogue);

/* ---------------------------------------------------- kinds of your own -- */

/* A kind to register. Everything is copied.
 *   name         "family.what": letters, digits, '_' and '.', below 64 bytes
 *   when, words  for people: when it is sent; other words for it
 *   fields       in ikv_event.user; at most 16; names that are not taken by
 *                the members of traces
 *   bubbles      whether deliveries visit the target's ancestors; no
 *   pushable     whether ports may push it; no
 *   queue_class  0 is IKV_QUEUE_OTHER for a pushable kind
 *   outlives_target  delivered to global subscribers even if the target of a
 *                deferred event has gone; no
 */
typedef struct ikv_kind_config {
    uint32_t size;
    uint32_t field_count;
    const char *name;
    const char *when;
    const char *words;
    const ikv_field *fields;
    uint8_t queue_class;
    bool bubbles;
    bool pushable;
    bool outlives_target;
} ikv_kind_config;

#define IKV_KIND_CONFIG_INIT IKV_SIZED(ikv_kind_config)

/* Registers a kind and gives its number, from IKV_KIND_USER on.
 *   message  NULL, or gets what is wrong and what is needed
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, DUPLICATE (the name, or a field's),
 * BAD_VALUE (a field's type, offset, scale or set), FULL_KINDS, FULL_FIELDS,
 * FULL_NAMES.
 * Context: owner thread, inside handlers too; O(kinds). */
IKV_API ikv_status ikv_catalogue_register(ikv_catalogue *catalogue,
                                          const ikv_kind_config *config,
                                          ikv_kind *kind, ikv_message *message);

/* -------------------------------------------------------------- reading -- */

/* What is known of a kind; NULL if there is no such kind.
 * Context: any thread while no kind is being registered; O(1). */
IKV_API const ikv_kind_info *ikv_catalogue_info(const ikv_catalogue *catalogue,
                                                ikv_kind kind);

/* The kind of that name; IKV_KIND_NONE if there is none.
 * Context: any thread while no kind is being registered; O(kinds). */
IKV_API ikv_kind ikv_catalogue_find(const ikv_catalogue *catalogue,
                                    const char *name);

/* The kinds in order: the first is after IKV_KIND_NONE; IKV_KIND_NONE after the
 * last.
 * Context: any thread while no kind is being registered; O(kinds). */
IKV_API ikv_kind ikv_catalogue_next(const ikv_catalogue *catalogue,
                                    ikv_kind kind);

/* The family's name and meaning; NULL if there is no such family.
 * Context: any thread; O(1). */
IKV_API const char *ikv_family_name(uint32_t family);
IKV_API const char *ikv_family_meaning(uint32_t family);

/* In what order its kinds come, relative to their neighbours; NULL likewise.
 * Context: any thread; O(1). */
IKV_API const char *ikv_family_order(uint32_t family);

/* The family of that name, IKV_FAMILY_COUNT if there is none.
 * Context: any thread; O(families). */
IKV_API uint32_t ikv_family_find(const char *name);

/* The kind's field of that name, or the header's; NULL if there is none.
 * Context: any thread; O(its fields). */
IKV_API const ikv_field *ikv_field_find(const ikv_kind_info *info,
                                        const char *name);

/* The header's fields, in order; NULL past the last.
 * Context: any thread; O(1). */
IKV_API const ikv_field *ikv_field_header(uint32_t index);

/* The name of a named value, NULL if it has none. Codes and keys are in
 * keys.h. `value` holds one bit if the field is a mask.
 * Context: any thread; O(named values). */
IKV_API const char *ikv_value_name(uint32_t set, uint64_t value);

/* The named value, by its name; false if the set has no such name.
 * Context: any thread; O(named values). */
IKV_API bool ikv_value_find(uint32_t set, const char *name, uint64_t *value);

/* The names of a set in order: the index-th; NULL past the last.
 * Context: any thread; O(named values). */
IKV_API const char *ikv_value_list(uint32_t set, uint32_t index,
                                   uint64_t *value);

/* A field's value, apart from any event. `type` is IKV_VALUE_... */
typedef struct ikv_value {
    uint32_t type;
    ikv_bits bits;
} ikv_value;

/* Reads a field of an event: an integer, number (where the field is a float
 * or has a scale), bool or target. Text fields give IKV_VALUE_NONE: see
 * ikv_field_text().
 * Context: any thread; O(1). */
IKV_API ikv_value ikv_field_get(const ikv_field *field, const ikv_event *event);

/* Writes a field of an event. Integers serve for numbers, and whole numbers
 * for integers. Returns IKV_OK, IKV_BAD_VALUE (type or range), or BAD_ARGUMENT
 * for NULL or a field that no event has.
 * Context: any thread; O(1). */
IKV_API ikv_status ikv_field_put(const ikv_field *field, ikv_event *event,
                                 ikv_value value);

/* The bytes of a text field, not ended by a zero; NULL for other types.
 * Context: any thread; O(1). */
IKV_API const char *ikv_field_text(const ikv_field *field,
                                   const ikv_event *event, uint32_t *length);

/* ------------------------------------------------------------- printing -- */

/* Prints an event on one line, "pointer.down t=16.25 x=120.5 y=80 ..." for
 * instance: kind, time in ms, and the fields that are not zero.
 * Returns the length without the end mark; if that is not below size, the
 * text in buffer is cut (but always ended, if size is not 0).
 * Context: any thread; never allocates; does not depend on the locale. */
IKV_API size_t ikv_event_format(const ikv_catalogue *catalogue,
                                const ikv_event *event, char *buffer,
                                size_t size);

/* Prints a number in the shortest form that reads back as the same float or
 * double. The buffer must hold 32 bytes. Returns the length.
 * Context: any thread; O(1). */
IKV_API size_t ikv_number_format(double value, bool is_float, char *buffer);

/* Prints nanoseconds as milliseconds with up to six decimals: "16.25". The
 * buffer must hold 32 bytes. Returns the length.
 * Context: any thread; O(1). */
IKV_API size_t ikv_time_format(uint64_t time_ns, char *buffer);

#ifdef __cplusplus
}
#endif

#endif
