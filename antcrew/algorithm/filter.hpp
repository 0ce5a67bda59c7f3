// The items that pass a test, in their order.
//
//   Column<Echo> deep = filter(crew, echoes, [](const Echo& e) { return e.depth > 40; });
//   Column<std::size_t> where = filter(crew, n, [&](std::size_t i) { return … ; });      // the indices of 0 … n-1
//
// The test is called once for every item, by several workers at once; the items that passed are then copied, each
// worker writing its own stretch; where it is too little work to be shared, the caller copies as it tests. Needs one
// bit for each item besides the answer, and the caller by itself room for 64 KiB of items. An exception of the test or
// of a copy comes out; nothing else has changed then. Any crew of threads; the crew is held from beginning to end.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <iterator>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

// What the caller found by itself, of little work: copied as it is tested, and moved to where the rest goes.
template <class T>
class FoundAlone {
 public:
  explicit FoundAlone(std::size_t most) : room_(Column<T>::allocate(most)) {}
  FoundAlone(const FoundAlone&) = delete;
  FoundAlone& operator=(const FoundAlone&) = delete;
  ~FoundAlone() {
    std::destroy_n(room_, count_);
    Column<T>::release(room_);
  }
  std::size_t count() const noexcept { return count_; }
  // item: given to the test, and copied if it passes. Plain ones are copied in any case, to where the next one goes: no
  // branch to be foretold.
  template <class From, class Test>
  void add_if(From&& item, Test& test) {
    if constexpr (std::is_trivially_copyable_v<T> && std::is_trivially_copyable_v<std::remove_cvref_t<From>>) {
      const bool passed = test(std::as_const(item)) ? true : false;
      ::new (static_cast<void*>(room_ + count_)) T(std::forward<From>(item));
      count_ += passed ? 1 : 0;
    } else if (test(std::as_const(item))) {
      ::new (static_cast<void*>(room_ + count_)) T(std::forward<From>(item));
      ++count_;
    }
  }
  void move_to(T* to) noexcept { std::uninitialized_move_n(room_, count_, to); }
  Column<T> column() {
    T* data = Column<T>::allocate(count_);
    move_to(data);
    return Column<T>::adopt(data, count_);
  }

 private:
  T* room_;
  std::size_t count_ = 0;
};

// What has been copied so far of each range; undone when a copy throws.
template <class T>
class Stretches {
 public:
  Stretches(std::size_t n, std::size_t ranges) : made_(ranges), data_(Column<T>::allocate(n)), n_(n) {}
  Stretches(const Stretches&) = delete;
  Stretches& operator=(const Stretches&) = delete;
  ~Stretches() {
    if (data_ == nullptr) return;
    for (const Range& made : made_) std::destroy(data_ + made.first, data_ + made.last);
    Column<T>::release(data_);
  }
  // One range's; what it made is noted at its end, also when a copy throws.
  class Stretch {
   public:
    Stretch(Stretches& all, std::size_t range, std::size_t first) noexcept
        : data_(all.data_), note_(all.made_[range]), made_{first, first} {}
    ~Stretch() { note_ = made_; }
    Stretch(const Stretch&) = delete;
    Stretch& operator=(const Stretch&) = delete;
    template <class From>
    void add(From&& from) {
      ::new (static_cast<void*>(data_ + made_.last)) T(std::forward<From>(from));
      ++made_.last;
    }

   private:
    T* data_;
    Range& note_;
    Range made_;
  };
  // What was found alone goes to the front, noted as of this range.
  void take(FoundAlone<T>& found, std::size_t range) noexcept {
    found.move_to(data_);
    made_[range] = {0, found.count()};
  }
  Column<T> finished() && noexcept { return Column<T>::adopt(std::exchange(data_, nullptr), n_); }

 private:
  std::vector<Range> made_;
  T* data_;  // the last that can be refused
  std::size_t n_;
};

