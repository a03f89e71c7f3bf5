/* main.c - all suites; CK_RUN_SUITE=bus runs one. */
#include "support.h"

#include <unistd.h>

int main(void)
{
    Suite *(*const suites[])(void) = {
        event_suite,     queue_suite,   dispatch_suite, bus_suite,
        bus_model_suite, scene_suite,   hits_suite,     router_suite,
        storm_suite,     loop_suite,    steps_suite,    state_suite,
        action_suite,    overlap_suite, ports_suite,    io_suite,
        tool_suite,      terminal_suite};
    if (chdir(BINARY) != 0) /* what tests write is left there */
        return 2;
    SRunner *runner = srunner_create(suites[0]());
    for (int i = 1; i < ROWS(suites); i++)
        srunner_add_suite(runner, suites[i]());
    srunner_run_all(runner, CK_NORMAL);
    int failed = srunner_ntests_failed(runner);
    srunner_free(runner);
    return failed == 0 ? 0 : 1;
}
