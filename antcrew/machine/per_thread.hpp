// One object for each thread that asks, found in a few loads, never moved.
#pragma once

#include <array>
#include <atomic>
#include <bit>
#include <cstddef>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/machine/cache_line.hpp"

namespace antcrew::internal {

// A small number of the calling thread's own; taken over by another thread once this one has ended.
int take_thread_number();
inline constinit thread_local int thread_number_here = -1;
inline int thread_number() {
  const int number = thread_number_here;
  return number >= 0 ? number : take_thread_number();
}

// Segment k holds the objects of threads 2^k - 1 … 2^(k+1) - 2. A segment is made by the first thread that needs it
// and published by compare-and-swap, release against the acquire of others.
template <class T>
class PerThread {
 public:
  PerThread() = default;  // each begins as T()
  explicit PerThread(T initial) : initial_(std::move(initial)) {}
  ~PerThread() {
    for (std::atomic<Slot*>& segment : segments_) delete[] segment.load(std::memory_order_acquire);
  }
  PerThread(const PerThread&) = delete;
  PerThread& operator=(const PerThread&) = delete;

  T& mine() {
    const auto place = static_cast<unsigned>(thread_number()) + 1;
    const auto k = static_cast<unsigned>(std::bit_width(place)) - 1;
    Slot* segment = segments_[k].load(std::memory_order_acquire);
    if (segment == nullptr) [[unlikely]]
      segment = make(k);
    return segment[place - (1u << k)].value;
  }

  // fn(T&) for every thread's object, also those of threads that never asked, in the order of their numbers.
  template <class Fn>
  void visit(Fn&& fn) const {
    for (std::size_t k = 0; k < segments_.size(); ++k) {
      Slot* segment = segments_[k].load(std::memory_order_acquire);
      if (segment == nullptr) continue;
      for (std::size_t i = 0; i < (std::size_t{1} << k); ++i) fn(segment[i].value);
    }
  }

 private:
  struct alignas(line_bytes) Slot {
    T value{};
  };

  [[gnu::noinline]] Slot* make(unsigned k) {
    const std::size_t count = std::size_t{1} << k;
    auto* made = new Slot[count];
    if constexpr (std::is_copy_assignable_v<T>) {
      for (std::size_t i = 0; initial_ && i < count; ++i) made[i].value = *initial_;
    }
    Slot* seen = nullptr;
    if (segments_[k].compare_exchange_strong(seen, made, std::memory_order_acq_rel)) return made;
    delete[] made;
    return seen;
  }

  std::optional<T> initial_;
  std::array<std::atomic<Slot*>, 24> segments_{};
};

}  // namespace antcrew::internal
