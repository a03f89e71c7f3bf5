/* memory.c - where modules' blocks come from on a host: the C library, and for
 * large ones large pages, if the system has some. What is looked at in a scene
 * of a million targets lies far apart: with pages of 4 KB each look waits for a
 * page's address as well. */
#define _DEFAULT_SOURCE
#include "ikvar/io.h"

#include <stdlib.h>

#if defined(__linux__)
#include <sys/mman.h>
#endif

enum {
    LARGE_PAGE = 2 << 20,
    LARGE_BLOCK = 2 * LARGE_PAGE /* below, too much would be rounded up */
};

static void *host_take(void *user, size_t size, size_t alignment)
{
    (void)user;
    if (size >= LARGE_BLOCK && alignment < LARGE_PAGE)
        alignment = LARGE_PAGE;
    /* Sizes must be multiples of the alignment. */
    void *block = aligned_alloc(alignment,
                                (size + alignment - 1) / alignment * alignment);
#if defined(MADV_HUGEPAGE)
    /* If it may not, pages are small. */
    if (block != NULL && size >= LARGE_BLOCK)
        (void)madvise(block, size, MADV_HUGEPAGE);
#endif
    return block;
}

static void host_give(void *user, void *block, size_t size)
{
    (void)user, (void)size;
    free(block);
}

ikv_memory ikv_host_memory(void)
{
    return (ikv_memory){.take = host_take, .give = host_give};
}
