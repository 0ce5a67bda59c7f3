// Answers of functions that may return nothing.
#pragma once

#include <type_traits>

namespace antcrew::internal {

struct Nothing {};
template <class T>
using VoidResult = std::conditional_t<std::is_void_v<T>, Nothing, T>;

template <class Fn>
auto result_of(Fn& fn) -> VoidResult<std::decay_t<std::invoke_result_t<Fn&>>> {
  if constexpr (std::is_void_v<std::invoke_result_t<Fn&>>) {
    fn();
    return {};
  } else {
    return fn();
  }
}

}  // namespace antcrew::internal
