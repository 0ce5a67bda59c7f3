// What may be asked of a crew besides its number of workers, and what was granted.
#pragma once

#include <cstddef>
#include <new>
#include <string>
#include <type_traits>
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

// A function that each thread of a crew calls, with its worker's number: to register it with a library, or to set what
// belongs to a thread. A copy is kept of what it captures, two references at the most; what they refer to must live as
// long as the crew. Several threads call it at once.
//
//   TaskCrew crew(4, {.at_begin = [&](int worker) { tracer.add_thread(worker); }});
class WorkerHook {
 public:
  constexpr WorkerHook() noexcept = default;
  template <class Fn>
  requires(!std::is_same_v<Fn, WorkerHook> && std::is_invocable_v<const Fn&, int>) WorkerHook(const Fn& fn)
  noexcept : call_([](const void* kept, int worker) { (*static_cast<const Fn*>(kept))(worker); }) {
    static_assert(sizeof(Fn) <= room && alignof(Fn) <= alignof(void*) && std::is_trivially_copyable_v<Fn>,
                  "a worker's hook captures two references at the most, or two plain values as small");
    ::new (kept_) Fn(fn);
  }

  explicit operator bool() const noexcept { return call_ != nullptr; }
  void operator()(int worker) const { call_(kept_, worker); }

 private:
  static constexpr std::size_t room = 2 * sizeof(void*);
  void (*call_)(const void* kept, int worker) = nullptr;
  alignas(void*) unsigned char kept_[room] = {};
};

struct CrewOptions {
  Pin pin = Pin::off;
  std::size_t stack_bytes = 0;    // of each worker but the caller; 0 = the system's default
  ProcessOptions processes = {};  // for crews of processes only
  // Of the crew's threads, in debuggers and in lists of threads, with the worker's number behind it; 15 bytes together
  // are shown. Empty = "crew".
  std::string name = {};
  // By each of the crew's threads when it has begun, before the crew's constructor returns, which throws what a hook
  // threw; and at its end, where it must not throw. Worker 0 of a crew of threads is whoever calls, and calls none.
  WorkerHook at_begin = {};
  WorkerHook at_end = {};
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
