#pragma once
// A call handed on: a function, or a lambda, that takes part in one call and isn't kept.

#include <concepts>
#include <type_traits>
#include <utility>

#include <nuvrat/bytes.h>

namespace NUVRAT_API nuvrat {

template <typename Signature>
class FunctionRef;

/// Can be called with these arguments, and is no reference to a call already.
template <typename Callable, typename Ref, typename Result, typename... Args>
concept HandedOn = !std::same_as<std::remove_cvref_t<Callable>, Ref> &&
                   std::is_invocable_r_v<Result, Callable&, Args...>;

/// Refers to anything that can be called so; what it refers to must live as long as it is used. As
/// a parameter it takes a lambda where the call is written.
template <typename Result, typename... Args>
class FunctionRef<Result(Args...)> {
 public:
  // The constraint keeps copies out, which the linter doesn't see.
  template <HandedOn<FunctionRef, Result, Args...> Callable>
  FunctionRef(Callable&& callable) noexcept {  // NOLINT(bugprone-forwarding-reference-overload)
    using Object = std::remove_reference_t<Callable>;
    if constexpr (std::is_function_v<Object>) {
      target_.function = reinterpret_cast<void (*)()>(&callable);
      call_ = [](Target target, Args... args) -> Result {
        return reinterpret_cast<Object*>(target.function)(std::forward<Args>(args)...);
      };
    } else {
      target_.object = const_cast<void*>(static_cast<const void*>(&callable));
      call_ = [](Target target, Args... args) -> Result {
        return (*static_cast<Object*>(target.object))(std::forward<Args>(args)...);
      };
    }
  }

  Result operator()(Args... args) const { return call_(target_, std::forward<Args>(args)...); }

 private:
  union Target {
    void* object;
    void (*function)();
  };
  Target target_{};
  Result (*call_)(Target, Args...);
};

/// Takes bytes, in pieces.
using ByteSink = FunctionRef<void(ByteView)>;

}  // namespace nuvrat
