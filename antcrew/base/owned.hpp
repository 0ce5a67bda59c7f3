// Owns one object: what std::unique_ptr does, without <memory>, which takes 0.2 s to compile (g++'s includes
// <ostream>). For headers that every study program reads; source files use std::unique_ptr.
#pragma once

#include <cstddef>
#include <type_traits>
#include <utility>

namespace antcrew::internal {

template <class T>
class Owned {
 public:
  Owned() = default;
  Owned(std::nullptr_t) noexcept {}
  explicit Owned(T* object) noexcept : object_(object) {}
  Owned(Owned&& other) noexcept : object_(std::exchange(other.object_, nullptr)) {}
  template <class Derived>
  requires std::is_convertible_v<Derived*, T*> Owned(Owned<Derived>&& other)
  noexcept : object_(other.release()) {}
  Owned& operator=(Owned&& other) noexcept {
    Owned(std::move(other)).swap(*this);
    return *this;
  }
  ~Owned() { delete object_; }

  T* get() const noexcept { return object_; }
  T& operator*() const noexcept { return *object_; }
  T* operator->() const noexcept { return object_; }
  explicit operator bool() const noexcept { return object_ != nullptr; }
  T* release() noexcept { return std::exchange(object_, nullptr); }
  void reset() noexcept { *this = Owned(); }
  void swap(Owned& other) noexcept { std::swap(object_, other.object_); }
  friend bool operator==(const Owned& one, std::nullptr_t) noexcept { return one.object_ == nullptr; }

 private:
  T* object_ = nullptr;
};

// An array, its items begun as T().
template <class T>
class OwnedArray {
 public:
  OwnedArray() = default;
  explicit OwnedArray(std::size_t items) : items_(new T[items]()) {}
  OwnedArray(OwnedArray&& other) noexcept : items_(std::exchange(other.items_, nullptr)) {}
  OwnedArray& operator=(OwnedArray&& other) noexcept {
    std::swap(items_, other.items_);
    return *this;
  }
  ~OwnedArray() { delete[] items_; }

  T* get() const noexcept { return items_; }
  T& operator[](std::size_t k) const noexcept { return items_[k]; }

 private:
  T* items_ = nullptr;
};

// Ends objects in memory that stays.
template <class T>
void destroy_one(T& object) noexcept {
  object.~T();
}
template <class T>
void destroy_items(T* first, std::size_t items) noexcept {
  if constexpr (!std::is_trivially_destructible_v<T>) {
    for (T* end = first + items; first != end; ++first) first->~T();
  }
}

}  // namespace antcrew::internal
