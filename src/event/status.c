/* status.c - statuses, obstacles, the version, and what a broken assertion
 * does. */
#include "texts.h"

static const ikvi_status_row *status_row(ikv_status status)
{
    for (uint32_t i = 0; i < IKVI_STATUS_ROWS; i++)
        if (ikvi_status_rows[i].status == status)
            return &ikvi_status_rows[i];
    return NULL;
}

const char *ikv_status_name(ikv_status status)
{
    const ikvi_status_row *row = status_row(status);
    return row != NULL ? row->name : "UNKNOWN_STATUS";
}

const char *ikv_status_text(ikv_status status)
{
    const ikvi_status_row *row = status_row(status);
    return row != NULL ? row->text : "not a status of this version";
}

static const ikvi_obstacle_row *obstacle_row(uint16_t code)
{
    for (uint32_t i = 0; i < IKVI_OBSTACLE_ROWS; i++)
        if (ikvi_obstacle_rows[i].code == code)
            return &ikvi_obstacle_rows[i];
    return NULL;
}

const char *ikv_obstacle_name(uint16_t code)
{
    const ikvi_obstacle_row *row = obstacle_row(code);
    return row != NULL ? row->name : "unknown";
}

const char *ikv_obstacle_text(uint16_t code)
{
    const ikvi_obstacle_row *row = obstacle_row(code);
    return row != NULL ? row->text : "unknown";
}

#define VERSION_TEXT_(a, b, c) #a "." #b "." #c
#define VERSION_TEXT(a, b, c)  VERSION_TEXT_(a, b, c)

const char *ikv_version(void)
{
    return VERSION_TEXT(IKV_VERSION_MAJOR, IKV_VERSION_MINOR,
                        IKV_VERSION_PATCH);
}

#ifdef IKV_DEBUG
/* Stops where a debugger or a sanitizer shows it; nothing to print with. */
void ikvi_broken(const char *condition, const char *file, int line)
{
    (void)condition, (void)file, (void)line;
    __builtin_trap();
}
#endif
