// Sorting with a crew, ThreadCrew or TaskCrew: any comparison, any type that moves without throwing.
//
//   sort(crew, readings);                                            // ascending
//   stable_sort(crew, tags, [](const Tag& a, const Tag& b) { return a.time < b.time; });
//
// Runs are sorted by the standard library's sequential algorithms, one a worker or more, and merged in parallel: each
// worker finds by bisection which elements make up its stretch of the merged output (Deo and Sarkar 1991, "Parallel
// algorithms for merging and sorting"). Needs room for one more copy of the elements; throws std::bad_alloc, before
// anything was moved, when there is none. An exception of the comparison comes out; as with std::sort all elements are
// then valid, their order and values are not known.
#pragma once

#include <algorithm>
#include <cstddef>
#include <functional>
#include <iterator>
#include <memory>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

// Below this the hand-out costs more than it saves.
inline constexpr std::size_t least_parallel_sort = 4096;

// How many of the first k elements of the merge of a[0 … na-1] and b[0 … nb-1] come from a; equal ones of a go first.
template <class A, class Less>
std::size_t from_first(A a, std::size_t na, A b, std::size_t nb, std::size_t k, Less& less) {
  using Step = std::iter_difference_t<A>;
  std::size_t low = k > nb ? k - nb : 0;
  std::size_t high = std::min(k, na);
  while (low < high) {
    const std::size_t i = low + (high - low) / 2;
    if (less(b[static_cast<Step>(k - i - 1)], a[static_cast<Step>(i)])) {
      high = i;
    } else {
      low = i + 1;
    }
  }
  return low;
}

// Merges [a, a_end) and [b, b_end) to out, all of them moved; out holds objects already (or plain bytes).
template <class In, class Out, class Less>
void merge_moving(In a, In a_end, In b, In b_end, Out out, Less& less) {
  using T = std::iter_value_t<In>;
  if constexpr (std::is_trivially_copyable_v<T> && sizeof(T) <= 16) {
    // Without a branch on the comparison: on random data it would be guessed wrong every other time.
    while (a != a_end && b != b_end) {
      const bool second = less(*b, *a);
      *out = second ? *b : *a;
      b += second ? 1 : 0;
      a += second ? 0 : 1;
      ++out;
    }
  } else {
    while (a != a_end && b != b_end) {
      if (less(*b, *a)) {
        *out = std::move(*b);
        ++b;
      } else {
        *out = std::move(*a);
        ++a;
      }
      ++out;
    }
  }
  std::move(b, b_end, std::move(a, a_end, out));
}

template <class Crew, class At, class Less, class SortRun>
class MergeSort {
  using T = std::iter_value_t<At>;
  using Step = std::iter_difference_t<At>;
  // Plain bytes need no objects to be made before they are written.
  static constexpr bool plain = std::is_trivially_copyable_v<T>;
  // More runs than workers level them, at the price of one more merge: too dear where elements are large.
  static constexpr std::size_t runs_each = plain && sizeof(T) <= 16 ? 2 : 1;

 public:
  MergeSort(Crew& crew, At first, std::size_t n, Less& less, const SortRun& sort_run)
      : crew_(crew),
        first_(first),
        n_(n),
        less_(less),
        sort_run_(sort_run),
        runs_(static_cast<std::size_t>(crew.workers()) * runs_each),
        made_(runs_, 0),
        buffer_(Column<T>::allocate(n)) {}
  MergeSort(const MergeSort&) = delete;
  MergeSort& operator=(const MergeSort&) = delete;
  ~MergeSort() {
    if constexpr (!plain) {
      for (std::size_t run = 0; run < runs_; ++run) {
        if (made_[run] != 0) std::destroy(buffer_ + border(run), buffer_ + border(run + 1));
      }
    }
    Column<T>::release(buffer_);
  }

  void sort() {
    std::size_t levels = 0;
    for (std::size_t reach = 1; reach < runs_; reach *= 2) ++levels;
    // The last merge must write to the caller's elements.
    bool in_buffer = levels % 2 == 1;
    const bool there_first = in_buffer || !plain;
    tasks(runs_, [&](std::size_t run) {
      sort_run_(at(border(run)), at(border(run + 1)));
      if (there_first) {
        std::uninitialized_move(at(border(run)), at(border(run + 1)), buffer_ + border(run));
        made_[run] = 1;
      }
    });
    if (!in_buffer && there_first) to_elements();
    for (std::size_t reach = 1; reach < runs_; reach *= 2, in_buffer = !in_buffer) {
      if (in_buffer) {
        merge_level(buffer_, first_, reach);
      } else {
        merge_level(first_, buffer_, reach);
      }
    }
  }

 private:
  std::size_t border(std::size_t run) const noexcept { return run == runs_ ? n_ : even_part(n_, runs_, run).first; }
  At at(std::size_t i) const { return first_ + static_cast<Step>(i); }
  std::size_t stretches() const noexcept { return static_cast<std::size_t>(crew_.workers()) * 4; }

