// test_cpp.cc - the C++ adapter, as a process: prints what goes wrong.
#include <ikvar/host.h>
#include <ikvar/ikvar.hpp>

#include <cstdio>
#include <memory>
#include <string>

static int failures;

static void check(bool holds, const char *what)
{
    if (!holds) {
        std::printf("failed: %s\n", what);
        failures++;
    }
}

int main()
{
    ikv_bus_config config = IKV_BUS_INIT;
    config.memory = ikv_host_memory();
    ikv_bus *bus = nullptr;
    check(ikv_bus_open(&config, &bus) == IKV_OK, "opens");
    ikv_event event = ikv_event_make(IKV_KIND_KEY_DOWN, 0);
    ikv_target everywhere = {0};
    std::string heard;
    auto token = std::make_shared<int>(1);
    {
        auto a =
            ikvar::hear(bus, IKV_KIND_KEY_DOWN, everywhere,
                        [&heard, token](const ikv_event &) { heard += "a"; });
        auto b =
            ikvar::hear(bus, IKV_KIND_KEY_DOWN, everywhere,
                        [&heard](const ikv_event &, const ikv_delivery &d) {
                            heard += d.bus != nullptr ? "b" : "?";
                            return IKV_STOP_ALL;
                        });
        auto c = ikvar::hear(bus, IKV_KIND_KEY_DOWN, everywhere,
                             [&heard](const ikv_event &) { heard += "c"; });
        check(static_cast<bool>(a) && a.status() == IKV_OK, "subscribed");
        check(token.use_count() == 2, "the lambda is kept");
        ikv_bus_deliver(bus, &event);
        check(heard == "ab", "called in order, verdicts passed on");
        ikvar::subscription moved = std::move(b);
        check(!b && moved, "moved"); // NOLINT(bugprone-use-after-move)
        moved.end();
        heard.clear();
        ikv_bus_deliver(bus, &event);
        check(heard == "ac", "ended");
        c.let_go();
    }
    check(token.use_count() == 1, "the lambda is freed with its scope");
    heard.clear();
    ikv_bus_deliver(bus, &event);
    check(heard == "c", "let go of, it stays");

    ikv_subscription_config want = IKV_SUBSCRIPTION_INIT;
    ikv_message message;
    auto refused = ikvar::subscribe(
        bus, want, [token](const ikv_event &) {}, &message);
    check(!refused && refused.status() == IKV_BAD_ARGUMENT, "refused");
    check(token.use_count() == 1, "a refused lambda is freed");
    want.kind = IKV_KIND_KEY_UP;
    want.limit = 1;
    auto once = ikvar::subscribe(
        bus, want, [&heard](const ikv_event &) { heard += "once"; });
    event.kind = IKV_KIND_KEY_UP;
    ikv_bus_deliver(bus, &event);
    ikv_bus_deliver(bus, &event);
    check(heard == "conce" && !once, "once only");
    once =
        ikvar::hear(bus, IKV_KIND_KEY_UP, everywhere, [](const ikv_event &) {});
    once.end();
    ikv_bus_close(bus);
    return failures == 0 ? 0 : 1;
}
