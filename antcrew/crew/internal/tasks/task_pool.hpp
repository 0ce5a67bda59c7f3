// The workers behind a TaskCrew: finding tasks, running them, sleeping when there are none, waiting for one of them.
#pragma once

#include <atomic>
#include <cstdint>
#include <deque>
#include <exception>
#include <memory>
#include <mutex>
#include <vector>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/ancestry.hpp"
#include "antcrew/crew/internal/meter.hpp"
#include "antcrew/crew/internal/standing_threads.hpp"
#include "antcrew/crew/internal/tasks/deque.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {

class TaskPool;
class TaskWorker;

// A piece of work. run() is called once; the task may be gone when it returns. It lets no exception out.
struct Task {
  explicit Task(void (*run_it)(Task*, TaskWorker&) noexcept) noexcept : run(run_it) {}
  void (*run)(Task*, TaskWorker&) noexcept;
};

// One that the worker which pushed it waits for, on whose stack it lies.
struct JoinTask : Task {
  JoinTask(void (*run_it)(Task*, TaskWorker&) noexcept, TaskWorker& its_owner) noexcept
      : Task(run_it), owner(&its_owner) {}
  TaskWorker* owner;
  std::atomic<bool> done{false};
};

class TaskWorker {
 public:
  TaskWorker(TaskPool& of_pool, int its_number, std::int64_t wanted)
      : pool(of_pool), number(its_number), deque_(wanted) {}

  // All is for the thread that is this worker.
  void push(Task* task) {
    if (deque_.push(task)) wake_somebody();
  }
  // True when the task is this worker's again; false when another has taken it, or it was run meanwhile. Tasks that lie
  // on top of it are run.
  bool take_back(const JoinTask* task) { return deque_.pop_if_private(task) || take_back_slowly(task); }
  // Works on other tasks until `task` is done.
  void wait_for(const JoinTask& task);
  // Works on other tasks until done(), a look at something that ends with a call of TaskPool::ended().
  template <class Done>
  void work_until(Done done);
  // After done was set by a task of this worker's.
  static void tell(TaskWorker* owner) noexcept;
  bool work_once();
  void reserve(std::int64_t tasks) { deque_.reserve(tasks); }
  void serve();

  // Address below which recursion is refused.
  bool stack_nearly_full() const noexcept {
    return reinterpret_cast<std::uintptr_t>(__builtin_frame_address(0)) < stack_floor;
  }

  TaskPool& pool;
  const int number;
  std::uintptr_t stack_floor = 0;
  TaskWorker* outer = nullptr;  // the worker of another crew in whose body this one's call is

 private:
  friend class TaskPool;
  bool take_back_slowly(const JoinTask* task);
  Task* own();
  Task* find();
  void run(Task* task);
  [[gnu::noinline, gnu::cold]] void wake_somebody() noexcept;
  bool anything_to_do() const noexcept;

  template <class Done>
  void rest_until(Done done) {
    if (looked_for(done)) return;
    begin_sleep(true);
    if (done() || anything_to_do()) return end_sleep();
    sleep();
  }
  void rested(std::int64_t since_ns) noexcept;
  // Looks for the end and for work, as long as the crew may.
  template <class Done>
  bool looked_for(Done done) {
    return may_look() && looked([&] { return done() || anything_to_do(); });
  }
  bool may_look() const noexcept;
  void begin_sleep(bool waiting) noexcept;
  void end_sleep() noexcept;
  void sleep() noexcept;

  Deque deque_;
  std::uint32_t random_ = 0;
  alignas(64) std::atomic<std::uint32_t> asleep_{0};
};

// The worker that the calling thread is at present; null outside all crews' calls.
inline constinit thread_local TaskWorker* task_worker_here = nullptr;

class TaskPool {
 public:
  TaskPool(int workers, const CrewOptions& options);
  ~TaskPool();
  TaskPool(const TaskPool&) = delete;
  TaskPool& operator=(const TaskPool&) = delete;

  // The calling thread as a worker of this pool; null when it is none.
  TaskWorker* here() noexcept;

