#include "support.h"
Suite *io_suite(void)
{
    return suite_create("io");
}
