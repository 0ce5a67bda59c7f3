// What a metered call asks of the C library: memory, threads, and locks that it waits for.
//
//   CountedCalls counting;                       // from here on, in this process
//   LibraryCounts before = counting.so_far();
//   ...
//   LibraryCounts used = counting.so_far() - before;
//
// Counts by way of CallSlots: see there for what is not seen. A wait for a mutex, a condition variable or a word of an
// atomic inside a body of a crew is a stretch of its lane; of threads in no lane it is added up in the open book. Both
// under the address of who called. An allocation counted takes some nanoseconds more, one in 17 is timed.
#pragma once

#include <cstdint>
#include <memory>

namespace antcrew::internal {

// Of a call. All of it is of this process alone, and of any thread in it.
struct LibraryCounts {
  double allocations = 0;
  double allocated_bytes = 0;
  double allocating_s = 0;  // of threads together, giving back included; from a sample
  double threads = 0;       // begun
  double beginning_s = 0;   // that beginning them took those who began them
  double locks = 0;         // taken, of a mutex or a shared mutex of the C library; where all is counted
  double waits = 0;         // for one of these that another had, by threads in no lane
  double waited_s = 0;      // of them together

  LibraryCounts& add(const LibraryCounts& more, double times = 1) noexcept;
  LibraryCounts over(double calls) const noexcept { return LibraryCounts().add(*this, 1 / calls); }
  friend LibraryCounts operator-(LibraryCounts a, const LibraryCounts& b) noexcept { return a.add(b, -1); }
  friend bool operator==(const LibraryCounts&, const LibraryCounts&) = default;
};

// One at a time in a process.
class CountedCalls {
 public:
  // rare: threads, and waits for locks, which leave a lock that is free some 5 ns slower; all: allocations, and how
  // often a lock is taken, too; no_locks: of the rare ones, neither.
  enum class What { no_locks, rare, all };
  explicit CountedCalls(What what = What::all);
  ~CountedCalls();
  CountedCalls(const CountedCalls&) = delete;
  CountedCalls& operator=(const CountedCalls&) = delete;

  LibraryCounts so_far() const noexcept;
  // Whether the program has slots for such calls, and the functions are the C library's: one that is linked statically
  // has none, and one with an allocator or a sanitizer of its own has others.
  bool sees_memory() const noexcept { return sees_memory_; }
  bool sees_locks() const noexcept { return sees_locks_; }
  // Of beginning an empty thread and waiting for its end, both ways: the median of some, s.
  static double price_of_a_thread();

 private:
  struct Slots;
  std::unique_ptr<Slots> slots_;
  bool sees_memory_ = false;
  bool sees_locks_ = false;
};

}  // namespace antcrew::internal
