// A piece of work begun now and waited for later: what TaskCrew::begin() returns.
//
//   Later<Chart> chart = crew.begin([&] { return read_chart(path); });
//   …                                    // other work
//   use(chart.get());                    // waits; throws what the work threw
//
//   Later<Depth> deepest = crew.begin(read).then([](Chart chart) { return deepest_of(chart); });
//
// get() may be called once, from any thread, also inside work of the same crew: work that nobody has begun by then is
// done by the caller itself. A handle may outlive its crew, whose destructor waits for the work. A handle that is
// dropped before get() loses nothing: in a body of a call from outside, that call waits for the work at its end and
// throws what it threw, unless it throws itself; anywhere else, in begun work too, TaskCrew::settle() does, and no
// other call knows of it. A study remarks on it. Several at once: when_all(), when_any() (crew/when.hpp).
//
// A handle made without work, moved from, or read already stands for none: valid() is false, and all else but
// assignment throws Error (crew.no_work).
#pragma once

#include <concepts>
#include <type_traits>
#include <utility>

#include "antcrew/crew/internal/tasks/begun.hpp"

namespace antcrew {

template <class T>
class Later;

namespace internal {

template <class T>
BegunFor<T>* taken_from(Later<T>& later) noexcept;
template <class T>
BegunFor<T>& shown_by(const Later<T>& later, const char* call);

// fn(T), or fn() where there is no T.
template <class T, class Fn>
constexpr bool goes_on_from() {
  if constexpr (std::is_void_v<T>) {
    constexpr bool nothing = std::invocable<Fn&>;
    static_assert(nothing, "then(): the work before it returns nothing, so the function must take nothing");
    return nothing;
  } else {
    constexpr bool answer = std::invocable<Fn&, T>;
    static_assert(answer, "then(): the function must take what the work before it returns");
    return answer;
  }
}

}  // namespace internal

template <class T>
class Later {
 public:
  Later() noexcept = default;
  explicit Later(internal::BegunFor<T>* begun) noexcept : begun_(begun) {}
  Later(Later&& other) noexcept : begun_(std::exchange(other.begun_, nullptr)) {}
  Later& operator=(Later&& other) noexcept {
    Later(std::move(other)).swap(*this);
    return *this;
  }
  ~Later() {
    if (begun_ != nullptr) begun_->drop();
  }
  void swap(Later& other) noexcept { std::swap(begun_, other.begun_); }

  bool valid() const noexcept { return begun_ != nullptr; }

  // Whether get() would return at once. Asking again and again makes it true in the end: where no other worker can, it
  // does this very work, and nothing else.
  bool ready() { return its("ready()").ready(); }

  // Waits for so many seconds at the most, taking up no work at all; whether it is ready. In a crew of one worker
  // nobody else may be there to do it.
  bool wait_for(double limit_s) { return its("wait_for()").wait_for(limit_s); }

  // Waits, doing this work or what descends from it meanwhile, and gives the answer or throws what the work threw.
  T get() {
    its("get()").wait();
    internal::BegunFor<T>* begun = std::exchange(begun_, nullptr);
    if constexpr (std::is_void_v<T>) {
      internal::outcome_of<T>(begun);
    } else {
      return internal::outcome_of<T>(begun);
    }
  }

  // Begins fn(answer) on the same crew as soon as this work has ended, and nobody waits for that; takes this handle's
  // place. Where the work throws, fn is not called, and the new handle throws it. Throws Error (crew.gone) when the
  // crew is gone, std::bad_alloc; then this handle is as it was.
  template <class Fn>
  auto then(Fn fn) {
    if constexpr (internal::goes_on_from<T, Fn>()) {
      its("then()").refuse_if_crew_gone("Later::then()");
      using U = typename decltype(answer_of(fn))::type;
      auto* next = new internal::BegunThen<U, T, Fn>(begun_->pool(), std::move(fn));
      next->await(std::exchange(begun_, nullptr));
      return Later<U>(next);
    }
  }

 private:
  friend internal::BegunFor<T>* internal::taken_from<T>(Later& later) noexcept;
  friend internal::BegunFor<T>& internal::shown_by<T>(const Later& later, const char* call);

  template <class Fn>
  static auto answer_of(Fn&) {
    if constexpr (std::is_void_v<T>) {
      return std::type_identity<std::decay_t<std::invoke_result_t<Fn&>>>{};
    } else {
      return std::type_identity<std::decay_t<std::invoke_result_t<Fn&, T>>>{};
    }
  }
  internal::BegunFor<T>& its(const char* call) const {
    if (begun_ == nullptr) [[unlikely]]
      internal::refuse_no_work(call);
    return *begun_;
  }

  internal::BegunFor<T>* begun_ = nullptr;
};

namespace internal {

// Its hold comes along.
template <class T>
BegunFor<T>* taken_from(Later<T>& later) noexcept {
  return std::exchange(later.begun_, nullptr);
}
template <class T>
BegunFor<T>& shown_by(const Later<T>& later, const char* call) {
  return later.its(call);
}

}  // namespace internal

}  // namespace antcrew
