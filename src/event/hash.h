/* hash.h - FNV-1a, of 64 bits: for digests, identities and names. */
#ifndef IKVI_HASH_H
#define IKVI_HASH_H

#include <stddef.h>
#include <stdint.h>

#define IKVI_HASH_BEGIN UINT64_C(0xcbf29ce484222325)

uint64_t ikvi_hash(uint64_t hash, const void *bytes, size_t count);
/* Of a text, its last zero byte included. */
uint64_t ikvi_hash_text(uint64_t hash, const char *text);

#endif
