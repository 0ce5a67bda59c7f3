// A vector that all workers append to at once, and whose elements never move.
//
//   GrowingVector<Wreck> wrecks;
//   crew.each(n, [&](std::size_t i) { if (auto wreck = found_at(i)) wrecks.push_back(*wreck); });
//   std::sort(…, wrecks.begin(), wrecks.end());
//
// Any number of threads may append; a reference that push_back() gave stays good as long as the vector. Others may read
// an element once they know of it from who appended it, and all of them after the loop. In which order elements lie
// varies from run to run; where that matters, use collect() or filter(). Elements move without throwing. Where memory
// is refused, push_back() throws std::bad_alloc and nothing was appended. Cost: one atomic step on a line that all
// share.
//
// Blocks double. Invariant: a place belongs to the thread whose step moved the count past it, and its block was there
// before; so what is counted is made, or about to be by its owner without a way to fail.
#pragma once

#include <array>
#include <atomic>
#include <bit>
#include <cstddef>
#include <iterator>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>

#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew {

template <class T>
class GrowingVector {
  static_assert(std::is_nothrow_move_constructible_v<T>, "GrowingVector: its elements must move without throwing");

 public:
  GrowingVector() = default;
  // No thread may be in a call.
  ~GrowingVector() {
    const std::size_t all = size();
    for (std::size_t k = 0; k < blocks; ++k) {
      T* block = blocks_[k].load(std::memory_order_acquire);
      if (block == nullptr) continue;
      const std::size_t first = first_of(k);
      if (all > first) std::destroy_n(block, all - first < length_of(k) ? all - first : length_of(k));
      std::allocator<T>().deallocate(block, length_of(k));
    }
  }
  GrowingVector(const GrowingVector&) = delete;
  GrowingVector& operator=(const GrowingVector&) = delete;

  // Returns where it lies.
  T& push_back(T value) { return *::new (static_cast<void*>(next())) T(std::move(value)); }
  // Made before its place is taken: a constructor that throws leaves nothing behind.
  template <class... Arguments>
  T& emplace_back(Arguments&&... arguments) {
    return push_back(T(std::forward<Arguments>(arguments)...));
  }

  // Counts those that are just being appended, too.
  std::size_t size() const noexcept { return size_.load(std::memory_order_acquire); }
  bool empty() const noexcept { return size() == 0; }
  T& operator[](std::size_t i) noexcept { return *place(i); }
  const T& operator[](std::size_t i) const noexcept { return *place(i); }

  template <class Vector, class Value>
  class Iterator {
   public:
    using iterator_category = std::random_access_iterator_tag;
    using value_type = T;
    using difference_type = std::ptrdiff_t;
    using pointer = Value*;
    using reference = Value&;

    Iterator() = default;
    Iterator(Vector* all, std::size_t i) noexcept : all_(all), i_(i) {}
    Value& operator*() const noexcept { return (*all_)[i_]; }
    Value* operator->() const noexcept { return &(*all_)[i_]; }
    Value& operator[](difference_type k) const noexcept { return *(*this + k); }
    Iterator& operator++() noexcept { return *this += 1; }
    Iterator& operator--() noexcept { return *this += -1; }
    Iterator operator++(int) noexcept { return std::exchange(*this, *this + 1); }
    Iterator operator--(int) noexcept { return std::exchange(*this, *this - 1); }
    Iterator& operator+=(difference_type k) noexcept {
      i_ += static_cast<std::size_t>(k);
      return *this;
    }
    Iterator& operator-=(difference_type k) noexcept { return *this += -k; }
    friend Iterator operator+(Iterator at, difference_type k) noexcept { return at += k; }
    friend Iterator operator+(difference_type k, Iterator at) noexcept { return at += k; }
    friend Iterator operator-(Iterator at, difference_type k) noexcept { return at -= k; }
    friend difference_type operator-(const Iterator& a, const Iterator& b) noexcept {
      return static_cast<difference_type>(a.i_ - b.i_);
    }
    friend bool operator==(const Iterator& a, const Iterator& b) noexcept { return a.i_ == b.i_; }
    friend auto operator<=>(const Iterator& a, const Iterator& b) noexcept { return a.i_ <=> b.i_; }

   private:
    Vector* all_ = nullptr;
    std::size_t i_ = 0;
  };
  using iterator = Iterator<GrowingVector, T>;
  using const_iterator = Iterator<const GrowingVector, const T>;
  // While nobody appends.
  iterator begin() noexcept { return {this, 0}; }
  iterator end() noexcept { return {this, size()}; }
  const_iterator begin() const noexcept { return {this, 0}; }
  const_iterator end() const noexcept { return {this, size()}; }

 private:
  // Block k has 32 * 2^k elements.
  static constexpr std::size_t shortest = 32;
  static constexpr std::size_t blocks = 48;
  static constexpr std::size_t length_of(std::size_t k) noexcept { return shortest << k; }
  static constexpr std::size_t first_of(std::size_t k) noexcept { return length_of(k) - shortest; }
  static constexpr std::size_t block_of(std::size_t i) noexcept {
    return static_cast<std::size_t>(std::bit_width(i / shortest + 1)) - 1;
  }

  T* place(std::size_t i) const noexcept {
    const std::size_t k = block_of(i);
    return blocks_[k].load(std::memory_order_acquire) + (i - first_of(k));
  }
  // Release: whoever sees the count finds the block.
  T* next() {
    std::size_t i = size_.load(std::memory_order_relaxed);
    do {
      make_block(block_of(i));
      internal::at_border();
    } while (!size_.compare_exchange_weak(i, i + 1, std::memory_order_release, std::memory_order_relaxed));
    return place(i);
  }
  void make_block(std::size_t k) {
    if (blocks_[k].load(std::memory_order_acquire) != nullptr) return;
    if (k + 1 >= blocks) throw std::bad_alloc();
    T* mine = std::allocator<T>().allocate(length_of(k));
    T* seen = nullptr;
    // Whoever comes second gives its own back.
    if (!blocks_[k].compare_exchange_strong(seen, mine, std::memory_order_acq_rel))
      std::allocator<T>().deallocate(mine, length_of(k));
  }

  std::array<std::atomic<T*>, blocks> blocks_{};
  alignas(internal::line_bytes) std::atomic<std::size_t> size_{0};
};

}  // namespace antcrew
