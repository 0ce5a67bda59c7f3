// Counts what the program allocates, and refuses what it is told to. In programs that link allocations.cpp.
#pragma once

#include <cstddef>

namespace test {

std::size_t allocations() noexcept;

// Which allocation a sweep refuses after the k-th. Sanitizers look at fewer: each call takes them thirty times as long.
inline std::size_t refused_after(std::size_t k) {
#if defined(ANTCREW_SANITIZED)
  return k < 8 ? k + 1 : k + 7;
#else
  return k + 1;
#endif
}

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

// Until its end small blocks that are freed are given out again at once, the last one first, whatever their sizes and
// by whatever thread: what looks at memory that is no longer its own sees another object there.
class Recycling {
 public:
  Recycling() noexcept;
  ~Recycling();
  Recycling(const Recycling&) = delete;
  Recycling& operator=(const Recycling&) = delete;
};

}  // namespace test
