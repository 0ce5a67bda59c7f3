// The items that pass a test, in their order.
//
//   Column<Echo> deep = filter(crew, echoes, [](const Echo& e) { return e.depth > 40; });
//   Column<std::size_t> where = filter(crew, n, [&](std::size_t i) { return … ; });      // the indices of 0 … n-1
//
// The test is called once for every item, by several workers at once; the items that passed are then copied, each
// worker writing its own stretch. Needs one bit for each item besides the answer. An exception of the test or of a copy
// comes out; nothing else has changed then. Any crew of threads; the crew is held from beginning to end.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <iterator>
#include <memory>
#include <new>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

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
  std::vector<std::uint64_t> passed(words);
  std::vector<std::size_t> begins(ranges + 1, 0);
  crew.steps(ranges, n, Crew::small_pieces(1), [&](std::size_t range) {
    std::size_t count = 0;
    for (const std::size_t w : parts[range]) {
      const Range items = items_of(w);
      std::uint64_t bits = 0;
      for (const std::size_t i : items) bits |= std::uint64_t{test(at(i)) ? 1u : 0u} << (i - items.first);
      passed[w] = bits;
      count += static_cast<std::size_t>(std::popcount(bits));
    }
    begins[range + 1] = count;
  });
  for (std::size_t range = 0; range < ranges; ++range) begins[range + 1] += begins[range];
  Stretches<T> stretches(begins[ranges], ranges);
  crew.steps(ranges, n, Crew::small_pieces(1), [&](std::size_t range) {
    typename Stretches<T>::Stretch stretch(stretches, range, begins[range]);
    for (const std::size_t w : parts[range]) {
      const std::size_t first = items_of(w).first;
      for (std::uint64_t bits = passed[w]; bits != 0; bits &= bits - 1)
        stretch.add(at(first + static_cast<std::size_t>(std::countr_zero(bits))));
    }
  });
  return std::move(stretches).finished();
}

}  // namespace internal

template <class Crew, internal::Items All, class Test>
auto filter(Crew& crew, const All& items, Test&& test) {
  const auto first = std::begin(items);
  using Step = std::iter_difference_t<decltype(first)>;
  using T = std::iter_value_t<decltype(first)>;
  const auto held = crew.hold();
  if (std::size(items) == 0) return Column<T>();
  return internal::filtered<T>(
      crew, std::size(items), [&](std::size_t i) -> decltype(auto) { return first[static_cast<Step>(i)]; }, test);
}

template <class Crew, class Test>
Column<std::size_t> filter(Crew& crew, std::size_t n, Test&& test) {
  const auto held = crew.hold();
  if (n == 0) return {};
  return internal::filtered<std::size_t>(
      crew, n, [](std::size_t i) { return i; }, test);
}

}  // namespace antcrew
