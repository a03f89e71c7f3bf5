/* 12: focus and text.
 *
 * Two name plates take text. A press gives one the keys, Tab goes on to the
 * next; a plate that wants Tab for itself would refuse it. Escape blurs: what
 * is typed then is the root's, which nobody hears here.
 */
#include "example.h"

#include <stdio.h>
#include <string.h>

typedef struct plate {
    const char *ferry;
    char text[64];
} plate;

static ikv_verdict typed(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    plate *p = user;
    uint32_t more;
    size_t length = strlen(p->text);
    /* In the event, or what it brings along: a pasted text may be long. */
    const char *text = ikv_delivery_text(event, delivery, &more);
    if (length + more >= sizeof p->text)
        return IKV_STOP;
    memcpy(p->text + length, text, more);
    p->text[length + more] = '\0';
    printf("%s: \"%s\"\n", p->ferry, p->text);
    return IKV_STOP;
}

static ikv_verdict key(const ikv_event *event, const ikv_delivery *delivery,
                       void *user)
{
    plate *p = user;
    size_t length = strlen(p->text);
    if (event->key.code == ikv_code_find("Escape"))
        ikv_router_blur(delivery->router, event->seat);
    if (event->key.code != ikv_code_find("Backspace") || length == 0)
        return IKV_CONTINUE;
    do /* a whole code point of UTF-8 */
        length--;
    while (length > 0 && ((unsigned char)p->text[length] & 0xc0) == 0x80);
    p->text[length] = '\0';
    printf("%s: \"%s\"\n", p->ferry, p->text);
    return IKV_STOP;
}

static ikv_verdict focus(const ikv_event *event, const ikv_delivery *delivery,
                         void *user)
{
    (void)delivery;
    printf("%s %s the keys\n", ((plate *)user)->ferry,
           event->kind == IKV_KIND_FOCUS_IN ? "gets" : "loses");
    return IKV_CONTINUE;
}

static void add(ikv_kit *kit, plate *p, float y)
{
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_target target;
    ikv_target_config config = IKV_TARGET_INIT;
    config.y = y;
    config.shape = ikv_scene_rect(0, 0, 200, 30);
    config.traits = IKV_FOCUSABLE | IKV_TAKES_TEXT;
    ikv_scene_add(ikv_kit_scene(kit), &config, &target, NULL);
    ikv_bus_hear(bus, IKV_KIND_TEXT_INPUT, target, typed, p, NULL);
    ikv_bus_hear(bus, IKV_KIND_KEY_DOWN, target, key, p, NULL);
    ikv_bus_hear(bus, IKV_KIND_FOCUS_IN, target, focus, p, NULL);
    ikv_bus_hear(bus, IKV_KIND_FOCUS_OUT, target, focus, p, NULL);
}

int main(void)
{
    plate one = {"the first ferry", ""}, two = {"the second ferry", ""};
    example e = example_open("typing.tape.jsonl", NULL);
    ikv_kit *kit = e.kit;
    add(kit, &one, 10);
    add(kit, &two, 60);
    example_play(&e);
    example_close(&e);
    return 0;
}
