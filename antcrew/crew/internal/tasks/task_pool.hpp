// What the workers of a TaskCrew share: a queue for tasks from outside and for those put aside, who sleeps, who calls.
//
// Several threads may call at once. Each is a worker for the length of its call, with a deque of its own; all of them
// have number 0, which is unique within a call, since a caller takes up only what its own call is about.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/ancestry.hpp"
#include "antcrew/crew/internal/standing_threads.hpp"
#include "antcrew/crew/internal/tasks/aside_queue.hpp"
#include "antcrew/crew/internal/tasks/begun.hpp"
#include "antcrew/crew/internal/tasks/outside_call.hpp"
#include "antcrew/crew/internal/tasks/supply.hpp"
#include "antcrew/crew/internal/tasks/task_worker.hpp"
#include "antcrew/machine/enough_processors.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew::internal {

class TaskPool {
 public:
  static constexpr std::size_t most_callers = OutsideCall::most_callers;

  TaskPool(int workers, const CrewOptions& options);
  ~TaskPool();
  TaskPool(const TaskPool&) = delete;
  TaskPool& operator=(const TaskPool&) = delete;

  // The calling thread as a worker of this pool; null when it is none.
  TaskWorker* current_worker() const noexcept;
  // The caller in whose call the calling thread is in a body; null outside of any call, and in begun work.
  TaskWorker* current_caller() const noexcept;

  using Call = OutsideCall;

  // Whether the calling thread is in what this names, or in what descends from it.
  bool inside(ScopeName name) const noexcept;
  // Made before this process was forked: its threads are not here.
  bool inherited() const noexcept { return made_at_ != fork_depth(); }

  // Puts a task where any worker finds it: from a worker onto its deque, from outside into the queue.
  void submit(Task* task, Scope* scope) noexcept;
  // Into the queue, wherever the caller is.
  void put_aside(Task* task, Scope* scope) noexcept;
  // Takes this task out of the queue, mostly; whether it did. Who runs a task himself leaves nothing behind for workers
  // that are busy.
  bool take_out(Task* task) noexcept { return aside_.take_out(task); }
  // Waits until done(), helping with what is wanted where the calling thread can. Throws nothing that work threw.
  template <class Done>
  void wait_for(const Wanted& wanted, Done done);
  // The same without taking up any work; false when `limit_s` seconds have passed before.
  template <class Done>
  bool wait_at_most(double limit_s, Done done);
  // What has this name, and may be waited for, has come to its end.
  void ended(ScopeName name) noexcept;
  // One of those that sleep until something of this name ends, if any: what it waits for may have come.
  void wake_for(ScopeName name) noexcept;
  // Whoever sleeps for such work may take this up now.
  void may_be_taken(const Scope* scope) noexcept {
    if (waiting() > 0) wake_waiting(scope);
  }
  // Whether all workers but the calling one wait for something that is not done yet.
  bool nobody_else_can() const noexcept;

  // A scope that any thread may open and close. Throws std::bad_alloc.
  Scope* open_scope(const Scope* parent, bool begun = false);
  void close_scope(Scope* scope) noexcept;

  const UnwaitedHandle& unwaited() const noexcept { return unwaited_; }
  // Waits for what was dropped outside of any call, and throws what it threw. Not by a worker.
  void settle();

  // Continuations that may not begin yet: the crew does not end before they were handed over.
  void one_pending() noexcept { pending_.fetch_add(1, std::memory_order_relaxed); }
  void one_pending_less() noexcept { pending_.fetch_sub(1, std::memory_order_release); }
  // How many were handed over: whoever looks for some that nobody is at looks again after that.
  std::uint32_t continued() const noexcept { return continued_.load(std::memory_order_seq_cst); }
  void tell_continued() noexcept {
    continued_.fetch_add(1, std::memory_order_seq_cst);
    tell_outside();
  }

  int workers() const noexcept { return workers_; }
  const CrewFacts& facts() const noexcept { return threads_.facts(); }
  // The calling thread gives this crew work: whether its workers are those of the lanes is settled by that.
  void note_caller() noexcept {
    LaneBook* book = open_lanes.load(std::memory_order_relaxed);
    if (book != nullptr && current_worker() == nullptr) [[unlikely]]
      logged_.store(current_lane == &book->lane(0) && current_lane->depth() == 1 ? book : nullptr,
                    std::memory_order_relaxed);
  }
  // The book that standing workers write to; null mostly.
  LaneBook* book() const noexcept {
    LaneBook* book = open_lanes.load(std::memory_order_relaxed);
    return book == nullptr || logged_.load(std::memory_order_relaxed) != book ? nullptr : book;
  }

  // In the region that the calling thread works for, work is found on the way.
  static void grows() noexcept;

  // Makes sure that somebody is awake who can take the task that was just made public, or `count` such tasks.
  void published(const Scope* scope) noexcept;
  void published(const Scope* scope, int count) noexcept;

 private:
  friend class TaskWorker;
  friend class OutsideCall;

  void tell_of_call(const TaskWorker& worker) const noexcept;
  void tell_outside() noexcept;
  void wake_idle() noexcept;
  void wake_waiting(const Scope* scope) noexcept;
  bool wake(TaskWorker& worker, std::uint32_t least) noexcept;
  bool wake_self(TaskWorker& worker, std::uint32_t least) noexcept;
  bool all_wait() const noexcept;
  bool unearth() noexcept;
  bool may_look() const noexcept { return processors_.known(); }
  void wait_for_dropped(TaskWorker& worker, Dropped& dropped, DroppedFor whom) noexcept;