  // Makes the calling thread worker 0 for the length of one call; `worker` is null when another thread is that already.
  class Call {
   public:
    explicit Call(TaskPool& pool);
    ~Call();
    Call(const Call&) = delete;
    Call& operator=(const Call&) = delete;
    TaskWorker* worker() const noexcept { return worker_; }
    // Ends the call: runs what is left of the worker's tasks, waits for pieces of work that nobody waits for, and
    // throws again what they threw.
    void finish();

   private:
    TaskPool& pool_;
    TaskWorker* worker_ = nullptr;
    bool finished_ = false;
    int outside_ = 0;  // the caller's number where it came from
    Meter* meter_ = nullptr;
    std::int64_t start_ns_ = 0;
    std::int64_t cpu_ns_ = 0;
  };

  // Takes a task from anywhere: from a worker onto its deque, from outside into a queue that all workers look at.
  void submit(Task* task);
  // Waits until done(), helping where the calling thread can. A call that this makes ends without throwing.
  template <class Done>
  void wait_for(Done done);
  // Something that others may wait for has come to its end.
  void ended() noexcept;

  // Pieces of work whose handle was given up before they had been waited for.
  void given_up(bool still_open) noexcept;
  void ended_unwaited() noexcept;
  void keep_error(std::exception_ptr error) noexcept;
  std::uint64_t take_unwaited() noexcept { return unwaited_.exchange(0, std::memory_order_relaxed); }
  // Whether anything is left for settling: cheap to ask after every call.
  bool nothing_unwaited() const noexcept {
    return unwaited_.load(std::memory_order_acquire) == 0 && !has_error_.load(std::memory_order_acquire);
  }

  int workers() const noexcept { return static_cast<int>(workers_.size()); }
  const CrewFacts& facts() const noexcept { return threads_.facts(); }
  MeterSwitch& meter() noexcept { return meter_; }

 private:
  friend class TaskWorker;
  Task* take_submitted() noexcept;
  void wake_one_of() noexcept;
  bool wake(TaskWorker& worker, std::uint32_t least = 1) noexcept;
  void stop_threads() noexcept;
  void sleep_outside(std::uint32_t seen) noexcept;
  void finish_call(TaskWorker& worker);

  std::vector<std::unique_ptr<TaskWorker>> workers_;
  bool may_look_;
  int made_at_ = fork_depth();
  MeterSwitch meter_;
  std::atomic<bool> called_{false};  // some thread is worker 0
  alignas(64) std::atomic<int> sleepers_{0};
  std::atomic<int> waiting_{0};  // of the sleepers, those that wait for something to end
  std::atomic<bool> waking_{false};
  std::atomic<bool> leaving_{false};
  alignas(64) std::atomic<std::int64_t> submitted_count_{0};
  std::mutex submitted_mutex_;
  std::deque<Task*> submitted_;
  alignas(64) std::atomic<std::uint32_t> outside_word_{0};
  std::atomic<int> outside_waiting_{0};
  alignas(64) std::atomic<std::int64_t> unwaited_open_{0};
  std::atomic<std::uint64_t> unwaited_{0};
  std::mutex error_mutex_;
  std::exception_ptr error_;
  std::atomic<bool> has_error_{false};
  StandingThreads threads_;
};

template <class Done>
void TaskWorker::work_until(Done done) {
  while (!done()) {
    if (work_once()) continue;
    const bool watched = pool.meter_.now() != nullptr;
    const std::int64_t start_ns = watched ? now_ns() : 0;
    rest_until(done);
    if (watched) rested(start_ns);
  }
}

template <class Done>
void TaskPool::wait_for(Done done) {
  if (TaskWorker* worker = here()) return worker->work_until(done);
  while (!done()) {
    Call call(*this);
    if (call.worker() != nullptr) {
      return call.worker()->work_until(done);
    }
    const std::uint32_t seen = outside_word_.load(std::memory_order_seq_cst);
    outside_waiting_.fetch_add(1, std::memory_order_seq_cst);
    if (!done() && called_.load(std::memory_order_seq_cst)) sleep_outside(seen);
    outside_waiting_.fetch_sub(1, std::memory_order_relaxed);
  }
}

}  // namespace antcrew::internal
