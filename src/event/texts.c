/* texts.c - what is built in, with all its texts. */
#define IKVI_TEXT(text) text
#include "texts_tables.h"
