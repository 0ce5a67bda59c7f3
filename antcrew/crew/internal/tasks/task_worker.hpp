// A worker of a TaskCrew: a standing thread, or the thread of a caller for the length of its call.
//
// What it may take up. Where it is in nobody's body it takes up anything: its own tasks first, then the pool's queue,
// then the oldest task of another worker. Where it waits inside a body it takes up only what descends from what it
// waits for (scope.hpp): whatever else might wait in turn for something that the body under it holds.
//
// Sleeping. Who makes a task public counts sleepers afterwards; who goes to sleep is counted first, then marked, then
// looks once more: one of the two sees the other, all of it being sequentially consistent. A worker that waits and
// sleeps is counted apart, and woken for what it may take up.
#pragma once

#include <atomic>
#include <cstdint>
#include <utility>

#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/crew/internal/tasks/deque.hpp"
#include "antcrew/crew/internal/tasks/dropped.hpp"
#include "antcrew/crew/internal/tasks/fork_log.hpp"
#include "antcrew/crew/internal/tasks/free_list.hpp"
#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/parking.hpp"
#include "antcrew/machine/wake_placement.hpp"

namespace antcrew::internal {

class TaskPool;
class TaskWorker;

// In a worker's lane: bodies while it runs tasks, one after the other, and what lies below while it looks for some.
class TaskLog {
 public:
  explicit TaskLog(Lane* lane) noexcept : lane_(lane) {}
  ~TaskLog() { rest(); }
  TaskLog(const TaskLog&) = delete;
  TaskLog& operator=(const TaskLog&) = delete;

  void begin() noexcept {
    if (lane_ != nullptr) [[unlikely]]
      begin_body();
  }
  // `told`: it has written down its pieces itself.
  void ended(bool told) noexcept {
    if (!pieces_.begun()) [[likely]]
      return;
    told ? pieces_.begin_again() : pieces_.ended(0, 1);
  }
  void rest() noexcept {
    if (!pieces_.begun()) [[likely]]
      return;
    pieces_.end();
    lane_->pop();
  }

 private:
  void begin_body() noexcept {
    if (pieces_.begun()) return;
    lane_->push({Doing::body, Shortage::none, lane_->at().region, nullptr, nullptr});
    pieces_.begin(lane_);
  }

  Lane* lane_;
  PieceLog pieces_{nullptr};
};

// How a worker that waits appears in its lane, when there is one.
struct PlainWait {
  static Frame frame(const Lane* lane) noexcept {
    return {Doing::waiting, Shortage::none, lane == nullptr ? 0 : lane->at().region, nullptr, nullptr};
  }
  // Before and after it was without work, with its frame on top.
  static void rests(Lane*) noexcept {}
  static void rested(Lane*) noexcept {}
};

// The workers that the calling thread is, innermost first: it may be in calls of several crews, one inside the other.
struct TaskFrame {
  explicit TaskFrame(TaskWorker* its_worker) noexcept;
  ~TaskFrame();
  TaskFrame(const TaskFrame&) = delete;
  TaskFrame& operator=(const TaskFrame&) = delete;

  TaskWorker* const worker;
  const TaskFrame* const outer;
};
inline constinit thread_local const TaskFrame* current_task_frames = nullptr;
inline TaskFrame::TaskFrame(TaskWorker* its_worker) noexcept : worker(its_worker), outer(current_task_frames) {
  current_task_frames = this;
}
inline TaskFrame::~TaskFrame() {
  current_task_frames = outer;
}

class TaskWorker {
 public:
  TaskWorker(TaskPool& of_pool, int its_number, std::int64_t wanted, DroppedFor dropped_name = not_dropped)
      : pool(of_pool),
        number(its_number),
        alone(wanted == 0),
        usual(wanted != 0),
        dropped_name_(dropped_name),
        deque_(wanted) {}

  // All is for the thread that is this worker.

  // Adds the second half of a fork of the body under way.
  void push_fork(Task* task) noexcept {
    const Pushed pushed = deque_.push(task, scope_);
    if (pushed != Pushed::kept) [[unlikely]]
      pushed_slowly(pushed, task, scope_);
  }
  // Adds a task that any worker can take at once.
  void push(Task* task, Scope* scope) noexcept {
    const Pushed pushed = deque_.push_public(task, scope);
    pushed_slowly(pushed, task, scope);
  }
  // Of a crew of one, where nobody takes any.
  void push_alone(Task* task, Scope* scope) noexcept {
    if (deque_.push(task, scope) == Pushed::full) pushed_slowly(Pushed::full, task, scope);
  }
  // The same without waking anybody; false when it was not added.
  bool push_quietly(Task* task, Scope* scope) noexcept { return deque_.push_public(task, scope) != Pushed::full; }
  void tell_of(const Scope* scope, int tasks) noexcept;

