/* setup_shared.h - what traces need of a setup beyond its header. */
#ifndef IKVI_IO_SETUP_SHARED_H
#define IKVI_IO_SETUP_SHARED_H

#include "ikvar/io.h"

/* The id of a target that is there or was there; "gone" if it never was. */
const char *ikvi_setup_name_of(const ikv_setup *setup, ikv_target target);

#endif
