// What may be asked of a crew besides its number of workers, and what was granted.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace antcrew {

// Where workers are kept: off = wherever the kernel puts them; spread = as far apart as the machine allows (most
// cache and bandwidth each); close = next to each other (shortest way between them).
enum class Pin { off, spread, close };

const char* name_of(Pin pin) noexcept;

struct CrewOptions {
  Pin pin = Pin::off;
  std::size_t stack_bytes = 0;  // of each worker but the caller; 0 = the system's default
};

// Asked and granted, side by side: a machine may refuse.
struct CrewFacts {
  CrewOptions asked;
  std::vector<int> asked_processors;    // for each worker, kernel numbers; empty when pinning is off
  std::vector<int> granted_processors;  // -1 where the kernel refused
  std::size_t granted_stack_bytes = 0;  // 0 = the system's default

  bool pinned_as_asked() const noexcept { return asked_processors == granted_processors; }
};

// 1 … max_workers. Throws Error (crew.workers) for a count that no crew can have.
inline constexpr long long max_workers = 4096;
int checked_workers(long long count, const std::string& where);

}  // namespace antcrew
