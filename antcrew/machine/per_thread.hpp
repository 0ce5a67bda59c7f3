// One object for each thread that asks, found in a few loads, never moved.
#pragma once

#include <array>
#include <atomic>
#include <bit>
#include <concepts>
#include <cstddef>
#include <new>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/base/owned.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

// A small number of the calling thread's own; taken over by another thread once this one has ended.
int take_thread_number();
inline constinit thread_local int current_thread_number = -1;
inline int thread_number() {
  const int number = current_thread_number;
  return number >= 0 ? number : take_thread_number();
}

// Segment k holds the objects of threads 2^k - 1 … 2^(k+1) - 2. A segment is made by the first thread that needs it
// and published by compare-and-swap, release against the acquire of others. Small objects lie in it and are made with
// it; it points to large ones, each made when its thread first asks.
template <class T>
class PerThread {
 public:
  PerThread() requires std::default_initializable<T>
  = default;  // each begins as T()
  explicit PerThread(T initial) requires std::copy_constructible<T> : initial_(std::move(initial)) {}
  ~PerThread() {
    for (std::size_t k = 0; k < segments_.size(); ++k) release(segments_[k].load(std::memory_order_acquire), count(k));
  }
  PerThread(const PerThread&) = delete;
  PerThread& operator=(const PerThread&) = delete;

  T& mine() {
    const auto place = static_cast<unsigned>(thread_number()) + 1;
    const auto k = static_cast<unsigned>(std::bit_width(place)) - 1;
    Slot* segment = segments_[k].load(std::memory_order_acquire);
    if (segment == nullptr) [[unlikely]]
      segment = make(k);
    Slot& slot = segment[place - (1u << k)];
    if constexpr (apart) {
      Held* held = slot.held.load(std::memory_order_relaxed);  // written by this thread, or one that has ended
      return (held != nullptr ? held : make_held(slot))->value;
    } else {
      return slot.value;
    }
  }

  // fn(T&) for every thread's object in the order of their numbers; of small ones also for threads that never asked.
  template <class Fn>
  void visit(Fn&& fn) const {
    for (std::size_t k = 0; k < segments_.size(); ++k) {
      Slot* segment = segments_[k].load(std::memory_order_acquire);
      if (segment == nullptr) continue;
      for (std::size_t i = 0; i < count(k); ++i) {
        if constexpr (apart) {
          if (Held* held = segment[i].held.load(std::memory_order_acquire)) fn(held->value);
        } else {
          fn(segment[i].value);
        }
      }
    }
  }

 private:
  static constexpr bool apart = sizeof(T) > 4 * line_bytes;
  static constexpr std::size_t line = line_bytes < alignof(T) ? alignof(T) : line_bytes;
  struct alignas(line) Held {
    T value;
  };
  struct Pointer {
    std::atomic<Held*> held{nullptr};
    ~Pointer() {
      Held* made = held.load(std::memory_order_acquire);
      if (made == nullptr) return;
      made->~Held();
      ::operator delete (made, std::align_val_t{line});
    }
  };
  using Slot = std::conditional_t<apart, Pointer, Held>;
  static constexpr std::align_val_t alignment{alignof(Slot)};
  static constexpr std::size_t count(std::size_t k) noexcept { return std::size_t{1} << k; }

  [[gnu::noinline]] Slot* make(unsigned k) {
    auto* made = static_cast<Slot*>(::operator new(count(k) * sizeof(Slot), alignment));
    std::size_t done = 0;
    try {
      for (; done < count(k); ++done) {
        if constexpr (apart) {
          ::new (static_cast<void*>(made + done)) Slot;
        } else {
          construct(made + done);
        }
      }
    } catch (...) {
      destroy_items(made, done);
      ::operator delete(made, alignment);
      throw;
    }
    Slot* seen = nullptr;
    if (segments_[k].compare_exchange_strong(seen, made, std::memory_order_acq_rel)) return made;
    release(made, count(k));
    return seen;
  }
  [[gnu::noinline]] Held* make_held(Slot& slot) {
    void* memory = ::operator new (sizeof(Held), std::align_val_t{line});
    try {
      construct(static_cast<Held*>(memory));
    } catch (...) {
      ::operator delete (memory, std::align_val_t{line});
      throw;
    }
    auto* made = static_cast<Held*>(memory);
    slot.held.store(made, std::memory_order_release);
    return made;
  }
  void construct(Held* at) const {
    if constexpr (std::copy_constructible<T>) {
      if (initial_) return static_cast<void>(::new (static_cast<void*>(at)) Held{*initial_});
    }
    if constexpr (std::default_initializable<T>) ::new (static_cast<void*>(at)) Held{T()};
  }
  static void release(Slot* segment, std::size_t slots) noexcept {
    if (segment == nullptr) return;
    destroy_items(segment, slots);
    ::operator delete(segment, alignment);
  }

  std::optional<T> initial_;
  std::array<std::atomic<Slot*>, 24> segments_{};
};

}  // namespace antcrew::internal