  TaskWorker* claim_caller(std::size_t& place);
  std::size_t worker_count() const noexcept;
  TaskWorker& worker_at(std::size_t k) const noexcept;
  void finish_call(TaskWorker& worker) noexcept;
  void stop_threads() noexcept;

  int workers_;
  EnoughProcessors processors_;
  bool several_neighbourhoods_;
  int most_waking_;
  int made_at_ = fork_depth();
  std::atomic<LaneBook*> logged_{nullptr};
  std::vector<std::unique_ptr<TaskWorker>> standing_;              // numbers 1 and up
  std::array<std::unique_ptr<TaskWorker>, most_callers> callers_;  // those made so far, without gaps
  std::atomic<std::size_t> callers_made_{0};
  std::array<std::atomic<bool>, most_callers> calling_{};
  alignas(line_bytes) std::atomic<int> callers_now_{0};
  // How many are asleep: with nothing to do, and, in the upper half, until something ends. One word, so that a loop
  // sees at a glance whether anybody is.
  alignas(line_bytes) std::atomic<std::uint64_t> asleep_{0};
  static constexpr std::uint64_t one_idle = 1;
  static constexpr std::uint64_t one_waiting = std::uint64_t{1} << 32;
  std::uint64_t idle() const noexcept { return asleep_.load(std::memory_order_seq_cst) & (one_waiting - 1); }
  std::uint64_t waiting() const noexcept { return asleep_.load(std::memory_order_seq_cst) >> 32; }
  std::atomic<int> waking_{0};  // woken from idleness, and not looking yet
  std::atomic<bool> leaving_{false};
  alignas(line_bytes) AsideQueue aside_;
  alignas(line_bytes) std::atomic<std::uint32_t> outside_word_{0};
  std::atomic<int> outside_waiting_{0};
  std::atomic<std::int64_t> pending_{0};
  std::atomic<std::uint32_t> continued_{0};
  const UnwaitedHandle unwaited_;
  std::atomic<bool> settling_{false};  // somebody helps with it: who does is worker 0 of its loops
  Supply<Scope, &Scope::next> scopes_;
  Supply<LoopTask, &LoopTask::below> loop_tasks_;
  Lock callers_lock_;
  StandingThreads threads_;
};

bool TaskWorker::others_starve() const noexcept {
  return pool.asleep_.load(std::memory_order_relaxed) != 0 && !deque_.has_public();
}

template <class Done, class Wait>
void TaskWorker::work_until(const Wanted& wanted, Done done, Wait wait) {
  if (done()) return;
  Lane* lane = current_lane;
  const InFrame waiting(wait.frame(lane), lane);
  TaskLog log(lane);
  do {
    Found found = find(wanted, false);
    if (!found) {
      log.rest();
      wait.rests(lane);
      found = rest_until(wanted, done);
      wait.rested(lane);
    }
    if (!found) continue;
    log.begin();
    run(found);
    log.ended(std::exchange(told_pieces_, false));
  } while (!done());
}

template <class Done>
Found TaskWorker::rest_until(const Wanted& wanted, Done done) noexcept {
  if (pool.may_look() && looked([&] { return done() || sees(wanted); })) return {};
  const ScopeName name = wanted.name();
  // Somebody has taken the fork just now and not begun it, or it lies deep in the queue.
  if (!name && wanted.dropped == not_dropped) {
    const Found found = find(wanted, true);
    if (!found) give_way();
    return found;
  }
  begin_sleep(true, name, wanted.dropped);
  if (done()) {
    end_sleep();
    return {};
  }
  Found found = find(wanted, true);
  if (!found && wanted.unbegun != nullptr && wanted.unbegun->load(std::memory_order_seq_cst) >> 32 != 0) {
    found = dig(wanted);
  }
  if (found) {
    end_sleep();
    return found;
  }
  if (pool.all_wait() && pool.unearth()) {
    end_sleep();
    return {};
  }
  sleep();
  // What it was woken for may be for somebody else now.
  if (done()) see_to_others();
  return {};
}

template <class Done>
void TaskPool::wait_for(const Wanted& wanted, Done done) {
  if (done()) return;
  note_caller();
  if (TaskWorker* worker = current_worker()) {
    if (current_task_worker == worker) return worker->work_until(wanted, done);
    const AgainWorker again(*worker);
    return worker->work_until(wanted, done);
  }
  constexpr double look_again_s = 0.01;
  do {
    Call call(*this, Sharing::group);
    if (call.worker() != nullptr) return call.worker()->work_until(wanted, done);
  } while (!wait_at_most(look_again_s, done));
}

template <class Done>
bool TaskPool::wait_at_most(double limit_s, Done done) {
  const std::int64_t end_ns = now_ns() + static_cast<std::int64_t>(std::min(limit_s, 1e9) * 1e9);
  while (!done()) {
    const std::int64_t left_ns = end_ns - now_ns();
    if (left_ns <= 0) return done();
    const std::uint32_t seen = outside_word_.load(std::memory_order_seq_cst);
    outside_waiting_.fetch_add(1, std::memory_order_seq_cst);
    if (!done()) sleep_while(outside_word_, seen, left_ns);
    outside_waiting_.fetch_sub(1, std::memory_order_relaxed);
  }
  return true;
}

}  // namespace antcrew::internal
