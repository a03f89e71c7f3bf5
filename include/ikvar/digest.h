/* ikvar/digest.h - one number for a whole run.
 *
 * Overview
 *   A digest is fed with all that a bus delivers, through a watcher. Two runs
 *   that delivered the same events to the same handlers in the same steps have
 *   the same digest, on every machine and at every frame rate; what belongs to
 *   frames and not to steps (loop.frame, the frame lane) is left out.
 *
 *       static void watch(const ikv_watch *watch, void *digest)
 *       {
 *           ikv_digest_add(digest, bus, watch);
 *       }
 *       ikv_digest digest = IKV_DIGEST_INIT;
 *       ikv_bus_add_watcher(bus, IKV_DIGEST_WANTS, watch, &digest);
 *
 *   It covers: kinds by name, all fields in little-endian order, targets by
 *   place and caller's id, step, phase, flags of the delivery, names of
 *   handlers and their verdicts, and that nobody heard an event or a deferred
 *   one was dropped. The function is FNV-1a with 64 bits, which finds
 *   differences; it does not stand up to people who make them.
 *
 * Memory
 *   A plain struct; copy it to go back to it.
 *
 * Threads
 *   The owner's thread of the bus.
 */
#ifndef IKVAR_DIGEST_H
#define IKVAR_DIGEST_H

#include "bus.h"

#ifdef __cplusplus
extern "C" {
#endif

/*   value       of all so far
 *   deliveries  calls of handlers that are in it, and events that nobody heard
 *   step        of the last of them
 *   frames      add what belongs to frames too (false) */
typedef struct ikv_digest {
    IKV_ALIGNED(8) uint64_t value;
    IKV_ALIGNED(8) uint64_t deliveries;
    IKV_ALIGNED(8) uint64_t step;
    bool frames;
    uint8_t reserved[7];
} ikv_digest;

#ifdef __cplusplus
extern "C++" inline ikv_digest ikv_digest_init()
{
    ikv_digest digest = ikv_digest();
    digest.value = UINT64_C(0xcbf29ce484222325);
    return digest;
}
#define IKV_DIGEST_INIT ikv_digest_init()
#else
#define IKV_DIGEST_INIT                                                        \
    {                                                                          \
        .value = UINT64_C(0xcbf29ce484222325)                                  \
    }
#endif

/* What a watcher must want that feeds a digest. */
#define IKV_DIGEST_WANTS                                                       \
    (IKV_WATCH_CALL | IKV_WATCH_RETURN | IKV_WATCH_DONE | IKV_WATCH_DROP)

/* Adds what a watcher is told. Cost: about 1 ns a byte of names and fields.
 * Context: where a watcher runs; O(bytes of the event's fields). */
IKV_API void ikv_digest_add(ikv_digest *digest, const ikv_bus *bus,
                            const ikv_watch *watch);

#ifdef __cplusplus
}
#endif

#endif
