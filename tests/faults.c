/* faults.c - loaded before the C library: the n-th allocation of a process
 * fails, n from IKV_FAULT_AT; then it makes the file IKV_FAULT_DONE. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdlib.h>
#include <unistd.h>

/* The C library's own, by the names that are never replaced. */
void *__libc_malloc(size_t size);
void *__libc_calloc(size_t count, size_t size);
void *__libc_realloc(void *block, size_t size);
void *__libc_memalign(size_t alignment, size_t size);

static long left; /* until one fails; 0: none will */

__attribute__((constructor)) static void begin(void)
{
    const char *at = getenv("IKV_FAULT_AT");
    left = at != NULL ? strtol(at, NULL, 10) : 0;
}

static bool fails(void)
{
    if (left == 0 || --left > 0)
        return false;
    const char *done = getenv("IKV_FAULT_DONE");
    int file = done != NULL ? open(done, O_CREAT | O_WRONLY, 0600) : -1;
    if (file >= 0)
        close(file);
    errno = ENOMEM;
    return true;
}

void *malloc(size_t size)
{
    return fails() ? NULL : __libc_malloc(size);
}

void *calloc(size_t count, size_t size)
{
    return fails() ? NULL : __libc_calloc(count, size);
}

void *realloc(void *block, size_t size)
{
    return fails() ? NULL : __libc_realloc(block, size);
}

void *aligned_alloc(size_t alignment, size_t size)
{
    return fails() ? NULL : __libc_memalign(alignment, size);
}
