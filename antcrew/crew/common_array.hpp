// Arrays and counters that lie in memory of several processes at once: what is written in one is seen in all.
//
//   CommonArray<double> heights(n);                       // zeroes
//   crew.fill(heights, [&](std::size_t i) { return tide_at(soundings[i]); });
//   CommonCounter refused;                                // refused.add(1) in any worker
//
// For plain types only: a pointer means nothing to another process. A ProcessCrew's body sees every array that was made
// before the call; a StandingCrew's function gets it as an argument, also one made after the workers were forked.
// Synchronised as an array of threads would be: not at all within a call, and by the call's end. A CommonCounter may be
// used by all at once.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <new>
#include <type_traits>

#include "antcrew/crew/internal/processes/memory_file.hpp"

namespace antcrew {

namespace internal {

// Shared between the owner and those crews that have told their workers of it.
struct CommonMemory {
  explicit CommonMemory(std::size_t bytes);
  CommonMemory(Descriptor from, std::size_t bytes, std::uint64_t number);

  std::uint64_t serial;  // in the order in which they were made, in a process and those forked from it
  Descriptor file;
  Mapping mapping;
};
std::uint64_t newest_common_serial() noexcept;

}  // namespace internal

template <class T>
class CommonArray {
  static_assert(std::is_trivially_copyable_v<T> && !std::is_pointer_v<T>,
                "a CommonArray holds plain types: what a pointer points to is not in the other process");

 public:
  using value_type = T;

  CommonArray() = default;
  // n zeroes. Throws Error (crew.memory).
  explicit CommonArray(std::size_t n) : CommonArray(std::make_shared<internal::CommonMemory>(bytes_of(n)), n) {}
  CommonArray(CommonArray&&) noexcept = default;
  CommonArray& operator=(CommonArray&&) noexcept = default;

  std::size_t size() const noexcept { return n_; }
  bool empty() const noexcept { return n_ == 0; }
  T* data() noexcept { return data_; }
  const T* data() const noexcept { return data_; }
  T& operator[](std::size_t i) noexcept { return data_[i]; }
  const T& operator[](std::size_t i) const noexcept { return data_[i]; }
  T* begin() noexcept { return data_; }
  T* end() noexcept { return data_ + n_; }
  const T* begin() const noexcept { return data_; }
  const T* end() const noexcept { return data_ + n_; }

  // For crews that pass it to their workers.
  const std::shared_ptr<internal::CommonMemory>& memory() const noexcept { return memory_; }
  CommonArray(std::shared_ptr<internal::CommonMemory> memory, std::size_t n)
      : memory_(std::move(memory)), data_(static_cast<T*>(memory_->mapping.address())), n_(n) {}

 private:
  static std::size_t bytes_of(std::size_t n) {
    if (n > static_cast<std::size_t>(-1) / 2 / sizeof(T)) throw std::bad_array_new_length();
    return n * sizeof(T);
  }
  std::shared_ptr<internal::CommonMemory> memory_;
  T* data_ = nullptr;
  std::size_t n_ = 0;
};

// A number that all processes add to.
class CommonCounter {
 public:
  CommonCounter() : cell_(1) {}
  explicit CommonCounter(CommonArray<std::int64_t> cell) : cell_(std::move(cell)) {}

  void add(std::int64_t k) const noexcept { shared().fetch_add(k, std::memory_order_relaxed); }
  std::int64_t get() const noexcept { return shared().load(std::memory_order_relaxed); }
  void set(std::int64_t value) const noexcept { shared().store(value, std::memory_order_relaxed); }
  const CommonArray<std::int64_t>& cell() const noexcept { return cell_; }

 private:
  std::atomic_ref<std::int64_t> shared() const noexcept {
    return std::atomic_ref<std::int64_t>(const_cast<std::int64_t&>(cell_[0]));
  }
  CommonArray<std::int64_t> cell_;
};

}  // namespace antcrew
