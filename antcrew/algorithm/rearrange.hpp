// Items put in another order, in place.
//
//   std::size_t deep = partition(crew, echoes, [](const Echo& e) { return e.depth > 40; });   // so many pass: in front
//   std::size_t left = unique(crew, tags);                   // of equal neighbours the first stays; tags.resize(left)
//   nth_element(crew, gauges, 500);                          // the 500th is where sorting would put it
//   partial_sort(crew, gauges, 20);                          // the 20 smallest in front, sorted
//   reverse(crew, row);  rotate(crew, row, 100);             // row[100] becomes the first
//
// Like the standard library's sequential algorithms; partition keeps the order on both sides, as stable_partition does,
// and unique leaves the others behind its result, in their old order. A test or comparison may be called by several
// workers at once; an exception of it comes out, and all items are there then, in what order is not known (with
// partition and unique: in the old one). Needs room for one more copy of the items, but for reverse and rotate; throws
// std::bad_alloc before anything was moved. Moving an item must not throw. Any crew of threads; it is held from
// beginning to end.
// Cost: partition and unique one test an item and two moves; nth_element some one and a half times that, and with one
// worker what the standard library takes; partial_sort besides sorting so many; reverse one swap for two items, rotate
// one an item.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <functional>
#include <iterator>
#include <memory>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/algorithm/sort.hpp"
#include "antcrew/crew/column.hpp"

namespace antcrew {

namespace internal {

// Items of a range, moved to where their class puts them: those of class 0 in front, and each class in its old order.
template <class Crew, class At, std::size_t classes>
class Sorter {
  using T = std::iter_value_t<At>;
  static_assert(std::is_nothrow_move_constructible_v<T> && std::is_nothrow_move_assignable_v<T>,
                "items are moved between workers: moving one must not throw");

 public:
  Sorter(const OverItems<Crew, ItemsFrom<At>>& items, At first)
      : items_(items), first_(first), classes_(items.size()), buffer_(Column<T>::allocate(items.size())) {}
  ~Sorter() { Column<T>::release(buffer_); }
  Sorter(const Sorter&) = delete;
  Sorter& operator=(const Sorter&) = delete;

  // Of items first … last - 1, by class_of(index), which is asked for all before anything is moved. Returns how many
  // are in each class.
  template <class ClassOf>
  std::array<std::size_t, classes> sort(Range of, ClassOf&& class_of) {
    const std::size_t n = of.size();
    const std::size_t ranges = fixed_ranges(n);
    std::vector<std::array<std::size_t, classes>> begins(ranges + 1);
    items_.parts(n, ranges, [&](Range part, std::size_t k) {
      std::array<std::size_t, classes> counts{};
      for (const std::size_t i : part) {
        const std::size_t its = class_of(of.first + i);
        classes_[of.first + i] = static_cast<unsigned char>(its);
        ++counts[its];
      }
      begins[k] = counts;
    });
    std::array<std::size_t, classes> sizes{};
    std::size_t next = of.first;
    for (std::size_t its = 0; its < classes; ++its) {
      for (std::size_t k = 0; k < ranges; ++k) {
        const std::size_t count = std::exchange(begins[k][its], next);
        next += count;
        sizes[its] += count;
      }
    }
    if (std::find(sizes.begin(), sizes.end(), n) != sizes.end()) return sizes;
    items_.parts(n, ranges, [&](Range part, std::size_t k) {
      std::array<std::size_t, classes> to = begins[k];
      for (const std::size_t i : part)
        std::construct_at(buffer_ + to[classes_[of.first + i]]++, std::move(item(of.first + i)));
    });
    items_.parts(n, ranges, [&](Range part, std::size_t) {
      for (const std::size_t i : part) {
        item(of.first + i) = std::move(buffer_[of.first + i]);
        std::destroy_at(buffer_ + of.first + i);
      }
    });
    return sizes;
  }

 private:
  std::iter_reference_t<At> item(std::size_t i) const { return first_[static_cast<std::iter_difference_t<At>>(i)]; }

