// Loops that can be cancelled between blocks, and filling a Column from many workers.
#pragma once

#include <cstddef>
#include <new>
#include <type_traits>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/owned.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/loop_fault.hpp"
#include "antcrew/machine/per_thread.hpp"

namespace antcrew::internal {

// For a range that is not empty, which was handed out because it was not enough yet. Asks between blocks that double in
// length: what is still done after a cancel takes no longer than what was done before, and a 16th of the range at most.
// Inside a block the loop has no exit, so the compiler can vectorise.
template <class Body>
void in_blocks(Range range, const Enough& enough, Body&& body) {
  const std::size_t longest = range.size() / 16;
  std::size_t step = range.size() > 1 && enough.never() ? range.size() : 1;
  std::size_t first = range.first;
  do {
    const std::size_t last = range.last - first < step ? range.last : first + step;
    body(Range{first, last});
    first = last;
    if (2 * step <= longest) {
      step *= 2;
    } else if (step < longest) {
      step = longest;
    }
  } while (first < range.last && !enough());
}

// Owns the raw memory until every element is made; after a fault it destroys just those that were.
template <class T>
class Filler {
 public:
  explicit Filler(std::size_t n) : data_(Column<T>::allocate(n)), n_(n) {}
  Filler(const Filler&) = delete;
  Filler& operator=(const Filler&) = delete;
  ~Filler() {
    if (data_ == nullptr) return;
    if constexpr (!may_cut) {
      made_.visit([this](const Ranges& mine) {
        for (const Range& range : mine.all) destroy_items(data_ + range.first, range.size());
      });
    }
    Column<T>::release(data_);
  }

  // Elements need no list: fill() need not know where a piece ends. Otherwise it cuts the piece up itself.
  static constexpr bool may_cut = std::is_trivially_destructible_v<T>;
  template <class Fn>
  void fill(Range range, const Enough& enough, Fn& fn) {
    if constexpr (may_cut) {
      std::size_t i = range.first;
      try {
        for (; i < range.last; ++i) ::new (static_cast<void*>(data_ + i)) T(fn(i));
      } catch (...) {
        note_fault({i, i + 1});
        throw;
      }
    } else {
      Progress progress{made_.mine().with_room(), {range.first, range.first}};
      try {
        in_blocks(range, enough, [&](Range block) {
          for (std::size_t i = block.first; i < block.last; ++i, ++progress.made.last) {
            ::new (static_cast<void*>(data_ + i)) T(fn(i));
          }
        });
      } catch (...) {
        note_fault({progress.made.last, progress.made.last + 1});
        throw;
      }
    }
  }

  // For plain elements that are written otherwise.
  T* raw() noexcept {
    static_assert(std::is_trivially_copyable_v<T>);
    return data_;
  }

  // Only after a region that threw nothing.
  Column<T> finished() && noexcept { return Column<T>::adopt(std::exchange(data_, nullptr), n_); }

 private:
  struct NoList {};
  // Made by one thread: in its own list, so that no piece waits for another's end.
  struct Ranges {
    // For one more, so that adding it cannot fail.
    Ranges& with_room() {
      if (all.size() == all.capacity()) all.reserve(2 * all.size() + 4);
      return *this;
    }
    void add(Range made) noexcept {
      if (!all.empty() && all.back().last == made.first) {
        all.back().last = made.last;
      } else {
        all.push_back(made);
      }
    }
    std::vector<Range> all;
  };
  // Notes what a piece made, also when fn throws.
  struct Progress {
    Ranges& mine;
    Range made;
    ~Progress() {
      if (!made.empty()) mine.add(made);
    }
  };

  T* data_;
  std::size_t n_;
  [[no_unique_address]] std::conditional_t<may_cut, NoList, PerThread<Ranges>> made_;
};

}  // namespace antcrew::internal
