/* ikvar/stats.h - what a run has come to, in one table. Needs the host library.
 *
 * Overview
 *   All counters of a kit's parts with their units and capacities, what each
 *   kind and each handler of a setup has seen, how long input waited until it
 *   was heard, and how long frames and steps took: for people, or as one JSON
 *   object.
 *
 *       ikv_stats_open(kit, setup, &stats);
 *       ...                                     // frames go by
 *       ikv_stats_print(stats, stdout, IKV_PRINT_TEXT);
 *       ikv_stats_close(stats);                 // before the kit
 *
 *   Handlers are counted by a bus that was opened with `statistics`.
 *
 * Memory
 *   The C library's allocator, when it is opened; nothing while it watches.
 *
 * Threads
 *   The owner's thread of the kit.
 */
#ifndef IKVAR_STATS_H
#define IKVAR_STATS_H

#include "why.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct ikv_stats ikv_stats;

/* Begins to watch how deep handlers deliver and how long input waits, as one of
 * the bus's watchers, and has the loop measure (ikv_loop_measure()); all else is
 * counted by the parts themselves.
 *   setup  for the names of handlers; NULL: none are told
 * Returns IKV_OK, BAD_ARGUMENT, BUSY inside a handler, FULL_WATCHERS, NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_stats_open(ikv_kit *kit, const ikv_setup *setup,
                                  ikv_stats **stats);

/* Prints them to a FILE: IKV_PRINT_TEXT or IKV_PRINT_JSON (docs/files.md).
 * Returns IKV_OK, BAD_ARGUMENT, or BAD_FILE if a write failed.
 * Context: the kit's thread, inside handlers too; O(kinds + handlers). */
IKV_API ikv_status ikv_stats_print(const ikv_stats *stats, void *file,
                                   uint32_t form);

/* Ends it, before the kit is closed. NULL is fine. Returns IKV_OK, or BUSY inside
 * a handler: then it goes on.
 * Context: the kit's thread, not inside a handler; O(1). */
IKV_API ikv_status ikv_stats_close(ikv_stats *stats);

#ifdef __cplusplus
}
#endif

#endif
