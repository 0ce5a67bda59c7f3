#include "antcrew/crew/internal/tasks/task_worker.hpp"

#include <new>
#include <utility>

#include "antcrew/crew/internal/tasks/halving.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::internal {

TaskWorker* current_worker_of(const TaskPool& pool) noexcept {
  return pool.current_worker();
}

void tell_growth() noexcept {
  TaskPool::grows();
}

// Taking up

Found TaskWorker::own() noexcept {
  Found last = deque_.last();
  if (!last) return {};
  bool exposed = false;
  last.task = deque_.pop(exposed);
  if (exposed) pool.published(last.scope);
  return last;
}

// By a worker in nobody's body.
Found TaskWorker::find() noexcept {
  if (const Found mine = own()) return mine;
  Found found = pool.aside_.take_oldest();
  if (!found) found = steal([](const Found&) { return true; });
  if (found) see_to_others();
  return found;
}

// Near the end of its stack a worker takes up nothing: it could not wait on top of what it has.
Found TaskWorker::find(const Wanted& wanted, bool deep) noexcept {
  const Found last = deque_.last();
  if (last && wanted.includes(last.task, last.scope)) {
    if (const Found mine = own()) return mine;
  }
  if (stack_nearly_full()) return {};
  Found found = pool.aside_.take(wanted, deep);
  if (!found) found = steal([&](const Found& at) { return wanted.includes(at.task, at.scope); });
  if (found) see_to_others();
  return found;
}

// What is wanted lies under other work, of workers that may be busy for ever: with something that waits for the body
// under this one. So what lies on top is put aside, for others.
Found TaskWorker::dig(const Wanted& wanted) noexcept {
  if (stack_nearly_full()) return {};
  for (Found last = own(); last; last = own()) {
    if (wanted.includes(last.task, last.scope)) return last;
    pool.put_aside(last.task, last.scope);
  }
  for (std::size_t k = 0; k < pool.worker_count(); ++k) {
    Deque& deque = pool.worker_at(k).deque_;
    while (deque.has_public()) {
      const Found found = deque.steal();
      if (found && wanted.includes(found.task, found.scope)) return found;
      if (found) pool.put_aside(found.task, found.scope);
    }
  }
  return {};
}

// Near workers first, where the machine has several neighbourhoods: what they have lies in a cache that both share.
template <class Allowed>
Found TaskWorker::steal(const Allowed& allowed) noexcept {
  const auto count = static_cast<std::uint32_t>(pool.worker_count());
  random_ = random_ * 1'664'525u + 1'013'904'223u;  // Knuth 1981, "Seminumerical algorithms": spreads the thieves
  const std::uint32_t start = (random_ >> 16) % count;
  const int here = neighbourhood_.load(std::memory_order_relaxed);
  for (int pass = pool.several_neighbourhoods_ ? 0 : 1; pass < 2; ++pass) {
    for (std::uint32_t step = 0; step < count; ++step) {
      TaskWorker& other = pool.worker_at((start + step) % count);
      if (&other == this) continue;
      if (pass == 0 && other.neighbourhood_.load(std::memory_order_relaxed) != here) continue;
      const Found found = other.deque_.steal(allowed);
      if (!found) continue;
      current_lane != nullptr ? current_lane->next_is_stolen() : void(stole_ = true);
      return found;
    }
  }
  return {};
}

bool TaskWorker::sees_anything() const noexcept {
  if (!pool.aside_.empty()) return true;
  for (std::size_t k = 0; k < pool.worker_count(); ++k) {
    if (pool.worker_at(k).deque_.has_public()) return true;
  }
  return false;
}

bool TaskWorker::sees(const Wanted& wanted) const noexcept {
  if (stack_nearly_full()) return false;
  for (std::size_t k = 0; k < pool.worker_count(); ++k) {
    const TaskWorker& worker = pool.worker_at(k);
    const Found found = &worker == this ? deque_.last() : worker.deque_.oldest();
    if (found && wanted.includes(found.task, found.scope)) return true;
  }
  return !pool.aside_.empty() && pool.aside_.has(wanted);
}

void TaskWorker::run(const Found& found) noexcept {
  at_border();
  const In in(*this, found.scope);
  found.task->run(found.task, *this);
}

bool TaskWorker::work_once() noexcept {
  const Found found = find();
  if (found) run(found);
  return static_cast<bool>(found);
}

void TaskWorker::wait_for(const JoinTask& task, const std::atomic<bool>* in_vain) noexcept {
  work_until({&task, {}, not_dropped, nullptr, in_vain}, [&] { return task.done(); });
}

void TaskWorker::tell(TaskWorker* owner) noexcept {
  // Sequentially consistent with the owner's going to sleep: it saw the end, or is seen asleep.
  const std::uint32_t how = owner->asleep_.load(std::memory_order_seq_cst);
  if (how == waits) owner->pool.wake(*owner, waits);
}

// Adding

void TaskWorker::pushed_slowly(Pushed pushed, Task* task, Scope* scope) noexcept {
  if (pushed == Pushed::full) return pool.put_aside(task, scope);
  pool.published(scope);
}

void TaskWorker::tell_of(const Scope* scope, int tasks) noexcept {
  pool.published(scope, tasks);
}