  template <class Fn>
  void tasks(std::size_t count, Fn&& fn) {
    crew_.each(count, Crew::small_pieces(1), fn);
  }

  void to_elements() {
    tasks(stretches(), [&](std::size_t k) {
      const Range part = even_part(n_, stretches(), k);
      std::move(buffer_ + part.first, buffer_ + part.last, at(part.first));
    });
  }

  struct Pair {
    std::size_t begin, middle, end;
    std::size_t first_count() const noexcept { return middle - begin; }
  };
  // The two groups of `reach` runs each that begin at `run`.
  Pair pair_at(std::size_t run, std::size_t reach) const noexcept {
    return {border(run), border(std::min(run + reach, runs_)), border(std::min(run + 2 * reach, runs_))};
  }

  // Merges groups of runs in pairs. Every worker writes stretches of equal length, whatever pairs they are in. Where
  // stretches begin in both groups is found before anything is moved: an element that was can no longer be compared.
  template <class From, class To>
  void merge_level(From from, To to, std::size_t reach) {
    std::vector<std::size_t> cuts(stretches() + 1, 0);
    for (std::size_t run = 0; run < runs_; run += 2 * reach) find_cuts(from, pair_at(run, reach), cuts);
    tasks(stretches(), [&](std::size_t k) {
      const Range mine = even_part(n_, stretches(), k);
      for (std::size_t run = 0; run < runs_; run += 2 * reach) {
        const Pair pair = pair_at(run, reach);
        const Range out{std::max(pair.begin, mine.first), std::min(pair.end, mine.last)};
        if (out.first >= out.last) continue;
        const std::size_t a_low = out.first == pair.begin ? 0 : cuts[k];
        const std::size_t a_high = out.last == pair.end ? pair.first_count() : cuts[k + 1];
        merge_stretch(from, to, pair, out, {a_low, a_high});
      }
    });
  }

  // cuts[k]: how many of the elements before stretch k come from the first group of the pair it begins in.
  template <class From>
  void find_cuts(From from, const Pair& pair, std::vector<std::size_t>& cuts) {
    using FromStep = std::iter_difference_t<From>;
    for (std::size_t k = 1; k < stretches(); ++k) {
      const std::size_t at = even_part(n_, stretches(), k).first;
      if (at <= pair.begin || at >= pair.end) continue;
      cuts[k] = from_first(from + static_cast<FromStep>(pair.begin), pair.first_count(),
                           from + static_cast<FromStep>(pair.middle), pair.end - pair.middle, at - pair.begin, less_);
    }
  }

  // out: indices of the output; from_a: which elements of the first group go there.
  template <class From, class To>
  void merge_stretch(From from, To to, const Pair& pair, Range out, Range from_a) {
    const auto at = [&](std::size_t i) { return from + static_cast<std::iter_difference_t<From>>(i); };
    const std::size_t b_low = pair.middle + (out.first - pair.begin - from_a.first);
    const std::size_t b_high = pair.middle + (out.last - pair.begin - from_a.last);
    merge_moving(at(pair.begin + from_a.first), at(pair.begin + from_a.last), at(b_low), at(b_high),
                 to + static_cast<std::iter_difference_t<To>>(out.first), less_);
  }

  Crew& crew_;
  At first_;
  std::size_t n_;
  Less& less_;
  const SortRun& sort_run_;
  std::size_t runs_;
  std::vector<char> made_;  // runs whose objects lie in the buffer
  T* buffer_;
};

template <class Crew, class At, class Less, class SortRun>
void sort_runs(Crew& crew, At first, At last, Less& less, const SortRun& sort_run) {
  static_assert(std::is_nothrow_move_constructible_v<std::iter_value_t<At>> &&
                    std::is_nothrow_move_assignable_v<std::iter_value_t<At>>,
                "sorting in parallel moves elements between workers: moving one must not throw");
  const auto held = crew.hold();
  const auto n = static_cast<std::size_t>(last - first);
  if (crew.workers() == 1 || n < least_parallel_sort) return sort_run(first, last);
  MergeSort<Crew, At, Less, SortRun>(crew, first, n, less, sort_run).sort();
}

}  // namespace internal

template <class Crew, std::random_access_iterator At, class Less = std::less<>>
void sort(Crew& crew, At first, At last, Less less = {}) {
  internal::sort_runs(crew, first, last, less, [&](At from, At to) { std::sort(from, to, less); });
}

template <class Crew, Items All, class Less = std::less<>>
void sort(Crew& crew, All&& items, Less less = {}) {
  antcrew::sort(crew, std::begin(items), std::end(items), less);
}

// Equal elements keep their order.
template <class Crew, std::random_access_iterator At, class Less = std::less<>>
void stable_sort(Crew& crew, At first, At last, Less less = {}) {
  internal::sort_runs(crew, first, last, less, [&](At from, At to) { std::stable_sort(from, to, less); });
}

template <class Crew, Items All, class Less = std::less<>>
void stable_sort(Crew& crew, All&& items, Less less = {}) {
  antcrew::stable_sort(crew, std::begin(items), std::end(items), less);
}

}  // namespace antcrew
