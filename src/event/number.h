/* number.h - arithmetic that is the same on every machine. */
#ifndef IKVI_NUMBER_H
#define IKVI_NUMBER_H

#include "platform.h"

float ikvi_sqrt(double value);

/* The float that is nearest to number / by; to 36 bits if `by` has more. */
float ikvi_quotient(uint64_t number, uint64_t by);

/* What is no number stays so. */
static inline float ikvi_clamp(float value, float least, float most)
{
    if (value < least)
        return least;
    return value > most ? most : value;
}

#endif
