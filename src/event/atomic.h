/* atomic.h - the few atomic operations of the core, or plain ones for tool
 * chains without <stdatomic.h> (IKV_SINGLE_THREAD). */
#ifndef IKVI_ATOMIC_H
#define IKVI_ATOMIC_H

#include <stdbool.h>
#include <stdint.h>

#ifdef IKV_SINGLE_THREAD
typedef uint32_t ikvi_atomic;

static inline uint32_t ikvi_load(const ikvi_atomic *at)
{
    return *at;
}
static inline uint32_t ikvi_load_acquire(const ikvi_atomic *at)
{
    return *at;
}
static inline void ikvi_store(ikvi_atomic *at, uint32_t value)
{
    *at = value;
}
static inline void ikvi_store_release(ikvi_atomic *at, uint32_t value)
{
    *at = value;
}
static inline void ikvi_add(ikvi_atomic *at, uint32_t value)
{
    *at += value;
}
/* Both give what it was. */
static inline uint32_t ikvi_set_bits(ikvi_atomic *at, uint32_t bits)
{
    uint32_t was = *at;
    *at |= bits;
    return was;
}
static inline uint32_t ikvi_clear_bits(ikvi_atomic *at, uint32_t bits)
{
    uint32_t was = *at;
    *at &= ~bits;
    return was;
}
static inline bool ikvi_claim(ikvi_atomic *at, uint32_t *old, uint32_t value)
{
    if (*at != *old) {
        *old = *at;
        return false;
    }
    *at = value;
    return true;
}
#else
#include <stdatomic.h>
typedef _Atomic uint32_t ikvi_atomic;

static inline uint32_t ikvi_load(const ikvi_atomic *at)
{
    return atomic_load_explicit(at, memory_order_relaxed);
}
static inline uint32_t ikvi_load_acquire(const ikvi_atomic *at)
{
    return atomic_load_explicit(at, memory_order_acquire);
}
static inline void ikvi_store(ikvi_atomic *at, uint32_t value)
{
    atomic_store_explicit(at, value, memory_order_relaxed);
}
static inline void ikvi_store_release(ikvi_atomic *at, uint32_t value)
{
    atomic_store_explicit(at, value, memory_order_release);
}
static inline void ikvi_add(ikvi_atomic *at, uint32_t value)
{
    atomic_fetch_add_explicit(at, value, memory_order_relaxed);
}
static inline uint32_t ikvi_set_bits(ikvi_atomic *at, uint32_t bits)
{
    return atomic_fetch_or_explicit(at, bits, memory_order_acq_rel);
}
static inline uint32_t ikvi_clear_bits(ikvi_atomic *at, uint32_t bits)
{
    return atomic_fetch_and_explicit(at, ~bits, memory_order_acq_rel);
}
/* Replaces *old by value; if it was changed meanwhile, *old is what it is. */
static inline bool ikvi_claim(ikvi_atomic *at, uint32_t *old, uint32_t value)
{
    return atomic_compare_exchange_weak_explicit(
        at, old, value, memory_order_relaxed, memory_order_relaxed);
}
#endif

#endif
