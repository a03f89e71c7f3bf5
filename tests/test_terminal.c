#include "support.h"
Suite *terminal_suite(void)
{
    return suite_create("terminal");
}
