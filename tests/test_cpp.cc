// test_cpp.cc - the C++ adapter, as a process: prints what goes wrong.
#include <ikvar/host.h>
#include <ikvar/ikvar.hpp>

#include <cstdio>
#include <cstdlib>
#include <exception>
#include <memory>
#include <string>
#include <vector>

#include <sys/wait.h>
#include <unistd.h>

static int failures;

static void check(bool holds, const char *what)
{
    if (!holds) {
        std::printf("failed: %s\n", what);
        failures++;
    }
}

static ikv_kit *open_kit()
{
    static const ikv_port port = ikv_null_port();
    ikv_kit_config config = IKV_KIT_INIT;
    config.memory = ikv_host_memory();
    config.ports = &port;
    config.port_count = 1;
    config.bus.images = 2;
    config.loop.frame_hz = IKV_UNPACED;
    ikv_kit *kit = nullptr;
    check(ikv_kit_open(&config, &kit) == IKV_OK, "a kit opens");
    return kit;
}

/* A lambda may end itself, its target, its owner: it goes on to its end. */
static void end_from_within()
{
    ikv_kit *kit = open_kit();
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    auto token = std::make_shared<int>(0);
    ikvar::subscription own;
    own = ikvar::hear(bus, IKV_KIND_FIELD_SET, ikv_target{0},
                      [&own, token](const ikv_event &) {
                          own.end();
                          ++*token;
                      });
    ikv_bus_deliver(bus, &event);
    check(*token == 1 && token.use_count() == 1, "a lambda ends itself");

    ikv_target_config boat = IKV_TARGET_INIT;
    ikv_target target = {0};
    check(ikv_scene_add(ikv_kit_scene(kit), &boat, &target, nullptr) == IKV_OK,
          "added");
    auto at = ikvar::hear(bus, IKV_KIND_FIELD_SET, target,
                          [kit, target, token](const ikv_event &) {
                              ikv_scene_remove(ikv_kit_scene(kit), target);
                              ++*token;
                          });
    event.target = target;
    ikv_bus_deliver(bus, &event);
    check(*token == 2 && token.use_count() == 1, "a lambda removes its target");

    ikv_owner owner = {0};
    check(ikv_bus_add_owner(bus, &owner) == IKV_OK, "an owner");
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = IKV_KIND_FIELD_SET;
    config.owner = owner;
    auto owned = ikvar::subscribe(bus, config,
                                  [bus, owner, token](const ikv_event &inner) {
                                      ikv_bus_drop_owner(bus, owner);
                                      if (++*token < 10)
                                          ikv_bus_deliver(bus, &inner);
                                  });
    event.target = ikv_target{0};
    ikv_bus_deliver(bus, &event);
    check(*token == 3 && token.use_count() == 1, "a lambda drops its owner");
    own.end();
    at.end();
    owned.end();
    ikv_kit_close(kit);
}

/* What ended after an image was saved comes back with it, and is freed once. */
static void go_back()
{
    ikv_kit *kit = open_kit();
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_loop_begin(ikv_kit_loop(kit));
    ikv_loop_end(ikv_kit_loop(kit));
    ikv_parts parts = ikv_kit_parts(kit);
    std::vector<char> image(ikv_image_size(&parts));
    ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, 0);
    auto token = std::make_shared<int>(0);
    auto count = [token](const ikv_event &) { ++*token; };
    auto old = ikvar::hear(bus, IKV_KIND_FIELD_SET, ikv_target{0}, count);
    auto save = [&] {
        return ikv_image_save(&parts, image.data(), image.size()) == IKV_OK;
    };
    auto restore = [&] {
        return ikv_image_restore(&parts, image.data(), image.size(), nullptr,
                                 0) == IKV_OK;
    };
    check(save(), "saved");
    auto handle = old.handle();
    for (int i = 0; i < 3; i++) {
        auto young = ikvar::hear(bus, IKV_KIND_FIELD_SET, ikv_target{0}, count);
        ikv_bus_unsubscribe(bus, handle);
        *token = 0;
        ikv_bus_deliver(bus, &event);
        check(*token == 1, "the young one hears");
        check(restore(), "restored");
        *token = 0;
        ikv_bus_deliver(bus, &event);
        check(*token == 1 && !young, "the old one hears again");
        check(token.use_count() == 3, "the young one is freed");
    }
    old.end();
    check(token.use_count() == 3, "an image may bring it back");
    check(save() && save(), "saved twice");
    check(token.use_count() == 2, "no image can bring it back");
    old = ikvar::hear(bus, IKV_KIND_FIELD_SET, ikv_target{0}, count);
    check(save(), "saved");
    old.end();
    ikv_kit_close(kit);
    check(token.use_count() == 2, "the bus closes");
}

/* It ends the program, at once. */
static void throw_out()
{
    std::fflush(stdout);
    pid_t child = fork();
    if (child == 0) {
        std::set_terminate([] { std::_Exit(42); });
        ikv_kit *kit = open_kit();
        ikv_event event = ikv_event_make(IKV_KIND_FIELD_SET, 0);
        auto a = ikvar::hear(ikv_kit_bus(kit), IKV_KIND_FIELD_SET,
                             ikv_target{0}, [](const ikv_event &) { throw 1; });
        try {
            ikv_bus_deliver(ikv_kit_bus(kit), &event);
        } catch (int) {
            std::_Exit(43);
        }
        std::_Exit(44);
    }
    int status = 0;
    check(child > 0 && waitpid(child, &status, 0) == child &&
              WIFEXITED(status) && WEXITSTATUS(status) == 42,
          "an exception ends the program");
}

/* One of two actions, in one of its three states. */
static void hear_action()
{
    ikv_kit *kit = open_kit();
    ikv_actions *actions = ikv_kit_actions(kit);
    ikv_bus *bus = ikv_kit_bus(kit);
    ikv_action_id sail, horn;
    check(ikv_actions_add(actions, IKV_MAIN_SET, "sail", &sail) == IKV_OK &&
              ikv_actions_add(actions, IKV_MAIN_SET, "horn", &horn) == IKV_OK,
          "two actions");
    std::string heard;
    auto at = [&heard](const char *what) {
        return [&heard, what](const ikv_event &) { heard += what; };
    };
    auto start = ikvar::hear(bus, sail, IKV_ACTION_STARTED, at("s"));
    auto end = ikvar::hear(bus, sail, IKV_ACTION_ENDED, at("e"));
    auto other = ikvar::hear(bus, horn, IKV_ACTION_STARTED, at("h"));
    auto wrong = ikvar::hear(bus, horn, IKV_ACTION_ENDED + 1, at("w"));
    check(!wrong && wrong.status() == IKV_BAD_ARGUMENT, "no such state");
    ikv_actions_feed(actions, sail, 0, 1, 0);
    ikv_actions_feed(actions, horn, 0, 1, 0);
    ikv_actions_feed(actions, sail, 0, 0, 0);
    ikv_actions_feed(actions, horn, 0, 0, 0);
    check(heard == "she", "an action is heard by itself");
    start.end();
    end.end();
    other.end();
    ikv_kit_close(kit);
}

int main()
{
    end_from_within();
    hear_action();
    go_back();
    throw_out();
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
