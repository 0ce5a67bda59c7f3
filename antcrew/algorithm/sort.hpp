// Sorting with a crew, ThreadCrew or TaskCrew: any comparison, any type that moves without throwing.
//
//   sort(crew, readings);                                            // ascending
//   stable_sort(crew, tags, [](const Tag& a, const Tag& b) { return a.time < b.time; });
//
// Runs are sorted by the standard library's sequential algorithms, one a worker or more, of larger elements so many
// that each lies in a near cache, and merged in parallel, four at once: each worker finds by bisection which elements
// make up its stretch of the merged output (Varman, Scheufler, Iyer and Ricard 1991, "Merging multiple lists on
// hierarchical-memory multiprocessors"). Whole numbers in one stretch of memory that are compared by std::less or
// std::greater, but for many with more than five bytes that differ, are sorted digit by digit instead, without
// comparing them, also by a crew of one (internal/digits.hpp).
//
// Needs room for one more copy of the elements; throws std::bad_alloc, before anything was moved, when there is none.
// The crew is held from beginning to end: one that another thread has is refused (Error crew.busy), and nothing was
// moved. An exception of the comparison comes out; as with std::sort all elements are then valid, their order and
// values are not known.
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

#include "antcrew/algorithm/internal/digits.hpp"
#include "antcrew/algorithm/internal/merge.hpp"
#include "antcrew/algorithm/internal/over_items.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/items.hpp"

namespace antcrew {

namespace internal {

// Below this the hand-out costs more than it saves; far more where workers have to share processors.
std::size_t least_parallel_sort(int workers);
// Below this comparing is quicker than counting digits.
inline constexpr std::size_t least_by_digits = 2048;

template <bool stable, class At, class Less>
void sort_run(At first, At last, Less& less) {
  if constexpr (stable) {
    std::stable_sort(first, last, less);
  } else {
    std::sort(first, last, less);
  }
}

template <class Crew, class At, class Less, bool stable>
class MergeSort {
  using T = std::iter_value_t<At>;
  using Step = std::iter_difference_t<At>;
  // Plain bytes need no objects to be made before they are written.
  static constexpr bool plain = std::is_trivially_copyable_v<T>;
  // More runs than workers level them; merged four at once, they cost few workers no further pass over the memory.
  static constexpr bool large = !plain || sizeof(T) > 16;
  static constexpr std::size_t runs_each = large ? 1 : 2;
  // The sequential algorithm goes over the memory again and again: runs in a near cache spare that.
  static constexpr bool near = large && (stable || !plain);

 public:
  // Whether one worker alone gains by it.
  static bool pays_alone(std::size_t n) noexcept { return near && plain && n * sizeof(T) >= 16 * near_cache_bytes; }

  MergeSort(Crew& crew, At first, std::size_t n, Less& less)
      : crew_(crew),
        first_(first),
        n_(n),
        less_(less),
        runs_(runs_for(n, static_cast<std::size_t>(crew.workers()))),
        made_(runs_, 0),
        cuts_(stretches() + 1),
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
    for (std::size_t reach = 1; reach < runs_; reach *= most_ways) ++levels;
    // The last merge must write to the caller's elements.
    bool in_buffer = levels % 2 == 1;
    const bool there_first = in_buffer || !plain;
    tasks(runs_, [&](std::size_t run) {
      sort_run<stable>(at(border(run)), at(border(run + 1)), less_);
      if (there_first) {
        std::uninitialized_move(at(border(run)), at(border(run + 1)), buffer_ + border(run));
        made_[run] = 1;
      }
    });
    if (!in_buffer && there_first) to_elements();
    for (std::size_t reach = 1; reach < runs_; reach *= most_ways, in_buffer = !in_buffer) {
      if (in_buffer) {
        merge_level(buffer_, first_, reach);
      } else {
        merge_level(first_, buffer_, reach);
      }
    }
  }

 private:
  // As many as are merged in as few passes.
  static constexpr std::size_t near_cache_bytes = 256 * 1024;
  static std::size_t runs_for(std::size_t n, std::size_t workers) noexcept {
    const std::size_t least = workers * runs_each;
    if (!near || n * sizeof(T) <= least * near_cache_bytes) return least;
    std::size_t runs = 1;
    while (runs < least || n / runs * sizeof(T) > near_cache_bytes) runs *= most_ways;
    return runs;
  }
  std::size_t border(std::size_t run) const noexcept { return run >= runs_ ? n_ : even_part(n_, runs_, run).first; }
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

