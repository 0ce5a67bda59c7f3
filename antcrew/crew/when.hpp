// Several pieces of begun work as one: when all of them have ended, or the first.
//
//   Later<std::vector<Chart>> charts = when_all(std::move(readings));                // in their order
//   Later<std::tuple<Chart, Tides>> both = when_all(crew.begin(read), crew.begin(reckon));
//   auto [index, laters] = when_any(std::move(readings)).get();                      // laters[index] is ready
//
// The handles are taken: the new one stands for all of it, also where it is dropped, and goes on with then(). The crew
// is that of the first handle; others may be of other crews. when_all() waits for all, also where some throw, and
// throws what the first of them in their order threw. when_any() throws nothing: laters[index].get() does; the others
// go on, and their handles are in `laters`, too. Of no handles at all nothing says which crew to run on: Error
// (crew.no_work); when_all(crew, laters) then gives an empty answer. A handle without work: Error (crew.no_work). Where
// something is thrown, the handles are as they were. Threads: any may call.
#pragma once

#include <cstddef>
#include <exception>
#include <optional>
#include <tuple>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "antcrew/crew/later.hpp"
#include "antcrew/crew/task_crew.hpp"

namespace antcrew {

// Which piece of work ended first, and the handles of all, in their order.
template <class T>
struct FirstReady {
  std::size_t index = 0;
  std::vector<Later<T>> laters;
};

namespace internal {

// What nothing is in a tuple.
template <class T>
using InTuple = std::conditional_t<std::is_void_v<T>, std::monostate, T>;

template <class T>
class BegunAll final : public BegunFor<std::conditional_t<std::is_void_v<T>, void, std::vector<VoidResult<T>>>> {
 public:
  using Answer = std::conditional_t<std::is_void_v<T>, void, std::vector<VoidResult<T>>>;
  BegunAll(TaskPool& pool, std::vector<Later<T>>& laters)
      : BegunFor<Answer>(pool, true), after_(*this, laters.size(), Earlier::Until::all) {
    this->earlier_ = &after_;
  }
  void await(std::vector<Later<T>>& laters) noexcept {
    for (std::size_t k = 0; k < laters.size(); ++k) after_.put(k, taken_from(laters[k]));
    after_.await();
  }

 private:
  void work() override {
    std::exception_ptr first;
    std::vector<VoidResult<T>> answers;
    answers.reserve(after_.size());
    for (std::size_t k = 0; k < after_.size(); ++k) {
      try {
        answers.push_back(outcome_of<T>(after_.take_out(k)));
      } catch (...) {
        if (!first) first = std::current_exception();
      }
    }
    if (first) std::rethrow_exception(std::move(first));
    if constexpr (std::is_void_v<T>) {
      this->result.emplace();
    } else {
      this->result.emplace(std::move(answers));
    }
  }
  Earlier after_;
};

template <class... Ts>
class BegunTuple final : public BegunFor<std::tuple<InTuple<Ts>...>> {
 public:
  explicit BegunTuple(TaskPool& pool)
      : BegunFor<std::tuple<InTuple<Ts>...>>(pool, true), after_(*this, sizeof...(Ts), Earlier::Until::all) {
    this->earlier_ = &after_;
  }
  void await(Later<Ts>&... laters) noexcept {
    std::size_t k = 0;
    (after_.put(k++, taken_from(laters)), ...);
    after_.await();
  }

