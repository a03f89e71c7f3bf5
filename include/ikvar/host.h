/* ikvar/host.h - all of the core, and what needs a host: files and ports. */
#ifndef IKVAR_HOST_H
#define IKVAR_HOST_H

#include "ikvar.h"
#include "io.h"
#include "ports.h"
#include "review.h"
#include "stats.h"
#include "why.h"

#endif
