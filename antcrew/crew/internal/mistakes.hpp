// What is wrong with a body, said at compile time in one sentence: the checks that loops and crews make first.
//
// Each gives false, after its static assertion, so that the rest is left out and no further errors follow.
#pragma once

#include <concepts>
#include <cstddef>
#include <type_traits>

#include "antcrew/base/range.hpp"

namespace antcrew::internal {

// Stands where a result would be, once a mistake has been told.
struct AfterMistake {
  template <class T>
  operator T() const;
};

// body(i). `Also...` are what it gets besides.
template <class Body, class... Also>
constexpr bool takes_index() {
  constexpr bool index = std::invocable<Body&, std::size_t, Also...>;
  if constexpr (!index) {
    constexpr bool range = std::invocable<Body&, Range, Also...>;
    static_assert(!range,
                  "this loop calls its body with one index at a time, and the body takes a Range: use ranges(), or let "
                  "the body take a std::size_t");
    static_assert(range, "this loop calls its body with an index: the body must take a std::size_t");
  }
  return index;
}

// body(Range).
template <class Body, class... Also>
constexpr bool takes_range() {
  constexpr bool range = std::invocable<Body&, Range, Also...>;
  if constexpr (!range) {
    constexpr bool index = std::invocable<Body&, std::size_t, Also...>;
    static_assert(
        !index,
        "this loop calls its body with a Range, and the body takes an index: use each(), or let the body take a "
        "Range and go from its first to before its last");
    static_assert(index, "this loop calls its body with a Range: the body must take one");
  }
  return range;
}

// fn(i) -> value.
template <class Fn>
constexpr bool makes_items() {
  if constexpr (takes_index<Fn>()) {
    constexpr bool value = !std::is_void_v<std::invoke_result_t<Fn&, std::size_t>>;
    static_assert(value, "the body of collect() returns nothing: it must return the item of its index");
    return value;
  } else {
    return false;
  }
}

// per_range(Range) -> part.
template <class PerRange>
constexpr bool makes_parts() {
  if constexpr (takes_range<PerRange>()) {
    constexpr bool value = !std::is_void_v<std::invoke_result_t<PerRange&, Range>>;
    static_assert(value, "the body of fold() returns nothing: it must return the result of its range");
    return value;
  } else {
    return false;
  }
}

}  // namespace antcrew::internal
