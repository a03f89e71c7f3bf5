/* trace.c - fuzzes traces: what is read is reviewed, or it is said what is wrong
 * where. */
#include "fuzz.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static ikv_setup *setup;
    static ikv_kit *kit;
    static ikv_port port;
    ikv_review *review;
    ikv_message message = {""};
    if (kit == NULL) {
        setup = fuzz_setup();
        port = ikv_null_port();
        kit = fuzz_kit(setup, &port);
    }
    MUST(ikv_review_open(kit, setup, &review) == IKV_OK);
    const char *path = fuzz_file(data, size, ".trace.jsonl");
    ikv_status status = ikv_review_trace(review, path, &message);
    fuzz_told(status, &message);
    MUST(status == IKV_OK || strstr(message.text, path) == message.text);
    MUST(ikv_review_tell(review, fuzz_mistake, NULL) == IKV_OK);
    MUST(ikv_review_close(review) == IKV_OK);
    return 0;
}
