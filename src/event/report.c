/* report.c - configs that are in their ranges, and their hashes. */
#include "report.h"

#include "hash.h"
#include "text.h"

/* What lies behind `size` up to `end`, by its bytes: members that say what
 * a block holds come first in a config, and links to what is outside after
 * them. */
uint64_t ikvi_identity(const void *config, size_t end)
{
    const size_t size = sizeof(uint32_t);
    return ikvi_hash(IKVI_HASH_BEGIN, (const char *)config + size, end - size);
}

const ikv_reporter ikvi_silent = {NULL, NULL};

/* Says which member it is, what was found and what was expected. */
static void say_range(const ikv_reporter *reporter, const char *module,
                      const ikvi_range *range)
{
    char bytes[160];
    ikvi_text text = {bytes, sizeof bytes, 0};
    ikvi_text_add(&text, "the config's ");
    ikvi_text_add(&text, range->member);
    ikvi_text_add(&text, " is ");
    ikvi_text_unsigned(&text, range->value);
    ikvi_text_add(&text, ": expected ");
    ikvi_text_unsigned(&text, range->least);
    ikvi_text_add(&text, " to ");
    ikvi_text_unsigned(&text, range->most);
    ikvi_text_end(&text);
    ikvi_report(reporter, IKV_REPORT_ERROR, IKV_BAD_CONFIG, module, bytes);
}

ikv_status ikvi_check_ranges(const ikv_reporter *reporter, const char *module,
                             const ikvi_range *ranges, size_t count)
{
    for (size_t i = 0; i < count; i++)
        if (ranges[i].value < ranges[i].least ||
            ranges[i].value > ranges[i].most) {
            say_range(reporter, module, &ranges[i]);
            return IKV_BAD_CONFIG;
        }
    return IKV_OK;
}

/* The product is rounded to what is taken away, unless it is not rounded. */
bool ikvi_is_fused(void)
{
    volatile float a = 1.0f + 1.0f / 4096, less = -(1.0f + 1.0f / 2048);
    float difference = a * a + less;
    return difference != 0;
}

ikv_status ikvi_bad_config(const ikv_reporter *reporter, ikv_status status,
                           const char *module, const char *text)
{
    ikvi_report(reporter, IKV_REPORT_ERROR, status, module, text);
    return status;
}
