// Counts what the program allocates, and refuses what it is told to. In programs that link allocations.cpp.
#pragma once

#include <cstddef>

namespace test {

std::size_t allocations() noexcept;

// Refuses the k-th allocation from now on, by any thread, counted from 0; no other. Until its end.
class Refusing {
 public:
  explicit Refusing(std::size_t k) noexcept;
  ~Refusing();
  Refusing(const Refusing&) = delete;
  Refusing& operator=(const Refusing&) = delete;
  // Whether there were so many.
  bool refused() const noexcept;
};

}  // namespace test
