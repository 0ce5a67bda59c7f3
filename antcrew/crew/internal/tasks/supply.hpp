// Scopes and loop tasks of a pool: made a few at a time, never freed while it lives, and given back to whoever runs
// short.
//
// Never freed: others look at them that no longer own them. A scope is read by whoever looks at a task that lies with
// another worker; and a loop knows the range that it has offered by its address alone, so that this address must not
// become another kind of task's while the loop may ask for it.
#pragma once

#include <memory>
#include <mutex>
#include <utility>
#include <vector>

#include "antcrew/crew/internal/tasks/free_list.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

// The pool's. Any thread may call.
template <class T, T* T::*next>
class Supply {
 public:
  using List = FreeList<T, next>;

  // One, and for the list as many more as lie ready. Throws std::bad_alloc.
  T* more(List& list) {
    const std::lock_guard<Lock> held(lock_);
    T* first = take();
    for (int k = 1; k < at_once / 2; ++k) {
      T* another = free_.take();
      if (another == nullptr) break;
      list.give(another);
    }
    return first;
  }
  T* one() {
    const std::lock_guard<Lock> held(lock_);
    return take();
  }
  void take_back(T* one) noexcept {
    const std::lock_guard<Lock> held(lock_);
    free_.give(one);
  }
  // What a list has beyond what its worker needs: what is given back there was often taken elsewhere.
  void balance(List& list) noexcept {
    constexpr int most_kept = 128;
    if (list.count() <= most_kept) [[likely]]
      return;
    const std::lock_guard<Lock> held(lock_);
    for (int k = 0; k < most_kept / 2; ++k) free_.give(list.take());
  }

 private:
  static constexpr int at_once = 64;

  // Under the lock.
  T* take() {
    if (T* one = free_.take()) return one;
    made_.reserve(made_.size() + 1);
    auto made = std::make_unique<T[]>(at_once);
    for (int k = 0; k < at_once; ++k) free_.give(&made[static_cast<std::size_t>(k)]);
    made_.push_back(std::move(made));
    return free_.take();
  }

  Lock lock_;
  List free_;
  std::vector<std::unique_ptr<T[]>> made_;
};

}  // namespace antcrew::internal
