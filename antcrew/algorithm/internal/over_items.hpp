// What every algorithm begins with: items by index, the crew held, the caller's place in the source passed on.
//
//   template <class Crew, internal::Items All, class Test>
//   std::size_t count_if(Crew& crew, const All& items, Test&& test, CallPlace at = CallPlace::here()) {
//     const internal::OverItems over(crew, items, at);
//     return over.fold(std::size_t{0}, [&](Range range) { … over[i] … }, std::plus<>());
//   }
//
// A crew whose workers are processes does not see the caller's items: that is said by name when it is compiled.
#pragma once

#include <cstddef>
#include <iterator>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/base/smaller.hpp"
#include "antcrew/crew/crew_traits.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/items.hpp"
#include "antcrew/log/place.hpp"

namespace antcrew::internal {

// 0 … n-1, each item being its own index.
struct Indices {
  std::size_t n;
  std::size_t operator[](std::size_t i) const noexcept { return i; }
};

template <class At>
struct ItemsFrom {
  At first;
  std::size_t n;
  decltype(auto) operator[](std::size_t i) const { return first[static_cast<std::iter_difference_t<At>>(i)]; }
};

template <class Over>
auto items_of(Over& over) {
  if constexpr (std::is_integral_v<std::remove_cvref_t<Over>>) {
    return Indices{static_cast<std::size_t>(over)};
  } else {
    using At = decltype(std::begin(over));
    return ItemsFrom<At>{std::begin(over), static_cast<std::size_t>(std::size(over))};
  }
}

// What an algorithm goes over: a number of indices, or items.
template <class T>
concept CountOrItems = std::is_integral_v<std::remove_cvref_t<T>> || Items<std::remove_reference_t<T>>;

template <class Crew>
auto hold_of(Crew& crew) {
  if constexpr (shares_memory<Crew>) {
    return crew.hold();
  } else {
    return 0;
  }
}

// For the length of an algorithm: the crew is held, and its calls are the caller's.
template <class Crew>
class HeldFrom {
  static_assert(shares_memory<Crew>,
                "this algorithm needs a crew of threads (ThreadCrew, TaskCrew): workers that are processes do not see "
                "the caller's items; use their collect or fold");

 public:
  HeldFrom(Crew& crew, const CallPlace& at) : held_(hold_of(crew)), from_(at) {}
  HeldFrom(const HeldFrom&) = delete;
  HeldFrom& operator=(const HeldFrom&) = delete;

 private:
  decltype(hold_of(std::declval<Crew&>())) held_;
  CallsFrom from_;
};

template <class Crew, class From>
class OverItems {
 public:
  OverItems(Crew& crew, const From& from, const CallPlace& at) : crew_(crew), held_(crew, at), from_(from) {}
  OverItems(const OverItems&) = delete;
  OverItems& operator=(const OverItems&) = delete;

  std::size_t size() const noexcept { return from_.n; }
  int workers() const noexcept { return crew_.workers(); }
  Crew& crew() const noexcept { return crew_; }
  decltype(auto) operator[](std::size_t i) const { return from_[i]; }

  // per_range's results, combined in the order of the items; the borders depend on their number alone. Of none, `none`.
  template <class T, class PerRange, class Combine>
  T fold(T none, PerRange&& per_range, Combine&& combine) const {
    return crew_.fold(size(), std::move(none), per_range, combine);
  }
  // join(… join(make(0), make(1)) …), grouped in one way or another: where every grouping gives the same. Joins run at
  // the same time, too. None of no items.
  template <class Make, class Join>
  auto joined(Make&& make, Join&& join) const {
    using T = std::decay_t<std::invoke_result_t<Make&, std::size_t>>;
    constexpr std::size_t at_once = 4;
    if (size() == 0) return std::optional<T>();
    std::vector<T> level(smaller_of(size(), 4 * at_once * static_cast<std::size_t>(workers())));
    parts(size(), level.size(), [&](Range range, std::size_t k) {
      T own = make(range.first);
      for (std::size_t i = range.first + 1; i < range.last; ++i) own = join(own, make(i));
      level[k] = own;
    });
    while (level.size() > 1) {
      std::vector<T> next((level.size() - 1) / at_once + 1);
      parts(level.size(), next.size(), [&](Range range, std::size_t k) {
        T own = level[range.first];
        for (std::size_t i = range.first + 1; i < range.last; ++i) own = join(own, level[i]);
        next[k] = own;
      });
      level.swap(next);
    }
    return std::optional<T>(level.front());
  }
  // body(range, k) for the k-th of `parts` ranges, the same for every crew.
  template <class Body>
  void parts(std::size_t n, std::size_t parts, Body&& body) const {
    const EvenParts borders(n, parts);
    crew_.steps(parts, n, Crew::small_pieces(1), [&](std::size_t k) { body(borders[k], k); });
  }
  // body(i) for i of 0 … n-1, a few at a time to whoever is free.
  template <class Body>
  void each(std::size_t n, Body&& body) const {
    const std::size_t ranges = fixed_ranges(n);
    parts(n, ranges, [&](Range range, std::size_t) {
      for (const std::size_t i : range) body(i);
    });
  }

 private:
  Crew& crew_;
  HeldFrom<Crew> held_;
  From from_;
};

template <class Crew, class Over>
auto over_items(Crew& crew, Over&& over, const CallPlace& at) {
  return OverItems<Crew, decltype(items_of(over))>(crew, items_of(over), at);
}

}  // namespace antcrew::internal
