// Objects that are not in use, one behind the other.
#pragma once

namespace antcrew::internal {

// A worker's own, or the pool's (supply.hpp). `next` is theirs meanwhile. One thread at a time.
template <class T, T* T::*next>
class FreeList {
 public:
  T* take() noexcept {
    T* taken = first_;
    if (taken == nullptr) return nullptr;
    first_ = taken->*next;
    --count_;
    return taken;
  }
  void give(T* one) noexcept {
    one->*next = first_;
    first_ = one;
    ++count_;
  }
  int count() const noexcept { return count_; }

 private:
  T* first_ = nullptr;
  int count_ = 0;
};

}  // namespace antcrew::internal
