/* main.c - all suites; CK_RUN_SUITE=bus runs one. */
#define _XOPEN_SOURCE 700
#include "support.h"

#include <ftw.h>
#include <sys/stat.h>
#include <unistd.h>

static int remove_one(const char *path, const struct stat *about, int what,
                      struct FTW *where)
{
    (void)about, (void)what, (void)where;
    return remove(path);
}

/* What tests write lies in a folder of this run's own, so that two runs don't
 * disturb each other; after a failure it stays. */
static bool enter_folder(char *folder)
{
    return mkdtemp(folder) != NULL && chdir(folder) == 0;
}

/* Where the real paths can't be handed to a shell as they are; another run may
 * have made the links. */
#ifdef REAL_SOURCE
static bool leads_to(const char *link, const char *path)
{
    struct stat one, other;
    if (symlink(path, link) == 0)
        return true;
    return stat(link, &one) == 0 && stat(path, &other) == 0 &&
           one.st_dev == other.st_dev && one.st_ino == other.st_ino;
}

static bool make_links(void)
{
    return leads_to(SOURCE, REAL_SOURCE) && leads_to(BINARY, REAL_BINARY);
}
#else
static bool make_links(void)
{
    return true;
}
#endif

int main(void)
{
    char folder[] = BINARY "/run-XXXXXX";
    Suite *(*const suites[])(void) = {
        event_suite,      queue_suite,     dispatch_suite, bus_suite,
        bus_model_suite,  scene_suite,     hits_suite,     router_suite,
        storm_suite,      programs_suite,  loop_suite,     steps_suite,
        state_suite,      action_suite,    overlap_suite,  ports_suite,
        io_suite,         tool_suite,      terminal_suite, edge_ports_suite,
        edge_bus_suite,   absurd_suite,    probe_suite,    why_suite,
        edge_route_suite, edge_time_suite, images_suite,   binary_suite,
        edge_files_suite, mistakes_suite,  draw_suite,     view_suite,
        reload_suite,     data_suite,      touch_suite,    replay_suite};
    if (!make_links() || !enter_folder(folder))
        return 2;
    SRunner *runner = srunner_create(suites[0]());
    for (int i = 1; i < ROWS(suites); i++)
        srunner_add_suite(runner, suites[i]());
    srunner_run_all(runner, CK_NORMAL);
    int failed = srunner_ntests_failed(runner);
    srunner_free(runner);
    if (failed == 0 && chdir(BINARY) == 0)
        nftw(folder, remove_one, 16, FTW_DEPTH | FTW_PHYS);
    return failed == 0 ? 0 : 1;
}
