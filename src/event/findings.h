/* findings.h - obstacles as a probe finds them: all are counted, and as many
 * kept as there is room for.
 */
#ifndef IKVI_FINDINGS_H
#define IKVI_FINDINGS_H

#include "ikvar/obstacle.h"

typedef struct ikvi_findings {
    ikv_obstacle *to;
    uint32_t room, count;
} ikvi_findings;

static inline ikvi_findings ikvi_findings_begin(ikv_obstacle *to, uint32_t room)
{
    return (ikvi_findings){to, to != NULL ? room : 0, 0};
}

static inline void ikvi_find(ikvi_findings *f, ikv_obstacle obstacle)
{
    if (f->count < f->room)
        f->to[f->count] = obstacle;
    f->count++;
}

/* One that is no more than its code and who is in the way. */
static inline void ikvi_find_by(ikvi_findings *f, uint16_t code, ikv_target by)
{
    ikvi_find(f, (ikv_obstacle){.code = code, .by = by});
}

#endif
