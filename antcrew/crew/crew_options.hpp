// What may be asked of a crew besides its number of workers, and what was granted.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace antcrew {

// Where workers are kept: off = wherever the kernel puts them; apart = as far from each other as the machine allows
// (most cache and bandwidth each); near = next to each other (shortest way between them). A pin belongs to its crew:
// the caller is pinned for the length of a call, and other crews and threads are not touched.
enum class Pin { off, apart, near };

const char* name_of(Pin pin) noexcept;

// How the results of processes come back. copied: through a socket, two copies. zero_copy: in a memory file that the
// parent maps, no copy of plain elements; worth it from some megabytes on. handed_over: its name of before.
enum class Way { copied, zero_copy, handed_over [[deprecated("write Way::zero_copy")]] = zero_copy };

const char* name_of(Way way) noexcept;

// What may be asked of workers that are processes.
struct ProcessOptions {
  Way way = Way::copied;
  int retries = 0;               // how often a range that was lost with its worker is done again by another one
  double deadline_s = 0;         // of a call; 0 = none
  std::size_t memory_bytes = 0;  // that a worker may take beyond what it began with; 0 = no limit

  friend bool operator==(const ProcessOptions&, const ProcessOptions&) = default;
};

struct CrewOptions {
  Pin pin = Pin::off;
  std::size_t stack_bytes = 0;    // of each worker but the caller; 0 = the system's default
  ProcessOptions processes = {};  // for crews of processes only
  // Of the crew's threads, in debuggers and in lists of threads, with the worker's number behind it; 15 bytes together
  // are shown. Empty = "crew".
  std::string name = {};
};

// Asked and granted, side by side: a machine may refuse.
struct CrewFacts {
  CrewOptions asked;
  std::vector<int> asked_processors;    // for each worker, kernel numbers; empty when pinning is off
  std::vector<int> granted_processors;  // -1 where the kernel refused
  std::size_t granted_stack_bytes = 0;  // 0 = the system's default
  std::vector<std::string> refused;     // what the system would not do, and was done another way or left out

  bool pinned_as_asked() const noexcept { return asked_processors == granted_processors; }
};

inline constexpr long long max_workers = 4096;

namespace internal {

// 1 … max_workers. Throws Error (crew.workers) for a count that no crew can have.
int checked_workers(long long count, const std::string& where);
// Throws Error (crew.options) when something was asked that this kind of crew cannot give.
void check_options_of_threads(const CrewOptions& options, const std::string& where);
void check_options_of_processes(const CrewOptions& options, const std::string& where);

}  // namespace internal

}  // namespace antcrew
