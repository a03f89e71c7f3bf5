/* report.h - reports, and configs that can't be used. */
#ifndef IKVI_REPORT_H
#define IKVI_REPORT_H

#include "platform.h"

static inline void ikvi_report(const ikv_reporter *reporter, uint32_t level,
                               ikv_status status, const char *module,
                               const char *text)
{
    if (reporter->report != NULL) {
        ikv_report report = {level, status, module, text};
        reporter->report(&report, reporter->user);
    }
}

/* A report that is made once: the flag remembers. */
static inline void ikvi_report_once(bool *said, const ikv_reporter *reporter,
                                    uint32_t level, ikv_status status,
                                    const char *module, const char *text)
{
    if (!*said) {
        *said = true;
        ikvi_report(reporter, level, status, module, text);
    }
}

/* A number of a config, and what it may be, for people too. */
typedef struct ikvi_range {
    const char *member;
    uint64_t value, least, most;
} ikvi_range;

/* IKV_BAD_CONFIG, and a report of the first that is out of its range. */
ikv_status ikvi_check_ranges(const ikv_reporter *reporter, const char *module,
                             const ikvi_range *ranges, size_t count);

/* A hash of what follows a config's `size` up to `end`, all plain numbers: two
 * modules of different configs differ in it. */
uint64_t ikvi_identity(const void *config, size_t end);

/* Drops what it is told: for footprints. */
extern const ikv_reporter ikvi_silent;

/* Whether a product and a sum are made one: then other machines' numbers are
 * other ones. */
bool ikvi_is_fused(void);

/* Reports what is wrong with a config, and gives the status. */
ikv_status ikvi_bad_config(const ikv_reporter *reporter, ikv_status status,
                           const char *module, const char *text);

#endif
