/* ikvar/ikvar.hpp - C++17: lambdas as handlers, subscriptions with a scope.
 *
 * Overview
 *   A thin adapter over the C interface, header only:
 *
 *       ikvar::subscription light = ikvar::hear(
 *           bus, IKV_KIND_POINTER_CLICK, lamp,
 *           [&](const ikv_event &event, const ikv_delivery &) {
 *               lit = !lit;
 *               return IKV_STOP;
 *           });
 *
 *   The lambda may return nothing (as IKV_CONTINUE), and take the event alone. A
 *   bool is refused: whether true would stop is not to be guessed.
 *   The subscription ends with its object; let_go() leaves it to the bus.
 *
 * Memory
 *   One heap block for each lambda, freed when its subscription has ended and
 *   no call of it runs any more; with images (image.h), when none can bring it
 *   back. So a lambda may end itself, remove its own target or drop its owner.
 *
 * Threads
 *   As the bus. An exception that leaves a lambda ends the program at once, by
 *   std::terminate(): there are C frames between it and who could catch it.
 */
#ifndef IKVAR_IKVAR_HPP
#define IKVAR_IKVAR_HPP

#if !defined(__cplusplus) ||                                                   \
    (__cplusplus < 201703L && !(defined(_MSVC_LANG) && _MSVC_LANG >= 201703L))
#error "ikvar/ikvar.hpp needs C++17: -std=c++17, or ikvar/ikvar.h"
#endif

#include "ikvar.h"

#include <memory>
#include <type_traits>
#include <utility>

namespace ikvar {

/* Ends its subscription when it goes out of scope. Movable. The bus must
 * outlive it. */
class subscription {
  public:
    subscription() = default;
    subscription(ikv_bus *bus, ikv_subscription handle, ikv_status status)
        : bus_(bus), handle_(handle), status_(status)
    {
    }
    subscription(subscription &&other) noexcept
        : bus_(std::exchange(other.bus_, nullptr)), handle_(other.handle_),
          status_(other.status_)
    {
    }
    subscription &operator=(subscription &&other) noexcept
    {
        if (this != &other) {
            end();
            bus_ = std::exchange(other.bus_, nullptr);
            handle_ = other.handle_;
            status_ = other.status_;
        }
        return *this;
    }
    subscription(const subscription &) = delete;
    subscription &operator=(const subscription &) = delete;
    ~subscription()
    {
        end();
    }

    /* Why there is none, or IKV_OK. */
    ikv_status status() const
    {
        return status_;
    }
    explicit operator bool() const
    {
        return bus_ != nullptr && ikv_bus_subscribed(bus_, handle_);
    }
    ikv_subscription handle() const
    {
        return handle_;
    }
    void end()
    {
        if (bus_ != nullptr)
            ikv_bus_unsubscribe(bus_, handle_);
        bus_ = nullptr;
    }
    /* Leaves the subscription to the bus: it ends with its target, its owner
     * or the bus. */
    ikv_subscription let_go()
    {
        bus_ = nullptr;
        return handle_;
    }

  private:
    ikv_bus *bus_ = nullptr;
    ikv_subscription handle_ = {0};
    ikv_status status_ = IKV_ABSENT;
};

namespace detail {

template <typename R> ikv_verdict verdict(R returned)
{
    static_assert(
        !std::is_same_v<R, bool>,
        "a handler returns IKV_STOP, IKV_CONTINUE or nothing, no bool");
    return static_cast<ikv_verdict>(returned);
}

template <typename F>
ikv_verdict call(F &f, const ikv_event &event, const ikv_delivery &delivery)
{
    if constexpr (std::is_invocable_v<F &, const ikv_event &,
                                      const ikv_delivery &>) {
        if constexpr (std::is_void_v<std::invoke_result_t<
                          F &, const ikv_event &, const ikv_delivery &>>) {
            f(event, delivery);
            return IKV_CONTINUE;
        } else {
            return verdict(f(event, delivery));
        }
    } else {
        if constexpr (std::is_void_v<
                          std::invoke_result_t<F &, const ikv_event &>>) {
            f(event);
            return IKV_CONTINUE;
        } else {
            return verdict(f(event));
        }
    }
}

template <typename F>
ikv_verdict trampoline(const ikv_event *event, const ikv_delivery *delivery,
                       void *user) noexcept
{
    return call(*static_cast<F *>(user), *event, *delivery);
}

template <typename F> void destroy(void *user) noexcept
{
    delete static_cast<F *>(user);
}

} // namespace detail

/* Subscribes a callable with everything that the config says; its handler,
 * user and on_drop are taken over. */
template <typename F>
subscription subscribe(ikv_bus *bus, ikv_subscription_config config, F &&f,
                       ikv_message *message = nullptr)
{
    using callable = std::decay_t<F>;
    auto kept = std::make_unique<callable>(std::forward<F>(f));
    ikv_subscription handle = {0};
    config.handler = detail::trampoline<callable>;
    config.user = kept.get();
    config.on_drop = detail::destroy<callable>;
    ikv_status status = ikv_bus_subscribe(bus, &config, &handle, message);
    if (status != IKV_OK)
        return subscription(nullptr, handle, status);
    kept.release();
    return subscription(bus, handle, status);
}

/* The short way: one kind at one target; {0} is everywhere. */
template <typename F>
subscription hear(ikv_bus *bus, ikv_kind kind, ikv_target at, F &&f)
{
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = kind;
    config.at = at;
    return subscribe(bus, config, std::forward<F>(f));
}

/* One action's start, hold or end (IKV_ACTION_STARTED ...), at whatever target: as
 * ikv_actions_hear(), of the actions that tell this bus. An action that is not
 * there is not refused, but never heard. */
template <typename F>
subscription hear(ikv_bus *bus, ikv_action_id action, uint32_t state, F &&f)
{
    if (state > IKV_ACTION_ENDED)
        return subscription(nullptr, {0}, IKV_BAD_ARGUMENT);
    ikv_condition its = {};
    its.field = "action";
    its.comparison = IKV_EQUAL;
    its.value.type = IKV_VALUE_INTEGER;
    its.value.bits.integer = action.bits;
    ikv_subscription_config config = IKV_SUBSCRIPTION_INIT;
    config.kind = static_cast<ikv_kind>(IKV_KIND_ACTION_START + state);
    config.conditions = &its;
    config.condition_count = 1;
    return subscribe(bus, config, std::forward<F>(f));
}

} // namespace ikvar

#endif
