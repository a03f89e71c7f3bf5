/* without_cbor.c - the player of tests/steps where it is linked whole, for which
 * Debian has no library of CBOR: it reads lines, and calls none of these. */
#include <cbor.h>
#include <stdlib.h>

struct cbor_decoder_result
cbor_stream_decode(cbor_data buffer, size_t size,
                   const struct cbor_callbacks *callbacks, void *context)
{
    (void)buffer, (void)size, (void)callbacks, (void)context;
    abort();
}

#define WRITES_NONE(name, type)                                                \
    size_t cbor_encode_##name(type value, unsigned char *to, size_t room)      \
    {                                                                          \
        (void)value, (void)to, (void)room;                                     \
        abort();                                                               \
    }
WRITES_NONE(uint, uint64_t)
WRITES_NONE(negint, uint64_t)
WRITES_NONE(array_start, size_t)
WRITES_NONE(map_start, size_t)
WRITES_NONE(string_start, size_t)
WRITES_NONE(bytestring_start, size_t)
WRITES_NONE(bool, bool)
WRITES_NONE(half, float)
WRITES_NONE(single, float)
WRITES_NONE(double, double)

size_t cbor_encode_null(unsigned char *to, size_t room)
{
    (void)to, (void)room;
    abort();
}