bool TaskWorker::take_back_slowly(const Task* task) noexcept {
  while (const Found last = own()) {
    if (last.task == task) return true;
    pool.put_aside(last.task, last.scope);
  }
  return false;
}

bool TaskWorker::take_out(const Task* task) noexcept {
  return deque_.last().task == task && own().task == task;
}

void TaskWorker::put_own_aside() noexcept {
  while (const Found last = own()) pool.put_aside(last.task, last.scope);
}

// Scopes

Scope* TaskWorker::take_scope() {
  Scope* scope = free_scopes_.take();
  return scope == nullptr ? pool.scopes_.more(free_scopes_) : scope;
}

Scope* TaskWorker::open_scope(const Scope* parent) noexcept {
  try {
    Scope* scope = take_scope();
    begin_life(*scope, parent, false);
    return scope;
  } catch (...) {
    return nullptr;
  }
}

void TaskWorker::close_scope(Scope* scope) noexcept {
  end_life(*scope);
  free_scopes_.give(scope);
  pool.scopes_.balance(free_scopes_);
}

LoopTask* TaskWorker::new_loop_task() noexcept {
  if (LoopTask* task = free_loop_tasks_.take()) [[likely]]
    return task;
  try {
    return pool.loop_tasks_.more(free_loop_tasks_);
  } catch (...) {
    return nullptr;
  }
}

void TaskWorker::free_loop_task(LoopTask* task) noexcept {
  free_loop_tasks_.give(task);
  pool.loop_tasks_.balance(free_loop_tasks_);
}

// Calls

void TaskWorker::begin_call() noexcept {
  begin_life(call_, nullptr, false);
  call_.call.store(this, std::memory_order_relaxed);
  call_.call_life.store(call_.life.load(std::memory_order_relaxed), std::memory_order_relaxed);
  scope_ = &call_;
}

void TaskWorker::end_call() noexcept {
  scope_ = nullptr;
  end_life(call_);
}

// Sleeping

void TaskWorker::serve() noexcept {
  const TaskFrame frame(this);
  const AsWorker as(number, this);
  const auto leaving = [&] { return pool.leaving_.load(std::memory_order_seq_cst); };
  while (true) {
    for (Found found = find(); found;) found = work_in_lane(found);
    if (leaving()) return;
    if (pool.may_look() && looked([&] { return leaving() || sees_anything(); })) continue;
    begin_sleep(false, {});
    if (leaving() || sees_anything()) {
      end_sleep();
    } else {
      sleep();
    }
  }
}

// Until there is no more, or the log that is open is another. Returns what has been taken and not run.
Found TaskWorker::work_in_lane(Found found) noexcept {
  LaneBook* book = pool.book();
  const InLane in(book, number,
                  {Doing::waiting, Shortage::none, book == nullptr ? 0 : book->region_now(), nullptr, nullptr});
  TaskLog log(in.lane());
  if (std::exchange(stole_, false) && in.lane() != nullptr) in.lane()->next_is_stolen();
  usual = !alone && current_lane == nullptr;
  do {
    log.begin();
    run(found);
    log.ended(std::exchange(told_pieces_, false));
  } while ((found = find()) && pool.book() == book);
  return found;
}

// After having found something, and when what the worker was woken for is not for it: others may be needed, too. Each
// wakes two, so that many are awake after a few wake-ups one after the other.
void TaskWorker::see_to_others() noexcept {
  if (pool.idle() > 0) {
    for (int k = 0; k < 2 && pool.idle() > 0 && sees_anything(); ++k) pool.wake_idle();
  } else if (pool.waiting() > 0) {
    for (std::size_t k = 0; k < pool.worker_count(); ++k) {
      if (const Found found = pool.worker_at(k).deque_.oldest()) pool.wake_waiting(found.scope);
    }
  }
}

void TaskWorker::begin_sleep(bool waiting, ScopeName wanted, DroppedFor dropped) noexcept {
  pool.processors_.look_again();
  placement_.lie_down();
  if (pool.several_neighbourhoods_) {
    neighbourhood_.store(neighbourhood_of(placement_.slept_on()), std::memory_order_relaxed);
  }
  // Release: whoever reads it without having seen this worker fall asleep, late from an earlier sleep, follows it.
  sleeps_for_.store(wanted.scope, std::memory_order_release);
  sleeps_for_life_.store(wanted.life, std::memory_order_relaxed);
  sleeps_for_dropped_.store(dropped, std::memory_order_relaxed);
  pool.asleep_.fetch_add(waiting ? TaskPool::one_waiting : TaskPool::one_idle, std::memory_order_seq_cst);
  asleep_.store(waiting ? waits : idle, std::memory_order_seq_cst);
}

void TaskWorker::end_sleep() noexcept {
  pool.wake_self(*this, idle);
  sleep();
}

// Until woken. Who was called lowers the count before it looks: whoever relied on this wake-up made its task public
// before it saw the count.
void TaskWorker::sleep() noexcept {
  std::uint32_t how = asleep_.load(std::memory_order_acquire);
  for (; how == idle || how == waits; how = asleep_.load(std::memory_order_acquire)) sleep_while(asleep_, how);
  placement_.get_up();
  if (how != called) return;
  asleep_.store(awake, std::memory_order_relaxed);
  pool.waking_.fetch_sub(1, std::memory_order_seq_cst);
}

}  // namespace antcrew::internal
