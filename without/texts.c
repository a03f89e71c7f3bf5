/* texts.c - instead of src/event/texts.c: what is built in, without the texts
 * that people read. All are empty: kinds and statuses have numbers, and no
 * names. */
#define IKVI_TEXT(text) ""
#include "../src/event/texts_tables.h"
