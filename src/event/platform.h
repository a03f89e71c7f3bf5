/* platform.h - what the core asks of a compiler, and its own assertion.
 *
 * Files, lowest first: texts.c, status.c, memory.c, text.c, hash.c, slots.c,
 * names.c, number.c, stick.c, report.c, keys.c, catalogue.c, values.c, event.c.
 */
#ifndef IKVI_PLATFORM_H
#define IKVI_PLATFORM_H

#include "ikvar/base.h"

#include <float.h>
#include <string.h>

/* The same numbers on every machine need arithmetic as the language has it:
 * docs/build.md has the options. What can't be seen here is found when a scene
 * is opened (ikvi_is_fused). */
#if defined(__FAST_MATH__) ||                                                  \
    (defined(__FINITE_MATH_ONLY__) && __FINITE_MATH_ONLY__ > 0)
#error "ikvar needs exact floating point: compile without -ffast-math"
#endif
#if FLT_EVAL_METHOD != 0
#error "ikvar needs float arithmetic in float: -fexcess-precision=fast, or SSE"
#endif

/* Two kinds of assertion. IKVI_CHECK is for our own bugs and exists in debug
 * builds only. What the caller did wrong is a status, in every build. */
#ifdef IKV_DEBUG
#define IKVI_CHECK(condition)                                                  \
    ((condition) ? (void)0 : ikvi_broken(#condition, __FILE__, __LINE__))
#else
#define IKVI_CHECK(condition) ((void)0)
#endif
void ikvi_broken(const char *condition, const char *file, int line);

#if defined(__GNUC__)
static inline void ikvi_keep_fetch(const void *address)
{
    __asm__ volatile("" : : "r"(address));
}

#define IKVI_LIKELY(condition)   __builtin_expect(!!(condition), 1)
#define IKVI_UNLIKELY(condition) __builtin_expect(!!(condition), 0)
#define IKVI_APART               __attribute__((noinline))
/* With something that the compiler must not leave out: it takes a function that
 * only fetches for one that does nothing, and its calls away. */
#define IKVI_FETCH(address)                                                    \
    (__builtin_prefetch(address), ikvi_keep_fetch(address))
#if defined(__OPTIMIZE_SIZE__)
#define IKVI_INLINE static inline
#else
#define IKVI_INLINE static inline __attribute__((always_inline))
#endif
#else
#define IKVI_FETCH(address) ((void)(address))
#define IKVI_APART
#define IKVI_INLINE              static inline
#define IKVI_LIKELY(condition)   (condition)
#define IKVI_UNLIKELY(condition) (condition)
#endif

#endif
