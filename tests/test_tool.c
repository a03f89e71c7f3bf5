#include "support.h"
Suite *tool_suite(void)
{
    return suite_create("tool");
}
