/* bindings.c - fuzzes files of bindings: all or nothing, what is saved loads
 * and saves the same, a lenient load takes what it can. */
#include "fuzz.h"

static void skipped(const char *text, void *user)
{
    MUST(strlen(text) > 0);
    ++*(uint32_t *)user;
}

static char *text_of(const char *path)
{
    static char text[2][1 << 16];
    static int turn;
    turn = !turn;
    FILE *file = fopen(path, "r");
    MUST(file != NULL);
    size_t length = fread(text[turn], 1, sizeof text[turn] - 1, file);
    text[turn][length] = '\0';
    fclose(file);
    return text[turn];
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    ikv_setup *setup = fuzz_setup();
    ikv_port port = ikv_null_port();
    ikv_kit *kit = fuzz_kit(setup, &port);
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_message message = {""};
    ikv_bindings_config config = IKV_BINDINGS_INIT;
    uint32_t left_out = 0;
    char path[64], saved[96], again[96];
    snprintf(path, sizeof path, "%s", fuzz_file(data, size, ".bindings.json"));
    snprintf(saved, sizeof saved, "%s.saved", path);
    snprintf(again, sizeof again, "%s.again", path);
    config.setup = setup;
    ikv_actions_counts before = IKV_ACTIONS_COUNTS_INIT;
    ikv_actions_counts after = IKV_ACTIONS_COUNTS_INIT;
    ikv_actions_counters(actions, &before);
    ikv_status strict = ikv_bindings_load(path, actions, &config, &message);
    fuzz_told(strict, &message);
    ikv_actions_counters(actions, &after);
    MUST(strict == IKV_OK || after.bindings == before.bindings);
    config.flags = IKV_BINDINGS_LENIENT;
    config.skipped = skipped;
    config.user = &left_out;
    ikv_status lenient = ikv_bindings_load(path, actions, &config, &message);
    fuzz_told(lenient, &message);
    MUST(strict != IKV_OK || (lenient == IKV_OK && left_out == 0));
    config.flags = 0;
    MUST(ikv_bindings_save(saved, actions, &config, &message) == IKV_OK);
    MUST(ikv_bindings_load(saved, actions, &config, &message) == IKV_OK);
    MUST(ikv_bindings_save(again, actions, &config, &message) == IKV_OK);
    MUST(strcmp(text_of(saved), text_of(again)) == 0);
    fuzz_validate(kit);
    remove(saved);
    remove(again);
    ikv_kit_close(kit);
    ikv_setup_close(setup);
    return 0;
}
