// One value a worker, each on cache lines of its own, put together at the end: counting without waiting.
//
//   Tally<std::size_t> found;
//   crew.each(n, [&](std::size_t i) { if (is_deep(i)) ++found.mine(); });
//   std::size_t all = found.merged(std::size_t{0}, std::plus<>());
//
// A reference that mine() gave stays the calling worker's own also across work that it waits for: a worker that waits
// is in no other body meanwhile but those that it waits for. Works for the workers of any crew and for any other
// thread. mine() is the calling thread's own value; merged() and walk() are for when no worker is at it any more. A
// value is handed on to a later thread when its thread has ended, so their number is at most the number of threads
// alive at once; values of more than a few cache lines are made when their thread first asks. Which worker did what
// varies from run to run: where the order of combining matters, as in floating-point sums, use the crew's fold.
#pragma once

#include <concepts>
#include <utility>

#include "antcrew/machine/per_thread.hpp"

namespace antcrew {

template <class T>
class Tally {
 public:
  // Every worker's value begins as T().
  Tally() requires std::default_initializable<T>
  = default;
  // Every worker's value begins as a copy of `initial`, which merging must leave as it is (0 for sums).
  explicit Tally(T initial) requires std::copy_constructible<T> : values_(std::move(initial)) {}

  T& mine() { return values_.mine(); }

  // combine(… combine(combine(start, a), b) …) over all workers' values.
  template <class Start, class Combine>
  Start merged(Start start, Combine&& combine) const {
    values_.visit([&](const T& value) { start = combine(std::move(start), value); });
    return start;
  }

  // fn(T&) for every worker's value, perhaps for untouched ones, too.
  template <class Fn>
  void walk(Fn&& fn) {
    values_.visit(fn);
  }

 private:
  internal::PerThread<T> values_;
};

}  // namespace antcrew
