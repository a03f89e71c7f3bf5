/* ikvar/ikvar.h - all of the core. Files and ports are in ikvar/host.h. */
#ifndef IKVAR_IKVAR_H
#define IKVAR_IKVAR_H

#include "base.h"
#include "action.h"
#include "bus.h"
#include "catalogue.h"
#include "digest.h"
#include "draw.h"
#include "event.h"
#include "image.h"
#include "input.h"
#include "keys.h"
#include "kit.h"
#include "loop.h"
#include "obstacle.h"
#include "overlap.h"
#include "port.h"
#include "queue.h"
#include "router.h"
#include "scene.h"
#include "state.h"

#endif
