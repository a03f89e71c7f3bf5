/* terminal.c - fuzzes a terminal's bytes: at most one token a byte at rest, and
 * back to rest when nothing more comes. A byte 0xff is a pause. */
#include "fuzz.h"

#include "../ports/terminal/parse.h"

static void look(const token *t)
{
    MUST(t->type <= TOKEN_UNKNOWN);
    MUST(t->character <= 0x1fffff);
    if (t->type == TOKEN_MOUSE)
        MUST(t->column > 0 && t->row > 0);
}

static uint32_t take_more(parser *p)
{
    uint32_t tokens = 0;
    while (ikvi_parser_has_more(p)) {
        token t = ikvi_parser_more(p);
        look(&t);
        MUST(++tokens <= 3);
    }
    return tokens;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    parser p = {0};
    size_t bytes = 0, tokens = 0;
    for (size_t i = 0; i < size; i++) {
        token t;
        if (data[i] != 0xff) {
            t = ikvi_parser_take(&p, data[i]);
            bytes++;
        } else if (ikvi_parser_waits(&p)) {
            t = ikvi_parser_expire(&p);
        } else {
            continue;
        }
        look(&t);
        tokens += t.type != TOKEN_NONE;
        tokens += take_more(&p);
        MUST(tokens <= 2 * bytes);
        MUST(p.length <= SEQUENCE_LIMIT);
    }
    if (ikvi_parser_waits(&p)) {
        token t = ikvi_parser_expire(&p);
        look(&t);
        take_more(&p);
    }
    MUST(!ikvi_parser_waits(&p));
    return 0;
}
