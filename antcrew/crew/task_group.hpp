// Pieces of work whose number is only found out on the way.
//
//   TaskGroup group(crew);
//   group.run([&] { visit(child, group); });   // children may run more in the same group, or have groups of their own
//   group.wait();                              // throws the first exception; group.errors() has all
//
// Every child runs, also after another one threw. With a stop token, children that have not begun when it is asked to
// stop are left out. run() may be called from any thread, wait() by one at a time. The destructor waits; exceptions
// that nobody waited for come out at the end of the crew's call, or of TaskCrew::settle().
#pragma once

#include <atomic>
#include <cstdint>
#include <exception>
#include <mutex>
#include <stop_token>
#include <utility>
#include <vector>

#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/crew/task_crew.hpp"

namespace antcrew {

class TaskGroup {
 public:
  explicit TaskGroup(TaskCrew& crew, std::stop_token stop = {}) : pool_(crew.pool()), stop_(std::move(stop)) {}
  ~TaskGroup();
  TaskGroup(const TaskGroup&) = delete;
  TaskGroup& operator=(const TaskGroup&) = delete;

  template <class Fn>
  void run(Fn fn) {
    auto* child = new Child<Fn>(*this, std::move(fn));
    // Before the child can end. Relaxed: whoever hands the child on orders it.
    open_.fetch_add(1, std::memory_order_relaxed);
    pool_.submit(child);
  }

  // Waits for all children, doing their work meanwhile. Throws the first exception of any since the last wait.
  void wait();

  // All exceptions of the last wait, in the order in which they were thrown.
  const std::vector<std::exception_ptr>& errors() const noexcept { return errors_; }

 private:
  template <class Fn>
  struct Child final : internal::Task {
    Child(TaskGroup& its_group, Fn its_fn) : Task(&run_it), group(its_group), fn(std::move(its_fn)) {}
    static void run_it(Task* task, internal::TaskWorker& worker) noexcept {
      auto* self = static_cast<Child*>(task);
      TaskGroup& group = self->group;
      group.run_child(
          worker, [](void* child) { static_cast<Child*>(child)->fn(); }, self);
      delete self;  // before the group hears of the end: it may be gone then
      group.end_child();
    }
    TaskGroup& group;
    Fn fn;
  };

  void run_child(internal::TaskWorker& worker, void (*call)(void*), void* child) noexcept;
  void end_child() noexcept;
  bool all_ended() const noexcept { return open_.load(std::memory_order_seq_cst) == 0; }

  internal::TaskPool& pool_;
  std::stop_token stop_;
  std::atomic<std::int64_t> open_{0};
  std::mutex mutex_;
  std::vector<std::exception_ptr> thrown_;
  std::vector<std::exception_ptr> errors_;
};

}  // namespace antcrew
