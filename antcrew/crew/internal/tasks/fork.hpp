// The fork in two of a TaskCrew.
#pragma once

#include <exception>
#include <new>
#include <type_traits>
#include <utility>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/internal/tasks/critical_path.hpp"
#include "antcrew/crew/internal/tasks/fork_log.hpp"
#include "antcrew/crew/internal/tasks/task_worker.hpp"
#include "antcrew/crew/internal/void_result.hpp"

namespace antcrew::internal {

template <class T>
struct DestroyAtEnd {
  T& object;
  ~DestroyAtEnd() { destroy_one(object); }
};

// A fork's run by a worker that took it: what is forked in it descends from it.
void tell_growth() noexcept;

class StolenRun {
 public:
  StolenRun(JoinTask& task, TaskWorker& worker) noexcept
      : owner_(task.owner), worker_(worker), scope_(worker.open_scope(worker.scope())) {
    if (scope_ != nullptr) task.begins_as(scope_);
    if (current_lane != nullptr) [[unlikely]]
      tell_growth();
  }
  // The task may be gone afterwards.
  void end(JoinTask& task) noexcept {
    if (scope_ != nullptr) worker_.close_scope(scope_);
    task.end();
    TaskWorker::tell(owner_);
  }
  StolenRun(const StolenRun&) = delete;
  StolenRun& operator=(const StolenRun&) = delete;
  Scope* scope() const noexcept { return scope_ != nullptr ? scope_ : worker_.scope(); }

 private:
  TaskWorker* owner_;
  TaskWorker& worker_;
  Scope* scope_;  // null without memory: then nobody can help
};

// The second half of a fork, on the stack of the worker that waits for it. Only a thief writes the outcome, so that a
// fork nobody stole costs no more than what is pushed.
// Of a metered call it knows where it is on the critical path; others carry nothing of that.
struct NoPath {};
struct ForkPath {
  std::int64_t path_ns = 0;  // where it was begun; once it was taken and has ended, up to its end
  int level = 0;             // of forks inside forks
};

template <class G, bool metered = false>
class Fork final : public JoinTask, private std::conditional_t<metered, ForkPath, NoPath> {
 public:
  using Answer = std::decay_t<std::invoke_result_t<G&>>;

  Fork(G& g, TaskWorker& worker) requires(!metered) : JoinTask(&run_it, worker), g_(g) { worker.push_fork(this); }
  Fork(G& g, TaskWorker& worker, const ForkPath& at) requires metered : JoinTask(&run_it, worker), ForkPath(at), g_(g) {
    worker.push_fork(this);
  }
  Fork(const Fork&) = delete;
  Fork& operator=(const Fork&) = delete;
  ~Fork() {}  // the outcome is destroyed by whoever reads it

  Answer join() { return owner->take_back(this) ? g_() : taken(); }

  // The same, and goes on with the longer path: the first half's, or this one's.
  Answer join(std::int64_t begun_ns, std::int64_t first_ns) requires metered {
    if (owner->take_back(this)) {
      const LongerPath longer(first_ns, nullptr);
      current_path.go_on(begun_ns);
      return g_();
    }
    const LongerPath longer(first_ns, &this->path_ns);
    return taken();
  }

  // Leaves no task behind when the first half threw; its exception goes before this half's.
  [[gnu::noinline, gnu::cold]] void abandon() noexcept {
    static constinit const std::atomic<bool> in_vain{true};
    if (owner->take_back(this)) return;
    owner->wait_for(*this, &in_vain);
    if (threw_) {
      destroy_one(error_);
    } else {
      destroy_one(answer_);
    }
  }

 private:
  static void run_it(Task* task, TaskWorker& worker) noexcept {
    auto& self = *static_cast<Fork*>(task);
    StolenRun run(self, worker);
    const TaskWorker::In in(worker, run.scope());
    if constexpr (metered) {
      const OtherPath its(self.path_ns);
      const ForkLog::At level(worker.forks, self.level + 1);
      self.answer();
      self.path_ns = current_path.now();
    } else {
      self.answer();
    }
    run.end(self);
  }

  void answer() noexcept {
    try {
      ::new (static_cast<void*>(&answer_)) VoidResult<Answer>(result_of(g_));
      threw_ = false;
    } catch (...) {
      ::new (static_cast<void*>(&error_)) std::exception_ptr(std::current_exception());
      threw_ = true;
    }
  }

  [[gnu::noinline]] Answer taken() {
    owner->wait_for(*this);
    if (threw_) {
      const std::exception_ptr error = std::move(error_);
      destroy_one(error_);
      std::rethrow_exception(error);
    }
    const DestroyAtEnd<VoidResult<Answer>> end{answer_};
    if constexpr (!std::is_void_v<Answer>) return std::move(answer_);
  }

  G& g_;
  bool threw_;
  union {
    VoidResult<Answer> answer_;
    std::exception_ptr error_;
  };
};

template <class F, class G>
inline constexpr bool both_answer =
    !std::is_void_v<std::invoke_result_t<F&>> && !std::is_void_v<std::invoke_result_t<G&>>;

// f's answer; an exception of f's comes out when `second` is done with.
template <class F, class Second>
auto first_half(F& f, Second& second) -> std::decay_t<std::invoke_result_t<F&>> {
  try {
    return f();
  } catch (...) {
    second.abandon();
    throw;
  }
}

template <class F, class G>
auto one_after_the_other(F& f, G& g) {
  if constexpr (both_answer<F, G>) {
    auto a = f();
    return std::pair<decltype(a), std::decay_t<std::invoke_result_t<G&>>>{std::move(a), g()};
  } else {
    f();
    g();
  }
}

template <class F, class G>
auto usual_fork(TaskWorker& worker, F& f, G& g) {
  Fork<G> second(g, worker);
  if constexpr (both_answer<F, G>) {
    auto a = first_half(f, second);
    return std::pair<decltype(a), typename Fork<G>::Answer>{std::move(a), second.join()};
  } else {
    first_half(f, second);
    second.join();
  }
}

// By the only worker, or in a lane of an open log. Forks that take next to nothing are counted and no more: see
// ForkLog.
template <class F, class G>
[[gnu::noinline]] auto unusual_fork(TaskWorker& worker, F& f, G& g) {
  if (worker.alone) return one_after_the_other(f, g);
  worker.forks.count();
  if (!worker.forks.tells()) return usual_fork(worker, f, g);
  const std::int64_t begun_ns = current_path.now();
  const ForkLog::Told told(worker.forks);
  Fork<G, true> second(g, worker, ForkPath{begun_ns, worker.forks.level() - 1});
  if constexpr (both_answer<F, G>) {
    auto a = first_half(f, second);
    const std::int64_t first_ns = current_path.now();
    return std::pair<decltype(a), typename Fork<G, true>::Answer>{std::move(a), second.join(begun_ns, first_ns)};
  } else {
    first_half(f, second);
    second.join(begun_ns, current_path.now());
  }
}

template <class F, class G>
auto fork(TaskWorker& worker, F& f, G& g) {
  if (stack_nearly_full()) [[unlikely]]
    refuse_depth("TaskCrew", "both");
  if (!worker.usual) [[unlikely]]
    return unusual_fork(worker, f, g);
  return usual_fork(worker, f, g);
}

}  // namespace antcrew::internal
