/* ikvar/keys.h - keys by USB HID usage and by W3C name, both ways.
 *
 * Overview
 *   `code` is the physical key: its USB HID usage with page 7 in the upper
 *   half, IKV_CODE(0x04) for the key that is A on a US keyboard. Its name is
 *   the W3C one, "KeyA" (UI Events KeyboardEvent code Values).
 *   `key` is what the key means at that moment: a Unicode code point, or a
 *   named key's number above all code points, IKV_KEY_NAMED and up ("Enter",
 *   UI Events KeyboardEvent key Values).
 *
 * Threads
 *   Constant tables. Any thread.
 */
#ifndef IKVAR_KEYS_H
#define IKVAR_KEYS_H

#include "base.h"

#ifdef __cplusplus
extern "C" {
#endif

#define IKV_CODE(usage) (0x00070000u | (uint32_t)(usage))
#define IKV_KEY_NAMED   0x00110000u

/* The W3C name of a code, NULL if it has none.
 * Context: any thread; O(keys). */
IKV_API const char *ikv_code_name(uint32_t code);

/* The code of that W3C name, 0 if there is none.
 * Context: any thread; O(keys). */
IKV_API uint32_t ikv_code_find(const char *name);

/* The codes in the order of their usages: the index-th; 0 past the last.
 * Context: any thread; O(keys). */
IKV_API uint32_t ikv_code_list(uint32_t index);

/* The name of a key: a named key's, or its character in UTF-8 written to
 * buffer (at least 5 bytes). NULL for 0 and for what is no character.
 * Context: any thread; O(keys). */
IKV_API const char *ikv_key_name(uint32_t key, char *buffer);

/* The key of that name: one character in UTF-8, or a named key's name; 0 if
 * it is neither.
 * Context: any thread; O(keys). */
IKV_API uint32_t ikv_key_find(const char *name);

/* What a key means without modifiers on a US keyboard: 'a' for KeyA, the
 * named key for others; 0 if unknown.
 * Context: any thread; O(keys). */
IKV_API uint32_t ikv_key_of_code(uint32_t code);

/* 0 standard, 1 left, 2 right, 3 numpad (UI Events, KeyboardEvent.location).
 * Context: any thread; O(1). */
IKV_API uint8_t ikv_code_location(uint32_t code);

#ifdef __cplusplus
}
#endif

#endif