 private:
  void work() override { take_all(std::index_sequence_for<Ts...>()); }
  template <std::size_t... ks>
  void take_all(std::index_sequence<ks...>) {
    std::exception_ptr first;
    std::tuple<std::optional<VoidResult<Ts>>...> outcomes{take<Ts>(ks, first)...};
    if (first) std::rethrow_exception(std::move(first));
    std::apply([&](auto&... each) { this->result.emplace(given<Ts>(each)...); }, outcomes);
  }
  template <class T>
  std::optional<VoidResult<T>> take(std::size_t k, std::exception_ptr& first) {
    try {
      return outcome_of<T>(after_.take_out(k));
    } catch (...) {
      if (!first) first = std::current_exception();
      return {};
    }
  }
  template <class T>
  static InTuple<T> given(std::optional<VoidResult<T>>& outcome) {
    if constexpr (std::is_void_v<T>) {
      return {};
    } else {
      return std::move(*outcome);
    }
  }
  Earlier after_;
};

template <class T>
class BegunAny final : public BegunFor<FirstReady<T>> {
 public:
  BegunAny(TaskPool& pool, std::vector<Later<T>>& laters)
      : BegunFor<FirstReady<T>>(pool, true), after_(*this, laters.size(), Earlier::Until::first) {
    this->earlier_ = &after_;
    room_.reserve(laters.size());
  }
  void await(std::vector<Later<T>>& laters) noexcept {
    for (std::size_t k = 0; k < laters.size(); ++k) after_.put(k, taken_from(laters[k]));
    after_.await();
  }

 private:
  void work() override {
    for (std::size_t k = 0; k < after_.size(); ++k) {
      room_.emplace_back(static_cast<BegunFor<T>*>(after_.take_out(k)));
    }
    this->result.emplace(FirstReady<T>{after_.first(), std::move(room_)});
  }
  void drop_result(Dropped& whom, DroppedFor name) noexcept override {
    for (Later<T>& later : this->result->laters) taken_from(later)->drop_for(whom, name);
  }
  std::vector<Later<T>> room_;
  Earlier after_;
};

[[noreturn]] void refuse_no_handles(const char* call);

template <class T>
TaskPool& pool_of_all(const std::vector<Later<T>>& laters, const char* call) {
  if (laters.empty()) refuse_no_handles(call);
  for (const Later<T>& later : laters) shown_by(later, call).refuse_if_crew_gone(call);
  return shown_by(laters.front(), call).pool();
}

template <class Made, class T>
Made* awaited(TaskPool& pool, std::vector<Later<T>>& laters) {
  auto* begun = new Made(pool, laters);
  begun->await(laters);
  laters.clear();
  return begun;
}

}  // namespace internal

// The answers of all, in their order; nothing where T is nothing.
template <class T>
auto when_all(std::vector<Later<T>>&& laters) {
  internal::TaskPool& pool = internal::pool_of_all(laters, "when_all()");
  return Later<typename internal::BegunAll<T>::Answer>(internal::awaited<internal::BegunAll<T>>(pool, laters));
}

// The same where there may be none.
template <class T>
auto when_all(TaskCrew& crew, std::vector<Later<T>>&& laters) {
  if (!laters.empty()) internal::pool_of_all(laters, "when_all()");
  return Later<typename internal::BegunAll<T>::Answer>(internal::awaited<internal::BegunAll<T>>(crew.pool(), laters));
}

// A tuple of the answers; std::monostate for nothing.
template <class First, class... Rest>
Later<std::tuple<internal::InTuple<First>, internal::InTuple<Rest>...>> when_all(Later<First>&& first,
                                                                                 Later<Rest>&&... rest) {
  internal::shown_by(first, "when_all()").refuse_if_crew_gone("when_all()");
  (internal::shown_by(rest, "when_all()").refuse_if_crew_gone("when_all()"), ...);
  auto* begun = new internal::BegunTuple<First, Rest...>(internal::shown_by(first, "when_all()").pool());
  begun->await(first, rest...);
  return Later<std::tuple<internal::InTuple<First>, internal::InTuple<Rest>...>>(begun);
}

// Which of them ended first, with the handles of all.
template <class T>
Later<FirstReady<T>> when_any(std::vector<Later<T>>&& laters) {
  internal::TaskPool& pool = internal::pool_of_all(laters, "when_any()");
  return Later<FirstReady<T>>(internal::awaited<internal::BegunAny<T>>(pool, laters));
}

}  // namespace antcrew
