/* number.h - arithmetic that is the same on every machine. */
#ifndef IKVI_NUMBER_H
#define IKVI_NUMBER_H

#include "platform.h"

float ikvi_sqrt(double value);

#endif
