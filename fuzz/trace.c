/* trace.c - fuzzes traces: what is read is reviewed, or it is said what is wrong
 * where; and what a page would have of it is JSON. */
#include "fuzz.h"

#include "view.h"

static void expect_list(const section_text *section)
{
    json_error_t error;
    char *text = malloc(section->size + 3);
    MUST(text != NULL);
    memcpy(text + 1, section->text, section->size);
    text[0] = '[';
    text[section->size + 1] = ']';
    json_t *list = json_loadb(text, section->size + 2, 0, &error);
    MUST(list != NULL && json_array_size(list) == section->rows);
    json_decref(list);
    free(text);
}

/* As ikvar view takes the lines. */
static void make_rows(const uint8_t *data, size_t size)
{
    viewer v = {.output = NULL};
    MUST(view_begin(&v));
    const char *at = (const char *)data, *end = at + size;
    const char *wrong = NULL;
    while (wrong == NULL && at < end) {
        const char *newline = memchr(at, '\n', (size_t)(end - at));
        size_t length = (size_t)((newline != NULL ? newline : end) - at);
        json_t *line = json_loadb(at, length, 0, NULL);
        if (json_is_object(line))
            wrong = view_take_line(&v, line);
        json_decref(line);
        at += length + (newline != NULL);
    }
    MUST(!v.lost);
    for (int i = 0; i < SECTIONS; i++) {
        if (v.sections[i].file == NULL)
            continue;
        MUST(fflush(v.sections[i].file) == 0);
        expect_list(&v.sections[i]);
    }
    view_end(&v);
}

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
    make_rows(data, size);
    MUST(ikv_review_open(kit, setup, &review) == IKV_OK);
    const char *path = fuzz_file(data, size, ".trace.jsonl");
    ikv_status status = ikv_review_trace(review, path, &message);
    fuzz_told(status, &message);
    MUST(status == IKV_OK || strstr(message.text, path) == message.text);
    MUST(ikv_review_tell(review, fuzz_mistake, NULL) == IKV_OK);
    MUST(ikv_review_close(review) == IKV_OK);
    return 0;
}