// at(i): the item that the index stands for.
template <class T, class Crew, class At, class Test>
Column<T> filtered(Crew& crew, std::size_t n, const At& at, Test& test) {
  // A word of bits for each range, where that is enough; else ranges of whole words: no two workers write to the same.
  constexpr std::size_t word = 64;
  const bool few = n <= word * fixed_ranges(~std::size_t{0});
  const std::size_t words = few ? fixed_ranges(n) : (n - 1) / word + 1;
  const std::size_t ranges = fixed_ranges(words);
  const EvenParts parts(words, ranges);
  const EvenParts few_items(n, words);
  const auto items_of = [&](std::size_t w) {
    return few ? few_items[w] : Range{w * word, n - w * word < word ? n : (w + 1) * word};
  };
  constexpr std::size_t most_alone_bytes = 1u << 16;
  const bool alone = few && n <= most_alone_bytes / sizeof(T) && std::is_nothrow_move_constructible_v<T>;
  FoundAlone<T> first(alone ? n : 0);
  std::size_t done = 0;
  if constexpr (std::is_nothrow_move_constructible_v<T>) {
    if (alone) {
      done = crew.first_steps(ranges, n, [&](std::size_t range) {
        for (const std::size_t w : parts[range]) {
          for (const std::size_t i : items_of(w)) first.add_if(at(i), test);
        }
      });
      if (done == ranges) return first.column();
    }
  }
  const std::size_t left = ranges - done;
  std::vector<std::size_t> begins(left + 1, 0);
  begins[0] = first.count();
  std::vector<std::uint64_t> passed(words);
  // What is not worth sharing is found out once.
  const auto for_all_left = [&](auto&& body) {
    if (alone) {
      crew.each(left, Crew::small_pieces(1), body);
    } else {
      crew.steps(left, n, Crew::small_pieces(1), body);
    }
  };
  for_all_left([&](std::size_t k) {
    std::size_t count = 0;
    for (const std::size_t w : parts[done + k]) {
      const Range items = items_of(w);
      std::uint64_t bits = 0;
      for (const std::size_t i : items) bits |= std::uint64_t{test(at(i)) ? 1u : 0u} << (i - items.first);
      passed[w] = bits;
      count += static_cast<std::size_t>(std::popcount(bits));
    }
    begins[k + 1] = count;
  });
  for (std::size_t k = 0; k < left; ++k) begins[k + 1] += begins[k];
  Stretches<T> stretches(begins[left], left + 1);
  if constexpr (std::is_nothrow_move_constructible_v<T>) stretches.take(first, left);
  for_all_left([&](std::size_t k) {
    typename Stretches<T>::Stretch stretch(stretches, k, begins[k]);
    for (const std::size_t w : parts[done + k]) {
      const std::size_t from = items_of(w).first;
      for (std::uint64_t bits = passed[w]; bits != 0; bits &= bits - 1)
        stretch.add(at(from + static_cast<std::size_t>(std::countr_zero(bits))));
    }
  });
  return std::move(stretches).finished();
}

}  // namespace internal

template <class Crew, internal::Items All, class Test>
auto filter(Crew& crew, const All& items, Test&& test, CallPlace at = CallPlace::here()) {
  const auto first = std::begin(items);
  using Step = std::iter_difference_t<decltype(first)>;
  using T = std::iter_value_t<decltype(first)>;
  const internal::HeldFrom<Crew> held(crew, at);
  if (std::size(items) == 0) return Column<T>();
  return internal::filtered<T>(
      crew, std::size(items), [&](std::size_t i) -> decltype(auto) { return first[static_cast<Step>(i)]; }, test);
}

template <class Crew, class Test>
Column<std::size_t> filter(Crew& crew, std::size_t n, Test&& test, CallPlace at = CallPlace::here()) {
  const internal::HeldFrom<Crew> held(crew, at);
  if (n == 0) return {};
  return internal::filtered<std::size_t>(
      crew, n, [](std::size_t i) { return i; }, test);
}

}  // namespace antcrew
