// Where a stack of the program's own ends, such as one of a library of coroutines.
//
//   OwnStack here(memory, bytes);   // on that stack, for the length of a scope
//   crew.each(n, body);             // recursion that nears its end is refused, as on a thread's stack
//
// Crews are called on any stack; without this, where nobody knows the end, recursion goes on until it overflows. It
// must end in the thread in which it began, and those of a thread lie inside each other.
#pragma once

#include <cstddef>
#include <cstdint>

namespace antcrew {

class OwnStack {
 public:
  // bytes of memory from `lowest` on.
  OwnStack(const void* lowest, std::size_t bytes) noexcept;
  ~OwnStack();
  OwnStack(const OwnStack&) = delete;
  OwnStack& operator=(const OwnStack&) = delete;

 private:
  struct Before {
    std::uintptr_t lowest;
    std::uintptr_t top;
    std::uintptr_t floor;
    std::uintptr_t current_floor;
  } before_;
};

}  // namespace antcrew