  // The groups of `reach` runs each, up to four, that begin at `run` and are merged into one.
  struct Bundle {
    std::array<std::size_t, most_ways + 1> borders;
    std::size_t begin() const noexcept { return borders.front(); }
    std::size_t end() const noexcept { return borders.back(); }
  };
  Bundle bundle_at(std::size_t run, std::size_t reach) const noexcept {
    Bundle bundle;
    for (std::size_t k = 0; k <= most_ways; ++k) bundle.borders[k] = border(run + k * reach);
    return bundle;
  }

  // Every worker writes stretches of equal length, whatever bundles they are in. Where stretches begin in all groups is
  // found before anything is moved, in parallel: an element that was moved can no longer be compared.
  template <class From, class To>
  void merge_level(From from, To to, std::size_t reach) {
    tasks(stretches() - 1, [&](std::size_t k) {
      const std::size_t out = even_part(n_, stretches(), k + 1).first;
      for (std::size_t run = 0; run < runs_; run += most_ways * reach) {
        const Bundle bundle = bundle_at(run, reach);
        if (out > bundle.begin() && out < bundle.end()) {
          cuts_[k + 1] = cut_ways(from, bundle.borders, out - bundle.begin(), less_);
        }
      }
    });
    tasks(stretches(), [&](std::size_t k) {
      const Range mine = even_part(n_, stretches(), k);
      for (std::size_t run = 0; run < runs_; run += most_ways * reach) {
        const Bundle bundle = bundle_at(run, reach);
        const Range out{std::max(bundle.begin(), mine.first), std::min(bundle.end(), mine.last)};
        if (out.first >= out.last) continue;
        Sources<From> sources;
        for (std::size_t way = 0; way < most_ways; ++way) {
          const std::size_t first = bundle.borders[way];
          const std::size_t low = out.first == bundle.begin() ? first : first + cuts_[k][way];
          const std::size_t high = out.last == bundle.end() ? bundle.borders[way + 1] : first + cuts_[k + 1][way];
          sources[way] = {from + static_cast<std::iter_difference_t<From>>(low),
                          from + static_cast<std::iter_difference_t<From>>(high)};
        }
        merge_ways(sources, to + static_cast<std::iter_difference_t<To>>(out.first), less_);
      }
    });
  }

  Crew& crew_;
  At first_;
  std::size_t n_;
  Less& less_;
  std::size_t runs_;
  std::vector<char> made_;  // runs whose objects lie in the buffer
  std::vector<Ways> cuts_;  // of the level under way: made before anything is moved
  T* buffer_;
};

template <bool stable, class Crew, class At, class Less>
void sort_with(Crew& crew, At first, At last, Less& less, const CallPlace& at) {
  static_assert(std::is_nothrow_move_constructible_v<std::iter_value_t<At>> &&
                    std::is_nothrow_move_assignable_v<std::iter_value_t<At>>,
                "sorting in parallel moves elements between workers: moving one must not throw");
  const HeldFrom<Crew> held(crew, at);
  if constexpr (shares_memory<Crew>) {  // of others it is said once
    const auto n = static_cast<std::size_t>(last - first);
    if constexpr (ByDigits<At, Less>) {
      using T = std::iter_value_t<At>;
      if (n >= least_by_digits) {
        DigitSort<Crew, T, descends_by<Less, T>> by_digits(crew, std::to_address(first), n);
        if (by_digits.are_sorted()) return;
        if (by_digits.is_worth_it()) return by_digits.sort();
      }
    }
    using Merging = MergeSort<Crew, At, Less, stable>;
    if (crew.workers() == 1 ? !Merging::pays_alone(n) : n < least_parallel_sort(crew.workers())) {
      return sort_run<stable>(first, last, less);
    }
    Merging(crew, first, n, less).sort();
  }
}

}  // namespace internal

template <class Crew, std::random_access_iterator At, class Less = std::less<>>
void sort(Crew& crew, At first, At last, Less less = {}, CallPlace at = CallPlace::here()) {
  internal::sort_with<false>(crew, first, last, less, at);
}

template <class Crew, internal::Items All, class Less = std::less<>>
void sort(Crew& crew, All&& items, Less less = {}, CallPlace at = CallPlace::here()) {
  antcrew::sort(crew, std::begin(items), std::end(items), less, at);
}

// Equal elements keep their order.
template <class Crew, std::random_access_iterator At, class Less = std::less<>>
void stable_sort(Crew& crew, At first, At last, Less less = {}, CallPlace at = CallPlace::here()) {
  internal::sort_with<true>(crew, first, last, less, at);
}

template <class Crew, internal::Items All, class Less = std::less<>>
void stable_sort(Crew& crew, All&& items, Less less = {}, CallPlace at = CallPlace::here()) {
  antcrew::stable_sort(crew, std::begin(items), std::end(items), less, at);
}

}  // namespace antcrew
