// Loops over items that can only be reached one after the other: a block of them is gathered under a lock, by one
// worker at a time, and worked on outside it. Blocks double while they take little time.
#pragma once

#include <cstddef>
#include <cstdint>
#include <exception>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/internal/counted_loop.hpp"
#include "antcrew/crew/loop_fault.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

// How many items a worker gathers at once.
class BlockLength {
 public:
  std::size_t items() const noexcept { return items_; }
  void took(std::int64_t ns) noexcept {
    if (ns < 20'000) {
      if (items_ < most) items_ *= 2;
    } else if (ns > 100'000 && items_ > 1) {
      items_ /= 2;
    }
  }

 private:
  static constexpr std::size_t most = 1024;
  std::size_t items_ = 1;
};

// Of a forward range: who has a block goes through it by an iterator of its own.
template <class At>
class GatheredRange {
 public:
  struct Block {
    At at = {};
    std::size_t first = 0;  // as counted from the range's beginning
    std::size_t items = 0;
    template <class Body>
    void each(std::size_t& i, Body& body) {
      for (; i < items; ++i, ++at) body(*at);
    }
  };
  GatheredRange(At first, At last) : at_(first), last_(last) {}
  void gather(Block& block, std::size_t most) {
    const LockHeld held(lock_);
    block.at = at_;
    block.first = taken_;
    for (block.items = 0; block.items < most && at_ != last_; ++block.items) ++at_;
    taken_ += block.items;
  }

 private:
  Lock lock_;
  At at_;
  At last_;
  std::size_t taken_ = 0;
};

// Of a function that gives one item after the other, and no value at the end.
template <class Next>
class GatheredCalls {
 public:
  using T = typename std::decay_t<std::invoke_result_t<Next&>>::value_type;
  struct Block {
    std::vector<T> all;
    std::size_t first = 0;
    std::size_t items = 0;
    template <class Body>
    void each(std::size_t& i, Body& body) {
      for (; i < items; ++i) body(all[i]);
    }
  };
  explicit GatheredCalls(Next& next) : next_(next) {}
  // What was given before the function threw is still worked on; it is not asked again.
  void gather(Block& block, std::size_t most) {
    const LockHeld held(lock_);
    block.all.clear();
    block.items = 0;
    block.first = taken_;
    try {
      while (block.items < most && !over_) {
        over_ = true;  // should it throw
        std::optional<T> item = next_();
        if (!item) return;
        block.all.push_back(std::move(*item));
        ++block.items;
        ++taken_;
        over_ = false;
      }
    } catch (...) {
      error_ = std::current_exception();
    }
    if (block.items == 0 && error_) std::rethrow_exception(std::exchange(error_, nullptr));
  }

 private:
  Lock lock_;
  Next& next_;
  std::size_t taken_ = 0;
  bool over_ = false;
  std::exception_ptr error_;
};

// One worker's part: blocks until there are none, or it is enough.
template <class Gathered, class Body>
void work_off(Gathered& gathered, Body& body, CountedLoop& counted, const Enough& enough) {
  BlockLength length;
  typename Gathered::Block block;
  while (!enough()) {
    gathered.gather(block, length.items());
    if (block.items == 0) return;
    const std::int64_t start_ns = now_ns();
    std::size_t i = 0;
    try {
      block.each(i, body);
    } catch (...) {
      counted.add(i);
      note_fault({block.first + i, block.first + i + 1});
      throw;
    }
    counted.add(block.items);
    length.took(now_ns() - start_ns);
  }
}

}  // namespace antcrew::internal