  const OverItems<Crew, ItemsFrom<At>>& items_;
  At first_;
  std::vector<unsigned char> classes_;
  T* buffer_;
};

template <class Crew, class All>
using OverAll = OverItems<Crew, ItemsFrom<decltype(std::begin(std::declval<All&>()))>>;

// Narrows the stretch around the place until it is small, by three classes: before, between two of its items, and
// behind. The two are those of a sample whose ranks lie around the place's share of the stretch (after Floyd and Rivest
// 1975, "Expected time bounds for selection"); where they are equal, the one in the middle alone is a class.
template <class Crew, class At, class Less>
void find_nth(const OverItems<Crew, ItemsFrom<At>>& items, At first, std::size_t nth, Less& less) {
  constexpr std::size_t small = 16;
  constexpr std::size_t few_samples = 7;  // compared one after the other
  constexpr std::size_t most_samples = 255;
  constexpr std::size_t many_items = 65'536;
  using T = std::iter_value_t<At>;
  const auto at = [&](std::size_t i) -> decltype(auto) { return first[static_cast<std::iter_difference_t<At>>(i)]; };
  Range left{0, items.size()};
  if (items.workers() == 1 && items.size() > many_items) left.last = 0;  // nobody to share the passes with
  if (left.size() > small) {
    Sorter<Crew, At, 3> sorter(items, first);
    bool apart = true;  // of many items the two pivots are; else there is one
    while (left.size() > small) {
      const std::size_t samples = left.size() > many_items ? most_samples : std::min(few_samples, left.size() / 16 | 1);
      std::array<std::size_t, most_samples> chosen;
      for (std::size_t k = 0; k < samples; ++k) chosen[k] = left.first + even_part(left.size(), samples, k).first;
      std::sort(chosen.begin(), chosen.begin() + static_cast<std::ptrdiff_t>(samples),
                [&](std::size_t a, std::size_t b) { return less(at(a), at(b)); });
      const std::size_t rank = (nth - left.first) * samples / left.size();
      const std::size_t beside = apart && left.size() > many_items ? samples / 16 + 1 : 0;
      const std::size_t low = chosen[rank - std::min(rank, beside)];
      const std::size_t high = chosen[std::min(rank + beside, samples - 1)];
      const bool equal = !less(at(low), at(high));
      const auto sizes = sorter.sort(left, [&](std::size_t i) -> std::size_t {
        const T& its = at(i);
        return less(its, at(low)) ? 0 : less(at(high), its) ? 2 : 1;
      });
      const std::size_t before = left.size();
      if (nth < left.first + sizes[0]) {
        left.last = left.first + sizes[0];
      } else if (nth < left.first + sizes[0] + sizes[1]) {
        if (equal) return;
        left = {left.first + sizes[0], left.first + sizes[0] + sizes[1]};
      } else {
        left.first += sizes[0] + sizes[1];
      }
      apart = left.size() < before;  // of few different values two may have all between them
    }
  } else {
    left.last = items.size();
  }
  const auto step = [&](std::size_t i) { return first + static_cast<std::iter_difference_t<At>>(i); };
  items.parts(1, 1, [&](Range, std::size_t) { std::nth_element(step(left.first), step(nth), step(left.last), less); });
}

}  // namespace internal

// Returns how many pass: they are in front, in their old order, and the others behind them in theirs.
template <class Crew, internal::Items All, class Test>
std::size_t stable_partition(Crew& crew, All&& all, Test&& test, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  internal::Sorter<Crew, decltype(std::begin(all)), 2> sorter(items, std::begin(all));
  return sorter.sort({0, items.size()}, [&](std::size_t i) { return test(items[i]) ? 0u : 1u; })[0];
}
template <class Crew, internal::Items All, class Test>
std::size_t partition(Crew& crew, All&& all, Test&& test, CallPlace at = CallPlace::here()) {
  return antcrew::stable_partition(crew, all, test, at);
}

// Returns how many are left: of equal neighbours the first.
template <class Crew, internal::Items All, class Same = std::equal_to<>>
std::size_t unique(Crew& crew, All&& all, Same same = {}, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  internal::Sorter<Crew, decltype(std::begin(all)), 2> sorter(items, std::begin(all));
  return sorter.sort({0, items.size()},
                     [&](std::size_t i) { return i == 0 || !same(items[i - 1], items[i]) ? 0u : 1u; })[0];
}

// The item that sorting would put there is at `nth`; none before it is greater, and none behind it less.
template <class Crew, internal::Items All, class Less = std::less<>>
void nth_element(Crew& crew, All&& all, std::size_t nth, Less less = {}, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  if (nth < items.size()) internal::find_nth(items, std::begin(all), nth, less);
}

// The `count` smallest in front, sorted.
template <class Crew, internal::Items All, class Less = std::less<>>
void partial_sort(Crew& crew, All&& all, std::size_t count, Less less = {}, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  if (count == 0) return;
  const std::size_t sorted = std::min(count, items.size());
  if (sorted < items.size()) internal::find_nth(items, std::begin(all), sorted - 1, less);
  const auto first = std::begin(all);
  antcrew::sort(crew, first, first + static_cast<std::iter_difference_t<decltype(first)>>(sorted), less);
}

namespace internal {

template <class Items, class At>
void reverse_part(const Items& items, At first, Range of) {
  items.each(of.size() / 2, [&](std::size_t i) {
    using Step = std::iter_difference_t<At>;
    std::iter_swap(first + static_cast<Step>(of.first + i), first + static_cast<Step>(of.last - 1 - i));
  });
}

}  // namespace internal

template <class Crew, internal::Items All>
void reverse(Crew& crew, All&& all, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  internal::reverse_part(items, std::begin(all), {0, items.size()});
}

// The item at `to_front` becomes the first. Returns where the one that was the first is now.
template <class Crew, internal::Items All>
std::size_t rotate(Crew& crew, All&& all, std::size_t to_front, CallPlace at = CallPlace::here()) {
  const internal::OverAll<Crew, All> items(crew, internal::items_of(all), at);
  const std::size_t n = items.size();
  if (to_front == 0 || to_front >= n) return n == 0 || to_front >= n ? 0 : n;
  internal::reverse_part(items, std::begin(all), {0, to_front});
  internal::reverse_part(items, std::begin(all), {to_front, n});
  internal::reverse_part(items, std::begin(all), {0, n});
  return n - to_front;
}

}  // namespace antcrew
