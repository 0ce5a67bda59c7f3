// Pieces of work whose number is only found out on the way.
//
//   TaskGroup group(crew);
//   group.begin([&] { visit(child, group); });   // children may begin more in it, or have groups of their own
//   group.wait();                                // throws the first exception; group.errors() has all
//
//   TaskGroup few(crew, {.items = 1000});        // no more than so many wait to be begun
//   while (auto line = next_line()) few.begin([line = *line] { parse(line); });
//
// Every child runs, also after another one threw. With a stop token, children that have not begun when it is asked to
// stop are left out. Children that have not begun can be taken by any worker. begin() may be called from any thread at
// any time, wait() by one at a time, and not by a child of the group, which would wait for itself: Error (group.wait).
// The destructor waits; exceptions that nobody waited for come out at the end of the call from outside in whose body it
// is destroyed, elsewhere of TaskCrew::settle(). A group may not be destroyed while another thread is in one of its
// calls. In a process that was forked meanwhile it ends without waiting: nothing of it runs there.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <memory>
#include <utility>
#include <vector>

#include "antcrew/crew/internal/tasks/task.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/machine/lock.hpp"

namespace antcrew {

struct GroupOptions {
  // Of children that have not begun: who begins one more does some of them first, so that what they hold stays bounded.
  // 0 = any number. Some more may wait where children begin others more than 64 deep.
  std::size_t items = 0;
  AnyStopToken stop = {};
};

class TaskGroup {
 public:
  explicit TaskGroup(TaskCrew& crew, const AnyStopToken& stop = internal::no_stop);
  TaskGroup(TaskCrew& crew, const GroupOptions& options);
  ~TaskGroup();
  TaskGroup(const TaskGroup&) = delete;
  TaskGroup& operator=(const TaskGroup&) = delete;

  // Throws std::bad_alloc; then the child was not begun, and the group is as it was. In a group of limited items it may
  // run other children meanwhile, in the calling thread.
  template <class Fn>
  void begin(Fn fn) {
    if (most_unbegun_ != 0) make_room();
    hand_over(std::make_unique<Child<Fn>>(*this, std::move(fn)).release());
  }

  // Waits for all children, doing their work meanwhile. Throws the first exception of any since the last wait; Error
  // (group.wait) in a child of this group.
  void wait(CallPlace at = CallPlace::here());
  // Waits for so many seconds at the most, taking up no work at all; whether all children have ended. Throws nothing:
  // wait() does.
  bool wait_for(double limit_s);

  // All exceptions of the last wait, in the order in which they were thrown; the first of them, where memory did not do
  // for all. By the thread that waited.
  const std::vector<std::exception_ptr>& errors() const noexcept { return errors_; }

 private:
  struct AnyChild : internal::Task {
    AnyChild(void (*run_it)(Task*, internal::TaskWorker&) noexcept, void (*its_free)(AnyChild*) noexcept) noexcept
        : Task(run_it), free(its_free) {}
    void (*free)(AnyChild*) noexcept;
    std::int64_t path_ns = -1;  // where it was begun on the critical path of a metered call; below 0 = nobody asks
    // One that threw stays until the group is waited for, without its function: keeping what it threw needs no memory.
    std::exception_ptr error = {};
    AnyChild* next = nullptr;
  };
  template <class Fn>
  struct Child final : AnyChild {
    Child(TaskGroup& its_group, Fn its_fn) : AnyChild(&run_it, &free_it), group(its_group), fn(std::move(its_fn)) {}
    ~Child() {}
    static void run_it(Task* task, internal::TaskWorker&) noexcept {
      auto* self = static_cast<Child*>(task);
      TaskGroup& group = self->group;
      group.run_child([](void* child) { static_cast<Child*>(child)->fn(); }, self, *self);
      internal::destroy_one(self->fn);  // before the group hears of the end: it may be gone then
      group.keep_or_free(self);
      group.end_child();
    }
    static void free_it(AnyChild* child) noexcept { delete static_cast<Child*>(child); }
    TaskGroup& group;
    union {
      Fn fn;
    };
  };

  void hand_over(AnyChild* child) noexcept;
  void make_room();
  std::uint64_t unbegun() const noexcept { return open_.load(std::memory_order_seq_cst) >> 32; }
  void run_child(void (*call)(void*), void* child, AnyChild& facts) noexcept;
  void keep_or_free(AnyChild* child) noexcept;
  void end_child() noexcept;
  bool all_ended() const noexcept { return open_.load(std::memory_order_seq_cst) == 0; }
  static constexpr std::uint64_t one_open = 1;
  static constexpr std::uint64_t one_unbegun = std::uint64_t{1} << 32;
  void wait_for_all();

  internal::TaskPool& pool_;
  internal::Scope* scope_;
  AnyStopToken stop_;
  std::uint64_t most_unbegun_ = 0;        // 0 = any number
  std::atomic<std::uint64_t> open_{0};    // children that have not ended; in the upper half, those that have not begun
  std::atomic<std::int64_t> path_ns_{0};  // the longest of its children's, while a log is open
  internal::Lock lock_;                   // what children throw while the group is waited for
  AnyChild* first_thrown_ = nullptr;
  AnyChild* last_thrown_ = nullptr;
  std::vector<std::exception_ptr> errors_;
};

}  // namespace antcrew