  // True when the task is this worker's again; false when another has taken it. Tasks that lie on top of it are put
  // aside, for others.
  bool take_back(const Task* task) noexcept { return deque_.pop_if_private(task) || take_back_slowly(task); }
  // Takes the task out if it is the last one that was added.
  bool take_out(const Task* task) noexcept;

  // Works on what is wanted until done(), a look at something that ends with a tell() or TaskPool::ended(). wait: what
  // the worker's lane is told of the time in between.
  template <class Done, class Wait = PlainWait>
  void work_until(const Wanted& wanted, Done done, Wait wait = {});
  void wait_for(const JoinTask& task, const std::atomic<bool>* in_vain = nullptr) noexcept;
  // After what the worker waits for has come to its end.
  static void tell(TaskWorker* owner) noexcept;

  // A standing worker's life.
  void serve() noexcept;
  // Anything there is, by a worker in nobody's body. False when there was nothing.
  bool work_once() noexcept;
  void put_own_aside() noexcept;
  void reserve(std::int64_t tasks) noexcept { deque_.reserve(tasks); }

  // As a caller: between begin_call() and end_call() what it and those who help it open belongs to its call.
  void begin_call() noexcept;
  void end_call() noexcept;
  bool is_call(std::uint32_t life) const noexcept { return call_.life.load(std::memory_order_relaxed) == life; }
  // Dropped in its call, not ended yet; and what it threw.
  Dropped& dropped() noexcept { return dropped_; }
  DroppedFor dropped_name() const noexcept { return dropped_name_; }

  // Scopes of what this worker runs.
  Scope* scope() const noexcept { return scope_; }
  Scope* open_scope(const Scope* parent) noexcept;  // null without memory
  void close_scope(Scope* scope) noexcept;
  Scope* change_scope(Scope* scope) noexcept { return std::exchange(scope_, scope); }
  // The scope of the body under way, for the length of another one.
  class In {
   public:
    In(TaskWorker& worker, Scope* scope) noexcept : worker_(worker), before_(worker.scope_) { worker.scope_ = scope; }
    ~In() { worker_.scope_ = before_; }
    In(const In&) = delete;
    In& operator=(const In&) = delete;

   private:
    TaskWorker& worker_;
    Scope* before_;
  };

  // Whether somebody has nothing to do, and nothing lies here for him.
  inline bool others_starve() const noexcept;
  LoopTask* new_loop_task() noexcept;  // null without memory
  void free_loop_task(LoopTask* task) noexcept;

  // Pieces of a loop, in this worker's lane.
  void tell_pieces(std::size_t first, std::size_t items, std::size_t pieces) noexcept {
    Lane* lane = current_lane;
    if (lane == nullptr) [[likely]]
      return;
    lane->pieces_ended(now_ns(), first, items, static_cast<std::uint32_t>(pieces));
    told_pieces_ = true;
  }

  TaskPool& pool;
  const int number;
  const bool alone;  // nobody takes anything from it
  bool usual;        // others may take, and no log is open in which this worker has a lane
  ForkLog forks;     // of metered calls

 private:
  friend class TaskPool;

  Scope* take_scope();
  void run(const Found& found) noexcept;
  Found own() noexcept;
  Found find() noexcept;
  Found find(const Wanted& wanted, bool deep) noexcept;
  Found dig(const Wanted& wanted) noexcept;
  template <class Allowed>
  Found steal(const Allowed& allowed) noexcept;
  bool sees_anything() const noexcept;
  bool sees(const Wanted& wanted) const noexcept;
  bool take_back_slowly(const Task* task) noexcept;
  [[gnu::noinline, gnu::cold]] void pushed_slowly(Pushed pushed, Task* task, Scope* scope) noexcept;
  void see_to_others() noexcept;

  template <class Done>
  Found rest_until(const Wanted& wanted, Done done) noexcept;
  Found work_in_lane(Found found) noexcept;
  void begin_sleep(bool waiting, ScopeName wanted, DroppedFor dropped = not_dropped) noexcept;
  void end_sleep() noexcept;
  void sleep() noexcept;

  // Values of asleep_. called: woken as one who is idle, and not looking yet.
  enum : std::uint32_t { awake, idle, waits, called };

  Scope* scope_ = nullptr;
  Scope call_;  // of a caller; begun anew at each call
  Dropped dropped_;
  DroppedFor dropped_name_;
  Deque deque_;
  FreeList<Scope, &Scope::next> free_scopes_;
  FreeList<LoopTask, &LoopTask::below> free_loop_tasks_;
  std::uint32_t random_ = 0;
  bool told_pieces_ = false;
  bool stole_ = false;  // what it has just found, while it was in no lane
  std::atomic<int> neighbourhood_{0};
  alignas(line_bytes) std::atomic<std::uint32_t> asleep_{awake};
  std::atomic<const Scope*> sleeps_for_{nullptr};
  std::atomic<std::uint32_t> sleeps_for_life_{0};
  std::atomic<DroppedFor> sleeps_for_dropped_{not_dropped};
  WakePlacement placement_;
};

}  // namespace antcrew::internal
