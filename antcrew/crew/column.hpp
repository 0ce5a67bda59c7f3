// A contiguous array whose elements are made in place by the workers that fill it: what `collect` returns.
//
// Unlike a vector it does not write its memory before the workers do, so each page belongs to the memory node of the
// worker that fills it and nothing is written twice. Its length is fixed. Move-only; copy with std::vector if needed.
// Not synchronised: once `collect` has returned, it is read like any array.
#pragma once

#include <cstddef>
#include <new>
#include <type_traits>
#include <utility>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/internal/processes/memory_file.hpp"

namespace antcrew {

template <class T>
class Column {
  static_assert(!std::is_same_v<T, bool>,
                "a Column of bool is refused: use char, neighbouring bools would share bytes");

 public:
  using value_type = T;
  using iterator = T*;
  using const_iterator = const T*;

  Column() = default;
  Column(Column&& other) noexcept { swap(other); }
  Column& operator=(Column&& other) noexcept {
    Column(std::move(other)).swap(*this);
    return *this;
  }
  ~Column() {
    internal::destroy_items(data_, size_);
    if (mapped_bytes_ > 0) {
      internal::unmap(data_, mapped_bytes_);
    } else {
      release(data_);
    }
  }

  std::size_t size() const noexcept { return size_; }
  bool empty() const noexcept { return size_ == 0; }
  T* data() noexcept { return data_; }
  const T* data() const noexcept { return data_; }
  T& operator[](std::size_t i) noexcept { return data_[i]; }
  const T& operator[](std::size_t i) const noexcept { return data_[i]; }
  T* begin() noexcept { return data_; }
  T* end() noexcept { return data_ + size_; }
  const T* begin() const noexcept { return data_; }
  const T* end() const noexcept { return data_ + size_; }
  void swap(Column& other) noexcept {
    std::swap(data_, other.data_);
    std::swap(size_, other.size_);
    std::swap(mapped_bytes_, other.mapped_bytes_);
  }

  // For those who fill one: raw memory for n elements, and taking it over once every element has been made.
  static T* allocate(std::size_t n) {
    if (n == 0) return nullptr;
    if (n > static_cast<std::size_t>(-1) / sizeof(T)) throw std::bad_array_new_length();
    return static_cast<T*>(::operator new(n * sizeof(T), alignment));
  }
  static void release(T* data) noexcept { ::operator delete(data, alignment); }
  static Column adopt(T* data, std::size_t n) noexcept {
    Column column;
    column.data_ = data;
    column.size_ = n;
    return column;
  }
  // The same for memory that was mapped.
  static Column adopt_mapping(T* data, std::size_t n, std::size_t mapped_bytes) noexcept {
    Column column = adopt(data, n);
    column.mapped_bytes_ = mapped_bytes;
    return column;
  }

 private:
  // A cache line at least: workers that fill neighbouring ranges meet at few lines.
  static constexpr std::align_val_t alignment{alignof(T) < 64 ? 64 : alignof(T)};
  T* data_ = nullptr;
  std::size_t size_ = 0;
  std::size_t mapped_bytes_ = 0;  // 0 = from operator new
};

}  // namespace antcrew
