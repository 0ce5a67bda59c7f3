// Numbers sorted digit by digit, the lowest first, each pass keeping the order of the one before (Knuth 1998, "The Art
// of Computer Programming", volume 3, section 5.2.5): no comparison, and the same time whatever their order and values,
// unless they are sorted already or have digits in common, which costs less.
//
// Beyond the cache a pass over many numbers costs as much as some five comparisons each, so numbers with more than five
// digits that differ (random ones of 64 bits) are left to those who compare: is_worth_it().
//
// Each pass: every part of the elements counts its digits, the parts' places in the output follow from that, and every
// part writes its elements there. A part goes to one worker, no two write to the same place.
#pragma once

#include <algorithm>
#include <array>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <iterator>
#include <memory>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/base/smaller.hpp"
#include "antcrew/crew/column.hpp"

namespace antcrew::internal {

template <class Less, class T>
inline constexpr bool ascends = std::is_same_v<Less, std::less<>> || std::is_same_v<Less, std::less<T>>;
template <class Less, class T>
inline constexpr bool descends_by = std::is_same_v<Less, std::greater<>> || std::is_same_v<Less, std::greater<T>>;

// Whole numbers in memory one after the other, compared as such. Not floating point: zeroes of both signs are equal
// there, and no digits say so.
template <class At, class Less>
concept ByDigits = std::contiguous_iterator<At> && std::integral<std::iter_value_t<At>> &&
                   !std::is_same_v<std::iter_value_t<At>, bool> &&
                   sizeof(std::iter_value_t<At>) <= 8 &&
                   (ascends<Less, std::iter_value_t<At>> || descends_by<Less, std::iter_value_t<At>>);

template <class Crew, class T, bool descending>
class DigitSort {
  using Bits = std::make_unsigned_t<T>;
  static constexpr unsigned digit_bits = 8;
  static constexpr std::size_t values = 1u << digit_bits;
  static constexpr std::size_t digits = sizeof(T);
  using Counts = std::array<std::size_t, values>;
  struct Seen {
    bool ordered = true;
    Bits differ = 0;
  };

 public:
  // Throws std::bad_alloc.
  DigitSort(Crew& crew, T* first, std::size_t n)
      : crew_(crew), first_(first), n_(n), parts_(parts_for(n, crew.workers())), seen_(parts_), counts_(parts_) {}
  DigitSort(const DigitSort&) = delete;
  DigitSort& operator=(const DigitSort&) = delete;
  ~DigitSort() { Column<T>::release(buffer_); }

  // First of all: whether they are in order already. Moves nothing.
  bool are_sorted() {
    tasks([&](std::size_t part) {
      const Range mine = even_part(n_, parts_, part);
      const Bits one = bits_of(first_[0]);
      Bits before = bits_of(first_[mine.first == 0 ? 0 : mine.first - 1]);
      Seen here;
      for (const std::size_t i : mine) {
        const Bits bits = bits_of(first_[i]);
        here.ordered &= before <= bits;
        here.differ = static_cast<Bits>(here.differ | (bits ^ one));
        before = bits;
      }
      seen_[part] = here;
    });
    bool ordered = true;
    for (const Seen& part : seen_) {
      ordered &= part.ordered;
      differ_ = static_cast<Bits>(differ_ | part.differ);
    }
    return ordered;
  }
  bool is_worth_it() const noexcept {
    constexpr std::size_t in_cache = 131'072;
    constexpr int most_passes = 5;
    int passes = 0;
    for (unsigned digit = 0; digit < digits; ++digit) passes += differs(digit) ? 1 : 0;
    return n_ <= in_cache || passes <= most_passes;
  }

  // Throws std::bad_alloc, before anything was moved.
  void sort() {
    buffer_ = Column<T>::allocate(n_);
    T* from = first_;
    T* to = buffer_;
    for (unsigned digit = 0; digit < digits; ++digit) {
      if (!differs(digit)) continue;
      tasks([&](std::size_t part) { count(from, part, digit); });
      find_places();
      tasks([&](std::size_t part) { move(from, to, part, digit); });
      std::swap(from, to);
    }
    if (from == first_) return;
    tasks([&](std::size_t part) {
      const Range mine = even_part(n_, parts_, part);
      std::copy(from + mine.first, from + mine.last, first_ + mine.first);
    });
  }

 private:
  // Two a worker, so that a late one can be helped; few enough that finding their places takes no time.
  static std::size_t parts_for(std::size_t n, int workers) noexcept {
    constexpr std::size_t least = 65'536;
    return smaller_of(workers == 1 ? 1 : 2 * static_cast<std::size_t>(workers), n / least + 1);
  }
  template <class Fn>
  void tasks(Fn&& fn) {
    if (parts_ == 1) return fn(0);
    crew_.each(parts_, Crew::small_pieces(1), fn);
  }
  static Bits bits_of(T x) noexcept {
    Bits bits = static_cast<Bits>(x);
    if constexpr (std::is_signed_v<T>) bits = static_cast<Bits>(bits ^ (Bits{1} << (8 * sizeof(T) - 1)));
    if constexpr (descending) bits = static_cast<Bits>(~bits);
    return bits;
  }
  static std::size_t digit_of(T x, unsigned digit) noexcept {
    return static_cast<std::size_t>(bits_of(x) >> (digit_bits * digit)) % values;
  }

  bool differs(unsigned digit) const noexcept {
    return static_cast<std::size_t>(differ_ >> (digit_bits * digit)) % values != 0;
  }
  void count(const T* from, std::size_t part, unsigned digit) noexcept {
    Counts here{};
    for (const std::size_t i : even_part(n_, parts_, part)) ++here[digit_of(from[i], digit)];
    counts_[part] = here;
  }
  // From how many there are to where the first one goes: lower digits first, of one digit earlier parts first.
  void find_places() noexcept {
    std::size_t place = 0;
    for (std::size_t value = 0; value < values; ++value) {
      for (Counts& part : counts_) place += std::exchange(part[value], place);
    }
  }
  void move(const T* from, T* to, std::size_t part, unsigned digit) noexcept {
    Counts places = counts_[part];
    for (const std::size_t i : even_part(n_, parts_, part)) to[places[digit_of(from[i], digit)]++] = from[i];
  }

  Crew& crew_;
  T* first_;
  std::size_t n_;
  std::size_t parts_;
  std::vector<Seen> seen_;      // by part
  std::vector<Counts> counts_;  // of the digit under way, by part; then where each part's next one goes
  Bits differ_ = 0;             // bits that are not the same in all
  T* buffer_ = nullptr;
};

}  // namespace antcrew::internal
