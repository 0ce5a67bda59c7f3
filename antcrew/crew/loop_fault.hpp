// Where the exception that came out of a loop was thrown, and how many others there were.
//
//   try { crew.each(n, body); }
//   catch (const BadReading& error) {
//     const LoopFault fault = last_loop_fault();
//     report(error, fault.items.first, fault.others);
//   }
#pragma once

#include <cstddef>

#include "antcrew/base/range.hpp"

namespace antcrew {

struct LoopFault {
  Range items = {};  // of `each` and `collect` the one item; of `ranges` and `fold` the range; of `tiles` the tile
  std::size_t others = 0;  // that other workers threw before they heard of it; those are lost
};

// Of the loop that threw last in the calling thread: call it where its exception is caught. For ThreadCrew and
// TaskCrew.
LoopFault last_loop_fault() noexcept;

namespace internal {

inline constinit thread_local LoopFault current_loop_fault{};

[[gnu::cold, gnu::noinline]] inline void note_fault(Range items) noexcept {
  current_loop_fault = {items, 0};
}

}  // namespace internal

inline LoopFault last_loop_fault() noexcept {
  return internal::current_loop_fault;
}

}  // namespace antcrew
